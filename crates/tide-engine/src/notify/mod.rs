//! Notifications to people and their delivery by webhooks.

mod notifications;
mod webhooks;

pub use webhooks::CallRow;

use crate::connections::Connections;
use crate::context::Context;
use crate::foundation::Foundation;
use crate::passwords::PasswordKeeper;
use crate::rules::RuleCompiler;
use std::sync::Arc;

/// Stores notifications, and delivers them with the first passwords that rules deliver.
pub struct Notifier {
    context: Arc<Context>,
    rules: Arc<RuleCompiler>,
    connections: Arc<Connections>,
    passwords: Arc<PasswordKeeper>,
    /// Held while webhooks are delivered, so that nothing is delivered twice. Taken alone.
    delivery_lock: tokio::sync::Mutex<()>,
}

impl Notifier {
    pub(crate) fn new(base: &Foundation, passwords: Arc<PasswordKeeper>) -> Notifier {
        Notifier {
            context: base.context.clone(),
            rules: base.rules.clone(),
            connections: base.connections.clone(),
            passwords,
            delivery_lock: tokio::sync::Mutex::default(),
        }
    }
}
