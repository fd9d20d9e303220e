//! How everything is: what needs attention, the health of systems, how fresh their data is.

mod attention;
mod freshness;

pub use attention::{Attention, Health};
pub use freshness::Freshness;

use crate::connections::Connections;
use crate::context::Context;
use crate::dispatch::Dispatcher;
use crate::foundation::Foundation;
use crate::ingest::Ingest;
use crate::rules::RuleCompiler;
use std::sync::Arc;
use tide_store::WriteStop;

/// Tells how everything is.
pub struct Overview {
    context: Arc<Context>,
    rules: Arc<RuleCompiler>,
    connections: Arc<Connections>,
    ingest: Arc<Ingest>,
    dispatcher: Arc<Dispatcher>,
}

impl Overview {
    pub(crate) fn new(
        base: &Foundation,
        ingest: Arc<Ingest>,
        dispatcher: Arc<Dispatcher>,
    ) -> Overview {
        Overview {
            context: base.context.clone(),
            rules: base.rules.clone(),
            connections: base.connections.clone(),
            ingest,
            dispatcher,
        }
    }

    /// The host of a system that answered last, if it was called since the start.
    pub fn host_in_use(&self, system: &str) -> Option<String> {
        self.connections.host_in_use(system)
    }

    /// The emergency stop, if it is set.
    pub fn write_stop(&self) -> Option<WriteStop> {
        self.connections.write_stop()
    }
}
