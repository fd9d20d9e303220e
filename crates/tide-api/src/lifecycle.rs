//! Where people stand in their lives, their departures, and how fast those who left lost their
//! access.

use crate::*;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// Something that a date says, past or to come.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Moment {
    /// When (UTC).
    #[schema(format = DateTime)]
    pub at: String,
    /// The same for people, to the minute, in the zone in which the date is meant.
    pub shown: String,
    /// `ready`, `starts`, `leaving` or `leaves`.
    pub transition: LifecycleTransition,
    /// What happens, in words.
    pub what: String,
    /// Is it over?
    pub past: bool,
}

/// A departure that an operator asked for.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Departure {
    /// Whom it is about.
    pub identity: String,
    /// What people call them; empty where that is known anyway.
    pub label: String,
    /// From when on they have left (UTC).
    #[schema(format = DateTime)]
    pub at: String,
    /// The operator.
    pub by: String,
    /// Why.
    pub comment: String,
}

/// The lifecycle of a person.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct LifecycleView {
    /// `expected`, `active`, `away`, `leaving` or `left`.
    pub stage: Stage,
    /// Why, where the rules say anything of it.
    pub reason: Option<String>,
    /// The rule behind it, as `file:line`.
    pub rule: Option<String>,
    /// Since when, if that is known (UTC).
    #[schema(format = DateTime)]
    pub since: Option<String>,
    /// What their dates say, in order.
    pub moments: Vec<Moment>,
    /// What an operator asked for.
    pub departure: Option<Departure>,
}

/// The start of a departure; empty: now.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema, IntoParams)]
#[serde(default)]
#[into_params(parameter_in = Query)]
pub struct NewDeparture {
    /// The moment, as RFC 3339 writes it.
    #[param(format = DateTime)]
    pub at: Option<String>,
    /// Or the last day (2026-12-31): it counts, in the zone that the rules name.
    pub last_day: Option<String>,
    /// Why.
    pub comment: String,
}

/// One change of a departure, as it would be sent.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DepartureChange {
    /// The system.
    pub system: String,
    /// What is done.
    pub kind: ChangeKind,
    /// Which departure step it is, from 1; 0 means none.
    pub step: u16,
    /// The values, in words.
    pub values: Vec<String>,
    /// Why it would wait, if it would.
    pub hold: Option<String>,
}

/// The impact of a departure.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DepartureImpactView {
    /// From when on they would have left (UTC).
    #[schema(format = DateTime)]
    pub at: String,
    /// The changes, in the order in which they would be sent.
    pub changes: Vec<DepartureChange>,
    /// Each of their accounts: the system, and what is to be said of it.
    pub notes: Vec<AccountNote>,
}

/// What is to be said of one account.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct AccountNote {
    /// The system.
    pub system: String,
    /// The words.
    pub message: String,
}

/// A way in that is not closed yet.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct OpenAccessView {
    /// The system.
    pub system: String,
    /// The change that is still to be made; nothing when a webhook was not reached.
    pub kind: Option<ChangeKind>,
    /// Why it is not done yet.
    pub reason: String,
}

/// A leaver.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Leaver {
    /// Their identity.
    pub identity: String,
    /// What people call them.
    pub label: String,
    /// From when on their access was to be closed: the moment that was due, or that in which a
    /// source showed it (UTC).
    #[schema(format = DateTime)]
    pub started_at: String,
    /// When the last change of the departure was confirmed (UTC).
    #[schema(format = DateTime)]
    pub confirmed_at: Option<String>,
    /// Seconds between the two, when nothing is open.
    pub seconds: Option<f64>,
    /// How many changes were confirmed.
    pub done: i64,
    /// Ways in that are not closed yet.
    pub open: Vec<OpenAccessView>,
    /// When they came back, if they did (UTC).
    #[schema(format = DateTime)]
    pub returned_at: Option<String>,
}

/// What is to be told of leavers.
#[derive(Debug, Clone, Default, Serialize, Deserialize, IntoParams)]
#[serde(default)]
#[into_params(parameter_in = Query)]
pub struct LeaversQuery {
    /// Omits open access, which needs a decision about all records.
    pub brief: bool,
}

/// How fast leavers lose their access.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct Leavers {
    /// The last ones, the newest first.
    pub leavers: Vec<Leaver>,
    /// Seconds from the start to the last confirmation: the median of those who are closed.
    pub median_seconds: Option<f64>,
    /// The worst of them.
    pub worst_seconds: Option<f64>,
    /// How many have a way in that is open.
    pub open: usize,
    /// Departures that operators asked for, the next first.
    pub planned: Vec<Departure>,
}
