//! The holds of a decision: who is on hold, and why.

use std::collections::HashMap;
use tide_core::decide::{Change, Decided, Verdict};
use tide_core::incremental::Records;
use tide_core::{HoldCause, Outcome, Reason};
use tide_store::{Hold, HoldKey};

/// The subject of a hold: an identity, or an orphaned account.
type Subject = (String, i64);

pub(crate) fn subject(key: &HoldKey) -> Subject {
    (
        key.identity.clone(),
        if key.identity.is_empty() {
            key.account
        } else {
            0
        },
    )
}

/// The stored holds, by subject.
#[derive(Debug, Default)]
pub(crate) struct HoldCache(HashMap<Subject, HashMap<HoldKey, Hold>>);

impl HoldCache {
    pub(crate) fn of(all: HashMap<HoldKey, Hold>) -> HoldCache {
        let mut kept = HoldCache::default();
        all.into_values().for_each(|hold| kept.put(hold));
        kept
    }

    pub(crate) fn put(&mut self, hold: Hold) {
        self.0
            .entry(subject(&hold.key))
            .or_default()
            .insert(hold.key.clone(), hold);
    }

    pub(crate) fn get(&self, key: &HoldKey) -> Option<&Hold> {
        self.0.get(&subject(key))?.get(key)
    }

    pub(crate) fn remove(&mut self, key: &HoldKey) {
        let whose = subject(key);
        if let Some(theirs) = self.0.get_mut(&whose) {
            theirs.remove(key);
            if theirs.is_empty() {
                self.0.remove(&whose);
            }
        }
    }

    /// The keys of all.
    pub(crate) fn keys(&self) -> impl Iterator<Item = &HoldKey> {
        self.0.values().flat_map(HashMap::keys)
    }

    pub(crate) fn keys_of(&self, whose: &Subject) -> impl Iterator<Item = &HoldKey> {
        self.0.get(whose).into_iter().flat_map(HashMap::keys)
    }
}

/// Whether a hold of this cause is stored. Holds of a run end with it, and a system that was never
/// armed would hold everything.
pub(crate) fn is_kept(cause: HoldCause) -> bool {
    !matches!(
        cause,
        HoldCause::NotArmed | HoldCause::NotInPreview | HoldCause::LinkOnly
    )
}

pub(crate) fn hold(key: HoldKey, takes_away: bool, label: &str, reason: &Reason) -> Option<Hold> {
    let cause = reason.cause.unwrap_or(HoldCause::InvalidValue);
    let rule = reason.rule.as_ref().map(ToString::to_string);
    is_kept(cause).then(|| Hold {
        key,
        takes_away,
        label: label.to_owned(),
        cause,
        reason: Reason {
            rule: None,
            cause: None,
            ..reason.clone()
        },
        rule,
    })
}

fn key_of_line(line: &Decided) -> HoldKey {
    HoldKey {
        system: line.system.clone(),
        object: line.object,
        identity: line.identity.clone().unwrap_or_default(),
        account: line.account.unwrap_or_default(),
        kind: String::new(),
    }
}

pub(crate) fn key_of_change(change: &Change) -> HoldKey {
    HoldKey {
        system: change.system.clone(),
        object: change.object,
        identity: change.identity.clone(),
        account: change.account.unwrap_or_default(),
        kind: change.kind.as_str().to_owned(),
    }
}

/// Everything that is on hold in an outcome.
pub(crate) fn collect_holds(outcome: &Outcome) -> HashMap<HoldKey, Hold> {
    let lines = outcome
        .decided
        .iter()
        .filter(|line| line.verdict == Verdict::OnHold);
    let lines = lines.filter_map(|line| hold(key_of_line(line), false, &line.label, &line.reason));
    let changes = outcome.changes.iter().filter_map(|change| {
        hold(
            key_of_change(change),
            change.takes_away(),
            &change.label,
            change.hold.as_ref()?,
        )
    });
    lines
        .chain(changes)
        .map(|hold| (hold.key.clone(), hold))
        .collect()
}

/// The subjects of some records.
pub(crate) fn subjects(about: &Records) -> impl Iterator<Item = Subject> {
    let accounts = about
        .accounts
        .iter()
        .map(|account| (String::new(), *account));
    let identities = about.identities.iter().map(|id| (id.clone(), 0));
    identities.chain(accounts)
}

/// The holds of the parts of a full decision.
#[derive(Debug, Default)]
pub(crate) struct CollectedHolds(HoldCache);

impl CollectedHolds {
    /// All of them.
    pub(crate) fn into_all(self) -> impl Iterator<Item = (HoldKey, Hold)> {
        self.0.0.into_values().flatten()
    }

    /// Adds what a part says of its records, in place of what an earlier part said of them.
    pub(crate) fn add(&mut self, about: &Records, outcome: &Outcome) {
        for whose in subjects(about) {
            self.0.0.remove(&whose);
        }
        for hold in collect_holds(outcome).into_values() {
            self.0.put(hold);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use tide_core::{ObjectType, ReasonKind};

    fn held(identity: &str, kind: ReasonKind) -> Outcome {
        let reason = Reason::new(kind).on_hold(HoldCause::MissingValue);
        let line = Decided {
            system: "harbour".into(),
            object: ObjectType::Person,
            identity: Some(identity.to_owned()),
            account: Some(1),
            label: identity.to_owned(),
            verdict: Verdict::OnHold,
            reason,
            unmatched: None,
        };
        Outcome {
            decided: vec![line],
            ..Outcome::default()
        }
    }

    #[test]
    fn a_part_replaces_the_holds_of_its_records() {
        let about = |identity: &str| Records {
            identities: [identity.to_owned()].into(),
            ..Records::default()
        };
        let missing = |attribute: &str| ReasonKind::ValueMissing {
            attribute: attribute.to_owned(),
        };
        let mut collected = CollectedHolds::default();
        collected.add(&about("ada"), &held("ada", missing("mail")));
        collected.add(&about("bo"), &held("bo", missing("mail")));
        collected.add(&about("ada"), &held("ada", missing("number")));
        collected.add(&about("bo"), &Outcome::default());
        let all: Vec<(String, ReasonKind)> = collected
            .into_all()
            .map(|(key, hold)| (key.identity, *hold.reason.kind))
            .collect();
        assert_eq!(all, [("ada".to_owned(), missing("number"))]);
    }
}
