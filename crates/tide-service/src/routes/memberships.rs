//! Memberships of groups.

use crate::Service;
use crate::problem::{Path, Refusal};
use axum::Json;
use axum::extract::State;
use tide_api::{Membership, Memberships, Problem};

/// Returns the groups of a person's accounts, or the members of a group, each with its origin.
#[utoipa::path(get, path = "/api/v1/identities/{id}/groups", tag = "identities", params(("id" = String, Path)),
    responses((status = 200, body = Memberships), (status = 404, body = Problem, content_type = "application/problem+json")))]
pub async fn show_groups(
    State(service): State<Service>,
    Path(id): Path<String>,
) -> Result<Json<Memberships>, Refusal> {
    let view = service.engine.views().groups_of(&id).await?;
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
