//! The decision cache between runs, and incremental decisions from it. The cost of a decision
//! follows the number of dirty records, not the size of the population.

use crate::connections::Schedule;
use crate::decide::Decider;
use crate::error::EngineError;
use crate::full::{Gathering, count_of, counted_by_guards};
use crate::kept::records_to_store;
use crate::queue::SystemContexts;
use crate::rules::PublishedRules;
use jiff::Timestamp;
use std::collections::BTreeMap;
use std::sync::Arc;
use tide_core::decide::Totals;
use tide_core::explain::search_records;
use tide_core::incremental::{IncrementalState, PassStep, Records};
use tide_core::{Outcome, Population, ReasonKind, SystemFacts};
use tide_store::{AtWork, DecisionPreconditions};

/// A run decides once more about so many records that were decided for answers. If there are more,
/// it decides about all.
const MOST_UNSTORED: usize = 2_000;

/// Handled dirty records are deleted once there are this many.
const MANY: i64 = 1_000;

/// The state after the last decision, and the inputs for which it is valid.
pub(crate) struct DecisionCache {
    pub(super) rules: Arc<PublishedRules>,
    pub(super) state: IncrementalState,
    pub(super) systems: BTreeMap<String, SystemFacts>,
    /// The last dirty record that was decided, and the last that was deleted.
    pub(super) seen_dirty: i64,
    pub(super) pruned_dirty: i64,
    /// Why writes to each system are held: its schedule, or the emergency stop.
    pub(super) write_holds: Vec<Option<ReasonKind>>,
    /// The contexts for sending to each system, valid as long as the cache.
    pub(super) contexts: Arc<SystemContexts>,
    /// Records that were decided for answers, and of which a run stores or sends something: a run
    /// decides about them once more.
    pub(super) unstored: Records,
}

/// Who decides incrementally.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Purpose {
    /// A run, which stores what was decided.
    Run,
    /// Answers to requests.
    Answers,
}

impl DecisionCache {
    /// Notes what a partial decision leaves to be stored.
    fn note_unstored(&mut self, news: &IncrementalDecision, purpose: Purpose) {
        match (purpose, &news.about) {
            (Purpose::Run, _) => self.unstored = Records::default(),
            (Purpose::Answers, Some(about)) => {
                self.unstored.subtract(about);
                let unstored = records_to_store(&news.population, &news.outcome, about);
                self.unstored.add(unstored);
            }
            (Purpose::Answers, None) => {}
        }
    }

    pub(crate) fn rules(&self) -> &Arc<PublishedRules> {
        &self.rules
    }

    pub(crate) fn state(&self) -> &IncrementalState {
        &self.state
    }

    pub(crate) fn systems(&self) -> &BTreeMap<String, SystemFacts> {
        &self.systems
    }

    pub(crate) fn seen_dirty(&self) -> i64 {
        self.seen_dirty
    }

    /// Whether time or a schedule alone makes records due to be decided again.
    pub(crate) fn is_due(&self, write_holds: &[Option<ReasonKind>], now: Timestamp) -> bool {
        self.write_holds != write_holds || self.state.next_due().is_some_and(|at| at <= now)
    }
}

/// An incremental decision, or the full decision that replaced it.
pub(crate) struct IncrementalDecision {
    pub rules: Arc<PublishedRules>,
    /// The records on which it is based.
    pub population: Population,
    pub outcome: Outcome,
    /// The records that were decided; `None` means all.
    pub about: Option<Records>,
    /// Numbers of records that were read and evaluated.
    pub cost: (usize, usize),
    /// The contexts for sending to each system.
    pub reaches: Arc<SystemContexts>,
}

/// Whether any system is synchronized automatically.
pub(crate) fn is_automatic(at_work: &[AtWork]) -> bool {
    at_work
        .iter()
        .any(|row| row.armed && Schedule::read(&row.schedule).watch)
}

impl Decider {
    /// Loads the preconditions of an incremental decision. Hold `decision_lock` from here until its
    /// changes are queued.
    pub(crate) async fn load_preconditions(&self) -> Result<DecisionPreconditions, EngineError> {
        self.load_preconditions_for(self.decision_cache.lock().await.as_ref(), true)
            .await
    }

    /// `at_rest`: no run is in progress, so the writer connection may be used for the read.
    async fn load_preconditions_for(
        &self,
        known: Option<&DecisionCache>,
        at_rest: bool,
    ) -> Result<DecisionPreconditions, EngineError> {
        let now = self.context.now();
        let (seen, asked) = match known {
            Some(known) => (known.seen_dirty, counted_by_guards(&known.rules.set, now).1),
            // A full decision needs no list of dirty records.
            None => (i64::MAX, Vec::new()),
        };
        Ok(self
            .context
            .store
            .load_preconditions(seen, asked, at_rest, now)
            .await?)
    }

    /// Decides about the records that changed since the last call. Falls back to a full decision
    /// the first time, when rules or systems changed, and when too many records depend on the
    /// changes. `before` must come from `load_preconditions` under the same `decision_lock`.
    pub(crate) async fn decide_incremental(
        &self,
        before: &DecisionPreconditions,
        purpose: Purpose,
    ) -> Result<IncrementalDecision, EngineError> {
        let mut known = self.decision_cache.lock().await;
        let now = self.context.now();
        let (write_holds, touched) = (
            self.connections.write_holds(&before.at_work, now),
            &before.touched,
        );
        let holds = |known: &&mut DecisionCache| {
            touched.last < i64::MAX
                && !touched.all
                && known.write_holds == write_holds
                && (known.unstored.len() <= MOST_UNSTORED || purpose == Purpose::Answers)
        };
        if let Some(standing) = known.as_mut().filter(holds) {
            let mut records = touched.records.clone();
            records
                .accounts
                .extend(standing.state.apply_memberships(&touched.memberships));
            records
                .identities
                .append(&mut standing.state.due_identities(now));
            let sent_to = self.pending.take_sent();
            records.accounts.extend(&sent_to.records().accounts);
            let identities = sent_to.records().identities.iter().cloned();
            records.identities.extend(identities);
            if purpose == Purpose::Run {
                records.add(standing.unstored.clone());
            }
            match self.decide_partial(standing, records, before, true).await {
                Ok(None) => {}
                Ok(Some(news)) => {
                    sent_to.were_decided();
                    standing.note_unstored(&news, purpose);
                    *crate::lock(&self.last_cost) = news.cost;
                    *crate::lock(&self.next_due) = standing.state.next_due();
                    standing.seen_dirty = touched.last;
                    if touched.last - standing.pruned_dirty > MANY {
                        self.context.store.prune_dirty(touched.last).await?;
                        standing.pruned_dirty = touched.last;
                    }
                    return Ok(news);
                }
                Err(error) => {
                    *known = None;
                    return Err(error);
                }
            }
        }
        drop(known);
        let gathering = match purpose {
            Purpose::Run => Gathering::ToStore,
            Purpose::Answers => Gathering::Nothing,
        };
        let (news, _) = self.decide_full(write_holds, purpose, gathering).await?;
        Ok(news)
    }

    /// During a run: decides about the changed accounts only. `None` if a change concerns all
    /// records, or if no system is synchronized automatically.
    pub(crate) async fn decide_on_leavers(
        &self,
    ) -> Result<Option<(IncrementalDecision, DecisionPreconditions)>, EngineError> {
        let mut known = self.decision_cache.lock().await;
        let before = self.load_preconditions_for(known.as_ref(), false).await?;
        let is_usable = |_: &&mut DecisionCache| is_automatic(&before.at_work);
        let Some(standing) = known.as_mut().filter(is_usable) else {
            return Ok(None);
        };
        // Other changes are decided by the next run.
        if before.touched.all
            || standing.write_holds
                != self
                    .connections
                    .write_holds(&before.at_work, self.context.now())
        {
            return Ok(None);
        }
        let accounts = self.pending.take_changed_accounts();
        if accounts.is_empty() {
            return Ok(None);
        }
        let decided = self
            .decide_partial(
                standing,
                Records {
                    accounts,
                    ..Records::default()
                },
                &before,
                false,
            )
            .await?;
        Ok(decided.map(|news| (news, before)))
    }

    async fn decide_partial(
        &self,
        known: &mut DecisionCache,
        records: Records,
        before: &DecisionPreconditions,
        at_rest: bool,
    ) -> Result<Option<IncrementalDecision>, EngineError> {
        let (rules, now, reaches) = (
            known.rules.clone(),
            self.context.now(),
            known.contexts.clone(),
        );
        let keys = counted_by_guards(&rules.set, now).0;
        let mut guards = Population {
            guard_overrides: before.overrides.clone(),
            ..Population::default()
        };
        guards.recent_change_counts = keys
            .into_iter()
            .zip(before.counts.iter().copied())
            .map(count_of)
            .collect();
        guards.in_flight = before.in_flight.clone();
        if !rules.set.approvals.is_empty() {
            guards.approvals = before.approved.clone();
        }
        if records.is_empty() {
            let totals = Totals {
                linked: known.state.linked_counts().clone(),
                seats: known.state.seats_in_use(),
                ..Totals::of_facts(&guards)
            };
            let outcome = known.state.outstanding_outcome(&rules.set, &totals, now);
            let about = Some(Records::default());
            return Ok(Some(IncrementalDecision {
                rules,
                population: Population::default(),
                outcome,
                about,
                cost: (0, 0),
                reaches,
            }));
        }
        let (mut asking, mut wanted) = known.state.begin(records);
        loop {
            let mut population = self
                .context
                .store
                .load_part(&wanted, known.systems.clone(), at_rest)
                .await?;
            (population.recent_change_counts, population.guard_overrides) = (
                guards.recent_change_counts.clone(),
                guards.guard_overrides.clone(),
            );
            population.in_flight = guards.in_flight.clone();
            population.approvals = guards.approvals.clone();
            match known
                .state
                .advance(&mut asking, &rules.set, &population, now)
            {
                PassStep::Read(more) => wanted = more,
                PassStep::FullDecision => return Ok(None),
                PassStep::Decided(part) => {
                    let cost = (part.read, part.evaluated);
                    if let Some(index) = self.context.store.open_search() {
                        index.update(&part.about, search_records(&population, &part.outcome));
                    }
                    return Ok(Some(IncrementalDecision {
                        rules,
                        population,
                        outcome: part.outcome,
                        about: Some(part.about),
                        cost,
                        reaches,
                    }));
                }
            }
        }
    }

    /// Numbers of records that the last incremental decision read and evaluated.
    pub fn last_cost(&self) -> (usize, usize) {
        *crate::lock(&self.last_cost)
    }

    /// Drops the cache, so that the next decision is a full one. Call it when a decision may not
    /// have been stored.
    pub(crate) async fn reset_decision_cache(&self) {
        *self.decision_cache.lock().await = None;
    }
}
