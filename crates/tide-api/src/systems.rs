//! Connected systems, their tests, readings and accounts.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::Attribute;

/// One step of a system's test.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct CheckStep {
    /// What was tried.
    pub name: String,
    /// `passed`, `warned` or `failed`.
    pub state: String,
    /// What was found.
    pub said: String,
    /// What to do about it.
    pub remedy: Option<String>,
    /// A word for programs, when it failed.
    pub code: Option<String>,
}

/// What a test of a system found.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct CheckReport {
    /// No step failed.
    pub healthy: bool,
    /// The steps.
    pub steps: Vec<CheckStep>,
}

/// The last enumeration of a system.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Reading {
    /// The type that was read.
    pub object: String,
    /// `running`, `complete` or `broken`.
    pub state: String,
    /// How many accounts it showed.
    pub seen: i64,
    /// When it began.
    pub started: String,
    /// When it ended.
    pub ended: Option<String>,
    /// What broke it.
    pub error: Option<String>,
}

/// A connected system.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct System {
    /// Its name.
    pub name: String,
    /// `ldap` or `scim`.
    pub kind: String,
    /// Where it is.
    pub address: String,
    /// Its settings, without secrets.
    #[schema(value_type = Object)]
    pub settings: serde_json::Value,
    /// `person`, `service`, `group`: the types that may be written. None is read-only.
    pub writable: Vec<String>,
    /// Paused by an operator.
    pub paused: bool,
    /// Did the last test find it well? Missing while it was never tested.
    pub healthy: Option<bool>,
    /// When it was last tested.
    pub checked_at: Option<String>,
    /// The steps of the last test.
    pub steps: Vec<CheckStep>,
    /// How many accounts it holds.
    pub accounts: i64,
    /// How many of them are linked to an identity.
    pub linked: i64,
    /// Its last readings, by type.
    pub readings: Vec<Reading>,
    /// Does it give identities their values, are its accounts kept by us, by the published rules?
    pub roles: Vec<String>,
}

/// A system to add, or to test before it is added.
#[derive(Serialize, Deserialize, ToSchema)]
pub struct NewSystem {
    /// Its name; may be left out when it is only tested.
    #[serde(default)]
    pub name: String,
    /// `ldap` or `scim`.
    pub kind: String,
    /// Its settings.
    #[schema(value_type = Object)]
    pub settings: serde_json::Value,
    /// The password or token. It is sealed and never shown again.
    #[serde(default)]
    pub secret: Option<String>,
}

/// A system's state, where it is to change.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct SystemState {
    /// The types that may be written.
    pub writable: Option<Vec<String>>,
    /// Paused.
    pub paused: Option<bool>,
}

/// A new secret.
#[derive(Serialize, Deserialize, ToSchema)]
pub struct NewSecret {
    /// The password or token.
    pub secret: String,
}

/// An attribute of a system, as it describes itself.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SchemaAttribute {
    /// Its name.
    pub name: String,
    /// How its values look.
    pub kind: String,
    /// May it hold several values?
    pub many: bool,
    /// Must it hold one?
    pub required: bool,
    /// May we write it?
    pub writable: bool,
}

/// What came of reading one type of a system.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ReadResult {
    /// The type.
    pub object: String,
    /// How many accounts were shown.
    pub seen: i64,
    /// How many are absent from now on.
    pub absent: i64,
    /// What broke it. Then nobody is absent by it.
    pub error: Option<String>,
    /// What to do about that.
    pub remedy: Option<String>,
}

/// An account, as last observed.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Account {
    /// Its number here.
    pub id: i64,
    /// The system.
    pub system: String,
    /// What people call it there.
    pub name: String,
    /// Its lasting key there.
    pub key: String,
    /// The identity it is linked to.
    pub identity: Option<String>,
    /// When it was last seen.
    pub seen: String,
    /// Since when a complete read no longer finds it.
    pub absent_since: Option<String>,
    /// What is broken in it.
    pub fault: Option<String>,
    /// Its values.
    pub attributes: Vec<Attribute>,
}
