//! Requests made from the API's own document, and as systems that call us make them, by chance:
//! boundary numbers, empty and huge texts, wrong types, unknown ids, odd methods. No request may
//! end the service or meet an internal error, and every answer is one that the document or the
//! standard knows.
#![allow(clippy::disallowed_methods, reason = "tests run in real time")]

use axum::Router;
use axum::body::{Body, to_bytes};
use axum::http::{Method, Request, StatusCode, header};
use rand::rngs::StdRng;
use rand::seq::IndexedRandom;
use rand::{RngExt, SeedableRng};
use serde_json::{Map, Value, json};
use std::sync::Arc;
use tide_core::rules::RuleFile;
use tide_core::states::{PrincipalKind, SystemKind};
use tide_engine::{Engine, NewSystem, Plan, SecretSources, SystemClock};
use tide_standins::world;
use tide_store::{MasterKey, Store};
use tower::ServiceExt;

const TOKEN: &str = "operator-token";
const PUSHING: &str = "system-token";
/// Requests that a system makes to the SCIM provider, and events that it sends.
const PUSHED: (usize, usize) = (3000, 500);
/// Requests for each operation.
const EACH: usize = 40;
const RULES: [(&str, &str); 4] = [
    (
        "identities.toml",
        "[person]\nlabel = \"name\"\n[person.attributes]\nnumber = { required = true, unique = true }\nname = {}\ndept = {}\n",
    ),
    (
        "crew.toml",
        "system = \"crew\"\n[person.inbound]\nnumber = 'account.number'\nname = 'account.name'\ndept = 'account.dept'\n",
    ),
    (
        "roles.toml",
        "[[role]]\nname = \"lookout\"\nwhen = 'identity.dept == \"deck\"'\n",
    ),
    (
        "lifecycle.toml",
        "[person]\nleft = 'identity.dept == \"ashore\"'\n",
    ),
];
const METHODS: [Method; 5] = [
    Method::GET,
    Method::PUT,
    Method::POST,
    Method::PATCH,
    Method::DELETE,
];

/// Numbers at which something could break.
fn number(random: &mut StdRng) -> Value {
    let all = [
        0,
        1,
        -1,
        2,
        255,
        256,
        65_536,
        1 << 31,
        i64::MAX,
        i64::MAX - 1,
        i64::MIN,
    ];
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

/// A value that fits a schema for the most part, and now and then is of another type, missing or
/// more than is known.
fn value(random: &mut StdRng, document: &Value, schema: &Value, depth: usize) -> Value {
    if random.random_ratio(1, 25) {
        return [
            Value::Null,
            json!([]),
            json!({}),
            json!(true),
            number(random),
            json!(text(random)),
        ]
        .choose(random)
        .cloned()
        .unwrap_or_default();
    }
    if let Some(name) = schema["$ref"]
        .as_str()
        .and_then(|name| name.strip_prefix("#/components/schemas/"))
    {
        return if depth > 6 {
            Value::Null
        } else {
            value(
                random,
                document,
                &document["components"]["schemas"][name],
                depth + 1,
            )
        };
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
        Value::Array(kinds) => kinds
            .choose(random)
            .and_then(Value::as_str)
            .unwrap_or("null"),
        kind => kind.as_str().unwrap_or("object"),
    };
    match kind {
        "integer" | "number" => number(random),
        "boolean" => json!(random.random_bool(0.5)),
        "string" => json!(text(random)),
        "array" => (0..random.random_range(0..3))
            .map(|_| value(random, document, &schema["items"], depth + 1))
            .collect(),
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
    text.bytes()
        .map(|octet| {
            if plain(&octet) {
                char::from(octet).to_string()
            } else {
                format!("%{octet:02X}")
            }
        })
        .collect()
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
        let store = Store::open(&folder.path().join("tide.db"), MasterKey::generate())
            .await
            .expect("opens");
        let crew = folder.path().join("crew.csv");
        std::fs::write(
            &crew,
            "number;name;dept\n1;Ada;deck\n2;Bo;galley\n3;Cy;deck\n",
        )
        .expect("written");
        let allowed = SecretSources {
            feed_folders: vec![folder.path().to_owned()],
            ..SecretSources::default()
        };
        let engine = Engine::with(store, Arc::new(SystemClock), allowed);
        engine
            .store()
            .add_principal(PrincipalKind::Operator, "tester", Some(TOKEN), engine.now())
            .await
            .expect("made");
        for (name, kind, settings) in [
            (
                "crew",
                SystemKind::Feed,
                json!({"path": crew, "key": "number"}),
            ),
            (
                "harbour",
                SystemKind::Ldap,
                json!({"url": "ldap://127.0.0.1:9", "base_dn": world::BASE, "timeout_seconds": 1}),
            ),
            (
                "berthing",
                SystemKind::Scim,
                json!({"url": "http://127.0.0.1:9/", "timeout_seconds": 1}),
            ),
            ("roster", SystemKind::Push, json!({})),
        ] {
            let secret =
                matches!(kind, SystemKind::Ldap | SystemKind::Scim).then(|| "a secret".to_owned());
            engine
                .administration()
                .add_system(
                    NewSystem {
                        name: name.into(),
                        kind,
                        settings,
                        secret,
                    },
                    "tester",
                )
                .await
                .expect("added");
        }
        let files: Vec<RuleFile> = RULES
            .iter()
            .map(|(name, text)| RuleFile {
                name: (*name).to_owned(),
                text: (*text).to_owned(),
            })
            .collect();
        engine
            .administration()
            .check_system("crew", None)
            .await
            .expect("tested");
        assert_eq!(
            engine
                .administration()
                .publish_rules(&files, "tester")
                .await
                .expect("published")
                .1,
            vec![]
        );
        let run = engine
            .runner()
            .begin_change_set(
                Plan {
                    carry_out: true,
                    ..Plan::default()
                },
                "tester",
            )
            .await
            .expect("begins");
        while engine
            .store()
            .change_set(run)
            .await
            .expect("read")
            .ended_at
            .is_none()
        {
            tokio::time::sleep(std::time::Duration::from_millis(10)).await;
        }
        assert_eq!(
            engine
                .store()
                .load_population()
                .await
                .expect("read")
                .identities
                .len(),
            3
        );
        Fuzz {
            _folder: folder,
            router: tide_service::router(engine.clone()),
            engine,
        }
    }

    async fn answer(&self, request: Request<Body>) -> (StatusCode, String, Value) {
        let response = self
            .router
            .clone()
            .oneshot(request)
            .await
            .expect("answered");
        let status = response.status();
        let kind = response
            .headers()
            .get(header::CONTENT_TYPE)
            .and_then(|kind| kind.to_str().ok())
            .unwrap_or_default()
            .to_owned();
        if kind.starts_with("text/event-stream") {
            return (status, kind, Value::Null);
        }
        let octets = to_bytes(response.into_body(), 64 << 20)
            .await
            .expect("read");
        (
            status,
            kind,
            serde_json::from_slice(&octets).unwrap_or_default(),
        )
    }

    async fn is_ready(&self) -> bool {
        self.answer(
            Request::get("/readyz")
                .body(Body::empty())
                .expect("a request"),
        )
        .await
        .0 == StatusCode::OK
    }
}

/// A path with its query for an operation: every path parameter has a value, most others too.
fn address(random: &mut StdRng, document: &Value, template: &str, operation: &Value) -> String {
    let mut path = template.to_owned();
    let mut query = Vec::new();
    for parameter in operation["parameters"].as_array().into_iter().flatten() {
        let name = parameter["name"].as_str().unwrap_or_default();
        let given = match value(random, document, &parameter["schema"], 0) {
            Value::String(text) => text,
            other => other.to_string(),
        };
        match parameter["in"].as_str() {
            Some("path") => path = path.replace(&format!("{{{name}}}"), &escaped(&given)),
            _ if random.random_bool(0.6) => query.push(format!("{name}={}", escaped(&given))),
            _ => {}
        }
    }
    with_query(path, &query)
}

fn with_query(path: String, query: &[String]) -> String {
    if query.is_empty() {
        path
    } else {
        format!("{path}?{}", query.join("&"))
    }
}

/// The media type and the body of a request, where the operation takes one: sound for the most part.
fn request_body(
    random: &mut StdRng,
    document: &Value,
    operation: &Value,
) -> Option<(String, String)> {
    let content = operation["requestBody"]["content"].as_object()?;
    let (kind, described) = content.iter().next()?;
    let body = match random.random_range(0..15) {
        0 => "{not json".to_owned(),
        1 => String::new(),
        _ => value(random, document, &described["schema"], 0).to_string(),
    };
    Some((kind.clone(), body))
}

fn start_of(text: &str, length: usize) -> String {
    text.chars().take(length).collect()
}

/// Whether an answer has a documented status and, when it is an error, the form of one.
fn is_documented(operation: &Value, status: StatusCode, kind: &str, answer: &Value) -> bool {
    let is_problem = kind == "application/problem+json" && answer["status"] == status.as_u16();
    !status.is_server_error()
        && operation["responses"].get(status.as_str()).is_some()
        && (status.is_success() || is_problem)
}

impl Fuzz {
    /// A random request of an operation: whether it was sent, and what is wrong with its answer.
    async fn try_operation(
        &self,
        random: &mut StdRng,
        document: &Value,
        (method, template): (&Method, &str),
        operation: &Value,
    ) -> (bool, Option<String>) {
        let uri = address(random, document, template, operation);
        if uri.len() > 60_000 {
            return (false, None);
        }
        let mut request = Request::builder()
            .method(method.clone())
            .uri(&uri)
            .header(header::AUTHORIZATION, format!("Bearer {TOKEN}"));
        let mut body = String::new();
        if let Some((kind, given)) = request_body(random, document, operation) {
            request = request.header(header::CONTENT_TYPE, kind);
            body = given;
        }
        let Ok(request) = request.body(Body::from(body.clone())) else {
            return (false, None);
        };
        let (status, kind, answer) = self.answer(request).await;
        if is_documented(operation, status, &kind, &answer) {
            return (true, None);
        }
        let (uri, body) = (start_of(&uri, 200), start_of(&body, 300));
        let status = status.as_u16();
        (
            true,
            Some(format!(
                "{method} {uri}: {status} {kind}\n  {body}\n  {answer}"
            )),
        )
    }

    async fn end(self, wrong: &[String]) {
        let shown = wrong[..wrong.len().min(40)].join("\n");
        assert!(wrong.is_empty(), "{}:\n{shown}", wrong.len());
        assert!(self.is_ready().await);
        assert_eq!(self.engine.known_fault(), None);
        self.engine.stop().await;
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
                let request = Request::builder()
                    .method(&method)
                    .uri(template.replace(['{', '}'], ""))
                    .body(Body::empty())
                    .expect("a request");
                let (status, kind, _) = fuzz.answer(request).await;
                assert_eq!(
                    (status, kind.as_str()),
                    (StatusCode::METHOD_NOT_ALLOWED, "application/problem+json"),
                    "{method} {template}"
                );
                continue;
            };
            for _ in 0..EACH {
                let place = (&method, template.as_str());
                let (is_sent, fault) = fuzz
                    .try_operation(&mut random, &document, place, operation)
                    .await;
                sent += usize::from(is_sent);
                wrong.extend(fault);
            }
            assert!(
                fuzz.is_ready().await,
                "the service is not ready after {method} {template}"
            );
        }
    }
    println!("{sent} requests, {} wrong answers", wrong.len());
    fuzz.end(&wrong).await;
}

/// A path of an attribute or a filter, sound or not.
fn scim_path(random: &mut StdRng) -> String {
    let all = [
        "userName",
        "emails",
        "emails.value",
        "emails[type eq \"work\"]",
        "emails[type eq \"work\"].value",
        "emails[",
        "members",
        "members[value eq \"1\"]",
        "name.familyName",
        "name.familyName.more",
        "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:department",
        "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User",
        "urn:x:",
        "active",
        "id",
        "meta.created",
        "schemas",
        "groups",
        "x509Certificates.value",
    ];
    if random.random_ratio(1, 6) {
        text(random)
    } else {
        (*all.choose(random).expect("some")).to_owned()
    }
}

fn scim_filter(random: &mut StdRng, depth: usize) -> String {
    let operators = [
        "eq", "ne", "co", "sw", "ew", "gt", "ge", "lt", "le", "pr", "xx",
    ];
    match random.random_range(0..8) {
        0 if depth < 5 => format!(
            "({} and {})",
            scim_filter(random, depth + 1),
            scim_filter(random, depth + 1)
        ),
        1 if depth < 5 => format!("not ({})", scim_filter(random, depth + 1)),
        2 if depth < 5 => format!(
            "{} or {}",
            scim_filter(random, depth + 1),
            scim_filter(random, depth + 1)
        ),
        3 => text(random),
        4 => "(".repeat(random.random_range(0..300)),
        _ => {
            let operator = operators.choose(random).expect("some");
            let given = match random.random_range(0..4) {
                0 => number(random),
                1 => json!(random.random_bool(0.5)),
                _ => json!(text(random)),
            };
            format!("{} {operator} {given}", scim_path(random))
        }
    }
}

/// A user or a group, sound for the most part.
fn resource(random: &mut StdRng) -> Value {
    let name = if random.random_ratio(1, 8) {
        text(random)
    } else {
        format!("u{}", random.random_range(0..300))
    };
    let mut body = json!({
        "schemas": ["urn:ietf:params:scim:schemas:core:2.0:User"],
        "userName": name, "displayName": text(random), "active": random.random_bool(0.5),
        "externalId": text(random), "name": {"familyName": text(random), "givenName": text(random)},
        "emails": [{"value": format!("{}@skerry.example", random.random_range(0..300)), "type": "work", "primary": random.random_bool(0.5)}],
        "members": [{"value": random.random_range(0..300).to_string()}, {"value": text(random), "type": "Group"}],
        "password": "a first one",
    });
    let odd = if random.random_ratio(1, 3) {
        random.random_range(1..3)
    } else {
        0
    };
    for _ in 0..odd {
        let names: Vec<String> = body
            .as_object()
            .into_iter()
            .flatten()
            .map(|(name, _)| name.clone())
            .collect();
        let name = if random.random_ratio(1, 5) {
            text(random)
        } else {
            names.choose(random).cloned().unwrap_or_default()
        };
        body[name] = value(random, &Value::Null, &json!({}), 0);
        if random.random_ratio(1, 4) {
            let odd = [
                json!([[[]]]),
                json!({"value": {"value": []}}),
                number(random),
                json!(text(random)),
                Value::Null,
            ];
            let name = names.choose(random).cloned().unwrap_or_default();
            body[name] = odd.choose(random).cloned().unwrap_or_default();
        }
    }
    body
}

fn patch(random: &mut StdRng) -> Value {
    let operation = |random: &mut StdRng| {
        let mut operation =
            json!({"op": (["add", "remove", "replace", "Add", "move", ""].choose(random))});
        if random.random_ratio(4, 5) {
            operation["path"] = json!(scim_path(random));
        }
        if random.random_ratio(4, 5) {
            let given = [
                resource(random),
                json!(text(random)),
                number(random),
                json!([{"value": "1"}]),
                json!([]),
                Value::Null,
                json!(true),
            ];
            operation["value"] = given.choose(random).cloned().unwrap_or_default();
        }
        operation
    };
    let operations: Vec<Value> = (0..random.random_range(0..4))
        .map(|_| operation(random))
        .collect();
    json!({"schemas": ["urn:ietf:params:scim:api:messages:2.0:PatchOp"], "Operations": operations})
}

fn bulk(random: &mut StdRng) -> Value {
    let operation = |random: &mut StdRng| {
        json!({
            "method": (["POST", "PUT", "PATCH", "DELETE", "GET", ""].choose(random)),
            "path": (["/Users", "/Groups", "/Users/1", "/Users/bulkId:a", "/", "", "/Nowhere/1/2"].choose(random)),
            "bulkId": (["a", "b", ""].choose(random)),
            "version": text(random),
            "data": if random.random_bool(0.5) { resource(random) } else { patch(random) },
        })
    };
    let operations: Vec<Value> = (0..random.random_range(0..4))
        .map(|_| operation(random))
        .collect();
    json!({"schemas": ["urn:ietf:params:scim:api:messages:2.0:BulkRequest"], "failOnErrors": number(random), "Operations": operations})
}

/// The method, path with query, media type and body of a request to the SCIM provider.
fn scim_request(
    random: &mut StdRng,
    ids: &[String],
) -> (&'static str, String, &'static str, String) {
    let methods = [
        "GET", "POST", "PUT", "PATCH", "GET", "POST", "PUT", "PATCH", "GET", "PATCH", "DELETE",
        "HEAD", "OPTIONS", "ODD",
    ];
    let places = [
        "Users",
        "Groups",
        "Users",
        "Bulk",
        ".search",
        "Users/.search",
        "Schemas",
        "ResourceTypes",
        "ServiceProviderConfig",
        "Me",
        "",
    ];
    let place = if random.random_bool(0.6) {
        "Users"
    } else {
        *places.choose(random).expect("some")
    };
    let uri = scim_address(random, place, ids);
    let method = *methods.choose(random).expect("some");
    let body = match (random.random_range(0..12), place, method) {
        (0, ..) => "{not json".to_owned(),
        (1, ..) => String::new(),
        (_, "Bulk", _) => bulk(random).to_string(),
        (_, _, "PATCH") => patch(random).to_string(),
        (_, ".search" | "Users/.search", _) => {
            json!({"schemas": ["urn:ietf:params:scim:api:messages:2.0:SearchRequest"], "filter": scim_filter(random, 0),
                "count": number(random), "startIndex": number(random)})
            .to_string()
        }
        _ => resource(random).to_string(),
    };
    let kind = if random.random_ratio(1, 15) {
        "text/plain"
    } else {
        "application/scim+json"
    };
    (method, uri, kind, body)
}

fn scim_address(random: &mut StdRng, place: &str, ids: &[String]) -> String {
    let mut path = format!("/scim/v2/roster/{place}");
    if random.random_bool(0.5) {
        let id = if random.random_ratio(1, 5) {
            escaped(&text(random))
        } else {
            ids.choose(random).cloned().unwrap_or_default()
        };
        path.push_str(&format!("/{id}"));
    }
    let mut query = Vec::new();
    for name in [
        "filter",
        "startIndex",
        "count",
        "cursor",
        "sortBy",
        "sortOrder",
        "attributes",
        "excludedAttributes",
    ] {
        if random.random_ratio(1, 16) {
            let given = match name {
                "filter" => scim_filter(random, 0),
                "startIndex" | "count" => number(random).to_string(),
                _ => scim_path(random),
            };
            query.push(format!("{name}={}", escaped(&given)));
        }
    }
    with_query(path, &query)
}

/// Whether the SCIM provider gave an answer of the standard.
fn is_scim_answer(method: &str, status: StatusCode, answer: &Value) -> bool {
    let is_error = answer["schemas"][0] == "urn:ietf:params:scim:api:messages:2.0:Error"
        && answer["status"] == status.as_str();
    // The answer to HEAD has no body (RFC 9110 section 9.3.2). /Me is not offered, and says so.
    let is_internal = status.is_server_error() && status != StatusCode::NOT_IMPLEMENTED;
    let has_no_body = status == StatusCode::NOT_MODIFIED || method == "HEAD";
    !is_internal && (status.is_success() || has_no_body || is_error)
}

impl Fuzz {
    async fn start_with_caller() -> Fuzz {
        let fuzz = Fuzz::start().await;
        fuzz.engine
            .ingest()
            .give_token("roster", "", PUSHING.into(), "tester")
            .await
            .expect("given");
        fuzz
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn no_scim_request_ends_the_service_or_meets_an_internal_error() {
    let fuzz = Fuzz::start_with_caller().await;
    let mut random = StdRng::seed_from_u64(0x5c1);
    let (mut ids, mut wrong, mut done) = (vec!["1".to_owned()], Vec::new(), 0);
    for turn in 0..PUSHED.0 {
        let (method, uri, kind, body) = scim_request(&mut random, &ids);
        if uri.len() > 60_000 {
            continue;
        }
        let request = Request::builder()
            .method(method)
            .uri(&uri)
            .header(header::AUTHORIZATION, format!("Bearer {PUSHING}"))
            .header(header::CONTENT_TYPE, kind)
            .body(Body::from(body.clone()));
        let Ok(request) = request else { continue };
        let (status, kind, answer) = fuzz.answer(request).await;
        done += usize::from(status.is_success());
        if status == StatusCode::CREATED {
            ids.extend(answer["id"].as_str().map(str::to_owned));
        }
        if !is_scim_answer(method, status, &answer) {
            let (uri, body) = (start_of(&uri, 200), start_of(&body, 300));
            let status = status.as_u16();
            wrong.push(format!(
                "{method} {uri}: {status} {kind}\n  {body}\n  {answer}"
            ));
        }
        if turn % 250 == 0 {
            assert!(
                fuzz.is_ready().await,
                "the service is not ready after {method} {uri}"
            );
        }
    }
    let sent = PUSHED.0;
    println!(
        "{sent} requests, {done} done, {} wrong answers",
        wrong.len()
    );
    assert!(done > 400, "{done} done: too many requests are unsound");
    fuzz.end(&wrong).await;
}

/// An event, sound for the most part.
fn event(random: &mut StdRng) -> String {
    let mut event = json!({"event": (["joiner", "mover", "leaver"].choose(random)), "key": (["7", "8", "9"].choose(random))});
    for name in ["id", "sequence", "time", "attributes", "key", "event"] {
        if random.random_ratio(1, 4) {
            let given = [
                number(random),
                json!(text(random)),
                resource(random),
                json!([]),
                Value::Null,
                json!("2026-05-04T08:00:00Z"),
            ];
            event[name] = given.choose(random).cloned().unwrap_or_default();
        }
    }
    if random.random_ratio(1, 20) {
        "[".repeat(3000)
    } else {
        event.to_string()
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn no_event_ends_the_service_or_meets_an_internal_error() {
    let fuzz = Fuzz::start_with_caller().await;
    let document = tide_service::openapi();
    let operation = &document["paths"]["/api/v1/events/{system}"]["post"];
    let mut random = StdRng::seed_from_u64(0xe7e);
    let (mut wrong, mut done) = (Vec::new(), 0);
    for _ in 0..PUSHED.1 {
        let body = event(&mut random);
        let request = Request::post("/api/v1/events/roster")
            .header(header::AUTHORIZATION, format!("Bearer {PUSHING}"))
            .header(header::CONTENT_TYPE, "application/json")
            .body(Body::from(body.clone()))
            .expect("a request");
        let (status, kind, answer) = fuzz.answer(request).await;
        done += usize::from(status.is_success());
        if !is_documented(operation, status, &kind, &answer) {
            let (status, body) = (status.as_u16(), start_of(&body, 300));
            wrong.push(format!("event {body}: {status} {kind}\n  {answer}"));
        }
    }
    let sent = PUSHED.1;
    println!("{sent} events, {done} done, {} wrong answers", wrong.len());
    assert!(done > 50, "{done} done: too many events are unsound");
    fuzz.end(&wrong).await;
}
