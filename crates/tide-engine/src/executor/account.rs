//! Sends the changes of one account in their order.

use crate::error::EngineError;
use crate::events::Event;
use crate::executor::Executor;
use crate::queue::{AccountBatch, RunProgress, SystemDispatcher};
use std::collections::VecDeque;
use std::sync::atomic::Ordering;
use tide_core::states::{ChangeKind, ChangeState};
use tide_store::{ChangeRow, DECIDED_AGAIN};
use tokio_util::sync::CancellationToken;

/// The position of a change among those of its account.
#[derive(Debug, Clone, Copy)]
pub(crate) struct QueuePosition {
    /// The change is claimed already.
    pub(crate) is_claimed: bool,
    /// No other change of its account follows.
    pub(crate) is_last: bool,
    /// The account was renamed just before.
    pub(crate) is_renamed: bool,
}

/// The outcome of sending a change.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum SendOutcome {
    Done,
    /// It could not be sent, or its outcome is unknown.
    Failed,
    /// The system refused it, or a part of it.
    Refused,
    /// The system accepted it and carries it out later.
    Accepted,
    /// It was not sent because writes to the system are stopped.
    Stopped,
}

impl Executor {
    pub(crate) async fn park_all(
        &self,
        changes: &[ChangeRow],
        why: &str,
        tally: &RunProgress,
    ) -> Result<(), EngineError> {
        for change in changes {
            self.context
                .store
                .record_failed(
                    change.id,
                    &format!("not sent: {why}"),
                    "repair this, and run again",
                    true,
                    self.context.now(),
                )
                .await?;
            tally.failed.fetch_add(1, Ordering::Relaxed);
        }
        self.report_change(tally);
        Ok(())
    }

    pub(crate) async fn run_worker(
        &self,
        place: usize,
        share: &SystemDispatcher,
        tally: &RunProgress,
        cancel: &CancellationToken,
        principal: &str,
    ) -> Result<(), EngineError> {
        while let Some(AccountBatch {
            changes,
            is_claimed: marked,
        }) = share.ready.next(place).await
        {
            if cancel.is_cancelled()
                || !self
                    .execute_account(share, changes, marked, tally, cancel, principal)
                    .await?
            {
                return Ok(());
            }
        }
        Ok(())
    }

    /// Sends the changes of one account in order. Returns `false` if the run was canceled.
    async fn execute_account(
        &self,
        share: &SystemDispatcher,
        changes: Vec<ChangeRow>,
        mut first_is_marked: bool,
        tally: &RunProgress,
        cancel: &CancellationToken,
        principal: &str,
    ) -> Result<bool, EngineError> {
        let mut changes = VecDeque::from(changes);
        let mut renamed = false;
        while let Some(change) = changes.pop_front() {
            let down = share.down.lock().await.clone();
            if let Some(error) = down {
                changes.push_front(change);
                self.park_all(
                    changes.make_contiguous(),
                    &format!(
                        "{} was skipped for the rest of this run: {error}",
                        share.row.name
                    ),
                    tally,
                )
                .await?;
                break;
            }
            if cancel.is_cancelled() {
                return Ok(false);
            }
            // Changes with an unknown outcome are searched for; this writes nothing.
            if let Some(stop) = share
                .stopped(change.change.object)
                .filter(|_| change.state == ChangeState::Queued)
            {
                changes.push_front(change);
                self.cancel_rest(changes, &stop.message, tally).await?;
                break;
            }
            if let Some((why, remedy)) = self.refusal_limit_reached(share, &change.change).await? {
                self.context
                    .store
                    .record_failed(change.id, &why, &remedy, false, self.context.now())
                    .await?;
                tally.failed.fetch_add(1, Ordering::Relaxed);
                self.report_change(tally);
                changes = self
                    .continue_after_refusal(changes, change.change.kind, tally)
                    .await?;
                continue;
            }
            let marked = std::mem::take(&mut first_is_marked);
            let change = match self
                .send_membership_batch(share, change, &mut changes, tally, principal)
                .await?
            {
                Some(change) => change,
                None => continue,
            };
            let kind = change.change.kind;
            let turn = QueuePosition {
                is_claimed: marked,
                is_last: changes.is_empty(),
                is_renamed: renamed,
            };
            match self
                .execute_change(share, change, turn, tally, principal)
                .await?
            {
                SendOutcome::Done => {
                    renamed |= matches!(kind, ChangeKind::Rename | ChangeKind::Move)
                }
                SendOutcome::Refused => {
                    changes = self.continue_after_refusal(changes, kind, tally).await?;
                }
                SendOutcome::Failed => {
                    // Within an account, changes after a failed one wait.
                    self.park_all(
                        changes.make_contiguous(),
                        "an earlier change of the same account failed",
                        tally,
                    )
                    .await?;
                    break;
                }
                SendOutcome::Accepted => {
                    let why = format!(
                        "{} has queued an earlier change of the same account",
                        share.row.name
                    );
                    for change in &changes {
                        let next = "decided again when that is done";
                        self.context
                            .store
                            .record_not_done(
                                change.id,
                                ChangeState::Canceled,
                                &why,
                                next,
                                self.context.now(),
                            )
                            .await?;
                    }
                    break;
                }
                SendOutcome::Stopped => {
                    // Within an account, later changes wait too, even if writes are resumed by now.
                    self.cancel_rest(changes, "not sent: writes were stopped before an earlier change of the same account", tally).await?;
                    break;
                }
            }
        }

        Ok(true)
    }

    /// The changes of an account that are independent of a refused one; the others wait.
    async fn continue_after_refusal(
        &self,
        changes: VecDeque<ChangeRow>,
        refused: ChangeKind,
        tally: &RunProgress,
    ) -> Result<VecDeque<ChangeRow>, EngineError> {
        let (alone, waiting): (Vec<ChangeRow>, Vec<ChangeRow>) = changes
            .into_iter()
            .partition(|row| row.change.is_independent_of_refused(refused));
        self.park_all(
            &waiting,
            "an earlier change of the same account failed",
            tally,
        )
        .await?;
        Ok(alone.into())
    }

    /// Cancels a change that cannot be sent any more.
    pub(crate) async fn cancel_change(
        &self,
        id: i64,
        why: &str,
        next: &str,
        tally: &RunProgress,
    ) -> Result<SendOutcome, EngineError> {
        self.context
            .store
            .record_not_done(id, ChangeState::Canceled, why, next, self.context.now())
            .await?;
        self.report_change(tally);
        Ok(SendOutcome::Done)
    }

    pub(crate) fn report_change(&self, tally: &RunProgress) {
        let (done, failed) = (
            tally.done.load(Ordering::Relaxed),
            tally.failed.load(Ordering::Relaxed),
        );
        let total = tally.total.load(Ordering::Relaxed);
        let elapsed = tally.begun.elapsed().as_millis().max(1) as usize;
        let settled = done + failed;
        self.context.publish_event(Event::Progress {
            id: tally.id,
            done,
            failed,
            total,
            per_ten_seconds: settled * 10_000 / elapsed,
            seconds_left: (settled > 0)
                .then(|| (total.saturating_sub(settled) * elapsed / settled / 1000) as u64),
        });
    }

    /// Withdraws changes that were not sent because writes are stopped: they are decided again.
    pub(crate) async fn cancel_rest(
        &self,
        changes: VecDeque<ChangeRow>,
        why: &str,
        tally: &RunProgress,
    ) -> Result<(), EngineError> {
        for change in changes {
            self.context
                .store
                .record_not_done(
                    change.id,
                    ChangeState::Canceled,
                    why,
                    DECIDED_AGAIN,
                    self.context.now(),
                )
                .await?;
            tally.taken_back.fetch_add(1, Ordering::Relaxed);
        }
        self.report_change(tally);
        Ok(())
    }
}
