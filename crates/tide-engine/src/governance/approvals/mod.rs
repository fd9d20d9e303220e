//! Approvals: requested, expired, reminded of, and answered.

mod eligibility;
mod requests;

pub(super) use eligibility::answer_refusal;
pub(super) use requests::{Owners, Request, list_offers, open_requests};

use crate::decide::OpenChanges;
use crate::error::EngineError;
use crate::events::Event;
use crate::governance::Approvals;
use crate::governance::approvals::requests::{after_days, chosen_changes, owned_by, waits_for};
use crate::governance::reply::DecisionReply;
use jiff::Timestamp;
use std::collections::{BTreeSet, HashMap, HashSet};
use tide_core::decide::Change;
use tide_core::decide::notifications::{Notification, Recipient};
use tide_core::incremental::Records;
use tide_core::states::DecisionAnswer;
use tide_core::{Outcome, RuleSet};
use tide_store::{Answered, ApprovalRow, NewApproval};

/// Notifications to approvers: one for each request, and one for each reminder.
fn approval_notifications(
    request: &Request<'_>,
    asked: &str,
    due: &HashSet<String>,
    now: Timestamp,
) -> Option<Notification> {
    let (rule, first) = (request.rule, request.changes.first()?);
    let call = rule.webhook.clone().filter(|_| !request.expired)?;
    let level = rule.levels.get(request.level)?;
    let again = request
        .changes
        .iter()
        .any(|change| due.contains(&change.fingerprint));
    let pointed: BTreeSet<&String> = request
        .changes
        .iter()
        .filter_map(|change| change.approval.as_ref()?.of.get(request.level))
        .flatten()
        .collect();
    let to = level.operators.iter().cloned().map(Recipient::Operator);
    let to = to
        .chain(level.groups.iter().cloned().map(Recipient::Team))
        .chain(pointed.into_iter().cloned().map(Recipient::Identity));
    let owners: BTreeSet<(String, String)> = request
        .changes
        .iter()
        .copied()
        .filter(|_| level.owner)
        .flat_map(owned_by)
        .collect();
    let to = to.chain(
        owners
            .into_iter()
            .map(|(system, name)| Recipient::Account(system, name)),
    );
    let others = match request.changes.len() {
        1 => String::new(),
        count => format!(" and {} more changes", count - 1),
    };
    let waits = if again {
        "still awaiting approval"
    } else {
        "awaiting approval"
    };
    // A batch has one request, whatever is added to it.
    let whose = if rule.batch { asked } else { &request.id };
    let time = if again {
        now.to_string()
    } else {
        String::new()
    };
    Some(Notification {
        rule: rule.name.clone(),
        key: [
            "approval",
            &rule.name,
            &request.level.to_string(),
            whose,
            &time,
        ]
        .join("|"),
        identity: if rule.batch {
            String::new()
        } else {
            first.identity.clone()
        },
        label: first.label.clone(),
        event: tide_core::states::NotificationEvent::AwaitingApproval,
        about: Some(first.system.clone()),
        to: to.collect(),
        text: format!(
            "{}: {} in {}{others} {waits} ({})",
            first.label, first.kind, first.system, rule.name
        ),
        call: Some(call),
    })
}

/// The answer to each change of a request: those that were not chosen are rejected.
fn answers_of(
    answer: DecisionAnswer,
    comment: &str,
    request: &Request<'_>,
    yes: BTreeSet<String>,
) -> Vec<Answered> {
    let answered = |change: &&Change| {
        let good = yes.contains(&change.fingerprint);
        let comment = match (good || answer == DecisionAnswer::Reject, comment) {
            (true, words) => words.to_owned(),
            (false, "") => "another offer was chosen".to_owned(),
            (false, words) => format!("another offer was chosen: {words}"),
        };
        Answered {
            fingerprint: change.fingerprint.clone(),
            identity: change.identity.clone(),
            yes: good,
            comment,
        }
    };
    request.changes.iter().map(answered).collect()
}

impl Approvals {
    /// Notifies approvers by the webhook that the rule names.
    async fn tell_asked(
        &self,
        rules: &RuleSet,
        outcome: &Outcome,
        due: &HashSet<String>,
    ) -> Result<(), EngineError> {
        let rows = self.context.store.list_approvals().await?;
        let rows: HashMap<&str, &ApprovalRow> = rows
            .iter()
            .map(|row| (row.fingerprint.as_str(), row))
            .collect();
        let now = self.context.now();
        let first = |rule: &str| {
            rows.values()
                .filter(|row| row.rule == rule)
                .map(|row| row.requested_at.as_str())
                .min()
                .unwrap_or_default()
        };
        let notices: Vec<Notification> = open_requests(rules, outcome, &rows, now)
            .iter()
            .filter_map(|request| {
                approval_notifications(request, first(&request.rule.name), due, now)
            })
            .collect();
        self.notifier.tell_all(&notices).await
    }

    /// Creates requests for changes that need approval, deletes requests that nothing requires any
    /// more, and sends reminders. `about` limits it to the decided records; `None` is all.
    pub(crate) async fn ask_about(
        &self,
        rules: &RuleSet,
        outcome: &Outcome,
        about: Option<&Records>,
        asker: &str,
    ) -> Result<(), EngineError> {
        let store = &self.context.store;
        let rows = store.list_approvals().await?;
        if rules.approvals.is_empty() && rows.is_empty() {
            return Ok(());
        }
        let now = self.context.now();
        let known: HashSet<&str> = rows.iter().map(|row| row.fingerprint.as_str()).collect();
        let mut wanted: HashSet<&str> = HashSet::new();
        let mut waiting: HashSet<String> = HashSet::new();
        let mut new = Vec::new();
        for change in outcome
            .changes
            .iter()
            .filter(|change| change.approval.is_some())
        {
            wanted.insert(&change.fingerprint);
            let Some(rule) = waits_for(rules, change) else {
                continue;
            };
            waiting.insert(change.fingerprint.clone());
            if !known.contains(change.fingerprint.as_str()) {
                new.push(NewApproval {
                    fingerprint: change.fingerprint.clone(),
                    rule: rule.name.clone(),
                    system: change.system.clone(),
                    kind: change.kind.as_str().to_owned(),
                    identity: change.identity.clone(),
                    label: change.label.clone(),
                    expires: after_days(now, rule.expires_after_days),
                    remind: rule.remind_every_days.map(|every| after_days(now, every)),
                });
            }
        }
        // Nothing is known about records that were not decided.
        let decided =
            |row: &&ApprovalRow| about.is_none_or(|about| about.identities.contains(&row.identity));
        let unwanted = rows
            .iter()
            .filter(decided)
            .map(|row| &row.fingerprint)
            .filter(|print| !wanted.contains(print.as_str()));
        let gone = unwanted.cloned().collect();
        let version = match about {
            None => self
                .rules
                .published_rules()
                .await
                .ok()
                .map(|rules| rules.version),
            Some(_) => None,
        };
        let asked = store
            .request_approvals(new, gone, version, asker, now)
            .await?;
        let again = rules
            .approvals
            .iter()
            .filter_map(|rule| Some((rule.name.clone(), rule.remind_every_days?)))
            .collect();
        if rules.approvals.iter().any(|rule| rule.webhook.is_some()) && !waiting.is_empty() {
            let due = store.to_remind_of(&waiting, now).await?;
            self.tell_asked(rules, outcome, &due).await?;
        }
        let reminded = store.queue_reminders(&waiting, again, now).await?;
        if asked + reminded > 0 {
            self.context.publish_event(Event::AttentionChanged);
        }
        Ok(())
    }

    /// The ids of the owners of the groups that requests are about.
    pub(crate) async fn group_owners(
        &self,
        requests: &[Request<'_>],
    ) -> Result<Owners, EngineError> {
        let mut owners = Owners::new();
        for owner in requests
            .iter()
            .flat_map(|request| &request.changes)
            .flat_map(|change| owned_by(change))
        {
            if !owners.contains_key(&owner)
                && let Some(id) = self
                    .context
                    .store
                    .identity_of_account(&owner.0, &owner.1)
                    .await?
            {
                owners.insert(owner, id);
            }
        }
        Ok(owners)
    }

    /// Answers a request: `approve` (some of what is offered, where one chooses), `reject`, or
    /// `reopen` after it expired.
    pub(crate) async fn answer_approval(
        &self,
        id: &str,
        said: &DecisionReply<'_>,
        principal: &str,
    ) -> Result<(), EngineError> {
        let store = &self.context.store;
        let DecisionReply {
            answer,
            comment,
            choice,
        } = *said;
        let OpenChanges {
            rules,
            outcome,
            group_labels,
        } = self.decider.open_changes().await?;
        let rows = store.list_approvals().await?;
        let rows: HashMap<&str, &ApprovalRow> = rows
            .iter()
            .map(|row| (row.fingerprint.as_str(), row))
            .collect();
        let all = open_requests(&rules.set, &outcome, &rows, self.context.now());
        let request = all
            .iter()
            .find(|request| request.id == id)
            .ok_or_else(crate::governance::reply::decision_changed)?;
        let prints = || {
            request
                .changes
                .iter()
                .map(|change| change.fingerprint.clone())
        };
        match (answer, request.expired) {
            (DecisionAnswer::Reopen, true) => {
                let (now, rule) = (self.context.now(), request.rule);
                let remind = rule.remind_every_days.map(|every| after_days(now, every));
                return Ok(store
                    .reopen_approvals(
                        prints().collect(),
                        after_days(now, rule.expires_after_days),
                        remind,
                        principal,
                        now,
                    )
                    .await?);
            }
            (DecisionAnswer::Approve | DecisionAnswer::Reject, false) => {}
            (DecisionAnswer::Approve | DecisionAnswer::Reject, true) => {
                return Err(EngineError::Conflict(
                    "the request has expired: `reopen` requests approval again".to_owned(),
                ));
            }
            _ => {
                return Err(EngineError::Invalid(format!(
                    "`{answer}` is not an answer to {id}"
                )));
            }
        }
        let operator = store.find_operator(principal).await?;
        if let Some(why) = answer_refusal(
            request,
            &rows,
            &self.group_owners(std::slice::from_ref(request)).await?,
            &operator,
        ) {
            return Err(EngineError::Forbidden(why));
        }
        let yes = if answer == DecisionAnswer::Approve {
            chosen_changes(request, choice, &group_labels)?
        } else {
            BTreeSet::new()
        };
        let answers = answers_of(answer, comment, request, yes);
        Ok(store
            .answer_approval(answers, request.level, principal, self.context.now())
            .await?)
    }
}
