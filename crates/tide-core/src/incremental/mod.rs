//! Incremental decisions: the cost of a decision follows the number of changed records, not the
//! size of the population.
//!
//! [`IncrementalState`] is the state after a full decision: an index of what records share, and the
//! outstanding changes. Changed records are passed to [`IncrementalState::begin`];
//! [`IncrementalState::advance`] then asks for the records that it needs, step by step. The result
//! equals that of a full decision.
//!
//! A record is decided together with its neighbors: the records that could match it, or have its
//! name or the same unique value. Its referrers are decided too if its visible result changed. The
//! records to which it refers are read for their names only.

mod backlog;
mod chunked;
mod dependency_index;
mod distribution;
mod keys;
mod scope_groups;

pub use chunked::{ChunkStep, ChunkedDecision, DecidedChunk};
pub use dependency_index::RecordId;

use crate::decide::licenses::Seats;
use crate::decide::{
    Change, Outcome, RecordCounts, Totals, apply_own_totals, apply_totals, decide_records,
};
use crate::generate;
use crate::memberships::{self, DirectMembers, IndexedMembership, MembershipRules};
use crate::model::{Account, AccountId, Identity, Population, SystemFacts};
use crate::outside::{NoOutsideRecords, OutsideRecords, ValueDistribution};
use crate::reasons::HoldCause;
use crate::rules::RuleSet;
use crate::scope::names_of;
use crate::states::{ChangeKind, ObjectType};
use crate::workers::Workers;
use backlog::Backlog;
use dependency_index::{DependencyIndex, IndexKeys, PlaceSet, RecordIndex, hash};
use distribution::DistributionCounts;
use jiff::Timestamp;
use keys::KeyRules;
use scope_groups::ScopeGroups;
use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};

/// Maximum number of records of an incremental decision; if more depend on a change, a full
/// decision is needed.
const MAX_RECORDS: usize = 5_000;

/// Maximum number of outstanding changes that a decision about a neighborhood counts for guards and
/// licenses.
const MAX_COUNTED: usize = 2_000;

/// Some records of a population.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Records {
    /// Accounts, by row id.
    pub accounts: BTreeSet<AccountId>,
    /// Identities, by id.
    pub identities: BTreeSet<String>,
}

impl Records {
    /// The number of records.
    pub fn len(&self) -> usize {
        self.accounts.len() + self.identities.len()
    }

    /// Is it empty?
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// Adds other records.
    pub fn add(&mut self, others: Records) {
        self.accounts.extend(others.accounts);
        self.identities.extend(others.identities);
    }

    /// Removes records.
    pub fn subtract(&mut self, others: &Records) {
        self.accounts.retain(|id| !others.accounts.contains(id));
        self.identities.retain(|id| !others.identities.contains(id));
    }

    fn put(&mut self, record: &RecordId) {
        match record {
            RecordId::Account(id) => {
                self.accounts.insert(*id);
            }
            RecordId::Identity(id) => {
                self.identities.insert(id.clone());
            }
        }
    }
}

/// A membership that we granted or revoked.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AppliedMembership {
    /// The group.
    pub group: AccountId,
    /// The member, by a name that the group uses, folded.
    pub member: String,
    /// The member was added; `false`: removed.
    pub is_member: bool,
}

/// The next step of an incremental decision.
#[derive(Debug)]
pub enum PassStep {
    /// Read these records with everything that belongs to them, and call `advance` again.
    Read(Records),
    /// The decision is complete.
    Decided(Box<PartialOutcome>),
    /// A full decision is needed: too many records depend on the change.
    FullDecision,
}

/// The result of an incremental decision.
#[derive(Debug)]
pub struct PartialOutcome {
    /// The records that were decided.
    pub about: Records,
    /// The number of records that were read.
    pub read: usize,
    /// The number of identities and accounts that were evaluated, counting each pass.
    pub evaluated: usize,
    /// The outcome. Its changes include the outstanding changes of all records; of a backlog only
    /// those whose hold may have changed.
    pub outcome: Outcome,
}

/// An incremental decision in progress.
#[derive(Debug)]
pub struct IncrementalPass {
    touched: Records,
    noted: bool,
    wide: bool,
    read: PlaceSet,
    evaluated: usize,
}

/// Some records, those that are decided together with them, and those that this reads.
#[derive(Debug)]
pub struct Neighborhood {
    about: PlaceSet,
    near: PlaceSet,
    /// The records that are decided.
    pub decided: Records,
    /// The records to read.
    pub read: Records,
}

/// The outcome of a decision about a neighborhood.
#[derive(Debug)]
pub struct NeighborhoodOutcome {
    /// The outcome for the decided records. Its identities include those that were read only,
    /// because values can refer to them.
    pub outcome: Outcome,
    /// Whether guards and licenses were evaluated: with many outstanding changes they are not.
    pub is_counted: bool,
}

/// The state after a full decision.
pub struct IncrementalState {
    keys: KeyRules,
    index: DependencyIndex,
    /// Changes that are not done yet, and that only a guard, a failure or a person holds.
    outstanding: BTreeMap<RecordId, Vec<Change>>,
    outstanding_count: usize,
    /// What holds them, once they are more than `exact_limit`.
    backlog: Option<Backlog>,
    exact_limit: usize,
    /// The number of linked accounts of each system.
    linked: BTreeMap<String, usize>,
    /// The system of each linked account.
    linked_in: rustc_hash::FxHashMap<AccountId, u16>,
    systems: Vec<String>,
    /// Groups that define a scope, and groups nested in them: they are always read.
    groups: BTreeSet<AccountId>,
    scope_groups: ScopeGroups,
    /// When each identity is due, if nothing changes before.
    due: BTreeSet<(Timestamp, String)>,
    due_of: rustc_hash::FxHashMap<String, Timestamp>,
    /// The members of groups with memberships by rule.
    memberships: MembershipRules,
    /// The members of all other groups.
    other_groups: DirectMembers,
    /// Changes by others that are only reported.
    reported: BTreeMap<RecordId, Vec<Change>>,
    /// The seats of licenses in use.
    seats: Seats,
    /// The use of each distributed value.
    spread: DistributionCounts,
}

/// Answers what the decision asks about records that were not read.
struct UnreadRecords<'a> {
    web: &'a DependencyIndex,
    read: &'a PlaceSet,
    memberships: &'a MembershipRules,
    spread: &'a DistributionCounts,
    /// Proposed values stay as they are: the records are decided once more, and nothing changed.
    keeps_proposed: bool,
}

impl OutsideRecords for UnreadRecords<'_> {
    fn is_taken(&self, kind: ObjectType, attribute: &str, folded: &str) -> bool {
        self.web
            .records_reserving(hash(&["takes", kind.as_str(), attribute, folded]))
            .any(|place| !self.read.contains(&place))
    }

    fn distribution(
        &self,
        kind: ObjectType,
        attribute: &str,
        without: &HashSet<&str>,
    ) -> BTreeMap<String, ValueDistribution> {
        self.spread.counts_without(kind, attribute, without)
    }

    fn proposed_value(&self, identity: &str, attribute: &str) -> Option<String> {
        self.keeps_proposed
            .then(|| self.spread.value_of(identity, attribute))
            .flatten()
    }

    fn memberships(&self) -> Option<&MembershipRules> {
        Some(self.memberships)
    }
}

/// The record that a change belongs to.
fn record_of(change: &Change) -> RecordId {
    match change.account.filter(|_| change.identity.is_empty()) {
        Some(account) => RecordId::Account(account),
        None => RecordId::Identity(change.identity.clone()),
    }
}

impl IncrementalState {
    /// The state before anything is known.
    fn empty(rules: &RuleSet, systems: &SystemFactsMap) -> IncrementalState {
        IncrementalState {
            groups: BTreeSet::new(),
            scope_groups: ScopeGroups::default(),
            keys: KeyRules::new(rules, systems),
            index: DependencyIndex::default(),
            outstanding: BTreeMap::new(),
            outstanding_count: 0,
            backlog: None,
            exact_limit: backlog::EXACT_LIMIT,
            linked: BTreeMap::new(),
            linked_in: Default::default(),
            systems: systems.keys().cloned().collect(),
            due: BTreeSet::new(),
            due_of: Default::default(),
            memberships: MembershipRules::for_rules(rules),
            other_groups: DirectMembers::default(),
            reported: BTreeMap::new(),
            seats: Seats::default(),
            spread: DistributionCounts::default(),
        }
    }

    /// Makes a full decision, and builds the state for incremental ones. The outcome is that of
    /// [`crate::decide()`].
    pub fn of(
        rules: &RuleSet,
        population: &Population,
        now: Timestamp,
    ) -> (IncrementalState, Outcome) {
        crate::computation::expect(|| RecordCounts::of(population).steps(rules));
        let mut outcome = decide_records(
            rules,
            population,
            now,
            &NoOutsideRecords,
            Workers::for_accounts(population.accounts.len()),
        );
        let mut standing = IncrementalState::empty(rules, &population.systems);
        standing.note_scope_groups(population);
        standing.memberships = MembershipRules::of(rules, population);
        standing.note_accounts(rules, population, None);
        standing.note_stored_identities(rules, population, None);
        standing.note_identities(rules, population, &outcome, None);
        standing.store_changes(&outcome, None);
        let totals = Totals {
            linked: standing.linked.clone(),
            seats: standing.seats.used(),
            ..Totals::of_facts(population)
        };
        apply_totals(rules, &totals, &mut outcome);
        standing.note_backlog(rules, &totals, &outcome);
        (standing, outcome)
    }

    /// When the next identity is due by time alone.
    pub fn next_due(&self) -> Option<Timestamp> {
        self.due.first().map(|(at, _)| *at)
    }

    /// The identities that are due by `now`.
    pub fn due_identities(&self, now: Timestamp) -> BTreeSet<String> {
        self.due
            .iter()
            .take_while(|(at, _)| *at <= now)
            .map(|(_, id)| id.clone())
            .collect()
    }

    fn is_due(&mut self, id: &str, at: Option<Timestamp>) {
        if let Some(before) = self.due_of.remove(id) {
            self.due.remove(&(before, id.to_owned()));
        }
        if let Some(at) = at {
            self.due.insert((at, id.to_owned()));
            self.due_of.insert(id.to_owned(), at);
        }
    }

    /// The neighborhood of some records; those that the state does not know are read as well.
    /// `None` if too many records belong to it.
    pub fn neighborhood(&self, of: &Records) -> Option<Neighborhood> {
        let asking = IncrementalPass {
            touched: of.clone(),
            noted: true,
            wide: false,
            read: PlaceSet::default(),
            evaluated: 0,
        };
        let (about, near) = self.records_around(&asking)?;
        let mut decided = of.clone();
        for place in &about {
            decided.put(self.index.record(*place));
        }
        let mut read = decided.clone();
        read.accounts.extend(&self.groups);
        for place in &near {
            read.put(self.index.record(*place));
        }
        Some(Neighborhood {
            about,
            near,
            decided,
            read,
        })
    }

    /// Decides about a neighborhood without changing the state. `population` contains the records
    /// that it reads. The outcome of the decided records equals that of a full decision.
    pub fn decide_neighborhood(
        &self,
        rules: &RuleSet,
        population: &Population,
        neighborhood: &Neighborhood,
        now: Timestamp,
    ) -> NeighborhoodOutcome {
        let others = UnreadRecords {
            web: &self.index,
            read: &neighborhood.near,
            memberships: &self.memberships,
            spread: &self.spread,
            keeps_proposed: true,
        };
        let mut outcome = decide_records(rules, population, now, &others, Workers::ONE);
        let identities = outcome.identities.clone();
        self.keep_only(&mut outcome, &neighborhood.about);
        outcome.identities = identities;
        let others = || {
            self.outstanding
                .iter()
                .filter(|(record, _)| {
                    self.place(record)
                        .is_none_or(|place| !neighborhood.about.contains(&place))
                })
                .flat_map(|(_, changes)| changes)
        };
        let is_counted = others().take(MAX_COUNTED + 1).count() <= MAX_COUNTED;
        let totals = Totals {
            linked: self.linked.clone(),
            seats: self.seats.used(),
            ..Totals::of_facts(population)
        };
        if is_counted {
            let is_own: HashSet<String> = outcome
                .changes
                .iter()
                .map(|change| change.fingerprint.clone())
                .collect();
            outcome.changes.extend(others().cloned());
            apply_totals(rules, &totals, &mut outcome);
            outcome
                .changes
                .retain(|change| is_own.contains(&change.fingerprint));
        } else {
            apply_own_totals(rules, &totals, &mut outcome);
        }
        NeighborhoodOutcome {
            outcome,
            is_counted,
        }
    }

    /// Changes by others that are only reported.
    pub fn reported_drift(&self) -> impl Iterator<Item = &Change> {
        self.reported.values().flatten()
    }

    /// The groups that an account is a direct member of.
    pub fn groups_of(&self, account: &Account) -> BTreeSet<AccountId> {
        let mut groups = self.memberships.held_by(account);
        groups.extend(self.other_groups.held_by(account));
        groups
    }

    /// The accounts to which a group of a system refers by a name.
    pub fn members_called(&self, system: &str, reference: &str) -> impl Iterator<Item = AccountId> {
        let hash = memberships::member_hash(system, reference);
        self.index.accounts_by_member_name(hash)
    }

    /// The label of a group with memberships by rule.
    pub fn group_label(&self, group: AccountId) -> Option<&str> {
        Some(&self.memberships.get(group)?.label)
    }

    /// The number of linked accounts of each system.
    pub fn linked_counts(&self) -> &BTreeMap<String, usize> {
        &self.linked
    }

    /// The number of seats in use of each license.
    pub fn seats_in_use(&self) -> Vec<usize> {
        self.seats.used()
    }

    /// Whether an identity or an account is known.
    pub fn knows(&self, identity: &str, account: AccountId) -> bool {
        self.index.identity(identity).is_some() || self.index.account(account).is_some()
    }

    /// The number of indexed records.
    pub fn len(&self) -> usize {
        self.index.len()
    }

    /// Is it empty?
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// Applies memberships that we changed. Returns the accounts that must be decided: the members,
    /// or the group itself if other records depend on it.
    pub fn apply_memberships(&mut self, all: &[AppliedMembership]) -> BTreeSet<AccountId> {
        let mut accounts = BTreeSet::new();
        for one in all {
            let depended_on =
                |system: &str| self.keys.flattens_groups() || self.keys.asks_for(system);
            let whole = self
                .memberships
                .get(one.group)
                .is_none_or(|group| group.owned)
                || self
                    .memberships
                    .system_of(one.group)
                    .is_some_and(depended_on);
            match (!whole)
                .then(|| {
                    self.memberships
                        .apply_membership(one.group, &one.member, one.is_member)
                })
                .flatten()
            {
                Some(hash) => accounts.extend(self.index.accounts_by_member_name(hash)),
                None => {
                    accounts.insert(one.group);
                }
            }
        }
        accounts
    }

    /// Begins a decision about changed records. Returns it with the records to read.
    pub fn begin(&self, touched: Records) -> (IncrementalPass, Records) {
        let mut wanted = touched.clone();
        wanted.accounts.extend(&self.groups);
        let mut asking = IncrementalPass {
            touched,
            noted: false,
            wide: false,
            read: PlaceSet::default(),
            evaluated: 0,
        };
        // Former neighbors are mostly still neighbors: reading them now saves a step.
        if let Some((_, near)) = self.records_around(&asking) {
            near.iter()
                .for_each(|place| wanted.put(self.index.record(*place)));
            asking.read = near;
        }
        (asking, wanted)
    }

    /// Continues with the records that were asked for. `population` contains them with their links
    /// and everything that belongs to them.
    pub fn advance(
        &mut self,
        asking: &mut IncrementalPass,
        rules: &RuleSet,
        population: &Population,
        now: Timestamp,
    ) -> PassStep {
        if !asking.noted
            && let Some(value) = self.note_dirty(asking, rules, population)
        {
            return value;
        }
        let Some((_, near)) = self.records_around(asking) else {
            return PassStep::FullDecision;
        };
        if !near.is_subset(&asking.read) {
            return self.read(asking, near);
        }
        let mut outcome = {
            let others = UnreadRecords {
                web: &self.index,
                read: &asking.read,
                memberships: &self.memberships,
                spread: &self.spread,
                keeps_proposed: false,
            };
            decide_records(rules, population, now, &others, Workers::ONE)
        };
        asking.evaluated += outcome.decided.len() + outcome.identities.len();
        let Some((about, _)) = self.records_around(asking) else {
            return PassStep::FullDecision;
        };
        // The newly composed identities may have other neighbors than before.
        asking.wide |= self.note_identities(rules, population, &outcome, Some(&about));
        let wide = asking.wide || self.visible_result_changed(&outcome, &about);
        asking.wide = wide;
        let Some((about, near)) = self.records_around(asking) else {
            return PassStep::FullDecision;
        };
        if !near.is_subset(&asking.read) {
            return self.read(asking, near);
        }
        self.keep_only(&mut outcome, &about);
        self.store_changes(&outcome, Some(&about));
        let decided: Vec<RecordId> = about
            .iter()
            .map(|place| self.index.record(*place).clone())
            .collect();
        self.evaluate(rules, population, &decided, &mut outcome);
        let mut records = Records::default();
        decided.iter().for_each(|record| records.put(record));
        PassStep::Decided(Box::new(PartialOutcome {
            about: records,
            read: asking.read.len(),
            evaluated: asking.evaluated,
            outcome,
        }))
    }

    /// Evaluates what all records are needed for: of the decided records, and of all outstanding
    /// changes unless nothing changes for them.
    fn evaluate(
        &mut self,
        rules: &RuleSet,
        population: &Population,
        decided: &[RecordId],
        outcome: &mut Outcome,
    ) {
        let totals = Totals {
            linked: self.linked.clone(),
            seats: self.seats.used(),
            ..Totals::of_facts(population)
        };
        if self.evaluate_beside_backlog(rules, &totals, decided, outcome) {
            return;
        }
        let held = std::mem::take(&mut outcome.changes).into_iter();
        outcome.changes = self
            .outstanding
            .values()
            .flatten()
            .cloned()
            .chain(held.filter(|change| change.hold.is_some()))
            .collect();
        apply_totals(rules, &totals, outcome);
        self.note_backlog(rules, &totals, outcome);
    }

    /// After an evaluation of all outstanding changes.
    fn note_backlog(&mut self, rules: &RuleSet, totals: &Totals, outcome: &Outcome) {
        self.backlog = (self.outstanding_count > self.exact_limit)
            .then(|| Backlog::of(rules, totals, &self.outstanding, outcome));
    }

    /// Updates the index of the dirty records, once for each pass.
    fn note_dirty(
        &mut self,
        asking: &mut IncrementalPass,
        rules: &RuleSet,
        population: &Population,
    ) -> Option<PassStep> {
        asking.noted = true;
        let about = keys::RecordKeys::of(population);
        let mut members: BTreeSet<AccountId> = BTreeSet::new();
        for account in population
            .accounts
            .iter()
            .filter(|account| asking.touched.accounts.contains(&account.id))
        {
            if account.kind == ObjectType::Group && self.keys.asks_for(&account.system) {
                match self.update_scope_group(account) {
                    Some(concerned) => members.extend(concerned),
                    None => return Some(PassStep::FullDecision),
                }
            }
            if self.memberships.concerns(account) {
                match self
                    .memberships
                    .update_group(account, about.owner(account.id).is_some())
                {
                    IndexedMembership::Otherwise => return Some(PassStep::FullDecision),
                    IndexedMembership::Members(hashes) => members.extend(
                        hashes
                            .into_iter()
                            .flat_map(|hash| self.index.accounts_by_member_name(hash)),
                    ),
                }
            }
        }
        asking.touched.accounts.extend(members);
        asking.wide |= self.note_accounts(rules, population, Some(&asking.touched));
        // Only members that were added or removed are decided, not all members of the group.
        asking.wide |= self.note_stored_identities(rules, population, Some(&asking.touched));
        None
    }

    /// The outcome with all outstanding changes, when only the time or an answer changed.
    pub fn outstanding_outcome(&self, rules: &RuleSet, totals: &Totals, now: Timestamp) -> Outcome {
        let mut outcome = Outcome {
            at: now,
            changes: self.outstanding.values().flatten().cloned().collect(),
            ..Outcome::default()
        };
        apply_totals(rules, totals, &mut outcome);
        outcome
    }

    fn read(&self, asking: &mut IncrementalPass, near: PlaceSet) -> PassStep {
        asking.read = near;
        let mut records = Records {
            accounts: self.groups.clone(),
            ..Records::default()
        };
        asking
            .read
            .iter()
            .for_each(|place| records.put(self.index.record(*place)));
        PassStep::Read(records)
    }

    /// The records to decide and the records to read for them. `None` if there are too many.
    fn records_around(&self, asking: &IncrementalPass) -> Option<(PlaceSet, PlaceSet)> {
        let accounts = asking
            .touched
            .accounts
            .iter()
            .filter_map(|id| self.index.account(*id));
        let touched: PlaceSet = accounts
            .chain(
                asking
                    .touched
                    .identities
                    .iter()
                    .filter_map(|id| self.index.identity(id)),
            )
            .collect();
        let all = |_: RecordIndex| true;
        let referrers: Option<&dyn Fn(RecordIndex) -> bool> =
            if asking.wide { Some(&all) } else { None };
        self.around(touched, referrers, MAX_RECORDS)
    }

    /// The same for these records. With `referrers`, those records that refer to them and are such are
    /// decided too.
    fn around(
        &self,
        start: PlaceSet,
        referrers: Option<&dyn Fn(RecordIndex) -> bool>,
        limit: usize,
    ) -> Option<(PlaceSet, PlaceSet)> {
        let mut about = self.connected_component(start, limit)?;
        if let Some(is_such) = referrers {
            let pointing: Vec<RecordIndex> = about
                .iter()
                .flat_map(|place| self.index.referrers(*place))
                .filter(|place| is_such(*place))
                .collect();
            about.extend(pointing);
            about = self.connected_component(about, limit)?;
        }
        let mut near = about.clone();
        near.extend(about.iter().flat_map(|place| self.index.references(*place)));
        Some((about, self.connected_component(near, limit)?))
    }

    /// All records that must be decided together with these.
    fn connected_component(&self, start: PlaceSet, limit: usize) -> Option<PlaceSet> {
        let mut left: Vec<RecordIndex> = start.iter().copied().collect();
        let mut all = start;
        while let Some(place) = left.pop() {
            if all.len() > limit {
                return None;
            }
            left.extend(
                self.index
                    .neighbors(place)
                    .filter(|other| all.insert(*other)),
            );
        }
        (all.len() <= limit).then_some(all)
    }

    /// Did the visible result of the decided records change, so that their referrers must be
    /// decided? It did if an account is created, no longer created, or linked.
    fn visible_result_changed(&self, outcome: &Outcome, about: &PlaceSet) -> bool {
        let among = |record: &RecordId| {
            self.place(record)
                .is_some_and(|place| about.contains(&place))
        };
        let made = |change: &&Change| change.kind == ChangeKind::Create;
        let known = about
            .iter()
            .filter_map(|place| self.outstanding.get(self.index.record(*place)));
        let before: HashSet<(&str, &str)> = known
            .flatten()
            .filter(made)
            .map(|change| (change.system.as_str(), change.identity.as_str()))
            .collect();
        let free = outcome
            .changes
            .iter()
            .filter(|change| change.hold.is_none() && among(&record_of(change)));
        let now: HashSet<(&str, &str)> = free
            .filter(made)
            .map(|change| (change.system.as_str(), change.identity.as_str()))
            .collect();
        before != now
            || outcome
                .links
                .iter()
                .any(|link| among(&RecordId::Identity(link.identity.clone())))
    }

    fn place(&self, record: &RecordId) -> Option<RecordIndex> {
        match record {
            RecordId::Account(id) => self.index.account(*id),
            RecordId::Identity(id) => self.index.identity(id),
        }
    }

    /// Keeps the results of these records only; the others were read as context.
    fn keep_only(&self, outcome: &mut Outcome, about: &PlaceSet) {
        let identity = |id: &str| {
            self.index
                .identity(id)
                .is_some_and(|place| about.contains(&place))
        };
        let account = |id: Option<AccountId>| {
            id.and_then(|id| self.index.account(id))
                .is_some_and(|place| about.contains(&place))
        };
        outcome.identities.retain(|(one, _)| identity(&one.id));
        outcome.links.retain(|link| identity(&link.identity));
        outcome.member_names.retain(|one| identity(&one.identity));
        outcome.reserved.retain(|name| identity(&name.identity));
        outcome.due.retain(|(id, _)| identity(id));
        outcome
            .notifications
            .retain(|notice| identity(&notice.identity));
        outcome
            .conflicts
            .retain(|conflict| identity(&conflict.identity));
        outcome.decided.retain(|line| {
            line.identity
                .as_deref()
                .map_or_else(|| account(line.account), identity)
        });
        outcome.questions.retain(|question| {
            question
                .identity
                .as_deref()
                .map_or_else(|| account(question.account), identity)
        });
        outcome.changes.retain(|change| match record_of(change) {
            RecordId::Account(id) => account(Some(id)),
            RecordId::Identity(id) => identity(&id),
        });
    }

    /// Stores the outstanding changes of the decided records.
    fn store_changes(&mut self, outcome: &Outcome, about: Option<&PlaceSet>) {
        match about {
            None => {
                self.outstanding.clear();
                self.outstanding_count = 0;
                self.backlog = None;
                self.reported.clear();
            }
            Some(about) => {
                let records: Vec<RecordId> = about
                    .iter()
                    .map(|place| self.index.record(*place).clone())
                    .collect();
                self.forget_outstanding(&records);
                for record in &records {
                    self.reported.remove(record);
                }
            }
        }
        let mut next: BTreeMap<&str, Timestamp> = BTreeMap::new();
        for (id, at) in &outcome.due {
            let first = next.entry(id).or_insert(*at);
            *first = (*first).min(*at);
        }
        for (identity, _) in &outcome.identities {
            self.is_due(&identity.id, next.get(identity.id.as_str()).copied());
        }
        for change in &outcome.changes {
            let kept = match &change.hold {
                None => {
                    self.outstanding_count += 1;
                    &mut self.outstanding
                }
                Some(hold) if hold.cause == Some(HoldCause::ExternalChange) => &mut self.reported,
                Some(_) => continue,
            };
            kept.entry(record_of(change))
                .or_default()
                .push(change.clone());
        }
    }

    fn note_accounts(
        &mut self,
        rules: &RuleSet,
        population: &Population,
        only: Option<&Records>,
    ) -> bool {
        let about = keys::RecordKeys::of(population);
        let mut otherwise = false;
        let accounts: Vec<&Account> = population
            .accounts
            .iter()
            .filter(|account| only.is_none_or(|only| only.accounts.contains(&account.id)))
            .collect();
        let keys = keys_of(&accounts, |account| {
            self.keys.account_keys(rules, account, &about)
        });
        for (account, hashes) in accounts.into_iter().zip(keys) {
            let owner = about.owner(account.id);
            otherwise |= self
                .index
                .update_record(&RecordId::Account(account.id), hashes);
            if account.kind == ObjectType::Group && !self.memberships.concerns(account) {
                self.other_groups.update_group(account);
            }
            let has_groups = population
                .systems
                .get(&account.system)
                .is_some_and(|facts| facts.schema.contains_key(&ObjectType::Group));
            let has_scope = self.keys.asks_for(&account.system);
            if has_groups || has_scope || self.memberships.follows_rules(&account.system) {
                let names = names_of(account)
                    .into_iter()
                    .map(|name| memberships::hash(&account.system, &name));
                self.index.is_called(account.id, names);
            }
            self.seats.count_account(rules, account);
            self.count(
                account.id,
                owner.is_some().then_some(account.system.as_str()),
            );
        }
        otherwise
    }

    /// Updates the index of stored identities. `true` if records that refer to them are concerned.
    fn note_stored_identities(
        &mut self,
        rules: &RuleSet,
        population: &Population,
        only: Option<&Records>,
    ) -> bool {
        let about = keys::RecordKeys::of(population);
        let mut otherwise = false;
        let identities: Vec<&Identity> = population
            .identities
            .iter()
            .filter(|identity| only.is_none_or(|only| only.identities.contains(&identity.id)))
            .collect();
        let keys = keys_of(&identities, |identity| {
            self.keys.identity_keys(rules, identity, &about)
        });
        for (identity, hashes) in identities.into_iter().zip(keys) {
            let record = RecordId::Identity(identity.id.clone());
            otherwise |= self.index.update_record(&record, hashes);
        }
        otherwise
    }

    fn note_identities(
        &mut self,
        rules: &RuleSet,
        population: &Population,
        outcome: &Outcome,
        about: Option<&PlaceSet>,
    ) -> bool {
        let known = keys::RecordKeys::of(population);
        let proposed = proposed(rules, population, outcome);
        let mut otherwise = false;
        let among = |place: Option<RecordIndex>| {
            about.is_none_or(|about| place.is_some_and(|place| about.contains(&place)))
        };
        // A proposed identity that is gone holds no distributed value.
        let there: HashSet<&str> = outcome
            .identities
            .iter()
            .map(|(identity, _)| identity.id.as_str())
            .collect();
        for place in about.into_iter().flatten() {
            if let RecordId::Identity(id) = self.index.record(*place)
                && !there.contains(id.as_str())
            {
                self.spread.remove_identity(id);
            }
        }
        // New identities of the decided accounts.
        let lines = outcome
            .decided
            .iter()
            .filter(|line| line.account.is_some_and(|id| among(self.index.account(id))));
        let new: HashSet<&str> = lines.filter_map(|line| line.identity.as_deref()).collect();
        let decided: Vec<&Identity> = outcome
            .identities
            .iter()
            .map(|(identity, _)| identity)
            .filter(|identity| {
                let place = self.index.identity(&identity.id);
                among(place) || (place.is_none() && new.contains(identity.id.as_str()))
            })
            .collect();
        let keys = keys_of(&decided, |identity| {
            self.keys.identity_keys(rules, identity, &known)
        });
        for (identity, mut hashes) in decided.into_iter().zip(keys) {
            self.spread.count_identity(rules, identity);
            if let Some(accounts) = proposed.get(identity.id.as_str()) {
                let keys = &self.keys;
                let proposed = keys.proposed_identity_keys(rules, identity.kind, accounts);
                hashes.joins_on.extend(proposed);
            }
            let record = RecordId::Identity(identity.id.clone());
            otherwise |= self.index.update_record(&record, hashes);
        }
        otherwise
    }

    fn count(&mut self, account: AccountId, system: Option<&str>) {
        let system = system
            .and_then(|system| self.systems.iter().position(|one| one == system))
            .and_then(|at| u16::try_from(at).ok());
        let before = match system {
            Some(at) => self.linked_in.insert(account, at),
            None => self.linked_in.remove(&account),
        };
        if before == system {
            return;
        }
        for (at, one) in [(before, -1isize), (system, 1)] {
            let Some(name) = at.and_then(|at| self.systems.get(usize::from(at))) else {
                continue;
            };
            let count = self.linked.entry(name.clone()).or_default();
            *count = count.saturating_add_signed(one);
        }
    }
}

/// The hashes of records, in their order, on all cores if they are many.
fn keys_of<R: Sync>(records: &[&R], keys: impl Fn(&R) -> IndexKeys + Sync) -> Vec<IndexKeys> {
    let workers = Workers::for_accounts(records.len());
    let jobs: Vec<&[&R]> = records.chunks(workers.chunk).collect();
    let of_job = |job: &[&R]| job.iter().map(|record| keys(record)).collect::<Vec<_>>();
    workers.run(jobs, of_job).into_iter().flatten().collect()
}

/// The source accounts of each identity that is not stored yet, if another source could match it.
fn proposed<'a>(
    rules: &RuleSet,
    population: &'a Population,
    outcome: &'a Outcome,
) -> HashMap<&'a str, Vec<&'a Account>> {
    if rules
        .identities
        .keys()
        .all(|kind| rules.sources(*kind).count() < 2)
    {
        return HashMap::new();
    }
    let known: HashSet<&str> = population
        .identities
        .iter()
        .map(|identity| identity.id.as_str())
        .collect();
    let accounts: HashMap<AccountId, &Account> = population
        .accounts
        .iter()
        .map(|account| (account.id, account))
        .collect();
    let mut proposed: HashMap<&str, Vec<&Account>> = HashMap::new();
    for line in &outcome.decided {
        let Some(id) = line.identity.as_deref().filter(|id| !known.contains(id)) else {
            continue;
        };
        let feeds = rules
            .of(&line.system, line.object)
            .is_some_and(|types| types.is_source());
        if let Some(account) = line
            .account
            .and_then(|id| accounts.get(&id))
            .filter(|_| feeds)
        {
            let all = proposed.entry(id).or_default();
            if !all.iter().any(|one| one.id == account.id) {
                all.push(account);
            }
        }
    }
    proposed
}

/// The hash of a generated value.
pub(crate) fn taken_hash(kind: ObjectType, attribute: &str, value: &str) -> u64 {
    hash(&[
        "takes",
        kind.as_str(),
        attribute,
        &generate::fold_name(value),
    ])
}

/// The facts of systems on which keys depend.
pub(crate) type SystemFactsMap = BTreeMap<String, SystemFacts>;
