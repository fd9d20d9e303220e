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
    /// Who waits for one, in order.
    pub waiting: Vec<SeatWaiter>,
    /// The number of days of the forecast.
    pub ahead_days: i64,
    /// How many more will need a seat by then, if nothing else changes.
    pub starting: usize,
    /// How many will release one by then.
    pub leaving: usize,
    /// How many are needed then: those in use, waiting or starting, without those who leave.
    pub needed: usize,
    /// Its place, as `file:line`.
    pub rule: String,
}
