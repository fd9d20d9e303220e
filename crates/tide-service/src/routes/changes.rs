//! Previews, runs, and what is in them.

use crate::Service;
use crate::access::Caller;
use crate::convert;
use crate::problem::{Body, Path, Query, Refusal};
use axum::extract::State;
use axum::http::StatusCode;
use axum::{Extension, Json};
use tide_api::{Change, ChangeSet, Line, ListQuery, NewChangeSet, Page, Problem};
use tide_engine::Plan;
use tide_store::ChangeFilter;

/// The most rows that a list shows.
const MOST: i64 = 1000;

pub(super) fn limit(query: &ListQuery) -> i64 {
    query.limit.unwrap_or(100).clamp(1, MOST)
}

fn filter(query: ListQuery) -> ChangeFilter {
    let some = |text: Option<String>| text.filter(|text| !text.is_empty());
    ChangeFilter {
        limit: limit(&query),
        after: query.after.as_deref().and_then(|after| after.parse().ok()).unwrap_or(0),
        word: some(query.filter),
        system: some(query.system),
        search: query.search.unwrap_or_default(),
    }
}

/// Previews and runs, the newest first.
#[utoipa::path(get, path = "/api/v1/change-sets", tag = "changes", params(ListQuery), responses((status = 200, body = Vec<ChangeSet>)))]
pub async fn list_change_sets(State(service): State<Service>, Query(query): Query<ListQuery>) -> Result<Json<Vec<ChangeSet>>, Refusal> {
    let sets = service.engine.store().change_sets(limit(&query).min(100)).await?;
    Ok(Json(sets.into_iter().map(convert::change_set).collect()))
}

/// Begins a preview or a run. It goes on by itself; its progress comes as events.
#[utoipa::path(post, path = "/api/v1/change-sets", tag = "changes", request_body = NewChangeSet,
    responses((status = 202, body = ChangeSet), (status = 409, body = Problem, content_type = "application/problem+json")))]
pub async fn begin_change_set(
    State(service): State<Service>,
    Extension(caller): Extension<Caller>,
    Body(new): Body<NewChangeSet>,
) -> Result<(StatusCode, Json<ChangeSet>), Refusal> {
    let carry_out = match new.kind.as_str() {
        "preview" => false,
        "run" => true,
        other => return Err(Refusal::bad(format!("`{other}` is neither `preview` nor `run`"))),
    };
    if new.adopt && !carry_out {
        return Err(Refusal::bad("a preview joins nothing: `adopt` goes with a run"));
    }
    let plan = Plan { carry_out, preview: new.preview, without_reading: new.without_reading, adopt: new.adopt, only: new.only };
    let id = service.engine.begin(plan, &caller.principal.id).await?;
    Ok((StatusCode::ACCEPTED, Json(convert::change_set(service.engine.store().change_set(id).await?))))
}

/// One preview or run.
#[utoipa::path(get, path = "/api/v1/change-sets/{id}", tag = "changes", params(("id" = i64, Path)), responses((status = 200, body = ChangeSet)))]
pub async fn show_change_set(State(service): State<Service>, Path(id): Path<i64>) -> Result<Json<ChangeSet>, Refusal> {
    Ok(Json(convert::change_set(service.engine.store().change_set(id).await?)))
}

/// What was decided, person by person and system by system. `filter` is a verdict.
#[utoipa::path(get, path = "/api/v1/change-sets/{id}/lines", tag = "changes", params(("id" = i64, Path), ListQuery), responses((status = 200, body = Page<Line>)))]
pub async fn list_lines(
    State(service): State<Service>,
    Path(id): Path<i64>,
    Query(query): Query<ListQuery>,
) -> Result<Json<Page<Line>>, Refusal> {
    let filter = filter(query);
    let rows = service.engine.store().decided(id, &filter).await?;
    let next = (rows.len() as i64 == filter.limit).then(|| rows.last().map(|row| row.seq.to_string())).flatten();
    Ok(Json(Page { items: rows.into_iter().map(convert::line).collect(), next }))
}

/// The changes, with their values before and after. `filter` is a state or a kind.
#[utoipa::path(get, path = "/api/v1/change-sets/{id}/changes", tag = "changes", params(("id" = i64, Path), ListQuery), responses((status = 200, body = Page<Change>)))]
pub async fn list_changes(
    State(service): State<Service>,
    Path(id): Path<i64>,
    Query(query): Query<ListQuery>,
) -> Result<Json<Page<Change>>, Refusal> {
    let filter = filter(query);
    let rows = service.engine.store().changes(id, &filter).await?;
    let next = (rows.len() as i64 == filter.limit).then(|| rows.last().map(|row| row.id.to_string())).flatten();
    Ok(Json(Page { items: rows.into_iter().map(convert::change).collect(), next }))
}

/// Cancels what is on its way: what is on the wire is settled, the rest is taken back.
#[utoipa::path(post, path = "/api/v1/change-sets/{id}/cancel", tag = "changes", params(("id" = i64, Path)), responses((status = 202)))]
pub async fn cancel_change_set(State(service): State<Service>, Path(id): Path<i64>) -> Result<StatusCode, Refusal> {
    service.engine.cancel(id)?;
    Ok(StatusCode::ACCEPTED)
}
