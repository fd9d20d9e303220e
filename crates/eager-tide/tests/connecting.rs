//! Connecting systems with the client, as its user does it: added, looked at, scoped, armed.
#![allow(clippy::disallowed_methods, reason = "tests run in real time")]
#![allow(clippy::unwrap_used)]

mod common;

use common::{Service, client, holds, said, text};
use tide_standins::scim_service::{CREW, Entrance, Manner, ScimService};
use tide_standins::slapd::Slapd;
use tide_standins::world::{self, BASE};

const PASSWORD: &str = "harbour-secret";

fn typed(service: &Service, arguments: &[&str], secret: &str, code: i32) -> String {
    let output = client(&service.url, &service.token, arguments, secret);
    let said = text(&output);
    assert_eq!(output.status.code(), Some(code), "{arguments:?}: {said}");
    said
}

/// A directory, a service that wants user and password, and Eager Tide, which knows neither.
struct Site {
    folder: tempfile::TempDir,
    people: Vec<world::Crew>,
    slapd: Slapd,
    berthing: ScimService,
    service: Service,
    ca: std::path::PathBuf,
}

impl Site {
    async fn start() -> Site {
        let folder = tempfile::tempdir().unwrap();
        let people = world::people(world::SEED, 120);
        let slapd = Slapd::start(&world::directory(&people, PASSWORD)).unwrap();
        let entrance = Entrance::Basic("tide".into());
        let berthing = ScimService::with_manner(
            world::berthing(&people),
            "berth",
            Manner {
                entrance,
                ..Manner::full()
            },
        )
        .await
        .unwrap();
        let service = Service::start(&folder.path().join("data"));
        let ca = folder.path().join("ca.pem");
        std::fs::write(&ca, &slapd.certificates.ca_pem).unwrap();
        Site {
            folder,
            people,
            slapd,
            berthing,
            service,
            ca,
        }
    }

    /// Adds the directory with this base, and expects an exit code.
    fn add_harbour(&self, base: &str, more: &[&str], code: i32) -> String {
        let bind = format!("cn=eager-tide,ou=services,{BASE}");
        let mut all = vec![
            "systems",
            "add",
            "harbour",
            "--kind",
            "ldap",
            "--address",
            &self.slapd.url,
            "--start-tls",
            "--bind-dn",
            &bind,
        ];
        let ca = self.ca.to_str().unwrap();
        all.extend([
            "--ca",
            ca,
            "--base-dn",
            base,
            "--backup",
            &self.slapd.tls_url,
        ]);
        all.extend(more);
        typed(&self.service, &all, PASSWORD, code)
    }

    /// Adds the directory as a source, with its first rules in draft 1.
    fn with_harbour(&self) -> String {
        let (people_at, kiosks) = (people_at(), format!("ou=Kiosks,{}", people_at()));
        let more = [
            "--as", "source", "--within", &people_at, "--except", &kiosks,
        ];
        self.add_harbour(BASE, &more, 0)
    }

    fn berthing_arguments(&self) -> [&str; 9] {
        [
            "systems",
            "add",
            "berthing",
            "--kind",
            "scim",
            "--address",
            &self.berthing.url,
            "--as",
            "target",
        ]
    }

    /// Adds the directory and the service, and publishes their first rules.
    fn with_both(&self) -> String {
        self.with_harbour();
        said(&self.service, &["rules", "draft", "publish", "1"], 0);
        let arguments = [&self.berthing_arguments()[..], &["--user", "tide"]].concat();
        let added = typed(&self.service, &arguments, "berth", 0);
        said(&self.service, &["rules", "draft", "publish", "2"], 0);
        said(&self.service, &["systems", "read", "harbour"], 0);
        said(&self.service, &["systems", "read", "berthing"], 0);
        added
    }
}

fn people_at() -> String {
    format!("ou=people,{BASE}")
}

#[tokio::test(flavor = "multi_thread")]
async fn a_directory_is_tested_step_by_step_and_added_with_first_rules() {
    let site = Site::start().await;
    let service = &site.service;
    let people_at = people_at();
    // Nothing is kept when a step fails.
    let wrong_base = format!("ou=crew,{BASE}");
    let failed = site.add_harbour(&wrong_base, &[], 1);
    holds(
        &failed,
        &[
            "FAIL  Base DN readable",
            "the nearest entry that exists is",
            "nothing was added",
        ],
    );
    assert!(said(service, &["systems", "list"], 0).contains("no system is connected yet"));
    let added = site.with_harbour();
    holds(
        &added,
        &[
            "ok    TLS verifies",
            "Backup host",
            "read-only and not armed",
            "first rules are in harbour.toml in draft 1; nothing was published",
        ],
    );
    holds(
        &said(service, &["rules", "show"], 0),
        &["no rules were published yet"],
    );
    holds(
        &said(service, &["rules", "draft", "publish", "1"], 0),
        &["published as version 1"],
    );
    holds(
        &said(service, &["systems", "show", "harbour"], 0),
        &["OpenLDAP", "Connected host", "password policy"],
    );
    holds(&said(service, &["systems", "list"], 0), &["(not armed)"]);
    holds(
        &said(service, &["rules", "show"], 0),
        &["employee number", "account.employeeNumber", "except"],
    );
    holds(
        &said(service, &["systems", "tree", "harbour", &people_at], 0),
        &["ou=Deck", "PEOPLE BELOW"],
    );
    holds(
        &said(service, &["systems", "permissions", "harbour"], 0),
        &["read", "employeeNumber", &people_at],
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_service_that_wants_user_and_password_is_added_as_a_target() {
    let site = Site::start().await;
    let service = &site.service;
    let refused = typed(service, &site.berthing_arguments(), "berth", 1);
    holds(
        &refused,
        &["token_refused".trim_end_matches("_refused"), "HTTP 401"],
    );
    let added = site.with_both();
    holds(
        &added,
        &["berthing was added", "berthing.toml", "in draft 2"],
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_feed_is_inspected_and_added_from_a_folder_that_may_be_read() {
    let site = Site::start().await;
    let service = &site.service;
    site.with_harbour();
    said(service, &["rules", "draft", "publish", "1"], 0);
    // A feed: looked at, then added from a folder that it may be read from.
    let roster = site.folder.path().join("data/feeds/crew.csv");
    std::fs::write(&roster, world::roster(&site.people)).unwrap();
    holds(
        &said(service, &["feeds", "inspect", roster.to_str().unwrap()], 0),
        &[
            "CSV, separated by semicolon, UTF-8",
            "1 invalid",
            "it has 8 fields, and the header has 7",
            "first_name",
        ],
    );
    let add = |path: &str, key: &'static str| {
        [
            "systems", "add", "roster", "--kind", "feed", "--path", path, "--key", key, "--as",
            "source",
        ]
        .map(str::to_owned)
    };
    let feed = |path: &str, key: &'static str, code| {
        said(
            service,
            &add(path, key)
                .iter()
                .map(String::as_str)
                .collect::<Vec<_>>(),
            code,
        )
    };
    holds(
        &feed("/etc/hostname", "number", 1),
        &["lies outside the folders that feeds may be read from"],
    );
    holds(
        &feed(roster.to_str().unwrap(), "numbr", 1),
        &["did you mean `number`?"],
    );
    holds(
        &feed(roster.to_str().unwrap(), "number", 0),
        &["roster was added", "2 in quarantine", "in draft 2"],
    );
    said(service, &["rules", "draft", "publish", "2"], 0);
    holds(
        &said(service, &["systems", "read", "roster"], 0),
        &["2 rows are in quarantine"],
    );
    holds(
        &said(service, &["systems", "quarantine", "roster"], 0),
        &["the key `number` is empty"],
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_system_that_pushes_has_tokens_without_a_gap_and_a_learned_shape() {
    let site = Site::start().await;
    let service = &site.service;
    site.with_harbour();
    // A system that calls us: tokens without a gap, events by a shape that is learned.
    holds(
        &said(
            service,
            &["systems", "add", "postroom", "--kind", "push"],
            0,
        ),
        &["postroom was added"],
    );
    assert_eq!(
        said(
            service,
            &["systems", "token", "postroom", "--label", "first"],
            0
        )
        .lines()
        .next()
        .unwrap()
        .len(),
        64
    );
    said(
        service,
        &["systems", "token", "postroom", "--label", "second"],
        0,
    );
    holds(
        &said(service, &["systems", "token", "postroom", "--list"], 0),
        &["first", "valid until", "second"],
    );
    let sample = site.folder.path().join("event.json");
    std::fs::write(
        &sample,
        r#"{"action": "HIRE", "worker": {"employeeNumber": "9"}}"#,
    )
    .unwrap();
    holds(
        &said(
            service,
            &[
                "systems",
                "events",
                "postroom",
                "--sample",
                sample.to_str().unwrap(),
            ],
            0,
        ),
        &[
            "kind of event   action",
            "HIRE = joiner",
            "worker.employeeNumber",
        ],
    );
    holds(
        &said(service, &["systems", "events", "postroom"], 0),
        &["json-schema.org", "HIRE"],
    );
    holds(
        &said(service, &["systems", "token", "harbour"], 1),
        &["does not push"],
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_scope_is_tried_before_it_is_saved() {
    let site = Site::start().await;
    let service = &site.service;
    let people_at = people_at();
    site.with_both();
    said(
        service,
        &["systems", "add", "postroom", "--kind", "push"],
        0,
    );
    holds(
        &said(service, &["scope", "harbour"], 0),
        &["its container is excluded: ou=Kiosks", "by harbour.toml"],
    );
    holds(
        &said(
            service,
            &["scope", "harbour", "--status", "out", "--search", "kiosk1"],
            0,
        ),
        &["uid=kiosk1"],
    );
    let csv = said(
        service,
        &["scope", "harbour", "--status", "out", "--export"],
        0,
    );
    assert!(
        csv.starts_with("\"person\",\"status\",\"reason\",\"account\",\"rule\"\n")
            && csv.contains("Ticket Kiosk"),
        "{csv}"
    );
    let deck = format!("ou=Deck,{people_at}");
    holds(
        &said(service, &["scope", "harbour", "--exclude", &deck], 0),
        &["from in scope to out of scope", "nothing was stored"],
    );
    holds(
        &said(
            service,
            &["scope", "harbour", "--exclude", &deck, "--save"],
            0,
        ),
        &["saved in harbour.toml, published as version"],
    );
    holds(
        &said(service, &["scope", "harbour"], 0),
        &["its container is excluded: ou=Deck"],
    );
    holds(
        &said(service, &["scope", "harbour", "--filter", "(mail="], 1),
        &["harbour.toml:", "not a filter"],
    );
    holds(
        &said(service, &["scope", "postroom"], 1),
        &["the published rules do not contain postroom"],
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn nothing_is_sent_before_the_system_is_armed() {
    let site = Site::start().await;
    let service = &site.service;
    site.with_both();
    said(
        service,
        &["systems", "set", "berthing", "--writable", "person"],
        0,
    );
    holds(&said(service, &["run"], 3), &["berthing is not armed"]);
    holds(
        &said(service, &["systems", "arm", "berthing"], 0),
        &["person"],
    );
    holds(&said(service, &["run"], 0), &["done, 0 failed"]);
    holds(
        &said(service, &["systems", "remove", "berthing"], 1),
        &["systems retire berthing"],
    );
    holds(
        &said(service, &["systems", "disarm", "berthing"], 0),
        &["(not armed)"],
    );
}

/// A feed's file as a web server gives it: with a version, and only to who knows the token.
async fn served(text: &'static str) -> String {
    use axum::http::{HeaderMap, StatusCode, header};
    use axum::response::IntoResponse;
    let serve = move |headers: HeaderMap| async move {
        if headers
            .get(header::AUTHORIZATION)
            .is_none_or(|v| v != "Bearer feed-token")
        {
            return StatusCode::UNAUTHORIZED.into_response();
        }
        if headers
            .get(header::IF_NONE_MATCH)
            .is_some_and(|v| v == "\"one\"")
        {
            return StatusCode::NOT_MODIFIED.into_response();
        }
        ([(header::ETAG, "\"one\"")], text).into_response()
    };
    let app = axum::Router::new().route("/crew.csv", axum::routing::get(serve));
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let url = format!("http://{}/crew.csv", listener.local_addr().unwrap());
    tokio::spawn(async move { axum::serve(listener, app).await });
    url
}

/// A service that knows two secrets by their places: a folder of files and a variable, both for one
/// host; a directory, and a SCIM service with access tokens, cursors and attributes of its own.
struct Secrets {
    folder: tempfile::TempDir,
    slapd: Slapd,
    berthing: ScimService,
    service: Service,
}

impl Secrets {
    async fn start() -> Secrets {
        let folder = tempfile::tempdir().unwrap();
        let people = world::people(world::SEED, 90);
        let slapd = Slapd::start(&world::directory(&people, PASSWORD)).unwrap();
        let entrance = Entrance::Oauth("eager-tide".into(), 600);
        let manner = Manner {
            entrance,
            cursor: true,
            page: 25,
            ..Manner::full()
        };
        let berthing = ScimService::with_manner(world::berthing(&people), "berth-secret", manner)
            .await
            .unwrap();
        let held = folder.path().join("held");
        std::fs::create_dir(&held).unwrap();
        std::fs::write(held.join("harbour"), PASSWORD).unwrap();
        let (held_for, berth_for) = (
            format!("{}=127.0.0.1", held.display()),
            "BERTH_SECRET=127.0.0.1",
        );
        let arguments = ["--secret-variable", berth_for, "--secret-folder", &held_for];
        let service = Service::start_with(
            &folder.path().join("data"),
            &arguments,
            &[("BERTH_SECRET", "berth-secret")],
        );

        Secrets {
            folder,
            slapd,
            berthing,
            service,
        }
    }

    fn add_harbour(&self, file: &str, code: i32) -> String {
        let bind = format!("cn=eager-tide,ou=services,{BASE}");
        let at = format!("file:{file}");
        let add = [
            "systems",
            "add",
            "harbour",
            "--kind",
            "ldap",
            "--address",
            &self.slapd.url,
            "--bind-dn",
            &bind,
            "--base-dn",
            BASE,
            "--secret-at",
            &at,
        ];
        said(&self.service, &add, code)
    }

    fn add_berthing(&self, client: &str, at: &str, code: i32) -> String {
        let token_url = self.berthing.url.replace("/scim/v2", "/token");
        let add = [
            "systems",
            "add",
            "berthing",
            "--kind",
            "scim",
            "--address",
            &self.berthing.url,
            "--token-url",
            &token_url,
            "--client-id",
            client,
            "--secret-at",
            at,
        ];
        said(&self.service, &add, code)
    }

    fn add_both(&self) {
        let held = self.folder.path().join("held").join("harbour");
        self.add_harbour(held.to_str().unwrap(), 0);
        self.add_berthing("eager-tide", "env:BERTH_SECRET", 0);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_secret_is_read_from_a_named_place_only_and_sent_to_its_host_only() {
    let secrets = Secrets::start().await;
    holds(&secrets.add_harbour("/etc/hostname", 1), &["secret"]);
    let held = secrets.folder.path().join("held").join("harbour");
    holds(
        &secrets.add_harbour(held.to_str().unwrap(), 0),
        &["harbour was added"],
    );
    holds(
        &secrets.add_berthing("eager-tide", "env:HOME", 1),
        &["HOME"],
    );
    let astray = [
        "systems",
        "add",
        "astray",
        "--kind",
        "scim",
        "--address",
        "https://evil.example/scim",
        "--secret-at",
        "env:BERTH_SECRET",
    ];
    holds(
        &said(&secrets.service, &astray, 1),
        &["is for 127.0.0.1, and would go to evil.example"],
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_service_with_access_tokens_is_read_with_one_token() {
    let secrets = Secrets::start().await;
    let (service, berthing) = (&secrets.service, &secrets.berthing);
    holds(
        &secrets.add_berthing("somebody", "env:BERTH_SECRET", 1),
        &["Token issued", "nothing was added"],
    );
    holds(
        &secrets.add_berthing("eager-tide", "env:BERTH_SECRET", 0),
        &["Token issued", "pages by cursor", "berthing was added"],
    );
    let read = said(service, &["systems", "read", "berthing"], 0);
    holds(&read, &[&format!("{} accounts", berthing.users().len())]);
    assert_eq!(
        berthing
            .take_writes()
            .iter()
            .filter(|w| *w == "POST /token")
            .count(),
        2,
        "one for the trial, and one kept since it was added"
    );
}

/// They are checked by the schema of the service.
#[tokio::test(flavor = "multi_thread")]
async fn attributes_of_an_own_schema_are_mapped_and_sent() {
    let secrets = Secrets::start().await;
    secrets.add_both();
    let (service, berthing) = (&secrets.service, &secrets.berthing);
    let rules = secrets.folder.path().join("rules");
    std::fs::create_dir(&rules).unwrap();
    let publish = |cabin: &str, code| {
        for (name, text) in world::rules_of_people() {
            let own = format!(
                "\"crew.cabin\" = '{cabin}'\n\"crew.drills\" = '3'\n\"crew.languages\" = 'split(\"en,da\", \",\")'\n"
            );
            let text = if name == "berthing.toml" {
                text.replace("[person.outbound]\n", &format!("[person.outbound]\n{own}"))
            } else {
                text.to_owned()
            };
            std::fs::write(rules.join(name), text).unwrap();
        }
        said(
            service,
            &["rules", "publish", rules.to_str().unwrap()],
            code,
        )
    };
    holds(&publish("identity.cabbin", 1), &["identity.cabbin"]);
    holds(&publish("identity.port", 0), &["published"]);
    let set = ["systems", "set", "berthing", "--writable", "person"];
    said(service, &set, 0);
    said(service, &["systems", "arm", "berthing"], 0);
    holds(&said(service, &["run"], 0), &["0 failed"]);
    let users = berthing.users();
    let own: Vec<_> = users
        .iter()
        .filter(|user| user[CREW]["cabin"].is_string())
        .collect();
    assert!(own.len() > 50, "{} of {}", own.len(), users.len());
    assert_eq!(
        (&own[0][CREW]["drills"], &own[0][CREW]["languages"]),
        (&serde_json::json!(3), &serde_json::json!(["en", "da"]))
    );
    let named = |user: &serde_json::Value| {
        user["schemas"]
            .as_array()
            .is_some_and(|urns| urns.iter().any(|urn| urn == CREW))
    };
    assert!(
        own.iter().all(|user| named(user)),
        "joined by PATCH and created by POST: {own:?}"
    );
    holds(&said(service, &["run"], 0), &["everything is in sync"]);
}

/// Once for each of its versions.
#[tokio::test(flavor = "multi_thread")]
async fn a_file_on_a_web_server_is_read_once() {
    let folder = tempfile::tempdir().unwrap();
    let service = Service::start(&folder.path().join("data"));
    let url = served("number,first_name,last_name\n1,Ada,Lind\n2,Bram,Holm\n").await;
    let add = [
        "systems",
        "add",
        "roster",
        "--kind",
        "feed",
        "--address",
        &url,
        "--key",
        "number",
    ];
    holds(&typed(&service, &add, "wrong", 1), &["HTTP 401"]);
    holds(
        &typed(&service, &add, "feed-token", 0),
        &["roster was added"],
    );
    holds(
        &said(&service, &["systems", "read", "roster"], 0),
        &["2 accounts"],
    );
    holds(
        &said(&service, &["systems", "read", "roster"], 0),
        &["unchanged since the last read"],
    );
}
