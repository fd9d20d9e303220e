//! Notifications: to the manager of a newcomer, the owner of a group, or an invited person who has
//! not signed in.
//!
//! A notice is decided like a change, and has a key: what was told once under a key is not told
//! again, however often it is decided.

use crate::HoldCause;
use crate::decide::people::Person;
use crate::decide::{Change, Outcome};
use crate::expr::EvalInputs;
use crate::lifecycle::days_later;
use crate::memberships::MembershipRules;
use crate::model::{Population, Stage};
use crate::rules::RuleSet;
use crate::rules::notifications::{NotificationRule, RecipientRule};
use crate::states::{LinkOrigin, NotificationEvent, ObjectType};
use crate::value::format_values;
use jiff::{SignedDuration, Timestamp};
use std::collections::{HashMap, HashSet};

/// Older events are not reported: a new rule reports nothing old.
const MAX_AGE: SignedDuration = SignedDuration::from_hours(72);

/// A recipient, as far as it is known when the notification is decided.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub enum Recipient {
    /// The operators.
    Operators,
    /// An identity.
    Identity(String),
    /// The owner of this account, by its name in a system.
    Account(String, String),
    /// An operator, by name.
    Operator(String),
    /// A group of operators.
    Team(String),
}

/// A notification to send, unless it was sent.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Notification {
    /// The rule, by its name.
    pub rule: String,
    /// The key: a notification is sent once for each.
    pub key: String,
    /// The identity that it is about.
    pub identity: String,
    /// Its label.
    pub label: String,
    /// What happened.
    pub event: NotificationEvent,
    /// The group, system or license, where there is one.
    pub about: Option<String>,
    /// The recipients.
    pub to: Vec<Recipient>,
    /// The text.
    pub text: String,
    /// The webhook that delivers it.
    pub call: Option<String>,
}

/// One rule for one person.
struct NotificationContext<'a> {
    rule: &'a NotificationRule,
    person: &'a Person,
}

impl NotificationContext<'_> {
    /// The notification; `None` if the rule does not apply, or there is no recipient.
    fn notification(
        &self,
        about: Option<String>,
        once: &str,
        owners: &[Recipient],
    ) -> Option<Notification> {
        let NotificationContext { rule, person } = self;
        let values = EvalInputs {
            account: None,
            identity: Some(&person.attributes),
        };
        let text = match rule.text.run(&values) {
            Ok(values) => format_values(&values),
            // It is sent anyway, with the error.
            Err(error) => format!("{} ({error} in {})", person.label, rule.text.source()),
        };
        let to = match &rule.recipient {
            RecipientRule::Operators => vec![Recipient::Operators],
            RecipientRule::Themselves => vec![Recipient::Identity(person.id.clone())],
            RecipientRule::Owner => owners.to_vec(),
            RecipientRule::Reference(name) => person
                .attributes
                .get(name)
                .iter()
                .map(|id| Recipient::Identity(id.to_string()))
                .collect(),
        };
        (!to.is_empty()).then(|| Notification {
            rule: rule.name.clone(),
            key: [
                rule.name.as_str(),
                &person.id,
                about.as_deref().unwrap_or_default(),
                once,
            ]
            .join("|"),
            identity: person.id.clone(),
            label: person.label.clone(),
            event: rule.on,
            about,
            to,
            text,
            call: rule.webhook.clone(),
        })
    }

    fn applies(&self) -> bool {
        let values = EvalInputs {
            account: None,
            identity: Some(&self.person.attributes),
        };
        self.rule
            .when
            .as_ref()
            .is_none_or(|when| when.holds(&values).unwrap_or(false))
    }
}

/// Decides the notifications about people; [`drop_premature`] removes those that must wait.
pub(crate) fn decide_notifications(
    rules: &RuleSet,
    population: &Population,
    memberships: &MembershipRules,
    people: &[Person],
    now: Timestamp,
    outcome: &mut Outcome,
) {
    if rules.notifications.is_empty() {
        return;
    }
    let made: HashSet<&str> = population
        .links
        .iter()
        .filter(|link| link.basis.origin == LinkOrigin::Created)
        .map(|l| l.identity.as_str())
        .collect();
    let mut joined: HashMap<&str, Vec<&crate::model::RuleMembership>> = HashMap::new();
    for one in &population.rule_memberships {
        joined.entry(&one.identity).or_default().push(one);
    }
    let zone = rules.zone(ObjectType::Person);
    let fresh = |at: Timestamp| now.duration_since(at) <= MAX_AGE;
    for person in people.iter().filter(|person| person.held.is_none()) {
        for rule in &rules.notifications {
            let telling = NotificationContext { rule, person };
            match rule.on {
                NotificationEvent::Ready
                | NotificationEvent::Arrived
                | NotificationEvent::Leaving
                | NotificationEvent::Left => {
                    let stage = match rule.on {
                        NotificationEvent::Ready => Stage::Expected,
                        NotificationEvent::Arrived => Stage::Active,
                        NotificationEvent::Leaving => Stage::Leaving,
                        _ => Stage::Left,
                    };
                    let ours = made.contains(person.id.as_str())
                        || matches!(
                            rule.on,
                            NotificationEvent::Leaving | NotificationEvent::Left
                        );
                    let Some(since) = person
                        .since
                        .filter(|since| person.stage == stage && ours && fresh(*since))
                    else {
                        continue;
                    };
                    if !person.before_prestart && telling.applies() {
                        outcome.notifications.extend(telling.notification(
                            None,
                            &since.to_string(),
                            &[],
                        ));
                    }
                }
                NotificationEvent::JoinedGroup => {
                    add_joined_groups(memberships, outcome, &joined, fresh, &telling);
                }
                NotificationEvent::NotArrived => {
                    not_arrived(&telling, population, &zone, now, outcome)
                }
                NotificationEvent::AwaitingApproval => {}
                // The waiting list is known after all records were decided: [`drop_premature`] keeps these.
                NotificationEvent::NoSeat => {
                    if person.out_reason.is_none() && telling.applies() {
                        let since = person.since.map(|at| at.to_string()).unwrap_or_default();
                        outcome
                            .notifications
                            .extend(telling.notification(None, &since, &[]));
                    }
                }
            }
        }
    }
}

/// Adds the notifications about groups that the person joined.
fn add_joined_groups(
    memberships: &MembershipRules,
    outcome: &mut Outcome,
    joined: &HashMap<&str, Vec<&crate::model::RuleMembership>>,
    fresh: impl Fn(Timestamp) -> bool,
    telling: &NotificationContext<'_>,
) {
    for one in joined
        .get(telling.person.id.as_str())
        .into_iter()
        .flatten()
        .filter(|one| fresh(one.created_at))
    {
        let Some(group) = memberships.get(one.group).filter(|_| telling.applies()) else {
            continue;
        };
        let system = memberships.system_of(one.group).unwrap_or_default();
        if telling
            .rule
            .system
            .as_deref()
            .is_some_and(|only| only != system)
        {
            continue;
        }
        let owners: Vec<Recipient> = group
            .owners
            .iter()
            .map(|owner| Recipient::Account(system.to_owned(), owner.clone()))
            .collect();
        outcome.notifications.extend(telling.notification(
            Some(group.label.clone()),
            &one.created_at.to_string(),
            &owners,
        ));
    }
}

fn not_arrived(
    telling: &NotificationContext<'_>,
    population: &Population,
    zone: &jiff::tz::TimeZone,
    now: Timestamp,
    outcome: &mut Outcome,
) {
    let NotificationContext { rule, person } = telling;
    if person.out_reason.is_some() || person.access_suspended {
        return;
    }
    let mut accounts = person.linked.iter().map(|&at| &population.accounts[at]);
    let account = accounts.find(|account| {
        rule.system.as_deref() == Some(&account.system) && account.absent_since.is_none()
    });
    let (Some(account), Some(since)) = (account, person.since) else {
        return;
    };
    let values = EvalInputs {
        account: Some(&account.attributes),
        identity: Some(&person.attributes),
    };
    if !rule
        .when
        .as_ref()
        .is_some_and(|when| when.holds(&values).unwrap_or(false))
    {
        return;
    }
    // The number of past repetitions, and the time of the next.
    let (mut at, mut count) = (days_later(since, rule.after_days, zone), 0u32);
    while let Some(days) = rule.repeat_every_days.filter(|days| *days > 0 && at <= now) {
        let next = days_later(at, days, zone);
        if next > now {
            outcome.due.push((person.id.clone(), next));
            break;
        }
        (at, count) = (next, count + 1);
    }
    if at > now {
        outcome.due.push((person.id.clone(), at));
        return;
    }
    outcome.notifications.extend(telling.notification(
        Some(account.system.clone()),
        &format!("{since}|{count}"),
        &[],
    ));
}

/// Removes notifications that are not true yet: a welcome waits until everything is done, and a
/// missing seat is reported only to people on the waiting list.
pub(crate) fn drop_premature(rules: &RuleSet, outcome: &mut Outcome) {
    if outcome.notifications.is_empty() {
        return;
    }
    let busy: HashSet<&str> = outcome
        .changes
        .iter()
        .map(|change| change.identity.as_str())
        .collect();
    let seat = |change: &Change| {
        let license = change
            .claims
            .first()
            .and_then(|claim| rules.licenses.get(claim.license))?;
        let held = change.is_held_by(HoldCause::WaitingForSeat);
        held.then(|| (change.identity.clone(), license.name.clone()))
    };
    let seats: HashMap<String, String> = outcome.changes.iter().filter_map(seat).collect();
    outcome
        .notifications
        .retain_mut(|notice| match notice.event {
            NotificationEvent::Ready | NotificationEvent::Arrived => {
                !busy.contains(notice.identity.as_str())
            }
            NotificationEvent::NoSeat => match seats.get(&notice.identity) {
                Some(license) => {
                    notice.about = Some(license.clone());
                    notice.key = format!("{}|{license}", notice.key);
                    true
                }
                None => false,
            },
            _ => true,
        });
    outcome.notifications.sort_by(|a, b| a.key.cmp(&b.key));
}
