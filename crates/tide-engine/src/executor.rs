//! Executes the changes of a run: every change is stored before it is sent, and its result
//! afterwards; leavers first, in order within one account, several accounts concurrently.

use crate::backoff::Backoff;
use crate::dispatch::{
    AccountBatch, Confirmed, SystemContexts, SystemDispatcher, WorkerGuard, by_account,
    has_pending_references, in_order, settled,
};
use crate::refusals::{RefusalScope, Sent};
use crate::{Engine, EngineError, Event};
use std::collections::{BTreeMap, HashMap, HashSet, VecDeque};
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::Duration;
use tide_connect::{ConnectError, FailureClass, Settings, Write};
use tide_core::compare::ValueChange;
use tide_core::decide::Change;
use tide_core::memberships::member_value;
use tide_core::model::{Account, Observed};
use tide_core::references::fold_reference;
use tide_core::states::{ChangeKind, ChangeSetState, ChangeState};
use tide_core::{Schema, Value};
use tide_store::{ChangeResult, ChangeRow, StoreError};
use tokio::sync::{mpsc, oneshot};
use tokio_util::sync::CancellationToken;
use zeroize::Zeroizing;

/// How many accounts of one system are written concurrently, unless its connector knows better.
pub(crate) const AT_A_TIME: usize = 16;
/// Maximum number of results that are stored in one commit.
const SETTLED: usize = 512;
/// Attempts before a change is marked as failed.
const ATTEMPTS: u32 = 4;
/// Failures in a row after which the circuit breaker of a system opens.
const IN_A_ROW: usize = 4;
/// Delay before a change is sent again.
const SEND_BACKOFF: Backoff =
    Backoff::new(Duration::from_millis(250), Duration::from_secs(8)).with_jitter(0.25);
/// Attributes by which an account is searched for after the answer to its creation was lost.
const PROBES: [&str; 5] = ["externalId", "userName", "employeeNumber", "uid", "mail"];

/// The changes of a run, with the data that need not be read back.
#[derive(Default)]
pub(crate) struct PendingChanges {
    pub(crate) changes: Vec<ChangeRow>,
    /// Changes that are claimed already.
    pub(crate) claimed: HashSet<i64>,
    /// Keys and names of the accounts at the time of the decision.
    pub(crate) account_names: HashMap<i64, (String, String)>,
    pub(crate) reaches: Arc<SystemContexts>,
}

/// The progress of a run, shared by its workers, with the data of its queue.
pub(crate) struct RunProgress {
    id: i64,
    claimed: HashSet<i64>,
    account_names: HashMap<i64, (String, String)>,
    reaches: Arc<SystemContexts>,
    total: AtomicUsize,
    done: AtomicUsize,
    failed: AtomicUsize,
    /// Number of changes that were not sent because writes were stopped.
    pub(crate) taken_back: AtomicUsize,
    begun: tide_clock::Instant,
}

impl RunProgress {
    /// Counts a part of a change that failed separately.
    pub(crate) fn add_failed(&self) {
        self.total.fetch_add(1, Ordering::Relaxed);
        self.failed.fetch_add(1, Ordering::Relaxed);
    }
}

/// Waits until all workers have ended. Sets `fault` to the error of a worker, if there is one.
async fn join_workers(
    workers: &mut tokio::task::JoinSet<Result<(), EngineError>>,
    fault: &mut Option<EngineError>,
) {
    while let Some(ended) = workers.join_next().await {
        match ended {
            Ok(Ok(())) => {}
            // Unwritable records are the cause of the other errors.
            Ok(Err(error))
                if !matches!(
                    fault,
                    Some(EngineError::Store(StoreError::Unwritable { .. }))
                ) =>
            {
                *fault = Some(error)
            }
            Ok(Err(_)) => {}
            Err(error) => *fault = Some(EngineError::Internal(format!("a worker ended: {error}"))),
        }
    }
}

/// Why a membership is not granted.
pub(crate) const MEMBER_GONE: &str = "the account of the member no longer exists";

/// The member of a membership, resolved at sending time.
#[derive(Debug, Default)]
pub(crate) struct Resolved {
    /// The key of the member's account and its present name; `None` where the system refers by
    /// keys.
    pub(crate) member: Option<(String, String)>,
    /// The values differ from the decided ones.
    pub(crate) is_changed: bool,
    /// The member's account does not exist any more.
    pub(crate) is_gone: bool,
}

/// The attributes of a change whose lists are merged with values of others.
pub(crate) fn merged_lists(share: &SystemDispatcher, change: &Change) -> Vec<String> {
    let Some(types) = share.rules.get(&change.object) else {
        return Vec::new();
    };
    change
        .values
        .iter()
        .map(|value| &value.attribute)
        .filter(|name| types.merges(name))
        .cloned()
        .collect()
}

/// The position of a change among those of its account.
#[derive(Debug, Clone, Copy)]
pub(crate) struct QueuePosition {
    /// The change is claimed already.
    pub(crate) is_claimed: bool,
    /// No other change of its account follows.
    pub(crate) is_last: bool,
    /// The account was renamed just before.
    pub(crate) is_renamed: bool,
}

/// The outcome of sending a change.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum SendOutcome {
    Done,
    /// It could not be sent, or its outcome is unknown.
    Failed,
    /// The system refused it, or a part of it.
    Refused,
    /// The system accepted it and carries it out later.
    Accepted,
    /// It was not sent because writes to the system are stopped.
    Stopped,
}

/// Values that are sent and never stored with the change: passwords and hashes.
fn secret_texts(values: &[ValueChange], change: &Change) -> Vec<Zeroizing<String>> {
    let is_kept = |value: &&ValueChange| change.values.contains(value);
    let sent = values
        .iter()
        .filter(|value| !is_kept(value))
        .flat_map(|value| &value.after);
    sent.map(|value| Zeroizing::new(value.to_string()))
        .collect()
}

impl Engine {
    /// Sends the remaining changes of a run, and ends it.
    pub(crate) async fn carry_out(
        self: &Arc<Self>,
        id: i64,
        queue: Option<PendingChanges>,
        note: Option<String>,
        principal: &str,
        cancel: &CancellationToken,
    ) -> Result<(), EngineError> {
        let PendingChanges {
            changes,
            claimed: marked,
            account_names: called,
            reaches,
        } = match queue {
            Some(queue) => queue,
            None => PendingChanges {
                changes: self.store.unfinished_changes(id).await?,
                ..PendingChanges::default()
            },
        };
        let tally = Arc::new(RunProgress {
            id,
            claimed: marked,
            account_names: called,
            reaches,
            total: AtomicUsize::new(changes.len()),
            done: AtomicUsize::new(0),
            failed: AtomicUsize::new(0),
            taken_back: AtomicUsize::new(0),
            begun: tide_clock::instant(),
        });
        let fault = self.send(changes, &tally, cancel, principal).await;
        if let Some(fault) = fault {
            return Err(fault);
        }
        if self.stopping.is_cancelled() {
            // The queue stays: the next start resumes it.
            return Ok(());
        }
        if cancel.is_cancelled() {
            for left in self.store.unfinished_changes(id).await? {
                self.store
                    .record_not_done(
                        left.id,
                        ChangeState::Canceled,
                        "the run was canceled before this was sent",
                        "run again",
                        self.now(),
                    )
                    .await?;
            }
            self.finish_change_set(id, ChangeSetState::Canceled, note.as_deref(), principal)
                .await;
            return Ok(());
        }
        let note = match tally.taken_back.load(Ordering::Relaxed) {
            0 => note,
            count => {
                let plural = if count == 1 {
                    "change was"
                } else {
                    "changes were"
                };
                let said = format!(
                    "{count} {plural} not sent because writes were stopped: they are decided again when writes are possible."
                );
                Some(note.map_or(said.clone(), |note| format!("{note} {said}")))
            }
        };
        self.finish_change_set(id, ChangeSetState::Done, note.as_deref(), principal)
            .await;
        Ok(())
    }

    /// Sends changes, each system independently. Returns the error of a worker, if there is one.
    async fn send(
        self: &Arc<Self>,
        changes: Vec<ChangeRow>,
        tally: &Arc<RunProgress>,
        cancel: &CancellationToken,
        principal: &str,
    ) -> Option<EngineError> {
        let mut by_system: BTreeMap<String, Vec<ChangeRow>> = BTreeMap::new();
        for change in changes {
            by_system
                .entry(change.change.system.clone())
                .or_default()
                .push(change);
        }
        let mut systems = tokio::task::JoinSet::new();
        let mut fault = None;
        for (system, changes) in by_system {
            let (engine, tally, cancel, principal) = (
                self.clone(),
                tally.clone(),
                cancel.clone(),
                principal.to_owned(),
            );
            systems.spawn(async move {
                for round in in_order(changes) {
                    engine
                        .send_round(&system, round, &tally, &cancel, &principal)
                        .await?;
                }
                Ok(())
            });
            if self.accounts_at_a_time == 1 {
                // Sequential mode, also across systems: the order is deterministic.
                join_workers(&mut systems, &mut fault).await;
            }
        }
        join_workers(&mut systems, &mut fault).await;
        fault
    }

    /// Sends the changes of one system, several accounts concurrently. Their dependencies must have
    /// been sent before.
    async fn send_round(
        self: &Arc<Self>,
        system: &str,
        changes: Vec<ChangeRow>,
        tally: &Arc<RunProgress>,
        cancel: &CancellationToken,
        principal: &str,
    ) -> Result<(), EngineError> {
        let mut share = match self.share_of(system, &tally.reaches).await {
            Ok(share) => share,
            Err(error) => return self.park_all(&changes, &error.to_string(), tally).await,
        };
        let (confirmed, incoming) = mpsc::channel(SETTLED * 2);
        share.confirmed = Some(confirmed);
        let share = Arc::new(share);
        let mut workers = tokio::task::JoinSet::new();
        let (engine, settling) = (self.clone(), tally.clone());
        workers.spawn(async move { engine.settle_confirmed(incoming, &settling).await });
        let queue = by_account(changes);
        let is_marked = |changes: &Vec<ChangeRow>| {
            changes
                .first()
                .is_some_and(|change| tally.claimed.contains(&change.id))
        };
        for place in 0..self.at_a_time(&share).min(queue.len()) {
            let (engine, sender, tally, cancel, principal) = (
                self.clone(),
                WorkerGuard::of(&share),
                tally.clone(),
                cancel.clone(),
                principal.to_owned(),
            );
            workers.spawn(async move {
                engine
                    .run_worker(place, sender.share(), &tally, &cancel, &principal)
                    .await
            });
        }
        if queue.iter().all(is_marked) {
            share.ready.all(
                queue
                    .into_iter()
                    .map(|changes| AccountBatch {
                        changes,
                        is_claimed: true,
                    })
                    .collect(),
            );
            // The task that stores results ends once no worker can confirm any more.
            drop(share);
        } else {
            let (engine, tally) = (self.clone(), tally.clone());
            workers.spawn(async move { engine.mark_ahead(&share, queue, &tally.claimed).await });
        }
        let mut fault = None;
        join_workers(&mut workers, &mut fault).await;
        fault.map_or(Ok(()), Err)
    }

    async fn park_all(
        &self,
        changes: &[ChangeRow],
        why: &str,
        tally: &RunProgress,
    ) -> Result<(), EngineError> {
        for change in changes {
            self.store
                .record_failed(
                    change.id,
                    &format!("not sent: {why}"),
                    "repair this, and run again",
                    true,
                    self.now(),
                )
                .await?;
            tally.failed.fetch_add(1, Ordering::Relaxed);
        }
        self.report_change(tally);
        Ok(())
    }

    async fn run_worker(
        &self,
        place: usize,
        share: &SystemDispatcher,
        tally: &RunProgress,
        cancel: &CancellationToken,
        principal: &str,
    ) -> Result<(), EngineError> {
        while let Some(AccountBatch {
            changes,
            is_claimed: marked,
        }) = share.ready.next(place).await
        {
            if cancel.is_cancelled()
                || !self
                    .execute_account(share, changes, marked, tally, cancel, principal)
                    .await?
            {
                return Ok(());
            }
        }
        Ok(())
    }

    /// Sends the changes of one account in order. Returns `false` if the run was canceled.
    async fn execute_account(
        &self,
        share: &SystemDispatcher,
        changes: Vec<ChangeRow>,
        mut first_is_marked: bool,
        tally: &RunProgress,
        cancel: &CancellationToken,
        principal: &str,
    ) -> Result<bool, EngineError> {
        let mut changes = VecDeque::from(changes);
        let mut renamed = false;
        while let Some(change) = changes.pop_front() {
            let down = share.down.lock().await.clone();
            if let Some(error) = down {
                changes.push_front(change);
                self.park_all(
                    changes.make_contiguous(),
                    &format!(
                        "{} was skipped for the rest of this run: {error}",
                        share.row.name
                    ),
                    tally,
                )
                .await?;
                break;
            }
            if cancel.is_cancelled() {
                return Ok(false);
            }
            // Changes with an unknown outcome are searched for; this writes nothing.
            if let Some(stop) = share
                .stopped(change.change.object)
                .filter(|_| change.state == ChangeState::Queued)
            {
                changes.push_front(change);
                self.cancel_rest(changes, &stop.message, tally).await?;
                break;
            }
            if let Some((why, remedy)) = self.refusal_limit_reached(share, &change.change).await? {
                self.store
                    .record_failed(change.id, &why, &remedy, false, self.now())
                    .await?;
                tally.failed.fetch_add(1, Ordering::Relaxed);
                self.report_change(tally);
                changes = self
                    .continue_after_refusal(changes, change.change.kind, tally)
                    .await?;
                continue;
            }
            let marked = std::mem::take(&mut first_is_marked);
            let change = match self
                .send_membership_batch(share, change, &mut changes, tally, principal)
                .await?
            {
                Some(change) => change,
                None => continue,
            };
            let kind = change.change.kind;
            let turn = QueuePosition {
                is_claimed: marked,
                is_last: changes.is_empty(),
                is_renamed: renamed,
            };
            match self
                .execute_change(share, change, turn, tally, principal)
                .await?
            {
                SendOutcome::Done => {
                    renamed |= matches!(kind, ChangeKind::Rename | ChangeKind::Move)
                }
                SendOutcome::Refused => {
                    changes = self.continue_after_refusal(changes, kind, tally).await?;
                }
                SendOutcome::Failed => {
                    // Within an account, changes after a failed one wait.
                    self.park_all(
                        changes.make_contiguous(),
                        "an earlier change of the same account failed",
                        tally,
                    )
                    .await?;
                    break;
                }
                SendOutcome::Accepted => {
                    let why = format!(
                        "{} has queued an earlier change of the same account",
                        share.row.name
                    );
                    for change in &changes {
                        let next = "decided again when that is done";
                        self.store
                            .record_not_done(
                                change.id,
                                ChangeState::Canceled,
                                &why,
                                next,
                                self.now(),
                            )
                            .await?;
                    }
                    break;
                }
                SendOutcome::Stopped => {
                    // Within an account, later changes wait too, even if writes are resumed by now.
                    self.cancel_rest(changes, "not sent: writes were stopped before an earlier change of the same account", tally).await?;
                    break;
                }
            }
        }

        Ok(true)
    }

    /// The changes of an account that are independent of a refused one; the others wait.
    async fn continue_after_refusal(
        &self,
        changes: VecDeque<ChangeRow>,
        refused: ChangeKind,
        tally: &RunProgress,
    ) -> Result<VecDeque<ChangeRow>, EngineError> {
        let (alone, waiting): (Vec<ChangeRow>, Vec<ChangeRow>) = changes
            .into_iter()
            .partition(|row| row.change.is_independent_of_refused(refused));
        self.park_all(
            &waiting,
            "an earlier change of the same account failed",
            tally,
        )
        .await?;
        Ok(alone.into())
    }

    /// Stores results, all that have arrived in one commit, until the channel closes.
    async fn settle_confirmed(
        &self,
        mut incoming: mpsc::Receiver<Confirmed>,
        tally: &RunProgress,
    ) -> Result<(), EngineError> {
        let mut some: Vec<Confirmed> = Vec::new();
        while incoming.recv_many(&mut some, SETTLED).await > 0 {
            let (batch, waiting): (Vec<ChangeResult>, Vec<_>) = some
                .drain(..)
                .map(|one| (one.settling, (one.password, one.settled)))
                .unzip();
            let batch = Arc::new(batch);
            let accounts = match self
                .store
                .settle_all(batch.clone(), self.monotonic_now())
                .await
            {
                // One result that cannot be stored must not block the others.
                Err(error)
                    if batch.len() > 1
                        && !matches!(error, StoreError::Unwritable { .. } | StoreError::Closed) =>
                {
                    let mut accounts = Vec::with_capacity(batch.len());
                    for one in batch.iter() {
                        accounts.extend(
                            self.store
                                .settle_all(Arc::new(vec![one.clone()]), self.monotonic_now())
                                .await?,
                        );
                    }
                    accounts
                }
                other => other?,
            };
            for ((settling, (password, settled)), account) in
                batch.iter().zip(waiting).zip(accounts)
            {
                if password {
                    let row = &settling.row;
                    self.store
                        .first_password_set(row.id, account, &row.change, self.now())
                        .await?;
                }
                tally.done.fetch_add(1, Ordering::Relaxed);
                // The receiver may have given up.
                let _ = settled.send(());
            }
            self.report_change(tally);
        }
        Ok(())
    }

    /// Resolves the accounts to which a change refers. Returns `false` if its own account does not
    /// exist, because its creation failed.
    pub(crate) async fn resolve_pending_references(
        &self,
        row: &mut ChangeRow,
        schema: Option<&Schema>,
    ) -> Result<bool, EngineError> {
        let change = &mut row.change;
        if change.account.is_none() && change.kind != ChangeKind::Create {
            let Some(own) = self
                .store
                .account_of(&change.identity, &change.system)
                .await?
            else {
                return Ok(false);
            };
            change.account = Some(own.id);
        }
        let by_name = schema.is_some_and(|schema| schema.refers_by_name);
        let membership = change.is_membership();
        for value in &mut change.values {
            for later in std::mem::take(&mut value.later) {
                match self
                    .store
                    .account_of(&later.identity, &change.system)
                    .await?
                {
                    Some(account) => {
                        value
                            .after
                            .push(member_value(&value.attribute, &account, by_name))
                    }
                    // The target requires the referenced account first.
                    None if change.kind == ChangeKind::Create => return Ok(false),
                    None => {}
                }
            }
        }
        // The removal of a former name has no value after it.
        change
            .values
            .retain(|value| value.after != value.before && (membership || !value.after.is_empty()));
        Ok(!change.values.is_empty())
    }

    /// Replaces the names of members by the present names of their accounts: another change may
    /// have renamed them since the decision. Nothing is done where a system refers by keys.
    pub(crate) async fn resolve_members(
        &self,
        share: &SystemDispatcher,
        rows: &mut [&mut ChangeRow],
    ) -> Result<Vec<Resolved>, EngineError> {
        let by_name = |row: &ChangeRow| {
            share
                .row
                .schema
                .get(&row.change.object)
                .is_some_and(|schema| schema.refers_by_name)
        };
        let identities: Vec<&str> = rows
            .iter()
            .filter(|row| by_name(row))
            .map(|row| row.change.identity.as_str())
            .collect();
        if identities.is_empty() {
            return Ok(rows.iter().map(|_| Resolved::default()).collect());
        }
        let mut accounts: HashMap<String, Vec<Account>> = HashMap::new();
        for (identity, account) in self
            .store
            .member_accounts(&identities, &share.row.name)
            .await?
        {
            accounts.entry(identity).or_default().push(account);
        }
        let former = |row: &ChangeRow| {
            row.change
                .values
                .iter()
                .skip(1)
                .flat_map(|value| &value.before)
                .map(Value::to_string)
                .collect()
        };
        let former: Vec<Vec<String>> = rows.iter().map(|row| former(row)).collect();
        let former: Vec<String> = former.into_iter().flatten().collect();
        let in_use = if former.is_empty() {
            Vec::new()
        } else {
            self.store.names_in_use(&former, &share.row.name).await?
        };
        Ok(rows
            .iter_mut()
            .map(|row| resolve_member(row, &in_use, &accounts))
            .collect())
    }

    /// Cancels a change that cannot be sent any more.
    async fn cancel_change(
        &self,
        id: i64,
        why: &str,
        next: &str,
        tally: &RunProgress,
    ) -> Result<SendOutcome, EngineError> {
        self.store
            .record_not_done(id, ChangeState::Canceled, why, next, self.now())
            .await?;
        self.report_change(tally);
        Ok(SendOutcome::Done)
    }

    /// Sends one change until its result is known, or until the system has accepted it.
    async fn execute_change(
        &self,
        share: &SystemDispatcher,
        mut row: ChangeRow,
        turn: QueuePosition,
        tally: &RunProgress,
        principal: &str,
    ) -> Result<SendOutcome, EngineError> {
        let QueuePosition {
            is_claimed: mut marked,
            is_last: last,
            ..
        } = turn;
        let object = row.change.object;
        let mut filled_in = has_pending_references(&row);
        if filled_in
            && !self
                .resolve_pending_references(&mut row, share.row.schema.get(&object))
                .await?
        {
            let why = "the account that it depends on was not created";
            return self
                .cancel_change(row.id, why, "the next run retries it", tally)
                .await;
        }
        let mut member = None;
        if row.change.is_membership() {
            let resolved = self
                .resolve_members(share, &mut [&mut row])
                .await?
                .pop()
                .unwrap_or_default();
            if resolved.is_gone {
                return self
                    .cancel_change(row.id, MEMBER_GONE, "the next run retries it", tally)
                    .await;
            }
            filled_in |= resolved.is_changed;
            member = resolved.member;
        }
        let password = self.first_password(share, &row).await?;
        let change = &row.change;
        let account = match change.account {
            // At first, the account has the name of the decision; later it may have been renamed.
            Some(id) => match tally
                .account_names
                .get(&id)
                .filter(|_| marked && tally.claimed.contains(&row.id))
            {
                Some(called) => Some(called.clone()),
                None => Some(self.store.account_name(id).await?),
            },
            None => None,
        };
        // The password is only sent: the stored and journaled change does not contain it.
        let values = match self.password_of(share, &row).await? {
            Some(Some(values)) => values,
            Some(None) => {
                let why = "the password to set is no longer available";
                return self.cancel_change(row.id, why, "set it again", tally).await;
            }
            None => change
                .values
                .iter()
                .cloned()
                .chain(password.clone())
                .collect(),
        };
        let group = change.account.filter(|_| change.is_membership());
        let _one_at_a_time = share.lock_group(group).await;
        let merged = merged_lists(share, change);
        let refusals = RefusalScope::of(change, account.as_ref());
        let mut write = Write {
            member,
            merged,
            ..Write::new(change.object, change.kind, account, values)
        };
        // After a crash, an answer may be lost: a create must be searched for, other changes can be
        // sent again.
        let mut in_doubt = matches!(row.state, ChangeState::Sending | ChangeState::Unknown)
            && change.kind == ChangeKind::Create;
        // By monotonic time: the wall clock may be set back meanwhile.
        let (begun, mut draws) = (self.monotonic_now(), 1);
        for attempt in 1.. {
            if in_doubt {
                match self.look_for(share, &write).await {
                    Ok(Some(account)) => {
                        let note = "the answer was lost; the account was found by its values; nothing was sent twice";
                        let what = settled(share, &row, account, Some(note.to_owned()));
                        self.queue_result(
                            share,
                            ChangeResult::new(row, filled_in, what, principal)?,
                            last,
                        )
                        .await?;
                        break;
                    }
                    // The account may become visible later: it is searched for until the visibility
                    // lag has passed.
                    Ok(None)
                        if self.monotonic_now().duration_since(begun).unsigned_abs()
                            < share.connector.visibility_lag() =>
                    {
                        if attempt < ATTEMPTS {
                            self.clock.sleep(self.retry_delay(attempt)).await;
                            continue;
                        }
                        let said = "the answer to its creation was lost, and the system does not list it yet";
                        let lost = ConnectError::unknown_outcome(
                            "answer_lost",
                            said,
                            "a look-up precedes any further request",
                        );
                        return self.record_failure(&row, &lost, share, tally).await;
                    }
                    Ok(None) => {}
                    Err(error) if attempt >= ATTEMPTS => {
                        // The outcome stays unknown, whatever prevented the search.
                        let lost = ConnectError::unknown_outcome(
                            "answer_lost",
                            error.message,
                            error.remedy,
                        );
                        return self.record_failure(&row, &lost, share, tally).await;
                    }
                    Err(_) => {
                        self.clock.sleep(self.retry_delay(attempt)).await;
                        continue;
                    }
                }
            }
            if !std::mem::take(&mut marked)
                && !self
                    .store
                    .claim_for_sending(vec![row.id], self.now())
                    .await?
                    .contains(&row.id)
            {
                // A preemption canceled it.
                self.report_change(tally);
                return Ok(SendOutcome::Done);
            }
            let written = match group {
                // The group is not read back for one membership.
                Some(_) => share
                    .connector
                    .write_membership(&write)
                    .await
                    .map(|()| None),
                None => share.connector.write(&write).await.map(Some),
            };
            let written = match written {
                Ok(account) => Ok(account),
                // Values that are not stored with the change are secrets.
                Err(error) => Err(self
                    .without_secrets(share, error, &secret_texts(&write.values, change))
                    .await),
            };
            match written {
                Ok(account) => {
                    let settling = match account {
                        Some(account) => {
                            let what = settled(share, &row, account, None);
                            ChangeResult::new(row, filled_in, what, principal)?
                        }
                        None => ChangeResult::membership(row, filled_in, principal)?,
                    };
                    self.queue_result(share, settling, last).await?;
                    break;
                }
                Err(error) if error.class == FailureClass::Accepted => {
                    self.store
                        .mark_accepted(row.id, &error.operation_url, self.now())
                        .await?;
                    self.record_system_success(&share.row.name);
                    self.report_change(tally);
                    self.operation_accepted.notify_one();
                    return Ok(SendOutcome::Accepted);
                }
                Err(error) if error.class == FailureClass::WritesStopped => {
                    self.cancel_rest(VecDeque::from([row]), &error.message, tally)
                        .await?;
                    return Ok(SendOutcome::Stopped);
                }
                Err(error)
                    if matches!(
                        error.class,
                        FailureClass::Transient | FailureClass::UnknownOutcome
                    ) && attempt < ATTEMPTS =>
                {
                    tracing::info!(
                        system = share.row.name,
                        change = row.id,
                        code = error.code,
                        attempt,
                        "retrying a change"
                    );
                    in_doubt = error.class == FailureClass::UnknownOutcome
                        && change.kind == ChangeKind::Create;
                    let state = if in_doubt {
                        ChangeState::Unknown
                    } else {
                        ChangeState::Queued
                    };
                    self.store
                        .record_not_done(row.id, state, &error.message, &error.remedy, self.now())
                        .await?;
                    self.clock.sleep(self.retry_delay(attempt)).await;
                }
                Err(error) => {
                    if self
                        .redraw_password(share, &row, &mut write, &error, &mut draws)
                        .await?
                    {
                        continue;
                    }
                    return self
                        .handle_refusal(
                            share,
                            Sent {
                                row,
                                write: &write,
                                error,
                                place: refusals,
                            },
                            turn,
                            tally,
                            principal,
                        )
                        .await;
                }
            }
        }
        share.note_refusal(&refusals, None, None);
        share.in_a_row.store(0, Ordering::Relaxed);
        self.record_system_success(&share.row.name);
        Ok(SendOutcome::Done)
    }

    /// Removes secrets that were sent from a system's answer.
    async fn without_secrets(
        &self,
        share: &SystemDispatcher,
        error: ConnectError,
        sent: &[Zeroizing<String>],
    ) -> ConnectError {
        let own = match Settings::read(share.row.kind, &share.row.settings) {
            Ok(settings) => self
                .store
                .load_secret(&share.row.name, settings.secret_field())
                .await
                .ok()
                .flatten(),
            Err(_) => None,
        };
        let secrets: Vec<&str> = sent
            .iter()
            .chain(&own)
            .map(|secret| secret.as_str())
            .collect();
        error.without_secrets(&secrets)
    }

    /// Hands a confirmed change to the task that stores results. The next change of the same
    /// account waits for it.
    pub(crate) async fn queue_result(
        &self,
        share: &SystemDispatcher,
        settling: ChangeResult,
        last: bool,
    ) -> Result<(), EngineError> {
        let change = &settling.row.change;
        let password = crate::passwords::begins_with_password(share, change);
        let (done, is_done) = oneshot::channel();
        let ended = || EngineError::Store(StoreError::Closed);
        share.ready.succeeded();
        let confirmed = share.confirmed.as_ref().ok_or_else(ended)?;
        if confirmed
            .send(Confirmed {
                settling,
                password,
                settled: done,
            })
            .await
            .is_err()
        {
            // The task's own error gives the reason.
            return Err(ended());
        }
        // Sequential mode: if the process dies, only the change in flight is open.
        if !last || self.accounts_at_a_time == 1 {
            is_done.await.map_err(|_| ended())?;
        }
        Ok(())
    }

    /// Stores the result of a change that was confirmed outside a run.
    pub(crate) async fn store_result(
        &self,
        share: &SystemDispatcher,
        row: &ChangeRow,
        account: Observed,
        note: Option<String>,
        principal: &str,
    ) -> Result<(), EngineError> {
        let settled = settled(share, row, account, note);
        let id = self
            .store
            .settle_done(row, settled, principal, self.monotonic_now())
            .await?;
        let change = &row.change;
        if crate::passwords::begins_with_password(share, change) {
            self.store
                .first_password_set(row.id, id, change, self.now())
                .await?;
        }
        Ok(())
    }

    pub(crate) async fn record_failure(
        &self,
        row: &ChangeRow,
        error: &ConnectError,
        share: &SystemDispatcher,
        tally: &RunProgress,
    ) -> Result<SendOutcome, EngineError> {
        tracing::warn!(system = share.row.name, change = row.id, code = error.code, %error, "a change failed");
        let passing = error.class != FailureClass::Permanent;
        if error.class == FailureClass::UnknownOutcome && row.change.kind == ChangeKind::Create {
            // The account may exist: it is searched for before the next decision about it.
            let next = "a look-up follows automatically";
            self.store
                .record_not_done(
                    row.id,
                    ChangeState::Unknown,
                    &error.message,
                    next,
                    self.now(),
                )
                .await?;
        } else {
            self.store
                .record_failed(row.id, &error.message, &error.remedy, passing, self.now())
                .await?;
        }
        let many = passing && share.in_a_row.fetch_add(1, Ordering::Relaxed) + 1 >= IN_A_ROW;
        if error.class == FailureClass::SystemDown || many {
            let mut down = share.down.lock().await;
            if down.is_none() {
                self.record_system_failure(&share.row.name, &error.message);
                *down = Some(error.clone());
            }
        }
        tally.failed.fetch_add(1, Ordering::Relaxed);
        self.report_change(tally);
        // A refusal has no bearing on changes of other values.
        Ok(if error.class == FailureClass::Permanent {
            SendOutcome::Refused
        } else {
            SendOutcome::Failed
        })
    }

    /// Searches for an account with an unknown creation outcome. It must agree in every identifying
    /// value, or it is another person's.
    pub(crate) async fn look_for(
        &self,
        share: &SystemDispatcher,
        write: &Write,
    ) -> Result<Option<Observed>, ConnectError> {
        let telling = |names: &dyn Fn(&str) -> bool| -> Vec<(String, Value)> {
            let values = write.values.iter().filter(|value| names(&value.attribute));
            values
                .filter_map(|value| Some((value.attribute.clone(), value.after.first()?.clone())))
                .collect()
        };
        let name = share
            .row
            .schema
            .get(&write.object)
            .and_then(|schema| schema.name_attribute.as_deref());
        let mut probes = telling(&|attribute| {
            PROBES
                .iter()
                .copied()
                .chain(name)
                .any(|probe| attribute.eq_ignore_ascii_case(probe))
        });
        if probes.is_empty() {
            // Without generally identifying values, those of the match rules are compared.
            let rules = share
                .rules
                .get(&write.object)
                .map_or(&[][..], |types| types.matching.as_slice());
            let read: Vec<&str> = rules
                .iter()
                .flat_map(|rule| &rule.account)
                .flat_map(|program| program.reads())
                .map(|(_, n)| n.as_str())
                .collect();
            probes =
                telling(&|attribute| read.iter().any(|name| attribute.eq_ignore_ascii_case(name)));
        }
        let found = share.connector.find(write.object, &probes).await?;
        let fits = |account: &Observed| {
            probes.iter().all(|(name, value)| {
                account.attributes.get(name).iter().any(|there| {
                    there
                        .to_string()
                        .trim()
                        .eq_ignore_ascii_case(value.to_string().trim())
                })
            })
        };
        Ok(found
            .into_iter()
            .find(|account| !probes.is_empty() && fits(account)))
    }

    /// The delay before the next attempt.
    fn retry_delay(&self, attempt: u32) -> Duration {
        SEND_BACKOFF.delay(attempt, self.random())
    }

    pub(crate) fn report_change(&self, tally: &RunProgress) {
        let (done, failed) = (
            tally.done.load(Ordering::Relaxed),
            tally.failed.load(Ordering::Relaxed),
        );
        let total = tally.total.load(Ordering::Relaxed);
        let elapsed = tally.begun.elapsed().as_millis().max(1) as usize;
        let settled = done + failed;
        self.publish_event(Event::Progress {
            id: tally.id,
            done,
            failed,
            total,
            per_ten_seconds: settled * 10_000 / elapsed,
            seconds_left: (settled > 0)
                .then(|| (total.saturating_sub(settled) * elapsed / settled / 1000) as u64),
        });
    }
}

/// Replaces the member of a membership by the current name of its account. Former names that another
/// account uses now are left out.
fn resolve_member(
    row: &mut ChangeRow,
    in_use: &[String],
    accounts: &HashMap<String, Vec<Account>>,
) -> Resolved {
    let change = &mut row.change;
    let before = change.values.clone();
    // Another account has the name now, and its memberships are decided separately.
    let is_free = |value: &Value| !in_use.contains(&value.to_string());
    change
        .values
        .iter_mut()
        .skip(1)
        .for_each(|value| value.before.retain(is_free));
    let Some(first) = change.values.first_mut() else {
        return Resolved::default();
    };
    let there = accounts
        .get(&change.identity)
        .map_or(&[][..], Vec::as_slice);
    let decided = first
        .after
        .first()
        .or(first.before.first())
        .map(|value| fold_reference(&value.to_string()));
    let as_decided = |account: &&Account| {
        decided.as_ref().is_some_and(|name| {
            fold_reference(&member_value(&first.attribute, account, true).to_string()) == *name
        })
    };
    let Some(account) = there.iter().find(as_decided).or(there.first()) else {
        return Resolved {
            is_gone: change.kind == ChangeKind::Grant,
            ..Resolved::default()
        };
    };
    let member = vec![member_value(&first.attribute, account, true)];
    let values = match change.kind {
        ChangeKind::Grant => &mut first.after,
        _ => &mut first.before,
    };
    values.clone_from(&member);
    change
        .values
        .iter_mut()
        .skip(1)
        .for_each(|value| value.before.retain(|former| !member.contains(former)));
    let mut at = 0;
    change.values.retain(|value| {
        at += 1;
        at == 1 || !value.before.is_empty()
    });
    let member = Some((account.key.clone(), account.name.clone()));
    Resolved {
        is_changed: change.values != before,
        member,
        is_gone: false,
    }
}
