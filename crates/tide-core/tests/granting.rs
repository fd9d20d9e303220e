//! What somebody is given beside an account: groups, seats, a place among several, a password; and
//! who is told.
#![allow(clippy::disallowed_methods, reason = "tests run in real time")]

mod common;

use common::{World, line};
use jiff::Timestamp;
use tide_core::decide::licenses::{SeatUse, seat_effects};
use tide_core::decide::notifications::Recipient;
use tide_core::decide::{Change, Verdict};
use tide_core::model::{PendingPassword, RuleMembership};
use tide_core::rules::{FaultSeverity, RuleFile};
use tide_core::schema::ValueKind;
use tide_core::states::{ChangeKind, LinkBasis};
use tide_core::{
    AttributeDef, Identity, Link, ObjectType, Outcome, RuleSet, Schema, Stage, SystemFacts, Value,
    decide,
};

const IDENTITIES: &str = "[person]\nlabel = \"name\"\n[person.attributes]\nnumber = { required = true, unique = true }\nname = {}\nteam = {}\nends = {}\nused = {}\n\
    boss = { reference = \"person\", by = \"number\" }\n[group.attributes]\ntitle = {}\nmembers = { multi_valued = true, reference = [\"person\", \"group\"] }\n";
const HARBOUR: &str = "system = \"harbour\"\n[[person.match]]\naccount = 'account.number'\nidentity = 'identity.number'\n[person.inbound]\nnumber = 'account.number'\nname = 'account.name'\n\
    team = 'account.team'\nends = 'account.ends'\nused = 'account.used'\nboss = 'account.boss'\n[group.inbound]\ntitle = 'account.cn'\nmembers = 'values(account.member)'\n";
const BERTHING: &str = "system = \"berthing\"\n[person]\nPERSON\n[[person.match]]\naccount = 'account.number'\nidentity = 'identity.number'\n[person.outbound]\nnumber = 'identity.number'\nactive = 'true'\n";

fn noon() -> Timestamp {
    "2026-11-23T12:00:00Z".parse().expect("a moment")
}

/// A world in which `person` stands in the rules of berthing, and `more` are further files.
fn world(person: &str, more: &[(&str, &str)]) -> World {
    let berthing = BERTHING.replace("PERSON", person);
    let mut files = vec![
        ("identities.toml", IDENTITIES),
        ("harbour.toml", HARBOUR),
        ("berthing.toml", berthing.as_str()),
    ];
    for (name, text) in more {
        files.retain(|(known, _)| known != name);
        files.push((name, text));
    }
    let mut world = World::new(&files);
    let mut group = Schema {
        name_attribute: Some("displayName".into()),
        ..Schema::default()
    };
    group.put(AttributeDef::text("displayName"));
    group.put(AttributeDef {
        kind: ValueKind::Reference,
        multi_valued: true,
        ..AttributeDef::text("members")
    });
    let mut desk = Schema {
        state_attribute: Some("active".into()),
        ..Schema::default()
    };
    ["number", "side"]
        .iter()
        .for_each(|name| desk.put(AttributeDef::text(*name)));
    desk.put(AttributeDef {
        kind: ValueKind::Bool,
        ..AttributeDef::text("active")
    });
    let both = vec![ObjectType::Person, ObjectType::Group];
    let facts = SystemFacts {
        schema: std::sync::Arc::new(
            [(ObjectType::Person, desk), (ObjectType::Group, group)].into(),
        ),
        writable: both.clone(),
        read: both,
        ..SystemFacts::default()
    };
    world
        .population
        .systems
        .insert("berthing".into(), facts.clone());
    world.population.systems.insert("classroom".into(), facts);
    world
}

fn sailor(world: &mut World, number: &str, more: &[(&str, &str)]) {
    let name = format!("Person {number}");
    let values: Vec<(&str, &str)> = [("number", number), ("name", &name)]
        .into_iter()
        .chain(more.iter().copied())
        .collect();
    world.add(
        "harbour",
        ObjectType::Person,
        &format!("uid={number}"),
        &values,
    );
}

/// Keeps and carries out what was decided, at the moment that it was decided for, and decides
/// again.
fn on(world: &mut World, outcome: &Outcome) -> Outcome {
    let population = &mut world.population;
    for (identity, _) in &outcome.identities {
        population
            .identities
            .retain(|known| known.id != identity.id);
        population.identities.push(identity.clone());
    }
    population.identities.sort_by(|a, b| a.id.cmp(&b.id));
    for link in &outcome.links {
        population.links.push(Link {
            account: link.account,
            identity: link.identity.clone(),
            basis: link.basis.clone(),
        });
    }
    for change in outcome
        .changes
        .iter()
        .filter(|change| change.hold.is_none())
        .cloned()
        .collect::<Vec<_>>()
    {
        carry_out(world, &change, outcome.at);
    }
    decide(&world.rules, &world.population, outcome.at)
}

fn carry_out(world: &mut World, change: &Change, at: Timestamp) {
    let id = match change.account {
        Some(id) => id,
        None => {
            world.add(&change.system, change.object, &change.label, &[]);
            let id = world.population.accounts.len() as i64;
            world.population.links.push(Link {
                account: id,
                identity: change.identity.clone(),
                basis: LinkBasis::created(),
            });
            id
        }
    };
    let own = world
        .population
        .links
        .iter()
        .map(|link| (link.identity.as_str(), link.account));
    let key = |identity: &str| {
        let mut accounts = own
            .clone()
            .filter(|(whose, _)| *whose == identity)
            .map(|(_, account)| &world.population.accounts[account as usize - 1]);
        accounts
            .find(|account| account.system == change.system)
            .map(|account| account.key.clone())
    };
    let mut values = change.values.clone();
    for value in &mut values {
        let later: Vec<Value> = value
            .later
            .iter()
            .filter_map(|later| key(&later.identity))
            .map(Value::Reference)
            .collect();
        value.after.extend(later);
    }
    let account = &mut world.population.accounts[id as usize - 1];
    match change.kind {
        ChangeKind::Grant | ChangeKind::Revoke => {
            let value = &values[0];
            let there = account
                .attributes
                .get(&value.attribute)
                .iter()
                .filter(|one| !value.before.contains(one));
            let members = there.chain(&value.after).cloned().collect();
            account.attributes.set(&value.attribute, members);
            world
                .population
                .rule_memberships
                .retain(|one| one.identity != change.identity || one.group != id);
            if change.kind == ChangeKind::Grant {
                let member = value
                    .after
                    .first()
                    .map(ToString::to_string)
                    .unwrap_or_default();
                let folded = tide_core::references::fold_reference(&member);
                world.population.rule_memberships.push(RuleMembership {
                    identity: change.identity.clone(),
                    group: id,
                    created_at: at,
                    member,
                    folded,
                });
            }
        }
        ChangeKind::Delete => account.absent_since = Some(at),
        ChangeKind::Password => {
            world
                .population
                .write_history
                .entry(id)
                .or_default()
                .password = Some(at)
        }
        _ => values.iter().for_each(|value| {
            account
                .attributes
                .set(&value.attribute, value.after.clone())
        }),
    }
}

/// What is sent, as `kind label: reason`.
fn sent(outcome: &Outcome) -> Vec<String> {
    outcome
        .changes
        .iter()
        .filter(|c| c.hold.is_none())
        .map(|c| format!("{} {}: {}", c.kind, c.label, c.reason))
        .collect()
}

fn group(world: &mut World, system: &str, name: &str) -> i64 {
    let attribute = if system == "harbour" {
        "cn"
    } else {
        "displayName"
    };
    world.add(
        system,
        ObjectType::Group,
        &format!("group {name}"),
        &[(attribute, name)],
    );
    world.population.accounts.len() as i64
}

fn members(world: &World, group: i64) -> Vec<String> {
    world.population.accounts[group as usize - 1]
        .attributes
        .get("members")
        .iter()
        .map(ToString::to_string)
        .collect()
}

#[test]
fn rules_add_and_remove_members_and_keep_manual_ones() {
    let mut world = world(
        "[[person.membership]]\nwhen = 'identity.team != null'\ngroups = 'identity.team'\n",
        &[],
    );
    let (deck, galley) = (
        group(&mut world, "berthing", "Deck"),
        group(&mut world, "berthing", "Galley"),
    );
    sailor(&mut world, "1", &[("team", "Deck")]);
    let outcome = world.decide();
    // The account comes first, and the membership in the same run.
    let said = sent(&outcome);
    assert!(
        said.iter().any(|one| one.starts_with("create Person 1"))
            && said
                .iter()
                .any(|one| one.starts_with("grant Person 1: joins Deck")),
        "{said:?}"
    );
    let quiet = on(&mut world, &outcome);
    assert!(sent(&quiet).is_empty(), "{:?}", sent(&quiet));
    let own = members(&world, deck);
    assert_eq!(own.len(), 1);
    // Somebody puts them into another group by hand: that is left alone.
    world.population.accounts[galley as usize - 1]
        .attributes
        .set("members", vec![Value::Reference(own[0].clone())]);
    assert!(sent(&world.decide()).is_empty());
    // They move: the group of the rule is left, the one by hand stays, and was theirs already.
    world.population.accounts[2]
        .attributes
        .set("team", vec![Value::text("Galley")]);
    let outcome = world.decide();
    assert_eq!(
        sent(&outcome),
        ["revoke Person 1: leaves Deck: the rule that added the member no longer applies"]
    );
    on(&mut world, &outcome);
    assert!(members(&world, deck).is_empty());
    // Once the rule no longer wants it either, what was made by hand is still not ours.
    world.population.accounts[2]
        .attributes
        .set("team", Vec::new());
    assert!(sent(&world.decide()).is_empty());
}

#[test]
fn unmanaged_members_are_removed_and_removed_members_are_repaired_or_reported() {
    let rules = "on_drift = \"report\"\n[[person.membership]]\ngroups = 'identity.team'\nremove_unmanaged = [\"Galley\"]\n";
    let mut world = world(rules, &[]);
    let (deck, galley) = (
        group(&mut world, "berthing", "Deck"),
        group(&mut world, "berthing", "Galley"),
    );
    sailor(&mut world, "1", &[("team", "Deck")]);
    let first = world.decide();
    on(&mut world, &first);
    let own = Value::Reference(members(&world, deck)[0].clone());
    world.population.accounts[galley as usize - 1]
        .attributes
        .set("members", vec![own, Value::Reference("a stranger".into())]);
    let outcome = world.decide();
    assert_eq!(
        sent(&outcome),
        [
            "revoke Person 1: leaves Galley: no rule adds the member, and unmanaged members are removed"
        ]
    );
    on(&mut world, &outcome);
    assert_eq!(
        members(&world, galley),
        ["a stranger"],
        "whoever is not known here is nobody's to take out"
    );
    world.population.accounts[deck as usize - 1]
        .attributes
        .set("members", Vec::new());
    let outcome = world.decide();
    assert!(sent(&outcome).is_empty());
    let (verdict, why) = line(&outcome, "berthing", "Person 1");
    assert_eq!(verdict, Verdict::Update);
    assert!(why.contains("drift"), "{why}");
}

#[test]
fn departures_remove_all_memberships_when_the_step_is_due() {
    let rules = "[[person.membership]]\ngroups = 'identity.team'\n[[person.departure]]\nstep = \"disable\"\n[[person.departure]]\nstep = \"revoke\"\nafter_days = 3\n";
    let mut world = world(
        rules,
        &[("lifecycle.toml", "[person]\nends = 'identity.ends'\n")],
    );
    let (deck, galley) = (
        group(&mut world, "berthing", "Deck"),
        group(&mut world, "berthing", "Galley"),
    );
    sailor(&mut world, "1", &[("team", "Deck")]);
    let first = world.decide();
    on(&mut world, &first);
    let own = Value::Reference(members(&world, deck)[0].clone());
    world.population.accounts[galley as usize - 1]
        .attributes
        .set("members", vec![own]);
    world.population.accounts[2]
        .attributes
        .set("ends", vec![Value::text("2026-11-22")]);
    let outcome = world.decide();
    assert_eq!(
        outcome.changes.iter().map(|c| c.kind).collect::<Vec<_>>(),
        [ChangeKind::Disable]
    );
    on(&mut world, &outcome);
    let later = decide(
        &world.rules,
        &world.population,
        "2026-11-26T00:00:00Z".parse().expect("valid"),
    );
    let kinds: Vec<(ChangeKind, u16)> = later.changes.iter().map(|c| (c.kind, c.step)).collect();
    assert_eq!(
        kinds,
        [(ChangeKind::Revoke, 2), (ChangeKind::Revoke, 2)],
        "{:?}",
        sent(&later)
    );
    on(&mut world, &later);
    assert!(members(&world, deck).is_empty() && members(&world, galley).is_empty());
}

#[test]
fn seats_are_counted_and_the_waiting_list_advances_in_order() {
    let licenses = "[[license]]\nname = \"desks\"\nsystem = \"berthing\"\nseats = 2\nconsumed_when = 'account.active == true'\nassign_order = 'identity.number'\n";
    let mut world = world(
        "",
        &[
            ("licenses.toml", licenses),
            ("lifecycle.toml", "[person]\nends = 'identity.ends'\n"),
        ],
    );
    for number in ["12", "3", "7"] {
        sailor(&mut world, number, &[]);
    }
    let outcome = world.decide();
    let held = |outcome: &Outcome| -> Vec<(String, String)> {
        outcome
            .changes
            .iter()
            .filter_map(|c| Some((c.label.clone(), c.hold.as_ref()?.to_string())))
            .collect()
    };
    let why = "waiting for a seat of desks: 0 of 2 are in use, and 2 are ahead";
    assert_eq!(
        held(&outcome),
        [("Person 12".to_owned(), why.to_owned())],
        "numbers are ordered as numbers"
    );
    let outcome = on(&mut world, &outcome);
    assert_eq!(held(&outcome).len(), 1);
    // Somebody leaves: their seat is free when that is confirmed, and not before.
    world.population.accounts[1]
        .attributes
        .set("ends", vec![Value::text("2026-11-22")]);
    let outcome = world.decide();
    assert_eq!(sent(&outcome).len(), 1);
    assert_eq!(held(&outcome).len(), 1);
    let effects = seat_effects(&world.rules, &world.population, &outcome);
    let effects: Vec<(&str, SeatUse)> = effects
        .iter()
        .map(|one| (one.label.as_str(), one.seat))
        .collect();
    assert_eq!(
        effects,
        [("Person 12", SeatUse::Takes), ("Person 3", SeatUse::Frees)]
    );
    let outcome = on(&mut world, &outcome);
    assert_eq!(
        sent(&outcome),
        ["create Person 12: in scope; no account of berthing matches"]
    );
    assert!(sent(&on(&mut world, &outcome)).is_empty());
}

#[test]
fn new_accounts_are_spread_and_stay_where_they_are() {
    let spread = |how: &str| {
        format!(
            "{}\n[person.attributes.side]\ndistribute = [\"port\", \"starboard\"]\n{how}",
            IDENTITIES
                .replace("[group", "[x.group")
                .split("[x.group")
                .next()
                .unwrap_or_default()
        )
    };
    let sides = |world: &World| -> Vec<(String, String)> {
        let mut all: Vec<(String, String)> = world
            .population
            .identities
            .iter()
            .filter(|identity| identity.stage != Stage::Left)
            .map(|i| {
                (
                    i.attributes.get("number")[0].to_string(),
                    i.attributes.get("side")[0].to_string(),
                )
            })
            .collect();
        all.sort();
        all
    };
    let harbour = HARBOUR
        .split("[group")
        .next()
        .unwrap_or_default()
        .to_owned();
    for (how, expected) in [("", "port"), ("strategy = \"round_robin\"\n", "starboard")] {
        let identities = spread(how);
        let berthing = format!("{}side = 'identity.side'\n", BERTHING.replace("PERSON", ""));
        let mut world = world(
            "",
            &[
                ("identities.toml", &identities),
                ("harbour.toml", &harbour),
                ("berthing.toml", &berthing),
            ],
        );
        (1..=5).for_each(|n| sailor(&mut world, &n.to_string(), &[]));
        let first = world.decide();
        on(&mut world, &first);
        let before = sides(&world);
        let ports = before.iter().filter(|(_, side)| side == "port").count();
        assert_eq!(ports, 3, "five over two: {before:?}");
        // Two of port leave: the next goes where the fewest are, or to whose turn it is.
        for (number, _) in before.iter().filter(|(_, side)| side == "port").take(2) {
            let at = number.parse::<usize>().expect("a number") - 1;
            world.population.accounts[at].absent_since = Some(noon());
            world.population.accounts[at].absence_confirmed = true;
        }
        let left = world.decide();
        on(&mut world, &left);
        sailor(&mut world, "9", &[]);
        let again = world.decide();
        on(&mut world, &again);
        let after = sides(&world);
        assert_eq!(
            after
                .iter()
                .find(|(number, _)| number == "9")
                .map(|(_, side)| side.as_str()),
            Some(expected),
            "{after:?}"
        );
        assert!(
            after
                .iter()
                .filter(|(number, _)| number != "9")
                .all(|one| before.contains(one)),
            "nobody is moved"
        );
    }
}

#[test]
fn what_comes_first_is_waited_for() {
    let classroom = BERTHING
        .replace("berthing", "classroom")
        .replace("PERSON", "depends_on = [\"berthing\"]");
    let mut world = world("", &[("classroom.toml", &classroom)]);
    sailor(&mut world, "1", &[]);
    let outcome = world.decide();
    assert_eq!(
        line(&outcome, "classroom", "Person 1"),
        (
            Verdict::OnHold,
            "waiting for an account in berthing".to_owned()
        )
    );
    let outcome = on(&mut world, &outcome);
    assert_eq!(line(&outcome, "classroom", "Person 1").0, Verdict::Create);
    // A circle is refused, and so is a system in which nobody gets an account.
    let faults = |berthing: &str| {
        let files = [
            ("identities.toml", IDENTITIES),
            ("harbour.toml", HARBOUR),
            ("berthing.toml", berthing),
            ("classroom.toml", &classroom),
        ];
        let files: Vec<RuleFile> = files
            .iter()
            .map(|(name, text)| RuleFile {
                name: (*name).into(),
                text: (*text).into(),
            })
            .collect();
        let faults = RuleSet::load(&files, &Default::default()).1;
        faults
            .into_iter()
            .filter(|fault| fault.severity == FaultSeverity::Error)
            .map(|fault| fault.message)
            .collect::<Vec<_>>()
    };
    assert!(
        faults(&BERTHING.replace("PERSON", "depends_on = [\"classroom\"]"))
            .iter()
            .any(|one| one.contains("depends on itself"))
    );
    assert!(
        faults(&BERTHING.replace("PERSON", "depends_on = [\"harbour\"]"))
            .iter()
            .any(|one| one.contains("which receives no accounts"))
    );
}

#[test]
fn who_uses_nothing_leaves_and_is_claimed_back_for_as_long_again() {
    let life = "[person]\nused = 'identity.used'\ninactive_after_days = 30\n";
    let mut world = world("", &[("lifecycle.toml", life)]);
    sailor(&mut world, "1", &[("used", "2026-10-20T08:00:00Z")]);
    sailor(&mut world, "2", &[("used", "2026-11-20T08:00:00Z")]);
    sailor(&mut world, "3", &[]);
    let outcome = world.decide();
    let stages = |outcome: &Outcome| -> Vec<(String, Stage)> {
        let mut all: Vec<_> = outcome
            .identities
            .iter()
            .filter(|(i, _)| i.kind == ObjectType::Person)
            .map(|(i, label)| (label.clone(), i.stage))
            .collect();
        all.sort_by(|a, b| a.0.cmp(&b.0));
        all
    };
    let expected = [
        ("Person 1", Stage::Left),
        ("Person 2", Stage::Active),
        ("Person 3", Stage::Active),
    ];
    assert_eq!(
        stages(&outcome),
        expected.map(|(label, stage)| (label.to_owned(), stage))
    );
    let (first, _) = outcome
        .identities
        .iter()
        .find(|(_, label)| label == "Person 1")
        .expect("there");
    assert_eq!(first.attributes.get("leftBy"), [Value::text("unused")]);
    let id = first.id.clone();
    world.population.reactivations.insert(id.clone(), noon());
    let outcome = world.decide();
    assert!(
        stages(&outcome)
            .iter()
            .all(|(_, stage)| *stage == Stage::Active)
    );
    let due = outcome
        .due
        .iter()
        .filter(|(whose, _)| *whose == id)
        .map(|(_, at)| *at)
        .min();
    assert_eq!(
        due,
        Some("2026-12-23T12:00:00Z".parse().expect("valid")),
        "and then they have left again"
    );
}

const NOTIFICATIONS: &str = r#"
[[notification]]
name = "welcome"
on = "arrived"
recipient = "boss"
text = '"Please welcome " + identity.name'
[[notification]]
name = "new in a group"
on = "joined_group"
recipient = "owner"
text = 'identity.name + " is new"'
[[notification]]
name = "seats"
on = "no_seat"
text = 'identity.name + " waits for a seat"'
[[notification]]
name = "come in"
on = "not_arrived"
system = "berthing"
recipient = "themselves"
when = 'account.lastSignIn == null'
after_days = 2
repeat_every_days = 7
text = '"Your account is ready"'
"#;

const TEAM_GROUPS: &str = "[[person.membership]]\ngroups = 'identity.team'\n";

fn seats(number: u32) -> String {
    format!(
        "[[license]]\nname = \"desks\"\nsystem = \"berthing\"\nseats = {number}\nconsumed_when = 'account.active == true'\nassign_order = 'identity.number'\n"
    )
}

/// Two people, of whom the second has the first as manager and joins a group with an owner.
fn world_with_seats(number: u32) -> World {
    let mut world = world(
        TEAM_GROUPS,
        &[
            ("notifications.toml", NOTIFICATIONS),
            ("licenses.toml", &seats(number)),
        ],
    );
    let deck = group(&mut world, "berthing", "Deck");
    world.population.accounts[deck as usize - 1]
        .attributes
        .set("owner", vec![Value::text("uid=1")]);
    sailor(&mut world, "1", &[]);
    sailor(&mut world, "2", &[("team", "Deck"), ("boss", "1")]);
    world
}

/// The rule, text and recipients of each notification.
fn sent_notifications(outcome: &Outcome) -> Vec<(String, String, Vec<Recipient>)> {
    let all = outcome.notifications.iter();
    all.map(|one| (one.rule.clone(), one.text.clone(), one.to.clone()))
        .collect()
}

#[test]
fn who_waits_for_a_seat_is_reported_and_not_welcomed() {
    let mut world = world_with_seats(1);
    let outcome = world.decide();
    assert_eq!(
        sent_notifications(&outcome),
        [(
            "seats".to_owned(),
            "Person 2 waits for a seat".to_owned(),
            vec![Recipient::Operators]
        )]
    );
    let outcome = on(&mut world, &outcome);
    assert_eq!(sent_notifications(&outcome).len(), 1, "no welcome");
}

#[test]
fn managers_and_group_owners_are_notified_once_all_is_done() {
    let mut world = world_with_seats(2);
    let outcome = world.decide();
    assert!(sent_notifications(&outcome).is_empty());
    let outcome = on(&mut world, &outcome);
    let boss = identity_of(&world, "1");
    let expected = [
        (
            "new in a group".to_owned(),
            "Person 2 is new".to_owned(),
            vec![Recipient::Account("berthing".into(), "uid=1".into())],
        ),
        (
            "welcome".to_owned(),
            "Please welcome Person 2".to_owned(),
            vec![Recipient::Identity(boss)],
        ),
    ];
    assert_eq!(sent_notifications(&outcome), expected);
    // A day later, the same notifications have the same keys.
    let keys: Vec<&String> = outcome.notifications.iter().map(|one| &one.key).collect();
    let soon = decide(
        &world.rules,
        &world.population,
        "2026-11-24T12:00:00Z".parse().expect("valid"),
    );
    assert!(
        soon.notifications
            .iter()
            .all(|one| keys.contains(&&one.key)),
        "{:?}",
        soon.notifications
    );
}

/// After two days without a sign-in, and every seven days after that.
#[test]
fn who_never_signed_in_is_invited_again() {
    let mut world = world_with_seats(2);
    let outcome = world.decide();
    on(&mut world, &outcome);
    let at = |text: &str| {
        decide(
            &world.rules,
            &world.population,
            text.parse().expect("valid"),
        )
    };
    let invited = |text: &str| -> Vec<String> {
        at(text)
            .notifications
            .iter()
            .filter(|one| one.rule == "come in")
            .map(|one| one.key.rsplit('|').next().unwrap_or_default().to_owned())
            .collect()
    };
    assert_eq!(invited("2026-11-25T11:59:00Z").len(), 0);
    assert_eq!(invited("2026-11-25T12:00:00Z"), ["0", "0"]);
    assert_eq!(invited("2026-12-01T12:00:00Z"), ["0", "0"]);
    assert_eq!(invited("2026-12-02T12:00:00Z"), ["1", "1"]);
    let due = at("2026-11-26T12:00:00Z")
        .due
        .iter()
        .map(|(_, at)| *at)
        .min();
    assert_eq!(due, Some("2026-12-02T12:00:00Z".parse().expect("valid")));
}

#[test]
fn a_password_that_was_set_goes_to_all_others_once() {
    let classroom = BERTHING.replace("berthing", "classroom").replace(
        "PERSON",
        "[person.password]\nattribute = \"password\"\nsync = true\ninitial = false\n",
    );
    let mut world = world(
        "[person.password]\nattribute = \"password\"\nsync = true\n",
        &[("classroom.toml", &classroom)],
    );
    sailor(&mut world, "1", &[]);
    let first = world.decide();
    on(&mut world, &first);
    let identity: &Identity = &world.population.identities[0];
    let set = PendingPassword {
        id: 4,
        identity: Some(identity.id.clone()),
        account: None,
        created_at: noon(),
        must_change: true,
    };
    world.population.password_sets.push(set.clone());
    let outcome = world.decide();
    let kinds: Vec<(&str, ChangeKind)> = outcome
        .changes
        .iter()
        .map(|c| (c.system.as_str(), c.kind))
        .collect();
    assert_eq!(
        kinds,
        [
            ("berthing", ChangeKind::Password),
            ("classroom", ChangeKind::Password)
        ]
    );
    let text = serde_json::to_string(&outcome.changes).expect("written");
    assert!(
        text.contains("mustChange") && outcome.changes.iter().all(|c| c.values[0].after.is_empty()),
        "nothing of the password stands in a change"
    );
    assert!(sent(&on(&mut world, &outcome)).is_empty());
    // One that comes from an account goes to all but that, and is another change.
    let berthing = world
        .population
        .accounts
        .iter()
        .find(|a| a.system == "berthing")
        .expect("made")
        .id;
    let later: Timestamp = "2026-11-23T13:00:00Z".parse().expect("valid");
    world.population.password_sets.push(PendingPassword {
        id: 5,
        identity: None,
        account: Some(berthing),
        created_at: later,
        must_change: false,
    });
    let again = decide(&world.rules, &world.population, later);
    let kinds: Vec<&str> = again.changes.iter().map(|c| c.system.as_str()).collect();
    assert_eq!(kinds, ["classroom"]);
    assert_ne!(again.changes[0].fingerprint, outcome.changes[1].fingerprint);
}

#[test]
fn nested_groups_are_flattened_where_a_target_keeps_none() {
    let groups = "[[group.match]]\naccount = 'account.displayName'\nidentity = 'identity.title'\n[group.outbound]\ndisplayName = { value = 'identity.title', required = true }\n\
        members = { value = 'identity.members', nested = \"flatten\" }\n";
    let berthing = format!("{}{groups}", BERTHING.replace("PERSON", ""));
    let mut world = world("", &[("berthing.toml", &berthing)]);
    sailor(&mut world, "1", &[]);
    sailor(&mut world, "2", &[]);
    let (inner, outer) = (
        group(&mut world, "harbour", "watch"),
        group(&mut world, "harbour", "crew"),
    );
    let put = |world: &mut World, group: i64, members: &[&str]| {
        let members = members
            .iter()
            .map(|name| Value::Reference((*name).to_owned()))
            .collect();
        world.population.accounts[group as usize - 1]
            .attributes
            .set("member", members);
    };
    put(&mut world, inner, &["uid=2", "group crew"]);
    put(&mut world, outer, &["uid=1", "group watch"]);
    let first = world.decide();
    let second = on(&mut world, &first);
    on(&mut world, &second);
    let crew = world.population.accounts.iter().find(|a| {
        a.system == "berthing" && a.attributes.get("displayName") == [Value::text("crew")]
    });
    assert_eq!(
        crew.expect("made").attributes.get("members").len(),
        2,
        "both persons, no group, whatever circle they form"
    );
}

fn identity_of(world: &World, number: &str) -> String {
    let people = &world.population.identities;
    let found = people
        .iter()
        .find(|one| one.attributes.get("number") == [Value::text(number)]);
    found.expect("kept").id.clone()
}

#[test]
fn a_membership_is_approved_for_its_member_by_their_boss_or_the_groups_owner() {
    const JOINS: &str = "[[person.membership]]\ngroups = '[\"Deck\", \"Choir\"]'\n";
    let asked = "[[approval]]\nname = \"boss\"\nchange = \"grant\"\nwhen = 'identity.number == \"1\"'\nchoose_up_to = 1\n[[approval.level]]\nof = \"boss\"\n\
                 [[approval]]\nname = \"owner\"\nchange = [\"grant\", \"revoke\"]\n[[approval.level]]\nof = \"owner\"\n";
    let mut world = world(
        &format!("depends_on = []\n{JOINS}"),
        &[("approvals.toml", asked)],
    );
    for name in ["Deck", "Choir"] {
        world.add(
            "berthing",
            ObjectType::Group,
            name,
            &[("displayName", name), ("owner", "owner of it")],
        );
    }
    sailor(&mut world, "1", &[("boss", "2")]);
    sailor(&mut world, "2", &[]);
    let first = decide(&world.rules, &world.population, noon());
    let grants = |outcome: &Outcome| {
        outcome
            .changes
            .iter()
            .filter(|one| one.kind == ChangeKind::Grant)
            .cloned()
            .collect::<Vec<Change>>()
    };
    let prints = |outcome: &Outcome| {
        grants(outcome)
            .into_iter()
            .map(|one| one.fingerprint)
            .collect::<Vec<_>>()
    };
    let outcome = on(&mut world, &first);
    assert_eq!(
        prints(&first),
        prints(&outcome),
        "what is said before they have an account holds when they have one"
    );
    let asked: Vec<_> = grants(&outcome)
        .into_iter()
        .map(|one| {
            (
                one.label,
                one.approval.expect("asked"),
                one.hold.expect("held").to_string(),
            )
        })
        .collect();
    assert_eq!(asked.len(), 4);
    let boss = identity_of(&world, "2");
    for (label, asked, hold) in asked {
        let (of, owners, words) = match label.as_str() {
            "Person 1" => (
                vec![boss.clone()],
                vec![],
                "awaiting approval (boss): level 1 of 1, their boss",
            ),
            _ => (
                vec![],
                vec!["owner of it".to_owned()],
                "awaiting approval (owner): level 1 of 1, the group's owner",
            ),
        };
        assert_eq!(
            (asked.of, asked.owners, hold.as_str()),
            (vec![of], owners, words)
        );
    }
}

#[test]
fn approvals_that_cannot_work_are_errors_of_the_rules() {
    let fault = |text: &str| {
        let text = format!("[[approval]]\nname = \"x\"\n{text}");
        let files = [
            ("identities.toml", IDENTITIES),
            ("harbour.toml", HARBOUR),
            ("approvals.toml", &text),
        ];
        let files: Vec<RuleFile> = files
            .iter()
            .map(|(name, text)| RuleFile {
                name: (*name).into(),
                text: (*text).into(),
            })
            .collect();
        let (_, faults) = RuleSet::load(&files, &Default::default());
        faults
            .into_iter()
            .find(|fault| fault.severity == FaultSeverity::Error)
            .map(|fault| fault.message)
            .unwrap_or_default()
    };
    assert_eq!(
        fault("change = \"create\"\n[[approval.level]]\nof = \"owner\"\n"),
        "only groups have an owner, and this approval is about other changes, too"
    );
    assert!(
        fault("change = \"grant\"\nchoose_up_to = 1\n[[approval.level]]\nof = \"owner\"\n")
            .contains("sees only that group")
    );
    assert!(
        fault("type = \"group\"\nchange = \"grant\"\n[[approval.level]]\ngroups = [\"masters\"]\n")
            .starts_with("an approval of memberships is about the member")
    );
    assert_eq!(
        fault("choose_up_to = 0\n[[approval.level]]\ngroups = [\"masters\"]\n"),
        "`choose_up_to` must be at least 1"
    );
    assert!(
        fault("choose_up_to = 1\nmode = \"batch\"\n[[approval.level]]\ngroups = [\"masters\"]\n")
            .starts_with("a choice is about the offers")
    );
}
