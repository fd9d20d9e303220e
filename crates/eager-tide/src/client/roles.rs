//! `eager-tide roles …`

use super::{Reach, output, segment};
use clap::Subcommand;
use reqwest::Method;
use std::collections::BTreeMap;
use std::process::ExitCode;
use tide_api::{GiveRole, NewRoleTrial, RoleTrial, RoleTurn};

/// What can be done with roles.
#[derive(Subcommand)]
pub enum Roles {
    /// List roles with the number of holders, and conflicts between roles
    List,
    /// Show a role: its rule and its holders
    Show {
        /// Its name
        name: String,
    },
    /// Grant a role to a person
    Give {
        /// The role
        name: String,
        /// The person: a name, number, address, DN or id
        who: String,
        /// Start: 2026-12-01T08:00:00Z
        #[arg(long)]
        from: Option<String>,
        /// End
        #[arg(long)]
        until: Option<String>,
        /// Comment, kept in the journal
        #[arg(long, default_value = "")]
        comment: String,
    },
    /// Simulate another condition of a role: who gains and loses it, and the effect on accounts;
    /// stores and sends nothing
    Try {
        /// The role
        name: String,
        /// The condition, an expression on identities; '' for a role that is held only by grant
        when: String,
    },
    /// Revoke a granted role
    Take {
        /// The role
        name: String,
        /// The person: a name, number, address, DN or id
        who: String,
    },
}

fn list(all: &tide_api::Roles) {
    if all.roles.is_empty() {
        output::line("no roles: roles.toml names them");
        return;
    }
    output::table(
        &[
            "role", "held by", "when", "with it", "priority", "values", "place",
        ],
        all.roles.iter().map(|role| {
            vec![
                role.name.clone(),
                role.holders.len().to_string(),
                role.when
                    .clone()
                    .unwrap_or_else(|| "by hand, or with another".to_owned()),
                output::values(&role.includes),
                role.priority.to_string(),
                output::values(&role.values),
                role.rule.clone(),
            ]
        }),
    );
    if !all.conflicts.is_empty() {
        output::line("\nwhere roles differ, the highest priority counts");
        output::table(
            &["name", "attribute", "is", "by", "and not", "id"],
            all.conflicts.iter().map(|one| {
                let over = one.over.join(", ");
                vec![
                    one.label.clone(),
                    one.attribute.clone(),
                    one.value.clone(),
                    one.role.clone(),
                    over,
                    one.identity.clone(),
                ]
            }),
        );
    }
}

/// How many of those who gain, and of those who lose, are named.
const NAMED: usize = 20;

fn tried(name: &str, when: &str, trial: &RoleTrial) {
    output::line(&trial.said);
    let mut rows = Vec::new();
    let mut more = Vec::new();
    for (what, they, turns) in [
        ("gains", "gain", &trial.gains),
        ("loses", "lose", &trial.loses),
    ] {
        let own: Vec<&RoleTurn> = turns.iter().filter(|one| one.role == name).collect();
        let by = |one: &RoleTurn| {
            if one.by == when.trim() {
                String::new()
            } else {
                one.by.clone()
            }
        };
        rows.extend(own.iter().take(NAMED).map(|one| {
            vec![
                what.to_owned(),
                one.label.clone(),
                by(one),
                one.identity.clone(),
            ]
        }));
        if own.len() > NAMED {
            more.push(format!(
                "and {} more {they} it; `--output json` has all",
                own.len() - NAMED
            ));
        }
        let mut others: BTreeMap<&str, usize> = BTreeMap::new();
        turns
            .iter()
            .filter(|one| one.role != name)
            .for_each(|one| *others.entry(&one.role).or_default() += 1);
        more.extend(
            others
                .into_iter()
                .map(|(role, count)| format!("with it, {count} {they} {role}")),
        );
    }
    if !rows.is_empty() {
        output::line("");
        // Mostly it is the condition itself, and goes without saying.
        if rows.iter().all(|row| row[2].is_empty()) {
            rows.iter_mut().for_each(|row| drop(row.remove(2)));
            output::table(&["", "name", "id"], rows);
        } else {
            output::table(&["", "name", "by", "id"], rows);
        }
    }
    more.iter().for_each(|line| output::line(line));
    for one in &trial.conflicts {
        output::line(&format!(
            "roles would differ about {} of {}: {} by {}, over {}",
            one.attribute,
            one.label,
            one.value,
            one.role,
            one.over.join(", ")
        ));
    }
    output::line("");
    super::drafts::print_effect(&trial.effect, ["as it is", "with this condition"]);
}

impl Roles {
    /// Does it.
    pub async fn run(self, reach: &Reach) -> anyhow::Result<ExitCode> {
        let client = reach.client()?;
        match self {
            Roles::List => {
                let all: tide_api::Roles = client.get("roles", &[]).await?;
                if reach.json() {
                    output::json(&all)?
                } else {
                    list(&all)
                }
            }
            Roles::Show { name } => {
                let all: tide_api::Roles = client.get("roles", &[]).await?;
                let Some(role) = all.roles.into_iter().find(|role| role.name == name) else {
                    anyhow::bail!("there is no role `{name}`: `eager-tide roles list` names them");
                };
                if reach.json() {
                    output::json(&role)?;
                } else {
                    output::line(&format!(
                        "{} · priority {} · {}",
                        role.name, role.priority, role.rule
                    ));
                    output::line(&format!(
                        "  {}",
                        role.when
                            .clone()
                            .unwrap_or_else(|| "given by hand, or with another".to_owned())
                    ));
                    role.values
                        .iter()
                        .for_each(|value| output::line(&format!("  {value}")));
                    output::line("");
                    output::table(
                        &["held by", "because", "until", "id"],
                        role.holders.iter().map(|one| {
                            let until = one
                                .until
                                .as_deref()
                                .map_or_else(|| "—".to_owned(), output::time);
                            vec![
                                one.label.clone(),
                                one.by.clone(),
                                until,
                                one.identity.clone(),
                            ]
                        }),
                    );
                    if role.holders.is_empty() {
                        output::line("nobody holds it");
                    }
                }
            }
            Roles::Give {
                name,
                who,
                from,
                until,
                comment,
            } => {
                let id = client.identity(&who).await?;
                let give = GiveRole {
                    identity: id,
                    from,
                    until,
                    comment,
                };
                client
                    .tell(
                        Method::POST,
                        &format!("roles/{}/holders", segment(&name)),
                        Some(&give),
                    )
                    .await?;
                output::line(&format!(
                    "given: {name}; the next run brings what it brings"
                ));
            }
            Roles::Try { name, when } => {
                let trial: RoleTrial = client
                    .send(
                        Method::POST,
                        &format!("roles/{}/trial", segment(&name)),
                        &NewRoleTrial { when: when.clone() },
                    )
                    .await?;
                if reach.json() {
                    output::json(&trial)?
                } else {
                    tried(&name, &when, &trial)
                }
            }
            Roles::Take { name, who } => {
                let id = client.identity(&who).await?;
                client
                    .tell::<()>(
                        Method::DELETE,
                        &format!("roles/{}/holders/{}", segment(&name), segment(&id)),
                        None,
                    )
                    .await?;
                output::line(&format!(
                    "taken: {name}; the next run takes away what only it brought"
                ));
            }
        }
        Ok(ExitCode::SUCCESS)
    }
}
