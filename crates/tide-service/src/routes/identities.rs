//! Identities, and explanations of their values and accounts.

use crate::Service;
use crate::access::Caller;
use crate::convert;
use crate::problem::{Path, Query, Refusal};
use axum::extract::State;
use axum::http::StatusCode;
use axum::{Extension, Json};
use tide_api::{
    Explanation, Identity, IdentityDetail, Link, ListQuery, Page, Problem, ResolvedIdentity,
    WhyQuery,
};
use tide_core::ObjectType;

/// Separates label and id in a page's `next`: neither can hold it.
const BREAK: char = '\u{1f}';

/// Lists identities by name. `filter` is a stage.
#[utoipa::path(get, path = "/api/v1/identities", tag = "identities", params(ListQuery), responses((status = 200, body = Page<Identity>)))]
pub async fn list_identities(
    State(service): State<Service>,
    Query(query): Query<ListQuery>,
) -> Result<Json<Page<Identity>>, Refusal> {
    let limit = super::changes::limit(&query);
    let after = query
        .after
        .as_deref()
        .and_then(|after| after.split_once(BREAK));
    let stage = query.filter.as_deref().filter(|stage| !stage.is_empty());
    let rows = service
        .engine
        .store()
        .list_identities(
            query.search.as_deref().unwrap_or_default(),
            stage,
            after,
            limit,
        )
        .await?;
    let next = (rows.len() as i64 == limit)
        .then(|| {
            rows.last()
                .map(|row| format!("{}{BREAK}{}", row.label, row.identity.id))
        })
        .flatten();
    Ok(Json(Page {
        items: rows.into_iter().map(convert::identity).collect(),
        next,
    }))
}

/// Returns an identity: its accounts, the origin of each value, its links and history.
#[utoipa::path(get, path = "/api/v1/identities/{id}", tag = "identities", params(("id" = String, Path)),
    responses((status = 200, body = IdentityDetail), (status = 404, body = Problem, content_type = "application/problem+json")))]
pub async fn show_identity(
    State(service): State<Service>,
    Path(id): Path<String>,
) -> Result<Json<IdentityDetail>, Refusal> {
    let found = service.engine.views().explain_person(&id).await?;
    let explanation = found
        .iter()
        .find(|one| one.identity.as_deref() == Some(id.as_str()))
        .ok_or_else(|| {
            Refusal::new(
                StatusCode::NOT_FOUND,
                "not-found",
                format!("there is no identity `{id}`"),
            )
        })?;
    let store = service.engine.store();
    let links = store.links_of(&id).await?;
    // An identity of the next run is not stored yet: it is a person, like nearly all.
    let object = store
        .find_identity(&id)
        .await
        .map_or(ObjectType::Person, |(identity, _)| identity.kind);
    Ok(Json(IdentityDetail {
        object,
        explanation: explained(&service, std::slice::from_ref(explanation))
            .await?
            .remove(0),
        links: links
            .into_iter()
            .map(|l| Link {
                system: l.system,
                account: l.name,
                created_at: l.created_at,
                origin: l.basis.origin,
                created_by: l.basis.to_string(),
                ended_at: l.ended_at,
                ended_by: l.ended_by,
            })
            .collect(),
        history: store
            .changes_of(&id, 50)
            .await?
            .into_iter()
            .map(convert::change)
            .collect(),
    }))
}

/// The one identity that a name, a number, an address, a DN or an id means. Several are an error
/// that names them.
#[utoipa::path(get, path = "/api/v1/identities/resolve", tag = "identities", params(WhyQuery),
    responses((status = 200, body = ResolvedIdentity), (status = 404, body = Problem, content_type = "application/problem+json")))]
pub async fn resolve_identity(
    State(service): State<Service>,
    Query(query): Query<WhyQuery>,
) -> Result<Json<ResolvedIdentity>, Refusal> {
    let (id, label) = service
        .engine
        .operators()
        .resolve_identity(&query.person)
        .await?;
    Ok(Json(ResolvedIdentity { id, label }))
}

/// Splits an identity from its account in a system. The next run matches or creates an account
/// again.
#[utoipa::path(delete, path = "/api/v1/identities/{id}/links/{system}", tag = "identities", params(("id" = String, Path), ("system" = String, Path)),
    responses((status = 204), (status = 404, body = Problem, content_type = "application/problem+json")))]
pub async fn split_identity(
    State(service): State<Service>,
    Extension(caller): Extension<Caller>,
    Path((id, system)): Path<(String, String)>,
) -> Result<StatusCode, Refusal> {
    match service
        .engine
        .store()
        .split_identity(&id, &system, &caller.principal.id, service.engine.now())
        .await?
    {
        0 => Err(Refusal::new(
            StatusCode::NOT_FOUND,
            "not-found",
            format!("identity `{id}` has no open link in `{system}`"),
        )),
        _ => Ok(StatusCode::NO_CONTENT),
    }
}

/// The explanation of a person's accounts, or of their absence.
#[utoipa::path(get, path = "/api/v1/why", tag = "identities", params(WhyQuery),
    responses((status = 200, body = Vec<Explanation>), (status = 404, body = Problem, content_type = "application/problem+json")))]
pub async fn explain_why(
    State(service): State<Service>,
    Query(query): Query<WhyQuery>,
) -> Result<Json<Vec<Explanation>>, Refusal> {
    let found = service.engine.views().explain_person(&query.person).await?;
    if found.is_empty() {
        return Err(Refusal::new(
            StatusCode::NOT_FOUND,
            "no_match",
            format!("no person or account matches `{}`", query.person),
        )
        .remedy("give a name, address, employee number or DN of a system that was read"));
    }
    Ok(Json(explained(&service, &found).await?))
}

/// Explanations with data outside of the decision: the freshness of the data, and since when a
/// record is on hold.
async fn explained(
    service: &Service,
    found: &[tide_core::explain::Explanation],
) -> Result<Vec<Explanation>, Refusal> {
    let freshness = service.engine.overview().list_freshness().await?;
    let mut since = Vec::new();
    for identity in found
        .iter()
        .filter_map(|one| one.identity.as_deref())
        .take(EXPLAINED)
    {
        since.extend(
            service
                .engine
                .store()
                .holds_of(identity)
                .await?
                .into_iter()
                .map(|row| (identity.to_owned(), row)),
        );
    }
    let beside = convert::Beside {
        known: &freshness,
        since: &since,
    };
    Ok(found
        .iter()
        .map(|one| convert::explanation(one, &beside))
        .collect())
}

/// Maximum number of people whose holds are looked up.
const EXPLAINED: usize = 20;
