//! People who come, stay and go, moment by moment: stages from dates, accounts that are prepared
//! and opened, departures step by step, and those who come back.
#![allow(clippy::disallowed_methods, reason = "tests run in real time")]

use jiff::Timestamp;
use proptest::prelude::*;
use tide_core::decide::Verdict;
use tide_core::incremental::IncrementalState;
use tide_core::model::{Departure, Stage, WriteHistory};
use tide_core::reasons::{ReasonKind, ReasonNote};
use tide_core::rules::{FaultSeverity, RuleFile};
use tide_core::schema::ValueKind;
use tide_core::states::{ChangeKind, DepartureAction, LinkBasis, LinkOrigin};
use tide_core::{
    Account, AttributeDef, Attributes, Link, ObjectType, Outcome, Population, RuleSet, Schema,
    SystemFacts, Value, decide,
};

const IDENTITIES: &str = "[person.attributes]\nnumber = { required = true, unique = true }\nname = {}\nstarts = {}\nends = {}\nstatus = {}\ncontract = {}\n\
     boss = { reference = \"person\", by = \"number\" }\n[group.attributes]\ntitle = { required = true }\nmembers = { multi_valued = true, reference = \"person\" }\n";
const ROSTER: &str = "system = \"roster\"\n[person.inbound]\nnumber = 'account.number'\nname = 'account.name'\nstarts = 'account.start'\nends = 'account.end'\n\
     status = 'account.status'\ncontract = 'account.contract'\nboss = 'account.boss'\n[group.inbound]\ntitle = 'account.title'\nmembers = 'values(account.member)'\n";
const BERTHING: &str = r#"
system = "berthing"
[[person.match]]
account = 'account.number'
identity = 'identity.number'
[person.outbound]
number = 'identity.number'
title = 'identity.name'
[[person.departure]]
step = "disable"
[[person.departure]]
step = "randomize_password"
[[person.departure]]
step = "set"
attribute = "hidden"
value = '"yes"'
[[person.departure]]
step = "set"
attribute = "delegate"
value = 'identity.boss'
[[person.departure]]
step = "revoke"
attributes = ["licenses"]
[[person.departure]]
step = "delete"
after_days = 30
when = 'identity.contract != "honorary"'
[[group.match]]
account = 'account.title'
identity = 'identity.title'
[group.outbound]
title = 'identity.title'
members = 'identity.members'
"#;
const LIFE: &str = r#"
[person]
zone = "Atlantic/Faroe"
starts = 'identity.starts'
ends = 'identity.ends'
away = 'identity.status == "leave"'
left = 'identity.status == "terminated"'
prestart_days = 7
notice_days = 14
absence_grace_days = 3
[[person.exception]]
when = 'identity.contract == "visitor"'
prestart_days = 0
grace_days = 2
"#;

fn at(text: &str) -> Timestamp {
    text.parse().expect("a moment")
}

fn load(life: &str) -> (RuleSet, Vec<String>) {
    load_with(life, &[])
}

fn load_with(life: &str, more: &[(&str, &str)]) -> (RuleSet, Vec<String>) {
    let mut all = vec![
        ("identities.toml", IDENTITIES),
        ("roster.toml", ROSTER),
        ("berthing.toml", BERTHING),
        ("lifecycle.toml", life),
    ];
    all.extend(more);
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

struct World {
    rules: RuleSet,
    population: Population,
}

impl World {
    fn new(life: &str) -> World {
        let (rules, errors) = load(life);
        assert_eq!(errors, Vec::<String>::new());
        let mut schema = Schema {
            state_attribute: Some("active".into()),
            ..Schema::default()
        };
        for name in ["number", "title", "hidden"] {
            schema.put(AttributeDef::text(name));
        }
        schema.put(AttributeDef {
            multi_valued: true,
            ..AttributeDef::text("licenses")
        });
        schema.put(AttributeDef {
            kind: ValueKind::Bool,
            ..AttributeDef::text("active")
        });
        schema.put(AttributeDef {
            kind: ValueKind::Reference,
            ..AttributeDef::text("delegate")
        });
        let mut group = Schema::default();
        group.put(AttributeDef::text("title"));
        group.put(AttributeDef {
            kind: ValueKind::Reference,
            multi_valued: true,
            ..AttributeDef::text("members")
        });
        let both = vec![ObjectType::Person, ObjectType::Group];
        let facts = SystemFacts {
            schema: std::sync::Arc::new(
                [(ObjectType::Person, schema), (ObjectType::Group, group)].into(),
            ),
            writable: both.clone(),
            read: both.clone(),
            ..SystemFacts::default()
        };
        let roster = SystemFacts {
            read: both,
            ..SystemFacts::default()
        };
        let systems = [
            ("berthing".to_owned(), facts),
            ("roster".to_owned(), roster),
        ]
        .into();
        World {
            rules,
            population: Population {
                systems,
                ..Population::default()
            },
        }
    }

    fn with(mut self, number: &str, pairs: &[(&str, &str)]) -> World {
        let key = format!("r{number}");
        let pairs = [("number", number), ("name", "Able Seafarer")]
            .into_iter()
            .chain(pairs.iter().copied());
        let attributes = pairs
            .map(|(name, value)| (name.to_owned(), vec![Value::text(value)]))
            .collect();
        self.put(ObjectType::Person, "roster", &key, attributes);
        self
    }

    fn put(&mut self, kind: ObjectType, system: &str, key: &str, attributes: Attributes) -> i64 {
        let id = self.population.accounts.len() as i64 + 1;
        let (system, key) = (system.to_owned(), key.to_owned());
        let name = key.clone();
        self.population.accounts.push(Account {
            id,
            system,
            kind,
            key,
            name,
            attributes,
            absent_since: None,
            absence_confirmed: false,
            fault: None,
        });
        id
    }

    fn source(&mut self, number: &str) -> &mut Account {
        let key = format!("r{number}");
        self.population
            .accounts
            .iter_mut()
            .find(|account| account.key == key)
            .expect("there")
    }

    fn set(&mut self, number: &str, name: &str, value: &str) {
        self.source(number).attributes.set(
            name,
            if value.is_empty() {
                Vec::new()
            } else {
                vec![Value::text(value)]
            },
        );
    }

    fn account(&self, number: &str) -> Option<&Account> {
        let holds = |account: &&Account| {
            account.attributes.get("number") == [Value::text(number)]
                && account.absent_since.is_none()
        };
        self.population
            .accounts
            .iter()
            .filter(|account| account.system == "berthing")
            .find(holds)
    }

    fn decide(&self, now: &str) -> Outcome {
        decide(&self.rules, &self.population, at(now))
    }

    /// Does what was decided, as a system without faults would.
    fn run(&mut self, now: &str) -> Vec<(String, u16)> {
        let outcome = self.decide(now);
        self.population.identities = outcome
            .identities
            .iter()
            .map(|(identity, _)| identity.clone())
            .collect();
        let new = outcome.links.iter().map(|l| Link {
            account: l.account,
            identity: l.identity.clone(),
            basis: l.basis.clone(),
        });
        self.population.links.extend(new.collect::<Vec<_>>());
        let mut done = Vec::new();
        for change in outcome
            .changes
            .into_iter()
            .filter(|change| change.hold.is_none())
        {
            done.push((change.kind.as_str().to_owned(), change.step));
            let id = match change.account {
                Some(id) => id,
                None => {
                    let key = format!("b{}", self.population.accounts.len());
                    let active =
                        Attributes::from_iter([("active".to_owned(), vec![Value::Bool(true)])]);
                    let id = self.put(change.object, "berthing", &key, active);
                    self.population.links.push(Link {
                        account: id,
                        identity: change.identity.clone(),
                        basis: LinkBasis::created(),
                    });
                    id
                }
            };
            let account = self
                .population
                .accounts
                .iter_mut()
                .find(|account| account.id == id)
                .expect("there");
            match change.kind {
                ChangeKind::Delete => {
                    account.absent_since = Some(at(now));
                    self.population.write_history.entry(id).or_default().deleted = Some(at(now));
                }
                ChangeKind::Password => {
                    assert!(
                        change.values.iter().all(|value| value.after.is_empty()),
                        "a password is drawn when it is sent"
                    );
                    self.population.write_history.insert(
                        id,
                        WriteHistory {
                            password: Some(at(now)),
                            ..WriteHistory::default()
                        },
                    );
                }
                _ => change
                    .values
                    .into_iter()
                    .for_each(|value| account.attributes.set(value.attribute, value.after)),
            }
        }
        done
    }

    fn stage(&self, now: &str) -> (Stage, String) {
        let outcome = self.decide(now);
        (
            outcome.identities[0].0.stage,
            outcome
                .decided
                .iter()
                .map(|line| line.reason.to_string())
                .collect::<Vec<_>>()
                .join(" | "),
        )
    }
}

#[test]
fn a_stage_begins_with_the_first_minute_of_its_day_where_the_day_is_meant() {
    let world = World::new(LIFE).with("1", &[("start", "2026-04-01"), ("end", "2026-10-31")]);
    let stages = [
        // The Faroes are at UTC in winter and an hour ahead in summer.
        ("2026-03-24T22:59:00Z", Stage::Expected),
        ("2026-03-31T22:59:59Z", Stage::Expected),
        ("2026-03-31T23:00:00Z", Stage::Active),
        // Two weeks before a day in winter time is a day in summer time: the same midnight there.
        ("2026-10-17T22:59:59Z", Stage::Active),
        ("2026-10-17T23:00:00Z", Stage::Leaving),
        ("2026-10-31T23:59:59Z", Stage::Leaving),
        // The last day counts.
        ("2026-11-01T00:00:00Z", Stage::Left),
    ];
    for (now, stage) in stages {
        assert_eq!(world.stage(now).0, stage, "{now}");
    }
    // Others by exception: nothing is made before the day, and access stays for two days.
    let visitor = World::new(LIFE).with(
        "1",
        &[
            ("start", "2026-04-01"),
            ("end", "2026-10-31"),
            ("contract", "visitor"),
        ],
    );
    assert_eq!(visitor.stage("2026-11-02T23:59:00Z").0, Stage::Leaving);
    assert_eq!(visitor.stage("2026-11-03T00:00:00Z").0, Stage::Left);
    assert!(
        visitor
            .stage("2026-03-30T00:00:00Z")
            .1
            .contains("accounts are created from 2026-04-01 00:00 on")
    );
    // A day that begins an hour late (a clock change at midnight) begins with its first minute that
    // there is.
    let havana = LIFE.replace("Atlantic/Faroe", "America/Havana");
    let spring = World::new(&havana).with("1", &[("start", "2026-03-08")]);
    assert_eq!(spring.stage("2026-03-08T04:59:59Z").0, Stage::Expected);
    assert_eq!(spring.stage("2026-03-08T05:00:00Z").0, Stage::Active);
    // Conditions, and a word from whoever runs the service.
    let mut world = World::new(LIFE).with("1", &[("start", "2020-01-01"), ("status", "leave")]);
    assert_eq!(world.stage("2026-06-01T00:00:00Z").0, Stage::Away);
    world.set("1", "status", "terminated");
    assert_eq!(world.stage("2026-06-01T00:00:00Z").0, Stage::Left);
    world.set("1", "status", "");
    world.run("2026-06-01T00:00:00Z");
    let id = world.population.identities[0].id.clone();
    let departure = Departure {
        at: at("2026-06-10T12:00:00Z"),
        principal: "ada".into(),
        comment: "moves ashore".into(),
    };
    world.population.departures.insert(id, departure);
    assert_eq!(world.stage("2026-06-09T00:00:00Z").0, Stage::Leaving);
    let (stage, said) = world.stage("2026-06-10T12:00:00Z");
    assert!(
        stage == Stage::Left && said.contains("departure by ada (“moves ashore”)"),
        "{said}"
    );
    // What is no date is told, and nothing is done.
    let wrong = World::new(LIFE).with("1", &[("start", "next week")]);
    assert!(
        wrong
            .stage("2026-06-01T00:00:00Z")
            .1
            .contains("the first day is invalid: `next week` is not a date")
    );
    let turned = World::new(LIFE).with("1", &[("start", "2026-06-01"), ("end", "2026-05-01")]);
    assert!(
        turned
            .stage("2026-06-01T00:00:00Z")
            .1
            .contains("the last day is before the first day")
    );
    assert!(turned.decide("2026-06-01T00:00:00Z").changes.is_empty());
}

/// A member of a group who comes on 10 June, and leaves after 30 September.
fn world_with_seasonal() -> World {
    let mut world = World::new(LIFE).with("1", &[("start", "2020-01-01")]).with(
        "2",
        &[
            ("start", "2026-06-10"),
            ("end", "2026-09-30"),
            ("boss", "1"),
        ],
    );
    let members = Attributes::from_iter([
        ("title".to_owned(), vec![Value::text("watch")]),
        (
            "member".to_owned(),
            vec![Value::Reference("r1".into()), Value::Reference("r2".into())],
        ),
    ]);
    world.put(ObjectType::Group, "roster", "g", members);
    world
}

fn is_active(world: &World, number: &str) -> Option<Vec<Value>> {
    let account = world.account(number);
    account.map(|account| account.attributes.get("active").to_vec())
}

#[test]
fn an_account_is_prepared_disabled_and_opened_on_the_day() {
    let mut world = world_with_seasonal();
    world.run("2026-06-01T00:00:00Z");
    assert!(world.account("2").is_none(), "not yet");
    world.run("2026-06-03T00:00:00Z");
    assert_eq!(is_active(&world, "2"), Some(vec![Value::Bool(false)]));
    world.run("2026-06-03T00:00:00Z");
    assert_eq!(world.run("2026-06-09T22:59:00Z"), []);
    assert_eq!(
        world.run("2026-06-09T23:00:00Z"),
        [("enable".to_owned(), 0)]
    );
    // On leave and back.
    world.set("2", "status", "leave");
    assert_eq!(
        world.run("2026-07-01T00:00:00Z"),
        [("disable".to_owned(), 0)]
    );
    world.set("2", "status", "");
    assert_eq!(
        world.run("2026-07-09T00:00:00Z"),
        [("enable".to_owned(), 0)]
    );
}

/// The boss's new title and the group come after the steps of the departure.
#[test]
fn a_departure_is_done_in_the_order_of_the_rules() {
    let mut world = world_with_seasonal();
    world.run("2026-07-01T00:00:00Z");
    world.run("2026-07-01T00:01:00Z");
    let own = world.account("2").expect("there").id;
    let boss = world.account("1").expect("there").key.clone();
    let account = world
        .population
        .accounts
        .iter_mut()
        .find(|account| account.id == own)
        .expect("there");
    account
        .attributes
        .set("licenses", vec![Value::text("planning")]);
    world.set("1", "name", "Master");
    let steps = ["disable", "password", "update", "update", "revoke"].map(str::to_owned);
    let done = world.run("2026-09-30T23:00:00Z");
    assert_eq!(
        done.iter()
            .map(|(kind, _)| kind.clone())
            .collect::<Vec<_>>()[..5],
        steps
    );
    assert_eq!(
        done.iter().map(|(_, step)| *step).collect::<Vec<_>>(),
        [1, 2, 3, 4, 5, 0, 0]
    );
    let account = world.account("2").expect("kept");
    assert_eq!(
        account.attributes.get("delegate"),
        [Value::Reference(boss)],
        "handed over to the manager's account there"
    );
    assert!(account.attributes.get("licenses").is_empty());
    let group = world
        .population
        .accounts
        .iter()
        .find(|account| account.system == "berthing" && account.kind == ObjectType::Group)
        .expect("made");
    assert_eq!(
        group.attributes.get("members").len(),
        1,
        "and out of the group"
    );
}

/// No step is done twice; the next one is in the reason, and due to the minute.
#[test]
fn the_last_step_of_a_departure_is_announced_and_done_on_its_day() {
    let mut world = world_with_seasonal();
    world.run("2026-07-01T00:00:00Z");
    world.run("2026-07-01T00:01:00Z");
    world.run("2026-09-30T23:00:00Z");
    assert_eq!(world.run("2026-10-01T00:00:00Z"), []);
    let outcome = world.decide("2026-10-01T00:00:00Z");
    assert!(
        outcome
            .decided
            .iter()
            .any(|line| line.reason.notes.contains(&ReasonNote::NextStep {
                at: at("2026-10-31T00:00:00Z"),
                action: DepartureAction::Delete,
            })),
        "{:#?}",
        outcome.decided
    );
    assert_eq!(
        outcome.due.iter().map(|(_, at)| *at).min(),
        Some(at("2026-10-31T00:00:00Z"))
    );
    assert_eq!(world.run("2026-10-30T23:59:00Z"), []);
    assert_eq!(
        world.run("2026-10-31T00:00:00Z"),
        [("delete".to_owned(), 6)]
    );
    assert!(world.account("2").is_none());
    assert_eq!(world.run("2026-11-30T00:00:00Z"), []);
}

/// The same identity gets a new account.
#[test]
fn who_is_hired_again_is_the_same_identity() {
    let mut world = world_with_seasonal();
    world.run("2026-07-01T00:00:00Z");
    world.run("2026-07-01T00:01:00Z");
    world.run("2026-09-30T23:00:00Z");
    world.run("2026-10-31T00:00:00Z");
    let left = |one: &&tide_core::Identity| one.stage == Stage::Left;
    let identity = world
        .population
        .identities
        .iter()
        .find(left)
        .expect("kept")
        .id
        .clone();
    world.set("2", "start", "2027-04-01");
    world.set("2", "end", "2027-09-30");
    world.run("2027-03-28T00:00:00Z");
    world.run("2027-04-01T00:00:00Z");
    assert_eq!(is_active(&world, "2"), Some(vec![Value::Bool(true)]));
    let now = world
        .population
        .identities
        .iter()
        .find(|one| one.id == identity)
        .expect("the same");
    assert_eq!(now.stage, Stage::Active);
}

#[test]
fn a_held_step_holds_only_later_steps_of_the_same_person() {
    let mut world = World::new(LIFE)
        .with("1", &[("end", "2026-06-01")])
        .with("2", &[("end", "2026-06-01")]);
    world.run("2026-05-01T00:00:00Z");
    let now = "2026-06-02T00:00:00Z";
    let first = world
        .decide(now)
        .changes
        .iter()
        .find(|change| change.step == 1)
        .expect("a first step")
        .clone();
    let discarded = tide_core::model::GuardOverride {
        release: false,
        principal: "ada".into(),
    };
    world
        .population
        .guard_overrides
        .insert(first.fingerprint.clone(), discarded);
    let outcome = world.decide(now);
    let (theirs, others): (Vec<_>, Vec<_>) = outcome
        .changes
        .iter()
        .partition(|change| change.identity == first.identity);
    assert_eq!((theirs.len(), others.len()), (3, 3));
    assert!(
        others.iter().all(|change| change.hold.is_none()),
        "{others:#?}"
    );
    let held: Vec<_> = theirs
        .iter()
        .map(|change| change.hold.as_ref().expect("held").kind.clone())
        .collect();
    let by_ada = ReasonKind::Discarded {
        principal: "ada".to_owned(),
    };
    assert_eq!(*held[0], by_ada);
    assert!(
        held[1..]
            .iter()
            .all(|kind| **kind == ReasonKind::EarlierStepOnHold { step: 1 }),
        "{held:?}"
    );
}

#[test]
fn who_comes_back_before_the_end_gets_the_account_back_and_an_absence_must_last() {
    let mut world =
        World::new(LIFE).with("1", &[("start", "2020-01-01"), ("contract", "honorary")]);
    world.run("2026-06-01T00:00:00Z");
    let key = world.account("1").expect("made").key.clone();
    world.source("1").absent_since = Some(at("2026-06-02T00:00:00Z"));
    assert_eq!(
        world.run("2026-06-04T23:59:00Z"),
        [],
        "for three days it may be a mistake"
    );
    assert_eq!(world.run("2026-06-05T00:00:00Z").len(), 3);
    assert_eq!(
        world.account("1").expect("there").attributes.get("hidden"),
        [Value::text("yes")]
    );
    assert_eq!(
        world.run("2027-01-01T00:00:00Z"),
        [],
        "an exception by condition: never deleted"
    );
    world.source("1").absent_since = None;
    world.run("2027-01-02T00:00:00Z");
    let account = world.account("1").expect("there");
    assert_eq!(
        (account.key.clone(), account.attributes.get("active")),
        (key, &[Value::Bool(true)][..])
    );
    assert!(
        account.attributes.get("hidden").is_empty(),
        "what the departure set is taken away again"
    );
}

/// A personnel system drops the rows of former staff, and the directory still has their entries:
/// nobody comes back by that.
#[test]
fn leavers_do_not_return_because_their_record_is_gone() {
    const HARBOUR: &str = "system = \"harbour\"\n[[person.match]]\naccount = 'account.number'\nidentity = 'identity.number'\n\
         [person.inbound]\nnumber = 'account.number'\nname = 'account.name'\n";
    for (column, value) in [("end", "2026-06-30"), ("status", "terminated")] {
        let mut world = World::new(LIFE).with("1", &[("start", "2020-01-01"), (column, value)]);
        let (rules, errors) = load_with(LIFE, &[("harbour.toml", HARBOUR)]);
        assert_eq!(errors, Vec::<String>::new());
        world.run("2026-06-01T00:00:00Z");
        world.rules = rules;
        let roster = world.population.systems["roster"].clone();
        world.population.systems.insert("harbour".into(), roster);
        let entry = [("number", "1"), ("name", "Able Seafarer")]
            .map(|(name, value)| (name.to_owned(), vec![Value::text(value)]));
        let identity = world.population.identities[0].id.clone();
        let account = world.put(
            ObjectType::Person,
            "harbour",
            "h1",
            entry.into_iter().collect(),
        );
        world.population.links.push(Link {
            account,
            identity,
            basis: LinkBasis::new(LinkOrigin::MatchRule, "employee number"),
        });
        world.run("2026-07-01T00:00:00Z");
        assert_eq!(world.stage("2026-07-01T00:00:00Z").0, Stage::Left);
        // The row is gone, and stays gone: nothing is done again.
        world.source("1").absent_since = Some(at("2026-07-10T00:00:00Z"));
        for now in [
            "2026-07-10T00:00:00Z",
            "2026-07-11T00:00:00Z",
            "2026-07-28T00:00:00Z",
        ] {
            assert_eq!(world.run(now), [], "{column}, {now}");
            assert_eq!(world.stage(now).0, Stage::Left, "{column}, {now}");
        }
        // The row comes back, and says that they are here.
        world.source("1").absent_since = None;
        world.set("1", column, "");
        world.run("2026-07-28T01:00:00Z");
        let (stage, said) = world.stage("2026-07-28T01:00:00Z");
        assert_eq!(stage, Stage::Active, "{column}: {said}");
    }
}

const GONE: &str = "2026-06-02T00:00:00Z";
/// Lifecycle rules without a word about absences, and none at all.
const LIVES: [&str; 2] = ["[person]\nzone = \"Atlantic/Faroe\"\n", ""];

/// One person whom every source lists.
fn settled(life: &str) -> World {
    let mut world = World::new(life).with("1", &[("contract", "honorary")]);
    world.run("2026-06-01T00:00:00Z");
    assert_eq!(world.run("2026-06-01T01:00:00Z"), []);
    world
}

/// A record can be missing from a list for many reasons: that counts after a day.
#[test]
fn an_unconfirmed_absence_counts_after_a_day() {
    for life in LIVES {
        let mut world = settled(life);
        world.source("1").absent_since = Some(at(GONE));
        assert_eq!(world.run("2026-06-02T00:00:00Z"), []);
        let outcome = world.decide("2026-06-02T23:59:59Z");
        assert_eq!(outcome.identities[0].0.stage, Stage::Active);
        assert_eq!(
            outcome.due,
            [(
                outcome.identities[0].0.id.clone(),
                at("2026-06-03T00:00:00Z")
            )],
            "due by itself"
        );
        let lines: Vec<_> = outcome
            .decided
            .iter()
            .filter(|line| line.system == "roster")
            .collect();
        assert_eq!(
            (lines.len(), lines[0].verdict),
            (1, Verdict::OnHold),
            "{lines:#?}"
        );
        assert_eq!(
            lines[0].reason.to_string(),
            "roster has not listed r1 since 2026-06-02 00:00:00 UTC, and has not reported a deletion: \
             if no source lists it again, r1 leaves on 2026-06-03 00:00:00 UTC"
        );
        assert_eq!(world.run("2026-06-03T00:00:00Z").len(), 3);
        assert_eq!(world.stage("2026-06-03T00:00:00Z").0, Stage::Left);
    }
}

#[test]
fn a_record_that_is_listed_again_in_time_did_not_leave() {
    for life in LIVES {
        let mut back = settled(life);
        back.source("1").absent_since = Some(at(GONE));
        back.run("2026-06-02T12:00:00Z");
        back.source("1").absent_since = None;
        assert_eq!(back.run("2026-06-04T00:00:00Z"), []);
    }
}

/// A reported deletion counts at once, also when the report comes after the list.
#[test]
fn a_reported_deletion_counts_at_once() {
    for life in LIVES {
        let mut told = settled(life);
        told.source("1").absent_since = Some(at(GONE));
        assert_eq!(told.run("2026-06-02T12:00:00Z"), []);
        told.source("1").absence_confirmed = true;
        assert_eq!(told.run("2026-06-02T12:00:00Z").len(), 3);
    }
}

#[test]
fn who_had_left_and_is_absent_does_not_return_within_the_day() {
    for life in LIVES {
        let mut left = settled(life);
        left.population.departures.insert(
            left.population.identities[0].id.clone(),
            Departure {
                at: at("2026-06-01T12:00:00Z"),
                principal: "ada".into(),
                comment: String::new(),
            },
        );
        assert_eq!(left.run("2026-06-01T12:00:00Z").len(), 3);
        left.source("1").absent_since = Some(at(GONE));
        left.population.departures.clear();
        assert_eq!(left.run("2026-06-02T01:00:00Z"), []);
        assert_eq!(left.stage("2026-06-02T01:00:00Z").0, Stage::Left);
    }
}

#[test]
fn the_rules_can_set_another_time_for_absences() {
    for (days, counts) in [(0, "2026-06-02T00:00:00Z"), (2, "2026-06-04T00:00:00Z")] {
        for confirmed in [true, false] {
            let mut world =
                World::new(&format!("[person]\nabsence_grace_days = {days}\n")).with("1", &[]);
            world.run("2026-06-01T00:00:00Z");
            let source = world.source("1");
            source.absent_since = Some(at(GONE));
            source.absence_confirmed = confirmed;
            if days > 0 {
                assert_eq!(world.run("2026-06-03T23:59:59Z"), []);
            }
            assert_eq!(world.run(counts).len(), 3, "{days} {confirmed}");
        }
    }
}

#[test]
fn invalid_rules_name_their_location() {
    let (_, errors) = load(
        "[person]\nzone = \"Sea/Nowhere\"\nstarts = 'identity.begins'\nprestart_days = 9999\n[[person.exception]]\ngrace_days = 1\n",
    );
    let all = errors.join("\n");
    for part in [
        "lifecycle.toml:2:8: there is no time zone `Sea/Nowhere`",
        "lifecycle.toml:3:11: unknown attribute `identity.begins`",
        "`prestart_days` is too long",
        "the condition of the exception is missing",
    ] {
        assert!(all.contains(part), "{part}\n{all}");
    }
    let steps = |steps: &str| {
        let text = format!(
            "system = \"berthing\"\n[person.outbound]\nnumber = 'identity.number'\n{steps}"
        );
        let all = [
            ("identities.toml", IDENTITIES),
            ("roster.toml", ROSTER),
            ("berthing.toml", &text),
        ];
        let files: Vec<RuleFile> = all
            .iter()
            .map(|(name, text)| RuleFile {
                name: (*name).into(),
                text: (*text).into(),
            })
            .collect();
        RuleSet::load(&files, &Default::default())
            .1
            .iter()
            .map(ToString::to_string)
            .collect::<Vec<_>>()
            .join("\n")
    };
    let late = steps(
        "[[person.departure]]\nstep = \"disable\"\nafter_days = 3\n[[person.departure]]\nstep = \"delete\"\nafter_days = 1\n[[person.departure]]\nstep = \"set\"\n",
    );
    for part in [
        "follows a step that waits 3",
        "no step can follow the deletion of the account",
        "the attribute is missing",
        "do not close the access of a leaver at once",
    ] {
        assert!(late.contains(part), "{part}\n{late}");
    }
    assert!(
        steps("[[person.departure]]\nstep = \"vanish\"\n").contains("`step` cannot be \"vanish\"")
    );
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 24, failure_persistence: None, ..ProptestConfig::default() })]

    /// Whoever looks at each due moment alone sees the same as whoever looks every three hours: no
    /// turn is missed, and none is invented.
    #[test]
    fn nothing_happens_between_two_moments_that_are_due(start in 0i64..60, length in 1i64..80, contract in 0usize..3, asked in proptest::option::of(0i64..90)) {
        let first = at("2026-03-01T00:00:00Z");
        let day = |days: i64| (first + jiff::SignedDuration::from_hours(days * 24)).strftime("%Y-%m-%d").to_string();
        let contract = ["permanent", "visitor", "honorary"][contract];
        let mut world = World::new(LIFE).with("1", &[("start", &day(start)), ("end", &day(start + length)), ("contract", contract)]);
        let id = world.decide("2026-03-01T00:00:00Z").identities[0].0.id.clone();
        if let Some(days) = asked {
            let at = first + jiff::SignedDuration::from_hours(days * 24 + 7);
            world.population.departures.insert(id, Departure { at, principal: "ada".into(), comment: String::new() });
        }
        let (mut standing, outcome) = IncrementalState::of(&world.rules, &world.population, first);
        let mut stage = outcome.identities[0].0.stage;
        let mut due = standing.next_due();
        let mut now = first;
        for _ in 0..8 * 145 {
            now += jiff::SignedDuration::from_hours(3);
            let seen = decide(&world.rules, &world.population, now).identities[0].0.stage;
            if due.is_some_and(|due| due <= now) {
                prop_assert!(!standing.due_identities(now).is_empty());
                (standing, _) = IncrementalState::of(&world.rules, &world.population, now);
                due = standing.next_due();
                prop_assert!(due.is_none_or(|due| due > now), "what is over is not due again");
                stage = seen;
            }
            prop_assert_eq!(stage, seen, "at {}", now);
        }
        prop_assert_eq!(stage, Stage::Left);
    }
}
