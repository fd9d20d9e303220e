//! What a preview or a run is about.

use crate::error::EngineError;
use crate::ingest::Read;
use crate::run::Runner;
use jiff::Timestamp;
use std::collections::{BTreeSet, HashMap, HashSet};
use std::sync::Arc;
use tide_core::states::ChangeSetKind;
use tide_core::{HoldCause, ObjectType, Outcome, Population, Reason, ReasonKind};
use tide_store::{ChangeFilter, NewChangeSet};

/// The plan of a preview or run.
#[derive(Debug, Clone, Default)]
pub struct Plan {
    /// Carry it out?
    pub carry_out: bool,
    /// Only what this preview showed.
    pub preview: Option<i64>,
    /// Decide from what was read before, without reading again.
    pub without_reading: bool,
    /// Join accounts that exist, and send nothing: what would be sent is shown as held.
    pub adopt: bool,
    /// Only these people, by name, number, address or id; empty: all.
    pub only: Vec<String>,
    /// Only what is done in these systems; none named means all.
    pub systems: Vec<String>,
    /// Only what is done to these types; none named means all.
    pub types: Vec<ObjectType>,
    /// For a preview: what would be decided at this moment, if nothing else were to change.
    pub as_of: Option<Timestamp>,
}

/// Holds the changes of systems that could not be read.
pub(crate) fn hold_unread(reads: &[Read], outcome: &mut Outcome) {
    for change in &mut outcome.changes {
        let error = reads
            .iter()
            .find(|read| read.system == change.system && read.object == change.object)
            .and_then(|read| read.error.as_ref());
        if let (None, Some(error)) = (&change.hold, error) {
            change.hold = Some(
                Reason::new(ReasonKind::ReadFailed {
                    system: change.system.clone(),
                    error: error.to_string(),
                })
                .on_hold(HoldCause::NotRead),
            );
        }
    }
}

/// Holds all changes of a run that only links accounts.
pub(crate) fn hold_for_link_only(plan: &Plan, notes: &mut Vec<String>, outcome: &mut Outcome) {
    if plan.adopt {
        notes.push(
            "Accounts were linked; nothing was sent. The changes below are what a run would send."
                .to_owned(),
        );
        for change in outcome
            .changes
            .iter_mut()
            .filter(|change| change.hold.is_none())
        {
            change.hold = Some(Reason::new(ReasonKind::LinkOnly).on_hold(HoldCause::LinkOnly));
        }
    }
}

/// Keeps the changes of the named systems and types. Returns a note about it.
fn keep_within(outcome: &mut Outcome, plan: &Plan) -> String {
    let wanted = |system: &String, object: ObjectType| {
        (plan.systems.is_empty() || plan.systems.contains(system))
            && (plan.types.is_empty() || plan.types.contains(&object))
    };
    outcome
        .decided
        .retain(|line| wanted(&line.system, line.object));
    outcome
        .changes
        .retain(|change| wanted(&change.system, change.object));
    // What is joined elsewhere is joined by a run about that.
    let told: HashSet<i64> = outcome
        .decided
        .iter()
        .filter_map(|line| line.account)
        .collect();
    outcome
        .links
        .retain(|link| link.source || told.contains(&link.account));
    let mut words = String::from("Only what is done");
    if !plan.systems.is_empty() {
        words.push_str(&format!(" in {}", plan.systems.join(", ")));
    }
    if !plan.types.is_empty() {
        let types: Vec<&str> = plan.types.iter().map(|kind| kind.as_str()).collect();
        words.push_str(&format!(" to accounts of type {}", types.join(", ")));
    }
    words + "."
}

/// Keeps the named people and their changes.
fn keep_people(
    population: &Population,
    outcome: &mut Outcome,
    names: &[String],
) -> Result<usize, EngineError> {
    let people = outcome.identities.len();
    let mut about: HashSet<String> = HashSet::new();
    for name in names {
        let found = tide_core::explain::find_identities(population, outcome, name);
        if found.is_empty() {
            return Err(EngineError::NotFound(format!(
                "no person matches `{name}`: give a name, number, address or id"
            )));
        }
        about.extend(found);
    }
    outcome
        .decided
        .retain(|line| line.identity.as_ref().is_some_and(|id| about.contains(id)));
    outcome
        .changes
        .retain(|change| about.contains(&change.identity));
    outcome
        .identities
        .retain(|(identity, _)| about.contains(&identity.id));
    outcome.links.retain(|link| about.contains(&link.identity));
    outcome
        .member_names
        .retain(|one| about.contains(&one.identity));
    outcome
        .reserved
        .retain(|name| about.contains(&name.identity));
    outcome
        .notifications
        .retain(|notice| about.contains(&notice.identity));
    Ok(people)
}

impl Runner {
    /// Checks that a run can be bound to a preview.
    pub(crate) async fn check_preview(self: &Arc<Self>, preview: i64) -> Result<(), EngineError> {
        let set = self.context.store.change_set(preview).await?;
        if set.kind != ChangeSetKind::Preview {
            return Err(EngineError::Invalid(format!(
                "change set {preview} is a {}, and not a preview",
                set.kind
            )));
        }
        let _: () = if let Some(day) = &set.as_of {
            return Err(EngineError::Conflict(format!(
                "preview {preview} is as of {day}: create a preview as of now, and run that"
            )));
        };
        Ok(())
    }

    /// Holds changes that the preview did not show, and returns a note about them.
    pub(crate) async fn bind_to_preview(
        &self,
        preview: i64,
        outcome: &mut Outcome,
    ) -> Result<Vec<String>, EngineError> {
        let shown = self
            .context
            .store
            .list_changes(
                preview,
                &ChangeFilter {
                    limit: i64::MAX,
                    ..ChangeFilter::default()
                },
            )
            .await?;
        let shown: HashMap<&str, bool> = shown
            .iter()
            .map(|row| (row.change.fingerprint.as_str(), row.change.hold.is_none()))
            .collect();
        let mut strange = 0;
        for change in &mut outcome.changes {
            if change.hold.is_none() && shown.get(change.fingerprint.as_str()) != Some(&true) {
                strange += 1;
                change.hold = Some(
                    Reason::new(ReasonKind::NotInPreview { preview })
                        .on_hold(HoldCause::NotInPreview),
                );
            }
        }
        let now: HashSet<&str> = outcome
            .changes
            .iter()
            .map(|change| change.fingerprint.as_str())
            .collect();
        let gone = shown
            .keys()
            .filter(|fingerprint| !now.contains(**fingerprint))
            .count();
        let mut notes = Vec::new();
        if strange > 0 {
            notes.push(format!(
                "{strange} changes that preview {preview} did not show are on hold."
            ));
        }
        if gone > 0 {
            notes.push(format!(
                "{gone} changes of preview {preview} are no longer needed or no longer the same."
            ));
        }
        Ok(notes)
    }
}

/// Keeps what the plan is about. Returns notes about it.
pub(super) fn restrict(
    plan: &Plan,
    population: &Population,
    outcome: &mut Outcome,
) -> Result<Vec<String>, EngineError> {
    let mut notes = Vec::new();
    if !plan.only.is_empty() {
        let count = keep_people(population, outcome, &plan.only)?;
        notes.push(format!(
            "Only the named people ({} of {count}): {}.",
            plan.only.len(),
            plan.only.join(", ")
        ));
    }
    if !plan.systems.is_empty() || !plan.types.is_empty() {
        notes.push(keep_within(outcome, plan));
    }
    Ok(notes)
}

/// A note for each system that could not be read.
pub(super) fn notes_on_reads(reads: &[Read]) -> Vec<String> {
    let note = |read: &Read| {
        let error = read.error.as_ref()?;
        Some(format!(
            "{} could not be read completely: {error}. No account there counts as absent.",
            read.system
        ))
    };
    let mut notes: Vec<String> = reads.iter().filter_map(note).collect();
    // A system that does not answer fails once for each of its types.
    notes.dedup();
    notes
}

impl Plan {
    /// Whether it is about everything, as of now.
    pub(super) fn is_whole(&self) -> bool {
        self.only.is_empty()
            && self.systems.is_empty()
            && self.types.is_empty()
            && self.as_of.is_none()
    }

    /// The change set of a decision for the plan.
    pub(super) fn change_set(
        &self,
        reads: &[Read],
        rule_version: i64,
        principal: &str,
        note: Option<String>,
        outcome: Outcome,
    ) -> NewChangeSet {
        let failed = reads.iter().filter(|read| read.error.is_some());
        let unread: BTreeSet<String> = failed.map(|read| read.system.clone()).collect();
        NewChangeSet {
            kind: match self.carry_out {
                true => ChangeSetKind::Run,
                false => ChangeSetKind::Preview,
            },
            rule_version,
            principal: principal.to_owned(),
            preview: self.preview,
            whole: self.is_whole(),
            as_of: self.as_of,
            unread: unread.into_iter().collect(),
            note,
            decided: outcome.decided,
            changes: outcome.changes,
        }
    }
}
