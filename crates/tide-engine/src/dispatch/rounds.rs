//! Carries a run out: every change is stored before it is sent, and its result afterwards; leavers
//! first, in order within one account, several accounts concurrently.

use crate::context::run_caught;
use crate::dispatch::Dispatcher;
use crate::error::EngineError;
use crate::events::Event;
use crate::executor::SETTLED;
use crate::queue::{AccountBatch, PendingChanges, RunProgress, WorkerGuard, by_account, in_order};
use std::collections::BTreeMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use tide_core::states::{ChangeSetState, ChangeState};
use tide_store::{ChangeRow, StoreError};
use tokio::sync::mpsc;
use tokio_util::sync::CancellationToken;

/// Waits until all workers have ended. Sets `fault` to the error of a worker, if there is one.
async fn join_workers(
    workers: &mut tokio::task::JoinSet<Result<(), EngineError>>,
    fault: &mut Option<EngineError>,
) {
    while let Some(ended) = workers.join_next().await {
        match ended {
            Ok(Ok(())) => {}
            // Unwritable records are the cause of the other errors.
            Ok(Err(error))
                if !matches!(
                    fault,
                    Some(EngineError::Store(StoreError::Unwritable { .. }))
                ) =>
            {
                *fault = Some(error)
            }
            Ok(Err(_)) => {}
            Err(error) => *fault = Some(EngineError::Internal(format!("a worker ended: {error}"))),
        }
    }
}

impl Dispatcher {
    /// Sends the remaining changes of a run, and ends it.
    pub(crate) async fn carry_out(
        self: &Arc<Self>,
        id: i64,
        queue: Option<PendingChanges>,
        note: Option<String>,
        principal: &str,
        cancel: &CancellationToken,
    ) -> Result<(), EngineError> {
        let PendingChanges {
            changes,
            claimed: marked,
            account_names: called,
            reaches,
        } = match queue {
            Some(queue) => queue,
            None => PendingChanges {
                changes: self.context.store.unfinished_changes(id).await?,
                ..PendingChanges::default()
            },
        };
        let tally = Arc::new(RunProgress {
            id,
            claimed: marked,
            account_names: called,
            reaches,
            total: AtomicUsize::new(changes.len()),
            done: AtomicUsize::new(0),
            failed: AtomicUsize::new(0),
            taken_back: AtomicUsize::new(0),
            begun: tide_clock::instant(),
        });
        let fault = self.send(changes, &tally, cancel, principal).await;
        if let Some(fault) = fault {
            return Err(fault);
        }
        if self.context.stopping.is_cancelled() {
            // The queue stays: the next start resumes it.
            return Ok(());
        }
        if cancel.is_cancelled() {
            for left in self.context.store.unfinished_changes(id).await? {
                self.context
                    .store
                    .record_not_done(
                        left.id,
                        ChangeState::Canceled,
                        "the run was canceled before this was sent",
                        "run again",
                        self.context.now(),
                    )
                    .await?;
            }
            self.finish_change_set(id, ChangeSetState::Canceled, note.as_deref(), principal)
                .await;
            return Ok(());
        }
        let note = match tally.taken_back.load(Ordering::Relaxed) {
            0 => note,
            count => {
                let plural = if count == 1 {
                    "change was"
                } else {
                    "changes were"
                };
                let said = format!(
                    "{count} {plural} not sent because writes were stopped: they are decided again when writes are possible."
                );
                Some(note.map_or(said.clone(), |note| format!("{note} {said}")))
            }
        };
        self.finish_change_set(id, ChangeSetState::Done, note.as_deref(), principal)
            .await;
        Ok(())
    }

    /// Sends changes, each system independently. Returns the error of a worker, if there is one.
    pub(crate) async fn send(
        self: &Arc<Self>,
        changes: Vec<ChangeRow>,
        tally: &Arc<RunProgress>,
        cancel: &CancellationToken,
        principal: &str,
    ) -> Option<EngineError> {
        let mut by_system: BTreeMap<String, Vec<ChangeRow>> = BTreeMap::new();
        for change in changes {
            by_system
                .entry(change.change.system.clone())
                .or_default()
                .push(change);
        }
        let mut systems = tokio::task::JoinSet::new();
        let mut fault = None;
        for (system, changes) in by_system {
            let (dispatcher, tally, cancel, principal) = (
                self.clone(),
                tally.clone(),
                cancel.clone(),
                principal.to_owned(),
            );
            systems.spawn(async move {
                for round in in_order(changes) {
                    dispatcher
                        .send_round(&system, round, &tally, &cancel, &principal)
                        .await?;
                }
                Ok(())
            });
            if self.executor.accounts_at_a_time == 1 {
                // Sequential mode, also across systems: the order is deterministic.
                join_workers(&mut systems, &mut fault).await;
            }
        }
        join_workers(&mut systems, &mut fault).await;
        fault
    }

    /// Sends the changes of one system, several accounts concurrently. Their dependencies must have
    /// been sent before.
    async fn send_round(
        self: &Arc<Self>,
        system: &str,
        changes: Vec<ChangeRow>,
        tally: &Arc<RunProgress>,
        cancel: &CancellationToken,
        principal: &str,
    ) -> Result<(), EngineError> {
        let mut share = match self.share_of(system, &tally.reaches).await {
            Ok(share) => share,
            Err(error) => {
                return self
                    .executor
                    .park_all(&changes, &error.to_string(), tally)
                    .await;
            }
        };
        let (confirmed, incoming) = mpsc::channel(SETTLED * 2);
        share.confirmed = Some(confirmed);
        let share = Arc::new(share);
        let mut workers = tokio::task::JoinSet::new();
        let (dispatcher, settling) = (self.clone(), tally.clone());
        workers.spawn(async move {
            dispatcher
                .executor
                .settle_confirmed(incoming, &settling)
                .await
        });
        let queue = by_account(changes);
        let is_marked = |changes: &Vec<ChangeRow>| {
            changes
                .first()
                .is_some_and(|change| tally.claimed.contains(&change.id))
        };
        for place in 0..self.at_a_time(&share).min(queue.len()) {
            let (dispatcher, sender, tally, cancel, principal) = (
                self.clone(),
                WorkerGuard::of(&share),
                tally.clone(),
                cancel.clone(),
                principal.to_owned(),
            );
            workers.spawn(async move {
                dispatcher
                    .executor
                    .run_worker(place, sender.share(), &tally, &cancel, &principal)
                    .await
            });
        }
        if queue.iter().all(is_marked) {
            share.ready.all(
                queue
                    .into_iter()
                    .map(|changes| AccountBatch {
                        changes,
                        is_claimed: true,
                    })
                    .collect(),
            );
            // The task that stores results ends once no worker can confirm any more.
            drop(share);
        } else {
            let (dispatcher, tally) = (self.clone(), tally.clone());
            workers
                .spawn(async move { dispatcher.mark_ahead(&share, queue, &tally.claimed).await });
        }
        let mut fault = None;
        join_workers(&mut workers, &mut fault).await;
        fault.map_or(Ok(()), Err)
    }

    /// Executes a run to its end, and resumes it whenever the records can be written again. Reads
    /// the queue if `queue` is `None`.
    pub(crate) async fn carry_out_whole(
        self: &Arc<Self>,
        id: i64,
        mut queue: Option<PendingChanges>,
        note: Option<String>,
        principal: &str,
        cancel: &CancellationToken,
    ) -> Result<(), EngineError> {
        loop {
            match run_caught(self.carry_out(id, queue.take(), note.clone(), principal, cancel))
                .await
            {
                Err(EngineError::Store(StoreError::Unwritable { said })) => {
                    if !self.context.waits_for_disk(&said).await {
                        return Ok(());
                    }
                }
                other => {
                    if other.is_ok() {
                        self.context.goes_on();
                    }
                    return other;
                }
            }
        }
    }

    pub(crate) async fn finish_change_set(
        &self,
        id: i64,
        state: ChangeSetState,
        note: Option<&str>,
        principal: &str,
    ) {
        loop {
            match self
                .context
                .store
                .set_change_set_state(id, state, note, principal, self.context.now())
                .await
            {
                Ok(()) => self.context.goes_on(),
                Err(StoreError::Unwritable { said })
                    if self.context.waits_for_disk(&said).await =>
                {
                    continue;
                }
                Err(error) => {
                    tracing::error!(change_set = id, %error, "could not record the end of a change set")
                }
            }
            break;
        }
        self.context.publish_event(Event::ChangeSet { id, state });
    }
}
