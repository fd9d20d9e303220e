//! Against a real domain controller (Samba's): the connector, and a service that is led to it. It
//! needs root and ports of its own, so this test has a main of its own: where it cannot run it says
//! so, and is not counted as passed.
#![allow(clippy::disallowed_methods, reason = "tests run in real time")]

mod common;
#[path = "common/ship.rs"]
mod ship;

use common::{Service, client, said, text};
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use tide_api::Operation;
use tide_connect::{
    ChangeEvent, CheckReport, ConnectionState, Connector, LdapConnector, LdapSettings, Secret,
    SnapshotItem, Write,
};
use tide_core::compare::ValueChange;
use tide_core::model::Observed;
use tide_core::states::{ChangeKind, StepState, WatchMode};
use tide_core::{ObjectType, Place, Value};
use tide_standins::samba::{self, DomainController};

const PROMISES: [&str; 15] = [
    "it_is_checked_by_each_form_of_a_name_and_describes_itself",
    "each_refusal_has_its_own_reason",
    "people_are_read_with_readable_keys_flags_and_times",
    "values_states_and_names_are_written",
    "members_are_written_as_differences",
    "the_tree_is_shown_with_counts",
    "one_membership_is_written_at_a_time",
    "passwords_are_set_and_the_policy_is_quoted",
    "changes_deletions_and_moves_are_followed_by_change_number",
    "a_renamed_container_takes_its_people_along",
    "deletions_are_not_promised_to_an_account_that_cannot_see_them",
    "movers_keep_the_right_groups",
    "other_flags_names_and_end_dates_are_kept",
    "passwords_and_departures_work_with_the_listed_permissions",
    "a_service_is_connected_and_first_passwords_work",
];

fn main() {
    if std::env::args().any(|argument| argument == "--list") {
        for promise in PROMISES {
            println!("{promise}: test");
        }
        return;
    }
    let count = PROMISES.len();
    if let Some(why) = samba::missing() {
        println!("\nrunning 0 tests");
        for promise in PROMISES {
            println!("test {promise} ... ignored, not run: {why}");
        }
        return;
    }
    println!("\nrunning {count} tests");
    let runtime = tokio::runtime::Builder::new_multi_thread()
        .enable_all()
        .build()
        .expect("a runtime");
    runtime.block_on(run_all());
    println!("\ntest result: ok. {count} passed\n");
}

/// The promises one after the other, with one domain controller. The first that is broken ends the
/// process.
async fn run_all() {
    let mut kept = PROMISES.into_iter();
    let mut keep = || println!("test {} ... ok", kept.next().unwrap_or_default());
    let domain = Domain::start();
    domain.check().await;
    keep();
    domain.check_refusals().await;
    keep();
    domain.check_reading().await;
    keep();
    domain.check_writing().await;
    keep();
    domain.check_members().await;
    keep();
    domain.check_tree().await;
    keep();
    domain.check_memberships().await;
    keep();
    domain.check_passwords().await;
    keep();
    domain.check_changes().await;
    keep();
    domain.check_renamed_container().await;
    keep();
    domain.check_deletions_as_ordinary_account().await;
    keep();
    let mut movers = Movers::start(&domain.controller).await;
    movers.check_memberships().await;
    keep();
    movers.check_flags_and_dates().await;
    keep();
    movers.check_passwords_and_departures().await;
    keep();
    domain.check_service().await;
    keep();
}

fn connector(settings: &LdapSettings, password: &str) -> Arc<LdapConnector> {
    let access = Arc::new(ConnectionState::new(&[
        ObjectType::Person,
        ObjectType::Group,
    ]));
    Arc::new(
        LdapConnector::new(settings.clone(), Some(Secret::new(password)), access).expect("sound"),
    )
}

async fn all(connector: &Arc<LdapConnector>, object: ObjectType) -> Vec<Observed> {
    let mut showing = connector.clone().read_all(object);
    let mut seen = Vec::new();
    loop {
        match showing.recv().await.expect("more").expect("good") {
            SnapshotItem::Batch(batch) => seen.extend(batch),
            SnapshotItem::Complete(count) => {
                assert_eq!(count, seen.len());
                return seen;
            }
            other => panic!("{other:?}"),
        }
    }
}

fn failed(report: &CheckReport) -> (String, String) {
    let step = report
        .steps
        .iter()
        .find(|s| s.state == StepState::Failed)
        .unwrap_or_else(|| panic!("nothing failed: {report:#?}"));
    (
        step.code.clone().unwrap_or_default(),
        format!(
            "{} / {}",
            step.message,
            step.remedy.clone().unwrap_or_default()
        ),
    )
}

fn change(attribute: &str, before: Vec<Value>, after: Vec<Value>) -> ValueChange {
    ValueChange {
        attribute: attribute.into(),
        before,
        after,
        rule: Place::default(),
        later: Vec::new(),
    }
}

fn write_of(
    object: ObjectType,
    account: &Observed,
    kind: ChangeKind,
    values: Vec<ValueChange>,
) -> Write {
    Write {
        member: None,
        merged: Vec::new(),
        object,
        kind,
        account: Some((account.key.clone(), account.name.clone())),
        values,
    }
}

fn is_named(observed: &Observed, account: &str) -> bool {
    observed.attributes.get("sAMAccountName") == [Value::text(account)]
}

/// The controller with three people, a group and a deleted person.
struct Domain {
    controller: DomainController,
    people: String,
    sound: LdapSettings,
    reader: Arc<LdapConnector>,
}

impl Domain {
    fn start() -> Domain {
        let controller = DomainController::start().expect("the controller starts");
        let people = format!("OU=People,{}", controller.base);
        controller
            .tool(&["ou", "add", "OU=People"])
            .expect("a container");
        for (name, given, family) in [
            ("mate.one", "Ada", "Lind"),
            ("mate.two", "Bram", "Holm"),
            ("mate.three", "Chidi", "Okafor"),
        ] {
            let (given, family) = (
                format!("--given-name={given}"),
                format!("--surname={family}"),
            );
            controller
                .tool(&[
                    "user",
                    "create",
                    name,
                    "Quay-side-9",
                    "--userou=OU=People",
                    &given,
                    &family,
                ])
                .expect("a user");
        }
        controller
            .tool(&["group", "add", "deck-watch"])
            .expect("a group");
        controller
            .tool(&["group", "addmembers", "deck-watch", "mate.one,mate.two"])
            .expect("members");
        controller
            .tool(&["user", "disable", "mate.three"])
            .expect("disabled");
        // Deleted before we came.
        controller
            .tool(&[
                "user",
                "create",
                "mate.gone",
                "Quay-side-9",
                "--userou=OU=People",
            ])
            .expect("a user");
        controller
            .tool(&["user", "delete", "mate.gone"])
            .expect("deleted");

        let sound = LdapSettings {
            bind_dn: Some(controller.admin.clone()),
            ca_pem: Some(controller.certificates.ca_pem.clone()),
            timeout_seconds: 10,
            ..LdapSettings::new(&controller.tls_url, &controller.base)
        };
        let reader = connector(&sound, &controller.password);
        Domain {
            controller,
            people,
            sound,
            reader,
        }
    }

    async fn person(&self, account: &str) -> Observed {
        let people = all(&self.reader, ObjectType::Person).await;
        let mut people = people.into_iter();
        people.find(|one| is_named(one, account)).expect("there")
    }

    async fn watch(&self) -> Observed {
        let groups = all(&self.reader, ObjectType::Group).await;
        let mut groups = groups.into_iter();
        groups
            .find(|group| group.name.starts_with("CN=deck-watch"))
            .expect("there")
    }

    /// The settings with another account.
    fn bound_as(&self, account: &str) -> LdapSettings {
        LdapSettings {
            bind_dn: Some(format!("{account}@skerry.example")),
            ..self.sound.clone()
        }
    }

    /// Over LDAPS and StartTLS.
    async fn check(&self) {
        let (sound, controller) = (&self.sound, &self.controller);
        let start_tls = LdapSettings {
            url: controller.url.clone(),
            start_tls: true,
            ..sound.clone()
        };
        let by_dn = LdapSettings {
            bind_dn: Some(format!("CN=Administrator,CN=Users,{}", controller.base)),
            ..sound.clone()
        };
        let by_domain = LdapSettings {
            bind_dn: Some("SKERRY\\Administrator".into()),
            ..sound.clone()
        };
        for settings in [sound, &start_tls, &by_dn, &by_domain] {
            let report = connector(settings, &controller.password).run_check().await;
            assert!(report.is_healthy(), "{report:#?}");
            assert!(
                report
                    .steps
                    .iter()
                    .any(|s| s.name == "Referrals" && s.message.contains("not followed")),
                "{report:#?}"
            );
        }
        let described = self.reader.describe().await.expect("described");
        let profile = |label: &str| {
            described
                .profile
                .iter()
                .find(|(l, _)| l == label)
                .map(|(_, t)| t.clone())
                .unwrap_or_default()
        };
        assert!(
            profile("Product").contains("domain controller"),
            "{:?}",
            described.profile
        );
        assert_eq!(profile("Functional level"), "2008 R2");
        assert!(
            profile("Offers").contains("change feed"),
            "{:?}",
            described.profile
        );
        let schema = &described.schema[&ObjectType::Person];
        assert!(
            schema.get("member").is_some_and(|def| def.multi_valued)
                && schema
                    .get("sAMAccountName")
                    .is_some_and(|def| !def.multi_valued)
        );
        assert!(
            described
                .own
                .contains(&"administrator@skerry.example".to_owned()),
            "{:?}",
            described.own
        );
    }

    async fn check_refusals(&self) {
        let (sound, controller) = (&self.sound, &self.controller);
        let (code, text) = failed(&connector(sound, "wrong").run_check().await);
        assert_eq!(code, "bind_refused");
        assert!(
            text.contains("name@domain") && text.contains("SKERRY\\eager-tide"),
            "the forms of a name are shown: {text}"
        );
        let disabled = self.bound_as("mate.three");
        assert_eq!(
            failed(&connector(&disabled, "Quay-side-9").run_check().await).0,
            "account_disabled"
        );
        let plain = LdapSettings {
            url: controller.url.clone(),
            ..sound.clone()
        };
        assert_eq!(
            failed(&connector(&plain, &controller.password).run_check().await).0,
            "tls_needed"
        );
        controller
            .tool(&["user", "setexpiry", "mate.two", "--days=-2"])
            .expect("expired");
        let expired = self.bound_as("mate.two");
        assert_eq!(
            failed(&connector(&expired, "Quay-side-9").run_check().await).0,
            "account_expired"
        );
        let nobody = LdapSettings {
            bind_dn: None,
            ..sound.clone()
        };
        assert_eq!(
            failed(&connector(&nobody, "").run_check().await).0,
            "anonymous_refused"
        );
    }

    async fn check_reading(&self) {
        let small = connector(
            &LdapSettings {
                page_size: 2,
                ..self.sound.clone()
            },
            &self.controller.password,
        );
        let seen = all(&small, ObjectType::Person).await;
        let person = |account: &str| {
            let mut people = seen.iter();
            people.find(|one| is_named(one, account)).expect("there")
        };
        let one = person("mate.one");
        assert_eq!(one.key.len(), 36, "objectGUID as text: {}", one.key);
        assert_eq!(one.attributes.get("objectGUID"), [Value::text(&one.key)]);
        let sid = one.attributes.get("objectSid")[0].to_string();
        assert!(sid.starts_with("S-1-5-21-"), "{sid}");
        assert!(
            person("Administrator").attributes.get("objectSid")[0]
                .to_string()
                .ends_with("-500")
        );
        assert!(
            matches!(one.attributes.get("pwdLastSet"), [Value::Time(_)]),
            "{:?}",
            one.attributes.get("pwdLastSet")
        );
        assert!(
            one.attributes.get("accountExpires").is_empty(),
            "never is no instant"
        );
        assert!(matches!(
            person("mate.two").attributes.get("accountExpires"),
            [Value::Time(_)]
        ));
        assert!(matches!(
            one.attributes.get("whenCreated"),
            [Value::Time(_)]
        ));
        assert_eq!(one.attributes.get("enabled"), [Value::Bool(true)]);
        let third = person("mate.three");
        assert_eq!(third.attributes.get("enabled"), [Value::Bool(false)]);
        assert!(
            third
                .attributes
                .get("accountFlags")
                .contains(&Value::text("disabled")),
            "{:?}",
            third.attributes.get("accountFlags")
        );
        assert!(
            !seen.iter().any(|one| is_named(one, "DC1$")),
            "computers are no persons"
        );
    }

    /// Values, an instant, a state beside other flags, and a rename that keeps the key.
    async fn check_writing(&self) {
        let reader = &self.reader;
        let one = &self.person("mate.one").await;
        let at = Value::Time("2027-03-01T00:00:00Z".parse().expect("valid"));
        let values = vec![
            change("title", vec![], vec![Value::text("Mate")]),
            change("accountExpires", vec![], vec![at.clone()]),
        ];
        let now = reader
            .write(&write_of(
                ObjectType::Person,
                one,
                ChangeKind::Update,
                values,
            ))
            .await
            .expect("written");
        assert_eq!(
            (
                now.attributes.get("title"),
                now.attributes.get("accountExpires")
            ),
            (&[Value::text("Mate")][..], &[at][..])
        );
        let now = reader
            .write(&write_of(
                ObjectType::Person,
                one,
                ChangeKind::Disable,
                vec![],
            ))
            .await
            .expect("disabled");
        assert_eq!(now.attributes.get("enabled"), [Value::Bool(false)]);
        assert!(
            now.attributes
                .get("accountFlags")
                .contains(&Value::text("normal account"))
        );
        let moved = change(
            "dn",
            vec![],
            vec![Value::text(format!("CN=Ada Holm,{}", self.people))],
        );
        let now = reader
            .write(&write_of(
                ObjectType::Person,
                one,
                ChangeKind::Rename,
                vec![moved],
            ))
            .await
            .expect("renamed");
        assert_eq!(now.key, one.key);
        assert!(now.name.starts_with("CN=Ada Holm,"), "{}", now.name);
    }

    async fn check_members(&self) {
        let watch = self.watch().await;
        let members = watch.attributes.get("member").to_vec();
        assert_eq!(members.len(), 2);
        assert!(matches!(members[0], Value::Reference(_)));
        let mut wanted = members.clone();
        wanted.push(Value::Reference(self.person("mate.three").await.name));
        let now = self
            .reader
            .write(&write_of(
                ObjectType::Group,
                &watch,
                ChangeKind::Update,
                vec![change("member", members, wanted)],
            ))
            .await
            .expect("a member more");
        assert_eq!(now.attributes.get("member").len(), 3);
    }

    async fn check_tree(&self) {
        let reader = &self.reader;
        let top = reader.browse(None).await.expect("the top");
        assert_eq!(top.len(), 1);
        let below = reader
            .browse(Some(&self.controller.base))
            .await
            .expect("below");
        let branch = below
            .iter()
            .find(|b| b.dn.eq_ignore_ascii_case(&self.people))
            .expect("the container");
        assert_eq!(branch.people, Some(3));
        assert_eq!(
            reader
                .browse(Some("DC=elsewhere"))
                .await
                .expect_err("refused")
                .code,
            "outside"
        );
    }

    /// What is so already is no fault.
    async fn check_memberships(&self) {
        let watch = self.watch().await;
        let reader = &self.reader;
        let member = Value::Reference(self.person("mate.three").await.name);
        let (give, take) = (
            change("member", vec![], vec![member.clone()]),
            change("member", vec![member.clone()], vec![]),
        );
        for _ in 0..2 {
            let now = reader
                .write(&write_of(
                    ObjectType::Group,
                    &watch,
                    ChangeKind::Grant,
                    vec![give.clone()],
                ))
                .await
                .expect("granted");
            assert!(
                now.attributes.get("member").contains(&member)
                    && now.attributes.get("member").len() == 3,
                "{now:?}"
            );
        }
        for _ in 0..2 {
            let now = reader
                .write(&write_of(
                    ObjectType::Group,
                    &watch,
                    ChangeKind::Revoke,
                    vec![take.clone()],
                ))
                .await
                .expect("revoked");
            assert!(
                !now.attributes.get("member").contains(&member)
                    && now.attributes.get("member").len() == 2,
                "{now:?}"
            );
        }
    }

    async fn set_password(
        &self,
        values: Vec<ValueChange>,
    ) -> Result<Observed, tide_connect::ConnectError> {
        let account = self.person("mate.three").await;
        let write = write_of(ObjectType::Person, &account, ChangeKind::Password, values);
        self.reader.write(&write).await
    }

    /// Also one that is to be changed at the next sign-in.
    async fn check_passwords(&self) {
        let controller = &self.controller;
        let third = self.bound_as("mate.three");
        let lets_in = async |password: &str| connector(&third, password).run_check().await;
        controller
            .tool(&["user", "enable", "mate.three"])
            .expect("enabled");
        let set = |password: &str| change("unicodePwd", vec![], vec![Value::text(password)]);
        self.set_password(vec![set("Capstan-Lantern-12")])
            .await
            .expect("set");
        assert!(lets_in("Capstan-Lantern-12").await.is_healthy());
        let must = change(
            tide_core::decide::MUST_CHANGE,
            vec![],
            vec![Value::Bool(true)],
        );
        let both = vec![set("Capstan-Lantern-13"), must];
        self.set_password(both).await.expect("set");
        let (code, said) = failed(&lets_in("Capstan-Lantern-13").await);
        assert!(
            code.contains("password") || said.contains("password"),
            "{code}: {said}"
        );
        let weak = self.set_password(vec![set("abc")]).await;
        let weak = weak.expect_err("too weak");
        assert!(
            !weak.to_string().contains("abc") && weak.to_string().len() > 20,
            "{weak}"
        );
        self.set_password(vec![set("Quay-side-9")])
            .await
            .expect("as before");
    }

    /// An account that is disabled until it is needed.
    async fn create_disabled(&self) -> Observed {
        let create = Write {
            member: None,
            merged: Vec::new(),
            object: ObjectType::Person,
            kind: ChangeKind::Create,
            account: None,
            values: vec![
                change(
                    "dn",
                    vec![],
                    vec![Value::text(format!("CN=Mette Sund,{}", self.people))],
                ),
                change("objectClass", vec![], vec![Value::text("user")]),
                change("sAMAccountName", vec![], vec![Value::text("mette.sund")]),
                change("enabled", vec![], vec![Value::Bool(false)]),
            ],
        };
        let made = self.reader.write(&create).await.expect("made");
        assert_eq!(made.attributes.get("enabled"), [Value::Bool(false)]);
        made
    }

    /// A connector that reads the people's container only.
    fn inside(&self) -> Arc<LdapConnector> {
        let settings = LdapSettings {
            base_dn: self.people.clone(),
            ..self.sound.clone()
        };
        connector(&settings, &self.controller.password)
    }

    /// People who leave what is read are gone for us.
    async fn check_changes(&self) {
        let controller = &self.controller;
        let made = self.create_disabled().await;
        let third = self.person("mate.three").await;
        let modes = self.reader.watch_modes().await.expect("listed");
        assert_eq!(modes.first(), Some(&WatchMode::ChangeNumber));
        let inside = self.inside();
        let from = cursor(&inside).await;
        let (nothing, mark) = news(&inside, &from).await;
        assert_eq!(
            (nothing.len(), mark.as_deref()),
            (0, Some(from.as_str())),
            "nothing happened since"
        );
        controller
            .tool(&["user", "rename", "mate.two", "--surname=Quay"])
            .expect("changed");
        controller
            .tool(&["user", "delete", "mette.sund"])
            .expect("deleted");
        controller
            .tool(&["user", "move", "mate.three", "CN=Users"])
            .expect("moved");
        let (told, mark) = news(&inside, &from).await;
        let (changed, gone) = (changed_names(&told), gone_keys(&told));
        assert!(
            changed.len() == 1 && changed[0].contains("Quay"),
            "{told:?}"
        );
        assert!(
            gone.contains(&made.key) && gone.contains(&third.key),
            "{told:?}"
        );
        assert_ne!(mark.as_deref(), Some(from.as_str()));
        let (lost, _) = news(&inside, "99999999@elsewhere").await;
        assert!(
            matches!(lost.as_slice(), [ChangeEvent::ResyncRequired(why)] if why.contains("restored from a backup")),
            "{lost:?}"
        );
        controller
            .tool(&["user", "move", "mate.three", "OU=People"])
            .expect("moved back");
    }

    /// Their own change numbers stay. A container that leaves what is read takes them away.
    async fn check_renamed_container(&self) {
        let (controller, people) = (&self.controller, &self.people);
        let inside = self.inside();
        let from = cursor(&self.reader).await;
        let crew = format!("OU=Crew,{}", controller.base);
        controller
            .tool(&["ou", "rename", people, &crew])
            .expect("renamed");
        let (told, _) = news(&self.reader, &from).await;
        let names = changed_names(&told);
        assert!(
            names.iter().filter(|name| name.ends_with(&crew)).count() >= 3,
            "{told:?}"
        );
        let (told, _) = news(&inside, &from).await;
        assert!(gone_keys(&told).len() >= 3, "no longer read: {told:?}");
        controller
            .tool(&["ou", "rename", &crew, people])
            .expect("renamed back");
    }

    /// An ordinary account sees no deleted object, and no sign of that: another watch mode is used,
    /// and the check warns.
    async fn check_deletions_as_ordinary_account(&self) {
        let ordinary = connector(&self.bound_as("mate.three"), "Quay-side-9");
        let ways = ordinary.watch_modes().await.expect("told");
        assert_eq!(ways.first(), Some(&WatchMode::Modified), "{ways:?}");
        let report = ordinary.run_check().await;
        let step = report
            .steps
            .iter()
            .find(|step| step.name == "Changes")
            .unwrap_or_else(|| panic!("{report:#?}"));
        assert!(
            step.state == StepState::Warned && step.message.contains("CN=Deleted Objects"),
            "{step:?}"
        );
    }

    /// The first password of a newcomer is valid.
    async fn check_service(&self) {
        let password = serve(&self.controller);
        let runa = self.bound_as("runa.vik");
        let report = connector(&runa, &password).run_check().await;
        assert!(report.is_healthy(), "{report:#?}");
        assert_eq!(
            failed(&connector(&runa, "Quay-side-9").run_check().await).0,
            "bind_refused"
        );
    }
}

async fn cursor(connector: &LdapConnector) -> String {
    connector
        .current_cursor(ObjectType::Person, WatchMode::ChangeNumber)
        .await
        .expect("answered")
        .expect("a number")
}

/// The names of the changed accounts.
fn changed_names(events: &[ChangeEvent]) -> Vec<String> {
    let mut names = Vec::new();
    for event in events {
        if let ChangeEvent::Changed(all) = event {
            names.extend(all.iter().map(|one| one.name.clone()));
        }
    }
    names
}

fn gone_keys(events: &[ChangeEvent]) -> Vec<String> {
    let mut gone = Vec::new();
    for event in events {
        if let ChangeEvent::Gone(keys) = event {
            gone.extend(keys.iter().cloned());
        }
    }
    gone
}

const DEPARTMENTS: [&str; 3] = ["deck", "galley", "bridge"];

/// Six people of three departments, whose accounts are written with a service account that has
/// exactly the listed permissions.
struct Movers {
    ship: ship::Ship,
}

/// The rules of the domain controller as the target.
fn hall_rules(base: &str) -> String {
    format!(
        r#"
system = "hall"
[[person.match]]
name = "number"
account = 'account.employeeNumber'
identity = 'identity.number'
[person.outbound]
dn             = '"CN=" + identity.name + ",OU=" + identity.dept + ",{}"'
objectClass    = {{ value = '["user"]', apply = "on_create" }}
sAMAccountName = '"c" + identity.number'
employeeNumber = 'identity.number'
displayName    = 'identity.name'
manager        = 'identity.manager'
accountExpires = 'dayEnd(identity.ends, "Europe/Oslo")'
enabled        = 'identity.active'
[person.password]
attribute = "unicodePwd"
sync = true
[[person.membership]]
groups = '[identity.dept + "-crew", "aboard"]'
[[person.departure]]
step = "disable"
[[person.departure]]
step = "randomize_password"
[[person.departure]]
step = "revoke"
[[person.departure]]
step = "delete"
when = 'identity.number == "105"'
"#,
        base
    )
}

impl Movers {
    async fn start(controller: &DomainController) -> Movers {
        for department in DEPARTMENTS {
            controller
                .tool(&["ou", "add", &format!("OU={department}")])
                .expect("a container");
            controller
                .tool(&["group", "add", &format!("{department}-crew")])
                .expect("a group");
        }
        controller
            .tool(&["group", "add", "aboard"])
            .expect("a group");
        let hall = hall_rules(&controller.base);
        let reach = ship::Reach {
            url: &controller.tls_url,
            ca_pem: &controller.certificates.ca_pem,
            bind_dn: &controller.admin,
            password: &controller.password,
            base: &controller.base,
        };
        let listed = {
            let ship = ship::Ship::start(&reach, &hall, "person,group").await;
            said(
                &ship.service,
                &["systems", "permissions", "hall", "--output", "json"],
                0,
            )
        };
        controller
            .tool(&["user", "create", "eager.tide", "Capstan-Buoy-44"])
            .expect("a user");
        let account = "eager.tide@skerry.example";
        ship::Ship::start(&reach, &hall, "person")
            .await
            .permit(controller, "eager.tide", &listed)
            .await;
        let mut ship =
            ship::Ship::start_as(&reach, (account, "Capstan-Buoy-44"), &hall, "person,group").await;
        for at in 0..6 {
            let (number, name) = ((100 + at).to_string(), format!("Sailor {at}"));
            ship.set(
                &number,
                &[
                    ("name", &name),
                    ("dept", DEPARTMENTS[at % 3]),
                    ("manager", if at == 0 { "" } else { "100" }),
                ],
            );
        }
        Movers { ship }
    }

    async fn check_memberships(&mut self) {
        let ship = &mut self.ship;
        ship.run();
        ship.memberships_are_right(&DEPARTMENTS, "the first run")
            .await;
        for at in 0..6 {
            ship.set(
                &(100 + at).to_string(),
                &[("dept", DEPARTMENTS[(at + 1) % 3])],
            );
        }
        ship.run();
        ship.memberships_are_right(&DEPARTMENTS, "everybody moved")
            .await;
    }

    async fn assert_flags(&mut self, expected: [&str; 2]) {
        for (number, flags) in ["103", "104"].into_iter().zip(expected) {
            let filter = format!("(employeeNumber={number})");
            let found = self.ship.values(&filter, "userAccountControl").await;
            assert_eq!(found, [flags]);
        }
    }

    /// Other flags survive a leave and the return; a manager and a name follow at once; an end date
    /// is set and removed.
    async fn check_flags_and_dates(&mut self) {
        let ship = &mut self.ship;
        for (number, flags) in [("103", "66048"), ("104", "1376768")] {
            let dn = ship
                .entry(&format!("(employeeNumber={number})"))
                .await
                .expect("there")
                .dn;
            ship.put(&dn, "userAccountControl", &[flags]).await;
            ship.set(number, &[("active", "no")]);
        }
        ship.run();
        self.assert_flags(["66050", "1376770"]).await;
        let ship = &mut self.ship;
        for number in ["103", "104"] {
            ship.set(number, &[("active", "yes")]);
        }
        ship.run();
        self.assert_flags(["66048", "1376768"]).await;
        let ship = &mut self.ship;
        ship.set(
            "102",
            &[
                ("manager", "101"),
                ("name", "Sailor Two"),
                ("ends", "2027-03-01"),
            ],
        );
        ship.run();
        let manager = ship.values("(employeeNumber=102)", "manager").await;
        assert!(manager[0].starts_with("CN=Sailor 1,"), "{manager:?}");
        assert!(
            ship.values("(employeeNumber=102)", "accountExpires").await[0].len() > 15,
            "a time"
        );
        ship.set("102", &[("ends", "")]);
        ship.run();
        let never = ship.values("(employeeNumber=102)", "accountExpires").await;
        assert!(
            ["0", "9223372036854775807"].contains(&never[0].as_str()),
            "{never:?}"
        );
        ship.memberships_are_right(&DEPARTMENTS, "all of it").await;
        let check = said(&ship.service, &["systems", "test", "hall"], 0);
        assert!(
            check.contains("changes and deletions") && !check.contains("FAIL"),
            "{check}"
        );
    }

    /// A password to be changed at the next sign-in; leavers are disabled or deleted, and out of all
    /// groups.
    async fn check_passwords_and_departures(&mut self) {
        let ship = &mut self.ship;
        let set = [
            "passwords",
            "set",
            &ship.identity("Sailor Two"),
            "--must-change",
        ];
        let set = client(
            &ship.service.url,
            &ship.service.token,
            &set,
            "Windlass-Ketch-71",
        );
        assert!(set.status.success(), "{}", text(&set));
        ship.run();
        assert_eq!(
            ship.values("(employeeNumber=102)", "pwdLastSet").await,
            ["0"]
        );
        for name in ["Sailor 4", "Sailor 5"] {
            said(
                &ship.service,
                &["identities", "depart", &ship.identity(name)],
                0,
            );
        }
        ship.rest();
        assert_eq!(
            ship.values("(employeeNumber=104)", "userAccountControl")
                .await,
            ["1376770"]
        );
        assert!(
            ship.values("(employeeNumber=104)", "memberOf")
                .await
                .is_empty(),
            "out of all groups"
        );
        assert!(
            ship.entry("(employeeNumber=105)").await.is_none(),
            "deleted"
        );
        // Nothing is left to do.
        let last = ship.run();
        assert!(
            last.contains("everything is in sync") || last.contains("0 done"),
            "{last}"
        );
    }
}

/// Gives an account permissions of a list, as access control entries in the language of security
/// descriptors.
trait Permit {
    async fn permit(self, controller: &DomainController, account: &str, permissions: &str);
}

impl Permit for ship::Ship {
    async fn permit(mut self, controller: &DomainController, account: &str, permissions: &str) {
        let permissions: Vec<tide_api::Permission> =
            serde_json::from_str(permissions).expect("a list");
        let sid = self.sid(&format!("(sAMAccountName={account})")).await;
        let mut entries: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
        for permission in permissions {
            let entry = |rights: &str, object: &str| {
                let kind = if object.is_empty() { "A" } else { "OA" };
                format!("({kind};CI;{rights};{object};;{sid})")
            };
            let mut all = BTreeSet::new();
            match permission.operation {
                Operation::Read if permission.entries[0].starts_with("CN=Deleted Objects") => {
                    controller.show_deleted_to(&sid).expect("permitted");
                    continue;
                }
                Operation::Read | Operation::Write => {
                    let right = if permission.operation == Operation::Read {
                        "RP"
                    } else {
                        "WP"
                    };
                    for name in &permission.attributes {
                        all.insert(entry(right, &self.schema_guid(name).await));
                    }
                }
                Operation::Create => {
                    all.insert(entry("CC", ""));
                }
                // A rename writes the name in both its attributes, and a move takes the entry out
                // of its container.
                Operation::Rename => {
                    for name in permission
                        .attributes
                        .iter()
                        .map(String::as_str)
                        .chain(["name"])
                    {
                        all.insert(entry("WP", &self.schema_guid(name).await));
                    }
                    all.insert(entry("CCDC", ""));
                }
                Operation::Delete => {
                    all.insert(entry("SDDC", ""));
                }
                Operation::SetPassword => {
                    all.insert(entry("CR", "00299570-246d-11d0-a768-00aa006e0529"));
                }
            }
            for place in permission.entries {
                entries
                    .entry(place)
                    .or_default()
                    .extend(all.iter().cloned());
            }
        }
        for (place, entries) in entries {
            let sddl = entries.into_iter().collect::<String>();
            controller
                .tool(&[
                    "dsacl",
                    "set",
                    &format!("--objectdn={place}"),
                    &format!("--sddl={sddl}"),
                ])
                .expect("permitted");
        }
    }
}

/// What is told since a place, and the place after it.
async fn news(connector: &Arc<LdapConnector>, from: &str) -> (Vec<ChangeEvent>, Option<String>) {
    let mut following = connector.clone().watch(
        ObjectType::Person,
        WatchMode::ChangeNumber,
        Some(from.to_owned()),
    );
    let (mut told, mut mark) = (Vec::new(), None);
    while let Some(news) = following.recv().await {
        match news.expect("told") {
            ChangeEvent::Checkpoint(place) => mark = Some(place),
            other => told.push(other),
        }
    }
    (told, mark)
}

/// The systems of a service with the controller as source and target.
struct Led<'a> {
    controller: &'a DomainController,
    folder: tempfile::TempDir,
    service: Service,
}

/// The controller is connected as a source, then as a target. Returns the first password of a
/// newcomer.
fn serve(controller: &DomainController) -> String {
    let folder = tempfile::tempdir().expect("a folder");
    let service = Service::start(&folder.path().join("data"));
    let ca = folder.path().join("ca.pem");
    std::fs::write(ca, &controller.certificates.ca_pem).expect("written");
    let led = Led {
        controller,
        folder,
        service,
    };
    led.connect_source();
    led.connect_target();
    let password = led.first_password();
    let shown = led.said(&["systems", "show", "harbour"], "");
    assert!(
        shown.contains("Functional level") && shown.contains("change feed"),
        "{shown}"
    );
    password
}

impl Led<'_> {
    fn said(&self, arguments: &[&str], secret: &str) -> String {
        let output = client(&self.service.url, &self.service.token, arguments, secret);
        let said = text(&output);
        assert_eq!(output.status.code(), Some(0), "{arguments:?}: {said}");
        said
    }

    /// Adds the controller as a system.
    fn add(&self, name: &str, role: &str, bind_dn: &str, password: &str) -> String {
        let ca = self.folder.path().join("ca.pem");
        let add = [
            "systems",
            "add",
            name,
            "--kind",
            "ldap",
            "--address",
            &self.controller.tls_url,
            "--ca",
            ca.to_str().expect("UTF-8"),
            "--as",
            role,
            "--bind-dn",
            bind_dn,
            "--base-dn",
            &self.controller.base,
        ];
        self.said(&add, password)
    }

    /// Built-in accounts, and the account that we bind with, are out of scope.
    fn connect_source(&self) {
        let controller = self.controller;
        let said = |arguments: &[&str]| self.said(arguments, "");
        controller
            .tool(&["user", "enable", "mate.three"])
            .expect("enabled");
        let added = self.add(
            "harbour",
            "source",
            "mate.three@skerry.example",
            "Quay-side-9",
        );
        assert!(
            added.contains("a domain controller") && added.contains("state in userAccountControl"),
            "{added}"
        );
        said(&["rules", "draft", "publish", "1"]);
        let read = said(&["systems", "read", "harbour"]);
        assert!(read.contains("accounts of type person"), "{read}");
        let out = said(&["scope", "harbour", "--status", "out"]);
        for reason in [
            "protected: built-in administrator account",
            "protected: built into the directory",
            "protected: our own service account",
        ] {
            assert!(out.contains(reason), "`{reason}` in: {out}");
        }
    }

    /// A feed of one newcomer, who gets an account with a first password.
    fn connect_target(&self) {
        let (controller, folder) = (self.controller, &self.folder);
        let said = |arguments: &[&str]| self.said(arguments, "");
        let feeds = folder.path().join("data").join("feeds").join("crew");
        std::fs::create_dir_all(&feeds).expect("made");
        std::fs::write(
            feeds.join("crew.csv"),
            "number;given;family\n7001;Runa;Vik\n",
        )
        .expect("written");
        let rules = folder.path().join("rules");
        std::fs::create_dir(&rules).expect("made");
        let write =
            |name: &str, text: &str| std::fs::write(rules.join(name), text).expect("written");
        write(
            "identities.toml",
            "[person]\nlabel = \"name\"\n[person.attributes]\nnumber = { required = true, unique = true }\nname = {}\nuid = {}\n",
        );
        write(
            "crew.toml",
            "system = \"crew\"\n[person.inbound]\nnumber = 'account.number'\nname = 'joinWords(account.given, account.family)'\nuid = 'lower(account.given + \".\" + account.family)'\n",
        );
        let controlled = format!(
            "system = \"hall\"\n[[person.match]]\nname = \"number\"\naccount = 'account.employeeNumber'\nidentity = 'identity.number'\n[person.password]\nattribute = \"unicodePwd\"\nlength = 18\n[person.outbound]\ndn = '\"CN=\" + identity.name + \",OU=People,{}\"'\nobjectClass = {{ value = '[\"user\"]', apply = \"on_create\" }}\nsAMAccountName = 'identity.uid'\nuserPrincipalName = 'identity.uid + \"@skerry.example\"'\nemployeeNumber = 'identity.number'\nenabled = 'true'\n",
            controller.base
        );
        write("hall.toml", &controlled);
        let crew = feeds.to_str().expect("UTF-8");
        said(&[
            "systems", "add", "crew", "--kind", "feed", "--path", crew, "--key", "number",
        ]);
        self.add("hall", "target", &controller.admin, &controller.password);
        said(&["rules", "publish", rules.to_str().expect("UTF-8")]);
        said(&["systems", "set", "hall", "--writable", "person"]);
        said(&["systems", "arm", "hall"]);
    }

    fn first_password(&self) -> String {
        let said = |arguments: &[&str]| self.said(arguments, "");
        let run = said(&["run"]);
        assert!(run.contains("1 done, 0 failed"), "{run}");
        let waiting = said(&["passwords", "list"]);
        let number = waiting
            .lines()
            .find(|line| line.contains("Runa Vik"))
            .and_then(|line| line.split_whitespace().next())
            .expect("waits");
        said(&["passwords", "show", number]).trim().to_owned()
    }
}
