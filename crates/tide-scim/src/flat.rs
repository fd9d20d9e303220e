//! Flat names: how mappings write SCIM's nested attributes.
//!
//! | in SCIM | flat |
//! |---|---|
//! | `userName` | `userName` |
//! | `name.familyName` | `name.familyName` |
//! | the `value` of those `emails` whose `type` is `work` | `emails.work` |
//! | the `value` of those without a type | `emails` |
//! | `urn:…:extension:enterprise:2.0:User:department` | `enterprise.department` |

use crate::filter::{member, quote};
use serde_json::{Map, Value, json};
use std::collections::BTreeMap;

/// One flat attribute: its path in a resource, and its schema.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FlatAttribute {
    /// Its flat name.
    pub name: String,
    /// The extension that it belongs to.
    pub extension: Option<String>,
    /// The attribute.
    pub attribute: String,
    /// The part of it.
    pub sub: Option<String>,
    /// For a list of typed values: the `type` of those meant.
    pub kind: Option<String>,
    /// For the values without a type that is known: the types that are, each with a name of its
    /// own.
    pub others: Vec<String>,
    /// Whether the attribute is a list of complex values.
    pub listed: bool,
    /// The SCIM type: `string`, `boolean`, `integer`, `dateTime`, `reference`, `binary`, `decimal`.
    pub scim_type: String,
    /// Whether several values are allowed.
    pub many: bool,
    /// Whether a value is required.
    pub required: bool,
    /// Whether case counts.
    pub case_exact: bool,
    /// Whether clients may write it.
    pub writable: bool,
    /// The values that the schema names (RFC 7643 §7, `canonicalValues`); none means any.
    pub allowed: Vec<String>,
}

/// The flat attributes of one type of resource.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct FlatSchema {
    /// By flat name.
    pub attributes: BTreeMap<String, FlatAttribute>,
}

/// The short word for an extension's URN: the part before its version.
fn short(urn: &str) -> String {
    let parts: Vec<&str> = urn.split(':').collect();
    let version = |part: &str| part.starts_with(|c: char| c.is_ascii_digit());
    let at = parts
        .iter()
        .rposition(|part| version(part))
        .unwrap_or(parts.len());
    parts
        .get(at.wrapping_sub(1))
        .copied()
        .unwrap_or(urn)
        .to_owned()
}

impl FlatSchema {
    /// Reads schema descriptions (RFC 7643 §7): the core schema and its extensions.
    pub fn read(schemas: &[Value], core: &str) -> FlatSchema {
        let mut flat = FlatSchema::default();
        for schema in schemas {
            let urn = schema["id"].as_str().unwrap_or_default();
            let extension = (urn != core).then(|| urn.to_owned());
            for attribute in schema["attributes"].as_array().into_iter().flatten() {
                flat.add(extension.as_deref(), attribute);
            }
        }
        // Every resource has these, whatever its schema lists (RFC 7643 §3.1).
        let own =
            |name: &str, attribute: &str, sub: Option<&str>, scim_type: &str, writable: bool| {
                FlatAttribute {
                    name: name.into(),
                    extension: None,
                    attribute: attribute.into(),
                    sub: sub.map(str::to_owned),
                    kind: None,
                    others: Vec::new(),
                    listed: false,
                    scim_type: scim_type.into(),
                    many: false,
                    required: false,
                    case_exact: true,
                    writable,
                    allowed: Vec::new(),
                }
            };
        flat.put(own("id", "id", None, "string", false));
        flat.put(own("externalId", "externalId", None, "string", true));
        flat.put(own(
            "meta.created",
            "meta",
            Some("created"),
            "dateTime",
            false,
        ));
        flat
    }

    fn put(&mut self, attribute: FlatAttribute) {
        self.attributes
            .entry(attribute.name.clone())
            .or_insert(attribute);
    }

    fn add(&mut self, extension: Option<&str>, described: &Value) {
        let Some(name) = described["name"].as_str() else {
            return;
        };
        let prefix = extension
            .map(|urn| format!("{}.", short(urn)))
            .unwrap_or_default();
        let of = |node: &Value,
                  flat: String,
                  sub: Option<&str>,
                  kind: Option<&str>,
                  many: bool,
                  listed: bool| FlatAttribute {
            name: format!("{prefix}{flat}"),
            extension: extension.map(str::to_owned),
            attribute: name.to_owned(),
            sub: sub.map(str::to_owned),
            kind: kind.map(str::to_owned),
            others: Vec::new(),
            listed,
            scim_type: node["type"].as_str().unwrap_or("string").to_owned(),
            many,
            required: node["required"] == json!(true) && described["required"] == json!(true)
                || (sub.is_none() && described["required"] == json!(true)),
            case_exact: node["caseExact"] == json!(true),
            writable: described["mutability"] != "readOnly" && node["mutability"] != "readOnly",
            allowed: allowed_values(node),
        };
        let many = described["multiValued"] == json!(true);
        if described["type"] != "complex" {
            self.put(of(described, name.to_owned(), None, None, many, false));
            return;
        }
        let subs: Vec<&Value> = described["subAttributes"]
            .as_array()
            .into_iter()
            .flatten()
            .collect();
        if !many {
            for node in subs {
                let sub = node["name"].as_str().unwrap_or_default();
                self.put(of(
                    node,
                    format!("{name}.{sub}"),
                    Some(sub),
                    None,
                    false,
                    false,
                ));
            }
            return;
        }
        let kinds = canonical_types(&subs);
        for node in subs {
            let sub = node["name"].as_str().unwrap_or_default();
            if ["type", "primary", "display", "$ref"].contains(&sub) {
                continue;
            }
            let tail = suffix_of(sub);
            for kind in &kinds {
                self.put(of(
                    node,
                    format!("{name}.{kind}{tail}"),
                    Some(sub),
                    Some(kind),
                    sub == "value",
                    true,
                ));
            }
            let others = kinds.iter().map(|kind| (*kind).to_owned()).collect();
            self.put(FlatAttribute {
                others,
                ..of(node, format!("{name}{tail}"), Some(sub), None, true, true)
            });
        }
    }

    /// The definition of a flat name, whatever its case.
    pub fn get(&self, name: &str) -> Option<&FlatAttribute> {
        self.attributes.get(name).or_else(|| {
            self.attributes
                .values()
                .find(|a| a.name.eq_ignore_ascii_case(name))
        })
    }

    /// A resource's values by flat name, as JSON scalars.
    pub fn flatten(&self, resource: &Value) -> BTreeMap<String, Vec<Value>> {
        let mut out = BTreeMap::new();
        for (name, attribute) in &self.attributes {
            let found = attribute.values(resource);
            if !found.is_empty() {
                out.insert(name.clone(), found);
            }
        }
        out
    }

    /// A resource made of flat values, for a POST or a PUT.
    pub fn build<'a>(
        &self,
        core: &str,
        values: impl Iterator<Item = (&'a str, Vec<Value>)>,
    ) -> Value {
        let mut resource = json!({"schemas": [core]});
        for (name, values) in values {
            let Some(attribute) = self.get(name) else {
                continue;
            };
            if values.is_empty() {
                continue;
            }
            if let Some(urn) = &attribute.extension
                && let Some(schemas) = resource["schemas"].as_array_mut()
                && !schemas.contains(&json!(urn))
            {
                schemas.push(json!(urn));
            }
            attribute.put(&mut resource, values);
        }
        resource
    }
}

/// The canonical values of an attribute.
fn allowed_values(node: &Value) -> Vec<String> {
    node["canonicalValues"]
        .as_array()
        .into_iter()
        .flatten()
        .filter_map(Value::as_str)
        .map(str::to_owned)
        .collect()
}

/// The types of the items of a list.
fn canonical_types<'a>(subs: &[&'a Value]) -> Vec<&'a str> {
    subs.iter()
        .filter(|node| node["name"] == "type")
        .flat_map(|node| node["canonicalValues"].as_array().into_iter().flatten())
        .filter_map(Value::as_str)
        .collect()
}

/// The end of the flat name: none for the value itself.
fn suffix_of(sub: &str) -> String {
    if sub == "value" {
        String::new()
    } else {
        format!(".{sub}")
    }
}

fn texts(values: &[Value]) -> std::collections::HashSet<String> {
    values.iter().map(Value::to_string).collect()
}

impl FlatAttribute {
    fn home<'v>(&self, resource: &'v Value) -> Option<&'v Value> {
        match &self.extension {
            Some(urn) => member(resource, urn),
            None => Some(resource),
        }
    }

    /// The values of this attribute in a resource.
    pub fn values(&self, resource: &Value) -> Vec<Value> {
        let Some(found) = self
            .home(resource)
            .and_then(|home| member(home, &self.attribute))
        else {
            return Vec::new();
        };
        let items: Vec<&Value> = match found {
            Value::Array(items) => items.iter().collect(),
            single => vec![single],
        };
        items
            .into_iter()
            .filter(|item| {
                let kind = item.get("type").and_then(Value::as_str);
                // A type that the schema does not name has no name of its own: it is not lost.
                !self.listed
                    || kind == self.kind.as_deref()
                    || (self.kind.is_none()
                        && kind.is_some_and(|k| !self.others.iter().any(|o| o == k)))
            })
            .filter_map(|item| match &self.sub {
                Some(sub) if item.is_object() => member(item, sub).cloned(),
                Some(_) if self.listed => Some(item.clone()),
                Some(_) => None,
                None => Some(item.clone()),
            })
            .filter(|value| !value.is_null() && !value.is_object() && !value.is_array())
            .collect()
    }

    fn items(&self, values: &[Value]) -> Vec<Value> {
        let sub = self.sub.as_deref().unwrap_or("value");
        values
            .iter()
            .map(|value| {
                let mut item = Map::new();
                item.insert(sub.to_owned(), value.clone());
                if let Some(kind) = &self.kind {
                    item.insert("type".into(), json!(kind));
                }
                Value::Object(item)
            })
            .collect()
    }

    fn put(&self, resource: &mut Value, values: Vec<Value>) {
        let home = match &self.extension {
            Some(urn) => &mut resource[urn.as_str()],
            None => resource,
        };
        let place = &mut home[self.attribute.as_str()];
        if self.listed {
            let sub = self.sub.as_deref().unwrap_or("value");
            let items = self.items(&values);
            match place.as_array_mut() {
                // Parts of one typed value (an address's town and street) belong to one item.
                Some(list) if sub != "value" => {
                    match list.iter_mut().find(|item| {
                        item.get("type").and_then(Value::as_str) == self.kind.as_deref()
                    }) {
                        Some(item) => item[sub] = values.into_iter().next().unwrap_or(Value::Null),
                        None => list.extend(items),
                    }
                }
                Some(list) => list.extend(items),
                None => *place = Value::Array(items),
            }
        } else if let Some(sub) = &self.sub {
            place[sub.as_str()] = values.into_iter().next().unwrap_or(Value::Null);
        } else if self.many {
            *place = Value::Array(values);
        } else {
            *place = values.into_iter().next().unwrap_or(Value::Null);
        }
    }

    /// The PATCH path of the attribute, without a filter.
    pub fn path(&self) -> String {
        match &self.extension {
            Some(urn) => format!("{urn}:{}", self.attribute),
            None => self.attribute.clone(),
        }
    }

    /// Is it a part of a typed item, beside others: the town of an address for work?
    pub fn is_part(&self) -> bool {
        self.listed && self.kind.is_some() && self.sub.as_deref().is_some_and(|sub| sub != "value")
    }

    /// Whether a resource has an item of its type.
    pub fn has_item(&self, resource: &Value) -> bool {
        let items = self
            .home(resource)
            .and_then(|home| member(home, &self.attribute))
            .and_then(Value::as_array);
        let is_of_type =
            |item: &Value| item.get("type").and_then(Value::as_str) == self.kind.as_deref();
        items.is_some_and(|items| items.iter().any(is_of_type))
    }

    /// The operation that adds one item of a type with all these parts.
    pub fn add_item(parts: &[(&FlatAttribute, Value)]) -> Option<Value> {
        let (first, _) = parts.first()?;
        let mut item = Map::new();
        item.insert("type".into(), json!(first.kind));
        item.extend(
            parts
                .iter()
                .filter_map(|(part, value)| Some((part.sub.clone()?, value.clone()))),
        );
        Some(json!({"op": "add", "path": first.path(), "value": [item]}))
    }

    /// The operations that turn the values before into the values after, and touch nothing else.
    pub fn operations(&self, before: &[Value], after: &[Value]) -> Vec<Value> {
        let path = self.path();
        // Hash look-ups instead of searches: a group can have tens of thousands of members.
        let (was, is) = (texts(before), texts(after));
        if self.listed {
            let sub = self.sub.as_deref().unwrap_or("value");
            if let (Some(kind), [_], [new]) = (&self.kind, before, after) {
                return vec![
                    json!({"op": "replace", "path": format!("{path}[type eq {}].{sub}", quote(kind)), "value": new}),
                ];
            }
            // A sub-attribute of a typed item (the locality of an address) is set and cleared
            // alone: the other sub-attributes are not ours.
            if let Some(kind) = self.kind.as_ref().filter(|_| self.is_part()) {
                let part = format!("{path}[type eq {}].{sub}", quote(kind));
                return vec![match after.first() {
                    Some(new) => json!({"op": "replace", "path": part, "value": new}),
                    None => json!({"op": "remove", "path": part}),
                }];
            }
            let mut operations = Vec::new();
            // Values that stay are not sent: a group of thousands is not rewritten for one member.
            if let (Some(kind), "value", true) = (
                &self.kind,
                sub,
                before.iter().any(|value| is.contains(&value.to_string())),
            ) {
                for gone in before
                    .iter()
                    .filter(|value| !is.contains(&value.to_string()))
                {
                    operations.push(json!({"op": "remove", "path": format!("{path}[type eq {} and value eq {gone}]", quote(kind))}));
                }
                let new: Vec<Value> = after
                    .iter()
                    .filter(|value| !was.contains(&value.to_string()))
                    .cloned()
                    .collect();
                if !new.is_empty() {
                    operations.push(json!({"op": "add", "path": path, "value": self.items(&new)}));
                }
                return operations;
            }
            match &self.kind {
                Some(kind) if !before.is_empty() => {
                    operations.push(
                        json!({"op": "remove", "path": format!("{path}[type eq {}]", quote(kind))}),
                    );
                }
                Some(_) => {}
                None => {
                    for gone in before
                        .iter()
                        .filter(|value| !is.contains(&value.to_string()))
                    {
                        operations.push(
                            json!({"op": "remove", "path": format!("{path}[{sub} eq {gone}]")}),
                        );
                    }
                }
            }
            let new: Vec<Value> = after
                .iter()
                .filter(|value| self.kind.is_some() || !was.contains(&value.to_string()))
                .cloned()
                .collect();
            if !new.is_empty() {
                operations.push(json!({"op": "add", "path": path, "value": self.items(&new)}));
            }
            return operations;
        }
        self.plain_operations(after, path)
    }

    /// The operation of an attribute that is no list of typed items.
    fn plain_operations(&self, after: &[Value], path: String) -> Vec<Value> {
        let path = match &self.sub {
            Some(sub) => format!("{path}.{sub}"),
            None => path,
        };
        match after {
            [] => vec![json!({"op": "remove", "path": path})],
            [single] if !self.many => vec![json!({"op": "replace", "path": path, "value": single})],
            several => vec![json!({"op": "replace", "path": path, "value": several})],
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn schema() -> FlatSchema {
        let typed = json!([{"name": "value", "type": "string"}, {"name": "type", "type": "string", "canonicalValues": ["work", "home"]}]);
        FlatSchema::read(
            &[
                json!({"id": crate::USER, "attributes": [
                    {"name": "userName", "type": "string", "required": true},
                    {"name": "name", "type": "complex", "subAttributes": [{"name": "familyName", "type": "string"}]},
                    {"name": "emails", "type": "complex", "multiValued": true, "subAttributes": typed},
                    {"name": "active", "type": "boolean"},
                    {"name": "groups", "type": "complex", "multiValued": true, "mutability": "readOnly", "subAttributes": [{"name": "value", "type": "string"}]},
                ]}),
                json!({"id": crate::ENTERPRISE, "attributes": [{"name": "department", "type": "string"}]}),
            ],
            crate::USER,
        )
    }

    #[test]
    fn a_resource_is_flattened_and_built_again() {
        let user = json!({
            "schemas": [crate::USER, crate::ENTERPRISE], "userName": "ada", "name": {"familyName": "Lind"}, "active": true,
            "emails": [{"value": "a@w", "type": "work"}, {"value": "b@w", "type": "work"}, {"value": "x@x"}],
            (crate::ENTERPRISE): {"department": "Deck"}
        });
        let flat = schema().flatten(&user);
        assert_eq!(flat["emails.work"], [json!("a@w"), json!("b@w")]);
        assert_eq!(flat["emails"], [json!("x@x")]);
        assert_eq!(flat["enterprise.department"], [json!("Deck")]);
        let again = schema().build(
            crate::USER,
            flat.iter()
                .map(|(name, values)| (name.as_str(), values.clone())),
        );
        assert_eq!(schema().flatten(&again), flat);
        assert!(!schema().attributes["groups"].writable);
    }

    #[test]
    fn operations_do_what_they_say_when_they_are_applied() {
        let schema = schema();
        let user = json!({"schemas": [crate::USER], "emails": [{"value": "a@w", "type": "work"}, {"value": "h@h", "type": "home"}]});
        for (name, after) in [
            ("emails.work", vec![json!("new@w")]),
            ("emails.work", vec![json!("1@w"), json!("2@w")]),
            ("emails.work", vec![]),
            ("emails", vec![json!("plain@x")]),
            ("userName", vec![json!("ada")]),
            ("name.familyName", vec![json!("Holm")]),
            ("enterprise.department", vec![json!("Galley")]),
        ] {
            let attribute = &schema.attributes[name];
            let operations = attribute.operations(&attribute.values(&user), &after);
            let body = json!({"schemas": [crate::PATCH_OP], "Operations": operations});
            let patched =
                crate::patch::apply(&user, &body).unwrap_or_else(|error| panic!("{name}: {error}"));
            assert_eq!(attribute.values(&patched), after, "{name}");
            let home = &schema.attributes["emails.home"];
            assert_eq!(
                home.values(&patched),
                [json!("h@h")],
                "{name} leaves its neighbour alone"
            );
        }
    }
}
