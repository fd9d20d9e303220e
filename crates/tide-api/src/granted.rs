//! What people are given beside accounts: seats of licences and passwords; and who was told of
//! what.

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
    /// What people call it.
    pub label: String,
    /// Its name in the system.
    pub name: String,
    /// How it came about: `rule` (joined by what they are), `mapped` (a member where the group
    /// comes from), `hand`.
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
    /// What people call them.
    pub label: String,
    /// By what they are ordered, as the rule gives it.
    pub order: String,
}

/// A licence whose seats are counted.
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
    /// Who waits for one, the first in line first.
    pub waiting: Vec<SeatWaiter>,
    /// How many days are looked ahead.
    pub ahead_days: i64,
    /// How many more will want a seat by then, if nothing else changes.
    pub starting: usize,
    /// How many give one back by then.
    pub leaving: usize,
    /// How many are wanted then: those in use and those who wait or start, without those who leave.
    pub needed: usize,
    /// Where it stands, as `file:line`.
    pub rule: String,
}

/// A notification that a rule sent.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct NotificationRecord {
    /// Its number; who carries it is given it too.
    pub id: i64,
    /// The rule, by its name.
    pub rule: String,
    /// What happened.
    pub event: NotificationEvent,
    /// Whom it is about.
    pub identity: String,
    /// What people call them.
    pub label: String,
    /// The group, system or licence.
    pub about: Option<String>,
    /// The recipients: names, addresses, or `the operators`.
    pub recipients: Vec<String>,
    /// The text.
    pub text: String,
    /// The webhook that delivers it; none: it is only listed.
    pub webhook: Option<String>,
    /// When it was noticed (UTC).
    #[schema(format = DateTime)]
    pub created_at: String,
    /// When it was carried (UTC).
    #[schema(format = DateTime)]
    pub sent_at: Option<String>,
    /// Why it is not carried yet.
    pub error: Option<String>,
    /// The answer of the webhook, as JSON: what was created for this person.
    pub answer: Option<String>,
}

/// Which notices are listed.
#[derive(Debug, Clone, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct NotificationQuery {
    /// Only about this identity.
    pub identity: Option<String>,
    /// Only those that wait to be carried.
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
    /// Is it to be changed at the next log-in, where the system knows that?
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
    /// Whose it is, if that is known yet.
    pub identity: Option<String>,
    /// When it was set (UTC).
    #[schema(format = DateTime)]
    pub created_at: String,
    /// The system that told of it; nothing when an operator set it.
    pub origin: Option<String>,
    /// Is it to be changed at the next log-in?
    pub must_change: bool,
    /// Systems that do not have it yet.
    pub missing: Vec<String>,
    /// Of these, the systems that refused it, each with its answer.
    pub refused: BTreeMap<String, String>,
    /// Nothing more is to be done for it: every account has it, or it has ended.
    pub is_settled: bool,
    /// When nothing more was to be done for it (UTC).
    #[schema(format = DateTime)]
    pub ended_at: Option<String>,
    /// How that ended.
    pub outcome: Option<String>,
}
