//! `eager-tide holds`.

use super::codes::code_parser;
use super::{Reach, output};
use clap::Args;
use std::process::ExitCode;
use tide_api::{HoldCause, HoldCount, HoldOwner, Holds};

/// Show who is on hold: why, since when, and who can end it. Ends with code 3 if the list is not
/// empty
#[derive(Args)]
pub struct ShowHolds {
    /// Only this cause
    #[arg(long, value_parser = code_parser(HoldCause::ALL))]
    cause: Option<HoldCause>,
    /// Only this system
    #[arg(long)]
    system: Option<String>,
    /// Only rows with this text in the name or the reason
    #[arg(long, default_value = "")]
    search: String,
    /// Maximum number of rows
    #[arg(long, default_value_t = 100)]
    limit: usize,
}

/// The label of a cause.
pub fn cause(cause: HoldCause) -> &'static str {
    match cause {
        HoldCause::Guard => "held by guard",
        HoldCause::AwaitingApproval => "awaiting approval",
        HoldCause::NeedsReview => "needs review",
        HoldCause::Failed => "failed",
        HoldCause::RetriedLater => "retried later",
        HoldCause::MissingValue => "missing value",
        HoldCause::DuplicateValue => "duplicate value",
        HoldCause::InvalidValue => "invalid value",
        HoldCause::RuleError => "rule error",
        HoldCause::WaitingForAccount => "waiting for account",
        HoldCause::WaitingForSeat => "waiting for seat",
        HoldCause::WaitingForDay => "waiting for day",
        HoldCause::WaitingForStep => "waiting for step",
        HoldCause::UnknownOutcome => "unknown outcome",
        HoldCause::NotRead => "not read",
        HoldCause::ExternalChange => "external change",
        HoldCause::DeletedThere => "deleted in system",
        HoldCause::Discarded => "discarded",
        HoldCause::Paused => "paused",
        HoldCause::NotArmed => "not armed",
        HoldCause::NotInPreview => "not in preview",
        HoldCause::LinkOnly => "link only",
    }
}

fn owner(owner: HoldOwner) -> &'static str {
    match owner {
        HoldOwner::Operator => "operator",
        HoldOwner::Approver => "approver",
        HoldOwner::SourceOwner => "owner of the source",
        HoldOwner::RuleAuthor => "author of the rules",
        HoldOwner::SystemOwner => "owner of the target",
        HoldOwner::Automatic => "ends automatically",
    }
}

/// The counts in one line.
pub fn counts(counts: &[HoldCount]) -> String {
    counts
        .iter()
        .map(|one| format!("{} {}", one.count, cause(one.cause)))
        .collect::<Vec<_>>()
        .join(" · ")
}

impl ShowHolds {
    /// Runs the command.
    pub async fn run(self, reach: &Reach) -> anyhow::Result<ExitCode> {
        let mut query = vec![("limit", self.limit.to_string()), ("search", self.search)];
        query.extend(self.cause.map(|cause| ("cause", cause.to_string())));
        query.extend(self.system.map(|system| ("system", system)));
        let holds: Holds = reach.client()?.get("holds", &query).await?;
        if reach.json() {
            output::json(&holds)?;
        } else if holds.items.is_empty() {
            output::line("no records on hold");
        } else {
            output::table(
                &[
                    "record",
                    "cause",
                    "since",
                    "systems",
                    "who can end it",
                    "reason",
                ],
                holds.items.iter().map(|one| {
                    let rule = one
                        .rule
                        .as_ref()
                        .map(|rule| format!(" ({rule})"))
                        .unwrap_or_default();
                    vec![
                        one.label.clone(),
                        cause(one.cause).to_owned(),
                        output::time(&one.since),
                        one.systems.join(", "),
                        owner(one.owner).to_owned(),
                        format!("{}{rule}", one.reason),
                    ]
                }),
            );
            output::line("");
            output::line(&format!("on hold: {}", counts(&holds.counts)));
            if holds.next.is_some() {
                output::line("there are more: use --limit, --cause, --system or --search");
            }
        }
        Ok(ExitCode::from(if holds.items.is_empty() { 0 } else { 3 }))
    }
}
