//! `eager-tide identities …` and `eager-tide why`.

use super::codes::label;
use super::{Reach, output, segment};
use crate::client::freshness;
use clap::{Args, Subcommand};
use reqwest::Method;
use std::process::ExitCode;
use tide_api::{
    Attribute, DepartureImpactView, Explanation, Identity, IdentityDetail, Leavers, LifecycleView,
    Memberships, NewDeparture, ValueReason,
};
use tide_core::decide::Verdict;
use tide_core::explain::MOST_FOUND;
use tide_core::states::{ChangeKind, MembershipOrigin, ValueState};

/// The commands of `identities`.
#[derive(Subcommand)]
pub enum Identities {
    /// List identities by name
    List {
        /// Only those with this text in a value
        #[arg(long)]
        search: Option<String>,
        /// Only those of this stage: expected, active, away, leaving, left
        #[arg(long)]
        stage: Option<String>,
        /// Maximum number of rows
        #[arg(long, default_value_t = 50)]
        limit: usize,
    },
    /// Show an identity: accounts side by side, links and history
    Show {
        /// The person: a name, number, address, DN or id
        who: String,
    },
    /// Show the lifecycle of a person: past and planned
    Lifecycle {
        /// The person: a name, number, address, DN or id
        who: String,
    },
    /// Start or schedule a departure; it preempts all other changes
    Depart {
        /// The person: a name, number, address, DN or id
        who: String,
        #[command(flatten)]
        when: When,
        /// Comment, kept in the journal
        #[arg(long, default_value = "")]
        comment: String,
        /// Show the changes only
        #[arg(long)]
        dry_run: bool,
    },
    /// Cancel a departure, planned or already executed manually
    Reinstate {
        /// The person: a name, number, address, DN or id
        who: String,
    },
    /// List leavers, how fast their access was closed, and what is still open
    Leavers,
    /// Show the groups of a person, or the members of a group, with the origin of each membership
    Groups {
        /// The person: a name, number, address, DN or id
        who: String,
    },
    /// End the link between an identity and its account in a system
    Split {
        /// The person: a name, number, address, DN or id
        who: String,
        /// The system
        system: String,
    },
}

/// When the person leaves; default: now.
#[derive(Args)]
pub struct When {
    /// The last day, inclusive: 2026-12-31
    #[arg(long, conflicts_with = "at")]
    last_day: Option<String>,
    /// The instant: 2026-12-31T17:00:00Z
    #[arg(long)]
    at: Option<String>,
}

/// Options of `why`.
#[derive(Args)]
pub struct Why {
    /// A name, an address, an employee number, a DN or an id
    person: String,
}

fn reading(read: &[Attribute]) -> String {
    read.iter()
        .map(|a| format!("{} is {}", a.name, output::values(&a.values)))
        .collect::<Vec<_>>()
        .join(", ")
}

fn value_rows(values: &[ValueReason]) -> impl Iterator<Item = Vec<String>> + '_ {
    values.iter().map(|v| {
        let from = v
            .from_system
            .as_ref()
            .map(|s| format!("{s}: "))
            .unwrap_or_default();
        let because = format!("{from}{}", reading(&v.read));
        let because = if because.is_empty() {
            v.note.clone().unwrap_or_default()
        } else {
            because
        };
        vec![
            format!("  {}", v.attribute),
            v.value.clone(),
            because,
            v.expression.clone(),
            v.rule.clone(),
        ]
    })
}

/// The rule behind an account's value, and for which population it holds.
fn because(value: &ValueReason) -> String {
    value.note.as_ref().map_or_else(
        || value.expression.clone(),
        |note| format!("{} ({note})", value.expression),
    )
}

/// Values before and after, in one line.
fn before_and_after(values: &[tide_api::ValueChange]) -> String {
    let one = |value: &tide_api::ValueChange| {
        format!(
            "{}: {} → {}",
            value.attribute,
            output::values(&value.before),
            output::values(&value.after)
        )
    };
    values.iter().map(one).collect::<Vec<_>>().join("; ")
}

/// Records and changes on hold.
fn on_hold(verdict: Verdict) -> &'static str {
    match verdict {
        Verdict::Create => "on hold: an account would be created",
        Verdict::Join => "on hold: an existing account would be linked",
        Verdict::Update => "on hold: would be updated",
        Verdict::Rename => "on hold: would be renamed",
        Verdict::Enable => "on hold: would be enabled",
        Verdict::Disable => "on hold: would be disabled",
        _ => "on hold",
    }
}

/// The status of a value in a target, with a note.
fn value_state(value: &tide_api::ValueReason) -> String {
    let state = value.state.map(label).unwrap_or_default();
    match (&value.note, value.state) {
        (Some(note), Some(ValueState::InSync | ValueState::LeftAlone)) => {
            format!("{state}: {note}")
        }
        _ => state,
    }
}

/// Prints an explanation.
pub fn print(found: &Explanation) {
    let stage = found
        .stage
        .as_ref()
        .map(|s| format!(" · {s}"))
        .unwrap_or_default();
    let id = found
        .identity
        .as_ref()
        .map_or_else(|| " · no identity".into(), |id| format!(" · identity {id}"));
    output::line(&format!("{}{stage}{id}", found.label));
    if !found.values.is_empty() {
        output::line("\nvalues and their sources");
        output::table(
            &["  attribute", "value", "source", "expression", "rule"],
            value_rows(&found.values),
        );
    }
    for account in &found.accounts {
        print_account(found, account);
    }
}

/// Prints the decision about one account, with its reasons.
fn print_account(found: &Explanation, account: &tide_api::AccountReason) {
    output::line(&format!(
        "\n{}: {}",
        account.system,
        match account.verdict {
            verdict if account.hold.is_some() => on_hold(verdict).to_owned(),
            Verdict::InSync => "in sync".to_owned(),
            Verdict::Source => "source".to_owned(),
            Verdict::Create => "an account will be created".to_owned(),
            Verdict::Join => "an existing account will be linked".to_owned(),
            Verdict::OutOfScope if found.identity.is_none() => "out of scope".to_owned(),
            Verdict::OutOfScope if account.key.is_some() => "no longer in scope".to_owned(),
            Verdict::OutOfScope => "no account".to_owned(),
            Verdict::Update => "will be updated".to_owned(),
            Verdict::Rename => "will be renamed".to_owned(),
            Verdict::Enable => "will be enabled".to_owned(),
            Verdict::Disable => "will be disabled".to_owned(),
            Verdict::Orphaned => "orphaned: linked to no identity".to_owned(),
            Verdict::OnHold => "on hold".to_owned(),
        }
    ));
    let mut facts = vec![(
        "reason",
        format!(
            "{}{}",
            account.reason,
            account
                .rule
                .as_ref()
                .map(|r| format!("  ({r})"))
                .unwrap_or_default()
        ),
    )];
    if let Some(hold) = account
        .hold
        .as_ref()
        .filter(|hold| hold.text != account.reason.text)
    {
        facts.push(("on hold", hold.to_string()));
    }
    if let (Some(hold), Some(since)) = (&account.hold, &account.hold_since) {
        let cause = hold.cause.map_or("on hold", super::holds::cause);
        facts.push(("since", format!("{}, {cause}", output::time(since))));
    }
    if let (Some(name), Some(key)) = (&account.name, &account.key) {
        facts.push(("account", format!("{name}  (key {key})")));
    }
    if let Some(by) = &account.linked_by {
        facts.push(("link", by.clone()));
    }
    if let Some(known) = &account.freshness {
        facts.push(("data", freshness::text(known)));
    }
    for (word, text) in facts {
        output::line(&format!("  {word:<8} {text}"));
    }
    if !account.values.is_empty() {
        let rows = account.values.iter().map(|v| {
            let there = v.current.clone().unwrap_or_default();
            let value = if there == v.value {
                there
            } else {
                format!("{there}  (by the rules: {})", v.value)
            };
            vec![
                format!("  {}", v.attribute),
                value,
                value_state(v),
                because(v),
                v.rule.clone(),
            ]
        });
        output::table(&["  attribute", "value", "status", "reason", "rule"], rows);
    }
}

fn groups(all: &Memberships) {
    let origin = |one: &tide_api::Membership| match one.origin {
        MembershipOrigin::Rule => format!(
            "by rule, since {}",
            one.since.as_deref().map_or_else(String::new, output::time)
        ),
        MembershipOrigin::Mapped => "as where the group comes from".to_owned(),
        _ => "by hand".to_owned(),
    };
    if all.groups.is_empty() && all.members.is_empty() {
        output::line("no groups and no members");
    }
    if !all.groups.is_empty() {
        let rows = all.groups.iter().map(|one| {
            vec![
                one.system.clone(),
                one.label.clone(),
                origin(one),
                one.name.clone(),
            ]
        });
        output::table(&["system", "in the group", "how", "name there"], rows);
    }
    if !all.members.is_empty() {
        let rows = all.members.iter().map(|one| {
            vec![
                one.system.clone(),
                one.label.clone(),
                origin(one),
                one.name.clone(),
            ]
        });
        output::table(&["system", "member", "how", "name there"], rows);
        if all.count > all.members.len() {
            output::line(&format!("… and {} more", all.count - all.members.len()));
        }
    }
}

impl Identities {
    /// The person, if the command is about one.
    fn who(&self) -> Option<&str> {
        match self {
            Identities::List { .. } | Identities::Leavers => None,
            Identities::Show { who }
            | Identities::Lifecycle { who }
            | Identities::Depart { who, .. }
            | Identities::Reinstate { who }
            | Identities::Groups { who }
            | Identities::Split { who, .. } => Some(who),
        }
    }

    /// Runs the command.
    pub async fn run(self, reach: &Reach) -> anyhow::Result<ExitCode> {
        let client = reach.client()?;
        let id = match self.who() {
            Some(who) => client.identity(who).await?,
            None => String::new(),
        };
        match self {
            Identities::List {
                search,
                stage,
                limit,
            } => {
                list_identities(reach, &client, search, stage, limit).await?;
            }
            Identities::Show { .. } => {
                show_identity(reach, &client, &id).await?;
            }
            Identities::Lifecycle { .. } => {
                let line: LifecycleView = client
                    .get(&format!("identities/{}/lifecycle", segment(&id)), &[])
                    .await?;
                if reach.json() {
                    output::json(&line)?;
                } else {
                    life(&line);
                }
            }
            Identities::Depart {
                when,
                comment,
                dry_run,
                ..
            } => {
                depart(reach, &id, when, comment, dry_run).await?;
            }
            Identities::Reinstate { .. } => {
                client
                    .tell::<()>(
                        Method::DELETE,
                        &format!("identities/{}/departure", segment(&id)),
                        None,
                    )
                    .await?;
                output::line("canceled: the dates and sources of the person count again");
            }
            Identities::Groups { .. } => {
                let all: Memberships = client
                    .get(&format!("identities/{}/groups", segment(&id)), &[])
                    .await?;
                if reach.json() {
                    output::json(&all)?;
                } else {
                    groups(&all);
                }
            }
            Identities::Leavers => {
                let all: Leavers = client.get("leavers", &[]).await?;
                if reach.json() {
                    output::json(&all)?;
                } else {
                    leavers(&all);
                }
            }
            Identities::Split { system, .. } => {
                client
                    .tell::<()>(
                        Method::DELETE,
                        &format!("identities/{}/links/{}", segment(&id), segment(&system)),
                        None,
                    )
                    .await?;
                output::line(&format!(
                    "the link with {system} was ended; the next run matches an account, or creates one"
                ));
            }
        }
        Ok(ExitCode::SUCCESS)
    }
}

/// Prints the identities that match.
async fn list_identities(
    reach: &Reach,
    client: &super::Client,
    search: Option<String>,
    stage: Option<String>,
    limit: usize,
) -> anyhow::Result<()> {
    let mut query: Vec<(&str, String)> = Vec::new();
    query.extend(search.clone().map(|s| ("search", s)));
    query.extend(stage.map(|s| ("filter", s)));
    let (found, more): (Vec<Identity>, bool) = client.all("identities", &query, limit).await?;
    if reach.json() {
        output::json(&found)?;
    } else {
        let value = |i: &Identity, name: &str| {
            i.attributes
                .iter()
                .find(|a| a.name == name)
                .map_or_else(|| "—".into(), |a| output::values(&a.values))
        };
        output::table(
            &["name", "number", "mail", "stage", "systems", "id"],
            found.iter().map(|i| {
                vec![
                    i.label.clone(),
                    value(i, "employeeNumber"),
                    value(i, "mail"),
                    i.stage.to_string(),
                    i.systems.join(", "),
                    i.id.clone(),
                ]
            }),
        );
        if found.is_empty() {
            output::line(&match &search {
                Some(text) => format!(
                    "no identity matches `{text}`: give a part of a name, a number or an address"
                ),
                None => "no identities yet: the first run creates them".to_owned(),
            });
        }
        if more {
            output::line(&format!("… and more: --limit {}", limit * 10));
        }
    }
    Ok(())
}

/// Prints an identity with its links and its history.
async fn show_identity(reach: &Reach, client: &super::Client, id: &str) -> anyhow::Result<()> {
    let detail: IdentityDetail = client
        .get(&format!("identities/{}", segment(id)), &[])
        .await?;
    if reach.json() {
        output::json(&detail)?;
    } else {
        print(&detail.explanation);
        output::line("\nlinks");
        output::table(
            &["  system", "account", "linked", "by", "ended"],
            detail.links.iter().map(|l| {
                let ended = l.ended_at.as_ref().map_or_else(
                    || "—".into(),
                    |at| {
                        format!(
                            "{} {}",
                            output::time(at),
                            l.ended_by.clone().unwrap_or_default()
                        )
                    },
                );
                vec![
                    format!("  {}", l.system),
                    l.account.clone(),
                    output::time(&l.created_at),
                    l.created_by.clone(),
                    ended,
                ]
            }),
        );
        output::line("\nhistory, the newest first");
        output::table(
            &[
                "  when", "run", "by", "change", "system", "state", "values", "reason",
            ],
            detail.history.iter().map(|c| {
                vec![
                    format!(
                        "  {}",
                        c.settled_at
                            .as_deref()
                            .map_or_else(|| "—".into(), output::time)
                    ),
                    c.change_set.to_string(),
                    c.principal.clone().unwrap_or_default(),
                    c.kind.to_string(),
                    c.system.clone(),
                    label(c.state),
                    before_and_after(&c.values),
                    c.reason.to_string(),
                ]
            }),
        );
    }
    Ok(())
}

/// Schedules or starts a departure, or shows its impact only.
async fn depart(
    reach: &Reach,
    id: &str,
    when: When,
    comment: String,
    dry_run: bool,
) -> anyhow::Result<()> {
    let client = reach.client()?;
    let place = format!("identities/{}/departure", segment(id));
    let mut query: Vec<(&str, String)> = Vec::new();
    query.extend(when.at.clone().map(|at| ("at", at)));
    query.extend(when.last_day.clone().map(|day| ("last_day", day)));
    let impact: DepartureImpactView = client.get(&place, &query).await?;
    if !dry_run {
        let leave = NewDeparture {
            at: when.at,
            last_day: when.last_day,
            comment,
        };
        client.tell(Method::PUT, &place, Some(&leave)).await?;
    }
    if reach.json() {
        output::json(&impact)?;
    } else {
        departure(&impact, dry_run);
    }
    Ok(())
}

fn life(line: &LifecycleView) {
    let since = line
        .since
        .as_ref()
        .map(|at| format!(" since {}", output::time(at)))
        .unwrap_or_default();
    output::line(&format!("{}{since}", line.stage));
    if let Some(reason) = &line.reason {
        output::line(&format!(
            "  {reason}{}",
            line.rule
                .as_ref()
                .map(|rule| format!("  ({rule})"))
                .unwrap_or_default()
        ));
    }
    if let Some(departure) = &line.departure {
        let why = if departure.comment.is_empty() {
            String::new()
        } else {
            format!(": {}", departure.comment)
        };
        output::line(&format!(
            "  departure scheduled by {} for {}{why}",
            departure.by,
            output::time(&departure.at)
        ));
    }
    if line.moments.is_empty() {
        output::line("  no dates: lifecycle.toml names no attribute for them, or it is empty");
        return;
    }
    output::line("");
    output::table(
        &["when", "event", ""],
        line.moments.iter().map(|one| {
            vec![
                one.shown.clone(),
                one.what.clone(),
                if one.past {
                    "past".into()
                } else {
                    "planned".into()
                },
            ]
        }),
    );
}

fn departure(impact: &DepartureImpactView, dry_run: bool) {
    let word = if dry_run { "would leave" } else { "leaves" };
    output::line(&format!("{word} on {}", output::time(&impact.at)));
    if impact.changes.is_empty() {
        output::line("no changes in any system at that moment");
    } else {
        output::line("");
        output::table(
            &["step", "system", "change", "values", "on hold"],
            impact.changes.iter().map(|change| {
                let step = if change.step == 0 {
                    "—".to_owned()
                } else {
                    change.step.to_string()
                };
                vec![
                    step,
                    change.system.clone(),
                    label(change.kind),
                    change.values.join(", "),
                    change
                        .hold
                        .as_ref()
                        .map_or_else(|| "—".to_owned(), ToString::to_string),
                ]
            }),
        );
    }
    output::line("");
    output::table(
        &["system", "afterwards"],
        impact
            .notes
            .iter()
            .map(|one| vec![one.system.clone(), one.message.clone()]),
    );
    if dry_run {
        output::line("\nNothing was changed. Run it without --dry-run to start the departure.");
    }
}

/// A duration, rounded.
fn span(seconds: f64) -> String {
    match seconds {
        under if under < 1.0 => format!("{:.0} ms", under * 1000.0),
        under if under < 120.0 => format!("{under:.1} s"),
        under if under < 7200.0 => format!("{:.0} min", under / 60.0),
        under => format!("{:.0} h", under / 3600.0),
    }
}

fn leavers(all: &Leavers) {
    if let (Some(median), Some(worst)) = (all.median_seconds, all.worst_seconds) {
        output::line(&format!(
            "access closed: median {}, slowest {}; {} leavers still have access\n",
            span(median),
            span(worst),
            all.open
        ));
    }
    if all.leavers.is_empty() {
        output::line("no leavers yet");
    } else {
        output::table(
            &[
                "name",
                "due",
                "closed after",
                "changes",
                "open access",
                "id",
            ],
            all.leavers.iter().map(|one| {
                let closed = match (&one.returned_at, one.seconds) {
                    (Some(at), _) => format!("returned {}", output::time(at)),
                    (None, Some(seconds)) => span(seconds),
                    (None, None) if one.open.is_empty() => "no access to close".to_owned(),
                    (None, None) => "not yet".to_owned(),
                };
                let open: Vec<String> = one
                    .open
                    .iter()
                    .map(|way| {
                        format!(
                            "{} {}: {}",
                            way.system,
                            way.kind.map_or("webhook", ChangeKind::as_str),
                            way.reason
                        )
                    })
                    .collect();
                let open = if open.is_empty() {
                    "—".to_owned()
                } else {
                    open.join("; ")
                };
                vec![
                    one.label.clone(),
                    output::time(&one.started_at),
                    closed,
                    one.done.to_string(),
                    open,
                    one.identity.clone(),
                ]
            }),
        );
    }
    if !all.planned.is_empty() {
        output::line("\nscheduled");
        output::table(
            &["name", "departure", "operator", "comment", "id"],
            all.planned.iter().map(|one| {
                vec![
                    one.label.clone(),
                    output::time(&one.at),
                    one.by.clone(),
                    one.comment.clone(),
                    one.identity.clone(),
                ]
            }),
        );
    }
}

impl Why {
    /// Explains a person.
    pub async fn run(self, reach: &Reach) -> anyhow::Result<ExitCode> {
        let found: Vec<Explanation> = reach
            .client()?
            .get("why", &[("person", self.person.clone())])
            .await?;
        if reach.json() {
            output::json(&found)?;
            return Ok(ExitCode::SUCCESS);
        }
        if found.len() > 3 {
            output::line(&format!(
                "{}{} people match `{}`. Give a number, an address or an id:\n",
                found.len(),
                if found.len() >= MOST_FOUND {
                    " or more"
                } else {
                    ""
                },
                self.person
            ));
            output::table(
                &["name", "identity", "account"],
                found.iter().take(20).map(|f| {
                    vec![
                        f.label.clone(),
                        f.identity.clone().unwrap_or_else(|| "—".into()),
                        f.accounts
                            .iter()
                            .find_map(|a| a.name.clone())
                            .unwrap_or_default(),
                    ]
                }),
            );
            return Ok(ExitCode::SUCCESS);
        }
        for (n, one) in found.iter().enumerate() {
            if n > 0 {
                output::line(&format!("\n{}\n", "─".repeat(60)));
            }
            print(one);
        }
        Ok(ExitCode::SUCCESS)
    }
}
