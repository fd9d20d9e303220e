//! The entries of the list of decisions about requests for approval.

use crate::decide::GroupLabels;
use crate::governance::approvals::answer_refusal;
use crate::governance::approvals::{Owners, Request, list_offers};
use crate::governance::decisions::entries::{Decision, NAMED, first_names};
use std::collections::HashMap;
use tide_core::states::{DecisionAnswer, DecisionKind};
use tide_core::value::format_values;
use tide_store::ApprovalRow;

/// The input of the decision about a request.
pub(crate) struct ApprovalContext<'a> {
    pub(super) rows: &'a HashMap<&'a str, &'a ApprovalRow>,
    pub(super) owners: &'a Owners,
    pub(super) groups: &'a GroupLabels,
    /// The operator; `None` for others.
    pub(super) operator: Option<&'a tide_store::OperatorRow>,
}

/// The decision about a request for an approval.
pub(crate) fn approval_decision(request: &Request<'_>, context: &ApprovalContext<'_>) -> Decision {
    let level = request
        .rule
        .levels
        .get(request.level)
        .map(tide_core::rules::approvals::Level::text)
        .unwrap_or_default();
    let (systems, kinds) = systems_and_kinds(request);
    let who = if request.rule.batch {
        format!("{} changes", request.changes.len())
    } else {
        request.changes[0].label.clone()
    };
    let mut said = level_text(request, level);
    let chooses =
        request.rule.choose_up_to.is_some() && !request.expired && request.changes.len() > 1;
    // A request about one person lists its changes; one about many lists their names.
    let each = if request.rule.batch {
        Vec::new()
    } else {
        list_offers(request, context.groups)
    };
    let names = match request.rule.batch {
        true => first_names(request.changes.iter().map(|change| change.label.as_str())),
        false => first_names(each.iter().map(|(words, _)| words.as_str())),
    };
    let offers = if chooses { each } else { Vec::new() };
    if let Some(most) = request.rule.choose_up_to.filter(|_| chooses) {
        said.push_str(&format!("; the approver chooses up to {most}"));
    }
    add_values(request, &mut said, chooses);
    let barred = match context.operator {
        Some(operator) if !request.expired => {
            answer_refusal(request, context.rows, context.owners, operator)
        }
        Some(_) => None,
        None => Some("only operators answer".to_owned()),
    };
    Decision {
        title: format!("{who}: {} in {}", kinds.join(" and "), systems.join(", ")),
        said,
        count: request.changes.len(),
        names,
        answers: if request.expired {
            vec![DecisionAnswer::Reopen]
        } else {
            vec![DecisionAnswer::Approve, DecisionAnswer::Reject]
        },
        blocked: barred,
        offers: offers
            .into_iter()
            .map(|(words, print)| (print.to_owned(), words))
            .collect(),
        most: request.rule.choose_up_to.filter(|_| chooses),
        ..Decision::new(
            DecisionKind::Approval,
            request.id.clone(),
            systems.first().copied().unwrap_or_default(),
        )
    }
}

/// The systems and the kinds of change of a request.
fn systems_and_kinds<'a>(request: &'a Request<'_>) -> (Vec<&'a str>, Vec<&'a str>) {
    let mut systems: Vec<&str> = request
        .changes
        .iter()
        .map(|change| change.system.as_str())
        .collect();
    systems.sort_unstable();
    systems.dedup();
    let mut kinds: Vec<&str> = request
        .changes
        .iter()
        .map(|change| change.kind.as_str())
        .collect();
    kinds.dedup();
    (systems, kinds)
}

/// Returns the level that a request has reached.
fn level_text(request: &Request<'_>, level: String) -> String {
    let mut said = if request.expired {
        format!(
            "{}: not answered within {} days",
            request.rule.name, request.rule.expires_after_days
        )
    } else {
        format!(
            "{}: level {} of {}, {level}",
            request.rule.name,
            request.level + 1,
            request.rule.levels.len()
        )
    };
    if !request.yes.is_empty() {
        said.push_str(&format!("; approved by {}", request.yes.join(", ")));
    }
    said
}

/// Adds the values that an approver sees.
fn add_values(request: &Request<'_>, said: &mut String, chooses: bool) {
    // The approver sees the values.
    if request.changes.len() <= NAMED && !chooses {
        for value in request
            .changes
            .iter()
            .flat_map(|change| &change.values)
            .take(NAMED)
        {
            said.push_str(&format!(
                "; {} from {} to {}",
                value.attribute,
                format_values(&value.before),
                format_values(&value.after)
            ));
        }
    }
}
