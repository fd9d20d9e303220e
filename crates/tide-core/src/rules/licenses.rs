//! The rules of `licenses.toml`: the counted seats of a system.

use crate::expr::Program;
use crate::reasons::Place;
use crate::states::ObjectType;

/// A license that is counted.
#[derive(Debug, Clone)]
pub struct License {
    /// Its name.
    pub name: String,
    /// The system whose accounts use its seats.
    pub system: String,
    /// The type of account.
    pub kind: ObjectType,
    /// How many seats there are.
    pub seats: usize,
    /// The condition of accounts that use a seat. Reads `account.…`.
    pub consumed_when: Program,
    /// The order of the waiting list: the lowest value first. Reads `identity.…`.
    pub assign_order: Option<Program>,
    /// Its location in the rule files.
    pub place: Place,
}
