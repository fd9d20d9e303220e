//! The SCIM 2.0 provider, clause by clause. docs/scim-provider.md names the test of each clause.
#![allow(clippy::disallowed_methods, reason = "tests run in real time")]

use axum::Router;
use axum::body::{Body, to_bytes};
use axum::http::{HeaderMap, Method, Request};
use serde_json::{Value, json};
use std::sync::Arc;
use tide_core::ObjectType;
use tide_core::states::{PrincipalKind, SystemKind};
use tide_engine::{Engine, NewSystem, SystemClock};
use tide_scim::{BULK, ENTERPRISE, GROUP, PATCH_OP, SEARCH, USER};
use tide_store::{MasterKey, Store};
use tower::ServiceExt;

const OPERATOR: &str = "operator-token";
const TOKEN: &str = "postroom-token";

struct Provider {
    _folder: tempfile::TempDir,
    engine: Arc<Engine>,
    router: Router,
}

struct Answer {
    status: u16,
    headers: HeaderMap,
    body: Value,
}

impl Answer {
    fn header(&self, name: &str) -> &str {
        self.headers
            .get(name)
            .and_then(|v| v.to_str().ok())
            .unwrap_or_default()
    }

    fn id(&self) -> String {
        assert!(self.status < 300, "{}", self.body);
        self.body["id"].as_str().expect("an id").to_owned()
    }

    /// The names in a list, in its order.
    fn names(&self) -> Vec<&str> {
        assert_eq!(self.status, 200, "{}", self.body);
        self.body["Resources"]
            .as_array()
            .into_iter()
            .flatten()
            .filter_map(|r| r["userName"].as_str().or(r["displayName"].as_str()))
            .collect()
    }

    fn is_error(&self, status: u16, kind: Option<&str>) {
        assert_eq!(
            (self.status, self.body["scimType"].as_str()),
            (status, kind),
            "{}",
            self.body
        );
        assert_eq!(
            self.body["schemas"],
            json!([tide_scim::ERROR]),
            "{}",
            self.body
        );
        assert_eq!(
            self.body["status"],
            json!(status.to_string()),
            "{}",
            self.body
        );
        assert_eq!(self.header("content-type"), "application/scim+json");
    }
}

fn escape(text: &str) -> String {
    text.bytes()
        .map(|b| {
            if b.is_ascii_alphanumeric() {
                char::from(b).to_string()
            } else {
                format!("%{b:02X}")
            }
        })
        .collect()
}

fn user(name: &str) -> Value {
    json!({"schemas": [USER], "userName": name, "name": {"givenName": "G", "familyName": name}, "emails": [{"value": format!("{name}@skerry.example"), "type": "work"}]})
}

fn patch(operations: Value) -> Value {
    json!({"schemas": [PATCH_OP], "Operations": operations})
}

impl Provider {
    async fn start() -> Provider {
        let folder = tempfile::tempdir().expect("a folder");
        let store = Store::open(&folder.path().join("tide.db"), MasterKey::generate())
            .await
            .expect("opens");
        let engine = Engine::new(store, Arc::new(SystemClock));
        engine
            .store()
            .add_principal(
                PrincipalKind::Operator,
                "tester",
                Some(OPERATOR),
                engine.now(),
            )
            .await
            .expect("made");
        for name in ["postroom", "roster"] {
            let new = NewSystem {
                name: name.into(),
                kind: SystemKind::Push,
                settings: json!({}),
                secret: None,
            };
            engine
                .administration()
                .add_system(new, "tester")
                .await
                .expect("added");
            assert!(
                engine
                    .administration()
                    .check_system(name, None)
                    .await
                    .expect("tested")
                    .is_healthy()
            );
        }
        engine
            .ingest()
            .give_token("postroom", "first", TOKEN.into(), "tester")
            .await
            .expect("given");
        Provider {
            _folder: folder,
            router: tide_service::router(engine.clone()),
            engine,
        }
    }

    async fn call(
        &self,
        method: &str,
        path: &str,
        token: &str,
        headers: &[(&str, &str)],
        body: Option<&Value>,
    ) -> Answer {
        let mut request = Request::builder()
            .method(Method::from_bytes(method.as_bytes()).expect("a method"))
            .uri(path)
            .header("host", "tide.example");
        if !token.is_empty() {
            request = request.header("authorization", format!("Bearer {token}"));
        }
        for (name, value) in headers {
            request = request.header(*name, *value);
        }
        if body.is_some() {
            request = request.header("content-type", "application/scim+json");
        }
        let body = body.map_or_else(Body::empty, |body| {
            Body::from(
                body.as_str()
                    .map_or_else(|| body.to_string(), str::to_owned),
            )
        });
        let response = self
            .router
            .clone()
            .oneshot(request.body(body).expect("a request"))
            .await
            .expect("answered");
        let (status, headers) = (response.status().as_u16(), response.headers().clone());
        let bytes = to_bytes(response.into_body(), 32 << 20)
            .await
            .expect("read");
        Answer {
            status,
            headers,
            body: serde_json::from_slice(&bytes).unwrap_or_default(),
        }
    }

    async fn get(&self, path: &str) -> Answer {
        self.call("GET", &format!("/scim/v2/postroom{path}"), TOKEN, &[], None)
            .await
    }

    async fn send(&self, method: &str, path: &str, body: &Value) -> Answer {
        self.call(
            method,
            &format!("/scim/v2/postroom{path}"),
            TOKEN,
            &[],
            Some(body),
        )
        .await
    }

    async fn filtered(&self, filter: &str) -> Answer {
        self.get(&format!("/Users?filter={}", escape(filter))).await
    }
}

#[tokio::test]
async fn a_token_is_for_its_own_system_and_for_nothing_else() {
    let p = Provider::start().await;
    for (token, path, status) in [
        ("", "/scim/v2/postroom/Users", 401),
        ("wrong", "/scim/v2/postroom/Users", 401),
        (OPERATOR, "/scim/v2/postroom/Users", 403),
        (TOKEN, "/scim/v2/roster/Users", 403),
        (TOKEN, "/scim/v2/nowhere/Users", 403),
    ] {
        let answer = p.call("GET", path, token, &[], None).await;
        answer.is_error(status, None);
        assert_eq!(answer.header("www-authenticate").is_empty(), status != 401);
    }
    assert_eq!(
        p.call("GET", "/api/v1/systems", TOKEN, &[], None)
            .await
            .status,
        403,
        "a system is no operator"
    );
    // A second token, and the first goes on for a while: no gap. Taken back, it ends at once.
    p.engine
        .ingest()
        .give_token("postroom", "second", "second-token".into(), "tester")
        .await
        .expect("given");
    for token in [TOKEN, "second-token"] {
        assert_eq!(
            p.call("GET", "/scim/v2/postroom/Users", token, &[], None)
                .await
                .status,
            200,
            "{token}"
        );
    }
    let tokens = p
        .engine
        .ingest()
        .list_tokens("postroom")
        .await
        .expect("listed");
    assert!(
        tokens[0].expires_at.is_none() && tokens[1].expires_at.is_some(),
        "{tokens:?}"
    );
    p.engine
        .ingest()
        .end_token("postroom", &tokens[1].id, "tester")
        .await
        .expect("ended");
    p.call("GET", "/scim/v2/postroom/Users", TOKEN, &[], None)
        .await
        .is_error(401, None);
    // Guessing is slowed down. All at once, so that a slow machine does not slow it down by itself.
    let p = &p;
    let guesses = (0..300).map(|n| async move {
        let token = format!("guess{n}");
        p.call("GET", "/scim/v2/postroom/Users", &token, &[], None)
            .await
            .status
    });
    let answers = futures::future::join_all(guesses).await;
    assert!(
        answers.contains(&429) && answers.iter().all(|status| [401, 429].contains(status)),
        "{answers:?}"
    );
}

#[tokio::test]
async fn discovery_is_as_the_standard_wants_it() {
    let p = Provider::start().await;
    let config = p.get("/ServiceProviderConfig").await;
    assert_eq!(config.header("content-type"), "application/scim+json");
    for feature in ["patch", "bulk", "filter", "sort", "etag"] {
        assert_eq!(config.body[feature]["supported"], true, "{feature}");
    }
    assert_eq!(config.body["changePassword"]["supported"], false);
    assert!(config.body["authenticationSchemes"][0]["type"].is_string());
    for (list, id) in [
        ("Schemas", USER),
        ("Schemas", ENTERPRISE),
        ("Schemas", GROUP),
        ("ResourceTypes", "User"),
        ("ResourceTypes", "Group"),
    ] {
        let all = p.get(&format!("/{list}")).await;
        assert_eq!(
            all.body["totalResults"],
            all.body["Resources"]
                .as_array()
                .map(Vec::len)
                .into_iter()
                .sum::<usize>()
        );
        let one = p.get(&format!("/{list}/{id}")).await;
        assert_eq!((one.status, &one.body["id"]), (200, &json!(id)));
        assert!(
            one.body["meta"]["location"]
                .as_str()
                .is_some_and(|at| at.starts_with("http://tide.example/scim/v2/postroom/")),
            "{}",
            one.body["meta"]
        );
    }
    for unknown in [
        "/Schemas/urn:nothing",
        "/ResourceTypes/Boat",
        "/Boats",
        "/Users/1/2/3",
    ] {
        p.get(unknown).await.is_error(404, None);
    }
    for path in [
        "/Schemas",
        "/ResourceTypes",
        "/ServiceProviderConfig",
        &format!("/Schemas/{USER}"),
        "/ResourceTypes/User",
    ] {
        for method in ["POST", "PUT", "PATCH", "DELETE"] {
            let answer = p.send(method, path, &json!({})).await;
            answer.is_error(405, None);
            assert_eq!(answer.header("allow"), "GET");
        }
    }
    p.get("/Schemas?filter=id%20pr").await.is_error(403, None);
    p.get("/Me").await.is_error(501, None);
    p.send("PUT", "/Users", &json!({}))
        .await
        .is_error(405, None);
    p.send("POST", "/Users/1", &json!({}))
        .await
        .is_error(405, None);
}

#[tokio::test]
async fn a_user_is_created_with_its_id_location_and_version() {
    let p = Provider::start().await;
    let mut body = user("Ada");
    body[ENTERPRISE] = json!({"department": "Deck"});
    body["externalId"] = json!("x1");
    let made = p.send("POST", "/Users", &body).await;
    assert_eq!(made.status, 201, "{}", made.body);
    let id = made.id();
    let location = format!("http://tide.example/scim/v2/postroom/Users/{id}");
    assert_eq!(
        (made.header("location"), made.header("etag")),
        (location.as_str(), "W/\"1\"")
    );
    assert_eq!(made.body["meta"]["location"], location);
    assert_eq!(
        (
            &made.body["meta"]["resourceType"],
            &made.body["meta"]["version"]
        ),
        (&json!("User"), &json!("W/\"1\""))
    );
    assert_eq!(made.body["schemas"], json!([USER, ENTERPRISE]));
    assert!(made.body.get("password").is_none());
}

#[tokio::test]
async fn a_known_version_is_not_sent_again_and_names_are_unique() {
    let p = Provider::start().await;
    let made = p.send("POST", "/Users", &user("Ada")).await;
    let id = made.id();
    // With a version that is known, nothing is sent again.
    assert_eq!(p.get(&format!("/Users/{id}")).await.body, made.body);
    let known = p
        .call(
            "GET",
            &format!("/scim/v2/postroom/Users/{id}"),
            TOKEN,
            &[("if-none-match", "W/\"1\"")],
            None,
        )
        .await;
    assert_eq!((known.status, known.body), (304, Value::Null));

    // Uniqueness, whatever the case.
    p.send("POST", "/Users", &user("ADA"))
        .await
        .is_error(409, Some("uniqueness"));
}

/// What is not given is removed; read-only attributes are ignored; the id stays.
#[tokio::test]
async fn a_user_is_replaced() {
    let p = Provider::start().await;
    let mut body = user("Ada");
    body[ENTERPRISE] = json!({"department": "Deck"});
    body["externalId"] = json!("x1");
    let made = p.send("POST", "/Users", &body).await;
    let id = made.id();
    let replaced = p
        .send(
            "PUT",
            &format!("/Users/{id}"),
            &json!({"schemas": [USER], "userName": "ada.lind", "meta": {"created": "1999"}, "title": "Mate"}),
        )
        .await;
    assert_eq!((replaced.status, replaced.id()), (200, id.clone()));
    assert!(
        replaced.body.get("emails").is_none()
            && replaced.body.get(ENTERPRISE).is_none()
            && replaced.body.get("externalId").is_none()
    );
    assert_eq!(
        replaced.body["meta"]["created"],
        made.body["meta"]["created"]
    );
    p.send(
        "PUT",
        &format!("/Users/{id}"),
        &json!({"schemas": [USER], "userName": "a", "id": "other"}),
    )
    .await
    .is_error(400, Some("mutability"));
    let other = p.send("POST", "/Users", &user("Bo")).await.id();
    p.send(
        "PUT",
        &format!("/Users/{other}"),
        &json!({"schemas": [USER], "userName": "Ada.Lind"}),
    )
    .await
    .is_error(409, Some("uniqueness"));
}

#[tokio::test]
async fn a_user_of_another_version_is_neither_replaced_nor_removed() {
    let p = Provider::start().await;
    let id = p.send("POST", "/Users", &user("ada")).await.id();
    let with = |tag: &'static str| [("if-match", tag)];
    let path = format!("/scim/v2/postroom/Users/{id}");
    p.call("PUT", &path, TOKEN, &with("W/\"7\""), Some(&user("late")))
        .await
        .is_error(412, None);
    assert_eq!(
        p.call("PUT", &path, TOKEN, &with("W/\"1\""), Some(&user("ada")))
            .await
            .status,
        200
    );
    p.call("DELETE", &path, TOKEN, &with("W/\"1\""), None)
        .await
        .is_error(412, None);
}

/// It is gone for every method; its name is free again; the account is absent.
#[tokio::test]
async fn a_removed_user_is_gone_and_its_name_is_free() {
    let p = Provider::start().await;
    let id = p.send("POST", "/Users", &user("ada")).await.id();
    let path = format!("/scim/v2/postroom/Users/{id}");
    assert_eq!(p.call("DELETE", &path, TOKEN, &[], None).await.status, 204);
    for method in ["GET", "DELETE"] {
        p.call(method, &path, TOKEN, &[], None)
            .await
            .is_error(404, None);
    }
    p.send("PUT", &format!("/Users/{id}"), &user("ada"))
        .await
        .is_error(404, None);
    p.send(
        "PATCH",
        &format!("/Users/{id}"),
        &patch(json!([{"op": "replace", "path": "title", "value": "x"}])),
    )
    .await
    .is_error(404, None);
    assert!(
        p.engine
            .store()
            .account_by_key("postroom", &id)
            .await
            .expect("read")
            .expect("kept")
            .absent_since
            .is_some()
    );
    assert_eq!(p.send("POST", "/Users", &user("Ada")).await.status, 201);
}

#[tokio::test]
async fn what_is_wrong_in_a_body_has_the_standards_error() {
    let p = Provider::start().await;
    p.send("POST", "/Users", &json!("{not json"))
        .await
        .is_error(400, Some("invalidSyntax"));
    p.send("POST", "/Users", &json!({"userName": "a"}))
        .await
        .is_error(400, Some("invalidSyntax"));
    p.send("POST", "/Users", &json!({"schemas": [USER]}))
        .await
        .is_error(400, Some("invalidValue"));
    p.send(
        "POST",
        "/Users",
        &json!({"schemas": [USER], "userName": "a", "active": 7}),
    )
    .await
    .is_error(400, Some("invalidValue"));
    let xml = p
        .call(
            "POST",
            "/scim/v2/postroom/Users",
            TOKEN,
            &[("content-type", "text/xml")],
            None,
        )
        .await;
    xml.is_error(415, None);
    let large = json!({"schemas": [USER], "userName": "a", "title": "x".repeat(3 << 20)});
    p.send("POST", "/Users", &large).await.is_error(413, None);
    // Hostile texts are texts.
    let odd = "a\" or userName pr or \"'; DROP TABLE pushed; --";
    assert_eq!(p.send("POST", "/Users", &user(odd)).await.status, 201);
    assert_eq!(
        p.filtered(&format!("userName eq {}", json!(odd)))
            .await
            .names(),
        [odd]
    );
    p.get("/Users/..%2F..%2Fsecret").await.is_error(404, None);
    // Canonical values are no closed list, and a password is taken and never given.
    let made = p
        .send(
            "POST",
            "/Users",
            &json!({"schemas": [USER], "userName": "b", "password": "canary-pw", "emails": [{"value": "x@y", "type": "boat"}]}),
        )
        .await;
    assert_eq!(made.body["emails"][0]["type"], "boat");
    assert!(!made.body.to_string().contains("canary-pw"));
}

#[tokio::test]
async fn lists_are_filtered_with_every_operator() {
    let p = Provider::start().await;
    for (name, title, active) in [
        ("ada", Some("Mate"), true),
        ("bram", Some("Deckhand"), false),
        ("chidi", None, true),
    ] {
        let mut body = user(name);
        body["active"] = json!(active);
        if let Some(title) = title {
            body["title"] = json!(title);
        }
        body[ENTERPRISE] = json!({"employeeNumber": format!("10{}", name.len())});
        assert_eq!(p.send("POST", "/Users", &body).await.status, 201);
    }
    for (filter, wanted) in [
        ("userName eq \"ADA\"", &["ada"][..]),
        ("userName ne \"ada\"", &["bram", "chidi"]),
        ("userName co \"a\"", &["ada", "bram"]),
        ("userName sw \"b\"", &["bram"]),
        ("userName ew \"i\"", &["chidi"]),
        ("userName gt \"bram\"", &["chidi"]),
        ("userName ge \"bram\"", &["bram", "chidi"]),
        ("userName lt \"bram\"", &["ada"]),
        ("userName le \"bram\"", &["ada", "bram"]),
        ("title pr", &["ada", "bram"]),
        ("not (title pr)", &["chidi"]),
        ("active eq true", &["ada", "chidi"]),
        ("title pr and active eq false", &["bram"]),
        (
            "userName eq \"ada\" or userName eq \"chidi\"",
            &["ada", "chidi"],
        ),
        (
            "active eq true and (title eq \"mate\" or title eq \"purser\")",
            &["ada"],
        ),
        ("emails[type eq \"work\" and value sw \"bram\"]", &["bram"]),
        ("emails.value eq \"chidi@skerry.example\"", &["chidi"]),
        ("name.familyName eq \"ada\"", &["ada"]),
        (
            "urn:ietf:params:scim:schemas:core:2.0:User:userName eq \"ada\"",
            &["ada"],
        ),
        (
            "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:employeeNumber eq \"104\"",
            &["bram"],
        ),
        ("meta.resourceType eq \"User\"", &["ada", "bram", "chidi"]),
        ("shoeSize eq \"40\"", &[]),
    ] {
        let answer = p.filtered(filter).await;
        assert_eq!(answer.names(), wanted, "{filter}");
        assert_eq!(answer.body["totalResults"], wanted.len());
    }
    for bad in [
        "userName",
        "userName eq",
        "userName like \"a\"",
        "(userName pr",
        "userName eq ada",
    ] {
        p.filtered(bad).await.is_error(400, Some("invalidFilter"));
    }
}

impl Provider {
    /// Four users whose names differ in case, one of them without a title.
    async fn add_four_users(&self) {
        for (name, title) in [("d", "z"), ("B", "y"), ("a", ""), ("C", "x")] {
            let mut body = user(name);
            if !title.is_empty() {
                body["title"] = json!(title);
            }
            assert_eq!(self.send("POST", "/Users", &body).await.status, 201);
        }
    }
}
#[tokio::test]
async fn lists_are_sorted_and_paged() {
    let p = Provider::start().await;
    p.add_four_users().await;
    assert_eq!(
        p.get("/Users?sortBy=userName").await.names(),
        ["a", "B", "C", "d"],
        "without regard to case"
    );
    assert_eq!(
        p.get("/Users?sortBy=userName&sortOrder=descending")
            .await
            .names(),
        ["d", "C", "B", "a"]
    );
    assert_eq!(
        p.get("/Users?sortBy=title").await.names(),
        ["C", "B", "d", "a"],
        "who has no value comes last"
    );
    assert_eq!(
        p.get("/Users?sortBy=emails.value&count=1").await.names(),
        ["a"]
    );
    let page = p.get("/Users?startIndex=2&count=2").await;
    assert_eq!(page.names(), ["B", "a"]);
    assert_eq!(
        (
            &page.body["totalResults"],
            &page.body["startIndex"],
            &page.body["itemsPerPage"]
        ),
        (&json!(4), &json!(2), &json!(2))
    );
    assert_eq!(
        p.get("/Users?startIndex=0&count=1").await.body["startIndex"],
        1
    );
    for none in ["count=0", "count=-3", "startIndex=50"] {
        let answer = p.get(&format!("/Users?{none}")).await;
        assert_eq!(
            (answer.names().len(), &answer.body["totalResults"]),
            (0, &json!(4)),
            "{none}"
        );
    }
    p.get("/Users?count=many")
        .await
        .is_error(400, Some("invalidValue"));
    // By cursor (RFC 9865).
    let first = p.get("/Users?cursor=&count=3").await;
    assert_eq!(first.names().len(), 3);
    let cursor = first.body["nextCursor"].as_str().expect("more");
    let last = p.get(&format!("/Users?cursor={cursor}&count=3")).await;
    assert_eq!(
        (last.names(), last.body.get("nextCursor")),
        (vec!["C"], None)
    );
    p.get("/Users?cursor=nonsense")
        .await
        .is_error(400, Some("invalidCursor"));
}

#[tokio::test]
async fn lists_are_projected_and_searched_by_post() {
    let p = Provider::start().await;
    p.add_four_users().await;
    // What is asked for, and id and schemas always.
    let lean = p.get("/Users?attributes=userName&count=1").await;
    let keys: Vec<&String> = lean.body["Resources"][0]
        .as_object()
        .expect("a resource")
        .keys()
        .collect();
    assert_eq!(keys.len(), 3, "{keys:?}");
    assert_eq!(lean.body["Resources"][0]["schemas"], json!([USER]));
    let without = p.get("/Users?excludedAttributes=emails,id&count=1").await;
    assert!(
        without.body["Resources"][0].get("emails").is_none()
            && without.body["Resources"][0]["id"].is_string()
    );
    // The same by POST (RFC 7644 §3.4.3), and over both types.
    let search = json!({"schemas": [SEARCH], "filter": "title pr", "sortBy": "title", "attributes": ["userName"], "count": 2});
    assert_eq!(
        p.send("POST", "/Users/.search", &search).await.names(),
        ["C", "B"]
    );
    p.send(
        "POST",
        "/Groups",
        &json!({"schemas": [GROUP], "displayName": "crew"}),
    )
    .await
    .id();
    let all = p
        .send(
            "POST",
            "/.search",
            &json!({"schemas": [SEARCH], "filter": "displayName eq \"crew\" or userName eq \"a\""}),
        )
        .await;
    assert_eq!(all.names(), ["a", "crew"]);
    p.send("POST", "/Users/.search", &json!({"filter": "title pr"}))
        .await
        .is_error(400, Some("invalidSyntax"));
}

impl Provider {
    /// A user `ada`; returns the path.
    async fn add_ada(&self) -> String {
        format!(
            "/Users/{}",
            self.send("POST", "/Users", &user("ada")).await.id()
        )
    }
}
#[tokio::test]
async fn a_patch_takes_every_form_of_path() {
    let p = Provider::start().await;
    let path = p.add_ada().await;
    let change = async |operations: Value| p.send("PATCH", &path, &patch(operations)).await;
    let now = change(json!([
        {"op": "add", "path": "title", "value": "Mate"},
        {"op": "Replace", "path": "NAME.familyname", "value": "Lind"},
        {"op": "add", "path": "emails", "value": [{"value": "home@ada.example", "type": "home", "primary": true}]},
        {"op": "replace", "path": "emails[type eq \"work\"].value", "value": "work@skerry.example"},
        {"op": "add", "path": format!("{ENTERPRISE}:department"), "value": "Deck"},
        {"op": "add", "path": format!("{ENTERPRISE}:manager.value"), "value": "m1"},
        {"op": "add", "value": {"nickName": "Addie", "active": false, (format!("{ENTERPRISE}:costCenter")): "7"}},
    ]))
    .await;
    assert_eq!(now.status, 200, "{}", now.body);
    assert_eq!(
        (
            &now.body["title"],
            &now.body["name"]["familyName"],
            &now.body["nickName"],
            &now.body["active"]
        ),
        (
            &json!("Mate"),
            &json!("Lind"),
            &json!("Addie"),
            &json!(false)
        )
    );
    assert_eq!(
        now.body["emails"],
        json!([{"value": "work@skerry.example", "type": "work"}, {"value": "home@ada.example", "type": "home", "primary": true}])
    );
    assert_eq!(
        now.body[ENTERPRISE],
        json!({"department": "Deck", "manager": {"value": "m1"}, "costCenter": "7"})
    );
    assert_eq!(now.body["meta"]["version"], "W/\"2\"");
}

/// A whole extension is set and removed; a second primary value replaces the first.
#[tokio::test]
async fn a_patch_sets_and_removes_extensions_and_primary_values() {
    let p = Provider::start().await;
    let path = p.add_ada().await;
    let change = async |operations: Value| p.send("PATCH", &path, &patch(operations)).await;
    change(json!([
        {"op": "add", "path": "emails", "value": [{"value": "home@ada.example", "type": "home", "primary": true}]},
        {"op": "add", "value": {"nickName": "Addie"}},
    ]))
    .await
    .id();
    let now = change(json!([
        {"op": "replace", "path": ENTERPRISE, "value": {"department": "Galley", "division": "Sea"}},
        {"op": "add", "path": "emails", "value": [{"value": "third@ada.example", "primary": true}]},
    ]))
    .await;
    assert_eq!(
        (
            &now.body[ENTERPRISE]["division"],
            &now.body[ENTERPRISE]["department"]
        ),
        (&json!("Sea"), &json!("Galley"))
    );
    let primary: Vec<&Value> = now.body["emails"]
        .as_array()
        .expect("emails")
        .iter()
        .filter(|e| e["primary"] == true)
        .collect();
    assert_eq!(
        (primary.len(), &primary[0]["value"]),
        (1, &json!("third@ada.example"))
    );
    let now = change(json!([{"op": "remove", "path": ENTERPRISE}, {"op": "remove", "path": "emails[type eq \"home\"]"}, {"op": "remove", "path": "nickName"}])).await;
    assert!(now.body.get(ENTERPRISE).is_none() && now.body.get("nickName").is_none());
    assert_eq!(
        (
            now.body["schemas"].clone(),
            now.body["emails"].as_array().map(Vec::len)
        ),
        (json!([USER]), Some(2))
    );
}

#[tokio::test]
async fn a_patch_applies_all_or_none_and_without_a_change_the_version_stays() {
    let p = Provider::start().await;
    let path = p.add_ada().await;
    let change = async |operations: Value| p.send("PATCH", &path, &patch(operations)).await;
    let now = change(json!([{"op": "add", "path": "title", "value": "Mate"}])).await;
    let version = now.body["meta"]["version"].clone();
    assert_eq!(
        change(json!([{"op": "replace", "path": "title", "value": "Mate"}]))
            .await
            .body["meta"]["version"],
        version
    );
    change(json!([{"op": "replace", "path": "title", "value": "Lost"}, {"op": "replace", "path": "emails[type eq \"fax\"].value", "value": "x"}])).await.is_error(400, Some("noTarget"));
    assert_eq!(p.get(&path).await.body["title"], "Mate");
    for (operations, kind) in [
        (
            json!([{"op": "replace", "path": "id", "value": "x"}]),
            "mutability",
        ),
        (
            json!([{"op": "replace", "path": "groups", "value": []}]),
            "mutability",
        ),
        (json!([{"op": "remove", "path": "userName"}]), "mutability"),
        (
            json!([{"op": "replace", "path": "shoeSize", "value": "40"}]),
            "invalidPath",
        ),
        (
            json!([{"op": "replace", "path": "emails[", "value": "x"}]),
            "invalidPath",
        ),
        (json!([{"op": "remove"}]), "noTarget"),
        (
            json!([{"op": "dance", "path": "title", "value": "x"}]),
            "invalidSyntax",
        ),
        (
            json!([{"op": "replace", "path": "active", "value": "maybe"}]),
            "invalidValue",
        ),
        (json!([{"op": "add", "path": "title"}]), "invalidValue"),
    ] {
        change(operations.clone()).await.is_error(400, Some(kind));
    }
    p.send("PATCH", &path, &json!({"Operations": []}))
        .await
        .is_error(400, Some("invalidSyntax"));
    p.send("POST", "/Users", &user("bo")).await.id();
    change(json!([{"op": "replace", "path": "userName", "value": "BO"}]))
        .await
        .is_error(409, Some("uniqueness"));
}

impl Provider {
    async fn add_users<const N: usize>(&self, names: [&str; N]) -> [String; N] {
        let mut ids = Vec::new();
        for name in names {
            ids.push(self.send("POST", "/Users", &user(name)).await.id());
        }
        ids.try_into().expect("one for each name")
    }

    /// A group with these members; returns the path.
    async fn add_group(&self, members: &[&str]) -> String {
        let members: Vec<Value> = members.iter().map(|id| json!({"value": id})).collect();
        let group = json!({"schemas": [GROUP], "displayName": "deck-watch", "members": members});
        format!(
            "/Groups/{}",
            self.send("POST", "/Groups", &group).await.id()
        )
    }

    async fn remove(&self, path: &str) {
        let path = format!("/scim/v2/postroom{path}");
        let answer = self.call("DELETE", &path, TOKEN, &[], None).await;
        assert_eq!(answer.status, 204, "{}", answer.body);
    }

    async fn account(&self, key: &str) -> tide_core::Account {
        let found = self.engine.store().account_by_key("postroom", key).await;
        found.expect("read").expect("there")
    }

    async fn send_event(&self, body: Value) -> Answer {
        self.call("POST", "/api/v1/events/postroom", TOKEN, &[], Some(&body))
            .await
    }
}
#[tokio::test]
async fn groups_hold_members_and_members_show_their_groups() {
    let p = Provider::start().await;
    let [ada, bo] = p.add_users(["ada", "bo"]).await;
    let group =
        json!({"schemas": [GROUP], "displayName": "deck-watch", "members": [{"value": ada}]});
    let made = p.send("POST", "/Groups", &group).await;
    let id = made.id();
    assert_eq!(
        made.body["members"][0]["$ref"],
        format!("http://tide.example/scim/v2/postroom/Users/{ada}")
    );
    assert_eq!(
        p.get(&format!("/Users/{ada}")).await.body["groups"][0]["value"],
        id
    );
    let path = format!("/Groups/{id}");
    p.send(
        "PATCH",
        &path,
        &patch(json!([{"op": "add", "path": "members", "value": [{"value": bo}]}])),
    )
    .await
    .id();
    assert_eq!(
        p.filtered(&format!("groups.value eq \"{id}\""))
            .await
            .names(),
        ["ada", "bo"]
    );
    let now = p
        .send(
            "PATCH",
            &path,
            &patch(json!([{"op": "remove", "path": format!("members[value eq \"{ada}\"]")}])),
        )
        .await;
    assert_eq!(now.body["members"].as_array().map(Vec::len), Some(1));
    assert!(
        p.get(&format!("/Users/{ada}"))
            .await
            .body
            .get("groups")
            .is_none()
    );
}

#[tokio::test]
async fn groups_need_a_name_which_need_not_be_unique() {
    let p = Provider::start().await;
    let path = p.add_group(&[]).await;
    let account = p.account(path.trim_start_matches("/Groups/")).await;
    assert_eq!(account.kind, ObjectType::Group);
    let group = json!({"schemas": [GROUP], "displayName": "deck-watch"});
    assert_eq!(
        p.get("/Groups?filter=displayName%20eq%20%22DECK-WATCH%22")
            .await
            .names(),
        ["deck-watch"]
    );
    assert_eq!(
        p.send("POST", "/Groups", &group).await.status,
        201,
        "group names need not be unique"
    );
    p.send("POST", "/Groups", &json!({"schemas": [GROUP]}))
        .await
        .is_error(400, Some("invalidValue"));
}

/// The member is also removed from the stored group, which the next PATCH starts from.
#[tokio::test]
async fn a_removed_user_is_a_member_of_no_group() {
    let p = Provider::start().await;
    let [ada, cy, di] = p.add_users(["ada", "cy", "di"]).await;
    let path = p.add_group(&[&ada, &cy, &di]).await;
    p.remove(&format!("/Users/{di}")).await;
    let ids = |group: &Value| -> Vec<String> {
        group["members"]
            .as_array()
            .into_iter()
            .flatten()
            .filter_map(|one| one["value"].as_str().map(str::to_owned))
            .collect()
    };
    assert_eq!(ids(&p.get(&path).await.body), [ada.clone(), cy.clone()]);
    let account = p.account(path.trim_start_matches("/Groups/")).await;
    assert_eq!(
        account.attributes.get("members").len(),
        2,
        "{:?}",
        account.attributes
    );
    let one = patch(json!([{"op": "remove", "path": "members", "value": [{"value": ada}]}]));
    let left = p.send("PATCH", &path, &one).await;
    assert_eq!(ids(&left.body), [cy], "only the named member is removed");
}

#[tokio::test]
async fn a_path_with_a_type_creates_the_first_value_of_that_type() {
    let p = Provider::start().await;
    let path = p.add_ada().await;
    let work = patch(
        json!([{"op": "add", "path": "phoneNumbers[type eq \"work\"].value", "value": "+372 555"}]),
    );
    let made = p.send("PATCH", &path, &work).await;
    assert_eq!(
        made.body["phoneNumbers"],
        json!([{"type": "work", "value": "+372 555"}]),
        "{}",
        made.body
    );
}

#[tokio::test]
async fn resources_are_found_by_the_callers_own_ids() {
    let p = Provider::start().await;
    for (name, own) in [("ada", "x-1"), ("bo", "x-2"), ("cy", "x-1")] {
        let mut body = user(name);
        body["externalId"] = json!(own);
        p.send("POST", "/Users", &body).await.id();
    }
    assert_eq!(
        p.filtered("externalId eq \"x-1\"").await.names(),
        ["ada", "cy"]
    );
    assert_eq!(
        p.filtered("externalId eq \"X-1\"").await.names(),
        Vec::<String>::new(),
        "it is caseExact (RFC 7643 section 3.1)"
    );
    assert_eq!(
        p.filtered("externalId eq \"x-1\" and userName eq \"cy\"")
            .await
            .names(),
        ["cy"]
    );
}

#[tokio::test]
async fn bulk_requests_resolve_references_and_stop_at_fail_on_errors() {
    let p = Provider::start().await;
    let post = |id: &str, path: &str, data: Value| json!({"method": "POST", "path": path, "bulkId": id, "data": data});
    let answer = p
        .send(
            "POST",
            "/Bulk",
            &json!({"schemas": [BULK], "Operations": [
                post("g", "/Groups", json!({"schemas": [GROUP], "displayName": "crew", "members": [{"value": "bulkId:a"}]})),
                post("a", "/Users", user("ada")),
                post("b", "/Users", user("ADA")),
                {"method": "PATCH", "path": "/Users/bulkId:a", "data": patch(json!([{"op": "add", "path": "title", "value": "Mate"}]))},
                post("c", "/Users", json!({"schemas": [USER], "userName": "c", "title": "bulkId:nobody"})),
                {"method": "POST", "path": "/Users", "data": user("d")},
            ]}),
        )
        .await;
    let status: Vec<&str> = answer.body["Operations"]
        .as_array()
        .expect("answers")
        .iter()
        .filter_map(|o| o["status"].as_str())
        .collect();
    assert_eq!(
        status,
        ["201", "201", "409", "200", "409", "400"],
        "{}",
        answer.body
    );
    assert_eq!(
        answer.body["Operations"][2]["response"]["scimType"],
        "uniqueness"
    );
    assert_eq!(
        p.filtered("userName eq \"ada\"").await.body["Resources"][0]["title"],
        "Mate"
    );
    let ada = p.filtered("userName eq \"ada\"").await.body["Resources"][0]["id"].clone();
    assert_eq!(
        p.get("/Groups").await.body["Resources"][0]["members"][0]["value"],
        ada
    );

    let stopping = json!({"schemas": [BULK], "failOnErrors": 1, "Operations": [post("x", "/Users", user("ada")), post("y", "/Users", user("eiko"))]});
    let answer = p.send("POST", "/Bulk", &stopping).await;
    assert_eq!(answer.body["Operations"].as_array().map(Vec::len), Some(1));
    assert!(p.filtered("userName eq \"eiko\"").await.names().is_empty());
    let many: Vec<Value> = (0..501)
        .map(|n| post(&n.to_string(), "/Users", user(&format!("u{n}"))))
        .collect();
    p.send(
        "POST",
        "/Bulk",
        &json!({"schemas": [BULK], "Operations": many}),
    )
    .await
    .is_error(413, Some("tooMany"));
    p.send("POST", "/Bulk", &json!({"Operations": []}))
        .await
        .is_error(400, Some("invalidSyntax"));
    let delete = json!({"schemas": [BULK], "Operations": [{"method": "DELETE", "path": format!("/Users/{}", ada.as_str().expect("an id"))}]});
    assert_eq!(
        p.send("POST", "/Bulk", &delete).await.body["Operations"][0]["status"],
        "204"
    );
}

fn joiner() -> Value {
    json!({"event": "joiner", "key": "7", "attributes": {"name": "Ada", "mail": "ada@skerry.example"}})
}

fn mover(mail: &str) -> Value {
    json!({"event": "mover", "key": "7", "attributes": {"mail": mail}})
}
#[tokio::test]
async fn events_are_checked_accepted_and_their_state_can_be_read() {
    let p = Provider::start().await;
    let status = async |body: Value| p.send_event(body).await.status;
    assert_eq!(
        status(json!({"event": "mover", "key": "7"})).await,
        422,
        "a mover who never joined"
    );
    assert_eq!(status(json!({"event": "dance", "key": "7"})).await, 400);
    assert_eq!(status(json!({"event": "joiner"})).await, 400);
    let joined = p.send_event(joiner()).await;
    assert_eq!(
        (joined.status, &joined.body["state"], &joined.body["key"]),
        (202, &json!("waiting"), &json!("7")),
        "{}",
        joined.body
    );
    let status = joined.body["status_url"]
        .as_str()
        .expect("an address")
        .to_owned();
    assert_eq!(
        p.call("GET", &status, TOKEN, &[], None).await.body["id"],
        joined.body["id"]
    );
    assert_eq!(
        p.call("GET", &status, OPERATOR, &[], None).await.status,
        200
    );
}

#[tokio::test]
async fn a_mover_changes_the_given_values_only() {
    let p = Provider::start().await;
    p.send_event(joiner()).await;
    p.send_event(mover("ada.holm@skerry.example")).await;
    let account = p.account("7").await;
    assert_eq!(
        account.attributes.get("name").len(),
        1,
        "what was not told stays"
    );
    assert_eq!(
        account.attributes.get("mail")[0].to_string(),
        "ada.holm@skerry.example"
    );
}

/// A late mover does not bring them back, and a second leaver changes nothing.
#[tokio::test]
async fn a_leaver_stays_out_until_they_join_again() {
    let p = Provider::start().await;
    let leaver = json!({"event": "leaver", "key": "7"});
    p.send_event(joiner()).await;
    assert_eq!(p.send_event(leaver.clone()).await.status, 202);
    let left = p.account("7").await.absent_since;
    assert!(left.is_some());
    let late = p.send_event(mover("late@skerry.example")).await;
    assert!(
        late.status == 422
            && late.body["detail"]
                .as_str()
                .is_some_and(|said| said.contains("has left")),
        "{}",
        late.body
    );
    assert_eq!(p.send_event(leaver).await.status, 202);
    let still = p.account("7").await;
    assert_eq!(
        (
            still.absent_since,
            still.attributes.get("mail")[0].to_string().as_str()
        ),
        (left, "ada@skerry.example")
    );
}

/// An operator gives a sample of events of another shape, from which it is learned.
#[tokio::test]
async fn a_shape_of_events_is_learned_from_a_sample() {
    let p = Provider::start().await;
    let sample =
        json!({"sample": {"action": "HIRE", "worker": {"employeeNumber": "9", "first": "Bo"}}});
    assert_eq!(
        p.call(
            "PUT",
            "/api/v1/events/postroom/shape",
            TOKEN,
            &[],
            Some(&sample)
        )
        .await
        .status,
        403
    );
    let learned = p
        .call(
            "PUT",
            "/api/v1/events/postroom/shape",
            OPERATOR,
            &[],
            Some(&sample),
        )
        .await;
    assert_eq!(
        learned.body["key"], "worker.employeeNumber",
        "{}",
        learned.body
    );
    let schema = p
        .call("GET", "/api/v1/events/postroom/schema", TOKEN, &[], None)
        .await;
    assert_eq!(schema.body["required"], json!(["action", "worker"]));
    let hired = json!({"action": "HIRE", "worker": {"employeeNumber": "9", "first": "Bo"}});
    assert_eq!(p.send_event(hired).await.status, 202);
    let bad = p
        .send_event(json!({"action": "HIRE", "worker": {"first": 7}}))
        .await;
    assert!(
        bad.body["detail"]
            .as_str()
            .is_some_and(|d| d.contains("`worker.employeeNumber` is missing")
                && d.contains("`worker.first` must be of type string")),
        "{}",
        bad.body
    );
}

#[tokio::test]
async fn rules_that_were_published_before_the_first_event_stay_sound() {
    use tide_core::rules::RuleFile;
    let p = Provider::start().await;
    let file = |name: &str, text: &str| RuleFile {
        name: name.into(),
        text: text.into(),
    };
    let identities = "[person]\nlabel = \"name\"\n[person.attributes]\nnumber = { required = true, unique = true }\nname = {}\nmail = {}\n";
    let postroom = "system = \"postroom\"\n[person.inbound]\nnumber = 'account.key'\nname = 'account.displayName'\nmail = 'account.mail'\n";
    let files = [
        file("identities.toml", identities),
        file("postroom.toml", postroom),
    ];
    p.engine
        .administration()
        .publish_rules(&files, "tester")
        .await
        .expect("published");
    // The event of the documentation.
    let body = json!({"event": "joiner", "key": "1042", "attributes": {"displayName": "Ada Lind", "mail": "ada.lind@skerry.example"}});
    assert_eq!(
        p.call("POST", "/api/v1/events/postroom", TOKEN, &[], Some(&body))
            .await
            .status,
        202
    );
    p.engine
        .rules()
        .published_rules()
        .await
        .expect("still sound");
    let why = p
        .engine
        .views()
        .explain_person("1042")
        .await
        .expect("decided");
    let values: Vec<(&str, &str)> = why[0]
        .values
        .iter()
        .map(|value| (value.attribute.as_str(), value.value.as_str()))
        .collect();
    for expected in [
        ("number", "1042"),
        ("name", "Ada Lind"),
        ("mail", "ada.lind@skerry.example"),
    ] {
        assert!(values.contains(&expected), "{expected:?} in {values:?}");
    }
    // They can be checked and published again, too.
    p.engine
        .administration()
        .publish_rules(&files, "tester")
        .await
        .expect("published again");
}

impl Provider {
    async fn value_of_7(&self, attribute: &str) -> String {
        let account = self.account("7").await;
        let first = account.attributes.get(attribute).first();
        first.map(ToString::to_string).unwrap_or_default()
    }
}

#[tokio::test]
async fn concurrent_events_about_one_record_lose_nothing() {
    let p = Provider::start().await;
    let send = |body: Value| p.send_event(body);
    // Six at the same moment, each with a value of its own, again and again.
    assert_eq!(
        send(json!({"event": "joiner", "key": "7", "id": "e0", "sequence": 1}))
            .await
            .status,
        202
    );
    for round in 0..20 {
        let movers = (0..6).map(|n| send(json!({"event": "mover", "key": "7", "attributes": {format!("a{n}"): format!("{round}")}})));
        let answers = futures::future::join_all(movers).await;
        assert!(answers.iter().all(|answer| answer.status == 202));
        for name in ["a0", "a1", "a2", "a3", "a4", "a5"] {
            assert_eq!(
                p.value_of_7(name).await,
                round.to_string(),
                "{name} of round {round} is lost"
            );
        }
    }
}

#[tokio::test]
async fn events_that_arrive_twice_or_late_change_nothing() {
    let p = Provider::start().await;
    let send = |body: Value| p.send_event(body);
    send(json!({"event": "joiner", "key": "7", "id": "e0", "sequence": 1})).await;
    // A repeated event is the same event; its id for another event is refused.
    let moved = json!({"event": "mover", "key": "7", "id": "e5", "sequence": 5, "attributes": {"desk": "5"}});
    let first = send(moved.clone()).await;
    let again = send(moved).await;
    assert_eq!(
        (first.status, again.status, &first.body["id"]),
        (202, 202, &again.body["id"])
    );
    assert_eq!(
        send(json!({"event": "leaver", "key": "7", "id": "e5"}))
            .await
            .status,
        409
    );
    // A late event changes nothing, and its state says so, also later.
    let late = send(json!({"event": "mover", "key": "7", "id": "e4", "sequence": 4, "attributes": {"desk": "4"}})).await;
    assert_eq!(
        (late.status, &late.body["state"]),
        (202, &json!("outdated"))
    );
    assert_eq!(p.value_of_7("desk").await, "5");
    let asked = p
        .call(
            "GET",
            late.body["status_url"].as_str().expect("an address"),
            TOKEN,
            &[],
            None,
        )
        .await;
    assert_eq!(asked.body["state"], "outdated");
    // Without a sequence, the time decides.
    for (time, desk, state) in [
        ("2026-05-04T08:00:00Z", "8", "waiting"),
        ("2026-05-04T07:00:00Z", "7", "outdated"),
    ] {
        let told =
            send(json!({"event": "mover", "key": "7", "time": time, "attributes": {"desk": desk}}))
                .await;
        assert_eq!((told.status, &told.body["state"]), (202, &json!(state)));
    }
    assert_eq!(p.value_of_7("desk").await, "8");
    assert_eq!(send(json!({"event": "mover", "key": "7", "sequence": i64::MAX, "time": "9999-01-01T00:00:00Z"})).await.status, 202);
    assert_eq!(
        send(json!({"event": "mover", "key": "7", "sequence": 1e300}))
            .await
            .status,
        400
    );
}
