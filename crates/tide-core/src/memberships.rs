//! Direct memberships, for rules that add and remove members one at a time: a group of tens of
//! thousands is neither read nor compared for one of its members.

use crate::model::{Account, AccountId, Population};
use crate::references::fold_reference;
use crate::rules::RuleSet;
use crate::schema::MEMBERS;
use crate::scope::{member_references, names_of};
use crate::states::ObjectType;
use crate::value::Value;
use rustc_hash::{FxHashMap, FxHashSet};
use std::collections::{BTreeSet, HashMap};

/// One group of a system whose memberships follow rules.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Group {
    /// Its lasting key there.
    pub key: String,
    /// Its name there.
    pub name: String,
    /// The names by which rules may know it, folded.
    pub names: Vec<String>,
    /// Its label.
    pub label: String,
    /// The attribute that lists its members.
    pub attribute: String,
    /// Its owners, as the system names them.
    pub owners: Vec<String>,
    /// It belongs to an identity.
    pub owned: bool,
    members: FxHashSet<u64>,
}

/// The result of updating a group in the index.
#[derive(Debug, PartialEq, Eq)]
pub(crate) enum IndexedMembership {
    /// It is new, gone or called otherwise: anybody may be concerned.
    Otherwise,
    /// These joined or left.
    Members(Vec<u64>),
}

/// How a group's attribute names a member: by its name or its key, and by its `uid` in groups of
/// RFC 2307.
pub fn member_value(attribute: &str, account: &Account, by_name: bool) -> Value {
    match attribute {
        "memberUid" => Value::text(
            account
                .attributes
                .get("uid")
                .first()
                .map(Value::to_string)
                .unwrap_or_default(),
        ),
        _ if by_name => Value::Reference(account.name.clone()),
        _ => Value::Reference(account.key.clone()),
    }
}

/// The groups of all systems whose memberships follow rules.
#[derive(Debug, Default)]
pub struct MembershipRules {
    systems: BTreeSet<String>,
    groups: HashMap<AccountId, (String, Group)>,
    by_name: HashMap<(String, String), AccountId>,
    of: FxHashMap<u64, Vec<AccountId>>,
}

/// A member as it is found by its name.
pub(crate) fn hash(system: &str, folded: &str) -> u64 {
    let mut hasher = xxhash_rust::xxh3::Xxh3::new();
    for part in [system, folded] {
        hasher.update(part.as_bytes());
        hasher.update(&[0]);
    }
    hasher.digest()
}

/// Systems whose memberships are changed one at a time.
pub fn systems(rules: &RuleSet) -> BTreeSet<String> {
    let concerns = |types: &crate::rules::TypeRules| {
        let revokes = |step: &crate::rules::lifecycle::DepartureStep| {
            matches!(
                step.act,
                crate::rules::lifecycle::DepartureAct::Revoke { .. }
            )
        };
        !types.memberships.is_empty() || types.departure.iter().any(revokes)
    };
    rules
        .systems
        .iter()
        .filter(|(_, system)| system.types.values().any(concerns))
        .map(|(name, _)| name.clone())
        .collect()
}

impl MembershipRules {
    /// Without any group yet.
    pub(crate) fn for_rules(rules: &RuleSet) -> Self {
        MembershipRules {
            systems: systems(rules),
            ..MembershipRules::default()
        }
    }

    /// The groups of a population in systems whose memberships follow rules.
    pub fn of(rules: &RuleSet, population: &Population) -> Self {
        let mut all = MembershipRules::for_rules(rules);
        if !all.systems.is_empty() {
            let owner: FxHashSet<AccountId> =
                population.links.iter().map(|link| link.account).collect();
            for account in &population.accounts {
                if all.concerns(account) {
                    all.update_group(account, owner.contains(&account.id));
                }
            }
        }
        all
    }

    /// Whether it is a group of a system whose memberships follow rules.
    pub(crate) fn concerns(&self, account: &Account) -> bool {
        account.kind == ObjectType::Group && self.systems.contains(&account.system)
    }

    /// Whether memberships of this system follow rules.
    pub(crate) fn follows_rules(&self, system: &str) -> bool {
        self.systems.contains(system)
    }

    /// The group of this name, with its row.
    pub fn find(&self, system: &str, name: &str) -> Option<(AccountId, &Group)> {
        let id = *self
            .by_name
            .get(&(system.to_owned(), fold_reference(name)))?;
        Some((id, self.get(id)?))
    }

    /// A group by its row.
    pub fn get(&self, id: AccountId) -> Option<&Group> {
        self.groups.get(&id).map(|(_, group)| group)
    }

    /// The system that a group is in.
    pub fn system_of(&self, id: AccountId) -> Option<&str> {
        self.groups.get(&id).map(|(system, _)| system.as_str())
    }

    /// The groups that an account is a direct member of.
    pub fn held_by(&self, account: &Account) -> BTreeSet<AccountId> {
        let names = names_of(account)
            .into_iter()
            .map(|name| hash(&account.system, &name));
        names
            .filter_map(|hash| self.of.get(&hash))
            .flatten()
            .copied()
            .collect()
    }

    /// Whether a group has this name, folded, as a direct member.
    pub fn holds(&self, group: AccountId, folded: &str) -> bool {
        self.groups
            .get(&group)
            .is_some_and(|(system, known)| known.members.contains(&hash(system, folded)))
    }

    /// Applies that a person, by a folded name, joined or left a group. `None` if the group is
    /// not known here.
    pub(crate) fn apply_membership(
        &mut self,
        group: AccountId,
        member: &str,
        there: bool,
    ) -> Option<u64> {
        let (system, known) = self.groups.get_mut(&group)?;
        let hash = hash(system, member);
        match there {
            true if known.members.insert(hash) => self.of.entry(hash).or_default().push(group),
            false if known.members.remove(&hash) => {
                if let Some(groups) = self.of.get_mut(&hash) {
                    groups.retain(|id| *id != group);
                }
            }
            _ => {}
        }
        Some(hash)
    }

    /// Updates the index of a group.
    pub(crate) fn update_group(&mut self, account: &Account, owned: bool) -> IndexedMembership {
        let gone = account.absent_since.is_some() || account.fault.is_some();
        let now = (!gone).then(|| read(account, owned));
        let before = self.groups.remove(&account.id).map(|(_, group)| group);
        if let Some(before) = &before {
            for name in &before.names {
                let name = (account.system.clone(), name.clone());
                if self.by_name.get(&name) == Some(&account.id) {
                    self.by_name.remove(&name);
                }
            }
        }
        if let Some(now) = &now {
            for name in &now.names {
                self.by_name
                    .entry((account.system.clone(), name.clone()))
                    .or_insert(account.id);
            }
        }
        let none = FxHashSet::default();
        let (was, is) = (
            before.as_ref().map_or(&none, |group| &group.members),
            now.as_ref().map_or(&none, |group| &group.members),
        );
        let left: Vec<u64> = was.difference(is).copied().collect();
        let joined: Vec<u64> = is.difference(was).copied().collect();
        for hash in &left {
            if let Some(groups) = self.of.get_mut(hash) {
                groups.retain(|id| *id != account.id);
            }
        }
        for hash in &joined {
            self.of.entry(*hash).or_default().push(account.id);
        }
        let same = matches!((&before, &now), (Some(before), Some(now)) if before.names == now.names && before.owned == now.owned);
        if let Some(now) = now {
            self.groups
                .insert(account.id, (account.system.clone(), now));
        }
        if same {
            IndexedMembership::Members(left.into_iter().chain(joined).collect())
        } else {
            IndexedMembership::Otherwise
        }
    }
}

/// The direct members of groups that no rule concerns, for answers about people.
#[derive(Debug, Default)]
pub(crate) struct DirectMembers(FxHashMap<AccountId, FxHashSet<u64>>);

impl DirectMembers {
    /// Updates the members of a group.
    pub(crate) fn update_group(&mut self, account: &Account) {
        let is_gone = account.absent_since.is_some() || account.fault.is_some();
        let members = members_of(account);
        if is_gone || members.is_empty() {
            self.0.remove(&account.id);
        } else {
            self.0.insert(account.id, members);
        }
    }

    /// The groups that an account is a direct member of.
    pub(crate) fn held_by(&self, account: &Account) -> impl Iterator<Item = AccountId> {
        let names: Vec<u64> = names_of(account)
            .into_iter()
            .map(|name| hash(&account.system, &name))
            .collect();
        let is_member =
            move |members: &FxHashSet<u64>| names.iter().any(|name| members.contains(name));
        let groups = self.0.iter();
        groups.filter_map(move |(id, members)| is_member(members).then_some(*id))
    }
}

/// The names by which a group refers to its direct members.
pub fn direct_members(group: &Account) -> impl Iterator<Item = &str> {
    member_references(&group.attributes)
}

/// The hash of a name by which a group refers to a member.
pub(crate) fn member_hash(system: &str, reference: &str) -> u64 {
    hash(system, &fold_reference(reference))
}

/// The members of a group, by their names.
fn members_of(group: &Account) -> FxHashSet<u64> {
    member_references(&group.attributes)
        .map(|reference| member_hash(&group.system, reference))
        .collect()
}

fn read(account: &Account, owned: bool) -> Group {
    let held = MEMBERS
        .iter()
        .find(|name| !account.attributes.get(name).is_empty());
    let class = |wanted: &str| {
        account
            .attributes
            .get("objectClass")
            .iter()
            .any(|class| class.to_string().eq_ignore_ascii_case(wanted))
    };
    // A group without members is recognized by its attributes.
    let attribute = held.copied().unwrap_or_else(|| match () {
        () if class("groupOfUniqueNames") => "uniqueMember",
        () if class("posixGroup") => "memberUid",
        () if !account.attributes.get("objectClass").is_empty() => "member",
        () => "members",
    });
    let label = ["displayName", "cn"]
        .iter()
        .find_map(|name| account.attributes.get(name).first())
        .map(Value::to_string);
    Group {
        key: account.key.clone(),
        name: account.name.clone(),
        names: names_of(account),
        label: label.unwrap_or_else(|| account.name.clone()),
        attribute: attribute.to_owned(),
        owners: account
            .attributes
            .get("owner")
            .iter()
            .map(Value::to_string)
            .collect(),
        owned,
        members: members_of(account),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::value::Attributes;

    fn group(members: &[&str]) -> Account {
        let members: Vec<Value> = members
            .iter()
            .map(|name| Value::Reference((*name).into()))
            .collect();
        let attributes: Attributes = [
            ("cn".into(), vec![Value::text("deck")]),
            ("member".into(), members),
        ]
        .into_iter()
        .collect();
        let name = "cn=deck,dc=x".to_owned();
        Account {
            id: 7,
            system: "harbour".into(),
            kind: ObjectType::Group,
            key: "k7".into(),
            name,
            attributes,
            absent_since: None,
            absence_confirmed: false,
            fault: None,
        }
    }

    fn ada() -> Account {
        Account {
            id: 1,
            kind: ObjectType::Person,
            key: "k1".into(),
            name: "UID=ada, dc=x".into(),
            attributes: Attributes::new(),
            ..group(&[])
        }
    }

    #[test]
    fn only_added_and_removed_members_are_reported_by_folded_names() {
        let mut all = MembershipRules {
            systems: BTreeSet::from(["harbour".to_owned()]),
            ..MembershipRules::default()
        };
        assert_eq!(
            all.update_group(&group(&["uid=ada,dc=x", "uid=bo,dc=x"]), false),
            IndexedMembership::Otherwise,
            "it is new"
        );
        assert_eq!(all.held_by(&ada()), BTreeSet::from([7]));
        assert_eq!(
            all.find("harbour", "CN=Deck, DC=x")
                .map(|(id, group)| (id, group.label.as_str())),
            Some((7, "deck"))
        );
        assert_eq!(all.find("harbour", "DECK").map(|(id, _)| id), Some(7));
        let bo = hash("harbour", &fold_reference("uid=bo,dc=x"));
        assert_eq!(
            all.update_group(&group(&["uid=ada,dc=x"]), false),
            IndexedMembership::Members(vec![bo])
        );
        assert_eq!(
            all.update_group(&group(&[]), false),
            IndexedMembership::Members(vec![hash("harbour", &fold_reference("uid=ada,dc=x"))])
        );
        assert!(all.held_by(&ada()).is_empty());
        assert_eq!(
            all.get(7).map(|group| group.attribute.as_str()),
            Some("members"),
            "nothing says what it is"
        );
        let gone = Account {
            absent_since: Some("2026-11-01T00:00:00Z".parse().expect("a moment")),
            ..group(&["uid=ada,dc=x"])
        };
        assert_eq!(all.update_group(&gone, false), IndexedMembership::Otherwise);
        assert!(all.find("harbour", "deck").is_none());
    }
}
