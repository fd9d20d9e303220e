//! Who takes part, through a whole decision: several sources at once, groups, filters, domains,
//! wanted values, accounts that are never touched, systems that are not armed.
#![allow(clippy::disallowed_methods, reason = "tests run in real time")]

mod common;

use common::*;
use tide_core::decide::Verdict;
use tide_core::{ObjectType, Value};

#[test]
fn who_is_new_by_one_source_is_matched_by_the_next_in_the_same_decision() {
    let mut world = World::new(&[
        ("identities.toml", IDENTITIES),
        ("harbour.toml", HARBOUR),
        ("roster.toml", ROSTER),
        ("berthing.toml", TARGET),
    ]);
    world
        .person("harbour", "1", "a@skerry.example")
        .person("roster", "1", "")
        .person("roster", "2", "");
    let outcome = world.decide();
    assert_eq!(outcome.identities.len(), 2, "{:#?}", outcome.decided);
    assert_eq!(line(&outcome, "roster", "Person 1").0, Verdict::Source);
    assert_eq!(outcome.changes.len(), 2);
    let (verdict, reason) = line(&outcome, "roster", "Person 2");
    assert_eq!(verdict, Verdict::Source);
    assert!(
        reason.contains("mail is recommended and missing"),
        "{reason}"
    );
}

#[test]
fn groups_and_filters_decide_who_takes_part() {
    let scope = "[person.scope]\ngroups = [\"cn=crew,ou=g\"]\nnot_groups = [\"cn=trainees,ou=g\"]\nfilter = '(!(number=9))'\n";
    let harbour = HARBOUR.replace("[[person.match]]", &format!("{scope}[[person.match]]"));
    let mut world = World::new(&[("identities.toml", IDENTITIES), ("harbour.toml", &harbour)]);
    for number in ["1", "2", "3", "9"] {
        world.person("harbour", number, "");
    }
    let group = |world: &mut World, name: &str, members: &[&str]| {
        world.add("harbour", ObjectType::Group, name, &[]);
        let refs = members
            .iter()
            .map(|m| Value::Reference((*m).into()))
            .collect();
        world
            .population
            .accounts
            .last_mut()
            .expect("just added")
            .attributes
            .set("member", refs);
    };
    group(&mut world, "cn=crew,ou=g", &["uid=1,ou=p", "cn=deck,ou=g"]);
    group(
        &mut world,
        "cn=deck,ou=g",
        &["uid=2,ou=p", "uid=9,ou=p", "cn=crew,ou=g"],
    );
    group(&mut world, "cn=trainees,ou=g", &["uid=2,ou=p"]);
    let outcome = world.decide();
    let of = |number: &str| {
        outcome
            .decided
            .iter()
            .find(|l| {
                l.account.is_some_and(|id| {
                    world.population.accounts[id as usize - 1].name == format!("uid={number},ou=p")
                })
            })
            .expect("a line")
    };
    assert_eq!(of("1").verdict, Verdict::Source);
    assert_eq!(
        of("2").reason.to_string(),
        "member of cn=trainees,ou=g, which is excluded"
    );
    assert_eq!(of("3").reason.to_string(), "not a member of cn=crew,ou=g");
    assert_eq!(
        of("9").reason.to_string(),
        "the filter does not match: (!(number=9))"
    );
}

#[test]
fn an_address_outside_our_domains_is_held_and_one_of_an_older_domain_translated() {
    let domains = "[person.domains]\nattributes = [\"mail\"]\nours = [\"skerry.example\"]\ntranslate = { \"old.example\" = \"skerry.example\" }\n[person.outbound]";
    let target = TARGET.replace("[person.outbound]", domains);
    let mut world = World::new(&[
        ("identities.toml", IDENTITIES),
        ("harbour.toml", HARBOUR),
        ("berthing.toml", &target),
    ]);
    world
        .person("harbour", "1", "ada@old.example")
        .person("harbour", "2", "bo@elsewhere.example");
    let outcome = world.decide();
    assert_eq!(
        line(&outcome, "berthing", "Person 2"),
        (
            Verdict::OnHold,
            "the address bo@elsewhere.example is outside the accepted domains: skerry.example"
                .into()
        )
    );
    let sent: Vec<String> = outcome
        .changes
        .iter()
        .flat_map(|c| &c.values)
        .filter(|v| v.attribute == "mail")
        .map(|v| v.after[0].to_string())
        .collect();
    assert_eq!(
        sent,
        ["ada@skerry.example"],
        "and nothing else is ever sent"
    );
}

#[test]
fn built_in_own_and_named_accounts_are_left_alone() {
    let target = TARGET.replace("[[person.match]]", "[person.protected]\nnames = [\"emergency\"]\n[[person.protected.condition]]\nwhen = 'account.fed == \"yes\"'\nreason = \"the head office feeds it\"\n[[person.match]]");
    let mut world = World::new(&[
        ("identities.toml", IDENTITIES),
        ("harbour.toml", HARBOUR),
        ("berthing.toml", &target),
    ]);
    world
        .population
        .systems
        .get_mut("berthing")
        .expect("there")
        .own = vec!["skerry\\tide".into()];
    for number in 1..=5 {
        world.person("harbour", &number.to_string(), "");
    }
    let there: [(&str, &[(&str, &str)]); 5] = [
        (
            "admin",
            &[("number", "1"), ("objectSid", "S-1-5-21-1-2-3-500")],
        ),
        (
            "krbtgt",
            &[("number", "2"), ("isCriticalSystemObject", "true")],
        ),
        (
            "tide-account",
            &[("number", "3"), ("sAMAccountName", "tide")],
        ),
        ("emergency", &[("number", "4")]),
        ("fed", &[("number", "5"), ("fed", "yes")]),
    ];
    for (name, pairs) in there {
        world.add("berthing", ObjectType::Person, name, pairs);
    }
    let outcome = world.decide();
    for (name, why) in [
        ("admin", "built-in administrator account"),
        ("krbtgt", "built into the directory"),
        ("tide-account", "our own service account"),
        ("emergency", "named by the rules"),
        ("fed", "the head office feeds it"),
    ] {
        let (verdict, reason) = line(&outcome, "berthing", name);
        assert_eq!(verdict, Verdict::Orphaned, "{name}");
        assert!(
            reason.starts_with("protected: ") && reason.contains(why),
            "{reason}"
        );
    }
    assert!(
        outcome
            .changes
            .iter()
            .all(|change| change.account.is_none()),
        "none of them is joined or changed"
    );
}

#[test]
fn a_system_that_is_not_armed_gets_nothing() {
    let mut world = World::new(&[
        ("identities.toml", IDENTITIES),
        ("harbour.toml", HARBOUR),
        ("berthing.toml", TARGET),
    ]);
    world.person("harbour", "1", "");
    world
        .population
        .systems
        .get_mut("berthing")
        .expect("there")
        .disarmed = true;
    let outcome = world.decide();
    let hold = outcome.changes[0].hold.as_ref().expect("held");
    assert!(
        hold.to_string().contains("berthing is not armed"),
        "{}",
        hold.to_string()
    );
}
