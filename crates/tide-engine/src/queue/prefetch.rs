//! The prefetch queue of claimed changes.

use crate::queue::target::SystemDispatcher;
use std::collections::VecDeque;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use tide_store::ChangeRow;
use tokio::sync::Notify;

/// The changes of one account that can be sent now, in order, and whether the first one is claimed.
pub(crate) struct AccountBatch {
    pub(crate) changes: Vec<ChangeRow>,
    pub(crate) is_claimed: bool,
}

/// Changes that are claimed ahead, so that workers need not wait for a commit. It is as short as
/// the system's rate allows, because claimed changes cannot be preempted.
#[derive(Default)]
pub(crate) struct PrefetchQueue {
    pub(crate) ready: std::sync::Mutex<VecDeque<AccountBatch>>,
    pub(crate) come: Notify,
    pub(crate) taken: Notify,
    /// A worker had to wait since the last commit.
    pub(crate) starved: AtomicBool,
    pub(crate) ended: AtomicBool,
    /// Number of workers.
    pub(crate) senders: AtomicUsize,
    /// Number of confirmed changes.
    pub(crate) succeeded: AtomicUsize,
    /// A worker has left: the queue is empty, the run was canceled, or storing failed.
    pub(crate) has_left: AtomicBool,
}

/// Counts a worker until it is dropped.
pub(crate) struct WorkerGuard(Arc<SystemDispatcher>);

impl WorkerGuard {
    pub(crate) fn of(share: &Arc<SystemDispatcher>) -> Self {
        share.ready.senders.fetch_add(1, Ordering::AcqRel);
        WorkerGuard(share.clone())
    }

    pub(crate) fn share(&self) -> &SystemDispatcher {
        &self.0
    }
}

impl Drop for WorkerGuard {
    fn drop(&mut self) {
        self.0.ready.senders.fetch_sub(1, Ordering::AcqRel);
        self.0.ready.taken.notify_one();
        self.0.ready.worker_left();
    }
}

impl PrefetchQueue {
    /// The next account, as soon as there is one; `None` when there will be no more. A further
    /// worker gets one once so many changes have succeeded as there are usual workers: a system that
    /// refuses everything gets few requests.
    pub(crate) async fn next(&self, place: usize) -> Option<AccountBatch> {
        loop {
            let come = self.come.notified();
            let ended = self.ended.load(Ordering::Acquire);
            // When a usual worker has left, no other may be there to end the wait of a further one.
            let is_usual = place < AT_A_TIME
                || self.has_left.load(Ordering::Acquire)
                || self.succeeded.load(Ordering::Acquire) >= AT_A_TIME;
            {
                let mut ready = crate::lock(&self.ready);
                if is_usual && let Some(next) = ready.pop_front() {
                    if ready.is_empty() {
                        // Who waits for its turn need not wait any longer.
                        self.come.notify_waiters();
                    }
                    self.taken.notify_one();
                    return Some(next);
                }
                if ended && ready.is_empty() {
                    return None;
                }
            }
            if is_usual {
                self.starved.store(true, Ordering::Relaxed);
            }
            come.await;
        }
    }

    fn worker_left(&self) {
        self.has_left.store(true, Ordering::Release);
        self.come.notify_waiters();
    }

    /// A change was confirmed.
    pub(crate) fn succeeded(&self) {
        if self.succeeded.fetch_add(1, Ordering::AcqRel) + 1 == AT_A_TIME {
            self.come.notify_waiters();
        }
    }

    /// Adds the last accounts, and ends the queue.
    pub(crate) fn all(&self, some: Vec<AccountBatch>) {
        let _ends = EndMarker(self);
        self.add(some);
    }

    pub(crate) fn add(&self, some: Vec<AccountBatch>) {
        crate::lock(&self.ready).extend(some);
        self.come.notify_waiters();
    }

    pub(crate) fn len(&self) -> usize {
        crate::lock(&self.ready).len()
    }
}

/// Ends the queue when it is dropped, also if claiming failed.
pub(crate) struct EndMarker<'a>(pub(crate) &'a PrefetchQueue);

impl Drop for EndMarker<'_> {
    fn drop(&mut self) {
        self.0.ended.store(true, Ordering::Release);
        self.0.come.notify_waiters();
    }
}

/// How many accounts of one system are written concurrently, unless its connector knows better.
pub(crate) const AT_A_TIME: usize = 16;

#[cfg(test)]
mod tests {
    use super::*;
    use futures::FutureExt as _;

    fn queue_of_two() -> PrefetchQueue {
        let queue = PrefetchQueue::default();
        let batch = || AccountBatch {
            changes: Vec::new(),
            is_claimed: false,
        };
        queue.all(vec![batch(), batch()]);
        queue
    }

    #[test]
    fn further_workers_wait_until_the_system_accepts_changes() {
        let queue = queue_of_two();
        assert!(queue.next(AT_A_TIME).now_or_never().is_none());
        (0..AT_A_TIME).for_each(|_| queue.succeeded());
        assert!(
            queue
                .next(AT_A_TIME)
                .now_or_never()
                .is_some_and(|one| one.is_some())
        );
    }

    #[test]
    fn a_further_worker_does_not_outlast_a_canceled_run() {
        let queue = queue_of_two();
        let mut waiting = Box::pin(queue.next(AT_A_TIME));
        assert!(waiting.as_mut().now_or_never().is_none());
        // The usual workers leave with changes in the queue.
        queue.worker_left();
        assert!(waiting.now_or_never().is_some_and(|one| one.is_some()));
        // And with an empty one.
        let queue = queue_of_two();
        let mut waiting = Box::pin(queue.next(AT_A_TIME));
        assert!(waiting.as_mut().now_or_never().is_none());
        while queue.next(0).now_or_never().flatten().is_some() {}
        assert!(waiting.now_or_never().is_some_and(|one| one.is_none()));
    }
}
