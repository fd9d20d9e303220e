//! Full decisions in chunks. Only the index of what records share and the outstanding changes stay
//! in memory; records are read when they are decided, some thousand at a time.
//!
//! [`ChunkedDecision::index`] takes all records once, in parts and in the order of their ids. Then
//! [`ChunkedDecision::advance`] asks for the records of one chunk after another. Records that depend
//! on each other are decided together, whatever the size of the chunks, and a record is decided once
//! more if a later chunk shows that its result depends on it: what is decided last about a record is
//! its result.
//!
//! Generated and distributed values depend on the order of all people. They are assigned before any
//! chunk is decided, in a pass over those who lack some. So the outcome is the same with chunks of
//! any size, and that of [`crate::decide()`].

use super::dependency_index::hash;
use super::{IncrementalState, PlaceSet, RecordId, RecordIndex, Records, UnreadRecords};
use crate::computation;
use crate::decide::generated_values::{AssignedValue, IncompletePerson, assign_values};
use crate::decide::{
    Outcome, RecordCounts, Totals, apply_totals, decide_records, find_incomplete, sort_lines,
};
use crate::memberships::MembershipRules;
use crate::model::{Population, SystemFacts};
use crate::outside::{OutsideRecords, ValueDistribution};
use crate::rules::RuleSet;
use crate::states::ObjectType;
use crate::workers::Workers;
use jiff::Timestamp;
use std::collections::{BTreeMap, HashSet};
use std::sync::{Mutex, PoisonError};

/// The next step of a chunked decision.
#[derive(Debug)]
pub enum ChunkStep {
    /// Read these records with everything that belongs to them, and call `advance` with them.
    Read(Records),
    /// These records are decided.
    Decided(Box<DecidedChunk>),
    /// All records are decided: call `finish`.
    Complete,
}

/// What was decided about the records of a chunk.
#[derive(Debug)]
pub struct DecidedChunk {
    /// The decided records.
    pub about: Records,
    /// Those of them that an earlier chunk decided: what it said of them is replaced.
    pub again: Records,
    /// The number of records that were read.
    pub read: usize,
    /// The number of identities and accounts that were evaluated.
    pub evaluated: usize,
    /// The outcome. Its changes are those of the decided records; guards, approvals and licenses are
    /// evaluated at the end.
    pub outcome: Outcome,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Phase {
    Indexing,
    /// Finds those who lack generated or distributed values.
    Values,
    Records,
    Complete,
}

/// The records of the chunk that is being decided.
#[derive(Debug)]
struct ChunkPass {
    start: PlaceSet,
    /// Decided records that refer to these are decided again.
    is_wide: bool,
    read: PlaceSet,
    evaluated: usize,
    /// The additions to the index when `start` and `read` were the neighborhood.
    as_of: usize,
}

/// A full decision in chunks.
pub struct ChunkedDecision {
    state: IncrementalState,
    now: Timestamp,
    size: usize,
    phase: Phase,
    counts: RecordCounts,
    /// The groups of systems whose groups define a scope.
    scope_groups: Population,
    /// Records that lack a generated or distributed value, or become an identity that does.
    lacking: Vec<RecordIndex>,
    incomplete: BTreeMap<(ObjectType, String), IncompletePerson>,
    /// The records that the phase is about; `None` means all.
    queue: Option<Vec<RecordIndex>>,
    next: usize,
    done: Vec<bool>,
    pass: Option<ChunkPass>,
}

/// All records but those of one person.
struct OtherRecords<'a> {
    state: &'a IncrementalState,
    own: Mutex<PlaceSet>,
}

impl OtherRecords<'_> {
    fn turn(&self, person: &IncompletePerson) {
        let index = &self.state.index;
        let accounts = person.accounts.iter().filter_map(|id| index.account(*id));
        let own = accounts.chain(index.identity(&person.id)).collect();
        *self.own.lock().unwrap_or_else(PoisonError::into_inner) = own;
    }
}

impl OutsideRecords for OtherRecords<'_> {
    fn is_taken(&self, kind: ObjectType, attribute: &str, folded: &str) -> bool {
        let own = self.own.lock().unwrap_or_else(PoisonError::into_inner);
        let hash = hash(&["takes", kind.as_str(), attribute, folded]);
        let mut holders = self.state.index.records_reserving(hash);
        holders.any(|place| !own.contains(&place))
    }

    fn distribution(
        &self,
        kind: ObjectType,
        attribute: &str,
        without: &HashSet<&str>,
    ) -> BTreeMap<String, ValueDistribution> {
        self.state.spread.counts_without(kind, attribute, without)
    }

    fn memberships(&self) -> Option<&MembershipRules> {
        Some(&self.state.memberships)
    }
}

impl ChunkedDecision {
    /// Begins a decision as of `now`, in chunks of about `size` records. With [`usize::MAX`], there is
    /// one chunk of all records.
    pub fn new(
        rules: &RuleSet,
        systems: &BTreeMap<String, SystemFacts>,
        now: Timestamp,
        size: usize,
    ) -> ChunkedDecision {
        ChunkedDecision {
            state: IncrementalState::empty(rules, systems),
            now,
            size,
            phase: Phase::Indexing,
            counts: RecordCounts::default(),
            scope_groups: Population::default(),
            lacking: Vec::new(),
            incomplete: BTreeMap::new(),
            queue: None,
            next: 0,
            done: Vec::new(),
            pass: None,
        }
    }

    /// Indexes records: accounts with their links and the answers about them, identities with their
    /// reserved values. Each once, accounts in the order of their ids.
    pub fn index(&mut self, rules: &RuleSet, population: &Population) {
        self.counts.add(population);
        let linked: HashSet<i64> = population.links.iter().map(|link| link.account).collect();
        for account in &population.accounts {
            computation::step();
            if self.state.memberships.concerns(account) {
                let is_linked = linked.contains(&account.id);
                self.state.memberships.update_group(account, is_linked);
            }
            let is_group = account.kind == ObjectType::Group;
            if is_group && self.state.keys.asks_for(&account.system) {
                self.scope_groups.accounts.push(account.clone());
            }
        }
        self.state.note_accounts(rules, population, None);
        self.state.note_stored_identities(rules, population, None);
        for account in &population.accounts {
            let types = rules.of(&account.system, account.kind);
            let is_new = account.absent_since.is_none()
                && !linked.contains(&account.id)
                && types.is_some_and(|types| types.is_source())
                && assigned_attributes(rules, account.kind).next().is_some();
            if is_new {
                self.lacking.extend(self.state.index.account(account.id));
            }
        }
        for identity in &population.identities {
            let mut names = assigned_attributes(rules, identity.kind);
            if names.any(|name| identity.attributes.get(name).is_empty()) {
                self.lacking.extend(self.state.index.identity(&identity.id));
            }
        }
    }

    /// Continues with the records that were asked for. `population` contains them with everything
    /// that belongs to them; it is not used after a step that read nothing.
    pub fn advance(&mut self, rules: &RuleSet, population: &Population) -> ChunkStep {
        loop {
            if self.phase == Phase::Indexing {
                self.end_indexing(rules);
            }
            if self.phase == Phase::Complete {
                return ChunkStep::Complete;
            }
            let Some(pass) = self.pass.take() else {
                match self.next_pass() {
                    Some(pass) => return self.read(pass),
                    None => self.end_phase(rules),
                }
                continue;
            };
            let step = match self.phase {
                Phase::Values => self.find_lacking(pass, rules, population),
                _ => self.decide_chunk(pass, rules, population),
            };
            if let Some(step) = step {
                return step;
            }
        }
    }

    /// Evaluates what all records are needed for: guards, approvals and licenses. `outcome` has what
    /// is kept of the chunks; of the changes, those that their chunks put on hold. The outstanding
    /// ones are added. `facts` has overrides, approvals and counts.
    pub fn finish(
        mut self,
        rules: &RuleSet,
        facts: &Population,
        mut outcome: Outcome,
    ) -> (IncrementalState, Outcome) {
        let totals = Totals {
            linked: self.state.linked.clone(),
            seats: self.state.seats.used(),
            ..Totals::of_facts(facts)
        };
        outcome.at = self.now;
        let outstanding = self.state.outstanding.values().flatten();
        outcome.changes.extend(outstanding.cloned());
        apply_totals(rules, &totals, &mut outcome);
        self.state.note_backlog(rules, &totals, &outcome);
        (self.state, outcome)
    }

    /// Whether there is one chunk of all records.
    pub fn is_at_once(&self) -> bool {
        self.size == usize::MAX
    }

    /// The number of indexed records.
    pub fn len(&self) -> usize {
        self.state.len()
    }

    /// Whether no record is indexed.
    pub fn is_empty(&self) -> bool {
        self.state.is_empty()
    }

    fn workers(records: usize) -> Workers {
        Workers::for_accounts(records)
    }

    fn end_indexing(&mut self, rules: &RuleSet) {
        computation::expect(|| self.counts.steps(rules));
        let groups = std::mem::take(&mut self.scope_groups);
        self.state.note_scope_groups(&groups);
        self.phase = Phase::Values;
        let is_distributed = |kind: &ObjectType| {
            let declared = rules.identities.get(kind);
            let mut attributes = declared.into_iter().flat_map(|one| &one.attributes);
            attributes.any(|attribute| attribute.distribution.is_some())
        };
        let mut lacking = std::mem::take(&mut self.lacking);
        if self.is_at_once() {
            // A decision about all records assigns them itself.
            lacking.clear();
        }
        // Which value the next person gets depends on the stages of all.
        let needs_all = !lacking.is_empty() && ObjectType::ALL.iter().any(is_distributed);
        self.begin_phase(Phase::Values, (!needs_all).then_some(lacking));
    }

    fn begin_phase(&mut self, phase: Phase, queue: Option<Vec<RecordIndex>>) {
        (self.phase, self.queue, self.next) = (phase, queue, 0);
        self.done = vec![false; self.state.index.len()];
    }

    fn end_phase(&mut self, rules: &RuleSet) {
        if self.phase == Phase::Values {
            self.assign_values(rules);
            self.begin_phase(Phase::Records, None);
        } else {
            self.phase = Phase::Complete;
        }
    }

    /// The records of the next chunk; `None` after the last.
    fn next_pass(&mut self) -> Option<ChunkPass> {
        let (mut start, mut near) = (PlaceSet::default(), PlaceSet::default());
        while near.len() < self.size.max(1) {
            let place = match &self.queue {
                Some(queue) => queue.get(self.next).copied(),
                None => RecordIndex::try_from(self.next)
                    .ok()
                    .filter(|_| self.next < self.state.index.len()),
            };
            let Some(place) = place else {
                break;
            };
            self.next += 1;
            if self.is_done(place) || start.contains(&place) {
                continue;
            }
            let new = self.grow(&mut start, vec![place]);
            let references = new.iter().flat_map(|one| self.state.index.references(*one));
            let read = new.iter().copied().chain(references).collect();
            self.grow(&mut near, read);
        }
        (!start.is_empty()).then_some(ChunkPass {
            start,
            is_wide: false,
            read: near,
            evaluated: 0,
            as_of: self.state.index.additions(),
        })
    }

    /// Adds records and all that are decided together with them. Returns those that were added.
    fn grow(&self, all: &mut PlaceSet, records: Vec<RecordIndex>) -> Vec<RecordIndex> {
        let mut added: Vec<RecordIndex> = Vec::new();
        let mut left = records;
        left.retain(|place| all.insert(*place));
        while let Some(place) = left.pop() {
            added.push(place);
            let neighbors = self.state.index.neighbors(place);
            left.extend(neighbors.filter(|other| all.insert(*other)));
        }
        added
    }

    fn is_done(&self, place: RecordIndex) -> bool {
        self.done.get(place as usize).copied().unwrap_or(false)
    }

    fn mark_done(&mut self, about: &PlaceSet) {
        self.done.resize(self.state.index.len(), false);
        for place in about {
            self.done[*place as usize] = true;
        }
    }

    /// Asks for the records of a chunk.
    fn read(&mut self, pass: ChunkPass) -> ChunkStep {
        let mut records = Records {
            accounts: self.state.groups.clone(),
            ..Records::default()
        };
        for place in &pass.read {
            records.put(self.state.index.record(*place));
        }
        self.pass = Some(pass);
        ChunkStep::Read(records)
    }

    /// The records that a chunk is about, and those that are read for them.
    fn around(&self, pass: &ChunkPass) -> (PlaceSet, PlaceSet) {
        if !pass.is_wide && pass.as_of == self.state.index.additions() {
            return (pass.start.clone(), pass.read.clone());
        }
        let is_done = |place: RecordIndex| self.is_done(place);
        let referrers: Option<&dyn Fn(RecordIndex) -> bool> =
            if pass.is_wide { Some(&is_done) } else { None };
        let around = self.state.around(pass.start.clone(), referrers, usize::MAX);
        around.unwrap_or_default()
    }

    fn outside<'a>(&'a self, pass: &'a ChunkPass) -> UnreadRecords<'a> {
        UnreadRecords {
            web: &self.state.index,
            read: &pass.read,
            memberships: &self.state.memberships,
            spread: &self.state.spread,
            keeps_proposed: true,
        }
    }

    /// Indexes the identities as composed: they may have other neighbors than before. Returns the
    /// records that the chunk was about. Proposed identities are not stored, so that nothing is read
    /// of them: without other new neighbors, the chunk need not be decided again.
    fn note_composed(
        &mut self,
        pass: &mut ChunkPass,
        rules: &RuleSet,
        population: &Population,
        outcome: &Outcome,
    ) -> PlaceSet {
        let (about, _) = self.around(pass);
        let first = self.state.index.len();
        pass.is_wide |= self
            .state
            .note_identities(rules, population, outcome, Some(&about));
        let added = first..self.state.index.len();
        let added = added.filter_map(|place| RecordIndex::try_from(place).ok());
        pass.read.extend(added);
        about
    }

    /// The part of the decision about a chunk that tells who lacks values. `None` when it is done.
    fn find_lacking(
        &mut self,
        mut pass: ChunkPass,
        rules: &RuleSet,
        population: &Population,
    ) -> Option<ChunkStep> {
        let workers = Self::workers(population.accounts.len());
        let (outcome, lacking) =
            find_incomplete(rules, population, self.now, &self.outside(&pass), workers);
        self.note_composed(&mut pass, rules, population, &outcome);
        let (about, near) = self.around(&pass);
        if !near.is_subset(&pass.read) {
            pass.read = near;
            return Some(self.read(pass));
        }
        for place in &about {
            if let RecordId::Identity(id) = self.state.index.record(*place) {
                for kind in ObjectType::ALL {
                    self.incomplete.remove(&(*kind, id.clone()));
                }
            }
        }
        let is_about = |person: &IncompletePerson| {
            let place = self.state.index.identity(&person.id);
            place.is_some_and(|place| about.contains(&place))
        };
        let lacking = lacking.into_iter().filter(is_about);
        let own = lacking.map(|person| ((person.kind, person.id.clone()), person));
        self.incomplete.extend(own.collect::<Vec<_>>());
        self.mark_done(&about);
        None
    }

    /// Assigns the values that are lacking, in the order of a decision about all people at once.
    fn assign_values(&mut self, rules: &RuleSet) {
        let mut of_kind: BTreeMap<ObjectType, Vec<IncompletePerson>> = BTreeMap::new();
        for ((kind, _), person) in std::mem::take(&mut self.incomplete) {
            of_kind.entry(kind).or_default().push(person);
        }
        for (kind, mut people) in of_kind {
            let others = OtherRecords {
                state: &self.state,
                own: Mutex::default(),
            };
            let turn = |person: &IncompletePerson| others.turn(person);
            let assigned = assign_values(rules, kind, &mut people, &others, turn);
            for value in assigned {
                self.keep_assigned(kind, &value);
            }
        }
    }

    fn keep_assigned(&mut self, kind: ObjectType, assigned: &AssignedValue) {
        let AssignedValue {
            identity,
            attribute,
            value,
            is_distributed,
        } = assigned;
        if *is_distributed {
            self.state.spread.assign(identity, kind, attribute, value);
        } else if let Some(place) = self.state.index.identity(identity) {
            let hash = super::taken_hash(kind, attribute, value);
            self.state.index.reserve(place, hash);
        }
    }

    /// The decision about a chunk.
    fn decide_chunk(
        &mut self,
        mut pass: ChunkPass,
        rules: &RuleSet,
        population: &Population,
    ) -> Option<ChunkStep> {
        let workers = Self::workers(population.accounts.len());
        let mut outcome =
            decide_records(rules, population, self.now, &self.outside(&pass), workers);
        pass.evaluated += outcome.decided.len() + outcome.identities.len();
        let about = self.note_composed(&mut pass, rules, population, &outcome);
        pass.is_wide |= self.state.visible_result_changed(&outcome, &about);
        let (about, near) = self.around(&pass);
        if !near.is_subset(&pass.read) {
            pass.read = near;
            return Some(self.read(pass));
        }
        self.state.keep_only(&mut outcome, &about);
        self.state.store_changes(&outcome, Some(&about));
        sort_lines(&mut outcome);
        let (mut records, mut again) = (Records::default(), Records::default());
        for place in &about {
            records.put(self.state.index.record(*place));
            if self.is_done(*place) {
                again.put(self.state.index.record(*place));
            }
        }
        self.mark_done(&about);
        Some(ChunkStep::Decided(Box::new(DecidedChunk {
            about: records,
            again,
            read: pass.read.len(),
            evaluated: pass.evaluated,
            outcome,
        })))
    }
}

/// The attributes of a type that are generated or distributed.
fn assigned_attributes(rules: &RuleSet, kind: ObjectType) -> impl Iterator<Item = &str> {
    let declared = rules.identities.get(&kind);
    let attributes = declared.into_iter().flat_map(|one| &one.attributes);
    let assigned = attributes
        .filter(|attribute| attribute.generated.is_some() || attribute.distribution.is_some());
    assigned.map(|attribute| attribute.name.as_str())
}
