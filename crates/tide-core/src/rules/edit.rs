//! Writing rule files: the first file of a newly connected system, and a changed scope in a file
//! that is there. Comments and order of what is not touched survive.

use super::RuleFile;
use crate::schema::Schema;
use crate::states::{ObjectType, SystemKind, SystemRole};
use serde::{Deserialize, Serialize};
use toml_edit::{Array, ArrayOfTables, DocumentMut, InlineTable, Item, Table, Value, value};

/// A container in a scope.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct ContainerEdit {
    /// Its name.
    pub dn: String,
    /// Only what lies directly in it?
    pub one_level: bool,
}

/// A group in a scope.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct GroupEdit {
    /// Its name.
    pub name: String,
    /// The system that holds it, when it is not the scope's own.
    pub system: Option<String>,
    /// Whether members of its member groups count.
    pub nested: bool,
}

/// A condition in a scope.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct ConditionEdit {
    /// The expression.
    pub when: String,
    /// The reason for records for which it does not hold.
    pub otherwise: Option<String>,
}

/// A whole scope, as it is edited.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct ScopeEdit {
    /// Containers that are read.
    pub within: Vec<ContainerEdit>,
    /// Containers that are left out.
    pub except: Vec<ContainerEdit>,
    /// Groups of which one must hold the record.
    pub groups: Vec<GroupEdit>,
    /// Groups whose members are out of scope.
    pub not_groups: Vec<GroupEdit>,
    /// A filter.
    pub filter: Option<String>,
    /// Conditions.
    pub conditions: Vec<ConditionEdit>,
}

fn inline(pairs: impl IntoIterator<Item = (&'static str, Value)>) -> Value {
    let mut table = InlineTable::new();
    for (key, value) in pairs {
        table.insert(key, value);
    }
    Value::InlineTable(table)
}

fn list(values: impl Iterator<Item = Value>) -> Item {
    let mut array = Array::new();
    for one in values {
        array.push_formatted(one.decorated("\n    ", ""));
    }
    array.set_trailing("\n");
    array.set_trailing_comma(true);
    Item::Value(Value::Array(array))
}

fn containers(edits: &[ContainerEdit]) -> Item {
    list(edits.iter().map(|edit| match edit.one_level {
        false => Value::from(edit.dn.as_str()),
        true => inline([("dn", edit.dn.as_str().into()), ("levels", "one".into())]),
    }))
}

fn groups(edits: &[GroupEdit]) -> Item {
    list(edits.iter().map(|edit| {
        if edit.nested && edit.system.is_none() {
            return Value::from(edit.name.as_str());
        }
        let system = edit
            .system
            .as_deref()
            .map(|system| ("system", Value::from(system)));
        let nested = (!edit.nested).then_some(("nested", Value::from(false)));
        inline(
            [("name", Value::from(edit.name.as_str()))]
                .into_iter()
                .chain(system)
                .chain(nested),
        )
    }))
}

/// A file without the entries that are about one system: guards, approvals and whatever else is
/// listed with `system = NAME`, and examples of accounts in it. Comments and order of the rest
/// stay.
///
/// # Errors
///
/// When the file cannot be read.
pub fn without_system(text: &str, system: &str) -> Result<String, String> {
    let mut document: DocumentMut = text.parse().map_err(|error: toml_edit::TomlError| {
        format!("the file cannot be read: {}", error.message())
    })?;
    let is_changed = remove_about(document.as_table_mut(), system);
    Ok(if is_changed {
        document.to_string()
    } else {
        text.to_owned()
    })
}

fn remove_about(table: &mut Table, system: &str) -> bool {
    let is_about = |table: &Table| {
        ["system", "account_in"]
            .iter()
            .any(|key| table.get(key).and_then(Item::as_str) == Some(system))
    };
    let (mut is_changed, mut emptied) = (false, Vec::new());
    for (name, item) in table.iter_mut() {
        if let Some(tables) = item.as_array_of_tables_mut() {
            let before = tables.len();
            tables.retain(|table| !is_about(table));
            is_changed |= tables.len() != before;
            if tables.is_empty() {
                emptied.push(name.get().to_owned());
            }
        } else if let Some(table) = item.as_table_mut() {
            is_changed |= remove_about(table, system);
        }
    }
    emptied.iter().for_each(|name| drop(table.remove(name)));
    is_changed
}

/// Puts a scope into the text of a system's file.
pub fn with_scope(text: &str, kind: ObjectType, edit: &ScopeEdit) -> Result<String, String> {
    let mut document: DocumentMut = text.parse().map_err(|error: toml_edit::TomlError| {
        format!("the file cannot be read: {}", error.message())
    })?;
    let section = document
        .entry(kind.as_str())
        .or_insert_with(|| Item::Table(Table::new()));
    let section = section
        .as_table_mut()
        .ok_or_else(|| format!("`{kind}` is not a table"))?;
    let empty = *edit == ScopeEdit::default();
    if empty {
        section.remove("scope");
        return Ok(document.to_string());
    }
    let scope = section
        .entry("scope")
        .or_insert_with(|| Item::Table(Table::new()));
    let scope = scope
        .as_table_mut()
        .ok_or("`scope` must be a table of its own: write it as [person.scope]")?;
    let mut set = |key: &str, item: Item, there: bool| {
        if there {
            scope.insert(key, item);
        } else {
            scope.remove(key);
        }
    };
    set("within", containers(&edit.within), !edit.within.is_empty());
    set("except", containers(&edit.except), !edit.except.is_empty());
    set("groups", groups(&edit.groups), !edit.groups.is_empty());
    set(
        "not_groups",
        groups(&edit.not_groups),
        !edit.not_groups.is_empty(),
    );
    set(
        "filter",
        value(edit.filter.clone().unwrap_or_default()),
        edit.filter.is_some(),
    );
    let mut conditions = ArrayOfTables::new();
    for condition in &edit.conditions {
        let mut table = Table::new();
        table.insert("when", value(&condition.when));
        if let Some(otherwise) = &condition.otherwise {
            table.insert("reason", value(otherwise));
        }
        conditions.push(table);
    }
    set(
        "condition",
        Item::ArrayOfTables(conditions),
        !edit.conditions.is_empty(),
    );
    Ok(document.to_string())
}

/// The scope that a file holds, as it can be edited.
pub fn scope_of(scope: &super::Scope) -> ScopeEdit {
    let containers = |all: &[super::Container]| {
        all.iter()
            .map(|c| ContainerEdit {
                dn: c.dn.to_string(),
                one_level: c.one_level,
            })
            .collect()
    };
    let groups = |all: &[super::GroupScope]| {
        all.iter()
            .map(|g| GroupEdit {
                name: g.name.clone(),
                system: g.system.clone(),
                nested: g.nested,
            })
            .collect()
    };
    ScopeEdit {
        within: containers(&scope.within),
        except: containers(&scope.except),
        groups: groups(&scope.groups),
        not_groups: groups(&scope.not_groups),
        filter: scope.filter.as_ref().map(|filter| filter.source.clone()),
        conditions: scope
            .conditions
            .iter()
            .map(|c| ConditionEdit {
                when: c.when.source().to_owned(),
                otherwise: Some(c.reason.clone()),
            })
            .collect(),
    }
}

/// The attributes that identities usually have, and under which names systems of each kind keep
/// them: (identity, LDAP, SCIM, feeds' columns, unique).
const USUAL: [(&str, &str, &str, &[&str]); 9] = [
    (
        "employeeNumber",
        "employeeNumber",
        "enterprise.employeeNumber",
        &["employeenumber", "number", "personnelnumber", "id"],
    ),
    (
        "givenName",
        "givenName",
        "name.givenName",
        &["givenname", "firstname", "given"],
    ),
    (
        "familyName",
        "sn",
        "name.familyName",
        &["familyname", "lastname", "surname", "family"],
    ),
    (
        "displayName",
        "displayName",
        "displayName",
        &["displayname", "name", "fullname"],
    ),
    ("mail", "mail", "emails.work", &["mail", "email", "address"]),
    ("title", "title", "title", &["title", "position", "rank"]),
    (
        "department",
        "departmentNumber",
        "enterprise.department",
        &["department", "unit"],
    ),
    (
        "port",
        "l",
        "addresses.work.locality",
        &["port", "site", "town", "location"],
    ),
    ("active", "enabled", "active", &["active", "enabled"]),
];

/// The attribute of a system that corresponds to a common attribute, if its schema has it.
fn equivalent_attribute(
    schema: &Schema,
    kind: SystemKind,
    usual: &(&str, &str, &str, &[&str]),
) -> Option<String> {
    let fixed = match kind {
        SystemKind::Ldap => Some(usual.1),
        SystemKind::Scim | SystemKind::Push => Some(usual.2),
        _ => None,
    };
    if let Some(name) = fixed {
        return schema.get(name).map(|def| def.name.clone());
    }
    let plain = |name: &str| {
        name.chars()
            .filter(char::is_ascii_alphanumeric)
            .collect::<String>()
            .to_lowercase()
    };
    usual
        .3
        .iter()
        .find_map(|wanted| schema.names().find(|name| plain(name) == **wanted))
        .map(str::to_owned)
}

/// The expression that reads an attribute.
fn read_expression(name: &str) -> String {
    let plain = name.split('.').all(|part| {
        !part.is_empty() && part.chars().all(|c| c.is_ascii_alphanumeric() || c == '_')
    });
    if plain {
        format!("account.{name}")
    } else {
        format!("account[\"{name}\"]")
    }
}

/// The second attribute in which many directories store a common value.
const SECOND_PLACES: [(&str, &str); 2] = [("employeeNumber", "employeeID"), ("displayName", "cn")];

/// The expression that reads a common value: from its first attribute, or from the second where
/// the system has both.
fn reads_usual(schema: &Schema, kind: SystemKind, identity: &str, account: &str) -> String {
    let second = SECOND_PLACES
        .iter()
        .find(|(name, _)| *name == identity && kind == SystemKind::Ldap)
        .map(|(_, second)| *second);
    match second.and_then(|second| schema.get(second)) {
        Some(second) => format!(
            "coalesce({}, {})",
            read_expression(account),
            read_expression(&second.name)
        ),
        None => read_expression(account),
    }
}

/// An outbound mapping; a value that the system requires is `required`.
fn outbound_mapping(schema: &Schema, attribute: &str, from: &str) -> String {
    match schema.get(attribute).is_some_and(|def| def.required) {
        true => format!("\"{attribute}\" = {{ value = '{from}', required = true }}\n"),
        false => format!("\"{attribute}\" = '{from}'\n"),
    }
}

/// The system for which the first rule file is written.
#[derive(Debug, Clone, Copy)]
pub struct NewSystemRules<'a> {
    /// Its name.
    pub system: &'a str,
    /// Its kind.
    pub kind: SystemKind,
    /// Whether it supplies values or receives accounts.
    pub purpose: SystemRole,
    /// Its scope.
    pub scope: &'a ScopeEdit,
}

/// The first rule file of a system: scope, match rules and mappings that its schema supports.
pub fn first_rule_file(
    new: NewSystemRules<'_>,
    schema: &Schema,
    declared: &[String],
) -> Result<String, String> {
    let NewSystemRules {
        system,
        kind,
        purpose,
        scope,
    } = new;
    let (role, what) = match purpose {
        SystemRole::Source => ("inbound", "It supplies values of identities."),
        SystemRole::Target => ("outbound", "It receives accounts."),
    };
    let mut text = format!(
        "# {system}: {what} Generated when the system was added; edit it as you like.\nsystem = \"{system}\"\n\n[person]\n"
    );
    if purpose == SystemRole::Target {
        text.push_str("# Accounts of leavers, and accounts out of scope, are disabled, not deleted.\non_out_of_scope = \"disable\"\n");
    }
    let here = |name: &str| declared.is_empty() || declared.iter().any(|known| known == name);
    let pairs: Vec<(&str, String)> = USUAL
        .iter()
        .filter(|usual| here(usual.0))
        .filter_map(|usual| Some((usual.0, equivalent_attribute(schema, kind, usual)?)))
        .collect();
    for (name, label) in [("employeeNumber", "employee number"), ("mail", "address")] {
        if let Some((identity, account)) = pairs.iter().find(|(identity, _)| *identity == name) {
            text.push_str(&format!(
                "\n[[person.match]]\nname = \"{label}\"\naccount = '{}'\nidentity = 'identity.{identity}'\n",
                if name == "mail" { format!("lower({})", read_expression(account)) } else { reads_usual(schema, kind, identity, account) }
            ));
        }
    }
    text.push_str(&format!("\n[person.{role}]\n"));
    for (identity, account) in &pairs {
        let line = match purpose {
            SystemRole::Source if *identity == "mail" => {
                format!("{identity} = 'lower(trim({}))'\n", read_expression(account))
            }
            SystemRole::Source => format!(
                "{identity} = '{}'\n",
                reads_usual(schema, kind, identity, account)
            ),
            SystemRole::Target => {
                outbound_mapping(schema, account, &format!("identity.{identity}"))
            }
        };
        text.push_str(&line);
    }
    if purpose == SystemRole::Target && kind == SystemKind::Scim {
        for (attribute, from) in [("externalId", "identity.id"), ("userName", "identity.mail")] {
            let known = from == "identity.id" || here("mail");
            if known
                && schema.get(attribute).is_some()
                && !pairs.iter().any(|(_, account)| account == attribute)
            {
                text.push_str(&outbound_mapping(schema, attribute, from));
            }
        }
    }
    with_scope(&text, ObjectType::Person, scope)
}

/// The first `identities.toml`, for a rule set that has none.
pub fn first_identities(label: bool) -> RuleFile {
    let mut text =
        "# The attributes of identities. `required` ones must have a value, `unique` ones may not be shared.\n\n[person]\n".to_owned();
    if label {
        text.push_str("label = \"displayName\"\n");
    }
    text.push_str("\n[person.attributes]\n");
    for (name, ..) in USUAL {
        let more = if name == "employeeNumber" {
            "{ unique = true }"
        } else {
            "{}"
        };
        text.push_str(&format!("{name} = {more}\n"));
    }
    RuleFile {
        name: "identities.toml".into(),
        text,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::rules::RuleSet;
    use crate::schema::AttributeDef;

    fn dock(kind: SystemKind, purpose: SystemRole, scope: &ScopeEdit) -> NewSystemRules<'_> {
        NewSystemRules {
            system: "dock",
            kind,
            purpose,
            scope,
        }
    }

    #[test]
    fn a_scope_is_changed_and_the_rest_of_the_file_stays() {
        let text = "# ours\nsystem = \"harbour\" # the directory\n\n[person.scope]\nwithin = [\"ou=a,dc=e\"]\n\n[person.inbound]\nmail = 'account.mail' # kept\n";
        let edit = ScopeEdit {
            within: vec![ContainerEdit {
                dn: "ou=people,dc=e".into(),
                one_level: true,
            }],
            except: vec![ContainerEdit {
                dn: "ou=kiosks,ou=people,dc=e".into(),
                one_level: false,
            }],
            groups: vec![GroupEdit {
                name: "cn=deck,dc=e".into(),
                system: None,
                nested: false,
            }],
            filter: Some("(mail=*)".into()),
            conditions: vec![ConditionEdit {
                when: "account.mail != null".into(),
                otherwise: Some("has no \"address\"".into()),
            }],
            ..ScopeEdit::default()
        };
        let changed = with_scope(text, ObjectType::Person, &edit).expect("changed");
        assert!(
            changed.contains("# ours")
                && changed.contains("# the directory")
                && changed.contains("mail = 'account.mail' # kept"),
            "{changed}"
        );
        let files = [
            first_identities(true),
            RuleFile {
                name: "harbour.toml".into(),
                text: changed.clone(),
            },
        ];
        let (rules, faults) = RuleSet::load(&files, &Default::default());
        assert!(
            !faults
                .iter()
                .any(|f| f.severity == crate::rules::FaultSeverity::Error),
            "{faults:?}\n{changed}"
        );
        assert_eq!(
            scope_of(
                &rules
                    .of("harbour", ObjectType::Person)
                    .expect("there")
                    .scope
            ),
            edit,
            "it reads back as it was written"
        );
        let emptied =
            with_scope(&changed, ObjectType::Person, &ScopeEdit::default()).expect("changed");
        assert!(!emptied.contains("scope"), "{emptied}");
    }

    #[test]
    fn a_directory_whose_people_lack_a_display_name_still_has_labels() {
        let mut schema = Schema::default();
        ["employeeNumber", "employeeID", "displayName", "cn", "mail"]
            .iter()
            .for_each(|name| schema.put(AttributeDef::text(*name)));
        let text = first_rule_file(
            dock(SystemKind::Ldap, SystemRole::Source, &ScopeEdit::default()),
            &schema,
            &[],
        )
        .expect("written");
        assert!(
            text.contains("displayName = 'coalesce(account.displayName, account.cn)'"),
            "{text}"
        );
        assert!(
            text.contains("account = 'coalesce(account.employeeNumber, account.employeeID)'"),
            "{text}"
        );
        let written = first_rule_file(
            dock(SystemKind::Ldap, SystemRole::Target, &ScopeEdit::default()),
            &schema,
            &[],
        )
        .expect("written");
        assert!(
            written.contains("\"displayName\" = 'identity.displayName'"),
            "{written}"
        );
    }

    #[test]
    fn the_first_file_of_a_system_is_sound_for_every_kind() {
        let schema = |names: &[&str]| {
            let mut schema = Schema::default();
            names.iter().for_each(|name| {
                schema.put(AttributeDef {
                    required: *name == "userName",
                    ..AttributeDef::text(*name)
                })
            });
            schema
        };
        for (kind, purpose, names) in [
            (
                SystemKind::Ldap,
                SystemRole::Source,
                &["employeeNumber", "sn", "mail", "enabled"][..],
            ),
            (
                SystemKind::Scim,
                SystemRole::Target,
                &[
                    "userName",
                    "externalId",
                    "emails.work",
                    "enterprise.employeeNumber",
                    "active",
                ],
            ),
            (
                SystemKind::Feed,
                SystemRole::Source,
                &["Personnel Number", "First Name", "email"],
            ),
        ] {
            let schema = schema(names);
            let text = first_rule_file(dock(kind, purpose, &ScopeEdit::default()), &schema, &[])
                .expect("written");
            let files = [
                first_identities(true),
                RuleFile {
                    name: "dock.toml".into(),
                    text: text.clone(),
                },
            ];
            let schemas = [("dock".to_owned(), [(ObjectType::Person, schema)].into())].into();
            let (rules, faults) = RuleSet::load(&files, &schemas);
            assert!(
                !faults
                    .iter()
                    .any(|f| f.severity == crate::rules::FaultSeverity::Error),
                "{faults:?}\n{text}"
            );
            let types = rules.of("dock", ObjectType::Person).expect("there");
            assert_eq!(types.matching.len(), 2, "{text}");
            // What the system cannot do without is waited for, rather than refused by it.
            let needed = types
                .outbound
                .iter()
                .find(|mapping| mapping.attribute == "userName");
            assert!(
                needed.is_none_or(
                    |mapping| mapping.requirement == crate::rules::Requirement::Required
                ),
                "{text}"
            );
            assert_eq!(
                (types.is_source(), types.is_target()),
                (purpose == SystemRole::Source, purpose == SystemRole::Target)
            );
        }
    }
}
