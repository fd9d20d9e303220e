//! A labelled data set: people with known accounts, with the errors that real systems contain.
//! The result of matching is compared with the truth.

use anyhow::{Context, bail, ensure};
use std::collections::{BTreeMap, HashMap};
use tide_core::rules::{FaultSeverity, RuleFile, RuleSet};
use tide_core::{
    Account, AttributeDef, Attributes, ObjectType, Outcome, Population, Schema, SystemFacts, Value,
    decide,
};
use tide_standins::world::{self, Crew, Dice};

/// The errors and how often each is made, as a share of the accounts. docs/matching.md tells them.
const ERRORS: [(&str, f64); 14] = [
    ("no_counterpart", 0.08),
    ("number_missing", 0.20),
    ("number_typed_wrong", 0.03),
    ("number_reused", 0.01),
    ("address_missing", 0.03),
    ("address_typed_wrong", 0.04),
    ("address_old", 0.06),
    ("address_shared", 0.02),
    ("name_typed_wrong", 0.04),
    ("name_swapped", 0.02),
    ("name_changed", 0.03),
    ("name_transliterated", 0.05),
    ("phone_wrong", 0.10),
    ("twin", 0.01),
];

type Mix = BTreeMap<String, f64>;

fn mix(asked: &[String]) -> anyhow::Result<Mix> {
    let mut mix: Mix = ERRORS
        .iter()
        .map(|(name, share)| ((*name).to_owned(), *share))
        .collect();
    for text in asked {
        let (name, share) = text
            .split_once('=')
            .with_context(|| format!("`{text}` is not NAME=SHARE"))?;
        let Some(slot) = mix.get_mut(name) else {
            bail!(
                "there is no error `{name}`; there are {}",
                ERRORS.map(|(name, _)| name).join(", ")
            );
        };
        *slot = share
            .parse()
            .ok()
            .filter(|share| (0.0..=1.0).contains(share))
            .with_context(|| format!("`{share}` is no share between 0 and 1"))?;
    }
    Ok(mix)
}

/// One digit or letter becomes another.
fn typed_wrong(dice: &mut Dice, text: &str) -> String {
    let mut letters: Vec<char> = text.chars().collect();
    let at: Vec<usize> = (0..letters.len())
        .filter(|&at| letters[at].is_alphanumeric())
        .collect();
    if at.is_empty() {
        return text.to_owned();
    }
    let at = at[dice.roll(at.len())];
    let pool: Vec<char> = if letters[at].is_ascii_digit() {
        ('0'..='9').collect()
    } else {
        ('a'..='z').collect()
    };
    let before = letters[at];
    while letters[at] == before {
        letters[at] = pool[dice.roll(pool.len())];
    }
    letters.into_iter().collect()
}

/// The set: the population, and for each person's number the account that is theirs.
struct Labelled {
    population: Population,
    own: HashMap<String, Option<i64>>,
}

fn one(values: &[&str]) -> Vec<Value> {
    values
        .iter()
        .filter(|text| !text.is_empty())
        .map(|text| Value::text(*text))
        .collect()
}

fn person(id: i64, crew: &Crew) -> Account {
    let entry = crew.entry();
    let mut attributes = Attributes::new();
    for (name, _) in &entry.attributes {
        attributes.set(
            name.as_str(),
            entry.texts(name).into_iter().map(Value::text).collect(),
        );
    }
    attributes.set("dn", one(&[&entry.dn]));
    attributes.set("container", one(&[&crew.container()]));
    attributes.set("enabled", vec![Value::Bool(true)]);
    Account {
        id,
        system: "harbour".into(),
        kind: ObjectType::Person,
        key: format!("h{id}"),
        name: entry.dn,
        attributes,
        absent_since: None,
        absence_confirmed: false,
        fault: None,
    }
}

fn labelled(seed: u64, count: usize, mix: &Mix) -> Labelled {
    let mut people = world::people(seed, count);
    let mut dice = Dice::new(seed ^ 0x5eed);
    let hit = |dice: &mut Dice, name: &str| {
        (dice.roll(1_000_000) as f64) < mix.get(name).copied().unwrap_or(0.0) * 1e6
    };
    // What the demo's directory holds wrong on purpose is not what is measured here.
    let twins = make_twins(&mut people, &mut dice, hit);
    let mut population = Population::default();
    let mut own = HashMap::new();
    for (at, crew) in people.iter().enumerate() {
        population.accounts.push(person(at as i64 + 1, crew));
    }
    let families: Vec<String> = people.iter().map(|crew| crew.family.clone()).collect();
    for (at, crew) in people.iter().enumerate() {
        if hit(&mut dice, "no_counterpart") {
            own.insert(crew.number.clone(), None);
            continue;
        }
        let person = &people[dice.roll(people.len())];
        let number = if hit(&mut dice, "number_missing") {
            String::new()
        } else if hit(&mut dice, "number_typed_wrong") {
            typed_wrong(&mut dice, &crew.number)
        } else if hit(&mut dice, "number_reused") {
            person.number.clone()
        } else {
            crew.number.clone()
        };
        let mail = if hit(&mut dice, "address_missing") {
            String::new()
        } else if twins.contains(&at) {
            people[at - 1].mail.clone()
        } else if hit(&mut dice, "address_shared") {
            person.mail.clone()
        } else if hit(&mut dice, "address_typed_wrong") {
            typed_wrong(&mut dice, &crew.mail)
        } else if hit(&mut dice, "address_old") {
            format!("old.{}", crew.mail)
        } else {
            crew.mail.clone()
        };
        let (given, family) = damage_name(&mut dice, hit, &families, crew);
        let phone = if hit(&mut dice, "phone_wrong") {
            typed_wrong(&mut dice, &crew.phones[0])
        } else {
            crew.phones[0].clone()
        };
        let id = (people.len() + at) as i64 + 1;
        let mut attributes = Attributes::new();
        for (name, value) in [
            ("userName", format!("user{at}@berthing.example").as_str()),
            ("enterprise.employeeNumber", number.as_str()),
            ("emails.work", mail.as_str()),
            ("name.givenName", given.as_str()),
            ("name.familyName", family.as_str()),
            ("phoneNumbers.work", phone.as_str()),
        ] {
            attributes.set(name, one(&[value]));
        }
        attributes.set("active", vec![Value::Bool(true)]);
        own.insert(crew.number.clone(), Some(id));
        population.accounts.push(Account {
            id,
            system: "berthing".into(),
            kind: ObjectType::Person,
            key: format!("b{id}"),
            name: format!("user{at}@berthing.example"),
            attributes,
            absent_since: None,
            absence_confirmed: false,
            fault: None,
        });
    }
    add_systems(&mut population);
    Labelled { population, own }
}

/// Gives some people the name and the telephone of the one before. Returns their places.
fn make_twins(
    people: &mut [Crew],
    dice: &mut Dice,
    hit: impl Fn(&mut Dice, &str) -> bool,
) -> Vec<usize> {
    for (at, crew) in people.iter_mut().enumerate() {
        crew.number = format!("{}", 1001 + at);
        crew.mail = format!("{}@skerry.example", crew.uid);
    }
    let mut twins = Vec::new();
    for at in (1..people.len()).step_by(2) {
        // Twins with one name, telephone and address could not be told apart: they differ in the
        // given name.
        if hit(dice, "twin") && people[at].given != people[at - 1].given {
            let elder = people[at - 1].clone();
            people[at].family = elder.family;
            people[at].phones = elder.phones;
            twins.push(at);
        }
    }
    twins
}

/// The names of a person as the other system has them.
fn damage_name(
    dice: &mut Dice,
    hit: impl Fn(&mut Dice, &str) -> bool,
    families: &[String],
    crew: &Crew,
) -> (String, String) {
    let (mut given, mut family) = (crew.given.clone(), crew.family.clone());
    if hit(dice, "name_changed") {
        family = families[dice.roll(families.len())].clone();
    }
    if hit(dice, "name_transliterated") {
        (given, family) = (world::latin_name(&given), world::latin_name(&family));
    }
    if hit(dice, "name_typed_wrong") {
        family = typed_wrong(dice, &family);
    }
    if hit(dice, "name_swapped") && !given.is_empty() {
        std::mem::swap(&mut given, &mut family);
    }
    (given, family)
}

/// Adds the systems with the schema of the target.
fn add_systems(population: &mut Population) {
    let mut schema = Schema {
        state_attribute: Some("active".into()),
        name_attribute: Some("userName".into()),
        ..Schema::default()
    };
    for name in [
        "userName",
        "enterprise.employeeNumber",
        "emails.work",
        "name.givenName",
        "name.familyName",
        "phoneNumbers.work",
        "active",
    ] {
        schema.put(AttributeDef {
            multi_valued: name.starts_with("phone"),
            ..AttributeDef::text(name)
        });
    }
    let facts = |schema: BTreeMap<ObjectType, Schema>| SystemFacts {
        schema: std::sync::Arc::new(schema),
        writable: vec![ObjectType::Person],
        read: vec![ObjectType::Person],
        ..SystemFacts::default()
    };
    population
        .systems
        .insert("harbour".into(), facts(BTreeMap::new()));
    population.systems.insert(
        "berthing".into(),
        facts([(ObjectType::Person, schema)].into()),
    );
}

/// The demo's rules for the directory and the crew planning service.
fn rules() -> anyhow::Result<RuleSet> {
    let files: Vec<RuleFile> = world::rules()
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
    ensure!(errors.is_empty(), "{}", errors.join("\n"));
    Ok(rules)
}

fn decided(rules: &RuleSet, population: &Population) -> Outcome {
    decide(
        rules,
        population,
        "2026-11-23T12:00:00Z".parse().unwrap_or_default(),
    )
}

/// The results for people with an account there, and for people without one.
#[derive(Debug, Default, PartialEq, Eq)]
struct Result {
    joined: usize,
    rightly_asked: usize,
    asked_of_others: usize,
    missed: usize,
    wrong: usize,
    rightly_new: usize,
    asked_for_nothing: usize,
}

fn judge(set: &Labelled, outcome: &Outcome) -> Result {
    let linked: HashMap<&str, i64> = outcome
        .links
        .iter()
        .filter(|link| !link.source)
        .map(|l| (l.identity.as_str(), l.account))
        .collect();
    let asked: HashMap<&str, &[i64]> = outcome
        .questions
        .iter()
        .filter(|question| question.system == "berthing")
        .filter_map(|question| Some((question.identity.as_deref()?, question.accounts.as_slice())))
        .collect();
    let mut result = Result::default();
    for (identity, _) in &outcome.identities {
        let number = identity
            .attributes
            .get("employeeNumber")
            .first()
            .map(Value::to_string)
            .unwrap_or_default();
        let own = set.own.get(&number).copied().flatten();
        let slot = match (
            linked.get(identity.id.as_str()),
            asked.get(identity.id.as_str()),
            own,
        ) {
            (Some(account), _, own) if Some(*account) == own => &mut result.joined,
            (Some(account), ..) => {
                let there = set.population.accounts.iter().find(|a| a.id == *account);
                eprintln!(
                    "wrong: {:?}\n   got {:?}",
                    identity.attributes,
                    there.map(|a| &a.attributes)
                );
                &mut result.wrong
            }
            (None, Some(candidates), Some(own)) if candidates.contains(&own) => {
                &mut result.rightly_asked
            }
            (None, Some(_), Some(_)) => &mut result.asked_of_others,
            (None, Some(_), None) => &mut result.asked_for_nothing,
            (None, None, Some(_)) => &mut result.missed,
            (None, None, None) => &mut result.rightly_new,
        };
        *slot += 1;
    }
    result
}

pub fn run(seed: u64, people: usize, errors: &[String], timed: usize) -> anyhow::Result<()> {
    let mix = mix(errors)?;
    let rules = rules()?;
    let set = labelled(seed, people, &mix);
    let result = judge(&set, &decided(&rules, &set.population));
    let with = result.joined
        + result.rightly_asked
        + result.asked_of_others
        + result.missed
        + result.wrong;
    let share = |count: usize| 100.0 * count as f64 / with.max(1) as f64;
    println!("Matching a labelled set of {people} people, seed {seed}, by the demo's rules:");
    println!("  have an account there                 {with:>8}");
    println!(
        "  joined to it                          {:>8}   {:.2} %",
        result.joined,
        share(result.joined)
    );
    println!(
        "  asked, and it is among the candidates {:>8}   {:.2} %",
        result.rightly_asked,
        share(result.rightly_asked)
    );
    println!(
        "  asked about others                    {:>8}   {:.2} %",
        result.asked_of_others,
        share(result.asked_of_others)
    );
    println!(
        "  not found: a second would be made     {:>8}   {:.2} %",
        result.missed,
        share(result.missed)
    );
    println!(
        "  have none, and one is made            {:>8}",
        result.rightly_new
    );
    println!(
        "  have none, and need review            {:>8}",
        result.asked_for_nothing
    );
    println!(
        "  joined to a wrong one                 {:>8}   (must be 0)",
        result.wrong
    );
    println!(
        "  joined or rightly asked               {:>8.2} % (aim over 97)",
        share(result.joined + result.rightly_asked)
    );
    println!("How time grows, one decision with its matching, mapping and comparing:");
    let mut before: Option<(usize, f64)> = None;
    for count in [timed / 10, timed] {
        let set = labelled(seed, count, &mix);
        let begun = tide_clock::instant();
        let outcome = decided(&rules, &set.population);
        let took = begun.elapsed().as_secs_f64();
        let growth = before.map_or(String::new(), |(fewer, time)| {
            format!(
                "   {:.2} times as long for {:.0} times as many",
                took / time,
                count as f64 / fewer as f64
            )
        });
        println!(
            "  {count:>7} people against {:>7} accounts {took:>8.2} s{growth}",
            set.own.values().flatten().count()
        );
        ensure!(outcome.identities.len() == count, "all records are decided");
        before = Some((count, took));
    }
    ensure!(
        result.wrong == 0,
        "{} were joined to a wrong account",
        result.wrong
    );
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_account_is_linked_wrongly_and_the_change_set_is_stable() {
        let rules = rules().expect("the demo's rules are sound");
        for seed in [1907, 42] {
            let mix = mix(&[]).expect("sound");
            let set = labelled(seed, 1500, &mix);
            let result = judge(&set, &decided(&rules, &set.population));
            assert_eq!(result.wrong, 0, "{result:?}");
            let with = set.own.values().flatten().count();
            assert!(
                (result.joined + result.rightly_asked) * 100 > with * 97,
                "{result:?} of {with}"
            );
            assert_eq!(
                judge(
                    &labelled(seed, 1500, &mix),
                    &decided(&rules, &set.population)
                ),
                result
            );
        }
    }

    #[test]
    fn a_mix_is_checked() {
        assert!(mix(&["twin=0.5".into()]).is_ok_and(|mix| mix["twin"] == 0.5));
        assert!(
            mix(&["twin=2".into()]).is_err()
                && mix(&["triplet=0.1".into()]).is_err()
                && mix(&["twin".into()]).is_err()
        );
    }
}
