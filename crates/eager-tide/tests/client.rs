//! The client's answers on the demo's data: what a person reads, what a program reads, and how it
//! ends.
#![allow(clippy::disallowed_methods, reason = "tests run in real time")]
#![allow(clippy::unwrap_used)]

mod common;

use common::{Service, client, connect, text};
use tide_standins::directory::Directory;
use tide_standins::scim_service::{Mischief, ScimService};
use tide_standins::world;

const PASSWORD: &str = "harbour-secret";

struct Set {
    _folder: tempfile::TempDir,
    service: Service,
    harbour: Directory,
    berthing: ScimService,
    people: Vec<world::Crew>,
}

async fn start() -> Set {
    let folder = tempfile::tempdir().unwrap();
    let people = world::people(world::SEED, world::PEOPLE);
    let harbour = Directory::start(&world::directory(&people, PASSWORD), PASSWORD)
        .await
        .unwrap();
    let berthing = ScimService::start(world::berthing(&people), "berth-token")
        .await
        .unwrap();
    let service = Service::start(&folder.path().join("data"));
    Set {
        _folder: folder,
        service,
        harbour,
        berthing,
        people,
    }
}

fn said(service: &Service, arguments: &[&str], code: i32) -> String {
    let output = service.client(arguments);
    let said = text(&output);
    assert_eq!(output.status.code(), Some(code), "{arguments:?}: {said}");
    said
}

#[tokio::test(flavor = "multi_thread")]
async fn an_empty_service_says_what_to_do_first() {
    let set = start().await;
    let service = &set.service;
    let status = said(service, &["status"], 0);
    assert!(
        status.contains("No system is connected yet.") && status.contains("eager-tide systems add"),
        "{status}"
    );
    assert!(status.contains("none published yet"), "{status}");
    assert!(said(service, &["preview"], 1).contains("eager-tide rules publish FOLDER"));
    assert!(said(service, &["rules", "show"], 0).contains("no rules were published yet"));
    assert!(said(service, &["changes", "list"], 0).contains("eager-tide preview"));
    assert!(said(service, &["identities", "list"], 0).contains("the first run creates them"));
    assert!(
        said(service, &["systems", "show", "nowhere"], 1).contains("there is no system `nowhere`")
    );
    assert!(said(service, &["changes", "show", "77"], 1).contains("there is no change set `77`"));
    assert!(said(service, &["identities", "show", "../../me"], 1).contains("error:"));
    assert!(said(service, &["rules", "check", "/no/such/folder"], 1).contains("cannot be read"));
    assert!(said(service, &["systems", "set", "harbour"], 1).contains("no change given"));
}

/// The service with its systems connected, and nothing read.
async fn connected() -> Set {
    let set = start().await;
    connect(
        &set.service,
        &set.harbour,
        &set.berthing,
        set._folder.path(),
    );
    set
}

/// The same after a preview (change set 1), a run that was held (2), and one that sent all (3).
async fn synchronized() -> Set {
    let set = connected().await;
    said(&set.service, &["preview"], 0);
    said(&set.service, &["run"], 3);
    arm(&set.service);
    said(&set.service, &["run"], 0);
    set
}

fn arm(service: &Service) {
    said(
        service,
        &["systems", "set", "berthing", "--writable", "person"],
        0,
    );
    said(service, &["systems", "arm", "berthing"], 0);
}

#[tokio::test(flavor = "multi_thread")]
async fn systems_are_listed_tested_and_read() {
    let set = connected().await;
    let service = &set.service;
    let list = said(service, &["systems", "list"], 0);
    let head = list.lines().next().unwrap();
    for word in ["SYSTEM", "HEALTH", "ACCOUNTS", "ACCESS"] {
        assert!(head.contains(word), "{list}");
    }
    assert!(
        list.contains("read-only") && list.contains("healthy"),
        "{list}"
    );
    let checked = said(service, &["systems", "test", "harbour"], 0);
    for step in [
        "Name resolves",
        "Port answers",
        "Bind accepted",
        "Base DN readable",
        "First entries",
    ] {
        assert!(
            checked
                .lines()
                .any(|line| line.starts_with("ok") && line.contains(step)),
            "{checked}"
        );
    }
    assert!(
        said(service, &["systems", "show", "berthing", "--schema"], 0)
            .contains("enterprise.employeeNumber")
    );
    assert!(
        said(service, &["systems", "read", "harbour"], 0)
            .contains("306 accounts of type person, 0 newly absent")
    );
    assert!(
        said(
            service,
            &["systems", "accounts", "harbour", "--search", "kiosk"],
            0
        )
        .matches("uid=kiosk")
        .count()
            == 4
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn rules_are_shown_and_exported_as_they_were_written() {
    let set = connected().await;
    let service = &set.service;
    let rules = said(service, &["rules", "show"], 0);
    for part in [
        "lookup(\"departments\", account.departmentNumber, \"Unassigned\")",
        "except",
        "links automatically",
        "at most 20 per run",
    ] {
        assert!(rules.contains(part), "{part} in {rules}");
    }
    let export = set._folder.path().join("exported");
    said(service, &["rules", "export", export.to_str().unwrap()], 0);
    for (name, text) in world::rules_of_people() {
        assert_eq!(
            std::fs::read_to_string(export.join(name)).unwrap(),
            text,
            "{name} comes back as it was, comments and all"
        );
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_preview_shows_everything_and_a_run_without_write_access_is_held() {
    let set = connected().await;
    let service = &set.service;
    // A preview of a read-only target shows what would be done, and a run then says that it is
    // held.
    let preview = said(service, &["preview", "--each", "11"], 0);
    for part in [
        "new accounts",
        "ambiguous: 2 accounts match",
        "nothing was written",
        "… and 163 more",
        "address outside our domain",
    ] {
        assert!(preview.contains(part), "{part} in {preview}");
    }
    assert!(
        said(service, &["run"], 3).contains("berthing is read-only for type person"),
        "held changes end with 3"
    );
    assert!(
        said(
            service,
            &["systems", "set", "berthing", "--writable", "persons"],
            2
        )
        .contains("possible values: person, service, group")
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn an_expression_is_tried_on_a_record_before_it_stands_in_a_rule() {
    let set = connected().await;
    let service = &set.service;
    said(service, &["preview"], 0);
    let tried = said(
        service,
        &[
            "rules",
            "evaluate",
            "lower(trim(account.mail))",
            "--on",
            "1004",
            "--system",
            "harbour",
        ],
        0,
    );
    assert!(
        tried.contains("account.mail")
            && tried.contains("lower(trim(account.mail))")
            && tried.contains("= "),
        "{tried}"
    );
    let typo = said(
        service,
        &[
            "rules",
            "evaluate",
            "lower(account.mial)",
            "--on",
            "1004",
            "--system",
            "harbour",
        ],
        1,
    );
    assert!(typo.contains("^ ") && typo.contains("mail"), "{typo}");
    assert!(
        said(
            service,
            &["rules", "evaluate", "account.mail", "--on", "1004"],
            1
        )
        .contains("account")
    );
    assert!(
        said(
            service,
            &[
                "rules",
                "evaluate",
                "identity.mail",
                "--on",
                "nobody-is-called-so"
            ],
            1
        )
        .contains("no person matches")
    );
    assert!(
        said(
            service,
            &[
                "rules",
                "evaluate",
                "identity.mail",
                "--on",
                "1004",
                "--system",
                "nowhere"
            ],
            1
        )
        .contains("no system `nowhere`")
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn what_failed_is_decided_again_and_succeeds() {
    let set = connected().await;
    let service = &set.service;
    arm(service);
    set.berthing.mischief_on_writes(&[Mischief::Conflict]);
    let run = said(service, &["run"], 1);
    assert!(
        run.contains(" failed, 0 on hold") && run.contains("HTTP 409") && run.contains("to do"),
        "{run}"
    );
    assert!(
        said(service, &["run"], 0).contains("done, 0 failed, 0 on hold"),
        "what failed is decided again, and succeeds"
    );
    assert!(said(service, &["run"], 0).contains("everything is in sync"));
    let status = said(service, &["status"], 0);
    assert!(
        status.contains("293 active")
            && status.contains("on hold")
            && status.contains("eager-tide holds"),
        "{status}"
    );
    assert!(
        said(service, &["changes", "list", "--failed"], 0).contains("partial"),
        "the run in which something failed is found"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn holds_are_listed_with_who_can_end_them() {
    let set = synchronized().await;
    let service = &set.service;
    let holds = said(service, &["holds"], 3);
    for part in [
        "WHO CAN END IT",
        "missing value",
        "owner of the source",
        "waiting for a value of mail",
        "on hold: ",
    ] {
        assert!(holds.contains(part), "{part} in {holds}");
    }
    let chosen = said(
        service,
        &["holds", "--cause", "missing-value", "--system", "berthing"],
        3,
    );
    assert!(
        chosen.contains("missing value") && !chosen.contains("matches by"),
        "{chosen}"
    );
    assert!(
        said(service, &["holds", "--search", "nobody is called so"], 0)
            .contains("no records on hold")
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn people_are_found_and_explained_as_one_knows_them() {
    let set = synchronized().await;
    let service = &set.service;
    let person = set.people.iter().find(|p| p.family == "D'Amberg").unwrap();
    // People are named as one knows them.
    for who in [person.number.as_str(), person.mail.trim()] {
        said(service, &["identities", "lifecycle", who], 0);
        assert!(said(service, &["identities", "show", who], 0).contains("D'Amberg"));
    }
    assert!(
        said(service, &["identities", "groups", "nobody-of-this-name"], 1)
            .contains("no person matches")
    );
    let why = said(service, &["why", &person.number], 0);
    for part in [
        "D'Amberg",
        "harbour: source",
        "berthing: in sync",
        "match rule",
        "in sync: as normalized by",
        "harbour.toml:",
        "berthing.toml:",
    ] {
        assert!(
            why.contains(part) || (part == "match rule" && why.contains("made by us")),
            "{part} in {why}"
        );
    }
    assert!(
        said(service, &["why", "Old Purser"], 0).contains("its container is not inside ou=people")
    );
    assert!(
        said(service, &["why", "agent@elsewhere.example"], 0)
            .contains("address outside our domain")
    );
    assert!(
        said(service, &["why", "Lind"], 0).contains("people match `Lind`"),
        "many are listed, and not poured out"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn what_happened_to_a_person_is_shown_change_by_change() {
    let set = synchronized().await;
    let service = &set.service;
    let person = set.people.iter().find(|p| p.family == "D'Amberg").unwrap();
    let id = service.json(&["identities", "list", "--search", &person.number])[0]["id"]
        .as_str()
        .unwrap()
        .to_owned();
    let shown = said(service, &["identities", "show", &id], 0);
    assert!(
        shown.contains("links") && shown.contains("history"),
        "{shown}"
    );
    assert!(
        said(service, &["identities", "split", &id, "nowhere"], 1).contains("has no open link")
    );
    assert!(
        said(
            service,
            &["changes", "show", "1", "--verdict", "out-of-scope"],
            0
        )
        .contains("has no employee number")
    );
    assert!(
        said(
            service,
            &["changes", "show", "3", "--values", "--search", "D'Amberg"],
            0
        )
        .contains("BEFORE")
    );
    assert!(said(service, &["changes", "cancel", "1"], 1).contains("is not in progress"));
    assert!(said(service, &["journal", "check"], 0).starts_with("valid:"));
    assert!(
        said(service, &["journal", "list", "--subject", "berthing"], 0).contains("system.state")
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn every_command_answers_programs_in_json() {
    let set = synchronized().await;
    let service = &set.service;
    let person = set.people.iter().find(|p| p.family == "D'Amberg").unwrap();
    let id = service.json(&["identities", "list", "--search", &person.number])[0]["id"]
        .as_str()
        .unwrap()
        .to_owned();
    for arguments in [
        &["status"][..],
        &["systems", "list"],
        &["systems", "show", "harbour"],
        &["systems", "test", "harbour"],
        &["systems", "accounts", "berthing"],
        &["rules", "show"],
        &["changes", "list"],
        &["changes", "show", "1"],
        &["changes", "show", "1", "--values"],
        &["identities", "list"],
        &["identities", "show", &id],
        &["why", &person.number],
        &["journal", "list"],
        &["journal", "check"],
        &["preview", "--without-reading"],
    ] {
        let value = service.json(arguments);
        assert!(
            value.is_object() || value.as_array().is_some_and(|items| !items.is_empty()),
            "{arguments:?}"
        );
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_read_that_breaks_ends_with_its_failure() {
    let set = start().await;
    connect(
        &set.service,
        &set.harbour,
        &set.berthing,
        set._folder.path(),
    );
    set.harbour.temper(tide_standins::directory::Temper {
        cut_after: Some(100),
        ..Default::default()
    });
    let read = said(&set.service, &["systems", "read", "harbour"], 1);
    assert!(
        read.contains("No account counts as absent") && read.contains("to do:"),
        "{read}"
    );
    let shown = said(&set.service, &["systems", "show", "harbour"], 0);
    assert!(
        shown.contains("failed") && shown.contains("last full read failed"),
        "{shown}"
    );
}

#[test]
fn help_versions_and_completions_come_without_a_service() {
    let help = text(&client("", "", &["--help"], ""));
    for command in [
        "serve",
        "demo",
        "status",
        "systems",
        "rules",
        "preview",
        "run",
        "changes",
        "identities",
        "why",
        "journal",
    ] {
        assert!(help.contains(command), "{command} in {help}");
    }
    assert!(help.contains("Exit codes: 0 done · 1 failed · 2 usage · 3 held"));
    assert!(text(&client("", "", &["--version"], "")).starts_with("eager-tide 0."));
    for shell in ["bash", "zsh", "fish"] {
        assert!(
            text(&client("", "", &["completions", shell], "")).contains("eager-tide"),
            "{shell}"
        );
    }
    let mistyped = client("", "", &["preveiw"], "");
    assert_eq!(mistyped.status.code(), Some(2));
    assert!(text(&mistyped).contains("preview"), "{}", text(&mistyped));
    let mut without = std::process::Command::new(common::binary());
    let output = without
        .arg("status")
        .env_remove("EAGER_TIDE_TOKEN")
        .env_remove("EAGER_TIDE_TOKEN_FILE")
        .output()
        .unwrap();
    assert!(
        text(&output).contains("DATA/first-token"),
        "{}",
        text(&output)
    );
}
