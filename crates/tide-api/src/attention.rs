//! What needs attention now, and who is on hold.

use crate::Reason;
use crate::*;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// Something that needs attention now.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Attention {
    /// What.
    pub kind: AttentionKind,
    /// How bad it is.
    pub severity: Severity,
    /// The system, where it is about one.
    pub system: Option<String>,
    /// How many it is about.
    pub count: i64,
    /// Some of them, by name.
    pub names: Vec<String>,
    /// The headline.
    pub message: String,
    /// The error, or the operator's comment.
    pub detail: Option<String>,
    /// A client command that shows details or the remedy.
    pub command: Option<String>,
}

/// How many are on hold by a cause.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct HoldCount {
    /// The cause.
    pub cause: HoldCause,
    /// People, and orphaned accounts.
    pub count: i64,
}

/// A person on hold: everything that one cause holds for one reason.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Hold {
    /// The identity, if it is kept.
    pub identity: Option<String>,
    /// `person`, `service` or `group`.
    pub object: ObjectType,
    /// Whom it is about.
    pub label: String,
    /// Why, as a code.
    pub cause: HoldCause,
    /// Why.
    pub reason: Reason,
    /// The rule behind it, as `FILE:LINE`.
    pub rule: Option<String>,
    /// The systems in which it is held.
    pub systems: Vec<String>,
    /// The kinds of changes that are held; empty where no change was made yet.
    pub changes: Vec<ChangeKind>,
    /// Since when this cause holds it (RFC 3339, UTC).
    #[schema(format = DateTime)]
    pub since: String,
    /// Who can end it.
    pub owner: HoldOwner,
}

/// Who is on hold, with the counts of all causes.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Holds {
    /// The rows, the longest on hold first.
    pub items: Vec<Hold>,
    /// Pass this as `after` for the next page; absent on the last page.
    pub next: Option<String>,
    /// How many are on hold by each cause, in the system that was asked for or in all.
    pub counts: Vec<HoldCount>,
}

/// Which holds to show.
#[derive(Debug, Clone, Default, Serialize, Deserialize, IntoParams)]
#[serde(default)]
pub struct HoldQuery {
    /// Only this cause.
    pub cause: Option<HoldCause>,
    /// Only this system.
    pub system: Option<String>,
    /// Only rows with this text in the name or the reason.
    pub search: Option<String>,
    /// Only rows after this place, as `next` gave it.
    pub after: Option<String>,
    /// The most rows, up to 1,000.
    pub limit: Option<i64>,
}
