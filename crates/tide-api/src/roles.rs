//! Roles, who holds them, and where they differ.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Somebody who holds a role.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RoleHolder {
    /// Their identity.
    pub identity: String,
    /// What people call them.
    pub label: String,
    /// By what: the role's condition, whoever gave it, the role that brings it.
    pub by: String,
    /// Until when, if it was given for a time (UTC).
    pub until: Option<String>,
}

/// A role and who holds it.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Role {
    /// Its name.
    pub name: String,
    /// `person`, `service` or `group`.
    pub object: String,
    /// Its condition, if it has one.
    pub when: Option<String>,
    /// Roles that it brings with it.
    pub includes: Vec<String>,
    /// Its priority: the highest counts.
    pub priority: i64,
    /// Its values, as `attribute = expression`; defaults are marked.
    pub values: Vec<String>,
    /// Where it stands, as `file:line`.
    pub rule: String,
    /// Who holds it.
    pub holders: Vec<RoleHolder>,
}

/// Where roles differ about one attribute of somebody.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RoleConflict {
    /// Whose.
    pub identity: String,
    /// What people call them.
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
    /// Where they differ.
    pub conflicts: Vec<RoleConflict>,
}

/// A role that is given by hand.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(default)]
pub struct GiveRole {
    /// To whom: the id of an identity.
    pub identity: String,
    /// From when on, as RFC 3339 writes it; at once without it.
    pub from: Option<String>,
    /// Until when; until it is taken without it.
    pub until: Option<String>,
    /// Why.
    pub comment: String,
}
