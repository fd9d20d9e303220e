//! Limits: `guards.toml`.

use super::super::read::Section;
use super::super::{Guard, RuleSet};

/// The kinds of change that a guard can limit.
const CHANGES: [&str; 8] = ["create", "update", "rename", "enable", "disable", "delete", "grant", "revoke"];

pub(super) fn guards(root: Section<'_>, rules: &RuleSet) -> Vec<Guard> {
    let mut all = Vec::new();
    for item in root.list("guard") {
        let Some(section) = root.as_section("guard", item, "[[guard]]") else { continue };
        let words: Vec<(&'static str, &'static str)> = CHANGES.iter().map(|word| (*word, *word)).collect();
        let system = section.text("system");
        if let Some((name, span)) = &system
            && !rules.systems.contains_key(name)
        {
            root.source.error(span.start, format!("no file has rules for a system `{name}`"), None);
        }
        let guard = Guard {
            system: system.map(|(name, _)| name),
            change: section.word("change", &words).unwrap_or_default().to_owned(),
            most: section.number("most").map(|most| most as usize),
            share: section.number("share"),
            hours: section.number("hours").unwrap_or(24),
            place: section.place(),
        };
        if guard.change.is_empty() && section.get("change").is_none() {
            root.source.error(section.at, "a guard needs the kind of change", Some("for example: change = \"disable\"".into()));
        }
        if !(1..=24 * 31).contains(&guard.hours) {
            root.source.error(section.at, format!("a guard does not look back {} hours", guard.hours), Some("choose from 1 to 744".into()));
        }
        if guard.most.is_none() && guard.share.is_none() {
            root.source.error(
                section.at,
                "a guard without a limit guards nothing",
                Some("add `most = 20` or `share = 10` (percent)".into()),
            );
        }
        section.done();
        all.push(guard);
    }
    root.done();
    all
}
