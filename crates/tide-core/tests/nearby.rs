//! A decision about those whom a change touches is the same as one about everybody: whatever is
//! changed, step by step, what stands after many small decisions is what one whole decision says.
#![allow(clippy::disallowed_methods, reason = "tests run in real time")]

use proptest::prelude::*;
use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use tide_core::decide::decide_with;
use tide_core::decide::{Decided, Question};
use tide_core::incremental::{
    AppliedMembership, ChunkStep, ChunkedDecision, IncrementalState, PartialOutcome, PassStep,
    Records,
};
use tide_core::model::{MatchAnswer, MatchDecision, RuleMembership};
use tide_core::references::fold_reference;
use tide_core::rules::{FaultSeverity, RuleFile, Schemas};
use tide_core::schema::ValueKind;
use tide_core::states::{ChangeKind, LinkBasis};
use tide_core::{
    Account, AttributeDef, Attributes, Link, ObjectType, Population, RuleSet, Schema, SystemFacts,
    Value, Workers, decide,
};

const RULES: [(&str, &str); 9] = [
    (
        "identities.toml",
        "[person.attributes]\nnumber = { required = true, unique = true }\nmail = {}\nname = {}\n\
         manager = { reference = [\"person\"], by = \"number\" }\n\
         [person.attributes.login]\ngenerated = ['identity.name', 'identity.name + text(identity.attempt)']\nunique_in = [\"berthing.userName\"]\n\
         [person.attributes.alias]\ngenerated = ['identity.name + \"-\" + text(identity.attempt)']\n\
         [person.attributes.badge]\nunique = true\n\
         [person.attributes.side]\ndistribute = [\"port\", \"starboard\", \"bow\"]\n\
         [person.attributes.watch]\ndistribute = [\"first\", \"second\"]\nstrategy = \"round_robin\"\n\
         [group.attributes]\ntitle = { required = true, unique = true }\nmembers = { multi_valued = true, reference = [\"person\", \"group\"] }\n",
    ),
    (
        "harbour.toml",
        "system = \"harbour\"\n[person.scope]\nnot_groups = [\"cn=away\"]\n[[person.scope.condition]]\nwhen = 'account.kind != \"kiosk\"'\nreason = \"a kiosk\"\n\
         [[person.match]]\nname = \"number\"\naccount = 'account.number'\nidentity = 'identity.number'\n\
         [person.inbound]\nnumber = 'account.number'\nmail = 'account.mail'\nname = 'account.name'\nmanager = 'account.manager'\nbadge = 'account.badge'\n\
         [[group.match]]\nname = \"title\"\naccount = 'account.title'\nidentity = 'identity.title'\n\
         [group.inbound]\ntitle = 'account.title'\nmembers = 'account.member'\n",
    ),
    (
        "roster.toml",
        "system = \"roster\"\n[[person.match]]\nname = \"number\"\naccount = 'account.number'\nidentity = 'identity.number'\n\
         [[person.match]]\nname = \"mail\"\naccount = 'account.mail'\nidentity = 'identity.mail'\nsupporting = [{ account = 'account.name', identity = 'identity.name' }]\n\
         [person.inbound]\nnumber = 'account.number'\nmail = 'account.mail'\nname = 'account.name'\nmanager = 'account.manager'\n",
    ),
    (
        "berthing.toml",
        "system = \"berthing\"\n[[person.match]]\nname = \"number\"\naccount = 'account.number'\nidentity = 'identity.number'\n\
         [[person.match]]\nname = \"mail\"\naccount = 'account.mail'\nidentity = 'identity.mail'\n\
         [person.outbound]\nuserName = { value = 'identity.login', required = true }\nnumber = 'identity.number'\nmail = 'identity.mail'\nname = 'identity.name'\n\
         manager = 'identity.manager'\nactive = 'identity.stage == \"active\"'\n\
         [[group.match]]\nname = \"title\"\naccount = 'account.displayName'\nidentity = 'identity.title'\n\
         [group.outbound]\ndisplayName = 'identity.title'\nmembers = 'identity.members'\n",
    ),
    (
        "classroom.toml",
        "system = \"classroom\"\n[person]\ndepends_on = [\"berthing\"]\n[[person.match]]\nname = \"number\"\naccount = 'account.number'\nidentity = 'identity.number'\n\
         [person.outbound]\nnumber = 'identity.number'\nside = 'identity.side'\nwatch = 'identity.watch'\nactive = 'identity.stage == \"active\"'\n\
         [[person.membership]]\nwhen = 'identity.badge == null'\ngroups = 'identity.name'\nremove_unmanaged = [\"n1\"]\n",
    ),
    (
        "licenses.toml",
        "[[license]]\nname = \"desks\"\nsystem = \"classroom\"\nseats = 3\nconsumed_when = 'account.active == true'\nassign_order = 'identity.number'\n",
    ),
    (
        "roles.toml",
        "[[role]]\nname = \"wears a badge\"\nwhen = 'identity.badge != null'\nbinding = { mail = '\"badge@skerry.example\"' }\n",
    ),
    (
        "approvals.toml",
        "[[approval]]\nname = \"crew of two\"\nwhen = 'identity.number == \"2\"'\n[[approval.level]]\nof = \"manager\"\n\
         [[approval]]\nname = \"owned\"\nchange = [\"grant\", \"revoke\"]\nwhen = 'identity.number == \"3\"'\n[[approval.level]]\nof = \"owner\"\n",
    ),
    (
        "guards.toml",
        "[[guard]]\nchange = \"disable\"\nmax_count = 2\n[[guard]]\nchange = \"create\"\nmax_percent = 70\n",
    ),
];

/// `groups`: who is in a certain group does not take part.
fn rules(groups: bool) -> RuleSet {
    let flat = |text: &str| {
        text.replace(
            "members = 'identity.members'",
            "members = { value = 'identity.members', nested = \"flatten\" }",
        )
    };
    let text = |text: &str| {
        if groups {
            flat(text)
        } else {
            text.replace("not_groups = [\"cn=away\"]\n", "")
        }
    };
    let files: Vec<RuleFile> = RULES
        .iter()
        .map(|(name, own)| RuleFile {
            name: (*name).into(),
            text: text(own),
        })
        .collect();
    let (rules, faults) = RuleSet::load(&files, &Schemas::default());
    let errors: Vec<String> = faults
        .iter()
        .filter(|fault| fault.severity == FaultSeverity::Error)
        .map(ToString::to_string)
        .collect();
    assert!(errors.is_empty(), "{errors:#?}");
    rules
}

fn world() -> Population {
    let reference = |name: &str, many| AttributeDef {
        kind: ValueKind::Reference,
        multi_valued: many,
        ..AttributeDef::text(name)
    };
    let mut person = Schema {
        state_attribute: Some("active".into()),
        name_attribute: Some("userName".into()),
        ..Schema::default()
    };
    ["userName", "number", "mail", "name"]
        .iter()
        .for_each(|name| person.put(AttributeDef::text(*name)));
    person.put(AttributeDef {
        kind: ValueKind::Bool,
        ..AttributeDef::text("active")
    });
    person.put(reference("manager", false));
    let mut desk = Schema {
        state_attribute: Some("active".into()),
        ..Schema::default()
    };
    ["number", "side", "watch"]
        .iter()
        .for_each(|name| desk.put(AttributeDef::text(*name)));
    desk.put(AttributeDef {
        kind: ValueKind::Bool,
        ..AttributeDef::text("active")
    });
    let mut group = Schema {
        name_attribute: Some("displayName".into()),
        ..Schema::default()
    };
    group.put(AttributeDef::text("displayName"));
    group.put(reference("members", true));
    let both = vec![ObjectType::Person, ObjectType::Group];
    let facts = |schema: BTreeMap<ObjectType, Schema>| SystemFacts {
        schema: std::sync::Arc::new(schema),
        writable: both.clone(),
        read: both.clone(),
        ..SystemFacts::default()
    };
    let systems = [
        ("harbour".to_owned(), facts(BTreeMap::new())),
        ("roster".to_owned(), facts(BTreeMap::new())),
        (
            "berthing".to_owned(),
            facts(
                [
                    (ObjectType::Person, person),
                    (ObjectType::Group, group.clone()),
                ]
                .into(),
            ),
        ),
        (
            "classroom".to_owned(),
            facts([(ObjectType::Person, desk), (ObjectType::Group, group)].into()),
        ),
    ];
    let mut population = Population {
        systems: systems.into(),
        ..Population::default()
    };
    for name in ["n0", "n1", "n2"] {
        let values = [("displayName", name), ("owner", "classroom-4")];
        let attributes = values
            .into_iter()
            .map(|(name, value)| (name.to_owned(), vec![Value::text(value)]))
            .collect();
        add(&mut population, "classroom", ObjectType::Group, attributes);
    }
    population
}

#[derive(Debug, Clone)]
enum Step {
    /// Somebody has another value: the account, the attribute, the value (none for 0).
    Set(usize, usize, u8),
    /// An account is there that was not: its system, number, mail, name.
    Add(usize, u8, u8, u8),
    /// A group is there, or another one has the title.
    Team(u8),
    /// A group's members are others: by places among the accounts of harbour.
    Members(usize, Vec<usize>),
    /// Somebody is put into a group of the classroom by hand, or taken out.
    Hand(usize, usize),
    /// An account goes, or comes back.
    Toggle(usize),
    /// A link is ended.
    Split(usize),
    /// A person says something about two.
    Say(usize, usize, u8),
    /// What is to be sent is sent, of some kinds only.
    Send(bool),
}

fn steps() -> impl Strategy<Value = Vec<Step>> {
    let step = prop_oneof![
        6 => (0..24usize, 0..6usize, 0..7u8).prop_map(|(account, attribute, value)| Step::Set(account, attribute, value)),
        5 => (0..3usize, 0..7u8, 0..7u8, 0..4u8).prop_map(|(system, number, mail, name)| Step::Add(system, number, mail, name)),
        1 => (0..3u8).prop_map(Step::Team),
        2 => (0..4usize, proptest::collection::vec(0..12usize, 0..4)).prop_map(|(group, members)| Step::Members(group, members)),
        3 => (0..3usize, 0..30usize).prop_map(|(group, account)| Step::Hand(group, account)),
        2 => (0..24usize).prop_map(Step::Toggle),
        1 => (0..24usize).prop_map(Step::Split),
        1 => (0..24usize, 0..12usize, 0..4u8).prop_map(|(account, identity, said)| Step::Say(account, identity, said)),
        4 => any::<bool>().prop_map(Step::Send),
    ];
    proptest::collection::vec(step, 1..40)
}

const SYSTEMS: [&str; 3] = ["harbour", "roster", "berthing"];
const ATTRIBUTES: [&str; 6] = ["number", "mail", "name", "kind", "manager", "badge"];

fn value(attribute: &str, n: u8) -> Vec<Value> {
    match attribute {
        _ if n == 0 => Vec::new(),
        "mail" => vec![Value::text(format!("m{n}@e"))],
        "name" => vec![Value::text(format!("n{}", n % 4))],
        "kind" => vec![Value::text(if n == 1 { "kiosk" } else { "crew" })],
        // By number, or by the name of an account of harbour.
        "manager" if n > 4 => vec![Value::Reference(format!("harbour-{n}"))],
        _ => vec![Value::text(n.to_string())],
    }
}

fn add(population: &mut Population, system: &str, kind: ObjectType, attributes: Attributes) {
    let id = population.accounts.len() as i64 + 1;
    let name = if kind == ObjectType::Group && id % 3 == 0 {
        "cn=away".to_owned()
    } else {
        format!("{system}-{id}")
    };
    population.accounts.push(Account {
        id,
        system: system.into(),
        kind,
        key: format!("k{id}"),
        name,
        attributes,
        absent_since: None,
        absence_confirmed: false,
        fault: None,
    });
}

/// Carries out what is free to be sent; `all` or only what makes nobody new. Who joined and left
/// groups that were not written otherwise is told one by one.
fn send(
    population: &mut Population,
    outcome: &tide_core::Outcome,
    all: bool,
) -> Vec<AppliedMembership> {
    let (mut moved, mut written) = (Vec::new(), BTreeSet::new());
    for change in outcome
        .changes
        .iter()
        .filter(|change| change.hold.is_none())
    {
        let new = change.kind == ChangeKind::Create;
        if new && !all {
            continue;
        }
        let account = match change.account {
            Some(account) => account,
            None if new => {
                add(population, &change.system, change.object, Attributes::new());
                let id = population.accounts.len() as i64;
                population.links.push(Link {
                    account: id,
                    identity: change.identity.clone(),
                    basis: LinkBasis::created(),
                });
                id
            }
            // It waits for what is made now.
            None => continue,
        };
        if change.is_membership() {
            let Some(value) = change.values.first().filter(|value| value.later.is_empty()) else {
                continue;
            };
            let group = &mut population.accounts[account as usize - 1].attributes;
            let mut members: Vec<Value> = group
                .get("members")
                .iter()
                .filter(|one| !value.before.contains(one))
                .cloned()
                .collect();
            members.extend(value.after.iter().cloned());
            group.set("members", members);
            population
                .rule_memberships
                .retain(|one| one.identity != change.identity || one.group != account);
            let told = value
                .before
                .iter()
                .map(|one| (one, false))
                .chain(value.after.iter().map(|one| (one, true)));
            moved.extend(told.map(|(one, there)| AppliedMembership {
                group: account,
                member: fold_reference(&one.to_string()),
                is_member: there,
            }));
            if change.kind == ChangeKind::Grant {
                let member = value
                    .after
                    .first()
                    .map(ToString::to_string)
                    .unwrap_or_default();
                let folded = tide_core::references::fold_reference(&member);
                population.rule_memberships.push(RuleMembership {
                    identity: change.identity.clone(),
                    group: account,
                    created_at: now(),
                    member,
                    folded,
                });
            }
            continue;
        }
        written.insert(account);
        for value in change.values.iter().filter(|value| value.later.is_empty()) {
            population.accounts[account as usize - 1]
                .attributes
                .set(&value.attribute, value.after.clone());
        }
    }
    moved.retain(|one| !written.contains(&one.group));
    moved
}

/// Keeps identities, links and names, as a run does before it sends.
fn keep(population: &mut Population, outcome: &tide_core::Outcome) {
    let linked: HashSet<&str> = outcome
        .links
        .iter()
        .map(|link| link.identity.as_str())
        .collect();
    for (identity, _) in &outcome.identities {
        match population
            .identities
            .iter_mut()
            .find(|known| known.id == identity.id)
        {
            Some(known) => *known = identity.clone(),
            None if linked.contains(identity.id.as_str()) => {
                population.identities.push(identity.clone())
            }
            None => {}
        }
    }
    population.identities.sort_by(|a, b| a.id.cmp(&b.id));
    let known: HashSet<String> = population
        .identities
        .iter()
        .map(|identity| identity.id.clone())
        .collect();
    for link in &outcome.links {
        population.links.push(Link {
            account: link.account,
            identity: link.identity.clone(),
            basis: link.basis.clone(),
        });
    }
    population.reserved_values.extend(
        outcome
            .reserved
            .iter()
            .filter(|name| known.contains(&name.identity))
            .cloned(),
    );
}

/// What differs between two states, as the store tells it.
fn touched(before: &Population, after: &Population) -> Records {
    let mut records = Records::default();
    let accounts: HashMap<i64, &Account> = before
        .accounts
        .iter()
        .map(|account| (account.id, account))
        .collect();
    records.accounts.extend(
        after
            .accounts
            .iter()
            .filter(|a| accounts.get(&a.id) != Some(a))
            .map(|a| a.id),
    );
    let differ = |one: &Population, other: &Population, records: &mut Records| {
        for link in one.links.iter().filter(|link| !other.links.contains(link)) {
            records.accounts.insert(link.account);
            records.identities.insert(link.identity.clone());
        }
        for answer in one
            .match_answers
            .iter()
            .filter(|answer| !other.match_answers.contains(answer))
        {
            records.accounts.extend(answer.account);
            records.identities.extend(answer.identity.clone());
        }
        records.identities.extend(
            one.reserved_values
                .iter()
                .filter(|name| !other.reserved_values.contains(name))
                .map(|name| name.identity.clone()),
        );
        records.identities.extend(
            one.rule_memberships
                .iter()
                .filter(|j| !other.rule_memberships.contains(j))
                .map(|j| j.identity.clone()),
        );
        records.identities.extend(
            one.identities
                .iter()
                .filter(|i| !other.identities.contains(i))
                .map(|i| i.id.clone()),
        );
    };
    differ(before, after, &mut records);
    differ(after, before, &mut records);
    records
}

/// The part of a population that a store gives for these records.
fn part(population: &Population, records: &Records) -> Population {
    let account = |id: i64| records.accounts.contains(&id);
    let identity = |id: &String| records.identities.contains(id);
    Population {
        accounts: population
            .accounts
            .iter()
            .filter(|a| account(a.id))
            .cloned()
            .collect(),
        identities: population
            .identities
            .iter()
            .filter(|i| identity(&i.id))
            .cloned()
            .collect(),
        links: population
            .links
            .iter()
            .filter(|l| account(l.account))
            .cloned()
            .collect(),
        reserved_values: population
            .reserved_values
            .iter()
            .filter(|r| identity(&r.identity))
            .cloned()
            .collect(),
        match_answers: population
            .match_answers
            .iter()
            .filter(|answer| {
                answer.account.is_some_and(account)
                    || answer.identity.as_ref().is_some_and(identity)
            })
            .cloned()
            .collect(),
        rule_memberships: population
            .rule_memberships
            .iter()
            .filter(|one| identity(&one.identity))
            .cloned()
            .collect(),
        systems: population.systems.clone(),
        recent_change_counts: population.recent_change_counts.clone(),
        guard_overrides: population.guard_overrides.clone(),
        ..Population::default()
    }
}

fn now() -> jiff::Timestamp {
    jiff::Timestamp::UNIX_EPOCH
}

fn of_a_part(
    standing: &mut IncrementalState,
    rules: &RuleSet,
    population: &Population,
    touched: Records,
) -> Option<PartialOutcome> {
    let (mut asking, mut wanted) = standing.begin(touched);
    for _ in 0..20 {
        match standing.advance(&mut asking, rules, &part(population, &wanted), now()) {
            PassStep::Read(more) => wanted = more,
            PassStep::Decided(part) => return Some(*part),
            PassStep::FullDecision => return None,
        }
    }
    panic!("it asks for ever");
}

/// A line or a question: its system and type, and whom it is about.
type Key = (String, ObjectType, Option<String>, Option<i64>);
type Lines = BTreeMap<Key, Decided>;
type Questions = BTreeMap<Key, Question>;

fn lines(all: &[Decided]) -> Lines {
    all.iter()
        .map(|line| {
            (
                (
                    line.system.clone(),
                    line.object,
                    line.identity.clone(),
                    line.account,
                ),
                line.clone(),
            )
        })
        .collect()
}

fn questions(all: &[Question]) -> Questions {
    all.iter()
        .map(|one| {
            (
                (
                    one.system.clone(),
                    one.object,
                    one.identity.clone(),
                    one.account,
                ),
                one.clone(),
            )
        })
        .collect()
}

/// What was said before of those whom a part is about is replaced by what it says.
fn replace<V>(all: &mut BTreeMap<Key, V>, about: &Records) {
    all.retain(|(_, _, identity, account), _| match identity {
        Some(id) => !about.identities.contains(id),
        None => !account.is_some_and(|id| about.accounts.contains(&id)),
    });
    // Who was new and is not even that any more.
    let gone = |account: &Option<i64>| account.is_some_and(|id| about.accounts.contains(&id));
    all.retain(|(_, _, _, account), _| !gone(account));
}

fn apply(
    population: &mut Population,
    step: &Step,
    last: &tide_core::Outcome,
) -> Vec<AppliedMembership> {
    let count = population.accounts.len();
    match step {
        Step::Set(account, attribute, n) if count > 0 => {
            let account = &mut population.accounts[account % count];
            if account.kind == ObjectType::Person {
                account
                    .attributes
                    .set(ATTRIBUTES[*attribute], value(ATTRIBUTES[*attribute], *n));
            }
        }
        Step::Add(system, number, mail, name) => {
            let values = [("number", number), ("mail", mail), ("name", name)];
            let mut attributes: Attributes = values
                .into_iter()
                .map(|(name, n)| (name.to_owned(), value(name, *n)))
                .collect();
            if SYSTEMS[*system] == "berthing" {
                let user = Value::text(format!("n{}", name % 4));
                let free = !population
                    .accounts
                    .iter()
                    .any(|a| a.attributes.get("userName") == [user.clone()]);
                attributes.set("userName", free.then_some(user).into_iter().collect());
            }
            add(population, SYSTEMS[*system], ObjectType::Person, attributes);
        }
        Step::Team(title) => {
            let attributes = [("title".to_owned(), vec![Value::text(format!("t{title}"))])]
                .into_iter()
                .collect();
            add(population, "harbour", ObjectType::Group, attributes);
        }
        Step::Members(group, members) => {
            let names: Vec<Value> = members
                .iter()
                .filter(|_| count > 0)
                .map(|at| Value::Reference(population.accounts[at % count].name.clone()))
                .collect();
            let mut groups: Vec<&mut Account> = population
                .accounts
                .iter_mut()
                .filter(|a| a.kind == ObjectType::Group && a.system == "harbour")
                .collect();
            let all = groups.len();
            if all > 0 {
                groups[group % all].attributes.set("member", names);
            }
        }
        Step::Hand(group, account) if count > 0 => {
            let there: Vec<String> = population
                .accounts
                .iter()
                .filter(|a| a.system == "classroom" && a.kind == ObjectType::Person)
                .map(|a| a.key.clone())
                .collect();
            if !there.is_empty() {
                let member = Value::Reference(there[account % there.len()].clone());
                let mut groups: Vec<&mut Account> = population
                    .accounts
                    .iter_mut()
                    .filter(|a| a.kind == ObjectType::Group && a.system == "classroom")
                    .collect();
                let group = &mut groups[*group].attributes;
                let mut members = group.get("members").to_vec();
                match members.iter().position(|one| *one == member) {
                    Some(at) => drop(members.remove(at)),
                    None => members.push(member),
                }
                group.set("members", members);
            }
        }
        Step::Toggle(account) if count > 0 => {
            let account = &mut population.accounts[account % count];
            account.absent_since = if account.absent_since.is_some() {
                None
            } else {
                Some(now())
            };
        }
        Step::Split(link) if !population.links.is_empty() => {
            let at = link % population.links.len();
            population.links.remove(at);
        }
        Step::Say(account, identity, said) if count > 0 && !population.identities.is_empty() => {
            let account = &population.accounts[account % count];
            let identity = &population.identities[identity % population.identities.len()];
            let said = MatchDecision::ALL[*said as usize];
            let (mut of, mut whom) = (Some(account.id), Some(identity.id.clone()));
            match said {
                MatchDecision::New => of = None,
                MatchDecision::Skip => whom = None,
                _ => {}
            }
            if account.kind == identity.kind {
                population
                    .match_answers
                    .retain(|answer| answer.account != of || answer.identity != whom);
                population.match_answers.push(MatchAnswer {
                    system: account.system.clone(),
                    identity: whom,
                    account: of,
                    decision: said,
                    principal: "ada".into(),
                });
            }
        }
        Step::Send(all) => return send(population, last, *all),
        _ => {}
    }
    Vec::new()
}

/// A decision about the neighborhood of each record comes to what the whole comes to for it.
fn check_neighborhoods(
    standing: &IncrementalState,
    rules: &RuleSet,
    population: &Population,
    whole: &tide_core::Outcome,
    step: &Step,
) -> Result<(), TestCaseError> {
    let of_identity = |(identity, _): &(tide_core::Identity, String)| Records {
        identities: [identity.id.clone()].into(),
        ..Records::default()
    };
    let of_account = |account: &Account| Records {
        accounts: [account.id].into(),
        ..Records::default()
    };
    let identities = whole.identities.iter().map(of_identity);
    let all = identities.chain(population.accounts.iter().map(of_account));
    // Others at each step: each of them is a decision of its own.
    let offset = population.accounts.len() % 5;
    for of in all.skip(offset).step_by(5) {
        let Some(near) = standing.neighborhood(&of) else {
            continue;
        };
        let read = part(population, &near.read);
        let found = standing.decide_neighborhood(rules, &read, &near, now());
        prop_assert!(found.is_counted);
        let is_about = |identity: Option<&String>, account: Option<i64>| {
            identity.is_some_and(|id| of.identities.contains(id))
                || account.is_some_and(|id| of.accounts.contains(&id))
        };
        let lines_of = |outcome: &tide_core::Outcome| {
            let mut all = lines(&outcome.decided);
            all.retain(|_, line| is_about(line.identity.as_ref(), line.account));
            all
        };
        let questions_of = |outcome: &tide_core::Outcome| {
            let mut all = questions(&outcome.questions);
            all.retain(|_, one| is_about(one.identity.as_ref(), one.account));
            all
        };
        let changes_of = |outcome: &tide_core::Outcome| -> Vec<String> {
            let changes = outcome.changes.iter();
            changes
                .filter(|change| is_about(Some(&change.identity), None))
                .map(|change| format!("{change:?}"))
                .collect()
        };
        let outcome = &found.outcome;
        prop_assert_eq!(
            lines_of(outcome),
            lines_of(whole),
            "{:?} after {:?}",
            of,
            step
        );
        prop_assert_eq!(
            questions_of(outcome),
            questions_of(whole),
            "{:?} after {:?}",
            of,
            step
        );
        prop_assert_eq!(
            changes_of(outcome),
            changes_of(whole),
            "{:?} after {:?}",
            of,
            step
        );
    }
    Ok(())
}

/// Beside a backlog, the same changes are sent, and the decided records are held by the same.
fn check_bounded(
    part: &PartialOutcome,
    whole: &tide_core::Outcome,
    step: &Step,
) -> Result<(), TestCaseError> {
    let free = |outcome: &tide_core::Outcome| -> Vec<String> {
        let changes = outcome
            .changes
            .iter()
            .filter(|change| change.hold.is_none());
        changes.map(|change| format!("{change:?}")).collect()
    };
    prop_assert_eq!(free(&part.outcome), free(whole), "sent after {:?}", step);
    let held = |outcome: &tide_core::Outcome| -> BTreeSet<String> {
        let is_own = |change: &&tide_core::decide::Change| match change.identity.as_str() {
            "" => change
                .account
                .is_some_and(|id| part.about.accounts.contains(&id)),
            identity => part.about.identities.contains(identity),
        };
        let cause = |change: &tide_core::decide::Change| {
            let cause = change.hold.as_ref().and_then(|hold| hold.cause);
            format!("{} {cause:?}", change.fingerprint)
        };
        outcome.changes.iter().filter(is_own).map(cause).collect()
    };
    prop_assert_eq!(held(&part.outcome), held(whole), "held after {:?}", step);
    Ok(())
}

/// A full decision in chunks: the state after it, and what was decided last about each record.
fn in_chunks(
    rules: &RuleSet,
    population: &Population,
    size: usize,
) -> (IncrementalState, tide_core::Outcome) {
    let mut chunked = ChunkedDecision::new(rules, &population.systems, now(), size);
    let accounts: Vec<i64> = population.accounts.iter().map(|one| one.id).collect();
    let indexed = size.min(1_000);
    for ids in accounts.chunks(indexed) {
        let records = Records {
            accounts: ids.iter().copied().collect(),
            ..Records::default()
        };
        chunked.index(rules, &part(population, &records));
    }
    for identities in population.identities.chunks(indexed) {
        let ids = identities.iter().map(|identity| identity.id.clone());
        let records = Records {
            identities: ids.collect(),
            ..Records::default()
        };
        chunked.index(rules, &part(population, &records));
    }
    let mut all = tide_core::Outcome::default();
    let mut read = Population::default();
    for _ in 0..10_000 {
        match chunked.advance(rules, &read) {
            ChunkStep::Read(records) => read = part(population, &records),
            ChunkStep::Decided(mut part) => {
                all.forget(&part.again);
                part.outcome.changes.retain(|change| change.hold.is_some());
                all.append(part.outcome);
                read = Population::default();
            }
            ChunkStep::Complete => return chunked.finish(rules, population, all),
        }
    }
    panic!("it asks for ever");
}

/// The same outcome in chunks of any size as at once.
fn check_chunks(
    rules: &RuleSet,
    population: &Population,
    whole: &tide_core::Outcome,
    size: usize,
) -> Result<IncrementalState, TestCaseError> {
    let (state, all) = in_chunks(rules, population, size);
    fn sorted<T: std::fmt::Debug>(all: &[T]) -> Vec<String> {
        let mut texts: Vec<String> = all.iter().map(|one| format!("{one:?}")).collect();
        texts.sort();
        texts
    }
    prop_assert_eq!(
        sorted(&all.identities),
        sorted(&whole.identities),
        "in {}",
        size
    );
    prop_assert_eq!(sorted(&all.links), sorted(&whole.links), "in {}", size);
    prop_assert_eq!(sorted(&all.decided), sorted(&whole.decided), "in {}", size);
    prop_assert_eq!(
        sorted(&all.questions),
        sorted(&whole.questions),
        "in {}",
        size
    );
    prop_assert_eq!(sorted(&all.changes), sorted(&whole.changes), "in {}", size);
    prop_assert_eq!(
        sorted(&all.reserved),
        sorted(&whole.reserved),
        "in {}",
        size
    );
    prop_assert_eq!(
        sorted(&all.conflicts),
        sorted(&whole.conflicts),
        "in {}",
        size
    );
    prop_assert_eq!(sorted(&all.due), sorted(&whole.due), "in {}", size);
    let names = (sorted(&all.member_names), sorted(&whole.member_names));
    prop_assert_eq!(names.0, names.1, "in {}", size);
    Ok(state)
}

/// How many worlds are tried; PROPTEST_CASES asks for more.
fn cases() -> u32 {
    std::env::var("PROPTEST_CASES")
        .ok()
        .and_then(|cases| cases.parse().ok())
        .unwrap_or(100)
}

/// Takes the steps one by one, and asks after each whether the part comes to what the whole comes
/// to.
fn follow(steps: Vec<Step>, groups: bool) -> Result<(), TestCaseError> {
    let (rules, mut population) = (rules(groups), world());
    for (n, system) in [0, 0, 1, 1, 2].into_iter().enumerate() {
        let n = n as u8;
        apply(
            &mut population,
            &Step::Add(system, n + 1, n + 1, n),
            &Default::default(),
        );
    }
    let (mut standing, mut last) = IncrementalState::of(&rules, &population, now());
    prop_assert_eq!(&last, &decide(&rules, &population, now()));
    for size in [1, 3, 1_000, usize::MAX] {
        check_chunks(&rules, &population, &last, size)?;
    }
    let mut bounded = IncrementalState::of(&rules, &population, now())
        .0
        .with_exact_limit(0);
    let (mut all_lines, mut all_questions) = (lines(&last.decided), questions(&last.questions));
    for (number, step) in steps.into_iter().enumerate() {
        let before = population.clone();
        keep(&mut population, &last);
        let kept = population.clone();
        let moved = apply(&mut population, &step, &last);
        let (mut changed, more) = (touched(&before, &kept), touched(&kept, &population));
        changed.accounts.extend(more.accounts);
        changed.identities.extend(more.identities);
        for one in &moved {
            changed.accounts.remove(&one.group);
        }
        let mut of_bounded = changed.clone();
        of_bounded
            .accounts
            .extend(bounded.apply_memberships(&moved));
        changed.accounts.extend(standing.apply_memberships(&moved));
        let whole = decide(&rules, &population, now());
        // On any number of threads, in jobs of any size.
        for (threads, chunk) in [(2, 1), (3, 2)] {
            let workers = Workers { threads, chunk };
            prop_assert_eq!(&whole, &decide_with(&rules, &population, now(), workers));
        }
        match of_a_part(&mut bounded, &rules, &population, of_bounded) {
            Some(part) => check_bounded(&part, &whole, &step)?,
            None => {
                bounded = IncrementalState::of(&rules, &population, now())
                    .0
                    .with_exact_limit(0);
            }
        }
        match of_a_part(&mut standing, &rules, &population, changed) {
            Some(part) => {
                replace(&mut all_lines, &part.about);
                all_lines.extend(lines(&part.outcome.decided));
                replace(&mut all_questions, &part.about);
                all_questions.extend(questions(&part.outcome.questions));
                let free = |changes: &[tide_core::decide::Change]| -> Vec<String> {
                    changes
                        .iter()
                        .filter(|c| {
                            c.hold.is_none()
                                || c.hold.as_ref().is_some_and(|h| {
                                    ["held by a guard", "awaiting approval"]
                                        .iter()
                                        .any(|one| h.to_string().starts_with(one))
                                })
                        })
                        .map(|c| format!("{c:?}"))
                        .collect()
                };
                let (mine, theirs) = (free(&part.outcome.changes), free(&whole.changes));
                let only = |one: &[String], other: &[String]| {
                    one.iter().find(|change| !other.contains(change)).cloned()
                };
                prop_assert_eq!(
                    only(&mine, &theirs),
                    only(&theirs, &mine),
                    "changes after {:?}",
                    step
                );
                prop_assert_eq!(mine, theirs, "the order of changes after {:?}", step);
                prop_assert_eq!(&part.outcome.links, &whole.links, "links after {:?}", step);
                // Whoever is held before there was ever anything sent for them has no name kept for
                // them either.
                let kept = |outcome: &tide_core::Outcome| -> Vec<String> {
                    let known = |id: &String| {
                        population.identities.iter().any(|i| i.id == *id)
                            || outcome.links.iter().any(|l| l.identity == *id)
                    };
                    outcome
                        .reserved
                        .iter()
                        .filter(|name| known(&name.identity))
                        .map(|name| format!("{name:?}"))
                        .collect()
                };
                prop_assert_eq!(kept(&part.outcome), kept(&whole), "names after {:?}", step);
            }
            None => {
                let (again, outcome) = IncrementalState::of(&rules, &population, now());
                prop_assert_eq!(&outcome, &whole);
                standing = again;
                all_lines = lines(&whole.decided);
                all_questions = questions(&whole.questions);
            }
        }
        let size = [1, usize::MAX, 4, 9, 1_000][number % 5];
        let chunked = check_chunks(&rules, &population, &whole, size)?;
        if number % 3 == 2 {
            // Later decisions continue from it as from any other.
            standing = chunked;
            all_lines = lines(&whole.decided);
            all_questions = questions(&whole.questions);
        }
        check_neighborhoods(&standing, &rules, &population, &whole, &step)?;
        let expected = lines(&whole.decided);
        for (key, line) in &expected {
            prop_assert_eq!(all_lines.get(key), Some(line), "a line after {:?}", step);
        }
        let strange: BTreeSet<_> = all_lines
            .keys()
            .filter(|key| !expected.contains_key(*key))
            .collect();
        prop_assert!(
            strange.is_empty(),
            "lines that are no longer so after {:?}: {:?}",
            step,
            strange
        );
        prop_assert_eq!(
            &all_questions,
            &questions(&whole.questions),
            "questions after {:?}",
            step
        );
        last = whole;
    }
    Ok(())
}

proptest! {
    #![proptest_config(ProptestConfig { max_shrink_iters: 4000, cases: cases(), failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn incremental_decisions_equal_a_full_one(steps in steps(), groups in any::<bool>()) {
        follow(steps, groups)?;
    }
}

/// Stories that once came to something else, the shortest of each kind.
#[test]
fn what_once_went_wrong_goes_right() {
    use Step::{Add, Hand, Say, Send, Set, Split, Team, Toggle};
    let gone = vec![
        Add(0, 1, 0, 2),
        Send(true),
        Team(0),
        Set(0, 1, 0),
        Add(0, 5, 0, 2),
    ];
    // An account that was said to be two people's, after its link was gone.
    let mut split = vec![
        Add(2, 4, 0, 0),
        Set(0, 0, 0),
        Team(0),
        Say(8, 8, 0),
        Add(1, 1, 0, 0),
        Say(8, 4, 0),
    ];
    split.extend([Split(7), Say(0, 0, 0)]);
    let back = vec![
        Add(0, 0, 0, 0),
        Toggle(23),
        Add(1, 0, 3, 2),
        Set(0, 0, 0),
        Add(1, 1, 0, 0),
    ];
    // Somebody new is found by the mail that its source gives, though a role gives it another one
    // in the end.
    let mut role = vec![
        Add(0, 0, 3, 0),
        Add(2, 0, 5, 0),
        Add(1, 5, 1, 0),
        Say(4, 1, 0),
        Add(0, 1, 3, 0),
        Add(0, 0, 2, 0),
    ];
    role.extend([
        Send(true),
        Team(0),
        Team(1),
        Set(3, 5, 1),
        Set(5, 0, 0),
        Set(0, 0, 0),
        Hand(0, 0),
    ]);
    for story in [split, gone, back, role] {
        follow(story.clone(), true).unwrap_or_else(|other| panic!("{story:?}: {other}"));
    }
    // A person no longer needs a seat, and another one is on the waiting list.
    let seat = vec![
        Add(0, 5, 0, 0),
        Send(true),
        Add(2, 6, 5, 0),
        Add(0, 6, 0, 0),
        Set(0, 0, 0),
        Toggle(10),
    ];
    follow(seat, false).unwrap_or_else(|other| panic!("the seat: {other}"));
}
