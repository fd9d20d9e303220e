//! Licenses, memberships, password sync and notifications.

use crate::Service;
use crate::access::Caller;
use crate::problem::{Body, Path, Query, Refusal};
use axum::extract::State;
use axum::http::StatusCode;
use axum::{Extension, Json};
use tide_api::{
    LicenseUsage, Membership, Memberships, NotificationQuery, NotificationRecord,
    PasswordSyncStatus, Problem, SeatWaiter, SetPassword,
};

/// Lists all licenses: seats, users, those who wait, and a forecast for the next weeks.
#[utoipa::path(get, path = "/api/v1/licenses", tag = "identities", responses((status = 200, body = Vec<LicenseUsage>)))]
pub async fn list_licenses(
    State(service): State<Service>,
) -> Result<Json<Vec<LicenseUsage>>, Refusal> {
    let waiter = |one: tide_core::licenses::SeatWaiter| SeatWaiter {
        identity: one.identity,
        label: one.label,
        order: one.order,
    };
    let license = |view: tide_engine::LicenseUsageView| LicenseUsage {
        starting: view.later.would_take.saturating_sub(view.now.waiting.len()),
        leaving: view.later.would_free,
        needed: (view.now.used + view.later.would_take).saturating_sub(view.later.would_free),
        name: view.license.name,
        system: view.license.system,
        seats: view.license.seats,
        used: view.now.used,
        consumed_when: view.license.consumed_when.source().to_owned(),
        waiting: view.now.waiting.into_iter().map(waiter).collect(),
        ahead_days: tide_engine::AHEAD_DAYS,
        rule: format!("{}:{}", view.license.place.file, view.license.place.line),
    };
    Ok(Json(
        service
            .engine
            .list_licenses()
            .await?
            .into_iter()
            .map(license)
            .collect(),
    ))
}

/// Returns the groups of a person's accounts, or the members of a group, each with its origin.
#[utoipa::path(get, path = "/api/v1/identities/{id}/groups", tag = "identities", params(("id" = String, Path)),
    responses((status = 200, body = Memberships), (status = 404, body = Problem, content_type = "application/problem+json")))]
pub async fn show_groups(
    State(service): State<Service>,
    Path(id): Path<String>,
) -> Result<Json<Memberships>, Refusal> {
    let view = service.engine.groups_of(&id).await?;
    let one = |one: tide_engine::GroupMember| Membership {
        system: one.system,
        identity: one.identity,
        label: one.label,
        name: one.name,
        origin: one.origin,
        since: one.since.map(|at| at.to_string()),
    };
    Ok(Json(Memberships {
        groups: view.groups.into_iter().map(one).collect(),
        count: view.count,
        members: view.members.into_iter().map(one).collect(),
    }))
}

fn recipient(one: &serde_json::Value) -> String {
    let text = |name: &str| one[name].as_str();
    if let Some(group) = text("group") {
        return format!("any of {group}");
    }
    match (
        text("name")
            .or(text("account"))
            .or(text("operator"))
            .or(text("identity")),
        text("mail"),
    ) {
        (Some(name), Some(mail)) => format!("{name} <{mail}>"),
        (Some(name), None) => name.to_owned(),
        (None, _) => "the operators".to_owned(),
    }
}

/// Lists notifications, the newest first.
#[utoipa::path(get, path = "/api/v1/notifications", tag = "identities", params(NotificationQuery), responses((status = 200, body = Vec<NotificationRecord>)))]
pub async fn list_notifications(
    State(service): State<Service>,
    Query(query): Query<NotificationQuery>,
) -> Result<Json<Vec<NotificationRecord>>, Refusal> {
    let rows = service
        .engine
        .list_notifications(query.identity.as_deref(), query.waiting)
        .await?;
    let told = |row: tide_store::NotificationRow| NotificationRecord {
        recipients: row
            .recipients
            .as_array()
            .into_iter()
            .flatten()
            .map(recipient)
            .collect(),
        id: row.id,
        rule: row.rule,
        event: row.event,
        identity: row.identity,
        label: row.label,
        about: row.about,
        text: row.text,
        webhook: row.call,
        created_at: row.made,
        sent_at: row.sent,
        error: row.error,
        answer: row.answer,
    };
    Ok(Json(rows.into_iter().map(told).collect()))
}

/// Sets the password of a person in all systems with password sync.
#[utoipa::path(put, path = "/api/v1/identities/{id}/password", tag = "identities", params(("id" = String, Path)), request_body = SetPassword,
    responses((status = 204), (status = 404, body = Problem, content_type = "application/problem+json")))]
pub async fn set_password(
    State(service): State<Service>,
    Extension(caller): Extension<Caller>,
    Path(id): Path<String>,
    Body(set): Body<SetPassword>,
) -> Result<StatusCode, Refusal> {
    let password = zeroize::Zeroizing::new(set.password);
    service
        .engine
        .set_password(&id, &password, set.must_change, &caller.principal.id)
        .await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Lists passwords that were set for a person, the newest first, with the systems that do not have
/// them yet.
#[utoipa::path(get, path = "/api/v1/identities/{id}/password", tag = "identities", params(("id" = String, Path)),
    responses((status = 200, body = Vec<PasswordSyncStatus>)))]
pub async fn show_passwords_set(
    State(service): State<Service>,
    Path(id): Path<String>,
) -> Result<Json<Vec<PasswordSyncStatus>>, Refusal> {
    let one = |progress: tide_engine::PasswordProgress| {
        let tide_engine::PasswordProgress {
            row,
            missing,
            refused,
            is_settled,
        } = progress;
        let (ended, outcome) = row.ended.unzip();
        PasswordSyncStatus {
            id: row.set.id,
            identity: row.set.identity,
            created_at: row.set.created_at.to_string(),
            origin: (!row.origin.is_empty()).then_some(row.origin),
            must_change: row.set.must_change,
            missing,
            refused,
            is_settled,
            ended_at: ended,
            outcome,
        }
    };
    Ok(Json(
        service
            .engine
            .passwords_set(&id)
            .await?
            .into_iter()
            .map(one)
            .collect(),
    ))
}
