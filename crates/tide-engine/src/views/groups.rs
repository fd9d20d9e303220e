//! Memberships of a person or group, with their origin.

use crate::decide::identity_record;
use crate::error::EngineError;
use crate::views::Views;
use jiff::Timestamp;
use std::collections::{BTreeSet, HashMap, HashSet};
use tide_core::memberships::direct_members;
use tide_core::model::AccountId;
use tide_core::states::MembershipOrigin;
use tide_core::{Account, Identity, ObjectType, Value};
use tide_store::{AccountLabel, StoreError};

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
    /// Its members, if it is a group: the first [`MOST`] of each of its accounts.
    pub members: Vec<GroupMember>,
    /// How many there are.
    pub count: usize,
}

/// A membership: the accounts of the group and of the member, or the member's name in the group.
struct DirectMembership {
    group: AccountId,
    member: Option<AccountId>,
    name: String,
}

/// What shows the origin of memberships.
struct Origins {
    labels: HashMap<AccountId, AccountLabel>,
    /// When rules gave them, by identity and group.
    given: HashMap<(String, AccountId), Timestamp>,
    /// Group identities with those to which their values refer.
    mapped: HashSet<(String, String)>,
}

impl Origins {
    fn origin(&self, one: &DirectMembership) -> (MembershipOrigin, Option<Timestamp>) {
        let identity = |id: AccountId| self.labels.get(&id)?.identity.clone();
        let Some(member) = one.member.and_then(identity) else {
            return (MembershipOrigin::Manual, None);
        };
        if let Some(since) = self.given.get(&(member.clone(), one.group)) {
            return (MembershipOrigin::Rule, Some(*since));
        }
        let group = identity(one.group);
        match group.is_some_and(|group| self.mapped.contains(&(group, member))) {
            true => (MembershipOrigin::Mapped, None),
            false => (MembershipOrigin::Manual, None),
        }
    }

    /// The group or the member, as it is shown.
    fn show(&self, one: &DirectMembership, account: Option<AccountId>) -> Option<GroupMember> {
        let (origin, since) = self.origin(one);
        let group = self.labels.get(&one.group)?;
        let shown = match account {
            None => None,
            // It is gone.
            Some(id) => Some(self.labels.get(&id)?),
        };
        let name = shown.map_or(&one.name, |shown| &shown.name);
        let label = shown.and_then(|shown| shown.label.as_ref());
        Some(GroupMember {
            system: group.system.clone(),
            identity: shown.and_then(|shown| shown.identity.clone()),
            label: label.unwrap_or(name).clone(),
            name: name.clone(),
            origin,
            since,
        })
    }
}

/// The identities to which an identity refers.
pub(crate) fn references(identity: &Identity) -> impl Iterator<Item = (String, String)> {
    let values = identity.attributes.iter().flat_map(|(_, values)| values);
    values.filter_map(|value| match value {
        Value::Reference(id) => Some((identity.id.clone(), id.clone())),
        _ => None,
    })
}

impl Views {
    /// Returns the groups of a person, or the members of a group.
    pub async fn groups_of(&self, id: &str) -> Result<GroupView, EngineError> {
        let near = self.decider.decide_around(&identity_record(id)).await?;
        let identities = &near.outcome.identities;
        let own = identities.iter().find(|(identity, _)| identity.id == id);
        let (own, _) = own.ok_or_else(|| StoreError::Missing {
            what: "identity",
            name: id.to_owned(),
        })?;
        let linked: HashSet<AccountId> = near
            .population
            .links
            .iter()
            .filter(|link| link.identity == id)
            .map(|link| link.account)
            .collect();
        let accounts: Vec<&Account> = near
            .population
            .accounts
            .iter()
            .filter(|account| linked.contains(&account.id) && account.absent_since.is_none())
            .collect();
        let (held, members, count) = self.direct_memberships(&accounts).await?;
        let shown: BTreeSet<AccountId> = held
            .iter()
            .chain(&members)
            .flat_map(|one| one.member.into_iter().chain([one.group]))
            .collect();
        let labels = self.context.store.account_labels(&shown).await?;
        let among: BTreeSet<String> = labels
            .values()
            .filter_map(|label| label.identity.clone())
            .collect();
        let groups: BTreeSet<AccountId> =
            held.iter().chain(&members).map(|one| one.group).collect();
        let given = self
            .context
            .store
            .memberships_given(&among, &groups)
            .await?;
        let mut mapped: HashSet<(String, String)> = references(own).collect();
        for group in held.iter().filter_map(|one| labels.get(&one.group)) {
            if let Some(identity) = &group.identity {
                mapped.extend(references(
                    &self.context.store.find_identity(identity).await?.0,
                ));
            }
        }
        let origins = Origins {
            labels,
            given,
            mapped,
        };
        let show_group = |one: &DirectMembership| origins.show(one, Some(one.group));
        let mut view = GroupView {
            groups: held.iter().filter_map(show_group).collect(),
            members: members
                .iter()
                .filter_map(|one| origins.show(one, one.member))
                .collect(),
            count,
        };
        let order = |a: &GroupMember, b: &GroupMember| {
            (&a.system, &a.label, &a.name).cmp(&(&b.system, &b.label, &b.name))
        };
        view.groups.sort_by(order);
        view.members.sort_by(order);
        Ok(view)
    }

    /// The groups that accounts are in; and of those that are groups, the first members, and how
    /// many there are.
    async fn direct_memberships(
        &self,
        accounts: &[&Account],
    ) -> Result<(Vec<DirectMembership>, Vec<DirectMembership>, usize), EngineError> {
        let cache = self.decider.current_cache().await?;
        let Some(known) = cache.as_ref() else {
            return Err(EngineError::Internal("no decision is known".to_owned()));
        };
        let state = known.state();
        let (mut held, mut members, mut count) = (Vec::new(), Vec::new(), 0);
        for account in accounts {
            held.extend(
                state
                    .groups_of(account)
                    .into_iter()
                    .map(|group| DirectMembership {
                        group,
                        member: Some(account.id),
                        name: account.name.clone(),
                    }),
            );
            if account.kind == ObjectType::Group {
                let names: Vec<&str> = direct_members(account).collect();
                count += names.len();
                members.extend(names.into_iter().take(MOST).map(|name| DirectMembership {
                    group: account.id,
                    member: state.members_called(&account.system, name).next(),
                    name: name.to_owned(),
                }));
            }
        }
        Ok((held, members, count))
    }
}
