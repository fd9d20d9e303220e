//! A long computation as others see it: how far it is, and whether its result is still wanted.
//!
//! The computation runs in [`run`], and calls [`step`] in its loops over all records. Once it is
//! interrupted, it unwinds, and [`run`] returns `None`. Outside of [`run`], [`step`] does nothing.

use std::cell::RefCell;
use std::panic::{AssertUnwindSafe, catch_unwind, resume_unwind};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};

thread_local! {
    static CURRENT: RefCell<Option<Arc<Computation>>> = const { RefCell::new(None) };
}

/// The state of a computation, shared with those who wait for it.
#[derive(Debug, Default)]
pub struct Computation {
    is_unwanted: AtomicBool,
    done: AtomicUsize,
    total: AtomicUsize,
}

/// How far a computation is: steps that are done, and an estimate of all.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Steps {
    /// The number of steps that are done.
    pub done: usize,
    /// About how many there are, never fewer than those that are done. 0 before it began.
    pub total: usize,
}

impl Computation {
    /// Ends the computation soon: its result is not wanted any more.
    pub fn interrupt(&self) {
        self.is_unwanted.store(true, Ordering::Relaxed);
    }

    /// How far it is.
    pub fn steps(&self) -> Steps {
        let done = self.done.load(Ordering::Relaxed);
        Steps {
            done,
            total: self.total.load(Ordering::Relaxed).max(done),
        }
    }
}

/// The payload that unwinds an interrupted computation.
struct Interrupted;

/// Removes the computation from the thread, however it ends.
struct Installed;

impl Drop for Installed {
    fn drop(&mut self) {
        CURRENT.with(|current| current.take());
    }
}

/// Runs a computation until it is interrupted; returns `None` if it was. Other panics propagate.
pub fn run<T>(computation: Arc<Computation>, work: impl FnOnce() -> T) -> Option<T> {
    install(Some(computation));
    let installed = Installed;
    // What is unwound belongs to the computation alone, and is dropped with it.
    let done = catch_unwind(AssertUnwindSafe(work));
    drop(installed);
    match done {
        Ok(result) => Some(result),
        Err(panic) if panic.is::<Interrupted>() => None,
        Err(panic) => resume_unwind(panic),
    }
}

/// The computation on this thread, for further threads that work on it.
pub(crate) fn current() -> Option<Arc<Computation>> {
    CURRENT.with(|current| current.borrow().clone())
}

/// Works on the computation of another thread. For a thread that does nothing else.
pub(crate) fn install(computation: Option<Arc<Computation>>) {
    CURRENT.with(|current| current.replace(computation));
}

/// About so many steps follow. They are estimated only if this is a computation that others follow.
pub(crate) fn expect(steps: impl FnOnce() -> usize) {
    if let Some(computation) = current() {
        computation.total.fetch_add(steps(), Ordering::Relaxed);
    }
}

/// Counts a step, and ends the computation on this thread if it was interrupted.
pub(crate) fn step() {
    let is_unwanted = CURRENT.with(|current| {
        current.borrow().as_ref().is_some_and(|computation| {
            computation.done.fetch_add(1, Ordering::Relaxed);
            computation.is_unwanted.load(Ordering::Relaxed)
        })
    });
    if is_unwanted {
        resume_unwind(Box::new(Interrupted));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_computation_ends_when_it_is_interrupted_and_only_then() {
        let computation = Arc::new(Computation::default());
        let mut rounds = 0;
        let interrupted = run(computation.clone(), || {
            expect(|| 10);
            for round in 0..10 {
                rounds = round;
                if round == 3 {
                    computation.interrupt();
                }
                step();
            }
        });
        assert_eq!((interrupted, rounds), (None, 3));
        let steps = Steps { done: 4, total: 10 };
        assert_eq!(computation.steps(), steps);
        // It holds for that computation alone.
        step();
        assert_eq!(run(Arc::default(), || 7), Some(7));
        let panicked = catch_unwind(|| run(Arc::default(), || panic!("no leaves")));
        assert!(panicked.is_err());
        step();
    }

    #[test]
    fn an_estimate_is_never_less_than_what_is_done() {
        let computation = Arc::new(Computation::default());
        run(computation.clone(), || {
            expect(|| 1);
            (0..3).for_each(|_| step());
        });
        assert_eq!(computation.steps(), Steps { done: 3, total: 3 });
    }
}
