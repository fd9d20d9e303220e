//! Operators.

use crate::Service;
use crate::access::Caller;
use crate::convert;
use crate::problem::{Body, Path, Refusal};
use axum::extract::State;
use axum::http::StatusCode;
use axum::{Extension, Json};
use tide_api::{
    AddedOperator, CreatedToken, NewOperator, NewOperatorToken, Operator, Problem, Token,
};
use tide_core::states::PrincipalKind;

/// The longest life of a token, in days: ten years.
const MAX_TOKEN_DAYS: u32 = 3650;
/// The longest time for which earlier tokens stay good, in hours: thirty days.
const MAX_EARLIER_HOURS: u32 = 720;

/// Lists operators, including those whose rights were revoked.
#[utoipa::path(get, path = "/api/v1/operators", tag = "operators", responses((status = 200, body = Vec<Operator>)))]
pub async fn list_operators(
    State(service): State<Service>,
) -> Result<Json<Vec<Operator>>, Refusal> {
    let operator = |row: tide_store::OperatorRow| Operator {
        name: row.name,
        groups: row.teams,
        identity: row.identity,
        person: row.label,
        created_at: row.created_at,
        ended_at: row.ended_at,
    };
    Ok(Json(
        service
            .engine
            .store()
            .list_operators()
            .await?
            .into_iter()
            .map(operator)
            .collect(),
    ))
}

/// Adds an operator. Only this answer contains its token.
#[utoipa::path(post, path = "/api/v1/operators", tag = "operators", request_body = NewOperator,
    responses((status = 201, body = AddedOperator), (status = 409, body = Problem, content_type = "application/problem+json")))]
pub async fn add_operator(
    State(service): State<Service>,
    Extension(caller): Extension<Caller>,
    Body(new): Body<NewOperator>,
) -> Result<(StatusCode, Json<AddedOperator>), Refusal> {
    let name = new.name.trim();
    if name.is_empty() || name.chars().count() > 100 || name.chars().any(char::is_control) {
        return Err(Refusal::invalid(
            "an operator needs a name of up to 100 characters",
        ));
    }
    let token = service
        .engine
        .operators()
        .add_operator(
            name,
            &new.groups,
            new.person.as_deref(),
            &caller.principal.id,
        )
        .await?;
    Ok((
        StatusCode::CREATED,
        Json(AddedOperator {
            name: name.to_owned(),
            token,
        }),
    ))
}

/// Sets the groups of an operator, and the person who they are.
#[utoipa::path(put, path = "/api/v1/operators/{name}", tag = "operators", params(("name" = String, Path)), request_body = NewOperator,
    responses((status = 204), (status = 404, body = Problem, content_type = "application/problem+json")))]
pub async fn set_operator(
    State(service): State<Service>,
    Extension(caller): Extension<Caller>,
    Path(name): Path<String>,
    Body(new): Body<NewOperator>,
) -> Result<StatusCode, Refusal> {
    service
        .engine
        .operators()
        .set_operator(
            &name,
            &new.groups,
            new.person.as_deref(),
            &caller.principal.id,
        )
        .await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Revokes an operator's rights at once.
#[utoipa::path(delete, path = "/api/v1/operators/{name}", tag = "operators", params(("name" = String, Path)),
    responses((status = 204), (status = 409, body = Problem, content_type = "application/problem+json")))]
pub async fn deactivate_operator(
    State(service): State<Service>,
    Extension(caller): Extension<Caller>,
    Path(name): Path<String>,
) -> Result<StatusCode, Refusal> {
    let store = service.engine.store();
    let operator = store.find_operator(&name).await?;
    if !store
        .end_operator(&operator.id, &caller.principal.id, service.engine.now())
        .await?
    {
        return Err(Refusal::new(
            StatusCode::CONFLICT,
            "last-operator",
            "the last operator cannot be deactivated: no operator could sign in",
        ));
    }
    Ok(StatusCode::NO_CONTENT)
}

/// Lists the tokens of an operator, the newest first.
#[utoipa::path(get, path = "/api/v1/operators/{name}/tokens", tag = "operators", params(("name" = String, Path)),
    responses((status = 200, body = Vec<Token>)))]
pub async fn list_operator_tokens(
    State(service): State<Service>,
    Path(name): Path<String>,
) -> Result<Json<Vec<Token>>, Refusal> {
    let (store, now) = (
        service.engine.store(),
        tide_store::format_timestamp(service.engine.now()),
    );
    let operator = store.find_operator(&name).await?;
    Ok(Json(
        store
            .list_tokens(PrincipalKind::Operator, &operator.name)
            .await?
            .into_iter()
            .map(|row| convert::token(row, &now))
            .collect(),
    ))
}

/// Creates another token for the calling operator, or for an operator without a valid token. It is
/// shown only once. Earlier ones stay valid for a while.
#[utoipa::path(post, path = "/api/v1/operators/{name}/tokens", tag = "operators", params(("name" = String, Path)), request_body = NewOperatorToken,
    responses((status = 201, body = CreatedToken), (status = 403, body = Problem, content_type = "application/problem+json")))]
pub async fn rotate_operator_token(
    State(service): State<Service>,
    Extension(caller): Extension<Caller>,
    Path(name): Path<String>,
    Body(new): Body<NewOperatorToken>,
) -> Result<(StatusCode, Json<CreatedToken>), Refusal> {
    if new
        .expires_in_days
        .is_some_and(|days| !(1..=MAX_TOKEN_DAYS).contains(&days))
    {
        return Err(Refusal::invalid(format!(
            "`expires_in_days` is 1 to {MAX_TOKEN_DAYS}"
        )));
    }
    if new.overlap_hours > MAX_EARLIER_HOURS {
        return Err(Refusal::invalid(format!(
            "`overlap_hours` is at most {MAX_EARLIER_HOURS}"
        )));
    }
    let (label, by) = (new.label.trim(), &caller.principal.id);
    let made = service
        .engine
        .operators()
        .rotate_token(&name, label, new.expires_in_days, new.overlap_hours, by)
        .await?;
    Ok((
        StatusCode::CREATED,
        Json(CreatedToken {
            id: made.id,
            token: made.token,
        }),
    ))
}

/// Revokes one of an operator's tokens at once, and ends its sessions.
#[utoipa::path(delete, path = "/api/v1/operators/{name}/tokens/{id}", tag = "operators", params(("name" = String, Path), ("id" = String, Path)),
    responses((status = 204)))]
pub async fn revoke_operator_token(
    State(service): State<Service>,
    Extension(caller): Extension<Caller>,
    Path((name, id)): Path<(String, String)>,
) -> Result<StatusCode, Refusal> {
    let store = service.engine.store();
    let operator = store.find_operator(&name).await?;
    if !store
        .end_token(
            PrincipalKind::Operator,
            &operator.name,
            &id,
            &caller.principal.id,
            service.engine.now(),
        )
        .await?
    {
        return Err(tide_store::StoreError::Missing {
            what: "token",
            name: id,
        }
        .into());
    }
    Ok(StatusCode::NO_CONTENT)
}
