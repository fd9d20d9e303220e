//! Service accounts with exactly the permissions that are listed for them, and with less: on a real
//! slapd.
#![allow(clippy::disallowed_methods, reason = "tests run in real time")]
#![allow(clippy::unwrap_used)]

mod common;
#[path = "common/ship.rs"]
mod ship;

use common::{client, holds, said, text};
use ship::{Ship, reach};
use std::collections::BTreeSet;
use tide_api::Operation;
use tide_ldap::ldif::LdifEntry;
use tide_standins::slapd::{Setup, Slapd};
use tide_standins::world::BASE;

const ACCOUNT: (&str, &str) = (
    "cn=eager-tide,ou=services,dc=skerry,dc=example",
    "Capstan-Buoy-44",
);

fn rules() -> String {
    ship::hall("title           = 'identity.dept'\ntelephoneNumber = 'identity.ends'\n")
}

/// The tree, with a service account that has no permission yet.
fn entries() -> Vec<LdifEntry> {
    let mut all = ship::tree(
        &["deck", "galley", "groups", "services", "former"],
        &["deck-crew", "galley-crew"],
    );
    let account = LdifEntry::new(ACCOUNT.0)
        .with(
            "objectClass",
            &["organizationalRole", "simpleSecurityObject"],
        )
        .with("cn", &["eager-tide"]);
    all.push(account.with("userPassword", &[ACCOUNT.1]));
    all
}

/// A slapd whose service account may do this and nothing else.
fn slapd(access: &str) -> Slapd {
    let access = format!(
        "access to attrs=userPassword by self =w by anonymous auth by * break\n{access}\naccess to * by * none"
    );
    Slapd::with_setup(
        &entries(),
        &Setup {
            access: Some(access),
            ..Setup::default()
        },
    )
    .unwrap()
}

fn all_but(attributes: &str) -> String {
    let who = ACCOUNT.0;
    format!(
        "access to attrs={attributes} by dn.exact=\"{who}\" read by * none\naccess to * by dn.exact=\"{who}\" write by * none"
    )
}

#[tokio::test(flavor = "multi_thread")]
async fn a_refused_value_keeps_back_no_other_of_the_same_person() {
    let slapd = slapd(&all_but("description"));
    let mut ship = Ship::start_as(&reach(&slapd), ACCOUNT, &rules(), "person").await;
    ship.set("100", &[("name", "Ada Quay"), ("dept", "deck")]);
    ship.run();
    // Another department and another name; and a telephone number that no directory takes.
    ship.set(
        "100",
        &[("name", "Ada Holm"), ("dept", "galley"), ("ends", "¿¡ø")],
    );
    let run = said(&ship.service, &["run"], 1);
    holds(
        &run,
        &[
            "1 failed",
            "telephoneNumber",
            "partly done: the account was renamed",
        ],
    );
    let who = "(employeeNumber=100)";
    assert_eq!(
        ship.entry(who).await.unwrap().dn,
        "cn=Ada Holm,ou=galley,dc=skerry,dc=example"
    );
    for (attribute, wanted) in [
        ("title", "galley"),
        ("sn", "Ada Holm"),
        ("telephoneNumber", ""),
    ] {
        assert_eq!(
            ship.values(who, attribute).await.concat(),
            wanted,
            "{attribute}"
        );
    }
    // What is refused stays one change, and is done when it can be.
    let again = said(&ship.service, &["run"], 1);
    holds(&again, &["1 failed", "telephoneNumber"]);
    assert!(!again.contains("title"), "{again}");
    ship.set("100", &[("ends", "+47 000 001")]);
    ship.run();
    assert_eq!(ship.values(who, "telephoneNumber").await, ["+47 000 001"]);
    // A name that must be there is not cleared with all else.
    ship.rules(
        "hall.toml",
        &rules().replace(
            "{ value = 'identity.name', required = true }",
            "'identity.manager'",
        ),
    );
    ship.publish();
    ship.set("100", &[("ends", "+47 000 002")]);
    ship.run();
    assert_eq!(ship.values(who, "sn").await, ["Ada Holm"]);
    assert_eq!(ship.values(who, "telephoneNumber").await, ["+47 000 002"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_refused_for_want_of_rights_is_not_sent_on_and_on() {
    let who = ACCOUNT.0;
    let galley =
        format!("access to dn.subtree=\"ou=galley,{BASE}\" by dn.exact=\"{who}\" write by * none");
    let slapd = slapd(&format!(
        "{galley}\naccess to * by dn.exact=\"{who}\" read by * none"
    ));
    let mut ship = Ship::start_as(&reach(&slapd), ACCOUNT, &rules(), "person").await;
    for at in 0..40 {
        ship.set(
            &format!("{}", 100 + at),
            &[("name", &format!("Crew {at}")), ("dept", "deck")],
        );
    }
    for at in 0..3 {
        ship.set(
            &format!("{}", 900 + at),
            &[("name", &format!("Cook {at}")), ("dept", "galley")],
        );
    }
    let run = said(&ship.service, &["run"], 1);
    holds(
        &run,
        &[
            "· partial ·",
            "3 done, 41 failed",
            "no write access to parent",
        ],
    );
    let all = said(
        &ship.service,
        &["changes", "show", "1", "--values", "--limit", "100"],
        0,
    );
    holds(
        &all,
        &[
            "in this container in a row: the service account lacks a permission",
            "eager-tide systems permissions hall",
        ],
    );
    let sent = all
        .lines()
        .filter(|line| line.contains("no write access to parent"))
        .count();
    assert!(
        sent <= 26,
        "ten in a row, and what was on its way meanwhile: {sent}"
    );
    assert!(
        ship.entry("(employeeNumber=902)").await.is_some(),
        "where it has the right, accounts are made"
    );
}

/// Everything that rules can do with a directory.
const EVERYTHING: &str = r#"title          = 'identity.ends'
manager        = 'identity.manager'
enabled        = 'identity.active'
[person.password]
attribute = "userPassword"
sync = true
[[person.membership]]
groups = '[identity.dept + "-crew"]'
[[person.departure]]
step = "disable"
[[person.departure]]
step = "randomize_password"
[[person.departure]]
step = "set"
attribute = "description"
value = '"left"'
[[person.departure]]
step = "revoke"
[[person.departure]]
step = "move"
to = '"cn=" + identity.name + ",ou=former,dc=skerry,dc=example"'
[[person.departure]]
step = "delete"
when = 'identity.dept == "galley"'
"#;

/// The access rules of slapd (slapd.access(5)) for a list of permissions.
fn access_of(permissions: &str) -> String {
    let permissions: Vec<tide_api::Permission> = serde_json::from_str(permissions).unwrap();
    let (mut read, mut write) = (BTreeSet::new(), BTreeSet::new());
    for permission in permissions {
        assert_eq!(permission.entries, [BASE], "{permission:?}");
        match permission.operation {
            Operation::Read => read.extend(
                permission
                    .attributes
                    .into_iter()
                    .chain(["entry".to_owned()]),
            ),
            Operation::Write | Operation::SetPassword => write.extend(permission.attributes),
            // slapd asks for the naming attribute, for the entry, and for the children of the
            // containers.
            Operation::Rename => write.extend(
                permission
                    .attributes
                    .into_iter()
                    .chain(["entry".to_owned(), "children".to_owned()]),
            ),
            // What a new entry holds is not looked at by itself.
            Operation::Create | Operation::Delete => {
                write.extend(["entry".to_owned(), "children".to_owned()])
            }
        }
    }
    read.retain(|name| !write.contains(name));
    let rule = |names: BTreeSet<String>, level: &str| {
        let names = names.into_iter().collect::<Vec<_>>().join(",");
        format!(
            "access to dn.subtree=\"{BASE}\" attrs={names} by dn.exact=\"{}\" {level} by * none",
            ACCOUNT.0
        )
    };
    format!("{}\n{}", rule(write, "write"), rule(read, "read"))
}

fn setup(access: &str) -> Setup {
    let access = format!(
        "access to attrs=userPassword by self =w by anonymous auth by * break\n{access}\naccess to * by * none"
    );
    Setup {
        access: Some(access),
        policy: format!("ppolicy_default \"cn=policy,{BASE}\""),
        ..Setup::default()
    }
}

/// A directory whose service account has exactly the permissions that the service lists for its
/// rules, with three people.
struct Listed {
    ship: Ship,
    _slapd: Slapd,
}

const CY: &str = "(employeeNumber=102)";

impl Listed {
    async fn start() -> Listed {
        let mut all = entries();
        let policy = LdifEntry::new(format!("cn=policy,{BASE}"))
            .with("objectClass", &["applicationProcess", "pwdPolicy"])
            .with("cn", &["policy"]);
        all.push(
            policy
                .with("pwdAttribute", &["userPassword"])
                .with("pwdMustChange", &["TRUE"]),
        );
        let listed = {
            let slapd = Slapd::with_setup(&all, &setup(&all_but("description"))).unwrap();
            let ship = Ship::start(&reach(&slapd), &ship::hall(EVERYTHING), "person,group").await;
            holds(
                &said(&ship.service, &["systems", "permissions", "hall"], 0),
                &[
                    "set password",
                    "pwdAccountLockedTime",
                    "dc=skerry,dc=example and below",
                ],
            );
            said(
                &ship.service,
                &["systems", "permissions", "hall", "--output", "json"],
                0,
            )
        };
        let slapd = Slapd::with_setup(&all, &setup(&access_of(&listed))).unwrap();
        let mut ship = Ship::start_as(
            &reach(&slapd),
            ACCOUNT,
            &ship::hall(EVERYTHING),
            "person,group",
        )
        .await;
        for (number, name, dept) in [
            ("100", "Ada Quay", "deck"),
            ("101", "Bo Lind", "galley"),
            ("102", "Cy Mast", "deck"),
        ] {
            ship.set(
                number,
                &[
                    ("name", name),
                    ("dept", dept),
                    ("manager", if number == "100" { "" } else { "100" }),
                    ("ends", "mate"),
                ],
            );
        }
        ship.run();
        ship.rest();
        Listed {
            ship,
            _slapd: slapd,
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn with_the_listed_permissions_the_check_is_healthy_and_movers_and_locks_work() {
    let mut listed = Listed::start().await;
    let ship = &mut listed.ship;
    let check = said(&ship.service, &["systems", "test", "hall"], 0);
    holds(&check, &["Changes", "content synchronization"]);
    assert!(
        !check.contains("FAIL") && !check.contains("look"),
        "{check}"
    );
    // Another department, name, title and manager; another person is suspended and returns.
    ship.set(
        "102",
        &[
            ("name", "Cy Holm"),
            ("dept", "galley"),
            ("manager", "101"),
            ("ends", "cook"),
        ],
    );
    ship.set("101", &[("active", "no")]);
    ship.run();
    let cy = CY;
    assert_eq!(
        ship.entry(cy).await.unwrap().dn,
        "cn=Cy Holm,ou=galley,dc=skerry,dc=example"
    );
    assert_eq!(
        ship.values(cy, "manager").await,
        ["cn=Bo Lind,ou=galley,dc=skerry,dc=example"]
    );
    assert_eq!(ship.values(cy, "title").await, ["cook"]);
    assert!(
        ship.members("galley-crew")
            .await
            .contains("cn=cy holm,ou=galley,dc=skerry,dc=example")
    );
    assert!(
        !ship
            .members("deck-crew")
            .await
            .iter()
            .any(|member| member.starts_with("cn=cy"))
    );
    assert_eq!(
        ship.values("(employeeNumber=101)", "pwdAccountLockedTime")
            .await,
        ["000001010000Z"]
    );
    ship.set("101", &[("active", "yes")]);
    ship.run();
    assert!(
        ship.values("(employeeNumber=101)", "pwdAccountLockedTime")
            .await
            .is_empty()
    );
}

/// Set by an operator, to be changed at the next sign-in.
#[tokio::test(flavor = "multi_thread")]
async fn with_the_listed_permissions_a_password_is_set() {
    let mut listed = Listed::start().await;
    let ship = &mut listed.ship;
    let set = client(
        &ship.service.url,
        &ship.service.token,
        &[
            "passwords",
            "set",
            &ship.identity("Cy Mast"),
            "--must-change",
        ],
        "Windlass-Ketch-71",
    );
    assert!(set.status.success(), "{}", text(&set));
    ship.run();
    assert_eq!(ship.values(CY, "pwdReset").await, ["TRUE"]);
}

/// One account stays, disabled and elsewhere, the other is deleted.
#[tokio::test(flavor = "multi_thread")]
async fn with_the_listed_permissions_leavers_are_moved_or_deleted() {
    let mut listed = Listed::start().await;
    let ship = &mut listed.ship;
    for name in ["Ada Quay", "Bo Lind"] {
        said(
            &ship.service,
            &["identities", "depart", &ship.identity(name)],
            0,
        );
    }
    ship.rest();
    let ada = "(employeeNumber=100)";
    assert_eq!(
        ship.entry(ada).await.unwrap().dn,
        "cn=Ada Quay,ou=former,dc=skerry,dc=example"
    );
    assert_eq!(ship.values(ada, "description").await, ["left"]);
    assert_eq!(
        ship.values(ada, "pwdAccountLockedTime").await,
        ["000001010000Z"]
    );
    assert!(
        !ship
            .members("deck-crew")
            .await
            .iter()
            .any(|member| member.starts_with("cn=ada"))
    );
    assert!(
        ship.entry("(employeeNumber=101)").await.is_none(),
        "deleted"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_test_of_the_connection_notices_a_key_that_cannot_be_read() {
    let slapd = slapd(&format!(
        "access to attrs=entryUUID by * none\n{}",
        all_but("description")
    ));
    let mut ship = Ship::start(&reach(&slapd), &rules(), "person").await;
    ship.set("100", &[("name", "Ada Quay"), ("dept", "deck")]);
    ship.run();
    let add = [
        "systems",
        "add",
        "blind",
        "--kind",
        "ldap",
        "--address",
        &slapd.url,
        "--base-dn",
        BASE,
        "--bind-dn",
        ACCOUNT.0,
        "--dry-run",
    ];
    let check = client(&ship.service.url, &ship.service.token, &add, ACCOUNT.1);
    holds(
        &text(&check),
        &[
            "FAIL  First entries",
            "do not show their entryUUID",
            "give the service account permission to read entryUUID",
        ],
    );
}
