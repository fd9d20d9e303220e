//! Licenses: how many seats are in use, who waits for one, and what the next weeks bring.

use crate::{Engine, EngineError};
use jiff::ToSpan;
use tide_core::decide::licenses::{LicenseUsage, license_usage};
use tide_core::rules::licenses::License;

/// Number of days of the forecast.
pub const AHEAD_DAYS: i64 = 30;

/// A license and its usage.
#[derive(Debug, Clone)]
pub struct LicenseUsageView {
    /// The license.
    pub license: License,
    /// Its usage now.
    pub now: LicenseUsage,
    /// Its usage later, if nothing else changes: each joiner takes a seat and each leaver frees
    /// one.
    pub later: LicenseUsage,
}

impl Engine {
    /// All licenses with their seats.
    pub async fn list_licenses(&self) -> Result<Vec<LicenseUsageView>, EngineError> {
        if self.published_rules().await?.set.licenses.is_empty() {
            return Ok(Vec::new());
        }
        let (rules, population, outcome) = self.decide_now().await?;
        let now = license_usage(&rules.set, &population, &outcome);
        let then = self
            .now()
            .saturating_add((AHEAD_DAYS * 24).hours())
            .unwrap_or_else(|_| self.now());
        let (rules, population, outcome) = self.decide_as_of(then).await?;
        let later = license_usage(&rules.set, &population, &outcome);
        let both = now.into_iter().zip(later);
        Ok(rules
            .set
            .licenses
            .iter()
            .cloned()
            .zip(both)
            .map(|(license, (now, later))| LicenseUsageView {
                license,
                now,
                later,
            })
            .collect())
    }
}
