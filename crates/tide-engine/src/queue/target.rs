//! One system while changes are sent to it.

use crate::queue::prefetch::PrefetchQueue;
use crate::queue::refusals::Refusals;
use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;
use std::sync::atomic::AtomicUsize;
use tide_connect::{ConnectError, ConnectionState, Connector};
use tide_core::ObjectType;
use tide_core::rules::TypeRules;
use tide_store::{ChangeResult, SystemRow};
use tokio::sync::{Mutex, OwnedMutexGuard, mpsc, oneshot};

/// A confirmed change, and the sender that is notified once its result is stored.
pub(crate) struct Confirmed {
    pub(crate) settling: ChangeResult,
    pub(crate) password: bool,
    pub(crate) settled: oneshot::Sender<()>,
}

/// How long the context of a system is reused.
pub(crate) const CONNECTION_CACHE_TTL: std::time::Duration = std::time::Duration::from_secs(60);

/// The context for sending to a system.
#[derive(Clone)]
pub(crate) struct SystemContext {
    pub(crate) row: Arc<SystemRow>,
    pub(crate) connector: Arc<dyn Connector>,
    pub(crate) rules: Arc<BTreeMap<ObjectType, TypeRules>>,
    pub(crate) access: Arc<ConnectionState>,
    pub(crate) made: tide_clock::Instant,
}

/// The contexts by system, as long as neither rules nor systems change.
pub(crate) type SystemContexts = std::sync::Mutex<HashMap<String, SystemContext>>;

/// The dispatcher of one system in a run.
pub(crate) struct SystemDispatcher {
    pub(crate) row: Arc<SystemRow>,
    pub(crate) connector: Arc<dyn Connector>,
    pub(crate) access: Arc<ConnectionState>,
    /// Changes that can be sent now.
    pub(crate) ready: PrefetchQueue,
    /// Receives confirmed changes, whose results are stored together.
    pub(crate) confirmed: Option<mpsc::Sender<Confirmed>>,
    /// Set after a failure that concerns the whole system: nothing more is sent to it.
    pub(crate) down: Mutex<Option<ConnectError>>,
    /// Number of transient failures in a row.
    pub(crate) in_a_row: AtomicUsize,
    /// Kinds and places of changes that are refused for lack of a permission.
    pub(crate) refusals: std::sync::Mutex<Refusals>,
    /// Groups with a membership write in progress: one at a time, so that concurrent writes do not
    /// undo each other.
    pub(crate) groups: Mutex<HashMap<i64, Arc<Mutex<()>>>>,
    /// The rules of its accounts, by type.
    pub(crate) rules: Arc<BTreeMap<ObjectType, TypeRules>>,
}

impl SystemDispatcher {
    /// Waits until no other worker writes the members of a group.
    pub(crate) async fn lock_group(&self, group: Option<i64>) -> Option<OwnedMutexGuard<()>> {
        let own = self.groups.lock().await.entry(group?).or_default().clone();
        Some(own.lock_owned().await)
    }
}

impl SystemDispatcher {
    /// Why accounts of a type are not written at this moment; `None` if they are.
    pub(crate) fn stopped(&self, object: ObjectType) -> Option<ConnectError> {
        self.access.write_stop_of(object)
    }
}
