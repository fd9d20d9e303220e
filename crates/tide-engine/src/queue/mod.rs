//! The changes of a run on their way to one system: their order, those that are claimed ahead, and
//! what is known of the system meanwhile.

mod members;
mod order;
mod prefetch;
mod progress;
mod refusals;
mod target;

pub(crate) use refusals::{
    SeparateResults, concerns_values, is_divisible, merge_errors, send_values_separately,
};

pub(crate) use members::{MEMBER_GONE, Resolved, resolve_member};
pub(crate) use order::{by_account, first_batch, has_pending_references, in_order};
pub(crate) use prefetch::{AT_A_TIME, AccountBatch, EndMarker, PrefetchQueue, WorkerGuard};
pub(crate) use progress::{PendingChanges, RunProgress};
pub(crate) use refusals::RefusalScope;
pub(crate) use target::{
    CONNECTION_CACHE_TTL, Confirmed, SystemContext, SystemContexts, SystemDispatcher,
};
