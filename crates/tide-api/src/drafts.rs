//! Drafts of the rule set, its versions, what they differ in, and what an edit does.

use crate::*;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// A draft in a list.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DraftRow {
    /// Its number.
    pub id: i64,
    /// What it is for.
    pub name: String,
    /// The version that it began from; 0 while nothing was published.
    pub base: i64,
    /// How often it was saved, from 1.
    pub edition: i64,
    /// Who made it.
    pub principal: String,
    /// When it was last saved.
    #[schema(format = DateTime)]
    pub changed_at: String,
    /// By whom.
    pub changed_by: String,
}

/// A draft.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Draft {
    /// What it is.
    #[serde(flatten)]
    pub row: DraftRow,
    /// The published version; if it is not `base`, another version was published since.
    pub published: i64,
    /// No fault is an error.
    pub usable: bool,
    /// What a check found.
    pub faults: Vec<Fault>,
    /// Its files.
    pub files: Vec<RuleFile>,
    /// What differs from the version that it began with.
    pub differences: Vec<FileDifference>,
    /// Files that were changed in the draft and in what was published since: the draft's text was
    /// kept.
    #[serde(default)]
    pub changed_in_both: Vec<String>,
}

/// A draft to begin.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewDraft {
    /// What it is for.
    #[serde(default)]
    pub name: String,
    /// The version to begin with, to go back to it; the published one, if left out.
    #[serde(default)]
    pub version: Option<i64>,
    /// Files to begin with instead.
    #[serde(default)]
    pub files: Option<Vec<RuleFile>>,
}

/// A draft to save.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SaveDraft {
    /// The edition that the edit is based on. If the draft was saved since, nothing is stored
    /// (409).
    pub edition: i64,
    /// The files.
    pub files: Vec<RuleFile>,
}

/// A draft to publish.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct PublishDraft {
    /// The edition that was looked at.
    pub edition: i64,
}

/// A published version.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RuleVersion {
    /// Its number.
    pub version: i64,
    /// When it was published.
    #[schema(format = DateTime)]
    pub created_at: String,
    /// By whom.
    pub principal: String,
    /// What it was made of.
    pub note: String,
}

/// A file that differs.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct FileDifference {
    /// Its name.
    pub name: String,
    /// `added`, `removed` or `changed`.
    pub state: FileChange,
    /// The lines that differ, with a few around them.
    pub lines: Vec<DifferentLine>,
}

/// One line of a difference.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DifferentLine {
    /// What became of it.
    pub change: LineChange,
    /// Its number in the older file, from 1.
    pub before: Option<usize>,
    /// Its number in the newer file.
    pub after: Option<usize>,
    /// The line.
    pub text: String,
}

/// Which versions to compare.
#[derive(Debug, Clone, Serialize, Deserialize, IntoParams)]
pub struct DifferenceQuery {
    /// The older version; 0 is before the first.
    pub from: i64,
    /// The newer one.
    pub to: i64,
    /// Include the impact on all records.
    #[serde(default)]
    pub impact: bool,
}

/// What two versions differ in.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Difference {
    /// In the rules.
    pub files: Vec<FileDifference>,
    /// In what they do, where that was asked.
    pub impact: Option<ImpactView>,
}

/// What an edit does: the same records, decided by two rule sets.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ImpactView {
    /// In one sentence.
    pub message: String,
    /// By system.
    pub systems: Vec<SystemImpactView>,
    /// The differences, up to 1,000.
    pub lines: Vec<ImpactLineView>,
    /// How many there are in all.
    pub total: usize,
}

/// What an edit does in one system.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SystemImpactView {
    /// The system; none for the identities themselves.
    pub system: Option<String>,
    /// Values that differ.
    pub values: usize,
    /// Accounts of which one value at least differs.
    pub accounts: usize,
    /// Accounts about which another thing is decided.
    pub verdicts: Vec<VerdictShift>,
}

/// How many accounts go from one verdict to another.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct VerdictShift {
    /// What is decided by the one.
    pub before: String,
    /// What by the other.
    pub after: String,
    /// How many.
    pub count: usize,
}

/// One difference.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ImpactLineView {
    /// The system; none for the identity itself.
    pub system: Option<String>,
    /// `person`, `service` or `group`.
    pub object: ObjectType,
    /// The identity.
    pub identity: Option<String>,
    /// Whom it is about.
    pub label: String,
    /// The attribute; none when another thing is decided about the account as a whole.
    pub attribute: Option<String>,
    /// What the published rules make of it.
    pub before: String,
    /// What the draft makes of it.
    pub after: String,
    /// Why.
    pub reason: String,
}

/// A whole mapping to try.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewMappingEvaluation {
    /// On whom: a name, an employee number, an address, an id.
    pub on: String,
    /// The system.
    pub system: String,
    /// The draft whose rules are tried; the published ones, if left out.
    #[serde(default)]
    pub draft: Option<i64>,
    /// The type; `person` if left out.
    #[serde(default)]
    pub object: Option<ObjectType>,
}

/// What a whole mapping gave on one record.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct MappingEvaluationView {
    /// Whom it was tried on.
    pub label: String,
    /// The account there.
    pub account: Option<String>,
    /// Each attribute.
    pub attributes: Vec<EvaluatedAttribute>,
}

/// One attribute of a mapping that was tried.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct EvaluatedAttribute {
    /// `inbound` or `outbound`.
    pub direction: Direction,
    /// The attribute.
    pub attribute: String,
    /// The expression.
    pub expression: String,
    /// `file:line`.
    pub rule: String,
    /// Each part and what it gave, the innermost first.
    pub steps: Vec<EvaluationStep>,
    /// The values that came of it.
    pub values: Vec<String>,
    /// What is there now.
    pub current: Vec<String>,
    /// What is wrong, if something is.
    pub fault: Option<EvaluationFault>,
    /// Whose mapping it is, when it is that of one population.
    pub note: Option<String>,
}

/// A first password.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct FirstPassword {
    /// Its number.
    pub id: i64,
    /// Whose it is.
    pub identity: String,
    /// What people call them.
    pub label: String,
    /// The system.
    pub system: String,
    /// The account's name there.
    pub account: String,
    /// When it was set.
    #[schema(format = DateTime)]
    pub created_at: String,
    /// When it was shown; none while it waits.
    #[schema(format = DateTime)]
    pub shown_at: Option<String>,
    /// The operator it was shown to, or the webhook that accepted it.
    pub shown_to: Option<String>,
    /// Why it could not be delivered yet, if the rules deliver it to a webhook.
    pub error: Option<String>,
}

/// A webhook.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Webhook {
    /// Its name in the rules.
    pub name: String,
    /// Where it is called.
    pub url: String,
    /// Is there a secret to sign calls with?
    pub secret: bool,
    /// How many first passwords wait to be handed over.
    pub waiting: usize,
    /// Why they wait.
    pub error: Option<String>,
}

/// A first password, shown once.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct ShownPassword {
    /// The password. It is not kept any longer.
    pub password: String,
}
