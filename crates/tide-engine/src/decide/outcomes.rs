//! Stores what a decision keeps.

use crate::decide::Decider;
use crate::decide::cache::IncrementalDecision;
use crate::error::EngineError;
use crate::kept::kept_outcomes;
use tide_core::incremental::Records;

impl Decider {
    /// Stores the outcomes of a decision. Hold `decision_lock`, so that they are stored in the order
    /// of the decisions.
    pub(crate) async fn keep_outcomes(
        &self,
        news: &IncrementalDecision,
    ) -> Result<(), EngineError> {
        let about = news.about.as_ref();
        if about.is_some_and(Records::is_empty) {
            return Ok(());
        }
        let kept = kept_outcomes(&news.rules.set, &news.population, &news.outcome, about);
        match about {
            Some(about) => self.context.store.keep_outcomes(about, kept).await?,
            None => self.context.store.replace_outcomes(kept).await?,
        }
        Ok(())
    }
}
