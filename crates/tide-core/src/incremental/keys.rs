//! The hashes of records for the dependency index.

use super::dependency_index::{IndexKeys, hash};
use super::{SystemFactsMap, taken_hash};
use crate::compose::{self, Shape};
use crate::decide::people::possible_id;
use crate::matching::{account_keys, identity_keys};
use crate::model::{Account, AccountId, Identity, MatchDecision, Population, Stage};
use crate::references::fold_reference;
use crate::rules::{IdentityRules, RuleSet, TypeRules};
use crate::schema::Schema;
use crate::scope::members_of;
use crate::states::ObjectType;
use crate::value::Value;
use std::collections::{BTreeSet, HashMap};

/// How many identity ids an account without an identity can produce.
const IDS: u32 = 4;

/// The hash of a value that must be unique in a target: it joins the record that has the value and
/// the one that wants it.
fn unique_value_hash(system: &str, attribute: &str, value: &Value) -> u64 {
    hash(&[
        "holds",
        system,
        &attribute.to_lowercase(),
        &value.to_string().trim().to_lowercase(),
    ])
}

/// Lookup tables over the records of a population.
pub(super) struct RecordKeys<'a> {
    owner: HashMap<AccountId, &'a str>,
    reserved: HashMap<&'a str, Vec<(&'a str, &'a str)>>,
    said_of_account: HashMap<AccountId, Vec<&'a str>>,
}

impl<'a> RecordKeys<'a> {
    pub fn of(population: &'a Population) -> RecordKeys<'a> {
        let mut about = RecordKeys {
            owner: population
                .links
                .iter()
                .map(|link| (link.account, link.identity.as_str()))
                .collect(),
            reserved: HashMap::new(),
            said_of_account: HashMap::new(),
        };
        for name in &population.reserved_values {
            about
                .reserved
                .entry(&name.identity)
                .or_default()
                .push((&name.attribute, &name.value));
        }
        for answer in population
            .match_answers
            .iter()
            .filter(|answer| answer.decision == MatchDecision::Join)
        {
            if let (Some(account), Some(identity)) = (answer.account, answer.identity.as_deref()) {
                about
                    .said_of_account
                    .entry(account)
                    .or_default()
                    .push(identity);
            }
        }
        about
    }

    pub fn owner(&self, account: AccountId) -> Option<&'a str> {
        self.owner.get(&account).copied()
    }
}

/// The parts of the rules that determine the hashes of records.
pub(super) struct KeyRules {
    /// The reference attributes of each type.
    pointing: HashMap<ObjectType, IdentityRules>,
    /// Attributes by which sources refer to other identities.
    numbers: Vec<String>,
    /// The mappings of unique values of each target.
    names: Vec<(String, ObjectType, TypeRules, Schema)>,
    /// Systems whose groups define a scope.
    asked: BTreeSet<String>,
    /// Nested groups are flattened somewhere: their parents are decided with them.
    flat: bool,
    /// The groups that define a scope, by system and folded name.
    groups: Vec<(String, String)>,
}

impl KeyRules {
    pub fn new(rules: &RuleSet, facts: &SystemFactsMap) -> KeyRules {
        let mut keys = KeyRules {
            pointing: HashMap::new(),
            numbers: Vec::new(),
            names: Vec::new(),
            asked: BTreeSet::new(),
            flat: false,
            groups: Vec::new(),
        };
        for (kind, identity) in &rules.identities {
            let attributes: Vec<_> = identity
                .attributes
                .iter()
                .filter(|attribute| attribute.reference.is_some())
                .cloned()
                .collect();
            keys.numbers.extend(
                attributes
                    .iter()
                    .filter_map(|attribute| attribute.reference.as_ref()?.by.clone()),
            );
            if !attributes.is_empty() {
                keys.pointing.insert(
                    *kind,
                    IdentityRules {
                        attributes,
                        label: None,
                    },
                );
            }
        }
        for (system, all) in &rules.systems {
            for (kind, types) in &all.types {
                let schema = facts.get(system).and_then(|facts| facts.schema.get(kind));
                if let (Some(schema), true) = (schema, types.is_target())
                    && schema.unique_attributes().next().is_some()
                {
                    let is_unique = |name: &str| {
                        schema
                            .unique_attributes()
                            .any(|unique| unique.eq_ignore_ascii_case(name))
                    };
                    let mut only = types.clone();
                    only.outbound
                        .retain(|mapping| is_unique(&mapping.attribute));
                    only.populations
                        .iter_mut()
                        .for_each(|p| p.outbound.retain(|mapping| is_unique(&mapping.attribute)));
                    keys.names
                        .push((system.clone(), *kind, only, schema.clone()));
                }
                keys.flat |= types
                    .outbound
                    .iter()
                    .chain(types.populations.iter().flat_map(|p| &p.outbound))
                    .any(|mapping| mapping.flatten);
                for (system, group) in types.scope.groups_in(system) {
                    keys.asked.insert(system.to_owned());
                    keys.groups
                        .push((system.to_owned(), fold_reference(&group)));
                }
            }
        }
        keys
    }

    /// Whether groups of this system define a scope.
    pub fn asks_for(&self, system: &str) -> bool {
        self.asked.contains(system)
    }

    /// Whether any mapping flattens nested groups.
    pub fn flattens_groups(&self) -> bool {
        self.flat
    }

    /// Whether a scope is defined by a group of one of these names, folded.
    pub fn defines_scope(&self, system: &str, names: &[String]) -> bool {
        let mut groups = self.groups.iter();
        groups.any(|(of, name)| of == system && names.contains(name))
    }

    /// The groups that define a scope, and the groups nested in them.
    pub fn scope_groups(&self, population: &Population) -> BTreeSet<AccountId> {
        members_of(population, &self.groups)
    }

    pub fn account_keys(
        &self,
        rules: &RuleSet,
        account: &Account,
        about: &RecordKeys<'_>,
    ) -> IndexKeys {
        let mut hashes = IndexKeys::default();
        let (system, kind) = (account.system.as_str(), account.kind.as_str());
        let owner = about.owner(account.id);
        match owner {
            Some(owner) => hashes.joins_on.push(hash(&["id", owner])),
            None => hashes.joins_on.extend(
                (0..IDS).map(|attempt| hash(&["id", &possible_id(account.kind, account, attempt)])),
            ),
        }
        hashes.joins_on.extend(
            about
                .said_of_account
                .get(&account.id)
                .into_iter()
                .flatten()
                .map(|id| hash(&["id", id])),
        );
        let types = rules.of(system, account.kind);
        for (place, rule) in types
            .into_iter()
            .flat_map(|types| types.matching.iter().enumerate())
        {
            let keys = account_keys(rule, account);
            hashes.joins_on.extend(
                keys.iter()
                    .map(|key| hash(&["matches", system, kind, &place.to_string(), key])),
            );
        }
        for (_, _, _, schema) in self.names.iter().filter(|(name, ..)| name == system) {
            for attribute in schema.unique_attributes() {
                hashes.joins_on.extend(
                    account
                        .attributes
                        .get(attribute)
                        .iter()
                        .map(|value| unique_value_hash(system, attribute, value)),
                );
            }
        }
        if !self.pointing.is_empty() {
            add_names(account, &mut hashes, system, owner);
        }
        if let (Some(pointing), Some(types)) = (
            self.pointing.get(&account.kind),
            types.filter(|types| types.is_source()),
        ) {
            // Each source separately, independent of the authority.
            let raw =
                compose::compose_identity(pointing, &[(system, types, account)], false).attributes;
            for value in raw.iter().flat_map(|(_, values)| values) {
                let text = fold_reference(&value.to_string());
                // A person is identified by the names of all its sources.
                hashes.refers_to.extend(
                    rules
                        .sources(account.kind)
                        .map(|(system, _)| hash(&["name", system, &text])),
                );
                hashes
                    .refers_to
                    .extend(self.numbers.iter().map(|by| hash(&["number", by, &text])));
            }
        }
        add_reserved(rules, account, &mut hashes, system);
        hashes
    }

    /// The keys by which the accounts of each source find an identity that is not stored yet: its
    /// values of the sources before that one. Roles and later sources may change these values in
    /// the end.
    pub fn proposed_identity_keys(
        &self,
        rules: &RuleSet,
        kind: ObjectType,
        accounts: &[&Account],
    ) -> Vec<u64> {
        let Some(declared) = rules.identities.get(&kind) else {
            return Vec::new();
        };
        let mut hashes = Vec::new();
        for (system, types) in rules.sources(kind) {
            let before = accounts
                .iter()
                .filter(|account| account.system.as_str() < system);
            let feeding: Vec<_> = before
                .filter_map(|one| Some((one.system.as_str(), rules.of(&one.system, kind)?, *one)))
                .collect();
            if feeding.is_empty() {
                continue;
            }
            let attributes = compose::compose_identity(declared, &feeding, false).attributes;
            for (place, rule) in types.matching.iter().enumerate() {
                let keys = identity_keys(rule, &attributes);
                hashes.extend(
                    keys.iter().map(|key| {
                        hash(&["matches", system, kind.as_str(), &place.to_string(), key])
                    }),
                );
            }
        }
        hashes
    }

    /// The keys of an identity, as stored or as just composed.
    pub fn identity_keys(
        &self,
        rules: &RuleSet,
        identity: &Identity,
        about: &RecordKeys<'_>,
    ) -> IndexKeys {
        let mut hashes = IndexKeys {
            joins_on: vec![hash(&["id", &identity.id])],
            ..IndexKeys::default()
        };
        let kind = identity.kind;
        // Rules can read these two attributes, which are not stored.
        let mut attributes = identity.attributes.clone();
        attributes.set("id", vec![Value::text(&identity.id)]);
        attributes.set("stage", vec![Value::text(identity.stage.as_str())]);
        for (system, all) in &rules.systems {
            for (place, rule) in all
                .types
                .get(&kind)
                .into_iter()
                .flat_map(|types| types.matching.iter().enumerate())
            {
                let keys = identity_keys(rule, &attributes);
                hashes.joins_on.extend(
                    keys.iter().map(|key| {
                        hash(&["matches", system, kind.as_str(), &place.to_string(), key])
                    }),
                );
            }
        }
        for (system, _, types, schema) in self.names.iter().filter(|(_, of, ..)| *of == kind) {
            let desired = Shape::new(types, Some(schema)).desired_account(&attributes, None);
            let first = desired.wanted.iter().filter_map(|wanted| {
                Some((wanted.mapping.attribute.as_str(), wanted.values.first()?))
            });
            hashes.joins_on.extend(
                first.map(|(attribute, value)| unique_value_hash(system, attribute, value)),
            );
        }
        self.add_attribute_keys(rules, identity, &mut hashes, kind);
        for (attribute, value) in about
            .reserved
            .get(identity.id.as_str())
            .into_iter()
            .flatten()
        {
            hashes.reserves.push(taken_hash(kind, attribute, value));
        }
        if !self.pointing.is_empty() {
            let left = if identity.stage == Stage::Left {
                "left"
            } else {
                "here"
            };
            hashes.identified_by.extend([
                hash(&["who", &identity.id]),
                hash(&["state", left, &identity.id]),
            ]);
            for by in &self.numbers {
                let values = identity.attributes.get(by);
                hashes.identified_by.extend(
                    values
                        .iter()
                        .map(|value| hash(&["number", by, &fold_reference(&value.to_string())])),
                );
            }
        }
        hashes
    }

    /// Adds the keys of unique, nested, referring and generated attributes.
    fn add_attribute_keys(
        &self,
        rules: &RuleSet,
        identity: &Identity,
        hashes: &mut IndexKeys,
        kind: ObjectType,
    ) {
        let declared = rules.identities.get(&kind);
        for attribute in declared
            .into_iter()
            .flat_map(|declared| &declared.attributes)
        {
            let values = identity.attributes.get(&attribute.name);
            if attribute.unique {
                let folded = values
                    .iter()
                    .map(|value| value.to_string().trim().to_lowercase());
                hashes.joins_on.extend(
                    folded.map(|value| hash(&["unique", kind.as_str(), &attribute.name, &value])),
                );
            }
            if attribute.reference.is_some() && self.flat && kind == ObjectType::Group {
                hashes.joins_on.push(hash(&["nested", &identity.id]));
                hashes.joins_on.extend(
                    values
                        .iter()
                        .map(|value| hash(&["nested", &value.to_string()])),
                );
            }
            if attribute.reference.is_some() {
                hashes.refers_to.extend(
                    values
                        .iter()
                        .map(|value| hash(&["who", &value.to_string()])),
                );
            }
            if attribute.generated.is_some() {
                hashes.reserves.extend(
                    values
                        .iter()
                        .map(|value| taken_hash(kind, &attribute.name, &value.to_string())),
                );
            }
        }
    }
}

/// Adds the names by which references mean an account.
fn add_names(account: &Account, hashes: &mut IndexKeys, system: &str, owner: Option<&str>) {
    // The referenced identity changes if the account is linked to another one, or absent.
    let state = if account.absent_since.is_some() {
        "absent"
    } else {
        "here"
    };
    hashes
        .identified_by
        .push(hash(&["state", state, owner.unwrap_or_default()]));
    let uid = account
        .attributes
        .get("uid")
        .first()
        .map(|uid| uid.to_string().to_lowercase());
    let names = [
        Some(fold_reference(&account.name)),
        Some(account.key.to_lowercase()),
        uid,
    ];
    hashes.identified_by.extend(
        names
            .into_iter()
            .flatten()
            .map(|name| hash(&["name", system, &name])),
    );
}

/// Adds the generated values that an account uses up in a system.
fn add_reserved(rules: &RuleSet, account: &Account, hashes: &mut IndexKeys, system: &str) {
    for (kind, declared) in &rules.identities {
        for attribute in &declared.attributes {
            for (_, name) in attribute
                .generated
                .iter()
                .flat_map(|g| &g.unique_in)
                .filter(|(there, _)| there == system)
            {
                let values = account.attributes.get(name);
                hashes.reserves.extend(
                    values
                        .iter()
                        .map(|value| taken_hash(*kind, &attribute.name, &value.to_string())),
                );
            }
        }
    }
}
