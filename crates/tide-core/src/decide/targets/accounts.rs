//! The decision about one account: created, kept in sync, or left when its identity leaves.

use super::super::people::Person;
use super::super::references::{self, ReferenceWaits};
use super::super::{Change, ChangeKind, Outcome, Verdict, fingerprint};
use super::{AccountDecision, TargetDecision, fold_value};
use crate::compare::{self, ValueChange};
use crate::compose::{self, DesiredAccount};
use crate::decide::licenses;
use crate::model::{Account, PendingPassword, Population};
use crate::reasons::{AccountName, HoldCause, Reason, ReasonKind, ReasonNote};
use crate::rules::{OnDrift, OnOutOfScope, TypeRules};
use crate::states::ObjectType;
use crate::value::Value;
use std::collections::HashMap;

/// The fingerprint of a password hash, which changes with the hash in the other directory.
pub const PASSWORD_MARK: &str = "passwordMark";

/// Set with a password: require a change at the next sign-in. Each connector translates it.
pub const MUST_CHANGE: &str = "mustChange";

impl<'a> TargetDecision<'a> {
    /// Creates an account: none matches.
    pub(super) fn create_account(
        &mut self,
        person: &Person,
        outcome: &mut Outcome,
    ) -> AccountDecision {
        let there = |system: &String| {
            let mut theirs = person
                .linked
                .iter()
                .map(|&at| &self.population.accounts[at]);
            theirs.any(|account| account.system == *system && account.absent_since.is_none())
        };
        if let Some(first) = self.types.depends_on.iter().find(|system| !there(system)) {
            return AccountDecision::new(
                Verdict::OnHold,
                None,
                Reason::by(
                    ReasonKind::WaitingForAccount {
                        system: first.clone(),
                    },
                    &self.types.place,
                )
                .on_hold(HoldCause::WaitingForAccount),
            );
        }
        let mut desired = self.shape.desired_account(&person.attributes, None);
        let pointing = references::taken_out(&mut desired);
        if let Some(problem) = desired.problems.first() {
            return AccountDecision::new(
                Verdict::OnHold,
                None,
                problem.clone().on_hold(HoldCause::InvalidValue),
            );
        }
        if let Some((_, reason)) = self.conflicting_values(&desired, None).into_iter().next() {
            return AccountDecision::new(
                Verdict::OnHold,
                None,
                reason.on_hold(HoldCause::DuplicateValue),
            );
        }
        self.note_references(None, pointing);
        self.reserve_values(&desired, usize::MAX);
        let mut values: Vec<ValueChange> = desired
            .wanted
            .iter()
            .filter(|wanted| !wanted.values.is_empty())
            .map(|wanted| ValueChange {
                attribute: wanted.mapping.attribute.clone(),
                before: Vec::new(),
                after: wanted.values.clone(),
                rule: wanted.mapping.place.clone(),
                later: Vec::new(),
            })
            .collect();
        if let (true, Some(state)) = (
            person.access_suspended,
            self.schema
                .and_then(|schema| schema.state_attribute.as_deref()),
        ) {
            take_value(&mut values, Some(state));
            values.push(self.disabled_state(state, Vec::new()));
        }
        let reason = Reason::by(self.creation_reason(person), &self.types.place)
            .with_notes(ReasonNote::missing(&desired.missed));
        self.push_change(
            person,
            None,
            ChangeKind::Create,
            values,
            reason.clone(),
            outcome,
        );
        AccountDecision::new(Verdict::Create, None, reason)
    }

    /// Why an account is created.
    fn creation_reason(&self, person: &Person) -> ReasonKind {
        let before = person
            .linked
            .iter()
            .map(|&at| &self.population.accounts[at])
            .find(|account| account.system == self.system);
        let system = self.system.to_owned();
        let Some(before) = before else {
            return ReasonKind::NoAccountYet { system };
        };
        let account = before.name.clone();
        let is_ours = self
            .population
            .write_history
            .get(&before.id)
            .is_some_and(|acts| acts.deleted.is_some());
        if is_ours {
            ReasonKind::RecreatedAfterDeparture { account }
        } else {
            ReasonKind::RecreatedAfterDeletion { account, system }
        }
    }

    /// Keeps an existing account in sync.
    pub(super) fn keep_in_sync(
        &mut self,
        person: &Person,
        at: usize,
        base: Verdict,
        outcome: &mut Outcome,
    ) -> AccountDecision {
        let account = &self.population.accounts[at];
        if let Some(fault) = &account.fault {
            let kind = ReasonKind::InvalidRecord {
                fault: fault.to_string(),
                system: self.system.to_owned(),
            };
            let reason = Reason::new(kind).on_hold(HoldCause::InvalidValue);
            return AccountDecision::new(Verdict::OnHold, Some(at), reason);
        }
        let mut desired = self
            .shape
            .desired_account(&person.attributes, Some(account));
        let pointing = references::taken_out(&mut desired);
        if let Some(problem) = desired.problems.first() {
            return AccountDecision::new(
                Verdict::OnHold,
                Some(at),
                problem.clone().on_hold(HoldCause::InvalidValue),
            );
        }
        let taken = self.conflicting_values(&desired, Some(at));
        desired.wanted.retain(|wanted| {
            !taken
                .iter()
                .any(|(other, _)| other.mapping.attribute == wanted.mapping.attribute)
        });
        self.note_references(Some(at), pointing);
        self.reserve_values(&desired, at);
        let mut rest = compare::find_differences(&desired, account, self.population);
        self.by_stage(person, account, &mut rest);
        self.back_again(account, &person.attributes, &mut rest);
        let by_hand = self.by_hand(account, &mut rest);
        let before = outcome.changes.len();
        let mut done = Vec::new();
        for (kind, values) in self.by_kind(rest) {
            let first = &values[0];
            let reason = self.change_reason(person, kind, &values, first);
            let reason = Reason::by(reason, &first.rule);
            self.push_change(person, Some(at), kind, values, reason, outcome);
            done.push(match kind {
                ChangeKind::Disable => Verdict::Disable,
                ChangeKind::Enable => Verdict::Enable,
                ChangeKind::Rename => Verdict::Rename,
                _ => Verdict::Update,
            });
        }
        self.push_password(person, at, outcome, account, &mut done);
        self.push_copied_password(person, at, outcome, account, &mut done);
        self.push_external(person, at, outcome, by_hand, &mut done);
        // A value that another object holds keeps back no other.
        for (wanted, reason) in taken {
            if self.hold_taken(person, at, wanted, &reason, outcome) {
                done.push(Verdict::OnHold);
            }
        }
        let (verdict, reason) =
            self.keep_verdict(base, &done, outcome.changes.get(before), &desired.missed);
        AccountDecision::new(verdict, Some(at), reason)
    }

    /// Adds a value that another object holds as a change of its own, on hold. Returns whether the
    /// account differs from it.
    fn hold_taken(
        &self,
        person: &Person,
        at: usize,
        wanted: compose::DesiredValue<'a>,
        reason: &Reason,
        outcome: &mut Outcome,
    ) -> bool {
        let account = &self.population.accounts[at];
        let relation = compare::relation_to_account(&wanted, account, self.population);
        if relation != compare::Relation::Differs {
            return false;
        }
        let apart = DesiredAccount {
            wanted: vec![wanted],
            ..DesiredAccount::default()
        };
        let differences = compare::find_differences(&apart, account, self.population);
        for (kind, values) in self.by_kind(differences) {
            let place = outcome.changes.len();
            self.push_change(person, Some(at), kind, values, reason.clone(), outcome);
            outcome.changes[place]
                .hold
                .get_or_insert(reason.clone().on_hold(HoldCause::DuplicateValue));
        }
        true
    }

    /// Why values of an account change.
    fn change_reason(
        &self,
        person: &Person,
        kind: ChangeKind,
        values: &[ValueChange],
        first: &ValueChange,
    ) -> ReasonKind {
        let attribute = first.attribute.clone();
        match (kind, &person.life) {
            (ChangeKind::Disable | ChangeKind::Enable, Some(life))
                if first.rule == self.types.place =>
            {
                (*life.kind).clone()
            }
            (ChangeKind::Disable | ChangeKind::Enable, _) => ReasonKind::StateDiffers {
                attribute,
                value: crate::value::format_values(&first.after),
            },
            (ChangeKind::Rename, _) => ReasonKind::NameFollows { attribute },
            _ => ReasonKind::ValuesDiffer {
                attributes: attribute_names(values),
            },
        }
    }

    /// Adds a password that was set for all accounts of the person.
    fn push_password(
        &mut self,
        person: &Person,
        at: usize,
        outcome: &mut Outcome,
        account: &Account,
        done: &mut Vec<Verdict>,
    ) {
        if let Some((set, values)) = self.password_set(person, account) {
            let kind = match set.must_change {
                true => ReasonKind::PasswordSetToChange,
                false => ReasonKind::PasswordSet,
            };
            let reason = Reason::by(kind, &self.types.place);
            let place = outcome.changes.len();
            self.push_change(
                person,
                Some(at),
                ChangeKind::Password,
                values,
                reason,
                outcome,
            );
            // Another password is another change, though nothing of it can be seen.
            let change = &mut outcome.changes[place];
            change.fingerprint = fingerprint(&[&change.fingerprint, &set.id.to_string()], &[]);
            done.push(Verdict::Update);
        }
    }

    /// Adds a password hash that is copied from another system.
    fn push_copied_password(
        &mut self,
        person: &Person,
        at: usize,
        outcome: &mut Outcome,
        account: &Account,
        done: &mut Vec<Verdict>,
    ) {
        if let Some((mark, values)) = self.password_carried(person, account) {
            let from = self
                .types
                .password
                .as_ref()
                .and_then(|rules| rules.copy_hash_from.as_deref())
                .unwrap_or_default();
            let reason = Reason::by(
                ReasonKind::PasswordCopied {
                    system: from.to_owned(),
                },
                &self.types.place,
            );
            let place = outcome.changes.len();
            self.push_change(
                person,
                Some(at),
                ChangeKind::Password,
                values,
                reason,
                outcome,
            );
            let change = &mut outcome.changes[place];
            change.fingerprint = fingerprint(&[&change.fingerprint, &mark], &[]);
            done.push(Verdict::Update);
        }
    }

    /// Adds the values that others changed, according to the drift rules.
    fn push_external(
        &mut self,
        person: &Person,
        at: usize,
        outcome: &mut Outcome,
        by_hand: Vec<ValueChange>,
        done: &mut Vec<Verdict>,
    ) {
        for (kind, values) in self.by_kind(by_hand) {
            let what = ReasonKind::ExternalChange {
                attributes: attribute_names(&values),
                system: self.system.to_owned(),
            };
            let reason = Reason::by(what, &values[0].rule);
            let at_change = outcome.changes.len();
            self.push_change(person, Some(at), kind, values, reason, outcome);
            let change = &mut outcome.changes[at_change];
            change.hold = reported(self.population, self.types, change);
            done.push(if change.hold.is_some() {
                Verdict::OnHold
            } else {
                Verdict::Update
            });
        }
    }

    /// The verdict about an existing account, with the reason of the change that gave it.
    fn keep_verdict(
        &self,
        base: Verdict,
        done: &[Verdict],
        first: Option<&Change>,
        missing: &[String],
    ) -> (Verdict, Reason) {
        let verdict = match (base, done.first()) {
            (Verdict::Join, _) => Verdict::Join,
            (_, Some(first)) => *first,
            (_, None) => Verdict::InSync,
        };
        // The reason belongs to the change that gave the verdict, not to one that came after it.
        let reason = match first {
            Some(change) if verdict == Verdict::OnHold => {
                change.hold.clone().unwrap_or_else(|| change.reason.clone())
            }
            Some(change) => change.reason.clone(),
            None => Reason::by(ReasonKind::InSync, &self.types.place)
                .with_notes(ReasonNote::missing(missing)),
        };
        (verdict, reason)
    }

    /// A password that was set elsewhere and is not stored in this account yet. The password stays
    /// sealed.
    fn password_set(
        &self,
        person: &Person,
        account: &Account,
    ) -> Option<(&'a PendingPassword, Vec<ValueChange>)> {
        let rules = self
            .types
            .password
            .as_ref()
            .filter(|rules| rules.sync && !person.access_suspended)?;
        let theirs = |set: &&PendingPassword| match (&set.identity, set.account) {
            (Some(identity), _) => *identity == person.id,
            (None, Some(id)) => person
                .linked
                .iter()
                .any(|&at| self.population.accounts[at].id == id),
            (None, None) => false,
        };
        let set = self.population.password_sets.iter().rfind(theirs)?;
        let done = self
            .population
            .write_history
            .get(&account.id)
            .and_then(|acts| acts.password);
        if set.account == Some(account.id) || done.is_some_and(|done| done >= set.created_at) {
            return None;
        }
        let mut values = vec![self.put(&rules.attribute, Vec::new())];
        if set.must_change {
            values.push(self.put(MUST_CHANGE, vec![Value::Bool(true)]));
        }
        Some((set, values))
    }

    /// A value that is written without what is there being known.
    fn put(&self, attribute: &str, after: Vec<Value>) -> ValueChange {
        ValueChange {
            attribute: attribute.to_owned(),
            after,
            rule: self.types.place.clone(),
            ..ValueChange::default()
        }
    }

    /// A password hash of another directory that was not copied yet.
    fn password_carried(
        &self,
        person: &Person,
        account: &Account,
    ) -> Option<(String, Vec<ValueChange>)> {
        let rules = self.types.password.as_ref()?;
        let from = rules.copy_hash_from.as_ref()?;
        let mut sources = person
            .sources
            .iter()
            .map(|&at| &self.population.accounts[at]);
        let mark = sources
            .find(|source| source.system == *from)?
            .attributes
            .get(PASSWORD_MARK)
            .first()?
            .clone();
        let text = mark.to_string();
        if self.population.password_hash_marks.get(&account.id) == Some(&text) {
            return None;
        }
        Some((
            text,
            vec![
                self.put(&rules.attribute, Vec::new()),
                self.put(PASSWORD_MARK, vec![mark]),
            ],
        ))
    }

    /// Differing values as changes: the state, the name, and all others together.
    fn by_kind(&self, mut values: Vec<ValueChange>) -> Vec<(ChangeKind, Vec<ValueChange>)> {
        let state = take_value(
            &mut values,
            self.schema
                .and_then(|schema| schema.state_attribute.as_deref()),
        );
        let named = take_value(
            &mut values,
            self.schema
                .and_then(|schema| schema.name_attribute.as_deref()),
        );
        let state = state.map(|state| {
            let kind = if state.after == [Value::Bool(false)] {
                ChangeKind::Disable
            } else {
                ChangeKind::Enable
            };
            (kind, vec![state])
        });
        let named = named.map(|named| (ChangeKind::Rename, vec![named]));
        let others = (!values.is_empty()).then_some((ChangeKind::Update, values));
        [state, named, others].into_iter().flatten().collect()
    }

    /// A person who is absent or not here yet has a disabled account; where no mapping sets the
    /// state, the stage does.
    fn by_stage(&self, person: &Person, account: &Account, rest: &mut Vec<ValueChange>) {
        let Some(state) = self
            .schema
            .and_then(|schema| schema.state_attribute.as_deref())
        else {
            return;
        };
        if person.life.is_none() {
            return;
        }
        let before = account.attributes.get(state);
        if person.access_suspended {
            take_value(rest, Some(state));
            if before != [Value::Bool(false)] {
                rest.push(self.disabled_state(state, before.to_vec()));
            }
            return;
        }
        let populations = self
            .types
            .populations
            .iter()
            .flat_map(|population| &population.outbound);
        let mapped = self
            .types
            .outbound
            .iter()
            .chain(populations)
            .any(|mapping| mapping.attribute.eq_ignore_ascii_case(state));
        if !mapped && before == [Value::Bool(false)] {
            rest.push(ValueChange {
                after: vec![Value::Bool(true)],
                ..self.disabled_state(state, before.to_vec())
            });
        }
    }

    /// Removes values that others changed, where drift is only reported.
    fn by_hand(&self, account: &Account, rest: &mut Vec<ValueChange>) -> Vec<ValueChange> {
        if self.types.on_drift == OnDrift::Repair {
            return Vec::new();
        }
        let (by_hand, others) = std::mem::take(rest).into_iter().partition(|value| {
            compare::changed_there(
                self.population,
                account.id,
                self.schema.and_then(|schema| schema.get(&value.attribute)),
                value,
            )
        });
        *rest = others;
        by_hand
    }

    pub(super) fn disabled_state(&self, state: &str, before: Vec<Value>) -> ValueChange {
        let rule = self.types.place.clone();
        ValueChange {
            attribute: state.to_owned(),
            before,
            after: vec![Value::Bool(false)],
            rule,
            later: Vec::new(),
        }
    }

    /// The identity is out of scope: its account is disabled or kept, as the rule says.
    pub(super) fn step_out(
        &mut self,
        person: &Person,
        at: usize,
        reason: Reason,
        people: &[Person],
        outcome: &mut Outcome,
    ) -> AccountDecision {
        let account = &self.population.accounts[at];
        if person.out_reason.is_some()
            && !self.types.departure.is_empty()
            && account.fault.is_none()
        {
            return self.decide_leaver(person, at, reason, people, outcome);
        }
        let Some(state) = self
            .schema
            .and_then(|schema| schema.state_attribute.as_deref())
        else {
            return AccountDecision::new(Verdict::OutOfScope, Some(at), reason);
        };
        let before = account.attributes.get(state).to_vec();
        if self.types.on_out_of_scope == OnOutOfScope::Leave
            || before == [Value::Bool(false)]
            || account.fault.is_some()
        {
            return AccountDecision::new(Verdict::OutOfScope, Some(at), reason);
        }
        let value = self.disabled_state(state, before);
        self.push_change(
            person,
            Some(at),
            ChangeKind::Disable,
            vec![value],
            reason.clone(),
            outcome,
        );
        AccountDecision::new(Verdict::Disable, Some(at), reason)
    }

    pub(super) fn note_references(
        &mut self,
        at: Option<usize>,
        wanted: Vec<compose::DesiredValue<'a>>,
    ) {
        if !wanted.is_empty() {
            self.pointing.push(ReferenceWaits {
                person: self.place,
                at,
                wanted,
            });
        }
    }

    /// Values of an identity that must be unique in the target.
    fn wanted_unique_values<'d>(
        &self,
        desired: &'d DesiredAccount<'a>,
    ) -> Vec<&'d compose::DesiredValue<'a>> {
        // Most people have everything already.
        if desired.wanted.is_empty() {
            return Vec::new();
        }
        let unique: Vec<&str> = self
            .schema
            .iter()
            .flat_map(|schema| schema.unique_attributes())
            .collect();
        let is_unique = |wanted: &&compose::DesiredValue<'a>| {
            unique
                .iter()
                .any(|name| wanted.mapping.attribute.eq_ignore_ascii_case(name))
        };
        desired
            .wanted
            .iter()
            .filter(is_unique)
            .filter(|wanted| !wanted.values.is_empty())
            .collect()
    }

    /// The holders of values that must be unique in the target across types.
    fn unique_values(&mut self) -> &mut HashMap<(String, String), usize> {
        let (system, accounts, schema) = (self.system, &self.population.accounts, self.schema);
        self.unique_values.get_or_insert_with(|| {
            let unique: Vec<String> = schema
                .iter()
                .flat_map(|schema| schema.unique_attributes())
                .map(str::to_lowercase)
                .collect();
            let there = accounts
                .iter()
                .enumerate()
                .filter(|(_, account)| account.system == system && account.absent_since.is_none());
            there
                .flat_map(|(at, account)| unique.iter().map(move |name| (at, account, name)))
                .flat_map(|(at, account, name)| {
                    account
                        .attributes
                        .get(name)
                        .iter()
                        .map(move |value| ((name.clone(), fold_value(value)), at))
                })
                .collect()
        })
    }

    /// Values that another object has: the target would refuse them, so they are held beforehand.
    fn conflicting_values(
        &mut self,
        desired: &DesiredAccount<'a>,
        own: Option<usize>,
    ) -> Vec<(compose::DesiredValue<'a>, Reason)> {
        let mut taken = Vec::new();
        for wanted in self.wanted_unique_values(desired) {
            let value = &wanted.values[0];
            let Some(&holder) = self.unique_values().get(&unique_key(wanted)) else {
                continue;
            };
            if Some(holder) == own {
                continue;
            }
            let holder = self.population.accounts.get(holder).map(|account| {
                Box::new(AccountName {
                    name: account.name.clone(),
                    key: account.key.clone(),
                })
            });
            let kind = ReasonKind::ValueTaken {
                attribute: wanted.mapping.attribute.clone(),
                value: value.to_string(),
                system: self.system.to_owned(),
                holder,
            };
            taken.push((wanted.clone(), Reason::by(kind, &wanted.mapping.place)));
        }
        taken
    }

    fn reserve_values(&mut self, desired: &DesiredAccount<'a>, at: usize) {
        for wanted in self.wanted_unique_values(desired) {
            self.unique_values().entry(unique_key(wanted)).or_insert(at);
        }
    }

    pub(super) fn push_change(
        &self,
        person: &Person,
        at: Option<usize>,
        kind: ChangeKind,
        values: Vec<ValueChange>,
        reason: Reason,
        outcome: &mut Outcome,
    ) {
        let account = at.map(|at| &self.population.accounts[at]);
        let key = account.map_or("", |account| account.key.as_str());
        let fingerprint = fingerprint(
            &[
                self.system,
                self.kind.as_str(),
                kind.as_str(),
                &person.id,
                key,
            ],
            &values,
        );
        let hold = self.system_hold();
        let claims = licenses::claimed_seats(
            self.rules,
            self.system,
            self.kind,
            account,
            &values,
            &person.attributes,
        );
        outcome.changes.push(Change {
            system: self.system.to_owned(),
            object: self.kind,
            identity: person.id.clone(),
            account: account.map(|account| account.id),
            label: person.label.clone(),
            kind,
            values,
            reason,
            hold,
            approval: None,
            claims,
            step: 0,
            fingerprint,
        });
    }

    /// The reason why nothing is sent to the system; `None` if it may be written.
    pub(super) fn system_hold(&self) -> Option<Reason> {
        self.system_hold_of(self.kind)
    }

    /// The same, of accounts of another type there.
    pub(super) fn system_hold_of(&self, kind: ObjectType) -> Option<Reason> {
        let system = self.system.to_owned();
        if !self.facts.writable.contains(&kind) {
            let reason = ReasonKind::ReadOnly {
                system,
                object: kind,
            };
            Some(Reason::new(reason).on_hold(HoldCause::NotArmed))
        } else if self.facts.disarmed {
            Some(Reason::new(ReasonKind::NotArmed { system }).on_hold(HoldCause::NotArmed))
        } else if self.facts.paused {
            Some(Reason::new(ReasonKind::Paused { system }).on_hold(HoldCause::Paused))
        } else {
            let hold = self.facts.write_hold.clone()?;
            Some(Reason::new(hold).on_hold(HoldCause::Paused))
        }
    }
}

fn attribute_names(values: &[ValueChange]) -> Vec<String> {
    values.iter().map(|value| value.attribute.clone()).collect()
}

/// Why a value that others changed in the system is not repaired: the rule says so, until an
/// operator chooses repair.
pub(in crate::decide) fn reported(
    population: &Population,
    types: &TypeRules,
    change: &Change,
) -> Option<Reason> {
    if change.hold.is_some()
        || population
            .guard_overrides
            .get(&change.fingerprint)
            .is_some_and(|said| said.release)
    {
        return change.hold.clone();
    }
    let system = change.system.clone();
    let reason = Reason::by(ReasonKind::DriftReported { system }, &types.place);
    Some(reason.on_hold(HoldCause::ExternalChange))
}

fn unique_key(wanted: &compose::DesiredValue<'_>) -> (String, String) {
    (
        wanted.mapping.attribute.to_lowercase(),
        wanted.values.first().map(fold_value).unwrap_or_default(),
    )
}

fn take_value(values: &mut Vec<ValueChange>, attribute: Option<&str>) -> Option<ValueChange> {
    let attribute = attribute?;
    let at = values
        .iter()
        .position(|value| value.attribute.eq_ignore_ascii_case(attribute))?;
    Some(values.remove(at))
}
