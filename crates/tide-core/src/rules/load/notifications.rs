//! Notifications: `notifications.toml`.

use super::super::read::Section;
use super::super::{RuleSet, Schemas};
use super::{program, scopes};
use crate::expr::Root;
use crate::model::ObjectType;
use crate::notifications::{NotificationRule, RecipientRule};
use crate::states::NotificationEvent;

/// The most days.
const LONGEST: u32 = 366;

pub(super) fn notices(
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
        match &name {
            None => source.error(
                own.at,
                "a notification needs a name",
                Some("name = \"a newcomer's manager\"".into()),
            ),
            Some((name, span)) if all.iter().any(|other| other.name == *name) => {
                source.error(
                    span.start,
                    format!("there are two notifications `{name}`"),
                    None,
                );
            }
            Some(_) => {}
        }
        let events: Vec<(&str, NotificationEvent)> = NotificationEvent::ALL
            .iter()
            .filter(|event| **event != NotificationEvent::AwaitingApproval)
            .map(|event| (event.as_str(), *event))
            .collect();
        let on = own.word("on", &events);
        if own.get("on").is_none() {
            source.error(
                own.at,
                "the event is missing",
                Some("on = \"arrived\"".into()),
            );
        }
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
        let schema = system
            .as_ref()
            .and_then(|(system, _)| schemas.get(system)?.get(&kind))
            .filter(|schema| !schema.attributes.is_empty());
        let scopes = scopes(rules, kind, schema);
        // The sign-in is evaluated on the account.
        let roots: &[Root] = if on == Some(NotificationEvent::NotArrived) {
            &[Root::Account, Root::Identity]
        } else {
            &[Root::Identity]
        };
        let when = own
            .text("when")
            .and_then(|text| program(source, &text, &scopes.known(roots)));
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
            .and_then(|text| program(source, &text, &scopes.known(&[Root::Identity])));
        if own.get("text").is_none() {
            source.error(
                own.at,
                "the text is missing",
                Some("text = '\"Welcome, \" + identity.givenName'".into()),
            );
        }
        let to = own.text("recipient").map(|(to, span)| match to.as_str() {
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
        });
        let call = own.text("webhook");
        if let Some((call, span)) = &call
            && !rules.webhooks.contains_key(call)
        {
            source.error(
                span.start,
                format!("there is no webhook `{call}`"),
                Some("declare it in webhooks.toml".into()),
            );
        }
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
        let place = own.place();
        own.done();
        if let (Some((name, _)), Some(on), Some(text)) = (name, on, text) {
            let (system, call) = (system.map(|(system, _)| system), call.map(|(call, _)| call));
            all.push(NotificationRule {
                name,
                on,
                system,
                when,
                to: to.unwrap_or(RecipientRule::Operators),
                text,
                call,
                after_days,
                again_days,
                place,
            });
        }
    }
    root.done();
    all
}
