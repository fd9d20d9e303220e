//! Reasons: the chain from a source value over a rule to a result, in words.

use serde::{Deserialize, Serialize};
use std::fmt;

/// Where a rule stands in the rule set's files.
#[derive(Debug, Clone, Default, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct Place {
    /// The file's name inside the rule set's folder.
    pub file: String,
    /// The line, from 1.
    pub line: usize,
    /// The column, from 1, counted in characters.
    pub column: usize,
}

impl fmt::Display for Place {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}:{}", self.file, self.line)
    }
}

/// Why something is so, in one sentence, with the rule it came from.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Reason {
    /// The sentence.
    pub text: String,
    /// The rule behind it, if one is.
    pub rule: Option<Place>,
}

impl Reason {
    /// A reason that no single rule stands behind.
    pub fn new(text: impl Into<String>) -> Self {
        Reason { text: text.into(), rule: None }
    }

    /// A reason that a rule gives.
    pub fn by(text: impl Into<String>, rule: &Place) -> Self {
        Reason { text: text.into(), rule: Some(rule.clone()) }
    }
}

/// Why one attribute has, or will have, its value.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ValueReason {
    /// The attribute.
    pub attribute: String,
    /// The value that the rules want, as text.
    pub value: String,
    /// The rule.
    pub rule: Place,
    /// Its expression, as written.
    pub expression: String,
    /// What the expression read, name and value.
    pub read: Vec<(String, String)>,
    /// The system whose value won, for a value of an identity.
    pub from_system: Option<String>,
    /// What else is to be said: normalised by the target, left alone because set once, and so on.
    pub note: Option<String>,
}
