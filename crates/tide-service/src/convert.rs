//! Converts records of the store and core into the types of the API.

use tide_api::ChangeSetResult;
use tide_core::explain::{AccountLine, Explanation};
use tide_core::rules::{
    Apply, Condition, Container, GroupScope, Mapping, OnDeleted, OnEmpty, OnOrphaned, OnOutOfScope,
    Requirement, TypeRules,
};
use tide_core::states::{ChangeSetState, ChangeState, SystemHealth};
use tide_core::value::format_values;
use tide_core::{Attributes, ObjectType, Place, RuleSet, Value};
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

fn place(place: &Place) -> String {
    place.to_string()
}

pub fn fault(fault: &tide_core::rules::RuleFault) -> tide_api::Fault {
    tide_api::Fault {
        severity: fault.severity,
        file: fault.place.file.clone(),
        line: fault.place.line,
        column: fault.place.column,
        message: fault.message.clone(),
        help: fault.help.clone(),
    }
}

/// A permission that a service account needs.
pub fn permission(one: tide_core::permissions::Permission) -> tide_api::Permission {
    use tide_core::permissions::Operation;
    let operation = match one.operation {
        Operation::Read => tide_api::Operation::Read,
        Operation::Write => tide_api::Operation::Write,
        Operation::Create => tide_api::Operation::Create,
        Operation::Rename => tide_api::Operation::Rename,
        Operation::Delete => tide_api::Operation::Delete,
        Operation::SetPassword => tide_api::Operation::SetPassword,
    };
    tide_api::Permission {
        operation,
        entries: one.entries,
        is_subtree: one.is_subtree,
        attributes: one.attributes,
        reason: one.reason,
    }
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

fn reading(read: &[(String, String)]) -> Vec<tide_api::Attribute> {
    read.iter()
        .map(|(name, value)| tide_api::Attribute {
            name: name.clone(),
            values: vec![value.clone()],
        })
        .collect()
}

fn value_reason(reason: &tide_core::ValueReason) -> tide_api::ValueReason {
    tide_api::ValueReason {
        attribute: reason.attribute.clone(),
        value: reason.value.clone(),
        current: None,
        state: None,
        rule: place(&reason.rule),
        expression: reason.expression.clone(),
        read: reading(&reason.read),
        from_system: reason.from_system.clone(),
        note: reason.note.as_ref().map(ToString::to_string),
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
                ..value_reason(&value.reason)
            })
            .collect(),
    }
}

pub fn explanation(found: &Explanation, beside: &Beside<'_>) -> tide_api::Explanation {
    tide_api::Explanation {
        label: found.label.clone(),
        identity: found.identity.clone(),
        stage: found.stage,
        values: found.values.iter().map(value_reason).collect(),
        accounts: found
            .accounts
            .iter()
            .map(|line| account_reason(line, beside))
            .collect(),
    }
}

fn mapping(mapping: &Mapping) -> tide_api::RuleLine {
    let mut notes = Vec::new();
    match mapping.requirement {
        Requirement::Required => notes.push("required"),
        Requirement::Recommended => notes.push("recommended"),
        Requirement::Optional => {}
    }
    match mapping.apply {
        Apply::Always => {}
        Apply::OnCreate => notes.push("set once"),
        Apply::IfEmpty => notes.push("only if empty"),
    }
    if mapping.on_empty == OnEmpty::Keep {
        notes.push("kept if the source is empty");
    }
    if mapping.merge {
        notes.push("merged with values of others");
    }
    tide_api::RuleLine {
        name: mapping.attribute.clone(),
        text: mapping.program.source().into(),
        note: notes.join(", "),
        location: place(&mapping.place),
    }
}

fn container(word: &str, container: &Container) -> tide_api::RuleLine {
    let note = if container.one_level {
        "one level"
    } else {
        "with subtree"
    };
    tide_api::RuleLine {
        name: word.into(),
        text: container.dn.to_string(),
        note: note.into(),
        location: place(&container.place),
    }
}

fn rule(name: &str, text: &str, note: &str, at: &Place) -> tide_api::RuleLine {
    tide_api::RuleLine {
        name: name.into(),
        text: text.into(),
        note: note.into(),
        location: place(at),
    }
}

fn group(word: &str, group: &GroupScope) -> tide_api::RuleLine {
    let nested = if group.nested {
        "including nested members"
    } else {
        "direct members only"
    };
    let note = group.system.as_ref().map_or_else(
        || nested.to_owned(),
        |system| format!("in {system}, {nested}"),
    );
    rule(word, &group.name, &note, &group.place)
}

fn condition(condition: &Condition) -> tide_api::RuleLine {
    tide_api::RuleLine {
        name: "if".into(),
        text: condition.when.source().into(),
        note: format!("else: {}", condition.reason),
        location: place(&condition.place),
    }
}

fn type_rules(system: &str, object: ObjectType, types: &TypeRules) -> tide_api::SystemRules {
    let lines = scope_lines(types);
    let of_populations = types.populations.iter().flat_map(|population| {
        population.outbound.iter().map(move |one| {
            let line = mapping(one);
            let note = [
                format!("for {}: {}", population.name, population.when.source()),
                line.note,
            ];
            tide_api::RuleLine {
                note: note
                    .into_iter()
                    .filter(|part| !part.is_empty())
                    .collect::<Vec<_>>()
                    .join(", "),
                ..line
            }
        })
    });
    tide_api::SystemRules {
        system: system.into(),
        object,
        scope: lines,
        matching: types.matching.iter().map(match_line).collect(),
        inbound: types.inbound.iter().map(mapping).collect(),
        outbound: types
            .outbound
            .iter()
            .map(mapping)
            .chain(of_populations)
            .collect(),
        otherwise: otherwise(types),
        examples: example_lines(types).collect(),
        on_out_of_scope: match types.on_out_of_scope {
            OnOutOfScope::Disable => "disable",
            OnOutOfScope::Leave => "leave",
        }
        .into(),
    }
}

/// A match rule.
fn match_line(rule: &tide_core::rules::MatchRule) -> tide_api::RuleLine {
    tide_api::RuleLine {
        name: rule.name.clone(),
        text: rule
            .account
            .iter()
            .zip(&rule.identity)
            .map(|(a, i)| format!("{}  =  {}", a.source(), i.source()))
            .collect::<Vec<_>>()
            .join("  and  "),
        note: format!(
            "{}, compared {}{}",
            if rule.certain {
                "links automatically"
            } else {
                "needs review"
            },
            rule.compare.as_str(),
            if rule.supporting.is_empty() {
                String::new()
            } else {
                format!(
                    ", if {} of {} supporting values agree",
                    rule.min_agreeing,
                    rule.supporting.len()
                )
            }
        ),
        location: place(&rule.place),
    }
}

/// Who is in scope, and which accounts are protected.
fn scope_lines(types: &TypeRules) -> Vec<tide_api::RuleLine> {
    let scope = &types.scope;
    let mut lines: Vec<tide_api::RuleLine> = scope
        .within
        .iter()
        .map(|c| container("within", c))
        .collect();
    lines.extend(scope.except.iter().map(|c| container("except", c)));
    lines.extend(scope.groups.iter().map(|g| group("member of", g)));
    lines.extend(scope.not_groups.iter().map(|g| group("not a member of", g)));
    lines.extend(
        scope
            .filter
            .iter()
            .map(|filter| rule("filter", &filter.source, "", &filter.place)),
    );
    lines.extend(scope.conditions.iter().map(condition));
    if let Some(domains) = &types.domains {
        let note = format!(
            "in {}; other addresses are put on hold",
            domains.attributes.join(", ")
        );
        lines.push(rule(
            "our domains",
            &domains.ours.join(", "),
            &note,
            &domains.place,
        ));
        lines.extend(domains.translate.iter().map(|(from, to)| {
            rule(
                "domain",
                &format!("{from} → {to}"),
                "written as",
                &domains.place,
            )
        }));
    }
    lines.extend(types.protected.names.iter().map(|name| {
        rule(
            "protected",
            name,
            "never linked, changed or disabled",
            &types.protected.place,
        )
    }));
    lines.extend(
        types
            .protected
            .conditions
            .iter()
            .map(|c| rule("protected if", c.when.source(), &c.reason, &c.place)),
    );
    lines
}

/// The examples of the rules.
fn example_lines(types: &TypeRules) -> impl Iterator<Item = tide_api::RuleLine> {
    types.examples.iter().map(|example| {
        let expect: Vec<String> = example
            .expect
            .iter()
            .map(|(name, values)| format!("{name} = {}", format_values(values)))
            .collect();
        let note = example
            .account_in
            .as_ref()
            .map(|system| format!("in {system}"))
            .unwrap_or_default();
        rule(&example.name, &expect.join(", "), &note, &example.place)
    })
}

/// Rules about accounts beside scope, match rules and mappings.
fn otherwise(types: &TypeRules) -> Vec<tide_api::RuleLine> {
    let line = |name: &str, text: &str| tide_api::RuleLine {
        name: name.into(),
        text: text.into(),
        note: String::new(),
        location: place(&types.place),
    };
    let mut lines = Vec::new();
    if types.is_target() {
        lines.push(line(
            "deleted by others",
            match types.on_deleted {
                OnDeleted::Ask => "needs review",
                OnDeleted::Recreate => "created again",
                OnDeleted::Ignore => "stays deleted",
            },
        ));
        lines.push(line(
            "created by others, orphaned",
            match types.on_orphaned {
                OnOrphaned::Ignore => "reported only",
                OnOrphaned::Disable => "disabled",
                OnOrphaned::Ask => "needs review",
            },
        ));
    }
    if let Some(password) = &types.password {
        let to = match &password.deliver_to {
            Some(call) => format!("delivered to {call}"),
            None if password.visible_to.is_empty() => "shown once to any operator".to_owned(),
            None => format!("shown once to {}", password.visible_to.join(", ")),
        };
        lines.push(line(
            "first password",
            &format!(
                "{} characters of {} in {}, {to}",
                password.length,
                password.sets.join(", "),
                password.attribute
            ),
        ));
    }
    lines
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

pub fn call_line(name: &str, call: &tide_core::rules::WebhookRules) -> tide_api::RuleLine {
    let note = format!("timeout {} s", call.timeout_seconds);
    tide_api::RuleLine {
        name: name.to_owned(),
        text: call.url.clone(),
        note,
        location: call.place.to_string(),
    }
}

pub fn difference(file: tide_core::rules::difference::FileDifference) -> tide_api::FileDifference {
    let line = |line: tide_core::rules::difference::DiffLine| tide_api::DifferentLine {
        change: line.change,
        before: line.before,
        after: line.after,
        text: line.text,
    };
    tide_api::FileDifference {
        name: file.name,
        state: file.state,
        lines: file.lines.into_iter().map(line).collect(),
    }
}

/// Maximum number of differences that are listed individually.
const TOLD: usize = 1_000;

pub fn effect(effect: tide_core::impact::Impact) -> tide_api::ImpactView {
    let total = effect.lines.len();
    let many = |count: usize, one: &str, more: &str| {
        format!("{count} {}", if count == 1 { one } else { more })
    };
    let targets: Vec<_> = effect
        .systems
        .iter()
        .filter(|system| system.system.is_some())
        .collect();
    let values: usize = targets.iter().map(|system| system.values).sum();
    let verdicts: usize = targets
        .iter()
        .flat_map(|system| system.verdicts.values())
        .sum();
    let own: usize = effect
        .systems
        .iter()
        .filter(|system| system.system.is_none())
        .map(|system| system.values)
        .sum();
    let mut parts = Vec::new();
    if values > 0 {
        let systems = targets.iter().filter(|system| system.values > 0).count();
        parts.push(format!(
            "changes {} in {}",
            many(values, "value", "values"),
            many(systems, "system", "systems")
        ));
    }
    if verdicts > 0 {
        parts.push(format!(
            "changes the outcome of {}",
            many(verdicts, "account", "accounts")
        ));
    }
    if own > 0 {
        parts.push(format!(
            "changes {} of identities",
            many(own, "value", "values")
        ));
    }
    let said = if parts.is_empty() {
        "No impact.".to_owned()
    } else {
        format!("This {}.", parts.join(", and "))
    };
    let system = |system: tide_core::impact::SystemImpact| tide_api::SystemImpactView {
        system: system.system,
        values: system.values,
        accounts: system.accounts,
        verdicts: system
            .verdicts
            .into_iter()
            .map(|((before, after), count)| tide_api::VerdictShift {
                before,
                after,
                count,
            })
            .collect(),
    };
    let line = |line: tide_core::impact::ImpactLine| tide_api::ImpactLineView {
        system: line.system,
        object: line.object,
        identity: line.identity,
        label: line.label,
        attribute: line.attribute,
        before: line.before,
        after: line.after,
        reason: line.reason.into(),
    };
    tide_api::ImpactView {
        message: said,
        systems: effect.systems.into_iter().map(system).collect(),
        lines: effect.lines.into_iter().take(TOLD).map(line).collect(),
        total,
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

pub fn rule_lines(
    rules: &RuleSet,
) -> (
    Vec<tide_api::SystemRules>,
    Vec<tide_api::RuleLine>,
    Vec<tide_api::RuleLine>,
) {
    let systems = rules
        .systems
        .values()
        .flat_map(|system| {
            system
                .types
                .iter()
                .map(|(kind, types)| type_rules(&system.name, *kind, types))
        })
        .collect();
    let identities = rules
        .identities
        .iter()
        .flat_map(|(kind, identity)| {
            identity.attributes.iter().map(move |attribute| {
                let notes = [
                    (attribute.required, "required"),
                    (attribute.recommended, "recommended"),
                    (attribute.unique, "unique"),
                    (attribute.multi_valued, "several values"),
                    (attribute.reference.is_some(), "reference"),
                    (attribute.generated.is_some(), "generated once, reserved"),
                ];
                let note: Vec<&str> = notes
                    .iter()
                    .filter(|(yes, _)| *yes)
                    .map(|(_, word)| *word)
                    .collect();
                tide_api::RuleLine {
                    name: attribute.name.clone(),
                    text: kind.as_str().into(),
                    note: note.join(", "),
                    location: place(&attribute.place),
                }
            })
        })
        .collect();
    let guards = rules
        .guards
        .iter()
        .map(|guard| {
            let most = guard
                .max_count
                .map(|most| format!("at most {most} per run"));
            let least = guard
                .min_count
                .map(|least| format!(", and {least} in any case"))
                .unwrap_or_default();
            let share = guard
                .max_percent
                .map(|share| format!("at most {share} % of the linked accounts{least}"));
            tide_api::RuleLine {
                name: guard.change.clone(),
                text: [most, share]
                    .into_iter()
                    .flatten()
                    .collect::<Vec<_>>()
                    .join(", "),
                note: match (&guard.system, guard.is_built_in) {
                    (Some(system), true) => format!("{system}, by default"),
                    (Some(system), false) => system.clone(),
                    (None, _) => "every system".into(),
                },
                location: place(&guard.place),
            }
        })
        .collect();
    (systems, identities, guards)
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
