//! Licenses.

use crate::Service;
use crate::problem::Refusal;
use axum::Json;
use axum::extract::State;
use tide_api::{LicenseUsage, SeatForecast, SeatWaiter};

/// Lists all licenses: seats, users, those who wait, and a forecast for the next weeks.
#[utoipa::path(get, path = "/api/v1/licenses", tag = "identities", responses((status = 200, body = Vec<LicenseUsage>)))]
pub async fn list_licenses(
    State(service): State<Service>,
) -> Result<Json<Vec<LicenseUsage>>, Refusal> {
    let all = service.engine.views().list_licenses().await?;
    Ok(Json(all.into_iter().map(license).collect()))
}

fn license(view: tide_engine::LicenseUsageView) -> LicenseUsage {
    let used = i64::try_from(view.used).unwrap_or(i64::MAX);
    let waiting = view.waiting.into_iter().map(|one| SeatWaiter {
        identity: one.identity,
        label: one.label,
        order: one.order,
    });
    LicenseUsage {
        forecast: view.forecast.map(|forecast| SeatForecast {
            starting: (forecast.would_take - view.waiting_count).max(0),
            leaving: forecast.would_free,
            needed: (used + forecast.would_take - forecast.would_free).max(0),
        }),
        name: view.license.name,
        system: view.license.system,
        seats: view.license.seats,
        used: view.used,
        consumed_when: view.license.consumed_when.source().to_owned(),
        waiting: waiting.collect(),
        waiting_count: view.waiting_count,
        ahead_days: tide_engine::AHEAD_DAYS,
        rule: format!("{}:{}", view.license.place.file, view.license.place.line),
    }
}
