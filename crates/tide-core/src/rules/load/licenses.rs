//! Licenses: `licenses.toml`.

use super::super::read::Section;
use super::super::{RuleSet, Schemas};
use super::{check_name, compile_program, expression_scopes};
use crate::expr::Root;
use crate::rules::licenses::License;
use crate::states::ObjectType;

pub(super) fn load_licenses(root: Section<'_>, rules: &RuleSet, schemas: &Schemas) -> Vec<License> {
    let source = root.source;
    let mut all: Vec<License> = Vec::new();
    for item in root.list("license") {
        let Some(section) = root.as_section("license", item, "[[license]]") else {
            continue;
        };
        let (name, system, seats) = (
            section.text("name"),
            section.text("system"),
            section.number("seats"),
        );
        check_name(
            &section,
            &name,
            "license",
            "name = \"training seats\"",
            all.iter().map(|other| &other.name),
        );
        let kind = ObjectType::Person;
        match &system {
            None => source.error(
                section.at,
                "the system of the seats is missing",
                Some("system = \"classroom\"".into()),
            ),
            Some((system, span))
                if rules
                    .of(system, kind)
                    .is_none_or(|types| !types.is_target()) =>
            {
                source.error(span.start, format!("`{system}` receives no accounts"), None);
            }
            Some(_) => {}
        }
        if seats.is_none() && section.get("seats").is_none() {
            source.error(
                section.at,
                "the number of seats is missing",
                Some("seats = 200".into()),
            );
        }
        let schema = system
            .as_ref()
            .and_then(|(system, _)| schemas.get(system)?.get(&kind))
            .filter(|schema| !schema.attributes.is_empty());
        let scopes = expression_scopes(rules, kind, schema);
        let takes = section
            .text("consumed_when")
            .and_then(|text| compile_program(source, &text, &scopes.known(&[Root::Account])));
        if section.get("consumed_when").is_none() {
            let help = "consumed_when = 'account.active == true'".to_owned();
            source.error(
                section.at,
                "the condition of accounts that use a seat is missing",
                Some(help),
            );
        }
        let order = section
            .text("assign_order")
            .and_then(|text| compile_program(source, &text, &scopes.known(&[Root::Identity])));
        let place = section.place();
        section.report_unknown_keys();
        if let (Some((name, _)), Some((system, _)), Some(seats), Some(takes)) =
            (name, system, seats, takes)
        {
            all.push(License {
                name,
                system,
                kind,
                seats: seats as usize,
                consumed_when: takes,
                assign_order: order,
                place,
            });
        }
    }
    root.report_unknown_keys();
    all
}
