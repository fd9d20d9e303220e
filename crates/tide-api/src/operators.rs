//! Operators: who they are, and to which groups of operators they belong.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// An operator.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Operator {
    /// What people call it.
    pub name: String,
    /// The groups of operators that it belongs to: approvals name them.
    pub groups: Vec<String>,
    /// The identity that it is, if that is known: a manager approves as themselves.
    pub identity: Option<String>,
    /// What people call that identity.
    pub person: Option<String>,
    /// When it was made.
    #[schema(format = DateTime)]
    pub created_at: String,
    /// When its rights were taken back.
    #[schema(format = DateTime)]
    pub ended_at: Option<String>,
}

/// An operator to add, or what is to be said of one.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewOperator {
    /// What people call it.
    pub name: String,
    /// The groups of operators that it belongs to.
    #[serde(default)]
    pub groups: Vec<String>,
    /// The person that it is, by name, number, address or id.
    #[serde(default)]
    pub person: Option<String>,
}

/// An operator that was added, with its token: it is shown this once.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct AddedOperator {
    /// What people call it.
    pub name: String,
    /// The token to sign in with.
    pub token: String,
}
