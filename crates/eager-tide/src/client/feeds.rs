//! `eager-tide feeds …`.

use super::{Reach, output};
use crate::client::codes::label;
use anyhow::Context;
use clap::Subcommand;
use std::path::PathBuf;
use std::process::ExitCode;
use tide_api::FeedLook;

/// What can be done with feeds.
#[derive(Subcommand)]
pub enum Feeds {
    /// Show the format of a file, its columns with types, gaps and duplicates, its first rows, and
    /// unusable rows
    Look {
        /// The file, on this machine
        file: PathBuf,
    },
}

impl Feeds {
    /// Does it.
    pub async fn run(self, reach: &Reach) -> anyhow::Result<ExitCode> {
        let Feeds::Look { file } = self;
        let octets =
            std::fs::read(&file).with_context(|| format!("{} cannot be read", file.display()))?;
        let look: FeedLook = reach.client()?.upload("feeds/look", octets).await?;
        if reach.json() {
            output::json(&look)?;
            return Ok(ExitCode::SUCCESS);
        }
        let format = match &look.delimiter {
            Some(delimiter) => format!("CSV, separated by {delimiter}"),
            None => "JSON Lines".into(),
        };
        let mark = if look.marked {
            " with a byte order mark"
        } else {
            ""
        };
        output::line(&format!(
            "{}: {format}, {}{mark}, {} rows, {} unreadable\n",
            file.display(),
            look.encoding,
            look.rows,
            look.bad
        ));
        output::table(
            &[
                "column",
                "type",
                "filled",
                "empty",
                "repeated values",
                "first value",
                "note",
            ],
            look.columns.iter().enumerate().map(|(at, column)| {
                let first = look
                    .first
                    .iter()
                    .map(|row| row[at].as_str())
                    .find(|text| !text.is_empty())
                    .unwrap_or("—");
                let note = match (column.key, column.duplicates.is_empty()) {
                    (true, _) => "can be the key".to_owned(),
                    (false, false) => format!("twice: {}", column.duplicates.join(", ")),
                    (false, true) => String::new(),
                };
                vec![
                    column.name.clone(),
                    label(column.kind),
                    column.filled.to_string(),
                    column.empty.to_string(),
                    column.repeated.to_string(),
                    first.to_owned(),
                    note,
                ]
            }),
        );
        if look.bad > 0 {
            output::line("\nThese rows would be set aside:");
            output::table(
                &["line", "reason", "row"],
                look.bad_rows
                    .iter()
                    .take(20)
                    .map(|r| vec![r.line.to_string(), r.reason.clone(), r.raw.clone()]),
            );
        }
        Ok(ExitCode::SUCCESS)
    }
}
