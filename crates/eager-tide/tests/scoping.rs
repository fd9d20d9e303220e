//! Who takes part, by groups and filters, while a real directory is watched.
#![allow(clippy::disallowed_methods, reason = "tests run in real time")]
#![allow(clippy::unwrap_used)]

mod common;

use common::{Service, client, holds, said, text};
use ldap3::{Ldap, LdapConnAsync, Mod};
use std::collections::HashSet;
use std::time::Duration;
use tide_ldap::ldif::LdifEntry;
use tide_standins::eventually;
use tide_standins::slapd::Slapd;
use tide_standins::world::BASE;

const WATCH: &str = "cn=watch,ou=groups,dc=skerry,dc=example";

fn entries() -> Vec<LdifEntry> {
    let mut all = vec![
        LdifEntry::new(BASE)
            .with("objectClass", &["dcObject", "organization"])
            .with("dc", &["skerry"])
            .with("o", &["Skerry Line"]),
    ];
    for unit in ["people", "groups"] {
        all.push(
            LdifEntry::new(format!("ou={unit},{BASE}"))
                .with("objectClass", &["organizationalUnit"])
                .with("ou", &[unit]),
        );
    }
    for (uid, name) in [("ada", "Ada Quay"), ("bo", "Bo Lind"), ("cy", "Cy Mast")] {
        let entry = LdifEntry::new(format!("uid={uid},ou=people,{BASE}"))
            .with("objectClass", &["inetOrgPerson"])
            .with("uid", &[uid]);
        all.push(
            entry
                .with("cn", &[name])
                .with("sn", &[name])
                .with("employeeNumber", &[uid]),
        );
    }
    // Read by nobody in what follows, and no person by the usual classes.
    let pilot = LdifEntry::new(format!("uid=pilot,ou=people,{BASE}"))
        .with("objectClass", &["account", "extensibleObject"]);
    all.push(
        pilot
            .with("uid", &["pilot"])
            .with("cn;lang-no", &["Los"])
            .with("cn", &["Pilot"])
            .with("sn", &["Pilot"])
            .with("employeeNumber", &["pilot"]),
    );
    all
}

fn dn(uid: &str) -> String {
    format!("uid={uid},ou=people,{BASE}")
}

/// A service that watches a directory.
struct Yard {
    service: Service,
    folder: tempfile::TempDir,
    ldap: Ldap,
    _slapd: Slapd,
}

impl Yard {
    async fn start() -> Yard {
        let slapd = Slapd::start(&entries()).unwrap();
        let folder = tempfile::tempdir().unwrap();
        let service = Service::start(&folder.path().join("data"));
        let (conn, mut ldap) = LdapConnAsync::new(&slapd.url).await.unwrap();
        ldap3::drive!(conn);
        ldap.simple_bind(&slapd.admin_dn, &slapd.admin_password)
            .await
            .unwrap()
            .success()
            .unwrap();
        // The overlay notes memberships that are made while it runs.
        let group = [("objectClass", vec!["groupOfNames"]), ("cn", vec!["watch"])]
            .map(|(name, values)| (name, HashSet::from_iter(values)));
        let members = [dn("ada"), dn("bo")];
        let members = (
            "member",
            members
                .iter()
                .map(String::as_str)
                .collect::<HashSet<&str>>(),
        );
        ldap.add(WATCH, group.into_iter().chain([members]).collect())
            .await
            .unwrap()
            .success()
            .unwrap();
        let add = [
            "systems",
            "add",
            "harbour",
            "--kind",
            "ldap",
            "--address",
            &slapd.url,
            "--as",
            "source",
        ];
        let add = [&add[..], &["--bind-dn", &slapd.admin_dn, "--base-dn", BASE]].concat();
        let added = client(&service.url, &service.token, &add, &slapd.admin_password);
        assert!(added.status.success(), "{}", text(&added));
        let yard = Yard {
            service,
            folder,
            ldap,
            _slapd: slapd,
        };
        let identities = "[person]\nlabel = \"name\"\n[person.attributes]\nnumber = { required = true, unique = true }\nname = {}\nseen = {}\n";
        std::fs::create_dir_all(yard.folder.path().join("rules")).unwrap();
        std::fs::write(yard.folder.path().join("rules/identities.toml"), identities).unwrap();
        yard
    }

    /// Publishes rules with this scope; what the client says of it.
    fn publish(&self, scope: &str, code: i32) -> String {
        let rules = self.folder.path().join("rules");
        let text = format!(
            "system = \"harbour\"\n{scope}\n[[person.match]]\naccount = 'account.employeeNumber'\nidentity = 'identity.number'\n[person.inbound]\n\
             number = 'account.employeeNumber'\nname = 'account.cn'\n"
        );
        std::fs::write(rules.join("harbour.toml"), text).unwrap();
        said(
            &self.service,
            &["rules", "publish", rules.to_str().unwrap()],
            code,
        )
    }

    /// Waits until exactly these take part.
    async fn takes_part(&self, wanted: &[&str], after: &str) {
        let in_scope = eventually(Duration::from_secs(30), async || {
            let shown = said(&self.service, &["scope", "harbour", "--status", "in"], 0);
            let there: Vec<&str> = ["Ada Quay", "Bo Lind", "Cy Mast", "Pilot"]
                .into_iter()
                .filter(|name| shown.contains(name))
                .collect();
            (there == wanted).then_some(())
        })
        .await;
        if in_scope.is_none() {
            panic!(
                "{after}: {}\n{}",
                said(&self.service, &["scope", "harbour", "--status", "in"], 0),
                said(&self.service, &["scope", "harbour", "--status", "out"], 0)
            );
        }
    }

    async fn member(&mut self, uid: &str, is_member: bool) {
        let value = HashSet::from([dn(uid)]);
        let change = if is_member {
            Mod::Add("member".to_owned(), value)
        } else {
            Mod::Delete("member".to_owned(), value)
        };
        self.ldap
            .modify(WATCH, vec![change])
            .await
            .unwrap()
            .success()
            .unwrap();
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn who_is_taken_out_of_a_group_is_out_within_moments_by_group_and_by_filter() {
    let mut yard = Yard::start().await;
    yard.publish(&format!("[person.scope]\ngroups = [\"{WATCH}\"]"), 0);
    said(&yard.service, &["systems", "arm", "harbour"], 0);
    said(
        &yard.service,
        &["systems", "schedule", "harbour", "--watch"],
        0,
    );
    yard.takes_part(&["Ada Quay", "Bo Lind"], "by group").await;
    yard.member("bo", false).await;
    yard.takes_part(&["Ada Quay"], "taken out, by group").await;
    yard.publish(
        &format!("[person.scope]\nfilter = \"(memberOf={WATCH})\""),
        0,
    );
    yard.takes_part(&["Ada Quay"], "by filter").await;
    yard.member("bo", true).await;
    yard.takes_part(&["Ada Quay", "Bo Lind"], "put in, by filter")
        .await;
    yard.member("ada", false).await;
    yard.takes_part(&["Bo Lind"], "taken out, by filter").await;
    // An expression would believe what the entry says.
    let refused = yard.publish(
        "[[person.scope.condition]]\nwhen = 'account.memberOf != null'\nreason = \"no member\"",
        1,
    );
    holds(
        &refused,
        &[
            "is as old as the entry's last read",
            "use `groups` or `not_groups` of the scope",
        ],
    );
}

/// The watched directory with everybody in scope.
async fn yard_of_three() -> Yard {
    let yard = Yard::start().await;
    yard.publish("[person.scope]\nfilter = \"(cn=*)\"", 0);
    said(&yard.service, &["systems", "arm", "harbour"], 0);
    said(
        &yard.service,
        &["systems", "schedule", "harbour", "--watch"],
        0,
    );
    yard.takes_part(&["Ada Quay", "Bo Lind", "Cy Mast"], "everybody")
        .await;
    yard
}

/// A full read starts automatically for it, and later changes are checked with the server.
#[tokio::test(flavor = "multi_thread")]
async fn a_filter_that_only_the_server_can_evaluate_is_sent_to_it() {
    let mut yard = yard_of_three().await;
    let warned = yard.publish("[person.scope]\nfilter = \"(&(memberOf=*)(!(cn=Bo*)))\"", 0);
    holds(
        &warned,
        &[
            "the server evaluates this filter",
            "as old as the last full read",
        ],
    );
    yard.takes_part(&["Ada Quay"], "whom the server finds")
        .await;
    yard.ldap
        .modify(
            &dn("ada"),
            vec![Mod::Replace("cn", HashSet::from(["Bo Quay"]))],
        )
        .await
        .unwrap()
        .success()
        .unwrap();
    yard.takes_part(&[], "no longer found").await;
    yard.ldap
        .modify(
            &dn("ada"),
            vec![Mod::Replace("cn", HashSet::from(["Ada Quay"]))],
        )
        .await
        .unwrap()
        .success()
        .unwrap();
    yard.takes_part(&["Ada Quay"], "found again").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn operational_attributes_are_read_when_rules_need_them() {
    let yard = yard_of_three().await;
    yard.publish("[[person.scope.condition]]\nwhen = 'account.modifiersName != null'\nreason = \"nobody changed it\"", 0);
    yard.takes_part(
        &["Ada Quay", "Bo Lind", "Cy Mast"],
        "with an operational attribute",
    )
    .await;
}

/// Entries of another class are counted by the check, and read when their class is configured.
#[tokio::test(flavor = "multi_thread")]
async fn entries_of_a_class_are_read_when_it_is_configured() {
    let yard = yard_of_three().await;
    holds(
        &said(&yard.service, &["systems", "test", "harbour"], 0),
        &[
            "Object classes",
            "3 persons are read",
            "no entry of another class",
        ],
    );
    holds(
        &said(
            &yard.service,
            &[
                "systems",
                "configure",
                "harbour",
                r#"person_classes=["inetOrgPerson"]"#,
                r#"service_classes=["device"]"#,
            ],
            0,
        ),
        &["device"],
    );
    let check = said(&yard.service, &["systems", "test", "harbour"], 0);
    holds(
        &check,
        &[
            "1 of 4 entries that look like people are not read",
            "account+extensibleObject 1",
            "person_classes",
        ],
    );
    said(
        &yard.service,
        &[
            "systems",
            "configure",
            "harbour",
            "person_classes=inetOrgPerson,account",
        ],
        0,
    );
    yard.publish("[person.scope]\nfilter = \"(cn=*)\"", 0);
    yard.takes_part(
        &["Ada Quay", "Bo Lind", "Cy Mast", "Pilot"],
        "with their class",
    )
    .await;
    holds(
        &said(
            &yard.service,
            &[
                "systems",
                "configure",
                "harbour",
                r#"person_classes=["nobody"]"#,
            ],
            0,
        ),
        &["nobody"],
    );
    holds(
        &said(&yard.service, &["systems", "test", "harbour"], 0),
        &["the schema has no class nobody"],
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_missing_container_is_reported_with_the_nearest_entry() {
    let yard = yard_of_three().await;
    let missing = said(
        &yard.service,
        &["systems", "tree", "harbour", &format!("ou=nowhere,{BASE}")],
        1,
    );
    holds(
        &missing,
        &["does not exist", "the nearest entry that exists is"],
    );
}
