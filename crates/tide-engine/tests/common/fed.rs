//! A feed, a service and the engine between them, with a clock that is moved.

use async_trait::async_trait;
use jiff::Timestamp;
use std::path::Path;
use std::sync::{Arc, Mutex};
use std::time::Duration;
use tide_core::ObjectType;
use tide_core::rules::RuleFile;
use tide_core::states::{ChangeSetState, SystemKind};
use tide_engine::{Clock, Engine, NewSystem, Plan, SystemUpdate};
use tide_standins::scim_service::ScimService;
use tide_store::{ChangeFilter, ChangeSetRow, MasterKey, Store};

/// A clock that stands where it is put.
pub struct Moved(Mutex<Timestamp>);

impl Moved {
    pub fn to(&self, at: Timestamp) {
        *self.0.lock().expect("whole") = at;
    }
}

#[async_trait]
impl Clock for Moved {
    fn now(&self) -> Timestamp {
        *self.0.lock().expect("whole")
    }

    async fn sleep(&self, pause: Duration) {
        tokio::time::sleep(pause.min(Duration::from_millis(5))).await;
    }
}

/// A feed, a service and the engine between them, with a clock that is moved.
pub struct Season {
    pub folder: tempfile::TempDir,
    pub feed: std::path::PathBuf,
    pub clock: Arc<Moved>,
    pub engine: Arc<Engine>,
    pub berthing: ScimService,
    /// About how many records a chunk of a full decision has, after the next start of the engine.
    pub chunk_size: Option<usize>,
    key: MasterKey,
}

impl Season {
    async fn tie(
        folder: &Path,
        key: &MasterKey,
        clock: &Arc<Moved>,
        chunk_size: Option<usize>,
    ) -> Arc<Engine> {
        let store = Store::open(&folder.join("tide.db"), key.clone())
            .await
            .expect("opens");
        let allowed = tide_engine::SecretSources {
            feed_folders: vec![folder.to_owned()],
            ..Default::default()
        };
        Engine::with_config(
            store,
            clock.clone(),
            tide_engine::EngineConfig {
                secret_sources: allowed,
                chunk_size,
                ..Default::default()
            },
        )
    }

    pub async fn start(now: Timestamp, rules: &[(&str, &str)]) -> Season {
        let folder = tempfile::tempdir().expect("a folder");
        let feed = folder.path().join("feeds");
        std::fs::create_dir_all(&feed).expect("made");
        std::fs::write(feed.join("roster.csv"), "number\n").expect("written");
        let clock = Arc::new(Moved(Mutex::new(now)));
        let key = MasterKey::generate();
        let engine = Self::tie(folder.path(), &key, &clock, None).await;
        let berthing = ScimService::start(Vec::new(), "berth-token")
            .await
            .expect("starts");
        let feed_settings = serde_json::json!({"path": feed, "key": "number", "name": "number"});
        let berth_settings = serde_json::json!({"url": berthing.url});
        for (name, kind, settings, secret) in [
            ("roster", SystemKind::Feed, feed_settings, None),
            (
                "berthing",
                SystemKind::Scim,
                berth_settings,
                Some("berth-token".to_owned()),
            ),
        ] {
            engine
                .administration()
                .add_system(
                    NewSystem {
                        name: name.into(),
                        kind,
                        settings,
                        secret,
                    },
                    "tester",
                )
                .await
                .expect("added");
            let checked = engine
                .administration()
                .check_system(name, None)
                .await
                .expect("tested");
            assert!(name == "roster" || checked.is_healthy(), "{checked:?}");
        }
        let writable = SystemUpdate {
            writable: Some(vec![ObjectType::Person, ObjectType::Group]),
            armed: Some(true),
            ..SystemUpdate::default()
        };
        engine
            .administration()
            .set_system("berthing", writable, "tester")
            .await
            .expect("set");
        let files: Vec<RuleFile> = rules
            .iter()
            .map(|(name, text)| RuleFile {
                name: (*name).into(),
                text: (*text).into(),
            })
            .collect();
        engine
            .administration()
            .publish_rules(&files, "tester")
            .await
            .expect("published");
        Season {
            folder,
            feed,
            clock,
            engine,
            berthing,
            chunk_size: None,
            key,
        }
    }

    /// Another engine over the same records; `between` is done while nothing runs.
    pub async fn restart(&mut self, between: impl FnOnce(&Moved)) {
        self.engine.stop().await;
        between(&self.clock);
        let folder = self.folder.path();
        self.engine = Self::tie(folder, &self.key, &self.clock, self.chunk_size).await;
        self.engine
            .runner()
            .resume_interrupted()
            .await
            .expect("resumed");
    }

    pub async fn go(&self, plan: Plan) -> ChangeSetRow {
        let mut events = self.engine.events();
        let id = self
            .engine
            .runner()
            .begin_change_set(plan, "tester")
            .await
            .expect("begins");
        loop {
            let set = self.engine.store().change_set(id).await.expect("read");
            if set.ended_at.is_some() {
                // The lock is let go a moment after the end is noted.
                tokio::time::sleep(Duration::from_millis(5)).await;
                assert_eq!(set.state, ChangeSetState::Done, "{set:?}");
                return set;
            }
            let _ = tokio::time::timeout(Duration::from_millis(200), events.recv()).await;
        }
    }

    /// What a change set does: who, what, which step, in its order, and where each stands.
    pub async fn changes(&self, set: &ChangeSetRow) -> Vec<(String, String, u16, String)> {
        let filter = ChangeFilter {
            limit: 10_000,
            ..ChangeFilter::default()
        };
        let rows = self
            .engine
            .store()
            .list_changes(set.id, &filter)
            .await
            .expect("read");
        rows.into_iter()
            .map(|row| {
                (
                    row.change.label,
                    row.change.kind.as_str().to_owned(),
                    row.change.step,
                    row.state.as_str().to_owned(),
                )
            })
            .collect()
    }
}
