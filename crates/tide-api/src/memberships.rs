//! Memberships of groups.

use crate::MembershipOrigin;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A group in one system with a person as its member, or a member of a group.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Membership {
    /// The system.
    pub system: String,
    /// The group's or the member's identity, if they have one.
    pub identity: Option<String>,
    /// Its display name.
    pub label: String,
    /// Its name in the system.
    pub name: String,
    /// The origin of the membership.
    pub origin: MembershipOrigin,
    /// Since when, for those that a rule gave (UTC).
    #[schema(format = DateTime)]
    pub since: Option<String>,
}

/// The groups of a person, or the members of a group.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Memberships {
    /// The groups that its accounts are direct members of.
    pub groups: Vec<Membership>,
    /// The members of a group, in each system, by name; the first thousand.
    pub members: Vec<Membership>,
    /// How many members there are in all.
    pub count: usize,
}
