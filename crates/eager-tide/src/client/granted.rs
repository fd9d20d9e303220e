//! `eager-tide licences` and `eager-tide told`.

use super::{Reach, output};
use crate::client::codes::label;
use clap::Args;
use std::process::ExitCode;
use tide_api::{Licence, Told};

/// Options of `licences`.
#[derive(Args)]
pub struct Licences {
    /// Only this license, with its waiting list
    name: Option<String>,
}

/// Options of `told`.
#[derive(Args)]
pub struct ToldTo {
    /// Only about this person: a name, number, address, DN or id
    #[arg(long)]
    identity: Option<String>,
    /// Only notifications that are not delivered yet
    #[arg(long)]
    waiting: bool,
}

impl Licences {
    /// Shows seats, who waits for one, and what the next weeks bring.
    pub async fn run(self, reach: &Reach) -> anyhow::Result<ExitCode> {
        let mut all: Vec<Licence> = reach.client()?.get("licences", &[]).await?;
        if let Some(name) = &self.name {
            all.retain(|licence| licence.name == *name);
            if all.is_empty() {
                anyhow::bail!("there is no licence `{name}`: `eager-tide licences` names them");
            }
        }
        if reach.json() {
            output::json(&all)?;
            return Ok(ExitCode::SUCCESS);
        }
        if all.is_empty() {
            output::line("no licences are counted: licenses.toml names them");
            return Ok(ExitCode::SUCCESS);
        }
        let days = all[0].ahead_days;
        output::table(
            &[
                "licence", "system", "seats", "in use", "waiting", "starting", "leaving", "wanted",
                "place",
            ],
            all.iter().map(|one| {
                let wanted = if one.wanted > one.seats {
                    format!("{} ({} too many)", one.wanted, one.wanted - one.seats)
                } else {
                    one.wanted.to_string()
                };
                vec![
                    one.name.clone(),
                    one.system.clone(),
                    one.seats.to_string(),
                    one.used.to_string(),
                    one.waiting.len().to_string(),
                    one.starting.to_string(),
                    one.leaving.to_string(),
                    wanted,
                    one.rule.clone(),
                ]
            }),
        );
        output::line(&format!(
            "starting, leaving and wanted: within {days} days, if nothing else changes"
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
            output::table(&["in line", "who", "by", "id"], rows);
        }
        Ok(ExitCode::SUCCESS)
    }
}

impl ToldTo {
    /// Shows what rules told to whom.
    pub async fn run(self, reach: &Reach) -> anyhow::Result<ExitCode> {
        let mut query = vec![("waiting", self.waiting.to_string())];
        if let Some(who) = &self.identity {
            query.push(("identity", reach.client()?.identity(who).await?));
        }
        let all: Vec<Told> = reach.client()?.get("told", &query).await?;
        if reach.json() {
            output::json(&all)?;
        } else if all.is_empty() && self.waiting {
            output::line("nothing waits to be carried");
        } else if all.is_empty() && self.identity.is_some() {
            output::line("nothing was told about them");
        } else if all.is_empty() {
            output::line("no notifications yet: notifications.toml declares them");
        } else {
            let rows = all.into_iter().map(|one| {
                let state = match (&one.sent, &one.error, &one.call) {
                    (Some(at), _, Some(call)) => format!("by {call} {}", output::time(at)),
                    (None, Some(error), _) => format!("waits: {error}"),
                    (None, None, Some(call)) => format!("waits for {call}"),
                    (_, _, None) => "here".to_owned(),
                };
                vec![
                    output::time(&one.made),
                    label(one.event),
                    one.label,
                    one.about.unwrap_or_default(),
                    one.to.join(", "),
                    one.text,
                    state,
                ]
            });
            output::table(
                &[
                    "noticed", "what", "about", "of", "told to", "text", "carried",
                ],
                rows,
            );
        }
        Ok(ExitCode::SUCCESS)
    }
}
