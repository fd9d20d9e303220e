//! The departure steps of a leaver's account, in the order of the rules.

use super::super::people::Person;
use super::super::{ChangeKind, Outcome, Verdict};
use super::{AccountDecision, TargetDecision};
use crate::compare::ValueChange;
use crate::equality::are_equal;
use crate::expr::{EvalInputs, ExprError, Program};
use crate::lifecycle::days_later;
use crate::model::{Account, Stage};
use crate::reasons::{HoldCause, Reason, ReasonKind, ReasonNote};
use crate::rules::RuleSet;
use crate::rules::lifecycle::{DepartureAct, DepartureStep};
use crate::schema::ValueKind;
use crate::states::ObjectType;
use crate::value::{Attributes, Value};
use jiff::Timestamp;
use std::collections::HashSet;
use tide_ldap::Dn;

/// Identities that leave all groups of a system by their departure.
pub(super) fn out_of_groups(
    rules: &RuleSet,
    system: &str,
    now: Timestamp,
    outcome: &Outcome,
) -> HashSet<String> {
    let revokes = |kind: ObjectType, since: Timestamp| {
        let steps = rules
            .of(system, kind)
            .map_or(&[][..], |types| &types.departure);
        let due =
            |step: &DepartureStep| days_later(since, step.after_days, &rules.zone(kind)) <= now;
        steps
            .iter()
            .any(|step| matches!(step.act, DepartureAct::Revoke { .. }) && due(step))
    };
    let left = outcome.identities.iter().filter(|(identity, _)| {
        identity.stage == Stage::Left && revokes(identity.kind, identity.since.unwrap_or(now))
    });
    left.map(|(identity, _)| identity.id.clone()).collect()
}

impl TargetDecision<'_> {
    /// Decides the departure steps that are due and not done yet.
    pub(super) fn decide_leaver(
        &mut self,
        person: &Person,
        at: usize,
        reason: Reason,
        people: &[Person],
        outcome: &mut Outcome,
    ) -> AccountDecision {
        let account = &self.population.accounts[at];
        let since = person.since.unwrap_or(self.now);
        let values = EvalInputs {
            account: None,
            identity: Some(&person.attributes),
        };
        let zone = self.rules.zone(self.kind);
        let mut verdict = Verdict::OutOfScope;
        let mut reason = reason;
        for (number, step) in self.types.departure.iter().enumerate() {
            match step.when.as_ref().map(|when| when.holds(&values)) {
                Some(Ok(false)) => continue,
                Some(Err(error)) => {
                    return AccountDecision::new(
                        Verdict::OnHold,
                        Some(at),
                        self.step_failed(step, expression_failed(step.when.as_ref(), &error)),
                    );
                }
                Some(Ok(true)) | None => {}
            }
            let due = days_later(since, step.after_days, &zone);
            if due > self.now {
                outcome.due.push((person.id.clone(), due));
                reason = reason.with_notes([ReasonNote::NextStep {
                    at: due,
                    action: step.act.action(),
                }]);
                break;
            }
            let undone = match self.step_change(person, account, step, people) {
                Ok(change) => change,
                Err(why) => {
                    return AccountDecision::new(
                        Verdict::OnHold,
                        Some(at),
                        self.step_failed(step, why),
                    );
                }
            };
            let why = Reason::by(
                ReasonKind::DepartureStep {
                    why: person.out_reason.as_ref().map(|reason| reason.kind.clone()),
                    number: number + 1,
                    action: step.act.action(),
                },
                &step.place,
            );
            let place = outcome.changes.len();
            let kind = undone.as_ref().map(|(kind, _)| *kind);
            if let Some((kind, values)) = undone {
                self.push_change(person, Some(at), kind, values, why.clone(), outcome);
            }
            if matches!(step.act, DepartureAct::Revoke { .. }) {
                self.leave_groups(person, account, &why, outcome);
            }
            for change in &mut outcome.changes[place..] {
                change.step = u16::try_from(number + 1).unwrap_or(u16::MAX);
            }
            let Some(kind) = kind.or_else(|| outcome.changes.get(place).map(|change| change.kind))
            else {
                continue;
            };
            if verdict == Verdict::OutOfScope {
                verdict = if kind == ChangeKind::Disable {
                    Verdict::Disable
                } else {
                    Verdict::Update
                };
            }
        }
        AccountDecision::new(verdict, Some(at), reason)
    }

    fn step_failed(&self, step: &DepartureStep, why: ReasonKind) -> Reason {
        let kind = ReasonKind::StepFailed {
            action: step.act.action(),
            why: Box::new(why),
        };
        Reason::by(kind, &step.place).on_hold(HoldCause::RuleError)
    }

    /// The change that a departure step still needs, if it needs one.
    fn step_change(
        &self,
        person: &Person,
        account: &Account,
        step: &DepartureStep,
        people: &[Person],
    ) -> Result<Option<(ChangeKind, Vec<ValueChange>)>, ReasonKind> {
        let change = |attribute: &str, before: Vec<Value>, after: Vec<Value>| ValueChange {
            attribute: attribute.to_owned(),
            before,
            after,
            rule: step.place.clone(),
            later: Vec::new(),
        };
        Ok(match &step.act {
            DepartureAct::Disable => {
                let state = self
                    .schema
                    .and_then(|schema| schema.state_attribute.as_deref());
                let state = state.ok_or_else(|| ReasonKind::CannotBeDisabled {
                    system: self.system.to_owned(),
                })?;
                let before = account.attributes.get(state);
                (before != [Value::Bool(false)]).then(|| {
                    (
                        ChangeKind::Disable,
                        vec![change(state, before.to_vec(), vec![Value::Bool(false)])],
                    )
                })
            }
            DepartureAct::RandomizePassword => self.randomize_password(person, account, change),
            DepartureAct::Set { attribute, value } => {
                let wanted = self.value_of(value, &person.attributes, attribute, people)?;
                let before = account.attributes.get(attribute);
                let def = self.schema.and_then(|schema| schema.get(attribute));
                (!are_equal(def, &wanted, before)).then(|| {
                    (
                        ChangeKind::Update,
                        vec![change(attribute, before.to_vec(), wanted)],
                    )
                })
            }
            DepartureAct::Revoke { attributes } => {
                let held = attributes
                    .iter()
                    .map(|name| (name, account.attributes.get(name)))
                    .filter(|(_, values)| !values.is_empty());
                let values: Vec<ValueChange> = held
                    .map(|(name, values)| change(name, values.to_vec(), Vec::new()))
                    .collect();
                (!values.is_empty()).then_some((ChangeKind::Revoke, values))
            }
            DepartureAct::Move { to } => {
                let name = self
                    .schema
                    .and_then(|schema| schema.name_attribute.as_deref())
                    .unwrap_or("dn");
                let wanted = self.value_of(to, &person.attributes, name, people)?;
                let before = account.attributes.get(name);
                let dn = |values: &[Value]| {
                    values
                        .first()
                        .and_then(|value| value.to_string().parse::<Dn>().ok())
                };
                let there = dn(&wanted).ok_or_else(|| ReasonKind::NotAnEntryName {
                    expression: to.source().to_owned(),
                })?;
                (dn(before) != Some(there)).then(|| {
                    (
                        ChangeKind::Move,
                        vec![change(name, before.to_vec(), wanted)],
                    )
                })
            }
            DepartureAct::Delete => Some((ChangeKind::Delete, Vec::new())),
        })
    }

    /// The change that randomizes the password, unless it was done since the person left.
    fn randomize_password(
        &self,
        person: &Person,
        account: &Account,
        change: impl Fn(&str, Vec<Value>, Vec<Value>) -> ValueChange,
    ) -> Option<(ChangeKind, Vec<ValueChange>)> {
        let done = self
            .population
            .write_history
            .get(&account.id)
            .and_then(|acts| acts.password);
        let undone = done.is_none_or(|done| person.since.is_some_and(|since| done < since));
        // What it becomes is drawn when it is sent, and kept nowhere.
        let attribute = self
            .types
            .password
            .as_ref()
            .map_or_else(|| self.password_attribute(), |password| &password.attribute);
        undone.then(|| {
            (
                ChangeKind::Password,
                vec![change(attribute, Vec::new(), Vec::new())],
            )
        })
    }

    fn password_attribute(&self) -> &str {
        match self.schema {
            Some(schema) if schema.get("userAccountControl").is_some() => "unicodePwd",
            Some(schema) if schema.refers_by_name => "userPassword",
            _ => "password",
        }
    }

    /// The value that a step sets. For a reference, the id of an identity means its account here;
    /// without one, the value is cleared.
    fn value_of(
        &self,
        program: &Program,
        identity: &Attributes,
        attribute: &str,
        people: &[Person],
    ) -> Result<Vec<Value>, ReasonKind> {
        let values = program
            .run(&EvalInputs {
                account: None,
                identity: Some(identity),
            })
            .map_err(|error| expression_failed(Some(program), &error))?;
        let schema = self.schema;
        if schema
            .and_then(|schema| schema.get(attribute))
            .is_none_or(|def| def.kind != ValueKind::Reference)
        {
            return Ok(values);
        }
        let by_name = schema.is_some_and(|schema| schema.refers_by_name);
        let of = |value: Value| {
            let id = value.to_string();
            let Ok(place) = people.binary_search_by(|person| person.id.as_str().cmp(id.as_str()))
            else {
                return Some(value);
            };
            let mut there = people[place]
                .linked
                .iter()
                .map(|&at| &self.population.accounts[at]);
            let account = there
                .find(|account| account.system == self.system && account.absent_since.is_none())?;
            Some(Value::Reference(if by_name {
                account.name.clone()
            } else {
                account.key.clone()
            }))
        };
        Ok(values.into_iter().filter_map(of).collect())
    }

    /// A returned person: values that a departure step set and no mapping controls are cleared.
    pub(super) fn back_again(
        &self,
        account: &Account,
        identity: &Attributes,
        rest: &mut Vec<ValueChange>,
    ) {
        for step in &self.types.departure {
            let DepartureAct::Set { attribute, value } = &step.act else {
                continue;
            };
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
                .any(|mapping| mapping.attribute.eq_ignore_ascii_case(attribute));
            let before = account.attributes.get(attribute);
            let def = self.schema.and_then(|schema| schema.get(attribute));
            let set = value
                .run(&EvalInputs {
                    account: None,
                    identity: Some(identity),
                })
                .unwrap_or_default();
            if !mapped && !before.is_empty() && are_equal(def, &set, before) {
                let (attribute, rule) = (attribute.clone(), step.place.clone());
                rest.push(ValueChange {
                    attribute,
                    before: before.to_vec(),
                    after: Vec::new(),
                    rule,
                    later: Vec::new(),
                });
            }
        }
    }
}

fn expression_failed(program: Option<&Program>, error: &ExprError) -> ReasonKind {
    ReasonKind::ExpressionFailed {
        error: error.to_string(),
        expression: program.map_or_else(String::new, |program| program.source().to_owned()),
    }
}
