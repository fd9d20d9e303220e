//! Licenses: counted seats of a system. Without a free seat, an identity waits in the order of the
//! rule, and continues automatically when a seat is freed.

use crate::compare::ValueChange;
use crate::decide::{Change, Outcome};
use crate::expr::EvalInputs;
use crate::model::{Account, AccountId, Population};
use crate::reasons::{HoldCause, Reason, ReasonKind};
use crate::rules::RuleSet;
use crate::rules::licenses::License;
use crate::states::{ChangeKind, ObjectType};
use crate::value::{Attributes, Value};
use rustc_hash::FxHashMap;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

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

    /// Whether these changes of an account free its seat.
    fn is_freed(&self, account: &Account, changes: &[&Change]) -> bool {
        if !self.consumes_seat(account) {
            return false;
        }
        let mut after = account.attributes.clone();
        for value in changes.iter().flat_map(|change| &change.values) {
            after.set(value.attribute.as_str(), value.after.clone());
        }
        changes
            .iter()
            .any(|change| change.kind == ChangeKind::Delete)
            || !self.taken_by(&after)
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

/// The position in a waiting list, as a text that sorts like it: numbers first, as numbers, then all
/// else as it is written; who has none comes last.
pub fn order_key(order: &str) -> String {
    match order.parse::<i64>() {
        Ok(number) => format!("0{:020}", i128::from(number) - i128::from(i64::MIN)),
        Err(_) if order.is_empty() => "2".to_owned(),
        Err(_) => format!("1{order}"),
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
        order_key(&one.order)
            .cmp(&order_key(&two.order))
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

/// What a change does to the seats of a license.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum SeatUse {
    /// It takes one.
    Takes,
    /// It gives one back.
    Frees,
}

/// A change, or several of one account, that take or free a seat.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SeatEffect {
    /// The license, as an index into the rule set's list.
    pub license: usize,
    /// The identity; empty for an account without one.
    pub identity: String,
    /// The account, if there is one.
    pub account: Option<AccountId>,
    /// The label of the person.
    pub label: String,
    /// Which of both.
    pub seat: SeatUse,
    /// By what those who wait are ordered.
    pub order: String,
}

/// The effects of a decision on seats, whatever holds its changes.
pub fn seat_effects(
    rules: &RuleSet,
    population: &Population,
    outcome: &Outcome,
) -> Vec<SeatEffect> {
    if rules.licenses.is_empty() {
        return Vec::new();
    }
    let effect = |license: usize, change: &Change, seat: SeatUse, order: &str| SeatEffect {
        license,
        identity: change.identity.clone(),
        account: change.account,
        label: change.label.clone(),
        seat,
        order: order.to_owned(),
    };
    let claims = outcome.changes.iter().flat_map(|change| {
        let claims = change.claims.iter();
        claims.map(move |claim| effect(claim.license, change, SeatUse::Takes, &claim.order))
    });
    let mut all: Vec<SeatEffect> = claims.collect();
    let accounts: FxHashMap<AccountId, &Account> = population
        .accounts
        .iter()
        .map(|account| (account.id, account))
        .collect();
    for (place, license) in rules.licenses.iter().enumerate() {
        let theirs = outcome
            .changes
            .iter()
            .filter(|change| change.system == license.system && change.object == license.kind);
        // Several changes of one account may each free its seat: it is one seat.
        let mut by_account: BTreeMap<AccountId, Vec<&Change>> = BTreeMap::new();
        for change in theirs {
            if let Some(id) = change.account {
                by_account.entry(id).or_default().push(change);
            }
        }
        let frees = by_account.iter().filter(|(id, changes)| {
            accounts
                .get(id)
                .is_some_and(|account| license.is_freed(account, changes))
        });
        all.extend(frees.map(|(_, changes)| effect(place, changes[0], SeatUse::Frees, "")));
    }
    all
}
