//! What operators say about held changes: it holds for what was shown, ends with it, expires, is
//! listed, and can be taken back.
#![allow(clippy::disallowed_methods, reason = "tests run in real time")]

#[allow(dead_code)]
mod common;

use common::{Ahead, Tide, absent_at_once, count, edit};
use jiff::SignedDuration;
use std::sync::Arc;
use tide_core::ReasonCode;
use tide_core::rules::RuleFile;
use tide_core::states::DecisionAnswer;
use tide_engine::{Decision, Engine, EngineError, Plan};
use tide_standins::world::{self, BASE, Crew};

/// A service whose guard lets one account be disabled a day.
async fn guarded() -> Tide {
    let tide = Tide::writable().await;
    let mut files: Vec<RuleFile> = world::rules_of_people()
        .into_iter()
        .filter(|(name, _)| *name != "guards.toml")
        .map(|(name, text)| RuleFile {
            name: name.into(),
            text,
        })
        .collect();
    files.push(absent_at_once());
    let text = "[[guard]]\nsystem = \"berthing\"\nchange = \"disable\"\nmax_count = 1\n".to_owned();
    files.push(RuleFile {
        name: "guards.toml".into(),
        text,
    });
    tide.engine
        .administration()
        .publish_rules(&files, "tester")
        .await
        .expect("published");
    tide.run().await;
    tide
}

/// People who have an account and no fault.
fn sound(tide: &Tide) -> Vec<&Crew> {
    tide.people
        .iter()
        .enumerate()
        .filter(|(n, p)| n % 10 > 3 && !p.locked && !p.mail.is_empty())
        .map(|(_, p)| p)
        .collect()
}

/// Moves people to the container of those who left, or back.
async fn moved(tide: &Tide, people: &[&Crew], leave: bool) {
    let mut ldap = edit(tide).await;
    for person in people {
        let (former, home) = (format!("uid={},ou=former,{BASE}", person.uid), person.dn());
        let (from, below) = match leave {
            true => (home, format!("ou=former,{BASE}")),
            false => (
                former,
                home.split_once(',').expect("a container").1.to_owned(),
            ),
        };
        let rdn = format!("uid={}", person.uid);
        ldap.modifydn(&from, &rdn, true, Some(&below))
            .await
            .expect("sent")
            .success()
            .expect("moved");
    }
}

fn active(tide: &Tide, people: &[&Crew]) -> Vec<bool> {
    people
        .iter()
        .map(|person| tide.berthing.user(&person.mail).expect("there")["active"] == true)
        .collect()
}

async fn listed(engine: &Arc<Engine>, kind: &str) -> Vec<Decision> {
    engine
        .decisions()
        .list_decisions("tester")
        .await
        .expect("listed")
        .into_iter()
        .filter(|one| one.kind.as_str() == kind)
        .collect()
}

async fn answer(tide: &Tide, kind: &str, answer: DecisionAnswer) {
    let meant = listed(&tide.engine, kind).await;
    assert_eq!(meant.len(), 1, "{meant:?}");
    tide.engine
        .decisions()
        .answer_decision(&meant[0].id, answer, "", "tester")
        .await
        .expect("answered");
}

#[tokio::test]
async fn a_discard_ends_with_the_changes_that_it_was_about() {
    let tide = guarded().await;
    let all = sound(&tide);
    let (wrong, leaver) = (&all[..3], all[1]);
    moved(&tide, wrong, true).await;
    let held = tide.run().await;
    assert_eq!(
        (count(&held.states, "on_hold"), active(&tide, wrong)),
        (3, vec![true; 3])
    );
    answer(&tide, "guard", DecisionAnswer::Discard).await;
    // It is listed, and whose access is open is shown, though nobody is asked any more.
    assert_eq!(listed(&tide.engine, "guard").await, vec![]);
    let given = listed(&tide.engine, "override").await.remove(0);
    assert!(
        given
            .title
            .contains("3 disable changes in berthing discarded by tester"),
        "{given:?}"
    );
    assert_eq!(
        (given.count, given.answers.clone()),
        (3, vec![DecisionAnswer::TakeBack])
    );
    tide.run().await;
    let open = tide
        .engine
        .views()
        .list_leavers(false)
        .await
        .expect("listed");
    let ways = open
        .iter()
        .flat_map(|leaver| &leaver.open)
        .filter(|way| way.why.code() == ReasonCode::Discarded)
        .count();
    assert_eq!((open.len(), ways), (3, 3), "{open:?}");

    // Taken back, it is asked again; discarded again, it ends when nobody wants the changes any
    // more.
    answer(&tide, "override", DecisionAnswer::TakeBack).await;
    let gone = tide
        .engine
        .decisions()
        .answer_decision(&given.id, DecisionAnswer::TakeBack, "", "tester")
        .await;
    assert!(matches!(gone, Err(EngineError::Changed(_))), "{gone:?}");
    answer(&tide, "guard", DecisionAnswer::Discard).await;
    moved(&tide, wrong, false).await;
    tide.run().await;
    assert_eq!(
        tide.engine.store().override_rows().await.expect("read"),
        vec![]
    );
    moved(&tide, &[leaver], true).await;
    tide.run().await;
    assert_eq!(
        active(&tide, wrong),
        [true, false, true],
        "whoever really leaves, leaves"
    );
    let journal = tide
        .engine
        .store()
        .list_journal(None, None, 1000)
        .await
        .expect("read");
    assert!(journal.iter().any(|entry| entry.act == "guard.taken-back"));
}

#[tokio::test]
async fn a_release_lets_one_landslide_through_and_not_the_next() {
    let tide = guarded().await;
    let all = sound(&tide);
    let people = &all[..3];
    moved(&tide, people, true).await;
    tide.run().await;
    answer(&tide, "guard", DecisionAnswer::Release).await;
    let sent = tide.run().await;
    assert_eq!(
        (count(&sent.states, "done"), active(&tide, people)),
        (3, vec![false; 3])
    );
    assert_eq!(
        tide.engine.store().override_rows().await.expect("read"),
        vec![],
        "it was for these changes"
    );
    moved(&tide, people, false).await;
    tide.run().await;
    assert_eq!(active(&tide, people), [true; 3]);
    // The very same changes, and nobody said anything about them.
    moved(&tide, people, true).await;
    let held = tide.run().await;
    assert_eq!(
        (count(&held.states, "on_hold"), active(&tide, people)),
        (3, vec![true; 3])
    );
    // What was let through does not count among what the guard looks back on: one more may leave.
    moved(&tide, &people[1..], false).await;
    tide.run().await;
    assert_eq!(active(&tide, people), [false, true, true]);
}

#[tokio::test]
async fn what_was_said_expires() {
    let tide = guarded().await;
    let all = sound(&tide);
    moved(&tide, &all[..3], true).await;
    tide.run().await;
    answer(&tide, "guard", DecisionAnswer::Discard).await;
    for (hours, asked) in [(6 * 24, 0), (8 * 24, 1)] {
        let later = Engine::new(
            tide.engine.store().clone(),
            Arc::new(Ahead(SignedDuration::from_hours(hours))),
        );
        assert_eq!(
            listed(&later, "guard").await.len(),
            asked,
            "after {hours} hours"
        );
        assert_eq!(listed(&later, "override").await.len(), 1 - asked);
    }
    // Asked again, it is for whoever answers then, and a release that was not used in time is none.
    let later = Engine::new(
        tide.engine.store().clone(),
        Arc::new(Ahead(SignedDuration::from_hours(8 * 24))),
    );
    let meant = listed(&later, "guard").await.remove(0);
    later
        .decisions()
        .answer_decision(&meant.id, DecisionAnswer::Release, "", "tester")
        .await
        .expect("answered");
    let much_later = Engine::new(
        tide.engine.store().clone(),
        Arc::new(Ahead(SignedDuration::from_hours(10 * 24))),
    );
    let id = much_later
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
    let run = tide.ended(id).await;
    assert_eq!(
        (count(&run.states, "done"), active(&tide, &all[..3])),
        (0, vec![true; 3]),
        "{:?}",
        run.states
    );
}

#[tokio::test]
async fn an_answer_about_a_match_expires_and_is_asked_again() {
    let tide = Tide::writable().await;
    tide.run().await;
    let all = tide_store::OutcomeFilter {
        limit: i64::MAX,
        ..Default::default()
    };
    let report = tide
        .engine
        .matches()
        .list_matches("berthing", tide_core::ObjectType::Person, &all, "")
        .await
        .expect("told");
    let asked = report
        .lines
        .iter()
        .find(|line| line.candidates > 0 && line.identity.is_some());
    let asked = asked.unwrap_or_else(|| panic!("nobody is asked about: {:?}", report.counts));
    let skip = tide_engine::Word {
        said: tide_core::model::MatchDecision::Skip,
        identity: asked.identity.clone(),
        account: None,
    };
    let by = tide_engine::Actor {
        id: "tester",
        name: "tester",
    };
    tide.engine
        .matches()
        .answer_matches("berthing", tide_core::ObjectType::Person, &[skip], &by)
        .await
        .expect("answered");
    assert_eq!(
        tide.engine
            .store()
            .match_answers(None)
            .await
            .expect("read")
            .len(),
        1
    );
    for (days, holds) in [(300, 1), (366, 0)] {
        let later = Engine::new(
            tide.engine.store().clone(),
            Arc::new(Ahead(SignedDuration::from_hours(days * 24))),
        );
        let id = later
            .runner()
            .begin_change_set(
                Plan {
                    carry_out: true,
                    without_reading: true,
                    ..Plan::default()
                },
                "tester",
            )
            .await
            .expect("begins");
        tide.ended(id).await;
        assert_eq!(
            tide.engine
                .store()
                .match_answers(None)
                .await
                .expect("read")
                .len(),
            holds,
            "after {days} days"
        );
        later.stop().await;
    }
    let journal = tide
        .engine
        .store()
        .list_journal(None, None, 1000)
        .await
        .expect("read");
    assert!(journal.iter().any(|entry| entry.act == "match.expired"));
}
