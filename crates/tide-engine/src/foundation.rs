//! What most components are made with.

use crate::connections::Connections;
use crate::context::Context;
use crate::pending::PendingWork;
use crate::rules::RuleCompiler;
use std::sync::Arc;

/// The components that know no others.
pub(crate) struct Foundation {
    pub(crate) context: Arc<Context>,
    pub(crate) rules: Arc<RuleCompiler>,
    pub(crate) connections: Arc<Connections>,
    pub(crate) pending: Arc<PendingWork>,
}
