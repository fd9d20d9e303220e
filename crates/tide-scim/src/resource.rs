//! A resource as a service provider takes it in and gives it out: names as the schema writes them,
//! types checked, read-only values left out (RFC 7643 §2, RFC 7644 §3.3, §3.9).

use crate::filter::AttrPath;
use crate::schemas::{attribute_of, part_of};
use serde_json::{Map, Value, json};
use std::collections::{BTreeSet, HashSet};

/// A resource that is rejected, with the error type of RFC 7644 §3.12.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{detail}")]
pub struct ResourceError {
    /// `invalidSyntax`, `invalidValue` or `mutability`.
    pub scim_type: &'static str,
    /// The fault.
    pub detail: String,
}

fn fault(scim_type: &'static str, detail: impl Into<String>) -> ResourceError {
    ResourceError {
        scim_type,
        detail: detail.into(),
    }
}

/// The schemas of one type of resource.
#[derive(Debug, Clone)]
pub struct Kind {
    /// The core schema.
    pub core: Value,
    /// Its extensions.
    pub extensions: Vec<Value>,
    /// The attribute that every resource must have.
    pub required: &'static str,
    /// Its name in `meta.resourceType`.
    pub name: &'static str,
    /// Its endpoint, without a slash.
    pub endpoint: &'static str,
}

impl Kind {
    /// Users with the enterprise extension (RFC 7643 §4.1, §4.3).
    pub fn user() -> Kind {
        let extensions = vec![crate::schemas::enterprise()];
        Kind {
            core: crate::schemas::user(),
            extensions,
            required: "userName",
            name: "User",
            endpoint: "Users",
        }
    }

    /// Groups (RFC 7643 §4.2).
    pub fn group() -> Kind {
        Kind {
            core: crate::schemas::group(),
            extensions: Vec::new(),
            required: "displayName",
            name: "Group",
            endpoint: "Groups",
        }
    }

    fn urn(&self) -> &str {
        self.core["id"].as_str().unwrap_or_default()
    }

    fn extension(&self, urn: &str) -> Option<&Value> {
        self.extensions.iter().find(|schema| {
            schema["id"]
                .as_str()
                .is_some_and(|id| id.eq_ignore_ascii_case(urn))
        })
    }

    /// Reads a resource: unknown and read-only attributes are dropped, and values of the wrong
    /// type are rejected. `strict_primary` rejects two primary values; otherwise the last one
    /// stays (RFC 7644 §3.5.2).
    pub fn take(&self, given: &Value, strict_primary: bool) -> Result<Value, ResourceError> {
        let given = given
            .as_object()
            .ok_or_else(|| fault("invalidSyntax", "the body is no JSON object"))?;
        let schemas = given
            .iter()
            .find(|(name, _)| name.eq_ignore_ascii_case("schemas"))
            .map(|(_, value)| value);
        match schemas.and_then(Value::as_array) {
            Some(urns)
                if urns.iter().any(|urn| {
                    urn.as_str()
                        .is_some_and(|urn| urn.eq_ignore_ascii_case(self.urn()))
                }) => {}
            Some(_) => {
                return Err(fault(
                    "invalidValue",
                    format!("`schemas` does not name {}", self.urn()),
                ));
            }
            None => return Err(fault("invalidSyntax", "`schemas` is missing (RFC 7643 §3)")),
        }
        let mut taken = Map::new();
        for (name, value) in given {
            if name.eq_ignore_ascii_case("externalId") {
                match value {
                    Value::String(_) => {
                        taken.insert("externalId".into(), value.clone());
                    }
                    Value::Null => {}
                    _ => return Err(fault("invalidValue", "`externalId` must be text")),
                }
                continue;
            }
            if let Some(schema) = self.extension(name) {
                let inner = value
                    .as_object()
                    .ok_or_else(|| fault("invalidValue", format!("`{name}` must be an object")))?;
                let inner = attributes(schema, inner, strict_primary)?;
                if !inner.is_empty() {
                    taken.insert(
                        schema["id"].as_str().unwrap_or(name).to_owned(),
                        Value::Object(inner),
                    );
                }
                continue;
            }
            // The core schema's own URN may qualify a name (RFC 7644 §3.10).
            let plain = name
                .get(..self.urn().len())
                .filter(|p| p.eq_ignore_ascii_case(self.urn()))
                .map_or(name.as_str(), |p| name[p.len()..].trim_start_matches(':'));
            if let Some(definition) = attribute_of(&self.core, plain) {
                let own = definition["name"].as_str().unwrap_or(plain).to_owned();
                if let Some(value) = checked(definition, value, strict_primary)? {
                    taken.insert(own, value);
                }
            }
        }
        let missing = taken
            .get(self.required)
            .and_then(Value::as_str)
            .is_none_or(|text| text.trim().is_empty());
        if missing {
            return Err(fault(
                "invalidValue",
                format!("`{}` is required", self.required),
            ));
        }
        let mut schemas = vec![json!(self.urn())];
        schemas.extend(
            self.extensions
                .iter()
                .map(|s| s["id"].clone())
                .filter(|id| id.as_str().is_some_and(|id| taken.contains_key(id))),
        );
        taken.insert("schemas".into(), Value::Array(schemas));
        Ok(Value::Object(taken))
    }

    /// Checks that a change left what is immutable as it was (RFC 7643 §7): nothing of these
    /// schemas is immutable at the top, and a member's parts are: a member is replaced, not edited.
    pub fn path_known(&self, path: &AttrPath) -> bool {
        let schema = match &path.schema {
            Some(urn) if urn.eq_ignore_ascii_case(self.urn()) => &self.core,
            Some(urn) => match self.extension(urn) {
                Some(schema) => schema,
                None => return false,
            },
            None => &self.core,
        };
        let always = ["id", "externalId", "meta", "schemas"]
            .iter()
            .any(|name| name.eq_ignore_ascii_case(&path.name));
        let Some(definition) = attribute_of(schema, &path.name) else {
            return always && path.schema.is_none();
        };
        path.sub
            .as_deref()
            .is_none_or(|sub| part_of(definition, sub).is_some())
    }

    /// Whether clients may not write the attribute, by its path in this type.
    pub fn read_only(&self, path: &AttrPath) -> bool {
        let schema = path
            .schema
            .as_deref()
            .and_then(|urn| self.extension(urn))
            .unwrap_or(&self.core);
        ["id", "meta"]
            .iter()
            .any(|name| name.eq_ignore_ascii_case(&path.name))
            || attribute_of(schema, &path.name)
                .is_some_and(|definition| definition["mutability"] == "readOnly")
    }

    /// Whether case counts for this attribute. Used for sorting (RFC 7644 §3.4.2.3).
    pub fn case_exact(&self, path: &AttrPath) -> bool {
        let schema = path
            .schema
            .as_deref()
            .and_then(|urn| self.extension(urn))
            .unwrap_or(&self.core);
        let definition = attribute_of(schema, &path.name);
        let part = path
            .sub
            .as_deref()
            .and_then(|sub| definition.and_then(|d| part_of(d, sub)))
            .or(definition);
        part.is_some_and(|part| part["caseExact"] == json!(true))
    }
}

fn attributes(
    schema: &Value,
    given: &Map<String, Value>,
    strict_primary: bool,
) -> Result<Map<String, Value>, ResourceError> {
    let mut taken = Map::new();
    for (name, value) in given {
        if let Some(definition) = attribute_of(schema, name)
            && let Some(value) = checked(definition, value, strict_primary)?
        {
            taken.insert(
                definition["name"].as_str().unwrap_or(name).to_owned(),
                value,
            );
        }
    }
    Ok(taken)
}

/// A value according to its definition; `None` if it is empty, read-only or never stored.
fn checked(
    definition: &Value,
    value: &Value,
    strict_primary: bool,
) -> Result<Option<Value>, ResourceError> {
    // A password is never kept: nothing here could check it later (RFC 7643 §4.1.1).
    if definition["mutability"] == "readOnly"
        || definition["mutability"] == "writeOnly"
        || value.is_null()
    {
        return Ok(None);
    }
    if definition["multiValued"] != json!(true) {
        if value.is_array() {
            return Err(fault(
                "invalidValue",
                format!(
                    "`{}` takes one value, and a list was given",
                    name(definition)
                ),
            ));
        }
        return single(definition, value);
    }
    let items = value.as_array().ok_or_else(|| {
        fault(
            "invalidValue",
            format!("`{}` takes a list", name(definition)),
        )
    })?;
    let mut taken = Vec::with_capacity(items.len());
    // By their texts: a group can have many thousands of members.
    let mut seen: HashSet<String> = HashSet::with_capacity(items.len());
    for item in items {
        let Some(item) = single(definition, item)? else {
            continue;
        };
        if seen.insert(item.to_string()) {
            taken.push(item);
        }
    }
    one_primary(definition, &mut taken, strict_primary)?;
    Ok((!taken.is_empty()).then_some(Value::Array(taken)))
}

/// At most one value is the primary one (RFC 7643 §2.4).
fn one_primary(definition: &Value, items: &mut [Value], strict: bool) -> Result<(), ResourceError> {
    let primary: Vec<usize> = (0..items.len())
        .filter(|&at| items[at]["primary"] == json!(true))
        .collect();
    if primary.len() < 2 {
        return Ok(());
    }
    if strict {
        return Err(fault(
            "invalidValue",
            format!("`{}` has more than one primary value", name(definition)),
        ));
    }
    for &at in &primary[..primary.len() - 1] {
        items[at]["primary"] = json!(false);
    }
    Ok(())
}

fn name(definition: &Value) -> &str {
    definition["name"].as_str().unwrap_or_default()
}

fn single(definition: &Value, value: &Value) -> Result<Option<Value>, ResourceError> {
    let wrong = |wanted: &str| {
        Err(fault(
            "invalidValue",
            format!("`{}` must be {wanted}", name(definition)),
        ))
    };
    match (definition["type"].as_str().unwrap_or("string"), value) {
        (_, Value::Null) => Ok(None),
        ("complex", Value::Object(parts)) => {
            let mut taken = Map::new();
            for (part, value) in parts {
                // Canonical values are suggestions and no closed list (RFC 7643 §7): any text is
                // taken.
                if let Some(definition) = part_of(definition, part)
                    && let Some(value) = checked(definition, value, true)?
                {
                    taken.insert(name(definition).to_owned(), value);
                }
            }
            Ok((!taken.is_empty()).then_some(Value::Object(taken)))
        }
        // A list of plain values for a list of objects with a value: `["a@b"]`.
        ("complex", Value::String(_)) if definition["multiValued"] == json!(true) => {
            Ok(Some(json!({"value": value})))
        }
        ("complex", _) => wrong("an object"),
        ("boolean", Value::Bool(_)) => Ok(Some(value.clone())),
        ("boolean", Value::String(text)) if text.eq_ignore_ascii_case("true") => {
            Ok(Some(json!(true)))
        }
        ("boolean", Value::String(text)) if text.eq_ignore_ascii_case("false") => {
            Ok(Some(json!(false)))
        }
        ("boolean", _) => wrong("true or false"),
        ("integer", Value::Number(number)) if number.is_i64() => Ok(Some(value.clone())),
        ("integer", _) => wrong("a whole number"),
        ("decimal", Value::Number(_)) => Ok(Some(value.clone())),
        ("decimal", _) => wrong("a number"),
        (_, Value::String(_)) => Ok(Some(value.clone())),
        _ => wrong("text"),
    }
}

/// Which attributes of a resource are returned (RFC 7644 §3.9).
#[derive(Debug, Clone, Default)]
pub struct Projection {
    attributes: Vec<AttrPath>,
    excluded: Vec<AttrPath>,
}

impl Projection {
    /// Reads the two parameters; a name that cannot be one is refused.
    pub fn read(
        attributes: Option<&str>,
        excluded: Option<&str>,
    ) -> Result<Projection, ResourceError> {
        let paths = |text: Option<&str>| -> Result<Vec<AttrPath>, ResourceError> {
            text.into_iter()
                .flat_map(|text| text.split(','))
                .map(str::trim)
                .filter(|name| !name.is_empty())
                .map(|name| {
                    AttrPath::read(name)
                        .ok_or_else(|| fault("invalidValue", format!("`{name}` is no attribute")))
                })
                .collect()
        };
        Ok(Projection {
            attributes: paths(attributes)?,
            excluded: paths(excluded)?,
        })
    }

    /// The requested part of a resource. `id` and `schemas` are always included (RFC 7643 §3.1).
    pub fn of(&self, resource: &Value) -> Value {
        let Some(whole) = resource.as_object() else {
            return resource.clone();
        };
        let mut out = Map::new();
        if self.attributes.is_empty() {
            out = whole.clone();
        }
        for path in &self.attributes {
            copy(whole, path, &mut out);
        }
        for path in &self.excluded {
            let always = ["id", "schemas"]
                .iter()
                .any(|name| name.eq_ignore_ascii_case(&path.name));
            if !always {
                leave_out(&mut out, path);
            }
        }
        for always in ["schemas", "id"] {
            if let Some(value) = whole.get(always) {
                out.insert(always.to_owned(), value.clone());
            }
        }
        Value::Object(out)
    }
}

fn key_of<'m>(map: &'m Map<String, Value>, name: &str) -> Option<&'m str> {
    map.keys()
        .find(|key| key.eq_ignore_ascii_case(name))
        .map(String::as_str)
}

/// The object that contains a path's attribute: an extension's, or the resource itself. A path
/// may name a whole extension by its URN.
fn copy(whole: &Map<String, Value>, path: &AttrPath, out: &mut Map<String, Value>) {
    let urn = whole_urn(path);
    if let Some(key) = key_of(whole, &urn) {
        out.insert(key.to_owned(), whole[key].clone());
        return;
    }
    if let Some(key) = path.schema.as_deref().and_then(|urn| key_of(whole, urn)) {
        let mut inner = out
            .get(key)
            .and_then(Value::as_object)
            .cloned()
            .unwrap_or_default();
        if let Some(home) = whole[key].as_object() {
            copy(
                home,
                &AttrPath {
                    schema: None,
                    ..path.clone()
                },
                &mut inner,
            );
        }
        if !inner.is_empty() {
            out.insert(key.to_owned(), Value::Object(inner));
        }
        return;
    }
    let Some(key) = key_of(whole, &path.name) else {
        return;
    };
    let Some(sub) = &path.sub else {
        out.insert(key.to_owned(), whole[key].clone());
        return;
    };
    let part = |value: &Value| -> Map<String, Value> {
        let parts = value.as_object();
        parts
            .into_iter()
            .flatten()
            .filter(|(name, _)| name.eq_ignore_ascii_case(sub))
            .map(|(n, v)| (n.clone(), v.clone()))
            .collect()
    };
    match &whole[key] {
        Value::Array(items) => {
            let old = out
                .get(key)
                .and_then(Value::as_array)
                .cloned()
                .unwrap_or_default();
            let items: Vec<Value> = items
                .iter()
                .enumerate()
                .map(|(at, item)| {
                    let mut merged = old
                        .get(at)
                        .and_then(Value::as_object)
                        .cloned()
                        .unwrap_or_default();
                    merged.extend(part(item));
                    Value::Object(merged)
                })
                .collect();
            out.insert(key.to_owned(), Value::Array(items));
        }
        single => {
            let mut merged = out
                .get(key)
                .and_then(Value::as_object)
                .cloned()
                .unwrap_or_default();
            merged.extend(part(single));
            if !merged.is_empty() {
                out.insert(key.to_owned(), Value::Object(merged));
            }
        }
    }
}

/// The URN that a path may be as a whole: `urn:…:2.0:User` reads as a schema and a name.
fn whole_urn(path: &AttrPath) -> String {
    let base = match &path.schema {
        Some(urn) => format!("{urn}:{}", path.name),
        None => path.name.clone(),
    };
    match &path.sub {
        // The point of the version looks like the separator of a sub-attribute.
        Some(sub) => format!("{base}.{sub}"),
        None => base,
    }
}

fn leave_out(out: &mut Map<String, Value>, path: &AttrPath) {
    if let Some(key) = key_of(out, &whole_urn(path)).map(str::to_owned) {
        out.remove(&key);
        return;
    }
    if let Some(key) = path
        .schema
        .as_deref()
        .and_then(|urn| key_of(out, urn))
        .map(str::to_owned)
    {
        if let Some(inner) = out.get_mut(&key).and_then(Value::as_object_mut) {
            leave_out(
                inner,
                &AttrPath {
                    schema: None,
                    ..path.clone()
                },
            );
        }
        return;
    }
    let Some(key) = key_of(out, &path.name).map(str::to_owned) else {
        return;
    };
    let Some(sub) = &path.sub else {
        out.remove(&key);
        return;
    };
    let drop_part = |value: &mut Value| {
        if let Some(parts) = value.as_object_mut()
            && let Some(part) = key_of(parts, sub).map(str::to_owned)
        {
            parts.remove(&part);
        }
    };
    match out.get_mut(&key) {
        Some(Value::Array(items)) => items.iter_mut().for_each(drop_part),
        Some(single) => drop_part(single),
        None => {}
    }
}

/// The schema URNs that a resource lists in its `schemas`.
pub fn schemas_of(resource: &Value) -> BTreeSet<String> {
    resource["schemas"]
        .as_array()
        .into_iter()
        .flatten()
        .filter_map(|s| s.as_str().map(str::to_owned))
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{ENTERPRISE, USER};

    fn take(body: Value) -> Result<Value, &'static str> {
        Kind::user()
            .take(&body, true)
            .map_err(|error| error.scim_type)
    }

    #[test]
    fn a_resource_is_taken_as_its_schema_writes_it() {
        let body = json!({
            "schemas": [USER], "USERNAME": "ada", "ID": "evil", "meta": {"version": "x"}, "groups": [{"value": "g"}], "password": "p",
            "active": "False", "shoeSize": 40, "title": null, "name": {"FAMILYNAME": "Lind", "unknown": 1},
            "emails": [{"value": "a@w", "type": "boat"}, {"value": "a@w", "type": "boat"}, {}],
            (ENTERPRISE): {"department": "Deck", "manager": {"value": "7", "displayName": "x"}}
        });
        let taken = take(body).expect("taken");
        assert_eq!(
            taken,
            json!({
                "userName": "ada", "active": false, "name": {"familyName": "Lind"}, "emails": [{"value": "a@w", "type": "boat"}],
                (ENTERPRISE): {"department": "Deck", "manager": {"value": "7"}}, "schemas": [USER, ENTERPRISE]
            })
        );
    }

    #[test]
    fn what_has_the_wrong_form_is_refused_with_the_standards_word() {
        for (body, wanted) in [
            (json!([]), "invalidSyntax"),
            (json!({"userName": "a"}), "invalidSyntax"),
            (
                json!({"schemas": ["urn:x"], "userName": "a"}),
                "invalidValue",
            ),
            (json!({"schemas": [USER]}), "invalidValue"),
            (json!({"schemas": [USER], "userName": "  "}), "invalidValue"),
            (json!({"schemas": [USER], "userName": 7}), "invalidValue"),
            (
                json!({"schemas": [USER], "userName": "a", "active": "maybe"}),
                "invalidValue",
            ),
            (
                json!({"schemas": [USER], "userName": "a", "emails": "a@w"}),
                "invalidValue",
            ),
            (
                json!({"schemas": [USER], "userName": "a", "title": ["a"]}),
                "invalidValue",
            ),
            (
                json!({"schemas": [USER], "userName": "a", "name": "Ada"}),
                "invalidValue",
            ),
            (
                json!({"schemas": [USER], "userName": "a", "emails": [{"value": "a", "primary": true}, {"value": "b", "primary": true}]}),
                "invalidValue",
            ),
        ] {
            assert_eq!(take(body.clone()), Err(wanted), "{body}");
        }
    }

    #[test]
    fn what_is_asked_for_is_given_and_id_and_schemas_always() {
        let resource = json!({
            "schemas": [USER], "id": "1", "userName": "ada", "name": {"familyName": "Lind", "givenName": "Ada"},
            "emails": [{"value": "a@w", "type": "work"}], (ENTERPRISE): {"department": "Deck", "division": "Sea"}
        });
        let of = |attributes: Option<&str>, excluded: Option<&str>| {
            Projection::read(attributes, excluded)
                .expect("names")
                .of(&resource)
        };
        let base = |more: Value| {
            let mut all = json!({"schemas": [USER], "id": "1"});
            all.as_object_mut()
                .expect("object")
                .extend(more.as_object().expect("object").clone());
            all
        };
        assert_eq!(of(Some("username"), None), base(json!({"userName": "ada"})));
        assert_eq!(
            of(Some("name.familyName,emails.value"), None),
            base(json!({"name": {"familyName": "Lind"}, "emails": [{"value": "a@w"}]}))
        );
        assert_eq!(
            of(Some(&format!("{ENTERPRISE}:department")), None),
            base(json!({(ENTERPRISE): {"department": "Deck"}}))
        );
        assert_eq!(
            of(Some(ENTERPRISE), None),
            base(json!({(ENTERPRISE): {"department": "Deck", "division": "Sea"}}))
        );
        assert_eq!(of(Some("title"), None), base(json!({})));
        let without = of(None, Some("id,schemas,name.givenName,emails"));
        assert_eq!(without["id"], "1");
        assert_eq!(
            (&without["name"], without.get("emails")),
            (&json!({"familyName": "Lind"}), None)
        );
        assert_eq!(of(None, Some(ENTERPRISE)).get(ENTERPRISE), None);
        assert!(Projection::read(Some("7x"), None).is_err());
    }
}
