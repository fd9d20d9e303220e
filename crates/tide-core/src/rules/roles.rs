//! The rules of `roles.toml`: named bundles of values.

use crate::expr::Program;
use crate::reasons::Place;
use crate::states::ObjectType;

/// One role.
#[derive(Debug, Clone)]
pub struct Role {
    /// Its name.
    pub name: String,
    /// Of what it is a role.
    pub kind: ObjectType,
    /// The condition of its holders; without one, it is granted manually only.
    pub when: Option<Program>,
    /// Roles that it brings with it.
    pub includes: Vec<String>,
    /// Which role's value counts where several set one: the highest.
    pub priority: i64,
    /// Days of overlap after its condition, or the role that includes it, no longer holds.
    pub overlap_days: u32,
    /// Its values.
    pub values: Vec<RoleValue>,
    /// Its location in the rule files.
    pub place: Place,
}

/// A value that a role gives an attribute of an identity.
#[derive(Debug, Clone)]
pub struct RoleValue {
    /// The attribute.
    pub attribute: String,
    /// The value.
    pub value: Program,
    /// Whether it overrides sources. A default counts only where no source supplies a value.
    pub binding: bool,
    /// Its location in the rule files.
    pub place: Place,
}
