//! The published rules as lines for people: each with its location in the rule files.

use crate::convert::place;
use tide_core::rules::{
    Apply, Condition, Container, GroupScope, Mapping, OnDeleted, OnEmpty, OnOrphaned, OnOutOfScope,
    Requirement, TypeRules,
};
use tide_core::value::format_values;
use tide_core::{ObjectType, Place, RuleSet};

fn mapping(mapping: &Mapping) -> tide_api::RuleLine {
    let mut notes = Vec::new();
    match mapping.requirement {
        Requirement::Required => notes.push("required"),
        Requirement::Recommended => notes.push("recommended"),
        Requirement::Optional => {}
    }
    match mapping.apply {
        Apply::Always => {}
        Apply::OnCreate => notes.push("set once"),
        Apply::IfEmpty => notes.push("only if empty"),
    }
    if mapping.on_empty == OnEmpty::Keep {
        notes.push("kept if the source is empty");
    }
    if mapping.merge {
        notes.push("merged with values of others");
    }
    tide_api::RuleLine {
        name: mapping.attribute.clone(),
        text: mapping.program.source().into(),
        note: notes.join(", "),
        location: place(&mapping.place),
    }
}

fn container(word: &str, container: &Container) -> tide_api::RuleLine {
    let note = if container.one_level {
        "one level"
    } else {
        "with subtree"
    };
    tide_api::RuleLine {
        name: word.into(),
        text: container.dn.to_string(),
        note: note.into(),
        location: place(&container.place),
    }
}

fn rule(name: &str, text: &str, note: &str, at: &Place) -> tide_api::RuleLine {
    tide_api::RuleLine {
        name: name.into(),
        text: text.into(),
        note: note.into(),
        location: place(at),
    }
}

fn group(word: &str, group: &GroupScope) -> tide_api::RuleLine {
    let nested = if group.nested {
        "including nested members"
    } else {
        "direct members only"
    };
    let note = group.system.as_ref().map_or_else(
        || nested.to_owned(),
        |system| format!("in {system}, {nested}"),
    );
    rule(word, &group.name, &note, &group.place)
}

fn condition(condition: &Condition) -> tide_api::RuleLine {
    tide_api::RuleLine {
        name: "if".into(),
        text: condition.when.source().into(),
        note: format!("else: {}", condition.reason),
        location: place(&condition.place),
    }
}

fn type_rules(system: &str, object: ObjectType, types: &TypeRules) -> tide_api::SystemRules {
    let lines = scope_lines(types);
    let of_populations = types.populations.iter().flat_map(|population| {
        population.outbound.iter().map(move |one| {
            let line = mapping(one);
            let note = [
                format!("for {}: {}", population.name, population.when.source()),
                line.note,
            ];
            tide_api::RuleLine {
                note: note
                    .into_iter()
                    .filter(|part| !part.is_empty())
                    .collect::<Vec<_>>()
                    .join(", "),
                ..line
            }
        })
    });
    tide_api::SystemRules {
        system: system.into(),
        object,
        scope: lines,
        matching: types.matching.iter().map(match_line).collect(),
        inbound: types.inbound.iter().map(mapping).collect(),
        outbound: types
            .outbound
            .iter()
            .map(mapping)
            .chain(of_populations)
            .collect(),
        otherwise: otherwise(types),
        examples: example_lines(types).collect(),
        on_out_of_scope: match types.on_out_of_scope {
            OnOutOfScope::Disable => "disable",
            OnOutOfScope::Leave => "leave",
        }
        .into(),
    }
}

/// A match rule.
fn match_line(rule: &tide_core::rules::MatchRule) -> tide_api::RuleLine {
    tide_api::RuleLine {
        name: rule.name.clone(),
        text: rule
            .account
            .iter()
            .zip(&rule.identity)
            .map(|(a, i)| format!("{}  =  {}", a.source(), i.source()))
            .collect::<Vec<_>>()
            .join("  and  "),
        note: format!(
            "{}, compared {}{}",
            if rule.certain {
                "links automatically"
            } else {
                "needs review"
            },
            rule.compare.as_str(),
            if rule.supporting.is_empty() {
                String::new()
            } else {
                format!(
                    ", if {} of {} supporting values agree",
                    rule.min_agreeing,
                    rule.supporting.len()
                )
            }
        ),
        location: place(&rule.place),
    }
}

/// Who is in scope, and which accounts are protected.
fn scope_lines(types: &TypeRules) -> Vec<tide_api::RuleLine> {
    let scope = &types.scope;
    let mut lines: Vec<tide_api::RuleLine> = scope
        .within
        .iter()
        .map(|c| container("within", c))
        .collect();
    lines.extend(scope.except.iter().map(|c| container("except", c)));
    lines.extend(scope.groups.iter().map(|g| group("member of", g)));
    lines.extend(scope.not_groups.iter().map(|g| group("not a member of", g)));
    lines.extend(
        scope
            .filter
            .iter()
            .map(|filter| rule("filter", &filter.source, "", &filter.place)),
    );
    lines.extend(scope.conditions.iter().map(condition));
    if let Some(domains) = &types.domains {
        let note = format!(
            "in {}; other addresses are put on hold",
            domains.attributes.join(", ")
        );
        lines.push(rule(
            "our domains",
            &domains.ours.join(", "),
            &note,
            &domains.place,
        ));
        lines.extend(domains.translate.iter().map(|(from, to)| {
            rule(
                "domain",
                &format!("{from} → {to}"),
                "written as",
                &domains.place,
            )
        }));
    }
    lines.extend(types.protected.names.iter().map(|name| {
        rule(
            "protected",
            name,
            "never linked, changed or disabled",
            &types.protected.place,
        )
    }));
    lines.extend(
        types
            .protected
            .conditions
            .iter()
            .map(|c| rule("protected if", c.when.source(), &c.reason, &c.place)),
    );
    lines
}

/// The examples of the rules.
fn example_lines(types: &TypeRules) -> impl Iterator<Item = tide_api::RuleLine> {
    types.examples.iter().map(|example| {
        let expect: Vec<String> = example
            .expect
            .iter()
            .map(|(name, values)| format!("{name} = {}", format_values(values)))
            .collect();
        let note = example
            .account_in
            .as_ref()
            .map(|system| format!("in {system}"))
            .unwrap_or_default();
        rule(&example.name, &expect.join(", "), &note, &example.place)
    })
}

/// Rules about accounts beside scope, match rules and mappings.
fn otherwise(types: &TypeRules) -> Vec<tide_api::RuleLine> {
    let line = |name: &str, text: &str| tide_api::RuleLine {
        name: name.into(),
        text: text.into(),
        note: String::new(),
        location: place(&types.place),
    };
    let mut lines = Vec::new();
    if types.is_target() {
        lines.push(line(
            "deleted by others",
            match types.on_deleted {
                OnDeleted::Ask => "needs review",
                OnDeleted::Recreate => "created again",
                OnDeleted::Ignore => "stays deleted",
            },
        ));
        lines.push(line(
            "created by others, orphaned",
            match types.on_orphaned {
                OnOrphaned::Ignore => "reported only",
                OnOrphaned::Disable => "disabled",
                OnOrphaned::Ask => "needs review",
            },
        ));
    }
    if let Some(password) = &types.password {
        let to = match &password.deliver_to {
            Some(call) => format!("delivered to {call}"),
            None if password.visible_to.is_empty() => "shown once to any operator".to_owned(),
            None => format!("shown once to {}", password.visible_to.join(", ")),
        };
        lines.push(line(
            "first password",
            &format!(
                "{} characters of {} in {}, {to}",
                password.length,
                password.sets.join(", "),
                password.attribute
            ),
        ));
    }
    lines
}

pub fn call_line(name: &str, call: &tide_core::rules::WebhookRules) -> tide_api::RuleLine {
    let note = format!("timeout {} s", call.timeout_seconds);
    tide_api::RuleLine {
        name: name.to_owned(),
        text: call.url.clone(),
        note,
        location: call.place.to_string(),
    }
}

pub fn rule_lines(
    rules: &RuleSet,
) -> (
    Vec<tide_api::SystemRules>,
    Vec<tide_api::RuleLine>,
    Vec<tide_api::RuleLine>,
) {
    let systems = rules
        .systems
        .values()
        .flat_map(|system| {
            system
                .types
                .iter()
                .map(|(kind, types)| type_rules(&system.name, *kind, types))
        })
        .collect();
    let identities = rules
        .identities
        .iter()
        .flat_map(|(kind, identity)| {
            identity.attributes.iter().map(move |attribute| {
                let notes = [
                    (attribute.required, "required"),
                    (attribute.recommended, "recommended"),
                    (attribute.unique, "unique"),
                    (attribute.multi_valued, "several values"),
                    (attribute.reference.is_some(), "reference"),
                    (attribute.generated.is_some(), "generated once, reserved"),
                ];
                let note: Vec<&str> = notes
                    .iter()
                    .filter(|(yes, _)| *yes)
                    .map(|(_, word)| *word)
                    .collect();
                tide_api::RuleLine {
                    name: attribute.name.clone(),
                    text: kind.as_str().into(),
                    note: note.join(", "),
                    location: place(&attribute.place),
                }
            })
        })
        .collect();
    let guards = rules
        .guards
        .iter()
        .map(|guard| {
            let most = guard
                .max_count
                .map(|most| format!("at most {most} per run"));
            let least = guard
                .min_count
                .map(|least| format!(", and {least} in any case"))
                .unwrap_or_default();
            let share = guard
                .max_percent
                .map(|share| format!("at most {share} % of the linked accounts{least}"));
            tide_api::RuleLine {
                name: guard.change.clone(),
                text: [most, share]
                    .into_iter()
                    .flatten()
                    .collect::<Vec<_>>()
                    .join(", "),
                note: match (&guard.system, guard.is_built_in) {
                    (Some(system), true) => format!("{system}, by default"),
                    (Some(system), false) => system.clone(),
                    (None, _) => "every system".into(),
                },
                location: place(&guard.place),
            }
        })
        .collect();
    (systems, identities, guards)
}
