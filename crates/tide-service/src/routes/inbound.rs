//! Systems that push to us: their tokens, the shape of their events, the events and their
//! results.

use crate::Service;
use crate::access::Caller;
use crate::convert;
use crate::events_in;
use crate::problem::{Body, Path, Refusal};
use axum::extract::State;
use axum::http::StatusCode;
use axum::{Extension, Json};
use tide_api::{
    AcceptedRecords, CreatedToken, EventOutcome, EventReport, EventSample, EventShape, NewToken,
    Problem, Token,
};
use tide_core::Value;
use tide_core::incremental::Records;
use tide_core::states::{EventKind, EventState, SystemKind};
use tide_engine::EngineError;
use tide_store::EventRow;

/// Lists the tokens of a system, the newest first.
#[utoipa::path(get, path = "/api/v1/systems/{name}/tokens", tag = "push", params(("name" = String, Path)), responses((status = 200, body = Vec<Token>)))]
pub async fn list_tokens(
    State(service): State<Service>,
    Path(name): Path<String>,
) -> Result<Json<Vec<Token>>, Refusal> {
    let now = tide_store::format_timestamp(service.engine.now());
    Ok(Json(
        service
            .engine
            .ingest()
            .list_tokens(&name)
            .await?
            .into_iter()
            .map(|row| convert::token(row, &now))
            .collect(),
    ))
}

/// Creates a token for a system, which is shown only once. Earlier ones stay valid for a day.
#[utoipa::path(post, path = "/api/v1/systems/{name}/tokens", tag = "push", params(("name" = String, Path)), request_body = NewToken,
    responses((status = 201, body = CreatedToken), (status = 422, body = Problem, content_type = "application/problem+json")))]
pub async fn create_token(
    State(service): State<Service>,
    Extension(caller): Extension<Caller>,
    Path(name): Path<String>,
    Body(new): Body<NewToken>,
) -> Result<(StatusCode, Json<CreatedToken>), Refusal> {
    let made = service
        .engine
        .ingest()
        .give_token(
            &name,
            new.label.trim(),
            tide_engine::new_token(),
            &caller.principal.id,
        )
        .await?;
    Ok((
        StatusCode::CREATED,
        Json(CreatedToken {
            id: made.id,
            token: made.token,
        }),
    ))
}

/// Revokes a token at once.
#[utoipa::path(delete, path = "/api/v1/systems/{name}/tokens/{id}", tag = "push", params(("name" = String, Path), ("id" = String, Path)), responses((status = 204)))]
pub async fn revoke_token(
    State(service): State<Service>,
    Extension(caller): Extension<Caller>,
    Path((name, id)): Path<(String, String)>,
) -> Result<StatusCode, Refusal> {
    service
        .engine
        .ingest()
        .end_token(&name, &id, &caller.principal.id)
        .await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Accepts the stored records of an inbound system after a restore: it counts as read, although it
/// has not sent all records since. Changes and deletions after the backup stay unknown.
#[utoipa::path(post, path = "/api/v1/systems/{name}/accept-records", tag = "push", params(("name" = String, Path)),
    responses((status = 200, body = AcceptedRecords)))]
pub async fn accept_records(
    State(service): State<Service>,
    Extension(caller): Extension<Caller>,
    Path(name): Path<String>,
) -> Result<Json<AcceptedRecords>, Refusal> {
    let (unsent, total) = service
        .engine
        .ingest()
        .accept_records(&name, &caller.principal.id)
        .await?;
    Ok(Json(AcceptedRecords { unsent, total }))
}

async fn shape(service: &Service, system: &str) -> Result<EventShape, Refusal> {
    let row = service.engine.store().find_system(system).await?;
    if row.kind != SystemKind::Push {
        return Err(Refusal::invalid(format!(
            "{system} is of kind {} and does not push",
            row.kind
        )));
    }
    let stored = service.engine.store().event_shape(system).await?;
    Ok(stored
        .and_then(|text| serde_json::from_str(&text).ok())
        .unwrap_or_else(events_in::default_shape))
}

/// Detects the format of a system's events from a sample.
#[utoipa::path(put, path = "/api/v1/events/{system}/shape", tag = "push", params(("system" = String, Path)), request_body = EventSample,
    responses((status = 200, body = EventShape), (status = 400, body = Problem, content_type = "application/problem+json")))]
pub async fn learn_shape(
    State(service): State<Service>,
    Extension(caller): Extension<Caller>,
    Path(system): Path<String>,
    Body(sample): Body<EventSample>,
) -> Result<Json<EventShape>, Refusal> {
    shape(&service, &system).await?;
    let learned = events_in::detect_shape(&sample).map_err(Refusal::invalid)?;
    let text = serde_json::to_string(&learned).unwrap_or_default();
    service
        .engine
        .store()
        .set_event_shape(&system, &text, &caller.principal.id, service.engine.now())
        .await?;
    Ok(Json(learned))
}

/// The JSON Schema of a system's events (draft 2020-12).
#[utoipa::path(get, path = "/api/v1/events/{system}/schema", tag = "push", params(("system" = String, Path)), responses((status = 200, body = Object)))]
pub async fn show_event_schema(
    State(service): State<Service>,
    Path(system): Path<String>,
) -> Result<Json<serde_json::Value>, Refusal> {
    Ok(Json(events_in::schema(
        &system,
        &shape(&service, &system).await?,
    )))
}

/// Accepts an event: a joiner, a mover or a leaver. The answer contains the path of its status. A
/// repeated event with a known id gets the answer of the first one, and nothing is done.
#[utoipa::path(post, path = "/api/v1/events/{system}", tag = "push", params(("system" = String, Path)), request_body = Object,
    responses((status = 202, body = EventReport), (status = 400, body = Problem, content_type = "application/problem+json")))]
pub async fn receive_event(
    State(service): State<Service>,
    Extension(caller): Extension<Caller>,
    Path(system): Path<String>,
    Body(event): Body<serde_json::Value>,
) -> Result<(StatusCode, Json<EventReport>), Refusal> {
    let shape = shape(&service, &system).await?;
    let happening = events_in::read_event(&shape, &event).map_err(|problems| {
        Refusal::invalid(problems.join("; ")).remedy(format!(
            "/api/v1/events/{system}/schema says how an event is written"
        ))
    })?;
    let id = uuid::Uuid::now_v7().to_string();
    let event = service
        .engine
        .ingest()
        .take_event(&system, &id, happening, &caller.principal.id)
        .await?;
    // The result is requested at the status URL: a sender of many events must not cause a decision
    // for each.
    let state = if event.is_outdated {
        EventState::Outdated
    } else {
        EventState::Waiting
    };
    Ok((
        StatusCode::ACCEPTED,
        Json(described(&system, event, state, Vec::new())),
    ))
}

/// The current status of an event.
#[utoipa::path(get, path = "/api/v1/events/{system}/{id}", tag = "push", params(("system" = String, Path), ("id" = String, Path)), responses((status = 200, body = EventReport)))]
pub async fn show_event(
    State(service): State<Service>,
    Path((system, id)): Path<(String, String)>,
) -> Result<Json<EventReport>, Refusal> {
    Ok(Json(state(&service, &system, &id).await?))
}

fn described(
    system: &str,
    event: EventRow,
    state: EventState,
    outcomes: Vec<EventOutcome>,
) -> EventReport {
    EventReport {
        status_url: format!("/api/v1/events/{system}/{}", event.id),
        id: event.id,
        event: event.kind,
        key: event.key,
        received_at: event.created_at,
        state,
        account: event.account,
        identity: event.identity,
        outcomes,
    }
}

async fn state(service: &Service, system: &str, id: &str) -> Result<EventReport, Refusal> {
    let event = service.engine.store().find_event(system, id).await?;
    if event.is_outdated {
        return Ok(described(system, event, EventState::Outdated, Vec::new()));
    }
    let (outcomes, held, open) = outcomes(service, system, event.account).await?;
    let carried_on = event.identity.is_some();
    let state = match () {
        () if held => EventState::OnHold,
        () if !carried_on && event.kind != EventKind::Leaver => EventState::Waiting,
        () if open => EventState::Running,
        () => EventState::Done,
    };
    Ok(described(system, event, state, outcomes))
}

/// What the current decision says about the account and about its identity's accounts elsewhere;
/// whether something is held, and whether something is still to be sent.
async fn outcomes(
    service: &Service,
    system: &str,
    account: Option<i64>,
) -> Result<(Vec<EventOutcome>, bool, bool), Refusal> {
    let of = Records {
        accounts: account.into_iter().collect(),
        ..Records::default()
    };
    let (population, outcome) = match service.engine.decider().decide_around(&of).await {
        Ok(near) => (near.population, near.outcome),
        // Without rules nothing follows from an event yet.
        Err(EngineError::NoRules) => return Ok((Vec::new(), false, false)),
        Err(other) => return Err(other.into()),
    };
    let own = outcome
        .decided
        .iter()
        .find(|line| line.account == account && line.system == system);
    let identity = own.and_then(|line| line.identity.clone());
    let mut outcomes = Vec::new();
    let mut held = false;
    for line in outcome.decided.iter().filter(|line| {
        line.identity.is_some() && line.identity == identity
            || line.account == account && account.is_some()
    }) {
        held |= line.verdict == tide_core::decide::Verdict::OnHold;
        let there = line
            .account
            .and_then(|id| population.accounts.iter().find(|a| a.id == id));
        let groups = there
            .map(|a| {
                ["memberOf", "groups"]
                    .iter()
                    .flat_map(|n| a.attributes.get(n))
                    .map(Value::to_string)
                    .collect()
            })
            .unwrap_or_default();
        outcomes.push(EventOutcome {
            system: line.system.clone(),
            account: there.map(|a| a.name.clone()),
            key: there.map(|a| a.key.clone()),
            groups,
            message: format!(
                "{}: {}",
                line.verdict.as_str().replace('_', " "),
                line.reason
            ),
        });
    }
    let open = outcome
        .changes
        .iter()
        .any(|change| identity.as_ref() == Some(&change.identity));
    Ok((outcomes, held, open))
}
