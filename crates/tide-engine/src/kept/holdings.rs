//! What people hold by a decision: roles and seats of licenses.

use jiff::Timestamp;
use std::collections::{BTreeMap, HashMap};
use tide_core::decide::licenses::seat_effects;
use tide_core::model::{ROLES, RoleGrant};
use tide_core::roles::{HeldRole, RoleSource};
use tide_core::{Outcome, Population, RuleSet, Value};
use tide_store::{Holding, HoldingDetail};

/// A holder of a role.
#[derive(Debug, Clone)]
pub struct Holder {
    /// Their identity.
    pub identity: String,
    /// Their label.
    pub label: String,
    /// By what; nothing of a role that is lost for good.
    pub source: Option<RoleSource>,
    /// Its end, if the assignment is temporary.
    pub until: Option<Timestamp>,
}

impl Holder {
    /// Held for the grace period only: no assignment gives it any more.
    pub(crate) fn is_kept(&self) -> bool {
        matches!(self.source, Some(RoleSource::Kept(_)))
    }
}

/// The holders, by role and identity.
pub(crate) type Turns = BTreeMap<(String, String), Holder>;

/// The roles that the identities of an outcome hold, and their conflicts.
pub(crate) fn role_holdings(
    rules: &RuleSet,
    population: &Population,
    outcome: &Outcome,
) -> Vec<Holding> {
    if rules.roles.is_empty() {
        return Vec::new();
    }
    let roles = turns(rules, population, outcome, outcome.at);
    let roles = roles.into_iter().map(|((role, _), holder)| Holding {
        name: role,
        identity: holder.identity,
        account: 0,
        label: holder.label,
        detail: HoldingDetail::Role {
            source: holder.source,
            until: holder.until,
        },
    });
    let conflicts = outcome.conflicts.iter().map(|conflict| Holding {
        name: conflict.attribute.clone(),
        identity: conflict.identity.clone(),
        account: 0,
        label: conflict.label.clone(),
        detail: HoldingDetail::Conflict(conflict.clone()),
    });
    roles.chain(conflicts).collect()
}

pub(crate) fn turns(
    rules: &RuleSet,
    population: &Population,
    outcome: &Outcome,
    now: Timestamp,
) -> Turns {
    let mut all = Turns::new();
    let mut grants: HashMap<&str, Vec<&RoleGrant>> = HashMap::new();
    for grant in &population.role_grants {
        grants.entry(&grant.identity).or_default().push(grant);
    }
    for (identity, label) in outcome
        .identities
        .iter()
        .filter(|(identity, _)| !identity.attributes.get(ROLES).is_empty())
    {
        let theirs = grants.get(identity.id.as_str()).cloned();
        let theirs = theirs.unwrap_or_default();
        let by = held_by(rules, identity, &theirs, now);
        for role in identity.attributes.get(ROLES).iter().map(Value::to_string) {
            let given = theirs
                .iter()
                .find(|grant| grant.role == role && grant.holds(now));
            let holder = Holder {
                identity: identity.id.clone(),
                label: label.clone(),
                source: by
                    .iter()
                    .find(|one| one.role == role)
                    .map(|one| one.source.clone()),
                until: given.and_then(|grant| grant.until),
            };
            all.insert((role, identity.id.clone()), holder);
        }
    }
    all
}

/// The roles of a person, with their origin.
pub(crate) fn held_by(
    rules: &RuleSet,
    identity: &tide_core::Identity,
    grants: &[&RoleGrant],
    now: Timestamp,
) -> Vec<HeldRole> {
    let mut attributes = identity.attributes.clone();
    attributes.set("id", vec![Value::text(&identity.id)]);
    attributes.set("stage", vec![Value::text(identity.stage.as_str())]);
    let held = tide_core::roles::roles_of(rules, identity.kind, &attributes, grants, now)
        .unwrap_or_default();
    let kept = tide_core::roles::roles_in_overlap(rules, identity, &held, now);
    tide_core::roles::with_kept(rules, held, &kept)
}

/// What an outcome does to seats.
pub(crate) fn seat_holdings(
    rules: &RuleSet,
    population: &Population,
    outcome: &Outcome,
) -> Vec<Holding> {
    let effects = seat_effects(rules, population, outcome).into_iter();
    let holding = effects.map(|effect| Holding {
        name: rules.licenses[effect.license].name.clone(),
        identity: effect.identity,
        account: effect.account.unwrap_or_default(),
        label: effect.label,
        detail: HoldingDetail::Seat(effect.seat, effect.order),
    });
    holding.collect()
}
