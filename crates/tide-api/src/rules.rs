//! The rule set.

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
}

/// Something wrong in a rule set.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Fault {
    /// `error` or `warning`.
    pub severity: String,
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
    pub place: String,
}

/// The rules of one system for one type.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SystemRules {
    /// The system.
    pub system: String,
    /// The type.
    pub object: String,
    /// Who takes part.
    pub scope: Vec<RuleLine>,
    /// How accounts find their identity.
    pub matching: Vec<RuleLine>,
    /// Account → identity.
    pub inbound: Vec<RuleLine>,
    /// Identity → account.
    pub outbound: Vec<RuleLine>,
    /// What becomes of those who fall out.
    pub when_out: String,
}

/// The published rule set.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Rules {
    /// The version; 0 while nothing was published.
    pub version: i64,
    /// When it was published.
    pub made: Option<String>,
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
    /// Faults that it has by now, against what the systems say of themselves.
    pub faults: Vec<Fault>,
}
