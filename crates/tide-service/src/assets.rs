//! The files of the console, built by Vite and embedded in the binary.

use axum::http::{HeaderMap, Method, StatusCode, Uri, header};
use axum::response::{Html, IntoResponse, Response};
use rust_embed::RustEmbed;

#[derive(RustEmbed)]
#[folder = "../../console/dist"]
#[allow_missing = true]
struct Console;

const NOT_BUILT: &str = "<!doctype html><title>Eager Tide</title><p>The console is not part of this build. Run <code>npm ci &amp;&amp; npm run build</code> in <code>console/</code> and build the service again. The client and the API work.";

/// Serves a file of the console; any other path is a page of it, which the console resolves. A
/// client that does not accept HTML gets 404: a metrics scraper or a health check must not take the
/// page for an answer.
pub async fn serve(method: Method, uri: Uri, headers: HeaderMap) -> Response {
    let path = uri.path().trim_start_matches('/');
    let is_file = !path.is_empty() && Console::get(path).is_some();
    let asks_for_page = headers
        .get_all(header::ACCEPT)
        .iter()
        .any(|accept| accept.to_str().is_ok_and(|text| text.contains("text/html")));
    let is_read = method == Method::GET || method == Method::HEAD;
    if path.starts_with("scim/") {
        return crate::scim::ScimError::new(
            StatusCode::NOT_FOUND,
            None,
            format!("there is nothing at /{path}"),
        )
        .into_response();
    }
    if path.starts_with("api/") || !is_read || !(is_file || path.is_empty() || asks_for_page) {
        return crate::problem::Refusal::new(
            StatusCode::NOT_FOUND,
            "not-found",
            format!("there is nothing at /{path}"),
        )
        .into_response();
    }
    if let Some(file) = Console::get(path).filter(|_| !path.is_empty()) {
        // Vite puts a hash into the names below assets/, so that they never change.
        let cache = if path.starts_with("assets/") {
            "public, max-age=31536000, immutable"
        } else {
            "no-cache"
        };
        let kind = file.metadata.mimetype().to_owned();
        return (
            [
                (header::CONTENT_TYPE, kind),
                (header::CACHE_CONTROL, cache.to_owned()),
            ],
            file.data,
        )
            .into_response();
    }
    if path
        .rsplit('/')
        .next()
        .is_some_and(|last| last.contains('.'))
    {
        return StatusCode::NOT_FOUND.into_response();
    }
    match Console::get("index.html") {
        Some(page) => ([(header::CACHE_CONTROL, "no-cache")], Html(page.data)).into_response(),
        None => Html(NOT_BUILT).into_response(),
    }
}
