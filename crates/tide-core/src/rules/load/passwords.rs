//! First passwords.

use super::super::read::Section;
use super::super::{PasswordRules, WebhookRules};
use crate::schema::Schema;
use std::collections::BTreeMap;

/// The sets of characters that passwords are drawn from.
pub const PASSWORD_SETS: [&str; 4] = ["lower", "upper", "digit", "sign"];

pub(super) fn read_password(
    section: Section<'_>,
    schema: Option<&Schema>,
    calls: &BTreeMap<String, WebhookRules>,
) -> Option<PasswordRules> {
    let source = section.source;
    let attribute = section.text("attribute");
    let length = section
        .number("length")
        .map_or(20, |length| length as usize);
    let sets = read_sets(&section);
    if !(8..=128).contains(&length) {
        source.error(
            section.at,
            format!("a password cannot have {length} characters"),
            Some("choose a length from 8 to 128".into()),
        );
    }
    check_attribute(&section, schema, &attribute);
    let shown_to: Vec<String> = section
        .texts("visible_to")
        .into_iter()
        .map(|(name, _)| name)
        .collect();
    let handed_to = section.text("deliver_to").map(|(name, span)| {
        if !calls.contains_key(&name) {
            source.error(
                span.start,
                format!("there is no webhook `{name}`"),
                Some(format!(
                    "webhooks.toml: [{name}] and below it url = \"https://…\""
                )),
            );
        }
        if !shown_to.is_empty() {
            source.error(
                span.start,
                "a password is either delivered or visible",
                Some("leave out `visible_to`, or `deliver_to`".into()),
            );
        }
        name
    });
    let first = section.boolean("initial").unwrap_or(true);
    let in_step = section.boolean("sync").unwrap_or(false);
    let carry = section.text("copy_hash_from").map(|(from, span)| {
        if attribute
            .as_ref()
            .is_none_or(|(name, _)| !name.eq_ignore_ascii_case("userPassword"))
        {
            let help = "attribute = \"userPassword\", of a directory that knows the same schemes";
            source.error(
                span.start,
                "only hashes of userPassword can be copied",
                Some(help.into()),
            );
        }
        from
    });
    section.report_unknown_keys();
    let sets = if sets.is_empty() {
        PASSWORD_SETS.map(str::to_owned).to_vec()
    } else {
        sets
    };
    attribute.map(|(attribute, _)| PasswordRules {
        attribute,
        length,
        sets,
        visible_to: shown_to,
        deliver_to: handed_to,
        initial: first,
        sync: in_step,
        copy_hash_from: carry,
    })
}

/// Reads the character sets.
fn read_sets(section: &Section<'_>) -> Vec<String> {
    let source = section.source;
    section
        .texts("sets")
        .into_iter()
        .map(|(set, span)| {
            if !PASSWORD_SETS.contains(&set.as_str()) {
                source.error(
                    span.start,
                    format!("there is no character set `{set}`"),
                    Some(format!("choose from {}", PASSWORD_SETS.join(", "))),
                );
            }
            set
        })
        .collect()
}

/// Checks that the attribute of the password is named and exists.
fn check_attribute(
    section: &Section<'_>,
    schema: Option<&Schema>,
    attribute: &Option<(String, std::ops::Range<usize>)>,
) {
    let source = section.source;
    if let (Some((name, span)), Some(schema)) = (attribute, schema)
        && schema.get(name).is_none()
        // Attributes of secrets are left out of the stored schema of a system.
        && !(schema.refers_by_name && ["userPassword", "unicodePwd"].iter().any(|known| known.eq_ignore_ascii_case(name)))
    {
        source.error(
            span.start,
            format!("the system has no attribute `{name}`"),
            None,
        );
    }
    if attribute.is_none() {
        source.error(
            section.at,
            "the attribute of the password is missing",
            Some("attribute = \"userPassword\"".into()),
        );
    }
}
