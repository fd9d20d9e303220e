//! What the tests of whole decisions share: a small world of a directory, a roster and a service.
#![allow(dead_code)] // Each test uses a part of it.

use tide_core::decide::Verdict;
use tide_core::rules::{FaultSeverity, RuleFile};
use tide_core::{
    Account, AttributeDef, Attributes, ObjectType, Outcome, Population, RuleSet, Schema,
    SystemFacts, Value, decide,
};

pub const IDENTITIES: &str = "[person]\nlabel = \"name\"\n[person.attributes]\nnumber = { required = true, unique = true }\nname = {}\nmail = { recommended = true }\n";
pub const HARBOUR: &str = "system = \"harbour\"\n[[person.match]]\naccount = 'account.number'\nidentity = 'identity.number'\n[person.inbound]\nnumber = 'account.number'\nname = 'account.name'\nmail = 'account.mail'\n";
pub const ROSTER: &str = "system = \"roster\"\n[[person.match]]\naccount = 'account.number'\nidentity = 'identity.number'\n[person.inbound]\nnumber = 'account.number'\nname = 'account.name'\n";
pub const TARGET: &str = "system = \"berthing\"\n[[person.match]]\naccount = 'account.number'\nidentity = 'identity.number'\n[person.outbound]\nuserName = 'identity.number'\nnumber = 'identity.number'\nmail = 'identity.mail'\nactive = 'true'\n";

pub struct World {
    pub rules: RuleSet,
    pub population: Population,
}

impl World {
    pub fn new(files: &[(&str, &str)]) -> World {
        let files: Vec<RuleFile> = files
            .iter()
            .map(|(name, text)| RuleFile {
                name: (*name).into(),
                text: (*text).into(),
            })
            .collect();
        let (rules, faults) = RuleSet::load(&files, &Default::default());
        assert!(
            !faults
                .iter()
                .any(|fault| fault.severity == FaultSeverity::Error),
            "{faults:?}"
        );
        let mut schema = Schema {
            state_attribute: Some("active".into()),
            name_attribute: Some("userName".into()),
            ..Schema::default()
        };
        ["userName", "number", "mail", "active"]
            .iter()
            .for_each(|name| schema.put(AttributeDef::text(*name)));
        let read = vec![ObjectType::Person, ObjectType::Group];
        let target = SystemFacts {
            schema: std::sync::Arc::new([(ObjectType::Person, schema)].into()),
            writable: vec![ObjectType::Person],
            read: read.clone(),
            ..SystemFacts::default()
        };
        let source = SystemFacts {
            read,
            ..SystemFacts::default()
        };
        let systems = [
            ("berthing".to_owned(), target),
            ("harbour".to_owned(), source.clone()),
            ("roster".to_owned(), source),
        ]
        .into_iter()
        .collect();
        World {
            rules,
            population: Population {
                systems,
                ..Population::default()
            },
        }
    }

    pub fn add(
        &mut self,
        system: &str,
        kind: ObjectType,
        name: &str,
        pairs: &[(&str, &str)],
    ) -> &mut Self {
        let id = self.population.accounts.len() as i64 + 1;
        let attributes: Attributes = pairs
            .iter()
            .map(|(name, value)| {
                let value = if *name == "member" {
                    Value::Reference((*value).into())
                } else {
                    Value::text(*value)
                };
                ((*name).to_owned(), vec![value])
            })
            .collect();
        let key = format!("k{id}");
        self.population.accounts.push(Account {
            id,
            system: system.into(),
            kind,
            key,
            name: name.into(),
            attributes,
            absent_since: None,
            absence_confirmed: false,
            fault: None,
        });
        self
    }

    pub fn person(&mut self, system: &str, number: &str, mail: &str) -> &mut Self {
        let name = format!("uid={number},ou=p");
        self.add(
            system,
            ObjectType::Person,
            &name,
            &[
                ("dn", &name),
                ("number", number),
                ("name", &format!("Person {number}")),
                ("mail", mail),
            ],
        )
    }

    pub fn decide(&self) -> Outcome {
        decide(
            &self.rules,
            &self.population,
            "2026-11-23T12:00:00Z".parse().expect("valid"),
        )
    }
}

pub fn line(outcome: &Outcome, system: &str, label: &str) -> (Verdict, String) {
    let found = outcome
        .decided
        .iter()
        .find(|line| line.system == system && line.label == label);
    let found = found.unwrap_or_else(|| {
        panic!(
            "nothing was said of {label} in {system}: {:#?}",
            outcome.decided
        )
    });
    (found.verdict, found.reason.to_string())
}
