//! What a page costs: among ten times the people, every GET of the API makes the database do the same.
#![allow(clippy::disallowed_methods, reason = "tests run in real time")]

use axum::Router;
use axum::body::{Body, to_bytes};
use axum::http::{Request, StatusCode, header};
use serde_json::{Value, json};
use std::collections::{BTreeMap, HashSet};
use std::sync::Arc;
use std::time::Duration;
use tide_core::rules::RuleFile;
use tide_core::states::{PrincipalKind, SystemKind};
use tide_engine::{Engine, NewSystem, Plan, SystemClock, SystemUpdate};
use tide_standins::directory::Directory;
use tide_standins::scim_service::{Manner, ScimService};
use tide_standins::world::{self, BASE};
use tide_store::{MasterKey, Store};
use tower::ServiceExt;

const TOKEN: &str = "operator-token";

/// Answers about everything: an impact, exports, the comparison of two change sets, and the
/// verification of the journal. The stream of events does not end.
const ABOUT_ALL: [&str; 6] = [
    "/api/v1/systems/{name}/retirement",
    "/api/v1/systems/{name}/scope.csv",
    "/api/v1/change-sets/{id}/changes.csv",
    "/api/v1/change-sets/{id}/compare/{other}",
    "/api/v1/journal/check",
    "/api/v1/events",
];

/// A directory with people, and a service in which all of them are to get accounts.
struct Harbour {
    _folder: tempfile::TempDir,
    _directory: Directory,
    _berthing: ScimService,
    engine: Arc<Engine>,
    router: Router,
}

impl Harbour {
    async fn with(count: usize) -> Harbour {
        let people = world::people(world::SEED, count);
        let entries = world::directory(&people, "secret");
        let directory = Directory::start(&entries, "secret").await.expect("starts");
        let manner = Manner {
            page: 1_000,
            ..Manner::full()
        };
        let berthing = ScimService::with_manner(Vec::new(), "token", manner)
            .await
            .expect("starts");
        let folder = tempfile::tempdir().expect("a folder");
        let store = Store::open(&folder.path().join("tide.db"), MasterKey::generate())
            .await
            .expect("opens");
        let engine = Engine::new(store, Arc::new(SystemClock));
        let store = engine.store();
        store
            .add_principal(PrincipalKind::Operator, "tester", Some(TOKEN), engine.now())
            .await
            .expect("made");
        let harbour = json!({"url": directory.url, "bind_dn": directory.admin_dn, "base_dn": BASE, "page_size": 1_000});
        let systems = [
            ("harbour", SystemKind::Ldap, harbour, "secret"),
            (
                "berthing",
                SystemKind::Scim,
                json!({"url": berthing.url}),
                "token",
            ),
        ];
        for (name, kind, settings, secret) in systems {
            let system = NewSystem {
                name: name.into(),
                kind,
                settings,
                secret: Some(secret.into()),
            };
            engine
                .administration()
                .add_system(system, "tester")
                .await
                .expect("added");
            let report = engine
                .administration()
                .check_system(name, None)
                .await
                .expect("checked");
            assert!(report.is_healthy(), "{report:?}");
        }
        let armed = SystemUpdate {
            armed: Some(true),
            ..SystemUpdate::default()
        };
        engine
            .administration()
            .set_system("harbour", armed, "tester")
            .await
            .expect("armed");
        let rules = world::rules_of_people().into_iter();
        let files: Vec<RuleFile> = rules
            .map(|(name, text)| RuleFile {
                name: name.into(),
                text,
            })
            .collect();
        engine
            .administration()
            .publish_rules(&files, "tester")
            .await
            .expect("published");
        let harbour = Harbour {
            _folder: folder,
            _directory: directory,
            _berthing: berthing,
            router: tide_service::router(engine.clone()),
            engine,
        };
        harbour.run(true).await;
        harbour.run(false).await;
        // The first answer decides about everybody.
        let (status, _) = harbour.get("/api/v1/decisions").await;
        assert_eq!(status, StatusCode::OK);
        harbour
    }

    /// A run, or a preview. The service is not armed: nothing is sent to it.
    async fn run(&self, carry_out: bool) {
        let plan = Plan {
            carry_out,
            ..Plan::default()
        };
        let id = self
            .engine
            .runner()
            .begin_change_set(plan, "tester")
            .await
            .expect("begun");
        loop {
            let set = self.engine.store().change_set(id).await.expect("there");
            if set.ended_at.is_some() {
                assert_eq!(set.note, None);
                break;
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    }

    /// All pages of a scope have every person once, and so has its export; all changes are exported.
    async fn check_pages_and_exports(&self) {
        let scope = "/api/v1/systems/berthing/scope";
        let (_, first) = self.get(&format!("{scope}?limit=700")).await;
        let mut names: Vec<String> = Vec::new();
        let mut page = first.clone();
        loop {
            let lines = page["lines"].as_array().expect("lines");
            names.extend(lines.iter().map(|line| line["identity"].to_string()));
            let Some(next) = page["next"].as_str() else {
                break;
            };
            let after: String = form_urlencoded::byte_serialize(next.as_bytes()).collect();
            let path = format!("{scope}?limit=700&after={after}");
            page = self.get(&path).await.1;
        }
        assert_eq!(Some(names.len() as u64), first["found"].as_u64());
        let all = names.len();
        names.sort();
        names.dedup();
        assert_eq!(names.len(), all, "nobody twice");
        assert!(all > 2_000, "{all}");
        let (status, _) = self.get(&format!("{scope}?after=odd")).await;
        assert_eq!(status, StatusCode::BAD_REQUEST);
        let lines = |text: &[u8]| text.iter().filter(|byte| **byte == b'\n').count();
        let exported = self.read("/api/v1/systems/berthing/scope.csv").await;
        assert_eq!(
            lines(&exported),
            all + 1,
            "each with a line, and the header"
        );
        let (_, sets) = self.get("/api/v1/change-sets?limit=1").await;
        let id = &sets["items"][0]["id"];
        let exported = self
            .read(&format!("/api/v1/change-sets/{id}/changes.csv"))
            .await;
        let text = String::from_utf8(exported).expect("UTF-8");
        let people: HashSet<&str> = text
            .lines()
            .filter_map(|line| line.split(',').next())
            .collect();
        assert!(people.len() > 2_000, "{}", people.len());
    }

    /// The body of an answer.
    async fn read(&self, path: &str) -> Vec<u8> {
        let request = Request::builder()
            .uri(path)
            .header(header::AUTHORIZATION, format!("Bearer {TOKEN}"))
            .body(Body::empty())
            .expect("a request");
        let response = self.router.clone().oneshot(request).await.expect("answers");
        assert_eq!(response.status(), StatusCode::OK);
        let bytes = to_bytes(response.into_body(), 64 << 20).await;
        bytes.expect("read").to_vec()
    }

    async fn get(&self, path: &str) -> (StatusCode, Value) {
        let request = Request::builder()
            .uri(path)
            .header(header::AUTHORIZATION, format!("Bearer {TOKEN}"))
            .body(Body::empty())
            .expect("a request");
        let response = self.router.clone().oneshot(request).await.expect("answers");
        let status = response.status();
        let bytes = to_bytes(response.into_body(), 64 << 20)
            .await
            .expect("read");
        (status, serde_json::from_slice(&bytes).unwrap_or_default())
    }

    /// The pages of the document, with parameters that mean something here.
    async fn pages(&self) -> Vec<String> {
        let (_, people) = self.get("/api/v1/identities?limit=1").await;
        let id = people["items"][0]["id"].as_str().expect("an identity");
        let document = tide_service::openapi();
        let paths = document["paths"].as_object().expect("paths");
        let asked = paths.iter().filter(|(template, methods)| {
            methods.get("get").is_some() && !ABOUT_ALL.contains(&template.as_str())
        });
        let mut pages: Vec<String> = asked
            .map(|(template, _)| {
                let of_person = template.contains("/identities/");
                let path = template
                    .replace("{id}", if of_person { id } else { "1" })
                    .replace("{name}", "berthing")
                    .replace("{system}", "berthing")
                    .replace("{version}", "1");
                match template.as_str() {
                    "/api/v1/why" | "/api/v1/identities/resolve" => format!("{path}?person=1009"),
                    _ => path,
                }
            })
            .collect();
        for further in [
            "/api/v1/why?person=zzyzx",
            "/api/v1/why?person=lind",
            "/api/v1/change-sets?state=failed",
            "/api/v1/systems/harbour/scope",
            "/api/v1/systems/harbour/scope?status=out",
            "/api/v1/systems/harbour/matches?status=new",
        ] {
            pages.push(further.to_owned());
        }
        pages
    }

    /// What the database does for each page, in thousands of instructions: the least of three
    /// requests, because a cold cache or a first decision is no cost of the page.
    async fn costs(&self) -> BTreeMap<String, u64> {
        let mut costs = BTreeMap::new();
        for page in self.pages().await {
            let mut least = u64::MAX;
            for _ in 0..3 {
                let before = self.engine.store().database_work();
                let (status, body) = self.get(&page).await;
                assert!(!status.is_server_error(), "{page}: {status} {body}");
                least = least.min(self.engine.store().database_work() - before);
            }
            // Ids differ from population to population.
            let name = match page.split_once("/identities/") {
                Some((_, rest)) if rest.contains('-') => {
                    let end = rest.split_once('/').map_or("", |(_, end)| end);
                    format!("/api/v1/identities/ID/{end}")
                }
                _ => page,
            };
            costs.insert(name, least);
        }
        costs
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_page_costs_the_same_among_ten_times_the_people() {
    let few = Harbour::with(500).await.costs().await;
    let large = Harbour::with(5_000).await;
    let many = large.costs().await;
    assert!(few.len() > 40, "{few:?}");
    // Deeper indexes and fuller pages cost a little; five thousand rows cost fifty.
    let grown: Vec<String> = few
        .iter()
        .filter(|(page, cost)| many[*page] > *cost * 3 / 2 + 30)
        .map(|(page, cost)| format!("{page}: {cost} → {}", many[page]))
        .collect();
    assert!(grown.is_empty(), "{grown:#?}");
    large.check_pages_and_exports().await;
}
