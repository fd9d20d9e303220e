//! Notifications that rules send.

use crate::Service;
use crate::problem::{Query, Refusal};
use axum::Json;
use axum::extract::State;
use tide_api::{NotificationQuery, NotificationRecord};

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
        .notifier()
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
        created_at: row.created_at,
        sent_at: row.sent_at,
        error: row.error,
        answer: row.answer,
    };
    Ok(Json(rows.into_iter().map(told).collect()))
}
