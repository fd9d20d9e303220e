//! Expressions that mean harm, or were only written carelessly: each ends in a value or in a clear
//! error, after a bounded number of steps, and none takes the process with it. `EAGER_TIDE_FUZZ`
//! says how many made-up expressions are tried (2,000 without it; `scripts/fuzz` tries a million).
#![allow(clippy::disallowed_methods, reason = "tests run in real time")]

use proptest::prelude::*;
use proptest::test_runner::Config;
use tide_core::expr::{
    EvalInputs, ExprScope, MAX_DEPTH, MAX_FUEL, MAX_SIZE, MAX_SOURCE, Program, Root,
};
use tide_core::{Attributes, Value};

fn record() -> Attributes {
    let mut record = Attributes::new();
    record.set(
        "long",
        (0..400)
            .map(|n| Value::text(format!("value {n}")))
            .collect(),
    );
    record.set("wide", vec![Value::text("a".repeat(60_000))]);
    record.set("sn", vec![Value::text("Lind")]);
    record.set("number", vec![Value::Int(7)]);
    record
}

/// The error and the steps of an expression that must not come through.
fn stopped(source: &str) -> (String, u32) {
    let record = record();
    let program = Program::compile(source, &ExprScope::open(&[Root::Account]))
        .unwrap_or_else(|error| panic!("{source}: {error}"));
    let (outcome, steps) = program.run_counting(&EvalInputs {
        account: Some(&record),
        identity: None,
    });
    (outcome.expect_err(source).to_string(), steps)
}

#[test]
fn loops_in_loops_end_when_the_steps_are_used_up() {
    for source in [
        "values(account.long).map(a, values(account.long).map(b, a + b))",
        "values(account.long).all(a, values(account.long).all(b, values(account.long).all(c, a != b || b != c || true)))",
    ] {
        let (error, steps) = stopped(source);
        assert!(
            error.contains(&format!("more than {MAX_FUEL} steps")),
            "{source}: {error}"
        );
        assert_eq!(steps, MAX_FUEL, "{source}");
    }
}

#[test]
fn a_text_that_doubles_ends_at_its_size() {
    let doubled = (0..12).fold("account.wide".to_owned(), |inner, _| {
        format!("replace({inner}, 'a', 'aa')")
    });
    let (error, steps) = stopped(&doubled);
    assert!(
        error.contains("too large") || error.contains(&MAX_SIZE.to_string()),
        "{error}"
    );
    assert!(steps < 5_000, "{steps}");
    for source in [
        "account.wide + account.wide",
        "regexReplace(account.wide, 'a', 'bb')",
        "regexReplace(account.wide, '(a+)', '$1$1$1')",
    ] {
        let (error, steps) = stopped(source);
        assert!(error.contains(&MAX_SIZE.to_string()), "{source}: {error}");
        assert!(steps <= MAX_FUEL, "{source}: {steps}");
    }
}

#[test]
fn a_heavy_pattern_is_refused_or_runs_in_steps() {
    let refused = Program::compile(
        "matches(account.wide, '(a{1,200}){1,200}')",
        &ExprScope::open(&[Root::Account]),
    )
    .expect_err("too large");
    assert!(refused.message.contains("pattern"), "{refused}");
    // What makes a backtracking search run for ever is one pass here, and is paid for by its
    // length.
    let record = record();
    let program = Program::compile(
        "matches(account.wide, '^(a|a|aa)+$b')",
        &ExprScope::open(&[Root::Account]),
    )
    .expect("compiles");
    let (outcome, steps) = program.run_counting(&EvalInputs {
        account: Some(&record),
        identity: None,
    });
    assert_eq!(outcome.expect("runs"), [Value::Bool(false)]);
    assert!((7_500..MAX_FUEL).contains(&steps), "{steps}");
    let (_, steps) = stopped("values(account.long).all(x, matches(account.wide, 'a+') || true)");
    assert_eq!(steps, MAX_FUEL);
}

#[test]
fn chains_and_nests_are_refused_before_anything_runs() {
    let refused = |source: String| {
        Program::compile(&source, &ExprScope::open(&[Root::Account]))
            .expect_err("refused")
            .message
    };
    assert!(refused(vec!["1"; 400].join("+")).contains(&format!("more than {MAX_DEPTH} parts")));
    assert!(
        refused(vec!["account.sn"; 2_000].join("+")).contains(&format!("{MAX_SOURCE} are allowed"))
    );
    assert!(
        refused(format!("{}1{}", "(".repeat(400), ")".repeat(400))).contains("nested more than")
    );
    assert!(refused(format!("{}true", "!".repeat(900))).contains("nested more than"));
    assert!(refused("true ? ".repeat(60) + "1" + &" : 1".repeat(60)).contains("nested more than"));
}

#[test]
fn a_type_error_is_found_before_anything_runs() {
    let error = Program::compile(
        "lower(size(account.sn))",
        &ExprScope::open(&[Root::Account]),
    )
    .expect_err("refused");
    assert_eq!(error.offset, 10, "at the value");
    assert!(
        error
            .message
            .contains("`lower` takes text; this is always a number"),
        "{error}"
    );
    let kinds = |source: &str| {
        Program::compile(source, &ExprScope::open(&[Root::Account]))
            .expect(source)
            .result_kind()
    };
    assert_eq!(kinds("isBlank(account.sn)"), Some("true or false"));
    assert_eq!(kinds("account.sn == null ? 'a' : lower('B')"), Some("text"));
    assert_eq!(kinds("account.sn"), None);
}

/// Expressions of any shape, most of them sound in their grammar and mad in what they ask for.
fn any_source() -> impl Strategy<Value = String> {
    let leaf = prop_oneof![
        Just("account.long".to_owned()),
        Just("values(account.long)".to_owned()),
        Just("account.wide".to_owned()),
        Just("account.number".to_owned()),
        Just("null".to_owned()),
        Just("'a'".to_owned()),
        Just("9223372036854775807".to_owned()),
        Just("[1, 'b', null]".to_owned()),
        "[a-z'\"(){}\\[\\].,?:!+*/%-]{0,12}".prop_map(|text| text),
    ];
    leaf.prop_recursive(5, 60, 3, |inner| {
        let names: Vec<&'static str> = tide_core::expr::catalogue()
            .iter()
            .map(|function| function.name)
            .collect();
        prop_oneof![
            (
                inner.clone(),
                inner.clone(),
                prop::sample::select(vec!["+", "-", "*", "/", "%", "==", "<", "in", "&&", "||"])
            )
                .prop_map(|(left, right, op)| format!("({left} {op} {right})")),
            (
                prop::sample::select(names),
                proptest::collection::vec(inner.clone(), 0..4)
            )
                .prop_map(|(name, arguments)| format!("{name}({})", arguments.join(", "))),
            (
                inner.clone(),
                inner.clone(),
                prop::sample::select(vec!["map", "filter", "all", "exists", "exists_one"])
            )
                .prop_map(|(list, step, name)| format!("{list}.{name}(x, {step} == x)")),
            (inner.clone(), inner.clone(), inner.clone())
                .prop_map(|(a, b, c)| format!("({a} ? {b} : {c})")),
            (inner.clone(), inner.clone()).prop_map(|(list, at)| format!("[{list}][{at}]")),
            inner
                .clone()
                .prop_map(|text| format!("{text}.regexReplace('(.)', '$1$1')")),
            inner.prop_map(|text| format!("-{text}")),
        ]
    })
}

#[test]
fn any_expression_ends_within_its_bounds() {
    let cases = std::env::var("EAGER_TIDE_FUZZ")
        .ok()
        .and_then(|text| text.parse().ok())
        .unwrap_or(2_000);
    let record = record();
    let known = ExprScope::open(&[Root::Account]);
    let ran = std::cell::Cell::new(0u32);
    let mut runner = proptest::test_runner::TestRunner::new(Config {
        cases,
        ..Config::default()
    });
    runner
        .run(&any_source(), |source| {
            let Ok(program) = Program::compile(&source, &known) else {
                return Ok(());
            };
            ran.set(ran.get() + 1);
            let (outcome, steps) = program.run_counting(&EvalInputs {
                account: Some(&record),
                identity: None,
            });
            prop_assert!(steps <= MAX_FUEL, "{steps} steps of {source}");
            if let Ok(values) = outcome {
                let size: usize = values.iter().map(|value| value.to_string().len()).sum();
                prop_assert!(
                    values.len() <= MAX_SIZE && size <= MAX_SIZE * 16,
                    "{source} gave {size} octets"
                );
            }
            Ok(())
        })
        .unwrap_or_else(|error| panic!("{error}"));
    // A generator that only makes what is refused would prove nothing.
    assert!(
        ran.get() > cases / 10,
        "{} of {cases} could be run",
        ran.get()
    );
}
