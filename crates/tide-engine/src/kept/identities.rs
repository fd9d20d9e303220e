//! The identities, links and reserved values of a decision that a run stores.

use std::collections::{HashMap, HashSet};
use tide_core::incremental::Records;
use tide_core::{Outcome, Population};
use tide_store::IdentityUpdates;

/// The identities, links and reserved values that a decision adds or changes.
pub(crate) fn identity_updates(population: &Population, outcome: &Outcome) -> IdentityUpdates {
    let kept = identities_to_store(population, outcome);
    let before: HashMap<&str, &tide_core::Identity> = population
        .identities
        .iter()
        .map(|i| (i.id.as_str(), i))
        .collect();
    let new = |(i, _): &&(tide_core::Identity, String)| {
        kept.contains(i.id.as_str()) && before.get(i.id.as_str()).is_none_or(|known| **known != *i)
    };
    IdentityUpdates {
        in_step: Vec::new(),
        outcomes: None,
        identities: outcome.identities.iter().filter(new).cloned().collect(),
        links: outcome.links.clone(),
        member_names: outcome.member_names.clone(),
        reserved: outcome
            .reserved
            .iter()
            .filter(|name| kept.contains(name.identity.as_str()))
            .cloned()
            .collect(),
    }
}

/// The identities to store: known ones, and new ones that have a link.
fn identities_to_store<'o>(population: &Population, outcome: &'o Outcome) -> HashSet<&'o str> {
    let known: HashSet<&str> = population
        .identities
        .iter()
        .map(|i| i.id.as_str())
        .collect();
    let linked: HashSet<&str> = outcome.links.iter().map(|l| l.identity.as_str()).collect();
    outcome
        .identities
        .iter()
        .map(|(i, _)| i.id.as_str())
        .filter(|id| known.contains(id) || linked.contains(id))
        .collect()
}

/// The decided records of which a run stores or sends something: an identity or a link, a change, a
/// notification, what others changed. A decision for answers stores none of it.
pub(crate) fn records_to_store(
    population: &Population,
    outcome: &Outcome,
    about: &Records,
) -> Records {
    let updates = identity_updates(population, outcome);
    let mut records = Records::default();
    let identities = updates.identities.into_iter().map(|(one, _)| one.id);
    records.identities.extend(identities);
    for link in updates.links {
        records.accounts.insert(link.account);
        records.identities.insert(link.identity);
    }
    let names = updates.member_names.into_iter().map(|name| name.identity);
    records.identities.extend(names);
    let reserved = updates.reserved.into_iter().map(|name| name.identity);
    records.identities.extend(reserved);
    let notified = outcome.notifications.iter().map(|one| one.identity.clone());
    records.identities.extend(notified);
    for change in &outcome.changes {
        match change.identity.as_str() {
            "" => records.accounts.extend(change.account),
            identity => {
                records.identities.insert(identity.to_owned());
            }
        }
    }
    records.accounts.extend(population.drift_baseline.keys());
    let absent = population.accounts.iter();
    let absent = absent.filter(|account| account.absent_since.is_some());
    records.accounts.extend(absent.map(|account| account.id));
    // What is reported about an account names its owner.
    let links = population.links.iter();
    let owners = links.filter(|link| records.accounts.contains(&link.account));
    records
        .identities
        .extend(owners.map(|link| link.identity.clone()));
    records
        .identities
        .retain(|id| about.identities.contains(id));
    records.accounts.retain(|id| about.accounts.contains(id));
    records
}

#[cfg(test)]
mod tests {
    use super::*;
    use tide_core::states::LinkBasis;
    use tide_core::{Account, Attributes, Identity, Link, ObjectType, Stage, Value};

    fn identity(id: &str, name: &str) -> Identity {
        let mut attributes = Attributes::default();
        attributes.set("name", vec![Value::text(name)]);
        Identity {
            id: id.to_owned(),
            kind: ObjectType::Person,
            attributes,
            stage: Stage::Active,
            since: None,
            kept_roles: Default::default(),
        }
    }

    #[test]
    fn only_what_differs_is_to_be_stored() {
        let gone = Account {
            id: 7,
            system: "harbour".into(),
            kind: ObjectType::Person,
            key: "k7".into(),
            name: "cy".into(),
            attributes: Attributes::default(),
            absent_since: Some(jiff::Timestamp::UNIX_EPOCH),
            absence_confirmed: true,
            fault: None,
        };
        let population = Population {
            accounts: vec![gone],
            identities: vec![
                identity("ada", "Ada"),
                identity("bo", "Bo"),
                identity("cy", "Cy"),
            ],
            links: vec![Link {
                account: 7,
                identity: "cy".to_owned(),
                basis: LinkBasis::created(),
            }],
            ..Population::default()
        };
        let decided = [
            identity("ada", "Ada"),
            identity("bo", "Bosun"),
            identity("cy", "Cy"),
        ];
        let outcome = Outcome {
            identities: decided.map(|one| (one, String::new())).into(),
            ..Outcome::default()
        };
        let mut about = Records::default();
        about.accounts.insert(7);
        about.identities = ["ada", "bo", "cy"].map(str::to_owned).into();
        let records = records_to_store(&population, &outcome, &about);
        let names: Vec<&str> = records.identities.iter().map(String::as_str).collect();
        assert_eq!(
            names,
            ["bo", "cy"],
            "who changed, and who owns what is gone"
        );
        assert_eq!(records.accounts, [7].into());
    }
}
