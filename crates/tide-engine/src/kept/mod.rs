//! What is kept of a decision, for lists and counts: outcomes, and what people hold.

mod holdings;
mod holds;
mod identities;
mod outcomes;
mod scope;

pub use holdings::Holder;
pub(crate) use holdings::{Turns, seat_holdings, turns};
pub(crate) use holds::{CollectedHolds, HoldCache, collect_holds, key_of_change, subjects};
pub(crate) use identities::{identity_updates, records_to_store};
pub use outcomes::kept_outcomes;
pub(crate) use outcomes::outcome_records;
pub use scope::{ScopeCount, ScopeLine};
pub(crate) use scope::{count_reasons, scope_line, scope_lines, shared_text, sort_counts};
