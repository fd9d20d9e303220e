//! The routes of the API, one module for each noun.

mod changes;
mod identities;
mod overview;
mod rules;
mod session;
mod systems;

use crate::Service;
use axum::routing::get;
use axum::{Json, Router};
use utoipa::OpenApi;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

#[derive(OpenApi)]
#[openapi(info(title = "Eager Tide", description = "Synchronizes directory identities to and from connected systems.", license(name = "Apache-2.0", identifier = "Apache-2.0")),
    components(schemas(tide_api::Problem)))]
struct Document;

/// The routes that the OpenAPI document describes.
pub fn api() -> OpenApiRouter<Service> {
    OpenApiRouter::with_openapi(Document::openapi())
        .routes(routes!(session::begin, session::end))
        .routes(routes!(session::me))
        .routes(routes!(overview::overview))
        .routes(routes!(overview::journal))
        .routes(routes!(overview::journal_check))
        .routes(routes!(crate::events::stream))
        .routes(routes!(systems::list, systems::add))
        .routes(routes!(systems::check_unsaved))
        .routes(routes!(systems::show, systems::set))
        .routes(routes!(systems::secret))
        .routes(routes!(systems::check))
        .routes(routes!(systems::read))
        .routes(routes!(systems::accounts))
        .routes(routes!(systems::schema))
        .routes(routes!(rules::show, rules::publish))
        .routes(routes!(rules::check))
        .routes(routes!(changes::list, changes::begin))
        .routes(routes!(changes::show))
        .routes(routes!(changes::lines))
        .routes(routes!(changes::changes))
        .routes(routes!(changes::cancel))
        .routes(routes!(identities::list))
        .routes(routes!(identities::show))
        .routes(routes!(identities::split))
        .routes(routes!(identities::why))
}

/// Routes beside the API.
pub fn open(document: utoipa::openapi::OpenApi) -> Router<Service> {
    Router::new()
        .route("/api/v1/openapi.json", get(move || async move { Json(document) }))
        .route("/healthz", get(|| async { "ok" }))
        .route("/readyz", get(session::ready))
}
