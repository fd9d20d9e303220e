//! Roles: named bundles of values, held by condition or by hand, nested. What accounts, groups and
//! licenses they bring follows from rules that read `identity.roles` and the values.

use crate::expr::EvalInputs;
use crate::model::ROLES;
use crate::model::{Identity, KeptRoles, RoleGrant};
use crate::reasons::{Reason, ReasonKind};
use crate::rules::RuleSet;
use crate::rules::roles::{Role, RoleValue};
use crate::states::{ObjectType, RoleOrigin};
use crate::value::{Attributes, Value};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use std::fmt;

/// A role of a person, with its origin.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct HeldRole {
    /// The role.
    pub role: String,
    /// By what.
    pub source: RoleSource,
}

/// The origin of a role.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum RoleSource {
    /// Its condition, an expression, holds.
    Condition(String),
    /// An operator gave it.
    Grant(String),
    /// Another role includes it.
    Included(String),
    /// It is in its overlap, until a moment.
    Kept(Timestamp),
}

impl RoleSource {
    /// Which kind of thing.
    pub fn origin(&self) -> RoleOrigin {
        match self {
            RoleSource::Condition(_) => RoleOrigin::Condition,
            RoleSource::Grant(_) => RoleOrigin::Grant,
            RoleSource::Included(_) => RoleOrigin::Included,
            RoleSource::Kept(_) => RoleOrigin::Kept,
        }
    }
}

/// The sentence that people read.
impl fmt::Display for RoleSource {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            RoleSource::Condition(when) => f.write_str(when),
            RoleSource::Grant(operator) => write!(f, "granted by {operator}"),
            RoleSource::Included(role) => write!(f, "included in {role}"),
            RoleSource::Kept(until) => {
                write!(f, "kept until {}", until.strftime("%Y-%m-%d %H:%M UTC"))
            }
        }
    }
}

/// A conflict between roles about one attribute.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct RoleConflict {
    /// The identity.
    pub identity: String,
    /// Their label.
    pub label: String,
    /// The attribute.
    pub attribute: String,
    /// The role whose value wins, and the value.
    pub wins: (String, Vec<Value>),
    /// The others, the highest first.
    pub over: Vec<(String, Vec<Value>)>,
}

/// The value of an attribute that roles decide.
#[derive(Debug, Clone)]
pub struct ResolvedValue<'r> {
    /// The role whose value wins.
    pub role: &'r Role,
    /// Its rule.
    pub value: &'r RoleValue,
    /// The values; of an attribute with several, those of all roles.
    pub values: Vec<Value>,
    /// Roles with other values, by descending priority.
    pub over: Vec<(String, Vec<Value>)>,
}

/// The roles that are only kept for a while: roles that an identity had before and that nothing
/// gives it any more.
pub fn roles_in_overlap(
    rules: &RuleSet,
    stored: &Identity,
    held: &[HeldRole],
    now: Timestamp,
) -> KeptRoles {
    let (kind, before) = (stored.kind, &stored.attributes);
    let zone = rules.zone(kind);
    let had = |role: &Role| {
        before
            .get(ROLES)
            .iter()
            .any(|value| value.to_string() == role.name)
    };
    let lost = |role: &&Role| {
        role.kind == kind
            && role.overlap_days > 0
            && had(role)
            && !held.iter().any(|one| one.role == role.name)
    };
    let until = |role: &Role| {
        stored
            .kept_roles
            .get(&role.name)
            .copied()
            .unwrap_or_else(|| crate::lifecycle::days_later(now, role.overlap_days, &zone))
    };
    rules
        .roles
        .iter()
        .filter(lost)
        .map(|role| (role.name.clone(), until(role)))
        .filter(|(_, until)| *until > now)
        .collect()
}

/// The roles of a person, by name, each with its origin.
///
/// # Errors
///
/// A condition that cannot be answered.
pub fn roles_of(
    rules: &RuleSet,
    kind: ObjectType,
    attributes: &Attributes,
    grants: &[&RoleGrant],
    now: Timestamp,
) -> Result<Vec<HeldRole>, Reason> {
    let values = EvalInputs {
        account: None,
        identity: Some(attributes),
    };
    let mut all: BTreeMap<&str, RoleSource> = BTreeMap::new();
    for role in rules.roles.iter().filter(|role| role.kind == kind) {
        let given = grants
            .iter()
            .find(|grant| grant.role == role.name && grant.holds(now));
        let fits = match &role.when {
            None => false,
            Some(when) => when.holds(&values).map_err(|error| {
                Reason::by(
                    ReasonKind::RoleFailed {
                        role: role.name.clone(),
                        error: error.to_string(),
                        expression: when.source().to_owned(),
                    },
                    &role.place,
                )
            })?,
        };
        match (given, &role.when) {
            (Some(grant), _) => {
                all.insert(&role.name, RoleSource::Grant(grant.principal.clone()));
            }
            (None, Some(when)) if fits => {
                all.insert(&role.name, RoleSource::Condition(when.source().to_owned()));
            }
            _ => {}
        }
    }
    Ok(with_others(rules, all))
}

/// Roles with those that they bring.
fn with_others<'r>(rules: &'r RuleSet, mut all: BTreeMap<&'r str, RoleSource>) -> Vec<HeldRole> {
    let mut left: Vec<&str> = all.keys().copied().collect();
    while let Some(name) = left.pop() {
        let Some(role) = rules.roles.iter().find(|role| role.name == name) else {
            continue;
        };
        for other in &role.includes {
            if !all.contains_key(other.as_str()) {
                all.insert(other, RoleSource::Included(name.to_owned()));
                left.push(other);
            }
        }
    }
    all.into_iter()
        .map(|(role, source)| HeldRole {
            role: role.to_owned(),
            source,
        })
        .collect()
}

/// The roles of a person, with roles in their overlap and included ones.
pub fn with_kept(rules: &RuleSet, held: Vec<HeldRole>, kept: &KeptRoles) -> Vec<HeldRole> {
    if kept.is_empty() {
        return held;
    }
    let mut sources: BTreeMap<&str, RoleSource> = BTreeMap::new();
    for role in &rules.roles {
        if let Some(one) = held.iter().find(|one| one.role == role.name) {
            sources.insert(&role.name, one.source.clone());
        } else if let Some(until) = kept.get(&role.name) {
            sources.insert(&role.name, RoleSource::Kept(*until));
        }
    }
    with_others(rules, sources)
}

/// The values that the roles of a person set.
///
/// # Errors
///
/// A value that cannot be worked out.
pub fn role_values<'r>(
    rules: &'r RuleSet,
    kind: ObjectType,
    attributes: &Attributes,
    held: &BTreeSet<&str>,
) -> Result<Vec<ResolvedValue<'r>>, Reason> {
    let Some(declared) = rules.identities.get(&kind) else {
        return Ok(Vec::new());
    };
    let read = EvalInputs {
        account: None,
        identity: Some(attributes),
    };
    let mut roles: Vec<&Role> = rules
        .roles
        .iter()
        .filter(|role| role.kind == kind && held.contains(role.name.as_str()))
        .collect();
    // The check ensures that equal priorities never supply different values of one attribute.
    roles.sort_by(|a, b| {
        b.priority
            .cmp(&a.priority)
            .then_with(|| a.name.cmp(&b.name))
    });
    let mut all = Vec::new();
    for attribute in &declared.attributes {
        let says = |binding: bool| {
            roles
                .iter()
                .filter_map(|role| value_of(role, &attribute.name, binding, &read))
                .collect::<Result<Vec<_>, Reason>>()
        };
        let mut candidates = says(true)?;
        if candidates.is_empty() && attributes.get(&attribute.name).is_empty() {
            candidates = says(false)?;
        }
        let Some((role, value, first)) = candidates.first().cloned() else {
            continue;
        };
        if attribute.multi_valued {
            let values = distinct_values(&candidates);
            all.push(ResolvedValue {
                role,
                value,
                values,
                over: Vec::new(),
            });
            continue;
        }
        let over = candidates
            .into_iter()
            .skip(1)
            .filter(|(.., values)| *values != first)
            .map(|(role, _, values)| (role.name.clone(), values));
        all.push(ResolvedValue {
            role,
            value,
            over: over.collect(),
            values: first,
        });
    }
    Ok(all)
}

/// A role, its rule for an attribute, and the values that this gives.
type RoleCandidate<'r> = (&'r Role, &'r RoleValue, Vec<Value>);

/// The value that a role gives an attribute, if it gives one.
fn value_of<'r>(
    role: &'r Role,
    attribute: &str,
    binding: bool,
    read: &EvalInputs<'_>,
) -> Option<Result<RoleCandidate<'r>, Reason>> {
    let own = role.values.iter().find(|value| {
        value.binding == binding && value.attribute.eq_ignore_ascii_case(attribute)
    })?;
    let values = own.value.run(read).map_err(|error| {
        let kind = ReasonKind::RoleValueFailed {
            attribute: attribute.to_owned(),
            role: role.name.clone(),
            error: error.to_string(),
            expression: own.value.source().to_owned(),
        };
        Reason::by(kind, &own.place)
    });
    Some(values.map(|values| (role, own, values)))
}

/// The values of all candidates, each once.
fn distinct_values(candidates: &[RoleCandidate<'_>]) -> Vec<Value> {
    let mut values: Vec<Value> = Vec::new();
    for one in candidates.iter().flat_map(|(.., values)| values) {
        if !values.contains(one) {
            values.push(one.clone());
        }
    }
    values
}
