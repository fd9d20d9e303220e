//! What a watched directory tells, and what it does not tell: against a real slapd.
#![allow(clippy::disallowed_methods, reason = "tests run in real time")]

use ldap3::{Ldap, Mod};
use std::collections::HashSet;
use std::sync::Arc;
use std::time::Duration;
use tide_connect::{
    ChangeEvent, ChangeStream, ConnectionState, Connector, LdapConnector, LdapSettings, Secret,
    SnapshotItem,
};
use tide_core::ObjectType;
use tide_core::states::{StepState, WatchMode};
use tide_ldap::ldif::LdifEntry;
use tide_standins::directory::{Directory, Synchronizes, Temper};
use tide_standins::slapd::{Setup, Slapd};
use tide_standins::world::BASE;

const PASSWORD: &str = "harbour-secret";

fn entries(count: usize) -> Vec<LdifEntry> {
    let mut all = vec![
        LdifEntry::new(BASE)
            .with("objectClass", &["dcObject", "organization"])
            .with("dc", &["skerry"])
            .with("o", &["Skerry Line"]),
        LdifEntry::new(format!("cn=reader,{BASE}"))
            .with(
                "objectClass",
                &["applicationProcess", "simpleSecurityObject"],
            )
            .with("cn", &["reader"])
            .with("userPassword", &[PASSWORD]),
    ];
    for unit in ["people", "former"] {
        all.push(
            LdifEntry::new(format!("ou={unit},{BASE}"))
                .with("objectClass", &["organizationalUnit"])
                .with("ou", &[unit]),
        );
    }
    all.push(
        LdifEntry::new(format!("ou=deck,ou=people,{BASE}"))
            .with("objectClass", &["organizationalUnit"])
            .with("ou", &["deck"]),
    );
    for at in 0..count {
        let uid = format!("mate{at}");
        let entry = LdifEntry::new(format!("uid={uid},ou=deck,ou=people,{BASE}"))
            .with("objectClass", &["inetOrgPerson"]);
        all.push(
            entry
                .with("uid", &[&uid])
                .with("cn", &[&uid])
                .with("sn", &["Mate"]),
        );
    }
    all
}

fn connector(slapd: &Slapd, base: &str) -> Arc<LdapConnector> {
    let bind_dn = Some(format!("cn=reader,{BASE}"));
    let settings = LdapSettings {
        bind_dn,
        page_size: 5,
        timeout_seconds: 30,
        ..LdapSettings::new(&slapd.url, base)
    };
    Arc::new(
        LdapConnector::new(
            settings,
            Some(Secret::new(PASSWORD)),
            Arc::new(ConnectionState::default()),
        )
        .expect("sound"),
    )
}

async fn admin(slapd: &Slapd) -> Ldap {
    let (connection, mut ldap) = ldap3::LdapConnAsync::new(&slapd.url)
        .await
        .expect("connects");
    tokio::spawn(async move { connection.drive().await });
    ldap.simple_bind(&slapd.admin_dn, &slapd.admin_password)
        .await
        .expect("binds")
        .success()
        .expect("accepted");
    ldap
}

/// The names that are told as changed until there are so many, or something else is told.
async fn changed(
    following: &mut ChangeStream,
    count: usize,
) -> Result<HashSet<String>, ChangeEvent> {
    let mut names = HashSet::new();
    while names.len() < count {
        let news = tokio::time::timeout(Duration::from_secs(20), following.recv())
            .await
            .expect("told in time")
            .expect("more");
        match news.expect("no error") {
            ChangeEvent::Changed(all) => names.extend(all.into_iter().map(|one| one.name)),
            ChangeEvent::Checkpoint(_) => {}
            other => return Err(other),
        }
    }
    Ok(names)
}

#[tokio::test]
async fn a_container_that_is_renamed_or_moved_away_is_noticed() {
    let slapd = Slapd::start(&entries(7)).expect("slapd starts");
    let people = format!("ou=people,{BASE}");
    let reader = connector(&slapd, &people);
    assert_eq!(
        reader.watch_modes().await.expect("told").first(),
        Some(&WatchMode::ContentSync),
        "its UUIDs are our keys"
    );
    let from = reader
        .current_cursor(ObjectType::Person, WatchMode::ContentSync)
        .await
        .expect("told");
    let mut following = reader
        .clone()
        .watch(ObjectType::Person, WatchMode::ContentSync, from);
    tokio::time::sleep(Duration::from_millis(300)).await;
    let mut ldap = admin(&slapd).await;
    let deck = format!("ou=deck,{people}");
    ldap.modifydn(&deck, "ou=bridge", true, None)
        .await
        .expect("sent")
        .success()
        .expect("renamed");
    let names = changed(&mut following, 7).await.expect("told");
    assert!(
        names.iter().all(|name| name.contains(",ou=bridge,")),
        "{names:?}"
    );

    // Where it is asked from time to time, it shows in the same way.
    let mut asked = reader.clone().watch(
        ObjectType::Person,
        WatchMode::Modified,
        Some("20261101000000Z".into()),
    );
    let names = changed(&mut asked, 7).await.expect("told");
    assert!(
        names.iter().all(|name| name.contains(",ou=bridge,")),
        "{names:?}"
    );

    // Out of what is read: nobody tells of those in it, so everything is read.
    let former = format!("ou=former,{BASE}");
    ldap.modifydn(
        &format!("ou=bridge,{people}"),
        "ou=bridge",
        true,
        Some(&former),
    )
    .await
    .expect("sent")
    .success()
    .expect("moved");
    assert!(matches!(
        changed(&mut following, 1).await,
        Err(ChangeEvent::ResyncRequired(_))
    ));
}

#[tokio::test]
async fn more_changes_than_a_size_limit_lead_to_a_full_read() {
    let setup = Setup {
        database: "limits users size=6 size.prtotal=unlimited".into(),
        ..Setup::default()
    };
    let slapd = Slapd::with_setup(&entries(20), &setup).expect("slapd starts");
    let reader = connector(&slapd, BASE);
    let from = reader
        .current_cursor(ObjectType::Person, WatchMode::ContentSync)
        .await
        .expect("told");
    let mut ldap = admin(&slapd).await;
    for at in 0..12 {
        let dn = format!("uid=mate{at},ou=deck,ou=people,{BASE}");
        let title = Mod::Replace("title".to_owned(), HashSet::from(["Mate".to_owned()]));
        ldap.modify(&dn, vec![title])
            .await
            .expect("sent")
            .success()
            .expect("changed");
    }
    let mut following = reader
        .clone()
        .watch(ObjectType::Person, WatchMode::ContentSync, from);
    let lost = changed(&mut following, 12)
        .await
        .expect_err("it is told that it cannot go on");
    assert!(
        matches!(&lost, ChangeEvent::ResyncRequired(why) if why.contains("code 4")),
        "{lost:?}"
    );
}

async fn stand_in(manner: Synchronizes) -> (Directory, Arc<LdapConnector>) {
    let directory = Directory::start(&entries(3), PASSWORD)
        .await
        .expect("starts");
    directory.temper(Temper {
        synchronizes: Some(manner),
        ..Temper::default()
    });
    let bind_dn = Some(directory.admin_dn.clone());
    let settings = LdapSettings {
        bind_dn,
        timeout_seconds: 1,
        ..LdapSettings::new(&directory.url, BASE)
    };
    let reader = Arc::new(
        LdapConnector::new(
            settings,
            Some(Secret::new(PASSWORD)),
            Arc::new(ConnectionState::default()),
        )
        .expect("sound"),
    );
    (directory, reader)
}

/// Deletions that are told by UUIDs that nobody knows would make nobody absent.
#[tokio::test]
async fn content_synchronization_with_other_uuids_is_refused_with_a_reason() {
    let (_directory, reader) = stand_in(Synchronizes::ByOtherUuids).await;
    assert_eq!(
        reader.watch_modes().await.expect("told").first(),
        Some(&WatchMode::Modified)
    );
    let report = reader.run_check().await;
    let step = report
        .steps
        .iter()
        .find(|step| step.name == "Changes")
        .unwrap_or_else(|| panic!("{report:#?}"));
    assert!(
        step.state == StepState::Warned
            && step.message.contains("another UUID")
            && step.message.contains("once an hour"),
        "{step:?}"
    );
    // Whoever chose it all the same is told, and nothing is kept under a wrong key.
    let mut following = reader.watch(ObjectType::Person, WatchMode::ContentSync, Some("1".into()));
    let error = tokio::time::timeout(Duration::from_secs(20), following.recv())
        .await
        .expect("in time")
        .expect("told")
        .expect_err("an error");
    assert_eq!(error.code, "sync_key");
}

/// Going on from a cookie a server may leave the key out of what changed: it is then the UUID of
/// the synchronization.
#[tokio::test]
async fn an_entry_without_its_key_is_known_by_the_uuid_of_the_synchronization() {
    let (_directory, reader) = stand_in(Synchronizes::WithoutOperational).await;
    assert_eq!(
        reader.watch_modes().await.expect("told").first(),
        Some(&WatchMode::ContentSync)
    );
    let mut showing = reader.clone().read_all(ObjectType::Person);
    let mut keys = HashSet::new();
    while let Some(Ok(SnapshotItem::Batch(batch))) = showing.recv().await {
        keys.extend(batch.into_iter().map(|one| one.key));
    }
    assert_eq!(keys.len(), 3);
    let mut following = reader.watch(ObjectType::Person, WatchMode::ContentSync, Some("1".into()));
    let mut told = HashSet::new();
    while told.len() < 3 {
        let news = tokio::time::timeout(Duration::from_secs(20), following.recv())
            .await
            .expect("in time")
            .expect("more")
            .expect("good");
        if let ChangeEvent::Changed(all) = news {
            assert!(all.iter().all(|one| one.fault.is_none()), "{all:?}");
            told.extend(all.into_iter().map(|one| one.key));
        }
    }
    assert_eq!(told, keys);
}

/// A server that stops telling without a word is not called listening for a day.
#[tokio::test]
async fn a_server_that_takes_the_request_and_says_nothing_is_noticed() {
    let (_directory, reader) = stand_in(Synchronizes::Silent).await;
    assert_eq!(
        reader.watch_modes().await.expect("told").first(),
        Some(&WatchMode::ContentSync)
    );
    let mut following = reader.watch(ObjectType::Person, WatchMode::ContentSync, Some("1".into()));
    let error = tokio::time::timeout(Duration::from_secs(20), following.recv())
        .await
        .expect("in time")
        .expect("told")
        .expect_err("an error");
    assert_eq!(error.code, "sync_silent");
    assert!(error.remedy.contains("--mode modified"), "{error:?}");
}
