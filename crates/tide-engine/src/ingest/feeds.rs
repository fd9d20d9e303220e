//! Watching the folders of armed feeds: a file that arrived, and stands still, is read at once.

use crate::ingest::Ingest;
use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, SystemTime};
use tide_clock::Instant;
use tide_connect::FailureClass;
use tide_core::states::SystemKind;
use tide_store::SystemRow;

/// The interval at which folders are polled.
const EVERY: Duration = Duration::from_secs(2);

/// The shortest and the longest pause before a file that could not be read is tried again.
const PAUSE: (Duration, Duration) = (Duration::from_secs(2), Duration::from_secs(60));

/// A file that could not be read.
pub(crate) struct Failed {
    /// When it is tried again.
    at: Instant,
    pause: Duration,
}

/// What the polls found, by system.
#[derive(Default)]
struct PolledFiles {
    /// The files that were read.
    seen: HashMap<String, FileState>,
    /// The files that may still be written.
    moving: HashMap<String, FileState>,
    /// The files that could not be read.
    failed: HashMap<String, Failed>,
}

/// Size and time of a watched file. It is read when two polls find both unchanged.
type FileState = (PathBuf, u64, SystemTime);

/// The newest complete file of a path, with its size and time.
fn newest_file(path: &Path) -> Option<FileState> {
    let path = tide_connect::newest_file(path).ok()?;
    let about = path.metadata().ok()?;
    Some((path, about.len(), about.modified().ok()?))
}

impl Ingest {
    /// Watches until the service stops. A file that is present at the start is read, too: it may
    /// have arrived between the last read and the arming, or while the service was down.
    pub fn watch_feeds(self: &Arc<Self>) {
        self.context
            .supervise("feed watcher", self, |ingest| async move {
                let mut polled = PolledFiles::default();
                loop {
                    tokio::select! {
                        () = ingest.context.stopping.cancelled() => return,
                        () = tide_clock::sleep(EVERY) => {}
                    }
                    if let Ok(systems) = ingest.context.store.list_systems().await {
                        let armed = systems
                            .iter()
                            .filter(|row| row.kind == SystemKind::Feed && row.armed && !row.paused);
                        for row in armed {
                            ingest.poll_feed(row, &mut polled).await;
                        }
                    }
                    ingest.context.cycles.count_feed_poll();
                }
            });
    }

    /// Reads the newest file of a feed, unless it was read before or is still being written.
    async fn poll_feed(&self, row: &SystemRow, polled: &mut PolledFiles) {
        let Some(path) = row.settings["path"].as_str().map(PathBuf::from) else {
            return;
        };
        let Ok(Some(now)) = tokio::task::spawn_blocking(move || newest_file(&path)).await else {
            return;
        };
        let name = &row.name;
        let is_seen = polled.seen.get(name) == Some(&now);
        let waits = |failed: &Failed| failed.at > tide_clock::instant();
        if is_seen && polled.failed.get(name).is_none_or(waits) {
            return;
        }
        // It is still being written while its size or time changes.
        if !is_seen && polled.moving.insert(name.clone(), now.clone()).as_ref() != Some(&now) {
            return;
        }
        polled.moving.remove(name);
        polled.seen.insert(name.clone(), now);
        let earlier = polled.failed.remove(name).filter(|_| is_seen);
        let pause = earlier.map_or(PAUSE.0, |failed| (failed.pause * 2).min(PAUSE.1));
        if self.read_arrived_file(name).await {
            let at = tide_clock::instant() + pause;
            polled.failed.insert(name.clone(), Failed { at, pause });
        }
    }

    /// Reads a feed. Returns whether it failed in a way that may pass: a file that is refused is
    /// refused as long as it stays the same.
    async fn read_arrived_file(&self, system: &str) -> bool {
        match self.read_by_name(system).await {
            Ok(reads) => {
                if let Some(error) = reads.iter().find_map(|read| read.error.as_ref()) {
                    return error.class != FailureClass::Permanent
                        || !error.code.starts_with("feed_");
                }
                let accounts: usize = reads.iter().map(|read| read.seen).sum();
                tracing::info!(system, accounts, "a file arrived and was read");
                false
            }
            Err(error) => {
                tracing::warn!(system, %error, "a file arrived and could not be read");
                true
            }
        }
    }
}
