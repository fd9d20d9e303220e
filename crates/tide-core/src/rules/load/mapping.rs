//! Mappings: a system's own, those that it shares with others (blocks), and those of one
//! population.

use super::super::read::{RuleSource, Section, kind_name};
use super::super::{
    Apply, Example, Mapping, OnEmpty, PopulationRules, Requirement, SharedMappings,
};
use super::compile_program;
use crate::expr::ExprScope;
use crate::value::{Attributes, Value};
use toml::Spanned;
use toml::de::DeValue;

/// The mappings of a section and of the shared mappings that its type names; its own win.
pub(super) fn read_with_shared(
    blocks: &[&Section<'_>],
    own: Option<&Section<'_>>,
    known: &ExprScope<'_>,
    check: &dyn Fn(&RuleSource<'_>, &str, usize),
) -> Vec<Mapping> {
    let mut all: Vec<Mapping> = Vec::new();
    for section in blocks.iter().copied().chain(own) {
        for mapping in read_mappings(section, known, check) {
            all.retain(|other| !other.attribute.eq_ignore_ascii_case(&mapping.attribute));
            all.push(mapping);
        }
    }
    all
}

/// The shared mappings that a type names, as their sections of one direction.
pub(super) fn shared_sections<'b, 'a>(
    section: &Section<'_>,
    blocks: &'b SharedMappings<'a>,
    direction: &'static str,
) -> Vec<&'b Section<'a>> {
    let source = section.source;
    let mut found = Vec::new();
    for (name, span) in section.texts("shared_mappings") {
        match blocks.iter().find(|block| block.name == name) {
            Some(block) => found.extend(if direction == "inbound" {
                &block.inbound
            } else {
                &block.outbound
            }),
            // Reported once for both directions.
            None if direction == "inbound" => {
                let near = crate::expr::closest_name(
                    &name,
                    blocks.iter().map(|block| block.name.as_str()),
                );
                source.error(
                    span.start,
                    format!("shared_mappings.toml has no mapping `{name}` for this type"),
                    Some(near.map_or_else(
                        || {
                            "declare it there as [person.NAME.outbound] or [person.NAME.inbound]"
                                .into()
                        },
                        |near| format!("did you mean `{near}`?"),
                    )),
                );
            }
            None => {}
        }
    }
    found
}

/// The mappings of populations, in the order in which they win.
pub(super) fn read_populations(
    section: &Section<'_>,
    known: &ExprScope<'_>,
    check: &dyn Fn(&RuleSource<'_>, &str, usize),
) -> Vec<PopulationRules> {
    let source = section.source;
    let mut all: Vec<PopulationRules> = Vec::new();
    for item in section.list("population") {
        let Some(one) = section.as_section("population", item, "a population") else {
            continue;
        };
        let (name, when, outbound) = (one.text("name"), one.text("when"), one.section("outbound"));
        match (name, when, outbound) {
            (Some((name, span)), Some(when), Some(outbound)) => {
                if all.iter().any(|other| other.name == name) {
                    source.error(span.start, format!("there are two populations `{name}`"), None);
                }
                if let Some(when) = compile_program(source, &when, known) {
                    all.push(PopulationRules { name, when, outbound: read_mappings(&outbound, known, check), place: one.place() });
                }
            }
            _ => source.error(
                one.at,
                "a population needs a name, a condition and mappings",
                Some("name = \"Tern Isle\", when = 'identity.port == \"Tern Isle\"', and [person.population.outbound] below".into()),
            ),
        }
        one.report_unknown_keys();
    }
    all
}

/// Values as they are written in a file.
fn read_values(source: &RuleSource<'_>, item: &Spanned<DeValue<'_>>) -> Vec<Value> {
    match item.get_ref() {
        DeValue::Array(all) => all
            .iter()
            .flat_map(|item| read_values(source, item))
            .collect(),
        // An empty text means no value.
        DeValue::String(text) if text.is_empty() => Vec::new(),
        DeValue::String(text) => vec![Value::text(text.to_string())],
        DeValue::Boolean(truth) => vec![Value::Bool(*truth)],
        DeValue::Integer(digits) => i64::from_str_radix(digits.as_str(), digits.radix())
            .map(Value::Int)
            .into_iter()
            .collect(),
        other => {
            source.error(
                item.span().start,
                format!(
                    "a value must be text, a number, true or false, not {}",
                    kind_name(other)
                ),
                None,
            );
            Vec::new()
        }
    }
}

/// The examples that stand beside the rules of a type.
pub(super) fn read_examples(section: &Section<'_>) -> Vec<Example> {
    let source = section.source;
    let mut all = Vec::new();
    for (at, item) in section.list("example").into_iter().enumerate() {
        let Some(one) = section.as_section("example", item, "an example") else {
            continue;
        };
        let name = one
            .text("name")
            .map_or_else(|| format!("example {}", at + 1), |(name, _)| name);
        let account_in = one.text("account_in").map(|(system, _)| system);
        match (one.section("given"), one.section("expect")) {
            (Some(given), Some(expect)) => {
                let given: Attributes = given
                    .entries()
                    .map(|(name, _, item)| (name.to_owned(), read_values(source, item)))
                    .collect();
                let expect = expect
                    .entries()
                    .map(|(name, _, item)| (name.to_owned(), read_values(source, item)))
                    .collect();
                all.push(Example {
                    name,
                    given,
                    expect,
                    account_in,
                    place: one.place(),
                });
            }
            _ => source.error(
                one.at,
                "an example needs `given` and `expect`",
                Some(
                    "given = { sn = \"D'Amberg\" } and expect = { familyName = \"D'Amberg\" }"
                        .into(),
                ),
            ),
        }
        one.report_unknown_keys();
    }
    all
}

fn read_mappings(
    section: &Section<'_>,
    known: &ExprScope<'_>,
    check: &dyn Fn(&RuleSource<'_>, &str, usize),
) -> Vec<Mapping> {
    let source = section.source;
    let mut all = Vec::new();
    for (name, at, value) in section.entries() {
        check(source, name, at);
        let mut options = MappingOptions::default();
        let text = match value.get_ref() {
            DeValue::String(text) => Some((text.to_string(), value.span())),
            DeValue::Table(_) => section
                .as_section(name, value, format!("the mapping of {name}"))
                .and_then(|table| {
                    options = MappingOptions::read(&table);
                    let text = table.text("value");
                    if text.is_none() {
                        source.error(
                            at,
                            format!("the mapping of `{name}` has no `value`"),
                            Some(format!("\"{name}\" = {{ value = '…' }}")),
                        );
                    }
                    table.report_unknown_keys();
                    text
                }),
            other => {
                source.error(
                    value.span().start,
                    format!(
                        "the mapping of `{name}` must be an expression in quotes, not {}",
                        kind_name(other)
                    ),
                    None,
                );
                None
            }
        };
        if let Some(program) = text.and_then(|text| compile_program(source, &text, known)) {
            all.push(Mapping {
                attribute: name.to_owned(),
                program,
                requirement: options.need,
                apply: options.apply,
                on_empty: options.on_empty,
                merge: options.merge,
                wait_for_target: options.wait_for_target,
                flatten: options.flatten,
                place: source.place(at),
            });
        }
    }
    all
}

/// The options of a mapping.
#[derive(Default)]
struct MappingOptions {
    need: Requirement,
    apply: Apply,
    on_empty: OnEmpty,
    merge: bool,
    wait_for_target: bool,
    flatten: bool,
}

impl MappingOptions {
    fn read(table: &Section<'_>) -> MappingOptions {
        let is_set = |key: &'static str| table.boolean(key).unwrap_or_default();
        let need = match (is_set("required"), is_set("recommended")) {
            (true, _) => Requirement::Required,
            (false, true) => Requirement::Recommended,
            (false, false) => Requirement::Optional,
        };
        let apply = [
            ("always", Apply::Always),
            ("on_create", Apply::OnCreate),
            ("if_empty", Apply::IfEmpty),
        ];
        let on_empty = [("clear", OnEmpty::Clear), ("keep", OnEmpty::Keep)];
        let list_mode = [("replace", false), ("merge", true)];
        let nested = [("keep", false), ("flatten", true)];
        MappingOptions {
            need,
            apply: table.choice("apply", &apply).unwrap_or_default(),
            on_empty: table.choice("on_empty", &on_empty).unwrap_or_default(),
            merge: table.choice("list_mode", &list_mode).unwrap_or_default(),
            wait_for_target: is_set("wait_for_target"),
            flatten: table.choice("nested", &nested).unwrap_or_default(),
        }
    }
}
