//! Approvals, guards, alerts and notifications.

pub(crate) mod approvals;
pub(crate) mod external_changes;
pub(crate) mod notifications;
pub(crate) mod overrides;
pub(crate) mod write_stop;
