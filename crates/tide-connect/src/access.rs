//! Read-only, enforced in one place.

use crate::ConnectError;
use std::sync::RwLock;
use tide_core::ObjectType;

/// What may be written in a system, type by type. Shared by all who hold a connector to it, and
/// changed while they do.
#[derive(Debug, Default)]
pub struct Access {
    writable: RwLock<Vec<ObjectType>>,
}

/// The proof that a write was allowed. Only [`Access::permit`] makes one, and the functions that
/// send a write ask for it.
#[derive(Debug)]
pub struct Permit(());

impl Access {
    /// Access to these types; to none by default.
    pub fn new(writable: &[ObjectType]) -> Self {
        Access { writable: RwLock::new(writable.to_vec()) }
    }

    /// Changes what may be written, from the next write on.
    pub fn set(&self, writable: &[ObjectType]) {
        // A poisoned lock holds a whole value: the list is replaced, never edited.
        *self.writable.write().unwrap_or_else(std::sync::PoisonError::into_inner) = writable.to_vec();
    }

    /// Allows one write, or says why not.
    pub fn permit(&self, object: ObjectType) -> Result<Permit, ConnectError> {
        let writable = self.writable.read().unwrap_or_else(std::sync::PoisonError::into_inner);
        if writable.contains(&object) {
            Ok(Permit(()))
        } else {
            Err(ConnectError::lasting(
                "read_only",
                format!("the system is read-only for type {object}: nothing was sent"),
                format!("make it writable first: `eager-tide systems set NAME --writable {object}`"),
            ))
        }
    }
}
