//! Kept outcomes: each decision stores what it decided, and lists are read from there.

use crate::incremental::IncrementalDecision;
use crate::{Engine, EngineError};
use std::collections::{BTreeMap, HashMap};
use tide_core::decide::{Decided, Verdict};
use tide_core::states::ScopeStatus;
use tide_core::{ObjectType, Outcome, Population, RuleSet};
use tide_store::OutcomeRecord;

/// The scope status of a line; `None` for a departure and for an orphaned account.
fn scope_status(rules: &RuleSet, line: &Decided) -> Option<ScopeStatus> {
    let is_target_only = || {
        rules
            .of(&line.system, line.object)
            .is_some_and(|types| types.is_target() && !types.is_source())
    };
    match line.verdict {
        Verdict::OnHold => Some(ScopeStatus::OnHold),
        Verdict::OutOfScope => Some(ScopeStatus::Out),
        // A departure: it is out of scope.
        Verdict::Disable if is_target_only() => None,
        Verdict::Orphaned => None,
        _ => Some(ScopeStatus::In),
    }
}

/// A system, a type, and the identity or else the account.
type Subject<'o> = (&'o str, ObjectType, &'o str, i64);

/// What an outcome keeps: a record for each line. Of the lines of one identity in a system, the most
/// restrictive status counts, once.
pub fn outcome_records(
    rules: &RuleSet,
    population: &Population,
    outcome: &Outcome,
) -> Vec<OutcomeRecord> {
    let names: HashMap<i64, &str> = population
        .accounts
        .iter()
        .map(|account| (account.id, account.name.as_str()))
        .collect();
    let mut first: BTreeMap<Subject<'_>, (ScopeStatus, usize)> = BTreeMap::new();
    for (at, line) in outcome.decided.iter().enumerate() {
        let Some(status) = scope_status(rules, line) else {
            continue;
        };
        let identity = line.identity.as_deref().unwrap_or_default();
        let account = line.account.filter(|_| identity.is_empty());
        let subject = (
            line.system.as_str(),
            line.object,
            identity,
            account.unwrap_or_default(),
        );
        let known = first.entry(subject).or_insert((status, at));
        if status > known.0 {
            *known = (status, at);
        }
    }
    let mut statuses: Vec<Option<ScopeStatus>> = vec![None; outcome.decided.len()];
    for (status, at) in first.into_values() {
        statuses[at] = Some(status);
    }
    let lines = outcome.decided.iter().zip(statuses);
    lines
        .map(|(line, scope)| OutcomeRecord {
            system: line.system.clone(),
            object: line.object,
            identity: line.identity.clone().unwrap_or_default(),
            account: line.account.unwrap_or_default(),
            account_name: line
                .account
                .and_then(|id| names.get(&id))
                .map(|name| (*name).to_owned())
                .unwrap_or_default(),
            label: line.label.clone(),
            verdict: line.verdict,
            scope,
            reason: line.reason.clone(),
        })
        .collect()
}

impl Engine {
    /// Stores the outcomes of a decision. Hold `decision_lock`, so that they are stored in the order
    /// of the decisions.
    pub(crate) async fn keep_outcomes(
        &self,
        news: &IncrementalDecision,
    ) -> Result<(), EngineError> {
        let records = outcome_records(&news.rules.set, &news.population, &news.outcome);
        match &news.about {
            Some(about) if about.is_empty() => {}
            Some(about) => self.store.keep_outcomes(about, records).await?,
            None => self.store.replace_outcomes(records).await?,
        }
        Ok(())
    }
}
