//! Everything that comes in: full reads, watched changes, feed files, and what systems push.

mod change_feed;
mod feeds;
mod full_read;
mod push;
mod reads;
mod watchers;

pub use full_read::Read;
pub use push::InboundEvent;
pub use watchers::WatcherStatus;

use crate::connections::Connections;
use crate::context::Context;
use crate::foundation::Foundation;
use crate::pending::PendingWork;
use crate::rules::RuleCompiler;
use full_read::Locks;
use std::collections::BTreeMap;
use std::sync::{Arc, Mutex};
use tide_core::ObjectType;

/// Reads and watches systems. It reports what it stored to [`PendingWork`] only.
pub struct Ingest {
    context: Arc<Context>,
    rules: Arc<RuleCompiler>,
    connections: Arc<Connections>,
    pending: Arc<PendingWork>,
    /// Locks by system and type: two reads of the same accounts never overlap. Taken before those
    /// of decisions.
    read_locks: Mutex<Locks>,
    /// The status of each watcher.
    watchers: Mutex<BTreeMap<(String, ObjectType), WatcherStatus>>,
}

impl Ingest {
    pub(crate) fn new(base: &Foundation) -> Ingest {
        Ingest {
            context: base.context.clone(),
            rules: base.rules.clone(),
            connections: base.connections.clone(),
            pending: base.pending.clone(),
            read_locks: Mutex::default(),
            watchers: Mutex::default(),
        }
    }
}
