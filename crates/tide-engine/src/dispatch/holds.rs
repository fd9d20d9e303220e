//! Changes that wait for something outside of the decision: an accepted change, a system that fails,
//! a read after a restore.

use crate::backoff::{Backoff, later};
use crate::dispatch::Dispatcher;
use crate::error::EngineError;
use crate::lock;
use jiff::Timestamp;
use std::collections::{HashMap, HashSet};
use std::time::Duration;
use tide_core::states::{ChangeKind, ChangeState};
use tide_core::{HoldCause, Outcome, Reason, ReasonKind};

/// Delay before a failed change is retried.
const RETRY_BACKOFF: Backoff = Backoff::new(Duration::from_secs(30), Duration::from_secs(3600));

impl Dispatcher {
    /// Holds changes of accounts with an accepted change that is not done, or with an unknown
    /// creation outcome.
    pub(crate) async fn hold_accepted(&self, outcome: &mut Outcome) -> Result<(), EngineError> {
        let systems: HashSet<String> = outcome
            .changes
            .iter()
            .filter(|c| c.hold.is_none())
            .map(|c| c.system.clone())
            .collect();
        for system in systems {
            let there = self.context.store.in_doubt(&system).await?;
            if there.is_empty() {
                continue;
            }
            for change in outcome
                .changes
                .iter_mut()
                .filter(|change| change.system == system && change.hold.is_none())
            {
                let same =
                    |(account, identity, _): &&(Option<i64>, String, ChangeState)| match account {
                        Some(account) => Some(*account) == change.account,
                        None => {
                            *identity == change.identity
                                && (change.kind == ChangeKind::Create || change.account.is_none())
                        }
                    };
                if let Some((.., state)) = there.iter().find(same) {
                    let system = system.to_string();
                    change.hold = Some(
                        Reason::new(match state {
                            ChangeState::Unknown => ReasonKind::OutcomeUnknown { system },
                            _ => ReasonKind::QueuedThere { system },
                        })
                        .on_hold(HoldCause::UnknownOutcome),
                    );
                }
            }
        }
        Ok(())
    }

    /// After a restore, holds all changes until every system was read again.
    pub(crate) async fn hold_restored(&self, outcome: &mut Outcome) -> Result<(), EngineError> {
        let outdated = self.context.store.records_of_backup().await?;
        if outdated.is_empty() {
            return Ok(());
        }
        let read = self.rules.to_read().await?;
        let waits = |(row, types): &(tide_store::SystemRow, Vec<tide_core::ObjectType>)| {
            types.iter().any(|kind| {
                outdated
                    .iter()
                    .any(|(system, object)| *system == row.name && object == kind)
            })
        };
        let names: Vec<String> = read
            .iter()
            .filter(|one| waits(one))
            .map(|(row, _)| row.name.clone())
            .collect();
        if names.is_empty() {
            return Ok(());
        }
        for change in outcome
            .changes
            .iter_mut()
            .filter(|change| change.hold.is_none())
        {
            change.hold = Some(
                Reason::new(ReasonKind::NotReadSinceRestore {
                    systems: names.clone(),
                })
                .on_hold(HoldCause::NotRead),
            );
        }
        Ok(())
    }

    /// Holds changes that failed and are unchanged, and changes of systems with an open breaker.
    /// Also sets the time of the next retry.
    pub(crate) async fn hold_for_breaker_or_retry(
        &self,
        outcome: &mut Outcome,
        any_failed: bool,
    ) -> Result<(), EngineError> {
        let now = self.context.now();
        let breakers = self.executor.breakers.open_at(now);
        let prints: Vec<&str> = outcome
            .changes
            .iter()
            .filter(|c| c.hold.is_none())
            .map(|c| c.fingerprint.as_str())
            .collect();
        let parked = if any_failed {
            self.context.store.parked_changes(&prints).await?
        } else {
            HashMap::new()
        };
        let mut again: Option<Timestamp> = None;
        for change in outcome
            .changes
            .iter_mut()
            .filter(|change| change.hold.is_none())
        {
            if let Some(breaker) = breakers.get(&change.system) {
                change.hold = Some(
                    Reason::new(ReasonKind::NoAnswer {
                        system: change.system.clone(),
                        error: breaker.error().to_string(),
                    })
                    .on_hold(HoldCause::RetriedLater),
                );
                continue;
            }
            let Some(parked) = parked.get(&change.fingerprint) else {
                continue;
            };
            if !parked.passing {
                change.hold = Some(
                    Reason::new(ReasonKind::Failed {
                        error: parked.error.clone(),
                    })
                    .on_hold(HoldCause::Failed),
                );
                continue;
            }
            let next = later(parked.at, RETRY_BACKOFF.delay(parked.times, 0.5));
            if next > now {
                again = Some(again.map_or(next, |other| other.min(next)));
                change.hold = Some(
                    Reason::new(ReasonKind::FailedTransiently {
                        error: parked.error.clone(),
                    })
                    .on_hold(HoldCause::RetriedLater),
                );
            }
        }
        *lock(&self.next_retry) = again;
        tide_core::decide::hold_later_steps(&mut outcome.changes);
        Ok(())
    }
}
