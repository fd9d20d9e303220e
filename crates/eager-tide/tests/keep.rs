//! What keeps the records: a backup restored over a world that went on, and a disk that is full or
//! read-only.
#![allow(clippy::disallowed_methods, reason = "tests run in real time")]
#![allow(clippy::unwrap_used)]

mod common;

use common::{Service, client, connect, holds, said, text};
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

/// A service that is backed up and restored.
struct Backup {
    folder: tempfile::TempDir,
    tide: Tide,
    service: Service,
}

impl Backup {
    /// After the first run. When the backup is made, a change was read and not sent yet.
    async fn prepare() -> Backup {
        let (folder, tide) = (tempfile::tempdir().unwrap(), Tide::start(40).await);
        let service = Service::start(&folder.path().join("data"));
        tide.connect(&service, folder.path());
        said(&service, &["run"], 0);
        let backup = Backup {
            folder,
            tide,
            service,
        };
        backup.edit_title("Captain of Old").await;
        said(&backup.service, &["systems", "read", "harbour"], 0);
        backup
    }

    fn data(&self) -> PathBuf {
        self.folder.path().join("data")
    }

    fn copy(&self) -> String {
        let copy = self.folder.path().join("copy.db");
        copy.to_str().unwrap().to_owned()
    }

    /// `backup` or `restore` with a file, on the data of the service.
    fn keep(&self, command: &str, file: &str) -> std::process::Output {
        Command::new(common::binary())
            .args([command, file, "--data", self.data().to_str().unwrap()])
            .output()
            .unwrap()
    }

    fn complete_people(&self) -> Vec<&world::Crew> {
        let people = self.tide.people.iter();
        people
            .filter(|p| !p.locked && p.mail.ends_with("@skerry.example") && !p.given.is_empty())
            .collect()
    }

    async fn edit_title(&self, title: &str) {
        let titled = vec![Mod::Replace(
            "title".to_owned(),
            HashSet::from([title.to_owned()]),
        )];
        let mut ldap = ldap(&self.tide.harbour).await;
        ldap.modify(&self.complete_people()[0].dn(), titled)
            .await
            .unwrap()
            .success()
            .unwrap();
    }

    /// After the backup, a person comes, one gets another title, and one leaves.
    async fn live_on(&self) {
        let mut ldap = ldap(&self.tide.harbour).await;
        newcomer(&mut ldap, "later.hand", "7001").await;
        self.edit_title("Commodore").await;
        ldap.delete(&self.complete_people()[1].dn())
            .await
            .unwrap()
            .success()
            .unwrap();
        said(&self.service, &["run"], 0);
    }

    /// Stops the service, restores the backup and starts it with the new token.
    fn restore(&mut self) -> String {
        assert!(self.service.running.terminate().success());
        let restored = self.keep("restore", &self.copy());
        assert!(restored.status.success(), "{}", text(&restored));
        let said = text(&restored);
        self.service = Service::start(&self.data());
        self.service.token = new_token(&said);
        said
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_backup_replaces_no_file_and_no_running_service() {
    let backup = Backup::prepare().await;
    let made = backup.keep("backup", &backup.copy());
    assert!(made.status.success(), "{}", text(&made));
    holds(
        &text(&made),
        &[
            "holds the records of",
            "the key that opens its secrets is not in it",
        ],
    );
    let again = backup.keep("backup", &backup.copy());
    holds(&text(&again), &["is there already"]);
    let busy = backup.keep("restore", &backup.copy());
    assert!(!busy.status.success());
    holds(&text(&busy), &["a service works on", "stop it first"]);
}

/// Nor does a token of the time of the backup: its owner may have lost their rights since.
#[tokio::test(flavor = "multi_thread")]
async fn a_restored_backup_keeps_the_data_before_and_accepts_no_old_token() {
    let mut backup = Backup::prepare().await;
    assert!(backup.keep("backup", &backup.copy()).status.success());
    let old_token = backup.service.token.clone();
    let said_of_restore = backup.restore();
    holds(
        &said_of_restore,
        &["what was there before is", "every system is disarmed"],
    );
    let kept: Vec<PathBuf> = std::fs::read_dir(backup.data())
        .unwrap()
        .map(|entry| entry.unwrap().path())
        .collect();
    assert!(
        kept.iter()
            .any(|path| path.to_string_lossy().contains("tide.before-restore-")),
        "{kept:?}"
    );
    let service = &backup.service;
    let refused = client(&service.url, &old_token, &["status"], "");
    holds(&text(&refused), &["the token is not valid"]);
    holds(&said(service, &["journal", "list"], 0), &["store.restored"]);
}

/// The restored data is old: nothing is sent before a full read of every system. After it, who came
/// meanwhile is joined, and nobody is created twice or disabled.
#[tokio::test(flavor = "multi_thread")]
async fn a_restored_backup_sends_nothing_before_full_reads_and_removes_no_account() {
    let mut backup = Backup::prepare().await;
    assert!(backup.keep("backup", &backup.copy()).status.success());
    backup.live_on().await;
    let living = backup.tide.berthing.users();
    let newcomer = backup.tide.berthing.user("later.hand@skerry.example");
    assert!(newcomer.is_some());
    backup.restore();
    let (service, tide) = (&backup.service, &backup.tide);
    tide.berthing.take_writes();
    let held = said(service, &["run", "--without-reading"], 3);
    holds(&held, &["not armed"]);
    said(service, &["systems", "arm", "berthing"], 0);
    let stale = said(service, &["run", "--without-reading"], 3);
    holds(
        &stale,
        &[
            "not read since a backup was restored: berthing, harbour",
            "changes: 0 done",
        ],
    );
    assert_eq!(tide.berthing.take_writes(), Vec::<String>::new());
    let run = service.client(&["run"]);
    assert!(run.status.success(), "{}", text(&run));
    let (mut before, mut after) = (living, tide.berthing.users());
    for user in before.iter_mut().chain(after.iter_mut()) {
        user["meta"] = serde_json::Value::Null;
    }
    assert_eq!(before, after, "the target is as it was");
    let writes = tide.berthing.take_writes();
    assert!(
        writes
            .iter()
            .all(|line| !line.starts_with("POST") && !line.starts_with("DELETE")),
        "{writes:?}"
    );
    assert_eq!(service.json(&["journal", "check"])["is_intact"], true);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_file_that_is_no_backup_is_not_restored() {
    let mut backup = Backup::prepare().await;
    let nonsense = backup.folder.path().join("nonsense.db");
    std::fs::write(
        &nonsense,
        "this is no database, and never was one".repeat(100),
    )
    .unwrap();
    assert!(backup.service.running.terminate().success());
    let refused = backup.keep("restore", nonsense.to_str().unwrap());
    assert!(!refused.status.success());
    holds(&text(&refused), &["is no backup that can be restored"]);
    let service = Service {
        token: backup.service.token.clone(),
        ..Service::start(&backup.data())
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

/// A slow run of a service whose records are on a small file system.
struct SmallDisk {
    small: Small,
    _folder: tempfile::TempDir,
    tide: Tide,
    service: Service,
    http: reqwest::Client,
    run: String,
    users_before: usize,
}

impl SmallDisk {
    /// None, with a note, where the tests do not run as root.
    async fn start() -> Option<SmallDisk> {
        let (folder, tide) = (tempfile::tempdir().unwrap(), Tide::start(60).await);
        let Some(small) = Small::mount(&folder.path().join("small"), "24m") else {
            println!("NOT RUN: only root can mount a small file system");
            return None;
        };
        let log = "info,tide_engine::context::storage=debug";
        let data = small.0.join("data");
        let service = Service::start_with(&data, &[], &[("EAGER_TIDE_LOG", log)]);
        tide.connect(&service, folder.path());
        let users_before = tide.berthing.users().len();
        tide.berthing.delay(Duration::from_millis(150));
        let http = common::http();
        let begun: serde_json::Value = http
            .post(format!("{}/api/v1/change-sets", service.url))
            .bearer_auth(&service.token)
            .json(&serde_json::json!({"kind": "run"}))
            .send()
            .await
            .unwrap()
            .json()
            .await
            .unwrap();
        let disk = SmallDisk {
            small,
            _folder: folder,
            tide,
            service,
            http,
            run: format!("/api/v1/change-sets/{}", begun["id"]),
            users_before,
        };
        disk.until("some are done", |set| done_count(set) > 5).await;
        Some(disk)
    }

    fn data(&self) -> PathBuf {
        self.small.0.join("data")
    }

    async fn ask(&self, path: &str) -> (u16, serde_json::Value) {
        let answer = self
            .http
            .get(format!("{}{path}", self.service.url))
            .bearer_auth(&self.service.token)
            .send()
            .await
            .unwrap();
        let status = answer.status().as_u16();
        (status, answer.json().await.unwrap_or_default())
    }

    /// Waits until the run is as wanted.
    async fn until(
        &self,
        what: &str,
        is_wanted: impl Fn(&serde_json::Value) -> bool,
    ) -> serde_json::Value {
        let set = eventually(Duration::from_secs(60), async || {
            let set = self.ask(&self.run).await.1;
            is_wanted(&set).then_some(set)
        })
        .await;
        match set {
            Some(set) => set,
            None => panic!("{what}: {}", self.ask(&self.run).await.1),
        }
    }

    /// Waits until the service has tried to write its records this many times more.
    async fn until_attempts(&self, count: usize) {
        let made = || {
            let lines = self.service.running.lines.lock().unwrap();
            let still = "the records still cannot be written";
            lines.iter().filter(|line| line.contains(still)).count()
        };
        let wanted = made() + count;
        eventually(Duration::from_secs(60), async || {
            (made() >= wanted).then_some(())
        })
        .await
        .expect("another attempt");
    }

    /// The run ends, and nobody is missing or there twice.
    async fn assert_everything_done_once(&self) {
        let ended = self
            .until("the run ends", |set| !set["ended_at"].is_null())
            .await;
        assert_eq!(ended["state"], "done", "{ended}");
        let mut verdicts = ended["verdicts"].as_array().unwrap().iter();
        let created = verdicts.find(|one| one["verdict"] == "create").unwrap();
        let created = created["count"].as_u64().unwrap() as usize;
        let berthing = &self.tide.berthing;
        assert_eq!(berthing.users().len(), self.users_before + created);
        berthing.take_writes();
        said(&self.service, &["run"], 0);
        assert_eq!(berthing.take_writes(), Vec::<String>::new());
        let checked = self.service.json(&["journal", "check"]);
        assert_eq!(checked["is_intact"], true);
    }
}

fn done_count(set: &serde_json::Value) -> i64 {
    let mut states = set["states"].as_array().unwrap().iter();
    let done = states.find(|one| one["state"] == "done");
    done.map_or(0, |one| one["count"].as_i64().unwrap())
}

/// Writes until the disk is full.
fn fill(filler: &Path) {
    let mut file = std::fs::File::create(filler).unwrap();
    let block = vec![0u8; 4096];
    while std::io::Write::write_all(&mut file, &block).is_ok() {}
}

#[tokio::test(flavor = "multi_thread")]
async fn a_full_disk_stops_sending_and_the_run_continues_when_there_is_space() {
    let Some(disk) = SmallDisk::start().await else {
        return;
    };
    let filler = disk.small.0.join("filler");
    fill(&filler);
    let stalled = disk
        .until("it is reported", |set| {
            let note = set["note"].as_str();
            note.is_some_and(|note| note.contains("the records cannot be written"))
        })
        .await;
    assert!(stalled["ended_at"].is_null());
    assert_eq!(disk.ask("/readyz").await.0, 503);
    assert_eq!(disk.ask("/healthz").await.0, 200);
    holds(
        &said(&disk.service, &["status"], 3),
        &[
            "CRITICAL  The records cannot be written: nothing is sent.",
            "free disk space",
        ],
    );
    // Requests in flight when the disk filled have ended once another attempt was made.
    disk.until_attempts(1).await;
    disk.tide.berthing.take_writes();
    disk.until_attempts(2).await;
    assert_eq!(
        disk.tide.berthing.take_writes(),
        Vec::<String>::new(),
        "what cannot be stored is not sent"
    );
    std::fs::remove_file(&filler).unwrap();
    let more = done_count(&stalled) + 5;
    disk.until("it continues", |set| done_count(set) >= more)
        .await;
    disk.tide.berthing.delay(Duration::ZERO);
    disk.assert_everything_done_once().await;
}

/// A broken disk turns read-only. A file open for writing prevents that here, so the service is
/// killed first, as a breaking machine would do.
#[tokio::test(flavor = "multi_thread")]
async fn a_service_with_a_read_only_disk_does_not_start_and_recovers() {
    let Some(mut disk) = SmallDisk::start().await else {
        return;
    };
    disk.service.running.kill();
    disk.small.set("ro");
    let data = disk.data();
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
    disk.small.set("rw");
    disk.tide.berthing.delay(Duration::ZERO);
    disk.service = Service::start(&data);
    disk.assert_everything_done_once().await;
}
