//! Groups of many, seats that come free and welcomes that wait, with the engine at work by itself.
#![allow(clippy::disallowed_methods, reason = "tests run in real time")]

#[allow(dead_code)] // Each test uses a part of it.
mod common;

use common::fed::Season;
use jiff::Timestamp;
use sqlx::{Connection, SqliteConnection};
use std::fmt::Write as _;
use std::path::Path;
use std::time::Duration;
use tide_core::ReasonCode;
use tide_core::states::{ChangeSetState, ChangeState, NotificationEvent, WatcherState};
use tide_engine::{Plan, Schedule};
use tide_standins::eventually;
use tide_standins::scim_service::Mischief;
use tide_store::ChangeFilter;

/// How long something in the background may take.
const PATIENCE: Duration = Duration::from_secs(30);

const RULES: [(&str, &str); 6] = [
    (
        "identities.toml",
        "[person]\nlabel = \"number\"\n[person.attributes]\nnumber = { required = true, unique = true }\nteam = {}\nends = {}\n\
         boss = { reference = \"person\", by = \"number\" }\n[group.attributes]\nname = {}\n",
    ),
    (
        "roster.toml",
        "system = \"roster\"\n[[person.match]]\naccount = 'account.number'\nidentity = 'identity.number'\n[person.inbound]\nnumber = 'account.number'\n\
         team = 'account.team'\nends = 'account.end'\nboss = 'account.boss'\n",
    ),
    (
        "berthing.toml",
        "system = \"berthing\"\n[[person.match]]\naccount = 'account.userName'\nidentity = 'identity.number'\n[person.outbound]\nuserName = 'identity.number'\n\
         active = 'true'\n[[person.membership]]\ngroups = 'identity.team'\n",
    ),
    ("lifecycle.toml", "[person]\nends = 'identity.ends'\n"),
    (
        "licenses.toml",
        "[[license]]\nname = \"berths\"\nsystem = \"berthing\"\nseats = 1300\nconsumed_when = 'account.active == true'\nassign_order = 'identity.number'\n",
    ),
    (
        "notifications.toml",
        "[[notification]]\nname = \"welcome\"\non = \"arrived\"\nrecipient = \"boss\"\ntext = '\"Number \" + identity.number'\n\
         [[notification]]\nname = \"no berth\"\non = \"no_seat\"\ntext = 'identity.number + \" waits\"'\n",
    ),
];

fn write(folder: &Path, lines: impl Iterator<Item = (u32, &'static str, &'static str)>) {
    let mut text = "number;team;end;boss\n".to_owned();
    for (number, team, end) in lines {
        let _ = writeln!(text, "{number};{team};{end};1000");
    }
    std::fs::write(folder.join("roster.csv"), text).expect("written");
}

/// What is seen after our own write is newer, also when the clock was set back in between, and
/// after a restart.
#[tokio::test(flavor = "multi_thread")]
async fn a_clock_that_is_set_back_hides_nothing_that_happens_afterwards() {
    let noon: Timestamp = "2026-11-23T12:00:00Z".parse().expect("valid");
    let mut season = Season::start(noon, &RULES).await;
    write(&season.feed, (1000..1006).map(|number| (number, "", "")));
    season.go(run()).await;
    let is_active = |season: &Season, number: &str| {
        season.berthing.user(number).expect("there")["active"] == true
    };
    for (step, number) in ["1000", "1001"].into_iter().enumerate() {
        let earlier = noon - jiff::SignedDuration::from_hours(1 + step as i64);
        if step == 0 {
            season.clock.to(earlier);
        } else {
            season.restart(|clock| clock.to(earlier)).await;
        }
        season
            .berthing
            .tamper(number, |user| user["active"] = false.into());
        let set = season.go(run()).await;
        let changes = season.changes(&set).await;
        assert_eq!(
            changes,
            [(number.to_owned(), "enable".to_owned(), 0, "done".to_owned())],
            "step {step}"
        );
        assert!(is_active(&season, number));
    }
    // One that was deleted meanwhile is missed.
    season.berthing.remove("1002");
    let set = season.go(run()).await;
    let held = season
        .engine
        .store()
        .list_outcomes(
            set.id,
            &ChangeFilter {
                word: Some("on_hold".into()),
                limit: 10,
                ..ChangeFilter::default()
            },
        )
        .await;
    let held = held.expect("read");
    assert!(
        held.len() == 1 && held[0].decided.reason.code() == ReasonCode::DeletedThere,
        "{held:?}"
    );
}

/// Policies refuse what resembles a name, and chance can hit one.
#[tokio::test(flavor = "multi_thread")]
async fn a_drawn_password_that_is_refused_is_drawn_anew_at_once() {
    let noon: Timestamp = "2026-11-23T12:00:00Z".parse().expect("valid");
    let rules = RULES.map(|(name, text)| match name {
        "berthing.toml" => (
            name,
            format!("{text}[person.password]\nattribute = \"password\"\n"),
        ),
        _ => (name, text.to_owned()),
    });
    let rules: Vec<(&str, &str)> = rules
        .iter()
        .map(|(name, text)| (*name, text.as_str()))
        .collect();
    let season = Season::start(noon, &rules).await;
    season
        .berthing
        .mischief_on_writes(&[Mischief::RefuseValue, Mischief::RefuseValue]);
    write(&season.feed, [(1000, "", "")].into_iter());
    let set = season.go(run()).await;
    assert_eq!(set.states, [(ChangeState::Done, 1)]);
    assert_eq!(
        season
            .berthing
            .take_writes()
            .iter()
            .filter(|line| line.starts_with("POST"))
            .count(),
        3
    );
    let waiting = season
        .engine
        .passwords()
        .first_passwords()
        .await
        .expect("read");
    let password = season
        .engine
        .passwords()
        .reveal_password(waiting[0].id, "tester", "tester")
        .await
        .expect("shown");
    assert!(
        season.berthing.lets_log_in("1000", &password),
        "the one that was taken is the one that is shown"
    );
    // It is not drawn for ever.
    season
        .berthing
        .mischief_on_writes(&[Mischief::RefuseValue; 3]);
    write(&season.feed, [(1000, "", ""), (1001, "", "")].into_iter());
    let set = season.go(run()).await;
    assert_eq!(set.states, [(ChangeState::Failed, 1)]);
}

fn run() -> Plan {
    Plan {
        carry_out: true,
        ..Plan::default()
    }
}

/// Twelve hundred people who are all members of one group. Returns the season, the group and the run.
async fn twelve_hundred_members() -> (Season, String, tide_store::ChangeSetRow) {
    let noon: Timestamp = "2026-11-23T12:00:00Z".parse().expect("valid");
    let season = Season::start(noon, &RULES).await;
    let deck = season.berthing.add_group("Deck", &[]);
    write(
        &season.feed,
        (1000..2200).map(|number| (number, "Deck", "")),
    );
    let set = season.go(run()).await;
    (season, deck, set)
}

fn member_count(season: &Season, group: &str) -> usize {
    let groups = season.berthing.groups();
    let found = groups.iter().find(|one| one["id"] == group).expect("there");
    found["members"].as_array().map_or(0, Vec::len)
}
#[tokio::test(flavor = "multi_thread")]
async fn thousands_join_a_group_in_few_requests() {
    let (season, deck, run) = twelve_hundred_members().await;
    let done: i64 = run
        .states
        .iter()
        .filter(|(state, _)| *state == ChangeState::Done)
        .map(|(_, count)| count)
        .sum();
    assert_eq!(done, 2400, "{run:?}");
    let to_group = |writes: &[String]| {
        writes
            .iter()
            .filter(|line| line.contains("/Groups/"))
            .count()
    };
    assert_eq!(member_count(&season, &deck), 1200);
    let writes = season.berthing.take_writes();
    assert!(
        to_group(&writes) < 30,
        "{} requests for 1,200 members",
        to_group(&writes)
    );
    // Each membership is a change with a reason of its own.
    let sent = season.changes(&run).await;
    assert_eq!(
        sent.iter().filter(|(_, kind, ..)| kind == "grant").count(),
        1200
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn each_welcome_of_a_large_run_is_queued_once_by_the_next_run() {
    let (season, ..) = twelve_hundred_members().await;
    let quiet = season.go(run()).await;
    assert!(quiet.states.is_empty(), "{quiet:?}");
    let told = season
        .engine
        .notifier()
        .list_notifications(None, false)
        .await
        .expect("read");
    assert_eq!(
        (told.len(), told[0].event),
        (500, NotificationEvent::Arrived),
        "the newest that are listed"
    );
    assert_eq!(told[0].recipients[0]["name"], "1000");
}

/// One person leaves the group: the list of twelve hundred is not sent.
#[tokio::test(flavor = "multi_thread")]
async fn one_membership_is_removed_by_one_small_request() {
    let (season, deck, _) = twelve_hundred_members().await;
    season.go(run()).await;
    season.berthing.take_writes();
    write(
        &season.feed,
        (1000..2200).map(|number| (number, if number == 1700 { "" } else { "Deck" }, "")),
    );
    season.go(run()).await;
    assert_eq!(member_count(&season, &deck), 1199);
    let writes = season.berthing.take_writes();
    assert_eq!(writes.len(), 1, "{writes:?}");
    assert!(writes[0].len() < 500, "{}", writes[0]);
}

/// Two seats for three people, in their order. Returns the season and its time.
async fn two_seats_for_three() -> (Season, Timestamp) {
    let noon: Timestamp = "2026-11-23T12:00:00Z".parse().expect("valid");
    let rules: Vec<(&str, String)> = RULES
        .iter()
        .map(|(name, text)| (*name, text.replace("seats = 1300", "seats = 2")))
        .collect();
    let rules: Vec<(&str, &str)> = rules
        .iter()
        .map(|(name, text)| (*name, text.as_str()))
        .collect();
    let season = Season::start(noon, &rules).await;
    write(&season.feed, (1000..1003).map(|number| (number, "", "")));
    season.go(run()).await;
    (season, noon)
}

#[tokio::test(flavor = "multi_thread")]
async fn who_gets_no_seat_is_on_the_waiting_list_and_reported() {
    let (season, _) = two_seats_for_three().await;
    assert_eq!(season.berthing.count(), 2);
    let told = season
        .engine
        .notifier()
        .list_notifications(None, false)
        .await
        .expect("read");
    assert!(
        told.iter()
            .any(|one| one.text == "1002 waits" && one.about.as_deref() == Some("berths")),
        "{told:?}"
    );
    let seats = season
        .engine
        .views()
        .list_licenses()
        .await
        .expect("counted");
    assert_eq!((seats[0].used, seats[0].waiting.len()), (2, 1));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_freed_seat_goes_to_the_waiting_list_automatically() {
    let (season, noon) = two_seats_for_three().await;
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
    season.engine.start_automatic_sync();
    // The first read of berthing is over, so that nothing but the read of the roster starts a run.
    eventually(PATIENCE, async || {
        let watchers = season.engine.ingest().watchers();
        watchers
            .iter()
            .any(|one| one.state == WatcherState::Waiting)
            .then_some(())
    })
    .await
    .expect("a watcher waits");
    common::complete_timer_scans(&season.engine, 1).await;
    // A departure frees a seat once it is confirmed, and the next person on the list gets it.
    write(
        &season.feed,
        (1000..1003).map(|number| (number, "", if number == 1001 { "2026-11-22" } else { "" })),
    );
    season
        .engine
        .ingest()
        .read_by_name("roster")
        .await
        .expect("read");
    let mut seconds = 0;
    let seated = eventually(PATIENCE, async || {
        // A request that fails is sent again after a pause of this clock.
        seconds += 1;
        season
            .clock
            .to(noon + jiff::SignedDuration::from_secs(seconds));
        let user = season.berthing.user("1002");
        user.is_some_and(|user| user["active"] == true)
            .then_some(())
    })
    .await;
    if seated.is_none() {
        let store = season.engine.store();
        let sets = store.change_sets(None, None, false, 10).await;
        let seats = season
            .engine
            .views()
            .list_licenses()
            .await
            .expect("counted");
        let decisions = season.engine.decisions().list_decisions("tester").await;
        panic!("{:?}\n{sets:#?}\n{decisions:#?}", seats[0]);
    }
    assert_eq!(season.berthing.user("1001").expect("kept")["active"], false);
    season.engine.stop().await;
}

/// An automatic run that fails before it sends anything loses none of what it took up.
#[tokio::test(flavor = "multi_thread")]
async fn an_automatic_run_that_fails_is_repeated_without_another_event() {
    let noon: Timestamp = "2026-11-23T12:00:00Z".parse().expect("valid");
    let season = Season::start(noon, &RULES).await;
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
    write(&season.feed, [(1000, "", "")].into_iter());
    let path = season.folder.path().join("tide.db");
    let mut other = SqliteConnection::connect(path.to_str().expect("text"))
        .await
        .expect("opens");
    let mut rename = async |from: &str, to: &str| {
        let statement = format!("ALTER TABLE {from} RENAME TO {to}");
        sqlx::query(sqlx::AssertSqlSafe(statement))
            .execute(&mut other)
            .await
            .expect("renamed");
    };
    rename("change_override", "elsewhere").await;
    season.engine.start_automatic_sync();
    season
        .engine
        .ingest()
        .read_by_name("roster")
        .await
        .expect("read");
    eventually(PATIENCE, async || {
        (season.engine.cycles().failed_runs > 0).then_some(())
    })
    .await
    .expect("a run fails");
    assert!(
        season.berthing.user("1000").is_none(),
        "no run could decide"
    );
    rename("elsewhere", "change_override").await;
    eventually(PATIENCE, async || season.berthing.user("1000"))
        .await
        .expect("another run follows");
    season.engine.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn missing_sign_ins_are_reported_repeatedly() {
    let noon: Timestamp = "2026-11-23T12:00:00Z".parse().expect("valid");
    let notices = "[[notification]]\nname = \"not come\"\non = \"not_arrived\"\nsystem = \"berthing\"\nwhen = 'account.nickName == null'\nafter_days = 3\nrepeat_every_days = 7\n\
                   text = 'identity.number + \" has not come\"'\n";
    let rules: Vec<(&str, &str)> = RULES
        .iter()
        .filter(|(name, _)| *name != "notifications.toml")
        .copied()
        .chain([("notifications.toml", notices)])
        .collect();
    let season = Season::start(noon, &rules).await;
    write(&season.feed, [(1000, "", ""), (1001, "", "")].into_iter());
    let told = async |days: i64| -> Vec<String> {
        season
            .clock
            .to(noon + jiff::SignedDuration::from_hours(24 * days));
        season
            .go(Plan {
                carry_out: true,
                ..Plan::default()
            })
            .await;
        season
            .go(Plan {
                carry_out: true,
                ..Plan::default()
            })
            .await;
        let mut all: Vec<String> = season
            .engine
            .notifier()
            .list_notifications(None, false)
            .await
            .expect("read")
            .into_iter()
            .map(|one| one.text)
            .collect();
        all.sort();
        all
    };
    assert_eq!(told(0).await, Vec::<String>::new());
    assert_eq!(told(2).await, Vec::<String>::new(), "three days are theirs");
    assert_eq!(told(3).await, ["1000 has not come", "1001 has not come"]);
    assert_eq!(told(9).await.len(), 2, "once in seven days");
    // One comes: the service knows by what they do there.
    season
        .berthing
        .tamper("1001", |user| user["nickName"] = "Sunny".into());
    assert_eq!(
        told(10).await,
        [
            "1000 has not come",
            "1000 has not come",
            "1001 has not come"
        ]
    );
    assert_eq!(told(17).await.len(), 4);
}

/// A decision about all records says how far it is, and ends within moments of being canceled.
#[tokio::test(flavor = "multi_thread")]
async fn canceling_ends_a_decision_at_once() {
    let noon: Timestamp = "2026-11-23T12:00:00Z".parse().expect("valid");
    let season = Season::start(noon, &RULES).await;
    write(&season.feed, (1000..7000).map(|number| (number, "", "")));
    let read = season.engine.ingest().read_by_name("roster").await;
    read.expect("read");
    let plan = Plan {
        without_reading: true,
        ..Plan::default()
    };
    let runner = season.engine.runner();
    let id = runner
        .begin_change_set(plan.clone(), "tester")
        .await
        .expect("begins");
    let decider = season.engine.decider();
    let steps = eventually(PATIENCE, async || {
        decider.full().computing().filter(|steps| steps.done > 0)
    });
    let steps = steps.await.expect("it decides");
    assert!(
        steps.total >= 6000 && steps.done <= steps.total,
        "{steps:?}"
    );
    runner.cancel_change_set(id).expect("in progress");
    let canceled = std::time::Instant::now();
    let ended = eventually(PATIENCE, async || {
        let set = season.engine.store().change_set(id).await.expect("read");
        set.ended_at.is_some().then_some(set)
    });
    let set = ended.await.expect("it ends");
    assert_eq!(set.state, ChangeSetState::Canceled, "{set:?}");
    assert!(canceled.elapsed() < Duration::from_secs(1));
    assert!(set.verdicts.is_empty() && decider.full().computing().is_none());
    // The next one is whole.
    let set = season.go(plan).await;
    let lines: i64 = set.verdicts.iter().map(|(_, count)| count).sum();
    assert!(lines >= 12_000, "{:?}", set.verdicts);
}
