//! What every component uses: the records, the time, the events, and supervised tasks.

mod cycles;
mod journal_head;
mod storage;
mod supervise;

pub use cycles::Cycles;
pub(crate) use supervise::run_caught;

use crate::events::Event;
use crate::lock;
use cycles::CycleCounters;
use jiff::Timestamp;
use rand::rngs::StdRng;
use rand::{RngExt as _, SeedableRng as _};
use std::collections::BTreeMap;
use std::sync::{Arc, Mutex};
use tide_clock::Clock;
use tide_store::Store;
use tokio::sync::broadcast;
use tokio_util::sync::CancellationToken;
use tokio_util::task::TaskTracker;

/// How many events a slow subscriber may be behind.
const EVENTS_KEPT: usize = 1024;

/// The ground that all components stand on. It knows none of them.
pub struct Context {
    pub(crate) store: Store,
    pub(crate) clock: Arc<dyn Clock>,
    /// The random numbers of jitter.
    jitter_rng: Mutex<StdRng>,
    events: broadcast::Sender<Event>,
    /// How often the background loops completed a pass.
    pub(crate) cycles: CycleCounters,
    /// Why the records cannot be written at present.
    storage_error: Mutex<Option<String>>,
    /// Long-lived tasks that panicked and have not restarted yet, with their messages.
    panicked: Mutex<BTreeMap<String, String>>,
    /// Canceled when the service stops.
    pub(crate) stopping: CancellationToken,
    pub(crate) tasks: TaskTracker,
}

impl Context {
    /// `seed` makes the jitter repeatable; `None` means random.
    pub(crate) fn new(store: Store, clock: Arc<dyn Clock>, seed: Option<u64>) -> Context {
        Context {
            store,
            clock,
            jitter_rng: Mutex::new(
                seed.map_or_else(|| StdRng::from_rng(&mut rand::rng()), StdRng::seed_from_u64),
            ),
            events: broadcast::Sender::new(EVENTS_KEPT),
            cycles: CycleCounters::default(),
            storage_error: Mutex::default(),
            panicked: Mutex::default(),
            stopping: CancellationToken::new(),
            tasks: TaskTracker::new(),
        }
    }

    /// The time.
    pub(crate) fn now(&self) -> Timestamp {
        self.clock.now()
    }

    /// The time of an observation or of a write. It never decreases, even if the clock is set
    /// back.
    pub(crate) fn monotonic_now(&self) -> Timestamp {
        self.store.monotonic_now(self.now())
    }

    /// A random number between 0 and 1, for jitter.
    pub(crate) fn random(&self) -> f64 {
        lock(&self.jitter_rng).random_range(0.0..1.0)
    }

    /// Subscribes to events from now on.
    pub(crate) fn events(&self) -> broadcast::Receiver<Event> {
        self.events.subscribe()
    }

    pub(crate) fn publish_event(&self, event: Event) {
        // An error means that there are no receivers.
        let _ = self.events.send(event);
    }

    /// Long-lived tasks that panicked and have not restarted yet, with their messages.
    pub(crate) fn panicked(&self) -> BTreeMap<String, String> {
        lock(&self.panicked).clone()
    }

    /// Ends all tasks, and waits for them.
    pub(crate) async fn stop(&self) {
        self.stopping.cancel();
        self.tasks.close();
        self.tasks.wait().await;
    }
}
