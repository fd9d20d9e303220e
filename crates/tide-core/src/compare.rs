//! What differs between the account that is wanted and the account that is there.

use crate::compose::{Desired, Wanted};
use crate::model::{Account, AccountId, Normalised};
use crate::reasons::Place;
use crate::rules::{Empty, Keep};
use crate::schema::{AttributeDef, Schema};
use crate::value::Value;
use serde::{Deserialize, Serialize};
use std::collections::HashMap;

/// One value that changes.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ValueChange {
    /// The attribute.
    pub attribute: String,
    /// What is there.
    pub before: Vec<Value>,
    /// What will be there.
    pub after: Vec<Value>,
    /// The rule that wants it.
    pub rule: Place,
}

/// How a wanted value stands to the one that is there.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Relation {
    /// Equal.
    Same,
    /// Equal but for what the target makes of it, as seen when it was last sent.
    Normalised,
    /// It differs, and the rule leaves it alone; the words say why.
    LeftAlone(&'static str),
    /// It differs and is to be changed.
    Differs,
}

/// Are two sets of values equal, under the target's own rules?
pub fn equal(def: Option<&AttributeDef>, one: &[Value], two: &[Value]) -> bool {
    if one.len() != two.len() {
        return false;
    }
    let fold = |value: &Value| {
        let text = value.to_string();
        match (def, value) {
            (Some(def), Value::Text(_) | Value::Reference(_)) if !def.case_exact => text.to_lowercase(),
            _ => text,
        }
    };
    let sorted = |values: &[Value]| {
        let mut texts: Vec<String> = values.iter().map(fold).collect();
        texts.sort();
        texts
    };
    sorted(one) == sorted(two)
}

/// How one wanted value stands to the account.
pub fn relation(
    wanted: &Wanted,
    account: &Account,
    schema: Option<&Schema>,
    normalised: &HashMap<(AccountId, String), Normalised>,
) -> Relation {
    let def = schema.and_then(|schema| schema.get(&wanted.attribute));
    let there = account.attributes.get(&wanted.attribute);
    if def.is_some_and(|def| def.derived) {
        return Relation::LeftAlone("the system computes it");
    }
    if equal(def, &wanted.values, there) {
        return Relation::Same;
    }
    if wanted.values.is_empty() && wanted.empty == Empty::Leave {
        return Relation::LeftAlone("the source is empty, and the rule leaves the value");
    }
    match wanted.keep {
        Keep::Once => return Relation::LeftAlone("set once, when the account was made"),
        Keep::FillBlank if !there.is_empty() => return Relation::LeftAlone("filled only while blank"),
        _ => {}
    }
    let known = normalised.get(&(account.id, wanted.attribute.clone()));
    if known.is_some_and(|known| same(&known.sent, &wanted.values) && same(&known.returned, there)) {
        return Relation::Normalised;
    }
    Relation::Differs
}

fn same(one: &[Value], two: &[Value]) -> bool {
    equal(None, one, two)
}

/// All values that are to be changed.
pub fn differences(
    desired: &Desired,
    account: &Account,
    schema: Option<&Schema>,
    normalised: &HashMap<(AccountId, String), Normalised>,
) -> Vec<ValueChange> {
    desired
        .wanted
        .iter()
        .filter(|wanted| relation(wanted, account, schema, normalised) == Relation::Differs)
        .map(|wanted| ValueChange {
            attribute: wanted.attribute.clone(),
            before: account.attributes.get(&wanted.attribute).to_vec(),
            after: wanted.values.clone(),
            rule: wanted.place.clone(),
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn texts(values: &[&str]) -> Vec<Value> {
        values.iter().map(|v| Value::text(*v)).collect()
    }

    #[test]
    fn equality_follows_the_schema() {
        let loose = AttributeDef::text("userName");
        let exact = AttributeDef { case_exact: true, ..AttributeDef::text("externalId") };
        assert!(equal(Some(&loose), &texts(&["Ada"]), &texts(&["ada"])));
        assert!(!equal(Some(&exact), &texts(&["Ada"]), &texts(&["ada"])));
        assert!(equal(Some(&exact), &texts(&["b", "a"]), &texts(&["a", "b"])));
        assert!(!equal(Some(&loose), &texts(&["a"]), &texts(&["a", "b"])));
    }

    #[test]
    fn a_truth_is_a_truth_however_it_is_held() {
        assert!(equal(None, &[Value::Bool(true)], &texts(&["true"])));
    }
}
