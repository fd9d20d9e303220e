//! Stores what a decision keeps.

use crate::decide::Decider;
use crate::decide::cache::IncrementalDecision;
use crate::error::EngineError;
use crate::kept::kept_outcomes;
use tide_store::KeptPart;

/// What a partial decision keeps; `None` of a full one, and if nothing was decided.
pub(crate) fn kept_part(news: &IncrementalDecision) -> Option<KeptPart> {
    let about = news.about.as_ref().filter(|about| !about.is_empty())?;
    let (rules, population) = (&news.rules.set, &news.population);
    Some(KeptPart {
        about: about.clone(),
        kept: kept_outcomes(rules, population, &news.outcome, Some(about)),
    })
}

impl Decider {
    /// Stores the outcomes of a partial decision for answers; a full one has stored its own. Hold
    /// `decision_lock`, so that they are stored in the order of the decisions.
    pub(crate) async fn keep_outcomes(
        &self,
        news: &IncrementalDecision,
    ) -> Result<(), EngineError> {
        if let Some(part) = kept_part(news) {
            self.context.store.keep_outcomes(part).await?;
        }
        Ok(())
    }
}
