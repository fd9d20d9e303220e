//! Who is a member of a group: read from the group's side and from the member's, nested groups
//! included, whatever circles they form.

use crate::model::{Account, AccountId, Population};
use crate::reasons::ReasonKind;
use crate::references::fold_reference;
use crate::rules::GroupScope;
use crate::schema::{MEMBERS, Schema};
use crate::states::ObjectType;
use crate::value::{Attributes, Value};
use std::collections::{BTreeSet, HashMap, HashSet};
use std::sync::Mutex;

/// Attributes of an account that name its groups.
const MEMBER_OF: [&str; 3] = ["memberOf", "isMemberOf", "groups"];

/// What is known of a membership.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum MembershipFact {
    /// It is a member.
    Member,
    /// It is none; groups inside that could not be read are named.
    Not(Vec<String>),
    /// Unknown, and why.
    Unknown(ReasonKind),
}

/// The groups of a population.
#[derive(Default)]
pub struct Groups<'a> {
    population: Option<&'a Population>,
    /// Group accounts by system and by each of their names.
    by_name: HashMap<(&'a str, String), usize>,
    /// The members of a group, computed on first use.
    held: Mutex<HashMap<(String, String, bool), std::sync::Arc<MembershipIndex>>>,
}

/// Everything inside a group.
#[derive(Default)]
struct MembershipIndex {
    /// Members, by every name that a reference may use.
    members: HashSet<String>,
    /// Groups of which only the members' side can tell who is in them: their own members could not
    /// be read, or are not shown.
    told_by_members: HashSet<String>,
    /// The security identifiers of the group and its nested groups: a primary group does not list
    /// its members.
    sids: HashSet<String>,
    broken: Vec<String>,
}

/// The values of an attribute and of its typed forms (`members`, `members.User`).
fn references<'v>(
    attributes: &'v Attributes,
    names: &'static [&'static str],
) -> impl Iterator<Item = &'v str> {
    attributes
        .iter()
        .filter(|(name, _)| {
            let plain = name.split('.').next().unwrap_or(name);
            names.iter().any(|known| known.eq_ignore_ascii_case(plain))
        })
        .flat_map(|(_, values)| values)
        .filter_map(Value::as_text)
}

/// The direct members of a group.
pub(crate) fn member_references(attributes: &Attributes) -> impl Iterator<Item = &str> {
    references(attributes, &MEMBERS)
}

/// The names by which references mean an account, folded.
pub(crate) fn names_of(account: &Account) -> Vec<String> {
    let mut names = vec![fold_reference(&account.name), account.key.to_lowercase()];
    for attribute in ["uid", "sAMAccountName", "cn", "displayName"] {
        // A member is named by its uid (RFC 2307); a group by its name too, where that is all one
        // knows.
        let wanted = (account.kind == ObjectType::Group) != (attribute == "uid");
        names.extend(
            account
                .attributes
                .get(attribute)
                .first()
                .filter(|_| wanted)
                .map(|value| value.to_string().to_lowercase()),
        );
    }
    names
}

/// The security identifier of the group that a domain controller's account belongs to without being
/// listed in it.
fn primary_group(account: &Account) -> Option<String> {
    let number = account.attributes.get("primaryGroupID").first()?;
    let sid = account.attributes.get("objectSid").first()?.to_string();
    Some(format!("{}-{number}", sid.rsplit_once('-')?.0))
}

impl<'a> Groups<'a> {
    /// Indexes the groups of a population.
    pub fn new(population: &'a Population) -> Self {
        let mut by_name = HashMap::new();
        for (at, account) in population.accounts.iter().enumerate() {
            if account.kind == ObjectType::Group && account.absent_since.is_none() {
                for name in names_of(account) {
                    by_name.entry((account.system.as_str(), name)).or_insert(at);
                }
            }
        }
        Groups {
            population: Some(population),
            by_name,
            held: Mutex::default(),
        }
    }

    /// Does a system hold a group of this name?
    pub fn is_known(&self, system: &str, name: &str) -> bool {
        self.population.is_some_and(|_| {
            self.by_name
                .keys()
                .any(|(of, known)| *of == system && *known == fold_reference(name))
        })
    }

    /// The schema of an account's system.
    pub(super) fn schema_of(&self, account: &Account) -> Option<&'a Schema> {
        self.population?
            .systems
            .get(&account.system)?
            .schema
            .get(&account.kind)
    }

    /// Is one of these accounts a member of the group?
    pub fn member(&self, group: &GroupScope, accounts: &[&Account]) -> MembershipFact {
        let Some(population) = self.population else {
            return MembershipFact::Unknown(ReasonKind::NoGroupsRead);
        };
        let own = accounts.first().map(|account| account.system.as_str());
        let Some(system) = group.system.as_deref().or(own) else {
            return MembershipFact::Not(Vec::new());
        };
        let name = fold_reference(&group.name);
        if !self.by_name.contains_key(&(system, name.clone())) {
            let read = population
                .systems
                .get(system)
                .is_some_and(|facts| facts.read.contains(&ObjectType::Group));
            let system = system.to_owned();
            return MembershipFact::Unknown(if read {
                let group = group.name.clone();
                ReasonKind::NoSuchGroup { system, group }
            } else {
                ReasonKind::GroupsNotRead { system }
            });
        }
        let held = self.held(population, system, &name, group.nested);
        let here = |account: &&&Account| account.system == system;
        for account in accounts.iter().filter(here) {
            let by_group = names_of(account)
                .iter()
                .any(|name| held.members.contains(name));
            // The groups that an account lists are as old as the last read of the account: they
            // count only where the group lists no members.
            let by_member = || {
                references(&account.attributes, &MEMBER_OF)
                    .any(|of| held.told_by_members.contains(&fold_reference(of)))
            };
            let by_primary = || primary_group(account).is_some_and(|sid| held.sids.contains(&sid));
            if by_group || by_member() || by_primary() {
                return MembershipFact::Member;
            }
        }
        MembershipFact::Not(held.broken.clone())
    }

    fn held(
        &self,
        population: &Population,
        system: &str,
        name: &str,
        nested: bool,
    ) -> std::sync::Arc<MembershipIndex> {
        let asked = (system.to_owned(), name.to_owned(), nested);
        let mut known = self
            .held
            .lock()
            .unwrap_or_else(std::sync::PoisonError::into_inner);
        if let Some(held) = known.get(&asked) {
            return held.clone();
        }
        let mut held = MembershipIndex::default();
        let mut visited: HashSet<usize> = HashSet::new();
        let mut left: Vec<usize> = self
            .by_name
            .get(&(system, name.to_owned()))
            .copied()
            .into_iter()
            .collect();
        while let Some(at) = left.pop() {
            // A group that holds itself, however far around, is gone through once.
            if !visited.insert(at) {
                continue;
            }
            let group = &population.accounts[at];
            held.sids.extend(
                group
                    .attributes
                    .get("objectSid")
                    .first()
                    .map(Value::to_string),
            );
            let mut members = references(&group.attributes, &MEMBERS).peekable();
            // A directory shows the members of each group; a service may leave them out.
            let shows_members =
                members.peek().is_some() || !group.attributes.get("objectClass").is_empty();
            if group.fault.is_some() || !shows_members {
                held.told_by_members
                    .extend([fold_reference(&group.name), group.key.to_lowercase()]);
            }
            if group.fault.is_some() {
                held.broken.push(group.name.clone());
                continue;
            }
            for reference in members {
                let reference = fold_reference(reference);
                match self.by_name.get(&(system, reference.clone())) {
                    Some(&inner) if nested => left.push(inner),
                    Some(_) => {}
                    None => {
                        held.members.insert(reference);
                    }
                }
            }
        }
        let held = std::sync::Arc::new(held);
        known.insert(asked, held.clone());
        held
    }
}

/// The groups of these names, by system and folded name, and the groups inside them: all that must
/// be known to tell who is a member.
pub(crate) fn members_of(
    population: &Population,
    names: &[(String, String)],
) -> BTreeSet<AccountId> {
    if names.is_empty() {
        return BTreeSet::new();
    }
    let groups = Groups::new(population);
    let named = |system: &str, name: String| groups.by_name.get(&(system, name)).copied();
    let mut left: Vec<usize> = names
        .iter()
        .filter_map(|(system, name)| named(system, name.clone()))
        .collect();
    let mut all = BTreeSet::new();
    while let Some(at) = left.pop() {
        let group = &population.accounts[at];
        if all.insert(group.id) {
            left.extend(
                references(&group.attributes, &MEMBERS)
                    .filter_map(|reference| named(&group.system, fold_reference(reference))),
            );
        }
    }
    all
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::SystemFacts;
    use crate::reasons::Place;

    fn account(id: i64, kind: ObjectType, name: &str, lists: &[(&str, &[&str])]) -> Account {
        let attributes = lists
            .iter()
            .map(|(name, values)| {
                (
                    (*name).to_owned(),
                    values
                        .iter()
                        .map(|v| Value::Reference((*v).into()))
                        .collect(),
                )
            })
            .collect();
        Account {
            id,
            system: "harbour".into(),
            kind,
            key: format!("k{id}"),
            name: name.into(),
            attributes,
            absent_since: None,
            absence_confirmed: false,
            fault: None,
        }
    }

    fn population() -> Population {
        let group = |id, name: &str, members: &[&str]| {
            account(id, ObjectType::Group, name, &[("member", members)])
        };
        let mut broken = group(13, "cn=broken,ou=g", &["uid=cy,ou=p"]);
        broken.fault = Some("not UTF-8".into());
        let facts = SystemFacts {
            read: vec![ObjectType::Group],
            ..SystemFacts::default()
        };
        Population {
            accounts: vec![
                account(1, ObjectType::Person, "uid=ada,ou=p", &[]),
                account(2, ObjectType::Person, "uid=bo,ou=p", &[]),
                account(3, ObjectType::Person, "uid=cy,ou=p", &[]),
                account(
                    4,
                    ObjectType::Person,
                    "uid=di,ou=p",
                    &[("memberOf", &["cn=INNER,ou=g"])],
                ),
                account(
                    5,
                    ObjectType::Person,
                    "uid=ed,ou=p",
                    &[("memberOf", &["cn=BROKEN,ou=g"])],
                ),
                group(
                    10,
                    "cn=outer,ou=g",
                    &["UID=Ada, OU=p", "cn=inner,ou=g", "cn=broken,ou=g"],
                ),
                group(11, "cn=inner,ou=g", &["uid=bo,ou=p", "cn=outer,ou=g"]),
                broken,
            ],
            systems: [("harbour".to_owned(), facts)].into_iter().collect(),
            ..Population::default()
        }
    }

    #[test]
    fn members_are_found_from_both_sides_through_nested_groups_and_circles() {
        let population = population();
        let groups = Groups::new(&population);
        let of = |name: &str, nested, at: usize| {
            let group = GroupScope {
                name: name.into(),
                system: None,
                nested,
                place: Place::default(),
            };
            groups.member(&group, &[&population.accounts[at]])
        };
        assert_eq!(
            of("cn=outer,ou=g", true, 0),
            MembershipFact::Member,
            "whatever case and blanks"
        );
        assert_eq!(
            of("cn=outer,ou=g", true, 1),
            MembershipFact::Member,
            "nested, in a circle"
        );
        assert_eq!(
            of("cn=outer,ou=g", false, 1),
            MembershipFact::Not(vec![]),
            "nested groups can be left out"
        );
        assert_eq!(
            of("cn=outer,ou=g", true, 3),
            MembershipFact::Not(vec!["cn=broken,ou=g".into()]),
            "an account that was not read since it left still names the group, which was"
        );
        assert_eq!(
            of("cn=outer,ou=g", true, 4),
            MembershipFact::Member,
            "from the member's side, where the group cannot be read"
        );
        assert_eq!(
            of("cn=outer,ou=g", true, 2),
            MembershipFact::Not(vec!["cn=broken,ou=g".into()]),
            "one broken group fails alone"
        );
        assert_eq!(
            of("cn=missing,ou=g", true, 0),
            MembershipFact::Unknown(ReasonKind::NoSuchGroup {
                system: "harbour".into(),
                group: "cn=missing,ou=g".into(),
            })
        );
    }

    #[test]
    fn a_service_that_shows_no_members_is_believed_of_its_users_and_a_primary_group_counts() {
        let service = |id, kind, name: &str, lists: &[(&str, &[&str])]| Account {
            system: "berthing".into(),
            ..account(id, kind, name, lists)
        };
        let mut population = population();
        population.accounts = vec![
            service(1, ObjectType::Person, "ada", &[("groups", &["k9"])]),
            service(2, ObjectType::Person, "bo", &[]),
            service(9, ObjectType::Group, "crew", &[]),
        ];
        let crew = GroupScope {
            name: "k9".into(),
            system: None,
            nested: true,
            place: Place::default(),
        };
        let of = |population: &Population, at: usize| {
            Groups::new(population).member(&crew, &[&population.accounts[at]])
        };
        assert_eq!(
            (of(&population, 0), of(&population, 1)),
            (MembershipFact::Member, MembershipFact::Not(vec![]))
        );
        let sid = |account: &mut Account, sid: &str| {
            account.attributes.set("objectSid", vec![Value::text(sid)])
        };
        sid(&mut population.accounts[1], "S-1-5-21-7-8-9-1104");
        population.accounts[1]
            .attributes
            .set("primaryGroupID", vec![Value::Int(513)]);
        sid(&mut population.accounts[2], "S-1-5-21-7-8-9-513");
        assert_eq!(of(&population, 1), MembershipFact::Member);
    }
}
