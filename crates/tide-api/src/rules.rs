//! The rule set.

use crate::*;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A file of a rule set.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RuleFile {
    /// Its name, such as `harbour.toml`.
    pub name: String,
    /// Its text.
    pub text: String,
}

/// The files of a rule set.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RuleFiles {
    /// The files.
    pub files: Vec<RuleFile>,
    /// The version that they were taken from: when another is published by now, nothing is
    /// published (409).
    #[serde(default)]
    pub based_on: Option<i64>,
}

/// Something wrong in a rule set.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Fault {
    /// `error` or `warning`.
    pub severity: FaultSeverity,
    /// The file.
    pub file: String,
    /// The line, from 1.
    pub line: usize,
    /// The column, from 1.
    pub column: usize,
    /// What.
    pub message: String,
    /// What to do.
    pub help: Option<String>,
}

/// What a check of a rule set found.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RuleCheck {
    /// No fault is an error.
    pub usable: bool,
    /// The faults.
    pub faults: Vec<Fault>,
}

/// A rule set that was published.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Published {
    /// Its version.
    pub version: i64,
    /// Warnings.
    pub faults: Vec<Fault>,
    /// Reads that the rules require.
    #[serde(default)]
    pub required_reads: Vec<DataFreshness>,
}

/// One rule in a few words, with its place.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RuleLine {
    /// The attribute, the match rule's name, or what a scope line does.
    pub name: String,
    /// The expression or the container.
    pub text: String,
    /// Options and words.
    pub note: String,
    /// `file:line`.
    pub location: String,
}

/// The rules of one system for one type.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SystemRules {
    /// The system.
    pub system: String,
    /// The type.
    pub object: ObjectType,
    /// The scope.
    pub scope: Vec<RuleLine>,
    /// How accounts find their identity.
    pub matching: Vec<RuleLine>,
    /// Account → identity.
    pub inbound: Vec<RuleLine>,
    /// Identity → account.
    pub outbound: Vec<RuleLine>,
    /// What becomes of those who fall out.
    pub on_out_of_scope: String,
    /// What happens to accounts that others deleted or created in the system, and the initial
    /// password of new accounts.
    pub otherwise: Vec<RuleLine>,
    /// Records written beside the rules, with what must come of them.
    pub examples: Vec<RuleLine>,
}

/// The published rule set.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Rules {
    /// The version; 0 while nothing was published.
    pub version: i64,
    /// When it was published.
    #[schema(format = DateTime)]
    pub created_at: Option<String>,
    /// By whom.
    pub principal: Option<String>,
    /// Its files.
    pub files: Vec<RuleFile>,
    /// Its rules, system by system.
    pub systems: Vec<SystemRules>,
    /// What identities hold.
    pub identities: Vec<RuleLine>,
    /// The limits.
    pub guards: Vec<RuleLine>,
    /// Who is called.
    pub webhooks: Vec<RuleLine>,
    /// Faults that it has by now, against what the systems say of themselves.
    pub faults: Vec<Fault>,
    /// Reads that the rules require.
    #[serde(default)]
    pub required_reads: Vec<DataFreshness>,
}

/// An expression to try.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewEvaluation {
    /// The expression.
    pub expression: String,
    /// On whom: a name, an employee number, an address, an id.
    pub on: String,
    /// The system whose account it may read too.
    #[serde(default)]
    pub system: Option<String>,
    /// The draft whose names it may read; the published rules', if left out.
    #[serde(default)]
    pub draft: Option<i64>,
    /// The type; `person` if left out.
    #[serde(default)]
    pub object: Option<ObjectType>,
}

/// One part of an expression, and what it gave.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct EvaluationStep {
    /// The part.
    pub text: String,
    /// What it gave.
    pub value: String,
    /// Where it stands, in characters from 0.
    pub offset: usize,
}

/// What is wrong with an expression, or with this evaluation of it.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct EvaluationFault {
    /// Where, in characters from 0.
    pub offset: usize,
    /// What.
    pub message: String,
    /// What to do.
    pub help: Option<String>,
}

/// What an expression gave on one record.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct EvaluationView {
    /// Whom it was tried on.
    pub label: String,
    /// The account that it read.
    pub account: Option<String>,
    /// Each part and what it gave, the innermost first.
    pub steps: Vec<EvaluationStep>,
    /// The values that came of it; none is no value.
    pub values: Vec<String>,
    /// What is wrong, if something is.
    pub fault: Option<EvaluationFault>,
}
