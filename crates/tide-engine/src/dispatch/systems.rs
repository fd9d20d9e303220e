//! The dispatcher of one system in a run, and the claims ahead of it.

use crate::dispatch::Dispatcher;
use crate::error::EngineError;
use crate::queue::{
    AccountBatch, CONNECTION_CACHE_TTL, EndMarker, PrefetchQueue, SystemContext, SystemContexts,
    SystemDispatcher, has_pending_references,
};
use std::collections::{HashSet, VecDeque};
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use tide_store::ChangeRow;
use tokio::sync::Mutex;

/// Maximum number of accounts whose changes are claimed in one commit.
const CLAIM_BATCH_SIZE: usize = 256;

impl Dispatcher {
    /// Creates the dispatcher of a system.
    pub(crate) async fn open_dispatcher(
        &self,
        system: &str,
    ) -> Result<SystemDispatcher, EngineError> {
        self.share_of(system, &SystemContexts::default()).await
    }

    /// How many accounts of a system are written at a time.
    pub(crate) fn at_a_time(&self, share: &SystemDispatcher) -> usize {
        match self.executor.accounts_at_a_time {
            1 => 1,
            usual => share.connector.accounts_at_a_time().unwrap_or(usual),
        }
    }

    /// Creates the dispatcher from a context.
    pub(crate) async fn share_of(
        &self,
        system: &str,
        reaches: &SystemContexts,
    ) -> Result<SystemDispatcher, EngineError> {
        let access = self.connections.known_access(system);
        let holds = |reach: &&SystemContext| {
            reach.made.elapsed() < CONNECTION_CACHE_TTL
                && access
                    .as_ref()
                    .is_some_and(|own| Arc::ptr_eq(own, &reach.access))
        };
        let known = crate::lock(reaches).get(system).filter(holds).cloned();
        let reach = match known {
            Some(reach) => reach,
            None => {
                let reach = self.reach(system).await?;
                crate::lock(reaches).insert(system.to_owned(), reach.clone());
                reach
            }
        };
        Ok(SystemDispatcher {
            ready: PrefetchQueue::default(),
            down: Mutex::new(None),
            in_a_row: AtomicUsize::new(0),
            refusals: std::sync::Mutex::default(),
            confirmed: None,
            groups: Mutex::default(),
            row: reach.row,
            connector: reach.connector,
            access: reach.access,
            rules: reach.rules,
        })
    }

    async fn reach(&self, system: &str) -> Result<SystemContext, EngineError> {
        let row = self.context.store.find_system(system).await?;
        let connector = self.connections.cached_connector(&row).await?;
        // Rules that became invalid after this decision do not block its changes.
        let rules = self.rules.published_rules().await.ok().and_then(|rules| {
            rules
                .set
                .systems
                .get(system)
                .map(|rules| rules.types.clone())
        });
        let access = self.connections.access(&row);
        let rules = Arc::new(rules.unwrap_or_default());
        Ok(SystemContext {
            row: Arc::new(row),
            connector,
            rules,
            access,
            made: tide_clock::instant(),
        })
    }

    /// Claims the changes that are sent next, many in one commit, slightly ahead of the workers.
    /// Some changes are claimed already.
    pub(crate) async fn mark_ahead(
        &self,
        share: &SystemDispatcher,
        mut queue: VecDeque<Vec<ChangeRow>>,
        known: &HashSet<i64>,
    ) -> Result<(), EngineError> {
        let ahead = &share.ready;
        let at_a_time = self.at_a_time(share);
        if at_a_time == 1 {
            queue_unclaimed(ahead, queue, known);
            return Ok(());
        }
        let _ends = EndMarker(ahead);
        let (mut together, mut first) = (at_a_time, true);
        while !queue.is_empty() {
            let some: Vec<Vec<ChangeRow>> = queue.drain(..together.min(queue.len())).collect();
            // Changes that wait for others are claimed when those are done; canceled ones are not
            // claimed.
            let given_up = share.down.lock().await.is_some();
            let heads = some
                .iter()
                .filter_map(|changes| changes.first())
                .filter(|change| !given_up && !has_pending_references(change));
            let heads: Vec<i64> = heads
                .map(|change| change.id)
                .filter(|id| !known.contains(id))
                .collect();
            let marked = if heads.is_empty() {
                HashSet::new()
            } else {
                self.context
                    .store
                    .claim_for_sending(heads, self.context.now())
                    .await?
            };
            let is_marked = |changes: &Vec<ChangeRow>| {
                changes
                    .first()
                    .is_some_and(|change| marked.contains(&change.id) || known.contains(&change.id))
            };
            ahead.add(
                some.into_iter()
                    .map(|changes| AccountBatch {
                        is_claimed: is_marked(&changes),
                        changes,
                    })
                    .collect(),
            );
            if std::mem::take(&mut first) {
                // The first changes are dispatched without delay.
                ahead.starved.store(false, Ordering::Relaxed);
            }
            loop {
                let taken = ahead.taken.notified();
                if ahead.senders.load(Ordering::Acquire) == 0 {
                    return Ok(());
                }
                if ahead.len() <= together / 2 {
                    break;
                }
                taken.await;
            }
            if ahead.starved.swap(false, Ordering::Relaxed) {
                together = (together * 2).min(CLAIM_BATCH_SIZE.max(at_a_time));
            }
        }
        Ok(())
    }
}

/// Sequential mode: each change is claimed when it is sent, unless it is claimed already.
fn queue_unclaimed(ahead: &PrefetchQueue, queue: VecDeque<Vec<ChangeRow>>, claimed: &HashSet<i64>) {
    let is_claimed = |changes: &Vec<ChangeRow>| {
        let first = changes.first();
        first.is_some_and(|change| claimed.contains(&change.id))
    };
    let batches = queue.into_iter().map(|changes| AccountBatch {
        is_claimed: is_claimed(&changes),
        changes,
    });
    ahead.all(batches.collect());
}
