//! `eager-tide rules draft …`, rule versions, and the impact of an edit.

use super::rules::{print_faults, print_published, read};
use super::{Client, Reach, output};
use clap::Subcommand;
use reqwest::Method;
use std::collections::BTreeMap;
use std::path::PathBuf;
use std::process::ExitCode;
use tide_api::{
    Difference, Draft, DraftRow, FileDifference, ImpactView, MappingEvaluationView, NewDraft,
    NewMappingEvaluation, PublishDraft, Published, RuleVersion, SaveDraft,
};
use tide_core::states::{Direction, LineChange};

/// The commands of `rules draft`.
#[derive(Subcommand)]
pub enum Drafts {
    /// Create a draft of the published rules, of a folder, or of an older version
    New {
        /// The folder to start from; default: the published rules
        folder: Option<PathBuf>,
        /// Its purpose
        #[arg(long, default_value = "")]
        name: String,
        /// The version to start from, to go back to it
        #[arg(long, value_name = "VERSION", conflicts_with = "folder")]
        from: Option<i64>,
    },
    /// List open drafts
    List,
    /// Show a draft: its differences, errors and warnings
    Show {
        /// Its number
        id: i64,
    },
    /// Save a folder to a draft, unless another operator saved it meanwhile
    Save {
        /// Its number
        id: i64,
        /// The folder with the TOML files
        folder: PathBuf,
        /// The edition on which the folder is based
        #[arg(long)]
        edition: i64,
    },
    /// Show the impact of a draft compared with the published rules; stores and sends nothing
    Impact {
        /// Its number
        id: i64,
    },
    /// Merge newer published rules into a draft
    Rebase {
        /// Its number
        id: i64,
    },
    /// Publish a draft, unless another version was published meanwhile; sends nothing
    Publish {
        /// Its number
        id: i64,
        /// The edition that you reviewed; default: the newest
        #[arg(long)]
        edition: Option<i64>,
    },
    /// Discard a draft
    Discard {
        /// Its number
        id: i64,
    },
}

pub fn print_differences(files: &[FileDifference]) {
    if files.is_empty() {
        output::line("the rules are the same");
    }
    for file in files {
        output::line(&format!("{} {}", file.name, file.state));
        let mut last = 0;
        for line in &file.lines {
            let at = line.after.or(line.before).unwrap_or_default();
            if last > 0 && at > last + 1 {
                output::line("          …");
            }
            last = at;
            output::line(&format!("  {:>5} {} {}", at, sign(line.change), line.text));
        }
    }
}

/// How a line of a difference is marked.
fn sign(change: LineChange) -> char {
    match change {
        LineChange::Added => '+',
        LineChange::Removed => '-',
        LineChange::Unchanged => ' ',
    }
}

/// The columns of an edit's impact.
const EDIT: [&str; 2] = ["published", "this edit"];

/// Maximum number of lines printed.
const MAX_LINES: usize = 40;

pub fn print_impact(impact: &ImpactView, sides: [&str; 2]) {
    output::line(&impact.message);
    for system in &impact.systems {
        let name = system.system.as_deref().unwrap_or("identities");
        let mut parts: Vec<String> = Vec::new();
        if system.values > 0 {
            let of = if system.system.is_some() {
                "accounts"
            } else {
                "identities"
            };
            parts.push(format!(
                "{} values of {} {of}",
                system.values, system.accounts
            ));
        }
        parts.extend(
            system
                .verdicts
                .iter()
                .map(|one| format!("{} {} → {}", one.count, one.before, one.after)),
        );
        output::line(&format!("  {name}: {}", parts.join(", ")));
    }
    if !impact.lines.is_empty() {
        output::line("");
    }
    let rows = impact.lines.iter().take(MAX_LINES).map(|line| {
        let what = line.attribute.clone().unwrap_or_else(|| "(account)".into());
        let system = line.system.clone().unwrap_or_else(|| "identities".into());
        vec![
            line.label.clone(),
            system,
            what,
            line.before.clone(),
            line.after.clone(),
        ]
    });
    if !impact.lines.is_empty() {
        output::table(&["record", "system", "attribute", sides[0], sides[1]], rows);
    }
    if impact.total > MAX_LINES {
        output::line(&format!(
            "and {} more; `--output json` has up to 1,000",
            impact.total - MAX_LINES
        ));
    }
}

fn print_draft(draft: &Draft) {
    let row = &draft.row;
    output::line(&format!(
        "draft {} · {} · from version {} · edition {}, saved {} by {}",
        row.id,
        row.name,
        row.base,
        row.edition,
        output::time(&row.changed_at),
        row.changed_by
    ));
    if row.base != draft.published {
        output::line(&format!(
            "version {} was published since: `eager-tide rules draft rebase {}` merges it",
            draft.published, row.id
        ));
    }
    if !draft.changed_in_both.is_empty() {
        output::line(&format!(
            "changed in the draft and in the published rules; the draft's version was kept: {}",
            draft.changed_in_both.join(", ")
        ));
    }
    print_differences(&draft.differences);
    print_faults(&draft.faults);
}

impl Drafts {
    /// Runs the command.
    pub async fn run(self, reach: &Reach) -> anyhow::Result<ExitCode> {
        let client = reach.client()?;
        let draft = match self {
            Drafts::List => {
                return list_drafts(reach, &client).await;
            }
            Drafts::Impact { id } => {
                let impact: ImpactView = client
                    .send(Method::POST, &format!("rules/drafts/{id}/impact"), &())
                    .await?;
                return show_impact(reach, &impact);
            }
            Drafts::Publish { id, edition } => {
                return publish_draft(reach, &client, id, edition).await;
            }
            Drafts::Discard { id } => {
                client
                    .tell::<()>(Method::DELETE, &format!("rules/drafts/{id}"), None)
                    .await?;
                output::line(&format!("draft {id} was discarded"));
                return Ok(ExitCode::SUCCESS);
            }
            Drafts::New { folder, name, from } => create_draft(&client, folder, name, from).await?,
            Drafts::Show { id } => {
                client
                    .get::<Draft>(&format!("rules/drafts/{id}"), &[])
                    .await?
            }
            Drafts::Save {
                id,
                folder,
                edition,
            } => {
                let save = SaveDraft {
                    edition,
                    files: read(&folder)?.files,
                };
                client
                    .send(Method::PUT, &format!("rules/drafts/{id}"), &save)
                    .await?
            }
            Drafts::Rebase { id } => {
                client
                    .send(Method::POST, &format!("rules/drafts/{id}/rebase"), &())
                    .await?
            }
        };
        if reach.json() {
            output::json(&draft)?;
        } else {
            print_draft(&draft);
        }
        Ok(if draft.usable {
            ExitCode::SUCCESS
        } else {
            ExitCode::from(1)
        })
    }
}

/// Prints the open drafts.
async fn list_drafts(reach: &Reach, client: &Client) -> anyhow::Result<ExitCode> {
    let drafts: Vec<DraftRow> = client.get("rules/drafts", &[]).await?;
    if reach.json() {
        output::json(&drafts)?;
    } else if drafts.is_empty() {
        output::line("no draft is open: `eager-tide rules draft new`");
    } else {
        let rows = drafts.iter().map(|row| {
            vec![
                row.id.to_string(),
                row.name.clone(),
                row.base.to_string(),
                row.edition.to_string(),
                output::time(&row.changed_at),
                row.changed_by.clone(),
            ]
        });
        output::table(
            &["draft", "name", "from version", "edition", "saved", "by"],
            rows,
        );
    }
    Ok(ExitCode::SUCCESS)
}

/// Publishes a draft, in the edition given or the stored one.
async fn publish_draft(
    reach: &Reach,
    client: &Client,
    id: i64,
    edition: Option<i64>,
) -> anyhow::Result<ExitCode> {
    let edition = match edition {
        Some(edition) => edition,
        None => {
            client
                .get::<Draft>(&format!("rules/drafts/{id}"), &[])
                .await?
                .row
                .edition
        }
    };
    let published: Published = client
        .send(
            Method::POST,
            &format!("rules/drafts/{id}/publish"),
            &PublishDraft { edition },
        )
        .await?;
    if reach.json() {
        output::json(&published)?;
    } else {
        print_published(&published);
    }
    Ok(ExitCode::SUCCESS)
}

/// Creates a draft from a folder, a version or the published rules.
async fn create_draft(
    client: &Client,
    folder: Option<PathBuf>,
    name: String,
    from: Option<i64>,
) -> anyhow::Result<Draft> {
    let files = folder
        .as_deref()
        .map(read)
        .transpose()?
        .map(|files| files.files);
    client
        .send(
            Method::POST,
            "rules/drafts",
            &NewDraft {
                name,
                version: from,
                files,
            },
        )
        .await
}

fn show_impact(reach: &Reach, impact: &ImpactView) -> anyhow::Result<ExitCode> {
    if reach.json() {
        output::json(impact)?;
    } else {
        print_impact(impact, EDIT);
    }
    Ok(ExitCode::SUCCESS)
}

/// Shows the impact of a folder of rules.
pub async fn impact_of(reach: &Reach, folder: &std::path::Path) -> anyhow::Result<ExitCode> {
    let impact: ImpactView = reach
        .client()?
        .send(Method::POST, "rules/impact", &read(folder)?)
        .await?;
    show_impact(reach, &impact)
}

/// Lists the published versions.
pub async fn history(reach: &Reach) -> anyhow::Result<ExitCode> {
    let versions: Vec<RuleVersion> = reach.client()?.get("rules/versions", &[]).await?;
    if reach.json() {
        output::json(&versions)?;
    } else {
        let rows = versions.iter().map(|one| {
            vec![
                one.version.to_string(),
                output::time(&one.created_at),
                one.principal.clone(),
                one.note.clone(),
            ]
        });
        output::table(&["version", "published", "by", "from"], rows);
    }
    Ok(ExitCode::SUCCESS)
}

/// Compares two versions.
pub async fn difference(
    reach: &Reach,
    from: i64,
    to: i64,
    impact: bool,
) -> anyhow::Result<ExitCode> {
    let query = [
        ("from", from.to_string()),
        ("to", to.to_string()),
        ("impact", impact.to_string()),
    ];
    let difference: Difference = reach.client()?.get("rules/difference", &query).await?;
    if reach.json() {
        output::json(&difference)?;
        return Ok(ExitCode::SUCCESS);
    }
    print_differences(&difference.files);
    if let Some(impact) = &difference.impact {
        output::line("");
        print_impact(
            impact,
            [&format!("version {from}"), &format!("version {to}")],
        );
    }
    Ok(ExitCode::SUCCESS)
}

/// Creates a draft of an older version, and shows its impact.
pub async fn rollback(reach: &Reach, version: i64) -> anyhow::Result<ExitCode> {
    let client = reach.client()?;
    let new = NewDraft {
        version: Some(version),
        ..NewDraft::default()
    };
    let draft: Draft = client.send(Method::POST, "rules/drafts", &new).await?;
    if reach.json() {
        output::json(&draft)?;
        return Ok(ExitCode::SUCCESS);
    }
    print_draft(&draft);
    let impact: ImpactView = client
        .send(
            Method::POST,
            &format!("rules/drafts/{}/impact", draft.row.id),
            &(),
        )
        .await?;
    output::line("");
    print_impact(&impact, EDIT);
    output::line(&format!(
        "\nnothing is published yet: `eager-tide rules draft publish {}` rolls back",
        draft.row.id
    ));
    Ok(ExitCode::SUCCESS)
}

/// Evaluates the mapping of a system.
pub async fn evaluate_mapping(
    client: &Client,
    reach: &Reach,
    new: NewMappingEvaluation,
) -> anyhow::Result<ExitCode> {
    let found: MappingEvaluationView = client
        .send(Method::POST, "rules/evaluate-mapping", &new)
        .await?;
    let broken = found.attributes.iter().any(|one| one.fault.is_some());
    if reach.json() {
        output::json(&found)?;
        return Ok(if broken {
            ExitCode::from(1)
        } else {
            ExitCode::SUCCESS
        });
    }
    output::line(&match &found.account {
        Some(account) => format!("{} · account {account}", found.label),
        None => format!("{} · no account there yet", found.label),
    });
    let mut by_direction: BTreeMap<Direction, Vec<Vec<String>>> = BTreeMap::new();
    for one in &found.attributes {
        let gives = match &one.fault {
            Some(fault) => format!("error: {}", fault.message),
            None if one.values.is_empty() => "—".into(),
            None => one.values.join(" · "),
        };
        let there = if one.current.is_empty() {
            "—".into()
        } else {
            one.current.join(" · ")
        };
        let note = one.note.clone().unwrap_or_default();
        by_direction.entry(one.direction).or_default().push(vec![
            format!("   {}", one.attribute),
            one.expression.clone(),
            gives,
            there,
            note,
        ]);
    }
    for (direction, rows) in by_direction {
        let (title, there) = match direction {
            Direction::Inbound => ("inbound: account → identity", "identity now"),
            _ => ("outbound: identity → account", "account now"),
        };
        output::line(&format!("\n  {title}"));
        output::table(&["   attribute", "expression", "result", there, ""], rows);
    }
    Ok(if broken {
        ExitCode::from(1)
    } else {
        ExitCode::SUCCESS
    })
}
