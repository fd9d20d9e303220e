//! What the tests of the engine share: a directory, a service, a store and the engine between them.

pub mod fed;

use jiff::{SignedDuration, Timestamp};
use std::sync::Arc;
use std::time::Duration;
use tide_core::ObjectType;
use tide_core::rules::RuleFile;
use tide_core::states::SystemKind;
use tide_engine::{Clock, Engine, NewSystem, Plan, SystemClock, SystemUpdate};
use tide_standins::directory::Directory;
use tide_standins::eventually;
use tide_standins::scim_service::ScimService;
use tide_standins::world::{self, BASE, Crew};
use tide_store::{ChangeFilter, ChangeRow, ChangeSetRow, DecidedRow, MasterKey, Store};

/// The directory's password.
pub const PASSWORD: &str = "harbour-secret";

/// Everything that a test needs.
pub struct Tide {
    pub folder: tempfile::TempDir,
    key: MasterKey,
    pub engine: Arc<Engine>,
    pub harbour: Directory,
    pub berthing: ScimService,
    pub people: Vec<Crew>,
}

impl Tide {
    pub async fn start(count: usize) -> Tide {
        let people = world::people(world::SEED, count);
        let harbour = Directory::start(&world::directory(&people, PASSWORD), PASSWORD)
            .await
            .expect("starts");
        let berthing = ScimService::start(world::berthing(&people), "berth-token")
            .await
            .expect("starts");
        let folder = tempfile::tempdir().expect("a folder");
        let key = MasterKey::generate();
        let store = Store::open(&folder.path().join("tide.db"), key.clone())
            .await
            .expect("opens");
        let engine = Engine::new(store, Arc::new(SystemClock));
        for (name, kind, settings, secret) in [
            (
                "harbour",
                SystemKind::Ldap,
                serde_json::json!({"url": harbour.url, "bind_dn": harbour.admin_dn, "base_dn": BASE, "page_size": 20, "timeout_seconds": 30}),
                PASSWORD,
            ),
            (
                "berthing",
                SystemKind::Scim,
                serde_json::json!({"url": berthing.url, "timeout_seconds": 30}),
                "berth-token",
            ),
        ] {
            let new = NewSystem {
                name: name.into(),
                kind,
                settings,
                secret: Some(secret.into()),
            };
            engine
                .administration()
                .add_system(new, "tester")
                .await
                .expect("added");
            assert!(
                engine
                    .administration()
                    .check_system(name, None)
                    .await
                    .expect("tested")
                    .is_healthy()
            );
        }
        let mut files: Vec<RuleFile> = world::rules_of_people()
            .into_iter()
            .map(|(name, text)| RuleFile {
                name: name.into(),
                text,
            })
            .collect();
        files.push(absent_at_once());
        let (_, faults) = engine
            .administration()
            .publish_rules(&files, "tester")
            .await
            .expect("published");
        assert_eq!(
            faults,
            vec![],
            "the demo's rules have no fault against real schemas"
        );
        Tide {
            folder,
            key,
            engine,
            harbour,
            berthing,
            people,
        }
    }

    pub async fn writable() -> Tide {
        let tide = Self::start(60).await;
        tide.engine
            .administration()
            .set_system(
                "berthing",
                SystemUpdate {
                    writable: Some(vec![ObjectType::Person]),
                    armed: Some(true),
                    ..SystemUpdate::default()
                },
                "tester",
            )
            .await
            .expect("set");
        tide
    }

    /// Sets how long the service may take to show what was made in it.
    pub async fn shows_new_ones_within(&self, seconds: u16) {
        let settings = serde_json::json!({"url": self.berthing.url, "timeout_seconds": 30, "visible_after_seconds": seconds});
        self.engine
            .administration()
            .set_settings("berthing", settings, None, "tester")
            .await
            .expect("set");
    }

    pub async fn go(&self, plan: Plan) -> ChangeSetRow {
        let id = self
            .engine
            .runner()
            .begin_change_set(plan, "tester")
            .await
            .expect("begins");
        self.ended(id).await
    }

    /// Waits until a change set has ended.
    pub async fn ended(&self, id: i64) -> ChangeSetRow {
        let set = eventually(Duration::from_secs(30), async || {
            let set = self.engine.store().change_set(id).await.expect("read");
            set.ended_at.is_some().then_some(set)
        })
        .await;
        let set = set.unwrap_or_else(|| panic!("change set {id} does not end"));
        // The lock is released shortly after the end is stored.
        eventually(Duration::from_secs(30), async || {
            (!self.engine.runner().is_running()).then_some(())
        })
        .await
        .expect("the run lock is released");
        set
    }

    /// Another engine over the same store, as after a restart.
    pub fn again(&self) -> Arc<Engine> {
        Engine::new(self.engine.store().clone(), Arc::new(SystemClock))
    }

    /// Another engine over the same records, opened anew from their file.
    pub async fn reopened(&self) -> Arc<Engine> {
        let store = Store::open(&self.folder.path().join("tide.db"), self.key.clone())
            .await
            .expect("opens");
        Engine::new(store, Arc::new(SystemClock))
    }

    pub async fn run(&self) -> ChangeSetRow {
        self.go(Plan {
            carry_out: true,
            ..Plan::default()
        })
        .await
    }

    pub async fn changes(&self, set: &ChangeSetRow, word: Option<&str>) -> Vec<ChangeRow> {
        let filter = ChangeFilter {
            word: word.map(str::to_owned),
            limit: 10_000,
            ..ChangeFilter::default()
        };
        self.engine
            .store()
            .list_changes(set.id, &filter)
            .await
            .expect("read")
    }

    pub async fn lines(&self, set: &ChangeSetRow, word: &str) -> Vec<DecidedRow> {
        let filter = ChangeFilter {
            word: Some(word.into()),
            limit: 10_000,
            ..ChangeFilter::default()
        };
        self.engine
            .store()
            .list_outcomes(set.id, &filter)
            .await
            .expect("read")
    }
}

/// A clock that is ahead by so much.
pub struct Ahead(pub SignedDuration);

#[async_trait::async_trait]
impl Clock for Ahead {
    fn now(&self) -> Timestamp {
        Timestamp::now() + self.0
    }

    async fn sleep(&self, pause: Duration) {
        tokio::time::sleep(pause).await;
    }
}

pub fn count<C: Copy + Into<&'static str>>(pairs: &[(C, i64)], code: &str) -> i64 {
    pairs
        .iter()
        .find(|(found, _)| (*found).into() == code)
        .map_or(0, |(_, n)| *n)
}

/// Rules by which whoever a directory no longer shows has left at once.
pub fn absent_at_once() -> RuleFile {
    RuleFile {
        name: "lifecycle.toml".into(),
        text: "[person]\nabsence_grace_days = 0\n".into(),
    }
}

pub async fn edit(tide: &Tide) -> ldap3::Ldap {
    let (connection, mut ldap) = ldap3::LdapConnAsync::new(&tide.harbour.url)
        .await
        .expect("connects");
    tokio::spawn(async move { connection.drive().await });
    ldap.simple_bind(&tide.harbour.admin_dn, PASSWORD)
        .await
        .expect("binds")
        .success()
        .expect("accepted");
    ldap
}

pub fn set(text: &str) -> std::collections::HashSet<&str> {
    std::collections::HashSet::from([text])
}

/// Waits until the engine has looked at the clock this many further times for records that are due.
pub async fn complete_timer_scans(engine: &Engine, scans: u64) {
    let wanted = engine.cycles().timer_scans + scans;
    eventually(Duration::from_secs(30), async || {
        (engine.cycles().timer_scans >= wanted).then_some(())
    })
    .await
    .expect("the engine looks at the clock");
}
