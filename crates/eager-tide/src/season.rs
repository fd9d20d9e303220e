//! `eager-tide demo --season`: a season of Skerry Line with a simulated clock. Crews join, move and
//! leave day by day while the console shows it. At the end every account is compared with the
//! contract of its person.

use crate::demo::Stage;
use crate::play::plain;
use anyhow::{Context, ensure};
use async_trait::async_trait;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp, ToSpan};
use ldap3::{Ldap, LdapConnAsync, Mod};
use std::collections::{BTreeMap, HashSet};
use std::process::ExitCode;
use std::sync::{Arc, Mutex};
use std::time::Duration;
use tide_clock::Instant;
use tide_engine::{Clock, Engine, Event, Plan, Schedule};
use tide_standins::world::{self, Crew};

/// How long a season is.
const DAYS: i32 = 90;
/// How many join, move and leave.
const JOIN: usize = 60;
const MOVE: usize = 15;
const LEAVE: usize = 40;
/// Of those who left, every tenth is hired again.
const AGAIN: usize = 10;

/// A clock that runs, and can be put ahead.
#[derive(Default)]
pub struct SeaClock(Mutex<SignedDuration>);

impl SeaClock {
    fn to(&self, at: Timestamp) {
        let mut ahead = self
            .0
            .lock()
            .unwrap_or_else(std::sync::PoisonError::into_inner);
        *ahead = (*ahead).max(at.duration_since(tide_clock::now()));
    }
}

#[async_trait]
impl Clock for SeaClock {
    fn now(&self) -> Timestamp {
        let ahead = *self
            .0
            .lock()
            .unwrap_or_else(std::sync::PoisonError::into_inner);
        tide_clock::now()
            .saturating_add(ahead)
            .unwrap_or(Timestamp::MAX)
    }

    async fn sleep(&self, pause: Duration) {
        tide_clock::sleep(pause).await;
    }
}

/// A person of the season, and the expected state of their contract.
struct Hand {
    person: Crew,
    start: Option<Date>,
    end: Option<Date>,
    usable: bool,
}

struct Season<'s> {
    stage: &'s Stage,
    engine: &'s Arc<Engine>,
    clock: &'s SeaClock,
    zone: TimeZone,
    ldap: Ldap,
    /// The personnel office's file, line by line.
    lines: Vec<String>,
    told: BTreeMap<&'static str, usize>,
}

/// The line of a person with other dates.
fn dated(line: &str, start: Option<Date>, end: Option<Date>) -> Option<String> {
    let mut parts = line.rsplitn(4, ';');
    let (status, _, before, rest) = (parts.next()?, parts.next()?, parts.next()?, parts.next()?);
    let start = start.map_or_else(|| before.to_owned(), |start| start.to_string());
    Some(format!(
        "{rest};{start};{};{status}",
        end.map(|end| end.to_string()).unwrap_or_default()
    ))
}

impl Season<'_> {
    fn note(&mut self, what: &'static str) {
        *self.told.entry(what).or_default() += 1;
    }

    /// Changes the dates of a person in the personnel office's file.
    fn contract(
        &mut self,
        person: &Crew,
        start: Option<Date>,
        end: Option<Date>,
    ) -> anyhow::Result<()> {
        let own = format!("{};", person.number);
        let line = self
            .lines
            .iter_mut()
            .find(|line| line.starts_with(&own))
            .context("not in the roster")?;
        *line = dated(line, start, end).context("a line without dates")?;
        Ok(())
    }

    async fn run(&self, plan: Plan) -> anyhow::Result<()> {
        let mut events = self.engine.events();
        let id = self
            .engine
            .runner()
            .begin_change_set(plan, "the season")
            .await?;
        loop {
            if self.engine.store().change_set(id).await?.ended_at.is_some() {
                return Ok(());
            }
            // Checks again, whether an event arrived or not.
            let _ = tokio::time::timeout(Duration::from_millis(500), async {
                while !matches!(events.recv().await, Ok(Event::ChangeSet { id: of, .. }) if of == id) {}
            })
            .await;
        }
    }

    /// A new hand comes into the file and into the directory.
    async fn join(&mut self, person: &Crew, start: Date) -> anyhow::Result<()> {
        self.lines.push(format!(
            "{};{};{};seasonal;{start};;employed",
            person.number, person.given, person.family
        ));
        let attributes = person
            .entry()
            .attributes
            .into_iter()
            .filter(|(_, values)| values.iter().any(|value| !value.is_empty()));
        let entry: Vec<(Vec<u8>, HashSet<Vec<u8>>)> = attributes
            .map(|(name, values)| {
                (
                    name.into_bytes(),
                    values
                        .into_iter()
                        .filter(|value| !value.is_empty())
                        .collect(),
                )
            })
            .collect();
        self.ldap.add(&person.dn(), entry).await?.success()?;
        self.note("joined");
        Ok(())
    }

    async fn set(&mut self, person: &Crew, values: &[(&str, &str)]) -> anyhow::Result<()> {
        let mods = values
            .iter()
            .map(|(name, value)| {
                Mod::Replace((*name).to_owned(), HashSet::from([(*value).to_owned()]))
            })
            .collect();
        self.ldap.modify(&person.dn(), mods).await?.success()?;
        Ok(())
    }

    /// Carries on what the clock brought, and what came from the sources.
    async fn carry_on(&self, read: bool) -> anyhow::Result<()> {
        if read {
            // Renamed into place, so that no reader sees half of the file.
            let part = self.stage.roster.with_extension("part");
            std::fs::write(&part, self.lines.join("\n") + "\n")?;
            std::fs::rename(&part, &self.stage.roster)?;
            self.engine.ingest().read_by_name("roster").await?;
            self.engine.ingest().read_by_name("harbour").await?;
        }
        self.engine.runner().run_once().await?;
        Ok(())
    }
}

/// Plays the season, a day in `pace` at least. It fails if anybody's account is not what their
/// contract says.
pub async fn play(
    stage: &Stage,
    engine: &Arc<Engine>,
    clock: &SeaClock,
    pace: Duration,
) -> anyhow::Result<ExitCode> {
    let mut season = Season::prepare(stage, engine, clock).await?;
    let first = engine.now().to_zoned(season.zone.clone()).date();
    let moment = |day: Date, zone: &TimeZone| {
        anyhow::Ok(day.at(0, 0, 0, 0).to_zoned(zone.clone())?.timestamp())
    };

    println!(
        "\nA season of {DAYS} days from {first}, a day in about {:.1} s. Watch it:\n  console   {}/#token={}\n",
        pace.as_secs_f32(),
        stage.url,
        stage.token
    );
    create_accounts(engine, &season).await?;

    let new = world::people(world::SEED, stage.people.len() + JOIN);
    let here: Vec<Crew> = plain(&stage.people).into_iter().cloned().collect();
    ensure!(
        here.len() >= LEAVE + MOVE + 2,
        "a season needs more people: {} would do",
        world::PEOPLE
    );
    let mut leavers: Vec<Hand> = Vec::new();
    for (n, person) in here.iter().take(LEAVE).enumerate() {
        let end = first + (3 + 2 * n as i32).days();
        season.contract(person, None, Some(end))?;
        leavers.push(Hand {
            person: person.clone(),
            start: None,
            end: Some(end),
            usable: true,
        });
    }
    let mut joiners: Vec<Hand> = Vec::new();
    let mut week = tide_clock::instant();
    for day in 1..=DAYS {
        let (today, begun) = (first + day.days(), tide_clock::instant());
        // Midnight: dates take effect automatically.
        season.clock.to(moment(today, &season.zone)?);
        season.carry_on(false).await?;
        // Morning: what people do.
        let mut read = day == 1;
        while joiners.len() < JOIN * day as usize / 80 && joiners.len() < JOIN {
            let person = new[stage.people.len() + joiners.len()].clone();
            let start = today + (joiners.len() as i32 % 10).days();
            season.join(&person, start).await?;
            joiners.push(Hand {
                person,
                start: Some(start),
                end: None,
                usable: false,
            });
            read = true;
        }
        move_or_rename(&mut season, &here, day, &mut read).await?;
        extend_or_rehire(&mut season, &mut leavers, day, today, &mut read)?;
        season.note_left(&leavers, today);
        if read {
            season.carry_on(true).await?;
        }
        tide_clock::sleep(pace.saturating_sub(begun.elapsed())).await;
        report(&season, &mut week, day, today);
    }
    season.end(first + DAYS.days(), leavers, joiners).await
}

impl<'a> Season<'a> {
    /// Connects to the directory as its administrator, and reads the roster.
    async fn prepare(
        stage: &'a Stage,
        engine: &'a Arc<Engine>,
        clock: &'a SeaClock,
    ) -> anyhow::Result<Season<'a>> {
        let (connection, mut ldap) = LdapConnAsync::new(stage.harbour.url()).await?;
        tokio::spawn(async move { connection.drive().await });
        let (admin, password) = stage.harbour.admin();
        ldap.simple_bind(admin, password).await?.success()?;
        let lines = std::fs::read_to_string(&stage.roster)?
            .lines()
            .map(str::to_owned)
            .collect();
        let zone = TimeZone::get("Atlantic/Faroe")?;
        Ok(Season {
            stage,
            engine,
            clock,
            zone,
            ldap,
            lines,
            told: BTreeMap::new(),
        })
    }
}

/// Gives every active person an account, and watches the service.
async fn create_accounts(engine: &Arc<Engine>, season: &Season<'_>) -> anyhow::Result<()> {
    println!("  every active person gets an account …");
    season
        .run(Plan {
            carry_out: true,
            ..Plan::default()
        })
        .await?;
    season
        .run(Plan {
            carry_out: true,
            ..Plan::default()
        })
        .await?;
    engine
        .administration()
        .set_schedule(
            "berthing",
            &Schedule {
                watch: true,
                ..Schedule::default()
            },
            "the season",
        )
        .await?;
    Ok(())
}

/// Moves a person, or renames one, on the days for it. Returns whether the source changed.
async fn move_or_rename(
    season: &mut Season<'_>,
    here: &[Crew],
    day: i32,
    read: &mut bool,
) -> anyhow::Result<()> {
    if day % 6 == 0 && (day / 6) as usize <= MOVE {
        let person = &here[LEAVE + (day / 6) as usize];
        let (code, _) = world::DEPARTMENTS[(day as usize / 6) % world::DEPARTMENTS.len()];
        season
            .set(person, &[("departmentNumber", code), ("l", "Tarn Quay")])
            .await?;
        season.note("moved");
        *read = true;
    }
    if day == 20 {
        let person = &here[LEAVE];
        season
            .set(person, &[("sn", "Newly-Wed"), ("displayName", "Newly Wed")])
            .await?;
        season.note("married");
        *read = true;
    }
    Ok(())
}

/// Extends a contract, or hires people again, on the days for it.
fn extend_or_rehire(
    season: &mut Season<'_>,
    leavers: &mut [Hand],
    day: i32,
    today: Date,
    read: &mut bool,
) -> anyhow::Result<()> {
    let extended = leavers
        .iter_mut()
        .find(|hand| hand.end == Some(today))
        .filter(|_| day == 31);
    if let Some(hand) = extended {
        hand.end = Some(today + 200.days());
        let (person, end) = (hand.person.clone(), hand.end);
        season.contract(&person, None, end)?;
        season.note("extended on their last day");
        *read = true;
    }
    for n in (0..LEAVE).step_by(AGAIN) {
        let hand = &mut leavers[n];
        if hand.end.is_some_and(|end| end + 12.days() == today) {
            (hand.start, hand.end) = (Some(today + 5.days()), Some(today + 400.days()));
            let (person, start, end) = (hand.person.clone(), hand.start, hand.end);
            season.contract(&person, start, end)?;
            season.note("hired again");
            *read = true;
        }
    }
    Ok(())
}

/// Prints what happened until today.
fn report(season: &Season<'_>, week: &mut Instant, day: i32, today: Date) {
    if day % 7 == 0 || day == DAYS {
        let told: Vec<String> = season
            .told
            .iter()
            .map(|(what, count)| format!("{count} {what}"))
            .collect();
        println!(
            "  {today}  {}  ({:.1} s)",
            told.join(", "),
            week.elapsed().as_secs_f32()
        );
        *week = tide_clock::instant();
    }
}

/// The most runs that are made at the end of the season, before it is judged.
const RUNS_AT_THE_END: usize = 20;

impl Season<'_> {
    fn note_left(&mut self, leavers: &[Hand], today: Date) {
        let left = leavers
            .iter()
            .filter(|hand| hand.end.is_some_and(|end| end + 1.day() == today))
            .count();
        *self.told.entry("left").or_default() += left;
    }

    /// Compares every account with the contract of its person.
    async fn end(
        &self,
        today: Date,
        mut leavers: Vec<Hand>,
        mut joiners: Vec<Hand>,
    ) -> anyhow::Result<ExitCode> {
        // What the last days brought may not be done yet on a slow machine.
        for _ in 0..RUNS_AT_THE_END {
            if self.engine.runner().run_once().await?.is_none() {
                break;
            }
        }
        let mut wrong = 0;
        for hand in leavers.iter_mut().chain(&mut joiners) {
            // A contractor has a day for handing over.
            let grace = if hand.person.contract == "contract" {
                1
            } else {
                0
            };
            let started = hand.start.is_none_or(|start| start <= today);
            // An account that was locked manually stays locked.
            hand.usable = !hand.person.locked
                && started
                && hand.end.is_none_or(|end| end + grace.days() >= today);
            let user = self.stage.berthing.user(&hand.person.mail);
            let seen = user.as_ref().is_some_and(|user| user["active"] == true);
            if seen != hand.usable {
                println!(
                    "  OFF {} ({}): usable {seen}, and should be {}",
                    hand.person.common_name(),
                    hand.person.number,
                    hand.usable
                );
                wrong += 1;
            }
        }
        let all = self.engine.views().list_leavers(false).await?;
        let mut seconds: Vec<f64> = all
            .iter()
            .filter_map(tide_engine::Leaver::seconds_to_revoke)
            .collect();
        seconds.sort_by(f64::total_cmp);
        let (median, worst) = (
            seconds.get(seconds.len() / 2).copied(),
            seconds.last().copied(),
        );
        println!(
            "\n  {} people checked, {wrong} wrong; {} left; access closed: median {:.2} s, slowest {:.2} s; {} leavers still have access",
            leavers.len() + joiners.len(),
            all.len(),
            median.unwrap_or_default(),
            worst.unwrap_or_default(),
            all.iter().filter(|one| !one.open.is_empty()).count(),
        );
        for one in self.engine.views().list_licenses().await? {
            let (name, seats) = (&one.license.name, one.license.seats);
            println!(
                "  {name}: {} of {seats} in use, {} wait for one",
                one.used, one.waiting_count
            );
        }
        Ok(if wrong == 0 {
            ExitCode::SUCCESS
        } else {
            ExitCode::FAILURE
        })
    }
}
