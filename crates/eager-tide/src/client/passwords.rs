//! `eager-tide passwords …`.

use super::{Reach, output};
use clap::Subcommand;
use reqwest::Method;
use std::process::ExitCode;
use tide_api::{FirstPassword, ShownPassword};

/// What can be done with first passwords.
#[derive(Subcommand)]
pub enum Passwords {
    /// First passwords that wait to be shown, and those that were
    List,
    /// Show a first password, once; it is journaled, and gone afterwards
    Show {
        /// Its number
        id: i64,
    },
}

impl Passwords {
    /// Does it.
    pub async fn run(self, reach: &Reach) -> anyhow::Result<ExitCode> {
        let client = reach.client()?;
        match self {
            Passwords::List => {
                let all: Vec<FirstPassword> = client.get("passwords", &[]).await?;
                if reach.json() {
                    output::json(&all)?;
                } else if all.is_empty() {
                    output::line("no first password was set: a system's [person.password] says which accounts get one");
                } else {
                    let rows = all.into_iter().map(|one| {
                        let state = match (one.shown, one.shown_to) {
                            (Some(at), Some(who)) => format!("given {} to {who}", output::time(&at)),
                            _ => one.error.map_or_else(|| "waits".into(), |error| format!("waits: {error}")),
                        };
                        vec![one.id.to_string(), one.label, one.system, one.account, output::time(&one.made), state]
                    });
                    output::table(&["number", "who", "system", "account", "set", "state"], rows);
                }
            }
            Passwords::Show { id } => {
                let shown: ShownPassword = client.send(Method::POST, &format!("passwords/{id}/show"), &()).await?;
                if reach.json() {
                    output::json(&shown)?;
                } else {
                    output::line(&shown.password);
                }
            }
        }
        Ok(ExitCode::SUCCESS)
    }
}
