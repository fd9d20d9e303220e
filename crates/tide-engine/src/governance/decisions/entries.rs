//! The entries of the list of decisions about changes.

use std::collections::{BTreeMap, HashMap};
use tide_core::decide::{Change, Doubt};
use tide_core::states::{ChangeKind, DecisionAnswer, DecisionKind};
use tide_core::value::format_values;
use tide_core::{HoldCause, Outcome};
use tide_store::{AlertRow, Parked};

/// Maximum number of names in one entry.
pub(crate) const NAMED: usize = 5;

/// If more accounts of a system than this have drift, they form one entry.
const TOGETHER: usize = 20;

/// An entry of the list.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Decision {
    /// The id for answering it. It is derived from what is shown, and changes with it.
    pub id: String,
    /// What is to be decided.
    pub kind: DecisionKind,
    /// The system.
    pub system: String,
    /// The title.
    pub title: String,
    /// The explanation.
    pub said: String,
    /// The number of records.
    pub count: usize,
    /// Names of some of them.
    pub names: Vec<String>,
    /// The possible answers.
    pub answers: Vec<DecisionAnswer>,
    /// Why the asking principal may not answer, if so.
    pub blocked: Option<String>,
    /// Offers from which the approver chooses: fingerprint and text of each.
    pub offers: Vec<(String, String)>,
    /// Maximum number of chosen offers.
    pub most: Option<u32>,
}

impl Decision {
    pub(super) fn new(kind: DecisionKind, id: String, system: &str) -> Decision {
        let (title, said) = (String::new(), String::new());
        let (names, answers, offers) = (Vec::new(), Vec::new(), Vec::new());
        Decision {
            id,
            kind,
            system: system.to_owned(),
            title,
            said,
            count: 1,
            names,
            answers,
            blocked: None,
            offers,
            most: None,
        }
    }
}

pub(crate) fn first_names<'a>(names: impl Iterator<Item = &'a str>) -> Vec<String> {
    let mut all: Vec<String> = Vec::new();
    for name in names {
        if all.len() < NAMED && !all.iter().any(|known| known == name) {
            all.push(name.to_owned());
        }
    }
    all
}

/// Changes held by guards, by system and kind, with the guard's reason.
pub(crate) fn changes_held_by_guards(
    outcome: &Outcome,
) -> BTreeMap<(&str, ChangeKind), (String, Vec<&Change>)> {
    let mut held: BTreeMap<(&str, ChangeKind), (String, Vec<&Change>)> = BTreeMap::new();
    for change in &outcome.changes {
        let Some(hold) = &change.hold else { continue };
        if hold.cause == Some(HoldCause::Guard) {
            held.entry((&change.system, change.kind))
                .or_insert_with(|| (hold.to_string(), Vec::new()))
                .1
                .push(change);
        }
    }
    held
}

/// The id of a set of held changes; it changes with the set.
pub(crate) fn guard_id(system: &str, kind: ChangeKind, changes: &[&Change]) -> String {
    let mut prints: Vec<&str> = changes
        .iter()
        .map(|change| change.fingerprint.as_str())
        .collect();
    prints.sort_unstable();
    format!(
        "guard-{system}-{kind}-{}",
        tide_core::decide::digest_fingerprints(&prints)
    )
}

/// Drift that is only reported: each change separately, or those of a system together if there
/// are many.
pub(crate) fn reported_drift(outcome: &Outcome) -> Vec<Vec<&Change>> {
    let mut by_system: BTreeMap<&str, Vec<&Change>> = BTreeMap::new();
    for change in &outcome.changes {
        if change.is_held_by(HoldCause::ExternalChange) {
            by_system.entry(&change.system).or_default().push(change);
        }
    }
    let split = |changes| match changes {
        changes if Vec::len(&changes) > TOGETHER => vec![changes],
        changes => changes.into_iter().map(|change| vec![change]).collect(),
    };
    by_system.into_values().flat_map(split).collect()
}

pub(crate) fn drift_id(changes: &[&Change]) -> String {
    let mut prints: Vec<&str> = changes
        .iter()
        .map(|change| change.fingerprint.as_str())
        .collect();
    prints.sort_unstable();
    format!("drift-{}", tide_core::decide::digest_fingerprints(&prints))
}

pub(crate) fn drift_decision(changes: Vec<&Change>) -> Decision {
    let system = changes.first().map_or("", |change| change.system.as_str());
    let values = |change: &Change| {
        let told = change.values.iter().map(|value| {
            format!(
                "{} is {} and was {}",
                value.attribute,
                format_values(&value.before),
                format_values(&value.after)
            )
        });
        told.collect::<Vec<_>>().join(", ")
    };
    let (title, said) = match changes.as_slice() {
        [one] => (
            format!("{}: changed in {system} by others", one.label),
            values(one),
        ),
        all => (
            format!("{} accounts were changed in {system} by others", all.len()),
            "a preview shows each of them".to_owned(),
        ),
    };
    Decision {
        title,
        said: format!("{said}; the rules only report it"),
        count: changes.len(),
        names: first_names(changes.iter().map(|change| change.label.as_str())),
        answers: vec![DecisionAnswer::Repair],
        ..Decision::new(DecisionKind::Drift, drift_id(&changes), system)
    }
}

pub(crate) fn open_decisions(outcome: &Outcome, parked: &HashMap<String, Parked>) -> Vec<Decision> {
    let mut all = Vec::new();
    for ((system, kind), (said, changes)) in changes_held_by_guards(outcome) {
        let many = if changes.len() == 1 {
            "change is held"
        } else {
            "changes are held"
        };
        all.push(Decision {
            title: format!("{} {kind} {many} in {system}", changes.len()),
            said,
            count: changes.len(),
            names: first_names(changes.iter().map(|change| change.label.as_str())),
            answers: vec![DecisionAnswer::Release, DecisionAnswer::Discard],
            ..Decision::new(
                DecisionKind::Guard,
                guard_id(system, kind, &changes),
                system,
            )
        });
    }
    for change in &outcome.changes {
        let Some(failed) = parked
            .get(&change.fingerprint)
            .filter(|parked| !parked.passing)
        else {
            continue;
        };
        all.push(Decision {
            title: format!(
                "{}: {} in {} failed",
                change.label, change.kind, change.system
            ),
            said: failed.error.clone(),
            names: vec![change.label.clone()],
            answers: vec![DecisionAnswer::Retry],
            ..Decision::new(
                DecisionKind::Failed,
                format!("parked-{}", change.fingerprint),
                &change.system,
            )
        });
    }
    all
}

/// The matches of a system that need review, by their doubt.
pub(crate) fn match_decision(
    system: &str,
    doubt: Doubt,
    count: i64,
    names: Vec<String>,
) -> Decision {
    let need = match count {
        1 => format!("1 match in {system} needs review"),
        count => format!("{count} matches in {system} need review"),
    };
    let title = match doubt {
        Doubt::NeedsReview => need,
        other => format!("{need}: {}", other.as_str().replace('_', " ")),
    };
    Decision {
        title,
        said: "nothing is sent for them until the matches are answered".to_owned(),
        count: usize::try_from(count).unwrap_or_default(),
        names: first_names(names.iter().map(String::as_str)),
        ..Decision::new(
            DecisionKind::Match,
            format!("match-{system}-{}", doubt.as_str()),
            system,
        )
    }
}

/// Adds alerts to acknowledge.
pub(crate) fn add_alerts(notices: &[AlertRow], all: &mut Vec<Decision>) {
    for notice in notices {
        let kind = if notice.recipient == "operators" {
            DecisionKind::ExternalChange
        } else {
            DecisionKind::Reminder
        };
        all.push(Decision {
            title: notice.subject.clone(),
            said: notice.body.clone(),
            answers: vec![DecisionAnswer::Acknowledge],
            ..Decision::new(kind, format!("surprise-{}", notice.id), "")
        });
    }
}
