//! Connected systems.

use crate::Service;
use crate::access::Caller;
use crate::convert;
use crate::problem::{Body, Path, Query, Refusal};
use axum::body::Body as RawBody;
use axum::extract::State;
use axum::http::StatusCode;
use axum::http::{HeaderMap, header};
use axum::response::{IntoResponse, Response};
use axum::{Extension, Json};
use futures::StreamExt;
use tide_api::{
    Account, AddedSystem, Branch, BranchQuery, BrowseNew, CheckReport, CheckStep, Fact,
    FullReadView, ListQuery, NewSecret, NewSettings, NewSystem, Page, Permission, Problem,
    ReadResult, RemoveQuery, Retirement, Schedule, SchemaAttribute, System, SystemState,
    WrittenRules,
};
use tide_core::states::{SystemKind, SystemRole};
use tide_core::{ObjectType, RuleSet};
use tide_engine::EngineError;
use tide_store::SystemRow;
use tokio::sync::mpsc;
use tokio_stream::wrappers::UnboundedReceiverStream;

/// The steps of a stored report; none if it has another format.
fn steps(stored: Option<&serde_json::Value>) -> Vec<CheckStep> {
    let stored: Vec<tide_connect::CheckStep> = stored
        .and_then(|steps| serde_json::from_value(steps.clone()).ok())
        .unwrap_or_default();
    stored.into_iter().map(step).collect()
}

fn step(step: tide_connect::CheckStep) -> CheckStep {
    let tide_connect::CheckStep {
        kind,
        name,
        state,
        message,
        remedy,
        code,
    } = step;
    CheckStep {
        kind,
        name,
        state,
        message,
        remedy,
        code,
    }
}

pub(super) async fn all_systems(service: &Service) -> Result<Vec<System>, Refusal> {
    let store = service.engine.store();
    let counts = store.account_counts().await?;
    let readings = store.last_readings().await?;
    let rules = service
        .engine
        .rules()
        .checked_rules()
        .await?
        .unwrap_or_default();
    let known = service.engine.overview().list_freshness().await?;
    let known = |name: &str| {
        known
            .iter()
            .filter(|one| one.system == name)
            .map(convert::known)
            .collect()
    };
    let all = store.list_systems().await?.into_iter();
    Ok(all
        .map(|row| System {
            freshness: known(&row.name),
            ..system(&service.engine, row, &counts, &readings, &rules.set)
        })
        .collect())
}

fn system(
    engine: &tide_engine::Engine,
    row: SystemRow,
    counts: &[(String, i64, i64)],
    readings: &[tide_store::Reading],
    rules: &RuleSet,
) -> System {
    let mut steps = steps(row.checked.as_ref());
    for step in &mut steps {
        step.remedy = step
            .remedy
            .take()
            .map(|remedy| remedy.replace(" NAME", &format!(" {}", row.name)));
    }
    let health = engine.overview().health(&row, readings);
    let (accounts, linked) = counts
        .iter()
        .find(|(name, _, _)| *name == row.name)
        .map_or((0, 0), |(_, all, linked)| (*all, *linked));
    let roles = roles_of(&row, rules);
    let schedule = tide_engine::Schedule::read(&row.schedule);
    let now = engine.now();
    System {
        freshness: Vec::new(),
        blackout_until: schedule.quiet_at(now).map(|(until, words)| {
            format!("{words}, until {}", until.strftime("%Y-%m-%d %H:%M UTC"))
        }),
        next_blackout: schedule.next_quiet(now).map(|at| at.to_string()),
        schedule: convert::schedule(&schedule),
        watchers: engine
            .ingest()
            .watchers()
            .into_iter()
            .filter(|one| one.system == row.name)
            .map(convert::following)
            .collect(),
        address: match row.kind {
            SystemKind::Push => format!("/scim/v2/{}", row.name),
            _ => ["url", "path"]
                .iter()
                .find_map(|key| row.settings[*key].as_str())
                .unwrap_or_default()
                .to_owned(),
        },
        all_settings: tide_connect::Settings::read(row.kind, &row.settings)
            .map_or_else(|_| row.settings.clone(), |all| all.to_json()),
        settings: row.settings,
        writable: row.writable.clone(),
        paused: row.paused,
        armed: row.armed,
        host: engine.overview().host_in_use(&row.name),
        profile: row
            .profile
            .into_iter()
            .map(|(label, text)| Fact { label, text })
            .collect(),
        health: convert::health(&health),
        health_reason: health.reason().map(str::to_owned),
        checked_at: row.checked_at,
        steps,
        accounts,
        linked,
        full_reads: readings
            .iter()
            .filter(|reading| reading.system == row.name)
            .map(|r| FullReadView {
                object: r.object,
                state: r.state,
                object_count: r.seen,
                started_at: r.started_at.clone(),
                ended_at: r.ended_at.clone(),
                error: r.error.clone(),
                quarantined: r.quarantined,
            })
            .collect(),
        roles,
        name: row.name,
        kind: row.kind,
    }
}

/// Whether the rules use a system as source and target.
fn roles_of(row: &SystemRow, rules: &RuleSet) -> Vec<SystemRole> {
    let types: Vec<_> = rules
        .systems
        .get(&row.name)
        .into_iter()
        .flat_map(|system| system.types.values())
        .collect();
    let mut roles = Vec::new();
    if types.iter().any(|types| types.is_source()) {
        roles.push(SystemRole::Source);
    }
    if types.iter().any(|types| types.is_target()) {
        roles.push(SystemRole::Target);
    }
    roles
}

async fn one(service: &Service, name: &str) -> Result<System, Refusal> {
    service.engine.store().find_system(name).await?;
    let found = all_systems(service)
        .await?
        .into_iter()
        .find(|system| system.name == name);
    found.ok_or_else(|| {
        Refusal::new(
            StatusCode::NOT_FOUND,
            "not-found",
            format!("there is no system `{name}`"),
        )
    })
}

fn report(report: tide_connect::CheckReport) -> CheckReport {
    CheckReport {
        healthy: report.is_healthy(),
        steps: report.steps.into_iter().map(step).collect(),
    }
}

/// Lists all systems.
#[utoipa::path(get, path = "/api/v1/systems", tag = "systems", responses((status = 200, body = Vec<System>)))]
pub async fn list_systems(State(service): State<Service>) -> Result<Json<Vec<System>>, Refusal> {
    Ok(Json(all_systems(&service).await?))
}

/// Adds a system. It is read-only until operators make it writable.
#[utoipa::path(post, path = "/api/v1/systems", tag = "systems", request_body = NewSystem,
    responses((status = 201, body = AddedSystem), (status = 409, body = Problem, content_type = "application/problem+json")))]
pub async fn add_system(
    State(service): State<Service>,
    Extension(caller): Extension<Caller>,
    Body(new): Body<NewSystem>,
) -> Result<(StatusCode, Json<AddedSystem>), Refusal> {
    let name = new.name.clone();
    let first = new.first.map(super::scope::purpose_and_scope);
    let new = tide_engine::NewSystem {
        name: new.name,
        kind: new.kind,
        settings: new.settings,
        secret: new.secret,
    };
    let written = service
        .engine
        .administration()
        .connect_system(new, first, &caller.principal.id)
        .await?;
    let rules = written.map(|(draft, file)| WrittenRules {
        draft,
        file: tide_api::RuleFile {
            name: file.name,
            text: file.text,
        },
    });
    Ok((
        StatusCode::CREATED,
        Json(AddedSystem {
            system: one(&service, &name).await?,
            rules,
        }),
    ))
}

/// Whether the caller wants each step as it is performed.
fn wants_steps(headers: &HeaderMap) -> bool {
    headers
        .get(header::ACCEPT)
        .and_then(|v| v.to_str().ok())
        .is_some_and(|accept| accept.contains("application/x-ndjson"))
}

/// Tests a system. A client that accepts `application/x-ndjson` receives one line for each
/// completed step, and a last line with the report or the problem.
async fn run_check<F>(
    headers: &HeaderMap,
    test: impl FnOnce(Option<mpsc::UnboundedSender<tide_connect::CheckStep>>) -> F,
) -> Result<Response, Refusal>
where
    F: Future<Output = Result<tide_connect::CheckReport, EngineError>> + Send + 'static,
{
    if !wants_steps(headers) {
        return Ok(Json(report(test(None).await?)).into_response());
    }
    let (told, steps) = mpsc::unbounded_channel::<tide_connect::CheckStep>();
    let work = test(Some(told));
    let (lines, out) = mpsc::unbounded_channel::<String>();
    tokio::spawn(async move {
        let mut steps = UnboundedReceiverStream::new(steps);
        let mut work = std::pin::pin!(work);
        // A line that cannot be sent has lost its reader; the test ends on its own.
        let send = |value: serde_json::Value| drop(lines.send(format!("{value}\n")));
        let ended = loop {
            tokio::select! {
                biased;
                Some(next) = steps.next() => send(serde_json::json!({"step": step(next)})),
                ended = &mut work => break ended,
            }
        };
        while let Ok(Some(next)) =
            tokio::time::timeout(std::time::Duration::from_millis(1), steps.next()).await
        {
            send(serde_json::json!({"step": step(next)}));
        }
        match ended {
            Ok(done) => send(serde_json::json!({"report": report(done)})),
            Err(error) => send(serde_json::json!({"problem": *Refusal::from(error).0})),
        }
    });
    let body = RawBody::from_stream(
        UnboundedReceiverStream::new(out).map(Ok::<_, std::convert::Infallible>),
    );
    Ok(([(header::CONTENT_TYPE, "application/x-ndjson")], body).into_response())
}

/// Tests a system before it is added. Stores nothing.
#[utoipa::path(post, path = "/api/v1/systems/test", tag = "systems", request_body = NewSystem, responses((status = 200, body = CheckReport)))]
pub async fn check_new_system(
    State(service): State<Service>,
    headers: HeaderMap,
    Body(new): Body<NewSystem>,
) -> Result<Response, Refusal> {
    let engine = service.engine.clone();
    run_check(&headers, |watcher| async move {
        engine
            .administration()
            .check_unsaved(new.kind, &new.settings, new.secret.as_deref(), watcher)
            .await
    })
    .await
}

/// Lists the containers of a system before it is added.
#[utoipa::path(post, path = "/api/v1/systems/browse", tag = "systems", request_body = BrowseNew, responses((status = 200, body = Vec<Branch>)))]
pub async fn browse_new_system(
    State(service): State<Service>,
    Body(new): Body<BrowseNew>,
) -> Result<Json<Vec<Branch>>, Refusal> {
    let system = new.system;
    let found = service
        .engine
        .administration()
        .browse_unsaved(
            system.kind,
            &system.settings,
            system.secret.as_deref(),
            new.below.as_deref(),
        )
        .await?;
    Ok(Json(found.into_iter().map(branch).collect()))
}

fn branch(branch: tide_connect::DirectoryNode) -> Branch {
    Branch {
        dn: branch.dn,
        leaf: branch.leaf,
        people: branch.people,
        is_truncated: branch.more,
    }
}

/// Lists the containers directly below one, with the number of persons in each.
#[utoipa::path(get, path = "/api/v1/systems/{name}/tree", tag = "systems", params(("name" = String, Path), BranchQuery), responses((status = 200, body = Vec<Branch>)))]
pub async fn browse_system(
    State(service): State<Service>,
    Path(name): Path<String>,
    Query(query): Query<BranchQuery>,
) -> Result<Json<Vec<Branch>>, Refusal> {
    let below = query.below.as_deref().filter(|below| !below.is_empty());
    Ok(Json(
        service
            .engine
            .administration()
            .list_containers(&name, below)
            .await?
            .into_iter()
            .map(branch)
            .collect(),
    ))
}

/// Lists the permissions that the service account needs under the published rules.
#[utoipa::path(get, path = "/api/v1/systems/{name}/permissions", tag = "systems", params(("name" = String, Path)), responses((status = 200, body = Vec<Permission>)))]
pub async fn list_permissions(
    State(service): State<Service>,
    Path(name): Path<String>,
) -> Result<Json<Vec<Permission>>, Refusal> {
    let permissions = service
        .engine
        .administration()
        .required_permissions(&name)
        .await?;
    Ok(Json(permissions.into_iter().map(Into::into).collect()))
}

/// Replaces a system's settings.
#[utoipa::path(put, path = "/api/v1/systems/{name}/settings", tag = "systems", params(("name" = String, Path)), request_body = NewSettings,
    responses((status = 200, body = System), (status = 400, body = Problem, content_type = "application/problem+json")))]
pub async fn set_settings(
    State(service): State<Service>,
    Extension(caller): Extension<Caller>,
    Path(name): Path<String>,
    Body(new): Body<NewSettings>,
) -> Result<Json<System>, Refusal> {
    service
        .engine
        .administration()
        .set_settings(
            &name,
            new.settings,
            new.secret.as_deref(),
            &caller.principal.id,
        )
        .await?;
    Ok(Json(one(&service, &name).await?))
}

/// Sets the sync schedule of a system. It applies once the system is armed.
#[utoipa::path(put, path = "/api/v1/systems/{name}/schedule", tag = "systems", params(("name" = String, Path)), request_body = Schedule,
    responses((status = 200, body = System), (status = 400, body = Problem, content_type = "application/problem+json")))]
pub async fn set_schedule(
    State(service): State<Service>,
    Extension(caller): Extension<Caller>,
    Path(name): Path<String>,
    Body(new): Body<Schedule>,
) -> Result<Json<System>, Refusal> {
    let quiet = new
        .write_blackouts
        .into_iter()
        .map(|w| tide_engine::Blackout {
            days: w.days,
            from: w.from,
            to: w.to,
            zone: w.zone,
        })
        .collect();
    let schedule = tide_engine::Schedule {
        watch: new.watch,
        mode: new.mode,
        poll_seconds: new.poll_seconds,
        full_read_seconds: new.full_read_seconds,
        write_blackouts: quiet,
    };
    service
        .engine
        .administration()
        .set_schedule(&name, &schedule, &caller.principal.id)
        .await?;
    Ok(Json(one(&service, &name).await?))
}

/// Removes a system without linked accounts.
#[utoipa::path(delete, path = "/api/v1/systems/{name}", tag = "systems", params(("name" = String, Path), RemoveQuery),
    responses((status = 204), (status = 400, body = Problem, content_type = "application/problem+json")))]
pub async fn remove_system(
    State(service): State<Service>,
    Extension(caller): Extension<Caller>,
    Path(name): Path<String>,
    Query(query): Query<RemoveQuery>,
) -> Result<StatusCode, Refusal> {
    service
        .engine
        .administration()
        .remove_system(&name, query.retire, &caller.principal.id)
        .await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Returns the impact of retiring a system: on its records, the rules, and all other records.
/// Stores and sends nothing.
#[utoipa::path(get, path = "/api/v1/systems/{name}/retirement", tag = "systems", params(("name" = String, Path)), responses((status = 200, body = Retirement)))]
pub async fn show_retirement(
    State(service): State<Service>,
    Path(name): Path<String>,
) -> Result<Json<Retirement>, Refusal> {
    let found = service
        .engine
        .administration()
        .retirement_impact(&name)
        .await?;
    let effect = tide_api::ImpactView::from(found.effect);
    Ok(Json(Retirement {
        accounts: found.accounts,
        linked: found.linked,
        file: found.file,
        impact: effect,
    }))
}

/// Returns a system.
#[utoipa::path(get, path = "/api/v1/systems/{name}", tag = "systems", params(("name" = String, Path)), responses((status = 200, body = System)))]
pub async fn show_system(
    State(service): State<Service>,
    Path(name): Path<String>,
) -> Result<Json<System>, Refusal> {
    Ok(Json(one(&service, &name).await?))
}

/// Sets a system to writable or read-only, arms or disarms it, pauses or resumes it.
#[utoipa::path(patch, path = "/api/v1/systems/{name}", tag = "systems", params(("name" = String, Path)), request_body = SystemState, responses((status = 200, body = System)))]
pub async fn set_system(
    State(service): State<Service>,
    Extension(caller): Extension<Caller>,
    Path(name): Path<String>,
    Body(state): Body<SystemState>,
) -> Result<Json<System>, Refusal> {
    let change = tide_engine::SystemUpdate {
        writable: state.writable,
        paused: state.paused,
        armed: state.armed,
    };
    service
        .engine
        .administration()
        .set_system(&name, change, &caller.principal.id)
        .await?;
    Ok(Json(one(&service, &name).await?))
}

/// Replaces a system's secret. It is sealed and never shown again.
#[utoipa::path(put, path = "/api/v1/systems/{name}/secret", tag = "systems", params(("name" = String, Path)), request_body = NewSecret, responses((status = 204)))]
pub async fn set_secret(
    State(service): State<Service>,
    Extension(caller): Extension<Caller>,
    Path(name): Path<String>,
    Body(new): Body<NewSecret>,
) -> Result<StatusCode, Refusal> {
    service
        .engine
        .administration()
        .set_secret(&name, &new.secret, new.force, &caller.principal.id)
        .await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Tests a system step by step.
#[utoipa::path(post, path = "/api/v1/systems/{name}/test", tag = "systems", params(("name" = String, Path)), responses((status = 200, body = CheckReport)))]
pub async fn check_system(
    State(service): State<Service>,
    headers: HeaderMap,
    Path(name): Path<String>,
) -> Result<Response, Refusal> {
    let engine = service.engine.clone();
    engine.store().find_system(&name).await?;
    run_check(&headers, |watcher| async move {
        engine.administration().check_system(&name, watcher).await
    })
    .await
}

/// Reads a system now.
#[utoipa::path(post, path = "/api/v1/systems/{name}/read", tag = "systems", params(("name" = String, Path)), responses((status = 200, body = Vec<ReadResult>)))]
pub async fn read_system(
    State(service): State<Service>,
    Path(name): Path<String>,
) -> Result<Json<Vec<ReadResult>>, Refusal> {
    let reads = service.engine.ingest().read_by_name(&name).await?;
    Ok(Json(
        reads
            .into_iter()
            .map(|read| ReadResult {
                object: read.object,
                object_count: read.seen as i64,
                absent: read.absent as i64,
                quarantined: read.quarantined as i64,
                unchanged: read.unchanged,
                error: read.error.as_ref().map(|error| error.message.clone()),
                remedy: read.error.as_ref().map(|error| error.remedy.clone()),
            })
            .collect(),
    ))
}

/// Lists the accounts of a system by name.
#[utoipa::path(get, path = "/api/v1/systems/{name}/accounts", tag = "systems", params(("name" = String, Path), ListQuery), responses((status = 200, body = Page<Account>)))]
pub async fn list_accounts(
    State(service): State<Service>,
    Path(name): Path<String>,
    Query(query): Query<ListQuery>,
) -> Result<Json<Page<Account>>, Refusal> {
    let limit = super::changes::limit(&query);
    service.engine.store().find_system(&name).await?;
    let place = |after: &'_ str| {
        after
            .split_once(' ')
            .and_then(|(id, name)| Some((name.to_owned(), id.parse().ok()?)))
    };
    let after = match query.after.as_deref().filter(|after| !after.is_empty()) {
        Some(after) => Some(place(after).ok_or_else(|| {
            Refusal::invalid("`after` is not a cursor that a page returned as `next`")
        })?),
        None => None,
    };
    let after = after
        .as_ref()
        .map(|(name, id): &(String, i64)| (name.as_str(), *id));
    let rows = service
        .engine
        .store()
        .list_accounts(
            &name,
            query.search.as_deref().unwrap_or_default(),
            after,
            limit,
        )
        .await?;
    let next = (rows.len() as i64 == limit)
        .then(|| {
            rows.last()
                .map(|row| format!("{} {}", row.account.id, row.account.name))
        })
        .flatten();
    Ok(Json(Page {
        items: rows.into_iter().map(convert::account).collect(),
        next,
    }))
}

/// Lists the attributes of a system, as of its last test.
#[utoipa::path(get, path = "/api/v1/systems/{name}/schema", tag = "systems", params(("name" = String, Path)), responses((status = 200, body = Vec<SchemaAttribute>)))]
pub async fn show_schema(
    State(service): State<Service>,
    Path(name): Path<String>,
) -> Result<Json<Vec<SchemaAttribute>>, Refusal> {
    let row = service.engine.store().find_system(&name).await?;
    let schema = row
        .schema
        .get(&ObjectType::Person)
        .cloned()
        .unwrap_or_default();
    Ok(Json(
        schema
            .attributes
            .into_values()
            .map(|def| SchemaAttribute {
                kind: def.kind,
                name: def.name,
                multi_valued: def.multi_valued,
                required: def.required,
                writable: def.writable,
            })
            .collect(),
    ))
}
