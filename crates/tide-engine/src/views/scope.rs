//! Who is in scope, out of scope and on hold for a system, counted by reason, with the people behind
//! each number.

use crate::error::EngineError;
use crate::kept::{ScopeCount, ScopeLine, scope_line, sort_counts};
use crate::views::Views;
use tide_core::ObjectType;
use tide_core::rules::edit;
use tide_core::rules::edit::ScopeEdit;
use tide_store::{OutcomeFilter, OutcomeList, OutcomePosition, OutcomeStatus};

/// The scope of a system as it works out now.
#[derive(Debug, Clone)]
pub struct ScopeView {
    /// The scope itself.
    pub edit: ScopeEdit,
    /// The file that contains it.
    pub file: String,
    /// The counts, the most important first.
    pub counts: Vec<ScopeCount>,
    /// The lines of the filter, up to its limit.
    pub lines: Vec<ScopeLine>,
    /// Where the next page begins.
    pub next: Option<OutcomePosition>,
    /// How many lines the filter has.
    pub found: usize,
}

impl Views {
    /// The scope of a system, as decided now.
    ///
    /// # Errors
    /// `NotFound` if no rules exist for this type of the system.
    pub async fn show_scope(
        &self,
        system: &str,
        kind: ObjectType,
        filter: &OutcomeFilter,
        search: &str,
    ) -> Result<ScopeView, EngineError> {
        self.context.store.find_system(system).await?;
        self.decider.refresh_outcomes().await?;
        let rules = self.rules.published_rules().await?;
        let Some(own) = rules.set.systems.get(system) else {
            return Err(EngineError::NotFound(format!(
                "the published rules do not contain {system}: `eager-tide systems add` writes a first file"
            )));
        };
        let counts = self.count_scope(system, kind).await?;
        let filter = self.scope_filter(system, kind, filter, search).await?;
        let (lines, next) = self.scope_page(system, kind, &filter).await?;
        let found = self
            .context
            .store
            .count_found(OutcomeList::Scope, system, kind, &filter)
            .await?;
        let edit = own
            .types
            .get(&kind)
            .map(|types| edit::scope_of(&types.scope))
            .unwrap_or_default();
        Ok(ScopeView {
            edit,
            file: own.file.clone(),
            counts,
            lines,
            next,
            found: usize::try_from(found).unwrap_or_default(),
        })
    }

    /// The filter of a scope, limited to what a text means, for [`Views::scope_page`].
    pub async fn scope_filter(
        &self,
        system: &str,
        kind: ObjectType,
        filter: &OutcomeFilter,
        search: &str,
    ) -> Result<OutcomeFilter, EngineError> {
        self.context.store.find_system(system).await?;
        self.decider.refresh_outcomes().await?;
        let list = OutcomeList::Scope;
        self.decider
            .with_search(list, (system, kind), filter, search)
            .await
    }

    /// A page of the kept scope of a system, and where the next one begins.
    pub async fn scope_page(
        &self,
        system: &str,
        kind: ObjectType,
        filter: &OutcomeFilter,
    ) -> Result<(Vec<ScopeLine>, Option<OutcomePosition>), EngineError> {
        let page = self
            .context
            .store
            .list_records(OutcomeList::Scope, system, kind, filter)
            .await?;
        let lines = page.records.into_iter().filter_map(scope_line);
        Ok((lines.collect(), page.next))
    }

    /// The kept counts, each with a sentence that fits its first records.
    async fn count_scope(
        &self,
        system: &str,
        kind: ObjectType,
    ) -> Result<Vec<ScopeCount>, EngineError> {
        let mut counts = Vec::new();
        let list = OutcomeList::Scope;
        for (count, reason) in self.decider.count_by_reason(list, system, kind).await? {
            let OutcomeStatus::Scope(status) = count.status else {
                continue;
            };
            counts.push(ScopeCount {
                status,
                code: count.code,
                reason,
                rule: count.rule(),
                count: usize::try_from(count.count).unwrap_or_default(),
            });
        }
        sort_counts(&mut counts);
        Ok(counts)
    }
}
