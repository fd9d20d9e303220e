//! Watching the folders of armed feeds: a file that arrived, and stands still, is read at once.

use crate::Engine;
use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, SystemTime};

/// How often folders are looked at.
const EVERY: Duration = Duration::from_secs(2);

/// What a watched file looks like: it is read when it looks the same twice.
type Look = (PathBuf, u64, SystemTime);

/// The newest file of a path, as it looks.
fn look(path: &Path) -> Option<Look> {
    let of = |path: PathBuf| {
        let about = path.metadata().ok()?;
        Some((path, about.len(), about.modified().ok()?))
    };
    if path.is_file() {
        return of(path.to_owned());
    }
    path.read_dir()
        .ok()?
        .filter_map(Result::ok)
        .filter(|entry| entry.file_type().is_ok_and(|kind| kind.is_file()))
        .filter_map(|e| of(e.path()))
        .max_by_key(|(path, _, at)| (*at, path.clone()))
}

impl Engine {
    /// Watches until the service stops. What stands there at the first look is read too: it may have arrived while nobody watched,
    /// between the last read and the arming, or while the service was down.
    pub fn watch_feeds(self: &Arc<Self>) {
        self.supervise("feed watcher", |engine| async move {
            let mut seen: HashMap<String, Look> = HashMap::new();
            let mut moving: HashMap<String, Look> = HashMap::new();
            loop {
                tokio::select! {
                    () = engine.stopping.cancelled() => return,
                    () = tokio::time::sleep(EVERY) => {}
                }
                let Ok(systems) = engine.store.systems().await else { continue };
                for row in systems.iter().filter(|row| row.kind == "feed" && row.armed && !row.paused) {
                    let Some(path) = row.settings["path"].as_str().map(PathBuf::from) else { continue };
                    let Ok(Some(now)) = tokio::task::spawn_blocking(move || look(&path)).await else { continue };
                    if seen.get(&row.name) == Some(&now) {
                        continue;
                    }
                    // It is still being written while it looks different each time.
                    if moving.insert(row.name.clone(), now.clone()).as_ref() != Some(&now) {
                        continue;
                    }
                    moving.remove(&row.name);
                    seen.insert(row.name.clone(), now);
                    match engine.read_by_name(&row.name).await {
                        Ok(reads) => {
                            let read: usize = reads.iter().map(|read| read.seen).sum();
                            engine.nudge.notify_one();
                            tracing::info!(system = row.name, read, "a file arrived and was read");
                        }
                        Err(error) => tracing::warn!(system = row.name, %error, "a file arrived and could not be read"),
                    }
                }
            }
        });
    }
}
