//! When two values of an attribute are the same, by the schema of their system.

use crate::references::fold_reference;
use crate::schema::{AttributeDef, ValueKind};
use crate::value::Value;

/// Whether two sets of values are equal under the rules of the target.
pub fn are_equal(def: Option<&AttributeDef>, one: &[Value], two: &[Value]) -> bool {
    if one.len() != two.len() {
        return false;
    }
    // Nearly every value is one text: it needs no list to be compared.
    if let ([Value::Text(one)], [Value::Text(two)]) = (one, two)
        && def.is_none_or(|def| def.kind != ValueKind::Reference)
    {
        return one == two
            || (def.is_some_and(|def| !def.case_exact)
                && one.to_lowercase() == two.to_lowercase());
    }
    let refers = def.is_some_and(|def| def.kind == ValueKind::Reference);
    let fold = |value: &Value| {
        let text = value.to_string();
        match (def, value) {
            _ if refers || matches!(value, Value::Reference(_)) => fold_reference(&text),
            (Some(def), Value::Text(_) | Value::Reference(_)) if !def.case_exact => {
                text.to_lowercase()
            }
            _ => text,
        }
    };
    let sorted = |values: &[Value]| {
        let mut texts: Vec<String> = values.iter().map(fold).collect();
        texts.sort();
        texts
    };
    sorted(one) == sorted(two)
}
