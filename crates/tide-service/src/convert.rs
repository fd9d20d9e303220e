//! Converts records of the store and core into the types of the API.

use tide_api::ChangeSetResult;
use tide_core::explain::{AccountLine, Explanation};
use tide_core::states::{ChangeSetState, ChangeState, SystemHealth};
use tide_core::{Attributes, Place, Value};
use tide_store::{AccountRow, ChangeRow, ChangeSetRow, DecidedRow, IdentityRow};

pub fn texts(values: &[Value]) -> Vec<String> {
    values.iter().map(Value::to_string).collect()
}

fn attributes(record: &Attributes) -> Vec<tide_api::Attribute> {
    record
        .iter()
        .map(|(name, values)| tide_api::Attribute {
            name: name.to_owned(),
            values: texts(values),
        })
        .collect()
}

pub fn place(place: &Place) -> String {
    place.to_string()
}

pub fn change_set(row: ChangeSetRow) -> tide_api::ChangeSet {
    let mut verdicts = row.verdicts;
    verdicts.sort_unstable();
    let has_failed = row
        .states
        .iter()
        .any(|(state, count)| *state == ChangeState::Failed && *count > 0);
    let result = match (row.ended_at.as_deref(), row.state) {
        (None, _) => ChangeSetResult::InProgress,
        (_, ChangeSetState::Canceled) => ChangeSetResult::Canceled,
        (_, ChangeSetState::Failed) => ChangeSetResult::Failed,
        _ if has_failed || !row.unread.is_empty() => ChangeSetResult::Partial,
        _ => ChangeSetResult::Complete,
    };
    tide_api::ChangeSet {
        result,
        unread_systems: row.unread,
        id: row.id,
        kind: row.kind,
        state: row.state,
        rule_version: row.rule_version,
        principal: row.principal,
        preview: row.preview,
        started_at: row.started_at,
        ended_at: row.ended_at,
        note: row.note,
        is_full: row.whole,
        as_of: row.as_of,
        verdicts: verdicts
            .into_iter()
            .map(|(verdict, count)| tide_api::VerdictCount { verdict, count })
            .collect(),
        states: row
            .states
            .into_iter()
            .map(|(state, count)| tide_api::StateCount { state, count })
            .collect(),
        deciding: None,
    }
}

pub fn line(row: DecidedRow) -> tide_api::OutcomeLine {
    let decided = row.decided;
    tide_api::OutcomeLine {
        seq: row.seq,
        system: decided.system,
        object: decided.object,
        identity: decided.identity,
        account: row.account_name,
        label: decided.label,
        verdict: decided.verdict,
        rule: decided.reason.rule.as_ref().map(place),
        reason: decided.reason.into(),
        outcome: row.outcome,
        error: row.error,
        remedy: row.remedy,
    }
}

pub fn change(row: ChangeRow) -> tide_api::Change {
    let change = row.change;
    tide_api::Change {
        id: row.id,
        change_set: row.change_set,
        system: change.system,
        object: change.object,
        identity: change.identity,
        label: change.label,
        kind: change.kind,
        state: row.state,
        values: change
            .values
            .iter()
            .map(|value| tide_api::ValueChange {
                attribute: value.attribute.clone(),
                before: texts(&value.before),
                after: texts(&value.after)
                    .into_iter()
                    .chain(
                        value
                            .later
                            .iter()
                            .map(|later| format!("the account of {}, once it exists", later.label)),
                    )
                    .collect(),
                rule: place(&value.rule),
            })
            .collect(),
        rule: change.reason.rule.as_ref().map(place),
        reason: change.reason.into(),
        hold: change.hold.map(Into::into),
        error: row.error,
        remedy: row.remedy,
        attempts: row.attempts,
        settled_at: row.settled,
        principal: row.principal,
    }
}

pub fn account(row: AccountRow) -> tide_api::Account {
    let account = row.account;
    tide_api::Account {
        id: account.id,
        system: account.system,
        name: account.name,
        key: account.key,
        identity: row.identity,
        seen_at: row.seen,
        absent_since: account.absent_since.map(|at| at.to_string()),
        absence_confirmed: account.absence_confirmed,
        fault: account.fault,
        attributes: attributes(&account.attributes),
    }
}

pub fn identity(row: IdentityRow) -> tide_api::Identity {
    let shown = ["employeeNumber", "mail", "department"];
    tide_api::Identity {
        id: row.identity.id,
        label: row.label,
        stage: row.identity.stage,
        systems: row.systems,
        attributes: attributes(&row.identity.attributes)
            .into_iter()
            .filter(|a| shown.contains(&a.name.as_str()))
            .collect(),
        changed_at: row.changed,
    }
}

pub fn known(one: &tide_engine::Freshness) -> tide_api::DataFreshness {
    tide_api::DataFreshness {
        system: one.system.clone(),
        object: one.object,
        as_of: one.at.map(|at| at.to_string()),
        connected: one.live,
        action_needed: one.needs.map(str::to_owned),
        schedule_warnings: one.hurry.clone(),
    }
}

/// What else is known of an explanation.
pub struct Beside<'a> {
    /// Returns the freshness of the systems' data.
    pub known: &'a [tide_engine::Freshness],
    /// Since when what is on hold, by identity.
    pub since: &'a [(String, tide_store::HoldRow)],
}

fn account_reason(line: &AccountLine, beside: &Beside<'_>) -> tide_api::AccountReason {
    let known = beside.known;
    let held = (line.decided.verdict == tide_core::decide::Verdict::OnHold)
        .then_some(&line.decided.reason);
    let hold = line.hold.as_ref().or(held);
    let cause = hold.and_then(|hold| hold.cause);
    let theirs = |(identity, row): &&(String, tide_store::HoldRow)| {
        Some(identity.as_str()) == line.decided.identity.as_deref()
            && Some(row.cause) == cause
            && row.systems.contains(&line.decided.system)
    };
    let of = |one: &&tide_engine::Freshness| {
        one.system == line.decided.system && one.object == line.decided.object
    };
    tide_api::AccountReason {
        freshness: known.iter().find(of).map(self::known),
        system: line.decided.system.clone(),
        verdict: line.decided.verdict,
        reason: (&line.decided.reason).into(),
        rule: line.decided.reason.rule.as_ref().map(place),
        hold: hold.map(Into::into),
        hold_since: beside
            .since
            .iter()
            .find(theirs)
            .map(|(_, row)| row.since.clone()),
        name: line.name.clone(),
        key: line.key.clone(),
        linked_by: line.linked_by.as_ref().map(ToString::to_string),
        values: line
            .values
            .iter()
            .map(|value| tide_api::ValueReason {
                current: Some(value.current.clone()),
                state: Some(value.state),
                note: value
                    .note
                    .as_ref()
                    .or(value.reason.note.as_ref())
                    .map(ToString::to_string),
                ..(&value.reason).into()
            })
            .collect(),
    }
}

pub fn explanation(found: &Explanation, beside: &Beside<'_>) -> tide_api::Explanation {
    tide_api::Explanation {
        label: found.label.clone(),
        identity: found.identity.clone(),
        stage: found.stage,
        values: found.values.iter().map(Into::into).collect(),
        accounts: found
            .accounts
            .iter()
            .map(|line| account_reason(line, beside))
            .collect(),
    }
}

pub fn schedule(schedule: &tide_engine::Schedule) -> tide_api::Schedule {
    let window = |w: &tide_engine::Blackout| tide_api::WriteBlackout {
        days: w.days.clone(),
        from: w.from.clone(),
        to: w.to.clone(),
        zone: w.zone.clone(),
    };
    tide_api::Schedule {
        watch: schedule.watch,
        mode: schedule.mode,
        poll_seconds: schedule.poll_seconds,
        full_read_seconds: schedule.full_read_seconds,
        write_blackouts: schedule.write_blackouts.iter().map(window).collect(),
    }
}

pub fn following(one: tide_engine::WatcherStatus) -> tide_api::WatcherView {
    tide_api::WatcherView {
        object: one.object,
        mode: one.way,
        watch_mode_label: one.way.map(|way| way.label().to_owned()),
        state: one.state,
        last_change_at: one.news.map(|at| at.to_string()),
        changed_count: one.changed,
        next_poll_at: one.next.map(|at| at.to_string()),
        next_full_read_at: one.full.map(|at| at.to_string()),
        error: one.error,
    }
}

type Tried = (
    Vec<tide_api::EvaluationStep>,
    Vec<String>,
    Option<tide_api::EvaluationFault>,
);

/// The steps of a trial and what came of it.
pub fn trial(
    steps: Vec<tide_core::expr::TraceStep>,
    result: Result<Vec<Value>, tide_core::expr::ExprError>,
) -> Tried {
    let (values, fault) = match result {
        Ok(values) => (
            values
                .iter()
                .map(|value| tide_core::expr::values_line(std::slice::from_ref(value)))
                .collect(),
            None,
        ),
        Err(error) => (
            Vec::new(),
            Some(tide_api::EvaluationFault {
                offset: error.offset,
                message: error.message,
                help: error.help,
            }),
        ),
    };
    let step = |step: tide_core::expr::TraceStep| tide_api::EvaluationStep {
        text: step.text,
        value: step.value,
        offset: step.offset,
    };
    (steps.into_iter().map(step).collect(), values, fault)
}

pub fn tried(one: tide_engine::MappingEvaluation) -> tide_api::EvaluatedAttribute {
    let (steps, values, fault) = trial(one.steps, one.result);
    tide_api::EvaluatedAttribute {
        direction: one.direction,
        attribute: one.attribute,
        expression: one.expression,
        rule: place(&one.place),
        steps,
        values,
        current: texts(&one.there),
        fault,
        note: one.note,
    }
}

/// A token as it is listed; `now` is written as the store writes instants.
pub fn token(row: tide_store::TokenRow, now: &str) -> tide_api::Token {
    tide_api::Token {
        is_valid: row.ended_at.is_none()
            && row.expires_at.as_deref().is_none_or(|until| until > now),
        id: row.id,
        label: row.label,
        created_at: row.created_at,
        expires_at: row.expires_at,
        ended_at: row.ended_at,
    }
}

/// What needs attention.
pub fn attention(one: tide_engine::Attention) -> tide_api::Attention {
    tide_api::Attention {
        kind: one.kind,
        severity: one.kind.severity(),
        message: crate::attention::message(&one),
        command: crate::attention::command(&one),
        system: one.system,
        count: one.count,
        names: one.names,
        detail: one.detail,
    }
}

/// The health of a system.
pub fn health(health: &tide_engine::Health) -> SystemHealth {
    match health {
        tide_engine::Health::Unknown => SystemHealth::Unknown,
        tide_engine::Health::Paused => SystemHealth::Paused,
        tide_engine::Health::Healthy => SystemHealth::Healthy,
        tide_engine::Health::Degraded(_) => SystemHealth::Degraded,
        tide_engine::Health::Unreachable(_) => SystemHealth::Unreachable,
    }
}

/// A record on hold.
pub fn hold(row: tide_store::HoldRow) -> tide_api::Hold {
    tide_api::Hold {
        owner: row.cause.owner(),
        identity: Some(row.identity).filter(|_| row.is_kept),
        object: row.object,
        label: row.label,
        cause: row.cause,
        reason: row.reason.into(),
        rule: row.rule,
        systems: row.systems,
        changes: row.kinds,
        since: row.since,
    }
}
