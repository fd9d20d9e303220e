//! The database: the writer task, errors, codes and restore.

pub(crate) mod codes;
pub(crate) mod error;
pub(crate) mod restore;
pub(crate) mod writer;
