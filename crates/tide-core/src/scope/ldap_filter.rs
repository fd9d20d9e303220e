//! LDAP filters (RFC 4511 §4.5.1.7), decided about an account as its server would decide: by the
//! kinds of attributes, with classes that entries leave out, and with groups as their own side
//! shows them. A comparison that the schema does not define is neither true nor false.

use super::{Groups, MembershipFact};
use crate::model::Account;
use crate::reasons::Place;
use crate::references::fold_reference;
use crate::rules::GroupScope;
use crate::rules::filters::{BACK_LINKS, is_one_of, is_server_side, text};
use crate::schema::{Schema, ValueKind};
use crate::value::{Attributes, Value};
use std::cmp::Ordering;
use tide_ldap::LdapFilter;
use tide_ldap::filter::{BITS_ALL, IN_CHAIN};
use tide_ldap::syntax::{generalized_time, to_file_time};

/// Attributes whose values are compared without spaces and hyphens (RFC 4517 §4.2.29).
const TELEPHONES: [&str; 5] = [
    "telephoneNumber",
    "mobile",
    "pager",
    "homePhone",
    "facsimileTelephoneNumber",
];
/// Attributes in which a domain controller stores an instant as a number, with 0 or the largest
/// number for "never".
const FILE_TIMES: [&str; 5] = [
    "accountExpires",
    "pwdLastSet",
    "lockoutTime",
    "lastLogon",
    "lastLogonTimestamp",
];

struct FilterRecord<'a> {
    attributes: &'a Attributes,
    accounts: &'a [&'a Account],
    groups: &'a Groups<'a>,
    schema: Option<&'a Schema>,
}

/// The attribute in which an account has the results of filters that only its server can
/// evaluate.
pub const SERVER_FILTERS: &str = "serverFilters";

/// The stored result of a filter that the server evaluated: whether it matches an account.
pub fn filter_answer(filter: &LdapFilter, holds: bool) -> Value {
    Value::Text(format!(
        "{filter} {}",
        if holds { "holds" } else { "does not hold" }
    ))
}

/// Whether a filter matches an account; undefined does not match. `None` for a filter that only the
/// server can evaluate, before it was evaluated there.
pub(super) fn holds(
    filter: &LdapFilter,
    attributes: &Attributes,
    accounts: &[&Account],
    groups: &Groups<'_>,
) -> Option<bool> {
    if is_server_side(filter) {
        let answers = attributes.get(SERVER_FILTERS);
        return [true, false]
            .into_iter()
            .find(|holds| answers.contains(&filter_answer(filter, *holds)));
    }
    let schema = accounts
        .first()
        .and_then(|account| groups.schema_of(account));
    Some(
        evaluate_item(
            filter,
            &FilterRecord {
                attributes,
                accounts,
                groups,
                schema,
            },
        ) == Some(true),
    )
}

fn evaluate_item(filter: &LdapFilter, record: &FilterRecord<'_>) -> Option<bool> {
    match filter {
        LdapFilter::All(parts) => {
            let all: Vec<Option<bool>> = parts
                .iter()
                .map(|part| evaluate_item(part, record))
                .collect();
            if all.contains(&Some(false)) {
                Some(false)
            } else {
                all.iter().all(Option::is_some).then_some(true)
            }
        }
        LdapFilter::Any(parts) => {
            let all: Vec<Option<bool>> = parts
                .iter()
                .map(|part| evaluate_item(part, record))
                .collect();
            if all.contains(&Some(true)) {
                Some(true)
            } else {
                all.iter().all(Option::is_some).then_some(false)
            }
        }
        LdapFilter::Not(part) => evaluate_item(part, record).map(|holds| !holds),
        LdapFilter::Present(name) => Some(!record.attributes.get(name).is_empty()),
        LdapFilter::Equal(name, wanted) => Some(record.equals(name, &text(wanted))),
        LdapFilter::AtLeast(name, wanted) => record.ordered(name, &text(wanted), Ordering::is_ge),
        LdapFilter::AtMost(name, wanted) => record.ordered(name, &text(wanted), Ordering::is_le),
        LdapFilter::Parts(name, first, between, last) => {
            let part = |part: &Vec<u8>| record.prepared(name, &text(part));
            let (first, last) = (first.as_ref().map(part), last.as_ref().map(part));
            let between: Vec<String> = between.iter().map(part).collect();
            let fits = |value: &Value| {
                has_parts(
                    &record.prepared(name, &value.to_string()),
                    first.as_deref(),
                    &between,
                    last.as_deref(),
                )
            };
            Some(record.attributes.get(name).iter().any(fits))
        }
        LdapFilter::Extended(name, rule, wanted) if rule == IN_CHAIN => {
            Some(record.is_member(name, &text(wanted), true).unwrap_or(false))
        }
        LdapFilter::Extended(name, rule, wanted) => {
            let bits: i64 = text(wanted).parse().ok()?;
            let fits = |number: i64| {
                if rule == BITS_ALL {
                    number & bits == bits
                } else {
                    number & bits != 0
                }
            };
            Some(
                record
                    .attributes
                    .get(name)
                    .iter()
                    .any(|value| value.to_string().parse().is_ok_and(fits)),
            )
        }
    }
}

fn has_parts(value: &str, first: Option<&str>, between: &[String], last: Option<&str>) -> bool {
    let Some(mut rest) = value.strip_prefix(first.unwrap_or_default()) else {
        return false;
    };
    for part in between {
        let Some(at) = rest.find(part.as_str()) else {
            return false;
        };
        rest = &rest[at + part.len()..];
    }
    rest.ends_with(last.unwrap_or_default())
}

impl FilterRecord<'_> {
    fn kind(&self, name: &str) -> Option<ValueKind> {
        self.schema
            .and_then(|schema| schema.get(name))
            .map(|def| def.kind)
    }

    /// A text as the attribute's matching rule compares it (RFC 4518 §2.6): repeated spaces count
    /// once, and case counts only if the schema says so.
    fn prepared(&self, name: &str, value: &str) -> String {
        if is_one_of(name, &TELEPHONES) {
            return value
                .chars()
                .filter(|c| !c.is_whitespace() && *c != '-')
                .collect();
        }
        let text = value.split_whitespace().collect::<Vec<_>>().join(" ");
        let is_exact = self
            .schema
            .and_then(|schema| schema.get(name))
            .is_some_and(|def| def.case_exact);
        if is_exact { text } else { text.to_lowercase() }
    }

    fn equals(&self, name: &str, wanted: &str) -> bool {
        let values = self.attributes.get(name);
        if let Some(is_member) = self.is_member(name, wanted, false) {
            return is_member;
        }
        if is_one_of(name, &["objectClass"]) {
            let wanted = wanted.trim().to_lowercase();
            let classes = self.schema.map(|schema| &schema.classes);
            let is_above = |class: &String| {
                classes
                    .and_then(|all| all.get(class))
                    .is_some_and(|above| above.contains(&wanted))
            };
            return values
                .iter()
                .map(|value| value.to_string().to_lowercase())
                .any(|class| class == wanted || is_above(&class));
        }
        if is_one_of(name, &["objectCategory"]) && !wanted.contains('=') {
            return values
                .iter()
                .any(|value| category_of(&value.to_string()) == category_named(wanted));
        }
        if is_one_of(name, &FILE_TIMES)
            && let Ok(number) = wanted.trim().parse::<i64>()
        {
            return match values.first() {
                Some(Value::Time(at)) => to_file_time(*at) == number,
                Some(other) => other.to_string() == wanted.trim(),
                None => number == 0 || number == i64::MAX,
            };
        }
        if let Some(at) = generalized_time(wanted.trim())
            && values.iter().any(|value| matches!(value, Value::Time(_)))
        {
            return values.contains(&Value::Time(at));
        }
        if self.kind(name) == Some(ValueKind::Reference) || wanted.contains('=') {
            let wanted = fold_reference(wanted);
            return values
                .iter()
                .any(|value| fold_reference(&value.to_string()) == wanted);
        }
        let wanted = self.prepared(name, wanted);
        values
            .iter()
            .any(|value| self.prepared(name, &value.to_string()) == wanted)
    }

    fn ordered(&self, name: &str, wanted: &str, fits: fn(Ordering) -> bool) -> Option<bool> {
        let plain = name.split(';').next().unwrap_or(name).to_lowercase();
        if self
            .schema
            .is_some_and(|schema| schema.unordered.contains(&plain))
        {
            return None;
        }
        let values = self.attributes.get(name);
        if is_one_of(name, &FILE_TIMES)
            && let Ok(number) = wanted.trim().parse::<i64>()
        {
            let of = |value: &Value| match value {
                Value::Time(at) => Some(to_file_time(*at)),
                other => other.to_string().parse().ok(),
            };
            // An account that never expires has the largest number; what never happened has 0.
            let never = if is_one_of(name, &["accountExpires"]) {
                i64::MAX
            } else {
                0
            };
            return Some(fits(values.first().map_or(Some(never), of)?.cmp(&number)));
        }
        let time = generalized_time(wanted.trim());
        let compared = |value: &Value| match (
            value,
            time,
            value.to_string().parse::<i64>(),
            wanted.trim().parse::<i64>(),
        ) {
            (Value::Time(at), Some(wanted), ..) => at.cmp(&wanted),
            (_, _, Ok(value), Ok(wanted)) => value.cmp(&wanted),
            _ => self
                .prepared(name, &value.to_string())
                .cmp(&self.prepared(name, wanted)),
        };
        Some(values.iter().any(|value| fits(compared(value))))
    }

    /// Is the account a member of a group, as the group's side shows it? Nothing when the attribute
    /// names no groups, or when the group was not read.
    fn is_member(&self, name: &str, group: &str, nested: bool) -> Option<bool> {
        if !is_one_of(name, &BACK_LINKS) {
            return None;
        }
        let group = GroupScope {
            name: group.to_owned(),
            system: None,
            nested,
            place: Place::default(),
        };
        match self.groups.member(&group, self.accounts) {
            MembershipFact::Member => Some(true),
            MembershipFact::Not(_) => Some(false),
            MembershipFact::Unknown(_) => None,
        }
    }
}

/// The short name of a category: the first part of its DN.
fn category_of(dn: &str) -> String {
    let first = dn.split(',').next().unwrap_or(dn);
    first
        .split_once('=')
        .map_or(first, |(_, name)| name)
        .replace('-', "")
        .to_lowercase()
}

/// The category to which a domain controller resolves a class in a filter
/// (`objectCategory=user`).
fn category_named(class: &str) -> String {
    match class.trim().to_lowercase().as_str() {
        "user" | "contact" | "inetorgperson" | "organizationalperson" => "person".to_owned(),
        other => other.to_owned(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::{Population, SystemFacts};
    use crate::rules::filters::{depends_on_back_links, filter_problem, groups_named};
    use crate::schema::AttributeDef;
    use crate::states::ObjectType;

    fn population(controller: bool) -> Population {
        let mut schema = Schema::default();
        for (name, kind) in [
            ("cn", ValueKind::Text),
            ("objectClass", ValueKind::Text),
            ("objectCategory", ValueKind::Reference),
            ("memberOf", ValueKind::Reference),
            ("modifyTimestamp", ValueKind::Time),
            ("employeeNumber", ValueKind::Text),
            ("telephoneNumber", ValueKind::Text),
            ("accountExpires", ValueKind::Time),
            ("pwdLastSet", ValueKind::Time),
            ("userAccountControl", ValueKind::Int),
        ] {
            schema.put(AttributeDef {
                kind,
                ..AttributeDef::text(name)
            });
        }
        schema.classes.insert(
            "inetorgperson".into(),
            vec!["organizationalperson".into(), "person".into(), "top".into()],
        );
        if !controller {
            schema.unordered.insert("employeenumber".into());
        }
        let account = |id: i64, kind, name: &str, values: &[(&str, &[Value])]| Account {
            id,
            system: "harbour".into(),
            kind,
            key: format!("k{id}"),
            name: name.into(),
            attributes: values
                .iter()
                .map(|(name, values)| ((*name).to_owned(), values.to_vec()))
                .collect(),
            absent_since: None,
            absence_confirmed: false,
            fault: None,
        };
        let dn = |text: &str| Value::Reference(text.into());
        let ada = ada(account, dn);
        let member = [dn("CN=Ada, DC=e")];
        let class = [Value::text("groupOfNames")];
        let inner = [dn("cn=joined,dc=e")];
        let group = |id, name: &str, members: &[Value]| {
            account(
                id,
                ObjectType::Group,
                name,
                &[("objectClass", &class), ("member", members)],
            )
        };
        let schema = std::sync::Arc::new([(ObjectType::Person, schema)].into());
        let facts = SystemFacts {
            read: vec![ObjectType::Group, ObjectType::Person],
            schema,
            ..SystemFacts::default()
        };
        Population {
            accounts: vec![
                ada,
                group(2, "cn=joined,dc=e", &member),
                group(3, "cn=left,dc=e", &[]),
                group(4, "cn=outer,dc=e", &inner),
            ],
            systems: [("harbour".to_owned(), facts)].into(),
            ..Population::default()
        }
    }

    /// A person whose entry was read before a change of group.
    fn ada(
        account: impl Fn(i64, ObjectType, &str, &[(&str, &[Value])]) -> Account,
        dn: impl Fn(&str) -> Value,
    ) -> Account {
        account(
            1,
            ObjectType::Person,
            "cn=Ada,dc=e",
            &[
                ("cn", &[Value::text("Ada  Lead and   Trail")]),
                ("objectClass", &[Value::text("inetOrgPerson")]),
                (
                    "objectCategory",
                    &[dn("CN=Person,CN=Schema,CN=Configuration,DC=e")],
                ),
                // The state at the last read: since then she left one group and joined another.
                ("memberOf", &[dn("cn=left,dc=e")]),
                (
                    "modifyTimestamp",
                    &[Value::Time(
                        "2026-11-23T07:36:46Z".parse().expect("a moment"),
                    )],
                ),
                ("employeeNumber", &[Value::text("E0900")]),
                ("telephoneNumber", &[Value::text("+47 000-001")]),
                ("userAccountControl", &[Value::Int(514)]),
            ],
        )
    }

    #[test]
    fn a_filter_is_decided_as_its_server_decides_it() {
        for controller in [false, true] {
            let population = population(controller);
            let groups = Groups::new(&population);
            let ada = &population.accounts[0];
            let ordered = controller;
            for (text, wanted) in [
                ("(objectClass=person)", true),
                ("(objectClass=groupOfNames)", false),
                (
                    "(&(objectCategory=person)(objectClass=inetOrgPerson))",
                    true,
                ),
                ("(objectCategory=user)", true),
                ("(objectCategory=computer)", false),
                (
                    "(objectCategory=CN=Person, CN=Schema,CN=Configuration,DC=e)",
                    true,
                ),
                ("(CN= ada LEAD   and Trail )", true),
                ("(cn=*lead and*)", true),
                ("(telephoneNumber=+47000001)", true),
                ("(modifyTimestamp>=20261101000000Z)", true),
                ("(modifyTimestamp>=20261201000000Z)", false),
                ("(memberOf=cn=joined, dc=e)", true),
                ("(memberOf=cn=left,dc=e)", false),
                ("(memberOf=cn=outer,dc=e)", false),
                ("(memberOf:1.2.840.113556.1.4.1941:=cn=outer,dc=e)", true),
                ("(!(memberOf=cn=left,dc=e))", true),
                ("(accountExpires=9223372036854775807)", true),
                ("(accountExpires=0)", true),
                ("(accountExpires>=1)", true),
                ("(pwdLastSet=0)", true),
                ("(pwdLastSet>=1)", false),
                ("(userAccountControl:1.2.840.113556.1.4.803:=2)", true),
                ("(employeeNumber>=E0800)", ordered),
                ("(!(employeeNumber>=E0800))", false),
                ("(|(employeeNumber>=E0800)(cn=ada*))", true),
                ("(title=Mate)", false),
                ("(!(title=Mate))", true),
            ] {
                let filter: LdapFilter = text
                    .parse()
                    .unwrap_or_else(|error| panic!("{text}: {error}"));
                assert_eq!(
                    holds(&filter, &ada.attributes, &[ada], &groups),
                    Some(wanted),
                    "{text}, ordered: {ordered}"
                );
            }
        }
    }

    #[test]
    fn server_side_filters_use_the_servers_result_and_are_unknown_before() {
        let mut population = population(true);
        for text in [
            "(anr=ada)",
            "(&(cn=a*)(memberOf=*))",
            "(manager:1.2.840.113556.1.4.1941:=cn=x)",
            "(!(memberOf=*deck*))",
        ] {
            let filter: LdapFilter = text.parse().expect("a filter");
            let answered = |population: &Population| {
                let ada = &population.accounts[0];
                holds(&filter, &ada.attributes, &[ada], &Groups::new(population))
            };
            assert_eq!(answered(&population), None, "{text}");
            for wanted in [true, false] {
                population.accounts[0]
                    .attributes
                    .set(SERVER_FILTERS, vec![filter_answer(&filter, wanted)]);
                assert_eq!(answered(&population), Some(wanted), "{text}");
            }
            population.accounts[0]
                .attributes
                .set(SERVER_FILTERS, Vec::new());
        }
    }

    #[test]
    fn what_cannot_hold_is_refused_and_groups_are_known_by_name() {
        let population = population(false);
        let schema = &population.systems["harbour"].schema[&ObjectType::Person];
        for (text, part) in [
            ("(anr=ada)", "no attribute `anr`"),
            ("(&(cn=a*)(!(nothing=1)))", "no attribute `nothing`"),
            ("(cn:1.2.840.113556.1.4.1941:=x)", "nested groups"),
        ] {
            let found = filter_problem(&text.parse().expect("a filter"), Some(schema));
            assert!(
                found.as_ref().is_some_and(|(said, _)| said.contains(part)),
                "{text}: {found:?}"
            );
        }
        let filter: LdapFilter =
            "(&(cn;lang-fr=Langue)(|(memberOf=cn=a)(!(memberOf:1.2.840.113556.1.4.1941:=cn=b))))"
                .parse()
                .expect("a filter");
        assert_eq!(filter_problem(&filter, Some(schema)), None);
        assert_eq!(groups_named(&filter), ["cn=a", "cn=b"]);
        assert!(!is_server_side(&filter) && !depends_on_back_links(&filter));
        assert!(depends_on_back_links(
            &"(|(cn=a)(memberOf=*))".parse().expect("a filter")
        ));
    }
}
