//! `eager-tide decisions …`.

use super::codes::argument;
use super::{Reach, output};
use clap::Subcommand;
use reqwest::Method;
use std::process::ExitCode;
use tide_api::{Decision, DecisionAnswer, NewDecisionAnswer};
use tide_core::states::DecisionKind;

/// The commands of `decisions`.
#[derive(Subcommand)]
pub enum Decisions {
    /// List what an operator must decide: approvals, changes held by guards, failed changes,
    /// matches, drift and external changes; then the answers in effect
    List,
    /// Approve changes
    Approve {
        /// Id of the decision, or its beginning
        id: String,
        /// Comment, kept in the journal
        #[arg(long, default_value = "")]
        comment: String,
        /// What to choose of the offers, as listed; can be repeated. The other offers are rejected
        #[arg(long, value_name = "OFFER")]
        choose: Vec<String>,
    },
    /// Reject changes: they are not sent while they stay the same
    Reject {
        /// Id of the decision, or its beginning
        id: String,
        /// Comment, shown with the changes
        #[arg(long, default_value = "")]
        comment: String,
    },
    /// Reopen an approval that expired
    Reopen {
        /// Id of the decision, or its beginning
        id: String,
    },
    /// Repair drift: restore the rules' values
    Repair {
        /// Id of the decision, or its beginning
        id: String,
    },
    /// Release changes that a guard holds
    Release {
        /// Id of the decision, or its beginning
        id: String,
    },
    /// Discard changes that a guard holds, while they stay the same
    Discard {
        /// Id of the decision, or its beginning
        id: String,
    },
    /// Take back a release, discard, approval or rejection whose changes were not sent yet
    TakeBack {
        /// Id of the decision, or its beginning
        id: String,
    },
    /// Retry a change that failed permanently
    Retry {
        /// Id of the decision, or its beginning
        id: String,
    },
    /// Acknowledge an external change
    Acknowledge {
        /// Id of the decision, or its beginning
        id: String,
    },
}

impl Decisions {
    /// Runs the command. `list` exits with code 3 if a decision is pending.
    pub async fn run(self, reach: &Reach) -> anyhow::Result<ExitCode> {
        let client = reach.client()?;
        let all: Vec<Decision> = client.get("decisions", &[]).await?;
        let mut chosen = Vec::new();
        let (id, answer, comment) = match self {
            Decisions::List => {
                return list_decisions(reach, &all);
            }
            Decisions::Approve {
                id,
                comment,
                choose,
            } => {
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
            let many = if meant.is_empty() {
                "no decision is"
            } else {
                "several decisions are"
            };
            anyhow::bail!("{many} called `{id}`: `eager-tide decisions list` lists them");
        };
        let new = NewDecisionAnswer {
            id: one.id.clone(),
            answer,
            comment,
            chosen,
        };
        client.tell(Method::POST, "decisions", Some(&new)).await?;
        print_answer(answer, one, new);
        Ok(ExitCode::SUCCESS)
    }
}

/// Prints the pending decisions. The exit code is 3 if one needs an answer.
fn list_decisions(reach: &Reach, all: &[Decision]) -> anyhow::Result<ExitCode> {
    if reach.json() {
        output::json(all)?;
    } else if all.is_empty() {
        output::line("no decisions are pending");
    } else {
        for one in all {
            output::line(&one.title);
            output::line(&format!("    {}", one.message));
            if one.count > 1 || one.kind == DecisionKind::Match {
                let more = if one.count > one.names.len() {
                    format!(" and {} more", one.count - one.names.len())
                } else {
                    String::new()
                };
                output::line(&format!("    {}{more}", one.names.join(", ")));
            }
            match &one.blocked {
                Some(why) => output::line(&format!("    you cannot answer this: {why}")),
                None => one.answers.iter().for_each(|a| {
                    output::line(&format!(
                        "    eager-tide decisions {} {}",
                        argument(*a),
                        one.id
                    ));
                    for offer in one.offers.iter().filter(|_| *a == DecisionAnswer::Approve) {
                        output::line(&format!(
                            "        --choose '{}'",
                            offer.text.replace('\'', "'\\''")
                        ));
                    }
                }),
            }
            if one.kind == DecisionKind::Match {
                output::line(&format!("    eager-tide matches {}", one.system));
            }
        }
    }
    let waits = all.iter().any(|one| one.kind != DecisionKind::Override);
    Ok(ExitCode::from(if waits { 3 } else { 0 }))
}

/// Says what the answer leads to.
fn print_answer(answer: DecisionAnswer, one: &Decision, new: NewDecisionAnswer) {
    output::line(&match answer {
        DecisionAnswer::Release => format!("{}: released; sent with the next run", one.title),
        DecisionAnswer::Discard => format!(
            "{}: discarded; they are not sent while they stay the same",
            one.title
        ),
        DecisionAnswer::Approve if !new.chosen.is_empty() => {
            format!(
                "{}: approved {}, rejected the others; sent with the next run once every level has approved",
                one.title,
                new.chosen.join(" and ")
            )
        }
        DecisionAnswer::Approve => format!(
            "{}: approved; sent with the next run once every level has approved",
            one.title
        ),
        DecisionAnswer::Reject => {
            format!("{}: rejected; not sent while it stays the same", one.title)
        }
        DecisionAnswer::Reopen => format!("{}: reopened with the next run", one.title),
        DecisionAnswer::Repair => format!("{}: repaired with the next run", one.title),
        DecisionAnswer::TakeBack => format!(
            "{}: taken back; the next decision asks for an answer again",
            one.title
        ),
        DecisionAnswer::Retry => format!("{}: retried with the next run", one.title),
        DecisionAnswer::Acknowledge => format!("{}: acknowledged", one.title),
    });
}
