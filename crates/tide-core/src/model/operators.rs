//! What operators decided, as a decision reads it: answers about matches, approvals, departures and
//! roles given by hand.

use jiff::Timestamp;
use std::collections::BTreeMap;

codes! {
    /// What a person said about a match.
    pub enum MatchDecision {
        /// These two belong together.
        Join,
        /// These two never do.
        Never,
        /// No match: a new one is created.
        New,
        /// It is left as it is, and not asked about.
        Skip,
    }
}

/// An answer that was given, and holds until it is taken back.
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

/// What was said about one change so far.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct ApprovalState {
    /// Who said yes, level by level.
    pub yes: Vec<String>,
    /// Who said no, and their words.
    pub no: Option<(String, String)>,
    /// The request expired.
    pub expired: bool,
}

/// A departure that an operator asked for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Departure {
    /// From when on they have left.
    pub at: Timestamp,
    /// The operator.
    pub principal: String,
    /// Why.
    pub comment: String,
}

/// A role that was given by hand.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RoleGrant {
    /// To whom.
    pub identity: String,
    /// The role.
    pub role: String,
    /// From when on; nothing means at once.
    pub from: Option<Timestamp>,
    /// Until when; nothing means until it is taken.
    pub until: Option<Timestamp>,
    /// Who gave it.
    pub principal: String,
}

impl RoleGrant {
    /// Does it hold at a moment?
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

/// The roles that an identity only keeps for a while, each with the moment until which it does.
pub type KeptRoles = BTreeMap<String, Timestamp>;
