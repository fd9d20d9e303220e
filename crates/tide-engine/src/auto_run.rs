//! Runs that nobody starts: on the news of systems that are followed, when a pause after a failure ends, and when a
//! window in which nothing is written is over.

use crate::dispatch::first_batch;
use crate::executor::PendingChanges;
use crate::incremental::{IncrementalDecision, is_automatic};
use crate::runs::kept;
use crate::schedule::Schedule;
use crate::supervise::caught;
use crate::{Engine, EngineError, Event, lock};
use jiff::{SignedDuration, Timestamp};
use std::collections::{HashMap, HashSet};
use std::sync::Arc;
use std::sync::atomic::{AtomicU32, Ordering};
use std::time::Duration;
use tide_core::decide::Change;
use tide_core::states::ChangeSetKind;
use tide_core::states::ChangeSetState;
use tide_core::{HoldCause, Outcome, Population, Reason};
use tide_store::{DecisionPreconditions, IdentityUpdates, NewChangeSet};

/// Who starts such a run.
pub(crate) const SERVICE_PRINCIPAL: &str = "the service";
/// What comes within this time is run on together, once something came within the time before: what comes alone waits for nothing.
const DEBOUNCE: Duration = Duration::from_millis(2);
const DEBOUNCE_WINDOW: Duration = Duration::from_millis(5);
/// After how long it is looked when it is due next. Until then what comes is run on, which sees to what is due as well.
const TIMER_SCAN_DELAY: Duration = Duration::from_millis(50);
/// How long what is due and could not be decided waits.
const OVERDUE_RETRY_DELAY: SignedDuration = SignedDuration::from_secs(30);
/// How often it is looked at the clock.
const CLOCK_POLL_INTERVAL: Duration = Duration::from_secs(1);
/// How often it is looked whether what is on the wire has arrived, before it is not waited for any more.
const MAX_IN_FLIGHT_CHECKS: usize = 1000;
/// The first and the longest pause before a change that failed is tried again, in seconds.
const RETRY_BACKOFF: (i64, i64) = (30, 3600);
/// The first and the longest pause before an automatic run that failed is repeated.
const FAILED_RUN_BACKOFF: (Duration, Duration) = (Duration::from_secs(1), Duration::from_secs(60));
/// The first and the longest rest of a system that does not answer, in seconds.
const BREAKER_BACKOFF: (i64, i64) = (5, 300);

/// A system that does not answer.
#[derive(Debug, Clone)]
pub(crate) struct OpenBreaker {
    /// How often it was found so.
    tries: u32,
    /// When it is tried again.
    until: Timestamp,
    /// What it failed with.
    error: String,
}

impl OpenBreaker {
    /// What it failed with.
    pub(crate) fn error(&self) -> &str {
        &self.error
    }
}

/// A pause that doubles, within limits, with some play so that not everything comes at once.
fn pause(limits: (i64, i64), tries: u32, play: f64) -> SignedDuration {
    let seconds = limits.0.saturating_mul(2i64.saturating_pow(tries.min(20))).min(limits.1);
    SignedDuration::from_secs_f64(seconds as f64 * play)
}

/// The accounts that changes are sent to. A group is not looked at again for one of its members.
pub(crate) fn sent_to<'c>(changes: impl IntoIterator<Item = &'c Change>) -> Vec<i64> {
    changes.into_iter().filter(|change| !change.is_membership()).filter_map(|change| change.account).collect()
}

/// What is to be kept of those about whom it was decided.
fn identity_updates(population: &Population, outcome: &Outcome) -> IdentityUpdates {
    let kept = kept(population, outcome);
    let before: HashMap<&str, &tide_core::Identity> = population.identities.iter().map(|i| (i.id.as_str(), i)).collect();
    let new = |(i, _): &&(tide_core::Identity, String)| {
        kept.contains(i.id.as_str()) && before.get(i.id.as_str()).is_none_or(|known| **known != *i)
    };
    IdentityUpdates {
        in_step: Vec::new(),
        identities: outcome.identities.iter().filter(new).cloned().collect(),
        links: outcome.links.clone(),
        member_names: outcome.member_names.clone(),
        reserved: outcome.reserved.iter().filter(|name| kept.contains(name.identity.as_str())).cloned().collect(),
    }
}

impl Engine {
    /// Notes that a system does not answer: its work waits, and that of others goes on.
    pub(crate) fn record_system_failure(&self, system: &str, said: &str) {
        let play = self.random_factor(0.9, 1.1);
        let mut down = lock(&self.open_breakers);
        let tries = down.get(system).map_or(0, |one| one.tries + 1);
        let until = self.now().saturating_add(pause(BREAKER_BACKOFF, tries, play)).unwrap_or(Timestamp::MAX);
        down.insert(system.to_owned(), OpenBreaker { tries, until, error: said.to_owned() });
    }

    /// Notes that a system answers.
    pub(crate) fn record_system_success(&self, system: &str) {
        lock(&self.open_breakers).remove(system);
    }

    /// Runs whenever something came, until the service stops.
    pub(crate) fn spawn_auto_run_loop(self: &Arc<Self>) {
        self.supervise("run scheduler", |engine| async move {
            // News that came while a run was on its way wait for its end; leavers among them do not.
            let mut waiting = false;
            let mut last = std::time::Instant::now();
            let failed_runs = Arc::new(AtomicU32::new(0));
            // What became due while nobody looked.
            engine.wake.notify_one();
            loop {
                let timer = async {
                    let begun = engine.now();
                    // What was just begun comes first: looking for the next timer is in its way.
                    tokio::time::sleep(TIMER_SCAN_DELAY).await;
                    let next = match engine.next_timer(begun).await {
                        Ok(next) => next,
                        Err(error) => {
                            tracing::warn!(%error, "the next timer could not be found");
                            None
                        }
                    };
                    // A clock that is set, a machine that slept and what a run found to be due are noticed in a moment.
                    loop {
                        let now = engine.now();
                        let due = lock(&engine.next_due).filter(|at| *at > begun);
                        let next = next.into_iter().chain(due).min();
                        if next.is_some_and(|at| at <= now) {
                            break;
                        }
                        let left = next.and_then(|at| Duration::try_from(at.duration_since(now)).ok());
                        tokio::time::sleep(left.unwrap_or(CLOCK_POLL_INTERVAL).min(CLOCK_POLL_INTERVAL)).await;
                    }
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
                    tokio::time::sleep(DEBOUNCE).await;
                }
                last = std::time::Instant::now();
                waiting = false;
                let Ok(held) = engine.run_lock.clone().try_lock_owned() else {
                    waiting = true;
                    match engine.preempt_for_leavers().await {
                        Ok(Some(id)) => tracing::info!(change_set = id, "leavers overtook a run"),
                        Ok(None) | Err(EngineError::NoRules) => {}
                        Err(error) => tracing::warn!(%error, "leavers could not overtake a run"),
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
                    // The records that this run took up are decided again after a pause: no other event may come for them.
                    let failures = failed_runs.fetch_add(1, Ordering::Relaxed);
                    let wait = FAILED_RUN_BACKOFF.0.saturating_mul(2u32.saturating_pow(failures)).min(FAILED_RUN_BACKOFF.1);
                    tracing::warn!(%error, ?wait, "an automatic run failed and is repeated");
                    tokio::select! {
                        () = engine.stopping.cancelled() => {}
                        () = tokio::time::sleep(wait) => {
                            engine.is_dirty.store(true, Ordering::Release);
                            engine.wake.notify_one();
                        }
                    }
                });
            }
        });
    }

    /// While a run is on its way: decides about what came, and sends at once what takes access away. What the run has not sent
    /// yet for the same people is taken back; it is decided again afterwards. The service does so by itself whenever something
    /// came. Returns the change set, if there was one.
    pub async fn preempt_for_leavers(self: &Arc<Self>) -> Result<Option<i64>, EngineError> {
        let sent = caught(self.send_leavers()).await;
        if sent.is_err() {
            self.reset_decision_cache().await;
        }
        sent
    }

    async fn send_leavers(self: &Arc<Self>) -> Result<Option<i64>, EngineError> {
        let _alone = self.decision_lock.lock().await;
        let Some(run) = lock(&self.current_run).as_ref().map(|(id, _)| *id) else { return Ok(None) };
        let Some((mut news, before)) = self.decide_on_leavers().await? else { return Ok(None) };
        tracing::debug!(read = news.cost.0, evaluated = news.cost.1, "decided on leavers");
        let in_step = self.hold_what_waits(&mut news, &before).await?;
        // Who is new waits for the next run, which sees all that came.
        let known: HashSet<&str> = news.population.identities.iter().map(|identity| identity.id.as_str()).collect();
        let mut identities = identity_updates(&news.population, &news.outcome).identities;
        identities.retain(|(identity, _)| known.contains(identity.id.as_str()));
        let theirs: HashSet<(i64, &str)> = news.population.links.iter().map(|link| (link.account, link.identity.as_str())).collect();
        self.save_identity_updates(IdentityUpdates { in_step, identities, ..IdentityUpdates::default() }, SERVICE_PRINCIPAL).await?;
        let outcome = &mut news.outcome;
        // What was decided about others before stands in it too, and may have been sent since.
        let looked_at = news.about.take().unwrap_or_default().identities;
        let now = |change: &Change| {
            let linked = change.is_membership() || change.account.is_some_and(|id| theirs.contains(&(id, change.identity.as_str())));
            change.hold.is_none() && change.takes_away() && linked && looked_at.contains(&change.identity)
        };
        outcome.changes.retain(now);
        // What the run does itself, or did since these records were read, needs nobody to overtake it.
        let prints: Vec<String> = outcome.changes.iter().map(|change| change.fingerprint.clone()).collect();
        let does = self.store.seen_to(run, &prints, true).await?;
        let new = outcome.changes.iter().filter(|change| !does.contains(&change.fingerprint));
        let about: HashSet<String> = new.map(|change| change.identity.clone()).filter(|id| !id.is_empty()).collect();
        if about.is_empty() {
            return Ok(None);
        }
        outcome.changes.retain(|change| about.contains(&change.identity));
        outcome.decided.retain(|line| line.identity.as_ref().is_some_and(|id| about.contains(id)));
        let accounts = sent_to(&outcome.changes);
        self.mark_sent(accounts.into_iter(), about.iter().cloned()).await;
        let about: Vec<String> = about.into_iter().collect();
        self.store.supersede_pending(about.clone(), self.now()).await?;
        // What is on the wire already comes first: within one account the order is kept.
        for _ in 0..MAX_IN_FLIGHT_CHECKS {
            if self.store.on_the_wire(&about).await? == 0 {
                break;
            }
            self.clock.sleep(DEBOUNCE).await;
        }
        let done = self.store.seen_to(run, &prints, false).await?;
        news.outcome.changes.retain(|change| !done.contains(&change.fingerprint));
        let (id, mut queue) = self.queue(news, IdentityUpdates::default()).await?;
        // They may have been moved since it was decided about them.
        queue.account_names.clear();
        let cancel = self.stopping.child_token();
        match self.carry_out_whole(id, Some(queue), None, SERVICE_PRINCIPAL, &cancel).await {
            Ok(()) => {
                self.wake.notify_one();
                Ok(Some(id))
            }
            Err(error) => {
                self.finish(id, ChangeSetState::Failed, Some(&error.to_string()), SERVICE_PRINCIPAL).await;
                Err(error)
            }
        }
    }

    /// When something is due by itself, after a moment: a pause that ends, a window in which nothing is written that ends.
    async fn next_timer(&self, now: Timestamp) -> Result<Option<Timestamp>, EngineError> {
        let mut due: Vec<Timestamp> = lock(&self.open_breakers).values().map(|down| down.until).collect();
        due.extend(*lock(&self.next_retry));
        // What is due already and could not be decided is tried again, not at once.
        due.extend(lock(&self.next_due).map(|at| if at > now { at } else { now.saturating_add(OVERDUE_RETRY_DELAY).unwrap_or(at) }));
        due.extend(self.store.next_approval().await?);
        due.extend(self.next_unknown_create().await?);
        for row in self.store.at_work().await? {
            due.extend(Schedule::read(&row.schedule).quiet_at(now).map(|(until, _)| until));
        }
        Ok(due.into_iter().filter(|at| *at > now).min())
    }

    /// Decides on what is known, and sends what is to be sent; nothing is kept when there is nothing. The service does so by
    /// itself whenever something came. Returns the run, if there was one.
    pub async fn run_once(self: &Arc<Self>) -> Result<Option<i64>, EngineError> {
        let held = tokio::select! {
            () = self.stopping.cancelled() => return Ok(None),
            held = self.run_lock.clone().lock_owned() => held,
        };
        self.run_incremental(held).await
    }

    async fn run_incremental(self: &Arc<Self>, held: tokio::sync::OwnedMutexGuard<()>) -> Result<Option<i64>, EngineError> {
        let done = caught(self.run_incremental_inner(held)).await;
        if done.is_err() {
            // What was decided may not be kept: everybody is looked at next time.
            self.reset_decision_cache().await;
        }
        done
    }

    async fn run_incremental_inner(self: &Arc<Self>, held: tokio::sync::OwnedMutexGuard<()>) -> Result<Option<i64>, EngineError> {
        let begun = std::time::Instant::now();
        // What a run made is looked at by the next one, once; what came meanwhile is no such look.
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
            // Systems are asked meanwhile: leavers do not wait for their answers.
            drop(deciding);
            self.resolve_unknown_creates().await?;
            deciding = self.decision_lock.lock().await;
            before = self.load_preconditions().await?;
        }
        let mut news = self.decide_incremental(&before).await?;
        tracing::debug!(whole = news.about.is_none(), read = news.cost.0, evaluated = news.cost.1, took = ?begun.elapsed(), "decided on news");
        let in_step = self.hold_what_waits(&mut news, &before).await?;
        // What waits for a person may be other than before, also when nothing is sent.
        self.tell(Event::Noticed);
        let sends = news.outcome.changes.iter().any(|change| change.hold.is_none());
        let mut people = IdentityUpdates { in_step, ..identity_updates(&news.population, &news.outcome) };
        if !sends || !news.outcome.notifications.is_empty() {
            self.save_identity_updates(std::mem::take(&mut people), SERVICE_PRINCIPAL).await?;
            self.record_notifications(&news.outcome).await?;
        }
        if !sends {
            return Ok(None);
        }
        // It tells of those it is about: what is held for others was told by the run or preview before.
        let outcome = &mut news.outcome;
        outcome.changes.retain(|change| change.hold.is_none());
        let about: HashSet<&str> = outcome.changes.iter().map(|change| change.identity.as_str()).collect();
        outcome.decided.retain(|line| line.identity.as_deref().is_some_and(|id| about.contains(id)));
        let accounts = sent_to(&outcome.changes);
        let identities: Vec<String> = about.iter().filter(|id| !id.is_empty()).map(|id| (*id).to_owned()).collect();
        self.mark_sent(accounts.into_iter(), identities.into_iter()).await;
        let closes = outcome.changes.iter().any(tide_core::decide::Change::takes_away);
        let steps = news.rules.set.has_steps();
        let (id, queue) = self.queue(news, people).await?;
        let cancel = self.stopping.child_token();
        *lock(&self.current_run) = Some((id, cancel.clone()));
        drop(deciding);
        let done = self.carry_out_whole(id, Some(queue), None, SERVICE_PRINCIPAL, &cancel).await;
        *lock(&self.current_run) = None;
        drop(held);
        if closes || steps || !again {
            // What was made may be what something else waits for; whether a way in is closed is looked at once more; and what
            // became of it all is not left for the next change to wait for.
            self.needs_follow_up.store(true, Ordering::Release);
            self.wake.notify_one();
        }
        if let Err(error) = done {
            self.finish(id, ChangeSetState::Failed, Some(&error.to_string()), SERVICE_PRINCIPAL).await;
            return Err(error);
        }
        Ok(Some(id))
    }

    /// Asks and tells about what was decided, and holds what is to wait. Most of what could be in the way is not there at all.
    /// The accounts that are as they should be again.
    async fn hold_what_waits(
        self: &Arc<Self>,
        news: &mut IncrementalDecision,
        before: &DecisionPreconditions,
    ) -> Result<Vec<i64>, EngineError> {
        let IncrementalDecision { rules, population, outcome, about, .. } = news;
        let in_step = self.record_external_changes(&rules.set, population, outcome, about.as_ref()).await?;
        if before.asked || !rules.set.approvals.is_empty() {
            self.ask_about(&rules.set, outcome, about.as_ref(), SERVICE_PRINCIPAL).await?;
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
        self.hold_for_breaker_or_retry(outcome, before.failed).await?;
        self.keep_holds(outcome, about.as_ref()).await?;
        Ok(in_step)
    }

    /// Keeps what is to be sent, with whom it is about.
    async fn queue(&self, news: IncrementalDecision, people: IdentityUpdates) -> Result<(i64, PendingChanges), EngineError> {
        let IncrementalDecision { rules, population, outcome, reaches, .. } = news;
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
        let to: HashSet<i64> = set.changes.iter().filter_map(|change| change.account).collect();
        let called = population.accounts.into_iter().filter(|account| to.contains(&account.id));
        let called = called.map(|account| (account.id, (account.key, account.name))).collect();
        let (id, changes) = self.store.keep_run(people, set, first.clone(), self.now()).await?;
        self.tell(Event::ChangeSet { id, state: ChangeSetState::Running });
        let marked = changes.iter().enumerate().filter(|(place, _)| first.contains(place)).map(|(_, row)| row.id).collect();
        Ok((id, PendingChanges { changes, claimed: marked, account_names: called, reaches }))
    }

    /// Identities and links first: a queue without them could not be carried on with.
    pub(crate) async fn save_identities(&self, population: &Population, outcome: &Outcome, principal: &str) -> Result<(), EngineError> {
        self.save_identity_updates(identity_updates(population, outcome), principal).await
    }

    pub(crate) async fn save_identity_updates(&self, people: IdentityUpdates, principal: &str) -> Result<(), EngineError> {
        if people.is_empty() {
            return Ok(());
        }
        Ok(self.store.keep_identities(people, principal, self.now()).await?)
    }

    /// Holds what would fail again: changes that failed and are the same, and those of systems that do not answer.
    async fn hold_for_breaker_or_retry(&self, outcome: &mut Outcome, any_failed: bool) -> Result<(), EngineError> {
        let now = self.now();
        let down: HashMap<String, OpenBreaker> =
            lock(&self.open_breakers).iter().filter(|(_, one)| one.until > now).map(|(n, d)| (n.clone(), d.clone())).collect();
        let prints: Vec<&str> = outcome.changes.iter().filter(|c| c.hold.is_none()).map(|c| c.fingerprint.as_str()).collect();
        let parked = if any_failed { self.store.parked(&prints).await? } else { HashMap::new() };
        let mut again: Option<Timestamp> = None;
        for change in outcome.changes.iter_mut().filter(|change| change.hold.is_none()) {
            if let Some(down) = down.get(&change.system) {
                change.hold = Some(
                    Reason::new(format!("{} does not answer ({}): it is tried again by itself", change.system, down.error))
                        .on_hold(HoldCause::RetriedLater),
                );
                continue;
            }
            let Some(parked) = parked.get(&change.fingerprint) else { continue };
            if !parked.passing {
                change.hold = Some(
                    Reason::new(format!("parked: {}; it is tried again by hand, or when its data change", parked.error))
                        .on_hold(HoldCause::Failed),
                );
                continue;
            }
            let seconds = RETRY_BACKOFF.0.saturating_mul(2i64.saturating_pow(parked.times.saturating_sub(1).min(20))).min(RETRY_BACKOFF.1);
            let next = parked.at.saturating_add(SignedDuration::from_secs(seconds)).unwrap_or(Timestamp::MAX);
            if next > now {
                again = Some(again.map_or(next, |other| other.min(next)));
                change.hold =
                    Some(Reason::new(format!("failed, and is tried again by itself: {}", parked.error)).on_hold(HoldCause::RetriedLater));
            }
        }
        *lock(&self.next_retry) = again;
        tide_core::decide::hold_later_steps(&mut outcome.changes);
        Ok(())
    }
}
