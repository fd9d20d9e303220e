//! Stops sending while the records cannot be written (the disk is full, the file is locked or
//! read-only), and resumes afterwards: a change that cannot be stored is not sent. The queue is
//! kept. After a restore, nothing is sent before every system was read again.

use crate::executor::PendingChanges;
use crate::supervise::run_caught;
use crate::{Engine, EngineError, Event, lock};
use std::sync::Arc;
use std::time::Duration;
use tide_core::{HoldCause, Outcome, Reason, ReasonKind};
use tide_store::StoreError;
use tokio_util::sync::CancellationToken;

/// Interval of tests whether the records can be written again.
const AGAIN: Duration = Duration::from_secs(2);

impl Engine {
    /// Why the records cannot be written at present; `None` if they can.
    pub fn storage_fault(&self) -> Option<String> {
        lock(&self.storage_error).clone()
    }

    /// Waits until the records can be written. Returns `false` if the service stops.
    pub(crate) async fn waits_for_disk(&self, said: &str) -> bool {
        let text = format!(
            "the records cannot be written ({said}): nothing is sent; free disk space or restore the permissions of the file, and it resumes automatically"
        );
        let news = lock(&self.storage_error).replace(text.clone()).is_none();
        if news {
            tracing::error!("{text}");
            self.publish_event(Event::AttentionChanged);
        } else {
            tracing::debug!("the records still cannot be written");
        }
        tokio::select! {
            () = self.stopping.cancelled() => false,
            () = self.clock.sleep(AGAIN) => true,
        }
    }

    /// The records can be written.
    pub(crate) fn goes_on(&self) {
        if lock(&self.storage_error).take().is_some() {
            tracing::info!("the records can be written again: resuming");
            self.publish_event(Event::AttentionChanged);
        }
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
                    if !self.waits_for_disk(&said).await {
                        return Ok(());
                    }
                }
                other => {
                    if other.is_ok() {
                        self.goes_on();
                    }
                    return other;
                }
            }
        }
    }

    /// After a restore, holds all changes until every system was read again.
    pub(crate) async fn hold_restored(&self, outcome: &mut Outcome) -> Result<(), EngineError> {
        let outdated = self.store.records_of_backup().await?;
        if outdated.is_empty() {
            return Ok(());
        }
        let read = self.to_read().await?;
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
}
