//! `tide-core` decides. It takes what was observed, the rule set and the time, and answers with
//! changes, links and verdicts, each with its reason.
//!
//! It is *not* a place for input or output: no socket, file, SQL or clock is reached from here, so
//! everything in it is tested with small values in and values out.
//!
//! The path of a decision, module by module:
//! [`scope`] (who takes part) → [`compose`] (account → identity → desired account) →
//! [`matching`] (which account belongs to whom) → [`compare`] (what differs) → [`decide`].
//! [`approvals`] says who must agree before something is sent.
//! [`nearby`] finds who must be decided about when something changes, and comes to the same answer for less.
//! [`explain`] walks the same path for one person and keeps every step.

#[macro_use]
mod codes;

pub mod approvals;
pub mod compare;
pub mod compose;
pub mod decide;
pub mod explain;
pub mod expr;
pub mod generate;
pub mod impact;
pub mod incremental;
pub mod interrupt;
pub mod licenses;
pub mod lifecycle;
pub mod matching;
pub mod memberships;
pub mod model;
pub mod notifications;
pub mod permissions;
pub mod reasons;
pub mod references;
pub mod roles;
pub mod rules;
pub mod schema;
pub mod scope;
pub mod states;
pub mod value;

pub use decide::{Outcome, decide};
pub use model::{Account, Identity, Link, ObjectType, Population, Stage, SystemFacts};
pub use reasons::{HoldCause, HoldOwner, Place, Reason, ValueReason};
pub use rules::RuleSet;
pub use schema::{AttributeDef, Schema};
pub use value::{Attributes, Value};
