//! Which account belongs to which identity.

use crate::expr::Values;
use crate::model::Account;
use crate::rules::MatchRule;
use crate::value::{Attributes, Value, show};
use std::collections::HashMap;

/// A key without regard to case and outer blanks; `None` when there is nothing to match on.
fn key(values: &[Value]) -> Option<String> {
    let text = show(values).trim().to_lowercase();
    (!values.is_empty() && !text.is_empty()).then_some(text)
}

fn account_key(rule: &MatchRule, account: &Account) -> Option<String> {
    let values = Values { account: Some(&account.attributes), identity: None };
    key(&rule.account.run(&values).ok()?)
}

fn identity_key(rule: &MatchRule, identity: &Attributes) -> Option<String> {
    let values = Values { account: None, identity: Some(identity) };
    key(&rule.identity.run(&values).ok()?)
}

/// Accounts of one system by the keys of its match rules.
pub struct Index<'a> {
    rules: &'a [MatchRule],
    accounts: &'a [Account],
    by_rule: Vec<HashMap<String, Vec<usize>>>,
}

/// What matching an identity found; accounts are places in the population's list.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Found {
    /// No account matches.
    Nobody,
    /// One account, by a certain rule.
    One {
        /// The account.
        account: usize,
        /// The rule's place in the list.
        rule: usize,
    },
    /// One account that a person should look at first, and why.
    Doubtful {
        /// The account.
        account: usize,
        /// The rule's place in the list.
        rule: usize,
        /// What speaks against it.
        why: String,
    },
    /// Several accounts.
    Several {
        /// The accounts.
        accounts: Vec<usize>,
        /// The rule's place in the list.
        rule: usize,
    },
}

impl<'a> Index<'a> {
    /// Indexes those accounts of one system that may be matched.
    pub fn new(rules: &'a [MatchRule], accounts: &'a [Account], members: &[usize]) -> Self {
        let by_rule = rules
            .iter()
            .map(|rule| {
                let mut map: HashMap<String, Vec<usize>> = HashMap::new();
                for &at in members {
                    if let Some(key) = account_key(rule, &accounts[at]) {
                        map.entry(key).or_default().push(at);
                    }
                }
                map
            })
            .collect();
        Index { rules, accounts, by_rule }
    }

    /// Finds the account of an identity. The first rule that finds any decides; an earlier rule
    /// whose keys are there and differ makes the match doubtful.
    pub fn find(&self, identity: &Attributes) -> Found {
        for (place, rule) in self.rules.iter().enumerate() {
            let Some(wanted) = identity_key(rule, identity) else { continue };
            let Some(found) = self.by_rule[place].get(&wanted) else { continue };
            let [account] = found.as_slice() else {
                return Found::Several { accounts: found.clone(), rule: place };
            };
            let account = *account;
            if !rule.certain {
                return Found::Doubtful { account, rule: place, why: format!("the rule \"{}\" asks a person first", rule.name) };
            }
            for earlier in &self.rules[..place] {
                let theirs = account_key(earlier, &self.accounts[account]);
                let ours = identity_key(earlier, identity);
                if let (Some(theirs), Some(ours)) = (theirs, ours)
                    && theirs != ours
                {
                    return Found::Doubtful { account, rule: place, why: format!("{} differs: {theirs} there, {ours} here", earlier.name) };
                }
            }
            return Found::One { account, rule: place };
        }
        Found::Nobody
    }
}

/// Finds the identities that an account belongs to: the first rule that finds any decides.
pub struct IdentityIndex<'a> {
    rules: &'a [MatchRule],
    by_rule: Vec<HashMap<String, Vec<&'a str>>>,
}

impl<'a> IdentityIndex<'a> {
    /// Indexes identities by the keys of one system's match rules.
    pub fn new(rules: &'a [MatchRule], identities: impl Iterator<Item = (&'a str, &'a Attributes)> + Clone) -> Self {
        let by_rule = rules
            .iter()
            .map(|rule| {
                let mut map: HashMap<String, Vec<&'a str>> = HashMap::new();
                for (id, attributes) in identities.clone() {
                    if let Some(key) = identity_key(rule, attributes) {
                        map.entry(key).or_default().push(id);
                    }
                }
                map
            })
            .collect();
        IdentityIndex { rules, by_rule }
    }

    /// The identities that an account matches, and the rule.
    pub fn find(&self, account: &Account) -> Option<(&[&'a str], &'a MatchRule)> {
        for (place, rule) in self.rules.iter().enumerate() {
            if let Some(found) = account_key(rule, account).and_then(|key| self.by_rule[place].get(&key)) {
                return Some((found, rule));
            }
        }
        None
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::expr::{Known, Program, Root};
    use crate::model::ObjectType;
    use crate::reasons::Place;

    fn rule(name: &str, attribute: &str) -> MatchRule {
        let compile = |root: Root| Program::compile(&format!("{}.{attribute}", root.word()), &Known::open(&[root])).expect("compiles");
        MatchRule {
            name: name.into(),
            account: compile(Root::Account),
            identity: compile(Root::Identity),
            certain: true,
            place: Place::default(),
        }
    }

    fn record(pairs: &[(&str, &str)]) -> Attributes {
        pairs.iter().map(|(k, v)| ((*k).to_owned(), vec![Value::text(*v)])).collect()
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
            fault: None,
        }
    }

    #[test]
    fn rules_are_tried_in_order_and_contradictions_ask() {
        let rules = [rule("number", "number"), rule("mail", "mail")];
        let accounts = [
            account(1, &[("number", "10"), ("mail", "a@e")]),
            account(2, &[("mail", "B@e ")]),
            account(3, &[("mail", "c@e")]),
            account(4, &[("mail", "c@e")]),
        ];
        let index = Index::new(&rules, &accounts, &[0, 1, 2, 3]);
        assert_eq!(index.find(&record(&[("number", "10"), ("mail", "x@e")])), Found::One { account: 0, rule: 0 });
        assert_eq!(index.find(&record(&[("number", "11"), ("mail", "b@e")])), Found::One { account: 1, rule: 1 });
        assert_eq!(
            index.find(&record(&[("number", "11"), ("mail", "a@e")])),
            Found::Doubtful { account: 0, rule: 1, why: "number differs: 10 there, 11 here".into() }
        );
        assert_eq!(index.find(&record(&[("mail", "c@e")])), Found::Several { accounts: vec![2, 3], rule: 1 });
        assert_eq!(index.find(&record(&[("mail", " ")])), Found::Nobody);
    }
}
