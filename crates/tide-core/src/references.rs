//! References: who is meant by a DN, an id or a number in one system, and how that one is written
//! in another.
//!
//! References between identities: `manager` holds the id of the other. What a source writes is
//! resolved when an identity is composed; what a target needs is written when its account is
//! decided. Cycles are no problem: a reference never decides whether an account exists, and a
//! reference to an account that does not exist yet waits for it.

use crate::model::{AccountId, Population};
use crate::rules::Pointer;
use crate::states::ObjectType;
use crate::value::{Attributes, Value};
use std::collections::HashMap;
use tide_ldap::Dn;

/// Folds a name for comparing references: a DN in its canonical form, without the bits that may
/// follow it (Name and Optional UID, RFC 4517).
pub fn fold_reference(text: &str) -> String {
    let text = without_uid(text);
    match text.parse::<Dn>() {
        Ok(dn) if text.contains('=') => dn.canonical(),
        _ => text.trim().to_lowercase(),
    }
}

/// The container in which an entry of this name lies, as names are compared; none when it is no DN.
pub fn container_of(name: &str) -> Option<String> {
    name.parse::<Dn>()
        .ok()
        .filter(|_| name.contains('='))
        .and_then(|dn| dn.parent())
        .map(|parent| parent.canonical())
}

fn without_uid(text: &str) -> &str {
    let bits = text
        .trim_end()
        .strip_suffix("'B")
        .and_then(|rest| rest.rsplit_once("#'"));
    bits.filter(|(_, bits)| bits.chars().all(|bit| matches!(bit, '0' | '1')))
        .map_or(text, |(name, _)| name)
}

/// The identities behind the names that systems use.
#[derive(Debug, Default)]
pub struct ReferenceIndex<'a> {
    /// The identity and its type, by system and folded name or key of an account.
    by_name: HashMap<(&'a str, String), (&'a str, ObjectType)>,
}

impl<'a> ReferenceIndex<'a> {
    /// Indexes the linked accounts of a population; `owner` maps accounts to identities.
    pub fn new(population: &'a Population, owner: &HashMap<AccountId, &'a str>) -> Self {
        let mut by_name = HashMap::new();
        for account in &population.accounts {
            let Some(identity) = owner.get(&account.id) else {
                continue;
            };
            let mut put = |name: String| {
                by_name
                    .entry((account.system.as_str(), name))
                    .or_insert((*identity, account.kind));
            };
            put(fold_reference(&account.name));
            put(account.key.to_lowercase());
            // A member is named by its uid in groups of RFC 2307.
            if let Some(uid) = account.attributes.get("uid").first() {
                put(uid.to_string().to_lowercase());
            }
        }
        ReferenceIndex { by_name }
    }

    /// The identity that a value of a system refers to.
    pub fn find_identity(&self, system: &'a str, raw: &str, pointer: &Pointer) -> Option<&'a str> {
        let (identity, kind) = *self.by_name.get(&(system, fold_reference(raw)))?;
        (pointer.kinds.is_empty() || pointer.kinds.contains(&kind)).then_some(identity)
    }
}

/// Identities by the value of one attribute, for sources that name a person by a number.
#[derive(Debug, Default)]
pub struct Numbers<'a> {
    by_value: HashMap<(&'a str, String), Option<&'a str>>,
}

impl<'a> Numbers<'a> {
    /// Indexes the identities by the attributes that pointers name.
    pub fn new(
        by: &[&'a str],
        identities: impl Iterator<Item = (&'a str, &'a Attributes)>,
    ) -> Self {
        let mut by_value: HashMap<(&str, String), Option<&str>> = HashMap::new();
        if !by.is_empty() {
            for (id, attributes) in identities {
                for name in by {
                    for value in attributes.get(name) {
                        // An ambiguous number cannot be resolved.
                        by_value
                            .entry((name, fold_reference(&value.to_string())))
                            .and_modify(|one| *one = None)
                            .or_insert(Some(id));
                    }
                }
            }
        }
        Numbers { by_value }
    }

    /// The identity with this value.
    pub fn find_identity(&self, by: &'a str, raw: &str) -> Option<&'a str> {
        self.by_value
            .get(&(by, fold_reference(raw)))
            .copied()
            .flatten()
    }
}

/// The accounts of one system by the identities that they belong to.
#[derive(Debug, Default)]
pub struct Accounts {
    /// The account's name and key, and its identity's type.
    of: HashMap<String, (String, String)>,
    /// Every identity and its type.
    kinds: HashMap<String, ObjectType>,
}

/// The value of a reference in a target.
#[derive(Debug, Default, PartialEq, Eq)]
pub struct Written {
    /// Values as the target writes them.
    pub values: Vec<Value>,
    /// Identities that have no account there.
    pub missing: Vec<String>,
}

impl Accounts {
    /// Indexes the present accounts of a system. `links` are their identities, `kinds` the types
    /// of all identities.
    pub fn new<'a>(
        population: &'a Population,
        system: &str,
        links: impl Iterator<Item = (AccountId, &'a str)>,
        kinds: impl Iterator<Item = (&'a str, ObjectType)>,
    ) -> Self {
        let there: HashMap<AccountId, usize> = population
            .accounts
            .iter()
            .enumerate()
            .filter(|(_, account)| account.system == system && account.absent_since.is_none())
            .map(|(at, account)| (account.id, at))
            .collect();
        let mut of = HashMap::new();
        for (account, identity) in links {
            if let Some(&at) = there.get(&account) {
                let account = &population.accounts[at];
                of.entry(identity.to_owned())
                    .or_insert((account.name.clone(), account.key.clone()));
            }
        }
        Accounts {
            of,
            kinds: kinds.map(|(id, kind)| (id.to_owned(), kind)).collect(),
        }
    }

    /// Writes a value of an identity as the target's attribute wants it. What is no identity's id
    /// stays as it is.
    pub fn write(&self, attribute: &str, values: &[Value], by_name: bool) -> Written {
        let mut written = Written::default();
        for value in values {
            let Some((id, kind)) = value
                .as_text()
                .and_then(|id| Some((id, *self.kinds.get(id)?)))
            else {
                written.values.push(
                    value
                        .as_text()
                        .map_or_else(|| value.clone(), |raw| Value::Reference(raw.to_owned())),
                );
                continue;
            };
            // SCIM distinguishes members by type, and each type has a flat name of its own.
            let wanted = match attribute.rsplit_once('.') {
                Some((_, "User")) => kind != ObjectType::Group,
                Some((_, "Group")) => kind == ObjectType::Group,
                _ => true,
            };
            match self.of.get(id) {
                _ if !wanted => {}
                Some((name, key)) => written.values.push(Value::Reference(if by_name {
                    name.clone()
                } else {
                    key.clone()
                })),
                None => written.missing.push(id.to_owned()),
            }
        }
        // In the order in which an account's values are kept, so that the two read alike.
        written.values.sort();
        written
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::Account;

    fn account(id: i64, system: &str, name: &str) -> Account {
        Account {
            id,
            system: system.into(),
            kind: ObjectType::Person,
            key: format!("key-{id}"),
            name: name.into(),
            attributes: Attributes::new(),
            absent_since: None,
            absence_confirmed: false,
            fault: None,
        }
    }

    #[test]
    fn a_name_may_be_followed_by_bits() {
        assert_eq!(
            fold_reference("CN=Ada, DC=e#'0101'B"),
            fold_reference("cn=ada,dc=e")
        );
        assert_eq!(
            fold_reference("cn=ada,dc=e#''B"),
            fold_reference("cn=ada,dc=e")
        );
        assert_ne!(
            fold_reference("cn=ada#'012'B,dc=e"),
            fold_reference("cn=ada,dc=e"),
            "a name that only looks so"
        );
    }

    #[test]
    fn a_dn_is_found_however_it_is_spelt_and_written_as_each_system_wants_it() {
        let population = Population {
            accounts: vec![
                account(1, "harbour", "uid=ada,ou=Deck,dc=e"),
                account(2, "berthing", "ada@e"),
                account(3, "harbour", "uid=bo,dc=e"),
            ],
            ..Population::default()
        };
        let owner = HashMap::from([(1, "a"), (2, "a"), (3, "b")]);
        let directory = ReferenceIndex::new(&population, &owner);
        let people = Pointer {
            kinds: vec![ObjectType::Person],
            by: None,
        };
        assert_eq!(
            directory.find_identity("harbour", "UID=Ada, OU=Deck,DC=E", &people),
            Some("a")
        );
        assert_eq!(
            directory.find_identity("berthing", "uid=ada,ou=Deck,dc=e", &people),
            None,
            "another system's name"
        );
        assert_eq!(
            directory.find_identity(
                "harbour",
                "uid=ada,ou=Deck,dc=e",
                &Pointer {
                    kinds: vec![ObjectType::Group],
                    by: None
                }
            ),
            None
        );

        let kinds = || [("a", ObjectType::Person), ("b", ObjectType::Person)].into_iter();
        let links = || {
            owner
                .iter()
                .map(|(account, identity)| (*account, *identity))
        };
        let values = [Value::text("a"), Value::text("b")];
        let berthing = Accounts::new(&population, "berthing", links(), kinds()).write(
            "members.User",
            &values,
            false,
        );
        assert_eq!(
            berthing,
            Written {
                values: vec![Value::Reference("key-2".into())],
                missing: vec!["b".into()]
            }
        );
        let harbour = Accounts::new(&population, "harbour", links(), kinds());
        assert_eq!(
            harbour.write("member", &values, true).values[1],
            Value::Reference("uid=bo,dc=e".into())
        );
        assert_eq!(
            harbour.write("members.Group", &values, true),
            Written::default(),
            "none of that type"
        );
    }

    #[test]
    fn a_number_of_two_records_matches_neither() {
        let person = |number: &str| -> Attributes {
            [("number".to_owned(), vec![Value::text(number)])]
                .into_iter()
                .collect()
        };
        let (one, two, three) = (person("17"), person("18"), person("18"));
        let numbers = Numbers::new(
            &["number"],
            [("a", &one), ("b", &two), ("c", &three)].into_iter(),
        );
        assert_eq!(
            (
                numbers.find_identity("number", " 17 "),
                numbers.find_identity("number", "18")
            ),
            (Some("a"), None)
        );
    }
}
