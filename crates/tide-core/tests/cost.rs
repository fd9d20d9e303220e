//! What one change costs: as many records are read and evaluated among ten times the people.
#![allow(clippy::disallowed_methods, reason = "tests run in real time")]

use std::cell::Cell;
use std::sync::Arc;
use tide_core::computation::{self, Computation};
use tide_core::decide::Verdict;
use tide_core::incremental::{
    ChunkStep, ChunkedDecision, IncrementalState, PartialOutcome, PassStep, Records,
};
use tide_core::rules::RuleFile;
use tide_core::states::LinkBasis;
use tide_core::{
    Account, AttributeDef, Attributes, Identity, Link, ObjectType, Outcome, Population, RuleSet,
    Schema, Stage, SystemFacts, Value, decide,
};

/// Captains are approved.
const APPROVALS: (&str, &str) = (
    "approvals.toml",
    "[[approval]]\nname = \"captains\"\nwhen = 'identity.title == \"Captain\"'\n[[approval.level]]\noperators = [\"ada\"]\n",
);

fn rules() -> RuleSet {
    rules_with("")
}

/// The rules with others for the directory.
fn rules_with(harbour: &str) -> RuleSet {
    let directory = "system = \"harbour\"\n[[person.match]]\naccount = 'account.number'\nidentity = 'identity.number'\n[person.inbound]\nnumber = 'account.number'\nmail = 'account.mail'\ntitle = 'account.title'\nboss = 'account.boss'\n";
    let directory = format!("{directory}{harbour}");
    let files = [
        APPROVALS,
        (
            "identities.toml",
            "[person.attributes]\nnumber = { required = true, unique = true }\nmail = { unique = true }\ntitle = {}\nboss = { reference = \"person\", by = \"number\" }\n",
        ),
        ("harbour.toml", &directory),
        (
            "berthing.toml",
            "system = \"berthing\"\n[[person.match]]\naccount = 'account.number'\nidentity = 'identity.number'\n[person.outbound]\nnumber = 'identity.number'\nmail = 'identity.mail'\ntitle = 'identity.title'\n",
        ),
    ];
    let files: Vec<RuleFile> = files
        .iter()
        .map(|(name, text)| RuleFile {
            name: (*name).into(),
            text: (*text).into(),
        })
        .collect();
    RuleSet::load(&files, &Default::default()).0
}

fn attributes(pairs: &[(&str, String)]) -> Attributes {
    pairs
        .iter()
        .map(|(name, value)| ((*name).to_owned(), vec![Value::text(value)]))
        .collect()
}

/// Everybody has an account here and there; ten people report to each boss.
fn population(count: usize) -> Population {
    let mut schema = Schema::default();
    for name in ["number", "mail", "title", "boss"] {
        schema.put(AttributeDef {
            case_exact: true,
            ..AttributeDef::text(name)
        });
    }
    let facts = |schema: Schema| SystemFacts {
        schema: std::sync::Arc::new([(ObjectType::Person, schema)].into()),
        writable: vec![ObjectType::Person],
        read: vec![ObjectType::Person],
        ..SystemFacts::default()
    };
    let mut population = Population {
        systems: [
            ("harbour".to_owned(), facts(Schema::default())),
            ("berthing".to_owned(), facts(schema)),
        ]
        .into(),
        ..Population::default()
    };
    for n in 0..count {
        let id = format!("{n:08x}-0000-8000-8000-000000000000");
        let values = attributes(&[
            ("number", n.to_string()),
            ("mail", format!("m{n}@skerry.example")),
            ("title", "Mate".to_owned()),
            ("boss", (n / 10 * 10).to_string()),
        ]);
        for system in ["harbour", "berthing"] {
            let account = population.accounts.len() as i64 + 1;
            population.accounts.push(Account {
                id: account,
                system: system.into(),
                kind: ObjectType::Person,
                key: format!("{system}{n}"),
                name: format!("{system}{n}"),
                attributes: values.clone(),
                absent_since: None,
                absence_confirmed: false,
                fault: None,
            });
            population.links.push(Link {
                account,
                identity: id.clone(),
                basis: LinkBasis::created(),
            });
        }
        let mut known = values;
        known.set(
            "boss",
            vec![Value::text(format!(
                "{:08x}-0000-8000-8000-000000000000",
                n / 10 * 10
            ))],
        );
        population.identities.push(Identity {
            id,
            kind: ObjectType::Person,
            attributes: known,
            stage: Stage::Active,
            since: None,
            kept_roles: Default::default(),
        });
    }
    population
}

/// The numbers of records read, of evaluations and of changes in the decision about one changed
/// title, while so many changes of others await approval.
fn cost(count: usize, captains: usize) -> (usize, usize, usize) {
    let rules = rules();
    let mut population = population(count);
    for account in population.accounts.iter_mut().step_by(2).take(captains) {
        let title = vec![Value::text("Captain")];
        account.attributes.set("title", title);
    }
    let now = jiff::Timestamp::UNIX_EPOCH;
    let (mut standing, outcome) = IncrementalState::of(&rules, &population, now);
    assert_eq!(outcome.changes.len(), captains);
    assert!(outcome.changes.iter().all(|change| change.hold.is_some()));
    let n = count / 2 + 3;
    population.accounts[2 * n]
        .attributes
        .set("title", vec![Value::text("Bosun")]);
    let (account, identity) = (
        population.accounts[2 * n].id,
        population.identities[n].id.clone(),
    );
    let part = decide_about(
        &mut standing,
        &rules,
        &population,
        Records {
            accounts: [account].into(),
            identities: [identity].into(),
        },
    );
    (part.read, part.evaluated, part.outcome.changes.len())
}

/// The records of a population with everything that belongs to them.
fn part(population: &Population, wanted: &Records) -> Population {
    Population {
        accounts: population
            .accounts
            .iter()
            .filter(|a| wanted.accounts.contains(&a.id))
            .cloned()
            .collect(),
        identities: population
            .identities
            .iter()
            .filter(|i| wanted.identities.contains(&i.id))
            .cloned()
            .collect(),
        links: population
            .links
            .iter()
            .filter(|l| wanted.accounts.contains(&l.account))
            .cloned()
            .collect(),
        systems: population.systems.clone(),
        ..Population::default()
    }
}

fn decide_about(
    standing: &mut IncrementalState,
    rules: &RuleSet,
    population: &Population,
    touched: Records,
) -> PartialOutcome {
    let now = jiff::Timestamp::UNIX_EPOCH;
    let (mut asking, mut wanted) = standing.begin(touched);
    loop {
        match standing.advance(&mut asking, rules, &part(population, &wanted), now) {
            PassStep::Read(more) => wanted = more,
            PassStep::FullDecision => panic!("a full decision would follow"),
            PassStep::Decided(part) => return *part,
        }
    }
}

/// The records read when one of all people leaves the group that defines the scope, and the number
/// of people out of scope.
fn cost_of_a_scope_member(count: usize) -> (usize, usize) {
    let rules = rules_with("[person.scope]\ngroups = [\"cn=crew\"]\n");
    let mut population = population(count);
    let everybody = (0..count).map(|n| Value::Reference(format!("harbour{n}")));
    let group = population.accounts.len() as i64 + 1;
    let mut attributes = Attributes::new();
    attributes.set("member", everybody.collect());
    population.accounts.push(Account {
        id: group,
        kind: ObjectType::Group,
        key: "crew".into(),
        name: "cn=crew".into(),
        attributes,
        ..population.accounts[0].clone()
    });
    let now = jiff::Timestamp::UNIX_EPOCH;
    let (mut standing, outcome) = IncrementalState::of(&rules, &population, now);
    assert!(outcome.changes.is_empty(), "{:?}", outcome.changes.first());
    let group_account = population.accounts.last_mut().expect("the group");
    let mut members = group_account.attributes.get("member").to_vec();
    let leaves = Value::Reference(format!("harbour{}", count / 2 + 3));
    members.retain(|member| *member != leaves);
    group_account.attributes.set("member", members);
    let touched = Records {
        accounts: [group].into(),
        ..Records::default()
    };
    let part = decide_about(&mut standing, &rules, &population, touched);
    let out = |outcome: &Outcome| {
        let lines = outcome.decided.iter();
        let out = lines.filter(|line| line.verdict == Verdict::OutOfScope);
        out.cloned().collect::<Vec<_>>()
    };
    let left = out(&part.outcome);
    assert_eq!(left, out(&decide(&rules, &population, now)));
    (part.read, left.len())
}

#[test]
fn a_group_that_defines_a_scope_concerns_its_members() {
    let small = cost_of_a_scope_member(1_000);
    assert!(small.1 > 0, "{small:?}");
    assert!(small.0 < 30, "{small:?}");
    assert_eq!(small, cost_of_a_scope_member(5_000));
}

#[test]
fn one_change_costs_as_much_among_ten_times_the_people() {
    let small = cost(10_000, 0);
    assert_eq!(small.2, 1, "the title is sent");
    assert!(small.0 < 20 && small.1 < 20, "{small:?}");
    assert_eq!(small, cost(100_000, 0));
}

#[test]
fn a_backlog_leaves_the_cost_of_one_change_as_it_was() {
    assert_eq!(cost(10_000, 0), cost(10_000, 4_900));
}

/// Decides in chunks, and calls `each` after each of them. Returns how many records were read at most
/// at once, and the lines of all.
fn decide_in_chunks(population: &Population, size: usize, each: impl Fn()) -> (usize, usize) {
    let (rules, now) = (rules(), jiff::Timestamp::UNIX_EPOCH);
    let mut decision = ChunkedDecision::new(&rules, &population.systems, now, size);
    decision.index(&rules, population);
    let (mut read, mut most, mut lines) = (Population::default(), 0, 0);
    loop {
        match decision.advance(&rules, &read) {
            ChunkStep::Read(records) => {
                most = most.max(records.len());
                read = part(population, &records);
            }
            ChunkStep::Decided(chunk) => {
                lines += chunk.outcome.decided.len();
                assert!(chunk.again.is_empty(), "nothing changed: {:?}", chunk.again);
                each();
            }
            ChunkStep::Complete => break,
        }
    }
    let (state, outcome) = decision.finish(&rules, population, Outcome::default());
    assert_eq!(
        state.len(),
        population.accounts.len() + population.identities.len()
    );
    assert!(outcome.changes.is_empty(), "{:?}", outcome.changes.first());
    (most, lines)
}

#[test]
fn a_chunk_reads_about_as_many_records_whatever_their_number() {
    for count in [500, 2_000] {
        let population = population(count);
        let whole = decide(&rules(), &population, jiff::Timestamp::UNIX_EPOCH);
        let (most, lines) = decide_in_chunks(&population, 300, || ());
        assert_eq!(lines, whole.decided.len());
        assert!((300..400).contains(&most), "{most} of {count} people");
    }
}

#[test]
fn a_decision_in_chunks_tells_its_progress_and_can_be_interrupted() {
    let population = population(500);
    let computation = Arc::new(Computation::default());
    let seen = Cell::new(0);
    let done = computation::run(computation.clone(), || {
        decide_in_chunks(&population, 300, || {
            let steps = computation.steps();
            assert!(
                seen.get() < steps.done && steps.done <= steps.total,
                "{steps:?}"
            );
            seen.set(steps.done);
        })
    });
    assert!(done.is_some());
    let computation = Arc::new(Computation::default());
    let chunks = Cell::new(0);
    let interrupted = computation::run(computation.clone(), || {
        decide_in_chunks(&population, 300, || {
            chunks.set(chunks.get() + 1);
            computation.interrupt();
        })
    });
    assert_eq!((interrupted, chunks.get()), (None, 1));
}
