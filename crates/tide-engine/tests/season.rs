//! A season, day by day, with a clock that is moved: what a preview of the next day shows is what
//! then happens, and what every account is at noon is what an independent, slow model of the rules
//! says.
#![allow(clippy::disallowed_methods, reason = "tests run in real time")]

#[allow(dead_code)] // Each test uses a part of it.
mod common;

use common::fed::Season;
use jiff::civil::{Date, date};
use jiff::tz::TimeZone;
use jiff::{SignedDuration, ToSpan};
use std::collections::BTreeMap;
use std::path::Path;
use std::time::Duration;
use tide_engine::{Clock, Plan, Schedule};
use tide_standins::eventually;
use tide_standins::world::Dice;

const ZONE: &str = "Atlantic/Faroe";
const READY: i32 = 5;
const KEPT: i32 = 10;
const DAYS: i32 = 50;

const RULES: [(&str, &str); 4] = [
    (
        "identities.toml",
        "[person]\nlabel = \"number\"\n[person.attributes]\nnumber = { required = true, unique = true }\nfamily = {}\nteam = {}\nstarts = {}\nends = {}\nstatus = {}\n",
    ),
    (
        "roster.toml",
        "system = \"roster\"\n[person.inbound]\nnumber = 'account.number'\nfamily = 'account.family'\nteam = 'account.team'\nstarts = 'account.start'\nends = 'account.end'\nstatus = 'account.status'\n",
    ),
    (
        "berthing.toml",
        "system = \"berthing\"\n[[person.match]]\naccount = 'account.userName'\nidentity = 'identity.number'\n[person.outbound]\nuserName = 'identity.number'\n\
         \"name.familyName\" = 'identity.family'\ntitle = 'identity.team'\n[[person.departure]]\nstep = \"disable\"\n[[person.departure]]\nstep = \"set\"\n\
         attribute = \"userType\"\nvalue = '\"gone\"'\n[[person.departure]]\nstep = \"delete\"\nafter_days = 10\n",
    ),
    (
        "lifecycle.toml",
        "[person]\nzone = \"Atlantic/Faroe\"\nstarts = 'identity.starts'\nends = 'identity.ends'\nleft = 'identity.status == \"terminated\"'\nprestart_days = 5\nnotice_days = 7\n\
         [[person.exception]]\nwhen = 'identity.team == \"Galley\"'\ngrace_days = 2\n",
    ),
];

/// Somebody of the season, and what the model knows of their account.
#[derive(Debug, Clone)]
struct Hand {
    number: String,
    family: String,
    team: &'static str,
    start: Date,
    end: Option<Date>,
    terminated: Option<Date>,
    there: bool,
    usable: bool,
}

impl Hand {
    /// The last day on which they can get in, by their dates.
    fn last(&self) -> Option<Date> {
        let grace = if self.team == "Galley" { 2 } else { 0 };
        self.end.map(|end| end + grace.days())
    }

    /// The first day on which they are gone.
    fn gone(&self, today: Date) -> Option<Date> {
        let by_date = self.last().map(|last| last + 1.day());
        [by_date, self.terminated]
            .into_iter()
            .flatten()
            .filter(|day| *day <= today)
            .min()
    }

    /// The model: looks at one day at noon, in the plainest way.
    fn live(&mut self, today: Date) {
        if let Some(gone) = self.gone(today) {
            self.usable = false;
            if today >= gone + KEPT.days() {
                self.there = false;
            }
        } else if today < self.start {
            self.usable = false;
            self.there |= today >= self.start - READY.days();
        } else {
            (self.there, self.usable) = (true, true);
        }
    }
}

fn write(folder: &Path, hands: &[Hand]) {
    let mut text = "number;family;team;start;end;status\n".to_owned();
    for hand in hands {
        let end = hand.end.map(|end| end.to_string()).unwrap_or_default();
        let status = if hand.terminated.is_some() {
            "terminated"
        } else {
            "employed"
        };
        text.push_str(&format!(
            "{};{};{};{};{end};{status}\n",
            hand.number, hand.family, hand.team, hand.start
        ));
    }
    std::fs::write(folder.join("roster.csv"), text).expect("written");
}

const TEAMS: [&str; 3] = ["Deck", "Galley", "Terminal"];

/// What happens in the source at noon of a day, and what it is called.
fn happen(
    hands: &mut Vec<Hand>,
    today: Date,
    dice: &mut Dice,
    told: &mut BTreeMap<&'static str, usize>,
) {
    for _ in 0..dice.roll(4) {
        let at = dice.roll(hands.len());
        let hand = &mut hands[at];
        let word = match dice.roll(4) {
            0 if hand.gone(today).is_none() => {
                hand.family = format!("{}-Reef", hand.family.split('-').next().unwrap_or_default());
                "marriage"
            }
            1 => {
                // Another team may have other days: whoever is out by the new one is out at once.
                hand.team = TEAMS[dice.roll(TEAMS.len())];
                if hand.gone(today).is_some() && hand.usable {
                    "mover out"
                } else {
                    "mover"
                }
            }
            2 if hand.gone(today).is_none() && hand.start <= today && dice.roll(3) == 0 => {
                hand.terminated = Some(today);
                "termination"
            }
            3 if hand.gone(today).is_some() => {
                hand.start = today + (dice.roll(9) as i32).days();
                hand.end = Some(hand.start + (5 + dice.roll(20) as i32).days());
                hand.terminated = None;
                "rehire"
            }
            _ => continue,
        };
        *told.entry(word).or_default() += 1;
    }
    // A contract extended on its last day.
    if let Some(hand) = hands
        .iter_mut()
        .find(|hand| hand.end == Some(today) && hand.terminated.is_none())
    {
        hand.end = Some(today + 12.days());
        *told.entry("extension").or_default() += 1;
    }
    if dice.roll(2) == 0 {
        let number = format!("{}", 2000 + hands.len());
        let start = today + (dice.roll(14) as i32).days();
        let end = (dice.roll(3) > 0).then(|| start + (3 + dice.roll(25) as i32).days());
        let team = TEAMS[dice.roll(TEAMS.len())];
        hands.push(Hand {
            number,
            family: "Holm".into(),
            team,
            start,
            end,
            terminated: None,
            there: false,
            usable: false,
        });
        *told.entry("joiner").or_default() += 1;
    }
}

/// The crew at the start: thirty, without those whose end is before their start.
fn first_crew(dice: &mut Dice, first: Date) -> Vec<Hand> {
    let hands = (0..30).map(|n| Hand {
        number: format!("{}", 1000 + n),
        family: "Lind".into(),
        team: TEAMS[dice.roll(TEAMS.len())],
        start: first - (dice.roll(300) as i32).days() + 10.days(),
        end: (dice.roll(3) > 0).then(|| first + (dice.roll(60) as i32 - 5).days()),
        terminated: None,
        there: false,
        usable: false,
    });
    hands
        .filter(|hand| hand.end.is_none_or(|end| end > hand.start))
        .collect()
}

/// Asserts that each account is what the model says of its person today.
fn assert_accounts(season: &Season, hands: &mut [Hand], today: Date) {
    for hand in hands {
        hand.live(today);
        let user = season.berthing.user(&hand.number);
        let is_active = user
            .as_ref()
            .map(|user| user["active"].as_bool().unwrap_or(true));
        let expected = hand.there.then_some(hand.usable);
        assert_eq!(is_active, expected, "{today}: {hand:#?}\n{user:#?}");
        let Some(user) = user else { continue };
        let is_gone = hand.gone(today).is_some();
        assert_eq!(user["userType"] == "gone", is_gone, "{today}: {hand:?}");
        if !is_gone {
            assert_eq!(
                (&user["name"]["familyName"], &user["title"]),
                (&hand.family.clone().into(), &hand.team.into())
            );
        }
    }
}

fn run() -> Plan {
    Plan {
        carry_out: true,
        ..Plan::default()
    }
}

/// Previews the next midnight, then lives it, and returns its changes, which are those previewed.
async fn midnight_as_previewed(
    season: &Season,
    midnight: jiff::Timestamp,
) -> Vec<(String, String, u16, String)> {
    season
        .clock
        .to(season.clock.now() + SignedDuration::from_mins(5));
    let preview = Plan {
        as_of: Some(midnight),
        without_reading: true,
        ..Plan::default()
    };
    let ahead = season.go(preview).await;
    season.clock.to(midnight);
    let then = season
        .go(Plan {
            without_reading: true,
            ..run()
        })
        .await;
    let (mut ahead, then) = (season.changes(&ahead).await, season.changes(&then).await);
    for (.., state) in &mut ahead {
        assert_eq!(state, "proposed");
        *state = "done".to_owned();
    }
    assert_eq!(ahead, then, "{midnight}");
    then
}
#[tokio::test]
async fn a_preview_of_tomorrow_is_what_happens_tomorrow_and_every_account_is_what_a_plain_model_says()
 {
    // It runs over the end of summer time.
    let first = date(2026, 9, 20);
    let zone = TimeZone::get(ZONE).expect("known");
    let moment = |day: Date, hour: i8| {
        day.at(hour, 0, 0, 0)
            .to_zoned(zone.clone())
            .expect("a moment")
            .timestamp()
    };
    let season = Season::start(moment(first, 11), &RULES).await;
    let mut dice = Dice::new(7);
    let mut told: BTreeMap<&'static str, usize> = BTreeMap::new();
    let mut hands = first_crew(&mut dice, first);
    let mut kinds: BTreeMap<String, usize> = BTreeMap::new();
    for day in 0..DAYS {
        let today = first + day.days();
        season.clock.to(moment(today, 12));
        happen(&mut hands, today, &mut dice, &mut told);
        write(&season.feed, &hands);
        let run = season.go(run()).await;
        assert!(
            run.note
                .as_deref()
                .is_none_or(|note| !note.contains("could not be read")),
            "{run:?}"
        );
        assert_accounts(&season, &mut hands, today);
        // What the next midnight brings is known today, change by change.
        let midnight = moment(today + 1.day(), 0);
        for (_, kind, ..) in midnight_as_previewed(&season, midnight).await {
            *kinds.entry(kind).or_default() += 1;
        }
    }
    // It was a season with everything in it.
    for word in [
        "joiner",
        "marriage",
        "mover",
        "termination",
        "rehire",
        "extension",
    ] {
        assert!(
            told.get(word).is_some_and(|count| *count > 0),
            "{word}: {told:?}"
        );
    }
    for kind in ["create", "enable", "disable", "delete", "update"] {
        assert!(
            kinds.get(kind).is_some_and(|count| *count > 0),
            "{kind}: {kinds:?}"
        );
    }
    println!(
        "{} people, {DAYS} days: {told:?}; by themselves at midnight: {kinds:?}",
        hands.len()
    );
}

#[tokio::test]
async fn what_came_due_while_nothing_ran_is_done_at_the_next_start_and_the_rest_at_its_minute() {
    let first = date(2026, 10, 22);
    let zone = TimeZone::get(ZONE).expect("known");
    let moment = |day: Date| {
        day.at(0, 0, 0, 0)
            .to_zoned(zone.clone())
            .expect("a moment")
            .timestamp()
    };
    let mut season = Season::start(moment(first) + SignedDuration::from_hours(12), &RULES).await;
    let hand = |number: &str, end: Date| Hand {
        number: number.to_owned(),
        family: "Lind".into(),
        team: "Deck",
        start: first - 30.days(),
        end: Some(end),
        terminated: None,
        there: false,
        usable: false,
    };
    // One leaves while nothing runs, one after the night in which the clocks go back.
    write(
        &season.feed,
        &[hand("1", first + 1.day()), hand("2", first + 3.days())],
    );
    season
        .go(Plan {
            carry_out: true,
            ..Plan::default()
        })
        .await;
    season
        .engine
        .administration()
        .set_schedule(
            "berthing",
            &Schedule {
                watch: true,
                ..Schedule::default()
            },
            "tester",
        )
        .await
        .expect("set");
    season
        .restart(|clock| clock.to(moment(first + 2.days()) + SignedDuration::from_hours(7)))
        .await;
    season.engine.start_automatic_sync();
    let active = |season: &Season, number: &str| {
        season
            .berthing
            .user(number)
            .is_some_and(|user| user["active"] != false)
    };
    let until = async |season: &Season, number: &str| {
        let ended = async || (!active(season, number)).then_some(());
        let ended = eventually(Duration::from_secs(30), ended).await;
        assert!(ended.is_some(), "{number} can still get in");
    };
    until(&season, "1").await;
    assert!(active(&season, "2"));
    let midnight = moment(first + 4.days());
    // A clock that is set back, and one that stands a minute before, do nothing.
    for at in [
        moment(first + 3.days()),
        midnight - SignedDuration::from_mins(1),
    ] {
        season.clock.to(at);
        common::complete_timer_scans(&season.engine, 2).await;
        assert!(active(&season, "2"), "{at}");
    }
    season.clock.to(midnight);
    until(&season, "2").await;
    season.engine.stop().await;
}
