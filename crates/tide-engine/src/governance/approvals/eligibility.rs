//! Who may answer a request for approval.

use crate::governance::approvals::requests::{Owners, Request, owned_by};
use std::collections::HashMap;
use tide_store::{ApprovalRow, OperatorRow};

/// The journal action of a publication. The publisher of rules counts as the cause of operators'
/// assignments in them.
const PUBLISHED: &str = "rules.published";

/// What an operator did, in words: `you …`.
fn deed_text(act: &str) -> &'static str {
    match act.split_once('.') {
        Some(("run", _)) => "started the run that requested it",
        Some(("role", "taken")) => "revoked a role",
        Some(("role", _)) => "granted a role",
        Some(("departure", _)) => "scheduled or canceled the departure",
        Some(("match", _)) => "answered the match",
        Some(("identity", _)) => "split the identity",
        Some(("password", _)) => "set the password",
        Some(("rules", _)) => "published the rules that require it",
        _ => "caused it",
    }
}

/// Why an operator may not answer a request; `None` if the operator may.
pub(crate) fn answer_refusal(
    request: &Request<'_>,
    rows: &HashMap<&str, &ApprovalRow>,
    owners: &Owners,
    operator: &OperatorRow,
) -> Option<String> {
    let level = request.rule.levels.get(request.level)?;
    for change in &request.changes {
        let Some(row) = rows.get(change.fingerprint.as_str()) else {
            return Some("the next run requests it".to_owned());
        };
        if row.asked_by == operator.id {
            return Some("operators cannot approve a change that they requested".to_owned());
        }
        if let Some(cause) = row
            .causes
            .iter()
            .find(|cause| cause.principal == operator.id)
        {
            return Some(format!(
                "operators cannot approve a change that they caused: you {}",
                deed_text(&cause.act)
            ));
        }
        // Who set what makes this operator an approver, after they had caused the change, would
        // approve it by another's name.
        if let Some((by, at)) = &operator.set_by
            && row
                .causes
                .iter()
                .any(|cause| cause.principal == *by && cause.at <= *at && cause.act != PUBLISHED)
        {
            return Some(
                "the operator who caused this change has set your groups, person or token since"
                    .to_owned(),
            );
        }
        if row
            .answers
            .iter()
            .any(|answer| answer.principal == operator.id)
        {
            return Some("you have answered an earlier level".to_owned());
        }
        let pointed = change
            .approval
            .as_ref()
            .and_then(|asked| asked.of.get(request.level));
        let named = level.operators.contains(&operator.name)
            || level
                .groups
                .iter()
                .any(|group| operator.teams.contains(group))
            || operator
                .identity
                .as_ref()
                .is_some_and(|own| pointed.is_some_and(|of| of.contains(own)))
            || level.owner
                && operator.identity.as_ref().is_some_and(|own| {
                    owned_by(change).any(|owner| owners.get(&owner) == Some(own))
                });
        if !named {
            return Some(format!("this level is for {}", level.text()));
        }
        if operator
            .identity
            .as_ref()
            .is_some_and(|own| *own == change.identity)
        {
            return Some("operators cannot approve changes of their own accounts".to_owned());
        }
    }
    None
}
