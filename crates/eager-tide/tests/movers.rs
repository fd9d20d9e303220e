//! People who change their department, name and manager, on a real slapd: what groups, references
//! and states are afterwards.
#![allow(clippy::disallowed_methods, reason = "tests run in real time")]
#![allow(clippy::unwrap_used)]

mod common;
#[path = "common/ship.rs"]
mod ship;

use common::{holds, said};
use ship::{Ship, reach};
use tide_ldap::ldif::LdifEntry;
use tide_standins::slapd::{Setup, Slapd};
use tide_standins::world::BASE;

const DEPARTMENTS: [&str; 3] = ["deck", "galley", "bridge"];

fn rules() -> String {
    ship::hall(
        "manager        = 'identity.manager'\n[[person.membership]]\ngroups = '[identity.dept + \"-crew\", \"aboard\"]'\n",
    )
}

fn entries() -> Vec<LdifEntry> {
    ship::tree(
        &["deck", "galley", "bridge", "groups"],
        &["deck-crew", "galley-crew", "bridge-crew", "aboard"],
    )
}

/// Whoever changes department, name or both, by ones and all at once, and somebody new who takes a
/// name that just became free.
async fn move_about(setup: &Setup) {
    let slapd = Slapd::with_setup(&entries(), setup).unwrap();
    let mut ship = Ship::start(&reach(&slapd), &rules(), "person,group").await;
    let names = [
        "Ada Quay", "Bo Lind", "Cy Mast", "Dee Keel", "Eli Rope", "Flo Sail",
    ];
    for (at, name) in names.iter().enumerate() {
        let (number, department) = ((100 + at).to_string(), DEPARTMENTS[at % 3]);
        ship.set(
            &number,
            &[
                ("name", name),
                ("dept", department),
                ("manager", if at == 0 { "" } else { "100" }),
            ],
        );
    }
    ship.run();
    ship.memberships_are_right(&DEPARTMENTS, "the first run")
        .await;
    // Its settings are changed by the client too; what cannot be used is refused, and nothing is
    // lost.
    holds(
        &said(
            &ship.service,
            &[
                "systems",
                "configure",
                "hall",
                "page_size=3",
                "max_shrink_percent=30",
            ],
            0,
        ),
        &["page_size", "30"],
    );
    holds(
        &said(
            &ship.service,
            &["systems", "configure", "hall", "page_size=many"],
            1,
        ),
        &["invalid settings"],
    );
    holds(
        &said(&ship.service, &["systems", "configure", "hall"], 0),
        &["page_size", "base_dn", "dc=skerry,dc=example"],
    );
    // Another department: out of one group, moved, into another one.
    for at in 0..6 {
        let number = (100 + at).to_string();
        ship.set(&number, &[("dept", DEPARTMENTS[(at + 1) % 3])]);
    }
    ship.run();
    ship.memberships_are_right(&DEPARTMENTS, "everybody moved")
        .await;
    ship.set("100", &[("name", "Ada Holm"), ("dept", "deck")]);
    ship.set("101", &[("name", "Bo Holm")]);
    ship.run();
    ship.memberships_are_right(&DEPARTMENTS, "two were renamed")
        .await;
    // Their former names are free, and give nobody anything.
    ship.set(
        "200",
        &[("name", "Ada Quay"), ("dept", "bridge"), ("manager", "101")],
    );
    ship.set(
        "201",
        &[("name", "Bo Lind"), ("dept", "galley"), ("manager", "101")],
    );
    ship.run();
    ship.memberships_are_right(&DEPARTMENTS, "two newcomers have former names")
        .await;
    ship.rest();
    ship.memberships_are_right(&DEPARTMENTS, "all came to rest")
        .await;
    for number in ["102", "105"] {
        let manager = ship
            .values(&format!("(employeeNumber={number})"), "manager")
            .await;
        assert_eq!(
            manager,
            ["cn=Ada Holm,ou=deck,dc=skerry,dc=example"],
            "references follow too"
        );
    }
    let groups = said(&ship.service, &["run"], 0);
    assert!(
        groups.contains("everything is in sync") || groups.contains("0 done"),
        "{groups}"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn renames_leave_no_former_member_with_referential_integrity() {
    move_about(&Setup::default()).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn renames_leave_no_former_member_without_referential_integrity() {
    move_about(&Setup {
        without_integrity: true,
        ..Setup::default()
    })
    .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_lock_after_wrong_passwords_is_neither_lifted_nor_taken_for_a_disabled_account() {
    let policy = format!("cn=policy,{BASE}");
    let setup = Setup {
        policy: format!("ppolicy_default \"{policy}\""),
        ..Setup::default()
    };
    let mut all = entries();
    let rule = LdifEntry::new(&policy)
        .with("objectClass", &["applicationProcess", "pwdPolicy"])
        .with("cn", &["policy"]);
    let rule = rule
        .with("pwdAttribute", &["userPassword"])
        .with("pwdLockout", &["TRUE"])
        .with("pwdMaxFailure", &["3"]);
    all.push(rule.with("pwdLockoutDuration", &["0"]));
    let slapd = Slapd::with_setup(&all, &setup).unwrap();
    let hall = rules().replace(
        "manager        = 'identity.manager'",
        "enabled = 'identity.active'",
    );
    let mut ship = Ship::start(&reach(&slapd), &hall, "person,group").await;
    ship.set("100", &[("name", "Ada Quay"), ("dept", "deck")]);
    ship.set("101", &[("name", "Bo Lind"), ("dept", "deck")]);
    ship.run();
    let who = "(employeeNumber=100)";
    let dn = ship.entry(who).await.unwrap().dn;
    ship.put(&dn, "userPassword", &["Capstan-Buoy-44"]).await;
    for _ in 0..4 {
        let (conn, mut ldap) = ldap3::LdapConnAsync::new(&slapd.url).await.unwrap();
        ldap3::drive!(conn);
        assert_eq!(ldap.simple_bind(&dn, "wrong").await.unwrap().rc, 49);
    }
    let lock = ship.values(who, "pwdAccountLockedTime").await;
    assert!(lock.len() == 1 && lock[0] != "000001010000Z", "{lock:?}");
    let run = ship.run();
    assert!(!run.contains("enable"), "{run}");
    assert_eq!(
        ship.values(who, "pwdAccountLockedTime").await,
        lock,
        "guessing stays limited"
    );
    // Whoever leaves meanwhile is locked for good.
    ship.set("100", &[("active", "no")]);
    ship.run();
    assert_eq!(
        ship.values(who, "pwdAccountLockedTime").await,
        ["000001010000Z"]
    );
    ship.set("100", &[("active", "yes")]);
    ship.run();
    assert!(
        ship.values(who, "pwdAccountLockedTime").await.is_empty(),
        "back again, with our own lock taken away"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn lists_that_others_write_too_are_changed_by_differences_and_options_are_kept() {
    let slapd = Slapd::start(&entries()).unwrap();
    let more = "description    = { value = '[identity.dept, \"crew\"]', list_mode = \"merge\" }\n\"title;lang-no\" = 'identity.dept'\n[[person.membership]]";
    let mut ship = Ship::start(
        &reach(&slapd),
        &rules().replace("[[person.membership]]", more),
        "person,group",
    )
    .await;
    ship.set("100", &[("name", "Ada Quay"), ("dept", "deck")]);
    ship.run();
    let who = "(employeeNumber=100)";
    assert_eq!(ship.values(who, "title;lang-no").await, ["deck"]);
    // Somebody adds a value, and we have not read it yet when ours changes.
    let dn = ship.entry(who).await.unwrap().dn;
    ship.put(&dn, "description", &["deck", "crew", "first aid"])
        .await;
    let hall = rules().replace(
        "[[person.membership]]",
        &more.replace("\"crew\"", "\"hands\""),
    );
    ship.rules("hall.toml", &hall);
    ship.publish();
    said(&ship.service, &["run", "--without-reading"], 0);
    let mut values = ship.values(who, "description").await;
    values.sort();
    assert_eq!(values, ["deck", "first aid", "hands"]);
    // With the option the value is read, compared and cleared like any other.
    assert!(ship.run().contains("0 done"), "everything is in sync");
    ship.rules(
        "hall.toml",
        &hall.replace(
            "\"title;lang-no\" = 'identity.dept'",
            "\"title;lang-no\" = 'identity.manager'",
        ),
    );
    ship.publish();
    ship.run();
    assert!(ship.values(who, "title;lang-no").await.is_empty());
}

/// A directory in which accounts can be disabled.
fn with_policy() -> Slapd {
    let setup = Setup {
        policy: format!("ppolicy_default \"cn=policy,{BASE}\""),
        ..Setup::default()
    };
    let mut all = entries();
    let policy = LdifEntry::new(format!("cn=policy,{BASE}"))
        .with("objectClass", &["applicationProcess", "pwdPolicy"])
        .with("cn", &["policy"]);
    all.push(policy.with("pwdAttribute", &["userPassword"]));
    Slapd::with_setup(&all, &setup).unwrap()
}

fn with_state() -> String {
    rules().replace(
        "manager        = 'identity.manager'",
        "enabled = 'identity.active'",
    )
}

#[tokio::test(flavor = "multi_thread")]
async fn people_missing_from_a_file_leave_after_a_day_unless_configured_otherwise() {
    let slapd = with_policy();
    let mut ship = Ship::start(&reach(&slapd), &with_state(), "person,group").await;
    (2..10).for_each(|at| {
        ship.set(
            &at.to_string(),
            &[("name", &format!("Crew {at}")), ("dept", "deck")],
        )
    });
    ship.set("2", &[("name", "Bo Fisher")]);
    ship.rest();
    let disabled = async |ship: &mut Ship| {
        !ship
            .values("(employeeNumber=2)", "pwdAccountLockedTime")
            .await
            .is_empty()
    };
    ship.remove("2");
    holds(&ship.run(), &["0 done"]);
    assert!(!disabled(&mut ship).await);
    // It is said what will happen, when, and why not now.
    let why = said(&ship.service, &["why", "Bo Fisher"], 0);
    holds(
        &why,
        &[
            "crew has not listed 2 since",
            "has not reported a deletion",
            "if no source lists it again, Bo Fisher leaves on",
        ],
    );
    holds(
        &said(&ship.service, &["systems", "accounts", "crew"], 0),
        &[", not confirmed"],
    );
    let later = jiff::Timestamp::now() + jiff::SignedDuration::from_hours(25);
    let preview = [
        "preview",
        "--as-of",
        &later.strftime("%Y-%m-%dT%H:%M:%SZ").to_string(),
    ]
    .map(str::to_owned);
    holds(
        &said(&ship.service, &preview.each_ref().map(String::as_str), 0),
        &["disable"],
    );
    // The next file lists it again: nothing was done to anybody.
    ship.set("2", &[("name", "Bo Fisher"), ("dept", "deck")]);
    holds(&ship.run(), &["0 done"]);
    assert!(!said(&ship.service, &["why", "Bo Fisher"], 0).contains("has not listed"));
    ship.remove("2");
    ship.run();
    ship.rules("lifecycle.toml", "[person]\nabsence_grace_days = 0\n");
    ship.publish();
    ship.run();
    assert!(disabled(&mut ship).await);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_landslide_is_held_where_no_guard_was_written() {
    let slapd = with_policy();
    let mut ship = Ship::start(&reach(&slapd), &with_state(), "person,group").await;
    for at in 0..40 {
        ship.set(
            &format!("{}", 100 + at),
            &[("name", &format!("Crew {at}")), ("dept", "deck")],
        );
    }
    ship.run();
    for at in 0..4 {
        ship.set(&format!("{}", 100 + at), &[("active", "no")]);
    }
    ship.run();
    for at in 4..12 {
        ship.set(&format!("{}", 100 + at), &[("active", "no")]);
    }
    let held = said(&ship.service, &["run"], 3);
    holds(
        &held,
        &[
            "8 on hold",
            "after 4 in the last 24 hours; the limit is 10 % of 41 (built-in guard",
        ],
    );
    let locked = async |ship: &mut Ship| {
        let mut count = 0;
        for at in 0..40 {
            count += usize::from(
                !ship
                    .values(
                        &format!("(employeeNumber={})", 100 + at),
                        "pwdAccountLockedTime",
                    )
                    .await
                    .is_empty(),
            );
        }
        count
    };
    assert_eq!(
        locked(&mut ship).await,
        4,
        "a few are disabled, and many are held, with those of the last 24 hours counted"
    );
}
