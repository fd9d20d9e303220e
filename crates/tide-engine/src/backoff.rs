//! Exponential backoff with jitter, and the circuit breaker of a system.

use jiff::Timestamp;
use std::time::Duration;

/// Delays that double with each failed attempt, between a minimum and a maximum.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) struct Backoff {
    min: Duration,
    max: Duration,
    /// Greatest deviation of a delay, as a share of it: with 0.25 a delay is multiplied by a
    /// factor between 0.75 and 1.25, so that many retries do not come at the same time.
    jitter: f64,
}

impl Backoff {
    /// Without jitter.
    pub(crate) const fn new(min: Duration, max: Duration) -> Self {
        Backoff {
            min,
            max,
            jitter: 0.0,
        }
    }

    /// With a jitter between 0 (none) and 1.
    pub(crate) const fn with_jitter(self, jitter: f64) -> Self {
        Backoff { jitter, ..self }
    }

    /// The longest delay, without jitter.
    pub(crate) const fn max(&self) -> Duration {
        self.max
    }

    /// The delay after a number of failures in a row, the first being 1. `random` is a number
    /// between 0 and 1 that chooses the jitter.
    pub(crate) fn delay(&self, failures: u32, random: f64) -> Duration {
        let doublings = failures.saturating_sub(1).min(31);
        let delay = self.min.saturating_mul(1 << doublings).min(self.max);
        delay.mul_f64(1.0 + self.jitter * (2.0 * random - 1.0))
    }
}

/// The circuit breaker of a system. It opens when the system fails, and stays open longer with each
/// failure in a row; while it is open, nothing is sent there.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct CircuitBreaker {
    failures: u32,
    open_until: Timestamp,
    error: String,
}

impl CircuitBreaker {
    /// How long a breaker stays open.
    pub(crate) const BACKOFF: Backoff =
        Backoff::new(Duration::from_secs(5), Duration::from_secs(300)).with_jitter(0.1);

    /// Records a failure: opens a breaker (`None`), or keeps an open one open longer.
    pub(crate) fn record_failure(
        breaker: Option<&CircuitBreaker>,
        error: &str,
        now: Timestamp,
        random: f64,
    ) -> CircuitBreaker {
        let failures = breaker.map_or(0, |breaker| breaker.failures) + 1;
        CircuitBreaker {
            failures,
            open_until: later(now, Self::BACKOFF.delay(failures, random)),
            error: error.to_owned(),
        }
    }

    /// Whether requests are withheld at this moment.
    pub(crate) fn is_open(&self, now: Timestamp) -> bool {
        self.open_until > now
    }

    /// When the next request may be sent.
    pub(crate) fn open_until(&self) -> Timestamp {
        self.open_until
    }

    /// The error of the last failure.
    pub(crate) fn error(&self) -> &str {
        &self.error
    }
}

/// A moment after a delay; the end of time if it is out of range.
pub(crate) fn later(moment: Timestamp, delay: Duration) -> Timestamp {
    moment.saturating_add(delay).unwrap_or(Timestamp::MAX)
}

#[cfg(test)]
mod tests {
    use super::*;

    const SECOND: Duration = Duration::from_secs(1);

    #[test]
    fn delays_double_up_to_the_maximum() {
        let backoff = Backoff::new(SECOND, 10 * SECOND);
        let delays: Vec<u64> = (0..7).map(|n| backoff.delay(n, 0.9).as_secs()).collect();
        assert_eq!(delays, [1, 1, 2, 4, 8, 10, 10]);
        assert_eq!(backoff.delay(u32::MAX, 0.5), 10 * SECOND);
    }

    #[test]
    fn jitter_stays_within_its_share() {
        let backoff = Backoff::new(SECOND, SECOND).with_jitter(0.25);
        assert_eq!(backoff.delay(1, 0.0), Duration::from_millis(750));
        assert_eq!(backoff.delay(1, 0.5), SECOND);
        assert_eq!(backoff.delay(1, 1.0), Duration::from_millis(1250));
    }

    #[test]
    fn a_breaker_stays_open_longer_with_each_failure() {
        let now = Timestamp::UNIX_EPOCH;
        let first = CircuitBreaker::record_failure(None, "refused", now, 0.5);
        assert!(first.is_open(now));
        assert_eq!(first.open_until(), later(now, 5 * SECOND));
        let second = CircuitBreaker::record_failure(Some(&first), "timeout", now, 0.5);
        assert_eq!(second.open_until(), later(now, 10 * SECOND));
        assert_eq!(second.error(), "timeout");
        assert!(!second.is_open(second.open_until()));
    }
}
