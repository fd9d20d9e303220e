//! Previews and runs, by hand and automatic. Nothing calls this but the facade.

mod automatic;
mod departures;
mod identities;
mod manual;
mod plan;
mod preemption;
mod timers;

pub use plan::Plan;

use crate::context::Context;
use crate::decide::Decider;
use crate::dispatch::Dispatcher;
use crate::foundation::Foundation;
use crate::governance::{Approvals, DecisionReview, Governance, MatchReview};
use crate::ingest::Ingest;
use crate::notify::Notifier;
use crate::pending::PendingWork;
use crate::rules::RuleCompiler;
use std::sync::{Arc, Mutex};
use tokio_util::sync::CancellationToken;

/// Makes previews and runs, one at a time.
pub struct Runner {
    context: Arc<Context>,
    rules: Arc<RuleCompiler>,
    pending: Arc<PendingWork>,
    decider: Arc<Decider>,
    ingest: Arc<Ingest>,
    dispatcher: Arc<Dispatcher>,
    notifier: Arc<Notifier>,
    approvals: Arc<Approvals>,
    decisions: Arc<DecisionReview>,
    matches: Arc<MatchReview>,
    /// The change set in progress, and its cancellation.
    current_run: Mutex<Option<(i64, CancellationToken)>>,
}

/// What a runner works with.
pub(crate) struct RunnerParts {
    pub(crate) decider: Arc<Decider>,
    pub(crate) ingest: Arc<Ingest>,
    pub(crate) dispatcher: Arc<Dispatcher>,
    pub(crate) notifier: Arc<Notifier>,
}

impl Runner {
    pub(crate) fn new(base: &Foundation, parts: RunnerParts, governance: &Governance) -> Runner {
        Runner {
            context: base.context.clone(),
            rules: base.rules.clone(),
            pending: base.pending.clone(),
            decider: parts.decider,
            ingest: parts.ingest,
            dispatcher: parts.dispatcher,
            notifier: parts.notifier,
            approvals: governance.approvals.clone(),
            decisions: governance.decisions.clone(),
            matches: governance.matches.clone(),
            current_run: Mutex::default(),
        }
    }

    /// Whether a run is in progress. By the time of the answer it can have ended.
    pub fn is_running(&self) -> bool {
        self.pending.run_lock.try_lock().is_err()
    }
}
