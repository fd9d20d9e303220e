use super::*;
use crate::model::{Account, Link, Normalization, Stage, SystemFacts};
use crate::reasons::{GuardLimit, ReasonCode, ReasonKind};
use crate::rules::{FaultSeverity, RuleFile};
use crate::schema::{AttributeDef, Schema, ValueKind};
use crate::states::{ChangeKind, LinkOrigin, ValueState};
use crate::value::{Attributes, Value};

const IDENTITIES: &str = r#"
[person]
label = "name"
[person.attributes]
number = { required = true, unique = true }
name = {}
mail = { required = true }
"#;
const HARBOUR: &str = r#"
system = "harbour"
[person.scope]
within = ["ou=people,dc=e"]
[[person.scope.condition]]
when = 'account.number != null'
reason = "has no number"
[[person.match]]
name = "number"
account = 'account.number'
identity = 'identity.number'
[person.inbound]
number = 'account.number'
name = 'account.cn'
mail = 'lower(account.mail)'
"#;
const BERTHING: &str = r#"
system = "berthing"
[[person.match]]
name = "number"
account = 'account.number'
identity = 'identity.number'
[[person.match]]
name = "address"
account = 'account.userName'
identity = 'identity.mail'
[person.outbound]
userName = { value = 'identity.mail', required = true }
number = 'identity.number'
displayName = 'identity.name'
active = 'true'
"#;

fn rules_with(guards: &str) -> RuleSet {
    let files: Vec<RuleFile> = [
        ("identities.toml", IDENTITIES),
        ("harbour.toml", HARBOUR),
        ("berthing.toml", BERTHING),
        ("guards.toml", guards),
    ]
    .into_iter()
    .map(|(name, text)| RuleFile {
        name: name.into(),
        text: text.into(),
    })
    .collect();
    let (rules, faults) = RuleSet::load(&files, &Default::default());
    let errors: Vec<String> = faults
        .iter()
        .filter(|f| f.severity == FaultSeverity::Error)
        .map(ToString::to_string)
        .collect();
    assert_eq!(errors, Vec::<String>::new());
    rules
}

struct World {
    rules: RuleSet,
    population: Population,
}

impl World {
    fn new() -> Self {
        Self::guarded("")
    }

    fn guarded(guards: &str) -> Self {
        let mut schema = Schema {
            state_attribute: Some("active".into()),
            name_attribute: Some("userName".into()),
            ..Schema::default()
        };
        for name in ["userName", "number", "displayName"] {
            schema.put(AttributeDef::text(name));
        }
        schema.put(AttributeDef {
            kind: ValueKind::Bool,
            ..AttributeDef::text("active")
        });
        schema.put(AttributeDef {
            case_exact: true,
            ..AttributeDef::text("displayName")
        });
        let berthing = SystemFacts {
            schema: std::sync::Arc::new([(ObjectType::Person, schema)].into()),
            writable: vec![ObjectType::Person],
            read: vec![ObjectType::Person],
            paused: false,
            ..SystemFacts::default()
        };
        let harbour = SystemFacts {
            read: vec![ObjectType::Person],
            ..SystemFacts::default()
        };
        let systems = [
            ("berthing".to_owned(), berthing),
            ("harbour".to_owned(), harbour),
        ]
        .into();
        World {
            rules: rules_with(guards),
            population: Population {
                systems,
                ..Population::default()
            },
        }
    }

    fn account(&mut self, system: &str, key: &str, pairs: &[(&str, &str)]) -> AccountId {
        let id = self.population.accounts.len() as AccountId + 1;
        let mut attributes: Attributes = pairs
            .iter()
            .map(|(name, value)| {
                let value = if *name == "active" {
                    Value::Bool(*value == "true")
                } else {
                    Value::text(*value)
                };
                ((*name).to_owned(), vec![value])
            })
            .collect();
        if system == "harbour" && attributes.get("dn").is_empty() {
            attributes.set("dn", vec![Value::text(format!("cn={key},ou=people,dc=e"))]);
        }
        self.population.accounts.push(Account {
            id,
            system: system.into(),
            kind: ObjectType::Person,
            key: key.into(),
            name: key.into(),
            attributes,
            absent_since: None,
            absence_confirmed: false,
            fault: None,
        });
        id
    }

    fn decide(&self) -> Outcome {
        decide(&self.rules, &self.population, Timestamp::UNIX_EPOCH)
    }

    /// Carries an outcome out as a perfect target would.
    fn carry_out(&mut self, outcome: &Outcome) {
        self.population.identities = outcome
            .identities
            .iter()
            .map(|(identity, _)| identity.clone())
            .collect();
        for link in &outcome.links {
            self.population.links.push(Link {
                account: link.account,
                identity: link.identity.clone(),
                basis: link.basis.clone(),
            });
        }
        for change in outcome.changes.iter().filter(|c| c.hold.is_none()) {
            let id = change.account.unwrap_or_else(|| {
                let id = self.account("berthing", &format!("b-{}", change.identity), &[]);
                self.population.links.push(Link {
                    account: id,
                    identity: change.identity.clone(),
                    basis: LinkBasis::created(),
                });
                id
            });
            let account = self
                .population
                .accounts
                .iter_mut()
                .find(|a| a.id == id)
                .expect("there");
            for value in &change.values {
                account
                    .attributes
                    .set(&value.attribute, value.after.clone());
            }
        }
    }

    /// Its system told that it is gone.
    fn gone(&mut self, id: AccountId) {
        let account = self.at(id);
        (account.absent_since, account.absence_confirmed) = (Some(Timestamp::UNIX_EPOCH), true);
    }

    fn at(&mut self, id: AccountId) -> &mut Account {
        self.population
            .accounts
            .iter_mut()
            .find(|a| a.id == id)
            .expect("there")
    }
}

fn lines(outcome: &Outcome) -> Vec<String> {
    outcome
        .decided
        .iter()
        .map(|l| {
            format!(
                "{} {} {}: {}",
                l.system,
                l.label,
                l.verdict.as_str(),
                l.reason
            )
        })
        .collect()
}

fn said(outcome: &Outcome, start: &str) -> String {
    let all = lines(outcome);
    all.iter()
        .find(|line| line.starts_with(start))
        .cloned()
        .unwrap_or_else(|| panic!("no line `{start}` in {all:#?}"))
}

fn ada(world: &mut World) -> AccountId {
    world.account(
        "harbour",
        "ada",
        &[
            ("number", "1"),
            ("cn", "Ada Lind"),
            ("mail", "Ada@skerry.example"),
        ],
    )
}

#[test]
fn a_newcomer_is_created_and_the_next_decision_is_silent() {
    let mut world = World::new();
    ada(&mut world);
    let first = world.decide();
    assert_eq!(first.changes.len(), 1);
    assert_eq!(first.changes[0].kind, ChangeKind::Create);
    assert_eq!(
        first.changes[0].values[0].after,
        vec![Value::text("ada@skerry.example")]
    );
    world.carry_out(&first);
    let second = world.decide();
    assert_eq!(second.changes, vec![], "{:#?}", lines(&second));
    assert_eq!(
        said(&second, "berthing Ada"),
        "berthing Ada Lind in_sync: all values are in sync"
    );
    assert!(second.links.is_empty());
}

#[test]
fn an_existing_account_is_joined_and_only_what_differs_changes() {
    let mut world = World::new();
    ada(&mut world);
    let there = world.account(
        "berthing",
        "b1",
        &[
            ("userName", "ADA@skerry.example"),
            ("displayName", "ada"),
            ("number", "1"),
            ("active", "true"),
        ],
    );
    let outcome = world.decide();
    assert_eq!(outcome.links.len(), 2);
    assert_eq!(outcome.changes.len(), 1);
    let change = &outcome.changes[0];
    assert_eq!(
        (change.kind, change.account),
        (ChangeKind::Update, Some(there))
    );
    let attributes: Vec<&str> = change.values.iter().map(|v| v.attribute.as_str()).collect();
    assert_eq!(
        attributes,
        ["displayName"],
        "userName differs only in case, and the schema ignores case"
    );
}

#[test]
fn doubt_is_held_and_says_why() {
    let mut world = World::new();
    ada(&mut world);
    world.account(
        "berthing",
        "b1",
        &[("userName", "ada@skerry.example"), ("number", "77")],
    );
    let outcome = world.decide();
    assert!(outcome.changes.is_empty());
    assert_eq!(
        said(&outcome, "berthing Ada"),
        "berthing Ada Lind on_hold: b1 matches by address, but number differs: 77 there, 1 here"
    );

    let mut world = World::new();
    ada(&mut world);
    world.account("berthing", "b1", &[("number", "1")]);
    world.account("berthing", "b2", &[("number", "1")]);
    assert!(
        said(&world.decide(), "berthing Ada")
            .contains("on_hold: ambiguous: 2 accounts match by number: b1, b2")
    );
}

#[test]
fn an_account_claimed_by_two_is_given_to_neither() {
    let mut world = World::new();
    ada(&mut world);
    world.account(
        "harbour",
        "eva",
        &[
            ("number", "2"),
            ("cn", "Eva Lind"),
            ("mail", "ada@skerry.example"),
        ],
    );
    world.account("berthing", "b1", &[("userName", "ada@skerry.example")]);
    let outcome = world.decide();
    assert!(outcome.changes.is_empty());
    assert!(
        said(&outcome, "berthing Ada")
            .contains("claimed twice: b1 matches Eva Lind by address too")
    );
    assert!(said(&outcome, "berthing Eva").contains("claimed twice"));
}

#[test]
fn two_records_with_one_number_are_held_but_an_established_one_continues() {
    let mut world = World::new();
    ada(&mut world);
    let first = world.decide();
    world.carry_out(&first);
    world.account(
        "harbour",
        "eva",
        &[
            ("number", "1"),
            ("cn", "Eva"),
            ("mail", "eva@skerry.example"),
        ],
    );
    let outcome = world.decide();
    assert!(outcome.changes.is_empty());
    assert!(said(&outcome, "berthing Ada").contains("in_sync"));
    assert!(
        said(&outcome, "harbour Eva")
            .contains("on_hold: matches by number an identity that ada already supplies")
    );

    let mut world = World::new();
    ada(&mut world);
    world.account(
        "harbour",
        "eva",
        &[
            ("number", "1"),
            ("cn", "Eva"),
            ("mail", "eva@skerry.example"),
        ],
    );
    let outcome = world.decide();
    assert!(outcome.changes.is_empty() && outcome.links.is_empty());
    assert!(
        said(&outcome, "harbour Ada")
            .contains("on_hold: duplicate number 1, also of eva: correct one of them")
    );
}

#[test]
fn who_lacks_a_required_value_waits_for_it() {
    let mut world = World::new();
    let id = world.account("harbour", "ada", &[("number", "1"), ("cn", "Ada")]);
    assert_eq!(
        said(&world.decide(), "berthing Ada"),
        "berthing Ada on_hold: waiting for a value of mail: it is required"
    );
    world
        .at(id)
        .attributes
        .set("mail", vec![Value::text("a@e")]);
    assert_eq!(world.decide().changes.len(), 1);
}

#[test]
fn leaving_scope_absence_and_return() {
    let mut world = World::new();
    let id = ada(&mut world);
    let first = world.decide();
    world.carry_out(&first);
    world
        .at(id)
        .attributes
        .set("dn", vec![Value::text("cn=ada,ou=former,dc=e")]);
    let out = world.decide();
    assert_eq!(out.changes.len(), 1);
    assert_eq!(out.changes[0].kind, ChangeKind::Disable);
    assert_eq!(
        out.changes[0].reason.to_string(),
        "out of scope in harbour: its container is not inside ou=people,dc=e"
    );
    world.carry_out(&out);
    assert!(
        world.decide().changes.is_empty(),
        "a disabled account is not disabled again"
    );
    world
        .at(id)
        .attributes
        .set("dn", vec![Value::text("cn=ada,ou=people,dc=e")]);
    let back = world.decide();
    assert_eq!(back.changes[0].kind, ChangeKind::Enable);
    world.carry_out(&back);
    world.gone(id);
    let gone = world.decide();
    assert_eq!(gone.changes[0].kind, ChangeKind::Disable);
    assert_eq!(gone.changes[0].reason.code(), ReasonCode::DeletionReported);
    world.carry_out(&gone);
    // The same person under a new entry is the same identity, with the same account.
    world.account(
        "harbour",
        "ada-again",
        &[
            ("number", "1"),
            ("cn", "Ada Lind"),
            ("mail", "Ada@skerry.example"),
        ],
    );
    let again = world.decide();
    assert_eq!(again.changes.len(), 1);
    assert_eq!(again.changes[0].kind, ChangeKind::Enable);
    assert_eq!(again.identities.len(), 1);
    assert_eq!(again.identities[0].0.stage, Stage::Active);
}

#[test]
fn a_rename_keeps_the_account() {
    let mut world = World::new();
    let id = ada(&mut world);
    let first = world.decide();
    world.carry_out(&first);
    world
        .at(id)
        .attributes
        .set("mail", vec![Value::text("ada.holm@skerry.example")]);
    let outcome = world.decide();
    assert_eq!(outcome.changes.len(), 1);
    assert_eq!(outcome.changes[0].kind, ChangeKind::Rename);
    assert!(outcome.changes[0].account.is_some());
}

#[test]
fn what_a_target_makes_of_a_value_is_not_chased() {
    let mut world = World::new();
    ada(&mut world);
    let first = world.decide();
    world.carry_out(&first);
    let id = world.population.accounts.last().expect("made").id;
    world
        .at(id)
        .attributes
        .set("displayName", vec![Value::text("ADA LIND")]);
    assert_eq!(world.decide().changes.len(), 1);
    world.population.normalizations.insert(
        (id, "displayName".into()),
        Normalization {
            sent: vec![Value::text("Ada Lind")],
            returned: vec![Value::text("ADA LIND")],
        },
    );
    assert!(world.decide().changes.is_empty());
    world
        .at(id)
        .attributes
        .set("displayName", vec![Value::text("ADA")]);
    assert_eq!(
        world.decide().changes.len(),
        1,
        "a third value is drift again"
    );
}

#[test]
fn read_only_paused_and_unread_systems_get_nothing() {
    let mut world = World::new();
    ada(&mut world);
    let facts = world.population.systems.get_mut("berthing").expect("there");
    facts.writable.clear();
    let held = world.decide();
    assert!(
        held.changes[0]
            .hold
            .as_ref()
            .is_some_and(|hold| hold.code() == ReasonCode::ReadOnly)
    );
    world
        .population
        .systems
        .get_mut("berthing")
        .expect("there")
        .read
        .clear();
    assert!(
        said(&world.decide(), "berthing Ada")
            .contains("on_hold: berthing has not been read completely yet")
    );
}

#[test]
fn a_guard_holds_a_landslide_and_lets_the_harmless_go_on() {
    let mut world =
        World::guarded("[[guard]]\nsystem = \"berthing\"\nchange = \"disable\"\nmax_count = 2\n");
    let ids: Vec<AccountId> = (0..5)
        .map(|n| {
            let (number, mail) = (n.to_string(), format!("p{n}@e"));
            world.account(
                "harbour",
                &format!("p{n}"),
                &[("number", &number), ("cn", &number), ("mail", &mail)],
            )
        })
        .collect();
    let first = world.decide();
    world.carry_out(&first);
    for id in &ids[..3] {
        world.gone(*id);
    }
    world
        .at(ids[4])
        .attributes
        .set("cn", vec![Value::text("New Name")]);
    let outcome = world.decide();
    let held: Vec<bool> = outcome.changes.iter().map(|c| c.hold.is_some()).collect();
    assert_eq!(held, [true, true, true, false]);
    assert_eq!(
        outcome.changes[0].hold.as_ref().map(ToString::to_string),
        Some("held by guard: 3 disable changes in berthing; the limit is 2".to_owned())
    );
    world.at(ids[0]).absent_since = None;
    assert!(world.decide().changes.iter().all(|c| c.hold.is_none()));
    // What is on its way for another counts before it is done; what is on its way for the same is
    // the same.
    let same = world.decide().changes[0].identity.clone();
    let disables = ("berthing".to_owned(), "disable".to_owned());
    world
        .population
        .in_flight
        .entry(disables.clone())
        .or_default()
        .insert((same, None));
    assert!(world.decide().changes.iter().all(|c| c.hold.is_none()));
    world
        .population
        .in_flight
        .entry(disables)
        .or_default()
        .insert(("another".into(), None));
    let held = world
        .decide()
        .changes
        .iter()
        .filter(|c| c.hold.is_some())
        .count();
    assert_eq!(held, 2);
}

#[test]
fn a_broken_record_changes_nothing() {
    let mut world = World::new();
    let id = ada(&mut world);
    let first = world.decide();
    world.carry_out(&first);
    world.at(id).fault = Some("sn is not UTF-8".into());
    let outcome = world.decide();
    assert!(outcome.changes.is_empty());
    assert!(said(&outcome, "berthing Ada").contains("on_hold: invalid record: sn is not UTF-8"));
}

#[test]
fn a_name_in_use_is_held_before_it_is_sent() {
    let mut world = World::new();
    world.account(
        "harbour",
        "ada",
        &[("number", "1"), ("cn", "Ada"), ("mail", "a@e")],
    );
    let first = world.decide();
    world.carry_out(&first);
    world.account(
        "berthing",
        "robot",
        &[("userName", "new@e"), ("number", "9")],
    );
    let id = world.population.accounts[0].id;
    world
        .at(id)
        .attributes
        .set("mail", vec![Value::text("new@e")]);
    world
        .at(id)
        .attributes
        .set("cn", vec![Value::text("Ada Holm")]);
    let outcome = world.decide();
    let change = |held: bool| {
        outcome
            .changes
            .iter()
            .find(|change| change.hold.is_some() == held)
            .expect("one held, and one sent")
    };
    assert_eq!(outcome.changes.len(), 2);
    let (held, sent) = (change(true), change(false));
    let why = held
        .hold
        .as_ref()
        .map(|hold| hold.to_string())
        .unwrap_or_default();
    assert!(
        why.contains("userName new@e is taken in berthing by the account robot"),
        "{why}"
    );
    assert_eq!((held.kind, held.values.len()), (ChangeKind::Rename, 1));
    assert!(
        sent.values
            .iter()
            .all(|value| value.attribute != "userName"),
        "the other values are not kept back: {sent:?}"
    );
}

#[test]
fn what_is_refused_keeps_back_only_what_builds_on_it() {
    let mut world = World::new();
    ada(&mut world);
    let change = |object, kind, step| Change {
        object,
        kind,
        step,
        ..world.decide().changes[0].clone()
    };
    let person = |kind| change(ObjectType::Person, kind, 0);
    for kind in [
        ChangeKind::Disable,
        ChangeKind::Update,
        ChangeKind::Rename,
        ChangeKind::Move,
    ] {
        assert!(
            person(kind).is_independent_of_refused(ChangeKind::Update),
            "{kind:?}"
        );
        assert!(
            !person(kind).is_independent_of_refused(ChangeKind::Create),
            "{kind:?} of an account that was not made"
        );
    }
    assert!(!person(ChangeKind::Enable).is_independent_of_refused(ChangeKind::Update));
    assert!(!person(ChangeKind::Password).is_independent_of_refused(ChangeKind::Update));
    assert!(
        !change(ObjectType::Person, ChangeKind::Disable, 2)
            .is_independent_of_refused(ChangeKind::Update),
        "a step of a departure"
    );
    assert!(
        change(ObjectType::Group, ChangeKind::Grant, 0)
            .is_independent_of_refused(ChangeKind::Grant),
        "one member says nothing of another"
    );
}

/// A domain controller lets no two of its objects have the same value of some attributes, whatever
/// their type.
#[test]
fn a_unique_value_in_use_is_found_before_an_account_is_created() {
    let mut world = World::new();
    world.account(
        "harbour",
        "ada",
        &[("number", "1"), ("cn", "Ada"), ("mail", "a@e")],
    );
    world.account(
        "berthing",
        "robot",
        &[
            ("userName", "robot"),
            ("number", "9"),
            ("displayName", "Ada"),
        ],
    );
    assert_eq!(world.decide().changes.len(), 1, "nothing else is unique");
    let facts = world.population.systems.get_mut("berthing").expect("there");
    let mut schemas = (*facts.schema).clone();
    schemas.get_mut(&ObjectType::Person).expect("there").unique = vec!["displayName".into()];
    facts.schema = schemas.into();
    let outcome = world.decide();
    assert!(outcome.changes.is_empty());
    assert!(
        said(&outcome, "berthing Ada")
            .contains("displayName Ada is taken in berthing by the account robot")
    );
}

#[test]
fn the_same_inputs_give_the_same_change_set_whatever_their_order() {
    let mut world = World::new();
    for n in 0..20 {
        let (number, mail) = (n.to_string(), format!("p{n}@e"));
        world.account(
            "harbour",
            &format!("p{n}"),
            &[("number", &number), ("cn", &mail), ("mail", &mail)],
        );
    }
    world.account("berthing", "b3", &[("number", "3")]);
    let one = world.decide();
    world.population.accounts.reverse();
    let two = world.decide();
    assert_eq!(one.changes, two.changes);
    assert_eq!(one.counts(), two.counts());
}

#[test]
fn explaining_a_person_names_rule_and_source_of_each_value() {
    let mut world = World::new();
    ada(&mut world);
    world.account("harbour", "guest", &[("cn", "Guest Book")]);
    let outcome = world.decide();
    let found = crate::explain::explain(&world.rules, &world.population, &outcome, "ada lind");
    assert_eq!(found.len(), 1);
    let mail = found[0]
        .values
        .iter()
        .find(|v| v.attribute == "mail")
        .expect("explained");
    assert_eq!(mail.value, "ada@skerry.example");
    assert_eq!(
        mail.read,
        [("account.mail".to_owned(), "Ada@skerry.example".to_owned())]
    );
    assert_eq!(
        (mail.rule.file.as_str(), mail.rule.line),
        ("harbour.toml", 15)
    );
    let berthing = found[0]
        .accounts
        .iter()
        .find(|a| a.decided.system == "berthing")
        .expect("explained");
    assert_eq!(berthing.values[0].state, ValueState::WillBeSet);
    let guest = crate::explain::explain(&world.rules, &world.population, &outcome, "guest");
    assert_eq!(
        guest[0].accounts[0].decided.reason.to_string(),
        "has no number"
    );
    assert!(
        crate::explain::explain(&world.rules, &world.population, &outcome, "nobody").is_empty()
    );
}

#[test]
fn a_share_counts_what_is_linked_and_says_nothing_of_an_empty_target() {
    let mut world = World::guarded(
        "[[guard]]\nchange = \"disable\"\nmax_percent = 40\n[[guard]]\nchange = \"create\"\nmax_percent = 10\n",
    );
    let ids: Vec<AccountId> = (0..4)
        .map(|n| {
            let (number, mail) = (n.to_string(), format!("p{n}@e"));
            world.account(
                "harbour",
                &format!("p{n}"),
                &[("number", &number), ("cn", &number), ("mail", &mail)],
            )
        })
        .collect();
    let first = world.decide();
    assert!(
        first.changes.iter().all(|c| c.hold.is_none()),
        "a first run of an empty target is no landslide"
    );
    world.carry_out(&first);
    world.gone(ids[0]);
    assert!(
        world.decide().changes[0].hold.is_none(),
        "one of four is a quarter"
    );
    world.gone(ids[1]);
    let held = world.decide();
    assert_eq!(held.changes.len(), 2);
    assert!(
        held.changes
            .iter()
            .all(|c| c.hold.as_ref().is_some_and(|hold| matches!(
                *hold.kind,
                ReasonKind::HeldByGuard {
                    limit: GuardLimit::Percent {
                        percent: 40,
                        linked: 4
                    },
                    ..
                }
            ))),
        "{:?}",
        held.changes[0].hold
    );
}

#[test]
fn an_account_deleted_in_the_target_waits_for_an_operator() {
    let mut world = World::new();
    ada(&mut world);
    let first = world.decide();
    world.carry_out(&first);
    let id = world.population.accounts.last().expect("made").id;
    world.gone(id);
    let outcome = world.decide();
    assert!(
        outcome.changes.is_empty(),
        "gone in a target is not gone at the source, and is not made anew in silence"
    );
    assert!(
        said(&outcome, "berthing Ada")
            .contains("was deleted in berthing by others: `eager-tide identities split`")
    );
    // Split by hand: the link is ended, and a new account may be made.
    world.population.links.retain(|link| link.account != id);
    let again = world.decide();
    assert_eq!(
        (again.changes.len(), again.changes[0].kind),
        (1, ChangeKind::Create)
    );
}

#[test]
fn who_is_here_again_gets_everything_that_changed_meanwhile() {
    let mut world = World::new();
    let id = ada(&mut world);
    let first = world.decide();
    world.carry_out(&first);
    world.gone(id);
    let gone = world.decide();
    world.carry_out(&gone);
    world
        .at(id)
        .attributes
        .set("cn", vec![Value::text("Ada Holm")]);
    assert!(
        world.decide().changes.is_empty(),
        "nothing is sent for who is gone"
    );
    world.at(id).absent_since = None;
    let back = world.decide();
    let kinds: Vec<ChangeKind> = back.changes.iter().map(|c| c.kind).collect();
    assert_eq!(kinds, [ChangeKind::Enable, ChangeKind::Update]);
    assert_eq!(back.identities[0].0.stage, Stage::Active);
}

#[test]
fn an_account_that_needs_review_is_not_orphaned() {
    let mut world = World::new();
    ada(&mut world);
    world.account("berthing", "b1", &[("number", "1")]);
    world.account("berthing", "b2", &[("number", "1")]);
    world.account("berthing", "b3", &[("number", "99")]);
    let outcome = world.decide();
    assert!(
        said(&outcome, "berthing b1 orphaned")
            .contains("it may belong to Ada Lind, who is on hold until the match is reviewed")
    );
    assert!(said(&outcome, "berthing b3 orphaned").contains("no identity matches; left unchanged"));
}

#[test]
fn a_fingerprint_is_the_same_only_for_the_same_change() {
    let mut world = World::new();
    let id = ada(&mut world);
    let one = world.decide().changes[0].fingerprint.clone();
    assert_eq!(one, world.decide().changes[0].fingerprint);
    world
        .at(id)
        .attributes
        .set("cn", vec![Value::text("Ada Holm")]);
    assert_ne!(one, world.decide().changes[0].fingerprint);
}

#[test]
fn what_needs_eyes_stands_first() {
    let mut world = World::new();
    ada(&mut world);
    world.account("harbour", "waiting", &[("number", "5"), ("cn", "Zed")]);
    world.account("harbour", "guest", &[("cn", "Guest")]);
    let verdicts: Vec<Verdict> = world
        .decide()
        .decided
        .iter()
        .map(|line| line.verdict)
        .collect();
    assert_eq!(
        verdicts,
        [
            Verdict::OnHold,
            Verdict::OnHold,
            Verdict::Create,
            Verdict::OutOfScope,
            Verdict::Source
        ]
    );
}

#[test]
fn an_explanation_tells_each_state_of_a_value() {
    let mut world = World::new();
    let id = ada(&mut world);
    let first = world.decide();
    world.carry_out(&first);
    let state = |world: &World, attribute: &str| {
        let outcome = world.decide();
        let found = crate::explain::explain(&world.rules, &world.population, &outcome, "1");
        let line = found[0]
            .accounts
            .iter()
            .find(|a| a.decided.system == "berthing")
            .expect("a line")
            .clone();
        line.values
            .iter()
            .find(|v| v.attribute == attribute)
            .map(|v| (v.current.clone(), v.wanted.clone(), v.state))
            .expect("a value")
    };
    assert_eq!(state(&world, "displayName").2, ValueState::InSync);
    world
        .at(id)
        .attributes
        .set("cn", vec![Value::text("Ada Holm")]);
    assert_eq!(
        state(&world, "displayName"),
        ("Ada Lind".into(), "Ada Holm".into(), ValueState::WillBeSet)
    );
    world.gone(id);
    let outcome = world.decide();
    let found = crate::explain::explain(&world.rules, &world.population, &outcome, "ada");
    assert_eq!(found[0].stage, Some(Stage::Left));
    let lines: Vec<(&str, ReasonCode)> = found[0]
        .accounts
        .iter()
        .map(|a| (a.decided.system.as_str(), a.decided.reason.code()))
        .collect();
    assert_eq!(lines[0], ("harbour", ReasonCode::GoneFromSystem));
    assert_eq!(lines[1].1, ReasonCode::DeletionReported);
    let created = crate::explain::explain(&world.rules, &World::new().population, &outcome, "ada");
    assert!(
        !created.is_empty(),
        "a person is found by a value of the identity, whatever accounts there are"
    );
}

#[test]
fn the_most_exact_meaning_of_a_text_wins() {
    let mut world = World::new();
    ada(&mut world);
    world.account(
        "harbour",
        "adalbert",
        &[("number", "10"), ("cn", "Ada Lindgren"), ("mail", "al@e")],
    );
    let outcome = world.decide();
    let found =
        |text: &str| crate::explain::explain(&world.rules, &world.population, &outcome, text).len();
    assert_eq!(found("Ada Lind"), 1, "the whole name is one person's");
    assert_eq!(found("ada lin"), 2, "a part of it is two people's");
    assert_eq!(found("1"), 1, "a number is a number, not a part of one");
    assert_eq!(found(""), 0);
}

#[test]
fn a_verdict_is_explained_by_the_change_that_gave_it() {
    let mut world = World::new();
    let id = ada(&mut world);
    let first = world.decide();
    world.carry_out(&first);
    let made = world.population.accounts.last().expect("made").id;
    world
        .at(made)
        .attributes
        .set("active", vec![Value::Bool(false)]);
    world
        .at(id)
        .attributes
        .set("cn", vec![Value::text("Ada Holm")]);
    world
        .at(id)
        .attributes
        .set("mail", vec![Value::text("ada.holm@skerry.example")]);
    let outcome = world.decide();
    let kinds: Vec<ChangeKind> = outcome.changes.iter().map(|c| c.kind).collect();
    assert_eq!(
        kinds,
        [ChangeKind::Enable, ChangeKind::Rename, ChangeKind::Update]
    );
    assert_eq!(
        said(&outcome, "berthing Ada"),
        "berthing Ada Holm enable: active should be true"
    );
}

#[test]
fn a_person_dropped_by_one_source_and_missing_in_another_is_waited_for() {
    let mut world = World::new();
    let id = ada(&mut world);
    let first = world.decide();
    world.carry_out(&first);
    let other = world.account(
        "harbour",
        "ada2",
        &[
            ("number", "1"),
            ("cn", "Ada Lind"),
            ("mail", "Ada@skerry.example"),
        ],
    );
    world.population.links.push(Link {
        account: other,
        identity: first.identities[0].0.id.clone(),
        basis: LinkBasis::new(LinkOrigin::MatchRule, "by hand"),
    });
    assert!(world.decide().changes.is_empty());
    world
        .at(id)
        .attributes
        .set("dn", vec![Value::text("cn=ada,ou=former,dc=e")]);
    world.at(other).absent_since = Some(Timestamp::UNIX_EPOCH);
    let waiting = world.decide();
    assert_eq!(
        (waiting.changes.len(), waiting.identities[0].0.stage),
        (0, Stage::Active),
        "{:#?}",
        lines(&waiting)
    );
    assert_eq!(waiting.due.len(), 1);
    world.at(other).absence_confirmed = true;
    let left = world.decide();
    assert_eq!(
        (left.changes[0].kind, left.identities[0].0.stage),
        (ChangeKind::Disable, Stage::Left)
    );
    // Whoever left does not come back because an absence is new.
    world.carry_out(&left);
    world.at(other).absence_confirmed = false;
    let still = world.decide();
    assert_eq!(
        (still.changes.len(), still.identities[0].0.stage),
        (0, Stage::Left),
        "{:#?}",
        lines(&still)
    );
}

#[test]
fn what_is_forgotten_is_decided_anew_and_the_rest_stays() {
    let mut world = World::new();
    let first = ada(&mut world);
    let second = world.account(
        "harbour",
        "h2",
        &[("number", "2"), ("cn", "Bo Mast"), ("mail", "bo@e")],
    );
    let whole = world.decide();
    let ids: Vec<String> = whole
        .identities
        .iter()
        .map(|(one, _)| one.id.clone())
        .collect();
    let owner = |account: AccountId| {
        let mut links = whole.links.iter();
        let link = links.find(|link| link.account == account);
        link.map(|link| link.identity.clone()).expect("linked")
    };
    assert_eq!(ids.len(), 2);
    let about = Records {
        accounts: [first].into(),
        identities: [owner(first)].into(),
    };
    let mut rest = whole.clone();
    rest.forget(&about);
    let left: Vec<&str> = rest
        .identities
        .iter()
        .map(|(one, _)| one.id.as_str())
        .collect();
    assert_eq!(left, [owner(second)]);
    assert!(rest.links.iter().all(|link| link.account == second));
    assert!(
        rest.changes
            .iter()
            .all(|change| change.identity == owner(second))
    );
    assert!(rest.decided.iter().all(|line| line.account != Some(first)));
    // With what was forgotten, it is the whole again.
    let mut others = whole.clone();
    others.forget(&Records {
        accounts: [second].into(),
        identities: [owner(second)].into(),
    });
    rest.append(others);
    apply_totals(&world.rules, &Totals::default(), &mut rest);
    assert_eq!(lines(&rest), lines(&whole));
    assert_eq!(rest.changes, whole.changes);
}

#[test]
fn the_expected_steps_follow_the_records() {
    let mut world = World::new();
    let counts = |world: &World| RecordCounts::of(&world.population).steps(&world.rules);
    assert_eq!(counts(&world), 0);
    ada(&mut world);
    // Its account, its identity, and its account in the target, twice.
    assert_eq!(counts(&world), 4);
    let mut twice = RecordCounts::of(&world.population);
    twice.add(&world.population);
    assert_eq!(twice.steps(&world.rules), 8);
}
