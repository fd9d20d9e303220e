//! External changes: an orphaned account that others created, or a linked one that they deleted.
//! Each is reported once, with its consequence by the rules.

use crate::error::EngineError;
use crate::events::Event;
use crate::governance::DecisionReview;
use std::collections::{HashMap, HashSet};
use tide_core::compare::{ValueChange, changed_there};
use tide_core::decide::Verdict;
use tide_core::incremental::Records;
use tide_core::rules::{OnDeleted, OnDrift, OnOrphaned};
use tide_core::value::format_values;
use tide_core::{Outcome, Population, RuleSet};
use tide_store::Surprise;

/// Finds accounts that others deleted.
fn find_deleted(
    rules: &RuleSet,
    population: &Population,
    accounts: &HashMap<i64, usize>,
    labels: HashMap<&str, &str>,
) -> Vec<(Surprise, String)> {
    let mut surprises = Vec::new();
    for link in &population.links {
        let Some(account) = accounts
            .get(&link.account)
            .map(|&at| &population.accounts[at])
        else {
            continue;
        };
        let Some(types) = rules
            .of(&account.system, account.kind)
            .filter(|types| types.is_target())
        else {
            continue;
        };
        // In a source, a missing person is a leaver.
        if account.absent_since.is_none() || types.is_source() {
            continue;
        }
        let whose = labels
            .get(link.identity.as_str())
            .copied()
            .unwrap_or("an unknown person");
        let becomes = match types.on_deleted {
            OnDeleted::Ask => "on hold until an operator decides",
            OnDeleted::Recreate => "it is created again",
            OnDeleted::Ignore => "it stays deleted",
        };
        surprises.push((
            Surprise::Deleted(account.id),
            format!("It was the account of {whose}; {becomes}."),
        ));
    }
    surprises
}

/// Finds values that others changed.
fn find_changed(
    rules: &RuleSet,
    population: &Population,
    outcome: &Outcome,
    accounts: HashMap<i64, usize>,
    surprises: &mut Vec<(Surprise, String)>,
) {
    let targets = outcome.changes.iter().filter(|change| {
        rules
            .of(&change.system, change.object)
            .is_some_and(|types| !types.is_source())
    });
    // Outstanding changes of others were checked when they were decided.
    let read = |id: i64| accounts.contains_key(&id);
    for change in targets.filter(|change| change.account.is_some_and(read)) {
        let Some((id, _)) = change
            .account
            .and_then(|id| population.drift_baseline.get_key_value(&id))
        else {
            continue;
        };
        // It was in sync before that read and is not now: it was changed there, and not at its
        // source.
        let schema = population
            .systems
            .get(&change.system)
            .and_then(|facts| facts.schema.get(&change.object));
        let undone = |value: &&ValueChange| {
            let def = schema.and_then(|schema| schema.get(&value.attribute));
            !value.after.is_empty() && changed_there(population, *id, def, value)
        };
        let told: Vec<String> = change
            .values
            .iter()
            .filter(undone)
            .map(|value| {
                format!(
                    "{} was {} and is {}",
                    value.attribute,
                    format_values(&value.after),
                    format_values(&value.before)
                )
            })
            .collect();
        if !told.is_empty() {
            let reports = rules
                .of(&change.system, change.object)
                .is_some_and(|types| types.on_drift == OnDrift::Report);
            let becomes = if reports {
                "reported only, until an operator chooses repair"
            } else {
                "the next run repairs it"
            };
            let body = format!(
                "It is the account of {}: {}; {becomes}.",
                change.label,
                told.join(", ")
            );
            surprises.push((Surprise::Changed(*id), body));
        }
    }
}

/// Finds accounts that belong to no identity.
fn find_orphaned(rules: &RuleSet, outcome: &Outcome, surprises: &mut Vec<(Surprise, String)>) {
    for line in outcome
        .decided
        .iter()
        .filter(|line| line.identity.is_none())
    {
        let Some(types) = rules
            .of(&line.system, line.object)
            .filter(|types| types.is_target() && !types.is_source())
        else {
            continue;
        };
        let stray = matches!(
            line.verdict,
            Verdict::Orphaned | Verdict::OnHold | Verdict::Disable
        );
        let Some(account) = line.account.filter(|_| stray) else {
            continue;
        };
        let becomes = match types.on_orphaned {
            OnOrphaned::Ignore => "left unchanged",
            OnOrphaned::Disable => "it is disabled",
            OnOrphaned::Ask => "review required",
        };
        surprises.push((
            Surprise::Made(account),
            format!("No identity matches; {becomes}."),
        ));
    }
}

/// Accounts with a drift baseline that are in sync again.
fn in_sync_again(population: &Population, outcome: &Outcome, about: Option<&Records>) -> Vec<i64> {
    // Accounts that are in sync again start a new baseline.
    let changing: HashSet<i64> = outcome
        .changes
        .iter()
        .filter_map(|change| change.account)
        .collect();
    let decided = |id: &i64| about.is_none_or(|about| about.accounts.contains(id));
    population
        .drift_baseline
        .keys()
        .filter(|id| !changing.contains(id) && decided(id))
        .copied()
        .collect()
}

impl DecisionReview {
    /// Notes what is new of it. The accounts that are as they should be again, though they were
    /// changed there.
    pub(crate) async fn record_external_changes(
        &self,
        rules: &RuleSet,
        population: &Population,
        outcome: &Outcome,
        about: Option<&Records>,
    ) -> Result<Vec<i64>, EngineError> {
        let accounts: HashMap<i64, usize> = population
            .accounts
            .iter()
            .enumerate()
            .map(|(at, account)| (account.id, at))
            .collect();
        let labels: HashMap<&str, &str> = outcome
            .identities
            .iter()
            .map(|(identity, label)| (identity.id.as_str(), label.as_str()))
            .collect();
        let mut surprises = find_deleted(rules, population, &accounts, labels);
        find_changed(rules, population, outcome, accounts, &mut surprises);
        find_orphaned(rules, outcome, &mut surprises);
        let right = in_sync_again(population, outcome, about);
        if self
            .context
            .store
            .add_external_changes(surprises, self.context.now())
            .await?
            > 0
        {
            self.context.publish_event(Event::AttentionChanged);
        }
        Ok(right)
    }
}
