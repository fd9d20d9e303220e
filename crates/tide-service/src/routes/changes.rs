//! Previews and runs, with their changes.

use crate::Service;
use crate::access::Caller;
use crate::convert;
use crate::export;
use crate::problem::{Body, Path, Query, Refusal};
use axum::extract::State;
use axum::http::StatusCode;
use axum::{Extension, Json};
use tide_api::{
    Change, ChangeComparison, ChangeSet, Decision, ListQuery, NewChangeSet, NewDecisionAnswer,
    Offer, OutcomeLine, Page, Problem, StepCount,
};
use tide_core::states::{ChangeSetKind, ChangeSetState, ChangeState};
use tide_engine::Plan;
use tide_store::ChangeFilter;

/// The most rows that a list shows.
pub(super) const MOST: i64 = 1000;

pub(super) fn limit(query: &ListQuery) -> i64 {
    query.limit.unwrap_or(100).clamp(1, MOST)
}

fn filter(query: ListQuery) -> ChangeFilter {
    let some = |text: Option<String>| text.filter(|text| !text.is_empty());
    ChangeFilter {
        limit: limit(&query),
        after: query
            .after
            .as_deref()
            .and_then(|after| after.parse().ok())
            .unwrap_or(0),
        word: some(query.filter),
        state: query.state,
        system: some(query.system),
        search: query.search.unwrap_or_default(),
    }
}

/// Lists previews and runs, the newest first. `filter` is `preview` or `run`; `state` = `failed`
/// selects those that failed or have failed changes.
#[utoipa::path(get, path = "/api/v1/change-sets", tag = "changes", params(ListQuery), responses((status = 200, body = Page<ChangeSet>)))]
pub async fn list_change_sets(
    State(service): State<Service>,
    Query(query): Query<ListQuery>,
) -> Result<Json<Page<ChangeSet>>, Refusal> {
    let limit = limit(&query).min(100);
    let before =
        match query.after.as_deref().filter(|after| !after.is_empty()) {
            None => None,
            Some(after) => Some(after.parse().map_err(|_| {
                Refusal::invalid(format!("`{after}` is not a cursor of this list"))
            })?),
        };
    let kind =
        match query.filter.as_deref().filter(|kind| !kind.is_empty()) {
            None => None,
            Some(kind) => Some(ChangeSetKind::parse(kind).ok_or_else(|| {
                Refusal::invalid(format!("`{kind}` is neither `preview` nor `run`"))
            })?),
        };
    let failed = query.state == Some(ChangeState::Failed);
    let sets = service
        .engine
        .store()
        .change_sets(before, kind, failed, limit)
        .await?;
    let next = (sets.len() as i64 == limit)
        .then(|| sets.last().map(|set| set.id.to_string()))
        .flatten();
    Ok(Json(Page {
        items: sets.into_iter().map(convert::change_set).collect(),
        next,
    }))
}

/// A moment: a day (its beginning in UTC), or an instant with its offset.
fn moment(text: &str) -> Result<jiff::Timestamp, String> {
    let day = text
        .parse::<jiff::civil::Date>()
        .ok()
        .filter(|_| text.len() <= 10);
    let start = day
        .and_then(|day| day.to_zoned(jiff::tz::TimeZone::UTC).ok())
        .map(|zoned| zoned.timestamp());
    start.or_else(|| text.parse().ok()).ok_or_else(|| {
        format!("`{text}` is not a timestamp: write 2027-01-15, or 2027-01-15T06:00:00+01:00")
    })
}

/// Starts a preview or a run. It continues in the background; its progress is sent as events.
#[utoipa::path(post, path = "/api/v1/change-sets", tag = "changes", request_body = NewChangeSet,
    responses((status = 202, body = ChangeSet), (status = 409, body = Problem, content_type = "application/problem+json")))]
pub async fn begin_change_set(
    State(service): State<Service>,
    Extension(caller): Extension<Caller>,
    Body(new): Body<NewChangeSet>,
) -> Result<(StatusCode, Json<ChangeSet>), Refusal> {
    let carry_out = new.kind == ChangeSetKind::Run;
    if new.link_only && !carry_out {
        return Err(Refusal::invalid(
            "a preview links nothing: `link_only` is for runs",
        ));
    }
    let as_of = new
        .as_of
        .as_deref()
        .map(moment)
        .transpose()
        .map_err(Refusal::invalid)?;
    let plan = Plan {
        carry_out,
        preview: new.preview,
        without_reading: new.without_reading,
        adopt: new.link_only,
        only: new.only,
        systems: new.systems,
        types: new.types,
        as_of,
    };
    let id = service
        .engine
        .runner()
        .begin_change_set(plan, &caller.principal.id)
        .await?;
    Ok((
        StatusCode::ACCEPTED,
        Json(convert::change_set(
            service.engine.store().change_set(id).await?,
        )),
    ))
}

/// Returns a preview or run.
#[utoipa::path(get, path = "/api/v1/change-sets/{id}", tag = "changes", params(("id" = i64, Path)), responses((status = 200, body = ChangeSet)))]
pub async fn show_change_set(
    State(service): State<Service>,
    Path(id): Path<i64>,
) -> Result<Json<ChangeSet>, Refusal> {
    let mut set = convert::change_set(service.engine.store().change_set(id).await?);
    if let (None, Some(why)) = (&set.ended_at, service.engine.storage_fault()) {
        set.note = Some(why);
    }
    if set.state == ChangeSetState::Deciding {
        let steps = service.engine.decider().full().computing();
        set.deciding = steps.map(|steps| StepCount {
            done: steps.done,
            total: steps.total,
        });
    }
    Ok(Json(set))
}

/// Lists the verdicts by person and system. `filter` is a verdict.
#[utoipa::path(get, path = "/api/v1/change-sets/{id}/lines", tag = "changes", params(("id" = i64, Path), ListQuery), responses((status = 200, body = Page<OutcomeLine>)))]
pub async fn list_lines(
    State(service): State<Service>,
    Path(id): Path<i64>,
    Query(query): Query<ListQuery>,
) -> Result<Json<Page<OutcomeLine>>, Refusal> {
    let filter = filter(query);
    let rows = service.engine.store().list_outcomes(id, &filter).await?;
    let next = (rows.len() as i64 == filter.limit)
        .then(|| rows.last().map(|row| row.seq.to_string()))
        .flatten();
    Ok(Json(Page {
        items: rows.into_iter().map(convert::line).collect(),
        next,
    }))
}

/// Lists the changes with their values before and after. `filter` is a state or a kind.
#[utoipa::path(get, path = "/api/v1/change-sets/{id}/changes", tag = "changes", params(("id" = i64, Path), ListQuery), responses((status = 200, body = Page<Change>)))]
pub async fn list_changes(
    State(service): State<Service>,
    Path(id): Path<i64>,
    Query(query): Query<ListQuery>,
) -> Result<Json<Page<Change>>, Refusal> {
    let filter = filter(query);
    let rows = service.engine.store().list_changes(id, &filter).await?;
    let next = (rows.len() as i64 == filter.limit)
        .then(|| rows.last().map(|row| row.id.to_string()))
        .flatten();
    Ok(Json(Page {
        items: rows.into_iter().map(convert::change).collect(),
        next,
    }))
}

/// Returns the changes as CSV, one line for each value. Cells that a spreadsheet would run as a
/// formula are neutralized.
#[utoipa::path(get, path = "/api/v1/change-sets/{id}/changes.csv", tag = "changes", params(("id" = i64, Path), ListQuery),
    responses((status = 200, body = String, content_type = "text/csv")))]
pub async fn export_changes(
    State(service): State<Service>,
    Path(id): Path<i64>,
    Query(query): Query<ListQuery>,
) -> Result<axum::response::Response, Refusal> {
    let store = service.engine.store().clone();
    store.change_set(id).await?;
    let filter = ChangeFilter {
        limit: export::PAGE,
        ..filter(query)
    };
    let rows = export::pages(filter.after, move |after| {
        let store = store.clone();
        let filter = ChangeFilter {
            after,
            ..filter.clone()
        };
        async move {
            let changes = store.list_changes(id, &filter).await?;
            let is_last = (changes.len() as i64) < filter.limit;
            let next = changes.last().filter(|_| !is_last).map(|row| row.id);
            let rows = changes.into_iter().flat_map(export_rows).collect();
            Ok((rows, next))
        }
    });
    let header = [
        "person",
        "system",
        "change",
        "state",
        "attribute",
        "before",
        "after",
        "reason",
        "held or failed",
    ];
    Ok(export::csv_download(
        &format!("changes-{id}.csv"),
        &header,
        rows,
    ))
}

/// The lines of a change in an export: one for each value.
fn export_rows(row: tide_store::ChangeRow) -> Vec<Vec<String>> {
    let change = convert::change(row);
    let about = [
        change.label,
        change.system,
        change.kind.to_string(),
        change.state.to_string(),
    ];
    let held = change.hold.map(|hold| hold.text);
    let why = [
        change.reason.text,
        held.or(change.error).unwrap_or_default(),
    ];
    let line = |value: tide_api::ValueChange| {
        let cells = [
            value.attribute,
            value.before.join(" | "),
            value.after.join(" | "),
        ];
        about.iter().chain(&cells).chain(&why).cloned().collect()
    };
    change.values.into_iter().map(line).collect()
}

/// The differences between this change set and another one.
#[utoipa::path(get, path = "/api/v1/change-sets/{id}/compare/{other}", tag = "changes", params(("id" = i64, Path), ("other" = i64, Path)),
    responses((status = 200, body = ChangeComparison)))]
pub async fn compare_change_sets(
    State(service): State<Service>,
    Path((id, other)): Path<(i64, i64)>,
) -> Result<Json<ChangeComparison>, Refusal> {
    let compared = service
        .engine
        .views()
        .compare_change_sets(id, other)
        .await?;
    let shown = |rows: Vec<tide_store::ChangeRow>| rows.into_iter().map(convert::change).collect();
    Ok(Json(ChangeComparison {
        same: compared.same,
        only_here: shown(compared.only_here),
        only_there: shown(compared.only_there),
    }))
}

/// Cancels a preview or run: requests in flight complete, the rest is canceled.
#[utoipa::path(post, path = "/api/v1/change-sets/{id}/cancel", tag = "changes", params(("id" = i64, Path)), responses((status = 202)))]
pub async fn cancel_change_set(
    State(service): State<Service>,
    Path(id): Path<i64>,
) -> Result<StatusCode, Refusal> {
    service.engine.runner().cancel_change_set(id)?;
    Ok(StatusCode::ACCEPTED)
}

/// Lists all decisions that wait for operators.
#[utoipa::path(get, path = "/api/v1/decisions", tag = "changes", responses((status = 200, body = Vec<Decision>)))]
pub async fn list_decisions(
    State(service): State<Service>,
    Extension(caller): Extension<Caller>,
) -> Result<Json<Vec<Decision>>, Refusal> {
    let decision = |one: tide_engine::Decision| Decision {
        id: one.id,
        kind: one.kind.to_owned(),
        system: one.system,
        title: one.title,
        message: one.said,
        count: one.count,
        names: one.names,
        answers: one.answers,
        blocked: one.blocked,
        offers: one
            .offers
            .into_iter()
            .map(|(id, text)| Offer { id, text })
            .collect(),
        choose_up_to: one.most,
    };
    match service
        .engine
        .decisions()
        .list_decisions(&caller.principal.id)
        .await
    {
        Ok(all) => Ok(Json(all.into_iter().map(decision).collect())),
        // Without rules nothing is decided, and nothing waits.
        Err(tide_engine::EngineError::NoRules) => Ok(Json(Vec::new())),
        Err(error) => Err(error.into()),
    }
}

/// Answers a decision.
#[utoipa::path(post, path = "/api/v1/decisions", tag = "changes", request_body = NewDecisionAnswer,
    responses((status = 204), (status = 409, body = Problem, content_type = "application/problem+json")))]
pub async fn answer_decision(
    State(service): State<Service>,
    Extension(caller): Extension<Caller>,
    Body(new): Body<NewDecisionAnswer>,
) -> Result<StatusCode, Refusal> {
    let said = tide_engine::DecisionReply {
        answer: new.answer,
        comment: new.comment.trim(),
        choice: &new.chosen,
    };
    service
        .engine
        .decisions()
        .answer_choosing(&new.id, said, &caller.principal.id)
        .await?;
    Ok(StatusCode::NO_CONTENT)
}
