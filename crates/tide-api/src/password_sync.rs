//! Passwords that are set in all systems of a person.

use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use utoipa::ToSchema;

/// A password to set. It is sealed at once, sent to all systems with password sync, and then
/// erased.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct SetPassword {
    /// The password.
    #[schema(format = Password)]
    pub password: String,
    /// Whether it must be changed at the next sign-in, where the system supports that.
    #[serde(default)]
    pub must_change: bool,
}

impl std::fmt::Debug for SetPassword {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("SetPassword")
            .field("must_change", &self.must_change)
            .finish_non_exhaustive()
    }
}

/// A password that was set, without the password.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct PasswordSyncStatus {
    /// Its number.
    pub id: i64,
    /// The identity, if it is known yet.
    pub identity: Option<String>,
    /// When it was set (UTC).
    #[schema(format = DateTime)]
    pub created_at: String,
    /// The system that reported it; absent if an operator set it.
    pub origin: Option<String>,
    /// Whether it must be changed at the next sign-in.
    pub must_change: bool,
    /// Systems that do not have it yet.
    pub missing: Vec<String>,
    /// Of these, the systems that refused it, each with its answer.
    pub refused: BTreeMap<String, String>,
    /// Whether it is settled: every account has it, or it has ended.
    pub is_settled: bool,
    /// When it was settled (UTC).
    #[schema(format = DateTime)]
    pub ended_at: Option<String>,
    /// How that ended.
    pub outcome: Option<String>,
}
