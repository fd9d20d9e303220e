//! `eager-tide systems …`.

use super::connection::{Connection, secret_from_input};
use super::schedule::{self, Timing, timing};
use super::{Client, Reach, output, segment};
use crate::client::codes::label;
use crate::client::freshness;
use anyhow::{Context, bail};
use clap::Subcommand;
use reqwest::Method;
use std::process::ExitCode;
use tide_api::{
    AcceptedRecords, Account, AddedSystem, BadRow, Branch, CheckReport, CheckStep, CreatedToken,
    FirstRules, NewSecret, NewSettings, NewSystem, NewToken, Operation, Permission, ReadResult,
    Retirement, SchemaAttribute, System, SystemState, Token,
};
use tide_core::ObjectType;
use tide_core::states::SystemHealth;

/// The commands of `systems`.
#[derive(Subcommand)]
pub enum Systems {
    /// List systems with their health and number of accounts
    List,
    /// Show a system: its last test and reads
    Show {
        /// The system
        name: String,
        /// Show its attributes instead
        #[arg(long)]
        schema: bool,
    },
    /// Test a system step by step and, if it is healthy, add it read-only
    Add(Box<Connection>),
    /// Test a system step by step
    Test {
        /// The system
        name: String,
    },
    /// Arm a system: enable automatic sync and writes
    Arm {
        /// The system
        name: String,
    },
    /// Disarm a system: nothing is sent to it any more
    Disarm {
        /// The system
        name: String,
    },
    /// Show the impact of retiring a system; with --confirm, retire it: its links end, and its
    /// rules and records are removed. Nothing is written to the system
    Retire {
        /// The system
        name: String,
        /// Retire it
        #[arg(long)]
        confirm: bool,
    },
    /// Remove a system in which no account is linked, with its rules
    Remove {
        /// The system
        name: String,
    },
    /// List the containers of a directory, one level at a time, with the number of people in each
    Tree {
        /// The system
        name: String,
        /// The container to list; default: the top
        #[arg(value_name = "DN")]
        below: Option<String>,
    },
    /// List the permissions that the service account needs for the rules
    Permissions {
        /// The system
        name: String,
    },
    /// Create a token for a system that pushes; earlier ones stay valid for a day
    Token {
        /// The system
        name: String,
        /// Its purpose
        #[arg(long, default_value = "")]
        label: String,
        /// List its tokens instead
        #[arg(long, conflicts_with = "end")]
        list: bool,
        /// End this token at once
        #[arg(long, value_name = "ID")]
        end: Option<String>,
    },
    /// List the rows of a feed in quarantine, with line and reason
    Quarantine {
        /// The system
        name: String,
    },
    /// After a restore, accept the records of a system that pushes as they are, without what it
    /// changed since
    AcceptRecords {
        /// The system
        name: String,
    },
    /// Learn the shape of a system's events from a sample, or show their JSON Schema
    Events(Box<super::event_shape::EventShapeArgs>),
    /// Make a system writable or read-only, pause or resume it
    Set {
        /// The system
        name: String,
        /// Types that may be written
        #[arg(long, value_delimiter = ',', conflicts_with = "read_only", value_parser = super::codes::code_parser(ObjectType::ALL))]
        writable: Option<Vec<ObjectType>>,
        /// Make the system read-only
        #[arg(long)]
        read_only: bool,
        /// Pause: send nothing for now
        #[arg(long, conflicts_with = "resume")]
        pause: bool,
        /// Resume after a pause
        #[arg(long)]
        resume: bool,
    },
    /// Change settings of a system, such as page_size=200 or person_classes=person,nsPerson;
    /// without any, show them
    Configure {
        /// The system
        name: String,
        /// Settings as NAME=VALUE; a value is text, a comma-separated list, or JSON; an empty value
        /// (NAME=) restores the default
        #[arg(value_name = "NAME=VALUE")]
        settings: Vec<String>,
        /// Enter the secret again, because the host changed; read from standard input
        #[arg(long)]
        with_secret: bool,
    },
    /// Set the sync schedule of a system; without options, show it
    Schedule {
        /// The system
        name: String,
        #[command(flatten)]
        timing: Box<Timing>,
    },
    /// Replace a system's password or token; read from standard input
    Secret {
        /// The system
        name: String,
        /// Replace it even if the test with the new one fails
        #[arg(long)]
        force: bool,
    },
    /// Read a system now
    Read {
        /// The system
        name: String,
    },
    /// List the accounts of a system
    Accounts {
        /// The system
        name: String,
        /// Only accounts with this text in their name
        #[arg(long, default_value = "")]
        search: String,
        /// Maximum number of rows
        #[arg(long, default_value_t = 50)]
        limit: usize,
    },
}

/// The table of systems, also part of `status`.
pub fn print(systems: &[System]) {
    if systems.is_empty() {
        output::line("no system is connected yet: `eager-tide systems add --help`");
        return;
    }
    output::table(
        &[
            "system",
            "kind",
            "health",
            "accounts",
            "linked",
            "access",
            "last full read",
            "address",
        ],
        systems.iter().map(|s| {
            let health = match s.health {
                SystemHealth::Unknown => "not tested",
                SystemHealth::Paused => "paused",
                SystemHealth::Healthy => "healthy",
                SystemHealth::Degraded => "degraded",
                SystemHealth::Unreachable => "unreachable",
            };
            let writes = if s.writable.is_empty() {
                "read-only".into()
            } else {
                s.writable
                    .iter()
                    .map(|one| one.as_str())
                    .collect::<Vec<_>>()
                    .join(", ")
            };
            let read = s.full_reads.first().map_or_else(
                || "never".into(),
                |r| format!("{} {}", r.state, output::time(&r.started_at)),
            );
            let paused = match (s.armed, s.paused) {
                (_, true) => "",
                (false, false) => " (not armed)",
                (true, false) => "",
            };
            vec![
                s.name.clone(),
                s.kind.to_string(),
                health.into(),
                s.accounts.to_string(),
                s.linked.to_string(),
                format!("{writes}{paused}"),
                read,
                s.address.clone(),
            ]
        }),
    );
}

/// A permission as a row of the table.
fn permission_row(permission: Permission) -> Vec<String> {
    let Permission {
        operation,
        entries,
        is_subtree,
        attributes,
        reason,
    } = permission;
    let operation = match operation {
        Operation::Read => "read",
        Operation::Write => "write",
        Operation::Create => "create",
        Operation::Rename => "rename, move",
        Operation::Delete => "delete",
        Operation::SetPassword => "set password",
    };
    let on = entries.join(" and ");
    let on = if is_subtree {
        format!("{on} and below")
    } else {
        on
    };
    let attributes = if attributes.is_empty() {
        "(whole entries)".to_owned()
    } else {
        attributes.join(", ")
    };
    vec![operation.to_owned(), on, attributes, reason]
}

fn print_step(step: &CheckStep) {
    let sign = match step.state.as_str() {
        "passed" => "ok  ",
        "warned" => "warn",
        _ => "FAIL",
    };
    output::line(&format!("{sign}  {:<22} {}", step.name, step.message));
    if let Some(remedy) = &step.remedy {
        output::line(&format!("      {:<22} to do: {remedy}", ""));
    }
}

/// Runs a test, and prints each step as it completes.
async fn test<B: serde::Serialize>(
    client: &Client,
    reach: &Reach,
    path: &str,
    body: &B,
) -> anyhow::Result<CheckReport> {
    let mut ended: Option<CheckReport> = None;
    let quiet = reach.json();
    client
        .lines(Method::POST, path, body, |line| {
            if let Some(step) = line
                .get("step")
                .and_then(|step| serde_json::from_value::<CheckStep>(step.clone()).ok())
            {
                if !quiet {
                    print_step(&step);
                }
            } else if let Some(report) = line.get("report") {
                ended = serde_json::from_value(report.clone()).ok();
            } else if let Some(problem) = line.get("problem") {
                return Err(super::explain_json(problem));
            }
            Ok(())
        })
        .await?;
    let report = ended.context("the test did not finish")?;
    if reach.json() {
        output::json(&report)?;
    }
    Ok(report)
}

impl Systems {
    /// Runs the command.
    pub async fn run(self, reach: &Reach) -> anyhow::Result<ExitCode> {
        let client = reach.client()?;
        match self {
            Systems::List => list_systems(reach, &client).await?,
            Systems::Show { name, schema: true } => show_schema(reach, &client, name).await?,
            Systems::Show {
                name,
                schema: false,
            } => show_system(reach, &client, name).await?,
            Systems::Add(connection) => return add(&client, reach, *connection).await,
            Systems::Test { name } => return test_system(reach, &client, &name).await,
            Systems::Arm { name } => set_armed(&client, reach, &name, true).await?,
            Systems::Disarm { name } => set_armed(&client, reach, &name, false).await?,
            Systems::Retire { name, confirm } => retire(reach, &client, name, confirm).await?,
            Systems::Remove { name } => {
                client
                    .tell::<()>(Method::DELETE, &format!("systems/{}", segment(&name)), None)
                    .await?;
                output::line(&format!("{name} and its records were removed"));
            }
            Systems::Tree { name, below } => show_tree(reach, &client, name, below).await?,
            Systems::Permissions { name } => show_permissions(reach, &client, name).await?,
            Systems::Token {
                name,
                label,
                list,
                end,
            } => {
                let path = format!("systems/{}/tokens", segment(&name));
                let Some(id) = end else {
                    return list_or_create_token(reach, &client, &path, label, list).await;
                };
                client
                    .tell::<()>(Method::DELETE, &format!("{path}/{}", segment(&id)), None)
                    .await?;
                output::line("the token was revoked");
            }
            Systems::Quarantine { name } => show_quarantine(reach, &client, name).await?,
            Systems::AcceptRecords { name } => accept_records(reach, &client, name).await?,
            Systems::Events(args) => args.run(reach, &client).await?,
            Systems::Set {
                name,
                writable,
                read_only,
                pause,
                resume,
            } => {
                let state = SystemState {
                    armed: None,
                    writable: if read_only {
                        Some(Vec::new())
                    } else {
                        writable
                    },
                    paused: (pause || resume).then_some(pause),
                };
                set_state(reach, &client, &name, state).await?;
            }
            Systems::Configure {
                name,
                settings,
                with_secret,
            } => configure(reach, &client, name, settings, with_secret).await?,
            Systems::Schedule { name, timing } => {
                return schedule::schedule(&client, reach, &name, *timing).await;
            }
            Systems::Secret { name, force } => replace_secret(&client, name, force).await?,
            Systems::Read { name } => return read_system(reach, &client, name).await,
            Systems::Accounts {
                name,
                search,
                limit,
            } => list_accounts(reach, client, name, search, limit).await?,
        }
        Ok(ExitCode::SUCCESS)
    }
}

/// Tests the connection of a system.
async fn test_system(reach: &Reach, client: &Client, name: &str) -> anyhow::Result<ExitCode> {
    let report = test(
        client,
        reach,
        &format!("systems/{}/test", segment(name)),
        &(),
    )
    .await?;
    Ok(if report.healthy {
        ExitCode::SUCCESS
    } else {
        ExitCode::from(1)
    })
}

/// Prints all systems.
async fn list_systems(reach: &Reach, client: &Client) -> anyhow::Result<()> {
    let systems: Vec<System> = client.get("systems", &[]).await?;
    if reach.json() {
        output::json(&systems)?
    } else {
        print(&systems)
    }
    Ok(())
}

/// Prints the attributes that the system declares.
async fn show_schema(reach: &Reach, client: &Client, name: String) -> anyhow::Result<()> {
    let schema: Vec<SchemaAttribute> = client
        .get(&format!("systems/{}/schema", segment(&name)), &[])
        .await?;
    if reach.json() {
        output::json(&schema)?;
    } else {
        let yes = |truth: bool| if truth { "yes" } else { "" }.to_owned();
        output::table(
            &["attribute", "kind", "multi-valued", "required", "writable"],
            schema.into_iter().map(|a| {
                vec![
                    a.name,
                    label(a.kind),
                    yes(a.multi_valued),
                    yes(a.required),
                    yes(a.writable),
                ]
            }),
        );
    }
    Ok(())
}

/// Prints a system with its capabilities, freshness and last test.
async fn show_system(reach: &Reach, client: &Client, name: String) -> anyhow::Result<()> {
    let system: System = client
        .get(&format!("systems/{}", segment(&name)), &[])
        .await?;
    if reach.json() {
        output::json(&system)?;
    } else {
        print(std::slice::from_ref(&system));
        output::line("");
        for fact in &system.profile {
            output::line(&format!("{:<22} {}", fact.label, fact.text));
        }
        for one in &system.freshness {
            output::line(&format!(
                "{:<22} {}",
                format!("Data age ({})", one.object),
                freshness::text(one)
            ));
        }
        timing(&system);
        if let Some(host) = &system.host {
            output::line(&format!("{:<22} {host}", "Connected host"));
        }
        output::line("");
        system.steps.iter().for_each(print_step);
        for reading in system.full_reads.iter().filter(|r| r.error.is_some()) {
            output::line(&format!(
                "last full read failed: {}",
                reading.error.clone().unwrap_or_default()
            ));
        }
    }
    Ok(())
}

/// Shows the impact of retiring a system; retires it with `--confirm`.
async fn retire(reach: &Reach, client: &Client, name: String, confirm: bool) -> anyhow::Result<()> {
    let path = format!("systems/{}", segment(&name));
    let found: Retirement = client.get(&format!("{path}/retirement"), &[]).await?;
    if confirm {
        client
            .tell::<()>(Method::DELETE, &format!("{path}?retire=true"), None)
            .await?;
    }
    if reach.json() {
        output::json(&found)?;
        return Ok(());
    }
    output::line(&format!(
        "{name} has {} accounts, {} of them linked",
        found.accounts, found.linked
    ));
    if let Some(file) = &found.file {
        output::line(&format!("{file} is removed, as a new version of the rules"));
    }
    super::drafts::print_impact(&found.impact, ["now", "without it"]);
    output::line(&match confirm {
        true => format!("\n{name} was retired; nothing was written to it"),
        false => format!(
            "\nnothing was changed: `eager-tide systems retire {name} --confirm` retires it"
        ),
    });
    Ok(())
}

/// Prints the containers of a directory below an entry.
async fn show_tree(
    reach: &Reach,
    client: &Client,
    name: String,
    below: Option<String>,
) -> anyhow::Result<()> {
    let query: Vec<(&str, String)> = below.into_iter().map(|dn| ("below", dn)).collect();
    let branches: Vec<Branch> = client
        .get(&format!("systems/{}/tree", segment(&name)), &query)
        .await?;
    if reach.json() {
        output::json(&branches)?;
    } else if branches.is_empty() {
        output::line("no containers here");
    } else {
        let rows = branches.into_iter().map(|b| {
            let people = b.people.map_or_else(
                || "—".into(),
                |n| {
                    if b.is_truncated {
                        format!("{n}+")
                    } else {
                        n.to_string()
                    }
                },
            );
            vec![
                b.dn,
                people,
                if b.leaf {
                    "empty".into()
                } else {
                    String::new()
                },
            ]
        });
        output::table(&["container", "people below", "note"], rows);
    }
    Ok(())
}

/// Prints the permissions that the rules need.
async fn show_permissions(reach: &Reach, client: &Client, name: String) -> anyhow::Result<()> {
    let permissions: Vec<Permission> = client
        .get(&format!("systems/{}/permissions", segment(&name)), &[])
        .await?;
    if reach.json() {
        output::json(&permissions)?;
    } else if permissions.is_empty() {
        output::line(&format!(
            "the published rules do not use {name}: no permission is required yet"
        ));
    } else {
        output::table(
            &["operation", "on", "attributes", "reason"],
            permissions.into_iter().map(permission_row),
        );
    }
    Ok(())
}

/// Lists the tokens of a system that pushes, or creates one.
async fn list_or_create_token(
    reach: &Reach,
    client: &Client,
    path: &str,
    label: String,
    list: bool,
) -> anyhow::Result<ExitCode> {
    if list {
        return print_tokens(reach, client.get(path, &[]).await?);
    }
    let new = client.send(Method::POST, path, &NewToken { label }).await?;
    print_new_token(reach, &new, "for a day")
}

/// Prints the rejected rows of a feed.
async fn show_quarantine(reach: &Reach, client: &Client, name: String) -> anyhow::Result<()> {
    let rows: Vec<BadRow> = client
        .get(&format!("systems/{}/quarantine", segment(&name)), &[])
        .await?;
    if reach.json() {
        output::json(&rows)?;
    } else if rows.is_empty() {
        output::line("the quarantine is empty");
    } else {
        output::table(
            &["line", "reason", "row"],
            rows.into_iter()
                .map(|r| vec![r.line.to_string(), r.reason, r.raw]),
        );
    }
    Ok(())
}

/// Accepts the records that a pushing system did not send again after a restore.
async fn accept_records(reach: &Reach, client: &Client, name: String) -> anyhow::Result<()> {
    let path = format!("systems/{}/accept-records", segment(&name));
    let accepted: AcceptedRecords = client.send(Method::POST, &path, &()).await?;
    if reach.json() {
        output::json(&accepted)?;
    } else {
        let AcceptedRecords { unsent, total } = accepted;
        output::line(&format!(
            "{name} counts as read: {unsent} of its {total} records were not received since the restore"
        ));
    }
    Ok(())
}

/// Changes whether a system is writable or paused.
async fn set_state(
    reach: &Reach,
    client: &Client,
    name: &str,
    state: SystemState,
) -> anyhow::Result<()> {
    if state.writable.is_none() && state.paused.is_none() {
        bail!("no change given: use --writable person, --read-only, --pause or --resume");
    }
    let system: System = client
        .send(Method::PATCH, &format!("systems/{}", segment(name)), &state)
        .await?;
    if reach.json() {
        output::json(&system)?
    } else {
        print(std::slice::from_ref(&system))
    }
    Ok(())
}

/// Changes and prints the settings of a system.
async fn configure(
    reach: &Reach,
    client: &Client,
    name: String,
    settings: Vec<String>,
    with_secret: bool,
) -> anyhow::Result<()> {
    let path = format!("systems/{}", segment(&name));
    let system: System = client.get(&path, &[]).await?;
    let mut now = system.settings;
    let Some(all) = now.as_object_mut() else {
        bail!("{name} has no settings")
    };
    for text in &settings {
        let (key, value) = text
            .split_once('=')
            .with_context(|| format!("`{text}` is not NAME=VALUE"))?;
        match value {
            "" => drop(all.remove(key)),
            value => {
                let value =
                    serde_json::from_str(value).unwrap_or_else(|_| serde_json::Value::from(value));
                all.insert(key.to_owned(), value);
            }
        }
    }
    if !settings.is_empty() {
        let secret = if with_secret {
            Some(secret_from_input()?)
        } else {
            None
        };
        let new = NewSettings {
            settings: now.clone(),
            secret,
        };
        client
            .tell(Method::PUT, &format!("{path}/settings"), Some(&new))
            .await?;
    }
    let shown: System = client.get(&path, &[]).await?;
    if reach.json() {
        output::json(&shown.settings)?;
    } else {
        let text = |value: &serde_json::Value| {
            value
                .as_str()
                .map_or_else(|| value.to_string(), str::to_owned)
        };
        let all = shown.settings.as_object().into_iter().flatten();
        output::table(
            &["setting", "value"],
            all.map(|(key, value)| vec![key.clone(), text(value)]),
        );
        if !settings.is_empty() {
            output::line(&format!(
                "changed; `eager-tide systems test {name}` tests it"
            ));
        }
    }
    Ok(())
}

/// Replaces the secret of a system.
async fn replace_secret(client: &Client, name: String, force: bool) -> anyhow::Result<()> {
    let secret = secret_from_input()?;
    client
        .tell(
            Method::PUT,
            &format!("systems/{}/secret", segment(&name)),
            Some(&NewSecret { secret, force }),
        )
        .await?;
    output::line(&match force {
        true => format!(
            "the secret of {name} was replaced untested; `eager-tide systems test {name}` tests it"
        ),
        false => format!("the secret of {name} was tested and replaced"),
    });
    Ok(())
}

/// Reads a system in full.
async fn read_system(reach: &Reach, client: &Client, name: String) -> anyhow::Result<ExitCode> {
    let reads: Vec<ReadResult> = client
        .send(
            Method::POST,
            &format!("systems/{}/read", segment(&name)),
            &(),
        )
        .await?;
    let broken = reads.iter().any(|read| read.error.is_some());
    if reach.json() {
        output::json(&reads)?;
    } else {
        for read in &reads {
            match &read.error {
                None if read.unchanged => {
                    output::line(&format!("{name}: unchanged since the last read"))
                }
                None => {
                    output::line(&format!(
                        "{}: {} accounts of type {}, {} newly absent",
                        name, read.object_count, read.object, read.absent
                    ));
                    if read.quarantined > 0 {
                        output::line(&format!(
                            "  {} rows are in quarantine: `eager-tide systems quarantine {name}` lists them",
                            read.quarantined
                        ));
                    }
                }
                Some(error) => {
                    output::line(&format!(
                        "{}: the read failed after {} objects: {error}. No account counts as absent.",
                        name, read.object_count
                    ));
                    output::line(&format!(
                        "  to do: {}",
                        read.remedy.clone().unwrap_or_default()
                    ));
                }
            }
        }
    }
    Ok(if broken {
        ExitCode::from(1)
    } else {
        ExitCode::SUCCESS
    })
}

/// Prints the accounts of a system.
async fn list_accounts(
    reach: &Reach,
    client: Client,
    name: String,
    search: String,
    limit: usize,
) -> anyhow::Result<()> {
    let (accounts, more): (Vec<Account>, bool) = client
        .all(
            &format!("systems/{}/accounts", segment(&name)),
            &[("search", search)],
            limit,
        )
        .await?;
    if reach.json() {
        output::json(&accounts)?;
    } else {
        output::table(
            &["account", "key", "identity", "seen", "note"],
            accounts.iter().map(|a| {
                let note = a
                    .fault
                    .clone()
                    .or_else(|| {
                        let by = if a.absence_confirmed {
                            ""
                        } else {
                            ", not confirmed"
                        };
                        a.absent_since
                            .as_ref()
                            .map(|at| format!("absent since {}{by}", output::time(at)))
                    })
                    .unwrap_or_default();
                vec![
                    a.name.clone(),
                    a.key.clone(),
                    a.identity.clone().unwrap_or_else(|| "—".into()),
                    output::time(&a.seen_at),
                    note,
                ]
            }),
        );
        if more {
            output::line(&format!("… and more: --limit {}", limit * 10));
        }
    }
    Ok(())
}

async fn set_armed(client: &Client, reach: &Reach, name: &str, armed: bool) -> anyhow::Result<()> {
    let state = SystemState {
        armed: Some(armed),
        ..SystemState::default()
    };
    let system: System = client
        .send(Method::PATCH, &format!("systems/{}", segment(name)), &state)
        .await?;
    if reach.json() {
        output::json(&system)?
    } else {
        print(std::slice::from_ref(&system))
    }
    Ok(())
}

/// Prints tokens as a table, without the secrets.
pub fn print_tokens(reach: &Reach, tokens: Vec<Token>) -> anyhow::Result<ExitCode> {
    if reach.json() {
        output::json(&tokens)?;
        return Ok(ExitCode::SUCCESS);
    }
    let rows = tokens.into_iter().map(|t| {
        let state = match (&t.ended_at, &t.expires_at, t.is_valid) {
            (Some(at), ..) => format!("revoked {}", output::time(at)),
            (_, Some(at), true) => format!("valid until {}", output::time(at)),
            (_, Some(at), false) => format!("expired {}", output::time(at)),
            _ => "valid".into(),
        };
        vec![t.id, t.label, output::time(&t.created_at), state]
    });
    output::table(&["id", "label", "created", "state"], rows);
    Ok(ExitCode::SUCCESS)
}

/// Prints a new token; `earlier` is how long earlier tokens stay valid.
pub fn print_new_token(
    reach: &Reach,
    made: &CreatedToken,
    earlier: &str,
) -> anyhow::Result<ExitCode> {
    if reach.json() {
        output::json(made)?;
    } else {
        output::line(&made.token);
        eprintln!("the token is not shown again; earlier tokens stay valid {earlier}");
    }
    Ok(ExitCode::SUCCESS)
}

async fn add(client: &Client, reach: &Reach, connection: Connection) -> anyhow::Result<ExitCode> {
    let system = connection.system()?;
    let report = test(client, reach, "systems/test", &system).await?;
    if !report.healthy || connection.dry_run {
        if !reach.json() && !report.healthy {
            output::line("nothing was added: correct the failed step, and try again");
        }
        return Ok(if report.healthy {
            ExitCode::SUCCESS
        } else {
            ExitCode::from(1)
        });
    }
    let first = connection.purpose.map(|purpose| FirstRules {
        purpose,
        scope: connection.scope(),
    });
    let added: AddedSystem = client
        .send(Method::POST, "systems", &NewSystem { first, ..system })
        .await?;
    let name = segment(&added.system.name);
    // Tests it again under its name, so that the rules know its schema.
    let _: CheckReport = client
        .send(Method::POST, &format!("systems/{name}/test"), &())
        .await?;
    if reach.json() {
        output::json(&added)?;
        return Ok(ExitCode::SUCCESS);
    }
    let name = &added.system.name;
    output::line(&format!("{name} was added, read-only and not armed."));
    if let Some(written) = added.rules {
        output::line(&format!(
            "Its first rules are in {} in draft {}; nothing was published yet:",
            written.file.name, written.draft
        ));
        output::line(&format!(
            "`eager-tide rules draft impact {0}`, then `eager-tide rules draft publish {0}`.",
            written.draft
        ));
    }
    output::line(&format!(
        "Next: `eager-tide systems read {name}`, then `eager-tide scope {name}` and `eager-tide preview`;"
    ));
    output::line(&format!(
        "to write: `eager-tide systems set {name} --writable person`, `eager-tide systems arm {name}`."
    ));
    Ok(ExitCode::SUCCESS)
}
