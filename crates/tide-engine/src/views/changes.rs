//! Answers about people and change sets.

use crate::error::EngineError;
use crate::views::Views;
use tide_core::explain::{Explanation, explain_among};
use tide_store::ChangeRow;

/// The comparison of two change sets.
#[derive(Debug, Clone)]
pub struct Comparison {
    /// How many changes are in both.
    pub same: usize,
    /// Changes of the first only.
    pub only_here: Vec<ChangeRow>,
    /// Changes of the second only.
    pub only_there: Vec<ChangeRow>,
}

impl Views {
    /// Explains a person's accounts, or why there are none: of the first fifty that a part of a name
    /// means.
    pub async fn explain_person(&self, text: &str) -> Result<Vec<Explanation>, EngineError> {
        let near = self.decider.decide_around_text(text).await?;
        let is_decided = |id: &str| near.decided.identities.contains(id);
        Ok(explain_among(
            &near.rules.set,
            &near.population,
            &near.outcome,
            text,
            &is_decided,
        ))
    }

    /// What two change sets have of each other's: a change is the same when it is from the same and
    /// to the same.
    pub async fn compare_change_sets(
        &self,
        one: i64,
        other: i64,
    ) -> Result<Comparison, EngineError> {
        self.context.store.change_set(one).await?;
        self.context.store.change_set(other).await?;
        let same = self.context.store.count_in_both(one, other).await?;
        Ok(Comparison {
            same: usize::try_from(same).unwrap_or_default(),
            only_here: self.context.store.changes_only_in(one, other).await?,
            only_there: self.context.store.changes_only_in(other, one).await?,
        })
    }
}
