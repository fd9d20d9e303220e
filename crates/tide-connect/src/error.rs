//! Failures of systems, each with a code, a sentence and a remedy.

/// The consequence of a failure for the rest of the run.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FailureClass {
    /// It may pass: the request is retried with backoff.
    Transient,
    /// It persists until the record or its data change.
    Permanent,
    /// It concerns the whole system: nothing else is sent to it for now.
    SystemDown,
    /// The answer was lost: the change may or may not have taken effect.
    UnknownOutcome,
    /// The system accepted the change and carries it out later.
    Accepted,
    /// Writes to the system are stopped: nothing was sent, and the change is decided again when
    /// they are resumed.
    WritesStopped,
}

/// A failure of a system.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{message}")]
pub struct ConnectError {
    /// The code.
    pub code: &'static str,
    /// What happened, and to what.
    pub message: String,
    /// What to do about it.
    pub remedy: String,
    /// Its class.
    pub class: FailureClass,
    /// The URL at which an accepted change can be polled; empty if the system gave none.
    pub operation_url: String,
    /// The HTTP status of its answer, where it gave one.
    pub status: Option<u16>,
}

/// Maximum number of characters of a system's answer.
const LONGEST: usize = 2000;
/// Shorter secrets are not removed from texts, because they occur everywhere.
const SHORTEST_SECRET: usize = 4;
/// Replaces a secret in a text.
const HIDDEN: &str = "•••";

/// Removes control characters from a system's text, and truncates it, so that it cannot steer a
/// terminal or forge a log line.
fn clean_text(text: &str) -> String {
    let mut clean: String = text
        .chars()
        .map(|c| if c.is_control() { ' ' } else { c })
        .take(LONGEST)
        .collect();
    if text.chars().nth(LONGEST).is_some() {
        clean.push('…');
    }
    clean
}

impl ConnectError {
    fn new(
        class: FailureClass,
        code: &'static str,
        said: impl Into<String>,
        remedy: impl Into<String>,
    ) -> Self {
        ConnectError {
            code,
            message: clean_text(&said.into()),
            remedy: remedy.into(),
            class,
            operation_url: String::new(),
            status: None,
        }
    }

    /// Removes secrets from a system's answer: some systems repeat the refused value.
    #[must_use]
    pub fn without_secrets(mut self, secrets: &[&str]) -> Self {
        for secret in secrets
            .iter()
            .filter(|secret| secret.chars().count() >= SHORTEST_SECRET)
        {
            self.message = self.message.replace(secret, HIDDEN);
            self.remedy = self.remedy.replace(secret, HIDDEN);
        }
        self
    }

    /// The same, with the HTTP status of the answer.
    #[must_use]
    pub fn with_status(mut self, status: u16) -> Self {
        self.status = Some(status);
        self
    }

    /// A fault that may pass by retrying.
    pub fn transient(
        code: &'static str,
        said: impl Into<String>,
        remedy: impl Into<String>,
    ) -> Self {
        Self::new(FailureClass::Transient, code, said, remedy)
    }

    /// A fault of one record, which retrying does not cure.
    pub fn permanent(
        code: &'static str,
        said: impl Into<String>,
        remedy: impl Into<String>,
    ) -> Self {
        Self::new(FailureClass::Permanent, code, said, remedy)
    }

    /// A fault of the whole system.
    pub fn system_down(
        code: &'static str,
        said: impl Into<String>,
        remedy: impl Into<String>,
    ) -> Self {
        Self::new(FailureClass::SystemDown, code, said, remedy)
    }

    /// A change that the system put into its own queue.
    pub fn accepted(place: &str) -> Self {
        let said = "the system queued the change and has not completed it yet";
        ConnectError {
            operation_url: place.to_owned(),
            ..Self::new(
                FailureClass::Accepted,
                "accepted",
                said,
                "it is polled until it is done",
            )
        }
    }

    /// A write that was not sent, because writes to the system are stopped.
    pub fn stopped(code: &'static str, said: impl Into<String>, remedy: impl Into<String>) -> Self {
        Self::new(FailureClass::WritesStopped, code, said, remedy)
    }

    /// A lost answer.
    pub fn unknown_outcome(
        code: &'static str,
        said: impl Into<String>,
        remedy: impl Into<String>,
    ) -> Self {
        Self::new(FailureClass::UnknownOutcome, code, said, remedy)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_system_answers_steers_nothing_and_tells_no_secret() {
        let error = ConnectError::permanent(
            "refused",
            "bad\r\n2026-01-01 ERROR forged\u{1b}[31m: Quay-side-9 is too simple",
            "choose another",
        );
        assert_eq!(
            error.message,
            "bad  2026-01-01 ERROR forged [31m: Quay-side-9 is too simple"
        );
        assert_eq!(
            error.without_secrets(&["Quay-side-9", "a"]).message,
            "bad  2026-01-01 ERROR forged [31m: ••• is too simple"
        );
        assert_eq!(
            ConnectError::permanent("long", "x".repeat(9000), "")
                .message
                .chars()
                .count(),
            LONGEST + 1
        );
    }
}
