//! Requests for approval: the changes that await one, and what is offered.

use crate::decide::GroupLabels;
use crate::error::EngineError;
use jiff::{SignedDuration, Timestamp};
use std::collections::{BTreeMap, BTreeSet, HashMap};
use tide_core::decide::Change;
use tide_core::rules::approvals::Approval;
use tide_core::states::ChangeKind;
use tide_core::value::format_values;
use tide_core::{HoldCause, Outcome, RuleSet};
use tide_store::ApprovalRow;

/// The maximum number of values in the text of an offer.
const OFFERED: usize = 3;

/// Changes that are asked about in one question.
pub(crate) struct Request<'o> {
    pub id: String,
    pub rule: &'o Approval,
    /// The level that it has reached, from 0.
    pub level: usize,
    pub changes: Vec<&'o Change>,
    /// The request expired.
    pub expired: bool,
    /// The approvers so far.
    pub yes: Vec<String>,
}

pub(crate) fn after_days(now: Timestamp, days: u32) -> Timestamp {
    now.saturating_add(SignedDuration::from_hours(i64::from(days) * 24))
        .unwrap_or(Timestamp::MAX)
}

/// The rule that a change waits for, if it waits for one.
pub(crate) fn waits_for<'r>(rules: &'r RuleSet, change: &Change) -> Option<&'r Approval> {
    let asked = change.approval.as_ref()?;
    let rule = rules
        .approvals
        .iter()
        .find(|rule| rule.name == asked.rule)?;
    change
        .is_held_by(HoldCause::AwaitingApproval)
        .then_some(rule)
}

/// Changes that await approval, by request. Rejected changes are left out.
pub(crate) fn open_requests<'o>(
    rules: &'o RuleSet,
    outcome: &'o Outcome,
    rows: &HashMap<&str, &ApprovalRow>,
    now: Timestamp,
) -> Vec<Request<'o>> {
    let mut groups: BTreeMap<(String, String, usize, bool), Request<'o>> = BTreeMap::new();
    for change in &outcome.changes {
        let Some(rule) = waits_for(rules, change) else {
            continue;
        };
        let row = rows.get(change.fingerprint.as_str());
        let answers = row.map_or(&[][..], |row| row.answers.as_slice());
        if answers.iter().any(|answer| !answer.yes) {
            continue;
        }
        let expired =
            row.is_some_and(|row| row.expires_at.parse().is_ok_and(|at: Timestamp| at <= now));
        // The owner of a group approves that group only, not about other changes of the
        // person.
        let owned = rule
            .levels
            .get(answers.len())
            .is_some_and(|level| level.owner);
        let by_account = owned || (!rule.batch && change.identity.is_empty());
        let account = change
            .account
            .filter(|_| by_account)
            .map(|account| account.to_string())
            .unwrap_or_default();
        let whose = if rule.batch {
            account
        } else {
            format!("{} {account}", change.identity)
        };
        let new = || Request {
            id: String::new(),
            rule,
            level: answers.len(),
            changes: Vec::new(),
            expired,
            yes: answers.iter().map(|answer| answer.name.clone()).collect(),
        };
        groups
            .entry((rule.name.clone(), whose, answers.len(), expired))
            .or_insert_with(new)
            .changes
            .push(change);
    }
    let mut all: Vec<Request<'o>> = groups.into_values().collect();
    for request in &mut all {
        let mut prints: Vec<&str> = request
            .changes
            .iter()
            .map(|change| change.fingerprint.as_str())
            .collect();
        prints.sort_unstable();
        request.id = format!(
            "approval-{}-{}",
            request.level,
            tide_core::decide::digest_fingerprints(&prints)
        );
    }
    all
}

/// The ids of the owners of groups, by system and name there.
pub(crate) type Owners = HashMap<(String, String), String>;

pub(crate) fn owned_by(change: &Change) -> impl Iterator<Item = (String, String)> {
    let owners = change.approval.iter().flat_map(|asked| &asked.owners);
    owners.map(|owner| (change.system.clone(), owner.clone()))
}

/// The offers of a request in order: text and fingerprint of each.
pub(crate) fn list_offers<'r>(
    request: &Request<'r>,
    groups: &GroupLabels,
) -> Vec<(String, &'r str)> {
    let mut all: Vec<_> = request
        .changes
        .iter()
        .map(|change| (offer_text(change, groups), change.fingerprint.as_str()))
        .collect();
    all.sort();
    all
}

/// The text of an offer to a person.
fn offer_text(change: &Change, groups: &GroupLabels) -> String {
    if let Some(group) = change
        .account
        .filter(|_| change.is_membership())
        .and_then(|id| groups.get(&id))
    {
        let act = if change.kind == ChangeKind::Grant {
            "join"
        } else {
            "leave"
        };
        return format!("{act} {group} in {}", change.system);
    }
    let values = change
        .values
        .iter()
        .filter(|value| !value.after.is_empty())
        .take(OFFERED);
    let values: Vec<String> = values
        .map(|value| format!("{} {}", value.attribute, format_values(&value.after)))
        .collect();
    format!(
        "{} in {}: {}",
        change.kind,
        change.system,
        values.join(", ")
    )
}

/// Which changes of a request are approved, by the chosen offers: their text, or their fingerprint.
pub(crate) fn chosen_changes(
    request: &Request<'_>,
    chosen: &[String],
    groups: &GroupLabels,
) -> Result<BTreeSet<String>, EngineError> {
    let all = || {
        request
            .changes
            .iter()
            .map(|change| change.fingerprint.clone())
    };
    let Some(most) = request.rule.choose_up_to else {
        return match chosen {
            [] => Ok(all().collect()),
            _ => Err(EngineError::Invalid(format!(
                "{} has no offers to choose from: approve or reject it",
                request.rule.name
            ))),
        };
    };
    let offers = list_offers(request, groups);
    let offered = || {
        offers
            .iter()
            .map(|(words, _)| words.as_str())
            .collect::<Vec<_>>()
            .join("; ")
    };
    let picked = match chosen {
        [] if offers.len() <= most as usize => all().collect(),
        [] => {
            return Err(EngineError::Invalid(format!(
                "choose up to {most} of these: {}",
                offered()
            )));
        }
        chosen => {
            let mut picked = BTreeSet::new();
            for one in chosen {
                let fits = |(words, print): &&(String, &str)| {
                    words.eq_ignore_ascii_case(one) || print == one
                };
                let meant = offers.iter().find(fits);
                let meant = meant.ok_or_else(|| {
                    EngineError::Invalid(format!(
                        "`{one}` is not an offer; the offers are: {}",
                        offered()
                    ))
                })?;
                picked.insert(meant.1.to_owned());
            }
            picked
        }
    };
    match picked.len() > most as usize {
        true => Err(EngineError::Invalid(format!(
            "choose up to {most} of these: {}",
            offered()
        ))),
        false => Ok(picked),
    }
}
