//! The changes of a watched system, with full reads from time to time. Changes are stored and wake
//! the automatic run.

use crate::connections::Schedule;
use crate::error::EngineError;
use crate::ingest::Ingest;
use crate::rules::PublishedRules;
use jiff::Timestamp;
use std::collections::BTreeSet;
use std::sync::Arc;
use std::time::Duration;
use tide_connect::{ChangeEvent, Connector};
use tide_core::ObjectType;
use tide_core::model::Observed;
use tide_core::states::{WatchMode, WatcherState};
use tide_store::{ChangeBatch, SyncCursor, SystemRow};

/// Maximum number of changes that are stored in one transaction.
const BATCH_SIZE: usize = 500;

impl Ingest {
    /// Polls a system once from its sync cursor. For modes that are polled. Returns `false` if a
    /// full read is needed first.
    pub async fn sync_once(&self, name: &str, object: ObjectType) -> Result<bool, EngineError> {
        let row = self.context.store.find_system(name).await?;
        let schedule = Schedule::read(&row.schedule);
        let connector = self.connections.connector(&row).await?;
        let way = watch_mode(&schedule, &*connector).await?;
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
    pub(crate) async fn follow_once(
        &self,
        row: &SystemRow,
        object: ObjectType,
        schedule: &Schedule,
    ) -> Result<(), EngineError> {
        let store = &self.context.store;
        let connector = self.connections.connector(row).await?;
        let way = watch_mode(schedule, &*connector).await?;
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
        let (mut place, asked, begun) = (place, self.context.now(), tide_clock::instant());
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
            .context
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
            store
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
        let left = at.duration_since(self.context.now());
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
            .context
            .store
            .find_sync_cursor(&row.name, object)
            .await?
            .filter(|place| place.mode == way.as_str());
        if let Some(place) = known {
            let full = place
                .full_read_at
                .saturating_add(schedule.full_every(way))
                .unwrap_or(Timestamp::MAX);
            if self.context.now() < full || matches!(way, WatchMode::Arrival | WatchMode::Pushed) {
                return Ok(place);
            }
        }
        self.update_watcher(&row.name, object, |one| {
            (one.state, one.way, one.next) = (WatcherState::Reading, Some(way), None)
        });
        // The cursor is taken before the read: changes during the read arrive again afterwards.
        let mark = connector.current_cursor(object, way).await?;
        let now = self.context.now();
        if way != WatchMode::Pushed {
            let read = self.read_one(row, object, &self.context.stopping).await?;
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
        self.context
            .store
            .set_sync_cursor(&row.name, object, &place)
            .await?;
        self.pending.wake();
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
        let store = &self.context.store;
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
                        store
                            .store_changes(
                                ChangeBatch {
                                    keeps_previous: given,
                                    ..ChangeBatch::new(&row.name, object, news, keys)
                                },
                                self.context.monotonic_now(),
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
            (place.cursor, place.updated_at) = (mark, self.context.now());
        }
        if !changed.is_empty() {
            let place = Some(&*place).filter(|_| marked);
            let kept = store
                .store_changes(
                    ChangeBatch {
                        cursor: place,
                        keeps_previous: given,
                        ..ChangeBatch::new(&row.name, object, changed, Vec::new())
                    },
                    self.context.monotonic_now(),
                )
                .await?;
            // A run that is woken now reads behind this batch, because the writer executes both in
            // order.
            early = self.pending.request_early_run();
            differ.extend(kept.await?);
        } else if marked {
            store.set_sync_cursor(&row.name, object, place).await?;
        }
        self.note_differences(row, object, differ, early);
        if let Some(why) = lost {
            tracing::info!(system = row.name, object_type = %object, reason = why, "the history is unavailable; starting a full read");
            store.reset_sync_cursors(&row.name).await?;
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

        self.rules.last_compiled().is_none_or(|rules| types(&rules))
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
            let now = self.context.now();
            self.update_watcher(&row.name, object, |one| {
                one.news = Some(now);
                one.changed += differ.len();
            });
            self.pending.note_changes(differ, early);
        }
    }
}

/// The mode in which a system is watched: the one of its schedule, or the best that it offers.
async fn watch_mode(
    schedule: &Schedule,
    connector: &dyn Connector,
) -> Result<WatchMode, EngineError> {
    if let Some(mode) = schedule.mode {
        return Ok(mode);
    }
    let offered = connector.watch_modes().await?;
    Ok(offered.first().copied().unwrap_or(WatchMode::FullRead))
}
