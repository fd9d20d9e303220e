//! Licenses: how many seats are in use, who waits for one, and what the next weeks bring.

use crate::error::EngineError;
use crate::kept::seat_holdings;
use crate::views::Views;
use jiff::{Timestamp, ToSpan};
use std::collections::{BTreeMap, BTreeSet};
use tide_core::decide::licenses::SeatUse;
use tide_core::incremental::Records;
use tide_core::rules::licenses::License;
use tide_store::{Holding, HoldingDetail, HoldingKind};

/// Number of days of the forecast.
pub const AHEAD_DAYS: i64 = 30;

/// The most people whose future is decided for a forecast.
pub const MOST_FORECAST: usize = 1_000;

/// The most people of a waiting list in one answer.
const MOST_WAITING: i64 = 1_000;

/// The number of people decided at once.
const CHUNK: usize = 250;

/// A license and its usage.
#[derive(Debug, Clone)]
pub struct LicenseUsageView {
    /// The license.
    pub license: License,
    /// Seats in use.
    pub used: usize,
    /// The first people of the waiting list, in order: identity, label and position.
    pub waiting: Vec<SeatWaiter>,
    /// How many wait.
    pub waiting_count: i64,
    /// What the next weeks bring, if nothing else changes: each joiner takes a seat and each leaver
    /// frees one. `None` if more people change than are decided for it.
    pub forecast: Option<SeatForecast>,
}

/// A person who waits for a seat.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SeatWaiter {
    /// Their identity.
    pub identity: String,
    /// Their label.
    pub label: String,
    /// By what they are ordered.
    pub order: String,
}

/// The changes of seats by a day.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct SeatForecast {
    /// How many take one, those who wait among them.
    pub would_take: i64,
    /// How many give one back.
    pub would_free: i64,
}

/// By license: how many seats are taken and freed.
type SeatCounts = BTreeMap<String, SeatForecast>;

fn add_seats(counts: &mut SeatCounts, license: String, seat: SeatUse, count: i64) {
    let known = counts.entry(license).or_default();
    match seat {
        SeatUse::Takes => known.would_take += count,
        SeatUse::Frees => known.would_free += count,
    }
}

impl Views {
    /// All licenses with their seats.
    pub async fn list_licenses(&self) -> Result<Vec<LicenseUsageView>, EngineError> {
        if self.rules.published_rules().await?.set.licenses.is_empty() {
            return Ok(Vec::new());
        }
        let now = self.context.now();
        let then = now.saturating_add((AHEAD_DAYS * 24).hours()).unwrap_or(now);
        let (rules, used, due) = {
            let cache = self.decider.current_cache().await?;
            let Some(known) = cache.as_ref() else {
                return Err(EngineError::Internal("no decision is known".to_owned()));
            };
            let state = known.state();
            (
                known.rules().clone(),
                state.seats_in_use(),
                state.due_identities(then),
            )
        };
        let forecast = self.forecast_seats(due, then).await?;
        let mut views = Vec::new();
        for (place, license) in rules.set.licenses.iter().enumerate() {
            let (waiting, waiting_count) = self
                .context
                .store
                .waiting_for_seat(&license.name, MOST_WAITING)
                .await?;
            let waiter = |one: Holding| SeatWaiter {
                order: match one.detail {
                    HoldingDetail::Seat(_, order) => order,
                    _ => String::new(),
                },
                identity: one.identity,
                label: one.label,
            };
            let expected = forecast
                .as_ref()
                .map(|all| all.get(&license.name).copied().unwrap_or_default());
            views.push(LicenseUsageView {
                license: license.clone(),
                used: used.get(place).copied().unwrap_or_default(),
                waiting: waiting.into_iter().map(waiter).collect(),
                waiting_count,
                forecast: expected,
            });
        }
        Ok(views)
    }

    /// The seats that are taken and freed by a day: kept decisions, and new ones as of that day for
    /// the people who are due until then.
    async fn forecast_seats(
        &self,
        due: BTreeSet<String>,
        then: Timestamp,
    ) -> Result<Option<SeatCounts>, EngineError> {
        if due.len() > MOST_FORECAST {
            return Ok(None);
        }
        let kinds = [
            (HoldingKind::SeatTaken, SeatUse::Takes),
            (HoldingKind::SeatFreed, SeatUse::Frees),
        ];
        let mut counts = SeatCounts::new();
        for (kind, seat) in kinds {
            for (license, count) in self.context.store.holding_counts(kind).await? {
                add_seats(&mut counts, license, seat, count);
            }
        }
        let due: Vec<String> = due.into_iter().collect();
        for some in due.chunks(CHUNK) {
            let records = Records {
                identities: some.iter().cloned().collect(),
                ..Records::default()
            };
            for (kind, seat) in kinds {
                for (license, count) in self.context.store.holding_counts_of(kind, &records).await?
                {
                    add_seats(&mut counts, license, seat, -count);
                }
            }
            let decided = self
                .decider
                .decide_around_as(&records, then, None, |_| {})
                .await?;
            let (rules, population) = (&decided.rules.set, &decided.population);
            for one in seat_holdings(rules, population, &decided.outcome) {
                if let HoldingDetail::Seat(seat, _) = one.detail
                    && records.identities.contains(&one.identity)
                {
                    add_seats(&mut counts, one.name, seat, 1);
                }
            }
        }
        Ok(Some(counts))
    }
}
