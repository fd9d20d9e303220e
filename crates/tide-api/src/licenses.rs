//! Licenses and the use of their seats.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A person who waits for a seat.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SeatWaiter {
    /// Their identity.
    pub identity: String,
    /// Their display name.
    pub label: String,
    /// The value by which the rule orders those who wait.
    pub order: String,
}

/// A license whose seats are counted.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct LicenseUsage {
    /// Its name.
    pub name: String,
    /// The system whose accounts use its seats.
    pub system: String,
    /// How many seats there are.
    pub seats: usize,
    /// How many are in use, by the accounts that are there.
    pub used: usize,
    /// Which accounts use one.
    pub consumed_when: String,
    /// Who waits for one, in order: the first 1,000.
    pub waiting: Vec<SeatWaiter>,
    /// How many wait.
    pub waiting_count: i64,
    /// The number of days of the forecast.
    pub ahead_days: i64,
    /// What these days bring, if nothing else changes. Not told if more than 1,000 people change by
    /// then: a preview of that day shows it.
    pub forecast: Option<SeatForecast>,
    /// Its place, as `file:line`.
    pub rule: String,
}

/// What the next days do to the seats of a license.
#[derive(Debug, Clone, Copy, Serialize, Deserialize, ToSchema)]
pub struct SeatForecast {
    /// How many more will need a seat by then.
    pub starting: i64,
    /// How many will release one by then.
    pub leaving: i64,
    /// How many are needed then: those in use, waiting or starting, without those who leave.
    pub needed: i64,
}
