//! Decisions of operators, as a decision reads them: match answers, approvals, departures and
//! granted roles.

use jiff::Timestamp;
use std::collections::BTreeMap;

codes! {
    /// An operator's answer to a match.
    pub enum MatchDecision {
        /// These two belong together.
        Join,
        /// These two never do.
        Never,
        /// No match: a new one is created.
        New,
        /// The record is skipped.
        Skip,
    }
}

/// An answer in effect until it is taken back.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct MatchAnswer {
    /// The system.
    pub system: String,
    /// The identity; none where it is about an account alone.
    pub identity: Option<String>,
    /// The account; none where it is about an identity alone.
    pub account: Option<i64>,
    /// The answer.
    pub decision: MatchDecision,
    /// The operator.
    pub principal: String,
}

/// The answers to an approval request so far.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct ApprovalState {
    /// The approvers, level by level.
    pub yes: Vec<String>,
    /// Who rejected it, and the comment.
    pub no: Option<(String, String)>,
    /// The request expired.
    pub expired: bool,
}

/// A departure that an operator scheduled.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Departure {
    /// From when on they have left.
    pub at: Timestamp,
    /// The operator.
    pub principal: String,
    /// Why.
    pub comment: String,
}

/// A granted role.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RoleGrant {
    /// The holder.
    pub identity: String,
    /// The role.
    pub role: String,
    /// From when on; nothing means at once.
    pub from: Option<Timestamp>,
    /// Until when; `None` means until it is revoked.
    pub until: Option<Timestamp>,
    /// The principal who granted it.
    pub principal: String,
}

impl RoleGrant {
    /// Whether it is in effect at a moment.
    pub fn holds(&self, now: Timestamp) -> bool {
        self.from.is_none_or(|from| from <= now) && self.until.is_none_or(|until| now < until)
    }

    /// When that changes next.
    pub fn next(&self, now: Timestamp) -> Option<Timestamp> {
        [self.from, self.until]
            .into_iter()
            .flatten()
            .filter(|at| *at > now)
            .min()
    }
}

/// Roles in their overlap, each with its end.
pub type KeptRoles = BTreeMap<String, Timestamp>;
