//! What administrators change: systems, rules and their drafts, scopes, roles that are granted, and
//! whether anything is written.

mod checks;
mod drafts;
mod first_rules;
mod publication;
mod retirement;
mod role_grants;
mod scope;
mod switches;
mod systems;

pub use drafts::{Draft, Renewal};
pub use retirement::Retirement;
pub use scope::{ScopeMove, ScopeSimulation};
pub use switches::SystemUpdate;
pub use systems::NewSystem;

use crate::connections::Connections;
use crate::context::Context;
use crate::decide::Decider;
use crate::foundation::Foundation;
use crate::ingest::Ingest;
use crate::pending::PendingWork;
use crate::rules::RuleCompiler;
use std::sync::Arc;

/// Changes systems and rules.
pub struct Administration {
    context: Arc<Context>,
    rules: Arc<RuleCompiler>,
    connections: Arc<Connections>,
    pending: Arc<PendingWork>,
    decider: Arc<Decider>,
    ingest: Arc<Ingest>,
}

impl Administration {
    pub(crate) fn new(
        base: &Foundation,
        decider: Arc<Decider>,
        ingest: Arc<Ingest>,
    ) -> Administration {
        Administration {
            context: base.context.clone(),
            rules: base.rules.clone(),
            connections: base.connections.clone(),
            pending: base.pending.clone(),
            decider,
            ingest,
        }
    }
}
