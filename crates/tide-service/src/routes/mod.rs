//! The routes of the API, one module for each noun.

mod changes;
mod drafts;
mod feeds;
mod identities;
mod inbound;
mod licenses;
mod lifecycle;
mod matches;
mod memberships;
mod notifications;
mod operators;
mod overview;
mod password_sync;
mod roles;
mod rules;
mod scope;
mod session;
mod systems;

use crate::Service;
use axum::routing::get;
use axum::{Json, Router};
use utoipa::OpenApi;
use utoipa::openapi::{ContentBuilder, Ref, ResponseBuilder};
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

#[derive(OpenApi)]
#[openapi(
    info(
        title = "Eager Tide",
        description = "Synchronizes directory identities to and from connected systems.",
        license(name = "Apache-2.0", identifier = "Apache-2.0")
    ),
    components(schemas(tide_api::Problem))
)]
struct Document;

/// Answers that any operation can give, beside those that it names itself.
const COMMON: [(&str, &str); 10] = [
    ("400", "The request is invalid."),
    ("401", "Not signed in."),
    ("403", "Not permitted."),
    ("404", "Not found."),
    (
        "409",
        "Conflict with the current state, or no rules were published yet.",
    ),
    ("413", "The body is too large."),
    ("415", "The body is of another media type."),
    ("422", "The body or the system is invalid."),
    ("500", "An internal error; see the service's log."),
    (
        "503",
        "The records cannot be written, or too many computations are in progress.",
    ),
];

/// Completes the document: every answer that an operation can give is in it.
pub fn document(mut document: utoipa::openapi::OpenApi) -> utoipa::openapi::OpenApi {
    for item in document.paths.paths.values_mut() {
        for operation in [
            &mut item.get,
            &mut item.put,
            &mut item.post,
            &mut item.patch,
            &mut item.delete,
        ]
        .into_iter()
        .flatten()
        {
            let has_body = operation.request_body.is_some();
            for (status, description) in COMMON {
                if matches!(status, "413" | "415") && !has_body {
                    continue;
                }
                let content = ContentBuilder::new()
                    .schema(Some(Ref::from_schema_name("Problem")))
                    .build();
                let response = ResponseBuilder::new()
                    .description(description)
                    .content("application/problem+json", content)
                    .build();
                operation
                    .responses
                    .responses
                    .entry(status.to_owned())
                    .or_insert_with(|| response.into());
            }
        }
    }
    document
}

/// The routes that the OpenAPI document describes.
pub fn api() -> OpenApiRouter<Service> {
    OpenApiRouter::with_openapi(Document::openapi())
        .routes(routes!(session::sign_in, session::sign_out))
        .routes(routes!(session::me))
        .routes(routes!(overview::show_overview))
        .routes(routes!(overview::list_holds))
        .routes(routes!(overview::acknowledge_alerts))
        .routes(routes!(overview::stop_writes, overview::lift_write_stop))
        .routes(routes!(overview::list_journal))
        .routes(routes!(overview::check_journal))
        .routes(routes!(crate::events::stream_events))
        .routes(routes!(systems::list_systems, systems::add_system))
        .routes(routes!(systems::check_new_system))
        .routes(routes!(
            systems::show_system,
            systems::set_system,
            systems::remove_system
        ))
        .routes(routes!(systems::browse_new_system))
        .routes(routes!(systems::browse_system))
        .routes(routes!(systems::list_permissions))
        .routes(routes!(systems::set_settings))
        .routes(routes!(systems::set_schedule))
        .routes(routes!(scope::show_scope, scope::save_scope))
        .routes(routes!(scope::export_scope))
        .routes(routes!(scope::simulate_scope))
        .routes(routes!(scope::create_first_rules))
        .routes(routes!(matches::show_matches))
        .routes(routes!(matches::show_match_case))
        .routes(routes!(matches::answer_matches))
        .routes(routes!(matches::take_back_answer))
        .routes(routes!(feeds::inspect_feed))
        .routes(routes!(feeds::list_quarantine))
        .routes(routes!(feeds::export_quarantine))
        .routes(routes!(inbound::list_tokens, inbound::create_token))
        .routes(routes!(inbound::revoke_token))
        .routes(routes!(inbound::accept_records))
        .routes(routes!(inbound::learn_shape))
        .routes(routes!(inbound::show_event_schema))
        .routes(routes!(inbound::receive_event))
        .routes(routes!(inbound::show_event))
        .routes(routes!(systems::set_secret))
        .routes(routes!(systems::show_retirement))
        .routes(routes!(identities::resolve_identity))
        .routes(routes!(systems::check_system))
        .routes(routes!(systems::read_system))
        .routes(routes!(systems::list_accounts))
        .routes(routes!(systems::show_schema))
        .merge(rule_routes())
        .merge(people_routes())
}

/// Rules, drafts, webhooks, runs and decisions.
fn rule_routes() -> OpenApiRouter<Service> {
    OpenApiRouter::new()
        .routes(routes!(rules::show_rules, rules::publish_rules))
        .routes(routes!(rules::check_rules))
        .routes(routes!(rules::evaluate_expression))
        .routes(routes!(drafts::evaluate_mapping))
        .routes(routes!(drafts::list_drafts, drafts::create_draft))
        .routes(routes!(
            drafts::show_draft,
            drafts::save_draft,
            drafts::discard_draft
        ))
        .routes(routes!(drafts::rebase_draft))
        .routes(routes!(drafts::draft_impact))
        .routes(routes!(drafts::files_impact))
        .routes(routes!(drafts::publish_draft))
        .routes(routes!(drafts::list_versions))
        .routes(routes!(drafts::compare_versions))
        .routes(routes!(drafts::list_passwords))
        .routes(routes!(drafts::show_password))
        .routes(routes!(drafts::list_webhooks))
        .routes(routes!(drafts::set_webhook_secret))
        .routes(routes!(drafts::test_webhook))
        .routes(routes!(
            changes::list_change_sets,
            changes::begin_change_set
        ))
        .routes(routes!(changes::show_change_set))
        .routes(routes!(changes::list_lines))
        .routes(routes!(changes::list_changes))
        .routes(routes!(changes::cancel_change_set))
        .routes(routes!(changes::export_changes))
        .routes(routes!(changes::compare_change_sets))
        .routes(routes!(changes::list_decisions, changes::answer_decision))
}

/// Operators, identities, their lifecycle, roles, licenses and passwords.
fn people_routes() -> OpenApiRouter<Service> {
    OpenApiRouter::new()
        .routes(routes!(operators::list_operators, operators::add_operator))
        .routes(routes!(
            operators::set_operator,
            operators::deactivate_operator
        ))
        .routes(routes!(
            operators::list_operator_tokens,
            operators::rotate_operator_token
        ))
        .routes(routes!(operators::revoke_operator_token))
        .routes(routes!(identities::list_identities))
        .routes(routes!(identities::show_identity))
        .routes(routes!(identities::split_identity))
        .routes(routes!(lifecycle::show_lifecycle))
        .routes(routes!(
            lifecycle::show_departure_impact,
            lifecycle::set_departure,
            lifecycle::cancel_departure
        ))
        .routes(routes!(lifecycle::list_leavers))
        .routes(routes!(roles::list_roles))
        .routes(routes!(roles::list_holders, roles::grant_role))
        .routes(routes!(roles::simulate_role))
        .routes(routes!(roles::revoke_role))
        .routes(routes!(licenses::list_licenses))
        .routes(routes!(memberships::show_groups))
        .routes(routes!(notifications::list_notifications))
        .routes(routes!(
            password_sync::set_password,
            password_sync::show_passwords_set
        ))
        .routes(routes!(identities::explain_why))
}

/// Routes beside the API.
pub fn open(document: utoipa::openapi::OpenApi) -> Router<Service> {
    Router::new()
        .route(
            "/api/v1/openapi.json",
            get(move || async move { Json(document) }),
        )
        .route("/healthz", get(|| async { "ok" }))
        .route("/readyz", get(session::ready))
}
