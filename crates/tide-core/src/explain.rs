//! Explanations, why and why not: repeats the path of the decision for one person and keeps every
//! step.

use crate::compare::{self, Relation};
use crate::decide::{Decided, Outcome, Verdict, people};
use crate::matching::{account_keys, identity_keys};
use crate::model::{Account, AccountId, Identity, Population};
use crate::reasons::{OverruledValue, Reason, ReasonKind, ValueNote, ValueReason};
use crate::references::Accounts;
use crate::rules::RuleSet;
use crate::states::{LinkBasis, ObjectType, ValueState};
use crate::value::{Value, format_values};
use crate::{Stage, compose};
use serde::{Deserialize, Serialize};
use std::collections::{HashMap, HashSet};
use unicode_normalization::UnicodeNormalization as _;

/// One value of one account, with its reason.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct ValueLine {
    /// The attribute.
    pub attribute: String,
    /// The present values.
    pub current: String,
    /// The desired value.
    pub wanted: String,
    /// How the two stand to each other.
    pub state: ValueState,
    /// A note: why a value is kept, or how the system normalized it.
    pub note: Option<ValueNote>,
    /// The rule and what it read.
    pub reason: ValueReason,
}

/// One account of a person, or its absence, and why.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct AccountLine {
    /// The line of the decision.
    pub decided: Decided,
    /// The account's name there, if there is one.
    pub name: Option<String>,
    /// Its lasting key there.
    pub key: Option<String>,
    /// The origin of the link.
    pub linked_by: Option<LinkBasis>,
    /// The values, for a target.
    pub values: Vec<ValueLine>,
    /// Why its changes are not sent, where they are on hold.
    pub hold: Option<Reason>,
}

/// Everything about one person.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Explanation {
    /// Its label.
    pub label: String,
    /// The identity, if there is or will be one.
    pub identity: Option<String>,
    /// Its stage.
    pub stage: Option<Stage>,
    /// Its values and where each came from.
    pub values: Vec<ValueReason>,
    /// Its accounts, system by system.
    pub accounts: Vec<AccountLine>,
}

/// The inputs and results of a decision, by the keys of searches. Built once per request, so that a
/// text that matches nothing costs one pass.
struct ExplainIndex<'a> {
    population: &'a Population,
    outcome: &'a Outcome,
    /// The index of each account in the population.
    places: HashMap<AccountId, usize>,
    linked: HashMap<&'a str, Vec<AccountId>>,
    linked_by: HashMap<AccountId, &'a LinkBasis>,
    lines: HashMap<&'a str, Vec<&'a Decided>>,
}

impl<'a> ExplainIndex<'a> {
    fn new(population: &'a Population, outcome: &'a Outcome) -> Self {
        let places = population
            .accounts
            .iter()
            .enumerate()
            .map(|(at, account)| (account.id, at))
            .collect();
        let linked_by = population
            .links
            .iter()
            .map(|link| (link.account, &link.basis))
            .collect();
        let mut lines: HashMap<&str, Vec<&Decided>> = HashMap::new();
        for line in &outcome.decided {
            if let Some(identity) = &line.identity {
                lines.entry(identity).or_default().push(line);
            }
        }
        let mut linked: HashMap<&str, Vec<AccountId>> = HashMap::new();
        let links = population
            .links
            .iter()
            .map(|link| (link.identity.as_str(), link.account));
        for (identity, account) in links.chain(
            outcome
                .links
                .iter()
                .map(|link| (link.identity.as_str(), link.account)),
        ) {
            linked.entry(identity).or_default().push(account);
        }
        ExplainIndex {
            population,
            outcome,
            places,
            linked,
            linked_by,
            lines,
        }
    }

    fn account(&self, id: AccountId) -> Option<&'a Account> {
        self.places
            .get(&id)
            .map(|&at| &self.population.accounts[at])
    }

    fn lines_of(&self, identity: &str) -> impl Iterator<Item = &'a Decided> {
        self.lines.get(identity).into_iter().flatten().copied()
    }

    fn account_of(&self, line: &Decided) -> Option<&'a Account> {
        self.account(line.account?)
    }

    fn accounts_of(&self, identity: &str) -> impl Iterator<Item = &'a Account> {
        self.linked
            .get(identity)
            .into_iter()
            .flatten()
            .filter_map(|id| self.account(*id))
    }

    /// Whether a text matches this identity by its id, label, values or accounts.
    fn is_meant(&self, identity: &Identity, label: &str, fits: &dyn Fn(&str) -> bool) -> bool {
        fits(&identity.id)
            || fits(label)
            || identity.attributes.iter().any(|(_, values)| values.iter().any(|value| fits(&value.to_string())))
            || self.accounts_of(&identity.id).any(|account| fits(&account.name) || fits(&account.key))
            // An identity on hold for the first time has no links yet.
            || self.lines_of(&identity.id).filter_map(|line| self.account_of(line)).any(|account| fits(&account.name) || fits(&account.key))
    }
}

/// Folds a text for searching: without case and accents.
pub fn fold_text(text: &str) -> String {
    deunicode::deunicode(&text.nfc().collect::<String>()).to_lowercase()
}

/// Whether a text has the form of a number, an address, a DN or an id, which identify one record.
/// Names match many, and all of them are shown.
pub fn belongs_to_one(text: &str) -> bool {
    text.chars()
        .any(|c| c.is_ascii_digit() || matches!(c, '@' | '=' | ','))
}

/// Returns a test whether a value contains a text, or equals it.
fn text_matcher(wanted: &str, whole: bool) -> impl Fn(&str) -> bool + '_ {
    move |candidate: &str| {
        let candidate = fold_text(candidate);
        if whole {
            candidate == wanted
        } else {
            candidate.contains(wanted)
        }
    }
}

/// The texts by which a record is found.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SearchRecord {
    /// The identity; `None` for an account without one.
    pub identity: Option<String>,
    /// The account, where there is no identity.
    pub account: Option<AccountId>,
    /// Its label.
    pub label: String,
    /// What it is called, folded by [`fold_text`]: id, label, values, names and keys of accounts.
    pub texts: Vec<String>,
}

/// The texts of all records of an outcome, for a search index. Records that [`explain`] and
/// [`find_identities`] find by a text have it, whole or in part, among their texts.
pub fn search_records(population: &Population, outcome: &Outcome) -> Vec<SearchRecord> {
    let index = ExplainIndex::new(population, outcome);
    let identities = outcome.identities.iter().map(|(identity, label)| {
        let mut texts = vec![identity.id.clone(), label.clone()];
        let values = identity.attributes.iter().flat_map(|(_, values)| values);
        texts.extend(values.map(ToString::to_string));
        let of_lines = index
            .lines_of(&identity.id)
            .filter_map(|line| index.account_of(line));
        for account in index.accounts_of(&identity.id).chain(of_lines) {
            texts.extend([account.name.clone(), account.key.clone()]);
        }
        SearchRecord {
            identity: Some(identity.id.clone()),
            account: None,
            label: label.clone(),
            texts: fold_texts(texts),
        }
    });
    let unlinked = outcome
        .decided
        .iter()
        .filter(|line| line.identity.is_none());
    let accounts = unlinked.filter_map(|line| {
        let account = index.account_of(line)?;
        let mut texts = vec![
            account.name.clone(),
            account.key.clone(),
            line.label.clone(),
        ];
        let values = NAMING
            .iter()
            .flat_map(|name| account.attributes.get(name).iter());
        texts.extend(values.map(ToString::to_string));
        Some(SearchRecord {
            identity: None,
            account: Some(account.id),
            label: line.label.clone(),
            texts: fold_texts(texts),
        })
    });
    identities.chain(accounts).collect()
}

/// The attributes by which an account without an identity is found.
const NAMING: [&str; 7] = [
    "employeeNumber",
    "mail",
    "uid",
    "cn",
    "userName",
    "emails.work",
    "displayName",
];

fn fold_texts(texts: Vec<String>) -> Vec<String> {
    let mut folded: Vec<String> = texts.iter().map(|text| fold_text(text)).collect();
    folded.retain(|text| !text.is_empty());
    folded.sort_unstable();
    folded.dedup();
    folded
}

/// The identities that a text names: by a whole number, address, DN or id, otherwise by a part of
/// them.
pub fn find_identities(population: &Population, outcome: &Outcome, text: &str) -> Vec<String> {
    let wanted = fold_text(text.trim());
    let index = ExplainIndex::new(population, outcome);
    let all = |fits: &dyn Fn(&str) -> bool| -> Vec<String> {
        let meant = outcome
            .identities
            .iter()
            .filter(|(identity, label)| index.is_meant(identity, label, fits));
        meant.map(|(identity, _)| identity.id.clone()).collect()
    };
    if wanted.is_empty() {
        return Vec::new();
    }
    if outcome
        .identities
        .iter()
        .any(|(identity, _)| identity.id == wanted)
    {
        return vec![wanted];
    }
    let called = || {
        outcome
            .identities
            .iter()
            .filter(|(_, label)| fold_text(label) == wanted)
            .map(|(identity, _)| identity.id.clone())
            .collect()
    };
    let whole = if belongs_to_one(&wanted) {
        all(&text_matcher(&wanted, true))
    } else {
        called()
    };
    if whole.is_empty() {
        all(&text_matcher(&wanted, false))
    } else {
        whole
    }
}

/// Finds what a text refers to and explains each: an identity by id, value or label, or an account
/// by name, key or value. The most exact match wins; several are all returned. Unlinked source
/// records are shown with the identity that they would be linked to.
pub fn explain(
    rules: &RuleSet,
    population: &Population,
    outcome: &Outcome,
    text: &str,
) -> Vec<Explanation> {
    explain_among(rules, population, outcome, text, &|_| true)
}

/// Maximum number of people that a part of a name finds.
pub const MOST_FOUND: usize = 50;

/// As [`explain`], for the identities that were decided: others were read only.
pub fn explain_among(
    rules: &RuleSet,
    population: &Population,
    outcome: &Outcome,
    text: &str,
    is_decided: &dyn Fn(&str) -> bool,
) -> Vec<Explanation> {
    let wanted = fold_text(text.trim());
    if wanted.is_empty() {
        return Vec::new();
    }
    let index = ExplainIndex::new(population, outcome);
    let loose = UnlinkedAccounts::new(rules, &index);
    // An id names one, also when others point to it.
    if let Some((identity, label)) = outcome
        .identities
        .iter()
        .find(|(identity, _)| identity.id == wanted)
    {
        let own = identity_explained(rules, &index, identity, label);
        return vec![loose.explain_joined(rules, &index, own, identity).0];
    }
    for exact in [true, false] {
        let fits = text_matcher(&wanted, exact);
        // Of a name only a whole one is exact.
        let by_label = exact && !belongs_to_one(&wanted);
        let mut shown: HashSet<AccountId> = HashSet::new();
        let mut found: Vec<Explanation> = Vec::new();
        let alone = unlinked_lines(outcome, &index, &fits, by_label);
        // The identity that a matching record would be linked to is meant too.
        let meant_by: HashSet<AccountId> = alone.iter().filter_map(|line| line.account).collect();
        let decided = outcome
            .identities
            .iter()
            .filter(|(identity, _)| is_decided(&identity.id));
        for (identity, label) in decided {
            crate::computation::step();
            let theirs = || {
                loose
                    .of(rules, &index, identity)
                    .iter()
                    .any(|(id, _)| meant_by.contains(id))
            };
            let is_meant = if by_label {
                fits(label)
            } else {
                index.is_meant(identity, label, &fits)
            };
            if is_meant || (!meant_by.is_empty() && theirs()) {
                let own = identity_explained(rules, &index, identity, label);
                let (explained, joined) = loose.explain_joined(rules, &index, own, identity);
                shown.extend(joined);
                found.push(explained);
            }
        }
        for line in alone {
            if line.account.is_none_or(|account| !shown.contains(&account)) {
                found.push(Explanation {
                    label: line.label.clone(),
                    identity: None,
                    stage: None,
                    values: Vec::new(),
                    accounts: vec![account_line(&index, line.clone(), Vec::new())],
                });
            }
        }
        if !found.is_empty() {
            return found;
        }
    }
    Vec::new()
}

/// The outcomes of records without an identity that the text means.
fn unlinked_lines<'o>(
    outcome: &'o Outcome,
    index: &ExplainIndex<'_>,
    fits: &dyn Fn(&str) -> bool,
    by_label: bool,
) -> Vec<&'o Decided> {
    let in_values = |values: &[Value]| values.iter().any(|value| fits(&value.to_string()));
    outcome
        .decided
        .iter()
        .filter(|line| line.identity.is_none())
        .filter(|line| {
            let Some(account) = index.account_of(line) else {
                return false;
            };
            if by_label {
                return fits(&line.label);
            }
            fits(&account.name)
                || fits(&account.key)
                || fits(&line.label)
                || NAMING.iter().any(|n| in_values(account.attributes.get(n)))
        })
        .collect()
}

/// Unlinked source records by their match keys: what they would supply, for the match rules of
/// other sources.
struct UnlinkedAccounts<'a> {
    by_key: HashMap<(&'a str, usize, String), Vec<&'a Decided>>,
}

impl<'a> UnlinkedAccounts<'a> {
    fn new(rules: &'a RuleSet, index: &ExplainIndex<'a>) -> Self {
        let mut by_key: HashMap<(&str, usize, String), Vec<&Decided>> = HashMap::new();
        for line in index
            .outcome
            .decided
            .iter()
            .filter(|line| line.identity.is_none())
        {
            let (Some(account), Some(declared)) =
                (index.account_of(line), rules.identities.get(&line.object))
            else {
                continue;
            };
            let Some(types) = rules
                .of(&line.system, line.object)
                .filter(|types| types.is_source())
            else {
                continue;
            };
            let says = compose::compose_identity(
                declared,
                &[(line.system.as_str(), types, account)],
                false,
            )
            .attributes;
            for (system, types) in rules
                .sources(line.object)
                .filter(|(system, _)| *system != line.system)
            {
                for (place, rule) in types.matching.iter().enumerate() {
                    for key in identity_keys(rule, &says) {
                        by_key.entry((system, place, key)).or_default().push(line);
                    }
                }
            }
        }
        UnlinkedAccounts { by_key }
    }

    /// The records that would be joined to an identity, with the rule.
    fn of(
        &self,
        rules: &RuleSet,
        index: &ExplainIndex<'a>,
        identity: &Identity,
    ) -> Vec<(AccountId, (&'a Decided, String))> {
        let mut all = Vec::new();
        if self.by_key.is_empty() {
            return all;
        }
        for line in index.lines_of(&identity.id) {
            let (Some(account), Some(types)) = (
                index.account_of(line),
                rules.of(&line.system, identity.kind),
            ) else {
                continue;
            };
            for (place, rule) in types
                .matching
                .iter()
                .enumerate()
                .filter(|_| types.is_source())
            {
                for key in account_keys(rule, account) {
                    for loose in self
                        .by_key
                        .get(&(line.system.as_str(), place, key))
                        .into_iter()
                        .flatten()
                    {
                        all.extend(loose.account.map(|id| (id, (*loose, rule.name.clone()))));
                    }
                }
            }
        }
        all
    }

    /// Adds these records to an explanation. Returns their ids.
    fn explain_joined(
        &self,
        rules: &RuleSet,
        index: &ExplainIndex<'a>,
        mut explained: Explanation,
        identity: &Identity,
    ) -> (Explanation, Vec<AccountId>) {
        let mut shown = Vec::new();
        for (id, (line, rule)) in self.of(rules, index, identity) {
            if shown.contains(&id) {
                continue;
            }
            shown.push(id);
            let mut line = line.clone();
            *line.reason.kind = ReasonKind::SuppliesNoValues {
                linked_by: rule,
                why: line.reason.kind.clone(),
            };
            explained
                .accounts
                .insert(0, account_line(index, line, Vec::new()));
        }
        (explained, shown)
    }
}

/// Why the changes of an identity's account in a system are not sent, if one of them is on hold.
fn hold_of<'o>(outcome: &'o Outcome, identity: &str, line: &Decided) -> Option<&'o Reason> {
    let theirs = |change: &&crate::decide::Change| {
        change.identity == identity && change.system == line.system && change.object == line.object
    };
    outcome
        .changes
        .iter()
        .filter(theirs)
        .find_map(|change| change.hold.as_ref())
}

fn account_line(index: &ExplainIndex<'_>, decided: Decided, values: Vec<ValueLine>) -> AccountLine {
    let account = index.account_of(&decided);
    let hold = decided
        .identity
        .as_deref()
        .and_then(|identity| hold_of(index.outcome, identity, &decided))
        .cloned();
    let linked_by = account
        .and_then(|account| index.linked_by.get(&account.id))
        .map(|basis| (*basis).clone());
    AccountLine {
        name: account.map(|account| account.name.clone()),
        key: account.map(|account| account.key.clone()),
        linked_by,
        values,
        hold,
        decided,
    }
}

fn identity_explained(
    rules: &RuleSet,
    index: &ExplainIndex<'_>,
    identity: &Identity,
    label: &str,
) -> Explanation {
    let (population, outcome, kind) = (index.population, index.outcome, identity.kind);
    let feeding: Vec<usize> = index
        .lines_of(&identity.id)
        .filter(|line| {
            rules
                .of(&line.system, kind)
                .is_some_and(crate::rules::TypeRules::is_source)
        })
        .filter(|line| matches!(line.verdict, Verdict::Source | Verdict::OnHold))
        .filter_map(|line| {
            index
                .places
                .get(&line.account?)
                .copied()
                .filter(|&at| population.accounts[at].fault.is_none())
        })
        .collect();
    let sources = people::source_records(rules, population, kind, &feeding);
    let mut values = rules
        .identities
        .get(&kind)
        .map(|declared| compose::compose_identity(declared, &sources, true).reasons)
        .unwrap_or_default();
    beside_sources(rules, outcome, identity, &mut values);
    let mut lines: Vec<&Decided> = index.lines_of(&identity.id).collect();
    lines.sort_by_key(|line| {
        (
            rules.of(&line.system, kind).is_some_and(|t| t.is_target()),
            line.system.clone(),
        )
    });
    let mut accounts: Vec<AccountLine> = lines
        .into_iter()
        .map(|line| {
            account_line(
                index,
                line.clone(),
                target_values(rules, index, identity, line, kind),
            )
        })
        .collect();
    // An account that is gone from its source has no line of its own: it is shown all the same.
    add_absent_accounts(index, identity, label, kind, &mut accounts);
    Explanation {
        label: label.to_owned(),
        identity: Some(identity.id.clone()),
        stage: Some(identity.stage),
        values,
        accounts,
    }
}

/// Adds accounts that their source no longer contains.
fn add_absent_accounts(
    index: &ExplainIndex<'_>,
    identity: &Identity,
    label: &str,
    kind: ObjectType,
    accounts: &mut Vec<AccountLine>,
) {
    for account in index.accounts_of(&identity.id) {
        if account.absent_since.is_some()
            && !accounts
                .iter()
                .any(|a| a.decided.account == Some(account.id))
        {
            accounts.insert(
                0,
                account_line(
                    index,
                    Decided {
                        system: account.system.clone(),
                        object: kind,
                        identity: Some(identity.id.clone()),
                        account: Some(account.id),
                        label: label.to_owned(),
                        verdict: Verdict::OutOfScope,
                        reason: Reason::new(ReasonKind::GoneFromSystem {
                            system: account.system.clone(),
                        }),
                        unmatched: None,
                    },
                    Vec::new(),
                ),
            );
        }
    }
}

/// Resolved references and generated values: neither comes from a source.
fn beside_sources(
    rules: &RuleSet,
    outcome: &Outcome,
    identity: &Identity,
    values: &mut Vec<ValueReason>,
) {
    let Some(declared) = rules.identities.get(&identity.kind) else {
        return;
    };
    let label = |value: &Value| {
        let text = value.to_string();
        outcome
            .identities
            .iter()
            .find(|(other, _)| other.id == text)
            .map_or(text, |(_, label)| label.clone())
    };
    let held: std::collections::BTreeSet<String> = identity
        .attributes
        .get(crate::model::ROLES)
        .iter()
        .map(ToString::to_string)
        .collect();
    let names = held.iter().map(String::as_str).collect();
    add_role_values(rules, identity, values, names);
    if !held.is_empty() {
        add_held_roles(rules, identity, values);
    }
    for attribute in &declared.attributes {
        let held = identity.attributes.get(&attribute.name);
        if attribute.reference.is_some() && !held.is_empty() {
            let names: Vec<String> = held.iter().take(MEANT).map(label).collect();
            let more = held.len().saturating_sub(MEANT);
            let names = names.join(" · ");
            if let Some(reason) = values
                .iter_mut()
                .find(|reason| reason.attribute.eq_ignore_ascii_case(&attribute.name))
            {
                reason.value = if more == 0 {
                    names
                } else {
                    format!("{names} and {more} more")
                };
            }
        }
        if let Some(generated) = attribute.generated.as_ref().filter(|_| !held.is_empty()) {
            values.retain(|reason| !reason.attribute.eq_ignore_ascii_case(&attribute.name));
            let new = outcome
                .reserved
                .iter()
                .any(|name| name.identity == identity.id && name.attribute == attribute.name);
            let note = if new {
                ValueNote::GeneratedNow
            } else {
                ValueNote::Generated
            };
            values.push(ValueReason {
                attribute: attribute.name.clone(),
                value: format_values(held),
                rule: attribute.place.clone(),
                expression: generated
                    .patterns
                    .iter()
                    .map(|pattern| pattern.source())
                    .collect::<Vec<_>>()
                    .join(", or "),
                read: Vec::new(),
                from_system: None,
                note: Some(note),
            });
        }
    }
}

/// Adds the values that roles supply.
fn add_role_values(
    rules: &RuleSet,
    identity: &Identity,
    values: &mut Vec<ValueReason>,
    names: std::collections::BTreeSet<&str>,
) {
    for won in crate::roles::role_values(rules, identity.kind, &identity.attributes, &names)
        .unwrap_or_default()
    {
        // A default counts only where no source supplies a value.
        let from_source = values.iter().any(|reason| {
            reason.attribute.eq_ignore_ascii_case(&won.value.attribute) && reason.value != "—"
        });
        if !won.value.binding && from_source {
            continue;
        }
        values.retain(|reason| !reason.attribute.eq_ignore_ascii_case(&won.value.attribute));
        let over = won.over.iter().map(|(role, values)| OverruledValue {
            value: format_values(values),
            role: role.clone(),
        });
        let over: Vec<OverruledValue> = over.collect();
        values.push(ValueReason {
            attribute: won.value.attribute.clone(),
            value: format_values(identity.attributes.get(&won.value.attribute)),
            rule: won.value.place.clone(),
            expression: won.value.value.source().to_owned(),
            read: Vec::new(),
            from_system: None,
            note: Some(ValueNote::FromRole {
                role: won.role.name.clone(),
                over,
            }),
        });
    }
}

/// Adds the roles of the identity.
fn add_held_roles(rules: &RuleSet, identity: &Identity, values: &mut Vec<ValueReason>) {
    values.push(ValueReason {
        attribute: crate::model::ROLES.to_owned(),
        value: format_values(identity.attributes.get(crate::model::ROLES)),
        rule: rules
            .roles
            .first()
            .map(|role| role.place.clone())
            .unwrap_or_default(),
        expression: String::new(),
        read: Vec::new(),
        from_system: None,
        note: Some(ValueNote::HeldRoles),
    });
}

/// How many of those who are meant are named.
const MEANT: usize = 12;

fn target_values(
    rules: &RuleSet,
    index: &ExplainIndex<'_>,
    identity: &Identity,
    line: &Decided,
    kind: ObjectType,
) -> Vec<ValueLine> {
    let (population, outcome) = (index.population, index.outcome);
    let Some(types) = rules
        .of(&line.system, kind)
        .filter(|types| types.is_target())
    else {
        return Vec::new();
    };
    let schema = population
        .systems
        .get(&line.system)
        .and_then(|facts| facts.schema.get(&kind));
    let mut attributes = identity.attributes.clone();
    attributes.set("id", vec![Value::text(&identity.id)]);
    attributes.set("stage", vec![Value::text(identity.stage.as_str())]);
    let account = index.account_of(line);
    if account.is_none() && line.verdict == Verdict::OutOfScope {
        return Vec::new();
    }
    let frozen = matches!(
        line.verdict,
        Verdict::OutOfScope | Verdict::Disable | Verdict::OnHold
    );
    // What is on hold is not announced.
    let is_on_hold =
        line.verdict == Verdict::OnHold || hold_of(outcome, &identity.id, line).is_some();
    let mut desired = compose::desired(types, &attributes, schema);
    write_references(line, population, outcome, schema, &mut desired);
    let label = |id: &String| {
        outcome
            .identities
            .iter()
            .find(|(other, _)| other.id == *id)
            .map_or_else(|| id.clone(), |(_, label)| label.clone())
    };
    desired
        .wanted
        .into_iter()
        .map(|wanted| {
            let there = account.map_or(&[][..], |account| {
                account.attributes.get(&wanted.mapping.attribute)
            });
            let relation =
                account.map(|account| compare::relation_to_account(&wanted, account, population));
            let note = relation_note(line, &relation);
            let state = value_state(frozen, is_on_hold, &wanted, relation);
            let shown = wanted.values.iter().map(Value::to_string);
            let waits = wanted
                .pending_references
                .iter()
                .map(|id| format!("the account of {}, once it exists", label(id)));
            let shown: Vec<String> = shown.chain(waits).collect();
            let mut reason = wanted.reason(&attributes);
            reason.value = if shown.is_empty() {
                format_values(&[])
            } else {
                shown.join(" · ")
            };
            ValueLine {
                attribute: reason.attribute.clone(),
                current: format_values(there),
                wanted: reason.value.clone(),
                state,
                note,
                reason,
            }
        })
        .collect()
}

/// Replaces references by what the system stores for them.
fn write_references(
    line: &Decided,
    population: &Population,
    outcome: &Outcome,
    schema: Option<&crate::Schema>,
    desired: &mut compose::DesiredAccount<'_>,
) {
    for wanted in crate::decide::references::references_of(desired) {
        let links = crate::decide::references::all_links(population, outcome);
        let kinds = outcome
            .identities
            .iter()
            .map(|(identity, _)| (identity.id.as_str(), identity.kind));
        let written = Accounts::new(population, &line.system, links, kinds).write(
            &wanted.mapping.attribute,
            &wanted.values,
            schema.is_some_and(|schema| schema.refers_by_name),
        );
        wanted.values = written.values;
        wanted.pending_references = written.missing;
    }
}

/// The note beside a value.
fn relation_note(line: &Decided, relation: &Option<Relation>) -> Option<ValueNote> {
    match relation {
        Some(Relation::Normalized) => Some(ValueNote::Normalized {
            system: line.system.clone(),
        }),
        Some(Relation::LeftAlone(cause)) => Some(ValueNote::LeftAlone { cause: *cause }),
        _ => None,
    }
}

/// The state of a value in its account.
fn value_state(
    frozen: bool,
    is_on_hold: bool,
    wanted: &compose::DesiredValue<'_>,
    relation: Option<Relation>,
) -> ValueState {
    match relation {
        None if wanted.values.is_empty() => ValueState::NoValue,
        Some(Relation::Same | Relation::Normalized) => ValueState::InSync,
        Some(Relation::LeftAlone(_)) => ValueState::LeftAlone,
        None | Some(Relation::Differs) if is_on_hold => ValueState::WouldBeSet,
        Some(Relation::Differs) if frozen => ValueState::Differs,
        None | Some(Relation::Differs) => ValueState::WillBeSet,
    }
}
