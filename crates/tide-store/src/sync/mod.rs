//! Systems, their sync cursors, and what they push.

pub(crate) mod inbound;
pub(crate) mod sync_cursor;
pub(crate) mod systems;
