//! `eager-tide licenses`.

use super::{Reach, output};
use clap::Args;
use std::process::ExitCode;
use tide_api::{LicenseUsage, SeatForecast};

/// Options of `licenses`.
#[derive(Args)]
pub struct Licenses {
    /// Only this license, with its waiting list
    name: Option<String>,
}

impl Licenses {
    /// Shows seats, the waiting list and the forecast.
    pub async fn run(self, reach: &Reach) -> anyhow::Result<ExitCode> {
        let mut all: Vec<LicenseUsage> = reach.client()?.get("licenses", &[]).await?;
        if let Some(name) = &self.name {
            all.retain(|license| license.name == *name);
            if all.is_empty() {
                anyhow::bail!("there is no license `{name}`: `eager-tide licenses` lists them");
            }
        }
        if reach.json() {
            output::json(&all)?;
            return Ok(ExitCode::SUCCESS);
        }
        if all.is_empty() {
            output::line("no licenses yet: licenses.toml declares them");
            return Ok(ExitCode::SUCCESS);
        }
        let days = all[0].ahead_days;
        print_seats(&all);
        output::line(&if all.iter().all(|one| one.forecast.is_some()) {
            format!("joiners, leavers and needed: within {days} days, if nothing else changes")
        } else {
            format!(
                "too many people change within {days} days for a forecast: `eager-tide preview --as-of DAY` shows a day"
            )
        });
        for one in all
            .iter()
            .filter(|one| self.name.is_some() && !one.waiting.is_empty())
        {
            output::line("");
            let rows = one.waiting.iter().enumerate().map(|(n, who)| {
                vec![
                    (n + 1).to_string(),
                    who.label.clone(),
                    who.order.clone(),
                    who.identity.clone(),
                ]
            });
            output::table(&["position", "person", "order", "id"], rows);
            if (one.waiting.len() as i64) < one.waiting_count {
                output::line(&format!(
                    "the first {} of {} who wait",
                    one.waiting.len(),
                    one.waiting_count
                ));
            }
        }
        Ok(ExitCode::SUCCESS)
    }
}

/// Prints the seats of each license, with the forecast.
fn print_seats(all: &[LicenseUsage]) {
    output::table(
        &[
            "license", "system", "seats", "in use", "waiting", "joiners", "leavers", "needed",
            "rule",
        ],
        all.iter().map(|one| {
            let seats = i64::try_from(one.seats).unwrap_or(i64::MAX);
            let unknown = || ["—".to_owned(), "—".to_owned(), "—".to_owned()];
            let told = |ahead: SeatForecast| {
                let needed = if ahead.needed > seats {
                    format!("{} ({} missing)", ahead.needed, ahead.needed - seats)
                } else {
                    ahead.needed.to_string()
                };
                [
                    ahead.starting.to_string(),
                    ahead.leaving.to_string(),
                    needed,
                ]
            };
            let [starting, leaving, needed] = one.forecast.map_or_else(unknown, told);
            vec![
                one.name.clone(),
                one.system.clone(),
                one.seats.to_string(),
                one.used.to_string(),
                one.waiting_count.to_string(),
                starting,
                leaving,
                needed,
                one.rule.clone(),
            ]
        }),
    );
}
