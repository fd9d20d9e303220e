//! `eager-tide journal …`.

use super::{Reach, output};
use clap::Subcommand;
use std::process::ExitCode;
use tide_api::{JournalCheck, JournalEntry};

/// What can be done with the journal.
#[derive(Subcommand)]
pub enum Journal {
    /// What was done, the newest first
    List {
        /// Only entries about this subject: a system's name, an identity's id, a run's number
        #[arg(long)]
        subject: Option<String>,
        /// The most rows
        #[arg(long, default_value_t = 40)]
        limit: usize,
    },
    /// Walk the chain of hashes: is every entry as it was written?
    Check,
}

impl Journal {
    /// Does it.
    pub async fn run(self, reach: &Reach) -> anyhow::Result<ExitCode> {
        let client = reach.client()?;
        match self {
            Journal::List { subject, limit } => {
                let query: Vec<(&str, String)> = subject.map(|s| ("search", s)).into_iter().collect();
                let (entries, _): (Vec<JournalEntry>, bool) = client.all("journal", &query, limit).await?;
                if reach.json() {
                    output::json(&entries)?;
                } else {
                    output::table(
                        &["entry", "when", "act", "subject", "detail"],
                        entries.into_iter().map(|e| vec![e.id.to_string(), output::time(&e.at), e.act, e.subject, e.detail]),
                    );
                }
            }
            Journal::Check => {
                let check: JournalCheck = client.get("journal/check", &[]).await?;
                if reach.json() {
                    output::json(&check)?;
                } else if check.sound {
                    output::line(&format!("sound: {} entries, each as it was written", check.entry));
                } else {
                    output::line(&format!("NOT SOUND: entry {} is not as it was written; compare with a backup", check.entry));
                }
                return Ok(if check.sound { ExitCode::SUCCESS } else { ExitCode::from(1) });
            }
        }
        Ok(ExitCode::SUCCESS)
    }
}
