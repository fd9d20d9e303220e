//! The least rights that a system's service account needs for what the rules do.

use crate::expr::Root;
use crate::model::ObjectType;
use crate::rules::{RuleSet, TypeRules, WhenOut};
use crate::schema::Schema;
use std::collections::BTreeSet;

/// One right, and what needs it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Right {
    /// `read` or `write`.
    pub act: &'static str,
    /// What is read or written, in words.
    pub on: String,
    /// The attributes.
    pub attributes: Vec<String>,
    /// Which rule needs it.
    pub because: String,
}

/// The rights for one type of one system. `base` is what is read when no container is named.
pub fn least(rules: &RuleSet, system: &str, kind: ObjectType, schema: Option<&Schema>, base: &str) -> Vec<Right> {
    let Some(types) = rules.of(system, kind) else { return Vec::new() };
    let places: Vec<String> = types.scope.within.iter().map(|c| c.dn.to_string()).collect();
    let on = if places.is_empty() { base.to_owned() } else { places.join(" and ") };
    let mut rights = vec![Right {
        act: "read",
        on: on.clone(),
        attributes: read(types, schema),
        because: "scope, matching and mapping read these values".into(),
    }];
    if types.scope.names_groups() {
        let names: Vec<String> = types.scope.groups_in(system).into_iter().map(|(_, name)| name).collect();
        rights.push(Right {
            act: "read",
            on: names.join(" and "),
            attributes: vec!["member".into()],
            because: "the scope asks who is a member".into(),
        });
    }
    if !types.is_target() {
        return rights;
    }
    let written: BTreeSet<String> = types.outbound.iter().map(|m| m.attribute.clone()).collect();
    rights.push(Right {
        act: "write",
        on: on.clone(),
        attributes: written.into_iter().collect(),
        because: "outbound mappings keep these values".into(),
    });
    rights.push(Right { act: "write", on: on.clone(), attributes: Vec::new(), because: "new accounts are made there".into() });
    if let Some(state) = schema.and_then(|schema| schema.state_attribute.clone()) {
        let why =
            if types.when_out == WhenOut::Disable { "who falls out of scope is disabled" } else { "accounts are enabled and disabled" };
        rights.push(Right { act: "write", on, attributes: vec![state], because: why.into() });
    }
    rights
}

/// The attributes that the rules read of the accounts of a system, of any type.
pub fn read_of(rules: &RuleSet, system: &str) -> Vec<String> {
    let types = rules.systems.get(system).into_iter().flat_map(|system| system.types.values());
    types.flat_map(|types| read(types, None)).collect::<BTreeSet<String>>().into_iter().collect()
}

/// The attributes that the rules read of accounts.
fn read(types: &TypeRules, schema: Option<&Schema>) -> Vec<String> {
    let mut names: BTreeSet<String> = BTreeSet::new();
    let programs = types
        .matching
        .iter()
        .flat_map(|rule| rule.account.iter().chain(rule.agree.iter().map(|value| &value.account)))
        .chain(types.inbound.iter().map(|mapping| &mapping.program))
        .chain(types.scope.conditions.iter().map(|condition| &condition.when))
        .chain(types.hands_off.conditions.iter().map(|condition| &condition.when));
    for program in programs {
        names.extend(program.reads().iter().filter(|(root, _)| *root == Root::Account).map(|(_, name)| name.clone()));
    }
    if let Some(crate::rules::RecordFilter::Ldap(filter)) = types.scope.filter.as_ref().map(|filter| &filter.filter) {
        names.extend(filter.reads().into_iter().map(str::to_owned));
    }
    // What is kept in step is compared with what is there.
    names.extend(types.outbound.iter().map(|mapping| mapping.attribute.clone()));
    names.extend(schema.and_then(|schema| schema.name_attribute.clone()));
    // Derived from an entry's name, which whoever may read the entry knows.
    names.retain(|name| !["dn", "container"].contains(&name.as_str()));
    names.into_iter().collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::rules::{RuleFile, edit};

    #[test]
    fn rights_follow_from_the_rules() {
        let text = "system = \"dock\"\n[person.scope]\nwithin = [\"ou=people,dc=e\"]\ngroups = [\"cn=crew,dc=e\"]\n[[person.match]]\naccount = 'account.uid'\nidentity = 'identity.mail'\n[person.inbound]\nmail = 'account.mail'\n[person.outbound]\ntitle = 'identity.title'\n";
        let files = [edit::first_identities(false), RuleFile { name: "dock.toml".into(), text: text.into() }];
        let (rules, _) = RuleSet::load(&files, &Default::default());
        let rights = least(&rules, "dock", ObjectType::Person, None, "dc=e");
        let told: Vec<String> = rights.iter().map(|r| format!("{} {}: {}", r.act, r.on, r.attributes.join(","))).collect();
        assert_eq!(
            told,
            ["read ou=people,dc=e: mail,title,uid", "read cn=crew,dc=e: member", "write ou=people,dc=e: title", "write ou=people,dc=e: "]
        );
        assert!(least(&rules, "elsewhere", ObjectType::Person, None, "").is_empty());
    }
}
