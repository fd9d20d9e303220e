//! Answers about some records: decided from their neighborhood, whatever the size of the population.
//!
//! The decision cache knows which records belong together. With automatic sync, runs keep it up to
//! date; otherwise it follows the records here, and a run makes a decision of its own.

use crate::decide::Decider;
use crate::decide::cache::{DecisionCache, Purpose, is_automatic};
use crate::error::EngineError;
use crate::rules::PublishedRules;
use jiff::Timestamp;
use std::collections::HashMap;
use std::sync::Arc;
use tide_core::decide::{Change, Totals};
use tide_core::explain::MOST_FOUND;
use tide_core::incremental::Records;
use tide_core::model::AccountId;
use tide_core::{HoldCause, Outcome, Place, Population, Reason, decide};
use tide_store::{Hold, HoldKey};

/// Up to this many changed records that no run has decided yet are read with an answer.
const MAX_DIRTY: usize = 200;

/// A search in a list looks through this many records that have the text.
pub(crate) const MOST_LISTED: i64 = 5_000;

/// The open changes of all records.
pub(crate) struct OpenChanges {
    /// The published rules.
    pub rules: Arc<PublishedRules>,
    /// The changes, each with its hold.
    pub outcome: Outcome,
    /// The labels of the groups in memberships by rule.
    pub group_labels: GroupLabels,
}

/// Some records as they are decided now.
pub struct DecidedPart {
    /// The published rules.
    pub rules: Arc<PublishedRules>,
    /// The records that the decision read.
    pub population: Population,
    /// What was decided about them.
    pub outcome: Outcome,
    /// The decided records. The outcome has identities of others, which were read only.
    pub decided: Records,
}

/// The records of one identity.
pub(crate) fn identity_record(id: &str) -> Records {
    Records {
        identities: [id.to_owned()].into(),
        ..Records::default()
    }
}

/// Puts the holds of guards and licenses on changes: they count all records, and the last decision
/// about all stored them.
fn apply_counted_holds(outcome: &mut Outcome, holds: &[Hold]) {
    let counted: HashMap<&HoldKey, &Hold> = holds
        .iter()
        .filter(|hold| matches!(hold.cause, HoldCause::Guard | HoldCause::WaitingForSeat))
        .map(|hold| (&hold.key, hold))
        .collect();
    for change in outcome.changes.iter_mut().filter(|one| one.hold.is_none()) {
        if let Some(hold) = counted.get(&crate::kept::key_of_change(change)) {
            change.hold = Some(Reason {
                rule: hold.rule.as_deref().map(place_of),
                cause: Some(hold.cause),
                ..hold.reason.clone()
            });
        }
    }
}

/// A place as it is stored: `FILE:LINE`.
fn place_of(text: &str) -> Place {
    let (file, line) = text.rsplit_once(':').unwrap_or((text, ""));
    Place {
        file: file.to_owned(),
        line: line.parse().unwrap_or(1),
        column: 1,
    }
}

/// The labels of groups.
pub(crate) type GroupLabels = HashMap<AccountId, String>;

impl Decider {
    /// Decides about some records as of now.
    pub async fn decide_around(&self, of: &Records) -> Result<DecidedPart, EngineError> {
        self.decide_around_as(of, self.context.now(), None, |_| {})
            .await
    }

    /// Decides about some records as of a moment: with other rules than the published ones, if any
    /// are given, and after an edit of the records.
    pub(crate) async fn decide_around_as(
        &self,
        of: &Records,
        at: Timestamp,
        rules: Option<Arc<PublishedRules>>,
        edit: impl FnOnce(&mut Population) + Send,
    ) -> Result<DecidedPart, EngineError> {
        let at_work = self.context.store.at_work().await?;
        let cache = self.current_cache().await?;
        let Some(known) = cache.as_ref() else {
            return Err(EngineError::Internal("no decision is known".to_owned()));
        };
        let rules = rules.unwrap_or_else(|| known.rules().clone());
        let mut asked = of.clone();
        let dirty = self.context.store.dirty_since(known.seen_dirty()).await?;
        if !dirty.all && dirty.records.len() <= MAX_DIRTY {
            asked.accounts.extend(dirty.records.accounts);
            asked.identities.extend(dirty.records.identities);
        }
        let Some(near) = known.state().neighborhood(&asked) else {
            drop(cache);
            return self.decide_among_all(of, at, rules, edit).await;
        };
        let mut systems = known.systems().clone();
        for (row, hold) in at_work
            .iter()
            .zip(self.connections.write_holds(&at_work, at))
        {
            if let Some(facts) = systems.get_mut(&row.name) {
                facts.write_hold = hold;
            }
        }
        let mut population = self
            .context
            .store
            .load_part(&near.read, systems, false)
            .await?;
        self.full
            .load_governance_inputs(&rules.set, &mut population, at)
            .await?;
        edit(&mut population);
        let decided = known
            .state()
            .decide_neighborhood(&rules.set, &population, &near, at);
        drop(cache);
        let mut outcome = decided.outcome;
        if !decided.is_counted {
            let holds = self.context.store.holds_of_records(&near.decided).await?;
            apply_counted_holds(&mut outcome, &holds);
        }
        Ok(DecidedPart {
            rules,
            population,
            outcome,
            decided: near.decided,
        })
    }

    /// For records on which too many others depend: a decision about all.
    async fn decide_among_all(
        &self,
        of: &Records,
        at: Timestamp,
        rules: Arc<PublishedRules>,
        edit: impl FnOnce(&mut Population) + Send,
    ) -> Result<DecidedPart, EngineError> {
        let (_, mut population) = self.full.load_inputs(at).await?;
        edit(&mut population);
        let set = rules.clone();
        let work = move || {
            let outcome = decide(&set.set, &population, at);
            (population, outcome)
        };
        let (population, outcome) = self.full.compute(Some(crate::full::PATIENCE), work).await?;
        Ok(DecidedPart {
            rules,
            population,
            outcome,
            decided: of.clone(),
        })
    }

    /// Decides about the records that a text means; at most [`MOST_FOUND`] people are
    /// found by a part of their names.
    pub(crate) async fn decide_around_text(&self, text: &str) -> Result<DecidedPart, EngineError> {
        let found = self.find_records(text, MOST_FOUND as i64).await?;
        self.decide_around(&found).await
    }

    /// The records that have a text, as of the last decision.
    pub(crate) async fn find_records(
        &self,
        text: &str,
        limit: i64,
    ) -> Result<Records, EngineError> {
        let is_open = self.context.store.open_search().is_some();
        let index = self.context.store.search().await?.clone();
        if !is_open {
            // The index is filled by a full decision, and follows all others.
            self.reset_decision_cache().await;
        }
        drop(self.current_cache().await?);
        index.flush().await;
        Ok(index.find(text, limit).await?)
    }

    /// The changes of all records that wait for an answer or failed, and reported drift.
    pub(crate) async fn open_changes(&self) -> Result<OpenChanges, EngineError> {
        let now = self.context.now();
        let cache = self.current_cache().await?;
        let Some(known) = cache.as_ref() else {
            return Err(EngineError::Internal("no decision is known".to_owned()));
        };
        let rules = known.rules().clone();
        let mut facts = Population::default();
        self.full
            .load_governance_inputs(&rules.set, &mut facts, now)
            .await?;
        let state = known.state();
        let totals = Totals {
            linked: state.linked_counts().clone(),
            seats: state.seats_in_use(),
            ..Totals::of_facts(&facts)
        };
        let mut outcome = state.outstanding_outcome(&rules.set, &totals, now);
        let is_repaired = |change: &&Change| {
            let said = facts.guard_overrides.get(&change.fingerprint);
            said.is_some_and(|said| said.release)
        };
        let drift = state.reported_drift().filter(|change| !is_repaired(change));
        outcome.changes.extend(drift.cloned());
        let groups = outcome
            .changes
            .iter()
            .filter(|change| change.is_membership())
            .filter_map(|change| change.account);
        let label = |id: AccountId| Some((id, state.group_label(id)?.to_owned()));
        let group_labels = groups.filter_map(label).collect();
        Ok(OpenChanges {
            rules,
            outcome,
            group_labels,
        })
    }

    /// Prepares the answers to come, in the background: the first one need not wait for a full
    /// decision. With automatic sync, the first run makes that decision.
    pub async fn prepare_answers(self: &Arc<Self>) -> Result<(), EngineError> {
        self.context.store.search().await?;
        if is_automatic(&self.context.store.at_work().await?) {
            return Ok(());
        }
        let decider = self.clone();
        self.context.tasks.spawn(async move {
            match decider.refresh_outcomes().await {
                Ok(()) | Err(EngineError::NoRules) => {}
                Err(error) => tracing::warn!(%error, "the first decision could not be made"),
            }
        });
        Ok(())
    }

    /// Brings the kept outcomes up to date.
    pub(crate) async fn refresh_outcomes(&self) -> Result<(), EngineError> {
        self.current_cache().await.map(drop)
    }

    /// The decision cache, up to date. With automatic sync, runs see to that.
    pub(crate) async fn current_cache(
        &self,
    ) -> Result<tokio::sync::MutexGuard<'_, Option<DecisionCache>>, EngineError> {
        // Without rules nothing is decided.
        self.rules.published_rules().await?;
        let at_work = self.context.store.at_work().await?;
        let is_followed = is_automatic(&at_work);
        let cache = self.decision_cache.lock().await;
        if let Some(known) = cache.as_ref() {
            let is_due = known.is_due(
                &self.connections.write_holds(&at_work, self.context.now()),
                self.context.now(),
            );
            if is_followed
                || (!is_due && self.context.store.last_dirty().await? <= known.seen_dirty())
            {
                return Ok(cache);
            }
        }
        let is_known = cache.is_some();
        drop(cache);
        let alone = match self.pending.decision_lock.try_lock() {
            Ok(alone) => alone,
            // A run decides or stores its decision: what is known is used meanwhile.
            Err(_) if is_known => return Ok(self.decision_cache.lock().await),
            Err(_) => self.pending.decision_lock.lock().await,
        };
        if is_followed && self.decision_cache.lock().await.is_some() {
            // The run that was waited for has decided.
            return Ok(self.decision_cache.lock().await);
        }
        let before = self.load_preconditions().await?;
        let news = self.decide_incremental(&before, Purpose::Answers).await?;
        if let Err(error) = self.keep_outcomes(&news).await {
            // The next answer decides from scratch.
            self.reset_decision_cache().await;
            return Err(error);
        }
        if let Err(error) = self.keep_holds(&news.outcome, news.about.as_ref()).await {
            tracing::warn!(%error, "the holds of a decision could not be stored");
        }
        drop(alone);
        Ok(self.decision_cache.lock().await)
    }
}
