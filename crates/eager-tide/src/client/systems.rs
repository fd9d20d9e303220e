//! `eager-tide systems …`.

use super::{Reach, output, segment};
use anyhow::{Context, bail};
use clap::{Args, Subcommand, ValueEnum};
use reqwest::Method;
use std::io::Read;
use std::path::PathBuf;
use std::process::ExitCode;
use tide_api::{Account, CheckReport, NewSecret, NewSystem, ReadResult, SchemaAttribute, System, SystemState};

/// The kinds of systems.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Kind {
    /// A directory over LDAP
    Ldap,
    /// A SCIM 2.0 service
    Scim,
}

/// Where a system is.
#[derive(Args)]
pub struct Connection {
    /// Its name: lower-case letters, digits, hyphens
    name: String,
    /// Its kind
    #[arg(long, value_enum)]
    kind: Kind,
    /// Its address: ldap://host:389, ldaps://host, https://host/scim/v2
    #[arg(long = "address", value_name = "URL")]
    address: String,
    /// LDAP: ask for TLS on a plain connection
    #[arg(long)]
    start_tls: bool,
    /// LDAP: the service account's DN
    #[arg(long)]
    bind_dn: Option<String>,
    /// LDAP: below which entry is read
    #[arg(long)]
    base_dn: Option<String>,
    /// A private certificate authority, as a PEM file
    #[arg(long, value_name = "FILE")]
    ca: Option<PathBuf>,
    /// The environment variable that holds the password or token; without it, it is read from the standard input
    #[arg(long, value_name = "NAME")]
    secret_env: Option<String>,
    /// Only test it; keep nothing
    #[arg(long)]
    only_check: bool,
}

/// What can be done with systems.
#[derive(Subcommand)]
pub enum Systems {
    /// All systems, with their health and how many accounts each holds
    List,
    /// One system: its last test and its last readings
    Show {
        /// The system
        name: String,
        /// Its attributes instead
        #[arg(long)]
        schema: bool,
    },
    /// Test a system step by step and, if it is well, add it, read-only
    Add(Connection),
    /// Test a system step by step
    Check {
        /// The system
        name: String,
    },
    /// Make a system writable or read-only, pause it or let it go on
    Set {
        /// The system
        name: String,
        /// The types that may be written: person, service, group
        #[arg(long, value_delimiter = ',', conflicts_with = "read_only")]
        writable: Option<Vec<String>>,
        /// Nothing may be written
        #[arg(long)]
        read_only: bool,
        /// Send nothing for now
        #[arg(long, conflicts_with = "go_on")]
        pause: bool,
        /// Send again
        #[arg(long)]
        go_on: bool,
    },
    /// Replace a system's password or token, read from the standard input
    Secret {
        /// The system
        name: String,
    },
    /// Read a system now
    Read {
        /// The system
        name: String,
    },
    /// The accounts of a system
    Accounts {
        /// The system
        name: String,
        /// Only those whose name holds this text
        #[arg(long, default_value = "")]
        search: String,
        /// The most rows
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
        &["system", "kind", "health", "accounts", "linked", "writes", "last read", "address"],
        systems.iter().map(|s| {
            let health = match s.healthy {
                None => "not tested",
                Some(true) => "well",
                Some(false) => "failing",
            };
            let writes = if s.writable.is_empty() { "read-only".into() } else { s.writable.join(", ") };
            let read = s.readings.first().map_or_else(|| "never".into(), |r| format!("{} {}", r.state, output::time(&r.started)));
            let paused = if s.paused { " (paused)" } else { "" };
            vec![
                s.name.clone(),
                s.kind.clone(),
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

fn print_check(report: &CheckReport) {
    for step in &report.steps {
        let sign = match step.state.as_str() {
            "passed" => "ok  ",
            "warned" => "look",
            _ => "FAIL",
        };
        output::line(&format!("{sign}  {:<22} {}", step.name, step.said));
        if let Some(remedy) = &step.remedy {
            output::line(&format!("      {:<22} to do: {remedy}", ""));
        }
    }
}

fn secret_from_input() -> anyhow::Result<String> {
    let mut text = String::new();
    std::io::stdin().lock().take(64 * 1024).read_to_string(&mut text)?;
    let text = text.trim_end_matches(['\r', '\n']).to_owned();
    if text.is_empty() {
        bail!("no secret came on the standard input: `printf %s \"$SECRET\" | eager-tide systems …`");
    }
    Ok(text)
}

impl Connection {
    fn system(self) -> anyhow::Result<NewSystem> {
        let mut settings = serde_json::json!({"url": self.address});
        if let Some(ca) = &self.ca {
            settings["ca_pem"] = std::fs::read_to_string(ca).with_context(|| format!("{} cannot be read", ca.display()))?.into();
        }
        let anonymous = self.kind == Kind::Ldap && self.bind_dn.is_none();
        if self.kind == Kind::Ldap {
            settings["base_dn"] = self.base_dn.context("a directory needs --base-dn, for example dc=skerry,dc=example")?.into();
            settings["start_tls"] = self.start_tls.into();
            settings["bind_dn"] = self.bind_dn.into();
        }
        let secret = match self.secret_env {
            Some(name) => Some(std::env::var(&name).with_context(|| format!("the environment variable {name} is not set"))?),
            None if anonymous => None,
            None => Some(secret_from_input()?),
        };
        let kind = if self.kind == Kind::Ldap { "ldap" } else { "scim" };
        Ok(NewSystem { name: self.name, kind: kind.into(), settings, secret })
    }
}

impl Systems {
    /// Does it.
    pub async fn run(self, reach: &Reach) -> anyhow::Result<ExitCode> {
        let client = reach.client()?;
        match self {
            Systems::List => {
                let systems: Vec<System> = client.get("systems", &[]).await?;
                if reach.json() { output::json(&systems)? } else { print(&systems) }
            }
            Systems::Show { name, schema: true } => {
                let schema: Vec<SchemaAttribute> = client.get(&format!("systems/{}/schema", segment(&name)), &[]).await?;
                if reach.json() {
                    output::json(&schema)?;
                } else {
                    let yes = |truth: bool| if truth { "yes" } else { "" }.to_owned();
                    output::table(
                        &["attribute", "kind", "several", "required", "writable"],
                        schema.into_iter().map(|a| vec![a.name, a.kind, yes(a.many), yes(a.required), yes(a.writable)]),
                    );
                }
            }
            Systems::Show { name, schema: false } => {
                let system: System = client.get(&format!("systems/{}", segment(&name)), &[]).await?;
                if reach.json() {
                    output::json(&system)?;
                } else {
                    print(std::slice::from_ref(&system));
                    output::line("");
                    let healthy = system.healthy.unwrap_or(false);
                    print_check(&CheckReport { healthy, steps: system.steps });
                    for reading in system.readings.iter().filter(|r| r.error.is_some()) {
                        output::line(&format!("last reading broke off: {}", reading.error.clone().unwrap_or_default()));
                    }
                }
            }
            Systems::Add(connection) => return add(&client, reach, connection).await,
            Systems::Check { name } => {
                let report: CheckReport = client.send(Method::POST, &format!("systems/{}/check", segment(&name)), &()).await?;
                if reach.json() {
                    output::json(&report)?
                } else {
                    print_check(&report)
                }
                return Ok(if report.healthy { ExitCode::SUCCESS } else { ExitCode::from(1) });
            }
            Systems::Set { name, writable, read_only, pause, go_on } => {
                let state = SystemState {
                    writable: if read_only { Some(Vec::new()) } else { writable },
                    paused: if pause || go_on { Some(pause) } else { None },
                };
                if state.writable.is_none() && state.paused.is_none() {
                    bail!("nothing was asked for: give --writable person, --read-only, --pause or --go-on");
                }
                let system: System = client.send(Method::PATCH, &format!("systems/{}", segment(&name)), &state).await?;
                if reach.json() { output::json(&system)? } else { print(std::slice::from_ref(&system)) }
            }
            Systems::Secret { name } => {
                let secret = secret_from_input()?;
                client.tell(Method::PUT, &format!("systems/{}/secret", segment(&name)), Some(&NewSecret { secret })).await?;
                output::line(&format!("the secret of {name} was replaced; `eager-tide systems check {name}` tests it"));
            }
            Systems::Read { name } => {
                let reads: Vec<ReadResult> = client.send(Method::POST, &format!("systems/{}/read", segment(&name)), &()).await?;
                let broken = reads.iter().any(|read| read.error.is_some());
                if reach.json() {
                    output::json(&reads)?;
                } else {
                    for read in &reads {
                        match &read.error {
                            None => output::line(&format!(
                                "{}: {} accounts of type {}, {} newly absent",
                                name, read.seen, read.object, read.absent
                            )),
                            Some(error) => {
                                output::line(&format!(
                                    "{}: the reading broke off after {}: {error}. Nobody is taken for absent.",
                                    name, read.seen
                                ));
                                output::line(&format!("  to do: {}", read.remedy.clone().unwrap_or_default()));
                            }
                        }
                    }
                }
                return Ok(if broken { ExitCode::from(1) } else { ExitCode::SUCCESS });
            }
            Systems::Accounts { name, search, limit } => {
                let (accounts, more): (Vec<Account>, bool) =
                    client.all(&format!("systems/{}/accounts", segment(&name)), &[("search", search)], limit).await?;
                if reach.json() {
                    output::json(&accounts)?;
                } else {
                    output::table(
                        &["account", "key", "identity", "seen", "note"],
                        accounts.iter().map(|a| {
                            let note = a
                                .fault
                                .clone()
                                .or_else(|| a.absent_since.as_ref().map(|at| format!("absent since {}", output::time(at))))
                                .unwrap_or_default();
                            vec![
                                a.name.clone(),
                                a.key.clone(),
                                a.identity.clone().unwrap_or_else(|| "—".into()),
                                output::time(&a.seen),
                                note,
                            ]
                        }),
                    );
                    if more {
                        output::line(&format!("… and more: --limit {}", limit * 10));
                    }
                }
            }
        }
        Ok(ExitCode::SUCCESS)
    }
}

async fn add(client: &super::Client, reach: &Reach, connection: Connection) -> anyhow::Result<ExitCode> {
    let only_check = connection.only_check;
    let system = connection.system()?;
    let report: CheckReport = client.send(Method::POST, "systems/check", &system).await?;
    if !reach.json() {
        print_check(&report);
    }
    if !report.healthy || only_check {
        if reach.json() {
            output::json(&report)?;
        } else if !report.healthy {
            output::line("nothing was added: correct the step that fails, and try again");
        }
        return Ok(if report.healthy { ExitCode::SUCCESS } else { ExitCode::from(1) });
    }
    let added: System = client.send(Method::POST, "systems", &system).await?;
    // Tested again under its name, so that its schema is known to the rules.
    let _: CheckReport = client.send(Method::POST, &format!("systems/{}/check", segment(&added.name)), &()).await?;
    if reach.json() {
        output::json(&added)?;
    } else {
        output::line(&format!(
            "{} was added, read-only. `eager-tide systems set {} --writable person` lets it be written.",
            added.name, added.name
        ));
    }
    Ok(ExitCode::SUCCESS)
}
