//! `eager-tide rules …`.

use super::{Reach, output};
use anyhow::{Context, bail};
use clap::Subcommand;
use reqwest::Method;
use std::path::{Path, PathBuf};
use std::process::ExitCode;
use tide_api::{NewTrial, Published, RuleCheck, RuleFile, RuleFiles, RuleLine, Trial};

/// What can be done with rules.
#[derive(Subcommand)]
pub enum Rules {
    /// Check a folder of rules; nothing is kept
    Check {
        /// The folder with the TOML files
        folder: PathBuf,
    },
    /// Publish a folder of rules that has no error; nothing is sent by that
    Publish {
        /// The folder with the TOML files
        folder: PathBuf,
    },
    /// The published rules, in words
    Show,
    /// Try an expression on a real record, with what each part of it gives; nothing is kept
    Try {
        /// The expression, for example: lower(account.mail)
        expression: String,
        /// On whom: a name, an employee number, an address, an id
        #[arg(long, value_name = "PERSON")]
        on: String,
        /// The system whose account it may read too
        #[arg(long, value_name = "NAME")]
        system: Option<String>,
    },
    /// Write the published rules into a folder, comments and all
    Export {
        /// The folder; files of the same name are replaced
        folder: PathBuf,
    },
}

/// Reads the TOML files of a folder.
pub fn read(folder: &Path) -> anyhow::Result<RuleFiles> {
    let mut files = Vec::new();
    let entries = std::fs::read_dir(folder).with_context(|| format!("the folder {} cannot be read", folder.display()))?;
    for entry in entries {
        let path = entry?.path();
        if path.extension().is_some_and(|ending| ending == "toml") {
            let text = std::fs::read_to_string(&path).with_context(|| format!("{} cannot be read", path.display()))?;
            let name = path.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
            files.push(RuleFile { name, text });
        }
    }
    if files.is_empty() {
        bail!("{} holds no .toml file", folder.display());
    }
    files.sort_by(|a, b| a.name.cmp(&b.name));
    Ok(RuleFiles { files })
}

fn print_faults(faults: &[tide_api::Fault]) {
    for fault in faults {
        output::line(&output::fault(fault));
    }
}

fn section(title: &str, lines: &[RuleLine]) {
    if lines.is_empty() {
        return;
    }
    output::line(&format!("\n  {title}"));
    let rows = lines.iter().map(|l| vec![format!("   {}", l.name), l.text.clone(), l.note.clone(), l.place.clone()]);
    output::table(&["   name", "rule", "note", "place"], rows);
}

impl Rules {
    /// Does it.
    pub async fn run(self, reach: &Reach) -> anyhow::Result<ExitCode> {
        let client = reach.client()?;
        match self {
            Rules::Check { folder } => {
                let check: RuleCheck = client.send(Method::POST, "rules/check", &read(&folder)?).await?;
                if reach.json() {
                    output::json(&check)?;
                } else {
                    print_faults(&check.faults);
                    let errors = check.faults.iter().filter(|f| f.severity == "error").count();
                    output::line(&format!("{errors} errors, {} warnings", check.faults.len() - errors));
                }
                return Ok(if check.usable { ExitCode::SUCCESS } else { ExitCode::from(1) });
            }
            Rules::Publish { folder } => {
                let published: Published = client.send(Method::PUT, "rules", &read(&folder)?).await?;
                if reach.json() {
                    output::json(&published)?;
                } else {
                    print_faults(&published.faults);
                    output::line(&format!("published as version {}; `eager-tide preview` shows what it would do", published.version));
                }
            }
            Rules::Show => {
                let rules: tide_api::Rules = client.get("rules", &[]).await?;
                if reach.json() {
                    output::json(&rules)?;
                    return Ok(ExitCode::SUCCESS);
                }
                match (&rules.made, &rules.principal) {
                    (Some(made), Some(who)) => {
                        output::line(&format!("version {} · published {} by {who}", rules.version, output::time(made)))
                    }
                    _ => output::line("no rules were published yet: `eager-tide rules publish FOLDER`"),
                }
                section("identities hold", &rules.identities);
                for system in &rules.systems {
                    output::line(&format!("\n{} · {}", system.system, system.object));
                    section("scope", &system.scope);
                    section("match", &system.matching);
                    section("inbound: account → identity", &system.inbound);
                    section("outbound: identity → account", &system.outbound);
                    if !system.outbound.is_empty() {
                        output::line(&format!("\n  whoever falls out: {}", system.when_out));
                    }
                }
                section("guards", &rules.guards);
                print_faults(&rules.faults);
            }
            Rules::Try { expression, on, system } => {
                let new = NewTrial { expression: expression.clone(), on, system, object: None };
                let trial: Trial = client.send(Method::POST, "rules/try", &new).await?;
                if reach.json() {
                    output::json(&trial)?;
                } else {
                    output::line(&match &trial.account {
                        Some(account) => format!("on {}, whose account is {account}\n", trial.label),
                        None => format!("on {}\n", trial.label),
                    });
                    if !trial.steps.is_empty() {
                        output::table(&["part", "gives"], trial.steps.iter().map(|step| vec![step.text.clone(), step.value.clone()]));
                    }
                    match &trial.fault {
                        None if trial.values.is_empty() => output::line("\nno value"),
                        None => output::line(&format!("\n= {}", trial.values.join(" · "))),
                        Some(fault) => {
                            output::line(&format!("{expression}\n{}^ {}", " ".repeat(fault.offset), fault.message));
                            if let Some(help) = &fault.help {
                                output::line(&format!("to do: {help}"));
                            }
                        }
                    }
                }
                return Ok(if trial.fault.is_none() { ExitCode::SUCCESS } else { ExitCode::from(1) });
            }
            Rules::Export { folder } => {
                let rules: tide_api::Rules = client.get("rules", &[]).await?;
                std::fs::create_dir_all(&folder)?;
                for file in &rules.files {
                    // The service allows plain names only; a path would be a fault of it.
                    if file.name.contains(['/', '\\']) {
                        bail!("the service sent a file named `{}`, and it was not written", file.name);
                    }
                    std::fs::write(folder.join(&file.name), &file.text)?;
                }
                output::line(&format!("{} files of version {} were written to {}", rules.files.len(), rules.version, folder.display()));
            }
        }
        Ok(ExitCode::SUCCESS)
    }
}
