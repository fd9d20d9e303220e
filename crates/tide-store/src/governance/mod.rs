//! What operators and rules hold, approve and announce.

pub(crate) mod approvals;
pub(crate) mod external_changes;
pub(crate) mod notifications;
pub(crate) mod overrides;
pub(crate) mod write_stop;
