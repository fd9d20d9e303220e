//! Previews and runs: read, decide, store, and, for a run, send.

use crate::supervise::run_caught;
use crate::{Engine, EngineError, Event, Read, lock};
use jiff::Timestamp;
use std::collections::{BTreeSet, HashMap, HashSet};
use std::sync::Arc;
use std::sync::atomic::Ordering;
use tide_core::explain::{Explanation, explain_among};
use tide_core::rules::{FaultSeverity, RuleFault, RuleFile};
use tide_core::states::{ChangeSetKind, ChangeSetState};
use tide_core::{HoldCause, ObjectType, Outcome, Population, Reason, ReasonKind, RuleSet, decide};
use tide_store::{ChangeFilter, ChangeRow, IdentityUpdates, NewChangeSet, StoreError, SystemRow};
use tokio_util::sync::CancellationToken;

/// How long a preview or run waits for one in progress.
const PATIENCE: std::time::Duration = std::time::Duration::from_secs(1);

/// The maximum age of a queued change when an interrupted run resumes. An older one may be based on
/// outdated data: it is decided again.
const MAX_QUEUE_AGE: jiff::SignedDuration = jiff::SignedDuration::from_mins(15);

/// The published rules, ready for use.
#[derive(Default)]
pub struct PublishedRules {
    /// Their version.
    pub version: i64,
    /// The rules.
    pub set: RuleSet,
    /// Their errors and warnings.
    pub faults: Vec<RuleFault>,
}

/// The comparison of two change sets.
#[derive(Debug, Clone)]
pub struct Comparison {
    /// How many changes are in both.
    pub same: usize,
    /// Changes of the first only.
    pub only_here: Vec<ChangeRow>,
    /// Changes of the second only.
    pub only_there: Vec<ChangeRow>,
}

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

impl Engine {
    /// Reads and checks files of a rule set against the schemas that are known.
    pub async fn check_rules(
        &self,
        files: &[RuleFile],
    ) -> Result<(RuleSet, Vec<RuleFault>), EngineError> {
        self.check_rules_with(files, None).await
    }

    /// The same, as if another system with these schemas were connected.
    pub(crate) async fn check_rules_with(
        &self,
        files: &[RuleFile],
        other: Option<(
            &str,
            &std::collections::BTreeMap<ObjectType, tide_core::Schema>,
        )>,
    ) -> Result<(RuleSet, Vec<RuleFault>), EngineError> {
        let systems = self.store.list_systems().await?;
        let kept = systems
            .iter()
            .map(|row| (row.name.clone(), row.schema.clone()));
        let schemas = kept
            .chain(other.map(|(name, schemas)| (name.to_owned(), schemas.clone())))
            .collect();
        let (set, mut faults) = RuleSet::load(files, &schemas);
        for rules in set.systems.values() {
            let is_other = other.is_some_and(|(name, _)| name == rules.name);
            if !is_other && !systems.iter().any(|row| row.name == rules.name) {
                faults.push(RuleFault {
                    severity: FaultSeverity::Warning,
                    place: tide_core::Place {
                        file: rules.file.clone(),
                        line: 1,
                        column: 1,
                    },
                    message: format!("no system `{}` is connected", rules.name),
                    help: Some(format!("`eager-tide systems add {} …`", rules.name)),
                });
            }
        }
        Ok((set, faults))
    }

    /// Publishes a rule set that has no error, whatever is published by now.
    pub async fn publish_rules(
        &self,
        files: &[RuleFile],
        principal: &str,
    ) -> Result<(i64, Vec<RuleFault>), EngineError> {
        self.publish_based(files, None, "", principal).await
    }

    /// The published rules, compiled once until they or a schema change.
    ///
    /// # Errors
    /// `NoRules` before the first publication; `Rules` if a changed schema makes them invalid.
    pub async fn published_rules(&self) -> Result<Arc<PublishedRules>, EngineError> {
        let rules = self.checked_rules().await?.ok_or(EngineError::NoRules)?;
        let errors = rules.faults.iter();
        // A schema that changed since can break rules that were sound when they were published.
        let errors: Vec<RuleFault> = errors
            .filter(|fault| fault.severity == FaultSeverity::Error)
            .cloned()
            .collect();
        match errors.is_empty() {
            true => Ok(rules),
            false => Err(EngineError::Rules(errors)),
        }
    }

    /// The published rules with their faults by the schemas of now, sound or not; `None` before the
    /// first publication.
    pub async fn checked_rules(&self) -> Result<Option<Arc<PublishedRules>>, EngineError> {
        let Some(mark) = self.store.rules_mark().await? else {
            return Ok(None);
        };
        if let Some((_, rules)) = lock(&self.compiled_rules)
            .as_ref()
            .filter(|(known, _)| *known == mark)
        {
            return Ok(Some(rules.clone()));
        }
        let Some(version) = self.store.load_rules().await? else {
            return Ok(None);
        };
        let (set, faults) = self.check_rules(&version.files).await?;
        let rules = Arc::new(PublishedRules {
            version: version.version,
            set,
            faults,
        });
        *lock(&self.compiled_rules) = Some((mark, rules.clone()));
        Ok(Some(rules))
    }

    /// Decides from what is known now, and stores nothing.
    pub async fn decide_now(
        &self,
    ) -> Result<(Arc<PublishedRules>, Population, Outcome), EngineError> {
        self.decide_as_of(self.now()).await
    }

    /// Decides from what is known now as it would be decided at another moment.
    pub(crate) async fn decide_as_of(
        &self,
        at: Timestamp,
    ) -> Result<(Arc<PublishedRules>, Population, Outcome), EngineError> {
        self.decide_in_turn(at, Some(crate::compute::PATIENCE))
            .await
    }

    /// The same; without `patience`, it waits for its turn without limit.
    pub(crate) async fn decide_in_turn(
        &self,
        at: Timestamp,
        patience: Option<std::time::Duration>,
    ) -> Result<(Arc<PublishedRules>, Population, Outcome), EngineError> {
        let (rules, population) = self.load_inputs(at).await?;
        let set = rules.clone();
        let work = move || {
            let outcome = decide(&set.set, &population, at);
            (population, outcome)
        };
        let (population, outcome) = self.compute(patience, work).await?;
        Ok((rules, population, outcome))
    }

    /// Loads the rules and all records for a decision at a moment.
    pub(crate) async fn load_inputs(
        &self,
        at: Timestamp,
    ) -> Result<(Arc<PublishedRules>, Population), EngineError> {
        let rules = self.published_rules().await?;
        let mut population = self.store.load_population().await?;
        self.look_at_the_clock(&mut population, at).await?;
        self.load_governance_inputs(&rules.set, &mut population, at)
            .await?;
        Ok((rules, population))
    }

    /// Notes to which systems nothing is written at a moment.
    async fn look_at_the_clock(
        &self,
        population: &mut Population,
        at: Timestamp,
    ) -> Result<(), EngineError> {
        let at_work = self.store.at_work().await?;
        for (row, hold) in at_work.iter().zip(self.write_holds(&at_work, at)) {
            if let Some(facts) = population.systems.get_mut(&row.name) {
                facts.write_hold = hold;
            }
        }
        Ok(())
    }

    /// Explains a person's accounts, or why there are none: of the first fifty that a part of a name
    /// means.
    pub async fn explain_person(&self, text: &str) -> Result<Vec<Explanation>, EngineError> {
        let near = self.decide_around_text(text).await?;
        let is_decided = |id: &str| near.decided.identities.contains(id);
        Ok(explain_among(
            &near.rules.set,
            &near.population,
            &near.outcome,
            text,
            &is_decided,
        ))
    }

    /// Begins a preview or a run, and returns its id at once.
    ///
    /// # Errors
    /// `Busy` while another run or preview is in progress; `Conflict` or `Invalid` if the plan
    /// cannot be bound to its preview.
    pub async fn begin_change_set(
        self: &Arc<Self>,
        plan: Plan,
        principal: &str,
    ) -> Result<i64, EngineError> {
        let kind = if plan.carry_out {
            ChangeSetKind::Run
        } else {
            ChangeSetKind::Preview
        };
        // A run on news takes moments: it is waited for.
        let held = tokio::time::timeout(PATIENCE, self.run_lock.clone().lock_owned()).await;
        let Ok(held) = held else {
            return Err(EngineError::Busy(
                lock(&self.current_run).as_ref().map(|(id, _)| *id),
            ));
        };
        self.published_rules().await?;
        if let Some(preview) = plan.preview {
            self.check_preview(preview).await?;
        }
        for name in &plan.systems {
            self.store.find_system(name).await?;
        }
        if plan.as_of.is_some() && plan.carry_out {
            return Err(EngineError::Invalid(
                "a run is always as of now: other days can only be previewed".to_owned(),
            ));
        }
        let id = self
            .store
            .begin_change_set(kind, principal, plan.preview, self.now())
            .await?;
        let cancel = self.stopping.child_token();
        *lock(&self.current_run) = Some((id, cancel.clone()));
        self.publish_event(Event::ChangeSet {
            id,
            state: ChangeSetState::Reading,
        });
        let (engine, principal) = (self.clone(), principal.to_owned());
        self.tasks.spawn(async move {
            let _held = held;
            if let Err(error) =
                run_caught(engine.carry_out_plan(id, &plan, &principal, &cancel)).await
            {
                tracing::error!(change_set = id, %error, "a change set failed");
                // The decided state may not have been stored: the next decision starts from
                // scratch.
                engine.reset_decision_cache().await;
                engine
                    .finish_change_set(
                        id,
                        ChangeSetState::Failed,
                        Some(&error.to_string()),
                        &principal,
                    )
                    .await;
            }
            *lock(&engine.current_run) = None;
            if plan.carry_out
                && let Err(error) = engine.keep_run_holds(id).await
            {
                tracing::error!(change_set = id, %error, "could not store the holds of the run");
            }
            // What the run made may be what something else waits for.
            if plan.carry_out
                && engine
                    .published_rules()
                    .await
                    .is_ok_and(|rules| rules.set.has_steps())
            {
                engine.wake.notify_one();
            }
        });
        Ok(id)
    }

    /// Checks that a run can be bound to a preview.
    async fn check_preview(self: &Arc<Self>, preview: i64) -> Result<(), EngineError> {
        let set = self.store.change_set(preview).await?;
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

    /// Cancels a run or preview: requests in flight complete, the rest is canceled.
    pub fn cancel_change_set(&self, id: i64) -> Result<(), EngineError> {
        match lock(&self.current_run).as_ref() {
            Some((going, cancel)) if *going == id => {
                cancel.cancel();
                Ok(())
            }
            _ => Err(EngineError::Conflict(format!(
                "change set {id} is not in progress"
            ))),
        }
    }

    pub(crate) async fn finish_change_set(
        &self,
        id: i64,
        state: ChangeSetState,
        note: Option<&str>,
        principal: &str,
    ) {
        loop {
            match self
                .store
                .set_change_set_state(id, state, note, principal, self.now())
                .await
            {
                Ok(()) => self.goes_on(),
                Err(StoreError::Unwritable { said }) if self.waits_for_disk(&said).await => {
                    continue;
                }
                Err(error) => {
                    tracing::error!(change_set = id, %error, "could not record the end of a change set")
                }
            }
            break;
        }
        self.publish_event(Event::ChangeSet { id, state });
    }

    async fn carry_out_plan(
        self: &Arc<Self>,
        id: i64,
        plan: &Plan,
        principal: &str,
        cancel: &CancellationToken,
    ) -> Result<(), EngineError> {
        let reads = if plan.without_reading {
            Vec::new()
        } else {
            self.read_all_until(cancel).await?
        };
        let broken: Vec<&Read> = reads.iter().filter(|read| read.error.is_some()).collect();
        let mut notes: Vec<String> = broken
            .iter()
            .filter_map(|read| {
                read.error
                    .as_ref()
                    .map(|error| format!("{} could not be read completely: {error}. No account there counts as absent.", read.system))
            })
            .collect();
        // A system that does not answer fails once for each of its types.
        notes.dedup();
        if cancel.is_cancelled() {
            self.finish_change_set(
                id,
                ChangeSetState::Canceled,
                Some("canceled before anything was decided"),
                principal,
            )
            .await;
            return Ok(());
        }
        self.store
            .set_change_set_state(id, ChangeSetState::Deciding, None, principal, self.now())
            .await?;
        self.publish_event(Event::ChangeSet {
            id,
            state: ChangeSetState::Deciding,
        });
        if plan.carry_out {
            self.resolve_unknown_creates().await?;
        }
        self.end_old_answers().await?;
        let at = plan.as_of.unwrap_or_else(|| self.now());
        // Nothing else may send between the decision and the queueing of its changes.
        let deciding = if plan.carry_out {
            Some(self.decision_lock.lock().await)
        } else {
            None
        };
        let decided = if plan.carry_out {
            self.decide_for_run().await
        } else {
            self.decide_in_turn(at, None).await
        };
        let (rules, population, mut outcome) = decided?;
        if plan.as_of.is_none() {
            let in_step = self
                .record_external_changes(&rules.set, &population, &outcome, None)
                .await?;
            self.save_identity_updates(
                IdentityUpdates {
                    in_step,
                    ..IdentityUpdates::default()
                },
                principal,
            )
            .await?;
        } else {
            notes.push(format!(
                "As decided on {}, if nothing else changes until then.",
                at.strftime("%Y-%m-%d %H:%M UTC")
            ));
        }
        if plan.carry_out && !plan.adopt {
            self.ask_about(&rules.set, &outcome, None, principal)
                .await?;
            self.end_overrides(&outcome, None).await?;
        }
        if plan.as_of.is_none() {
            self.keep_holds(&outcome, None).await?;
        }
        hold_unread(&broken, &mut outcome);
        if !plan.only.is_empty() {
            let count = keep_people(&population, &mut outcome, &plan.only)?;
            notes.push(format!(
                "Only the named people ({} of {count}): {}.",
                plan.only.len(),
                plan.only.join(", ")
            ));
        }
        if !plan.systems.is_empty() || !plan.types.is_empty() {
            notes.push(keep_within(&mut outcome, plan));
        }
        if let Some(preview) = plan.preview {
            notes.extend(self.bind_to_preview(preview, &mut outcome).await?);
        }
        hold_for_link_only(plan, &mut notes, &mut outcome);
        self.hold_accepted(&mut outcome).await?;
        self.hold_restored(&mut outcome).await?;
        if plan.carry_out && !plan.adopt {
            self.record_notifications(&outcome).await?;
        }
        if plan.carry_out {
            // Identities and links first: a queue without them could not be carried on with.
            self.save_identities(&population, &outcome, principal)
                .await?;
        }
        let note = (!notes.is_empty()).then(|| notes.join(" "));
        let set = NewChangeSet {
            kind: if plan.carry_out {
                ChangeSetKind::Run
            } else {
                ChangeSetKind::Preview
            },
            rule_version: rules.version,
            principal: principal.to_owned(),
            preview: plan.preview,
            whole: plan.only.is_empty()
                && plan.systems.is_empty()
                && plan.types.is_empty()
                && plan.as_of.is_none(),
            as_of: plan.as_of,
            unread: broken
                .iter()
                .map(|read| read.system.clone())
                .collect::<std::collections::BTreeSet<_>>()
                .into_iter()
                .collect(),
            note: note.clone(),
            decided: outcome.decided,
            changes: outcome.changes,
        };
        self.mark_set_sent(plan, &set).await;
        self.store.fill_change_set(id, set, self.now()).await?;
        drop(deciding);
        if !plan.carry_out {
            self.finish_change_set(id, ChangeSetState::Done, note.as_deref(), principal)
                .await;
            return Ok(());
        }
        self.publish_event(Event::ChangeSet {
            id,
            state: ChangeSetState::Running,
        });
        self.carry_out_whole(id, None, note, principal, cancel)
            .await
    }

    /// Marks the records whose changes the run sends, so that the next decision evaluates them
    /// again.
    async fn mark_set_sent(self: &Arc<Self>, plan: &Plan, set: &NewChangeSet) {
        if plan.carry_out {
            let sent = || set.changes.iter().filter(|change| change.hold.is_none());
            let identities = sent()
                .map(|change| change.identity.clone())
                .filter(|id| !id.is_empty())
                .collect::<Vec<_>>();
            self.mark_sent(
                crate::auto_run::sent_to(sent()).into_iter(),
                identities.into_iter(),
            )
            .await;
        }
    }

    /// Holds changes that the preview did not show, and returns a note about them.
    async fn bind_to_preview(
        &self,
        preview: i64,
        outcome: &mut Outcome,
    ) -> Result<Vec<String>, EngineError> {
        let shown = self
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

    /// What two change sets have of each other's: a change is the same when it is from the same and
    /// to the same.
    pub async fn compare_change_sets(
        &self,
        one: i64,
        other: i64,
    ) -> Result<Comparison, EngineError> {
        self.store.change_set(one).await?;
        self.store.change_set(other).await?;
        let same = self.store.count_in_both(one, other).await?;
        Ok(Comparison {
            same: usize::try_from(same).unwrap_or_default(),
            only_here: self.store.changes_only_in(one, other).await?,
            only_there: self.store.changes_only_in(other, one).await?,
        })
    }

    /// The types that the rules speak of, for each connected system.
    pub(crate) async fn to_read(&self) -> Result<Vec<(SystemRow, Vec<ObjectType>)>, EngineError> {
        // Rules that became invalid still say what must be read.
        let rules = self.checked_rules().await?.unwrap_or_default();
        let set = &rules.set;
        let systems = self.store.list_systems().await?;
        Ok(systems
            .into_iter()
            .map(|row| {
                let mut types: BTreeSet<ObjectType> = set
                    .systems
                    .get(&row.name)
                    .map(|rules| rules.types.keys().copied().collect())
                    .unwrap_or_default();
                // A leaver is removed from groups without rules, if there are any.
                let follow = tide_core::memberships::systems(set).contains(&row.name)
                    && row.schema.contains_key(&ObjectType::Group);
                if asks_for_groups(set, &row.name) || follow {
                    types.insert(ObjectType::Person);
                    types.insert(ObjectType::Group);
                }
                let types = if types.is_empty() {
                    vec![ObjectType::Person]
                } else {
                    types.into_iter().collect()
                };
                (row, types)
            })
            .collect())
    }

    /// Reads all systems at once.
    pub async fn read_all(&self) -> Result<Vec<Read>, EngineError> {
        self.read_all_until(&self.stopping).await
    }

    async fn read_all_until(&self, cancel: &CancellationToken) -> Result<Vec<Read>, EngineError> {
        let plan = self.to_read().await?;
        let mut reads = Vec::new();
        let tasks = plan
            .iter()
            .map(|(row, types)| self.read_until(row, types, cancel));
        for result in futures::future::join_all(tasks).await {
            reads.extend(result?);
        }
        Ok(reads)
    }

    /// Reads one system. With automatic sync, a run for the changes follows.
    pub async fn read_by_name(&self, name: &str) -> Result<Vec<Read>, EngineError> {
        let wanted = self
            .to_read()
            .await?
            .into_iter()
            .find(|(row, _)| row.name == name);
        match wanted {
            Some((row, types)) => {
                let read = self.read_system(&row, &types).await?;
                self.is_dirty.store(true, Ordering::Release);
                self.wake.notify_one();
                Ok(read)
            }
            None => Err(tide_store::StoreError::Missing {
                what: "system",
                name: name.to_owned(),
            }
            .into()),
        }
    }

    /// Resumes what a crash or stop interrupted.
    pub async fn resume_interrupted(self: &Arc<Self>) -> Result<(), EngineError> {
        for (id, kind, state, principal) in self.store.open_change_sets().await? {
            if kind != ChangeSetKind::Run || state != ChangeSetState::Running {
                self.finish_change_set(
                    id,
                    ChangeSetState::Failed,
                    Some("the service was stopped before anything was decided: start it again"),
                    &principal,
                )
                .await;
                continue;
            }
            tracing::info!(change_set = id, "resuming an interrupted run");
            let now = self.now();
            let old = self
                .store
                .take_back_old(id, now.saturating_sub(MAX_QUEUE_AGE).unwrap_or(now), now)
                .await?;
            if old > 0 {
                let minutes = MAX_QUEUE_AGE.as_secs() / 60;
                let plural = if old == 1 { "change" } else { "changes" };
                let note = format!(
                    "Interrupted. {old} {plural} had been queued for more than {minutes} minutes: they are decided again."
                );
                self.finish_change_set(id, ChangeSetState::Canceled, Some(&note), &principal)
                    .await;
                continue;
            }
            let held = self.run_lock.clone().lock_owned().await;
            let cancel = self.stopping.child_token();
            *lock(&self.current_run) = Some((id, cancel.clone()));
            let engine = self.clone();
            self.tasks.spawn(async move {
                let _held = held;
                let note = Some("Interrupted and resumed.".into());
                if let Err(error) = engine
                    .carry_out_whole(id, None, note, &principal, &cancel)
                    .await
                {
                    tracing::error!(change_set = id, %error, "a run failed");
                    engine
                        .finish_change_set(
                            id,
                            ChangeSetState::Failed,
                            Some(&error.to_string()),
                            &principal,
                        )
                        .await;
                }
                *lock(&engine.current_run) = None;
            });
        }
        Ok(())
    }
}

/// Holds the changes of systems that could not be read.
fn hold_unread(broken: &[&Read], outcome: &mut Outcome) {
    for change in &mut outcome.changes {
        let error = broken
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
fn hold_for_link_only(plan: &Plan, notes: &mut Vec<String>, outcome: &mut Outcome) {
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

/// Whether a scope depends on groups of this system.
fn asks_for_groups(set: &RuleSet, system: &str) -> bool {
    set.systems.values().any(|rules| {
        rules.types.values().any(|types| {
            types
                .scope
                .groups_in(&rules.name)
                .iter()
                .any(|(of, _)| *of == system)
        })
    })
}

/// The identities to store: known ones, and new ones that have a link.
pub(crate) fn identities_to_store<'o>(
    population: &Population,
    outcome: &'o Outcome,
) -> HashSet<&'o str> {
    let known: HashSet<&str> = population
        .identities
        .iter()
        .map(|i| i.id.as_str())
        .collect();
    let linked: HashSet<&str> = outcome.links.iter().map(|l| l.identity.as_str()).collect();
    outcome
        .identities
        .iter()
        .map(|(i, _)| i.id.as_str())
        .filter(|id| known.contains(id) || linked.contains(id))
        .collect()
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
