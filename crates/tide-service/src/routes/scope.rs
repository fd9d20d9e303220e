//! The scope of a system, and simulations of edits.

use crate::Service;
use crate::access::Caller;
use crate::export;
use crate::problem::{Body, Path, Query, Refusal};
use axum::extract::State;
use axum::response::Response;
use axum::{Extension, Json};
use tide_api::{
    FirstRules, Problem, Scope, ScopeContainer, ScopeCount, ScopeGroup, ScopeLine, ScopeQuery,
    ScopeShift, ScopeSimulationView, ScopeStatusCount, ScopeView, WrittenRules,
};
use tide_core::ObjectType;
use tide_core::rules::edit::{ConditionEdit, ContainerEdit, GroupEdit, ScopeEdit};
use tide_core::states::{ScopeStatus, SystemRole};
use tide_store::{OutcomeFilter, OutcomePosition, OutcomeStatus};

/// The default number of people.
const SHOWN: usize = 200;
/// The most people of a page.
pub(super) const MOST: usize = 5_000;

/// The type that a request names; persons, if it names none.
pub(super) fn object(object: Option<ObjectType>) -> ObjectType {
    object.unwrap_or(ObjectType::Person)
}

fn to_edit(scope: Scope) -> ScopeEdit {
    let text = |text: String| text.trim().to_owned();
    let containers = |all: Vec<ScopeContainer>| {
        all.into_iter()
            .map(|c| ContainerEdit {
                dn: text(c.dn),
                one_level: c.one_level,
            })
            .collect()
    };
    let groups = |all: Vec<ScopeGroup>| {
        all.into_iter()
            .map(|g| GroupEdit {
                name: text(g.name),
                system: g.system.map(text).filter(|s| !s.is_empty()),
                nested: g.nested,
            })
            .collect()
    };
    ScopeEdit {
        within: containers(scope.within),
        except: containers(scope.except),
        groups: groups(scope.groups),
        not_groups: groups(scope.not_groups),
        filter: scope.filter.map(text).filter(|filter| !filter.is_empty()),
        conditions: scope
            .conditions
            .into_iter()
            .map(|c| ConditionEdit {
                when: text(c.when),
                otherwise: c.reason.map(text).filter(|t| !t.is_empty()),
            })
            .collect(),
    }
}

fn from_edit(edit: ScopeEdit) -> Scope {
    let containers = |all: Vec<ContainerEdit>| {
        all.into_iter()
            .map(|c| ScopeContainer {
                dn: c.dn,
                one_level: c.one_level,
            })
            .collect()
    };
    let groups = |all: Vec<GroupEdit>| {
        all.into_iter()
            .map(|g| ScopeGroup {
                name: g.name,
                system: g.system,
                nested: g.nested,
            })
            .collect()
    };
    Scope {
        within: containers(edit.within),
        except: containers(edit.except),
        groups: groups(edit.groups),
        not_groups: groups(edit.not_groups),
        filter: edit.filter,
        conditions: edit
            .conditions
            .into_iter()
            .map(|c| tide_api::ScopeCondition {
                when: c.when,
                reason: c.otherwise,
            })
            .collect(),
    }
}

fn counts(all: Vec<tide_engine::ScopeCount>) -> (Vec<ScopeStatusCount>, Vec<ScopeCount>) {
    let total = |status: ScopeStatus| {
        all.iter()
            .filter(|count| count.status == status)
            .map(|count| count.count as i64)
            .sum()
    };
    let totals = ScopeStatus::ALL
        .iter()
        .map(|status| ScopeStatusCount {
            status: *status,
            count: total(*status),
        })
        .collect();
    let counts = all
        .into_iter()
        .map(|c| ScopeCount {
            status: c.status,
            code: c.code,
            reason: c.reason,
            rule: c.rule.map(|r| r.to_string()),
            count: c.count,
        })
        .collect();
    (totals, counts)
}

fn line(line: tide_engine::ScopeLine) -> ScopeLine {
    ScopeLine {
        status: line.status,
        label: line.label,
        account: line.account,
        identity: line.identity,
        rule: line.reason.rule.as_ref().map(ToString::to_string),
        reason: line.reason.into(),
    }
}

/// The filter of a query, and its text.
fn filter(query: ScopeQuery) -> Result<(OutcomeFilter, String), Refusal> {
    let limit = query.limit.unwrap_or(SHOWN).min(MOST);
    let filter = OutcomeFilter {
        status: query.status.map(OutcomeStatus::Scope),
        code: query.code,
        rule: query.rule,
        after: position(query.after.as_deref())?,
        limit: i64::try_from(limit).unwrap_or(i64::MAX),
        ..OutcomeFilter::default()
    };
    Ok((filter, query.search.unwrap_or_default()))
}

/// Where a page of kept outcomes begins.
pub(super) fn position(after: Option<&str>) -> Result<Option<OutcomePosition>, Refusal> {
    let Some(after) = after.filter(|after| !after.is_empty()) else {
        return Ok(None);
    };
    let position = OutcomePosition::parse(after);
    let fault = || Refusal::invalid(format!("`{after}` is not a cursor of this list"));
    position.map(Some).ok_or_else(fault)
}

/// Returns who is in scope, out of scope and on hold for a system, by reason, with the people
/// behind it.
#[utoipa::path(get, path = "/api/v1/systems/{name}/scope", tag = "scope", params(("name" = String, Path), ScopeQuery), responses((status = 200, body = ScopeView)))]
pub async fn show_scope(
    State(service): State<Service>,
    Path(name): Path<String>,
    Query(query): Query<ScopeQuery>,
) -> Result<Json<ScopeView>, Refusal> {
    let kind = object(query.object);
    let (filter, search) = filter(query)?;
    let view = service
        .engine
        .views()
        .show_scope(&name, kind, &filter, &search)
        .await?;
    let (totals, counts) = counts(view.counts);
    let lines = view.lines.into_iter().map(line).collect();
    Ok(Json(ScopeView {
        scope: from_edit(view.edit),
        file: view.file,
        totals,
        counts,
        lines,
        next: view.next.map(|next| next.to_string()),
        found: view.found,
    }))
}

/// The same people as CSV, all of them.
#[utoipa::path(get, path = "/api/v1/systems/{name}/scope.csv", tag = "scope", params(("name" = String, Path), ScopeQuery), responses((status = 200, body = String, content_type = "text/csv")))]
pub async fn export_scope(
    State(service): State<Service>,
    Path(name): Path<String>,
    Query(query): Query<ScopeQuery>,
) -> Result<Response, Refusal> {
    let kind = object(query.object);
    let (filter, search) = filter(query)?;
    let views = service.engine.views().clone();
    let filter = views.scope_filter(&name, kind, &filter, &search).await?;
    let filter = OutcomeFilter {
        limit: export::PAGE,
        ..filter
    };
    let file = format!("{name}-scope.csv");
    let rows = export::pages(filter.after.clone(), move |after| {
        let (views, name) = (views.clone(), name.clone());
        let filter = OutcomeFilter {
            after,
            ..filter.clone()
        };
        async move {
            let (lines, next) = views.scope_page(&name, kind, &filter).await?;
            let rows = lines.into_iter().map(export_row).collect();
            Ok((rows, next.map(Some)))
        }
    });
    let header = ["person", "status", "reason", "account", "rule"];
    Ok(export::csv_download(&file, &header, rows))
}

fn export_row(line: tide_engine::ScopeLine) -> Vec<String> {
    let rule = line.reason.rule.as_ref().map(ToString::to_string);
    vec![
        line.label,
        line.status.as_str().to_owned(),
        line.reason.to_string(),
        line.account.unwrap_or_default(),
        rule.unwrap_or_default(),
    ]
}

/// Simulates an edited scope: whose status would change. Stores nothing. An unknown group is
/// refused.
#[utoipa::path(post, path = "/api/v1/systems/{name}/scope/simulate", tag = "scope", params(("name" = String, Path)), request_body = Scope,
    responses((status = 200, body = ScopeSimulationView), (status = 422, body = Problem, content_type = "application/problem+json")))]
pub async fn simulate_scope(
    State(service): State<Service>,
    Path(name): Path<String>,
    Body(scope): Body<Scope>,
) -> Result<Json<ScopeSimulationView>, Refusal> {
    let trial = service
        .engine
        .administration()
        .try_scope(&name, ObjectType::Person, &to_edit(scope))
        .await?;
    let (totals, counts) = counts(trial.counts);
    let moves = trial.moves.into_iter().map(|one| ScopeShift {
        from: one.from,
        to: one.to,
        count: one.lines.len(),
        lines: one.lines.into_iter().take(SHOWN).map(line).collect(),
    });
    let moves = moves.collect();
    let file = tide_api::RuleFile {
        name: trial.file.name,
        text: trial.file.text,
    };
    Ok(Json(ScopeSimulationView {
        totals,
        counts,
        moves,
        file,
    }))
}

/// Saves an edited scope as a new version of the rules. Sends nothing.
#[utoipa::path(put, path = "/api/v1/systems/{name}/scope", tag = "scope", params(("name" = String, Path)), request_body = Scope,
    responses((status = 200, body = tide_api::Published), (status = 422, body = Problem, content_type = "application/problem+json")))]
pub async fn save_scope(
    State(service): State<Service>,
    Extension(caller): Extension<Caller>,
    Path(name): Path<String>,
    Body(scope): Body<Scope>,
) -> Result<Json<tide_api::Published>, Refusal> {
    let version = service
        .engine
        .administration()
        .save_scope(
            &name,
            ObjectType::Person,
            &to_edit(scope),
            &caller.principal.id,
        )
        .await?;
    Ok(Json(tide_api::Published {
        version,
        faults: Vec::new(),
        required_reads: super::rules::to_read(&service).await?,
    }))
}

/// The purpose and population of a new system, in the engine's types.
pub(super) fn purpose_and_scope(first: FirstRules) -> (SystemRole, ScopeEdit) {
    (first.purpose, to_edit(first.scope))
}

/// Writes the first rule file of a system into a draft.
#[utoipa::path(post, path = "/api/v1/systems/{name}/rules", tag = "scope", params(("name" = String, Path)), request_body = FirstRules,
    responses((status = 201, body = WrittenRules), (status = 400, body = Problem, content_type = "application/problem+json")))]
pub async fn create_first_rules(
    State(service): State<Service>,
    Extension(caller): Extension<Caller>,
    Path(name): Path<String>,
    Body(first): Body<FirstRules>,
) -> Result<(axum::http::StatusCode, Json<WrittenRules>), Refusal> {
    let (purpose, scope) = purpose_and_scope(first);
    let (draft, file) = service
        .engine
        .administration()
        .write_first_rules(&name, purpose, &scope, &caller.principal.id)
        .await?;
    let file = tide_api::RuleFile {
        name: file.name,
        text: file.text,
    };
    Ok((
        axum::http::StatusCode::CREATED,
        Json(WrittenRules { draft, file }),
    ))
}
