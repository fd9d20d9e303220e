//! `tide-api` holds the requests and answers that the service and its clients share. The OpenAPI
//! document is generated from these types; nothing here does anything.

mod attention;
mod changes;
mod drafts;
mod identities;
mod licenses;
mod lifecycle;
mod matches;
mod memberships;
mod notifications;
mod operators;
mod password_sync;
mod reasons;
mod roles;
mod rules;
mod systems;

pub use attention::*;
pub use changes::*;
pub use drafts::*;
pub use identities::*;
pub use licenses::*;
pub use lifecycle::*;
pub use matches::*;
pub use memberships::*;
pub use notifications::*;
pub use operators::*;
pub use password_sync::*;
pub use reasons::*;
pub use roles::*;
pub use rules::*;
pub use systems::*;

pub use tide_core::decide::Verdict;
pub use tide_core::lifecycle::LifecycleTransition;
pub use tide_core::model::MatchDecision;
pub use tide_core::permissions::Operation;
pub use tide_core::rules::FaultSeverity;
pub use tide_core::schema::ValueKind;
pub use tide_core::states::*;
pub use tide_core::{HoldCause, HoldOwner, ObjectType, ReasonCode, Stage};

use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// An error, as RFC 9457 lays it out.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct Problem {
    /// The error code, as a URI reference.
    #[serde(rename = "type")]
    pub kind: String,
    /// A short summary.
    pub title: String,
    /// The HTTP status.
    pub status: u16,
    /// What happened, and to what.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub detail: Option<String>,
    /// What to do about it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub remedy: Option<String>,
    /// The faults of a rule set, if it has any.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub faults: Vec<Fault>,
}

/// The number of lines with a verdict.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct VerdictCount {
    /// The verdict.
    pub verdict: Verdict,
    /// How many.
    pub count: i64,
}

/// How many changes are in a state.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct StateCount {
    /// The state.
    pub state: ChangeState,
    /// How many.
    pub count: i64,
}

/// How many identities are in a stage.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct StageCount {
    /// The stage.
    pub stage: Stage,
    /// How many.
    pub count: i64,
}

/// The token to sign in with.
#[derive(Serialize, Deserialize, ToSchema)]
pub struct SignIn {
    /// The bearer token.
    pub token: String,
}

/// Returns the signed-in operator.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Me {
    /// The principal's name.
    pub name: String,
    /// The service's version.
    pub version: String,
}

/// A name with its values, as text.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Attribute {
    /// The name.
    pub name: String,
    /// The values.
    pub values: Vec<String>,
}

/// A page of a list.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Page<T> {
    /// The rows.
    pub items: Vec<T>,
    /// Pass this as `after` for the next page; absent on the last page.
    pub next: Option<String>,
}

/// The first screen.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Overview {
    /// The systems.
    pub systems: Vec<System>,
    /// Identities by stage.
    pub identities: Vec<StageCount>,
    /// The version of the published rules; 0 while there are none.
    pub rule_version: i64,
    /// The last full run.
    pub last_run: Option<ChangeSet>,
    /// The last automatic run, or run of named people.
    pub last_auto_run: Option<ChangeSet>,
    /// The last preview.
    pub last_preview: Option<ChangeSet>,
    /// Why nothing is sent at all, if the records cannot be written.
    pub stalled: Option<String>,
    /// The emergency stop, if it is set: nothing is written to any system.
    pub write_stop: Option<WriteStop>,
    /// What needs attention now, by severity; empty if nothing does.
    pub attention: Vec<Attention>,
    /// The number of people, and of orphaned accounts, on hold now, by cause.
    pub holds: Vec<HoldCount>,
    /// External changes that are not acknowledged yet, the newest first.
    pub alerts: Vec<Alert>,
}

/// The emergency stop: while it is set, nothing is written to any system.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct WriteStop {
    /// Why, in the operator's words; empty when none were given.
    pub reason: String,
    /// The operator who set it.
    pub principal: String,
    /// When it was set (RFC 3339, UTC).
    #[schema(format = DateTime)]
    pub created_at: String,
}

/// Sets the emergency stop.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(default, deny_unknown_fields)]
pub struct StopWrites {
    /// The reason; up to 500 characters. It is journaled, and shown to all operators.
    pub reason: String,
}

/// An alert for operators.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Alert {
    /// Its number.
    pub id: i64,
    /// The event.
    pub subject: String,
    /// The details and the consequence.
    pub body: String,
    /// When it was detected.
    #[schema(format = DateTime)]
    pub created_at: String,
}

/// Alerts to acknowledge.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SeenAlerts {
    /// The newest alert to acknowledge; older ones are acknowledged, too.
    pub last: i64,
}

/// An entry of the journal.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct JournalEntry {
    /// Its number.
    pub id: i64,
    /// When.
    #[schema(format = DateTime)]
    pub at: String,
    /// Who, by name where that is known.
    pub principal: String,
    /// What was done.
    pub act: String,
    /// The subject: a system's name, an identity's id, a run's number.
    pub subject: String,
    /// The display name of the subject, if it is an identity.
    pub label: Option<String>,
    /// The details.
    pub detail: String,
    /// The values before and after of a change, unless they were erased.
    #[schema(value_type = Option<Object>)]
    pub values: Option<serde_json::Value>,
}

/// The result of checking the journal.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct JournalCheck {
    /// It is.
    pub is_intact: bool,
    /// How many entries were checked; for an invalid journal, the first entry that was changed or
    /// is missing.
    pub entry: i64,
    /// The number and code of the last entry, as `NUMBER:CODE`. Stored elsewhere and passed as
    /// `expect` later, it shows whether the journal was replaced by an older copy.
    pub head: Option<String>,
}

/// The state with which a check compares the journal.
#[derive(Debug, Clone, Default, Serialize, Deserialize, IntoParams)]
#[serde(default)]
pub struct JournalCheckQuery {
    /// An earlier `head`: the journal is valid only if it still contains that entry.
    pub expect: Option<String>,
}

/// Which rows of a list to show.
#[derive(Debug, Clone, Default, Serialize, Deserialize, IntoParams)]
#[serde(default)]
pub struct ListQuery {
    /// Only rows with this text.
    pub search: Option<String>,
    /// Only rows of this state, kind, verdict or stage.
    pub filter: Option<String>,
    /// Only rows of this system.
    pub system: Option<String>,
    /// Only lines with a change in this state, such as `failed`; only change sets with changes that
    /// failed, when it is `failed`.
    pub state: Option<ChangeState>,
    /// Only rows after this place, as `next` gave it.
    pub after: Option<String>,
    /// The most rows, up to 1,000.
    pub limit: Option<i64>,
}
