//! Requests made from the API's own document, by chance: boundary numbers, empty and huge texts, wrong types, unknown ids, odd methods.
//! No request may end the service or meet an internal error, and every answer is one that the document knows.

use axum::Router;
use axum::body::{Body, to_bytes};
use axum::http::{Method, Request, StatusCode, header};
use rand::rngs::StdRng;
use rand::seq::IndexedRandom;
use rand::{RngExt, SeedableRng};
use serde_json::{Map, Value, json};
use std::sync::Arc;
use tide_core::rules::RuleFile;
use tide_engine::{Allowed, Engine, NewSystem, Plan, SystemClock};
use tide_standins::world;
use tide_store::{MasterKey, Store};
use tower::ServiceExt;

const TOKEN: &str = "operator-token";
/// Requests for each operation.
const EACH: usize = 40;
const RULES: [(&str, &str); 4] = [
    (
        "identities.toml",
        "[person]\nlabel = \"name\"\n[person.attributes]\nnumber = { required = true, unique = true }\nname = {}\ndept = {}\n",
    ),
    ("crew.toml", "system = \"crew\"\n[person.inbound]\nnumber = 'account.number'\nname = 'account.name'\ndept = 'account.dept'\n"),
    ("roles.toml", "[[role]]\nname = \"lookout\"\nwhen = 'identity.dept == \"deck\"'\n"),
    ("lifecycle.toml", "[person]\nleft = 'identity.dept == \"ashore\"'\n"),
];
const METHODS: [Method; 5] = [Method::GET, Method::PUT, Method::POST, Method::PATCH, Method::DELETE];

/// Numbers at which something could break.
fn number(random: &mut StdRng) -> Value {
    let all = [0, 1, -1, 2, 255, 256, 65_536, 1 << 31, i64::MAX, i64::MAX - 1, i64::MIN];
    match random.random_range(0..8) {
        0 => json!(u64::MAX),
        1 => json!(1.5e300),
        _ => json!(all.choose(random)),
    }
}

fn text(random: &mut StdRng) -> String {
    let all = [
        "",
        " ",
        "a",
        "roster",
        "person",
        "harbour",
        "ada",
        "identities.toml",
        "crew",
        "Ada",
        "lookout",
        "1",
        "..",
        "../../etc/passwd",
        "%2e%2e%2f",
        "%",
        "'",
        "\"; DROP TABLE account; --",
        "\u{0}",
        "\u{202e}abc",
        "Ægir Þór 🚢",
        "null",
        "true",
        "-1",
        "9223372036854775807",
        "2026-02-30",
        "2027-01-15",
        "9999-12-31T23:59:59Z",
        "-009999-01-01T00:00:00Z",
        "*",
        "(&(objectClass=*)",
        "identity.name",
        "account.number ==",
        "file:/etc/passwd",
        "env:PATH",
        "ldap://127.0.0.1:9",
        "http://127.0.0.1:9/",
        "http://[::1]:9/",
        "person = 1\n",
        "[person",
    ];
    match random.random_range(0..30) {
        0 => "x".repeat(100_000),
        1 => "[".repeat(5_000),
        2 => "é".repeat(300),
        _ => (*all.choose(random).expect("some")).to_owned(),
    }
}

/// A value that fits a schema for the most part, and now and then is of another type, missing or more than is known.
fn value(random: &mut StdRng, document: &Value, schema: &Value, depth: usize) -> Value {
    if random.random_ratio(1, 25) {
        return [Value::Null, json!([]), json!({}), json!(true), number(random), json!(text(random))]
            .choose(random)
            .cloned()
            .unwrap_or_default();
    }
    if let Some(name) = schema["$ref"].as_str().and_then(|name| name.strip_prefix("#/components/schemas/")) {
        return if depth > 6 { Value::Null } else { value(random, document, &document["components"]["schemas"][name], depth + 1) };
    }
    for many in ["oneOf", "anyOf", "allOf"] {
        if let Some(one) = schema[many].as_array().and_then(|all| all.choose(random)) {
            return value(random, document, one, depth + 1);
        }
    }
    if let Some(one) = schema["enum"].as_array().and_then(|all| all.choose(random)) {
        return one.clone();
    }
    let kind = match &schema["type"] {
        Value::Array(kinds) => kinds.choose(random).and_then(Value::as_str).unwrap_or("null"),
        kind => kind.as_str().unwrap_or("object"),
    };
    match kind {
        "integer" | "number" => number(random),
        "boolean" => json!(random.random_bool(0.5)),
        "string" => json!(text(random)),
        "array" => (0..random.random_range(0..3)).map(|_| value(random, document, &schema["items"], depth + 1)).collect(),
        "null" => Value::Null,
        _ => {
            let mut all = Map::new();
            for (name, of) in schema["properties"].as_object().into_iter().flatten() {
                if !random.random_ratio(1, 6) {
                    all.insert(name.clone(), value(random, document, of, depth + 1));
                }
            }
            if random.random_ratio(1, 10) {
                all.insert(text(random), number(random));
            }
            Value::Object(all)
        }
    }
}

/// Octets of a path or a query, none of which means anything there.
fn escaped(text: &str) -> String {
    let plain = |octet: &u8| octet.is_ascii_alphanumeric() || b"-_.~".contains(octet);
    text.bytes().map(|octet| if plain(&octet) { char::from(octet).to_string() } else { format!("%{octet:02X}") }).collect()
}

struct Fuzz {
    _folder: tempfile::TempDir,
    engine: Arc<Engine>,
    router: Router,
}

impl Fuzz {
    /// A service with people, rules, roles and a target that does not answer.
    async fn start() -> Fuzz {
        let folder = tempfile::tempdir().expect("a folder");
        let store = Store::open(&folder.path().join("tide.db"), MasterKey::generate()).await.expect("opens");
        let crew = folder.path().join("crew.csv");
        std::fs::write(&crew, "number;name;dept\n1;Ada;deck\n2;Bo;galley\n3;Cy;deck\n").expect("written");
        let allowed = Allowed { feed_folders: vec![folder.path().to_owned()], ..Allowed::default() };
        let engine = Engine::with(store, Arc::new(SystemClock), allowed);
        engine.store().add_principal("operator", "tester", Some(TOKEN), engine.now()).await.expect("made");
        for (name, kind, settings) in [
            ("crew", "feed", json!({"path": crew, "key": "number"})),
            ("harbour", "ldap", json!({"url": "ldap://127.0.0.1:9", "base_dn": world::BASE, "timeout_seconds": 1})),
            ("berthing", "scim", json!({"url": "http://127.0.0.1:9/", "timeout_seconds": 1})),
            ("roster", "push", json!({})),
        ] {
            let secret = matches!(kind, "ldap" | "scim").then(|| "a secret".to_owned());
            engine.add_system(NewSystem { name: name.into(), kind: kind.into(), settings, secret }, "tester").await.expect("added");
        }
        let files: Vec<RuleFile> =
            RULES.iter().map(|(name, text)| RuleFile { name: (*name).to_owned(), text: (*text).to_owned() }).collect();
        engine.check_system("crew", None).await.expect("tested");
        assert_eq!(engine.publish_rules(&files, "tester").await.expect("published").1, vec![]);
        let run = engine.begin(Plan { carry_out: true, ..Plan::default() }, "tester").await.expect("begins");
        while engine.store().change_set(run).await.expect("read").ended.is_none() {
            tokio::time::sleep(std::time::Duration::from_millis(10)).await;
        }
        assert_eq!(engine.store().population().await.expect("read").identities.len(), 3);
        Fuzz { _folder: folder, router: tide_service::router(engine.clone()), engine }
    }

    async fn answer(&self, request: Request<Body>) -> (StatusCode, String, Value) {
        let response = self.router.clone().oneshot(request).await.expect("answered");
        let status = response.status();
        let kind = response.headers().get(header::CONTENT_TYPE).and_then(|kind| kind.to_str().ok()).unwrap_or_default().to_owned();
        if kind.starts_with("text/event-stream") {
            return (status, kind, Value::Null);
        }
        let octets = to_bytes(response.into_body(), 64 << 20).await.expect("read");
        (status, kind, serde_json::from_slice(&octets).unwrap_or_default())
    }

    async fn is_ready(&self) -> bool {
        self.answer(Request::get("/readyz").body(Body::empty()).expect("a request")).await.0 == StatusCode::OK
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn no_request_ends_the_service_or_meets_an_internal_error() {
    let fuzz = Fuzz::start().await;
    let document = tide_service::openapi();
    let mut random = StdRng::seed_from_u64(0x7ea);
    let (mut sent, mut wrong) = (0, Vec::new());
    for (template, methods) in document["paths"].as_object().expect("paths") {
        for method in METHODS {
            let Some(operation) = methods.get(method.as_str().to_lowercase()) else {
                let uri = template.replace(['{', '}'], "");
                let request = Request::builder().method(&method).uri(&uri).body(Body::empty()).expect("a request");
                let (status, kind, _) = fuzz.answer(request).await;
                assert_eq!((status, kind.as_str()), (StatusCode::METHOD_NOT_ALLOWED, "application/problem+json"), "{method} {template}");
                continue;
            };
            for _ in 0..EACH {
                let mut path = template.clone();
                let mut query = Vec::new();
                for parameter in operation["parameters"].as_array().into_iter().flatten() {
                    let name = parameter["name"].as_str().unwrap_or_default();
                    let given = match value(&mut random, &document, &parameter["schema"], 0) {
                        Value::String(text) => text,
                        other => other.to_string(),
                    };
                    match parameter["in"].as_str() {
                        Some("path") => path = path.replace(&format!("{{{name}}}"), &escaped(&given)),
                        _ if random.random_bool(0.6) => query.push(format!("{name}={}", escaped(&given))),
                        _ => {}
                    }
                }
                let uri = if query.is_empty() { path } else { format!("{path}?{}", query.join("&")) };
                if uri.len() > 60_000 {
                    continue;
                }
                let mut request =
                    Request::builder().method(method.clone()).uri(&uri).header(header::AUTHORIZATION, format!("Bearer {TOKEN}"));
                let mut body = String::new();
                if let Some(content) = operation["requestBody"]["content"].as_object().and_then(|content| content.iter().next()) {
                    request = request.header(header::CONTENT_TYPE, content.0);
                    body = match random.random_range(0..15) {
                        0 => "{not json".to_owned(),
                        1 => String::new(),
                        _ => value(&mut random, &document, &content.1["schema"], 0).to_string(),
                    };
                }
                let Ok(request) = request.body(Body::from(body.clone())) else { continue };
                let (status, kind, answer) = fuzz.answer(request).await;
                sent += 1;
                let shown = || {
                    format!(
                        "{method} {}: {} {}\n  {}\n  {answer}",
                        uri.chars().take(200).collect::<String>(),
                        status.as_u16(),
                        kind,
                        body.chars().take(300).collect::<String>()
                    )
                };
                let documented = operation["responses"].get(status.as_str()).is_some();
                let problem = status.is_success() || kind == "application/problem+json" && answer["status"] == status.as_u16();
                if status.is_server_error() || !documented || !problem {
                    wrong.push(shown());
                }
            }
            assert!(fuzz.is_ready().await, "the service is not ready after {method} {template}");
        }
    }
    println!("{sent} requests, {} answers that should not be", wrong.len());
    assert!(wrong.is_empty(), "{} of {sent} answers:\n{}", wrong.len(), wrong[..wrong.len().min(40)].join("\n"));
    assert_eq!(fuzz.engine.trouble(), None);
    fuzz.engine.stop().await;
}
