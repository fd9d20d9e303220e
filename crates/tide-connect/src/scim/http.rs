//! The one way in which requests go out to a SCIM service, and what its answers mean.

use crate::access::Permit;
use crate::{CheckReport, ConnectError, ScimSettings, Secret};
use reqwest::header::{ACCEPT, CONTENT_TYPE, HeaderValue};
use reqwest::{Client, Method, Response, StatusCode, Url};
use serde_json::Value as Json;
use std::time::Duration;

const SCIM_JSON: HeaderValue = HeaderValue::from_static("application/scim+json");
/// The largest answer that is read, in octets.
const MAX_BODY: usize = 32 << 20;

pub(super) struct Http {
    client: Client,
    base: Url,
    token: Option<Secret>,
}

/// A path segment that cannot step out of its place.
pub(super) fn segment(text: &str) -> String {
    text.bytes()
        .map(|b| if b.is_ascii_alphanumeric() || matches!(b, b'-' | b'_' | b'~') { char::from(b).to_string() } else { format!("%{b:02X}") })
        .collect()
}

pub(super) fn not_scim(path: &str, what: &str) -> ConnectError {
    ConnectError::system(
        "not_scim",
        format!("/{path} did not answer as a SCIM service does: {what}"),
        "check the base URL: it usually ends with /scim/v2",
    )
}

impl Http {
    pub fn new(settings: &ScimSettings, token: Option<Secret>) -> Result<Self, ConnectError> {
        let wrong = |what: String| {
            ConnectError::lasting(
                "url",
                format!("`{}` is not a usable base URL: {what}", settings.url),
                "for example: https://berthing.skerry.example/scim/v2",
            )
        };
        let mut base = Url::parse(&settings.url).map_err(|error| wrong(error.to_string()))?;
        if !matches!(base.scheme(), "http" | "https") {
            return Err(wrong("it begins neither with https:// nor with http://".into()));
        }
        if !base.username().is_empty() || base.password().is_some() {
            return Err(wrong("a secret must not stand in it".into()));
        }
        if !base.path().ends_with('/') {
            base.set_path(&format!("{}/", base.path()));
        }
        let tls = crate::tls::client(settings.ca_pem.as_deref())?;
        let client = Client::builder()
            .tls_backend_preconfigured((*tls).clone())
            .timeout(Duration::from_secs(u64::from(settings.timeout_seconds.max(1))))
            .connect_timeout(Duration::from_secs(10))
            .redirect(reqwest::redirect::Policy::none())
            .no_proxy()
            .build()
            .map_err(|error| wrong(error.to_string()))?;
        Ok(Http { client, base, token })
    }

    fn url(&self, path: &str) -> Result<Url, ConnectError> {
        self.base.join(path).map_err(|error| ConnectError::lasting("url", error.to_string(), "check the base URL"))
    }

    /// The first steps of a test: name and port.
    pub async fn check(&self, report: &mut CheckReport) -> bool {
        let host = self.base.host_str().unwrap_or_default().trim_matches(['[', ']']).to_owned();
        let port = self.base.port_or_known_default().unwrap_or(443);
        report.passed("Address", format!("{host} port {port}"));
        let found: Vec<_> = match tokio::net::lookup_host((host.as_str(), port)).await {
            Ok(found) => found.collect(),
            Err(error) => {
                report.failed(
                    "Name resolves",
                    &ConnectError::system(
                        "name_unknown",
                        format!("the name {host} cannot be resolved: {error}"),
                        "check the spelling, and the name servers of this machine",
                    ),
                );
                return false;
            }
        };
        if let Some(error) = found.iter().find_map(|a| crate::tls::refuse_address(a.ip()).err()) {
            report.failed("Name resolves", &error);
            return false;
        }
        report.passed("Name resolves", found.iter().map(|a| a.ip().to_string()).collect::<Vec<_>>().join(", "));
        match tokio::time::timeout(Duration::from_secs(10), tokio::net::TcpStream::connect(found.as_slice())).await {
            Ok(Ok(_)) => report.passed("Port answers", format!("{host}:{port}")),
            Ok(Err(error)) => {
                report.failed("Port answers", &unreachable(&host, port, &error.to_string()));
                return false;
            }
            Err(_) => {
                report.failed("Port answers", &unreachable(&host, port, "no answer within 10 s"));
                return false;
            }
        }
        if self.base.scheme() == "http" {
            if found.iter().all(|a| a.ip().is_loopback()) {
                report.passed("TLS verifies", "not used: the connection stays on this machine");
            } else {
                report.warned("TLS verifies", "not used: token and data cross the network in clear text", "use https://");
            }
        }
        true
    }

    pub async fn get(&self, path: &str) -> Result<Json, ConnectError> {
        let request = self.client.request(Method::GET, self.url(path)?);
        self.answer(request, path, false).await
    }

    pub async fn query(&self, path: &str, query: &[(&str, &str)]) -> Result<Json, ConnectError> {
        let request = self.client.request(Method::GET, self.url(path)?).query(query);
        self.answer(request, path, false).await
    }

    /// Sends a write. The permit proves that writing is allowed.
    pub async fn send(&self, method: Method, path: &str, body: &Json, _permit: &Permit) -> Result<Json, ConnectError> {
        let making = method == Method::POST;
        let request = self.client.request(method, self.url(path)?).header(CONTENT_TYPE, SCIM_JSON).body(body.to_string());
        self.answer(request, path, making).await
    }

    async fn answer(&self, request: reqwest::RequestBuilder, path: &str, making: bool) -> Result<Json, ConnectError> {
        let request = request.header(ACCEPT, SCIM_JSON);
        let request = match &self.token {
            Some(token) => request.bearer_auth(token.expose()),
            None => request,
        };
        let response = request.send().await.map_err(|error| self.lost(&error, making))?;
        let status = response.status();
        let kind = response.headers().get(CONTENT_TYPE).and_then(|v| v.to_str().ok()).unwrap_or_default().to_owned();
        let body = read(response).await.map_err(|error| self.lost(&error, making))?;
        let Some(body) = body else {
            return Err(ConnectError::lasting(
                "too_large",
                format!("the answer to /{path} is larger than {} MiB", MAX_BODY >> 20),
                "make the pages smaller",
            ));
        };
        meaning(status, &kind, &body, path, making)
    }

    fn lost(&self, error: &reqwest::Error, making: bool) -> ConnectError {
        let host = self.base.host_str().unwrap_or_default();
        let port = self.base.port_or_known_default().unwrap_or(443);
        let chain = causes(error);
        if error.is_connect() {
            if self.base.scheme() == "https"
                && (chain.contains("certificate") || chain.contains("UnknownIssuer") || chain.contains("TLS") || chain.contains("tls"))
            {
                return crate::tls::fault(host, &chain);
            }
            return unreachable(host, port, &chain);
        }
        let what = if error.is_timeout() { "did not answer in time" } else { "closed the connection before it answered" };
        let said = format!("{host}:{port} {what}");
        if making {
            ConnectError::unknown("answer_lost", said, "the account is looked for before anything is sent again")
        } else {
            ConnectError::passing("cut", said, "it is tried again by itself")
        }
    }
}

fn unreachable(host: &str, port: u16, why: &str) -> ConnectError {
    ConnectError::system(
        "unreachable",
        format!("nothing answers at {host}:{port}: {why}"),
        "check host, port and firewall, and that the service runs",
    )
}

fn causes(error: &reqwest::Error) -> String {
    let mut text = String::new();
    let mut source: Option<&dyn std::error::Error> = std::error::Error::source(error);
    while let Some(cause) = source {
        text = cause.to_string();
        source = cause.source();
    }
    text
}

async fn read(mut response: Response) -> Result<Option<Vec<u8>>, reqwest::Error> {
    let mut body = Vec::new();
    while let Some(chunk) = response.chunk().await? {
        if body.len() + chunk.len() > MAX_BODY {
            return Ok(None);
        }
        body.extend_from_slice(&chunk);
    }
    Ok(Some(body))
}

/// What an answer means (RFC 7644 §3.12).
fn meaning(status: StatusCode, kind: &str, body: &[u8], path: &str, making: bool) -> Result<Json, ConnectError> {
    if status.is_success() && body.is_empty() {
        return Ok(Json::Null);
    }
    let json: Option<Json> = serde_json::from_slice(body).ok();
    let detail = json.as_ref().and_then(|j| j["detail"].as_str()).map(|d| format!(": {}", clip(d))).unwrap_or_default();
    let page = kind.contains("html") || body.trim_ascii_start().first() == Some(&b'<');
    match status.as_u16() {
        401 | 403 => Err(ConnectError::system(
            "token_refused",
            format!("the service refuses the token (HTTP {}){detail}", status.as_u16()),
            "set a valid token: `eager-tide systems secret NAME`",
        )),
        300..=399 => Err(not_scim(path, &format!("it redirects (HTTP {}), perhaps to a log-in page", status.as_u16()))),
        404 if making || !path.contains('/') => Err(not_scim(path, "HTTP 404, there is no such address")),
        404 => Err(ConnectError::lasting(
            "gone",
            format!("the account is not there any more (HTTP 404){detail}"),
            "read the system again; what was deleted there is shown after it",
        )),
        409 => Err(ConnectError::lasting(
            "conflict",
            format!("the service holds another account with one of these values (HTTP 409){detail}"),
            "read the system again, so that it can be matched, or correct the value",
        )),
        412 => Err(ConnectError::passing(
            "changed",
            format!("the account was changed meanwhile (HTTP 412){detail}"),
            "it is decided again at the next run",
        )),
        429 => Err(ConnectError::passing(
            "rate",
            format!("the service asks for fewer requests (HTTP 429){detail}"),
            "it is tried again by itself",
        )),
        500 | 502 | 503 | 504 => Err(ConnectError::passing(
            "server_error",
            format!("the service failed (HTTP {}){detail}", status.as_u16()),
            "it is tried again; if it stays, ask the service's keeper",
        )),
        code if status.is_success() => match json {
            Some(json) => Ok(json),
            None if page => Err(not_scim(path, "it sent a web page (HTML)")),
            None => Err(not_scim(path, &format!("HTTP {code}, and the body is not JSON"))),
        },
        code => Err(ConnectError::lasting(
            "refused",
            format!("the service refuses this (HTTP {code}){detail}"),
            "correct the mapping that gives the refused value",
        )),
    }
}

/// Somebody else's words, cut to a length and without control characters.
fn clip(text: &str) -> String {
    text.chars().filter(|c| !c.is_control()).take(300).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Weight;

    #[test]
    fn each_answer_has_its_own_meaning() {
        let of = |status: u16, kind: &str, body: &str| {
            meaning(StatusCode::from_u16(status).expect("valid"), kind, body.as_bytes(), "Users", false).map_err(|e| (e.code, e.weight))
        };
        assert!(of(200, "application/scim+json", "{}").is_ok());
        assert_eq!(of(204, "", ""), Ok(Json::Null));
        assert_eq!(of(200, "text/html", "<html>"), Err(("not_scim", Weight::System)));
        assert_eq!(of(302, "", ""), Err(("not_scim", Weight::System)));
        assert_eq!(of(401, "", ""), Err(("token_refused", Weight::System)));
        assert_eq!(of(409, "", "{}"), Err(("conflict", Weight::Lasting)));
        assert_eq!(of(500, "text/html", "<html>"), Err(("server_error", Weight::Passing)));
        assert_eq!(of(400, "", "{}"), Err(("refused", Weight::Lasting)));
    }

    #[test]
    fn a_hostile_id_stays_one_segment() {
        assert_eq!(segment("../Groups?x=1"), "%2E%2E%2FGroups%3Fx%3D1");
    }
}
