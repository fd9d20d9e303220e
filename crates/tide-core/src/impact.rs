//! What an edit of the rules does: the same records decided by two rule sets, and where the
//! outcomes differ.
//!
//! Only differences are reported. A change that both rule sets would make is none; a value that the
//! published rules would also change is reported with its current value and both results.

use crate::decide::{Outcome, Verdict};
use crate::model::AccountId;
use crate::reasons::{Reason, ReasonKind};
use crate::states::ObjectType;
use crate::value::{Value, format_values};
use std::collections::BTreeMap;

/// One difference.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ImpactLine {
    /// The system; none for the identity itself.
    pub system: Option<String>,
    /// Its subject.
    pub object: ObjectType,
    /// The identity, if there is or would be one.
    pub identity: Option<String>,
    /// The label of the person or account that it is about.
    pub label: String,
    /// The attribute; none when another thing is decided about the account as a whole.
    pub attribute: Option<String>,
    /// The result with the first rule set.
    pub before: String,
    /// The result with the other.
    pub after: String,
    /// Why, by the other.
    pub reason: Reason,
}

/// The differences of one system.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct SystemImpact {
    /// The system; none for the identities themselves.
    pub system: Option<String>,
    /// Values that differ.
    pub values: usize,
    /// Accounts of which one value at least differs.
    pub accounts: usize,
    /// Accounts about which another thing is decided, by the two verdicts.
    pub verdicts: BTreeMap<(String, String), usize>,
}

/// The impact of an edit.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Impact {
    /// By system, the identities first.
    pub systems: Vec<SystemImpact>,
    /// Every difference, by system and name.
    pub lines: Vec<ImpactLine>,
}

/// The subject of a line: an identity, or an orphaned account.
type Whom = (
    Option<String>,
    ObjectType,
    Option<String>,
    Option<AccountId>,
);

struct Side<'o> {
    /// Verdict, label and reason of each in each system.
    verdicts: BTreeMap<Whom, (Verdict, &'o str, &'o Reason)>,
    /// Values that change: what is there, what comes, and why.
    values: BTreeMap<(Whom, String), (&'o [Value], String, &'o Reason)>,
    labels: BTreeMap<Whom, &'o str>,
}

fn subject_of(
    system: &str,
    object: ObjectType,
    identity: Option<&str>,
    account: Option<AccountId>,
) -> Whom {
    // An account that both leave orphaned is the same one; an identity is the same whatever its
    // account.
    (
        Some(system.to_owned()),
        object,
        identity.map(str::to_owned),
        account.filter(|_| identity.is_none()),
    )
}

fn outcome_by_subject(outcome: &Outcome) -> Side<'_> {
    let mut side = Side {
        verdicts: BTreeMap::new(),
        values: BTreeMap::new(),
        labels: BTreeMap::new(),
    };
    for line in &outcome.decided {
        let key = subject_of(
            &line.system,
            line.object,
            line.identity.as_deref(),
            line.account,
        );
        side.verdicts
            .insert(key, (line.verdict, &line.label, &line.reason));
    }
    for change in &outcome.changes {
        let identity = Some(change.identity.as_str()).filter(|id| !id.is_empty());
        let key = subject_of(&change.system, change.object, identity, change.account);
        side.labels.insert(key.clone(), &change.label);
        for value in &change.values {
            let waits = value
                .later
                .iter()
                .map(|later| format!("the account of {}", later.label));
            let shown: Vec<String> = value
                .after
                .iter()
                .map(Value::to_string)
                .chain(waits)
                .collect();
            let shown = if shown.is_empty() {
                format_values(&[])
            } else {
                shown.join(" · ")
            };
            side.values.insert(
                (key.clone(), value.attribute.clone()),
                (&value.before, shown, &change.reason),
            );
        }
    }
    side
}

/// Where two outcomes of the same records differ.
pub fn compute_impact(one: &Outcome, other: &Outcome) -> Impact {
    let mut lines = changed_identities(one, other);
    let (before, after) = (outcome_by_subject(one), outcome_by_subject(other));
    let keys: std::collections::BTreeSet<&Whom> = before
        .verdicts
        .keys()
        .chain(after.verdicts.keys())
        .collect();
    for key in keys {
        let (was, is) = (before.verdicts.get(key), after.verdicts.get(key));
        let kind = |line: Option<&(Verdict, &str, &Reason)>| {
            line.map_or("nothing", |(verdict, ..)| verdict_class(*verdict))
        };
        if kind(was) == kind(is) {
            continue;
        }
        let label = is.or(was).map_or("", |(_, label, _)| label);
        let reason = is.map_or_else(
            || Reason::new(ReasonKind::NoLongerDecided),
            |(.., reason)| (*reason).clone(),
        );
        lines.push(ImpactLine {
            before: kind(was).into(),
            after: kind(is).into(),
            ..ImpactLine::new(key, label, None, reason)
        });
    }
    let keys: std::collections::BTreeSet<&(Whom, String)> =
        before.values.keys().chain(after.values.keys()).collect();
    for key in keys {
        let (was, is) = (before.values.get(key), after.values.get(key));
        // Who would not change it leaves what is there.
        let there = is
            .or(was)
            .map_or_else(String::new, |(there, ..)| format_values(there));
        let old = was.map_or_else(|| there.clone(), |(_, value, _)| value.clone());
        let new = is.map_or_else(|| there.clone(), |(_, value, _)| value.clone());
        if old == new {
            continue;
        }
        let label = after
            .labels
            .get(&key.0)
            .or_else(|| before.labels.get(&key.0))
            .copied()
            .unwrap_or_default();
        let reason = is.map_or_else(
            || Reason::new(ReasonKind::Unchanged),
            |(.., reason)| (*reason).clone(),
        );
        lines.push(ImpactLine {
            before: old,
            after: new,
            ..ImpactLine::new(&key.0, label, Some(&key.1), reason)
        });
    }
    lines.sort_by(|a, b| {
        (&a.system, &a.label, &a.identity, &a.attribute).cmp(&(
            &b.system,
            &b.label,
            &b.identity,
            &b.attribute,
        ))
    });
    let systems = count_systems(&lines);
    Impact {
        systems: systems.into_values().collect(),
        lines,
    }
}

/// Counts the lines of each system.
fn count_systems(lines: &[ImpactLine]) -> BTreeMap<Option<String>, SystemImpact> {
    let mut systems: BTreeMap<Option<String>, SystemImpact> = BTreeMap::new();
    let mut accounts: std::collections::HashSet<(&Option<String>, &Option<String>, &str)> =
        std::collections::HashSet::new();
    for line in lines {
        let one = systems
            .entry(line.system.clone())
            .or_insert_with(|| SystemImpact {
                system: line.system.clone(),
                ..SystemImpact::default()
            });
        match &line.attribute {
            None => {
                *one.verdicts
                    .entry((line.before.clone(), line.after.clone()))
                    .or_default() += 1
            }
            Some(_) => {
                one.values += 1;
                one.accounts +=
                    usize::from(accounts.insert((&line.system, &line.identity, &line.label)));
            }
        }
    }
    systems
}

/// The class of a verdict for the comparison: updates, renames and states differ by their values
/// only.
fn verdict_class(verdict: Verdict) -> &'static str {
    match verdict {
        Verdict::Update | Verdict::Rename | Verdict::Enable | Verdict::InSync => "kept in sync",
        Verdict::Create => "created",
        Verdict::Join => "linked",
        Verdict::Disable => "disabled",
        Verdict::Source => "supplies values",
        Verdict::OutOfScope => "out of scope",
        Verdict::OnHold => "on hold",
        Verdict::Orphaned => "orphaned",
    }
}

impl ImpactLine {
    /// A line without values.
    fn new(key: &Whom, label: &str, attribute: Option<&str>, reason: Reason) -> Self {
        ImpactLine {
            system: key.0.clone(),
            object: key.1,
            identity: key.2.clone(),
            label: label.to_owned(),
            attribute: attribute.map(str::to_owned),
            before: String::new(),
            after: String::new(),
            reason,
        }
    }
}

/// Values of the identities themselves that differ.
fn changed_identities(one: &Outcome, other: &Outcome) -> Vec<ImpactLine> {
    let after: BTreeMap<&str, &(crate::Identity, String)> = other
        .identities
        .iter()
        .map(|entry| (entry.0.id.as_str(), entry))
        .collect();
    let mut lines = Vec::new();
    for (was, _) in &one.identities {
        let Some((is, label)) = after.get(was.id.as_str()) else {
            continue;
        };
        let mut names: Vec<&str> = was
            .attributes
            .iter()
            .chain(is.attributes.iter())
            .map(|(name, _)| name)
            .collect();
        names.sort_unstable();
        names.dedup();
        for name in names
            .into_iter()
            .filter(|name| was.attributes.get(name) != is.attributes.get(name))
        {
            let key = (None, is.kind, Some(is.id.clone()), None);
            let (old, new) = (
                format_values(was.attributes.get(name)),
                format_values(is.attributes.get(name)),
            );
            lines.push(ImpactLine {
                before: old,
                after: new,
                ..ImpactLine::new(
                    &key,
                    label,
                    Some(name),
                    Reason::new(ReasonKind::SetByMapping),
                )
            });
        }
    }
    lines
}
