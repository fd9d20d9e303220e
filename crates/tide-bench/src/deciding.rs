//! `decide` over a large population: 20 mappings to each of 3 systems, against a loop written by
//! hand that reads the same records, computes the same values and compares them with the same
//! accounts.
//!
//! The loop knows its records: it has no rules, no reasons, no scope, no matching of newcomers and
//! no guards. What `decide` takes beyond it is the price of all those.

use crate::{best, memory};
use anyhow::ensure;
use std::collections::{BTreeMap, HashMap};
use std::time::Duration;

use tide_core::incremental::{ChunkStep, ChunkedDecision, IncrementalState, PassStep, Records};
use tide_core::rules::{FaultSeverity, RuleFile};
use tide_core::states::{LinkBasis, LinkOrigin};
use tide_core::{
    Account, AttributeDef, Attributes, Identity, Link, ObjectType, Population, RuleSet, Schema,
    Stage, SystemFacts, Value, decide,
};

const TARGETS: [&str; 3] = ["berthing", "classroom", "harbour"];
const ROUNDS: usize = 3;
/// The records of one chunk of a full decision.
const CHUNK: usize = 15_000;

/// The twenty mappings, as rules.
const MAPPINGS: [(&str, &str); 20] = [
    ("userName", "identity.mail"),
    ("externalId", "identity.id"),
    ("givenName", "identity.givenName"),
    ("familyName", "identity.familyName"),
    (
        "displayName",
        "joinWords(identity.givenName, identity.familyName)",
    ),
    (
        "sortName",
        "identity.familyName + \", \" + identity.givenName",
    ),
    ("mail", "lower(identity.mail)"),
    ("title", "identity.title"),
    ("rank", "upper(identity.title)"),
    (
        "department",
        "lookup(\"departments\", identity.department, \"Unassigned\")",
    ),
    ("departmentNumber", "identity.department"),
    ("port", "identity.port"),
    ("site", "coalesce(identity.port, \"Northhaven\")"),
    ("contract", "identity.contract"),
    (
        "crew",
        "identity.contract == \"seasonal\" ? \"season\" : \"year\"",
    ),
    ("phone", "identity.phone"),
    ("badge", "identity.badge"),
    ("cabin", "identity.cabin"),
    ("language", "identity.language"),
    ("employeeNumber", "identity.employeeNumber"),
];

const INBOUND: [&str; 11] = [
    "employeeNumber",
    "givenName",
    "familyName",
    "mail",
    "title",
    "department",
    "port",
    "contract",
    "phone",
    "badge",
    "cabin",
];

fn rules() -> anyhow::Result<RuleSet> {
    let mut identities = String::from("[person]\nlabel = \"mail\"\n[person.attributes]\n");
    let mut roster = String::from("system = \"roster\"\n[person.inbound]\n");
    for name in INBOUND.iter().chain(&["language"]) {
        identities.push_str(&format!("{name} = {{}}\n"));
        roster.push_str(&format!("{name} = 'account.{name}'\n"));
    }
    let mut files = vec![
        ("identities.toml".to_owned(), identities),
        ("roster.toml".to_owned(), roster),
    ];
    files.push((
        "tables.toml".into(),
        "[departments]\n\"10\" = \"Deck\"\n\"20\" = \"Engine Room\"\n\"30\" = \"Terminal\"\n"
            .into(),
    ));
    for target in TARGETS {
        let mut text = format!(
            "system = \"{target}\"\n[[person.match]]\nname = \"number\"\naccount = 'account.employeeNumber'\nidentity = 'identity.employeeNumber'\n[person.outbound]\n"
        );
        for (name, expression) in MAPPINGS {
            text.push_str(&format!("{name} = '{expression}'\n"));
        }
        files.push((format!("{target}.toml"), text));
    }
    let files: Vec<RuleFile> = files
        .into_iter()
        .map(|(name, text)| RuleFile { name, text })
        .collect();
    let (rules, faults) = RuleSet::load(&files, &Default::default());
    let errors: Vec<String> = faults
        .iter()
        .filter(|fault| fault.severity == FaultSeverity::Error)
        .map(ToString::to_string)
        .collect();
    ensure!(errors.is_empty(), "{}", errors.join("\n"));
    Ok(rules)
}

fn text(value: impl Into<String>) -> Value {
    Value::text(value)
}

/// The twenty values of a person in a system, computed by hand.
fn by_hand(
    person: &Attributes,
    id: &str,
    departments: &HashMap<&str, &str>,
) -> [(&'static str, Option<String>); 20] {
    let get = |name: &str| person.get(name).first().and_then(Value::as_text);
    let own = |name: &str| get(name).map(str::to_owned);
    let joined = |separator: &str, one: Option<&str>, other: Option<&str>| match (one, other) {
        (Some(one), Some(other)) => Some(format!("{one}{separator}{other}")),
        _ => None,
    };
    [
        ("userName", own("mail")),
        ("externalId", Some(id.to_owned())),
        ("givenName", own("givenName")),
        ("familyName", own("familyName")),
        (
            "displayName",
            joined(" ", get("givenName"), get("familyName")),
        ),
        (
            "sortName",
            joined(", ", get("familyName"), get("givenName")),
        ),
        ("mail", get("mail").map(str::to_lowercase)),
        ("title", own("title")),
        ("rank", get("title").map(str::to_uppercase)),
        (
            "department",
            Some(
                get("department")
                    .and_then(|code| departments.get(code).copied())
                    .unwrap_or("Unassigned")
                    .to_owned(),
            ),
        ),
        ("departmentNumber", own("department")),
        ("port", own("port")),
        ("site", Some(get("port").unwrap_or("Northhaven").to_owned())),
        ("contract", own("contract")),
        (
            "crew",
            Some(
                if get("contract") == Some("seasonal") {
                    "season"
                } else {
                    "year"
                }
                .to_owned(),
            ),
        ),
        ("phone", own("phone")),
        ("badge", own("badge")),
        ("cabin", own("cabin")),
        ("language", own("language")),
        ("employeeNumber", own("employeeNumber")),
    ]
}

fn source(n: usize) -> Attributes {
    let departments = ["10", "20", "30"];
    let mut account = Attributes::with_capacity(12);
    let mut put = |name: &str, value: String| account.set(name, vec![text(value)]);
    put("employeeNumber", format!("{}", 100_000 + n));
    put("givenName", format!("Given{}", n % 997));
    put("familyName", format!("Family{}", n % 4_999));
    put("mail", format!("Person.{n}@Skerry.example"));
    put(
        "title",
        ["Deckhand", "Purser", "Second Engineer", "Cook"][n % 4].to_owned(),
    );
    put("department", departments[n % 3].to_owned());
    put(
        "port",
        ["Northhaven", "Gull Sound", "Outer Skerry"][n % 3].to_owned(),
    );
    put(
        "contract",
        if n.is_multiple_of(5) {
            "seasonal"
        } else {
            "permanent"
        }
        .to_owned(),
    );
    put("phone", format!("+99 555 {n:06}"));
    put("badge", format!("B{n:07}"));
    put("cabin", format!("C{}", n % 400));
    put("language", "nb".to_owned());
    account
}

/// People who have an account in each system; one in a hundred differs there in one value.
fn population(count: usize) -> Population {
    let departments: HashMap<&str, &str> =
        [("10", "Deck"), ("20", "Engine Room"), ("30", "Terminal")].into();
    let mut population = add_systems();
    let mut id = 0;
    let mut add = |population: &mut Population,
                   system: &str,
                   key: String,
                   attributes: Attributes,
                   identity: &str| {
        id += 1;
        population.accounts.push(Account {
            id,
            system: system.into(),
            kind: ObjectType::Person,
            name: key.clone(),
            key,
            attributes,
            absent_since: None,
            absence_confirmed: false,
            fault: None,
        });
        population.links.push(Link {
            account: id,
            identity: identity.to_owned(),
            basis: LinkBasis::new(LinkOrigin::MatchRule, "number"),
        });
    };
    for n in 0..count {
        let person = source(n);
        let identity = format!("{n:08x}-0000-8000-8000-000000000000");
        for (place, target) in TARGETS.iter().enumerate() {
            let mut account = Attributes::with_capacity(20);
            for (name, value) in by_hand(&person, &identity, &departments) {
                account.set(name, value.into_iter().map(text).collect());
            }
            if n % 100 == place {
                account.set("title", vec![text("Stowaway")]);
            }
            add(
                &mut population,
                target,
                format!("{target}-{n}"),
                account,
                &identity,
            );
        }
        add(
            &mut population,
            "roster",
            format!("r{n}"),
            person.clone(),
            &identity,
        );
        population.identities.push(Identity {
            id: identity,
            kind: ObjectType::Person,
            attributes: person,
            stage: Stage::Active,
            since: None,
            kept_roles: std::collections::BTreeMap::new(),
        });
    }
    population
}

/// Adds the source and the targets.
fn add_systems() -> Population {
    let mut population = Population::default();
    let schema = {
        let mut schema = Schema {
            name_attribute: Some("userName".into()),
            ..Schema::default()
        };
        MAPPINGS.iter().for_each(|(name, _)| {
            schema.put(AttributeDef {
                case_exact: true,
                ..AttributeDef::text(*name)
            })
        });
        schema
    };
    let facts = |schema: BTreeMap<ObjectType, Schema>| SystemFacts {
        schema: std::sync::Arc::new(schema),
        writable: vec![ObjectType::Person],
        read: vec![ObjectType::Person],
        ..SystemFacts::default()
    };
    population
        .systems
        .insert("roster".into(), facts(BTreeMap::new()));
    for target in TARGETS {
        population.systems.insert(
            target.into(),
            facts([(ObjectType::Person, schema.clone())].into()),
        );
    }
    population
}

/// The floor: the same values computed and compared, and the differences kept.
fn floor(population: &Population) -> usize {
    let departments: HashMap<&str, &str> =
        [("10", "Deck"), ("20", "Engine Room"), ("30", "Terminal")].into();
    let by_id: HashMap<i64, usize> = population
        .accounts
        .iter()
        .enumerate()
        .map(|(at, account)| (account.id, at))
        .collect();
    let mut linked: HashMap<&str, Vec<usize>> = HashMap::with_capacity(population.identities.len());
    for link in &population.links {
        if let Some(&at) = by_id.get(&link.account) {
            linked.entry(&link.identity).or_default().push(at);
        }
    }
    let mut changes: Vec<(i64, &str, Vec<Value>, String)> = Vec::new();
    for identity in &population.identities {
        let Some(accounts) = linked.get(identity.id.as_str()) else {
            continue;
        };
        let Some(source) = accounts
            .iter()
            .map(|&at| &population.accounts[at])
            .find(|account| account.system == "roster")
        else {
            continue;
        };
        // Composed anew, as decide does.
        let person: Attributes = source
            .attributes
            .iter()
            .map(|(name, values)| (name.to_owned(), values.to_vec()))
            .collect();
        for account in accounts
            .iter()
            .map(|&at| &population.accounts[at])
            .filter(|account| account.system != "roster")
        {
            for (name, value) in by_hand(&person, &identity.id, &departments) {
                let there = account.attributes.get(name);
                if there.first().and_then(Value::as_text) != value.as_deref() {
                    changes.push((account.id, name, there.to_vec(), value.unwrap_or_default()));
                }
            }
        }
    }
    changes.len()
}

pub fn run(count: usize) -> anyhow::Result<()> {
    let rules = rules()?;
    let population = population(count);
    println!(
        "decide: {count} identities, {} mappings each to {} systems; by hand on one core, `decide` on all",
        MAPPINGS.len(),
        TARGETS.len()
    );
    let now = "2026-11-23T12:00:00Z".parse()?;
    let mut expected = 0;
    let floor = best((0..ROUNDS).map(|_| {
        let begun = tide_clock::instant();
        expected = floor(&population);
        begun.elapsed()
    }));
    let mut kept = 0;
    let decided = best((0..ROUNDS).map(|round| {
        let before = memory::reset();
        let begun = tide_clock::instant();
        let outcome = decide(&rules, &population, now);
        let took = begun.elapsed();
        if round == 0 {
            kept = memory::peak().saturating_sub(before);
        }
        // The same differences, or the two did not do the same.
        let found: usize = outcome
            .changes
            .iter()
            .map(|change| change.values.len())
            .sum();
        assert_eq!(found, expected, "both find the same differences");
        took
    }));
    let each = |time: Duration| count as f64 / time.as_secs_f64();
    println!(
        "  by hand   {:>8.2} s  {:>9.0} identities/s",
        floor.as_secs_f64(),
        each(floor)
    );
    println!(
        "  decide    {:>8.2} s  {:>9.0} identities/s",
        decided.as_secs_f64(),
        each(decided)
    );
    println!(
        "  ratio     {:>8.2}    (aim: under 1.5 on two cores)",
        decided.as_secs_f64() / floor.as_secs_f64()
    );
    println!(
        "  memory    {:>8.2} KB an identity at the peak, with the outcome (aim: under 1)",
        kept as f64 / 1024.0 / count as f64
    );
    Ok(())
}

/// What a store does with an index: only these records, and what belongs to them.
fn part(population: &Population, wanted: &Records) -> Population {
    let place = |id: &String| {
        let identities = &population.identities;
        identities
            .binary_search_by(|one| one.id.as_str().cmp(id))
            .ok()
    };
    Population {
        accounts: wanted
            .accounts
            .iter()
            .map(|id| population.accounts[*id as usize - 1].clone())
            .collect(),
        identities: wanted
            .identities
            .iter()
            .filter_map(place)
            .map(|at| population.identities[at].clone())
            .collect(),
        links: wanted
            .accounts
            .iter()
            .map(|id| population.links[*id as usize - 1].clone())
            .collect(),
        systems: population.systems.clone(),
        ..Population::default()
    }
}

/// A full decision in chunks, as the service makes it for answers. Returns the state after it and
/// the number of lines.
fn in_chunks(
    rules: &RuleSet,
    population: &Population,
) -> anyhow::Result<(IncrementalState, usize)> {
    let now = "2026-11-23T12:00:00Z".parse()?;
    let mut decision = ChunkedDecision::new(rules, &population.systems, now, CHUNK);
    for accounts in population.accounts.chunks(CHUNK) {
        let records = Records {
            accounts: accounts.iter().map(|account| account.id).collect(),
            ..Records::default()
        };
        decision.index(rules, &part(population, &records));
    }
    for identities in population.identities.chunks(CHUNK) {
        let ids = identities.iter().map(|identity| identity.id.clone());
        let records = Records {
            identities: ids.collect(),
            ..Records::default()
        };
        decision.index(rules, &part(population, &records));
    }
    let (mut read, mut lines) = (Population::default(), 0);
    loop {
        match decision.advance(rules, &read) {
            ChunkStep::Read(records) => read = part(population, &records),
            ChunkStep::Decided(chunk) => {
                lines += chunk.outcome.decided.len();
                read = Population::default();
            }
            ChunkStep::Complete => break,
        }
    }
    let outcome = tide_core::Outcome::default();
    let (state, _) = decision.finish(rules, population, outcome);
    Ok((state, lines))
}

/// Decides about one person whose title changed, as a run on news does: what that read, evaluated
/// and took.
fn one_change(
    standing: &mut IncrementalState,
    rules: &RuleSet,
    population: &mut Population,
    n: usize,
    title: Value,
) -> anyhow::Result<(usize, usize, Duration)> {
    let now = "2026-11-23T12:00:00Z".parse()?;
    // The accounts of one person stand together, the source's last.
    let at = n * (TARGETS.len() + 1) + TARGETS.len();
    population.accounts[at].attributes.set("title", vec![title]);
    let (id, identity) = (
        population.accounts[at].id,
        population.identities[n].id.clone(),
    );
    let touched = Records {
        accounts: [id].into(),
        identities: [identity].into(),
    };
    let begun = tide_clock::instant();
    let (mut asking, mut wanted) = standing.begin(touched);
    loop {
        match standing.advance(&mut asking, rules, &part(population, &wanted), now) {
            PassStep::Read(more) => wanted = more,
            PassStep::Decided(part) => return Ok((part.read, part.evaluated, begun.elapsed())),
            PassStep::FullDecision => anyhow::bail!("a full decision would follow"),
        }
    }
}

/// What one change costs among so many people: read, evaluated, and the median time.
fn costs(rules: &RuleSet, count: usize) -> anyhow::Result<(usize, usize, Duration)> {
    let mut population = population(count);
    // At rest: what differs stands outstanding otherwise, and is gone through for the guards.
    for account in &mut population.accounts {
        if account.attributes.get("title") == [text("Stowaway")] {
            account.attributes.set(
                "title",
                vec![text(
                    ["Deckhand", "Purser", "Second Engineer", "Cook"]
                        [(account.id as usize - 1) / 4 % 4],
                )],
            );
        }
    }
    for account in population
        .accounts
        .iter_mut()
        .filter(|account| account.system != "roster")
    {
        let title = account
            .attributes
            .get("title")
            .first()
            .map(|title| title.to_string().to_uppercase())
            .unwrap_or_default();
        account.attributes.set("rank", vec![text(title)]);
    }
    let (mut standing, _) =
        IncrementalState::of(rules, &population, "2026-11-23T12:00:00Z".parse()?);
    let mut times = Vec::new();
    let mut seen = std::collections::BTreeSet::new();
    for n in (0..count).step_by((count / 500).max(1)) {
        let before = population.accounts[n * (TARGETS.len() + 1) + TARGETS.len()]
            .attributes
            .get("title")[0]
            .clone();
        let (read, evaluated, took) = one_change(
            &mut standing,
            rules,
            &mut population,
            n,
            text(format!("Rank {n}")),
        )?;
        // And back: what was sent and confirmed stands outstanding no longer.
        one_change(&mut standing, rules, &mut population, n, before)?;
        seen.insert((read, evaluated));
        times.push(took);
    }
    times.sort();
    ensure!(seen.len() == 1, "not every change cost the same: {seen:?}");
    let (read, evaluated) = seen.pop_first().unwrap_or_default();
    Ok((read, evaluated, times[times.len() / 2]))
}

/// What one change costs with ten times the people, and the memory that stands between runs.
pub fn cost(people: usize, large: usize) -> anyhow::Result<()> {
    let rules = rules()?;
    println!(
        "one change: a decision about whom it touches, among {} and among {people} people",
        people / 10
    );
    let (small, big) = (costs(&rules, people / 10)?, costs(&rules, people)?);
    ensure!(
        (small.0, small.1) == (big.0, big.1),
        "it reads or evaluates more: {small:?} {big:?}"
    );
    println!("  records read        {:>8}    in both", big.0);
    println!("  evaluations         {:>8}    in both", big.1);
    let micros = |time: Duration| time.as_secs_f64() * 1e6;
    println!(
        "  median time         {:>8.0} µs among {}, {:.0} µs among {people}",
        micros(small.2),
        people / 10,
        micros(big.2)
    );
    println!(
        "  ratio               {:>8.2}    (aim: under 1.2)",
        micros(big.2) / micros(small.2)
    );
    for count in [people, large] {
        let before = memory::reset();
        let population = population(count);
        let records = memory::peak().saturating_sub(before);
        let begun = tide_clock::instant();
        let (standing, lines) = in_chunks(&rules, &population)?;
        let took = begun.elapsed();
        let peak = memory::peak().saturating_sub(before + records);
        println!(
            "  memory, {count:>9} people with {} accounts each: {:.2} GB at the peak of a full decision in chunks beside the {:.2} GB of all records, which it reads in parts; {lines} lines in {:.1} s; {} records stand after it",
            TARGETS.len() + 1,
            peak as f64 / 1e9,
            records as f64 / 1e9,
            took.as_secs_f64(),
            standing.len()
        );
    }
    Ok(())
}
