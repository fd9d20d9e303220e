//! Seats of licenses, passwords, memberships and notifications.

use crate::*;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use utoipa::{IntoParams, ToSchema};

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

/// A person who waits for a seat.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SeatWaiter {
    /// Their identity.
    pub identity: String,
    /// Their display name.
    pub label: String,
    /// The value by which the rule orders those who wait.
    pub order: String,
}

/// A license whose seats are counted.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct LicenseUsage {
    /// Its name.
    pub name: String,
    /// The system whose accounts use its seats.
    pub system: String,
    /// How many seats there are.
    pub seats: usize,
    /// How many are in use, by the accounts that are there.
    pub used: usize,
    /// Which accounts use one.
    pub consumed_when: String,
    /// Who waits for one, in order.
    pub waiting: Vec<SeatWaiter>,
    /// The number of days of the forecast.
    pub ahead_days: i64,
    /// How many more will need a seat by then, if nothing else changes.
    pub starting: usize,
    /// How many will release one by then.
    pub leaving: usize,
    /// How many are needed then: those in use, waiting or starting, without those who leave.
    pub needed: usize,
    /// Its place, as `file:line`.
    pub rule: String,
}

/// A notification that a rule sent.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct NotificationRecord {
    /// Its number, which the webhook receives as well.
    pub id: i64,
    /// The rule, by its name.
    pub rule: String,
    /// The event.
    pub event: NotificationEvent,
    /// Whom it is about.
    pub identity: String,
    /// Their display name.
    pub label: String,
    /// The group, system or license.
    pub about: Option<String>,
    /// The recipients: names, addresses, or `the operators`.
    pub recipients: Vec<String>,
    /// The text.
    pub text: String,
    /// The webhook that delivers it; none: it is only listed.
    pub webhook: Option<String>,
    /// When it was created (UTC).
    #[schema(format = DateTime)]
    pub created_at: String,
    /// When it was delivered (UTC).
    #[schema(format = DateTime)]
    pub sent_at: Option<String>,
    /// Why it is not delivered yet.
    pub error: Option<String>,
    /// The answer of the webhook, as JSON: what was created for this person.
    pub answer: Option<String>,
}

/// Which notifications to list.
#[derive(Debug, Clone, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct NotificationQuery {
    /// Only about this identity.
    pub identity: Option<String>,
    /// Only those that wait for delivery.
    #[serde(default)]
    pub waiting: bool,
}

/// A password to set. It is sealed at once, sent to all systems with password sync, and then
/// erased.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct SetPassword {
    /// The password.
    #[schema(format = Password)]
    pub password: String,
    /// Whether it must be changed at the next log-in, where the system supports that.
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
    /// Whether it must be changed at the next log-in.
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
