//! How people come, stay and go: `lifecycle.toml`, and the departure steps of each system.

use super::super::RuleSet;
use super::super::read::{RuleSource, Section};
use super::{compile_program, expression_scopes, target_attribute, type_sections};
use crate::expr::{ExprScope, Program, Root};
use crate::rules::lifecycle::{
    DepartureAct, DepartureStep, Exception, LifecycleDays, LifecycleRules,
};
use crate::schema::Schema;
use crate::states::ObjectType;
use jiff::tz::TimeZone;
use std::collections::BTreeMap;

/// The most days before or after.
const LONGEST: u32 = 3660;
const DAYS: [&str; 4] = [
    "prestart_days",
    "notice_days",
    "grace_days",
    "absence_grace_days",
];

fn read_days(section: &Section<'_>) -> [Option<u32>; 4] {
    DAYS.map(|name| {
        let days = section.number(name);
        if days.is_some_and(|days| days > LONGEST) {
            section.source.error(
                section.at,
                format!("`{name}` is too long"),
                Some(format!("choose from 0 to {LONGEST}")),
            );
        }
        days
    })
}

pub(super) fn load_lifecycle(
    root: Section<'_>,
    rules: &RuleSet,
) -> BTreeMap<ObjectType, LifecycleRules> {
    let mut all = BTreeMap::new();
    for (kind, section) in type_sections(&root) {
        let source = section.source;
        if !rules.identities.contains_key(&kind) {
            source.error(
                section.at,
                format!("identities.toml does not declare {kind}"),
                None,
            );
        }
        let scopes = expression_scopes(rules, kind, None);
        let known = scopes.known(&[Root::Identity]);
        let of = |section: &Section<'_>, key: &'static str| {
            section
                .text(key)
                .and_then(|text| compile_program(source, &text, &known))
        };
        let zone = match section.text("zone") {
            None => TimeZone::UTC,
            Some((name, span)) => TimeZone::get(&name).unwrap_or_else(|_| {
                source.error(
                    span.start,
                    format!("there is no time zone `{name}`"),
                    Some("for example Atlantic/Faroe, or UTC".into()),
                );
                TimeZone::UTC
            }),
        };
        let exceptions = section
            .list("exception")
            .into_iter()
            .filter_map(|item| {
                let own = section.as_section("exception", item, format!("[[{kind}.exception]]"))?;
                let when = of(&own, "when");
                let (days, place) = (read_days(&own), own.place());
                if own.get("when").is_none() {
                    source.error(
                        own.at,
                        "the condition of the exception is missing",
                        Some("when = 'identity.contract == \"visitor\"'".into()),
                    );
                }
                own.report_unknown_keys();
                Some(Exception {
                    when: when?,
                    days,
                    place,
                })
            })
            .collect();
        let [ready, notice, grace, absence_grace] = read_days(&section);
        let [ready, notice, grace] = [ready, notice, grace].map(Option::unwrap_or_default);
        let life = LifecycleRules {
            zone,
            starts: of(&section, "starts"),
            ends: of(&section, "ends"),
            away: of(&section, "away"),
            left: of(&section, "left"),
            used: of(&section, "used"),
            inactive_after_days: unused_days(&section),
            days: LifecycleDays {
                ready,
                notice,
                grace,
                absence_grace,
            },
            exceptions,
            place: section.place(),
        };
        section.report_unknown_keys();
        all.insert(kind, life);
    }
    root.report_unknown_keys();
    all
}

fn unused_days(section: &Section<'_>) -> u32 {
    let days = section.number("inactive_after_days").unwrap_or(0);
    let source = section.source;
    if days > LONGEST {
        source.error(
            section.at,
            "`inactive_after_days` is too long",
            Some(format!("choose from 0 to {LONGEST}")),
        );
    }
    match (section.get("used").is_some(), days > 0) {
        (true, false) => source.error(
            section.at,
            "the number of days without use is missing",
            Some("inactive_after_days = 90".into()),
        ),
        (false, true) => {
            source.error(
                section.at,
                "the expression of the last use is missing",
                Some("used = 'identity.lastUsed'".into()),
            );
        }
        _ => {}
    }
    days
}

/// Reads the departure steps of one system.
pub(super) fn read_departure(
    section: &Section<'_>,
    kind: ObjectType,
    known: &ExprScope<'_>,
    schema: Option<&Schema>,
) -> Vec<DepartureStep> {
    let source = section.source;
    let mut all: Vec<DepartureStep> = Vec::new();
    for item in section.list("departure") {
        let Some(own) = section.as_section("departure", item, format!("[[{kind}.departure]]"))
        else {
            continue;
        };
        let of = |key: &'static str| {
            own.text(key)
                .and_then(|text| compile_program(source, &text, known))
        };
        let after = own.number("after_days").unwrap_or(0);
        let when = of("when");
        let words: Vec<(&'static str, &'static str)> = [
            "disable",
            "randomize_password",
            "set",
            "revoke",
            "move",
            "delete",
        ]
        .map(|word| (word, word))
        .to_vec();
        let act = read_act(schema, &own, of, words);
        if after > LONGEST {
            source.error(
                own.at,
                format!("a step cannot wait {after} days"),
                Some(format!("choose from 0 to {LONGEST}")),
            );
        }
        check_order(&all, &own, after);
        let place = own.place();
        own.report_unknown_keys();
        all.extend(act.map(|act| DepartureStep {
            act,
            after_days: after,
            when,
            place,
        }));
    }
    let blocks = |step: &DepartureStep| {
        matches!(
            step.act,
            DepartureAct::Disable | DepartureAct::Delete | DepartureAct::RandomizePassword
        )
    };
    if !all.is_empty() && !all.iter().any(|step| blocks(step) && step.after_days == 0) {
        source.warn(
            section.at,
            "these steps do not close the access of a leaver at once",
            Some("begin with step = \"disable\"".into()),
        );
    }
    all
}

/// Reads what a departure step does.
fn read_act(
    schema: Option<&Schema>,
    own: &Section<'_>,
    of: impl Fn(&'static str) -> Option<Program>,
    words: Vec<(&'static str, &'static str)>,
) -> Option<DepartureAct> {
    let source = own.source;
    match own.choice("step", &words) {
        Some("disable") => Some(DepartureAct::Disable),
        Some("randomize_password") => Some(DepartureAct::RandomizePassword),
        Some("delete") => Some(DepartureAct::Delete),
        Some("set") => read_set_step(own, source, schema, of("value")),
        Some("revoke") => {
            let names = own.texts("attributes");
            names
                .iter()
                .for_each(|(name, span)| target_attribute(schema, source, name, span.start));
            Some(DepartureAct::Revoke {
                attributes: names.into_iter().map(|(name, _)| name).collect(),
            })
        }
        Some(_) => {
            let named = schema.is_none_or(|schema| {
                schema
                    .name_attribute
                    .as_deref()
                    .is_some_and(|name| name.eq_ignore_ascii_case("dn"))
            });
            if !named {
                source.error(own.at, "this system has no containers", None);
            }
            if own.get("to").is_none() {
                source.error(
                    own.at,
                    "the destination is missing",
                    Some("to = '\"uid=\" + identity.userName + \",ou=former,…\"'".into()),
                );
            }
            of("to").map(|to| DepartureAct::Move { to })
        }
        None => {
            if own.get("step").is_none() {
                source.error(
                    own.at,
                    "a departure step needs its `step`",
                    Some("for example: step = \"disable\"".into()),
                );
            }
            None
        }
    }
}

/// Checks that a step follows the steps before it.
fn check_order(all: &[DepartureStep], own: &Section<'_>, after: u32) {
    let source = own.source;
    if let Some(last) = all.last()
        && last.after_days > after
    {
        let text = format!(
            "this step waits {after} days, but follows a step that waits {}",
            last.after_days
        );
        source.error(
            own.at,
            text,
            Some("write the steps in the order in which they are done".into()),
        );
    }
    if all
        .iter()
        .any(|step| matches!(step.act, DepartureAct::Delete))
    {
        source.error(
            own.at,
            "no step can follow the deletion of the account",
            None,
        );
    }
}

fn read_set_step(
    own: &Section<'_>,
    source: &RuleSource<'_>,
    schema: Option<&Schema>,
    value: Option<Program>,
) -> Option<DepartureAct> {
    let Some((attribute, span)) = own.text("attribute") else {
        source.error(
            own.at,
            "the attribute is missing",
            Some("attribute = \"…\", value = '…'".into()),
        );
        return None;
    };
    target_attribute(schema, source, &attribute, span.start);
    if own.get("value").is_none() {
        source.error(
            own.at,
            "the value is missing",
            Some("value = '\"…\"', or value = 'null' to clear it".into()),
        );
    }
    value.map(|value| DepartureAct::Set { attribute, value })
}
