//! `tide-engine` owns time and order: it reads systems, asks `tide-core` to decide, and carries the
//! changes out through the durable queue, leavers first.
//!
//! It is *not* a place for rules or for protocols: the one is `tide-core`'s, the other
//! `tide-connect`'s.
//!
//! [`Engine`] is a facade over components. Each owns its state, its locks and its tasks, and knows
//! only the components before it, so that there is no circle:
//!
//! ```text
//! run                                         previews and runs; nothing else calls it
//! administration, views, overview             systems and rules; answers; how everything is
//! governance, dispatch ─ executor, ingest     what people decide; what is sent; what comes in
//! decide ─ kept, notify ─ passwords           decisions; notifications and passwords
//! connections ─ rules, queue, pending         how systems are reached; what is queued or waits
//! context                                     records, time, events, tasks
//! ```

mod administration;
mod backoff;
mod connections;
mod context;
mod decide;
mod dispatch;
mod error;
mod events;
mod executor;
mod foundation;
mod full;
mod governance;
mod ingest;
mod kept;
mod notify;
mod overview;
mod passwords;
mod pending;
mod queue;
mod rules;
mod run;
mod tokens;
mod views;

pub use administration::{
    Administration, Draft, NewSystem, Renewal, Retirement, ScopeMove, ScopeSimulation, SystemUpdate,
};
pub use connections::{Blackout, ForHosts, Schedule, SecretSources};
pub use context::Cycles;
pub use decide::{DecidedPart, Decider};
pub use dispatch::Dispatcher;
pub use error::EngineError;
pub use events::Event;
pub use governance::{
    Actor, Approvals, Decision, DecisionReply, DecisionReview, MatchCase, MatchLine, MatchReview,
    MatchRow, MatchSide, MatchView, OperatorDirectory, Word,
};
pub use ingest::{InboundEvent, Ingest, Read, WatcherStatus};
pub use kept::{Holder, ScopeCount, ScopeLine, kept_outcomes};
pub use notify::{CallRow, Notifier};
pub use overview::{Attention, Freshness, Health, Overview};
pub use passwords::{PasswordKeeper, PasswordProgress};
pub use rules::{PublishedRules, RuleCompiler};
pub use run::{Plan, Runner};
pub use tide_clock::{Clock, SystemClock};
pub use tokens::{IssuedToken, new_token};
pub use views::{
    AHEAD_DAYS, Comparison, DepartureImpact, Evaluation, GroupMember, GroupView, HolderPage,
    Leaver, LicenseUsageView, LifecycleStatus, MOST_FORECAST, MappingEvaluation, OpenAccess,
    RoleList, RoleSimulation, RoleView, ScopeView, SeatForecast, Views,
};

use connections::Connections;
use context::Context;
use executor::Executor;
use foundation::Foundation;
use full::FullDecisions;
use governance::Governance;
use run::RunnerParts;
use std::sync::{Arc, Mutex, PoisonError};
use tide_connect::ConnectionState;
use tide_store::Store;
use tokio::sync::broadcast;

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
    /// About how many records a chunk of a full decision has; `None`: few records are decided at
    /// once, and many in chunks of 15,000.
    pub chunk_size: Option<usize>,
}

impl Default for EngineConfig {
    fn default() -> Self {
        EngineConfig {
            secret_sources: SecretSources::default(),
            systems: None,
            seed: None,
            accounts_at_a_time: queue::AT_A_TIME,
            chunk_size: None,
        }
    }
}

/// The engine: one for each store. It starts and stops everything, and hands out its components.
pub struct Engine {
    context: Arc<Context>,
    rules: Arc<RuleCompiler>,
    passwords: Arc<PasswordKeeper>,
    notifier: Arc<Notifier>,
    governance: Governance,
    ingest: Arc<Ingest>,
    dispatcher: Arc<Dispatcher>,
    views: Arc<Views>,
    overview: Arc<Overview>,
    administration: Arc<Administration>,
    runner: Arc<Runner>,
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
    pub fn with_config(store: Store, clock: Arc<dyn Clock>, config: EngineConfig) -> Arc<Engine> {
        let context = Arc::new(Context::new(store, clock, config.seed));
        let rules = Arc::new(RuleCompiler::new(context.clone()));
        let base = Foundation {
            connections: Arc::new(Connections::new(
                context.clone(),
                rules.clone(),
                config.secret_sources,
                config.systems,
            )),
            context,
            rules,
            pending: Arc::default(),
        };
        let passwords = Arc::new(PasswordKeeper::new(&base));
        let notifier = Arc::new(Notifier::new(&base, passwords.clone()));
        let full = Arc::new(FullDecisions::new(&base, config.chunk_size));
        let decider = Arc::new(Decider::new(&base, full));
        let governance = Governance::new(&base, &decider, &notifier);
        let ingest = Arc::new(Ingest::new(&base));
        let (context, accounts) = (base.context.clone(), config.accounts_at_a_time);
        let executor = Arc::new(Executor::new(context, passwords.clone(), accounts));
        let dispatcher = Arc::new(Dispatcher::new(&base, executor));
        let views = Views::new(&base, decider.clone(), dispatcher.clone());
        let overview = Overview::new(&base, ingest.clone(), dispatcher.clone());
        let administration = Administration::new(&base, decider.clone(), ingest.clone());
        let parts = RunnerParts {
            decider,
            ingest: ingest.clone(),
            dispatcher: dispatcher.clone(),
            notifier: notifier.clone(),
        };
        Arc::new(Engine {
            runner: Arc::new(Runner::new(&base, parts, &governance)),
            context: base.context,
            rules: base.rules,
            passwords,
            notifier,
            governance,
            ingest,
            dispatcher,
            views: Arc::new(views),
            overview: Arc::new(overview),
            administration: Arc::new(administration),
        })
    }

    /// Starts all long-lived tasks: watchers, the automatic run, feeds, webhooks and the operation
    /// poller. They end with the service.
    pub fn start_automatic_sync(&self) {
        self.context.log_journal_head();
        self.ingest.watch_feeds();
        self.notifier.keep_calling();
        self.runner.spawn_auto_run_loop();
        self.dispatcher.spawn_operation_poller();
        self.ingest.watch_systems();
    }

    /// Stops: changes that are on the wire are settled, the others stay queued for the next start.
    pub async fn stop(&self) {
        self.context.stop().await;
    }

    /// The store beneath.
    pub fn store(&self) -> &Store {
        &self.context.store
    }

    /// The time.
    pub fn now(&self) -> jiff::Timestamp {
        self.context.now()
    }

    /// Subscribes to events from now on.
    pub fn events(&self) -> broadcast::Receiver<Event> {
        self.context.events()
    }

    /// How often the background loops completed a pass.
    pub fn cycles(&self) -> Cycles {
        self.context.cycles()
    }

    /// Why the service cannot work at present, as far as known: the records cannot be written, or
    /// one of its tasks ended.
    pub fn known_fault(&self) -> Option<String> {
        self.context.known_fault()
    }

    /// Why the service cannot work at present. Writes to the store to find out.
    pub async fn check_readiness(&self) -> Option<String> {
        self.context.check_readiness().await
    }

    /// Why the records cannot be written at present; `None` if they can.
    pub fn storage_fault(&self) -> Option<String> {
        self.context.storage_fault()
    }

    /// The published rules.
    pub fn rules(&self) -> &Arc<RuleCompiler> {
        &self.rules
    }

    /// Decisions.
    pub fn decider(&self) -> &Arc<Decider> {
        &self.views.decider
    }

    /// Previews and runs.
    pub fn runner(&self) -> &Arc<Runner> {
        &self.runner
    }

    /// Answers.
    pub fn views(&self) -> &Arc<Views> {
        &self.views
    }

    /// What needs attention, and the health of systems.
    pub fn overview(&self) -> &Arc<Overview> {
        &self.overview
    }

    /// The list of decisions for operators.
    pub fn decisions(&self) -> &Arc<DecisionReview> {
        &self.governance.decisions
    }

    /// Matches, and what operators said about them.
    pub fn matches(&self) -> &Arc<MatchReview> {
        &self.governance.matches
    }

    /// Operators and their tokens.
    pub fn operators(&self) -> &Arc<OperatorDirectory> {
        &self.governance.operators
    }

    /// Systems, rules, scopes and switches.
    pub fn administration(&self) -> &Arc<Administration> {
        &self.administration
    }

    /// What comes in.
    pub fn ingest(&self) -> &Arc<Ingest> {
        &self.ingest
    }

    /// What is sent.
    pub fn dispatcher(&self) -> &Arc<Dispatcher> {
        &self.dispatcher
    }

    /// Passwords.
    pub fn passwords(&self) -> &Arc<PasswordKeeper> {
        &self.passwords
    }

    /// Notifications and webhooks.
    pub fn notifier(&self) -> &Arc<Notifier> {
        &self.notifier
    }
}

fn lock<T>(mutex: &Mutex<T>) -> std::sync::MutexGuard<'_, T> {
    // What the locks guard is replaced whole, so a panic elsewhere leaves it sound.
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}
