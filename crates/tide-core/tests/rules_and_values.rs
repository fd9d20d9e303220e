//! Rules read from files, and what they make of accounts: authority, options of mappings, and the
//! relation between what is wanted and what is there.
#![allow(clippy::disallowed_methods, reason = "tests run in real time")]

use tide_core::compare::{Relation, find_differences, relation_to_account};
use tide_core::compose::{compose_identity, desired};
use tide_core::model::Normalization;
use tide_core::rules::{FaultSeverity, OnOutOfScope, RuleFault, RuleFile, RuleSet, Schemas};
use tide_core::schema::ValueKind;
use tide_core::states::KeptCause;
use tide_core::value::format_values;
use tide_core::{
    Account, AttributeDef, Attributes, ObjectType, Population, ReasonKind, Schema, Value,
};

fn file(name: &str, text: &str) -> RuleFile {
    RuleFile {
        name: name.into(),
        text: text.into(),
    }
}

fn load(files: &[(&str, &str)]) -> (RuleSet, Vec<RuleFault>) {
    let files: Vec<RuleFile> = files.iter().map(|(name, text)| file(name, text)).collect();
    RuleSet::load(&files, &Schemas::default())
}

fn sound(files: &[(&str, &str)]) -> RuleSet {
    let (rules, faults) = load(files);
    let errors: Vec<String> = faults
        .iter()
        .filter(|f| f.severity == FaultSeverity::Error)
        .map(ToString::to_string)
        .collect();
    assert_eq!(errors, Vec::<String>::new());
    rules
}

fn account(system: &str, pairs: &[(&str, &[&str])]) -> Account {
    let attributes: Attributes = pairs
        .iter()
        .map(|(name, values)| {
            (
                (*name).to_owned(),
                values.iter().map(|v| Value::text(*v)).collect(),
            )
        })
        .collect();
    Account {
        id: 1,
        system: system.into(),
        kind: ObjectType::Person,
        key: system.into(),
        name: system.into(),
        attributes,
        absent_since: None,
        absence_confirmed: false,
        fault: None,
    }
}

const TWO_SOURCES: &[(&str, &str)] = &[
    (
        "identities.toml",
        "[person.attributes]\nmail = { authority = [\"postroom\", \"harbour\"] }\nname = {}\nphones = { multi_valued = true }\n",
    ),
    (
        "harbour.toml",
        "system = \"harbour\"\n[person.inbound]\nmail = 'account.mail'\nname = 'account.cn'\nphones = 'values(account.phone)'\n",
    ),
    (
        "postroom.toml",
        "system = \"postroom\"\n[person.inbound]\nmail = 'account.address'\nname = 'account.shown'\n",
    ),
];

#[test]
fn authority_decides_whose_value_wins_and_a_blank_passes_the_word_on() {
    let rules = sound(TWO_SOURCES);
    let declared = &rules.identities[&ObjectType::Person];
    let types = |system: &str| rules.of(system, ObjectType::Person).expect("read");
    let harbour = account(
        "harbour",
        &[
            ("mail", &["h@skerry.example"]),
            ("cn", &["From Harbour"]),
            ("phone", &["2", "1"]),
        ],
    );
    let postroom = account(
        "postroom",
        &[
            ("address", &["p@skerry.example"]),
            ("shown", &["From Postroom"]),
        ],
    );
    let both = [
        ("harbour", types("harbour"), &harbour),
        ("postroom", types("postroom"), &postroom),
    ];
    let composed = compose_identity(declared, &both, true);
    assert_eq!(
        format_values(composed.attributes.get("mail")),
        "p@skerry.example",
        "postroom is the authority for mail"
    );
    assert_eq!(
        format_values(composed.attributes.get("name")),
        "From Harbour",
        "without an authority the first system by name wins"
    );
    assert_eq!(format_values(composed.attributes.get("phones")), "1 · 2");
    let reason = composed
        .reasons
        .iter()
        .find(|r| r.attribute == "mail")
        .expect("explained");
    assert_eq!(
        (
            reason.from_system.as_deref(),
            reason.rule.file.as_str(),
            reason.rule.line
        ),
        (Some("postroom"), "postroom.toml", 3)
    );

    let blank = account("postroom", &[("address", &["  "])]);
    let both = [
        ("harbour", types("harbour"), &harbour),
        ("postroom", types("postroom"), &blank),
    ];
    assert_eq!(
        format_values(
            compose_identity(declared, &both, false)
                .attributes
                .get("mail")
        ),
        "h@skerry.example"
    );
    assert!(compose_identity(declared, &[], false).attributes.is_empty());
}

#[test]
fn an_expression_that_fails_is_a_problem_and_not_a_value() {
    let rules = sound(&[
        ("identities.toml", "[person.attributes]\nname = {}\n"),
        (
            "harbour.toml",
            "system = \"harbour\"\n[person.inbound]\nname = 'account.cn + 1'\n",
        ),
    ]);
    let harbour = account("harbour", &[("cn", &["Ada"])]);
    let sources = [(
        "harbour",
        rules.of("harbour", ObjectType::Person).expect("read"),
        &harbour,
    )];
    let composed = compose_identity(&rules.identities[&ObjectType::Person], &sources, false);
    assert!(composed.attributes.is_empty());
    assert_eq!(composed.problems.len(), 1);
    assert!(
        matches!(&*composed.problems[0].kind, ReasonKind::MappingFailed { attribute, .. } if attribute == "name"),
        "{}",
        composed.problems[0]
    );
    assert_eq!(
        composed.problems[0].rule.as_ref().map(|place| place.line),
        Some(3)
    );
}

const TARGET: &[(&str, &str)] = &[
    (
        "identities.toml",
        "[person.attributes]\nname = {}\ntitle = {}\nmail = {}\n",
    ),
    (
        "berthing.toml",
        "system = \"berthing\"\n[person]\non_out_of_scope = \"leave\"\n[[person.match]]\naccount = 'account.m'\nidentity = 'identity.mail'\n[person.outbound]\n\
         userName = { value = 'identity.mail', required = true }\nfirst = { value = 'identity.name', apply = \"on_create\" }\n\
         filled = { value = 'identity.name', apply = \"if_empty\" }\nkept = { value = 'identity.title', on_empty = \"keep\" }\ncleared = 'identity.title'\n\
         groups = 'identity.name'\n",
    ),
];

fn target_schema() -> Schema {
    let mut schema = Schema::default();
    for name in ["userName", "first", "filled", "kept", "cleared"] {
        schema.put(AttributeDef::text(name));
    }
    schema.put(AttributeDef {
        derived: true,
        ..AttributeDef::text("groups")
    });
    schema.put(AttributeDef {
        kind: ValueKind::Bool,
        ..AttributeDef::text("active")
    });
    schema
}

#[test]
fn the_options_of_a_mapping_say_when_it_is_written() {
    let rules = sound(TARGET);
    let types = rules.of("berthing", ObjectType::Person).expect("read");
    assert_eq!(types.on_out_of_scope, OnOutOfScope::Leave);
    let person: Attributes = [
        ("name".into(), vec![Value::text("Ada")]),
        ("mail".into(), vec![Value::text("a@e")]),
    ]
    .into_iter()
    .collect();
    let schema = target_schema();
    let wanted = desired(types, &person, Some(&schema));
    assert!(wanted.problems.is_empty());
    let there = account(
        "berthing",
        &[
            ("first", &["Old"]),
            ("filled", &["Old"]),
            ("kept", &["Old"]),
            ("cleared", &["Old"]),
            ("groups", &["x"]),
        ],
    );
    let none = Population::default();
    let of = |name: &str, account: &Account| {
        let wanted = wanted
            .wanted
            .iter()
            .find(|w| w.mapping.attribute == name)
            .expect("mapped");
        relation_to_account(wanted, account, &none)
    };
    assert_eq!(of("userName", &there), Relation::Differs);
    assert_eq!(
        of("first", &there),
        Relation::LeftAlone(KeptCause::SetOnCreate)
    );
    assert_eq!(
        of("filled", &there),
        Relation::LeftAlone(KeptCause::SetIfEmpty)
    );
    assert_eq!(
        of("filled", &account("berthing", &[])),
        Relation::Differs,
        "a blank is filled"
    );
    assert_eq!(
        of("kept", &there),
        Relation::LeftAlone(KeptCause::SourceEmpty)
    );
    assert_eq!(of("cleared", &there), Relation::Differs);
    assert_eq!(
        of("groups", &there),
        Relation::LeftAlone(KeptCause::Computed),
        "derived values are never compared"
    );

    let changes = find_differences(&wanted, &there, &none);
    let names: Vec<&str> = changes.iter().map(|c| c.attribute.as_str()).collect();
    assert_eq!(names, ["userName", "cleared"]);
    assert!(changes[1].after.is_empty() && format_values(&changes[1].before) == "Old");
}

#[test]
fn a_required_value_that_is_missing_says_what_it_waits_for() {
    let rules = sound(TARGET);
    let wanted = desired(
        rules.of("berthing", ObjectType::Person).expect("read"),
        &Attributes::new(),
        None,
    );
    assert_eq!(wanted.problems.len(), 1);
    assert_eq!(
        wanted.problems[0].to_string(),
        "waiting for a value of identity.mail: `userName` is required"
    );
}

#[test]
fn what_was_normalized_is_known_again_only_as_it_was() {
    let rules = sound(TARGET);
    let types = rules.of("berthing", ObjectType::Person).expect("read");
    let person: Attributes = [("mail".into(), vec![Value::text("a b@e")])]
        .into_iter()
        .collect();
    let wanted = desired(types, &person, None);
    let user_name = &wanted.wanted[0];
    let normalized = [(
        (1, "userName".to_owned()),
        Normalization {
            sent: vec![Value::text("a b@e")],
            returned: vec![Value::text("ab@e")],
        },
    )]
    .into();
    let known = Population {
        normalizations: normalized,
        ..Population::default()
    };
    let there = |value: &str| account("berthing", &[("userName", &[value])]);
    assert_eq!(
        relation_to_account(user_name, &there("ab@e"), &known),
        Relation::Normalized
    );
    assert_eq!(
        relation_to_account(user_name, &there("xy@e"), &known),
        Relation::Differs
    );
    assert_eq!(
        relation_to_account(user_name, &there("a b@e"), &known),
        Relation::Same
    );
}

const ONE_NAME: &str = "[person.attributes]\nname = {}\n";
const FROM_HARBOUR: &str = "system = \"harbour\"\n[person.inbound]\nname = 'account.cn'\n";

/// Loads each rule set and looks for a fault with the given text.
fn assert_faults(cases: &[(&[(&str, &str)], &str)]) {
    for (files, wanted) in cases {
        let (_, faults) = load(files);
        let found: Vec<String> = faults.iter().map(ToString::to_string).collect();
        assert!(
            found.iter().any(|fault| fault.contains(wanted)),
            "wanted: {wanted}\nfound: {found:#?}"
        );
    }
}

/// A file of identities beside the rules of one source.
fn assert_fault_of_identities(identities: &str, wanted: &str) {
    let files: &[_] = &[
        ("identities.toml", identities),
        ("harbour.toml", FROM_HARBOUR),
    ];
    assert_faults(&[(files, wanted)]);
}

/// Another file beside sound rules of one source.
fn assert_fault_of(name: &str, text: &str, wanted: &str) {
    let files: &[_] = &[
        ("identities.toml", ONE_NAME),
        ("harbour.toml", FROM_HARBOUR),
        (name, text),
    ];
    assert_faults(&[(files, wanted)]);
}

#[test]
fn faults_of_the_identities_are_found_with_the_whole_rule_set() {
    assert_faults(&[(
        &[("harbour.toml", FROM_HARBOUR)],
        "identities.toml is missing",
    )]);
    assert_fault_of_identities(
        "[person.attributes]\nname = {}\nmail = { required = true }\n",
        "identities.toml:3:1: `mail` is required, but no system supplies it",
    );
    assert_fault_of_identities(
        "[person.attributes]\nname = { authority = [\"nowhere\"] }\n",
        "names the authority `nowhere`",
    );
    assert_fault_of_identities(
        "[person]\nlabel = \"shown\"\n[person.attributes]\nname = {}\n",
        "`label` names `shown`",
    );
    assert_fault_of_identities(
        "[person.attributes]\nname = { requird = true }\n",
        "did you mean `required`?",
    );
}

#[test]
fn faults_of_a_system_are_found_with_the_whole_rule_set() {
    assert_fault_of("b.toml", FROM_HARBOUR, "system `harbour` has rules in");
    assert_fault_of(
        "x.toml",
        "[person.inbound]\nname = 'account.cn'\n",
        "start it with: system",
    );
    assert_fault_of(
        "g.toml",
        "system = \"g\"\n[group.inbound]\nname = 'account.cn'\n",
        "identities.toml does not declare group",
    );
    assert_fault_of(
        "t.toml",
        "system = \"t\"\n[person.outbound]\nx = 'identity.name'\n",
        "without a match rule, existing accounts stay orphaned",
    );
    assert_fault_of(
        "t.toml",
        "system = \"t\"\n[[person.match]]\nname = \"n\"\naccount = 'account.x'\n",
        "a match rule needs two sides",
    );
    assert_fault_of(
        "t.toml",
        "system = \"t\"\n[[person.scope.condition]]\nreason = \"no\"\n",
        "a condition needs `when`",
    );
}

#[test]
fn faults_of_guards_and_tables_are_found_with_the_whole_rule_set() {
    assert_fault_of(
        "guards.toml",
        "[[guard]]\nchange = \"disable\"\n",
        "a guard needs a limit",
    );
    assert_fault_of(
        "guards.toml",
        "[[guard]]\nchange = \"vanish\"\nmax_count = 1\n",
        "`change` cannot be \"vanish\"",
    );
    assert_fault_of(
        "guards.toml",
        "[[guard]]\nsystem = \"x\"\nchange = \"create\"\nmax_count = 1\n",
        "no file has rules for a system `x`",
    );
    assert_fault_of(
        "tables.toml",
        "ports = 5\n",
        "`ports` must be a table of rows",
    );
    assert_fault_of(
        "tables.toml",
        "[ports]\n\"1\" = 5\n",
        "a row of a look-up table must be text",
    );
}

#[test]
fn comments_and_order_do_not_matter_and_places_are_right() {
    let rules = sound(&[
        (
            "identities.toml",
            "# about people\n\n[person.attributes]\n# the name\nname = {} # shown\n",
        ),
        (
            "harbour.toml",
            "system = \"harbour\"\n\n# in\n[person.inbound]\n\nname = '''\n  account.cn\n'''\n",
        ),
    ]);
    assert_eq!(
        rules.identities[&ObjectType::Person].attributes[0]
            .place
            .line,
        5
    );
    let mapping = &rules
        .of("harbour", ObjectType::Person)
        .expect("read")
        .inbound[0];
    assert_eq!((mapping.place.line, mapping.place.column), (6, 1));
    assert_eq!(rules.sources(ObjectType::Person).count(), 1);
    assert_eq!(rules.targets(ObjectType::Person).count(), 0);
}

#[test]
fn what_takes_something_away_is_limited_whether_a_file_says_so_or_not() {
    let target = "system = \"dock\"\n[[person.match]]\naccount = 'account.uid'\nidentity = 'identity.mail'\n[person.outbound]\nmail = 'identity.mail'\n";
    let file = |name: &str, text: &str| RuleFile {
        name: name.into(),
        text: text.into(),
    };
    let of = |guards: &str| {
        let files = [
            tide_core::rules::edit::first_identities(false),
            file("dock.toml", target),
            file("guards.toml", guards),
        ];
        let (rules, faults) = RuleSet::load(&files, &Default::default());
        assert!(
            faults
                .iter()
                .all(|fault| fault.severity != tide_core::rules::FaultSeverity::Error),
            "{faults:?}"
        );
        rules.guards
    };
    let built_in = |guards: &[tide_core::rules::Guard]| {
        guards
            .iter()
            .filter(|guard| guard.is_built_in)
            .map(|guard| guard.change.clone())
            .collect::<Vec<_>>()
    };
    let all = of("");
    assert_eq!(
        built_in(&all),
        ["disable", "delete", "revoke", "move", "password"]
    );
    assert!(all.iter().all(
        |guard| (guard.max_percent, guard.min_count, guard.window_hours) == (Some(10), Some(5), 24)
    ));
    let set = of(
        "[[guard]]\nchange = \"disable\"\nmax_percent = 100\n[[guard]]\nsystem = \"dock\"\nchange = \"move\"\nmax_count = 3\nmin_count = 2\n",
    );
    assert_eq!(
        built_in(&set),
        ["delete", "revoke", "password"],
        "a limit of a file takes its place"
    );
}

#[test]
fn a_directory_s_rules_are_held_against_what_it_is() {
    let mut schema = Schema {
        state_attribute: Some("enabled".into()),
        name_attribute: Some("dn".into()),
        ..Schema::default()
    };
    (schema.refers_by_name, schema.follows_renames) = (true, true);
    for name in [
        "dn",
        "enabled",
        "userAccountControl",
        "mail",
        "userCertificate",
        "anr",
        "memberOf",
    ] {
        schema.put(AttributeDef::text(name));
    }
    schema.put(AttributeDef {
        required: true,
        ..AttributeDef::text("cn")
    });
    let schemas: Schemas = [("dock".to_owned(), [(ObjectType::Person, schema)].into())].into();
    let faults = |outbound: &str, scope: &str| {
        let text = format!(
            "system = \"dock\"\n{scope}\n[[person.match]]\naccount = 'account.mail'\nidentity = 'identity.mail'\n\
             [person.inbound]\nmail = 'account[\"userCertificate;binary\"]'\n[person.outbound]\ndn = '\"cn=\" + identity.mail'\n{outbound}"
        );
        let files = [
            tide_core::rules::edit::first_identities(false),
            RuleFile {
                name: "dock.toml".into(),
                text,
            },
        ];
        let (_, faults) = RuleSet::load(&files, &schemas);
        faults
            .into_iter()
            .map(|fault: RuleFault| fault.message)
            .collect::<Vec<_>>()
    };
    let has = |faults: &[String], part: &str| faults.iter().any(|fault| fault.contains(part));
    let sound = faults("\"mail;lang-fr\" = 'identity.mail'\nenabled = 'true'\n", "");
    assert!(
        !has(&sound, "the system requires `cn`"),
        "its name gives it: {sound:?}"
    );
    assert!(
        !has(&sound, "lang-fr") && !has(&sound, "binary"),
        "an attribute has options: {sound:?}"
    );
    let twice = faults("enabled = 'true'\nuserAccountControl = '512'\n", "");
    assert!(
        has(
            &twice,
            "mapped twice, by `enabled` and by `userAccountControl`"
        ),
        "{twice:?}"
    );
    assert!(has(
        &faults("cn = 'identity.mail'\n", ""),
        "only `dn` changes it"
    ));
    // What only the server can decide is asked of it; back-links tell no change of their own.
    let asked = faults("", "[person.scope]\nfilter = '(&(mail=*)(anr=ada))'\n");
    assert!(!has(&asked, "anr"), "{asked:?}");
    let old = faults("", "[person.scope]\nfilter = '(memberOf=*)'\n");
    assert!(has(&old, "as old as the last full read"), "{old:?}");
    let stale = faults(
        "",
        "[[person.scope.condition]]\nwhen = 'account.memberOf != null'\n",
    );
    assert!(has(&stale, "cannot decide the scope"), "{stale:?}");
    let unknown = faults("", "[person.scope]\nfilter = '(nsRole=crew)'\n");
    assert!(has(&unknown, "no attribute `nsRole`"), "{unknown:?}");
}
