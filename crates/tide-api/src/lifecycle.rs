//! Lifecycles, departures, and how fast leavers lose access.

use crate::Reason;
use crate::*;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// A lifecycle date, past or future.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Moment {
    /// When (UTC).
    #[schema(format = DateTime)]
    pub at: String,
    /// The same in text, to the minute, in the time zone of the date.
    pub shown: String,
    /// `ready`, `starts`, `leaving` or `leaves`.
    pub transition: LifecycleTransition,
    /// The event, in words.
    pub what: String,
    /// Whether it is in the past.
    pub past: bool,
}

/// A departure that an operator asked for.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Departure {
    /// Whom it is about.
    pub identity: String,
    /// Their display name; empty if it is clear from the context.
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
    pub reason: Option<Reason>,
    /// The rule behind it, as `file:line`.
    pub rule: Option<String>,
    /// Since when, if that is known (UTC).
    #[schema(format = DateTime)]
    pub since: Option<String>,
    /// Their lifecycle dates, in order.
    pub moments: Vec<Moment>,
    /// The departure that an operator requested.
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
    /// Or the last day (2026-12-31), inclusive, in the time zone of the rules.
    pub last_day: Option<String>,
    /// Why.
    pub comment: String,
}

/// A change of a departure, as it would be sent.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DepartureChange {
    /// The system.
    pub system: String,
    /// The action.
    pub kind: ChangeKind,
    /// The departure step, from 1; 0 means none.
    pub step: u16,
    /// The values, in words.
    pub values: Vec<String>,
    /// Why it would wait, if it would.
    pub hold: Option<Reason>,
}

/// The impact of a departure.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DepartureImpactView {
    /// From when on they would have left (UTC).
    #[schema(format = DateTime)]
    pub at: String,
    /// The changes, in the order in which they would be sent.
    pub changes: Vec<DepartureChange>,
    /// Each of their accounts: the system, and its state.
    pub notes: Vec<AccountNote>,
}

/// The state of one account.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct AccountNote {
    /// The system.
    pub system: String,
    /// The words.
    pub message: String,
}

/// Access of a leaver that is not removed yet.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct OpenAccessView {
    /// The system.
    pub system: String,
    /// The outstanding change; absent if a webhook was not reached.
    pub kind: Option<ChangeKind>,
    /// Why it is not done yet.
    pub reason: Reason,
}

/// A leaver.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Leaver {
    /// Their identity.
    pub identity: String,
    /// Their display name.
    pub label: String,
    /// From when on their access was to be closed: the moment that was due, or that in which a
    /// source showed it (UTC).
    #[schema(format = DateTime)]
    pub started_at: String,
    /// When the last change of the departure was confirmed (UTC).
    #[schema(format = DateTime)]
    pub confirmed_at: Option<String>,
    /// Seconds between the two; absent while something is open.
    pub seconds: Option<f64>,
    /// How many changes were confirmed.
    pub done: i64,
    /// Access that is not removed yet.
    pub open: Vec<OpenAccessView>,
    /// When they came back, if they did (UTC).
    #[schema(format = DateTime)]
    pub returned_at: Option<String>,
}

/// The leavers and their outstanding access.
#[derive(Debug, Clone, Default, Serialize, Deserialize, IntoParams)]
#[serde(default)]
#[into_params(parameter_in = Query)]
pub struct LeaversQuery {
    /// Omits open access, which needs a decision about all records.
    pub brief: bool,
}

/// How long leavers keep their access.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct Leavers {
    /// The last ones, the newest first.
    pub leavers: Vec<Leaver>,
    /// Median of the seconds from the start to the last confirmation, of completed departures.
    pub median_seconds: Option<f64>,
    /// The worst of them.
    pub worst_seconds: Option<f64>,
    /// How many still have access.
    pub open: usize,
    /// Departures requested by operators, the earliest first.
    pub planned: Vec<Departure>,
}
