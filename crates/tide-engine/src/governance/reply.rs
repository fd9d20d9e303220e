//! Answers to decisions.

use crate::error::EngineError;
use tide_core::states::DecisionAnswer;

/// An answer to an entry.
#[derive(Debug, Clone, Copy)]
pub struct DecisionReply<'a> {
    /// The answer.
    pub answer: DecisionAnswer,
    /// The comment.
    pub comment: &'a str,
    /// The chosen offers, by text or fingerprint.
    pub choice: &'a [String],
}

pub(crate) fn decision_changed() -> EngineError {
    EngineError::Changed("this decision has changed: list the decisions again".to_owned())
}

pub(crate) fn unfit_answer(answer: DecisionAnswer, id: &str) -> EngineError {
    EngineError::Invalid(format!("`{answer}` is not an answer to {id}"))
}
