//! Signing in and out.

use crate::Service;
use crate::access::{COOKIE, Caller};
use crate::problem::{Body, Refusal};
use axum::extract::State;
use axum::http::{StatusCode, header};
use axum::response::{AppendHeaders, IntoResponse, Response};
use axum::{Extension, Json};
use jiff::SignedDuration;
use tide_api::{Me, Problem, SignIn};

/// How long a session lasts.
const HOURS: i64 = 12;

fn me_of(name: &str) -> Me {
    Me { name: name.to_owned(), version: env!("CARGO_PKG_VERSION").into() }
}

/// Begins a session with a token. The cookie is HttpOnly and SameSite=Strict.
#[utoipa::path(post, path = "/api/v1/session", tag = "session", request_body = SignIn,
    responses((status = 200, body = Me), (status = 401, body = Problem, content_type = "application/problem+json")))]
pub async fn sign_in(State(service): State<Service>, Body(sign_in): Body<SignIn>) -> Result<Response, Refusal> {
    let now = service.engine.now();
    let store = service.engine.store();
    let Some(principal) = store.by_token(sign_in.token.trim(), now).await? else {
        return Err(Refusal::new(StatusCode::UNAUTHORIZED, "token", "this token is not valid")
            .remedy("copy the whole token; the service wrote it to a file at its first start"));
    };
    let secret: String = rand::random::<[u8; 32]>().iter().map(|byte| format!("{byte:02x}")).collect();
    store.begin_session(&principal, &secret, crate::access::browsers_now() + SignedDuration::from_hours(HOURS), now).await?;
    store.note(&principal.id, "session.begun", &principal.name, "", now).await?;
    let cookie = format!("{COOKIE}={secret}; Path=/; HttpOnly; SameSite=Strict; Max-Age={}", HOURS * 3600);
    Ok((AppendHeaders([(header::SET_COOKIE, cookie)]), Json(me_of(&principal.name))).into_response())
}

/// Ends the session that calls.
#[utoipa::path(delete, path = "/api/v1/session", tag = "session", responses((status = 204)))]
pub async fn sign_out(State(service): State<Service>, Extension(caller): Extension<Caller>) -> Result<Response, Refusal> {
    if let Some(session) = &caller.session {
        service.engine.store().end_session(session, service.engine.now()).await?;
    }
    let cookie = format!("{COOKIE}=; Path=/; HttpOnly; SameSite=Strict; Max-Age=0");
    Ok((StatusCode::NO_CONTENT, AppendHeaders([(header::SET_COOKIE, cookie)])).into_response())
}

/// Who is signed in.
#[utoipa::path(get, path = "/api/v1/me", tag = "session", responses((status = 200, body = Me), (status = 401, body = Problem, content_type = "application/problem+json")))]
pub async fn me(Extension(caller): Extension<Caller>) -> Json<Me> {
    Json(me_of(&caller.principal.name))
}

/// Can the store be read and written?
pub async fn ready(State(service): State<Service>) -> Result<&'static str, Refusal> {
    match service.engine.readiness().await {
        None => Ok("ready"),
        // Anybody may ask: the reason, which can name people, is for operators.
        Some(why) => {
            tracing::warn!(why, "not ready");
            Err(Refusal::new(StatusCode::SERVICE_UNAVAILABLE, "not-ready", "not ready: `eager-tide status` and the service's log say why"))
        }
    }
}
