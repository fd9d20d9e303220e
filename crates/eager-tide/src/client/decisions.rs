//! `eager-tide decisions …`.

use super::{Reach, output};
use clap::Subcommand;
use reqwest::Method;
use std::process::ExitCode;
use tide_api::{Decision, NewDecisionAnswer};

/// What can be done with decisions.
#[derive(Subcommand)]
pub enum Decisions {
    /// What waits for a person: held changes, changes that failed for good, doubtful matches, what was done behind our back
    List,
    /// Send changes that a guard held after all
    Release {
        /// The decision, or the start of its id
        id: String,
    },
    /// Drop changes that a guard held, while they stay the same
    Discard {
        /// The decision, or the start of its id
        id: String,
    },
    /// Try a change again that failed for good
    Retry {
        /// The decision, or the start of its id
        id: String,
    },
    /// Say that you have seen what was done behind our back
    Seen {
        /// The decision, or the start of its id
        id: String,
    },
}

impl Decisions {
    /// Does it. The list ends with code 3 when something waits.
    pub async fn run(self, reach: &Reach) -> anyhow::Result<ExitCode> {
        let client = reach.client()?;
        let all: Vec<Decision> = client.get("decisions", &[]).await?;
        let (id, answer) = match self {
            Decisions::List => {
                if reach.json() {
                    output::json(&all)?;
                } else if all.is_empty() {
                    output::line("nothing waits for you");
                } else {
                    for one in &all {
                        output::line(&one.title);
                        output::line(&format!("    {}", one.said));
                        if one.count > 1 || one.kind == "match" {
                            let more = if one.count > one.names.len() {
                                format!(" and {} more", one.count - one.names.len())
                            } else {
                                String::new()
                            };
                            output::line(&format!("    {}{more}", one.names.join(", ")));
                        }
                        for answer in &one.answers {
                            output::line(&format!("    eager-tide decisions {answer} {}", one.id));
                        }
                        if one.kind == "match" {
                            output::line(&format!("    eager-tide match {}", one.system));
                        }
                    }
                }
                return Ok(ExitCode::from(if all.is_empty() { 0 } else { 3 }));
            }
            Decisions::Release { id } => (id, "release"),
            Decisions::Discard { id } => (id, "discard"),
            Decisions::Retry { id } => (id, "retry"),
            Decisions::Seen { id } => (id, "seen"),
        };
        let meant: Vec<&Decision> = all.iter().filter(|one| one.id.starts_with(&id)).collect();
        let [one] = meant.as_slice() else {
            let many = if meant.is_empty() { "nothing that waits is" } else { "several that wait are" };
            anyhow::bail!("{many} called `{id}`: `eager-tide decisions list` shows what waits");
        };
        let new = NewDecisionAnswer { id: one.id.clone(), answer: answer.to_owned() };
        client.tell(Method::POST, "decisions", Some(&new)).await?;
        output::line(&match answer {
            "release" => format!("{}: let through; they are sent with the next run", one.title),
            "discard" => format!("{}: discarded; they are not sent while they stay the same", one.title),
            "retry" => format!("{}: tried again with the next run", one.title),
            _ => format!("{}: seen", one.title),
        });
        Ok(ExitCode::SUCCESS)
    }
}
