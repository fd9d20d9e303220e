//! Licenses.

use crate::Service;
use crate::problem::Refusal;
use axum::Json;
use axum::extract::State;
use tide_api::{LicenseUsage, SeatWaiter};

/// Lists all licenses: seats, users, those who wait, and a forecast for the next weeks.
#[utoipa::path(get, path = "/api/v1/licenses", tag = "identities", responses((status = 200, body = Vec<LicenseUsage>)))]
pub async fn list_licenses(
    State(service): State<Service>,
) -> Result<Json<Vec<LicenseUsage>>, Refusal> {
    let waiter = |one: tide_core::decide::licenses::SeatWaiter| SeatWaiter {
        identity: one.identity,
        label: one.label,
        order: one.order,
    };
    let license = |view: tide_engine::LicenseUsageView| LicenseUsage {
        starting: view.later.would_take.saturating_sub(view.now.waiting.len()),
        leaving: view.later.would_free,
        needed: (view.now.used + view.later.would_take).saturating_sub(view.later.would_free),
        name: view.license.name,
        system: view.license.system,
        seats: view.license.seats,
        used: view.now.used,
        consumed_when: view.license.consumed_when.source().to_owned(),
        waiting: view.now.waiting.into_iter().map(waiter).collect(),
        ahead_days: tide_engine::AHEAD_DAYS,
        rule: format!("{}:{}", view.license.place.file, view.license.place.line),
    };
    Ok(Json(
        service
            .engine
            .list_licenses()
            .await?
            .into_iter()
            .map(license)
            .collect(),
    ))
}
