//! Mappings beyond one value from one record: references, generated names, shared blocks,
//! populations, merged lists, examples, and accounts that were made or deleted behind our back.
#![allow(clippy::disallowed_methods, reason = "tests run in real time")]

use std::collections::BTreeMap;
use tide_core::decide::Verdict;
use tide_core::reasons::ReasonNote;
use tide_core::rules::{FaultSeverity, RuleFile};
use tide_core::schema::ValueKind;
use tide_core::states::{ChangeKind, LinkBasis, LinkOrigin};
use tide_core::value::format_values;
use tide_core::{
    Account, AttributeDef, Attributes, Identity, Link, ObjectType, Outcome, Population, ReasonCode,
    RuleSet, Schema, SystemFacts, Value, decide,
};

const IDENTITIES: &str = r#"
[person]
label = "name"
[person.attributes]
number = { required = true, unique = true }
name = {}
family = {}
site = {}
tags = { multi_valued = true }
manager = { reference = "person", by = "number" }
[person.attributes.login]
required = true
generated = ['plainName(identity.family)', 'plainName(identity.family) + text(identity.attempt)']
reserved = ["root"]
unique_in = ["berthing.userName"]
[group]
label = "name"
[group.attributes]
name = { required = true }
members = { multi_valued = true, reference = "any" }
"#;
const ROSTER: &str = r#"
system = "roster"
[person.inbound]
number = 'account.number'
name = 'account.name'
family = 'account.family'
site = 'account.site'
tags = 'values(account.tags)'
manager = 'account.manager'
[group.inbound]
name = 'account.name'
members = 'values(account.member)'
"#;
const BLOCKS: &str = r#"
[person.names.outbound]
displayName = 'identity.name'
title = '"Crew"'
"#;
const BERTHING: &str = r#"
system = "berthing"
[person]
shared_mappings = ["names"]
[[person.match]]
name = "number"
account = 'account.number'
identity = 'identity.number'
[[person.population]]
name = "Tern Isle"
when = 'identity.site == "Tern Isle"'
[person.population.outbound]
language = '"nb"'
[[person.population]]
name = "islands"
when = 'endsWith(identity.site, "Isle")'
[person.population.outbound]
language = '"en"'
title = '"Islander"'
[person.outbound]
userName = 'identity.login'
number = 'identity.number'
manager = 'identity.manager'
tags = { value = 'identity.tags', list_mode = "merge" }
[group.outbound]
displayName = 'identity.name'
"members.User" = 'identity.members'
"members.Group" = 'identity.members'
"#;

fn files(more: &str) -> Vec<RuleFile> {
    [
        ("identities.toml", IDENTITIES),
        ("roster.toml", ROSTER),
        ("shared_mappings.toml", BLOCKS),
        (
            "berthing.toml",
            &BERTHING.replace("[person]\n", &format!("[person]\n{more}")),
        ),
    ]
    .into_iter()
    .map(|(name, text)| RuleFile {
        name: name.into(),
        text: text.into(),
    })
    .collect()
}

fn schema(names: &[&str], references: &[&str]) -> Schema {
    let mut schema = Schema {
        state_attribute: Some("active".into()),
        ..Schema::default()
    };
    names
        .iter()
        .for_each(|name| schema.put(AttributeDef::text(*name)));
    schema.put(AttributeDef {
        multi_valued: true,
        ..AttributeDef::text("tags")
    });
    schema.put(AttributeDef {
        kind: ValueKind::Bool,
        ..AttributeDef::text("active")
    });
    for name in references {
        schema.put(AttributeDef {
            kind: ValueKind::Reference,
            multi_valued: name.starts_with("members"),
            ..AttributeDef::text(*name)
        });
    }
    schema
}

struct World {
    rules: RuleSet,
    population: Population,
}

impl World {
    fn new(more: &str) -> World {
        let person = Schema {
            name_attribute: Some("userName".into()),
            ..schema(
                &["userName", "number", "displayName", "title", "language"],
                &["manager"],
            )
        };
        let group = schema(&["displayName"], &["members.User", "members.Group"]);
        let by_type: BTreeMap<ObjectType, Schema> =
            [(ObjectType::Person, person), (ObjectType::Group, group)].into();
        let schemas = [("berthing".to_owned(), by_type.clone())].into();
        let (rules, faults) = RuleSet::load(&files(more), &schemas);
        let errors: Vec<String> = faults
            .iter()
            .filter(|f| f.severity == FaultSeverity::Error)
            .map(ToString::to_string)
            .collect();
        assert_eq!(errors, Vec::<String>::new());
        let kinds = vec![ObjectType::Person, ObjectType::Group];
        let berthing = SystemFacts {
            schema: std::sync::Arc::new(by_type),
            writable: kinds.clone(),
            read: kinds.clone(),
            ..SystemFacts::default()
        };
        let roster = SystemFacts {
            read: kinds,
            ..SystemFacts::default()
        };
        let systems = [
            ("berthing".to_owned(), berthing),
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

    fn account(
        &mut self,
        system: &str,
        kind: ObjectType,
        key: &str,
        pairs: &[(&str, &[&str])],
    ) -> i64 {
        let id = self.population.accounts.len() as i64 + 1;
        let attributes: Attributes = pairs
            .iter()
            .map(|(name, values)| {
                (
                    (*name).to_owned(),
                    values.iter().map(|v| Value::text(*v)).collect(),
                )
            })
            .collect();
        self.population.accounts.push(Account {
            id,
            system: system.into(),
            kind,
            key: key.into(),
            name: key.into(),
            attributes,
            absent_since: None,
            absence_confirmed: false,
            fault: None,
        });
        id
    }

    fn person(&mut self, number: &str, family: &str, manager: &str, site: &str) {
        let pairs: [(&str, &[&str]); 5] = [
            ("number", &[number]),
            ("name", &[family]),
            ("family", &[family]),
            ("manager", &[manager]),
            ("site", &[site]),
        ];
        self.account("roster", ObjectType::Person, &format!("r{number}"), &pairs);
    }

    fn decide(&self) -> Outcome {
        decide(
            &self.rules,
            &self.population,
            "2026-11-23T08:00:00Z".parse().expect("valid"),
        )
    }

    /// Carries an outcome out as a perfect target would: what waits for an account is set once it
    /// is there.
    fn carry_out(&mut self, outcome: &Outcome) {
        self.population.identities = outcome
            .identities
            .iter()
            .map(|(identity, _)| identity.clone())
            .collect();
        self.population
            .reserved_values
            .extend(outcome.reserved.iter().cloned());
        for link in &outcome.links {
            self.link(link.account, &link.identity);
        }
        for change in outcome
            .changes
            .iter()
            .filter(|change| change.hold.is_none())
        {
            let at = match change.account.or_else(|| self.account_of(&change.identity)) {
                Some(id) => id,
                None => {
                    let id = self.account(
                        "berthing",
                        change.object,
                        &format!("b{}", self.population.accounts.len()),
                        &[],
                    );
                    self.link(id, &change.identity);
                    id
                }
            };
            for value in &change.values {
                let mut after = value.after.clone();
                for later in &value.later {
                    let account = self
                        .account_of(&later.identity)
                        .expect("made before it is pointed to");
                    after.push(Value::Reference(
                        self.population.accounts[account as usize - 1].key.clone(),
                    ));
                }
                let given: Vec<Value> = after
                    .iter()
                    .filter(|v| !value.before.contains(v))
                    .cloned()
                    .collect();
                self.population
                    .managed_values
                    .entry((at, value.attribute.clone()))
                    .or_default()
                    .extend(given);
                self.population.accounts[at as usize - 1]
                    .attributes
                    .set(value.attribute.as_str(), after);
            }
        }
    }

    fn link(&mut self, account: i64, identity: &str) {
        self.population.links.push(Link {
            account,
            identity: identity.to_owned(),
            basis: LinkBasis::new(LinkOrigin::MatchRule, "test"),
        });
    }

    fn account_of(&self, identity: &str) -> Option<i64> {
        let mine = self
            .population
            .links
            .iter()
            .filter(|link| link.identity == identity)
            .map(|link| link.account);
        mine.map(|id| &self.population.accounts[id as usize - 1])
            .find(|a| a.system == "berthing" && a.absent_since.is_none())
            .map(|a| a.id)
    }

    fn identity(&self, name: &str) -> &Identity {
        self.population
            .identities
            .iter()
            .find(|identity| format_values(identity.attributes.get("name")) == name)
            .expect(name)
    }

    fn there(&self, name: &str) -> &Attributes {
        let id = self.account_of(&self.identity(name).id).expect(name);
        &self.population.accounts[id as usize - 1].attributes
    }

    /// Decides and carries out until there is nothing left to send; the kinds of the changes of
    /// each round.
    fn settle(&mut self) -> Vec<Vec<ChangeKind>> {
        let mut rounds = Vec::new();
        for _ in 0..5 {
            let outcome = self.decide();
            if outcome.changes.is_empty() {
                return rounds;
            }
            self.carry_out(&outcome);
            rounds.push(outcome.changes.iter().map(|change| change.kind).collect());
        }
        panic!("it does not come to rest: {rounds:?}")
    }
}

#[test]
fn a_manager_is_the_other_account_there_even_in_a_circle_and_in_one_run() {
    let mut world = World::new("");
    world.person("1", "Lind", "2", "");
    world.person("2", "Vasko", "1", "");
    world.person("3", "Berg", "9", "");
    let outcome = world.decide();
    let waiting: Vec<String> = outcome
        .changes
        .iter()
        .flat_map(|change| &change.values)
        .flat_map(|value| {
            value
                .later
                .iter()
                .map(|later| format!("{} of {}", value.attribute, later.label))
        })
        .collect();
    assert_eq!(
        waiting,
        ["manager of Vasko", "manager of Lind"],
        "both are made, then both are told of each other"
    );
    let berg = outcome
        .decided
        .iter()
        .find(|line| line.label == "Berg" && line.system == "roster")
        .expect("there");
    let unknown = ReasonNote::UnknownPerson {
        attribute: "manager".to_owned(),
        value: "9".to_owned(),
    };
    assert!(berg.reason.notes.contains(&unknown), "{}", berg.reason);
    let rounds = world.settle();
    assert_eq!(rounds.len(), 1, "one run is enough: {rounds:?}");
    let key = |world: &World, name: &str| {
        let id = world.account_of(&world.identity(name).id).expect(name);
        world.population.accounts[id as usize - 1].key.clone()
    };
    assert_eq!(
        format_values(world.there("Lind").get("manager")),
        key(&world, "Vasko")
    );
    assert_eq!(
        format_values(world.there("Vasko").get("manager")),
        key(&world, "Lind")
    );
    assert!(world.there("Berg").get("manager").is_empty());
    // The manager's number changes hands in the source: the account follows.
    world.population.accounts[0]
        .attributes
        .set("manager", vec![Value::text("3")]);
    assert_eq!(world.settle(), [[ChangeKind::Update]]);
    assert_eq!(
        format_values(world.there("Lind").get("manager")),
        key(&world, "Berg")
    );
    // A number that nobody has leaves the one who was known.
    world.population.accounts[0]
        .attributes
        .set("manager", vec![Value::text("77")]);
    assert!(world.decide().changes.is_empty());
}

#[test]
fn members_are_written_by_their_type_and_nested_groups_are_kept() {
    let mut world = World::new("");
    world.person("1", "Lind", "", "");
    world.person("2", "Vasko", "", "");
    world.account(
        "roster",
        ObjectType::Group,
        "g1",
        &[("name", &["Deck"]), ("member", &["r1", "g2", "stranger"])],
    );
    world.account(
        "roster",
        ObjectType::Group,
        "g2",
        &[("name", &["Night watch"]), ("member", &["R2", "g1"])],
    );
    assert_eq!(world.settle().len(), 1);
    let deck = world.there("Deck");
    assert_eq!(
        (
            deck.get("members.User").len(),
            deck.get("members.Group").len()
        ),
        (1, 1),
        "the stranger is nobody's member"
    );
    let night = world.there("Night watch");
    assert_eq!(
        (
            night.get("members.User").len(),
            night.get("members.Group").len()
        ),
        (1, 1),
        "each holds the other"
    );
    world.population.accounts[2]
        .attributes
        .set("member", vec![Value::text("g2"), Value::text("r2")]);
    assert_eq!(world.settle(), [[ChangeKind::Update]]);
    assert_eq!(
        world.there("Deck").get("members.User"),
        world.there("Night watch").get("members.User")
    );
}

#[test]
fn generated_names_are_never_assigned_twice() {
    let mut world = World::new("");
    world.person("1", "Lind", "", "");
    world.person("2", "LIND", "", "");
    world.person("3", "Root", "", "");
    world.account(
        "berthing",
        ObjectType::Person,
        "old",
        &[("userName", &["Lind3"]), ("number", &["99"])],
    );
    world.settle();
    let mut logins: Vec<String> = world
        .population
        .identities
        .iter()
        .map(|i| format_values(i.attributes.get("login")))
        .collect();
    logins.sort();
    assert_eq!(logins, ["lind", "lind2", "root2"]);
    let first = world.identity("Lind").attributes.get("login").to_vec();
    // She marries and keeps her name there; a newcomer does not get a name that somebody had.
    world.population.accounts[0]
        .attributes
        .set("family", vec![Value::text("Vasko")]);
    world.settle();
    assert_eq!(world.identity("Lind").attributes.get("login"), first);
    let gone = world.identity("LIND").id.clone();
    world.population.accounts[1].absent_since =
        Some("2026-11-01T00:00:00Z".parse().expect("valid"));
    world.person("4", "Lind", "", "");
    let outcome = world.decide();
    let proposed = outcome
        .reserved
        .iter()
        .find(|reserved| reserved.identity != gone)
        .expect("one is new");
    assert_eq!(
        proposed.value, "lind4",
        "lind and lind2 were given, and lind3 is in use there"
    );
    let line = outcome.decided.iter().find(|line| {
        line.system == "roster" && line.identity.as_deref() == Some(&proposed.identity)
    });
    assert!(
        line.is_some_and(|line| line.reason.to_string().contains("login lind4 is proposed")),
        "{line:?}"
    );
}

#[test]
fn blocks_are_shared_and_populations_come_first_in_their_order() {
    let mut world = World::new("");
    world.person("1", "Lind", "", "Tern Isle");
    world.person("2", "Vasko", "", "Gull Isle");
    world.person("3", "Berg", "", "Northhaven");
    world.settle();
    let told = |name: &str| {
        (
            format_values(world.there(name).get("language")),
            format_values(world.there(name).get("title")),
        )
    };
    assert_eq!(
        told("Lind"),
        ("nb".into(), "Islander".into()),
        "the first population that has the attribute wins"
    );
    assert_eq!(told("Vasko"), ("en".into(), "Islander".into()));
    assert_eq!(told("Berg"), ("—".into(), "Crew".into()), "from the block");
    assert_eq!(
        format_values(world.there("Berg").get("displayName")),
        "Berg"
    );
    let types = world
        .rules
        .of("berthing", ObjectType::Person)
        .expect("there");
    let title = types
        .outbound
        .iter()
        .find(|mapping| mapping.attribute == "title")
        .expect("shared");
    assert_eq!(
        title.place.file, "shared_mappings.toml",
        "a reason names the block"
    );
}

#[test]
fn merged_lists_keep_what_others_put_there_and_take_back_only_ours() {
    let mut world = World::new("");
    world.person("1", "Lind", "", "");
    world.population.accounts[0]
        .attributes
        .set("tags", vec![Value::text("deck"), Value::text("first aid")]);
    world.settle();
    let id = world.account_of(&world.identity("Lind").id).expect("there");
    let there = |world: &World| {
        format_values(
            world.population.accounts[id as usize - 1]
                .attributes
                .get("tags"),
        )
    };
    world.population.accounts[id as usize - 1].attributes.set(
        "tags",
        ["by hand", "deck", "first aid"].map(Value::text).to_vec(),
    );
    assert!(
        world.decide().changes.is_empty(),
        "what somebody added is theirs"
    );
    world.population.accounts[0].attributes.set(
        "tags",
        vec![Value::text("first aid"), Value::text("galley")],
    );
    world.settle();
    assert_eq!(there(&world), "by hand · first aid · galley");
}

fn gone_and_strange(more: &str) -> (Outcome, String) {
    let mut world = World::new(more);
    world.person("1", "Lind", "", "");
    world.settle();
    let id = world.account_of(&world.identity("Lind").id).expect("there");
    world.population.accounts[id as usize - 1].absent_since =
        Some("2026-11-01T00:00:00Z".parse().expect("valid"));
    let stray = world.account(
        "berthing",
        ObjectType::Person,
        "stray",
        &[("userName", &["who"])],
    );
    world.population.accounts[stray as usize - 1]
        .attributes
        .set("active", vec![Value::Bool(true)]);
    let outcome = world.decide();
    let lines = outcome
        .decided
        .iter()
        .filter(|line| line.system == "berthing")
        .map(|line| format!("{} {}", line.label, line.verdict.as_str()));
    let mut lines: Vec<String> = lines.collect();
    lines.sort();
    let text = lines.join(", ");
    (outcome, text)
}

#[test]
fn what_was_done_behind_our_back_is_treated_as_the_rule_says() {
    let (outcome, lines) = gone_and_strange("");
    assert_eq!(lines, "Lind on_hold, stray orphaned");
    assert!(outcome.changes.is_empty() && outcome.questions.is_empty());
    let (outcome, lines) =
        gone_and_strange("on_deleted = \"recreate\"\non_orphaned = \"disable\"\n");
    assert_eq!(lines, "Lind create, stray disable");
    let told: Vec<(ChangeKind, ReasonCode)> = outcome
        .changes
        .iter()
        .map(|change| (change.kind, change.reason.code()))
        .collect();
    assert_eq!(
        told,
        [
            (ChangeKind::Disable, ReasonCode::OrphanDisabled),
            (ChangeKind::Create, ReasonCode::RecreatedAfterDeletion),
        ]
    );
    let (outcome, lines) = gone_and_strange("on_deleted = \"ignore\"\non_orphaned = \"review\"\n");
    assert_eq!(lines, "Lind out_of_scope, stray on_hold");
    assert_eq!(
        outcome
            .questions
            .iter()
            .map(|question| question.doubt.as_str())
            .collect::<Vec<_>>(),
        ["orphaned"]
    );
    assert!(
        outcome
            .decided
            .iter()
            .all(|line| line.verdict != Verdict::Create)
    );
}

/// Faults of a rule set made of the usual files with one of them changed.
fn faults(file: &str, from: &str, to: &str) -> String {
    let mut all = files("");
    let changed = all
        .iter_mut()
        .find(|one| one.name == file)
        .expect("a file of ours");
    assert!(changed.text.contains(from), "{from}");
    changed.text = changed.text.replacen(from, to, 1);
    let mut by_type = BTreeMap::new();
    by_type.insert(
        ObjectType::Person,
        schema(
            &["userName", "number", "displayName", "title", "language"],
            &["manager"],
        ),
    );
    let (_, faults) = RuleSet::load(&all, &[("berthing".to_owned(), by_type)].into());
    faults.iter().map(|fault| format!("{fault}\n")).collect()
}

#[test]
fn faults_name_their_place_and_what_to_do() {
    for (file, from, to, said) in [
        (
            "berthing.toml",
            "shared_mappings = [\"names\"]",
            "shared_mappings = [\"nmaes\"]",
            "berthing.toml:4:20: shared_mappings.toml has no mapping `nmaes` for this type (did you mean `names`?)",
        ),
        (
            "shared_mappings.toml",
            "displayName",
            "displayNmae",
            "shared_mappings.toml:3:1: the system has no attribute `displayNmae` (did you mean `displayName`?)",
        ),
        (
            "identities.toml",
            "+ text(identity.attempt)",
            "",
            "a second person of that name gets none",
        ),
        (
            "identities.toml",
            "berthing.userName",
            "mooring.uid",
            "no file has rules for mooring",
        ),
        (
            "identities.toml",
            "by = \"number\"",
            "by = \"nubmer\"",
            "refers by `nubmer`, which is not declared",
        ),
        (
            "identities.toml",
            "reference = \"person\"",
            "reference = \"ship\"",
            "choose person, service, group or any",
        ),
        (
            "berthing.toml",
            "number = 'identity.number'\n",
            "number = 'isBlank(identity.number)'\n",
            "`number` holds text, but this is always true or false (text(isBlank(identity.number)) turns it into text)",
        ),
        (
            "berthing.toml",
            "name = \"islands\"",
            "name = \"Tern Isle\"",
            "two populations `Tern Isle`",
        ),
        (
            "berthing.toml",
            "[person.outbound]",
            "[person.password]\nlength = 4\nattribute = \"password\"\n[person.outbound]",
            "a password cannot have 4 characters",
        ),
    ] {
        let found = faults(file, from, to);
        assert!(found.contains(said), "wanted {said}\nfound {found}");
    }
}

#[test]
fn examples_run_at_every_check() {
    let example = |expect: &str| {
        format!(
            "[[person.example]]\nname = \"an islander\"\ngiven = {{ number = \"1\", name = \"Lind\", family = \"D'Amberg\", site = \"Tern Isle\" }}\n{expect}\n[person.inbound]"
        )
    };
    let found = faults(
        "roster.toml",
        "[person.inbound]",
        &example("expect = { family = \"D'Amberg\", login = \"damberg\", tags = [] }"),
    );
    assert_eq!(found.matches("example").count(), 0, "{found}");
    let there = "account_in = \"berthing\"\nexpect = { language = \"nb\", title = \"Islander\", userName = \"damberg\" }";
    assert_eq!(
        faults("roster.toml", "[person.inbound]", &example(there))
            .matches("example")
            .count(),
        0
    );
    let found = faults(
        "roster.toml",
        "[person.inbound]",
        &example("expect = { family = \"Damberg\" }"),
    );
    assert!(
        found.contains("roster.toml:3:1: the example \"an islander\" fails: family should be Damberg, but is D'Amberg"),
        "{found}"
    );
    let found = faults(
        "roster.toml",
        "[person.inbound]",
        &example("account_in = \"mooring\"\nexpect = { a = \"b\" }"),
    );
    assert!(
        found.contains("`mooring` has no outbound mapping for person"),
        "{found}"
    );
}
