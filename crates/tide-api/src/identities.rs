//! Identities, and explanations of their values and accounts.

use crate::Reason;
use crate::*;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// An identity in a list.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Identity {
    /// Its immutable id.
    pub id: String,
    /// Its display name.
    pub label: String,
    /// Its stage.
    pub stage: Stage,
    /// The systems in which it has an account.
    pub systems: Vec<String>,
    /// Some values that distinguish people of the same name.
    pub attributes: Vec<Attribute>,
    /// When it last changed.
    #[schema(format = DateTime)]
    pub changed_at: String,
}

/// One value and where it comes from.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ValueReason {
    /// The attribute.
    pub attribute: String,
    /// The value that the rules want.
    pub value: String,
    /// The value that is there, for an account.
    pub current: Option<String>,
    /// How the two values compare, for an account.
    pub state: Option<ValueState>,
    /// The rule, as `file:line`.
    pub rule: String,
    /// Its expression.
    pub expression: String,
    /// What the expression read.
    pub read: Vec<Attribute>,
    /// The system whose value won, for a value of an identity.
    pub from_system: Option<String>,
    /// A note: the population it applies to, or that it was generated.
    pub note: Option<String>,
}

impl From<&tide_core::ValueReason> for ValueReason {
    fn from(reason: &tide_core::ValueReason) -> Self {
        let read = reason.read.iter().map(|(name, value)| Attribute {
            name: name.clone(),
            values: vec![value.clone()],
        });
        ValueReason {
            attribute: reason.attribute.clone(),
            value: reason.value.clone(),
            current: None,
            state: None,
            rule: reason.rule.to_string(),
            expression: reason.expression.clone(),
            read: read.collect(),
            from_system: reason.from_system.clone(),
            note: reason.note.as_ref().map(ToString::to_string),
        }
    }
}

/// One account of a person, or its absence.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct AccountReason {
    /// The system.
    pub system: String,
    /// What is decided about it.
    pub verdict: Verdict,
    /// Why.
    pub reason: Reason,
    /// The rule behind it, as `file:line`.
    pub rule: Option<String>,
    /// Why its changes are not sent, where they are on hold.
    pub hold: Option<Reason>,
    /// Since when they are on hold (RFC 3339, UTC).
    #[schema(format = DateTime)]
    pub hold_since: Option<String>,
    /// Its name there.
    pub name: Option<String>,
    /// Its immutable key there.
    pub key: Option<String>,
    /// What made the link.
    pub linked_by: Option<String>,
    /// The freshness of its system's data.
    #[serde(default)]
    pub freshness: Option<DataFreshness>,
    /// The values, for a target.
    pub values: Vec<ValueReason>,
}

/// The explanation of a person's accounts, or of their absence.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Explanation {
    /// Its display name.
    pub label: String,
    /// The identity.
    pub identity: Option<String>,
    /// Its stage.
    pub stage: Option<Stage>,
    /// Its values and where each comes from.
    pub values: Vec<ValueReason>,
    /// Its accounts.
    pub accounts: Vec<AccountReason>,
}

/// A link of an identity, open or ended.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Link {
    /// The system.
    pub system: String,
    /// The account's name there.
    pub account: String,
    /// When it was made.
    #[schema(format = DateTime)]
    pub created_at: String,
    /// The kind of its origin.
    pub origin: LinkOrigin,
    /// The same as a sentence, with the source, rule or operator.
    pub created_by: String,
    /// When it was ended.
    #[schema(format = DateTime)]
    pub ended_at: Option<String>,
    /// Why it was ended.
    pub ended_by: Option<String>,
}

/// An identity with its accounts, links and history.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct IdentityDetail {
    /// `person`, `service` or `group`.
    pub object: ObjectType,
    /// Everything about it, explained.
    pub explanation: Explanation,
    /// Its links.
    pub links: Vec<Link>,
    /// Its changes, the newest first.
    pub history: Vec<Change>,
}

/// The identity that a text refers to.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ResolvedIdentity {
    /// The identity's id.
    pub id: String,
    /// Its display name.
    pub label: String,
}

/// Whom to explain.
#[derive(Debug, Clone, Serialize, Deserialize, IntoParams)]
pub struct WhyQuery {
    /// A name, an address, an employee number, a DN or an id. A part of a name finds at most 50
    /// people.
    pub person: String,
}
