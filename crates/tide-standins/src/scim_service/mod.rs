//! A SCIM 2.0 service of our own: real HTTP, real filters, paging, PATCH and uniqueness. It makes
//! of values what such services do (lower case, no outer blanks), and misbehaves on command.

mod described;
mod resources;

use axum::extract::{Path, Request, State};
use axum::http::{HeaderMap, Method, StatusCode, header};
use axum::middleware::{self, Next};
use axum::response::{IntoResponse, Response};
use axum::routing::get;
use axum::{Json, Router};
use described::{config, listed, resource_types, schemas, scim, scim_error};
use resources::{
    change, create, list, normalize, nothing_here, patched, read, remove, replace, stamped, store,
};
use serde_json::{Value, json};
use std::collections::{BTreeMap, HashMap, VecDeque};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;
use tide_scim::GROUP;

/// An extension of this service's own.
pub const CREW: &str = "urn:skerry:params:scim:schemas:extension:crew:1.0";

/// What a service offers, and how strict it is.
#[derive(Debug, Clone)]
pub struct Manner {
    /// It accepts PATCH; otherwise whole resources (PUT).
    pub patch: bool,
    /// It answers filters.
    pub filter: bool,
    /// A PUT must state which version it replaces (RFC 7644 §3.14).
    pub versions: bool,
    /// It pages by cursor (RFC 9865).
    pub cursor: bool,
    /// Maximum number of operations in one bulk request; zero means no bulk support.
    pub bulk: usize,
    /// The most resources of one page.
    pub page: usize,
    /// Maximum number of requests per second; more are asked to retry later.
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
    /// An access token that `/token` issues to this client, with the token as its secret; each is
    /// valid for this number of seconds.
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

    /// A poor one: whole resources only, no filters, small pages, few requests a second, counted
    /// seats.
    pub fn poor() -> Self {
        Manner {
            patch: false,
            filter: false,
            versions: true,
            page: 10,
            per_second: Some(40),
            seats: Some(200),
            ..Manner::full()
        }
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
    /// HTTP 400: a value is refused.
    RefuseValue,
    /// HTTP 409.
    Conflict,
    /// HTTP 429.
    Hurry,
    /// HTTP 503, with a requested pause of one second.
    Later,
    /// HTTP 403.
    Forbid,
    /// A redirect to another host.
    Astray,
    /// A redirect to a sign-in page.
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
    /// It is queued (HTTP 202), and done after three status requests.
    Queue,
    /// The same, and it fails in the end.
    QueueAndFail,
    /// It is done, and HTTP 504 is the answer.
    DoAndFail,
    /// It is done, and the response has no body, only the location of the resource.
    DoAndPoint,
    /// It is done, and the response has neither a body nor a location.
    DoAndSayNothing,
}

#[derive(Default)]
struct Content {
    users: BTreeMap<u64, Value>,
    /// The owner of each name, in lower case.
    names: HashMap<String, u64>,
    /// Receives changed users.
    watcher: Option<tokio::sync::mpsc::UnboundedSender<(Value, tide_clock::Instant)>>,
    groups: BTreeMap<u64, Value>,
    next: u64,
    /// Misbehaviour to come, for writes only or for every request.
    mischief: VecDeque<(bool, Mischief)>,
    log: Vec<String>,
    delay: Duration,
    /// The running second, and the requests in it.
    second: Option<(tide_clock::Instant, u32)>,
    /// Issued access tokens, each with its expiry.
    given: Vec<(String, tide_clock::Instant)>,
    /// Requests that were asked to retry later.
    turned_away: usize,
    /// Queued requests: the number of status requests of each, and its result.
    queued: Vec<(usize, Option<(StatusCode, Value)>)>,
    /// Reject users whose manager does not exist here.
    managers_first: bool,
    /// Names may be there twice.
    names_repeat: bool,
    /// New users are shown in lists only after so long.
    shown_after: Duration,
    /// When users were created.
    made: HashMap<u64, tide_clock::Instant>,
    /// Runs once, after a page of a list was returned.
    after_a_page: Option<(u64, Value)>,
    /// Passwords by user: accepted and never returned.
    passwords: std::collections::HashMap<u64, String>,
}

struct ServiceState {
    content: Mutex<Content>,
    token: String,
    manner: Manner,
    /// How many requests wait for their delay.
    delayed: AtomicUsize,
}

/// A running stand-in.
pub struct ScimService {
    /// The base URL.
    pub url: String,
    /// The bearer token that it accepts.
    pub token: String,
    shared: Arc<ServiceState>,
    task: tokio::task::JoinHandle<()>,
}

impl ScimService {
    /// Starts a stand-in that holds these users.
    pub async fn start(users: Vec<Value>, token: &str) -> anyhow::Result<ScimService> {
        Self::with_manner(users, token, Manner::full()).await
    }

    /// Starts a stand-in of another manner.
    pub async fn with_manner(
        users: Vec<Value>,
        token: &str,
        manner: Manner,
    ) -> anyhow::Result<ScimService> {
        let shared = Arc::new(ServiceState {
            content: Mutex::default(),
            token: token.to_owned(),
            manner,
            delayed: AtomicUsize::default(),
        });
        for user in users {
            let mut content = shared.lock();
            content.next += 1;
            let id = content.next;
            // What a service holds when we come was there for years.
            let mut user = user;
            user["meta"] = json!({"created": "2024-05-01T08:00:00Z"});
            let user = stamped(normalize(user), id, "Users");
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
        Ok(ScimService {
            url,
            token: token.to_owned(),
            shared,
            task,
        })
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

    /// How many requests wait for their delay now.
    pub fn delayed(&self) -> usize {
        self.shared.delayed.load(Ordering::Acquire)
    }

    /// From now on, rejects users whose manager does not exist here.
    pub fn refuse_unknown_managers(&self) {
        self.shared.lock().managers_first = true;
    }

    /// From now on, two users may have one name.
    pub fn let_names_repeat(&self) {
        self.shared.lock().names_repeat = true;
    }

    /// From now on, lists show a new user only after so long.
    pub fn show_late(&self, pause: Duration) {
        self.shared.lock().shown_after = pause;
    }

    /// After the next page of users was returned, deletes one of them and creates another.
    pub fn change_after_a_page(&self, deleted: &str, made: Value) {
        self.shared.lock().after_a_page = Some((resources::number(deleted), made));
    }

    /// Number of requests that were asked to retry later.
    pub fn turned_away(&self) -> usize {
        self.shared.lock().turned_away
    }

    /// Revokes every issued access token.
    pub fn forget_tokens(&self) {
        self.shared.lock().given.clear();
    }

    /// Adds a group and returns its id.
    pub fn add_group(&self, name: &str, members: &[String]) -> String {
        let mut content = self.shared.lock();
        content.next += 1;
        let id = content.next;
        let members: Vec<Value> = members
            .iter()
            .map(|m| json!({"value": m, "type": "User"}))
            .collect();
        let group = stamped(
            json!({"schemas": [GROUP], "displayName": name, "members": members}),
            id,
            "Groups",
        );
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
        let found = content.users.iter().find(|(_, user)| {
            user["userName"]
                .as_str()
                .is_some_and(|n| n.eq_ignore_ascii_case(user_name))
        });
        found.is_some_and(|(id, _)| {
            content
                .passwords
                .get(id)
                .is_some_and(|known| known == password)
        })
    }

    /// The users as they are.
    pub fn users(&self) -> Vec<Value> {
        self.shared.lock().users.values().cloned().collect()
    }

    /// The user of a name.
    pub fn user(&self, user_name: &str) -> Option<Value> {
        self.users().into_iter().find(|u| {
            u["userName"]
                .as_str()
                .is_some_and(|n| n.eq_ignore_ascii_case(user_name))
        })
    }

    /// Sets a value of a user as an external change.
    pub fn tamper(&self, user_name: &str, change: impl Fn(&mut Value)) {
        let mut content = self.shared.lock();
        let found: Vec<u64> = content
            .users
            .iter()
            .filter(|(_, user)| user["userName"] == user_name)
            .map(|(id, _)| *id)
            .collect();
        for id in found {
            let mut user = content.users[&id].clone();
            change(&mut user);
            content.keep(id, user);
        }
    }

    /// Deletes a user as an external change.
    pub fn remove(&self, user_name: &str) {
        self.shared
            .lock()
            .users
            .retain(|_, user| user["userName"] != user_name);
    }

    /// Each user as it is changed from now on, with the moment.
    pub fn watch(&self) -> tokio::sync::mpsc::UnboundedReceiver<(Value, tide_clock::Instant)> {
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
        log.into_iter()
            .filter(|line| !line.starts_with("GET "))
            .collect()
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
            // The receiver may be gone.
            let _ = watcher.send((user.clone(), tide_clock::instant()));
        }
        self.users.insert(id, user);
    }
}

impl ServiceState {
    fn lock(&self) -> std::sync::MutexGuard<'_, Content> {
        self.content.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

fn router(shared: Arc<ServiceState>) -> Router {
    let scim = Router::new()
        .route("/ServiceProviderConfig", get(config))
        .route("/Schemas", get(discovery))
        .route("/ResourceTypes", get(discovery))
        .route("/Queue/{number}", get(queue))
        .route("/Bulk", axum::routing::post(bulk))
        .route("/{kind}", get(list).post(create))
        .route(
            "/{kind}/{id}",
            get(read).patch(change).put(replace).delete(remove),
        )
        .layer(middleware::from_fn_with_state(shared.clone(), temper));
    Router::new()
        .nest("/scim/v2", scim)
        .route("/standin/writes", get(writes))
        .route("/token", axum::routing::post(give_token))
        .with_state(shared)
}

/// Gives an access token for client credentials (RFC 6749 §4.4).
async fn give_token(
    State(shared): State<Arc<ServiceState>>,
    headers: HeaderMap,
    body: String,
) -> Response {
    let Entrance::Oauth(client, lasts) = &shared.manner.entrance else {
        return nothing_here();
    };
    let wanted = format!(
        "Basic {}",
        base64::Engine::encode(
            &base64::prelude::BASE64_STANDARD,
            format!("{client}:{}", shared.token)
        )
    );
    let given = headers
        .get(header::AUTHORIZATION)
        .and_then(|v| v.to_str().ok())
        .unwrap_or_default();
    if given != wanted || !body.contains("grant_type=client_credentials") {
        return (
            StatusCode::UNAUTHORIZED,
            Json(json!({"error": "invalid_client"})),
        )
            .into_response();
    }
    let token = uuid::Uuid::new_v4().to_string();
    let until = tide_clock::instant() + Duration::from_secs(*lasts);
    let mut content = shared.lock();
    content.given.push((token.clone(), until));
    content.log.push("POST /token".into());
    Json(json!({"access_token": token, "token_type": "Bearer", "expires_in": lasts}))
        .into_response()
}

/// Tells how a queued request went: not yet, where the account stands, or why it failed.
async fn queue(State(shared): State<Arc<ServiceState>>, Path(number): Path<usize>) -> Response {
    let mut content = shared.lock();
    let Some((asked, result)) = content.queued.get_mut(number) else {
        return nothing_here();
    };
    *asked += 1;
    match result {
        _ if *asked < 3 => scim(StatusCode::ACCEPTED, json!({"state": "in the queue"})),
        None => scim_error(
            StatusCode::BAD_REQUEST,
            Some("invalidValue"),
            "the berth planner does not take this",
        ),
        Some((status, body)) => {
            let kind = if body["schemas"]
                .as_array()
                .is_some_and(|all| all.contains(&json!(GROUP)))
            {
                "Groups"
            } else {
                "Users"
            };
            let place = format!(
                "/scim/v2/{kind}/{}",
                body["id"].as_str().unwrap_or_default()
            );
            let mut answer = scim(StatusCode::SEE_OTHER, json!({"status": status.as_u16()}));
            if let Ok(place) = place.parse() {
                answer.headers_mut().insert(header::LOCATION, place);
            }
            answer
        }
    }
}

async fn discovery(State(shared): State<Arc<ServiceState>>, request: Request) -> Response {
    match request.uri().path().ends_with("/Schemas") {
        _ if !shared.manner.discovery => nothing_here(),
        true => Json(listed(schemas())).into_response(),
        false => Json(listed(resource_types())).into_response(),
    }
}

/// Does several changes with one request (RFC 7644 §3.7): PATCH only, which is what is tested with
/// it.
#[allow(clippy::result_large_err)] // The error is the answer, made once.
async fn bulk(State(shared): State<Arc<ServiceState>>, body: String) -> Response {
    let body: Value = serde_json::from_str(&body).unwrap_or_default();
    let operations = body["Operations"].as_array().cloned().unwrap_or_default();
    if operations.is_empty() || operations.len() > shared.manner.bulk {
        return scim_error(
            StatusCode::PAYLOAD_TOO_LARGE,
            None,
            &format!("at most {} operations", shared.manner.bulk),
        );
    }
    let mut answers = Vec::new();
    for operation in operations {
        let path: Vec<&str> = operation["path"]
            .as_str()
            .unwrap_or_default()
            .trim_start_matches('/')
            .split('/')
            .collect();
        let [kind, id] = path[..] else {
            return scim_error(
                StatusCode::BAD_REQUEST,
                Some("invalidPath"),
                "a path is missing",
            );
        };
        let answer = store(&shared, kind, id, |old| patched(old, &operation["data"]));
        answers.push(json!({"method": "PATCH", "location": operation["path"], "status": answer.status().as_u16().to_string()}));
    }
    scim(
        StatusCode::OK,
        json!({"schemas": [tide_scim::BULK_ANSWER], "Operations": answers}),
    )
}

/// For the demo, whose stand-in lives in another process than the one who checks it.
async fn writes(State(shared): State<Arc<ServiceState>>) -> Json<Value> {
    let log = std::mem::take(&mut shared.lock().log);
    Json(json!(
        log.into_iter()
            .filter(|line| !line.starts_with("GET "))
            .collect::<Vec<_>>()
    ))
}

/// Counts a request as waiting until it is dropped, also when its connection is cut.
struct Waiting<'a>(&'a AtomicUsize);

impl<'a> Waiting<'a> {
    fn new(counter: &'a AtomicUsize) -> Self {
        counter.fetch_add(1, Ordering::AcqRel);
        Waiting(counter)
    }
}

impl Drop for Waiting<'_> {
    fn drop(&mut self) {
        self.0.fetch_sub(1, Ordering::AcqRel);
    }
}

async fn temper(
    State(shared): State<Arc<ServiceState>>,
    headers: HeaderMap,
    request: Request,
    next: Next,
) -> Response {
    let write = request.method() != Method::GET;
    let (mischief, delay) = next_mischief(&shared, &request, write);
    if !delay.is_zero() {
        let _waiting = Waiting::new(&shared.delayed);
        tide_clock::sleep(delay).await;
    }
    // Unwinding without a panic message ends the connection's task, and the peer sees it closed.
    let hang_up = || -> Response { std::panic::resume_unwind(Box::new(())) };
    if let Some(answer) = mischief.and_then(wrong_answer) {
        return answer;
    }
    match mischief {
        Some(Mischief::Close) => return hang_up(),
        Some(Mischief::Queue) => return put_in_queue(&shared, true, next, request).await,
        Some(Mischief::QueueAndFail) => return put_in_queue(&shared, false, next, request).await,
        Some(done @ (Mischief::DoAndFail | Mischief::DoAndPoint | Mischief::DoAndSayNothing)) => {
            return carry_out_and_fail(done, next, request).await;
        }
        Some(Mischief::DoAndClose) => {
            next.run(request).await;
            return hang_up();
        }
        _ => {}
    }
    if !shared.lets_in(&headers) {
        return scim_error(
            StatusCode::UNAUTHORIZED,
            None,
            "the token is missing or not valid",
        );
    }
    if shared.too_fast() {
        let mut answer = scim_error(
            StatusCode::TOO_MANY_REQUESTS,
            None,
            "too many requests in this second",
        );
        answer
            .headers_mut()
            .insert(header::RETRY_AFTER, header::HeaderValue::from_static("1"));
        return answer;
    }
    next.run(request).await
}

/// The answer to a request that is not carried out.
fn wrong_answer(mischief: Mischief) -> Option<Response> {
    Some(match mischief {
        Mischief::Html => (
            [(header::CONTENT_TYPE, "text/html")],
            "<html><body>Please log in</body></html>",
        )
            .into_response(),
        Mischief::Fail => scim_error(
            StatusCode::INTERNAL_SERVER_ERROR,
            None,
            "out of order, as it was told",
        ),
        Mischief::Refuse => scim_error(StatusCode::UNAUTHORIZED, None, "the token is not valid"),
        Mischief::RefuseValue => scim_error(
            StatusCode::BAD_REQUEST,
            Some("invalidValue"),
            "the password is too much like the name",
        ),
        Mischief::Conflict => scim_error(
            StatusCode::CONFLICT,
            Some("uniqueness"),
            "userName is taken",
        ),
        Mischief::Later => {
            let mut answer = scim_error(
                StatusCode::SERVICE_UNAVAILABLE,
                None,
                "come back in a second",
            );
            answer
                .headers_mut()
                .insert(header::RETRY_AFTER, header::HeaderValue::from_static("1"));
            answer
        }
        Mischief::Forbid => scim_error(StatusCode::FORBIDDEN, None, "this token may not do that"),
        Mischief::Astray => redirect("https://elsewhere.example/scim/v2/Users"),
        Mischief::LogIn => redirect("https://id.skerry.example/login?next=/scim"),
        Mischief::Half => (
            [(header::CONTENT_TYPE, "application/scim+json")],
            r#"{"totalResults": 5, "Resources": [{"id": "#,
        )
            .into_response(),
        Mischief::Nonsense => scim(
            StatusCode::OK,
            json!({"totalResults": "many", "Resources": {"id": 7}}),
        ),
        Mischief::Flood => {
            // Without a length said before, so that the other side has to count.
            static DROP: [u8; 1 << 20] = [b'x'; 1 << 20];
            let drops =
                futures::stream::iter((0..40).map(|_| {
                    Ok::<_, std::convert::Infallible>(axum::body::Bytes::from_static(&DROP))
                }));
            (
                [(header::CONTENT_TYPE, "application/scim+json")],
                axum::body::Body::from_stream(drops),
            )
                .into_response()
        }
        Mischief::Hurry => scim_error(StatusCode::TOO_MANY_REQUESTS, None, "too many requests"),
        _ => return None,
    })
}

/// Puts a request into the queue, where it succeeds or fails, and answers with the place in it.
async fn put_in_queue(
    shared: &ServiceState,
    succeeds: bool,
    next: Next,
    request: Request,
) -> Response {
    let result = if succeeds {
        let (parts, body) = next.run(request).await.into_parts();
        let body = axum::body::to_bytes(body, 1 << 20)
            .await
            .unwrap_or_default();
        Some((
            parts.status,
            serde_json::from_slice(&body).unwrap_or_default(),
        ))
    } else {
        None
    };
    let mut content = shared.lock();
    content.queued.push((0, result));
    let mut answer = scim(StatusCode::ACCEPTED, json!({"state": "in the queue"}));
    if let Ok(place) = format!("/scim/v2/Queue/{}", content.queued.len() - 1).parse() {
        answer.headers_mut().insert(header::LOCATION, place);
    }
    answer
}

/// Carries a request out, and answers as if it had failed, or with nothing but the place.
async fn carry_out_and_fail(done: Mischief, next: Next, request: Request) -> Response {
    let (parts, body) = next.run(request).await.into_parts();
    if done == Mischief::DoAndFail {
        return scim_error(
            StatusCode::GATEWAY_TIMEOUT,
            None,
            "no answer from behind the gateway",
        );
    }
    let body = axum::body::to_bytes(body, 1 << 20)
        .await
        .unwrap_or_default();
    let resource: Value = serde_json::from_slice(&body).unwrap_or_default();
    let place = resource["meta"]["location"]
        .as_str()
        .and_then(|place| place.parse().ok());
    let mut answer = parts.status.into_response();
    if let Some(place) = place.filter(|_| done == Mischief::DoAndPoint) {
        answer.headers_mut().insert(header::LOCATION, place);
    }
    answer
}

/// What to do wrong with this request, and how long to wait before.
fn next_mischief(
    shared: &Arc<ServiceState>,
    request: &axum::http::Request<axum::body::Body>,
    write: bool,
) -> (Option<Mischief>, Duration) {
    let (mischief, delay) = {
        let mut content = shared.lock();
        content
            .log
            .push(format!("{} {}", request.method(), request.uri().path()));
        let due = content
            .mischief
            .front()
            .is_some_and(|(writes_only, _)| write || !writes_only);
        (
            if due {
                content.mischief.pop_front().map(|(_, m)| m)
            } else {
                None
            },
            content.delay,
        )
    };
    (mischief, delay)
}

fn redirect(to: &'static str) -> Response {
    (StatusCode::FOUND, [(header::LOCATION, to)]).into_response()
}

impl ServiceState {
    fn lets_in(&self, headers: &HeaderMap) -> bool {
        let text = |name: &str| {
            headers
                .get(name)
                .and_then(|v| v.to_str().ok())
                .unwrap_or_default()
                .to_owned()
        };
        let given = text("authorization");
        match &self.manner.entrance {
            Entrance::Bearer => given == format!("Bearer {}", self.token),
            Entrance::Header(name) => text(name) == self.token,
            Entrance::Basic(user) => {
                let pair = base64::Engine::encode(
                    &base64::prelude::BASE64_STANDARD,
                    format!("{user}:{}", self.token),
                );
                given == format!("Basic {pair}")
            }
            Entrance::Oauth(..) => {
                let now = tide_clock::instant();
                let token = given.strip_prefix("Bearer ").unwrap_or_default();
                self.lock()
                    .given
                    .iter()
                    .any(|(known, until)| known == token && *until > now)
            }
        }
    }

    /// Counts a request, and says whether it is one too many in this second.
    fn too_fast(&self) -> bool {
        let Some(most) = self.manner.per_second else {
            return false;
        };
        let mut content = self.lock();
        let now = tide_clock::instant();
        let (begun, count) = content
            .second
            .filter(|(begun, _)| now.duration_since(*begun) < Duration::from_secs(1))
            .unwrap_or((now, 0));
        content.second = Some((begun, count + 1));
        let over = count >= most;
        content.turned_away += usize::from(over);
        over
    }
}
