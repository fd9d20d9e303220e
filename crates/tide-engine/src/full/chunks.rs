//! Full decisions. Among many records they are made in chunks: what is kept of a chunk is stored while
//! the next one is decided, so that only the index, the outstanding changes and what the caller needs
//! are in memory.

use crate::error::EngineError;
use crate::full::FullDecisions;
use crate::full::gather::{Gathered, Gathering};
use crate::kept::{CollectedHolds, kept_outcomes, records_to_store};
use crate::rules::PublishedRules;
use jiff::Timestamp;
use std::sync::Arc;
use std::time::Duration;
use tide_core::explain::{SearchRecord, search_records};
use tide_core::incremental::{ChunkStep, ChunkedDecision, DecidedChunk, IncrementalState, Records};
use tide_core::{Outcome, Population};
use tide_store::{KeptPart, SearchIndex, Store};
use tokio::runtime::Handle;
use tokio::sync::mpsc;

/// Up to so many records are decided at once.
const AT_ONCE: usize = 50_000;
/// More records are decided in chunks of about so many.
const CHUNK: usize = 15_000;
/// So many records are indexed at once.
const INDEXED: usize = 5_000;
/// So many decided chunks wait to be stored.
const AHEAD: usize = 2;

/// What a full decision is made for.
#[derive(Debug, Clone, Copy)]
pub(crate) struct FullPlan {
    /// The moment that is decided about.
    pub at: Timestamp,
    /// Its outcomes and the search index are stored: it is about now.
    pub keeps: bool,
    /// What is gathered of the records and outcomes.
    pub gathering: Gathering,
    /// How long it waits for its turn.
    pub patience: Option<Duration>,
}

/// A full decision.
pub(crate) struct FullDecision {
    pub rules: Arc<PublishedRules>,
    pub state: IncrementalState,
    /// The gathered records, with the facts about all systems.
    pub population: Population,
    /// What was gathered, with all outstanding changes.
    pub outcome: Outcome,
    /// All holds.
    pub holds: CollectedHolds,
    /// The position in the dirty records from which a later decision continues.
    pub seen_dirty: i64,
    /// The records of which a run stores or sends something.
    pub unstored: Records,
    /// Numbers of records that were read and evaluated.
    pub cost: (usize, usize),
}

/// The end of the computation.
struct Computed {
    state: IncrementalState,
    population: Population,
    outcome: Outcome,
    holds: CollectedHolds,
    unstored: Records,
    cost: (usize, usize),
}

/// What is stored of a chunk.
type StoredChunk = (KeptPart, Vec<SearchRecord>);

/// The computation, on a thread of its own.
struct ChunkReader {
    store: Store,
    rules: Arc<PublishedRules>,
    at: Timestamp,
    /// The size of chunks; `None` for the usual one.
    size: Option<usize>,
    /// The systems, and what guards and approvals need.
    facts: Population,
    gathering: Gathering,
    runtime: Handle,
    /// Stores decided chunks; `None` if nothing is kept.
    stored: Option<mpsc::Sender<StoredChunk>>,
}

impl ChunkReader {
    fn with_facts(&self, mut population: Population) -> Population {
        let facts = &self.facts;
        population.systems = facts.systems.clone();
        population.recent_change_counts = facts.recent_change_counts.clone();
        population.in_flight = facts.in_flight.clone();
        population.guard_overrides = facts.guard_overrides.clone();
        population.approvals = facts.approvals.clone();
        population
    }

    /// Loads records with everything that belongs to them.
    fn load(&self, records: &Records) -> Result<Population, EngineError> {
        let part = self.store.load_part(records, Default::default(), false);
        Ok(self.with_facts(self.runtime.block_on(part)?))
    }

    /// Indexes all records. Returns them, if they are decided at once.
    fn index(&self, decision: &mut ChunkedDecision) -> Result<Option<Population>, EngineError> {
        if decision.is_at_once() {
            let all = self.with_facts(self.runtime.block_on(self.store.load_population())?);
            decision.index(&self.rules.set, &all);
            return Ok(Some(all));
        }
        let (accounts, identities) = self.runtime.block_on(self.store.record_ids())?;
        for ids in accounts.chunks(INDEXED) {
            let records = Records {
                accounts: ids.iter().copied().collect(),
                ..Records::default()
            };
            decision.index(&self.rules.set, &self.load(&records)?);
        }
        for ids in identities.chunks(INDEXED) {
            let records = Records {
                identities: ids.iter().cloned().collect(),
                ..Records::default()
            };
            decision.index(&self.rules.set, &self.load(&records)?);
        }
        Ok(None)
    }

    fn decide(self) -> Result<Computed, EngineError> {
        let rules = &self.rules.set;
        let count = self.runtime.block_on(self.store.record_count())?;
        let usual = if count <= AT_ONCE { usize::MAX } else { CHUNK };
        let size = self.size.unwrap_or(usual);
        let mut decision = ChunkedDecision::new(rules, &self.facts.systems, self.at, size);
        let all = self.index(&mut decision)?;
        let (mut holds, mut gathered) = (CollectedHolds::default(), Gathered::default());
        let (mut unstored, mut cost) = (Records::default(), (0, 0));
        let mut part = Population::default();
        loop {
            let population = all.as_ref().unwrap_or(&part);
            match decision.advance(rules, population) {
                ChunkStep::Read(records) if all.is_none() => part = self.load(&records)?,
                ChunkStep::Read(_) => {}
                ChunkStep::Decided(chunk) => {
                    cost = (cost.0 + chunk.read, cost.1 + chunk.evaluated);
                    holds.add(&chunk.about, &chunk.outcome);
                    let to_store = records_to_store(population, &chunk.outcome, &chunk.about);
                    unstored.subtract(&chunk.again);
                    unstored.add(to_store.clone());
                    self.keep(&chunk, population)?;
                    gathered.add(self.gathering, population, *chunk, &to_store);
                    part = Population::default();
                }
                ChunkStep::Complete => break,
            }
        }
        let (population, outcome) = gathered.into_parts();
        let (state, outcome) = decision.finish(rules, &self.facts, outcome);
        Ok(Computed {
            state,
            population: self.with_facts(population),
            outcome,
            holds,
            unstored,
            cost,
        })
    }

    /// Hands what is kept of a chunk over to be stored.
    fn keep(&self, chunk: &DecidedChunk, population: &Population) -> Result<(), EngineError> {
        let Some(stored) = &self.stored else {
            return Ok(());
        };
        let (rules, about) = (&self.rules.set, &chunk.about);
        let kept = KeptPart {
            about: about.clone(),
            kept: kept_outcomes(rules, population, &chunk.outcome, Some(about)),
        };
        let texts = search_records(population, &chunk.outcome);
        stored
            .blocking_send((kept, texts))
            .map_err(|_| EngineError::Internal("a decided chunk could not be stored".to_owned()))
    }
}

impl FullDecisions {
    /// Decides about all records. To keep the outcomes, hold `decision_lock`.
    pub(crate) async fn decide_all(&self, plan: FullPlan) -> Result<FullDecision, EngineError> {
        let store = &self.context.store;
        // Taken before any record is read: what changes meanwhile is decided once more.
        let seen_dirty = store.last_dirty().await?;
        let rules = self.rules.published_rules().await?;
        let mut facts = Population {
            systems: store.load_systems().await?,
            ..Population::default()
        };
        self.look_at_the_clock(&mut facts.systems, plan.at).await?;
        self.load_governance_inputs(&rules.set, &mut facts, plan.at)
            .await?;
        let (stored, mut chunks) = mpsc::channel::<StoredChunk>(AHEAD);
        let reader = ChunkReader {
            store: store.clone(),
            rules: rules.clone(),
            at: plan.at,
            size: self.chunk_size,
            facts,
            gathering: plan.gathering,
            runtime: Handle::current(),
            stored: plan.keeps.then_some(stored),
        };
        let search = store.open_search().filter(|_| plan.keeps);
        let indexing = search.map(SearchIndex::begin_all);
        let indexed = indexing.as_ref();
        let storing = async move {
            while let Some((kept, texts)) = chunks.recv().await {
                if let Some(indexed) = indexed {
                    indexed.update(&kept.about, texts);
                }
                store.keep_outcomes(kept).await?;
            }
            Ok::<(), EngineError>(())
        };
        let computing = self.compute(plan.patience, move || reader.decide());
        // A chunk that cannot be stored ends the computation.
        let (computed, kept) = tokio::join!(computing, storing);
        kept?;
        let computed = computed??;
        if plan.keeps {
            let is_known = |identity: &str, account| computed.state.knows(identity, account);
            store.prune_outcomes(is_known).await?;
        }
        if let Some(indexing) = indexing {
            indexing.complete();
        }
        Ok(FullDecision {
            rules,
            state: computed.state,
            population: computed.population,
            outcome: computed.outcome,
            holds: computed.holds,
            seen_dirty,
            unstored: computed.unstored,
            cost: computed.cost,
        })
    }
}
