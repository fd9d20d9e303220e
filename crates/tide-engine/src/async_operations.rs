//! Asynchronous operations: changes that a system accepted (HTTP 202) are polled with backoff until
//! they are done, across restarts; meanwhile nothing else is sent for the same account. And creates
//! with an unknown outcome: their accounts are searched for before the next decision, so that no
//! account stays without an owner.

use crate::{Engine, EngineError, Event};
use jiff::{SignedDuration, Timestamp};
use std::collections::{BTreeMap, HashSet};
use std::sync::Arc;
use std::time::Duration;
use tide_connect::{Connector, FailureClass, Write};
use tide_core::states::{ChangeKind, ChangeSetState, ChangeState};
use tide_core::{HoldCause, Outcome, Reason, ReasonKind};
use tide_store::ChangeRow;

/// How long an accepted change is polled before it counts as failed.
const OPERATION_TIMEOUT: SignedDuration = SignedDuration::from_hours(24);
/// Interval of searches for accounts with an unknown creation outcome.
const LOOKED_AGAIN: SignedDuration = SignedDuration::from_secs(10);
/// Minimum and maximum poll interval.
const PAUSES: (Duration, Duration) = (Duration::from_secs(1), Duration::from_secs(60));

/// How long a system may take to show a new account.
fn visible_after(connector: &dyn Connector) -> SignedDuration {
    SignedDuration::try_from(connector.visibility_lag()).unwrap_or(LOOKED_AGAIN)
}

/// The next poll interval: a tenth of the elapsed time, within limits.
fn poll_interval(oldest: SignedDuration) -> Duration {
    Duration::try_from(oldest)
        .unwrap_or_default()
        .div_f64(10.0)
        .clamp(PAUSES.0, PAUSES.1)
}

impl Engine {
    /// Starts the task that polls accepted changes, until the service stops.
    pub(crate) fn spawn_operation_poller(self: &Arc<Self>) {
        self.supervise("queued change poller", |engine| async move {
            loop {
                let wait = match engine.poll_operations().await {
                    Ok(wait) => wait,
                    Err(error) => {
                        tracing::warn!(%error, "could not load the accepted changes that are to be polled");
                        Some(PAUSES.1)
                    }
                };
                let pause = async {
                    match wait {
                        Some(wait) => engine.clock.sleep(wait).await,
                        None => engine.operation_accepted.notified().await,
                    }
                };
                tokio::select! {
                    () = engine.stopping.cancelled() => return,
                    () = pause => {}
                }
            }
        });
    }

    /// Polls each accepted change once. Returns the time until the next poll, if changes are left.
    /// The poller task calls it.
    pub async fn poll_operations(self: &Arc<Self>) -> Result<Option<Duration>, EngineError> {
        let mut by_system: BTreeMap<String, Vec<(ChangeRow, String, Timestamp, String)>> =
            BTreeMap::new();
        for one in self.store.accepted_changes().await? {
            by_system
                .entry(one.0.change.system.clone())
                .or_default()
                .push(one);
        }
        let mut newest: Option<SignedDuration> = None;
        for (system, all) in by_system {
            let share = match self.open_dispatcher(&system).await {
                Ok(share) => share,
                Err(error) => {
                    tracing::warn!(system, %error, "the queue of the system cannot be polled");
                    newest = Some(newest.unwrap_or(OPERATION_TIMEOUT));
                    continue;
                }
            };
            for (row, place, since, principal) in all {
                let took = self.now().duration_since(since);
                let write = self.write_of(&row).await;
                let went = share.connector.poll_operation(&write, &place).await;
                let seconds = took.as_secs();
                // A decision in progress does not know this result: it is stored after that
                // decision's changes are queued.
                let _alone = self.decision_lock.lock().await;
                match went {
                    Ok(Some(account)) => {
                        let note = Some(format!(
                            "{system} processed it in its queue for {seconds} s"
                        ));
                        self.store_result(&share, &row, account, note, &principal)
                            .await?;
                    }
                    Ok(None) if took > OPERATION_TIMEOUT => {
                        let said =
                            format!("{system} queued it and has not completed it within a day");
                        self.store
                            .record_failed(
                                row.id,
                                &said,
                                "contact the administrator of the service",
                                false,
                                self.now(),
                            )
                            .await?;
                    }
                    Err(error) if error.class == FailureClass::Permanent => {
                        let said = format!("{system} queued it and then failed: {}", error.message);
                        self.store
                            .record_failed(row.id, &said, &error.remedy, false, self.now())
                            .await?;
                    }
                    other => {
                        if let Err(error) = other {
                            tracing::info!(system, change = row.id, %error, "could not poll the queue of the system");
                        }
                        newest = Some(newest.map_or(took, |other| other.min(took)));
                        continue;
                    }
                }
                self.publish_event(Event::ChangeSet {
                    id: row.change_set,
                    state: ChangeSetState::Done,
                });
                // Wakes changes that waited for it.
                let accounts = row.change.account.into_iter();
                self.mark_sent(
                    accounts,
                    std::iter::once(row.change.identity.clone()).filter(|id| !id.is_empty()),
                )
                .await;
                self.wake.notify_one();
            }
        }
        Ok(newest.map(poll_interval))
    }

    /// The write that a system queued.
    async fn write_of(self: &Arc<Self>, row: &ChangeRow) -> Write {
        let change = &row.change;
        let account = match change.account {
            Some(id) => self
                .store
                .find_account(id)
                .await
                .ok()
                .map(|account| (account.key, account.name)),
            None => None,
        };

        Write::new(change.object, change.kind, account, change.values.clone())
    }

    /// Searches for accounts with an unknown creation outcome of runs that have ended, and links
    /// those that are found to their identities.
    pub(crate) async fn resolve_unknown_creates(self: &Arc<Self>) -> Result<(), EngineError> {
        for (row, sent, principal) in self.store.unknown_creates().await? {
            let share = match self.open_dispatcher(&row.change.system).await {
                Ok(share) => share,
                Err(error) => {
                    tracing::warn!(system = row.change.system, %error, "cannot look for an account with unknown outcome");
                    continue;
                }
            };
            let change = &row.change;
            let write = Write::new(change.object, change.kind, None, change.values.clone());
            match self.look_for(&share, &write).await {
                Ok(Some(account)) => {
                    let note = Some("the answer was lost; the account was found later".to_owned());
                    self.store_result(&share, &row, account, note, &principal)
                        .await?;
                }
                // New accounts may become visible with a delay.
                Ok(None) if self.now().duration_since(sent) > visible_after(&*share.connector) => {
                    let said = "the answer was lost; there is no such account";
                    self.store
                        .record_failed(row.id, said, "retried automatically", true, self.now())
                        .await?;
                }
                Ok(None) => {}
                Err(error) => {
                    tracing::info!(system = change.system, %error, "cannot look for an account with unknown outcome")
                }
            }
        }
        Ok(())
    }

    /// When the next search for such accounts is due.
    pub(crate) async fn next_unknown_create(&self) -> Result<Option<Timestamp>, EngineError> {
        let after = |at: Timestamp, pause: SignedDuration| {
            at.saturating_add(pause).unwrap_or(Timestamp::MAX)
        };
        Ok((!self.store.unknown_creates().await?.is_empty())
            .then(|| after(self.now(), LOOKED_AGAIN)))
    }

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
            let there = self.store.in_doubt(&system).await?;
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
}
