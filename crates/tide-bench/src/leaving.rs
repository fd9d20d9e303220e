//! How long leavers keep their access: from the source's change to the last confirmation of three
//! systems.

use crate::runs::{Bench, CREWHALL, ldap, manner, quantile, until};
use anyhow::{Context, ensure};
use jiff::Timestamp;
use ldap3::Mod;
use serde_json::json;
use std::collections::{HashMap, HashSet};
use std::time::Duration;

use tide_core::ObjectType;
use tide_core::rules::RuleFile;
use tide_core::states::{SystemKind, WatcherState};
use tide_engine::{NewSystem, Plan, Schedule, SystemUpdate};
use tide_standins::scim_service::ScimService;
use tide_standins::slapd::{Setup, Slapd};
use tide_standins::world::{self, BASE};

/// How many leave in a second.
const PACE: u32 = 10;

const STEPS: &str = "\n[[person.departure]]\nstep = \"disable\"\n[[person.departure]]\nstep = \"randomize_password\"\n";

fn files() -> Vec<RuleFile> {
    let mut files: Vec<RuleFile> = world::rules_of_people()
        .into_iter()
        .map(|(name, text)| RuleFile {
            name: name.into(),
            text,
        })
        .collect();
    files.retain(|file| file.name != "guards.toml");
    let berthing = files
        .iter()
        .find(|file| file.name == "berthing.toml")
        .map(|file| file.text.clone())
        .unwrap_or_default();
    let moorings = berthing.replace("system = \"berthing\"", "system = \"moorings\"");
    files.push(RuleFile {
        name: "moorings.toml".into(),
        text: moorings,
    });
    files.push(RuleFile {
        name: "crewhall.toml".into(),
        text: format!("{CREWHALL}{STEPS}"),
    });
    files
}

/// Measures it over so many people, so many of whom leave.
pub async fn run(people: usize, leave: usize) -> anyhow::Result<()> {
    println!(
        "{leave} leavers of {people} people, {PACE} a second, from one slapd to another and to two SCIM stand-ins:"
    );
    let bench = Bench::start(people).await?;
    let setup = Setup {
        durable: true,
        ..Setup::default()
    };
    let (hall, moorings) = connect_targets(&bench, setup).await?;
    let (_, faults) = bench
        .engine
        .administration()
        .publish_rules(&files(), "bench")
        .await?;
    ensure!(
        faults
            .iter()
            .all(|fault| fault.severity == tide_core::rules::FaultSeverity::Warning),
        "{faults:?}"
    );
    for _ in 0..2 {
        bench
            .go(Plan {
                carry_out: true,
                ..Plan::default()
            })
            .await?;
    }
    let sound = bench.sound();
    let mut names: Vec<&String> = sound.keys().collect();
    names.sort();
    ensure!(
        names.len() >= 2 * leave + 2,
        "{} people are too few",
        names.len()
    );

    // The floor: the same writes at once, by a program that knows them beforehand.
    let mut admin = ldap(&hall).await?;
    let http = reqwest::Client::builder()
        .tls_backend_rustls()
        .no_proxy()
        .build()?;
    let ids = |service: &ScimService| -> HashMap<String, String> {
        let id = |user: &serde_json::Value| {
            Some((
                user["userName"].as_str()?.to_lowercase(),
                user["id"].as_str()?.to_owned(),
            ))
        };
        service.users().iter().filter_map(id).collect()
    };
    let (first, second) = (ids(&bench.berthing), ids(&moorings));
    let close = json!({"schemas": ["urn:ietf:params:scim:api:messages:2.0:PatchOp"], "Operations": [{"op": "replace", "path": "active", "value": false}]});
    let mut floor = Vec::new();
    let last: Vec<&&String> = names.iter().rev().take(leave).collect();
    for name in last {
        let lock = vec![Mod::Replace(
            "pwdAccountLockedTime".to_owned(),
            HashSet::from(["000001010000Z".to_owned()]),
        )];
        let patch = |service: &ScimService, id: &str| {
            let request = http
                .patch(format!("{}/Users/{id}", service.url))
                .bearer_auth("bench-token");
            request
                .header("content-type", "application/scim+json")
                .body(close.to_string())
                .send()
        };
        let dn = sound[*name].dn();
        let begun = tide_clock::instant();
        let (locked, one, two) = tokio::join!(
            admin.modify(&dn, lock),
            patch(&bench.berthing, first.get(*name).context("no account")?),
            patch(&moorings, second.get(*name).context("no account")?)
        );
        locked?.success()?;
        ensure!(
            one?.status().is_success() && two?.status().is_success(),
            "refused"
        );
        floor.push(begun.elapsed());
    }

    watch_source(&bench).await?;
    let mut source = ldap(&bench.harbour).await?;
    source.delete(&sound[names[0]].dn()).await?.success()?;
    tide_clock::sleep(Duration::from_secs(5)).await;
    let mut left: HashMap<String, Timestamp> = HashMap::new();
    let mut ticks = tokio::time::interval(Duration::from_secs(1) / PACE);
    for name in names.iter().skip(1).take(leave) {
        ticks.tick().await;
        source.delete(&sound[*name].dn()).await?.success()?;
        left.insert(sound[*name].number.clone(), tide_clock::now());
    }
    let mut times = confirmed_times(leave, &bench, left).await?;
    println!(
        "  three bare writes at once   {:>8.1} ms median, {:.1} ms at worst",
        quantile(&mut floor, 0.5),
        quantile(&mut floor, 1.0)
    );
    let (median, worst) = (quantile(&mut times, 0.5), quantile(&mut times, 1.0));
    println!(
        "  ours, with the password     {median:>8.1} ms median, {worst:.1} ms at worst; {:.1} times the bare writes",
        median / quantile(&mut floor, 0.5)
    );
    bench.engine.stop().await;
    Ok(())
}

/// Connects a directory and a second service as targets.
async fn connect_targets(bench: &Bench, setup: Setup) -> anyhow::Result<(Slapd, ScimService)> {
    let hall = tokio::task::spawn_blocking(move || {
        Slapd::with_setup(&world::directory(&[], "bench"), &setup)
    })
    .await??;
    let moorings = ScimService::with_manner(Vec::new(), "bench-token", manner()).await?;
    let hall_settings =
        json!({"url": hall.url, "bind_dn": hall.admin_dn, "base_dn": BASE, "page_size": 500});
    for (name, kind, settings, secret) in [
        (
            "crewhall",
            SystemKind::Ldap,
            hall_settings,
            hall.admin_password.as_str(),
        ),
        (
            "moorings",
            SystemKind::Scim,
            json!({"url": moorings.url, "in_flight": crate::AT_A_TIME}),
            "bench-token",
        ),
    ] {
        let new = NewSystem {
            name: name.into(),
            kind,
            settings,
            secret: Some(secret.into()),
        };
        bench
            .engine
            .administration()
            .add_system(new, "bench")
            .await?;
        ensure!(
            bench
                .engine
                .administration()
                .check_system(name, None)
                .await?
                .is_healthy(),
            "{name} is not well"
        );
        let change = SystemUpdate {
            writable: Some(vec![ObjectType::Person]),
            armed: Some(true),
            ..SystemUpdate::default()
        };
        bench
            .engine
            .administration()
            .set_system(name, change, "bench")
            .await?;
    }
    Ok((hall, moorings))
}

/// Watches the source directory and waits until it is watched.
async fn watch_source(bench: &Bench) -> anyhow::Result<()> {
    bench
        .engine
        .administration()
        .set_schedule(
            "harbour",
            &Schedule {
                watch: true,
                ..Schedule::default()
            },
            "bench",
        )
        .await?;
    bench.engine.start_automatic_sync();
    until("listening", 120, || {
        bench
            .engine
            .ingest()
            .watchers()
            .iter()
            .any(|one| one.state == WatcherState::Watching)
    })
    .await?;
    Ok(())
}

/// How long it took until each leaver was confirmed as closed everywhere.
async fn confirmed_times(
    leave: usize,
    bench: &Bench,
    left: HashMap<String, Timestamp>,
) -> anyhow::Result<Vec<Duration>> {
    let mut times = Vec::new();
    let number = |identity: &tide_core::Identity| {
        identity
            .attributes
            .get("employeeNumber")
            .first()
            .map(ToString::to_string)
    };
    let all = bench.engine.store().load_population().await?.identities;
    let numbers: HashMap<String, String> = all
        .iter()
        .filter_map(|one| Some((one.id.clone(), number(one)?)))
        .collect();
    let mut late = Vec::new();
    for _ in 0..15 {
        times.clear();
        late.clear();
        for one in bench.engine.views().list_leavers(false).await? {
            let number = numbers.get(&one.row.identity).cloned().unwrap_or_default();
            let (Some(at), Some(confirmed)) = (left.get(&number), one.row.confirmed) else {
                continue;
            };
            // Locked and scrambled there, and disabled in two more.
            if one.open.is_empty() && one.row.done >= 4 {
                times.push(Duration::try_from(confirmed.duration_since(*at)).unwrap_or_default());
            } else {
                late.push(one);
            }
        }
        if times.len() == leave {
            break;
        }
        tide_clock::sleep(Duration::from_secs(1)).await;
    }
    ensure!(
        times.len() == leave,
        "{} of {leave} are closed, and not {:?}",
        times.len(),
        late.first()
    );
    Ok(times)
}
