//! Errors as RFC 9457 problem documents.

use axum::Json;
use axum::extract::{FromRequest, FromRequestParts, Request};
use axum::http::request::Parts;
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Response};
use tide_api::Problem;
use tide_engine::EngineError;
use tide_store::StoreError;

/// An error answer.
#[derive(Debug)]
pub struct Refusal(pub Box<Problem>);

impl Refusal {
    pub fn new(status: StatusCode, kind: &str, detail: impl Into<String>) -> Self {
        Refusal(Box::new(Problem {
            kind: format!("/problems/{kind}"),
            title: status.canonical_reason().unwrap_or("Error").to_owned(),
            status: status.as_u16(),
            detail: Some(detail.into()),
            ..Problem::default()
        }))
    }

    pub fn remedy(mut self, remedy: impl Into<String>) -> Self {
        self.0.remedy = Some(remedy.into());
        self
    }

    /// An internal error; its message is for the log only.
    pub fn internal(said: &str) -> Self {
        tracing::error!(error = said, "a request met an internal error");
        Self::new(
            StatusCode::INTERNAL_SERVER_ERROR,
            "internal",
            "an internal error; see the service's log",
        )
    }

    /// An invalid request.
    pub fn invalid(detail: impl Into<String>) -> Self {
        Self::new(StatusCode::BAD_REQUEST, "bad-request", detail)
    }
}

impl std::fmt::Display for Refusal {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(self.0.detail.as_deref().unwrap_or(&self.0.title))
    }
}

impl IntoResponse for Refusal {
    fn into_response(self) -> Response {
        let status =
            StatusCode::from_u16(self.0.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
        let mut response = (status, Json(*self.0)).into_response();
        response.headers_mut().insert(
            header::CONTENT_TYPE,
            header::HeaderValue::from_static("application/problem+json"),
        );
        response
    }
}

impl From<StoreError> for Refusal {
    fn from(error: StoreError) -> Self {
        match error {
            StoreError::Missing { .. } => {
                Self::new(StatusCode::NOT_FOUND, "not-found", error.to_string())
            }
            StoreError::Exists { .. } => {
                Self::new(StatusCode::CONFLICT, "exists", error.to_string())
            }
            StoreError::Internal { said } => Self::internal(&said),
            StoreError::Sealed { .. } => {
                Self::new(StatusCode::CONFLICT, "sealed", error.to_string())
            }
            other => {
                // Messages of SQLite can contain files and statements: they are only logged.
                tracing::error!(error = %other, "the store failed");
                Self::new(
                    StatusCode::INTERNAL_SERVER_ERROR,
                    "store",
                    "the store failed; see the service's log",
                )
            }
        }
    }
}

impl From<EngineError> for Refusal {
    fn from(error: EngineError) -> Self {
        match error {
            EngineError::Store(error) => error.into(),
            EngineError::Connect(error) => {
                Self::new(StatusCode::UNPROCESSABLE_ENTITY, error.code, error.message)
                    .remedy(error.remedy)
            }
            EngineError::Rules(ref faults) => {
                let mut refusal =
                    Self::new(StatusCode::UNPROCESSABLE_ENTITY, "rules", error.to_string())
                        .remedy("correct them; nothing was published or started");
                refusal.0.faults = faults.iter().map(Into::into).collect();
                refusal
            }
            EngineError::Internal(said) => Self::internal(&said),
            EngineError::Overloaded(_) => Self::new(
                StatusCode::SERVICE_UNAVAILABLE,
                "overloaded",
                error.to_string(),
            ),
            EngineError::NoRules => Self::new(StatusCode::CONFLICT, "no-rules", error.to_string()),
            EngineError::Busy(_) => Self::new(StatusCode::CONFLICT, "busy", error.to_string()),
            EngineError::Forbidden(text) => Self::new(StatusCode::FORBIDDEN, "not-yours", text),
            EngineError::Changed(text) => Self::new(StatusCode::CONFLICT, "changed", text),
            EngineError::NotFound(text) => Self::new(StatusCode::NOT_FOUND, "not-found", text),
            EngineError::Conflict(text) => Self::new(StatusCode::CONFLICT, "conflict", text),
            EngineError::Invalid(text) => {
                Self::new(StatusCode::UNPROCESSABLE_ENTITY, "invalid", text)
            }
        }
    }
}

/// A JSON body; one that cannot be read is refused with a problem document.
pub struct Body<T>(pub T);

impl<S: Send + Sync, T: serde::de::DeserializeOwned> FromRequest<S> for Body<T> {
    type Rejection = Refusal;

    async fn from_request(request: Request, state: &S) -> Result<Self, Refusal> {
        match Json::<T>::from_request(request, state).await {
            Ok(Json(body)) => Ok(Body(body)),
            Err(refused) => Err(Refusal::new(refused.status(), "body", refused.body_text())
                .remedy("see /api/v1/openapi.json")),
        }
    }
}

/// Parameters of the path or the query; ones that cannot be read are refused likewise.
pub struct Path<T>(pub T);
/// See [`Path`].
pub struct Query<T>(pub T);

macro_rules! extractor {
    ($name:ident) => {
        impl<S: Send + Sync, T: serde::de::DeserializeOwned + Send> FromRequestParts<S>
            for $name<T>
        {
            type Rejection = Refusal;

            async fn from_request_parts(parts: &mut Parts, state: &S) -> Result<Self, Refusal> {
                match axum::extract::$name::<T>::from_request_parts(parts, state).await {
                    Ok(axum::extract::$name(given)) => Ok($name(given)),
                    Err(refused) => Err(Refusal::new(
                        refused.status(),
                        "parameters",
                        refused.body_text(),
                    )),
                }
            }
        }
    };
}

extractor!(Path);
extractor!(Query);
