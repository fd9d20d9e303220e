//! The dispatcher of one system in a run: the order of its changes, and the prefetch queue of
//! claimed changes.

use crate::executor::AT_A_TIME;
use crate::refusals::Refusals;
use crate::{Engine, EngineError};
use std::collections::{BTreeMap, HashMap, HashSet, VecDeque};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use tide_connect::{ConnectError, ConnectionState, Connector};
use tide_core::ObjectType;
use tide_core::decide::Change;
use tide_core::equality::are_equal;
use tide_core::model::Observed;
use tide_core::rules::TypeRules;
use tide_core::states::ChangeKind;
use tide_store::{ChangeResult, ChangeRow, Settled, SystemRow};
use tokio::sync::{Mutex, Notify, OwnedMutexGuard, mpsc, oneshot};

/// Maximum number of accounts whose changes are claimed in one commit.
const CLAIM_BATCH_SIZE: usize = 256;

/// The changes of one account that can be sent now, in order, and whether the first one is claimed.
pub(crate) struct AccountBatch {
    pub(crate) changes: Vec<ChangeRow>,
    pub(crate) is_claimed: bool,
}

/// Changes that are claimed ahead, so that workers need not wait for a commit. It is as short as
/// the system's rate allows, because claimed changes cannot be preempted.
#[derive(Default)]
pub(crate) struct PrefetchQueue {
    ready: std::sync::Mutex<VecDeque<AccountBatch>>,
    come: Notify,
    taken: Notify,
    /// A worker had to wait since the last commit.
    starved: AtomicBool,
    ended: AtomicBool,
    /// Number of workers.
    senders: AtomicUsize,
    /// Number of confirmed changes.
    succeeded: AtomicUsize,
    /// A worker has left: the queue is empty, the run was canceled, or storing failed.
    has_left: AtomicBool,
}

/// Counts a worker until it is dropped.
pub(crate) struct WorkerGuard(Arc<SystemDispatcher>);

impl WorkerGuard {
    pub(crate) fn of(share: &Arc<SystemDispatcher>) -> Self {
        share.ready.senders.fetch_add(1, Ordering::AcqRel);
        WorkerGuard(share.clone())
    }

    pub(crate) fn share(&self) -> &SystemDispatcher {
        &self.0
    }
}

impl Drop for WorkerGuard {
    fn drop(&mut self) {
        self.0.ready.senders.fetch_sub(1, Ordering::AcqRel);
        self.0.ready.taken.notify_one();
        self.0.ready.worker_left();
    }
}

impl PrefetchQueue {
    /// The next account, as soon as there is one; `None` when there will be no more. A further
    /// worker gets one once so many changes have succeeded as there are usual workers: a system that
    /// refuses everything gets few requests.
    pub(crate) async fn next(&self, place: usize) -> Option<AccountBatch> {
        loop {
            let come = self.come.notified();
            let ended = self.ended.load(Ordering::Acquire);
            // When a usual worker has left, no other may be there to end the wait of a further one.
            let is_usual = place < AT_A_TIME
                || self.has_left.load(Ordering::Acquire)
                || self.succeeded.load(Ordering::Acquire) >= AT_A_TIME;
            {
                let mut ready = crate::lock(&self.ready);
                if is_usual && let Some(next) = ready.pop_front() {
                    if ready.is_empty() {
                        // Who waits for its turn need not wait any longer.
                        self.come.notify_waiters();
                    }
                    self.taken.notify_one();
                    return Some(next);
                }
                if ended && ready.is_empty() {
                    return None;
                }
            }
            if is_usual {
                self.starved.store(true, Ordering::Relaxed);
            }
            come.await;
        }
    }

    fn worker_left(&self) {
        self.has_left.store(true, Ordering::Release);
        self.come.notify_waiters();
    }

    /// A change was confirmed.
    pub(crate) fn succeeded(&self) {
        if self.succeeded.fetch_add(1, Ordering::AcqRel) + 1 == AT_A_TIME {
            self.come.notify_waiters();
        }
    }

    /// Adds the last accounts, and ends the queue.
    pub(crate) fn all(&self, some: Vec<AccountBatch>) {
        let _ends = EndMarker(self);
        self.add(some);
    }

    fn add(&self, some: Vec<AccountBatch>) {
        crate::lock(&self.ready).extend(some);
        self.come.notify_waiters();
    }

    fn len(&self) -> usize {
        crate::lock(&self.ready).len()
    }
}

/// Ends the queue when it is dropped, also if claiming failed.
struct EndMarker<'a>(&'a PrefetchQueue);

impl Drop for EndMarker<'_> {
    fn drop(&mut self) {
        self.0.ended.store(true, Ordering::Release);
        self.0.come.notify_waiters();
    }
}

/// A confirmed change, and the sender that is notified once its result is stored.
pub(crate) struct Confirmed {
    pub(crate) settling: ChangeResult,
    pub(crate) password: bool,
    pub(crate) settled: oneshot::Sender<()>,
}

/// How long the context of a system is reused.
const CONNECTION_CACHE_TTL: std::time::Duration = std::time::Duration::from_secs(60);

/// The context for sending to a system.
#[derive(Clone)]
pub(crate) struct SystemContext {
    row: Arc<SystemRow>,
    connector: Arc<dyn Connector>,
    rules: Arc<BTreeMap<ObjectType, TypeRules>>,
    access: Arc<ConnectionState>,
    made: tide_clock::Instant,
}

/// The contexts by system, as long as neither rules nor systems change.
pub(crate) type SystemContexts = std::sync::Mutex<HashMap<String, SystemContext>>;

/// The dispatcher of one system in a run.
pub(crate) struct SystemDispatcher {
    pub(crate) row: Arc<SystemRow>,
    pub(crate) connector: Arc<dyn Connector>,
    pub(crate) access: Arc<ConnectionState>,
    /// Changes that can be sent now.
    pub(crate) ready: PrefetchQueue,
    /// Receives confirmed changes, whose results are stored together.
    pub(crate) confirmed: Option<mpsc::Sender<Confirmed>>,
    /// Set after a failure that concerns the whole system: nothing more is sent to it.
    pub(crate) down: Mutex<Option<ConnectError>>,
    /// Number of transient failures in a row.
    pub(crate) in_a_row: AtomicUsize,
    /// Kinds and places of changes that are refused for lack of a permission.
    pub(crate) refusals: std::sync::Mutex<Refusals>,
    /// Groups with a membership write in progress: one at a time, so that concurrent writes do not
    /// undo each other.
    pub(crate) groups: Mutex<HashMap<i64, Arc<Mutex<()>>>>,
    /// The rules of its accounts, by type.
    pub(crate) rules: Arc<BTreeMap<ObjectType, TypeRules>>,
}

impl SystemDispatcher {
    /// Waits until no other worker writes the members of a group.
    pub(crate) async fn lock_group(&self, group: Option<i64>) -> Option<OwnedMutexGuard<()>> {
        let own = self.groups.lock().await.entry(group?).or_default().clone();
        Some(own.lock_owned().await)
    }
}

/// Whether a change refers to an account that an earlier change of the same run creates.
pub(crate) fn has_pending_references(row: &ChangeRow) -> bool {
    row.change
        .values
        .iter()
        .any(|value| !value.later.is_empty())
}

/// The changes in the order in which they can be sent: references to new accounts come after these
/// accounts. Of a circle of `wait_for_target` references, one account is created without its
/// reference.
pub(crate) fn in_order(changes: Vec<ChangeRow>) -> Vec<Vec<ChangeRow>> {
    let (mut later, first): (Vec<ChangeRow>, Vec<ChangeRow>) =
        changes.into_iter().partition(has_pending_references);
    let mut rounds = vec![first];
    while !later.is_empty() {
        let made = |row: &ChangeRow| {
            (row.change.kind == ChangeKind::Create)
                .then(|| (row.change.system.clone(), row.change.identity.clone()))
        };
        let pending: HashSet<(String, String)> = later.iter().filter_map(made).collect();
        let blocked = |row: &ChangeRow| {
            let own = (row.change.kind != ChangeKind::Create).then_some(&row.change.identity);
            let wanted = row
                .change
                .values
                .iter()
                .flat_map(|value| &value.later)
                .map(|later| &later.identity)
                .chain(own);
            wanted
                .into_iter()
                .any(|identity| pending.contains(&(row.change.system.clone(), identity.clone())))
        };
        let (mut waiting, mut ready): (Vec<ChangeRow>, Vec<ChangeRow>) =
            later.into_iter().partition(blocked);
        if ready.is_empty()
            && let Some(at) = waiting
                .iter()
                .position(|row| row.change.kind == ChangeKind::Create)
        {
            // A circle: the next decision sets the value that is left out, once all accounts exist.
            let mut row = waiting.remove(at);
            row.change
                .values
                .iter_mut()
                .for_each(|value| value.later.clear());
            row.change.values.retain(|value| !value.after.is_empty());
            ready.push(row);
        } else if ready.is_empty() {
            ready = std::mem::take(&mut waiting);
        }
        rounds.push(ready);
        later = waiting;
    }
    let first = rounds.remove(0);
    around_renames(first)
        .into_iter()
        .chain(rounds)
        .filter(|round| !round.is_empty())
        .collect()
}

/// Whether a change renames its account, so that references in groups change.
fn is_rename(change: &Change) -> bool {
    matches!(change.kind, ChangeKind::Rename | ChangeKind::Move)
}

/// Is it a membership that can be batched with others of its group? Departure steps are not,
/// because they have an order of their own.
fn is_of_group(change: &Change) -> bool {
    change.is_membership() && change.step == 0
}

/// The people whose changes depend on one another across queues: they are renamed, and groups refer
/// to them by name.
fn renamed_members<'c>(
    changes: impl Iterator<Item = &'c Change> + Clone,
) -> HashSet<(&'c str, &'c str)> {
    let whose = |change: &'c Change| (change.system.as_str(), change.identity.as_str());
    let members: HashSet<(&str, &str)> = changes
        .clone()
        .filter(|change| is_of_group(change))
        .map(whose)
        .collect();
    changes
        .filter(|change| is_rename(change))
        .map(whose)
        .filter(|who| members.contains(who))
        .collect()
}

/// Orders the changes of people who are renamed and join or leave groups in one run, so that no
/// former name stays behind: revoke, then rename, then grant. A disable never waits, and neither do
/// other people's changes.
fn around_renames(changes: Vec<ChangeRow>) -> [Vec<ChangeRow>; 3] {
    let renamed: HashSet<(String, String)> = renamed_members(changes.iter().map(|row| &row.change))
        .into_iter()
        .map(|(system, identity)| (system.to_owned(), identity.to_owned()))
        .collect();
    let mut rounds = [Vec::new(), Vec::new(), Vec::new()];
    for row in changes {
        let change = &row.change;
        let round = if renamed.is_empty()
            || !renamed.contains(&(change.system.clone(), change.identity.clone()))
        {
            0
        } else if is_of_group(change) {
            if change.kind == ChangeKind::Grant {
                2
            } else {
                0
            }
        } else if change.kind == ChangeKind::Disable {
            0
        } else {
            1
        };
        rounds[round].push(row);
    }
    rounds
}

/// The result of a confirmed change, as it is stored.
pub(crate) fn settled(
    share: &SystemDispatcher,
    row: &ChangeRow,
    account: Observed,
    note: Option<String>,
) -> Settled {
    let schema = share.row.schema.get(&row.change.object);
    if row.change.is_membership() {
        // The change lists one member, and the group has others.
        return Settled {
            account,
            normalized: Vec::new(),
            merged: Vec::new(),
            note,
        };
    }
    let normalized = row
        .change
        .values
        .iter()
        // A system may normalize texts. A different state of the account is no normalization: it is
        // drift, and the next run repairs it.
        .filter(|value| {
            schema
                .and_then(|schema| schema.state_attribute.as_ref())
                .is_none_or(|state| !state.eq_ignore_ascii_case(&value.attribute))
        })
        .filter_map(|value| {
            let returned = account.attributes.get(&value.attribute);
            let def = schema.and_then(|schema| schema.get(&value.attribute));
            (!are_equal(def, &value.after, returned)).then(|| {
                (
                    value.attribute.clone(),
                    value.after.clone(),
                    returned.to_vec(),
                )
            })
        })
        .collect();
    let merged = crate::executor::merged_lists(share, &row.change);
    Settled {
        account,
        normalized,
        merged,
        note,
    }
}

/// The key whose changes are sent in order. An orphaned account has its own key; a group too, so
/// that its memberships can be batched, except those of departures.
fn ordering_key(change: &Change) -> String {
    let group = change.is_membership() && change.step == 0;
    match change
        .account
        .filter(|_| group || change.identity.is_empty())
    {
        Some(account) => account.to_string(),
        None => change.identity.clone(),
    }
}

/// The positions of the changes that can be claimed in the commit that stores them: if there are so
/// few that all are sent at once, and none waits for another one.
pub(crate) fn first_batch(changes: &[Change], at_a_time: usize) -> HashSet<usize> {
    let waits = changes
        .iter()
        .flat_map(|change| &change.values)
        .any(|value| !value.later.is_empty());
    if waits || !renamed_members(changes.iter()).is_empty() {
        return HashSet::new();
    }
    let mut by_system: HashMap<&str, HashMap<String, usize>> = HashMap::new();
    for (place, change) in changes.iter().enumerate() {
        let first = by_system.entry(&change.system).or_default();
        if first.len() <= at_a_time {
            first.entry(ordering_key(change)).or_insert(place);
        }
    }
    by_system
        .into_values()
        .filter(|first| first.len() <= at_a_time)
        .flat_map(HashMap::into_values)
        .collect()
}

/// The changes grouped by ordering key, in sending order.
pub(crate) fn by_account(changes: Vec<ChangeRow>) -> VecDeque<Vec<ChangeRow>> {
    let mut places: HashMap<String, usize> = HashMap::new();
    let mut queue: VecDeque<Vec<ChangeRow>> = VecDeque::new();
    for change in changes {
        let whose = ordering_key(&change.change);
        match places.get(&whose) {
            Some(&place) => queue[place].push(change),
            None => {
                places.insert(whose, queue.len());
                queue.push_back(vec![change]);
            }
        }
    }
    queue
}

impl Engine {
    /// Creates the dispatcher of a system.
    pub(crate) async fn open_dispatcher(
        &self,
        system: &str,
    ) -> Result<SystemDispatcher, EngineError> {
        self.share_of(system, &SystemContexts::default()).await
    }

    /// How many accounts of a system are written at a time.
    pub(crate) fn at_a_time(&self, share: &SystemDispatcher) -> usize {
        match self.accounts_at_a_time {
            1 => 1,
            usual => share.connector.accounts_at_a_time().unwrap_or(usual),
        }
    }

    /// Creates the dispatcher from a context.
    pub(crate) async fn share_of(
        &self,
        system: &str,
        reaches: &SystemContexts,
    ) -> Result<SystemDispatcher, EngineError> {
        let access = crate::lock(&self.access).get(system).cloned();
        let holds = |reach: &&SystemContext| {
            reach.made.elapsed() < CONNECTION_CACHE_TTL
                && access
                    .as_ref()
                    .is_some_and(|own| Arc::ptr_eq(own, &reach.access))
        };
        let known = crate::lock(reaches).get(system).filter(holds).cloned();
        let reach = match known {
            Some(reach) => reach,
            None => {
                let reach = self.reach(system).await?;
                crate::lock(reaches).insert(system.to_owned(), reach.clone());
                reach
            }
        };
        Ok(SystemDispatcher {
            ready: PrefetchQueue::default(),
            down: Mutex::new(None),
            in_a_row: AtomicUsize::new(0),
            refusals: std::sync::Mutex::default(),
            confirmed: None,
            groups: Mutex::default(),
            row: reach.row,
            connector: reach.connector,
            access: reach.access,
            rules: reach.rules,
        })
    }

    async fn reach(&self, system: &str) -> Result<SystemContext, EngineError> {
        let row = self.store.find_system(system).await?;
        let connector = self.cached_connector(&row).await?;
        // Rules that became invalid after this decision do not block its changes.
        let rules = self.published_rules().await.ok().and_then(|rules| {
            rules
                .set
                .systems
                .get(system)
                .map(|rules| rules.types.clone())
        });
        let access = self.access(&row);
        let rules = Arc::new(rules.unwrap_or_default());
        Ok(SystemContext {
            row: Arc::new(row),
            connector,
            rules,
            access,
            made: tide_clock::instant(),
        })
    }

    /// Claims the changes that are sent next, many in one commit, slightly ahead of the workers.
    /// Some changes are claimed already.
    pub(crate) async fn mark_ahead(
        &self,
        share: &SystemDispatcher,
        mut queue: VecDeque<Vec<ChangeRow>>,
        known: &HashSet<i64>,
    ) -> Result<(), EngineError> {
        let ahead = &share.ready;
        let at_a_time = self.at_a_time(share);
        if at_a_time == 1 {
            // Sequential mode: each change is claimed when it is sent.
            let marked = |changes: &Vec<ChangeRow>| {
                changes
                    .first()
                    .is_some_and(|change| known.contains(&change.id))
            };
            ahead.all(
                queue
                    .into_iter()
                    .map(|changes| AccountBatch {
                        is_claimed: marked(&changes),
                        changes,
                    })
                    .collect(),
            );
            return Ok(());
        }
        let _ends = EndMarker(ahead);
        let (mut together, mut first) = (at_a_time, true);
        while !queue.is_empty() {
            let some: Vec<Vec<ChangeRow>> = queue.drain(..together.min(queue.len())).collect();
            // Changes that wait for others are claimed when those are done; canceled ones are not
            // claimed.
            let given_up = share.down.lock().await.is_some();
            let heads = some
                .iter()
                .filter_map(|changes| changes.first())
                .filter(|change| !given_up && !has_pending_references(change));
            let heads: Vec<i64> = heads
                .map(|change| change.id)
                .filter(|id| !known.contains(id))
                .collect();
            let marked = if heads.is_empty() {
                HashSet::new()
            } else {
                self.store.claim_for_sending(heads, self.now()).await?
            };
            let is_marked = |changes: &Vec<ChangeRow>| {
                changes
                    .first()
                    .is_some_and(|change| marked.contains(&change.id) || known.contains(&change.id))
            };
            ahead.add(
                some.into_iter()
                    .map(|changes| AccountBatch {
                        is_claimed: is_marked(&changes),
                        changes,
                    })
                    .collect(),
            );
            if std::mem::take(&mut first) {
                // The first changes are dispatched without delay.
                ahead.starved.store(false, Ordering::Relaxed);
            }
            loop {
                let taken = ahead.taken.notified();
                if ahead.senders.load(Ordering::Acquire) == 0 {
                    return Ok(());
                }
                if ahead.len() <= together / 2 {
                    break;
                }
                taken.await;
            }
            if ahead.starved.swap(false, Ordering::Relaxed) {
                together = (together * 2).min(CLAIM_BATCH_SIZE.max(at_a_time));
            }
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use futures::FutureExt as _;

    fn queue_of_two() -> PrefetchQueue {
        let queue = PrefetchQueue::default();
        let batch = || AccountBatch {
            changes: Vec::new(),
            is_claimed: false,
        };
        queue.all(vec![batch(), batch()]);
        queue
    }

    #[test]
    fn further_workers_wait_until_the_system_accepts_changes() {
        let queue = queue_of_two();
        assert!(queue.next(AT_A_TIME).now_or_never().is_none());
        (0..AT_A_TIME).for_each(|_| queue.succeeded());
        assert!(
            queue
                .next(AT_A_TIME)
                .now_or_never()
                .is_some_and(|one| one.is_some())
        );
    }

    #[test]
    fn a_further_worker_does_not_outlast_a_canceled_run() {
        let queue = queue_of_two();
        let mut waiting = Box::pin(queue.next(AT_A_TIME));
        assert!(waiting.as_mut().now_or_never().is_none());
        // The usual workers leave with changes in the queue.
        queue.worker_left();
        assert!(waiting.now_or_never().is_some_and(|one| one.is_some()));
        // And with an empty one.
        let queue = queue_of_two();
        let mut waiting = Box::pin(queue.next(AT_A_TIME));
        assert!(waiting.as_mut().now_or_never().is_none());
        while queue.next(0).now_or_never().flatten().is_some() {}
        assert!(waiting.now_or_never().is_some_and(|one| one.is_none()));
    }
    use tide_core::compare::{PendingReference, ValueChange};
    use tide_core::states::ChangeState;
    use tide_core::{Reason, ReasonKind};

    fn change(system: &str, identity: &str, account: Option<i64>) -> Change {
        Change {
            system: system.into(),
            object: ObjectType::Person,
            identity: identity.into(),
            account,
            label: identity.into(),
            kind: ChangeKind::Update,
            values: vec![ValueChange {
                attribute: "title".into(),
                ..ValueChange::default()
            }],
            reason: Reason::new(ReasonKind::InSync),
            hold: None,
            approval: None,
            claims: Vec::new(),
            step: 0,
            fingerprint: String::new(),
        }
    }

    fn rows(changes: &[Change]) -> Vec<ChangeRow> {
        let row = |(at, change): (usize, &Change)| ChangeRow {
            id: at as i64,
            change_set: 1,
            change: change.clone(),
            state: ChangeState::Queued,
            attempts: 0,
            error: None,
            remedy: None,
            settled: None,
            principal: None,
        };
        changes.iter().enumerate().map(row).collect()
    }

    #[test]
    fn what_is_sent_first_is_the_head_of_each_account() {
        let changes = [
            change("berthing", "ada", Some(1)),
            change("crewhall", "ada", Some(2)),
            change("berthing", "ada", Some(1)),
            change("berthing", "", Some(7)),
            change("berthing", "bo", None),
        ];
        assert_eq!(first_batch(&changes, 3), [0, 1, 3, 4].into());
        // The claimed changes are the heads of the queue, and are sent first.
        let heads: HashSet<usize> = ["berthing", "crewhall"]
            .into_iter()
            .flat_map(|system| {
                by_account(
                    rows(&changes)
                        .into_iter()
                        .filter(|row| row.change.system == system)
                        .collect(),
                )
            })
            .filter_map(|changes| changes.first().map(|row| row.id as usize))
            .collect();
        assert_eq!(first_batch(&changes, 3), heads);
        assert_eq!(
            first_batch(&changes, 2),
            [1].into(),
            "more accounts than are sent at a time wait in the queue, and can be overtaken"
        );
    }

    #[test]
    fn nothing_is_sent_first_where_something_waits_for_another() {
        let mut second = change("berthing", "bo", None);
        second.values[0].later.push(PendingReference {
            identity: "ada".into(),
            label: "Ada".into(),
        });
        assert!(first_batch(&[change("berthing", "ada", None), second], 16).is_empty());
    }
}
