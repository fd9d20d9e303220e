//! Automatic synchronization: a change or deletion in a watched directory is made in the target
//! within seconds; echoes start no run; nothing is lost while the directory or the service is down.
#![allow(clippy::disallowed_methods, reason = "tests run in real time")]
#![allow(clippy::unwrap_used)]

mod common;

use common::{Service, client, holds, said, text};
use ldap3::{Ldap, LdapConnAsync, Mod};
use serde_json::Value;
use std::collections::HashSet;
use std::time::{Duration, Instant};
use tide_standins::eventually;
use tide_standins::scim_service::{Mischief, ScimService};
use tide_standins::slapd::Slapd;
use tide_standins::world::{self, BASE, Crew};

/// How long something in the background may take.
const PATIENCE: Duration = Duration::from_secs(30);

struct Tide {
    folder: tempfile::TempDir,
    people: Vec<Crew>,
    harbour: Slapd,
    berthing: ScimService,
    service: Service,
}

impl Tide {
    async fn start() -> Tide {
        let folder = tempfile::tempdir().unwrap();
        let people = world::people(world::SEED, 40);
        let entries = world::directory(&people, "harbour-secret");
        let harbour = tokio::task::spawn_blocking(move || Slapd::start(&entries))
            .await
            .unwrap()
            .unwrap();
        let berthing = ScimService::start(world::berthing(&people), "berth-token")
            .await
            .unwrap();
        let service = Service::start(&folder.path().join("data"));
        let add = |name: &str, kind: &str, address: &str, more: &[&str], secret: &str| {
            let add = [
                &["systems", "add", name, "--kind", kind, "--address", address],
                more,
            ]
            .concat();
            let added = client(&service.url, &service.token, &add, secret);
            assert!(added.status.success(), "{}", text(&added));
        };
        add(
            "harbour",
            "ldap",
            &harbour.url,
            &["--bind-dn", &harbour.admin_dn, "--base-dn", BASE],
            &harbour.admin_password,
        );
        add("berthing", "scim", &berthing.url, &[], &berthing.token);
        let rules = folder.path().join("rules");
        std::fs::create_dir_all(&rules).unwrap();
        for (name, text) in world::rules_of_people() {
            std::fs::write(rules.join(name), text).unwrap();
        }
        said(&service, &["rules", "publish", rules.to_str().unwrap()], 0);
        said(
            &service,
            &["systems", "set", "berthing", "--writable", "person"],
            0,
        );
        for system in ["harbour", "berthing"] {
            said(&service, &["systems", "arm", system], 0);
        }
        Tide {
            folder,
            people,
            harbour,
            berthing,
            service,
        }
    }

    async fn ldap(&self) -> Ldap {
        let (connection, mut ldap) = LdapConnAsync::new(&self.harbour.url).await.unwrap();
        ldap3::drive!(connection);
        ldap.simple_bind(&self.harbour.admin_dn, &self.harbour.admin_password)
            .await
            .unwrap()
            .success()
            .unwrap();
        ldap
    }

    /// A person with complete data, by place.
    fn crew_member(&self, at: usize) -> &Crew {
        let sound = |person: &&Crew| {
            !person.locked && !person.given.is_empty() && person.mail.ends_with("@skerry.example")
        };
        self.people.iter().filter(sound).nth(at).unwrap()
    }

    fn user(&self, person: &Crew) -> Option<Value> {
        self.berthing.users().into_iter().find(|user| {
            user["urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"]["employeeNumber"]
                == person.number.as_str()
        })
    }

    async fn until(&self, what: &str, holds: impl Fn() -> bool) -> Duration {
        let begun = Instant::now();
        let held = eventually(PATIENCE, async || holds().then_some(())).await;
        if held.is_none() {
            panic!(
                "{what}\n{}\n{}",
                said(&self.service, &["systems", "schedule", "harbour"], 0),
                self.log()
            );
        }
        begun.elapsed()
    }

    fn log(&self) -> String {
        let lines = self.service.running.lines.lock().unwrap();
        lines[lines.len().saturating_sub(30)..].join("\n")
    }

    fn following(&self) -> Value {
        self.service.json(&["systems", "schedule", "harbour"])["watchers"][0].clone()
    }

    /// The first run by itself has ended: everybody has an account.
    async fn rested(&self) {
        let first = || tide_state(&self.service.json(&["changes", "list"])) == "done";
        self.until("the first run ends", || {
            self.following()["state"] == "watching" && first()
        })
        .await;
        assert!(self.user(self.crew_member(9)).is_some());
    }

    async fn listening(&self) {
        self.until("it does not listen", || {
            self.following()["state"] == "watching"
        })
        .await;
    }
    /// A service that watches the directory and has done its first run.
    async fn watching() -> Tide {
        let tide = Tide::start().await;
        // The target is known before anything is created there.
        said(&tide.service, &["systems", "read", "berthing"], 0);
        tide.watch("harbour", &[]);
        tide.listening().await;
        tide.rested().await;
        tide
    }

    fn watch(&self, system: &str, more: &[&str]) {
        let watch = ["systems", "schedule", system, "--watch"];
        said(&self.service, &[&watch, more].concat(), 0);
    }

    fn rules(&self) -> std::path::PathBuf {
        self.folder.path().join("rules")
    }

    fn publish(&self) -> String {
        let rules = self.rules();
        let publish = ["rules", "publish", rules.to_str().unwrap()];
        said(&self.service, &publish, 0)
    }

    /// Sets a value in the directory.
    async fn edit(&self, person: &Crew, attribute: &str, value: &str) {
        let change = vec![set(attribute, value)];
        let mut ldap = self.ldap().await;
        ldap.modify(&person.dn(), change)
            .await
            .unwrap()
            .success()
            .unwrap();
    }

    /// Deletes a person from the directory.
    async fn delete(&self, person: &Crew) {
        let mut ldap = self.ldap().await;
        ldap.delete(&person.dn()).await.unwrap().success().unwrap();
    }

    fn has_title(&self, person: &Crew, title: &str) -> bool {
        self.user(person).is_some_and(|user| user["title"] == title)
    }

    fn is_disabled(&self, person: &Crew) -> bool {
        self.user(person)
            .is_some_and(|user| user["active"] == false)
    }

    fn enabled_count(&self) -> usize {
        let users = self.berthing.users();
        users.iter().filter(|user| user["active"] == true).count()
    }

    fn run_count(&self) -> usize {
        let runs = self.service.json(&["changes", "list"]);
        runs.as_array().unwrap().len()
    }

    /// The first decision of a kind.
    fn decision(&self, kind: &str) -> Option<Value> {
        self.decisions(kind).into_iter().next()
    }

    fn decisions(&self, kind: &str) -> Vec<Value> {
        let list = self.service.client(&["decisions", "list", "-o", "json"]);
        let all: Vec<Value> = serde_json::from_slice(&list.stdout).unwrap();
        all.into_iter().filter(|one| one["kind"] == kind).collect()
    }

    /// Changes a user in the SCIM service, as others do.
    async fn patch(&self, person: &Crew, operation: Value) {
        let user = self.user(person).unwrap();
        let id = user["id"].as_str().unwrap();
        let patch =
            serde_json::json!({"schemas": [tide_scim::PATCH_OP], "Operations": [operation]});
        common::http()
            .patch(format!("{}/Users/{id}", self.berthing.url))
            .bearer_auth("berth-token")
            .json(&patch)
            .send()
            .await
            .unwrap()
            .error_for_status()
            .unwrap();
    }
}

fn tide_state(runs: &Value) -> String {
    runs[0]["state"].as_str().unwrap_or_default().to_owned()
}

fn set(attribute: &str, value: &str) -> Mod<String> {
    Mod::Replace(attribute.to_owned(), HashSet::from([value.to_owned()]))
}

#[tokio::test(flavor = "multi_thread")]
async fn no_run_starts_before_watching_is_enabled() {
    let tide = Tide::start().await;
    let shown = said(&tide.service, &["systems", "schedule", "harbour"], 0);
    holds(
        &shown,
        &["off: `eager-tide systems schedule harbour --watch`"],
    );
    said(&tide.service, &["systems", "read", "berthing"], 0);
    let asked = jiff::Timestamp::now();
    tide.watch("harbour", &[]);
    tide.listening().await;
    tide.rested().await;
    let runs = tide.service.json(&["changes", "list"]);
    let first: jiff::Timestamp = runs
        .as_array()
        .and_then(|runs| runs.last()?["started_at"].as_str()?.parse().ok())
        .expect("a first run");
    assert!(
        first >= asked,
        "no run starts before watching is enabled: {first} < {asked}"
    );
    let shown = said(&tide.service, &["systems", "schedule", "harbour"], 0);
    holds(
        &shown,
        &[
            "watching: the directory sends each change at once",
            "next full read",
        ],
    );
    holds(
        &said(&tide.service, &["changes", "list"], 0),
        &["the service"],
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_watched_directory_is_followed() {
    let tide = Tide::watching().await;
    a_watched_directory_is_synchronized_within_seconds(&tide).await;
    a_request_that_the_target_queues_is_polled(&tide).await;
    nothing_is_written_during_a_write_blackout(&tide).await;
    a_watch_mode_that_the_system_does_not_support_is_refused(&tide).await;
    changes_are_found_by_modification_time(&tide).await;
}

/// Nothing else is sent.
async fn a_watched_directory_is_synchronized_within_seconds(tide: &Tide) {
    let mut ldap = tide.ldap().await;
    let (changed, gone) = (tide.crew_member(0), tide.crew_member(1));
    tide.berthing.take_writes();
    tide.edit(changed, "title", "Harbour Master").await;
    let took = tide
        .until("the title", || tide.has_title(changed, "Harbour Master"))
        .await;
    assert!(took < Duration::from_secs(10), "{took:?}");
    let values = |name: &str, value: &str| (name.to_owned(), HashSet::from([value.to_owned()]));
    let dn = format!("uid=tove.quay,ou=Deck,ou=people,{BASE}");
    let entry = vec![
        values("objectClass", "inetOrgPerson"),
        values("uid", "tove.quay"),
        values("cn", "Tove Quay"),
        values("sn", "Quay"),
        values("givenName", "Tove"),
        values("employeeNumber", "7001"),
        values("mail", "tove.quay@skerry.example"),
    ];
    ldap.add(&dn, entry).await.unwrap().success().unwrap();
    tide.until("the newcomer", || {
        tide.berthing.user("tove.quay@skerry.example").is_some()
    })
    .await;
    tide.delete(gone).await;
    tide.until("the departure", || tide.is_disabled(gone)).await;
    let writes: Vec<String> = tide.berthing.take_writes();
    assert_eq!(writes.len(), 3, "{writes:?}");
    let runs = tide.service.json(&["changes", "list"]);
    assert_eq!(runs[0]["is_full"], false);
    let why = said(&tide.service, &["why", &gone.number], 0);
    holds(&why, &["harbour no longer contains"]);
}

/// A service that watches the directory and polls the target as well.
async fn watching_both() -> Tide {
    let tide = Tide::watching().await;
    tide.watch("berthing", &["--poll-interval", "1s"]);
    tide.until("berthing is polled", || {
        tide.service.json(&["systems", "schedule", "berthing"])["watchers"][0]["state"] == "waiting"
    })
    .await;
    tide
}

#[tokio::test(flavor = "multi_thread")]
async fn a_watched_target_is_followed() {
    let tide = watching_both().await;
    an_echo_of_our_own_write_starts_no_run(&tide).await;
    a_change_by_others_in_a_watched_target_is_repaired(&tide).await;
}

/// Our own writes come back from a target that is polled for modified accounts.
async fn an_echo_of_our_own_write_starts_no_run(tide: &Tide) {
    let changed = tide.crew_member(0);
    tide.berthing.take_writes();
    let before = tide.run_count();
    tide.edit(changed, "title", "Pilot").await;
    tide.until("the title", || tide.has_title(changed, "Pilot"))
        .await;
    polls_complete(tide, "berthing", 3).await;
    assert_eq!(
        tide.run_count(),
        before + 1,
        "one run: {}",
        said(&tide.service, &["changes", "list"], 0)
    );
    assert_eq!(tide.berthing.take_writes().len(), 1);
}

async fn a_change_by_others_in_a_watched_target_is_repaired(tide: &Tide) {
    let person = tide.crew_member(0);
    tide.edit(person, "title", "Pilot").await;
    tide.until("the title", || tide.has_title(person, "Pilot"))
        .await;
    let drift = serde_json::json!({"op": "replace", "path": "title", "value": "Pirate"});
    tide.patch(person, drift).await;
    assert!(tide.has_title(person, "Pirate"));
    tide.until("the repair", || tide.has_title(person, "Pilot"))
        .await;
    holds(
        &said(&tide.service, &["status"], 0),
        &["an account was changed in berthing by others"],
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn nothing_is_lost_while_the_service_or_the_directory_is_down() {
    let mut tide = Tide::watching().await;
    changes_while_the_service_is_down_are_made_afterwards(&mut tide).await;
    a_restarted_directory_is_read_in_full_and_nobody_else_is_lost(&mut tide).await;
}

async fn changes_while_the_service_is_down_are_made_afterwards(tide: &mut Tide) {
    let (changed, gone) = (tide.crew_member(2).clone(), tide.crew_member(3).clone());
    tide.service.running.kill();
    tide.edit(&changed, "title", "Stoker").await;
    tide.delete(&gone).await;
    tide.service = Service::start(&tide.folder.path().join("data"));
    tide.until("the change", || tide.has_title(&changed, "Stoker"))
        .await;
    tide.until("the departure", || tide.is_disabled(&gone))
        .await;
}

/// A directory that restarts has forgotten its log of deletions: it is read in full.
async fn a_restarted_directory_is_read_in_full_and_nobody_else_is_lost(tide: &mut Tide) {
    let before = tide.enabled_count();
    let last = tide.crew_member(4).clone();
    tide.harbour.stop();
    tide.until("it is noticed", || tide.following()["state"] == "failed")
        .await;
    holds(
        &said(&tide.service, &["systems", "schedule", "harbour"], 0),
        &["failed", "next poll"],
    );
    tide.harbour.restart().unwrap();
    tide.listening().await;
    assert_eq!(tide.enabled_count(), before, "nobody is lost");
    tide.delete(&last).await;
    tide.until("the departure after it", || tide.is_disabled(&last))
        .await;
    assert_eq!(tide.enabled_count(), before - 1);
}

/// The change is on hold during the blackout, and sent afterwards.
async fn nothing_is_written_during_a_write_blackout(tide: &Tide) {
    let changed = tide.crew_member(2);
    tide.edit(changed, "title", "Stoker").await;
    tide.until("the change", || tide.has_title(changed, "Stoker"))
        .await;
    said(
        &tide.service,
        &[
            "systems",
            "schedule",
            "berthing",
            "--write-blackout",
            "00:00-12:00",
            "--write-blackout",
            "12:00-00:00",
            "--zone",
            "UTC",
        ],
        0,
    );
    holds(
        &said(&tide.service, &["systems", "schedule", "berthing"], 0),
        &["Write blackout", "00 UTC, until"],
    );
    tide.edit(changed, "title", "Greaser").await;
    tide.until("the change is held", || {
        let held = tide.service.json(&["holds", "--cause", "paused"]);
        held.to_string().contains("write_blackout")
    })
    .await;
    assert!(tide.has_title(changed, "Stoker"));
    holds(
        &said(
            &tide.service,
            &["preview", "--without-reading", "--only", &changed.number],
            0,
        ),
        &["Only the named people", "title differs"],
    );
    let preview = tide.service.json(&["changes", "list"])[0]["id"].to_string();
    holds(
        &said(&tide.service, &["changes", "show", &preview, "--values"], 0),
        &["write blackout of berthing"],
    );
    said(
        &tide.service,
        &["systems", "schedule", "berthing", "--clear-blackouts"],
        0,
    );
    tide.until("the change after the blackout", || {
        tide.has_title(changed, "Greaser")
    })
    .await;
}

async fn a_watch_mode_that_the_system_does_not_support_is_refused(tide: &Tide) {
    let refused = said(
        &tide.service,
        &["systems", "schedule", "harbour", "--mode", "change_number"],
        1,
    );
    holds(
        &refused,
        &[
            "harbour does not support the watch mode change_number: it offers content_sync, modified, full",
        ],
    );
}

/// Deletions are found by the next full read.
async fn changes_are_found_by_modification_time(tide: &Tide) {
    let changed = tide.crew_member(2);
    said(
        &tide.service,
        &[
            "systems",
            "schedule",
            "harbour",
            "--mode",
            "modified",
            "--poll-interval",
            "1s",
        ],
        0,
    );
    tide.until("the other way", || {
        tide.following()["mode"] == "modified" && tide.following()["state"] == "waiting"
    })
    .await;
    tide.edit(changed, "title", "Donkeyman").await;
    tide.until("the change by its time", || {
        tide.has_title(changed, "Donkeyman")
    })
    .await;
    holds(
        &said(&tide.service, &["systems", "schedule", "harbour"], 0),
        &["full reads find deletions"],
    );
}

/// At most two accounts are disabled within 24 hours, and so many were.
async fn at_the_limit_of_a_guard() -> Tide {
    let tide = Tide::start().await;
    std::fs::write(
        tide.rules().join("guards.toml"),
        "[[guard]]\nsystem = \"berthing\"\nchange = \"disable\"\nmax_count = 2\n",
    )
    .unwrap();
    tide.publish();
    said(&tide.service, &["systems", "read", "berthing"], 0);
    tide.watch("harbour", &[]);
    tide.rested().await;
    for at in 0..2 {
        let leaver = tide.crew_member(at);
        tide.delete(leaver).await;
        tide.until("a departure below the limit", || tide.is_disabled(leaver))
            .await;
    }
    tide
}

#[tokio::test(flavor = "multi_thread")]
async fn a_guard_holds_the_changes_of_many_small_runs() {
    let tide = at_the_limit_of_a_guard().await;
    a_guard_counts_the_changes_of_many_small_runs(&tide).await;
    an_operator_releases_what_a_guard_holds(&tide).await;
    a_discarded_change_is_not_sent(&tide).await;
    a_change_that_fails_permanently_is_parked(&tide).await;
}

/// Each departure is a run of its own. Other changes are still made.
async fn a_guard_counts_the_changes_of_many_small_runs(tide: &Tide) {
    let guard = || tide.decision("guard");
    tide.delete(tide.crew_member(2)).await;
    tide.until("the guard", || guard().is_some()).await;
    let held = guard().unwrap();
    assert_eq!(
        (&held["count"], &held["title"]),
        (
            &serde_json::json!(1),
            &serde_json::json!("1 disable change is held in berthing")
        )
    );
    assert!(
        held["message"]
            .as_str()
            .unwrap()
            .contains("after 2 in the last 24 hours; the limit is 2"),
        "{held}"
    );
    let other = tide.crew_member(5);
    tide.edit(other, "title", "Bosun").await;
    tide.until("another change", || tide.has_title(other, "Bosun"))
        .await;
    assert!(!tide.is_disabled(tide.crew_member(2)));
    let listed = said(&tide.service, &["decisions", "list"], 3);
    holds(
        &listed,
        &[
            "held by guard",
            "eager-tide decisions release guard-berthing-disable",
        ],
    );
}

/// After a first departure is on hold: a release is about the changes that were shown, and another
/// departure makes it another decision.
async fn an_operator_releases_what_a_guard_holds(tide: &Tide) {
    let guard = || tide.decision("guard");
    let old = guard().unwrap()["id"].as_str().unwrap().to_owned();
    tide.delete(tide.crew_member(3)).await;
    tide.until("both", || guard().is_some_and(|one| one["count"] == 2))
        .await;
    let url = format!("{}/api/v1/decisions", tide.service.url);
    let body = serde_json::json!({"id": old, "answer": "release"});
    let answer = common::http()
        .post(&url)
        .bearer_auth(&tide.service.token)
        .json(&body)
        .send()
        .await
        .unwrap();
    assert_eq!(answer.status(), 409, "{}", answer.text().await.unwrap());
    said(
        &tide.service,
        &["decisions", "release", "guard-berthing"],
        0,
    );
    tide.until("both departures", || {
        tide.is_disabled(tide.crew_member(2)) && tide.is_disabled(tide.crew_member(3))
    })
    .await;
    assert!(guard().is_none());
    holds(
        &said(&tide.service, &["journal", "list"], 0),
        &["guard.release"],
    );
}

/// Until anything about the change is different.
async fn a_discarded_change_is_not_sent(tide: &Tide) {
    let guard = || tide.decision("guard");
    tide.delete(tide.crew_member(4)).await;
    tide.until("the next", || guard().is_some()).await;
    said(
        &tide.service,
        &["decisions", "discard", "guard-berthing"],
        0,
    );
    tide.until("it is off the list", || guard().is_none()).await;
    let preview = tide.service.json(&["preview", "--without-reading"]);
    let changes = said(
        &tide.service,
        &["changes", "show", &preview["id"].to_string(), "--values"],
        0,
    );
    holds(&changes, &["discarded by first operator"]);
    assert!(!tide.is_disabled(tide.crew_member(4)));
    holds(
        &said(&tide.service, &["journal", "list"], 0),
        &["guard.discard"],
    );
}

/// It is not sent again until an operator retries it.
async fn a_change_that_fails_permanently_is_parked(tide: &Tide) {
    let (parked_person, other) = (tide.crew_member(6), tide.crew_member(7));
    tide.berthing.mischief_on_writes(&[Mischief::Conflict]);
    tide.edit(parked_person, "title", "Cook").await;
    let parked = || tide.decision("failed");
    tide.until("it is parked", || parked().is_some()).await;
    tide.berthing.take_writes();
    tide.edit(other, "title", "Purser").await;
    tide.until("another change", || tide.has_title(other, "Purser"))
        .await;
    assert_eq!(
        tide.berthing.take_writes().len(),
        1,
        "the parked change is not sent"
    );
    said(
        &tide.service,
        &[
            "decisions",
            "retry",
            parked().unwrap()["id"].as_str().unwrap(),
        ],
        0,
    );
    tide.until("the parked change", || {
        tide.has_title(parked_person, "Cook")
    })
    .await;
    assert!(parked().is_none());
}

/// A feed of files and a system that pushes, both sources beside the directory.
struct Arrivals {
    tide: Tide,
    feed: std::path::PathBuf,
}

impl Arrivals {
    async fn start() -> Arrivals {
        let tide = Tide::start().await;
        let feed = tide.folder.path().join("data").join("feeds").join("crew");
        std::fs::create_dir_all(&feed).unwrap();
        let arrivals = Arrivals { tide, feed };
        arrivals.deliver("8001;Mette;Sund;mette.sund@skerry.example\n");
        arrivals.add_systems();
        arrivals.publish_rules();
        arrivals.watch().await;
        arrivals
    }

    fn deliver(&self, people: &str) {
        let text = format!("number;given;family;mail\n{people}");
        std::fs::write(self.feed.join("crew.csv"), text).unwrap();
    }

    fn add_systems(&self) {
        let tide = &self.tide;
        let folder = &self.feed;
        said(
            &tide.service,
            &[
                "systems",
                "add",
                "crew",
                "--kind",
                "feed",
                "--path",
                folder.to_str().unwrap(),
                "--key",
                "number",
            ],
            0,
        );
        said(
            &tide.service,
            &["systems", "add", "agency", "--kind", "push"],
            0,
        );
    }

    fn publish_rules(&self) {
        let rules = self.tide.rules();
        let feeding = |system: &str, number: &str, given: &str, family: &str, mail: &str| {
            let text = format!(
                "system = \"{system}\"\n[[person.match]]\nname = \"number\"\naccount = 'account[\"{number}\"]'\nidentity = 'identity.employeeNumber'\n[person.inbound]\nemployeeNumber = 'account[\"{number}\"]'\ngivenName = 'account[\"{given}\"]'\nfamilyName = 'account[\"{family}\"]'\ndisplayName = 'joinWords(account[\"{given}\"], account[\"{family}\"])'\nmail = 'lower(account[\"{mail}\"])'\nactive = 'true'\n"
            );
            std::fs::write(rules.join(format!("{system}.toml")), text).unwrap();
        };
        feeding("crew", "number", "given", "family", "mail");
        feeding(
            "agency",
            "enterprise.employeeNumber",
            "name.givenName",
            "name.familyName",
            "emails.work",
        );
        let berthing = std::fs::read_to_string(rules.join("berthing.toml")).unwrap();
        let password = "[person.password]\nattribute = \"password\"\nsync = true\ninitial = false\n\n[person.outbound]";
        std::fs::write(
            rules.join("berthing.toml"),
            berthing.replacen("[person.outbound]", password, 1),
        )
        .unwrap();
        self.tide.publish();
    }

    /// Reads the target, watches both sources and waits until they are listened to.
    async fn watch(&self) {
        let tide = &self.tide;
        said(&tide.service, &["systems", "read", "berthing"], 0);
        for system in ["crew", "agency"] {
            said(&tide.service, &["systems", "arm", system], 0);
            tide.watch(system, &[]);
        }
        let says = |system: &str, text: &str| {
            said(&tide.service, &["systems", "schedule", system], 0).contains(text)
        };
        tide.until("files are waited for", || {
            says("crew", "files are read when they arrive")
        })
        .await;
        tide.until("calls are waited for", || {
            says("agency", "the system pushes")
        })
        .await;
    }

    async fn until_there(&self, mail: &str) {
        self.tide
            .until(mail, || self.tide.berthing.user(mail).is_some())
            .await;
    }

    /// Pushes a person. Returns the address of the user and the token of the caller.
    async fn push(&self) -> (String, String) {
        let service = &self.tide.service;
        let made = service.json(&["systems", "token", "agency"]);
        let token = made["token"].as_str().unwrap().to_owned();
        let pushed = serde_json::json!({
            "schemas": [tide_scim::USER, tide_scim::ENTERPRISE], "userName": "runa.vik@skerry.example",
            "name": {"givenName": "Runa", "familyName": "Vik"}, "emails": [{"value": "runa.vik@skerry.example", "type": "work"}],
            (tide_scim::ENTERPRISE): {"employeeNumber": "8101"},
        });
        let url = format!("{}/scim/v2/agency/Users", service.url);
        let created: Value = common::http()
            .post(&url)
            .bearer_auth(&token)
            .json(&pushed)
            .send()
            .await
            .unwrap()
            .error_for_status()
            .unwrap()
            .json()
            .await
            .unwrap();
        let id = created["id"].as_str().unwrap();
        (format!("{url}/{id}"), token)
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn arrivals_are_synchronized_at_once() {
    let arrivals = Arrivals::start().await;
    a_delivered_file_is_read_at_once(&arrivals).await;
    a_pushed_person_is_synchronized_at_once(&arrivals).await;
}

async fn a_delivered_file_is_read_at_once(arrivals: &Arrivals) {
    arrivals.until_there("mette.sund@skerry.example").await;
    arrivals.deliver(
        "8001;Mette;Sund;mette.sund@skerry.example\n8002;Olai;Brough;olai.brough@skerry.example\n",
    );
    arrivals.until_there("olai.brough@skerry.example").await;
}

/// Also a password, which is not returned.
async fn a_pushed_person_is_synchronized_at_once(arrivals: &Arrivals) {
    let (user, token) = arrivals.push().await;
    arrivals.until_there("runa.vik@skerry.example").await;
    let change = serde_json::json!({
        "schemas": [tide_scim::PATCH_OP], "Operations": [{"op": "replace", "path": "password", "value": "Bollard-Halyard-88"}],
    });
    let answer = common::http()
        .patch(&user)
        .bearer_auth(&token)
        .json(&change)
        .send()
        .await
        .unwrap()
        .error_for_status()
        .unwrap();
    assert!(!answer.text().await.unwrap().contains("Bollard"));
    let berthing = &arrivals.tide.berthing;
    arrivals
        .tide
        .until("the password", || {
            berthing.lets_log_in("runa.vik@skerry.example", "Bollard-Halyard-88")
        })
        .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_leaver_preempts_a_run() {
    let tide = Tide::watching().await;
    let mut ldap = tide.ldap().await;
    let gone = tide.crew_member(2);
    let id = tide.user(gone).unwrap()["id"].as_str().unwrap().to_owned();
    tide.berthing.take_writes();
    tide.berthing.delay(Duration::from_millis(400));
    let values = |name: &str, value: &str| (name.to_owned(), HashSet::from([value.to_owned()]));
    for n in 0..90 {
        let uid = format!("hand{n}");
        let entry = vec![
            values("objectClass", "inetOrgPerson"),
            values("uid", &uid),
            values("cn", &format!("Hand {n}")),
            values("sn", &format!("Hand{n}")),
            values("givenName", "Hand"),
            values("employeeNumber", &format!("{}", 8000 + n)),
            values("mail", &format!("{uid}@skerry.example")),
        ];
        ldap.add(&format!("uid={uid},ou=Deck,ou=people,{BASE}"), entry)
            .await
            .unwrap()
            .success()
            .unwrap();
    }
    // Some are made, and most of them wait.
    tide.until("a run is on its way", || {
        tide.berthing.user("hand0@skerry.example").is_some()
    })
    .await;
    tide.delete(gone).await;
    tide.until("the leaver", || tide.is_disabled(gone)).await;
    let made = |last: usize| {
        (0..last)
            .filter(|n| {
                tide.berthing
                    .user(&format!("hand{n}@skerry.example"))
                    .is_some()
            })
            .count()
    };
    assert!(
        made(90) < 80,
        "{} were made before the leaver's access ended",
        made(90)
    );
    tide.until("everybody else", || made(90) == 90).await;
    let writes = tide.berthing.take_writes();
    let (of_leaver, last_joiner) = (
        writes.iter().position(|line| line.contains(&id)),
        writes.iter().rposition(|line| line.starts_with("POST")),
    );
    assert!(of_leaver < last_joiner, "{writes:?}");
    assert_eq!(
        writes
            .iter()
            .filter(|line| line.starts_with("POST"))
            .count(),
        90,
        "nobody is made twice"
    );
}

/// Rules by which managers are created before their reports, and whatever is sent to the service is
/// approved at once by somebody else. Returns the token of that operator.
async fn with_batch_approval() -> (Tide, String) {
    let tide = Tide::start().await;
    let (service, rules) = (&tide.service, tide.rules());
    const ASKED: &str = "[[approval]]\nname = \"everything\"\nsystem = \"berthing\"\nmode = \"batch\"\n\n[[approval.level]]\ngroups = [\"harbour masters\"]\n";
    for (name, text) in world::rules() {
        let text = text.replace(
            "= 'identity.manager'",
            "= { value = 'identity.manager', wait_for_target = true }",
        );
        std::fs::write(rules.join(name), text).unwrap();
    }
    std::fs::write(rules.join("approvals.toml"), ASKED).unwrap();
    said(service, &["rules", "publish", rules.to_str().unwrap()], 0);
    tide.berthing.refuse_unknown_managers();
    let bo = service.json(&["operators", "add", "bo", "--group", "harbour masters"])["token"]
        .as_str()
        .unwrap()
        .to_owned();
    said(service, &["run"], 3);
    (tide, bo)
}

#[tokio::test(flavor = "multi_thread")]
async fn a_batch_approval_releases_a_run() {
    let (tide, bo) = with_batch_approval().await;
    nothing_is_sent_before_a_batch_is_approved_and_not_by_its_requester(&tide).await;
    an_approved_batch_is_sent_with_managers_first(&tide, &bo).await;
}

async fn nothing_is_sent_before_a_batch_is_approved_and_not_by_its_requester(tide: &Tide) {
    let service = &tide.service;
    let asked = tide.decisions("approval");
    let id = asked[0]["id"].as_str().unwrap();
    assert!(
        asked.len() == 1 && asked[0]["count"].as_u64().unwrap() > 20,
        "one decision about all: {asked:?}"
    );
    let own = text(&service.client(&["decisions", "approve", id]));
    holds(
        &own,
        &["operators cannot approve a change that they requested"],
    );
    assert_eq!(
        tide.berthing.take_writes().len(),
        0,
        "nothing is sent before the approval"
    );
}

/// Many are created with their manager.
async fn an_approved_batch_is_sent_with_managers_first(tide: &Tide, bo: &str) {
    let service = &tide.service;
    let before = tide.berthing.count();
    let asked = tide.decisions("approval");
    let id = asked[0]["id"].as_str().unwrap();
    let yes = client(
        &service.url,
        bo,
        &["decisions", "approve", id, "--comment", "the season begins"],
        "",
    );
    assert!(yes.status.success(), "{}", text(&yes));
    service.client(&["run"]);
    let failed = tide.decisions("failed");
    assert!(
        tide.berthing.count() > before + 20 && failed.is_empty(),
        "{failed:?}"
    );
    let reports = |user: &&Value| {
        user["urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"]["manager"]["value"]
            .is_string()
    };
    let with_manager = tide.berthing.users().iter().filter(reports).count();
    assert!(with_manager > 5, "{with_manager}");
    holds(
        &said(service, &["journal", "list", "--limit", "500"], 0),
        &["approval.yes"],
    );
}

/// It is polled until it is done, and not sent twice.
async fn a_request_that_the_target_queues_is_polled(tide: &Tide) {
    let (service, person) = (&tide.service, tide.crew_member(5));
    tide.berthing.take_writes();
    tide.berthing.mischief_on_writes(&[Mischief::Queue]);
    tide.edit(person, "title", "Harbour Pilot").await;
    tide.until("it is queued", || {
        said_of_last(service).contains("accepted")
    })
    .await;
    tide.until("it is done", || tide.has_title(person, "Harbour Pilot"))
        .await;
    tide.until("it is settled", || {
        !said_of_last(service).contains("accepted")
    })
    .await;
    let writes = tide.berthing.take_writes();
    assert_eq!(writes.len(), 1, "polling writes nothing: {writes:?}");
}

/// Two systems that are both source and target, each the authority of another value; both watched.
async fn both_ways() -> Tide {
    let tide = Tide::start().await;
    let (service, rules) = (&tide.service, tide.rules());
    let edit = |file: &str, change: &dyn Fn(String) -> String| {
        let path = rules.join(file);
        std::fs::write(&path, change(std::fs::read_to_string(&path).unwrap())).unwrap();
    };
    edit("identities.toml", &|text| {
        text.replace(
            "phones         = { multi_valued = true }",
            "phones = { multi_valued = true, authority = [\"berthing\"], exclusive = true }",
        )
    });
    edit("berthing.toml", &|text| {
        text + "\n[person.inbound]\nphones = 'values(account.phoneNumbers.work)'\n"
    });
    edit("harbour.toml", &|text| {
        text + "\n[person.outbound]\ntelephoneNumber = 'identity.phones'\n"
    });
    let published = tide.publish();
    holds(
        &published,
        &[
            "read required: type person of berthing was never read in full: `eager-tide systems read berthing`",
        ],
    );
    said(
        service,
        &["systems", "set", "harbour", "--writable", "person"],
        0,
    );
    said(service, &["systems", "read", "berthing"], 0);
    assert!(
        !said(service, &["rules", "show"], 0).contains("of berthing was never read"),
        "it is offered while it is needed"
    );
    tide.watch("harbour", &[]);
    tide.listening().await;
    tide.rested().await;
    tide.watch("berthing", &["--poll-interval", "1s"]);
    let state = |system: &str| {
        service.json(&["systems", "schedule", system])["watchers"][0]["state"].clone()
    };
    tide.until("both listen", || {
        state("harbour") == "watching" && state("berthing") == "waiting"
    })
    .await;
    tide
}

fn work_phone(number: &str) -> Value {
    serde_json::json!({"op": "replace", "path": "phoneNumbers", "value": [{"type": "work", "value": number}]})
}

#[tokio::test(flavor = "multi_thread")]
async fn two_systems_are_source_and_target() {
    let tide = both_ways().await;
    values_flow_both_ways(&tide).await;
    the_authority_of_a_value_decides_and_it_settles(&tide).await;
    the_age_of_data_and_a_schedule_that_is_too_short_are_shown(&tide).await;
}

/// A value edited in one system reaches the other.
async fn values_flow_both_ways(tide: &Tide) {
    let person = tide.crew_member(0);
    tide.edit(person, "title", "Harbour Pilot").await;
    tide.until("the title", || tide.has_title(person, "Harbour Pilot"))
        .await;
    tide.patch(person, work_phone("+2985550199")).await;
    phones_are(tide, person, &["+2985550199"]).await;
}

/// What the authority does not supply is reverted and does not travel; what it removes is removed.
async fn the_authority_of_a_value_decides_and_it_settles(tide: &Tide) {
    let (service, person) = (&tide.service, tide.crew_member(0));
    tide.patch(person, work_phone("+2985550199")).await;
    phones_are(tide, person, &["+2985550199"]).await;
    tide.edit(person, "telephoneNumber", "+2985550000").await;
    phones_are(tide, person, &["+2985550199"]).await;
    let phone = |user: Value| user["phoneNumbers"][0]["value"].clone();
    assert_eq!(tide.user(person).map(phone), Some("+2985550199".into()));
    let removal = serde_json::json!({"op": "remove", "path": "phoneNumbers"});
    tide.patch(person, removal).await;
    phones_are(tide, person, &[]).await;
    polls_complete(tide, "berthing", 2).await;
    let before = tide.run_count();
    tide.berthing.take_writes();
    polls_complete(tide, "berthing", 3).await;
    assert_eq!(
        tide.run_count(),
        before,
        "it rests: {}",
        said(service, &["changes", "list"], 0)
    );
    assert_eq!(tide.berthing.take_writes(), Vec::<String>::new());
    assert_eq!(
        service.json(&["preview"])["changes"]
            .as_array()
            .map_or(0, Vec::len),
        0
    );
}

/// The age of the data, and an interval that is shorter than a poll.
async fn the_age_of_data_and_a_schedule_that_is_too_short_are_shown(tide: &Tide) {
    let (service, person) = (&tide.service, tide.crew_member(0));
    let why = said(service, &["why", &person.number], 0);
    holds(
        &why,
        &["data     live: changes are watched", "data     as of 20"],
    );
    let berthing = || said(service, &["systems", "schedule", "berthing"], 0);
    tide.berthing.delay(Duration::from_millis(1500));
    let warning = "but is scheduled every 1 s: choose a longer interval";
    tide.until("the warning", || berthing().contains(warning))
        .await;
    holds(&berthing(), &["Schedule warning (person)"]);
}

/// Waits until this number of further polls of a system was completed.
async fn polls_complete(tide: &Tide, system: &str, polls: usize) {
    let next = || {
        let schedule = tide.service.json(&["systems", "schedule", system]);
        schedule["watchers"][0]["next_poll_at"]
            .as_str()
            .map(str::to_owned)
    };
    let mut last = next();
    for _ in 0..polls {
        let later = async || next().filter(|next| Some(next) != last.as_ref());
        last = Some(eventually(PATIENCE, later).await.expect("another poll"));
    }
}

/// Waits until the directory holds these telephone numbers of somebody.
async fn phones_are(tide: &Tide, person: &Crew, wanted: &[&str]) {
    let mut ldap = tide.ldap().await;
    let mut last = Vec::new();
    let phones_match = eventually(PATIENCE, async || {
        let found = ldap
            .search(
                &person.dn(),
                ldap3::Scope::Base,
                "(objectClass=*)",
                vec!["telephoneNumber"],
            )
            .await
            .unwrap();
        let entry = ldap3::SearchEntry::construct(found.success().unwrap().0.remove(0));
        last = entry
            .attrs
            .get("telephoneNumber")
            .cloned()
            .unwrap_or_default();
        (last == wanted).then_some(())
    })
    .await;
    assert!(phones_match.is_some(), "{last:?}\n{}", tide.log());
}

/// What stands of the newest change set.
fn said_of_last(service: &Service) -> String {
    service.json(&["changes", "list"])[0].to_string()
}
