//! Roles: who holds them, what they give, which of them counts, and what is left when one ends.
#![allow(clippy::disallowed_methods, reason = "tests run in real time")]

use jiff::Timestamp;
use tide_core::decide::Verdict;
use tide_core::model::{ROLES, RoleGrant};
use tide_core::rules::{FaultSeverity, RuleFile};
use tide_core::{
    Account, AttributeDef, Attributes, Identity, Link, ObjectType, Outcome, Population, RuleSet,
    Schema, SystemFacts, Value, decide, explain,
};

const IDENTITIES: &str = "[person]\nlabel = \"number\"\n[person.attributes]\nnumber = { required = true, unique = true }\nteam = {}\nrank = {}\ntitle = {}\nport = {}\nlicenses = { multi_valued = true }\nends = {}\n";
const ROSTER: &str = "system = \"roster\"\n[person.inbound]\nnumber = 'account.number'\nteam = 'account.team'\nrank = 'account.rank'\ntitle = 'account.title'\nport = 'account.port'\nends = 'account.end'\n";
const BERTHING: &str = "system = \"berthing\"\n[[person.scope.condition]]\nwhen = '\"crew\" in identity.roles'\nreason = \"is not of the crew\"\n[[person.match]]\naccount = 'account.number'\n\
     identity = 'identity.number'\n[person.outbound]\nnumber = 'identity.number'\ntitle = 'identity.title'\nport = 'identity.port'\nlicenses = 'identity.licenses'\n";
const ROLE: &str = r#"
[[role]]
name = "crew"
defaults = { port = '"Northhaven"' }
binding = { licenses = '"planning"' }

[[role]]
name = "deck hand"
when = 'identity.team == "Deck"'
includes = ["crew"]
priority = 10
binding = { title = '"Hand of the deck"' }

[[role]]
name = "officer"
when = 'identity.rank == "officer"'
includes = ["crew"]
priority = 20
binding = { title = '"Officer, " + identity.team', licenses = '["planning", "bridge"]' }
"#;

fn at(text: &str) -> Timestamp {
    text.parse().expect("a moment")
}

fn load(roles: &str) -> (RuleSet, Vec<String>) {
    let life = "[person]\nends = 'identity.ends'\n";
    let all = [
        ("identities.toml", IDENTITIES),
        ("roster.toml", ROSTER),
        ("berthing.toml", BERTHING),
        ("roles.toml", roles),
        ("lifecycle.toml", life),
    ];
    let files: Vec<RuleFile> = all
        .iter()
        .map(|(name, text)| RuleFile {
            name: (*name).into(),
            text: (*text).into(),
        })
        .collect();
    let (rules, faults) = RuleSet::load(&files, &Default::default());
    let errors = faults
        .iter()
        .filter(|fault| fault.severity == FaultSeverity::Error)
        .map(ToString::to_string)
        .collect();
    (rules, errors)
}

fn population(people: &[(&str, &[(&str, &str)])]) -> Population {
    let mut schema = Schema {
        state_attribute: Some("active".into()),
        ..Schema::default()
    };
    for name in ["number", "title", "port", "active"] {
        schema.put(AttributeDef::text(name));
    }
    schema.put(AttributeDef {
        multi_valued: true,
        ..AttributeDef::text("licenses")
    });
    let berthing = SystemFacts {
        schema: std::sync::Arc::new([(ObjectType::Person, schema)].into()),
        writable: vec![ObjectType::Person],
        read: vec![ObjectType::Person],
        ..SystemFacts::default()
    };
    let roster = SystemFacts {
        read: vec![ObjectType::Person],
        ..SystemFacts::default()
    };
    let accounts = people.iter().enumerate().map(|(n, (number, pairs))| {
        let pairs = [("number", *number)]
            .into_iter()
            .chain(pairs.iter().copied());
        Account {
            id: n as i64 + 1,
            system: "roster".into(),
            kind: ObjectType::Person,
            key: format!("r{number}"),
            name: format!("r{number}"),
            attributes: pairs
                .map(|(name, value)| (name.to_owned(), vec![Value::text(value)]))
                .collect(),
            absent_since: None,
            absence_confirmed: false,
            fault: None,
        }
    });
    let systems = [
        ("berthing".to_owned(), berthing),
        ("roster".to_owned(), roster),
    ]
    .into();
    Population {
        accounts: accounts.collect(),
        systems,
        ..Population::default()
    }
}

/// Keeps who was decided to be there, as a run does.
fn keep(population: &mut Population, outcome: &Outcome) {
    population.identities = outcome
        .identities
        .iter()
        .map(|(identity, _)| identity.clone())
        .collect();
    let new = outcome.links.iter().map(|l| Link {
        account: l.account,
        identity: l.identity.clone(),
        basis: l.basis.clone(),
    });
    population.links.extend(new);
}

fn identity<'o>(outcome: &'o Outcome, number: &str) -> &'o Identity {
    let found = outcome
        .identities
        .iter()
        .find(|(identity, _)| identity.attributes.get("number") == [Value::text(number)]);
    &found.expect("there").0
}

fn of<'o>(outcome: &'o Outcome, number: &str) -> &'o Attributes {
    &identity(outcome, number).attributes
}

fn texts(attributes: &Attributes, name: &str) -> Vec<String> {
    attributes
        .get(name)
        .iter()
        .map(ToString::to_string)
        .collect()
}

const NOW: &str = "2026-06-01T00:00:00Z";

/// An officer and a hand of the deck, and a planner ashore.
fn crew() -> (RuleSet, Population) {
    let (rules, errors) = load(ROLE);
    assert_eq!(errors, Vec::<String>::new());
    let population = population(&[
        (
            "1",
            &[
                ("team", "Deck"),
                ("rank", "officer"),
                ("title", "from the source"),
                ("port", "Tarn Quay"),
            ],
        ),
        ("2", &[("team", "Deck")]),
        ("3", &[("team", "Shore"), ("title", "Planner")]),
    ]);
    (rules, population)
}

#[test]
fn roles_held_by_condition_and_by_another_role_supply_values() {
    let (rules, population) = crew();
    let outcome = decide(&rules, &population, at(NOW));
    assert_eq!(
        texts(of(&outcome, "1"), ROLES),
        ["crew", "deck hand", "officer"]
    );
    assert_eq!(texts(of(&outcome, "1"), "title"), ["Officer, Deck"]);
    assert_eq!(
        texts(of(&outcome, "1"), "licenses"),
        ["bridge", "planning"],
        "of an attribute with several values all count, once"
    );
    assert_eq!(
        (
            texts(of(&outcome, "1"), "port"),
            texts(of(&outcome, "2"), "port")
        ),
        (vec!["Tarn Quay".into()], vec!["Northhaven".into()])
    );
    assert_eq!(texts(of(&outcome, "3"), "title"), ["Planner"]);
}

#[test]
fn of_two_roles_the_higher_counts_and_the_conflict_is_reported() {
    let (rules, population) = crew();
    let outcome = decide(&rules, &population, at(NOW));
    assert_eq!(outcome.conflicts.len(), 1);
    let conflict = &outcome.conflicts[0];
    assert_eq!(
        (
            conflict.label.as_str(),
            conflict.attribute.as_str(),
            conflict.wins.0.as_str()
        ),
        ("1", "title", "officer")
    );
    assert_eq!(
        conflict.over,
        [(
            "deck hand".to_owned(),
            vec![Value::text("Hand of the deck")]
        )]
    );
    let why = &explain::explain(&rules, &population, &outcome, "1")[0];
    let title = why
        .values
        .iter()
        .find(|value| value.attribute == "title")
        .expect("told");
    assert_eq!(
        title.note.as_ref().map(ToString::to_string).as_deref(),
        Some("from the role officer, over Hand of the deck by deck hand")
    );
}

#[test]
fn who_holds_a_role_with_an_account_gets_one() {
    let (rules, population) = crew();
    let outcome = decide(&rules, &population, at(NOW));
    let made = |outcome: &Outcome| {
        outcome
            .decided
            .iter()
            .filter(|line| line.verdict == Verdict::Create)
            .count()
    };
    assert_eq!(made(&outcome), 2);
}

#[test]
fn when_a_role_ends_the_next_value_counts() {
    let (rules, mut population) = crew();
    let outcome = decide(&rules, &population, at(NOW));
    keep(&mut population, &outcome);
    population.accounts[0].attributes.set("rank", Vec::new());
    let outcome = decide(&rules, &population, at(NOW));
    assert_eq!(
        (texts(of(&outcome, "1"), "title"), outcome.conflicts.len()),
        (vec!["Hand of the deck".to_owned()], 0)
    );
    // And the last one: the source's own is.
    population.accounts[0].attributes.set("team", Vec::new());
    let outcome = decide(&rules, &population, at(NOW));
    assert_eq!(texts(of(&outcome, "1"), "title"), ["from the source"]);
    assert!(of(&outcome, "1").get(ROLES).is_empty());
}

/// From one moment until another, to the minute; both are known as due.
#[test]
fn a_granted_role_begins_and_ends_on_time() {
    let (rules, mut population) = crew();
    let outcome = decide(&rules, &population, at(NOW));
    keep(&mut population, &outcome);
    let id = identity(&outcome, "3").id.clone();
    population.role_grants.push(RoleGrant {
        identity: id.clone(),
        role: "officer".into(),
        from: Some(at("2026-06-10T08:00:00Z")),
        until: Some(at("2026-06-20T17:00:00Z")),
        principal: "ada".into(),
    });
    let roles = |now: &str| texts(of(&decide(&rules, &population, at(now)), "3"), ROLES);
    assert_eq!(roles("2026-06-10T07:59:00Z"), Vec::<String>::new());
    assert_eq!(roles("2026-06-10T08:00:00Z"), ["crew", "officer"]);
    assert_eq!(roles("2026-06-20T16:59:00Z"), ["crew", "officer"]);
    assert_eq!(roles("2026-06-20T17:00:00Z"), Vec::<String>::new());
    assert_eq!(
        decide(&rules, &population, at(NOW)).due,
        [(id.clone(), at("2026-06-10T08:00:00Z"))]
    );
    // After their end, they hold none.
    population.accounts[2]
        .attributes
        .set("end", vec![Value::text("2026-06-12")]);
    assert_eq!(
        texts(
            of(
                &decide(&rules, &population, at("2026-06-13T00:00:00Z")),
                "3"
            ),
            ROLES
        ),
        Vec::<String>::new()
    );
}

#[test]
fn a_movers_old_roles_end_after_the_overlap() {
    let (rules, errors) =
        load(&ROLE.replace("priority = 10\n", "priority = 10\noverlap_days = 14\n"));
    assert_eq!(errors, Vec::<String>::new());
    let mut population = population(&[("1", &[("team", "Deck"), ("title", "Planner")])]);
    let outcome = decide(&rules, &population, at(NOW));
    keep(&mut population, &outcome);
    population.accounts[0]
        .attributes
        .set("team", vec![Value::text("Shore")]);
    let outcome = decide(&rules, &population, at("2026-06-02T12:00:00Z"));
    assert_eq!(
        texts(of(&outcome, "1"), ROLES),
        ["crew", "deck hand"],
        "with what it brings"
    );
    assert_eq!(texts(of(&outcome, "1"), "title"), ["Hand of the deck"]);
    assert_eq!(
        identity(&outcome, "1").kept_roles["deck hand"].to_string(),
        "2026-06-16T12:00:00Z"
    );
    assert_eq!(
        outcome.due.iter().map(|(_, at)| *at).collect::<Vec<_>>(),
        [at("2026-06-16T12:00:00Z")]
    );
    keep(&mut population, &outcome);
    // However often it is decided meanwhile, the end stays; then it goes, and stays gone.
    let outcome = decide(&rules, &population, at("2026-06-16T11:59:00Z"));
    assert_eq!(texts(of(&outcome, "1"), ROLES), ["crew", "deck hand"]);
    keep(&mut population, &outcome);
    let outcome = decide(&rules, &population, at("2026-06-16T12:00:00Z"));
    assert_eq!(
        (
            texts(of(&outcome, "1"), ROLES),
            texts(of(&outcome, "1"), "title")
        ),
        (Vec::<String>::new(), vec!["Planner".to_owned()])
    );
    keep(&mut population, &outcome);
    assert_eq!(
        texts(
            of(
                &decide(&rules, &population, at("2026-06-17T00:00:00Z")),
                "1"
            ),
            ROLES
        ),
        Vec::<String>::new()
    );
    // Who is back before the end holds it as ever.
    population.accounts[0]
        .attributes
        .set("team", vec![Value::text("Deck")]);
    let outcome = decide(&rules, &population, at("2026-06-18T00:00:00Z"));
    assert!(identity(&outcome, "1").kept_roles.is_empty());
    assert_eq!(texts(of(&outcome, "1"), ROLES), ["crew", "deck hand"]);
    // Whoever leaves keeps nothing.
    keep(&mut population, &outcome);
    population.accounts[0]
        .attributes
        .set("end", vec![Value::text("2026-06-20")]);
    population.accounts[0].attributes.set("team", Vec::new());
    assert_eq!(
        texts(
            of(
                &decide(&rules, &population, at("2026-06-21T00:00:00Z")),
                "1"
            ),
            ROLES
        ),
        Vec::<String>::new()
    );
}

#[test]
fn roles_with_equal_priorities_and_different_values_are_refused() {
    let (_, errors) = load(&ROLE.replace("priority = 20", "priority = 10"));
    assert_eq!(errors.len(), 1, "{errors:?}");
    assert!(
        errors[0]
            .contains("`deck hand` and `officer` both set title, and have the same priority 10"),
        "{errors:?}"
    );
    for (wrong, said) in [
        (
            "[[role]]\nname = \"a\"\nincludes = [\"b\"]\n[[role]]\nname = \"b\"\nincludes = [\"a\"]\n",
            "which includes it again",
        ),
        (
            "[[role]]\nname = \"a\"\nincludes = [\"c\"]\n",
            "includes the role `c`, which does not exist",
        ),
        (
            "[[role]]\nname = \"a\"\n[[role]]\nname = \"a\"\n",
            "there are two roles `a`",
        ),
        (
            "[[role]]\nname = \"a\"\nbinding = { tite = '\"x\"' }\n",
            "declares no attribute `tite`",
        ),
        (
            "[[role]]\nname = \"a\"\nbinding = { number = '\"1\"' }\n",
            "`number` is personal",
        ),
        (
            "[[role]]\nname = \"a\"\nwhen = '\"b\" in identity.roles'\n",
            "unknown attribute `identity.roles`",
        ),
        ("[[role]]\nwhen = 'true'\n", "a role needs a name"),
    ] {
        let (_, errors) = load(&format!("{wrong}[[role]]\nname = \"crew\"\n"));
        assert!(
            errors
                .iter()
                .any(|error| error.contains(said) && error.starts_with("roles.toml:")),
            "{said}: {errors:?}"
        );
    }
}
