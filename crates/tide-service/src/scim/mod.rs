//! The SCIM 2.0 service provider (RFC 7643, 7644): `/scim/v2/{system}`, whose resources are the
//! accounts of a system that calls us. `docs/scim-provider.md` lists the clauses with their tests.

mod bulk;
mod discovery;
mod list;
mod write;

use crate::Service;
use axum::Router;
use axum::extract::{DefaultBodyLimit, Path, Request};
use axum::http::{HeaderMap, HeaderName, HeaderValue, Method, StatusCode, header};
use axum::response::{IntoResponse, Response};
use axum::routing::{MethodRouter, get, post};
use serde_json::{Value, json};
use tide_core::ObjectType;
use tide_engine::EngineError;
use tide_scim::error_body;
use tide_scim::patch::PatchError;
use tide_scim::resource::{Kind, ResourceError};
use tide_store::{PushedRow, StoreError};

/// The largest body of a request, in octets.
const MAX_BODY: usize = 2 << 20;
/// The most resources of one page.
const MAX_PAGE: usize = 500;
/// The default number of resources on a page.
const PAGE: usize = 100;
/// The most operations of a bulk request.
const MAX_OPERATIONS: usize = 500;

/// A SCIM error response (RFC 7644 §3.12).
#[derive(Debug)]
pub struct ScimError {
    pub status: StatusCode,
    kind: Option<&'static str>,
    detail: String,
    allow: Option<&'static str>,
}

impl ScimError {
    pub fn new(status: StatusCode, kind: Option<&'static str>, detail: impl Into<String>) -> Self {
        ScimError {
            status,
            kind,
            detail: detail.into(),
            allow: None,
        }
    }

    fn bad(kind: &'static str, detail: impl Into<String>) -> Self {
        Self::new(StatusCode::BAD_REQUEST, Some(kind), detail)
    }

    fn missing(what: &str) -> Self {
        Self::new(StatusCode::NOT_FOUND, None, format!("there is no {what}"))
    }

    fn body(&self) -> Value {
        error_body(self.status.as_u16(), self.kind, &self.detail)
    }
}

impl IntoResponse for ScimError {
    fn into_response(self) -> Response {
        let mut response = answer(self.status, &self.body());
        if self.status == StatusCode::UNAUTHORIZED {
            response.headers_mut().insert(
                header::WWW_AUTHENTICATE,
                HeaderValue::from_static("Bearer realm=\"scim\""),
            );
        }
        if let Some(allow) = self.allow {
            response
                .headers_mut()
                .insert(header::ALLOW, HeaderValue::from_static(allow));
        }
        response
    }
}

impl From<ResourceError> for ScimError {
    fn from(error: ResourceError) -> Self {
        Self::bad(error.scim_type, error.detail)
    }
}

impl From<PatchError> for ScimError {
    fn from(error: PatchError) -> Self {
        Self::bad(error.scim_type, error.detail)
    }
}

impl From<StoreError> for ScimError {
    fn from(error: StoreError) -> Self {
        match error {
            StoreError::Exists { name, .. } => Self::new(
                StatusCode::CONFLICT,
                Some("uniqueness"),
                format!("userName {name} is taken"),
            ),
            StoreError::Missing {
                what: "version", ..
            } => Self::new(
                StatusCode::PRECONDITION_FAILED,
                None,
                "the resource has another version by now",
            ),
            StoreError::Missing { what, name } => Self::new(
                StatusCode::NOT_FOUND,
                None,
                format!("there is no {what} `{name}`"),
            ),
            other => {
                tracing::error!(error = %other, "the store failed");
                Self::new(
                    StatusCode::INTERNAL_SERVER_ERROR,
                    None,
                    "the store failed; see the service's log",
                )
            }
        }
    }
}

impl From<EngineError> for ScimError {
    fn from(error: EngineError) -> Self {
        match error {
            EngineError::Store(error) => error.into(),
            other => Self::bad("invalidValue", other.to_string()),
        }
    }
}

/// The context of a request, beside its body.
#[derive(Clone)]
struct RequestContext {
    service: Service,
    system: String,
    principal: String,
    /// `http://host/scim/v2/{system}`.
    base: String,
}

/// A resource type: its schema, and what it is here.
#[derive(Clone)]
struct Shelf {
    kind: Kind,
    object: ObjectType,
}

fn shelf(endpoint: &str) -> Result<&'static Shelf, ScimError> {
    static SHELVES: std::sync::LazyLock<[Shelf; 2]> = std::sync::LazyLock::new(|| {
        [
            Shelf {
                kind: Kind::user(),
                object: ObjectType::Person,
            },
            Shelf {
                kind: Kind::group(),
                object: ObjectType::Group,
            },
        ]
    });
    SHELVES
        .iter()
        .find(|shelf| shelf.kind.endpoint == endpoint)
        .ok_or_else(|| ScimError::missing("such endpoint"))
}

fn answer(status: StatusCode, body: &Value) -> Response {
    let kind = HeaderValue::from_static("application/scim+json");
    (status, [(header::CONTENT_TYPE, kind)], body.to_string()).into_response()
}

/// The tag of a version (RFC 7644 §3.14).
fn tag(version: i64) -> String {
    format!("W/\"{version}\"")
}

/// The version that a condition names: `*` is any.
fn condition(headers: &HeaderMap, name: HeaderName) -> Option<Vec<String>> {
    let text = headers.get(name)?.to_str().ok()?;
    Some(
        text.split(',')
            .map(|tag| {
                tag.trim()
                    .trim_start_matches("W/")
                    .trim_matches('"')
                    .to_owned()
            })
            .collect(),
    )
}

fn fits(conditions: &[String], version: i64) -> bool {
    conditions
        .iter()
        .any(|wanted| wanted == "*" || *wanted == version.to_string())
}

impl RequestContext {
    fn location(&self, shelf: &Shelf, id: &str) -> String {
        format!("{}/{}/{id}", self.base, shelf.kind.endpoint)
    }

    /// A stored resource as it is returned: with its `meta` and with what is derived from others.
    async fn dressed(&self, shelf: &Shelf, row: &PushedRow) -> Result<Value, ScimError> {
        let mut resource: Value = serde_json::from_str(&row.body).map_err(StoreError::from)?;
        resource["id"] = json!(row.id);
        resource["meta"] = json!({
            "resourceType": shelf.kind.name, "created": row.created_at, "lastModified": row.changed_at,
            "location": self.location(shelf, &row.id), "version": tag(row.version),
        });
        if shelf.object == ObjectType::Person {
            let groups = self
                .service
                .engine
                .store()
                .groups_of_pushed(&self.system, &row.id)
                .await?;
            if !groups.is_empty() {
                let groups: Vec<Value> = groups
                    .into_iter()
                    .map(|(id, name)| json!({"value": id, "$ref": format!("{}/Groups/{id}", self.base), "display": name, "type": "direct"}))
                    .collect();
                resource["groups"] = json!(groups);
            }
        } else {
            for member in resource["members"].as_array_mut().into_iter().flatten() {
                let endpoint = if member["type"] == "Group" {
                    "Groups"
                } else {
                    "Users"
                };
                if member["$ref"].is_null()
                    && let Some(id) = member["value"].as_str().map(str::to_owned)
                {
                    member["$ref"] = json!(format!("{}/{endpoint}/{id}", self.base));
                }
            }
        }
        Ok(resource)
    }
}

/// The provider's address for a system. Where no public address is set, it is that of the host that
/// was called.
fn base(service: &Service, headers: &HeaderMap, system: &str) -> String {
    match &service.public_url {
        Some(url) => format!("{}/scim/v2/{system}", url.as_str()),
        None => {
            let host = headers
                .get(header::HOST)
                .and_then(|v| v.to_str().ok())
                .unwrap_or("localhost");
            format!("http://{host}/scim/v2/{system}")
        }
    }
}

/// The parts of a request: context, headers, query and body.
async fn taken(
    service: &Service,
    system: String,
    request: Request,
) -> Result<(RequestContext, HeaderMap, list::ListRequest, Vec<u8>), ScimError> {
    let caller = request.extensions().get::<crate::access::Caller>().cloned();
    let principal = caller.map(|caller| caller.principal.id).unwrap_or_default();
    let headers = request.headers().clone();
    let base = base(service, &headers, &system);
    let query = list::ListRequest::read(request.uri().query().unwrap_or_default())?;
    let body = axum::body::to_bytes(request.into_body(), MAX_BODY)
        .await
        .map_err(|_| {
            ScimError::new(
                StatusCode::PAYLOAD_TOO_LARGE,
                None,
                format!("the body is larger than {} MiB", MAX_BODY >> 20),
            )
        })?;
    Ok((
        RequestContext {
            service: service.clone(),
            system,
            principal,
            base,
        },
        headers,
        query,
        body.to_vec(),
    ))
}

/// A JSON body (RFC 7644 §3.8: `application/scim+json`; `application/json` is accepted).
fn json_body(headers: &HeaderMap, body: &[u8]) -> Result<Value, ScimError> {
    let kind = headers
        .get(header::CONTENT_TYPE)
        .and_then(|v| v.to_str().ok())
        .unwrap_or("application/scim+json")
        .to_lowercase();
    if !kind.contains("json") {
        return Err(ScimError::new(
            StatusCode::UNSUPPORTED_MEDIA_TYPE,
            None,
            "send application/scim+json",
        ));
    }
    serde_json::from_slice(body)
        .map_err(|error| ScimError::bad("invalidSyntax", format!("the body is not JSON: {error}")))
}

/// A wrong method on an endpoint that exists (RFC 9110 §15.5.6).
fn wrong_method(
    allow: &'static str,
) -> impl Fn(Method) -> std::future::Ready<ScimError> + Clone + Send + Sync + 'static {
    move |method| {
        let mut error = ScimError::new(
            StatusCode::METHOD_NOT_ALLOWED,
            None,
            format!("{method} is not allowed here: {allow}"),
        );
        error.allow = Some(allow);
        std::future::ready(error)
    }
}

fn only_get(routes: MethodRouter<Service>) -> MethodRouter<Service> {
    routes.fallback(wrong_method("GET"))
}

async fn me() -> ScimError {
    ScimError::new(
        StatusCode::NOT_IMPLEMENTED,
        None,
        "/Me is not offered: a token stands for a system, and not for a user (RFC 7644 §3.11)",
    )
}

async fn nothing(Path((_, kind, _, _)): Path<(String, String, String, String)>) -> ScimError {
    ScimError::missing(&format!(
        "such endpoint below /{}",
        kind.chars().take(80).collect::<String>()
    ))
}

/// The provider's routes.
pub fn routes() -> Router<Service> {
    Router::new()
        .route(
            "/scim/v2/{system}/ServiceProviderConfig",
            only_get(get(discovery::config)),
        )
        .route(
            "/scim/v2/{system}/Schemas",
            only_get(get(discovery::schemas)),
        )
        .route(
            "/scim/v2/{system}/Schemas/{id}",
            only_get(get(discovery::schema)),
        )
        .route(
            "/scim/v2/{system}/ResourceTypes",
            only_get(get(discovery::resource_types)),
        )
        .route(
            "/scim/v2/{system}/ResourceTypes/{id}",
            only_get(get(discovery::resource_type)),
        )
        .route("/scim/v2/{system}/Me", axum::routing::any(me))
        .route(
            "/scim/v2/{system}/Bulk",
            post(bulk::bulk).fallback(wrong_method("POST")),
        )
        .route(
            "/scim/v2/{system}/.search",
            post(list::search_all).fallback(wrong_method("POST")),
        )
        .route(
            "/scim/v2/{system}/Users/.search",
            post(list::search_users).fallback(wrong_method("POST")),
        )
        .route(
            "/scim/v2/{system}/Groups/.search",
            post(list::search_groups).fallback(wrong_method("POST")),
        )
        .route(
            "/scim/v2/{system}/{kind}",
            get(list::list)
                .post(write::create)
                .fallback(wrong_method("GET, POST")),
        )
        .route(
            "/scim/v2/{system}/{kind}/{id}",
            get(write::read)
                .put(write::replace)
                .patch(write::change)
                .delete(write::remove)
                .fallback(wrong_method("GET, PUT, PATCH, DELETE")),
        )
        .route("/scim/v2/{system}", only_get(get(list::list_all)))
        .route(
            "/scim/v2/{system}/{kind}/{id}/{*rest}",
            axum::routing::any(nothing),
        )
        .layer(DefaultBodyLimit::max(MAX_BODY))
}
