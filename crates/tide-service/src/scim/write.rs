//! One resource: create, read, replace, patch, delete (RFC 7644 §3.3 to §3.6).

use super::list::ListRequest;
use super::{
    RequestContext, ScimError, Shelf, answer, condition, fits, json_body, shelf, tag, taken,
};
use crate::Service;
use axum::extract::{Path, Request, State};
use axum::http::{HeaderMap, HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use serde_json::{Value, json};
use tide_core::ObjectType;
use tide_scim::filter::AttrPath;
use tide_scim::{PATCH_OP, patch};
use tide_store::{NewPushed, PushedKey, PushedRow, StoreError};

/// The maximum number of attempts to apply a change when others change the resource at the same
/// time.
const TRIES: usize = 5;

/// A stored resource, with the part of it that is returned.
pub(super) struct CreatedResource {
    pub row: PushedRow,
    pub resource: Value,
}

type SubmittedPassword = Option<zeroize::Zeroizing<String>>;

/// A password that was sent with a resource (RFC 7643 §4.1.1: write-only). It is never stored
/// with it.
fn secret(body: &Value) -> SubmittedPassword {
    let named = body
        .as_object()?
        .iter()
        .find(|(name, _)| name.eq_ignore_ascii_case("password"));
    named?
        .1
        .as_str()
        .filter(|text| !text.is_empty())
        .map(|text| zeroize::Zeroizing::new(text.to_owned()))
}

fn name_key(shelf: &Shelf, resource: &Value) -> String {
    // userName is compared without regard to case (RFC 7643 §4.1.1).
    resource[shelf.kind.required]
        .as_str()
        .unwrap_or_default()
        .trim()
        .to_lowercase()
}

/// A resource to store.
struct ResourceEdit {
    id: String,
    resource: Value,
    /// The version that it replaces; absent for a new resource.
    replaces: Option<i64>,
    password: SubmittedPassword,
}

/// Stores a resource: a new one, or the next version of an existing one.
async fn store_resource(
    context: &RequestContext,
    shelf: &Shelf,
    edit: ResourceEdit,
) -> Result<CreatedResource, ScimError> {
    let ResourceEdit {
        id,
        resource,
        replaces,
        password,
    } = edit;
    let mut whole = resource.clone();
    whole["id"] = json!(id);
    let account = tide_connect::pushed_account(shelf.object, &whole)
        .map_err(|error| ScimError::bad("invalidValue", format!("{error}")))?;
    let members = resource["members"]
        .as_array()
        .into_iter()
        .flatten()
        .filter_map(|m| m["value"].as_str().map(str::to_owned))
        .collect();
    let new = NewPushed {
        system: context.system.clone(),
        object: shelf.object,
        id,
        replaces,
        name_key: name_key(shelf, &resource),
        external_id: resource["externalId"].as_str().map(str::to_owned),
        body: resource.to_string(),
        members,
        account,
        principal: context.principal.clone(),
    };
    let row = context
        .service
        .engine
        .store()
        .put_pushed(new, context.service.engine.now())
        .await?;
    if let Some(password) = password {
        context
            .service
            .engine
            .passwords()
            .password_seen(&context.system, &row.id, &password, &context.principal)
            .await?;
    }
    context.service.engine.ingest().was_pushed(&context.system);
    let resource = context.dressed(shelf, &row).await?;
    Ok(CreatedResource { row, resource })
}

pub(super) async fn make(
    context: &RequestContext,
    shelf: &Shelf,
    body: &Value,
) -> Result<CreatedResource, ScimError> {
    let resource = shelf.kind.take(body, true)?;
    context
        .service
        .engine
        .ingest()
        .pushed_is_complete(&context.system, shelf.object)
        .await?;
    // Time-ordered, so that a list in the order of making is a list in the order of ids.
    store_resource(
        context,
        shelf,
        ResourceEdit {
            id: uuid::Uuid::now_v7().to_string(),
            resource,
            replaces: None,
            password: secret(body),
        },
    )
    .await
}

pub(super) async fn find(
    context: &RequestContext,
    shelf: &Shelf,
    id: &str,
) -> Result<PushedRow, ScimError> {
    let found = context
        .service
        .engine
        .store()
        .find_pushed(&context.system, shelf.object, PushedKey::Id(id))
        .await?;
    found.ok_or_else(|| {
        ScimError::missing(&format!(
            "{} `{}`",
            shelf.kind.name,
            id.chars().take(80).collect::<String>()
        ))
    })
}

fn check_version(conditions: Option<&[String]>, row: &PushedRow) -> Result<(), ScimError> {
    match conditions {
        Some(wanted) if !fits(wanted, row.version) => Err(ScimError::new(
            StatusCode::PRECONDITION_FAILED,
            None,
            format!("the resource has version {} by now", tag(row.version)),
        )),
        _ => Ok(()),
    }
}

pub(super) async fn put(
    context: &RequestContext,
    shelf: &Shelf,
    id: &str,
    body: &Value,
    conditions: Option<&[String]>,
) -> Result<CreatedResource, ScimError> {
    let resource = shelf.kind.take(body, true)?;
    if let Some(given) = body.get("id").and_then(Value::as_str)
        && given != id
    {
        return Err(ScimError::bad("mutability", "`id` cannot be changed"));
    }
    for _ in 0..TRIES {
        let row = find(context, shelf, id).await?;
        check_version(conditions, &row)?;
        match store_resource(
            context,
            shelf,
            ResourceEdit {
                id: id.to_owned(),
                resource: resource.clone(),
                replaces: Some(row.version),
                password: secret(body),
            },
        )
        .await
        {
            Err(error)
                if error.status == StatusCode::PRECONDITION_FAILED && conditions.is_none() => {}
            other => return other,
        }
    }
    Err(ScimError::new(
        StatusCode::CONFLICT,
        None,
        "the resource is changed by others all the time: try again",
    ))
}

pub(super) async fn patch_one(
    context: &RequestContext,
    shelf: &Shelf,
    id: &str,
    body: &Value,
    conditions: Option<&[String]>,
) -> Result<CreatedResource, ScimError> {
    let named = body["schemas"].as_array().is_some_and(|urns| {
        urns.iter().any(|urn| {
            urn.as_str()
                .is_some_and(|u| u.eq_ignore_ascii_case(PATCH_OP))
        })
    });
    if !named {
        return Err(ScimError::bad(
            "invalidSyntax",
            format!("`schemas` does not name {PATCH_OP}"),
        ));
    }
    check_paths(shelf, body)?;
    for _ in 0..TRIES {
        let row = find(context, shelf, id).await?;
        check_version(conditions, &row)?;
        let before: Value = serde_json::from_str(&row.body).map_err(StoreError::from)?;
        let after = patch::apply(&before, body)?;
        let password = secret(&after);
        let after = shelf.kind.take(&after, false)?;
        if after == before && password.is_none() {
            // Nothing changed: the version stays (RFC 7644 §3.5.2.1).
            let resource = context.dressed(shelf, &row).await?;
            return Ok(CreatedResource { row, resource });
        }
        match store_resource(
            context,
            shelf,
            ResourceEdit {
                id: id.to_owned(),
                resource: after,
                replaces: Some(row.version),
                password,
            },
        )
        .await
        {
            Err(error)
                if error.status == StatusCode::PRECONDITION_FAILED && conditions.is_none() => {}
            other => return other,
        }
    }
    Err(ScimError::new(
        StatusCode::CONFLICT,
        None,
        "the resource is changed by others all the time: try again",
    ))
}

/// Rejects unknown and read-only paths before anything is applied.
fn check_paths(shelf: &Shelf, body: &Value) -> Result<(), ScimError> {
    for operation in body["Operations"].as_array().into_iter().flatten() {
        let Some(path) = operation["path"].as_str() else {
            continue;
        };
        let plain = match (path.find('['), path.rfind(']')) {
            (Some(open), Some(close)) if open < close => {
                format!("{}{}", &path[..open], &path[close + 1..])
            }
            _ => path.to_owned(),
        };
        if shelf.kind.extensions.iter().any(|schema| {
            schema["id"]
                .as_str()
                .is_some_and(|id| id.eq_ignore_ascii_case(&plain))
        }) {
            continue;
        }
        let Some(path) = AttrPath::read(&plain) else {
            continue;
        };
        if shelf.kind.read_only(&path) {
            return Err(ScimError::bad(
                "mutability",
                format!("`{plain}` cannot be changed"),
            ));
        }
        if !shelf.kind.path_known(&path) {
            return Err(ScimError::bad(
                "invalidPath",
                format!("{} has no attribute `{plain}`", shelf.kind.name),
            ));
        }
        let required = path.name.eq_ignore_ascii_case(shelf.kind.required);
        if required
            && operation["op"]
                .as_str()
                .is_some_and(|op| op.eq_ignore_ascii_case("remove"))
        {
            return Err(ScimError::bad(
                "mutability",
                format!(
                    "`{}` is required and cannot be removed",
                    shelf.kind.required
                ),
            ));
        }
    }
    Ok(())
}

/// Removes a deleted member from a group.
async fn leave(context: &RequestContext, group: &str, member: &str) -> Result<(), ScimError> {
    let groups = shelf("Groups")?;
    for _ in 0..TRIES {
        let store = context.service.engine.store();
        let Some(row) = store
            .find_pushed(&context.system, groups.object, PushedKey::Id(group))
            .await?
        else {
            return Ok(());
        };
        let mut resource: Value = serde_json::from_str(&row.body).map_err(StoreError::from)?;
        if let Some(members) = resource["members"].as_array_mut() {
            members.retain(|one| one["value"] != member);
        }
        if resource["members"].as_array().is_some_and(Vec::is_empty)
            && let Some(parts) = resource.as_object_mut()
        {
            parts.remove("members");
        }
        match store_resource(
            context,
            groups,
            ResourceEdit {
                id: group.to_owned(),
                resource,
                replaces: Some(row.version),
                password: None,
            },
        )
        .await
        {
            Err(error) if error.status == StatusCode::PRECONDITION_FAILED => {}
            other => return other.map(|_| ()),
        }
    }
    Err(ScimError::new(
        StatusCode::CONFLICT,
        None,
        "a group of the resource is changed by others all the time: try again",
    ))
}

pub(super) async fn delete(
    context: &RequestContext,
    shelf: &Shelf,
    id: &str,
    conditions: Option<&[String]>,
) -> Result<(), ScimError> {
    let row = find(context, shelf, id).await?;
    check_version(conditions, &row)?;
    let version = conditions.map(|_| row.version);
    let store = context.service.engine.store();
    // Memberships are removed first: if the deletion fails, the caller repeats it.
    for (group, _) in store.groups_of_pushed(&context.system, id).await? {
        leave(context, &group, id).await?;
    }
    let gone = store
        .remove_pushed(
            tide_store::PushedId {
                system: &context.system,
                object: shelf.object,
                id,
            },
            version,
            &context.principal,
            context.service.engine.now(),
        )
        .await?;
    if gone {
        context.service.engine.ingest().was_pushed(&context.system);
    }
    if gone {
        Ok(())
    } else {
        Err(ScimError::new(
            StatusCode::PRECONDITION_FAILED,
            None,
            "the resource has another version by now",
        ))
    }
}

fn given(
    status: StatusCode,
    context: &RequestContext,
    shelf: &Shelf,
    made: &CreatedResource,
    query: &ListRequest,
) -> Result<Response, ScimError> {
    let mut response = answer(status, &query.projection.of(&made.resource));
    let headers = response.headers_mut();
    if let Ok(etag) = HeaderValue::from_str(&tag(made.row.version)) {
        headers.insert(header::ETAG, etag);
    }
    if let Ok(location) = HeaderValue::from_str(&context.location(shelf, &made.row.id)) {
        headers.insert(
            if status == StatusCode::CREATED {
                header::LOCATION
            } else {
                header::CONTENT_LOCATION
            },
            location,
        );
    }
    Ok(response)
}

pub async fn create(
    State(service): State<Service>,
    Path((system, kind)): Path<(String, String)>,
    request: Request,
) -> Result<Response, ScimError> {
    let shelf = shelf(&kind)?;
    let (context, headers, query, body) = taken(&service, system, request).await?;
    let made = make(&context, shelf, &json_body(&headers, &body)?).await?;
    given(StatusCode::CREATED, &context, shelf, &made, &query)
}

pub async fn read(
    State(service): State<Service>,
    Path((system, kind, id)): Path<(String, String, String)>,
    request: Request,
) -> Result<Response, ScimError> {
    let shelf = shelf(&kind)?;
    let (context, headers, query, _) = taken(&service, system, request).await?;
    let row = find(&context, shelf, &id).await?;
    if condition(&headers, header::IF_NONE_MATCH).is_some_and(|known| fits(&known, row.version)) {
        let etag =
            HeaderValue::from_str(&tag(row.version)).unwrap_or(HeaderValue::from_static("*"));
        return Ok((StatusCode::NOT_MODIFIED, [(header::ETAG, etag)]).into_response());
    }
    let resource = context.dressed(shelf, &row).await?;
    given(
        StatusCode::OK,
        &context,
        shelf,
        &CreatedResource { row, resource },
        &query,
    )
}

fn if_match(headers: &HeaderMap) -> Option<Vec<String>> {
    condition(headers, header::IF_MATCH)
}

pub async fn replace(
    State(service): State<Service>,
    Path((system, kind, id)): Path<(String, String, String)>,
    request: Request,
) -> Result<Response, ScimError> {
    let shelf = shelf(&kind)?;
    let (context, headers, query, body) = taken(&service, system, request).await?;
    let made = put(
        &context,
        shelf,
        &id,
        &json_body(&headers, &body)?,
        if_match(&headers).as_deref(),
    )
    .await?;
    given(StatusCode::OK, &context, shelf, &made, &query)
}

pub async fn change(
    State(service): State<Service>,
    Path((system, kind, id)): Path<(String, String, String)>,
    request: Request,
) -> Result<Response, ScimError> {
    let shelf = shelf(&kind)?;
    let (context, headers, query, body) = taken(&service, system, request).await?;
    let made = patch_one(
        &context,
        shelf,
        &id,
        &json_body(&headers, &body)?,
        if_match(&headers).as_deref(),
    )
    .await?;
    given(StatusCode::OK, &context, shelf, &made, &query)
}

pub async fn remove(
    State(service): State<Service>,
    Path((system, kind, id)): Path<(String, String, String)>,
    request: Request,
) -> Result<Response, ScimError> {
    let shelf = shelf(&kind)?;
    let (context, headers, _, _) = taken(&service, system, request).await?;
    delete(&context, shelf, &id, if_match(&headers).as_deref()).await?;
    debug_assert!(matches!(
        shelf.object,
        ObjectType::Person | ObjectType::Group
    ));
    Ok(StatusCode::NO_CONTENT.into_response())
}
