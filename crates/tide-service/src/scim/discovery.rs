//! The discovery endpoints of the provider (RFC 7644 §4, RFC 7643 §5 to §7).

use super::{MAX_BODY, MAX_OPERATIONS, MAX_PAGE, PAGE, ScimError, answer, base, shelf};
use crate::Service;
use axum::extract::{Path, RawQuery, State};
use axum::http::{HeaderMap, StatusCode};
use axum::response::Response;
use serde_json::{Value, json};
use tide_scim::schemas::{CONFIG, RESOURCE_TYPE};
use tide_scim::{ENTERPRISE, LIST};

/// These endpoints are not searched (RFC 7644 §4).
fn unfiltered(query: Option<&str>) -> Result<(), ScimError> {
    let filtered = query
        .unwrap_or_default()
        .split('&')
        .any(|pair| pair.starts_with("filter="));
    if filtered {
        return Err(ScimError::new(
            StatusCode::FORBIDDEN,
            None,
            "discovery endpoints cannot be filtered (RFC 7644 §4)",
        ));
    }
    Ok(())
}

fn listed(items: Vec<Value>) -> Value {
    json!({"schemas": [LIST], "totalResults": items.len(), "startIndex": 1, "itemsPerPage": items.len(), "Resources": items})
}

pub async fn config(
    State(service): State<Service>,
    Path(system): Path<String>,
    headers: HeaderMap,
) -> Response {
    answer(
        StatusCode::OK,
        &json!({
            "schemas": [CONFIG],
            "patch": {"supported": true},
            "bulk": {"supported": true, "maxOperations": MAX_OPERATIONS, "maxPayloadSize": MAX_BODY},
            "filter": {"supported": true, "maxResults": MAX_PAGE},
            "changePassword": {"supported": false},
            "sort": {"supported": true},
            "etag": {"supported": true},
            "pagination": {"cursor": true, "index": true, "defaultPaginationMethod": "index", "defaultPageSize": PAGE, "maxPageSize": MAX_PAGE},
            "authenticationSchemes": [{
                "type": "oauthbearertoken", "name": "Bearer token", "description": "A token of this system, given out by an operator",
                "specUri": "https://www.rfc-editor.org/info/rfc6750", "primary": true,
            }],
            "meta": {"resourceType": "ServiceProviderConfig", "location": format!("{}/ServiceProviderConfig", base(&service, &headers, &system))},
        }),
    )
}

fn all_schemas(base: &str) -> Vec<Value> {
    let located = |mut schema: Value| {
        schema["meta"]["location"] = json!(format!(
            "{base}/Schemas/{}",
            schema["id"].as_str().unwrap_or_default()
        ));
        schema
    };
    tide_scim::schemas::all().into_iter().map(located).collect()
}

pub async fn schemas(
    State(service): State<Service>,
    Path(system): Path<String>,
    headers: HeaderMap,
    RawQuery(query): RawQuery,
) -> Result<Response, ScimError> {
    unfiltered(query.as_deref())?;
    Ok(answer(
        StatusCode::OK,
        &listed(all_schemas(&base(&service, &headers, &system))),
    ))
}

pub async fn schema(
    State(service): State<Service>,
    Path((system, id)): Path<(String, String)>,
    headers: HeaderMap,
) -> Result<Response, ScimError> {
    let found = all_schemas(&base(&service, &headers, &system))
        .into_iter()
        .find(|s| {
            s["id"]
                .as_str()
                .is_some_and(|own| own.eq_ignore_ascii_case(&id))
        });
    found
        .map(|schema| answer(StatusCode::OK, &schema))
        .ok_or_else(|| ScimError::missing("schema of this id"))
}

fn all_types(base: &str) -> Vec<Value> {
    ["Users", "Groups"]
        .into_iter()
        .filter_map(|endpoint| shelf(endpoint).ok())
        .map(|shelf| {
            let kind = &shelf.kind;
            let mut described = json!({
                "schemas": [RESOURCE_TYPE], "id": kind.name, "name": kind.name, "endpoint": format!("/{}", kind.endpoint),
                "description": kind.core["description"], "schema": kind.core["id"],
                "meta": {"resourceType": "ResourceType", "location": format!("{base}/ResourceTypes/{}", kind.name)},
            });
            if !kind.extensions.is_empty() {
                described["schemaExtensions"] = json!([{"schema": ENTERPRISE, "required": false}]);
            }
            described
        })
        .collect()
}

pub async fn resource_types(
    State(service): State<Service>,
    Path(system): Path<String>,
    headers: HeaderMap,
    RawQuery(query): RawQuery,
) -> Result<Response, ScimError> {
    unfiltered(query.as_deref())?;
    Ok(answer(
        StatusCode::OK,
        &listed(all_types(&base(&service, &headers, &system))),
    ))
}

pub async fn resource_type(
    State(service): State<Service>,
    Path((system, id)): Path<(String, String)>,
    headers: HeaderMap,
) -> Result<Response, ScimError> {
    let found = all_types(&base(&service, &headers, &system))
        .into_iter()
        .find(|kind| kind["id"] == id.as_str());
    found
        .map(|kind| answer(StatusCode::OK, &kind))
        .ok_or_else(|| ScimError::missing("resource type of this id"))
}
