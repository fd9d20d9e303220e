//! `eager-tide rules …`.

use super::{Reach, drafts, output};
use crate::client::freshness;
use anyhow::{Context, bail};
use clap::Subcommand;
use reqwest::Method;
use std::path::{Path, PathBuf};
use std::process::ExitCode;
use tide_api::{
    NewMappingTrial, NewTrial, Published, RuleCheck, RuleFile, RuleFiles, RuleLine, Trial,
};
use tide_core::ObjectType;
use tide_core::rules::FaultSeverity;

/// What can be done with rules.
#[derive(Subcommand)]
pub enum Rules {
    /// Check a folder of rules; stores nothing
    Check {
        /// The folder with the TOML files
        folder: PathBuf,
    },
    /// Publish a folder of rules without errors; sends nothing
    ///
    /// A folder that `export` wrote remembers its version: if another version was published
    /// meanwhile, publishing is refused.
    Publish {
        /// The folder with the TOML files
        folder: PathBuf,
        /// Publish even if another version was published since the export
        #[arg(long)]
        anyway: bool,
    },
    /// Show the effect of a folder of rules compared with the published ones; stores and sends
    /// nothing
    Effect {
        /// The folder with the TOML files
        folder: PathBuf,
    },
    /// Edit rules in drafts, see their effect, publish them
    #[command(subcommand)]
    Draft(drafts::Drafts),
    /// List the published versions
    History,
    /// Compare two published versions
    Diff {
        /// The older version
        from: i64,
        /// The newer version
        to: i64,
        /// Show the effect on current records, too
        #[arg(long)]
        effect: bool,
    },
    /// Create a draft of an older version, and show the effect of going back
    Back {
        /// The version
        version: i64,
    },
    /// Show the published rules
    Show,
    /// Evaluate an expression on a real record, step by step; stores nothing
    ///
    /// Without an expression, the whole mapping of a system is evaluated.
    Try {
        /// The expression, for example: lower(account.mail)
        expression: Option<String>,
        /// The record: a name, number, address or id
        #[arg(long, value_name = "PERSON")]
        on: String,
        /// The system whose account the expression may read, or whose mapping is evaluated
        #[arg(long, value_name = "NAME", required_unless_present = "expression")]
        system: Option<String>,
        /// The draft to use; default: the published rules
        #[arg(long, value_name = "NUMBER")]
        draft: Option<i64>,
        /// The type of the record
        #[arg(long, value_name = "TYPE", value_parser = super::codes::code_parser(ObjectType::ALL))]
        object: Option<ObjectType>,
    },
    /// Write the published rules to a folder, with their comments
    Export {
        /// The folder; files of the same name are replaced
        folder: PathBuf,
    },
}

/// The file in which an exported folder remembers the version that it holds.
const VERSION: &str = ".published-version";

fn remembered(folder: &Path) -> Option<i64> {
    std::fs::read_to_string(folder.join(VERSION))
        .ok()?
        .trim()
        .parse()
        .ok()
}

/// Reads the TOML files of a folder.
pub fn read(folder: &Path) -> anyhow::Result<RuleFiles> {
    let mut files = Vec::new();
    let entries = std::fs::read_dir(folder)
        .with_context(|| format!("the folder {} cannot be read", folder.display()))?;
    for entry in entries {
        let path = entry?.path();
        if path.extension().is_some_and(|ending| ending == "toml") {
            let text = std::fs::read_to_string(&path)
                .with_context(|| format!("{} cannot be read", path.display()))?;
            let name = path
                .file_name()
                .map(|name| name.to_string_lossy().into_owned())
                .unwrap_or_default();
            files.push(RuleFile { name, text });
        }
    }
    if files.is_empty() {
        bail!("{} holds no .toml file", folder.display());
    }
    files.sort_by(|a, b| a.name.cmp(&b.name));
    Ok(RuleFiles {
        files,
        based_on: None,
    })
}

pub fn print_faults(faults: &[tide_api::Fault]) {
    for fault in faults {
        output::line(&output::fault(fault));
    }
}

/// What was published, and what is to be read for it.
pub fn print_published(published: &Published) {
    print_faults(&published.faults);
    freshness::to_read(&published.to_read);
    output::line(&format!(
        "published as version {}; `eager-tide preview` shows what it would do",
        published.version
    ));
}

fn section(title: &str, lines: &[RuleLine]) {
    if lines.is_empty() {
        return;
    }
    output::line(&format!("\n  {title}"));
    let rows = lines.iter().map(|l| {
        vec![
            format!("   {}", l.name),
            l.text.clone(),
            l.note.clone(),
            l.place.clone(),
        ]
    });
    output::table(&["   name", "rule", "note", "place"], rows);
}

impl Rules {
    /// Does it.
    pub async fn run(self, reach: &Reach) -> anyhow::Result<ExitCode> {
        let client = reach.client()?;
        match self {
            Rules::Check { folder } => {
                let check: RuleCheck = client
                    .send(Method::POST, "rules/check", &read(&folder)?)
                    .await?;
                if reach.json() {
                    output::json(&check)?;
                } else {
                    print_faults(&check.faults);
                    let errors = check
                        .faults
                        .iter()
                        .filter(|f| f.severity == FaultSeverity::Error)
                        .count();
                    output::line(&format!(
                        "{errors} errors, {} warnings",
                        check.faults.len() - errors
                    ));
                }
                return Ok(if check.usable {
                    ExitCode::SUCCESS
                } else {
                    ExitCode::from(1)
                });
            }
            Rules::Effect { folder } => return drafts::effect_of(reach, &folder).await,
            Rules::Draft(draft) => return draft.run(reach).await,
            Rules::History => return drafts::history(reach).await,
            Rules::Diff { from, to, effect } => {
                return drafts::difference(reach, from, to, effect).await;
            }
            Rules::Back { version } => return drafts::back(reach, version).await,
            Rules::Try {
                expression: None,
                on,
                system,
                draft,
                object,
            } => {
                let new = NewMappingTrial {
                    on,
                    system: system.unwrap_or_default(),
                    draft,
                    object,
                };
                return drafts::try_mapping(&client, reach, new).await;
            }
            Rules::Publish { folder, anyway } => {
                let mut files = read(&folder)?;
                files.based_on = remembered(&folder).filter(|_| !anyway);
                let published: Published = client.send(Method::PUT, "rules", &files).await?;
                if remembered(&folder).is_some() {
                    std::fs::write(folder.join(VERSION), format!("{}\n", published.version))?;
                }
                if reach.json() {
                    output::json(&published)?;
                } else {
                    print_published(&published);
                }
            }
            Rules::Show => {
                let rules: tide_api::Rules = client.get("rules", &[]).await?;
                if reach.json() {
                    output::json(&rules)?;
                    return Ok(ExitCode::SUCCESS);
                }
                match (&rules.made, &rules.principal) {
                    (Some(made), Some(who)) => output::line(&format!(
                        "version {} · published {} by {who}",
                        rules.version,
                        output::time(made)
                    )),
                    _ => output::line(
                        "no rules were published yet: `eager-tide rules publish FOLDER`",
                    ),
                }
                freshness::to_read(&rules.to_read);
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
                    section("otherwise", &system.otherwise);
                    section("examples: given a record, expect", &system.examples);
                }
                section("guards", &rules.guards);
                print_faults(&rules.faults);
            }
            Rules::Try {
                expression: Some(expression),
                on,
                system,
                draft,
                object,
            } => {
                let new = NewTrial {
                    expression: expression.clone(),
                    on,
                    system,
                    draft,
                    object,
                };
                let trial: Trial = client.send(Method::POST, "rules/try", &new).await?;
                if reach.json() {
                    output::json(&trial)?;
                } else {
                    output::line(&match &trial.account {
                        Some(account) => {
                            format!("on {}, whose account is {account}\n", trial.label)
                        }
                        None => format!("on {}\n", trial.label),
                    });
                    if !trial.steps.is_empty() {
                        output::table(
                            &["part", "gives"],
                            trial
                                .steps
                                .iter()
                                .map(|step| vec![step.text.clone(), step.value.clone()]),
                        );
                    }
                    match &trial.fault {
                        None if trial.values.is_empty() => output::line("\nno value"),
                        None => output::line(&format!("\n= {}", trial.values.join(" · "))),
                        Some(fault) => {
                            output::line(&format!(
                                "{expression}\n{}^ {}",
                                " ".repeat(fault.offset),
                                fault.message
                            ));
                            if let Some(help) = &fault.help {
                                output::line(&format!("to do: {help}"));
                            }
                        }
                    }
                }
                return Ok(if trial.fault.is_none() {
                    ExitCode::SUCCESS
                } else {
                    ExitCode::from(1)
                });
            }
            Rules::Export { folder } => {
                let rules: tide_api::Rules = client.get("rules", &[]).await?;
                std::fs::create_dir_all(&folder)?;
                for file in &rules.files {
                    // The service allows plain names only; a path would be a fault of it.
                    if file.name.contains(['/', '\\']) {
                        bail!(
                            "the service sent a file named `{}`, and it was not written",
                            file.name
                        );
                    }
                    std::fs::write(folder.join(&file.name), &file.text)?;
                }
                std::fs::write(folder.join(VERSION), format!("{}\n", rules.version))?;
                output::line(&format!(
                    "{} files of version {} were written to {}",
                    rules.files.len(),
                    rules.version,
                    folder.display()
                ));
            }
        }
        Ok(ExitCode::SUCCESS)
    }
}
