//! The LDAP connector against a real slapd, and against a stand-in that misbehaves on command.
#![allow(clippy::disallowed_methods, reason = "tests run in real time")]

use std::sync::Arc;
use std::time::Duration;
use tide_connect::{
    CheckReport, ConnectionState, Connector, FailureClass, LdapConnector, LdapSettings, Secret,
    SnapshotItem, SnapshotStream, Write,
};
use tide_core::compare::ValueChange;
use tide_core::model::Observed;
use tide_core::states::{ChangeKind, StepState};
use tide_core::{ObjectType, Place, Value};
use tide_ldap::ldif::LdifEntry;
use tide_standins::directory::{Directory, Temper};
use tide_standins::slapd::{Setup, Slapd};
use tide_standins::world::{self, BASE};

const PASSWORD: &str = "harbour-secret";

fn settings(url: &str) -> LdapSettings {
    let bind_dn = Some(format!("cn=eager-tide,ou=services,{BASE}"));
    LdapSettings {
        bind_dn,
        page_size: 50,
        timeout_seconds: 30,
        ..LdapSettings::new(url, BASE)
    }
}

fn connector(settings: LdapSettings, password: &str) -> Arc<LdapConnector> {
    let access = Arc::new(ConnectionState::new(&[ObjectType::Person]));
    Arc::new(
        LdapConnector::new(settings, Some(Secret::new(password)), access)
            .expect("settings are sound"),
    )
}

fn failed(report: &CheckReport) -> (String, String, String) {
    let step = report
        .steps
        .iter()
        .find(|s| s.state == StepState::Failed)
        .unwrap_or_else(|| panic!("nothing failed: {report:#?}"));
    (
        step.name.clone(),
        step.code.clone().unwrap_or_default(),
        format!(
            "{} / {}",
            step.message,
            step.remedy.clone().unwrap_or_default()
        ),
    )
}

async fn drain(mut showing: SnapshotStream) -> (Vec<Observed>, Result<usize, String>) {
    let mut seen = Vec::new();
    while let Some(shown) = showing.recv().await {
        match shown {
            Ok(SnapshotItem::Batch(batch)) => seen.extend(batch),
            Ok(SnapshotItem::Complete(count)) => return (seen, Ok(count)),
            Ok(other) => panic!("{other:?}"),
            Err(error) => return (seen, Err(error.code.into())),
        }
    }
    (seen, Err("cut".into()))
}

fn value(attribute: &str, before: &[&str], after: &[&str]) -> ValueChange {
    let texts = |values: &[&str]| values.iter().map(|v| Value::text(*v)).collect();
    ValueChange {
        attribute: attribute.into(),
        before: texts(before),
        after: texts(after),
        rule: Place::default(),
        later: Vec::new(),
    }
}

/// A directory with 120 people.
fn crew_directory() -> (Vec<world::Crew>, Slapd) {
    let people = world::people(world::SEED, 120);
    let slapd = Slapd::start(&world::directory(&people, PASSWORD)).expect("slapd starts");
    (people, slapd)
}

fn administrator(slapd: &Slapd) -> Arc<LdapConnector> {
    let admin = LdapSettings {
        bind_dn: Some(slapd.admin_dn.clone()),
        ..settings(&slapd.url)
    };
    connector(admin, &slapd.admin_password)
}

/// A write to a person's account.
fn write_of(kind: ChangeKind, account: &Observed, values: Vec<ValueChange>) -> Write {
    Write {
        member: None,
        merged: Vec::new(),
        object: ObjectType::Person,
        kind,
        account: Some((account.key.clone(), account.name.clone())),
        values,
    }
}

/// A new entry whose name needs every kind of escape (RFC 4514 §2.4).
fn creation() -> (String, Write) {
    let dn = format!(r"cn=O\, Hara \+ Sons (x)*,ou=people,{BASE}");
    let create = Write {
        member: None,
        merged: Vec::new(),
        object: ObjectType::Person,
        kind: ChangeKind::Create,
        account: None,
        values: vec![
            value("dn", &[], &[&dn]),
            value("objectClass", &[], &["inetOrgPerson"]),
            value("cn", &[], &["O, Hara + Sons (x)*"]),
            value("sn", &[], &["O'Hara"]),
            ValueChange {
                after: vec![Value::Bytes(vec![0xff, 0xd8, 0x00, 0x01])],
                ..value("jpegPhoto", &[], &[])
            },
        ],
    };
    (dn, create)
}

#[tokio::test]
async fn a_connection_is_tested_step_by_step_over_every_kind_of_tls() {
    let (_, slapd) = crew_directory();
    // Plain, StartTLS with a private authority, LDAPS with a private authority.
    let ca = Some(slapd.certificates.ca_pem.clone());
    let start_tls = LdapSettings {
        start_tls: true,
        ca_pem: ca.clone(),
        ..settings(&slapd.url)
    };
    let ldaps = LdapSettings {
        ca_pem: ca,
        ..settings(&slapd.tls_url)
    };
    for sound in [settings(&slapd.url), start_tls, ldaps] {
        let report = connector(sound, PASSWORD).run_check().await;
        assert!(report.is_healthy(), "{report:#?}");
        assert!(
            report
                .steps
                .iter()
                .any(|step| step.name == "Changes"
                    && step.message.contains("content synchronization")),
            "{report:#?}"
        );
        let last = report
            .steps
            .iter()
            .find(|step| step.name == "First entries")
            .expect("a step");
        assert!(
            last.message
                .starts_with("50 persons on the first page, and more follow; the first: uid="),
            "{}",
            last.message
        );
    }
}

#[tokio::test]
async fn each_mistake_in_a_connection_has_a_code_of_its_own() {
    let (_, slapd) = crew_directory();
    let (step, code, _) = failed(&connector(settings(&slapd.url), "wrong").run_check().await);
    assert_eq!(
        (step.as_str(), code.as_str()),
        ("Bind accepted", "bind_refused")
    );
    let wrong_base = LdapSettings {
        base_dn: format!("ou=crew,{BASE}"),
        ..settings(&slapd.url)
    };
    let (_, code, text) = failed(&connector(wrong_base, PASSWORD).run_check().await);
    assert_eq!(code, "base_missing");
    assert!(
        text.contains(&format!("the nearest entry that exists is {BASE}")),
        "{text}"
    );
    let (step, code, _) = failed(
        &connector(
            LdapSettings {
                ca_pem: None,
                ..settings(&slapd.tls_url)
            },
            PASSWORD,
        )
        .run_check()
        .await,
    );
    assert_eq!(
        (step.as_str(), code.as_str()),
        ("TLS verifies", "tls_untrusted")
    );
    let (step, code, _) = failed(
        &connector(settings("ldap://127.0.0.1:1"), PASSWORD)
            .run_check()
            .await,
    );
    assert_eq!(
        (step.as_str(), code.as_str()),
        ("Port answers", "unreachable")
    );
    let (step, code, _) = failed(
        &connector(settings("ldap://no-such-host.skerry.example:389"), PASSWORD)
            .run_check()
            .await,
    );
    assert_eq!(
        (step.as_str(), code.as_str()),
        ("Name resolves", "name_unknown")
    );
}

#[tokio::test]
async fn accounts_are_read_in_pages_with_their_state_and_without_passwords() {
    let (people, slapd) = crew_directory();
    let reader = connector(settings(&slapd.url), PASSWORD);
    let (seen, end) = drain(reader.clone().read_all(ObjectType::Person)).await;
    assert_eq!(end, Ok(seen.len()));
    assert_eq!(seen.len(), 120 + 4 + 2);
    let person = &people[0];
    let found = seen
        .iter()
        .find(|o| o.name.eq_ignore_ascii_case(&person.dn()))
        .expect("read");
    assert_eq!(found.attributes.get("telephoneNumber").len(), 2);
    assert_eq!(found.attributes.get("enabled"), [Value::Bool(true)]);
    assert_eq!(found.key.len(), 36);
    let locked = people
        .iter()
        .find(|p| p.locked)
        .expect("somebody is locked");
    let locked = seen
        .iter()
        .find(|o| o.name.eq_ignore_ascii_case(&locked.dn()))
        .expect("read");
    assert_eq!(locked.attributes.get("enabled"), [Value::Bool(false)]);
    assert!(
        seen.iter()
            .all(|o| o.attributes.get("userPassword").is_empty())
    );
}

#[tokio::test]
async fn entries_are_created_changed_and_renamed_by_their_keys() {
    let (_, slapd) = crew_directory();
    let admin = administrator(&slapd);
    let (dn, create) = creation();
    let made = admin.write(&create).await.expect("created");
    assert_eq!(
        made.attributes.get("jpegPhoto"),
        [Value::Bytes(vec![0xff, 0xd8, 0x00, 0x01])]
    );
    let exists = admin.write(&create).await.expect_err("exists");
    assert_eq!(exists.code, "exists");
    let changed = admin
        .write(&write_of(
            ChangeKind::Update,
            &made,
            vec![value(
                "mail",
                &[],
                &["a@skerry.example", "b@skerry.example"],
            )],
        ))
        .await
        .expect("changed");
    assert_eq!(changed.attributes.get("mail").len(), 2);
    let target = format!("cn=Plain,ou=former,{BASE}");
    let moved = admin
        .write(&write_of(
            ChangeKind::Rename,
            &made,
            vec![value("dn", &[&dn], &[&target])],
        ))
        .await
        .expect("moved");
    assert_eq!(
        (moved.key.as_str(), moved.name.as_str()),
        (made.key.as_str(), target.as_str()),
        "a moved entry stays the same account"
    );
}

#[tokio::test]
async fn a_repeated_write_finds_a_renamed_entry() {
    let (_, slapd) = crew_directory();
    let admin = administrator(&slapd);
    let (dn, create) = creation();
    let made = admin.write(&create).await.expect("created");
    let target = format!("cn=Plain,ou=former,{BASE}");
    let rename = write_of(
        ChangeKind::Rename,
        &made,
        vec![value("dn", &[&dn], &[&target])],
    );
    admin.write(&rename).await.expect("moved");
    // Sent again, as after a lost answer; then to the entry under its old name.
    let again = admin.write(&rename).await.expect("it is so");
    assert_eq!(
        (again.key.as_str(), again.name.as_str()),
        (made.key.as_str(), target.as_str())
    );
    let written = admin
        .write(&write_of(
            ChangeKind::Update,
            &made,
            vec![value("title", &[], &["Bosun"])],
        ))
        .await
        .expect("under its new name");
    assert_eq!(
        (written.name.as_str(), written.attributes.get("title")),
        (target.as_str(), &[Value::text("Bosun")][..])
    );
    let gone = Observed {
        key: "00000000-0000-1000-8000-000000000000".into(),
        ..made.clone()
    };
    let refused = admin
        .write(&write_of(
            ChangeKind::Update,
            &gone,
            vec![value("title", &[], &["x"])],
        ))
        .await
        .expect_err("nobody");
    assert_eq!(refused.code, "no_such_object");
}

#[tokio::test]
async fn an_entry_is_disabled_enabled_and_found_by_its_values() {
    let (_, slapd) = crew_directory();
    let admin = administrator(&slapd);
    let (_, create) = creation();
    let made = admin.write(&create).await.expect("created");
    let off = admin
        .write(&write_of(ChangeKind::Disable, &made, vec![]))
        .await
        .expect("disabled");
    assert_eq!(off.attributes.get("enabled"), [Value::Bool(false)]);
    let on = admin
        .write(&write_of(ChangeKind::Enable, &made, vec![]))
        .await
        .expect("enabled");
    assert_eq!(on.attributes.get("enabled"), [Value::Bool(true)]);
    let found = admin
        .find(ObjectType::Person, &[("sn".into(), Value::text("O'Hara"))])
        .await
        .expect("found");
    assert!(found.iter().any(|f| f.key == made.key));
}

#[tokio::test]
async fn references_that_follow_renames_are_not_in_the_way() {
    let (people, slapd) = crew_directory();
    let admin = administrator(&slapd);
    let made = admin.write(&creation().1).await.expect("created");
    // References that follow renames by themselves, as this server's do, or that somebody was
    // faster with: what differs still is sent.
    let refer = |attribute: &str, before: &[&str], after: &[&str]| {
        let names = |texts: &[&str]| {
            texts
                .iter()
                .map(|text| Value::Reference((*text).to_owned()))
                .collect()
        };
        ValueChange {
            before: names(before),
            after: names(after),
            ..value(attribute, &[], &[])
        }
    };
    let update = async |values| {
        admin
            .write(&write_of(ChangeKind::Update, &made, values))
            .await
    };
    let (first, other, third) = (people[0].dn(), people[1].dn(), people[2].dn());
    update(vec![refer("manager", &[], &[&other])])
        .await
        .expect("set");
    let again = update(vec![
        refer("manager", &[&first], &[&other]),
        value("title", &[], &["Cook"]),
    ])
    .await
    .expect("as it is wanted");
    assert_eq!(
        again.attributes.get("manager"),
        [Value::Reference(other.clone())]
    );
    assert_eq!(
        again.attributes.get("title"),
        [Value::text("Cook")],
        "the rest is written all the same"
    );
    let part = update(vec![refer("manager", &[&first, &other], &[&other, &third])])
        .await
        .expect("one of them");
    let mut names: Vec<String> = part
        .attributes
        .get("manager")
        .iter()
        .map(ToString::to_string)
        .collect();
    names.sort();
    let mut wanted = vec![other, third];
    wanted.sort();
    assert_eq!(names, wanted, "the one that is not there is not in the way");
    assert!(
        part.version > again.version && again.version.is_some(),
        "which of two states is the later one is told"
    );
}

#[tokio::test]
async fn a_reader_may_not_write_and_a_deletion_can_be_repeated() {
    let (_, slapd) = crew_directory();
    let admin = administrator(&slapd);
    let (dn, create) = creation();
    let made = admin.write(&create).await.expect("created");
    // The reader's account may not write, and says so in its own way.
    let reader = connector(settings(&slapd.url), PASSWORD);
    let refused = reader
        .write(&write_of(
            ChangeKind::Update,
            &made,
            vec![value("title", &[], &["x"])],
        ))
        .await
        .expect_err("refused");
    assert_eq!(refused.code, "rights");

    // Deleted, though it is called otherwise by now; and once more, which is as it is wanted.
    let (last, key) = (
        format!("cn=Plain,ou=Deck,ou=people,{BASE}"),
        made.key.clone(),
    );
    admin
        .write(&write_of(
            ChangeKind::Move,
            &made,
            vec![value("dn", &[&dn], &[&last])],
        ))
        .await
        .expect("moved");
    for _ in 0..2 {
        let deleted = admin
            .write(&write_of(ChangeKind::Delete, &made, vec![]))
            .await
            .expect("deleted");
        assert_eq!(deleted.key, key);
        assert!(
            admin
                .find(ObjectType::Person, &[("sn".into(), Value::text("O'Hara"))])
                .await
                .expect("read")
                .iter()
                .all(|f| f.key != key)
        );
    }
}

/// A directory and a replica of it: a consumer (RFC 4533) whose provider does not answer, which
/// refers writes to the first.
fn directory_with_replica() -> (Vec<world::Crew>, Slapd, Slapd) {
    let people = world::people(world::SEED, 5);
    let entries = world::directory(&people, PASSWORD);
    let certificates = tide_standins::certs::make(&["localhost", "127.0.0.1"]).expect("made");
    let set_up = |database: String| Setup {
        certificates: Some(certificates.clone()),
        database,
        ..Setup::default()
    };
    let first = Slapd::with_setup(&entries, &set_up(String::new())).expect("slapd starts");
    let consumer = format!(
        "syncrepl rid=001 provider=ldap://127.0.0.1:9 type=refreshAndPersist searchbase=\"{BASE}\" bindmethod=simple retry=\"60 +\"\nupdateref {}",
        first.url
    );
    let replica = Slapd::with_setup(&entries, &set_up(consumer)).expect("slapd starts");
    (people, first, replica)
}

#[tokio::test]
async fn the_check_of_a_replica_warns_that_it_is_read_only() {
    let (_, first, replica) = directory_with_replica();
    let of_replica = LdapSettings {
        bind_dn: Some(first.admin_dn.clone()),
        ..settings(&replica.url)
    };
    let report = connector(of_replica, &replica.admin_password)
        .run_check()
        .await;
    let step = report
        .steps
        .iter()
        .find(|step| step.name == "Writable")
        .unwrap_or_else(|| panic!("{report:#?}"));
    assert!(
        step.state == StepState::Warned
            && step.message.contains("read-only")
            && step.message.contains(&first.url),
        "{step:?}"
    );
}

/// A backup host that refers writes to the first one is used for reading, and left as soon as the
/// first one is back.
#[tokio::test]
async fn a_replica_is_read_and_left_when_the_first_host_is_back() {
    let (people, mut first, replica) = directory_with_replica();
    let write_to = |found: &Observed, title: &str| Write {
        member: None,
        merged: Vec::new(),
        object: ObjectType::Person,
        kind: ChangeKind::Update,
        account: Some((found.key.clone(), found.name.clone())),
        values: vec![value("title", &[], &[title])],
    };
    let probe = [("uid".to_owned(), Value::text(&people[0].uid))];
    let both = |password: &str| {
        let both = LdapSettings {
            bind_dn: Some(format!("cn=eager-tide,ou=services,{BASE}")),
            backups: vec![replica.url.clone()],
            return_after_seconds: 1,
            ..settings(&first.url)
        };
        connector(both, password)
    };
    let reader = both(PASSWORD);
    first.stop();
    let found = reader
        .find(ObjectType::Person, &probe)
        .await
        .expect("read from the replica");
    assert_eq!(found.len(), 1);
    let refused = reader
        .write(&write_to(&found[0], "Mate"))
        .await
        .expect_err("nowhere to write");
    assert!(
        ["referral", "unreachable", "cut"].contains(&refused.code),
        "{refused:?}"
    );
    first.restart().expect("it starts again");
    tokio::time::sleep(Duration::from_millis(1200)).await;
    // The first one is asked again, by its own answer: this account may not write there.
    let refused = reader
        .write(&write_to(&found[0], "Mate"))
        .await
        .expect_err("the account may only read");
    assert_eq!(
        refused.code, "rights",
        "it came to the first host: {refused:?}"
    );
}

const SERVICE: &str = "cn=eager-tide,ou=services";

/// A directory with a password policy, by which the password of the service account expires soon.
/// Returns it with a connection of its administrator and the DN of the policy.
async fn directory_with_policy() -> (Slapd, ldap3::Ldap, String) {
    let policy = format!("cn=policy,{BASE}");
    let people = world::people(world::SEED, 3);
    let mut entries = world::directory(&people, PASSWORD);
    let rule = LdifEntry::new(&policy)
        .with("objectClass", &["applicationProcess", "pwdPolicy"])
        .with("cn", &["policy"]);
    let rule = rule
        .with("pwdAttribute", &["userPassword"])
        .with("pwdMaxAge", &["86000"])
        .with("pwdExpireWarning", &["86400"]);
    entries.push(rule.with("pwdGraceAuthNLimit", &["3"]));
    let setup = Setup {
        policy: format!("ppolicy_default \"{policy}\""),
        ..Setup::default()
    };
    let slapd = Slapd::with_setup(&entries, &setup).expect("slapd starts");
    let (connection, mut ldap) = ldap3::LdapConnAsync::new(&slapd.url)
        .await
        .expect("connects");
    tokio::spawn(async move { connection.drive().await });
    ldap.simple_bind(&slapd.admin_dn, &slapd.admin_password)
        .await
        .expect("sent")
        .success()
        .expect("accepted");
    // The overlay notes when a password is set while it runs.
    let account = format!("{SERVICE},{BASE}");
    ldap.modify(&account, replaced("userPassword", PASSWORD))
        .await
        .expect("sent")
        .success()
        .expect("set");
    (slapd, ldap, policy)
}

fn replaced(attribute: &str, value: &str) -> Vec<ldap3::Mod<String>> {
    let values = std::collections::HashSet::from([value.to_owned()]);
    vec![ldap3::Mod::Replace(attribute.to_owned(), values)]
}

async fn bind_step(slapd: &Slapd) -> tide_connect::CheckStep {
    let report = connector(settings(&slapd.url), PASSWORD).run_check().await;
    let mut steps = report.steps.into_iter();
    let bind = steps.find(|step| step.name == "Bind accepted");
    bind.expect("it was tried")
}

/// A bind with an expiring password is accepted with a warning, which the check of the connection
/// shows. Reading does not use up the grace logins.
#[tokio::test]
async fn an_expiring_service_password_is_reported_before_it_locks_out() {
    let (slapd, mut ldap, policy) = directory_with_policy().await;
    let step = bind_step(&slapd).await;
    assert!(
        step.state == StepState::Warned && step.message.contains("expires"),
        "{step:?}"
    );
    // A connector that knows the server already.
    let reader = connector(settings(&slapd.url), PASSWORD);
    let count = drain(reader.clone().read_all(ObjectType::Person)).await.1;
    assert_eq!(count, Ok(9));
    // Expired: repeated reads use up one grace login only.
    ldap.modify(&policy, replaced("pwdMaxAge", "1"))
        .await
        .expect("sent")
        .success()
        .expect("set");
    tokio::time::sleep(Duration::from_millis(2100)).await;
    for _ in 0..3 {
        let (seen, end) = drain(reader.clone().read_all(ObjectType::Person)).await;
        assert_eq!(
            (seen.len(), end),
            (0, Err("password_expired".into())),
            "a full read has a connection of its own"
        );
    }
    let found = ldap
        .search(
            &format!("{SERVICE},{BASE}"),
            ldap3::Scope::Base,
            "(objectClass=*)",
            vec!["pwdGraceUseTime"],
        )
        .await
        .expect("sent");
    let entry = ldap3::SearchEntry::construct(found.success().expect("found").0.remove(0));
    assert_eq!(
        entry.attrs["pwdGraceUseTime"].len(),
        1,
        "one of the grace logins, to learn of it, and no other"
    );
    assert_eq!(bind_step(&slapd).await.state, StepState::Failed);
}

/// The mark of a password tells that it changed. It hangs on the password and on a key of our own,
/// and not on the account we bind with.
#[tokio::test]
async fn another_bind_password_changes_no_mark_of_a_password() {
    let people = world::people(world::SEED, 3);
    let access = "access to * by users read by anonymous auth".to_owned();
    let with_password = |entry: LdifEntry| {
        if entry.dn == people[0].dn() {
            entry.with("userPassword", &["Quay-side-9"])
        } else {
            entry
        }
    };
    let entries: Vec<LdifEntry> = world::directory(&people, PASSWORD)
        .into_iter()
        .map(with_password)
        .collect();
    let slapd = Slapd::with_setup(
        &entries,
        &Setup {
            access: Some(access),
            ..Setup::default()
        },
    )
    .expect("starts");
    let mut marks = Vec::new();
    for (bind_dn, password, key) in [
        (format!("cn=eager-tide,ou=services,{BASE}"), PASSWORD, "one"),
        (slapd.admin_dn.clone(), slapd.admin_password.as_str(), "one"),
        (
            slapd.admin_dn.clone(),
            slapd.admin_password.as_str(),
            "other",
        ),
    ] {
        let settings = LdapSettings {
            bind_dn: Some(bind_dn),
            mark_passwords: true,
            ..settings(&slapd.url)
        };
        let access = Arc::new(ConnectionState::new(&[]));
        access.set_mark_key(key.as_bytes().to_vec());
        let connector = Arc::new(
            LdapConnector::new(settings, Some(Secret::new(password)), access).expect("sound"),
        );
        let (seen, _) = drain(connector.read_all(ObjectType::Person)).await;
        let mut all: Vec<String> = seen
            .iter()
            .map(|one| format!("{} {:?}", one.name, one.attributes.get("passwordMark")))
            .collect();
        all.sort();
        assert!(
            seen.iter()
                .any(|one| !one.attributes.get("passwordMark").is_empty()),
            "{all:?}"
        );
        marks.push(all);
    }
    assert_eq!(marks[0], marks[1]);
    assert_ne!(marks[1], marks[2]);
}

#[tokio::test]
async fn a_read_only_system_never_receives_a_write() {
    let people = world::people(world::SEED, 5);
    let directory = Directory::start(&world::directory(&people, PASSWORD), PASSWORD)
        .await
        .expect("starts");
    let access = Arc::new(ConnectionState::default());
    let connector = LdapConnector::new(
        settings(&directory.url),
        Some(Secret::new(PASSWORD)),
        access.clone(),
    )
    .expect("sound");
    let found = connector
        .find(
            ObjectType::Person,
            &[("uid".into(), Value::text(&people[0].uid))],
        )
        .await
        .expect("found");
    let write = Write {
        member: None,
        merged: Vec::new(),
        object: ObjectType::Person,
        kind: ChangeKind::Update,
        account: Some((found[0].key.clone(), found[0].name.clone())),
        values: vec![value("title", &[], &["Admiral"])],
    };
    assert_eq!(
        connector.write(&write).await.expect_err("refused").code,
        "read_only"
    );
    access.set(&[ObjectType::Person]);
    assert!(connector.write(&write).await.is_ok());
    access.set(&[]);
    assert_eq!(
        connector
            .write(&write)
            .await
            .expect_err("refused again")
            .code,
        "read_only"
    );
}

#[tokio::test]
async fn a_read_that_is_cut_is_never_complete() {
    let people = world::people(world::SEED, 120);
    let directory = Directory::start(&world::directory(&people, PASSWORD), PASSWORD)
        .await
        .expect("starts");
    let connector = connector(settings(&directory.url), PASSWORD);
    let (seen, end) = drain(connector.clone().read_all(ObjectType::Person)).await;
    assert_eq!((seen.len(), end), (126, Ok(126)));

    // In the middle of the second page, and between two pages.
    for cut in [75, 50] {
        directory.temper(Temper {
            cut_after: Some(cut),
            ..Temper::default()
        });
        let (seen, end) = drain(connector.clone().read_all(ObjectType::Person)).await;
        assert_eq!(end, Err("cut".into()));
        assert!(seen.len() < 126);
    }
    directory.temper(Temper {
        busy: 1,
        ..Temper::default()
    });
    assert_eq!(
        drain(connector.clone().read_all(ObjectType::Person))
            .await
            .1,
        Err("busy".into())
    );
    directory.temper(Temper {
        stall: Some(Duration::from_secs(60)),
        ..Temper::default()
    });
    let impatient = LdapSettings {
        timeout_seconds: 1,
        ..settings(&directory.url)
    };
    let impatient = self::connector(impatient, PASSWORD);
    let (_, end) = drain(impatient.read_all(ObjectType::Person)).await;
    assert_eq!(end, Err("timeout".into()));
}

#[tokio::test]
async fn a_broken_entry_is_shown_broken_and_the_others_go_on() {
    let people = world::people(world::SEED, 10);
    let directory = Directory::start(&world::directory(&people, PASSWORD), PASSWORD)
        .await
        .expect("starts");
    directory.corrupt(&people[3].uid, "sn", &[b'L', 0xff, 0xfe]);
    directory.corrupt(&people[4].uid, "jpegPhoto", &[0xff, 0xfe]);
    let (seen, end) =
        drain(connector(settings(&directory.url), PASSWORD).read_all(ObjectType::Person)).await;
    assert_eq!(end, Ok(16));
    let faults: Vec<&str> = seen.iter().filter_map(|o| o.fault.as_deref()).collect();
    assert_eq!(faults, ["sn is not UTF-8 (octet 2)"]);
}

#[tokio::test]
async fn a_password_is_never_part_of_a_message() {
    let directory = Directory::start(&world::directory(&[], PASSWORD), PASSWORD)
        .await
        .expect("starts");
    let connector = connector(settings(&directory.url), "canary-wrong-password");
    let report = connector.run_check().await;
    assert!(!format!("{report:?}").contains("canary"));
    let none = LdapConnector::new(settings(&directory.url), None, Arc::default())
        .expect("sound")
        .run_check()
        .await;
    assert_eq!(
        failed(&none).1,
        "no_password",
        "a name without a password would be let in as nobody"
    );
    let weight = self::connector(settings("ldap://127.0.0.1:1"), PASSWORD)
        .describe()
        .await
        .expect_err("unreachable")
        .class;
    assert_eq!(weight, FailureClass::SystemDown);
}

#[tokio::test]
async fn a_backup_host_is_used_and_left_again() {
    let entries = world::directory(&world::people(world::SEED, 20), PASSWORD);
    let mut first = Slapd::start(&entries).expect("slapd starts");
    let second = Slapd::start(&entries).expect("slapd starts");
    let dead = "ldap://127.0.0.1:1".to_owned();
    let several = LdapSettings {
        backups: vec![dead.clone(), second.url.clone()],
        return_after_seconds: 1,
        ..settings(&first.url)
    };
    let access = Arc::new(ConnectionState::new(&[ObjectType::Person]));
    let dial = || {
        Arc::new(
            LdapConnector::new(several.clone(), Some(Secret::new(PASSWORD)), access.clone())
                .expect("sound"),
        )
    };

    let report = dial().run_check().await;
    assert!(
        report.is_healthy(),
        "a backup that does not answer is a warning: {report:#?}"
    );
    let backups: Vec<_> = report
        .steps
        .iter()
        .filter(|s| s.name == "Backup host")
        .map(|s| s.state)
        .collect();
    assert_eq!(backups, [StepState::Warned, StepState::Passed]);
    assert_eq!(access.host_in_use().as_deref(), Some(first.url.as_str()));

    first.stop();
    let (seen, end) = drain(dial().read_all(ObjectType::Person)).await;
    assert_eq!(
        (end, access.host_in_use().as_deref()),
        (Ok(seen.len()), Some(second.url.as_str()))
    );

    first.restart().expect("it comes back");
    tokio::time::sleep(Duration::from_millis(1100)).await;
    let (_, end) = drain(dial().read_all(ObjectType::Person)).await;
    assert!(end.is_ok());
    assert_eq!(
        access.host_in_use().as_deref(),
        Some(first.url.as_str()),
        "the first host is used again"
    );

    // A refused password is told at once: another host would count it too.
    let wrong = Arc::new(
        LdapConnector::new(several.clone(), Some(Secret::new("wrong")), Arc::default())
            .expect("sound"),
    );
    assert_eq!(
        wrong.describe().await.expect_err("refused").code,
        "bind_refused"
    );
}

#[tokio::test]
async fn a_large_group_is_read_in_ranges_and_a_broken_range_is_no_small_group() {
    let people = world::people(world::SEED, 300);
    let directory = Directory::start(&world::directory(&people, PASSWORD), PASSWORD)
        .await
        .expect("starts");
    directory.temper(Temper {
        range: Some(7),
        ..Temper::default()
    });
    let (seen, end) =
        drain(connector(settings(&directory.url), PASSWORD).read_all(ObjectType::Group)).await;
    assert_eq!(end, Ok(2));
    let members = people.iter().filter(|p| p.department == "10").count();
    assert!(members > 20);
    let watch = seen
        .iter()
        .find(|group| group.name.starts_with("cn=deck-watch,"))
        .expect("there");
    assert_eq!(watch.attributes.get("member").len(), members);
    assert!(
        !watch
            .attributes
            .iter()
            .any(|(name, _)| name.contains("range")),
        "{:?}",
        watch.attributes
    );
}

#[tokio::test]
async fn referrals_are_followed_only_to_hosts_that_were_named() {
    let people = world::people(world::SEED, 30);
    let here = Directory::start(&world::directory(&people[..10], PASSWORD), PASSWORD)
        .await
        .expect("starts");
    let there = Directory::start(&world::directory(&people, PASSWORD), PASSWORD)
        .await
        .expect("starts");
    let url = format!("{}/ou=people,{}??sub", there.url, BASE.replace(',', "%2C"));
    here.temper(Temper {
        referral: Some(url),
        ..Temper::default()
    });

    let (seen, end) =
        drain(connector(settings(&here.url), PASSWORD).read_all(ObjectType::Person)).await;
    assert_eq!(
        (seen.len(), end),
        (16, Ok(16)),
        "by default none is followed"
    );
    let host = there.url.trim_start_matches("ldap://").to_owned();
    let asked = LdapSettings {
        referral_hosts: vec![host],
        ..settings(&here.url)
    };
    let (seen, end) = drain(connector(asked, PASSWORD).read_all(ObjectType::Person)).await;
    // Each stand-in gives its entries ids of its own, so the ten are there twice.
    assert_eq!((seen.len(), end), (16 + 34, Ok(50)));
    let elsewhere = LdapSettings {
        referral_hosts: vec!["other.skerry.example".into()],
        ..settings(&here.url)
    };
    let (seen, end) = drain(connector(elsewhere, PASSWORD).read_all(ObjectType::Person)).await;
    assert_eq!(
        (seen.len(), end),
        (16, Ok(16)),
        "the secret goes to no host that was not named, and what is read here is complete"
    );
}

#[tokio::test]
async fn the_tree_is_walked_level_by_level_with_counts() {
    let people = world::people(world::SEED, 60);
    let slapd = Slapd::start(&world::directory(&people, PASSWORD)).expect("slapd starts");
    let reader = connector(settings(&slapd.url), PASSWORD);
    let top = reader.browse(None).await.expect("the top");
    assert_eq!(
        (top.len(), top[0].dn.as_str(), top[0].people),
        (1, BASE, Some(66))
    );
    let below = reader.browse(Some(BASE)).await.expect("below");
    let names: Vec<&str> = below.iter().map(|b| b.dn.as_str()).collect();
    assert_eq!(
        names,
        ["former", "groups", "people", "services"].map(|n| format!("ou={n},{BASE}"))
    );
    assert_eq!(below[0].people, Some(2));
    let departments = reader
        .browse(Some(&format!("ou=people,{BASE}")))
        .await
        .expect("departments");
    assert_eq!(
        departments.iter().filter_map(|b| b.people).sum::<usize>(),
        64
    );
    assert_eq!(
        reader
            .browse(Some("dc=elsewhere"))
            .await
            .expect_err("refused")
            .code,
        "outside"
    );
}

#[tokio::test]
async fn what_the_overlays_of_a_real_server_keep_is_read() {
    let people = world::people(world::SEED, 80);
    let slapd = Slapd::start(&world::directory(&people, PASSWORD)).expect("slapd starts");
    let (connection, mut ldap) = ldap3::LdapConnAsync::new(&slapd.url)
        .await
        .expect("connects");
    tokio::spawn(async move { connection.drive().await });
    ldap.simple_bind(&slapd.admin_dn, &slapd.admin_password)
        .await
        .expect("binds")
        .success()
        .expect("accepted");
    let group = format!("cn=night-watch,ou=groups,{BASE}");
    let set = |text: &str| std::collections::HashSet::from([text.to_owned()]);
    let entry = vec![
        ("objectClass".to_owned(), set("groupOfNames")),
        ("cn".to_owned(), set("night-watch")),
        ("member".to_owned(), set(&people[3].dn())),
    ];
    ldap.add(&group, entry)
        .await
        .expect("sent")
        .success()
        .expect("added");

    let reader = connector(settings(&slapd.url), PASSWORD);
    let (seen, end) = drain(reader.clone().read_all(ObjectType::Person)).await;
    assert!(end.is_ok());
    let of = |uid: &str| {
        seen.iter()
            .find(|o| o.attributes.get("uid") == [Value::text(uid)])
            .expect("there")
    };
    // memberOf: derived by the server, read as a reference, never compared.
    let member_of = of(&people[3].uid).attributes.get("memberOf");
    assert_eq!(member_of, [Value::Reference(group)]);
    let schema = &reader.describe().await.expect("described").schema[&ObjectType::Person];
    assert!(
        schema
            .get("memberOf")
            .is_some_and(|def| def.derived && def.multi_valued)
    );
    // The password policy's lock is the account's state.
    let locked = people
        .iter()
        .find(|p| p.locked)
        .expect("somebody is locked");
    assert_eq!(
        of(&locked.uid).attributes.get("enabled"),
        [Value::Bool(false)]
    );
    assert_eq!(
        of(&people[3].uid).attributes.get("enabled"),
        [Value::Bool(!people[3].locked)]
    );
    assert!(!seen.iter().any(|o| {
        o.attributes
            .iter()
            .any(|(name, _)| name.eq_ignore_ascii_case("userPassword"))
    }));
}
