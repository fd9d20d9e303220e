//! Previews and runs by hand: read, decide, store, and, for a run, send.

use crate::context::run_caught;
use crate::error::EngineError;
use crate::events::Event;
use crate::full::Gathering;
use crate::lock;
use crate::rules::PublishedRules;
use crate::run::Runner;
use crate::run::plan::{Plan, hold_for_link_only, hold_unread, notes_on_reads, restrict};
use jiff::Timestamp;
use std::sync::Arc;
use tide_core::states::{ChangeSetKind, ChangeSetState};
use tide_core::{Outcome, Population, RuleSet};
use tide_store::{IdentityUpdates, NewChangeSet};
use tokio_util::sync::CancellationToken;

/// How long a preview or run waits for one in progress.
pub(crate) const PATIENCE: std::time::Duration = std::time::Duration::from_secs(1);

/// The maximum age of a queued change when an interrupted run resumes. An older one may be based on
/// outdated data: it is decided again.
const MAX_QUEUE_AGE: jiff::SignedDuration = jiff::SignedDuration::from_mins(15);

impl Runner {
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
        let held = tokio::time::timeout(PATIENCE, self.pending.run_lock.clone().lock_owned()).await;
        let Ok(held) = held else {
            return Err(EngineError::Busy(
                lock(&self.current_run).as_ref().map(|(id, _)| *id),
            ));
        };
        self.rules.published_rules().await?;
        if let Some(preview) = plan.preview {
            self.check_preview(preview).await?;
        }
        for name in &plan.systems {
            self.context.store.find_system(name).await?;
        }
        if plan.as_of.is_some() && plan.carry_out {
            return Err(EngineError::Invalid(
                "a run is always as of now: other days can only be previewed".to_owned(),
            ));
        }
        let id = self
            .context
            .store
            .begin_change_set(kind, principal, plan.preview, self.context.now())
            .await?;
        let cancel = self.context.stopping.child_token();
        *lock(&self.current_run) = Some((id, cancel.clone()));
        self.context.publish_event(Event::ChangeSet {
            id,
            state: ChangeSetState::Reading,
        });
        let (runner, principal) = (self.clone(), principal.to_owned());
        self.context.tasks.spawn(async move {
            let _held = held;
            if let Err(error) =
                run_caught(runner.carry_out_plan(id, &plan, &principal, &cancel)).await
            {
                tracing::error!(change_set = id, %error, "a change set failed");
                // The decided state may not have been stored: the next decision starts from
                // scratch.
                runner.decider.reset_decision_cache().await;
                runner.fail_run(id, &error, &principal).await;
            }
            *lock(&runner.current_run) = None;
            if plan.carry_out
                && let Err(error) = runner.decider.keep_run_holds(id).await
            {
                tracing::error!(change_set = id, %error, "could not store the holds of the run");
            }
            // What the run made may be what something else waits for.
            if plan.carry_out
                && runner
                    .rules
                    .published_rules()
                    .await
                    .is_ok_and(|rules| rules.set.has_steps())
            {
                runner.pending.wake();
            }
        });
        Ok(id)
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
            self.ingest.read_all_until(cancel).await?
        };
        let mut notes = notes_on_reads(&reads);
        if cancel.is_cancelled() {
            self.end_canceled(id, principal).await;
            return Ok(());
        }
        let store = &self.context.store;
        let deciding = ChangeSetState::Deciding;
        store
            .set_change_set_state(id, deciding, None, principal, self.context.now())
            .await?;
        self.context.publish_event(Event::ChangeSet {
            id,
            state: deciding,
        });
        if plan.carry_out {
            self.dispatcher.resolve_unknown_creates().await?;
        }
        self.matches.end_old_answers().await?;
        let at = plan.as_of.unwrap_or_else(|| self.context.now());
        // Nothing else may send between the decision and the queueing of its changes.
        let deciding = if plan.carry_out {
            Some(self.pending.decision_lock.lock().await)
        } else {
            None
        };
        let Some((rules, population, mut outcome)) = self.decide_plan(plan, at, cancel).await?
        else {
            drop(deciding);
            self.end_canceled(id, principal).await;
            return Ok(());
        };
        self.keep_what_was_seen(plan, &rules.set, &population, &outcome, principal)
            .await?;
        if plan.as_of.is_some() {
            notes.push(format!(
                "As decided on {}, if nothing else changes until then.",
                at.strftime("%Y-%m-%d %H:%M UTC")
            ));
        }
        hold_unread(&reads, &mut outcome);
        notes.extend(restrict(plan, &population, &mut outcome)?);
        if let Some(preview) = plan.preview {
            notes.extend(self.bind_to_preview(preview, &mut outcome).await?);
        }
        hold_for_link_only(plan, &mut notes, &mut outcome);
        self.dispatcher.hold_accepted(&mut outcome).await?;
        self.dispatcher.hold_restored(&mut outcome).await?;
        if plan.carry_out && !plan.adopt {
            self.notifier.record_notifications(&outcome).await?;
        }
        if plan.carry_out {
            // Identities and links first: a queue without them could not be carried on with.
            self.save_identities(&population, &outcome, principal)
                .await?;
        }
        let note = (!notes.is_empty()).then(|| notes.join(" "));
        let set = plan.change_set(&reads, rules.version, principal, note.clone(), outcome);
        self.mark_set_sent(plan, &set).await;
        store.fill_change_set(id, set, self.context.now()).await?;
        drop(deciding);
        if plan.carry_out {
            return self.send_plan(id, note, principal, cancel).await;
        }
        self.dispatcher
            .finish_change_set(id, ChangeSetState::Done, note.as_deref(), principal)
            .await;
        Ok(())
    }

    /// Sends what a run has queued.
    async fn send_plan(
        &self,
        id: i64,
        note: Option<String>,
        principal: &str,
        cancel: &CancellationToken,
    ) -> Result<(), EngineError> {
        self.context.publish_event(Event::ChangeSet {
            id,
            state: ChangeSetState::Running,
        });
        self.dispatcher
            .carry_out_whole(id, None, note, principal, cancel)
            .await
    }

    /// Decides about all records; `None` if it is canceled meanwhile, which ends the decision at once.
    async fn decide_plan(
        &self,
        plan: &Plan,
        at: Timestamp,
        cancel: &CancellationToken,
    ) -> Result<Option<(Arc<PublishedRules>, Population, Outcome)>, EngineError> {
        // Names of people are looked up among all records.
        let gathering = match plan.only.is_empty() {
            true => Gathering::ToStore,
            false => Gathering::Everything,
        };
        let deciding = async {
            match plan.carry_out {
                true => {
                    let is_whole = plan.is_whole();
                    self.decider.decide_for_run(gathering, is_whole).await
                }
                false => self.decider.decide_for_plan(at, gathering).await,
            }
        };
        let decided = tokio::select! {
            decided = deciding => Some(decided?),
            () = cancel.cancelled() => None,
        };
        if decided.is_none() && plan.carry_out {
            // Its outcomes may be stored in part.
            self.decider.reset_decision_cache().await;
        }
        Ok(decided)
    }

    /// Ends a preview or a run that was canceled before anything was queued.
    async fn end_canceled(&self, id: i64, principal: &str) {
        let note = Some("canceled before anything was decided");
        self.dispatcher
            .finish_change_set(id, ChangeSetState::Canceled, note, principal)
            .await;
    }

    /// Records what the decision showed beside its changes: external changes, requests for approval,
    /// overrides that end, holds.
    async fn keep_what_was_seen(
        &self,
        plan: &Plan,
        rules: &RuleSet,
        population: &Population,
        outcome: &Outcome,
        principal: &str,
    ) -> Result<(), EngineError> {
        let is_of_now = plan.as_of.is_none();
        if is_of_now {
            let in_step = self
                .decisions
                .record_external_changes(rules, population, outcome, None)
                .await?;
            let updates = IdentityUpdates {
                in_step,
                ..IdentityUpdates::default()
            };
            self.save_identity_updates(updates, principal).await?;
        }
        if plan.carry_out && !plan.adopt {
            self.approvals
                .ask_about(rules, outcome, None, principal)
                .await?;
            self.decisions.end_overrides(outcome, None).await?;
        }
        if is_of_now {
            self.decider.keep_holds(outcome, None).await?;
        }
        Ok(())
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
            self.pending
                .mark_sent(crate::run::automatic::sent_to(sent()), identities);
        }
    }

    /// Resumes what a crash or stop interrupted.
    pub async fn resume_interrupted(self: &Arc<Self>) -> Result<(), EngineError> {
        for (id, kind, state, principal) in self.context.store.open_change_sets().await? {
            if kind != ChangeSetKind::Run || state != ChangeSetState::Running {
                self.dispatcher
                    .finish_change_set(
                        id,
                        ChangeSetState::Failed,
                        Some("the service was stopped before anything was decided: start it again"),
                        &principal,
                    )
                    .await;
                continue;
            }
            tracing::info!(change_set = id, "resuming an interrupted run");
            let now = self.context.now();
            let old = self
                .context
                .store
                .take_back_old(id, now.saturating_sub(MAX_QUEUE_AGE).unwrap_or(now), now)
                .await?;
            if old > 0 {
                let minutes = MAX_QUEUE_AGE.as_secs() / 60;
                let plural = if old == 1 { "change" } else { "changes" };
                let note = format!(
                    "Interrupted. {old} {plural} had been queued for more than {minutes} minutes: they are decided again."
                );
                self.dispatcher
                    .finish_change_set(id, ChangeSetState::Canceled, Some(&note), &principal)
                    .await;
                continue;
            }
            let held = self.pending.run_lock.clone().lock_owned().await;
            let cancel = self.context.stopping.child_token();
            *lock(&self.current_run) = Some((id, cancel.clone()));
            let runner = self.clone();
            self.context.tasks.spawn(async move {
                let _held = held;
                let note = Some("Interrupted and resumed.".into());
                if let Err(error) = runner
                    .dispatcher
                    .carry_out_whole(id, None, note, &principal, &cancel)
                    .await
                {
                    tracing::error!(change_set = id, %error, "a run failed");
                    runner.fail_run(id, &error, &principal).await;
                }
                *lock(&runner.current_run) = None;
            });
        }
        Ok(())
    }
}
