//! References in targets. They are decided last, when all accounts are known. A reference to an
//! account that is yet to be created is set by a second change, once it exists.

use super::people::Person;
use super::{Change, ChangeKind, Outcome, Verdict, fingerprint};
use crate::compare::{self, PendingReference, ValueChange};
use crate::compose::{DesiredAccount, DesiredValue};
use crate::model::{Account, AccountId, Population};
use crate::reasons::{HoldCause, Reason, ReasonKind};
use crate::references::Accounts;
use crate::rules::{Mapping, OnDrift, TypeRules};
use crate::schema::{Schema, ValueKind};
use crate::states::ObjectType;
use crate::value::Value;
use std::collections::{HashMap, HashSet};

/// The references that a person's account should hold.
pub(super) struct ReferenceWaits<'r> {
    /// The person, as an index into the list.
    pub person: usize,
    /// The account, if there is one.
    pub at: Option<usize>,
    /// The desired values, by ids of identities.
    pub wanted: Vec<DesiredValue<'r>>,
}

fn is_reference(wanted: &DesiredValue<'_>) -> bool {
    wanted
        .def
        .is_some_and(|def| def.kind == ValueKind::Reference)
}

/// The references among what a target should hold.
pub(crate) fn references_of<'d, 'r>(
    desired: &'d mut DesiredAccount<'r>,
) -> impl Iterator<Item = &'d mut DesiredValue<'r>> {
    desired
        .wanted
        .iter_mut()
        .filter(|wanted| is_reference(wanted))
}

/// Removes the references from a desired account, and returns them.
pub(super) fn taken_out<'r>(desired: &mut DesiredAccount<'r>) -> Vec<DesiredValue<'r>> {
    if !desired.wanted.iter().any(is_reference) {
        return Vec::new();
    }
    let (pointing, rest) = std::mem::take(&mut desired.wanted)
        .into_iter()
        .partition(is_reference);
    desired.wanted = rest;
    pointing
}

/// The target that references are written for.
pub(super) struct ReferenceContext<'a> {
    pub population: &'a Population,
    pub kind: ObjectType,
    pub system: &'a str,
    pub schema: Option<&'a Schema>,
    pub types: &'a TypeRules,
    /// Identities that leave all groups here by their departure.
    pub revoked: &'a HashSet<String>,
}

/// Writes the references of all accounts of one target into the changes that were decided.
pub(super) fn decide_references(
    here: &ReferenceContext<'_>,
    pointing: Vec<ReferenceWaits<'_>>,
    people: &[Person],
    hold: &dyn Fn() -> Option<Reason>,
    outcome: &mut Outcome,
) {
    if pointing.is_empty() {
        return;
    }
    let accounts = here.accounts(people, outcome);
    let labels = labels_of(people, outcome);
    let creating: HashSet<String> = outcome
        .changes
        .iter()
        .filter(|change| change.system == here.system && change.kind == ChangeKind::Create)
        .map(|change| change.identity.clone())
        .collect();
    let places = DecidedPlaces::of(here, outcome);
    for mut one in pointing {
        let person = &people[one.person];
        for wanted in &mut one.wanted {
            here.write_values(wanted, people, &accounts, &creating);
        }
        let (before, later): (Vec<ValueChange>, Vec<ValueChange>) =
            pending_values(&one, here, &labels)
                .into_iter()
                .partition(|value| account_first(&one, value));
        let account = one.at.map(|at| &here.population.accounts[at]);
        let now = values_to_write(here, account, one.wanted, before);
        let writer = ReferenceWriter {
            here,
            person,
            account,
            hold,
        };
        let line = places.lines.get(&person.id).copied();
        let (external, now) = writer.split_external(now);
        writer.report_external(external, line, outcome);
        writer.write(now, &places, line, outcome);
        writer.write_later(later, outcome);
    }
}

/// Each linked account with its identity: the stored links, then those of this decision, which
/// replace them in a map.
pub(crate) fn all_links<'a>(
    population: &'a Population,
    outcome: &'a Outcome,
) -> impl Iterator<Item = (AccountId, &'a str)> {
    let stored = population
        .links
        .iter()
        .map(|link| (link.account, link.identity.as_str()));
    let decided = outcome
        .links
        .iter()
        .map(|link| (link.account, link.identity.as_str()));
    stored.chain(decided)
}

impl ReferenceContext<'_> {
    /// The accounts that references can name, with the identity of each.
    fn accounts<'a>(&'a self, people: &'a [Person], outcome: &'a Outcome) -> Accounts {
        let links = all_links(self.population, outcome);
        let known = self
            .population
            .identities
            .iter()
            .map(|identity| (identity.id.as_str(), identity.kind));
        let decided = outcome
            .identities
            .iter()
            .map(|(identity, _)| (identity.id.as_str(), identity.kind));
        let these = people.iter().map(|person| (person.id.as_str(), self.kind));
        Accounts::new(
            self.population,
            self.system,
            links,
            known.chain(decided).chain(these),
        )
    }

    /// Replaces the identities of a value by what the target stores for them.
    fn write_values(
        &self,
        wanted: &mut DesiredValue<'_>,
        people: &[Person],
        accounts: &Accounts,
        creating: &HashSet<String>,
    ) {
        if self.kind == ObjectType::Group {
            wanted
                .values
                .retain(|value| value.as_text().is_none_or(|id| !self.revoked.contains(id)));
        }
        if wanted.mapping.flatten {
            wanted.values = flatten_groups(&wanted.values, wanted.mapping, people);
        }
        let by_name = self.schema.is_some_and(|schema| schema.refers_by_name);
        let written = accounts.write(&wanted.mapping.attribute, &wanted.values, by_name);
        wanted.values = written.values;
        // Accounts that no rule creates are not waited for.
        wanted.pending_references = written
            .missing
            .into_iter()
            .filter(|id| creating.contains(id))
            .collect();
    }
}

/// The label of each identity.
fn labels_of(people: &[Person], outcome: &Outcome) -> HashMap<String, String> {
    let decided = outcome
        .identities
        .iter()
        .map(|(identity, label)| (identity.id.clone(), label.clone()));
    people
        .iter()
        .map(|person| (person.id.clone(), person.label.clone()))
        .chain(decided)
        .collect()
}

/// Places of the changes and the outcomes of each person, so that lists are not searched for each of
/// them.
struct DecidedPlaces {
    changes: HashMap<(String, ChangeKind), usize>,
    /// The outcomes that are in sync.
    lines: HashMap<String, usize>,
}

impl DecidedPlaces {
    fn of(here: &ReferenceContext<'_>, outcome: &Outcome) -> DecidedPlaces {
        let changes = outcome
            .changes
            .iter()
            .enumerate()
            .filter(|(_, change)| change.system == here.system && change.object == here.kind)
            .map(|(at, change)| ((change.identity.clone(), change.kind), at))
            .collect();
        let is_in_sync = |line: &super::Decided| {
            line.system == here.system
                && line.object == here.kind
                && line.verdict == Verdict::InSync
        };
        let lines = outcome
            .decided
            .iter()
            .enumerate()
            .filter(|(_, line)| is_in_sync(line))
            .filter_map(|(at, line)| Some((line.identity.clone()?, at)))
            .collect();
        DecidedPlaces { changes, lines }
    }
}

/// The values that differ, or all values of an account that is created. `before` holds references
/// that the target requires: they are part of the creation, and wait with it.
fn values_to_write(
    here: &ReferenceContext<'_>,
    account: Option<&Account>,
    wanted: Vec<DesiredValue<'_>>,
    before: Vec<ValueChange>,
) -> Vec<ValueChange> {
    if let Some(account) = account {
        let desired = DesiredAccount {
            wanted,
            ..DesiredAccount::default()
        };
        return compare::find_differences(&desired, account, here.population);
    }
    let mut now = set(&wanted);
    now.retain(|value| {
        !before
            .iter()
            .any(|first| first.attribute == value.attribute)
    });
    now.extend(before);
    now
}

/// Adds the changes of one person's references.
struct ReferenceWriter<'w> {
    here: &'w ReferenceContext<'w>,
    person: &'w Person,
    account: Option<&'w Account>,
    hold: &'w dyn Fn() -> Option<Reason>,
}

impl ReferenceWriter<'_> {
    fn fingerprint(&self, kind: ChangeKind, values: &[ValueChange]) -> String {
        let key = self.account.map_or("", |account| account.key.as_str());
        let parts = [
            self.here.system,
            self.here.kind.as_str(),
            kind.as_str(),
            &self.person.id,
            key,
        ];
        fingerprint(&parts, values)
    }

    fn push(
        &self,
        kind: ChangeKind,
        values: Vec<ValueChange>,
        reason: Reason,
        outcome: &mut Outcome,
    ) {
        outcome.changes.push(Change {
            system: self.here.system.to_owned(),
            object: self.here.kind,
            identity: self.person.id.clone(),
            account: self.account.map(|account| account.id),
            label: self.person.label.clone(),
            kind,
            fingerprint: self.fingerprint(kind, &values),
            values,
            reason,
            hold: (self.hold)(),
            approval: None,
            claims: Vec::new(),
            step: 0,
        });
    }

    /// Separates the values that others changed, where the rules only report drift.
    fn split_external(&self, now: Vec<ValueChange>) -> (Vec<ValueChange>, Vec<ValueChange>) {
        let here = self.here;
        let Some(account) = self
            .account
            .filter(|_| here.types.on_drift == OnDrift::Report)
        else {
            return (Vec::new(), now);
        };
        now.into_iter().partition(|value| {
            let def = here.schema.and_then(|schema| schema.get(&value.attribute));
            compare::changed_there(here.population, account.id, def, value)
        })
    }

    /// Adds the values that others changed, and shows them in the outcome of the account.
    fn report_external(
        &self,
        external: Vec<ValueChange>,
        line: Option<usize>,
        outcome: &mut Outcome,
    ) {
        let Some(first) = external.first() else {
            return;
        };
        let here = self.here;
        let kind = ReasonKind::ExternalChange {
            attributes: vec![first.attribute.clone()],
            system: here.system.to_owned(),
        };
        let reason = Reason::by(kind, &first.rule);
        let place = outcome.changes.len();
        self.push(ChangeKind::Update, external, reason.clone(), outcome);
        let change = &mut outcome.changes[place];
        change.hold = super::targets::reported(here.population, here.types, change);
        if let Some(at) = line {
            let line = &mut outcome.decided[at];
            line.verdict = if change.hold.is_some() {
                Verdict::OnHold
            } else {
                Verdict::Update
            };
            line.reason = change.hold.clone().unwrap_or(reason);
        }
    }

    /// Adds the values to the person's change of this account, or as a change of their own. The
    /// account is no longer in sync, and its outcome shows that.
    fn write(
        &self,
        now: Vec<ValueChange>,
        places: &DecidedPlaces,
        line: Option<usize>,
        outcome: &mut Outcome,
    ) {
        let Some(first) = now.first() else {
            return;
        };
        let attribute = first.attribute.clone();
        let reason = Reason::by(ReasonKind::ReferenceChanges { attribute }, &first.rule);
        let kind = if self.account.is_none() {
            ChangeKind::Create
        } else {
            ChangeKind::Update
        };
        match places.changes.get(&(self.person.id.clone(), kind)) {
            Some(&at) => {
                let change = &mut outcome.changes[at];
                change.values.extend(now);
                change.fingerprint = self.fingerprint(kind, &change.values);
            }
            None => self.push(ChangeKind::Update, now, reason.clone(), outcome),
        }
        if let Some(at) = line {
            outcome.decided[at].verdict = Verdict::Update;
            outcome.decided[at].reason = reason;
        }
    }

    /// Adds the references that wait for an account of another identity.
    fn write_later(&self, later: Vec<ValueChange>, outcome: &mut Outcome) {
        let Some(first) = later.first() else {
            return;
        };
        let people = later.iter().flat_map(|value| &value.later);
        let kind = ReasonKind::ReferenceWaits {
            attribute: first.attribute.clone(),
            people: people.map(|later| later.label.clone()).take(3).collect(),
        };
        let reason = Reason::by(kind, &first.rule);
        self.push(ChangeKind::Update, later, reason, outcome);
    }
}

/// Whether the target requires that the referenced account exists before this account is created.
fn account_first(one: &ReferenceWaits<'_>, value: &ValueChange) -> bool {
    one.at.is_none()
        && one.wanted.iter().any(|wanted| {
            wanted.mapping.wait_for_target && wanted.mapping.attribute == value.attribute
        })
}

/// Replaces groups among the members by their members, at any depth.
fn flatten_groups(values: &[Value], mapping: &Mapping, people: &[Person]) -> Vec<Value> {
    let Some((_, attribute)) = mapping.program.reads().first() else {
        return values.to_vec();
    };
    let (mut all, mut seen): (Vec<Value>, HashSet<String>) = (Vec::new(), HashSet::new());
    let mut left: Vec<Value> = values.iter().rev().cloned().collect();
    while let Some(value) = left.pop() {
        let id = value.to_string();
        if !seen.insert(id.clone()) {
            continue;
        }
        match people.binary_search_by(|group| group.id.as_str().cmp(id.as_str())) {
            Ok(place) => left.extend(
                people[place]
                    .attributes
                    .get(attribute)
                    .iter()
                    .rev()
                    .cloned(),
            ),
            Err(_) => all.push(value),
        }
    }
    all
}

fn set(wanted: &[DesiredValue<'_>]) -> Vec<ValueChange> {
    let value = |wanted: &DesiredValue<'_>| ValueChange {
        attribute: wanted.mapping.attribute.clone(),
        after: wanted.values.clone(),
        rule: wanted.mapping.place.clone(),
        ..ValueChange::default()
    };
    wanted
        .iter()
        .filter(|wanted| !wanted.values.is_empty())
        .map(value)
        .collect()
}

/// The values that wait for accounts. `before` of each is what the first change leaves.
fn pending_values(
    one: &ReferenceWaits<'_>,
    here: &ReferenceContext<'_>,
    labels: &HashMap<String, String>,
) -> Vec<ValueChange> {
    let later = |wanted: &DesiredValue<'_>| {
        let there = one.at.map_or(&[][..], |at| {
            here.population.accounts[at]
                .attributes
                .get(&wanted.mapping.attribute)
        });
        let def = wanted.def;
        let many = def.is_some_and(|def| def.multi_valued);
        // One value that is replaced is still there; of a list, what was added is there too.
        let before: Vec<Value> = match (many, wanted.mapping.merge) {
            (false, _) => there.to_vec(),
            (true, false) => wanted.values.clone(),
            (true, true) => compare::target_values(wanted, def, there, &[]),
        };
        let after = if many { before.clone() } else { Vec::new() };
        let named = |id: &String| PendingReference {
            identity: id.clone(),
            label: labels.get(id).cloned().unwrap_or_else(|| id.clone()),
        };
        ValueChange {
            attribute: wanted.mapping.attribute.clone(),
            before,
            after,
            rule: wanted.mapping.place.clone(),
            later: wanted.pending_references.iter().map(named).collect(),
        }
    };
    one.wanted
        .iter()
        .filter(|wanted| !wanted.pending_references.is_empty())
        .map(later)
        .collect()
}

/// Drops waits for accounts that a guard or an operator keeps from being created.
pub(super) fn drop_hopeless_waits(outcome: &mut Outcome) {
    let made = loop {
        let made: HashSet<(String, String)> = outcome
            .changes
            .iter()
            .filter(|change| change.kind == ChangeKind::Create && change.hold.is_none())
            .map(|change| (change.system.clone(), change.identity.clone()))
            .collect();
        // A held account that the target requires first holds the accounts that refer to it, and
        // so on.
        let mut more = false;
        for change in outcome
            .changes
            .iter_mut()
            .filter(|change| change.kind == ChangeKind::Create && change.hold.is_none())
        {
            let later = || {
                change
                    .values
                    .iter()
                    .flat_map(|value| value.later.iter().map(move |later| (value, later)))
            };
            let missing = later().find(|(_, later)| {
                !made.contains(&(change.system.clone(), later.identity.clone()))
            });
            if let Some((value, later)) = missing {
                let kind = ReasonKind::ReferenceBlocked {
                    system: change.system.clone(),
                    person: later.label.clone(),
                    attribute: value.attribute.clone(),
                };
                change.hold =
                    Some(Reason::by(kind, &value.rule).on_hold(HoldCause::WaitingForAccount));
                more = true;
            }
        }
        if !more {
            break made;
        }
    };
    outcome.changes.retain_mut(|change| {
        let waits = change.values.iter().any(|value| !value.later.is_empty());
        if !waits || change.hold.is_some() || change.kind == ChangeKind::Create {
            return true;
        }
        // A cycle is broken: an account that waits for itself is created first.
        let own = change.account.is_some()
            || made.contains(&(change.system.clone(), change.identity.clone()));
        for value in &mut change.values {
            value
                .later
                .retain(|later| made.contains(&(change.system.clone(), later.identity.clone())));
        }
        change.values.retain(|value| !value.later.is_empty());
        own && !change.values.is_empty()
    });
}
