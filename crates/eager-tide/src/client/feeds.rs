//! `eager-tide feeds …`.

use super::{Reach, output};
use crate::client::codes::label;
use anyhow::Context;
use clap::Subcommand;
use std::path::PathBuf;
use std::process::ExitCode;
use tide_api::FeedInspectionView;

/// The commands of `feeds`.
#[derive(Subcommand)]
pub enum Feeds {
    /// Show the format of a file, its columns with types, gaps and duplicates, its first rows, and
    /// unusable rows
    Inspect {
        /// The file, on this machine
        file: PathBuf,
    },
}

impl Feeds {
    /// Runs the command.
    pub async fn run(self, reach: &Reach) -> anyhow::Result<ExitCode> {
        let Feeds::Inspect { file } = self;
        let bytes =
            std::fs::read(&file).with_context(|| format!("{} cannot be read", file.display()))?;
        let found: FeedInspectionView = reach.client()?.upload("feeds/inspect", bytes).await?;
        if reach.json() {
            output::json(&found)?;
            return Ok(ExitCode::SUCCESS);
        }
        let format = match &found.delimiter {
            Some(delimiter) => format!("CSV, separated by {delimiter}"),
            None => "JSON Lines".into(),
        };
        let mark = if found.has_bom {
            " with a byte order mark"
        } else {
            ""
        };
        output::line(&format!(
            "{}: {format}, {}{mark}, {} rows, {} invalid\n",
            file.display(),
            found.encoding,
            found.rows,
            found.bad
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
            found.columns.iter().enumerate().map(|(at, column)| {
                let first = found
                    .first
                    .iter()
                    .map(|row| row[at].as_str())
                    .find(|text| !text.is_empty())
                    .unwrap_or("—");
                let note = match (column.key, column.duplicates.is_empty()) {
                    (true, _) => "can be the key".to_owned(),
                    (false, false) => format!("duplicates: {}", column.duplicates.join(", ")),
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
        if found.bad > 0 {
            output::line("\nRows that would be in quarantine:");
            output::table(
                &["line", "reason", "row"],
                found
                    .bad_rows
                    .iter()
                    .take(20)
                    .map(|r| vec![r.line.to_string(), r.reason.clone(), r.raw.clone()]),
            );
        }
        Ok(ExitCode::SUCCESS)
    }
}
