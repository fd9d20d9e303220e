//! Who holds which roles, by what, and where roles differ.

use crate::{Engine, EngineError};
use jiff::Timestamp;
use std::collections::BTreeMap;
use std::sync::Arc;
use tide_core::Value;
use tide_core::roles::{Conflict, Grant, Held, ROLES, Role};

/// A role and who holds it.
#[derive(Debug, Clone)]
pub struct RoleView {
    /// The role.
    pub role: Role,
    /// Who holds it: identity, label, by what, and until when if it was given for a time.
    pub holders: Vec<Holder>,
}

/// Somebody who holds a role.
#[derive(Debug, Clone)]
pub struct Holder {
    /// Their identity.
    pub identity: String,
    /// What people call them.
    pub label: String,
    /// By what.
    pub by: String,
    /// Until when, if it was given for a time.
    pub until: Option<Timestamp>,
}

impl Engine {
    /// All roles with who holds them, and where roles differ.
    pub async fn roles(&self) -> Result<(Vec<RoleView>, Vec<Conflict>), EngineError> {
        let now = self.now();
        let (rules, population, outcome) = self.decide_now().await?;
        let mut holders: BTreeMap<String, Vec<Holder>> = BTreeMap::new();
        for (identity, label) in outcome.identities.iter().filter(|(identity, _)| !identity.attributes.get(ROLES).is_empty()) {
            let theirs: Vec<&Grant> = population.grants.iter().filter(|grant| grant.identity == identity.id).collect();
            let by = held_by(&rules.set, identity, &theirs, now);
            for name in identity.attributes.get(ROLES).iter().map(Value::to_string) {
                let given = theirs.iter().find(|grant| grant.role == name && grant.holds(now));
                holders.entry(name.clone()).or_default().push(Holder {
                    identity: identity.id.clone(),
                    label: label.clone(),
                    by: by.iter().find(|one| one.role == name).map_or_else(String::new, |one| one.by.clone()),
                    until: given.and_then(|grant| grant.until),
                });
            }
        }
        let mut views: Vec<RoleView> = Vec::new();
        for role in &rules.set.roles {
            let mut theirs = holders.remove(&role.name).unwrap_or_default();
            theirs.sort_by(|a, b| (&a.label, &a.identity).cmp(&(&b.label, &b.identity)));
            views.push(RoleView { role: role.clone(), holders: theirs });
        }
        Ok((views, outcome.conflicts))
    }

    /// Gives somebody a role, from now or a moment on, for good or until a moment.
    pub async fn give_role(self: &Arc<Self>, grant: Grant, comment: &str, principal: &str) -> Result<(), EngineError> {
        let rules = self.rules().await?;
        if !rules.set.roles.iter().any(|role| role.name == grant.role) {
            let names: Vec<&str> = rules.set.roles.iter().map(|role| role.name.as_str()).collect();
            let known = if names.is_empty() { "roles.toml names none".to_owned() } else { format!("there are {}", names.join(", ")) };
            return Err(EngineError::Refused(format!("there is no role `{}`: {known}", grant.role)));
        }
        if let (Some(from), Some(until)) = (grant.from, grant.until)
            && until <= from
        {
            return Err(EngineError::Refused("a role that ends before it begins is not given".to_owned()));
        }
        self.store.give_role(grant, comment.trim(), principal, self.now()).await?;
        self.nudge.notify_one();
        Ok(())
    }

    /// Takes from somebody a role that was given by hand.
    pub async fn take_role(self: &Arc<Self>, identity: &str, role: &str, principal: &str) -> Result<(), EngineError> {
        self.store.take_role(identity, role, principal, self.now()).await?;
        self.nudge.notify_one();
        Ok(())
    }
}

/// By what somebody holds their roles.
fn held_by(rules: &tide_core::RuleSet, identity: &tide_core::Identity, grants: &[&Grant], now: Timestamp) -> Vec<Held> {
    let mut attributes = identity.attributes.clone();
    attributes.set("id", vec![Value::text(&identity.id)]);
    attributes.set("stage", vec![Value::text(identity.stage.word())]);
    let held = tide_core::roles::held(rules, identity.kind, &attributes, grants, now).unwrap_or_default();
    let kept = tide_core::roles::kept(rules, identity.kind, &attributes, &held, now);
    tide_core::roles::with_kept(rules, held, &kept)
}
