//! The decision: one pure function from what was observed, the rules and the time to changes,
//! links and verdicts. Preview and run both call [`decide`] and nothing else.

pub mod approvals;
mod exclusions;
pub(crate) mod generated_values;
pub mod licenses;
pub mod notifications;
pub(crate) mod people;
pub(crate) mod references;
mod targets;

use crate::outside::{NoOutsideRecords, OutsideRecords};
use crate::states::ChangeKind;
use crate::workers::Workers;
pub use targets::{MUST_CHANGE, PASSWORD_MARK};

pub use people::account_label;

use crate::compare::ValueChange;
use crate::incremental::Records;
use crate::memberships::MembershipRules;
use crate::model::{
    AccountId, ApprovalState, GuardOverride, Identity, InFlight, MemberName, Population,
    ReservedValue,
};
use crate::reasons::{GuardLimit, HoldCause, Place, Reason, ReasonCode, ReasonKind};
use crate::rules::RuleSet;
use crate::scope::Groups;
use crate::states::{LinkBasis, MatchStatus, ObjectType, UnmatchedCause};
use approvals::ApprovalRequirement;
use generated_values::IncompletePerson;
use jiff::Timestamp;
use licenses::Seats;
use serde::{Deserialize, Serialize};
use sha2::{Digest as _, Sha256};
use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};

/// One operation on one account, with its reason.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Change {
    /// The target.
    pub system: String,
    /// The type of the account.
    pub object: ObjectType,
    /// The identity behind it.
    pub identity: String,
    /// The account; `None` before it is created.
    pub account: Option<AccountId>,
    /// The label of the person or account that it is about.
    pub label: String,
    /// The kind of change.
    pub kind: ChangeKind,
    /// The values before and after.
    pub values: Vec<ValueChange>,
    /// Why.
    pub reason: Reason,
    /// Why it is not sent, if it is not.
    pub hold: Option<Reason>,
    /// The approval request, if one is needed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub approval: Option<ApprovalRequirement>,
    /// The seats of licenses that it would take.
    #[serde(default, skip)]
    pub claims: Vec<crate::decide::licenses::Claim>,
    /// Which of the departure steps it is, from 1; 0 means none.
    #[serde(default, skip_serializing_if = "is_none_of_them")]
    pub step: u16,
    /// The hash of all that this change was decided from and does: what a preview showed is the
    /// same change only if this is the same.
    pub fingerprint: String,
}

#[allow(clippy::trivially_copy_pass_by_ref)]
fn is_none_of_them(step: &u16) -> bool {
    *step == 0
}

impl Change {
    /// Whether it revokes access or belongs to a departure. Such changes are sent before all
    /// others.
    pub fn takes_away(&self) -> bool {
        self.step > 0 || self.kind.takes_away()
    }

    /// Whether it is on hold by this cause.
    pub fn is_held_by(&self, cause: HoldCause) -> bool {
        self.hold
            .as_ref()
            .is_some_and(|hold| hold.cause == Some(cause))
    }

    /// Whether it adds or removes one member of a group; the account is then that of the group.
    pub fn is_membership(&self) -> bool {
        self.object == ObjectType::Group
            && matches!(self.kind, ChangeKind::Grant | ChangeKind::Revoke)
    }

    /// Whether it replaces a former name of a member by the present one. It grants nothing new.
    pub fn keeps_membership(&self) -> bool {
        self.is_membership() && self.kind == ChangeKind::Grant && self.values.len() > 1
    }

    /// The change that a decision about some of its values alone would be: it has a fingerprint of
    /// its own. `key` is that of its account.
    pub fn with_values(&self, key: &str, values: Vec<ValueChange>) -> Change {
        let fingerprint = fingerprint(
            &[
                &self.system,
                self.object.as_str(),
                self.kind.as_str(),
                &self.identity,
                key,
            ],
            &values,
        );
        Change {
            values,
            fingerprint,
            ..self.clone()
        }
    }

    /// Whether it may be sent although an earlier change of the same account was refused. Values
    /// are independent, as are the members of a group, and a change that removes access is never
    /// delayed by one of them. An account that was not created has nothing to change; the steps
    /// of a departure depend on each other.
    pub fn is_independent_of_refused(&self, refused: ChangeKind) -> bool {
        let is_independent = matches!(
            self.kind,
            ChangeKind::Disable
                | ChangeKind::Revoke
                | ChangeKind::Rename
                | ChangeKind::Move
                | ChangeKind::Update
        );
        self.step == 0
            && (is_independent || self.is_membership())
            && !matches!(refused, ChangeKind::Create | ChangeKind::Delete)
    }

    /// The order of changes: those of leavers come first, in the order of their steps.
    fn rank(&self) -> (ChangeKind, u16) {
        if self.step > 0 {
            (ChangeKind::Disable, self.step)
        } else {
            (self.kind, 0)
        }
    }
}

codes! {
    /// The outcome for one record in one system.
    pub enum Verdict {
        /// Something is missing or must be decided first.
        OnHold,
        /// The account is disabled.
        Disable,
        /// An account is created.
        Create,
        /// An existing account is joined, and its values may change.
        Join,
        /// Values change.
        Update,
        /// The account gets another name.
        Rename,
        /// The account is enabled.
        Enable,
        /// It is out of scope.
        OutOfScope,
        /// The account is orphaned.
        Orphaned,
        /// Nothing is to be done.
        InSync,
        /// It supplies values, as a source.
        Source,
    }
}

/// One line of a preview: one person or account in one system, what was decided, and why.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Decided {
    /// The system.
    pub system: String,
    /// Its type.
    pub object: ObjectType,
    /// The identity, if there is or will be one.
    pub identity: Option<String>,
    /// The account, if there is one.
    pub account: Option<AccountId>,
    /// The label of the person or account that it is about.
    pub label: String,
    /// The verdict.
    pub verdict: Verdict,
    /// Why.
    pub reason: Reason,
    /// Why it is orphaned or left out of matching. Not stored with a change set.
    #[serde(default, skip)]
    pub unmatched: Option<UnmatchedCause>,
}

/// A link to create to an account that exists.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct NewLink {
    /// The account.
    pub account: AccountId,
    /// The identity.
    pub identity: String,
    /// Its origin.
    pub basis: LinkBasis,
    /// Whether the account supplies values; otherwise it is written by us.
    pub source: bool,
}

codes! {
    /// Why a match needs review.
    pub enum Doubt {
        /// Several match.
        Ambiguous,
        /// One matches by a review rule, or something contradicts the match.
        NeedsReview,
        /// Several identities match one account.
        ClaimedTwice,
        /// The matching account is linked to another identity.
        AlreadyLinked,
        /// An account has a key that belongs to another identity now.
        KeyReassigned,
        /// An account that others created in the system matches no identity.
        Orphaned,
    }
}

impl Doubt {
    /// The same, as the status of a match.
    pub fn status(self) -> MatchStatus {
        match self {
            Doubt::Ambiguous => MatchStatus::Ambiguous,
            Doubt::NeedsReview => MatchStatus::NeedsReview,
            Doubt::ClaimedTwice => MatchStatus::ClaimedTwice,
            Doubt::AlreadyLinked => MatchStatus::AlreadyLinked,
            Doubt::KeyReassigned => MatchStatus::KeyReassigned,
            Doubt::Orphaned => MatchStatus::Orphaned,
        }
    }

    /// The doubt of a match with a status and a reason; `None` if it needs no review.
    pub fn of(status: MatchStatus, code: ReasonCode) -> Option<Doubt> {
        let doubt = Doubt::ALL.iter().find(|doubt| doubt.status() == status)?;
        let is_asked = *doubt != Doubt::Orphaned || code == ReasonCode::OrphanNeedsReview;
        is_asked.then_some(*doubt)
    }
}

/// A match that an operator must decide: a record of one side, with candidates of the other.
#[derive(Debug, Clone, PartialEq)]
pub struct Question {
    /// The system.
    pub system: String,
    /// Its subject.
    pub object: ObjectType,
    /// Why it needs review.
    pub doubt: Doubt,
    /// The label of the person or account that it is about.
    pub label: String,
    /// The identity without an account; `None` if an account has no identity.
    pub identity: Option<String>,
    /// The account without an identity.
    pub account: Option<AccountId>,
    /// The accounts that it may be.
    pub accounts: Vec<AccountId>,
    /// The identities that it may be.
    pub identities: Vec<String>,
    /// The reason, with its rule.
    pub reason: Reason,
}

/// Everything that was decided.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Outcome {
    /// The moment that was decided about.
    pub at: Timestamp,
    /// All identities as they are to be, new ones too, with the label of each.
    pub identities: Vec<(Identity, String)>,
    /// Links to make.
    pub links: Vec<NewLink>,
    /// Members whose groups contain another name than the one that was written.
    pub member_names: Vec<MemberName>,
    /// A line for each person in each system.
    pub decided: Vec<Decided>,
    /// The changes, in the order in which they are to be sent.
    pub changes: Vec<Change>,
    /// Matches that a person must decide.
    pub questions: Vec<Question>,
    /// Generated values that are held and not reserved yet.
    pub reserved: Vec<ReservedValue>,
    /// Conflicts between roles.
    pub conflicts: Vec<crate::roles::RoleConflict>,
    /// The notifications.
    pub notifications: Vec<crate::decide::notifications::Notification>,
    /// When each identity is due again if nothing changes: a stage that begins, a departure step.
    pub due: Vec<(String, Timestamp)>,
}

impl Outcome {
    /// The number of outcomes of each verdict.
    pub fn counts(&self) -> BTreeMap<Verdict, usize> {
        let mut counts = BTreeMap::new();
        for line in &self.decided {
            *counts.entry(line.verdict).or_insert(0) += 1;
        }
        counts
    }

    /// Forgets what was decided about some records: they are decided once more.
    pub fn forget(&mut self, about: &Records) {
        let is_about = |identity: Option<&String>, account: Option<AccountId>| {
            identity.is_some_and(|id| about.identities.contains(id))
                || account.is_some_and(|id| about.accounts.contains(&id))
        };
        self.identities
            .retain(|(one, _)| !is_about(Some(&one.id), None));
        self.links
            .retain(|one| !is_about(Some(&one.identity), Some(one.account)));
        self.member_names
            .retain(|one| !is_about(Some(&one.identity), None));
        self.decided
            .retain(|one| !is_about(one.identity.as_ref(), one.account));
        self.questions
            .retain(|one| !is_about(one.identity.as_ref(), one.account));
        self.reserved
            .retain(|one| !is_about(Some(&one.identity), None));
        self.conflicts
            .retain(|one| !is_about(Some(&one.identity), None));
        self.notifications
            .retain(|one| !is_about(Some(&one.identity), None));
        self.due.retain(|(id, _)| !is_about(Some(id), None));
        self.changes.retain(|one| match one.identity.as_str() {
            "" => !is_about(None, one.account),
            _ => !is_about(Some(&one.identity), None),
        });
    }

    /// Adds what another part of the same decision decided.
    pub fn append(&mut self, other: Outcome) {
        self.identities.extend(other.identities);
        self.links.extend(other.links);
        self.member_names.extend(other.member_names);
        self.decided.extend(other.decided);
        self.changes.extend(other.changes);
        self.questions.extend(other.questions);
        self.reserved.extend(other.reserved);
        self.conflicts.extend(other.conflicts);
        self.notifications.extend(other.notifications);
        self.due.extend(other.due);
    }
}

/// The counts that guards need beside the changes.
#[derive(Debug, Clone, Default)]
pub struct Totals {
    /// How many accounts of each system are linked.
    pub linked: BTreeMap<String, usize>,
    /// The number of changes of a kind that a system got within the hours before.
    pub recent: BTreeMap<(String, String, u32), usize>,
    /// The subjects of changes in flight, by system and kind.
    pub in_flight: InFlight,
    /// The overrides of changes that a guard held, by fingerprint.
    pub overrides: HashMap<String, GuardOverride>,
    /// Answers to approval requests, by fingerprint.
    pub approved: HashMap<String, ApprovalState>,
    /// How many seats of each license are in use, in the order of the rules.
    pub seats: Vec<usize>,
}

impl Totals {
    /// Counts a whole population.
    pub fn of(rules: &RuleSet, population: &Population) -> Totals {
        let system_of: HashMap<AccountId, &str> = population
            .accounts
            .iter()
            .map(|account| (account.id, account.system.as_str()))
            .collect();
        let mut linked: BTreeMap<String, usize> = BTreeMap::new();
        for system in population
            .links
            .iter()
            .filter_map(|link| system_of.get(&link.account))
        {
            match linked.get_mut(*system) {
                Some(count) => *count += 1,
                None => {
                    linked.insert((*system).to_owned(), 1);
                }
            }
        }
        Totals {
            linked,
            seats: Seats::of(rules, population).used(),
            ..Totals::of_facts(population)
        }
    }

    /// All but the linked accounts, which are counted elsewhere.
    pub fn of_facts(population: &Population) -> Totals {
        Totals {
            linked: BTreeMap::new(),
            seats: Vec::new(),
            recent: population.recent_change_counts.clone(),
            in_flight: population.in_flight.clone(),
            overrides: population.guard_overrides.clone(),
            approved: population.approvals.clone(),
        }
    }
}

/// Decides. Pure: the same arguments give the same answer, in the same order.
pub fn decide(rules: &RuleSet, population: &Population, now: Timestamp) -> Outcome {
    let workers = Workers::for_accounts(population.accounts.len());
    decide_with(rules, population, now, workers)
}

/// The same, on so many threads.
pub fn decide_with(
    rules: &RuleSet,
    population: &Population,
    now: Timestamp,
    workers: Workers,
) -> Outcome {
    crate::computation::expect(|| RecordCounts::of(population).steps(rules));
    let mut outcome = decide_records(rules, population, now, &NoOutsideRecords, workers);
    apply_totals(rules, &Totals::of(rules, population), &mut outcome);
    outcome
}

/// How many records of each system and type there are.
#[derive(Debug, Default)]
pub(crate) struct RecordCounts {
    accounts: BTreeMap<(String, ObjectType), usize>,
    identities: BTreeMap<ObjectType, usize>,
}

impl RecordCounts {
    pub(crate) fn of(population: &Population) -> RecordCounts {
        let mut counts = RecordCounts::default();
        counts.add(population);
        counts
    }

    pub(crate) fn add(&mut self, population: &Population) {
        let mut accounts: HashMap<(&str, ObjectType), usize> = HashMap::new();
        for account in &population.accounts {
            *accounts.entry((&account.system, account.kind)).or_default() += 1;
        }
        for ((system, kind), count) in accounts {
            let all = self.accounts.entry((system.to_owned(), kind));
            *all.or_default() += count;
        }
        for identity in &population.identities {
            *self.identities.entry(identity.kind).or_default() += 1;
        }
    }

    /// About how many steps a decision takes: one for each account of a source, one for each
    /// identity, and two for each identity in each target.
    pub(crate) fn steps(&self, rules: &RuleSet) -> usize {
        let of_kind = |kind: ObjectType| {
            let sources = rules.sources(kind);
            let supplied =
                sources.map(|(system, _)| self.accounts.get(&(system.to_owned(), kind)).copied());
            let supplied: Vec<usize> = supplied.flatten().collect();
            let stored = self.identities.get(&kind).copied().unwrap_or(0);
            // Before the first run, nothing is stored: the largest source tells how many there will
            // be.
            let people = supplied.iter().copied().fold(stored, usize::max);
            let targets = rules.systems.values().filter(|system| {
                let types = system.types.get(&kind);
                types.is_some_and(|types| types.is_target())
            });
            supplied.iter().sum::<usize>() + people + 2 * people * targets.count()
        };
        rules.identities.keys().map(|kind| of_kind(*kind)).sum()
    }
}

/// The identities of some records without their generated and distributed values, and who lacks
/// such values. A part of [`decide_records`].
pub(crate) fn find_incomplete(
    rules: &RuleSet,
    population: &Population,
    now: Timestamp,
    elsewhere: &dyn OutsideRecords,
    workers: Workers,
) -> (Outcome, Vec<IncompletePerson>) {
    let mut outcome = Outcome {
        at: now,
        ..Outcome::default()
    };
    let groups = Groups::new(population);
    let mut incomplete = Vec::new();
    for &kind in ObjectType::ALL {
        if rules.identities.contains_key(&kind) {
            let inputs = people::TypeInputs {
                rules,
                population,
                groups: &groups,
                kind,
                elsewhere,
                now,
                workers,
            };
            let (people, lacking) = people::assemble_incomplete(&inputs, &mut outcome);
            incomplete.extend(lacking);
            for person in people {
                let label = person.label.clone();
                outcome.identities.push((person.into_identity(kind), label));
            }
        }
    }
    (outcome, incomplete)
}

/// The first part of a decision: each record separately. [`apply_totals`] then evaluates all of
/// them together.
pub(crate) fn decide_records(
    rules: &RuleSet,
    population: &Population,
    now: Timestamp,
    elsewhere: &dyn OutsideRecords,
    workers: Workers,
) -> Outcome {
    let mut outcome = Outcome {
        at: now,
        ..Outcome::default()
    };
    let groups = Groups::new(population);
    let own = match elsewhere.memberships() {
        None => MembershipRules::of(rules, population),
        Some(_) => MembershipRules::default(),
    };
    let memberships = elsewhere.memberships().unwrap_or(&own);
    outcome.decided.reserve_exact(population.accounts.len());
    for &kind in ObjectType::ALL {
        if !rules.identities.contains_key(&kind) {
            continue;
        }
        let inputs = people::TypeInputs {
            rules,
            population,
            groups: &groups,
            kind,
            elsewhere,
            now,
            workers,
        };
        let people = people::assemble_identities(&inputs, &mut outcome);
        let around = targets::DecisionContext {
            rules,
            population,
            groups: &groups,
            memberships,
            now,
            workers,
        };
        targets::decide_targets(&around, kind, &people, &mut outcome);
        if kind == ObjectType::Person {
            notifications::decide_notifications(
                rules,
                population,
                memberships,
                &people,
                now,
                &mut outcome,
            );
        }
        for person in people {
            let label = person.label.clone();
            outcome.identities.push((person.into_identity(kind), label));
        }
    }
    approvals::request_approvals(rules, memberships, &mut outcome);
    outcome
}

/// The second part of a decision: guards, changes that wait for others, and the order.
pub(crate) fn apply_totals(rules: &RuleSet, totals: &Totals, outcome: &mut Outcome) {
    sort_changes(outcome);
    // Changes that await approval do not count for guards.
    approvals::hold_unapproved(rules, &totals.approved, outcome);
    apply_guards(rules, totals, outcome);
    licenses::hold_without_seat(rules, &totals.seats, outcome);
    finish(rules, outcome);
}

/// As [`apply_totals`] for a few records, without what counts all records: guards and licenses.
pub(crate) fn apply_own_totals(rules: &RuleSet, totals: &Totals, outcome: &mut Outcome) {
    sort_changes(outcome);
    approvals::hold_unapproved(rules, &totals.approved, outcome);
    hold_discarded(totals, outcome);
    finish(rules, outcome);
}

/// Leavers first; within a kind by system and name, so that the order is always the same.
pub(crate) fn sort_changes(outcome: &mut Outcome) {
    let order = |change: &Change| {
        let (kind, step) = change.rank();
        // The steps of one departure are adjacent, in their order.
        (kind, step > 0, step)
    };
    outcome.changes.sort_by(|a, b| {
        let ((kind_a, _, step_a), (kind_b, _, step_b)) = (order(a), order(b));
        (kind_a, &a.system, &a.label, &a.identity, step_a).cmp(&(
            kind_b,
            &b.system,
            &b.label,
            &b.identity,
            step_b,
        ))
    });
}

/// Changes and notifications that wait for others, and the order of questions and lines.
pub(crate) fn finish(rules: &RuleSet, outcome: &mut Outcome) {
    hold_later_steps(&mut outcome.changes);
    references::drop_hopeless_waits(outcome);
    notifications::drop_premature(rules, outcome);
    sort_lines(outcome);
}

/// The order of questions and lines.
pub(crate) fn sort_lines(outcome: &mut Outcome) {
    outcome.questions.sort_by(|a, b| {
        (&a.system, a.doubt, &a.label, &a.identity, a.account).cmp(&(
            &b.system,
            b.doubt,
            &b.label,
            &b.identity,
            b.account,
        ))
    });
    // Lines that need attention come first. Sorted in place, to avoid a second copy of all lines;
    // the key is total, so the order is deterministic.
    outcome.decided.sort_unstable_by(|a, b| {
        fn key(line: &Decided) -> (&str, &str, Option<AccountId>, Option<&str>, ObjectType) {
            (
                &line.system,
                &line.label,
                line.account,
                line.identity.as_deref(),
                line.object,
            )
        }
        let text = |line: &Decided| line.reason.to_string();
        a.verdict
            .cmp(&b.verdict)
            .then_with(|| key(a).cmp(&key(b)))
            .then_with(|| text(a).cmp(&text(b)))
    });
}

/// Whatever holds a departure step holds those after it: they are done in their order, or not yet.
/// For changes in their order.
pub fn hold_later_steps(changes: &mut [Change]) {
    let mut held: HashMap<(String, String), u16> = HashMap::new();
    for change in changes.iter_mut().filter(|change| change.step > 0) {
        let whose = (change.system.clone(), change.identity.clone());
        match (&change.hold, held.get(&whose)) {
            (None, Some(first)) => {
                let kind = ReasonKind::EarlierStepOnHold { step: *first };
                let mut hold = Reason::new(kind).on_hold(HoldCause::WaitingForStep);
                hold.rule = change.reason.rule.clone();
                change.hold = Some(hold);
            }
            (Some(_), None) => {
                held.insert(whose, change.step);
            }
            _ => {}
        }
    }
}

/// Holds changes past a limit.
/// Whom a guard counts: an identity, or else an account. Who leaves ten groups is one, and not ten.
pub(crate) type GuardSubject = (String, Option<AccountId>);

pub(crate) fn guard_subject(change: &Change) -> GuardSubject {
    (
        change.identity.clone(),
        change.account.filter(|_| change.identity.is_empty()),
    )
}

/// Whether guards count a change of a system and a kind.
fn is_guarded(totals: &Totals, change: &Change, system: &str, kind: &str) -> bool {
    change.system == system
        && change.kind.as_str() == kind
        && !change.keeps_membership()
        && !totals.overrides.contains_key(&change.fingerprint)
}

/// The guards, as indexes into the rules, that hold the changes of a system, in the order of the
/// rules. `subjects` gives those of the changes of a system and kind, if there are any.
pub(crate) fn guard_holds<'s, I: Iterator<Item = &'s GuardSubject>>(
    rules: &RuleSet,
    totals: &Totals,
    subjects: impl Fn(&(String, String)) -> I,
) -> Vec<(usize, String, Reason)> {
    let mut holds: Vec<(usize, String, Reason)> = Vec::new();
    let mut held: HashSet<(String, String)> = HashSet::new();
    for (place, guard) in rules.guards.iter().enumerate() {
        let systems = rules.systems.keys();
        for system in systems.filter(|name| guard.system.as_ref().is_none_or(|one| one == *name)) {
            let key = (system.clone(), guard.change.clone());
            if held.contains(&key) {
                continue;
            }
            let own: HashSet<&GuardSubject> = subjects(&key).collect();
            if own.is_empty() {
                continue;
            }
            // Pending changes of other people count, too; those of the same people are the same
            // changes.
            let others = totals.in_flight.get(&key).into_iter().flatten();
            let count = own.len() + others.filter(|one| !own.contains(one)).count();
            let recent = (system.clone(), guard.change.clone(), guard.window_hours);
            let before = totals.recent.get(&recent).copied().unwrap_or(0);
            let linked = totals.linked.get(system).copied().unwrap_or(0);
            if let Some(limit) = exceeded_limit(guard, count + before, linked) {
                let reason = guard_reason(guard, system, count, before, limit);
                holds.push((place, system.clone(), reason));
                held.insert(key);
            }
        }
    }
    holds
}

/// Holds the changes of these guards.
pub(crate) fn apply_guard_holds(
    rules: &RuleSet,
    totals: &Totals,
    holds: &[(usize, String, Reason)],
    outcome: &mut Outcome,
) {
    for (guard, system, reason) in holds {
        let kind = &rules.guards[*guard].change;
        let changes = outcome.changes.iter_mut();
        for change in changes.filter(|change| change.hold.is_none()) {
            if is_guarded(totals, change, system, kind) {
                change.hold = Some(reason.clone());
            }
        }
    }
}

fn apply_guards(rules: &RuleSet, totals: &Totals, outcome: &mut Outcome) {
    hold_discarded(totals, outcome);
    let mut counted: HashMap<(String, String), BTreeSet<GuardSubject>> = HashMap::new();
    for change in outcome
        .changes
        .iter()
        .filter(|change| change.hold.is_none())
    {
        let kind = change.kind.as_str();
        if is_guarded(totals, change, &change.system, kind) {
            let key = (change.system.clone(), kind.to_owned());
            counted
                .entry(key)
                .or_default()
                .insert(guard_subject(change));
        }
    }
    let subjects = |key: &(String, String)| counted.get(key).into_iter().flatten();
    let holds = guard_holds(rules, totals, subjects);
    apply_guard_holds(rules, totals, &holds, outcome);
}

/// Holds the changes that an operator discarded.
pub(crate) fn hold_discarded(totals: &Totals, outcome: &mut Outcome) {
    for change in outcome.changes.iter_mut().filter(|c| c.hold.is_none()) {
        if let Some(said) = totals
            .overrides
            .get(&change.fingerprint)
            .filter(|said| !said.release)
        {
            change.hold = Some(
                Reason::new(ReasonKind::Discarded {
                    principal: said.principal.clone(),
                })
                .on_hold(HoldCause::Discarded),
            );
        }
    }
}

/// Why changes are held by a guard.
fn guard_reason(
    guard: &crate::rules::Guard,
    system: &str,
    count: usize,
    before: usize,
    limit: GuardLimit,
) -> Reason {
    let kind = ReasonKind::HeldByGuard {
        change: guard.change.clone(),
        system: system.to_owned(),
        count,
        before,
        hours: guard.window_hours,
        limit,
        is_built_in: guard.is_built_in,
    };
    Reason::by(kind, &guard.place).on_hold(HoldCause::Guard)
}

fn exceeded_limit(guard: &crate::rules::Guard, count: usize, linked: usize) -> Option<GuardLimit> {
    if let Some(most) = guard.max_count.filter(|most| count > *most) {
        return Some(GuardLimit::Count(most));
    }
    // A percentage of nothing is meaningless: the first run of an empty target exceeds no limit.
    // 100 % can never be exceeded.
    let percent = guard.max_percent.filter(|share| *share < 100)?;
    let is_few = guard.min_count.is_some_and(|least| count <= least);
    (linked > 0 && !is_few && count * 100 > linked * percent as usize)
        .then_some(GuardLimit::Percent { percent, linked })
}

/// A digest of a list of fingerprints. Different lists have different digests.
pub fn digest_fingerprints(fingerprints: &[&str]) -> String {
    fingerprint(fingerprints, &[])
}

pub(crate) fn fingerprint(parts: &[&str], values: &[ValueChange]) -> String {
    let mut bytes = Vec::new();
    for part in parts {
        bytes.extend_from_slice(part.as_bytes());
        bytes.push(0);
    }
    for value in values {
        let pair: crate::value::Attributes = [
            ("before".into(), value.before.clone()),
            ("after".into(), value.after.clone()),
        ]
        .into_iter()
        .collect();
        bytes.extend_from_slice(value.attribute.as_bytes());
        bytes.push(0);
        bytes.extend_from_slice(&pair.to_blob());
        for later in &value.later {
            bytes.extend_from_slice(later.identity.as_bytes());
            bytes.push(0);
        }
    }
    // An operator's yes hangs on it, and it covers values that the owner of a source writes: two
    // that are alike must not be made.
    Sha256::digest(&bytes)
        .iter()
        .take(24)
        .map(|byte| format!("{byte:02x}"))
        .collect()
}

/// The rule file of a type, for reasons without a nearer location.
pub(crate) fn file_of(rules: &RuleSet, system: &str, kind: ObjectType) -> Place {
    rules
        .of(system, kind)
        .map(|types| types.place.clone())
        .unwrap_or_default()
}

#[cfg(test)]
#[path = "tests.rs"]
mod tests;
