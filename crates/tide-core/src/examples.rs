//! The check of a rule set, with the examples beside the rules: "given this record, expect these
//! values".

use crate::compose;
use crate::generate::{self, TakenValues};
use crate::model::Account;
use crate::rules::{
    Example, FaultSeverity, RuleFault, RuleFile, RuleSet, Schemas, TypeRules, load_files,
};
use crate::states::ObjectType;
use crate::value::{Attributes, Value, format_values};

impl RuleSet {
    /// Reads and checks the files, and runs the examples. The rule set is usable when no fault is
    /// an error. Faults are sorted by their places.
    pub fn load(files: &[RuleFile], schemas: &Schemas) -> (RuleSet, Vec<RuleFault>) {
        let (rules, mut faults) = load_files(files, schemas);
        let is_error = |fault: &RuleFault| fault.severity == FaultSeverity::Error;
        // An error in a rule is reported once, without its consequences.
        if !faults.iter().any(is_error) {
            faults.extend(run_examples(&rules, schemas));
        }
        faults.sort_by(|a, b| {
            (&a.place.file, a.place.line, a.place.column).cmp(&(
                &b.place.file,
                b.place.line,
                b.place.column,
            ))
        });
        (rules, faults)
    }
}

/// Runs all examples; each value that is not as expected is an error at its example.
fn run_examples(rules: &RuleSet, schemas: &Schemas) -> Vec<RuleFault> {
    let mut faults = Vec::new();
    for (name, system) in &rules.systems {
        for (kind, types) in &system.types {
            for example in &types.examples {
                if let Err(message) = run_example(rules, schemas, name, *kind, example) {
                    faults.push(RuleFault {
                        severity: FaultSeverity::Error,
                        place: example.place.clone(),
                        message: format!("the example \"{}\" fails: {message}", example.name),
                        help: Some("correct the rule, or the example if the rule is right".into()),
                    });
                }
            }
        }
    }
    faults
}

/// The identity that a source record yields.
fn identity_of(
    rules: &RuleSet,
    system: &str,
    kind: ObjectType,
    types: &TypeRules,
    given: &Attributes,
) -> Result<Attributes, String> {
    let declared = rules
        .identities
        .get(&kind)
        .ok_or("identities.toml declares nothing of this type")?;
    let account = Account {
        id: 0,
        system: system.to_owned(),
        kind,
        key: "example".into(),
        name: "example".into(),
        attributes: given.clone(),
        absent_since: None,
        absence_confirmed: false,
        fault: None,
    };
    let composed = compose::compose_identity(declared, &[(system, types, &account)], false);
    match composed.problems.into_iter().next() {
        Some(problem) => Err(problem.to_string()),
        None => Ok(composed.attributes),
    }
}

fn run_example(
    rules: &RuleSet,
    schemas: &Schemas,
    system: &str,
    kind: ObjectType,
    example: &Example,
) -> Result<(), String> {
    let Some(types) = rules.of(system, kind) else {
        return Ok(());
    };
    let mut identity = if types.is_source() {
        identity_of(rules, system, kind, types, &example.given)?
    } else {
        example.given.clone()
    };
    if let Some(declared) = rules.identities.get(&kind) {
        generate::generate_values(declared, &mut identity, "example", &TakenValues::default())
            .map_err(|reason| reason.to_string())?;
    }
    let target = match &example.account_in {
        Some(target) => Some(target.as_str()),
        None => (!types.is_source()).then_some(system),
    };
    let made: Attributes = match target {
        None => identity,
        Some(target) => {
            let there = rules.of(target, kind).filter(|types| types.is_target());
            let there =
                there.ok_or_else(|| format!("`{target}` has no outbound mapping for {kind}"))?;
            for (name, value) in [("id", "example"), ("stage", "active")] {
                if identity.get(name).is_empty() {
                    identity.set(name, vec![Value::text(value)]);
                }
            }
            let desired = compose::desired(
                there,
                &identity,
                schemas.get(target).and_then(|by_type| by_type.get(&kind)),
            );
            // Attributes named in `expect` come before errors in others.
            let asked = |name: &str| {
                example
                    .expect
                    .iter()
                    .any(|(wanted, _)| wanted.eq_ignore_ascii_case(name))
            };
            if let Some(problem) = desired.problems.first().filter(|_| {
                !desired
                    .wanted
                    .iter()
                    .all(|wanted| asked(&wanted.mapping.attribute))
            }) {
                return Err(problem.to_string());
            }
            desired
                .wanted
                .into_iter()
                .map(|wanted| (wanted.mapping.attribute.clone(), wanted.values))
                .collect()
        }
    };
    for (name, wanted) in &example.expect {
        let found = made.get(name);
        let texts = |values: &[Value]| {
            let mut texts: Vec<String> = values.iter().map(Value::to_string).collect();
            texts.sort();
            texts
        };
        if texts(found) != texts(wanted) {
            return Err(format!(
                "{name} should be {}, but is {}",
                format_values(wanted),
                format_values(found)
            ));
        }
    }
    Ok(())
}
