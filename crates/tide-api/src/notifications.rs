//! Notifications that rules send.

use crate::NotificationEvent;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// A notification that a rule sent.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct NotificationRecord {
    /// Its number, which the webhook receives as well.
    pub id: i64,
    /// The rule, by its name.
    pub rule: String,
    /// The event.
    pub event: NotificationEvent,
    /// Whom it is about.
    pub identity: String,
    /// Their display name.
    pub label: String,
    /// The group, system or license.
    pub about: Option<String>,
    /// The recipients: names, addresses, or `the operators`.
    pub recipients: Vec<String>,
    /// The text.
    pub text: String,
    /// The webhook that delivers it; none: it is only listed.
    pub webhook: Option<String>,
    /// When it was created (UTC).
    #[schema(format = DateTime)]
    pub created_at: String,
    /// When it was delivered (UTC).
    #[schema(format = DateTime)]
    pub sent_at: Option<String>,
    /// Why it is not delivered yet.
    pub error: Option<String>,
    /// The answer of the webhook, as JSON: what was created for this person.
    pub answer: Option<String>,
}

/// Which notifications to list.
#[derive(Debug, Clone, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct NotificationQuery {
    /// Only about this identity.
    pub identity: Option<String>,
    /// Only those that wait for delivery.
    #[serde(default)]
    pub waiting: bool,
}
