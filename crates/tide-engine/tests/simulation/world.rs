//! The simulated systems: they hold accounts, remember what happened, misbehave as the seed says,
//! and note every promise that is broken by what arrives.

use async_trait::async_trait;
use jiff::Timestamp;
use rand::rngs::StdRng;
use rand::{RngExt as _, SeedableRng as _};
use std::collections::{BTreeMap, BTreeSet};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;
use tide_connect::{
    ChangeEvent, ChangeStream, CheckReport, ConnectError, ConnectionState, Connector, Description,
    SnapshotItem, SnapshotStream, Write,
};
use tide_core::model::Observed;
use tide_core::schema::ValueKind;
use tide_core::states::{ChangeKind, WatchMode};
use tide_core::{AttributeDef, Attributes, ObjectType, Schema, Value};
use tide_engine::{Clock, ConnectorFactory};
use tokio::sync::mpsc;

pub const HARBOUR: &str = "harbour";
pub const BERTHING: &str = "berthing";
pub const CLASSROOM: &str = "classroom";
pub const ALL: [&str; 3] = [HARBOUR, BERTHING, CLASSROOM];

/// One account as a system holds it.
#[derive(Debug, Clone, PartialEq)]
pub struct Held {
    pub name: String,
    pub attributes: Attributes,
}

/// A request in a system's own queue.
struct Queued {
    write: Write,
    asked: usize,
    fails: bool,
    done: Option<Observed>,
}

/// One system.
#[derive(Default)]
pub struct Place {
    pub accounts: BTreeMap<String, Held>,
    /// What changed, in order: the keys, and what was there then.
    history: Vec<(String, Option<Observed>)>,
    /// It tells of each state, late, and says which one it is; others tell what is there when they
    /// are asked.
    tells_states: bool,
    versions: BTreeMap<String, String>,
    next: u64,
    queue: Vec<Queued>,
    pub read_only: bool,
    /// Writes that found everything as they want it.
    pub needless: Vec<String>,
    /// Writes that took effect.
    pub effects: usize,
    /// The accounts that we wrote to.
    pub ours: BTreeSet<String>,
}

/// All of it.
pub struct World {
    pub now: Timestamp,
    pub places: BTreeMap<&'static str, Place>,
    /// Each system's own, so that what happens to one does not hang on when another is asked.
    dice: BTreeMap<&'static str, StdRng>,
    /// One request in so many goes wrong; none when it is zero.
    pub trouble: u32,
    /// Each write takes a moment, before and after it takes effect.
    pub slow: bool,
    /// One system takes one write in three into a queue of its own.
    pub queues: bool,
    /// The process dies at a system's request after so many.
    pub dies_in: Option<(&'static str, usize)>,
    pub died: Arc<tokio::sync::Notify>,
    /// Numbers of people who were gone or out of scope at some time: only they may be disabled.
    pub ever_out: BTreeSet<String>,
    /// Promises that were broken.
    pub broken: Vec<String>,
    /// The kinds of the writes that arrived in this run, by system, each change's first only.
    pub arrived: BTreeMap<&'static str, Vec<(ChangeKind, String)>>,
    /// What went wrong, for who looks at a failing seed.
    pub story: Vec<String>,
}

#[derive(Clone)]
pub struct Shared(pub Arc<Mutex<World>>);

/// What is done to one request.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Fault {
    None,
    /// It takes effect, and the answer is lost.
    LostAfter,
    /// The answer is lost, and nothing took effect.
    LostBefore,
    TooMany,
    Failed,
    Down,
    Queue,
    QueueAndFail,
    Die,
    DieAfter,
}

impl Shared {
    pub fn new(seed: u64) -> Shared {
        let places = ALL
            .into_iter()
            .map(|name| {
                (
                    name,
                    Place {
                        tells_states: name == BERTHING,
                        ..Place::default()
                    },
                )
            })
            .collect();
        Shared(Arc::new(Mutex::new(World {
            now: "2027-03-01T06:00:00Z".parse().unwrap_or_default(),
            places,
            dice: (0x5eed..)
                .zip(ALL)
                .map(|(salt, name)| (name, StdRng::seed_from_u64(seed ^ salt << 32)))
                .collect(),
            trouble: 0,
            slow: false,
            queues: false,
            dies_in: None,
            died: Arc::default(),
            ever_out: BTreeSet::new(),
            broken: Vec::new(),
            arrived: BTreeMap::new(),
            story: Vec::new(),
        })))
    }

    pub fn lock(&self) -> MutexGuard<'_, World> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

pub fn text(attributes: &Attributes, name: &str) -> String {
    attributes
        .get(name)
        .first()
        .map(ToString::to_string)
        .unwrap_or_default()
}

impl Place {
    pub fn note(&mut self, key: &str) {
        let version = (self.tells_states && self.accounts.contains_key(key))
            .then(|| format!("{:08}", self.history.len()));
        self.versions
            .extend(version.map(|version| (key.to_owned(), version)));
        let shown = self.shown(key);
        self.history.push((key.to_owned(), shown));
    }

    /// Somebody makes an account there.
    pub fn add(&mut self, prefix: &str, attributes: Attributes) -> String {
        self.next += 1;
        let key = format!("{prefix}{}", self.next);
        let name = format!("{}-{key}", text(&attributes, "name"));
        self.accounts.insert(key.clone(), Held { name, attributes });
        self.note(&key);
        key
    }

    fn shown(&self, key: &str) -> Option<Observed> {
        let held = self.accounts.get(key)?;
        let (name, attributes) = (held.name.clone(), held.attributes.clone());
        Some(Observed {
            key: key.to_owned(),
            name,
            attributes,
            fault: None,
            version: self.versions.get(key).cloned(),
            is_exact: true,
        })
    }
}

impl World {
    pub fn place(&mut self, name: &str) -> &mut Place {
        self.places.get_mut(name).expect("a known system")
    }

    /// Which of some things goes wrong with a reading: nothing is 0.
    fn trouble_with(&mut self, system: &str, kinds: u32) -> u32 {
        let trouble = self.trouble;
        let dice = self.dice.get_mut(system).expect("a known system");
        if trouble > 0 && dice.random_ratio(1, trouble) {
            dice.random_range(1..kinds)
        } else {
            0
        }
    }

    fn fault(&mut self, system: &str) -> Fault {
        let trouble = self.trouble;
        let dice = self.dice.get_mut(system).expect("a known system");
        if let Some((_, left)) = self.dies_in.filter(|(whose, _)| *whose == system) {
            if left == 0 {
                self.dies_in = None;
                return if dice.random_bool(0.5) {
                    Fault::Die
                } else {
                    Fault::DieAfter
                };
            }
            self.dies_in = self.dies_in.map(|(whose, _)| (whose, left - 1));
        }
        if self.queues && system == CLASSROOM && dice.random_ratio(1, 3) {
            return Fault::Queue;
        }
        if trouble == 0 || !dice.random_ratio(1, trouble) {
            return Fault::None;
        }
        match dice.random_range(0..16) {
            0..=3 => Fault::LostAfter,
            4..=6 => Fault::LostBefore,
            7..=9 => Fault::TooMany,
            10..=12 => Fault::Failed,
            13 => Fault::Down,
            // Only this one has a queue of its own.
            14 if system == CLASSROOM => Fault::Queue,
            15 if system == CLASSROOM => Fault::QueueAndFail,
            _ => Fault::None,
        }
    }

    /// What a write does to a system.
    fn effect(&mut self, system: &'static str, write: &Write) -> Result<Observed, ConnectError> {
        let out = write.kind == ChangeKind::Disable;
        let (ever_out, place) = (self.ever_out.clone(), self.place(system));
        let mut wrong = Vec::new();
        place.effects += 1;
        let key = match &write.account {
            Some((key, _)) if place.accounts.contains_key(key) => key.clone(),
            Some((key, _)) => {
                return Err(ConnectError::permanent(
                    "gone",
                    format!("{key} is not there any more"),
                    "read it again",
                ));
            }
            None => {
                let mut attributes = Attributes::new();
                write
                    .values
                    .iter()
                    .for_each(|value| attributes.set(&value.attribute, value.after.clone()));
                let number = text(&attributes, "number");
                if place
                    .accounts
                    .values()
                    .any(|held| text(&held.attributes, "number") == number)
                {
                    wrong.push(format!("{system}: number {number} got a second account"));
                }
                if attributes.get("active").is_empty() {
                    attributes.set("active", vec![Value::Bool(true)]);
                }
                place.add(&system[..1], attributes)
            }
        };
        if let Some(held) = place.accounts.get_mut(&key) {
            let before = held.attributes.clone();
            for value in &write.values {
                // This system writes addresses in its own way.
                let own = |value: &Value| Value::text(value.to_string().to_lowercase());
                let after = if value.attribute == "mail" {
                    value.after.iter().map(own).collect()
                } else {
                    value.after.clone()
                };
                held.attributes.set(&value.attribute, after);
            }
            if write.account.is_some() && held.attributes == before {
                place.needless.push(format!(
                    "{system}: {} of {key} changes nothing: {:?}",
                    write.kind, write.values
                ));
            }
            let number = text(&held.attributes, "number");
            if out && !ever_out.contains(&number) {
                wrong.push(format!(
                    "{system}: number {number} was disabled, and never left"
                ));
            }
        }
        place.ours.insert(key.clone());
        place.note(&key);
        let shown = place
            .shown(&key)
            .ok_or_else(|| ConnectError::permanent("gone", "it is not there", "read it again"));
        self.broken.extend(wrong);
        shown
    }
}

/// A clock that stands still until somebody waits.
#[async_trait]
impl Clock for Shared {
    fn now(&self) -> Timestamp {
        self.lock().now
    }

    async fn sleep(&self, pause: Duration) {
        {
            let mut world = self.lock();
            world.now = world.now.saturating_add(pause).unwrap_or(Timestamp::MAX);
        }
        tokio::task::yield_now().await;
    }
}

impl ConnectorFactory for Shared {
    fn connector(&self, system: &str, access: Arc<ConnectionState>) -> Option<Arc<dyn Connector>> {
        let name = ALL.into_iter().find(|name| *name == system)?;
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

fn schema(system: &str) -> Schema {
    let names: &[&str] = match system {
        HARBOUR => &[
            "number", "name", "mail", "title", "login", "employed", "manager",
        ],
        BERTHING => &["number", "name", "mail", "title", "login", "manager"],
        _ => &["number", "name"],
    };
    let mut schema = Schema::default();
    for name in names {
        let kind = if *name == "manager" {
            ValueKind::Reference
        } else {
            ValueKind::Text
        };
        schema.put(AttributeDef {
            kind,
            case_exact: *name != "mail",
            ..AttributeDef::text(*name)
        });
    }
    if system != HARBOUR {
        schema.put(AttributeDef {
            kind: ValueKind::Bool,
            ..AttributeDef::text("active")
        });
        schema.state_attribute = Some("active".into());
    }
    schema
}

impl Simulated {
    async fn takes_a_moment(&self) {
        let pause = {
            let mut world = self.world.lock();
            let slow = world.slow;
            world
                .dice
                .get_mut(self.name)
                .filter(|_| slow)
                .map(|dice| dice.random_range(0..4))
        };
        if let Some(pause) = pause {
            tokio::time::sleep(Duration::from_millis(pause)).await;
        }
    }

    /// Dies here: nothing after it happens.
    async fn die(&self) -> ConnectError {
        let died = self.world.lock().died.clone();
        died.notify_one();
        std::future::pending::<()>().await;
        ConnectError::transient("dead", "never seen", "never seen")
    }
}

#[async_trait]
impl Connector for Simulated {
    async fn check(&self, _: &mut CheckReport) {}

    async fn describe(&self) -> Result<Description, ConnectError> {
        let schema = [(ObjectType::Person, schema(self.name))].into();
        Ok(Description {
            schema,
            abilities: Vec::new(),
            profile: Vec::new(),
            own: Vec::new(),
        })
    }

    fn read_all(self: Arc<Self>, object: ObjectType) -> SnapshotStream {
        let (out, showing) = mpsc::channel(64);
        let (accounts, fault, cut) = {
            let mut world = self.world.lock();
            let fault = world.trouble_with(self.name, 5);
            let place = world.place(self.name);
            let keys: Vec<String> = if object == ObjectType::Person {
                place.accounts.keys().cloned().collect()
            } else {
                Vec::new()
            };
            let accounts: Vec<Observed> = keys.iter().filter_map(|key| place.shown(key)).collect();
            let cut = match (accounts.len(), world.dice.get_mut(self.name)) {
                (0, _) | (_, None) => 0,
                (all, Some(dice)) => dice.random_range(0..all),
            };
            if fault > 0 {
                let line = format!("{}: a reading goes wrong ({fault})", self.name);
                world.story.push(line);
            }
            (accounts, fault, cut)
        };
        let all = accounts.len();
        let shown: Vec<Observed> = if fault > 0 {
            accounts.into_iter().take(cut).collect()
        } else {
            accounts
        };
        tokio::spawn(async move {
            for batch in shown.chunks(3) {
                if out
                    .send(Ok(SnapshotItem::Batch(batch.to_vec())))
                    .await
                    .is_err()
                {
                    return;
                }
            }
            let end = match fault {
                // Said to be complete, and it is not.
                1 => Ok(SnapshotItem::Complete(all.max(cut + 1))),
                2 => return,
                3 => Err(ConnectError::transient(
                    "cut",
                    "the connection was closed",
                    "it is read again",
                )),
                4 => Err(ConnectError::system_down(
                    "token_refused",
                    "the token is refused",
                    "set another",
                )),
                _ => Ok(SnapshotItem::Complete(all)),
            };
            let _ = out.send(end).await;
        });
        showing
    }

    async fn watch_modes(&self) -> Result<Vec<WatchMode>, ConnectError> {
        Ok(match self.name {
            HARBOUR => vec![WatchMode::ChangeNumber, WatchMode::FullRead],
            BERTHING => vec![WatchMode::LastModified, WatchMode::FullRead],
            _ => vec![WatchMode::FullRead],
        })
    }

    async fn current_cursor(
        &self,
        _: ObjectType,
        _: WatchMode,
    ) -> Result<Option<String>, ConnectError> {
        Ok(Some(
            self.world.lock().place(self.name).history.len().to_string(),
        ))
    }

    fn watch(
        self: Arc<Self>,
        object: ObjectType,
        way: WatchMode,
        from: Option<String>,
    ) -> ChangeStream {
        let (out, following) = mpsc::channel(256);
        let mut world = self.world.lock();
        // An answer takes a moment.
        world.now = world
            .now
            .saturating_add(Duration::from_millis(3))
            .unwrap_or(Timestamp::MAX);
        let fault = world.trouble_with(self.name, 4);
        let shuffle = world.trouble > 0;
        let place = world.place(self.name);
        let from: usize = from.and_then(|from| from.parse().ok()).unwrap_or(0);
        let mut changed: Vec<&(String, Option<Observed>)> = place
            .history
            .get(from..)
            .unwrap_or_default()
            .iter()
            .collect();
        if shuffle {
            // What came twice comes twice, and in another order.
            changed.reverse();
        }
        let mut news = Vec::new();
        for (key, then) in changed.into_iter().filter(|_| object == ObjectType::Person) {
            match place.shown(key).and_then(|now| {
                if place.tells_states {
                    then.clone()
                } else {
                    Some(now)
                }
            }) {
                Some(account) => news.push(Ok(ChangeEvent::Changed(vec![account]))),
                None if way.reports_deletions() => {
                    news.push(Ok(ChangeEvent::Gone(vec![key.clone()])))
                }
                None => {}
            }
        }
        let mark = place.history.len().to_string();
        match fault {
            1 => {
                news = vec![Ok(ChangeEvent::ResyncRequired(
                    "the history was forgotten".into(),
                ))]
            }
            2 => {
                news.truncate(news.len() / 2);
                news.push(Err(ConnectError::transient(
                    "cut",
                    "the connection was closed",
                    "it is followed again",
                )));
            }
            // The mark is lost: the same is told again.
            3 => {}
            _ => news.push(Ok(ChangeEvent::Checkpoint(mark))),
        }
        if fault > 0 {
            let line = format!("{}: a following goes wrong ({fault})", self.name);
            world.story.push(line);
        }
        drop(world);
        tokio::spawn(async move {
            for one in news {
                if out.send(one).await.is_err() {
                    return;
                }
            }
        });
        following
    }

    async fn find(
        &self,
        _: ObjectType,
        probes: &[(String, Value)],
    ) -> Result<Vec<Observed>, ConnectError> {
        let mut world = self.world.lock();
        if world.fault(self.name) == Fault::Failed {
            return Err(ConnectError::transient(
                "server_error",
                "it failed",
                "it is tried again",
            ));
        }
        let place = world.place(self.name);
        let fits = |held: &Held| {
            probes.iter().any(|(name, value)| {
                held.attributes
                    .get(name)
                    .iter()
                    .any(|there| there.to_string().eq_ignore_ascii_case(&value.to_string()))
            })
        };
        let keys: Vec<String> = place
            .accounts
            .iter()
            .filter(|(_, held)| fits(held))
            .map(|(key, _)| key.clone())
            .collect();
        Ok(keys.iter().filter_map(|key| place.shown(key)).collect())
    }

    async fn write(&self, write: &Write) -> Result<Observed, ConnectError> {
        self.access.permit_write(write.object)?;
        self.takes_a_moment().await;
        let making = write.kind == ChangeKind::Create;
        let (fault, result) = {
            let mut world = self.world.lock();
            if world.place(self.name).read_only {
                world.broken.push(format!(
                    "{}: a write arrived, and it is read-only",
                    self.name
                ));
            }
            let whose = write.account.as_ref().map_or_else(
                || {
                    write
                        .values
                        .iter()
                        .find(|v| v.attribute == "number")
                        .map(|v| format!("{:?}", v.after))
                        .unwrap_or_default()
                },
                |(key, _)| key.clone(),
            );
            let arrived = world.arrived.entry(self.name).or_default();
            if !arrived
                .iter()
                .any(|(kind, who)| *kind == write.kind && *who == whose)
            {
                arrived.push((write.kind, whose.clone()));
            }
            let fault = world.fault(self.name);
            if fault != Fault::None {
                let line = format!("{}: {} of {whose} meets {fault:?}", self.name, write.kind);
                world.story.push(line);
            }
            let result = match fault {
                Fault::None | Fault::LostAfter | Fault::DieAfter => {
                    Some(world.effect(self.name, write))
                }
                Fault::Queue | Fault::QueueAndFail => {
                    let place = world.place(self.name);
                    place.queue.push(Queued {
                        write: write.clone(),
                        asked: 0,
                        fails: fault == Fault::QueueAndFail,
                        done: None,
                    });
                    Some(Err(ConnectError::accepted(
                        &(place.queue.len() - 1).to_string(),
                    )))
                }
                _ => None,
            };
            (fault, result)
        };
        let lost = if making {
            ConnectError::unknown_outcome("answer_lost", "the answer was lost", "it is looked for")
        } else {
            ConnectError::transient("timeout", "the answer was lost", "it is sent again")
        };
        self.takes_a_moment().await;
        match (fault, result) {
            (Fault::Die | Fault::DieAfter, _) => Err(self.die().await),
            (Fault::LostAfter, Some(Err(refused))) => Err(refused),
            (Fault::LostAfter | Fault::LostBefore, _) => Err(lost),
            (Fault::TooMany, _) => Err(ConnectError::transient(
                "rate",
                "too many requests",
                "it is tried again",
            )),
            (Fault::Failed, _) => Err(ConnectError::transient(
                "server_error",
                "it failed",
                "it is tried again",
            )),
            (Fault::Down, _) => Err(ConnectError::system_down(
                "unreachable",
                "nothing answers",
                "it is tried again",
            )),
            (_, Some(result)) => result,
            (_, None) => Err(lost),
        }
    }

    async fn poll_operation(
        &self,
        _: &Write,
        place: &str,
    ) -> Result<Option<Observed>, ConnectError> {
        let mut world = self.world.lock();
        let number: usize = place.parse().unwrap_or(usize::MAX);
        let gone = || ConnectError::permanent("gone", "no such request", "decide again");
        let queued = world
            .place(self.name)
            .queue
            .get_mut(number)
            .ok_or_else(gone)?;
        queued.asked += 1;
        if queued.asked < 2 {
            return Ok(None);
        }
        if queued.fails {
            return Err(ConnectError::permanent(
                "refused",
                "it was refused in the end",
                "correct it",
            ));
        }
        if queued.done.is_none() {
            let write = queued.write.clone();
            let done = world.effect(self.name, &write)?;
            let queued = world
                .place(self.name)
                .queue
                .get_mut(number)
                .ok_or_else(gone)?;
            queued.done = Some(done);
        }
        Ok(world
            .place(self.name)
            .queue
            .get(number)
            .and_then(|queued| queued.done.clone()))
    }
}
