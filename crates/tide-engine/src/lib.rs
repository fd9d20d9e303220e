//! `tide-engine` owns time and order: it reads systems, asks `tide-core` to decide, and carries the
//! changes out through the durable queue, leavers first.
//!
//! It is *not* a place for rules or for protocols: the one is `tide-core`'s, the other
//! `tide-connect`'s.

mod approvals;
mod async_operations;
mod attention;
mod auto_run;
mod backoff;
mod change_feed;
mod compute;
mod cycles;
mod decisions;
mod dispatch;
mod drafts;
mod error;
mod evaluate;
mod events;
mod executor;
mod external_changes;
mod feed_watch;
mod freshness;
mod full_read;
mod groups;
mod holds;
mod inbound;
mod incremental;
mod journal_head;
mod licenses;
mod lifecycle;
mod matches;
mod membership_batch;
mod neighborhood;
mod notifications;
mod operators;
mod outcomes;
mod password_sync;
mod passwords;
mod refusals;
mod roles;
mod runs;
mod schedule;
mod scope;
mod secret_sources;
mod storage_backpressure;
mod supervise;
mod systems;
mod webhooks;
mod write_gate;

pub use attention::{Attention, Health};
pub use change_feed::WatcherStatus;
pub use cycles::Cycles;
pub use decisions::{Decision, DecisionReply};
pub use drafts::{Draft, Renewal};
pub use error::EngineError;
pub use evaluate::{Evaluation, MappingEvaluation};
pub use events::Event;
pub use freshness::Freshness;
pub use full_read::Read;
pub use groups::{GroupMember, GroupView};
pub use inbound::{InboundEvent, IssuedToken};
pub use licenses::{AHEAD_DAYS, LicenseUsageView, MOST_FORECAST, SeatForecast};
pub use lifecycle::{DepartureImpact, Leaver, LifecycleStatus, OpenAccess};
pub use matches::{Actor, MatchCase, MatchLine, MatchRow, MatchSide, MatchView, Word};
pub use neighborhood::DecidedPart;
pub use operators::new_token;
pub use outcomes::kept_outcomes;
pub use password_sync::PasswordProgress;
pub use roles::{Holder, HolderPage, RoleList, RoleSimulation, RoleView};
pub use runs::{Comparison, Plan, PublishedRules};
pub use schedule::{Blackout, Schedule};
pub use scope::{ScopeCount, ScopeLine, ScopeMove, ScopeSimulation, ScopeView};
pub use secret_sources::{ForHosts, SecretSources};
pub use systems::{NewSystem, Retirement, SystemUpdate};
pub use tide_clock::{Clock, SystemClock};
pub use webhooks::CallRow;

use rand::rngs::StdRng;
use rand::{RngExt as _, SeedableRng as _};
use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::sync::atomic::{AtomicBool, AtomicU64};
use std::sync::{Arc, Mutex, PoisonError};
use tide_connect::ConnectionState;
use tide_core::ObjectType;
use tide_store::Store;
use tokio::sync::broadcast;
use tokio_util::sync::CancellationToken;

/// Supplies connectors instead of those of the systems' settings, for simulations.
pub trait ConnectorFactory: Send + Sync {
    /// The connector for a system; writes are to ask the access whether they are allowed.
    fn connector(
        &self,
        system: &str,
        access: Arc<ConnectionState>,
    ) -> Option<Arc<dyn tide_connect::Connector>>;
}

/// The dependencies of an engine. The default: real systems, random jitter, several accounts
/// concurrently.
#[derive(Clone)]
pub struct EngineConfig {
    /// Files and environment variables from which feeds and secrets may be read.
    pub secret_sources: SecretSources,
    /// Connectors to use instead of those of the settings.
    pub systems: Option<Arc<dyn ConnectorFactory>>,
    /// Seed of the jitter; `None` means random.
    pub seed: Option<u64>,
    /// How many accounts of one system are written concurrently.
    pub accounts_at_a_time: usize,
}

impl Default for EngineConfig {
    fn default() -> Self {
        EngineConfig {
            secret_sources: SecretSources::default(),
            systems: None,
            seed: None,
            accounts_at_a_time: executor::AT_A_TIME,
        }
    }
}

/// Compiled rules, with the rule version and a hash of the schemas from which they were compiled.
type CompiledRules = ((i64, i64), Arc<PublishedRules>);

/// The engine: one for each store.
pub struct Engine {
    store: Store,
    clock: Arc<dyn Clock>,
    secret_sources: SecretSources,
    connector_factory: Option<Arc<dyn ConnectorFactory>>,
    /// The random numbers of jitter.
    jitter_rng: Mutex<StdRng>,
    accounts_at_a_time: usize,
    events: broadcast::Sender<Event>,
    /// The connection state of each system, shared with all its connectors.
    access: Mutex<HashMap<String, Arc<ConnectionState>>>,
    /// The write gate of each system.
    gates: Mutex<HashMap<String, Arc<write_gate::Gate>>>,
    /// Held while a system's state or schedule is set, so that its gate equals the records.
    settings_lock: tokio::sync::Mutex<()>,
    /// Locks by system and type: two reads of the same accounts never overlap.
    read_locks: Mutex<full_read::Locks>,
    /// When match answers are next checked for expiry.
    next_answer_expiry: Mutex<Option<jiff::Timestamp>>,
    /// The stored holds; `None` before they are loaded.
    hold_cache: tokio::sync::Mutex<Option<holds::HoldCache>>,
    /// Held while a full decision is computed for a request.
    compute_lock: Arc<tokio::sync::Mutex<()>>,
    /// Held while a preview or a run is in progress: runs never overlap. Lock order: `run_lock`,
    /// `decision_lock`, `decision_cache`.
    run_lock: Arc<tokio::sync::Mutex<()>>,
    /// Held from loading the records until the decided changes are queued, and during a preemption:
    /// no decision is based on records that another one is about to change.
    decision_lock: tokio::sync::Mutex<()>,
    /// The state between incremental decisions; `None` leads to a full decision.
    decision_cache: tokio::sync::Mutex<Option<incremental::DecisionCache>>,
    /// Accounts that changed since the last decision of a run; leavers among them preempt a run.
    changed_accounts: Mutex<BTreeSet<i64>>,
    /// The next run is a follow-up that decides about the results of the last one.
    needs_follow_up: AtomicBool,
    /// Changes were stored since a run last loaded its records.
    is_dirty: AtomicBool,
    /// Systems that need a full read before watching continues.
    pending_full_reads: Mutex<HashSet<String>>,
    /// Number of runs that have loaded their records.
    run_generation: AtomicU64,
    /// How often the background loops completed a pass.
    cycles: cycles::CycleCounters,
    /// Numbers of records that the last incremental decision read and evaluated.
    last_cost: Mutex<(usize, usize)>,
    /// The compiled published rules.
    compiled_rules: Mutex<Option<CompiledRules>>,
    /// Idle connections, reused by the next run.
    connections: Mutex<HashMap<String, systems::CachedConnection>>,
    /// Held while webhooks are delivered, so that nothing is delivered twice.
    delivery_lock: tokio::sync::Mutex<()>,
    /// Why the records cannot be written at present.
    storage_error: Mutex<Option<String>>,
    /// Notified when a system accepts a change.
    operation_accepted: tokio::sync::Notify,
    /// Wakes the automatic run.
    wake: tokio::sync::Notify,
    /// The status of each watcher.
    watchers: Mutex<BTreeMap<(String, ObjectType), WatcherStatus>>,
    /// The open circuit breakers.
    breakers: Mutex<HashMap<String, backoff::CircuitBreaker>>,
    /// When the next failed change is retried.
    next_retry: Mutex<Option<jiff::Timestamp>>,
    /// When the next identity is due by time alone.
    next_due: Mutex<Option<jiff::Timestamp>>,
    /// The change set in progress, and its cancellation.
    current_run: Mutex<Option<(i64, CancellationToken)>>,
    /// Long-lived tasks that panicked and have not restarted yet, with their messages.
    panicked: Mutex<BTreeMap<String, String>>,
    /// Canceled when the service stops.
    stopping: CancellationToken,
    tasks: tokio_util::task::TaskTracker,
}

impl Engine {
    /// Creates an engine over a store.
    pub fn new(store: Store, clock: Arc<dyn Clock>) -> Arc<Engine> {
        Self::with(store, clock, SecretSources::default())
    }

    /// Creates an engine that may read these files and environment variables.
    pub fn with(store: Store, clock: Arc<dyn Clock>, allowed: SecretSources) -> Arc<Engine> {
        Self::with_config(
            store,
            clock,
            EngineConfig {
                secret_sources: allowed,
                ..EngineConfig::default()
            },
        )
    }

    /// Creates an engine with its own dependencies.
    pub fn with_config(store: Store, clock: Arc<dyn Clock>, ties: EngineConfig) -> Arc<Engine> {
        Arc::new(Engine {
            store,
            clock,
            secret_sources: ties.secret_sources,
            connector_factory: ties.systems,
            jitter_rng: Mutex::new(
                ties.seed
                    .map_or_else(|| StdRng::from_rng(&mut rand::rng()), StdRng::seed_from_u64),
            ),
            accounts_at_a_time: ties.accounts_at_a_time.max(1),
            events: broadcast::Sender::new(1024),
            access: Mutex::default(),
            gates: Mutex::default(),
            settings_lock: tokio::sync::Mutex::default(),
            read_locks: Mutex::default(),
            next_answer_expiry: Mutex::default(),
            hold_cache: tokio::sync::Mutex::default(),
            compute_lock: Arc::default(),
            run_lock: Arc::default(),
            decision_lock: tokio::sync::Mutex::default(),
            decision_cache: tokio::sync::Mutex::default(),
            changed_accounts: Mutex::default(),
            needs_follow_up: AtomicBool::default(),
            is_dirty: AtomicBool::default(),
            pending_full_reads: Mutex::default(),
            run_generation: AtomicU64::default(),
            cycles: cycles::CycleCounters::default(),
            last_cost: Mutex::default(),
            compiled_rules: Mutex::default(),
            connections: Mutex::default(),
            delivery_lock: tokio::sync::Mutex::default(),
            storage_error: Mutex::default(),
            operation_accepted: tokio::sync::Notify::new(),
            wake: tokio::sync::Notify::new(),
            watchers: Mutex::default(),
            breakers: Mutex::default(),
            next_retry: Mutex::default(),
            next_due: Mutex::default(),
            current_run: Mutex::default(),
            panicked: Mutex::default(),
            stopping: CancellationToken::new(),
            tasks: tokio_util::task::TaskTracker::new(),
        })
    }

    /// The store beneath.
    pub fn store(&self) -> &Store {
        &self.store
    }

    /// The time.
    pub fn now(&self) -> jiff::Timestamp {
        self.clock.now()
    }

    /// The time of an observation or of a write. It never decreases, even if the clock is set
    /// back.
    pub(crate) fn monotonic_now(&self) -> jiff::Timestamp {
        self.store.monotonic_now(self.now())
    }

    /// Subscribes to events from now on.
    pub fn events(&self) -> broadcast::Receiver<Event> {
        self.events.subscribe()
    }

    /// A random number between 0 and 1, for jitter.
    fn random(&self) -> f64 {
        lock(&self.jitter_rng).random_range(0.0..1.0)
    }

    fn publish_event(&self, event: Event) {
        // An error means that there are no receivers.
        let _ = self.events.send(event);
    }

    /// Stops: changes that are on the wire are settled, the others stay queued for the next start.
    pub async fn stop(&self) {
        self.stopping.cancel();
        self.tasks.close();
        self.tasks.wait().await;
    }
}

fn lock<T>(mutex: &Mutex<T>) -> std::sync::MutexGuard<'_, T> {
    // What the locks guard is replaced whole, so a panic elsewhere leaves it sound.
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}
