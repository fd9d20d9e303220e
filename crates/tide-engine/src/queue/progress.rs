//! The progress of a run.

use crate::queue::target::SystemContexts;
use std::collections::{HashMap, HashSet};
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use tide_store::ChangeRow;

/// The changes of a run, with the data that need not be read back.
#[derive(Default)]
pub(crate) struct PendingChanges {
    pub(crate) changes: Vec<ChangeRow>,
    /// Changes that are claimed already.
    pub(crate) claimed: HashSet<i64>,
    /// Keys and names of the accounts at the time of the decision.
    pub(crate) account_names: HashMap<i64, (String, String)>,
    pub(crate) reaches: Arc<SystemContexts>,
}

/// The progress of a run, shared by its workers, with the data of its queue.
pub(crate) struct RunProgress {
    pub(crate) id: i64,
    pub(crate) claimed: HashSet<i64>,
    pub(crate) account_names: HashMap<i64, (String, String)>,
    pub(crate) reaches: Arc<SystemContexts>,
    pub(crate) total: AtomicUsize,
    pub(crate) done: AtomicUsize,
    pub(crate) failed: AtomicUsize,
    /// Number of changes that were not sent because writes were stopped.
    pub(crate) taken_back: AtomicUsize,
    pub(crate) begun: tide_clock::Instant,
}

impl RunProgress {
    /// Counts a part of a change that failed separately.
    pub(crate) fn add_failed(&self) {
        self.total.fetch_add(1, Ordering::Relaxed);
        self.failed.fetch_add(1, Ordering::Relaxed);
    }
}
