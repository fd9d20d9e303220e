//! Notifications: `notifications.toml`.

use super::super::read::Section;
use super::super::{RuleSet, Schemas};
use super::{check_name, compile_program, expression_scopes, read_webhook};
use crate::expr::Root;
use crate::rules::notifications::{NotificationRule, RecipientRule};
use crate::states::{NotificationEvent, ObjectType};

/// The most days.
const LONGEST: u32 = 366;

pub(super) fn load_notifications(
    root: Section<'_>,
    rules: &RuleSet,
    schemas: &Schemas,
) -> Vec<NotificationRule> {
    let source = root.source;
    let kind = ObjectType::Person;
    let mut all: Vec<NotificationRule> = Vec::new();
    for item in root.list("notification") {
        let Some(own) = root.as_section("notification", item, "[[notification]]") else {
            continue;
        };
        let name = own.text("name");
        check_name(
            &own,
            &name,
            "notification",
            "name = \"a newcomer's manager\"",
            all.iter().map(|other| &other.name),
        );
        let on = read_event(&own);
        let system = read_system(rules, &own, on);
        let schema = system
            .as_ref()
            .and_then(|(system, _)| schemas.get(system)?.get(&kind))
            .filter(|schema| !schema.attributes.is_empty());
        let scopes = expression_scopes(rules, kind, schema);
        // The sign-in is evaluated on the account.
        let roots: &[Root] = if on == Some(NotificationEvent::NotArrived) {
            &[Root::Account, Root::Identity]
        } else {
            &[Root::Identity]
        };
        let when = own
            .text("when")
            .and_then(|text| compile_program(source, &text, &scopes.known(roots)));
        if on == Some(NotificationEvent::NotArrived) && own.get("when").is_none() {
            let help = "when = 'account.lastSignIn == null'".to_owned();
            source.error(
                own.at,
                "the condition of the missing sign-in is missing",
                Some(help),
            );
        }
        let text = own
            .text("text")
            .and_then(|text| compile_program(source, &text, &scopes.known(&[Root::Identity])));
        if own.get("text").is_none() {
            source.error(
                own.at,
                "the text is missing",
                Some("text = '\"Welcome, \" + identity.givenName'".into()),
            );
        }
        let to = read_recipient(rules, kind, &own, on);
        let call = read_webhook(rules, &own);
        let (after_days, again_days) = read_days(&own, on);
        let place = own.place();
        own.report_unknown_keys();
        if let (Some((name, _)), Some(on), Some(text)) = (name, on, text) {
            let (system, call) = (system.map(|(system, _)| system), call.map(|(call, _)| call));
            all.push(NotificationRule {
                name,
                on,
                system,
                when,
                recipient: to.unwrap_or(RecipientRule::Operators),
                text,
                webhook: call,
                after_days,
                repeat_every_days: again_days,
                place,
            });
        }
    }
    root.report_unknown_keys();
    all
}

/// Reads the event.
fn read_event(own: &Section<'_>) -> Option<NotificationEvent> {
    let source = own.source;
    let events: Vec<(&str, NotificationEvent)> = NotificationEvent::ALL
        .iter()
        .filter(|event| **event != NotificationEvent::AwaitingApproval)
        .map(|event| (event.as_str(), *event))
        .collect();
    let on = own.choice("on", &events);
    if own.get("on").is_none() {
        source.error(
            own.at,
            "the event is missing",
            Some("on = \"arrived\"".into()),
        );
    }
    on
}

/// Reads the system, which a missing sign-in needs.
fn read_system(
    rules: &RuleSet,
    own: &Section<'_>,
    on: Option<NotificationEvent>,
) -> Option<(String, std::ops::Range<usize>)> {
    let source = own.source;
    let system = own.text("system");
    match (&system, on) {
        (Some((system, span)), _) if !rules.systems.contains_key(system) => {
            source.error(
                span.start,
                format!("no file has rules for a system `{system}`"),
                None,
            );
        }
        (None, Some(NotificationEvent::NotArrived)) => {
            source.error(
                own.at,
                "the system of the sign-in is missing",
                Some("system = \"berthing\"".into()),
            );
        }
        _ => {}
    }
    system
}

/// Reads who is notified.
fn read_recipient(
    rules: &RuleSet,
    kind: ObjectType,
    own: &Section<'_>,
    on: Option<NotificationEvent>,
) -> Option<RecipientRule> {
    let source = own.source;
    own.text("recipient").map(|(to, span)| match to.as_str() {
        "operators" => RecipientRule::Operators,
        "themselves" => RecipientRule::Themselves,
        "owner" => {
            if on.is_some_and(|on| on != NotificationEvent::JoinedGroup) {
                source.error(
                    span.start,
                    "only a group has an owner",
                    Some("on = \"joined_group\"".into()),
                );
            }
            RecipientRule::Owner
        }
        name => {
            let declared = rules
                .identities
                .get(&kind)
                .and_then(|identity| identity.get(name));
            if declared.is_none_or(|attribute| attribute.reference.is_none()) {
                let help = "operators, themselves, owner, or a reference attribute";
                source.error(
                    span.start,
                    format!("`{name}` is not a recipient"),
                    Some(help.into()),
                );
            }
            RecipientRule::Reference(name.to_owned())
        }
    })
}

/// Reads after how many days a missing sign-in is reported, and again.
fn read_days(own: &Section<'_>, on: Option<NotificationEvent>) -> (u32, Option<u32>) {
    let source = own.source;
    let (after_days, again_days) = (
        own.number("after_days").unwrap_or(0),
        own.number("repeat_every_days"),
    );
    if after_days.max(again_days.unwrap_or(0)) > LONGEST {
        source.error(
            own.at,
            "too many days",
            Some(format!("choose from 0 to {LONGEST} days")),
        );
    }
    if on.is_some_and(|on| on != NotificationEvent::NotArrived)
        && (after_days > 0 || again_days.is_some())
    {
        source.error(
            own.at,
            "`repeat_every_days` belongs to the event not_arrived",
            Some("on = \"not_arrived\"".into()),
        );
    }
    (after_days, again_days)
}
