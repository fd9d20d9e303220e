//! Watchers of armed systems: each system is watched in its best mode, with full reads from time to
//! time. Changes are stored and wake the automatic run.

use crate::backoff::{Backoff, later};
use crate::runs::PublishedRules;
use crate::schedule::Schedule;
use crate::{Engine, EngineError, Event, lock};
use jiff::Timestamp;
use std::collections::{BTreeSet, HashMap};
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Duration;
use tide_connect::{ChangeEvent, Connector};
use tide_core::ObjectType;
use tide_core::model::Observed;
use tide_core::states::{WatchMode, WatcherState};
use tide_store::ChangeBatch;
use tide_store::{SyncCursor, SystemRow};
use tokio_util::sync::CancellationToken;

/// How often the watchers are reconciled with the states and schedules of systems.
const LOOK: Duration = Duration::from_secs(1);
/// Maximum number of changes that are stored in one transaction.
const BATCH_SIZE: usize = 500;
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

impl Engine {
    /// The status of all watchers.
    pub fn watchers(&self) -> Vec<WatcherStatus> {
        lock(&self.watchers).values().cloned().collect()
    }

    fn update_watcher(
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
        self.publish_event(Event::System {
            name: system.to_owned(),
        });
    }

    /// Starts all long-lived tasks: watchers, the automatic run, feeds, webhooks and the operation
    /// poller. They end with the service.
    pub fn start_automatic_sync(self: &Arc<Self>) {
        self.log_journal_head();
        self.watch_feeds();
        self.keep_calling();
        self.spawn_auto_run_loop();
        self.spawn_operation_poller();
        self.supervise("watcher manager", |engine| async move {
            let mut followers: HashMap<String, Watcher> = HashMap::new();
            loop {
                if let Err(error) = engine.reconcile_watchers(&mut followers).await {
                    tracing::warn!(%error, "could not load the list of systems to watch");
                }
                tokio::select! {
                    () = engine.stopping.cancelled() => return,
                    () = tide_clock::sleep(LOOK) => {}
                }
            }
        });
    }

    /// Starts and ends watchers by the states and schedules of systems.
    async fn reconcile_watchers(
        self: &Arc<Self>,
        followers: &mut HashMap<String, Watcher>,
    ) -> Result<(), EngineError> {
        let wanted: Vec<(SystemRow, Vec<ObjectType>)> = self
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
        let anew = std::mem::take(&mut *lock(&self.pending_full_reads));
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
            self.store.reset_sync_cursors(name).await?;
        }
        for (row, objects) in wanted {
            if followers.contains_key(&row.name) {
                continue;
            }
            let cancel = self.stopping.child_token();
            for &object in &objects {
                let (row, cancel) = (row.clone(), cancel.clone());
                self.supervise(
                    &format!("watcher of {object} in {}", row.name),
                    move |engine| {
                        let (row, cancel) = (row.clone(), cancel.clone());
                        async move { engine.run_watcher(&row, object, &cancel).await }
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
            let wait = RECONNECT_BACKOFF.delay(failures, self.random());
            tracing::warn!(system = row.name, object_type = %object, %error, ?wait, "change feed disconnected; reconnecting");
            let next = Some(later(self.now(), wait));
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

    /// Polls a system once from its sync cursor. For modes that are polled. Returns `false` if a
    /// full read is needed first.
    pub async fn sync_once(&self, name: &str, object: ObjectType) -> Result<bool, EngineError> {
        let row = self.store.find_system(name).await?;
        let schedule = Schedule::read(&row.schedule);
        let connector = self.connector(&row).await?;
        let way = match schedule.mode {
            Some(way) => way,
            None => connector
                .watch_modes()
                .await?
                .first()
                .copied()
                .unwrap_or(WatchMode::FullRead),
        };
        let mut place = self
            .watch_cursor(&row, object, &schedule, way, &connector)
            .await?;
        let mut following = connector.watch(object, way, place.cursor.clone());
        while let Some(first) = following.recv().await {
            let mut batch = vec![first];
            while batch.len() < BATCH_SIZE
                && let Ok(more) = following.try_recv()
            {
                batch.push(more);
            }
            if !self.ingest_batch(&row, object, &mut place, batch).await? {
                return Ok(false);
            }
        }
        Ok(true)
    }

    /// Consumes the change stream until a poll pause, a needed full read, or a failure.
    async fn follow_once(
        &self,
        row: &SystemRow,
        object: ObjectType,
        schedule: &Schedule,
    ) -> Result<(), EngineError> {
        let connector = self.connector(row).await?;
        let way = match schedule.mode {
            Some(way) => way,
            None => connector
                .watch_modes()
                .await?
                .first()
                .copied()
                .unwrap_or(WatchMode::FullRead),
        };
        let place = self
            .watch_cursor(row, object, schedule, way, &connector)
            .await?;
        let full = place
            .full_read_at
            .saturating_add(schedule.full_every(way))
            .unwrap_or(Timestamp::MAX);
        let told = matches!(way, WatchMode::Arrival | WatchMode::Pushed);
        self.update_watcher(&row.name, object, |one| {
            (one.state, one.way, one.error, one.next) =
                (WatcherState::Watching, Some(way), None, None);
            one.full = (!told).then_some(full);
        });
        if told {
            // Feeds and inbound records have their own tasks.
            std::future::pending::<()>().await;
        }
        let (mut place, asked, begun) = (place, self.now(), tide_clock::instant());
        if way != WatchMode::FullRead {
            let mut following = connector.watch(object, way, place.cursor.clone());
            let mut due = std::pin::pin!(tide_clock::sleep(self.wait_until(full)));
            loop {
                let news = tokio::select! {
                    news = following.recv() => news,
                    () = &mut due => return Ok(()),
                };
                let Some(first) = news else { break };
                let mut batch = vec![first];
                while batch.len() < BATCH_SIZE
                    && let Ok(more) = following.try_recv()
                {
                    batch.push(more);
                }
                if !self.ingest_batch(row, object, &mut place, batch).await? {
                    return Ok(());
                }
            }
        }
        let every = schedule.poll_interval();
        let next = self
            .now()
            .saturating_add(jiff::SignedDuration::try_from(every).unwrap_or_default())
            .ok();
        self.update_watcher(&row.name, object, |one| {
            (one.state, one.next) = (WatcherState::Waiting, next);
            one.asked =
                (way != WatchMode::FullRead && !way.is_sent()).then(|| (asked, begun.elapsed()));
        });
        tide_clock::sleep(every.min(self.wait_until(full))).await;
        if way == WatchMode::FullRead {
            // The cursor is older than the interval of full reads.
            self.store
                .set_sync_cursor(
                    &row.name,
                    object,
                    &SyncCursor {
                        full_read_at: Timestamp::UNIX_EPOCH,
                        ..place
                    },
                )
                .await?;
        }
        Ok(())
    }

    fn wait_until(&self, at: Timestamp) -> Duration {
        let left = at.duration_since(self.now());
        Duration::try_from(left)
            .unwrap_or_default()
            .min(Duration::from_secs(24 * 3600))
    }

    /// The sync cursor to continue from: the stored one, or a new one after a full read.
    async fn watch_cursor(
        &self,
        row: &SystemRow,
        object: ObjectType,
        schedule: &Schedule,
        way: WatchMode,
        connector: &Arc<dyn Connector>,
    ) -> Result<SyncCursor, EngineError> {
        let known = self
            .store
            .find_sync_cursor(&row.name, object)
            .await?
            .filter(|place| place.mode == way.as_str());
        if let Some(place) = known {
            let full = place
                .full_read_at
                .saturating_add(schedule.full_every(way))
                .unwrap_or(Timestamp::MAX);
            if self.now() < full || matches!(way, WatchMode::Arrival | WatchMode::Pushed) {
                return Ok(place);
            }
        }
        self.update_watcher(&row.name, object, |one| {
            (one.state, one.way, one.next) = (WatcherState::Reading, Some(way), None)
        });
        // The cursor is taken before the read: changes during the read arrive again afterwards.
        let mark = connector.current_cursor(object, way).await?;
        let now = self.now();
        if way != WatchMode::Pushed {
            let read = self.read_one(row, object, &self.stopping).await?;
            if let Some(error) = read.error {
                return Err(error.into());
            }
        }
        let place = SyncCursor {
            mode: way.as_str().to_owned(),
            cursor: mark,
            updated_at: now,
            full_read_at: now,
        };
        self.store
            .set_sync_cursor(&row.name, object, &place)
            .await?;
        self.wake.notify_one();
        Ok(place)
    }

    /// Stores a batch of changes. Returns `false` if a full read is needed before watching can
    /// continue.
    async fn ingest_batch(
        &self,
        row: &SystemRow,
        object: ObjectType,
        place: &mut SyncCursor,
        batch: Vec<Result<ChangeEvent, tide_connect::ConnectError>>,
    ) -> Result<bool, EngineError> {
        let given = self.keeps_previous(row, object);
        let mut changed: Vec<Observed> = Vec::new();
        let mut mark = None;
        let mut fault = None;
        let mut lost = None;
        let mut differ: BTreeSet<i64> = BTreeSet::new();
        for news in batch {
            match news {
                Ok(ChangeEvent::Changed(more)) => changed.extend(more),
                Ok(ChangeEvent::Gone(keys)) => {
                    // In order: an account that was deleted and created again exists.
                    let news = std::mem::take(&mut changed);
                    differ.extend(
                        self.store
                            .store_changes(
                                ChangeBatch {
                                    keeps_previous: given,
                                    ..ChangeBatch::new(&row.name, object, news, keys)
                                },
                                self.monotonic_now(),
                            )
                            .await?
                            .await?,
                    );
                }
                Ok(ChangeEvent::Checkpoint(place)) => mark = Some(place),
                Ok(ChangeEvent::ResyncRequired(why)) => {
                    lost = Some(why);
                    break;
                }
                Err(error) => {
                    fault = Some(error);
                    break;
                }
            }
        }
        // The cursor is stored with the changes or after them: after a crash in between, the same
        // changes arrive again and differ in nothing.
        let (marked, mut early) = (mark.is_some(), None);
        if marked {
            (place.cursor, place.updated_at) = (mark, self.now());
        }
        if !changed.is_empty() {
            let place = Some(&*place).filter(|_| marked);
            let kept = self
                .store
                .store_changes(
                    ChangeBatch {
                        cursor: place,
                        keeps_previous: given,
                        ..ChangeBatch::new(&row.name, object, changed, Vec::new())
                    },
                    self.monotonic_now(),
                )
                .await?;
            // A run that is woken now reads behind this batch, because the writer executes both in
            // order.
            early = self.trigger_run_if_idle();
            differ.extend(kept.await?);
        } else if marked {
            self.store.set_sync_cursor(&row.name, object, place).await?;
        }
        self.note_differences(row, object, differ, early);
        if let Some(why) = lost {
            tracing::info!(system = row.name, object_type = %object, reason = why, "the history is unavailable; starting a full read");
            self.store.reset_sync_cursors(&row.name).await?;
            return Ok(false);
        }
        fault.map_or(Ok(true), |error| Err(error.into()))
    }

    /// Whether the values before an external change are kept: in targets only.
    fn keeps_previous(&self, row: &SystemRow, object: ObjectType) -> bool {
        // Without published rules, the system counts as a target.
        let types = |rules: &Arc<PublishedRules>| {
            rules
                .set
                .of(&row.name, object)
                .is_none_or(|types| types.is_target())
        };

        lock(&self.compiled_rules)
            .as_ref()
            .is_none_or(|(_, rules)| types(rules))
    }

    /// Notes accounts that differ, and wakes a run unless one has read them.
    fn note_differences(
        &self,
        row: &SystemRow,
        object: ObjectType,
        differ: BTreeSet<i64>,
        early: Option<u64>,
    ) {
        if !differ.is_empty() {
            let now = self.now();
            self.update_watcher(&row.name, object, |one| {
                one.news = Some(now);
                one.changed += differ.len();
            });
            lock(&self.changed_accounts).extend(differ);
            if early.is_none_or(|looks| self.run_generation.load(Ordering::Acquire) == looks) {
                self.is_dirty.store(true, Ordering::Release);
                self.wake.notify_one();
            }
        }
    }

    /// Starts a run early, so that it overlaps with storing the current batch.
    ///
    /// Call it after the batch was queued at the writer: the reads of the run are queued behind it,
    /// so they see the batch. Returns the run generation before the wake-up, or `None` if a run is
    /// active. The check is advisory: compare the generation once the batch is stored, and wake
    /// again if no run has read since.
    fn trigger_run_if_idle(&self) -> Option<u64> {
        let looks = self.run_generation.load(Ordering::Acquire);
        drop(self.run_lock.try_lock().ok()?);
        self.is_dirty.store(true, Ordering::Release);
        self.wake.notify_one();
        Some(looks)
    }

    /// Sets the sync schedule of a system, and restarts its watchers.
    pub async fn set_schedule(
        &self,
        name: &str,
        schedule: &Schedule,
        principal: &str,
    ) -> Result<(), EngineError> {
        let row = self.store.find_system(name).await?;
        schedule.check()?;
        if let Some(way) = schedule.mode {
            let ways = self.connector(&row).await?.watch_modes().await?;
            if !ways.contains(&way) {
                let offered: Vec<&str> = ways.iter().map(|way| way.as_str()).collect();
                return Err(EngineError::Invalid(format!(
                    "{name} does not support the watch mode {}: it offers {}",
                    way.as_str(),
                    offered.join(", ")
                )));
            }
        }
        let value = serde_json::to_value(schedule).unwrap_or_default();
        let _one_at_a_time = self.settings_lock.lock().await;
        self.store
            .set_schedule(name, &value, principal, self.now())
            .await?;
        self.gate(&row).set_schedule(schedule);
        self.publish_event(Event::System {
            name: name.to_owned(),
        });
        self.wake.notify_one();
        Ok(())
    }
}
