//! When the records cannot be written (the disk is full, the file is locked or read-only) nothing more is sent: what is not
//! stored is not done. The queue stays as it is, and it goes on by itself when they can be written again. And after a backup
//! was restored, nothing is sent before everything was read again.

use crate::executor::PendingChanges;
use crate::supervise::caught;
use crate::{Engine, EngineError, Event, lock};
use std::sync::Arc;
use std::time::Duration;
use tide_core::{HoldCause, Outcome, Reason};
use tide_store::StoreError;
use tokio_util::sync::CancellationToken;

/// How long it waits before it looks whether the records can be written again.
const AGAIN: Duration = Duration::from_secs(2);

impl Engine {
    /// Why the records cannot be written just now, if they cannot.
    pub fn stalled(&self) -> Option<String> {
        lock(&self.storage_error).clone()
    }

    /// Waits for the records to be writable; false when the service stops.
    pub(crate) async fn waits_for_disk(&self, said: &str) -> bool {
        let text = format!(
            "the records cannot be written ({said}): nothing is sent; make room on the disk, or give the file its rights back, and it goes on by itself"
        );
        let news = lock(&self.storage_error).replace(text.clone()).is_none();
        if news {
            tracing::error!("{text}");
            self.tell(Event::Noticed);
        }
        tokio::select! {
            () = self.stopping.cancelled() => false,
            () = self.clock.sleep(AGAIN) => true,
        }
    }

    /// The records can be written.
    pub(crate) fn goes_on(&self) {
        if lock(&self.storage_error).take().is_some() {
            tracing::info!("the records can be written again: it goes on");
            self.tell(Event::Noticed);
        }
    }

    /// Carries a run out to its end, however often the records cannot be written on the way. What it has to send is read where
    /// it is not known.
    pub(crate) async fn carry_out_whole(
        self: &Arc<Self>,
        id: i64,
        mut queue: Option<PendingChanges>,
        note: Option<String>,
        principal: &str,
        cancel: &CancellationToken,
    ) -> Result<(), EngineError> {
        loop {
            match caught(self.carry_out(id, queue.take(), note.clone(), principal, cancel)).await {
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

    /// Holds everything until what was read before a backup was restored is read again.
    pub(crate) async fn hold_restored(&self, outcome: &mut Outcome) -> Result<(), EngineError> {
        let outdated = self.store.outdated().await?;
        if outdated.is_empty() {
            return Ok(());
        }
        let read = self.to_read().await?;
        let waits = |(row, types): &(tide_store::SystemRow, Vec<tide_core::ObjectType>)| {
            types.iter().any(|kind| outdated.iter().any(|(system, object)| *system == row.name && object == kind))
        };
        let names: Vec<String> = read.iter().filter(|one| waits(one)).map(|(row, _)| row.name.clone()).collect();
        if names.is_empty() {
            return Ok(());
        }
        for change in outcome.changes.iter_mut().filter(|change| change.hold.is_none()) {
            change.hold =
                Some(Reason::new(format!("a backup was restored, and not read since: {}", names.join(", "))).on_hold(HoldCause::NotRead));
        }
        Ok(())
    }
}
