//! What a system says about its attributes.

use crate::value::Value;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};

/// Attributes of a group that name its members.
pub(crate) const MEMBERS: [&str; 4] = ["member", "uniqueMember", "memberUid", "members"];

codes! {
    /// How values of an attribute look.
    pub enum ValueKind {
        /// Text.
        Text,
        /// True or false.
        Bool,
        /// A whole number.
        Int,
        /// An instant.
        Time,
        /// Octets.
        Bytes,
        /// A pointer to another object.
        Reference,
        /// A structured value.
        Complex,
    }
}

/// One attribute of one type of object in one system.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct AttributeDef {
    /// The name as the system writes it.
    pub name: String,
    /// How its values look.
    pub kind: ValueKind,
    /// Whether it may have several values.
    pub multi_valued: bool,
    /// Must it hold a value when an account is created?
    pub required: bool,
    /// Does case count when two values are compared? (LDAP EQUALITY, SCIM `caseExact`.)
    pub case_exact: bool,
    /// May we write it?
    pub writable: bool,
    /// Is it computed by the server from other objects (memberOf)? Such values are never compared.
    pub derived: bool,
    /// Maximum length of a value in characters, if the system states it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub max_length: Option<u32>,
    /// The only values, where the system names them; case counts as it does for the attribute.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub allowed: Vec<String>,
}

impl AttributeDef {
    /// A writable, optional, single text attribute that ignores case: the most common kind.
    pub fn text(name: impl Into<String>) -> Self {
        AttributeDef {
            name: name.into(),
            kind: ValueKind::Text,
            multi_valued: false,
            required: false,
            case_exact: false,
            writable: true,
            derived: false,
            max_length: None,
            allowed: Vec::new(),
        }
    }
}

impl AttributeDef {
    /// What is wrong with values of it: their kind, length or wording.
    pub fn value_fault(&self, values: &[Value]) -> Option<String> {
        // Nearly every attribute takes any text, and nothing need be written out to know that.
        let any = matches!(
            self.kind,
            ValueKind::Text | ValueKind::Reference | ValueKind::Bytes | ValueKind::Complex
        );
        if any && self.max_length.is_none() && self.allowed.is_empty() {
            return None;
        }
        values.iter().find_map(|value| self.one_unfit(value))
    }

    fn one_unfit(&self, value: &Value) -> Option<String> {
        let text = value.to_string();
        let fits = match (self.kind, value) {
            (ValueKind::Bool, Value::Bool(_))
            | (ValueKind::Int, Value::Int(_))
            | (ValueKind::Time, Value::Time(_)) => true,
            (ValueKind::Bool, Value::Text(text)) => {
                ["true", "false"].contains(&text.trim().to_ascii_lowercase().as_str())
            }
            (ValueKind::Int, Value::Text(text)) => text.trim().parse::<i64>().is_ok(),
            (ValueKind::Time, Value::Text(text)) => {
                text.trim().parse::<jiff::Timestamp>().is_ok()
                    || text.trim().parse::<jiff::civil::Date>().is_ok()
            }
            (ValueKind::Bool | ValueKind::Int | ValueKind::Time, _) => false,
            _ => true,
        };
        if !fits {
            return Some(format!(
                "{text:?} is not {}, as `{}` requires",
                self.kind.label(),
                self.name
            ));
        }
        let count = text.chars().count();
        if let Some(longest) = self.max_length.filter(|longest| count > *longest as usize) {
            return Some(format!(
                "{text:?} has {count} characters; `{}` allows {longest}",
                self.name
            ));
        }
        let same = |one: &str| {
            if self.case_exact {
                one == text
            } else {
                one.to_lowercase() == text.to_lowercase()
            }
        };
        if !self.allowed.is_empty() && !self.allowed.iter().any(|one| same(one)) {
            return Some(format!(
                "{text:?} is not among the values of `{}`: {}",
                self.name,
                self.allowed.join(", ")
            ));
        }
        None
    }
}

impl ValueKind {
    /// The kind in words, as expressions name what they give.
    pub fn label(self) -> &'static str {
        match self {
            ValueKind::Text => "text",
            ValueKind::Bool => "true or false",
            ValueKind::Int => "a number",
            ValueKind::Time => "an instant",
            ValueKind::Bytes => "octets",
            ValueKind::Reference => "a reference",
            ValueKind::Complex => "a structured value",
        }
    }
}

/// The attributes of one type of object in one system, by name.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct Schema {
    /// Definitions by their name.
    pub attributes: BTreeMap<String, AttributeDef>,
    /// The attribute that states whether an account is usable (SCIM `active`): a change of it is
    /// an enable or a disable, not an update.
    pub state_attribute: Option<String>,
    /// The attribute that names the account (SCIM `userName`): a change of it is a rename.
    pub name_attribute: Option<String>,
    /// Other attributes of which the system lets no two objects, of any type, hold the same value.
    pub unique: Vec<String>,
    /// Are references to other objects written with their names (a directory's DNs)? If not, with
    /// their keys (SCIM ids).
    pub refers_by_name: bool,
    /// The server itself puts a new name wherever it holds the old one, as a domain controller
    /// does.
    pub follows_renames: bool,
    /// Each object class with all classes above it, in lower case: entries may leave those out.
    pub classes: BTreeMap<String, Vec<String>>,
    /// Attributes without an ordering, in lower case: a server answers `>=` and `<=` about them
    /// with "undefined".
    pub unordered: BTreeSet<String>,
    /// Attributes that the server returns only on request, in lower case (operational attributes,
    /// RFC 4512 §3.4).
    pub operational: BTreeSet<String>,
    /// The system's names for attributes that have another name here.
    pub native: NativeNames,
    /// Whether accounts may have attributes beside these: those of a system that sends events.
    pub is_open: bool,
}

/// A system's own names for attributes that have another name here.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct NativeNames {
    /// The attributes that identify objects: their class, their key, their version.
    pub identifying: Vec<String>,
    /// The attribute behind [`Schema::state_attribute`].
    pub state: Option<String>,
    /// The attribute that requires a password change at the next sign-in.
    pub must_change: Option<String>,
    /// The entry below which deleted objects are shown.
    pub deleted_in: Option<String>,
}

impl Schema {
    /// What is wrong with values of an attribute by its definition: their kind, length or wording.
    pub fn value_fault(&self, name: &str, values: &[Value]) -> Option<String> {
        self.get(name)?.value_fault(values)
    }

    /// The definition of an attribute, whatever the case of its name and its options (`cn;lang-fr`,
    /// RFC 4512 §2.5).
    pub fn get(&self, name: &str) -> Option<&AttributeDef> {
        let name = name.split(';').next().unwrap_or(name);
        self.attributes.get(name).or_else(|| {
            self.attributes
                .values()
                .find(|def| def.name.eq_ignore_ascii_case(name))
        })
    }

    /// The attributes of which no two objects of the system hold the same value: the name first.
    pub fn unique_attributes(&self) -> impl Iterator<Item = &str> {
        self.name_attribute
            .iter()
            .chain(&self.unique)
            .map(String::as_str)
    }

    /// Whether the server returns an attribute that was not requested. A domain controller does
    /// not state which it computes on request.
    pub fn is_returned_by_default(&self, name: &str) -> bool {
        let plain = name.split(';').next().unwrap_or(name).to_lowercase();
        !self.follows_renames && !self.operational.contains(&plain)
    }

    /// Adds or replaces a definition.
    pub fn put(&mut self, def: AttributeDef) {
        self.attributes.insert(def.name.clone(), def);
    }

    /// All names, in order.
    pub fn names(&self) -> impl Iterator<Item = &str> {
        self.attributes.keys().map(String::as_str)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_are_held_against_what_the_system_says_of_them() {
        let mut schema = Schema::default();
        schema.put(AttributeDef {
            max_length: Some(4),
            ..AttributeDef::text("rank")
        });
        schema.put(AttributeDef {
            allowed: vec!["Port".into(), "Starboard".into()],
            ..AttributeDef::text("watch")
        });
        schema.put(AttributeDef {
            kind: ValueKind::Bool,
            ..AttributeDef::text("active")
        });
        let unfit =
            |name: &str, values: &[Value]| schema.value_fault(name, values).unwrap_or_default();
        assert_eq!(unfit("rank", &[Value::text("Mate")]), "");
        assert!(unfit("RANK", &[Value::text("Bosun")]).contains("5 characters; `rank` allows 4"));
        assert_eq!(
            unfit("watch", &[Value::text("port")]),
            "",
            "case does not count here"
        );
        assert!(
            unfit("watch", &[Value::text("Aft")])
                .contains("not among the values of `watch`: Port, Starboard")
        );
        assert_eq!(unfit("active", &[Value::text("TRUE")]), "");
        assert!(unfit("active", &[Value::text("perhaps")]).contains("not true or false"));
        assert_eq!(unfit("unknown", &[Value::text("x")]), "");
    }
}
