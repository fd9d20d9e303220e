//! What needs attention now, and who is on hold.

use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// How bad something is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Severity {
    /// Access is open that must be closed, or nothing is done at all.
    Critical,
    /// Something does not go on before somebody does something.
    Warning,
    /// Something to know.
    Info,
}

/// What needs attention.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum AttentionKind {
    /// The records cannot be written.
    Storage,
    /// All writes are stopped by an operator.
    WritesStopped,
    /// A task of the service failed and is started again later.
    Task,
    /// People who left still have access.
    OpenAccess,
    /// The published rules have errors: nothing is decided.
    RulesInvalid,
    /// A guard holds changes.
    Guard,
    /// A system does not answer, or its test failed.
    Unreachable,
    /// The last read of a system failed, or its file was refused.
    ReadFailed,
    /// Changes failed, and are not retried before something changes.
    Failed,
    /// Changes await an approval.
    Approval,
    /// It cannot be told whose accounts these are.
    Review,
    /// Accounts were changed in a system itself.
    ExternalChange,
    /// People are on hold for other causes.
    OnHold,
    /// Changes failed, and are retried later.
    RetriedLater,
    /// Notifications that nobody acknowledged.
    Notices,
    /// No system is connected.
    NoSystems,
    /// No rules are published.
    NoRules,
    /// No run was made yet.
    NoRun,
}

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
    /// What was said: an error, an operator's words.
    pub detail: Option<String>,
    /// A command of the client that shows more, or does something about it.
    pub command: Option<String>,
}

/// Why something does not go on now.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum HoldCause {
    /// A limit on changes was passed.
    Guard,
    /// Somebody must approve it, or refused to.
    AwaitingApproval,
    /// It cannot be told whose account it is.
    NeedsReview,
    /// It failed, and is not tried again before something changes.
    Failed,
    /// It failed, or its system does not answer; it is retried later.
    RetriedLater,
    /// A required value is missing.
    MissingValue,
    /// Two have a value that only one may have.
    DuplicateValue,
    /// A value or a record cannot be used.
    InvalidValue,
    /// A rule cannot be evaluated.
    RuleError,
    /// An account must exist first.
    WaitingForAccount,
    /// All seats of a license are in use.
    WaitingForSeat,
    /// A day must come first.
    WaitingForDay,
    /// An earlier step must be done first.
    WaitingForStep,
    /// A system has it in a queue of its own, or it is not known yet what became of it.
    UnknownOutcome,
    /// What it depends on was not read completely.
    NotRead,
    /// It was changed in the system itself, and the rules only report that.
    ExternalChange,
    /// Its account was deleted in the system itself.
    DeletedThere,
    /// An operator discarded it.
    Discarded,
    /// Its system is paused, or nothing is written to it at this hour.
    Paused,
    /// Its system is read-only or not armed.
    NotArmed,
    /// The preview that a run was bound to did not show it.
    NotInPreview,
    /// The run only links accounts.
    LinkOnly,
}

/// Who can end a hold.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum HoldOwner {
    /// An operator, by an answer.
    Operator,
    /// Whoever approves it.
    Approver,
    /// Whoever keeps the data in the source.
    SourceOwner,
    /// Whoever writes the rules.
    RuleAuthor,
    /// Whoever runs the target.
    SystemOwner,
    /// Nobody: it ends by itself.
    Nobody,
}

/// How many are on hold by a cause.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct HoldCount {
    /// The cause.
    pub cause: HoldCause,
    /// People, and accounts that belong to nobody.
    pub count: i64,
}

/// Somebody who is on hold: all that one cause holds for them, for one reason.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Hold {
    /// The identity, if it is kept.
    pub identity: Option<String>,
    /// `person`, `service` or `group`.
    pub object: String,
    /// Whom it is about.
    pub label: String,
    /// Why, as a code.
    pub cause: HoldCause,
    /// Why, in words.
    pub reason: String,
    /// The rule behind it, as `FILE:LINE`.
    pub rule: Option<String>,
    /// The systems in which it is held.
    pub systems: Vec<String>,
    /// The kinds of changes that are held; empty where no change was made yet.
    pub changes: Vec<String>,
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
    /// Give this as `after` for the next page; missing at the end.
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

/// How a system is, by its tests, reads and writes; the last of them counts.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Health {
    /// It was never tested, read or written.
    Unknown,
    /// An operator paused it.
    Paused,
    /// Everything works.
    Healthy,
    /// It answers, and something does not work.
    Degraded,
    /// It does not answer, or lets us in no more.
    Unreachable,
}
