//! The one place that reads clocks and sleeps. Everything else calls it (`clippy.toml` forbids the other
//! ways), so that a test can hold or move time.
//!
//! - [`Clock`] is the wall clock of an engine: a test supplies its own.
//! - [`instant`] and [`sleep`] use the monotonic clock of Tokio, which stands still in tests that pause it.
//! - [`now`] reads the wall clock of the machine, where no engine is at hand.
#![expect(
    clippy::disallowed_methods,
    reason = "all other code reaches time through these functions"
)]

use async_trait::async_trait;
use jiff::Timestamp;
use std::time::Duration;
pub use tokio::time::Instant;

/// The wall clock of an engine.
#[async_trait]
pub trait Clock: Send + Sync {
    /// The current time. It can be set back.
    fn now(&self) -> Timestamp;
    /// Waits.
    async fn sleep(&self, pause: Duration);
}

/// The clock of the machine.
#[derive(Debug, Clone, Copy, Default)]
pub struct SystemClock;

#[async_trait]
impl Clock for SystemClock {
    fn now(&self) -> Timestamp {
        now()
    }

    async fn sleep(&self, pause: Duration) {
        sleep(pause).await;
    }
}

/// The current time of the machine's wall clock.
pub fn now() -> Timestamp {
    Timestamp::now()
}

/// The current instant of the monotonic clock, to measure durations.
pub fn instant() -> Instant {
    Instant::now()
}

/// Waits, by the monotonic clock.
pub async fn sleep(pause: Duration) {
    tokio::time::sleep(pause).await;
}
