//! Watching the folders of armed feeds: a file that arrived, and stands still, is read at once.

use crate::Engine;
use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, SystemTime};
use tide_clock::Instant;
use tide_connect::FailureClass;
use tide_core::states::SystemKind;

/// The interval at which folders are polled.
const EVERY: Duration = Duration::from_secs(2);

/// The shortest and the longest pause before a file that could not be read is tried again.
const PAUSE: (Duration, Duration) = (Duration::from_secs(2), Duration::from_secs(60));

/// A file that could not be read.
struct Failed {
    /// When it is tried again.
    at: Instant,
    pause: Duration,
}

/// Size and time of a watched file. It is read when two polls find both unchanged.
type FileState = (PathBuf, u64, SystemTime);

/// The newest complete file of a path, with its size and time.
fn newest_file(path: &Path) -> Option<FileState> {
    let path = tide_connect::newest_file(path).ok()?;
    let about = path.metadata().ok()?;
    Some((path, about.len(), about.modified().ok()?))
}

impl Engine {
    /// Watches until the service stops. A file that is present at the start is read, too: it may
    /// have arrived between the last read and the arming, or while the service was down.
    pub fn watch_feeds(self: &Arc<Self>) {
        self.supervise("feed watcher", |engine| async move {
            let mut seen: HashMap<String, FileState> = HashMap::new();
            let mut moving: HashMap<String, FileState> = HashMap::new();
            let mut failed: HashMap<String, Failed> = HashMap::new();
            loop {
                tokio::select! {
                    () = engine.stopping.cancelled() => return,
                    () = tide_clock::sleep(EVERY) => {}
                }
                let Ok(systems) = engine.store.list_systems().await else { continue };
                for row in systems.iter().filter(|row| row.kind == SystemKind::Feed && row.armed && !row.paused) {
                    let Some(path) = row.settings["path"].as_str().map(PathBuf::from) else { continue };
                    let Ok(Some(now)) = tokio::task::spawn_blocking(move || newest_file(&path)).await else { continue };
                    let is_seen = seen.get(&row.name) == Some(&now);
                    if is_seen && failed.get(&row.name).is_none_or(|failed| failed.at > tide_clock::instant()) {
                        continue;
                    }
                    // It is still being written while its size or time changes.
                    if !is_seen && moving.insert(row.name.clone(), now.clone()).as_ref() != Some(&now) {
                        continue;
                    }
                    moving.remove(&row.name);
                    seen.insert(row.name.clone(), now);
                    let pause = failed.remove(&row.name).filter(|_| is_seen).map_or(PAUSE.0, |before| (before.pause * 2).min(PAUSE.1));
                    let is_passing = match engine.read_by_name(&row.name).await {
                        Ok(reads) => match reads.iter().find_map(|read| read.error.as_ref()) {
                            // A file that is refused is refused as long as it stays the same. What
                            // else fails may pass.
                            Some(error) => error.class != FailureClass::Permanent || !error.code.starts_with("feed_"),
                            None => {
                                let read: usize = reads.iter().map(|read| read.seen).sum();
                                tracing::info!(system = row.name, accounts = read, "a file arrived and was read");
                                false
                            }
                        },
                        Err(error) => {
                            tracing::warn!(system = row.name, %error, "a file arrived and could not be read");
                            true
                        }
                    };
                    if is_passing {
                        failed.insert(row.name.clone(), Failed { at: tide_clock::instant() + pause, pause });
                    }
                }
            }
        });
    }
}
