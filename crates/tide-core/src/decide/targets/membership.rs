//! Memberships by rule. A rule owns the memberships that it added: manual members stay, unless the
//! group removes unmanaged members.

use super::super::people::Person;
use super::super::{Change, ChangeKind, Outcome, Verdict, fingerprint};
use super::TargetDecision;
use crate::compare::{PendingReference, ValueChange};
use crate::expr::EvalInputs;
use crate::memberships::member_value;
use crate::model::{Account, AccountId, MemberName, RuleMembership};
use crate::reasons::{HoldCause, Reason, ReasonKind, ReasonNote};
use crate::references::fold_reference;
use crate::rules::{MembershipRule, OnDrift};
use crate::states::ObjectType;
use crate::value::Value;
use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};

/// The relation of a person to the groups of a target.
pub(super) struct MemberStatus<'a> {
    person: &'a Person,
    /// The account, as an index into the population; `None` before it is created.
    account: Option<usize>,
    /// Whether they are in scope; if not, memberships by rule are revoked.
    takes_part: bool,
}

/// Whether a person is in scope for the groups of a target. `None` if it is unknown, or left to the
/// departure steps.
pub(super) fn member_status<'p>(
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
    /// A rule added it before, and others removed it.
    by_hand: bool,
    person: &'a Person,
    /// The value that the group holds, or is to hold, for the member; none while they have no
    /// account.
    member: Option<Value>,
    /// Names by which a rule added the member, and which the group still contains.
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
            .get(&(group, fold_reference(&member.to_string()).as_str()))
            .is_some_and(|one| one.identity != identity)
    }
}

/// One person among the groups of a target.
struct Member<'m, 't> {
    target: &'m TargetDecision<'t>,
    given: &'m GivenMembership<'m>,
    person: &'m Person,
    account: Option<&'m Account>,
    /// The groups that contain the account.
    held: BTreeSet<AccountId>,
    /// The name that the account gets by a change of this decision.
    new_name: Option<&'m String>,
}

impl<'m> Member<'m, '_> {
    /// The value by which a group names this member; none while there is no account.
    fn value_in(&self, group: AccountId) -> Option<Value> {
        self.account
            .map(|account| self.target.member_value(group, account))
    }

    /// Former names of this member that a group still contains.
    fn former_in(&self, group: AccountId) -> Vec<Value> {
        let now = self.value_in(group);
        self.target
            .former_names(self.given, &self.person.id, group, now.as_ref())
    }

    fn change(&self, group: AccountId, kind: ChangeKind, why: Reason) -> MembershipChange<'m> {
        MembershipChange {
            group,
            kind,
            why,
            by_hand: false,
            person: self.person,
            member: self.value_in(group),
            former: self.former_in(group),
        }
    }

    /// The memberships to add, and those that contain another name than the current one.
    fn grants(
        &self,
        wanted: &BTreeMap<AccountId, &MembershipRule>,
        outcome: &mut Outcome,
    ) -> Vec<MembershipChange<'m>> {
        let mut changes = Vec::new();
        for (&group, rule) in wanted {
            if self.held.contains(&group) {
                changes.extend(self.correct_name(group, rule, outcome));
            } else {
                changes.push(self.join(group, rule));
            }
        }
        changes
    }

    /// Adds this member to a group. By hand means: a rule added it before, and others removed it.
    fn join(&self, group: AccountId, rule: &MembershipRule) -> MembershipChange<'m> {
        let target = self.target;
        let name = target.group_name(group).to_owned();
        let (now, row) = (self.value_in(group), self.given.to(&self.person.id, group));
        let is_written = row
            .zip(now.as_ref())
            .is_none_or(|(row, now)| is_same(row, now));
        let by_hand = row.is_some() && is_written;
        let kind = if by_hand {
            ReasonKind::RemovedFromGroup {
                group: name,
                system: target.system.to_owned(),
            }
        } else if self.former_in(group).is_empty() {
            let condition = rule.when.as_ref().unwrap_or(&rule.groups).source();
            ReasonKind::JoinsGroup {
                group: name,
                condition: condition.to_owned(),
            }
        } else {
            ReasonKind::FormerNameInGroup { group: name }
        };
        let mut change = self.change(group, ChangeKind::Grant, Reason::by(kind, &rule.place));
        change.by_hand = by_hand;
        if let (Some(new), true) = (self.new_name, target.names_members(group)) {
            change.member = Some(Value::Reference(new.clone()));
        }
        change
    }

    /// Corrects the name under which a group contains this member. A name that the group has already
    /// is noted only.
    fn correct_name(
        &self,
        group: AccountId,
        rule: &MembershipRule,
        outcome: &mut Outcome,
    ) -> Option<MembershipChange<'m>> {
        let (target, who) = (self.target, self.person.id.as_str());
        let now = self.value_in(group)?;
        let row = self.given.to(who, group);
        let renamed = self
            .new_name
            .filter(|_| row.is_some() && target.names_members(group) && !target.follows_renames());
        if let Some(new) = renamed {
            // If the server has referential integrity, the write finds the group in sync.
            let group_name = target.group_name(group).to_owned();
            let kind = ReasonKind::NameInGroup { group: group_name };
            let reason = Reason::by(kind, &rule.place);
            let mut change = self.change(group, ChangeKind::Grant, reason);
            change.former.push(now);
            change.member = Some(Value::Reference(new.clone()));
            return Some(change);
        }
        if !self.former_in(group).is_empty() {
            let group_name = target.group_name(group).to_owned();
            let kind = ReasonKind::TwoNamesInGroup { group: group_name };
            let reason = Reason::by(kind, &rule.place);
            return Some(self.change(group, ChangeKind::Grant, reason));
        }
        let is_unnoted = match row {
            Some(row) => !is_same(row, &now),
            None => self.given.to_another(who, group, &now),
        };
        if is_unnoted {
            outcome.member_names.push(MemberName {
                identity: who.to_owned(),
                group,
                member: now.to_string(),
            });
        }
        None
    }

    /// The memberships to remove: those that a rule added and no rule adds now, and unmanaged ones of
    /// groups whose unmanaged members are removed.
    fn revocations(
        &self,
        wanted: &BTreeMap<AccountId, &MembershipRule>,
    ) -> Vec<MembershipChange<'m>> {
        let (target, who) = (self.target, self.person.id.as_str());
        let pruned = target.pruned_groups();
        let under_former_name = self
            .given
            .groups(who)
            .filter(|group| !self.held.contains(group) && !self.former_in(*group).is_empty());
        let held: BTreeSet<AccountId> =
            self.held.iter().copied().chain(under_former_name).collect();
        let mut changes = Vec::new();
        for group in held.into_iter().filter(|group| !wanted.contains_key(group)) {
            let is_ours = self.given.to(who, group).is_some()
                || self
                    .value_in(group)
                    .is_some_and(|member| self.given.to_another(who, group, &member));
            let rule = pruned.get(&group);
            let name = target.group_name(group).to_owned();
            let kind = match (is_ours, rule) {
                (true, _) => ReasonKind::MembershipEnds { group: name },
                (false, Some(_)) => ReasonKind::UnmanagedMember { group: name },
                (false, None) => continue,
            };
            let place = rule.map_or(&target.types.memberships[0].place, |rule| &rule.place);
            changes.push(self.change(group, ChangeKind::Revoke, Reason::by(kind, place)));
        }
        changes
    }
}

impl<'a> TargetDecision<'a> {
    /// Decides the memberships to add and to remove in this target.
    pub(super) fn decide_memberships(
        &self,
        stands: &[(MemberStatus<'_>, usize)],
        outcome: &mut Outcome,
    ) {
        if stands.is_empty() {
            return;
        }
        let given = GivenMembership::of(self.population.rule_memberships.iter());
        let names = self.new_names(outcome);
        for (stand, line) in stands {
            let (wanted, missing) = match self.wanted_groups(stand) {
                Ok(wanted) => wanted,
                Err(reason) => {
                    let line = &mut outcome.decided[*line];
                    line.verdict = Verdict::OnHold;
                    line.reason = reason.on_hold(HoldCause::RuleError);
                    continue;
                }
            };
            let notes = missing.into_iter().map(|group| ReasonNote::NoSuchGroup {
                system: self.system.to_owned(),
                group,
            });
            outcome.decided[*line].reason.notes.extend(notes);
            let account = stand.account.map(|at| &self.population.accounts[at]);
            let member = Member {
                target: self,
                given: &given,
                person: stand.person,
                account,
                held: account
                    .map(|account| self.memberships.held_by(account))
                    .unwrap_or_default(),
                new_name: account.and_then(|account| names.get(&account.id)),
            };
            let mut changes = member.grants(&wanted, outcome);
            changes.extend(member.revocations(&wanted));
            let mut reason = None;
            for change in changes {
                let by_hand = change.by_hand;
                let change = self.membership_change(&change);
                reason.get_or_insert_with(|| {
                    change
                        .hold
                        .clone()
                        .filter(|_| by_hand)
                        .unwrap_or_else(|| change.reason.clone())
                });
                outcome.changes.push(change);
            }
            let line = &mut outcome.decided[*line];
            if let (Some(reason), Verdict::InSync) = (reason, line.verdict) {
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
                    ReasonKind::MembershipFailed {
                        error: error.to_string(),
                        expression: source.to_owned(),
                    },
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
                    Some((group, _)) => {
                        wanted.entry(group).or_insert(rule);
                    }
                    None => missing.push(name),
                }
            }
        }
        Ok((wanted, missing))
    }

    /// Groups from which unmanaged members are removed.
    fn pruned_groups(&self) -> BTreeMap<AccountId, &'a MembershipRule> {
        let all = self
            .types
            .memberships
            .iter()
            .flat_map(|rule| rule.remove_unmanaged.iter().map(move |name| (name, rule)));
        all.filter_map(|(name, rule)| Some((self.memberships.find(self.system, name)?.0, rule)))
            .collect()
    }

    fn group_name(&self, group: AccountId) -> &str {
        self.memberships
            .get(group)
            .map_or("a group", |group| group.label.as_str())
    }

    fn member_attribute(&self, group: AccountId) -> &str {
        self.memberships
            .get(group)
            .map_or("members", |group| &group.attribute)
    }

    /// The value by which a group names a member now.
    fn member_value(&self, group: AccountId, account: &Account) -> Value {
        member_value(
            self.member_attribute(group),
            account,
            self.schema.is_some_and(|schema| schema.refers_by_name),
        )
    }

    /// Whether a group names its members by the names of their accounts.
    fn names_members(&self, group: AccountId) -> bool {
        self.schema.is_some_and(|schema| schema.refers_by_name)
            && self.member_attribute(group) != "memberUid"
    }

    /// Whether the server replaces the names of renamed members itself (referential integrity).
    fn follows_renames(&self) -> bool {
        self.schema.is_some_and(|schema| schema.follows_renames)
    }

    /// Former names of a person that a rule wrote into a group and that are still in it.
    fn former_names(
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

    fn membership_change(&self, turn: &MembershipChange<'_>) -> Change {
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
            hold: self.system_hold_of(ObjectType::Group),
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
                    crate::schema::MEMBERS
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
            self.former_names(
                &given,
                &person.id,
                group,
                Some(&self.member_value(group, account)),
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
                    kind: Box::new(ReasonKind::LeavesGroup {
                        why: why.kind.clone(),
                        group: self.group_name(group).to_owned(),
                    }),
                    ..why.clone()
                };
                let (member, former) = (Some(self.member_value(group, account)), former(group));
                let turn = MembershipChange {
                    group,
                    kind: ChangeKind::Revoke,
                    why,
                    by_hand: false,
                    person,
                    member,
                    former,
                };
                outcome.changes.push(self.membership_change(&turn));
            }
        }
    }
}

/// Whether a member still has the name that was written.
fn is_same(row: &RuleMembership, now: &Value) -> bool {
    row.member == now.to_string() || row.folded == fold_reference(&now.to_string())
}
