//! Lists: filtered, sorted, by index and by cursor (RFC 7644 §3.4.2, RFC 9865).

use super::{MAX_PAGE, PAGE, RequestContext, ScimError, Shelf, answer, json_body, shelf, taken};
use crate::Service;
use axum::extract::{Path, Request, State};
use axum::http::StatusCode;
use axum::response::Response;
use serde_json::{Value, json};
use std::cmp::Ordering;
use tide_scim::filter::{AttrPath, Operator};
use tide_scim::resource::Projection;
use tide_scim::{LIST, SEARCH, ScimFilter};
use tide_store::{PushedKey, PushedRow};

/// Resources that are read from the store at a time while a filter is tried.
const SCAN: i64 = 500;

/// The parameters of a list.
#[derive(Default)]
pub struct ListRequest {
    filter: Option<ScimFilter>,
    sort: Option<(AttrPath, bool)>,
    start: usize,
    count: usize,
    cursor: Option<String>,
    /// Which attributes are returned.
    pub projection: Projection,
}

fn number(text: &str, name: &str) -> Result<i64, ScimError> {
    text.trim()
        .parse()
        .map_err(|_| ScimError::bad("invalidValue", format!("`{name}` must be a whole number")))
}

impl ListRequest {
    /// Reads the parameters of a request.
    pub fn read(query: &str) -> Result<ListRequest, ScimError> {
        let pairs: Vec<(String, String)> = form_urlencoded::parse(query.as_bytes())
            .into_owned()
            .collect();
        Self::from_parameters(|name| {
            pairs
                .iter()
                .find(|(key, _)| key.eq_ignore_ascii_case(name))
                .map(|(_, value)| value.clone())
        })
    }

    /// Reads a search that came as a body (RFC 7644 §3.4.3).
    fn body(body: &Value) -> Result<ListRequest, ScimError> {
        let named = body["schemas"].as_array().is_some_and(|urns| {
            urns.iter()
                .any(|urn| urn.as_str().is_some_and(|u| u.eq_ignore_ascii_case(SEARCH)))
        });
        if !named {
            return Err(ScimError::bad(
                "invalidSyntax",
                format!("`schemas` does not name {SEARCH}"),
            ));
        }
        Self::from_parameters(|name| match &body[name] {
            Value::String(text) => Some(text.clone()),
            Value::Number(number) => Some(number.to_string()),
            Value::Array(items) => Some(
                items
                    .iter()
                    .filter_map(Value::as_str)
                    .collect::<Vec<_>>()
                    .join(","),
            ),
            _ => None,
        })
    }

    /// `parameter` returns a parameter by its name (RFC 7644 §3.4.2).
    fn from_parameters(
        parameter: impl Fn(&str) -> Option<String>,
    ) -> Result<ListRequest, ScimError> {
        let (sort_by, order) = (parameter("sortBy"), parameter("sortOrder"));
        let (start, count, cursor) = (
            parameter("startIndex"),
            parameter("count"),
            parameter("cursor"),
        );
        let (attributes, excluded) = (parameter("attributes"), parameter("excludedAttributes"));
        let filter = parameter("filter")
            .map(|text| text.parse::<ScimFilter>())
            .transpose()
            .map_err(|error| ScimError::bad("invalidFilter", error.to_string()))?;
        let sort = match sort_by.as_deref() {
            None => None,
            Some(by) => {
                let path = AttrPath::read(by).ok_or_else(|| {
                    ScimError::bad("invalidPath", format!("`{by}` is no attribute to sort by"))
                })?;
                Some((
                    path,
                    order
                        .as_deref()
                        .is_some_and(|order| order.eq_ignore_ascii_case("descending")),
                ))
            }
        };
        // A value below one is one, a negative count is zero (RFC 7644 §3.4.2.4).
        let start = start
            .map(|text| number(&text, "startIndex"))
            .transpose()?
            .unwrap_or(1)
            .max(1) as usize;
        let count = count
            .map(|text| number(&text, "count"))
            .transpose()?
            .map_or(PAGE, |count| count.clamp(0, MAX_PAGE as i64) as usize);
        if cursor.is_some() && sort.is_some() {
            return Err(ScimError::bad(
                "invalidValue",
                "a list by cursor cannot be sorted: leave out `sortBy`",
            ));
        }
        Ok(ListRequest {
            filter,
            sort,
            start,
            count,
            cursor,
            projection: Projection::read(attributes.as_deref(), excluded.as_deref())?,
        })
    }
}

/// A filter that one look-up answers: the name or an id equals a text.
fn look_up(shelf: &Shelf, filter: &ScimFilter) -> Option<(&'static str, String)> {
    let ScimFilter::Compare(path, Operator::Eq, Value::String(text)) = filter else {
        return None;
    };
    if path.sub.is_some() {
        return None;
    }
    let is = |name: &str| path.name.eq_ignore_ascii_case(name);
    if is("id") {
        Some(("id", text.clone()))
    } else if is("externalId") {
        Some(("externalId", text.clone()))
    } else if is(shelf.kind.required) && shelf.kind.required == "userName" {
        Some(("name", text.trim().to_lowercase()))
    } else {
        None
    }
}

/// Every resource that matches, in order of creation, after a position.
async fn matching(
    context: &RequestContext,
    shelf: &Shelf,
    query: &ListRequest,
    after: i64,
) -> Result<Vec<(PushedRow, Value)>, ScimError> {
    let store = context.service.engine.store();
    let fits = |resource: &Value| {
        query
            .filter
            .as_ref()
            .is_none_or(|filter| filter.holds(resource))
    };
    if let Some((by, text)) = query
        .filter
        .as_ref()
        .and_then(|filter| look_up(shelf, filter))
    {
        let rows = match by {
            "id" => store
                .find_pushed(&context.system, shelf.object, PushedKey::Id(&text))
                .await?
                .into_iter()
                .collect(),
            "name" => store
                .find_pushed(&context.system, shelf.object, PushedKey::Name(&text))
                .await?
                .into_iter()
                .collect(),
            // The caller's own ids are no names: several resources may have one (RFC 7643 section
            // 3.1).
            _ => {
                store
                    .pushed_by_external_id(&context.system, shelf.object, &text)
                    .await?
            }
        };
        let mut found = Vec::new();
        for row in rows {
            let resource = context.dressed(shelf, &row).await?;
            if fits(&resource) && row.row > after {
                found.push((row, resource));
            }
        }
        return Ok(found);
    }
    let mut found = Vec::new();
    let mut place = after;
    loop {
        let rows = store
            .pushed_after(&context.system, shelf.object, place, SCAN)
            .await?;
        let Some(last) = rows.last().map(|row| row.row) else {
            return Ok(found);
        };
        for row in rows {
            let resource = context.dressed(shelf, &row).await?;
            if fits(&resource) {
                found.push((row, resource));
            }
        }
        place = last;
    }
}

fn sort(shelf: &Shelf, path: &AttrPath, descending: bool, found: &mut [(PushedRow, Value)]) {
    let exact = shelf.kind.case_exact(path);
    let key = |resource: &Value| -> Option<String> {
        let values = path.find(resource);
        // Of a list the primary value counts, or else the first (RFC 7644 §3.4.2.3).
        let one = values
            .iter()
            .find(|v| v["primary"] == json!(true))
            .or_else(|| values.first())?;
        let scalar = if one.is_object() { &one["value"] } else { one };
        let text = scalar
            .as_str()
            .map_or_else(|| scalar.to_string(), str::to_owned);
        Some(if exact { text } else { text.to_lowercase() })
    };
    found.sort_by(|(_, a), (_, b)| {
        let order = match (key(a), key(b)) {
            (Some(a), Some(b)) => a.cmp(&b),
            // Resources without a value come last in ascending order.
            (None, Some(_)) => Ordering::Greater,
            (Some(_), None) => Ordering::Less,
            (None, None) => Ordering::Equal,
        };
        if descending { order.reverse() } else { order }
    });
}

fn page(query: &ListRequest, total: usize, resources: &[&Value]) -> Value {
    let shown: Vec<Value> = resources
        .iter()
        .map(|resource| query.projection.of(resource))
        .collect();
    let mut body = json!({"schemas": [LIST], "totalResults": total, "itemsPerPage": shown.len(), "startIndex": query.start});
    if !shown.is_empty() {
        body["Resources"] = json!(shown);
    }
    body
}

async fn answer_list(
    context: &RequestContext,
    shelf: &Shelf,
    query: &ListRequest,
) -> Result<Response, ScimError> {
    if let Some(cursor) = &query.cursor {
        let after = match cursor.as_str() {
            "" => 0,
            text => text.parse::<i64>().map_err(|_| {
                ScimError::bad("invalidCursor", "the cursor is none that was given here")
            })?,
        };
        let found = matching(context, shelf, query, after).await?;
        let shown: Vec<&Value> = found
            .iter()
            .take(query.count)
            .map(|(_, resource)| resource)
            .collect();
        let mut body = page(query, found.len(), &shown);
        if let Some(map) = body.as_object_mut() {
            map.remove("startIndex");
            // The remaining count is not the total, so it is left out.
            if after > 0 {
                map.remove("totalResults");
                let total = matching(context, shelf, query, 0).await?.len();
                map.insert("totalResults".into(), json!(total));
            }
        }
        if found.len() > query.count
            && let Some((row, _)) = found
                .get(query.count.saturating_sub(1))
                .filter(|_| query.count > 0)
        {
            body["nextCursor"] = json!(row.row.to_string());
        }
        return Ok(answer(StatusCode::OK, &body));
    }
    if query.filter.is_none() && query.sort.is_none() {
        let store = context.service.engine.store();
        let (total, rows) = store
            .pushed_page(
                &context.system,
                shelf.object,
                query.start as i64 - 1,
                query.count as i64,
            )
            .await?;
        let mut resources = Vec::with_capacity(rows.len());
        for row in &rows {
            resources.push(context.dressed(shelf, row).await?);
        }
        return Ok(answer(
            StatusCode::OK,
            &page(query, total as usize, &resources.iter().collect::<Vec<_>>()),
        ));
    }
    let mut found = matching(context, shelf, query, 0).await?;
    if let Some((path, descending)) = &query.sort {
        sort(shelf, path, *descending, &mut found);
    }
    let shown: Vec<&Value> = found
        .iter()
        .skip(query.start - 1)
        .take(query.count)
        .map(|(_, resource)| resource)
        .collect();
    Ok(answer(StatusCode::OK, &page(query, found.len(), &shown)))
}

/// Both types in one list (RFC 7644 §3.4.2.1).
async fn answer_all(context: &RequestContext, query: &ListRequest) -> Result<Response, ScimError> {
    let mut found = Vec::new();
    for endpoint in ["Users", "Groups"] {
        found.extend(matching(context, shelf(endpoint)?, query, 0).await?);
    }
    if let Some((path, descending)) = &query.sort {
        sort(shelf("Users")?, path, *descending, &mut found);
    }
    let shown: Vec<&Value> = found
        .iter()
        .skip(query.start - 1)
        .take(query.count)
        .map(|(_, resource)| resource)
        .collect();
    Ok(answer(StatusCode::OK, &page(query, found.len(), &shown)))
}

pub async fn list(
    State(service): State<Service>,
    Path((system, kind)): Path<(String, String)>,
    request: Request,
) -> Result<Response, ScimError> {
    let shelf = shelf(&kind)?;
    let (context, _, query, _) = taken(&service, system, request).await?;
    answer_list(&context, shelf, &query).await
}

pub async fn search_users(
    State(service): State<Service>,
    Path(system): Path<String>,
    request: Request,
) -> Result<Response, ScimError> {
    search(service, system, shelf("Users")?, request).await
}

pub async fn search_groups(
    State(service): State<Service>,
    Path(system): Path<String>,
    request: Request,
) -> Result<Response, ScimError> {
    search(service, system, shelf("Groups")?, request).await
}

async fn search(
    service: Service,
    system: String,
    shelf: &Shelf,
    request: Request,
) -> Result<Response, ScimError> {
    let (context, headers, _, body) = taken(&service, system, request).await?;
    answer_list(
        &context,
        shelf,
        &ListRequest::body(&json_body(&headers, &body)?)?,
    )
    .await
}

pub async fn list_all(
    State(service): State<Service>,
    Path(system): Path<String>,
    request: Request,
) -> Result<Response, ScimError> {
    let (context, _, query, _) = taken(&service, system, request).await?;
    answer_all(&context, &query).await
}

pub async fn search_all(
    State(service): State<Service>,
    Path(system): Path<String>,
    request: Request,
) -> Result<Response, ScimError> {
    let (context, headers, _, body) = taken(&service, system, request).await?;
    answer_all(&context, &ListRequest::body(&json_body(&headers, &body)?)?).await
}
