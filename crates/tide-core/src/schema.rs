//! What a system says about its attributes.

use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// How values of an attribute look.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
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

/// One attribute of one type of object in one system.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct AttributeDef {
    /// The name as the system writes it.
    pub name: String,
    /// How its values look.
    pub kind: ValueKind,
    /// May it hold several values?
    pub many: bool,
    /// Must it hold a value when an account is created?
    pub required: bool,
    /// Does case count when two values are compared? (LDAP EQUALITY, SCIM `caseExact`.)
    pub case_exact: bool,
    /// May we write it?
    pub writable: bool,
    /// Is it computed by the server from other objects (memberOf)? Such values are never compared.
    pub derived: bool,
}

impl AttributeDef {
    /// A writable, optional, single text attribute that ignores case: the commonest sort.
    pub fn text(name: impl Into<String>) -> Self {
        AttributeDef {
            name: name.into(),
            kind: ValueKind::Text,
            many: false,
            required: false,
            case_exact: false,
            writable: true,
            derived: false,
        }
    }
}

/// The attributes of one type of object in one system, by name.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Schema {
    /// Definitions by their name.
    pub attributes: BTreeMap<String, AttributeDef>,
    /// The attribute that says whether an account is usable (SCIM `active`): a change of it is an
    /// enable or a disable, not an update.
    pub state_attribute: Option<String>,
    /// The attribute that names the account (SCIM `userName`): a change of it is a rename.
    pub name_attribute: Option<String>,
}

impl Schema {
    /// The definition of an attribute, whatever the case of its name.
    pub fn get(&self, name: &str) -> Option<&AttributeDef> {
        self.attributes.get(name).or_else(|| self.attributes.values().find(|def| def.name.eq_ignore_ascii_case(name)))
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
