//! `eager-tide notifications`.

use super::{Reach, output};
use crate::client::codes::label;
use clap::Args;
use std::process::ExitCode;
use tide_api::NotificationRecord;

/// Options of `notifications`.
#[derive(Args)]
pub struct Notifications {
    /// Only about this person: a name, number, address, DN or id
    #[arg(long)]
    identity: Option<String>,
    /// Only notifications that are not delivered yet
    #[arg(long)]
    waiting: bool,
}

impl Notifications {
    /// Lists notifications that rules sent.
    pub async fn run(self, reach: &Reach) -> anyhow::Result<ExitCode> {
        let mut query = vec![("waiting", self.waiting.to_string())];
        if let Some(who) = &self.identity {
            query.push(("identity", reach.client()?.identity(who).await?));
        }
        let all: Vec<NotificationRecord> = reach.client()?.get("notifications", &query).await?;
        if reach.json() {
            output::json(&all)?;
        } else if all.is_empty() && self.waiting {
            output::line("all notifications are delivered");
        } else if all.is_empty() && self.identity.is_some() {
            output::line("no notifications about this person");
        } else if all.is_empty() {
            output::line("no notifications yet: notifications.toml declares them");
        } else {
            let rows = all.into_iter().map(|one| {
                let state = match (&one.sent_at, &one.error, &one.webhook) {
                    (Some(at), _, Some(webhook)) => {
                        format!("sent to {webhook} {}", output::time(at))
                    }
                    (None, Some(error), _) => format!("pending: {error}"),
                    (None, None, Some(webhook)) => format!("pending: {webhook}"),
                    (_, _, None) => "console only".to_owned(),
                };
                vec![
                    output::time(&one.created_at),
                    label(one.event),
                    one.label,
                    one.about.unwrap_or_default(),
                    one.recipients.join(", "),
                    one.text,
                    state,
                ]
            });
            output::table(
                &[
                    "created",
                    "event",
                    "person",
                    "about",
                    "recipients",
                    "text",
                    "delivery",
                ],
                rows,
            );
        }
        Ok(ExitCode::SUCCESS)
    }
}
