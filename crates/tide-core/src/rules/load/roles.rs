//! Roles: `roles.toml`.

use super::super::RuleSet;
use super::super::read::Section;
use super::{check_name, compile_program, expression_scopes};
use crate::expr::Root;
use crate::model::ROLES;
use crate::rules::roles::{Role, RoleValue};
use crate::states::ObjectType;

/// Maximum overlap of a role, in days.
const LONGEST: u32 = 366;

pub(super) fn load_roles(root: Section<'_>, rules: &RuleSet) -> Vec<Role> {
    let source = root.source;
    let mut all: Vec<Role> = Vec::new();
    let mut places: Vec<usize> = Vec::new();
    for item in root.list("role") {
        let Some(section) = root.as_section("role", item, "[[role]]") else {
            continue;
        };
        let name = section.text("name");
        check_name(
            &section,
            &name,
            "role",
            "name = \"deck officer\"",
            all.iter().map(|other| &other.name),
        );
        let kinds: Vec<(&'static str, ObjectType)> = ObjectType::ALL
            .iter()
            .map(|kind| (kind.as_str(), *kind))
            .collect();
        let kind = section.choice("type", &kinds).unwrap_or(ObjectType::Person);
        let mut scopes = expression_scopes(rules, kind, None);
        // Who holds a role does not depend on who holds roles: that would have no end.
        scopes.identity.remove(ROLES);
        let known = scopes.known(&[Root::Identity]);
        let when = section
            .text("when")
            .and_then(|when| compile_program(source, &when, &known));
        let includes: Vec<String> = section
            .texts("includes")
            .into_iter()
            .map(|(name, _)| name)
            .collect();
        let priority = section.number("priority").map_or(0, i64::from);
        let keep_days = section.number("overlap_days").unwrap_or(0);
        if keep_days > LONGEST {
            source.error(
                section.at,
                format!("`overlap_days` cannot be {keep_days}"),
                Some(format!("choose from 0 to {LONGEST}")),
            );
        }
        let values = read_values(rules, &section, kind, known);
        let place = section.place();
        places.push(section.at);
        section.report_unknown_keys();
        all.push(Role {
            name: name.map(|(name, _)| name).unwrap_or_default(),
            kind,
            when,
            includes,
            priority,
            overlap_days: keep_days,
            values,
            place,
        });
    }
    check_includes(source, &all, &places);
    equal_priorities(rules, &all, &places, &root);
    root.report_unknown_keys();
    all
}

/// Reads the values of a role.
fn read_values(
    rules: &RuleSet,
    section: &Section<'_>,
    kind: ObjectType,
    known: crate::expr::ExprScope<'_>,
) -> Vec<RoleValue> {
    let source = section.source;
    let mut values: Vec<RoleValue> = Vec::new();
    for (key, binding) in [("binding", true), ("defaults", false)] {
        let Some(own) = section.section(key) else {
            continue;
        };
        for (attribute, at, value) in own.entries() {
            let place = source.place(at);
            let declared = rules
                .identities
                .get(&kind)
                .and_then(|identity| identity.get(attribute));
            match declared {
                None => source.error(
                    at,
                    format!("identities.toml declares no attribute `{attribute}`"),
                    None,
                ),
                Some(declared)
                    if declared.unique
                        || declared.generated.is_some()
                        || declared.distribution.is_some()
                        || declared.reference.is_some() =>
                {
                    let text = format!("`{attribute}` is personal: a role cannot set it");
                    source.error(at, text, Some("roles set plain attributes".into()));
                }
                Some(_) => {}
            }
            let Some(text) = value.get_ref().as_str() else {
                source.error(
                    value.span().start,
                    format!("`{attribute}` needs an expression"),
                    Some(format!("{attribute} = '\"…\"'")),
                );
                continue;
            };
            let found = compile_program(source, &(text.to_owned(), value.span()), &known);
            values.extend(found.map(|value| RoleValue {
                attribute: attribute.to_owned(),
                value,
                binding,
                place,
            }));
        }
    }
    values
}

/// Checks that roles include existing roles of their type, without a cycle.
fn check_includes(source: &crate::rules::read::RuleSource<'_>, all: &[Role], places: &[usize]) {
    for (role, at) in all.iter().zip(places) {
        for other in &role.includes {
            match all.iter().find(|one| one.name == *other) {
                None => source.error(
                    *at,
                    format!(
                        "`{}` includes the role `{other}`, which does not exist",
                        role.name
                    ),
                    None,
                ),
                Some(one) if one.kind != role.kind => {
                    source.error(
                        *at,
                        format!("`{}` includes `{other}`, a role of another type", role.name),
                        None,
                    );
                }
                Some(_) if includes_transitively(all, other, &role.name) => {
                    source.error(
                        *at,
                        format!(
                            "`{}` includes `{other}`, which includes it again",
                            role.name
                        ),
                        Some("roles cannot include each other in a cycle".into()),
                    );
                }
                Some(_) => {}
            }
        }
    }
}

/// Whether a role includes another, directly or through others.
fn includes_transitively(all: &[Role], from: &str, to: &str) -> bool {
    let (mut left, mut seen) = (vec![from], Vec::new());
    while let Some(name) = left.pop() {
        if name == to {
            return true;
        }
        if !seen.contains(&name) {
            seen.push(name);
            left.extend(
                all.iter()
                    .filter(|role| role.name == name)
                    .flat_map(|role| role.includes.iter().map(String::as_str)),
            );
        }
    }
    false
}

/// Two roles with the same priority that set one attribute: it would be undefined which one wins.
fn equal_priorities(rules: &RuleSet, all: &[Role], places: &[usize], root: &Section<'_>) {
    for (n, (role, at)) in all.iter().zip(places).enumerate() {
        for other in all[..n]
            .iter()
            .filter(|other| other.kind == role.kind && other.priority == role.priority)
        {
            for value in &role.values {
                let many = rules
                    .identities
                    .get(&role.kind)
                    .and_then(|i| i.get(&value.attribute))
                    .is_some_and(|a| a.multi_valued);
                let same = |one: &&RoleValue| {
                    one.binding == value.binding
                        && one.attribute.eq_ignore_ascii_case(&value.attribute)
                        && one.value.source() != value.value.source()
                };
                if !many && other.values.iter().any(|one| same(&one)) {
                    root.source.error(
                        *at,
                        format!(
                            "`{}` and `{}` both set {}, and have the same priority {}",
                            other.name, role.name, value.attribute, role.priority
                        ),
                        Some("give one of them a higher priority".into()),
                    );
                }
            }
        }
    }
}
