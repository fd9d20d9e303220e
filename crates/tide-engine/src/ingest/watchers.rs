//! Watchers of armed systems: each system is watched in its best mode, and restarted with backoff
//! after failures.

use crate::backoff::{Backoff, later};
use crate::connections::Schedule;
use crate::error::EngineError;
use crate::events::Event;
use crate::ingest::Ingest;
use crate::lock;
use jiff::Timestamp;
use std::collections::HashMap;
use std::sync::Arc;
use std::time::Duration;
use tide_core::ObjectType;
use tide_core::states::{WatchMode, WatcherState};
use tide_store::SystemRow;
use tokio_util::sync::CancellationToken;

/// How often the watchers are reconciled with the states and schedules of systems.
const LOOK: Duration = Duration::from_secs(1);

/// Minimum and maximum delay before a failed watcher restarts.
const RECONNECT_BACKOFF: Backoff =
    Backoff::new(Duration::from_secs(1), Duration::from_secs(60)).with_jitter(0.25);

/// The status of the watcher of one type of a system.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WatcherStatus {
    /// The system.
    pub system: String,
    /// The type.
    pub object: ObjectType,
    /// The watch mode.
    pub way: Option<WatchMode>,
    /// The state of the watcher.
    pub state: WatcherState,
    /// When the last change arrived.
    pub news: Option<Timestamp>,
    /// Number of accounts that changed since the service started.
    pub changed: usize,
    /// When the system is polled next, if it is polled.
    pub next: Option<Timestamp>,
    /// When the next full read is due.
    pub full: Option<Timestamp>,
    /// When the system was polled last, and how long the answer took, if it is polled.
    pub asked: Option<(Timestamp, Duration)>,
    /// The error of the last failure.
    pub error: Option<String>,
}

/// A running watcher: the settings for which it was started, and its cancellation.
struct Watcher {
    row: SystemRow,
    objects: Vec<ObjectType>,
    cancel: CancellationToken,
}

impl Drop for Watcher {
    fn drop(&mut self) {
        self.cancel.cancel();
    }
}

impl Ingest {
    /// Starts and ends watchers, until the service stops.
    pub(crate) fn watch_systems(self: &Arc<Self>) {
        self.context
            .supervise("watcher manager", self, |ingest| async move {
                let mut followers: HashMap<String, Watcher> = HashMap::new();
                loop {
                    if let Err(error) = ingest.reconcile_watchers(&mut followers).await {
                        tracing::warn!(%error, "could not load the list of systems to watch");
                    }
                    tokio::select! {
                        () = ingest.context.stopping.cancelled() => return,
                        () = tide_clock::sleep(LOOK) => {}
                    }
                }
            });
    }

    /// The status of all watchers.
    pub fn watchers(&self) -> Vec<WatcherStatus> {
        lock(&self.watchers).values().cloned().collect()
    }

    pub(crate) fn update_watcher(
        &self,
        system: &str,
        object: ObjectType,
        change: impl FnOnce(&mut WatcherStatus),
    ) {
        {
            let mut all = lock(&self.watchers);
            let one = all
                .entry((system.to_owned(), object))
                .or_insert_with(|| WatcherStatus {
                    system: system.to_owned(),
                    object,
                    way: None,
                    state: WatcherState::Reading,
                    news: None,
                    changed: 0,
                    next: None,
                    full: None,
                    asked: None,
                    error: None,
                });
            let before = one.clone();
            change(one);
            if *one == before {
                return;
            }
        }
        self.context.publish_event(Event::System {
            name: system.to_owned(),
        });
    }

    /// Starts and ends watchers by the states and schedules of systems.
    async fn reconcile_watchers(
        self: &Arc<Self>,
        followers: &mut HashMap<String, Watcher>,
    ) -> Result<(), EngineError> {
        let wanted: Vec<(SystemRow, Vec<ObjectType>)> = self
            .rules
            .to_read()
            .await?
            .into_iter()
            .filter(|(row, _)| row.armed && !row.paused && Schedule::read(&row.schedule).watch)
            .collect();
        let same = |follower: &Watcher, row: &SystemRow, objects: &[ObjectType]| {
            follower.row.settings == row.settings
                && follower.row.schedule == row.schedule
                && follower.objects == objects
        };
        let anew = self.pending.take_full_reads();
        followers.retain(|name, follower| {
            let keep = !anew.contains(name)
                && wanted
                    .iter()
                    .any(|(row, objects)| row.name == *name && same(follower, row, objects));
            if !keep {
                follower.cancel.cancel();
                lock(&self.watchers).retain(|(system, _), _| system != name);
            }
            keep
        });
        // Queued behind the writes of the watcher that was ended.
        for name in &anew {
            self.context.store.reset_sync_cursors(name).await?;
        }
        for (row, objects) in wanted {
            if followers.contains_key(&row.name) {
                continue;
            }
            let cancel = self.context.stopping.child_token();
            for &object in &objects {
                let (row, cancel) = (row.clone(), cancel.clone());
                self.context.supervise(
                    &format!("watcher of {object} in {}", row.name),
                    self,
                    move |ingest| {
                        let (row, cancel) = (row.clone(), cancel.clone());
                        async move { ingest.run_watcher(&row, object, &cancel).await }
                    },
                );
            }
            followers.insert(
                row.name.clone(),
                Watcher {
                    row,
                    objects,
                    cancel,
                },
            );
        }
        Ok(())
    }

    /// Watches one type of a system, and restarts with backoff after failures.
    async fn run_watcher(
        self: &Arc<Self>,
        row: &SystemRow,
        object: ObjectType,
        cancel: &CancellationToken,
    ) {
        let schedule = Schedule::read(&row.schedule);
        let mut failures = 0;
        while !cancel.is_cancelled() {
            let begun = tide_clock::instant();
            let ended = tokio::select! {
                () = cancel.cancelled() => return,
                ended = self.follow_once(row, object, &schedule) => ended,
            };
            let Err(error) = ended else { continue };
            // After a stable period, the backoff starts over.
            if begun.elapsed() > RECONNECT_BACKOFF.max() {
                failures = 0;
            }
            failures += 1;
            let wait = RECONNECT_BACKOFF.delay(failures, self.context.random());
            tracing::warn!(system = row.name, object_type = %object, %error, ?wait, "change feed disconnected; reconnecting");
            let next = Some(later(self.context.now(), wait));
            self.update_watcher(&row.name, object, |one| {
                (one.state, one.error, one.next) =
                    (WatcherState::Failed, Some(error.to_string()), next);
            });
            tokio::select! {
                () = cancel.cancelled() => return,
                () = tide_clock::sleep(wait) => {}
            }
        }
    }
}
