//! `tide-core` decides: from the records, the rule set and the time, it computes changes, links and
//! verdicts, each with its reason.
//!
//! It does no I/O: no socket, file, SQL or clock. So everything in it is tested with plain values.
//!
//! The path of a decision, module by module:
//! [`scope`] (who is processed) → [`compose`] (account → identity → desired account) →
//! [`matching`] (which identity an account belongs to) → [`compare`] (differences) → [`mod@decide`].
//! [`decide::approvals`] selects changes that need approval.
//! [`incremental`] makes the same decision about changed records only.
//! [`explain`] repeats the decision for one person and records every step.

#[macro_use]
mod codes;

pub mod compare;
pub mod compose;
pub mod computation;
pub mod decide;
pub mod equality;
mod examples;
pub mod explain;
pub mod expr;
pub mod generate;
pub mod impact;
pub mod incremental;
pub mod lifecycle;
pub mod matching;
pub mod memberships;
pub mod model;
pub mod outside;
pub mod permissions;
pub mod reasons;
pub mod references;
pub mod roles;
pub mod rules;
pub mod schema;
pub mod scope;
pub mod states;
pub mod value;
mod workers;

pub use codes::UnknownCode;
pub use decide::{Outcome, decide};
pub use model::{Account, Identity, Link, Population, Stage, SystemFacts};
pub use reasons::{HoldCause, HoldOwner, Place, Reason, ReasonCode, ReasonKind, ValueReason};
pub use rules::RuleSet;
pub use schema::{AttributeDef, Schema};
pub use states::ObjectType;
pub use value::{Attributes, Value};
pub use workers::Workers;
