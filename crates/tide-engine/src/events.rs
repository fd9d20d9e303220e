//! The events of the engine, as sent to the console.

use serde::Serialize;
use tide_core::states::{ChangeSetState, ReadState};

/// An event.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(tag = "event", rename_all = "snake_case")]
pub enum Event {
    /// A system was added, tested, or its state changed.
    System {
        /// Its name.
        name: String,
    },
    /// A full read is in progress, or ended.
    FullRead {
        /// The system.
        system: String,
        /// The number of objects received so far.
        object_count: usize,
        /// Its state.
        state: ReadState,
    },
    /// The state of a change set changed.
    ChangeSet {
        /// Its number.
        id: i64,
        /// Its state.
        state: ChangeSetState,
    },
    /// A run is in progress.
    Progress {
        /// The run.
        id: i64,
        /// Changes confirmed.
        done: usize,
        /// Changes that failed.
        failed: usize,
        /// All changes.
        total: usize,
        /// Confirmed changes per ten seconds.
        per_ten_seconds: usize,
        /// Seconds left, at this rate.
        seconds_left: Option<u64>,
    },
    /// A decision about all records is being made: of a preview, of a run, or of an impact.
    Computing {
        /// Steps that are done.
        done: usize,
        /// About how many there are; 0 before it began.
        total: usize,
    },
    /// Alerts, decisions or health changed.
    AttentionChanged,
    /// Rules were published.
    Rules {
        /// The version.
        version: i64,
    },
}
