//! The first half of a decision: identities, their source accounts, and their values.

use super::generated_values::{self, IncompletePerson};
use super::{Decided, Doubt, NewLink, Outcome, Question, Verdict, file_of};
use crate::compose::{self, Composed};
use crate::decide::exclusions;
use crate::expr::EvalInputs;
use crate::lifecycle::{LeftBy, LifecycleFacts};
use crate::matching::{IdentityIndex, MatchAnswers, MatchResult, account_keys, identity_keys};
use crate::model::{
    Account, Identity, KeptRoles, LEFT_BY, MatchDecision, Population, ROLES, RoleGrant, Stage,
};
use crate::outside::OutsideRecords;
use crate::reasons::{HoldCause, Reason, ReasonKind, ReasonNote};
use crate::roles::{self, RoleConflict};
use crate::rules::{RuleSet, TypeRules};
use crate::scope::{self, Groups, ScopeDecision, ScopeSubject};
use crate::states::{LinkBasis, LinkOrigin, ObjectType, UnmatchedCause};
use crate::value::{Attributes, Value, format_values};
use crate::workers::Workers;
use jiff::Timestamp;
use jiff::tz::TimeZone;
use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};

/// An identity while it is being decided about.
#[derive(Debug, Clone)]
pub(crate) struct Person {
    pub id: String,
    /// Its label.
    pub label: String,
    pub new: bool,
    pub stage: Stage,
    /// Its values, with `id` and `stage`.
    pub attributes: Attributes,
    /// Its live source accounts, as places in the population's list.
    pub sources: Vec<usize>,
    /// All accounts linked to it, live or absent.
    pub linked: Vec<usize>,
    /// Why nothing is sent for it, if nothing is.
    pub held: Option<Reason>,
    /// Why it is out of scope, if it is.
    pub out_reason: Option<Reason>,
    /// No source shows it any more; from this moment on that counts.
    pub absence_counts_from: Option<Timestamp>,
    /// Since when the person has been in the stage.
    pub since: Option<Timestamp>,
    /// The reason of the stage, if lifecycle rules apply.
    pub life: Option<Reason>,
    /// Its accounts cannot be used now: it is not here yet, or away.
    pub access_suspended: bool,
    /// No accounts are created yet.
    pub before_prestart: bool,
    /// Values that are wanted and missing.
    pub missing_recommended: Vec<String>,
    /// Notes on its values: proposed names, references to unknown people.
    pub notes: Vec<ReasonNote>,
    /// Roles in their overlap.
    pub kept_roles: KeptRoles,
}

impl Person {
    /// The outcome for one of its source accounts.
    fn source_line(&self, account: &Account, verdict: Verdict, reason: Reason) -> Decided {
        Decided {
            system: account.system.clone(),
            object: account.kind,
            identity: Some(self.id.clone()),
            account: Some(account.id),
            label: self.label.clone(),
            verdict,
            reason,
            unmatched: None,
        }
    }

    pub fn into_identity(self, kind: ObjectType) -> Identity {
        let mut attributes = self.attributes;
        attributes.set("id", Vec::new());
        attributes.set("stage", Vec::new());
        Identity {
            id: self.id,
            kind,
            attributes,
            stage: self.stage,
            since: self.since,
            kept_roles: self.kept_roles,
        }
    }
}

/// A lasting id for an identity that is first seen now. It follows from the account that brings
/// it, so that a preview and the run after it speak of the same identity.
fn new_id(kind: ObjectType, account: &Account, taken: &HashSet<&str>) -> String {
    (0u32..)
        .map(|attempt| possible_id(kind, account, attempt))
        .find(|id| !taken.contains(id.as_str()))
        .unwrap_or_default()
}

/// The id that an account's identity gets, unless it is taken.
pub(crate) fn possible_id(kind: ObjectType, account: &Account, attempt: u32) -> String {
    let seed = format!("{kind}\0{}\0{}\0{attempt}", account.system, account.key);
    let hash = xxhash_rust::xxh3::xxh3_128(seed.as_bytes());
    let hex = format!("{hash:032x}");
    // Laid out as a UUID of version 8 (RFC 9562 §5.8), which is made for ids of one's own.
    format!(
        "{}-{}-8{}-8{}-{}",
        &hex[..8],
        &hex[8..12],
        &hex[13..16],
        &hex[17..20],
        &hex[20..]
    )
}

/// The label of an account.
pub fn account_label(account: &Account) -> String {
    let shown = ["displayName", "name.formatted", "cn"];
    shown
        .iter()
        .map(|name| account.attributes.get(name))
        .find(|values| !values.is_empty())
        .map_or_else(
            || account.name.clone(),
            |values| format_values(&values[..1]),
        )
}

/// The inputs for assembling the identities of one type.
#[derive(Clone, Copy)]
pub(crate) struct TypeInputs<'a> {
    pub rules: &'a RuleSet,
    pub population: &'a Population,
    pub groups: &'a Groups<'a>,
    pub kind: ObjectType,
    pub elsewhere: &'a dyn OutsideRecords,
    pub now: Timestamp,
    pub workers: Workers,
}

pub(crate) fn assemble_identities(inputs: &TypeInputs<'_>, outcome: &mut Outcome) -> Vec<Person> {
    let TypeInputs {
        rules,
        population,
        kind,
        elsewhere,
        ..
    } = *inputs;
    let mut people = assemble_supplied(inputs, outcome);
    generated_values::generate_missing(inputs, &mut people, outcome);
    hold_duplicates(rules, population, kind, true, &mut people);
    generated_values::distribute_values(rules, population, kind, &mut people, elsewhere);
    add_source_lines(outcome, rules, population, kind, &people);
    drop_unmade_links(outcome, &people);
    people
}

/// The same without generated and distributed values, and those who lack some.
pub(crate) fn assemble_incomplete(
    inputs: &TypeInputs<'_>,
    outcome: &mut Outcome,
) -> (Vec<Person>, Vec<IncompletePerson>) {
    let TypeInputs {
        rules,
        population,
        kind,
        ..
    } = *inputs;
    let mut people = assemble_supplied(inputs, outcome);
    let lacking = generated_values::lacking_generated(rules, kind, &people);
    hold_duplicates(rules, population, kind, true, &mut people);
    let incomplete =
        generated_values::incomplete_people(rules, population, kind, &mut people, &lacking);
    add_source_lines(outcome, rules, population, kind, &people);
    drop_unmade_links(outcome, &people);
    (people, incomplete)
}

/// Identities with the values that their sources and roles supply.
fn assemble_supplied(inputs: &TypeInputs<'_>, outcome: &mut Outcome) -> Vec<Person> {
    let TypeInputs {
        rules,
        population,
        groups,
        kind,
        ..
    } = *inputs;
    let owner: HashMap<i64, &str> = population
        .links
        .iter()
        .map(|l| (l.account, l.identity.as_str()))
        .collect();
    let known: Vec<&Identity> = population
        .identities
        .iter()
        .filter(|i| i.kind == kind)
        .collect();
    let taken: HashSet<&str> = known.iter().map(|i| i.id.as_str()).collect();

    let mut people = existing_people(&known, population);
    let stored: HashMap<&str, &Identity> = known
        .iter()
        .map(|identity| (identity.id.as_str(), *identity))
        .collect();

    for (system, types) in rules.sources(kind) {
        // Who is new by an earlier source can be matched by a later one, by the values that it has
        // so far.
        let fresh = new_identities(rules, population, kind, &people);
        let established = known
            .iter()
            .map(|identity| (identity.id.as_str(), &identity.attributes));
        let index = IdentityIndex::new(
            &types.matching,
            established.chain(
                fresh
                    .iter()
                    .map(|(id, attributes)| (id.as_str(), attributes)),
            ),
        );
        let answers = MatchAnswers::of(&population.match_answers, system);
        let accounts = source_accounts(population, kind, &owner, system);
        for at in accounts {
            crate::computation::step();
            let account = &population.accounts[at];
            let linked = owner.get(&account.id).copied();
            resolve_source_account(
                AssignmentContext {
                    rules,
                    population,
                    groups,
                    system,
                    kind,
                    types,
                    index: &index,
                    answers: &answers,
                    taken: &taken,
                },
                at,
                linked,
                &mut people,
                outcome,
            );
        }
    }
    let mut people: Vec<Person> = people.into_values().collect();
    compose_people(inputs, &mut people, &stored, outcome);
    generated_values::resolve_references(rules, population, kind, &mut people, outcome);
    // An identity that is held for a duplicate value gets no generated name: the next decision
    // would free it again.
    hold_duplicates(rules, population, kind, false, &mut people);
    people
}

/// The people of the stored identities, with their linked accounts.
fn existing_people(known: &[&Identity], population: &Population) -> BTreeMap<String, Person> {
    let mut people: BTreeMap<String, Person> = known
        .iter()
        .map(|identity| (identity.id.clone(), existing_person(identity)))
        .collect();
    let by_id: HashMap<i64, usize> = population
        .accounts
        .iter()
        .enumerate()
        .map(|(at, account)| (account.id, at))
        .collect();
    for link in &population.links {
        if let (Some(person), Some(&at)) =
            (people.get_mut(&link.identity), by_id.get(&link.account))
        {
            person.linked.push(at);
        }
    }
    people
}

/// Composes the values of all people, and applies the lifecycle and the roles to them.
fn compose_people(
    inputs: &TypeInputs<'_>,
    people: &mut [Person],
    stored: &HashMap<&str, &Identity>,
    outcome: &mut Outcome,
) {
    let mut grants: HashMap<&str, Vec<&RoleGrant>> = HashMap::new();
    for grant in &inputs.population.role_grants {
        grants.entry(&grant.identity).or_default().push(grant);
    }
    let compose = |some: &mut [Person]| {
        let mut part = Outcome::default();
        for person in some {
            crate::computation::step();
            person.sources.shrink_to_fit();
            person.linked.shrink_to_fit();
            let stored = stored.get(person.id.as_str()).copied();
            compose_person(inputs.rules, inputs.population, inputs.kind, person, stored);
            apply_lifecycle(inputs, person, stored, &mut part);
            let theirs = grants.get(person.id.as_str());
            let theirs = theirs.map_or(&[][..], Vec::as_slice);
            apply_roles(inputs, person, stored, theirs, &mut part);
        }
        part
    };
    let chunk = inputs.workers.chunk.max(1);
    let jobs: Vec<&mut [Person]> = people.chunks_mut(chunk).collect();
    for part in inputs.workers.run(jobs, compose) {
        outcome.append(part);
    }
}

/// The identities that earlier sources of this decision introduced, with their values so far.
fn new_identities(
    rules: &RuleSet,
    population: &Population,
    kind: ObjectType,
    people: &BTreeMap<String, Person>,
) -> Vec<(String, Attributes)> {
    people
        .values()
        .filter(|person| person.new)
        .filter_map(|person| {
            let declared = rules.identities.get(&kind)?;
            let sources = source_records(rules, population, kind, &person.sources);
            Some((
                person.id.clone(),
                compose::compose_identity(declared, &sources, false).attributes,
            ))
        })
        .collect()
}

/// The accounts of a source in the order in which they are decided.
fn source_accounts(
    population: &Population,
    kind: ObjectType,
    owner: &HashMap<i64, &str>,
    system: &str,
) -> Vec<usize> {
    let mut accounts: Vec<usize> = (0..population.accounts.len())
        .filter(|&at| {
            population.accounts[at].system == system && population.accounts[at].kind == kind
        })
        .collect();
    accounts.sort_by(|&a, &b| population.accounts[a].key.cmp(&population.accounts[b].key));
    // First those that are linked: an established account keeps its identity against newcomers.
    accounts.sort_by_key(|&at| !owner.contains_key(&population.accounts[at].id));
    accounts
}

/// Adds the outcome of each source account.
fn add_source_lines(
    outcome: &mut Outcome,
    rules: &RuleSet,
    population: &Population,
    kind: ObjectType,
    people: &[Person],
) {
    for person in people {
        note_absent_sources(rules, population, kind, person, outcome);
        for &at in &person.sources {
            let account = &population.accounts[at];
            let (verdict, reason) = match &person.held {
                Some(reason) => (Verdict::OnHold, reason.clone()),
                None => {
                    let reason = if person.new {
                        ReasonKind::SuppliesNewIdentity
                    } else {
                        ReasonKind::SuppliesValues
                    };
                    let reason = Reason::by(reason, &file_of(rules, &account.system, kind))
                        .with_notes(ReasonNote::missing(&person.missing_recommended))
                        .with_notes(person.notes.iter().cloned());
                    (Verdict::Source, reason)
                }
            };
            outcome
                .decided
                .push(person.source_line(account, verdict, reason));
        }
    }
}

/// Drops the links of people who are held for the first time: they are no identities yet.
fn drop_unmade_links(outcome: &mut Outcome, people: &[Person]) {
    let waiting: HashSet<&str> = people
        .iter()
        .filter(|p| p.new && p.held.is_some())
        .map(|p| p.id.as_str())
        .collect();
    outcome
        .links
        .retain(|link| !waiting.contains(link.identity.as_str()));
}

/// Notes for each source that no longer lists a person when the absence will count.
fn note_absent_sources(
    rules: &RuleSet,
    population: &Population,
    kind: ObjectType,
    person: &Person,
    outcome: &mut Outcome,
) {
    let Some(until) = person.absence_counts_from else {
        return;
    };
    for account in person.linked.iter().map(|&at| &population.accounts[at]) {
        let feeds = rules
            .of(&account.system, kind)
            .is_some_and(TypeRules::is_source);
        let Some(since) = account.absent_since.filter(|_| feeds) else {
            continue;
        };
        let kind_of_absence = ReasonKind::AbsenceWaits {
            system: account.system.clone(),
            account: account.name.clone(),
            since,
            is_confirmed: account.absence_confirmed,
            person: person.label.clone(),
            leaves_at: until,
        };
        let mut reason = Reason::new(kind_of_absence).on_hold(HoldCause::WaitingForDay);
        reason.rule = rules.lifecycle.get(&kind).map(|life| life.place.clone());
        outcome
            .decided
            .push(person.source_line(account, Verdict::OnHold, reason));
    }
}

fn existing_person(identity: &Identity) -> Person {
    Person {
        id: identity.id.clone(),
        label: String::new(),
        new: false,
        stage: identity.stage,
        // Composed anew below, or taken over.
        attributes: Attributes::new(),
        sources: Vec::new(),
        linked: Vec::new(),
        held: None,
        out_reason: None,
        absence_counts_from: None,
        missing_recommended: Vec::new(),
        notes: Vec::new(),
        kept_roles: KeptRoles::default(),
        since: identity.since,
        life: None,
        access_suspended: false,
        before_prestart: false,
    }
}

struct AssignmentContext<'a> {
    rules: &'a RuleSet,
    population: &'a Population,
    groups: &'a Groups<'a>,
    system: &'a str,
    kind: ObjectType,
    types: &'a TypeRules,
    index: &'a IdentityIndex<'a>,
    answers: &'a MatchAnswers<'a>,
    taken: &'a HashSet<&'a str>,
}

/// The question which identity an account belongs to.
fn identity_question(
    with: &AssignmentContext<'_>,
    account: &Account,
    doubt: Doubt,
    identities: Vec<String>,
    reason: Reason,
) -> Question {
    Question {
        system: with.system.to_owned(),
        object: with.kind,
        doubt,
        label: account_label(account),
        identity: None,
        account: Some(account.id),
        accounts: Vec::new(),
        identities,
        reason,
    }
}

/// Decides what a source account is: part of its identity, out of scope, on hold, or a new
/// identity.
fn resolve_source_account(
    with: AssignmentContext<'_>,
    at: usize,
    linked: Option<&str>,
    people: &mut BTreeMap<String, Person>,
    outcome: &mut Outcome,
) {
    let account = &with.population.accounts[at];
    let mut line = |verdict: Verdict, reason: Reason| {
        let decided = source_outcome(&with, account, linked, verdict, reason);
        outcome.decided.push(decided);
    };
    if let Some(since) = account.absent_since {
        note_absent(&with, linked, people, account, since);
        return;
    }
    if let Some(fault) = &account.fault {
        let kind = ReasonKind::InvalidRecord {
            fault: fault.to_string(),
            system: with.system.to_owned(),
        };
        let reason = Reason::new(kind).on_hold(HoldCause::InvalidValue);
        line(Verdict::OnHold, reason.clone());
        if let Some(person) = linked.and_then(|id| people.get_mut(id)) {
            person.held = Some(reason);
        }
        return;
    }
    let mut person = linked.and_then(|id| people.get_mut(id));
    let facts = with.population.systems.get(with.system);
    if let Some(reason) = exclusions::exclusion_reason(account, with.types, facts) {
        if let Some(person) = person {
            person.held = Some(reason.clone().on_hold(HoldCause::RuleError));
        }
        line(Verdict::OutOfScope, reason);
        return;
    }
    if let Some((verdict, reason)) = left_out_by_scope(&with, account) {
        if let Some(person) = &mut person {
            person.leave_scope(with.system, verdict, &reason);
        }
        line(verdict, reason);
        return;
    }
    if let Some(person) = person {
        outcome
            .questions
            .extend(question_of_linked(&with, account, person));
        // It supplies its identity, also while that is on hold until the match is answered.
        person.sources.push(at);
        return;
    }
    let said = with.answers.of_account(account.id);
    if let Some(answer) = said.filter(|answer| answer.decision == MatchDecision::Skip) {
        let principal = answer.principal.clone();
        let reason = Reason::new(ReasonKind::Skipped { principal });
        line(Verdict::OutOfScope, reason);
        if let Some(line) = outcome.decided.last_mut() {
            line.unmatched = Some(UnmatchedCause::Skipped);
        }
        return;
    }
    let found = match find_identity(&with, account, people) {
        SourceMatch::Found(id, basis) => Some((id, basis)),
        SourceMatch::NotFound => None,
        SourceMatch::Review {
            doubt,
            identities,
            reason,
        } => {
            line(Verdict::OnHold, reason.clone());
            outcome
                .questions
                .push(identity_question(&with, account, doubt, identities, reason));
            return;
        }
    };
    let link = link_source(&with, at, found, people);
    outcome.links.push(link);
}

fn source_outcome(
    with: &AssignmentContext<'_>,
    account: &Account,
    linked: Option<&str>,
    verdict: Verdict,
    reason: Reason,
) -> Decided {
    Decided {
        system: with.system.to_owned(),
        object: with.kind,
        identity: linked.map(str::to_owned),
        account: Some(account.id),
        label: account_label(account),
        verdict,
        reason,
        unmatched: None,
    }
}

/// Adds a source account to the person that was found for it, or to a new person.
fn link_source(
    with: &AssignmentContext<'_>,
    at: usize,
    found: Option<(String, LinkBasis)>,
    people: &mut BTreeMap<String, Person>,
) -> NewLink {
    let account = &with.population.accounts[at];
    let found = found.and_then(|(id, basis)| Some((people.get_mut(&id)?, basis)));
    let (identity, basis) = match found {
        Some((person, basis)) => {
            person.sources.push(at);
            person.linked.push(at);
            (person.id.clone(), basis)
        }
        None => {
            let id = new_id(with.kind, account, with.taken);
            people.insert(id.clone(), new_person(id.clone(), at));
            (id, LinkBasis::new(LinkOrigin::Source, with.system))
        }
    };
    NewLink {
        account: account.id,
        identity,
        basis,
        source: true,
    }
}

impl Person {
    /// Notes that the scope of a source leaves the account of this person out, or cannot be
    /// evaluated.
    fn leave_scope(&mut self, system: &str, verdict: Verdict, reason: &Reason) {
        if verdict == Verdict::OnHold {
            self.held = Some(reason.clone());
            return;
        }
        self.out_reason.get_or_insert_with(|| Reason {
            rule: reason.rule.clone(),
            ..Reason::new(ReasonKind::OutOfSourceScope {
                system: system.to_owned(),
                why: reason.kind.clone(),
            })
        });
    }
}

/// The question about a linked account whose key belongs to another identity now. It puts the
/// person on hold.
fn question_of_linked(
    with: &AssignmentContext<'_>,
    account: &Account,
    person: &mut Person,
) -> Option<Question> {
    let is_confirmed = with
        .answers
        .of_pair(account.id, &person.id)
        .is_some_and(|answer| answer.decision == MatchDecision::Join);
    if is_confirmed {
        return None;
    }
    let (other, rule, key) = with.index.reassigned_key(account, &person.id)?;
    let rule = &with.types.matching[rule];
    let kind = ReasonKind::KeyOfAnotherIdentity {
        account: account.name.clone(),
        key,
        rule: rule.name.clone(),
    };
    let reason = Reason::by(kind, &rule.place).on_hold(HoldCause::NeedsReview);
    let identities = vec![person.id.clone(), other.to_owned()];
    person.held = Some(reason.clone());
    Some(identity_question(
        with,
        account,
        Doubt::KeyReassigned,
        identities,
        reason,
    ))
}

/// What the answers and the match rules say about a source account without a link.
enum SourceMatch {
    /// It belongs to this identity.
    Found(String, LinkBasis),
    /// It belongs to none: it becomes a new identity.
    NotFound,
    /// An operator must decide.
    Review {
        doubt: Doubt,
        identities: Vec<String>,
        reason: Reason,
    },
}

/// Finds the identity of a source account that has no link: by an answer of an operator, otherwise by
/// the match rules.
fn find_identity(
    with: &AssignmentContext<'_>,
    account: &Account,
    people: &BTreeMap<String, Person>,
) -> SourceMatch {
    let answered = with
        .answers
        .joined_by(account.id)
        .iter()
        .find(|(id, _)| people.contains_key(*id));
    if let Some((id, answer)) = answered {
        let basis = LinkBasis::new(LinkOrigin::Operator, &answer.principal);
        return SourceMatch::Found((*id).to_owned(), basis);
    }
    if with.answers.of_account(account.id).is_some() {
        return SourceMatch::NotFound;
    }
    let review = |doubt: Doubt,
                  identities: Vec<String>,
                  rule: &crate::rules::MatchRule,
                  kind: ReasonKind| {
        SourceMatch::Review {
            doubt,
            identities,
            reason: Reason::by(kind, &rule.place).on_hold(HoldCause::NeedsReview),
        }
    };
    let rules = &with.types.matching;
    match with
        .index
        .find(account, |id| with.answers.allows(account.id, id))
    {
        MatchResult::NoMatch => SourceMatch::NotFound,
        MatchResult::One { it, rule } => match supplied_by_another(with, account, it, people, rule)
        {
            OtherSupplier::None => {
                let basis = LinkBasis::new(LinkOrigin::MatchRule, &rules[rule].name);
                SourceMatch::Found(it.to_owned(), basis)
            }
            OtherSupplier::GaveUpTheKey => SourceMatch::NotFound,
            OtherSupplier::Account(other) => {
                let kind = ReasonKind::IdentityAlreadySupplied {
                    rule: rules[rule].name.clone(),
                    account: other,
                };
                review(
                    Doubt::AlreadyLinked,
                    vec![it.to_owned()],
                    &rules[rule],
                    kind,
                )
            }
        },
        MatchResult::Doubtful { it, rule, why } => {
            let kind = ReasonKind::IdentityDoubtful {
                rule: rules[rule].name.clone(),
                why: Box::new(why),
            };
            review(Doubt::NeedsReview, vec![it.to_owned()], &rules[rule], kind)
        }
        MatchResult::Several { all, rule } => {
            let kind = ReasonKind::SeveralIdentities {
                count: all.len(),
                rule: rules[rule].name.clone(),
            };
            let identities = all.into_iter().map(str::to_owned).collect();
            review(Doubt::Ambiguous, identities, &rules[rule], kind)
        }
    }
}

/// Whether another account of the same system supplies a matched identity already.
enum OtherSupplier {
    /// No other account does.
    None,
    /// One does, but its record no longer has the key: the key is free.
    GaveUpTheKey,
    /// The account with this name does.
    Account(String),
}

fn supplied_by_another(
    with: &AssignmentContext<'_>,
    account: &Account,
    identity: &str,
    people: &BTreeMap<String, Person>,
    rule: usize,
) -> OtherSupplier {
    let Some(person) = people.get(identity) else {
        return OtherSupplier::None;
    };
    let Some(&other) = person
        .sources
        .iter()
        .find(|&&other| with.population.accounts[other].system == with.system)
    else {
        return OtherSupplier::None;
    };
    // Compared with the current value: a number that its record gave up is free.
    let gave_up = with
        .rules
        .identities
        .get(&with.kind)
        .is_some_and(|declared| {
            let rule = &with.types.matching[rule];
            let sources = source_records(with.rules, with.population, with.kind, &person.sources);
            let now = compose::compose_identity(declared, &sources, false).attributes;
            identity_keys(rule, &now).is_disjoint(&account_keys(rule, account))
        });
    if gave_up {
        OtherSupplier::GaveUpTheKey
    } else {
        OtherSupplier::Account(with.population.accounts[other].name.clone())
    }
}

/// Why a source account is left out, with its verdict: it is out of scope, or the scope cannot
/// be evaluated, which puts it on hold.
fn left_out_by_scope(with: &AssignmentContext<'_>, account: &Account) -> Option<(Verdict, Reason)> {
    let subject = ScopeSubject {
        values: EvalInputs {
            account: Some(&account.attributes),
            identity: None,
        },
        accounts: &[account],
    };
    match scope::test_scope(&with.types.scope, &subject, with.groups) {
        ScopeDecision::In => None,
        ScopeDecision::Out(reason) => Some((Verdict::OutOfScope, reason)),
        ScopeDecision::Unclear(reason) => {
            Some((Verdict::OnHold, reason.on_hold(HoldCause::RuleError)))
        }
    }
}

/// A person who is known by one account of a source only.
fn new_person(id: String, at: usize) -> Person {
    Person {
        id,
        label: String::new(),
        new: true,
        stage: Stage::Active,
        attributes: Attributes::new(),
        sources: vec![at],
        linked: vec![at],
        held: None,
        out_reason: None,
        absence_counts_from: None,
        missing_recommended: Vec::new(),
        notes: Vec::new(),
        kept_roles: KeptRoles::default(),
        since: None,
        life: None,
        access_suspended: false,
        before_prestart: false,
    }
}

/// Notes why the linked person is out of its source.
fn note_absent(
    with: &AssignmentContext<'_>,
    linked: Option<&str>,
    people: &mut BTreeMap<String, Person>,
    account: &Account,
    since: Timestamp,
) {
    if let Some(person) = linked.and_then(|id| people.get_mut(id)) {
        let (system, name) = (with.system.to_owned(), account.name.clone());
        let kind = if account.absence_confirmed {
            ReasonKind::DeletionReported {
                system,
                account: name,
                since,
            }
        } else {
            ReasonKind::AbsentFromRead {
                system,
                account: name,
                since,
            }
        };
        person.out_reason.get_or_insert(Reason::new(kind));
    }
}

/// The accounts that supply values of a person, in the form that the composer needs.
pub(crate) fn source_records<'a>(
    rules: &'a RuleSet,
    population: &'a Population,
    kind: ObjectType,
    sources: &[usize],
) -> Vec<(&'a str, &'a TypeRules, &'a Account)> {
    sources
        .iter()
        .filter_map(|&at| {
            let account = &population.accounts[at];
            Some((
                account.system.as_str(),
                rules.of(&account.system, kind)?,
                account,
            ))
        })
        .collect()
}

fn compose_person(
    rules: &RuleSet,
    population: &Population,
    kind: ObjectType,
    person: &mut Person,
    stored: Option<&Identity>,
) {
    let stored = stored.map(|identity| &identity.attributes);
    let Some(declared) = rules.identities.get(&kind) else {
        return;
    };
    if person.sources.is_empty() {
        person.attributes = stored.cloned().unwrap_or_default();
        // No source supplies it any more: it keeps its last values. A held record is not a
        // departure.
        if person.held.is_none() {
            if person.out_reason.is_none() {
                person.out_reason = Some(Reason::new(ReasonKind::NoSource));
            }
            person.stage = Stage::Left;
        }
    } else {
        let sources = source_records(rules, population, kind, &person.sources);
        let Composed {
            attributes,
            problems,
            ..
        } = compose::compose_identity(declared, &sources, false);
        person.attributes = attributes;
        let kept = |name: &str| stored.map_or(&[][..], |stored| stored.get(name));
        // A generated value stays for life, whatever a source supplies later.
        for attribute in declared
            .attributes
            .iter()
            .filter(|a| a.generated.is_some() && !kept(&a.name).is_empty())
        {
            person
                .attributes
                .set(attribute.name.as_str(), kept(&attribute.name).to_vec());
        }
        if let Some(stored) = stored {
            keep_end(rules, population, kind, person, stored);
        }
        person.stage = Stage::Active;
        person.out_reason = None;
        if person.held.is_none() {
            person.held = problems
                .into_iter()
                .next()
                .map(|problem| problem.on_hold(HoldCause::InvalidValue));
        }
        note_missing(person, declared);
    }
    let label = declared
        .label
        .as_deref()
        .map_or(&[][..], |label| person.attributes.get(label));
    person.label = match (
        label.is_empty(),
        person.sources.first().or(person.linked.first()),
    ) {
        (false, _) => format_values(&label[..1]),
        (true, Some(&at)) => account_label(&population.accounts[at]),
        (true, None) => person.id.clone(),
    };
    person.attributes.set("id", vec![Value::text(&person.id)]);
}

/// Notes recommended values that are missing; a required one puts the person on hold.
fn note_missing(person: &mut Person, declared: &crate::rules::IdentityRules) {
    let empty = |name: &str| person.attributes.get(name).is_empty();
    person.missing_recommended = declared
        .attributes
        .iter()
        .filter(|a| a.recommended && empty(&a.name))
        .map(|a| a.name.clone())
        .collect();
    for attribute in declared
        .attributes
        .iter()
        .filter(|a| a.required && a.generated.is_none() && a.distribution.is_none())
    {
        if person.held.is_none() && person.attributes.get(&attribute.name).is_empty() {
            person.held = Some(
                Reason::by(
                    ReasonKind::ValueMissing {
                        attribute: attribute.name.clone(),
                    },
                    &attribute.place,
                )
                .on_hold(HoldCause::MissingValue),
            );
        }
    }
}

/// Keeps the values that ended the employment when the record that supplied them is gone: a
/// personnel system that drops rows of former staff, or a failed read, does not reinstate a leaver.
/// A source that supplies these values and lists the person again does.
fn keep_end(
    rules: &RuleSet,
    population: &Population,
    kind: ObjectType,
    person: &mut Person,
    stored: &Attributes,
) {
    let Some(life) = rules.lifecycle.get(&kind) else {
        return;
    };
    let left_by = stored.get(LEFT_BY).first();
    let program = match left_by.and_then(|by| LeftBy::parse(&by.to_string())) {
        Some(LeftBy::Date) => life.ends.as_ref(),
        Some(LeftBy::Condition) => life.left.as_ref(),
        _ => None,
    };
    let gives = |at: usize, name: &str| {
        let types = rules.of(&population.accounts[at].system, kind);
        types.is_some_and(|types| {
            types
                .inbound
                .iter()
                .any(|mapping| mapping.attribute.eq_ignore_ascii_case(name))
        })
    };
    for (_, name) in program.iter().flat_map(|program| program.reads()) {
        let is_lost = person.attributes.get(name).is_empty() && !stored.get(name).is_empty();
        let is_given = person.sources.iter().any(|&at| gives(at, name));
        if is_lost && !is_given && person.linked.iter().any(|&at| gives(at, name)) {
            person
                .attributes
                .set(name.as_str(), stored.get(name).to_vec());
        }
    }
}

/// The roles of a person, and the values that they set. A leaver has none.
fn apply_roles(
    inputs: &TypeInputs<'_>,
    person: &mut Person,
    stored: Option<&Identity>,
    grants: &[&RoleGrant],
    outcome: &mut Outcome,
) {
    let TypeInputs {
        rules, kind, now, ..
    } = *inputs;
    person.attributes.set(ROLES, Vec::new());
    person.kept_roles.clear();
    if rules.roles.is_empty() || person.out_reason.is_some() {
        return;
    }
    outcome.due.extend(
        grants
            .iter()
            .filter_map(|grant| Some((person.id.clone(), grant.next(now)?))),
    );
    let held = match roles::roles_of(rules, kind, &person.attributes, grants, now) {
        Ok(held) => held,
        Err(reason) => {
            person
                .held
                .get_or_insert(reason.on_hold(HoldCause::RuleError));
            return;
        }
    };
    let kept = stored
        .map(|stored| roles::roles_in_overlap(rules, stored, &held, now))
        .unwrap_or_default();
    outcome
        .due
        .extend(kept.values().map(|until| (person.id.clone(), *until)));
    let held = roles::with_kept(rules, held, &kept);
    let names: BTreeSet<&str> = held.iter().map(|one| one.role.as_str()).collect();
    match roles::role_values(rules, kind, &person.attributes, &names) {
        Ok(won) => {
            for one in won {
                if !one.over.is_empty() {
                    outcome.conflicts.push(RoleConflict {
                        identity: person.id.clone(),
                        label: person.label.clone(),
                        attribute: one.value.attribute.clone(),
                        wins: (one.role.name.clone(), one.values.clone()),
                        over: one.over,
                    });
                }
                let many = rules
                    .identities
                    .get(&kind)
                    .and_then(|identity| identity.get(&one.value.attribute))
                    .is_some_and(|a| a.multi_valued);
                let mut values = if many {
                    person.attributes.get(&one.value.attribute).to_vec()
                } else {
                    Vec::new()
                };
                values.extend(
                    one.values
                        .into_iter()
                        .filter(|value| !values.contains(value))
                        .collect::<Vec<_>>(),
                );
                person.attributes.set(one.value.attribute.as_str(), values);
            }
        }
        Err(reason) => {
            person
                .held
                .get_or_insert(reason.on_hold(HoldCause::RuleError));
        }
    }
    person
        .attributes
        .set(ROLES, names.into_iter().map(Value::text).collect());
    person.kept_roles = kept;
}

/// The stage of a person, and since when.
fn apply_lifecycle(
    inputs: &TypeInputs<'_>,
    person: &mut Person,
    stored: Option<&Identity>,
    outcome: &mut Outcome,
) {
    let TypeInputs {
        rules,
        population,
        kind,
        now,
        ..
    } = *inputs;
    let departure = population.departures.get(&person.id);
    let had_left = stored.is_some_and(|stored| stored.stage == Stage::Left);
    let absence = crate::lifecycle::find_absence(
        rules,
        kind,
        person.linked.iter().map(|&at| &population.accounts[at]),
    )
    .filter(|_| person.out_reason.is_some() && person.sources.is_empty());
    let mut since = None;
    person.attributes.set(LEFT_BY, Vec::new());
    // A held record is no departure, unless an operator scheduled one.
    if let Some(life) = rules
        .lifecycle
        .get(&kind)
        .filter(|_| person.held.is_none() || departure.is_some())
    {
        let gone = person.out_reason.as_ref().map(|reason| (reason, absence));
        let claimed = population.reactivations.get(&person.id).copied();
        match life.lifecycle_state(
            &LifecycleFacts {
                attributes: &person.attributes,
                departure,
                reactivated: claimed,
                absence: gone,
                had_left,
            },
            now,
        ) {
            Ok(life) => since = enter_stage(person, outcome, now, life),
            Err(reason) => person.held = Some(reason.on_hold(HoldCause::InvalidValue)),
        }
    } else if let Some(one) = departure {
        if one.at <= now {
            person.stage = Stage::Left;
            person.out_reason = Some(Reason::new(ReasonKind::LeftByDeparture {
                principal: one.principal.clone(),
            }));
            since = Some(one.at);
        } else {
            outcome.due.push((person.id.clone(), one.at));
        }
    }
    // Without rules of a life, an absence that is not confirmed is waited for as well.
    let waits = absence.filter(|_| {
        !had_left
            && !rules.lifecycle.contains_key(&kind)
            && departure.is_none_or(|one| one.at > now)
    });
    if let Some(at) = waits
        .and_then(|absence| absence.counts_from(None, &TimeZone::UTC))
        .filter(|at| *at > now)
    {
        outcome.due.push((person.id.clone(), at));
        (person.absence_counts_from, person.out_reason, person.stage) =
            (Some(at), None, Stage::Active);
    }
    keep_stage(person, stored);
    stage_since(person, stored, now, since);
    person
        .attributes
        .set("stage", vec![Value::text(person.stage.as_str())]);
    person.attributes.shrink();
}

/// Takes over the state of the lifecycle. Returns since when the person has been in the stage.
fn enter_stage(
    person: &mut Person,
    outcome: &mut Outcome,
    now: Timestamp,
    life: crate::lifecycle::LifecycleState,
) -> Option<Timestamp> {
    outcome
        .due
        .extend(life.next_transition(now).map(|at| (person.id.clone(), at)));
    person.stage = life.stage;
    person.absence_counts_from = life
        .absence_counts_from
        .filter(|_| life.stage != Stage::Left);
    person.out_reason = (life.stage == Stage::Left).then(|| life.reason.clone());
    person.access_suspended = matches!(life.stage, Stage::Expected | Stage::Away);
    person.before_prestart = !life.ready;
    person.attributes.set(
        LEFT_BY,
        life.left_by
            .map(|by| Value::text(by.as_str()))
            .into_iter()
            .collect(),
    );
    person.life = Some(life.reason);
    life.since
}

/// Keeps the stage of a record that cannot be read now.
fn keep_stage(person: &mut Person, stored: Option<&Identity>) {
    // A record that cannot be read now does not change the stage.
    if let (Some(stored), true, None, None) = (
        stored,
        person.held.is_some(),
        &person.life,
        &person.out_reason,
    ) {
        person.stage = stored.stage;
    }
}

/// Sets since when the person has been in the stage.
fn stage_since(
    person: &mut Person,
    stored: Option<&Identity>,
    now: Timestamp,
    since: Option<Timestamp>,
) {
    let before = stored.filter(|stored| stored.stage == person.stage);
    // As precise as it is stored, so that the next decision has the same result.
    let kept = Timestamp::from_millisecond(now.as_millisecond()).unwrap_or(now);
    person.since = since.or_else(|| before.map_or(Some(kept), |stored| stored.since));
    // A leaver has left since the earliest cause: retention periods are not extended by later
    // causes.
    if let (Stage::Left, Some(earlier)) = (person.stage, before.and_then(|stored| stored.since)) {
        person.since = person.since.map(|since| since.min(earlier));
    }
}

/// Two identities with the same value of a unique attribute: the existing one continues, the others
/// are held; if none exists yet, all are held. Generated values are checked separately.
fn hold_duplicates(
    rules: &RuleSet,
    population: &Population,
    kind: ObjectType,
    generated: bool,
    people: &mut [Person],
) {
    let Some(declared) = rules.identities.get(&kind) else {
        return;
    };
    for attribute in declared
        .attributes
        .iter()
        .filter(|a| a.unique && a.generated.is_some() == generated)
    {
        let mut holders: HashMap<String, Vec<usize>> = HashMap::new();
        for (at, person) in people
            .iter()
            .enumerate()
            .filter(|(_, p)| p.out_reason.is_none())
        {
            for value in person.attributes.get(&attribute.name) {
                holders
                    .entry(value.to_string().trim().to_lowercase())
                    .or_default()
                    .push(at);
            }
        }
        for (value, at) in holders.into_iter().filter(|(_, at)| at.len() > 1) {
            let established: Vec<usize> =
                at.iter().copied().filter(|&at| !people[at].new).collect();
            let names: Vec<(usize, String)> = at
                .iter()
                .map(|&at| {
                    let source = people[at]
                        .sources
                        .first()
                        .map(|&s| population.accounts[s].name.clone());
                    (at, source.unwrap_or_else(|| people[at].label.clone()))
                })
                .collect();
            for &person in &at {
                if established.as_slice() == [person] || people[person].held.is_some() {
                    continue;
                }
                let others: Vec<String> = names
                    .iter()
                    .filter(|(at, _)| *at != person)
                    .map(|(_, name)| name.clone())
                    .collect();
                people[person].held = Some(
                    Reason::by(
                        ReasonKind::DuplicateValue {
                            attribute: attribute.name.clone(),
                            value: value.clone(),
                            others,
                        },
                        &attribute.place,
                    )
                    .on_hold(HoldCause::DuplicateValue),
                );
            }
        }
    }
}
