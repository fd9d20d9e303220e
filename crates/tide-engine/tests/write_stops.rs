//! Pause, disarm, windows without writes and the emergency stop: each holds for what is queued
//! already, from the request that sets it on.
#![allow(clippy::disallowed_methods, reason = "tests run in real time")]

#[allow(dead_code)]
mod common;

use common::{Ahead, Tide, count};
use jiff::{SignedDuration, Timestamp};
use std::sync::Arc;
use std::time::Duration;
use tide_core::ObjectType;
use tide_engine::{Blackout, Engine, Plan, Schedule, SystemUpdate};
use tide_standins::eventually;
use tide_store::ChangeSetRow;

/// How many accounts are written at a time: so many can be on the wire when writes are stopped.
const ON_THE_WIRE: usize = 16;
const RUN: Plan = Plan {
    carry_out: true,
    preview: None,
    without_reading: false,
    adopt: false,
    only: Vec::new(),
    systems: Vec::new(),
    types: Vec::new(),
    as_of: None,
};

/// A service that needs a while for each request, and a run that has begun to make accounts in it.
async fn in_the_middle() -> (Tide, i64) {
    let tide = Tide::start(200).await;
    let on = SystemUpdate {
        writable: Some(vec![ObjectType::Person]),
        armed: Some(true),
        ..SystemUpdate::default()
    };
    tide.engine
        .administration()
        .set_system("berthing", on, "tester")
        .await
        .expect("set");
    // What was about to be sent when the service stopped is looked for, and is not waited for here.
    tide.shows_new_ones_within(0).await;
    tide.engine.ingest().read_all().await.expect("read");
    let before = tide.berthing.count();
    tide.berthing.delay(Duration::from_millis(150));
    let id = tide
        .engine
        .runner()
        .begin_change_set(
            Plan {
                without_reading: true,
                ..RUN
            },
            "tester",
        )
        .await
        .expect("begins");
    let on_the_wire = async || (tide.berthing.count() >= before + ON_THE_WIRE).then_some(());
    eventually(Duration::from_secs(30), on_the_wire)
        .await
        .expect("requests are in progress");
    (tide, id)
}

/// Asserts that nothing is sent any more but what was on the wire when writes were stopped, and how
/// the run ended.
async fn ends_early(tide: &Tide, id: i64, at_the_stop: usize, why: &str) -> ChangeSetRow {
    let run = tide.ended(id).await;
    let made = tide.berthing.count() - at_the_stop;
    assert!(
        made <= ON_THE_WIRE,
        "{made} accounts were made after writes were stopped"
    );
    let cancelled = tide.changes(&run, Some("canceled")).await;
    assert!(cancelled.len() > ON_THE_WIRE, "{:?}", run.states);
    assert!(
        cancelled
            .iter()
            .any(|row| row.error.as_deref().is_some_and(|said| said.contains(why))),
        "{:?}",
        cancelled[0].error
    );
    assert_eq!(
        count(&run.states, "failed"),
        0,
        "a stop is no failure: {:?}",
        run.states
    );
    run
}

/// Asserts that a run makes all that is left, and nobody twice.
async fn goes_on(tide: &Tide, engine: &Arc<Engine>) {
    tide.berthing.delay(Duration::ZERO);
    let id = engine
        .runner()
        .begin_change_set(RUN, "tester")
        .await
        .expect("begins");
    let run = tide.ended(id).await;
    assert!(
        count(&run.states, "done") > 0 && count(&run.states, "failed") == 0,
        "{:?}",
        run.states
    );
    let mut names: Vec<String> = tide
        .berthing
        .users()
        .iter()
        .map(|user| user["userName"].to_string().to_lowercase())
        .collect();
    let all = names.len();
    names.sort();
    names.dedup();
    assert_eq!(names.len(), all, "nobody has two accounts");
    let id = engine
        .runner()
        .begin_change_set(RUN, "tester")
        .await
        .expect("begins");
    assert_eq!(
        tide.changes(&tide.ended(id).await, Some("done"))
            .await
            .len(),
        0,
        "nothing is left"
    );
}

#[tokio::test]
async fn a_pause_and_a_disarm_stop_what_is_queued() {
    for (change, why) in [
        (
            SystemUpdate {
                paused: Some(true),
                ..SystemUpdate::default()
            },
            "paused",
        ),
        (
            SystemUpdate {
                armed: Some(false),
                ..SystemUpdate::default()
            },
            "armed",
        ),
        (
            SystemUpdate {
                writable: Some(Vec::new()),
                ..SystemUpdate::default()
            },
            "read-only",
        ),
    ] {
        let (tide, id) = in_the_middle().await;
        tide.engine
            .administration()
            .set_system("berthing", change, "tester")
            .await
            .expect("set");
        let at_the_stop = tide.berthing.count();
        let run = ends_early(&tide, id, at_the_stop, why).await;
        assert!(
            run.note
                .as_deref()
                .is_some_and(|note| note.contains("not sent because writes were stopped")),
            "{:?}",
            run.note
        );
        // While it lasts, a run sends nothing and holds all of it.
        let held = tide.run().await;
        assert_eq!(
            (
                count(&held.states, "done"),
                count(&held.states, "on_hold") > 0
            ),
            (0, true),
            "{:?}",
            held.states
        );
        let types = Some(vec![ObjectType::Person]);
        let on = SystemUpdate {
            paused: Some(false),
            armed: Some(true),
            writable: types,
        };
        tide.engine
            .administration()
            .set_system("berthing", on, "tester")
            .await
            .expect("set");
        goes_on(&tide, &tide.engine).await;
    }
}

#[tokio::test]
async fn a_window_without_writes_that_begins_stops_what_is_queued() {
    let (tide, id) = in_the_middle().await;
    let at = |hours: i64| {
        (Timestamp::now() + SignedDuration::from_hours(hours))
            .strftime("%H:%M")
            .to_string()
    };
    let quiet = Blackout {
        days: Vec::new(),
        from: at(-2),
        to: at(2),
        zone: "UTC".into(),
    };
    let schedule = Schedule {
        write_blackouts: vec![quiet],
        ..Schedule::default()
    };
    tide.engine
        .administration()
        .set_schedule("berthing", &schedule, "tester")
        .await
        .expect("set");
    let at_the_stop = tide.berthing.count();
    ends_early(&tide, id, at_the_stop, "write blackout").await;
    tide.engine
        .administration()
        .set_schedule("berthing", &Schedule::default(), "tester")
        .await
        .expect("set");
    goes_on(&tide, &tide.engine).await;
}

#[tokio::test]
async fn the_emergency_stop_holds_everywhere_until_it_is_lifted_also_after_a_restart() {
    let (tide, id) = in_the_middle().await;
    let stop = tide
        .engine
        .administration()
        .stop_writes(" wrong names ", "tester")
        .await
        .expect("stopped");
    let at_the_stop = tide.berthing.count();
    assert_eq!(
        (stop.reason.as_str(), stop.principal.as_str()),
        ("wrong names", "tester")
    );
    ends_early(&tide, id, at_the_stop, "all writes are stopped by tester").await;
    // Somebody else's stop does not take the first one's place.
    assert_eq!(
        tide.engine
            .administration()
            .stop_writes("again", "somebody")
            .await
            .expect("stopped")
            .principal,
        "tester"
    );
    let held = tide.run().await;
    assert_eq!(count(&held.states, "done"), 0);
    let hold = tide.changes(&held, Some("on_hold")).await[0]
        .change
        .hold
        .clone()
        .expect("held");
    assert!(
        hold.to_string()
            .contains("all writes are stopped by tester")
            && hold.to_string().ends_with("wrong names"),
        "{}",
        hold.to_string()
    );

    let engine = tide.reopened().await;
    assert!(engine.overview().write_stop().is_some(), "it lasts");
    assert!(
        engine
            .administration()
            .lift_write_stop("tester")
            .await
            .expect("lifted")
    );
    assert!(
        !engine
            .administration()
            .lift_write_stop("tester")
            .await
            .expect("nothing is left to lift")
    );
    goes_on(&tide, &engine).await;
    let journal = engine
        .store()
        .list_journal(None, None, 1000)
        .await
        .expect("read");
    let acts: Vec<&str> = journal
        .iter()
        .map(|entry| entry.act.as_str())
        .filter(|act| act.starts_with("writes."))
        .collect();
    assert_eq!(acts, ["writes.resumed", "writes.stopped"]);
}

#[tokio::test]
async fn a_restart_sends_nothing_to_a_system_that_was_paused() {
    let (tide, _) = in_the_middle().await;
    tide.engine.stop().await;
    let engine = tide.again();
    let pause = SystemUpdate {
        paused: Some(true),
        ..SystemUpdate::default()
    };
    engine
        .administration()
        .set_system("berthing", pause, "tester")
        .await
        .expect("set");
    let at_the_stop = tide.berthing.count();
    engine.runner().resume_interrupted().await.expect("resumed");
    rests(&engine).await;
    assert_eq!(tide.berthing.count(), at_the_stop);
    engine
        .administration()
        .set_system(
            "berthing",
            SystemUpdate {
                paused: Some(false),
                ..SystemUpdate::default()
            },
            "tester",
        )
        .await
        .expect("set");
    goes_on(&tide, &engine).await;
}

#[tokio::test]
async fn what_was_queued_long_before_a_restart_is_decided_again() {
    for (seconds, goes_on_with_it) in [(60, true), (3600, false)] {
        let (tide, id) = in_the_middle().await;
        tide.engine.stop().await;
        let at_the_stop = tide.berthing.count();
        let engine = Engine::new(
            tide.engine.store().clone(),
            Arc::new(Ahead(SignedDuration::from_secs(seconds))),
        );
        tide.berthing.delay(Duration::ZERO);
        engine.runner().resume_interrupted().await.expect("resumed");
        let run = tide.ended(id).await;
        rests(&engine).await;
        if goes_on_with_it {
            assert_eq!(
                (run.state.as_str(), count(&run.states, "canceled")),
                ("done", 0),
                "{:?} {:?}",
                run.note,
                run.states
            );
            assert!(
                tide.berthing.count() > at_the_stop,
                "{:?} {:?}",
                run.note,
                run.states
            );
            continue;
        }
        assert_eq!(
            (run.state.as_str(), tide.berthing.count()),
            ("canceled", at_the_stop),
            "{:?}",
            run.note
        );
        assert!(
            run.note
                .as_deref()
                .is_some_and(|note| note.contains("more than 15 minutes")),
            "{:?}",
            run.note
        );
        goes_on(&tide, &engine).await;
    }
}

/// Waits until no run is on its way.
async fn rests(engine: &Arc<Engine>) {
    eventually(Duration::from_secs(30), async || {
        let open = engine.store().open_change_sets().await.expect("read");
        open.is_empty().then_some(())
    })
    .await
    .expect("the run ends");
}

#[tokio::test]
async fn a_leaver_who_would_overtake_a_run_waits_while_writes_are_stopped() {
    let (tide, id) = in_the_middle().await;
    tide.engine
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
    // Somebody whose account was there before the run leaves in the middle of it.
    let active = |mail: &str| {
        tide.berthing
            .user(mail)
            .is_some_and(|user| user["active"] == true)
    };
    let leaver = tide
        .people
        .iter()
        .find(|person| !person.locked && active(&person.mail))
        .expect("somebody")
        .clone();
    let identity = tide
        .engine
        .views()
        .explain_person(&leaver.number)
        .await
        .expect("told")[0]
        .identity
        .clone()
        .expect("an identity");
    tide.engine
        .administration()
        .stop_writes("wrong names", "tester")
        .await
        .expect("stopped");
    tide.engine
        .runner()
        .start_departure(&identity, None, "", "tester", "tester")
        .await
        .expect("asked");
    for _ in 0..5 {
        tide.engine
            .runner()
            .preempt_for_leavers()
            .await
            .expect("looked at");
    }
    tide.ended(id).await;
    assert!(
        active(&leaver.mail),
        "nothing is written, whoever it is about"
    );
    let open = tide.engine.overview().attention().await.expect("told");
    assert!(
        open.iter()
            .any(|one| one.kind == tide_core::states::AttentionKind::WritesStopped),
        "{open:?}"
    );
    // Lifted, the access is closed first of all.
    tide.berthing.delay(Duration::ZERO);
    tide.engine
        .administration()
        .lift_write_stop("tester")
        .await
        .expect("lifted");
    for _ in 0..20 {
        if !active(&leaver.mail) {
            return;
        }
        tide.engine.runner().run_once().await.expect("runs");
    }
    panic!("the access of {} was not closed", leaver.mail);
}
