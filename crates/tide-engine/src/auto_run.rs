//! Automatic runs: on changes of watched systems, after a backoff, and at the end of a write
//! blackout. Also circuit breakers of systems, and preemption by leavers.

use crate::backoff::{Backoff, CircuitBreaker, later};
use crate::dispatch::first_batch;
use crate::executor::PendingChanges;
use crate::incremental::{IncrementalDecision, Purpose, is_automatic};
use crate::runs::identities_to_store;
use crate::schedule::Schedule;
use crate::supervise::run_caught;
use crate::{Engine, EngineError, Event, lock};
use jiff::{SignedDuration, Timestamp};
use std::collections::{HashMap, HashSet};
use std::sync::Arc;
use std::sync::atomic::{AtomicU32, Ordering};
use std::time::Duration;
use tide_core::decide::Change;
use tide_core::states::{ChangeSetKind, ChangeSetState};
use tide_core::{HoldCause, Outcome, Population, Reason, ReasonKind};
use tide_store::{DecisionPreconditions, IdentityUpdates, NewChangeSet};

/// The principal of automatic runs.
pub(crate) const SERVICE_PRINCIPAL: &str = "the service";
/// Debounce: if events arrive less than `DEBOUNCE_WINDOW` apart, the loop waits `DEBOUNCE` and
/// handles them in one run. A single event is handled immediately.
const DEBOUNCE: Duration = Duration::from_millis(2);
const DEBOUNCE_WINDOW: Duration = Duration::from_millis(5);
/// Delay before scanning for the next timer. A run that is started in the meantime handles due
/// records anyway.
const TIMER_SCAN_DELAY: Duration = Duration::from_millis(50);
/// Delay before records that are overdue and could not be decided are decided again.
const OVERDUE_RETRY_DELAY: SignedDuration = SignedDuration::from_secs(30);
/// How often the wall clock is checked, so that clock changes and a suspended machine are noticed.
const CLOCK_POLL_INTERVAL: Duration = Duration::from_secs(1);
/// Maximum number of checks for requests in flight before the preemption stops waiting for them.
const MAX_IN_FLIGHT_CHECKS: usize = 1000;
/// Delay before a failed change is retried.
const RETRY_BACKOFF: Backoff = Backoff::new(Duration::from_secs(30), Duration::from_secs(3600));
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

/// The identities, links and reserved values that a decision adds or changes.
fn identity_updates(population: &Population, outcome: &Outcome) -> IdentityUpdates {
    let kept = identities_to_store(population, outcome);
    let before: HashMap<&str, &tide_core::Identity> = population
        .identities
        .iter()
        .map(|i| (i.id.as_str(), i))
        .collect();
    let new = |(i, _): &&(tide_core::Identity, String)| {
        kept.contains(i.id.as_str()) && before.get(i.id.as_str()).is_none_or(|known| **known != *i)
    };
    IdentityUpdates {
        in_step: Vec::new(),
        identities: outcome.identities.iter().filter(new).cloned().collect(),
        links: outcome.links.clone(),
        member_names: outcome.member_names.clone(),
        reserved: outcome
            .reserved
            .iter()
            .filter(|name| kept.contains(name.identity.as_str()))
            .cloned()
            .collect(),
    }
}

fn fingerprints(changes: &[Change]) -> Vec<String> {
    changes
        .iter()
        .map(|change| change.fingerprint.clone())
        .collect()
}

/// The identities that changes are about.
fn identities_of<'c>(changes: impl IntoIterator<Item = &'c Change>) -> HashSet<String> {
    changes
        .into_iter()
        .map(|change| change.identity.clone())
        .filter(|id| !id.is_empty())
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

impl Engine {
    /// Opens the circuit breaker of a system, or keeps it open longer. Changes of other systems
    /// continue.
    pub(crate) fn record_system_failure(&self, system: &str, said: &str) {
        let random = self.random();
        let mut breakers = lock(&self.breakers);
        let breaker =
            CircuitBreaker::record_failure(breakers.get(system), said, self.now(), random);
        breakers.insert(system.to_owned(), breaker);
    }

    /// Closes the circuit breaker of a system.
    pub(crate) fn record_system_success(&self, system: &str) {
        lock(&self.breakers).remove(system);
    }

    /// Starts the loop that runs on each wake-up, until the service stops.
    pub(crate) fn spawn_auto_run_loop(self: &Arc<Self>) {
        self.supervise("run scheduler", |engine| async move {
            // Changes that arrive during a run wait for its end; leavers among them preempt it.
            let mut waiting = false;
            let mut last = tide_clock::instant();
            let failed_runs = Arc::new(AtomicU32::new(0));
            // Records may have become due while the service was down.
            engine.wake.notify_one();
            loop {
                let timer = async {
                    wait_for_timer(&engine).await;
                };
                let free = async {
                    match waiting {
                        true => drop(engine.run_lock.clone().lock_owned().await),
                        false => std::future::pending().await,
                    }
                };
                tokio::select! {
                    () = engine.stopping.cancelled() => return,
                    () = engine.wake.notified() => {}
                    () = timer => {}
                    () = free => {}
                }
                if last.elapsed() < DEBOUNCE_WINDOW {
                    tide_clock::sleep(DEBOUNCE).await;
                }
                last = tide_clock::instant();
                waiting = false;
                let Ok(held) = engine.run_lock.clone().try_lock_owned() else {
                    waiting = true;
                    match engine.preempt_for_leavers().await {
                        Ok(Some(id)) => tracing::info!(change_set = id, "leavers preempted a run"),
                        Ok(None) | Err(EngineError::NoRules) => {}
                        Err(error) => tracing::warn!(%error, "leavers could not preempt a run"),
                    }
                    continue;
                };
                let engine = engine.clone();
                let tasks = engine.tasks.clone();
                let failed_runs = failed_runs.clone();
                tasks.spawn(async move {
                    let error = match engine.run_incremental(held).await {
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
                    engine.cycles.count_failed_run();
                    let failures = failed_runs.fetch_add(1, Ordering::Relaxed) + 1;
                    let wait = FAILED_RUN_BACKOFF.delay(failures, 0.5);
                    tracing::warn!(%error, ?wait, "an automatic run failed; retrying");
                    tokio::select! {
                        () = engine.stopping.cancelled() => {}
                        () = tide_clock::sleep(wait) => {
                            engine.is_dirty.store(true, Ordering::Release);
                            engine.wake.notify_one();
                        }
                    }
                });
            }
        });
    }

    /// During a run: decides about changed accounts, and sends changes that end access at once, in
    /// a change set of their own. Changes of the run for the same people that were not sent yet are
    /// canceled and decided again afterwards. The loop calls it on each wake-up during a run.
    /// Returns the change set, if there was one.
    pub async fn preempt_for_leavers(self: &Arc<Self>) -> Result<Option<i64>, EngineError> {
        let sent = run_caught(self.send_leavers()).await;
        if sent.is_err() {
            self.reset_decision_cache().await;
        }
        sent
    }

    async fn send_leavers(self: &Arc<Self>) -> Result<Option<i64>, EngineError> {
        let _alone = self.decision_lock.lock().await;
        let Some(run) = lock(&self.current_run).as_ref().map(|(id, _)| *id) else {
            return Ok(None);
        };
        let Some((mut news, before)) = self.decide_on_leavers().await? else {
            return Ok(None);
        };
        tracing::debug!(
            records_read = news.cost.0,
            evaluated = news.cost.1,
            "decided leavers"
        );
        self.keep_outcomes(&news).await?;
        let in_step = self.hold_what_waits(&mut news, &before).await?;
        let theirs: HashSet<(i64, &str)> = news
            .population
            .links
            .iter()
            .map(|link| (link.account, link.identity.as_str()))
            .collect();
        self.save_known_identities(&news, in_step).await?;
        let outcome = &mut news.outcome;
        // The outcome also contains outstanding changes of others, which may have been sent since.
        let looked_at = news.about.take().unwrap_or_default().identities;
        let now = |change: &Change| {
            let linked = change.is_membership()
                || change
                    .account
                    .is_some_and(|id| theirs.contains(&(id, change.identity.as_str())));
            change.hold.is_none()
                && change.takes_away()
                && linked
                && looked_at.contains(&change.identity)
        };
        outcome.changes.retain(now);
        // Changes that the run sends itself, or has sent since these records were read, need no
        // preemption.
        let prints = fingerprints(&outcome.changes);
        let does = self.store.seen_to(run, &prints, true).await?;
        let new = outcome
            .changes
            .iter()
            .filter(|change| !does.contains(&change.fingerprint));
        let about = identities_of(new);
        if about.is_empty() {
            return Ok(None);
        }
        outcome
            .changes
            .retain(|change| about.contains(&change.identity));
        outcome
            .decided
            .retain(|line| line.identity.as_ref().is_some_and(|id| about.contains(id)));
        let accounts = sent_to(&outcome.changes);
        self.mark_sent(accounts.into_iter(), about.iter().cloned())
            .await;
        let about: Vec<String> = about.into_iter().collect();
        self.store
            .supersede_pending(about.clone(), self.now())
            .await?;
        self.wait_for_in_flight(about).await?;
        let done = self.store.seen_to(run, &prints, false).await?;
        news.outcome
            .changes
            .retain(|change| !done.contains(&change.fingerprint));
        let (id, mut queue) = self.queue_changes(news, IdentityUpdates::default()).await?;
        // The accounts may have been moved since the decision.
        queue.account_names.clear();
        let cancel = self.stopping.child_token();
        match self
            .carry_out_whole(id, Some(queue), None, SERVICE_PRINCIPAL, &cancel)
            .await
        {
            Ok(()) => {
                self.wake.notify_one();
                Ok(Some(id))
            }
            Err(error) => {
                self.fail_run(id, &error).await;
                Err(error)
            }
        }
    }

    /// Saves the identities that exist already.
    async fn save_known_identities(
        self: &Arc<Self>,
        news: &IncrementalDecision,
        in_step: Vec<i64>,
    ) -> Result<(), EngineError> {
        let known: HashSet<&str> = news
            .population
            .identities
            .iter()
            .map(|identity| identity.id.as_str())
            .collect();
        let mut identities = identity_updates(&news.population, &news.outcome).identities;
        identities.retain(|(identity, _)| known.contains(identity.id.as_str()));
        self.save_identity_updates(
            IdentityUpdates {
                in_step,
                identities,
                ..IdentityUpdates::default()
            },
            SERVICE_PRINCIPAL,
        )
        .await?;
        Ok(())
    }

    /// Waits for requests in flight about these identities.
    async fn wait_for_in_flight(self: &Arc<Self>, about: Vec<String>) -> Result<(), EngineError> {
        let _: () = for _ in 0..MAX_IN_FLIGHT_CHECKS {
            if self.store.on_the_wire(&about).await? == 0 {
                break;
            }
            self.clock.sleep(DEBOUNCE).await;
        };
        Ok(())
    }

    /// The next time after `now` at which a run is due: the end of a backoff, of a breaker or of a
    /// write blackout, or a due record.
    async fn next_timer(&self, now: Timestamp) -> Result<Option<Timestamp>, EngineError> {
        let mut due: Vec<Timestamp> = lock(&self.breakers)
            .values()
            .map(CircuitBreaker::open_until)
            .collect();
        due.extend(*lock(&self.next_retry));
        // Overdue records that could not be decided are retried after a delay.
        due.extend(lock(&self.next_due).map(|at| {
            if at > now {
                at
            } else {
                now.saturating_add(OVERDUE_RETRY_DELAY).unwrap_or(at)
            }
        }));
        due.extend(self.store.next_approval().await?);
        due.extend(self.next_unknown_create().await?);
        for row in self.store.at_work().await? {
            due.extend(
                Schedule::read(&row.schedule)
                    .quiet_at(now)
                    .map(|(until, _)| until),
            );
        }
        Ok(due.into_iter().filter(|at| *at > now).min())
    }

    /// Makes an incremental decision and sends its changes; stores nothing if there are none. The
    /// loop does this on each wake-up. Returns the run, if there was one.
    pub async fn run_once(self: &Arc<Self>) -> Result<Option<i64>, EngineError> {
        let held = tokio::select! {
            () = self.stopping.cancelled() => return Ok(None),
            held = self.run_lock.clone().lock_owned() => held,
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
            self.reset_decision_cache().await;
        }
        done
    }

    async fn run_incremental_inner(
        self: &Arc<Self>,
        held: tokio::sync::OwnedMutexGuard<()>,
    ) -> Result<Option<i64>, EngineError> {
        let begun = tide_clock::instant();
        // A run is followed by one more decision about its results; a run on new changes is no such
        // follow-up.
        lock(&self.changed_accounts).clear();
        let came = self.is_dirty.swap(false, Ordering::AcqRel);
        let again = self.needs_follow_up.swap(false, Ordering::AcqRel) && !came;
        self.run_generation.fetch_add(1, Ordering::AcqRel);
        self.end_old_answers().await?;
        let mut deciding = self.decision_lock.lock().await;
        let mut before = self.load_preconditions().await?;
        if !is_automatic(&before.at_work) {
            return Ok(None);
        }
        if before.lost {
            // The lock is released while systems are queried, so that leavers do not wait for their
            // answers.
            drop(deciding);
            self.resolve_unknown_creates().await?;
            deciding = self.decision_lock.lock().await;
            before = self.load_preconditions().await?;
        }
        let mut news = self.decide_incremental(&before, Purpose::Run).await?;
        tracing::debug!(full = news.about.is_none(), records_read = news.cost.0, evaluated = news.cost.1, duration = ?begun.elapsed(), "decided dirty records");
        self.keep_outcomes(&news).await?;
        let in_step = self.hold_what_waits(&mut news, &before).await?;
        // The list of decisions may have changed, even if nothing is sent.
        self.publish_event(Event::AttentionChanged);
        let sends = news
            .outcome
            .changes
            .iter()
            .any(|change| change.hold.is_none());
        let mut people = IdentityUpdates {
            in_step,
            ..identity_updates(&news.population, &news.outcome)
        };
        if !sends || !news.outcome.notifications.is_empty() {
            self.save_identity_updates(std::mem::take(&mut people), SERVICE_PRINCIPAL)
                .await?;
            self.record_notifications(&news.outcome).await?;
        }
        if !sends {
            return Ok(None);
        }
        // The run lists only the people of its changes; holds of others are stored separately.
        let outcome = &mut news.outcome;
        keep_sent(outcome);
        let about = identities_of(&outcome.changes);
        self.mark_sent(sent_to(&outcome.changes).into_iter(), about.into_iter())
            .await;
        let closes = outcome
            .changes
            .iter()
            .any(tide_core::decide::Change::takes_away);
        let steps = news.rules.set.has_steps();
        let (id, queue) = self.queue_changes(news, people).await?;
        let cancel = self.stopping.child_token();
        *lock(&self.current_run) = Some((id, cancel.clone()));
        drop(deciding);
        let done = self
            .carry_out_whole(id, Some(queue), None, SERVICE_PRINCIPAL, &cancel)
            .await;
        *lock(&self.current_run) = None;
        drop(held);
        if closes || steps || !again {
            // New accounts may release other changes, closed access is verified once more, and the
            // results are decided now instead of by the next change.
            self.needs_follow_up.store(true, Ordering::Release);
            self.wake.notify_one();
        }
        if let Err(error) = done {
            self.fail_run(id, &error).await;
            return Err(error);
        }
        Ok(Some(id))
    }

    async fn fail_run(&self, id: i64, error: &EngineError) {
        let text = error.to_string();
        self.finish_change_set(id, ChangeSetState::Failed, Some(&text), SERVICE_PRINCIPAL)
            .await;
    }

    /// Records external changes, requests approvals, and puts changes on hold. The preconditions
    /// tell which of these steps can be skipped. Returns the accounts whose drift has ended.
    async fn hold_what_waits(
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
            .record_external_changes(&rules.set, population, outcome, about.as_ref())
            .await?;
        if before.asked || !rules.set.approvals.is_empty() {
            self.ask_about(&rules.set, outcome, about.as_ref(), SERVICE_PRINCIPAL)
                .await?;
        }
        if !before.overrides.is_empty() {
            self.end_overrides(outcome, about.as_ref()).await?;
        }
        if before.in_doubt {
            self.hold_accepted(outcome).await?;
        }
        if before.outdated {
            self.hold_restored(outcome).await?;
        }
        self.hold_for_breaker_or_retry(outcome, before.failed)
            .await?;
        self.keep_holds(outcome, about.as_ref()).await?;
        Ok(in_step)
    }

    /// Stores the changes and the identities of a run in one commit, and claims the first changes.
    async fn queue_changes(
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
        let first = first_batch(&set.changes, self.accounts_at_a_time);
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
            .store
            .keep_run(people, set, first.clone(), self.now())
            .await?;
        self.publish_event(Event::ChangeSet {
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

    /// Stores identities and links. Call it before the changes are stored: a queue without them
    /// could not be resumed.
    pub(crate) async fn save_identities(
        &self,
        population: &Population,
        outcome: &Outcome,
        principal: &str,
    ) -> Result<(), EngineError> {
        self.save_identity_updates(identity_updates(population, outcome), principal)
            .await
    }

    pub(crate) async fn save_identity_updates(
        &self,
        people: IdentityUpdates,
        principal: &str,
    ) -> Result<(), EngineError> {
        if people.is_empty() {
            return Ok(());
        }
        Ok(self
            .store
            .keep_identities(people, principal, self.now())
            .await?)
    }

    /// Holds changes that failed and are unchanged, and changes of systems with an open breaker.
    /// Also sets the time of the next retry.
    async fn hold_for_breaker_or_retry(
        &self,
        outcome: &mut Outcome,
        any_failed: bool,
    ) -> Result<(), EngineError> {
        let now = self.now();
        let breakers: HashMap<String, CircuitBreaker> = lock(&self.breakers)
            .iter()
            .filter(|(_, breaker)| breaker.is_open(now))
            .map(|(system, breaker)| (system.clone(), breaker.clone()))
            .collect();
        let prints: Vec<&str> = outcome
            .changes
            .iter()
            .filter(|c| c.hold.is_none())
            .map(|c| c.fingerprint.as_str())
            .collect();
        let parked = if any_failed {
            self.store.parked_changes(&prints).await?
        } else {
            HashMap::new()
        };
        let mut again: Option<Timestamp> = None;
        for change in outcome
            .changes
            .iter_mut()
            .filter(|change| change.hold.is_none())
        {
            if let Some(breaker) = breakers.get(&change.system) {
                change.hold = Some(
                    Reason::new(ReasonKind::NoAnswer {
                        system: change.system.clone(),
                        error: breaker.error().to_string(),
                    })
                    .on_hold(HoldCause::RetriedLater),
                );
                continue;
            }
            let Some(parked) = parked.get(&change.fingerprint) else {
                continue;
            };
            if !parked.passing {
                change.hold = Some(
                    Reason::new(ReasonKind::Failed {
                        error: parked.error.clone(),
                    })
                    .on_hold(HoldCause::Failed),
                );
                continue;
            }
            let next = later(parked.at, RETRY_BACKOFF.delay(parked.times, 0.5));
            if next > now {
                again = Some(again.map_or(next, |other| other.min(next)));
                change.hold = Some(
                    Reason::new(ReasonKind::FailedTransiently {
                        error: parked.error.clone(),
                    })
                    .on_hold(HoldCause::RetriedLater),
                );
            }
        }
        *lock(&self.next_retry) = again;
        tide_core::decide::hold_later_steps(&mut outcome.changes);
        Ok(())
    }
}

/// Waits until records are due.
async fn wait_for_timer(engine: &Arc<Engine>) {
    let begun = engine.now();
    // The scan would compete with the run that was just started.
    tide_clock::sleep(TIMER_SCAN_DELAY).await;
    let next = match engine.next_timer(begun).await {
        Ok(next) => next,
        Err(error) => {
            tracing::warn!(%error, "could not find the next timer");
            None
        }
    };
    // Notices clock changes, a suspended machine, and a due time that a run has
    // set.
    loop {
        let now = engine.now();
        let due = lock(&engine.next_due).filter(|at| *at > begun);
        let next = next.into_iter().chain(due).min();
        if next.is_some_and(|at| at <= now) {
            break;
        }
        engine.cycles.count_timer_scan();
        let left = next.and_then(|at| Duration::try_from(at.duration_since(now)).ok());
        tide_clock::sleep(left.unwrap_or(CLOCK_POLL_INTERVAL).min(CLOCK_POLL_INTERVAL)).await;
    }
}
