//! Answers in effect, which can be taken back.

use crate::governance::decisions::entries::{Decision, first_names};
use jiff::Timestamp;
use std::collections::{BTreeMap, HashMap};
use tide_core::Outcome;
use tide_core::decide::Change;
use tide_core::states::{DecisionAnswer, DecisionKind};
use tide_store::{ApprovalRow, OverrideRow};

/// Answers in effect that can be taken back: releases and discards by their entry, and approvals
/// whose changes were not sent yet.
pub(crate) fn answers_in_effect(
    outcome: &Outcome,
    overrides: &[OverrideRow],
    approvals: &[ApprovalRow],
    now: Timestamp,
) -> Vec<Decision> {
    let wanted: HashMap<&str, &Change> = outcome
        .changes
        .iter()
        .map(|change| (change.fingerprint.as_str(), change))
        .collect();
    let now = tide_store::format_timestamp(now);
    let mut by_decision: BTreeMap<&str, Vec<&OverrideRow>> = BTreeMap::new();
    for row in overrides
        .iter()
        .filter(|row| row.expires_at > now && wanted.contains_key(row.fingerprint.as_str()))
    {
        by_decision.entry(&row.decision).or_default().push(row);
    }
    let minute =
        |stamp: &str| format!("{} UTC", stamp.get(..16).unwrap_or(stamp).replace('T', " "));
    let override_of =
        |(decision, rows): (&str, Vec<&OverrideRow>)| override_decision(minute, decision, rows);
    let answered = |row: &&ApprovalRow| !row.answers.is_empty();
    let answer_of = |row: &ApprovalRow| {
        let change = wanted.get(row.fingerprint.as_str())?;
        let last = row.answers.last()?;
        let done = if last.yes { "approved" } else { "rejected" };
        Some(Decision {
            title: format!(
                "{}: {} in {} {done} by {}",
                change.label, change.kind, change.system, last.name
            ),
            said: format!(
                "{} ({}): taken back; approval starts again at the first level",
                minute(&last.created_at),
                row.rule
            ),
            names: vec![change.label.clone()],
            answers: vec![DecisionAnswer::TakeBack],
            ..Decision::new(
                DecisionKind::Override,
                format!("override-{}", row.fingerprint),
                &change.system,
            )
        })
    };
    by_decision
        .into_iter()
        .map(override_of)
        .chain(approvals.iter().filter(answered).filter_map(answer_of))
        .collect()
}

/// An override that can be withdrawn.
fn override_decision(
    minute: impl Fn(&str) -> String,
    decision: &str,
    rows: Vec<&OverrideRow>,
) -> Decision {
    let first = rows[0];
    let (done, next) = match first.release {
        true => ("released", "they are sent once nothing else holds them"),
        false => (
            "discarded",
            "they are not sent; if they are still required then, they are held again",
        ),
    };
    let plural = if rows.len() == 1 { "change" } else { "changes" };
    Decision {
        title: format!(
            "{} {} {plural} in {} {done} by {}",
            rows.len(),
            first.kind,
            first.system,
            first.principal
        ),
        said: format!(
            "{} until {}: {next}",
            minute(&first.created_at),
            minute(&first.expires_at)
        ),
        count: rows.len(),
        names: first_names(rows.iter().map(|row| row.label.as_str())),
        answers: vec![DecisionAnswer::TakeBack],
        ..Decision::new(
            DecisionKind::Override,
            format!("override-{decision}"),
            &first.system,
        )
    }
}
