//! Groups that define who is in scope: a member who joins or leaves one is decided.

use super::IncrementalState;
use crate::memberships;
use crate::model::{Account, AccountId, Population};
use crate::scope::{member_references, names_of};
use crate::states::ObjectType;
use crate::value::Value;
use rustc_hash::{FxHashMap, FxHashSet};
use std::collections::BTreeSet;

/// A group of a scope, as far as it decides who is a member.
#[derive(Debug, Clone, PartialEq, Eq)]
struct ScopeGroup {
    /// All but its members: if any of it changes, anybody may be concerned.
    frame: ScopeFrame,
    /// The hashes of its direct members' names.
    members: FxHashSet<u64>,
}

#[derive(Debug, Clone, PartialEq, Eq)]
struct ScopeFrame {
    names: Vec<String>,
    sid: Option<String>,
    is_broken: bool,
    shows_members: bool,
}

impl ScopeGroup {
    /// A group that is there.
    fn of(account: &Account) -> ScopeGroup {
        let members: FxHashSet<u64> = member_references(&account.attributes)
            .map(|reference| memberships::member_hash(&account.system, reference))
            .collect();
        let sid = account.attributes.get("objectSid").first();
        ScopeGroup {
            frame: ScopeFrame {
                names: names_of(account),
                sid: sid.map(Value::to_string),
                is_broken: account.fault.is_some(),
                shows_members: !members.is_empty()
                    || !account.attributes.get("objectClass").is_empty(),
            },
            members,
        }
    }

    /// Its names, folded.
    fn names(&self) -> &[String] {
        &self.frame.names
    }

    /// Whether nothing but its members differs.
    fn has_same_frame(&self, other: &ScopeGroup) -> bool {
        self.frame == other.frame
    }
}

/// The groups of systems whose groups define a scope.
#[derive(Debug, Default)]
pub(super) struct ScopeGroups {
    /// All of them.
    known: FxHashSet<AccountId>,
    /// Those that define a scope, and those nested in them.
    defining: FxHashMap<AccountId, ScopeGroup>,
}

impl IncrementalState {
    /// Takes over the groups that define a scope. `population` contains all groups of their systems.
    pub(super) fn note_scope_groups(&mut self, population: &Population) {
        self.groups = self.keys.scope_groups(population);
        let is_asked = |account: &&Account| {
            account.kind == ObjectType::Group && self.keys.asks_for(&account.system)
        };
        let mut groups = ScopeGroups::default();
        for account in population.accounts.iter().filter(is_asked) {
            groups.known.insert(account.id);
            if self.groups.contains(&account.id) {
                groups.defining.insert(account.id, ScopeGroup::of(account));
            }
        }
        self.scope_groups = groups;
    }

    /// Updates a group of a system whose groups define a scope. Returns the accounts whose scope can
    /// differ; `None` if that can be anybody.
    pub(super) fn update_scope_group(&mut self, account: &Account) -> Option<BTreeSet<AccountId>> {
        let is_there = account.absent_since.is_none();
        let now = is_there.then(|| ScopeGroup::of(account));
        let ScopeGroups { known, defining } = &mut self.scope_groups;
        let (before, now) = match (defining.get(&account.id), now) {
            (Some(before), Some(now)) if before.has_same_frame(&now) => (before, now),
            (Some(_), _) => return None,
            (None, None) => return Some(BTreeSet::new()),
            (None, Some(now)) => {
                // It may be the group that a scope names, or be nested in one.
                let hash = |name: &String| memberships::hash(&account.system, name);
                let is_nested = defining.values().any(|group| {
                    let mut names = now.names().iter();
                    names.any(|name| group.members.contains(&hash(name)))
                });
                known.insert(account.id);
                let is_defining =
                    is_nested || self.keys.defines_scope(&account.system, now.names());
                return (!is_defining).then(BTreeSet::new);
            }
        };
        let changed = before.members.symmetric_difference(&now.members);
        let members: BTreeSet<AccountId> = changed
            .flat_map(|hash| self.index.accounts_by_member_name(*hash))
            .collect();
        // A group that is nested, or no longer, has members of its own.
        if members.iter().any(|id| known.contains(id)) {
            return None;
        }
        defining.insert(account.id, now);
        Some(members)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::rules::{RuleFile, RuleSet};
    use crate::value::Attributes;

    fn group(id: AccountId, name: &str, members: &[&str]) -> Account {
        let mut attributes = Attributes::default();
        let members = members.iter().map(|name| Value::Reference((*name).into()));
        attributes.set("member", members.collect());
        attributes.set("objectClass", vec![Value::text("groupOfNames")]);
        Account {
            id,
            system: "harbour".into(),
            kind: ObjectType::Group,
            key: format!("k{id}"),
            name: name.into(),
            attributes,
            absent_since: None,
            absence_confirmed: false,
            fault: None,
        }
    }

    /// The state in which the group `cn=crew` defines a scope, and `cn=deck` is nested in it.
    fn state() -> IncrementalState {
        let file = |name: &str, text: &str| RuleFile {
            name: name.into(),
            text: text.into(),
        };
        let files = [
            file("identities.toml", "[person.attributes]\nnumber = {}\n"),
            file(
                "harbour.toml",
                "system = \"harbour\"\n[person.scope]\ngroups = [\"cn=crew\"]\n[person.inbound]\nnumber = 'account.number'\n",
            ),
        ];
        let (rules, _) = RuleSet::load(&files, &Default::default());
        let crew = group(1, "cn=crew", &["uid=ada", "cn=deck"]);
        let person = Account {
            kind: ObjectType::Person,
            ..group(7, "uid=bo", &[])
        };
        let population = Population {
            accounts: vec![
                crew,
                group(2, "cn=deck", &[]),
                group(3, "cn=mess", &[]),
                person,
            ],
            ..Population::default()
        };
        let mut state = IncrementalState::empty(&rules, &Default::default());
        state.note_accounts(&rules, &population, None);
        state.note_scope_groups(&population);
        state
    }

    #[test]
    fn a_member_who_joins_is_concerned_and_a_nested_group_concerns_anybody() {
        let mut state = state();
        let joins = group(1, "cn=crew", &["uid=ada", "cn=deck", "uid=bo"]);
        assert_eq!(state.update_scope_group(&joins), Some([7].into()));
        assert_eq!(state.update_scope_group(&joins), Some([].into()), "known");
        let nested = group(2, "cn=deck", &["uid=bo"]);
        assert_eq!(state.update_scope_group(&nested), Some([7].into()));
        let unnested = group(1, "cn=crew", &["uid=ada", "uid=bo"]);
        assert_eq!(state.update_scope_group(&unnested), None);
        let renamed = group(1, "cn=cast", &["uid=ada", "cn=deck", "uid=bo"]);
        assert_eq!(state.update_scope_group(&renamed), None);
        let mut gone = joins;
        gone.absent_since = Some(jiff::Timestamp::UNIX_EPOCH);
        assert_eq!(state.update_scope_group(&gone), None);
    }

    #[test]
    fn a_group_outside_of_all_scopes_is_of_no_concern_until_a_scope_names_it() {
        let mut state = state();
        let mess = group(3, "cn=mess", &["uid=bo"]);
        assert_eq!(state.update_scope_group(&mess), Some([].into()));
        let second = group(4, "cn=crew", &[]);
        assert_eq!(state.update_scope_group(&second), None, "by its name");
        let deck = group(5, "cn=deck", &[]);
        assert_eq!(state.update_scope_group(&deck), None, "a member of a group");
    }
}
