//! Approvals as rules say them: what is picked, what is held, and what a wrong rule is told.
#![allow(clippy::disallowed_methods, reason = "tests run in real time")]

use tide_core::model::ApprovalState;
use tide_core::rules::{FaultSeverity, RuleFile};
use tide_core::{
    Account, AttributeDef, Attributes, ObjectType, Outcome, Population, RuleSet, Schema,
    SystemFacts, Value, decide,
};

const RULES: [(&str, &str); 3] = [
    (
        "identities.toml",
        "[person.attributes]\nnumber = { required = true, unique = true }\nteam = {}\nboss = { reference = \"person\", by = \"number\" }\n",
    ),
    (
        "harbour.toml",
        "system = \"harbour\"\n[person.inbound]\nnumber = 'account.number'\nteam = 'account.team'\nboss = 'account.boss'\n",
    ),
    (
        "berthing.toml",
        "system = \"berthing\"\n[[person.match]]\naccount = 'account.number'\nidentity = 'identity.number'\n[person.outbound]\nnumber = 'identity.number'\nteam = 'identity.team'\n",
    ),
];

fn load(approvals: &str, guards: &str) -> (RuleSet, Vec<String>) {
    let more = [("approvals.toml", approvals), ("guards.toml", guards)];
    let files: Vec<RuleFile> = RULES
        .iter()
        .chain(&more)
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

fn population() -> Population {
    let mut schema = Schema::default();
    for name in ["number", "team"] {
        schema.put(AttributeDef::text(name));
    }
    let facts = SystemFacts {
        schema: std::sync::Arc::new([(ObjectType::Person, schema)].into()),
        writable: vec![ObjectType::Person],
        read: vec![ObjectType::Person],
        ..SystemFacts::default()
    };
    let accounts = [("1", "Deck", ""), ("2", "Deck", "1"), ("3", "Galley", "1")]
        .iter()
        .enumerate()
        .map(|(at, (number, team, boss))| {
            let pairs = [("number", *number), ("team", *team), ("boss", *boss)];
            let attributes: Attributes = pairs
                .iter()
                .filter(|(_, v)| !v.is_empty())
                .map(|(name, v)| ((*name).to_owned(), vec![Value::text(*v)]))
                .collect();
            Account {
                id: at as i64 + 1,
                system: "harbour".into(),
                kind: ObjectType::Person,
                key: format!("h{number}"),
                name: format!("h{number}"),
                attributes,
                absent_since: None,
                absence_confirmed: false,
                fault: None,
            }
        });
    Population {
        accounts: accounts.collect(),
        systems: [
            ("berthing".to_owned(), facts),
            (
                "harbour".to_owned(),
                SystemFacts {
                    read: vec![ObjectType::Person],
                    ..SystemFacts::default()
                },
            ),
        ]
        .into(),
        ..Population::default()
    }
}

/// The numbers of those who are made, with why they are not.
fn made(outcome: &Outcome) -> Vec<(String, String)> {
    let mut all: Vec<(String, String)> = outcome
        .changes
        .iter()
        .map(|change| {
            let number = change
                .values
                .iter()
                .find(|value| value.attribute == "number")
                .map(|value| value.after[0].to_string());
            (
                number.unwrap_or_default(),
                change
                    .hold
                    .as_ref()
                    .map(|hold| hold.to_string())
                    .unwrap_or_default(),
            )
        })
        .collect();
    all.sort();
    all
}

fn now() -> jiff::Timestamp {
    jiff::Timestamp::UNIX_EPOCH
}

#[test]
fn a_condition_picks_and_levels_are_reached_one_after_the_other() {
    let (rules, errors) = load(
        "[[approval]]\nname = \"the deck\"\nsystem = \"berthing\"\nchange = [\"create\"]\nwhen = 'identity.team == \"Deck\"'\n\
         [[approval.level]]\nof = \"boss\"\n[[approval.level]]\ngroups = [\"masters\"]\n",
        "",
    );
    assert_eq!(errors, Vec::<String>::new());
    let mut population = population();
    let outcome = decide(&rules, &population, now());
    let waits = "awaiting approval (the deck): level 1 of 2, their boss";
    assert_eq!(
        made(&outcome),
        [
            ("1".into(), waits.into()),
            ("2".into(), waits.into()),
            ("3".into(), String::new())
        ]
    );
    // Whom the boss attribute points to is noted by id.
    let second = outcome
        .changes
        .iter()
        .find(|change| change.identity == id(&outcome, "2"))
        .expect("there");
    assert_eq!(
        second.approval.as_ref().map(|asked| asked.of.clone()),
        Some(vec![vec![id(&outcome, "1")], vec![]])
    );
    let print = second.fingerprint.clone();
    population.approvals.insert(
        print.clone(),
        ApprovalState {
            yes: vec!["ada".into()],
            ..ApprovalState::default()
        },
    );
    assert_eq!(
        made(&decide(&rules, &population, now()))[1].1,
        "awaiting approval (the deck): level 2 of 2, one of masters"
    );
    population.approvals.insert(
        print.clone(),
        ApprovalState {
            yes: vec!["ada".into(), "bo".into()],
            ..ApprovalState::default()
        },
    );
    assert_eq!(made(&decide(&rules, &population, now()))[1].1, "");
    population.approvals.insert(
        print,
        ApprovalState {
            no: Some(("bo".into(), "not this year".into())),
            ..ApprovalState::default()
        },
    );
    assert!(
        made(&decide(&rules, &population, now()))[1]
            .1
            .starts_with("rejected by bo (“not this year”)")
    );
}

fn id(outcome: &Outcome, number: &str) -> String {
    let found = outcome
        .identities
        .iter()
        .find(|(identity, _)| identity.attributes.get("number") == [Value::text(number)]);
    found.expect("there").0.id.clone()
}

#[test]
fn changes_awaiting_approval_do_not_count_for_guards() {
    let approvals = "[[approval]]\nname = \"the deck\"\nwhen = 'identity.team == \"Deck\"'\n[[approval.level]]\noperators = [\"ada\"]\n";
    let (rules, errors) = load(
        approvals,
        "[[guard]]\nsystem = \"berthing\"\nchange = \"create\"\nmax_count = 1\n",
    );
    assert_eq!(errors, Vec::<String>::new());
    let mut population = population();
    assert_eq!(
        made(&decide(&rules, &population, now()))[2],
        ("3".into(), String::new())
    );
    // With a yes each they are one too many together.
    for change in decide(&rules, &population, now()).changes {
        population.approvals.insert(
            change.fingerprint,
            ApprovalState {
                yes: vec!["ada".into()],
                ..ApprovalState::default()
            },
        );
    }
    assert!(
        made(&decide(&rules, &population, now()))
            .iter()
            .all(|(_, hold)| hold.starts_with("held by guard"))
    );
}

#[test]
fn rule_errors_name_their_location() {
    let fault = |text: &str| load(text, "").1.join("\n");
    let level = "[[approval.level]]\noperators = [\"ada\"]\n";
    assert!(fault("[[approval]]\nname = \"a\"\n").contains("the approvers are missing"));
    assert!(fault(&format!("[[approval]]\n{level}")).contains("an approval needs a name"));
    assert!(
        fault(&format!(
            "[[approval]]\nname = \"a\"\n{level}[[approval]]\nname = \"a\"\n{level}"
        ))
        .contains("approvals.toml:6:8: there are two approvals `a`")
    );
    assert!(
        fault(&format!(
            "[[approval]]\nname = \"a\"\nchange = [\"delet\"]\n{level}"
        ))
        .contains("`delet` is not a kind of change")
    );
    assert!(
        fault(&format!(
            "[[approval]]\nname = \"a\"\nsystem = \"berth\"\n{level}"
        ))
        .contains("no file has rules for a system `berth`")
    );
    assert!(
        fault(&format!(
            "[[approval]]\nname = \"a\"\nwhen = 'identity.tem == \"x\"'\n{level}"
        ))
        .contains("did you mean")
    );
    assert!(
        fault("[[approval]]\nname = \"a\"\n[[approval.level]]\nof = \"team\"\n")
            .contains("`team` does not refer to a person who could approve")
    );
    assert!(
        fault("[[approval]]\nname = \"a\"\n[[approval.level]]\n")
            .contains("a level names no approver")
    );
    assert!(
        fault(&format!(
            "[[approval]]\nname = \"a\"\nexpires_after_days = 0\n{level}"
        ))
        .contains("an approval cannot be waited for 0 days")
    );
}
