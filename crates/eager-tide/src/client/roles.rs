//! `eager-tide roles …`

use super::{Reach, output, segment};
use clap::Subcommand;
use reqwest::Method;
use std::collections::BTreeMap;
use std::process::ExitCode;
use tide_api::{NewRoleGrant, NewRoleSimulation, RoleChange, RoleSimulationView};

/// The commands of `roles`.
#[derive(Subcommand)]
pub enum Roles {
    /// List roles with the number of holders, and conflicts between roles
    List,
    /// Show a role: its rule and its holders
    Show {
        /// Its name
        name: String,
        /// Only holders with this text in their name
        #[arg(long, default_value = "")]
        search: String,
        /// The most holders, up to 1000
        #[arg(long, default_value_t = 100)]
        limit: usize,
    },
    /// Grant a role to a person
    Grant {
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
    /// Simulate another condition of a role: who gains and loses it, and the impact on accounts;
    /// stores and sends nothing
    Simulate {
        /// The role
        name: String,
        /// The condition, an expression on identities; '' for a role that is held only by grant
        when: String,
    },
    /// Revoke a granted role
    Revoke {
        /// The role
        name: String,
        /// The person: a name, number, address, DN or id
        who: String,
    },
}

fn list(all: &tide_api::Roles) {
    if all.roles.is_empty() {
        output::line("no roles yet: roles.toml declares them");
        return;
    }
    output::table(
        &[
            "role",
            "holders",
            "condition",
            "includes",
            "priority",
            "values",
            "rule",
        ],
        all.roles.iter().map(|role| {
            vec![
                role.name.clone(),
                role.holder_count.to_string(),
                role.when
                    .clone()
                    .unwrap_or_else(|| "manual, or through another role".to_owned()),
                output::values(&role.includes),
                role.priority.to_string(),
                output::values(&role.values),
                role.rule.clone(),
            ]
        }),
    );
    if !all.conflicts.is_empty() {
        output::line("\nconflicts: the role with the highest priority wins");
        output::table(
            &["name", "attribute", "value", "role", "overridden", "id"],
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

/// Maximum number of names printed for each side.
const MAX_NAMES: usize = 20;

fn print_simulation(name: &str, when: &str, simulation: &RoleSimulationView) {
    output::line(&simulation.message);
    let mut rows = Vec::new();
    let mut more = Vec::new();
    for (what, they, turns) in [
        ("gains", "gain", &simulation.gains),
        ("loses", "lose", &simulation.loses),
    ] {
        let own: Vec<&RoleChange> = turns.iter().filter(|one| one.role == name).collect();
        let by = |one: &RoleChange| {
            if one.by == when.trim() {
                String::new()
            } else {
                one.by.clone()
            }
        };
        rows.extend(own.iter().take(MAX_NAMES).map(|one| {
            vec![
                what.to_owned(),
                one.label.clone(),
                by(one),
                one.identity.clone(),
            ]
        }));
        if own.len() > MAX_NAMES {
            more.push(format!(
                "and {} more {they} it; `--output json` has all",
                own.len() - MAX_NAMES
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
                .map(|(role, count)| format!("included: {count} {they} {role}")),
        );
    }
    if !rows.is_empty() {
        output::line("");
        // Usually the reason is the condition itself: the column is omitted then.
        if rows.iter().all(|row| row[2].is_empty()) {
            rows.iter_mut().for_each(|row| drop(row.remove(2)));
            output::table(&["", "name", "id"], rows);
        } else {
            output::table(&["", "name", "reason", "id"], rows);
        }
    }
    more.iter().for_each(|line| output::line(line));
    for one in &simulation.conflicts {
        output::line(&format!(
            "new conflict about {} of {}: {} from {}, overriding {}",
            one.attribute,
            one.label,
            one.value,
            one.role,
            one.over.join(", ")
        ));
    }
    output::line("");
    super::drafts::print_impact(&simulation.impact, ["now", "with this condition"]);
}

impl Roles {
    /// Runs the command.
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
            Roles::Show {
                name,
                search,
                limit,
            } => {
                show_role(reach, &client, name, search, limit).await?;
            }
            Roles::Grant {
                name,
                who,
                from,
                until,
                comment,
            } => {
                let grant = NewRoleGrant {
                    identity: client.identity(&who).await?,
                    from,
                    until,
                    comment,
                };
                grant_role(&client, &name, &grant).await?;
            }
            Roles::Simulate { name, when } => {
                let simulation: RoleSimulationView = client
                    .send(
                        Method::POST,
                        &format!("roles/{}/simulate", segment(&name)),
                        &NewRoleSimulation { when: when.clone() },
                    )
                    .await?;
                if reach.json() {
                    output::json(&simulation)?
                } else {
                    print_simulation(&name, &when, &simulation)
                }
            }
            Roles::Revoke { name, who } => {
                let id = client.identity(&who).await?;
                client
                    .tell::<()>(
                        Method::DELETE,
                        &format!("roles/{}/holders/{}", segment(&name), segment(&id)),
                        None,
                    )
                    .await?;
                output::line(&format!(
                    "revoked: {name}; the next run removes what only it provided"
                ));
            }
        }
        Ok(ExitCode::SUCCESS)
    }
}

/// Prints a role with its holders.
async fn show_role(
    reach: &Reach,
    client: &super::Client,
    name: String,
    search: String,
    limit: usize,
) -> anyhow::Result<()> {
    let all: tide_api::Roles = client.get("roles", &[]).await?;
    let Some(role) = all.roles.into_iter().find(|role| role.name == name) else {
        anyhow::bail!("there is no role `{name}`: `eager-tide roles list` lists them");
    };
    let path = format!("roles/{}/holders", segment(&name));
    let query = [("search", search), ("limit", limit.to_string())];
    let holders: tide_api::RoleHolders = client.get(&path, &query).await?;
    if reach.json() {
        return output::json(&serde_json::json!({ "role": role, "holders": holders }));
    }
    output::line(&format!(
        "{} · priority {} · {}",
        role.name, role.priority, role.rule
    ));
    output::line(&format!(
        "  {}",
        role.when
            .clone()
            .unwrap_or_else(|| "manual, or through another role".to_owned())
    ));
    role.values
        .iter()
        .for_each(|value| output::line(&format!("  {value}")));
    output::line("");
    if holders.items.is_empty() {
        output::line("no holders");
        return Ok(());
    }
    output::table(
        &["holder", "reason", "until", "id"],
        holders.items.iter().map(|one| {
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
    let shown = holders.items.len() as i64;
    if shown < holders.count {
        output::line(&format!(
            "{shown} of {} holders: --search NAME or --limit N shows others",
            holders.count
        ));
    }
    Ok(())
}

/// Grants a role to a person.
async fn grant_role(
    client: &super::Client,
    name: &str,
    grant: &NewRoleGrant,
) -> anyhow::Result<()> {
    client
        .tell(
            Method::POST,
            &format!("roles/{}/holders", segment(name)),
            Some(grant),
        )
        .await?;
    output::line(&format!(
        "granted: {name}; its effects follow with the next run"
    ));
    Ok(())
}
