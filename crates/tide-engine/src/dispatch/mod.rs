//! Carries runs out: orders the changes of each system, claims them, and hands them to the executor.

mod holds;
mod operations;
mod rounds;
mod systems;

use crate::backoff::CircuitBreaker;
use crate::connections::Connections;
use crate::context::Context;
use crate::executor::Executor;
use crate::foundation::Foundation;
use crate::lock;
use crate::pending::PendingWork;
use crate::rules::RuleCompiler;
use jiff::Timestamp;
use std::sync::{Arc, Mutex};

/// Sends the changes of runs, and follows what systems accepted.
pub struct Dispatcher {
    context: Arc<Context>,
    rules: Arc<RuleCompiler>,
    connections: Arc<Connections>,
    executor: Arc<Executor>,
    pending: Arc<PendingWork>,
    /// When the next failed change is retried.
    next_retry: Mutex<Option<Timestamp>>,
}

impl Dispatcher {
    pub(crate) fn new(base: &Foundation, executor: Arc<Executor>) -> Dispatcher {
        Dispatcher {
            context: base.context.clone(),
            rules: base.rules.clone(),
            connections: base.connections.clone(),
            pending: base.pending.clone(),
            executor,
            next_retry: Mutex::default(),
        }
    }

    /// How many accounts of one system are written concurrently, unless its connector knows better.
    pub(crate) fn accounts_at_a_time(&self) -> usize {
        self.executor.accounts_at_a_time
    }

    /// The circuit breaker of a system that failed last.
    pub(crate) fn breaker(&self, system: &str) -> Option<CircuitBreaker> {
        self.executor.breakers.get(system)
    }

    /// When something that failed is tried again.
    pub(crate) fn retry_times(&self) -> Vec<Timestamp> {
        let mut times = self.executor.breakers.closing_times();
        times.extend(*lock(&self.next_retry));
        times
    }
}
