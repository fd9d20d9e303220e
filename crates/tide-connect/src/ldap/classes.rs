//! The object classes that select entries, and the report about all others in a connection test.

use super::schema::DirectoryCapabilities;
use super::{LdapConnector, Search};
use crate::{CheckReport, ConnectError, LdapSettings};
use ldap3::{Ldap, Scope, SearchEntry};
use std::collections::BTreeMap;
use tide_core::ObjectType;
use tide_core::states::CheckStepKind;
use tide_ldap::LdapFilter;

/// Classes of entries that only hold others.
pub(super) const CONTAINERS: [&str; 8] = [
    "organizationalUnit",
    "organization",
    "container",
    "builtinDomain",
    "domain",
    "domainDNS",
    "locality",
    "country",
];
/// Maximum number of entries that a test examines.
const LOOKED_AT: usize = 5000;
/// Attributes that hardly anything but a person has.
const OF_PEOPLE: [&str; 4] = ["sn", "uid", "mail", "userPrincipalName"];
/// The class of a domain controller's machines, which are persons by their class.
const COMPUTER: &str = "computer";

/// The object classes of each type, as the settings name them or as is usual.
pub(super) fn of(settings: &LdapSettings) -> BTreeMap<ObjectType, Vec<String>> {
    let or_usual = |named: &[String], usual: &[&str]| -> Vec<String> {
        if named.is_empty() {
            usual.iter().map(|class| (*class).to_owned()).collect()
        } else {
            named.to_vec()
        }
    };
    [
        (
            ObjectType::Person,
            or_usual(&settings.person_classes, &["person", "inetOrgPerson"]),
        ),
        (
            ObjectType::Service,
            or_usual(
                &settings.service_classes,
                &["account", "simpleSecurityObject"],
            ),
        ),
        (
            ObjectType::Group,
            or_usual(
                &settings.group_classes,
                &["groupOfNames", "groupOfUniqueNames", "group", "posixGroup"],
            ),
        ),
    ]
    .into()
}

pub(super) fn any_of<S: AsRef<str>>(classes: impl IntoIterator<Item = S>) -> LdapFilter {
    LdapFilter::Any(
        classes
            .into_iter()
            .map(|class| LdapFilter::equal("objectClass", class.as_ref()))
            .collect(),
    )
}

fn has_class(classes: &[String], class: &str) -> bool {
    classes
        .iter()
        .any(|other| other.eq_ignore_ascii_case(class))
}

impl DirectoryCapabilities {
    /// The entries of a type.
    pub fn class_filter(&self, object: ObjectType) -> LdapFilter {
        let classes = self
            .object_classes
            .get(&object)
            .map_or(&[][..], Vec::as_slice);
        // On other servers the class is unknown, and the negation of an undefined filter matches
        // nothing (RFC 4511 §4.5.1.7).
        if object == ObjectType::Person && self.controller && !has_class(classes, COMPUTER) {
            return LdapFilter::All(vec![
                any_of(classes),
                LdapFilter::Not(Box::new(LdapFilter::equal("objectClass", COMPUTER))),
            ]);
        }
        any_of(classes)
    }

    /// The most specific object classes of an entry.
    fn lowest_classes(&self, classes: &[String]) -> String {
        let is_above = |class: &String| {
            let class = class.to_lowercase();
            classes.iter().any(|other| {
                self.classes
                    .get(&other.to_lowercase())
                    .is_some_and(|above| above.contains(&class))
            })
        };
        let mut lowest: Vec<&str> = classes
            .iter()
            .filter(|class| !is_above(class))
            .map(String::as_str)
            .collect();
        lowest.sort_unstable();
        lowest.join("+")
    }
}

/// Entries by what they are, the most frequent first.
#[derive(Default)]
struct Counts(BTreeMap<String, usize>);

impl Counts {
    fn total(&self) -> usize {
        self.0.values().sum()
    }

    fn words(&self) -> String {
        let mut all: Vec<(&String, &usize)> = self.0.iter().collect();
        all.sort_by_key(|(class, count)| (std::cmp::Reverse(**count), (*class).clone()));
        let more = if all.len() > 4 {
            format!(", and {} more classes", all.len() - 4)
        } else {
            String::new()
        };
        all.iter()
            .take(4)
            .map(|(class, count)| format!("{class} {count}"))
            .collect::<Vec<_>>()
            .join(", ")
            + &more
    }
}

fn values_of<'e>(entry: &'e SearchEntry, name: &str) -> &'e [String] {
    entry
        .attrs
        .iter()
        .find(|(own, _)| own.eq_ignore_ascii_case(name))
        .map_or(&[][..], |(_, values)| values)
}

impl LdapConnector {
    /// Counts the entries below the base by object class: those that are read, and those that are
    /// not, particularly if they look like people.
    pub(super) async fn check_classes(
        &self,
        ldap: &mut Ldap,
        known: &DirectoryCapabilities,
        report: &mut CheckReport,
    ) {
        const STEP: CheckStepKind = CheckStepKind::ObjectClasses;
        let unknown: Vec<&str> = known
            .object_classes
            .values()
            .flatten()
            .map(String::as_str)
            .filter(|class| {
                self.names_class(class)
                    && !known.classes.is_empty()
                    && !known.classes.contains_key(&class.to_lowercase())
            })
            .collect();
        if !unknown.is_empty() {
            let text = format!("the schema has no class {}", unknown.join(" and no class "));
            return report.warned(
                STEP,
                text,
                "correct `person_classes`, `service_classes` or `group_classes` of the system",
            );
        }
        match self.count_classes(ldap, known).await {
            Err(error) => report.warned(
                STEP,
                format!("entries could not be counted: {}", error.message),
                error.remedy,
            ),
            Ok((read, like_people, others)) => {
                let at_least = if read + like_people.total() + others.total() >= LOOKED_AT {
                    " at least"
                } else {
                    ""
                };
                if like_people.total() > 0 {
                    let all = read + like_people.total();
                    report.warned(
                        STEP,
                        format!(
                            "{} of{at_least} {all} entries that look like people are not read: {}",
                            like_people.total(),
                            like_people.words()
                        ),
                        "to read them, add their class to the setting `person_classes`",
                    );
                } else if others.total() > 0 {
                    report.passed(
                        STEP,
                        format!(
                            "{read} persons are read,{at_least} {} other entries are not: {}",
                            others.total(),
                            others.words()
                        ),
                    );
                } else {
                    report.passed(STEP, format!("{read}{at_least} persons are read, and no entry of another class is left out"));
                }
            }
        }
    }

    fn names_class(&self, class: &str) -> bool {
        let settings = self.settings();
        [
            &settings.person_classes,
            &settings.service_classes,
            &settings.group_classes,
        ]
        .into_iter()
        .any(|named| has_class(named, class))
    }

    /// The number of persons that are read and, of what is not read, what looks like people and
    /// the rest.
    async fn count_classes(
        &self,
        ldap: &mut Ldap,
        known: &DirectoryCapabilities,
    ) -> Result<(usize, Counts, Counts), ConnectError> {
        let base = self.settings().base_dn.as_str();
        let (read, _) = self
            .count_below(
                ldap,
                base,
                &known.class_filter(ObjectType::Person).to_string(),
            )
            .await?;
        // Only classes of the schema: the negation of one that it does not have would hold for no
        // entry.
        let named = known
            .object_classes
            .values()
            .flatten()
            .map(String::as_str)
            .chain(CONTAINERS)
            .chain([COMPUTER]);
        let is_known = |class: &&str| {
            known.classes.is_empty() || known.classes.contains_key(&class.to_lowercase())
        };
        let is_read = any_of(named.filter(is_known));
        let filter = LdapFilter::Not(Box::new(is_read)).to_string();
        let attributes = ["objectClass"]
            .into_iter()
            .chain(OF_PEOPLE)
            .map(str::to_owned)
            .collect();
        let search = Search {
            base,
            scope: Scope::Subtree,
            filter: &filter,
            attributes,
        };
        let (mut like_people, mut others) = (Counts::default(), Counts::default());
        let mut cookie = Vec::new();
        loop {
            let page = self.read_page(ldap, &search, cookie).await?;
            for entry in &page.entries {
                let classes = values_of(entry, "objectClass");
                let is_person = OF_PEOPLE
                    .iter()
                    .any(|name| !values_of(entry, name).is_empty());
                let counts = if is_person {
                    &mut like_people
                } else {
                    &mut others
                };
                *counts.0.entry(known.lowest_classes(classes)).or_default() += 1;
            }
            if page.next.is_empty() || like_people.total() + others.total() >= LOOKED_AT {
                return Ok((read, like_people, others));
            }
            cookie = page.next;
        }
    }
}
