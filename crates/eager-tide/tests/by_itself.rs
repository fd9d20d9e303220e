//! A service that works by itself: a change in a real directory is carried on in moments, by what
//! the directory tells; a deletion too; what it does itself is no news; and nothing is lost when
//! the directory or the service was away.
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

    /// Somebody sound, of whom everything is known.
    fn somebody(&self, at: usize) -> &Crew {
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
        assert!(self.user(self.somebody(9)).is_some());
    }

    async fn listening(&self) {
        self.until("it does not listen", || {
            self.following()["state"] == "watching"
        })
        .await;
    }
}

fn tide_state(runs: &Value) -> String {
    runs[0]["state"].as_str().unwrap_or_default().to_owned()
}

fn set(attribute: &str, value: &str) -> Mod<String> {
    Mod::Replace(attribute.to_owned(), HashSet::from([value.to_owned()]))
}

#[tokio::test(flavor = "multi_thread")]
async fn a_change_is_carried_on_in_moments_and_an_echo_is_no_news() {
    let tide = Tide::start().await;
    let shown = said(&tide.service, &["systems", "schedule", "harbour"], 0);
    holds(
        &shown,
        &["off: `eager-tide systems schedule harbour --watch`"],
    );
    // The target is known before anything is made there.
    said(&tide.service, &["systems", "read", "berthing"], 0);
    let asked = jiff::Timestamp::now();
    said(
        &tide.service,
        &["systems", "schedule", "harbour", "--watch"],
        0,
    );
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

    // A value, a newcomer, a departure: each is there in moments, and nothing else is sent.
    let mut ldap = tide.ldap().await;
    let (changed, gone) = (tide.somebody(0), tide.somebody(1));
    tide.berthing.take_writes();
    ldap.modify(&changed.dn(), vec![set("title", "Harbour Master")])
        .await
        .unwrap()
        .success()
        .unwrap();
    let took = tide
        .until("the title", || {
            tide.user(changed)
                .is_some_and(|user| user["title"] == "Harbour Master")
        })
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
    ldap.delete(&gone.dn()).await.unwrap().success().unwrap();
    tide.until("the departure", || {
        tide.user(gone).is_some_and(|user| user["active"] == false)
    })
    .await;
    let writes: Vec<String> = tide.berthing.take_writes();
    assert_eq!(writes.len(), 3, "{writes:?}");
    let runs = tide.service.json(&["changes", "list"]);
    assert_eq!(runs[0]["is_full"], false);
    let why = said(&tide.service, &["why", &gone.number], 0);
    holds(&why, &["harbour no longer contains"]);

    // Followed both ways: our own writes come back from the service that is asked for what was
    // modified, and are no news.
    said(
        &tide.service,
        &[
            "systems",
            "schedule",
            "berthing",
            "--watch",
            "--poll-interval",
            "1s",
        ],
        0,
    );
    tide.until("berthing is asked", || {
        tide.service.json(&["systems", "schedule", "berthing"])["watchers"][0]["state"] == "waiting"
    })
    .await;
    let count = || {
        tide.service
            .json(&["changes", "list"])
            .as_array()
            .unwrap()
            .len()
    };
    let before = count();
    ldap.modify(&changed.dn(), vec![set("title", "Pilot")])
        .await
        .unwrap()
        .success()
        .unwrap();
    tide.until("the next title", || {
        tide.user(changed)
            .is_some_and(|user| user["title"] == "Pilot")
    })
    .await;
    polls_complete(&tide, "berthing", 3).await;
    assert_eq!(
        count(),
        before + 1,
        "one run: {}",
        said(&tide.service, &["changes", "list"], 0)
    );
    assert_eq!(tide.berthing.take_writes().len(), 1);
    // Drift: what somebody changes there by hand is put right.
    let name = tide.user(changed).unwrap()["userName"]
        .as_str()
        .unwrap()
        .to_owned();
    let id = tide.user(changed).unwrap()["id"]
        .as_str()
        .unwrap()
        .to_owned();
    let patch = serde_json::json!({"schemas": ["urn:ietf:params:scim:api:messages:2.0:PatchOp"], "Operations": [{"op": "replace", "path": "title", "value": "Pirate"}]});
    let url = format!("{}/Users/{id}", tide.berthing.url);
    common::http()
        .patch(&url)
        .bearer_auth("berth-token")
        .json(&patch)
        .send()
        .await
        .unwrap()
        .error_for_status()
        .unwrap();
    tide.until("the drift is put right", || {
        tide.user(changed)
            .is_some_and(|user| user["title"] == "Pilot")
    })
    .await;
    holds(
        &said(&tide.service, &["status"], 0),
        &["an account was changed in berthing by others"],
    );
    assert!(!name.is_empty());
}

#[tokio::test(flavor = "multi_thread")]
async fn nothing_is_lost_while_the_directory_or_the_service_is_away() {
    let mut tide = Tide::start().await;
    said(&tide.service, &["systems", "read", "berthing"], 0);
    said(
        &tide.service,
        &["systems", "schedule", "harbour", "--watch"],
        0,
    );
    tide.listening().await;
    tide.rested().await;
    let enabled = || {
        tide.berthing
            .users()
            .iter()
            .filter(|user| user["active"] == true)
            .count()
    };
    let before = enabled();

    // The service is killed; meanwhile somebody leaves and somebody changes. It goes on from where
    // it was.
    tide.service.running.kill();
    let mut ldap = tide.ldap().await;
    let (changed, gone) = (tide.somebody(2).clone(), tide.somebody(3).clone());
    ldap.modify(&changed.dn(), vec![set("title", "Stoker")])
        .await
        .unwrap()
        .success()
        .unwrap();
    ldap.delete(&gone.dn()).await.unwrap().success().unwrap();
    tide.service = Service::start(&tide.folder.path().join("data"));
    tide.until("the change", || {
        tide.user(&changed)
            .is_some_and(|user| user["title"] == "Stoker")
    })
    .await;
    tide.until("the departure", || {
        tide.user(&gone).is_some_and(|user| user["active"] == false)
    })
    .await;

    // The directory restarts, and has forgotten its log of deletions: everything is read, and
    // nobody is lost by it.
    let last = tide.somebody(4).clone();
    tide.harbour.stop();
    tide.until("it is noticed", || tide.following()["state"] == "failed")
        .await;
    holds(
        &said(&tide.service, &["systems", "schedule", "harbour"], 0),
        &["failed", "next poll"],
    );
    tide.harbour.restart().unwrap();
    let mut ldap = tide.ldap().await;
    ldap.delete(&last.dn()).await.unwrap().success().unwrap();
    tide.until("the departure after it", || {
        tide.user(&last).is_some_and(|user| user["active"] == false)
    })
    .await;
    let after = tide
        .berthing
        .users()
        .iter()
        .filter(|user| user["active"] == true)
        .count();
    assert_eq!(after, before - 2, "those who left, and nobody else");

    // A window in which nothing is written: it is said, and kept to; afterwards the change goes.
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
    ldap.modify(&changed.dn(), vec![set("title", "Greaser")])
        .await
        .unwrap()
        .success()
        .unwrap();
    tide.until("the change is held", || {
        let held = tide.service.json(&["holds", "--cause", "paused"]);
        held.to_string().contains("write_blackout")
    })
    .await;
    assert_eq!(tide.user(&changed).unwrap()["title"], "Stoker");
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
    tide.until("the change after the window", || {
        tide.user(&changed)
            .is_some_and(|user| user["title"] == "Greaser")
    })
    .await;
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

    // By modification times the change is found too, and the deletion with the next full read.
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
    ldap.modify(&changed.dn(), vec![set("title", "Donkeyman")])
        .await
        .unwrap()
        .success()
        .unwrap();
    tide.until("the change by its time", || {
        tide.user(&changed)
            .is_some_and(|user| user["title"] == "Donkeyman")
    })
    .await;
    holds(
        &said(&tide.service, &["systems", "schedule", "harbour"], 0),
        &["full reads find deletions"],
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn many_small_runs_are_no_way_around_a_guard_and_a_person_decides() {
    let tide = Tide::start().await;
    let rules = tide.folder.path().join("rules");
    std::fs::write(
        rules.join("guards.toml"),
        "[[guard]]\nsystem = \"berthing\"\nchange = \"disable\"\nmax_count = 2\n",
    )
    .unwrap();
    said(
        &tide.service,
        &["rules", "publish", rules.to_str().unwrap()],
        0,
    );
    said(&tide.service, &["systems", "read", "berthing"], 0);
    said(
        &tide.service,
        &["systems", "schedule", "harbour", "--watch"],
        0,
    );
    tide.rested().await;
    // The first guard of this kind: what else waits is not about it.
    let guard = || {
        let all = tide.service.client(&["decisions", "list", "-o", "json"]);
        let all: Vec<Value> = serde_json::from_slice(&all.stdout).unwrap();
        all.into_iter().find(|one| one["kind"] == "guard")
    };
    let mut ldap = tide.ldap().await;
    let gone = |at: usize| {
        tide.user(tide.somebody(at))
            .is_some_and(|user| user["active"] == false)
    };
    for at in 0..2 {
        ldap.delete(&tide.somebody(at).dn())
            .await
            .unwrap()
            .success()
            .unwrap();
        tide.until("a departure below the limit", || gone(at)).await;
    }
    // Each departure is a run of its own, and the third is one too many for a day; a harmless
    // change goes on.
    ldap.delete(&tide.somebody(2).dn())
        .await
        .unwrap()
        .success()
        .unwrap();
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
    ldap.modify(&tide.somebody(5).dn(), vec![set("title", "Bosun")])
        .await
        .unwrap()
        .success()
        .unwrap();
    tide.until("the harmless change", || {
        tide.user(tide.somebody(5))
            .is_some_and(|user| user["title"] == "Bosun")
    })
    .await;
    assert!(!gone(2));
    let listed = said(&tide.service, &["decisions", "list"], 3);
    holds(
        &listed,
        &[
            "held by guard",
            "eager-tide decisions release guard-berthing-disable",
        ],
    );

    // What was shown is what is let through: another departure makes it another decision.
    let old = held["id"].as_str().unwrap().to_owned();
    ldap.delete(&tide.somebody(3).dn())
        .await
        .unwrap()
        .success()
        .unwrap();
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
    tide.until("both departures", || gone(2) && gone(3)).await;
    assert!(guard().is_none());

    // Discarded: it stays, until something about it changes.
    ldap.delete(&tide.somebody(4).dn())
        .await
        .unwrap()
        .success()
        .unwrap();
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
    assert!(!gone(4));
    holds(
        &said(&tide.service, &["journal", "list"], 0),
        &["guard.release", "guard.discard"],
    );

    // A change that fails for good is parked, and not sent again and again; by hand it is.
    tide.berthing.mischief_on_writes(&[Mischief::Conflict]);
    ldap.modify(&tide.somebody(6).dn(), vec![set("title", "Cook")])
        .await
        .unwrap()
        .success()
        .unwrap();
    let parked = || {
        let all: Vec<Value> = serde_json::from_slice(
            &tide
                .service
                .client(&["decisions", "list", "-o", "json"])
                .stdout,
        )
        .unwrap();
        all.into_iter().find(|one| one["kind"] == "failed")
    };
    tide.until("it is parked", || parked().is_some()).await;
    tide.berthing.take_writes();
    ldap.modify(&tide.somebody(7).dn(), vec![set("title", "Purser")])
        .await
        .unwrap()
        .success()
        .unwrap();
    tide.until("another change", || {
        tide.user(tide.somebody(7))
            .is_some_and(|user| user["title"] == "Purser")
    })
    .await;
    assert_eq!(
        tide.berthing.take_writes().len(),
        1,
        "what is parked is left alone"
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
        tide.user(tide.somebody(6))
            .is_some_and(|user| user["title"] == "Cook")
    })
    .await;
    assert!(parked().is_none());
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_pushed_and_what_arrives_is_carried_on_at_once() {
    let tide = Tide::start().await;
    let folder = tide.folder.path().join("data").join("feeds").join("crew");
    std::fs::create_dir_all(&folder).unwrap();
    let crew = |people: &str| {
        std::fs::write(
            folder.join("crew.csv"),
            format!("number;given;family;mail\n{people}"),
        )
        .unwrap()
    };
    crew("8001;Mette;Sund;mette.sund@skerry.example\n");
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
    let rules = tide.folder.path().join("rules");
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
    said(
        &tide.service,
        &["rules", "publish", rules.to_str().unwrap()],
        0,
    );
    said(&tide.service, &["systems", "read", "berthing"], 0);
    for system in ["crew", "agency"] {
        said(&tide.service, &["systems", "arm", system], 0);
        said(
            &tide.service,
            &["systems", "schedule", system, "--watch"],
            0,
        );
    }
    tide.until("the file's one", || {
        tide.berthing.user("mette.sund@skerry.example").is_some()
    })
    .await;
    // It is looked every second what is to be followed; somebody may have an account before that.
    let says = |system: &str, text: &str| {
        said(&tide.service, &["systems", "schedule", system], 0).contains(text)
    };
    tide.until("the file is waited for", || {
        says("crew", "files are read when they arrive")
    })
    .await;
    tide.until("calls are waited for", || {
        says("agency", "the system pushes")
    })
    .await;
    let token = tide.service.json(&["systems", "token", "agency"])["token"]
        .as_str()
        .unwrap()
        .to_owned();
    let pushed = serde_json::json!({
        "schemas": [tide_scim::USER, tide_scim::ENTERPRISE], "userName": "runa.vik@skerry.example",
        "name": {"givenName": "Runa", "familyName": "Vik"}, "emails": [{"value": "runa.vik@skerry.example", "type": "work"}],
        (tide_scim::ENTERPRISE): {"employeeNumber": "8101"},
    });
    let url = format!("{}/scim/v2/agency/Users", tide.service.url);
    common::http()
        .post(&url)
        .bearer_auth(&token)
        .json(&pushed)
        .send()
        .await
        .unwrap()
        .error_for_status()
        .unwrap();
    tide.until("the pushed one", || {
        tide.berthing.user("runa.vik@skerry.example").is_some()
    })
    .await;
    // A password that the system tells us of reaches the others, and is kept with nothing.
    let user: serde_json::Value = {
        let found = common::http()
            .get(format!("{url}?count=1"))
            .bearer_auth(&token)
            .send()
            .await
            .unwrap()
            .json()
            .await
            .unwrap();
        let found: serde_json::Value = found;
        found["Resources"][0].clone()
    };
    let change = serde_json::json!({
        "schemas": [tide_scim::PATCH_OP], "Operations": [{"op": "replace", "path": "password", "value": "Bollard-Halyard-88"}],
    });
    let one = format!("{url}/{}", user["id"].as_str().unwrap());
    let answer = common::http()
        .patch(&one)
        .bearer_auth(&token)
        .json(&change)
        .send()
        .await
        .unwrap()
        .error_for_status()
        .unwrap();
    assert!(!answer.text().await.unwrap().contains("Bollard"));
    tide.until("the password", || {
        tide.berthing
            .lets_log_in("runa.vik@skerry.example", "Bollard-Halyard-88")
    })
    .await;
    // A file that arrives is read when it stands still.
    crew(
        "8001;Mette;Sund;mette.sund@skerry.example\n8002;Olai;Brough;olai.brough@skerry.example\n",
    );
    tide.until("the newcomer of the file", || {
        tide.berthing.user("olai.brough@skerry.example").is_some()
    })
    .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_leaver_preempts_a_run() {
    let tide = Tide::start().await;
    said(&tide.service, &["systems", "read", "berthing"], 0);
    said(
        &tide.service,
        &["systems", "schedule", "harbour", "--watch"],
        0,
    );
    tide.listening().await;
    tide.rested().await;
    let mut ldap = tide.ldap().await;
    let gone = tide.somebody(2);
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
    ldap.delete(&gone.dn()).await.unwrap().success().unwrap();
    tide.until("the leaver", || {
        tide.user(gone).is_some_and(|user| user["active"] == false)
    })
    .await;
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

/// One question about a whole run, answered by whoever did not ask; a target that wants to see
/// managers before their reports; and one that takes a request into a queue of its own.
#[tokio::test(flavor = "multi_thread")]
async fn a_batch_approval_releases_the_run_which_sends_managers_first_and_polls_the_queue() {
    let tide = Tide::start().await;
    let (service, rules) = (&tide.service, tide.folder.path().join("rules"));
    const ASKED: &str = "[[approval]]\nname = \"everything\"\nsystem = \"berthing\"\nmode = \"batch\"\n\n[[approval.level]]\ngroups = [\"harbour masters\"]\n";
    for (name, text) in world::rules() {
        // Whoever manages somebody is there before them; groups are not what this is about.
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
    let before = tide.berthing.count();
    let waits = |kind: &str| -> Vec<Value> {
        let all: Vec<Value> =
            serde_json::from_slice(&service.client(&["decisions", "list", "-o", "json"]).stdout)
                .unwrap();
        all.into_iter().filter(|one| one["kind"] == kind).collect()
    };
    let asked = waits("approval");
    let id = asked[0]["id"].as_str().unwrap();
    assert!(
        asked.len() == 1 && asked[0]["count"].as_u64().unwrap() > 20,
        "one question about all: {asked:?}"
    );
    let own = text(&service.client(&["decisions", "approve", id]));
    holds(
        &own,
        &["operators cannot approve a change that they requested"],
    );
    assert_eq!(
        tide.berthing.take_writes().len(),
        0,
        "nothing is sent before the yes"
    );
    let yes = client(
        &service.url,
        &bo,
        &["decisions", "approve", id, "--comment", "the season begins"],
        "",
    );
    assert!(yes.status.success(), "{}", text(&yes));
    service.client(&["run"]);
    assert!(
        tide.berthing.count() > before + 20 && waits("failed").is_empty(),
        "{:?}",
        waits("failed")
    );
    let reports = |user: &&Value| {
        user["urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"]["manager"]["value"]
            .is_string()
    };
    assert!(
        tide.berthing.users().iter().filter(reports).count() > 5,
        "many are made with their manager"
    );
    holds(
        &said(service, &["journal", "list", "--limit", "500"], 0),
        &["approval.yes"],
    );

    // A request that the service queues is asked about until it is done, and is not sent twice.
    std::fs::remove_file(rules.join("approvals.toml")).unwrap();
    said(service, &["rules", "publish", rules.to_str().unwrap()], 0);
    service.client(&["run"]);
    said(service, &["systems", "schedule", "harbour", "--watch"], 0);
    tide.listening().await;
    tide.until("it rests", || {
        service
            .json(&["changes", "list"])
            .as_array()
            .unwrap()
            .iter()
            .all(|set| !set["ended_at"].is_null())
    })
    .await;
    tide.berthing.take_writes();
    tide.berthing.mischief_on_writes(&[Mischief::Queue]);
    tide.ldap()
        .await
        .modify(&tide.somebody(5).dn(), vec![set("title", "Harbour Pilot")])
        .await
        .unwrap()
        .success()
        .unwrap();
    tide.until("it is queued", || {
        said_of_last(service).contains("accepted")
    })
    .await;
    tide.until("it is done", || {
        tide.user(tide.somebody(5))
            .is_some_and(|user| user["title"] == "Harbour Pilot")
    })
    .await;
    tide.until("it is settled", || {
        !said_of_last(service).contains("accepted")
    })
    .await;
    let writes = tide.berthing.take_writes();
    assert_eq!(writes.len(), 1, "asking writes nothing: {writes:?}");
}

/// Two systems feed and are fed, each the authority of another value: what is edited in one reaches
/// the other, what the authority does not say is put right, and then it rests.
#[tokio::test(flavor = "multi_thread")]
async fn values_flow_both_ways_and_come_to_rest() {
    let tide = Tide::start().await;
    let (service, rules) = (&tide.service, tide.folder.path().join("rules"));
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
    let published = said(service, &["rules", "publish", rules.to_str().unwrap()], 0);
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
    said(service, &["systems", "schedule", "harbour", "--watch"], 0);
    tide.listening().await;
    tide.rested().await;
    said(
        service,
        &[
            "systems",
            "schedule",
            "berthing",
            "--watch",
            "--poll-interval",
            "1s",
        ],
        0,
    );
    let state = |system: &str| {
        service.json(&["systems", "schedule", system])["watchers"][0]["state"].clone()
    };
    tide.until("both listen", || {
        state("harbour") == "watching" && state("berthing") == "waiting"
    })
    .await;

    let mut ldap = tide.ldap().await;
    let person = tide.somebody(0);
    // The directory's own value reaches the service.
    ldap.modify(&person.dn(), vec![set("title", "Harbour Pilot")])
        .await
        .unwrap()
        .success()
        .unwrap();
    tide.until("the title", || {
        tide.user(person)
            .is_some_and(|user| user["title"] == "Harbour Pilot")
    })
    .await;
    // The service's own value reaches the directory.
    let url = format!(
        "{}/Users/{}",
        tide.berthing.url,
        tide.user(person).unwrap()["id"].as_str().unwrap()
    );
    let patch = serde_json::json!({"schemas": ["urn:ietf:params:scim:api:messages:2.0:PatchOp"],
        "Operations": [{"op": "replace", "path": "phoneNumbers", "value": [{"type": "work", "value": "+2985550199"}]}]});
    common::http()
        .patch(&url)
        .bearer_auth("berth-token")
        .json(&patch)
        .send()
        .await
        .unwrap()
        .error_for_status()
        .unwrap();
    phones_are(&tide, person, &["+2985550199"]).await;
    // Whoever is not the authority is put right, and nothing goes round.
    ldap.modify(&person.dn(), vec![set("telephoneNumber", "+2985550000")])
        .await
        .unwrap()
        .success()
        .unwrap();
    phones_are(&tide, person, &["+2985550199"]).await;
    let phone = |user: Value| user["phoneNumbers"][0]["value"].clone();
    assert_eq!(
        tide.user(person).map(phone),
        Some("+2985550199".into()),
        "what somebody wrote there does not travel"
    );
    // What the authority takes away is gone, though the directory still had it.
    let patch = serde_json::json!({"schemas": ["urn:ietf:params:scim:api:messages:2.0:PatchOp"], "Operations": [{"op": "remove", "path": "phoneNumbers"}]});
    common::http()
        .patch(&url)
        .bearer_auth("berth-token")
        .json(&patch)
        .send()
        .await
        .unwrap()
        .error_for_status()
        .unwrap();
    phones_are(&tide, person, &[]).await;
    let count = || service.json(&["changes", "list"]).as_array().unwrap().len();
    polls_complete(&tide, "berthing", 2).await;
    let before = count();
    tide.berthing.take_writes();
    polls_complete(&tide, "berthing", 3).await;
    assert_eq!(
        count(),
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

    // How old what is known is, and a pause that is shorter than what happens in it.
    let why = said(service, &["why", &person.number], 0);
    holds(
        &why,
        &["data     live: changes are watched", "data     as of 20"],
    );
    let berthing = || said(service, &["systems", "schedule", "berthing"], 0);
    assert!(!berthing().contains("Schedule warning"), "{}", berthing());
    tide.berthing.delay(Duration::from_millis(1500));
    tide.until("it is told", || {
        berthing().contains("Schedule warning (person)")
    })
    .await;
    holds(
        &berthing(),
        &["but is scheduled every 1 s: choose a longer interval"],
    );
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
