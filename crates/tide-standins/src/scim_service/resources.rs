//! Users and groups: lists, and what is done to one of them.

use super::described::{scim, scim_error};
use super::{Content, ServiceState};
use axum::extract::{Path, Query, State};
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Response};
use serde_json::{Value, json};
use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;
use tide_scim::{ENTERPRISE, GROUP, LIST, ScimFilter, patch};

/// What the service makes of values: addresses in lower case, no outer blanks.
pub(super) fn normalize(mut user: Value) -> Value {
    if let Some(name) = user["userName"].as_str() {
        user["userName"] = json!(name.trim().to_lowercase());
    }
    for name in ["displayName", "title"] {
        if let Some(text) = user[name].as_str() {
            user[name] = json!(text.trim());
        }
    }
    for email in user["emails"].as_array_mut().into_iter().flatten() {
        if let Some(value) = email["value"].as_str() {
            email["value"] = json!(value.trim().to_lowercase());
        }
    }
    // Telephone numbers lose their blanks.
    for phone in user["phoneNumbers"].as_array_mut().into_iter().flatten() {
        if let Some(value) = phone["value"].as_str() {
            phone["value"] = json!(value.replace(' ', ""));
        }
    }
    for name in ["emails", "phoneNumbers"] {
        if user[name].is_null()
            && let Some(map) = user.as_object_mut()
        {
            map.remove(name);
        }
    }
    user
}

pub(super) fn stamped(mut resource: Value, id: u64, kind: &str) -> Value {
    resource["id"] = json!(format!("b{id:05}"));
    let version = resource["meta"]["version"]
        .as_str()
        .and_then(|v| v.trim_matches(|c| "W/\"".contains(c)).parse::<u64>().ok())
        .unwrap_or(0)
        + 1;
    let created = match &resource["meta"]["created"] {
        Value::String(known) => json!(known),
        _ => json!(tide_clock::now().strftime("%Y-%m-%dT%H:%M:%SZ").to_string()),
    };
    resource["meta"] = json!({"created": created, "resourceType": kind.trim_end_matches('s'), "location": format!("/scim/v2/{kind}/b{id:05}"), "lastModified": tide_clock::now().strftime("%Y-%m-%dT%H:%M:%S%.3fZ").to_string(), "version": format!("W/\"{version}\"")});
    if resource["active"].is_null() && kind == "Users" {
        resource["active"] = json!(true);
    }
    resource
}

pub(super) fn shelf<'c>(
    content: &'c mut Content,
    kind: &str,
) -> Option<&'c mut BTreeMap<u64, Value>> {
    match kind {
        "Users" => Some(&mut content.users),
        "Groups" => Some(&mut content.groups),
        _ => None,
    }
}

/// Keeps a resource; false where there is no such kind.
pub(super) fn put(content: &mut Content, kind: &str, id: u64, resource: Value) -> bool {
    match kind {
        "Users" => content.keep(id, resource),
        "Groups" => {
            content.groups.insert(id, resource);
        }
        _ => return false,
    }
    true
}

pub(super) fn number(id: &str) -> u64 {
    id.strip_prefix('b')
        .and_then(|n| n.parse().ok())
        .unwrap_or(0)
}

pub(super) fn nothing_here() -> Response {
    scim_error(StatusCode::NOT_FOUND, None, "there is no such resource")
}

pub(super) async fn list(
    State(shared): State<Arc<ServiceState>>,
    Path(kind): Path<String>,
    Query(query): Query<HashMap<String, String>>,
) -> Response {
    let filter = match query
        .get("filter")
        .map(|f| f.parse::<ScimFilter>())
        .transpose()
    {
        Ok(filter) => filter,
        Err(error) => {
            return scim_error(
                StatusCode::BAD_REQUEST,
                Some("invalidFilter"),
                &error.to_string(),
            );
        }
    };
    let manner = &shared.manner;
    if filter.is_some() && !manner.filter {
        return scim_error(
            StatusCode::BAD_REQUEST,
            Some("invalidFilter"),
            "this service has no filters",
        );
    }
    let mut content = shared.lock();
    let hidden: Vec<u64> = {
        let late = content.shown_after;
        content
            .made
            .iter()
            .filter(|(_, at)| at.elapsed() < late)
            .map(|(id, _)| *id)
            .collect()
    };
    let change = if kind == "Users" {
        content.after_a_page.take()
    } else {
        None
    };
    let list = ListQuery {
        kind: &kind,
        query: &query,
        filter: filter.as_ref(),
    };
    let answer = page_of(&mut content, manner, &list, &hidden);
    if let Some((deleted, made)) = change {
        content.users.remove(&deleted);
        content.next += 1;
        let id = content.next;
        let made = stamped(normalize(made), id, "Users");
        content.keep(id, made);
    }
    answer
}

/// A list request.
struct ListQuery<'a> {
    kind: &'a str,
    query: &'a HashMap<String, String>,
    filter: Option<&'a ScimFilter>,
}

fn page_of(
    content: &mut Content,
    manner: &super::Manner,
    list: &ListQuery<'_>,
    hidden: &[u64],
) -> Response {
    let ListQuery {
        kind,
        query,
        filter,
    } = *list;
    let Some(shelf) = shelf(content, kind) else {
        return nothing_here();
    };
    let is_shown = |id: &u64| kind != "Users" || !hidden.contains(id);
    let found: Vec<&Value> = shelf
        .iter()
        .filter(|(id, r)| is_shown(id) && filter.is_none_or(|f| f.holds(r)))
        .map(|(_, resource)| resource)
        .collect();
    let ask = |name: &str, other: usize| {
        query
            .get(name)
            .and_then(|v| v.parse::<usize>().ok())
            .unwrap_or(other)
    };
    let size = ask("count", manner.page).min(manner.page);
    if manner.cursor && filter.is_none() {
        // The cursor is the id after which the next page begins, which no change in between moves.
        let after = number(query.get("cursor").map(String::as_str).unwrap_or_default());
        let rest: Vec<&Value> = found
            .iter()
            .filter(|r| number(r["id"].as_str().unwrap_or_default()) > after)
            .copied()
            .collect();
        let page: Vec<Value> = rest.iter().take(size).map(|v| (*v).clone()).collect();
        let mut body = json!({"schemas": [LIST], "totalResults": found.len(), "itemsPerPage": page.len(), "Resources": page});
        if rest.len() > size {
            body["nextCursor"] = body["Resources"]
                .as_array()
                .and_then(|p| p.last())
                .map_or(Value::Null, |last| last["id"].clone());
        }
        return scim(StatusCode::OK, body);
    }
    let start = ask("startIndex", 1).max(1);
    let page: Vec<Value> = found
        .iter()
        .skip(start - 1)
        .take(size)
        .map(|v| (*v).clone())
        .collect();
    scim(
        StatusCode::OK,
        json!({"schemas": [LIST], "totalResults": found.len(), "startIndex": start, "itemsPerPage": page.len(), "Resources": page}),
    )
}

fn taken(content: &Content, user: &Value, own: u64) -> bool {
    !content.names_repeat
        && content
            .names
            .get(&Content::name(user))
            .is_some_and(|id| *id != own)
}

/// Stores a password beside the resource: it is never returned.
fn without_password(content: &mut Content, mut resource: Value, id: u64) -> Value {
    let given = resource
        .as_object_mut()
        .and_then(|fields| fields.remove("password"));
    if let Some(Value::String(password)) = given {
        content.passwords.insert(id, password);
    }
    resource
}

fn invalid(kind: &str, resource: &Value) -> Option<Response> {
    let needed = if kind == "Users" {
        "userName"
    } else {
        "displayName"
    };
    resource[needed]
        .as_str()
        .is_none_or(|t| t.trim().is_empty())
        .then(|| {
            scim_error(
                StatusCode::BAD_REQUEST,
                Some("invalidValue"),
                &format!("{needed} is required"),
            )
        })
}

pub(super) async fn create(
    State(shared): State<Arc<ServiceState>>,
    Path(kind): Path<String>,
    body: String,
) -> Response {
    let Ok(resource) = serde_json::from_str::<Value>(&body) else {
        return scim_error(
            StatusCode::BAD_REQUEST,
            Some("invalidSyntax"),
            "the body is not JSON",
        );
    };
    if let Some(refusal) = invalid(&kind, &resource) {
        return refusal;
    }
    let mut content = shared.lock();
    let resource = normalize(resource);
    if kind == "Users" && taken(&content, &resource, 0) {
        return scim_error(
            StatusCode::CONFLICT,
            Some("uniqueness"),
            "userName is taken",
        );
    }
    if let Some(manager) = resource[ENTERPRISE]["manager"]["value"]
        .as_str()
        .filter(|_| content.managers_first)
        && !content.users.contains_key(&number(manager))
    {
        return scim_error(
            StatusCode::BAD_REQUEST,
            Some("invalidValue"),
            "the manager does not exist here",
        );
    }
    let seats = shared.manner.seats;
    let full = || {
        seats.is_some_and(|seats| {
            content
                .users
                .values()
                .filter(|u| u["active"] != json!(false))
                .count()
                >= seats
        })
    };
    if kind == "Users" && resource["active"] != json!(false) && full() {
        return scim_error(StatusCode::FORBIDDEN, None, "no seat is free");
    }
    content.next += 1;
    let id = content.next;
    content.made.insert(id, tide_clock::instant());
    let resource = stamped(without_password(&mut content, resource, id), id, &kind);
    if !put(&mut content, &kind, id, resource.clone()) {
        return nothing_here();
    }
    scim(StatusCode::CREATED, resource)
}

pub(super) async fn read(
    State(shared): State<Arc<ServiceState>>,
    Path((kind, id)): Path<(String, String)>,
) -> Response {
    let mut content = shared.lock();
    let found = shelf(&mut content, &kind).and_then(|shelf| shelf.get(&number(&id)).cloned());
    found.map_or_else(nothing_here, |resource| scim(StatusCode::OK, resource))
}

#[allow(clippy::result_large_err)] // The error is the answer, made once.
pub(super) fn store(
    shared: &ServiceState,
    kind: &str,
    id: &str,
    make: impl Fn(&Value) -> Result<Value, Response>,
) -> Response {
    let mut content = shared.lock();
    let key = number(id);
    let Some(old) = shelf(&mut content, kind).and_then(|shelf| shelf.get(&key).cloned()) else {
        return nothing_here();
    };
    let new = match make(&old) {
        Ok(new) => normalize(new),
        Err(refusal) => return refusal,
    };
    if let Some(refusal) = invalid(kind, &new) {
        return refusal;
    }
    if kind == "Users" && taken(&content, &new, key) {
        return scim_error(
            StatusCode::CONFLICT,
            Some("uniqueness"),
            "userName is taken",
        );
    }
    let mut new = without_password(&mut content, new, key);
    new["meta"]["created"] = old["meta"]["created"].clone();
    let new = stamped(new, key, kind);
    put(&mut content, kind, key, new.clone());
    scim(StatusCode::OK, new)
}

/// Applies a PATCH, and names the extensions that the resource then has (RFC 7643 §3.3).
#[allow(clippy::result_large_err)]
pub(super) fn patched(old: &Value, body: &Value) -> Result<Value, Response> {
    let mut new = patch::apply(old, body).map_err(|error| {
        scim_error(
            StatusCode::BAD_REQUEST,
            Some(error.scim_type),
            &error.detail,
        )
    })?;
    let there: Vec<String> = new
        .as_object()
        .into_iter()
        .flat_map(|map| map.keys().filter(|name| name.starts_with("urn:")).cloned())
        .collect();
    if let Some(named) = new["schemas"].as_array_mut() {
        named.extend(
            there
                .into_iter()
                .filter(|urn| {
                    !old["schemas"]
                        .as_array()
                        .is_some_and(|all| all.iter().any(|one| one == urn))
                })
                .map(Value::from),
        );
    }
    Ok(new)
}

#[allow(clippy::result_large_err)]
pub(super) async fn change(
    State(shared): State<Arc<ServiceState>>,
    Path((kind, id)): Path<(String, String)>,
    Query(query): Query<HashMap<String, String>>,
    body: String,
) -> Response {
    if !shared.manner.patch {
        return scim_error(
            StatusCode::NOT_IMPLEMENTED,
            None,
            "this service takes whole resources only",
        );
    }
    let Ok(body) = serde_json::from_str::<Value>(&body) else {
        return scim_error(
            StatusCode::BAD_REQUEST,
            Some("invalidSyntax"),
            "the body is not JSON",
        );
    };
    let brief = query.get("attributes").is_some_and(|asked| asked == "id");
    if kind == "Groups"
        && let Some(answer) = in_place(&mut shared.lock(), &id, &body, brief)
    {
        return answer;
    }
    store(&shared, &kind, &id, |old| patched(old, &body))
}

/// Changes a group where it stands: it may be long. Nothing when the change does not fit the group
/// without its members; then it is tried on a copy.
fn in_place(content: &mut Content, id: &str, body: &Value, brief: bool) -> Option<Response> {
    let group = content.groups.get_mut(&number(id))?;
    let bare: serde_json::Map<String, Value> = group
        .as_object()?
        .iter()
        .filter(|(name, _)| *name != "members")
        .map(|(name, value)| (name.clone(), value.clone()))
        .collect();
    let tried = patch::apply(&Value::Object(bare), body).ok()?;
    if invalid("Groups", &tried).is_some() {
        return None;
    }
    let mut new = std::mem::take(group);
    // What fits without members fits with them.
    let _ = patch::apply_to(&mut new, body);
    *group = stamped(normalize(new), number(id), "Groups");
    // RFC 7644 §3.9: no more than was asked for.
    let shown = if brief {
        json!({"schemas": [GROUP], "id": group["id"]})
    } else {
        group.clone()
    };
    Some(scim(StatusCode::OK, shown))
}

#[allow(clippy::result_large_err)]
pub(super) async fn replace(
    State(shared): State<Arc<ServiceState>>,
    Path((kind, id)): Path<(String, String)>,
    headers: HeaderMap,
    body: String,
) -> Response {
    if shared.manner.versions {
        let given = headers
            .get(header::IF_MATCH)
            .and_then(|v| v.to_str().ok())
            .unwrap_or_default()
            .to_owned();
        let held = shelf(&mut shared.lock(), &kind).and_then(|shelf| {
            shelf
                .get(&number(&id))
                .map(|r| r["meta"]["version"].clone())
        });
        if held.is_some_and(|held| held.as_str() != Some(given.as_str())) {
            return scim_error(
                StatusCode::PRECONDITION_FAILED,
                None,
                "the resource has another version by now",
            );
        }
    }
    let Ok(body) = serde_json::from_str::<Value>(&body) else {
        return scim_error(
            StatusCode::BAD_REQUEST,
            Some("invalidSyntax"),
            "the body is not JSON",
        );
    };
    store(&shared, &kind, &id, |old| {
        let mut new = body.clone();
        new["meta"] = old["meta"].clone();
        Ok(new)
    })
}

pub(super) async fn remove(
    State(shared): State<Arc<ServiceState>>,
    Path((kind, id)): Path<(String, String)>,
) -> Response {
    let mut content = shared.lock();
    let removed = shelf(&mut content, &kind).and_then(|shelf| shelf.remove(&number(&id)));
    if let ("Users", Some(user)) = (kind.as_str(), &removed) {
        content.names.remove(&Content::name(user));
    }
    match removed {
        Some(_) => StatusCode::NO_CONTENT.into_response(),
        None => nothing_here(),
    }
}
