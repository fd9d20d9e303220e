//! Stores the holds of each decision: who is on hold, why, and since when.

use crate::decide::Decider;
use crate::error::EngineError;
use crate::kept::{CollectedHolds, HoldCache, collect_holds, key_of_change, subjects};
use std::collections::{HashMap, HashSet};
use tide_core::incremental::Records;
use tide_core::{HoldCause, Outcome};
use tide_store::{Hold, HoldKey};

impl Decider {
    /// Stores the holds of a decision. `about` limits it to the decided records; `None` is all. The
    /// changes of a partial outcome are all outstanding ones.
    pub(crate) async fn keep_holds(
        &self,
        outcome: &Outcome,
        about: Option<&Records>,
    ) -> Result<(), EngineError> {
        let checked = outcome.changes.iter().map(key_of_change).collect();
        self.replace_holds(collect_holds(outcome), checked, about)
            .await
    }

    /// Stores the holds of a full decision: those of its chunks, and those of the outstanding changes.
    pub(crate) async fn keep_collected_holds(
        &self,
        collected: CollectedHolds,
        outcome: &Outcome,
    ) -> Result<(), EngineError> {
        let mut held = collect_holds(outcome);
        held.extend(collected.into_all());
        let checked = outcome.changes.iter().map(key_of_change).collect();
        self.replace_holds(held, checked, None).await
    }

    /// Stores these holds in place of those of the decided records and of the checked changes.
    async fn replace_holds(
        &self,
        held: HashMap<HoldKey, Hold>,
        checked: HashSet<HoldKey>,
        about: Option<&Records>,
    ) -> Result<(), EngineError> {
        let mut kept = self.hold_cache.lock().await;
        if kept.is_none() {
            *kept = Some(HoldCache::of(self.context.store.all_holds().await?));
        }
        let Some(known) = kept.as_mut() else {
            return Ok(());
        };
        // A preview sends nothing: failed changes stay failed until a run retries them.
        let is_failed = |key: &HoldKey| {
            let cause = known.get(key).map(|hold| hold.cause);
            about.is_none() && matches!(cause, Some(HoldCause::Failed | HoldCause::RetriedLater))
        };
        let wanted: HashSet<HoldKey> = checked
            .iter()
            .filter(|key| is_failed(key))
            .cloned()
            .collect();
        // Holds of the decided records and of the checked changes end if they are not on hold
        // now.
        let mut looked_at = checked;
        match about {
            None => looked_at.extend(known.keys().cloned()),
            Some(about) => looked_at.extend(
                subjects(about)
                    .flat_map(|whose| known.keys_of(&whose).cloned().collect::<Vec<_>>()),
            ),
        }
        looked_at.retain(|key| !wanted.contains(key));
        let ended: Vec<HoldKey> = looked_at
            .into_iter()
            .filter(|key| !held.contains_key(key) && known.get(key).is_some())
            .collect();
        let new: Vec<Hold> = held
            .into_values()
            .filter(|hold| known.get(&hold.key) != Some(hold))
            .collect();
        if ended.is_empty() && new.is_empty() {
            return Ok(());
        }
        if let Err(error) = self
            .context
            .store
            .keep_holds(ended.clone(), new.clone(), self.context.now())
            .await
        {
            // What is kept is read again next time.
            *kept = None;
            return Err(error.into());
        }
        ended.iter().for_each(|key| known.remove(key));
        new.into_iter().for_each(|hold| known.put(hold));
        Ok(())
    }

    /// Updates the holds after a run: ends those of changes that were made, and adds those of
    /// changes that failed.
    pub(crate) async fn keep_run_holds(&self, run: i64) -> Result<(), EngineError> {
        let mut kept = self.hold_cache.lock().await;
        let (done, failed) = self.context.store.holds_of_run(run).await?;
        if done.is_empty() && failed.is_empty() {
            return Ok(());
        }
        *kept = None;
        Ok(self
            .context
            .store
            .keep_holds(done, failed, self.context.now())
            .await?)
    }

    /// Forgets what is known of holds: their records were changed otherwise.
    pub(crate) async fn forget_holds(&self) {
        *self.hold_cache.lock().await = None;
    }
}
