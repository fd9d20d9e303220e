//! Computations that take a core for a while, such as a decision about everybody. They leave the threads that answer requests, and wait for
//! one another: with few cores, several at a time would end none of them sooner.

use crate::{Engine, EngineError};
use std::time::Duration;

/// How long a request waits for its turn, at most.
pub(crate) const PATIENCE: Duration = Duration::from_secs(60);

impl Engine {
    /// Computes something on a thread of its own, when it is its turn. With `patience`, it is refused when its turn does not come in time.
    /// Whoever gives up waiting takes no turn; what has begun is computed to its end.
    pub(crate) async fn compute<T: Send + 'static>(
        &self,
        patience: Option<Duration>,
        work: impl FnOnce() -> T + Send + 'static,
    ) -> Result<T, EngineError> {
        let turn = self.computing.clone().lock_owned();
        let turn = match patience {
            None => turn.await,
            Some(patience) => tokio::time::timeout(patience, turn).await.map_err(|_| EngineError::Overloaded(patience.as_secs()))?,
        };
        let done = tokio::task::spawn_blocking(move || {
            let _turn = turn;
            work()
        });
        done.await.map_err(|error| match error.try_into_panic() {
            Ok(panic) => EngineError::Internal(tide_store::panic_message(&*panic)),
            Err(_) => EngineError::Internal("the computation was cut off: the service stops".to_owned()),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::SystemClock;
    use std::sync::Arc;
    use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
    use tide_store::{MasterKey, Store};

    async fn engine() -> (tempfile::TempDir, Arc<Engine>) {
        let folder = tempfile::tempdir().expect("a folder");
        let store = Store::open(&folder.path().join("tide.db"), MasterKey::generate()).await.expect("opens");
        (folder, Engine::new(store, Arc::new(SystemClock)))
    }

    // On one thread: a computation that kept it would keep everything else from going on.
    #[tokio::test]
    async fn what_computes_keeps_nothing_else_from_going_on() {
        let (_folder, engine) = engine().await;
        let go_on = Arc::new(AtomicBool::new(false));
        let seen = go_on.clone();
        let computing = engine.compute(Some(PATIENCE), move || {
            while !seen.load(Ordering::Acquire) {
                std::thread::yield_now();
            }
            7
        });
        let other = async {
            tokio::time::sleep(Duration::from_millis(20)).await;
            go_on.store(true, Ordering::Release);
        };
        let (computed, ()) = tokio::join!(computing, other);
        assert_eq!(computed.expect("computed"), 7);
    }

    #[tokio::test]
    async fn one_computes_at_a_time_and_nobody_waits_for_ever() {
        let (_folder, engine) = engine().await;
        let (running, most) = (Arc::new(AtomicUsize::new(0)), Arc::new(AtomicUsize::new(0)));
        let work = || {
            let (running, most) = (running.clone(), most.clone());
            move || {
                most.fetch_max(running.fetch_add(1, Ordering::SeqCst) + 1, Ordering::SeqCst);
                std::thread::sleep(Duration::from_millis(30));
                running.fetch_sub(1, Ordering::SeqCst);
            }
        };
        let all = futures::future::join_all((0..4).map(|_| engine.compute(None, work()))).await;
        assert!(all.iter().all(Result::is_ok));
        assert_eq!(most.load(Ordering::SeqCst), 1);
        let held = engine.computing.clone().lock_owned().await;
        let refused = engine.compute(Some(Duration::from_millis(20)), || ()).await;
        assert!(matches!(refused, Err(EngineError::Overloaded(_))), "{refused:?}");
        drop(held);
        // A panic is an error of this one alone.
        let panicked = engine.compute(None, || panic!("no leaves")).await;
        assert!(matches!(&panicked, Err(EngineError::Internal(said)) if said == "no leaves"), "{panicked:?}");
        engine.compute(Some(PATIENCE), || ()).await.expect("goes on");
    }
}
