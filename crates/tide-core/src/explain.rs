//! Why, and why not: the decision's path walked again for one person, keeping every step.

use crate::compare::{self, Relation};
use crate::compose;
use crate::decide::{Decided, Outcome, Verdict, people};
use crate::model::{Account, Identity, ObjectType, Population};
use crate::reasons::ValueReason;
use crate::rules::RuleSet;
use crate::value::{Value, show};
use serde::{Deserialize, Serialize};

/// One value of one account, and why it is so.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct ValueLine {
    /// The attribute.
    pub attribute: String,
    /// What is there.
    pub there: String,
    /// What the rules want.
    pub wanted: String,
    /// How the two stand to each other, in words.
    pub state: String,
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
    /// What made the link, in words.
    pub linked_by: Option<String>,
    /// The values, for a target.
    pub values: Vec<ValueLine>,
}

/// Everything about one person.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Explanation {
    /// What people call it.
    pub label: String,
    /// The identity, if there is or will be one.
    pub identity: Option<String>,
    /// Its stage.
    pub stage: Option<String>,
    /// Its values and where each came from.
    pub values: Vec<ValueReason>,
    /// Its accounts, system by system.
    pub accounts: Vec<AccountLine>,
}

/// Finds whom a text means and explains each: an identity by id, value or label, or an account by
/// name, key or value. The most exact meaning wins; several are all returned.
pub fn explain(rules: &RuleSet, population: &Population, outcome: &Outcome, text: &str) -> Vec<Explanation> {
    let wanted = text.trim().to_lowercase();
    if wanted.is_empty() {
        return Vec::new();
    }
    for exact in [true, false] {
        let fits = |candidate: &str| {
            let candidate = candidate.to_lowercase();
            if exact { candidate == wanted } else { candidate.contains(&wanted) }
        };
        let in_values = |values: &[Value]| values.iter().any(|value| fits(&value.to_string()));
        let mut found: Vec<Explanation> = outcome
            .identities
            .iter()
            .filter(|(identity, label)| {
                fits(&identity.id)
                    || fits(label)
                    || identity.attributes.iter().any(|(_, values)| in_values(values))
                    || accounts_of(population, outcome, &identity.id).iter().any(|a| fits(&a.name) || fits(&a.key))
            })
            .map(|(identity, label)| identity_explained(rules, population, outcome, identity, label))
            .collect();
        for line in outcome.decided.iter().filter(|line| line.identity.is_none()) {
            let Some(account) = account_of(population, line) else { continue };
            let named = ["employeeNumber", "mail", "uid", "cn", "userName", "emails.work", "displayName"];
            if fits(&account.name) || fits(&account.key) || fits(&line.label) || named.iter().any(|n| in_values(account.attributes.get(n)))
            {
                found.push(Explanation {
                    label: line.label.clone(),
                    identity: None,
                    stage: None,
                    values: Vec::new(),
                    accounts: vec![account_line(population, line.clone(), Vec::new())],
                });
            }
        }
        if !found.is_empty() {
            return found;
        }
    }
    Vec::new()
}

fn account_of<'a>(population: &'a Population, line: &Decided) -> Option<&'a Account> {
    population.accounts.iter().find(|account| Some(account.id) == line.account)
}

fn accounts_of<'a>(population: &'a Population, outcome: &Outcome, identity: &str) -> Vec<&'a Account> {
    let linked = population.links.iter().filter(|l| l.identity == identity).map(|l| l.account);
    let joining = outcome.links.iter().filter(|l| l.identity == identity).map(|l| l.account);
    let ids: Vec<i64> = linked.chain(joining).collect();
    population.accounts.iter().filter(|account| ids.contains(&account.id)).collect()
}

fn account_line(population: &Population, decided: Decided, values: Vec<ValueLine>) -> AccountLine {
    let account = account_of(population, &decided);
    let linked_by = account.and_then(|account| population.links.iter().find(|l| l.account == account.id)).map(|link| link.made_by.clone());
    AccountLine {
        name: account.map(|account| account.name.clone()),
        key: account.map(|account| account.key.clone()),
        linked_by,
        values,
        decided,
    }
}

fn identity_explained(rules: &RuleSet, population: &Population, outcome: &Outcome, identity: &Identity, label: &str) -> Explanation {
    let kind = identity.kind;
    let feeding: Vec<usize> = outcome
        .decided
        .iter()
        .filter(|line| line.identity.as_deref() == Some(&identity.id))
        .filter(|line| rules.of(&line.system, kind).is_some_and(crate::rules::TypeRules::is_source))
        .filter(|line| matches!(line.verdict, Verdict::Source | Verdict::Held))
        .filter_map(|line| population.accounts.iter().position(|a| Some(a.id) == line.account && a.fault.is_none()))
        .collect();
    let sources = people::feeding(rules, population, kind, &feeding);
    let values = rules.identities.get(&kind).map(|declared| compose::identity(declared, &sources, true).reasons).unwrap_or_default();
    let mut lines: Vec<&Decided> = outcome.decided.iter().filter(|line| line.identity.as_deref() == Some(&identity.id)).collect();
    lines.sort_by_key(|line| (rules.of(&line.system, kind).is_some_and(|t| t.is_target()), line.system.clone()));
    let mut accounts: Vec<AccountLine> = lines
        .into_iter()
        .map(|line| account_line(population, line.clone(), target_values(rules, population, identity, line, kind)))
        .collect();
    // An account that is gone from its source has no line of its own: it is shown all the same.
    for account in accounts_of(population, outcome, &identity.id) {
        if account.absent_since.is_some() && !accounts.iter().any(|a| a.decided.account == Some(account.id)) {
            accounts.insert(
                0,
                account_line(
                    population,
                    Decided {
                        system: account.system.clone(),
                        object: kind,
                        identity: Some(identity.id.clone()),
                        account: Some(account.id),
                        label: label.to_owned(),
                        verdict: Verdict::OutOfScope,
                        reason: crate::reasons::Reason::new(format!("{} no longer holds it", account.system)),
                    },
                    Vec::new(),
                ),
            );
        }
    }
    Explanation {
        label: label.to_owned(),
        identity: Some(identity.id.clone()),
        stage: Some(identity.stage.word().to_owned()),
        values,
        accounts,
    }
}

fn target_values(rules: &RuleSet, population: &Population, identity: &Identity, line: &Decided, kind: ObjectType) -> Vec<ValueLine> {
    let Some(types) = rules.of(&line.system, kind).filter(|types| types.is_target()) else { return Vec::new() };
    let schema = population.systems.get(&line.system).and_then(|facts| facts.schema.get(&kind));
    let mut attributes = identity.attributes.clone();
    attributes.set("id", vec![Value::text(&identity.id)]);
    attributes.set("stage", vec![Value::text(identity.stage.word())]);
    let account = account_of(population, line);
    if account.is_none() && line.verdict == Verdict::OutOfScope {
        return Vec::new();
    }
    let frozen = matches!(line.verdict, Verdict::OutOfScope | Verdict::Disable | Verdict::Held);
    compose::desired(types, &attributes)
        .wanted
        .into_iter()
        .map(|wanted| {
            let there = account.map_or(&[][..], |account| account.attributes.get(&wanted.attribute));
            let state = match account.map(|account| compare::relation(&wanted, account, schema, &population.normalised)) {
                None if wanted.values.is_empty() => "nothing to set".to_owned(),
                None => "will be set".to_owned(),
                Some(Relation::Same) => "in step".to_owned(),
                Some(Relation::Normalised) => format!("in step: {} makes it so", line.system),
                Some(Relation::LeftAlone(why)) => format!("left alone: {why}"),
                Some(Relation::Differs) if frozen => "differs, and is not sent".to_owned(),
                Some(Relation::Differs) => "will be changed".to_owned(),
            };
            ValueLine { attribute: wanted.attribute, there: show(there), wanted: show(&wanted.values), state, reason: wanted.reason }
        })
        .collect()
}
