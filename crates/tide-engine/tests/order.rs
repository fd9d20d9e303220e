//! Time and order: what overlaps, what is cancelled, what is held, what returns.
#![allow(clippy::disallowed_methods, reason = "tests run in real time")]

#[allow(dead_code)]
mod common;

use common::{PASSWORD, Tide, count, edit, set};
use std::time::Duration;
use tide_core::rules::RuleFile;
use tide_core::states::{ChangeSetState, ReadState, SystemKind};
use tide_core::{ObjectType, ReasonCode};
use tide_engine::{EngineError, Event, Plan, SystemUpdate};
use tide_standins::eventually;
use tide_standins::scim_service::Mischief;
use tide_standins::world::{self, BASE};

fn rules_with(change: impl Fn(&str, &str) -> String) -> Vec<RuleFile> {
    world::rules_of_people()
        .iter()
        .map(|(name, text)| RuleFile {
            name: (*name).into(),
            text: change(name, text),
        })
        .collect()
}

/// Waits until this number of changes of a run is done.
async fn done_changes(tide: &Tide, run: i64, wanted: i64) {
    eventually(Duration::from_secs(30), async || {
        let set = tide.engine.store().change_set(run).await.expect("read");
        (count(&set.states, "done") >= wanted).then_some(())
    })
    .await
    .expect("changes are sent");
}

#[tokio::test]
async fn runs_never_overlap_and_one_can_be_cancelled() {
    let tide = Tide::writable().await;
    tide.berthing.delay(Duration::from_millis(250));
    let id = tide
        .engine
        .runner()
        .begin_change_set(
            Plan {
                carry_out: true,
                ..Plan::default()
            },
            "tester",
        )
        .await
        .expect("begins");
    assert!(
        matches!(tide.engine.runner().begin_change_set(Plan::default(), "tester").await, Err(EngineError::Busy(busy)) if busy == Some(id))
    );
    assert!(matches!(
        tide.engine.runner().cancel_change_set(id + 1),
        Err(EngineError::Conflict(_))
    ));
    done_changes(&tide, id, 4).await;
    tide.engine.runner().cancel_change_set(id).expect("cancels");
    let run = tide.ended(id).await;
    assert_eq!(run.state, ChangeSetState::Canceled);
    let (done, cancelled) = (count(&run.states, "done"), count(&run.states, "canceled"));
    assert!(done > 3 && cancelled > 0, "{:?}", run.states);
    assert_eq!(
        count(&run.states, "queued") + count(&run.states, "sending"),
        0,
        "what was on the wire is settled"
    );
    // What was taken back is decided again, and nothing else.
    tide.berthing.delay(Duration::ZERO);
    let next = tide.run().await;
    assert_eq!(count(&next.states, "done"), cancelled);
}

#[tokio::test]
async fn a_stop_leaves_the_queue_for_the_next_start() {
    let tide = Tide::writable().await;
    tide.berthing.delay(Duration::from_millis(250));
    let id = tide
        .engine
        .runner()
        .begin_change_set(
            Plan {
                carry_out: true,
                ..Plan::default()
            },
            "tester",
        )
        .await
        .expect("begins");
    done_changes(&tide, id, 4).await;
    tide.engine.stop().await;
    let stopped = tide.engine.store().change_set(id).await.expect("read");
    assert!(
        stopped.ended_at.is_none() && count(&stopped.states, "queued") > 0,
        "{:?}",
        stopped.states
    );
    tide.berthing.delay(Duration::ZERO);
    let next = tide.again();
    next.runner().resume_interrupted().await.expect("resumed");
    let run = tide.ended(id).await;
    assert_eq!(
        (
            run.state.as_str(),
            count(&run.states, "queued"),
            count(&run.states, "failed")
        ),
        ("done", 0, 0)
    );
    assert!(
        run.note
            .as_deref()
            .is_some_and(|note| note.contains("Interrupted and resumed"))
    );
}

#[tokio::test]
async fn a_paused_system_holds_its_changes_and_gets_them_later() {
    let tide = Tide::writable().await;
    tide.engine
        .administration()
        .set_system(
            "berthing",
            SystemUpdate {
                paused: Some(true),
                ..SystemUpdate::default()
            },
            "tester",
        )
        .await
        .expect("paused");
    let run = tide.run().await;
    assert_eq!(count(&run.states, "done"), 0);
    assert!(tide.changes(&run, Some("on_hold")).await.iter().all(|c| {
        c.change
            .hold
            .as_ref()
            .is_some_and(|hold| hold.code() == ReasonCode::Paused)
    }));
    tide.engine
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
        .expect("goes on");
    assert!(count(&tide.run().await.states, "done") > 20);
}

#[tokio::test]
async fn a_guard_holds_many_changes_with_its_reason() {
    let tide = Tide::writable().await;
    tide.run().await;
    let mut files = rules_with(|name, text| {
        if name == "guards.toml" {
            text.replace("max_count = 20", "max_count = 3")
        } else {
            text.into()
        }
    });
    files.push(common::absent_at_once());
    tide.engine
        .administration()
        .publish_rules(&files, "tester")
        .await
        .expect("published");
    let mut ldap = edit(&tide).await;
    let leaving: Vec<_> = tide
        .people
        .iter()
        .filter(|p| !p.locked && !p.mail.is_empty())
        .take(6)
        .collect();
    for person in &leaving[..5] {
        ldap.delete(&person.dn())
            .await
            .expect("sent")
            .success()
            .expect("deleted");
    }
    ldap.modify(
        &leaving[5].dn(),
        vec![ldap3::Mod::Replace("title", set("Harmless"))],
    )
    .await
    .expect("sent")
    .success()
    .expect("changed");
    tide.berthing.take_writes();
    let run = tide.run().await;
    assert_eq!(
        (count(&run.states, "on_hold"), count(&run.states, "done")),
        (5, 1),
        "{:?}",
        run.states
    );
    assert_eq!(
        tide.berthing.take_writes().len(),
        1,
        "the harmless one goes on"
    );
    let held = tide.changes(&run, Some("on_hold")).await;
    assert!(
        held[0]
            .change
            .hold
            .as_ref()
            .is_some_and(|hold| hold.to_string().contains("the limit is 3") && hold.rule.is_some())
    );
}

#[tokio::test]
async fn drift_is_repaired_and_a_deletion_in_the_target_is_held() {
    let tide = Tide::writable().await;
    tide.run().await;
    let people: Vec<_> = tide
        .people
        .iter()
        .filter(|p| !p.locked && !p.mail.is_empty())
        .collect();
    let (drifted, lost) = (people[3], people[4]);
    tide.berthing.tamper(&drifted.mail.to_lowercase(), |user| {
        user["title"] = "Pirate".into()
    });
    let id = tide.berthing.user(&lost.mail).expect("there")["id"]
        .as_str()
        .expect("text")
        .to_owned();
    let client = reqwest_free::delete(&tide.berthing.url, &id, &tide.berthing.token).await;
    assert!(client, "deleted behind our back");
    tide.berthing.take_writes();
    let run = tide.run().await;
    assert_eq!(
        tide.berthing.take_writes().len(),
        1,
        "one PATCH for the drift, and nothing made anew"
    );
    assert_ne!(
        tide.berthing.user(&drifted.mail).expect("there")["title"],
        "Pirate"
    );
    let held = tide.lines(&run, "on_hold").await;
    assert!(
        held.iter()
            .any(|line| line.decided.reason.code() == ReasonCode::DeletedThere),
        "{held:#?}"
    );
    // After the link was ended by hand, a new account is made.
    let why = tide
        .engine
        .views()
        .explain_person(&lost.number)
        .await
        .expect("explained");
    let identity = why[0].identity.clone().expect("known");
    tide.engine
        .store()
        .split_identity(&identity, "berthing", "tester", tide.engine.now())
        .await
        .expect("split");
    let run = tide.run().await;
    assert_eq!(count(&run.states, "done"), 1);
    assert!(tide.berthing.user(&lost.mail).is_some());
}

#[tokio::test]
async fn rules_that_cannot_work_are_not_published_and_the_old_ones_stay() {
    let tide = Tide::start(20).await;
    let broken = rules_with(|name, text| {
        text.replace(
            "account.uid",
            if name == "harbour.toml" {
                "account.udi"
            } else {
                "account.uid"
            },
        )
    });
    match tide
        .engine
        .administration()
        .publish_rules(&broken, "tester")
        .await
    {
        Err(EngineError::Rules(faults)) => assert!(
            faults.iter().any(|f| f.to_string().contains("account.udi")),
            "{faults:?}"
        ),
        other => panic!("published: {other:?}"),
    }
    assert_eq!(
        tide.engine
            .rules()
            .published_rules()
            .await
            .expect("there")
            .version,
        1
    );
    let stranger =
        rules_with(|_, text| text.replace("system = \"berthing\"", "system = \"elsewhere\""));
    let (_, faults) = tide
        .engine
        .rules()
        .check_rules(&stranger)
        .await
        .expect("checked");
    assert!(
        faults
            .iter()
            .any(|f| f.message.contains("no system `elsewhere` is connected"))
    );
}

#[tokio::test]
async fn a_system_that_is_down_gets_nothing_and_is_caught_up_later() {
    let tide = Tide::writable().await;
    tide.berthing.mischief(&[Mischief::Fail; 40]);
    let run = tide.run().await;
    assert_eq!(run.state, ChangeSetState::Done);
    assert!(
        run.note
            .as_deref()
            .is_some_and(|n| n.contains("berthing could not be read completely")),
        "{:?}",
        run.note
    );
    assert_eq!(count(&run.states, "done"), 0);
    tide.berthing.mischief(&[]);
    assert!(count(&tide.run().await.states, "done") > 20);
}

#[tokio::test]
async fn progress_is_reported_during_the_run() {
    let tide = Tide::writable().await;
    let mut events = tide.engine.events();
    let run = tide.run().await;
    let mut told = Vec::new();
    while let Ok(event) = events.try_recv() {
        told.push(event);
    }
    let last = told.iter().rev().find_map(|e| match e {
        Event::Progress {
            done,
            failed,
            total,
            ..
        } => Some((*done, *failed, *total)),
        _ => None,
    });
    let done = count(&run.states, "done") as usize;
    assert_eq!(last, Some((done, 0, done)));
    let states: Vec<&str> = told
        .iter()
        .filter_map(|e| {
            if let Event::ChangeSet { state, .. } = e {
                Some(state.as_str())
            } else {
                None
            }
        })
        .collect();
    assert_eq!(states, ["reading", "deciding", "running", "done"]);
    assert!(told.iter().any(|e| matches!(e, Event::FullRead { system, state: ReadState::Complete, .. } if system == "harbour")));
}

#[tokio::test]
async fn adding_a_system_refuses_what_cannot_work() {
    let tide = Tide::start(5).await;
    let add = async |name: &str, kind: SystemKind, settings: serde_json::Value| {
        let new = tide_engine::NewSystem {
            name: name.into(),
            kind,
            settings,
            secret: Some(PASSWORD.into()),
        };
        let refused = tide.engine.administration().add_system(new, "tester").await;
        refused.expect_err("refused").to_string()
    };
    let sound = serde_json::json!({"url": "ldap://127.0.0.1:389", "base_dn": BASE});
    assert!(
        add("Harbour One", SystemKind::Ldap, sound.clone())
            .await
            .contains("is not a valid system name")
    );
    assert!(
        add("../key", SystemKind::Ldap, sound.clone())
            .await
            .contains("is not a valid system name")
    );
    assert!(
        add("harbour", SystemKind::Ldap, sound.clone())
            .await
            .contains("already")
    );
    assert!(
        add(
            "other",
            SystemKind::Ldap,
            serde_json::json!({"url": "ldap://x"})
        )
        .await
        .contains("base_dn")
    );
    assert!(
        add(
            "other",
            SystemKind::Ldap,
            serde_json::json!({"url": "ldap://x", "base_dn": BASE, "passwrod": "x"})
        )
        .await
        .contains("passwrod")
    );
    assert!(
        add(
            "other",
            SystemKind::Scim,
            serde_json::json!({"url": "ftp://x"})
        )
        .await
        .contains("it must start with https")
    );
    assert!(
        add(
            "other",
            SystemKind::Scim,
            serde_json::json!({"url": "https://x", "ca_pem": "nonsense"})
        )
        .await
        .contains("no certificate")
    );
    assert_eq!(
        tide.engine
            .store()
            .list_systems()
            .await
            .expect("read")
            .len(),
        2
    );
}

#[tokio::test]
async fn an_unknown_system_cannot_be_armed() {
    let tide = Tide::start(5).await;
    let update = SystemUpdate {
        writable: Some(vec![ObjectType::Person]),
        armed: Some(true),
        ..SystemUpdate::default()
    };
    let refused = tide
        .engine
        .administration()
        .set_system("nowhere", update, "tester")
        .await;
    assert!(refused.is_err());
}

/// One request without a client library: the stand-in is plain HTTP on loopback.
mod reqwest_free {
    use tokio::io::{AsyncReadExt, AsyncWriteExt};

    pub async fn delete(base: &str, id: &str, token: &str) -> bool {
        let host = base
            .trim_start_matches("http://")
            .split('/')
            .next()
            .expect("a host")
            .to_owned();
        let mut stream = tokio::net::TcpStream::connect(&host)
            .await
            .expect("connects");
        let request = format!(
            "DELETE /scim/v2/Users/{id} HTTP/1.1\r\nHost: {host}\r\nAuthorization: Bearer {token}\r\nConnection: close\r\n\r\n"
        );
        stream.write_all(request.as_bytes()).await.expect("sent");
        let mut answer = String::new();
        stream.read_to_string(&mut answer).await.expect("answered");
        answer.starts_with("HTTP/1.1 204")
    }
}
