//! `eager-tide stop-writing` and `eager-tide resume-writing`.

use super::{Reach, output};
use clap::Args;
use reqwest::Method;
use std::process::ExitCode;
use tide_api::{Overview, StopWrites, WriteStop};

/// Stop all writes to all systems at once
///
/// Queued changes are canceled, requests on the wire complete, and nothing else is sent until
/// `eager-tide resume-writing`, also after a restart. Reads, previews and decisions continue.
#[derive(Args)]
pub struct StopWriting {
    /// Reason, kept in the journal and shown on the overview
    #[arg(long, default_value = "")]
    reason: String,
}

/// Resume writes after stop-writing
///
/// Changes on hold are decided again from current data, and sent.
#[derive(Args)]
pub struct ResumeWriting {}

/// The stop in one line.
pub fn sentence(stop: &WriteStop) -> String {
    let reason = if stop.reason.is_empty() {
        String::new()
    } else {
        format!(": {}", stop.reason)
    };
    format!(
        "all writes are stopped by {} since {}{reason}",
        stop.principal,
        output::time(&stop.created_at)
    )
}

impl StopWriting {
    pub async fn run(self, reach: &Reach) -> anyhow::Result<ExitCode> {
        let stop: WriteStop = reach
            .client()?
            .send(
                Method::PUT,
                "write-stop",
                &StopWrites {
                    reason: self.reason,
                },
            )
            .await?;
        if reach.json() {
            output::json(&stop)?;
        } else {
            output::line(&sentence(&stop));
            output::line("`eager-tide resume-writing` resumes them");
        }
        Ok(ExitCode::SUCCESS)
    }
}

impl ResumeWriting {
    pub async fn run(self, reach: &Reach) -> anyhow::Result<ExitCode> {
        let client = reach.client()?;
        let before: Overview = client.get("overview", &[]).await?;
        client
            .tell::<()>(Method::DELETE, "write-stop", None)
            .await?;
        if reach.json() {
            output::json(&serde_json::json!({"resumed": before.write_stop.is_some()}))?;
        } else if before.write_stop.is_some() {
            output::line("writes are resumed: changes on hold are decided again");
        } else {
            output::line("writes were not stopped");
        }
        Ok(ExitCode::SUCCESS)
    }
}
