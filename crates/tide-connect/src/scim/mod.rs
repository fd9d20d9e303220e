//! The SCIM connector (RFC 7643, 7644): asking what the service can do, reading in pages, writing
//! with PATCH only what changed.

mod http;

use crate::{Access, CheckReport, ConnectError, Connector, Description, ScimSettings, Secret, Showing, Shown, Write};
use async_trait::async_trait;
use http::Http;
use reqwest::Method;
use serde_json::{Value as Json, json};
use std::collections::{BTreeMap, HashSet};
use std::sync::Arc;
use tide_core::decide::ChangeKind;
use tide_core::model::Observed;
use tide_core::schema::ValueKind;
use tide_core::{AttributeDef, Attributes, ObjectType, Schema, Value};
use tide_scim::filter::quote;
use tide_scim::{FlatSchema, GROUP, PATCH_OP, USER};
use tokio::sync::{OnceCell, mpsc};

/// A SCIM service.
pub struct ScimConnector {
    settings: ScimSettings,
    access: Arc<Access>,
    http: Http,
    known: OnceCell<Known>,
}

/// What the service says of itself.
struct Known {
    schemas: Vec<Json>,
    patch: bool,
    filter: bool,
    endpoints: BTreeMap<ObjectType, Endpoint>,
}

struct Endpoint {
    path: String,
    core: &'static str,
    flat: FlatSchema,
}

impl ScimConnector {
    /// A connector; nothing is sent yet.
    pub fn new(settings: ScimSettings, secret: Option<Secret>, access: Arc<Access>) -> Result<Self, ConnectError> {
        let http = Http::new(&settings, secret)?;
        Ok(ScimConnector { settings, access, http, known: OnceCell::new() })
    }

    async fn known(&self) -> Result<&Known, ConnectError> {
        self.known
            .get_or_try_init(|| async {
                let config = self.http.get("ServiceProviderConfig").await?;
                let schemas = list(&self.http.get("Schemas").await?);
                let types = list(&self.http.get("ResourceTypes").await?);
                let mut endpoints = BTreeMap::new();
                for (object, core) in [(ObjectType::Person, USER), (ObjectType::Group, GROUP)] {
                    let Some(kind) = types.iter().find(|t| t["schema"] == core) else { continue };
                    let extensions = kind["schemaExtensions"].as_array().into_iter().flatten().filter_map(|e| e["schema"].as_str());
                    let urns: Vec<&str> = std::iter::once(core).chain(extensions).collect();
                    let own: Vec<Json> =
                        schemas.iter().filter(|s| s["id"].as_str().is_some_and(|id| urns.contains(&id))).cloned().collect();
                    let path = kind["endpoint"].as_str().unwrap_or("/Users").trim_start_matches('/').to_owned();
                    endpoints.insert(object, Endpoint { path, core, flat: FlatSchema::read(&own, core) });
                }
                if endpoints.is_empty() {
                    return Err(ConnectError::system("no_users", "the service offers neither users nor groups", "check the base URL"));
                }
                Ok(Known {
                    patch: config["patch"]["supported"] == json!(true),
                    filter: config["filter"]["supported"] == json!(true),
                    schemas,
                    endpoints,
                })
            })
            .await
    }

    async fn endpoint(&self, object: ObjectType) -> Result<&Endpoint, ConnectError> {
        self.known().await?.endpoints.get(&object).ok_or_else(|| {
            ConnectError::lasting(
                "no_such_type",
                format!("the service keeps no resources of type {object}"),
                "leave this type out of the system's rules",
            )
        })
    }

    async fn enumerate(&self, object: ObjectType, out: &mpsc::Sender<Result<Shown, ConnectError>>) -> Result<usize, ConnectError> {
        let endpoint = self.endpoint(object).await?;
        let mut keys: HashSet<String> = HashSet::new();
        let mut start = 1usize;
        loop {
            let path = format!("{}?startIndex={start}&count={}", endpoint.path, self.settings.page_size);
            let page = self.http.get(&path).await?;
            let total = page["totalResults"].as_u64().ok_or_else(|| http::not_scim(&path, "the list has no totalResults"))? as usize;
            let resources = list(&page);
            let count = resources.len();
            let mut batch = Vec::with_capacity(count);
            for resource in &resources {
                let observed = observed(endpoint, resource)?;
                if keys.insert(observed.key.clone()) {
                    batch.push(observed);
                }
            }
            if !batch.is_empty() && out.send(Ok(Shown::Batch(batch))).await.is_err() {
                return Err(ConnectError::passing("stopped", "the reading was stopped", "start it again"));
            }
            start += count;
            if start > total {
                // Resources that moved between pages while we read could have been missed.
                if keys.len() != total {
                    return Err(ConnectError::passing(
                        "page_shift",
                        format!("{} of {total} resources were shown: the list changed while it was read", keys.len()),
                        "it is read again",
                    ));
                }
                return Ok(total);
            }
            if count == 0 {
                return Err(ConnectError::passing(
                    "page_empty",
                    format!("the service says that it holds {total} resources and shows {}", keys.len()),
                    "read again; if it stays, make the pages smaller",
                ));
            }
        }
    }

    fn body(&self, endpoint: &Endpoint, write: &Write) -> Json {
        endpoint.flat.build(endpoint.core, write.values.iter().map(|v| (v.attribute.as_str(), v.after.iter().map(to_json).collect())))
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
        ("dateTime", Json::String(text)) => text.parse().map_or_else(|_| Value::text(text), Value::Time),
        (_, Json::String(text)) => Value::text(text),
        (_, Json::Number(number)) => number.as_i64().map_or_else(|| Value::text(number.to_string()), Value::Int),
        _ => return None,
    })
}

fn observed(endpoint: &Endpoint, resource: &Json) -> Result<Observed, ConnectError> {
    let Some(id) = resource["id"].as_str() else {
        return Err(http::not_scim(&endpoint.path, "a resource has no id"));
    };
    let mut attributes = Attributes::new();
    for (name, values) in endpoint.flat.flatten(resource) {
        let kind = endpoint.flat.get(&name).map_or("string", |a| a.scim_type.as_str());
        attributes.set(name, values.iter().filter_map(|v| from_json(kind, v)).collect());
    }
    let name = ["userName", "displayName"].iter().find_map(|n| resource[*n].as_str()).unwrap_or(id).to_owned();
    Ok(Observed { key: id.to_owned(), name, attributes, fault: None })
}

#[async_trait]
impl Connector for ScimConnector {
    async fn check(&self) -> CheckReport {
        let mut report = CheckReport::default();
        if !self.http.check(&mut report).await {
            return report;
        }
        let known = match self.known().await {
            Ok(known) => known,
            Err(error) => {
                report.failed("Service answers", &error);
                return report;
            }
        };
        report.passed("Service answers", "SCIM 2.0, token accepted");
        let word = |yes: bool, what: &str| if yes { what.to_owned() } else { format!("no {what}") };
        report.passed(
            "Abilities",
            [word(known.patch, "PATCH"), word(known.filter, "filters"), format!("{} schemas", known.schemas.len())].join(" · "),
        );
        if !known.patch {
            report.warned(
                "Changes",
                "the service offers no PATCH, and changing whole resources is not offered yet",
                "it can be read, and accounts can be made",
            );
        }
        for (object, endpoint) in &known.endpoints {
            match self.http.get(&format!("{}?startIndex=1&count=1", endpoint.path)).await {
                Ok(page) => report.passed("First resources", format!("{} of type {object}", page["totalResults"].as_u64().unwrap_or(0))),
                Err(error) => report.failed("First resources", &error),
            }
        }
        report
    }

    async fn describe(&self) -> Result<Description, ConnectError> {
        let known = self.known().await?;
        let mut schema = BTreeMap::new();
        for (object, endpoint) in &known.endpoints {
            let mut own = Schema::default();
            for attribute in endpoint.flat.attributes.values() {
                own.put(AttributeDef {
                    name: attribute.name.clone(),
                    kind: match attribute.scim_type.as_str() {
                        "boolean" => ValueKind::Bool,
                        "integer" => ValueKind::Int,
                        "dateTime" => ValueKind::Time,
                        "reference" => ValueKind::Reference,
                        "binary" => ValueKind::Bytes,
                        _ => ValueKind::Text,
                    },
                    many: attribute.many,
                    required: attribute.required,
                    case_exact: attribute.case_exact,
                    writable: attribute.writable,
                    derived: !attribute.writable,
                });
            }
            let has = |own: &Schema, name: &str| own.get(name).map(|_| name.to_owned());
            own.state_attribute = has(&own, "active");
            own.name_attribute = has(&own, "userName").or_else(|| has(&own, "displayName"));
            schema.insert(*object, own);
        }
        let abilities =
            [("PATCH", known.patch), ("filter", known.filter)].iter().filter(|(_, yes)| *yes).map(|(what, _)| (*what).to_owned()).collect();
        Ok(Description { schema, abilities })
    }

    fn observe(self: Arc<Self>, object: ObjectType) -> Showing {
        crate::show(move |out| async move { self.enumerate(object, &out).await })
    }

    async fn find(&self, object: ObjectType, probes: &[(String, Value)]) -> Result<Vec<Observed>, ConnectError> {
        let endpoint = self.endpoint(object).await?;
        let mut found: Vec<Observed> = Vec::new();
        for (name, value) in probes {
            let Some(attribute) = endpoint.flat.get(name) else { continue };
            let sub = attribute.sub.as_ref().map(|sub| format!(".{sub}")).unwrap_or_default();
            let filter = format!("{}{sub} eq {}", attribute.path(), quote(&value.to_string()));
            let page = self.http.query(&endpoint.path, &[("filter", &filter)]).await?;
            for resource in list(&page) {
                let one = observed(endpoint, &resource)?;
                if !found.iter().any(|other| other.key == one.key) {
                    found.push(one);
                }
            }
        }
        Ok(found)
    }

    async fn write(&self, write: &Write) -> Result<Observed, ConnectError> {
        let permit = self.access.permit(write.object)?;
        let endpoint = self.endpoint(write.object).await?;
        if write.kind == ChangeKind::Create {
            let made = self.http.send(Method::POST, &endpoint.path, &self.body(endpoint, write), &permit).await?;
            return observed(endpoint, &made);
        }
        let Some((id, name)) = &write.account else {
            return Err(ConnectError::lasting("no_account", "the change names no account", "decide again: start a new run"));
        };
        if write.kind == ChangeKind::Delete {
            return Err(ConnectError::lasting("not_offered", format!("deleting {name} is not offered yet"), "delete it in the service"));
        }
        if !self.known().await?.patch {
            return Err(ConnectError::lasting(
                "no_patch",
                "the service offers no PATCH, and changing whole resources is not offered yet",
                "change it in the service",
            ));
        }
        let operations: Vec<Json> = write
            .values
            .iter()
            .filter_map(|value| endpoint.flat.get(&value.attribute).map(|attribute| (attribute, value)))
            .flat_map(|(attribute, value)| {
                let json = |values: &[Value]| values.iter().map(to_json).collect::<Vec<_>>();
                attribute.operations(&json(&value.before), &json(&value.after))
            })
            .collect();
        let path = format!("{}/{}", endpoint.path, http::segment(id));
        let body = json!({"schemas": [PATCH_OP], "Operations": operations});
        let answer = self.http.send(Method::PATCH, &path, &body, &permit).await?;
        // RFC 7644 §3.5.2: the service may answer 204 without a body.
        let now = if answer.is_null() { self.http.get(&path).await? } else { answer };
        observed(endpoint, &now)
    }
}
