//! Previews, runs and what is in them.

use crate::*;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A preview or a run to begin.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct NewChangeSet {
    /// `preview` or `run`.
    pub kind: ChangeSetKind,
    /// For a run: send only what this preview showed.
    #[serde(default)]
    pub preview: Option<i64>,
    /// Decide from what was read before.
    #[serde(default)]
    pub without_reading: bool,
    /// For a run: join accounts that exist, and send nothing; what would be sent is shown as held.
    #[serde(default)]
    pub link_only: bool,
    /// Only these people, by name, number, address or id; empty: all.
    #[serde(default)]
    pub only: Vec<String>,
    /// Only what is done in these systems; none named means all.
    #[serde(default)]
    pub systems: Vec<String>,
    /// Only what is done to accounts of these types (`person`, `service`, `group`); none named
    /// means all.
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
    /// Who asked for it.
    pub principal: String,
    /// The preview that a run was bound to.
    pub preview: Option<i64>,
    /// When it began.
    #[schema(format = DateTime)]
    pub started_at: String,
    /// When it ended.
    #[schema(format = DateTime)]
    pub ended_at: Option<String>,
    /// What came of it as a whole.
    pub result: ChangeSetResult,
    /// The systems that could not be read completely: no account there counts as absent.
    pub unread_systems: Vec<String>,
    /// What is to be said of the whole of it.
    pub note: Option<String>,
    /// True if it is about all records. An automatic run, or a run of named people, contains only
    /// records that it is about.
    pub is_full: bool,
    /// The moment that a preview shows, when it is not the one at which it was made.
    #[schema(format = DateTime)]
    pub as_of: Option<String>,
    /// Lines by verdict.
    pub verdicts: Vec<VerdictCount>,
    /// Changes by state.
    pub states: Vec<StateCount>,
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
    /// What people call the account, if there is one.
    pub account: Option<String>,
    /// Whom it is about.
    pub label: String,
    /// The outcome.
    pub verdict: Verdict,
    /// Why.
    pub reason: String,
    /// The rule behind it, as `file:line`.
    pub rule: Option<String>,
    /// What became of its changes: the state of the one that went worst; missing where there are
    /// none.
    pub outcome: Option<ChangeState>,
    /// What the system answered to a change that failed.
    pub error: Option<String>,
    /// What to do about it.
    pub remedy: Option<String>,
}

/// One value that changes.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ValueChange {
    /// The attribute.
    pub attribute: String,
    /// What is there.
    pub before: Vec<String>,
    /// What will be there.
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
    pub reason: String,
    /// The rule behind it, as `file:line`.
    pub rule: Option<String>,
    /// Why it is not sent, if it is not.
    pub hold: Option<String>,
    /// What the system answered, if it refused.
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

/// Something that a person must answer.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Decision {
    /// What it is called when it is answered. It names what was shown: it is another one when that
    /// changes.
    pub id: String,
    /// What is to be decided.
    pub kind: DecisionKind,
    /// The system.
    pub system: String,
    /// The title, in one line.
    pub title: String,
    /// Why, and what becomes of it meanwhile.
    pub message: String,
    /// How many it is about.
    pub count: usize,
    /// Some of those, by name.
    pub names: Vec<String>,
    /// How it can be answered. Matches are answered where they are compared.
    pub answers: Vec<DecisionAnswer>,
    /// Why the caller may not answer, if they may not.
    pub blocked: Option<String>,
    /// The offers to choose from, for an approval with a choice.
    #[serde(default)]
    pub offers: Vec<Offer>,
    /// The most of those that may be chosen.
    #[serde(default)]
    pub choose_up_to: Option<u32>,
}

/// An offer that an approver can choose.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Offer {
    /// What it is called when it is chosen.
    pub id: String,
    /// What it is, in words.
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
    /// What is chosen of its offers, by id or words; the others get a no.
    #[serde(default)]
    pub chosen: Vec<String>,
}

/// What two change sets have of each other's.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ChangeComparison {
    /// How many changes are in both, from the same and to the same.
    pub same: usize,
    /// Changes of this one only.
    pub only_here: Vec<Change>,
    /// Changes of the other one only.
    pub only_there: Vec<Change>,
}
