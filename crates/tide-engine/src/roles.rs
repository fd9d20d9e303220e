//! Roles with their holders, origins and conflicts.

use crate::{Engine, EngineError};
use jiff::Timestamp;
use std::collections::BTreeMap;
use std::sync::Arc;
use tide_core::impact::{Impact, compute_impact};
use tide_core::model::{ROLES, RoleGrant};
use tide_core::roles::{HeldRole, RoleConflict, RoleSource};
use tide_core::rules::roles::Role;
use tide_core::{Outcome, Population, RuleSet, Value, decide};

/// A role and who holds it.
#[derive(Debug, Clone)]
pub struct RoleView {
    /// The role.
    pub role: Role,
    /// Its holders: identity, label, origin, and end if the assignment is temporary.
    pub holders: Vec<Holder>,
}

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

/// The simulation of another condition of a role.
#[derive(Debug, Clone)]
pub struct RoleSimulation {
    /// People who would gain roles, with the reason.
    pub gains: Vec<(String, Holder)>,
    /// People who would lose roles; with the reason if they keep them for a while.
    pub loses: Vec<(String, Holder)>,
    /// New conflicts between roles.
    pub conflicts: Vec<RoleConflict>,
    /// The impact on accounts and values.
    pub effect: Impact,
}

impl Holder {
    /// Held for the grace period only: no assignment gives it any more.
    fn is_kept(&self) -> bool {
        matches!(self.source, Some(RoleSource::Kept(_)))
    }
}

impl Engine {
    /// The effect of another condition of a role, or of none: who gains and who loses the role
    /// and those that it includes. The same records are decided twice; nothing is stored or sent.
    pub async fn try_role(&self, name: &str, when: &str) -> Result<RoleSimulation, EngineError> {
        let now = self.now();
        let (rules, population) = self.load_inputs(now).await?;
        let mut new = rules.set.clone();
        let place = new
            .roles
            .iter()
            .position(|role| role.name == name)
            .ok_or_else(|| no_role(&rules.set, name))?;
        new.roles[place].when = match when.trim() {
            "" => None,
            text => Some(
                new.compile_expression(new.roles[place].kind, None, text)
                    .map_err(|error| EngineError::Invalid(format!("invalid condition: {error}")))?,
            ),
        };
        let name = name.to_owned();
        let work = move || {
            let (old, outcome) = (&rules.set, decide(&rules.set, &population, now));
            let other = decide(&new, &population, now);
            let (before, after) = (
                turns(old, &population, &outcome, now),
                turns(&new, &population, &other, now),
            );
            let only = |one: &Turns, other: &Turns| -> Vec<(String, Holder)> {
                let all = one.iter().filter(|(key, holder)| {
                    !holder.is_kept() && other.get(*key).is_none_or(Holder::is_kept)
                });
                let mut all: Vec<(String, Holder)> = all
                    .map(|((role, _), holder)| (role.clone(), holder.clone()))
                    .collect();
                all.sort_by(|(a, one), (b, other)| {
                    (*a != name, a, &one.label).cmp(&(*b != name, b, &other.label))
                });
                all
            };
            let gains = only(&after, &before);
            let mut loses = only(&before, &after);
            for (role, holder) in &mut loses {
                // What counts for them is what they keep of it.
                holder.source = after
                    .get(&(role.clone(), holder.identity.clone()))
                    .and_then(|kept| kept.source.clone());
            }
            let conflicts = other
                .conflicts
                .iter()
                .filter(|one| !outcome.conflicts.contains(one))
                .cloned()
                .collect();
            RoleSimulation {
                gains,
                loses,
                conflicts,
                effect: compute_impact(&outcome, &other),
            }
        };
        self.compute(Some(crate::compute::PATIENCE), work).await
    }

    /// All roles with who holds them, and where roles differ.
    pub async fn list_roles(&self) -> Result<(Vec<RoleView>, Vec<RoleConflict>), EngineError> {
        let now = self.now();
        let (rules, population, outcome) = self.decide_now().await?;
        let mut holders: BTreeMap<String, Vec<Holder>> = BTreeMap::new();
        for ((role, _), holder) in turns(&rules.set, &population, &outcome, now) {
            holders.entry(role).or_default().push(holder);
        }
        let mut views: Vec<RoleView> = Vec::new();
        for role in &rules.set.roles {
            let mut theirs = holders.remove(&role.name).unwrap_or_default();
            theirs.sort_by(|a, b| (&a.label, &a.identity).cmp(&(&b.label, &b.identity)));
            views.push(RoleView {
                role: role.clone(),
                holders: theirs,
            });
        }
        Ok((views, outcome.conflicts))
    }

    /// Grants a role to a person, from now or a moment, permanently or until a moment.
    pub async fn give_role(
        self: &Arc<Self>,
        grant: RoleGrant,
        comment: &str,
        principal: &str,
    ) -> Result<(), EngineError> {
        let rules = self.published_rules().await?;
        if !rules.set.roles.iter().any(|role| role.name == grant.role) {
            return Err(no_role(&rules.set, &grant.role));
        }
        if let (Some(from), Some(until)) = (grant.from, grant.until)
            && until <= from
        {
            return Err(EngineError::Invalid(
                "the end of the grant is before its start".to_owned(),
            ));
        }
        self.store
            .give_role(grant, comment.trim(), principal, self.now())
            .await?;
        self.wake.notify_one();
        Ok(())
    }

    /// Revokes a granted role.
    pub async fn take_role(
        self: &Arc<Self>,
        identity: &str,
        role: &str,
        principal: &str,
    ) -> Result<(), EngineError> {
        self.store
            .take_role(identity, role, principal, self.now())
            .await?;
        self.wake.notify_one();
        Ok(())
    }
}

fn no_role(rules: &RuleSet, name: &str) -> EngineError {
    let names: Vec<&str> = rules.roles.iter().map(|role| role.name.as_str()).collect();
    let known = if names.is_empty() {
        "roles.toml declares none".to_owned()
    } else {
        format!("there are {}", names.join(", "))
    };
    EngineError::NotFound(format!("there is no role `{name}`: {known}"))
}

/// The holders, by role and identity.
type Turns = BTreeMap<(String, String), Holder>;

fn turns(rules: &RuleSet, population: &Population, outcome: &Outcome, now: Timestamp) -> Turns {
    let mut all = Turns::new();
    for (identity, label) in outcome
        .identities
        .iter()
        .filter(|(identity, _)| !identity.attributes.get(ROLES).is_empty())
    {
        let theirs: Vec<&RoleGrant> = population
            .role_grants
            .iter()
            .filter(|grant| grant.identity == identity.id)
            .collect();
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
fn held_by(
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
