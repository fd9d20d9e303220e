//! A SCIM 2.0 service of our own: real HTTP, real filters, paging, PATCH and uniqueness. It makes
//! of values what such services do (lower case, no outer blanks), and misbehaves on command.

use axum::extract::{Path, Query, Request, State};
use axum::http::{HeaderMap, Method, StatusCode, header};
use axum::middleware::{self, Next};
use axum::response::{IntoResponse, Response};
use axum::routing::get;
use axum::{Json, Router};
use serde_json::{Value, json};
use std::collections::{BTreeMap, HashMap, VecDeque};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;
use tide_scim::{ENTERPRISE, Filter, GROUP, LIST, USER, error_body, patch};

/// An extension of this service's own.
pub const CREW: &str = "urn:skerry:params:scim:schemas:extension:crew:1.0";

/// What a service offers, and how strict it is.
#[derive(Debug, Clone)]
pub struct Manner {
    /// It takes PATCH; otherwise whole resources (PUT).
    pub patch: bool,
    /// It answers filters.
    pub filter: bool,
    /// It wants to know which version a PUT replaces (RFC 7644 §3.14).
    pub versions: bool,
    /// It pages by cursor (RFC 9865).
    pub cursor: bool,
    /// The most operations of one bulk request; none at all when it is zero.
    pub bulk: usize,
    /// The most resources of one page.
    pub page: usize,
    /// The most requests of one second; more are asked to come later.
    pub per_second: Option<u32>,
    /// How callers must make themselves known.
    pub entrance: Entrance,
    /// How many accounts may be active at a time.
    pub seats: Option<usize>,
    /// It publishes Schemas and ResourceTypes.
    pub discovery: bool,
}

/// How callers must make themselves known.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Entrance {
    /// By the token.
    Bearer,
    /// By this user, with the token as password.
    Basic(String),
    /// By an access token that `/token` gives to this client for the token as its secret; each lasts
    /// for so many seconds.
    Oauth(String, u64),
    /// By a header of this name, with the token as its value.
    Header(String),
}

impl Manner {
    /// A service that offers nearly everything.
    pub fn full() -> Self {
        Manner {
            patch: true,
            filter: true,
            versions: false,
            cursor: false,
            bulk: 0,
            page: 100,
            per_second: None,
            entrance: Entrance::Bearer,
            seats: None,
            discovery: true,
        }
    }

    /// A poor one: whole resources only, no filters, small pages, few requests a second, counted seats.
    pub fn poor() -> Self {
        Manner { patch: false, filter: false, versions: true, page: 10, per_second: Some(40), seats: Some(200), ..Manner::full() }
    }
}

/// One way to misbehave, used up by one request.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Deserialize, serde::Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Mischief {
    /// A web page instead of SCIM.
    Html,
    /// HTTP 500.
    Fail,
    /// HTTP 401.
    Refuse,
    /// HTTP 409.
    Conflict,
    /// HTTP 429.
    Hurry,
    /// HTTP 503, with a pause of one second asked for.
    Later,
    /// HTTP 403.
    Forbid,
    /// A redirect to another host.
    Astray,
    /// A redirect to a log-in page.
    LogIn,
    /// JSON that ends in the middle.
    Half,
    /// A list of the wrong shape.
    Nonsense,
    /// An answer of many megabytes.
    Flood,
    /// The connection is closed, and nothing was done.
    Close,
    /// It is done, and the connection is closed instead of an answer.
    DoAndClose,
    /// It is queued (HTTP 202), and done when it was asked about three times.
    Queue,
    /// The same, and it fails in the end.
    QueueAndFail,
}

#[derive(Default)]
struct Content {
    users: BTreeMap<u64, Value>,
    /// Whose each name is, in lower case.
    names: HashMap<String, u64>,
    /// Who is told when a user was changed.
    watcher: Option<tokio::sync::mpsc::UnboundedSender<(Value, std::time::Instant)>>,
    groups: BTreeMap<u64, Value>,
    next: u64,
    /// Misbehaviour to come, for writes only or for every request.
    mischief: VecDeque<(bool, Mischief)>,
    log: Vec<String>,
    delay: Duration,
    /// The running second, and the requests in it.
    second: Option<(std::time::Instant, u32)>,
    /// Access tokens that were given out, with the moment at which each runs out.
    given: Vec<(String, std::time::Instant)>,
    /// Requests that were asked to come later.
    turned_away: usize,
    /// Requests that were queued: how often each was asked about, and what came of it.
    queued: Vec<(usize, Option<(StatusCode, Value)>)>,
    /// A user whose manager is nobody here is refused.
    managers_first: bool,
    /// Passwords by user: they are taken and never returned.
    passwords: std::collections::HashMap<u64, String>,
}

struct Shared {
    content: Mutex<Content>,
    token: String,
    manner: Manner,
}

/// A running stand-in.
pub struct ScimService {
    /// The base URL.
    pub url: String,
    /// The bearer token that it accepts.
    pub token: String,
    shared: Arc<Shared>,
    task: tokio::task::JoinHandle<()>,
}

impl ScimService {
    /// Starts a stand-in that holds these users.
    pub async fn start(users: Vec<Value>, token: &str) -> anyhow::Result<ScimService> {
        Self::with_manner(users, token, Manner::full()).await
    }

    /// Starts a stand-in of another manner.
    pub async fn with_manner(users: Vec<Value>, token: &str, manner: Manner) -> anyhow::Result<ScimService> {
        let shared = Arc::new(Shared { content: Mutex::default(), token: token.to_owned(), manner });
        for user in users {
            let mut content = shared.lock();
            content.next += 1;
            let id = content.next;
            // What a service holds when we come was there for years.
            let mut user = user;
            user["meta"] = json!({"created": "2024-05-01T08:00:00Z"});
            let user = stamped(normalise(user), id, "Users");
            content.keep(id, user);
        }
        let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await?;
        let url = format!("http://{}/scim/v2", listener.local_addr()?);
        let app = router(shared.clone());
        let task = tokio::spawn(async move {
            if let Err(error) = axum::serve(listener, app).await {
                tracing::error!(%error, "the SCIM stand-in ended");
            }
        });
        Ok(ScimService { url, token: token.to_owned(), shared, task })
    }

    /// Misbehaves so at the next requests, one each.
    pub fn mischief(&self, coming: &[Mischief]) {
        self.shared.lock().mischief = coming.iter().map(|m| (false, *m)).collect();
    }

    /// Misbehaves so at the next writes, one each; reads stay sound.
    pub fn mischief_on_writes(&self, coming: &[Mischief]) {
        self.shared.lock().mischief = coming.iter().map(|m| (true, *m)).collect();
    }

    /// Waits so long before each answer.
    pub fn delay(&self, delay: Duration) {
        self.shared.lock().delay = delay;
    }

    /// From now on, a user whose manager is nobody here is refused, and one without a manager is not.
    pub fn refuse_unknown_managers(&self) {
        self.shared.lock().managers_first = true;
    }

    /// How many requests were asked to come later.
    pub fn turned_away(&self) -> usize {
        self.shared.lock().turned_away
    }

    /// Takes back every access token that was given out.
    pub fn forget_tokens(&self) {
        self.shared.lock().given.clear();
    }

    /// Adds a group and returns its id.
    pub fn add_group(&self, name: &str, members: &[String]) -> String {
        let mut content = self.shared.lock();
        content.next += 1;
        let id = content.next;
        let members: Vec<Value> = members.iter().map(|m| json!({"value": m, "type": "User"})).collect();
        let group = stamped(json!({"schemas": [GROUP], "displayName": name, "members": members}), id, "Groups");
        content.groups.insert(id, group);
        format!("b{id:05}")
    }

    /// The groups as they are.
    pub fn groups(&self) -> Vec<Value> {
        self.shared.lock().groups.values().cloned().collect()
    }

    /// Would this user be let in with this password?
    pub fn lets_log_in(&self, user_name: &str, password: &str) -> bool {
        let content = self.shared.lock();
        let found = content.users.iter().find(|(_, user)| user["userName"].as_str().is_some_and(|n| n.eq_ignore_ascii_case(user_name)));
        found.is_some_and(|(id, _)| content.passwords.get(id).is_some_and(|known| known == password))
    }

    /// The users as they are.
    pub fn users(&self) -> Vec<Value> {
        self.shared.lock().users.values().cloned().collect()
    }

    /// The user of a name.
    pub fn user(&self, user_name: &str) -> Option<Value> {
        self.users().into_iter().find(|u| u["userName"].as_str().is_some_and(|n| n.eq_ignore_ascii_case(user_name)))
    }

    /// Puts a value into a user behind everybody's back.
    pub fn tamper(&self, user_name: &str, change: impl Fn(&mut Value)) {
        let mut content = self.shared.lock();
        let found: Vec<u64> = content.users.iter().filter(|(_, user)| user["userName"] == user_name).map(|(id, _)| *id).collect();
        for id in found {
            let mut user = content.users[&id].clone();
            change(&mut user);
            content.keep(id, user);
        }
    }

    /// Each user as it is changed from now on, with the moment.
    pub fn watch(&self) -> tokio::sync::mpsc::UnboundedReceiver<(Value, std::time::Instant)> {
        let (watcher, changes) = tokio::sync::mpsc::unbounded_channel();
        self.shared.lock().watcher = Some(watcher);
        changes
    }

    /// How many users there are.
    pub fn count(&self) -> usize {
        self.shared.lock().users.len()
    }

    /// The writes that arrived, method and path, since the log was last taken.
    pub fn take_writes(&self) -> Vec<String> {
        let log = std::mem::take(&mut self.shared.lock().log);
        log.into_iter().filter(|line| !line.starts_with("GET ")).collect()
    }
}

impl Drop for ScimService {
    fn drop(&mut self) {
        self.task.abort();
    }
}

impl Content {
    fn name(user: &Value) -> String {
        user["userName"].as_str().unwrap_or_default().to_lowercase()
    }

    /// Keeps a user, and finds it by its name from then on.
    fn keep(&mut self, id: u64, user: Value) {
        if let Some(before) = self.users.get(&id).map(Content::name) {
            self.names.remove(&before);
        }
        self.names.insert(Content::name(&user), id);
        if let Some(watcher) = &self.watcher {
            // Whoever watched may have gone.
            let _ = watcher.send((user.clone(), std::time::Instant::now()));
        }
        self.users.insert(id, user);
    }
}

impl Shared {
    fn lock(&self) -> std::sync::MutexGuard<'_, Content> {
        self.content.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

fn router(shared: Arc<Shared>) -> Router {
    let scim = Router::new()
        .route("/ServiceProviderConfig", get(config))
        .route("/Schemas", get(discovery))
        .route("/ResourceTypes", get(discovery))
        .route("/Queue/{number}", get(queue))
        .route("/Bulk", axum::routing::post(bulk))
        .route("/{kind}", get(list).post(create))
        .route("/{kind}/{id}", get(read).patch(change).put(replace).delete(remove))
        .layer(middleware::from_fn_with_state(shared.clone(), temper));
    Router::new()
        .nest("/scim/v2", scim)
        .route("/standin/writes", get(writes))
        .route("/token", axum::routing::post(give_token))
        .with_state(shared)
}

/// Gives an access token for client credentials (RFC 6749 §4.4).
async fn give_token(State(shared): State<Arc<Shared>>, headers: HeaderMap, body: String) -> Response {
    let Entrance::Oauth(client, lasts) = &shared.manner.entrance else { return nothing_here() };
    let wanted = format!("Basic {}", base64::Engine::encode(&base64::prelude::BASE64_STANDARD, format!("{client}:{}", shared.token)));
    let given = headers.get(header::AUTHORIZATION).and_then(|v| v.to_str().ok()).unwrap_or_default();
    if given != wanted || !body.contains("grant_type=client_credentials") {
        return (StatusCode::UNAUTHORIZED, Json(json!({"error": "invalid_client"}))).into_response();
    }
    let token = uuid::Uuid::new_v4().to_string();
    let until = std::time::Instant::now() + Duration::from_secs(*lasts);
    let mut content = shared.lock();
    content.given.push((token.clone(), until));
    content.log.push("POST /token".into());
    Json(json!({"access_token": token, "token_type": "Bearer", "expires_in": lasts})).into_response()
}

/// Tells how a queued request went: not yet, where the account stands, or why it failed.
async fn queue(State(shared): State<Arc<Shared>>, Path(number): Path<usize>) -> Response {
    let mut content = shared.lock();
    let Some((asked, result)) = content.queued.get_mut(number) else { return nothing_here() };
    *asked += 1;
    match result {
        _ if *asked < 3 => scim(StatusCode::ACCEPTED, json!({"state": "in the queue"})),
        None => scim_error(StatusCode::BAD_REQUEST, Some("invalidValue"), "the berth planner does not take this"),
        Some((status, body)) => {
            let kind = if body["schemas"].as_array().is_some_and(|all| all.contains(&json!(GROUP))) { "Groups" } else { "Users" };
            let place = format!("/scim/v2/{kind}/{}", body["id"].as_str().unwrap_or_default());
            let mut answer = scim(StatusCode::SEE_OTHER, json!({"status": status.as_u16()}));
            if let Ok(place) = place.parse() {
                answer.headers_mut().insert(header::LOCATION, place);
            }
            answer
        }
    }
}

async fn discovery(State(shared): State<Arc<Shared>>, request: Request) -> Response {
    match request.uri().path().ends_with("/Schemas") {
        _ if !shared.manner.discovery => nothing_here(),
        true => Json(listed(schemas())).into_response(),
        false => Json(listed(resource_types())).into_response(),
    }
}

/// Does several changes with one request (RFC 7644 §3.7): PATCH only, which is what is tested with it.
#[allow(clippy::result_large_err)] // The error is the answer, made once.
async fn bulk(State(shared): State<Arc<Shared>>, body: String) -> Response {
    let body: Value = serde_json::from_str(&body).unwrap_or_default();
    let operations = body["Operations"].as_array().cloned().unwrap_or_default();
    if operations.is_empty() || operations.len() > shared.manner.bulk {
        return scim_error(StatusCode::PAYLOAD_TOO_LARGE, None, &format!("at most {} operations", shared.manner.bulk));
    }
    let mut answers = Vec::new();
    for operation in operations {
        let path: Vec<&str> = operation["path"].as_str().unwrap_or_default().trim_start_matches('/').split('/').collect();
        let [kind, id] = path[..] else { return scim_error(StatusCode::BAD_REQUEST, Some("invalidPath"), "a path is missing") };
        let answer = store(&shared, kind, id, |old| patched(old, &operation["data"]));
        answers.push(json!({"method": "PATCH", "location": operation["path"], "status": answer.status().as_u16().to_string()}));
    }
    scim(StatusCode::OK, json!({"schemas": [tide_scim::BULK_ANSWER], "Operations": answers}))
}

/// For the demo, whose stand-in lives in another process than the one who checks it.
async fn writes(State(shared): State<Arc<Shared>>) -> Json<Value> {
    let log = std::mem::take(&mut shared.lock().log);
    Json(json!(log.into_iter().filter(|line| !line.starts_with("GET ")).collect::<Vec<_>>()))
}

async fn temper(State(shared): State<Arc<Shared>>, headers: HeaderMap, request: Request, next: Next) -> Response {
    let write = request.method() != Method::GET;
    let (mischief, delay) = {
        let mut content = shared.lock();
        content.log.push(format!("{} {}", request.method(), request.uri().path()));
        let due = content.mischief.front().is_some_and(|(writes_only, _)| write || !writes_only);
        (if due { content.mischief.pop_front().map(|(_, m)| m) } else { None }, content.delay)
    };
    tokio::time::sleep(delay).await;
    // Unwinding without a panic message ends the connection's task, and the peer sees it closed.
    let hang_up = || -> Response { std::panic::resume_unwind(Box::new(())) };
    match mischief {
        Some(Mischief::Html) => return ([(header::CONTENT_TYPE, "text/html")], "<html><body>Please log in</body></html>").into_response(),
        Some(Mischief::Fail) => return scim_error(StatusCode::INTERNAL_SERVER_ERROR, None, "out of order, as it was told"),
        Some(Mischief::Refuse) => return scim_error(StatusCode::UNAUTHORIZED, None, "the token is not valid"),
        Some(Mischief::Conflict) => return scim_error(StatusCode::CONFLICT, Some("uniqueness"), "userName is taken"),
        Some(Mischief::Later) => {
            let mut answer = scim_error(StatusCode::SERVICE_UNAVAILABLE, None, "come back in a second");
            answer.headers_mut().insert(header::RETRY_AFTER, header::HeaderValue::from_static("1"));
            return answer;
        }
        Some(Mischief::Forbid) => return scim_error(StatusCode::FORBIDDEN, None, "this token may not do that"),
        Some(Mischief::Astray) => return redirect("https://elsewhere.example/scim/v2/Users"),
        Some(Mischief::LogIn) => return redirect("https://id.skerry.example/login?next=/scim"),
        Some(Mischief::Half) => {
            return ([(header::CONTENT_TYPE, "application/scim+json")], r#"{"totalResults": 5, "Resources": [{"id": "#).into_response();
        }
        Some(Mischief::Nonsense) => return scim(StatusCode::OK, json!({"totalResults": "many", "Resources": {"id": 7}})),
        Some(Mischief::Flood) => {
            // Without a length said before, so that the other side has to count.
            static DROP: [u8; 1 << 20] = [b'x'; 1 << 20];
            let drops = futures::stream::iter((0..40).map(|_| Ok::<_, std::convert::Infallible>(axum::body::Bytes::from_static(&DROP))));
            return ([(header::CONTENT_TYPE, "application/scim+json")], axum::body::Body::from_stream(drops)).into_response();
        }
        Some(Mischief::Hurry) => return scim_error(StatusCode::TOO_MANY_REQUESTS, None, "too many requests"),
        Some(Mischief::Close) => return hang_up(),
        Some(queued @ (Mischief::Queue | Mischief::QueueAndFail)) => {
            let result = if queued == Mischief::Queue {
                let (parts, body) = next.run(request).await.into_parts();
                let body = axum::body::to_bytes(body, 1 << 20).await.unwrap_or_default();
                Some((parts.status, serde_json::from_slice(&body).unwrap_or_default()))
            } else {
                None
            };
            let mut content = shared.lock();
            content.queued.push((0, result));
            let mut answer = scim(StatusCode::ACCEPTED, json!({"state": "in the queue"}));
            if let Ok(place) = format!("/scim/v2/Queue/{}", content.queued.len() - 1).parse() {
                answer.headers_mut().insert(header::LOCATION, place);
            }
            return answer;
        }
        Some(Mischief::DoAndClose) => {
            next.run(request).await;
            return hang_up();
        }
        None => {}
    }
    if !shared.lets_in(&headers) {
        return scim_error(StatusCode::UNAUTHORIZED, None, "the token is missing or not valid");
    }
    if shared.too_fast() {
        let mut answer = scim_error(StatusCode::TOO_MANY_REQUESTS, None, "too many requests in this second");
        answer.headers_mut().insert(header::RETRY_AFTER, header::HeaderValue::from_static("1"));
        return answer;
    }
    next.run(request).await
}

fn redirect(to: &'static str) -> Response {
    (StatusCode::FOUND, [(header::LOCATION, to)]).into_response()
}

impl Shared {
    fn lets_in(&self, headers: &HeaderMap) -> bool {
        let text = |name: &str| headers.get(name).and_then(|v| v.to_str().ok()).unwrap_or_default().to_owned();
        let given = text("authorization");
        match &self.manner.entrance {
            Entrance::Bearer => given == format!("Bearer {}", self.token),
            Entrance::Header(name) => text(name) == self.token,
            Entrance::Basic(user) => {
                let pair = base64::Engine::encode(&base64::prelude::BASE64_STANDARD, format!("{user}:{}", self.token));
                given == format!("Basic {pair}")
            }
            Entrance::Oauth(..) => {
                let now = std::time::Instant::now();
                let token = given.strip_prefix("Bearer ").unwrap_or_default();
                self.lock().given.iter().any(|(known, until)| known == token && *until > now)
            }
        }
    }

    /// Counts a request, and says whether it is one too many in this second.
    fn too_fast(&self) -> bool {
        let Some(most) = self.manner.per_second else { return false };
        let mut content = self.lock();
        let now = std::time::Instant::now();
        let (begun, count) = content.second.filter(|(begun, _)| now.duration_since(*begun) < Duration::from_secs(1)).unwrap_or((now, 0));
        content.second = Some((begun, count + 1));
        let over = count >= most;
        content.turned_away += usize::from(over);
        over
    }
}

fn scim(status: StatusCode, body: Value) -> Response {
    (status, [(header::CONTENT_TYPE, "application/scim+json")], body.to_string()).into_response()
}

fn scim_error(status: StatusCode, kind: Option<&str>, detail: &str) -> Response {
    scim(status, error_body(status.as_u16(), kind, detail))
}

fn listed(items: Vec<Value>) -> Value {
    json!({"schemas": [LIST], "totalResults": items.len(), "startIndex": 1, "itemsPerPage": items.len(), "Resources": items})
}

async fn config(State(shared): State<Arc<Shared>>) -> Json<Value> {
    let manner = &shared.manner;
    let mut config = json!({
        "schemas": ["urn:ietf:params:scim:schemas:core:2.0:ServiceProviderConfig"],
        "patch": {"supported": manner.patch},
        "bulk": {"supported": manner.bulk > 0, "maxOperations": manner.bulk, "maxPayloadSize": 1 << 20},
        "filter": {"supported": manner.filter, "maxResults": manner.page}, "changePassword": {"supported": false}, "sort": {"supported": false},
        "etag": {"supported": true}, "authenticationSchemes": [{"type": "oauthbearertoken", "name": "Bearer token", "description": "A token"}],
    });
    if manner.cursor {
        config["pagination"] = json!({"cursor": true, "index": false, "maxPageSize": manner.page});
    }
    Json(config)
}

fn resource_types() -> Vec<Value> {
    vec![
        json!({"schemas": ["urn:ietf:params:scim:schemas:core:2.0:ResourceType"], "id": "User", "name": "User", "endpoint": "/Users", "schema": USER,
            "schemaExtensions": [{"schema": ENTERPRISE, "required": false}, {"schema": CREW, "required": false}]}),
        json!({"schemas": ["urn:ietf:params:scim:schemas:core:2.0:ResourceType"], "id": "Group", "name": "Group", "endpoint": "/Groups", "schema": GROUP}),
    ]
}

fn attribute(name: &str, kind: &str, options: Value) -> Value {
    let mut described = json!({"name": name, "type": kind, "multiValued": false, "required": false, "caseExact": false,
        "mutability": "readWrite", "returned": "default", "uniqueness": "none"});
    if let (Some(described), Some(options)) = (described.as_object_mut(), options.as_object()) {
        described.extend(options.clone());
    }
    described
}

fn text(name: &str) -> Value {
    attribute(name, "string", json!({}))
}

fn exact(name: &str) -> Value {
    attribute(name, "string", json!({"caseExact": true}))
}

fn typed(name: &str, kinds: &[&str], more: &[&str]) -> Value {
    let mut subs = vec![attribute("type", "string", json!({"canonicalValues": kinds})), attribute("primary", "boolean", json!({}))];
    subs.extend(more.iter().map(|sub| exact(sub)));
    attribute(name, "complex", json!({"multiValued": true, "subAttributes": subs}))
}

fn schemas() -> Vec<Value> {
    let user = vec![
        attribute("userName", "string", json!({"required": true, "uniqueness": "server"})),
        attribute(
            "name",
            "complex",
            json!({"subAttributes": [exact("givenName"), exact("familyName"), exact("middleName"), exact("formatted")]}),
        ),
        exact("displayName"),
        exact("title"),
        exact("userType"),
        exact("nickName"),
        text("preferredLanguage"),
        text("locale"),
        text("timezone"),
        attribute("active", "boolean", json!({})),
        typed("emails", &["work", "home", "other"], &["value"]),
        typed("phoneNumbers", &["work", "home", "mobile", "other"], &["value"]),
        typed("addresses", &["work", "home"], &["streetAddress", "locality", "postalCode", "country"]),
        attribute("groups", "complex", json!({"multiValued": true, "mutability": "readOnly", "subAttributes": [text("value")]})),
    ];
    let user = [user, vec![attribute("password", "string", json!({"mutability": "writeOnly", "returned": "never"}))]].concat();
    let enterprise = vec![
        exact("employeeNumber"),
        exact("department"),
        exact("division"),
        exact("costCenter"),
        exact("organization"),
        attribute(
            "manager",
            "complex",
            json!({"subAttributes": [attribute("value", "string", json!({})), attribute("displayName", "string", json!({"mutability": "readOnly"}))]}),
        ),
    ];
    let group = vec![
        attribute("displayName", "string", json!({"required": true})),
        attribute(
            "members",
            "complex",
            json!({"multiValued": true, "subAttributes": [attribute("value", "reference", json!({})), text("display")]}),
        ),
    ];
    let crew =
        vec![exact("cabin"), attribute("drills", "integer", json!({})), attribute("languages", "string", json!({"multiValued": true}))];
    [(USER, "User", user), (ENTERPRISE, "EnterpriseUser", enterprise), (CREW, "Crew", crew), (GROUP, "Group", group)]
        .into_iter()
        .map(|(id, name, attributes)| json!({"schemas": ["urn:ietf:params:scim:schemas:core:2.0:Schema"], "id": id, "name": name, "attributes": attributes}))
        .collect()
}

/// What the service makes of values: addresses in lower case, no outer blanks.
fn normalise(mut user: Value) -> Value {
    if let Some(name) = user["userName"].as_str() {
        user["userName"] = json!(name.trim().to_lowercase());
    }
    for name in ["displayName", "title"] {
        if let Some(text) = user[name].as_str() {
            user[name] = json!(text.trim());
        }
    }
    for email in user["emails"].as_array_mut().into_iter().flatten() {
        if let Some(value) = email["value"].as_str() {
            email["value"] = json!(value.trim().to_lowercase());
        }
    }
    // Telephone numbers lose their blanks.
    for phone in user["phoneNumbers"].as_array_mut().into_iter().flatten() {
        if let Some(value) = phone["value"].as_str() {
            phone["value"] = json!(value.replace(' ', ""));
        }
    }
    for name in ["emails", "phoneNumbers"] {
        if user[name].is_null()
            && let Some(map) = user.as_object_mut()
        {
            map.remove(name);
        }
    }
    user
}

fn stamped(mut resource: Value, id: u64, kind: &str) -> Value {
    resource["id"] = json!(format!("b{id:05}"));
    let version =
        resource["meta"]["version"].as_str().and_then(|v| v.trim_matches(|c| "W/\"".contains(c)).parse::<u64>().ok()).unwrap_or(0) + 1;
    let created = match &resource["meta"]["created"] {
        Value::String(known) => json!(known),
        _ => json!(jiff::Timestamp::now().strftime("%Y-%m-%dT%H:%M:%SZ").to_string()),
    };
    resource["meta"] = json!({"created": created, "resourceType": kind.trim_end_matches('s'), "location": format!("/scim/v2/{kind}/b{id:05}"), "lastModified": jiff::Timestamp::now().strftime("%Y-%m-%dT%H:%M:%S%.3fZ").to_string(), "version": format!("W/\"{version}\"")});
    if resource["active"].is_null() && kind == "Users" {
        resource["active"] = json!(true);
    }
    resource
}

fn shelf<'c>(content: &'c mut Content, kind: &str) -> Option<&'c mut BTreeMap<u64, Value>> {
    match kind {
        "Users" => Some(&mut content.users),
        "Groups" => Some(&mut content.groups),
        _ => None,
    }
}

/// Keeps a resource; false where there is no such kind.
fn put(content: &mut Content, kind: &str, id: u64, resource: Value) -> bool {
    match kind {
        "Users" => content.keep(id, resource),
        "Groups" => drop(content.groups.insert(id, resource)),
        _ => return false,
    }
    true
}

fn number(id: &str) -> u64 {
    id.strip_prefix('b').and_then(|n| n.parse().ok()).unwrap_or(0)
}

fn nothing_here() -> Response {
    scim_error(StatusCode::NOT_FOUND, None, "there is no such resource")
}

async fn list(State(shared): State<Arc<Shared>>, Path(kind): Path<String>, Query(query): Query<HashMap<String, String>>) -> Response {
    let filter = match query.get("filter").map(|f| f.parse::<Filter>()).transpose() {
        Ok(filter) => filter,
        Err(error) => return scim_error(StatusCode::BAD_REQUEST, Some("invalidFilter"), &error.to_string()),
    };
    let manner = &shared.manner;
    if filter.is_some() && !manner.filter {
        return scim_error(StatusCode::BAD_REQUEST, Some("invalidFilter"), "this service has no filters");
    }
    let mut content = shared.lock();
    let Some(shelf) = shelf(&mut content, &kind) else { return nothing_here() };
    let found: Vec<&Value> = shelf.values().filter(|r| filter.as_ref().is_none_or(|f| f.holds(r))).collect();
    let ask = |name: &str, other: usize| query.get(name).and_then(|v| v.parse::<usize>().ok()).unwrap_or(other);
    let size = ask("count", manner.page).min(manner.page);
    if manner.cursor && filter.is_none() {
        // The cursor is the id after which the next page begins, which no change in between moves.
        let after = number(query.get("cursor").map(String::as_str).unwrap_or_default());
        let rest: Vec<&Value> = found.iter().filter(|r| number(r["id"].as_str().unwrap_or_default()) > after).copied().collect();
        let page: Vec<Value> = rest.iter().take(size).map(|v| (*v).clone()).collect();
        let mut body = json!({"schemas": [LIST], "totalResults": found.len(), "itemsPerPage": page.len(), "Resources": page});
        if rest.len() > size {
            body["nextCursor"] = body["Resources"].as_array().and_then(|p| p.last()).map_or(Value::Null, |last| last["id"].clone());
        }
        return scim(StatusCode::OK, body);
    }
    let start = ask("startIndex", 1).max(1);
    let page: Vec<Value> = found.iter().skip(start - 1).take(size).map(|v| (*v).clone()).collect();
    scim(
        StatusCode::OK,
        json!({"schemas": [LIST], "totalResults": found.len(), "startIndex": start, "itemsPerPage": page.len(), "Resources": page}),
    )
}

fn taken(content: &Content, user: &Value, own: u64) -> bool {
    content.names.get(&Content::name(user)).is_some_and(|id| *id != own)
}

/// Keeps a password beside the resource: nobody is ever shown it.
fn without_password(content: &mut Content, mut resource: Value, id: u64) -> Value {
    let given = resource.as_object_mut().and_then(|fields| fields.remove("password"));
    if let Some(Value::String(password)) = given {
        content.passwords.insert(id, password);
    }
    resource
}

fn invalid(kind: &str, resource: &Value) -> Option<Response> {
    let needed = if kind == "Users" { "userName" } else { "displayName" };
    resource[needed]
        .as_str()
        .is_none_or(|t| t.trim().is_empty())
        .then(|| scim_error(StatusCode::BAD_REQUEST, Some("invalidValue"), &format!("{needed} is required")))
}

async fn create(State(shared): State<Arc<Shared>>, Path(kind): Path<String>, body: String) -> Response {
    let Ok(resource) = serde_json::from_str::<Value>(&body) else {
        return scim_error(StatusCode::BAD_REQUEST, Some("invalidSyntax"), "the body is not JSON");
    };
    if let Some(refusal) = invalid(&kind, &resource) {
        return refusal;
    }
    let mut content = shared.lock();
    let resource = normalise(resource);
    if kind == "Users" && taken(&content, &resource, 0) {
        return scim_error(StatusCode::CONFLICT, Some("uniqueness"), "userName is taken");
    }
    if let Some(manager) = resource[ENTERPRISE]["manager"]["value"].as_str().filter(|_| content.managers_first)
        && !content.users.contains_key(&number(manager))
    {
        return scim_error(StatusCode::BAD_REQUEST, Some("invalidValue"), "the manager is nobody here");
    }
    let seats = shared.manner.seats;
    let full = || seats.is_some_and(|seats| content.users.values().filter(|u| u["active"] != json!(false)).count() >= seats);
    if kind == "Users" && resource["active"] != json!(false) && full() {
        return scim_error(StatusCode::FORBIDDEN, None, "no seat is free");
    }
    content.next += 1;
    let id = content.next;
    let resource = stamped(without_password(&mut content, resource, id), id, &kind);
    if !put(&mut content, &kind, id, resource.clone()) {
        return nothing_here();
    }
    scim(StatusCode::CREATED, resource)
}

async fn read(State(shared): State<Arc<Shared>>, Path((kind, id)): Path<(String, String)>) -> Response {
    let mut content = shared.lock();
    let found = shelf(&mut content, &kind).and_then(|shelf| shelf.get(&number(&id)).cloned());
    found.map_or_else(nothing_here, |resource| scim(StatusCode::OK, resource))
}

#[allow(clippy::result_large_err)] // The error is the answer, made once.
fn store(shared: &Shared, kind: &str, id: &str, make: impl Fn(&Value) -> Result<Value, Response>) -> Response {
    let mut content = shared.lock();
    let key = number(id);
    let Some(old) = shelf(&mut content, kind).and_then(|shelf| shelf.get(&key).cloned()) else { return nothing_here() };
    let new = match make(&old) {
        Ok(new) => normalise(new),
        Err(refusal) => return refusal,
    };
    if let Some(refusal) = invalid(kind, &new) {
        return refusal;
    }
    if kind == "Users" && taken(&content, &new, key) {
        return scim_error(StatusCode::CONFLICT, Some("uniqueness"), "userName is taken");
    }
    let mut new = without_password(&mut content, new, key);
    new["meta"]["created"] = old["meta"]["created"].clone();
    let new = stamped(new, key, kind);
    put(&mut content, kind, key, new.clone());
    scim(StatusCode::OK, new)
}

/// Applies a PATCH, and names the extensions that the resource then has (RFC 7643 §3.3).
#[allow(clippy::result_large_err)]
fn patched(old: &Value, body: &Value) -> Result<Value, Response> {
    let mut new = patch::apply(old, body).map_err(|error| scim_error(StatusCode::BAD_REQUEST, Some(error.scim_type), &error.detail))?;
    let there: Vec<String> =
        new.as_object().into_iter().flat_map(|map| map.keys().filter(|name| name.starts_with("urn:")).cloned()).collect();
    if let Some(named) = new["schemas"].as_array_mut() {
        named.extend(
            there.into_iter().filter(|urn| !old["schemas"].as_array().is_some_and(|all| all.iter().any(|one| one == urn))).map(Value::from),
        );
    }
    Ok(new)
}

#[allow(clippy::result_large_err)]
async fn change(
    State(shared): State<Arc<Shared>>,
    Path((kind, id)): Path<(String, String)>,
    Query(query): Query<HashMap<String, String>>,
    body: String,
) -> Response {
    if !shared.manner.patch {
        return scim_error(StatusCode::NOT_IMPLEMENTED, None, "this service takes whole resources only");
    }
    let Ok(body) = serde_json::from_str::<Value>(&body) else {
        return scim_error(StatusCode::BAD_REQUEST, Some("invalidSyntax"), "the body is not JSON");
    };
    let brief = query.get("attributes").is_some_and(|asked| asked == "id");
    if kind == "Groups"
        && let Some(answer) = in_place(&mut shared.lock(), &id, &body, brief)
    {
        return answer;
    }
    store(&shared, &kind, &id, |old| patched(old, &body))
}

/// Changes a group where it stands: it may be long. Nothing when the change does not fit the group without its members; then it
/// is tried on a copy.
fn in_place(content: &mut Content, id: &str, body: &Value, brief: bool) -> Option<Response> {
    let group = content.groups.get_mut(&number(id))?;
    let bare: serde_json::Map<String, Value> =
        group.as_object()?.iter().filter(|(name, _)| *name != "members").map(|(name, value)| (name.clone(), value.clone())).collect();
    let tried = patch::apply(&Value::Object(bare), body).ok()?;
    if invalid("Groups", &tried).is_some() {
        return None;
    }
    let mut new = std::mem::take(group);
    // What fits without members fits with them.
    let _ = patch::apply_to(&mut new, body);
    *group = stamped(normalise(new), number(id), "Groups");
    // RFC 7644 §3.9: no more than was asked for.
    let shown = if brief { json!({"schemas": [GROUP], "id": group["id"]}) } else { group.clone() };
    Some(scim(StatusCode::OK, shown))
}

#[allow(clippy::result_large_err)]
async fn replace(
    State(shared): State<Arc<Shared>>,
    Path((kind, id)): Path<(String, String)>,
    headers: HeaderMap,
    body: String,
) -> Response {
    if shared.manner.versions {
        let given = headers.get(header::IF_MATCH).and_then(|v| v.to_str().ok()).unwrap_or_default().to_owned();
        let held = shelf(&mut shared.lock(), &kind).and_then(|shelf| shelf.get(&number(&id)).map(|r| r["meta"]["version"].clone()));
        if held.is_some_and(|held| held.as_str() != Some(given.as_str())) {
            return scim_error(StatusCode::PRECONDITION_FAILED, None, "the resource has another version by now");
        }
    }
    let Ok(body) = serde_json::from_str::<Value>(&body) else {
        return scim_error(StatusCode::BAD_REQUEST, Some("invalidSyntax"), "the body is not JSON");
    };
    store(&shared, &kind, &id, |old| {
        let mut new = body.clone();
        new["meta"] = old["meta"].clone();
        Ok(new)
    })
}

async fn remove(State(shared): State<Arc<Shared>>, Path((kind, id)): Path<(String, String)>) -> Response {
    let mut content = shared.lock();
    let removed = shelf(&mut content, &kind).and_then(|shelf| shelf.remove(&number(&id)));
    if let ("Users", Some(user)) = (kind.as_str(), &removed) {
        content.names.remove(&Content::name(user));
    }
    match removed {
        Some(_) => StatusCode::NO_CONTENT.into_response(),
        None => nothing_here(),
    }
}
