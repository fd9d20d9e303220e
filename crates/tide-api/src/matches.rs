//! Matches between accounts and identities, and answers to them.

use crate::Reason;
use crate::*;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// Which lines of a match report to return.
#[derive(Debug, Clone, Default, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct MatchQuery {
    /// The type; `person` if left out.
    pub object: Option<ObjectType>,
    /// Only these.
    pub status: Option<MatchStatus>,
    /// With this text in name, account or reason.
    pub search: Option<String>,
    /// `next` of the page before.
    pub after: Option<String>,
    /// How many are shown: 200 if left out, at most 5,000.
    pub limit: Option<usize>,
}

/// Selects a match that needs review: by identity or by account.
#[derive(Debug, Clone, Default, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct MatchCaseQuery {
    /// The type; `person` if left out.
    pub object: Option<ObjectType>,
    /// The identity that needs an account.
    pub identity: Option<String>,
    /// The account that needs an identity.
    pub account: Option<i64>,
}

/// How many matches have a status.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct MatchCount {
    /// The status.
    pub status: MatchStatus,
    /// How many.
    pub count: i64,
}

/// How many links an origin made or would make.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct LinkCount {
    /// The origin, as a sentence.
    pub basis: String,
    /// How many.
    pub count: i64,
}

/// A person or account with its match status.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct MatchLine {
    /// Its status.
    pub status: MatchStatus,
    /// Whom it is about.
    pub label: String,
    /// The identity, if there is one.
    pub identity: Option<String>,
    /// The account's number, if there is one.
    pub account: Option<i64>,
    /// The account's name there.
    pub account_name: Option<String>,
    /// How many candidates there are.
    pub candidates: usize,
    /// Why.
    pub reason: Reason,
    /// The rule behind it, as file:line:column.
    pub rule: Option<String>,
}

/// An operator's answer about a match.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct MatchAnswer {
    /// Its number.
    pub id: i64,
    /// `join`, `never`, `new` or `skip`.
    pub answer: MatchDecision,
    /// Whom it is about.
    pub label: String,
    /// The identity.
    pub identity: Option<String>,
    /// The account's number.
    pub account: Option<i64>,
    /// The operator.
    pub principal: String,
    /// When.
    #[schema(format = DateTime)]
    pub created_at: String,
}

/// The matches of a system, by status.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct MatchView {
    /// The number of each kind of event.
    pub counts: Vec<MatchCount>,
    /// The origins of links, existing and future, with their number.
    pub linked_by: Vec<LinkCount>,
    /// A page of the rows of the query, by status, name and account.
    pub lines: Vec<MatchLine>,
    /// Where the next page begins; left out after the last.
    pub next: Option<String>,
    /// How many match the query.
    pub found: usize,
    /// The answers of operators.
    pub answers: Vec<MatchAnswer>,
}

/// One side of a match that needs review.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct MatchSide {
    /// The identity, if it is one.
    pub identity: Option<String>,
    /// The account's number, if it is one.
    pub account: Option<i64>,
    /// Its name.
    pub name: String,
}

/// A candidate's value.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct MatchValue {
    /// The value.
    pub value: String,
    /// Whether the values are equal except for case and surrounding spaces.
    pub same: bool,
}

/// One value, on both sides.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct MatchRow {
    /// The attribute.
    pub attribute: String,
    /// The value of the side that needs a match.
    pub own: String,
    /// The value of each candidate.
    pub theirs: Vec<MatchValue>,
}

/// A match that needs review, side by side.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct MatchCase {
    /// Why it needs review.
    pub status: MatchStatus,
    /// The reason.
    pub reason: Reason,
    /// The rule behind it, as file:line:column.
    pub rule: Option<String>,
    /// The side that needs a match.
    pub own: MatchSide,
    /// The candidates.
    pub candidates: Vec<MatchSide>,
    /// Their values.
    pub rows: Vec<MatchRow>,
}

/// An answer about a match: `join` and `never` for an identity and an account, `new` and `skip` for
/// either.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewMatchAnswer {
    /// `join`, `never`, `new` or `skip`.
    pub answer: MatchDecision,
    /// The identity.
    #[serde(default)]
    pub identity: Option<String>,
    /// The account's number.
    #[serde(default)]
    pub account: Option<i64>,
}

/// How many answers were stored.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct KeptAnswers {
    /// How many.
    pub kept: usize,
}
