//! Changes that a system took into a queue of its own (HTTP 202): the system is asked until each is done, with growing pauses,
//! also after a restart; meanwhile nothing else is sent for the same account. And accounts that were perhaps made, whose answers
//! were lost to the last attempt: they are looked for before anything else is decided, or nobody would ever own them.

use crate::{Engine, EngineError, Event};
use jiff::{SignedDuration, Timestamp};
use std::collections::{BTreeMap, HashSet};
use std::sync::Arc;
use std::time::Duration;
use tide_connect::{Connector, FailureClass, Write};
use tide_core::decide::ChangeKind;
use tide_core::states::ChangeSetState;
use tide_core::states::ChangeState;
use tide_core::{HoldCause, Outcome, Reason};
use tide_store::ChangeRow;

/// How long a system may take before it is said that it does not do it.
const OPERATION_TIMEOUT: SignedDuration = SignedDuration::from_hours(24);
/// After how long it is looked again for an account that was perhaps made.
const LOOKED_AGAIN: SignedDuration = SignedDuration::from_secs(10);
/// The shortest and the longest pause between two questions.
const PAUSES: (Duration, Duration) = (Duration::from_secs(1), Duration::from_secs(60));

/// How long a system may take to show what was made there.
fn visible_after(connector: &dyn Connector) -> SignedDuration {
    SignedDuration::try_from(connector.visibility_lag()).unwrap_or(LOOKED_AGAIN)
}

/// The next pause: short at first, a tenth of the time that it takes already, within limits.
fn pause(oldest: SignedDuration) -> Duration {
    Duration::try_from(oldest).unwrap_or_default().div_f64(10.0).clamp(PAUSES.0, PAUSES.1)
}

impl Engine {
    /// Asks after what is in the queues of systems, until the service stops.
    pub(crate) fn spawn_operation_poller(self: &Arc<Self>) {
        self.supervise("queued change poller", |engine| async move {
            loop {
                let wait = match engine.poll_operations().await {
                    Ok(wait) => wait,
                    Err(error) => {
                        tracing::warn!(%error, "it could not be asked after what systems have in their queues");
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

    /// Asks once after each; how long to wait before the next time, if anything is left. The service does so by itself.
    pub async fn poll_operations(self: &Arc<Self>) -> Result<Option<Duration>, EngineError> {
        let mut by_system: BTreeMap<String, Vec<(ChangeRow, String, Timestamp, String)>> = BTreeMap::new();
        for one in self.store.accepted().await? {
            by_system.entry(one.0.change.system.clone()).or_default().push(one);
        }
        let mut newest: Option<SignedDuration> = None;
        for (system, all) in by_system {
            let share = match self.share(&system).await {
                Ok(share) => share,
                Err(error) => {
                    tracing::warn!(system, %error, "the system cannot be asked after its queue");
                    newest = Some(newest.unwrap_or(OPERATION_TIMEOUT));
                    continue;
                }
            };
            for (row, place, since, principal) in all {
                let took = self.now().duration_since(since);
                let change = &row.change;
                let account = match change.account {
                    Some(id) => self.store.account(id).await.ok().map(|account| (account.key, account.name)),
                    None => None,
                };
                let write = Write::new(change.object, change.kind, account, change.values.clone());
                let went = share.connector.poll_operation(&write, &place).await;
                let seconds = took.as_secs();
                // Whoever decides just now does not know it to be done: it is not settled before that is in the queue.
                let _alone = self.decision_lock.lock().await;
                match went {
                    Ok(Some(account)) => {
                        let note = Some(format!("{system} had it in a queue of its own for {seconds} s"));
                        self.settle(&share, &row, account, note, &principal).await?;
                    }
                    Ok(None) if took > OPERATION_TIMEOUT => {
                        let said = format!("{system} took it into a queue of its own and has not done it within a day");
                        self.store.record_failed(row.id, &said, "ask the service's keeper", false, self.now()).await?;
                    }
                    Err(error) if error.class == FailureClass::Permanent => {
                        let said = format!("{system} took it into a queue of its own and did not do it: {}", error.message);
                        self.store.record_failed(row.id, &said, &error.remedy, false, self.now()).await?;
                    }
                    other => {
                        if let Err(error) = other {
                            tracing::info!(system, change = row.id, %error, "the system could not be asked after its queue");
                        }
                        newest = Some(newest.map_or(took, |other| other.min(took)));
                        continue;
                    }
                }
                self.tell(Event::ChangeSet { id: row.change_set, state: ChangeSetState::Done });
                // Whatever waited for it goes on.
                let accounts = row.change.account.into_iter();
                self.mark_sent(accounts, std::iter::once(row.change.identity.clone()).filter(|id| !id.is_empty())).await;
                self.wake.notify_one();
            }
        }
        Ok(newest.map(pause))
    }

    /// Looks for accounts that were perhaps made by runs that have ended: one that is found is joined to whoever it was made for.
    pub(crate) async fn resolve_unknown_creates(self: &Arc<Self>) -> Result<(), EngineError> {
        for (row, sent, principal) in self.store.lost().await? {
            let share = match self.share(&row.change.system).await {
                Ok(share) => share,
                Err(error) => {
                    tracing::warn!(system = row.change.system, %error, "an account that was perhaps made cannot be looked for");
                    continue;
                }
            };
            let change = &row.change;
            let write = Write::new(change.object, change.kind, None, change.values.clone());
            match self.look_for(&share, &write).await {
                Ok(Some(account)) => {
                    let note = Some("the answer was lost; the account was found by its values later".to_owned());
                    self.settle(&share, &row, account, note, &principal).await?;
                }
                // It may take a while until what was made is shown.
                Ok(None) if self.now().duration_since(sent) > visible_after(&*share.connector) => {
                    let said = "the answer was lost, and no such account is there";
                    self.store.record_failed(row.id, said, "it is tried again by itself", true, self.now()).await?;
                }
                Ok(None) => {}
                Err(error) => tracing::info!(system = change.system, %error, "an account that was perhaps made cannot be looked for"),
            }
        }
        Ok(())
    }

    /// When it is looked again for accounts that were perhaps made.
    pub(crate) async fn next_unknown_create(&self) -> Result<Option<Timestamp>, EngineError> {
        let after = |at: Timestamp, pause: SignedDuration| at.saturating_add(pause).unwrap_or(Timestamp::MAX);
        Ok((!self.store.lost().await?.is_empty()).then(|| after(self.now(), LOOKED_AGAIN)))
    }

    /// Holds what concerns accounts of which a system has an earlier change in its queue, or of which it is not known whether
    /// they were made.
    pub(crate) async fn hold_accepted(&self, outcome: &mut Outcome) -> Result<(), EngineError> {
        let systems: HashSet<String> = outcome.changes.iter().filter(|c| c.hold.is_none()).map(|c| c.system.clone()).collect();
        for system in systems {
            let there = self.store.in_doubt(&system).await?;
            if there.is_empty() {
                continue;
            }
            for change in outcome.changes.iter_mut().filter(|change| change.system == system && change.hold.is_none()) {
                let same = |(account, identity, _): &&(Option<i64>, String, ChangeState)| match account {
                    Some(account) => Some(*account) == change.account,
                    None => *identity == change.identity && (change.kind == ChangeKind::Create || change.account.is_none()),
                };
                if let Some((.., state)) = there.iter().find(same) {
                    change.hold = Some(
                        Reason::new(match state {
                            ChangeState::Unknown => {
                                format!("its account was perhaps made in {system}: the answer was lost, and it is looked for")
                            }
                            _ => format!("{system} has a change of this account in a queue of its own, and is asked after it"),
                        })
                        .on_hold(HoldCause::UnknownOutcome),
                    );
                }
            }
        }
        Ok(())
    }
}
