//! Who must say yes: `approvals.toml`.

use super::super::RuleSet;
use super::super::read::Section;
use super::{check_name, compile_program, expression_scopes, read_webhook};
use crate::expr::Root;
use crate::rules::approvals::{Approval, Level};
use crate::states::{ChangeKind, ObjectType};

/// Days after which a request expires, by default.
const DAYS: u32 = 14;
/// The most days.
const LONGEST: u32 = 366;

pub(super) fn load_approvals(root: Section<'_>, rules: &RuleSet) -> Vec<Approval> {
    let source = root.source;
    let mut all: Vec<Approval> = Vec::new();
    for item in root.list("approval") {
        let Some(section) = root.as_section("approval", item, "[[approval]]") else {
            continue;
        };
        let name = section.text("name");
        check_name(
            &section,
            &name,
            "approval",
            "name = \"who leaves the directory\"",
            all.iter().map(|other| &other.name),
        );
        let system = section.text("system");
        if let Some((name, span)) = &system
            && !rules.systems.contains_key(name)
        {
            source.error(
                span.start,
                format!("no file has rules for a system `{name}`"),
                None,
            );
        }
        let kinds: Vec<(&'static str, ObjectType)> = ObjectType::ALL
            .iter()
            .map(|kind| (kind.as_str(), *kind))
            .collect();
        let kind = section.choice("type", &kinds).unwrap_or(ObjectType::Person);
        let changes = change_kinds(&section);
        let turn = |one: &ChangeKind| matches!(one, ChangeKind::Grant | ChangeKind::Revoke);
        if kind == ObjectType::Group && changes.iter().any(turn) {
            let help = Some("leave out type = \"group\"".into());
            source.error(
                section.at,
                "an approval of memberships is about the member, not the group",
                help,
            );
        }
        let scopes = expression_scopes(rules, kind, None);
        let when = section
            .text("when")
            .and_then(|when| compile_program(source, &when, &scopes.known(&[Root::Identity])));
        let levels = read_levels(
            &section,
            rules,
            kind,
            !changes.is_empty() && changes.iter().all(turn),
        );
        let together = section
            .choice("mode", &[("per_change", false), ("batch", true)])
            .unwrap_or_default();
        let choose = check_choice(&section, &levels, together);
        let (days, remind_days) = read_days(&section);
        let call = read_webhook(rules, &section);
        all.push(Approval {
            name: name.map(|(name, _)| name).unwrap_or_default(),
            system: system.map(|(name, _)| name),
            changes,
            kind,
            when,
            batch: together,
            choose_up_to: choose,
            levels,
            expires_after_days: days,
            remind_every_days: remind_days,
            webhook: call.map(|(call, _)| call),
            place: section.place(),
        });
        section.report_unknown_keys();
    }
    root.report_unknown_keys();
    all
}

/// Reads the kinds of change that need the approval.
fn change_kinds(section: &Section<'_>) -> Vec<ChangeKind> {
    let source = section.source;
    let changes = section
        .texts("change")
        .into_iter()
        .filter_map(|(word, span)| {
            let found = ChangeKind::parse(&word);
            if found.is_none() {
                let all: Vec<&str> = ChangeKind::ALL.iter().map(|kind| kind.as_str()).collect();
                source.error(
                    span.start,
                    format!("`{word}` is not a kind of change"),
                    Some(format!("choose from {}", all.join(", "))),
                );
            }
            found
        });
    changes.collect()
}

/// Checks that approvers are named, and that a choice fits the levels and the mode.
fn check_choice(section: &Section<'_>, levels: &[Level], together: bool) -> Option<u32> {
    let source = section.source;
    let choose = section.number("choose_up_to");
    if choose.is_some() && levels.iter().any(|level| level.owner) {
        source.error(
            section.at,
            "the owner of a group sees only that group, and cannot choose among groups",
            None,
        );
    }
    if levels.is_empty() {
        let help = "[[approval.level]] and below it operators = [\"…\"], groups = [\"…\"] or of = \"manager\"";
        source.error(section.at, "the approvers are missing", Some(help.into()));
    }
    if choose == Some(0) {
        source.error(
            section.at,
            "`choose_up_to` must be at least 1",
            Some("choose_up_to = 1 lets the approver choose one of the offers".into()),
        );
    }
    if choose.is_some() && together {
        let help = Some("use either `choose_up_to` or `mode`".into());
        source.error(section.at, "a choice is about the offers to one person, but `mode = \"batch\"` asks about all people at once", help);
    }
    choose
}

/// Reads after how many days an approval expires and approvers are reminded.
fn read_days(section: &Section<'_>) -> (u32, Option<u32>) {
    let source = section.source;
    let days = section.number("expires_after_days").unwrap_or(DAYS);
    let remind_days = section.number("remind_every_days");
    for (what, days) in [
        ("waited for", Some(days)),
        ("asked again after", remind_days),
    ] {
        if let Some(days) = days.filter(|days| !(1..=LONGEST).contains(days)) {
            source.error(
                section.at,
                format!("an approval cannot be {what} {days} days"),
                Some(format!("choose from 1 to {LONGEST}")),
            );
        }
    }
    (days, remind_days)
}

/// `turns`: the rule is about memberships only, so levels can name the owners of groups.
fn read_levels(
    section: &Section<'_>,
    rules: &RuleSet,
    kind: ObjectType,
    turns: bool,
) -> Vec<Level> {
    let source = section.source;
    let mut all = Vec::new();
    for item in section.list("level") {
        let Some(one) = section.as_section("level", item, "[[approval.level]]") else {
            continue;
        };
        let texts = |key: &'static str| {
            one.texts(key)
                .into_iter()
                .map(|(text, _)| text)
                .collect::<Vec<_>>()
        };
        let of = one.text("of");
        if let Some((name, span)) = &of {
            let declared = rules
                .identities
                .get(&kind)
                .and_then(|identity| identity.get(name));
            let owner = declared.is_none() && name == "owner";
            if owner && !turns {
                let help = "change = [\"grant\"]: the owner of a group approves its members";
                source.error(
                    span.start,
                    "only groups have an owner, and this approval is about other changes, too",
                    Some(help.into()),
                );
            } else if !owner && declared.is_none_or(|attribute| attribute.reference.is_none()) {
                let help = "an attribute with `reference` in identities.toml, such as manager; or owner, of a group";
                source.error(
                    span.start,
                    format!("`{name}` does not refer to a person who could approve"),
                    Some(help.into()),
                );
            }
        }
        let declared = |name: &String| {
            rules
                .identities
                .get(&kind)
                .is_some_and(|identity| identity.get(name).is_some())
        };
        let owner = of
            .as_ref()
            .is_some_and(|(of, _)| of == "owner" && !declared(of));
        let of = of.map(|(of, _)| of).filter(|_| !owner);
        let level = Level {
            operators: texts("operators"),
            groups: texts("groups"),
            of,
            owner,
        };
        if level == Level::default() {
            source.error(
                one.at,
                "a level names no approver",
                Some("operators = [\"…\"], groups = [\"…\"] or of = \"manager\"".into()),
            );
        }
        one.report_unknown_keys();
        all.push(level);
    }
    all
}
