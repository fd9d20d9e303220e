//! `eager-tide rules …`.

use super::{Reach, drafts, output};
use crate::client::freshness;
use anyhow::{Context, bail};
use clap::Subcommand;
use reqwest::Method;
use std::path::{Path, PathBuf};
use std::process::ExitCode;
use tide_api::{
    EvaluationView, NewEvaluation, NewMappingEvaluation, Published, RuleCheck, RuleFile, RuleFiles,
    RuleLine,
};
use tide_core::ObjectType;
use tide_core::rules::FaultSeverity;

/// The commands of `rules`.
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
        force: bool,
    },
    /// Show the impact of a folder of rules compared with the published ones; stores and sends
    /// nothing
    Impact {
        /// The folder with the TOML files
        folder: PathBuf,
    },
    /// Edit rules in drafts, see their impact, publish them
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
        /// Show the impact on current records, too
        #[arg(long)]
        impact: bool,
    },
    /// Create a draft of an older version, and show its impact
    Rollback {
        /// The version
        version: i64,
    },
    /// Show the published rules
    Show,
    /// Evaluate an expression on a real record, step by step; stores nothing
    ///
    /// Without an expression, the whole mapping of a system is evaluated.
    Evaluate {
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

/// The file that records the version of an exported folder.
const VERSION: &str = ".published-version";

fn exported_version(folder: &Path) -> Option<i64> {
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
        bail!("{} contains no .toml file", folder.display());
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

/// Prints the published version, and the reads that it requires.
pub fn print_published(published: &Published) {
    print_faults(&published.faults);
    freshness::print_required_reads(&published.required_reads);
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
            l.location.clone(),
        ]
    });
    output::table(&["   name", "rule", "note", "location"], rows);
}

impl Rules {
    /// Runs the command.
    pub async fn run(self, reach: &Reach) -> anyhow::Result<ExitCode> {
        let client = reach.client()?;
        match self {
            Rules::Check { folder } => {
                return check_rules(reach, &client, folder).await;
            }
            Rules::Impact { folder } => return drafts::impact_of(reach, &folder).await,
            Rules::Draft(draft) => return draft.run(reach).await,
            Rules::History => return drafts::history(reach).await,
            Rules::Diff { from, to, impact } => {
                return drafts::difference(reach, from, to, impact).await;
            }
            Rules::Rollback { version } => return drafts::rollback(reach, version).await,
            Rules::Evaluate {
                expression: None,
                on,
                system,
                draft,
                object,
            } => {
                let new = NewMappingEvaluation {
                    on,
                    system: system.unwrap_or_default(),
                    draft,
                    object,
                };
                return drafts::evaluate_mapping(&client, reach, new).await;
            }
            Rules::Publish { folder, force } => {
                publish_rules(reach, &client, folder, force).await?;
            }
            Rules::Show => {
                show_rules(reach, &client).await?;
            }
            Rules::Evaluate {
                expression: Some(expression),
                on,
                system,
                draft,
                object,
            } => {
                let new = NewEvaluation {
                    expression: expression.clone(),
                    on,
                    system,
                    draft,
                    object,
                };
                return evaluate_expression(reach, &client, expression, new).await;
            }
            Rules::Export { folder } => {
                export_rules(client, folder).await?;
            }
        }
        Ok(ExitCode::SUCCESS)
    }
}

/// Checks a folder of rules without publishing it.
async fn check_rules(
    reach: &Reach,
    client: &super::Client,
    folder: PathBuf,
) -> anyhow::Result<ExitCode> {
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
            "{}, {}",
            output::plural(errors, "error"),
            output::plural(check.faults.len() - errors, "warning")
        ));
    }
    Ok(if check.usable {
        ExitCode::SUCCESS
    } else {
        ExitCode::from(1)
    })
}

/// Publishes a folder of rules.
async fn publish_rules(
    reach: &Reach,
    client: &super::Client,
    folder: PathBuf,
    force: bool,
) -> anyhow::Result<()> {
    let mut files = read(&folder)?;
    files.based_on = exported_version(&folder).filter(|_| !force);
    let published: Published = client.send(Method::PUT, "rules", &files).await?;
    if exported_version(&folder).is_some() {
        std::fs::write(folder.join(VERSION), format!("{}\n", published.version))?;
    }
    if reach.json() {
        output::json(&published)?;
    } else {
        print_published(&published);
    }
    Ok(())
}

/// Prints the published rules.
async fn show_rules(reach: &Reach, client: &super::Client) -> anyhow::Result<()> {
    let rules: tide_api::Rules = client.get("rules", &[]).await?;
    if reach.json() {
        output::json(&rules)?;
        return Ok(());
    }
    match (&rules.created_at, &rules.principal) {
        (Some(made), Some(who)) => output::line(&format!(
            "version {} · published {} by {who}",
            rules.version,
            output::time(made)
        )),
        _ => output::line("no rules were published yet: `eager-tide rules publish FOLDER`"),
    }
    freshness::print_required_reads(&rules.required_reads);
    section("attributes of identities", &rules.identities);
    for system in &rules.systems {
        output::line(&format!("\n{} · {}", system.system, system.object));
        section("scope", &system.scope);
        section("match", &system.matching);
        section("inbound: account → identity", &system.inbound);
        section("outbound: identity → account", &system.outbound);
        if !system.outbound.is_empty() {
            output::line(&format!("\n  out of scope: {}", system.on_out_of_scope));
        }
        section("external changes and initial passwords", &system.otherwise);
        section("examples: given a record, expect", &system.examples);
    }
    section("guards", &rules.guards);
    print_faults(&rules.faults);
    Ok(())
}

/// Evaluates an expression about an object and prints each step.
async fn evaluate_expression(
    reach: &Reach,
    client: &super::Client,
    expression: String,
    new: NewEvaluation,
) -> anyhow::Result<ExitCode> {
    let found: EvaluationView = client.send(Method::POST, "rules/evaluate", &new).await?;
    if reach.json() {
        output::json(&found)?;
    } else {
        output::line(&match &found.account {
            Some(account) => {
                format!("{} · account {account}\n", found.label)
            }
            None => format!("{}\n", found.label),
        });
        if !found.steps.is_empty() {
            output::table(
                &["subexpression", "result"],
                found
                    .steps
                    .iter()
                    .map(|step| vec![step.text.clone(), step.value.clone()]),
            );
        }
        match &found.fault {
            None if found.values.is_empty() => output::line("\nno value"),
            None => output::line(&format!("\n= {}", found.values.join(" · "))),
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
    Ok(if found.fault.is_none() {
        ExitCode::SUCCESS
    } else {
        ExitCode::from(1)
    })
}

/// Writes the published rule files into a folder.
async fn export_rules(client: super::Client, folder: PathBuf) -> anyhow::Result<()> {
    let rules: tide_api::Rules = client.get("rules", &[]).await?;
    std::fs::create_dir_all(&folder)?;
    for file in &rules.files {
        // The service allows plain names only; do not trust it.
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
    Ok(())
}
