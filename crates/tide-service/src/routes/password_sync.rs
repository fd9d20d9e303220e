//! Passwords that are set in all systems of a person.

use crate::Service;
use crate::access::Caller;
use crate::problem::{Body, Path, Refusal};
use axum::extract::State;
use axum::http::StatusCode;
use axum::{Extension, Json};
use tide_api::{PasswordSyncStatus, Problem, SetPassword};

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
        .passwords()
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
            .passwords()
            .passwords_set(&id)
            .await?
            .into_iter()
            .map(one)
            .collect(),
    ))
}
