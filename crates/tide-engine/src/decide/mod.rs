//! Decisions: about all records, about changed ones, and about some of them for an answer. What a
//! decision says is kept, so that lists and counts need none.

mod all;
mod cache;
mod holds;
mod lists;
mod neighborhood;
mod outcomes;

pub(crate) use cache::{IncrementalDecision, Purpose, is_automatic};
pub use neighborhood::DecidedPart;
pub(crate) use neighborhood::{GroupLabels, OpenChanges, identity_record};
pub(crate) use outcomes::kept_part;

use crate::connections::Connections;
use crate::context::Context;
use crate::foundation::Foundation;
use crate::full::FullDecisions;
use crate::kept::HoldCache;
use crate::pending::PendingWork;
use crate::rules::RuleCompiler;
use cache::DecisionCache;
use jiff::Timestamp;
use std::sync::{Arc, Mutex};

/// Makes decisions, and keeps what they said.
///
/// Lock order: a lock of [`PendingWork`], that of [`FullDecisions`], `decision_cache`, `hold_cache`; who
/// holds one takes only later ones.
pub struct Decider {
    context: Arc<Context>,
    rules: Arc<RuleCompiler>,
    connections: Arc<Connections>,
    pending: Arc<PendingWork>,
    full: Arc<FullDecisions>,
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
    pub(crate) fn new(base: &Foundation, full: Arc<FullDecisions>) -> Decider {
        Decider {
            context: base.context.clone(),
            rules: base.rules.clone(),
            connections: base.connections.clone(),
            pending: base.pending.clone(),
            full,
            decision_cache: tokio::sync::Mutex::default(),
            hold_cache: tokio::sync::Mutex::default(),
            last_cost: Mutex::default(),
            next_due: Mutex::default(),
        }
    }

    /// Full decisions, and what is computed in turn with them.
    pub fn full(&self) -> &Arc<FullDecisions> {
        &self.full
    }

    /// When the next identity is due by time alone, as far as is known.
    pub(crate) fn next_due(&self) -> Option<Timestamp> {
        *crate::lock(&self.next_due)
    }
}
