//! Access control by route. A route that is not in the table is denied.

use crate::problem::Refusal;
use crate::scim::ScimError;
use crate::{PublicUrl, Service};
use axum::extract::{MatchedPath, Request, State};
use axum::http::{HeaderMap, Method, StatusCode, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use cookie::Cookie;
use governor::{DefaultDirectRateLimiter, Quota, RateLimiter};
use std::num::NonZeroU32;
use tide_core::states::{PrincipalKind, SystemKind};
use tide_store::Principal;

/// The cookie of a console's session. `__Host-` would need TLS, which a loopback listener has not.
pub const COOKIE: &str = "eager_tide_session";

/// The permission that a route requires.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Grant {
    /// Any caller.
    Public,
    /// Every operator.
    Operators,
    /// The system that the path names, with its own token.
    ThatSystem,
    /// That system, and every operator.
    ThatSystemOrOperators,
}

/// Every route that is granted, with its method.
pub const GRANTS: &[(&str, &str, Grant)] = &[
    ("GET", "/healthz", Grant::Public),
    ("GET", "/readyz", Grant::Public),
    ("GET", "/api/v1/openapi.json", Grant::Public),
    ("POST", "/api/v1/session", Grant::Public),
    ("DELETE", "/api/v1/session", Grant::Operators),
    ("GET", "/api/v1/me", Grant::Operators),
    ("GET", "/api/v1/overview", Grant::Operators),
    ("GET", "/api/v1/holds", Grant::Operators),
    ("POST", "/api/v1/alerts/acknowledge", Grant::Operators),
    ("PUT", "/api/v1/write-stop", Grant::Operators),
    ("DELETE", "/api/v1/write-stop", Grant::Operators),
    ("GET", "/api/v1/events", Grant::Operators),
    ("GET", "/api/v1/systems", Grant::Operators),
    ("POST", "/api/v1/systems", Grant::Operators),
    ("POST", "/api/v1/systems/test", Grant::Operators),
    ("GET", "/api/v1/systems/{name}", Grant::Operators),
    ("PATCH", "/api/v1/systems/{name}", Grant::Operators),
    ("PUT", "/api/v1/systems/{name}/secret", Grant::Operators),
    ("POST", "/api/v1/systems/{name}/test", Grant::Operators),
    ("POST", "/api/v1/systems/{name}/read", Grant::Operators),
    ("GET", "/api/v1/systems/{name}/accounts", Grant::Operators),
    ("GET", "/api/v1/systems/{name}/schema", Grant::Operators),
    ("DELETE", "/api/v1/systems/{name}", Grant::Operators),
    ("GET", "/api/v1/systems/{name}/retirement", Grant::Operators),
    ("GET", "/api/v1/identities/resolve", Grant::Operators),
    ("POST", "/api/v1/systems/browse", Grant::Operators),
    ("GET", "/api/v1/systems/{name}/tree", Grant::Operators),
    (
        "GET",
        "/api/v1/systems/{name}/permissions",
        Grant::Operators,
    ),
    ("PUT", "/api/v1/systems/{name}/settings", Grant::Operators),
    ("PUT", "/api/v1/systems/{name}/schedule", Grant::Operators),
    ("POST", "/api/v1/systems/{name}/rules", Grant::Operators),
    ("GET", "/api/v1/systems/{name}/scope", Grant::Operators),
    ("PUT", "/api/v1/systems/{name}/scope", Grant::Operators),
    ("GET", "/api/v1/systems/{name}/scope.csv", Grant::Operators),
    (
        "POST",
        "/api/v1/systems/{name}/scope/simulate",
        Grant::Operators,
    ),
    ("GET", "/api/v1/systems/{name}/matches", Grant::Operators),
    (
        "GET",
        "/api/v1/systems/{name}/matches/case",
        Grant::Operators,
    ),
    (
        "POST",
        "/api/v1/systems/{name}/matches/answers",
        Grant::Operators,
    ),
    ("DELETE", "/api/v1/matches/answers/{id}", Grant::Operators),
    ("GET", "/api/v1/systems/{name}/quarantine", Grant::Operators),
    (
        "GET",
        "/api/v1/systems/{name}/quarantine.csv",
        Grant::Operators,
    ),
    ("GET", "/api/v1/systems/{name}/tokens", Grant::Operators),
    ("POST", "/api/v1/systems/{name}/tokens", Grant::Operators),
    (
        "DELETE",
        "/api/v1/systems/{name}/tokens/{id}",
        Grant::Operators,
    ),
    (
        "POST",
        "/api/v1/systems/{name}/accept-records",
        Grant::Operators,
    ),
    ("POST", "/api/v1/feeds/inspect", Grant::Operators),
    ("PUT", "/api/v1/events/{system}/shape", Grant::Operators),
    (
        "GET",
        "/api/v1/events/{system}/schema",
        Grant::ThatSystemOrOperators,
    ),
    ("POST", "/api/v1/events/{system}", Grant::ThatSystem),
    (
        "GET",
        "/api/v1/events/{system}/{id}",
        Grant::ThatSystemOrOperators,
    ),
    ("GET", "/api/v1/rules", Grant::Operators),
    ("PUT", "/api/v1/rules", Grant::Operators),
    ("POST", "/api/v1/rules/check", Grant::Operators),
    ("POST", "/api/v1/rules/evaluate", Grant::Operators),
    ("POST", "/api/v1/rules/evaluate-mapping", Grant::Operators),
    ("GET", "/api/v1/rules/drafts", Grant::Operators),
    ("POST", "/api/v1/rules/drafts", Grant::Operators),
    ("GET", "/api/v1/rules/drafts/{id}", Grant::Operators),
    ("PUT", "/api/v1/rules/drafts/{id}", Grant::Operators),
    ("DELETE", "/api/v1/rules/drafts/{id}", Grant::Operators),
    ("POST", "/api/v1/rules/drafts/{id}/rebase", Grant::Operators),
    ("POST", "/api/v1/rules/drafts/{id}/impact", Grant::Operators),
    (
        "POST",
        "/api/v1/rules/drafts/{id}/publish",
        Grant::Operators,
    ),
    ("POST", "/api/v1/rules/impact", Grant::Operators),
    ("GET", "/api/v1/rules/versions", Grant::Operators),
    ("GET", "/api/v1/rules/difference", Grant::Operators),
    ("GET", "/api/v1/passwords", Grant::Operators),
    ("POST", "/api/v1/passwords/{id}/show", Grant::Operators),
    (
        "GET",
        "/api/v1/change-sets/{id}/changes.csv",
        Grant::Operators,
    ),
    (
        "GET",
        "/api/v1/change-sets/{id}/compare/{other}",
        Grant::Operators,
    ),
    ("GET", "/api/v1/decisions", Grant::Operators),
    ("POST", "/api/v1/decisions", Grant::Operators),
    ("GET", "/api/v1/operators", Grant::Operators),
    ("POST", "/api/v1/operators", Grant::Operators),
    ("PUT", "/api/v1/operators/{name}", Grant::Operators),
    ("DELETE", "/api/v1/operators/{name}", Grant::Operators),
    ("GET", "/api/v1/operators/{name}/tokens", Grant::Operators),
    ("POST", "/api/v1/operators/{name}/tokens", Grant::Operators),
    (
        "DELETE",
        "/api/v1/operators/{name}/tokens/{id}",
        Grant::Operators,
    ),
    ("GET", "/api/v1/webhooks", Grant::Operators),
    ("PUT", "/api/v1/webhooks/{name}/secret", Grant::Operators),
    ("POST", "/api/v1/webhooks/{name}/test", Grant::Operators),
    ("GET", "/api/v1/change-sets", Grant::Operators),
    ("POST", "/api/v1/change-sets", Grant::Operators),
    ("GET", "/api/v1/change-sets/{id}", Grant::Operators),
    ("GET", "/api/v1/change-sets/{id}/lines", Grant::Operators),
    ("GET", "/api/v1/change-sets/{id}/changes", Grant::Operators),
    ("POST", "/api/v1/change-sets/{id}/cancel", Grant::Operators),
    ("GET", "/api/v1/identities", Grant::Operators),
    ("GET", "/api/v1/identities/{id}", Grant::Operators),
    (
        "DELETE",
        "/api/v1/identities/{id}/links/{system}",
        Grant::Operators,
    ),
    ("GET", "/api/v1/identities/{id}/lifecycle", Grant::Operators),
    ("GET", "/api/v1/identities/{id}/departure", Grant::Operators),
    ("PUT", "/api/v1/identities/{id}/departure", Grant::Operators),
    (
        "DELETE",
        "/api/v1/identities/{id}/departure",
        Grant::Operators,
    ),
    ("GET", "/api/v1/leavers", Grant::Operators),
    ("GET", "/api/v1/licenses", Grant::Operators),
    ("GET", "/api/v1/notifications", Grant::Operators),
    ("GET", "/api/v1/identities/{id}/groups", Grant::Operators),
    ("PUT", "/api/v1/identities/{id}/password", Grant::Operators),
    ("GET", "/api/v1/identities/{id}/password", Grant::Operators),
    ("GET", "/api/v1/roles", Grant::Operators),
    ("GET", "/api/v1/roles/{name}/holders", Grant::Operators),
    ("POST", "/api/v1/roles/{name}/holders", Grant::Operators),
    ("POST", "/api/v1/roles/{name}/simulate", Grant::Operators),
    (
        "DELETE",
        "/api/v1/roles/{name}/holders/{id}",
        Grant::Operators,
    ),
    ("GET", "/api/v1/why", Grant::Operators),
    ("GET", "/api/v1/journal", Grant::Operators),
    ("GET", "/api/v1/journal/check", Grant::Operators),
];

/// Everything below this path belongs to the SCIM provider, including errors for wrong methods.
const PROVIDER: &str = "/scim/v2/{system}";

/// How many requests one token may send in a second, and how many at once.
const PACE: (u32, u32) = (2000, 4000);
/// How many invalid tokens per second are answered as invalid; beyond that, callers are asked to
/// slow down.
const GUESSES: u32 = 50;

/// Limits the rate of calls: for each token, and for all wrong tokens together.
pub struct Paces {
    tokens: std::sync::Mutex<
        std::collections::HashMap<String, std::sync::Arc<DefaultDirectRateLimiter>>,
    >,
    guesses: DefaultDirectRateLimiter,
}

impl Default for Paces {
    fn default() -> Self {
        let guesses = NonZeroU32::new(GUESSES).unwrap_or(NonZeroU32::MIN);
        Paces {
            tokens: std::sync::Mutex::default(),
            guesses: RateLimiter::direct(Quota::per_second(guesses)),
        }
    }
}

impl Paces {
    /// Whether another wrong token may be tried. Wrong tokens of all callers count together.
    pub fn allows_guess(&self) -> bool {
        self.guesses.check().is_ok()
    }

    fn allows(&self, principal: &str) -> bool {
        let mut tokens = self
            .tokens
            .lock()
            .unwrap_or_else(std::sync::PoisonError::into_inner);
        let pace = tokens.entry(principal.to_owned()).or_insert_with(|| {
            let [each, burst] =
                [PACE.0, PACE.1].map(|n| NonZeroU32::new(n).unwrap_or(NonZeroU32::MIN));
            std::sync::Arc::new(RateLimiter::direct(
                Quota::per_second(each).allow_burst(burst),
            ))
        });
        pace.check().is_ok()
    }
}

/// The caller, stored in the request for the handlers.
#[derive(Debug, Clone)]
pub struct Caller {
    pub principal: Principal,
    /// The id of the credential of the call; the call ends with it.
    pub credential: Credential,
}

/// The credential of a call.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Credential {
    /// The session of a console.
    Session(String),
    /// A token.
    Token(String),
}

impl Caller {
    /// Whether the credentials of the call are still valid, for answers that stay open.
    pub async fn lasts(&self, service: &Service) -> bool {
        let (store, now) = (service.engine.store(), service.engine.now());
        let lasts = match &self.credential {
            Credential::Session(id) => store.session_lasts(id, browsers_now(), now).await,
            Credential::Token(id) => store.token_lasts(id, now).await,
        };
        lasts.unwrap_or(false)
    }
}

/// The value of a cookie (RFC 6265 §4.2).
fn cookie(headers: &HeaderMap, name: &str) -> Option<String> {
    headers
        .get_all(header::COOKIE)
        .iter()
        .filter_map(|value| value.to_str().ok())
        .flat_map(Cookie::split_parse)
        .filter_map(Result::ok)
        .find(|cookie| cookie.name() == name)
        .map(|cookie| cookie.value().to_owned())
}

/// A request that changes something and brings a cookie must come from our own pages: those of the
/// public address, or of the host that was called, which a proxy may have written anew.
fn same_origin(headers: &HeaderMap, public_url: Option<&PublicUrl>) -> bool {
    let text = |name| {
        headers
            .get(name)
            .and_then(|value: &header::HeaderValue| value.to_str().ok())
    };
    let (Some(origin), Some(host)) = (text(header::ORIGIN), text(header::HOST)) else {
        return false;
    };
    match public_url {
        Some(url) => origin.eq_ignore_ascii_case(url.as_str()),
        None => origin
            .split_once("://")
            .is_some_and(|(_, rest)| rest.eq_ignore_ascii_case(host)),
    }
}

/// The moment by which sessions end: the browser's, also where the service's own clock is moved.
pub(crate) fn browsers_now() -> jiff::Timestamp {
    tide_clock::now()
}

async fn caller(
    service: &Service,
    headers: &HeaderMap,
    method: &Method,
) -> Result<Caller, Refusal> {
    let now = service.engine.now();
    let signed_out = || {
        Refusal::new(StatusCode::UNAUTHORIZED, "sign-in", "you are not signed in")
            .remedy("sign in with a token")
    };
    if let Some(value) = headers.get(header::AUTHORIZATION) {
        let token = value
            .to_str()
            .ok()
            .and_then(|text| text.strip_prefix("Bearer "))
            .map(str::trim)
            .unwrap_or_default();
        let bearer = service.engine.store().by_token(token, now).await?;
        return bearer
            .map(|bearer| Caller {
                principal: bearer.principal,
                credential: Credential::Token(bearer.token),
            })
            .ok_or_else(|| {
                Refusal::new(StatusCode::UNAUTHORIZED, "token", "the token is not valid")
                    .remedy("check EAGER_TIDE_TOKEN or the token file")
            });
    }
    let secret = cookie(headers, COOKIE).ok_or_else(signed_out)?;
    let session = service
        .engine
        .store()
        .find_session(&secret, browsers_now(), now)
        .await?
        .ok_or_else(signed_out)?;
    if !method.is_safe() && !same_origin(headers, service.public_url.as_ref()) {
        return Err(Refusal::new(
            StatusCode::FORBIDDEN,
            "origin",
            "the request does not come from the console's own pages",
        ));
    }
    Ok(Caller {
        principal: session.principal,
        credential: Credential::Session(session.id),
    })
}

/// The caller, if the route is granted to it.
async fn granted_caller(
    service: &Service,
    headers: &HeaderMap,
    method: &Method,
    grant: Grant,
    system: &str,
) -> Result<Caller, Refusal> {
    let brings_token = headers.contains_key(header::AUTHORIZATION);
    let caller = match caller(service, headers, method).await {
        Err(refusal) if brings_token && !service.paces.allows_guess() => {
            let mut refusal = refusal;
            refusal.0.status = StatusCode::TOO_MANY_REQUESTS.as_u16();
            return Err(refusal);
        }
        other => other?,
    };
    let is_system = caller.principal.kind == PrincipalKind::System;
    let allowed = match grant {
        Grant::Public => true,
        Grant::Operators => !is_system,
        Grant::ThatSystem => is_system && caller.principal.name == system,
        Grant::ThatSystemOrOperators => !is_system || caller.principal.name == system,
    };
    if !allowed {
        let what = if is_system {
            format!("this token belongs to the system {}", caller.principal.name)
        } else {
            "only the system itself may call this, with its own token".into()
        };
        return Err(Refusal::new(StatusCode::FORBIDDEN, "not-granted", what)
            .remedy("`eager-tide systems token NAME` creates a token for a system"));
    }
    if is_system && service.engine.store().find_system(system).await?.kind != SystemKind::Push {
        // A token that was created before the system changed its kind.
        let said = format!("{system} is not a push system");
        return Err(Refusal::new(StatusCode::FORBIDDEN, "not-push", said)
            .remedy("add a system of kind push, and create a token for it"));
    }
    if is_system && !service.paces.allows(&caller.principal.id) {
        return Err(Refusal::new(
            StatusCode::TOO_MANY_REQUESTS,
            "rate",
            "too many requests in this second",
        ));
    }
    Ok(caller)
}

/// Lets a request through if the caller has access to its route.
pub async fn check_access(
    State(service): State<Service>,
    mut request: Request,
    next: Next,
) -> Response {
    let Some(path) = request
        .extensions()
        .get::<MatchedPath>()
        .map(|path| path.as_str().to_owned())
    else {
        return next.run(request).await;
    };
    let method = request.method().clone();
    let asked = if method == Method::HEAD {
        "GET"
    } else {
        method.as_str()
    };
    let grant = GRANTS
        .iter()
        .find(|(granted, route, _)| *granted == asked && *route == path)
        .map(|(_, _, grant)| *grant);
    let grant = if path.starts_with(PROVIDER) {
        Some(Grant::ThatSystem)
    } else {
        grant
    };
    match grant {
        Some(Grant::Public) => next.run(request).await,
        Some(grant) => {
            let system = request
                .uri()
                .path()
                .split('/')
                .nth(if path.starts_with(PROVIDER) { 3 } else { 4 })
                .unwrap_or_default()
                .to_owned();
            match granted_caller(&service, request.headers(), &method, grant, &system).await {
                Ok(caller) => {
                    request.extensions_mut().insert(caller);
                    next.run(request).await
                }
                Err(refusal) if path.starts_with(PROVIDER) => {
                    let status =
                        StatusCode::from_u16(refusal.0.status).unwrap_or(StatusCode::UNAUTHORIZED);
                    ScimError::new(status, None, refusal.0.detail.unwrap_or_default())
                        .into_response()
                }
                Err(refusal) => refusal.into_response(),
            }
        }
        None => not_granted(&method, &path),
    }
}

/// A route without access: a method that the path does not have (RFC 9110 section 15.5.6), or a
/// path missing in the table.
fn not_granted(method: &Method, path: &str) -> Response {
    let has: Vec<&str> = GRANTS
        .iter()
        .filter(|(_, route, _)| *route == path)
        .map(|(method, ..)| *method)
        .collect();
    if has.is_empty() {
        return Refusal::new(
            StatusCode::FORBIDDEN,
            "not-granted",
            format!("{method} {path} is not available"),
        )
        .into_response();
    }
    let allowed = has.join(", ");
    let said = format!("{path} has no method {method}: it has {allowed}");
    let mut response = Refusal::new(StatusCode::METHOD_NOT_ALLOWED, "method", said).into_response();
    if let Ok(allowed) = header::HeaderValue::from_str(&allowed) {
        response.headers_mut().insert(header::ALLOW, allowed);
    }
    response
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_foreign_origin_or_none_is_refused() {
        let headers = |origin: Option<&str>| {
            let mut map = HeaderMap::new();
            map.insert(
                header::HOST,
                header::HeaderValue::from_static("127.0.0.1:7480"),
            );
            if let Some(origin) = origin {
                map.insert(header::ORIGIN, origin.parse().expect("valid"));
            }
            map
        };
        assert!(same_origin(&headers(Some("http://127.0.0.1:7480")), None));
        let public: PublicUrl = "https://Tide.example/".parse().expect("an address");
        assert!(same_origin(
            &headers(Some("https://tide.example")),
            Some(&public)
        ));
        assert!(!same_origin(
            &headers(Some("http://127.0.0.1:7480")),
            Some(&public)
        ));
        for wrong in [
            "tide.example",
            "ftp://tide.example",
            "https://tide.example/console",
            "https://me@tide.example",
            "",
        ] {
            assert!(wrong.parse::<PublicUrl>().is_err(), "{wrong}");
        }
        for foreign in [
            None,
            Some("http://elsewhere.example"),
            Some("http://127.0.0.1:9999"),
            Some("null"),
        ] {
            assert!(!same_origin(&headers(foreign), None), "{foreign:?}");
        }
    }

    #[test]
    fn a_cookie_is_found_among_others() {
        let mut headers = HeaderMap::new();
        headers.insert(
            header::COOKIE,
            header::HeaderValue::from_static("a=1; eager_tide_session=xyz; b=2"),
        );
        assert_eq!(cookie(&headers, COOKIE).as_deref(), Some("xyz"));
        assert_eq!(cookie(&headers, "c"), None);
    }
}
