//! Properties that hold for any population: made-up directories and services are decided about and
//! carried out, again and again.
#![allow(clippy::disallowed_methods, reason = "tests run in real time")]

use proptest::prelude::*;
use std::collections::{BTreeMap, HashSet};
use tide_core::decide::Verdict;
use tide_core::rules::{RuleFile, Schemas};
use tide_core::schema::ValueKind;
use tide_core::states::{ChangeKind, LinkBasis};
use tide_core::{
    Account, AttributeDef, Attributes, Link, ObjectType, Outcome, Population, RuleSet, Schema,
    SystemFacts, Value, decide,
};

const RULES: [(&str, &str); 3] = [
    (
        "identities.toml",
        "[person.attributes]\nnumber = { required = true, unique = true }\nmail = { required = true }\nname = {}\nactive = {}\n",
    ),
    (
        "harbour.toml",
        "system = \"harbour\"\n[[person.scope.condition]]\nwhen = 'account.kind != \"kiosk\"'\nreason = \"a kiosk\"\n[[person.match]]\nname = \"number\"\naccount = 'account.number'\nidentity = 'identity.number'\n\
         [person.inbound]\nnumber = 'account.number'\nmail = 'account.mail'\nname = 'account.name'\nactive = 'account.enabled'\n",
    ),
    (
        "berthing.toml",
        "system = \"berthing\"\n[[person.match]]\nname = \"number\"\naccount = 'account.number'\nidentity = 'identity.number'\n[[person.match]]\nname = \"mail\"\naccount = 'account.userName'\nidentity = 'identity.mail'\n\
         [person.outbound]\nuserName = { value = 'identity.mail', required = true }\nnumber = 'identity.number'\nname = 'identity.name'\nactive = 'identity.active'\n",
    ),
];

fn rules() -> RuleSet {
    let files: Vec<RuleFile> = RULES
        .iter()
        .map(|(name, text)| RuleFile {
            name: (*name).into(),
            text: (*text).into(),
        })
        .collect();
    RuleSet::load(&files, &Schemas::default()).0
}

#[derive(Debug, Clone)]
struct Seed {
    number: Option<u8>,
    mail: Option<u8>,
    name: u8,
    kiosk: bool,
    enabled: bool,
}

fn seeds(most: usize) -> impl Strategy<Value = Vec<Seed>> {
    let one = (
        proptest::option::weighted(0.9, 0u8..20),
        proptest::option::weighted(0.9, 0u8..20),
        0u8..4,
        proptest::bool::weighted(0.1),
        proptest::bool::weighted(0.8),
    )
        .prop_map(|(number, mail, name, kiosk, enabled)| Seed {
            number,
            mail,
            name,
            kiosk,
            enabled,
        });
    proptest::collection::vec(one, 0..most)
}

fn population(harbour: &[Seed], berthing: &[Seed]) -> Population {
    let mut schema = Schema {
        state_attribute: Some("active".into()),
        name_attribute: Some("userName".into()),
        ..Schema::default()
    };
    for name in ["userName", "number", "name"] {
        schema.put(AttributeDef::text(name));
    }
    schema.put(AttributeDef {
        kind: ValueKind::Bool,
        ..AttributeDef::text("active")
    });
    let facts = |schema: Option<Schema>| SystemFacts {
        disarmed: false,
        own: Vec::new(),
        schema: std::sync::Arc::new(
            schema
                .map(|schema| [(ObjectType::Person, schema)].into())
                .unwrap_or_default(),
        ),
        writable: vec![ObjectType::Person],
        read: vec![ObjectType::Person],
        paused: false,
        write_hold: None,
    };
    let systems: BTreeMap<String, SystemFacts> = [
        ("harbour".to_owned(), facts(None)),
        ("berthing".to_owned(), facts(Some(schema))),
    ]
    .into();
    let mut population = Population {
        systems,
        ..Population::default()
    };
    let mut names = HashSet::new();
    for (system, seeds) in [("harbour", harbour), ("berthing", berthing)] {
        for (n, seed) in seeds.iter().enumerate() {
            let mut attributes = Attributes::new();
            let mail = seed.mail.map(|m| format!("p{m}@e"));
            // A service allows each user name once.
            if system == "berthing" && !names.insert(mail.clone()) {
                continue;
            }
            attributes.set(
                "number",
                seed.number
                    .map(|n| Value::text(n.to_string()))
                    .into_iter()
                    .collect(),
            );
            attributes.set(
                if system == "harbour" {
                    "mail"
                } else {
                    "userName"
                },
                mail.map(Value::text).into_iter().collect(),
            );
            attributes.set("name", vec![Value::text(format!("N{}", seed.name))]);
            attributes.set(
                "kind",
                vec![Value::text(if seed.kiosk { "kiosk" } else { "crew" })],
            );
            attributes.set(
                if system == "harbour" {
                    "enabled"
                } else {
                    "active"
                },
                vec![Value::Bool(seed.enabled)],
            );
            let key = format!("{system}{n}");
            population.accounts.push(Account {
                id: population.accounts.len() as i64 + 1,
                system: system.into(),
                kind: ObjectType::Person,
                name: key.clone(),
                key,
                attributes,
                absent_since: None,
                absence_confirmed: false,
                fault: None,
            });
        }
    }
    population
}

fn now() -> jiff::Timestamp {
    jiff::Timestamp::UNIX_EPOCH
}

fn carry_out(population: &mut Population, outcome: &Outcome) {
    let known: HashSet<String> = population.identities.iter().map(|i| i.id.clone()).collect();
    let linked: HashSet<&str> = outcome.links.iter().map(|l| l.identity.as_str()).collect();
    population.identities = outcome
        .identities
        .iter()
        .map(|(i, _)| i.clone())
        .filter(|i| known.contains(&i.id) || linked.contains(i.id.as_str()))
        .collect();
    for link in &outcome.links {
        population.links.push(Link {
            account: link.account,
            identity: link.identity.clone(),
            basis: link.basis.clone(),
        });
    }
    for change in outcome
        .changes
        .iter()
        .filter(|change| change.hold.is_none())
    {
        let id = change.account.unwrap_or_else(|| {
            let id = population.accounts.len() as i64 + 1;
            population.accounts.push(Account {
                id,
                system: change.system.clone(),
                kind: ObjectType::Person,
                key: format!("made{id}"),
                name: format!("made{id}"),
                attributes: Attributes::new(),
                absent_since: None,
                absence_confirmed: false,
                fault: None,
            });
            population.links.push(Link {
                account: id,
                identity: change.identity.clone(),
                basis: LinkBasis::created(),
            });
            id
        });
        let account = population
            .accounts
            .iter_mut()
            .find(|account| account.id == id)
            .expect("there");
        for value in &change.values {
            account
                .attributes
                .set(&value.attribute, value.after.clone());
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(96))]

    /// Runs come to rest, whatever was there before. Most do at once; a name that one run frees by
    /// a rename is given by the next.
    #[test]
    fn runs_come_to_rest(harbour in seeds(25), berthing in seeds(15)) {
        let rules = rules();
        let mut population = population(&harbour, &berthing);
        let mut rounds = 0;
        loop {
            let outcome = decide(&rules, &population, now());
            if outcome.changes.iter().all(|change| change.hold.is_some()) && outcome.links.is_empty() {
                break;
            }
            rounds += 1;
            prop_assert!(rounds < 6, "still changing: {:#?}", outcome.changes);
            carry_out(&mut population, &outcome);
        }
    }

    /// No account is given to two people, and no person gets a second account.
    #[test]
    fn no_identity_has_two_accounts_and_no_account_two_owners(harbour in seeds(25), berthing in seeds(15)) {
        let rules = rules();
        let mut population = population(&harbour, &berthing);
        let outcome = decide(&rules, &population, now());
        let mut accounts = HashSet::new();
        for link in &outcome.links {
            prop_assert!(accounts.insert(link.account), "account {} is linked twice", link.account);
        }
        carry_out(&mut population, &outcome);
        let mut held = HashSet::new();
        for link in &population.links {
            let account = population.accounts.iter().find(|a| a.id == link.account).expect("there");
            prop_assert!(held.insert((link.identity.clone(), account.system.clone())), "{} has two accounts in {}", link.identity, account.system);
        }
    }

    /// User names stay unique in the target.
    #[test]
    fn no_name_is_given_twice(harbour in seeds(25), berthing in seeds(15)) {
        let rules = rules();
        let mut population = population(&harbour, &berthing);
        let outcome = decide(&rules, &population, now());
        carry_out(&mut population, &outcome);
        let mut names = HashSet::new();
        for account in population.accounts.iter().filter(|a| a.system == "berthing") {
            for name in account.attributes.get("userName") {
                prop_assert!(names.insert(name.to_string()), "{name} is given twice");
            }
        }
    }

    /// Every account and every person of a target has a line with a reason.
    #[test]
    fn every_record_has_an_outcome_and_a_reason(harbour in seeds(25), berthing in seeds(15)) {
        let population = population(&harbour, &berthing);
        let outcome = decide(&rules(), &population, now());
        for account in &population.accounts {
            let line = outcome.decided.iter().find(|line| line.account == Some(account.id));
            let candidate = outcome.decided.iter().any(|line| line.system == account.system && line.verdict == Verdict::Join);
            prop_assert!(line.is_some() || candidate, "{} has no line", account.name);
        }
        prop_assert!(outcome.decided.iter().all(|line| !line.reason.to_string().is_empty()));
        prop_assert!(outcome.changes.iter().all(|change| !change.reason.to_string().is_empty() && change.fingerprint.len() == 48));
    }

    /// Who is gone after a run is disabled or left alone, never deleted, and nobody else is
    /// touched.
    #[test]
    fn absence_disables_only_absent_people(harbour in seeds(25), gone in proptest::collection::vec(any::<prop::sample::Index>(), 0..4)) {
        let rules = rules();
        let mut population = population(&harbour, &[]);
        let first = decide(&rules, &population, now());
        carry_out(&mut population, &first);
        let mut absent = HashSet::new();
        if !harbour.is_empty() {
            for index in gone {
                let at = index.index(harbour.len());
                population.accounts[at].absent_since = Some(now());
                absent.insert(population.accounts[at].id);
            }
        }
        let owners: HashSet<String> =
            population.links.iter().filter(|l| absent.contains(&l.account)).map(|l| l.identity.clone()).collect();
        let outcome = decide(&rules, &population, now());
        for change in outcome.changes.iter().filter(|c| owners.contains(&c.identity)) {
            prop_assert_eq!(change.kind, ChangeKind::Disable);
        }
        // A duplicate that was held may go on once its rival is gone; nobody else is disabled.
        prop_assert!(outcome.changes.iter().filter(|c| !owners.contains(&c.identity)).all(|c| c.kind != ChangeKind::Disable));
    }

    /// A target that is read-only, paused or unread gets nothing, and the reasons say so.
    #[test]
    fn a_closed_target_gets_nothing(harbour in seeds(20), berthing in seeds(10), way in 0..3) {
        let mut population = population(&harbour, &berthing);
        let facts = population.systems.get_mut("berthing").expect("there");
        match way {
            0 => facts.writable.clear(),
            1 => facts.paused = true,
            _ => facts.read.clear(),
        }
        let outcome = decide(&rules(), &population, now());
        let sent = outcome.changes.iter().filter(|c| c.hold.is_none()).count();
        let made = outcome.changes.iter().filter(|c| c.kind == ChangeKind::Create).count();
        if way == 2 {
            prop_assert_eq!(made, 0, "nothing is made where it is not known what is there");
        } else {
            prop_assert_eq!(sent, 0);
        }
    }
}
