//! What can be told of an LDAP filter without a record: its faults, the groups that it names, and
//! whether only its server can evaluate it.

use crate::schema::Schema;
use tide_ldap::LdapFilter;
use tide_ldap::filter::IN_CHAIN;

/// Attributes in which an account names its groups.
pub(crate) const BACK_LINKS: [&str; 2] = ["memberOf", "isMemberOf"];

pub(crate) fn is_one_of(name: &str, names: &[&str]) -> bool {
    let plain = name.split(';').next().unwrap_or(name);
    names.iter().any(|known| known.eq_ignore_ascii_case(plain))
}

pub(crate) fn text(octets: &[u8]) -> String {
    String::from_utf8_lossy(octets).into_owned()
}

/// Can only the server decide it? Name resolution, back-links by anything but the name of a group,
/// and other references that are followed over several steps.
pub fn is_server_side(filter: &LdapFilter) -> bool {
    match filter {
        LdapFilter::All(parts) | LdapFilter::Any(parts) => parts.iter().any(is_server_side),
        LdapFilter::Not(part) => is_server_side(part),
        LdapFilter::Present(name) | LdapFilter::Parts(name, ..) if is_one_of(name, &BACK_LINKS) => {
            true
        }
        LdapFilter::Extended(name, rule, _) => rule == IN_CHAIN && !is_one_of(name, &BACK_LINKS),
        LdapFilter::Equal(name, _) | LdapFilter::Present(name) | LdapFilter::Parts(name, ..) => {
            is_one_of(name, &["anr"])
        }
        LdapFilter::AtLeast(..) | LdapFilter::AtMost(..) => false,
    }
}

/// The groups that a filter names as those of an account.
pub(crate) fn groups_named(filter: &LdapFilter) -> Vec<String> {
    match filter {
        LdapFilter::All(parts) | LdapFilter::Any(parts) => {
            parts.iter().flat_map(groups_named).collect()
        }
        LdapFilter::Not(part) => groups_named(part),
        LdapFilter::Equal(name, group) if is_one_of(name, &BACK_LINKS) => vec![text(group)],
        LdapFilter::Extended(name, rule, group)
            if rule == IN_CHAIN && is_one_of(name, &BACK_LINKS) =>
        {
            vec![text(group)]
        }
        _ => Vec::new(),
    }
}

/// The fault of a filter by the schema of the server, with a replacement.
pub(crate) fn filter_problem(
    filter: &LdapFilter,
    schema: Option<&Schema>,
) -> Option<(String, &'static str)> {
    let unknown = |name: &String| {
        let is_known =
            schema.is_none_or(|schema| schema.attributes.is_empty() || schema.get(name).is_some());
        let text =
            || format!("the system has no attribute `{name}`, so the filter would match nothing");
        (!is_known).then(|| {
            (
                text(),
                "`eager-tide systems show SYSTEM --schema` lists what it has",
            )
        })
    };
    match filter {
        LdapFilter::All(parts) | LdapFilter::Any(parts) => {
            parts.iter().find_map(|part| filter_problem(part, schema))
        }
        LdapFilter::Not(part) => filter_problem(part, schema),
        LdapFilter::Extended(name, rule, _)
            if rule == IN_CHAIN
                && !is_one_of(name, &BACK_LINKS)
                && schema.is_some_and(|schema| !schema.follows_renames) =>
        {
            Some((
                format!("only domain controllers evaluate `{name}` (nested groups)"),
                "list the groups, or use memberOf",
            ))
        }
        LdapFilter::Equal(name, _)
        | LdapFilter::Present(name)
        | LdapFilter::Parts(name, ..)
        | LdapFilter::AtLeast(name, _)
        | LdapFilter::AtMost(name, _)
        | LdapFilter::Extended(name, ..) => unknown(name),
    }
}

/// Whether the server's result depends on back-links, which change without a change of the entry.
pub(crate) fn depends_on_back_links(filter: &LdapFilter) -> bool {
    match filter {
        LdapFilter::All(parts) | LdapFilter::Any(parts) => parts.iter().any(depends_on_back_links),
        LdapFilter::Not(part) => depends_on_back_links(part),
        LdapFilter::Present(name) | LdapFilter::Parts(name, ..) => is_one_of(name, &BACK_LINKS),
        _ => false,
    }
}
