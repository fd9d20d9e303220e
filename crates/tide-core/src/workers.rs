//! Work on several threads. Results come in the order of the jobs, so that an outcome is the same
//! with any number of threads and any size of chunks.

use crate::computation;
use std::num::NonZero;
use std::panic::resume_unwind;
use std::sync::{Mutex, PoisonError};

/// Decisions about fewer accounts are made on one thread: starting others would take longer.
const FEW: usize = 2_000;
/// The number of identities of one job.
const CHUNK: usize = 1_000;

/// On how many threads a decision is made, and how many identities are one job.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Workers {
    /// The number of threads.
    pub threads: usize,
    /// The number of identities of one job.
    pub chunk: usize,
}

impl Workers {
    /// Everything on the calling thread.
    pub const ONE: Workers = Workers {
        threads: 1,
        chunk: CHUNK,
    };

    /// For a decision about this many accounts: all cores, if they are many.
    pub fn for_accounts(count: usize) -> Workers {
        if count < FEW {
            return Workers::ONE;
        }
        Workers {
            threads: std::thread::available_parallelism().map_or(1, NonZero::get),
            chunk: CHUNK,
        }
    }

    /// Does all jobs, and returns their results in the order of the jobs. A job that panics or is
    /// interrupted ends the work.
    pub(crate) fn run<J: Send, R: Send>(
        self,
        jobs: Vec<J>,
        work: impl Fn(J) -> R + Sync,
    ) -> Vec<R> {
        let threads = self.threads.min(jobs.len());
        if threads <= 1 {
            return jobs.into_iter().map(work).collect();
        }
        let queue = Mutex::new(jobs.into_iter().enumerate());
        let next = || {
            let mut queue = queue.lock().unwrap_or_else(PoisonError::into_inner);
            queue.next()
        };
        let work_off = || {
            let mut done: Vec<(usize, R)> = Vec::new();
            while let Some((place, job)) = next() {
                done.push((place, work(job)));
            }
            done
        };
        let current = computation::current();
        let mut done = std::thread::scope(|scope| {
            let others: Vec<_> = (1..threads)
                .map(|_| {
                    let current = current.clone();
                    scope.spawn(|| {
                        computation::install(current);
                        work_off()
                    })
                })
                .collect();
            let mut done = work_off();
            for other in others {
                match other.join() {
                    Ok(more) => done.extend(more),
                    Err(panic) => resume_unwind(panic),
                }
            }
            done
        });
        done.sort_by_key(|(place, _)| *place);
        done.into_iter().map(|(_, result)| result).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::computation::Computation;
    use std::collections::HashSet;
    use std::sync::Arc;

    const THREE: Workers = Workers {
        threads: 3,
        chunk: 1,
    };

    #[test]
    fn results_keep_the_order_of_the_jobs() {
        let threads = Mutex::new(HashSet::new());
        let jobs: Vec<u64> = (0..200).collect();
        let squares = THREE.run(jobs.clone(), |job| {
            std::thread::sleep(std::time::Duration::from_micros(200 - job));
            let mut threads = threads.lock().expect("no thread panicked");
            threads.insert(std::thread::current().id());
            job * job
        });
        let expected: Vec<u64> = jobs.iter().map(|job| job * job).collect();
        assert_eq!(squares, expected);
        assert_eq!(threads.into_inner().expect("free").len(), 3);
    }

    #[test]
    fn an_interruption_reaches_all_threads() {
        let computation = Arc::new(Computation::default());
        let seen = computation.clone();
        let interrupted = computation::run(computation, || {
            THREE.run(vec![0, 1, 2], |job| {
                if job == 1 {
                    seen.interrupt();
                }
                loop {
                    computation::step();
                }
            })
        });
        assert!(interrupted.is_none(), "{interrupted:?}");
    }
}
