//! What the engine tells those who watch.

use serde::Serialize;
use tide_core::states::ChangeSetState;
use tide_core::states::ReadState;

/// Something happened.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(tag = "event", rename_all = "snake_case")]
pub enum Event {
    /// A system was added, tested, or its state changed.
    System {
        /// Its name.
        name: String,
    },
    /// A reading goes on.
    Reading {
        /// The system.
        system: String,
        /// How many accounts were shown.
        seen: usize,
        /// Where it stands.
        state: ReadState,
    },
    /// A change set stands somewhere else now.
    ChangeSet {
        /// Its number.
        id: i64,
        /// Where it stands.
        state: ChangeSetState,
    },
    /// A run goes on.
    Progress {
        /// The run.
        id: i64,
        /// Changes confirmed.
        done: usize,
        /// Changes refused.
        failed: usize,
        /// Changes in all.
        total: usize,
        /// Confirmed changes in a second, times ten.
        per_ten_seconds: usize,
        /// Seconds left, at this rate.
        seconds_left: Option<u64>,
    },
    /// Something was noticed that somebody should know of.
    Noticed,
    /// Rules were published.
    Rules {
        /// The version.
        version: i64,
    },
}
