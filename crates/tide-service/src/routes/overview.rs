//! The overview, the write stop, and the journal.

use super::systems::all_systems;
use crate::Service;
use crate::access::Caller;
use crate::convert;
use crate::problem::{Body, Query, Refusal};
use axum::Extension;
use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use tide_api::StageCount;
use tide_api::{
    Alert, HoldCount, HoldQuery, Holds, JournalCheck, JournalCheckQuery, JournalEntry, ListQuery,
    Overview, Page, SeenAlerts, StopWrites, WriteStop,
};
use tide_core::states::ChangeSetKind;
use tide_store::HoldFilter;

/// Returns the overall status: what needs attention, what waits, the last run.
#[utoipa::path(get, path = "/api/v1/overview", tag = "overview", responses((status = 200, body = Overview)))]
pub async fn show_overview(State(service): State<Service>) -> Result<Json<Overview>, Refusal> {
    let store = service.engine.store();
    Ok(Json(Overview {
        systems: all_systems(&service).await?,
        identities: store
            .identity_counts()
            .await?
            .into_iter()
            .map(|(stage, count)| StageCount { stage, count })
            .collect(),
        rule_version: store.load_rules().await?.map_or(0, |rules| rules.version),
        last_run: store
            .last_change_set(ChangeSetKind::Run, true)
            .await?
            .map(convert::change_set),
        last_auto_run: store
            .last_change_set(ChangeSetKind::Run, false)
            .await?
            .map(convert::change_set),
        last_preview: store
            .last_change_set(ChangeSetKind::Preview, true)
            .await?
            .map(convert::change_set),
        stalled: service.engine.known_fault(),
        write_stop: service.engine.overview().write_stop().map(write_stop),
        attention: service
            .engine
            .overview()
            .attention()
            .await?
            .into_iter()
            .map(convert::attention)
            .collect(),
        holds: hold_counts(store.hold_counts(None).await?),
        alerts: store
            .list_alerts()
            .await?
            .into_iter()
            .map(|row| Alert {
                id: row.id,
                subject: row.subject,
                body: row.body,
                created_at: row.created_at,
            })
            .collect(),
    }))
}

fn hold_counts(counts: Vec<(tide_core::HoldCause, i64)>) -> Vec<HoldCount> {
    counts
        .into_iter()
        .map(|(cause, count)| HoldCount { cause, count })
        .collect()
}

/// Who is on hold now, with the cause, since when, and who can end it; the longest on hold first.
/// What only waits for a system to be armed is not in it.
#[utoipa::path(get, path = "/api/v1/holds", tag = "overview", params(HoldQuery), responses((status = 200, body = Holds)))]
pub async fn list_holds(
    State(service): State<Service>,
    Query(query): Query<HoldQuery>,
) -> Result<Json<Holds>, Refusal> {
    let store = service.engine.store();
    let limit = query.limit.unwrap_or(100).clamp(1, super::changes::MOST);
    let after =
        match query.after.as_deref() {
            None => None,
            Some(after) => Some(after.parse().map_err(|_| {
                Refusal::invalid(format!("`{after}` is not a cursor of this list"))
            })?),
        };
    let filter = HoldFilter {
        cause: query.cause,
        system: query.system.filter(|system| !system.is_empty()),
        search: query.search,
        identity: None,
        after,
        limit,
    };
    let rows = store.list_holds(&filter).await?;
    let next = (rows.len() as i64 == limit)
        .then(|| rows.last().map(|row| row.id.to_string()))
        .flatten();
    let counts = hold_counts(store.hold_counts(filter.system.as_deref()).await?);
    Ok(Json(Holds {
        items: rows.into_iter().map(convert::hold).collect(),
        next,
        counts,
    }))
}

fn write_stop(stop: tide_store::WriteStop) -> WriteStop {
    WriteStop {
        reason: stop.reason,
        principal: stop.principal,
        created_at: stop.created_at.to_string(),
    }
}

/// The most characters of a reason.
const REASON: usize = 500;

/// Sets the emergency stop: no system is written until it is lifted, also after a restart. When
/// this answers, nothing more is sent: queued changes are canceled, and requests in flight are
/// settled. A stop that is already set is not changed.
#[utoipa::path(put, path = "/api/v1/write-stop", tag = "overview", request_body = StopWrites, responses((status = 200, body = WriteStop)))]
pub async fn stop_writes(
    State(service): State<Service>,
    Extension(caller): Extension<Caller>,
    Body(stop): Body<StopWrites>,
) -> Result<Json<WriteStop>, Refusal> {
    if stop.reason.chars().count() > REASON {
        let said = format!("the reason has more than {REASON} characters: nothing was stopped");
        return Err(
            Refusal::new(StatusCode::UNPROCESSABLE_ENTITY, "too-long", said)
                .remedy("shorten the reason"),
        );
    }
    Ok(Json(write_stop(
        service
            .engine
            .administration()
            .stop_writes(&stop.reason, &caller.principal.id)
            .await?,
    )))
}

/// Lifts the emergency stop: the changes that it held are decided again and sent. Does nothing if
/// none is set.
#[utoipa::path(delete, path = "/api/v1/write-stop", tag = "overview", responses((status = 204)))]
pub async fn lift_write_stop(
    State(service): State<Service>,
    Extension(caller): Extension<Caller>,
) -> Result<StatusCode, Refusal> {
    service
        .engine
        .administration()
        .lift_write_stop(&caller.principal.id)
        .await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Acknowledges alerts, so that they are no longer shown.
#[utoipa::path(post, path = "/api/v1/alerts/acknowledge", tag = "overview", request_body = SeenAlerts, responses((status = 204)))]
pub async fn acknowledge_alerts(
    State(service): State<Service>,
    Body(seen): Body<SeenAlerts>,
) -> Result<StatusCode, Refusal> {
    service
        .engine
        .store()
        .notices_seen(seen.last, service.engine.now())
        .await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Lists journal entries, the newest first. `search` is an exact subject.
#[utoipa::path(get, path = "/api/v1/journal", tag = "journal", params(ListQuery), responses((status = 200, body = Page<JournalEntry>)))]
pub async fn list_journal(
    State(service): State<Service>,
    Query(query): Query<ListQuery>,
) -> Result<Json<Page<JournalEntry>>, Refusal> {
    let limit = super::changes::limit(&query);
    let before = query.after.as_deref().and_then(|after| after.parse().ok());
    let entries = service
        .engine
        .store()
        .list_journal(query.search.as_deref(), before, limit)
        .await?;
    let next = (entries.len() as i64 == limit)
        .then(|| entries.last().map(|e| e.id.to_string()))
        .flatten();
    let items = entries
        .into_iter()
        .map(|e| JournalEntry {
            id: e.id,
            at: e.at,
            principal: e.principal,
            act: e.act,
            subject: e.subject,
            label: e.label,
            detail: e.detail,
            values: e
                .values
                .and_then(|values| serde_json::from_str(&values).ok()),
        })
        .collect();
    Ok(Json(Page { items, next }))
}

/// Checks the whole chain of authenticated journal entries.
#[utoipa::path(get, path = "/api/v1/journal/check", tag = "journal", params(JournalCheckQuery), responses((status = 200, body = JournalCheck)))]
pub async fn check_journal(
    State(service): State<Service>,
    Query(query): Query<JournalCheckQuery>,
) -> Result<Json<JournalCheck>, Refusal> {
    let store = service.engine.store();
    let walked = store.verify_journal().await?;
    let expected = match &query.expect {
        Some(head) => store.has_journal_head(head.trim()).await?,
        None => true,
    };
    let (is_intact, entry) = match walked {
        Ok(entries) => (expected, entries),
        Err(entry) => (false, entry),
    };
    Ok(Json(JournalCheck {
        is_intact,
        entry,
        head: store.journal_head().await?,
    }))
}
