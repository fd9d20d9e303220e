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
    /// The system took the change into a queue of its own, and has not done it yet.
    Accepted,
    /// Writes to the system are stopped at this moment: nothing was sent, and the change is decided again when they go on.
    Stopped,
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
    /// Where the system can be asked how a change in its queue went; empty when it did not say.
    pub place: String,
}

impl ConnectError {
    fn new(weight: Weight, code: &'static str, said: impl Into<String>, remedy: impl Into<String>) -> Self {
        ConnectError { code, said: said.into(), remedy: remedy.into(), weight, place: String::new() }
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

    /// A change that the system took into a queue of its own.
    pub fn accepted(place: &str) -> Self {
        let said = "the system took the change into a queue of its own, and has not done it yet";
        ConnectError { place: place.to_owned(), ..Self::new(Weight::Accepted, "accepted", said, "it is asked until it is done") }
    }

    /// A write that was not sent, because writes to the system are stopped.
    pub fn stopped(code: &'static str, said: impl Into<String>, remedy: impl Into<String>) -> Self {
        Self::new(Weight::Stopped, code, said, remedy)
    }

    /// A lost answer.
    pub fn unknown(code: &'static str, said: impl Into<String>, remedy: impl Into<String>) -> Self {
        Self::new(Weight::Unknown, code, said, remedy)
    }
}
