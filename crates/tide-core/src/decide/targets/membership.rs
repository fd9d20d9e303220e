//! Memberships by rule. A rule owns the memberships that it added: manual members stay, unless the
//! group removes unmanaged members.

use super::super::people::Person;
use super::super::{Change, ChangeKind, Outcome, Verdict, fingerprint};
use super::TargetDecision;
use crate::compare::{PendingReference, ValueChange};
use crate::expr::EvalInputs;
use crate::memberships::member_value;
use crate::model::{Account, AccountId, MemberName, ObjectType, RuleMembership};
use crate::reasons::{HoldCause, Reason};
use crate::references::folded;
use crate::rules::{MembershipRule, OnDrift};
use crate::value::Value;
use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};

/// The relation of a person to the groups of a target.
pub(super) struct MemberStatus<'a> {
    person: &'a Person,
    /// Their account, as a place in the population's list; none while it is yet to be made.
    account: Option<usize>,
    /// Whether they are in scope; if not, memberships by rule are revoked.
    takes_part: bool,
}

/// Whether a person is in scope for the groups of a target. `None` if it is unknown, or left to the
/// departure steps.
pub(super) fn stand<'p>(
    target: &TargetDecision<'_>,
    person: &'p Person,
    account: Option<usize>,
    verdict: Verdict,
) -> Option<MemberStatus<'p>> {
    if target.types.memberships.is_empty() {
        return None;
    }
    let out = person.out_reason.is_some()
        || verdict == Verdict::OutOfScope
        || (verdict == Verdict::Disable && !person.access_suspended);
    if out {
        let steps = person.out_reason.is_some() && !target.types.departure.is_empty();
        return (!steps && account.is_some()).then_some(MemberStatus {
            person,
            account,
            takes_part: false,
        });
    }
    let sure = account.is_some() || verdict == Verdict::Create;
    (verdict != Verdict::OnHold && sure).then_some(MemberStatus {
        person,
        account,
        takes_part: true,
    })
}

/// A membership that is to change.
struct MembershipChange<'a> {
    group: AccountId,
    kind: ChangeKind,
    why: Reason,
    /// It was given before, and taken away by hand.
    by_hand: bool,
    person: &'a Person,
    /// The value that the group holds, or is to hold, for the member; none while they have no
    /// account.
    member: Option<Value>,
    /// Names under which a rule put them there, and which the group still holds.
    former: Vec<Value>,
}

/// The memberships that rules gave in one target, found by member and by the name that was written.
struct GivenMembership<'a> {
    by_identity: HashMap<&'a str, BTreeMap<AccountId, &'a RuleMembership>>,
    by_name: HashMap<(AccountId, &'a str), &'a RuleMembership>,
}

impl<'a> GivenMembership<'a> {
    fn of(joined: impl Iterator<Item = &'a RuleMembership>) -> Self {
        let mut given = GivenMembership {
            by_identity: HashMap::new(),
            by_name: HashMap::new(),
        };
        for one in joined {
            given
                .by_identity
                .entry(&one.identity)
                .or_default()
                .insert(one.group, one);
            if !one.folded.is_empty() {
                given.by_name.insert((one.group, &one.folded), one);
            }
        }
        given
    }

    fn to(&self, identity: &str, group: AccountId) -> Option<&'a RuleMembership> {
        self.by_identity.get(identity)?.get(&group).copied()
    }

    fn groups(&self, identity: &str) -> impl Iterator<Item = AccountId> + '_ {
        self.by_identity
            .get(identity)
            .into_iter()
            .flat_map(|groups| groups.keys().copied())
    }

    /// Whether a rule wrote this name into the group for another identity that had the name then.
    fn to_another(&self, identity: &str, group: AccountId, member: &Value) -> bool {
        self.by_name
            .get(&(group, folded(&member.to_string()).as_str()))
            .is_some_and(|one| one.identity != identity)
    }
}

impl<'a> TargetDecision<'a> {
    /// What is joined and what is left in this target.
    pub(super) fn memberships(&self, stands: &[(MemberStatus<'_>, usize)], outcome: &mut Outcome) {
        if stands.is_empty() {
            return;
        }
        let given = GivenMembership::of(self.population.rule_memberships.iter());
        let names = self.new_names(outcome);
        for (stand, line) in stands {
            let account = stand.account.map(|at| &self.population.accounts[at]);
            let held = account
                .map(|account| self.memberships.held_by(account))
                .unwrap_or_default();
            let who = stand.person.id.as_str();
            let (wanted, missing) = match self.wanted_groups(stand) {
                Ok(wanted) => wanted,
                Err(reason) => {
                    (
                        outcome.decided[*line].verdict,
                        outcome.decided[*line].reason,
                    ) = (Verdict::OnHold, reason.on_hold(HoldCause::RuleError));
                    continue;
                }
            };
            for name in missing {
                let line = &mut outcome.decided[*line].reason;
                line.text = format!("{}; {} has no group {name}", line.text, self.system);
            }
            let new_name = account.and_then(|account| names.get(&account.id));
            let member_of = |group: AccountId| account.map(|account| self.member(group, account));
            let turn = |group: AccountId, kind: ChangeKind, why: Reason, by_hand: bool| {
                let member = member_of(group);
                let former = self.former(&given, who, group, member.as_ref());
                MembershipChange {
                    group,
                    kind,
                    why,
                    by_hand,
                    person: stand.person,
                    member,
                    former,
                }
            };
            let mut turns: Vec<MembershipChange<'_>> = Vec::new();
            for (group, rule) in &wanted {
                let (now, row) = (member_of(*group), given.to(who, *group));
                let is_written = row
                    .zip(now.as_ref())
                    .is_none_or(|(row, now)| is_same(row, now));
                if !held.contains(group) {
                    let by_hand = row.is_some() && is_written;
                    let former = self.former(&given, who, *group, now.as_ref());
                    let text = if by_hand {
                        format!(
                            "was removed from {} in {} by others",
                            self.called(*group),
                            self.system
                        )
                    } else if former.is_empty() {
                        format!(
                            "joins {}: {}",
                            self.called(*group),
                            rule.when.as_ref().unwrap_or(&rule.groups).source()
                        )
                    } else {
                        format!("{} contains a former name", self.called(*group))
                    };
                    let mut one = turn(
                        *group,
                        ChangeKind::Grant,
                        Reason::by(text, &rule.place),
                        by_hand,
                    );
                    if let (Some(new), true) = (new_name, self.names_members(*group)) {
                        one.member = Some(Value::Reference(new.clone()));
                    }
                    turns.push(one);
                    continue;
                }
                let Some(now) = now else { continue };
                if let Some(new) = new_name.filter(|_| {
                    row.is_some() && self.names_members(*group) && !self.follows_renames()
                }) {
                    // If the server has referential integrity, the write finds the group in sync.
                    let text = format!("{} contains the current name", self.called(*group));
                    let mut one = turn(
                        *group,
                        ChangeKind::Grant,
                        Reason::by(text, &rule.place),
                        false,
                    );
                    one.former.push(now);
                    one.member = Some(Value::Reference(new.clone()));
                    turns.push(one);
                } else if !self.former(&given, who, *group, Some(&now)).is_empty() {
                    let text = format!(
                        "{} contains a former name beside the current one",
                        self.called(*group)
                    );
                    turns.push(turn(
                        *group,
                        ChangeKind::Grant,
                        Reason::by(text, &rule.place),
                        false,
                    ));
                } else if !is_written || (row.is_none() && given.to_another(who, *group, &now)) {
                    let (identity, member) = (stand.person.id.clone(), now.to_string());
                    outcome.member_names.push(MemberName {
                        identity,
                        group: *group,
                        member,
                    });
                }
            }
            let pruned = self.pruned();
            let left = given.groups(who).filter(|group| {
                !held.contains(group)
                    && !self
                        .former(&given, who, *group, member_of(*group).as_ref())
                        .is_empty()
            });
            let leaves: BTreeSet<AccountId> = held.iter().copied().chain(left).collect();
            for group in leaves.iter().filter(|group| !wanted.contains_key(group)) {
                let ours = given.to(who, *group).is_some()
                    || member_of(*group)
                        .is_some_and(|member| given.to_another(who, *group, &member));
                let (text, rule) = match (ours, pruned.get(group)) {
                    (true, rule) => (
                        format!(
                            "leaves {}: the rule that added the member no longer applies",
                            self.called(*group)
                        ),
                        rule,
                    ),
                    (false, Some(rule)) => (
                        format!(
                            "leaves {}: no rule adds the member, and unmanaged members are removed",
                            self.called(*group)
                        ),
                        Some(rule),
                    ),
                    (false, None) => continue,
                };
                let place = rule.map_or(&self.types.memberships[0].place, |rule| &rule.place);
                turns.push(turn(
                    *group,
                    ChangeKind::Revoke,
                    Reason::by(text, place),
                    false,
                ));
            }
            let mut told = None;
            for turn in turns {
                let change = self.turn(&turn);
                told.get_or_insert_with(|| {
                    change
                        .hold
                        .clone()
                        .filter(|_| turn.by_hand)
                        .unwrap_or_else(|| change.reason.clone())
                });
                outcome.changes.push(change);
            }
            let line = &mut outcome.decided[*line];
            if let (Some(reason), Verdict::InSync) = (told, line.verdict) {
                (line.verdict, line.reason) = (Verdict::Update, reason);
            }
        }
    }

    /// The groups that the rules require for a person, and names of groups that do not exist.
    fn wanted_groups(
        &self,
        stand: &MemberStatus<'_>,
    ) -> Result<(BTreeMap<AccountId, &'a MembershipRule>, Vec<String>), Reason> {
        let (mut wanted, mut missing) = (BTreeMap::new(), Vec::new());
        if !stand.takes_part {
            return Ok((wanted, missing));
        }
        let values = EvalInputs {
            account: None,
            identity: Some(&stand.person.attributes),
        };
        for rule in &self.types.memberships {
            let cannot = |error: crate::expr::ExprError, source: &str| {
                Reason::by(
                    format!("the groups to join cannot be evaluated: {error} (in {source})"),
                    &rule.place,
                )
            };
            if let Some(when) = &rule.when
                && !when
                    .holds(&values)
                    .map_err(|error| cannot(error, when.source()))?
            {
                continue;
            }
            let names = rule
                .groups
                .run(&values)
                .map_err(|error| cannot(error, rule.groups.source()))?;
            for name in names
                .iter()
                .filter(|name| !name.is_blank())
                .map(Value::to_string)
            {
                match self.memberships.find(self.system, &name) {
                    Some((group, _)) => drop(wanted.entry(group).or_insert(rule)),
                    None => missing.push(name),
                }
            }
        }
        Ok((wanted, missing))
    }

    /// Groups from which unmanaged members are removed.
    fn pruned(&self) -> BTreeMap<AccountId, &'a MembershipRule> {
        let all = self
            .types
            .memberships
            .iter()
            .flat_map(|rule| rule.prune.iter().map(move |name| (name, rule)));
        all.filter_map(|(name, rule)| Some((self.memberships.find(self.system, name)?.0, rule)))
            .collect()
    }

    fn called(&self, group: AccountId) -> &str {
        self.memberships
            .get(group)
            .map_or("a group", |group| group.label.as_str())
    }

    fn attribute(&self, group: AccountId) -> &str {
        self.memberships
            .get(group)
            .map_or("members", |group| &group.attribute)
    }

    /// How a group names a member now.
    fn member(&self, group: AccountId, account: &Account) -> Value {
        member_value(
            self.attribute(group),
            account,
            self.schema.is_some_and(|schema| schema.refers_by_name),
        )
    }

    /// Does a group name its members by the names of their accounts?
    fn names_members(&self, group: AccountId) -> bool {
        self.schema.is_some_and(|schema| schema.refers_by_name)
            && self.attribute(group) != "memberUid"
    }

    /// Does the server put new names where it holds the old ones?
    fn follows_renames(&self) -> bool {
        self.schema.is_some_and(|schema| schema.follows_renames)
    }

    /// Former names of a person that a rule wrote into a group and that are still in it.
    fn former(
        &self,
        given: &GivenMembership<'_>,
        identity: &str,
        group: AccountId,
        now: Option<&Value>,
    ) -> Vec<Value> {
        let Some(row) = given
            .to(identity, group)
            .filter(|row| !row.member.is_empty())
        else {
            return Vec::new();
        };
        if now.is_some_and(|now| is_same(row, now)) || !self.memberships.holds(group, &row.folded) {
            return Vec::new();
        }
        vec![if self.names_members(group) {
            Value::Reference(row.member.clone())
        } else {
            Value::text(row.member.clone())
        }]
    }

    /// The names that accounts here get by this decision.
    fn new_names(&self, outcome: &Outcome) -> HashMap<AccountId, String> {
        let named = self
            .schema
            .filter(|schema| schema.refers_by_name)
            .and_then(|schema| schema.name_attribute.as_deref());
        let Some(named) = named else {
            return HashMap::new();
        };
        let renames = outcome.changes.iter().filter(|change| {
            change.system == self.system
                && change.object == self.kind
                && matches!(change.kind, ChangeKind::Rename | ChangeKind::Move)
                && change.hold.is_none()
        });
        let name = |change: &Change| {
            let value = change
                .values
                .iter()
                .find(|value| value.attribute.eq_ignore_ascii_case(named))?;
            Some((change.account?, value.after.first()?.to_string()))
        };
        renames.filter_map(name).collect()
    }

    fn turn(&self, turn: &MembershipChange<'_>) -> Change {
        let MembershipChange {
            group,
            kind,
            why,
            by_hand,
            person,
            member,
            former,
            ..
        } = turn;
        let there = self.memberships.get(*group);
        let (key, attribute) =
            there.map_or(("", "members"), |group| (&group.key, &group.attribute));
        let mut value = ValueChange {
            attribute: attribute.to_owned(),
            rule: why.rule.clone().unwrap_or_default(),
            ..ValueChange::default()
        };
        match (kind, member) {
            (ChangeKind::Grant, Some(member)) => value.after.push(member.clone()),
            (_, Some(member)) => value.before.push(member.clone()),
            (_, None) => value.later.push(PendingReference {
                identity: person.id.clone(),
                label: person.label.clone(),
            }),
        }
        let mut values = vec![value];
        if !former.is_empty() {
            let rule = why.rule.clone().unwrap_or_default();
            values.push(ValueChange {
                attribute: attribute.to_owned(),
                before: former.clone(),
                rule,
                ..ValueChange::default()
            });
        }
        let mut change = Change {
            system: self.system.to_owned(),
            object: ObjectType::Group,
            identity: person.id.clone(),
            account: Some(*group),
            label: person.label.clone(),
            kind: *kind,
            // The same with and without an account there, so that an approval counts for both.
            fingerprint: fingerprint(
                &[
                    self.system,
                    ObjectType::Group.as_str(),
                    kind.as_str(),
                    &person.id,
                    key,
                ],
                &[],
            ),
            values,
            reason: why.clone(),
            hold: self.hold_of(ObjectType::Group),
            approval: None,
            claims: Vec::new(),
            step: 0,
        };
        if *by_hand && self.types.on_drift == OnDrift::Report {
            change.hold = super::reported(self.population, self.types, &change);
        }
        change
    }

    /// Removes a leaver from all groups there, except those with mapped members, which follow
    /// automatically.
    pub(super) fn leave_groups(
        &self,
        person: &Person,
        account: &Account,
        why: &Reason,
        outcome: &mut Outcome,
    ) {
        let kept = |types: &crate::rules::TypeRules| {
            types
                .outbound
                .iter()
                .filter(|mapping| !mapping.merge)
                .any(|mapping| {
                    crate::scope::MEMBERS
                        .iter()
                        .any(|name| name.eq_ignore_ascii_case(&mapping.attribute))
                })
        };
        let mapped = self
            .rules
            .of(self.system, ObjectType::Group)
            .is_some_and(kept);
        let given = GivenMembership::of(
            self.population
                .rule_memberships
                .iter()
                .filter(|one| one.identity == person.id),
        );
        let ours: HashSet<AccountId> = given.groups(&person.id).collect();
        let former = |group: AccountId| {
            self.former(
                &given,
                &person.id,
                group,
                Some(&self.member(group, account)),
            )
        };
        let mut groups = self.memberships.held_by(account);
        groups.extend(
            ours.iter()
                .copied()
                .filter(|group| !former(*group).is_empty()),
        );
        for group in groups {
            let follows = mapped
                && !ours.contains(&group)
                && self.memberships.get(group).is_some_and(|group| group.owned);
            if !follows {
                let why = Reason {
                    text: format!("{}: {}", why.text, self.called(group)),
                    ..why.clone()
                };
                let (member, former) = (Some(self.member(group, account)), former(group));
                let turn = MembershipChange {
                    group,
                    kind: ChangeKind::Revoke,
                    why,
                    by_hand: false,
                    person,
                    member,
                    former,
                };
                outcome.changes.push(self.turn(&turn));
            }
        }
    }
}

/// Is a member called as it was written?
fn is_same(row: &RuleMembership, now: &Value) -> bool {
    row.member == now.to_string() || row.folded == folded(&now.to_string())
}
