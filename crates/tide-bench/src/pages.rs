//! Every page: each GET of the API with realistic parameters, idle and during a run, against a bare
//! handler with one indexed query. The service is a process of its own, so that its memory can be
//! told.

use crate::runs::{Bench, quantile};
use anyhow::{Context, ensure};
use axum::Router;
use axum::extract::{Path, State};
use axum::routing::get;
use serde_json::{Value, json};
use std::io::{BufRead, BufReader, Read as _};
use std::path::Path as FilePath;
use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use std::time::Duration;
use tide_core::states::PrincipalKind;
use tide_engine::{Engine, Plan, SystemClock};
use tide_store::{MasterKey, Store};

/// How often each page is requested.
const REQUESTS: usize = 50;
/// How often a page that takes longer than [`SLOW`] is requested.
const FEW: usize = 3;
const SLOW: Duration = Duration::from_secs(1);
const TOKEN: &str = "bench-operator-token";
/// Streams that do not end.
const ENDLESS: [&str; 1] = ["/api/v1/events"];

/// The service in a process of its own: on the records of a folder, until its input ends.
pub(crate) async fn serve(folder: &FilePath) -> anyhow::Result<()> {
    let records = folder.join("tide.db");
    let key = MasterKey::of_records(&folder.join("key"), &records)?;
    let store = Store::open(&records, key).await?;
    let engine = Engine::new(store, Arc::new(SystemClock));
    engine.runner().resume_interrupted().await?;
    engine.decider().prepare_answers().await?;
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await?;
    println!("http://{}", listener.local_addr()?);
    let app = tide_service::router(engine.clone()).merge(bare(engine.store().clone()));
    tokio::spawn(async move { axum::serve(listener, app).await });
    let ended = tokio::task::spawn_blocking(|| std::io::stdin().read_to_end(&mut Vec::new()));
    ended.await??;
    engine.stop().await;
    engine.store().close().await;
    Ok(())
}

/// The floor: one indexed query.
fn bare(store: Store) -> Router {
    async fn find(State(store): State<Store>, Path(id): Path<String>) -> String {
        let found = store.find_identity(&id).await;
        found.map(|(_, label)| label).unwrap_or_default()
    }
    Router::new()
        .route("/bare/{id}", get(find))
        .with_state(store)
}

struct Service {
    child: Child,
    url: String,
    http: reqwest::Client,
}

impl Service {
    /// Starts it, and tells how long it took until it was ready.
    async fn start(folder: &FilePath) -> anyhow::Result<(Service, Duration)> {
        let begun = tide_clock::instant();
        let mut child = Command::new(std::env::current_exe()?)
            .arg("pages-service")
            .arg(folder)
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .spawn()?;
        let mut url = String::new();
        let output = child.stdout.take().context("no output")?;
        BufReader::new(output).read_line(&mut url)?;
        let http = reqwest::Client::builder()
            .tls_backend_rustls()
            .no_proxy()
            .build()?;
        let service = Service {
            child,
            url: url.trim().to_owned(),
            http,
        };
        while service.get("/readyz").await?.0 != 200 {
            tide_clock::sleep(Duration::from_millis(20)).await;
        }
        Ok((service, begun.elapsed()))
    }

    async fn get(&self, path: &str) -> anyhow::Result<(u16, Value)> {
        let request = self.http.get(format!("{}{path}", self.url));
        let answer = request.bearer_auth(TOKEN).send().await?;
        let status = answer.status().as_u16();
        let body = answer.bytes().await?;
        Ok((status, serde_json::from_slice(&body).unwrap_or_default()))
    }

    /// Resident memory, in MB.
    fn memory(&self) -> u64 {
        let status = std::fs::read_to_string(format!("/proc/{}/status", self.child.id()));
        let status = status.unwrap_or_default();
        let line = status.lines().find_map(|line| line.strip_prefix("VmRSS:"));
        let number = line.and_then(|rest| rest.split_whitespace().next()?.parse::<u64>().ok());
        number.unwrap_or_default() / 1024
    }

    /// Begins a run of everything.
    async fn begin_run(&self) -> anyhow::Result<i64> {
        let begun: Value = self
            .http
            .post(format!("{}/api/v1/change-sets", self.url))
            .bearer_auth(TOKEN)
            .json(&json!({"kind": "run"}))
            .send()
            .await?
            .json()
            .await?;
        begun["id"].as_i64().with_context(|| format!("{begun}"))
    }

    async fn is_running(&self, run: i64) -> anyhow::Result<bool> {
        let (_, set) = self.get(&format!("/api/v1/change-sets/{run}")).await?;
        Ok(set["ended_at"].is_null())
    }

    /// The times of a page, and its status.
    async fn time(&self, path: &str, requests: usize) -> anyhow::Result<(u16, Vec<Duration>)> {
        let (mut times, mut status) = (Vec::new(), 0);
        while times.len() < requests {
            let begun = tide_clock::instant();
            status = self.get(path).await?.0;
            times.push(begun.elapsed());
            let is_slow = times.iter().any(|took| *took > SLOW);
            if is_slow && times.len() >= FEW {
                break;
            }
        }
        Ok((status, times))
    }
}

impl Drop for Service {
    fn drop(&mut self) {
        drop(self.child.stdin.take());
        let _ = self.child.wait();
    }
}

/// The pages of the OpenAPI document, with realistic parameters.
async fn pages(service: &Service) -> anyhow::Result<Vec<String>> {
    let (_, people) = service.get("/api/v1/identities?limit=1").await?;
    let id = people["items"][0]["id"].as_str().context("no identity")?;
    let (_, person) = service.get(&format!("/api/v1/identities/{id}")).await?;
    let number = person["values"]
        .as_array()
        .into_iter()
        .flatten()
        .find(|value| value["attribute"] == "employeeNumber")
        .and_then(|value| value["value"].as_str());
    let number = number.unwrap_or("1009").to_owned();
    let document = tide_service::openapi();
    let mut pages = Vec::new();
    for (template, methods) in document["paths"].as_object().context("no paths")? {
        if methods.get("get").is_none() || ENDLESS.contains(&template.as_str()) {
            continue;
        }
        let of_person = template.contains("/identities/");
        let path = template
            .replace("{id}", if of_person { id } else { "1" })
            .replace("{name}", "berthing")
            .replace("{system}", "berthing")
            .replace("{version}", "1")
            .replace("{other}", "1");
        let query = match template.as_str() {
            "/api/v1/why" | "/api/v1/identities/resolve" => format!("?person={number}"),
            _ => String::new(),
        };
        pages.push(format!("{path}{query}"));
    }
    // A text without matches, and one with many.
    pages.push("/api/v1/why?person=zzyzx".to_owned());
    pages.push("/api/v1/why?person=lind".to_owned());
    pages.push("/api/v1/systems/harbour/scope".to_owned());
    pages.push("/api/v1/systems/harbour/scope?search=lind".to_owned());
    pages.push("/api/v1/systems/harbour/matches".to_owned());
    Ok(pages)
}

pub(crate) async fn run(count: usize) -> anyhow::Result<()> {
    println!("Every GET of the API among {count} people, {REQUESTS} requests each:");
    let bench = Bench::start(count).await?;
    let load = Plan {
        carry_out: true,
        ..Plan::default()
    };
    bench.go(load).await?;
    let store = bench.engine.store();
    store
        .add_principal(
            PrincipalKind::Operator,
            "bench operator",
            Some(TOKEN),
            bench.engine.now(),
        )
        .await?;
    bench.engine.stop().await;
    store.close().await;
    let log = bench.folder.path().join("tide.db-wal");
    let log = std::fs::metadata(log).map_or(0, |file| file.len());
    let (service, ready) = Service::start(bench.folder.path()).await?;
    println!(
        "  ready after {:.2} s; {} MB resident; the write-ahead log after the load has {} MB",
        ready.as_secs_f64(),
        service.memory(),
        log / 1_000_000
    );
    let begun = tide_clock::instant();
    let (status, _) = service.get("/api/v1/why?person=1009").await?;
    ensure!(status == 200, "{status}");
    println!(
        "  the first answer, with the first decision: {:.2} s; {} MB resident",
        begun.elapsed().as_secs_f64(),
        service.memory()
    );
    measure(&service).await?;
    println!("  {} MB resident at the end", service.memory());
    Ok(())
}

async fn measure(service: &Service) -> anyhow::Result<()> {
    let pages = pages(service).await?;
    let (_, people) = service.get("/api/v1/identities?limit=1").await?;
    let id = people["items"][0]["id"].as_str().context("no identity")?;
    let (_, mut floor) = service.time(&format!("/bare/{id}"), REQUESTS).await?;
    let floor = quantile(&mut floor, 0.95);
    println!(
        "  {:<58} {:>9.2} ms",
        "a bare handler with one query (95 %)", floor
    );
    println!(
        "  {:<58} {:>12} {:>12} {:>12}",
        "page", "median ms", "95 % ms", "in a run"
    );
    let mut run = service.begin_run().await?;
    let mut during = Vec::new();
    for path in &pages {
        if !service.is_running(run).await? {
            run = service.begin_run().await?;
        }
        let (_, mut times) = service.time(path, FEW).await?;
        during.push(quantile(&mut times, 0.95));
    }
    while service.is_running(run).await? {
        tide_clock::sleep(Duration::from_millis(100)).await;
    }
    for (path, in_run) in pages.iter().zip(during) {
        let (status, mut times) = service.time(path, REQUESTS).await?;
        let (median, most) = (quantile(&mut times, 0.5), quantile(&mut times, 0.95));
        let status = match status {
            200 => String::new(),
            other => format!("  {other}"),
        };
        println!("  {path:<58.58} {median:>12.2} {most:>12.2} {in_run:>12.2}{status}");
    }
    Ok(())
}
