//! The SCIM connector (RFC 7643, 7644). It detects the capabilities of the service and adapts:
//! lists are read by cursor or by index; changes are sent as PATCH or, without PATCH, as PUT of the
//! whole resource; look-ups use a filter or, without filters, the whole list.

pub(crate) mod http;

use crate::tls::Trust;
use crate::{
    CheckReport, ConnectError, ConnectionState, Connector, Description, ScimSettings, Secret,
    SnapshotItem, SnapshotStream, Write,
};
use async_trait::async_trait;
use http::{Answer, Http, HttpSettings};
use reqwest::Method;
use serde_json::{Value as Json, json};
use std::collections::{BTreeMap, HashSet};
use std::sync::Arc;
use tide_core::compare::ValueChange;
use tide_core::model::Observed;
use tide_core::schema::ValueKind;
use tide_core::states::{ChangeKind, CheckStepKind, WatchMode};
use tide_core::{AttributeDef, Attributes, ObjectType, Schema, Value};
use tide_scim::filter::quote;
use tide_scim::flat::FlatAttribute;
use tide_scim::{BULK, FlatSchema, GROUP, PATCH_OP, USER, patch};
use tokio::sync::{OnceCell, mpsc};

/// The most values of one list that one PATCH adds or removes: a large group is changed in pieces.
const PIECE: usize = 200;

/// A part of a typed item, with its value.
type Part<'a> = (&'a FlatAttribute, Json);

/// How far before the last change each poll begins.
const LOOK_BACK: jiff::SignedDuration = jiff::SignedDuration::from_mins(5);

/// A SCIM service.
pub struct ScimConnector {
    settings: ScimSettings,
    access: Arc<ConnectionState>,
    http: Http,
    known: OnceCell<ScimCapabilities>,
}

/// What the service states about itself.
struct ScimCapabilities {
    schemas: Vec<Json>,
    patch: bool,
    filter: bool,
    etag: bool,
    /// Lists are read by cursor (RFC 9865).
    cursor: bool,
    /// The most operations of one bulk request (RFC 7644 §3.7); none when it is not offered.
    bulk: Option<usize>,
    /// The largest page that the service returns.
    largest: usize,
    documentation: Option<String>,
    endpoints: BTreeMap<ObjectType, Endpoint>,
}

struct Endpoint {
    path: String,
    core: &'static str,
    flat: FlatSchema,
}

impl ScimConnector {
    /// A connector; nothing is sent yet.
    pub fn new(
        settings: ScimSettings,
        secret: Option<Secret>,
        access: Arc<ConnectionState>,
    ) -> Result<Self, ConnectError> {
        let way = HttpSettings {
            url: &settings.url,
            trust: Trust {
                ca_pem: settings.ca_pem.as_deref(),
                pin: settings.pin_sha256.as_deref(),
                own: None,
            },
            timeout_seconds: settings.timeout_seconds,
            auth: &settings.auth,
            in_flight: settings.in_flight,
            per_second: settings.per_second,
        };
        let http = Http::new(&way, secret, access.clone())?;
        Ok(ScimConnector {
            settings,
            access,
            http,
            known: OnceCell::new(),
        })
    }

    async fn capabilities(&self) -> Result<&ScimCapabilities, ConnectError> {
        self.known.get_or_try_init(|| self.discover()).await
    }

    /// Reads a discovery endpoint that a simple service may lack.
    async fn get_optional(&self, path: &str) -> Result<Json, ConnectError> {
        match self.http.get(path).await {
            Err(error) if error.code == "not_scim" && error.status == Some(404) => Ok(Json::Null),
            other => other,
        }
    }

    async fn discover(&self) -> Result<ScimCapabilities, ConnectError> {
        let config = self.http.get("ServiceProviderConfig").await?;
        let mut schemas = list(&self.get_optional("Schemas").await?);
        if schemas.is_empty() {
            // It publishes none: the standard's own are taken (RFC 7643 §8.7).
            schemas = tide_scim::schemas::all();
        }
        let mut types = list(&self.get_optional("ResourceTypes").await?);
        if types.is_empty() {
            types = vec![
                json!({"schema": USER, "endpoint": "/Users", "schemaExtensions": [{"schema": tide_scim::ENTERPRISE}]}),
            ];
        }
        let mut endpoints = BTreeMap::new();
        for (object, core) in [(ObjectType::Person, USER), (ObjectType::Group, GROUP)] {
            let Some(kind) = types.iter().find(|t| t["schema"] == core) else {
                continue;
            };
            let extensions = kind["schemaExtensions"]
                .as_array()
                .into_iter()
                .flatten()
                .filter_map(|e| e["schema"].as_str());
            let urns: Vec<&str> = std::iter::once(core).chain(extensions).collect();
            let own: Vec<Json> = schemas
                .iter()
                .filter(|s| s["id"].as_str().is_some_and(|id| urns.contains(&id)))
                .cloned()
                .collect();
            let path = kind["endpoint"]
                .as_str()
                .unwrap_or("/Users")
                .trim_start_matches('/')
                .to_owned();
            self.http.url(&path)?;
            endpoints.insert(
                object,
                Endpoint {
                    path,
                    core,
                    flat: FlatSchema::read(&own, core),
                },
            );
        }
        if endpoints.is_empty() {
            return Err(ConnectError::system_down(
                "no_users",
                "the service offers neither users nor groups",
                "check the base URL",
            ));
        }
        let offered = |name: &str| config[name]["supported"] == json!(true);
        let paging = &config["pagination"];
        let bulk = offered("bulk")
            .then(|| config["bulk"]["maxOperations"].as_u64().unwrap_or(1) as usize)
            .filter(|most| *most > 1);
        let largest = [&paging["maxPageSize"], &config["filter"]["maxResults"]]
            .iter()
            .filter_map(|n| n.as_u64())
            .filter(|n| *n > 0)
            .min();
        Ok(ScimCapabilities {
            patch: offered("patch"),
            filter: offered("filter"),
            etag: offered("etag"),
            cursor: paging["cursor"] == json!(true),
            bulk,
            largest: largest.map_or(usize::MAX, |n| n as usize),
            documentation: config["documentationUri"].as_str().map(str::to_owned),
            schemas,
            endpoints,
        })
    }

    async fn endpoint(&self, object: ObjectType) -> Result<&Endpoint, ConnectError> {
        self.capabilities()
            .await?
            .endpoints
            .get(&object)
            .ok_or_else(|| {
                ConnectError::permanent(
                    "no_such_type",
                    format!("the service has no resources of type {object}"),
                    "remove this type from the system's rules",
                )
            })
    }

    /// Polls for resources that were modified since an instant of the service's clock (RFC 7643
    /// §3.1, RFC 7644 §3.4.2.2).
    async fn poll_modified(
        &self,
        object: ObjectType,
        from: &str,
        out: &tokio::sync::mpsc::Sender<Result<crate::ChangeEvent, ConnectError>>,
    ) -> Result<(), ConnectError> {
        let endpoint = self.endpoint(object).await?;
        let size =
            usize::from(self.settings.page_size.max(1)).min(self.capabilities().await?.largest);
        let since = from.parse::<jiff::Timestamp>().unwrap_or_default();
        // Earlier writes can appear later. Receiving a resource twice has no effect.
        let looked_back = since.saturating_sub(LOOK_BACK).unwrap_or(since);
        let filter = http::segment(&format!("meta.lastModified ge \"{looked_back}\""));
        let (mut start, mut last) = (1usize, since);
        let mut seen: HashSet<String> = HashSet::new();
        loop {
            let page = self
                .http
                .get(&format!(
                    "{}?filter={filter}&startIndex={start}&count={size}",
                    endpoint.path
                ))
                .await?;
            let resources = list(&page);
            let mut changed = Vec::with_capacity(resources.len());
            for resource in &resources {
                let at = resource["meta"]["lastModified"]
                    .as_str()
                    .and_then(|at| at.parse::<jiff::Timestamp>().ok());
                last = last.max(at.unwrap_or(last));
                let account = account_of_resource(endpoint, resource)?;
                seen.insert(account.key.clone());
                changed.push(account);
            }
            start += resources.len();
            if !changed.is_empty() {
                out.send(Ok(crate::ChangeEvent::Changed(changed)))
                    .await
                    .map_err(crate::change_events::stopped)?;
            }
            let total = page["totalResults"].as_u64().unwrap_or_default() as usize;
            if resources.is_empty() || start > total {
                if seen.len() < total {
                    // A resource moved between two pages: the poll is repeated before it continues.
                    let said = format!(
                        "{} of {total} changed resources were returned: the list changed during the read",
                        seen.len()
                    );
                    return Err(ConnectError::transient(
                        "page_shift",
                        said,
                        "it is polled again",
                    ));
                }
                return out
                    .send(Ok(crate::ChangeEvent::Checkpoint(last.to_string())))
                    .await
                    .map_err(crate::change_events::stopped);
            }
        }
    }

    /// Reads a whole list page by page, and hands each page on.
    async fn read_pages<F>(
        &self,
        endpoint: &Endpoint,
        mut each: impl FnMut(Vec<Observed>) -> F,
    ) -> Result<usize, ConnectError>
    where
        F: Future<Output = Result<(), ConnectError>>,
    {
        let known = self.capabilities().await?;
        let size = usize::from(self.settings.page_size.max(1)).min(known.largest);
        let mut keys: HashSet<String> = HashSet::new();
        let mut start = 1usize;
        let mut cursor: Option<String> = known.cursor.then(String::new);
        loop {
            let path = match &cursor {
                // An empty cursor asks for the first page by cursor (RFC 9865 §2.1).
                Some(cursor) => format!(
                    "{}?cursor={}&count={size}",
                    endpoint.path,
                    http::segment(cursor)
                ),
                None => format!("{}?startIndex={start}&count={size}", endpoint.path),
            };
            let page = self.http.get(&path).await?;
            let resources = list(&page);
            let (count, before) = (resources.len(), keys.len());
            let mut batch = Vec::with_capacity(count);
            for resource in &resources {
                let observed = account_of_resource(endpoint, resource)?;
                if keys.insert(observed.key.clone()) {
                    batch.push(observed);
                }
            }
            if !batch.is_empty() {
                each(batch).await?;
            }
            if cursor.is_some() {
                cursor = next_cursor(&page, cursor.as_deref(), keys.len(), before)?;
                if cursor.is_none() {
                    return Ok(keys.len());
                }
                continue;
            }
            let total = page["totalResults"]
                .as_u64()
                .ok_or_else(|| http::not_scim(&path, "the list has no totalResults"))?
                as usize;
            start += count;
            if start > total {
                // Resources that moved between pages while we read could have been missed.
                if keys.len() != total {
                    return Err(ConnectError::transient(
                        "page_shift",
                        format!(
                            "{} of {total} resources were returned: the list changed during the read",
                            keys.len()
                        ),
                        "it is read again",
                    ));
                }
                return Ok(total);
            }
            if count == 0 {
                return Err(ConnectError::transient(
                    "page_empty",
                    format!(
                        "the service reports {total} resources and returns {}",
                        keys.len()
                    ),
                    "read again; if it persists, use smaller pages",
                ));
            }
        }
    }

    async fn enumerate(
        &self,
        object: ObjectType,
        out: &mpsc::Sender<Result<SnapshotItem, ConnectError>>,
    ) -> Result<SnapshotItem, ConnectError> {
        let endpoint = self.endpoint(object).await?;
        let total = self
            .read_pages(endpoint, |batch| async move {
                out.send(Ok(SnapshotItem::Batch(batch))).await.map_err(|_| {
                    ConnectError::transient("stopped", "the read was stopped", "start it again")
                })
            })
            .await?;
        Ok(SnapshotItem::Complete(total))
    }

    /// The PATCH operations of a change, in requests of limited size. `there` is the resource,
    /// where it is needed.
    ///
    /// `there` is the resource, where it is needed: a part of a typed item can be set alone only if
    /// the item is there.
    fn patch_requests(
        &self,
        endpoint: &Endpoint,
        write: &Write,
        there: Option<&Json>,
    ) -> Vec<Vec<Json>> {
        let json = |values: &[Value]| values.iter().map(to_json).collect::<Vec<_>>();
        let known = || {
            write
                .values
                .iter()
                .filter_map(|value| Some((endpoint.flat.get(&value.attribute)?, value)))
        };
        let is_new = |attribute: &FlatAttribute| {
            attribute.is_part() && there.is_some_and(|there| !attribute.has_item(there))
        };
        let mut new: BTreeMap<(String, Option<String>), Vec<Part<'_>>> = BTreeMap::new();
        for (attribute, value) in known().filter(|(attribute, _)| is_new(attribute)) {
            let item = new
                .entry((attribute.path(), attribute.kind.clone()))
                .or_default();
            item.extend(value.after.first().map(|value| (attribute, to_json(value))));
        }
        let mut pieces: Vec<Vec<Json>> = vec![Vec::new()];
        let mut weight = 0;
        // SCIM has no attribute to require a new password at the next sign-in.
        let operations = known()
            .filter(|(attribute, _)| !is_new(attribute))
            .flat_map(|(attribute, value)| {
                attribute.operations(&json(&value.before), &json(&value.after))
            });
        let operations: Vec<Json> = operations
            .chain(
                new.values()
                    .filter_map(|parts| FlatAttribute::add_item(parts)),
            )
            .collect();
        for operation in operations {
            let parts = match (operation["op"].as_str(), operation["value"].as_array()) {
                (Some("add"), Some(values)) if values.len() > PIECE => values
                    .chunks(PIECE)
                    .map(|chunk| {
                        let mut part = operation.clone();
                        part["value"] = json!(chunk);
                        part
                    })
                    .collect(),
                _ => vec![operation],
            };
            for part in parts {
                let own = part["value"].as_array().map_or(1, Vec::len);
                if weight > 0 && weight + own > PIECE {
                    pieces.push(Vec::new());
                    weight = 0;
                }
                weight += own;
                if let Some(last) = pieces.last_mut() {
                    last.push(part);
                }
            }
        }
        pieces
    }

    /// Changes a resource. Returns the resource afterwards, and whether it is the response to the
    /// change itself, which may have no body. `shown` requests a part of the resource only.
    async fn change_resource(
        &self,
        endpoint: &Endpoint,
        id: &str,
        write: &Write,
        shown: Option<&str>,
        permit: &crate::Permit,
    ) -> Result<(Json, bool), ConnectError> {
        let known = self.capabilities().await?;
        let path = format!("{}/{}", endpoint.path, http::segment(id));
        let may_be_new = |value: &ValueChange| {
            value.before.is_empty()
                && endpoint
                    .flat
                    .get(&value.attribute)
                    .is_some_and(FlatAttribute::is_part)
        };
        let there = match write.values.iter().any(may_be_new) {
            true => Some(self.http.get(&path).await?),
            false => None,
        };
        let pieces = self.patch_requests(endpoint, write, there.as_ref());
        if !known.patch {
            return self.put(&path, &pieces, permit).await;
        }
        if let (Some(most), true) = (known.bulk, pieces.len() > 1) {
            return Ok((self.send_bulk(&path, &pieces, most, permit).await?, false));
        }
        let asked = shown.map_or_else(
            || path.clone(),
            |shown| format!("{path}?attributes={shown}"),
        );
        let mut now = Json::Null;
        for operations in pieces {
            let body = json!({"schemas": [PATCH_OP], "Operations": operations});
            now = self
                .http
                .send(Method::PATCH, &asked, &body, None, permit)
                .await?
                .body;
        }
        // RFC 7644 §3.5.2: the service may answer 204 without a body.
        if now.is_null() && shown.is_none() {
            Ok((self.http.get(&path).await?, false))
        } else {
            Ok((now, true))
        }
    }

    /// Replaces a whole resource (RFC 7644 §3.5.1): its current state with our values. With a
    /// version, a change in between is detected, and the replacement is retried with the newer
    /// state.
    async fn put(
        &self,
        path: &str,
        pieces: &[Vec<Json>],
        permit: &crate::Permit,
    ) -> Result<(Json, bool), ConnectError> {
        for attempt in 0.. {
            let Answer {
                body: mut resource,
                etag,
                ..
            } = self.http.read(path).await?;
            for operations in pieces {
                let body = json!({"schemas": [PATCH_OP], "Operations": operations});
                resource = patch::apply(&resource, &body).map_err(|error| {
                    ConnectError::permanent(
                        "value",
                        format!("the change does not fit the resource: {}", error.detail),
                        "read the system again",
                    )
                })?;
            }
            if let Some(map) = resource.as_object_mut() {
                // Read-only, and ours to leave out (RFC 7643 §3.1).
                map.remove("meta");
                map.remove("groups");
            }
            let version = etag.filter(|_| self.known.get().is_some_and(|known| known.etag));
            match self
                .http
                .send(Method::PUT, path, &resource, version.as_deref(), permit)
                .await
            {
                Err(error) if error.code == "changed" && attempt < 2 => {}
                Ok(answer) if answer.body.is_null() => {
                    return Ok((self.http.get(path).await?, false));
                }
                other => return other.map(|answer| (answer.body, true)),
            }
        }
        Err(ConnectError::transient(
            "changed",
            "the account was changed repeatedly in the meantime",
            "decided again at the next run",
        ))
    }

    /// Sends the parts of one large change in as few requests as the service allows (RFC 7644
    /// §3.7).
    async fn send_bulk(
        &self,
        path: &str,
        pieces: &[Vec<Json>],
        most: usize,
        permit: &crate::Permit,
    ) -> Result<Json, ConnectError> {
        for some in pieces.chunks(most) {
            let operations: Vec<Json> = some
                .iter()
                .map(|operations| {
                    json!({"method": "PATCH", "path": format!("/{path}"), "data": {"schemas": [PATCH_OP], "Operations": operations}})
                })
                .collect();
            let body = json!({"schemas": [BULK], "failOnErrors": 1, "Operations": operations});
            let answer = self
                .http
                .send(Method::POST, "Bulk", &body, None, permit)
                .await?
                .body;
            let failed = answer["Operations"]
                .as_array()
                .into_iter()
                .flatten()
                .find(|done| {
                    let status = done["status"]
                        .as_str()
                        .map_or_else(|| done["status"]["code"].to_string(), str::to_owned);
                    !status.trim_matches('"').starts_with('2')
                });
            if let Some(failed) = failed {
                let detail = failed["response"]["detail"]
                    .as_str()
                    .unwrap_or("no reason given");
                return Err(ConnectError::permanent(
                    "refused",
                    format!("the service rejects a part of the change: {detail}"),
                    "correct the value",
                ));
            }
        }
        self.http.get(path).await
    }

    /// The account that was created. The response should contain it (RFC 7644 §3.3); if not, it
    /// is read at the returned location or searched: it exists, and must not be created again.
    async fn created_account(
        &self,
        endpoint: &Endpoint,
        answer: Answer,
    ) -> Result<Observed, ConnectError> {
        if answer.body["id"].is_string() {
            return account_of_resource(endpoint, &answer.body);
        }
        let lost = |said: String| {
            ConnectError::unknown_outcome(
                "answer_lost",
                said,
                "the account is looked for before anything is sent again",
            )
        };
        let Some(place) = answer.location.filter(|place| !place.is_empty()) else {
            return Err(lost(
                "the service created the account but returned neither its id nor its location"
                    .to_owned(),
            ));
        };
        match self.http.at(&place).await {
            Ok(body) if body["id"].is_string() => account_of_resource(endpoint, &body),
            Ok(_) => Err(lost(
                "the resource at the returned location has no id".to_owned(),
            )),
            Err(error) => Err(lost(format!(
                "the created account cannot be read: {}",
                error.message
            ))),
        }
    }

    fn body(&self, endpoint: &Endpoint, write: &Write) -> Json {
        endpoint.flat.build(
            endpoint.core,
            write
                .values
                .iter()
                .map(|v| (v.attribute.as_str(), v.after.iter().map(to_json).collect())),
        )
    }
}

/// An account that no longer exists.
fn removed_account(id: &str, name: &str) -> Observed {
    Observed {
        key: id.to_owned(),
        name: name.to_owned(),
        attributes: Attributes::new(),
        fault: None,
        version: None,
        is_exact: true,
    }
}

fn list(body: &Json) -> Vec<Json> {
    match body {
        Json::Array(items) => items.clone(),
        _ => body["Resources"].as_array().cloned().unwrap_or_default(),
    }
}

fn to_json(value: &Value) -> Json {
    match value {
        Value::Bool(truth) => json!(truth),
        Value::Int(number) => json!(number),
        other => json!(other.to_string()),
    }
}

fn from_json(kind: &str, value: &Json) -> Option<Value> {
    Some(match (kind, value) {
        (_, Json::Bool(truth)) => Value::Bool(*truth),
        // Some services send truths as text.
        ("boolean", Json::String(text)) if text.eq_ignore_ascii_case("true") => Value::Bool(true),
        ("boolean", Json::String(text)) if text.eq_ignore_ascii_case("false") => Value::Bool(false),
        ("reference", Json::String(text)) => Value::Reference(text.clone()),
        ("dateTime", Json::String(text)) => {
            text.parse().map_or_else(|_| Value::text(text), Value::Time)
        }
        (_, Json::String(text)) => Value::text(text),
        (_, Json::Number(number)) => number
            .as_i64()
            .map_or_else(|| Value::text(number.to_string()), Value::Int),
        _ => return None,
    })
}

fn account_of_resource(endpoint: &Endpoint, resource: &Json) -> Result<Observed, ConnectError> {
    observed_by(&endpoint.flat, &endpoint.path, resource)
}

/// The account that a resource is, by its flat names.
pub(crate) fn observed_by(
    flat: &FlatSchema,
    path: &str,
    resource: &Json,
) -> Result<Observed, ConnectError> {
    let Some(id) = resource["id"].as_str() else {
        return Err(http::not_scim(path, "a resource has no id"));
    };
    let mut attributes = Attributes::new();
    for (name, values) in flat.flatten(resource) {
        let kind = flat.get(&name).map_or("string", |a| a.scim_type.as_str());
        attributes.set(
            name,
            values.iter().filter_map(|v| from_json(kind, v)).collect(),
        );
    }
    let name = ["userName", "displayName"]
        .iter()
        .find_map(|n| resource[*n].as_str())
        .unwrap_or(id)
        .to_owned();
    Ok(Observed {
        key: id.to_owned(),
        name,
        attributes,
        fault: None,
        version: None,
        is_exact: true,
    })
}

#[async_trait]
impl Connector for ScimConnector {
    async fn check(&self, report: &mut CheckReport) {
        if !self.http.check(report).await {
            return;
        }
        let known = match self.capabilities().await {
            Ok(known) => known,
            Err(error) => return report.failed(CheckStepKind::Service, &error),
        };
        report.passed(CheckStepKind::Service, "SCIM 2.0, token accepted");
        report.passed(CheckStepKind::Capabilities, known.labels().join(" · "));
        if !known.filter {
            report.warned(
                CheckStepKind::Filters,
                "the service supports no filters: look-ups read the whole list",
                "no action needed; it is slower",
            );
        }
        for (object, endpoint) in &known.endpoints {
            match self
                .http
                .get(&format!("{}?startIndex=1&count=3", endpoint.path))
                .await
            {
                Ok(page) => {
                    let names: Vec<String> = list(&page)
                        .iter()
                        .filter_map(|r| account_of_resource(endpoint, r).ok())
                        .map(|o| o.name)
                        .take(3)
                        .collect();
                    let first = if names.is_empty() {
                        String::new()
                    } else {
                        format!("; the first: {}", names.join(" · "))
                    };
                    report.passed(
                        CheckStepKind::FirstResources,
                        format!(
                            "{} of type {object}{first}",
                            page["totalResults"].as_u64().unwrap_or(0)
                        ),
                    );
                }
                Err(error) => return report.failed(CheckStepKind::FirstResources, &error),
            }
        }
    }

    async fn describe(&self) -> Result<Description, ConnectError> {
        let known = self.capabilities().await?;
        let schema = known
            .endpoints
            .iter()
            .map(|(object, endpoint)| (*object, schema_of(&endpoint.flat)))
            .collect();
        let mut profile = vec![("Product".to_owned(), "a SCIM 2.0 service".to_owned())];
        profile.push(("Offers".to_owned(), known.labels().join(" · ")));
        profile.extend(
            known
                .documentation
                .iter()
                .map(|uri| ("Documentation".to_owned(), uri.clone())),
        );
        let extensions: Vec<&str> = known
            .schemas
            .iter()
            .filter_map(|s| s["id"].as_str())
            .filter(|id| *id != USER && *id != GROUP)
            .collect();
        if !extensions.is_empty() {
            profile.push(("Extensions".to_owned(), extensions.join(" · ")));
        }
        let own = match &self.settings.auth {
            crate::ScimAuth::Basic { user } => vec![user.to_lowercase()],
            _ => Vec::new(),
        };
        Ok(Description {
            schema,
            abilities: known.labels(),
            profile,
            own,
        })
    }

    fn read_all(self: Arc<Self>, object: ObjectType) -> SnapshotStream {
        crate::spawn_snapshot(move |out| async move { self.enumerate(object, &out).await })
    }

    async fn watch_modes(&self) -> Result<Vec<WatchMode>, ConnectError> {
        let known = self.capabilities().await?;
        let mut ways = vec![WatchMode::FullRead];
        if let (true, Some(endpoint)) = (known.filter, known.endpoints.get(&ObjectType::Person)) {
            // A service that keeps no times cannot be asked by them, whatever it can filter by.
            let first = list(
                &self
                    .http
                    .get(&format!("{}?startIndex=1&count=1", endpoint.path))
                    .await?,
            );
            if first
                .first()
                .is_none_or(|one| one["meta"]["lastModified"].is_string())
            {
                ways.insert(0, WatchMode::LastModified);
            }
        }
        Ok(ways)
    }

    async fn current_cursor(
        &self,
        _object: ObjectType,
        _way: WatchMode,
    ) -> Result<Option<String>, ConnectError> {
        // The clock of the service is unknown before its first answer: the first poll covers a
        // day.
        let from = tide_clock::now()
            .saturating_sub(jiff::SignedDuration::from_hours(24))
            .unwrap_or_default();
        Ok(Some(from.to_string()))
    }

    fn watch(
        self: Arc<Self>,
        object: ObjectType,
        way: WatchMode,
        from: Option<String>,
    ) -> crate::ChangeStream {
        crate::change_events::follow(move |out| async move {
            match (way, from) {
                (WatchMode::LastModified, Some(from)) => {
                    self.poll_modified(object, &from, &out).await
                }
                _ => Err(ConnectError::permanent(
                    "no_way",
                    format!(
                        "a SCIM service does not support the watch mode {}",
                        way.as_str()
                    ),
                    "choose another watch mode",
                )),
            }
        })
    }

    fn visibility_lag(&self) -> std::time::Duration {
        std::time::Duration::from_secs(u64::from(self.settings.visible_after_seconds))
    }

    async fn confirm_missing(
        &self,
        object: ObjectType,
        keys: &[String],
    ) -> Result<Option<Vec<Observed>>, ConnectError> {
        let endpoint = self.endpoint(object).await?;
        let mut there = Vec::new();
        for key in keys {
            match self
                .http
                .get(&format!("{}/{}", endpoint.path, http::segment(key)))
                .await
            {
                Ok(resource) => there.push(account_of_resource(endpoint, &resource)?),
                Err(error) if error.code == "gone" => {}
                Err(error) => return Err(error),
            }
        }
        Ok(Some(there))
    }

    async fn find(
        &self,
        object: ObjectType,
        probes: &[(String, Value)],
    ) -> Result<Vec<Observed>, ConnectError> {
        let endpoint = self.endpoint(object).await?;
        let mut found: Vec<Observed> = Vec::new();
        if !self.capabilities().await?.filter {
            let fits = |account: &Observed| {
                probes.iter().any(|(name, value)| {
                    account
                        .attributes
                        .get(name)
                        .iter()
                        .any(|there| there.to_string().eq_ignore_ascii_case(&value.to_string()))
                })
            };
            let seen = std::sync::Mutex::new(&mut found);
            self.read_pages(endpoint, |batch| {
                let mut seen = seen
                    .lock()
                    .unwrap_or_else(std::sync::PoisonError::into_inner);
                seen.extend(batch.into_iter().filter(&fits));
                std::future::ready(Ok(()))
            })
            .await?;
            return Ok(found);
        }
        for (name, value) in probes {
            let Some(attribute) = endpoint.flat.get(name) else {
                continue;
            };
            let sub = attribute
                .sub
                .as_ref()
                .map(|sub| format!(".{sub}"))
                .unwrap_or_default();
            let filter = format!("{}{sub} eq {}", attribute.path(), quote(&value.to_string()));
            let page = self
                .http
                .query(&endpoint.path, &[("filter", &filter)])
                .await?;
            for resource in list(&page) {
                let one = account_of_resource(endpoint, &resource)?;
                if !found.iter().any(|other| other.key == one.key) {
                    found.push(one);
                }
            }
        }
        Ok(found)
    }

    async fn write(&self, write: &Write) -> Result<Observed, ConnectError> {
        let permit = self.access.permit_write(write.object)?;
        let endpoint = self.endpoint(write.object).await?;
        if write.kind == ChangeKind::Create {
            let made = self
                .http
                .send(
                    Method::POST,
                    &endpoint.path,
                    &self.body(endpoint, write),
                    None,
                    &permit,
                )
                .await?;
            return self.created_account(endpoint, made).await;
        }
        let Some((id, name)) = &write.account else {
            return Err(ConnectError::permanent(
                "no_account",
                "the change has no account",
                "decide again: start a new run",
            ));
        };
        if write.kind == ChangeKind::Delete {
            return match self
                .http
                .remove(&format!("{}/{}", endpoint.path, http::segment(id)), &permit)
                .await
            {
                // An object that does not exist is deleted already.
                Ok(()) => Ok(removed_account(id, name)),
                Err(error) if error.code == "gone" => Ok(removed_account(id, name)),
                Err(error) => Err(error),
            };
        }
        let (now, is_exact) = self
            .change_resource(endpoint, id, write, None, &permit)
            .await?;
        Ok(Observed {
            is_exact,
            ..account_of_resource(endpoint, &now)?
        })
    }

    async fn write_membership(&self, write: &Write) -> Result<(), ConnectError> {
        let permit = self.access.permit_write(write.object)?;
        let endpoint = self.endpoint(write.object).await?;
        let Some((id, _)) = &write.account else {
            return Err(ConnectError::permanent(
                "no_account",
                "the change has no group",
                "decide again: start a new run",
            ));
        };
        // RFC 7644 §3.5.2: the answer contains the whole resource unless attributes are requested.
        self.change_resource(endpoint, id, write, Some("id"), &permit)
            .await
            .map(|_| ())
    }

    async fn poll_operation(
        &self,
        write: &Write,
        place: &str,
    ) -> Result<Option<Observed>, ConnectError> {
        let endpoint = self.endpoint(write.object).await?;
        if let (ChangeKind::Delete, Some((id, name))) = (write.kind, &write.account) {
            return match self
                .http
                .get(&format!("{}/{}", endpoint.path, http::segment(id)))
                .await
            {
                Ok(_) => Ok(None),
                Err(error) if error.code == "gone" => Ok(Some(removed_account(id, name))),
                Err(error) => Err(error),
            };
        }
        if !place.is_empty() {
            match self.http.at(place).await {
                Ok(body)
                    if body["id"].is_string()
                        && body["schemas"]
                            .as_array()
                            .is_some_and(|all| all.contains(&json!(endpoint.core))) =>
                {
                    return account_of_resource(endpoint, &body).map(Some);
                }
                // The answer contains no account: reading the account shows whether the operation
                // is done.
                Ok(_) => {}
                Err(error) if error.class == crate::FailureClass::Accepted => return Ok(None),
                Err(error) if error.code == "gone" || error.code == "not_scim" => {}
                Err(error) => return Err(error),
            }
        }
        let there = match &write.account {
            Some((id, _)) => {
                let path = format!("{}/{}", endpoint.path, http::segment(id));
                Some(account_of_resource(endpoint, &self.http.get(&path).await?)?)
            }
            None => {
                let name = write
                    .values
                    .iter()
                    .find(|value| ["userName", "displayName"].contains(&value.attribute.as_str()));
                let probe = name.and_then(|value| {
                    Some((value.attribute.clone(), value.after.first()?.clone()))
                });
                self.find(write.object, &probe.into_iter().collect::<Vec<_>>())
                    .await?
                    .into_iter()
                    .next()
            }
        };
        let schema = schema_of(&endpoint.flat);
        let holds = |account: &Observed| {
            write.values.iter().all(|value| {
                let def = schema.get(&value.attribute);
                def.is_none()
                    || tide_core::equality::are_equal(
                        def,
                        &value.after,
                        account.attributes.get(&value.attribute),
                    )
            })
        };
        Ok(there.filter(holds))
    }
}

impl ScimCapabilities {
    fn labels(&self) -> Vec<String> {
        let mut all = vec![if self.patch {
            "PATCH".to_owned()
        } else {
            "no PATCH: whole resources are sent (PUT)".to_owned()
        }];
        all.push(if self.filter {
            "filters".into()
        } else {
            "no filters".into()
        });
        all.push(if self.cursor {
            "pages by cursor".into()
        } else {
            "pages by index".into()
        });
        if self.largest < usize::MAX {
            all.push(format!("at most {} a page", self.largest));
        }
        if self.etag {
            all.push("versions (ETag)".into());
        }
        if let Some(most) = self.bulk {
            all.push(format!("bulk of {most}"));
        }
        all.push(format!("{} schemas", self.schemas.len()));
        all
    }
}

/// Whether an attribute refers to another resource.
fn is_reference(attribute: &tide_scim::flat::FlatAttribute) -> bool {
    ["members", "manager"].contains(&attribute.attribute.as_str())
        && attribute.sub.as_deref() == Some("value")
}

/// The schema of a service, as decisions use it.
pub(crate) fn schema_of(flat: &FlatSchema) -> Schema {
    let mut own = Schema::default();
    for attribute in flat.attributes.values() {
        own.put(AttributeDef {
            name: attribute.name.clone(),
            kind: match attribute.scim_type.as_str() {
                // Their values are ids of other resources, and the standard calls them texts (RFC
                // 7643 §4.2, §4.3).
                "string" if is_reference(attribute) => ValueKind::Reference,
                "boolean" => ValueKind::Bool,
                "integer" => ValueKind::Int,
                "dateTime" => ValueKind::Time,
                "reference" => ValueKind::Reference,
                "binary" => ValueKind::Bytes,
                _ => ValueKind::Text,
            },
            multi_valued: attribute.many,
            required: attribute.required,
            case_exact: attribute.case_exact,
            writable: attribute.writable,
            derived: !attribute.writable,
            max_length: None,
            allowed: attribute.allowed.clone(),
        });
    }
    let has = |own: &Schema, name: &str| own.get(name).map(|_| name.to_owned());
    own.state_attribute = has(&own, "active");
    own.name_attribute = has(&own, "userName").or_else(|| has(&own, "displayName"));
    own
}

/// The cursor of the next page (RFC 9865 §2.1); none at the end of the list. `read` and `before` count
/// the resources with this page and without it.
///
/// # Errors
/// The list must be read again: a cursor came back, no resource was new, or some are missing.
fn next_cursor(
    page: &Json,
    cursor: Option<&str>,
    read: usize,
    before: usize,
) -> Result<Option<String>, ConnectError> {
    let again =
        |code, message: String| Err(ConnectError::transient(code, message, "it is read again"));
    match page["nextCursor"].as_str() {
        Some(next) if Some(next) == cursor => again(
            "page_loop",
            "the service returned the same cursor again".to_owned(),
        ),
        // A service with a cursor cycle returns no new resources.
        Some(_) if read == before => again(
            "page_loop",
            "the service returned a cursor after a page without new resources".to_owned(),
        ),
        Some(next) => Ok(Some(next.to_owned())),
        None => {
            let total = page["totalResults"]
                .as_u64()
                .map_or(read, |total| total as usize);
            if read < total {
                return again(
                    "page_shift",
                    format!("{read} of {total} resources were returned before the cursors ended"),
                );
            }
            Ok(None)
        }
    }
}
