use super::*;
use crate::schema::AttributeDef;

const PERSONS: &str =
    "[person]\nlabel = \"name\"\n[person.attributes]\nname = {}\nmail = { unique = true }\n";

fn load_system(text: &str) -> (RuleSet, Vec<String>) {
    let files = [
        RuleFile {
            name: "identities.toml".into(),
            text: PERSONS.into(),
        },
        RuleFile {
            name: "harbour.toml".into(),
            text: text.into(),
        },
        RuleFile {
            name: "tables.toml".into(),
            text: "[ports]\n\"1\" = \"Northhaven\"\n".into(),
        },
    ];
    let mut schema = Schema::default();
    for name in ["sn", "givenName", "mail", "departmentNumber"] {
        schema.put(AttributeDef::text(name));
    }
    let schemas = [("harbour".to_owned(), [(ObjectType::Person, schema)].into())].into();
    let (rules, faults) = RuleSet::load(&files, &schemas);
    (rules, faults.iter().map(RuleFault::to_string).collect())
}

#[test]
fn a_sound_file_has_no_fault() {
    let (rules, faults) = load_system(
        "system = \"harbour\"\n[person.scope]\nwithin = [\"ou=people,dc=e\"]\n[person.inbound]\nname = 'joinWords(account.givenName, account.sn)'\nmail = { value = 'lower(account.mail)', required = true }\n",
    );
    assert_eq!(faults, Vec::<String>::new());
    let types = rules.of("harbour", ObjectType::Person).expect("read");
    assert_eq!(types.inbound.len(), 2);
    assert_eq!(types.inbound[0].place.line, 5);
    assert_eq!(types.inbound[1].requirement, Requirement::Required);
}

/// Each bad line, and what is said of it.
#[test]
fn every_fault_has_its_place_and_a_remedy() {
    let cases = [
        (
            "[person.inbound]\nname = 'account.surnme'",
            "harbour.toml:3:9: unknown attribute `account.surnme`",
        ),
        (
            "[person.inbound]\nname = 'account.givenNam'",
            "did you mean `account.givenName`?",
        ),
        (
            "[person.inbound]\nname = 'lowr(account.sn)'",
            "did you mean `lower`?",
        ),
        (
            "[person.inbound]\nname = 'lower(account.sn'",
            "harbour.toml:3:",
        ),
        (
            "[person.inbound]\nnmae = 'account.sn'",
            "harbour.toml:3:1: identities.toml declares no attribute `nmae` (did you mean `name`?)",
        ),
        (
            "[person.inbound]\nname = 'lookup(\"port\", account.sn)'",
            "did you mean \"ports\"?",
        ),
        (
            "[person.inbound]\nname = 5",
            "harbour.toml:3:8: the mapping of `name` must be an expression in quotes, not a number",
        ),
        (
            "[person.scpoe]\nwithin = []",
            "unknown key `scpoe` in [person] (did you mean `scope`?)",
        ),
        (
            "[person.scope]\nwithin = [\"people\"]",
            "harbour.toml:3:11: not a distinguished name (RFC 4514)",
        ),
        (
            "[person]\non_out_of_scope = \"delete\"",
            "choose one of \"disable\", \"leave\"",
        ),
        (
            "[person.inbound\nname = 'x'",
            "harbour.toml:2:16: not valid TOML",
        ),
        (
            "[person.outbound]\nshoe = 'identity.name'",
            "the system has no attribute `shoe`",
        ),
        (
            "[person.inbound]\nname = 'identity.name'",
            "unknown name `identity`",
        ),
    ];
    for (text, wanted) in cases {
        let (_, faults) = load_system(&format!("system = \"harbour\"\n{text}\n"));
        assert!(
            faults.iter().any(|fault| fault.contains(wanted)),
            "{text}\nwanted: {wanted}\nfound: {faults:#?}"
        );
    }
}

#[test]
fn a_file_without_a_system_says_so() {
    let (_, faults) = load_system("[person.inbound]\n");
    assert!(
        faults[0].contains("start it with: system = \"name\""),
        "{faults:?}"
    );
}

#[test]
fn deep_nesting_and_long_sources_are_errors_and_not_the_end() {
    let deep = format!("{}1{}", "(".repeat(200), ")".repeat(200));
    let long = format!("'{}'", "x".repeat(2000));
    for source in [deep, long, "1 +".into(), "'open".into(), "a ? b".into()] {
        let error =
            Program::compile(&source, &ExprScope::open(&[Root::Account])).expect_err("refused");
        assert!(!error.message.is_empty());
    }
}
