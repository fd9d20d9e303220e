//! `eager-tide webhooks …`.

use super::{Reach, connection, output, segment};
use clap::Subcommand;
use reqwest::Method;
use std::process::ExitCode;
use tide_api::{NewSecret, Webhook};

/// The commands of `webhooks`.
#[derive(Subcommand)]
pub enum Webhooks {
    /// List webhooks of the published rules, and pending deliveries
    List,
    /// Set the secret that signs requests; read from the terminal or from standard input
    Secret {
        /// The webhook
        name: String,
    },
    /// Send a test request
    Test {
        /// The webhook
        name: String,
    },
}

impl Webhooks {
    /// Runs the command.
    pub async fn run(self, reach: &Reach) -> anyhow::Result<ExitCode> {
        let client = reach.client()?;
        match self {
            Webhooks::List => {
                let all: Vec<Webhook> = client.get("webhooks", &[]).await?;
                if reach.json() {
                    output::json(&all)?;
                } else if all.is_empty() {
                    output::line("no webhooks yet: webhooks.toml declares them");
                } else {
                    let rows = all.into_iter().map(|webhook| {
                        let secret = if webhook.secret { "set" } else { "missing" };
                        vec![
                            webhook.name,
                            webhook.url,
                            secret.into(),
                            webhook.waiting.to_string(),
                            webhook.error.unwrap_or_default(),
                        ]
                    });
                    output::table(&["webhook", "url", "secret", "pending", "error"], rows);
                }
            }
            Webhooks::Secret { name } => {
                let secret = connection::secret_from_input()?;
                client
                    .tell(
                        Method::PUT,
                        &format!("webhooks/{}/secret", segment(&name)),
                        Some(&NewSecret {
                            secret,
                            force: false,
                        }),
                    )
                    .await?;
                output::line(&format!(
                    "requests to {name} are signed with the new secret"
                ));
            }
            Webhooks::Test { name } => {
                client
                    .tell::<()>(
                        Method::POST,
                        &format!("webhooks/{}/test", segment(&name)),
                        None,
                    )
                    .await?;
                output::line(&format!("{name} accepted the request"));
            }
        }
        Ok(ExitCode::SUCCESS)
    }
}
