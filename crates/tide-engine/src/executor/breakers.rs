//! The circuit breakers of systems: nothing is sent to one that does not answer, for a while that
//! grows. Changes of other systems continue.

use crate::backoff::CircuitBreaker;
use crate::context::Context;
use crate::lock;
use jiff::Timestamp;
use std::collections::HashMap;
use std::sync::{Arc, Mutex};

/// The circuit breakers, by system. A system that answers has none.
pub(crate) struct Breakers {
    context: Arc<Context>,
    tripped: Mutex<HashMap<String, CircuitBreaker>>,
}

impl Breakers {
    pub(super) fn new(context: Arc<Context>) -> Breakers {
        Breakers {
            context,
            tripped: Mutex::default(),
        }
    }

    /// Opens the breaker of a system, or keeps it open longer.
    pub(crate) fn record_failure(&self, system: &str, said: &str) {
        let (now, random) = (self.context.now(), self.context.random());
        let mut tripped = lock(&self.tripped);
        let breaker = CircuitBreaker::record_failure(tripped.get(system), said, now, random);
        tripped.insert(system.to_owned(), breaker);
    }

    /// Closes the breaker of a system.
    pub(crate) fn record_success(&self, system: &str) {
        lock(&self.tripped).remove(system);
    }

    /// The breaker of a system, if the system failed last.
    pub(crate) fn get(&self, system: &str) -> Option<CircuitBreaker> {
        lock(&self.tripped).get(system).cloned()
    }

    /// The breakers that are open at a moment.
    pub(crate) fn open_at(&self, now: Timestamp) -> HashMap<String, CircuitBreaker> {
        let tripped = lock(&self.tripped);
        let open = tripped.iter().filter(|(_, breaker)| breaker.is_open(now));
        open.map(|(system, breaker)| (system.clone(), breaker.clone()))
            .collect()
    }

    /// When each breaker closes.
    pub(crate) fn closing_times(&self) -> Vec<Timestamp> {
        let tripped = lock(&self.tripped);
        tripped.values().map(CircuitBreaker::open_until).collect()
    }
}
