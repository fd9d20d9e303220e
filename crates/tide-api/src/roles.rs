//! Roles, their holders and their conflicts.

use crate::*;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A holder of a role.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RoleHolder {
    /// Their identity.
    pub identity: String,
    /// Their display name.
    pub label: String,
    /// The kind of its origin.
    pub origin: Option<RoleOrigin>,
    /// The same as a sentence: the condition, the operator who gave it, the role that includes it.
    pub by: String,
    /// Until when, if it was given for a time (UTC).
    #[schema(format = DateTime)]
    pub until: Option<String>,
}

/// A role and how many hold it.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Role {
    /// Its name.
    pub name: String,
    /// `person`, `service` or `group`.
    pub object: ObjectType,
    /// Its condition, if it has one.
    pub when: Option<String>,
    /// Roles that it includes.
    pub includes: Vec<String>,
    /// Its priority: the highest counts.
    pub priority: i64,
    /// Its values, as `attribute = expression`; defaults are marked.
    pub values: Vec<String>,
    /// Its place, as `file:line`.
    pub rule: String,
    /// How many hold it.
    pub holder_count: i64,
}

/// A page of the holders of a role.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct RoleHolders {
    /// The holders, by display name.
    pub items: Vec<RoleHolder>,
    /// How many there are in all.
    pub count: i64,
    /// Where the next page begins: `after` of the next request.
    pub next: Option<String>,
}

/// A conflict between roles about one attribute of a person.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RoleConflict {
    /// Whose.
    pub identity: String,
    /// Their display name.
    pub label: String,
    /// The attribute.
    pub attribute: String,
    /// The role whose value counts.
    pub role: String,
    /// The value.
    pub value: String,
    /// The others, the highest first, each with its value.
    pub over: Vec<String>,
}

/// All roles.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct Roles {
    /// The roles, in the order of the file.
    pub roles: Vec<Role>,
    /// Where they differ: the first 200, by display name.
    pub conflicts: Vec<RoleConflict>,
    /// How many conflicts there are.
    pub conflict_count: i64,
}

/// A condition of a role, to simulate.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(default)]
pub struct NewRoleSimulation {
    /// The condition, an expression about identities; nothing means that the role is only given by
    /// hand.
    pub when: String,
}

/// A person who would gain or lose a role.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RoleChange {
    /// The role: the simulated one, or one that it includes.
    pub role: String,
    /// Their identity.
    pub identity: String,
    /// Their display name.
    pub label: String,
    /// The kind of its origin after the edit; absent if it is lost.
    pub origin: Option<RoleOrigin>,
    /// The origin of the role after the edit; of a lost role, what keeps it during its grace
    /// period, or nothing.
    pub by: String,
}

/// The effect of another condition of a role.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RoleSimulationView {
    /// The result, in one sentence.
    pub message: String,
    /// Who would gain a role.
    pub gains: Vec<RoleChange>,
    /// Who would lose one.
    pub loses: Vec<RoleChange>,
    /// New conflicts between roles.
    pub conflicts: Vec<RoleConflict>,
    /// The impact on accounts and values.
    pub impact: crate::ImpactView,
}

/// A role that is given by hand.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(default)]
pub struct NewRoleGrant {
    /// To whom: the id of an identity.
    pub identity: String,
    /// The start (RFC 3339); at once if absent.
    #[schema(format = DateTime)]
    pub from: Option<String>,
    /// The end; without one, until it is revoked.
    pub until: Option<String>,
    /// Why.
    pub comment: String,
}
