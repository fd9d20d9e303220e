//! The rules of `lifecycle.toml`, and the departure steps of a system: how people come, stay and go.

use crate::expr::Program;
use crate::reasons::Place;
use crate::states::DepartureAction;
use jiff::tz::TimeZone;

/// How identities of one type live.
#[derive(Debug, Clone)]
pub struct LifecycleRules {
    /// In which a date is meant.
    pub zone: TimeZone,
    /// The first day.
    pub starts: Option<Program>,
    /// The last day; it counts.
    pub ends: Option<Program>,
    /// Here again later.
    pub away: Option<Program>,
    /// The condition of leavers, whatever the dates say.
    pub left: Option<Program>,
    /// The last use, by any attribute that shows it.
    pub used: Option<Program>,
    /// After how many days without that they have left; 0 means never.
    pub inactive_after_days: u32,
    /// Days before and after.
    pub days: LifecycleDays,
    /// Other days for some; the first that holds.
    pub exceptions: Vec<Exception>,
    /// Its location in the rule files.
    pub place: Place,
}

/// Days before and after the dates.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct LifecycleDays {
    /// Days before the first day from which accounts are created; they are disabled until then.
    pub ready: u32,
    /// Days before the end from which a person is `leaving`.
    pub notice: u32,
    /// After the last day, for which access stays.
    pub grace: u32,
    /// Days that an absence from all sources must last before it counts. `None`: see [`crate::lifecycle::Absence`].
    pub absence_grace: Option<u32>,
}

/// Other days for some.
#[derive(Debug, Clone)]
pub struct Exception {
    /// The condition of the people to whom it applies.
    pub when: Program,
    /// The days that are others.
    pub days: [Option<u32>; 4],
    /// Its location in the rule files.
    pub place: Place,
}

/// A departure step for the account of a leaver, in the order of the rules.
#[derive(Debug, Clone)]
pub struct DepartureStep {
    /// What.
    pub act: DepartureAct,
    /// Days after they left.
    pub after_days: u32,
    /// The condition; `None` applies to all.
    pub when: Option<Program>,
    /// Its location in the rule files.
    pub place: Place,
}

/// The action of a departure step.
#[derive(Debug, Clone)]
pub enum DepartureAct {
    /// It can no longer be used.
    Disable,
    /// It gets a random password.
    RandomizePassword,
    /// Sets a value, or clears it if the expression yields none; a reference can be the id of an
    /// identity.
    Set {
        /// The attribute.
        attribute: String,
        /// The value.
        value: Program,
    },
    /// Removes all memberships there, and clears these values.
    Revoke {
        /// Attributes that grant something.
        attributes: Vec<String>,
    },
    /// It gets another name: another container of a directory.
    Move {
        /// The name.
        to: Program,
    },
    /// It is removed.
    Delete,
}

impl DepartureAct {
    /// The kind of step.
    pub fn action(&self) -> DepartureAction {
        match self {
            DepartureAct::Disable => DepartureAction::Disable,
            DepartureAct::RandomizePassword => DepartureAction::RandomizePassword,
            DepartureAct::Set { .. } => DepartureAction::Set,
            DepartureAct::Revoke { .. } => DepartureAction::Revoke,
            DepartureAct::Move { .. } => DepartureAction::Move,
            DepartureAct::Delete => DepartureAction::Delete,
        }
    }
}
