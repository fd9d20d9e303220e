//! A season of very many people in virtual time: days per second, and whether every account, state,
//! value and membership at the end is what a slow, plain model of the rules says.

use anyhow::ensure;
use async_trait::async_trait;
use jiff::civil::{Date, date};
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};
use serde_json::json;
use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write as _;
use std::path::Path;
use std::sync::{Arc, Mutex};
use std::time::Duration;
use tide_clock::Instant;
use tide_core::ObjectType;
use tide_core::rules::RuleFile;
use tide_core::states::{ChangeSetKind, SystemKind};
use tide_engine::{Clock, Engine, NewSystem, Plan, Schedule, SystemUpdate};
use tide_standins::scim_service::ScimService;
use tide_standins::world::Dice;
use tide_store::{MasterKey, Store};

const ZONE: &str = "Atlantic/Faroe";
const TEAMS: [&str; 5] = ["Deck", "Engine Room", "Galley", "Terminal", "Shore Office"];
/// Days before the first day on which accounts are made, and for which one is kept in the training
/// service.
const READY: i32 = 5;
const KEPT: i32 = 20;

const RULES: [(&str, &str); 5] = [
    (
        "identities.toml",
        "[person]\nlabel = \"number\"\n[person.attributes]\nnumber = { required = true, unique = true }\nfamily = {}\nteam = {}\nstarts = {}\nends = {}\n\
         [group]\nlabel = \"name\"\n[group.attributes]\nname = {}\n",
    ),
    (
        "roster.toml",
        "system = \"roster\"\n[[person.match]]\naccount = 'account.number'\nidentity = 'identity.number'\n[person.inbound]\nnumber = 'account.number'\n\
         family = 'account.family'\nteam = 'account.team'\nstarts = 'account.start'\nends = 'account.end'\n",
    ),
    (
        "berthing.toml",
        "system = \"berthing\"\n[[person.match]]\naccount = 'account.userName'\nidentity = 'identity.number'\n[person.outbound]\nuserName = 'identity.number'\n\
         \"name.familyName\" = 'identity.family'\ntitle = 'identity.team'\n[[person.membership]]\ngroups = 'identity.team'\n\
         [[person.departure]]\nstep = \"disable\"\n[[person.departure]]\nstep = \"set\"\nattribute = \"userType\"\nvalue = '\"gone\"'\n[[person.departure]]\nstep = \"revoke\"\n",
    ),
    (
        "classroom.toml",
        "system = \"classroom\"\n[[person.scope.condition]]\nwhen = 'identity.team == \"Deck\"'\nreason = \"is not of the deck\"\n[[person.match]]\naccount = 'account.userName'\n\
         identity = 'identity.number'\n[person.outbound]\nuserName = 'identity.number'\n[[person.departure]]\nstep = \"disable\"\n[[person.departure]]\nstep = \"delete\"\nafter_days = 20\n",
    ),
    (
        "lifecycle.toml",
        "[person]\nzone = \"Atlantic/Faroe\"\nstarts = 'identity.starts'\nends = 'identity.ends'\nprestart_days = 5\nnotice_days = 7\n\
         [[person.exception]]\nwhen = 'identity.team == \"Galley\"'\ngrace_days = 2\n",
    ),
];

/// A clock that stands where it is put.
struct Moved(Mutex<Timestamp>);

#[async_trait]
impl Clock for Moved {
    fn now(&self) -> Timestamp {
        *self
            .0
            .lock()
            .unwrap_or_else(std::sync::PoisonError::into_inner)
    }

    async fn sleep(&self, pause: Duration) {
        tide_clock::sleep(pause.min(Duration::from_millis(5))).await;
    }
}

/// A person, and the expected state of their accounts.
#[derive(Debug, Clone)]
struct Hand {
    number: u32,
    family: String,
    team: &'static str,
    start: Date,
    end: Option<Date>,
    there: bool,
    usable: bool,
    grouped: Option<&'static str>,
    trains: bool,
    training: bool,
    marked: bool,
}

impl Hand {
    fn gone(&self) -> Option<Date> {
        let grace = if self.team == "Galley" { 2 } else { 0 };
        self.end.map(|end| end + (grace + 1).days())
    }

    /// The model: looks at one day, in the plainest way.
    fn live(&mut self, today: Date) {
        let deck = self.team == "Deck";
        if let Some(gone) = self.gone().filter(|gone| *gone <= today) {
            (self.usable, self.training) = (false, false);
            self.grouped = None;
            self.marked = self.there;
            if today >= gone + KEPT.days() {
                self.trains = false;
            }
            return;
        }
        let ready = today >= self.start - READY.days();
        let here = today >= self.start;
        self.there |= ready;
        self.trains |= ready && deck;
        if self.there {
            self.grouped = Some(self.team);
            self.marked = false;
        }
        // A person who leaves the deck keeps a disabled account.
        self.usable = here;
        self.training = here && deck && self.trains;
    }
}

fn write(folder: &Path, hands: &[Hand]) -> std::io::Result<()> {
    let mut text = "number;family;team;start;end\n".to_owned();
    for hand in hands {
        let end = hand.end.map(|end| end.to_string()).unwrap_or_default();
        let _ = writeln!(
            text,
            "{};{};{};{};{end}",
            hand.number, hand.family, hand.team, hand.start
        );
    }
    std::fs::write(folder.join("roster.csv"), text)
}

fn newcomer(number: u32, start: Date, dice: &mut Dice) -> Hand {
    let team = TEAMS[dice.roll(TEAMS.len())];
    let family = format!("Sund{}", dice.roll(1000));
    let end = (dice.roll(3) > 0).then(|| start + (20 + dice.roll(300) as i32).days());
    let none = false;
    Hand {
        number,
        family,
        team,
        start,
        end,
        there: none,
        usable: none,
        grouped: None,
        trains: none,
        training: none,
        marked: none,
    }
}

/// Plays a season of so many people and days.
pub async fn run(people: usize, days: usize, seed: u64) -> anyhow::Result<()> {
    println!(
        "A season of {days} days for {people} people (seed {seed}), from a feed into two SCIM stand-ins, in one process with them:"
    );
    let folder = tempfile::tempdir()?;
    let feed = folder.path().join("feeds");
    std::fs::create_dir_all(&feed)?;
    let zone = TimeZone::get(ZONE)?;
    // Over the end of summer time.
    let first = date(2026, 8, 20);
    let noon = |day: Date| anyhow::Ok(day.at(12, 0, 0, 0).to_zoned(zone.clone())?.timestamp());
    let clock = Arc::new(Moved(Mutex::new(noon(first)?)));
    let store = Store::open(&folder.path().join("tide.db"), MasterKey::generate()).await?;
    let allowed = tide_engine::SecretSources {
        feed_folders: vec![folder.path().to_owned()],
        ..Default::default()
    };
    let engine = Engine::with_config(
        store,
        clock.clone(),
        tide_engine::EngineConfig {
            secret_sources: allowed,
            ..Default::default()
        },
    );
    let berthing =
        ScimService::with_manner(Vec::new(), "bench-token", crate::runs::manner()).await?;
    let classroom =
        ScimService::with_manner(Vec::new(), "bench-token", crate::runs::manner()).await?;
    let groups: BTreeMap<&str, String> = TEAMS
        .iter()
        .map(|team| (*team, berthing.add_group(team, &[])))
        .collect();
    let mut dice = Dice::new(seed);
    let mut hands: Vec<Hand> = (0..people)
        .map(|n| {
            newcomer(
                n as u32 + 1,
                first - (1 + dice.roll(200) as i32).days(),
                &mut dice,
            )
        })
        .collect();
    write(&feed, &hands)?;
    connect(&feed, &engine, &berthing, &classroom).await?;
    let begun = load(&engine).await?;
    println!(
        "  every active person gets an account    {:.1} s",
        begun.elapsed().as_secs_f64()
    );
    engine
        .administration()
        .set_schedule(
            "berthing",
            &Schedule {
                watch: true,
                ..Schedule::default()
            },
            "bench",
        )
        .await?;
    hands.iter_mut().for_each(|hand| hand.live(first));

    let (mut told, mut sent, begun) = (
        BTreeMap::<&str, usize>::new(),
        0usize,
        tide_clock::instant(),
    );
    let mut looks = (0usize, 0usize, 0usize);
    let (mut reading, mut carrying) = (Duration::ZERO, Duration::ZERO);
    for day in 1..=days {
        let today = first + (day as i32).days();
        *clock
            .0
            .lock()
            .unwrap_or_else(std::sync::PoisonError::into_inner) = noon(today)?;
        // As many as a season of three hundred has, for each of them.
        for _ in 0..people / 450 {
            let number = hands.len() as u32 + 1;
            hands.push(newcomer(
                number,
                today + (dice.roll(10) as i32).days(),
                &mut dice,
            ));
            *told.entry("joiners").or_default() += 1;
        }
        for _ in 0..people / 600 {
            live_through(&mut dice, &mut hands, &mut told, day, today);
        }
        write(&feed, &hands)?;
        let one = tide_clock::instant();
        engine.ingest().read_by_name("roster").await?;
        reading += one.elapsed();
        let one = tide_clock::instant();
        while let Some(id) = engine.runner().run_once().await? {
            let (read, evaluated) = engine.decider().last_cost();
            looks = (looks.0 + 1, looks.1 + read, looks.2 + evaluated);
            sent += engine
                .store()
                .change_set(id)
                .await?
                .states
                .iter()
                .map(|(_, count)| count.unsigned_abs() as usize)
                .sum::<usize>();
        }
        carrying += one.elapsed();
        hands.iter_mut().for_each(|hand| hand.live(today));
    }
    let all = begun.elapsed();
    let each = |time: Duration| time.as_secs_f64() / days as f64;
    let words: Vec<String> = told
        .iter()
        .map(|(what, count)| format!("{count} {what}"))
        .collect();
    println!(
        "  what happened                            {}",
        words.join(", ")
    );
    println!(
        "  days                                     {:.2} a second; {:.2} s a day: reading the feed {:.2} s, deciding and sending {:.2} s",
        days as f64 / all.as_secs_f64(),
        each(all),
        each(reading),
        each(carrying)
    );
    println!(
        "  changes                                  {sent}, {:.0} a second of deciding and sending",
        sent as f64 / carrying.as_secs_f64()
    );
    let (count, read, evaluated) = looks;
    println!(
        "  a look at what is to be done             {} records read, {} evaluations, {:.1} a day",
        read / count.max(1),
        evaluated / count.max(1),
        count as f64 / days as f64
    );
    let wrong = compare(&hands, &berthing, &classroom, &groups);
    println!(
        "  against the slow model                   {} accounts of {} people off",
        wrong.len(),
        hands.len()
    );
    ensure!(wrong.is_empty(), "{:#?}", &wrong[..wrong.len().min(10)]);
    engine.stop().await;
    Ok(())
}

/// Connects the feed and both services.
async fn connect(
    feed: &std::path::PathBuf,
    engine: &Arc<Engine>,
    berthing: &ScimService,
    classroom: &ScimService,
) -> anyhow::Result<()> {
    for (name, kind, settings, secret) in [
        (
            "roster",
            SystemKind::Feed,
            json!({"path": *feed, "key": "number", "name": "number"}),
            None,
        ),
        (
            "berthing",
            SystemKind::Scim,
            json!({"url": berthing.url, "in_flight": crate::AT_A_TIME}),
            Some("bench-token".to_owned()),
        ),
        (
            "classroom",
            SystemKind::Scim,
            json!({"url": classroom.url, "in_flight": crate::AT_A_TIME}),
            Some("bench-token".to_owned()),
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
                "bench",
            )
            .await?;
        engine.administration().check_system(name, None).await?;
        let writable = if kind == SystemKind::Scim {
            vec![ObjectType::Person, ObjectType::Group]
        } else {
            Vec::new()
        };
        engine
            .administration()
            .set_system(
                name,
                SystemUpdate {
                    writable: Some(writable),
                    armed: Some(true),
                    ..SystemUpdate::default()
                },
                "bench",
            )
            .await?;
    }
    Ok(())
}

/// Publishes the rules and gives every active person an account.
async fn load(engine: &Arc<Engine>) -> anyhow::Result<Instant> {
    let files: Vec<RuleFile> = RULES
        .iter()
        .map(|(name, text)| RuleFile {
            name: (*name).into(),
            text: (*text).into(),
        })
        .collect();
    let (_, faults) = engine
        .administration()
        .publish_rules(&files, "bench")
        .await?;
    ensure!(
        faults
            .iter()
            .all(|fault| fault.severity == tide_core::rules::FaultSeverity::Warning),
        "{faults:?}"
    );
    let begun = tide_clock::instant();
    engine
        .runner()
        .begin_change_set(
            Plan {
                carry_out: true,
                ..Plan::default()
            },
            "bench",
        )
        .await?;
    while engine
        .store()
        .open_change_sets()
        .await?
        .iter()
        .any(|(_, kind, ..)| *kind == ChangeSetKind::Run)
    {
        tide_clock::sleep(Duration::from_millis(100)).await;
    }
    Ok(begun)
}

/// Changes one person on this day, at random.
fn live_through(
    dice: &mut Dice,
    hands: &mut [Hand],
    told: &mut BTreeMap<&str, usize>,
    day: usize,
    today: Date,
) {
    let at = dice.roll(hands.len());
    let hand = &mut hands[at];
    match dice.roll(4) {
        0 => {
            hand.team = TEAMS[dice.roll(TEAMS.len())];
            *told.entry("movers").or_default() += 1;
        }
        1 if hand.start <= today && hand.gone().is_none_or(|gone| gone > today) => {
            hand.end = Some(today);
            *told.entry("ended today").or_default() += 1;
        }
        2 if hand.gone().is_some_and(|gone| gone <= today) => {
            (hand.start, hand.end) = (today + 3.days(), Some(today + 90.days()));
            *told.entry("hired again").or_default() += 1;
        }
        3 => {
            hand.family = format!("Reef{day}");
            *told.entry("marriages").or_default() += 1;
        }
        _ => {}
    }
}

/// Differences from the model.
fn compare(
    hands: &[Hand],
    berthing: &ScimService,
    classroom: &ScimService,
    groups: &BTreeMap<&str, String>,
) -> Vec<String> {
    let by_name = |service: &ScimService| -> BTreeMap<String, serde_json::Value> {
        service
            .users()
            .into_iter()
            .filter_map(|user| Some((user["userName"].as_str()?.to_owned(), user)))
            .collect()
    };
    let (berths, desks) = (by_name(berthing), by_name(classroom));
    let mut members: BTreeMap<String, BTreeSet<&str>> = BTreeMap::new();
    let there = berthing.groups();
    for (team, id) in groups {
        let group = there.iter().find(|group| group["id"] == id.as_str());
        for member in group
            .into_iter()
            .flat_map(|group| group["members"].as_array().into_iter().flatten())
        {
            members
                .entry(member["value"].as_str().unwrap_or_default().to_owned())
                .or_default()
                .insert(team);
        }
    }
    let mut wrong = Vec::new();
    for hand in hands {
        let name = hand.number.to_string();
        let berth = berths.get(&name);
        let is = berth.map(|user| {
            let own = members
                .get(user["id"].as_str().unwrap_or_default())
                .cloned()
                .unwrap_or_default();
            let active = user["active"].as_bool().unwrap_or(true);
            let marked = user["userType"] == "gone";
            let known =
                user["title"] == hand.team && user["name"]["familyName"] == hand.family.as_str();
            // The names of leavers are not tracked any more.
            (
                active,
                own.into_iter().collect::<Vec<&str>>(),
                marked,
                known || marked,
            )
        });
        let wanted = hand.there.then(|| {
            (
                hand.usable,
                hand.grouped.into_iter().collect::<Vec<&str>>(),
                hand.marked,
                true,
            )
        });
        if is != wanted {
            wrong.push(format!(
                "berthing: {is:?}, and should be {wanted:?}: {hand:?}"
            ));
        }
        let is = desks
            .get(&name)
            .map(|user| user["active"].as_bool().unwrap_or(true));
        let wanted = hand.trains.then_some(hand.training);
        if is != wanted {
            wrong.push(format!(
                "classroom: {is:?}, and should be {wanted:?}: {hand:?}"
            ));
        }
    }
    wrong
}
