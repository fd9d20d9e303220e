//! Logs the journal's head regularly: a log on another machine is out of reach of a person who can
//! write the records.

use crate::context::Context;
use std::sync::Arc;
use std::time::Duration;

/// How often the head is logged.
const EVERY: Duration = Duration::from_secs(3600);

impl Context {
    /// Logs the journal's head at once, each hour, and when the service stops.
    pub(crate) fn log_journal_head(self: &Arc<Self>) {
        self.supervise("journal head log", self, |context| async move {
            loop {
                match context.store.journal_head().await {
                    Ok(Some(head)) => tracing::info!(head, "the journal's head"),
                    Ok(None) => {}
                    Err(error) => tracing::warn!(%error, "could not read the head of the journal"),
                }
                if context.stopping.is_cancelled() {
                    return;
                }
                tokio::select! {
                    () = context.stopping.cancelled() => {}
                    () = tide_clock::sleep(EVERY) => {}
                }
            }
        });
    }
}
