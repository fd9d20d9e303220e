//! Interrupts a long computation whose result is no longer needed.
//!
//! The computation runs in [`run`] with a flag, and calls [`check`] in its loops over all records.
//! Once the flag is set, it unwinds, and [`run`] returns `None`. Outside of [`run`], [`check`] does
//! nothing.

use std::cell::RefCell;
use std::panic::{AssertUnwindSafe, catch_unwind, resume_unwind};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

thread_local! {
    static FLAG: RefCell<Option<Arc<AtomicBool>>> = const { RefCell::new(None) };
}

/// The payload that unwinds an interrupted computation.
struct Interrupted;

/// Removes the flag, however the computation ends.
struct Installed;

impl Drop for Installed {
    fn drop(&mut self) {
        FLAG.with(|flag| flag.take());
    }
}

/// Runs a computation until the flag is set; returns `None` if it was interrupted. Other panics
/// propagate.
pub fn run<T>(flag: Arc<AtomicBool>, work: impl FnOnce() -> T) -> Option<T> {
    FLAG.with(|own| own.replace(Some(flag)));
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

/// The flag of the computation on this thread, for further threads that work on it.
pub(crate) fn flag() -> Option<Arc<AtomicBool>> {
    FLAG.with(|flag| flag.borrow().clone())
}

/// Works on the computation of another thread. For a thread that does nothing else.
pub(crate) fn install(flag: Option<Arc<AtomicBool>>) {
    FLAG.with(|own| own.replace(flag));
}

/// Ends the computation on this thread if it was interrupted.
pub(crate) fn check() {
    let is_set = FLAG.with(|flag| {
        flag.borrow()
            .as_ref()
            .is_some_and(|flag| flag.load(Ordering::Relaxed))
    });
    if is_set {
        resume_unwind(Box::new(Interrupted));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_computation_ends_when_its_flag_is_set_and_only_then() {
        let flag = Arc::new(AtomicBool::new(false));
        let mut rounds = 0;
        let interrupted = run(flag.clone(), || {
            for round in 0..10 {
                rounds = round;
                flag.store(round == 3, Ordering::Relaxed);
                check();
            }
        });
        assert_eq!((interrupted, rounds), (None, 3));
        // It holds for that computation alone.
        check();
        assert_eq!(run(Arc::default(), || 7), Some(7));
        let panicked = catch_unwind(|| run(Arc::default(), || panic!("no leaves")));
        assert!(panicked.is_err());
        check();
    }
}
