//! Stops work while the records cannot be written (the disk is full, the file is locked or read-only),
//! and resumes it afterwards.

use crate::context::Context;
use crate::events::Event;
use crate::lock;
use std::time::Duration;

/// Interval of tests whether the records can be written again.
const AGAIN: Duration = Duration::from_secs(2);

impl Context {
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
}
