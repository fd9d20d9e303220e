//! The order in which the changes of a system are sent.

use std::collections::{HashMap, HashSet, VecDeque};
use tide_core::decide::Change;
use tide_core::states::ChangeKind;
use tide_store::ChangeRow;

/// Whether a change refers to an account that an earlier change of the same run creates.
pub(crate) fn has_pending_references(row: &ChangeRow) -> bool {
    row.change
        .values
        .iter()
        .any(|value| !value.later.is_empty())
}

/// The changes in the order in which they can be sent: references to new accounts come after these
/// accounts. Of a circle of `wait_for_target` references, one account is created without its
/// reference.
pub(crate) fn in_order(changes: Vec<ChangeRow>) -> Vec<Vec<ChangeRow>> {
    let (mut later, first): (Vec<ChangeRow>, Vec<ChangeRow>) =
        changes.into_iter().partition(has_pending_references);
    let mut rounds = vec![first];
    while !later.is_empty() {
        let made = |row: &ChangeRow| {
            (row.change.kind == ChangeKind::Create)
                .then(|| (row.change.system.clone(), row.change.identity.clone()))
        };
        let pending: HashSet<(String, String)> = later.iter().filter_map(made).collect();
        let blocked = |row: &ChangeRow| {
            let own = (row.change.kind != ChangeKind::Create).then_some(&row.change.identity);
            let wanted = row
                .change
                .values
                .iter()
                .flat_map(|value| &value.later)
                .map(|later| &later.identity)
                .chain(own);
            wanted
                .into_iter()
                .any(|identity| pending.contains(&(row.change.system.clone(), identity.clone())))
        };
        let (mut waiting, mut ready): (Vec<ChangeRow>, Vec<ChangeRow>) =
            later.into_iter().partition(blocked);
        if ready.is_empty()
            && let Some(at) = waiting
                .iter()
                .position(|row| row.change.kind == ChangeKind::Create)
        {
            // A circle: the next decision sets the value that is left out, once all accounts exist.
            let mut row = waiting.remove(at);
            row.change
                .values
                .iter_mut()
                .for_each(|value| value.later.clear());
            row.change.values.retain(|value| !value.after.is_empty());
            ready.push(row);
        } else if ready.is_empty() {
            ready = std::mem::take(&mut waiting);
        }
        rounds.push(ready);
        later = waiting;
    }
    let first = rounds.remove(0);
    around_renames(first)
        .into_iter()
        .chain(rounds)
        .filter(|round| !round.is_empty())
        .collect()
}

/// Whether a change renames its account, so that references in groups change.
fn is_rename(change: &Change) -> bool {
    matches!(change.kind, ChangeKind::Rename | ChangeKind::Move)
}

/// Is it a membership that can be batched with others of its group? Departure steps are not,
/// because they have an order of their own.
fn is_of_group(change: &Change) -> bool {
    change.is_membership() && change.step == 0
}

/// The people whose changes depend on one another across queues: they are renamed, and groups refer
/// to them by name.
fn renamed_members<'c>(
    changes: impl Iterator<Item = &'c Change> + Clone,
) -> HashSet<(&'c str, &'c str)> {
    let whose = |change: &'c Change| (change.system.as_str(), change.identity.as_str());
    let members: HashSet<(&str, &str)> = changes
        .clone()
        .filter(|change| is_of_group(change))
        .map(whose)
        .collect();
    changes
        .filter(|change| is_rename(change))
        .map(whose)
        .filter(|who| members.contains(who))
        .collect()
}

/// Orders the changes of people who are renamed and join or leave groups in one run, so that no
/// former name stays behind: revoke, then rename, then grant. A disable never waits, and neither do
/// other people's changes.
fn around_renames(changes: Vec<ChangeRow>) -> [Vec<ChangeRow>; 3] {
    let renamed: HashSet<(String, String)> = renamed_members(changes.iter().map(|row| &row.change))
        .into_iter()
        .map(|(system, identity)| (system.to_owned(), identity.to_owned()))
        .collect();
    let mut rounds = [Vec::new(), Vec::new(), Vec::new()];
    for row in changes {
        let change = &row.change;
        let round = if renamed.is_empty()
            || !renamed.contains(&(change.system.clone(), change.identity.clone()))
        {
            0
        } else if is_of_group(change) {
            if change.kind == ChangeKind::Grant {
                2
            } else {
                0
            }
        } else if change.kind == ChangeKind::Disable {
            0
        } else {
            1
        };
        rounds[round].push(row);
    }
    rounds
}

/// The key whose changes are sent in order. An orphaned account has its own key; a group too, so
/// that its memberships can be batched, except those of departures.
fn ordering_key(change: &Change) -> String {
    let group = change.is_membership() && change.step == 0;
    match change
        .account
        .filter(|_| group || change.identity.is_empty())
    {
        Some(account) => account.to_string(),
        None => change.identity.clone(),
    }
}

/// The positions of the changes that can be claimed in the commit that stores them: if there are so
/// few that all are sent at once, and none waits for another one.
pub(crate) fn first_batch(changes: &[Change], at_a_time: usize) -> HashSet<usize> {
    let waits = changes
        .iter()
        .flat_map(|change| &change.values)
        .any(|value| !value.later.is_empty());
    if waits || !renamed_members(changes.iter()).is_empty() {
        return HashSet::new();
    }
    let mut by_system: HashMap<&str, HashMap<String, usize>> = HashMap::new();
    for (place, change) in changes.iter().enumerate() {
        let first = by_system.entry(&change.system).or_default();
        if first.len() <= at_a_time {
            first.entry(ordering_key(change)).or_insert(place);
        }
    }
    by_system
        .into_values()
        .filter(|first| first.len() <= at_a_time)
        .flat_map(HashMap::into_values)
        .collect()
}

/// The changes grouped by ordering key, in sending order.
pub(crate) fn by_account(changes: Vec<ChangeRow>) -> VecDeque<Vec<ChangeRow>> {
    let mut places: HashMap<String, usize> = HashMap::new();
    let mut queue: VecDeque<Vec<ChangeRow>> = VecDeque::new();
    for change in changes {
        let whose = ordering_key(&change.change);
        match places.get(&whose) {
            Some(&place) => queue[place].push(change),
            None => {
                places.insert(whose, queue.len());
                queue.push_back(vec![change]);
            }
        }
    }
    queue
}

#[cfg(test)]
mod tests {
    use super::*;
    use tide_core::ObjectType;
    use tide_core::compare::{PendingReference, ValueChange};
    use tide_core::states::ChangeState;
    use tide_core::{Reason, ReasonKind};

    fn change(system: &str, identity: &str, account: Option<i64>) -> Change {
        Change {
            system: system.into(),
            object: ObjectType::Person,
            identity: identity.into(),
            account,
            label: identity.into(),
            kind: ChangeKind::Update,
            values: vec![ValueChange {
                attribute: "title".into(),
                ..ValueChange::default()
            }],
            reason: Reason::new(ReasonKind::InSync),
            hold: None,
            approval: None,
            claims: Vec::new(),
            step: 0,
            fingerprint: String::new(),
        }
    }

    fn rows(changes: &[Change]) -> Vec<ChangeRow> {
        let row = |(at, change): (usize, &Change)| ChangeRow {
            id: at as i64,
            change_set: 1,
            change: change.clone(),
            state: ChangeState::Queued,
            attempts: 0,
            error: None,
            remedy: None,
            settled: None,
            principal: None,
        };
        changes.iter().enumerate().map(row).collect()
    }

    #[test]
    fn what_is_sent_first_is_the_head_of_each_account() {
        let changes = [
            change("berthing", "ada", Some(1)),
            change("crewhall", "ada", Some(2)),
            change("berthing", "ada", Some(1)),
            change("berthing", "", Some(7)),
            change("berthing", "bo", None),
        ];
        assert_eq!(first_batch(&changes, 3), [0, 1, 3, 4].into());
        // The claimed changes are the heads of the queue, and are sent first.
        let heads: HashSet<usize> = ["berthing", "crewhall"]
            .into_iter()
            .flat_map(|system| {
                by_account(
                    rows(&changes)
                        .into_iter()
                        .filter(|row| row.change.system == system)
                        .collect(),
                )
            })
            .filter_map(|changes| changes.first().map(|row| row.id as usize))
            .collect();
        assert_eq!(first_batch(&changes, 3), heads);
        assert_eq!(
            first_batch(&changes, 2),
            [1].into(),
            "more accounts than are sent at a time wait in the queue, and can be overtaken"
        );
    }

    #[test]
    fn nothing_is_sent_first_where_something_waits_for_another() {
        let mut second = change("berthing", "bo", None);
        second.values[0].later.push(PendingReference {
            identity: "ada".into(),
            label: "Ada".into(),
        });
        assert!(first_batch(&[change("berthing", "ada", None), second], 16).is_empty());
    }
}
