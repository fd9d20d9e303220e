//! `eager-tide operators …`.

use super::systems::{print_new_token, print_tokens};
use super::{Reach, output, segment};
use clap::{Args, Subcommand};
use reqwest::Method;
use std::process::ExitCode;
use tide_api::{AddedOperator, CreatedToken, Me, NewOperator, NewOperatorToken, Operator};

/// Properties of an operator.
#[derive(Args)]
pub struct About {
    /// Name of the operator
    name: String,
    /// A group of operators, as approvals name it; can be repeated
    #[arg(long, value_name = "GROUP")]
    group: Vec<String>,
    /// The person behind the operator, by name, number, address or id: a manager approves as the
    /// manager
    #[arg(long, value_name = "WHO")]
    person: Option<String>,
}

/// The commands of `operators`.
#[derive(Subcommand)]
pub enum Operators {
    /// List operators with their groups and people
    List,
    /// Add an operator; its token is printed once
    Add(About),
    /// Set the groups and the person of an operator; options that are left out are cleared
    Set(About),
    /// Create a token for yourself, or for an operator without one; printed once. Earlier tokens
    /// end after a day
    Token {
        /// The operator; default: yourself
        name: Option<String>,
        /// Its purpose
        #[arg(long, default_value = "")]
        label: String,
        /// Days until it expires; default: never
        #[arg(long, value_name = "DAYS")]
        expires_in_days: Option<u32>,
        /// Hours for which earlier tokens stay valid; 0 ends them at once
        #[arg(long, value_name = "HOURS", default_value_t = 24)]
        overlap_hours: u32,
    },
    /// List an operator's tokens, or end one
    Tokens {
        /// Name of the operator
        name: String,
        /// End this token at once, with the sessions that it opened
        #[arg(long, value_name = "ID")]
        end: Option<String>,
    },
    /// Deactivate an operator: its tokens and sessions end at once
    Deactivate {
        /// Name of the operator
        name: String,
    },
}

impl From<About> for NewOperator {
    fn from(about: About) -> Self {
        NewOperator {
            name: about.name,
            groups: about.group,
            person: about.person,
        }
    }
}

impl Operators {
    /// Runs the command.
    pub async fn run(self, reach: &Reach) -> anyhow::Result<ExitCode> {
        let client = reach.client()?;
        match self {
            Operators::List => {
                list_operators(reach, &client).await?;
            }
            Operators::Add(about) => {
                let new = NewOperator::from(about);
                let added: AddedOperator = client.send(Method::POST, "operators", &new).await?;
                if reach.json() {
                    output::json(&added)?;
                } else {
                    output::line(&format!(
                        "{} was added; the token is not shown again:",
                        added.name
                    ));
                    output::line(&added.token);
                }
            }
            Operators::Set(about) => {
                set_operator(&client, about).await?;
            }
            Operators::Token {
                name,
                label,
                expires_in_days,
                overlap_hours,
            } => {
                let name = match name {
                    Some(name) => name,
                    None => client.get::<Me>("me", &[]).await?.name,
                };
                let new = NewOperatorToken {
                    label,
                    expires_in_days,
                    overlap_hours,
                };
                let made: CreatedToken = client
                    .send(
                        Method::POST,
                        &format!("operators/{}/tokens", segment(&name)),
                        &new,
                    )
                    .await?;
                return print_new_token(reach, &made, &format!("for {overlap_hours} hours"));
            }
            Operators::Tokens { name, end } => {
                let path = format!("operators/{}/tokens", segment(&name));
                let Some(id) = end else {
                    return print_tokens(reach, client.get(&path, &[]).await?);
                };
                client
                    .tell::<()>(Method::DELETE, &format!("{path}/{}", segment(&id)), None)
                    .await?;
                output::line("the token was revoked, and its sessions were ended");
            }
            Operators::Deactivate { name } => {
                client
                    .tell::<()>(
                        Method::DELETE,
                        &format!("operators/{}", segment(&name)),
                        None,
                    )
                    .await?;
                output::line(&format!(
                    "{name} was deactivated; its tokens and sessions were ended"
                ));
            }
        }
        Ok(ExitCode::SUCCESS)
    }
}

/// Prints the operators.
async fn list_operators(reach: &Reach, client: &super::Client) -> anyhow::Result<()> {
    let all: Vec<Operator> = client.get("operators", &[]).await?;
    if reach.json() {
        output::json(&all)?;
        return Ok(());
    }
    output::table(
        &["operator", "groups", "person", "since", "deactivated"],
        all.iter().map(|one| {
            let ended = one
                .ended_at
                .as_deref()
                .map(output::time)
                .unwrap_or_default();
            vec![
                one.name.clone(),
                one.groups.join(", "),
                one.person.clone().unwrap_or_default(),
                output::time(&one.created_at),
                ended,
            ]
        }),
    );
    Ok(())
}

/// Replaces the groups and the person of an operator.
async fn set_operator(client: &super::Client, about: About) -> anyhow::Result<()> {
    let new = NewOperator::from(about);
    client
        .tell(
            Method::PUT,
            &format!("operators/{}", segment(&new.name)),
            Some(&new),
        )
        .await?;
    let groups = if new.groups.is_empty() {
        "no group".to_owned()
    } else {
        new.groups.join(", ")
    };
    output::line(&format!(
        "{}: {groups}; {}",
        new.name,
        new.person.map_or("no person".into(), |p| format!("is {p}"))
    ));
    Ok(())
}
