//! The service as its users meet it: through the client and over the network.
#![allow(clippy::disallowed_methods, reason = "tests run in real time")]
#![allow(clippy::unwrap_used)]

mod common;

use common::{Service, client, connect, text};
use reqwest::{Method, StatusCode};
use tide_standins::directory::Directory;
use tide_standins::scim_service::{Mischief, ScimService};
use tide_standins::world::{self, BASE};

const PASSWORD: &str = "canary-harbour-3301";
const TOKEN: &str = "canary-berthing-7754";

struct Set {
    folder: tempfile::TempDir,
    service: Service,
    harbour: Directory,
    berthing: ScimService,
    http: reqwest::Client,
}

impl Set {
    async fn start() -> Set {
        let folder = tempfile::tempdir().unwrap();
        let people = world::people(world::SEED, 40);
        let harbour = Directory::start(&world::directory(&people, PASSWORD), PASSWORD)
            .await
            .unwrap();
        let berthing = ScimService::start(world::berthing(&people), TOKEN)
            .await
            .unwrap();
        let service = Service::start(&folder.path().join("data"));
        connect(&service, &harbour, &berthing, folder.path());
        let http = common::http();
        Set {
            folder,
            service,
            harbour,
            berthing,
            http,
        }
    }

    async fn call(
        &self,
        method: Method,
        path: &str,
        headers: &[(&str, &str)],
        body: Option<serde_json::Value>,
    ) -> (StatusCode, String, String) {
        let mut request = self
            .http
            .request(method, format!("{}{path}", self.service.url));
        for (name, value) in headers {
            request = request.header(*name, *value);
        }
        if let Some(body) = body {
            request = request.json(&body);
        }
        // Whoever is refused before everything was sent may see the connection end before the
        // answer: the answer is asked for again.
        let mut sent = request.try_clone().unwrap().send().await;
        for _ in 0..5 {
            if sent.is_err() {
                sent = request.try_clone().unwrap().send().await;
            }
        }
        let response = sent.unwrap();
        let cookie = response
            .headers()
            .get("set-cookie")
            .and_then(|v| v.to_str().ok())
            .unwrap_or_default()
            .to_owned();
        (response.status(), cookie, response.text().await.unwrap())
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn every_route_of_the_document_is_denied_unless_it_is_granted() {
    let set = Set::start().await;
    let (_, _, document) = set
        .call(Method::GET, "/api/v1/openapi.json", &[], None)
        .await;
    let document: serde_json::Value = serde_json::from_str(&document).unwrap();
    let mut denied = 0;
    for (path, methods) in document["paths"].as_object().unwrap() {
        for method in methods
            .as_object()
            .unwrap()
            .keys()
            .filter(|m| ["get", "post", "put", "patch", "delete"].contains(&m.as_str()))
        {
            let granted = tide_service::GRANTS
                .iter()
                .find(|(m, p, _)| m.eq_ignore_ascii_case(method) && p == path);
            assert!(
                granted.is_some(),
                "{method} {path} stands in the document and is granted to nobody"
            );
            if granted.unwrap().2 == tide_service::Grant::Public {
                continue;
            }
            let filled = path
                .replace("{name}", "harbour")
                .replace("{id}", "1")
                .replace("{system}", "harbour");
            let method = Method::from_bytes(method.to_uppercase().as_bytes()).unwrap();
            for headers in [
                &[][..],
                &[("authorization", "Bearer wrong")][..],
                &[("cookie", "eager_tide_session=wrong")][..],
            ] {
                let (status, _, body) = set.call(method.clone(), &filled, headers, None).await;
                assert_eq!(status, StatusCode::UNAUTHORIZED, "{method} {filled}");
                assert!(body.contains("/problems/"), "{body}");
            }
            denied += 1;
        }
    }
    assert!(denied > 25, "{denied}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_session_is_the_consoles_own_and_ends() {
    let set = Set::start().await;
    let (status, _, body) = set
        .call(
            Method::POST,
            "/api/v1/session",
            &[],
            Some(serde_json::json!({"token": "wrong"})),
        )
        .await;
    assert_eq!(status, StatusCode::UNAUTHORIZED);
    assert!(body.contains("this token is not valid"));
    let (status, cookie, _) = set
        .call(
            Method::POST,
            "/api/v1/session",
            &[],
            Some(serde_json::json!({"token": set.service.token})),
        )
        .await;
    assert_eq!(status, StatusCode::OK);
    assert!(
        cookie.contains("HttpOnly")
            && cookie.contains("SameSite=Strict")
            && cookie.contains("Max-Age="),
        "{cookie}"
    );
    let pair = cookie.split(';').next().unwrap().to_owned();
    let own = set.service.url.clone();
    assert_eq!(
        set.call(Method::GET, "/api/v1/me", &[("cookie", &pair)], None)
            .await
            .0,
        StatusCode::OK
    );
    let body = || Some(serde_json::json!({"paused": true}));
    // A write needs our own origin beside the cookie.
    for origin in [None, Some("http://elsewhere.example")] {
        let mut headers = vec![("cookie", pair.as_str())];
        headers.extend(origin.map(|o| ("origin", o)));
        assert_eq!(
            set.call(Method::PATCH, "/api/v1/systems/harbour", &headers, body())
                .await
                .0,
            StatusCode::FORBIDDEN
        );
    }
    let headers = [("cookie", pair.as_str()), ("origin", own.as_str())];
    assert_eq!(
        set.call(Method::PATCH, "/api/v1/systems/harbour", &headers, body())
            .await
            .0,
        StatusCode::OK
    );
    // Ending the session ends its stream of events too.
    let stream = set
        .http
        .get(format!("{own}/api/v1/events"))
        .header("cookie", &pair)
        .send()
        .await
        .unwrap();
    assert_eq!(
        set.call(Method::DELETE, "/api/v1/session", &headers, None)
            .await
            .0,
        StatusCode::NO_CONTENT
    );
    assert_eq!(
        set.call(Method::GET, "/api/v1/me", &[("cookie", &pair)], None)
            .await
            .0,
        StatusCode::UNAUTHORIZED
    );
    let ended = tokio::time::timeout(std::time::Duration::from_secs(10), stream.text()).await;
    assert!(ended.is_ok(), "the stream ends with the session");
}

impl Set {
    /// The output of a command that succeeds.
    fn printed(&self, arguments: &[&str]) -> String {
        let output = self.service.client(arguments);
        assert!(output.status.success(), "{arguments:?}: {}", text(&output));
        String::from_utf8(output.stdout).unwrap().trim().to_owned()
    }

    async fn sign_in(&self, token: &str) -> (StatusCode, String, String) {
        let body = serde_json::json!({"token": token});
        self.call(Method::POST, "/api/v1/session", &[], Some(body))
            .await
    }

    async fn status_of_me(&self, header: (&str, &str)) -> StatusCode {
        self.call(Method::GET, "/api/v1/me", &[header], None)
            .await
            .0
    }
}

/// It signs nobody in. Another system of the same name does not get it.
#[tokio::test(flavor = "multi_thread")]
async fn the_token_of_a_system_ends_with_the_system() {
    let set = Set::start().await;
    let printed = |arguments: &[&str]| set.printed(arguments);
    printed(&["systems", "add", "postroom", "--kind", "push"]);
    let pushing = printed(&["systems", "token", "postroom"]);
    let (status, cookie, said) = set.sign_in(&pushing).await;
    assert!(
        status == StatusCode::FORBIDDEN
            && cookie.is_empty()
            && said.contains("only operators can sign in"),
        "{status} {said}"
    );
    let bearer = format!("Bearer {pushing}");
    let asked = |path: &'static str| {
        let headers = [("authorization", bearer.as_str())];
        let set = &set;
        async move { set.call(Method::GET, path, &headers, None).await.0 }
    };
    assert_eq!(asked("/scim/v2/postroom/Users").await, StatusCode::OK);
    // An operator and a system may have one name.
    printed(&["operators", "add", "postroom"]);
    printed(&["systems", "remove", "postroom"]);
    assert_eq!(
        asked("/scim/v2/postroom/Users").await,
        StatusCode::UNAUTHORIZED
    );
    printed(&["systems", "add", "postroom", "--kind", "push"]);
    assert_eq!(
        asked("/scim/v2/postroom/Users").await,
        StatusCode::UNAUTHORIZED,
        "its token was that of the one before"
    );
    printed(&["systems", "token", "postroom"]);
}

/// So do streams that were opened with the token itself.
#[tokio::test(flavor = "multi_thread")]
async fn sessions_and_streams_end_with_their_token() {
    let set = Set::start().await;
    let service = &set.service;
    let printed = |arguments: &[&str]| set.printed(arguments);
    let second = printed(&[
        "operators",
        "token",
        "--label",
        "laptop",
        "--expires-in-days",
        "30",
    ]);
    let (status, cookie, _) = set.sign_in(&second).await;
    assert_eq!(status, StatusCode::OK);
    let pair = cookie.split(';').next().unwrap().to_owned();
    let stream = set
        .http
        .get(format!("{}/api/v1/events", service.url))
        .bearer_auth(&second)
        .send()
        .await
        .unwrap();
    let list: serde_json::Value = serde_json::from_str(&printed(&[
        "operators",
        "tokens",
        "first operator",
        "-o",
        "json",
    ]))
    .unwrap();
    let laptop = list
        .as_array()
        .unwrap()
        .iter()
        .find(|one| one["label"] == "laptop")
        .unwrap();
    assert!(
        laptop["expires_at"].is_string() && laptop["is_valid"] == true,
        "{list}"
    );
    assert_eq!(set.status_of_me(("cookie", &pair)).await, StatusCode::OK);
    printed(&[
        "operators",
        "tokens",
        "first operator",
        "--end",
        laptop["id"].as_str().unwrap(),
    ]);
    let bearer = format!("Bearer {second}");
    for header in [("cookie", pair.as_str()), ("authorization", &bearer)] {
        assert_eq!(set.status_of_me(header).await, StatusCode::UNAUTHORIZED);
    }
    assert!(
        tokio::time::timeout(std::time::Duration::from_secs(10), stream.text())
            .await
            .is_ok(),
        "the stream ends with the token"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn nobody_creates_a_token_for_another_operator_and_a_rotation_ends_the_last_one() {
    let set = Set::start().await;
    set.printed(&["operators", "add", "postroom"]);
    let refused = text(&set.service.client(&["operators", "token", "postroom"]));
    assert!(
        refused.contains("only postroom can create another one"),
        "{refused}"
    );
    set.printed(&["operators", "token", "--overlap-hours", "0"]);
    let bearer = format!("Bearer {}", set.service.token);
    assert_eq!(
        set.status_of_me(("authorization", &bearer)).await,
        StatusCode::UNAUTHORIZED
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn the_emergency_stop_is_set_seen_and_lifted() {
    let set = Set::start().await;
    let service = &set.service;
    let client = |arguments: &[&str], code: i32| common::said(service, arguments, code);
    client(&["systems", "set", "berthing", "--writable", "person"], 0);
    client(&["systems", "arm", "berthing"], 0);
    let stopped = client(
        &["stop-writing", "--reason", "wrong names in the roster"],
        0,
    );
    common::holds(
        &stopped,
        &[
            "all writes are stopped by first operator since",
            ": wrong names in the roster",
            "resume-writing",
        ],
    );
    set.berthing.take_writes();
    common::holds(
        &client(&["run"], 3),
        &["all writes are stopped by first operator"],
    );
    common::holds(
        &client(&["status"], 3),
        &[
            "CRITICAL  All writes are stopped.",
            "wrong names in the roster",
        ],
    );
    assert_eq!(set.berthing.take_writes(), Vec::<String>::new());
    common::holds(&client(&["resume-writing"], 0), &["writes are resumed"]);
    common::holds(
        &client(&["resume-writing"], 0),
        &["writes were not stopped"],
    );
    assert!(!client(&["status"], 0).contains("stopped"));
    service.client(&["run"]);
    assert!(!set.berthing.take_writes().is_empty());
    // The head of the journal that was kept elsewhere shows that it is still this one.
    let checked = client(&["journal", "check"], 0);
    let head = checked
        .lines()
        .find_map(|line| line.strip_prefix("head: "))
        .unwrap();
    common::holds(
        &client(&["journal", "list", "--limit", "500"], 0),
        &["writes.stopped", "writes.resumed", "first operator"],
    );
    client(&["journal", "check", "--expect", head], 0);
    let other = format!("{}:{}", head.split(':').next().unwrap(), "0".repeat(64));
    common::holds(
        &client(&["journal", "check", "--expect", &other], 1),
        &["INVALID", "an older copy"],
    );
}

const PUSHED_PASSWORD: &str = "canary-pushed-4411";
const TYPED_PASSWORD: &str = "canary-typed-9917";

impl Set {
    /// Runs of which one fails, and a system that pushes a password. Returns what was said, and the
    /// token of the system, which is shown once.
    async fn use_secrets(&self) -> (Vec<String>, String) {
        let service = &self.service;
        self.printed(&["systems", "set", "berthing", "--writable", "person"]);
        self.printed(&["systems", "arm", "berthing"]);
        self.berthing.mischief_on_writes(&[Mischief::Refuse]);
        let mut said = vec![
            text(&service.client(&["run"])),
            text(&service.client(&["run"])),
        ];
        self.printed(&["systems", "add", "postroom", "--kind", "push"]);
        let pushing = self.printed(&["systems", "token", "postroom"]);
        assert_eq!(pushing.len(), 64);
        let user = serde_json::json!({"schemas": ["urn:ietf:params:scim:schemas:core:2.0:User"], "userName": "ada", "password": PUSHED_PASSWORD});
        let answer = self
            .http
            .post(format!("{}/scim/v2/postroom/Users", service.url))
            .bearer_auth(&pushing)
            .header("content-type", "application/scim+json")
            .body(user.to_string())
            .send()
            .await
            .unwrap();
        assert_eq!(answer.status(), 201);
        said.push(answer.text().await.unwrap());
        let add = [
            "systems",
            "add",
            "other",
            "--kind",
            "ldap",
            "--address",
            &self.harbour.url,
            "--bind-dn",
            "cn=x",
            "--base-dn",
            BASE,
        ];
        let failing = client(&service.url, &service.token, &add, TYPED_PASSWORD);
        assert_eq!(failing.status.code(), Some(1));
        said.push(text(&failing));
        (said, pushing)
    }

    /// The output of commands that show much, the answers of all routes, and the log.
    async fn everything_shown(&self) -> Vec<String> {
        let service = &self.service;
        let mut said = Vec::new();
        for arguments in [
            &["systems", "token", "postroom", "--list"][..],
            &["systems", "accounts", "postroom", "-o", "json"],
            &["status"],
            &["systems", "show", "harbour"],
            &["systems", "show", "berthing", "-o", "json"],
            &["systems", "test", "harbour"],
            &["rules", "show"],
            &["changes", "list"],
            &["changes", "show", "1", "--values"],
            &["journal", "list", "--limit", "1000", "-o", "json"],
            &["identities", "list", "-o", "json"],
            &["why", "1001"],
            &["systems", "accounts", "harbour", "-o", "json"],
        ] {
            said.push(text(&service.client(arguments)));
        }
        let bearer = format!("Bearer {}", service.token);
        for (method, path, _) in tide_service::GRANTS
            .iter()
            .filter(|(m, p, _)| *m == "GET" && !p.contains("events"))
        {
            let path = path.replace("{name}", "harbour").replace("{id}", "1");
            let (_, _, body) = self
                .call(
                    Method::from_bytes(method.as_bytes()).unwrap(),
                    &path,
                    &[("authorization", &bearer)],
                    None,
                )
                .await;
            said.push(body);
        }
        said.push(service.running.lines.lock().unwrap().join("\n"));
        said
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn planted_secrets_are_found_nowhere() {
    let mut set = Set::start().await;
    let (mut said, pushing) = set.use_secrets().await;
    said.extend(set.everything_shown().await);
    let token = set.service.token.clone();
    for canary in [
        PASSWORD,
        TOKEN,
        TYPED_PASSWORD,
        PUSHED_PASSWORD,
        pushing.as_str(),
        token.as_str(),
    ] {
        for text in &said {
            assert!(!text.contains(canary), "{canary} in {text}");
        }
    }
    set.service.running.terminate();
    let data = set.folder.path().join("data");
    for entry in std::fs::read_dir(&data).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            continue;
        }
        let bytes = std::fs::read(&path).unwrap();
        let holds = |secret: &str| bytes.windows(secret.len()).any(|w| w == secret.as_bytes());
        for canary in [PASSWORD, TOKEN, TYPED_PASSWORD, PUSHED_PASSWORD, &pushing] {
            assert!(!holds(canary), "{canary} in {}", path.display());
        }
        if path.file_name().unwrap() != "first-token" {
            assert!(!holds(&token), "the token in {}", path.display());
        }
        #[cfg(unix)]
        if ["key", "first-token"]
            .iter()
            .any(|name| path.ends_with(name))
        {
            use std::os::unix::fs::PermissionsExt;
            assert_eq!(
                std::fs::metadata(&path).unwrap().permissions().mode() & 0o777,
                0o600,
                "{}",
                path.display()
            );
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_system_that_cannot_be_added_is_told_what_to_do() {
    let set = Set::start().await;
    let service = &set.service;
    let add = |kind: &str, url: &str, base: &str, secret: &str| {
        let mut arguments = vec!["systems", "add", "other", "--kind", kind, "--address", url];
        if kind == "ldap" {
            arguments.extend(["--bind-dn", &set.harbour.admin_dn, "--base-dn", base]);
        }
        let output = client(&service.url, &service.token, &arguments, secret);
        assert_eq!(output.status.code(), Some(1), "{}", text(&output));
        text(&output)
    };
    let missing = format!("ou=nowhere,{BASE}");
    for (said, wanted) in [
        (
            add("ldap", &set.harbour.url, BASE, "wrong"),
            "the name or the password is wrong",
        ),
        (
            add("ldap", &set.harbour.url, &missing, PASSWORD),
            "the nearest entry that exists is dc=skerry,dc=example",
        ),
        (
            add("ldap", "ldap://127.0.0.1:1", BASE, PASSWORD),
            "nothing answers at 127.0.0.1:1",
        ),
        (
            add("ldap", "http://127.0.0.1:1", BASE, PASSWORD),
            "is not an LDAP address",
        ),
        (
            add("scim", &set.berthing.url, "", "wrong"),
            "rejects the token",
        ),
        (
            add("scim", "http://169.254.169.254/scim/v2", "", "x"),
            "never called",
        ),
    ] {
        assert!(said.contains(wanted), "wanted `{wanted}` in {said}");
        assert!(said.contains("to do:"), "{said}");
    }
}

/// The published version stays.
#[tokio::test(flavor = "multi_thread")]
async fn broken_rules_are_refused_with_their_place() {
    let set = Set::start().await;
    let service = &set.service;
    let rules = set.folder.path().join("broken");
    for (text_of_file, wanted) in [
        (
            "system = \"harbour\"\n[person.inbound]\nmail = 'account.mial'\n",
            "harbour.toml:3:9  unknown attribute `account.mial`",
        ),
        (
            "system = \"harbour\"\n[person.inbound]\nmail = 'account.mail\n",
            "harbour.toml:3:",
        ),
    ] {
        std::fs::create_dir_all(&rules).unwrap();
        for (name, text) in world::rules_of_people() {
            std::fs::write(
                rules.join(name),
                if name == "harbour.toml" {
                    text_of_file.to_owned()
                } else {
                    text
                },
            )
            .unwrap();
        }
        let checked = service.client(&["rules", "check", rules.to_str().unwrap()]);
        assert_eq!(checked.status.code(), Some(1));
        assert!(text(&checked).contains(wanted), "{}", text(&checked));
        let published = service.client(&["rules", "publish", rules.to_str().unwrap()]);
        assert_eq!(published.status.code(), Some(1));
        assert!(
            text(&published).contains("nothing was published"),
            "{}",
            text(&published)
        );
    }
    assert_eq!(
        service.json(&["rules", "show"])["version"],
        1,
        "the sound version stays"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_wrong_token_address_command_or_body_gets_its_own_message() {
    let set = Set::start().await;
    let service = &set.service;
    let wrong = client(&service.url, "not-a-token", &["status"], "");
    assert!(text(&wrong).contains("the token is not valid"));
    let nowhere = client("http://127.0.0.1:1", "x", &["status"], "");
    assert!(
        text(&nowhere).contains("no service answers")
            && text(&nowhere).contains("eager-tide serve"),
        "{}",
        text(&nowhere)
    );
    assert_eq!(service.client(&["sytsems"]).status.code(), Some(2));
    let large =
        serde_json::json!({"files": [{"name": "harbour.toml", "text": "x".repeat(6 << 20)}]});
    let bearer = format!("Bearer {}", service.token);
    let (status, _, _) = set
        .call(
            Method::POST,
            "/api/v1/rules/check",
            &[("authorization", &bearer)],
            Some(large),
        )
        .await;
    assert_eq!(status, StatusCode::PAYLOAD_TOO_LARGE);
    let trick = serde_json::json!({"files": [{"name": "../key.toml", "text": ""}]});
    let (status, _, body) = set
        .call(
            Method::PUT,
            "/api/v1/rules",
            &[("authorization", &bearer)],
            Some(trick),
        )
        .await;
    assert_eq!(status, StatusCode::BAD_REQUEST, "{body}");
}

#[tokio::test(flavor = "multi_thread")]
async fn another_key_is_noticed_at_the_start_and_the_folder_is_private() {
    let mut set = Set::start().await;
    let data = set.folder.path().join("data");
    #[cfg(unix)]
    {
        use std::os::unix::fs::PermissionsExt;
        assert_eq!(
            std::fs::metadata(&data).unwrap().permissions().mode() & 0o777,
            0o700,
            "people's data are for the owner alone"
        );
    }
    assert!(set.service.running.terminate().success());
    // Without its key it does not start: a new one would open nothing.
    std::fs::remove_file(data.join("key")).unwrap();
    let refused = common::Running::start(&[
        "serve",
        "--listen",
        "127.0.0.1:0",
        "--data",
        data.to_str().unwrap(),
    ]);
    assert!(
        refused.line("error:").contains("the key file"),
        "the start is refused"
    );
    assert!(!data.join("key").exists());
    std::fs::write(
        data.join("key"),
        "AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA=\n",
    )
    .unwrap();
    #[cfg(unix)]
    {
        use std::os::unix::fs::PermissionsExt;
        std::fs::set_permissions(data.join("key"), std::fs::Permissions::from_mode(0o600)).unwrap();
    }
    let service = Service::start(&data);
    assert!(
        service
            .running
            .line("sealed with another key")
            .contains("eager-tide systems secret")
    );
    let checked = text(&service.client(&["systems", "test", "harbour"]));
    assert!(
        checked.contains("cannot be opened with this key"),
        "{checked}"
    );
    // Set anew, it works again.
    let replaced = client(
        &service.url,
        &service.token,
        &["systems", "secret", "harbour"],
        PASSWORD,
    );
    assert!(replaced.status.success(), "{}", text(&replaced));
    assert!(
        service
            .client(&["systems", "test", "harbour"])
            .status
            .success()
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn listening_beyond_loopback_is_refused() {
    let folder = tempfile::tempdir().unwrap();
    let running = common::Running::start(&[
        "serve",
        "--listen",
        "0.0.0.0:0",
        "--data",
        folder.path().to_str().unwrap(),
    ]);
    assert!(running.line("error:").contains("need TLS"));
}

#[tokio::test(flavor = "multi_thread")]
async fn the_committed_openapi_document_is_the_one_that_is_served() {
    let committed = std::fs::read_to_string(concat!(
        env!("CARGO_MANIFEST_DIR"),
        "/../../console/openapi.json"
    ))
    .unwrap();
    let committed: serde_json::Value = serde_json::from_str(&committed).unwrap();
    assert_eq!(
        committed,
        tide_service::openapi(),
        "run scripts/api to bring console/openapi.json up to date"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn the_demo_plays_its_story_with_the_built_in_directory() {
    let output = common::client(
        "",
        "",
        &[
            "demo",
            "--check",
            "--directory",
            "standin",
            "--listen",
            "127.0.0.1:0",
        ],
        "",
    );
    assert!(output.status.success(), "{}", text(&output));
    assert!(text(&output).contains("the built-in LDAP stand-in"));
}
