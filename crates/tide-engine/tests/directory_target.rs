//! A directory as the target: accounts are made, changed, renamed, moved and disabled in a real
//! slapd, from people of another directory, and a second run is silent.
#![allow(clippy::disallowed_methods, reason = "tests run in real time")]

#[allow(dead_code)]
mod common;

use common::{Tide, count};
use ldap3::{LdapConnAsync, Mod, Scope, SearchEntry};
use std::collections::{HashMap, HashSet};
use tide_core::ObjectType;
use tide_core::rules::RuleFile;
use tide_core::states::SystemKind;
use tide_engine::{NewSystem, SystemUpdate};
use tide_standins::slapd::Slapd;
use tide_standins::world::{self, BASE};

const CREWHALL: &str = r#"
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
enabled        = 'identity.active'
"#;

type Found = HashMap<String, Vec<String>>;

async fn entry(slapd: &Slapd, filter: &str) -> Option<(String, Found)> {
    let (connection, mut ldap) = LdapConnAsync::new(&slapd.url).await.expect("connects");
    tokio::spawn(async move { connection.drive().await });
    ldap.simple_bind(&slapd.admin_dn, &slapd.admin_password)
        .await
        .expect("answered")
        .success()
        .expect("bound");
    let (found, _) = ldap
        .search(BASE, Scope::Subtree, filter, vec!["*", "+"])
        .await
        .expect("answered")
        .success()
        .expect("found");
    let entry = SearchEntry::construct(found.into_iter().next()?);
    Some((entry.dn, entry.attrs))
}

async fn started() -> (Tide, Slapd) {
    let tide = Tide::start(40).await;
    // The hall has the containers and two accounts that exist: one of somebody's, one of nobody's.
    let mut entries = world::directory(&[], "hall-secret");
    entries.push(
        tide_ldap::ldif::LdifEntry::new(format!("uid=older,ou=Deck,ou=people,{BASE}"))
            .with("objectClass", &["inetOrgPerson"])
            .with("uid", &["older"])
            .with("cn", &["Older Spelling"])
            .with("sn", &["Older"])
            .with("description", &["not ours to touch"])
            .with("employeeNumber", &[&tide.people[5].number]),
    );
    let slapd = tokio::task::spawn_blocking(move || Slapd::start(&entries))
        .await
        .expect("joined")
        .expect("slapd starts");
    let settings = serde_json::json!({"url": slapd.url, "bind_dn": slapd.admin_dn, "base_dn": BASE, "timeout_seconds": 10});
    let secret = slapd.admin_password.clone();
    let new = NewSystem {
        name: "crewhall".into(),
        kind: SystemKind::Ldap,
        settings,
        secret: Some(secret),
    };
    tide.engine
        .administration()
        .add_system(new, "tester")
        .await
        .expect("added");
    let checked = tide
        .engine
        .administration()
        .check_system("crewhall", None)
        .await
        .expect("tested");
    assert!(checked.is_healthy(), "{checked:?}");
    let mut files: Vec<RuleFile> = world::rules()
        .iter()
        .map(|(name, text)| RuleFile {
            name: (*name).into(),
            text: (*text).into(),
        })
        .collect();
    files.push(RuleFile {
        name: "crewhall.toml".into(),
        text: CREWHALL.into(),
    });
    files.push(common::absent_at_once());
    let (_, faults) = tide
        .engine
        .administration()
        .publish_rules(&files, "tester")
        .await
        .expect("published");
    assert_eq!(faults, vec![]);
    tide.engine
        .administration()
        .set_system(
            "crewhall",
            SystemUpdate {
                writable: Some(vec![ObjectType::Person]),
                armed: Some(true),
                ..SystemUpdate::default()
            },
            "tester",
        )
        .await
        .expect("set");
    (tide, slapd)
}

async fn entry_of(slapd: &Slapd, number: &str) -> (String, Found) {
    entry(slapd, &format!("(employeeNumber={number})"))
        .await
        .expect("there")
}

async fn run_without_failures(tide: &Tide) -> tide_store::ChangeSetRow {
    let run = tide.run().await;
    let failed = tide.changes(&run, Some("failed")).await;
    assert!(failed.is_empty(), "{failed:#?}");
    run
}

/// Runs until nothing changes any more.
async fn settle(tide: &Tide) {
    let mut runs = 0;
    while count(&run_without_failures(tide).await.states, "done") > 0 {
        runs += 1;
        assert!(runs < 4, "still changing");
    }
}
#[tokio::test]
async fn a_new_account_has_all_values_of_its_person() {
    let (tide, slapd) = started().await;
    run_without_failures(&tide).await;
    let person = tide
        .people
        .iter()
        .find(|p| {
            p.phones.len() == 2
                && !p.given.is_empty()
                && !p.locked
                && p.number != tide.people[5].number
        })
        .expect("there");
    let (dn, found) = entry_of(&slapd, &person.number).await;
    assert!(
        dn.to_lowercase()
            .starts_with(&format!("uid={},ou=", person.uid)),
        "{dn}"
    );
    assert_eq!(
        found["telephoneNumber"].iter().collect::<HashSet<_>>(),
        person.phones.iter().collect::<HashSet<_>>()
    );
    assert_eq!(found["sn"], std::slice::from_ref(&person.family));
}

/// The existing account is renamed and moved to where the rules want it.
#[tokio::test]
async fn an_existing_entry_is_joined_and_stays_the_same_entry() {
    let (tide, slapd) = started().await;
    run_without_failures(&tide).await;
    let joined = &tide.people[5];
    let (dn, found) = entry_of(&slapd, &joined.number).await;
    assert!(
        dn.to_lowercase()
            .starts_with(&format!("uid={},", joined.uid)),
        "{dn}"
    );
    assert_eq!(found["description"], ["not ours to touch"]);
    assert!(entry(&slapd, "(uid=older)").await.is_none());
}

/// Who is locked in the source is locked in the target, and nobody else.
#[tokio::test]
async fn a_lock_is_synchronized_and_runs_settle() {
    let (tide, slapd) = started().await;
    settle(&tide).await;
    let locked = tide.people.iter().find(|p| p.locked).expect("there");
    let (_, found) = entry_of(&slapd, &locked.number).await;
    assert!(found.contains_key("pwdAccountLockedTime"));
    let other = tide.people.iter().find(|p| !p.locked).expect("there");
    let (_, found) = entry_of(&slapd, &other.number).await;
    assert!(!found.contains_key("pwdAccountLockedTime"));
}

/// A changed name, another department, a departure.
#[tokio::test]
async fn movers_and_leavers_of_the_source_change_the_directory() {
    let (tide, slapd) = started().await;
    settle(&tide).await;
    let free = |person: &world::Crew| {
        let is_joined = person.number == tide.people[5].number;
        !person.locked && !person.mail.is_empty() && !is_joined && !person.given.is_empty()
    };
    let others: Vec<_> = tide.people.iter().filter(|person| free(person)).collect();
    let (renamed, moved, gone) = (others[0], others[1], others[2]);
    let before = entry_of(&slapd, &renamed.number).await.1["entryUUID"].clone();
    let mut ldap = common::edit(&tide).await;
    ldap.modifydn(&renamed.dn(), "uid=wed.hand", true, None)
        .await
        .expect("sent")
        .success()
        .expect("renamed");
    let elsewhere = if moved.department == "60" { "10" } else { "60" };
    ldap.modify(
        &moved.dn(),
        vec![Mod::Replace("departmentNumber", common::set(elsewhere))],
    )
    .await
    .expect("sent")
    .success()
    .expect("changed");
    ldap.delete(&gone.dn())
        .await
        .expect("sent")
        .success()
        .expect("deleted");
    run_without_failures(&tide).await;
    let (dn, found) = entry_of(&slapd, &renamed.number).await;
    assert!(dn.starts_with("uid=wed.hand,"), "{dn}");
    assert_eq!(
        found["entryUUID"], before,
        "renamed without losing the entry"
    );
    let (dn, _) = entry_of(&slapd, &moved.number).await;
    let wanted = if elsewhere == "60" {
        "ou=Shore Office"
    } else {
        "ou=Deck"
    };
    assert!(dn.contains(wanted), "{dn}");
    let (_, found) = entry_of(&slapd, &gone.number).await;
    assert!(
        found.contains_key("pwdAccountLockedTime"),
        "who is gone is disabled, and not deleted"
    );
    assert_eq!(count(&tide.run().await.states, "done"), 0);
}

#[tokio::test]
async fn a_write_refused_for_permissions_is_reported_and_the_service_continues() {
    let (tide, slapd) = started().await;
    drop(slapd);
    let run = tide.run().await;
    assert!(
        run.note
            .as_deref()
            .is_some_and(|note| note.contains("crewhall could not be read completely")),
        "{:?}",
        run.note
    );
    assert_eq!(count(&run.states, "done"), 0, "berthing is read-only here");
    tide.engine
        .administration()
        .set_system(
            "berthing",
            SystemUpdate {
                writable: Some(vec![ObjectType::Person]),
                armed: Some(true),
                ..SystemUpdate::default()
            },
            "tester",
        )
        .await
        .expect("set");
    let run = tide.run().await;
    assert!(
        count(&run.states, "done") > 15,
        "one system that is down does not hold the others up: {:?}",
        run.states
    );
}
