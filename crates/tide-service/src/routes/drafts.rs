//! Drafts of the rule set, and its versions.

use super::rules::files;
use crate::Service;
use crate::access::Caller;
use crate::convert;
use crate::problem::{Body, Path, Query, Refusal};
use axum::extract::State;
use axum::http::StatusCode;
use axum::{Extension, Json};
use tide_api::{
    Difference, DifferenceQuery, Draft, DraftRow, FirstPassword, ImpactView, MappingEvaluationView,
    NewDraft, NewMappingEvaluation, NewSecret, Problem, PublishDraft, Published, RuleFile,
    RuleFiles, RuleVersion, SaveDraft, ShownPassword, Webhook,
};
use tide_core::rules::FaultSeverity;

fn row(row: &tide_store::DraftRow) -> DraftRow {
    DraftRow {
        id: row.id,
        name: row.name.clone(),
        base: row.base,
        edition: row.edition,
        principal: row.principal.clone(),
        changed_at: row.changed_at.clone(),
        changed_by: row.changed_by.clone(),
    }
}

fn shown(draft: tide_engine::Draft, both: Vec<String>) -> Draft {
    Draft {
        row: row(&draft.row),
        published: draft.published,
        usable: !draft
            .faults
            .iter()
            .any(|fault| fault.severity == FaultSeverity::Error),
        faults: draft.faults.iter().map(Into::into).collect(),
        files: draft
            .row
            .files
            .into_iter()
            .map(|file| RuleFile {
                name: file.name,
                text: file.text,
            })
            .collect(),
        differences: draft.differences.into_iter().map(Into::into).collect(),
        changed_in_both: both,
    }
}

/// Lists open drafts, the newest first.
#[utoipa::path(get, path = "/api/v1/rules/drafts", tag = "rules", responses((status = 200, body = Vec<DraftRow>)))]
pub async fn list_drafts(State(service): State<Service>) -> Result<Json<Vec<DraftRow>>, Refusal> {
    Ok(Json(
        service
            .engine
            .administration()
            .list_drafts()
            .await?
            .iter()
            .map(row)
            .collect(),
    ))
}

/// Creates a draft from the published rules, an older version, or files.
#[utoipa::path(post, path = "/api/v1/rules/drafts", tag = "rules", request_body = NewDraft, responses((status = 201, body = Draft)))]
pub async fn create_draft(
    State(service): State<Service>,
    Extension(caller): Extension<Caller>,
    Body(new): Body<NewDraft>,
) -> Result<(StatusCode, Json<Draft>), Refusal> {
    let own = new
        .files
        .map(|own| {
            files(RuleFiles {
                files: own,
                based_on: None,
            })
        })
        .transpose()?;
    let draft = service
        .engine
        .administration()
        .begin_draft(&new.name, new.version, own, &caller.principal.id)
        .await?;
    Ok((StatusCode::CREATED, Json(shown(draft, Vec::new()))))
}

/// Returns a draft with its faults and its differences from the base version.
#[utoipa::path(get, path = "/api/v1/rules/drafts/{id}", tag = "rules", params(("id" = i64, Path)), responses((status = 200, body = Draft)))]
pub async fn show_draft(
    State(service): State<Service>,
    Path(id): Path<i64>,
) -> Result<Json<Draft>, Refusal> {
    Ok(Json(shown(
        service.engine.administration().show_draft(id).await?,
        Vec::new(),
    )))
}

/// Saves a draft, which may have errors. If it was saved since the given edition, nothing is stored
/// (409).
#[utoipa::path(put, path = "/api/v1/rules/drafts/{id}", tag = "rules", params(("id" = i64, Path)), request_body = SaveDraft,
    responses((status = 200, body = Draft), (status = 409, body = Problem, content_type = "application/problem+json")))]
pub async fn save_draft(
    State(service): State<Service>,
    Extension(caller): Extension<Caller>,
    Path(id): Path<i64>,
    Body(save): Body<SaveDraft>,
) -> Result<Json<Draft>, Refusal> {
    let own = files(RuleFiles {
        files: save.files,
        based_on: None,
    })?;
    let draft = service
        .engine
        .administration()
        .save_draft(id, save.edition, &own, &caller.principal.id)
        .await?;
    Ok(Json(shown(draft, Vec::new())))
}

/// Drops a draft.
#[utoipa::path(delete, path = "/api/v1/rules/drafts/{id}", tag = "rules", params(("id" = i64, Path)), responses((status = 204)))]
pub async fn discard_draft(
    State(service): State<Service>,
    Extension(caller): Extension<Caller>,
    Path(id): Path<i64>,
) -> Result<StatusCode, Refusal> {
    service
        .engine
        .administration()
        .drop_draft(id, &caller.principal.id)
        .await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Merges the changes published since its base into a draft.
#[utoipa::path(post, path = "/api/v1/rules/drafts/{id}/rebase", tag = "rules", params(("id" = i64, Path)), responses((status = 200, body = Draft)))]
pub async fn rebase_draft(
    State(service): State<Service>,
    Extension(caller): Extension<Caller>,
    Path(id): Path<i64>,
) -> Result<Json<Draft>, Refusal> {
    let renewal = service
        .engine
        .administration()
        .renew_draft(id, &caller.principal.id)
        .await?;
    Ok(Json(shown(renewal.draft, renewal.both)))
}

/// Returns the impact of a draft compared with the published rules. Stores and sends nothing.
#[utoipa::path(post, path = "/api/v1/rules/drafts/{id}/impact", tag = "rules", params(("id" = i64, Path)),
    responses((status = 200, body = ImpactView), (status = 422, body = Problem, content_type = "application/problem+json")))]
pub async fn draft_impact(
    State(service): State<Service>,
    Path(id): Path<i64>,
) -> Result<Json<ImpactView>, Refusal> {
    let draft = service.engine.administration().show_draft(id).await?;
    Ok(Json(tide_api::ImpactView::from(
        service
            .engine
            .administration()
            .effect_of(&draft.row.files, None)
            .await?,
    )))
}

/// Returns the impact of files compared with the published rules. Stores and sends nothing.
#[utoipa::path(post, path = "/api/v1/rules/impact", tag = "rules", request_body = RuleFiles,
    responses((status = 200, body = ImpactView), (status = 422, body = Problem, content_type = "application/problem+json")))]
pub async fn files_impact(
    State(service): State<Service>,
    Body(given): Body<RuleFiles>,
) -> Result<Json<ImpactView>, Refusal> {
    Ok(Json(tide_api::ImpactView::from(
        service
            .engine
            .administration()
            .effect_of(&files(given)?, None)
            .await?,
    )))
}

/// Publishes a draft at a reviewed edition, unless another version was published since its base.
/// Sends nothing.
#[utoipa::path(post, path = "/api/v1/rules/drafts/{id}/publish", tag = "rules", params(("id" = i64, Path)), request_body = PublishDraft,
    responses((status = 200, body = Published), (status = 409, body = Problem, content_type = "application/problem+json"),
        (status = 422, body = Problem, content_type = "application/problem+json")))]
pub async fn publish_draft(
    State(service): State<Service>,
    Extension(caller): Extension<Caller>,
    Path(id): Path<i64>,
    Body(publish): Body<PublishDraft>,
) -> Result<Json<Published>, Refusal> {
    let (version, faults) = service
        .engine
        .administration()
        .publish_draft(id, publish.edition, &caller.principal.id)
        .await?;
    Ok(Json(Published {
        version,
        faults: faults.iter().map(Into::into).collect(),
        required_reads: super::rules::to_read(&service).await?,
    }))
}

/// Lists published versions, the newest first.
#[utoipa::path(get, path = "/api/v1/rules/versions", tag = "rules", responses((status = 200, body = Vec<RuleVersion>)))]
pub async fn list_versions(
    State(service): State<Service>,
) -> Result<Json<Vec<RuleVersion>>, Refusal> {
    let version = |row: tide_store::VersionRow| RuleVersion {
        version: row.version,
        created_at: row.created_at,
        principal: row.principal,
        note: row.note,
    };
    Ok(Json(
        service
            .engine
            .administration()
            .rule_versions()
            .await?
            .into_iter()
            .map(version)
            .collect(),
    ))
}

/// Compares two published versions: the rules, and their impact on current records.
#[utoipa::path(get, path = "/api/v1/rules/difference", tag = "rules", params(DifferenceQuery), responses((status = 200, body = Difference)))]
pub async fn compare_versions(
    State(service): State<Service>,
    Query(query): Query<DifferenceQuery>,
) -> Result<Json<Difference>, Refusal> {
    let found = service
        .engine
        .administration()
        .version_difference(query.from, query.to)
        .await?;
    let effect = match query.impact {
        true => Some(tide_api::ImpactView::from(
            service
                .engine
                .administration()
                .version_effect(query.from, query.to)
                .await?,
        )),
        false => None,
    };
    Ok(Json(Difference {
        files: found.into_iter().map(Into::into).collect(),
        impact: effect,
    }))
}

/// Evaluates the whole mapping of a system for a record. Stores nothing.
#[utoipa::path(post, path = "/api/v1/rules/evaluate-mapping", tag = "rules", request_body = NewMappingEvaluation,
    responses((status = 200, body = MappingEvaluationView), (status = 400, body = Problem, content_type = "application/problem+json")))]
pub async fn evaluate_mapping(
    State(service): State<Service>,
    Body(new): Body<NewMappingEvaluation>,
) -> Result<Json<MappingEvaluationView>, Refusal> {
    let object = super::scope::object(new.object);
    let (label, account, tried) = service
        .engine
        .views()
        .try_mapping(new.on.trim(), &new.system, new.draft, object)
        .await?;
    Ok(Json(MappingEvaluationView {
        label,
        account,
        attributes: tried.into_iter().map(convert::tried).collect(),
    }))
}

/// Lists first passwords: those not yet shown, then those already shown.
#[utoipa::path(get, path = "/api/v1/passwords", tag = "identities", responses((status = 200, body = Vec<FirstPassword>)))]
pub async fn list_passwords(
    State(service): State<Service>,
) -> Result<Json<Vec<FirstPassword>>, Refusal> {
    let password = |row: tide_store::PasswordRow| {
        let (shown, shown_to) = row.shown.unzip();
        FirstPassword {
            id: row.id,
            identity: row.identity,
            label: row.label,
            system: row.system,
            account: row.account,
            created_at: row.created_at,
            shown_at: shown,
            shown_to,
            error: row.error,
        }
    };
    Ok(Json(
        service
            .engine
            .passwords()
            .first_passwords()
            .await?
            .into_iter()
            .map(password)
            .collect(),
    ))
}

/// Shows a first password once, to operators whom the rules name. It is journaled, and the password
/// is erased.
#[utoipa::path(post, path = "/api/v1/passwords/{id}/show", tag = "identities", params(("id" = i64, Path)),
    responses((status = 200, body = ShownPassword), (status = 404, body = Problem, content_type = "application/problem+json")))]
pub async fn show_password(
    State(service): State<Service>,
    Extension(caller): Extension<Caller>,
    Path(id): Path<i64>,
) -> Result<Json<ShownPassword>, Refusal> {
    let password = service
        .engine
        .passwords()
        .reveal_password(id, &caller.principal.id, &caller.principal.name)
        .await?;
    Ok(Json(ShownPassword {
        password: password.as_str().to_owned(),
    }))
}

/// Lists the webhooks of the published rules.
#[utoipa::path(get, path = "/api/v1/webhooks", tag = "rules", responses((status = 200, body = Vec<Webhook>)))]
pub async fn list_webhooks(State(service): State<Service>) -> Result<Json<Vec<Webhook>>, Refusal> {
    let call = |row: tide_engine::CallRow| Webhook {
        name: row.name,
        url: row.url,
        secret: row.secret,
        waiting: row.waiting,
        error: row.error,
    };
    Ok(Json(
        service
            .engine
            .notifier()
            .list_webhooks()
            .await?
            .into_iter()
            .map(call)
            .collect(),
    ))
}

/// Sets the secret that calls are signed with (RFC 9421, HMAC-SHA256).
#[utoipa::path(put, path = "/api/v1/webhooks/{name}/secret", tag = "rules", params(("name" = String, Path)), request_body = NewSecret,
    responses((status = 204), (status = 400, body = Problem, content_type = "application/problem+json")))]
pub async fn set_webhook_secret(
    State(service): State<Service>,
    Extension(caller): Extension<Caller>,
    Path(name): Path<String>,
    Body(new): Body<NewSecret>,
) -> Result<StatusCode, Refusal> {
    service
        .engine
        .notifier()
        .set_call_secret(&name, &new.secret, &caller.principal.id)
        .await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Sends a test call to a webhook.
#[utoipa::path(post, path = "/api/v1/webhooks/{name}/test", tag = "rules", params(("name" = String, Path)),
    responses((status = 204), (status = 400, body = Problem, content_type = "application/problem+json")))]
pub async fn test_webhook(
    State(service): State<Service>,
    Path(name): Path<String>,
) -> Result<StatusCode, Refusal> {
    service.engine.notifier().test_call(&name).await?;
    Ok(StatusCode::NO_CONTENT)
}
