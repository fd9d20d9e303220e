//! A backlog: many outstanding changes that guards, approvals or licenses hold. What holds them
//! depends on a few facts. While these stay the same, so do the holds, and a decision about other
//! records neither copies nor evaluates them. The numbers in the sentences of their holds are those
//! of the last evaluation of all.

use super::{IncrementalState, RecordId, record_of};
use crate::decide::approvals::hold_unapproved;
use crate::decide::{
    Change, GuardSubject, Outcome, Totals, apply_guard_holds, finish, guard_holds, guard_subject,
    hold_discarded, sort_changes,
};
use crate::model::{ApprovalState, GuardOverride};
use crate::reasons::{HoldCause, Reason};
use crate::rules::RuleSet;
use std::collections::{BTreeMap, BTreeSet, HashMap};

/// Up to this many outstanding changes, each decision evaluates all of them.
pub(super) const EXACT_LIMIT: usize = 1_000;

/// The changes that guards count, by system and kind: how many of each subject.
type Counted = BTreeMap<(String, String), HashMap<GuardSubject, u32>>;

/// What the holds of all outstanding changes depend on, as of the last evaluation.
#[derive(Debug)]
pub(super) struct Backlog {
    overrides: HashMap<String, GuardOverride>,
    approved: HashMap<String, ApprovalState>,
    /// The free seats of each license, if anybody waits for one.
    free_seats: Option<Vec<usize>>,
    /// The guards, as indexes into the rules, that hold the changes of a system.
    holding: BTreeSet<(usize, String)>,
    counted: Counted,
    /// Records with changes that nothing of this holds: they are part of each decision.
    free: BTreeSet<RecordId>,
}

/// Held by what only a fact of the backlog can end.
fn is_settled(hold: Option<&Reason>) -> bool {
    matches!(
        hold.and_then(|hold| hold.cause),
        Some(
            HoldCause::Guard
                | HoldCause::AwaitingApproval
                | HoldCause::WaitingForSeat
                | HoldCause::Discarded
        )
    )
}

/// Whether guards count a change, given what holds it in the end.
fn is_counted(change: &Change, hold: Option<&Reason>, totals: &Totals) -> bool {
    let cause = hold.and_then(|hold| hold.cause);
    !matches!(
        cause,
        Some(HoldCause::AwaitingApproval | HoldCause::Discarded)
    ) && !change.keeps_membership()
        && !totals.overrides.contains_key(&change.fingerprint)
}

fn guard_key(change: &Change) -> (String, String) {
    (change.system.clone(), change.kind.as_str().to_owned())
}

fn holding(rules: &RuleSet, totals: &Totals, counted: &Counted) -> BTreeSet<(usize, String)> {
    let holds = guard_holds(rules, totals, |key| subjects(counted, key));
    let holding = holds.into_iter();
    holding.map(|(guard, system, _)| (guard, system)).collect()
}

fn subjects<'c>(
    counted: &'c Counted,
    key: &(String, String),
) -> impl Iterator<Item = &'c GuardSubject> + use<'c> {
    let subjects = counted.get(key).into_iter().flatten();
    subjects.filter_map(|(subject, count)| (*count > 0).then_some(subject))
}

fn free_seats(rules: &RuleSet, totals: &Totals) -> Vec<usize> {
    let used = |place: usize| totals.seats.get(place).copied().unwrap_or(0);
    let licenses = rules.licenses.iter().enumerate();
    licenses
        .map(|(place, license)| license.seats.saturating_sub(used(place)))
        .collect()
}

/// Whether there are seats for all of these changes.
fn has_seats(changes: &[Change], free: &[usize]) -> bool {
    free.iter().enumerate().all(|(license, free)| {
        let claims = changes.iter().flat_map(|change| &change.claims);
        claims.filter(|claim| claim.license == license).count() <= *free
    })
}

fn holds_by_fingerprint(outcome: &Outcome) -> HashMap<&str, Option<&Reason>> {
    let changes = outcome.changes.iter();
    changes
        .map(|change| (change.fingerprint.as_str(), change.hold.as_ref()))
        .collect()
}

impl Backlog {
    /// After an evaluation of all outstanding changes.
    pub(super) fn of(
        rules: &RuleSet,
        totals: &Totals,
        outstanding: &BTreeMap<RecordId, Vec<Change>>,
        outcome: &Outcome,
    ) -> Backlog {
        let holds = holds_by_fingerprint(outcome);
        let hold_of = |change: &Change| holds.get(change.fingerprint.as_str()).copied().flatten();
        let (mut counted, mut free) = (Counted::new(), BTreeSet::new());
        let mut is_waited_for = false;
        for (record, changes) in outstanding {
            for change in changes {
                let hold = hold_of(change);
                if is_counted(change, hold, totals) {
                    let subjects = counted.entry(guard_key(change)).or_default();
                    *subjects.entry(guard_subject(change)).or_default() += 1;
                }
                if !is_settled(hold) {
                    free.insert(record.clone());
                } else if !change.claims.is_empty() {
                    is_waited_for = true;
                }
            }
        }
        Backlog {
            overrides: totals.overrides.clone(),
            approved: totals.approved.clone(),
            free_seats: is_waited_for.then(|| free_seats(rules, totals)),
            holding: holding(rules, totals, &counted),
            counted,
            free,
        }
    }

    fn is_valid_for(&self, rules: &RuleSet, totals: &Totals) -> bool {
        let seats = self.free_seats.as_ref();
        self.overrides == totals.overrides
            && self.approved == totals.approved
            && seats.is_none_or(|seats| *seats == free_seats(rules, totals))
    }

    /// Changes of a record are outstanding no longer. `false` if that could end the hold of others.
    fn forget(&mut self, record: &RecordId, changes: &[Change]) -> bool {
        let was_free = self.free.remove(record);
        for change in changes {
            // Whether it was approved is not known here; a seat that it had, or waited for, is
            // another's.
            let has_seat = !change.claims.is_empty();
            if change.approval.is_some() || has_seat && (!was_free || self.free_seats.is_some()) {
                return false;
            }
            if change.keeps_membership() || self.overrides.contains_key(&change.fingerprint) {
                continue;
            }
            let subjects = self.counted.get_mut(&guard_key(change));
            let subject = guard_subject(change);
            let Some(count) = subjects.and_then(|all| all.get_mut(&subject)) else {
                return false;
            };
            *count = count.saturating_sub(1);
        }
        true
    }
}

impl IncrementalState {
    /// Up to how many outstanding changes each decision evaluates all of them.
    pub fn with_exact_limit(mut self, limit: usize) -> IncrementalState {
        self.exact_limit = limit;
        self.backlog = None;
        self
    }

    /// Forgets what was outstanding of these records.
    pub(super) fn forget_outstanding(&mut self, records: &[RecordId]) {
        for record in records {
            let Some(changes) = self.outstanding.remove(record) else {
                continue;
            };
            self.outstanding_count -= changes.len();
            if let Some(backlog) = &mut self.backlog
                && !backlog.forget(record, &changes)
            {
                self.backlog = None;
            }
        }
    }

    /// Evaluates the changes of the decided records, `outcome.changes`, and leaves the backlog as it
    /// is. `false` if that could change what holds it: then all are to be evaluated.
    pub(super) fn evaluate_beside_backlog(
        &mut self,
        rules: &RuleSet,
        totals: &Totals,
        decided: &[RecordId],
        outcome: &mut Outcome,
    ) -> bool {
        if self.outstanding_count <= self.exact_limit {
            return false;
        }
        let Some(backlog) = self
            .backlog
            .as_mut()
            .filter(|known| known.is_valid_for(rules, totals))
        else {
            return false;
        };
        let has_claims = outcome
            .changes
            .iter()
            .any(|change| !change.claims.is_empty());
        if has_claims && backlog.free_seats.is_some() {
            return false;
        }
        let own: BTreeSet<&RecordId> = decided.iter().collect();
        let others = backlog.free.iter().filter(|record| !own.contains(record));
        let others = others.filter_map(|record| self.outstanding.get(record));
        let mut part = Outcome {
            changes: outcome.changes.clone(),
            ..Outcome::default()
        };
        part.changes.extend(others.flatten().cloned());
        if !has_seats(&part.changes, &free_seats(rules, totals)) {
            return false;
        }
        sort_changes(&mut part);
        hold_unapproved(rules, &totals.approved, &mut part);
        hold_discarded(totals, &mut part);
        let new: Vec<&Change> = part
            .changes
            .iter()
            .filter(|change| own.contains(&record_of(change)))
            .filter(|change| change.hold.is_none() || is_settled(change.hold.as_ref()))
            .collect();
        let mut counted: Vec<((String, String), GuardSubject)> = Vec::new();
        for change in new {
            if is_counted(change, change.hold.as_ref(), totals) {
                counted.push((guard_key(change), guard_subject(change)));
            }
        }
        for (key, subject) in &counted {
            let subjects = backlog.counted.entry(key.clone()).or_default();
            *subjects.entry(subject.clone()).or_default() += 1;
        }
        if holding(rules, totals, &backlog.counted) != backlog.holding {
            return false;
        }
        let holds = guard_holds(rules, totals, |key| subjects(&backlog.counted, key));
        apply_guard_holds(rules, totals, &holds, &mut part);
        outcome.changes = part.changes;
        finish(rules, outcome);
        let holds = holds_by_fingerprint(outcome);
        for record in decided {
            let changes = self.outstanding.get(record).into_iter().flatten();
            let is_free = |change: &Change| {
                let hold = holds.get(change.fingerprint.as_str()).copied().flatten();
                !is_settled(hold)
            };
            if changes.into_iter().any(is_free) {
                backlog.free.insert(record.clone());
            }
        }
        true
    }
}
