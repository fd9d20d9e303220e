//! The whole engine in virtual time, with simulated systems: people edit, answers get lost, pages
//! are cut, notifications come twice and in another order, clocks jump, the process dies; and every
//! promise of ARCHITECTURE.md is looked at.
//!
//! A thousand seeds (EAGER_TIDE_SEEDS says otherwise, EAGER_TIDE_SEED where they begin). A seed
//! that fails is printed with what happened, and comes to the same again, deaths among it:
//! `scripts/simulate 1 SEED`.
#![allow(clippy::disallowed_methods, reason = "tests run in real time")]

#[path = "simulation/at_once.rs"]
mod at_once;
#[path = "simulation/world.rs"]
mod world;

use rand::rngs::StdRng;
use rand::{RngExt as _, SeedableRng as _};
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Instant;
use tide_core::rules::RuleFile;
use tide_core::states::{DecisionAnswer, SystemKind};
use tide_core::{Attributes, ObjectType, Value};
use tide_engine::{Engine, EngineConfig, EngineError, NewSystem, Plan, Schedule, SystemUpdate};
use tide_store::{ChangeFilter, ChangeSetRow, KeptOutcomes, MasterKey, OutcomeFilter, Store};
use world::{ALL, BERTHING, CLASSROOM, HARBOUR, Shared, text};

const RULES: [(&str, &str); 5] = [
    (
        "identities.toml",
        r#"
[person]
label = "name"
[person.attributes]
number = { required = true, unique = true }
name = {}
mail = {}
title = {}
manager = { reference = ["person"], by = "number" }
login = { generated = ['plainName(identity.name)', 'plainName(identity.name) + text(identity.attempt)'] }
"#,
    ),
    (
        "harbour.toml",
        r#"
system = "harbour"
[[person.scope.condition]]
when = 'account.employed == "yes"'
reason = "no longer employed"
[[person.match]]
name = "number"
account = 'account.number'
identity = 'identity.number'
[person.inbound]
number = 'account.number'
name = 'account.name'
mail = 'account.mail'
title = 'account.title'
manager = 'account.manager'
login = 'account.login'
[person.outbound]
login = 'identity.login'
"#,
    ),
    (
        "berthing.toml",
        r#"
system = "berthing"
[[person.match]]
name = "number"
account = 'account.number'
identity = 'identity.number'
[person.outbound]
number = { value = 'identity.number', required = true }
name = 'identity.name'
mail = 'identity.mail'
title = 'identity.title'
login = 'identity.login'
manager = 'identity.manager'
active = 'true'
"#,
    ),
    (
        "classroom.toml",
        r#"
system = "classroom"
[[person.match]]
name = "number"
account = 'account.number'
identity = 'identity.number'
[person.outbound]
number = { value = 'identity.number', required = true }
name = 'identity.name'
active = 'true'
"#,
    ),
    (
        "guards.toml",
        "[[guard]]\nsystem = \"berthing\"\nchange = \"disable\"\nmax_count = 2\nwindow_hours = 24\n",
    ),
];
const CANARY: &str = "canary-7f3e-of-the-harbour";
const KEY: &str = "ABEiM0RVZneImaq7zN3u/wARIjNEVWZ3iJmqu8zd7v8=";

fn person(number: u32, name: &str, random: &mut StdRng) -> Attributes {
    let one = |text: String| vec![Value::text(text)];
    [
        ("number".to_owned(), one(number.to_string())),
        ("name".to_owned(), one(name.to_owned())),
        ("mail".to_owned(), one(format!("M{number}@Skerry.example"))),
        (
            "title".to_owned(),
            one(format!("rank {}", random.random_range(0..4))),
        ),
        ("employed".to_owned(), one("yes".to_owned())),
    ]
    .into_iter()
    .collect()
}

const NAMES: [&str; 5] = ["Ada Quay", "Bo Lind", "Cy Mast", "Dee Keel", "Ada Quay"];

/// What one seed does, step by step.
struct Sim {
    seed: u64,
    world: Shared,
    random: StdRng,
    file: PathBuf,
    next: u32,
    left: usize,
}

type Told = Result<(), String>;

fn fault<E: std::fmt::Display>(what: &str) -> impl Fn(E) -> String + '_ {
    move |error| format!("{what}: {error}")
}

impl Sim {
    fn edit(&mut self) {
        let random = &mut self.random;
        let mut world = self.world.lock();
        let keys: Vec<String> = world.place(HARBOUR).accounts.keys().cloned().collect();
        let what = random.random_range(0..12);
        if keys.is_empty() || what < 2 {
            let number = self.next;
            self.next += 1;
            let mut attributes = person(number, NAMES[number as usize % NAMES.len()], random);
            if number > 2 {
                attributes.set(
                    "manager",
                    vec![Value::text(random.random_range(1..number).to_string())],
                );
            }
            world.place(HARBOUR).add("h", attributes);
            return;
        }
        let key = keys[random.random_range(0..keys.len())].clone();
        let held = &world.place(HARBOUR).accounts[&key];
        let (number, attributes) = (text(&held.attributes, "number"), held.attributes.clone());
        let set = |world: &mut world::World, name: &str, value: String| {
            let place = world.place(HARBOUR);
            if let Some(held) = place.accounts.get_mut(&key) {
                held.attributes.set(name, vec![Value::text(value)]);
            }
            place.note(&key);
        };
        match what {
            2..=4 => set(
                &mut world,
                "title",
                format!("rank {}", random.random_range(0..4)),
            ),
            5 => set(
                &mut world,
                "name",
                NAMES[random.random_range(0..NAMES.len())].to_owned(),
            ),
            6 => set(
                &mut world,
                "manager",
                random.random_range(1..self.next).to_string(),
            ),
            7 | 8 => {
                world.ever_out.insert(number);
                let employed = if text(&attributes, "employed") == "yes" {
                    "no"
                } else {
                    "yes"
                };
                set(&mut world, "employed", employed.to_owned());
            }
            9 => {
                world.ever_out.insert(number);
                let place = world.place(HARBOUR);
                place.accounts.remove(&key);
                place.note(&key);
            }
            10 => {
                // Deleted, and made again under another key: a rehire.
                world.ever_out.insert(number);
                let place = world.place(HARBOUR);
                let held = place.accounts.remove(&key);
                place.note(&key);
                place.add("h", held.map(|held| held.attributes).unwrap_or_default());
            }
            _ => {
                // Somebody writes into the target by hand.
                let place = world.place(BERTHING);
                let there = place
                    .accounts
                    .iter()
                    .find(|(_, held)| text(&held.attributes, "number") == number)
                    .map(|(key, _)| key.clone());
                if let Some(there) = there {
                    if let Some(held) = place.accounts.get_mut(&there) {
                        held.attributes.set("title", vec![Value::text("pirate")]);
                    }
                    place.note(&there);
                }
            }
        }
    }

    /// Lives until all steps are done or the process dies.
    async fn life(&mut self) -> Told {
        let store = Store::open(&self.file, MasterKey::parse(KEY).map_err(fault("key"))?)
            .await
            .map_err(fault("the store"))?;
        let ties = EngineConfig {
            systems: Some(Arc::new(self.world.clone())),
            seed: Some(self.seed),
            accounts_at_a_time: 1,
            // Full decisions at once, and in chunks of some records.
            chunk_size: [None, Some(1), Some(7), Some(40)][self.seed as usize % 4],
            ..EngineConfig::default()
        };
        let engine = Engine::with_config(store, Arc::new(self.world.clone()), ties);
        let died = self.world.lock().died.clone();
        tokio::select! {
            biased;
            () = died.notified() => {}
            told = self.steps(&engine) => return told,
        }
        self.world.lock().story.push("the process died".to_owned());
        Ok(())
    }

    async fn steps(&mut self, engine: &Arc<Engine>) -> Told {
        engine
            .runner()
            .resume_interrupted()
            .await
            .map_err(fault("going on"))?;
        self.settled(engine).await?;
        if self.world.lock().trouble == 0 {
            // What was there before we came is known before anything is made.
            engine
                .ingest()
                .read_all()
                .await
                .map_err(fault("the first reading"))?;
            self.world.lock().trouble = self.random.random_range(2..9);
        }
        while self.left > 0 {
            self.left -= 1;
            for _ in 0..self.random.random_range(0..4) {
                self.edit();
            }
            if self.random.random_ratio(1, 8) {
                let whose = ALL[self.random.random_range(0..ALL.len())];
                self.world.lock().dies_in = Some((whose, self.random.random_range(0..5)));
            }
            let what = self.random.random_range(0..12);
            self.world
                .lock()
                .story
                .push(format!("step {what}, {} left", self.left));
            self.step(engine, what).await?;
            let broken = self.world.lock().broken.clone();
            if !broken.is_empty() {
                return Err(broken.join("; "));
            }
        }
        self.rest(engine).await
    }

    /// Waits for what a start went on with.
    async fn settled(&self, engine: &Arc<Engine>) -> Told {
        while !engine
            .store()
            .open_change_sets()
            .await
            .map_err(fault("open"))?
            .is_empty()
        {
            tokio::time::sleep(std::time::Duration::from_millis(1)).await;
        }
        Ok(())
    }

    async fn go(&self, engine: &Arc<Engine>, plan: Plan) -> Result<ChangeSetRow, String> {
        let mut events = engine.events();
        let id = match engine.runner().begin_change_set(plan, "sim").await {
            Ok(id) => id,
            Err(error) => return Err(format!("it does not begin: {error}")),
        };
        loop {
            let set = engine
                .store()
                .change_set(id)
                .await
                .map_err(fault("a change set"))?;
            if set.ended_at.is_some() {
                tokio::task::yield_now().await;
                return Ok(set);
            }
            // A lag means that many events passed: the row is looked at again.
            let _ = events.recv().await;
        }
    }

    /// What passing faults do is the engine's to say; anything else is ours.
    fn may_pass(result: Result<(), EngineError>) -> Told {
        match result {
            Ok(()) | Err(EngineError::Connect(_)) => Ok(()),
            Err(other) => Err(other.to_string()),
        }
    }

    async fn step(&mut self, engine: &Arc<Engine>, what: u32) -> Told {
        match what {
            0 | 1 => {
                self.world.lock().arrived.clear();
                self.go(
                    engine,
                    Plan {
                        carry_out: true,
                        ..Plan::default()
                    },
                )
                .await?;
                self.leavers_first()?;
            }
            2..=5 => {
                let name = if what == 5 { BERTHING } else { HARBOUR };
                Self::may_pass(
                    engine
                        .ingest()
                        .sync_once(name, ObjectType::Person)
                        .await
                        .map(|_| ()),
                )?;
                self.news(engine).await?;
            }
            6 => self.one_path(engine).await?,
            7 => {
                let name = ALL[self.random.random_range(1..3)];
                let read_only = !self.world.lock().place(name).read_only;
                let writable = if read_only {
                    Vec::new()
                } else {
                    vec![ObjectType::Person]
                };
                let change = SystemUpdate {
                    writable: Some(writable),
                    ..SystemUpdate::default()
                };
                engine
                    .administration()
                    .set_system(name, change, "sim")
                    .await
                    .map_err(fault("set"))?;
                self.world.lock().place(name).read_only = read_only;
                self.news(engine).await?;
            }
            8 => {
                // A clock that jumps, forward or back.
                let minutes = self.random.random_range(-90..600);
                {
                    let mut world = self.world.lock();
                    world.now = world
                        .now
                        .saturating_add(jiff::SignedDuration::from_mins(minutes))
                        .map_err(fault("the clock"))?;
                }
                self.news(engine).await?;
            }
            9 => self.release(engine).await?,
            10 => {
                engine
                    .dispatcher()
                    .poll_operations()
                    .await
                    .map_err(fault("asking"))?;
                self.news(engine).await?;
            }
            _ => {
                Self::may_pass(
                    engine
                        .ingest()
                        .sync_once(CLASSROOM, ObjectType::Person)
                        .await
                        .map(|_| ()),
                )?;
                self.news(engine).await?;
            }
        }
        Ok(())
    }

    async fn news(&self, engine: &Arc<Engine>) -> Told {
        self.world.lock().arrived.clear();
        engine
            .runner()
            .run_once()
            .await
            .map_err(fault("a run on news"))?;
        self.leavers_first()
    }

    /// Promise 8: in every queue, revoking overtakes granting.
    fn leavers_first(&self) -> Told {
        for (system, kinds) in &self.world.lock().arrived {
            let first_other = kinds
                .iter()
                .position(|(kind, _)| *kind != tide_core::states::ChangeKind::Disable);
            let last_leaver = kinds
                .iter()
                .rposition(|(kind, _)| *kind == tide_core::states::ChangeKind::Disable);
            if first_other
                .zip(last_leaver)
                .is_some_and(|(other, leaver)| other < leaver)
            {
                return Err(format!("{system}: a leaver waited: {kinds:?}"));
            }
        }
        Ok(())
    }

    /// Promises 2, 3 and 9: a preview and a run of the same moment say the same, in the same order,
    /// and why.
    async fn one_path(&self, engine: &Arc<Engine>) -> Told {
        let before = self
            .world
            .lock()
            .places
            .values()
            .map(|place| place.effects)
            .sum::<usize>();
        let mut said = Vec::new();
        for _ in 0..2 {
            let set = self
                .go(
                    engine,
                    Plan {
                        without_reading: true,
                        ..Plan::default()
                    },
                )
                .await?;
            said.push(self.changes(engine, set.id).await?);
        }
        if said[0] != said[1] {
            return Err(format!("two previews of one moment differ: {said:?}"));
        }
        if self
            .world
            .lock()
            .places
            .values()
            .map(|place| place.effects)
            .sum::<usize>()
            != before
        {
            return Err("a preview wrote something".to_owned());
        }
        let run = self
            .go(
                engine,
                Plan {
                    carry_out: true,
                    without_reading: true,
                    ..Plan::default()
                },
            )
            .await?;
        let carried = self.changes(engine, run.id).await?;
        if carried != said[0] {
            return Err(format!(
                "a run is not what its preview said:\n{:?}\n{carried:?}",
                said[0]
            ));
        }
        let lines = ChangeFilter {
            limit: i64::MAX,
            ..ChangeFilter::default()
        };
        for line in engine
            .store()
            .list_outcomes(run.id, &lines)
            .await
            .map_err(fault("lines"))?
        {
            if line.decided.reason.to_string().is_empty() {
                return Err(format!("no reason is given: {line:?}"));
            }
        }
        Ok(())
    }

    async fn changes(
        &self,
        engine: &Arc<Engine>,
        id: i64,
    ) -> Result<Vec<(String, Option<String>)>, String> {
        let all = ChangeFilter {
            limit: i64::MAX,
            ..ChangeFilter::default()
        };
        let rows = engine
            .store()
            .list_changes(id, &all)
            .await
            .map_err(fault("changes"))?;
        Ok(rows
            .into_iter()
            .map(|row| {
                (
                    row.change.fingerprint,
                    row.change.hold.map(|hold| hold.to_string()),
                )
            })
            .collect())
    }

    async fn release(&self, engine: &Arc<Engine>) -> Told {
        for one in engine
            .decisions()
            .list_decisions("sim")
            .await
            .map_err(fault("decisions"))?
        {
            if let Some(answer) = one.answers.iter().find(|answer| {
                [
                    DecisionAnswer::Release,
                    DecisionAnswer::Retry,
                    DecisionAnswer::Acknowledge,
                ]
                .contains(answer)
            }) {
                match engine
                    .decisions()
                    .answer_decision(&one.id, *answer, "", "sim")
                    .await
                {
                    Ok(()) | Err(EngineError::Changed(_)) => {}
                    Err(error) => return Err(format!("{one:?}: {error}")),
                }
            }
        }
        Ok(())
    }

    /// Promise 7: what we wrote ourselves is no news, also when it is told late and state by state.
    async fn follows(&mut self, engine: &Arc<Engine>) -> Told {
        let catch_up = async |name: &str| -> Told {
            engine
                .ingest()
                .sync_once(name, ObjectType::Person)
                .await
                .map_err(fault("catching up"))?;
            engine
                .runner()
                .run_once()
                .await
                .map_err(fault("a run on news"))?;
            Ok(())
        };
        let effects = || {
            self.world
                .lock()
                .places
                .values()
                .map(|place| place.effects)
                .sum::<usize>()
        };
        // From here on it is known how far they were followed.
        let before = effects();
        for name in [HARBOUR, BERTHING] {
            catch_up(name).await?;
        }
        if effects() != before {
            return Err(format!("{} writes came of nothing", effects() - before));
        }
        for _ in 0..3 {
            self.edit();
            // Two runs: what the first one made is what somebody else waits for.
            catch_up(HARBOUR).await?;
            catch_up(HARBOUR).await?;
        }
        let effects = || {
            self.world
                .lock()
                .places
                .values()
                .map(|place| place.effects)
                .sum::<usize>()
        };
        catch_up(BERTHING).await?;
        // Somebody wrote there by hand, perhaps: that was put right, and is told too.
        catch_up(BERTHING).await?;
        let before = effects();
        catch_up(BERTHING).await?;
        if effects() != before {
            return Err(format!(
                "{} writes came of our own echo",
                effects() - before
            ));
        }
        let population = engine
            .store()
            .load_population()
            .await
            .map_err(fault("what is known"))?;
        for account in population
            .accounts
            .iter()
            .filter(|account| account.system == BERTHING)
        {
            let mut world = self.world.lock();
            let there = world.place(BERTHING).accounts.get(&account.key);
            if there.is_none_or(|held| held.attributes != account.attributes) {
                return Err(format!(
                    "{} is known as\n{:?}, and is\n{there:?}",
                    account.key, account.attributes
                ));
            }
        }
        Ok(())
    }

    /// No trouble any more: it comes to rest, and is right.
    async fn rest(&mut self, engine: &Arc<Engine>) -> Told {
        {
            let mut world = self.world.lock();
            (world.trouble, world.dies_in) = (0, None);
            world.story.push("no trouble from here on".to_owned());
        }
        for name in ALL {
            let change = SystemUpdate {
                writable: Some(vec![ObjectType::Person]),
                ..SystemUpdate::default()
            };
            engine
                .administration()
                .set_system(name, change, "sim")
                .await
                .map_err(fault("set"))?;
            self.world.lock().place(name).read_only = false;
        }
        // An absence that nobody confirmed, which the first silent run can bring to light, counts a
        // day later.
        let (mut last, mut silent) = (None, 0);
        for _ in 0..14 {
            {
                let mut world = self.world.lock();
                world.now = world
                    .now
                    .saturating_add(jiff::SignedDuration::from_hours(30))
                    .map_err(fault("the clock"))?;
            }
            engine
                .dispatcher()
                .poll_operations()
                .await
                .map_err(fault("asking"))?;
            self.release(engine).await?;
            let set = self
                .go(
                    engine,
                    Plan {
                        carry_out: true,
                        ..Plan::default()
                    },
                )
                .await?;
            let left = self.changes(engine, set.id).await?;
            silent = if left.is_empty() { silent + 1 } else { 0 };
            if silent == 2 {
                last = Some(set);
                break;
            }
        }
        let Some(last) = last else {
            return Err("it does not come to rest".to_owned());
        };
        self.right()?;
        // Promise 9: whoever is there has a line for each target.
        let all = ChangeFilter {
            limit: i64::MAX,
            ..ChangeFilter::default()
        };
        let lines = engine
            .store()
            .list_outcomes(last.id, &all)
            .await
            .map_err(fault("lines"))?;
        let people = self.world.lock().place(HARBOUR).accounts.len();
        let told = lines
            .iter()
            .filter(|line| line.decided.system == HARBOUR)
            .filter_map(|line| line.decided.account)
            .collect::<BTreeSet<_>>();
        if told.len() < people {
            return Err(format!(
                "{} of {people} people have no line",
                people - told.len()
            ));
        }
        self.follows(engine).await?;
        if engine
            .store()
            .verify_journal()
            .await
            .map_err(fault("the journal"))?
            .is_err()
        {
            return Err("the journal is not sound".to_owned());
        }
        self.outcomes_are_kept(engine).await?;
        engine.stop().await;
        engine.store().close().await;
        // Promise 10: no secret leaves.
        for end in ["", "-wal"] {
            let octets = std::fs::read(format!("{}{end}", self.file.display())).unwrap_or_default();
            if String::from_utf8_lossy(&octets).contains(CANARY) {
                return Err(format!("a secret stands in clear in tide.db{end}"));
            }
        }
        Ok(())
    }

    /// The kept outcomes and counts are those of a full decision.
    async fn outcomes_are_kept(&self, engine: &Arc<Engine>) -> Told {
        let everybody = OutcomeFilter {
            limit: i64::MAX,
            ..OutcomeFilter::default()
        };
        let scope = engine
            .views()
            .show_scope(HARBOUR, ObjectType::Person, &everybody, "")
            .await
            .map_err(fault("the scope"))?;
        let counted: usize = scope.counts.iter().map(|count| count.count).sum();
        if (counted, scope.found) != (scope.lines.len(), scope.lines.len()) {
            return Err(format!(
                "{counted} are counted and {} found, and there are {}",
                scope.found,
                scope.lines.len()
            ));
        }
        let decided = engine
            .decider()
            .full()
            .decide_now()
            .await
            .map_err(fault("deciding"))?;
        let (rules, population, outcome) = decided;
        let sorted = |kept: KeptOutcomes| -> BTreeSet<String> {
            let records = kept.records.iter().map(|one| format!("{one:?}"));
            let holdings = kept.holdings.iter().map(|one| format!("{one:?}"));
            records.chain(holdings).collect()
        };
        let (rules, people) = (&rules.set, &population);
        let decided = sorted(tide_engine::kept_outcomes(rules, people, &outcome, None));
        let records = engine.store().all_outcomes().await;
        let holdings = engine.store().all_holdings().await;
        let kept = sorted(KeptOutcomes {
            records: records.map_err(fault("the outcomes"))?,
            holdings: holdings.map_err(fault("the holdings"))?,
        });
        if kept == decided {
            return Ok(());
        }
        Err(format!(
            "the kept outcomes are not those of a full decision:\n{:#?}\n{:#?}",
            kept.difference(&decided).take(3).collect::<Vec<_>>(),
            decided.difference(&kept).take(3).collect::<Vec<_>>()
        ))
    }

    /// What every system should hold, said anew from what the directory holds.
    fn right(&self) -> Told {
        let mut world = self.world.lock();
        let people: BTreeMap<String, Attributes> = world
            .place(HARBOUR)
            .accounts
            .values()
            .filter(|held| text(&held.attributes, "employed") == "yes")
            .map(|held| (text(&held.attributes, "number"), held.attributes.clone()))
            .collect();
        let mut logins = HashMap::new();
        for (number, attributes) in &people {
            let login = text(attributes, "login");
            if login.is_empty() {
                return Err(format!("number {number} has no login"));
            }
            if let Some(other) = logins.insert(login.clone(), number.clone()) {
                return Err(format!("{number} and {other} have the login {login}"));
            }
        }
        let keys: HashMap<String, String> = world
            .place(BERTHING)
            .accounts
            .iter()
            .map(|(key, held)| (text(&held.attributes, "number"), key.clone()))
            .collect();
        for (system, names) in [
            (BERTHING, &["name", "mail", "title", "login"][..]),
            (CLASSROOM, &["name"]),
        ] {
            let mut seen = BTreeSet::new();
            let place = world.place(system);
            for (key, held) in &place.accounts {
                let number = text(&held.attributes, "number");
                if !seen.insert(number.clone()) {
                    return Err(format!("{system}: {number} has two accounts"));
                }
                let active = text(&held.attributes, "active") == "true";
                let Some(wanted) = people.get(&number) else {
                    // Whoever left before they were ever joined to it left an account that belongs
                    // to nobody.
                    if active && place.ours.contains(key) {
                        return Err(format!("{system}: {number} left and is active: {held:?}"));
                    }
                    continue;
                };
                if !active {
                    return Err(format!("{system}: {number} is here and disabled"));
                }
                for name in names {
                    let (there, should) = (text(&held.attributes, name), text(wanted, name));
                    let same = if *name == "mail" {
                        there.eq_ignore_ascii_case(&should)
                    } else {
                        there == should
                    };
                    if !same {
                        return Err(format!(
                            "{system}: {name} of {number} is {there}, and should be {should}"
                        ));
                    }
                }
                let manager = text(wanted, "manager");
                if system == BERTHING && people.contains_key(&manager) {
                    let (there, should) = (
                        text(&held.attributes, "manager"),
                        keys.get(&manager).cloned().unwrap_or_default(),
                    );
                    if there != should {
                        return Err(format!(
                            "{system}: the manager of {number} is {there}, and should be {should} ({manager})"
                        ));
                    }
                }
            }
            if let Some(missing) = people.keys().find(|number| !seen.contains(*number)) {
                return Err(format!("{system}: {missing} has no account"));
            }
        }
        Ok(())
    }
}

fn runtime() -> Result<tokio::runtime::Runtime, String> {
    tokio::runtime::Builder::new_current_thread()
        .enable_all()
        .build()
        .map_err(fault("a runtime"))
}

fn life(sim: &mut Sim) -> Told {
    let runtime = runtime()?;
    // What is left when it ends is dropped where it stands, as a process that dies drops it.
    runtime.block_on(sim.life())
}

/// A world before anything happened.
fn begin(seed: u64, template: &Path, folder: &Path) -> Result<Sim, String> {
    let mut random = StdRng::seed_from_u64(seed);
    let file = folder.join(format!("{seed}.db"));
    std::fs::copy(template, &file).map_err(fault("a copy"))?;
    let world = Shared::new(seed);
    let (steps, people) = (random.random_range(4..11), random.random_range(2..6));
    let mut sim = Sim {
        seed,
        world: world.clone(),
        random,
        file,
        next: 1,
        left: steps,
    };
    for _ in 0..people {
        let number = sim.next;
        sim.next += 1;
        let attributes = person(
            number,
            NAMES[number as usize % NAMES.len()],
            &mut sim.random,
        );
        // Some have an account in the service already.
        if number.is_multiple_of(3) {
            let mut there = attributes.clone();
            there.set("employed", Vec::new());
            there.set("active", vec![Value::Bool(true)]);
            world.lock().place(BERTHING).add("b", there);
        }
        world.lock().place(HARBOUR).add("h", attributes);
    }
    Ok(sim)
}

/// How often it lived, and what happened.
fn run(seed: u64, template: &Path, folder: &Path) -> Result<(usize, Vec<String>), String> {
    let mut sim = begin(seed, template, folder)?;
    let mut lives = 0;
    let told = loop {
        lives += 1;
        if let Err(error) = life(&mut sim) {
            break Err(error);
        }
        let rested = sim
            .world
            .lock()
            .story
            .last()
            .is_some_and(|line| line != "the process died");
        if rested {
            break Ok(lives);
        }
        if lives > 60 {
            break Err("it dies for ever".to_owned());
        }
    };
    for end in ["", "-wal", "-shm"] {
        // A file that is not there is as good as one that was removed.
        let _ = std::fs::remove_file(format!("{}{end}", sim.file.display()));
    }
    let story = std::mem::take(&mut sim.world.lock().story);
    match told {
        Ok(lives) => Ok((lives, story)),
        Err(error) => Err(format!("seed {seed}: {error}\n{}", story.join("\n"))),
    }
}

/// A store with everything that all seeds begin with.
async fn template(file: &Path) -> anyhow::Result<()> {
    let store = Store::open(&file.with_extension("first"), MasterKey::parse(KEY)?).await?;
    let world = Shared::new(0);
    let ties = EngineConfig {
        systems: Some(Arc::new(world.clone())),
        ..EngineConfig::default()
    };
    let engine = Engine::with_config(store, Arc::new(world), ties);
    for name in ALL {
        let settings = serde_json::json!({"url": "http://127.0.0.1:9/"});
        engine
            .administration()
            .add_system(
                NewSystem {
                    name: name.into(),
                    kind: SystemKind::Scim,
                    settings,
                    secret: Some(CANARY.into()),
                },
                "sim",
            )
            .await?;
        let change = SystemUpdate {
            writable: Some(vec![ObjectType::Person]),
            armed: Some(true),
            ..SystemUpdate::default()
        };
        engine
            .administration()
            .set_system(name, change, "sim")
            .await?;
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
            .await?;
    }
    engine.ingest().read_all().await?;
    let files: Vec<RuleFile> = RULES
        .iter()
        .map(|(name, text)| RuleFile {
            name: (*name).into(),
            text: (*text).into(),
        })
        .collect();
    engine.administration().publish_rules(&files, "sim").await?;
    engine.stop().await;
    engine.store().backup(file).await?;
    engine.store().close().await;
    Ok(())
}

/// How many seeds, and from which one on.
fn asked_for() -> (u64, u64) {
    let number = |name: &str, usual: u64| {
        std::env::var(name)
            .ok()
            .and_then(|text| text.parse().ok())
            .unwrap_or(usual)
    };
    (
        number("EAGER_TIDE_SEEDS", 1000),
        number("EAGER_TIDE_SEED", 1),
    )
}

/// A folder, and the store in it that all seeds begin with.
fn ground() -> (tempfile::TempDir, PathBuf) {
    // Where memory is a file system, nothing waits for a disk: what a disk does is tested
    // elsewhere.
    let base = Some(Path::new("/dev/shm")).filter(|path| path.is_dir());
    let folder = base
        .and_then(|base| tempfile::tempdir_in(base).ok())
        .unwrap_or_else(|| tempfile::tempdir().expect("a folder"));
    let file = folder.path().join("template.db");
    runtime()
        .expect("a runtime")
        .block_on(template(&file))
        .expect("a template");
    (folder, file)
}

#[test]
fn what_happens_at_once_is_done_once() {
    let (folder, file) = ground();
    let (seeds, first) = asked_for();
    // Each takes real time, for all that happens at once.
    for seed in first..first + seeds.div_ceil(20) {
        let told = begin(seed, &file, folder.path())
            .and_then(|mut sim| runtime()?.block_on(sim.at_once()));
        assert!(
            told.is_ok(),
            "seed {seed}: {}",
            told.err().unwrap_or_default()
        );
    }
}

#[test]
fn whatever_goes_wrong_every_promise_holds() {
    let (seeds, first) = asked_for();
    let (folder, file) = ground();
    // A seed comes to the same again, or nobody could look into one that fails.
    let mut died = 0;
    for seed in first..first + 40.min(seeds) {
        let told: Vec<Vec<String>> = (0..2)
            .map(|_| {
                run(seed, &file, folder.path())
                    .map(|(_, story)| story)
                    .expect("it holds")
            })
            .collect();
        assert_eq!(
            told[0], told[1],
            "seed {seed} comes to something else the second time"
        );
        died += told[0]
            .iter()
            .filter(|line| *line == "the process died")
            .count();
    }
    assert!(
        died > 0 || seeds < 40,
        "whoever dies comes to the same again too"
    );
    let (next, lives, begun) = (AtomicU64::new(first), AtomicU64::new(0), Instant::now());
    let failed = std::thread::scope(|scope| {
        let threads = std::thread::available_parallelism().map_or(2, std::num::NonZero::get);
        let work = || -> Option<String> {
            loop {
                let seed = next.fetch_add(1, Ordering::Relaxed);
                if seed >= first + seeds {
                    return None;
                }
                match run(seed, &file, folder.path()) {
                    Ok((count, _)) => drop(lives.fetch_add(count as u64, Ordering::Relaxed)),
                    Err(error) => {
                        // The others end soon: one is enough to look at.
                        next.store(first + seeds, Ordering::Relaxed);
                        return Some(error);
                    }
                }
            }
        };
        let workers: Vec<_> = (0..threads).map(|_| scope.spawn(work)).collect();
        workers
            .into_iter()
            .filter_map(|worker| {
                worker
                    .join()
                    .unwrap_or_else(|_| Some("a worker panicked".to_owned()))
            })
            .next()
    });
    let took = begun.elapsed();
    println!(
        "{seeds} seeds from {first}: {:.1} seeds a second, {} lives",
        seeds as f64 / took.as_secs_f64().max(0.001),
        lives.load(Ordering::Relaxed)
    );
    assert!(
        failed.is_none(),
        "{}\nagain: scripts/simulate 1 SEED",
        failed.unwrap_or_default()
    );
}
