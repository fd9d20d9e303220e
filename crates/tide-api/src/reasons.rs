//! Why something is decided, held, or not done.

use crate::{HoldCause, ReasonCode};
use serde::{Deserialize, Serialize};
use std::fmt;
use utoipa::ToSchema;

/// A reason: a code with arguments for programs, and the sentence for people.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Reason {
    /// The code: what a program compares.
    pub code: ReasonCode,
    /// The arguments by name: names of systems, accounts, attributes and rules, values, instants.
    /// Which there are depends on the code; none is written as an empty object.
    #[schema(value_type = std::collections::HashMap<String, serde_json::Value>)]
    pub args: serde_json::Map<String, serde_json::Value>,
    /// The sentence, made of code and arguments. It may change.
    pub text: String,
    /// For a hold: its cause.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cause: Option<HoldCause>,
}

impl From<&tide_core::Reason> for Reason {
    fn from(reason: &tide_core::Reason) -> Self {
        Reason {
            code: reason.code(),
            args: reason.kind.args(),
            text: reason.to_string(),
            cause: reason.cause,
        }
    }
}

impl From<tide_core::Reason> for Reason {
    fn from(reason: tide_core::Reason) -> Self {
        (&reason).into()
    }
}

impl fmt::Display for Reason {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.text)
    }
}
