//! Matching through a whole decision: nothing is joined by a weak rule, against a contradiction, or
//! past what a person said; what is asked is asked of the right two.
#![allow(clippy::disallowed_methods, reason = "tests run in real time")]

mod common;

use common::{HARBOUR, IDENTITIES, World, line};
use proptest::prelude::*;
use tide_core::decide::{Doubt, Verdict};
use tide_core::model::{MatchAnswer, MatchDecision};
use tide_core::reasons::MatchDoubt;
use tide_core::rules::{RuleFile, RuleSet};
use tide_core::states::{LinkBasis, LinkOrigin};
use tide_core::{Link, ObjectType, Outcome, ReasonKind, Value};

/// A target that knows people by number, and asks when only the name fits.
const TARGET: &str = "system = \"berthing\"\n[[person.match]]\nname = \"number\"\naccount = 'account.number'\nidentity = 'identity.number'\n\
     [[person.match]]\nname = \"name\"\naccount = 'account.title'\nidentity = 'identity.name'\ncompare = \"name\"\naction = \"review\"\n\
     [person.outbound]\nuserName = 'identity.number'\nnumber = 'identity.number'\ntitle = 'identity.name'\nactive = 'true'\n";

fn world() -> World {
    World::new(&[
        ("identities.toml", IDENTITIES),
        ("harbour.toml", HARBOUR),
        ("berthing.toml", TARGET),
    ])
}

fn person(world: &mut World, number: &str, name: &str) -> i64 {
    let dn = format!("uid={number},ou=p");
    world.add(
        "harbour",
        ObjectType::Person,
        &dn,
        &[("dn", &dn), ("number", number), ("name", name)],
    );
    world.population.accounts.len() as i64
}

fn account(world: &mut World, user: &str, number: &str, title: &str) -> i64 {
    let pairs = [
        ("userName", user),
        ("number", number),
        ("title", title),
        ("active", "true"),
    ];
    let there: Vec<(&str, &str)> = pairs
        .into_iter()
        .filter(|(_, value)| !value.is_empty())
        .collect();
    world.add("berthing", ObjectType::Person, user, &there);
    world.population.accounts.len() as i64
}

fn identity_of(outcome: &Outcome, label: &str) -> String {
    outcome
        .identities
        .iter()
        .find(|(_, l)| l == label)
        .map(|(i, _)| i.id.clone())
        .unwrap_or_else(|| panic!("no {label}"))
}

fn say(world: &mut World, identity: Option<&str>, account: Option<i64>, said: MatchDecision) {
    let answer = MatchAnswer {
        system: "berthing".into(),
        identity: identity.map(str::to_owned),
        account,
        decision: said,
        principal: "Eiko".into(),
    };
    world.population.match_answers.push(answer);
}

#[test]
fn a_review_rule_asks_and_the_answer_holds() {
    let mut world = world();
    person(&mut world, "1", "Ada Lind");
    let spare = account(&mut world, "spare", "", "LIND, Ada");
    let asked = world.decide();
    assert_eq!(line(&asked, "berthing", "Ada Lind").0, Verdict::OnHold);
    let question = &asked.questions[0];
    assert_eq!(
        (
            question.doubt,
            question.accounts.as_slice(),
            asked.questions.len()
        ),
        (Doubt::NeedsReview, &[spare][..], 1)
    );
    let asked_by = MatchDoubt::ReviewRule {
        rule: "name".to_owned(),
    };
    assert!(
        matches!(&*question.reason.kind, ReasonKind::AccountDoubtful { why, .. } if **why == asked_by),
        "{}",
        question.reason
    );
    let ada = identity_of(&asked, "Ada Lind");

    say(&mut world, Some(&ada), Some(spare), MatchDecision::Join);
    let joined = world.decide();
    assert_eq!(
        line(&joined, "berthing", "Ada Lind"),
        (
            Verdict::Join,
            "spare is its account: answered by Eiko".into()
        )
    );
    assert!(joined.links.iter().any(|link| link.account == spare
        && link.identity == ada
        && link.basis == LinkBasis::new(LinkOrigin::Operator, "Eiko")));
    assert!(joined.questions.is_empty());

    world.population.match_answers.clear();
    say(&mut world, Some(&ada), Some(spare), MatchDecision::Never);
    let never = world.decide();
    assert_eq!(
        line(&never, "berthing", "Ada Lind").0,
        Verdict::Create,
        "the only candidate is never the right one"
    );

    world.population.match_answers.clear();
    say(&mut world, Some(&ada), None, MatchDecision::New);
    assert_eq!(
        line(&world.decide(), "berthing", "Ada Lind").0,
        Verdict::Create
    );

    world.population.match_answers.clear();
    say(&mut world, Some(&ada), None, MatchDecision::Skip);
    let skipped = world.decide();
    assert_eq!(
        line(&skipped, "berthing", "Ada Lind"),
        (Verdict::OutOfScope, "skipped: answered by Eiko".into())
    );
    assert!(skipped.changes.is_empty() && skipped.questions.is_empty());

    world.population.match_answers.clear();
    say(&mut world, None, Some(spare), MatchDecision::Skip);
    assert_eq!(
        line(&world.decide(), "berthing", "Ada Lind").0,
        Verdict::Create,
        "an account that is left alone is nobody's candidate"
    );
}

#[test]
fn a_source_asks_too_and_never_joins_by_a_weak_rule() {
    let weak = HARBOUR.replace(
        "identity = 'identity.number'\n",
        "identity = 'identity.number'\naction = \"review\"\n",
    );
    let roster = common::ROSTER;
    let mut world = World::new(&[
        ("identities.toml", IDENTITIES),
        ("harbour.toml", &weak),
        ("roster.toml", roster),
    ]);
    world.add(
        "roster",
        ObjectType::Person,
        "row 1",
        &[("number", "1"), ("name", "Ada")],
    );
    let first = world.decide();
    let (identity, _) = first.identities[0].clone();
    world.population.links.push(Link {
        account: 1,
        identity: identity.id.clone(),
        basis: LinkBasis::new(LinkOrigin::MatchRule, "x"),
    });
    world.population.identities.push(identity.clone());
    let entry = person(&mut world, "1", "Ada");
    let outcome = world.decide();
    assert!(outcome.links.is_empty(), "{:?}", outcome.links);
    assert_eq!(
        outcome.identities.len(),
        1,
        "and nobody new is made while it is asked"
    );
    let question = &outcome.questions[0];
    assert_eq!(
        (question.account, question.identities.as_slice()),
        (Some(entry), &[identity.id.clone()][..])
    );
    let say = |world: &mut World, identity: Option<&str>, said| {
        world.population.match_answers.clear();
        say(world, identity, Some(entry), said);
        world.population.match_answers[0].system = "harbour".into();
    };
    say(&mut world, Some(&identity.id), MatchDecision::Join);
    assert_eq!(
        world.decide().links[0].basis,
        LinkBasis::new(LinkOrigin::Operator, "Eiko")
    );
    say(&mut world, None, MatchDecision::New);
    assert_eq!(world.decide().identities.len(), 2);
    say(&mut world, None, MatchDecision::Skip);
    assert_eq!(
        line(&world.decide(), "harbour", "uid=1,ou=p").0,
        Verdict::OutOfScope
    );
}

#[test]
fn a_reassigned_number_does_not_move_the_account() {
    let mut world = world();
    person(&mut world, "1", "Ada Lind");
    let own = account(&mut world, "1", "1", "Ada Lind");
    let first = world.decide();
    for link in &first.links {
        world.population.links.push(Link {
            account: link.account,
            identity: link.identity.clone(),
            basis: link.basis.clone(),
        });
    }
    world.population.identities = first
        .identities
        .iter()
        .map(|(identity, _)| identity.clone())
        .collect();

    // Her number is corrected to 7, and a new colleague gets 1.
    world.population.accounts[0]
        .attributes
        .set("number", vec![Value::text("7")]);
    person(&mut world, "1", "Bram Holm");
    let outcome = world.decide();
    let moved = outcome
        .questions
        .iter()
        .find(|q| q.doubt == Doubt::KeyReassigned)
        .expect("asked");
    assert_eq!(moved.accounts, [own]);
    assert_eq!(moved.identities, [identity_of(&outcome, "Bram Holm")]);
    assert!(
        !outcome
            .changes
            .iter()
            .any(|change| change.account == Some(own)),
        "nobody's values go there before it is said"
    );
    assert!(!outcome.links.iter().any(|link| link.account == own));
    assert_eq!(
        line(&outcome, "berthing", "Bram Holm").0,
        Verdict::OnHold,
        "it matches him too, and is hers"
    );

    // She keeps it: then her account follows her, and his is made.
    let ada = identity_of(&outcome, "Ada Lind");
    say(&mut world, Some(&ada), Some(own), MatchDecision::Join);
    let kept = world.decide();
    assert!(
        kept.changes
            .iter()
            .any(|change| change.account == Some(own) && change.identity == ada),
        "{:#?}",
        kept.changes
    );
}

#[test]
fn faults_of_match_rules_name_their_place() {
    let load = |text: &str| {
        let files = [
            ("identities.toml", IDENTITIES),
            ("harbour.toml", HARBOUR),
            ("berthing.toml", text),
        ]
        .map(|(name, text)| RuleFile {
            name: name.into(),
            text: text.into(),
        });
        RuleSet::load(&files, &Default::default())
            .1
            .iter()
            .map(ToString::to_string)
            .collect::<Vec<_>>()
            .join("\n")
    };
    let uneven = TARGET.replace(
        "account = 'account.title'",
        "account = ['account.title', 'account.born']",
    );
    assert!(
        load(&uneven)
            .contains("berthing.toml:6:1: the two sides of a match rule must have the same number"),
        "{}",
        load(&uneven)
    );
    let strange = TARGET.replace("\"name\"\naction", "\"sound\"\naction");
    assert!(load(&strange).contains("sound"), "{}", load(&strange));
    let wrong = TARGET.replace("action = \"review\"", "action = \"perhaps\"");
    assert!(load(&wrong).contains("perhaps"), "{}", load(&wrong));
    assert_eq!(load(TARGET), "");
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(60))]

    /// Made-up people and accounts that share numbers and names in every way: whatever their order,
    /// the same is joined and asked; nobody is joined by a name alone, and a second decision says
    /// the same.
    #[test]
    fn no_order_and_no_second_look_changes_what_is_joined(
        people in proptest::collection::vec((0u8..12, 0u8..5), 0..10),
        accounts in proptest::collection::vec((proptest::option::of(0u8..12), 0u8..5), 0..10),
        turn in 0usize..10,
    ) {
        let mut world = world();
        for (number, name) in &people {
            person(&mut world, &number.to_string(), &format!("Crew {name}"));
        }
        for (at, (number, name)) in accounts.iter().enumerate() {
            account(&mut world, &format!("u{at}"), &number.map(|n| n.to_string()).unwrap_or_default(), &format!("Crew {name}"));
        }
        let told = |outcome: &Outcome| {
            let mut links: Vec<(i64, String)> = outcome.links.iter().map(|l| (l.account, l.identity.clone())).collect();
            links.sort();
            let questions: Vec<_> = outcome.questions.iter().map(|q| (q.doubt, q.identity.clone(), q.account, q.accounts.clone())).collect();
            (links, questions)
        };
        let first = world.decide();
        for link in first.links.iter().filter(|link| link.basis.origin == LinkOrigin::MatchRule) {
            prop_assert!(link.basis.name.contains("number"), "{:?}", link);
            let holders = first.links.iter().filter(|other| other.account == link.account).count();
            prop_assert_eq!(holders, 1);
        }
        prop_assert_eq!(told(&first), told(&world.decide()));
        if !world.population.accounts.is_empty() {
            let count = world.population.accounts.len();
            world.population.accounts.rotate_left(turn % count);
            prop_assert_eq!(told(&first), told(&world.decide()));
        }
    }
}
