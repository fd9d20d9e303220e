//! Running counts of distributed values, while identities come and go.

use crate::model::{Identity, Stage};
use crate::outside::ValueDistribution;
use crate::rules::RuleSet;
use crate::states::ObjectType;
use crate::value::Value;
use rustc_hash::FxHashMap;
use std::collections::{BTreeMap, HashSet};

/// The value of one identity: the attribute, its value, and whether the identity is present.
type Held = (String, String, bool);

/// The values of all identities.
#[derive(Debug, Default)]
pub(super) struct DistributionCounts {
    counts: FxHashMap<(ObjectType, String), BTreeMap<String, ValueDistribution>>,
    of: FxHashMap<String, (ObjectType, Vec<Held>)>,
}

impl DistributionCounts {
    pub fn count_identity(&mut self, rules: &RuleSet, identity: &Identity) {
        let Some(declared) = rules.identities.get(&identity.kind) else {
            return;
        };
        let mut now = Vec::new();
        for attribute in declared
            .attributes
            .iter()
            .filter(|attribute| attribute.distribution.is_some())
        {
            let value = identity
                .attributes
                .get(&attribute.name)
                .first()
                .map(Value::to_string);
            now.extend(
                value.map(|value| (attribute.name.clone(), value, identity.stage != Stage::Left)),
            );
        }
        let before = if now.is_empty() {
            self.of.remove(&identity.id)
        } else {
            self.of
                .insert(identity.id.clone(), (identity.kind, now.clone()))
        };
        for (attribute, value, here) in before.into_iter().flat_map(|(_, held)| held) {
            let count = self
                .counts
                .entry((identity.kind, attribute))
                .or_default()
                .entry(value)
                .or_default();
            (count.all, count.here) = (count.all - 1, count.here - usize::from(here));
        }
        for (attribute, value, here) in now {
            let count = self
                .counts
                .entry((identity.kind, attribute))
                .or_default()
                .entry(value)
                .or_default();
            (count.all, count.here) = (count.all + 1, count.here + usize::from(here));
        }
    }

    /// Assigns a value to an identity that is present and has none.
    pub fn assign(&mut self, identity: &str, kind: ObjectType, attribute: &str, value: &str) {
        let held = (attribute.to_owned(), value.to_owned(), true);
        let of = self.of.entry(identity.to_owned());
        of.or_insert_with(|| (kind, Vec::new())).1.push(held);
        let counts = self.counts.entry((kind, attribute.to_owned())).or_default();
        let count = counts.entry(value.to_owned()).or_default();
        (count.all, count.here) = (count.all + 1, count.here + 1);
    }

    /// Removes the values of an identity that no longer exists.
    pub fn remove_identity(&mut self, id: &str) {
        let Some((kind, held)) = self.of.remove(id) else {
            return;
        };
        for (attribute, value, here) in held {
            let count = self
                .counts
                .entry((kind, attribute))
                .or_default()
                .entry(value)
                .or_default();
            (count.all, count.here) = (count.all - 1, count.here - usize::from(here));
        }
    }

    /// The value of an identity.
    pub fn value_of(&self, identity: &str, attribute: &str) -> Option<String> {
        let (_, held) = self.of.get(identity)?;
        let mut held = held.iter().filter(|(name, ..)| name == attribute);
        held.next().map(|(_, value, _)| value.clone())
    }

    /// The counts of an attribute, without some identities.
    pub fn counts_without(
        &self,
        kind: ObjectType,
        attribute: &str,
        some: &HashSet<&str>,
    ) -> BTreeMap<String, ValueDistribution> {
        let mut counts = self
            .counts
            .get(&(kind, attribute.to_owned()))
            .cloned()
            .unwrap_or_default();
        for id in some {
            let held = self
                .of
                .get(*id)
                .into_iter()
                .flat_map(|(_, held)| held)
                .filter(|(name, ..)| name == attribute);
            for (_, value, here) in held {
                if let Some(count) = counts.get_mut(value) {
                    (count.all, count.here) = (count.all - 1, count.here - usize::from(*here));
                }
            }
        }
        counts
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn assigned_values_count_until_their_identity_is_gone() {
        let kind = ObjectType::Person;
        let mut spread = DistributionCounts::default();
        spread.assign("ada", kind, "side", "port");
        spread.assign("bo", kind, "side", "port");
        spread.assign("bo", kind, "watch", "first");
        let here = |spread: &DistributionCounts, without: &[&str]| {
            let without = without.iter().copied().collect();
            let counts = spread.counts_without(kind, "side", &without);
            counts["port"].here
        };
        assert_eq!(here(&spread, &[]), 2);
        assert_eq!(here(&spread, &["ada"]), 1);
        assert_eq!(spread.value_of("bo", "watch").as_deref(), Some("first"));
        spread.remove_identity("bo");
        assert_eq!(here(&spread, &[]), 1);
        assert_eq!(spread.value_of("bo", "watch"), None);
    }
}
