//! The rules of `notifications.toml`: who is notified of what.

use crate::expr::Program;
use crate::reasons::Place;
use crate::states::NotificationEvent;

/// A recipient, as in the rules.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum RecipientRule {
    /// The operators.
    Operators,
    /// The person that it is about.
    Themselves,
    /// The owner of the group.
    Owner,
    /// The identity that an attribute of the person refers to.
    Reference(String),
}

/// A notification rule.
#[derive(Debug, Clone)]
pub struct NotificationRule {
    /// Its name.
    pub name: String,
    /// The event.
    pub on: NotificationEvent,
    /// In which system, for what happens in one.
    pub system: Option<String>,
    /// The condition; `None` applies to all.
    pub when: Option<Program>,
    /// The recipient.
    pub recipient: RecipientRule,
    /// The text.
    pub text: Program,
    /// The webhook that delivers it; without one, it stays among the alerts.
    pub webhook: Option<String>,
    /// Days that are waited first.
    pub after_days: u32,
    /// Days after which it is repeated while the condition holds.
    pub repeat_every_days: Option<u32>,
    /// Its location in the rule files.
    pub place: Place,
}
