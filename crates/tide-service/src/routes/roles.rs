//! Roles, their holders and their conflicts.

use crate::Service;
use crate::access::Caller;
use crate::problem::{Body, Path, Query, Refusal};
use axum::extract::State;
use axum::http::StatusCode;
use axum::{Extension, Json};
use jiff::Timestamp;
use tide_api::{
    ListQuery, NewRoleGrant, NewRoleSimulation, Problem, Role, RoleChange, RoleConflict,
    RoleHolder, RoleHolders, RoleSimulationView, Roles,
};
use tide_core::model::RoleGrant;
use tide_core::roles::RoleSource;
use tide_core::value::format_values;
use tide_store::HoldingFilter;

fn moment(text: Option<&String>) -> Result<Option<Timestamp>, Refusal> {
    let read = |text: &String| {
        text.parse().map_err(|_| {
            Refusal::new(
                StatusCode::BAD_REQUEST,
                "date",
                format!("`{text}` is not a timestamp"),
            )
            .remedy("write one like 2026-12-31T17:00:00Z")
        })
    };
    text.map(read).transpose()
}

/// Lists all roles with the number of their holders, and the conflicts between roles.
#[utoipa::path(get, path = "/api/v1/roles", tag = "identities", responses((status = 200, body = Roles)))]
pub async fn list_roles(State(service): State<Service>) -> Result<Json<Roles>, Refusal> {
    let all = service.engine.views().list_roles().await?;
    let role = |view: tide_engine::RoleView| Role {
        name: view.role.name,
        object: view.role.kind,
        when: view.role.when.map(|when| when.source().to_owned()),
        includes: view.role.includes,
        priority: view.role.priority,
        values: view
            .role
            .values
            .iter()
            .map(|value| {
                format!(
                    "{} = {}{}",
                    value.attribute,
                    value.value.source(),
                    if value.binding { "" } else { " (default)" }
                )
            })
            .collect(),
        rule: format!("{}:{}", view.role.place.file, view.role.place.line),
        holder_count: view.holder_count,
    };
    Ok(Json(Roles {
        roles: all.roles.into_iter().map(role).collect(),
        conflicts: all.conflicts.into_iter().map(conflict).collect(),
        conflict_count: all.conflict_count,
    }))
}

/// Lists the holders of a role, with the origin of each. `search` is a part of the display name.
#[utoipa::path(get, path = "/api/v1/roles/{name}/holders", tag = "identities", params(("name" = String, Path), ListQuery),
    responses((status = 200, body = RoleHolders), (status = 404, body = Problem, content_type = "application/problem+json")))]
pub async fn list_holders(
    State(service): State<Service>,
    Path(name): Path<String>,
    Query(query): Query<ListQuery>,
) -> Result<Json<RoleHolders>, Refusal> {
    let filter = HoldingFilter {
        limit: super::changes::limit(&query),
        name: None,
        search: query.search.unwrap_or_default(),
        after: query.after,
    };
    let page = service.engine.views().list_holders(&name, filter).await?;
    let holder = |one: tide_engine::Holder| RoleHolder {
        identity: one.identity,
        label: one.label,
        origin: one.source.as_ref().map(RoleSource::origin),
        by: one
            .source
            .map(|source| source.to_string())
            .unwrap_or_default(),
        until: one.until.map(|at| at.to_string()),
    };
    Ok(Json(RoleHolders {
        items: page.holders.into_iter().map(holder).collect(),
        count: page.count,
        next: page.next,
    }))
}

fn conflict(one: tide_core::roles::RoleConflict) -> RoleConflict {
    RoleConflict {
        identity: one.identity,
        label: one.label,
        attribute: one.attribute,
        role: one.wins.0,
        value: format_values(&one.wins.1),
        over: one
            .over
            .into_iter()
            .map(|(role, values)| format!("{} by {role}", format_values(&values)))
            .collect(),
    }
}

/// Simulates another condition of a role: who gains or loses it, and the impact on accounts. Stores
/// and sends nothing.
#[utoipa::path(post, path = "/api/v1/roles/{name}/simulate", tag = "identities", params(("name" = String, Path)), request_body = NewRoleSimulation,
    responses((status = 200, body = RoleSimulationView), (status = 422, body = Problem, content_type = "application/problem+json")))]
pub async fn simulate_role(
    State(service): State<Service>,
    Path(name): Path<String>,
    Body(asked): Body<NewRoleSimulation>,
) -> Result<Json<RoleSimulationView>, Refusal> {
    let trial = service.engine.views().try_role(&name, &asked.when).await?;
    let turn = |(role, one): (String, tide_engine::Holder)| RoleChange {
        role,
        identity: one.identity,
        label: one.label,
        origin: one.source.as_ref().map(RoleSource::origin),
        by: one
            .source
            .map(|source| source.to_string())
            .unwrap_or_default(),
    };
    let (gains, loses): (Vec<RoleChange>, Vec<RoleChange>) = (
        trial.gains.into_iter().map(turn).collect(),
        trial.loses.into_iter().map(turn).collect(),
    );
    let of = |turns: &[RoleChange]| turns.iter().filter(|one| one.role == name).count();
    let said = match (of(&gains), of(&loses)) {
        (0, 0) => format!("No person gains or loses {name}."),
        (gain, lose) => format!("{gain} gain {name}; {lose} lose it."),
    };
    let conflicts = trial.conflicts.into_iter().map(conflict).collect();
    Ok(Json(RoleSimulationView {
        message: said,
        gains,
        loses,
        conflicts,
        impact: tide_api::ImpactView::from(trial.effect),
    }))
}

/// Grants a role.
#[utoipa::path(post, path = "/api/v1/roles/{name}/holders", tag = "identities", params(("name" = String, Path)), request_body = NewRoleGrant,
    responses((status = 204), (status = 404, body = Problem, content_type = "application/problem+json")))]
pub async fn grant_role(
    State(service): State<Service>,
    Extension(caller): Extension<Caller>,
    Path(name): Path<String>,
    Body(give): Body<NewRoleGrant>,
) -> Result<StatusCode, Refusal> {
    let (from, until) = (moment(give.from.as_ref())?, moment(give.until.as_ref())?);
    let grant = RoleGrant {
        identity: give.identity,
        role: name,
        from,
        until,
        principal: caller.principal.name.clone(),
    };
    service
        .engine
        .administration()
        .give_role(grant, &give.comment, &caller.principal.id)
        .await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Revokes a granted role.
#[utoipa::path(delete, path = "/api/v1/roles/{name}/holders/{id}", tag = "identities", params(("name" = String, Path), ("id" = String, Path)),
    responses((status = 204), (status = 404, body = Problem, content_type = "application/problem+json")))]
pub async fn revoke_role(
    State(service): State<Service>,
    Extension(caller): Extension<Caller>,
    Path((name, id)): Path<(String, String)>,
) -> Result<StatusCode, Refusal> {
    service
        .engine
        .administration()
        .take_role(&id, &name, &caller.principal.id)
        .await?;
    Ok(StatusCode::NO_CONTENT)
}
