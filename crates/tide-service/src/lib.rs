//! `tide-service` is the face of the service: the API under `/api/v1`, the events, the console's
//! assets, sign-in. Every route is denied unless it was granted.
//!
//! It is *not* a place for decisions: it asks the engine and shows what it says.

mod access;
mod assets;
mod attention;
mod convert;
mod events;
mod events_in;
mod export;
mod problem;
mod routes;
mod rule_view;
mod scim;

pub use access::{GRANTS, Grant};

use axum::Router;
use axum::http::{HeaderName, HeaderValue, header};
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;
use tide_engine::Engine;
use tower_http::catch_panic::CatchPanicLayer;
use tower_http::compression::CompressionLayer;
use tower_http::limit::RequestBodyLimitLayer;
use tower_http::set_header::SetResponseHeaderLayer;
use tower_http::trace::TraceLayer;

/// Maximum size of a request body, in octets: a feed file that is inspected. Other bodies have
/// smaller limits.
const MAX_BODY: usize = 64 << 20;
/// The largest body of everything but a file.
const MAX_JSON: usize = 4 << 20;

/// The state that the routes share.
#[derive(Clone)]
pub struct Service {
    engine: Arc<Engine>,
    paces: Arc<access::Paces>,
    public_url: Option<PublicUrl>,
}

/// The address at which others reach the service, through a proxy that offers TLS: scheme, host and
/// port.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PublicUrl(Arc<str>);

impl std::str::FromStr for PublicUrl {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let uri: axum::http::Uri = text
            .parse()
            .map_err(|error| format!("`{text}` is not an address: {error}"))?;
        let (scheme, authority) = (
            uri.scheme_str().unwrap_or_default(),
            uri.authority().map(ToString::to_string).unwrap_or_default(),
        );
        if !matches!(scheme, "http" | "https")
            || authority.is_empty()
            || authority.contains('@')
            || !matches!(uri.path(), "" | "/")
        {
            return Err(format!(
                "`{text}` is not the URL of a service: write https://tide.example, without a path"
            ));
        }
        Ok(PublicUrl(
            format!("{scheme}://{}", authority.to_lowercase()).into(),
        ))
    }
}

impl PublicUrl {
    /// The address, without a slash at its end.
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// Whether it is reached over TLS.
    pub fn is_secure(&self) -> bool {
        self.0.starts_with("https://")
    }
}

/// Why the service cannot start.
#[derive(Debug, thiserror::Error)]
pub enum ServeError {
    /// The address is not a loopback address.
    #[error(
        "{0} is not a loopback address, and other addresses need TLS, which is not supported yet: listen on 127.0.0.1 behind a TLS proxy on this machine"
    )]
    NeedsTls(SocketAddr),
    /// The address cannot be bound.
    #[error("cannot listen on {0}: {1}; choose another address with --listen")]
    Bind(SocketAddr, std::io::Error),
    /// The server failed.
    #[error("serving ended: {0}")]
    Serve(std::io::Error),
}

/// All routes, ready to be served.
pub fn router(engine: Arc<Engine>) -> Router {
    router_at(engine, None)
}

/// The same for a service that others reach at an address of its own.
pub fn router_at(engine: Arc<Engine>, public_url: Option<PublicUrl>) -> Router {
    // Browsers keep to TLS from then on (RFC 6797).
    let is_secure = public_url.as_ref().is_some_and(PublicUrl::is_secure);
    let transport = is_secure.then(|| {
        let value = HeaderValue::from_static("max-age=31536000");
        SetResponseHeaderLayer::overriding(header::STRICT_TRANSPORT_SECURITY, value)
    });
    let service = Service {
        engine,
        paces: Arc::default(),
        public_url,
    };
    let (api, document) = routes::api().split_for_parts();
    let document = routes::document(document);
    let csp = "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'; base-uri 'none'; form-action 'self'";
    let header = |name: HeaderName, value: &'static str| {
        SetResponseHeaderLayer::overriding(name, HeaderValue::from_static(value))
    };
    let router = api
        .merge(routes::open(document))
        .merge(scim::routes())
        .layer(axum::middleware::from_fn_with_state(
            service.clone(),
            access::check_access,
        ))
        // Personal data must not be cached.
        .layer(SetResponseHeaderLayer::if_not_present(
            header::CACHE_CONTROL,
            HeaderValue::from_static("no-store"),
        ))
        .fallback(assets::serve)
        .with_state(service)
        .layer(axum::extract::DefaultBodyLimit::max(MAX_JSON))
        .layer(RequestBodyLimitLayer::new(MAX_BODY))
        .layer(CatchPanicLayer::custom(answer_panic))
        .layer(
            CompressionLayer::new()
                .compress_when(tower_http::compression::predicate::DefaultPredicate::new()),
        )
        .layer(header(header::CONTENT_SECURITY_POLICY, csp))
        .layer(header(header::X_CONTENT_TYPE_OPTIONS, "nosniff"))
        .layer(header(header::X_FRAME_OPTIONS, "DENY"))
        .layer(header(header::REFERRER_POLICY, "no-referrer"))
        .layer(TraceLayer::new_for_http());
    match transport {
        Some(transport) => router.layer(transport),
        None => router,
    }
}

/// A panic in a handler is answered as an internal error; the service continues.
fn answer_panic(panic: Box<dyn std::any::Any + Send>) -> axum::response::Response {
    axum::response::IntoResponse::into_response(problem::Refusal::internal(
        &tide_store::panic_message(&*panic),
    ))
}

/// The OpenAPI document of the API.
pub fn openapi() -> serde_json::Value {
    let (_, document) = routes::api().split_for_parts();
    serde_json::to_value(routes::document(document)).unwrap_or_default()
}

/// Listens on a loopback address.
pub async fn listen(at: SocketAddr) -> Result<tokio::net::TcpListener, ServeError> {
    if !at.ip().is_loopback() {
        return Err(ServeError::NeedsTls(at));
    }
    tokio::net::TcpListener::bind(at)
        .await
        .map_err(|error| ServeError::Bind(at, error))
}

/// Serves until shutdown; answers in progress are completed first.
pub async fn serve(
    listener: tokio::net::TcpListener,
    engine: Arc<Engine>,
    public_url: Option<PublicUrl>,
    stop: impl Future<Output = ()> + Send + 'static,
) -> Result<(), ServeError> {
    let app = router_at(engine.clone(), public_url);
    let (ending, mut ended) = tokio::sync::watch::channel(false);
    let serving = axum::serve(listener, app).with_graceful_shutdown(async move {
        stop.await;
        // The receiver lives as long as this function.
        let _ = ending.send(true);
    });
    tokio::select! {
        result = std::future::IntoFuture::into_future(serving) => result.map_err(ServeError::Serve)?,
        () = async {
            let _ = ended.wait_for(|over| *over).await;
            // Event streams never end by themselves: they get a moment, and are then cut.
            tide_clock::sleep(Duration::from_secs(2)).await;
        } => {}
    }
    engine.stop().await;
    Ok(())
}
