//! Asynchronous operations: changes that a system accepted (HTTP 202) are polled with backoff until
//! they are done, across restarts; meanwhile nothing else is sent for the same account. And creates
//! with an unknown outcome: their accounts are searched for before the next decision, so that no
//! account stays without an owner.

use crate::dispatch::Dispatcher;
use crate::error::EngineError;
use crate::events::Event;
use jiff::{SignedDuration, Timestamp};
use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Duration;
use tide_connect::{Connector, FailureClass, Write};
use tide_core::states::ChangeSetState;
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
pub(crate) fn poll_interval(oldest: SignedDuration) -> Duration {
    Duration::try_from(oldest)
        .unwrap_or_default()
        .div_f64(10.0)
        .clamp(PAUSES.0, PAUSES.1)
}

impl Dispatcher {
    /// Starts the task that polls accepted changes, until the service stops.
    pub(crate) fn spawn_operation_poller(self: &Arc<Self>) {
        self.context.supervise("queued change poller", self, |dispatcher| async move {
            loop {
                let wait = match dispatcher.poll_operations().await {
                    Ok(wait) => wait,
                    Err(error) => {
                        tracing::warn!(%error, "could not load the accepted changes that are to be polled");
                        Some(PAUSES.1)
                    }
                };
                let pause = async {
                    match wait {
                        Some(wait) => dispatcher.context.clock.sleep(wait).await,
                        None => dispatcher.executor.operation_accepted.notified().await,
                    }
                };
                tokio::select! {
                    () = dispatcher.context.stopping.cancelled() => return,
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
        for one in self.context.store.accepted_changes().await? {
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
                let took = self.context.now().duration_since(since);
                let write = self.write_of(&row).await;
                let went = share.connector.poll_operation(&write, &place).await;
                let seconds = took.as_secs();
                // A decision in progress does not know this result: it is stored after that
                // decision's changes are queued.
                let _alone = self.pending.decision_lock.lock().await;
                match went {
                    Ok(Some(account)) => {
                        let note = Some(format!(
                            "{system} processed it in its queue for {seconds} s"
                        ));
                        self.executor
                            .store_result(&share, &row, account, note, &principal)
                            .await?;
                    }
                    Ok(None) if took > OPERATION_TIMEOUT => {
                        let said =
                            format!("{system} queued it and has not completed it within a day");
                        self.context
                            .store
                            .record_failed(
                                row.id,
                                &said,
                                "contact the administrator of the service",
                                false,
                                self.context.now(),
                            )
                            .await?;
                    }
                    Err(error) if error.class == FailureClass::Permanent => {
                        let said = format!("{system} queued it and then failed: {}", error.message);
                        self.context
                            .store
                            .record_failed(row.id, &said, &error.remedy, false, self.context.now())
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
                self.context.publish_event(Event::ChangeSet {
                    id: row.change_set,
                    state: ChangeSetState::Done,
                });
                // Wakes changes that waited for it.
                let accounts = row.change.account.into_iter();
                self.pending.mark_sent(
                    accounts,
                    std::iter::once(row.change.identity.clone()).filter(|id| !id.is_empty()),
                );
                self.pending.wake();
            }
        }
        Ok(newest.map(poll_interval))
    }

    /// The write that a system queued.
    async fn write_of(self: &Arc<Self>, row: &ChangeRow) -> Write {
        let change = &row.change;
        let account = match change.account {
            Some(id) => self
                .context
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
        for (row, sent, principal) in self.context.store.unknown_creates().await? {
            let share = match self.open_dispatcher(&row.change.system).await {
                Ok(share) => share,
                Err(error) => {
                    tracing::warn!(system = row.change.system, %error, "cannot look for an account with unknown outcome");
                    continue;
                }
            };
            let change = &row.change;
            let write = Write::new(change.object, change.kind, None, change.values.clone());
            match self.executor.look_for(&share, &write).await {
                Ok(Some(account)) => {
                    let note = Some("the answer was lost; the account was found later".to_owned());
                    self.executor
                        .store_result(&share, &row, account, note, &principal)
                        .await?;
                }
                // New accounts may become visible with a delay.
                Ok(None)
                    if self.context.now().duration_since(sent)
                        > visible_after(&*share.connector) =>
                {
                    let said = "the answer was lost; there is no such account";
                    self.context
                        .store
                        .record_failed(
                            row.id,
                            said,
                            "retried automatically",
                            true,
                            self.context.now(),
                        )
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
        Ok((!self.context.store.unknown_creates().await?.is_empty())
            .then(|| after(self.context.now(), LOOKED_AGAIN)))
    }
}
