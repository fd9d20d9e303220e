//! A real directory as the target of a running service: references as its names, values that others
//! write too, first passwords that a call-out takes, and what the rules make of deletions and of
//! values that do not fit.
#![allow(clippy::disallowed_methods, reason = "tests run in real time")]
#![allow(clippy::unwrap_used)]

mod common;

use axum::http::HeaderMap;
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use common::{Service, client, connect, holds, said, text};
use hmac::{Hmac, KeyInit, Mac};
use ldap3::{Ldap, LdapConnAsync, Mod, Scope, SearchEntry};
use serde_json::Value;
use sha2::{Digest, Sha256};
use std::collections::HashSet;
use std::sync::{Arc, Mutex};
use std::time::Duration;
use tide_ldap::ldif::LdifEntry;
use tide_standins::directory::Directory;
use tide_standins::eventually;
use tide_standins::scim_service::ScimService;
use tide_standins::slapd::Slapd;
use tide_standins::world::{self, BASE, Crew};

/// How long something in the background may take.
const PATIENCE: Duration = Duration::from_secs(60);

const SECRET: &str = "a secret that both sides know";

const CREWHALL: &str = r#"
system = "crewhall"

[person]
on_deleted = "ignore"

[person.password]
attribute = "userPassword"
length = 16
deliver_to = "welcome-desk"

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
mail           = 'identity.mail'
employeeNumber = 'identity.employeeNumber'
manager        = 'identity.manager'
secretary      = 'identity.mentor'
businessCategory = { value = 'identity.port', list_mode = "merge" }

[[group.match]]
name = "name"
account = 'account.cn'
identity = 'identity.name'

[group.outbound]
dn          = '"cn=" + identity.name + ",ou=groups,dc=skerry,dc=example"'
objectClass = { value = '["groupOfNames"]', apply = "on_create" }
cn          = 'identity.name'
member      = 'identity.members'
"#;

/// Takes calls like the service behind a front desk, and looks whether we signed them.
async fn desk() -> (String, Arc<Mutex<Vec<Value>>>) {
    let taken: Arc<Mutex<Vec<Value>>> = Arc::default();
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let url = format!("http://{}/first-passwords", listener.local_addr().unwrap());
    let (kept, target) = (taken.clone(), url.clone());
    let take = move |headers: HeaderMap, body: String| async move {
        let header = |name: &str| headers[name].to_str().unwrap().to_owned();
        let digest = format!(
            "sha-256=:{}:",
            STANDARD.encode(Sha256::digest(body.as_bytes()))
        );
        assert_eq!(header("content-digest"), digest);
        let input = header("signature-input")
            .strip_prefix("tide=")
            .unwrap()
            .to_owned();
        let base = format!(
            "\"@method\": POST\n\"@target-uri\": {target}\n\"content-digest\": {digest}\n\"@signature-params\": {input}"
        );
        let mut mac = Hmac::<Sha256>::new_from_slice(SECRET.as_bytes()).unwrap();
        mac.update(base.as_bytes());
        if header("signature") != format!("tide=:{}:", STANDARD.encode(mac.finalize().into_bytes()))
        {
            return (axum::http::StatusCode::UNAUTHORIZED, String::new());
        }
        let call: Value = serde_json::from_str(&body).unwrap();
        // What it makes for somebody who is new.
        let answer = match call["event"] == "joined_group" {
            true => format!(
                "{{\"folder\": \"/lookouts/{}\"}}",
                call["label"].as_str().unwrap_or_default()
            ),
            false => String::new(),
        };
        kept.lock().unwrap().push(call);
        (axum::http::StatusCode::OK, answer)
    };
    let app = axum::Router::new().route("/first-passwords", axum::routing::post(take));
    tokio::spawn(async move { axum::serve(listener, app).await });
    (url, taken)
}

struct Hall {
    folder: tempfile::TempDir,
    people: Vec<Crew>,
    harbour: Directory,
    _berthing: ScimService,
    hall: Slapd,
    service: Service,
    calls: Arc<Mutex<Vec<Value>>>,
}

impl Hall {
    async fn start() -> Hall {
        let folder = tempfile::tempdir().unwrap();
        let people = world::people(world::SEED, 30);
        let harbour = Directory::start(
            &world::directory(&people, "harbour-secret"),
            "harbour-secret",
        )
        .await
        .unwrap();
        let berthing = ScimService::start(world::berthing(&people), "berth-token")
            .await
            .unwrap();
        let mut entries = world::directory(&[], "hall-secret");
        // Groups of the source have their own place; one member whom we know nothing of keeps the
        // hall's own group alive.
        entries.push(
            LdifEntry::new(format!("uid=older,ou=Deck,ou=people,{BASE}"))
                .with("objectClass", &["inetOrgPerson"])
                .with("uid", &["older"])
                .with("cn", &["Older Spelling"])
                .with("sn", &["Older"])
                .with("businessCategory", &["choir"])
                .with("employeeNumber", &[&people[5].number]),
        );
        let hall = tokio::task::spawn_blocking(move || Slapd::start(&entries))
            .await
            .unwrap()
            .unwrap();
        let service = Service::start(&folder.path().join("data"));
        connect(&service, &harbour, &berthing, folder.path());
        let (url, calls) = desk().await;
        let add = [
            "systems",
            "add",
            "crewhall",
            "--kind",
            "ldap",
            "--address",
            &hall.url,
            "--bind-dn",
            &hall.admin_dn,
            "--base-dn",
            BASE,
        ];
        let added = client(&service.url, &service.token, &add, &hall.admin_password);
        assert!(added.status.success(), "{}", text(&added));
        let rules = folder.path().join("rules");
        for (name, text) in world::rules() {
            let text = match name {
                "identities.toml" => text
                    .replace("manager        =", "mentor         = { reference = \"person\", by = \"employeeNumber\" }\nmanager        ="),
                "harbour.toml" => {
                    text.replace("manager        =", &format!("mentor         = '\"{}\"'\nmanager        =", people[9].number))
                }
                _ => text.to_owned(),
            };
            std::fs::write(rules.join(name), text).unwrap();
        }
        std::fs::write(rules.join("crewhall.toml"), CREWHALL).unwrap();
        std::fs::write(
            rules.join("webhooks.toml"),
            format!("[welcome-desk]\nurl = \"{url}\"\n"),
        )
        .unwrap();
        said(&service, &["rules", "publish", rules.to_str().unwrap()], 0);
        said(
            &service,
            &["systems", "set", "crewhall", "--writable", "person,group"],
            0,
        );
        said(&service, &["systems", "arm", "crewhall"], 0);
        Hall {
            folder,
            people,
            harbour,
            _berthing: berthing,
            hall,
            service,
            calls,
        }
    }

    async fn bound(&self, dn: &str, password: &str) -> Result<Ldap, ldap3::LdapError> {
        let (connection, mut ldap) = LdapConnAsync::new(&self.hall.url).await?;
        ldap3::drive!(connection);
        ldap.simple_bind(dn, password).await?.success()?;
        Ok(ldap)
    }

    async fn entry(&self, filter: &str) -> Option<SearchEntry> {
        let mut ldap = self
            .bound(&self.hall.admin_dn, &self.hall.admin_password)
            .await
            .unwrap();
        let (found, _) = ldap
            .search(BASE, Scope::Subtree, filter, vec!["*"])
            .await
            .unwrap()
            .success()
            .unwrap();
        found.into_iter().next().map(SearchEntry::construct)
    }

    async fn of(&self, person: &Crew) -> SearchEntry {
        self.entry(&format!("(employeeNumber={})", person.number))
            .await
            .expect("there")
    }

    /// Runs until nothing is sent.
    fn rest(&self) {
        for _ in 0..4 {
            let before = self.service.json(&["run"]);
            let done = before["states"]
                .as_array()
                .unwrap()
                .iter()
                .any(|one| one["state"] == "done");
            if !done {
                return;
            }
        }
        panic!(
            "it does not come to rest: {}",
            said(&self.service, &["changes", "list"], 0)
        );
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_directory_gets_names_for_references_and_passwords_go_to_the_desk() {
    let hall = Hall::start().await;
    hall.rest();
    // Managers and members are written as the names of the entries there, also of those who were
    // made in the same run.
    let whole =
        |person: &&Crew| !person.given.is_empty() && !person.mail.is_empty() && !person.locked;
    let office = hall
        .people
        .iter()
        .filter(whole)
        .find(|p| p.department == "60")
        .unwrap();
    let entry = hall.of(office).await;
    let boss = entry.attrs["manager"][0].clone();
    assert!(
        boss.ends_with(&format!(",ou=people,{BASE}"))
            && hall
                .bound(&hall.hall.admin_dn, &hall.hall.admin_password)
                .await
                .is_ok()
    );
    assert_eq!(
        entry.attrs["secretary"][0],
        hall.of(&hall.people[9]).await.dn,
        "found by a number, written as a name"
    );
    let watch = hall.entry("(cn=deck-watch)").await.expect("the group");
    assert!(
        watch.attrs["member"].len() > 3
            && watch.attrs["member"].iter().all(|dn| dn.ends_with(BASE)),
        "{watch:?}"
    );
    let plan = hall
        .entry("(cn=sailing-plan)")
        .await
        .expect("the group of groups");
    assert!(plan.attrs["member"].contains(&watch.dn), "{plan:?}");

    // What somebody else wrote beside ours stays, and ours goes when it changes.
    let older = &hall.people[5];
    let values = |entry: &SearchEntry| {
        entry.attrs["businessCategory"]
            .iter()
            .cloned()
            .collect::<HashSet<String>>()
    };
    assert_eq!(
        values(&hall.of(older).await),
        HashSet::from(["choir".to_owned(), older.port.to_string()])
    );
    let (connection, mut source) = LdapConnAsync::new(&hall.harbour.url).await.unwrap();
    ldap3::drive!(connection);
    source
        .simple_bind(&hall.harbour.admin_dn, "harbour-secret")
        .await
        .unwrap()
        .success()
        .unwrap();
    let moved = vec![Mod::Replace(
        "l".to_owned(),
        HashSet::from(["Lantern Quay".to_owned()]),
    )];
    source
        .modify(&older.dn(), moved)
        .await
        .unwrap()
        .success()
        .unwrap();
    hall.rest();
    assert_eq!(
        values(&hall.of(older).await),
        HashSet::from(["choir".to_owned(), "Lantern Quay".to_owned()])
    );

    // Without a secret to sign with nothing is handed over, and it is said why.
    holds(
        &said(&hall.service, &["webhooks", "list"], 0),
        &["welcome-desk", "missing"],
    );
    holds(
        &said(&hall.service, &["webhooks", "test", "welcome-desk"], 1),
        &["no secret to sign requests to welcome-desk"],
    );
    let id = hall.service.json(&["passwords", "list"])[0]["id"].to_string();
    holds(
        &said(&hall.service, &["passwords", "show", &id], 1),
        &["deliver first passwords to welcome-desk; they are not shown"],
    );
    let set = |secret: &str| {
        client(
            &hall.service.url,
            &hall.service.token,
            &["webhooks", "secret", "welcome-desk"],
            secret,
        )
    };
    assert!(text(&set("short")).contains("16 characters"));
    assert!(set("another secret than theirs").status.success());
    holds(
        &said(&hall.service, &["webhooks", "test", "welcome-desk"], 1),
        &[
            "127.0.0.1 rejects the request",
            "eager-tide webhooks secret welcome-desk",
        ],
    );
    assert!(set(SECRET).status.success());
    holds(
        &said(&hall.service, &["webhooks", "test", "welcome-desk"], 0),
        &["accepted the request"],
    );
    let handed = || {
        hall.calls
            .lock()
            .unwrap()
            .iter()
            .filter(|call| call["kind"] == "first_password")
            .count()
    };
    eventually(PATIENCE, async || {
        (hall.service.json(&["webhooks", "list"])[0]["waiting"] == 0).then_some(())
    })
    .await
    .expect("every delivery is made");
    assert!(
        handed() > 15,
        "{}",
        said(&hall.service, &["passwords", "list"], 0)
    );
    let call = hall
        .calls
        .lock()
        .unwrap()
        .iter()
        .find(|call| {
            call["label"]
                .as_str()
                .is_some_and(|l| l.contains(&office.family))
        })
        .cloned();
    let call = call.expect("theirs was handed over");
    let password = call["password"].as_str().unwrap();
    assert!(
        hall.bound(&entry.dn, password).await.is_ok(),
        "it is the one that was set"
    );
    assert!(hall.bound(&entry.dn, "Another-One-77").await.is_err());
    holds(
        &said(&hall.service, &["passwords", "list"], 0),
        &["webhook welcome-desk"],
    );
    for file in std::fs::read_dir(hall.folder.path().join("data"))
        .unwrap()
        .flatten()
        .filter(|file| file.path().is_file())
    {
        let bytes = std::fs::read(file.path()).unwrap();
        assert!(
            !bytes
                .windows(password.len())
                .any(|part| part == password.as_bytes()),
            "{}",
            file.path().display()
        );
    }
    assert!(
        !hall
            .service
            .running
            .lines
            .lock()
            .unwrap()
            .join("\n")
            .contains(password)
    );

    // Deleted there, and left so.
    let mut admin = hall
        .bound(&hall.hall.admin_dn, &hall.hall.admin_password)
        .await
        .unwrap();
    admin.delete(&entry.dn).await.unwrap().success().unwrap();
    hall.rest();
    assert!(
        hall.entry(&format!("(employeeNumber={})", office.number))
            .await
            .is_none()
    );
    holds(
        &said(&hall.service, &["why", &office.number], 0),
        &["was deleted in crewhall by others, and stays deleted"],
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn moved_entries_and_added_members_are_repaired_or_reported() {
    let hall = Hall::start().await;
    hall.rest();
    let whole = |person: &&Crew| {
        !person.given.is_empty()
            && !person.mail.is_empty()
            && !person.locked
            && person.department != "60"
    };
    let person = hall.people.iter().find(whole).unwrap();
    let (right, watch) = (
        hall.of(person).await.dn,
        hall.entry("(cn=deck-watch)").await.unwrap(),
    );
    let plan = hall.entry("(cn=sailing-plan)").await.unwrap();
    let members = |entry: &SearchEntry| {
        entry.attrs["member"]
            .iter()
            .cloned()
            .collect::<HashSet<String>>()
    };
    let outsider = format!("cn=sailing-plan,ou=groups,{BASE}");
    let rdn = right.split(',').next().unwrap().to_owned();
    let wrong = format!("{rdn},ou=Shore Office,ou=people,{BASE}");
    let tamper = async || {
        let mut admin = hall
            .bound(&hall.hall.admin_dn, &hall.hall.admin_password)
            .await
            .unwrap();
        admin
            .modifydn(
                &right,
                &rdn,
                true,
                Some(&format!("ou=Shore Office,ou=people,{BASE}")),
            )
            .await
            .unwrap()
            .success()
            .unwrap();
        let added = vec![Mod::Add(
            "member".to_owned(),
            HashSet::from([outsider.clone()]),
        )];
        admin
            .modify(&watch.dn, added)
            .await
            .unwrap()
            .success()
            .unwrap();
    };
    // By default it is put right, and nothing else changes.
    tamper().await;
    hall.rest();
    assert_eq!(hall.of(person).await.dn, right);
    assert_eq!(
        members(&hall.entry("(cn=deck-watch)").await.unwrap()),
        members(&watch)
    );

    // Or it is only told, with what was there, until somebody says otherwise.
    let file = hall.folder.path().join("rules").join("crewhall.toml");
    let reporting = CREWHALL
        .replace(
            "on_deleted = \"ignore\"",
            "on_deleted = \"ignore\"\non_drift = \"report\"",
        )
        .replace(
            "[[group.match]]",
            "[group]\non_drift = \"report\"\n\n[[group.match]]",
        );
    std::fs::write(&file, reporting).unwrap();
    said(
        &hall.service,
        &[
            "rules",
            "publish",
            hall.folder.path().join("rules").to_str().unwrap(),
        ],
        0,
    );
    hall.rest();
    tamper().await;
    hall.rest();
    assert_eq!(
        hall.of(person).await.dn,
        wrong,
        "it stays where somebody put it"
    );
    assert!(members(&hall.entry("(cn=deck-watch)").await.unwrap()).contains(&outsider));
    let waiting = hall.service.json(&["decisions", "list"]);
    let drift: Vec<&Value> = waiting
        .as_array()
        .unwrap()
        .iter()
        .filter(|one| one["kind"] == "drift")
        .collect();
    let told = |word: &str| {
        drift
            .iter()
            .find(|one| {
                one["message"]
                    .as_str()
                    .is_some_and(|said| said.contains(word))
            })
            .copied()
    };
    let (container, group) = (
        told("dn is ").expect("the container"),
        told("member").expect("the group"),
    );
    assert!(
        container["message"]
            .as_str()
            .unwrap()
            .contains("Shore Office"),
        "{container}"
    );
    for one in [container, group] {
        said(
            &hall.service,
            &["decisions", "repair", one["id"].as_str().unwrap()],
            0,
        );
    }
    hall.rest();
    assert_eq!(hall.of(person).await.dn, right);
    assert_eq!(
        members(&hall.entry("(cn=deck-watch)").await.unwrap()),
        members(&watch)
    );
    assert_eq!(
        members(&hall.entry("(cn=sailing-plan)").await.unwrap()),
        members(&plan),
        "nobody else was touched"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn leavers_lose_all_access_in_order_and_get_it_back() {
    const STEPS: &str = r#"
[[person.departure]]
step = "disable"
[[person.departure]]
step = "randomize_password"
[[person.departure]]
step = "set"
attribute = "description"
value = '"left us"'
[[person.departure]]
step = "revoke"
attributes = ["businessCategory"]
[[person.departure]]
step = "move"
to = '"uid=" + identity.userName + ",ou=former,dc=skerry,dc=example"'
"#;
    let hall = Hall::start().await;
    let rules = hall.folder.path().join("rules");
    std::fs::write(
        rules.join("crewhall.toml"),
        CREWHALL.replacen("[[group.match]]", &format!("{STEPS}\n[[group.match]]"), 1),
    )
    .unwrap();
    let berthing = std::fs::read_to_string(rules.join("berthing.toml")).unwrap();
    std::fs::write(
        rules.join("berthing.toml"),
        format!("{berthing}\n[[person.departure]]\nstep = \"delete\"\n"),
    )
    .unwrap();
    std::fs::write(
        rules.join("lifecycle.toml"),
        "[person]\nzone = \"Atlantic/Faroe\"\nnotice_days = 5\n",
    )
    .unwrap();
    said(
        &hall.service,
        &["rules", "publish", rules.to_str().unwrap()],
        0,
    );
    let mut admin = hall
        .bound(&hall.hall.admin_dn, &hall.hall.admin_password)
        .await
        .unwrap();
    said(
        &hall.service,
        &["systems", "set", "berthing", "--writable", "person"],
        0,
    );
    said(&hall.service, &["systems", "arm", "berthing"], 0);
    hall.rest();
    let whole =
        |person: &&Crew| !person.given.is_empty() && !person.mail.is_empty() && !person.locked;
    let watch = hall.entry("(cn=deck-watch)").await.unwrap().attrs["member"].clone();
    let mut person = None;
    for one in hall.people.iter().filter(whole) {
        if watch.contains(&hall.of(one).await.dn)
            && hall._berthing.user(&one.mail.to_lowercase()).is_some()
        {
            person = Some(one);
            break;
        }
    }
    let person = person.expect("somebody of the watch");
    let there = hall.of(person).await;
    let secret = vec![Mod::Replace(
        "userPassword".to_owned(),
        HashSet::from(["Known-Secret-1".to_owned()]),
    )];
    admin
        .modify(&there.dn, secret)
        .await
        .unwrap()
        .success()
        .unwrap();
    assert!(hall.bound(&there.dn, "Known-Secret-1").await.is_ok());
    let found = hall.service.json(&[
        "identities",
        "list",
        "--search",
        &person.mail.to_lowercase(),
    ]);
    let id = found[0]["id"].as_str().expect("an identity").to_owned();
    for system in ["crewhall", "berthing"] {
        said(
            &hall.service,
            &["systems", "schedule", system, "--watch"],
            0,
        );
    }

    // First it is only shown, and nothing happens.
    let shown = said(
        &hall.service,
        &["identities", "depart", &id, "--dry-run"],
        0,
    );
    holds(
        &shown,
        &[
            "would leave",
            "disable",
            "password",
            "description",
            "revoke",
            "move",
            "delete",
            "Nothing was changed",
        ],
    );
    assert_eq!(hall.of(person).await.dn, there.dn);
    holds(
        &said(
            &hall.service,
            &["identities", "depart", &id, "--last-day", "someday"],
            1,
        ),
        &["`someday` is not a date", "2026-12-31"],
    );
    holds(
        &said(
            &hall.service,
            &["identities", "depart", "nobody", "--dry-run"],
            1,
        ),
        &["nobody"],
    );

    // Now: every way in is closed, in the order of the rules.
    said(
        &hall.service,
        &["identities", "depart", &id, "--comment", "walked off"],
        0,
    );
    // Access is closed before the last step is done: what has no way in any more may yet be moved.
    let closed = async |id: &str, steps: i64| {
        let one = eventually(PATIENCE, async || {
            let all = hall.service.json(&["identities", "leavers"]);
            let leavers = all["leavers"].as_array().unwrap();
            let one = leavers
                .iter()
                .find(|one| one["identity"] == id && one["returned_at"].is_null());
            one.filter(|one| one["seconds"].is_number() && one["done"].as_i64() >= Some(steps))
                .cloned()
        })
        .await;
        one.unwrap_or_else(|| {
            panic!(
                "not closed: {}\n{}",
                hall.service.json(&["identities", "leavers"]),
                said(&hall.service, &["why", id], 0)
            )
        })
    };
    let leaver = closed(&id, 6).await;
    assert!(leaver["seconds"].as_f64().unwrap() < 60.0, "{leaver}");
    let gone = hall.of(person).await;
    assert_eq!(gone.dn, format!("uid={},ou=former,{BASE}", person.uid));
    assert_eq!(gone.attrs["description"], ["left us"]);
    assert!(!gone.attrs.contains_key("businessCategory"));
    let locked = hall
        .entry(&format!(
            "(&(employeeNumber={})(pwdAccountLockedTime=*))",
            person.number
        ))
        .await;
    assert!(locked.is_some(), "it is locked");
    let unlock = vec![Mod::Replace(
        "pwdAccountLockedTime".to_owned(),
        HashSet::<String>::new(),
    )];
    admin
        .modify(&gone.dn, unlock)
        .await
        .unwrap()
        .success()
        .unwrap();
    assert!(
        hall.bound(&gone.dn, "Known-Secret-1").await.is_err(),
        "nobody knows its password"
    );
    assert!(
        hall._berthing.user(&person.mail.to_lowercase()).is_none(),
        "removed, as the rules of that system say"
    );
    let watch = hall.entry("(cn=deck-watch)").await.unwrap().attrs["member"].clone();
    assert!(
        !watch.iter().any(|member| member
            .to_lowercase()
            .starts_with(&format!("uid={},", person.uid))),
        "out of the group: {watch:?}"
    );
    holds(
        &said(&hall.service, &["identities", "lifecycle", &id], 0),
        &["left", "walked off", "leaves"],
    );
    let journal = said(&hall.service, &["journal", "list"], 0);
    holds(&journal, &["departure.set", "walked off"]);

    // Taken back: the same entry at its old place, and an account made anew.
    said(&hall.service, &["identities", "reinstate", &id], 0);
    let key = |entry: &SearchEntry| entry.attrs["uid"].clone();
    let back = eventually(PATIENCE, async || {
        let now = hall.of(person).await;
        let is_back = now.dn == there.dn
            && !now.attrs.contains_key("description")
            && hall._berthing.user(&person.mail.to_lowercase()).is_some();
        is_back.then_some(now)
    })
    .await;
    let Some(back) = back else {
        let now = hall.of(person).await;
        panic!("{now:?}\n{}", said(&hall.service, &["why", &id], 0));
    };
    assert_eq!(key(&back), key(&there));
    // At a moment: not before, and by itself when it has come.
    let at = jiff::Timestamp::now() + jiff::SignedDuration::from_secs(4);
    said(
        &hall.service,
        &["identities", "depart", &id, "--at", &at.to_string()],
        0,
    );
    holds(
        &said(&hall.service, &["identities", "lifecycle", &id], 0),
        &["leaving", "planned"],
    );
    holds(
        &said(&hall.service, &["identities", "leavers"], 0),
        &["scheduled"],
    );
    assert!(hall._berthing.user(&person.mail.to_lowercase()).is_some());
    let leaver = closed(&id, 6).await;
    assert!(
        jiff::Timestamp::now() >= at && leaver["seconds"].as_f64().unwrap() < 30.0,
        "{leaver}"
    );
    assert!(hall._berthing.user(&person.mail.to_lowercase()).is_none());
    // Runs, leavers that overtake them and what the directory tells meanwhile do not get in each
    // other's way.
    let sets = hall.service.json(&["changes", "list"]);
    let by_itself: Vec<&Value> = sets
        .as_array()
        .unwrap()
        .iter()
        .filter(|set| set["principal"] == "the service")
        .collect();
    assert!(by_itself.len() > 2, "{sets}");
    for set in by_itself {
        let states: Vec<&str> = set["states"]
            .as_array()
            .unwrap()
            .iter()
            .filter_map(|state| state["state"].as_str())
            .collect();
        let id = set["id"].to_string();
        assert!(
            !states.contains(&"failed"),
            "{}",
            said(&hall.service, &["changes", "export", &id], 0)
        );
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn values_that_the_schema_refuses_are_held_before_they_are_sent() {
    let hall = Hall::start().await;
    let rules = hall.folder.path().join("rules");
    let edit = |from: &str, to: &str| {
        let path = rules.join("crewhall.toml");
        let text = std::fs::read_to_string(&path).unwrap();
        assert!(text.contains(from));
        std::fs::write(path, text.replacen(from, to, 1)).unwrap();
    };
    // What can never fit is refused when it is written.
    edit(
        "mail           = 'identity.mail'",
        "mail           = 'identity.mail'\nroomNumber = '\"x\"'\nseeAlso = 'identity.active == true'",
    );
    let publish = ["rules", "publish", rules.to_str().unwrap()];
    let refused = said(&hall.service, &publish, 1);
    holds(
        &refused,
        &["crewhall.toml:", "`seeAlso` holds", "true or false"],
    );
    // What does not fit for somebody is held for them, and goes by itself once it fits.
    edit(
        "roomNumber = '\"x\"'\nseeAlso = 'identity.active == true'",
        "postalCode = 'joinWords(identity.mail, identity.displayName)'",
    );
    said(&hall.service, &publish, 0);
    let shown = said(&hall.service, &["preview"], 0);
    holds(&shown, &["on hold"]);
    let long = |person: &&Crew| {
        person.mail.trim().len() + person.family.len() + person.given.len() > 50
            && person.mail.contains("@skerry.example")
    };
    let long = hall
        .people
        .iter()
        .find(long)
        .expect("somebody has a long name");
    holds(
        &said(&hall.service, &["why", &long.number], 0),
        &["characters; `postalCode` allows 40"],
    );
    hall.rest();
    assert!(
        hall.entry(&format!("(employeeNumber={})", long.number))
            .await
            .is_none()
    );
    edit(
        "joinWords(identity.mail, identity.displayName)",
        "substring(joinWords(identity.mail, identity.displayName), 0, 40)",
    );
    said(&hall.service, &publish, 0);
    hall.rest();
    assert_eq!(
        hall.of(long).await.attrs["postalCode"][0].chars().count(),
        40
    );
}

/// Groups by rule, passwords in step, seats and notices, on top of the rules of the hall.
fn giving(hall: &Hall) {
    let rules = hall.folder.path().join("rules");
    let crewhall = CREWHALL
        .replace("length = 16", "length = 16\nsync = true")
        .replace("member      = 'identity.members'", "member      = { value = 'identity.members', list_mode = \"merge\" }")
        .replacen(
            "[[group.match]]",
            "[[person.membership]]\nwhen = 'identity.department == \"Deck\"'\ngroups = '\"lookouts\"'\n\n[[person.departure]]\nstep = \"disable\"\n\n\
             [[person.departure]]\nstep = \"revoke\"\n\n[[group.match]]",
            1,
        );
    std::fs::write(rules.join("crewhall.toml"), crewhall).unwrap();
    let berthing = std::fs::read_to_string(rules.join("berthing.toml")).unwrap();
    let password = "[person.password]\nattribute = \"password\"\nsync = true\ninitial = false\n\n[group.outbound]";
    std::fs::write(
        rules.join("berthing.toml"),
        berthing.replacen("[group.outbound]", password, 1),
    )
    .unwrap();
    let notice = "[[notification]]\nname = \"new lookouts\"\non = \"joined_group\"\nrecipient = \"owner\"\ntext = 'identity.displayName + \" keeps a look-out\"'\nwebhook = \"welcome-desk\"\n\
                  [[notification]]\nname = \"take it away\"\non = \"left\"\ntext = 'identity.displayName + \" left\"'\nwebhook = \"welcome-desk\"\n";
    std::fs::write(rules.join("notifications.toml"), notice).unwrap();
    said(
        &hall.service,
        &["rules", "publish", rules.to_str().unwrap()],
        0,
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn memberships_notifications_and_password_sync_reach_all_linked_systems() {
    let hall = Hall::start().await;
    said(
        &hall.service,
        &["systems", "set", "berthing", "--writable", "person"],
        0,
    );
    said(&hall.service, &["systems", "arm", "berthing"], 0);
    hall.rest();
    let whole =
        |person: &&Crew| !person.given.is_empty() && !person.mail.is_empty() && !person.locked;
    let sailor = hall
        .people
        .iter()
        .filter(whole)
        .find(|p| p.department == "10" && p.mail.ends_with("@skerry.example"))
        .unwrap();
    let office = hall
        .people
        .iter()
        .filter(whole)
        .find(|p| p.department == "60")
        .unwrap();
    let (own, owner) = (hall.of(sailor).await.dn, hall.of(office).await.dn);
    let mut admin = hall
        .bound(&hall.hall.admin_dn, &hall.hall.admin_password)
        .await
        .unwrap();
    let lookouts = format!("cn=lookouts,ou=groups,{BASE}");
    let set = |value: &str| HashSet::from([value.to_owned()]);
    let group = vec![
        ("objectClass".to_owned(), set("groupOfNames")),
        ("cn".to_owned(), set("lookouts")),
        ("member".to_owned(), set(&owner)),
        ("owner".to_owned(), set(&owner)),
    ];
    admin
        .add(&lookouts, group)
        .await
        .unwrap()
        .success()
        .unwrap();
    let secret = client(
        &hall.service.url,
        &hall.service.token,
        &["webhooks", "secret", "welcome-desk"],
        SECRET,
    );
    assert!(secret.status.success());
    giving(&hall);
    hall.rest();
    let members = async || {
        hall.entry("(cn=lookouts)").await.unwrap().attrs["member"]
            .iter()
            .cloned()
            .collect::<HashSet<String>>()
    };
    let joined = members().await;
    assert!(
        joined.contains(&own) && joined.contains(&owner) && joined.len() > 3,
        "who was there by hand stays: {joined:?}"
    );
    holds(
        &said(&hall.service, &["why", &sailor.number], 0),
        &["crewhall"],
    );
    // Many joined in few requests, and each has its own reason.
    let set_id = hall.service.json(&["changes", "list"])[1]["id"].to_string();
    let shown = said(&hall.service, &["changes", "show", &set_id], 0);
    holds(&shown, &["joins lookouts"]);

    // Taken out by hand, they are put back; put in by hand, they stay.
    let other = hall
        .people
        .iter()
        .filter(whole)
        .find(|p| p.department == "50")
        .unwrap();
    let hand = vec![
        Mod::Delete("member".to_owned(), set(&own)),
        Mod::Add("member".to_owned(), set(&hall.of(other).await.dn)),
    ];
    admin
        .modify(&lookouts, hand)
        .await
        .unwrap()
        .success()
        .unwrap();
    hall.rest();
    let now = members().await;
    assert!(
        now.contains(&own) && now.contains(&hall.of(other).await.dn),
        "{now:?}"
    );

    // The owner is told by the one who carries it, once for each. A run looks at what the run
    // before it made.
    hall.rest();
    let told = || {
        hall.calls
            .lock()
            .unwrap()
            .iter()
            .filter(|call| call["kind"] == "notice")
            .cloned()
            .collect::<Vec<Value>>()
    };
    let one = eventually(PATIENCE, async || {
        told().into_iter().find(|one| {
            one["label"]
                .as_str()
                .is_some_and(|label| label.contains(&sailor.family))
        })
    })
    .await;
    let one = one.unwrap_or_else(|| {
        panic!(
            "{:?} {}",
            told(),
            said(&hall.service, &["notifications"], 0)
        )
    });
    assert_eq!(
        (&one["about"], &one["event"]),
        (&Value::from("lookouts"), &Value::from("joined_group"))
    );
    assert_eq!(one["to"][0]["mail"], office.mail.to_lowercase());
    holds(
        &said(&hall.service, &["notifications"], 0),
        &["look-out", "welcome-desk"],
    );

    // A password that is set here reaches the directory, as it keeps passwords, and the service;
    // and is nowhere afterwards.
    let found = hall.service.json(&[
        "identities",
        "list",
        "--search",
        &sailor.mail.to_lowercase(),
    ]);
    let id = found[0]["id"].as_str().unwrap().to_owned();
    let put = |password: &str| {
        client(
            &hall.service.url,
            &hall.service.token,
            &["passwords", "set", &id],
            password,
        )
    };
    assert!(text(&put("short")).contains("8 to 256 characters"));
    assert!(put("Anchor-Buoy-Capstan-4711").status.success());
    holds(
        &said(&hall.service, &["passwords", "status", &id], 0),
        &["pending in", "crewhall", "berthing"],
    );
    hall.rest();
    assert!(hall.bound(&own, "Anchor-Buoy-Capstan-4711").await.is_ok());
    assert!(
        hall._berthing
            .lets_log_in(&sailor.mail.to_lowercase(), "Anchor-Buoy-Capstan-4711")
    );
    let kept = hall
        .entry(&format!("(employeeNumber={})", sailor.number))
        .await
        .unwrap();
    let hashed = kept
        .attrs
        .get("userPassword")
        .map(|values| values[0].clone())
        .or_else(|| {
            kept.bin_attrs
                .get("userPassword")
                .map(|values| String::from_utf8_lossy(&values[0]).into_owned())
        });
    assert!(
        hashed.is_some_and(|hash| hash.starts_with('{')),
        "the directory keeps it as it keeps passwords"
    );
    let status = || said(&hall.service, &["passwords", "status", &id], 0);
    eventually(PATIENCE, async || {
        status().contains("all accounts").then_some(())
    })
    .await
    .unwrap_or_else(|| panic!("{}", status()));
    for file in std::fs::read_dir(hall.folder.path().join("data"))
        .unwrap()
        .flatten()
        .filter(|file| file.path().is_file())
    {
        let bytes = std::fs::read(file.path()).unwrap();
        assert!(
            !bytes
                .windows(24)
                .any(|part| part == b"Anchor-Buoy-Capstan-4711"),
            "{}",
            file.path().display()
        );
    }
    assert!(
        !hall
            .service
            .running
            .lines
            .lock()
            .unwrap()
            .join("\n")
            .contains("Anchor-Buoy")
    );

    // Whoever leaves is out of the groups that no rule keeps too.
    said(&hall.service, &["identities", "depart", &id], 0);
    let is_out = async || (!members().await.contains(&own)).then_some(());
    eventually(PATIENCE, is_out)
        .await
        .unwrap_or_else(|| panic!("{}", said(&hall.service, &["why", &id], 0)));
    assert!(members().await.contains(&owner));
    // Who made something for them is told what it was, to take it away.
    let left = eventually(PATIENCE, async || {
        told().into_iter().find(|one| one["event"] == "left")
    })
    .await
    .unwrap_or_else(|| panic!("{}", said(&hall.service, &["notifications"], 0)));
    let folder = left["made"][0]["folder"].as_str().unwrap_or_default();
    assert!(
        folder.starts_with("/lookouts/") && folder.contains(&sailor.family),
        "{left}"
    );
    // Deleted as the last step, once the rules say so; and made anew with another entry when they
    // are back.
    let rules = hall.folder.path().join("rules");
    let with_delete = std::fs::read_to_string(rules.join("crewhall.toml")).unwrap();
    let with_delete = with_delete.replacen(
        "step = \"revoke\"\n",
        "step = \"revoke\"\n\n[[person.departure]]\nstep = \"delete\"\n",
        1,
    );
    std::fs::write(rules.join("crewhall.toml"), with_delete).unwrap();
    said(
        &hall.service,
        &["rules", "publish", rules.to_str().unwrap()],
        0,
    );
    hall.rest();
    assert!(
        hall.entry(&format!("(employeeNumber={})", sailor.number))
            .await
            .is_none(),
        "its entry is gone"
    );
    said(&hall.service, &["identities", "reinstate", &id], 0);
    hall.rest();
    assert_eq!(hall.of(sailor).await.dn, own);
    assert!(
        members().await.contains(&own),
        "and back in the group of the rule"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_changed_password_hash_is_copied_and_never_shown() {
    let folder = tempfile::tempdir().unwrap();
    let people = world::people(world::SEED, 12);
    let (source, target) = (
        world::directory(&people, "harbour-secret"),
        world::directory(&[], "hall-secret"),
    );
    let (harbour, hall) = tokio::task::spawn_blocking(move || {
        (
            Slapd::start(&source).unwrap(),
            Slapd::start(&target).unwrap(),
        )
    })
    .await
    .unwrap();
    let service = Service::start(&folder.path().join("data"));
    for (name, slapd, more) in [
        ("harbour", &harbour, &["--mark-passwords"][..]),
        ("crewhall", &hall, &[][..]),
    ] {
        let add = [
            "systems",
            "add",
            name,
            "--kind",
            "ldap",
            "--address",
            &slapd.url,
            "--bind-dn",
            &slapd.admin_dn,
            "--base-dn",
            BASE,
        ];
        let added = client(
            &service.url,
            &service.token,
            &[&add[..], more].concat(),
            &slapd.admin_password,
        );
        assert!(added.status.success(), "{}", text(&added));
    }
    let rules = folder.path().join("rules");
    std::fs::create_dir_all(&rules).unwrap();
    for (name, text) in world::rules()
        .into_iter()
        .filter(|(name, _)| !name.starts_with("berthing") && *name != "guards.toml")
    {
        let text = if name == "harbour.toml" {
            text.split("[[person.example]]").next().unwrap()
        } else {
            text
        };
        std::fs::write(rules.join(name), text).unwrap();
    }
    let carrying = CREWHALL.replace(
        "length = 16\ndeliver_to = \"welcome-desk\"",
        "initial = false\ncopy_hash_from = \"harbour\"",
    );
    // People alone: whoever is no member of a group here cannot be made one.
    let carrying = carrying
        .split("[[group.match]]")
        .next()
        .unwrap()
        .replace("secretary      = 'identity.mentor'\n", "");
    std::fs::write(rules.join("crewhall.toml"), &carrying).unwrap();
    said(&service, &["rules", "publish", rules.to_str().unwrap()], 0);
    said(
        &service,
        &["systems", "set", "crewhall", "--writable", "person"],
        0,
    );
    said(&service, &["systems", "arm", "crewhall"], 0);
    let rest = || (0..4).for_each(|_| drop(said(&service, &["run"], 0)));
    rest();
    let person = people
        .iter()
        .find(|p| {
            !p.given.is_empty()
                && !p.mail.is_empty()
                && !p.locked
                && p.mail.ends_with("@skerry.example")
        })
        .unwrap();
    let bound = async |slapd: &Slapd, dn: &str, password: &str| {
        let (connection, mut ldap) = LdapConnAsync::new(&slapd.url).await.unwrap();
        ldap3::drive!(connection);
        ldap.simple_bind(dn, password)
            .await
            .unwrap()
            .success()
            .map(|_| ldap)
    };
    let there = async || {
        let mut admin = bound(&hall, &hall.admin_dn, &hall.admin_password)
            .await
            .unwrap();
        let filter = format!("(employeeNumber={})", person.number);
        let (found, _) = admin
            .search(BASE, Scope::Subtree, &filter, vec!["*"])
            .await
            .unwrap()
            .success()
            .unwrap();
        SearchEntry::construct(found.into_iter().next().expect("there")).dn
    };
    let mut admin = bound(&harbour, &harbour.admin_dn, &harbour.admin_password)
        .await
        .unwrap();
    for password in ["Mooring-Line-31", "Mooring-Line-32"] {
        let set = ldap3::exop::PasswordModify {
            user_id: Some(&person.dn()),
            old_pass: None,
            new_pass: Some(password),
        };
        admin.extended(set).await.unwrap().success().unwrap();
        assert!(bound(&hall, &there().await, password).await.is_err());
        rest();
        assert!(
            bound(&hall, &there().await, password).await.is_ok(),
            "{}",
            said(&service, &["why", &person.number], 0)
        );
    }
    assert!(
        bound(&hall, &there().await, "Mooring-Line-31")
            .await
            .is_err()
    );
    // It is carried once: nothing is to be done while it stays the same.
    holds(&said(&service, &["run"], 0), &["everything is in sync"]);
    let (found, _) = admin
        .search(
            &person.dn(),
            Scope::Base,
            "(objectClass=*)",
            vec!["userPassword"],
        )
        .await
        .unwrap()
        .success()
        .unwrap();
    let entry = SearchEntry::construct(found.into_iter().next().unwrap());
    let hash = entry
        .attrs
        .get("userPassword")
        .map(|values| values[0].clone())
        .unwrap_or_default();
    assert!(hash.starts_with('{'), "{entry:?}");
    for file in std::fs::read_dir(folder.path().join("data"))
        .unwrap()
        .flatten()
        .filter(|file| file.path().is_file())
    {
        let bytes = std::fs::read(file.path()).unwrap();
        let held = |text: &str| {
            bytes
                .windows(text.len())
                .any(|part| part == text.as_bytes())
        };
        assert!(
            !held("Mooring-Line-32") && !held(&hash[6..]),
            "{}",
            file.path().display()
        );
    }
    // A system that is no directory cannot be given a hash.
    std::fs::write(
        rules.join("crewhall.toml"),
        carrying.replace(
            "copy_hash_from = \"harbour\"",
            "copy_hash_from = \"crewhall\"",
        ),
    )
    .unwrap();
    holds(
        &said(&service, &["rules", "check", rules.to_str().unwrap()], 1),
        &["password hashes cannot be copied from crewhall"],
    );
}

/// Two groups are offered to somebody, and whoever is asked chooses one; a third has an owner, who
/// alone says who joins it.
#[tokio::test(flavor = "multi_thread")]
async fn an_approver_chooses_among_groups_and_an_owner_answers_for_their_own() {
    let hall = Hall::start().await;
    let service = &hall.service;
    hall.rest();
    let whole = |person: &&Crew| {
        !person.given.is_empty() && person.mail.ends_with("@skerry.example") && !person.locked
    };
    let mut some = hall.people.iter().filter(whole);
    let (sailor, pilot, owner) = (
        some.next().unwrap(),
        some.next().unwrap(),
        some.next().unwrap(),
    );
    let owner_dn = hall.of(owner).await.dn;
    let mut admin = hall
        .bound(&hall.hall.admin_dn, &hall.hall.admin_password)
        .await
        .unwrap();
    let set = |value: &str| HashSet::from([value.to_owned()]);
    for name in ["lookouts", "choir", "pilots"] {
        let group = vec![
            ("objectClass".to_owned(), set("groupOfNames")),
            ("cn".to_owned(), set(name)),
            ("member".to_owned(), set(&owner_dn)),
            ("owner".to_owned(), set(&owner_dn)),
        ];
        admin
            .add(&format!("cn={name},ou=groups,{BASE}"), group)
            .await
            .unwrap()
            .success()
            .unwrap();
    }
    let rules = hall.folder.path().join("rules");
    let joins = |who: &Crew, groups: &str| {
        format!(
            "[[person.membership]]\nwhen = 'identity.employeeNumber == \"{}\"'\ngroups = '{groups}'\n\n",
            who.number
        )
    };
    let memberships = joins(sailor, "[\"lookouts\", \"choir\"]") + &joins(pilot, "\"pilots\"");
    let crewhall = CREWHALL
        .replace(
            "member      = 'identity.members'",
            "member      = { value = 'identity.members', list_mode = \"merge\" }",
        )
        .replacen(
            "[[group.match]]",
            &format!("{memberships}[[group.match]]"),
            1,
        );
    std::fs::write(rules.join("crewhall.toml"), crewhall).unwrap();
    let asked = format!(
        "[[approval]]\nname = \"one watch\"\nchange = \"grant\"\nwhen = 'identity.employeeNumber == \"{}\"'\nchoose_up_to = 1\n[[approval.level]]\noperators = [\"bo\"]\n\n\
         [[approval]]\nname = \"who joins\"\nchange = \"grant\"\n[[approval.level]]\nof = \"owner\"\n",
        sailor.number
    );
    std::fs::write(rules.join("approvals.toml"), asked).unwrap();
    said(service, &["rules", "publish", rules.to_str().unwrap()], 0);
    let token = |more: &[&str]| {
        service.json(&[&["operators", "add"], more].concat())["token"]
            .as_str()
            .unwrap()
            .to_owned()
    };
    let (bo, own) = (token(&["bo"]), token(&["ow", "--person", &owner.number]));
    service.client(&["run"]);
    let members =
        async |name: &str| hall.entry(&format!("(cn={name})")).await.unwrap().attrs["member"].len();
    assert_eq!(
        (
            members("lookouts").await,
            members("choir").await,
            members("pilots").await
        ),
        (1, 1, 1),
        "all of it waits"
    );

    // The list says what is offered and how it is chosen; nothing is taken that is not offered, nor
    // too much of it.
    let by = |token: &str, arguments: &[&str]| text(&client(&service.url, token, arguments, ""));
    let list = by(&bo, &["decisions", "list"]);
    holds(
        &list,
        &[
            "one watch: level 1 of 1, bo; the approver chooses up to 1",
            "--choose 'join choir in crewhall'",
            "you cannot answer this: this level is for the group's owner",
        ],
    );
    let all: Vec<Value> = serde_json::from_slice(
        &client(&service.url, &bo, &["decisions", "list", "-o", "json"], "").stdout,
    )
    .unwrap();
    let id = |title: &str| {
        all.iter()
            .find(|one| one["message"].as_str().unwrap().starts_with(title))
            .unwrap()["id"]
            .as_str()
            .unwrap()
            .to_owned()
    };
    let (watch, joining) = (id("one watch"), id("who joins"));
    holds(
        &by(&bo, &["decisions", "approve", &watch]),
        &["choose up to 1 of these: join choir in crewhall; join lookouts in crewhall"],
    );
    let both = [
        "decisions",
        "approve",
        &watch,
        "--choose",
        "join choir in crewhall",
        "--choose",
        "join lookouts in crewhall",
    ];
    holds(&by(&bo, &both), &["choose up to 1 of these"]);
    holds(
        &by(
            &bo,
            &[
                "decisions",
                "approve",
                &watch,
                "--choose",
                "join pilots in crewhall",
            ],
        ),
        &["`join pilots in crewhall` is not an offer"],
    );
    holds(
        &by(&own, &["decisions", "approve", &joining, "--choose", "x"]),
        &["who joins has no offers to choose from: approve or reject it"],
    );
    let yes = client(
        &service.url,
        &bo,
        &[
            "decisions",
            "approve",
            &watch,
            "--choose",
            "Join choir in crewhall",
            "--comment",
            "a fine voice",
        ],
        "",
    );
    assert!(yes.status.success(), "{}", text(&yes));
    holds(
        &text(&yes),
        &["approved Join choir in crewhall, rejected the others"],
    );
    let yes = client(&service.url, &own, &["decisions", "approve", &joining], "");
    assert!(yes.status.success(), "{}", text(&yes));
    service.client(&["run"]);
    assert_eq!(
        (
            members("lookouts").await,
            members("choir").await,
            members("pilots").await
        ),
        (1, 2, 2)
    );
    let set_id = service.json(&["changes", "list"])[0]["id"].to_string();
    let held = said(service, &["changes", "export", &set_id], 0);
    holds(
        &held,
        &["rejected by bo (“another offer was chosen: a fine voice”)"],
    );
    let left: Vec<Value> = serde_json::from_slice(
        &client(&service.url, &bo, &["decisions", "list", "-o", "json"], "").stdout,
    )
    .unwrap();
    assert!(left.iter().all(|one| one["kind"] != "approval"), "{left:?}");
}
