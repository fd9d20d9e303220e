//! `eager-tide passwords …`.

use super::{Reach, output, segment};
use clap::Subcommand;
use reqwest::Method;
use std::process::ExitCode;
use tide_api::{FirstPassword, PasswordSyncStatus, SetPassword, ShownPassword};

/// The commands of `passwords`.
#[derive(Subcommand)]
pub enum Passwords {
    /// List first passwords, pending and shown
    List,
    /// Show a first password, once; it is journaled and erased
    Show {
        /// Its number
        id: i64,
    },
    /// Set a person's password in all systems with password sync; read from standard input
    Set {
        /// The person: a name, number, address, DN or id
        who: String,
        /// Require a new password at the next sign-in, where the system supports it
        #[arg(long)]
        must_change: bool,
    },
    /// Show the sync status of a person's passwords, system by system
    Status {
        /// The person: a name, number, address, DN or id
        who: String,
    },
}

impl Passwords {
    /// Runs the command.
    pub async fn run(self, reach: &Reach) -> anyhow::Result<ExitCode> {
        let client = reach.client()?;
        match self {
            Passwords::List => {
                list_passwords(reach, &client).await?;
            }
            Passwords::Show { id } => {
                let shown: ShownPassword = client
                    .send(Method::POST, &format!("passwords/{id}/show"), &())
                    .await?;
                if reach.json() {
                    output::json(&shown)?;
                } else {
                    output::line(&shown.password);
                }
            }
            Passwords::Set { who, must_change } => {
                let id = client.identity(&who).await?;
                let password = super::connection::secret_from_input()?;
                client
                    .tell(
                        Method::PUT,
                        &format!("identities/{}/password", segment(&id)),
                        Some(&SetPassword {
                            password,
                            must_change,
                        }),
                    )
                    .await?;
                output::line(&format!(
                    "set: it is sent to all linked systems; `eager-tide passwords status {id}` shows where it is stored"
                ));
            }
            Passwords::Status { who } => {
                show_status(reach, client, who).await?;
            }
        }
        Ok(ExitCode::SUCCESS)
    }
}

/// Prints the first passwords.
async fn list_passwords(reach: &Reach, client: &super::Client) -> anyhow::Result<()> {
    let all: Vec<FirstPassword> = client.get("passwords", &[]).await?;
    if reach.json() {
        output::json(&all)?;
    } else if all.is_empty() {
        output::line(
            "no first passwords yet: [person.password] of a system declares which accounts get one",
        );
    } else {
        let rows = all.into_iter().map(|one| {
            let state = match (one.shown_at, one.shown_to) {
                (Some(at), Some(who)) => {
                    format!("shown {} to {who}", output::time(&at))
                }
                _ => one
                    .error
                    .map_or_else(|| "pending".into(), |error| format!("pending: {error}")),
            };
            vec![
                one.id.to_string(),
                one.label,
                one.system,
                one.account,
                output::time(&one.created_at),
                state,
            ]
        });
        output::table(
            &["number", "person", "system", "account", "set", "state"],
            rows,
        );
    }
    Ok(())
}

/// Prints where the passwords of a person are stored.
async fn show_status(reach: &Reach, client: super::Client, who: String) -> anyhow::Result<()> {
    let id = client.identity(&who).await?;
    let all: Vec<PasswordSyncStatus> = client
        .get(&format!("identities/{}/password", segment(&id)), &[])
        .await?;
    if reach.json() {
        output::json(&all)?;
    } else if all.is_empty() {
        output::line("no password was set for this person");
    } else {
        let rows = all.into_iter().map(|one| {
            let state = match (one.outcome, one.is_settled, one.missing.is_empty()) {
                (Some(outcome), ..) => outcome,
                (None, true, _) => "stored in all accounts".to_owned(),
                (None, false, true) => {
                    "pending: the account is not linked to an identity yet".to_owned()
                }
                (None, false, false) => {
                    let one_system = |system: &String| match one.refused.get(system) {
                        Some(answer) => format!("{system} (rejected: {answer})"),
                        None => system.clone(),
                    };
                    format!(
                        "pending in {}",
                        one.missing
                            .iter()
                            .map(one_system)
                            .collect::<Vec<_>>()
                            .join(", ")
                    )
                }
            };
            let origin = one.origin.map_or_else(
                || "an operator".to_owned(),
                |system| format!("seen in {system}"),
            );
            let must = if one.must_change {
                "at next sign-in"
            } else {
                "—"
            };
            vec![
                output::time(&one.created_at),
                origin,
                must.to_owned(),
                state,
            ]
        });
        output::table(&["set", "by", "must change", "state"], rows);
    }
    Ok(())
}
