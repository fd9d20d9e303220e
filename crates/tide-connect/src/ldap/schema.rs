//! The capabilities of a directory: its root entry and its schema (RFC 4512 §4, §5.1).

use super::{check_result, dial};
use crate::{ConnectError, LdapSettings};
use ldap3::{Ldap, Scope, SearchEntry};
use rustc_hash::FxHashMap;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::{Arc, PoisonError, RwLock};
use tide_core::schema::{NativeNames, ValueKind};
use tide_core::{AttributeDef, ObjectType, Schema};
use tide_ldap::LdapFilter;
use tide_ldap::schema::{ObjectClass, attribute_types, object_classes};

/// Values that are never read into a record, even if the server returns them.
pub(super) const NEVER: [&str; 10] = [
    "userPassword",
    "unicodePwd",
    "dBCSPwd",
    "lmPwdHistory",
    "ntPwdHistory",
    "supplementalCredentials",
    "pwdHistory",
    "sambaNTPassword",
    "sambaLMPassword",
    "krbPrincipalKey",
];

/// How the server stores whether an account is usable.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum State {
    /// Bit 2 of `userAccountControl`.
    ControlFlags,
    /// `nsAccountLock` is TRUE.
    Lock,
    /// `pwdAccountLockedTime` is set (the password policy overlay).
    LockedTime,
    /// It stores none.
    None,
}

/// A server, as far as it is known.
#[derive(Debug, Clone)]
pub(super) struct DirectoryCapabilities {
    /// Attributes by their name in lower case.
    pub attributes: FxHashMap<String, AttributeDef>,
    /// The same, by their name as the schema writes it.
    by_name: FxHashMap<String, AttributeDef>,
    /// The attribute that never changes.
    pub key: &'static str,
    pub state: State,
    /// A domain controller: it has file times, control flags and SIDs.
    pub controller: bool,
    /// Its capabilities, as label and text.
    profile: Vec<(String, String)>,
    paging: bool,
    /// How changed passwords are detected, if they are.
    pub mark_key: Option<Vec<u8>>,
    /// It sets passwords by RFC 3062.
    pub modifies_passwords: bool,
    /// The controls that it offers, by OID.
    controls: Vec<String>,
    /// Object classes with those above them, in lower case.
    pub classes: BTreeMap<String, Vec<String>>,
    /// Attributes without an ordering, in lower case.
    unordered: BTreeSet<String>,
    /// Attributes that the server returns only on request, in lower case.
    operational: BTreeSet<String>,
    /// The object classes that are read of each type.
    pub object_classes: BTreeMap<ObjectType, Vec<String>>,
    /// The naming contexts that it holds.
    contexts: Vec<String>,
    /// Attributes that the rules read.
    pub read_by_rules: Arc<RwLock<Vec<String>>>,
}

/// Attributes in which a domain controller stores instants as file times.
const FILE_TIMES: [&str; 9] = [
    "accountExpires",
    "badPasswordTime",
    "lastLogoff",
    "lastLogon",
    "lastLogonTimestamp",
    "lockoutTime",
    "msDS-UserPasswordExpiryTimeComputed",
    "pwdLastSet",
    "msDS-LastSuccessfulInteractiveLogonTime",
];

/// Whether this attribute is an instant in units of 100 nanoseconds.
pub(super) fn is_file_time(name: &str) -> bool {
    FILE_TIMES
        .iter()
        .any(|known| known.eq_ignore_ascii_case(name))
}

fn text_of(entry: &SearchEntry, name: &str) -> Vec<String> {
    entry
        .attrs
        .iter()
        .find(|(n, _)| n.eq_ignore_ascii_case(name))
        .map(|(_, v)| v.clone())
        .unwrap_or_default()
}

async fn base_entry(
    ldap: &mut Ldap,
    settings: Option<&LdapSettings>,
    dn: &str,
    filter: &str,
    attributes: Vec<&str>,
) -> Result<Option<SearchEntry>, ConnectError> {
    let url = settings.map_or("", |s| s.url.as_str());
    if let Some(settings) = settings {
        ldap.with_timeout(dial::timeout_of(settings));
    }
    let answer = ldap
        .search(dn, Scope::Base, filter, attributes)
        .await
        .map_err(|error| dial::connection_error(url, &error))?;
    if answer.1.rc == 32 {
        return Ok(None);
    }
    check_result(&answer.1, "reading the root DSE")?;
    let Some(entry) = answer.0.into_iter().find(|e| !e.is_ref()) else {
        return Ok(None);
    };
    // The library panics on an entry that it cannot read.
    Ok(std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| {
        SearchEntry::construct(entry)
    }))
    .ok())
}

pub(super) async fn naming_contexts(ldap: &mut Ldap) -> Vec<String> {
    let root = base_entry(ldap, None, "", "(objectClass=*)", vec!["namingContexts"]).await;
    root.ok()
        .flatten()
        .map(|root| text_of(&root, "namingContexts"))
        .unwrap_or_default()
}

/// Reads the root entry: whatever a server answers, it must answer in LDAP.
pub(super) async fn read_root(
    ldap: &mut Ldap,
    settings: &LdapSettings,
) -> Result<(), ConnectError> {
    ldap.with_timeout(dial::timeout_of(settings));
    match ldap
        .search(
            "",
            Scope::Base,
            "(objectClass=*)",
            vec!["supportedLDAPVersion"],
        )
        .await
    {
        Ok(_) => Ok(()),
        Err(ldap3::LdapError::Timeout { .. }) => Err(ConnectError::system_down(
            "silent",
            format!(
                "{} accepts the connection but sends nothing within {} s",
                settings.url, settings.timeout_seconds
            ),
            "check that the port speaks LDAP, and whether it expects TLS from the start (ldaps://)",
        )),
        Err(_) => Err(ConnectError::system_down(
            "not_ldap",
            format!("{} answers, but not as an LDAP server", settings.url),
            "check the port: 389 is usual for LDAP and StartTLS, 636 for LDAPS",
        )),
    }
}

/// The ways in which a server accepts the name of an account.
pub(super) async fn name_forms(ldap: &mut Ldap) -> &'static str {
    let root = base_entry(
        ldap,
        None,
        "",
        "(objectClass=*)",
        vec!["supportedCapabilities", "highestCommittedUSN"],
    )
    .await;
    forms(root.ok().flatten().is_some_and(|root| is_controller(&root)))
}

/// The same, where it is known whether the server is a domain controller.
pub(super) fn forms(controller: bool) -> &'static str {
    if controller {
        "a distinguished name (CN=eager-tide,OU=Services,DC=skerry,DC=example), name@domain (eager-tide@skerry.example) or domain\\name (SKERRY\\eager-tide)"
    } else {
        "a distinguished name, such as cn=eager-tide,ou=services,dc=skerry,dc=example"
    }
}

/// The capability that identifies a domain controller.
pub(super) const CONTROLLER: &str = "1.2.840.113556.1.4.800";

fn is_controller(root: &SearchEntry) -> bool {
    text_of(root, "supportedCapabilities")
        .iter()
        .any(|oid| oid == CONTROLLER)
}

/// The name of a control or an extension, by its OID.
const CAN: [(&str, &str); 9] = [
    ("1.2.840.113556.1.4.319", "paged reading"),
    ("1.3.6.1.4.1.4203.1.9.1.1", "content synchronization"),
    ("1.2.840.113556.1.4.841", "change feed"),
    ("1.2.840.113556.1.4.417", "deleted objects shown"),
    ("1.2.840.113556.1.4.473", "sorting"),
    ("1.3.6.1.4.1.42.2.27.8.5.1", "password policy"),
    ("1.3.6.1.4.1.1466.20037", "StartTLS"),
    ("1.3.6.1.4.1.4203.1.11.1", "password change"),
    ("1.3.6.1.1.13.2", "read after write"),
];

fn profile(root: &SearchEntry, product: &str) -> Vec<(String, String)> {
    let join = |name: &str| text_of(root, name).join(" · ");
    let mut profile = vec![("Product".to_owned(), product.to_owned())];
    let functionality = text_of(root, "domainControllerFunctionality");
    let level = match functionality.first().map(String::as_str) {
        Some("4") => "2008 R2",
        Some("5") => "2012",
        Some("6") => "2012 R2",
        Some("7") => "2016",
        Some(other) => other,
        None => "",
    };
    let offered: Vec<&str> = {
        let oids: Vec<String> = ["supportedControl", "supportedExtension"]
            .iter()
            .flat_map(|n| text_of(root, n))
            .collect();
        CAN.iter()
            .filter(|(oid, _)| oids.iter().any(|o| o == oid))
            .map(|(_, what)| *what)
            .collect()
    };
    for (label, text) in [
        ("Version", join("vendorVersion")),
        ("Host", join("dnsHostName")),
        ("Functional level", level.to_owned()),
        ("Holds", join("namingContexts")),
        ("Protocol versions", join("supportedLDAPVersion")),
        ("SASL mechanisms", join("supportedSASLMechanisms")),
        ("Offers", offered.join(" · ")),
    ] {
        if !text.is_empty() {
            profile.push((label.to_owned(), text));
        }
    }
    profile
}

pub(super) async fn read_capabilities(
    ldap: &mut Ldap,
    settings: &LdapSettings,
) -> Result<DirectoryCapabilities, ConnectError> {
    let asked = vec![
        "*",
        "+",
        "subschemaSubentry",
        "supportedControl",
        "vendorName",
        "vendorVersion",
        "namingContexts",
    ];
    let root = base_entry(ldap, Some(settings), "", "(objectClass=*)", asked).await?;
    let one = |name: &str| {
        root.as_ref()
            .map(|root| text_of(root, name))
            .unwrap_or_default()
    };
    let controller = root.as_ref().is_some_and(is_controller);
    let product = product_name(one, controller);
    let controls = one("supportedControl");
    let paging = controls.iter().any(|oid| oid == "1.2.840.113556.1.4.319");
    let Subschema {
        attributes,
        described,
        above,
        unordered,
        operational,
    } = read_subschema(ldap, settings, one("subschemaSubentry").first(), controller).await?;
    let has = |name: &str| attributes.contains_key(&name.to_lowercase());
    let state = if has("userAccountControl") {
        State::ControlFlags
    } else if has("nsAccountLock") {
        State::Lock
    } else if has("pwdAccountLockedTime") || !described {
        State::LockedTime
    } else {
        State::None
    };
    let key = if has("objectGUID") {
        "objectGUID"
    } else {
        "entryUUID"
    };
    let profile = root
        .as_ref()
        .map(|root| profile(root, &product))
        .unwrap_or_default();
    let by_name = attributes
        .values()
        .map(|def: &AttributeDef| (def.name.clone(), def.clone()))
        .collect();
    let modifies_passwords = one("supportedExtension")
        .iter()
        .any(|oid| oid == "1.3.6.1.4.1.4203.1.11.1");
    Ok(DirectoryCapabilities {
        attributes,
        by_name,
        key,
        state,
        controller,
        profile,
        paging,
        mark_key: None,
        modifies_passwords,
        controls,
        object_classes: BTreeMap::new(),
        contexts: one("namingContexts"),
        classes: above,
        unordered,
        operational,
        read_by_rules: Arc::default(),
    })
}

/// The name of the server's product.
fn product_name(one: impl Fn(&str) -> Vec<String>, controller: bool) -> String {
    match (
        one("vendorName").first(),
        one("objectClass")
            .iter()
            .any(|c| c.eq_ignore_ascii_case("OpenLDAProotDSE")),
    ) {
        (Some(vendor), _) if controller => format!("a domain controller ({vendor})"),
        (Some(vendor), _) => vendor.clone(),
        (None, true) => "OpenLDAP".into(),
        (None, false) if controller => "a domain controller".into(),
        (None, false) => "an LDAP server".into(),
    }
}

/// What a server publishes in its subschema (RFC 4512 §4.2).
#[derive(Default)]
struct Subschema {
    /// The attributes by all of their names, in lower case.
    attributes: FxHashMap<String, AttributeDef>,
    /// Whether any attribute type was readable.
    described: bool,
    /// Each class with all classes above it.
    above: BTreeMap<String, Vec<String>>,
    /// Attributes without an ordering rule.
    unordered: BTreeSet<String>,
    /// Attributes that the server maintains.
    operational: BTreeSet<String>,
}

/// Reads the attribute types and object classes that the server publishes (RFC 4512 §4.2).
async fn read_subschema(
    ldap: &mut Ldap,
    settings: &LdapSettings,
    place: Option<&String>,
    controller: bool,
) -> Result<Subschema, ConnectError> {
    let mut read = Subschema::default();
    if let Some(place) = place {
        let entry = base_entry(
            ldap,
            Some(settings),
            place,
            "(objectClass=*)",
            vec!["attributeTypes", "objectClasses"],
        )
        .await?;
        if let Some(entry) = entry {
            let types = text_of(&entry, "attributeTypes");
            let classes = text_of(&entry, "objectClasses");
            let classes = object_classes(classes.iter().map(String::as_str));
            read.above = class_hierarchy(&classes);
            let required: Vec<String> = classes
                .into_iter()
                .filter(|class| class.names.iter().any(|n| n.eq_ignore_ascii_case("person")))
                .flat_map(|class| class.must)
                .collect();
            for kind in attribute_types(types.iter().map(String::as_str)) {
                read.described = true;
                if kind.ordering.is_none() && !controller {
                    read.unordered
                        .extend(kind.names.iter().map(|name| name.to_lowercase()));
                }
                if kind.operational {
                    read.operational
                        .extend(kind.names.iter().map(|name| name.to_lowercase()));
                }
                let Some(name) = kind.names.first().cloned() else {
                    continue;
                };
                let def = AttributeDef {
                    kind: if controller && is_file_time(&name) {
                        ValueKind::Time
                    } else {
                        value_kind(&name, &kind.syntax)
                    },
                    multi_valued: !kind.single,
                    required: required
                        .iter()
                        .any(|r| kind.names.iter().any(|n| n.eq_ignore_ascii_case(r))),
                    case_exact: kind.case_exact(),
                    // A domain controller declares it read-only, but requires it when an entry is
                    // created.
                    writable: !kind.read_only || name.eq_ignore_ascii_case("objectClass"),
                    derived: ["memberOf", "isMemberOf", "entryUUID", "hasSubordinates"]
                        .iter()
                        .any(|n| name.eq_ignore_ascii_case(n)),
                    name: name.clone(),
                    max_length: kind.longest,
                    allowed: Vec::new(),
                };
                for name in &kind.names {
                    read.attributes.insert(name.to_lowercase(), def.clone());
                }
            }
        }
    }
    Ok(read)
}

/// Each class with all classes above it. An entry of a class is one of those too, whether it says
/// so or not (RFC 4512 §2.4).
fn class_hierarchy(classes: &[ObjectClass]) -> BTreeMap<String, Vec<String>> {
    let lower = |names: &[String]| {
        names
            .iter()
            .map(|name| name.to_lowercase())
            .collect::<Vec<_>>()
    };
    let direct: BTreeMap<String, Vec<String>> = classes
        .iter()
        .flat_map(|class| {
            lower(&class.names)
                .into_iter()
                .map(move |name| (name, lower(&class.above)))
        })
        .collect();
    let all = |name: &String| {
        let (mut above, mut left) = (Vec::new(), direct.get(name).cloned().unwrap_or_default());
        while let Some(class) = left.pop() {
            if !above.contains(&class) {
                left.extend(direct.get(&class).into_iter().flatten().cloned());
                above.push(class);
            }
        }
        above
    };
    direct
        .keys()
        .map(|name| (name.clone(), all(name)))
        .collect()
}

fn value_kind(name: &str, syntax: &str) -> ValueKind {
    if name.eq_ignore_ascii_case("objectGUID") || name.eq_ignore_ascii_case("objectSid") {
        return ValueKind::Text;
    }
    // A domain controller's own syntax for 64-bit numbers.
    if syntax == "1.2.840.113556.1.4.906" {
        return ValueKind::Int;
    }
    match syntax
        .strip_prefix("1.3.6.1.4.1.1466.115.121.1.")
        .unwrap_or_default()
    {
        "7" => ValueKind::Bool,
        "27" => ValueKind::Int,
        "24" | "53" => ValueKind::Time,
        "12" | "34" => ValueKind::Reference,
        "4" | "5" | "8" | "9" | "10" | "28" | "40" | "23" => ValueKind::Bytes,
        _ => ValueKind::Text,
    }
}

impl DirectoryCapabilities {
    /// Whether the server offers a control.
    pub fn offers(&self, oid: &str) -> bool {
        self.controls.iter().any(|offered| offered == oid)
    }

    /// The definition of an attribute, by its name without options.
    pub fn def(&self, plain: &str) -> Option<&AttributeDef> {
        // Servers write names as their schema does: nearly always no copy is needed to find them.
        self.by_name
            .get(plain)
            .or_else(|| self.attributes.get(&plain.to_lowercase()))
    }

    /// The attributes that a read asks for: all ordinary ones, those operational ones that
    /// decisions need, and those that the rules name. All operational ones would make every record
    /// differ at every read.
    pub fn requested_attributes(&self) -> Vec<String> {
        let by_rules = self
            .read_by_rules
            .read()
            .unwrap_or_else(PoisonError::into_inner)
            .clone();
        [
            "*",
            "entryUUID",
            "entryCSN",
            "objectGUID",
            "createTimestamp",
            "memberOf",
            "pwdAccountLockedTime",
            "nsAccountLock",
            "pwdLastSuccess",
            "authTimestamp",
        ]
        .into_iter()
        .map(str::to_owned)
        .chain(
            by_rules
                .into_iter()
                .filter(|name| self.def(super::entry::plain_of(name).0).is_some()),
        )
        .collect()
    }

    /// This server's names for attributes that have another name here.
    fn native_names(&self) -> NativeNames {
        let (state, must_change) = match self.state {
            State::ControlFlags => (Some("userAccountControl"), Some("pwdLastSet")),
            State::Lock => (Some("nsAccountLock"), Some("passwordExpirationTime")),
            State::LockedTime => (Some("pwdAccountLockedTime"), Some("pwdReset")),
            State::None => (None, None),
        };
        let version = self
            .attributes
            .contains_key("entrycsn")
            .then_some("entryCSN");
        // A domain controller distinguishes people and computers by it, and counts changes by it.
        let counted = if self.controller {
            &["objectCategory", "primaryGroupID", "uSNChanged"][..]
        } else {
            &["modifyTimestamp"]
        };
        let identifying = ["objectClass", self.key]
            .into_iter()
            .chain(version)
            .chain(counted.iter().copied());
        // The domain's own context is the shortest: the others lie below it.
        let domain = self.contexts.iter().min_by_key(|context| context.len());
        NativeNames {
            identifying: identifying.map(str::to_owned).collect(),
            state: state.map(str::to_owned),
            must_change: must_change.map(str::to_owned),
            deleted_in: domain
                .filter(|_| self.controller)
                .map(|domain| format!("CN=Deleted Objects,{domain}")),
        }
    }

    pub fn key_filter(&self, key: &str) -> LdapFilter {
        match (self.key, guid_bytes(key)) {
            ("objectGUID", Some(bytes)) => LdapFilter::Equal("objectGUID".into(), bytes),
            _ => LdapFilter::equal(self.key, key),
        }
    }

    pub fn labels(&self) -> Vec<String> {
        let count = self
            .attributes
            .values()
            .map(|d| d.name.as_str())
            .collect::<std::collections::HashSet<_>>()
            .len();
        vec![
            self.profile
                .first()
                .map(|(_, product)| product.clone())
                .unwrap_or_default(),
            if self.paging {
                "paged reading".into()
            } else {
                "no paged reading".into()
            },
            format!("accounts keyed by {}", self.key),
            match self.state {
                State::ControlFlags => "state in userAccountControl",
                State::Lock => "state in nsAccountLock",
                State::LockedTime => "state in pwdAccountLockedTime",
                State::None => "no account state",
            }
            .into(),
            if count == 0 {
                "no schema published".into()
            } else {
                format!("{count} attributes described")
            },
        ]
    }

    /// What the server states about itself.
    pub fn profile(&self) -> Vec<(String, String)> {
        self.profile.clone()
    }

    /// The schema for each type. A directory has one; what we derive is added.
    pub fn schemas(&self) -> BTreeMap<ObjectType, Schema> {
        let mut schema = Schema::default();
        for def in self.attributes.values() {
            if !NEVER
                .iter()
                .any(|never| never.eq_ignore_ascii_case(&def.name))
            {
                schema.put(def.clone());
            }
        }
        if schema.attributes.is_empty() {
            return BTreeMap::new();
        }
        schema.put(AttributeDef {
            kind: ValueKind::Text,
            ..AttributeDef::text("dn")
        });
        schema.put(AttributeDef {
            writable: false,
            derived: true,
            ..AttributeDef::text("container")
        });
        schema.put(AttributeDef {
            kind: ValueKind::Bool,
            ..AttributeDef::text("enabled")
        });
        if self.controller {
            let derived = AttributeDef {
                writable: false,
                derived: true,
                multi_valued: true,
                ..AttributeDef::text("accountFlags")
            };
            schema.put(derived);
        }
        schema.state_attribute = (self.state != State::None).then(|| "enabled".to_owned());
        schema.name_attribute = Some("dn".into());
        if self.controller {
            schema.unique = vec!["sAMAccountName".into(), "userPrincipalName".into()];
        }
        schema.refers_by_name = true;
        schema.follows_renames = self.controller;
        (schema.classes, schema.unordered) = (self.classes.clone(), self.unordered.clone());
        schema.operational = self.operational.clone();
        schema.native = self.native_names();
        ObjectType::ALL
            .iter()
            .copied()
            .map(|kind| (kind, schema.clone()))
            .collect()
    }
}

/// The bytes of a GUID in the order in which the server stores them.
fn guid_bytes(text: &str) -> Option<Vec<u8>> {
    let guid = uuid::Uuid::parse_str(text).ok()?;
    Some(guid.to_bytes_le().to_vec())
}

#[cfg(test)]
mod tests {
    #[test]
    fn a_guid_goes_there_and_back() {
        let bytes: Vec<u8> = (0..16).collect();
        let text = tide_ldap::syntax::object_guid(&bytes).expect("sixteen octets");
        assert_eq!(super::guid_bytes(&text), Some(bytes));
        assert_eq!(super::guid_bytes("no"), None);
    }
}
