//! Carries single changes out: every change is stored before it is sent, and its result afterwards.

mod account;
mod breakers;
mod change;
mod members;
mod membership_batch;
mod refusals;
mod results;

pub(crate) use results::SETTLED;

use crate::context::Context;
use crate::passwords::PasswordKeeper;
use breakers::Breakers;
use std::sync::Arc;
use tokio::sync::Notify;

/// Sends the changes of one account after the other.
pub struct Executor {
    context: Arc<Context>,
    passwords: Arc<PasswordKeeper>,
    /// How many accounts of one system are written concurrently; with 1, one change at a time.
    pub(crate) accounts_at_a_time: usize,
    /// The open circuit breakers.
    pub(crate) breakers: Breakers,
    /// Notified when a system accepts a change.
    pub(crate) operation_accepted: Notify,
}

impl Executor {
    pub(crate) fn new(
        context: Arc<Context>,
        passwords: Arc<PasswordKeeper>,
        accounts_at_a_time: usize,
    ) -> Executor {
        Executor {
            breakers: Breakers::new(context.clone()),
            context,
            passwords,
            accounts_at_a_time: accounts_at_a_time.max(1),
            operation_accepted: Notify::new(),
        }
    }
}
