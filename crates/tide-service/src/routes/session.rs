//! Signing in and out.

use crate::access::{COOKIE, Caller, Credential};
use crate::problem::{Body, Refusal};
use crate::{PublicUrl, Service};
use axum::extract::State;
use axum::http::{StatusCode, header};
use axum::response::{AppendHeaders, IntoResponse, Response};
use axum::{Extension, Json};
use cookie::{Cookie, SameSite};
use jiff::SignedDuration;
use tide_api::{Me, Problem, SignIn};
use tide_core::states::PrincipalKind;

/// How long a session lasts.
const HOURS: i64 = 12;

/// The session cookie (RFC 6265 §4.1). A lifetime of zero deletes it.
fn session_cookie(service: &Service, secret: &str, lifetime: SignedDuration) -> String {
    let public_url = service.public_url.as_ref();
    Cookie::build((COOKIE, secret))
        .path("/")
        .http_only(true)
        .same_site(SameSite::Strict)
        .secure(public_url.is_some_and(PublicUrl::is_secure))
        .max_age(cookie::time::Duration::seconds(lifetime.as_secs()))
        .build()
        .to_string()
}

fn me_of(name: &str) -> Me {
    Me {
        name: name.to_owned(),
        version: env!("CARGO_PKG_VERSION").into(),
    }
}

/// Signs in with a token. The cookie is HttpOnly and SameSite=Strict.
#[utoipa::path(post, path = "/api/v1/session", tag = "session", request_body = SignIn,
    responses((status = 200, body = Me), (status = 401, body = Problem, content_type = "application/problem+json")))]
pub async fn sign_in(
    State(service): State<Service>,
    Body(sign_in): Body<SignIn>,
) -> Result<Response, Refusal> {
    let now = service.engine.now();
    let store = service.engine.store();
    let Some(bearer) = store.by_token(sign_in.token.trim(), now).await? else {
        if !service.paces.allows_guess() {
            return Err(Refusal::new(
                StatusCode::TOO_MANY_REQUESTS,
                "rate",
                "too many invalid tokens: wait a second",
            ));
        }
        return Err(
            Refusal::new(StatusCode::UNAUTHORIZED, "token", "this token is not valid").remedy(
                "check that you copied all of it; the service writes the first token to a file",
            ),
        );
    };
    let principal = &bearer.principal;
    if principal.kind != PrincipalKind::Operator {
        let said = format!(
            "this token belongs to the system {}, and only operators can sign in",
            principal.name
        );
        return Err(Refusal::new(StatusCode::FORBIDDEN, "not-operator", said)
            .remedy("sign in with the token of an operator"));
    }
    let secret: String = rand::random::<[u8; 32]>()
        .iter()
        .map(|byte| format!("{byte:02x}"))
        .collect();
    store
        .begin_session(
            &bearer,
            &secret,
            crate::access::browsers_now() + SignedDuration::from_hours(HOURS),
            now,
        )
        .await?;
    store
        .note(&principal.id, "session.begun", &principal.name, "", now)
        .await?;
    let cookie = session_cookie(&service, &secret, SignedDuration::from_hours(HOURS));
    Ok((
        AppendHeaders([(header::SET_COOKIE, cookie)]),
        Json(me_of(&principal.name)),
    )
        .into_response())
}

/// Signs out: ends the calling session.
#[utoipa::path(delete, path = "/api/v1/session", tag = "session", responses((status = 204)))]
pub async fn sign_out(
    State(service): State<Service>,
    Extension(caller): Extension<Caller>,
) -> Result<Response, Refusal> {
    if let Credential::Session(session) = &caller.credential {
        service
            .engine
            .store()
            .end_session(session, service.engine.now())
            .await?;
    }
    let cookie = session_cookie(&service, "", SignedDuration::ZERO);
    Ok((
        StatusCode::NO_CONTENT,
        AppendHeaders([(header::SET_COOKIE, cookie)]),
    )
        .into_response())
}

/// Returns the signed-in operator.
#[utoipa::path(get, path = "/api/v1/me", tag = "session", responses((status = 200, body = Me), (status = 401, body = Problem, content_type = "application/problem+json")))]
pub async fn me(Extension(caller): Extension<Caller>) -> Json<Me> {
    Json(me_of(&caller.principal.name))
}

/// Whether the store can be read and written.
pub async fn ready(State(service): State<Service>) -> Result<&'static str, Refusal> {
    match service.engine.check_readiness().await {
        None => Ok("ready"),
        // Anybody may ask: the reason, which can name people, is for operators.
        Some(why) => {
            tracing::warn!(reason = why, "not ready");
            Err(Refusal::new(
                StatusCode::SERVICE_UNAVAILABLE,
                "not-ready",
                "not ready: see `eager-tide status` and the service's log",
            ))
        }
    }
}
