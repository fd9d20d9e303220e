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

    fn path(&self, rule_file: &str) -> std::path::PathBuf {
        self.folder.path().join("rules").join(rule_file)
    }

    fn publish(&self) {
        let rules = self.folder.path().join("rules");
        let publish = ["rules", "publish", rules.to_str().unwrap()];
        said(&self.service, &publish, 0);
    }

    fn open(&self, system: &str) {
        let set = ["systems", "set", system, "--writable", "person"];
        said(&self.service, &set, 0);
        said(&self.service, &["systems", "arm", system], 0);
    }

    async fn admin(&self) -> Ldap {
        self.bound(&self.hall.admin_dn, &self.hall.admin_password)
            .await
            .unwrap()
    }

    async fn member_of(&self, group: &str) -> HashSet<String> {
        let entry = self.entry(&format!("(cn={group})")).await.unwrap();
        entry.attrs["member"].iter().cloned().collect()
    }

    /// The first complete and unlocked person of a department.
    fn of_department(&self, department: &str) -> &Crew {
        let mut people = self.people.iter().filter(|person| is_complete(person));
        people
            .find(|person| person.department == department && is_internal(person))
            .unwrap()
    }

    fn set_webhook_secret(&self, secret: &str) -> std::process::Output {
        let set = ["webhooks", "secret", "welcome-desk"];
        client(&self.service.url, &self.service.token, &set, secret)
    }

    /// The calls of a kind that the desk has accepted.
    fn calls_of(&self, kind: &str) -> Vec<Value> {
        let calls = self.calls.lock().unwrap();
        let of_kind = calls.iter().filter(|call| call["kind"] == kind);
        of_kind.cloned().collect()
    }

    /// Asserts that a secret is in no file of the service and in no line of its log.
    fn assert_not_stored(&self, secret: &str) {
        assert_not_stored(&self.folder.path().join("data"), secret);
        let log = self.service.running.lines.lock().unwrap().join("\n");
        assert!(!log.contains(secret));
    }

    fn find_identity(&self, person: &Crew) -> String {
        let mail = person.mail.to_lowercase();
        let found = self
            .service
            .json(&["identities", "list", "--search", &mail]);
        found[0]["id"].as_str().expect("an identity").to_owned()
    }

    fn has_berth(&self, person: &Crew) -> bool {
        self._berthing.user(&person.mail.to_lowercase()).is_some()
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
fn is_complete(person: &Crew) -> bool {
    !person.given.is_empty() && !person.mail.is_empty() && !person.locked
}

fn is_internal(person: &Crew) -> bool {
    person.mail.ends_with("@skerry.example")
}

fn one(value: &str) -> HashSet<String> {
    HashSet::from([value.to_owned()])
}

fn assert_not_stored(data: &std::path::Path, secret: &str) {
    let files = std::fs::read_dir(data).unwrap().flatten();
    for file in files.filter(|file| file.path().is_file()) {
        let bytes = std::fs::read(file.path()).unwrap();
        let mut parts = bytes.windows(secret.len());
        let is_stored = parts.any(|part| part == secret.as_bytes());
        assert!(!is_stored, "{}", file.path().display());
    }
}

/// With a webhook that takes the first passwords.
#[tokio::test(flavor = "multi_thread")]
async fn a_directory_is_provisioned_beside_others() {
    let hall = Hall::start().await;
    hall.rest();
    references_are_written_as_names_of_entries(&hall).await;
    a_merged_list_keeps_the_values_of_others(&hall).await;
    a_webhook_needs_the_secret_of_its_receiver(&hall).await;
    first_passwords_are_delivered_and_stored_nowhere(&hall).await;
    an_entry_deleted_by_others_stays_deleted_when_the_rules_ignore_it(&hall).await;
}

async fn references_are_written_as_names_of_entries(hall: &Hall) {
    // Also of entries that are created in the same run.
    let office = hall.of_department("60");
    let entry = hall.of(office).await;
    let boss = entry.attrs["manager"][0].clone();
    assert!(boss.ends_with(&format!(",ou=people,{BASE}")), "{boss}");
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
}

/// A value that others wrote stays beside ours, and ours goes when it changes.
async fn a_merged_list_keeps_the_values_of_others(hall: &Hall) {
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
    let moved = vec![Mod::Replace("l".to_owned(), one("Lantern Quay"))];
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
}

/// Without a secret to sign with, nothing is delivered, and the reason is shown.
async fn a_webhook_needs_the_secret_of_its_receiver(hall: &Hall) {
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
    assert!(text(&hall.set_webhook_secret("short")).contains("16 characters"));
    let other = hall.set_webhook_secret("another secret than theirs");
    assert!(other.status.success());
    holds(
        &said(&hall.service, &["webhooks", "test", "welcome-desk"], 1),
        &[
            "127.0.0.1 rejects the request",
            "eager-tide webhooks secret welcome-desk",
        ],
    );
    assert!(hall.set_webhook_secret(SECRET).status.success());
    holds(
        &said(&hall.service, &["webhooks", "test", "welcome-desk"], 0),
        &["accepted the request"],
    );
}

async fn first_passwords_are_delivered_and_stored_nowhere(hall: &Hall) {
    let office = hall.of_department("60");
    let entry = hall.of(office).await;
    assert!(hall.set_webhook_secret(SECRET).status.success());
    eventually(PATIENCE, async || {
        (hall.service.json(&["webhooks", "list"])[0]["waiting"] == 0).then_some(())
    })
    .await
    .expect("every delivery is made");
    let calls = hall.calls_of("first_password");
    let list = || said(&hall.service, &["passwords", "list"], 0);
    assert!(calls.len() > 15, "{}", list());
    let is_theirs = |call: &&Value| {
        let label = call["label"].as_str();
        label.is_some_and(|label| label.contains(&office.family) && label.contains(&office.given))
    };
    let call = calls.iter().find(is_theirs).expect("it was delivered");
    let password = call["password"].as_str().unwrap();
    assert!(
        hall.bound(&entry.dn, password).await.is_ok(),
        "it is the one that was set"
    );
    assert!(hall.bound(&entry.dn, "Another-One-77").await.is_err());
    holds(&list(), &["webhook welcome-desk"]);
    hall.assert_not_stored(password);
}

async fn an_entry_deleted_by_others_stays_deleted_when_the_rules_ignore_it(hall: &Hall) {
    let office = hall.of_department("60");
    let entry = hall.of(office).await;
    let mut admin = hall.admin().await;
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

/// A moved entry and a group with an added member, as they were before.
struct Tampered<'a> {
    hall: &'a Hall,
    person: &'a Crew,
    dn: String,
    wrong_dn: String,
    watch: HashSet<String>,
    outsider: String,
}

impl Tampered<'_> {
    async fn prepare(hall: &Hall) -> Tampered<'_> {
        let is_ashore = |person: &Crew| person.department == "60";
        let mut people = hall.people.iter();
        let person = people
            .find(|person| is_complete(person) && !is_ashore(person))
            .unwrap();
        let dn = hall.of(person).await.dn;
        let rdn = dn.split(',').next().unwrap();
        Tampered {
            hall,
            person,
            wrong_dn: format!("{rdn},ou=Shore Office,ou=people,{BASE}"),
            dn,
            watch: hall.member_of("deck-watch").await,
            outsider: format!("cn=sailing-plan,ou=groups,{BASE}"),
        }
    }

    /// Moves the entry and adds the member.
    async fn tamper(&self) {
        let mut admin = self.hall.admin().await;
        let (rdn, parent) = self.wrong_dn.split_once(',').unwrap();
        admin
            .modifydn(&self.dn, rdn, true, Some(parent))
            .await
            .unwrap()
            .success()
            .unwrap();
        let added = vec![Mod::Add("member".to_owned(), one(&self.outsider))];
        let watch = self.hall.entry("(cn=deck-watch)").await.unwrap();
        admin
            .modify(&watch.dn, added)
            .await
            .unwrap()
            .success()
            .unwrap();
    }

    async fn assert_repaired(&self) {
        assert_eq!(self.hall.of(self.person).await.dn, self.dn);
        assert_eq!(self.hall.member_of("deck-watch").await, self.watch);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn drift_in_a_directory_is_repaired_or_reported() {
    let hall = Hall::start().await;
    hall.rest();
    drift_is_repaired_by_default(&hall).await;
    drift_is_reported_with_what_was_there_when_the_rules_say_so(&hall).await;
}

async fn drift_is_repaired_by_default(hall: &Hall) {
    let tampered = Tampered::prepare(hall).await;
    tampered.tamper().await;
    hall.rest();
    tampered.assert_repaired().await;
}

/// Until an operator decides to repair it.
async fn drift_is_reported_with_what_was_there_when_the_rules_say_so(hall: &Hall) {
    let tampered = Tampered::prepare(hall).await;
    let plan = hall.member_of("sailing-plan").await;
    let reporting = CREWHALL
        .replace(
            "on_deleted = \"ignore\"",
            "on_deleted = \"ignore\"\non_drift = \"report\"",
        )
        .replace(
            "[[group.match]]",
            "[group]\non_drift = \"report\"\n\n[[group.match]]",
        );
    std::fs::write(hall.path("crewhall.toml"), reporting).unwrap();
    hall.publish();
    hall.rest();
    tampered.tamper().await;
    hall.rest();
    assert_eq!(hall.of(tampered.person).await.dn, tampered.wrong_dn);
    let members = hall.member_of("deck-watch").await;
    assert!(members.contains(&tampered.outsider));
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
    tampered.assert_repaired().await;
    assert_eq!(
        hall.member_of("sailing-plan").await,
        plan,
        "no other group was changed"
    );
}

const DEPARTURE_STEPS: &str = r#"
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

/// A member of the watch with accounts in both systems, and rules by which leavers lose everything.
struct Leaver<'a> {
    hall: &'a Hall,
    person: &'a Crew,
    id: String,
    entry: SearchEntry,
}

impl Leaver<'_> {
    async fn prepare(hall: &Hall) -> Leaver<'_> {
        let steps = format!("{DEPARTURE_STEPS}\n[[group.match]]");
        let crewhall = CREWHALL.replacen("[[group.match]]", &steps, 1);
        std::fs::write(hall.path("crewhall.toml"), crewhall).unwrap();
        let berthing = std::fs::read_to_string(hall.path("berthing.toml")).unwrap();
        let berthing = format!("{berthing}\n[[person.departure]]\nstep = \"delete\"\n");
        std::fs::write(hall.path("berthing.toml"), berthing).unwrap();
        let life = "[person]\nzone = \"Atlantic/Faroe\"\nnotice_days = 5\n";
        std::fs::write(hall.path("lifecycle.toml"), life).unwrap();
        hall.publish();
        hall.open("berthing");
        hall.rest();
        let watch = hall.member_of("deck-watch").await;
        let mut found = None;
        for person in hall.people.iter().filter(|person| is_complete(person)) {
            let entry = hall.of(person).await;
            if watch.contains(&entry.dn) && hall.has_berth(person) {
                found = Some((person, entry));
                break;
            }
        }
        let (person, entry) = found.expect("one of the watch");
        for system in ["crewhall", "berthing"] {
            let watch = ["systems", "schedule", system, "--watch"];
            said(&hall.service, &watch, 0);
        }
        Leaver {
            hall,
            person,
            id: hall.find_identity(person),
            entry,
        }
    }

    fn depart(&self, more: &[&str]) -> String {
        let depart = ["identities", "depart", &self.id];
        said(&self.hall.service, &[&depart, more].concat(), 0)
    }

    /// Waits until all access is closed and all six steps are done. Access is closed before the last
    /// step: an entry without access may yet be moved.
    async fn closed(&self) -> Value {
        let service = &self.hall.service;
        let closed = eventually(PATIENCE, async || {
            let all = service.json(&["identities", "leavers"]);
            let mut leavers = all["leavers"].as_array().unwrap().iter();
            let one = leavers
                .find(|one| one["identity"] == self.id.as_str() && one["returned_at"].is_null());
            one.filter(|one| one["seconds"].is_number() && one["done"].as_i64() >= Some(6))
                .cloned()
        })
        .await;
        closed.unwrap_or_else(|| {
            panic!(
                "not closed: {}\n{}",
                service.json(&["identities", "leavers"]),
                said(service, &["why", &self.id], 0)
            )
        })
    }

    /// Asserts that no run of the service failed.
    fn assert_no_failures(&self) {
        let service = &self.hall.service;
        let sets = service.json(&["changes", "list"]);
        let all = sets.as_array().unwrap().iter();
        let by_service: Vec<&Value> = all
            .filter(|set| set["principal"] == "the service")
            .collect();
        assert!(!by_service.is_empty(), "{sets}");
        for set in by_service {
            let mut states = set["states"].as_array().unwrap().iter();
            let id = set["id"].to_string();
            assert!(
                states.all(|state| state["state"] != "failed"),
                "{}",
                said(service, &["changes", "export", &id], 0)
            );
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_departure_closes_all_access_and_can_be_canceled() {
    let hall = Hall::start().await;
    let leaver = Leaver::prepare(&hall).await;
    a_departure_is_shown_first_and_changes_nothing(&leaver).await;
    a_leaver_loses_all_access_in_the_order_of_the_rules(&leaver).await;
    a_reinstated_leaver_gets_everything_back(&leaver).await;
    a_scheduled_departure_begins_on_time(&leaver).await;
}

async fn a_departure_is_shown_first_and_changes_nothing(leaver: &Leaver<'_>) {
    let id = &leaver.id;
    let shown = leaver.depart(&["--dry-run"]);
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
    assert_eq!(leaver.hall.of(leaver.person).await.dn, leaver.entry.dn);
    holds(
        &said(
            &leaver.hall.service,
            &["identities", "depart", id, "--last-day", "someday"],
            1,
        ),
        &["`someday` is not a date", "2026-12-31"],
    );
    holds(
        &said(
            &leaver.hall.service,
            &["identities", "depart", "nobody", "--dry-run"],
            1,
        ),
        &["nobody"],
    );
}

async fn a_leaver_loses_all_access_in_the_order_of_the_rules(leaver: &Leaver<'_>) {
    let person = leaver.person;
    let mut admin = leaver.hall.admin().await;
    let secret = vec![Mod::Replace(
        "userPassword".to_owned(),
        one("Known-Secret-1"),
    )];
    admin
        .modify(&leaver.entry.dn, secret)
        .await
        .unwrap()
        .success()
        .unwrap();
    assert!(
        leaver
            .hall
            .bound(&leaver.entry.dn, "Known-Secret-1")
            .await
            .is_ok()
    );
    leaver.depart(&["--comment", "walked off"]);
    let closed = leaver.closed().await;
    assert!(closed["seconds"].as_f64().unwrap() < 60.0, "{closed}");
    let gone = leaver.hall.of(person).await;
    assert_eq!(gone.dn, format!("uid={},ou=former,{BASE}", person.uid));
    assert_eq!(gone.attrs["description"], ["left us"]);
    assert!(!gone.attrs.contains_key("businessCategory"));
    let locked = leaver
        .hall
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
        leaver.hall.bound(&gone.dn, "Known-Secret-1").await.is_err(),
        "nobody knows its password"
    );
    assert!(
        !leaver.hall.has_berth(person),
        "removed, as the rules of that system say"
    );
    let watch = leaver.hall.member_of("deck-watch").await;
    let own = format!("uid={},", person.uid);
    assert!(
        !watch.iter().any(|dn| dn.to_lowercase().starts_with(&own)),
        "out of the group: {watch:?}"
    );
    holds(
        &said(
            &leaver.hall.service,
            &["identities", "lifecycle", &leaver.id],
            0,
        ),
        &["left", "walked off", "leaves"],
    );
    let journal = said(&leaver.hall.service, &["journal", "list"], 0);
    holds(&journal, &["departure.set", "walked off"]);
    leaver.assert_no_failures();
}

/// After the departure: the same entry returns to its old place, and a deleted account is created again.
async fn a_reinstated_leaver_gets_everything_back(leaver: &Leaver<'_>) {
    let (person, there) = (leaver.person, &leaver.entry);
    said(
        &leaver.hall.service,
        &["identities", "reinstate", &leaver.id],
        0,
    );
    let back = eventually(PATIENCE, async || {
        let now = leaver.hall.of(person).await;
        let is_back = now.dn == there.dn
            && !now.attrs.contains_key("description")
            && leaver.hall.has_berth(person);
        is_back.then_some(now)
    })
    .await;
    let Some(back) = back else {
        let now = leaver.hall.of(person).await;
        panic!(
            "{now:?}\n{}",
            said(&leaver.hall.service, &["why", &leaver.id], 0)
        );
    };
    assert_eq!(back.attrs["uid"], there.attrs["uid"]);
    leaver.assert_no_failures();
}

async fn a_scheduled_departure_begins_on_time(leaver: &Leaver<'_>) {
    let at = jiff::Timestamp::now() + jiff::SignedDuration::from_secs(4);
    leaver.depart(&["--at", &at.to_string()]);
    holds(
        &said(
            &leaver.hall.service,
            &["identities", "lifecycle", &leaver.id],
            0,
        ),
        &["leaving", "planned"],
    );
    holds(
        &said(&leaver.hall.service, &["identities", "leavers"], 0),
        &["scheduled"],
    );
    assert!(leaver.hall.has_berth(leaver.person));
    let closed = leaver.closed().await;
    assert!(
        jiff::Timestamp::now() >= at && closed["seconds"].as_f64().unwrap() < 30.0,
        "{closed}"
    );
    assert!(!leaver.hall.has_berth(leaver.person));
    leaver.assert_no_failures();
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
    hall.publish();
}

/// The group `lookouts` in the directory, owned by somebody of the office, and a sailor whom a rule
/// adds to it.
struct Lookouts {
    hall: Hall,
    own: String,
    owner: String,
}

const LOOKOUTS: &str = "cn=lookouts,ou=groups";

impl Lookouts {
    async fn start() -> Lookouts {
        let hall = Hall::start().await;
        hall.open("berthing");
        hall.rest();
        let own = hall.of(hall.of_department("10")).await.dn;
        let owner = hall.of(hall.of_department("60")).await.dn;
        let group = vec![
            ("objectClass".to_owned(), one("groupOfNames")),
            ("cn".to_owned(), one("lookouts")),
            ("member".to_owned(), one(&owner)),
            ("owner".to_owned(), one(&owner)),
        ];
        let mut admin = hall.admin().await;
        admin
            .add(&format!("{LOOKOUTS},{BASE}"), group)
            .await
            .unwrap()
            .success()
            .unwrap();
        assert!(hall.set_webhook_secret(SECRET).status.success());
        giving(&hall);
        hall.rest();
        Lookouts { hall, own, owner }
    }

    fn sailor(&self) -> &Crew {
        self.hall.of_department("10")
    }

    fn set_password(&self, password: &str) -> std::process::Output {
        let id = self.hall.find_identity(self.sailor());
        let service = &self.hall.service;
        let set = ["passwords", "set", &id];
        client(&service.url, &service.token, &set, password)
    }

    async fn members(&self) -> HashSet<String> {
        self.hall.member_of("lookouts").await
    }

    /// The departure of the sailor, until they are no member any more.
    async fn depart(&self) -> String {
        let id = self.hall.find_identity(self.sailor());
        said(&self.hall.service, &["identities", "depart", &id], 0);
        let is_out = async || (!self.members().await.contains(&self.own)).then_some(());
        eventually(PATIENCE, is_out)
            .await
            .unwrap_or_else(|| panic!("{}", said(&self.hall.service, &["why", &id], 0)));
        id
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn memberships_notifications_and_passwords_follow_the_rules() {
    let lookouts = Lookouts::start().await;
    a_rule_adds_members_beside_those_added_by_hand(&lookouts).await;
    the_owner_of_a_group_is_notified_of_new_members(&lookouts).await;
    a_password_set_here_reaches_all_accounts(&lookouts).await;
    a_leaver_leaves_the_groups_and_their_receiver_is_notified(&lookouts).await;
    a_deleted_entry_is_created_again_with_its_groups(&lookouts).await;
}

async fn a_rule_adds_members_beside_those_added_by_hand(lookouts: &Lookouts) {
    let (hall, own, owner) = (&lookouts.hall, &lookouts.own, &lookouts.owner);
    let sailor = lookouts.sailor();
    let joined = lookouts.members().await;
    assert!(
        joined.contains(own) && joined.contains(owner) && joined.len() > 3,
        "a member added by hand stays: {joined:?}"
    );
    holds(
        &said(&hall.service, &["why", &sailor.number], 0),
        &["crewhall"],
    );
    // Several are added by one request, and each has a reason of its own.
    let set_id = hall.service.json(&["changes", "list"])[1]["id"].to_string();
    let shown = said(&hall.service, &["changes", "show", &set_id], 0);
    holds(&shown, &["joins lookouts"]);

    // Removed by hand, they are added again; added by hand, they stay.
    let other = hall.of(hall.of_department("50")).await.dn;
    let by_hand = vec![
        Mod::Delete("member".to_owned(), one(own)),
        Mod::Add("member".to_owned(), one(&other)),
    ];
    let mut admin = hall.admin().await;
    admin
        .modify(&format!("{LOOKOUTS},{BASE}"), by_hand)
        .await
        .unwrap()
        .success()
        .unwrap();
    hall.rest();
    let now = lookouts.members().await;
    assert!(now.contains(own) && now.contains(&other), "{now:?}");
}

/// By its webhook, once for each new member.
async fn the_owner_of_a_group_is_notified_of_new_members(lookouts: &Lookouts) {
    let hall = &lookouts.hall;
    let (sailor, office) = (lookouts.sailor(), hall.of_department("60"));
    // A run decides about what the run before it made.
    hall.rest();
    let told = || hall.calls_of("notice");
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
}

/// The directory stores it as it stores passwords. It is stored nowhere else.
async fn a_password_set_here_reaches_all_accounts(lookouts: &Lookouts) {
    let (hall, own) = (&lookouts.hall, &lookouts.own);
    let sailor = lookouts.sailor();
    let id = hall.find_identity(sailor);
    let put = |password: &str| lookouts.set_password(password);
    assert!(text(&put("short")).contains("8 to 256 characters"));
    assert!(put("Anchor-Buoy-Capstan-4711").status.success());
    holds(
        &said(&hall.service, &["passwords", "status", &id], 0),
        &["pending in", "crewhall", "berthing"],
    );
    hall.rest();
    assert!(hall.bound(own, "Anchor-Buoy-Capstan-4711").await.is_ok());
    assert!(
        hall._berthing
            .lets_log_in(&sailor.mail.to_lowercase(), "Anchor-Buoy-Capstan-4711")
    );
    let kept = hall.of(sailor).await;
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
    hall.assert_not_stored("Anchor-Buoy-Capstan-4711");
}

async fn a_leaver_leaves_the_groups_and_their_receiver_is_notified(lookouts: &Lookouts) {
    let hall = &lookouts.hall;
    let sailor = lookouts.sailor();
    hall.rest();
    let is_notified = async || (hall.calls_of("notice").len() > 2).then_some(());
    eventually(PATIENCE, is_notified)
        .await
        .expect("what was made for the new members is known");
    lookouts.depart().await;
    assert!(lookouts.members().await.contains(&lookouts.owner));
    let told = || hall.calls_of("notice");
    // The receiver learns what it had made for them, in order to remove it.
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
}

/// After the departure: with deletion as the last step, a new entry is created when they are
/// reinstated.
async fn a_deleted_entry_is_created_again_with_its_groups(lookouts: &Lookouts) {
    let (hall, own) = (&lookouts.hall, &lookouts.own);
    let sailor = lookouts.sailor();
    let id = hall.find_identity(sailor);
    let with_delete = std::fs::read_to_string(hall.path("crewhall.toml")).unwrap();
    let with_delete = with_delete.replacen(
        "step = \"revoke\"\n",
        "step = \"revoke\"\n\n[[person.departure]]\nstep = \"delete\"\n",
        1,
    );
    std::fs::write(hall.path("crewhall.toml"), with_delete).unwrap();
    hall.publish();
    hall.rest();
    let filter = format!("(employeeNumber={})", sailor.number);
    assert!(hall.entry(&filter).await.is_none(), "its entry is gone");
    said(&hall.service, &["identities", "reinstate", &id], 0);
    hall.rest();
    assert_eq!(hall.of(sailor).await.dn, *own);
    assert!(
        lookouts.members().await.contains(own),
        "back in the group of the rule"
    );
}

/// Two directories, of which the second gets the password hashes of the first.
struct HashCopy {
    folder: tempfile::TempDir,
    people: Vec<Crew>,
    harbour: Slapd,
    hall: Slapd,
    service: Service,
}

impl HashCopy {
    async fn start() -> HashCopy {
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
        let copy = HashCopy {
            folder,
            people,
            harbour,
            hall,
            service,
        };
        copy.publish_rules();
        let set = ["systems", "set", "crewhall", "--writable", "person"];
        said(&copy.service, &set, 0);
        said(&copy.service, &["systems", "arm", "crewhall"], 0);
        copy.rest();
        copy
    }

    fn rules(&self) -> std::path::PathBuf {
        self.folder.path().join("rules")
    }

    /// Rules about people only: a group without members cannot be stored here.
    fn publish_rules(&self) {
        let rules = self.rules();
        std::fs::create_dir_all(&rules).unwrap();
        for (name, text) in world::rules() {
            let text = match name {
                "guards.toml" => continue,
                _ if name.starts_with("berthing") => continue,
                "harbour.toml" => text.split("[[person.example]]").next().unwrap(),
                _ => text,
            };
            std::fs::write(rules.join(name), text).unwrap();
        }
        let crewhall = CREWHALL.replace(
            "length = 16\ndeliver_to = \"welcome-desk\"",
            "initial = false\ncopy_hash_from = \"harbour\"",
        );
        let people = crewhall.split("[[group.match]]").next().unwrap();
        let people = people.replace("secretary      = 'identity.mentor'\n", "");
        std::fs::write(rules.join("crewhall.toml"), people).unwrap();
        let publish = ["rules", "publish", rules.to_str().unwrap()];
        said(&self.service, &publish, 0);
    }

    fn rest(&self) {
        for _ in 0..4 {
            said(&self.service, &["run"], 0);
        }
    }

    fn person(&self) -> &Crew {
        let mut people = self.people.iter();
        people
            .find(|person| is_complete(person) && is_internal(person))
            .unwrap()
    }

    /// Sets a password in the first directory, which stores its hash.
    async fn set_password(&self, password: &str) {
        let set = ldap3::exop::PasswordModify {
            user_id: Some(&self.person().dn()),
            old_pass: None,
            new_pass: Some(password),
        };
        let mut admin = bind_admin(&self.harbour).await;
        admin.extended(set).await.unwrap().success().unwrap();
    }

    /// Whether the person can log in to the second directory.
    async fn lets_in(&self, password: &str) -> bool {
        let filter = format!("(employeeNumber={})", self.person().number);
        let entry = search_one(&self.hall, BASE, Scope::Subtree, &filter).await;
        bind(&self.hall, &entry.dn, password).await.is_ok()
    }
}

async fn bind(slapd: &Slapd, dn: &str, password: &str) -> Result<Ldap, ldap3::LdapError> {
    let (connection, mut ldap) = LdapConnAsync::new(&slapd.url).await?;
    ldap3::drive!(connection);
    ldap.simple_bind(dn, password).await?.success()?;
    Ok(ldap)
}

async fn bind_admin(slapd: &Slapd) -> Ldap {
    bind(slapd, &slapd.admin_dn, &slapd.admin_password)
        .await
        .unwrap()
}

async fn search_one(slapd: &Slapd, base: &str, scope: Scope, filter: &str) -> SearchEntry {
    let mut admin = bind_admin(slapd).await;
    let found = admin.search(base, scope, filter, vec!["*"]).await.unwrap();
    let (entries, _) = found.success().unwrap();
    SearchEntry::construct(entries.into_iter().next().expect("there"))
}

#[tokio::test(flavor = "multi_thread")]
async fn password_hashes_are_copied_between_directories() {
    let copy = HashCopy::start().await;
    a_changed_password_hash_is_copied_once(&copy).await;
    a_copied_password_hash_is_stored_nowhere(&copy).await;
    a_hash_can_be_copied_from_a_marked_directory_only(&copy).await;
}

async fn a_changed_password_hash_is_copied_once(copy: &HashCopy) {
    for password in ["Mooring-Line-31", "Mooring-Line-32"] {
        copy.set_password(password).await;
        assert!(!copy.lets_in(password).await);
        copy.rest();
        assert!(
            copy.lets_in(password).await,
            "{}",
            said(&copy.service, &["why", &copy.person().number], 0)
        );
    }
    assert!(!copy.lets_in("Mooring-Line-31").await);
    holds(
        &said(&copy.service, &["run"], 0),
        &["everything is in sync"],
    );
}
async fn a_copied_password_hash_is_stored_nowhere(copy: &HashCopy) {
    copy.set_password("Mooring-Line-32").await;
    copy.rest();
    assert!(copy.lets_in("Mooring-Line-32").await);
    let dn = copy.person().dn();
    let entry = search_one(&copy.harbour, &dn, Scope::Base, "(objectClass=*)").await;
    let hash = &entry.attrs["userPassword"][0];
    assert!(hash.starts_with('{'), "{entry:?}");
    for secret in ["Mooring-Line-32", &hash[6..]] {
        assert_not_stored(&copy.folder.path().join("data"), secret);
    }
}

async fn a_hash_can_be_copied_from_a_marked_directory_only(copy: &HashCopy) {
    let file = copy.rules().join("crewhall.toml");
    let text = std::fs::read_to_string(&file).unwrap();
    let text = text.replace(
        "copy_hash_from = \"harbour\"",
        "copy_hash_from = \"crewhall\"",
    );
    std::fs::write(&file, text).unwrap();
    let rules = copy.rules();
    holds(
        &said(
            &copy.service,
            &["rules", "check", rules.to_str().unwrap()],
            1,
        ),
        &["password hashes cannot be copied from crewhall"],
    );
}

/// Two groups are offered to one person, of which the operator bo chooses one; another person joins
/// a group whose owner decides.
struct Offers {
    hall: Hall,
    bo: String,
    owner: String,
    choice: String,
    joining: String,
}

impl Offers {
    async fn start() -> Offers {
        let hall = Hall::start().await;
        hall.rest();
        let fits =
            |person: &&Crew| !person.given.is_empty() && is_internal(person) && !person.locked;
        let mut people = hall.people.iter().filter(fits);
        let [sailor, pilot, owner] = std::array::from_fn(|_| people.next().unwrap());
        Offers::add_groups(&hall, owner).await;
        Offers::publish(&hall, sailor, pilot);
        let token = |more: &[&str]| {
            let added = hall.service.json(&[&["operators", "add"], more].concat());
            added["token"].as_str().unwrap().to_owned()
        };
        let bo = token(&["bo"]);
        let owner = token(&["ow", "--person", &owner.number]);
        hall.service.client(&["run"]);
        let mut offers = Offers {
            hall,
            bo,
            owner,
            choice: String::new(),
            joining: String::new(),
        };
        let all = offers.decisions();
        let id = |title: &str| {
            let is_it = |one: &&Value| one["message"].as_str().unwrap().starts_with(title);
            let found = all.iter().find(is_it).unwrap();
            found["id"].as_str().unwrap().to_owned()
        };
        offers.choice = id("one watch");
        offers.joining = id("who joins");
        offers
    }

    async fn add_groups(hall: &Hall, owner: &Crew) {
        let owner = hall.of(owner).await.dn;
        let mut admin = hall.admin().await;
        for name in ["lookouts", "choir", "pilots"] {
            let group = vec![
                ("objectClass".to_owned(), one("groupOfNames")),
                ("cn".to_owned(), one(name)),
                ("member".to_owned(), one(&owner)),
                ("owner".to_owned(), one(&owner)),
            ];
            admin
                .add(&format!("cn={name},ou=groups,{BASE}"), group)
                .await
                .unwrap()
                .success()
                .unwrap();
        }
    }

    fn publish(hall: &Hall, sailor: &Crew, pilot: &Crew) {
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
        std::fs::write(hall.path("crewhall.toml"), crewhall).unwrap();
        let asked = format!(
            "[[approval]]\nname = \"one watch\"\nchange = \"grant\"\nwhen = 'identity.employeeNumber == \"{}\"'\nchoose_up_to = 1\n[[approval.level]]\noperators = [\"bo\"]\n\n\
         [[approval]]\nname = \"who joins\"\nchange = \"grant\"\n[[approval.level]]\nof = \"owner\"\n",
            sailor.number
        );
        std::fs::write(hall.path("approvals.toml"), asked).unwrap();
        hall.publish();
    }

    fn answer(&self, token: &str, arguments: &[&str]) -> std::process::Output {
        client(&self.hall.service.url, token, arguments, "")
    }

    fn approve(&self, decision: &str, token: &str, more: &[&str]) -> std::process::Output {
        let approve = ["decisions", "approve", decision];
        self.answer(token, &[&approve, more].concat())
    }

    fn decisions(&self) -> Vec<Value> {
        let list = self.answer(&self.bo, &["decisions", "list", "-o", "json"]);
        serde_json::from_slice(&list.stdout).unwrap()
    }

    /// The number of members of the two offered groups and of the owner's.
    async fn member_counts(&self) -> [usize; 3] {
        [
            self.hall.member_of("lookouts").await.len(),
            self.hall.member_of("choir").await.len(),
            self.hall.member_of("pilots").await.len(),
        ]
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn offers_are_chosen_and_owners_approve() {
    let offers = Offers::start().await;
    an_approver_can_choose_only_what_is_offered(&offers).await;
    an_approver_chooses_among_groups_and_an_owner_answers_for_their_own(&offers).await;
}

/// The list shows the offers and how to choose; an answer outside of them is refused.
async fn an_approver_can_choose_only_what_is_offered(offers: &Offers) {
    assert_eq!(offers.member_counts().await, [1, 1, 1], "all of it waits");
    let list = text(&offers.answer(&offers.bo, &["decisions", "list"]));
    holds(
        &list,
        &[
            "one watch: level 1 of 1, bo; the approver chooses up to 1",
            "--choose 'join choir in crewhall'",
            "you cannot answer this: this level is for the group's owner",
        ],
    );
    let choose = |names: &[&str]| {
        let options: Vec<&str> = names.iter().flat_map(|name| ["--choose", name]).collect();
        text(&offers.approve(&offers.choice, &offers.bo, &options))
    };
    holds(
        &choose(&[]),
        &["choose up to 1 of these: join choir in crewhall; join lookouts in crewhall"],
    );
    holds(
        &choose(&["join choir in crewhall", "join lookouts in crewhall"]),
        &["choose up to 1 of these"],
    );
    holds(
        &choose(&["join pilots in crewhall"]),
        &["`join pilots in crewhall` is not an offer"],
    );
    holds(
        &text(&offers.approve(&offers.joining, &offers.owner, &["--choose", "x"])),
        &["who joins has no offers to choose from: approve or reject it"],
    );
}

async fn an_approver_chooses_among_groups_and_an_owner_answers_for_their_own(offers: &Offers) {
    let service = &offers.hall.service;
    let chosen = [
        "--choose",
        "Join choir in crewhall",
        "--comment",
        "a fine voice",
    ];
    let yes = offers.approve(&offers.choice, &offers.bo, &chosen);
    assert!(yes.status.success(), "{}", text(&yes));
    holds(
        &text(&yes),
        &["approved Join choir in crewhall, rejected the others"],
    );
    let yes = offers.approve(&offers.joining, &offers.owner, &[]);
    assert!(yes.status.success(), "{}", text(&yes));
    service.client(&["run"]);
    assert_eq!(offers.member_counts().await, [1, 2, 2]);
    let set_id = service.json(&["changes", "list"])[0]["id"].to_string();
    let held = said(service, &["changes", "export", &set_id], 0);
    holds(
        &held,
        &["rejected by bo (“another offer was chosen: a fine voice”)"],
    );
    let left = offers.decisions();
    assert!(left.iter().all(|one| one["kind"] != "approval"), "{left:?}");
}
