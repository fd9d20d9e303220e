//! Drafts of the rule set, its versions and their differences, and the impact of an edit.

use crate::Reason;
use crate::*;
use serde::{Deserialize, Serialize};
use tide_core::impact::{Impact, ImpactLine, SystemImpact};
use utoipa::{IntoParams, ToSchema};

/// A draft in a list.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DraftRow {
    /// Its number.
    pub id: i64,
    /// What it is for.
    pub name: String,
    /// Its base version; 0 if nothing was published yet.
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
    /// The faults that a check found.
    pub faults: Vec<Fault>,
    /// Its files.
    pub files: Vec<RuleFile>,
    /// The differences from its base version.
    pub differences: Vec<FileDifference>,
    /// Files that were changed both in the draft and in a later version. The draft's text was kept.
    #[serde(default)]
    pub changed_in_both: Vec<String>,
}

/// A draft to create.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewDraft {
    /// What it is for.
    #[serde(default)]
    pub name: String,
    /// The version to start from; default: the published one.
    #[serde(default)]
    pub version: Option<i64>,
    /// Files to start from instead.
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
    /// The edition that was reviewed.
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
    /// The note of its publication.
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

impl From<tide_core::rules::difference::FileDifference> for FileDifference {
    fn from(file: tide_core::rules::difference::FileDifference) -> Self {
        let line = |line: tide_core::rules::difference::DiffLine| DifferentLine {
            change: line.change,
            before: line.before,
            after: line.after,
            text: line.text,
        };
        FileDifference {
            name: file.name,
            state: file.state,
            lines: file.lines.into_iter().map(line).collect(),
        }
    }
}

/// One line of a difference.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DifferentLine {
    /// Whether it was added, removed or kept.
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

/// The differences between two versions.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Difference {
    /// The differences of the rule files.
    pub files: Vec<FileDifference>,
    /// The impact, if requested.
    pub impact: Option<ImpactView>,
}

/// The impact of an edit: the same records, decided by two rule sets.
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

/// Maximum number of differences that are listed individually.
const LISTED_DIFFERENCES: usize = 1_000;

/// A number with its noun.
fn counted(count: usize, noun: &str) -> String {
    let plural = if count == 1 { "" } else { "s" };
    format!("{count} {noun}{plural}")
}

/// The impact in one sentence.
fn impact_sentence(systems: &[SystemImpact]) -> String {
    let (own, targets): (Vec<_>, Vec<_>) =
        systems.iter().partition(|system| system.system.is_none());
    let count =
        |systems: &[&SystemImpact]| -> usize { systems.iter().map(|system| system.values).sum() };
    let (values, own) = (count(&targets), count(&own));
    let verdicts = targets.iter().flat_map(|system| system.verdicts.values());
    let verdicts: usize = verdicts.sum();
    let mut parts = Vec::new();
    if values > 0 {
        let systems = targets.iter().filter(|system| system.values > 0).count();
        let (values, systems) = (counted(values, "value"), counted(systems, "system"));
        parts.push(format!("changes {values} in {systems}"));
    }
    if verdicts > 0 {
        let accounts = counted(verdicts, "account");
        parts.push(format!("changes the outcome of {accounts}"));
    }
    if own > 0 {
        parts.push(format!("changes {} of identities", counted(own, "value")));
    }
    if parts.is_empty() {
        "No impact.".to_owned()
    } else {
        format!("This {}.", parts.join(", and "))
    }
}

impl From<Impact> for ImpactView {
    fn from(impact: Impact) -> Self {
        ImpactView {
            message: impact_sentence(&impact.systems),
            total: impact.lines.len(),
            systems: impact.systems.into_iter().map(Into::into).collect(),
            lines: impact
                .lines
                .into_iter()
                .take(LISTED_DIFFERENCES)
                .map(Into::into)
                .collect(),
        }
    }
}

/// The impact of an edit in one system.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SystemImpactView {
    /// The system; none for the identities themselves.
    pub system: Option<String>,
    /// Values that differ.
    pub values: usize,
    /// Accounts with at least one value that differs.
    pub accounts: usize,
    /// Accounts whose verdict differs.
    pub verdicts: Vec<VerdictShift>,
}

impl From<SystemImpact> for SystemImpactView {
    fn from(system: SystemImpact) -> Self {
        let shift = |((before, after), count)| VerdictShift {
            before,
            after,
            count,
        };
        SystemImpactView {
            system: system.system,
            values: system.values,
            accounts: system.accounts,
            verdicts: system.verdicts.into_iter().map(shift).collect(),
        }
    }
}

/// The number of accounts whose verdict would change.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct VerdictShift {
    /// The verdict before.
    pub before: String,
    /// The verdict after.
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
    /// The attribute; absent if the verdict on the account differs.
    pub attribute: Option<String>,
    /// The result of the published rules.
    pub before: String,
    /// The result of the draft.
    pub after: String,
    /// Why.
    pub reason: Reason,
}

impl From<ImpactLine> for ImpactLineView {
    fn from(line: ImpactLine) -> Self {
        ImpactLineView {
            system: line.system,
            object: line.object,
            identity: line.identity,
            label: line.label,
            attribute: line.attribute,
            before: line.before,
            after: line.after,
            reason: line.reason.into(),
        }
    }
}

/// A mapping to evaluate.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewMappingEvaluation {
    /// The record: a name, an employee number, an address, an id.
    pub on: String,
    /// The system.
    pub system: String,
    /// The draft whose rules are evaluated; default: the published rules.
    #[serde(default)]
    pub draft: Option<i64>,
    /// The type; `person` if left out.
    #[serde(default)]
    pub object: Option<ObjectType>,
}

/// The result of a mapping for one record.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct MappingEvaluationView {
    /// The record of the evaluation.
    pub label: String,
    /// The account there.
    pub account: Option<String>,
    /// Each attribute.
    pub attributes: Vec<EvaluatedAttribute>,
}

/// The result for one attribute of a mapping.
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
    /// Each subexpression and its result, the innermost first.
    pub steps: Vec<EvaluationStep>,
    /// The resulting values.
    pub values: Vec<String>,
    /// The current values.
    pub current: Vec<String>,
    /// The error, if any.
    pub fault: Option<EvaluationFault>,
    /// The population whose mapping it is, if it is not that of all.
    pub note: Option<String>,
}

/// A first password.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct FirstPassword {
    /// Its number.
    pub id: i64,
    /// The identity.
    pub identity: String,
    /// Their display name.
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
    /// Its URL.
    pub url: String,
    /// Whether calls are signed with a secret.
    pub secret: bool,
    /// How many first passwords wait for delivery.
    pub waiting: usize,
    /// Why they wait.
    pub error: Option<String>,
}

/// A first password, shown only once.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct ShownPassword {
    /// The password. It is not stored any longer.
    pub password: String,
}
