//! The API called without a network: what every answer has in common, and what each list promises.
#![allow(clippy::disallowed_methods, reason = "tests run in real time")]

use axum::Router;
use axum::body::{Body, to_bytes};
use axum::http::{Method, Request, StatusCode, header};
use serde_json::{Value, json};
use std::collections::HashSet;
use std::sync::Arc;
use tide_core::states::PrincipalKind;
use tide_engine::{Engine, SystemClock};
use tide_standins::directory::Directory;
use tide_standins::world::{self, BASE};
use tide_store::{MasterKey, Store};
use tower::ServiceExt;

const TOKEN: &str = "operator-token";

struct Api {
    _folder: tempfile::TempDir,
    engine: Arc<Engine>,
    router: Router,
}

struct Answer {
    status: StatusCode,
    kind: String,
    headers: axum::http::HeaderMap,
    body: Value,
}

impl Api {
    async fn start() -> Api {
        let folder = tempfile::tempdir().expect("a folder");
        let store = Store::open(&folder.path().join("tide.db"), MasterKey::generate())
            .await
            .expect("opens");
        let engine = Engine::new(store, Arc::new(SystemClock));
        engine
            .store()
            .add_principal(PrincipalKind::Operator, "tester", Some(TOKEN), engine.now())
            .await
            .expect("made");
        Api {
            _folder: folder,
            router: tide_service::router(engine.clone()),
            engine,
        }
    }

    async fn raw(
        &self,
        method: Method,
        path: &str,
        headers: &[(&str, &str)],
        body: impl Into<Body>,
    ) -> Answer {
        let mut request = Request::builder()
            .method(method)
            .uri(path)
            .header(header::AUTHORIZATION, format!("Bearer {TOKEN}"));
        for (name, value) in headers {
            request = request.header(*name, *value);
        }
        let response = self
            .router
            .clone()
            .oneshot(request.body(body.into()).expect("a request"))
            .await
            .expect("answered");
        let status = response.status();
        let headers = response.headers().clone();
        let kind = headers
            .get(header::CONTENT_TYPE)
            .and_then(|v| v.to_str().ok())
            .unwrap_or_default()
            .to_owned();
        let bytes = to_bytes(response.into_body(), 8 << 20).await.expect("read");
        let body = serde_json::from_slice(&bytes)
            .unwrap_or_else(|_| Value::String(String::from_utf8_lossy(&bytes).into_owned()));
        Answer {
            status,
            kind,
            headers,
            body,
        }
    }

    async fn get(&self, path: &str) -> Answer {
        self.raw(Method::GET, path, &[], Body::empty()).await
    }

    async fn send(&self, method: Method, path: &str, body: Value) -> Answer {
        self.raw(
            method,
            path,
            &[("content-type", "application/json")],
            body.to_string(),
        )
        .await
    }
}

fn is_problem(answer: &Answer, status: u16, text: &str) {
    assert_eq!(answer.status.as_u16(), status, "{}", answer.body);
    assert_eq!(answer.kind, "application/problem+json", "{}", answer.body);
    assert_eq!(answer.body["status"], status);
    assert!(
        answer.body["type"]
            .as_str()
            .is_some_and(|kind| kind.starts_with("/problems/")),
        "{}",
        answer.body
    );
    assert!(
        answer.body["detail"]
            .as_str()
            .is_some_and(|detail| detail.contains(text)),
        "wanted `{text}` in {}",
        answer.body
    );
}

#[tokio::test]
async fn a_wrong_body_is_a_problem_document() {
    let api = Api::start().await;
    let json = [("content-type", "application/json")];
    is_problem(
        &api.raw(Method::POST, "/api/v1/change-sets", &json, "{not json")
            .await,
        400,
        "",
    );
    is_problem(
        &api.raw(
            Method::POST,
            "/api/v1/change-sets",
            &json,
            "{\"kind\": \"run\", \"systems\": 5}",
        )
        .await,
        422,
        "systems",
    );
    is_problem(
        &api.raw(Method::POST, "/api/v1/change-sets", &[], "{}")
            .await,
        415,
        "",
    );
    is_problem(
        &api.send(Method::POST, "/api/v1/change-sets", json!({"kind": "wish"}))
            .await,
        422,
        "unknown variant `wish`",
    );
    is_problem(
        &api.send(
            Method::POST,
            "/api/v1/change-sets",
            json!({"kind": "preview"}),
        )
        .await,
        409,
        "no rules were published yet",
    );
}

#[tokio::test]
async fn an_unknown_address_or_object_is_a_problem_document() {
    let api = Api::start().await;
    is_problem(&api.get("/api/v1/change-sets/abc").await, 400, "");
    is_problem(
        &api.get("/api/v1/change-sets/99").await,
        404,
        "no change set `99`",
    );
    is_problem(&api.get("/api/v1/change-sets?limit=many").await, 400, "");
    is_problem(
        &api.get("/api/v1/systems/nowhere").await,
        404,
        "no system `nowhere`",
    );
    is_problem(
        &api.get("/api/v1/systems/nowhere/accounts").await,
        404,
        "nowhere",
    );
    is_problem(&api.get("/api/v1/identities/nobody").await, 409, "no rules");
    is_problem(
        &api.get("/api/v1/nothing/here").await,
        404,
        "there is nothing at",
    );
    is_problem(
        &api.raw(Method::DELETE, "/api/v1/systems", &[], Body::empty())
            .await,
        405,
        "has no method DELETE: it has GET, POST",
    );
    is_problem(
        &api.send(
            Method::PATCH,
            "/api/v1/systems/nowhere",
            json!({"paused": true}),
        )
        .await,
        404,
        "nowhere",
    );
}

#[tokio::test]
async fn a_wrong_system_or_rule_file_is_a_problem_document() {
    let api = Api::start().await;
    is_problem(
        &api.send(
            Method::POST,
            "/api/v1/systems",
            json!({"name": "UPPER", "kind": "ldap", "settings": {"url": "ldap://x", "base_dn": BASE}}),
        )
        .await,
        422,
        "is not a valid system name",
    );
    is_problem(
        &api.send(
            Method::POST,
            "/api/v1/systems/test",
            json!({"kind": "ldap", "settings": {"url": "nonsense", "base_dn": "x", "extra": 1}}),
        )
        .await,
        422,
        "extra",
    );
    is_problem(
        &api.send(
            Method::PUT,
            "/api/v1/rules",
            json!({"files": [{"name": "x.txt", "text": ""}]}),
        )
        .await,
        400,
        "is not a valid file name for rules",
    );
    is_problem(
        &api.send(
            Method::PUT,
            "/api/v1/rules",
            json!({"files": [{"name": "x.toml", "text": "system ="}]}),
        )
        .await,
        422,
        "errors",
    );
}

#[tokio::test]
async fn faults_of_rules_come_with_their_places() {
    let api = Api::start().await;
    let files = json!({"files": [{"name": "identities.toml", "text": "[person.attributes]\nname = {}\n"}, {"name": "harbour.toml", "text": "system = \"harbour\"\n[person.inbound]\nnmae = 'account.cn'\n"}]});
    let refused = api.send(Method::PUT, "/api/v1/rules", files.clone()).await;
    assert_eq!(refused.status, StatusCode::UNPROCESSABLE_ENTITY);
    let faults = refused.body["faults"].as_array().expect("faults");
    let fault = faults
        .iter()
        .find(|f| f["severity"] == "error")
        .expect("an error");
    assert_eq!(
        (&fault["file"], &fault["line"], &fault["column"]),
        (&json!("harbour.toml"), &json!(3), &json!(1))
    );
    assert_eq!(fault["help"], "did you mean `name`?");
    let checked = api.send(Method::POST, "/api/v1/rules/check", files).await;
    assert_eq!(
        (checked.status, &checked.body["usable"]),
        (StatusCode::OK, &json!(false))
    );
    assert_eq!(
        api.get("/api/v1/rules").await.body["version"],
        0,
        "nothing was published"
    );
}

#[tokio::test]
async fn answers_carry_the_headers_that_protect_a_browser() {
    let api = Api::start().await;
    for path in ["/", "/systems", "/api/v1/overview", "/api/v1/nothing"] {
        let answer = api.get(path).await;
        let value = |name: &str| {
            answer
                .headers
                .get(name)
                .and_then(|v| v.to_str().ok())
                .unwrap_or_default()
                .to_owned()
        };
        assert!(
            value("content-security-policy").contains("default-src 'self'")
                && value("content-security-policy").contains("frame-ancestors 'none'"),
            "{path}"
        );
        assert_eq!(
            (
                value("x-content-type-options").as_str(),
                value("x-frame-options").as_str()
            ),
            ("nosniff", "DENY"),
            "{path}"
        );
    }
    let page = api
        .raw(
            Method::GET,
            "/changes/12",
            &[("accept", "text/html,*/*;q=0.8")],
            Body::empty(),
        )
        .await;
    assert!(
        page.kind.starts_with("text/html"),
        "a page of the console is the console"
    );
    // Whoever asks for something else must not take the console for an answer; and what answers
    // people's data is not kept on the way.
    for (path, accept) in [
        ("/metrics", "*/*"),
        ("/changes/12", "application/json"),
        ("/v1/health", ""),
    ] {
        let answer = api
            .raw(Method::GET, path, &[("accept", accept)], Body::empty())
            .await;
        assert_eq!(
            (answer.status, answer.kind.as_str()),
            (StatusCode::NOT_FOUND, "application/problem+json"),
            "{path}"
        );
    }
    let overview = api.get("/api/v1/overview").await;
    assert_eq!(
        overview
            .headers
            .get("cache-control")
            .and_then(|value| value.to_str().ok()),
        Some("no-store")
    );
    assert_eq!(
        api.get("/assets/no-such-file.js").await.status,
        StatusCode::NOT_FOUND
    );
    for trick in ["/../../etc/passwd", "/..%2f..%2fkey", "/assets/../../key"] {
        let answer = api.get(trick).await;
        assert!(!answer.body.to_string().contains("root:"), "{trick}");
    }
}

#[tokio::test]
async fn health_is_public_and_says_little() {
    let api = Api::start().await;
    assert_eq!(api.get("/healthz").await.body, "ok");
    assert_eq!(api.get("/readyz").await.body, "ready");
    api.engine.store().close().await;
    let down = api.get("/readyz").await;
    assert_eq!(down.status, StatusCode::SERVICE_UNAVAILABLE);
    assert!(
        !down.body.to_string().contains("sqlite"),
        "what SQLite says is for the log: {}",
        down.body
    );
}

#[tokio::test]
async fn the_document_names_every_operation_once_and_no_secret_in_an_answer() {
    let document = tide_service::openapi();
    let mut ids = HashSet::new();
    for (path, methods) in document["paths"].as_object().expect("paths") {
        for (method, operation) in methods
            .as_object()
            .expect("methods")
            .iter()
            .filter(|(_, o)| o.is_object())
        {
            let id = operation["operationId"]
                .as_str()
                .unwrap_or_else(|| panic!("{method} {path} has no id"));
            assert!(ids.insert(id.to_owned()), "{id} is there twice");
            assert!(
                operation["summary"].is_string() || operation["description"].is_string(),
                "{method} {path} says nothing of itself"
            );
        }
    }
    assert!(ids.len() > 25);
    for name in [
        "System",
        "Overview",
        "Account",
        "ChangeSet",
        "Change",
        "JournalEntry",
    ] {
        let properties = document["components"]["schemas"][name]["properties"]
            .as_object()
            .unwrap_or_else(|| panic!("no {name}"));
        assert!(
            !properties
                .keys()
                .any(|key| ["secret", "password", "token"].contains(&key.as_str())),
            "{name}"
        );
    }
}

/// The demo's directory with 57 people, connected and read.
async fn start_with_directory() -> (Api, Directory) {
    let api = Api::start().await;
    let people = world::people(world::SEED, 57);
    let harbour = Directory::start(&world::directory(&people, "p"), "p")
        .await
        .expect("starts");
    let new = json!({"name": "harbour", "kind": "ldap", "secret": "p", "settings": {"url": harbour.url, "bind_dn": harbour.admin_dn, "base_dn": BASE}});
    let added = api.send(Method::POST, "/api/v1/systems", new.clone()).await;
    assert_eq!(added.status, StatusCode::CREATED);
    assert_eq!(
        (
            &added.body["system"]["writable"],
            &added.body["system"]["health"]
        ),
        (&json!([]), &json!("unknown")),
        "read-only and not tested yet"
    );
    is_problem(
        &api.send(Method::POST, "/api/v1/systems", new).await,
        409,
        "already",
    );
    let checked = api
        .send(Method::POST, "/api/v1/systems/harbour/test", Value::Null)
        .await;
    assert_eq!(checked.body["healthy"], true, "{}", checked.body);
    let read = api
        .send(Method::POST, "/api/v1/systems/harbour/read", Value::Null)
        .await;
    assert_eq!(
        (&read.body[0]["object_count"], &read.body[0]["error"]),
        (&json!(63), &Value::Null),
        "{}",
        read.body
    );
    (api, harbour)
}

#[tokio::test]
async fn lists_come_in_pages_that_fit_together() {
    let (api, _harbour) = start_with_directory().await;
    let mut seen = HashSet::new();
    let mut after = String::new();
    let mut pages = 0;
    loop {
        let page = api
            .get(&format!(
                "/api/v1/systems/harbour/accounts?limit=20&after={}",
                after
                    .replace('=', "%3D")
                    .replace(',', "%2C")
                    .replace(' ', "%20")
            ))
            .await;
        for account in page.body["items"].as_array().expect("items") {
            assert!(
                seen.insert(account["key"].to_string()),
                "nobody is shown twice"
            );
            assert!(!account.to_string().contains("userPassword"));
        }
        pages += 1;
        match page.body["next"].as_str() {
            Some(next) => after = next.to_owned(),
            None => break,
        }
    }
    assert_eq!((seen.len(), pages), (63, 4));
    let found = api
        .get("/api/v1/systems/harbour/accounts?search=KIOSK")
        .await;
    assert_eq!(found.body["items"].as_array().map(Vec::len), Some(4));
}

#[tokio::test]
async fn a_system_is_armed_and_paused_and_its_schema_shown() {
    let (api, _harbour) = start_with_directory().await;
    let state = api
        .send(
            Method::PATCH,
            "/api/v1/systems/harbour",
            json!({"writable": ["person", "group"], "paused": true}),
        )
        .await;
    assert_eq!(
        (&state.body["writable"], &state.body["paused"]),
        (&json!(["person", "group"]), &json!(true))
    );
    is_problem(
        &api.send(
            Method::PATCH,
            "/api/v1/systems/harbour",
            json!({"writable": ["ships"]}),
        )
        .await,
        422,
        "unknown variant `ships`",
    );
    let journal = api.get("/api/v1/journal?limit=2").await;
    assert_eq!(journal.body["items"].as_array().map(Vec::len), Some(2));
    let rest = api
        .get(&format!(
            "/api/v1/journal?after={}",
            journal.body["next"].as_str().expect("more")
        ))
        .await;
    assert!(rest.body["items"][0]["id"].as_i64() < journal.body["items"][1]["id"].as_i64());
    assert_eq!(
        api.get("/api/v1/journal/check").await.body["is_intact"],
        true
    );
    let schema = api.get("/api/v1/systems/harbour/schema").await;
    assert!(
        schema
            .body
            .as_array()
            .is_some_and(|all| all.iter().any(|a| a["name"] == "sn")
                && !all.iter().any(|a| a["name"] == "userPassword"))
    );
}

#[tokio::test]
async fn every_part_of_a_scope_is_shown_in_the_rules() {
    let api = Api::start().await;
    let identities = "[person.attributes]\nmail = { recommended = true }\n";
    let source = "system = \"harbour\"\n[person.scope]\ngroups = [\"cn=crew,dc=e\"]\nnot_groups = [{ name = \"cn=new,dc=e\", nested = false }]\nfilter = '(mail=*)'\n[person.protected]\nnames = [\"uid=spare,dc=e\"]\n[[person.protected.condition]]\nwhen = 'account.fed == \"yes\"'\nreason = \"fed from elsewhere\"\n[person.inbound]\nmail = 'account.mail'\n";
    let target = "system = \"berthing\"\n[person.domains]\nattributes = [\"mail\"]\nours = [\"skerry.example\"]\ntranslate = { \"old.example\" = \"skerry.example\" }\n[person.outbound]\nmail = { value = 'identity.mail', recommended = true }\n";
    let file = |name: &str, text: &str| json!({"name": name, "text": text});
    let files = json!({"files": [file("identities.toml", identities), file("harbour.toml", source), file("berthing.toml", target)]});
    let published = api.send(Method::PUT, "/api/v1/rules", files).await;
    assert_eq!(published.status, StatusCode::OK, "{}", published.body);
    let rules = api.get("/api/v1/rules").await.body;
    let told: Vec<String> = rules["systems"]
        .as_array()
        .expect("systems")
        .iter()
        .flat_map(|system| ["scope", "outbound"].map(|part| system[part].clone()))
        .flat_map(|lines| lines.as_array().cloned().unwrap_or_default())
        .map(|line| {
            format!("{} {} ({})", line["name"], line["text"], line["note"]).replace('"', "")
        })
        .collect();
    for wanted in [
        "member of cn=crew,dc=e (including nested members)",
        "not a member of cn=new,dc=e (direct members only)",
        "filter (mail=*) ()",
        "protected uid=spare,dc=e (never linked, changed or disabled)",
        "(fed from elsewhere)",
        "our domains skerry.example (in mail; other addresses are put on hold)",
        "domain old.example → skerry.example (written as)",
        "mail identity.mail (recommended)",
    ] {
        assert!(
            told.iter().any(|line| line.contains(wanted)),
            "{wanted} in {told:#?}"
        );
    }
}

/// What programs tell apart is an enum, a number or an instant in the document: a client's types
/// come from it.
#[tokio::test]
async fn states_kinds_and_instants_are_no_bare_texts_in_the_document() {
    let api = Api::start().await;
    let document = api.get("/api/v1/openapi.json").await.body;
    let schemas = document["components"]["schemas"]
        .as_object()
        .expect("schemas");
    let is_bare = |property: &Value| {
        let text = property["type"] == "string"
            || property["type"]
                .as_array()
                .is_some_and(|types| types.contains(&"string".into()));
        text && property["format"].is_null() && property["enum"].is_null()
    };
    let is_typed = |name: &str| {
        name.ends_with("_at") || ["state", "kind", "verdict", "status"].contains(&name)
    };
    let mut seen = 0;
    for (schema, definition) in schemas {
        for (name, property) in definition["properties"]
            .as_object()
            .into_iter()
            .flatten()
            .filter(|(name, _)| is_typed(name))
        {
            assert!(
                !is_bare(property),
                "{schema}.{name} is a bare text: {property}"
            );
            seen += 1;
        }
    }
    assert!(seen > 30, "only {seen} such properties");
    let parameters = document["paths"]
        .as_object()
        .expect("paths")
        .values()
        .flat_map(|path| path.as_object().expect("methods").values());
    for parameter in
        parameters.flat_map(|operation| operation["parameters"].as_array().into_iter().flatten())
    {
        let name = parameter["name"].as_str().expect("a name");
        assert!(
            !is_typed(name) || !is_bare(&parameter["schema"]),
            "the parameter {name} is a bare text"
        );
    }
}
