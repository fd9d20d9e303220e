//! The list of decisions for operators: matches that need review, approvals, changes held by
//! guards, failed changes, drift and external changes.

use crate::neighborhood::OpenChanges;
use crate::{Engine, EngineError, approvals};
use jiff::{SignedDuration, Timestamp};
use std::collections::{BTreeMap, HashMap, HashSet};
use tide_core::decide::{Change, Doubt};
use tide_core::incremental::Records;
use tide_core::states::{ChangeKind, DecisionAnswer, DecisionKind};
use tide_core::value::format_values;
use tide_core::{HoldCause, ObjectType, Outcome, Population, RuleSet};
use tide_store::{
    AlertRow, ApprovalRow, GuardWindow, NewOverride, OutcomeFilter, OutcomeList, OutcomeStatus,
    OverrideRow, Parked,
};

/// Maximum number of names in one entry.
const NAMED: usize = 5;
/// If more accounts of a system than this have drift, they form one entry.
const TOGETHER: usize = 20;

/// Expiry of an unused release.
const RELEASED: SignedDuration = SignedDuration::from_hours(24);
/// Expiry of a discard.
const DISCARDED: SignedDuration = SignedDuration::from_hours(7 * 24);

/// An entry of the list.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Decision {
    /// The id for answering it. It is derived from what is shown, and changes with it.
    pub id: String,
    /// What is to be decided.
    pub kind: DecisionKind,
    /// The system.
    pub system: String,
    /// The title.
    pub title: String,
    /// The explanation.
    pub said: String,
    /// The number of records.
    pub count: usize,
    /// Names of some of them.
    pub names: Vec<String>,
    /// The possible answers.
    pub answers: Vec<DecisionAnswer>,
    /// Why the asking principal may not answer, if so.
    pub blocked: Option<String>,
    /// Offers from which the approver chooses: fingerprint and text of each.
    pub offers: Vec<(String, String)>,
    /// Maximum number of chosen offers.
    pub most: Option<u32>,
}

/// An answer to an entry.
#[derive(Debug, Clone, Copy)]
pub struct DecisionReply<'a> {
    /// The answer.
    pub answer: DecisionAnswer,
    /// The comment.
    pub comment: &'a str,
    /// The chosen offers, by text or fingerprint.
    pub choice: &'a [String],
}

impl Decision {
    fn new(kind: DecisionKind, id: String, system: &str) -> Decision {
        let (title, said) = (String::new(), String::new());
        let (names, answers, offers) = (Vec::new(), Vec::new(), Vec::new());
        Decision {
            id,
            kind,
            system: system.to_owned(),
            title,
            said,
            count: 1,
            names,
            answers,
            blocked: None,
            offers,
            most: None,
        }
    }
}

fn first_names<'a>(names: impl Iterator<Item = &'a str>) -> Vec<String> {
    let mut all: Vec<String> = Vec::new();
    for name in names {
        if all.len() < NAMED && !all.iter().any(|known| known == name) {
            all.push(name.to_owned());
        }
    }
    all
}

/// Changes held by guards, by system and kind, with the guard's reason.
fn changes_held_by_guards(
    outcome: &Outcome,
) -> BTreeMap<(&str, ChangeKind), (String, Vec<&Change>)> {
    let mut held: BTreeMap<(&str, ChangeKind), (String, Vec<&Change>)> = BTreeMap::new();
    for change in &outcome.changes {
        let Some(hold) = &change.hold else { continue };
        if hold.cause == Some(HoldCause::Guard) {
            held.entry((&change.system, change.kind))
                .or_insert_with(|| (hold.to_string(), Vec::new()))
                .1
                .push(change);
        }
    }
    held
}

/// A system, a kind of change, and the window in hours.
type Lately = (String, String, u32);

/// The windows of guards at a time, and the queries that count them, in the same order.
pub(crate) fn counted_by_guards(rules: &RuleSet, at: Timestamp) -> (Vec<Lately>, Vec<GuardWindow>) {
    let all = rules.guards.iter().flat_map(|guard| {
        let since = at
            .saturating_sub(jiff::SignedDuration::from_hours(guard.window_hours.into()))
            .unwrap_or_default();
        let systems = rules
            .systems
            .keys()
            .filter(|name| guard.system.as_ref().is_none_or(|only| only == *name));
        systems.map(move |system| {
            let key = (system.clone(), guard.change.clone(), guard.window_hours);
            (
                key,
                GuardWindow {
                    system: system.clone(),
                    kind: guard.change.clone(),
                    since,
                },
            )
        })
    });
    all.unzip()
}

/// A count in the form of the population.
pub(crate) fn count_of((key, count): (Lately, i64)) -> (Lately, usize) {
    (key, usize::try_from(count).unwrap_or_default())
}

/// The id of a set of held changes; it changes with the set.
fn guard_id(system: &str, kind: ChangeKind, changes: &[&Change]) -> String {
    let mut prints: Vec<&str> = changes
        .iter()
        .map(|change| change.fingerprint.as_str())
        .collect();
    prints.sort_unstable();
    format!(
        "guard-{system}-{kind}-{}",
        tide_core::decide::digest_fingerprints(&prints)
    )
}

/// Drift that is only reported: each change separately, or those of a system together if there
/// are many.
fn reported_drift(outcome: &Outcome) -> Vec<Vec<&Change>> {
    let mut by_system: BTreeMap<&str, Vec<&Change>> = BTreeMap::new();
    for change in &outcome.changes {
        if change.is_held_by(HoldCause::ExternalChange) {
            by_system.entry(&change.system).or_default().push(change);
        }
    }
    let split = |changes| match changes {
        changes if Vec::len(&changes) > TOGETHER => vec![changes],
        changes => changes.into_iter().map(|change| vec![change]).collect(),
    };
    by_system.into_values().flat_map(split).collect()
}

fn drift_id(changes: &[&Change]) -> String {
    let mut prints: Vec<&str> = changes
        .iter()
        .map(|change| change.fingerprint.as_str())
        .collect();
    prints.sort_unstable();
    format!("drift-{}", tide_core::decide::digest_fingerprints(&prints))
}

fn drift_decision(changes: Vec<&Change>) -> Decision {
    let system = changes.first().map_or("", |change| change.system.as_str());
    let values = |change: &Change| {
        let told = change.values.iter().map(|value| {
            format!(
                "{} is {} and was {}",
                value.attribute,
                format_values(&value.before),
                format_values(&value.after)
            )
        });
        told.collect::<Vec<_>>().join(", ")
    };
    let (title, said) = match changes.as_slice() {
        [one] => (
            format!("{}: changed in {system} by others", one.label),
            values(one),
        ),
        all => (
            format!("{} accounts were changed in {system} by others", all.len()),
            "a preview shows each of them".to_owned(),
        ),
    };
    Decision {
        title,
        said: format!("{said}; the rules only report it"),
        count: changes.len(),
        names: first_names(changes.iter().map(|change| change.label.as_str())),
        answers: vec![DecisionAnswer::Repair],
        ..Decision::new(DecisionKind::Drift, drift_id(&changes), system)
    }
}

fn open_decisions(outcome: &Outcome, parked: &HashMap<String, Parked>) -> Vec<Decision> {
    let mut all = Vec::new();
    for ((system, kind), (said, changes)) in changes_held_by_guards(outcome) {
        let many = if changes.len() == 1 {
            "change is held"
        } else {
            "changes are held"
        };
        all.push(Decision {
            title: format!("{} {kind} {many} in {system}", changes.len()),
            said,
            count: changes.len(),
            names: first_names(changes.iter().map(|change| change.label.as_str())),
            answers: vec![DecisionAnswer::Release, DecisionAnswer::Discard],
            ..Decision::new(
                DecisionKind::Guard,
                guard_id(system, kind, &changes),
                system,
            )
        });
    }
    for change in &outcome.changes {
        let Some(failed) = parked
            .get(&change.fingerprint)
            .filter(|parked| !parked.passing)
        else {
            continue;
        };
        all.push(Decision {
            title: format!(
                "{}: {} in {} failed",
                change.label, change.kind, change.system
            ),
            said: failed.error.clone(),
            names: vec![change.label.clone()],
            answers: vec![DecisionAnswer::Retry],
            ..Decision::new(
                DecisionKind::Failed,
                format!("parked-{}", change.fingerprint),
                &change.system,
            )
        });
    }
    all
}

/// The matches of a system that need review, by their doubt.
fn match_decision(system: &str, doubt: Doubt, count: i64, names: Vec<String>) -> Decision {
    let need = match count {
        1 => format!("1 match in {system} needs review"),
        count => format!("{count} matches in {system} need review"),
    };
    let title = match doubt {
        Doubt::NeedsReview => need,
        other => format!("{need}: {}", other.as_str().replace('_', " ")),
    };
    Decision {
        title,
        said: "nothing is sent for them until the matches are answered".to_owned(),
        count: usize::try_from(count).unwrap_or_default(),
        names: first_names(names.iter().map(String::as_str)),
        ..Decision::new(
            DecisionKind::Match,
            format!("match-{system}-{}", doubt.as_str()),
            system,
        )
    }
}

/// Adds alerts to acknowledge.
fn add_alerts(notices: &[AlertRow], all: &mut Vec<Decision>) {
    for notice in notices {
        let kind = if notice.recipient == "operators" {
            DecisionKind::ExternalChange
        } else {
            DecisionKind::Reminder
        };
        all.push(Decision {
            title: notice.subject.clone(),
            said: notice.body.clone(),
            answers: vec![DecisionAnswer::Acknowledge],
            ..Decision::new(kind, format!("surprise-{}", notice.id), "")
        });
    }
}

/// Answers in effect that can be taken back: releases and discards by their entry, and approvals
/// whose changes were not sent yet.
fn answers_in_effect(
    outcome: &Outcome,
    overrides: &[OverrideRow],
    approvals: &[ApprovalRow],
    now: Timestamp,
) -> Vec<Decision> {
    let wanted: HashMap<&str, &Change> = outcome
        .changes
        .iter()
        .map(|change| (change.fingerprint.as_str(), change))
        .collect();
    let now = tide_store::format_timestamp(now);
    let mut by_decision: BTreeMap<&str, Vec<&OverrideRow>> = BTreeMap::new();
    for row in overrides
        .iter()
        .filter(|row| row.expires_at > now && wanted.contains_key(row.fingerprint.as_str()))
    {
        by_decision.entry(&row.decision).or_default().push(row);
    }
    let minute =
        |stamp: &str| format!("{} UTC", stamp.get(..16).unwrap_or(stamp).replace('T', " "));
    let override_of =
        |(decision, rows): (&str, Vec<&OverrideRow>)| override_decision(minute, decision, rows);
    let answered = |row: &&ApprovalRow| !row.answers.is_empty();
    let answer_of = |row: &ApprovalRow| {
        let change = wanted.get(row.fingerprint.as_str())?;
        let last = row.answers.last()?;
        let done = if last.yes { "approved" } else { "rejected" };
        Some(Decision {
            title: format!(
                "{}: {} in {} {done} by {}",
                change.label, change.kind, change.system, last.name
            ),
            said: format!(
                "{} ({}): taken back; approval starts again at the first level",
                minute(&last.created_at),
                row.rule
            ),
            names: vec![change.label.clone()],
            answers: vec![DecisionAnswer::TakeBack],
            ..Decision::new(
                DecisionKind::Override,
                format!("override-{}", row.fingerprint),
                &change.system,
            )
        })
    };
    by_decision
        .into_iter()
        .map(override_of)
        .chain(approvals.iter().filter(answered).filter_map(answer_of))
        .collect()
}

/// An override that can be withdrawn.
fn override_decision(
    minute: impl Fn(&str) -> String,
    decision: &str,
    rows: Vec<&OverrideRow>,
) -> Decision {
    let first = rows[0];
    let (done, next) = match first.release {
        true => ("released", "they are sent once nothing else holds them"),
        false => (
            "discarded",
            "they are not sent; if they are still required then, they are held again",
        ),
    };
    let plural = if rows.len() == 1 { "change" } else { "changes" };
    Decision {
        title: format!(
            "{} {} {plural} in {} {done} by {}",
            rows.len(),
            first.kind,
            first.system,
            first.principal
        ),
        said: format!(
            "{} until {}: {next}",
            minute(&first.created_at),
            minute(&first.expires_at)
        ),
        count: rows.len(),
        names: first_names(rows.iter().map(|row| row.label.as_str())),
        answers: vec![DecisionAnswer::TakeBack],
        ..Decision::new(
            DecisionKind::Override,
            format!("override-{decision}"),
            &first.system,
        )
    }
}

pub(crate) fn decision_changed() -> EngineError {
    EngineError::Changed("this decision has changed: list the decisions again".to_owned())
}

fn unfit_answer(answer: DecisionAnswer, id: &str) -> EngineError {
    EngineError::Invalid(format!("`{answer}` is not an answer to {id}"))
}

impl Engine {
    /// The list of decisions for a principal.
    pub async fn list_decisions(&self, principal: &str) -> Result<Vec<Decision>, EngineError> {
        let open = self.open_changes().await?;
        let outcome = &open.outcome;
        let mut all = self.approval_decisions(&open, principal).await?;
        all.extend(reported_drift(outcome).into_iter().map(drift_decision));
        let prints: Vec<&str> = outcome
            .changes
            .iter()
            .map(|change| change.fingerprint.as_str())
            .collect();
        let parked = self.store.parked_changes(&prints).await?;
        all.extend(open_decisions(outcome, &parked));
        all.extend(self.match_decisions().await?);
        add_alerts(&self.store.list_alerts().await?, &mut all);
        all.extend(answers_in_effect(
            outcome,
            &self.store.override_rows().await?,
            &self.store.list_approvals().await?,
            self.now(),
        ));
        Ok(all)
    }

    /// The matches that need review, by system and doubt.
    async fn match_decisions(&self) -> Result<Vec<Decision>, EngineError> {
        let mut counts: BTreeMap<(String, Doubt), (i64, OutcomeFilter)> = BTreeMap::new();
        for count in self.store.match_counts().await? {
            if let Some(doubt) = Doubt::of(count.status, count.code) {
                let filter = OutcomeFilter {
                    status: Some(OutcomeStatus::Match(count.status)),
                    code: (doubt == Doubt::Orphaned).then_some(count.code),
                    limit: NAMED as i64,
                    ..OutcomeFilter::default()
                };
                let known = counts.entry((count.system, doubt)).or_insert((0, filter));
                known.0 += count.count;
            }
        }
        let mut decisions = Vec::new();
        for ((system, doubt), (count, filter)) in counts {
            let mut names = Vec::new();
            for kind in ObjectType::ALL {
                let list = OutcomeList::Matches;
                let records = self.store.list_records(list, &system, *kind, &filter);
                names.extend(records.await?.0.into_iter().map(|one| one.label));
            }
            decisions.push(match_decision(&system, doubt, count, names));
        }
        Ok(decisions)
    }

    /// Ends overrides of changes that are not wanted any more, and expired ones. `about`: the
    /// decided records; `None` means all.
    pub(crate) async fn end_overrides(
        &self,
        outcome: &Outcome,
        about: Option<&Records>,
    ) -> Result<(), EngineError> {
        let (rows, now) = (
            self.store.override_rows().await?,
            tide_store::format_timestamp(self.now()),
        );
        if rows.is_empty() {
            return Ok(());
        }
        let wanted: HashSet<&str> = outcome
            .changes
            .iter()
            .map(|change| change.fingerprint.as_str())
            .collect();
        // Records that were not decided keep their overrides.
        let decided = |row: &OverrideRow| match about {
            None => true,
            Some(about) if row.identity.is_empty() => row
                .account
                .is_some_and(|account| about.accounts.contains(&account)),
            Some(about) => about.identities.contains(&row.identity),
        };
        let unwanted: Vec<String> = rows
            .iter()
            .filter(|row| decided(row) && !wanted.contains(row.fingerprint.as_str()))
            .map(|row| row.fingerprint.clone())
            .collect();
        if unwanted.is_empty() && rows.iter().all(|row| row.expires_at > now) {
            return Ok(());
        }
        Ok(self.store.end_overrides(unwanted, self.now()).await?)
    }

    /// The approval requests.
    async fn approval_decisions(
        &self,
        open: &OpenChanges,
        principal: &str,
    ) -> Result<Vec<Decision>, EngineError> {
        let (rules, outcome) = (&open.rules.set, &open.outcome);
        if rules.approvals.is_empty() {
            return Ok(Vec::new());
        }
        let rows = self.store.list_approvals().await?;
        let rows: HashMap<&str, &ApprovalRow> = rows
            .iter()
            .map(|row| (row.fingerprint.as_str(), row))
            .collect();
        let operator = self.store.find_operator(principal).await.ok();
        let requests = approvals::open_requests(rules, outcome, &rows, self.now());
        let owners = self.group_owners(&requests).await?;
        let context = ApprovalContext {
            rows: &rows,
            owners: &owners,
            groups: &open.group_labels,
            operator: operator.as_ref(),
        };
        Ok(requests
            .iter()
            .map(|request| approval_decision(request, &context))
            .collect())
    }

    /// Answers an entry.
    pub async fn answer_decision(
        &self,
        id: &str,
        answer: DecisionAnswer,
        comment: &str,
        principal: &str,
    ) -> Result<(), EngineError> {
        self.answer_choosing(
            id,
            DecisionReply {
                answer,
                comment,
                choice: &[],
            },
            principal,
        )
        .await
    }

    /// Answers an entry, with a choice of its offers.
    pub async fn answer_choosing(
        &self,
        id: &str,
        said: DecisionReply<'_>,
        principal: &str,
    ) -> Result<(), EngineError> {
        let answer = said.answer;
        let unfit = || unfit_answer(answer, id);
        match id.split_once('-') {
            Some(("guard", _)) => {
                self.answer_guard(id, principal, answer).await?;
            }
            Some(("approval", _)) => self.answer_approval(id, &said, principal).await?,
            Some(("drift", _)) if answer == DecisionAnswer::Repair => {
                self.repair_drift(id, principal).await?;
            }
            Some(("override", decision)) if answer == DecisionAnswer::TakeBack => {
                self.take_back_override(principal, decision).await?;
            }
            Some(("parked", fingerprint)) if answer == DecisionAnswer::Retry => {
                self.store
                    .retry_failed(fingerprint, principal, self.now())
                    .await?
            }
            Some(("surprise", number)) if answer == DecisionAnswer::Acknowledge => {
                let number = number.parse().map_err(|_| decision_changed())?;
                self.store.acknowledge_alert(number, self.now()).await?;
            }
            _ => return Err(unfit()),
        }
        self.publish_event(crate::Event::AttentionChanged);
        self.wake.notify_one();
        Ok(())
    }

    /// Releases or discards the changes that a guard holds.
    async fn answer_guard(
        &self,
        id: &str,
        principal: &str,
        answer: DecisionAnswer,
    ) -> Result<(), EngineError> {
        let release = match answer {
            DecisionAnswer::Release => true,
            DecisionAnswer::Discard => false,
            _ => return Err(unfit_answer(answer, id)),
        };
        let outcome = self.open_changes().await?.outcome;
        let held = changes_held_by_guards(&outcome);
        let meant = held
            .iter()
            .find(|((system, kind), (_, changes))| guard_id(system, *kind, changes) == id);
        let changes: Vec<Change> = meant
            .ok_or_else(decision_changed)?
            .1
            .1
            .iter()
            .map(|change| (*change).clone())
            .collect();
        let expires = self
            .now()
            .saturating_add(if release { RELEASED } else { DISCARDED })
            .unwrap_or(Timestamp::MAX);
        let new = NewOverride {
            changes,
            held_by: "guard",
            decision: id.to_owned(),
            release,
            expires,
        };
        self.store.add_override(new, principal, self.now()).await?;
        Ok(())
    }

    /// Repairs values that others changed.
    async fn repair_drift(&self, id: &str, principal: &str) -> Result<(), EngineError> {
        let outcome = self.open_changes().await?.outcome;
        let all = reported_drift(&outcome);
        let meant = all
            .iter()
            .find(|changes| drift_id(changes) == id)
            .ok_or_else(decision_changed)?;
        let changes = meant.iter().map(|change| (*change).clone()).collect();
        let expires = self
            .now()
            .saturating_add(RELEASED)
            .unwrap_or(Timestamp::MAX);
        let new = NewOverride {
            changes,
            held_by: "drift",
            decision: id.to_owned(),
            release: true,
            expires,
        };
        self.store.add_override(new, principal, self.now()).await?;
        let accounts = meant.iter().filter_map(|change| change.account);
        self.mark_sent(accounts, meant.iter().map(|change| change.identity.clone()))
            .await;
        Ok(())
    }

    /// Withdraws an override or the answers to an approval.
    async fn take_back_override(&self, principal: &str, decision: &str) -> Result<(), EngineError> {
        let outcome = self.open_changes().await?.outcome;
        let rows = self.store.override_rows().await?;
        let mut about: Vec<(Option<i64>, String)> = rows
            .iter()
            .filter(|row| row.decision == decision)
            .map(|row| (row.account, row.identity.clone()))
            .collect();
        if self
            .store
            .take_back_override(decision, principal, self.now())
            .await?
            == 0
        {
            let wanted =
                |change: &&Change| change.fingerprint == decision && change.approval.is_some();
            let change = outcome
                .changes
                .iter()
                .find(wanted)
                .ok_or_else(decision_changed)?;
            about.push((
                change.account.filter(|_| !change.is_membership()),
                change.identity.clone(),
            ));
            if !self
                .store
                .take_back_answers(&change.fingerprint, principal, self.now())
                .await?
            {
                return Err(decision_changed());
            }
        }
        let accounts: Vec<i64> = about.iter().filter_map(|(account, _)| *account).collect();
        self.mark_sent(
            accounts.into_iter(),
            about
                .into_iter()
                .map(|(_, identity)| identity)
                .filter(|id| !id.is_empty()),
        )
        .await;
        Ok(())
    }

    /// Loads guard counts, overrides and approvals into the population.
    pub(crate) async fn load_governance_inputs(
        &self,
        rules: &RuleSet,
        population: &mut Population,
        at: Timestamp,
    ) -> Result<(), EngineError> {
        let (keys, asked) = counted_by_guards(rules, at);
        let (counts, in_flight) = self.store.count_changes(&asked).await?;
        population.recent_change_counts = keys.into_iter().zip(counts).map(count_of).collect();
        population.in_flight = in_flight;
        population.guard_overrides = self.store.load_overrides(at).await?;
        population.approvals = if rules.approvals.is_empty() {
            HashMap::new()
        } else {
            self.store.approvals_said(at).await?
        };
        Ok(())
    }
}

/// The input of the decision about a request.
struct ApprovalContext<'a> {
    rows: &'a HashMap<&'a str, &'a ApprovalRow>,
    owners: &'a approvals::Owners,
    groups: &'a approvals::GroupLabels,
    /// The operator; `None` for others.
    operator: Option<&'a tide_store::OperatorRow>,
}

/// The decision about a request for an approval.
fn approval_decision(request: &approvals::Request<'_>, context: &ApprovalContext<'_>) -> Decision {
    let level = request
        .rule
        .levels
        .get(request.level)
        .map(tide_core::rules::approvals::Level::text)
        .unwrap_or_default();
    let (systems, kinds) = systems_and_kinds(request);
    let who = if request.rule.batch {
        format!("{} changes", request.changes.len())
    } else {
        request.changes[0].label.clone()
    };
    let mut said = level_text(request, level);
    let chooses =
        request.rule.choose_up_to.is_some() && !request.expired && request.changes.len() > 1;
    // A request about one person lists its changes; one about many lists their names.
    let each = if request.rule.batch {
        Vec::new()
    } else {
        approvals::list_offers(request, context.groups)
    };
    let names = match request.rule.batch {
        true => first_names(request.changes.iter().map(|change| change.label.as_str())),
        false => first_names(each.iter().map(|(words, _)| words.as_str())),
    };
    let offers = if chooses { each } else { Vec::new() };
    if let Some(most) = request.rule.choose_up_to.filter(|_| chooses) {
        said.push_str(&format!("; the approver chooses up to {most}"));
    }
    add_values(request, &mut said, chooses);
    let barred = match context.operator {
        Some(operator) if !request.expired => {
            approvals::answer_refusal(request, context.rows, context.owners, operator)
        }
        Some(_) => None,
        None => Some("only operators answer".to_owned()),
    };
    Decision {
        title: format!("{who}: {} in {}", kinds.join(" and "), systems.join(", ")),
        said,
        count: request.changes.len(),
        names,
        answers: if request.expired {
            vec![DecisionAnswer::Reopen]
        } else {
            vec![DecisionAnswer::Approve, DecisionAnswer::Reject]
        },
        blocked: barred,
        offers: offers
            .into_iter()
            .map(|(words, print)| (print.to_owned(), words))
            .collect(),
        most: request.rule.choose_up_to.filter(|_| chooses),
        ..Decision::new(
            DecisionKind::Approval,
            request.id.clone(),
            systems.first().copied().unwrap_or_default(),
        )
    }
}

/// The systems and the kinds of change of a request.
fn systems_and_kinds<'a>(request: &'a approvals::Request<'_>) -> (Vec<&'a str>, Vec<&'a str>) {
    let mut systems: Vec<&str> = request
        .changes
        .iter()
        .map(|change| change.system.as_str())
        .collect();
    systems.sort_unstable();
    systems.dedup();
    let mut kinds: Vec<&str> = request
        .changes
        .iter()
        .map(|change| change.kind.as_str())
        .collect();
    kinds.dedup();
    (systems, kinds)
}

/// Returns the level that a request has reached.
fn level_text(request: &approvals::Request<'_>, level: String) -> String {
    let mut said = if request.expired {
        format!(
            "{}: not answered within {} days",
            request.rule.name, request.rule.expires_after_days
        )
    } else {
        format!(
            "{}: level {} of {}, {level}",
            request.rule.name,
            request.level + 1,
            request.rule.levels.len()
        )
    };
    if !request.yes.is_empty() {
        said.push_str(&format!("; approved by {}", request.yes.join(", ")));
    }
    said
}

/// Adds the values that an approver sees.
fn add_values(request: &approvals::Request<'_>, said: &mut String, chooses: bool) {
    // The approver sees the values.
    if request.changes.len() <= NAMED && !chooses {
        for value in request
            .changes
            .iter()
            .flat_map(|change| &change.values)
            .take(NAMED)
        {
            said.push_str(&format!(
                "; {} from {} to {}",
                value.attribute,
                format_values(&value.before),
                format_values(&value.after)
            ));
        }
    }
}
