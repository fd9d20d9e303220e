//! Memberships by rule, dependencies between systems, and distributed values.

use super::super::read::{RuleSource, Section};
use super::super::{DistributionRule, IdentityAttribute, MembershipRule, RuleSet, TypeRules};
use super::compile_program;
use crate::expr::ExprScope;
use crate::schema::MEMBERS;
use crate::states::ObjectType;

pub(super) fn read_memberships(
    section: &Section<'_>,
    kind: ObjectType,
    known: &ExprScope<'_>,
    types: &TypeRules,
) -> Vec<MembershipRule> {
    let source = section.source;
    let mut all = Vec::new();
    for item in section.list("membership") {
        let Some(own) = section.as_section("membership", item, format!("[[{kind}.membership]]"))
        else {
            continue;
        };
        let when = own
            .text("when")
            .and_then(|text| compile_program(source, &text, known));
        let groups = own
            .text("groups")
            .and_then(|text| compile_program(source, &text, known));
        if own.get("groups").is_none() {
            source.error(
                own.at,
                "the groups are missing",
                Some("groups = 'identity.department'".into()),
            );
        }
        let prune = own
            .texts("remove_unmanaged")
            .into_iter()
            .map(|(name, _)| name)
            .collect();
        let place = own.place();
        own.report_unknown_keys();
        all.extend(groups.map(|groups| MembershipRule {
            when,
            groups,
            remove_unmanaged: prune,
            place,
        }));
    }
    if !all.is_empty() && !types.is_target() {
        source.error(
            section.at,
            "memberships need accounts, and this system receives none",
            Some("add an outbound mapping".into()),
        );
    }
    all
}

/// The values over which identities are spread.
pub(super) fn read_distribution(
    options: &Section<'_>,
    attribute: &IdentityAttribute,
) -> Option<DistributionRule> {
    let source = options.source;
    let over: Vec<String> = options
        .texts("distribute")
        .into_iter()
        .map(|(value, _)| value)
        .collect();
    let in_turn = options
        .choice("strategy", &[("least_used", false), ("round_robin", true)])
        .filter(|_| !over.is_empty());
    if over.is_empty() {
        return None;
    }
    if over.len() < 2 {
        source.error(
            options.at,
            format!("`{}` is distributed over one value", attribute.name),
            Some("distribute = [\"a\", \"b\"]".into()),
        );
    }
    if attribute.multi_valued
        || attribute.unique
        || attribute.reference.is_some()
        || options.get("generated").is_some()
    {
        source.error(
            options.at,
            format!(
                "`{}` is distributed: it must be a plain, single, shared value",
                attribute.name
            ),
            None,
        );
    }
    Some(DistributionRule {
        over,
        round_robin: in_turn.unwrap_or(false),
    })
}

/// Checks that need the whole rule set.
pub(super) fn check_rule_set(rules: &RuleSet, sources: &[RuleSource<'_>]) {
    for system in rules.systems.values() {
        let Some(source) = sources.iter().find(|source| source.name == system.file) else {
            continue;
        };
        for (kind, types) in &system.types {
            for other in &types.depends_on {
                if other == &system.name
                    || rules
                        .of(other, *kind)
                        .is_none_or(|types| !types.is_target())
                {
                    let text = format!(
                        "`depends_on` names {other}, which receives no accounts of type {kind}"
                    );
                    source.error_at(
                        &types.place,
                        text,
                        Some("name another system that receives accounts".into()),
                    );
                }
            }
            if let Some(from) = types
                .password
                .as_ref()
                .and_then(|password| password.copy_hash_from.as_ref())
                && (from == &system.name
                    || rules.of(from, *kind).is_none_or(|types| !types.is_source()))
            {
                let help = "copy_hash_from = \"NAME\" must name another directory that is a source"
                    .to_owned();
                source.error_at(
                    &types.place,
                    format!("password hashes cannot be copied from {from}"),
                    Some(help),
                );
            }
            let wholly = |types: &TypeRules| {
                let mapped =
                    |name: &str| MEMBERS.iter().any(|known| known.eq_ignore_ascii_case(name));
                types
                    .outbound
                    .iter()
                    .any(|mapping| mapped(&mapping.attribute) && !mapping.merge)
            };
            if let Some(rule) = types.memberships.first()
                && system.types.get(&ObjectType::Group).is_some_and(wholly)
            {
                source.error_at(
                    &rule.place,
                    "[group.outbound] replaces all members of groups here, including those that this rule adds",
                    Some("map them with list_mode = \"merge\"".into()),
                );
            }
        }
    }
    check_cycles(rules, sources);
}

/// Checks that no system depends on itself: its accounts would wait forever.
fn check_cycles(rules: &RuleSet, sources: &[RuleSource<'_>]) {
    // A circle of systems that wait for each other would wait for ever.
    for (name, system) in &rules.systems {
        for (kind, types) in &system.types {
            let (mut left, mut seen) = (types.depends_on.clone(), Vec::new());
            while let Some(other) = left.pop() {
                if other == *name {
                    if let Some(source) = sources.iter().find(|source| source.name == system.file) {
                        source.error_at(
                            &types.place,
                            format!("{name} depends on itself, by `depends_on`"),
                            None,
                        );
                    }
                    break;
                }
                if !seen.contains(&other) {
                    left.extend(
                        rules
                            .of(&other, *kind)
                            .into_iter()
                            .flat_map(|types| types.depends_on.clone()),
                    );
                    seen.push(other);
                }
            }
        }
    }
}
