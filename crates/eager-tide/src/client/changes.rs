//! `eager-tide preview`, `run` and `changes …`.

use super::codes::{argument, code_parser, label};
use super::{Client, Reach, output};
use clap::{Args, Subcommand};
use indicatif::{ProgressBar, ProgressStyle};
use reqwest::Method;
use std::io::{IsTerminal, Write};
use std::process::ExitCode;
use std::time::Duration;
use tide_api::{Change, ChangeComparison, ChangeSet, ChangeSetResult, NewChangeSet, OutcomeLine};
use tide_core::ObjectType;
use tide_core::decide::Verdict;
use tide_core::states::{ChangeSetKind, ChangeSetState, ChangeState};

/// Options of `preview`.
#[derive(Args)]
pub struct Preview {
    /// Decide from the stored data, without reading the systems
    #[arg(long)]
    without_reading: bool,
    /// Only these people, by name, number, address or id
    #[arg(long, value_name = "WHO", value_delimiter = ',')]
    only: Vec<String>,
    /// Only changes in this system; can be repeated
    #[arg(long = "system", value_name = "NAME")]
    systems: Vec<String>,
    /// Only changes of accounts of this type; can be repeated
    #[arg(long = "type", value_name = "TYPE", value_parser = code_parser(ObjectType::ALL))]
    types: Vec<ObjectType>,
    /// Decide as of this day or instant, if nothing else changes: 2027-01-15, or
    /// 2027-01-15T06:00:00+01:00
    #[arg(long, value_name = "DATE")]
    as_of: Option<String>,
    /// How many people to name for each verdict
    #[arg(long, default_value_t = 8)]
    each: usize,
}

/// Options of `run`.
#[derive(Args)]
pub struct Run {
    /// Send only the changes of this preview; what changed since is on hold
    #[arg(long, value_name = "ID")]
    preview: Option<i64>,
    /// Decide from the stored data, without reading the systems
    #[arg(long)]
    without_reading: bool,
    /// Link existing accounts and send nothing; shows what a run would send
    #[arg(long)]
    link_only: bool,
    /// Only these people, by name, number, address or id
    #[arg(long, value_name = "WHO", value_delimiter = ',')]
    only: Vec<String>,
    /// Only changes in this system; can be repeated
    #[arg(long = "system", value_name = "NAME")]
    systems: Vec<String>,
    /// Only changes of accounts of this type; can be repeated
    #[arg(long = "type", value_name = "TYPE", value_parser = code_parser(ObjectType::ALL))]
    types: Vec<ObjectType>,
}

/// The commands of `changes`.
#[derive(Subcommand)]
pub enum Changes {
    /// List previews and runs, the newest first
    List {
        /// Only those that failed, or that have failed changes
        #[arg(long)]
        failed: bool,
        /// Only those with a lower number
        #[arg(long, value_name = "ID")]
        before: Option<i64>,
        /// Maximum number of rows
        #[arg(long, default_value_t = 50)]
        limit: usize,
    },
    /// Show one preview or run: each record with its changes and reasons
    Show {
        /// Its number
        id: i64,
        /// Only records with this verdict
        #[arg(long, value_parser = code_parser(Verdict::ALL))]
        verdict: Option<Verdict>,
        /// Only records with a change in this state
        #[arg(long, value_parser = code_parser(ChangeState::ALL))]
        state: Option<ChangeState>,
        /// Show the changes with their values before and after
        #[arg(long)]
        values: bool,
        /// Only this system
        #[arg(long)]
        system: Option<String>,
        /// Only people with this text in their name
        #[arg(long)]
        search: Option<String>,
        /// Maximum number of rows
        #[arg(long, default_value_t = 200)]
        limit: usize,
    },
    /// Export the changes as CSV, one line for each value
    Export {
        /// Its number
        id: i64,
        /// Only this system
        #[arg(long)]
        system: Option<String>,
    },
    /// Compare two previews or runs
    Compare {
        /// Number of the first
        id: i64,
        /// Number of the second
        other: i64,
    },
    /// Cancel a preview or run in progress
    Cancel {
        /// Its number
        id: i64,
    },
}

async fn wait_until_done(client: &Client, id: i64, quiet: bool) -> anyhow::Result<ChangeSet> {
    let bar = if !quiet && std::io::stderr().is_terminal() {
        ProgressBar::new(0)
    } else {
        ProgressBar::hidden()
    };
    let style = ProgressStyle::with_template("{msg:12} {wide_bar} {pos}/{len}  {eta} left");
    if let Ok(style) = style {
        bar.set_style(style);
    }
    let mut printed = None;
    loop {
        let begun = tide_clock::instant();
        let set: ChangeSet = client.get(&format!("change-sets/{id}"), &[]).await?;
        let took = begun.elapsed();
        // The note says why the run does not progress.
        if set.ended_at.is_none() && set.note.is_some() && set.note != printed {
            bar.suspend(|| eprintln!("{}", output::clean(set.note.as_deref().unwrap_or_default())));
            printed = set.note.clone();
        }
        let of = |states: &[ChangeState]| {
            set.states
                .iter()
                .filter(|c| states.contains(&c.state))
                .map(|c| c.count as u64)
                .sum::<u64>()
        };
        let settled = of(&[
            ChangeState::Done,
            ChangeState::Failed,
            ChangeState::Canceled,
        ]);
        let open = of(&[
            ChangeState::Queued,
            ChangeState::Sending,
            ChangeState::Unknown,
        ]);
        let (done, total) = match set.deciding {
            Some(steps) => (steps.done as u64, steps.total as u64),
            None => (settled, settled + open),
        };
        bar.set_length(total);
        bar.set_position(done);
        bar.set_message(set.state.as_str());
        if set.ended_at.is_some() {
            bar.finish_and_clear();
            return Ok(set);
        }
        // Counting a large run costs the service time: poll less often the longer it takes.
        tide_clock::sleep((took * 5).clamp(Duration::from_millis(100), Duration::from_secs(2)))
            .await;
    }
}

/// Describes a verdict.
fn meaning(verdict: Verdict) -> &'static str {
    match verdict {
        Verdict::Create => "new accounts",
        Verdict::Join => "existing accounts to link",
        Verdict::Update => "accounts with new values",
        Verdict::Rename => "accounts to rename or move",
        Verdict::Enable => "accounts to enable",
        Verdict::Disable => "accounts to disable",
        Verdict::OnHold => "waiting for a condition or a decision",
        Verdict::OutOfScope => "not processed",
        Verdict::Orphaned => "accounts without an identity, left unchanged",
        Verdict::InSync => "equal to the rules' values",
        Verdict::Source => "supplying values",
    }
}

fn summary(set: &ChangeSet) {
    output::line(&format!(
        "{} {} · rules version {} · {} · {}",
        set.kind,
        set.id,
        set.rule_version,
        label(set.result),
        output::time(&set.started_at)
    ));
    if let Some(note) = &set.note {
        output::line(&format!("note: {note}"));
    }
    output::line("");
    for count in &set.verdicts {
        output::line(&format!(
            "{:>6}  {:<13} {}",
            count.count,
            label(count.verdict),
            meaning(count.verdict)
        ));
    }
}

/// Lines as a table. A preview has no outcome yet.
fn print_lines(set: &ChangeSet, lines: &[OutcomeLine]) {
    let is_run = set.kind == ChangeSetKind::Run;
    let row = |line: &OutcomeLine| {
        let outcome = match (&line.outcome, &line.error) {
            (Some(state), Some(error)) => format!("{state}: {error}"),
            (Some(state), None) => label(*state),
            (None, _) => String::new(),
        };
        let account = line.account.clone().unwrap_or_else(|| "—".into());
        let rule = line.rule.clone().unwrap_or_default();
        let mut row = vec![
            line.label.clone(),
            line.system.clone(),
            account,
            line.reason.to_string(),
        ];
        row.extend(is_run.then_some(outcome));
        row.push(rule);
        row
    };
    let head: &[&str] = match is_run {
        true => &["person", "system", "account", "reason", "outcome", "rule"],
        false => &["person", "system", "account", "reason", "rule"],
    };
    output::table(head, lines.iter().map(row));
}

async fn lines(client: &Client, set: &ChangeSet, each: usize) -> anyhow::Result<()> {
    for count in set
        .verdicts
        .iter()
        .filter(|c| !matches!(c.verdict, Verdict::InSync | Verdict::Source))
    {
        let (rows, more): (Vec<OutcomeLine>, bool) = client
            .all(
                &format!("change-sets/{}/lines", set.id),
                &[("filter", count.verdict.to_string())],
                each,
            )
            .await?;
        output::line(&format!("\n{} ({})", label(count.verdict), count.count));
        print_lines(set, &rows);
        if more {
            output::line(&format!(
                "  … and {} more: eager-tide changes show {} --verdict {}",
                count.count - rows.len() as i64,
                set.id,
                argument(count.verdict)
            ));
        }
    }
    Ok(())
}

async fn print_changes(
    client: &Client,
    id: i64,
    query: &[(&str, String)],
    limit: usize,
) -> anyhow::Result<()> {
    let (changes, more): (Vec<Change>, bool) = client
        .all(&format!("change-sets/{id}/changes"), query, limit)
        .await?;
    for change in &changes {
        output::line(&format!(
            "\n{} {} in {} · {}",
            change.kind, change.label, change.system, change.state
        ));
        output::line(&format!(
            "  reason {}{}",
            change.reason,
            change
                .rule
                .as_ref()
                .map(|r| format!("  ({r})"))
                .unwrap_or_default()
        ));
        let hold = change.hold.as_ref().map(ToString::to_string);
        for (word, text) in [
            ("hold", &hold),
            ("answer", &change.error),
            ("to do", &change.remedy),
        ] {
            if let Some(text) = text {
                output::line(&format!("  {word:<6} {text}"));
            }
        }
        output::table(
            &["  attribute", "before", "after", "rule"],
            change.values.iter().map(|v| {
                vec![
                    format!("  {}", v.attribute),
                    output::values(&v.before),
                    output::values(&v.after),
                    v.rule.clone(),
                ]
            }),
        );
    }
    if changes.is_empty() {
        output::line("no matching changes");
    }
    if more {
        output::line(&format!("… and more: --limit {}", limit * 10));
    }
    Ok(())
}

impl Preview {
    /// Starts a preview, waits for it and prints it.
    pub async fn run(self, reach: &Reach) -> anyhow::Result<ExitCode> {
        let client = reach.client()?;
        let new = NewChangeSet {
            kind: ChangeSetKind::Preview,
            without_reading: self.without_reading,
            only: self.only,
            systems: self.systems,
            types: self.types,
            as_of: self.as_of,
            ..NewChangeSet::default()
        };
        let begun: ChangeSet = client.send(Method::POST, "change-sets", &new).await?;
        let set = wait_until_done(&client, begun.id, reach.json()).await?;
        if reach.json() {
            output::json(&set)?;
        } else {
            summary(&set);
            lines(&client, &set, self.each).await?;
            output::line(&format!(
                "\nnothing was written. Show values: `eager-tide changes show {} --values`. Apply these changes: `eager-tide run --preview {}`",
                set.id, set.id
            ));
        }
        Ok(if set.state == ChangeSetState::Done {
            ExitCode::SUCCESS
        } else {
            ExitCode::from(1)
        })
    }
}

impl Run {
    /// Starts a run, waits for it and prints the results.
    pub async fn run(self, reach: &Reach) -> anyhow::Result<ExitCode> {
        let client = reach.client()?;
        let new = NewChangeSet {
            kind: ChangeSetKind::Run,
            without_reading: self.without_reading,
            preview: self.preview,
            link_only: self.link_only,
            only: self.only,
            systems: self.systems,
            types: self.types,
            as_of: None,
        };
        let begun: ChangeSet = client.send(Method::POST, "change-sets", &new).await?;
        let set = wait_until_done(&client, begun.id, reach.json()).await?;
        let count = |state: ChangeState| {
            set.states
                .iter()
                .find(|c| c.state == state)
                .map_or(0, |c| c.count)
        };
        let (done, failed, held) = (
            count(ChangeState::Done),
            count(ChangeState::Failed),
            count(ChangeState::OnHold),
        );
        if reach.json() {
            output::json(&set)?;
        } else {
            summary(&set);
            if self.link_only {
                output::line(&format!(
                    "\naccounts were linked; nothing was sent. A run would send {held} changes: `eager-tide changes show {} --values`",
                    set.id
                ));
                return Ok(if set.state == ChangeSetState::Done {
                    ExitCode::SUCCESS
                } else {
                    ExitCode::from(1)
                });
            }
            output::line(&format!(
                "\nchanges: {done} done, {failed} failed, {held} on hold{}",
                if done + failed + held > 0 {
                    String::new()
                } else if set.unread_systems.is_empty() {
                    " — everything is in sync".to_owned()
                } else {
                    format!(
                        " — incomplete: {} could not be read",
                        set.unread_systems.join(", ")
                    )
                }
            ));
            for state in [ChangeState::Failed, ChangeState::OnHold] {
                if count(state) > 0 {
                    print_changes(&client, set.id, &[("filter", state.to_string())], 10).await?;
                }
            }
        }
        Ok(match set.result {
            ChangeSetResult::Complete if held == 0 => ExitCode::SUCCESS,
            ChangeSetResult::Complete => ExitCode::from(3),
            _ => ExitCode::from(1),
        })
    }
}

impl Changes {
    /// Runs the command.
    pub async fn run(self, reach: &Reach) -> anyhow::Result<ExitCode> {
        let client = reach.client()?;
        match self {
            Changes::List {
                failed,
                before,
                limit,
            } => {
                list_change_sets(reach, &client, failed, before, limit).await?;
            }
            Changes::Show {
                id,
                verdict,
                state,
                values,
                system,
                search,
                limit,
            } => {
                let mut query: Vec<(&str, String)> = Vec::new();
                // Changes have no verdict; they are filtered by state instead.
                let is_verdict_missing = verdict.is_none();
                query.extend(state.map(|s| {
                    (
                        if values && is_verdict_missing {
                            "filter"
                        } else {
                            "state"
                        },
                        s.to_string(),
                    )
                }));
                query.extend(system.map(|s| ("system", s)));
                query.extend(search.map(|s| ("search", s)));
                query.extend(verdict.map(|v| ("filter", v.to_string())));
                let set: ChangeSet = client.get(&format!("change-sets/{id}"), &[]).await?;
                show_change_set(reach, values, limit, query, set).await?;
            }
            Changes::Export { id, system } => {
                let query: Vec<(&str, String)> =
                    system.into_iter().map(|s| ("system", s)).collect();
                let file = client
                    .download(&format!("change-sets/{id}/changes.csv"), &query)
                    .await?;
                std::io::stdout().write_all(&file)?;
            }
            Changes::Compare { id, other } => {
                compare_change_sets(reach, &client, id, other).await?;
            }
            Changes::Cancel { id } => {
                client
                    .tell::<()>(Method::POST, &format!("change-sets/{id}/cancel"), None)
                    .await?;
                output::line(&format!(
                    "{id} is being canceled: requests in flight complete, the rest is canceled"
                ));
            }
        }
        Ok(ExitCode::SUCCESS)
    }
}

/// Prints previews and runs, the newest first.
async fn list_change_sets(
    reach: &Reach,
    client: &Client,
    failed: bool,
    before: Option<i64>,
    limit: usize,
) -> anyhow::Result<()> {
    let mut query: Vec<(&str, String)> = Vec::new();
    query.extend(failed.then(|| ("state", "failed".to_owned())));
    let (sets, more) = client
        .all_after::<ChangeSet>(
            "change-sets",
            &query,
            before.map(|id| id.to_string()),
            limit,
        )
        .await?;
    if reach.json() {
        output::json(&sets)?;
    } else if sets.is_empty() {
        let any = failed || before.is_some();
        let none = "no previews or runs yet: `eager-tide preview` shows what a run would do";
        output::line(if any {
            "no matching previews or runs"
        } else {
            none
        });
    } else {
        output::table(
            &["id", "kind", "result", "started", "by", "changes", "note"],
            sets.iter().map(|s| {
                let states: Vec<String> = s
                    .states
                    .iter()
                    .map(|c| format!("{} {}", c.count, label(c.state)))
                    .collect();
                vec![
                    s.id.to_string(),
                    s.kind.to_string(),
                    label(s.result),
                    output::time(&s.started_at),
                    s.principal.clone(),
                    if states.is_empty() {
                        "none".into()
                    } else {
                        states.join(", ")
                    },
                    s.note.clone().unwrap_or_default(),
                ]
            }),
        );
        if let Some(last) = sets.last().filter(|_| more) {
            output::line(&format!(
                "older ones: eager-tide changes list --before {}",
                last.id
            ));
        }
    }
    Ok(())
}

/// Prints a preview or run, or those of its lines and changes that match.
async fn show_change_set(
    reach: &Reach,
    values: bool,
    limit: usize,
    query: Vec<(&str, String)>,
    set: ChangeSet,
) -> anyhow::Result<()> {
    let client = reach.client()?;
    let id = set.id;
    if reach.json() {
        if values {
            output::json(
                &client
                    .all::<Change>(&format!("change-sets/{id}/changes"), &query, limit)
                    .await?
                    .0,
            )?;
        } else {
            output::json(
                &client
                    .all::<OutcomeLine>(&format!("change-sets/{id}/lines"), &query, limit)
                    .await?
                    .0,
            )?;
        }
    } else if values {
        print_changes(&client, id, &query, limit).await?;
    } else if query.is_empty() {
        summary(&set);
        lines(&client, &set, 8).await?;
    } else {
        let (rows, more): (Vec<OutcomeLine>, bool) = client
            .all(&format!("change-sets/{id}/lines"), &query, limit)
            .await?;
        print_lines(&set, &rows);
        if rows.is_empty() {
            output::line("no matching records");
        }
        if more {
            output::line(&format!("… and more: --limit {}", limit * 10));
        }
    }
    Ok(())
}

/// Prints what only one of two previews or runs contains.
async fn compare_change_sets(
    reach: &Reach,
    client: &Client,
    id: i64,
    other: i64,
) -> anyhow::Result<()> {
    let compared: ChangeComparison = client
        .get(&format!("change-sets/{id}/compare/{other}"), &[])
        .await?;
    if reach.json() {
        output::json(&compared)?;
    } else {
        output::line(&format!("{} changes in both", compared.same));
        for (set, only) in [(id, &compared.only_here), (other, &compared.only_there)] {
            output::line(&format!("\nonly in {set} ({})", only.len()));
            let row = |change: &Change| {
                let values: Vec<String> = change
                    .values
                    .iter()
                    .map(|v| {
                        format!(
                            "{}: {} → {}",
                            v.attribute,
                            v.before.join(", "),
                            v.after.join(", ")
                        )
                    })
                    .collect();
                vec![
                    change.label.clone(),
                    change.system.clone(),
                    change.kind.to_string(),
                    values.join("; "),
                ]
            };
            if !only.is_empty() {
                output::table(
                    &["person", "system", "change", "values"],
                    only.iter().map(row),
                );
            }
        }
    }
    Ok(())
}
