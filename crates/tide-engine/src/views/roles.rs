//! Roles with their holders, origins and conflicts.

use crate::error::EngineError;
use crate::kept::{Holder, Turns, turns};
use crate::views::Views;
use tide_core::impact::{Impact, compute_impact};
use tide_core::roles::RoleConflict;
use tide_core::rules::roles::Role;
use tide_core::{RuleSet, decide};
use tide_store::{Holding, HoldingDetail, HoldingFilter, HoldingKind};

/// The most conflicts in one answer.
const MOST_CONFLICTS: i64 = 200;

/// A role and how many hold it.
#[derive(Debug, Clone)]
pub struct RoleView {
    /// The role.
    pub role: Role,
    /// The number of its holders.
    pub holder_count: i64,
}

/// All roles, and where they differ.
#[derive(Debug, Clone)]
pub struct RoleList {
    /// The roles, in the order of the file.
    pub roles: Vec<RoleView>,
    /// The first conflicts between roles.
    pub conflicts: Vec<RoleConflict>,
    /// How many conflicts there are.
    pub conflict_count: i64,
}

/// A page of the holders of a role.
#[derive(Debug, Clone)]
pub struct HolderPage {
    /// The holders, by label.
    pub holders: Vec<Holder>,
    /// How many there are in all.
    pub count: i64,
    /// Where the next page begins.
    pub next: Option<String>,
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

pub(crate) fn no_role(rules: &RuleSet, name: &str) -> EngineError {
    let names: Vec<&str> = rules.roles.iter().map(|role| role.name.as_str()).collect();
    let known = if names.is_empty() {
        "roles.toml declares none".to_owned()
    } else {
        format!("there are {}", names.join(", "))
    };
    EngineError::NotFound(format!("there is no role `{name}`: {known}"))
}

impl Views {
    /// The effect of another condition of a role, or of none: who gains and who loses the role
    /// and those that it includes. The same records are decided twice; nothing is stored or sent.
    pub async fn try_role(&self, name: &str, when: &str) -> Result<RoleSimulation, EngineError> {
        let now = self.context.now();
        let (rules, population) = self.decider.full().load_inputs(now).await?;
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
        self.decider
            .full()
            .compute(Some(crate::full::PATIENCE), work)
            .await
    }

    /// All roles with the number of their holders, and where roles differ, as decided last.
    pub async fn list_roles(&self) -> Result<RoleList, EngineError> {
        let rules = self.rules.published_rules().await?;
        self.decider.refresh_outcomes().await?;
        let counts = self.context.store.holding_counts(HoldingKind::Role).await?;
        let filter = HoldingFilter {
            limit: MOST_CONFLICTS,
            ..HoldingFilter::default()
        };
        let conflicts = self
            .context
            .store
            .list_holdings(HoldingKind::RoleConflict, &filter)
            .await?;
        let roles = rules.set.roles.iter().map(|role| RoleView {
            role: role.clone(),
            holder_count: counts.get(&role.name).copied().unwrap_or_default(),
        });
        let found = conflicts.items.into_iter();
        Ok(RoleList {
            roles: roles.collect(),
            conflicts: found
                .filter_map(|one| match one.detail {
                    HoldingDetail::Conflict(conflict) => Some(conflict),
                    _ => None,
                })
                .collect(),
            conflict_count: conflicts.count,
        })
    }

    /// A page of the holders of a role, with the origin of each, as decided last.
    pub async fn list_holders(
        &self,
        role: &str,
        filter: HoldingFilter,
    ) -> Result<HolderPage, EngineError> {
        let rules = self.rules.published_rules().await?;
        if !rules.set.roles.iter().any(|one| one.name == role) {
            return Err(no_role(&rules.set, role));
        }
        self.decider.refresh_outcomes().await?;
        let filter = HoldingFilter {
            name: Some(role.to_owned()),
            ..filter
        };
        let page = self
            .context
            .store
            .list_holdings(HoldingKind::Role, &filter)
            .await?;
        let holder = |one: Holding| match one.detail {
            HoldingDetail::Role { source, until } => Some(Holder {
                identity: one.identity,
                label: one.label,
                source,
                until,
            }),
            _ => None,
        };
        Ok(HolderPage {
            holders: page.items.into_iter().filter_map(holder).collect(),
            count: page.count,
            next: page.next,
        })
    }
}
