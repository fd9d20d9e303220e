//! `eager-tide decisions …`.

use super::codes::argument;
use super::{Reach, output};
use clap::Subcommand;
use reqwest::Method;
use std::process::ExitCode;
use tide_api::{Decision, DecisionAnswer, NewDecisionAnswer};
use tide_core::states::DecisionKind;

/// What can be done with decisions.
#[derive(Subcommand)]
pub enum Decisions {
    /// What waits for a person: approvals, held changes, changes that failed for good, doubtful matches, what was done behind
    /// our back. At the end: answers that still hold, to be taken back
    List,
    /// Say yes to changes that need it
    Approve {
        /// The decision, or the start of its id
        id: String,
        /// Words that go with it, kept in the journal
        #[arg(long, default_value = "")]
        comment: String,
        /// What is chosen, where one chooses among offers: in the words of the list; may be given several times. The others get a no
        #[arg(long, value_name = "OFFER")]
        choose: Vec<String>,
    },
    /// Say no: the changes are not sent while they stay the same
    Reject {
        /// The decision, or the start of its id
        id: String,
        /// Words that go with it: whoever looks at the changes sees them
        #[arg(long, default_value = "")]
        comment: String,
    },
    /// Ask anew about changes that nobody answered in time
    Reopen {
        /// The decision, or the start of its id
        id: String,
    },
    /// Have values put right that somebody changed in a system itself, where the rules only tell them
    Repair {
        /// The decision, or the start of its id
        id: String,
    },
    /// Send changes that a guard held after all
    Release {
        /// The decision, or the start of its id
        id: String,
    },
    /// Drop changes that a guard held, while they stay the same
    Discard {
        /// The decision, or the start of its id
        id: String,
    },
    /// Take back a release, a discard, a yes or a no whose changes were not sent yet: it is asked again
    TakeBack {
        /// The decision, or the start of its id
        id: String,
    },
    /// Try a change again that failed for good
    Retry {
        /// The decision, or the start of its id
        id: String,
    },
    /// Acknowledge an external change
    Acknowledge {
        /// The decision, or the start of its id
        id: String,
    },
}

impl Decisions {
    /// Does it. The list ends with code 3 when something waits.
    pub async fn run(self, reach: &Reach) -> anyhow::Result<ExitCode> {
        let client = reach.client()?;
        let all: Vec<Decision> = client.get("decisions", &[]).await?;
        let mut chosen = Vec::new();
        let (id, answer, comment) = match self {
            Decisions::List => {
                if reach.json() {
                    output::json(&all)?;
                } else if all.is_empty() {
                    output::line("nothing waits for you");
                } else {
                    for one in &all {
                        output::line(&one.title);
                        output::line(&format!("    {}", one.said));
                        if one.count > 1 || one.kind == DecisionKind::Match {
                            let more = if one.count > one.names.len() {
                                format!(" and {} more", one.count - one.names.len())
                            } else {
                                String::new()
                            };
                            output::line(&format!("    {}{more}", one.names.join(", ")));
                        }
                        match &one.blocked {
                            Some(why) => output::line(&format!("    not for you to answer: {why}")),
                            None => one.answers.iter().for_each(|a| {
                                output::line(&format!("    eager-tide decisions {} {}", argument(*a), one.id));
                                for offer in one.offers.iter().filter(|_| *a == DecisionAnswer::Approve) {
                                    output::line(&format!("        --choose '{}'", offer.text.replace('\'', "'\\''")));
                                }
                            }),
                        }
                        if one.kind == DecisionKind::Match {
                            output::line(&format!("    eager-tide match {}", one.system));
                        }
                    }
                }
                let waits = all.iter().any(|one| one.kind != DecisionKind::Override);
                return Ok(ExitCode::from(if waits { 3 } else { 0 }));
            }
            Decisions::Approve { id, comment, choose } => {
                chosen = choose;
                (id, DecisionAnswer::Approve, comment)
            }
            Decisions::Reject { id, comment } => (id, DecisionAnswer::Reject, comment),
            Decisions::Reopen { id } => (id, DecisionAnswer::Reopen, String::new()),
            Decisions::Repair { id } => (id, DecisionAnswer::Repair, String::new()),
            Decisions::Release { id } => (id, DecisionAnswer::Release, String::new()),
            Decisions::Discard { id } => (id, DecisionAnswer::Discard, String::new()),
            Decisions::TakeBack { id } => (id, DecisionAnswer::TakeBack, String::new()),
            Decisions::Retry { id } => (id, DecisionAnswer::Retry, String::new()),
            Decisions::Acknowledge { id } => (id, DecisionAnswer::Acknowledge, String::new()),
        };
        let meant: Vec<&Decision> = all.iter().filter(|one| one.id.starts_with(&id)).collect();
        let [one] = meant.as_slice() else {
            let many = if meant.is_empty() { "nothing that waits is" } else { "several that wait are" };
            anyhow::bail!("{many} called `{id}`: `eager-tide decisions list` shows what waits");
        };
        let new = NewDecisionAnswer { id: one.id.clone(), answer, comment, chosen };
        client.tell(Method::POST, "decisions", Some(&new)).await?;
        output::line(&match answer {
            DecisionAnswer::Release => format!("{}: let through; they are sent with the next run", one.title),
            DecisionAnswer::Discard => format!("{}: discarded; they are not sent while they stay the same", one.title),
            DecisionAnswer::Approve if !new.chosen.is_empty() => {
                format!(
                    "{}: yes to {}, no to the others; sent with the next run when every level has said so",
                    one.title,
                    new.chosen.join(" and ")
                )
            }
            DecisionAnswer::Approve => format!("{}: yes; sent with the next run when every level has said so", one.title),
            DecisionAnswer::Reject => format!("{}: rejected; not sent while it stays the same", one.title),
            DecisionAnswer::Reopen => format!("{}: asked again with the next run", one.title),
            DecisionAnswer::Repair => format!("{}: put right with the next run", one.title),
            DecisionAnswer::TakeBack => format!("{}: taken back; it is asked again with the next decision", one.title),
            DecisionAnswer::Retry => format!("{}: tried again with the next run", one.title),
            DecisionAnswer::Acknowledge => format!("{}: acknowledged", one.title),
        });
        Ok(ExitCode::SUCCESS)
    }
}
