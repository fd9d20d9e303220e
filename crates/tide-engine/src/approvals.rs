//! Approvals: who may approve, when requests expire, and when approvers are reminded.

use crate::decisions::DecisionReply;
use crate::neighborhood::OpenChanges;
use crate::{Engine, EngineError, Event};
use jiff::{SignedDuration, Timestamp};
use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use tide_core::decide::Change;
use tide_core::decide::notifications::{Notification, Recipient};
use tide_core::incremental::Records;
use tide_core::model::AccountId;
use tide_core::rules::approvals::Approval;
use tide_core::states::{ChangeKind, DecisionAnswer};
use tide_core::value::format_values;
use tide_core::{HoldCause, Outcome, RuleSet};
use tide_store::{Answered, ApprovalRow, NewApproval, OperatorRow};

/// The maximum number of values in the text of an offer.
const OFFERED: usize = 3;

/// Changes that are asked about in one question.
pub(crate) struct Request<'o> {
    pub id: String,
    pub rule: &'o Approval,
    /// The level that it has reached, from 0.
    pub level: usize,
    pub changes: Vec<&'o Change>,
    /// The request expired.
    pub expired: bool,
    /// The approvers so far.
    pub yes: Vec<String>,
}

fn after_days(now: Timestamp, days: u32) -> Timestamp {
    now.saturating_add(SignedDuration::from_hours(i64::from(days) * 24))
        .unwrap_or(Timestamp::MAX)
}

/// The rule that a change waits for, if it waits for one.
fn waits_for<'r>(rules: &'r RuleSet, change: &Change) -> Option<&'r Approval> {
    let asked = change.approval.as_ref()?;
    let rule = rules
        .approvals
        .iter()
        .find(|rule| rule.name == asked.rule)?;
    change
        .is_held_by(HoldCause::AwaitingApproval)
        .then_some(rule)
}

/// Changes that await approval, by request. Rejected changes are left out.
pub(crate) fn open_requests<'o>(
    rules: &'o RuleSet,
    outcome: &'o Outcome,
    rows: &HashMap<&str, &ApprovalRow>,
    now: Timestamp,
) -> Vec<Request<'o>> {
    let mut groups: BTreeMap<(String, String, usize, bool), Request<'o>> = BTreeMap::new();
    for change in &outcome.changes {
        let Some(rule) = waits_for(rules, change) else {
            continue;
        };
        let row = rows.get(change.fingerprint.as_str());
        let answers = row.map_or(&[][..], |row| row.answers.as_slice());
        if answers.iter().any(|answer| !answer.yes) {
            continue;
        }
        let expired =
            row.is_some_and(|row| row.expires_at.parse().is_ok_and(|at: Timestamp| at <= now));
        // The owner of a group approves that group only, not about other changes of the
        // person.
        let owned = rule
            .levels
            .get(answers.len())
            .is_some_and(|level| level.owner);
        let by_account = owned || (!rule.batch && change.identity.is_empty());
        let account = change
            .account
            .filter(|_| by_account)
            .map(|account| account.to_string())
            .unwrap_or_default();
        let whose = if rule.batch {
            account
        } else {
            format!("{} {account}", change.identity)
        };
        let new = || Request {
            id: String::new(),
            rule,
            level: answers.len(),
            changes: Vec::new(),
            expired,
            yes: answers.iter().map(|answer| answer.name.clone()).collect(),
        };
        groups
            .entry((rule.name.clone(), whose, answers.len(), expired))
            .or_insert_with(new)
            .changes
            .push(change);
    }
    let mut all: Vec<Request<'o>> = groups.into_values().collect();
    for request in &mut all {
        let mut prints: Vec<&str> = request
            .changes
            .iter()
            .map(|change| change.fingerprint.as_str())
            .collect();
        prints.sort_unstable();
        request.id = format!(
            "approval-{}-{}",
            request.level,
            tide_core::decide::digest_fingerprints(&prints)
        );
    }
    all
}

/// The ids of the owners of groups, by system and name there.
pub(crate) type Owners = HashMap<(String, String), String>;

fn owned_by(change: &Change) -> impl Iterator<Item = (String, String)> {
    let owners = change.approval.iter().flat_map(|asked| &asked.owners);
    owners.map(|owner| (change.system.clone(), owner.clone()))
}

/// The labels of groups.
pub(crate) type GroupLabels = HashMap<AccountId, String>;

/// The offers of a request in order: text and fingerprint of each.
pub(crate) fn list_offers<'r>(
    request: &Request<'r>,
    groups: &GroupLabels,
) -> Vec<(String, &'r str)> {
    let mut all: Vec<_> = request
        .changes
        .iter()
        .map(|change| (offer_text(change, groups), change.fingerprint.as_str()))
        .collect();
    all.sort();
    all
}

/// The text of an offer to a person.
fn offer_text(change: &Change, groups: &GroupLabels) -> String {
    if let Some(group) = change
        .account
        .filter(|_| change.is_membership())
        .and_then(|id| groups.get(&id))
    {
        let act = if change.kind == ChangeKind::Grant {
            "join"
        } else {
            "leave"
        };
        return format!("{act} {group} in {}", change.system);
    }
    let values = change
        .values
        .iter()
        .filter(|value| !value.after.is_empty())
        .take(OFFERED);
    let values: Vec<String> = values
        .map(|value| format!("{} {}", value.attribute, format_values(&value.after)))
        .collect();
    format!(
        "{} in {}: {}",
        change.kind,
        change.system,
        values.join(", ")
    )
}

/// Which changes of a request are approved, by the chosen offers: their text, or their fingerprint.
fn chosen_changes(
    request: &Request<'_>,
    chosen: &[String],
    groups: &GroupLabels,
) -> Result<BTreeSet<String>, EngineError> {
    let all = || {
        request
            .changes
            .iter()
            .map(|change| change.fingerprint.clone())
    };
    let Some(most) = request.rule.choose_up_to else {
        return match chosen {
            [] => Ok(all().collect()),
            _ => Err(EngineError::Invalid(format!(
                "{} has no offers to choose from: approve or reject it",
                request.rule.name
            ))),
        };
    };
    let offers = list_offers(request, groups);
    let offered = || {
        offers
            .iter()
            .map(|(words, _)| words.as_str())
            .collect::<Vec<_>>()
            .join("; ")
    };
    let picked = match chosen {
        [] if offers.len() <= most as usize => all().collect(),
        [] => {
            return Err(EngineError::Invalid(format!(
                "choose up to {most} of these: {}",
                offered()
            )));
        }
        chosen => {
            let mut picked = BTreeSet::new();
            for one in chosen {
                let fits = |(words, print): &&(String, &str)| {
                    words.eq_ignore_ascii_case(one) || print == one
                };
                let meant = offers.iter().find(fits);
                let meant = meant.ok_or_else(|| {
                    EngineError::Invalid(format!(
                        "`{one}` is not an offer; the offers are: {}",
                        offered()
                    ))
                })?;
                picked.insert(meant.1.to_owned());
            }
            picked
        }
    };
    match picked.len() > most as usize {
        true => Err(EngineError::Invalid(format!(
            "choose up to {most} of these: {}",
            offered()
        ))),
        false => Ok(picked),
    }
}

/// The journal action of a publication. The publisher of rules counts as the cause of operators'
/// assignments in them.
const PUBLISHED: &str = "rules.published";

/// What an operator did, in words: `you …`.
fn deed_text(act: &str) -> &'static str {
    match act.split_once('.') {
        Some(("run", _)) => "started the run that requested it",
        Some(("role", "taken")) => "revoked a role",
        Some(("role", _)) => "granted a role",
        Some(("departure", _)) => "scheduled or canceled the departure",
        Some(("match", _)) => "answered the match",
        Some(("identity", _)) => "split the identity",
        Some(("password", _)) => "set the password",
        Some(("rules", _)) => "published the rules that require it",
        _ => "caused it",
    }
}

/// Why an operator may not answer a request; `None` if the operator may.
pub(crate) fn answer_refusal(
    request: &Request<'_>,
    rows: &HashMap<&str, &ApprovalRow>,
    owners: &Owners,
    operator: &OperatorRow,
) -> Option<String> {
    let level = request.rule.levels.get(request.level)?;
    for change in &request.changes {
        let Some(row) = rows.get(change.fingerprint.as_str()) else {
            return Some("the next run requests it".to_owned());
        };
        if row.asked_by == operator.id {
            return Some("operators cannot approve a change that they requested".to_owned());
        }
        if let Some(cause) = row
            .causes
            .iter()
            .find(|cause| cause.principal == operator.id)
        {
            return Some(format!(
                "operators cannot approve a change that they caused: you {}",
                deed_text(&cause.act)
            ));
        }
        // Who set what makes this operator an approver, after they had caused the change, would
        // approve it by another's name.
        if let Some((by, at)) = &operator.set_by
            && row
                .causes
                .iter()
                .any(|cause| cause.principal == *by && cause.at <= *at && cause.act != PUBLISHED)
        {
            return Some(
                "the operator who caused this change has set your groups, person or token since"
                    .to_owned(),
            );
        }
        if row
            .answers
            .iter()
            .any(|answer| answer.principal == operator.id)
        {
            return Some("you have answered an earlier level".to_owned());
        }
        let pointed = change
            .approval
            .as_ref()
            .and_then(|asked| asked.of.get(request.level));
        let named = level.operators.contains(&operator.name)
            || level
                .groups
                .iter()
                .any(|group| operator.teams.contains(group))
            || operator
                .identity
                .as_ref()
                .is_some_and(|own| pointed.is_some_and(|of| of.contains(own)))
            || level.owner
                && operator.identity.as_ref().is_some_and(|own| {
                    owned_by(change).any(|owner| owners.get(&owner) == Some(own))
                });
        if !named {
            return Some(format!("this level is for {}", level.text()));
        }
        if operator
            .identity
            .as_ref()
            .is_some_and(|own| *own == change.identity)
        {
            return Some("operators cannot approve changes of their own accounts".to_owned());
        }
    }
    None
}

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

impl Engine {
    /// Notifies approvers by the webhook that the rule names.
    async fn tell_asked(
        &self,
        rules: &RuleSet,
        outcome: &Outcome,
        due: &HashSet<String>,
    ) -> Result<(), EngineError> {
        let rows = self.store.list_approvals().await?;
        let rows: HashMap<&str, &ApprovalRow> = rows
            .iter()
            .map(|row| (row.fingerprint.as_str(), row))
            .collect();
        let now = self.now();
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
        self.tell_all(&notices).await
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
        let rows = self.store.list_approvals().await?;
        if rules.approvals.is_empty() && rows.is_empty() {
            return Ok(());
        }
        let now = self.now();
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
            None => self.published_rules().await.ok().map(|rules| rules.version),
            Some(_) => None,
        };
        let asked = self
            .store
            .request_approvals(new, gone, version, asker, now)
            .await?;
        let again = rules
            .approvals
            .iter()
            .filter_map(|rule| Some((rule.name.clone(), rule.remind_every_days?)))
            .collect();
        if rules.approvals.iter().any(|rule| rule.webhook.is_some()) && !waiting.is_empty() {
            let due = self.store.to_remind_of(&waiting, now).await?;
            self.tell_asked(rules, outcome, &due).await?;
        }
        let reminded = self.store.queue_reminders(&waiting, again, now).await?;
        if asked + reminded > 0 {
            self.publish_event(Event::AttentionChanged);
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
                && let Some(id) = self.store.identity_of_account(&owner.0, &owner.1).await?
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
        let DecisionReply {
            answer,
            comment,
            choice,
        } = *said;
        let OpenChanges {
            rules,
            outcome,
            group_labels,
        } = self.open_changes().await?;
        let rows = self.store.list_approvals().await?;
        let rows: HashMap<&str, &ApprovalRow> = rows
            .iter()
            .map(|row| (row.fingerprint.as_str(), row))
            .collect();
        let all = open_requests(&rules.set, &outcome, &rows, self.now());
        let request = all
            .iter()
            .find(|request| request.id == id)
            .ok_or_else(crate::decisions::decision_changed)?;
        let prints = || {
            request
                .changes
                .iter()
                .map(|change| change.fingerprint.clone())
        };
        match (answer, request.expired) {
            (DecisionAnswer::Reopen, true) => {
                let (now, rule) = (self.now(), request.rule);
                let remind = rule.remind_every_days.map(|every| after_days(now, every));
                return Ok(self
                    .store
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
        let operator = self.store.find_operator(principal).await?;
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
        Ok(self
            .store
            .answer_approval(answers, request.level, principal, self.now())
            .await?)
    }
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
