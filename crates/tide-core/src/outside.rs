//! Records outside of an incremental decision, as far as it depends on them.

use crate::memberships::MembershipRules;
use crate::states::ObjectType;
use std::collections::{BTreeMap, HashSet};

/// Knowledge about the records outside of an incremental decision.
pub trait OutsideRecords: Sync {
    /// Whether an identity outside of the records uses a generated value (folded by
    /// [`crate::generate::fold_name`]).
    fn is_taken(&self, kind: ObjectType, attribute: &str, folded: &str) -> bool;
    /// How many identities outside of the records hold each distributed value, without some
    /// identities.
    fn distribution(
        &self,
        kind: ObjectType,
        attribute: &str,
        without: &HashSet<&str>,
    ) -> BTreeMap<String, ValueDistribution>;
    /// The distributed value that the last decision proposed for an identity that is not stored yet;
    /// `None` to choose anew.
    fn proposed_value(&self, _identity: &str, _attribute: &str) -> Option<String> {
        None
    }
    /// The memberships of groups outside of the records; `None` if all groups are among them.
    fn memberships(&self) -> Option<&MembershipRules>;
}

/// How many hold a value that identities are spread over.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct ValueDistribution {
    /// The number of identities that ever got it.
    pub all: usize,
    /// How many of them are here.
    pub here: usize,
}

/// For a decision about all records.
pub(crate) struct NoOutsideRecords;

impl OutsideRecords for NoOutsideRecords {
    fn is_taken(&self, _: ObjectType, _: &str, _: &str) -> bool {
        false
    }

    fn distribution(
        &self,
        _: ObjectType,
        _: &str,
        _: &HashSet<&str>,
    ) -> BTreeMap<String, ValueDistribution> {
        BTreeMap::new()
    }

    fn memberships(&self) -> Option<&MembershipRules> {
        None
    }
}
