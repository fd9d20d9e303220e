//! The rule set.

use crate::Service;
use crate::access::Caller;
use crate::convert;
use crate::problem::{Body, Refusal};
use axum::extract::State;
use axum::{Extension, Json};
use tide_api::{EvaluationView, NewEvaluation, Problem, Published, RuleCheck, RuleFiles, Rules};
use tide_core::rules::{FaultSeverity, RuleFile};

pub(super) fn files(given: RuleFiles) -> Result<Vec<RuleFile>, Refusal> {
    for file in &given.files {
        let plain = file.name.ends_with(".toml")
            && !file.name.starts_with('.')
            && file
                .name
                .chars()
                .all(|c| c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | '.'));
        if !plain {
            return Err(Refusal::invalid(format!(
                "`{}` is not a valid file name for rules: use letters, digits, - and _, ending with .toml",
                file.name
            )));
        }
    }
    let mut files: Vec<RuleFile> = given
        .files
        .into_iter()
        .map(|file| RuleFile {
            name: file.name,
            text: file.text,
        })
        .collect();
    files.sort_by(|a, b| a.name.cmp(&b.name));
    Ok(files)
}

/// Returns the published rule set, in words and as files.
#[utoipa::path(get, path = "/api/v1/rules", tag = "rules", responses((status = 200, body = Rules)))]
pub async fn show_rules(State(service): State<Service>) -> Result<Json<Rules>, Refusal> {
    let version = service.engine.store().load_rules().await?;
    let own: Vec<RuleFile> = version
        .as_ref()
        .map(|v| v.files.clone())
        .unwrap_or_default();
    let rules = service
        .engine
        .rules()
        .checked_rules()
        .await?
        .unwrap_or_default();
    let (set, faults) = (&rules.set, rules.faults.clone());
    let (systems, identities, guards) = crate::rule_view::rule_lines(set);
    Ok(Json(Rules {
        version: version.as_ref().map_or(0, |v| v.version),
        created_at: version.as_ref().map(|v| v.created_at.clone()),
        principal: version.map(|v| v.principal),
        files: own
            .into_iter()
            .map(|file| tide_api::RuleFile {
                name: file.name,
                text: file.text,
            })
            .collect(),
        systems,
        identities,
        guards,
        webhooks: set
            .webhooks
            .iter()
            .map(|(name, call)| crate::rule_view::call_line(name, call))
            .collect(),
        faults: faults.iter().map(Into::into).collect(),
        required_reads: to_read(&service).await?,
    }))
}

/// Lists the reads that the published rules require.
pub(super) async fn to_read(service: &Service) -> Result<Vec<tide_api::DataFreshness>, Refusal> {
    Ok(service
        .engine
        .overview()
        .unread_types()
        .await?
        .iter()
        .map(convert::known)
        .collect())
}

/// Checks a rule set. Stores nothing.
#[utoipa::path(post, path = "/api/v1/rules/check", tag = "rules", request_body = RuleFiles, responses((status = 200, body = RuleCheck)))]
pub async fn check_rules(
    State(service): State<Service>,
    Body(given): Body<RuleFiles>,
) -> Result<Json<RuleCheck>, Refusal> {
    let (_, faults) = service.engine.rules().check_rules(&files(given)?).await?;
    let usable = !faults
        .iter()
        .any(|fault| fault.severity == FaultSeverity::Error);
    Ok(Json(RuleCheck {
        usable,
        faults: faults.iter().map(Into::into).collect(),
    }))
}

/// Publishes a rule set without errors, unless another version was published since it was exported.
/// Sends nothing.
#[utoipa::path(put, path = "/api/v1/rules", tag = "rules", request_body = RuleFiles,
    responses((status = 200, body = Published), (status = 409, body = Problem, content_type = "application/problem+json"), (status = 422, body = Problem, content_type = "application/problem+json")))]
pub async fn publish_rules(
    State(service): State<Service>,
    Extension(caller): Extension<Caller>,
    Body(given): Body<RuleFiles>,
) -> Result<Json<Published>, Refusal> {
    let based_on = given.based_on;
    let (version, faults) = service
        .engine
        .administration()
        .publish_based(&files(given)?, based_on, "", &caller.principal.id)
        .await?;
    Ok(Json(Published {
        version,
        faults: faults.iter().map(Into::into).collect(),
        required_reads: to_read(&service).await?,
    }))
}

/// Evaluates an expression for a record, with the result of each subexpression. Stores nothing.
#[utoipa::path(post, path = "/api/v1/rules/evaluate", tag = "rules", request_body = NewEvaluation,
    responses((status = 200, body = EvaluationView), (status = 400, body = Problem, content_type = "application/problem+json")))]
pub async fn evaluate_expression(
    State(service): State<Service>,
    Body(new): Body<NewEvaluation>,
) -> Result<Json<EvaluationView>, Refusal> {
    let object = super::scope::object(new.object);
    let trial = service
        .engine
        .views()
        .try_expression(
            &new.expression,
            new.on.trim(),
            new.system.as_deref(),
            new.draft,
            object,
        )
        .await?;
    let (steps, values, fault) = convert::trial(trial.steps, trial.result);
    Ok(Json(EvaluationView {
        label: trial.label,
        account: trial.account,
        steps,
        values,
        fault,
    }))
}
