//! Licenses: counted seats of a system. Without a free seat, an identity waits in the order of the
//! rule, and continues automatically when a seat is freed.

use crate::compare::ValueChange;
use crate::decide::{Change, Outcome};
use crate::expr::EvalInputs;
use crate::model::{Account, AccountId, Population};
use crate::reasons::{HoldCause, Reason, ReasonKind};
use crate::rules::RuleSet;
use crate::rules::licenses::License;
use crate::states::ObjectType;
use crate::value::{Attributes, Value};
use rustc_hash::FxHashMap;
use std::cmp::Ordering;

impl License {
    /// Whether an account with these values uses a seat. If the condition fails, it uses none.
    pub fn taken_by(&self, attributes: &Attributes) -> bool {
        self.consumed_when
            .holds(&EvalInputs {
                account: Some(attributes),
                identity: None,
            })
            .unwrap_or(false)
    }

    fn consumes_seat(&self, account: &Account) -> bool {
        account.system == self.system
            && account.kind == self.kind
            && account.absent_since.is_none()
            && self.taken_by(&account.attributes)
    }
}

/// A seat that a change would take.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Claim {
    /// The license, as an index into the rule set's list.
    pub license: usize,
    /// By what those who wait are ordered.
    pub order: String,
}

/// The seats that a change of an account would consume; `before` is the account as it is.
pub(crate) fn claimed_seats(
    rules: &RuleSet,
    system: &str,
    kind: ObjectType,
    before: Option<&Account>,
    values: &[ValueChange],
    identity: &Attributes,
) -> Vec<Claim> {
    let mine = |license: &&License| license.system == system && license.kind == kind;
    if !rules.licenses.iter().any(|license| mine(&license)) {
        return Vec::new();
    }
    let mut after = before
        .map(|account| account.attributes.clone())
        .unwrap_or_default();
    for value in values {
        after.set(value.attribute.as_str(), value.after.clone());
    }
    let all = rules
        .licenses
        .iter()
        .enumerate()
        .filter(|(_, license)| mine(license));
    let new = all.filter(|(_, license)| {
        !before.is_some_and(|account| license.taken_by(&account.attributes))
            && license.taken_by(&after)
    });
    let order = |license: &License| {
        let value = license.assign_order.as_ref().and_then(|order| {
            order
                .run(&EvalInputs {
                    account: None,
                    identity: Some(identity),
                })
                .ok()
        });
        value
            .and_then(|values| values.first().map(Value::to_string))
            .unwrap_or_default()
    };
    new.map(|(place, license)| Claim {
        license: place,
        order: order(license),
    })
    .collect()
}

/// The number of seats in use, updated as accounts change.
#[derive(Debug, Default)]
pub(crate) struct Seats {
    used: Vec<usize>,
    /// The licenses that an account uses.
    by: FxHashMap<AccountId, Vec<usize>>,
}

impl Seats {
    pub fn of(rules: &RuleSet, population: &Population) -> Seats {
        let mut seats = Seats::default();
        if !rules.licenses.is_empty() {
            population
                .accounts
                .iter()
                .for_each(|account| seats.count_account(rules, account));
        }
        seats
    }

    pub fn count_account(&mut self, rules: &RuleSet, account: &Account) {
        if rules.licenses.is_empty() {
            return;
        }
        self.used.resize(rules.licenses.len(), 0);
        for license in self.by.remove(&account.id).unwrap_or_default() {
            self.used[license] -= 1;
        }
        let now: Vec<usize> = rules
            .licenses
            .iter()
            .enumerate()
            .filter(|(_, one)| one.consumes_seat(account))
            .map(|(place, _)| place)
            .collect();
        now.iter().for_each(|license| self.used[*license] += 1);
        if !now.is_empty() {
            self.by.insert(account.id, now);
        }
    }

    pub fn used(&self) -> Vec<usize> {
        self.used.clone()
    }
}

/// The order of those who wait: numbers as numbers, all else as it is written; who has none comes
/// last.
fn in_line(a: &str, b: &str) -> Ordering {
    match (a.parse::<i64>(), b.parse::<i64>()) {
        (Ok(a), Ok(b)) => a.cmp(&b),
        _ => (a.is_empty(), a).cmp(&(b.is_empty(), b)),
    }
}

/// The changes that would consume a seat and may be sent, in the order of the waiting list.
fn waiting_list<'o>(outcome: &'o Outcome, license: usize) -> Vec<(usize, &'o Claim)> {
    let claim = |change: &'o Change| change.claims.iter().find(|claim| claim.license == license);
    let free = outcome
        .changes
        .iter()
        .enumerate()
        .filter(|(_, change)| change.hold.is_none());
    let mut all: Vec<(usize, &Claim)> = free
        .filter_map(|(at, change)| Some((at, claim(change)?)))
        .collect();
    all.sort_by(|(a, one), (b, two)| {
        let (a, b) = (&outcome.changes[*a], &outcome.changes[*b]);
        in_line(&one.order, &two.order)
            .then_with(|| (&a.label, &a.identity).cmp(&(&b.label, &b.identity)))
    });
    all
}

/// Holds the changes for which no seat is free. `used` is the number of seats in use now: seats
/// that the same run frees count once they are confirmed.
pub(crate) fn hold_without_seat(rules: &RuleSet, used: &[usize], outcome: &mut Outcome) {
    for (place, license) in rules.licenses.iter().enumerate() {
        let used = used.get(place).copied().unwrap_or(0);
        let free = license.seats.saturating_sub(used);
        let waiting: Vec<usize> = waiting_list(outcome, place)
            .into_iter()
            .skip(free)
            .map(|(at, _)| at)
            .collect();
        for (number, at) in waiting.iter().enumerate() {
            let kind = ReasonKind::WaitingForSeat {
                license: license.name.clone(),
                used,
                seats: license.seats,
                ahead: number + free,
            };
            outcome.changes[*at].hold =
                Some(Reason::by(kind, &license.place).on_hold(HoldCause::WaitingForSeat));
        }
    }
}

/// A person who waits for a seat.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SeatWaiter {
    /// Their identity.
    pub identity: String,
    /// Their label.
    pub label: String,
    /// By what they are ordered.
    pub order: String,
}

/// The usage of a license.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct LicenseUsage {
    /// Seats in use.
    pub used: usize,
    /// The waiting list, in order.
    pub waiting: Vec<SeatWaiter>,
    /// How many would take one by what was decided, those who wait among them.
    pub would_take: usize,
    /// How many would give one back.
    pub would_free: usize,
}

/// The usage of each license by a decision, in the order of the rules.
pub fn license_usage(
    rules: &RuleSet,
    population: &Population,
    outcome: &Outcome,
) -> Vec<LicenseUsage> {
    let accounts: FxHashMap<AccountId, &Account> = population
        .accounts
        .iter()
        .map(|account| (account.id, account))
        .collect();
    let mut all: Vec<LicenseUsage> = rules
        .licenses
        .iter()
        .map(|_| LicenseUsage::default())
        .collect();
    for (place, license) in rules.licenses.iter().enumerate() {
        let here = &mut all[place];
        here.used = population
            .accounts
            .iter()
            .filter(|account| license.consumes_seat(account))
            .count();
        for change in &outcome.changes {
            if let Some(claim) = change.claims.iter().find(|claim| claim.license == place) {
                here.would_take += 1;
                if change.is_held_by(HoldCause::WaitingForSeat) {
                    let (identity, label, order) = (
                        change.identity.clone(),
                        change.label.clone(),
                        claim.order.clone(),
                    );
                    here.waiting.push(SeatWaiter {
                        identity,
                        label,
                        order,
                    });
                }
            }
        }
        here.waiting.sort_by(|a, b| {
            in_line(&a.order, &b.order)
                .then_with(|| (&a.label, &a.identity).cmp(&(&b.label, &b.identity)))
        });
        // Several changes of one account may each free its seat: it is one seat.
        let mut after: FxHashMap<AccountId, Attributes> = FxHashMap::default();
        let mut gone: std::collections::BTreeSet<AccountId> = std::collections::BTreeSet::new();
        let theirs = outcome
            .changes
            .iter()
            .filter(|change| change.system == license.system && change.object == license.kind);
        for (id, change) in theirs.filter_map(|change| Some((change.account?, change))) {
            let Some(account) = accounts
                .get(&id)
                .filter(|account| license.consumes_seat(account))
            else {
                continue;
            };
            if change.kind == crate::states::ChangeKind::Delete {
                gone.insert(id);
                continue;
            }
            let attributes = after
                .entry(id)
                .or_insert_with(|| account.attributes.clone());
            change
                .values
                .iter()
                .for_each(|value| attributes.set(value.attribute.as_str(), value.after.clone()));
        }
        gone.extend(
            after
                .into_iter()
                .filter(|(_, attributes)| !license.taken_by(attributes))
                .map(|(id, _)| id),
        );
        here.would_free = gone.len();
    }
    all
}
