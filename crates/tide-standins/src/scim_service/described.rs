//! The discovery endpoints of the service: configuration, resource types and schemas.

use super::{CREW, ServiceState};
use axum::Json;
use axum::extract::State;
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Response};
use serde_json::{Value, json};
use std::sync::Arc;
use tide_scim::{ENTERPRISE, GROUP, LIST, USER, error_body};

pub(super) fn scim(status: StatusCode, body: Value) -> Response {
    (
        status,
        [(header::CONTENT_TYPE, "application/scim+json")],
        body.to_string(),
    )
        .into_response()
}

pub(super) fn scim_error(status: StatusCode, kind: Option<&str>, detail: &str) -> Response {
    scim(status, error_body(status.as_u16(), kind, detail))
}

pub(super) fn listed(items: Vec<Value>) -> Value {
    json!({"schemas": [LIST], "totalResults": items.len(), "startIndex": 1, "itemsPerPage": items.len(), "Resources": items})
}

pub(super) async fn config(State(shared): State<Arc<ServiceState>>) -> Json<Value> {
    let manner = &shared.manner;
    let mut config = json!({
        "schemas": ["urn:ietf:params:scim:schemas:core:2.0:ServiceProviderConfig"],
        "patch": {"supported": manner.patch},
        "bulk": {"supported": manner.bulk > 0, "maxOperations": manner.bulk, "maxPayloadSize": 1 << 20},
        "filter": {"supported": manner.filter, "maxResults": manner.page}, "changePassword": {"supported": false}, "sort": {"supported": false},
        "etag": {"supported": true}, "authenticationSchemes": [{"type": "oauthbearertoken", "name": "Bearer token", "description": "A token"}],
    });
    if manner.cursor {
        config["pagination"] = json!({"cursor": true, "index": false, "maxPageSize": manner.page});
    }
    Json(config)
}

pub(super) fn resource_types() -> Vec<Value> {
    vec![
        json!({"schemas": ["urn:ietf:params:scim:schemas:core:2.0:ResourceType"], "id": "User", "name": "User", "endpoint": "/Users", "schema": USER,
            "schemaExtensions": [{"schema": ENTERPRISE, "required": false}, {"schema": CREW, "required": false}]}),
        json!({"schemas": ["urn:ietf:params:scim:schemas:core:2.0:ResourceType"], "id": "Group", "name": "Group", "endpoint": "/Groups", "schema": GROUP}),
    ]
}

fn attribute(name: &str, kind: &str, options: Value) -> Value {
    let mut described = json!({"name": name, "type": kind, "multiValued": false, "required": false, "caseExact": false,
        "mutability": "readWrite", "returned": "default", "uniqueness": "none"});
    if let (Some(described), Some(options)) = (described.as_object_mut(), options.as_object()) {
        described.extend(options.clone());
    }
    described
}

fn text(name: &str) -> Value {
    attribute(name, "string", json!({}))
}

fn exact(name: &str) -> Value {
    attribute(name, "string", json!({"caseExact": true}))
}

fn typed(name: &str, kinds: &[&str], more: &[&str]) -> Value {
    let mut subs = vec![
        attribute("type", "string", json!({"canonicalValues": kinds})),
        attribute("primary", "boolean", json!({})),
    ];
    subs.extend(more.iter().map(|sub| exact(sub)));
    attribute(
        name,
        "complex",
        json!({"multiValued": true, "subAttributes": subs}),
    )
}

pub(super) fn schemas() -> Vec<Value> {
    let user = vec![
        attribute(
            "userName",
            "string",
            json!({"required": true, "uniqueness": "server"}),
        ),
        attribute(
            "name",
            "complex",
            json!({"subAttributes": [exact("givenName"), exact("familyName"), exact("middleName"), exact("formatted")]}),
        ),
        exact("displayName"),
        exact("title"),
        exact("userType"),
        exact("nickName"),
        text("preferredLanguage"),
        text("locale"),
        text("timezone"),
        attribute("active", "boolean", json!({})),
        typed("emails", &["work", "home", "other"], &["value"]),
        typed(
            "phoneNumbers",
            &["work", "home", "mobile", "other"],
            &["value"],
        ),
        typed(
            "addresses",
            &["work", "home"],
            &["streetAddress", "locality", "postalCode", "country"],
        ),
        attribute(
            "groups",
            "complex",
            json!({"multiValued": true, "mutability": "readOnly", "subAttributes": [text("value")]}),
        ),
    ];
    let user = [
        user,
        vec![attribute(
            "password",
            "string",
            json!({"mutability": "writeOnly", "returned": "never"}),
        )],
    ]
    .concat();
    let enterprise = vec![
        exact("employeeNumber"),
        exact("department"),
        exact("division"),
        exact("costCenter"),
        exact("organization"),
        attribute(
            "manager",
            "complex",
            json!({"subAttributes": [attribute("value", "string", json!({})), attribute("displayName", "string", json!({"mutability": "readOnly"}))]}),
        ),
    ];
    let group = vec![
        attribute("displayName", "string", json!({"required": true})),
        attribute(
            "members",
            "complex",
            json!({"multiValued": true, "subAttributes": [attribute("value", "reference", json!({})), text("display")]}),
        ),
    ];
    let crew = vec![
        exact("cabin"),
        attribute("drills", "integer", json!({})),
        attribute("languages", "string", json!({"multiValued": true})),
    ];
    [(USER, "User", user), (ENTERPRISE, "EnterpriseUser", enterprise), (CREW, "Crew", crew), (GROUP, "Group", group)]
        .into_iter()
        .map(|(id, name, attributes)| json!({"schemas": ["urn:ietf:params:scim:schemas:core:2.0:Schema"], "id": id, "name": name, "attributes": attributes}))
        .collect()
}
