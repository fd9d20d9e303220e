//! Groups that are joined and left by what somebody is. A rule owns what it gave: who was put into a group by hand stays there,
//! unless the group is one that is pruned.

use super::super::people::Person;
use super::super::{Change, ChangeKind, Outcome, Verdict, fingerprint};
use super::Target;
use crate::compare::{Later, ValueChange};
use crate::expr::Values;
use crate::model::{Account, AccountId, ObjectType};
use crate::reasons::Reason;
use crate::rules::{MembershipRule, WhenChanged};
use crate::value::Value;
use std::collections::{BTreeMap, BTreeSet, HashSet};

/// How somebody stands to the groups of a target.
pub(super) struct Stand<'a> {
    person: &'a Person,
    /// Their account, as a place in the population's list; none while it is yet to be made.
    account: Option<usize>,
    /// They take part; or else what a rule gave them is taken away.
    takes_part: bool,
}

/// Does somebody take part in the groups of a target, or no longer? Nothing when it cannot be told, or is for the departure steps.
pub(super) fn stand<'p>(target: &Target<'_>, person: &'p Person, account: Option<usize>, verdict: Verdict) -> Option<Stand<'p>> {
    if target.types.memberships.is_empty() {
        return None;
    }
    let out = person.gone.is_some() || verdict == Verdict::OutOfScope || (verdict == Verdict::Disable && !person.barred);
    if out {
        let steps = person.gone.is_some() && !target.types.departure.is_empty();
        return (!steps && account.is_some()).then_some(Stand { person, account, takes_part: false });
    }
    let sure = account.is_some() || verdict == Verdict::Create;
    (verdict != Verdict::Held && sure).then_some(Stand { person, account, takes_part: true })
}

/// A membership that is to change.
struct Turn<'a> {
    group: AccountId,
    kind: ChangeKind,
    why: Reason,
    /// It was given before, and taken away by hand.
    by_hand: bool,
    person: &'a Person,
    account: Option<&'a Account>,
}

impl<'a> Target<'a> {
    /// What is joined and what is left in this target.
    pub(super) fn memberships(&self, stands: &[(Stand<'_>, usize)], outcome: &mut Outcome) {
        if stands.is_empty() {
            return;
        }
        let mut ours: BTreeMap<&str, BTreeSet<AccountId>> = BTreeMap::new();
        for one in &self.population.joined {
            ours.entry(&one.identity).or_default().insert(one.group);
        }
        let none = BTreeSet::new();
        for (stand, line) in stands {
            let account = stand.account.map(|at| &self.population.accounts[at]);
            let held = account.map(|account| self.memberships.held_by(account)).unwrap_or_default();
            let ours = ours.get(stand.person.id.as_str()).unwrap_or(&none);
            let (wanted, missing) = match self.wanted_groups(stand) {
                Ok(wanted) => wanted,
                Err(reason) => {
                    (outcome.decided[*line].verdict, outcome.decided[*line].reason) = (Verdict::Held, reason);
                    continue;
                }
            };
            for name in missing {
                let line = &mut outcome.decided[*line].reason;
                line.text = format!("{}; {} holds no group {name}", line.text, self.system);
            }
            let turn = |group: AccountId, kind: ChangeKind, why: Reason, by_hand: bool| Turn {
                group,
                kind,
                why,
                by_hand,
                person: stand.person,
                account,
            };
            let mut turns: Vec<Turn<'_>> = Vec::new();
            for (group, rule) in wanted.iter().filter(|(group, _)| !held.contains(group)) {
                let by_hand = ours.contains(group);
                let text = match by_hand {
                    true => format!("was taken out of {} in {} itself", self.called(*group), self.system),
                    false => format!("joins {}: {}", self.called(*group), rule.when.as_ref().unwrap_or(&rule.groups).source()),
                };
                turns.push(turn(*group, ChangeKind::Grant, Reason::by(text, &rule.place), by_hand));
            }
            let pruned = self.pruned();
            for group in held.iter().filter(|group| !wanted.contains_key(group)) {
                let (text, rule) = match (ours.contains(group), pruned.get(group)) {
                    (true, rule) => (format!("leaves {}: the rule that put them there no longer does", self.called(*group)), rule),
                    (false, Some(rule)) => {
                        (format!("leaves {}: no rule puts them there, and it is pruned", self.called(*group)), Some(rule))
                    }
                    (false, None) => continue,
                };
                let place = rule.map_or(&self.types.memberships[0].place, |rule| &rule.place);
                turns.push(turn(*group, ChangeKind::Revoke, Reason::by(text, place), false));
            }
            let mut told = None;
            for turn in turns {
                let change = self.turn(&turn);
                told.get_or_insert_with(|| change.hold.clone().filter(|_| turn.by_hand).unwrap_or_else(|| change.reason.clone()));
                outcome.changes.push(change);
            }
            let line = &mut outcome.decided[*line];
            if let (Some(reason), Verdict::InStep) = (told, line.verdict) {
                (line.verdict, line.reason) = (Verdict::Update, reason);
            }
        }
    }

    /// The groups that the rules want somebody in, and names that are no groups.
    fn wanted_groups(&self, stand: &Stand<'_>) -> Result<(BTreeMap<AccountId, &'a MembershipRule>, Vec<String>), Reason> {
        let (mut wanted, mut missing) = (BTreeMap::new(), Vec::new());
        if !stand.takes_part {
            return Ok((wanted, missing));
        }
        let values = Values { account: None, identity: Some(&stand.person.attributes) };
        for rule in &self.types.memberships {
            let cannot = |error: crate::expr::ExprError, source: &str| {
                Reason::by(format!("it cannot be told which groups are joined: {error} (in {source})"), &rule.place)
            };
            if let Some(when) = &rule.when
                && !when.holds(&values).map_err(|error| cannot(error, when.source()))?
            {
                continue;
            }
            let names = rule.groups.run(&values).map_err(|error| cannot(error, rule.groups.source()))?;
            for name in names.iter().filter(|name| !name.is_blank()).map(Value::to_string) {
                match self.memberships.find(self.system, &name) {
                    Some((group, _)) => drop(wanted.entry(group).or_insert(rule)),
                    None => missing.push(name),
                }
            }
        }
        Ok((wanted, missing))
    }

    /// Groups in which nobody stays whom no rule puts there.
    fn pruned(&self) -> BTreeMap<AccountId, &'a MembershipRule> {
        let all = self.types.memberships.iter().flat_map(|rule| rule.prune.iter().map(move |name| (name, rule)));
        all.filter_map(|(name, rule)| Some((self.memberships.find(self.system, name)?.0, rule))).collect()
    }

    fn called(&self, group: AccountId) -> &str {
        self.memberships.get(group).map_or("a group", |group| group.label.as_str())
    }

    fn turn(&self, turn: &Turn<'_>) -> Change {
        let Turn { group, kind, why, by_hand, person, account } = turn;
        let there = self.memberships.get(*group);
        let (key, attribute) = there.map_or(("", "members"), |group| (&group.key, &group.attribute));
        let by_name = self.schema.is_some_and(|schema| schema.refers_by_name);
        let member = account.map(|account| match attribute {
            "memberUid" => Value::text(account.attributes.get("uid").first().map(Value::to_string).unwrap_or_default()),
            _ => Value::Reference(if by_name { account.name.clone() } else { account.key.clone() }),
        });
        let mut value =
            ValueChange { attribute: attribute.to_owned(), rule: why.rule.clone().unwrap_or_default(), ..ValueChange::default() };
        match (kind, member) {
            (ChangeKind::Grant, Some(member)) => value.after.push(member),
            (_, Some(member)) => value.before.push(member),
            (_, None) => value.later.push(Later { identity: person.id.clone(), label: person.label.clone() }),
        }
        let values = vec![value];
        let mut change = Change {
            system: self.system.to_owned(),
            object: ObjectType::Group,
            identity: person.id.clone(),
            account: Some(*group),
            label: person.label.clone(),
            kind: *kind,
            // The same before and after they have an account there: a yes to one is a yes to the other.
            fingerprint: fingerprint(&[self.system, ObjectType::Group.word(), kind.word(), &person.id, key], &[]),
            values,
            reason: why.clone(),
            hold: self.hold_of(ObjectType::Group),
            approval: None,
            claims: Vec::new(),
            step: 0,
        };
        if *by_hand && self.types.when_changed == WhenChanged::Report {
            change.hold = super::reported(self.population, self.types, &change);
        }
        change
    }

    /// Takes somebody who left out of all groups there, but for those whose members are mapped: these follow by themselves.
    pub(super) fn leave_groups(&self, person: &Person, account: &Account, why: &Reason, outcome: &mut Outcome) {
        let kept = |types: &crate::rules::TypeRules| {
            types
                .outbound
                .iter()
                .filter(|mapping| !mapping.merge)
                .any(|mapping| crate::scope::MEMBERS.iter().any(|name| name.eq_ignore_ascii_case(&mapping.attribute)))
        };
        let mapped = self.rules.of(self.system, ObjectType::Group).is_some_and(kept);
        let ours: HashSet<AccountId> = self.population.joined.iter().filter(|one| one.identity == person.id).map(|one| one.group).collect();
        for group in self.memberships.held_by(account) {
            let follows = mapped && !ours.contains(&group) && self.memberships.get(group).is_some_and(|group| group.owned);
            if !follows {
                let why = Reason { text: format!("{}: {}", why.text, self.called(group)), rule: why.rule.clone() };
                let turn = Turn { group, kind: ChangeKind::Revoke, why, by_hand: false, person, account: Some(account) };
                outcome.changes.push(self.turn(&turn));
            }
        }
    }
}
