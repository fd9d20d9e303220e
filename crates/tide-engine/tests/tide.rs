//! The whole path against stand-ins: a real LDAP server, a real SCIM service, a real store.
#![allow(clippy::disallowed_methods, reason = "tests run in real time")]

#[allow(dead_code)]
mod common;

use common::{PASSWORD, Tide, count, edit, set};
use tide_core::states::{ChangeSetState, SystemKind};
use tide_core::{ObjectType, ReasonCode, ReasonKind};
use tide_engine::{Plan, SystemUpdate};
use tide_standins::directory::Temper;
use tide_standins::eventually;
use tide_standins::scim_service::Mischief;
use tide_standins::world::{BASE, Crew};

#[tokio::test]
async fn a_read_only_target_gets_nothing() {
    let tide = Tide::start(60).await;
    let preview = tide.go(Plan::default()).await;
    assert_eq!(preview.state, ChangeSetState::Done);
    assert!(
        count(&preview.verdicts, "create") > 20 && count(&preview.verdicts, "join") > 15,
        "{:?}",
        preview.verdicts
    );
    assert!(
        tide.changes(&preview, Some("on_hold"))
            .await
            .iter()
            .all(|c| c
                .change
                .hold
                .as_ref()
                .is_some_and(|hold| hold.code() == ReasonCode::ReadOnly))
    );
    // Read-only is the default, and also a run obeys it.
    let refused = tide.run().await;
    assert_eq!(count(&refused.states, "done"), 0);
    assert_eq!(
        tide.berthing.take_writes(),
        Vec::<String>::new(),
        "nothing was written"
    );
}

async fn open_berthing(tide: &Tide) {
    let update = SystemUpdate {
        writable: Some(vec![ObjectType::Person]),
        armed: Some(true),
        ..SystemUpdate::default()
    };
    tide.engine
        .administration()
        .set_system("berthing", update, "tester")
        .await
        .expect("set");
}

#[tokio::test]
async fn a_run_joins_existing_accounts_and_a_second_run_is_silent() {
    let tide = Tide::start(60).await;
    open_berthing(&tide).await;
    let before = tide.berthing.users().len();
    let run = tide.run().await;
    assert_eq!(
        count(&run.states, "failed"),
        0,
        "{:#?}",
        tide.changes(&run, Some("failed")).await
    );
    let created = tide.changes(&run, Some("create")).await.len();
    assert_eq!(
        tide.berthing.users().len(),
        before + created,
        "existing accounts were joined and not made again"
    );
    let person = tide
        .people
        .iter()
        .find(|p| p.phones.len() == 2 && !p.locked && !p.mail.is_empty())
        .expect("there");
    let user = tide.berthing.user(&person.mail).expect("there");
    assert_eq!(
        user[tide_scim::ENTERPRISE]["employeeNumber"],
        person.number.as_str()
    );
    assert_eq!(user["phoneNumbers"].as_array().map(Vec::len), Some(2));

    tide.berthing.take_writes();
    let again = tide.run().await;
    assert_eq!(
        tide.berthing.take_writes(),
        Vec::<String>::new(),
        "a second run sends no write, though the service normalises"
    );
    assert_eq!(tide.changes(&again, None).await.len(), 0);
    let verified = tide.engine.store().verify_journal().await.expect("read");
    assert!(verified.is_ok_and(|entries| entries > 50));
}

/// Four people whom nothing else concerns.
fn free_people(tide: &Tide) -> [&Crew; 4] {
    let people = tide.people.iter().enumerate();
    let mut free = people.filter(|(n, person)| n % 10 > 3 && !person.locked);
    std::array::from_fn(|_| free.next().expect("there").1)
}

/// A person is added to the directory.
async fn add_new_hand(ldap: &mut ldap3::Ldap) {
    let entry = [
        ("objectClass", "inetOrgPerson"),
        ("uid", "new.hand"),
        ("cn", "New Hand"),
        ("sn", "Hand"),
        ("givenName", "New"),
        ("employeeNumber", "7001"),
        ("mail", "New.Hand@Skerry.Example"),
        ("departmentNumber", "10"),
    ];
    let dn = format!("uid=new.hand,ou=Deck,ou=people,{BASE}");
    ldap.add(&dn, entry.iter().map(|(k, v)| (*k, set(v))).collect())
        .await
        .expect("sent")
        .success()
        .expect("added");
}
#[tokio::test]
async fn the_target_follows_the_directory() {
    let tide = Tide::writable().await;
    tide.run().await;
    let [changed, renamed, moved, deleted] = free_people(&tide);
    let id = |mail: &str| tide.berthing.user(mail).map(|u| u["id"].clone());
    let renamed_id = id(&renamed.mail);
    let mut ldap = edit(&tide).await;
    add_new_hand(&mut ldap).await;
    ldap.modify(
        &changed.dn(),
        vec![ldap3::Mod::Replace("title", set("Admiral"))],
    )
    .await
    .expect("sent")
    .success()
    .expect("changed");
    ldap.modify(
        &renamed.dn(),
        vec![
            ldap3::Mod::Replace("mail", set("wed@skerry.example")),
            ldap3::Mod::Replace("sn", set("Wed")),
        ],
    )
    .await
    .expect("sent")
    .success()
    .expect("changed");
    ldap.modifydn(&renamed.dn(), "uid=wed", true, None)
        .await
        .expect("sent")
        .success()
        .expect("renamed");
    ldap.modifydn(
        &moved.dn(),
        &format!("uid={}", moved.uid),
        true,
        Some(&format!("ou=former,{BASE}")),
    )
    .await
    .expect("sent")
    .success()
    .expect("moved");
    ldap.delete(&deleted.dn())
        .await
        .expect("sent")
        .success()
        .expect("deleted");

    let run = tide.run().await;
    let changes = tide.changes(&run, None).await;
    let kinds: Vec<&str> = changes.iter().map(|c| c.change.kind.as_str()).collect();
    assert_eq!(
        kinds,
        ["disable", "disable", "create", "rename", "update", "update"],
        "leavers first"
    );
    assert_eq!(count(&run.states, "done"), 6);
    assert!(tide.berthing.user("new.hand@skerry.example").is_some());
    assert_eq!(
        tide.berthing.user(&changed.mail).expect("there")["title"],
        "Admiral"
    );
    assert_eq!(
        id("wed@skerry.example"),
        renamed_id,
        "renamed without losing its id"
    );
    for leaver in [moved, deleted] {
        assert_eq!(
            tide.berthing.user(&leaver.mail).expect("kept")["active"],
            false
        );
    }
    tide.berthing.take_writes();
    tide.run().await;
    assert_eq!(tide.berthing.take_writes(), Vec::<String>::new());
}

#[tokio::test]
async fn a_person_deleted_from_the_directory_is_explained() {
    let tide = Tide::writable().await;
    tide.run().await;
    let [deleted, ..] = free_people(&tide);
    let mut ldap = edit(&tide).await;
    ldap.delete(&deleted.dn())
        .await
        .expect("sent")
        .success()
        .expect("deleted");
    tide.run().await;
    let why = tide
        .engine
        .views()
        .explain_person(&deleted.number)
        .await
        .expect("explained");
    let line = why[0]
        .accounts
        .iter()
        .find(|a| a.decided.system == "berthing")
        .expect("a line");
    let reason = &line.decided.reason;
    let ReasonKind::LeftOn { why, .. } = &*reason.kind else {
        panic!("{reason}")
    };
    assert_eq!(why.code(), ReasonCode::AbsentFromRead, "{reason}");
}

#[tokio::test]
async fn a_connection_lost_during_paging_disables_no_account() {
    let tide = Tide::writable().await;
    tide.run().await;
    tide.berthing.take_writes();
    tide.harbour.temper(Temper {
        cut_after: Some(30),
        ..Temper::default()
    });
    let run = tide.run().await;
    assert_eq!(tide.berthing.take_writes(), Vec::<String>::new());
    assert!(
        run.note
            .as_deref()
            .is_some_and(|n| n.contains("harbour could not be read completely")),
        "{:?}",
        run.note
    );
    assert!(
        tide.engine
            .store()
            .load_population()
            .await
            .expect("read")
            .accounts
            .iter()
            .all(|a| a.absent_since.is_none())
    );
}

#[tokio::test]
async fn lost_answers_and_passing_faults_lose_nothing_and_double_nothing() {
    let tide = Tide::writable().await;
    tide.shows_new_ones_within(1).await;
    use Mischief::{Close, DoAndClose, DoAndFail, DoAndPoint, DoAndSayNothing, Fail, Hurry};
    tide.berthing.mischief_on_writes(&[
        DoAndClose,
        Close,
        Fail,
        Hurry,
        DoAndClose,
        DoAndFail,
        DoAndSayNothing,
        DoAndPoint,
    ]);
    let before = tide.berthing.users().len();
    let run = tide.run().await;
    assert_eq!(
        count(&run.states, "failed"),
        0,
        "{:#?}",
        tide.changes(&run, Some("failed")).await
    );
    let created = tide.changes(&run, Some("create")).await;
    // Whoever is not shown is looked for until they would be shown, and made then.
    tokio::time::sleep(std::time::Duration::from_millis(1200)).await;
    for _ in 0..2 {
        tide.run().await;
    }
    assert_eq!(tide.berthing.users().len(), before + created.len());
    let mut numbers: Vec<String> = tide
        .berthing
        .users()
        .iter()
        .filter_map(|u| u["externalId"].as_str().map(str::to_owned))
        .collect();
    let all = numbers.len();
    numbers.sort();
    numbers.dedup();
    assert_eq!(numbers.len(), all, "nobody has two accounts");
}

#[tokio::test]
async fn one_refusal_stops_neither_the_others_nor_a_refused_token_is_asked_again() {
    let tide = Tide::writable().await;
    tide.berthing.mischief_on_writes(&[Mischief::Conflict]);
    let run = tide.run().await;
    let failed = tide.changes(&run, Some("failed")).await;
    assert_eq!(failed.len(), 1);
    assert!(
        failed[0]
            .error
            .as_deref()
            .is_some_and(|e| e.contains("HTTP 409"))
            && failed[0].remedy.is_some()
    );
    assert!(count(&run.states, "done") > 20);
    // What failed is decided again, and succeeds.
    let again = tide.run().await;
    assert_eq!(
        (count(&again.states, "done"), count(&again.states, "failed")),
        (1, 0)
    );

    let tide = Tide::writable().await;
    tide.berthing.mischief_on_writes(&[Mischief::Refuse; 17]);
    let run = tide.run().await;
    let failed = tide.changes(&run, Some("failed")).await;
    assert!(failed.iter().any(|c| {
        c.error
            .as_deref()
            .is_some_and(|e| e.contains("rejects the token"))
    }));
    assert!(
        tide.berthing.take_writes().len() <= 16,
        "only what was on its way was sent after the refusal"
    );
}

#[tokio::test]
async fn invalid_records_are_on_hold_and_the_others_continue() {
    let tide = Tide::writable().await;
    let broken = &tide.people[5];
    tide.harbour.corrupt(&broken.uid, "sn", &[0xff]);
    let twin = &tide.people[6];
    tide.harbour.corrupt(
        &tide.people[15].uid,
        "employeeNumber",
        twin.number.as_bytes(),
    );
    tide.harbour.corrupt(&tide.people[25].uid, "mail", b" ");
    let run = tide.run().await;
    let held: Vec<String> = tide
        .lines(&run, "on_hold")
        .await
        .iter()
        .map(|l| l.decided.reason.to_string())
        .collect();
    assert!(
        held.iter()
            .any(|t| t.contains("invalid record: sn is not UTF-8")),
        "{held:#?}"
    );
    assert_eq!(
        held.iter()
            .filter(|t| t.contains(&format!(
                "duplicate employeeNumber {}, also of",
                twin.number
            )))
            .count(),
        4,
        "{held:#?}"
    );
    assert!(
        held.iter()
            .any(|t| t == "waiting for a value of mail: it is required"),
        "{held:#?}"
    );
    assert!(count(&run.states, "done") > 20);
}

#[tokio::test]
async fn a_bound_run_sends_what_the_preview_showed_and_nothing_else() {
    let tide = Tide::writable().await;
    let preview = tide.go(Plan::default()).await;
    let late = tide
        .people
        .iter()
        .enumerate()
        .find(|(n, p)| n % 10 > 3 && !p.mail.is_empty())
        .expect("there")
        .1;
    let mut ldap = edit(&tide).await;
    ldap.modify(
        &late.dn(),
        vec![ldap3::Mod::Replace("title", set("Changed meanwhile"))],
    )
    .await
    .expect("sent")
    .success()
    .expect("changed");
    let run = tide
        .go(Plan {
            carry_out: true,
            preview: Some(preview.id),
            ..Plan::default()
        })
        .await;
    let held = tide.changes(&run, Some("on_hold")).await;
    assert_eq!(held.len(), 1, "{held:#?}");
    assert!(
        held[0]
            .change
            .hold
            .as_ref()
            .is_some_and(|hold| hold.code() == ReasonCode::NotInPreview)
    );
    assert!(
        run.note
            .as_deref()
            .is_some_and(|n| n.contains("1 changes that preview")),
        "{:?}",
        run.note
    );
}

#[tokio::test]
async fn secrets_stand_nowhere_in_clear() {
    let tide = Tide::writable().await;
    tide.run().await;
    // A secret is tested before it takes the place of another, unless somebody says so.
    let error = tide
        .engine
        .administration()
        .set_secret("berthing", "canary-new-token", false, "tester")
        .await
        .expect_err("refused");
    assert!(
        error.to_string().contains("the old secret stays"),
        "{error}"
    );
    assert!(
        tide.engine
            .administration()
            .check_system("berthing", None)
            .await
            .expect("tested")
            .is_healthy(),
        "the old one works on"
    );
    tide.engine
        .administration()
        .set_secret("berthing", "berth-token", false, "tester")
        .await
        .expect("tested and set");
    tide.engine
        .administration()
        .set_secret("berthing", "canary-new-token", true, "tester")
        .await
        .expect("set");
    let run = tide.run().await;
    let everything = format!(
        "{:?}{:?}",
        run,
        tide.engine
            .store()
            .list_journal(None, None, 1000)
            .await
            .expect("read")
    );
    for canary in [PASSWORD, "canary-new-token", "berth-token"] {
        assert!(!everything.contains(canary));
        for entry in std::fs::read_dir(tide.folder.path()).expect("listed") {
            let bytes = std::fs::read(entry.expect("entry").path()).expect("read");
            assert!(
                !bytes.windows(canary.len()).any(|w| w == canary.as_bytes()),
                "{canary}"
            );
        }
    }
}

#[tokio::test]
async fn every_account_of_a_large_directory_is_kept() {
    let people = tide_standins::world::people(tide_standins::world::SEED, 4500);
    let harbour = tide_standins::directory::Directory::start(
        &tide_standins::world::directory(&people, PASSWORD),
        PASSWORD,
    )
    .await
    .expect("starts");
    let tide = Tide::start(10).await;
    let settings = serde_json::json!({"url": harbour.url, "bind_dn": harbour.admin_dn, "base_dn": BASE, "page_size": 300, "timeout_seconds": 60});
    let new = tide_engine::NewSystem {
        name: "great".into(),
        kind: SystemKind::Ldap,
        settings,
        secret: Some(PASSWORD.into()),
    };
    tide.engine
        .administration()
        .add_system(new, "tester")
        .await
        .expect("added");
    // Twice: the second reading looks up what the first one kept.
    for _ in 0..2 {
        let reads = tide
            .engine
            .ingest()
            .read_by_name("great")
            .await
            .expect("read");
        assert_eq!(reads[0].error, None);
        let kept = tide.engine.store().account_counts().await.expect("counted");
        let kept = kept
            .iter()
            .find(|(system, ..)| system == "great")
            .map_or(0, |(_, count, _)| *count);
        assert_eq!(
            (reads[0].seen as i64, reads[0].absent),
            (kept, 0),
            "what was shown is kept, and nobody is absent"
        );
        assert!(kept > 4500, "{kept}");
    }
}

#[tokio::test]
async fn a_service_that_shows_new_accounts_late_gets_none_twice() {
    let tide = Tide::writable().await;
    tide.shows_new_ones_within(3).await;
    tide.berthing.let_names_repeat();
    tide.berthing.show_late(std::time::Duration::from_secs(2));
    tide.berthing.mischief_on_writes(&[
        Mischief::DoAndClose,
        Mischief::DoAndFail,
        Mischief::DoAndSayNothing,
    ]);
    let before = tide.berthing.users().len();
    let run = tide.run().await;
    let wanted = before + tide.changes(&run, Some("create")).await.len();
    for _ in 0..3 {
        tokio::time::sleep(std::time::Duration::from_millis(1100)).await;
        tide.run().await;
    }
    assert_eq!(tide.berthing.users().len(), wanted);
    let found = tide.changes(&run, Some("create")).await;
    let later = found
        .iter()
        .filter(|row| {
            row.error
                .as_deref()
                .is_some_and(|note| note.contains("the answer was lost; the account was found"))
        })
        .count();
    assert_eq!(later, 3, "the three that were made in silence were found");
}

#[tokio::test]
async fn records_missing_from_a_shifting_list_are_not_absent() {
    let tide = Tide::writable().await;
    tide.run().await;
    let users = tide.berthing.users();
    let id = |at: usize| users[at]["id"].as_str().expect("an id").to_owned();
    // Between the first and the second page one is deleted and another one made: the count stays,
    // and somebody moves up a page.
    let settings =
        serde_json::json!({"url": tide.berthing.url, "timeout_seconds": 30, "page_size": 20});
    tide.engine
        .administration()
        .set_settings("berthing", settings, None, "tester")
        .await
        .expect("set");
    let (deleted, moved) = (id(10), id(20));
    let new = serde_json::json!({"schemas": [tide_scim::USER], "userName": "made.meanwhile@skerry.example", "active": true});
    tide.berthing.change_after_a_page(&deleted, new);
    let row = tide
        .engine
        .store()
        .find_system("berthing")
        .await
        .expect("there");
    let read = tide
        .engine
        .ingest()
        .read_system(&row, &[tide_core::ObjectType::Person])
        .await
        .expect("read");
    assert!(read[0].error.is_none(), "{read:?}");
    let accounts = tide
        .engine
        .store()
        .load_population()
        .await
        .expect("read")
        .accounts;
    let one = accounts
        .iter()
        .find(|account| account.key == moved)
        .expect("known");
    assert!(
        one.absent_since.is_none(),
        "it is there, and no page showed it"
    );
    let read = tide
        .engine
        .ingest()
        .read_system(&row, &[tide_core::ObjectType::Person])
        .await
        .expect("read");
    assert_eq!(
        read[0].absent, 1,
        "the one that was deleted is missed by the next reading"
    );
}

#[tokio::test]
async fn a_system_that_returns_far_fewer_records_removes_no_account() {
    let tide = Tide::writable().await;
    tide.run().await;
    let present = async || {
        let accounts = tide
            .engine
            .store()
            .load_population()
            .await
            .expect("read")
            .accounts;
        accounts
            .iter()
            .filter(|account| account.system == "harbour" && account.absent_since.is_none())
            .count()
    };
    let before = present().await;
    // The service account sees one department only: the reading is complete, as far as the
    // directory says.
    tide.harbour.temper(Temper {
        shows_only: Some(tide.people[0].container()),
        ..Temper::default()
    });
    let row = tide
        .engine
        .store()
        .find_system("harbour")
        .await
        .expect("there");
    let read = tide
        .engine
        .ingest()
        .read_system(&row, &[tide_core::ObjectType::Person])
        .await
        .expect("read");
    assert_eq!(
        read[0].error.as_ref().map(|error| error.code),
        Some("shrunk"),
        "{read:?}"
    );
    assert_eq!(present().await, before);
    let run = tide.run().await;
    assert!(
        run.note
            .as_deref()
            .is_some_and(|note| note.contains("harbour could not be read completely")),
        "{:?}",
        run.note
    );
    assert_eq!(count(&run.states, "done"), 0, "{:?}", run.states);
}

#[tokio::test]
async fn cancelling_interrupts_a_reading() {
    let tide = Tide::writable().await;
    tide.run().await;
    // Longer than anybody waits for the end below.
    tide.berthing.delay(std::time::Duration::from_secs(120));
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
    eventually(std::time::Duration::from_secs(30), async || {
        (tide.berthing.delayed() > 0).then_some(())
    })
    .await
    .expect("a request waits");
    tide.engine
        .runner()
        .cancel_change_set(id)
        .expect("canceled");
    let set = tide.ended(id).await;
    assert_eq!(
        (set.state.as_str(), set.note.as_deref()),
        ("canceled", Some("canceled before anything was decided"))
    );
    assert!(
        tide.engine
            .store()
            .load_population()
            .await
            .expect("read")
            .accounts
            .iter()
            .all(|account| account.absent_since.is_none())
    );
}
