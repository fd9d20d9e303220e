//! Several operations in one request (RFC 7644 §3.7), with references between them.

use super::write::{self, CreatedResource};
use super::{MAX_OPERATIONS, RequestContext, ScimError, answer, json_body, shelf, tag, taken};
use crate::Service;
use axum::extract::{Path, Request, State};
use axum::http::StatusCode;
use axum::response::Response;
use serde_json::{Value, json};
use std::collections::HashMap;
use tide_scim::{BULK, BULK_ANSWER};

pub async fn bulk(
    State(service): State<Service>,
    Path(system): Path<String>,
    request: Request,
) -> Result<Response, ScimError> {
    let (context, headers, _, body) = taken(&service, system, request).await?;
    let body = json_body(&headers, &body)?;
    let named = body["schemas"].as_array().is_some_and(|urns| {
        urns.iter()
            .any(|urn| urn.as_str().is_some_and(|u| u.eq_ignore_ascii_case(BULK)))
    });
    if !named {
        return Err(ScimError::bad(
            "invalidSyntax",
            format!("`schemas` does not name {BULK}"),
        ));
    }
    let operations = body["Operations"]
        .as_array()
        .cloned()
        .ok_or_else(|| ScimError::bad("invalidSyntax", "`Operations` is missing"))?;
    if operations.len() > MAX_OPERATIONS {
        let detail = format!(
            "the request has {} operations, and at most {MAX_OPERATIONS} are taken",
            operations.len()
        );
        return Err(ScimError::new(
            StatusCode::PAYLOAD_TOO_LARGE,
            Some("tooMany"),
            detail,
        ));
    }
    let most_errors = body["failOnErrors"].as_u64().filter(|most| *most > 0);
    let mut ids: HashMap<String, String> = HashMap::new();
    let mut answers: Vec<Option<Value>> = vec![None; operations.len()];
    let mut left: Vec<usize> = (0..operations.len()).collect();
    let mut errors = 0;
    // What refers to a resource that is yet to be made waits for it; what is left in a circle
    // fails.
    loop {
        let before = left.len();
        let mut waiting = Vec::new();
        for at in left {
            if most_errors.is_some_and(|most| errors >= most) {
                waiting.push(at);
                continue;
            }
            let mut operation = operations[at].clone();
            if !resolve(&mut operation, &ids) {
                waiting.push(at);
                continue;
            }
            let (answer, failed) = one(&context, &operation, &mut ids).await;
            errors += u64::from(failed);
            answers[at] = Some(answer);
        }
        left = waiting;
        if left.is_empty() || left.len() == before || most_errors.is_some_and(|most| errors >= most)
        {
            break;
        }
    }
    if most_errors.is_none_or(|most| errors < most) {
        for at in left {
            let error = ScimError::new(
                StatusCode::CONFLICT,
                Some("invalidValue"),
                "it refers to a bulkId that no operation here makes",
            );
            answers[at] = Some(failed(&operations[at], &error));
        }
    }
    let answers: Vec<Value> = answers.into_iter().flatten().collect();
    Ok(answer(
        StatusCode::OK,
        &json!({"schemas": [BULK_ANSWER], "Operations": answers}),
    ))
}

/// Replaces `bulkId:…` by ids; false if one is not known yet.
fn resolve(value: &mut Value, ids: &HashMap<String, String>) -> bool {
    match value {
        Value::String(text) => match text.find("bulkId:") {
            Some(at) if at == 0 || text[..at].ends_with('/') => {
                let Some(id) = ids.get(&text[at + 7..]) else {
                    return false;
                };
                *text = format!("{}{id}", &text[..at]);
                true
            }
            _ => true,
        },
        Value::Array(items) => items.iter_mut().all(|item| resolve(item, ids)),
        Value::Object(parts) => parts
            .iter_mut()
            .filter(|(name, _)| *name != "bulkId")
            .all(|(_, part)| resolve(part, ids)),
        _ => true,
    }
}

fn base(operation: &Value) -> Value {
    let mut answer = json!({"method": operation["method"]});
    if !operation["bulkId"].is_null() {
        answer["bulkId"] = operation["bulkId"].clone();
    }
    answer
}

fn failed(operation: &Value, error: &ScimError) -> Value {
    let mut answer = base(operation);
    answer["status"] = json!(error.status.as_u16().to_string());
    answer["response"] = error.body();
    answer
}

async fn one(
    context: &RequestContext,
    operation: &Value,
    ids: &mut HashMap<String, String>,
) -> (Value, bool) {
    match run(context, operation).await {
        Err(error) => (failed(operation, &error), true),
        Ok(BulkResult {
            status,
            made,
            location,
        }) => {
            let mut answer = base(operation);
            answer["status"] = json!(status.as_u16().to_string());
            if let Some(location) = location {
                answer["location"] = json!(location);
            }
            if let Some(made) = made {
                answer["version"] = json!(tag(made.row.version));
                if let Some(bulk_id) = operation["bulkId"].as_str() {
                    ids.insert(bulk_id.to_owned(), made.row.id);
                }
            }
            (answer, false)
        }
    }
}

struct BulkResult {
    status: StatusCode,
    made: Option<CreatedResource>,
    location: Option<String>,
}

async fn run(context: &RequestContext, operation: &Value) -> Result<BulkResult, ScimError> {
    let method = operation["method"]
        .as_str()
        .unwrap_or_default()
        .to_uppercase();
    let path = operation["path"]
        .as_str()
        .ok_or_else(|| ScimError::bad("invalidSyntax", "an operation needs a `path`"))?;
    let mut parts = path.trim_start_matches('/').split('/');
    let shelf = shelf(parts.next().unwrap_or_default())?;
    let id = parts.next().filter(|id| !id.is_empty());
    let conditions = operation["version"]
        .as_str()
        .map(|tag| vec![tag.trim_start_matches("W/").trim_matches('"').to_owned()]);
    let conditions = conditions.as_deref();
    let data = &operation["data"];
    let done = |status, made: CreatedResource| {
        let location = Some(context.location(shelf, &made.row.id));
        Ok(BulkResult {
            status,
            made: Some(made),
            location,
        })
    };
    match (method.as_str(), id) {
        ("POST", None) if operation["bulkId"].as_str().is_none_or(str::is_empty) => Err(
            ScimError::bad("invalidSyntax", "a POST needs a `bulkId` (RFC 7644 §3.7)"),
        ),
        ("POST", None) => done(
            StatusCode::CREATED,
            write::make(context, shelf, data).await?,
        ),
        ("PUT", Some(id)) => done(
            StatusCode::OK,
            write::put(context, shelf, id, data, conditions).await?,
        ),
        ("PATCH", Some(id)) => done(
            StatusCode::OK,
            write::patch_one(context, shelf, id, data, conditions).await?,
        ),
        ("DELETE", Some(id)) => {
            write::delete(context, shelf, id, conditions).await?;
            Ok(BulkResult {
                status: StatusCode::NO_CONTENT,
                made: None,
                location: Some(context.location(shelf, id)),
            })
        }
        _ => Err(ScimError::bad(
            "invalidSyntax",
            format!("{method} {path} is no operation of a bulk request"),
        )),
    }
}
