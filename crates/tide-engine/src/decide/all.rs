//! Decisions about all records, for runs, previews and the decision cache.

use crate::decide::Decider;
use crate::decide::cache::{DecisionCache, IncrementalDecision, Purpose, is_automatic};
use crate::error::EngineError;
use crate::full::{FullPlan, Gathering};
use crate::queue::SystemContexts;
use crate::rules::PublishedRules;
use jiff::Timestamp;
use std::sync::Arc;
use tide_core::incremental::Records;
use tide_core::{Outcome, Population, ReasonKind};

impl Decider {
    /// Makes the full decision of a run by hand. With automatic sync, it becomes the cache, so that
    /// leavers can preempt the run. `is_whole`: the run stores everything that is decided. Hold
    /// `decision_lock`.
    pub(crate) async fn decide_for_run(
        &self,
        gathering: Gathering,
        is_whole: bool,
    ) -> Result<(Arc<PublishedRules>, Population, Outcome), EngineError> {
        let at_work = self.context.store.at_work().await?;
        if !is_automatic(&at_work) {
            return self.decide_for_plan(self.context.now(), gathering).await;
        }
        let write_holds = self.connections.write_holds(&at_work, self.context.now());
        let (news, unstored) = self
            .decide_full(write_holds, Purpose::Run, gathering)
            .await?;
        if let Some(known) = self.decision_cache.lock().await.as_mut()
            && !is_whole
        {
            known.unstored = unstored;
        }
        let IncrementalDecision {
            rules,
            population,
            outcome,
            ..
        } = news;
        Ok((rules, population, outcome))
    }

    /// Decides about all records as of a moment, and stores nothing.
    pub(crate) async fn decide_for_plan(
        &self,
        at: Timestamp,
        gathering: Gathering,
    ) -> Result<(Arc<PublishedRules>, Population, Outcome), EngineError> {
        let plan = FullPlan {
            at,
            keeps: false,
            gathering,
            patience: None,
        };
        let full = self.full.decide_all(plan).await?;
        Ok((full.rules, full.population, full.outcome))
    }

    /// Decides about all records, stores the outcomes, and replaces the cache. Returns the records of
    /// which a run stores or sends something, too. Hold `decision_lock`.
    pub(super) async fn decide_full(
        &self,
        write_holds: Vec<Option<ReasonKind>>,
        purpose: Purpose,
        gathering: Gathering,
    ) -> Result<(IncrementalDecision, Records), EngineError> {
        // Everything is decided: also the records to which changes were sent until now.
        let sent_to = self.pending.take_sent();
        let plan = FullPlan {
            at: self.context.now(),
            keeps: true,
            gathering,
            patience: None,
        };
        let full = self.full.decide_all(plan).await?;
        *crate::lock(&self.last_cost) = full.cost;
        *crate::lock(&self.next_due) = full.state.next_due();
        if purpose == Purpose::Answers {
            self.keep_collected_holds(full.holds, &full.outcome).await?;
        }
        let reaches = Arc::<SystemContexts>::default();
        *self.decision_cache.lock().await = Some(DecisionCache {
            contexts: reaches.clone(),
            rules: full.rules.clone(),
            state: full.state,
            systems: full.population.systems.clone(),
            seen_dirty: full.seen_dirty,
            pruned_dirty: full.seen_dirty,
            write_holds,
            unstored: match purpose {
                Purpose::Run => Records::default(),
                Purpose::Answers => full.unstored.clone(),
            },
        });
        sent_to.were_decided();
        self.context.store.prune_dirty(full.seen_dirty).await?;
        let news = IncrementalDecision {
            rules: full.rules,
            population: full.population,
            outcome: full.outcome,
            about: match purpose {
                Purpose::Run => None,
                // All of it is stored.
                Purpose::Answers => Some(Records::default()),
            },
            cost: full.cost,
            reaches,
        };
        Ok((news, full.unstored))
    }
}
