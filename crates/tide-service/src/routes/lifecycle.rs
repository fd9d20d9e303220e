//! Lifecycles, departures, and how fast leavers lose access.

use crate::Service;
use crate::access::Caller;
use crate::problem::{Body, Path, Query, Refusal};
use axum::extract::State;
use axum::http::StatusCode;
use axum::{Extension, Json};
use jiff::Timestamp;
use tide_api::{
    AccountNote, Departure, DepartureChange, DepartureImpactView, Leaver, Leavers, LeaversQuery,
    LifecycleView, Moment, NewDeparture, OpenAccessView, Problem,
};

fn instant(at: Timestamp) -> String {
    at.to_string()
}

fn wrong(said: String) -> Refusal {
    Refusal::new(StatusCode::BAD_REQUEST, "date", said)
        .remedy("write a timestamp like 2026-12-31T17:00:00Z, or a last day like 2026-12-31")
}

/// The moment of the departure; without one, now.
async fn moment(service: &Service, leave: &NewDeparture) -> Result<Option<Timestamp>, Refusal> {
    match (&leave.at, &leave.last_day) {
        (None, None) => Ok(None),
        (Some(at), None) => {
            Ok(Some(at.parse().map_err(|_| {
                wrong(format!("`{at}` is not a timestamp"))
            })?))
        }
        (None, Some(day)) => {
            let date = day
                .parse()
                .map_err(|_| wrong(format!("`{day}` is not a date")))?;
            Ok(Some(service.engine.views().after_last_day(date).await?))
        }
        (Some(_), Some(_)) => Err(wrong(
            "`at` and `last_day` cannot be used together".to_owned(),
        )),
    }
}

fn departure(identity: &str, label: &str, one: &tide_core::model::Departure) -> Departure {
    let (by, comment) = (one.principal.clone(), one.comment.clone());
    Departure {
        identity: identity.to_owned(),
        label: label.to_owned(),
        at: instant(one.at),
        by,
        comment,
    }
}

/// Returns the lifecycle of a person, past and planned.
#[utoipa::path(get, path = "/api/v1/identities/{id}/lifecycle", tag = "identities", params(("id" = String, Path)),
    responses((status = 200, body = LifecycleView), (status = 404, body = Problem, content_type = "application/problem+json")))]
pub async fn show_lifecycle(
    State(service): State<Service>,
    Path(id): Path<String>,
) -> Result<Json<LifecycleView>, Refusal> {
    let line = service.engine.views().life_line(&id).await?;
    let now = service.engine.now();
    let moments = line.life.as_ref().map_or(&[][..], |life| &life.moments);
    let moments = moments.iter().map(|(at, turn)| Moment {
        at: instant(*at),
        shown: at
            .to_zoned(line.zone.clone())
            .strftime("%Y-%m-%d %H:%M")
            .to_string(),
        transition: *turn,
        what: turn.label().to_owned(),
        past: *at <= now,
    });
    Ok(Json(LifecycleView {
        stage: line.identity.stage,
        reason: line.life.as_ref().map(|life| (&life.reason).into()),
        rule: line
            .life
            .as_ref()
            .and_then(|life| life.reason.rule.as_ref())
            .map(|place| format!("{}:{}", place.file, place.line)),
        since: line.identity.since.map(instant),
        moments: moments.collect(),
        departure: line.departure.as_ref().map(|one| departure(&id, "", one)),
    }))
}

/// Returns the impact of a departure. Changes nothing.
#[utoipa::path(get, path = "/api/v1/identities/{id}/departure", tag = "identities", params(("id" = String, Path), NewDeparture),
    responses((status = 200, body = DepartureImpactView), (status = 404, body = Problem, content_type = "application/problem+json")))]
pub async fn show_departure_impact(
    State(service): State<Service>,
    Path(id): Path<String>,
    Query(leave): Query<NewDeparture>,
) -> Result<Json<DepartureImpactView>, Refusal> {
    let at = moment(&service, &leave).await?;
    let effect = service.engine.views().effect_of_leaving(&id, at).await?;
    let change = |change: tide_core::decide::Change| DepartureChange {
        values: change
            .values
            .iter()
            .map(|value| match value.after.is_empty() {
                true if value.before.is_empty() => value.attribute.clone(),
                _ => format!(
                    "{}: {} → {}",
                    value.attribute,
                    tide_core::value::format_values(&value.before),
                    tide_core::value::format_values(&value.after)
                ),
            })
            .collect(),
        system: change.system,
        kind: change.kind,
        step: change.step,
        hold: change.hold.map(Into::into),
    };
    Ok(Json(DepartureImpactView {
        at: instant(at.unwrap_or_else(|| service.engine.now())),
        changes: effect.changes.into_iter().map(change).collect(),
        notes: effect
            .said
            .into_iter()
            .map(|(system, said)| AccountNote {
                system,
                message: said.to_string(),
            })
            .collect(),
    }))
}

/// Starts or schedules a departure. Due changes are sent at once, before all others.
#[utoipa::path(put, path = "/api/v1/identities/{id}/departure", tag = "identities", params(("id" = String, Path)), request_body = NewDeparture,
    responses((status = 204), (status = 404, body = Problem, content_type = "application/problem+json")))]
pub async fn set_departure(
    State(service): State<Service>,
    Extension(caller): Extension<Caller>,
    Path(id): Path<String>,
    Body(leave): Body<NewDeparture>,
) -> Result<StatusCode, Refusal> {
    let at = moment(&service, &leave).await?;
    service
        .engine
        .runner()
        .start_departure(
            &id,
            at,
            &leave.comment,
            &caller.principal.id,
            &caller.principal.name,
        )
        .await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Cancels a departure. A person who left by it is reinstated.
#[utoipa::path(delete, path = "/api/v1/identities/{id}/departure", tag = "identities", params(("id" = String, Path)),
    responses((status = 204), (status = 404, body = Problem, content_type = "application/problem+json")))]
pub async fn cancel_departure(
    State(service): State<Service>,
    Extension(caller): Extension<Caller>,
    Path(id): Path<String>,
) -> Result<StatusCode, Refusal> {
    service
        .engine
        .runner()
        .cancel_departure(&id, &caller.principal.id)
        .await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Returns how long leavers keep their access, and which access is outstanding.
#[utoipa::path(get, path = "/api/v1/leavers", tag = "identities", params(LeaversQuery), responses((status = 200, body = Leavers)))]
pub async fn list_leavers(
    State(service): State<Service>,
    Query(query): Query<LeaversQuery>,
) -> Result<Json<Leavers>, Refusal> {
    let found = service.engine.views().list_leavers(query.brief).await?;
    let mut seconds: Vec<f64> = found
        .iter()
        .filter_map(tide_engine::Leaver::seconds_to_revoke)
        .collect();
    seconds.sort_by(f64::total_cmp);
    let planned = service.engine.store().all_departures().await?;
    let now = service.engine.now();
    Ok(Json(Leavers {
        median_seconds: seconds.get(seconds.len() / 2).copied(),
        worst_seconds: seconds.last().copied(),
        open: found.iter().filter(|one| !one.open.is_empty()).count(),
        planned: planned
            .iter()
            .filter(|(.., one)| one.at > now)
            .map(|(identity, label, one)| departure(identity, label, one))
            .collect(),
        leavers: found
            .into_iter()
            .map(|one| Leaver {
                seconds: one.seconds_to_revoke(),
                identity: one.row.identity,
                label: one.row.label,
                started_at: instant(one.row.started),
                confirmed_at: one.row.confirmed.map(instant),
                done: one.row.done,
                open: one
                    .open
                    .into_iter()
                    .map(|way| OpenAccessView {
                        system: way.system,
                        kind: way.kind,
                        reason: way.why.into(),
                    })
                    .collect(),
                returned_at: one.row.returned.map(instant),
            })
            .collect(),
    }))
}
