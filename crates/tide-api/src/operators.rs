//! Operators and their groups.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// An operator.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Operator {
    /// Its display name.
    pub name: String,
    /// The groups of operators that it belongs to: approvals name them.
    pub groups: Vec<String>,
    /// The operator's own identity, if known: approvals by a manager need it.
    pub identity: Option<String>,
    /// The display name of that identity.
    pub person: Option<String>,
    /// When it was made.
    #[schema(format = DateTime)]
    pub created_at: String,
    /// When its rights were revoked.
    #[schema(format = DateTime)]
    pub ended_at: Option<String>,
}

/// An operator to add, or its new data.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewOperator {
    /// Its display name.
    pub name: String,
    /// The groups of operators that it belongs to.
    #[serde(default)]
    pub groups: Vec<String>,
    /// The person that it is, by name, number, address or id.
    #[serde(default)]
    pub person: Option<String>,
}

/// A new operator with its token, which is shown only once.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct AddedOperator {
    /// Its display name.
    pub name: String,
    /// The token to sign in with.
    pub token: String,
}
