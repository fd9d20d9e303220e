//! Decisions: about all records, about changed ones, and about some of them for an answer. What a
//! decision says is kept, so that lists and counts need none.

mod cache;
mod chunks;
mod compute;
mod gather;
mod holds;
mod inputs;
mod lists;
mod neighborhood;
mod outcomes;

pub(crate) use cache::{IncrementalDecision, Purpose, is_automatic};
pub(crate) use chunks::FullPlan;
pub(crate) use compute::PATIENCE;
pub(crate) use gather::Gathering;
pub use neighborhood::DecidedPart;
pub(crate) use neighborhood::{GroupLabels, OpenChanges, identity_record};
pub(crate) use outcomes::kept_part;

use crate::connections::Connections;
use crate::context::Context;
use crate::foundation::Foundation;
use crate::lock;
use crate::pending::PendingWork;
use crate::rules::RuleCompiler;
use cache::DecisionCache;
use holds::HoldCache;
use jiff::Timestamp;
use std::sync::{Arc, Mutex};
use tide_core::computation::{Computation, Steps};

/// Makes decisions, and keeps what they said.
///
/// Lock order: a lock of [`PendingWork`], `compute_lock`, `decision_cache`, `hold_cache`; who holds
/// one takes only later ones.
pub struct Decider {
    context: Arc<Context>,
    rules: Arc<RuleCompiler>,
    connections: Arc<Connections>,
    pending: Arc<PendingWork>,
    /// The size of the chunks of full decisions; `None` for the usual one.
    chunk_size: Option<usize>,
    /// Held while a full decision is computed.
    compute_lock: Arc<tokio::sync::Mutex<()>>,
    /// The computation in progress.
    computing: Mutex<Option<Arc<Computation>>>,
    /// The state between incremental decisions; `None` leads to a full decision.
    decision_cache: tokio::sync::Mutex<Option<DecisionCache>>,
    /// The stored holds; `None` before they are loaded.
    hold_cache: tokio::sync::Mutex<Option<HoldCache>>,
    /// Numbers of records that the last incremental decision read and evaluated.
    last_cost: Mutex<(usize, usize)>,
    /// When the next identity is due by time alone.
    next_due: Mutex<Option<Timestamp>>,
}

impl Decider {
    pub(crate) fn new(base: &Foundation, chunk_size: Option<usize>) -> Decider {
        Decider {
            context: base.context.clone(),
            rules: base.rules.clone(),
            connections: base.connections.clone(),
            pending: base.pending.clone(),
            chunk_size,
            compute_lock: Arc::default(),
            computing: Mutex::default(),
            decision_cache: tokio::sync::Mutex::default(),
            hold_cache: tokio::sync::Mutex::default(),
            last_cost: Mutex::default(),
            next_due: Mutex::default(),
        }
    }

    /// How far the computation in progress is, if there is one.
    pub fn computing(&self) -> Option<Steps> {
        lock(&self.computing)
            .as_ref()
            .map(|computation| computation.steps())
    }

    /// When the next identity is due by time alone, as far as is known.
    pub(crate) fn next_due(&self) -> Option<Timestamp> {
        *lock(&self.next_due)
    }
}
