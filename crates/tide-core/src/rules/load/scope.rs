//! Scope: containers, groups, filters, domains and protected accounts.

use super::super::read::{RuleSource, Section, kind_name};
use super::super::{
    Condition, Container, Domains, FilterScope, GroupScope, Protected, RecordFilter, Scope,
};
use super::compile_program;
use crate::expr::ExprScope;
use std::collections::BTreeMap;
use tide_ldap::Dn;
use toml::Spanned;
use toml::de::DeValue;

pub(super) fn read_scope(
    section: Section<'_>,
    known: &ExprScope<'_>,
    source: &RuleSource<'_>,
) -> Scope {
    let containers = |key: &'static str| -> Vec<Container> { read_containers(&section, key) };
    let within = containers("within");
    let except = containers("except");
    let (groups, not_groups) = (
        read_groups(&section, "groups"),
        read_groups(&section, "not_groups"),
    );
    let filter = section
        .text("filter")
        .and_then(|(text, span)| read_filter(source, &text, span.start));
    let mut conditions = Vec::new();
    for item in section.list("condition") {
        let Some(condition) = section.as_section("condition", item, "a condition") else {
            continue;
        };
        let otherwise = condition.text("reason").map(|(text, _)| text);
        match condition.text("when") {
            None => source.error(
                condition.at,
                "a condition needs `when`",
                Some("when = 'account.employeeNumber != null'".into()),
            ),
            Some(when) => {
                if let Some(when) = compile_program(source, &when, known) {
                    let otherwise =
                        otherwise.unwrap_or_else(|| format!("{} is not met", when.source()));
                    conditions.push(Condition {
                        when,
                        reason: otherwise,
                        place: condition.place(),
                    });
                }
            }
        }
        condition.report_unknown_keys();
    }
    section.report_unknown_keys();
    Scope {
        within,
        except,
        groups,
        not_groups,
        filter,
        conditions,
    }
}

/// Reads containers, each a DN or a table with its levels.
fn read_containers(section: &Section<'_>, key: &'static str) -> Vec<Container> {
    let source = section.source;
    section
        .list(key)
        .into_iter()
        .filter_map(|item| {
            let (text, one_level) = match item.get_ref() {
                DeValue::String(text) => (text.to_string(), false),
                DeValue::Table(_) => {
                    let table = section.as_section(key, item, "a container")?;
                    let dn = table.text("dn").map(|(dn, _)| dn);
                    let one = table
                        .choice("levels", &[("one", true), ("all", false)])
                        .unwrap_or_default();
                    table.report_unknown_keys();
                    (dn?, one)
                }
                other => {
                    source.error(
                        item.span().start,
                        format!(
                            "a container must be a DN in quotes, not {}",
                            kind_name(other)
                        ),
                        None,
                    );
                    return None;
                }
            };
            match text.parse::<Dn>() {
                Ok(dn) => Some(Container {
                    dn,
                    one_level,
                    place: source.place(item.span().start),
                }),
                Err(error) => {
                    source.error(
                        item.span().start,
                        error.to_string(),
                        Some("for example: \"ou=people,dc=skerry,dc=example\"".into()),
                    );
                    None
                }
            }
        })
        .collect()
}

/// Reads groups, each as its name or as a table.
fn read_groups(section: &Section<'_>, key: &'static str) -> Vec<GroupScope> {
    let source = section.source;
    let read = |item: &Spanned<DeValue<'_>>| -> Option<GroupScope> {
        let place = source.place(item.span().start);
        if let DeValue::String(name) = item.get_ref() {
            return Some(GroupScope {
                name: name.to_string(),
                system: None,
                nested: true,
                place,
            });
        }
        None
    };
    section
        .list(key)
        .into_iter()
        .filter_map(|item| {
            if matches!(item.get_ref(), DeValue::Table(_)) {
                let table = section.as_section(key, item, "a group")?;
                let name = table.text("name").map(|(name, _)| name);
                if name.is_none() {
                    source.error(
                        table.at,
                        "a group needs a `name`",
                        Some("{ name = \"cn=deck-watch,ou=groups,…\", nested = false }".into()),
                    );
                }
                let group = GroupScope {
                    name: name.clone().unwrap_or_default(),
                    system: table.text("system").map(|(system, _)| system),
                    nested: table.boolean("nested").unwrap_or(true),
                    place: table.place(),
                };
                table.report_unknown_keys();
                return name.map(|_| group);
            }
            let group = read(item);
            if group.is_none() {
                source.error(
                    item.span().start,
                    format!(
                        "a group must be a name in quotes, not {}",
                        kind_name(item.get_ref())
                    ),
                    None,
                );
            }
            group
        })
        .collect()
}

fn read_filter(source: &RuleSource<'_>, text: &str, at: usize) -> Option<FilterScope> {
    // The two writings cannot be mistaken for each other where an LDAP filter names no parenthesis
    // twice: what reads as the one does not read as the other.
    let ldap = text
        .trim_start()
        .starts_with('(')
        .then(|| text.parse::<tide_ldap::LdapFilter>());
    let filter = match (ldap, text.parse::<tide_scim::ScimFilter>()) {
        (Some(Ok(filter)), _) => RecordFilter::Ldap(filter),
        (_, Ok(filter)) => RecordFilter::Scim(filter),
        (Some(Err(error)), _) => {
            source.error(
                at,
                error.to_string(),
                Some("for example: '(&(employeeType=crew)(!(title=Trainee)))'".into()),
            );
            return None;
        }
        (None, Err(error)) => {
            source.error(
                at,
                error.to_string(),
                Some("for example: 'userType eq \"crew\" and active eq true'".into()),
            );
            return None;
        }
    };
    Some(FilterScope {
        filter,
        source: text.to_owned(),
        place: source.place(at),
    })
}

pub(super) fn read_domains(section: Section<'_>) -> Domains {
    let source = section.source;
    let texts = |key: &'static str| -> Vec<String> {
        let one = |item: &Spanned<DeValue<'_>>| match item.get_ref() {
            DeValue::String(text) => Some(text.to_string()),
            other => {
                source.error(
                    item.span().start,
                    format!("`{key}` must be a list of texts, not {}", kind_name(other)),
                    None,
                );
                None
            }
        };
        section.list(key).into_iter().filter_map(one).collect()
    };
    let lower = |text: String| text.trim().trim_start_matches('@').to_lowercase();
    let attributes = texts("attributes");
    let ours: Vec<String> = texts("ours").into_iter().map(lower).collect();
    if attributes.is_empty() {
        source.error(
            section.at,
            "`domains` names no attributes",
            Some("attributes = [\"userName\", \"emails.work\"]".into()),
        );
    }
    if ours.is_empty() {
        source.error(
            section.at,
            "`domains` names no own domain",
            Some("ours = [\"skerry.example\"]".into()),
        );
    }
    let mut translate = BTreeMap::new();
    if let Some(table) = section.section("translate") {
        for (from, _, value) in table.entries() {
            match value.get_ref() {
                DeValue::String(to) => {
                    let to = lower(to.to_string());
                    if !ours.contains(&to) {
                        source.warn(
                            value.span().start,
                            format!(
                                "{to} is not one of our domains: its addresses would be on hold"
                            ),
                            None,
                        );
                    }
                    translate.insert(lower(from.to_owned()), to);
                }
                other => source.error(
                    value.span().start,
                    format!("a domain must be text, not {}", kind_name(other)),
                    None,
                ),
            }
        }
    }
    let place = section.place();
    section.report_unknown_keys();
    Domains {
        attributes,
        ours,
        translate,
        place,
    }
}

pub(super) fn read_protected(section: Section<'_>, known: &ExprScope<'_>) -> Protected {
    let source = section.source;
    let mut hands_off = Protected {
        place: section.place(),
        ..Protected::default()
    };
    for item in section.list("names") {
        match item.get_ref() {
            DeValue::String(name) => hands_off.names.push(name.trim().to_lowercase()),
            other => source.error(
                item.span().start,
                format!("a name must be text, not {}", kind_name(other)),
                None,
            ),
        }
    }
    for item in section.list("condition") {
        let Some(condition) = section.as_section("condition", item, "a condition") else {
            continue;
        };
        let because = condition.text("reason").map(|(text, _)| text);
        match condition.text("when") {
            None => source.error(
                condition.at,
                "a condition needs `when`",
                Some("when = 'account.employeeType == \"emergency\"'".into()),
            ),
            Some(when) => {
                if let Some(when) = compile_program(source, &when, known) {
                    let otherwise = because.unwrap_or_else(|| when.source().to_owned());
                    hands_off.conditions.push(Condition {
                        when,
                        reason: otherwise,
                        place: condition.place(),
                    });
                }
            }
        }
        condition.report_unknown_keys();
    }
    section.report_unknown_keys();
    hands_off
}
