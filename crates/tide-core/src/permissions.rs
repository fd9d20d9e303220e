//! The permissions that the service account of a system needs for the rules: all of them, and no
//! more.

use crate::expr::{EvalInputs, Program, Root};
use crate::rules::lifecycle::DepartureAct;
use crate::rules::{Mapping, OnOrphaned, OnOutOfScope, RecordFilter, RuleSet, TypeRules};
use crate::schema::Schema;
use crate::states::ObjectType;
use crate::value::{Attributes, Value};
use std::collections::BTreeSet;

codes! {
    /// The operation of a permission.
    pub enum Operation {
        /// Search entries and read the attributes.
        Read,
        /// Write the attributes of entries that exist.
        Write,
        /// Add entries below the base, with the attributes.
        Create,
        /// Rename entries, and move them below the base (RFC 4511 §4.9).
        Rename,
        /// Delete entries.
        Delete,
        /// Set passwords without knowing the old one.
        SetPassword,
    }
}

/// One permission, and what needs it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Permission {
    /// The operation.
    pub operation: Operation,
    /// Where: the names of entries of a directory, or the part of a service.
    pub entries: Vec<String>,
    /// Also on everything below these entries.
    pub is_subtree: bool,
    /// The attributes; none means the entries themselves.
    pub attributes: Vec<String>,
    /// Which rule needs it.
    pub reason: String,
}

/// Attributes that are worked out from an entry's name, and that no server holds.
const DERIVED: [&str; 2] = ["dn", "container"];

/// The permissions for all types of one system. `base` is read for a type without named
/// containers.
pub fn required_permissions(
    rules: &RuleSet,
    system: &str,
    schema: impl Fn(ObjectType) -> Option<Schema>,
    base: impl Fn(ObjectType) -> String,
) -> Vec<Permission> {
    let mut all = Vec::new();
    for &kind in ObjectType::ALL {
        let schema = schema(kind);
        all.extend(of_type(rules, system, kind, schema.as_ref(), &base(kind)));
    }
    // A group that rules fill is read and written, whether or not there are rules for groups.
    let groups = PermissionTarget {
        base: vec![base(ObjectType::Group)],
        schema: schema(ObjectType::Group),
    };
    if fills_groups(rules, system) {
        let members = groups.member_attributes();
        let reason = "rules add people to groups and remove them";
        let named = ["cn".to_owned()]
            .into_iter()
            .filter(|_| groups.is_directory());
        let read = groups
            .identifying_attributes()
            .chain(named)
            .chain(members.clone())
            .collect();
        all.push(groups.permission(Operation::Read, read, reason));
        all.push(groups.permission(Operation::Write, members.collect(), reason));
    }
    all.extend(looked_up(
        rules,
        system,
        schema(ObjectType::Person).as_ref(),
        &base(ObjectType::Person),
    ));
    all
}

/// The system in which permissions are needed, with its native names of attributes.
struct PermissionTarget {
    base: Vec<String>,
    schema: Option<Schema>,
}

impl PermissionTarget {
    fn is_directory(&self) -> bool {
        self.schema
            .as_ref()
            .is_some_and(|schema| schema.refers_by_name)
    }

    fn permission(
        &self,
        operation: Operation,
        attributes: BTreeSet<String>,
        reason: impl Into<String>,
    ) -> Permission {
        let attributes = attributes.into_iter().collect();
        Permission {
            operation,
            entries: self.base.clone(),
            is_subtree: self.is_directory(),
            attributes,
            reason: reason.into(),
        }
    }

    /// The attributes that identify entries and their states: class, key and version.
    fn identifying_attributes(&self) -> impl Iterator<Item = String> + use<'_> {
        self.schema
            .iter()
            .flat_map(|schema| &schema.native.identifying)
            .cloned()
    }

    /// The attributes in which groups hold their members.
    fn member_attributes(&self) -> impl Iterator<Item = String> + Clone + use<'_> {
        let names: &[&str] = if self.is_directory() {
            &["member", "uniqueMember", "memberUid"]
        } else {
            &["members"]
        };
        let known = |name: &&str| {
            self.schema
                .as_ref()
                .is_none_or(|schema| schema.attributes.is_empty() || schema.get(name).is_some())
        };
        names
            .iter()
            .copied()
            .filter(known)
            .map(str::to_owned)
            .collect::<Vec<_>>()
            .into_iter()
    }

    /// The attributes by their names in the system itself.
    fn native_names(&self, names: impl IntoIterator<Item = String>) -> BTreeSet<String> {
        let state = self.schema.as_ref().and_then(|schema| {
            Some((
                schema.state_attribute.as_deref()?,
                schema.native.state.as_deref()?,
            ))
        });
        let one = |name: String| match state {
            Some((ours, theirs)) if ours.eq_ignore_ascii_case(&name) => theirs.to_owned(),
            _ => name,
        };
        names
            .into_iter()
            .filter(|name| {
                !DERIVED
                    .iter()
                    .any(|derived| derived.eq_ignore_ascii_case(name))
            })
            .map(one)
            .collect()
    }
}

fn of_type(
    rules: &RuleSet,
    system: &str,
    kind: ObjectType,
    schema: Option<&Schema>,
    base: &str,
) -> Vec<Permission> {
    let Some(types) = rules.of(system, kind) else {
        return Vec::new();
    };
    let within: Vec<String> = types
        .scope
        .within
        .iter()
        .map(|c| c.dn.to_string())
        .collect();
    let at = |base: Vec<String>| PermissionTarget {
        base,
        schema: schema.cloned(),
    };
    // Accounts of a pure target are where their names place them.
    let is_within = !within.is_empty() && types.is_source();
    let target = at(if is_within {
        within
    } else {
        vec![base.to_owned()]
    });
    let mut read: BTreeSet<String> = target
        .native_names(read(types))
        .into_iter()
        .chain(target.identifying_attributes())
        .collect();
    // Groups are never disabled.
    let state = schema
        .filter(|_| kind != ObjectType::Group)
        .and_then(|schema| schema.native.state.clone());
    read.extend(state.clone());
    let mut all = vec![target.permission(
        Operation::Read,
        read,
        "scope, matching and mapping read these values",
    )];
    if types.scope.names_groups() {
        let groups: Vec<String> = types
            .scope
            .groups_in(system)
            .into_iter()
            .map(|(_, name)| name)
            .collect();
        let groups = at(groups);
        let read = groups
            .identifying_attributes()
            .chain(groups.member_attributes())
            .collect();
        all.push(Permission {
            is_subtree: false,
            ..groups.permission(Operation::Read, read, "the scope asks who is a member")
        });
    }
    if let Some(deleted) = schema.and_then(|schema| schema.native.deleted_in.clone()) {
        let deleted = at(vec![deleted]);
        let read = deleted.identifying_attributes().collect();
        all.push(deleted.permission(
            Operation::Read,
            read,
            "deletions are found within seconds there, otherwise once an hour",
        ));
    }
    if carries_hash_from(rules, system) {
        all.push(target.permission(
            Operation::Read,
            ["userPassword".to_owned()].into(),
            "the hash of a changed password is copied",
        ));
    }
    if types.is_target() {
        all.extend(write_permissions(types, &target, state));
    }
    all
}

/// The permissions that writing the accounts of a target needs.
fn write_permissions(
    types: &TypeRules,
    target: &PermissionTarget,
    state: Option<String>,
) -> Vec<Permission> {
    let mappings = || {
        types.outbound.iter().chain(
            types
                .populations
                .iter()
                .flat_map(|population| &population.outbound),
        )
    };
    let mut written: BTreeSet<String> =
        target.native_names(mappings().map(|mapping| mapping.attribute.clone()));
    written.extend(
        target.native_names(types.departure.iter().flat_map(|step| match &step.act {
            DepartureAct::Set { attribute, .. } => vec![attribute.clone()],
            DepartureAct::Revoke { attributes } => attributes.clone(),
            _ => Vec::new(),
        })),
    );
    let state = state
        .filter(|_| switches_state(types) || mappings().any(|mapping| is_state(target, mapping)));
    let mut all = Vec::new();
    let password = types
        .password
        .as_ref()
        .map(|password| password.attribute.clone());
    let made: BTreeSet<String> = written
        .iter()
        .cloned()
        .chain(state.clone())
        .chain(password.clone())
        .collect();
    let kept: BTreeSet<String> = written
        .iter()
        .filter(|name| !names_itself(target, name))
        .cloned()
        .collect();
    all.push(target.permission(
        Operation::Write,
        kept,
        "outbound mappings and departure steps write these values",
    ));
    if let Some(state) = &state {
        let reason = match types.on_out_of_scope {
            OnOutOfScope::Disable => "accounts out of scope are disabled, and enabled again",
            OnOutOfScope::Leave => "accounts are enabled and disabled",
        };
        all.push(target.permission(Operation::Write, [state.clone()].into(), reason));
    }
    if mappings().next().is_some() {
        all.push(target.permission(Operation::Create, made, "new accounts are created"));
    }
    let renamed = mappings().find(|mapping| mapping.attribute.eq_ignore_ascii_case("dn"));
    let moves = types
        .departure
        .iter()
        .any(|step| matches!(step.act, DepartureAct::Move { .. }));
    if target.is_directory() && (renamed.is_some() || moves) {
        let names = renamed
            .and_then(|mapping| naming_attribute(&mapping.program))
            .into_iter()
            .collect();
        all.push(target.permission(Operation::Rename, names, "`dn` follows the identity"));
    }
    if types
        .departure
        .iter()
        .any(|step| matches!(step.act, DepartureAct::Delete))
    {
        all.push(target.permission(
            Operation::Delete,
            BTreeSet::new(),
            "a departure step deletes accounts",
        ));
    }
    add_password_permissions(types, target, &mut all, password);
    all
}

/// Adds what setting passwords needs.
fn add_password_permissions(
    types: &TypeRules,
    target: &PermissionTarget,
    all: &mut Vec<Permission>,
    password: Option<String>,
) {
    let scrambles = types
        .departure
        .iter()
        .any(|step| matches!(step.act, DepartureAct::RandomizePassword));
    if let Some(password) = password.or_else(|| scrambles.then(|| "userPassword".to_owned())) {
        all.push(target.permission(
            Operation::SetPassword,
            [password].into(),
            "accounts get passwords",
        ));
        if let Some(must_change) = target
            .schema
            .as_ref()
            .and_then(|schema| schema.native.must_change.clone())
        {
            all.push(target.permission(
                Operation::Write,
                [must_change].into(),
                "a password change can be required at the next sign-in",
            ));
        }
    }
}

fn is_state(target: &PermissionTarget, mapping: &Mapping) -> bool {
    let state = target
        .schema
        .as_ref()
        .and_then(|schema| schema.state_attribute.as_deref());
    state.is_some_and(|state| state.eq_ignore_ascii_case(&mapping.attribute))
}

/// Whether accounts are disabled without a mapping of their state.
fn switches_state(types: &TypeRules) -> bool {
    types.on_out_of_scope == OnOutOfScope::Disable
        || types.on_orphaned == OnOrphaned::Disable
        || types
            .departure
            .iter()
            .any(|step| matches!(step.act, DepartureAct::Disable))
}

/// Whether it is written when an entry is created, and never after.
fn names_itself(target: &PermissionTarget, attribute: &str) -> bool {
    target.is_directory() && attribute.eq_ignore_ascii_case("objectClass")
}

/// The naming attribute of entries by the mapping of `dn`, if its first text shows it.
fn naming_attribute(program: &Program) -> Option<String> {
    let (id, stage) = (vec![Value::text("1")], vec![Value::text("here")]);
    let person: Attributes = [("id".to_owned(), id), ("stage".to_owned(), stage)]
        .into_iter()
        .collect();
    let given = program
        .run(&EvalInputs {
            account: None,
            identity: Some(&person),
        })
        .ok();
    let text = given
        .and_then(|values| values.first().map(Value::to_string))
        .unwrap_or_else(|| program.source().to_owned());
    let (name, _) = text.trim_start_matches(['"', '\'', '(']).split_once('=')?;
    name.chars()
        .all(|c| c.is_ascii_alphanumeric() || c == '-')
        .then(|| name.to_owned())
}

fn fills_groups(rules: &RuleSet, system: &str) -> bool {
    let types = rules
        .systems
        .get(system)
        .into_iter()
        .flat_map(|system| system.types.values());
    let mut types = types.into_iter();
    types.any(|types| {
        !types.memberships.is_empty()
            || types
                .departure
                .iter()
                .any(|step| matches!(step.act, DepartureAct::Revoke { .. }))
    })
}

fn carries_hash_from(rules: &RuleSet, system: &str) -> bool {
    let types = rules
        .systems
        .values()
        .flat_map(|other| other.types.values());
    types
        .filter_map(|types| types.password.as_ref())
        .any(|password| password.copy_hash_from.as_deref() == Some(system))
}

/// Attributes in which generated values must be free, though no mapping reads them.
fn looked_up(
    rules: &RuleSet,
    system: &str,
    schema: Option<&Schema>,
    base: &str,
) -> Option<Permission> {
    let generated = rules
        .identities
        .values()
        .flat_map(|identities| &identities.attributes)
        .filter_map(|attribute| attribute.generated.as_ref());
    let names = generated
        .flat_map(|generated| &generated.unique_in)
        .filter(|(there, _)| there == system)
        .map(|(_, name)| name.clone());
    let target = PermissionTarget {
        base: vec![base.to_owned()],
        schema: schema.cloned(),
    };
    let names = target.native_names(names);
    (!names.is_empty()).then(|| {
        let read = names
            .into_iter()
            .chain(target.identifying_attributes())
            .collect();
        target.permission(Operation::Read, read, "generated values must be free there")
    })
}

/// The attributes that the rules read of the accounts of a system, of any type.
pub fn read_of(rules: &RuleSet, system: &str) -> Vec<String> {
    let types = rules
        .systems
        .get(system)
        .into_iter()
        .flat_map(|system| system.types.values());
    let names = types
        .flat_map(read)
        .filter(|name| !DERIVED.contains(&name.as_str()));
    names.collect::<BTreeSet<String>>().into_iter().collect()
}

/// The filters of a system's rules that only its server can decide.
pub fn server_filters(rules: &RuleSet, system: &str) -> Vec<tide_ldap::LdapFilter> {
    let types = rules
        .systems
        .get(system)
        .into_iter()
        .flat_map(|system| system.types.values());
    let filters =
        types.filter_map(
            |types| match types.scope.filter.as_ref().map(|filter| &filter.filter) {
                Some(RecordFilter::Ldap(filter))
                    if crate::rules::filters::is_server_side(filter) =>
                {
                    Some(filter.clone())
                }
                _ => None,
            },
        );
    filters.collect()
}

/// The attributes that the rules read of accounts, as the rules call them.
fn read(types: &TypeRules) -> BTreeSet<String> {
    let mut names: BTreeSet<String> = BTreeSet::new();
    let programs = types
        .matching
        .iter()
        .flat_map(|rule| {
            rule.account
                .iter()
                .chain(rule.supporting.iter().map(|value| &value.account))
        })
        .chain(types.inbound.iter().map(|mapping| &mapping.program))
        .chain(
            types
                .scope
                .conditions
                .iter()
                .map(|condition| &condition.when),
        )
        .chain(
            types
                .protected
                .conditions
                .iter()
                .map(|condition| &condition.when),
        );
    for program in programs {
        names.extend(
            program
                .reads()
                .iter()
                .filter(|(root, _)| *root == Root::Account)
                .map(|(_, name)| name.clone()),
        );
    }
    if let Some(RecordFilter::Ldap(filter)) =
        types.scope.filter.as_ref().map(|filter| &filter.filter)
    {
        names.extend(filter.reads().into_iter().map(str::to_owned));
    }
    // Values that are kept in sync are compared with the current ones, which must be readable.
    let populations = types
        .populations
        .iter()
        .flat_map(|population| &population.outbound);
    names.extend(
        types
            .outbound
            .iter()
            .chain(populations)
            .map(|mapping| mapping.attribute.clone()),
    );
    names
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::rules::{RuleFile, edit};
    use crate::schema::{AttributeDef, NativeNames};

    fn directory() -> Schema {
        let mut schema = Schema {
            state_attribute: Some("enabled".into()),
            refers_by_name: true,
            ..Schema::default()
        };
        for name in ["member", "title", "mail", "uid", "cn"] {
            schema.put(AttributeDef::text(name));
        }
        schema.native = NativeNames {
            identifying: vec!["objectClass".into(), "entryUUID".into()],
            state: Some("nsAccountLock".into()),
            must_change: Some("pwdReset".into()),
            deleted_in: None,
        };
        schema
    }

    fn listed(text: &str) -> Vec<String> {
        let files = [
            edit::first_identities(false),
            RuleFile {
                name: "dock.toml".into(),
                text: text.into(),
            },
        ];
        let (rules, found) = RuleSet::load(&files, &Default::default());
        let one = |p: Permission| {
            format!(
                "{:?} {}: {}",
                p.operation,
                p.entries.join(" and "),
                p.attributes.join(",")
            )
        };
        let all =
            required_permissions(&rules, "dock", |_| Some(directory()), |_| "dc=e".to_owned())
                .into_iter()
                .map(one)
                .collect::<Vec<_>>();
        assert!(!all.is_empty(), "{found:?}");
        all
    }

    #[test]
    fn a_source_is_only_read() {
        let text = "system = \"dock\"\n[person.scope]\nwithin = [\"ou=people,dc=e\"]\ngroups = [\"cn=crew,dc=e\"]\n[[person.match]]\naccount = 'account.uid'\nidentity = 'identity.mail'\n[person.inbound]\nmail = 'account.mail'\n";
        assert_eq!(
            listed(text),
            [
                "Read ou=people,dc=e: entryUUID,mail,nsAccountLock,objectClass,uid",
                "Read cn=crew,dc=e: entryUUID,member,objectClass"
            ]
        );
    }

    #[test]
    fn a_target_is_written_in_the_attributes_that_the_server_has() {
        let text = "system = \"dock\"\n[person.outbound]\ndn = '\"uid=\" + identity.mail + \",dc=e\"'\nobjectClass = { value = '[\"person\"]', apply = \"on_create\" }\ntitle = 'identity.title'\nenabled = 'identity.active'\n[[person.membership]]\ngroups = '[\"crew\"]'\n[person.password]\nattribute = \"userPassword\"\n[[person.departure]]\nstep = \"delete\"\n";
        let read = "Read dc=e: entryUUID,nsAccountLock,objectClass,title";
        assert_eq!(
            listed(text),
            [
                read,
                "Write dc=e: nsAccountLock,title",
                "Write dc=e: nsAccountLock",
                "Create dc=e: nsAccountLock,objectClass,title,userPassword",
                "Rename dc=e: uid",
                "Delete dc=e: ",
                "SetPassword dc=e: userPassword",
                "Write dc=e: pwdReset",
                "Read dc=e: cn,entryUUID,member,objectClass",
                "Write dc=e: member",
            ]
        );
    }
}
