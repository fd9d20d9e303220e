//! Filters in the writing of a protocol, tried on an account's flat attributes.

use super::{Groups, ldap_filter};
use crate::model::Account;
use crate::rules::RecordFilter;
use crate::value::{Attributes, Value};
use std::cmp::Ordering;
use tide_scim::ScimFilter as Scim;
use tide_scim::filter::{AttrPath, Operator};

/// Whether the filter matches an account; `None` when only the server can evaluate it and was not
/// asked yet.
pub(super) fn holds(
    filter: &RecordFilter,
    account: &Attributes,
    accounts: &[&Account],
    groups: &Groups<'_>,
) -> Option<bool> {
    match filter {
        RecordFilter::Ldap(filter) => ldap_filter::holds(filter, account, accounts, groups),
        RecordFilter::Scim(filter) => Some(scim_matches(filter, &|path| values(account, path))),
    }
}

/// The values of a SCIM path by its flat names: `emails` and `emails.value` are those of every
/// type, `name.givenName` is itself, and an extension's attribute has the extension's short name
/// as prefix.
fn values(account: &Attributes, path: &AttrPath) -> Vec<Value> {
    let prefix = path
        .schema
        .as_deref()
        .filter(|urn| urn.contains(":extension:"))
        .map(|urn| {
            let parts: Vec<&str> = urn.split(':').collect();
            let at = parts
                .iter()
                .rposition(|part| part.starts_with(|c: char| c.is_ascii_digit()))
                .unwrap_or(parts.len());
            format!("{}.", parts.get(at.wrapping_sub(1)).unwrap_or(&urn))
        });
    let prefix = prefix.unwrap_or_default();
    let own = match path.sub.as_deref() {
        None | Some("value") => format!("{prefix}{}", path.name),
        Some(sub) => format!("{prefix}{}.{sub}", path.name),
    };
    let found = account.get(&own);
    if !found.is_empty() {
        return found.to_vec();
    }
    let below = format!("{}.", format!("{prefix}{}", path.name).to_lowercase());
    let wanted = path.sub.as_deref().filter(|sub| *sub != "value");
    account
        .iter()
        .filter(|(name, _)| {
            let Some(rest) = name.to_lowercase().strip_prefix(&below).map(str::to_owned) else {
                return false;
            };
            match wanted {
                None => !rest.contains('.'),
                Some(sub) => rest
                    .split_once('.')
                    .is_some_and(|(_, part)| part.eq_ignore_ascii_case(sub)),
            }
        })
        .flat_map(|(_, values)| values.to_vec())
        .collect()
}

/// The types of a listed attribute that a filter names.
fn kinds(filter: &Scim) -> Vec<String> {
    // The types that the filter itself names are the only ones that can make a difference.
    match filter {
        Scim::And(a, b) | Scim::Or(a, b) => kinds(a).into_iter().chain(kinds(b)).collect(),
        Scim::Not(inner) => kinds(inner),
        Scim::Compare(path, _, literal) if path.name.eq_ignore_ascii_case("type") => {
            literal.as_str().map(str::to_owned).into_iter().collect()
        }
        _ => Vec::new(),
    }
}

fn scim_matches(filter: &Scim, get: &dyn Fn(&AttrPath) -> Vec<Value>) -> bool {
    match filter {
        Scim::And(a, b) => scim_matches(a, get) && scim_matches(b, get),
        Scim::Or(a, b) => scim_matches(a, get) || scim_matches(b, get),
        Scim::Not(inner) => !scim_matches(inner, get),
        Scim::Present(path) => !get(path).is_empty(),
        Scim::Compare(path, operator, literal) => {
            let found = get(path);
            if literal.is_null() {
                return (*operator == Operator::Eq) == found.is_empty();
            }
            match operator {
                Operator::Ne => !found
                    .iter()
                    .any(|value| compares(value, Operator::Eq, literal)),
                _ => found
                    .iter()
                    .any(|value| compares(value, *operator, literal)),
            }
        }
        Scim::Value(path, inner) => {
            let mut named = kinds(inner);
            named.push(String::new());
            named.iter().any(|kind| {
                let of = |asked: &AttrPath| -> Vec<Value> {
                    if asked.name.eq_ignore_ascii_case("type") {
                        return if kind.is_empty() {
                            Vec::new()
                        } else {
                            vec![Value::text(kind)]
                        };
                    }
                    let sub = if kind.is_empty() {
                        Some(asked.name.clone())
                    } else {
                        Some(kind.clone())
                    };
                    let place = AttrPath {
                        sub,
                        ..path.clone()
                    };
                    if kind.is_empty() || asked.name.eq_ignore_ascii_case("value") {
                        return get(&place);
                    }
                    get(&AttrPath {
                        name: format!("{}.{kind}", path.name),
                        sub: Some(asked.name.clone()),
                        schema: path.schema.clone(),
                    })
                };
                // A type of which there is no value is no item of the list.
                (kind.is_empty()
                    || !get(&AttrPath {
                        sub: Some(kind.clone()),
                        ..path.clone()
                    })
                    .is_empty())
                    && scim_matches(inner, &of)
            })
        }
    }
}

fn compares(value: &Value, operator: Operator, literal: &serde_json::Value) -> bool {
    let order = match (value, literal) {
        (Value::Bool(truth), serde_json::Value::Bool(other)) => truth.cmp(other),
        (Value::Int(number), serde_json::Value::Number(other)) => match other.as_i64() {
            Some(other) => number.cmp(&other),
            None => return false,
        },
        (Value::Time(time), serde_json::Value::String(text)) => {
            match text.parse::<jiff::Timestamp>() {
                Ok(other) => time.cmp(&other),
                Err(_) => return false,
            }
        }
        (value, serde_json::Value::String(text)) => {
            let (value, text) = (value.to_string().to_lowercase(), text.to_lowercase());
            match operator {
                Operator::Co => return value.contains(&text),
                Operator::Sw => return value.starts_with(&text),
                Operator::Ew => return value.ends_with(&text),
                _ => value.cmp(&text),
            }
        }
        _ => return false,
    };
    match operator {
        Operator::Eq => order == Ordering::Equal,
        Operator::Ne => order != Ordering::Equal,
        Operator::Gt => order == Ordering::Greater,
        Operator::Ge => order != Ordering::Less,
        Operator::Lt => order == Ordering::Less,
        Operator::Le => order != Ordering::Greater,
        Operator::Co | Operator::Sw | Operator::Ew => false,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn account() -> Attributes {
        [
            ("userName".to_owned(), vec![Value::text("Ada.Lind")]),
            ("active".to_owned(), vec![Value::Bool(true)]),
            ("name.familyName".to_owned(), vec![Value::text("Lind")]),
            (
                "emails.work".to_owned(),
                vec![Value::text("ada@skerry.example")],
            ),
            (
                "emails.home".to_owned(),
                vec![Value::text("ada@home.example")],
            ),
            (
                "enterprise.department".to_owned(),
                vec![Value::text("Deck")],
            ),
            (
                "started".to_owned(),
                vec![Value::Time("2026-03-01T00:00:00Z".parse().expect("valid"))],
            ),
        ]
        .into_iter()
        .collect()
    }

    #[test]
    fn scim_filters_find_flat_attributes() {
        let enterprise = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:department";
        for (text, wanted) in [
            ("userName eq \"ada.lind\"", true),
            ("active eq true and name.familyName sw \"li\"", true),
            ("emails co \"home\"", true),
            ("emails.value ew \"skerry.example\"", true),
            ("emails[type eq \"work\" and value co \"home\"]", false),
            ("emails[type eq \"home\" and value co \"home\"]", true),
            ("emails[type eq \"other\"]", false),
            ("title pr", false),
            ("not (title pr)", true),
            (&format!("{enterprise} eq \"deck\""), true),
            ("userName ne \"ada.lind\"", false),
        ] {
            let filter = RecordFilter::Scim(text.parse().unwrap_or_else(|e| panic!("{text}: {e}")));
            assert_eq!(
                holds(&filter, &account(), &[], &Groups::default()),
                Some(wanted),
                "{text}"
            );
        }
    }

    #[test]
    fn ldap_filters_see_instants_in_their_own_writing() {
        for (text, wanted) in [
            ("(started>=20260101000000Z)", true),
            ("(started>=20270101000000Z)", false),
            ("(active=TRUE)", true),
        ] {
            let filter = RecordFilter::Ldap(text.parse().expect("a filter"));
            assert_eq!(
                holds(&filter, &account(), &[], &Groups::default()),
                Some(wanted),
                "{text}"
            );
        }
    }
}
