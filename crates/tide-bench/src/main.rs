//! Benchmarks: each prints its own time, the time of a floor taken in the same run, and the ratio.
//! Only ratios can be compared between machines.

mod deciding;
mod leaving;
mod matching;
mod memory;
mod pages;
mod runs;
mod season;

use anyhow::{Context, ensure};
use axum::extract::{Path, State};
use axum::routing::post;
use axum::{Json, Router};
use clap::{Parser, Subcommand};
use futures::StreamExt;
use serde_json::{Value, json};
use std::path::PathBuf;
use std::process::{Command, Stdio};
use std::sync::Arc;
use std::time::Duration;

use tide_core::model::Observed;
use tide_core::states::SystemKind;
use tide_core::{Attributes, ObjectType};
use tide_engine::{Engine, NewSystem, SystemClock};
use tide_standins::slapd::Slapd;
use tide_standins::world::{self, BASE};
use tide_store::{MasterKey, NewPushed, PushedKey, Store};

/// The service's own allocator: many small values are made on one thread and dropped on another.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// How often each thing is measured; the best counts, since noise only ever adds.
const ROUNDS: usize = 5;
/// Requests on their way at a time.
const AT_A_TIME: usize = 16;

#[derive(Parser)]
#[command(about = "Benchmarks of Eager Tide, each against a floor taken in the same run")]
struct Cli {
    #[command(subcommand)]
    what: What,
}

#[derive(Subcommand)]
enum What {
    /// The first observation of a large slapd into SQLite, against ldapsearch with paging into
    /// /dev/null
    Observe {
        /// How many people
        #[arg(long, default_value_t = 100_000)]
        people: usize,
    },
    /// Creations and filtered reads of the SCIM provider, against a bare handler over the same
    /// store
    Provider {
        /// How many users
        #[arg(long, default_value_t = 3000)]
        users: usize,
    },
    /// A labelled set of people and accounts with errors, matched by the demo's rules; and how time
    /// grows
    Match {
        /// The seed of the set
        #[arg(long, default_value_t = 1907)]
        seed: u64,
        /// How many people
        #[arg(long, default_value_t = 20_000)]
        people: usize,
        /// How often each error is made, as shares of 1 (see docs/matching.md); repeated:
        /// name=share
        #[arg(long, value_name = "ERROR=SHARE")]
        error: Vec<String>,
        /// The largest population that is timed
        #[arg(long, default_value_t = 100_000)]
        timed: usize,
    },
    /// `decide` over a large population, against a loop written by hand
    Decide {
        /// How many people
        #[arg(long, default_value_t = 100_000)]
        people: usize,
    },
    /// Leavers: from the source's change to the last confirmation of three systems
    Leavers {
        /// How many people
        #[arg(long, default_value_t = 2000)]
        people: usize,
        /// How many of them leave
        #[arg(long, default_value_t = 200)]
        leave: usize,
    },
    /// A season in virtual time: days per second, and the end held against a slow, plain model
    Season {
        /// How many people there are when it begins
        #[arg(long, default_value_t = 100_000)]
        people: usize,
        /// How many days it lasts
        #[arg(long, default_value_t = 90)]
        days: usize,
        /// The seed
        #[arg(long, default_value_t = 1907)]
        seed: u64,
    },
    /// Runs over a large population: first load, a run without changes, one change at a time, a
    /// leaver behind a backlog
    Runs {
        /// How many people
        #[arg(long, default_value_t = 100_000)]
        people: usize,
        /// How many changes are timed
        #[arg(long, default_value_t = 1000)]
        changes: usize,
        /// How many joiners the leaver stands behind
        #[arg(long, default_value_t = 10_000)]
        joiners: usize,
    },
    /// The first load of an empty directory, against ldapadd of the same entries, both with real
    /// fsync
    Directory {
        /// How many people
        #[arg(long, default_value_t = 5000)]
        people: usize,
    },
    /// What one change costs with ten times the people: records read, evaluations, time; and the
    /// memory that stands
    Cost {
        /// The larger population
        #[arg(long, default_value_t = 100_000)]
        people: usize,
        /// Number of people in the memory benchmark
        #[arg(long, default_value_t = 1_000_000)]
        memory: usize,
    },
    /// Each GET of the API, idle and during a run, against a bare handler with one query
    Pages {
        /// How many people
        #[arg(long, default_value_t = 100_000)]
        people: usize,
    },
    /// The service of `pages`, in a process of its own
    #[command(hide = true)]
    PagesService { folder: PathBuf },
    /// One observation, in a process of its own so that its memory can be told
    #[command(hide = true)]
    Once {
        url: String,
        admin: String,
        password: String,
    },
}

#[tokio::main]
async fn main() -> anyhow::Result<()> {
    // A second call would say that there is a provider already.
    let _ = rustls::crypto::ring::default_provider().install_default();
    match Cli::parse().what {
        What::Observe { people } => observe(people),
        What::Provider { users } => provider(users).await,
        What::Match {
            seed,
            people,
            error,
            timed,
        } => matching::run(seed, people, &error, timed),
        What::Decide { people } => deciding::run(people),
        What::Season { people, days, seed } => season::run(people, days, seed).await,
        What::Leavers { people, leave } => leaving::run(people, leave).await,
        What::Runs {
            people,
            changes,
            joiners,
        } => runs::run(people, changes, joiners).await,
        What::Directory { people } => runs::directory(people).await,
        What::Cost { people, memory } => deciding::cost(people, memory),
        What::Pages { people } => pages::run(people).await,
        What::PagesService { folder } => pages::serve(&folder).await,
        What::Once {
            url,
            admin,
            password,
        } => once(url, admin, password).await,
    }
}

fn best(times: impl Iterator<Item = Duration>) -> Duration {
    times.min().unwrap_or_default()
}

fn observe(count: usize) -> anyhow::Result<()> {
    println!("The first observation of {count} people, best of {ROUNDS}:");
    let slapd = Slapd::start(&world::directory(
        &world::people(world::SEED, count),
        "bench",
    ))?;
    let mut floor = Vec::new();
    let mut ours = Vec::new();
    let mut memory = 0;
    for _ in 0..ROUNDS {
        let begun = tide_clock::instant();
        let done = Command::new("ldapsearch")
            .args([
                "-LLL",
                "-x",
                "-H",
                &slapd.url,
                "-D",
                &slapd.admin_dn,
                "-w",
                &slapd.admin_password,
                "-b",
                BASE,
            ])
            .args([
                "-E",
                "pr=500/noprompt",
                "(objectClass=inetOrgPerson)",
                "*",
                "entryUUID",
                "memberOf",
                "pwdAccountLockedTime",
            ])
            .stdout(Stdio::null())
            .status()
            .context("ldap-utils are not installed")?;
        ensure!(done.success(), "ldapsearch failed");
        floor.push(begun.elapsed());
        let output = Command::new(std::env::current_exe()?)
            .args(["once", &slapd.url, &slapd.admin_dn, &slapd.admin_password])
            .output()?;
        ensure!(
            output.status.success(),
            "{}",
            String::from_utf8_lossy(&output.stderr)
        );
        let said: Value = serde_json::from_slice(&output.stdout)?;
        ensure!(said["seen"].as_u64() >= Some(count as u64), "{said}");
        ours.push(Duration::from_millis(
            said["ms"].as_u64().unwrap_or_default(),
        ));
        memory = memory.max(said["peak_kib"].as_u64().unwrap_or_default() / 1024);
    }
    let (floor, ours) = (best(floor.into_iter()), best(ours.into_iter()));
    let ratio = ours.as_secs_f64() / floor.as_secs_f64();
    println!(
        "  ldapsearch with paging into /dev/null   {:>8.2} s",
        floor.as_secs_f64()
    );
    println!(
        "  observed into SQLite, durable           {:>8.2} s   {ratio:.2} times ldapsearch (aim 1.5, must 2)",
        ours.as_secs_f64()
    );
    println!("  peak memory of the observing process    {memory:>8} MB  (must be under 200)");
    Ok(())
}

async fn store(folder: &std::path::Path) -> anyhow::Result<Store> {
    Ok(Store::open(&folder.join("tide.db"), MasterKey::generate()).await?)
}

async fn once(url: String, admin: String, password: String) -> anyhow::Result<()> {
    let folder = tempfile::tempdir()?;
    let engine = Engine::new(store(folder.path()).await?, Arc::new(SystemClock));
    let settings = json!({"url": url, "bind_dn": admin, "base_dn": BASE, "page_size": 500});
    engine
        .administration()
        .add_system(
            NewSystem {
                name: "harbour".into(),
                kind: SystemKind::Ldap,
                settings,
                secret: Some(password),
            },
            "bench",
        )
        .await?;
    let begun = tide_clock::instant();
    let reads = engine.ingest().read_by_name("harbour").await?;
    let took = begun.elapsed();
    if let Some(error) = reads.iter().find_map(|read| read.error.clone()) {
        anyhow::bail!("the observation broke off: {error}");
    }
    let status = std::fs::read_to_string("/proc/self/status")?;
    let peak = status
        .lines()
        .find_map(|line| line.strip_prefix("VmHWM:"))
        .and_then(|rest| rest.trim().trim_end_matches(" kB").parse::<u64>().ok());
    // What was shown is kept, or the time says nothing.
    let kept: i64 = engine
        .store()
        .account_counts()
        .await?
        .iter()
        .map(|(_, count, _)| count)
        .sum();
    println!(
        "{}",
        json!({"ms": took.as_millis() as u64, "seen": kept, "peak_kib": peak})
    );
    Ok(())
}

fn user(n: usize) -> Value {
    let name = format!("crew{n}@skerry.example");
    json!({
        "schemas": [tide_scim::USER, tide_scim::ENTERPRISE], "userName": name, "displayName": format!("Crew {n}"), "active": true,
        "name": {"givenName": "Crew", "familyName": n.to_string()}, "emails": [{"value": name, "type": "work"}],
        (tide_scim::ENTERPRISE): {"employeeNumber": n.to_string(), "department": "Deck"},
    })
}

/// The floor: a handler that does nothing but store and find the same JSON through the same store.
fn bare(store: Store) -> Router {
    async fn make(State(store): State<Store>, Json(body): Json<Value>) -> Json<Value> {
        let name = body["userName"].as_str().unwrap_or_default().to_owned();
        let account = Observed {
            key: name.clone(),
            name: name.clone(),
            attributes: Attributes::new(),
            fault: None,
            version: None,
            is_exact: true,
        };
        let new = NewPushed {
            system: "bare".into(),
            object: ObjectType::Person,
            id: name.clone(),
            replaces: None,
            name_key: name,
            external_id: None,
            body: body.to_string(),
            members: Vec::new(),
            account,
            principal: "bench".into(),
        };
        let now = tide_engine::Clock::now(&SystemClock);
        Json(json!({"made": store.put_pushed(new, now).await.is_ok()}))
    }
    async fn find(State(store): State<Store>, Path(name): Path<String>) -> Json<Value> {
        let found = store
            .find_pushed("bare", ObjectType::Person, PushedKey::Name(&name))
            .await
            .ok()
            .flatten();
        Json(
            found
                .and_then(|row| serde_json::from_str(&row.body).ok())
                .unwrap_or_default(),
        )
    }
    Router::new()
        .route("/bare", post(make))
        .route("/bare/{name}", axum::routing::get(find))
        .with_state(store)
}

/// Sends requests, several at a time; returns how many went through in a second.
async fn pace<F: Future<Output = anyhow::Result<()>>>(
    count: usize,
    one: impl Fn(usize) -> F,
) -> anyhow::Result<f64> {
    let begun = tide_clock::instant();
    let mut all = futures::stream::iter((0..count).map(one)).buffer_unordered(AT_A_TIME);
    while let Some(done) = all.next().await {
        done?;
    }
    Ok(count as f64 / begun.elapsed().as_secs_f64())
}

async fn provider(users: usize) -> anyhow::Result<()> {
    println!(
        "The SCIM provider with {users} users, {AT_A_TIME} requests at a time, one round each:"
    );
    let folder: PathBuf = tempfile::Builder::new().prefix("bench-").tempdir()?.keep();
    let engine = Engine::new(store(&folder).await?, Arc::new(SystemClock));
    engine
        .administration()
        .add_system(
            NewSystem {
                name: "postroom".into(),
                kind: SystemKind::Push,
                settings: json!({}),
                secret: None,
            },
            "bench",
        )
        .await?;
    engine
        .administration()
        .check_system("postroom", None)
        .await?;
    let token = engine
        .ingest()
        .give_token("postroom", "bench", "bench-token".into(), "bench")
        .await?
        .token;
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await?;
    let url = format!("http://{}", listener.local_addr()?);
    let app = tide_service::router(engine.clone()).merge(bare(engine.store().clone()));
    tokio::spawn(async move { axum::serve(listener, app).await });
    let http = reqwest::Client::builder()
        .tls_backend_rustls()
        .no_proxy()
        .pool_max_idle_per_host(AT_A_TIME)
        .build()?;

    let floor_make = measure_bare_creations(users, &url, &http).await?;
    let make = pace(users, |n| {
        let (http, url, token) = (http.clone(), url.clone(), token.clone());
        async move {
            let answer = http
                .post(format!("{url}/scim/v2/postroom/Users"))
                .bearer_auth(token)
                .json(&user(n))
                .send()
                .await?;
            ensure!(answer.status() == 201, "{}", answer.text().await?);
            Ok(())
        }
    })
    .await?;
    let floor_find = measure_bare_look_ups(users, &url, &http).await?;
    // The service keeps each token to a pace, which is not what is measured here.
    tide_clock::sleep(Duration::from_secs(3)).await;
    let find = pace(users, |n| {
        let (http, url, token) = (http.clone(), url.clone(), token.clone());
        async move {
            let filter = format!("userName eq \"crew{n}@skerry.example\"");
            let request = http
                .get(format!("{url}/scim/v2/postroom/Users"))
                .query(&[("filter", filter)])
                .bearer_auth(token);
            let answer: Value = request.send().await?.json().await?;
            ensure!(answer["totalResults"] == 1, "{answer}");
            Ok(())
        }
    })
    .await?;
    println!("  creations, bare handler       {floor_make:>8.0} a second");
    println!(
        "  creations, SCIM provider      {make:>8.0} a second   {:.2} of the bare handler",
        make / floor_make
    );
    println!("  look-ups, bare handler        {floor_find:>8.0} a second");
    println!(
        "  filtered reads, SCIM provider {find:>8.0} a second   {:.2} of the bare handler",
        find / floor_find
    );
    std::fs::remove_dir_all(folder)?;
    Ok(())
}

/// Creations per second of the bare handler.
async fn measure_bare_creations(
    users: usize,
    url: &str,
    http: &reqwest::Client,
) -> anyhow::Result<f64> {
    let floor_make = pace(users, |n| {
        let (http, url) = (http.clone(), url.to_owned());
        async move {
            let answer: Value = http
                .post(format!("{url}/bare"))
                .json(&user(n))
                .send()
                .await?
                .json()
                .await?;
            ensure!(answer["made"] == true, "the bare handler failed");
            Ok(())
        }
    })
    .await?;
    Ok(floor_make)
}

/// Look-ups per second of the bare handler.
async fn measure_bare_look_ups(
    users: usize,
    url: &str,
    http: &reqwest::Client,
) -> anyhow::Result<f64> {
    let floor_find = pace(users, |n| {
        let (http, url) = (http.clone(), url.to_owned());
        async move {
            let answer: Value = http
                .get(format!("{url}/bare/crew{n}@skerry.example"))
                .send()
                .await?
                .json()
                .await?;
            ensure!(answer["userName"].is_string(), "the bare handler failed");
            Ok(())
        }
    })
    .await?;
    Ok(floor_find)
}
