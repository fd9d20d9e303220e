//! Previews and runs, with their changes.

use crate::Reason;
use crate::*;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A preview or a run to start.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct NewChangeSet {
    /// `preview` or `run`.
    pub kind: ChangeSetKind,
    /// For a run: send only what this preview showed.
    #[serde(default)]
    pub preview: Option<i64>,
    /// Decide from stored data, without reading.
    #[serde(default)]
    pub without_reading: bool,
    /// For a run: join existing accounts, and send nothing; the changes are shown as on hold.
    #[serde(default)]
    pub link_only: bool,
    /// Only these people, by name, number, address or id; empty for all.
    #[serde(default)]
    pub only: Vec<String>,
    /// Only changes in these systems; empty for all.
    #[serde(default)]
    pub systems: Vec<String>,
    /// Only changes of accounts of these types; empty for all.
    #[serde(default)]
    pub types: Vec<ObjectType>,
    /// For a preview: as it would be decided on this day (`2027-01-15`, from its beginning in UTC)
    /// or at this instant.
    #[serde(default)]
    pub as_of: Option<String>,
}

/// A preview or a run.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ChangeSet {
    /// Its number.
    pub id: i64,
    /// `preview` or `run`.
    pub kind: ChangeSetKind,
    /// `reading`, `deciding`, `running`, `done`, `failed` or `cancelled`.
    pub state: ChangeSetState,
    /// The rules it was decided by.
    pub rule_version: i64,
    /// The operator who requested it.
    pub principal: String,
    /// The preview that a run was bound to.
    pub preview: Option<i64>,
    /// When it began.
    #[schema(format = DateTime)]
    pub started_at: String,
    /// When it ended.
    #[schema(format = DateTime)]
    pub ended_at: Option<String>,
    /// The overall result.
    pub result: ChangeSetResult,
    /// The systems that could not be read completely: no account there counts as absent.
    pub unread_systems: Vec<String>,
    /// A note about the change set.
    pub note: Option<String>,
    /// True if it is about all records. An automatic run, or a run of named people, contains only
    /// records that it is about.
    pub is_full: bool,
    /// The time that a preview shows, if it is not that of its creation.
    #[schema(format = DateTime)]
    pub as_of: Option<String>,
    /// Lines by verdict.
    pub verdicts: Vec<VerdictCount>,
    /// Changes by state.
    pub states: Vec<StateCount>,
    /// How far its decision about all records is, while that is being made.
    pub deciding: Option<StepCount>,
}

/// How far a computation is.
#[derive(Debug, Clone, Copy, Serialize, Deserialize, ToSchema)]
pub struct StepCount {
    /// Steps that are done.
    pub done: usize,
    /// About how many there are; 0 before it began.
    pub total: usize,
}

/// What was decided about one person in one system.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct OutcomeLine {
    /// Its place.
    pub seq: i64,
    /// The system.
    pub system: String,
    /// The type.
    pub object: ObjectType,
    /// The identity, if there is or will be one.
    pub identity: Option<String>,
    /// The account's display name, if there is an account.
    pub account: Option<String>,
    /// Whom it is about.
    pub label: String,
    /// The outcome.
    pub verdict: Verdict,
    /// Why.
    pub reason: Reason,
    /// The rule behind it, as `file:line`.
    pub rule: Option<String>,
    /// The worst state of its changes; absent if there are none.
    pub outcome: Option<ChangeState>,
    /// The system's answer to a failed change.
    pub error: Option<String>,
    /// What to do about it.
    pub remedy: Option<String>,
}

/// One value that changes.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ValueChange {
    /// The attribute.
    pub attribute: String,
    /// The current values.
    pub before: Vec<String>,
    /// The new values.
    pub after: Vec<String>,
    /// The rule, as `file:line`.
    pub rule: String,
}

/// One operation on one account.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Change {
    /// Its number.
    pub id: i64,
    /// Its change set.
    pub change_set: i64,
    /// The target.
    pub system: String,
    /// The type.
    pub object: ObjectType,
    /// The identity behind it.
    pub identity: String,
    /// Whom it is about.
    pub label: String,
    /// `create`, `update`, `rename`, `enable`, `disable`, …
    pub kind: ChangeKind,
    /// `proposed`, `held`, `queued`, `sending`, `accepted` (in a queue of the system's own),
    /// `unknown`, `done`, `failed` or `cancelled`.
    pub state: ChangeState,
    /// The values.
    pub values: Vec<ValueChange>,
    /// Why.
    pub reason: Reason,
    /// The rule behind it, as `file:line`.
    pub rule: Option<String>,
    /// Why it is not sent, if it is not.
    pub hold: Option<Reason>,
    /// The system's answer, if it refused the change.
    pub error: Option<String>,
    /// What to do about it.
    pub remedy: Option<String>,
    /// How often it was sent.
    pub attempts: i64,
    /// When it was settled.
    #[schema(format = DateTime)]
    pub settled_at: Option<String>,
    /// Who started the run that it belongs to, in the history of an identity.
    pub principal: Option<String>,
}

/// A decision that an operator must take.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Decision {
    /// Its id. It is bound to what was shown: if that changes, the decision gets another id.
    pub id: String,
    /// What is to be decided.
    pub kind: DecisionKind,
    /// The system.
    pub system: String,
    /// The title, in one line.
    pub title: String,
    /// The reason, and the state until it is answered.
    pub message: String,
    /// How many it is about.
    pub count: usize,
    /// Some of those, by name.
    pub names: Vec<String>,
    /// The possible answers. Matches are answered on their own page.
    pub answers: Vec<DecisionAnswer>,
    /// Why the caller may not answer, if they may not.
    pub blocked: Option<String>,
    /// The offers of an approval with a choice.
    #[serde(default)]
    pub offers: Vec<Offer>,
    /// The maximum number of offers that may be chosen.
    #[serde(default)]
    pub choose_up_to: Option<u32>,
}

/// An offer that an approver can choose.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Offer {
    /// Its id.
    pub id: String,
    /// Its text.
    pub text: String,
}

/// An answer.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewDecisionAnswer {
    /// The decision.
    pub id: String,
    /// One of its answers.
    pub answer: DecisionAnswer,
    /// A comment on an approval or rejection.
    #[serde(default)]
    pub comment: String,
    /// The chosen offers, by id or text; the others are rejected.
    #[serde(default)]
    pub chosen: Vec<String>,
}

/// The differences between two change sets.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ChangeComparison {
    /// The number of changes that are equal in both.
    pub same: usize,
    /// Changes of this one only.
    pub only_here: Vec<Change>,
    /// Changes of the other one only.
    pub only_there: Vec<Change>,
}
