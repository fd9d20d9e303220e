//! Time, as the engine sees it, so that a test can hold or move it.

use async_trait::async_trait;
use jiff::Timestamp;
use std::time::Duration;

/// A clock.
#[async_trait]
pub trait Clock: Send + Sync {
    /// The moment.
    fn now(&self) -> Timestamp;
    /// Waits.
    async fn sleep(&self, pause: Duration);
}

/// The machine's clock.
#[derive(Debug, Clone, Copy, Default)]
pub struct SystemClock;

#[async_trait]
impl Clock for SystemClock {
    fn now(&self) -> Timestamp {
        Timestamp::now()
    }

    async fn sleep(&self, pause: Duration) {
        tokio::time::sleep(pause).await;
    }
}
