//! Automatic runs: on changes of watched systems, after a backoff, and at the end of a write
//! blackout.

use crate::backoff::Backoff;
use crate::context::run_caught;
use crate::decide::{IncrementalDecision, Purpose, is_automatic, kept_part};
use crate::error::EngineError;
use crate::events::Event;
use crate::kept::identity_updates;
use crate::lock;
use crate::queue::{PendingChanges, first_batch};
use crate::run::Runner;
use std::collections::HashSet;
use std::sync::Arc;
use std::sync::atomic::{AtomicU32, Ordering};
use std::time::Duration;
use tide_core::Outcome;
use tide_core::decide::Change;
use tide_core::states::{ChangeSetKind, ChangeSetState};
use tide_store::{DecisionPreconditions, IdentityUpdates, NewChangeSet};

/// The principal of automatic runs.
pub(crate) const SERVICE_PRINCIPAL: &str = "the service";

/// Debounce: if events arrive less than `DEBOUNCE_WINDOW` apart, the loop waits `DEBOUNCE` and
/// handles them in one run. A single event is handled immediately.
pub(crate) const DEBOUNCE: Duration = Duration::from_millis(2);

const DEBOUNCE_WINDOW: Duration = Duration::from_millis(5);

/// Delay before a failed automatic run is repeated.
const FAILED_RUN_BACKOFF: Backoff = Backoff::new(Duration::from_secs(1), Duration::from_secs(60));

/// The accounts that changes are sent to. A group is not decided again for one of its members.
pub(crate) fn sent_to<'c>(changes: impl IntoIterator<Item = &'c Change>) -> Vec<i64> {
    changes
        .into_iter()
        .filter(|change| !change.is_membership())
        .filter_map(|change| change.account)
        .collect()
}

/// Keeps the changes that are sent, and the outcomes of their people.
fn keep_sent(outcome: &mut Outcome) {
    outcome.changes.retain(|change| change.hold.is_none());
    let about: HashSet<&str> = outcome
        .changes
        .iter()
        .map(|change| change.identity.as_str())
        .collect();
    outcome.decided.retain(|line| {
        line.identity
            .as_deref()
            .is_some_and(|id| about.contains(id))
    });
}

/// The identities that changes are about.
pub(crate) fn identities_of<'c>(changes: impl IntoIterator<Item = &'c Change>) -> HashSet<String> {
    changes
        .into_iter()
        .map(|change| change.identity.clone())
        .filter(|id| !id.is_empty())
        .collect()
}

impl Runner {
    /// Starts the loop that runs on each wake-up, until the service stops.
    pub(crate) fn spawn_auto_run_loop(self: &Arc<Self>) {
        self.context
            .supervise("run scheduler", self, |runner| async move {
                // Changes that arrive during a run wait for its end; leavers among them preempt it.
                let mut waiting = false;
                let mut last = tide_clock::instant();
                let failed_runs = Arc::new(AtomicU32::new(0));
                // Records may have become due while the service was down.
                runner.pending.wake();
                loop {
                    let timer = async {
                        runner.wait_for_timer().await;
                    };
                    let free = async {
                        match waiting {
                            true => drop(runner.pending.run_lock.clone().lock_owned().await),
                            false => std::future::pending().await,
                        }
                    };
                    tokio::select! {
                        () = runner.context.stopping.cancelled() => return,
                        () = runner.pending.woken() => {}
                        () = timer => {}
                        () = free => {}
                    }
                    if last.elapsed() < DEBOUNCE_WINDOW {
                        tide_clock::sleep(DEBOUNCE).await;
                    }
                    last = tide_clock::instant();
                    waiting = false;
                    let Ok(held) = runner.pending.run_lock.clone().try_lock_owned() else {
                        waiting = true;
                        match runner.preempt_for_leavers().await {
                            Ok(Some(id)) => {
                                tracing::info!(change_set = id, "leavers preempted a run")
                            }
                            Ok(None) | Err(EngineError::NoRules) => {}
                            Err(error) => tracing::warn!(%error, "leavers could not preempt a run"),
                        }
                        continue;
                    };
                    let runner = runner.clone();
                    let tasks = runner.context.tasks.clone();
                    let failed_runs = failed_runs.clone();
                    tasks.spawn(async move {
                        let error = match runner.run_incremental(held).await {
                            Ok(id) => {
                                failed_runs.store(0, Ordering::Relaxed);
                                if let Some(id) = id {
                                    tracing::info!(change_set = id, "an automatic run ended");
                                }
                                return;
                            }
                            Err(EngineError::NoRules) => return,
                            Err(error) => error,
                        };
                        // The dirty records of this run are decided again after a delay: no other event
                        // may arrive for them.
                        runner.context.cycles.count_failed_run();
                        let failures = failed_runs.fetch_add(1, Ordering::Relaxed) + 1;
                        let wait = FAILED_RUN_BACKOFF.delay(failures, 0.5);
                        tracing::warn!(%error, ?wait, "an automatic run failed; retrying");
                        tokio::select! {
                            () = runner.context.stopping.cancelled() => {}
                            () = tide_clock::sleep(wait) => {
                                runner.pending.records_changed();
                            }
                        }
                    });
                }
            });
    }

    /// Makes an incremental decision and sends its changes; stores nothing if there are none. The
    /// loop does this on each wake-up. Returns the run, if there was one.
    pub async fn run_once(self: &Arc<Self>) -> Result<Option<i64>, EngineError> {
        let held = tokio::select! {
            () = self.context.stopping.cancelled() => return Ok(None),
            held = self.pending.run_lock.clone().lock_owned() => held,
        };
        self.run_incremental(held).await
    }

    async fn run_incremental(
        self: &Arc<Self>,
        held: tokio::sync::OwnedMutexGuard<()>,
    ) -> Result<Option<i64>, EngineError> {
        let done = run_caught(self.run_incremental_inner(held)).await;
        if done.is_err() {
            // The decision may not be stored, so the next one is a full decision.
            self.decider.reset_decision_cache().await;
        }
        done
    }

    async fn run_incremental_inner(
        self: &Arc<Self>,
        held: tokio::sync::OwnedMutexGuard<()>,
    ) -> Result<Option<i64>, EngineError> {
        let begun = tide_clock::instant();
        let is_follow_up = self.pending.begin_run();
        self.matches.end_old_answers().await?;
        let mut deciding = self.pending.decision_lock.lock().await;
        let mut before = self.decider.load_preconditions().await?;
        if !is_automatic(&before.at_work) {
            return Ok(None);
        }
        if before.lost {
            // The lock is released while systems are queried, so that leavers do not wait for their
            // answers.
            drop(deciding);
            self.dispatcher.resolve_unknown_creates().await?;
            deciding = self.pending.decision_lock.lock().await;
            before = self.decider.load_preconditions().await?;
        }
        let mut news = self
            .decider
            .decide_incremental(&before, Purpose::Run)
            .await?;
        tracing::debug!(full = news.about.is_none(), records_read = news.cost.0, evaluated = news.cost.1, duration = ?begun.elapsed(), "decided dirty records");
        // As decided: what waits for something else is no other outcome.
        let outcomes = kept_part(&news);
        let in_step = self.hold_what_waits(&mut news, &before).await?;
        // The list of decisions may have changed, even if nothing is sent.
        self.context.publish_event(Event::AttentionChanged);
        let sends = news
            .outcome
            .changes
            .iter()
            .any(|change| change.hold.is_none());
        let mut people = IdentityUpdates {
            in_step,
            ..identity_updates(&news.population, &news.outcome)
        };
        if !news.outcome.notifications.is_empty() {
            // A notification can be about a new identity.
            self.save_identity_updates(std::mem::take(&mut people), SERVICE_PRINCIPAL)
                .await?;
            self.notifier.record_notifications(&news.outcome).await?;
        }
        people.outcomes = outcomes;
        if !sends {
            self.save_identity_updates(people, SERVICE_PRINCIPAL)
                .await?;
            return Ok(None);
        }
        // The run lists only the people of its changes; holds of others are stored separately.
        let outcome = &mut news.outcome;
        keep_sent(outcome);
        let about = identities_of(&outcome.changes);
        self.pending.mark_sent(sent_to(&outcome.changes), about);
        let closes = outcome.changes.iter().any(Change::takes_away);
        let is_followed = closes || news.rules.set.has_steps() || !is_follow_up;
        let (id, queue) = self.queue_changes(news, people).await?;
        let cancel = self.context.stopping.child_token();
        *lock(&self.current_run) = Some((id, cancel.clone()));
        drop(deciding);
        let done = self
            .dispatcher
            .carry_out_whole(id, Some(queue), None, SERVICE_PRINCIPAL, &cancel)
            .await;
        *lock(&self.current_run) = None;
        drop(held);
        if is_followed {
            // New accounts may release other changes, closed access is verified once more, and the
            // results are decided now instead of by the next change.
            self.pending.request_follow_up();
        }
        if let Err(error) = done {
            self.fail_run(id, &error, SERVICE_PRINCIPAL).await;
            return Err(error);
        }
        Ok(Some(id))
    }

    pub(crate) async fn fail_run(&self, id: i64, error: &EngineError, principal: &str) {
        let text = error.to_string();
        self.dispatcher
            .finish_change_set(id, ChangeSetState::Failed, Some(&text), principal)
            .await;
    }

    /// Records external changes, requests approvals, and puts changes on hold. The preconditions
    /// tell which of these steps can be skipped. Returns the accounts whose drift has ended.
    pub(crate) async fn hold_what_waits(
        self: &Arc<Self>,
        news: &mut IncrementalDecision,
        before: &DecisionPreconditions,
    ) -> Result<Vec<i64>, EngineError> {
        let IncrementalDecision {
            rules,
            population,
            outcome,
            about,
            ..
        } = news;
        let in_step = self
            .decisions
            .record_external_changes(&rules.set, population, outcome, about.as_ref())
            .await?;
        if before.asked || !rules.set.approvals.is_empty() {
            self.approvals
                .ask_about(&rules.set, outcome, about.as_ref(), SERVICE_PRINCIPAL)
                .await?;
        }
        if !before.overrides.is_empty() {
            self.decisions
                .end_overrides(outcome, about.as_ref())
                .await?;
        }
        if before.in_doubt {
            self.dispatcher.hold_accepted(outcome).await?;
        }
        if before.outdated {
            self.dispatcher.hold_restored(outcome).await?;
        }
        self.dispatcher
            .hold_for_breaker_or_retry(outcome, before.failed)
            .await?;
        self.decider.keep_holds(outcome, about.as_ref()).await?;
        Ok(in_step)
    }

    /// Stores the changes and the identities of a run in one commit, and claims the first changes.
    pub(crate) async fn queue_changes(
        &self,
        news: IncrementalDecision,
        people: IdentityUpdates,
    ) -> Result<(i64, PendingChanges), EngineError> {
        let IncrementalDecision {
            rules,
            population,
            outcome,
            reaches,
            ..
        } = news;
        let set = NewChangeSet {
            kind: ChangeSetKind::Run,
            rule_version: rules.version,
            principal: SERVICE_PRINCIPAL.to_owned(),
            preview: None,
            whole: false,
            as_of: None,
            unread: Vec::new(),
            note: None,
            decided: outcome.decided,
            changes: outcome.changes,
        };
        let first = first_batch(&set.changes, self.dispatcher.accounts_at_a_time());
        let to: HashSet<i64> = set
            .changes
            .iter()
            .filter_map(|change| change.account)
            .collect();
        let called = population
            .accounts
            .into_iter()
            .filter(|account| to.contains(&account.id));
        let called = called
            .map(|account| (account.id, (account.key, account.name)))
            .collect();
        let (id, changes) = self
            .context
            .store
            .keep_run(people, set, first.clone(), self.context.now())
            .await?;
        self.context.publish_event(Event::ChangeSet {
            id,
            state: ChangeSetState::Running,
        });
        let marked = changes
            .iter()
            .enumerate()
            .filter(|(place, _)| first.contains(place))
            .map(|(_, row)| row.id)
            .collect();
        Ok((
            id,
            PendingChanges {
                changes,
                claimed: marked,
                account_names: called,
                reaches,
            },
        ))
    }
}
