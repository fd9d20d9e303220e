//! `eager-tide licenses`.

use super::{Reach, output};
use clap::Args;
use std::process::ExitCode;
use tide_api::LicenseUsage;

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
        output::table(
            &[
                "license", "system", "seats", "in use", "waiting", "joiners", "leavers", "needed",
                "rule",
            ],
            all.iter().map(|one| {
                let needed = if one.needed > one.seats {
                    format!("{} ({} missing)", one.needed, one.needed - one.seats)
                } else {
                    one.needed.to_string()
                };
                vec![
                    one.name.clone(),
                    one.system.clone(),
                    one.seats.to_string(),
                    one.used.to_string(),
                    one.waiting.len().to_string(),
                    one.starting.to_string(),
                    one.leaving.to_string(),
                    needed,
                    one.rule.clone(),
                ]
            }),
        );
        output::line(&format!(
            "joiners, leavers and needed: within {days} days, if nothing else changes"
        ));
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
        }
        Ok(ExitCode::SUCCESS)
    }
}
