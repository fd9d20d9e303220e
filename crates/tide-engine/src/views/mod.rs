//! Answers, read only: from what decisions keep, and from decisions about the records that an answer
//! is about.

mod changes;
mod evaluate;
mod groups;
mod licenses;
mod lifecycle;
mod roles;
mod scope;

pub use changes::Comparison;
pub use evaluate::{Evaluation, MappingEvaluation};
pub use groups::{GroupMember, GroupView};
pub use licenses::{AHEAD_DAYS, LicenseUsageView, MOST_FORECAST, SeatForecast};
pub use lifecycle::{DepartureImpact, Leaver, LifecycleStatus, OpenAccess};
pub(crate) use roles::no_role;
pub use roles::{HolderPage, RoleList, RoleSimulation, RoleView};
pub use scope::ScopeView;

use crate::context::Context;
use crate::decide::Decider;
use crate::dispatch::Dispatcher;
use crate::foundation::Foundation;
use crate::rules::RuleCompiler;
use std::sync::Arc;

/// Answers questions.
pub struct Views {
    context: Arc<Context>,
    rules: Arc<RuleCompiler>,
    pub(crate) decider: Arc<Decider>,
    dispatcher: Arc<Dispatcher>,
}

impl Views {
    pub(crate) fn new(
        base: &Foundation,
        decider: Arc<Decider>,
        dispatcher: Arc<Dispatcher>,
    ) -> Views {
        Views {
            context: base.context.clone(),
            rules: base.rules.clone(),
            decider,
            dispatcher,
        }
    }
}
