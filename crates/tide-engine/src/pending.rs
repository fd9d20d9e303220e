//! What waits to be decided, and whose turn it is. Components that store something report it here,
//! and know nothing of runs; runs take it from here.

use crate::lock;
use std::collections::{BTreeSet, HashSet};
use std::sync::{Arc, Mutex};
use tide_core::incremental::Records;
use tide_core::model::AccountId;
use tokio::sync::Notify;

/// The work that waits for an automatic run.
///
/// # Protocol
/// 1. A component that stores something on which decisions depend queues the write, and reports it
///    afterwards: [`PendingWork::note_changes`], or [`PendingWork::wake`] if no account changed.
/// 2. A run calls [`PendingWork::begin_run`] and loads its records after that. The store executes
///    reads and writes in the order in which they were queued, so it sees all that was queued before.
/// 3. A report that comes after `begin_run` wakes another run: a wake-up is kept until someone waits
///    for it, so none is lost, and several become one.
/// 4. A source of changes may ask for a run before its write is done, with
///    [`PendingWork::request_early_run`], so that both overlap. It gets the number of runs that had
///    begun; if another one has begun when the write is done, that run has loaded the change, and the
///    report wakes none.
/// 5. A run that sent something is followed by one more about its results, the follow-up
///    ([`PendingWork::request_follow_up`]). A run that new changes caused is no follow-up.
///
/// # Locks
/// `run_lock` before `decision_lock`; both before all locks of other components. The state is locked
/// for a few instructions only.
#[derive(Default)]
pub struct PendingWork {
    state: Mutex<PendingState>,
    wake: Notify,
    /// Held while a preview or a run is in progress: runs never overlap.
    pub(crate) run_lock: Arc<tokio::sync::Mutex<()>>,
    /// Held from loading the records until the decided changes are queued, and during a preemption:
    /// no decision is based on records that another one is about to change.
    pub(crate) decision_lock: tokio::sync::Mutex<()>,
}

/// The state that the protocol is about.
#[derive(Debug, Default)]
struct PendingState {
    /// Changes were stored since a run last loaded its records.
    is_dirty: bool,
    /// The next run is a follow-up, unless changes come before it.
    needs_follow_up: bool,
    /// The number of runs that have begun.
    begun: u64,
    /// Accounts that changed since a run began; leavers among them preempt a run.
    changed_accounts: BTreeSet<AccountId>,
    /// Records to which changes were sent: they are decided again even if they do not seem to have
    /// changed.
    sent_to: Records,
    /// Systems that need a full read before watching continues.
    full_reads: HashSet<String>,
}

impl PendingState {
    /// Returns whether the run is a follow-up.
    fn begin_run(&mut self) -> bool {
        self.changed_accounts.clear();
        let has_changes = std::mem::take(&mut self.is_dirty);
        self.begun += 1;
        std::mem::take(&mut self.needs_follow_up) && !has_changes
    }

    /// Returns the number of runs that had begun.
    fn request_early_run(&mut self) -> u64 {
        self.is_dirty = true;
        self.begun
    }

    /// Returns whether a run must be woken.
    fn note_changes(&mut self, accounts: BTreeSet<AccountId>, early: Option<u64>) -> bool {
        if accounts.is_empty() {
            return false;
        }
        self.changed_accounts.extend(accounts);
        let is_loaded = early.is_some_and(|begun| begun != self.begun);
        self.is_dirty |= !is_loaded;
        !is_loaded
    }
}

impl PendingWork {
    /// Wakes the automatic run: something other than accounts may have changed.
    pub(crate) fn wake(&self) {
        self.wake.notify_one();
    }

    /// Waits for a wake-up since the last one.
    pub(crate) async fn woken(&self) {
        self.wake.notified().await;
    }

    /// Wakes the automatic run for records that were stored.
    pub(crate) fn records_changed(&self) {
        lock(&self.state).is_dirty = true;
        self.wake();
    }

    /// Asks for a run that overlaps with a write that is queued. `None` if a run is in progress: it
    /// may have loaded its records before.
    pub(crate) fn request_early_run(&self) -> Option<u64> {
        // Advisory: a run that begins right after this is noticed by its number.
        drop(self.run_lock.try_lock().ok()?);
        let begun = lock(&self.state).request_early_run();
        self.wake();
        Some(begun)
    }

    /// Reports accounts whose change is stored. `early` comes from [`PendingWork::request_early_run`].
    pub(crate) fn note_changes(&self, accounts: BTreeSet<AccountId>, early: Option<u64>) {
        if lock(&self.state).note_changes(accounts, early) {
            self.wake();
        }
    }

    /// Reports accounts whose people may lose their access: they preempt a run in progress.
    pub(crate) fn note_leavers(&self, accounts: impl IntoIterator<Item = AccountId>) {
        lock(&self.state).changed_accounts.extend(accounts);
        self.wake();
    }

    /// A run begins, and loads its records after this. Returns whether it is a follow-up.
    pub(crate) fn begin_run(&self) -> bool {
        lock(&self.state).begin_run()
    }

    /// The accounts that changed since the last run began. They are returned once.
    pub(crate) fn take_changed_accounts(&self) -> BTreeSet<AccountId> {
        std::mem::take(&mut lock(&self.state).changed_accounts)
    }

    /// The next run decides about the results of this one.
    pub(crate) fn request_follow_up(&self) {
        lock(&self.state).needs_follow_up = true;
        self.wake();
    }

    /// Adds records to which changes are sent; the next decision includes them.
    pub(crate) fn mark_sent(
        &self,
        accounts: impl IntoIterator<Item = AccountId>,
        identities: impl IntoIterator<Item = String>,
    ) {
        let mut state = lock(&self.state);
        state.sent_to.accounts.extend(accounts);
        state.sent_to.identities.extend(identities);
    }

    /// Takes the records to which changes were sent since the last decision.
    pub(crate) fn take_sent(&self) -> TakenRecords<'_> {
        TakenRecords {
            pending: self,
            records: std::mem::take(&mut lock(&self.state).sent_to),
        }
    }

    /// Asks for a full read of a system before its changes are followed again.
    pub(crate) fn request_full_read(&self, system: &str) {
        lock(&self.state).full_reads.insert(system.to_owned());
    }

    /// The systems that need a full read. They are returned once.
    pub(crate) fn take_full_reads(&self) -> HashSet<String> {
        std::mem::take(&mut lock(&self.state).full_reads)
    }
}

/// Records that a decision takes over. Unless they are decided, they are for the next one: a decision
/// can fail, and can be canceled anywhere.
pub(crate) struct TakenRecords<'a> {
    pending: &'a PendingWork,
    records: Records,
}

impl TakenRecords<'_> {
    pub(crate) fn records(&self) -> &Records {
        &self.records
    }

    pub(crate) fn were_decided(mut self) {
        self.records = Records::default();
    }
}

impl Drop for TakenRecords<'_> {
    fn drop(&mut self) {
        let records = std::mem::take(&mut self.records);
        if !records.is_empty() {
            self.pending.mark_sent(records.accounts, records.identities);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use loom::sync::atomic::{AtomicBool, Ordering};
    use loom::sync::{Arc, Condvar, Mutex};

    /// The protocol on the real state, with a wake-up and a store as they behave.
    #[derive(Default)]
    struct Model {
        state: Mutex<PendingState>,
        /// A wake-up that was not received yet; and whether no more come.
        wake: Mutex<(bool, bool)>,
        woken: Condvar,
        /// The run lock is held.
        is_running: AtomicBool,
        /// The number of changes that were queued at the store, and how many of them a run has loaded.
        queued: Mutex<usize>,
        loaded: Mutex<usize>,
    }

    impl Model {
        fn wake(&self) {
            self.wake.lock().expect("free").0 = true;
            self.woken.notify_one();
        }

        fn end(&self) {
            self.wake.lock().expect("free").1 = true;
            self.woken.notify_one();
        }

        /// A change comes: its write is queued, an early run is requested, the write is done, and
        /// reported.
        fn receive(&self, account: AccountId) {
            *self.queued.lock().expect("free") += 1;
            let is_idle = !self.is_running.load(Ordering::Acquire);
            let early = is_idle.then(|| {
                let begun = self.state.lock().expect("free").request_early_run();
                self.wake();
                begun
            });
            let must_wake = {
                let mut state = self.state.lock().expect("free");
                state.note_changes(BTreeSet::from([account]), early)
            };
            if must_wake {
                self.wake();
            }
        }

        fn run(&self) {
            self.is_running.store(true, Ordering::Release);
            self.state.lock().expect("free").begin_run();
            *self.loaded.lock().expect("free") = *self.queued.lock().expect("free");
            self.is_running.store(false, Ordering::Release);
        }

        /// Runs on each wake-up, until no more come.
        fn run_on_wake_ups(&self) {
            loop {
                let mut wake = self.wake.lock().expect("free");
                while *wake == (false, false) {
                    wake = self.woken.wait(wake).expect("free");
                }
                if !std::mem::take(&mut wake.0) {
                    return;
                }
                drop(wake);
                self.run();
            }
        }
    }

    #[test]
    fn every_change_is_loaded_by_a_run_however_threads_interleave() {
        let mut interleavings = loom::model::Builder::new();
        // Those with up to three preemptions: more of them take hours, and find what these find.
        interleavings.preemption_bound = Some(3);
        interleavings.check(|| {
            let model = Arc::new(Model::default());
            let other = model.clone();
            let runs = loom::thread::spawn(move || other.run_on_wake_ups());
            model.receive(1);
            model.receive(2);
            model.end();
            runs.join().expect("ended");
            assert_eq!(*model.loaded.lock().expect("free"), 2);
        });
    }

    #[test]
    fn a_run_on_new_changes_is_no_follow_up() {
        let mut state = PendingState {
            needs_follow_up: true,
            ..PendingState::default()
        };
        assert!(state.begin_run());
        state.needs_follow_up = true;
        assert!(state.note_changes(BTreeSet::from([1]), None));
        assert!(!state.begin_run());
        assert!(state.changed_accounts.is_empty() && !state.needs_follow_up);
    }

    #[test]
    fn records_of_a_decision_that_does_not_end_are_for_the_next_one() {
        let pending = PendingWork::default();
        pending.mark_sent([1], ["ada".to_owned()]);
        drop(pending.take_sent());
        pending.mark_sent([2], []);
        let taken = pending.take_sent();
        assert_eq!(taken.records().accounts, BTreeSet::from([1, 2]));
        assert_eq!(taken.records().identities.len(), 1);
        pending.mark_sent([3], []);
        taken.were_decided();
        assert_eq!(pending.take_sent().records().accounts, BTreeSet::from([3]));
    }
}
