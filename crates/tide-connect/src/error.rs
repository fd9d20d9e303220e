//! What can go wrong with a system, each with its own code, sentence and remedy.

/// How a fault weighs on the rest of the work.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Weight {
    /// It may pass: the same is tried again.
    Passing,
    /// It stays until somebody does something about this one record.
    Lasting,
    /// It concerns the whole system: nothing else is sent there now.
    System,
    /// The answer was lost: it must be found out whether the change took effect.
    Unknown,
}

/// A fault of a system.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{said}")]
pub struct ConnectError {
    /// A word for programs.
    pub code: &'static str,
    /// What happened, to what.
    pub said: String,
    /// What to do about it.
    pub remedy: String,
    /// How it weighs.
    pub weight: Weight,
}

impl ConnectError {
    fn new(weight: Weight, code: &'static str, said: impl Into<String>, remedy: impl Into<String>) -> Self {
        ConnectError { code, said: said.into(), remedy: remedy.into(), weight }
    }

    /// A fault that may pass.
    pub fn passing(code: &'static str, said: impl Into<String>, remedy: impl Into<String>) -> Self {
        Self::new(Weight::Passing, code, said, remedy)
    }

    /// A fault of one record.
    pub fn lasting(code: &'static str, said: impl Into<String>, remedy: impl Into<String>) -> Self {
        Self::new(Weight::Lasting, code, said, remedy)
    }

    /// A fault of the whole system.
    pub fn system(code: &'static str, said: impl Into<String>, remedy: impl Into<String>) -> Self {
        Self::new(Weight::System, code, said, remedy)
    }

    /// A lost answer.
    pub fn unknown(code: &'static str, said: impl Into<String>, remedy: impl Into<String>) -> Self {
        Self::new(Weight::Unknown, code, said, remedy)
    }
}
