//! Waiting in tests for something that happens in the background.

use std::time::Duration;

/// The pause between two calls of a probe.
const INTERVAL: Duration = Duration::from_millis(20);

/// Calls `probe` every 20 ms until it returns a value, and returns that value. Returns `None` if
/// there is none within `timeout`: the caller then panics with what it knows about the state.
#[must_use = "a timeout is a failure"]
pub async fn eventually<T>(
    timeout: Duration,
    mut probe: impl AsyncFnMut() -> Option<T>,
) -> Option<T> {
    let begun = tide_clock::instant();
    loop {
        if let Some(value) = probe().await {
            return Some(value);
        }
        if begun.elapsed() >= timeout {
            return None;
        }
        tide_clock::sleep(INTERVAL).await;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test(start_paused = true)]
    async fn it_returns_the_first_value_and_gives_up_after_the_timeout() {
        let mut calls = 0;
        let third = eventually(Duration::from_secs(1), async || {
            calls += 1;
            (calls == 3).then_some(calls)
        })
        .await;
        assert_eq!(third, Some(3));
        let begun = tide_clock::instant();
        let never = eventually(Duration::from_secs(1), async || None::<()>).await;
        assert_eq!(never, None);
        assert_eq!(begun.elapsed(), Duration::from_secs(1));
    }
}
