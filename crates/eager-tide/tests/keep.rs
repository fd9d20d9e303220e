//! What keeps the records: a backup restored over a world that went on, and a disk that is full or
//! read-only.
#![allow(clippy::disallowed_methods, reason = "tests run in real time")]
#![allow(clippy::unwrap_used)]

mod common;

use common::{Service, connect, holds, said, text};
use ldap3::{Ldap, LdapConnAsync, Mod};
use std::collections::HashSet;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::Duration;
use tide_standins::directory::Directory;
use tide_standins::eventually;
use tide_standins::scim_service::ScimService;
use tide_standins::world::{self, BASE};

async fn ldap(harbour: &Directory) -> Ldap {
    let (connection, mut ldap) = LdapConnAsync::new(&harbour.url).await.unwrap();
    ldap3::drive!(connection);
    ldap.simple_bind(&harbour.admin_dn, "harbour-secret")
        .await
        .unwrap()
        .success()
        .unwrap();
    ldap
}

async fn newcomer(ldap: &mut Ldap, uid: &str, number: &str) {
    let entry = [
        ("objectClass", "inetOrgPerson".to_owned()),
        ("uid", uid.to_owned()),
        ("cn", format!("Hand {uid}")),
        ("sn", uid.to_owned()),
        ("givenName", "Hand".to_owned()),
        ("employeeNumber", number.to_owned()),
        ("mail", format!("{uid}@skerry.example")),
    ];
    let dn = format!("uid={uid},ou=Deck,ou=people,{BASE}");
    let entry = entry
        .into_iter()
        .map(|(name, value)| (name.to_owned(), HashSet::from([value])))
        .collect();
    ldap.add(&dn, entry).await.unwrap().success().unwrap();
}

struct Tide {
    harbour: Directory,
    berthing: ScimService,
    people: Vec<world::Crew>,
}

impl Tide {
    async fn start(count: usize) -> Tide {
        let people = world::people(world::SEED, count);
        let harbour = Directory::start(
            &world::directory(&people, "harbour-secret"),
            "harbour-secret",
        )
        .await
        .unwrap();
        let berthing = ScimService::start(world::berthing(&people), "berth-token")
            .await
            .unwrap();
        Tide {
            harbour,
            berthing,
            people,
        }
    }

    fn connect(&self, service: &Service, folder: &Path) {
        connect(service, &self.harbour, &self.berthing, folder);
        said(
            service,
            &["systems", "set", "berthing", "--writable", "person"],
            0,
        );
        said(service, &["systems", "arm", "berthing"], 0);
    }
}

/// The token that `restore` printed.
fn new_token(printed: &str) -> String {
    let is_token = |line: &&str| line.len() == 64 && line.chars().all(|c| c.is_ascii_hexdigit());
    printed
        .lines()
        .find(is_token)
        .expect("a token is printed")
        .to_owned()
}

#[tokio::test(flavor = "multi_thread")]
async fn pushed_records_count_as_old_after_a_restore_until_they_are_sent_again_or_accepted() {
    let folder = tempfile::tempdir().unwrap();
    let data = folder.path().join("data");
    let mut service = Service::start(&data);
    said(
        &service,
        &["systems", "add", "postroom", "--kind", "push"],
        0,
    );
    let given = |service: &Service| {
        String::from_utf8(service.client(&["systems", "token", "postroom"]).stdout)
            .unwrap()
            .trim()
            .to_owned()
    };
    let send = async |service: &Service, token: &str, event: &str, key: &str| {
        let body = serde_json::json!({"event": event, "key": key, "attributes": {"displayName": format!("Hand {key}")}});
        let url = format!("{}/api/v1/events/postroom", service.url);
        common::http()
            .post(url)
            .bearer_auth(token)
            .json(&body)
            .send()
            .await
            .unwrap()
            .status()
            .as_u16()
    };
    let token = given(&service);
    for key in ["7", "8"] {
        assert_eq!(send(&service, &token, "joiner", key).await, 202);
    }
    let copy = folder.path().join("copy.db");
    let keep = |arguments: &[&str]| {
        Command::new(common::binary())
            .args(arguments)
            .args(["--data", data.to_str().unwrap()])
            .output()
            .unwrap()
    };
    assert!(keep(&["backup", copy.to_str().unwrap()]).status.success());
    assert_eq!(send(&service, &token, "leaver", "8").await, 202);
    assert!(service.running.terminate().success());
    let restored = keep(&["restore", copy.to_str().unwrap()]);
    assert!(restored.status.success(), "{}", text(&restored));
    let mut service = Service::start(&data);
    service.token = new_token(&text(&restored));
    assert_eq!(
        send(&service, &token, "joiner", "7").await,
        401,
        "its token has ended as well"
    );
    let token = given(&service);
    let read = text(&service.client(&["systems", "read", "postroom"]));
    holds(
        &read,
        &[
            "postroom has not sent 2 of its 2 records",
            "systems accept-records postroom",
        ],
    );
    assert_eq!(send(&service, &token, "joiner", "7").await, 202);
    holds(
        &text(&service.client(&["systems", "read", "postroom"])),
        &["postroom has not sent 1 of its 2 records"],
    );
    let accepted = said(&service, &["systems", "accept-records", "postroom"], 0);
    holds(
        &accepted,
        &["postroom counts as read: 1 of its 2 records were not received"],
    );
    said(&service, &["systems", "read", "postroom"], 0);
    holds(
        &said(&service, &["journal", "list"], 0),
        &["system.records-accepted", "restored "],
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_restored_backup_sends_nothing_before_full_reads_and_removes_no_account() {
    let (folder, tide) = (tempfile::tempdir().unwrap(), Tide::start(40).await);
    let data = folder.path().join("data");
    let mut service = Service::start(&data);
    tide.connect(&service, folder.path());
    said(&service, &["run"], 0);
    // When the backup is made, something was read and not sent yet: it is old news later.
    let mut ldap = ldap(&tide.harbour).await;
    let sound: Vec<_> = tide
        .people
        .iter()
        .filter(|p| !p.locked && p.mail.ends_with("@skerry.example") && !p.given.is_empty())
        .collect();
    let titled = |title: &str| {
        vec![Mod::Replace(
            "title".to_owned(),
            HashSet::from([title.to_owned()]),
        )]
    };
    ldap.modify(&sound[0].dn(), titled("Captain of Old"))
        .await
        .unwrap()
        .success()
        .unwrap();
    said(&service, &["systems", "read", "harbour"], 0);
    let copy = folder.path().join("copy.db");
    let keep = |arguments: &[&str]| {
        Command::new(common::binary())
            .args(arguments)
            .args(["--data", data.to_str().unwrap()])
            .output()
            .unwrap()
    };
    let made = keep(&["backup", copy.to_str().unwrap()]);
    assert!(made.status.success(), "{}", text(&made));
    holds(
        &text(&made),
        &[
            "holds the records of",
            "the key that opens its secrets is not in it",
        ],
    );
    let again = keep(&["backup", copy.to_str().unwrap()]);
    holds(&text(&again), &["is there already"]);
    let busy = keep(&["restore", copy.to_str().unwrap()]);
    assert!(!busy.status.success());
    holds(&text(&busy), &["a service works on", "stop it first"]);

    // The world goes on: somebody comes, somebody gets another title, somebody leaves.
    newcomer(&mut ldap, "later.hand", "7001").await;
    ldap.modify(&sound[0].dn(), titled("Commodore"))
        .await
        .unwrap()
        .success()
        .unwrap();
    ldap.delete(&sound[1].dn())
        .await
        .unwrap()
        .success()
        .unwrap();
    said(&service, &["run"], 0);
    let living = tide.berthing.users();
    assert!(tide.berthing.user("later.hand@skerry.example").is_some());
    assert!(service.running.terminate().success());

    let restored = keep(&["restore", copy.to_str().unwrap()]);
    assert!(restored.status.success(), "{}", text(&restored));
    holds(
        &text(&restored),
        &["what was there before is", "every system is disarmed"],
    );
    let kept: Vec<PathBuf> = std::fs::read_dir(&data)
        .unwrap()
        .map(|entry| entry.unwrap().path())
        .collect();
    assert!(
        kept.iter()
            .any(|path| path.to_string_lossy().contains("tide.before-restore-")),
        "{kept:?}"
    );
    let mut service = Service::start(&data);
    // Nobody comes in by what was good when the backup was made: somebody may have lost their
    // rights since.
    let refused = service.client(&["status"]);
    holds(&text(&refused), &["the token is not valid"]);
    service.token = new_token(&text(&restored));
    holds(
        &said(&service, &["journal", "list"], 0),
        &["store.restored"],
    );
    tide.berthing.take_writes();
    let held = said(&service, &["run", "--without-reading"], 3);
    holds(&held, &["not armed"]);
    // Armed by somebody who does not wait: what is known is old, and nothing is sent on it.
    said(&service, &["systems", "arm", "berthing"], 0);
    let stale = said(&service, &["run", "--without-reading"], 3);
    holds(
        &stale,
        &[
            "not read since a backup was restored: berthing, harbour",
            "changes: 0 done",
        ],
    );
    assert_eq!(tide.berthing.take_writes(), Vec::<String>::new());
    // Read whole, it is as if nothing had happened: whoever came meanwhile is joined, nobody is
    // made twice or disabled.
    let run = service.client(&["run"]);
    assert!(run.status.success(), "{}", text(&run));
    let (mut before, mut after) = (living, tide.berthing.users());
    for user in before.iter_mut().chain(after.iter_mut()) {
        user["meta"] = serde_json::Value::Null;
    }
    assert_eq!(before, after, "the living world is as it was");
    let writes = tide.berthing.take_writes();
    assert!(
        writes
            .iter()
            .all(|line| !line.starts_with("POST") && !line.starts_with("DELETE")),
        "{writes:?}"
    );
    assert_eq!(service.json(&["journal", "check"])["is_intact"], true);
    let nonsense = folder.path().join("nonsense.db");
    std::fs::write(
        &nonsense,
        "this is no database, and never was one".repeat(100),
    )
    .unwrap();
    assert!(service.running.terminate().success());
    let refused = keep(&["restore", nonsense.to_str().unwrap()]);
    assert!(!refused.status.success());
    holds(&text(&refused), &["is no backup that can be restored"]);
    let token = service.token.clone();
    let service = Service {
        token,
        ..Service::start(&data)
    };
    said(&service, &["status"], 0);
}

/// A small file system in memory; as root only.
struct Small(PathBuf);

impl Small {
    fn mount(at: &Path, size: &str) -> Option<Small> {
        std::fs::create_dir_all(at).unwrap();
        let done = Command::new("mount")
            .args(["-t", "tmpfs", "-o", &format!("size={size}"), "none"])
            .arg(at)
            .output()
            .ok()?;
        done.status.success().then(|| Small(at.to_owned()))
    }

    fn set(&self, option: &str) {
        let done = Command::new("mount")
            .args(["-o", &format!("remount,{option}")])
            .arg(&self.0)
            .output()
            .unwrap();
        assert!(done.status.success(), "{}", text(&done));
    }
}

impl Drop for Small {
    fn drop(&mut self) {
        let _ = Command::new("umount").arg("-l").arg(&self.0).output();
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_full_or_read_only_disk_stops_sending_and_recovers() {
    let (folder, tide) = (tempfile::tempdir().unwrap(), Tide::start(60).await);
    let Some(small) = Small::mount(&folder.path().join("small"), "24m") else {
        println!("NOT RUN: only root can mount a small file system");
        return;
    };
    let data = small.0.join("data");
    let log = "info,tide_engine::storage_backpressure=debug";
    let mut service = Service::start_with(&data, &[], &[("EAGER_TIDE_LOG", log)]);
    tide.connect(&service, folder.path());
    let before = tide.berthing.users().len();
    let http = common::http();
    let ask = async |path: &str| -> (u16, serde_json::Value) {
        let answer = http
            .get(format!("{}{path}", service.url))
            .bearer_auth(&service.token)
            .send()
            .await
            .unwrap();
        (
            answer.status().as_u16(),
            answer.json().await.unwrap_or_default(),
        )
    };
    tide.berthing.delay(Duration::from_millis(150));
    let request = http
        .post(format!("{}/api/v1/change-sets", service.url))
        .bearer_auth(&service.token);
    let begun: serde_json::Value = request
        .json(&serde_json::json!({"kind": "run"}))
        .send()
        .await
        .unwrap()
        .json()
        .await
        .unwrap();
    let run = format!("/api/v1/change-sets/{}", begun["id"]);
    let until = async |what: &str, holds: &dyn Fn(&serde_json::Value) -> bool| {
        let set = eventually(Duration::from_secs(60), async || {
            let set = ask(&run).await.1;
            holds(&set).then_some(set)
        })
        .await;
        match set {
            Some(set) => set,
            None => panic!("{what}: {}", ask(&run).await.1),
        }
    };
    let done = |set: &serde_json::Value| {
        set["states"]
            .as_array()
            .unwrap()
            .iter()
            .find(|c| c["state"] == "done")
            .map_or(0, |c| c["count"].as_i64().unwrap())
    };
    until("some are done", &|set| done(set) > 5).await;

    // Somebody fills the disk.
    let filler = small.0.join("filler");
    let fill = |filler: &Path| {
        let mut file = std::fs::File::create(filler).unwrap();
        let block = vec![0u8; 4096];
        while std::io::Write::write_all(&mut file, &block).is_ok() {}
    };
    fill(&filler);
    let stalled = until("it says so", &|set| {
        set["note"]
            .as_str()
            .is_some_and(|note| note.contains("the records cannot be written"))
    })
    .await;
    assert!(stalled["ended_at"].is_null());
    assert_eq!(ask("/readyz").await.0, 503);
    assert_eq!(ask("/healthz").await.0, 200);
    holds(
        &said(&service, &["status"], 3),
        &[
            "CRITICAL  The records cannot be written: nothing is sent.",
            "free disk space",
        ],
    );
    // What was on its way when the disk filled has arrived once another attempt was made.
    let attempts = async |count: usize| {
        let made = || {
            let lines = service.running.lines.lock().unwrap();
            let still = "the records still cannot be written";
            lines.iter().filter(|line| line.contains(still)).count()
        };
        let wanted = made() + count;
        eventually(Duration::from_secs(60), async || {
            (made() >= wanted).then_some(())
        })
        .await
        .expect("another attempt");
    };
    attempts(1).await;
    tide.berthing.take_writes();
    attempts(2).await;
    assert_eq!(
        tide.berthing.take_writes(),
        Vec::<String>::new(),
        "what is not stored is not sent"
    );
    std::fs::remove_file(&filler).unwrap();
    let more = done(&stalled) + 5;
    until("it goes on", &|set| done(set) >= more).await;

    // And the file system turns read-only under it, which is how a broken disk looks. An open file
    // for writing keeps it from that, so it is killed first, as a machine that breaks would be.
    service.running.kill();
    small.set("ro");
    let broken = Command::new(common::binary())
        .args([
            "serve",
            "--listen",
            "127.0.0.1:0",
            "--data",
            data.to_str().unwrap(),
        ])
        .output()
        .unwrap();
    assert!(!broken.status.success());
    holds(&text(&broken), &["cannot be written"]);
    small.set("rw");
    tide.berthing.delay(Duration::ZERO);
    let service = Service::start(&data);
    let ask = async |path: &str| -> serde_json::Value {
        http.get(format!("{}{path}", service.url))
            .bearer_auth(&service.token)
            .send()
            .await
            .unwrap()
            .json()
            .await
            .unwrap()
    };
    let ended = eventually(Duration::from_secs(60), async || {
        let set = ask(&run).await;
        (!set["ended_at"].is_null()).then_some(set)
    })
    .await
    .expect("the run ends");
    assert_eq!(ended["state"], "done", "{ended}");
    let created = ended["verdicts"]
        .as_array()
        .unwrap()
        .iter()
        .find(|c| c["verdict"] == "create")
        .unwrap()["count"]
        .as_u64()
        .unwrap() as usize;
    assert_eq!(
        tide.berthing.users().len(),
        before + created,
        "nobody is missing and nobody is there twice"
    );
    tide.berthing.take_writes();
    said(&service, &["run"], 0);
    assert_eq!(tide.berthing.take_writes(), Vec::<String>::new());
    assert_eq!(service.json(&["journal", "check"])["is_intact"], true);
}
