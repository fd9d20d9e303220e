//! `eager-tide calls …`.

use super::{Reach, connection, output, segment};
use clap::Subcommand;
use reqwest::Method;
use std::process::ExitCode;
use tide_api::{CallOut, NewSecret};

/// What can be done with call-outs.
#[derive(Subcommand)]
pub enum Calls {
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

impl Calls {
    /// Does it.
    pub async fn run(self, reach: &Reach) -> anyhow::Result<ExitCode> {
        let client = reach.client()?;
        match self {
            Calls::List => {
                let all: Vec<CallOut> = client.get("calls", &[]).await?;
                if reach.json() {
                    output::json(&all)?;
                } else if all.is_empty() {
                    output::line("the rules call nobody: webhooks.toml says who is called");
                } else {
                    let rows = all.into_iter().map(|call| {
                        let secret = if call.secret { "set" } else { "missing" };
                        vec![
                            call.name,
                            call.url,
                            secret.into(),
                            call.waiting.to_string(),
                            call.error.unwrap_or_default(),
                        ]
                    });
                    output::table(&["call-out", "address", "secret", "waiting", "why"], rows);
                }
            }
            Calls::Secret { name } => {
                let secret = connection::secret_from_input()?;
                client
                    .tell(
                        Method::PUT,
                        &format!("calls/{}/secret", segment(&name)),
                        Some(&NewSecret {
                            secret,
                            force: false,
                        }),
                    )
                    .await?;
                output::line(&format!("calls to {name} are signed with the new secret"));
            }
            Calls::Test { name } => {
                client
                    .tell::<()>(
                        Method::POST,
                        &format!("calls/{}/test", segment(&name)),
                        None,
                    )
                    .await?;
                output::line(&format!("{name} took the call"));
            }
        }
        Ok(ExitCode::SUCCESS)
    }
}
