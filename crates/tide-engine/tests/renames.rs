//! A directory that names members by their DNs, in which people are moved and renamed all the time:
//! after every run each group holds exactly whom the rules put there, under their present names.
//! With referential integrity (the server follows renames), without it, and with a server that
//! refuses members that do not exist. Answers are lost, before and after a write takes effect, and
//! the service is stopped in the middle of runs.
//!
//! 10 seeds of each (EAGER_TIDE_SEEDS says how many in all, EAGER_TIDE_SEED where they begin).
#![allow(clippy::disallowed_methods, reason = "tests run in real time")]

use async_trait::async_trait;
use rand::rngs::StdRng;
use rand::{RngExt as _, SeedableRng as _};
use std::collections::{BTreeMap, BTreeSet};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError, Weak};
use std::time::Duration;
use tide_connect::{
    ChangeEvent, ChangeStream, CheckReport, ConnectError, ConnectionState, Connector, Description,
    SnapshotItem, SnapshotStream, Write,
};
use tide_core::model::Observed;
use tide_core::rules::RuleFile;
use tide_core::schema::ValueKind;
use tide_core::states::{ChangeKind, SystemKind, WatchMode};
use tide_core::{AttributeDef, Attributes, ObjectType, Schema, Value};
use tide_engine::{
    Clock, ConnectorFactory, Engine, EngineConfig, NewSystem, Plan, Schedule, SystemUpdate,
};
use tide_store::{MasterKey, Store};
use tokio::sync::mpsc;

const ROSTER: &str = "roster";
const TOWER: &str = "tower";
const KEY: &str = "ABEiM0RVZneImaq7zN3u/wARIjNEVWZ3iJmqu8zd7v8=";
const DEPARTMENTS: [&str; 3] = ["deck", "galley", "bridge"];
const LOGINS: [&str; 9] = ["ada", "bo", "cy", "dee", "eli", "flo", "gus", "hal", "ivo"];

const RULES: [(&str, &str); 4] = [
    (
        "guards.toml",
        "[[guard]]\nchange = \"revoke\"\nmax_percent = 100\n[[guard]]\nchange = \"disable\"\nmax_percent = 100\n",
    ),
    (
        "identities.toml",
        "[person]\nlabel = \"login\"\n[person.attributes]\nnumber = { required = true, unique = true }\nlogin = {}\ndept = {}\n",
    ),
    (
        "roster.toml",
        r#"
system = "roster"
[[person.scope.condition]]
when = 'account.employed == "yes"'
reason = "no longer employed"
[[person.match]]
name = "number"
account = 'account.number'
identity = 'identity.number'
[person.inbound]
number = 'account.number'
login = 'account.login'
dept = 'account.dept'
"#,
    ),
    (
        "tower.toml",
        r#"
system = "tower"
[[person.match]]
name = "number"
account = 'account.number'
identity = 'identity.number'
[person.outbound]
dn = '"cn=" + identity.login + ",ou=" + identity.dept + ",dc=e"'
number = { value = 'identity.number', required = true }
login = 'identity.login'
[[person.membership]]
groups = '[identity.dept + "-crew", "everybody"]'
"#,
    ),
];

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Integrity {
    /// Groups hold what was written into them.
    None,
    /// A new name is put wherever the old one is; members may be names of nobody.
    Follows,
    /// The same, and members must exist, as in a domain controller.
    Enforced,
}

struct World {
    integrity: Integrity,
    accounts: BTreeMap<&'static str, BTreeMap<String, Observed>>,
    kinds: BTreeMap<String, ObjectType>,
    history: BTreeMap<&'static str, Vec<String>>,
    next: u64,
    broken: Vec<String>,
    story: Vec<String>,
    /// Answers are lost by it; none are without it.
    trouble: Option<StdRng>,
    /// How many were lost since the last one that came.
    lost: usize,
    writes: usize,
    /// What somebody does right after the next write, and when it is told.
    by_hand: Option<(Order, Weak<Engine>)>,
}

/// When a change by hand right after our own write comes to us.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Order {
    /// What is read back after the write shows it already.
    ReadBackShowsIt,
    /// It is told before our write is confirmed.
    ToldBefore,
    /// It is told after our write was confirmed.
    ToldAfter,
}

#[derive(Clone)]
struct Shared(Arc<Mutex<World>>);

fn text(observed: &Observed, name: &str) -> String {
    observed
        .attributes
        .get(name)
        .first()
        .map(ToString::to_string)
        .unwrap_or_default()
}

impl Shared {
    fn new(integrity: Integrity) -> Self {
        let world = World {
            integrity,
            accounts: BTreeMap::from([(ROSTER, BTreeMap::new()), (TOWER, BTreeMap::new())]),
            kinds: BTreeMap::new(),
            history: BTreeMap::new(),
            next: 0,
            broken: Vec::new(),
            story: Vec::new(),
            trouble: None,
            lost: 0,
            writes: 0,
            by_hand: None,
        };
        Shared(Arc::new(Mutex::new(world)))
    }

    fn lock(&self) -> MutexGuard<'_, World> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl World {
    fn add(
        &mut self,
        system: &'static str,
        kind: ObjectType,
        name: &str,
        values: &[(&str, &str)],
    ) -> String {
        self.next += 1;
        let key = format!("k{}", self.next);
        let mut attributes: Attributes = values
            .iter()
            .map(|(name, value)| ((*name).to_owned(), vec![Value::text(*value)]))
            .collect();
        if system == TOWER {
            attributes.set("dn", vec![Value::text(name)]);
            attributes.set("enabled", vec![Value::Bool(true)]);
        }
        let observed = Observed {
            key: key.clone(),
            name: name.into(),
            attributes,
            fault: None,
            version: None,
            is_exact: false,
        };
        self.accounts
            .entry(system)
            .or_default()
            .insert(key.clone(), observed);
        self.kinds.insert(key.clone(), kind);
        self.note(system, &key);
        key
    }

    fn note(&mut self, system: &'static str, key: &str) {
        self.history.entry(system).or_default().push(key.to_owned());
    }

    fn of(&self, system: &str, kind: ObjectType) -> Vec<Observed> {
        self.accounts[system]
            .values()
            .filter(|one| self.kinds.get(&one.key) == Some(&kind))
            .cloned()
            .collect()
    }

    fn members(&self, group: &str) -> BTreeSet<String> {
        let one = self
            .of(TOWER, ObjectType::Group)
            .into_iter()
            .find(|one| text(one, "cn") == group);
        one.map(|one| {
            one.attributes
                .get("member")
                .iter()
                .map(ToString::to_string)
                .collect()
        })
        .unwrap_or_default()
    }

    fn set_members(&mut self, key: &str, members: Vec<Value>) {
        if let Some(group) = self
            .accounts
            .get_mut(TOWER)
            .and_then(|all| all.get_mut(key))
        {
            group.attributes.set("member", members);
        }
        self.note(TOWER, key);
    }

    fn is_there(&self, name: &str) -> bool {
        self.accounts[TOWER].values().any(|one| one.name == name)
    }

    /// What a server with referential integrity does by itself when an entry gets another name, or
    /// is deleted.
    fn follow(&mut self, old: &str, new: Option<&str>) {
        if self.integrity == Integrity::None {
            return;
        }
        let old = Value::Reference(old.to_owned());
        for group in self.of(TOWER, ObjectType::Group) {
            let mut members = group.attributes.get("member").to_vec();
            if members.contains(&old) {
                members.retain(|member| *member != old);
                members.extend(new.map(|new| Value::Reference(new.to_owned())));
                self.set_members(&group.key, members);
            }
        }
    }

    /// Is an answer lost now? Then whether the write takes effect.
    fn loses_answer(&mut self) -> Option<bool> {
        self.writes += 1;
        let (lost, dice) = (self.lost, self.trouble.as_mut()?);
        // A change is sent four times: more in a row would be a system that is down.
        let takes_effect = (lost < 2 && dice.random_ratio(1, 6)).then(|| dice.random_bool(0.5));
        self.lost = if takes_effect.is_some() { lost + 1 } else { 0 };
        takes_effect
    }

    fn write(&mut self, write: &Write) -> Result<Observed, ConnectError> {
        let value = |name: &str| {
            write
                .values
                .iter()
                .find(|value| value.attribute == name)
                .and_then(|value| value.after.first())
        };
        let key = match &write.account {
            Some((key, _)) => key.clone(),
            None => {
                let dn = value("dn").map(ToString::to_string).unwrap_or_default();
                self.add(TOWER, write.object, &dn, &[])
            }
        };
        let named = value("dn").map(ToString::to_string);
        let one = self
            .accounts
            .get_mut(TOWER)
            .and_then(|all| all.get_mut(&key));
        let Some(one) = one else {
            return Err(ConnectError::permanent(
                "gone",
                "it is not there",
                "read it again",
            ));
        };
        let old = one.name.clone();
        for value in &write.values {
            one.attributes.set(&value.attribute, value.after.clone());
        }
        one.name = named.unwrap_or_else(|| old.clone());
        let shown = one.clone();
        if shown.name != old {
            self.follow(&old, Some(&shown.name));
        }
        self.note(TOWER, &key);
        Ok(shown)
    }

    fn change_members(&mut self, write: &Write) -> Result<(), ConnectError> {
        let (key, _) = write.account.clone().expect("a group");
        let group = self.accounts[TOWER]
            .get(&key)
            .cloned()
            .expect("it is there");
        let mut members = group.attributes.get("member").to_vec();
        for (at, value) in write.values.iter().enumerate() {
            for new in &value.after {
                if !self.is_there(&new.to_string()) {
                    if self.integrity == Integrity::Enforced {
                        return Err(ConnectError::permanent(
                            "refused",
                            format!("{new} does not exist"),
                            "correct it",
                        ));
                    }
                    self.broken
                        .push(format!("{new} was put into {}, and is nobody", group.name));
                }
                if !members.contains(new) {
                    members.push(new.clone());
                }
            }
            for old in &value.before {
                // A former name may be followed by now; a present one is there.
                let is_first = self.trouble.is_none() && at == 0;
                if is_first
                    && write.kind == ChangeKind::Revoke
                    && write.values.len() == 1
                    && !members.contains(old)
                {
                    self.broken.push(format!(
                        "{old} was taken out of {}, and is not in it: {members:?}",
                        group.name
                    ));
                }
                members.retain(|member| member != old);
            }
        }
        self.set_members(&key, members);
        Ok(())
    }
}

impl ConnectorFactory for Shared {
    fn connector(&self, system: &str, access: Arc<ConnectionState>) -> Option<Arc<dyn Connector>> {
        let name = [ROSTER, TOWER].into_iter().find(|name| *name == system)?;
        Some(Arc::new(Simulated {
            name,
            world: self.clone(),
            access,
        }))
    }
}

struct Simulated {
    name: &'static str,
    world: Shared,
    access: Arc<ConnectionState>,
}

fn schema(system: &str) -> BTreeMap<ObjectType, Schema> {
    let mut schema = Schema::default();
    for name in ["number", "login", "dept", "employed", "cn"] {
        schema.put(AttributeDef {
            case_exact: true,
            ..AttributeDef::text(name)
        });
    }
    if system == ROSTER {
        return [(ObjectType::Person, schema)].into();
    }
    schema.put(AttributeDef::text("dn"));
    schema.put(AttributeDef {
        kind: ValueKind::Reference,
        multi_valued: true,
        ..AttributeDef::text("member")
    });
    schema.put(AttributeDef {
        kind: ValueKind::Bool,
        ..AttributeDef::text("enabled")
    });
    schema.name_attribute = Some("dn".into());
    schema.state_attribute = Some("enabled".into());
    schema.refers_by_name = true;
    [
        (ObjectType::Person, schema.clone()),
        (ObjectType::Group, schema),
    ]
    .into()
}

#[async_trait]
impl Connector for Simulated {
    async fn check(&self, _: &mut CheckReport) {}

    async fn describe(&self) -> Result<Description, ConnectError> {
        Ok(Description {
            schema: schema(self.name),
            abilities: Vec::new(),
            profile: Vec::new(),
            own: Vec::new(),
        })
    }

    fn read_all(self: Arc<Self>, object: ObjectType) -> SnapshotStream {
        let (out, showing) = mpsc::channel(4);
        let all = self.world.lock().of(self.name, object);
        tokio::spawn(async move {
            let count = all.len();
            let _ = out.send(Ok(SnapshotItem::Batch(all))).await;
            let _ = out.send(Ok(SnapshotItem::Complete(count))).await;
        });
        showing
    }

    async fn watch_modes(&self) -> Result<Vec<WatchMode>, ConnectError> {
        Ok(vec![WatchMode::ChangeNumber, WatchMode::FullRead])
    }

    async fn current_cursor(
        &self,
        _: ObjectType,
        _: WatchMode,
    ) -> Result<Option<String>, ConnectError> {
        Ok(Some(
            self.world
                .lock()
                .history
                .get(self.name)
                .map_or(0, Vec::len)
                .to_string(),
        ))
    }

    fn watch(
        self: Arc<Self>,
        object: ObjectType,
        _: WatchMode,
        from: Option<String>,
    ) -> ChangeStream {
        let (out, following) = mpsc::channel(256);
        let world = self.world.lock();
        let history = world.history.get(self.name).cloned().unwrap_or_default();
        let from: usize = from.and_then(|from| from.parse().ok()).unwrap_or(0);
        let changed: BTreeSet<&String> = history.get(from..).unwrap_or_default().iter().collect();
        let mut news = Vec::new();
        for key in changed
            .into_iter()
            .filter(|key| world.kinds.get(*key) == Some(&object))
        {
            match world.accounts[self.name].get(key) {
                Some(account) => news.push(ChangeEvent::Changed(vec![account.clone()])),
                None => news.push(ChangeEvent::Gone(vec![key.clone()])),
            }
        }
        news.push(ChangeEvent::Checkpoint(history.len().to_string()));
        drop(world);
        tokio::spawn(async move {
            for one in news {
                let _ = out.send(Ok(one)).await;
            }
        });
        following
    }

    async fn find(
        &self,
        object: ObjectType,
        probes: &[(String, Value)],
    ) -> Result<Vec<Observed>, ConnectError> {
        let all = self.world.lock().of(self.name, object);
        let fits = |one: &Observed| {
            probes
                .iter()
                .any(|(name, value)| one.attributes.get(name).contains(value))
        };
        Ok(all.into_iter().filter(fits).collect())
    }

    async fn write(&self, write: &Write) -> Result<Observed, ConnectError> {
        self.access.permit_write(write.object)?;
        tokio::task::yield_now().await;
        let (written, by_hand) = {
            let mut world = self.world.lock();
            let values: Vec<_> = write.values.iter().map(|value| &value.after).collect();
            let line = format!("{} {:?} {values:?}", write.kind, write.account);
            world.story.push(line);
            let lost = world.loses_answer();
            if lost == Some(false) {
                return Err(lost_answer());
            }
            let written = world.write(write)?;
            if lost.is_some() {
                return Err(if write.kind == ChangeKind::Create {
                    unknown_answer()
                } else {
                    lost_answer()
                });
            }
            let is_awaited = write.values.iter().any(|value| value.attribute == "login");
            let by_hand = if is_awaited {
                world.by_hand.take()
            } else {
                None
            };
            if by_hand.is_some() {
                let one = world
                    .accounts
                    .get_mut(TOWER)
                    .and_then(|all| all.get_mut(&written.key))
                    .expect("it is there");
                one.attributes.set("login", vec![Value::text("pirate")]);
                world.note(TOWER, &written.key);
            }
            (written, by_hand)
        };
        let Some((order, engine)) = by_hand else {
            return Ok(written);
        };
        if let Some(engine) = engine.upgrade().filter(|_| order == Order::ToldBefore) {
            engine
                .ingest()
                .sync_once(TOWER, ObjectType::Person)
                .await
                .expect("told");
        }
        let now = self.world.lock().accounts[TOWER][&written.key].clone();
        Ok(if order == Order::ReadBackShowsIt {
            now
        } else {
            written
        })
    }

    async fn write_membership(&self, write: &Write) -> Result<(), ConnectError> {
        self.access.permit_write(write.object)?;
        tokio::task::yield_now().await;
        let mut world = self.world.lock();
        let values: Vec<_> = write
            .values
            .iter()
            .map(|value| (&value.before, &value.after))
            .collect();
        let line = format!("{} {:?} {values:?}", write.kind, write.account);
        world.story.push(line);
        let lost = world.loses_answer();
        if lost == Some(false) {
            return Err(lost_answer());
        }
        world.change_members(write)?;
        lost.map_or(Ok(()), |_| Err(lost_answer()))
    }
}

fn lost_answer() -> ConnectError {
    ConnectError::transient("cut", "the answer was lost", "it is tried again")
}

fn unknown_answer() -> ConnectError {
    ConnectError::unknown_outcome("cut", "the answer was lost", "it is looked for")
}

/// The machine's clock, with pauses that do not last.
struct Hurried;

#[async_trait]
impl Clock for Hurried {
    fn now(&self) -> jiff::Timestamp {
        jiff::Timestamp::now()
    }

    async fn sleep(&self, _: Duration) {
        tokio::time::sleep(Duration::from_millis(1)).await;
    }
}

struct Sim {
    /// Answers are lost, and the service is stopped.
    with_trouble: bool,
    world: Shared,
    random: StdRng,
    next: u32,
}

impl Sim {
    fn free_login(&mut self) -> Option<&'static str> {
        let world = self.world.lock();
        let used: BTreeSet<String> = world
            .of(ROSTER, ObjectType::Person)
            .iter()
            .map(|one| text(one, "login"))
            .collect();
        let free: Vec<&str> = LOGINS
            .into_iter()
            .filter(|login| !used.contains(*login))
            .collect();
        drop(world);
        (!free.is_empty()).then(|| free[self.random.random_range(0..free.len())])
    }

    fn edit(&mut self) {
        let people = self.world.lock().of(ROSTER, ObjectType::Person);
        let department = DEPARTMENTS[self.random.random_range(0..3)];
        if people.len() < 3 || self.random.random_ratio(1, 6) {
            let Some(login) = self.free_login() else {
                return;
            };
            self.next += 1;
            let number = self.next.to_string();
            let values = [
                ("number", number.as_str()),
                ("login", login),
                ("dept", department),
                ("employed", "yes"),
            ];
            self.world
                .lock()
                .add(ROSTER, ObjectType::Person, &number, &values);
            return;
        }
        let one = &people[self.random.random_range(0..people.len())];
        let what = self.random.random_range(0..10);
        // A name that is free for a moment is taken by somebody else at once.
        let login = if (4..8).contains(&what) {
            self.free_login()
        } else {
            None
        };
        let mut world = self.world.lock();
        let Some(there) = world
            .accounts
            .get_mut(ROSTER)
            .and_then(|all| all.get_mut(&one.key))
        else {
            return;
        };
        let mut set =
            |name: &str, value: &str| there.attributes.set(name, vec![Value::text(value)]);
        match what {
            0..=5 => set("dept", department),
            _ if login.is_none() => {
                let employed = if text(one, "employed") == "yes" {
                    "no"
                } else {
                    "yes"
                };
                set("employed", employed);
            }
            _ => {}
        }
        if let Some(login) = login {
            there.attributes.set("login", vec![Value::text(login)]);
        }
        world
            .story
            .push(format!("edit: {what} of {}", text(one, "number")));
        world.note(ROSTER, &one.key);
    }

    /// Each group holds whom the rules put there, by present names, and nobody else. Whose new name
    /// another account still has is held until that one has another: then `at_rest` is false.
    fn right(&self, after: &str, at_rest: bool) -> Result<(), String> {
        let mut world = self.world.lock();
        let broken = std::mem::take(&mut world.broken);
        if !broken.is_empty() {
            return Err(format!("after {after}: {}", broken.join("; ")));
        }
        let names: BTreeMap<String, String> = world
            .of(TOWER, ObjectType::Person)
            .iter()
            .map(|one| (text(one, "number"), one.name.clone()))
            .collect();
        let people = world.of(ROSTER, ObjectType::Person);
        let is_held = |one: &Observed| {
            let wanted = format!("cn={},ou={},dc=e", text(one, "login"), text(one, "dept"));
            !at_rest
                && names
                    .get(&text(one, "number"))
                    .is_some_and(|name| *name != wanted)
        };
        let held_names: BTreeSet<&String> = people
            .iter()
            .filter(|one| is_held(one))
            .filter_map(|one| names.get(&text(one, "number")))
            .collect();
        for group in DEPARTMENTS
            .map(|department| format!("{department}-crew"))
            .into_iter()
            .chain(["everybody".to_owned()])
        {
            let belongs = |one: &&Observed| {
                group == "everybody" || group == format!("{}-crew", text(one, "dept"))
            };
            let employed = people
                .iter()
                .filter(|one| text(one, "employed") == "yes" && !is_held(one));
            let wanted: BTreeSet<String> = employed
                .filter(belongs)
                .filter_map(|one| names.get(&text(one, "number")))
                .cloned()
                .collect();
            let mut held = world.members(&group);
            held.retain(|name| !held_names.contains(name));
            if held != wanted {
                return Err(format!(
                    "after {after}: {group} holds {held:?}, and should hold {wanted:?}"
                ));
            }
        }
        Ok(())
    }

    /// An engine over the records in a folder.
    async fn open(&mut self, folder: &std::path::Path) -> Arc<Engine> {
        let store = Store::open(
            &folder.join("tide.db"),
            MasterKey::parse(KEY).expect("a key"),
        )
        .await
        .expect("a store");
        let at_a_time = if self.random.random_bool(0.5) { 1 } else { 8 };
        let ties = EngineConfig {
            systems: Some(Arc::new(self.world.clone())),
            seed: Some(1),
            accounts_at_a_time: at_a_time,
            ..EngineConfig::default()
        };
        Engine::with_config(store, Arc::new(Hurried), ties)
    }

    /// An engine with everything connected.
    async fn engine(&mut self, folder: &std::path::Path) -> Result<Arc<Engine>, String> {
        let fault =
            |what: &'static str| move |error: tide_engine::EngineError| format!("{what}: {error}");
        let engine = self.open(folder).await;
        for name in [ROSTER, TOWER] {
            let settings = serde_json::json!({"url": "http://127.0.0.1:9/"});
            let system = NewSystem {
                name: name.into(),
                kind: SystemKind::Scim,
                settings,
                secret: Some("it is simulated".into()),
            };
            engine
                .administration()
                .add_system(system, "sim")
                .await
                .map_err(fault("adding"))?;
            let writable = if name == TOWER {
                vec![ObjectType::Person, ObjectType::Group]
            } else {
                Vec::new()
            };
            let change = SystemUpdate {
                writable: Some(writable),
                armed: Some(true),
                ..SystemUpdate::default()
            };
            engine
                .administration()
                .set_system(name, change, "sim")
                .await
                .map_err(fault("arming"))?;
            engine
                .administration()
                .set_schedule(
                    name,
                    &Schedule {
                        watch: true,
                        ..Schedule::default()
                    },
                    "sim",
                )
                .await
                .map_err(fault("a schedule"))?;
        }
        for group in DEPARTMENTS
            .map(|department| format!("{department}-crew"))
            .iter()
            .map(String::as_str)
            .chain(["everybody"])
        {
            self.world.lock().add(
                TOWER,
                ObjectType::Group,
                &format!("cn={group},ou=groups,dc=e"),
                &[("cn", group), ("objectClass", "group")],
            );
        }
        engine.ingest().read_all().await.map_err(fault("reading"))?;
        let files: Vec<RuleFile> = RULES
            .iter()
            .map(|(name, text)| RuleFile {
                name: (*name).into(),
                text: (*text).into(),
            })
            .collect();
        engine
            .administration()
            .publish_rules(&files, "sim")
            .await
            .map_err(fault("rules"))?;
        Ok(engine)
    }

    async fn lives(&mut self) -> Result<(), String> {
        let folder = tempfile::tempdir().map_err(|error| error.to_string())?;
        let mut engine = self.engine(folder.path()).await?;
        let fault =
            |what: &'static str| move |error: tide_engine::EngineError| format!("{what}: {error}");
        for step in 0..self.random.random_range(4..9) {
            for _ in 0..self.random.random_range(1..5) {
                self.edit();
            }
            let by_news = step > 0 && self.random.random_bool(0.5);
            self.world
                .lock()
                .story
                .push(format!("step {step}, by news: {by_news}"));
            if by_news {
                for (system, kind) in [
                    (ROSTER, ObjectType::Person),
                    (TOWER, ObjectType::Person),
                    (TOWER, ObjectType::Group),
                ] {
                    engine
                        .ingest()
                        .sync_once(system, kind)
                        .await
                        .map_err(fault("catching up"))?;
                }
                engine
                    .runner()
                    .run_once()
                    .await
                    .map_err(fault("a run on news"))?;
            } else if self.with_trouble && self.random.random_bool(0.4) {
                engine = self.stopped_in_a_run(engine, folder.path()).await?;
            } else {
                self.run(&engine).await?;
            }
            self.right(&format!("step {step}"), false)?;
        }
        // Nothing is left to be done, and nothing is done.
        self.world.lock().trouble = None;
        for last in 0..4 {
            self.world.lock().story.clear();
            self.run(&engine).await?;
            self.right("the end", false)?;
            let story = self.world.lock().story.clone();
            if story.is_empty() {
                self.right("the end", true)?;
                break;
            }
            if last == 3 {
                return Err(format!("it does not come to rest: {story:?}"));
            }
        }
        engine.stop().await;
        engine.store().close().await;
        Ok(())
    }

    /// A run in the middle of which the service stops; the next start goes on with it.
    async fn stopped_in_a_run(
        &mut self,
        engine: Arc<Engine>,
        folder: &std::path::Path,
    ) -> Result<Arc<Engine>, String> {
        let plan = Plan {
            carry_out: true,
            ..Plan::default()
        };
        let last = self.world.lock().writes + self.random.random_range(1..6);
        let id = engine
            .runner()
            .begin_change_set(plan, "sim")
            .await
            .map_err(|error| error.to_string())?;
        let ended = async |engine: &Engine| {
            engine
                .store()
                .change_set(id)
                .await
                .is_ok_and(|set| set.ended_at.is_some())
        };
        while self.world.lock().writes < last && !ended(&engine).await {
            tokio::time::sleep(Duration::from_micros(200)).await;
        }
        engine.stop().await;
        engine.store().close().await;
        self.world
            .lock()
            .story
            .push("stopped, and started again".into());
        let engine = self.open(folder).await;
        engine
            .runner()
            .resume_interrupted()
            .await
            .map_err(|error| error.to_string())?;
        while !ended(&engine).await {
            tokio::time::sleep(Duration::from_millis(1)).await;
        }
        // What was decided before the stop may be half of what is to be done: the next run does the
        // rest.
        self.run(&engine).await?;
        Ok(engine)
    }

    async fn run(&self, engine: &Arc<Engine>) -> Result<(), String> {
        let plan = Plan {
            carry_out: true,
            ..Plan::default()
        };
        let mut events = engine.events();
        let id = engine
            .runner()
            .begin_change_set(plan, "sim")
            .await
            .map_err(|error| error.to_string())?;
        loop {
            let set = engine
                .store()
                .change_set(id)
                .await
                .map_err(|error| error.to_string())?;
            if set.ended_at.is_some() {
                return Ok(());
            }
            let _ = events.recv().await;
        }
    }
}

fn sim(integrity: Integrity, seed: u64, with_trouble: bool) -> Sim {
    let world = Shared::new(integrity);
    world.lock().trouble = with_trouble.then(|| StdRng::seed_from_u64(!seed));
    Sim {
        with_trouble,
        world,
        random: StdRng::seed_from_u64(seed),
        next: 0,
    }
}

fn holds(integrity: Integrity) {
    let number = |name: &str, usual: u64| {
        std::env::var(name)
            .ok()
            .and_then(|text| text.parse().ok())
            .unwrap_or(usual)
    };
    let (seeds, first) = (
        number("EAGER_TIDE_SEEDS", 1000) / 100,
        number("EAGER_TIDE_SEED", 1),
    );
    for seed in first..first + seeds.max(1) {
        let mut sim = sim(integrity, seed, seed % 2 == 0);
        let runtime = tokio::runtime::Builder::new_current_thread()
            .enable_all()
            .build()
            .expect("a runtime");
        let told = runtime.block_on(sim.lives());
        let story = sim.world.lock().story.join("\n");
        assert!(
            told.is_ok(),
            "seed {seed}, {integrity:?}: {}\n{story}",
            told.err().unwrap_or_default()
        );
    }
}

#[test]
fn memberships_are_right_after_every_run_without_referential_integrity() {
    holds(Integrity::None);
}

#[test]
fn memberships_are_right_after_every_run_with_referential_integrity() {
    holds(Integrity::Follows);
}

#[test]
fn memberships_are_right_after_every_run_where_members_must_exist() {
    holds(Integrity::Enforced);
}

/// Somebody changes a value right after we wrote it: in whichever order that comes to us, it is put
/// right and not lost.
#[test]
fn a_change_by_hand_right_after_our_own_write_is_not_lost() {
    for order in [Order::ReadBackShowsIt, Order::ToldBefore, Order::ToldAfter] {
        let mut sim = sim(Integrity::None, 3, false);
        let runtime = tokio::runtime::Builder::new_current_thread()
            .enable_all()
            .build()
            .expect("a runtime");
        runtime.block_on(async {
            let folder = tempfile::tempdir().expect("a folder");
            let engine = sim.engine(folder.path()).await.expect("an engine");
            let values = [
                ("number", "1"),
                ("login", "ada"),
                ("dept", "deck"),
                ("employed", "yes"),
            ];
            let key = sim
                .world
                .lock()
                .add(ROSTER, ObjectType::Person, "1", &values);
            let login = || {
                let all = sim.world.lock().of(TOWER, ObjectType::Person);
                all.first()
                    .map(|one| text(one, "login"))
                    .unwrap_or_default()
            };
            let told = async |system| {
                engine
                    .ingest()
                    .sync_once(system, ObjectType::Person)
                    .await
                    .expect("told");
                engine.runner().run_once().await.expect("run");
            };
            sim.run(&engine).await.expect("run");
            assert_eq!(login(), "ada");
            told(TOWER).await;
            {
                let mut world = sim.world.lock();
                let one = world
                    .accounts
                    .get_mut(ROSTER)
                    .and_then(|all| all.get_mut(&key))
                    .expect("there");
                one.attributes.set("dept", vec![Value::text("galley")]);
                one.attributes.set("login", vec![Value::text("ada.quay")]);
                world.note(ROSTER, &key);
            }
            // The rename comes first; the change of the login is what somebody overtakes.
            told(ROSTER).await;
            {
                let mut world = sim.world.lock();
                let one = world
                    .accounts
                    .get_mut(ROSTER)
                    .and_then(|all| all.get_mut(&key))
                    .expect("there");
                one.attributes.set("login", vec![Value::text("ada.holm")]);
                world.note(ROSTER, &key);
                world.by_hand = Some((order, Arc::downgrade(&engine)));
            }
            told(ROSTER).await;
            for _ in 0..3 {
                told(TOWER).await;
            }
            assert_eq!(
                login(),
                "ada.holm",
                "{order:?}: {:#?}",
                sim.world.lock().story
            );
            engine.stop().await;
        });
    }
}
