//! Runs over a large population, from a real slapd into the SCIM stand-in: what the first load, a
//! run without changes, one change and one leaver take, each against what the same systems take
//! without us.

use crate::{AT_A_TIME, memory};
use anyhow::{Context, ensure};
use futures::StreamExt;
use ldap3::controls::{RefreshMode, SyncRequest};
use ldap3::{Ldap, LdapConnAsync, Mod, Scope, SearchEntry};
use reqwest::Method;
use serde_json::{Value, json};
use std::collections::{HashMap, HashSet};
use std::io::Write as _;
use std::path::Path;
use std::process::{Command, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;
use tide_clock::Instant;
use tide_core::ObjectType;
use tide_core::rules::RuleFile;
use tide_core::states::{ChangeState, SystemKind, WatcherState};
use tide_engine::{Engine, Event, NewSystem, Plan, Schedule, SystemClock, SystemUpdate};
use tide_standins::scim_service::{Manner, ScimService};
use tide_standins::slapd::{Setup, Slapd};
use tide_standins::world::{self, BASE, Crew};
use tide_store::{ChangeSetRow, MasterKey, Store};
use tokio::sync::mpsc::UnboundedReceiver;

/// How many changes come in a second.
const PACE: u32 = 50;

pub(crate) struct Bench {
    pub(crate) folder: tempfile::TempDir,
    pub(crate) harbour: Slapd,
    pub(crate) berthing: ScimService,
    pub(crate) engine: Arc<Engine>,
    pub(crate) people: Vec<Crew>,
}

pub(crate) fn quantile(times: &mut [Duration], share: f64) -> f64 {
    times.sort();
    let at = ((times.len() as f64 * share) as usize).min(times.len().saturating_sub(1));
    times.get(at).copied().unwrap_or_default().as_secs_f64() * 1000.0
}

pub(crate) async fn ldap(slapd: &Slapd) -> anyhow::Result<Ldap> {
    let (connection, mut ldap) = LdapConnAsync::new(&slapd.url).await?;
    ldap3::drive!(connection);
    ldap.simple_bind(&slapd.admin_dn, &slapd.admin_password)
        .await?
        .success()?;
    Ok(ldap)
}

pub(crate) fn manner() -> Manner {
    Manner {
        page: 1000,
        ..Manner::full()
    }
}

impl Bench {
    pub(crate) async fn start(count: usize) -> anyhow::Result<Bench> {
        let people = world::people(world::SEED, count);
        let entries = world::directory(&people, "bench");
        let harbour = tokio::task::spawn_blocking(move || Slapd::start(&entries)).await??;
        let berthing = ScimService::with_manner(Vec::new(), "bench-token", manner()).await?;
        let folder = tempfile::Builder::new().prefix("bench-").tempdir()?;
        let records = folder.path().join("tide.db");
        let key = MasterKey::of_records(&folder.path().join("key"), &records)?;
        let store = Store::open(&records, key).await?;
        let engine = Engine::new(store, Arc::new(SystemClock));
        let harbour_settings = json!({"url": harbour.url, "bind_dn": harbour.admin_dn, "base_dn": BASE, "page_size": 500});
        let berthing_settings = json!({"url": berthing.url, "in_flight": AT_A_TIME});
        for (name, kind, settings, secret) in [
            (
                "harbour",
                SystemKind::Ldap,
                harbour_settings,
                harbour.admin_password.as_str(),
            ),
            (
                "berthing",
                SystemKind::Scim,
                berthing_settings,
                "bench-token",
            ),
        ] {
            engine
                .administration()
                .add_system(
                    NewSystem {
                        name: name.into(),
                        kind,
                        settings,
                        secret: Some(secret.into()),
                    },
                    "bench",
                )
                .await?;
            ensure!(
                engine
                    .administration()
                    .check_system(name, None)
                    .await?
                    .is_healthy(),
                "{name} is not well"
            );
            let change = SystemUpdate {
                armed: Some(true),
                ..SystemUpdate::default()
            };
            engine
                .administration()
                .set_system(name, change, "bench")
                .await?;
        }
        let writable = SystemUpdate {
            writable: Some(vec![ObjectType::Person]),
            ..SystemUpdate::default()
        };
        engine
            .administration()
            .set_system("berthing", writable, "bench")
            .await?;
        let mut files: Vec<RuleFile> = world::rules_of_people()
            .into_iter()
            .map(|(name, text)| RuleFile {
                name: name.into(),
                text,
            })
            .collect();
        // So many at once are meant.
        files.retain(|file| file.name != "guards.toml");
        engine
            .administration()
            .publish_rules(&files, "bench")
            .await?;
        Ok(Bench {
            folder,
            harbour,
            berthing,
            engine,
            people,
        })
    }

    /// A run, with the time of its sending apart.
    pub(crate) async fn go(
        &self,
        plan: Plan,
    ) -> anyhow::Result<(ChangeSetRow, Duration, Duration)> {
        let mut events = self.engine.events();
        let begun = tide_clock::instant();
        let id = self.engine.runner().begin_change_set(plan, "bench").await?;
        let mut sending = begun;
        loop {
            match events.recv().await {
                Ok(Event::ChangeSet { id: of, state }) if of == id => match state.as_str() {
                    "running" => sending = tide_clock::instant(),
                    "done" => break,
                    "failed" | "canceled" => anyhow::bail!("run {id} {state}"),
                    _ => {}
                },
                Ok(_) => {}
                // Many events may have passed, its last among them.
                Err(tokio::sync::broadcast::error::RecvError::Lagged(_)) => {
                    if self.engine.store().change_set(id).await?.ended_at.is_some() {
                        break;
                    }
                }
                Err(error) => return Err(error.into()),
            }
        }
        let (sent, took) = (sending.elapsed(), begun.elapsed());
        Ok((self.engine.store().change_set(id).await?, sent, took))
    }

    /// People whose account in the service is theirs beyond doubt, by the address that is its name
    /// there.
    pub(crate) fn sound(&self) -> HashMap<String, Crew> {
        let there: HashSet<String> = self
            .berthing
            .users()
            .iter()
            .filter_map(|user| user["userName"].as_str().map(str::to_lowercase))
            .collect();
        let of = |person: &&Crew| !person.locked && there.contains(&person.mail.to_lowercase());
        self.people
            .iter()
            .filter(of)
            .map(|person| (person.mail.to_lowercase(), person.clone()))
            .collect()
    }
}

fn states(set: &ChangeSetRow, state: ChangeState) -> i64 {
    set.states
        .iter()
        .find(|(one, _)| *one == state)
        .map_or(0, |(_, count)| *count)
}

/// The floor of a load: the same bodies, posted with as many requests in flight.
async fn post_all(bodies: Vec<Value>) -> anyhow::Result<Duration> {
    let service = ScimService::with_manner(Vec::new(), "bench-token", manner()).await?;
    let http = reqwest::Client::builder()
        .tls_backend_rustls()
        .no_proxy()
        .pool_max_idle_per_host(AT_A_TIME)
        .build()?;
    let count = bodies.len();
    let begun = tide_clock::instant();
    let mut all = futures::stream::iter(bodies.into_iter().map(|body| {
        let request = http
            .post(format!("{}/Users", service.url))
            .bearer_auth("bench-token")
            .header("content-type", "application/scim+json");
        async move { anyhow::Ok(request.body(body.to_string()).send().await?.bytes().await?) }
    }))
    .buffer_unordered(AT_A_TIME);
    while let Some(done) = all.next().await {
        done?;
    }
    ensure!(
        service.count() == count,
        "{} of {count} were made",
        service.count()
    );
    Ok(begun.elapsed())
}

/// Changes titles at a steady pace; how long each took from the request to the directory until the
/// service had it. The directory tells its listeners before it answers.
async fn changes(
    harbour: &Slapd,
    people: &[(String, String)],
    word: &str,
    seen: &mut UnboundedReceiver<(Value, Instant)>,
) -> anyhow::Result<Vec<Duration>> {
    let mut ldap = ldap(harbour).await?;
    let mut done: HashMap<String, Instant> = HashMap::new();
    let mut ticks = tokio::time::interval(Duration::from_secs(1) / PACE);
    while seen.try_recv().is_ok() {}
    for (n, (name, dn)) in people.iter().enumerate() {
        ticks.tick().await;
        let title = HashSet::from([format!("{word} {n}")]);
        done.insert(name.clone(), tide_clock::instant());
        ldap.modify(dn, vec![Mod::Replace("title".to_owned(), title)])
            .await?
            .success()?;
    }
    let mut times = Vec::new();
    while times.len() < people.len() {
        let next = tokio::time::timeout(Duration::from_secs(180), seen.recv()).await;
        let (user, at) = next
            .with_context(|| format!("{} of {} changes came", times.len(), people.len()))?
            .context("the service ended")?;
        if !user["title"]
            .as_str()
            .is_some_and(|title| title.starts_with(word))
        {
            continue;
        }
        if let Some(begun) =
            done.remove(&user["userName"].as_str().unwrap_or_default().to_lowercase())
        {
            times.push(at.saturating_duration_since(begun));
        }
    }
    Ok(times)
}

/// The floor of a change: a bare listener (RFC 4533) that does one bare request for each.
async fn listen_barely(
    harbour: &Slapd,
    berthing: &ScimService,
) -> anyhow::Result<tokio::task::JoinHandle<anyhow::Result<()>>> {
    let ids: HashMap<String, String> = berthing
        .users()
        .iter()
        .filter_map(|user| {
            Some((
                user["userName"].as_str()?.to_lowercase(),
                user["id"].as_str()?.to_owned(),
            ))
        })
        .collect();
    let mut ldap = ldap(harbour).await?;
    let http = reqwest::Client::builder()
        .tls_backend_rustls()
        .no_proxy()
        .build()?;
    let url = berthing.url.clone();
    let (ready, is_ready) = tokio::sync::oneshot::channel();
    let task = tokio::spawn(async move {
        let mut ready = Some(ready);
        let control = SyncRequest {
            mode: RefreshMode::RefreshAndPersist,
            cookie: None,
            reload_hint: false,
        };
        let mut stream = ldap
            .with_controls(control)
            .streaming_search(
                BASE,
                Scope::Subtree,
                "(objectClass=inetOrgPerson)",
                vec!["mail", "title"],
            )
            .await?;
        loop {
            // Everything is read once; after that, only changes arrive.
            let next = match ready.is_some() {
                true => tokio::time::timeout(Duration::from_secs(2), stream.next()).await,
                false => Ok(stream.next().await),
            };
            let Ok(next) = next else {
                ready.take().map(|ready| ready.send(()));
                continue;
            };
            let Some(entry) = next? else { return Ok(()) };
            if ready.is_some() || entry.is_intermediate() {
                continue;
            }
            let entry = SearchEntry::construct(entry);
            let of = |name: &str| {
                entry
                    .attrs
                    .get(name)
                    .and_then(|values| values.first())
                    .cloned()
                    .unwrap_or_default()
            };
            let Some(id) = ids.get(&of("mail").to_lowercase()) else {
                continue;
            };
            let body = json!({"schemas": [tide_scim::PATCH_OP], "Operations": [{"op": "replace", "path": "title", "value": of("title")}]});
            let request = http
                .request(Method::PATCH, format!("{url}/Users/{id}"))
                .bearer_auth("bench-token")
                .header("content-type", "application/scim+json");
            request.body(body.to_string()).send().await?.bytes().await?;
        }
    });
    is_ready.await?;
    Ok(task)
}

/// Looks at the clock every millisecond, beside what is measured: how long the machine itself stood
/// still at most.
struct Beat {
    ended: Arc<AtomicBool>,
    worst: std::thread::JoinHandle<Duration>,
}

impl Beat {
    fn start() -> Beat {
        let ended = Arc::new(AtomicBool::new(false));
        let until = ended.clone();
        let worst = std::thread::spawn(move || {
            let mut worst = Duration::ZERO;
            while !until.load(Ordering::Relaxed) {
                let begun = tide_clock::instant();
                std::thread::sleep(Duration::from_millis(1));
                worst = worst.max(begun.elapsed());
            }
            worst
        });
        Beat { ended, worst }
    }

    fn stop(self) -> anyhow::Result<f64> {
        self.ended.store(true, Ordering::Relaxed);
        let worst = self
            .worst
            .join()
            .map_err(|_| anyhow::anyhow!("the beat ended"))?;
        Ok(worst.as_secs_f64() * 1000.0)
    }
}

/// The time that this disk takes to make a small write durable: the floor of anything that stores
/// before it sends.
fn durable(folder: &Path) -> anyhow::Result<f64> {
    let mut file = std::fs::File::create(folder.join("durable"))?;
    let mut times = Vec::new();
    for _ in 0..100 {
        let begun = tide_clock::instant();
        file.write_all(&[7; 4096])?;
        file.sync_data()?;
        times.push(begun.elapsed());
    }
    Ok(quantile(&mut times, 0.5))
}

/// The time until the account of a person is disabled, from now.
async fn gone(
    seen: &mut UnboundedReceiver<(Value, Instant)>,
    name: &str,
) -> anyhow::Result<Duration> {
    let begun = tide_clock::instant();
    loop {
        let next = tokio::time::timeout(Duration::from_secs(300), seen.recv()).await;
        let (user, at) = next
            .context("the leaver stays")?
            .context("the service ended")?;
        if user["active"] == false
            && user["userName"]
                .as_str()
                .is_some_and(|other| other.eq_ignore_ascii_case(name))
        {
            return Ok(at.saturating_duration_since(begun));
        }
    }
}

pub(crate) async fn until(
    what: &str,
    seconds: u64,
    holds: impl Fn() -> bool,
) -> anyhow::Result<Duration> {
    let begun = tide_clock::instant();
    while !holds() {
        ensure!(
            begun.elapsed() < Duration::from_secs(seconds),
            "{what} does not come"
        );
        tide_clock::sleep(Duration::from_millis(2)).await;
    }
    Ok(begun.elapsed())
}

pub async fn run(count: usize, changed: usize, joiners: usize) -> anyhow::Result<()> {
    println!(
        "Runs over {count} people, from slapd into the SCIM stand-in, in one process with it:"
    );
    let bench = Bench::start(count).await?;
    measure_first_load(count, &bench).await?;

    measure_idle_run(&bench).await?;

    let sound = bench.sound();
    let mut names: Vec<&String> = sound.keys().collect();
    names.sort();
    let step = (names.len() / changed).max(1);
    let some: Vec<(String, String)> = names
        .iter()
        .step_by(step)
        .take(changed)
        .map(|name| ((*name).clone(), sound[*name].dn()))
        .collect();
    let mut seen = bench.berthing.watch();
    let listener = listen_barely(&bench.harbour, &bench.berthing).await?;
    let mut floor = changes(&bench.harbour, &some, "Bare", &mut seen).await?;
    listener.abort();
    watch_source(&bench).await?;
    // The first automatic run creates the initial state.
    let warm = vec![(names[1].clone(), sound[names[1]].dn())];
    changes(&bench.harbour, &warm, "Warm", &mut seen).await?;
    tide_clock::sleep(Duration::from_secs(5)).await;
    let beat = Beat::start();
    let mut ours = changes(&bench.harbour, &some, "Ours", &mut seen).await?;
    let still = beat.stop()?;
    let (bare, median) = (quantile(&mut floor, 0.5), quantile(&mut ours, 0.5));
    let disk = durable(bench.folder.path())?;
    let slow = ours.iter().filter(|time| time.as_millis() >= 50).count();
    println!(
        "  one change, bare listener            {bare:>8.1} ms median, {:.1} ms for 99 of 100",
        quantile(&mut floor, 0.99)
    );
    println!(
        "  one change, ours                     {median:>8.1} ms median, {:.1} ms for 99 of 100; {:.1} times the bare listener (aim: under 25 ms, under 150 ms, under 3 times)",
        quantile(&mut ours, 0.99),
        median / bare
    );
    println!(
        "  one change, ours                     {:>8.1} ms for 90 of 100, {:.1} ms for 95; {slow} of {} took 50 ms or more; a bare thread stood still for up to {still:.0} ms",
        quantile(&mut ours, 0.9),
        quantile(&mut ours, 0.95),
        ours.len()
    );
    println!(
        "  one durable note on this disk        {disk:>8.1} ms median; ours is {:.1} times the bare listener with one before each request",
        median / (bare + disk)
    );
    let (read, evaluated) = bench.engine.decider().last_cost();
    println!(
        "  one change reads                     {read:>8} records and makes {evaluated} evaluations"
    );

    measure_leavers(joiners, &bench, &sound, &names, seen).await?;
    bench.engine.stop().await;
    drop(bench.folder);
    Ok(())
}

/// Measures the first load.
async fn measure_first_load(count: usize, bench: &Bench) -> anyhow::Result<()> {
    bench.engine.ingest().read_all().await?;
    memory::reset();
    let (first, sent, took) = bench
        .go(Plan {
            carry_out: true,
            without_reading: true,
            ..Plan::default()
        })
        .await?;
    let made = bench.berthing.count();
    ensure!(
        states(&first, ChangeState::Failed) == 0 && made > count * 8 / 10,
        "{:?}, {made} made, {:?}, {:?}",
        first.states,
        first.verdicts,
        bench.engine.store().last_readings().await?
    );
    let peak = memory::peak();
    let bodies = bench.berthing.users().into_iter().map(|mut user| {
        user["id"] = Value::Null;
        user["meta"] = Value::Null;
        user
    });
    let floor = post_all(bodies.collect()).await?;
    let each = |time: Duration| made as f64 / time.as_secs_f64();
    println!(
        "  first load, bare loop of posts       {:>8.0} a second, {AT_A_TIME} in flight",
        each(floor)
    );
    println!(
        "  first load, sending, intents durable {:>8.0} a second   {:.2} of the bare loop (aim 0.8, must 0.5)",
        each(sent),
        each(sent) / each(floor)
    );
    println!(
        "  first load, with deciding            {:>8.1} s in all; {:.2} GB of memory at its peak, systems and stand-ins with it",
        took.as_secs_f64(),
        peak as f64 / 1e9
    );
    Ok(())
}

/// Measures a run without changes.
async fn measure_idle_run(bench: &Bench) -> anyhow::Result<()> {
    let begun = tide_clock::instant();
    let dumped = Command::new("ldapsearch")
        .args([
            "-LLL",
            "-x",
            "-H",
            &bench.harbour.url,
            "-D",
            &bench.harbour.admin_dn,
            "-w",
            &bench.harbour.admin_password,
            "-b",
            BASE,
        ])
        .args([
            "-E",
            "pr=500/noprompt",
            "(objectClass=inetOrgPerson)",
            "*",
            "entryUUID",
            "memberOf",
        ])
        .stdout(Stdio::null())
        .status()
        .context("ldap-utils are not installed")?;
    ensure!(dumped.success(), "ldapsearch failed");
    let floor = begun.elapsed();
    let begun = tide_clock::instant();
    bench.engine.ingest().read_by_name("harbour").await?;
    let read = begun.elapsed();
    let (idle, _, decided) = bench
        .go(Plan {
            carry_out: true,
            without_reading: true,
            ..Plan::default()
        })
        .await?;
    ensure!(states(&idle, ChangeState::Done) == 0, "{:?}", idle.states);
    println!(
        "  a run without changes, ldapsearch    {:>8.2} s",
        floor.as_secs_f64()
    );
    println!(
        "  a run without changes, ours          {:>8.2} s          {:.1} times ldapsearch: reading {:.2} s, deciding and keeping the lines {:.2} s",
        (read + decided).as_secs_f64(),
        (read + decided).as_secs_f64() / floor.as_secs_f64(),
        read.as_secs_f64(),
        decided.as_secs_f64()
    );
    Ok(())
}

/// Watches the source directory and waits until it is watched.
async fn watch_source(bench: &Bench) -> anyhow::Result<()> {
    for name in ["harbour"] {
        bench
            .engine
            .administration()
            .set_schedule(
                name,
                &Schedule {
                    watch: true,
                    ..Schedule::default()
                },
                "bench",
            )
            .await?;
    }
    bench.engine.start_automatic_sync();
    let listening = || {
        bench
            .engine
            .ingest()
            .watchers()
            .iter()
            .any(|one| one.state == WatcherState::Watching)
    };
    until("listening", 120, listening).await?;
    Ok(())
}

/// Measures a leaver alone, and one behind many joiners.
async fn measure_leavers(
    joiners: usize,
    bench: &Bench,
    sound: &HashMap<String, Crew>,
    names: &[&String],
    mut seen: UnboundedReceiver<(Value, Instant)>,
) -> anyhow::Result<()> {
    let mut ldap = ldap(&bench.harbour).await?;
    let leaver = |at: usize| (names[at].clone(), sound[names[at]].dn());
    let mut alone = Vec::new();
    for at in [3, 5, 7] {
        let (name, dn) = leaver(at);
        ldap.delete(&dn).await?.success()?;
        alone.push(gone(&mut seen, &name).await?);
    }
    bench
        .engine
        .administration()
        .set_system(
            "berthing",
            SystemUpdate {
                paused: Some(true),
                ..SystemUpdate::default()
            },
            "bench",
        )
        .await?;
    let value = |name: &str, value: String| (name.to_owned(), HashSet::from([value]));
    for n in 0..joiners {
        let uid = format!("joiner{n}");
        let entry = vec![
            value("objectClass", "inetOrgPerson".into()),
            value("uid", uid.clone()),
            value("cn", format!("Joiner {n}")),
            value("sn", format!("Joiner{n}")),
            value("givenName", format!("Given{n}")),
            value("employeeNumber", format!("{}", 9_000_000 + n)),
            value("mail", format!("{uid}@skerry.example")),
        ];
        ldap.add(&format!("uid={uid},ou=Deck,ou=people,{BASE}"), entry)
            .await?
            .success()?;
    }
    tide_clock::sleep(Duration::from_secs(3)).await;
    let before = bench.berthing.count();
    bench
        .engine
        .administration()
        .set_system(
            "berthing",
            SystemUpdate {
                paused: Some(false),
                ..SystemUpdate::default()
            },
            "bench",
        )
        .await?;
    until("the backlog", 120, || {
        bench.berthing.count() > before + joiners / 100
    })
    .await?;
    let (name, dn) = leaver(9);
    ldap.delete(&dn).await?.success()?;
    let behind = gone(&mut seen, &name).await?;
    let left = (before + joiners).saturating_sub(bench.berthing.count());
    let alone = quantile(&mut alone, 0.5);
    println!("  a leaver, nothing else to do         {alone:>8.0} ms");
    println!(
        "  a leaver behind {joiners} joiners       {:>8.0} ms; {left} of them were still to be made",
        behind.as_secs_f64() * 1000.0
    );
    Ok(())
}

/// Accounts in a directory, from the directory of people.
pub(crate) const CREWHALL: &str = r#"
system = "crewhall"
[[person.match]]
name = "employee number"
account = 'account.employeeNumber'
identity = 'identity.employeeNumber'
[person.outbound]
dn             = '"uid=" + identity.userName + ",ou=" + identity.department + ",ou=people,dc=skerry,dc=example"'
objectClass    = { value = '["inetOrgPerson"]', apply = "on_create" }
uid            = 'identity.userName'
cn             = 'identity.displayName'
sn             = { value = 'coalesce(identity.familyName, identity.displayName)', required = true }
givenName      = 'identity.givenName'
mail           = 'identity.mail'
employeeNumber = 'identity.employeeNumber'
telephoneNumber = 'identity.phones'
title          = 'identity.title'
"#;

pub async fn directory(count: usize) -> anyhow::Result<()> {
    println!("The first load of {count} people into an empty slapd that waits for its disk:");
    let bench = Bench::start(count).await?;
    let empty = || {
        let setup = Setup {
            durable: true,
            ..Setup::default()
        };
        tokio::task::spawn_blocking(move || {
            Slapd::with_setup(&world::directory(&[], "bench"), &setup)
        })
    };
    let hall = empty().await??;
    connect_crewhall(&bench, &hall).await?;
    bench.engine.ingest().read_all().await?;
    let (run, sent, _) = bench
        .go(Plan {
            carry_out: true,
            without_reading: true,
            ..Plan::default()
        })
        .await?;
    let made = states(&run, ChangeState::Done);
    ensure!(made > count as i64 * 8 / 10, "{:?}", run.states);
    // The floor: the same entries.
    let connection = [
        "-x",
        "-H",
        &hall.url,
        "-D",
        &hall.admin_dn,
        "-w",
        &hall.admin_password,
    ];
    let dump = Command::new("ldapsearch")
        .args(["-LLL", "-o", "ldif-wrap=no"])
        .args(connection)
        .args(["-b", BASE, "(objectClass=inetOrgPerson)", "*"])
        .output()
        .context("ldap-utils are not installed")?;
    ensure!(dump.status.success(), "ldapsearch failed");
    let file = bench.folder.path().join("all.ldif");
    std::fs::write(&file, &dump.stdout)?;
    let other = empty().await??;
    let begun = tide_clock::instant();
    let added = Command::new("ldapadd")
        .args([
            "-x",
            "-c",
            "-H",
            &other.url,
            "-D",
            &other.admin_dn,
            "-w",
            &other.admin_password,
            "-f",
        ])
        .arg(&file)
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .status()?;
    ensure!(added.code().is_some(), "ldapadd failed");
    let floor = begun.elapsed();
    let each = |time: Duration| made as f64 / time.as_secs_f64();
    println!(
        "  ldapadd                              {:>8.0} a second",
        each(floor)
    );
    println!(
        "  ours, sending, intents durable       {:>8.0} a second   {:.2} times ldapadd (aim: 2)",
        each(sent),
        each(sent) / each(floor)
    );
    Ok(())
}

/// Connects the empty directory as the only target.
async fn connect_crewhall(bench: &Bench, hall: &Slapd) -> anyhow::Result<()> {
    let settings =
        json!({"url": hall.url, "bind_dn": hall.admin_dn, "base_dn": BASE, "page_size": 500});
    let new = NewSystem {
        name: "crewhall".into(),
        kind: SystemKind::Ldap,
        settings,
        secret: Some(hall.admin_password.clone()),
    };
    bench
        .engine
        .administration()
        .add_system(new, "bench")
        .await?;
    ensure!(
        bench
            .engine
            .administration()
            .check_system("crewhall", None)
            .await?
            .is_healthy(),
        "crewhall is not well"
    );
    let mut files: Vec<RuleFile> = world::rules_of_people()
        .into_iter()
        .map(|(name, text)| RuleFile {
            name: name.into(),
            text,
        })
        .collect();
    files.retain(|file| file.name != "guards.toml");
    files.push(RuleFile {
        name: "crewhall.toml".into(),
        text: CREWHALL.into(),
    });
    bench
        .engine
        .administration()
        .publish_rules(&files, "bench")
        .await?;
    let change = SystemUpdate {
        writable: Some(vec![ObjectType::Person]),
        armed: Some(true),
        ..SystemUpdate::default()
    };
    bench
        .engine
        .administration()
        .set_system("crewhall", change, "bench")
        .await?;
    bench
        .engine
        .administration()
        .set_system(
            "berthing",
            SystemUpdate {
                paused: Some(true),
                ..SystemUpdate::default()
            },
            "bench",
        )
        .await?;
    Ok(())
}
