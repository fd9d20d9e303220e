//! Matches between accounts and identities, and answers to them.

use super::scope::object;
use crate::Service;
use crate::access::Caller;
use crate::problem::{Body, Path, Query, Refusal};
use axum::extract::State;
use axum::http::StatusCode;
use axum::{Extension, Json};
use tide_api::{
    KeptAnswers, LinkCount, MatchAnswer, MatchCase, MatchCaseQuery, MatchCount, MatchLine,
    MatchQuery, MatchRow, MatchSide, MatchValue, MatchView, NewMatchAnswer, Problem,
};
use tide_store::{OutcomeFilter, OutcomeStatus};

/// The default number of lines.
const SHOWN: usize = 200;
/// The most answers of one request.
const ANSWERS: usize = 5000;

fn side(side: tide_engine::MatchSide) -> MatchSide {
    MatchSide {
        identity: side.identity,
        account: side.account,
        name: side.name,
    }
}

/// Returns the matches of a system by status: linked by which rule, new, ambiguous, claimed twice,
/// orphaned.
#[utoipa::path(get, path = "/api/v1/systems/{name}/matches", tag = "matches", params(("name" = String, Path), MatchQuery), responses((status = 200, body = MatchView)))]
pub async fn show_matches(
    State(service): State<Service>,
    Path(name): Path<String>,
    Query(query): Query<MatchQuery>,
) -> Result<Json<MatchView>, Refusal> {
    let limit = query.limit.unwrap_or(SHOWN).min(super::scope::MOST);
    let filter = OutcomeFilter {
        status: query.status.map(OutcomeStatus::Match),
        after: super::scope::position(query.after.as_deref())?,
        limit: i64::try_from(limit).unwrap_or(i64::MAX),
        ..OutcomeFilter::default()
    };
    let view = service
        .engine
        .matches()
        .list_matches(
            &name,
            object(query.object),
            &filter,
            &query.search.unwrap_or_default(),
        )
        .await?;
    let lines = view
        .lines
        .into_iter()
        .map(|line| {
            let (account, account_name) = line.account.unzip();
            MatchLine {
                status: line.status,
                label: line.label,
                identity: line.identity,
                account,
                account_name,
                candidates: line.candidates,
                rule: line.reason.rule.as_ref().map(ToString::to_string),
                reason: line.reason.into(),
            }
        })
        .collect();
    let answers = view
        .answers
        .into_iter()
        .map(|row| MatchAnswer {
            id: row.id,
            answer: row.answer.decision,
            label: row.label,
            identity: row.answer.identity,
            account: row.answer.account,
            principal: row.answer.principal,
            created_at: row.created_at,
        })
        .collect();
    Ok(Json(MatchView {
        counts: view
            .counts
            .into_iter()
            .map(|(status, count)| MatchCount {
                status,
                count: count as i64,
            })
            .collect(),
        linked_by: view
            .linked_by
            .into_iter()
            .map(|(basis, count)| LinkCount {
                basis,
                count: count as i64,
            })
            .collect(),
        lines,
        next: view.next.map(|next| next.to_string()),
        found: view.found,
        answers,
    }))
}

/// A match that needs review, side by side.
#[utoipa::path(get, path = "/api/v1/systems/{name}/matches/case", tag = "matches", params(("name" = String, Path), MatchCaseQuery),
    responses((status = 200, body = MatchCase), (status = 400, body = Problem, content_type = "application/problem+json")))]
pub async fn show_match_case(
    State(service): State<Service>,
    Path(name): Path<String>,
    Query(query): Query<MatchCaseQuery>,
) -> Result<Json<MatchCase>, Refusal> {
    let case = service
        .engine
        .matches()
        .match_case(
            &name,
            object(query.object),
            query.identity.as_deref(),
            query.account,
        )
        .await?;
    let value = |(value, same): (String, bool)| MatchValue { value, same };
    Ok(Json(MatchCase {
        status: case.status,
        rule: case.reason.rule.as_ref().map(ToString::to_string),
        reason: case.reason.into(),
        own: side(case.own),
        candidates: case.candidates.into_iter().map(side).collect(),
        rows: case
            .rows
            .into_iter()
            .map(|row| MatchRow {
                attribute: row.attribute,
                own: row.own,
                theirs: row.theirs.into_iter().map(value).collect(),
            })
            .collect(),
    }))
}

/// Answers matches, all or none. An answer applies until it is withdrawn, and is journaled.
#[utoipa::path(post, path = "/api/v1/systems/{name}/matches/answers", tag = "matches", params(("name" = String, Path), MatchCaseQuery), request_body = Vec<NewMatchAnswer>,
    responses((status = 200, body = KeptAnswers), (status = 400, body = Problem, content_type = "application/problem+json")))]
pub async fn answer_matches(
    State(service): State<Service>,
    Extension(caller): Extension<Caller>,
    Path(name): Path<String>,
    Query(query): Query<MatchCaseQuery>,
    Body(answers): Body<Vec<NewMatchAnswer>>,
) -> Result<Json<KeptAnswers>, Refusal> {
    if answers.len() > ANSWERS {
        return Err(Refusal::invalid(format!(
            "at most {ANSWERS} answers per request"
        )));
    }
    let words = answers
        .into_iter()
        .map(|answer| tide_engine::Word {
            identity: answer.identity,
            account: answer.account,
            said: answer.answer,
        })
        .collect::<Vec<_>>();
    let by = tide_engine::Actor {
        id: &caller.principal.id,
        name: &caller.principal.name,
    };
    let kept = service
        .engine
        .matches()
        .answer_matches(&name, object(query.object), &words, &by)
        .await?;
    Ok(Json(KeptAnswers { kept }))
}

/// Withdraws an answer; the rules decide again.
#[utoipa::path(delete, path = "/api/v1/matches/answers/{id}", tag = "matches", params(("id" = i64, Path)),
    responses((status = 204), (status = 404, body = Problem, content_type = "application/problem+json")))]
pub async fn take_back_answer(
    State(service): State<Service>,
    Extension(caller): Extension<Caller>,
    Path(id): Path<i64>,
) -> Result<StatusCode, Refusal> {
    service
        .engine
        .matches()
        .take_back_answer(id, &caller.principal.id)
        .await?;
    Ok(StatusCode::NO_CONTENT)
}
