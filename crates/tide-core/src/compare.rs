//! Compares the desired account with the present one.

use crate::compose::{DesiredAccount, DesiredValue};
use crate::equality::are_equal;
use crate::model::{Account, Population};
use crate::reasons::Place;
use crate::rules::{Apply, OnEmpty};
use crate::schema::AttributeDef;
use crate::states::KeptCause;
use crate::value::Value;
use serde::{Deserialize, Serialize};

/// One value that changes.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct ValueChange {
    /// The attribute.
    pub attribute: String,
    /// The present values.
    pub before: Vec<Value>,
    /// The future values.
    pub after: Vec<Value>,
    /// The rule that wants it.
    pub rule: Place,
    /// Accounts that do not exist yet; the value will refer to them, too, once they exist.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub later: Vec<PendingReference>,
}

/// An account that a value waits for.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct PendingReference {
    /// The identity of the future account.
    pub identity: String,
    /// Their label.
    pub label: String,
}

/// The relation of a desired value to the present one.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Relation {
    /// Equal.
    Same,
    /// Equal after the target's normalization, as seen when it was last sent.
    Normalized,
    /// It differs and stays, for this cause.
    LeftAlone(KeptCause),
    /// It differs and is to be changed.
    Differs,
}

/// The values that an attribute should have: ours alone, or ours and those of others. `given` are
/// the values that we wrote before.
pub fn target_values(
    wanted: &DesiredValue<'_>,
    def: Option<&AttributeDef>,
    there: &[Value],
    given: &[Value],
) -> Vec<Value> {
    if !wanted.mapping.merge {
        return wanted.values.clone();
    }
    let one =
        |a: &Value, b: &Value| are_equal(def, std::slice::from_ref(a), std::slice::from_ref(b));
    let mut all: Vec<Value> = there
        .iter()
        .filter(|value| {
            !given.iter().any(|ours| one(ours, value))
                || wanted.values.iter().any(|ours| one(ours, value))
        })
        .cloned()
        .collect();
    for ours in &wanted.values {
        if !all.iter().any(|value| one(ours, value)) {
            all.push(ours.clone());
        }
    }
    all
}

/// Whether a value was in sync before others changed it in the system.
pub fn changed_there(
    population: &Population,
    account: crate::model::AccountId,
    def: Option<&AttributeDef>,
    value: &ValueChange,
) -> bool {
    let before = population.drift_baseline.get(&account);
    before.is_some_and(|before| {
        value.later.is_empty() && are_equal(def, before.get(&value.attribute), &value.after)
    })
}

/// Compares one desired value with the account.
pub fn relation_to_account(
    wanted: &DesiredValue<'_>,
    account: &Account,
    population: &Population,
) -> Relation {
    let def = wanted.def;
    let there = account.attributes.get(&wanted.mapping.attribute);
    let merged;
    let wanted = if wanted.mapping.merge {
        let given = population
            .managed_values
            .get(&(account.id, wanted.mapping.attribute.clone()))
            .map_or(&[][..], Vec::as_slice);
        merged = DesiredValue {
            values: target_values(wanted, def, there, given),
            ..wanted.clone()
        };
        &merged
    } else {
        wanted
    };
    if def.is_some_and(|def| def.derived) {
        return Relation::LeftAlone(KeptCause::Computed);
    }
    if are_equal(def, &wanted.values, there) {
        return Relation::Same;
    }
    if wanted.values.is_empty() && wanted.mapping.on_empty == OnEmpty::Keep {
        return Relation::LeftAlone(KeptCause::SourceEmpty);
    }
    match wanted.mapping.apply {
        Apply::OnCreate => return Relation::LeftAlone(KeptCause::SetOnCreate),
        Apply::IfEmpty if !there.is_empty() => {
            return Relation::LeftAlone(KeptCause::SetIfEmpty);
        }
        _ => {}
    }
    if wanted.values.is_empty() && !wanted.pending_references.is_empty() {
        return Relation::LeftAlone(KeptCause::WaitingForAccount);
    }
    // The system would refuse to have it cleared, together with all else that is sent with it.
    if wanted.values.is_empty() && def.is_some_and(|def| def.required) {
        return Relation::LeftAlone(KeptCause::RequiredThere);
    }
    let known = population
        .normalizations
        .get(&(account.id, wanted.mapping.attribute.clone()));
    if known.is_some_and(|known| {
        is_same_value(&known.sent, &wanted.values) && is_same_value(&known.returned, there)
    }) {
        return Relation::Normalized;
    }
    Relation::Differs
}

fn is_same_value(one: &[Value], two: &[Value]) -> bool {
    are_equal(None, one, two)
}

/// Returns all values that must change.
pub fn find_differences(
    desired: &DesiredAccount<'_>,
    account: &Account,
    population: &Population,
) -> Vec<ValueChange> {
    desired
        .wanted
        .iter()
        .filter(|wanted| relation_to_account(wanted, account, population) == Relation::Differs)
        .map(|wanted| {
            let there = account.attributes.get(&wanted.mapping.attribute);
            let given = population
                .managed_values
                .get(&(account.id, wanted.mapping.attribute.clone()))
                .map_or(&[][..], Vec::as_slice);
            ValueChange {
                attribute: wanted.mapping.attribute.clone(),
                before: there.to_vec(),
                after: target_values(wanted, wanted.def, there, given),
                rule: wanted.mapping.place.clone(),
                later: Vec::new(),
            }
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
        let exact = AttributeDef {
            case_exact: true,
            ..AttributeDef::text("externalId")
        };
        assert!(are_equal(Some(&loose), &texts(&["Ada"]), &texts(&["ada"])));
        assert!(!are_equal(Some(&exact), &texts(&["Ada"]), &texts(&["ada"])));
        assert!(are_equal(
            Some(&exact),
            &texts(&["b", "a"]),
            &texts(&["a", "b"])
        ));
        assert!(!are_equal(
            Some(&loose),
            &texts(&["a"]),
            &texts(&["a", "b"])
        ));
    }

    #[test]
    fn a_truth_is_a_truth_however_it_is_held() {
        assert!(are_equal(None, &[Value::Bool(true)], &texts(&["true"])));
    }
}
