//! Values of an identity beside those of its sources: resolved references and generated names.

use super::Outcome;
use super::people::{Person, TypeInputs};
use crate::generate::{self, TakenValues};
use crate::model::{AccountId, Population, ReservedValue, Stage};
use crate::outside::{OutsideRecords, ValueDistribution};
use crate::reasons::{HoldCause, Reason, ReasonKind, ReasonNote};
use crate::references::{Numbers, ReferenceIndex};
use crate::rules::{DistributionRule, IdentityAttribute, Pointer, RuleSet};
use crate::states::ObjectType;
use crate::value::{Attributes, Value};
use std::collections::{BTreeMap, HashMap, HashSet};

/// Resolves the references of sources (a DN, an id, a number) to ids of identities. A reference
/// to an unknown person keeps the previous value.
pub(super) fn resolve_references(
    rules: &RuleSet,
    population: &Population,
    kind: ObjectType,
    people: &mut [Person],
    outcome: &Outcome,
) {
    let Some(declared) = rules.identities.get(&kind) else {
        return;
    };
    let pointing: Vec<(&IdentityAttribute, &Pointer)> = declared
        .attributes
        .iter()
        .filter_map(|attribute| Some((attribute, attribute.reference.as_ref()?)))
        .collect();
    if pointing.is_empty() {
        return;
    }
    let owner = account_owners(population, outcome);
    let directory = ReferenceIndex::new(population, &owner);
    let stored: HashMap<&str, &Attributes> = population
        .identities
        .iter()
        .map(|i| (i.id.as_str(), &i.attributes))
        .collect();
    let by: Vec<&str> = pointing
        .iter()
        .filter_map(|(_, pointer)| pointer.by.as_deref())
        .collect();
    let others = population
        .identities
        .iter()
        .filter(|identity| identity.kind != kind)
        .map(|i| (i.id.as_str(), &i.attributes));
    let numbers = Numbers::new(
        &by,
        people
            .iter()
            .map(|person| (person.id.as_str(), &person.attributes))
            .chain(others),
    );
    let mut found: Vec<(usize, &str, Vec<Value>, Option<ReasonNote>)> = Vec::new();
    for (place, person) in people
        .iter()
        .enumerate()
        .filter(|(_, person)| !person.sources.is_empty())
    {
        let systems: Vec<&str> = person
            .sources
            .iter()
            .map(|&at| population.accounts[at].system.as_str())
            .collect();
        for (attribute, pointer) in &pointing {
            let raw = person.attributes.get(&attribute.name);
            if raw.is_empty() {
                continue;
            }
            let (mut meant, unknown) = resolve_values(&directory, &numbers, &systems, pointer, raw);
            let remark = unresolved_note(attribute, unknown);
            keep_stored(&stored, person, attribute, &mut meant);
            found.push((place, &attribute.name, meant, remark));
        }
    }
    let found: Vec<_> = found
        .into_iter()
        .map(|(place, name, values, remark)| (place, name.to_owned(), values, remark))
        .collect();
    for (place, name, values, remark) in found {
        people[place].attributes.set(name, values);
        people[place].notes.extend(remark);
    }
}

/// The identity of each linked account, with the links of this decision.
fn account_owners<'a>(
    population: &'a Population,
    outcome: &'a Outcome,
) -> HashMap<AccountId, &'a str> {
    super::references::all_links(population, outcome).collect()
}

/// The identities that the values refer to, and the values that refer to none.
fn resolve_values(
    directory: &ReferenceIndex<'_>,
    numbers: &Numbers<'_>,
    systems: &[&str],
    pointer: &Pointer,
    raw: &[Value],
) -> (Vec<Value>, Vec<String>) {
    let mut meant = Vec::with_capacity(raw.len());
    let mut unknown = Vec::new();
    for value in raw {
        let text = value.to_string();
        let by_name = systems
            .iter()
            .find_map(|system| directory.find_identity(system, &text, pointer));
        match by_name.or_else(|| numbers.find_identity(pointer.by.as_deref()?, &text)) {
            Some(id) => meant.push(Value::Reference(id.to_owned())),
            None => unknown.push(text),
        }
    }
    (meant, unknown)
}

/// The note on values that refer to no known person.
fn unresolved_note(attribute: &IdentityAttribute, unknown: Vec<String>) -> Option<ReasonNote> {
    let attribute = attribute.name.clone();
    match unknown.as_slice() {
        [] => None,
        [one] => Some(ReasonNote::UnknownPerson {
            attribute,
            value: one.clone(),
        }),
        several => Some(ReasonNote::UnknownPeople {
            attribute,
            count: several.len(),
        }),
    }
}

/// Keeps the stored value of an attribute with one value while none is resolved.
fn keep_stored(
    stored: &HashMap<&str, &Attributes>,
    person: &Person,
    attribute: &IdentityAttribute,
    meant: &mut Vec<Value>,
) {
    if meant.is_empty() && !attribute.multi_valued {
        let before = stored
            .get(person.id.as_str())
            .map_or(&[][..], |attributes| attributes.get(&attribute.name));
        *meant = before.to_vec();
    }
}

/// Whether a person gets generated and distributed values.
fn takes_part(person: &Person) -> bool {
    person.held.is_none() && person.out_reason.is_none() && !person.sources.is_empty()
}

/// A person without some generated or distributed value, as far as the values depend on it.
#[derive(Debug)]
pub(crate) struct IncompletePerson {
    /// The type.
    pub kind: ObjectType,
    /// The identity.
    pub id: String,
    /// All its accounts: values that they use are its own.
    pub accounts: Vec<AccountId>,
    /// The values that generated values are made from.
    attributes: Attributes,
    lacks_generated: bool,
    lacks_distributed: bool,
}

/// A value that was generated or chosen for an identity.
#[derive(Debug)]
pub(crate) struct AssignedValue {
    /// The identity.
    pub identity: String,
    /// The attribute.
    pub attribute: String,
    /// The value.
    pub value: String,
    /// One of a list over which identities are distributed; otherwise generated.
    pub is_distributed: bool,
}

/// Who lacks a generated value and gets one.
pub(super) fn lacking_generated(rules: &RuleSet, kind: ObjectType, people: &[Person]) -> Vec<bool> {
    let declared = rules.identities.get(&kind);
    let attributes = declared.into_iter().flat_map(|one| &one.attributes);
    let generated: Vec<&str> = attributes
        .filter(|attribute| attribute.generated.is_some())
        .map(|attribute| attribute.name.as_str())
        .collect();
    let lacks = |person: &Person| {
        let mut names = generated.iter();
        names.any(|name| person.attributes.get(name).is_empty())
    };
    people
        .iter()
        .map(|person| takes_part(person) && lacks(person))
        .collect()
}

/// Those who lack a generated or distributed value. Assigned values are kept.
pub(super) fn incomplete_people(
    rules: &RuleSet,
    population: &Population,
    kind: ObjectType,
    people: &mut [Person],
    lacking: &[bool],
) -> Vec<IncompletePerson> {
    let Some(declared) = rules.identities.get(&kind) else {
        return Vec::new();
    };
    let attributes = || declared.attributes.iter();
    let distributed: Vec<&str> = attributes()
        .filter(|attribute| attribute.distribution.is_some())
        .map(|attribute| attribute.name.as_str())
        .collect();
    let generated = attributes().filter_map(|one| Some((one, one.generated.as_ref()?)));
    let mut read: HashSet<&str> = distributed.iter().copied().collect();
    for (attribute, generated) in generated {
        read.insert(&attribute.name);
        let patterns = generated.patterns.iter().flat_map(|one| one.reads());
        read.extend(patterns.map(|(_, name)| name.as_str()));
    }
    let is_read = |name: &str| read.iter().any(|one| one.eq_ignore_ascii_case(name));
    let stored: HashMap<&str, &Attributes> = population
        .identities
        .iter()
        .map(|i| (i.id.as_str(), &i.attributes))
        .collect();
    let mut incomplete = Vec::new();
    for (person, lacks_generated) in people.iter_mut().zip(lacking) {
        for name in &distributed {
            keep_distributed(&stored, person, name);
        }
        let mut names = distributed.iter();
        let lacks = names.any(|name| person.attributes.get(name).is_empty());
        let lacks_distributed = lacks && takes_part(person);
        if *lacks_generated || lacks_distributed {
            let values = person.attributes.iter();
            let account = |at: &usize| population.accounts[*at].id;
            incomplete.push(IncompletePerson {
                kind,
                id: person.id.clone(),
                accounts: person.linked.iter().map(account).collect(),
                attributes: values
                    .filter(|(name, _)| is_read(name))
                    .map(|(name, values)| (name.to_owned(), values.to_vec()))
                    .collect(),
                lacks_generated: *lacks_generated,
                lacks_distributed,
            });
        }
    }
    incomplete
}

/// Generates and distributes the values of incomplete people of one type, given in the order of
/// their ids, as a decision about all people at once does. `elsewhere` knows all records except
/// those of the person that `turn` was called with last.
pub(crate) fn assign_values(
    rules: &RuleSet,
    kind: ObjectType,
    people: &mut [IncompletePerson],
    elsewhere: &dyn OutsideRecords,
    turn: impl Fn(&IncompletePerson),
) -> Vec<AssignedValue> {
    let Some(declared) = rules.identities.get(&kind) else {
        return Vec::new();
    };
    let mut assigned = Vec::new();
    let mut taken = TakenValues::default();
    taken.elsewhere = Some((elsewhere, kind));
    for person in people.iter_mut().filter(|person| person.lacks_generated) {
        crate::computation::step();
        turn(person);
        let made = generate::generate_values(declared, &mut person.attributes, &person.id, &taken);
        let is_missing = |attribute: &IdentityAttribute| {
            attribute.generated.is_some()
                && attribute.required
                && person.attributes.get(&attribute.name).is_empty()
        };
        // Who lacks a required value is on hold.
        person.lacks_distributed &= made.is_ok() && !declared.attributes.iter().any(is_missing);
        for (attribute, value) in made.unwrap_or_default() {
            taken.put(&attribute, &value, Some(&person.id));
            assigned.push(AssignedValue {
                identity: person.id.clone(),
                attribute,
                value,
                is_distributed: false,
            });
        }
    }
    for attribute in &declared.attributes {
        let Some(spread) = &attribute.distribution else {
            continue;
        };
        let name = attribute.name.as_str();
        let mut counts = elsewhere.distribution(kind, name, &HashSet::new());
        let lacking = people.iter().filter(|person| person.lacks_distributed);
        for person in lacking.filter(|person| person.attributes.get(name).is_empty()) {
            let Some(value) = next_value(spread, &counts) else {
                continue;
            };
            let count = counts.entry(value.clone()).or_default();
            (count.all, count.here) = (count.all + 1, count.here + 1);
            assigned.push(AssignedValue {
                identity: person.id.clone(),
                attribute: name.to_owned(),
                value,
                is_distributed: true,
            });
        }
    }
    assigned
}

/// An assigned value stays, even if the rule distributes other values now.
fn keep_distributed(stored: &HashMap<&str, &Attributes>, person: &mut Person, name: &str) {
    let kept = stored
        .get(person.id.as_str())
        .map_or(&[][..], |attributes| attributes.get(name));
    if person.attributes.get(name).is_empty() && !kept.is_empty() {
        person.attributes.set(name, kept.to_vec());
    }
}

/// Assigns a distributed value to every identity in scope, once and for life. With `least_used`, a
/// leaver frees its share, and gets the same value after a return.
pub(super) fn distribute_values(
    rules: &RuleSet,
    population: &Population,
    kind: ObjectType,
    people: &mut [Person],
    elsewhere: &dyn OutsideRecords,
) {
    let Some(declared) = rules.identities.get(&kind) else {
        return;
    };
    if !declared
        .attributes
        .iter()
        .any(|attribute| attribute.distribution.is_some())
    {
        return;
    }
    let stored: HashMap<&str, &Attributes> = population
        .identities
        .iter()
        .map(|i| (i.id.as_str(), &i.attributes))
        .collect();
    let these: Vec<String> = people.iter().map(|person| person.id.clone()).collect();
    let these: HashSet<&str> = these.iter().map(String::as_str).collect();
    for attribute in &declared.attributes {
        let Some(spread) = &attribute.distribution else {
            continue;
        };
        let name = attribute.name.as_str();
        let mut counts = elsewhere.distribution(kind, name, &these);
        let mut without = Vec::new();
        for (place, person) in people.iter_mut().enumerate() {
            keep_distributed(&stored, person, name);
            match person.attributes.get(name).first().map(Value::to_string) {
                Some(value) => {
                    let count = counts.entry(value).or_default();
                    // People without a decision now keep their place.
                    (count.all, count.here) = (
                        count.all + 1,
                        count.here + usize::from(person.stage != Stage::Left),
                    );
                }
                None if takes_part(person) => without.push(place),
                None => {}
            }
        }
        for place in without {
            let person = &mut people[place];
            let proposed = elsewhere.proposed_value(&person.id, name);
            let Some(chosen) = proposed.or_else(|| next_value(spread, &counts)) else {
                continue;
            };
            person.attributes.set(name, vec![Value::text(&chosen)]);
            person.notes.push(ReasonNote::ValueProposed {
                attribute: name.to_owned(),
                value: chosen.clone(),
            });
            let count = counts.entry(chosen).or_default();
            (count.all, count.here) = (count.all + 1, count.here + 1);
        }
    }
}

/// The value that the next person gets.
fn next_value(
    spread: &DistributionRule,
    counts: &BTreeMap<String, ValueDistribution>,
) -> Option<String> {
    let of = |value: &String| counts.get(value).copied().unwrap_or_default();
    let chosen = match spread.round_robin {
        true => {
            let all: usize = counts.values().map(|count| count.all).sum();
            spread.over.get(all % spread.over.len().max(1))
        }
        false => spread.over.iter().min_by_key(|value| of(value).here),
    };
    chosen.cloned()
}

/// Generates missing values, and reserves them, so that they are never assigned to another
/// identity.
pub(super) fn generate_missing(
    inputs: &TypeInputs<'_>,
    people: &mut [Person],
    outcome: &mut Outcome,
) {
    let TypeInputs {
        rules,
        population,
        kind,
        elsewhere,
        ..
    } = *inputs;
    let Some(declared) = rules.identities.get(&kind) else {
        return;
    };
    let generated: Vec<&IdentityAttribute> = declared
        .attributes
        .iter()
        .filter(|attribute| attribute.generated.is_some())
        .collect();
    if generated.is_empty() {
        return;
    }
    if lacking_generated(rules, kind, people).contains(&true) {
        let mut taken = taken_values(population, kind, &generated, people, outcome);
        taken.elsewhere = Some((elsewhere, kind));
        for person in people.iter_mut().filter(|person| takes_part(person)) {
            propose_values(declared, &mut taken, person);
        }
    }
    let known = reserved_names(population, kind);
    for person in people.iter_mut() {
        for attribute in &generated {
            let value = person
                .attributes
                .get(&attribute.name)
                .first()
                .map(Value::to_string);
            match value {
                None if attribute.required && takes_part(person) => {
                    let name = attribute.name.clone();
                    let kind = ReasonKind::NotEnoughToGenerate { attribute: name };
                    person.held =
                        Some(Reason::by(kind, &attribute.place).on_hold(HoldCause::MissingValue));
                }
                Some(value)
                    if !known
                        .contains_key(&(attribute.name.as_str(), generate::fold_name(&value))) =>
                {
                    outcome.reserved.push(ReservedValue {
                        kind,
                        attribute: attribute.name.clone(),
                        value,
                        identity: person.id.clone(),
                    });
                }
                _ => {}
            }
        }
    }
}

/// Generates the values that a person lacks, or holds the person with the reason.
fn propose_values(
    declared: &crate::rules::IdentityRules,
    taken: &mut TakenValues<'_>,
    person: &mut Person,
) {
    match generate::generate_values(declared, &mut person.attributes, &person.id, &*taken) {
        Ok(made) => {
            for (attribute, value) in made {
                taken.put(&attribute, &value, Some(&person.id));
                person
                    .notes
                    .push(ReasonNote::ValueProposed { attribute, value });
            }
        }
        Err(reason) => person.held = Some(reason.on_hold(HoldCause::MissingValue)),
    }
}

/// The reserved values of a type, with the identity of each.
fn reserved_names(population: &Population, kind: ObjectType) -> HashMap<(&str, String), &str> {
    population
        .reserved_values
        .iter()
        .filter(|reserved| reserved.kind == kind)
        .map(|reserved| {
            (
                (
                    reserved.attribute.as_str(),
                    generate::fold_name(&reserved.value),
                ),
                reserved.identity.as_str(),
            )
        })
        .collect()
}

/// The values that are not free.
fn taken_values<'e>(
    population: &Population,
    kind: ObjectType,
    generated: &[&IdentityAttribute],
    people: &[Person],
    outcome: &Outcome,
) -> TakenValues<'e> {
    let mut taken = TakenValues::default();
    for reserved in population
        .reserved_values
        .iter()
        .filter(|reserved| reserved.kind == kind)
    {
        taken.put(
            &reserved.attribute,
            &reserved.value,
            Some(&reserved.identity),
        );
    }
    for person in people {
        for attribute in generated {
            for value in person.attributes.get(&attribute.name) {
                taken.put(&attribute.name, &value.to_string(), Some(&person.id));
            }
        }
    }
    let open = population
        .links
        .iter()
        .map(|link| (link.account, link.identity.as_str()));
    let owner: HashMap<AccountId, &str> = open
        .chain(
            outcome
                .links
                .iter()
                .map(|link| (link.account, link.identity.as_str())),
        )
        .collect();
    for attribute in generated {
        for (system, name) in attribute
            .generated
            .iter()
            .flat_map(|generated| &generated.unique_in)
        {
            // Also those that are absent by now: a name is never assigned twice.
            for account in population
                .accounts
                .iter()
                .filter(|account| account.system == *system)
            {
                for value in account.attributes.get(name) {
                    taken.put(
                        &attribute.name,
                        &value.to_string(),
                        owner.get(&account.id).copied(),
                    );
                }
            }
        }
    }
    taken
}
