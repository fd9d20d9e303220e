//! The rules of `approvals.toml`: who must approve a change before it is sent.

use crate::expr::Program;
use crate::reasons::Place;
use crate::states::{ChangeKind, ObjectType};

/// An approval rule: changes that it selects wait for approval.
#[derive(Debug, Clone)]
pub struct Approval {
    /// Its name, for reasons.
    pub name: String,
    /// The system; `None` is every system.
    pub system: Option<String>,
    /// The kinds of change; none named means all.
    pub changes: Vec<ChangeKind>,
    /// The type of the records that the changes are about.
    pub kind: ObjectType,
    /// The condition; `None` applies to all.
    pub when: Option<Program>,
    /// Whether one request covers all changes (batch), or each change has its own.
    pub batch: bool,
    /// The approver chooses up to this many of the offers to a person.
    pub choose_up_to: Option<u32>,
    /// The levels, in order.
    pub levels: Vec<Level>,
    /// Days after which a request without an answer expires.
    pub expires_after_days: u32,
    /// Days between reminders.
    pub remind_every_days: Option<u32>,
    /// The webhook that notifies and reminds the approvers; none: the request is only in the list
    /// of decisions.
    pub webhook: Option<String>,
    /// Its location in the rule files.
    pub place: Place,
}

/// One level: any one of its approvers can answer.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Level {
    /// Operators by name.
    pub operators: Vec<String>,
    /// Groups of operators.
    pub groups: Vec<String>,
    /// The attribute that refers to the approver: the person's manager, a group's owner.
    pub of: Option<String>,
    /// The owner of the group that a person joins or leaves, by its `owner` in the system.
    pub owner: bool,
}

impl Level {
    /// Names the approvers of the level.
    pub fn text(&self) -> String {
        let operators = self.operators.iter().cloned();
        let groups = self.groups.iter().map(|group| format!("one of {group}"));
        let of = self.of.iter().map(|of| format!("their {of}"));
        let owner = self.owner.then(|| "the group's owner".to_owned());
        operators
            .chain(groups)
            .chain(of)
            .chain(owner)
            .collect::<Vec<_>>()
            .join(" or ")
    }
}
