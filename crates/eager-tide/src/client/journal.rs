//! `eager-tide journal …`.

use super::{Reach, output};
use clap::Subcommand;
use std::process::ExitCode;
use tide_api::{JournalCheck, JournalEntry};

/// The commands of `journal`.
#[derive(Subcommand)]
pub enum Journal {
    /// List entries, the newest first
    List {
        /// Only entries about this subject: a system's name, an identity's id, a run's number
        #[arg(long)]
        subject: Option<String>,
        /// Maximum number of rows
        #[arg(long, default_value_t = 40)]
        limit: usize,
    },
    /// Verify that no entry was changed, added or removed
    Check {
        /// The head that an earlier check printed: reveals an older copy in the journal's place
        #[arg(long, value_name = "HEAD")]
        expect: Option<String>,
    },
}

/// Values before and after, as the journal stores them.
fn values(kept: &serde_json::Value) -> String {
    let texts = |values: &serde_json::Value| {
        let text = |value: &serde_json::Value| {
            let plain = value.as_str().or_else(|| value["reference"].as_str());
            plain.map_or_else(|| value.to_string(), str::to_owned)
        };
        let all: Vec<String> = values.as_array().into_iter().flatten().map(text).collect();
        output::values(&all)
    };
    let one = |value: &serde_json::Value| {
        let attribute = value["attribute"].as_str()?;
        Some(format!(
            "{attribute}: {} → {}",
            texts(&value["before"]),
            texts(&value["after"])
        ))
    };
    kept.as_array()
        .into_iter()
        .flatten()
        .filter_map(one)
        .collect::<Vec<_>>()
        .join("; ")
}

impl Journal {
    /// Runs the command.
    pub async fn run(self, reach: &Reach) -> anyhow::Result<ExitCode> {
        let client = reach.client()?;
        match self {
            Journal::List { subject, limit } => {
                let query: Vec<(&str, String)> =
                    subject.map(|s| ("search", s)).into_iter().collect();
                let (entries, _): (Vec<JournalEntry>, bool) =
                    client.all("journal", &query, limit).await?;
                if reach.json() {
                    output::json(&entries)?;
                } else {
                    output::table(
                        &["entry", "when", "principal", "action", "subject", "detail"],
                        entries.into_iter().map(|e| {
                            let subject = e.label.unwrap_or(e.subject);
                            let values = e.values.as_ref().map(values).unwrap_or_default();
                            let detail = [e.detail, values]
                                .into_iter()
                                .filter(|text| !text.is_empty())
                                .collect::<Vec<_>>()
                                .join("; ");
                            vec![
                                e.id.to_string(),
                                output::time(&e.at),
                                e.principal,
                                e.act,
                                subject,
                                detail,
                            ]
                        }),
                    );
                }
            }
            Journal::Check { expect } => {
                let query: Vec<(&str, String)> = expect
                    .clone()
                    .map(|head| ("expect", head))
                    .into_iter()
                    .collect();
                let check: JournalCheck = client.get("journal/check", &query).await?;
                if reach.json() {
                    output::json(&check)?;
                } else if check.is_intact {
                    output::line(&format!("valid: {} entries, unchanged", check.entry));
                    if let Some(head) = &check.head {
                        output::line(&format!("head: {head}"));
                        output::line(
                            "store the head elsewhere: `eager-tide journal check --expect HEAD` compares with it later",
                        );
                    }
                } else if let (Some(head), true) = (
                    &expect,
                    check
                        .head
                        .as_deref()
                        .is_some_and(|head| head.starts_with(&format!("{}:", check.entry))),
                ) {
                    output::line(&format!(
                        "INVALID: the entry of head {head} is missing; an older copy may have replaced the journal"
                    ));
                } else {
                    output::line(&format!(
                        "INVALID: entry {} is missing or was changed; compare with a backup",
                        check.entry
                    ));
                }
                return Ok(if check.is_intact {
                    ExitCode::SUCCESS
                } else {
                    ExitCode::from(1)
                });
            }
        }
        Ok(ExitCode::SUCCESS)
    }
}
