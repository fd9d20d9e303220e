//! Memberships of a person or group, with their origin.

use crate::{Engine, EngineError};
use jiff::Timestamp;
use std::collections::{BTreeSet, HashMap};
use tide_core::memberships::MembershipRules;
use tide_core::model::AccountId;
use tide_core::states::MembershipOrigin;
use tide_core::{Account, ObjectType, Value};
use tide_store::StoreError;

/// Maximum number of members in the answer.
const MOST: usize = 1000;

/// A group of a person, or a member of a group.
#[derive(Debug, Clone)]
pub struct GroupMember {
    /// The system.
    pub system: String,
    /// The group's or the member's identity, if there is one.
    pub identity: Option<String>,
    /// Its label.
    pub label: String,
    /// Its name there.
    pub name: String,
    /// How it came about.
    pub origin: MembershipOrigin,
    /// Since when, for those that a rule gave.
    pub since: Option<Timestamp>,
}

/// The groups of a person, or the members of a group.
#[derive(Debug, Clone, Default)]
pub struct GroupView {
    /// The groups that its accounts are direct members of.
    pub groups: Vec<GroupMember>,
    /// Its members, if it is a group; the first of them.
    pub members: Vec<GroupMember>,
    /// How many there are.
    pub count: usize,
}

impl Engine {
    /// Returns the groups of a person, or the members of a group.
    pub async fn groups_of(&self, id: &str) -> Result<GroupView, EngineError> {
        let (_, population, outcome) = self.decide_now().await?;
        let identities: HashMap<&str, (&tide_core::Identity, &str)> = outcome
            .identities
            .iter()
            .map(|(identity, label)| (identity.id.as_str(), (identity, label.as_str())))
            .collect();
        let (own, _) = identities
            .get(id)
            .copied()
            .ok_or_else(|| StoreError::Missing {
                what: "identity",
                name: id.to_owned(),
            })?;
        let owner: HashMap<AccountId, &str> = population
            .links
            .iter()
            .map(|link| (link.account, link.identity.as_str()))
            .collect();
        let given: HashMap<(&str, AccountId), Timestamp> = population
            .rule_memberships
            .iter()
            .map(|one| ((one.identity.as_str(), one.group), one.created_at))
            .collect();
        let all = MembershipRules::everywhere(&population);
        let mapped = |group: Option<&str>, member: Option<&str>| {
            let (Some(group), Some(member)) = (group.and_then(|id| identities.get(id)), member)
            else {
                return false;
            };
            group
                .0
                .attributes
                .iter()
                .flat_map(|(_, values)| values)
                .any(|value| matches!(value, Value::Reference(id) if id == member))
        };
        let made = |group: &Account, member: &Account, shown: &Account| {
            let (group_of, member_of) = (
                owner.get(&group.id).copied(),
                owner.get(&member.id).copied(),
            );
            let since = member_of
                .and_then(|member| given.get(&(member, group.id)))
                .copied();
            let origin = match since {
                Some(_) => MembershipOrigin::Rule,
                None if mapped(group_of, member_of) => MembershipOrigin::Mapped,
                None => MembershipOrigin::Manual,
            };
            let identity = owner.get(&shown.id).map(|id| (*id).to_owned());
            let known = identity
                .as_deref()
                .and_then(|id| identities.get(id))
                .map(|(_, label)| (*label).to_owned());
            let label = known.unwrap_or_else(|| shown.name.clone());
            GroupMember {
                system: shown.system.clone(),
                identity,
                label,
                name: shown.name.clone(),
                origin,
                since,
            }
        };
        let here = |account: &&Account| account.absent_since.is_none();
        let accounts: HashMap<AccountId, &Account> = population
            .accounts
            .iter()
            .filter(here)
            .map(|account| (account.id, account))
            .collect();
        let theirs = accounts
            .values()
            .filter(|account| owner.get(&account.id) == Some(&id));
        let mut view = GroupView::default();
        let mut mine: BTreeSet<AccountId> = BTreeSet::new();
        for account in theirs {
            view.groups
                .extend(all.held_by(account).into_iter().filter_map(|group| {
                    Some(made(accounts.get(&group)?, account, accounts.get(&group)?))
                }));
            if own.kind == ObjectType::Group {
                mine.insert(account.id);
            }
        }
        if !mine.is_empty() {
            for account in accounts.values() {
                for group in all.held_by(account).intersection(&mine) {
                    view.members.extend(
                        accounts
                            .get(group)
                            .map(|group| made(group, account, account)),
                    );
                }
            }
        }
        let order = |a: &GroupMember, b: &GroupMember| {
            (&a.system, &a.label, &a.name).cmp(&(&b.system, &b.label, &b.name))
        };
        view.groups.sort_by(order);
        view.members.sort_by(order);
        view.count = view.members.len();
        view.members.truncate(MOST);
        Ok(view)
    }
}
