//! The inputs of a decision about all records, and such decisions.

use crate::error::EngineError;
use crate::full::FullDecisions;
use crate::rules::PublishedRules;
use jiff::Timestamp;
use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;
use tide_core::{Outcome, Population, RuleSet, SystemFacts, decide};
use tide_store::GuardWindow;

/// A system, a kind of change, and the window in hours.
type Lately = (String, String, u32);

/// The windows of guards at a time, and the queries that count them, in the same order.
pub(crate) fn counted_by_guards(rules: &RuleSet, at: Timestamp) -> (Vec<Lately>, Vec<GuardWindow>) {
    let all = rules.guards.iter().flat_map(|guard| {
        let since = at
            .saturating_sub(jiff::SignedDuration::from_hours(guard.window_hours.into()))
            .unwrap_or_default();
        let systems = rules
            .systems
            .keys()
            .filter(|name| guard.system.as_ref().is_none_or(|only| only == *name));
        systems.map(move |system| {
            let key = (system.clone(), guard.change.clone(), guard.window_hours);
            (
                key,
                GuardWindow {
                    system: system.clone(),
                    kind: guard.change.clone(),
                    since,
                },
            )
        })
    });
    all.unzip()
}

/// A count in the form of the population.
pub(crate) fn count_of((key, count): (Lately, i64)) -> (Lately, usize) {
    (key, usize::try_from(count).unwrap_or_default())
}

impl FullDecisions {
    /// Decides from what is known now, and stores nothing.
    pub async fn decide_now(
        &self,
    ) -> Result<(Arc<PublishedRules>, Population, Outcome), EngineError> {
        self.decide_as_of(self.context.now()).await
    }

    /// Decides from what is known now as it would be decided at another moment.
    pub(crate) async fn decide_as_of(
        &self,
        at: Timestamp,
    ) -> Result<(Arc<PublishedRules>, Population, Outcome), EngineError> {
        self.decide_in_turn(at, Some(crate::full::PATIENCE)).await
    }

    /// The same; without `patience`, it waits for its turn without limit.
    pub(crate) async fn decide_in_turn(
        &self,
        at: Timestamp,
        patience: Option<std::time::Duration>,
    ) -> Result<(Arc<PublishedRules>, Population, Outcome), EngineError> {
        let (rules, population) = self.load_inputs(at).await?;
        let set = rules.clone();
        let work = move || {
            let outcome = decide(&set.set, &population, at);
            (population, outcome)
        };
        let (population, outcome) = self.compute(patience, work).await?;
        Ok((rules, population, outcome))
    }

    /// Loads the rules and all records for a decision at a moment.
    pub(crate) async fn load_inputs(
        &self,
        at: Timestamp,
    ) -> Result<(Arc<PublishedRules>, Population), EngineError> {
        let rules = self.rules.published_rules().await?;
        let mut population = self.context.store.load_population().await?;
        self.look_at_the_clock(&mut population.systems, at).await?;
        self.load_governance_inputs(&rules.set, &mut population, at)
            .await?;
        Ok((rules, population))
    }

    /// Notes to which systems nothing is written at a moment.
    pub(super) async fn look_at_the_clock(
        &self,
        systems: &mut BTreeMap<String, SystemFacts>,
        at: Timestamp,
    ) -> Result<(), EngineError> {
        let at_work = self.context.store.at_work().await?;
        for (row, hold) in at_work
            .iter()
            .zip(self.connections.write_holds(&at_work, at))
        {
            if let Some(facts) = systems.get_mut(&row.name) {
                facts.write_hold = hold;
            }
        }
        Ok(())
    }

    /// Loads guard counts, overrides and approvals into the population.
    pub(crate) async fn load_governance_inputs(
        &self,
        rules: &RuleSet,
        population: &mut Population,
        at: Timestamp,
    ) -> Result<(), EngineError> {
        let (keys, asked) = counted_by_guards(rules, at);
        let (counts, in_flight) = self.context.store.count_changes(&asked).await?;
        population.recent_change_counts = keys.into_iter().zip(counts).map(count_of).collect();
        population.in_flight = in_flight;
        population.guard_overrides = self.context.store.load_overrides(at).await?;
        population.approvals = if rules.approvals.is_empty() {
            HashMap::new()
        } else {
            self.context.store.approvals_said(at).await?
        };
        Ok(())
    }
}
