//! Why, and why not: everybody who fits is found, what belongs together is joined up, and nothing
//! is announced that will not happen.
#![allow(clippy::disallowed_methods, reason = "tests run in real time")]

use jiff::Timestamp;
use tide_core::explain::{Explanation, explain, find_identities};
use tide_core::model::ApprovalState;
use tide_core::rules::{FaultSeverity, RuleFile};
use tide_core::states::{LinkBasis, LinkOrigin, ValueState};
use tide_core::{
    Account, AttributeDef, Link, ObjectType, Population, RuleSet, Schema, SystemFacts, Value,
    decide,
};

const RULES: [(&str, &str); 5] = [
    (
        "identities.toml",
        "[person]\nlabel = \"name\"\n[person.attributes]\nnumber = { required = true, unique = true }\nname = {}\nmail = { required = true }\n",
    ),
    (
        "harbour.toml",
        "system = \"harbour\"\n[[person.scope.condition]]\nwhen = 'account.mail == \"\" || endsWith(account.mail, \"@skerry.example\")'\n\
         reason = \"address outside our domain\"\n[person.inbound]\nnumber = 'account.number'\nname = 'account.name'\nmail = 'account.mail'\n",
    ),
    (
        "roster.toml",
        "system = \"roster\"\n[[person.match]]\nname = \"employee number\"\naccount = 'account.number'\nidentity = 'identity.number'\n\
         [person.inbound]\nnumber = 'account.number'\nname = 'account.name'\n",
    ),
    (
        "berthing.toml",
        "system = \"berthing\"\n[[person.match]]\naccount = 'account.userName'\nidentity = 'identity.mail'\n\
         [person.outbound]\nuserName = 'identity.mail'\ndisplayName = 'identity.name'\n",
    ),
    (
        "approvals.toml",
        "[[approval]]\nname = \"names\"\nsystem = \"berthing\"\nchange = [\"update\"]\n[[approval.level]]\noperators = [\"ada\"]\n",
    ),
];

fn at(text: &str) -> Timestamp {
    text.parse().expect("a moment")
}

fn rules() -> RuleSet {
    let files: Vec<RuleFile> = RULES
        .iter()
        .map(|(name, text)| RuleFile {
            name: (*name).into(),
            text: (*text).into(),
        })
        .collect();
    let (rules, faults) = RuleSet::load(&files, &Default::default());
    let errors: Vec<String> = faults
        .iter()
        .filter(|fault| fault.severity == FaultSeverity::Error)
        .map(ToString::to_string)
        .collect();
    assert_eq!(errors, Vec::<String>::new());
    rules
}

#[derive(Default)]
struct World(Population);

impl World {
    fn new() -> World {
        let mut schema = Schema {
            state_attribute: Some("active".into()),
            ..Schema::default()
        };
        for name in ["userName", "displayName"] {
            schema.put(AttributeDef::text(name));
        }
        let person = vec![ObjectType::Person];
        let berthing = SystemFacts {
            schema: std::sync::Arc::new([(ObjectType::Person, schema)].into()),
            writable: person.clone(),
            read: person.clone(),
            ..SystemFacts::default()
        };
        let source = SystemFacts {
            read: person,
            ..SystemFacts::default()
        };
        let systems = [
            ("berthing", berthing),
            ("harbour", source.clone()),
            ("roster", source),
        ];
        World(Population {
            systems: systems.map(|(name, facts)| (name.to_owned(), facts)).into(),
            ..Population::default()
        })
    }

    fn put(&mut self, system: &str, key: &str, pairs: &[(&str, &str)]) -> i64 {
        let id = self.0.accounts.len() as i64 + 1;
        self.0.accounts.push(Account {
            id,
            system: system.into(),
            kind: ObjectType::Person,
            key: key.into(),
            name: key.into(),
            attributes: pairs
                .iter()
                .map(|(name, value)| ((*name).to_owned(), vec![Value::text(*value)]))
                .collect(),
            absent_since: None,
            absence_confirmed: false,
            fault: None,
        });
        id
    }

    fn why(&self, text: &str) -> Vec<Explanation> {
        let rules = rules();
        let outcome = decide(&rules, &self.0, at("2026-06-01T00:00:00Z"));
        explain(&rules, &self.0, &outcome, text)
    }
}

fn reasons(one: &Explanation) -> Vec<(String, String)> {
    one.accounts
        .iter()
        .map(|account| {
            (
                account.decided.system.clone(),
                account.decided.reason.to_string(),
            )
        })
        .collect()
}

#[test]
fn people_are_found_by_name_with_their_records() {
    let mut world = World::new();
    for n in 1..=3 {
        let mail = format!("vaino{n}@skerry.example");
        let pairs = [
            ("number", n.to_string()),
            ("name", format!("Väinö Crew {n}")),
            ("mail", mail),
            ("given", "Väinö".into()),
        ];
        let pairs: Vec<(&str, &str)> = pairs
            .iter()
            .map(|(name, value)| (*name, value.as_str()))
            .collect();
        world.put("harbour", &format!("uid=vaino{n}"), &pairs);
    }
    // The one who is looked for: the directory's account is out of scope, and the personnel
    // office's row waits for what it would give.
    world.put(
        "harbour",
        "uid=vaino.m",
        &[
            ("number", "8"),
            ("name", "Väinö منصور"),
            ("mail", "vaino@elsewhere.example"),
        ],
    );
    world.put("roster", "r8", &[("number", "8"), ("name", "Väinö منصور")]);
    assert_eq!(
        world.why("Väinö").len(),
        4,
        "the two records of one person are one answer"
    );
    assert_eq!(world.why("vaino").len(), 4, "with and without accents");
    for text in [
        "Väinö منصور",
        "8",
        "r8",
        "uid=vaino.m",
        "vaino@elsewhere.example",
    ] {
        let found = world.why(text);
        assert_eq!(
            found.len(),
            1,
            "{text}: {:?}",
            found.iter().map(reasons).collect::<Vec<_>>()
        );
        let reasons = reasons(&found[0]);
        let of = |system: &str| {
            reasons
                .iter()
                .filter(|(of, _)| of == system)
                .map(|(_, text)| text.as_str())
                .collect::<Vec<_>>()
        };
        assert_eq!(
            of("harbour"),
            ["linked by employee number, supplies no values: address outside our domain"],
            "{text}"
        );
        assert!(
            of("roster")[0].starts_with("waiting for a value of mail"),
            "{reasons:?}"
        );
    }
    // A number means one, also where it is a part of others' values.
    assert_eq!(world.why("1").len(), 1);
    let rules = rules();
    let outcome = decide(&rules, &world.0, at("2026-06-01T00:00:00Z"));
    assert_eq!(find_identities(&world.0, &outcome, "VAINO").len(), 4);
}

#[test]
fn a_change_that_is_on_hold_is_not_announced() {
    let mut world = World::new();
    world.put(
        "harbour",
        "uid=ada",
        &[
            ("number", "1"),
            ("name", "Ada Lund"),
            ("mail", "ada@skerry.example"),
        ],
    );
    let account = world.put(
        "berthing",
        "b1",
        &[
            ("userName", "ada@skerry.example"),
            ("displayName", "Ada Holm"),
            ("active", "true"),
        ],
    );
    let outcome = decide(&rules(), &world.0, at("2026-06-01T00:00:00Z"));
    let (identity, _) = outcome.identities[0].clone();
    world.0.links.push(Link {
        account: 1,
        identity: identity.id.clone(),
        basis: LinkBasis::new(LinkOrigin::MatchRule, "source"),
    });
    world.0.links.push(Link {
        account,
        identity: identity.id.clone(),
        basis: LinkBasis::new(LinkOrigin::MatchRule, "rule"),
    });
    world.0.identities.push(identity);
    let states = |world: &World| {
        let found = world.why("1").remove(0);
        let line = found
            .accounts
            .into_iter()
            .find(|line| line.decided.system == "berthing")
            .expect("there");
        let state = line
            .values
            .iter()
            .find(|value| value.attribute == "displayName")
            .expect("there")
            .state;
        (state, line.hold.map(|hold| (hold.cause, hold.to_string())))
    };
    let (state, hold) = states(&world);
    assert_eq!(state, ValueState::WouldBeSet);
    let (cause, text) = hold.expect("on hold");
    assert_eq!(
        cause,
        Some(tide_core::HoldCause::AwaitingApproval),
        "{text}"
    );
    // Approved, it will happen.
    let outcome = decide(&rules(), &world.0, at("2026-06-01T00:00:00Z"));
    let approved = ApprovalState {
        yes: vec!["ada".into()],
        ..ApprovalState::default()
    };
    world.0.approvals.extend(
        outcome
            .changes
            .iter()
            .map(|change| (change.fingerprint.clone(), approved.clone())),
    );
    assert_eq!(states(&world), (ValueState::WillBeSet, None));
}
