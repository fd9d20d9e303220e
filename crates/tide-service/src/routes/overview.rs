//! The first screen, and the journal.

use super::systems::all_systems;
use crate::Service;
use crate::convert;
use crate::problem::{Body, Query, Refusal};
use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use tide_api::{Count, JournalCheck, JournalEntry, ListQuery, Notice, Overview, Page, SeenNotices};

/// Is everything well, what waits, what happened last?
#[utoipa::path(get, path = "/api/v1/overview", tag = "overview", responses((status = 200, body = Overview)))]
pub async fn show_overview(State(service): State<Service>) -> Result<Json<Overview>, Refusal> {
    let store = service.engine.store();
    let (failed, held) = store.waiting().await?;
    Ok(Json(Overview {
        systems: all_systems(&service).await?,
        identities: store.identity_counts().await?.into_iter().map(|(word, count)| Count { word, count }).collect(),
        rule_version: store.rules().await?.map_or(0, |rules| rules.version),
        last_run: store.last_change_set("run", true).await?.map(convert::change_set),
        last_by_itself: store.last_change_set("run", false).await?.map(convert::change_set),
        last_preview: store.last_change_set("preview", true).await?.map(convert::change_set),
        stalled: service.engine.trouble(),
        failed,
        held,
        notices: store
            .notices()
            .await?
            .into_iter()
            .map(|row| Notice { id: row.id, subject: row.subject, body: row.body, made: row.made })
            .collect(),
    }))
}

/// Says that notices were seen: they are shown no longer.
#[utoipa::path(post, path = "/api/v1/notices/seen", tag = "overview", request_body = SeenNotices, responses((status = 204)))]
pub async fn see_notices(State(service): State<Service>, Body(seen): Body<SeenNotices>) -> Result<StatusCode, Refusal> {
    service.engine.store().notices_seen(seen.last, service.engine.now()).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// What was done, by whom, the newest first. `search` names a subject exactly.
#[utoipa::path(get, path = "/api/v1/journal", tag = "journal", params(ListQuery), responses((status = 200, body = Page<JournalEntry>)))]
pub async fn list_journal(State(service): State<Service>, Query(query): Query<ListQuery>) -> Result<Json<Page<JournalEntry>>, Refusal> {
    let limit = super::changes::limit(&query);
    let before = query.after.as_deref().and_then(|after| after.parse().ok());
    let entries = service.engine.store().journal(query.search.as_deref(), before, limit).await?;
    let next = (entries.len() as i64 == limit).then(|| entries.last().map(|e| e.id.to_string())).flatten();
    let items = entries
        .into_iter()
        .map(|e| JournalEntry { id: e.id, at: e.at, principal: e.principal, act: e.act, subject: e.subject, detail: e.detail })
        .collect();
    Ok(Json(Page { items, next }))
}

/// Walks the journal's whole chain of hashes.
#[utoipa::path(get, path = "/api/v1/journal/check", tag = "journal", responses((status = 200, body = JournalCheck)))]
pub async fn check_journal(State(service): State<Service>) -> Result<Json<JournalCheck>, Refusal> {
    Ok(Json(match service.engine.store().verify_journal().await? {
        Ok(entry) => JournalCheck { sound: true, entry },
        Err(entry) => JournalCheck { sound: false, entry },
    }))
}
