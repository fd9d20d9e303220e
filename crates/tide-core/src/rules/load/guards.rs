//! Limits: `guards.toml`.

use super::super::read::Section;
use super::super::{Guard, RuleSet};
use crate::reasons::Place;

/// The kinds of change that a guard can limit.
const CHANGES: [&str; 10] = [
    "create", "update", "rename", "enable", "disable", "delete", "grant", "revoke", "move",
    "password",
];
/// The kinds of change that revoke something: they have a default limit.
const BY_DEFAULT: [&str; 5] = ["disable", "delete", "revoke", "move", "password"];

/// The limits that hold where no file sets one: 10 % of a system's linked accounts within a day,
/// and 5 in any case.
pub(super) fn default_guards(rules: &RuleSet) -> Vec<Guard> {
    let mut all = Vec::new();
    for system in rules.systems.values().filter(|system| {
        system
            .types
            .values()
            .any(super::super::TypeRules::is_target)
    }) {
        for change in BY_DEFAULT {
            let is_set = |guard: &Guard| {
                guard.change == change
                    && guard
                        .system
                        .as_ref()
                        .is_none_or(|name| *name == system.name)
            };
            if rules.guards.iter().any(is_set) {
                continue;
            }
            all.push(Guard {
                system: Some(system.name.clone()),
                change: change.to_owned(),
                max_count: None,
                max_percent: Some(10),
                min_count: Some(5),
                window_hours: 24,
                is_built_in: true,
                place: Place {
                    file: "built-in guard".to_owned(),
                    line: all.len() + 1,
                    column: 1,
                },
            });
        }
    }
    all
}

pub(super) fn load_guards(root: Section<'_>, rules: &RuleSet) -> Vec<Guard> {
    let mut all = Vec::new();
    for item in root.list("guard") {
        let Some(section) = root.as_section("guard", item, "[[guard]]") else {
            continue;
        };
        let words: Vec<(&'static str, &'static str)> =
            CHANGES.iter().map(|word| (*word, *word)).collect();
        let system = section.text("system");
        if let Some((name, span)) = &system
            && !rules.systems.contains_key(name)
        {
            root.source.error(
                span.start,
                format!("no file has rules for a system `{name}`"),
                None,
            );
        }
        let guard = Guard {
            system: system.map(|(name, _)| name),
            change: section
                .choice("change", &words)
                .unwrap_or_default()
                .to_owned(),
            max_count: section.number("max_count").map(|most| most as usize),
            max_percent: section.number("max_percent"),
            min_count: section.number("min_count").map(|least| least as usize),
            window_hours: section.number("window_hours").unwrap_or(24),
            is_built_in: false,
            place: section.place(),
        };
        if guard.change.is_empty() && section.get("change").is_none() {
            root.source.error(
                section.at,
                "a guard needs a kind of change",
                Some("for example: change = \"disable\"".into()),
            );
        }
        if !(1..=24 * 31).contains(&guard.window_hours) {
            root.source.error(
                section.at,
                format!("`window_hours` cannot be {}", guard.window_hours),
                Some("choose from 1 to 744".into()),
            );
        }
        if guard.max_count.is_none() && guard.max_percent.is_none() {
            root.source.error(
                section.at,
                "a guard needs a limit",
                Some("add `max_count = 20` or `max_percent = 10` (percent)".into()),
            );
        }
        section.report_unknown_keys();
        all.push(guard);
    }
    root.report_unknown_keys();
    all
}
