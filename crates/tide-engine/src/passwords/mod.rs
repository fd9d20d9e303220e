//! Passwords: first ones of new accounts, and those that people set.

mod initial;
mod sync;

pub(crate) use initial::begins_with_password;
pub use sync::PasswordProgress;

use crate::connections::Connections;
use crate::context::Context;
use crate::foundation::Foundation;
use crate::pending::PendingWork;
use crate::rules::RuleCompiler;
use std::sync::Arc;

/// Draws, seals, shows and synchronizes passwords.
pub struct PasswordKeeper {
    context: Arc<Context>,
    rules: Arc<RuleCompiler>,
    connections: Arc<Connections>,
    pending: Arc<PendingWork>,
}

impl PasswordKeeper {
    pub(crate) fn new(base: &Foundation) -> PasswordKeeper {
        PasswordKeeper {
            context: base.context.clone(),
            rules: base.rules.clone(),
            connections: base.connections.clone(),
            pending: base.pending.clone(),
        }
    }
}
