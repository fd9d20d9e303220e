//! Who must be decided about when something changes, so that a decision costs what the change costs and not what the
//! population costs.
//!
//! [`Standing`] is what stands after everybody was decided about: who shares what, and which changes are outstanding.
//! Records that changed are handed to [`Standing::begin`]; what else is needed is asked for step by step, and the
//! answer is the same as that of a decision about everybody.
//!
//! A record is decided about together with those that it *meets*: whoever could be matched to it, has its name or a value
//! that only one may have. Those who point to it are decided about too when they may see it otherwise, and those that
//! it points to are read, so that it is known what they are called.

mod dependency_index;
mod distribution;
mod keys;

pub use dependency_index::Record;

use crate::decide::ValueDistribution;
use crate::decide::{Change, ChangeKind, NoOutsideRecords, Outcome, OutsideRecords, Totals, each, finish};
use crate::generate;
use crate::licenses::Seats;
use crate::memberships::{self, IndexedMembership, MembershipRules};
use crate::model::{Account, AccountId, ObjectType, Population, SystemFacts};
use crate::rules::RuleSet;
use crate::scope::names_of;
use dependency_index::{DependencyIndex, RecordIndex, hash};
use distribution::DistributionCounts;
use jiff::Timestamp;
use keys::Keys;
use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};

/// The most records that are gathered for one decision; when more depend on it, everybody is decided about.
const MAX_RECORDS: usize = 5_000;

/// Some records of a population.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Records {
    /// Accounts, by their rows.
    pub accounts: BTreeSet<AccountId>,
    /// Identities, by their ids.
    pub identities: BTreeSet<String>,
}

impl Records {
    /// How many there are.
    pub fn len(&self) -> usize {
        self.accounts.len() + self.identities.len()
    }

    /// Are there none?
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    fn put(&mut self, record: &Record) {
        match record {
            Record::Account(id) => drop(self.accounts.insert(*id)),
            Record::Identity(id) => drop(self.identities.insert(id.clone())),
        }
    }
}

/// Somebody who joined or left a group by what we wrote.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AppliedMembership {
    /// The group.
    pub group: AccountId,
    /// Its member by a name that the group has for them, folded.
    pub member: String,
    /// They joined.
    pub is_member: bool,
}

/// What is to be done next.
#[derive(Debug)]
pub enum PassStep {
    /// Read these records, with all that belongs to them, and go on.
    Read(Records),
    /// It is decided.
    Decided(Box<PartialOutcome>),
    /// Everybody must be decided about: too much depends on it.
    FullDecision,
}

/// What was decided about a part.
#[derive(Debug)]
pub struct PartialOutcome {
    /// About whom it was decided.
    pub about: Records,
    /// The records that were read for it, those of the part among them.
    pub read: usize,
    /// How many identities and accounts were evaluated, each pass counted.
    pub evaluated: usize,
    /// What was decided about them. Its changes are those of everybody that are outstanding, so that guards see them all.
    pub outcome: Outcome,
}

/// A decision about a part that is on its way.
#[derive(Debug)]
pub struct IncrementalPass {
    touched: Records,
    noted: bool,
    wide: bool,
    read: BTreeSet<RecordIndex>,
    evaluated: usize,
}

/// What stands after everybody was decided about.
pub struct IncrementalState {
    keys: Keys,
    index: DependencyIndex,
    /// Changes that nothing but a guard, a fault or a person holds, and that were not carried out yet.
    outstanding: BTreeMap<Record, Vec<Change>>,
    /// How many accounts of each system are linked.
    linked: BTreeMap<String, usize>,
    /// The system of each account that is linked.
    linked_in: rustc_hash::FxHashMap<AccountId, u16>,
    systems: Vec<String>,
    /// Groups whose members take part somewhere, and groups inside them: they are always read.
    groups: BTreeSet<AccountId>,
    /// Who must be decided about when, if nothing changes before.
    due: BTreeSet<(Timestamp, String)>,
    due_of: rustc_hash::FxHashMap<String, Timestamp>,
    /// Who is a member of which group, where that follows rules.
    memberships: MembershipRules,
    /// The seats of licences in use.
    seats: Seats,
    /// How many hold each value that identities are spread over.
    spread: DistributionCounts,
}

/// Is a generated value taken by a record that was not read?
struct UnreadRecords<'a> {
    web: &'a DependencyIndex,
    read: &'a BTreeSet<RecordIndex>,
    memberships: &'a MembershipRules,
    spread: &'a DistributionCounts,
}

impl OutsideRecords for UnreadRecords<'_> {
    fn takes(&self, kind: ObjectType, attribute: &str, folded: &str) -> bool {
        self.web.taking(hash(&["takes", kind.as_str(), attribute, folded])).any(|place| !self.read.contains(&place))
    }

    fn spread(&self, kind: ObjectType, attribute: &str, without: &HashSet<&str>) -> BTreeMap<String, ValueDistribution> {
        self.spread.without(kind, attribute, without)
    }

    fn memberships(&self) -> Option<&MembershipRules> {
        Some(self.memberships)
    }
}

/// Whom a change is about.
fn whose(change: &Change) -> Record {
    match change.account.filter(|_| change.identity.is_empty()) {
        Some(account) => Record::Account(account),
        None => Record::Identity(change.identity.clone()),
    }
}

impl IncrementalState {
    /// Decides about everybody, and keeps what is needed to decide about parts. The outcome is that of
    /// [`crate::decide`].
    pub fn of(rules: &RuleSet, population: &Population, now: Timestamp) -> (IncrementalState, Outcome) {
        let mut outcome = each(rules, population, now, &NoOutsideRecords);
        let keys = Keys::new(rules, &population.systems);
        let mut standing = IncrementalState {
            groups: keys.groups(population),
            keys,
            index: DependencyIndex::default(),
            outstanding: BTreeMap::new(),
            linked: BTreeMap::new(),
            linked_in: Default::default(),
            systems: population.systems.keys().cloned().collect(),
            due: BTreeSet::new(),
            due_of: Default::default(),
            memberships: MembershipRules::of(rules, population),
            seats: Seats::default(),
            spread: DistributionCounts::default(),
        };
        standing.note_accounts(rules, population, None);
        let all = keys::RecordKeys::of(population);
        for identity in &population.identities {
            standing.index.note(&Record::Identity(identity.id.clone()), standing.keys.identity(rules, identity, &all));
        }
        standing.note_identities(rules, population, &outcome, None);
        standing.keep(&outcome, None);
        let totals = Totals { linked: standing.linked.clone(), seats: standing.seats.used(), ..Totals::of_facts(population) };
        finish(rules, &totals, &mut outcome);
        (standing, outcome)
    }

    /// When somebody must be decided about next, though nothing changed but the time.
    pub fn next_due(&self) -> Option<Timestamp> {
        self.due.first().map(|(at, _)| *at)
    }

    /// Who must be decided about by now, though nothing changed but the time.
    pub fn due(&self, now: Timestamp) -> BTreeSet<String> {
        self.due.iter().take_while(|(at, _)| *at <= now).map(|(_, id)| id.clone()).collect()
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

    /// How many accounts of each system are linked.
    pub fn linked(&self) -> &BTreeMap<String, usize> {
        &self.linked
    }

    /// How many seats of each licence are in use.
    pub fn seats(&self) -> Vec<usize> {
        self.seats.used()
    }

    /// How many records are known.
    pub fn len(&self) -> usize {
        self.index.len()
    }

    /// Is nothing known?
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// Notes memberships that we changed; the accounts that must be decided about for it. Those are the members, but for groups that
    /// others depend on, which must be looked at whole.
    pub fn moved(&mut self, all: &[AppliedMembership]) -> BTreeSet<AccountId> {
        let mut accounts = BTreeSet::new();
        for one in all {
            let depended_on = |system: &str| self.keys.flattens() || self.keys.asks_for(system);
            let whole = self.memberships.get(one.group).is_none_or(|group| group.owned)
                || self.memberships.system(one.group).is_some_and(depended_on);
            match (!whole).then(|| self.memberships.moved(one.group, &one.member, one.is_member)).flatten() {
                Some(hash) => accounts.extend(self.index.member(hash)),
                None => drop(accounts.insert(one.group)),
            }
        }
        accounts
    }

    /// Begins a decision about records that changed, and says what is to be read for it.
    pub fn begin(&self, touched: Records) -> (IncrementalPass, Records) {
        let mut wanted = touched.clone();
        wanted.accounts.extend(&self.groups);
        let mut asking = IncrementalPass { touched, noted: false, wide: false, read: BTreeSet::new(), evaluated: 0 };
        // Whoever stood near before mostly still does: read at once, they need not be asked for.
        if let Some((_, near)) = self.around(&asking) {
            near.iter().for_each(|place| wanted.put(self.index.record(*place)));
            asking.read = near;
        }
        (asking, wanted)
    }

    /// Goes on with what was asked for. `population` holds the records, their links, and what else belongs to them.
    pub fn advance(&mut self, asking: &mut IncrementalPass, rules: &RuleSet, population: &Population, now: Timestamp) -> PassStep {
        if !asking.noted {
            asking.noted = true;
            let group = |id: &AccountId| {
                population.accounts.iter().any(|a| a.id == *id && a.kind == ObjectType::Group && self.keys.asks_for(&a.system))
            };
            if asking.touched.accounts.iter().any(group) {
                return PassStep::FullDecision;
            }
            let about = keys::RecordKeys::of(population);
            let mut members: BTreeSet<AccountId> = BTreeSet::new();
            for account in population.accounts.iter().filter(|account| asking.touched.accounts.contains(&account.id)) {
                if self.memberships.concerns(account) {
                    match self.memberships.note(account, about.owner(account.id).is_some()) {
                        IndexedMembership::Otherwise => return PassStep::FullDecision,
                        IndexedMembership::Members(hashes) => members.extend(hashes.into_iter().flat_map(|hash| self.index.member(hash))),
                    }
                }
            }
            // Whoever joined or left is decided about, and not all who are in the group.
            asking.touched.accounts.extend(members);
            asking.wide |= self.note_accounts(rules, population, Some(&asking.touched));
            let all = keys::RecordKeys::of(population);
            for identity in population.identities.iter().filter(|identity| asking.touched.identities.contains(&identity.id)) {
                asking.wide |= self.index.note(&Record::Identity(identity.id.clone()), self.keys.identity(rules, identity, &all));
            }
        }
        let Some((_, near)) = self.around(asking) else { return PassStep::FullDecision };
        if !near.is_subset(&asking.read) {
            return self.read(asking, near);
        }
        let mut outcome = {
            let others = UnreadRecords { web: &self.index, read: &asking.read, memberships: &self.memberships, spread: &self.spread };
            each(rules, population, now, &others)
        };
        asking.evaluated += outcome.decided.len() + outcome.identities.len();
        let Some((about, _)) = self.around(asking) else { return PassStep::FullDecision };
        // What is composed now may meet others than what was composed before.
        asking.wide |= self.note_identities(rules, population, &outcome, Some(&about));
        let wide = asking.wide || self.visible_result_changed(&outcome, &about);
        asking.wide = wide;
        let Some((about, near)) = self.around(asking) else { return PassStep::FullDecision };
        if !near.is_subset(&asking.read) {
            return self.read(asking, near);
        }
        self.only(&mut outcome, &about);
        self.keep(&outcome, Some(&about));
        outcome.changes =
            self.outstanding.values().flatten().cloned().chain(outcome.changes.into_iter().filter(|c| c.hold.is_some())).collect();
        let totals = Totals { linked: self.linked.clone(), seats: self.seats.used(), ..Totals::of_facts(population) };
        finish(rules, &totals, &mut outcome);
        let mut records = Records::default();
        about.iter().for_each(|place| records.put(self.index.record(*place)));
        PassStep::Decided(Box::new(PartialOutcome { about: records, read: asking.read.len(), evaluated: asking.evaluated, outcome }))
    }

    /// All outstanding changes, as guards and people see them: for when nothing changed but the time or what somebody
    /// said.
    pub fn outstanding(&self, rules: &RuleSet, totals: &Totals, now: Timestamp) -> Outcome {
        let mut outcome = Outcome { at: now, changes: self.outstanding.values().flatten().cloned().collect(), ..Outcome::default() };
        finish(rules, totals, &mut outcome);
        outcome
    }

    fn read(&self, asking: &mut IncrementalPass, near: BTreeSet<RecordIndex>) -> PassStep {
        asking.read = near;
        let mut records = Records { accounts: self.groups.clone(), ..Records::default() };
        asking.read.iter().for_each(|place| records.put(self.index.record(*place)));
        PassStep::Read(records)
    }

    /// Who is decided about, and whose records are needed for it. Nothing when those are too many.
    fn around(&self, asking: &IncrementalPass) -> Option<(BTreeSet<RecordIndex>, BTreeSet<RecordIndex>)> {
        let accounts = asking.touched.accounts.iter().filter_map(|id| self.index.account(*id));
        let touched: BTreeSet<RecordIndex> =
            accounts.chain(asking.touched.identities.iter().filter_map(|id| self.index.identity(id))).collect();
        let mut about = self.connected_component(touched)?;
        if asking.wide {
            let pointing: Vec<RecordIndex> = about.iter().flat_map(|place| self.index.referrers(*place)).collect();
            about.extend(pointing);
            about = self.connected_component(about)?;
        }
        let mut near = about.clone();
        near.extend(about.iter().flat_map(|place| self.index.references(*place)));
        Some((about, self.connected_component(near)?))
    }

    /// Everybody who must be decided about together with these.
    fn connected_component(&self, start: BTreeSet<RecordIndex>) -> Option<BTreeSet<RecordIndex>> {
        let mut left: Vec<RecordIndex> = start.iter().copied().collect();
        let mut all = start;
        while let Some(place) = left.pop() {
            if all.len() > MAX_RECORDS {
                return None;
            }
            left.extend(self.index.neighbors(place).filter(|other| all.insert(*other)));
        }
        (all.len() <= MAX_RECORDS).then_some(all)
    }

    /// May others see those that were decided about otherwise than before? They do when somebody gets an account, or no
    /// longer gets one, or is joined to one.
    fn visible_result_changed(&self, outcome: &Outcome, about: &BTreeSet<RecordIndex>) -> bool {
        let among = |record: &Record| self.place(record).is_some_and(|place| about.contains(&place));
        let made = |change: &&Change| change.kind == ChangeKind::Create;
        let before: HashSet<(&str, &str)> = self
            .outstanding
            .iter()
            .filter(|(record, _)| among(record))
            .flat_map(|(_, changes)| changes.iter().filter(made))
            .map(|change| (change.system.as_str(), change.identity.as_str()))
            .collect();
        let free = outcome.changes.iter().filter(|change| change.hold.is_none() && among(&whose(change)));
        let now: HashSet<(&str, &str)> = free.filter(made).map(|change| (change.system.as_str(), change.identity.as_str())).collect();
        before != now || outcome.links.iter().any(|link| among(&Record::Identity(link.identity.clone())))
    }

    fn place(&self, record: &Record) -> Option<RecordIndex> {
        match record {
            Record::Account(id) => self.index.account(*id),
            Record::Identity(id) => self.index.identity(id),
        }
    }

    /// Leaves what was decided about these: what was read beside them was not read to be decided about.
    fn only(&self, outcome: &mut Outcome, about: &BTreeSet<RecordIndex>) {
        let identity = |id: &str| self.index.identity(id).is_some_and(|place| about.contains(&place));
        let account = |id: Option<AccountId>| id.and_then(|id| self.index.account(id)).is_some_and(|place| about.contains(&place));
        outcome.identities.retain(|(one, _)| identity(&one.id));
        outcome.links.retain(|link| identity(&link.identity));
        outcome.member_names.retain(|one| identity(&one.identity));
        outcome.reserved.retain(|name| identity(&name.identity));
        outcome.due.retain(|(id, _)| identity(id));
        outcome.notifications.retain(|notice| identity(&notice.identity));
        outcome.conflicts.retain(|conflict| identity(&conflict.identity));
        outcome.decided.retain(|line| line.identity.as_deref().map_or_else(|| account(line.account), identity));
        outcome.questions.retain(|question| question.identity.as_deref().map_or_else(|| account(question.account), identity));
        outcome.changes.retain(|change| match whose(change) {
            Record::Account(id) => account(Some(id)),
            Record::Identity(id) => identity(&id),
        });
    }

    /// Keeps what is outstanding of those that were decided about.
    fn keep(&mut self, outcome: &Outcome, about: Option<&BTreeSet<RecordIndex>>) {
        match about {
            None => self.outstanding.clear(),
            Some(about) => about.iter().for_each(|place| drop(self.outstanding.remove(self.index.record(*place)))),
        }
        let mut next: BTreeMap<&str, Timestamp> = BTreeMap::new();
        for (id, at) in &outcome.due {
            let first = next.entry(id).or_insert(*at);
            *first = (*first).min(*at);
        }
        for (identity, _) in &outcome.identities {
            self.is_due(&identity.id, next.get(identity.id.as_str()).copied());
        }
        for change in outcome.changes.iter().filter(|change| change.hold.is_none()) {
            self.outstanding.entry(whose(change)).or_default().push(change.clone());
        }
    }

    fn note_accounts(&mut self, rules: &RuleSet, population: &Population, only: Option<&Records>) -> bool {
        let about = keys::RecordKeys::of(population);
        let mut otherwise = false;
        for account in population.accounts.iter().filter(|account| only.is_none_or(|only| only.accounts.contains(&account.id))) {
            let owner = about.owner(account.id);
            let hashes = self.keys.account(rules, account, &about);
            otherwise |= self.index.note(&Record::Account(account.id), hashes);
            if account.kind != ObjectType::Group && self.memberships.follow(&account.system) {
                let names = names_of(account).into_iter().map(|name| memberships::hash(&account.system, &name));
                self.index.is_called(account.id, names);
            }
            self.seats.note(rules, account);
            self.count(account.id, owner.is_some().then_some(account.system.as_str()));
        }
        otherwise
    }

    fn note_identities(
        &mut self,
        rules: &RuleSet,
        population: &Population,
        outcome: &Outcome,
        about: Option<&BTreeSet<RecordIndex>>,
    ) -> bool {
        let known = keys::RecordKeys::of(population);
        let proposed = proposed(rules, population, outcome);
        let mut otherwise = false;
        let among = |place: Option<RecordIndex>| about.is_none_or(|about| place.is_some_and(|place| about.contains(&place)));
        // Whoever was proposed and is nobody any more holds nothing.
        let there: HashSet<&str> = outcome.identities.iter().map(|(identity, _)| identity.id.as_str()).collect();
        for place in about.into_iter().flatten() {
            if let Record::Identity(id) = self.index.record(*place)
                && !there.contains(id.as_str())
            {
                self.spread.forget(id);
            }
        }
        // Whoever is new by an account that it is about.
        let lines = outcome.decided.iter().filter(|line| line.account.is_some_and(|id| among(self.index.account(id))));
        let new: HashSet<&str> = lines.filter_map(|line| line.identity.as_deref()).collect();
        for (identity, _) in &outcome.identities {
            let place = self.index.identity(&identity.id);
            if among(place) || (place.is_none() && new.contains(identity.id.as_str())) {
                self.spread.note(rules, identity);
                let mut hashes = self.keys.identity(rules, identity, &known);
                if let Some(accounts) = proposed.get(identity.id.as_str()) {
                    hashes.joins_on.extend(self.keys.proposed(rules, identity.kind, accounts));
                }
                otherwise |= self.index.note(&Record::Identity(identity.id.clone()), hashes);
            }
        }
        otherwise
    }

    fn count(&mut self, account: AccountId, system: Option<&str>) {
        let system = system.and_then(|system| self.systems.iter().position(|one| one == system)).and_then(|at| u16::try_from(at).ok());
        let before = match system {
            Some(at) => self.linked_in.insert(account, at),
            None => self.linked_in.remove(&account),
        };
        if before == system {
            return;
        }
        for (at, one) in [(before, -1isize), (system, 1)] {
            let Some(name) = at.and_then(|at| self.systems.get(usize::from(at))) else { continue };
            let count = self.linked.entry(name.clone()).or_default();
            *count = count.saturating_add_signed(one);
        }
    }
}

/// The accounts that feed each identity that is not kept yet, where another source may look for it.
fn proposed<'a>(rules: &RuleSet, population: &'a Population, outcome: &'a Outcome) -> HashMap<&'a str, Vec<&'a Account>> {
    if rules.identities.keys().all(|kind| rules.sources(*kind).count() < 2) {
        return HashMap::new();
    }
    let known: HashSet<&str> = population.identities.iter().map(|identity| identity.id.as_str()).collect();
    let accounts: HashMap<AccountId, &Account> = population.accounts.iter().map(|account| (account.id, account)).collect();
    let mut proposed: HashMap<&str, Vec<&Account>> = HashMap::new();
    for line in &outcome.decided {
        let Some(id) = line.identity.as_deref().filter(|id| !known.contains(id)) else { continue };
        let feeds = rules.of(&line.system, line.object).is_some_and(|types| types.is_source());
        if let Some(account) = line.account.and_then(|id| accounts.get(&id)).filter(|_| feeds) {
            let all = proposed.entry(id).or_default();
            if !all.iter().any(|one| one.id == account.id) {
                all.push(account);
            }
        }
    }
    proposed
}

/// A name as generated values are told apart.
pub(crate) fn taken_hash(kind: ObjectType, attribute: &str, value: &str) -> u64 {
    hash(&["takes", kind.as_str(), attribute, &generate::folded(value)])
}

/// The facts of systems that keys depend on.
pub(crate) type SystemFactsMap = BTreeMap<String, SystemFacts>;
