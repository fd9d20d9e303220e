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
    /// The version from which they were exported. If another version was published since, nothing
    /// is published (409).
    #[serde(default)]
    pub based_on: Option<i64>,
}

/// A fault in a rule set.
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

impl From<&tide_core::rules::RuleFault> for Fault {
    fn from(fault: &tide_core::rules::RuleFault) -> Self {
        Fault {
            severity: fault.severity,
            file: fault.place.file.clone(),
            line: fault.place.line,
            column: fault.place.column,
            message: fault.message.clone(),
            help: fault.help.clone(),
        }
    }
}

/// The result of checking a rule set.
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

/// A rule in a few words, with its file and line.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RuleLine {
    /// The attribute, the match rule's name, or what a scope line does.
    pub name: String,
    /// The expression or the container.
    pub text: String,
    /// The options and event names.
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
    /// The match rules.
    pub matching: Vec<RuleLine>,
    /// Account → identity.
    pub inbound: Vec<RuleLine>,
    /// Identity → account.
    pub outbound: Vec<RuleLine>,
    /// The action for accounts that leave the scope.
    pub on_out_of_scope: String,
    /// The rules for accounts that others deleted or created in the system, and for initial
    /// passwords.
    pub otherwise: Vec<RuleLine>,
    /// Examples in the rules: records with their expected results.
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
    /// The attributes of identities.
    pub identities: Vec<RuleLine>,
    /// The limits.
    pub guards: Vec<RuleLine>,
    /// Who is called.
    pub webhooks: Vec<RuleLine>,
    /// Its faults against the systems' current schemas.
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
    /// The record: a name, an employee number, an address, an id.
    pub on: String,
    /// The system whose account it may read too.
    #[serde(default)]
    pub system: Option<String>,
    /// The draft whose attributes it may read; default: the published rules.
    #[serde(default)]
    pub draft: Option<i64>,
    /// The type; `person` if left out.
    #[serde(default)]
    pub object: Option<ObjectType>,
}

/// A subexpression and its result.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct EvaluationStep {
    /// The part.
    pub text: String,
    /// Its result.
    pub value: String,
    /// Its position in characters, from 0.
    pub offset: usize,
}

/// An error of an expression or of its evaluation.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct EvaluationFault {
    /// The position in characters, from 0.
    pub offset: usize,
    /// What.
    pub message: String,
    /// What to do.
    pub help: Option<String>,
}

/// The result of an expression for one record.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct EvaluationView {
    /// The record of the evaluation.
    pub label: String,
    /// The account that it read.
    pub account: Option<String>,
    /// Each subexpression and its result, the innermost first.
    pub steps: Vec<EvaluationStep>,
    /// The resulting values; empty means no value.
    pub values: Vec<String>,
    /// The error, if any.
    pub fault: Option<EvaluationFault>,
}
