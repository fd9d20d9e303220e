//! Long-lived tasks are supervised: one that panics is restarted after a growing pause, and the
//! service is not ready until it has run for a while. No task keeps state that the records lack, so
//! that each can begin anew.

use crate::context::Context;
use crate::error::EngineError;
use crate::events::Event;
use crate::lock;
use futures::FutureExt;
use std::future::Future;
use std::panic::AssertUnwindSafe;
use std::sync::Arc;
use std::time::Duration;
use tide_store::panic_message;

/// The first and the longest pause before a task that panicked is started again.
const PAUSES: (Duration, Duration) = (Duration::from_secs(1), Duration::from_secs(60));

/// How long it must run before it counts as running again.
const STEADY: Duration = Duration::from_secs(10);

/// The result of some work, or an internal error if it panics.
pub(crate) async fn run_caught<T>(
    work: impl Future<Output = Result<T, EngineError>>,
) -> Result<T, EngineError> {
    AssertUnwindSafe(work)
        .catch_unwind()
        .await
        .unwrap_or_else(|panic| Err(EngineError::Internal(panic_message(&*panic))))
}

impl Context {
    /// Runs a task of a component until it returns, as it does when the service stops.
    pub(crate) fn supervise<T, F, W>(self: &Arc<Self>, name: &str, of: &Arc<T>, start: F)
    where
        T: Send + Sync + 'static,
        F: Fn(Arc<T>) -> W + Send + 'static,
        W: Future<Output = ()> + Send + 'static,
    {
        let (context, of, name) = (self.clone(), of.clone(), name.to_owned());
        self.tasks.spawn(async move {
            let mut pause = PAUSES.0;
            loop {
                let begun = tide_clock::instant();
                let mut work =
                    std::pin::pin!(AssertUnwindSafe(start(of.clone())).catch_unwind());
                let ended = tokio::select! {
                    ended = &mut work => ended,
                    () = tide_clock::sleep(STEADY) => {
                        context.runs_again(&name);
                        work.await
                    }
                };
                let Err(panic) = ended else {
                    return context.runs_again(&name);
                };
                let said = panic_message(&*panic);
                tracing::error!(task = name, panic = said, wait = ?pause, "a task panicked and is restarted");
                lock(&context.panicked).insert(name.clone(), said);
                context.publish_event(Event::AttentionChanged);
                if begun.elapsed() > PAUSES.1 {
                    pause = PAUSES.0;
                }
                tokio::select! {
                    () = context.stopping.cancelled() => return,
                    () = tide_clock::sleep(pause) => {}
                }
                pause = (pause * 2).min(PAUSES.1);
            }
        });
    }

    fn runs_again(&self, name: &str) {
        if lock(&self.panicked).remove(name).is_some() {
            tracing::info!(task = name, "the task was restarted");
            self.publish_event(Event::AttentionChanged);
        }
    }

    /// Why the service cannot work at present, as far as known: the records cannot be written, or
    /// one of its tasks ended.
    pub fn known_fault(&self) -> Option<String> {
        let panicked = lock(&self.panicked);
        let panicked = panicked
            .first_key_value()
            .map(|(task, said)| format!("the task `{task}` panicked ({said}) and restarts"));
        self.storage_fault().or(panicked)
    }

    /// Why the service cannot work at present. Writes to the store to find out.
    pub async fn check_readiness(&self) -> Option<String> {
        if let Some(why) = self.known_fault() {
            return Some(why);
        }
        match tokio::time::timeout(Duration::from_secs(5), self.store.write_mark(self.now())).await
        {
            Ok(Ok(())) => None,
            Ok(Err(error)) => Some(format!("the records cannot be written: {error}")),
            Err(_) => Some("the records could not be written within 5 s".to_owned()),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::SystemClock;
    use std::sync::atomic::{AtomicUsize, Ordering};
    use tide_store::{MasterKey, Store};

    #[tokio::test]
    async fn a_task_that_panics_restarts_and_the_service_is_not_ready_meanwhile() {
        let folder = tempfile::tempdir().expect("a folder");
        let store = Store::open(&folder.path().join("tide.db"), MasterKey::generate())
            .await
            .expect("opens");
        let context = Arc::new(Context::new(store, Arc::new(SystemClock), None));
        assert_eq!(context.check_readiness().await, None);
        let starts = Arc::new(AtomicUsize::new(0));
        let counted = starts.clone();
        context.supervise("test task", &context, move |context| {
            let first = counted.fetch_add(1, Ordering::SeqCst) == 0;
            async move {
                assert!(!first, "no leaves");
                context.stopping.cancelled().await;
            }
        });
        let ready = async |wanted: Option<&str>| {
            for _ in 0..2000 {
                let said = context.check_readiness().await;
                if said.is_none() == wanted.is_none() {
                    return assert!(
                        wanted.is_none_or(|part| said
                            .as_deref()
                            .is_some_and(|said| said.contains(part))),
                        "{said:?}"
                    );
                }
                tide_clock::sleep(Duration::from_millis(10)).await;
            }
            panic!("{:?}", context.check_readiness().await);
        };
        ready(Some("`test task` panicked (no leaves)")).await;
        ready(None).await;
        assert_eq!(starts.load(Ordering::SeqCst), 2);
        context.stop().await;
        // Without records it is not ready either, whatever else runs.
        context.store.close().await;
        assert!(
            context
                .check_readiness()
                .await
                .is_some_and(|said| said.contains("cannot be written"))
        );
    }
}
