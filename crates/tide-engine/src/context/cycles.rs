//! How often the background loops completed a pass.

use crate::context::Context;
use std::sync::atomic::{AtomicU64, Ordering};

/// The counters of the engine. Each only grows, from 0 at the start of the service.
#[derive(Debug, Default)]
pub(crate) struct CycleCounters {
    feed_polls: AtomicU64,
    timer_scans: AtomicU64,
    failed_runs: AtomicU64,
}

/// How often each background loop completed a pass since the service started. Something that did
/// not happen is known not to have happened once the loop that would do it completed a pass.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Cycles {
    /// Polls of the folders of feeds. A file that is present throughout two polls in a row is read
    /// by the end of the second.
    pub feed_polls: u64,
    /// Looks at the clock for records that are due. None is made while a run is in progress.
    pub timer_scans: u64,
    /// Automatic runs that failed.
    pub failed_runs: u64,
}

impl CycleCounters {
    pub(crate) fn count_feed_poll(&self) {
        self.feed_polls.fetch_add(1, Ordering::Release);
    }

    pub(crate) fn count_timer_scan(&self) {
        self.timer_scans.fetch_add(1, Ordering::Release);
    }

    pub(crate) fn count_failed_run(&self) {
        self.failed_runs.fetch_add(1, Ordering::Release);
    }
}

impl Context {
    /// How often the background loops completed a pass.
    pub fn cycles(&self) -> Cycles {
        Cycles {
            feed_polls: self.cycles.feed_polls.load(Ordering::Acquire),
            timer_scans: self.cycles.timer_scans.load(Ordering::Acquire),
            failed_runs: self.cycles.failed_runs.load(Ordering::Acquire),
        }
    }
}
