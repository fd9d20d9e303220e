//! Full decisions, one at a time: about all records, in chunks if they are many, and other long
//! computations.

mod chunks;
mod compute;
mod gather;
mod inputs;

pub(crate) use chunks::FullPlan;
pub(crate) use compute::PATIENCE;
pub(crate) use gather::Gathering;
pub(crate) use inputs::{count_of, counted_by_guards};

use crate::connections::Connections;
use crate::context::Context;
use crate::foundation::Foundation;
use crate::rules::RuleCompiler;
use std::sync::{Arc, Mutex};
use tide_core::computation::Computation;

/// Makes full decisions. `compute_lock` is held while one is computed; who holds it takes no lock of
/// [`crate::pending::PendingWork`].
pub struct FullDecisions {
    context: Arc<Context>,
    rules: Arc<RuleCompiler>,
    connections: Arc<Connections>,
    /// The size of the chunks; `None` for the usual one.
    chunk_size: Option<usize>,
    /// Held while a full decision is computed.
    compute_lock: Arc<tokio::sync::Mutex<()>>,
    /// The computation in progress.
    computing: Mutex<Option<Arc<Computation>>>,
}

impl FullDecisions {
    pub(crate) fn new(base: &Foundation, chunk_size: Option<usize>) -> FullDecisions {
        FullDecisions {
            context: base.context.clone(),
            rules: base.rules.clone(),
            connections: base.connections.clone(),
            chunk_size,
            compute_lock: Arc::default(),
            computing: Mutex::default(),
        }
    }
}
