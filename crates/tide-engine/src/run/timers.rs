//! When a run is due by time alone.

use crate::connections::Schedule;
use crate::error::EngineError;
use crate::run::Runner;
use jiff::{SignedDuration, Timestamp};
use std::time::Duration;

/// Delay before scanning for the next timer. A run that is started in the meantime handles due
/// records anyway.
const TIMER_SCAN_DELAY: Duration = Duration::from_millis(50);

/// Delay before records that are overdue and could not be decided are decided again.
const OVERDUE_RETRY_DELAY: SignedDuration = SignedDuration::from_secs(30);

/// How often the wall clock is checked, so that clock changes and a suspended machine are noticed.
const CLOCK_POLL_INTERVAL: Duration = Duration::from_secs(1);

impl Runner {
    /// The next time after `now` at which a run is due: the end of a backoff, of a breaker or of a
    /// write blackout, or a due record.
    async fn next_timer(&self, now: Timestamp) -> Result<Option<Timestamp>, EngineError> {
        let mut due = self.dispatcher.retry_times();
        // Overdue records that could not be decided are retried after a delay.
        due.extend(self.decider.next_due().map(|at| {
            if at > now {
                at
            } else {
                now.saturating_add(OVERDUE_RETRY_DELAY).unwrap_or(at)
            }
        }));
        due.extend(self.context.store.next_approval().await?);
        due.extend(self.dispatcher.next_unknown_create().await?);
        for row in self.context.store.at_work().await? {
            due.extend(
                Schedule::read(&row.schedule)
                    .quiet_at(now)
                    .map(|(until, _)| until),
            );
        }
        Ok(due.into_iter().filter(|at| *at > now).min())
    }

    /// Waits until records are due.
    pub(super) async fn wait_for_timer(&self) {
        let begun = self.context.now();
        // The scan would compete with the run that was just started.
        tide_clock::sleep(TIMER_SCAN_DELAY).await;
        let next = match self.next_timer(begun).await {
            Ok(next) => next,
            Err(error) => {
                tracing::warn!(%error, "could not find the next timer");
                None
            }
        };
        // Notices clock changes, a suspended machine, and a due time that a run has
        // set.
        loop {
            let now = self.context.now();
            let due = self.decider.next_due().filter(|at| *at > begun);
            let next = next.into_iter().chain(due).min();
            if next.is_some_and(|at| at <= now) {
                break;
            }
            self.context.cycles.count_timer_scan();
            let left = next.and_then(|at| Duration::try_from(at.duration_since(now)).ok());
            tide_clock::sleep(left.unwrap_or(CLOCK_POLL_INTERVAL).min(CLOCK_POLL_INTERVAL)).await;
        }
    }
}
