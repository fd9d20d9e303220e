//! Who may call what. A route that is not in the table is denied to everybody.

use crate::Service;
use crate::problem::Refusal;
use axum::extract::{MatchedPath, Request, State};
use axum::http::{HeaderMap, Method, StatusCode, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use tide_store::Principal;

/// The cookie of a console's session. `__Host-` would need TLS, which a loopback listener has not.
pub const COOKIE: &str = "eager_tide_session";

/// To whom a route is granted.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Grant {
    /// To everybody.
    Everybody,
    /// To every operator.
    Operators,
}

/// Every route that is granted, with its method.
pub const GRANTS: &[(&str, &str, Grant)] = &[
    ("GET", "/healthz", Grant::Everybody),
    ("GET", "/readyz", Grant::Everybody),
    ("GET", "/api/v1/openapi.json", Grant::Everybody),
    ("POST", "/api/v1/session", Grant::Everybody),
    ("DELETE", "/api/v1/session", Grant::Operators),
    ("GET", "/api/v1/me", Grant::Operators),
    ("GET", "/api/v1/overview", Grant::Operators),
    ("GET", "/api/v1/events", Grant::Operators),
    ("GET", "/api/v1/systems", Grant::Operators),
    ("POST", "/api/v1/systems", Grant::Operators),
    ("POST", "/api/v1/systems/check", Grant::Operators),
    ("GET", "/api/v1/systems/{name}", Grant::Operators),
    ("PATCH", "/api/v1/systems/{name}", Grant::Operators),
    ("PUT", "/api/v1/systems/{name}/secret", Grant::Operators),
    ("POST", "/api/v1/systems/{name}/check", Grant::Operators),
    ("POST", "/api/v1/systems/{name}/read", Grant::Operators),
    ("GET", "/api/v1/systems/{name}/accounts", Grant::Operators),
    ("GET", "/api/v1/systems/{name}/schema", Grant::Operators),
    ("GET", "/api/v1/rules", Grant::Operators),
    ("PUT", "/api/v1/rules", Grant::Operators),
    ("POST", "/api/v1/rules/check", Grant::Operators),
    ("GET", "/api/v1/change-sets", Grant::Operators),
    ("POST", "/api/v1/change-sets", Grant::Operators),
    ("GET", "/api/v1/change-sets/{id}", Grant::Operators),
    ("GET", "/api/v1/change-sets/{id}/lines", Grant::Operators),
    ("GET", "/api/v1/change-sets/{id}/changes", Grant::Operators),
    ("POST", "/api/v1/change-sets/{id}/cancel", Grant::Operators),
    ("GET", "/api/v1/identities", Grant::Operators),
    ("GET", "/api/v1/identities/{id}", Grant::Operators),
    ("DELETE", "/api/v1/identities/{id}/links/{system}", Grant::Operators),
    ("GET", "/api/v1/why", Grant::Operators),
    ("GET", "/api/v1/journal", Grant::Operators),
    ("GET", "/api/v1/journal/check", Grant::Operators),
];

/// Who calls, put into the request for the handlers.
#[derive(Debug, Clone)]
pub struct Caller {
    pub principal: Principal,
    /// The session, for a console; none for a token.
    pub session: Option<String>,
}

/// A value of the Cookie header (RFC 6265 §4.2.1).
fn cookie<'h>(headers: &'h HeaderMap, name: &str) -> Option<&'h str> {
    headers
        .get_all(header::COOKIE)
        .iter()
        .filter_map(|value| value.to_str().ok())
        .flat_map(|line| line.split(';'))
        .filter_map(|pair| pair.trim().split_once('='))
        .find(|(key, _)| *key == name)
        .map(|(_, value)| value)
}

/// A request that changes something and brings a cookie must come from our own pages.
fn same_origin(headers: &HeaderMap) -> bool {
    let text = |name| headers.get(name).and_then(|value: &header::HeaderValue| value.to_str().ok());
    let (Some(origin), Some(host)) = (text(header::ORIGIN), text(header::HOST)) else { return false };
    origin.split_once("://").is_some_and(|(_, rest)| rest.eq_ignore_ascii_case(host))
}

async fn caller(service: &Service, headers: &HeaderMap, method: &Method) -> Result<Caller, Refusal> {
    let now = service.engine.now();
    let signed_out =
        || Refusal::new(StatusCode::UNAUTHORIZED, "sign-in", "you are not signed in, or no longer").remedy("sign in with a token");
    if let Some(value) = headers.get(header::AUTHORIZATION) {
        let token = value.to_str().ok().and_then(|text| text.strip_prefix("Bearer ")).map(str::trim).unwrap_or_default();
        let principal = service.engine.store().by_token(token, now).await?;
        return principal.map(|principal| Caller { principal, session: None }).ok_or_else(|| {
            Refusal::new(StatusCode::UNAUTHORIZED, "token", "the token is not valid").remedy("check EAGER_TIDE_TOKEN or the token file")
        });
    }
    let secret = cookie(headers, COOKIE).ok_or_else(signed_out)?;
    let session = service.engine.store().session(secret, now).await?.ok_or_else(signed_out)?;
    if !method.is_safe() && !same_origin(headers) {
        return Err(Refusal::new(StatusCode::FORBIDDEN, "origin", "the request does not come from the console's own pages"));
    }
    Ok(Caller { principal: session.principal, session: Some(session.id) })
}

/// Lets a request through if its route is granted to whoever calls.
pub async fn guard(State(service): State<Service>, mut request: Request, next: Next) -> Response {
    let Some(path) = request.extensions().get::<MatchedPath>().map(|path| path.as_str().to_owned()) else {
        return next.run(request).await;
    };
    let method = request.method().clone();
    let asked = if method == Method::HEAD { "GET" } else { method.as_str() };
    let grant = GRANTS.iter().find(|(granted, route, _)| *granted == asked && *route == path).map(|(_, _, grant)| *grant);
    match grant {
        Some(Grant::Everybody) => next.run(request).await,
        Some(Grant::Operators) => match caller(&service, request.headers(), &method).await {
            Ok(caller) => {
                request.extensions_mut().insert(caller);
                next.run(request).await
            }
            Err(refusal) => refusal.into_response(),
        },
        None => Refusal::new(StatusCode::FORBIDDEN, "not-granted", format!("{method} {path} is granted to nobody")).into_response(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_foreign_origin_or_none_is_refused() {
        let headers = |origin: Option<&str>| {
            let mut map = HeaderMap::new();
            map.insert(header::HOST, header::HeaderValue::from_static("127.0.0.1:7480"));
            if let Some(origin) = origin {
                map.insert(header::ORIGIN, origin.parse().expect("valid"));
            }
            map
        };
        assert!(same_origin(&headers(Some("http://127.0.0.1:7480"))));
        for foreign in [None, Some("http://elsewhere.example"), Some("http://127.0.0.1:9999"), Some("null")] {
            assert!(!same_origin(&headers(foreign)), "{foreign:?}");
        }
    }

    #[test]
    fn a_cookie_is_found_among_others() {
        let mut headers = HeaderMap::new();
        headers.insert(header::COOKIE, header::HeaderValue::from_static("a=1; eager_tide_session=xyz; b=2"));
        assert_eq!(cookie(&headers, COOKIE), Some("xyz"));
        assert_eq!(cookie(&headers, "c"), None);
    }
}
