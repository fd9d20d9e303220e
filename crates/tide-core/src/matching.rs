//! Which account belongs to which identity.
//!
//! Both sides of a match rule yield keys; records that share one match. Keys are indexed, so the
//! cost grows with the number of records. A match links automatically only if nothing contradicts
//! it.

use crate::expr::{EvalInputs, Program};
use crate::model::{Account, MatchAnswer, MatchDecision};
use crate::reasons::MatchDoubt;
use crate::rules::MatchRule;
use crate::rules::compare::Compare;
use crate::value::{Attributes, Value};
use rustc_hash::FxHashMap;
use std::cell::OnceCell;
use std::collections::{BTreeSet, HashMap};
use std::rc::Rc;

/// The answers for one system, to be looked up.
#[derive(Debug, Default)]
pub(crate) struct MatchAnswers<'a> {
    pairs: HashMap<(i64, &'a str), &'a MatchAnswer>,
    joins_of: HashMap<&'a str, Vec<(i64, &'a MatchAnswer)>>,
    joins_by: HashMap<i64, Vec<(&'a str, &'a MatchAnswer)>>,
    identities: HashMap<&'a str, &'a MatchAnswer>,
    accounts: HashMap<i64, &'a MatchAnswer>,
}

impl<'a> MatchAnswers<'a> {
    pub fn of(all: &'a [MatchAnswer], system: &str) -> Self {
        let mut answers = MatchAnswers::default();
        for answer in all.iter().filter(|answer| answer.system == system) {
            match (answer.account, answer.identity.as_deref()) {
                (Some(account), Some(identity)) => {
                    answers.pairs.insert((account, identity), answer);
                    if answer.decision == MatchDecision::Join {
                        answers
                            .joins_of
                            .entry(identity)
                            .or_default()
                            .push((account, answer));
                        answers
                            .joins_by
                            .entry(account)
                            .or_default()
                            .push((identity, answer));
                    }
                }
                (None, Some(identity)) => {
                    answers.identities.insert(identity, answer);
                }
                (Some(account), None) => {
                    answers.accounts.insert(account, answer);
                }
                (None, None) => {}
            }
        }
        answers
            .joins_of
            .values_mut()
            .for_each(|joins| joins.sort_by_key(|(account, _)| *account));
        answers
            .joins_by
            .values_mut()
            .for_each(|joins| joins.sort_by_key(|(identity, _)| *identity));
        answers
    }

    /// The answer about an identity in this system.
    pub fn of_identity(&self, identity: &str) -> Option<&'a MatchAnswer> {
        self.identities.get(identity).copied()
    }

    /// The answer about an account.
    pub fn of_account(&self, account: i64) -> Option<&'a MatchAnswer> {
        self.accounts.get(&account).copied()
    }

    /// The answer about an account and an identity.
    pub fn of_pair(&self, account: i64, identity: &str) -> Option<&'a MatchAnswer> {
        self.pairs.get(&(account, identity)).copied()
    }

    /// Whether a rule may match these two.
    pub fn allows(&self, account: i64, identity: &str) -> bool {
        self.of_pair(account, identity)
            .is_none_or(|answer| answer.decision != MatchDecision::Never)
            && self
                .of_account(account)
                .is_none_or(|answer| answer.decision != MatchDecision::Skip)
    }

    /// The accounts that operators linked to this identity.
    pub fn joined_to(&self, identity: &str) -> &[(i64, &'a MatchAnswer)] {
        self.joins_of.get(identity).map_or(&[], Vec::as_slice)
    }

    /// The identities that operators linked to this account.
    pub fn joined_by(&self, account: i64) -> &[(&'a str, &'a MatchAnswer)] {
        self.joins_by.get(&account).map_or(&[], Vec::as_slice)
    }
}

/// The most keys of one side of a rule.
const KEYS: usize = 16;

/// The keys of a record on one side of a rule. With several expressions each must have a value: a
/// name without a date of birth matches nothing by name and date.
fn match_keys(rule: &MatchRule, side: &[Program], values: &EvalInputs<'_>) -> BTreeSet<String> {
    let mut all = BTreeSet::from([String::new()]);
    for program in side {
        let found = program.run(values).unwrap_or_default();
        let own: BTreeSet<String> = found
            .iter()
            .filter_map(|value: &Value| rule.compare.key(&value.to_string()))
            .collect();
        all = all
            .iter()
            .flat_map(|start| own.iter().map(move |part| format!("{start}\u{1f}{part}")))
            .take(KEYS)
            .collect();
    }
    if side.is_empty() {
        BTreeSet::new()
    } else {
        all
    }
}

pub(crate) fn account_keys(rule: &MatchRule, account: &Account) -> BTreeSet<String> {
    match_keys(
        rule,
        &rule.account,
        &EvalInputs {
            account: Some(&account.attributes),
            identity: None,
        },
    )
}

pub(crate) fn identity_keys(rule: &MatchRule, identity: &Attributes) -> BTreeSet<String> {
    match_keys(
        rule,
        &rule.identity,
        &EvalInputs {
            account: None,
            identity: Some(identity),
        },
    )
}

/// Why a match is doubtful although its key fits: a required supporting value differs, or not
/// more of them agree than differ. A value that is missing on one side is ignored.
fn find_disagreement(
    rule: &MatchRule,
    account: &Account,
    identity: &Attributes,
) -> Option<MatchDoubt> {
    let (mut agreed, mut differ) = (0, 0);
    for value in &rule.supporting {
        let keys = |program: &Program, values: EvalInputs<'_>| -> BTreeSet<String> {
            program
                .run(&values)
                .unwrap_or_default()
                .iter()
                .filter_map(|value| Compare::Name.key(&value.to_string()))
                .collect()
        };
        let there = keys(
            &value.account,
            EvalInputs {
                account: Some(&account.attributes),
                identity: None,
            },
        );
        let here = keys(
            &value.identity,
            EvalInputs {
                account: None,
                identity: Some(identity),
            },
        );
        if there.is_empty() || here.is_empty() {
            continue;
        }
        if !there.is_disjoint(&here) {
            agreed += 1;
            continue;
        }
        if value.required {
            return Some(MatchDoubt::RequiredValueDiffers {
                expression: value.account.source().to_owned(),
                there: shown(&there),
                here: shown(&here),
            });
        }
        differ += 1;
    }
    let wanted = rule.min_agreeing.min(agreed + differ);
    if agreed < wanted || (differ > 0 && agreed <= differ) {
        return Some(MatchDoubt::TooFewAgree {
            agreeing: agreed,
            differing: differ,
        });
    }
    None
}

fn shown(keys: &BTreeSet<String>) -> String {
    keys.iter()
        .map(|key| key.trim_start_matches('\u{1f}').replace('\u{1f}', ", "))
        .collect::<Vec<_>>()
        .join(" or ")
}

/// The result of matching.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum MatchResult<T> {
    /// No match.
    NoMatch,
    /// One, by a certain rule.
    One {
        /// Who.
        it: T,
        /// The index of the rule.
        rule: usize,
    },
    /// One that a person should look at first, and why.
    Doubtful {
        /// Who.
        it: T,
        /// The index of the rule.
        rule: usize,
        /// Why it is doubtful.
        why: MatchDoubt,
    },
    /// Several.
    Several {
        /// Who.
        all: Vec<T>,
        /// The index of the rule.
        rule: usize,
    },
}

/// Computes the keys of a record by a rule.
type MatchKeys<'a, T> = Box<dyn Fn(&MatchRule, T) -> BTreeSet<String> + 'a>;

/// The records of one side, by the keys of the rules. The keys of a rule are computed on first use:
/// once everything is linked, few are needed.
struct KeyIndex<'a, T> {
    members: Vec<T>,
    keys: MatchKeys<'a, T>,
    by_rule: Vec<OnceCell<FxHashMap<String, Vec<T>>>>,
}

impl<'a, T: Copy + Ord> KeyIndex<'a, T> {
    fn new(
        rules: &[MatchRule],
        members: Vec<T>,
        keys: impl Fn(&MatchRule, T) -> BTreeSet<String> + 'a,
    ) -> Self {
        KeyIndex {
            members,
            keys: Box::new(keys),
            by_rule: rules.iter().map(|_| OnceCell::new()).collect(),
        }
    }

    fn get(&self, rules: &[MatchRule], place: usize, key: &str) -> &[T] {
        let map = self.by_rule[place].get_or_init(|| {
            let mut map: FxHashMap<String, Vec<T>> =
                FxHashMap::with_capacity_and_hasher(self.members.len(), Default::default());
            for &member in &self.members {
                for key in (self.keys)(&rules[place], member) {
                    map.entry(key).or_default().push(member);
                }
            }
            map
        });
        map.get(key).map_or(&[], Vec::as_slice)
    }

    /// The first rule that finds a candidate decides; an earlier rule whose keys exist on both
    /// sides and differ makes the match doubtful.
    fn find(
        &self,
        rules: &[MatchRule],
        ours: impl Fn(&MatchRule) -> BTreeSet<String>,
        theirs: impl Fn(&MatchRule, T) -> BTreeSet<String>,
        differ: impl Fn(&MatchRule, T) -> Option<MatchDoubt>,
        allow: impl Fn(T) -> bool,
    ) -> MatchResult<T> {
        for (place, rule) in rules.iter().enumerate() {
            let wanted = ours(rule);
            let all: BTreeSet<T> = wanted
                .iter()
                .flat_map(|key| self.get(rules, place, key))
                .copied()
                .filter(|one| allow(*one))
                .collect();
            let mut all = all.into_iter();
            let (Some(it), rest) = (all.next(), all.collect::<Vec<T>>()) else {
                continue;
            };
            if !rest.is_empty() {
                return MatchResult::Several {
                    all: std::iter::once(it).chain(rest).collect(),
                    rule: place,
                };
            }
            if !rule.certain {
                return MatchResult::Doubtful {
                    it,
                    rule: place,
                    why: MatchDoubt::ReviewRule {
                        rule: rule.name.clone(),
                    },
                };
            }
            for earlier in &rules[..place] {
                let (there, here) = (theirs(earlier, it), ours(earlier));
                if !there.is_empty() && !here.is_empty() && there.is_disjoint(&here) {
                    let why = MatchDoubt::KeysDiffer {
                        rule: earlier.name.clone(),
                        there: shown(&there),
                        here: shown(&here),
                    };
                    return MatchResult::Doubtful {
                        it,
                        rule: place,
                        why,
                    };
                }
            }
            return match differ(rule, it) {
                Some(why) => MatchResult::Doubtful {
                    it,
                    rule: place,
                    why,
                },
                None => MatchResult::One { it, rule: place },
            };
        }
        MatchResult::NoMatch
    }
}

/// Finds the account of an identity; accounts are places in the population's list.
pub struct AccountIndex<'a> {
    rules: &'a [MatchRule],
    accounts: &'a [Account],
    index: KeyIndex<'a, usize>,
}

impl<'a> AccountIndex<'a> {
    /// Indexes those accounts of one system that may be matched.
    pub fn new(rules: &'a [MatchRule], accounts: &'a [Account], members: &[usize]) -> Self {
        let index = KeyIndex::new(rules, members.to_vec(), |rule, at| {
            account_keys(rule, &accounts[at])
        });
        AccountIndex {
            rules,
            accounts,
            index,
        }
    }

    /// The account that an identity matches, among those that are allowed.
    pub fn find(&self, identity: &Attributes, allow: impl Fn(usize) -> bool) -> MatchResult<usize> {
        let theirs = |rule: &MatchRule, at: usize| account_keys(rule, &self.accounts[at]);
        let differ =
            |rule: &MatchRule, at: usize| find_disagreement(rule, &self.accounts[at], identity);
        self.index.find(
            self.rules,
            |rule| identity_keys(rule, identity),
            theirs,
            differ,
            allow,
        )
    }
}

/// Finds the identity that an account belongs to.
pub struct IdentityIndex<'a> {
    rules: &'a [MatchRule],
    /// In the order of their ids.
    identities: Rc<[(&'a str, &'a Attributes)]>,
    index: KeyIndex<'a, usize>,
}

impl<'a> IdentityIndex<'a> {
    /// Indexes identities by the keys of one system's match rules.
    pub fn new(
        rules: &'a [MatchRule],
        identities: impl Iterator<Item = (&'a str, &'a Attributes)>,
    ) -> Self {
        let mut identities: Vec<(&'a str, &'a Attributes)> = identities.collect();
        identities.sort_by_key(|(id, _)| *id);
        let identities: Rc<[_]> = identities.into();
        let listed = identities.clone();
        let index = KeyIndex::new(rules, (0..identities.len()).collect(), move |rule, at| {
            identity_keys(rule, listed[at].1)
        });
        IdentityIndex {
            rules,
            identities,
            index,
        }
    }

    fn of(&self, id: &str) -> Option<&'a Attributes> {
        self.identities
            .binary_search_by(|(other, _)| (*other).cmp(id))
            .ok()
            .map(|at| self.identities[at].1)
    }

    /// The identity that an account matches, among those that are allowed.
    pub fn find(&self, account: &Account, allow: impl Fn(&str) -> bool) -> MatchResult<&'a str> {
        let theirs = |rule: &MatchRule, at: usize| identity_keys(rule, self.identities[at].1);
        let differ =
            |rule: &MatchRule, at: usize| find_disagreement(rule, account, self.identities[at].1);
        let allowed = |at: usize| allow(self.identities[at].0);
        let name = |at: usize| self.identities[at].0;
        let found = match self.index.find(
            self.rules,
            |rule| account_keys(rule, account),
            theirs,
            differ,
            allowed,
        ) {
            MatchResult::NoMatch => MatchResult::NoMatch,
            MatchResult::One { it, rule } => MatchResult::One { it: name(it), rule },
            MatchResult::Doubtful { it, rule, why } => MatchResult::Doubtful {
                it: name(it),
                rule,
                why,
            },
            MatchResult::Several { all, rule } => MatchResult::Several {
                all: all.into_iter().map(name).collect(),
                rule,
            },
        };
        match found {
            MatchResult::One { it, rule } => match self
                .rival_identity(account, it, false)
                .filter(|(other, ..)| allow(other))
            {
                Some((_, by, key)) => {
                    let why = MatchDoubt::BelongsToAnother {
                        rule: self.rules[by].name.clone(),
                        person: None,
                        key,
                    };
                    MatchResult::Doubtful { it, rule, why }
                }
                None => found,
            },
            other => other,
        }
    }

    /// The certain rule by which an account has a key that this identity had and another one has
    /// now.
    pub fn reassigned_key(&self, account: &Account, own: &str) -> Option<(&'a str, usize, String)> {
        self.rival_identity(account, own, true)
    }

    /// Another identity to which an account would belong, with the certain rule and the key: a
    /// rule whose key this identity does not share.
    pub fn rival_identity(
        &self,
        account: &Account,
        own: &str,
        instead: bool,
    ) -> Option<(&'a str, usize, String)> {
        let ours = self.of(own)?;
        self.rules
            .iter()
            .enumerate()
            .filter(|(_, rule)| rule.certain)
            .find_map(|(place, rule)| {
                let there = account_keys(rule, account);
                if there.is_empty() {
                    return None;
                }
                let here = identity_keys(rule, ours);
                if (instead && here.is_empty()) || !there.is_disjoint(&here) {
                    return None;
                }
                let found = there
                    .iter()
                    .flat_map(|key| self.index.get(self.rules, place, key));
                let other = found
                    .map(|&at| self.identities[at].0)
                    .find(|id| *id != own)?;
                Some((other, place, shown(&there)))
            })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::expr::{ExprScope, Root};
    use crate::reasons::Place;
    use crate::states::ObjectType;

    fn on(name: &str, attributes: &[&str], compare: Compare, certain: bool) -> MatchRule {
        let compile = |root: Root| {
            attributes
                .iter()
                .map(|attribute| {
                    Program::compile(
                        &format!("values({}.{attribute})", root.as_str()),
                        &ExprScope::open(&[root]),
                    )
                    .expect("compiles")
                })
                .collect()
        };
        MatchRule {
            name: name.into(),
            account: compile(Root::Account),
            identity: compile(Root::Identity),
            compare,
            certain,
            supporting: Vec::new(),
            min_agreeing: 1,
            place: Place::default(),
        }
    }

    fn rule(name: &str, attribute: &str) -> MatchRule {
        on(name, &[attribute], Compare::Folded, true)
    }

    fn record(pairs: &[(&str, &str)]) -> Attributes {
        let mut record = Attributes::new();
        for (name, value) in pairs {
            let mut values = record.get(name).to_vec();
            values.push(Value::text(*value));
            record.set(*name, values);
        }
        record
    }

    fn account(id: i64, pairs: &[(&str, &str)]) -> Account {
        Account {
            id,
            system: "berthing".into(),
            kind: ObjectType::Person,
            key: id.to_string(),
            name: id.to_string(),
            attributes: record(pairs),
            absent_since: None,
            absence_confirmed: false,
            fault: None,
        }
    }

    #[test]
    fn rules_are_tried_in_order_and_contradictions_ask() {
        let rules = [rule("number", "number"), rule("mail", "mail")];
        let accounts = [
            account(1, &[("number", "10"), ("mail", "a@e")]),
            account(2, &[("mail", "B@e "), ("mail", "b2@e")]),
            account(3, &[("mail", "c@e")]),
            account(4, &[("mail", "c@e")]),
        ];
        let index = AccountIndex::new(&rules, &accounts, &[0, 1, 2, 3]);
        let find = |pairs: &[(&str, &str)]| index.find(&record(pairs), |_| true);
        assert_eq!(
            find(&[("number", "10"), ("mail", "x@e")]),
            MatchResult::One { it: 0, rule: 0 }
        );
        assert_eq!(
            find(&[("number", "11"), ("mail", "b@e")]),
            MatchResult::One { it: 1, rule: 1 }
        );
        assert_eq!(
            find(&[("number", "11"), ("mail", "B2@E")]),
            MatchResult::One { it: 1, rule: 1 },
            "any of several values"
        );
        assert_eq!(
            find(&[("number", "11"), ("mail", "a@e")]),
            MatchResult::Doubtful {
                it: 0,
                rule: 1,
                why: MatchDoubt::KeysDiffer {
                    rule: "number".into(),
                    there: "10".into(),
                    here: "11".into(),
                }
            }
        );
        assert_eq!(
            find(&[("mail", "c@e")]),
            MatchResult::Several {
                all: vec![2, 3],
                rule: 1
            }
        );
        assert_eq!(
            index.find(&record(&[("mail", "c@e")]), |at| at != 2),
            MatchResult::One { it: 3, rule: 1 },
            "one is never the right one"
        );
        assert_eq!(find(&[("mail", " ")]), MatchResult::NoMatch);
    }

    #[test]
    fn several_attributes_must_all_be_there_and_a_weak_rule_asks() {
        let rules = [
            on("name and birth", &["name", "born"], Compare::Name, true),
            on("name", &["name"], Compare::Name, false),
        ];
        let accounts = [
            account(1, &[("name", "Lind, Ada"), ("born", "1990-01-02")]),
            account(2, &[("name", "Oleg Żak")]),
        ];
        let index = AccountIndex::new(&rules, &accounts, &[0, 1]);
        let find = |pairs: &[(&str, &str)]| index.find(&record(pairs), |_| true);
        assert_eq!(
            find(&[("name", "ada lind"), ("born", "1990-01-02")]),
            MatchResult::One { it: 0, rule: 0 }
        );
        assert!(matches!(
            find(&[("name", "ada lind"), ("born", "1991-01-02")]),
            MatchResult::Doubtful { it: 0, rule: 1, .. }
        ));
        assert!(matches!(
            find(&[("name", "Zak Oleg"), ("born", "1980-05-05")]),
            MatchResult::Doubtful { it: 1, rule: 1, .. }
        ));
    }

    #[test]
    fn a_reassigned_key_needs_review() {
        let rules = [rule("number", "number")];
        let (ada, bram) = (record(&[("number", "2001")]), record(&[("number", "1001")]));
        let index = IdentityIndex::new(&rules, [("ada", &ada), ("bram", &bram)].into_iter());
        assert_eq!(
            index.reassigned_key(&account(1, &[("number", "1001")]), "ada"),
            Some(("bram", 0, "1001".into()))
        );
        assert_eq!(
            index.reassigned_key(&account(1, &[("number", "1001")]), "bram"),
            None
        );
        assert_eq!(
            index.reassigned_key(&account(1, &[("number", "3001")]), "ada"),
            None,
            "no other record has it"
        );
    }

    #[test]
    fn each_way_of_comparing_sees_through_its_own_differences_only() {
        let same =
            |compare: Compare, one: &str, other: &str| compare.key(one) == compare.key(other);
        assert!(same(Compare::Plain, "Łódź", "lodz") && !same(Compare::Folded, "Łódź", "lodz"));
        assert!(
            same(Compare::Name, "Vasko-Lind Ana", "Ana Vasko Lind")
                && !same(Compare::Plain, "Vasko-Lind", "Vasko Lind")
        );
        assert!(!same(Compare::Exact, "A", "a") && same(Compare::Exact, " A", "A"));
        assert!(same(Compare::Name, "Мирон", "Miron"), "scripts");
        assert!(
            !same(Compare::Phone, "+372 5550101", "5550101"),
            "a number of another country may end so"
        );
        assert_eq!(Compare::Phone.key("4711"), None);
    }
}
