//! The observed state of systems: accounts and memberships.

pub(crate) mod accounts;
pub(crate) mod membership_delta;
