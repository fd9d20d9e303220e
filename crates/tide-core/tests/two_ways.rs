//! Values that flow both ways: three systems hold the same people, and each is the authority of
//! another value. Whatever is edited where, and in whatever order the systems are written to, it
//! comes to rest, and at rest every system holds what the authority says.
#![allow(clippy::disallowed_methods, reason = "tests run in real time")]

use proptest::prelude::*;
use std::collections::BTreeMap;
use tide_core::model::Normalization;
use tide_core::rules::{FaultSeverity, RuleFile, Schemas};
use tide_core::{
    Account, AttributeDef, Attributes, Link, ObjectType, Outcome, Population, RuleSet, Schema,
    SystemFacts, Value, decide,
};

/// The systems, and the value that each is the authority of.
const OWNED: [(&str, &str); 3] = [
    ("harbour", "title"),
    ("postroom", "mail"),
    ("switchboard", "phone"),
];
const PEOPLE: usize = 3;

/// `exclusive`: what the authority takes away is gone; else another system may still say it.
fn rules(exclusive: bool) -> RuleSet {
    let mut identities =
        String::from("[person.attributes]\nnumber = { required = true, unique = true }\n");
    for (system, attribute) in OWNED {
        identities.push_str(&format!(
            "{attribute} = {{ authority = [\"{system}\"], exclusive = {exclusive} }}\n"
        ));
    }
    let mut files = vec![RuleFile {
        name: "identities.toml".into(),
        text: identities,
    }];
    for (system, _) in OWNED {
        let mut text = format!(
            "system = \"{system}\"\n[[person.match]]\naccount = 'account.number'\nidentity = 'identity.number'\n[person.inbound]\nnumber = 'account.number'\n"
        );
        OWNED
            .iter()
            .for_each(|(_, name)| text.push_str(&format!("{name} = 'account.{name}'\n")));
        text.push_str("[person.outbound]\nnumber = 'identity.number'\n");
        OWNED
            .iter()
            .for_each(|(_, name)| text.push_str(&format!("{name} = 'identity.{name}'\n")));
        files.push(RuleFile {
            name: format!("{system}.toml"),
            text,
        });
    }
    let (rules, faults) = RuleSet::load(&files, &Schemas::default());
    assert!(
        !faults
            .iter()
            .any(|fault| fault.severity == FaultSeverity::Error),
        "{faults:?}"
    );
    rules
}

fn world() -> Population {
    let mut schema = Schema::default();
    for name in ["number", "title", "mail", "phone"] {
        schema.put(AttributeDef {
            case_exact: true,
            ..AttributeDef::text(name)
        });
    }
    let facts = SystemFacts {
        schema: std::sync::Arc::new([(ObjectType::Person, schema)].into()),
        writable: vec![ObjectType::Person],
        read: vec![ObjectType::Person],
        ..SystemFacts::default()
    };
    let systems: BTreeMap<String, SystemFacts> = OWNED
        .iter()
        .map(|(name, _)| ((*name).to_owned(), facts.clone()))
        .collect();
    let mut population = Population {
        systems,
        ..Population::default()
    };
    for (system, _) in OWNED {
        for n in 0..PEOPLE {
            let id = population.accounts.len() as i64 + 1;
            population.accounts.push(Account {
                id,
                system: system.into(),
                kind: ObjectType::Person,
                key: format!("{system}{n}"),
                name: format!("{system}{n}"),
                attributes: [("number".to_owned(), vec![Value::text(format!("{n}"))])]
                    .into_iter()
                    .collect::<Attributes>(),
                absent_since: None,
                absence_confirmed: false,
                fault: None,
            });
        }
    }
    population
}

/// Carries out what was decided for these systems, as they do it: the switchboard writes everything
/// in its own way.
fn carry_out(population: &mut Population, outcome: &Outcome, to: &dyn Fn(&str) -> bool) -> usize {
    population.identities = outcome
        .identities
        .iter()
        .map(|(identity, _)| identity.clone())
        .collect();
    for link in &outcome.links {
        population.links.push(Link {
            account: link.account,
            identity: link.identity.clone(),
            basis: link.basis.clone(),
        });
    }
    let mut written = 0;
    for change in outcome
        .changes
        .iter()
        .filter(|change| change.hold.is_none() && to(&change.system))
    {
        written += 1;
        let account = change.account.expect("everybody has an account everywhere");
        for value in &change.values {
            let there = &mut population.accounts[account as usize - 1].attributes;
            let returned: Vec<Value> = match change.system.as_str() {
                "switchboard" => value
                    .after
                    .iter()
                    .map(|v| Value::text(v.to_string().to_uppercase()))
                    .collect(),
                _ => value.after.clone(),
            };
            there.set(&value.attribute, returned.clone());
            if returned != value.after {
                population.normalizations.insert(
                    (account, value.attribute.clone()),
                    Normalization {
                        sent: value.after.clone(),
                        returned,
                    },
                );
            }
        }
    }
    written
}

#[derive(Debug, Clone)]
enum Step {
    /// Somebody edits a value in a system itself.
    Edit {
        system: usize,
        person: usize,
        attribute: usize,
        value: u8,
    },
    /// What is decided is sent to one system only: the others are slow.
    Send(usize),
}

fn steps() -> impl Strategy<Value = Vec<Step>> {
    let edit =
        (0..3usize, 0..PEOPLE, 0..3usize, 0..4u8).prop_map(|(system, person, attribute, value)| {
            Step::Edit {
                system,
                person,
                attribute,
                value,
            }
        });
    proptest::collection::vec(
        prop_oneof![3 => edit, 2 => (0..3usize).prop_map(Step::Send)],
        0..14,
    )
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(256))]

    #[test]
    fn values_that_flow_both_ways_come_to_rest_and_the_authority_is_right(steps in steps(), exclusive in any::<bool>()) {
        let (rules, mut population) = (rules(exclusive), world());
        let mut said: BTreeMap<(usize, usize), Vec<Value>> = BTreeMap::new();
        let now = jiff::Timestamp::UNIX_EPOCH;
        for step in steps {
            match step {
                Step::Edit { system, person, attribute, value } => {
                    // None is a value that was taken away.
                    let values = (value > 0).then(|| Value::text(format!("v{value}"))).into_iter().collect();
                    if system == attribute {
                        said.insert((person, attribute), Clone::clone(&values));
                    }
                    population.accounts[system * PEOPLE + person].attributes.set(OWNED[attribute].1, values);
                }
                Step::Send(only) => {
                    let outcome = decide(&rules, &population, now);
                    carry_out(&mut population, &outcome, &|system| system == OWNED[only].0);
                }
            }
        }
        let mut rounds = 0;
        loop {
            let outcome = decide(&rules, &population, now);
            if carry_out(&mut population, &outcome, &|_| true) == 0 {
                break;
            }
            rounds += 1;
            prop_assert!(rounds <= 2, "it goes round and round: {:#?}", outcome.changes);
        }
        for (owner, (_, attribute)) in OWNED.iter().enumerate() {
            for person in 0..PEOPLE {
                let held = |system: usize| population.accounts[system * PEOPLE + person].attributes.get(attribute).to_vec();
                if exclusive {
                    let said = said.get(&(person, owner)).cloned().unwrap_or_default();
                    prop_assert_eq!(held(owner), said, "{} of {}: nobody else says it", attribute, person);
                }
                for (system, (name, _)) in OWNED.iter().enumerate() {
                    // The switchboard's own way of writing is its own.
                    let plain = |values: Vec<Value>| values.iter().map(|v| v.to_string().to_lowercase()).collect::<Vec<_>>();
                    prop_assert_eq!(plain(held(system)), plain(held(owner)), "{} of {} in {}", attribute, person, name);
                }
            }
        }
    }
}
