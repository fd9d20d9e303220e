use super::*;
use crate::value::format_values;
use proptest::prelude::*;
use std::collections::BTreeMap;

fn account() -> Attributes {
    [
        ("sn".into(), vec![Value::text("D'Amberg")]),
        ("givenName".into(), vec![Value::text("Eiko")]),
        (
            "mail".into(),
            vec![
                Value::text("b@skerry.example"),
                Value::text("a@skerry.example"),
            ],
        ),
        ("flags".into(), vec![Value::Int(514)]),
        ("locked".into(), vec![Value::Bool(true)]),
        ("name.familyName".into(), vec![Value::text("Lind")]),
        (
            "userCertificate;binary".into(),
            vec![Value::Bytes(vec![1, 2, 3])],
        ),
        (
            "hired".into(),
            vec![Value::Time("2026-03-01T00:00:00Z".parse().expect("valid"))],
        ),
    ]
    .into_iter()
    .collect()
}

fn run(source: &str) -> Result<String, ExprError> {
    let account = account();
    let program = Program::compile(source, &ExprScope::open(&[Root::Account]))?;
    program
        .run(&EvalInputs {
            account: Some(&account),
            identity: None,
        })
        .map(|values| format_values(&values))
}

fn gives(source: &str, wanted: &str) {
    match run(source) {
        Ok(found) => assert_eq!(found, wanted, "{source}"),
        Err(error) => panic!("{source}: {error} at {}", error.offset),
    }
}

fn fails(source: &str, wanted: &str) {
    let error = run(source)
        .err()
        .unwrap_or_else(|| panic!("{source} does not fail"));
    let text = format!(
        "{} {}",
        error.message,
        error.help.clone().unwrap_or_default()
    );
    assert!(
        text.contains(wanted),
        "{source}: wanted `{wanted}`, found `{text}`"
    );
}

#[test]
fn attributes_are_read_by_any_of_their_spellings() {
    gives("account.sn", "D'Amberg");
    gives("account.SN", "D'Amberg");
    gives("account[\"sn\"]", "D'Amberg");
    gives("account.name.familyName", "Lind");
    gives("account[\"userCertificate;binary\"]", "(3 octets)");
    gives("account.missing", "—");
}

#[test]
fn several_values_are_one_unless_every_one_is_asked_for() {
    gives("account.mail", "a@skerry.example");
    gives(
        "values(account.mail)",
        "a@skerry.example · b@skerry.example",
    );
    gives("size(values(account.mail))", "2");
    gives("size(values(account.missing))", "0");
    gives("first(values(account.mail))", "a@skerry.example");
    gives("values(account.mail)[1]", "b@skerry.example");
    gives("values(account.mail)[7]", "—");
}

#[test]
fn missing_values_never_become_text() {
    gives("account.missing + \" Lind\"", "—");
    gives("lower(account.missing)", "—");
    gives("joinWords(account.missing, account.sn)", "D'Amberg");
    gives("joinWords(account.missing, ' ')", "—");
    gives("coalesce(account.missing, '  ', account.givenName)", "Eiko");
    gives("account.missing == null", "true");
    gives("has(account.missing)", "false");
    gives("has(account.sn)", "true");
    gives(
        "isBlank(account.missing) && isBlank('  ') && !isBlank('x')",
        "true",
    );
    gives("account.missing < 3", "false");
    gives("contains(account.missing, 'x')", "false");
    gives("substring(account.missing, 0, 1)", "—");
    gives("-account.missing", "—");
    gives("null + 1", "—");
}

#[test]
fn conditions_choose_and_stop_early() {
    gives("account.locked ? 'shut' : 'open'", "shut");
    gives("account.missing ? 'yes' : 'no'", "no");
    gives("false && (1 / 0 == 1)", "false");
    gives("true || (1 / 0 == 1)", "true");
    gives("!account.locked", "false");
    gives("'b' in ['a', 'b'] && !('c' in ['a', 'b'])", "true");
    gives("account.sn in null", "false");
}

#[test]
fn numbers_and_instants_compare_and_count() {
    gives("1 + 2 * 3 - 4 / 2 % 3", "5");
    gives("7 >= 7 && 6 < 7 && 8 > 7 && 7 <= 7 && 7 != 8", "true");
    gives("'a' < 'b' && 'b' >= 'b'", "true");
    gives(
        "hasFlag(account.flags, 2) && !hasFlag(account.flags, 4)",
        "true",
    );
    gives("text(account.flags)", "514");
    gives("int('12') + 1", "13");
    gives("int('no number')", "—");
    gives("account.hired == account.hired", "true");
    gives("-(-3)", "3");
}

#[test]
fn lists_are_walked_with_the_macros_of_cel() {
    gives(
        "values(account.mail).map(m, upper(m))",
        "A@SKERRY.EXAMPLE · B@SKERRY.EXAMPLE",
    );
    gives(
        "values(account.mail).filter(m, m.startsWith('b'))",
        "b@skerry.example",
    );
    gives(
        "values(account.mail).exists(m, m.endsWith('.example'))",
        "true",
    );
    gives("values(account.mail).all(m, m.contains('a@'))", "false");
    gives(
        "values(account.mail).exists_one(m, m.startsWith('a'))",
        "true",
    );
    gives("values(account.missing).exists(m, true)", "false");
    gives("['a'] + ['b']", "a · b");
    gives("lower(['A', null])", "a");
}

#[test]
fn names_are_shaped_as_accounts_need_them() {
    gives("lower(transliterate(alphanumeric(account.sn)))", "damberg");
    gives("initial(account.givenName) + account.sn", "ED'Amberg");
    gives("substring(lower(account.givenName), 0, 2)", "ei");
    gives("replace(account.sn, \"'\", '')", "DAmberg");
    gives("normalizeSpace('  Jean   Luc ')", "Jean Luc");
    gives("join(split('a; b;c', ';'), '+')", "a+b+c");
    gives("transliterate('Łucja Þórsdóttir')", "Lucja Thorsdottir");
    gives("account.sn.lower()", "d'amberg");
    gives("account.mail.matches('^[a-z]+@')", "true");
}

#[test]
fn faults_are_found_when_an_expression_is_compiled() {
    fails("lowr(account.sn)", "did you mean `lower`?");
    fails("wholly_unknown(1)", "docs/expressions.md");
    fails("lower()", "`lower` takes one value; 0 given");
    fails("substring('a', 1)", "`substring` takes 3 values");
    fails("account", "name an attribute of it");
    fails("person.sn", "unknown name `person`");
    fails("matches(account.sn, account.mail)", "must be written out");
    fails("matches(account.sn, '(')", "the pattern is not valid");
    fails("lookup(account.sn, 'x')", "must be written out");
    fails("lookup('t')", "takes a table's name and a key");
    fails("values('x')", "takes an attribute");
    fails("{'a': 1}", "not supported");
    fails("1.5", "not supported");
    fails("'open", "cannot be read");
    fails("  ", "the expression is empty");
    fails("1 +", "cannot be read");
}

#[test]
fn faults_at_run_time_say_what_and_where() {
    fails("1 / 0", "division by zero");
    fails("'a' + 1", "cannot be combined");
    fails("'a' < 1", "cannot be combined");
    fails("!'a'", "true or false is needed");
    fails("lower(1)", "takes text; this is always a number");
    fails("lower(account.flags)", "text is needed");
    fails("9223372036854775807 + 1", "too large");
    fails("[['a']]", "nested lists are not supported");
    fails("substring('a', -1, 1)", "must not be negative");
    let error = run("joinWords('a') + (1 / 0)").expect_err("fails");
    assert_eq!(error.offset, 20, "the place is the division's");
}

#[test]
fn nothing_runs_for_ever_or_grows_without_end() {
    let long = format!("[{}]", vec!["1"; 60].join(","));
    let nested = format!("{long}.all(a, {long}.all(b, {long}.all(c, true)))");
    fails(&nested, "needs more than 10000 steps");
    let account: Attributes = [("big".into(), vec![Value::text("x".repeat(60_000))])]
        .into_iter()
        .collect();
    let program = Program::compile(
        "account.big + account.big",
        &ExprScope::open(&[Root::Account]),
    )
    .expect("compiles");
    let error = program
        .run(&EvalInputs {
            account: Some(&account),
            identity: None,
        })
        .expect_err("too large");
    assert!(error.message.contains("larger than"), "{error}");
}

#[test]
fn tables_are_looked_up_and_known_names_are_held_to() {
    let tables: BTreeMap<String, BTreeMap<String, String>> = [(
        "ports".to_owned(),
        [("1".to_owned(), "Northhaven".to_owned())].into(),
    )]
    .into();
    let names: BTreeMap<String, bool> =
        [("port".to_owned(), false), ("phones".to_owned(), true)].into();
    let known = ExprScope {
        roots: vec![(Root::Identity, Names::These(&names))],
        tables: Some(&tables),
    };
    let identity: Attributes = [
        ("port".into(), vec![Value::text(" 1 ")]),
        ("phones".into(), vec![Value::text("7"), Value::text("8")]),
    ]
    .into_iter()
    .collect();
    let values = EvalInputs {
        account: None,
        identity: Some(&identity),
    };
    let run = |source: &str| {
        Program::compile(source, &known)
            .expect("compiles")
            .run(&values)
            .map(|v| format_values(&v))
            .expect("runs")
    };
    assert_eq!(run("lookup('ports', identity.port)"), "Northhaven");
    assert_eq!(run("lookup('ports', 'x')"), "—");
    assert_eq!(run("lookup('ports', 'x', 'nowhere')"), "nowhere");
    assert_eq!(run("lookup('ports', 1)"), "Northhaven");
    assert_eq!(
        run("identity.phones"),
        "7 · 8",
        "an attribute declared `many` is a list"
    );
    let error = Program::compile("identity.prot", &known).expect_err("unknown");
    assert_eq!(error.help.as_deref(), Some("did you mean `identity.port`?"));
    let error = Program::compile("port", &known).expect_err("unknown");
    assert_eq!(error.help.as_deref(), Some("did you mean `identity.port`?"));
    let program = Program::compile(
        "lookup('ports', identity.port, text(size(identity.phones)))",
        &known,
    )
    .expect("compiles");
    assert_eq!(
        program.reads(),
        [
            (Root::Identity, "phones".to_owned()),
            (Root::Identity, "port".to_owned())
        ]
    );
    assert_eq!(
        program.values_read(&values)[0],
        ("identity.phones".to_owned(), "7 · 8".to_owned())
    );
}

#[test]
fn only_true_is_true_in_a_condition() {
    let account = account();
    let values = EvalInputs {
        account: Some(&account),
        identity: None,
    };
    let holds = |source: &str| {
        Program::compile(source, &ExprScope::open(&[Root::Account]))
            .expect("compiles")
            .holds(&values)
    };
    assert_eq!(holds("account.locked"), Ok(true));
    assert_eq!(holds("account.missing"), Ok(false));
    assert!(
        holds("account.sn")
            .expect_err("text")
            .message
            .contains("must be true or false")
    );
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]

    #[test]
    fn any_source_is_compiled_or_refused(source in ".{0,40}") {
        let _ = Program::compile(&source, &ExprScope::open(&[Root::Account]));
    }

    #[test]
    fn any_mixture_of_real_parts_is_compiled_or_refused(parts in proptest::collection::vec(
        prop_oneof![Just("account.sn"), Just("("), Just(")"), Just("lower"), Just("+"), Just("'x'"), Just("["), Just("]"), Just("?"), Just(":"),
            Just("&&"), Just("1"), Just(","), Just(".map(a,"), Just("!"), Just("null")], 0..14)) {
        let source = parts.join(" ");
        if let Ok(program) = Program::compile(&source, &ExprScope::open(&[Root::Account])) {
            let account = account();
            let _ = program.run(&EvalInputs { account: Some(&account), identity: None });
        }
    }

    #[test]
    fn words_never_holds_two_blanks_or_an_outer_one(parts in proptest::collection::vec("[ a-zé]{0,6}", 1..5)) {
        let quoted: Vec<String> = parts.iter().map(|p| format!("'{p}'")).collect();
        let found = run(&format!("joinWords({})", quoted.join(", "))).expect("runs");
        prop_assert!(!found.contains("  ") && found.trim() == found);
    }
}

#[test]
fn patterns_find_and_put_anew() {
    gives("regexExtract('uid=ada,ou=Deck', '^uid=([^,]+)')", "ada");
    gives("regexExtract('Deck', '^D')", "D");
    gives("regexExtract('Deck', 'x')", "—");
    gives("regexExtract(account.missing, 'x')", "—");
    gives("regexReplace('0047 555', '^00', '+')", "+47 555");
    gives(
        "'Lind, Ada'.regexReplace('(\\\\w+), (\\\\w+)', '$2 $1')",
        "Ada Lind",
    );
    fails("regexReplace(1, 'a', 'b')", "cannot be used on a number");
    fails("regexReplace('a', account.sn, 'b')", "must be written out");
    fails("regexExtract('a')", "takes a text and a pattern");
}

#[test]
fn every_function_stands_in_the_documents_with_its_example() {
    let document = include_str!("../../../../docs/expressions.md");
    for function in super::catalogue() {
        let row = format!(
            "| `{}` | {} | `{}` |",
            function.name, function.about, function.example
        );
        assert!(
            document.contains(&row),
            "docs/expressions.md wants the row {row}"
        );
    }
}
