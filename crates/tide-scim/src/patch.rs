//! PATCH (RFC 7644 §3.5.2): operations applied to a resource.

use crate::filter::{AttrPath, Operator, ScimFilter, ScimFilterParser, member};
use serde_json::{Map, Value};
use std::collections::HashSet;

/// A PATCH that cannot be applied, with the error type of RFC 7644 §3.12.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{detail}")]
pub struct PatchError {
    /// `invalidPath`, `invalidSyntax`, `noTarget`, `invalidValue` or `mutability`.
    pub scim_type: &'static str,
    /// The fault.
    pub detail: String,
}

fn fault(scim_type: &'static str, detail: impl Into<String>) -> PatchError {
    PatchError {
        scim_type,
        detail: detail.into(),
    }
}

/// The target of an operation: an attribute, or only those of its values that match a filter, or
/// a sub-attribute of them.
#[derive(Debug, Clone, PartialEq)]
struct PatchTarget {
    path: AttrPath,
    only: Option<ScimFilter>,
    sub: Option<String>,
}

fn target(text: &str, schemas: &[String]) -> Result<PatchTarget, PatchError> {
    // The whole of an extension may be named by its URN.
    if schemas.iter().any(|urn| urn.eq_ignore_ascii_case(text)) {
        return Ok(PatchTarget {
            path: AttrPath {
                schema: None,
                name: text.to_owned(),
                sub: None,
            },
            only: None,
            sub: None,
        });
    }
    let invalid = |error: crate::ScimFilterError| fault("invalidPath", error.to_string());
    let mut reader = ScimFilterParser { text, at: 0 };
    let path = reader.path().map_err(invalid)?;
    if !reader.eat('[') {
        reader.blanks();
        return if reader.at == text.len() {
            Ok(PatchTarget {
                sub: path.sub.clone(),
                path: AttrPath { sub: None, ..path },
                only: None,
            })
        } else {
            Err(fault("invalidPath", format!("`{text}` is not a path")))
        };
    }
    let only = reader.or(0).map_err(invalid)?;
    if !reader.eat(']') {
        return Err(invalid(reader.fail("`]` is missing")));
    }
    let sub = match &text[reader.at..] {
        "" => None,
        rest => Some(
            rest.strip_prefix('.')
                .ok_or_else(|| fault("invalidPath", format!("`{text}` is not a path")))?
                .to_owned(),
        ),
    };
    Ok(PatchTarget {
        path,
        only: Some(only),
        sub,
    })
}

/// Applies the operations of a PATCH body, all or none.
pub fn apply(resource: &Value, body: &Value) -> Result<Value, PatchError> {
    let mut patched = resource.clone();
    apply_to(&mut patched, body)?;
    Ok(patched)
}

/// The same to the resource itself, which may be long. When it fails, what came before the
/// operation at fault is done.
pub fn apply_to(patched: &mut Value, body: &Value) -> Result<(), PatchError> {
    let operations = member(body, "Operations")
        .and_then(Value::as_array)
        .ok_or_else(|| fault("invalidSyntax", "the body has no list `Operations`"))?;
    let mut schemas: Vec<String> = vec![crate::ENTERPRISE.to_owned()];
    schemas.extend(
        patched["schemas"]
            .as_array()
            .into_iter()
            .flatten()
            .filter_map(|s| s.as_str().map(str::to_owned)),
    );
    for operation in operations {
        let op = member(operation, "op")
            .and_then(Value::as_str)
            .unwrap_or_default()
            .to_ascii_lowercase();
        let path = member(operation, "path").and_then(Value::as_str);
        let value = member(operation, "value");
        match (op.as_str(), path, value) {
            ("add" | "replace", Some(path), Some(value)) => {
                set(patched, &target(path, &schemas)?, value, op == "add")?
            }
            ("add" | "replace", None, Some(Value::Object(parts))) => {
                for (name, value) in parts {
                    set(patched, &target(name, &schemas)?, value, op == "add")?;
                }
            }
            ("remove", Some(path), value) => remove(patched, &target(path, &schemas)?, value)?,
            ("remove", None, _) => return Err(fault("noTarget", "`remove` needs a path")),
            ("add" | "replace", _, _) => {
                return Err(fault("invalidValue", format!("`{op}` needs a value")));
            }
            _ => {
                return Err(fault(
                    "invalidSyntax",
                    format!("`{op}` is not an operation: add, remove or replace"),
                ));
            }
        }
    }
    Ok(())
}

fn home<'v>(
    resource: &'v mut Value,
    path: &AttrPath,
) -> Result<&'v mut Map<String, Value>, PatchError> {
    let object = resource
        .as_object_mut()
        .ok_or_else(|| fault("invalidSyntax", "the resource is no object"))?;
    match &path.schema {
        Some(urn) if !urn.to_ascii_lowercase().contains(":core:") => {
            let key = key_of(object, urn);
            object
                .entry(key)
                .or_insert_with(|| Value::Object(Map::new()))
                .as_object_mut()
                .ok_or_else(|| fault("invalidPath", format!("`{urn}` is no extension")))
        }
        _ => Ok(object),
    }
}

/// The name as the object already spells it, or as requested.
fn key_of(object: &Map<String, Value>, name: &str) -> String {
    object
        .keys()
        .find(|key| key.eq_ignore_ascii_case(name))
        .cloned()
        .unwrap_or_else(|| name.to_owned())
}

fn set(
    resource: &mut Value,
    target: &PatchTarget,
    value: &Value,
    add: bool,
) -> Result<(), PatchError> {
    let readonly = ["id", "meta", "schemas"]
        .iter()
        .any(|name| target.path.name.eq_ignore_ascii_case(name));
    if readonly {
        return Err(fault(
            "mutability",
            format!("`{}` cannot be changed", target.path.name),
        ));
    }
    let object = home(resource, &target.path)?;
    let key = key_of(object, &target.path.name);
    match (&target.only, &target.sub) {
        (Some(_), _) => set_items(object, &key, target, value, add),
        (None, Some(sub)) => set_sub(object, &key, sub, value),
        (None, None) => {
            set_whole(object, key, value, add);
            Ok(())
        }
    }
}

/// Sets the items of a list that a filter selects. `add` creates an item if there is none (RFC
/// 7644 §3.5.2.1); common clients create the first address of a type in this way.
fn set_items(
    object: &mut Map<String, Value>,
    key: &str,
    target: &PatchTarget,
    value: &Value,
    add: bool,
) -> Result<(), PatchError> {
    let Some(only) = &target.only else {
        return Ok(());
    };
    let items = object.get_mut(key).and_then(Value::as_array_mut);
    let mut is_hit = false;
    for item in items.into_iter().flatten().filter(|item| only.holds(item)) {
        is_hit = true;
        match (&target.sub, item.as_object_mut()) {
            (Some(sub), Some(parts)) => {
                let key = key_of(parts, sub);
                parts.insert(key, value.clone());
            }
            (None, Some(parts)) if value.is_object() => {
                parts.extend(value.as_object().cloned().unwrap_or_default());
            }
            _ => *item = value.clone(),
        }
    }
    if is_hit {
        return Ok(());
    }
    let Some(mut item) = equalities(only).filter(|_| add) else {
        let text = format!("no value of `{key}` fits the filter");
        return Err(fault("noTarget", text));
    };
    match &target.sub {
        Some(sub) => {
            item.insert(sub.clone(), value.clone());
        }
        None => item.extend(value.as_object().cloned().unwrap_or_default()),
    }
    let list = object
        .entry(key.to_owned())
        .or_insert_with(|| Value::Array(Vec::new()));
    let Value::Array(items) = list else {
        return Err(fault("invalidPath", format!("`{key}` is no list")));
    };
    items.push(Value::Object(item));
    Ok(())
}

/// Sets a sub-attribute, in a list that of each item.
fn set_sub(
    object: &mut Map<String, Value>,
    key: &str,
    sub: &str,
    value: &Value,
) -> Result<(), PatchError> {
    let inner = object
        .entry(key.to_owned())
        .or_insert_with(|| Value::Object(Map::new()));
    match inner {
        Value::Object(parts) => {
            let key = key_of(parts, sub);
            parts.insert(key, value.clone());
        }
        Value::Array(items) => {
            for parts in items.iter_mut().filter_map(Value::as_object_mut) {
                parts.insert(sub.to_owned(), value.clone());
            }
        }
        _ => return Err(fault("invalidPath", format!("`{key}` has no parts"))),
    }
    Ok(())
}

fn set_whole(object: &mut Map<String, Value>, key: String, value: &Value, add: bool) {
    match (object.get_mut(&key), value, add) {
        // `add` to a list adds, and what is there already is not there twice.
        (Some(Value::Array(items)), new, true) => {
            let new: Vec<Value> = new.as_array().cloned().unwrap_or_else(|| vec![new.clone()]);
            // By their texts: a list can have many thousands.
            let mut there: HashSet<String> = items.iter().map(Value::to_string).collect();
            items.extend(
                new.into_iter()
                    .filter(|value| there.insert(value.to_string())),
            );
        }
        (Some(Value::Object(parts)), Value::Object(new), _) => parts.extend(new.clone()),
        (_, Value::Null, _) => {
            object.remove(&key);
        }
        _ => {
            object.insert(key, value.clone());
        }
    }
}

/// The parts of a value that a filter of equalities alone is about: what fits it and is not there
/// yet.
fn equalities(filter: &ScimFilter) -> Option<Map<String, Value>> {
    match filter {
        ScimFilter::And(one, other) => {
            let mut parts = equalities(one)?;
            parts.extend(equalities(other)?);
            Some(parts)
        }
        ScimFilter::Compare(path, Operator::Eq, value)
            if path.sub.is_none() && path.schema.is_none() =>
        {
            Some(Map::from_iter([(path.name.clone(), value.clone())]))
        }
        _ => None,
    }
}

/// Removes the values given with the operation from a list, as common clients send it: an item is
/// removed if it has everything that a given value has.
fn remove_given(items: &mut Vec<Value>, given: &[Value]) {
    let id = |value: &Value| {
        value
            .as_object()
            .filter(|parts| parts.len() == 1)?
            .get("value")?
            .as_str()
            .map(str::to_owned)
    };
    // Members are named by their ids, and there can be thousands of both.
    let ids: HashSet<String> = given.iter().filter_map(id).collect();
    let others: Vec<&Value> = given.iter().filter(|value| id(value).is_none()).collect();
    let fits = |item: &Value, given: &Value| match (item.as_object(), given.as_object()) {
        (Some(item), Some(given)) => {
            !given.is_empty()
                && given
                    .iter()
                    .all(|(name, value)| item.get(name) == Some(value))
        }
        _ => item == given,
    };
    items.retain(|item| {
        let is_named = item["value"].as_str().is_some_and(|id| ids.contains(id));
        !is_named && !others.iter().any(|given| fits(item, given))
    });
}

fn remove(
    resource: &mut Value,
    target: &PatchTarget,
    given: Option<&Value>,
) -> Result<(), PatchError> {
    let object = home(resource, &target.path)?;
    let key = key_of(object, &target.path.name);
    if let (None, None, Some(given)) = (
        &target.only,
        &target.sub,
        given.filter(|value| !value.is_null()),
    ) && let Some(items) = object.get_mut(&key).and_then(Value::as_array_mut)
    {
        remove_given(
            items,
            given
                .as_array()
                .map_or(std::slice::from_ref(given), Vec::as_slice),
        );
        if items.is_empty() {
            object.remove(&key);
        }
        return Ok(());
    }
    match (&target.only, &target.sub) {
        (Some(only), sub) => {
            let Some(items) = object.get_mut(&key).and_then(Value::as_array_mut) else {
                return Ok(());
            };
            match sub {
                Some(sub) => {
                    for parts in items
                        .iter_mut()
                        .filter(|item| only.holds(item))
                        .filter_map(Value::as_object_mut)
                    {
                        parts.remove(sub);
                    }
                }
                None => items.retain(|item| !only.holds(item)),
            }
            if items.is_empty() {
                object.remove(&key);
            }
        }
        (None, Some(sub)) => {
            if let Some(parts) = object.get_mut(&key).and_then(Value::as_object_mut) {
                let sub = key_of(parts, sub);
                parts.remove(&sub);
                if parts.is_empty() {
                    object.remove(&key);
                }
            }
        }
        (None, None) => {
            object.remove(&key);
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    fn patched(operations: Value) -> Result<Value, PatchError> {
        let user = json!({
            "schemas": [crate::USER], "id": "1", "userName": "ada", "name": {"givenName": "Ada", "familyName": "Lind"},
            "emails": [{"type": "work", "value": "a@w"}, {"type": "home", "value": "a@h"}],
            (crate::ENTERPRISE): {"department": "Deck"}
        });
        apply(
            &user,
            &json!({"schemas": [crate::PATCH_OP], "Operations": operations}),
        )
    }

    #[test]
    fn each_form_of_path_is_applied() {
        let user = patched(json!([
            {"op": "Replace", "path": "userName", "value": "ada.holm"},
            {"op": "replace", "path": "name.familyName", "value": "Holm"},
            {"op": "replace", "path": "emails[type eq \"work\"].value", "value": "ada.holm@w"},
            {"op": "remove", "path": "emails[type eq \"home\"]"},
            {"op": "add", "path": "emails", "value": [{"type": "other", "value": "x@o"}]},
            {"op": "replace", "path": format!("{}:department", crate::ENTERPRISE), "value": "Galley"},
            {"op": "add", "value": {"title": "Mate"}},
        ]))
        .expect("applies");
        assert_eq!(user["userName"], "ada.holm");
        assert_eq!(
            user["name"],
            json!({"givenName": "Ada", "familyName": "Holm"})
        );
        assert_eq!(
            user["emails"],
            json!([{"type": "work", "value": "ada.holm@w"}, {"type": "other", "value": "x@o"}])
        );
        assert_eq!(user[crate::ENTERPRISE]["department"], "Galley");
        assert_eq!(user["title"], "Mate");
    }

    #[test]
    fn values_that_are_given_are_removed_and_no_others() {
        let mut group = json!({"displayName": "Deck", "members": [{"value": "a", "type": "User"}, {"value": "b"}, {"value": "c"}]});
        let mut remove = |value: Value| {
            let body = json!({"Operations": [{"op": "remove", "path": "members", "value": value}]});
            apply_to(&mut group, &body).expect("applies");
            group["members"]
                .as_array()
                .into_iter()
                .flatten()
                .filter_map(|m| m["value"].as_str())
                .collect::<Vec<_>>()
                .join(",")
        };
        assert_eq!(remove(json!([])), "a,b,c");
        assert_eq!(remove(json!([{"value": "x"}])), "a,b,c");
        assert_eq!(remove(json!([{"value": "a"}])), "b,c");
        assert_eq!(remove(json!({"value": "b"})), "c");
        // Without a value, all values are removed, as the standard requires.
        assert_eq!(remove(Value::Null), "");
    }

    #[test]
    fn a_value_of_a_type_is_made_by_what_its_filter_says() {
        let user = patched(json!([
            {"op": "add", "path": "phoneNumbers[type eq \"work\"].value", "value": "+372 5"},
            {"op": "add", "path": "emails[type eq \"other\" and primary eq true].value", "value": "x@o"},
        ]))
        .expect("applies");
        assert_eq!(
            user["phoneNumbers"],
            json!([{"type": "work", "value": "+372 5"}])
        );
        assert_eq!(
            user["emails"][2],
            json!({"type": "other", "primary": true, "value": "x@o"})
        );
        // A filter other than a conjunction of equalities does not define a new item.
        let refused = patched(
            json!([{"op": "add", "path": "emails[type ne \"x\" and type co \"y\"].value", "value": "x"}]),
        );
        assert_eq!(refused.expect_err("refused").scim_type, "noTarget");
    }

    #[test]
    fn what_cannot_be_applied_has_the_standards_error_type() {
        for (operation, kind) in [
            (
                json!({"op": "replace", "path": "emails[type eq \"fax\"].value", "value": "x"}),
                "noTarget",
            ),
            (
                json!({"op": "replace", "path": "emails[", "value": "x"}),
                "invalidPath",
            ),
            (json!({"op": "remove"}), "noTarget"),
            (json!({"op": "turn", "path": "x"}), "invalidSyntax"),
            (
                json!({"op": "replace", "path": "id", "value": "2"}),
                "mutability",
            ),
            (json!({"op": "add", "path": "title"}), "invalidValue"),
        ] {
            assert_eq!(
                patched(json!([operation])).expect_err("refused").scim_type,
                kind,
                "{operation}"
            );
        }
    }
}
