//! The client: it knows the API's types and HTTP, and nothing else of the service.

pub mod changes;
mod codes;
pub mod connection;
pub mod decisions;
pub mod drafts;
mod event_shape;
pub mod feeds;
mod freshness;
pub mod holds;
pub mod identities;
pub mod journal;
pub mod licenses;
pub mod matches;
pub mod notifications;
pub mod operators;
pub mod output;
pub mod passwords;
pub mod roles;
pub mod rules;
mod schedule;
pub mod scope;
pub mod status;
pub mod stop;
pub mod systems;
pub mod webhooks;

use anyhow::{Context, anyhow};
use clap::{Args, ValueEnum};
use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};
use reqwest::Method;
use serde::Serialize;
use serde::de::DeserializeOwned;
use std::path::PathBuf;
use tide_api::Problem;

/// Format of the output.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Output {
    /// Tables for people
    Table,
    /// JSON for programs
    Json,
}

/// The address of the service and the token to use.
#[derive(Args, Clone)]
pub struct Reach {
    /// The service's address
    #[arg(
        long,
        global = true,
        default_value = "http://127.0.0.1:7480",
        env = "EAGER_TIDE_URL",
        help_heading = "Service"
    )]
    url: String,
    /// The token; prefer the environment variable, because others can see command lines
    #[arg(
        long,
        global = true,
        env = "EAGER_TIDE_TOKEN",
        hide_env_values = true,
        help_heading = "Service"
    )]
    token: Option<String>,
    /// A file that contains the token
    #[arg(
        long,
        global = true,
        env = "EAGER_TIDE_TOKEN_FILE",
        help_heading = "Service"
    )]
    token_file: Option<PathBuf>,
    /// Format of the output
    #[arg(
        long,
        short,
        global = true,
        value_enum,
        default_value = "table",
        help_heading = "Service"
    )]
    pub output: Output,
}

/// A client of the service.
pub struct Client {
    http: reqwest::Client,
    url: String,
    token: String,
}

impl Reach {
    /// Whether the output is for programs.
    pub fn json(&self) -> bool {
        self.output == Output::Json
    }

    /// A client for the service.
    pub fn client(&self) -> anyhow::Result<Client> {
        let token = match (&self.token, &self.token_file) {
            (Some(token), _) => token.clone(),
            (None, Some(file)) => std::fs::read_to_string(file)
                .with_context(|| format!("the token file {} cannot be read", file.display()))?,
            (None, None) => {
                return Err(anyhow!(
                    "no token: set EAGER_TIDE_TOKEN, or set EAGER_TIDE_TOKEN_FILE to the file that the service writes at its first start (DATA/first-token)"
                ));
            }
        };
        let http = reqwest::Client::builder()
            .tls_backend_rustls()
            .no_proxy()
            .build()?;
        Ok(Client {
            http,
            url: self.url.trim_end_matches('/').to_owned(),
            token: token.trim().to_owned(),
        })
    }
}

/// All characters but letters, digits and a few safe marks.
const UNSAFE_IN_SEGMENT: &AsciiSet = &NON_ALPHANUMERIC.remove(b'-').remove(b'_').remove(b'~');

/// Percent-encodes a path segment, so that it stays one segment (RFC 3986 §3.3).
pub fn segment(text: &str) -> String {
    utf8_percent_encode(text, UNSAFE_IN_SEGMENT).to_string()
}

fn explain(problem: Problem, status: u16) -> anyhow::Error {
    let mut text = problem
        .detail
        .unwrap_or_else(|| format!("the service answered HTTP {status} {}", problem.title));
    if let Some(remedy) = problem.remedy {
        text.push_str(&format!("\n  to do: {remedy}"));
    }
    for fault in problem.faults {
        text.push_str(&format!("\n  {}", output::fault(&fault)));
    }
    anyhow!(text)
}

/// The error of a problem document in a stream.
pub fn explain_json(problem: &serde_json::Value) -> anyhow::Error {
    match serde_json::from_value::<Problem>(problem.clone()) {
        Ok(problem) => {
            let status = problem.status;
            explain(problem, status)
        }
        Err(_) => anyhow!("the service ended the answer early: {problem}"),
    }
}

impl Client {
    /// Sends a request, and calls `each` for every line of the answer (application/x-ndjson).
    pub async fn lines<B: Serialize>(
        &self,
        method: Method,
        path: &str,
        body: &B,
        mut each: impl FnMut(&serde_json::Value) -> anyhow::Result<()>,
    ) -> anyhow::Result<()> {
        let request = self
            .http
            .request(method, format!("{}/api/v1/{path}", self.url))
            .bearer_auth(&self.token);
        let mut response = request
            .header("accept", "application/x-ndjson")
            .json(body)
            .send()
            .await
            .map_err(|error| self.unreached(&error))?;
        if !response.status().is_success() {
            let status = response.status().as_u16();
            let body = response.bytes().await?;
            let problem = serde_json::from_slice::<Problem>(&body);
            return Err(problem.map_or_else(
                |_| anyhow!("{} answered HTTP {status}", self.url),
                |problem| explain(problem, status),
            ));
        }
        let mut left: Vec<u8> = Vec::new();
        while let Some(chunk) = response.chunk().await? {
            left.extend_from_slice(&chunk);
            while let Some(end) = left.iter().position(|byte| *byte == b'\n') {
                let line: Vec<u8> = left.drain(..=end).collect();
                each(&serde_json::from_slice(&line).context(
                    "the answer cannot be read: check that client and service have the same version",
                )?)?;
            }
        }
        Ok(())
    }

    /// Uploads a file.
    pub async fn upload<T: DeserializeOwned>(
        &self,
        path: &str,
        octets: Vec<u8>,
    ) -> anyhow::Result<T> {
        let request = self
            .http
            .post(format!("{}/api/v1/{path}", self.url))
            .bearer_auth(&self.token);
        let response = request
            .header("content-type", "application/octet-stream")
            .body(octets)
            .send()
            .await
            .map_err(|e| self.unreached(&e))?;
        let status = response.status();
        let body = response.bytes().await?;
        if status.is_success() {
            return serde_json::from_slice(&body).context(
                "the answer cannot be read: check that client and service have the same version",
            );
        }
        let problem = serde_json::from_slice::<Problem>(&body);
        Err(problem.map_or_else(
            |_| anyhow!("{} answered HTTP {status}", self.url),
            |problem| explain(problem, status.as_u16()),
        ))
    }

    /// Downloads a file.
    pub async fn download(&self, path: &str, query: &[(&str, String)]) -> anyhow::Result<Vec<u8>> {
        self.call::<()>(Method::GET, path, query, None).await
    }

    fn unreached(&self, error: &reqwest::Error) -> anyhow::Error {
        if error.is_connect() {
            anyhow!(
                "no service answers at {}\n  to do: start it with `eager-tide serve`, or set EAGER_TIDE_URL",
                self.url
            )
        } else {
            anyhow!("the connection to {} failed: {error}", self.url)
        }
    }

    async fn call<B: Serialize>(
        &self,
        method: Method,
        path: &str,
        query: &[(&str, String)],
        body: Option<&B>,
    ) -> anyhow::Result<Vec<u8>> {
        let mut request = self
            .http
            .request(method, format!("{}/api/v1/{path}", self.url))
            .query(query)
            .bearer_auth(&self.token);
        if let Some(body) = body {
            request = request.json(body);
        }
        let response = request
            .send()
            .await
            .map_err(|error| self.unreached(&error))?;
        let status = response.status();
        let body = response.bytes().await?;
        if status.is_success() {
            return Ok(body.to_vec());
        }
        match serde_json::from_slice::<Problem>(&body) {
            Ok(problem) => Err(explain(problem, status.as_u16())),
            Err(_) => Err(anyhow!(
                "{} answered HTTP {status}, not as Eager Tide does: check EAGER_TIDE_URL",
                self.url
            )),
        }
    }

    /// Sends GET.
    pub async fn get<T: DeserializeOwned>(
        &self,
        path: &str,
        query: &[(&str, String)],
    ) -> anyhow::Result<T> {
        let body = self.call::<()>(Method::GET, path, query, None).await?;
        serde_json::from_slice(&body).context(
            "the answer cannot be read: check that client and service have the same version",
        )
    }

    /// Sends a body, and parses the answer.
    pub async fn send<B: Serialize, T: DeserializeOwned>(
        &self,
        method: Method,
        path: &str,
        body: &B,
    ) -> anyhow::Result<T> {
        let body = self.call(method, path, &[], Some(body)).await?;
        serde_json::from_slice(&body).context(
            "the answer cannot be read: check that client and service have the same version",
        )
    }

    /// Sends a request whose answer has no body.
    pub async fn tell<B: Serialize>(
        &self,
        method: Method,
        path: &str,
        body: Option<&B>,
    ) -> anyhow::Result<()> {
        self.call(method, path, &[], body).await.map(|_| ())
    }

    /// Resolves a name, number, address, DN or id to the id of one identity.
    pub async fn identity(&self, who: &str) -> anyhow::Result<String> {
        let found: tide_api::ResolvedIdentity = self
            .get("identities/resolve", &[("person", who.to_owned())])
            .await?;
        Ok(found.id)
    }

    /// All pages of a list, up to a number of rows.
    pub async fn all<T: DeserializeOwned>(
        &self,
        path: &str,
        query: &[(&str, String)],
        most: usize,
    ) -> anyhow::Result<(Vec<T>, bool)> {
        self.all_after(path, query, None, most).await
    }

    /// The same, starting after a row.
    pub async fn all_after<T: DeserializeOwned>(
        &self,
        path: &str,
        query: &[(&str, String)],
        mut after: Option<String>,
        most: usize,
    ) -> anyhow::Result<(Vec<T>, bool)> {
        let mut items = Vec::new();
        loop {
            let mut query = query.to_vec();
            query.push(("limit", (most - items.len()).clamp(1, 1000).to_string()));
            if let Some(after) = &after {
                query.push(("after", after.clone()));
            }
            let page: tide_api::Page<T> = self.get(path, &query).await?;
            items.extend(page.items);
            match page.next {
                Some(next) if items.len() < most => after = Some(next),
                next => return Ok((items, next.is_some())),
            }
        }
    }
}
