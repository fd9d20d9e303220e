//! How accounts and identities find each other.

use crate::*;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// Which lines of a match report are asked for.
#[derive(Debug, Clone, Default, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct MatchQuery {
    /// The type; `person` if left out.
    pub object: Option<ObjectType>,
    /// Only these.
    pub status: Option<MatchStatus>,
    /// With this text in name, account or reason.
    pub search: Option<String>,
    /// How many are shown.
    pub limit: Option<usize>,
}

/// Selects a match that needs review: by identity or by account.
#[derive(Debug, Clone, Default, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct MatchCaseQuery {
    /// The type; `person` if left out.
    pub object: Option<ObjectType>,
    /// The identity that looks for its account.
    pub identity: Option<String>,
    /// The account that looks for its identity.
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

/// How many links something made, or would make.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct LinkCount {
    /// What makes them, as a sentence.
    pub basis: String,
    /// How many.
    pub count: i64,
}

/// One person or account, and how its match stands.
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
    /// What the account is called there.
    pub account_name: Option<String>,
    /// How many candidates there are.
    pub candidates: usize,
    /// Why.
    pub reason: String,
    /// The rule behind it, as file:line:column.
    pub rule: Option<String>,
}

/// Something that a person said about a match, which holds.
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
    /// Who said it.
    pub principal: String,
    /// When.
    #[schema(format = DateTime)]
    pub created_at: String,
}

/// How matching stands in a system.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct MatchView {
    /// How many there are of each word.
    pub counts: Vec<MatchCount>,
    /// What joined accounts, or would, and how many.
    pub linked_by: Vec<LinkCount>,
    /// Those that were asked for.
    pub lines: Vec<MatchLine>,
    /// How many fit what was asked for.
    pub found: usize,
    /// What people said, and holds.
    pub answers: Vec<MatchAnswer>,
}

/// One side of a doubtful match.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct MatchSide {
    /// The identity, if it is one.
    pub identity: Option<String>,
    /// The account's number, if it is one.
    pub account: Option<i64>,
    /// What it is called.
    pub name: String,
}

/// A candidate's value.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct MatchValue {
    /// The value.
    pub value: String,
    /// Is it the same, but for case and outer blanks?
    pub same: bool,
}

/// One value, on both sides.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct MatchRow {
    /// The attribute.
    pub attribute: String,
    /// The value of the one that looks for its other half.
    pub own: String,
    /// The value of each candidate.
    pub theirs: Vec<MatchValue>,
}

/// A doubtful match, side by side.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct MatchCase {
    /// Why it needs review.
    pub status: MatchStatus,
    /// The reason.
    pub reason: String,
    /// The rule behind it, as file:line:column.
    pub rule: Option<String>,
    /// Who looks for its other half.
    pub own: MatchSide,
    /// Who it may be.
    pub candidates: Vec<MatchSide>,
    /// Their values.
    pub rows: Vec<MatchRow>,
}

/// Something to say about a match: `join` and `never` of an identity and an account, `new` and
/// `skip` of either.
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

/// How many answers were kept.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct KeptAnswers {
    /// How many.
    pub kept: usize,
}
