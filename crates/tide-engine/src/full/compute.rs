//! Computations that use a core for a while, such as a decision about all records. They leave the
//! threads that answer requests, and run one after another: in parallel, none would end sooner on
//! few cores.

use crate::error::EngineError;
use crate::events::Event;
use crate::full::FullDecisions;
use crate::lock;
use std::sync::Arc;
use std::time::Duration;
use tide_core::computation::{self, Computation, Steps};

/// How long a request waits for its turn, at most.
pub(crate) const PATIENCE: Duration = Duration::from_secs(60);
/// How often the progress of a computation is reported.
const REPORTED: Duration = Duration::from_millis(500);

/// A computation that a caller waits for. It is interrupted when the caller is gone.
struct ComputeRequest<'a> {
    owner: &'a FullDecisions,
    computation: Arc<Computation>,
}

impl<'a> ComputeRequest<'a> {
    fn begin(owner: &'a FullDecisions) -> ComputeRequest<'a> {
        let computation = Arc::new(Computation::default());
        *lock(&owner.computing) = Some(computation.clone());
        ComputeRequest { owner, computation }
    }
}

impl Drop for ComputeRequest<'_> {
    fn drop(&mut self) {
        self.computation.interrupt();
        let mut current = lock(&self.owner.computing);
        let is_own = |known: &mut Arc<Computation>| Arc::ptr_eq(known, &self.computation);
        current.take_if(is_own);
    }
}

impl FullDecisions {
    /// How far the computation in progress is, if there is one.
    pub fn computing(&self) -> Option<Steps> {
        lock(&self.computing)
            .as_ref()
            .map(|computation| computation.steps())
    }

    /// Runs a computation on a thread of its own, in turn, and reports its progress. With `patience`,
    /// it is refused if its turn does not come in time. If the caller is dropped, a waiting
    /// computation is removed and a running one is interrupted.
    pub(crate) async fn compute<T: Send + 'static>(
        &self,
        patience: Option<Duration>,
        work: impl FnOnce() -> T + Send + 'static,
    ) -> Result<T, EngineError> {
        let turn = self.compute_lock.clone().lock_owned();
        let turn = match patience {
            None => turn.await,
            Some(patience) => tokio::time::timeout(patience, turn)
                .await
                .map_err(|_| EngineError::Overloaded(patience.as_secs()))?,
        };
        let wanted = ComputeRequest::begin(self);
        let computed = wanted.computation.clone();
        let mut done = tokio::task::spawn_blocking(move || {
            let _turn = turn;
            computation::run(computed, work)
        });
        let ended = loop {
            tokio::select! {
                ended = &mut done => break ended,
                () = tide_clock::sleep(REPORTED) => {
                    let steps = wanted.computation.steps();
                    self.context.publish_event(Event::Computing {
                        done: steps.done,
                        total: steps.total,
                    });
                }
            }
        };
        let cut_off = || {
            EngineError::Internal(
                "the computation was interrupted: the service is stopping".to_owned(),
            )
        };
        let computed = ended.map_err(|error| match error.try_into_panic() {
            Ok(panic) => EngineError::Internal(tide_store::panic_message(&*panic)),
            Err(_) => cut_off(),
        });
        computed?.ok_or_else(cut_off)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::SystemClock;
    use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
    use tide_store::{MasterKey, Store};

    async fn decisions() -> (tempfile::TempDir, Arc<FullDecisions>) {
        let folder = tempfile::tempdir().expect("a folder");
        let store = Store::open(&folder.path().join("tide.db"), MasterKey::generate())
            .await
            .expect("opens");
        let engine = crate::Engine::new(store, Arc::new(SystemClock));
        (folder, engine.decider().full().clone())
    }

    // On one thread: a computation that kept it would keep everything else from going on.
    #[tokio::test]
    async fn what_computes_keeps_nothing_else_from_going_on() {
        let (_folder, decisions) = decisions().await;
        let go_on = Arc::new(AtomicBool::new(false));
        let seen = go_on.clone();
        let computing = decisions.compute(Some(PATIENCE), move || {
            while !seen.load(Ordering::Acquire) {
                std::thread::yield_now();
            }
            7
        });
        let other = async {
            tide_clock::sleep(Duration::from_millis(20)).await;
            go_on.store(true, Ordering::Release);
        };
        let (computed, ()) = tokio::join!(computing, other);
        assert_eq!(computed.expect("computed"), 7);
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn computations_without_a_waiting_request_are_interrupted() {
        let (_folder, decisions) = decisions().await;
        let file = |name: &str, text: &str| tide_core::rules::RuleFile {
            name: name.into(),
            text: text.into(),
        };
        let files = [
            file("identities.toml", "[person.attributes]\nnumber = {}\n"),
            file(
                "roster.toml",
                "system = \"roster\"\n[person.inbound]\nnumber = 'account.number'\n",
            ),
        ];
        let (rules, _) = tide_core::RuleSet::load(&files, &Default::default());
        let account = |id: i64| tide_core::Account {
            id,
            system: "roster".into(),
            kind: tide_core::ObjectType::Person,
            key: id.to_string(),
            name: id.to_string(),
            attributes: tide_core::Attributes::default(),
            absent_since: None,
            absence_confirmed: false,
            fault: None,
        };
        let population = tide_core::Population {
            accounts: (1..=20).map(account).collect(),
            ..Default::default()
        };
        // It decides again and again, and would never end.
        let endless = decisions.compute(None, move || -> () {
            loop {
                let outcome = tide_core::decide(&rules, &population, jiff::Timestamp::UNIX_EPOCH);
                assert!(!outcome.decided.is_empty());
            }
        });
        assert!(
            tokio::time::timeout(Duration::from_millis(100), endless)
                .await
                .is_err(),
            "the request is gone"
        );
        decisions
            .compute(Some(PATIENCE), || ())
            .await
            .expect("the next one has its turn");
    }

    #[tokio::test]
    async fn one_computation_at_a_time_and_none_waits_forever() {
        let (_folder, decisions) = decisions().await;
        let (running, most) = (Arc::new(AtomicUsize::new(0)), Arc::new(AtomicUsize::new(0)));
        let work = || {
            let (running, most) = (running.clone(), most.clone());
            move || {
                most.fetch_max(running.fetch_add(1, Ordering::SeqCst) + 1, Ordering::SeqCst);
                std::thread::sleep(Duration::from_millis(30));
                running.fetch_sub(1, Ordering::SeqCst);
            }
        };
        let all = futures::future::join_all((0..4).map(|_| decisions.compute(None, work()))).await;
        assert!(all.iter().all(Result::is_ok));
        assert_eq!(most.load(Ordering::SeqCst), 1);
        let held = decisions.compute_lock.clone().lock_owned().await;
        let refused = decisions
            .compute(Some(Duration::from_millis(20)), || ())
            .await;
        assert!(
            matches!(refused, Err(EngineError::Overloaded(_))),
            "{refused:?}"
        );
        drop(held);
        // A panic is an error of this one alone.
        let panicked = decisions.compute(None, || panic!("no leaves")).await;
        assert!(
            matches!(&panicked, Err(EngineError::Internal(said)) if said == "no leaves"),
            "{panicked:?}"
        );
        decisions
            .compute(Some(PATIENCE), || ())
            .await
            .expect("continues");
    }
}
