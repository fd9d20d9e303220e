//! The kept counts of a list by reason, and its filter by a text.

use crate::decide::Decider;
use crate::decide::neighborhood::MOST_LISTED;
use crate::error::EngineError;
use crate::kept::shared_text;
use tide_core::ObjectType;
use tide_core::explain::fold_text;
use tide_store::{FoundOutcomes, OutcomeCount, OutcomeFilter, OutcomeList};

/// Number of reasons from which the sentence of a count is made.
const SAMPLED: i64 = 50;

impl Decider {
    /// The filter of a list, limited to what a text means, if there is one: to the records that
    /// have it ([`MOST_LISTED`] of them), and to reasons whose sentence has it.
    pub(crate) async fn with_search(
        &self,
        list: OutcomeList,
        (system, kind): (&str, ObjectType),
        filter: &OutcomeFilter,
        search: &str,
    ) -> Result<OutcomeFilter, EngineError> {
        let text = search.trim();
        if text.is_empty() {
            return Ok(filter.clone());
        }
        let records = self.find_records(text, MOST_LISTED).await?;
        let folded = fold_text(text);
        let counts = self.count_by_reason(list, system, kind).await?;
        let has_text = |(_, sentence): &(_, String)| fold_text(sentence).contains(&folded);
        let reasons = counts.into_iter().filter(has_text);
        Ok(OutcomeFilter {
            found: Some(FoundOutcomes {
                records,
                reasons: reasons
                    .map(|(count, _)| (count.code, count.group))
                    .collect(),
            }),
            ..filter.clone()
        })
    }

    /// The kept counts of a list, each with the sentence that its first reasons share.
    pub(crate) async fn count_by_reason(
        &self,
        list: OutcomeList,
        system: &str,
        kind: ObjectType,
    ) -> Result<Vec<(OutcomeCount, String)>, EngineError> {
        let mut counts = Vec::new();
        for count in self
            .context
            .store
            .outcome_counts(list, system, kind)
            .await?
        {
            let reasons = self
                .context
                .store
                .sample_reasons(system, kind, &count, SAMPLED)
                .await?;
            let texts: Vec<String> = reasons.iter().map(ToString::to_string).collect();
            if !texts.is_empty() {
                counts.push((count, shared_text(&texts)));
            }
        }
        Ok(counts)
    }
}
