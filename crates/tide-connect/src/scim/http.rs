//! HTTP requests to connected systems, and the interpretation of their answers.

use crate::access::{AccessToken, Permit, RequestLimits};
use crate::tls::Trust;
use crate::{CheckReport, ConnectError, ConnectionState, ScimAuth, Secret};
use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};
use reqwest::dns::{Addrs, Name, Resolve, Resolving};
use reqwest::header::{
    ACCEPT, CONTENT_TYPE, ETAG, HeaderMap, HeaderName, HeaderValue, IF_MATCH, RETRY_AFTER,
};
use reqwest::{Client, Method, Response, StatusCode, Url};
use serde_json::Value as Json;
use std::net::IpAddr;
use std::sync::Arc;
use std::time::Duration;
use tide_core::states::CheckStepKind;

const SCIM_JSON: HeaderValue = HeaderValue::from_static("application/scim+json");
/// The largest answer that is read, in octets.
const MAX_BODY: usize = 32 << 20;
/// Maximum number of attempts of a request that the service asked to send later.
const PATIENCE: u32 = 5;
/// The longest pause requested by a service that is respected while a caller waits.
const LONGEST: Duration = Duration::from_secs(120);

/// Where a service is and how it is called.
pub(crate) struct HttpSettings<'a> {
    pub url: &'a str,
    pub trust: Trust<'a>,
    pub timeout_seconds: u16,
    pub auth: &'a ScimAuth,
    pub in_flight: u16,
    pub per_second: Option<u16>,
}

/// Calls one service.
pub(crate) struct Http {
    client: Client,
    base: Url,
    auth: ScimAuth,
    secret: Option<Secret>,
    access: Arc<ConnectionState>,
    pace: RequestLimits,
}

/// An answer: its body, and the version of the resource that it names.
pub(crate) struct Answer {
    pub body: Json,
    pub etag: Option<String>,
    /// The location of a new resource, as the service returned it.
    pub location: Option<String>,
}

/// Resolves names, and refuses the addresses that are never called: here, and not once before, so
/// that a name that changes its mind in between is refused too.
struct Careful;

impl Resolve for Careful {
    fn resolve(&self, name: Name) -> Resolving {
        Box::pin(async move {
            let found: Vec<_> = tokio::net::lookup_host((name.as_str(), 0)).await?.collect();
            for address in &found {
                crate::tls::refuse_address(address.ip()).map_err(|error| error.message)?;
            }
            let all: Addrs = Box::new(found.into_iter());
            Ok(all)
        })
    }
}

/// All characters but letters, digits and a few safe marks.
const UNSAFE_IN_SEGMENT: &AsciiSet = &NON_ALPHANUMERIC.remove(b'-').remove(b'_').remove(b'~');

/// Percent-encodes a path segment, so that it stays one segment (RFC 3986 §3.3).
pub(crate) fn segment(text: &str) -> String {
    utf8_percent_encode(text, UNSAFE_IN_SEGMENT).to_string()
}

pub(super) fn not_scim(path: &str, what: &str) -> ConnectError {
    ConnectError::system_down(
        "not_scim",
        format!("/{path} did not answer as a SCIM service does: {what}"),
        "check the base URL: it usually ends with /scim/v2",
    )
}

/// Whether a parameter of an address is a credential.
fn is_credential(parameter: &str) -> bool {
    let name = parameter.to_lowercase();
    [
        "sig",
        "token",
        "key",
        "secret",
        "pass",
        "auth",
        "credential",
        "code",
    ]
    .iter()
    .any(|word| name.contains(word))
}

pub(crate) fn check_secret(url: &str) -> Result<Url, ConnectError> {
    let wrong = |what: String| {
        ConnectError::permanent(
            "url",
            format!("`{url}` is not a usable base URL: {what}"),
            "for example: https://berthing.skerry.example/scim/v2",
        )
    };
    let parsed = Url::parse(url).map_err(|error| wrong(error.to_string()))?;
    if !matches!(parsed.scheme(), "http" | "https") {
        return Err(wrong("it must start with https:// or http://".into()));
    }
    if !parsed.username().is_empty() || parsed.password().is_some() {
        return Err(wrong("it must not contain a secret".into()));
    }
    if let Some((name, _)) = parsed.query_pairs().find(|(name, _)| is_credential(name)) {
        return Err(ConnectError::permanent(
            "secret_in_url",
            format!(
                "the parameter `{name}` of the address looks like a secret, which would be stored and shown in clear text"
            ),
            "give the address without its query, and the query as the secret, with `signed_url = true`",
        ));
    }
    let literal = parsed
        .host_str()
        .unwrap_or_default()
        .trim_matches(['[', ']'])
        .parse::<IpAddr>();
    if let Ok(address) = literal {
        crate::tls::refuse_address(address)?;
    }
    Ok(parsed)
}

/// The client of all requests: it follows no redirects, and connects to no forbidden address.
pub(crate) fn build_client(
    tls: &rustls::ClientConfig,
    timeout: Duration,
) -> Result<Client, ConnectError> {
    Client::builder()
        .tls_backend_preconfigured(tls.clone())
        .timeout(timeout)
        .connect_timeout(Duration::from_secs(10))
        .redirect(reqwest::redirect::Policy::none())
        .dns_resolver(Arc::new(Careful))
        .no_proxy()
        .build()
        .map_err(|error| ConnectError::permanent("url", error.to_string(), "check the URL"))
}

impl Http {
    pub fn new(
        way: &HttpSettings<'_>,
        secret: Option<Secret>,
        access: Arc<ConnectionState>,
    ) -> Result<Self, ConnectError> {
        let mut base = check_secret(way.url)?;
        if !base.path().ends_with('/') {
            base.set_path(&format!("{}/", base.path()));
        }
        if let ScimAuth::Oauth { token_url, .. } = way.auth {
            check_secret(token_url)?;
        }
        let tls = crate::tls::client_config(&way.trust)?;
        let client = build_client(
            &tls,
            Duration::from_secs(u64::from(way.timeout_seconds.max(1))),
        )?;
        let pace = access.pace(way.in_flight, way.per_second);
        Ok(Http {
            client,
            base,
            auth: way.auth.clone(),
            secret,
            access,
            pace,
        })
    }

    fn join(&self, place: &str) -> Result<Url, ConnectError> {
        self.base.join(place).map_err(|error| {
            ConnectError::permanent("url", error.to_string(), "check the base URL")
        })
    }

    /// The URL of a path below the base URL. A path can come from the service itself, which names
    /// its endpoints: one that leads elsewhere is rejected, since the request carries the secret.
    pub fn url(&self, path: &str) -> Result<Url, ConnectError> {
        let url = self.join(path)?;
        if self.is_own_address(&url) && url.path().starts_with(self.base.path()) {
            return Ok(url);
        }
        let path: String = path.chars().filter(|c| !c.is_control()).take(200).collect();
        let said = format!(
            "the service names the address `{path}`, which does not lie below its base URL"
        );
        Err(ConnectError::permanent(
            "elsewhere",
            said,
            "it is not called there, so that no secret leaks; check the base URL",
        ))
    }

    fn place(&self) -> (String, u16) {
        let host = self
            .base
            .host_str()
            .unwrap_or_default()
            .trim_matches(['[', ']'])
            .to_owned();
        (host, self.base.port_or_known_default().unwrap_or(443))
    }

    /// The first steps of a test: name and port.
    pub async fn check(&self, report: &mut CheckReport) -> bool {
        let (host, port) = self.place();
        report.passed(CheckStepKind::Address, format!("{host} port {port}"));
        let found: Vec<_> = match tokio::net::lookup_host((host.as_str(), port)).await {
            Ok(found) => found.collect(),
            Err(error) => {
                report.failed(
                    CheckStepKind::NameResolution,
                    &unknown_name(&host, &error.to_string()),
                );
                return false;
            }
        };
        if let Some(error) = found
            .iter()
            .find_map(|a| crate::tls::refuse_address(a.ip()).err())
        {
            report.failed(CheckStepKind::NameResolution, &error);
            return false;
        }
        report.passed(
            CheckStepKind::NameResolution,
            found
                .iter()
                .map(|a| a.ip().to_string())
                .collect::<Vec<_>>()
                .join(", "),
        );
        match tokio::time::timeout(
            Duration::from_secs(10),
            tokio::net::TcpStream::connect(found.as_slice()),
        )
        .await
        {
            Ok(Ok(_)) => report.passed(CheckStepKind::Port, format!("{host}:{port}")),
            Ok(Err(error)) => {
                report.failed(
                    CheckStepKind::Port,
                    &connect_error(&host, port, &error.to_string()),
                );
                return false;
            }
            Err(_) => {
                report.failed(
                    CheckStepKind::Port,
                    &connect_error(&host, port, "no answer within 10 s"),
                );
                return false;
            }
        }
        if self.base.scheme() == "http" {
            if found.iter().all(|a| a.ip().is_loopback()) {
                report.passed(
                    CheckStepKind::Tls,
                    "not used: the connection stays on this machine",
                );
            } else {
                report.warned(
                    CheckStepKind::Tls,
                    "not used: token and data cross the network in clear text",
                    "use https://",
                );
            }
        }
        if let ScimAuth::Oauth { token_url, .. } = &self.auth {
            match self.bearer(true).await {
                Ok(_) => report.passed(CheckStepKind::Token, format!("by {}", host_of(token_url))),
                Err(error) => {
                    report.failed(CheckStepKind::Token, &error);
                    return false;
                }
            }
        }
        true
    }

    pub async fn get(&self, path: &str) -> Result<Json, ConnectError> {
        Ok(self
            .send_request(Method::GET, self.url(path)?, None, &HeaderMap::new(), path)
            .await?
            .body)
    }

    /// Reads a location that the service returned: an operation in its queue.
    pub async fn at(&self, place: &str) -> Result<Json, ConnectError> {
        let url = self.join(place)?;
        if !self.is_own_address(&url) {
            let said = format!(
                "the service refers to another host: {}",
                url.host_str().unwrap_or_default()
            );
            return Err(ConnectError::permanent(
                "elsewhere",
                said,
                "it is not called there, so that no secret leaks",
            ));
        }
        let path = url.path().trim_start_matches('/').to_owned();
        Ok(self
            .send_request(Method::GET, url, None, &HeaderMap::new(), &path)
            .await?
            .body)
    }

    fn is_own_address(&self, url: &Url) -> bool {
        (url.scheme(), url.host_str(), url.port_or_known_default())
            == (
                self.base.scheme(),
                self.base.host_str(),
                self.base.port_or_known_default(),
            )
    }

    /// One resource with its version.
    pub async fn read(&self, path: &str) -> Result<Answer, ConnectError> {
        self.send_request(Method::GET, self.url(path)?, None, &HeaderMap::new(), path)
            .await
    }

    pub async fn query(&self, path: &str, query: &[(&str, &str)]) -> Result<Json, ConnectError> {
        let mut url = self.url(path)?;
        url.query_pairs_mut().extend_pairs(query);
        Ok(self
            .send_request(Method::GET, url, None, &HeaderMap::new(), path)
            .await?
            .body)
    }

    /// Sends a write. The permit proves that writing is allowed. With a version, it is refused if
    /// the resource has another one by now (RFC 7644 §3.14).
    pub async fn send(
        &self,
        method: Method,
        path: &str,
        body: &Json,
        version: Option<&str>,
        _permit: &Permit,
    ) -> Result<Answer, ConnectError> {
        let mut headers = HeaderMap::new();
        headers.insert(CONTENT_TYPE, SCIM_JSON);
        if let Some(version) = version.and_then(|v| HeaderValue::from_str(v).ok()) {
            headers.insert(IF_MATCH, version);
        }
        self.send_request(
            method,
            self.url(path)?,
            Some(body.to_string()),
            &headers,
            path,
        )
        .await
    }

    /// Removes a resource (RFC 7644 §3.6).
    pub async fn remove(&self, path: &str, _permit: &Permit) -> Result<(), ConnectError> {
        self.send_request(
            Method::DELETE,
            self.url(path)?,
            None,
            &HeaderMap::new(),
            path,
        )
        .await
        .map(|_| ())
    }

    /// Downloads a file; its body is read as a stream. `query` is that of a signed URL.
    pub async fn download(
        &self,
        headers: &HeaderMap,
        query: Option<&Secret>,
    ) -> Result<Response, ConnectError> {
        let mut url = self.base.clone();
        // The base is made to end with a slash, which a file's address does not.
        let path = url.path().trim_end_matches('/').to_owned();
        url.set_path(&path);
        if let Some(query) = query {
            url.set_query(Some(query.expose().trim().trim_start_matches('?')));
        }
        let _place = self.pace.wait().await;
        let request = self
            .authenticate(self.client.get(url).headers(headers.clone()), false)
            .await?;
        request
            .send()
            .await
            .map_err(|error| self.transport_error(&error.without_url(), false))
    }

    async fn send_request(
        &self,
        method: Method,
        url: Url,
        body: Option<String>,
        headers: &HeaderMap,
        path: &str,
    ) -> Result<Answer, ConnectError> {
        let making = method == Method::POST;
        let (mut url, mut renewed) = (url, false);
        for attempt in 1.. {
            let _place = self.pace.wait().await;
            let request = self.request(&method, &url, headers, body.as_ref());
            let request = self.authenticate(request, renewed).await?;
            let response = request
                .send()
                .await
                .map_err(|error| self.transport_error(&error, making))?;
            let status = response.status();
            if status == StatusCode::UNAUTHORIZED
                && matches!(self.auth, ScimAuth::Oauth { .. })
                && !renewed
            {
                // The token was revoked early: request one new token.
                renewed = true;
                continue;
            }
            // RFC 9110 §10.2.3: the request can be repeated after the pause.
            let pause = pause_of(response.headers());
            let later = matches!(
                status,
                StatusCode::TOO_MANY_REQUESTS | StatusCode::SERVICE_UNAVAILABLE
            );
            if later && attempt < PATIENCE && pause.is_some_and(|pause| pause <= LONGEST) {
                let pause = pause.unwrap_or_default();
                tracing::info!(host = self.base.host_str(), wait = ?pause, %status, "the service requests a pause");
                self.pace.rest_for(pause);
                continue;
            }
            let (kind, etag, target, body) = self.read_response(path, making, response).await?;
            if status == StatusCode::ACCEPTED {
                return Err(ConnectError::accepted(
                    target.as_deref().unwrap_or_default(),
                ));
            }
            // RFC 9110 §15.4.4: the request was carried out, and its result is at another address
            // of the same service.
            let done = target.as_deref().filter(|_| {
                status == StatusCode::SEE_OTHER && method == Method::GET && attempt < PATIENCE
            });
            if let Some(next) = done
                .and_then(|target| url.join(target).ok())
                .filter(|next| self.is_own_address(next))
            {
                url = next;
                continue;
            }
            if status.is_redirection() {
                return Err(redirect_error(
                    path,
                    status,
                    target.as_deref(),
                    self.base.host_str().unwrap_or_default(),
                ));
            }
            let asks_for_later = later && pause.is_some();
            let body = interpret_answer(status, &kind, &body, path, making && !asks_for_later)?;
            let etag = etag.or_else(|| body["meta"]["version"].as_str().map(str::to_owned));
            return Ok(Answer {
                body,
                etag,
                location: target,
            });
        }
        Err(ConnectError::transient(
            "rate",
            "the service limits the request rate",
            "retried automatically",
        ))
    }

    fn request(
        &self,
        method: &Method,
        url: &Url,
        headers: &HeaderMap,
        body: Option<&String>,
    ) -> reqwest::RequestBuilder {
        let request = self
            .client
            .request(method.clone(), url.clone())
            .headers(headers.clone())
            .header(ACCEPT, SCIM_JSON);
        match body {
            Some(body) => request.body(body.clone()),
            None => request,
        }
    }

    /// Reads the headers that matter and the body.
    async fn read_response(
        &self,
        path: &str,
        making: bool,
        response: Response,
    ) -> Result<(String, Option<String>, Option<String>, Vec<u8>), ConnectError> {
        let kind = response
            .headers()
            .get(CONTENT_TYPE)
            .and_then(|v| v.to_str().ok())
            .unwrap_or_default()
            .to_owned();
        let etag = response
            .headers()
            .get(ETAG)
            .and_then(|v| v.to_str().ok())
            .map(str::to_owned);
        let target = response
            .headers()
            .get(reqwest::header::LOCATION)
            .and_then(|v| v.to_str().ok())
            .map(str::to_owned);
        let body = read(response)
            .await
            .map_err(|error| self.transport_error(&error, making))?;
        let Some(body) = body else {
            return Err(ConnectError::permanent(
                "too_large",
                format!(
                    "the answer to /{path} is larger than {} MiB",
                    MAX_BODY >> 20
                ),
                "use smaller pages",
            ));
        };
        Ok((kind, etag, target, body))
    }

    /// Adds the credentials to a request.
    async fn authenticate(
        &self,
        request: reqwest::RequestBuilder,
        anew: bool,
    ) -> Result<reqwest::RequestBuilder, ConnectError> {
        let Some(secret) = &self.secret else {
            return Ok(request);
        };
        Ok(match &self.auth {
            ScimAuth::Bearer => request.bearer_auth(secret.expose()),
            ScimAuth::Basic { user } => request.basic_auth(user, Some(secret.expose())),
            ScimAuth::Header { name } => {
                let wrong = |_| {
                    ConnectError::permanent(
                        "header",
                        format!(
                            "`{name}` cannot be a header's name, or its secret not a header's value"
                        ),
                        "correct it",
                    )
                };
                let name =
                    HeaderName::from_bytes(name.as_bytes()).map_err(|e| wrong(e.to_string()))?;
                let mut value =
                    HeaderValue::from_str(secret.expose()).map_err(|e| wrong(e.to_string()))?;
                value.set_sensitive(true);
                request.header(name, value)
            }
            ScimAuth::Oauth { .. } => request.bearer_auth(self.bearer(anew).await?.expose()),
        })
    }

    /// The access token, which is requested when there is none and shortly before it expires (RFC
    /// 6749 §4.4).
    async fn bearer(&self, anew: bool) -> Result<Secret, ConnectError> {
        let ScimAuth::Oauth {
            token_url,
            client_id,
            scope,
        } = &self.auth
        else {
            return Ok(Secret::new(""));
        };
        let mut kept = self.access.token().lock().await;
        if let Some(token) = kept
            .as_ref()
            .filter(|token| !anew && token.renew > tide_clock::instant())
        {
            return Ok(token.secret.clone());
        }
        let host = host_of(token_url);
        let refused = |what: String| {
            ConnectError::system_down(
                "oauth_refused",
                format!("{host} issues no token: {what}"),
                "check the token address, the client and its secret, and the scope",
            )
        };
        let secret = self.secret.as_ref().map(Secret::expose).unwrap_or_default();
        let form = form_urlencoded::Serializer::new(String::new())
            .append_pair("grant_type", "client_credentials")
            .extend_pairs(scope.as_ref().map(|scope| ("scope", scope)))
            .finish();
        let response = self
            .client
            .post(check_secret(token_url)?)
            .basic_auth(client_id, Some(secret))
            .header(CONTENT_TYPE, "application/x-www-form-urlencoded")
            .header(ACCEPT, "application/json")
            .body(form)
            .send()
            .await
            .map_err(|error| self.transport_error(&error, false))?;
        let status = response.status();
        let body = read(response)
            .await
            .map_err(|error| self.transport_error(&error, false))?
            .unwrap_or_default();
        let json: Json = serde_json::from_slice(&body).unwrap_or_default();
        let Some(token) = json["access_token"]
            .as_str()
            .filter(|_| status.is_success())
        else {
            let what = ["error_description", "error"]
                .iter()
                .find_map(|n| json[*n].as_str())
                .map(clip);
            return Err(refused(
                what.unwrap_or_else(|| format!("HTTP {}", status.as_u16())),
            ));
        };
        let lasts = json["expires_in"].as_u64().unwrap_or(300);
        // Renewed a little early, so that no request is sent with a token that expires in transit.
        let renew = tide_clock::instant()
            + Duration::from_secs(lasts.saturating_sub(lasts.div_ceil(10).min(30)));
        let secret = Secret::new(token);
        *kept = Some(AccessToken {
            secret: secret.clone(),
            renew,
        });
        Ok(secret)
    }

    fn transport_error(&self, error: &reqwest::Error, making: bool) -> ConnectError {
        let (host, port) = self.place();
        let chain = error_chain(error);
        if error.is_connect() {
            let lower = chain.to_lowercase();
            if self.base.scheme() == "https"
                && [
                    "certificate",
                    "issuer",
                    "tls",
                    "handshake",
                    "corrupt message",
                    "peer",
                ]
                .iter()
                .any(|w| lower.contains(w))
            {
                return crate::tls::handshake_error(&host, &chain);
            }
            if lower.contains("lookup") || lower.contains("resolve") {
                return unknown_name(&host, &chain);
            }
            return connect_error(&host, port, &chain);
        }
        let what = if error.is_timeout() {
            "did not answer in time"
        } else {
            "closed the connection before it answered"
        };
        let said = format!("{host}:{port} {what}");
        if making {
            ConnectError::unknown_outcome(
                "answer_lost",
                said,
                "the account is looked for before anything is sent again",
            )
        } else {
            ConnectError::transient(
                if error.is_timeout() { "timeout" } else { "cut" },
                said,
                "retried automatically",
            )
        }
    }
}

fn host_of(url: &str) -> String {
    Url::parse(url)
        .ok()
        .and_then(|url| url.host_str().map(str::to_owned))
        .unwrap_or_default()
}

fn unknown_name(host: &str, why: &str) -> ConnectError {
    ConnectError::system_down(
        "name_unknown",
        format!("the name {host} cannot be resolved: {why}"),
        "check the spelling, and the name servers of this machine",
    )
}

/// The pause that a response requests: seconds or an HTTP date (RFC 9110 §10.2.3).
fn pause_of(headers: &HeaderMap) -> Option<Duration> {
    let text = headers.get(RETRY_AFTER)?.to_str().ok()?.trim();
    if let Ok(seconds) = text.parse::<u64>() {
        return Some(Duration::from_secs(seconds));
    }
    let until = httpdate::parse_http_date(text).ok()?;
    Some(
        until
            .duration_since(std::time::SystemTime::from(tide_clock::now()))
            .unwrap_or_default(),
    )
}

/// The error of a redirect. Redirects are never followed: they would carry our secret elsewhere.
fn redirect_error(path: &str, status: StatusCode, target: Option<&str>, own: &str) -> ConnectError {
    let target = target.unwrap_or_default();
    let host = host_of(target);
    let login = [
        "login",
        "signin",
        "sign-in",
        "sso",
        "oauth",
        "saml",
        "authorize",
    ]
    .iter()
    .any(|w| target.to_lowercase().contains(w));
    if login {
        return ConnectError::system_down(
            "login_page",
            format!(
                "/{path} redirects to a sign-in page (HTTP {}): {}",
                status.as_u16(),
                clip(target)
            ),
            "use the address of the SCIM service itself, and a token for programs",
        );
    }
    let elsewhere = if host.is_empty() || host == own {
        String::new()
    } else {
        format!(", to another host: {host}")
    };
    ConnectError::system_down(
        "redirect",
        format!(
            "/{path} is redirected (HTTP {}){elsewhere}; redirects are not followed, so that no secret leaks",
            status.as_u16()
        ),
        "give the address that it points to, if that is the service",
    )
}

fn connect_error(host: &str, port: u16, why: &str) -> ConnectError {
    ConnectError::system_down(
        "unreachable",
        format!("nothing answers at {host}:{port}: {why}"),
        "check host, port and firewall, and that the service runs",
    )
}

fn error_chain(error: &reqwest::Error) -> String {
    let mut text = String::new();
    let mut source: Option<&dyn std::error::Error> = std::error::Error::source(error);
    while let Some(cause) = source {
        text = cause.to_string();
        source = cause.source();
    }
    text
}

async fn read(mut response: Response) -> Result<Option<Vec<u8>>, reqwest::Error> {
    // A body whose announced length is too large is not read at all.
    if response
        .content_length()
        .is_some_and(|length| length > MAX_BODY as u64)
    {
        return Ok(None);
    }
    let mut body = Vec::new();
    while let Some(chunk) = response.chunk().await? {
        if body.len() + chunk.len() > MAX_BODY {
            return Ok(None);
        }
        body.extend_from_slice(&chunk);
    }
    Ok(Some(body))
}

/// Turns an answer into a result (RFC 7644 §3.12).
fn interpret_answer(
    status: StatusCode,
    kind: &str,
    body: &[u8],
    path: &str,
    making: bool,
) -> Result<Json, ConnectError> {
    if status.is_success() && body.is_empty() {
        return Ok(Json::Null);
    }
    let json: Option<Json> = serde_json::from_slice(body).ok();
    let detail = detail_of(&json);
    let page = kind.contains("html") || body.trim_ascii_start().first() == Some(&b'<');
    match status.as_u16() {
        401 => Err(ConnectError::system_down(
            "token_refused",
            format!("the service rejects the token (HTTP 401){detail}"),
            "set a valid token: `eager-tide systems secret NAME`",
        )),
        403 => Err(ConnectError::system_down(
            "rights",
            format!("the service does not permit this (HTTP 403){detail}"),
            "give the token permission to read and write users",
        )),
        404 if making || !path.contains('/') => {
            Err(not_scim(path, "HTTP 404, no such address").with_status(404))
        }
        404 => Err(ConnectError::permanent(
            "gone",
            format!("the account no longer exists (HTTP 404){detail}"),
            "read the system again to find deletions",
        )),
        409 => Err(ConnectError::permanent(
            "conflict",
            format!("another account has one of these values (HTTP 409){detail}"),
            "read the system again, so that it can be matched, or correct the value",
        )),
        412 => Err(ConnectError::transient(
            "changed",
            format!("the account was changed in the meantime (HTTP 412){detail}"),
            "decided again at the next run",
        )),
        429 => Err(ConnectError::transient(
            "rate",
            format!("the service limits the request rate (HTTP 429){detail}"),
            "retried automatically",
        )),
        // The account may have been created before the service failed: it must be searched for
        // before it is created again.
        500..=504 if making && status != StatusCode::NOT_IMPLEMENTED => {
            Err(ConnectError::unknown_outcome(
                "answer_lost",
                format!(
                    "the service failed during the creation of the account (HTTP {}){detail}",
                    status.as_u16()
                ),
                "the account is looked for before anything is sent again",
            ))
        }
        500 | 502 | 503 | 504 => Err(ConnectError::transient(
            "server_error",
            format!("the service failed (HTTP {}){detail}", status.as_u16()),
            "retried automatically; if it persists, contact the administrator of the service",
        )),
        code if status.is_success() => match json {
            Some(json) => Ok(json),
            None if page => Err(not_scim(path, "it sent a web page (HTML)")),
            None => Err(not_scim(
                path,
                &format!("HTTP {code}, and the body is not JSON"),
            )),
        },
        code => Err(ConnectError::permanent(
            "refused",
            format!("the service rejects this (HTTP {code}){detail}"),
            "correct the mapping of the refused value",
        )),
    }
}

/// The detail that an error states (RFC 7644 §3.12).
fn detail_of(json: &Option<Json>) -> String {
    json.as_ref()
        .and_then(|j| j["detail"].as_str())
        .map(|d| format!(": {}", clip(d)))
        .unwrap_or_default()
}

/// Text from a server, shortened and without control characters.
fn clip(text: &str) -> String {
    text.chars().filter(|c| !c.is_control()).take(300).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::FailureClass;

    #[test]
    fn each_answer_has_its_own_meaning() {
        let of = |status: u16, kind: &str, body: &str| {
            interpret_answer(
                StatusCode::from_u16(status).expect("valid"),
                kind,
                body.as_bytes(),
                "Users",
                false,
            )
            .map_err(|e| (e.code, e.class))
        };
        assert!(of(200, "application/scim+json", "{}").is_ok());
        assert_eq!(of(204, "", ""), Ok(Json::Null));
        assert_eq!(
            of(200, "text/html", "<html>"),
            Err(("not_scim", FailureClass::SystemDown))
        );
        assert_eq!(
            of(401, "", ""),
            Err(("token_refused", FailureClass::SystemDown))
        );
        assert_eq!(
            of(409, "", "{}"),
            Err(("conflict", FailureClass::Permanent))
        );
        assert_eq!(
            of(500, "text/html", "<html>"),
            Err(("server_error", FailureClass::Transient))
        );
        assert_eq!(of(400, "", "{}"), Err(("refused", FailureClass::Permanent)));
        let making = |status: u16| {
            let status = StatusCode::from_u16(status).expect("valid");
            interpret_answer(status, "", b"{}", "Users", true).map_err(|error| error.class)
        };
        assert_eq!(
            [500, 502, 503, 504].map(making),
            [500; 4].map(|_| Err(FailureClass::UnknownOutcome)),
            "it may have been made"
        );
        assert_eq!(
            making(501),
            Err(FailureClass::Permanent),
            "a service that cannot make accounts made none"
        );
    }

    #[test]
    fn a_pause_is_read_in_both_its_forms() {
        let of = |text: &'static str| {
            pause_of(&HeaderMap::from_iter([(
                RETRY_AFTER,
                HeaderValue::from_static(text),
            )]))
        };
        assert_eq!(of("7"), Some(Duration::from_secs(7)));
        assert_eq!(
            of("Sun, 06 Nov 1994 08:49:37 GMT"),
            Some(Duration::ZERO),
            "a time that has passed"
        );
        assert_eq!(of("soon"), None);
        assert_eq!(pause_of(&HeaderMap::new()), None);
    }

    #[test]
    fn redirects_and_log_in_pages_get_different_errors() {
        let of =
            |target| redirect_error("Users", StatusCode::FOUND, Some(target), "berthing.example");
        assert_eq!(of("https://id.example/login?next=x").code, "login_page");
        assert_eq!(
            of("https://elsewhere.example/scim/v2/Users").code,
            "redirect"
        );
        assert!(
            of("https://elsewhere.example/x")
                .message
                .contains("elsewhere.example")
        );
    }

    #[test]
    fn no_path_leads_out_of_the_base_url() {
        let auth = ScimAuth::Bearer;
        let way = HttpSettings {
            url: "https://berthing.example/scim/v2",
            trust: Trust::default(),
            timeout_seconds: 1,
            auth: &auth,
            in_flight: 1,
            per_second: None,
        };
        let http = Http::new(&way, None, Arc::default()).expect("usable");
        let of = |path: &str| {
            http.url(path)
                .map(|url| url.to_string())
                .map_err(|error| error.code)
        };
        assert_eq!(
            of("Users/1?count=2"),
            Ok("https://berthing.example/scim/v2/Users/1?count=2".to_owned())
        );
        for path in [
            "http://0.0.0.0:18082/scim/v2/Users",
            "http://berthing.example/scim/v2/Users",
            "https://berthing.example:444/scim/v2/Users",
            "//other.example/scim/v2/Users",
            "\\\\other.example\\scim",
            "../../admin",
            "..%2f../admin/../../../x",
            "/Users",
            "https://berthing.example/scim/v20/Users",
        ] {
            assert!(
                of(path) == Err("elsewhere")
                    || of(path)
                        .is_ok_and(|url| url.starts_with("https://berthing.example/scim/v2/")),
                "{path}"
            );
        }
        for path in [
            "http://169.254.169.254/x",
            "//other.example/scim/v2/Users",
            "../../admin",
            "/Users",
        ] {
            assert_eq!(of(path), Err("elsewhere"), "{path}");
        }
    }

    #[test]
    fn a_hostile_id_stays_one_segment() {
        assert_eq!(segment("../Groups?x=1"), "%2E%2E%2FGroups%3Fx%3D1");
    }
}
