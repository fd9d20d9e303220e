//! Operators.

use crate::Service;
use crate::access::Caller;
use crate::problem::{Body, Path, Refusal};
use axum::extract::State;
use axum::http::StatusCode;
use axum::{Extension, Json};
use tide_api::{AddedOperator, NewOperator, Operator, Problem};

/// Operators, those too whose rights were taken back.
#[utoipa::path(get, path = "/api/v1/operators", tag = "operators", responses((status = 200, body = Vec<Operator>)))]
pub async fn list_operators(State(service): State<Service>) -> Result<Json<Vec<Operator>>, Refusal> {
    let operator = |row: tide_store::OperatorRow| Operator {
        name: row.name,
        groups: row.teams,
        identity: row.identity,
        person: row.label,
        made: row.made,
        ended: row.ended,
    };
    Ok(Json(service.engine.store().operators().await?.into_iter().map(operator).collect()))
}

/// Adds an operator. Its token is in the answer, and nowhere else.
#[utoipa::path(post, path = "/api/v1/operators", tag = "operators", request_body = NewOperator,
    responses((status = 201, body = AddedOperator), (status = 409, body = Problem, content_type = "application/problem+json")))]
pub async fn add_operator(
    State(service): State<Service>,
    Extension(caller): Extension<Caller>,
    Body(new): Body<NewOperator>,
) -> Result<(StatusCode, Json<AddedOperator>), Refusal> {
    let name = new.name.trim();
    if name.is_empty() || name.chars().count() > 100 || name.chars().any(char::is_control) {
        return Err(Refusal::bad("an operator needs a name of up to 100 characters"));
    }
    let token = service.engine.add_operator(name, &new.groups, new.person.as_deref(), &caller.principal.id).await?;
    Ok((StatusCode::CREATED, Json(AddedOperator { name: name.to_owned(), token })))
}

/// Says to which groups an operator belongs, and which person it is.
#[utoipa::path(put, path = "/api/v1/operators/{name}", tag = "operators", params(("name" = String, Path)), request_body = NewOperator,
    responses((status = 204), (status = 404, body = Problem, content_type = "application/problem+json")))]
pub async fn set_operator(
    State(service): State<Service>,
    Extension(caller): Extension<Caller>,
    Path(name): Path<String>,
    Body(new): Body<NewOperator>,
) -> Result<StatusCode, Refusal> {
    service.engine.set_operator(&name, &new.groups, new.person.as_deref(), &caller.principal.id).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Takes an operator's rights back at once.
#[utoipa::path(delete, path = "/api/v1/operators/{name}", tag = "operators", params(("name" = String, Path)),
    responses((status = 204), (status = 409, body = Problem, content_type = "application/problem+json")))]
pub async fn end_operator(
    State(service): State<Service>,
    Extension(caller): Extension<Caller>,
    Path(name): Path<String>,
) -> Result<StatusCode, Refusal> {
    let store = service.engine.store();
    let operator = store.operator(&name).await?;
    if !store.end_operator(&operator.id, &caller.principal.id, service.engine.now()).await? {
        return Err(Refusal::new(StatusCode::CONFLICT, "last-operator", "the last operator stays: nobody could sign in any more"));
    }
    Ok(StatusCode::NO_CONTENT)
}
