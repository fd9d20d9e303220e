//! Mappings on a running service: references and large groups, names made up once, first passwords,
//! what was done behind our back; and drafts of the rules, with their effect on everybody.
#![allow(clippy::disallowed_methods, reason = "tests run in real time")]
#![allow(clippy::unwrap_used)]

mod common;

use common::{Service, connect, holds, said, text};
use ldap3::{LdapConnAsync, Mod};
use serde_json::{Value, json};
use std::path::Path;
use std::time::Duration;
use tide_standins::directory::Directory;
use tide_standins::eventually;
use tide_standins::scim_service::{Manner, ScimService};
use tide_standins::world::{self, BASE, Crew};

/// How long something in the background may take.
const PATIENCE: Duration = Duration::from_secs(30);

const PASSWORD: &str = "harbour-secret";

struct Line {
    _folder: tempfile::TempDir,
    people: Vec<Crew>,
    harbour: Directory,
    berthing: ScimService,
    service: Service,
    rules: std::path::PathBuf,
    data: std::path::PathBuf,
}

async fn line(people: usize, manner: Manner) -> Line {
    let folder = tempfile::tempdir().unwrap();
    let people = world::people(world::SEED, people);
    let harbour = Directory::start(&world::directory(&people, PASSWORD), PASSWORD)
        .await
        .unwrap();
    let berthing = ScimService::with_manner(world::berthing(&people), "berth-token", manner)
        .await
        .unwrap();
    let data = folder.path().join("data");
    let service = Service::start(&data);
    connect(&service, &harbour, &berthing, folder.path());
    said(
        &service,
        &["systems", "set", "berthing", "--writable", "person,group"],
        0,
    );
    said(&service, &["systems", "arm", "berthing"], 0);
    // With groups, and with whom people report to.
    let rules = folder.path().join("rules");
    for (name, text) in world::rules() {
        std::fs::write(rules.join(name), text).unwrap();
    }
    said(&service, &["rules", "publish", rules.to_str().unwrap()], 0);
    Line {
        _folder: folder,
        people,
        harbour,
        berthing,
        service,
        rules,
        data,
    }
}

impl Line {
    async fn ldap(&self) -> ldap3::Ldap {
        let (connection, mut ldap) = LdapConnAsync::new(&self.harbour.url).await.unwrap();
        ldap3::drive!(connection);
        ldap.simple_bind(&self.harbour.admin_dn, PASSWORD)
            .await
            .unwrap()
            .success()
            .unwrap();
        ldap
    }

    fn group(&self, name: &str) -> Value {
        self.berthing
            .groups()
            .into_iter()
            .find(|group| group["displayName"] == name)
            .unwrap_or_default()
    }

    fn edit(&self, file: &str, from: &str, to: &str) {
        edit(&self.rules, file, from, to);
    }
}
impl Line {
    fn publish(&self) {
        let publish = ["rules", "publish", self.rules.to_str().unwrap()];
        said(&self.service, &publish, 0);
    }

    /// The first person of a department.
    fn head(&self, department: &str) -> &Crew {
        let mut people = self.people.iter();
        people
            .find(|person| person.department == department)
            .unwrap()
    }

    /// People whom neither a lock nor a missing value concerns.
    fn plain_people(&self) -> impl Iterator<Item = &Crew> {
        let people = self.people.iter().enumerate();
        let plain = people.filter(|(n, p)| n % 10 > 4 && !p.locked && !p.mail.is_empty());
        plain.map(|(_, person)| person)
    }

    fn user(&self, person: &Crew) -> Value {
        self.berthing.user(person.mail.trim()).unwrap()
    }

    /// A request to the SCIM service, as others make it.
    async fn by_others(&self, method: reqwest::Method, path: &str, body: Option<Value>) {
        let url = format!("{}{path}", self.berthing.url);
        let mut request = common::http()
            .request(method, url)
            .bearer_auth("berth-token");
        if let Some(body) = body {
            request = request.json(&body);
        }
        request.send().await.unwrap().error_for_status().unwrap();
    }
}

fn manager(user: &Value) -> Value {
    user[tide_scim::ENTERPRISE]["manager"]["value"].clone()
}

fn edit(folder: &Path, file: &str, from: &str, to: &str) {
    let path = folder.join(file);
    let text = std::fs::read_to_string(&path).unwrap();
    assert!(text.contains(from), "{from} in {text}");
    std::fs::write(path, text.replacen(from, to, 1)).unwrap();
}

/// A group that grows by hundreds is changed in pieces; where the service takes bulk, in one
/// request.
async fn a_group_grows(manner: Manner, requests: &[&str]) {
    let line = line(420, manner).await;
    said(&line.service, &["run"], 0);
    let before = line.group("deck-watch")["members"]
        .as_array()
        .map_or(0, Vec::len);
    assert!((30..200).contains(&before), "{before}");
    let everybody: std::collections::HashSet<String> = line.people.iter().map(Crew::dn).collect();
    let dn = format!("cn=deck-watch,ou=groups,{BASE}");
    line.ldap()
        .await
        .modify(&dn, vec![Mod::Replace("member".to_owned(), everybody)])
        .await
        .unwrap()
        .success()
        .unwrap();
    line.berthing.take_writes();
    said(&line.service, &["run"], 0);
    let after = line.group("deck-watch")["members"]
        .as_array()
        .map_or(0, Vec::len);
    assert!(after > 380 && after - before > 201, "{before} then {after}");
    let writes: Vec<String> = line
        .berthing
        .take_writes()
        .iter()
        .map(|write| write.split("/b0").next().unwrap().to_owned())
        .collect();
    assert_eq!(writes, requests, "only what differs was sent");
    // One member goes: one request, and the second run sends nothing.
    let first = std::collections::HashSet::from([line.people[60].dn()]);
    line.ldap()
        .await
        .modify(&dn, vec![Mod::Delete("member".to_owned(), first)])
        .await
        .unwrap()
        .success()
        .unwrap();
    said(&line.service, &["run"], 0);
    assert_eq!(
        line.group("deck-watch")["members"]
            .as_array()
            .map_or(0, Vec::len),
        after - 1
    );
    assert_eq!(line.berthing.take_writes().len(), 1);
    said(&line.service, &["run"], 0);
    assert_eq!(line.berthing.take_writes(), Vec::<String>::new());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_large_group_is_patched_in_pieces() {
    a_group_grows(Manner::full(), &["PATCH /Groups", "PATCH /Groups"]).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_large_group_is_changed_in_bulk_where_that_is_offered() {
    a_group_grows(
        Manner {
            bulk: 20,
            ..Manner::full()
        },
        &["POST /Bulk"],
    )
    .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn references_and_generated_names_are_kept() {
    let line = line(120, Manner::full()).await;
    references_are_written_as_accounts_of_the_target(&line).await;
    a_generated_name_stays_when_the_name_changes(&line).await;
}

async fn references_are_written_as_accounts_of_the_target(line: &Line) {
    let preview = said(&line.service, &["preview", "--each", "0"], 0);
    holds(&preview, &["create"]);
    let told = line.service.json(&["why", "1009"]);
    assert!(
        told.to_string()
            .contains("generated; assigned at the next run"),
        "{told}"
    );
    said(&line.service, &["run"], 0);
    // A circle of managers is closed in the first run.
    let (office, deck) = (line.user(line.head("60")), line.user(line.head("10")));
    assert_eq!(
        manager(&office),
        deck["id"],
        "the first of the shore office reports to the first of the deck"
    );
    assert_eq!(manager(&deck), office["id"], "and the other way round");
    let plan = line.group("sailing-plan");
    assert!(
        plan["members"]
            .to_string()
            .contains(line.group("deck-watch")["id"].as_str().unwrap()),
        "a group in a group: {plan}"
    );
    holds(
        &said(&line.service, &["why", "sailing-plan"], 0),
        &["deck-watch", "in sync"],
    );
    holds(
        &said(&line.service, &["why", &line.head("60").number], 0),
        &["generated once, reserved for life", "in sync"],
    );
}

/// A marriage changes the name, and not the generated account name; a new manager is written.
async fn a_generated_name_stays_when_the_name_changes(line: &Line) {
    let married = line
        .people
        .iter()
        .enumerate()
        .find(|(n, p)| *n > 20 && n % 10 > 4 && !p.given.is_empty() && !p.locked)
        .unwrap()
        .1;
    let name = line.user(married)["nickName"].clone();
    assert!(
        name.as_str().is_some_and(|name| name.contains('.')),
        "{name}"
    );
    let set = |text: &str| std::collections::HashSet::from([text.to_owned()]);
    let changes = vec![
        Mod::Replace("sn".to_owned(), set("Wed")),
        Mod::Replace("manager".to_owned(), set(&line.people[3].dn())),
    ];
    line.ldap()
        .await
        .modify(&married.dn(), changes)
        .await
        .unwrap()
        .success()
        .unwrap();
    said(&line.service, &["run"], 0);
    let user = line.user(married);
    assert_eq!(
        (&user["name"]["familyName"], &user["nickName"]),
        (&json!("Wed"), &name)
    );
    assert_eq!(manager(&user), line.user(&line.people[3])["id"]);
    let tried = said(
        &line.service,
        &[
            "rules",
            "evaluate",
            "--on",
            &married.number,
            "--system",
            "berthing",
        ],
        0,
    );
    holds(
        &tried,
        &["nickName", "enterprise.manager.value", "the account of"],
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_first_password_is_set_sealed_and_shown_once() {
    let line = line(60, Manner::full()).await;
    line.edit(
        "berthing.toml",
        "[person.outbound]",
        "[person.password]\nattribute = \"password\"\nlength = 18\n[person.outbound]",
    );
    said(
        &line.service,
        &["rules", "publish", line.rules.to_str().unwrap()],
        0,
    );
    said(&line.service, &["run"], 0);
    let waiting = line.service.json(&["passwords", "list"]);
    let first = &waiting.as_array().unwrap()[0];
    let (id, account) = (first["id"].to_string(), first["account"].as_str().unwrap());
    let password = said(&line.service, &["passwords", "show", &id], 0)
        .trim()
        .to_owned();
    assert_eq!(password.chars().count(), 18);
    assert!(
        line.berthing.lets_log_in(account, &password),
        "it is the one that was set"
    );
    holds(
        &said(&line.service, &["passwords", "show", &id], 1),
        &["there is no first password that was not shown yet"],
    );
    let all = line.service.json(&["passwords", "list"]);
    let shown: Vec<&Value> = all
        .as_array()
        .unwrap()
        .iter()
        .filter(|one| !one["shown_at"].is_null())
        .collect();
    assert_eq!(
        (shown.len(), &shown[0]["shown_to"]),
        (1, &json!("first operator"))
    );
    holds(
        &said(&line.service, &["journal", "list"], 0),
        &["password.shown"],
    );
    // Neither the shown one nor those that wait stand anywhere in clear.
    for file in std::fs::read_dir(&line.data)
        .unwrap()
        .flatten()
        .filter(|file| file.path().is_file())
    {
        let bytes = std::fs::read(file.path()).unwrap();
        assert!(
            !bytes
                .windows(password.len())
                .any(|part| part == password.as_bytes()),
            "{}",
            file.path().display()
        );
    }
    let log = line.service.running.lines.lock().unwrap().join("\n");
    assert!(!log.contains(&password));
    let changes = line.service.json(&["changes", "show", "1", "--values"]);
    assert!(!changes.to_string().contains(&password));
    // Only who the rules name may see it.
    line.edit(
        "berthing.toml",
        "length = 18",
        "length = 18\nvisible_to = [\"service desk\"]",
    );
    said(
        &line.service,
        &["rules", "publish", line.rules.to_str().unwrap()],
        0,
    );
    let next = line.service.json(&["passwords", "list"])[0]["id"].to_string();
    holds(
        &said(&line.service, &["passwords", "show", &next], 1),
        &["are visible to service desk, and you are first operator"],
    );
}

/// After the first run, others delete an account, create another one and change a third.
struct ByOthers {
    line: Line,
    lost: usize,
    old_id: String,
}

impl ByOthers {
    async fn prepare() -> ByOthers {
        let line = line(60, Manner::full()).await;
        said(&line.service, &["run"], 0);
        let [lost, changed] = {
            let mut people = line.plain_people();
            std::array::from_fn(|_| people.next().unwrap().number.clone())
        };
        let at = |number: &str| line.people.iter().position(|p| p.number == number).unwrap();
        let (lost, changed) = (at(&lost), at(&changed));
        let old_id = line.user(&line.people[lost])["id"]
            .as_str()
            .unwrap()
            .to_owned();
        let path = format!("/Users/{old_id}");
        line.by_others(reqwest::Method::DELETE, &path, None).await;
        let made = json!({"schemas": [tide_scim::USER], "userName": "stowaway@berthing.example"});
        line.by_others(reqwest::Method::POST, "/Users", Some(made))
            .await;
        let mail = line.people[changed].mail.trim().to_owned();
        line.berthing
            .tamper(&mail, |user| user["title"] = "Pirate".into());
        ByOthers { line, lost, old_id }
    }

    fn lost(&self) -> &Crew {
        &self.line.people[self.lost]
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn accounts_changed_by_others_are_handled_by_rule() {
    let by_others = ByOthers::prepare().await;
    changes_by_others_raise_an_alert_each(&by_others).await;
    orphaned_and_deleted_accounts_are_disabled_and_created_again_by_rule(&by_others).await;
}

/// Each alert is raised once; accounts that were there before us are no news.
async fn changes_by_others_raise_an_alert_each(by_others: &ByOthers) {
    let line = &by_others.line;
    said(&line.service, &["preview"], 0);
    let status = said(&line.service, &["status"], 0);
    holds(
        &status,
        &[
            "an account was deleted in berthing by others",
            "an account was created in berthing by others: stowaway",
            "left unchanged",
        ],
    );
    holds(
        &status,
        &[
            "an account was changed in berthing by others",
            "and is Pirate; the next run repairs it",
        ],
    );
    said(&line.service, &["preview"], 0);
    let alerts = line.service.json(&["status"])["alerts"].clone();
    assert_eq!(alerts.as_array().unwrap().len(), 3);
    holds(
        &said(&line.service, &["why", &by_others.lost().number], 0),
        &["was deleted in berthing by others"],
    );
    holds(
        &said(&line.service, &["why", "dockradio@berthing.example"], 0),
        &["no identity matches; left unchanged"],
    );
}

async fn orphaned_and_deleted_accounts_are_disabled_and_created_again_by_rule(
    by_others: &ByOthers,
) {
    let line = &by_others.line;
    said(&line.service, &["preview"], 0);
    line.edit(
        "berthing.toml",
        "on_orphaned = \"ignore\"\non_deleted = \"review\"",
        "on_orphaned = \"disable\"\non_deleted = \"recreate\"",
    );
    let effect = said(
        &line.service,
        &["rules", "impact", line.rules.to_str().unwrap()],
        0,
    );
    holds(&effect, &["on hold → created", "orphaned → disabled"]);
    line.publish();
    said(&line.service, &["run"], 0);
    assert_ne!(
        line.berthing
            .user(&by_others.lost().mail)
            .expect("created again")["id"],
        json!(by_others.old_id)
    );
    assert_eq!(
        line.berthing.user("dockradio@berthing.example").unwrap()["active"],
        false
    );
    line.berthing.take_writes();
    said(&line.service, &["run"], 0);
    assert_eq!(
        line.berthing.take_writes(),
        Vec::<String>::new(),
        "it settles"
    );
}

/// An operator decides to leave it alone.
#[tokio::test(flavor = "multi_thread")]
async fn an_orphaned_account_waits_for_an_answer_where_the_rule_says_review() {
    let line = line(60, Manner::full()).await;
    said(&line.service, &["run"], 0);
    line.edit(
        "berthing.toml",
        "on_orphaned = \"ignore\"",
        "on_orphaned = \"review\"",
    );
    line.publish();
    holds(
        &said(&line.service, &["why", "nightwatch@berthing.example"], 0),
        &["review required"],
    );
    holds(
        &said(
            &line.service,
            &["matches", "berthing", "--status", "orphaned"],
            0,
        ),
        &["nightwatch@berthing.example"],
    );
    said(
        &line.service,
        &[
            "matches",
            "berthing",
            "--person",
            "nightwatch@berthing.example",
            "--skip",
        ],
        0,
    );
    holds(
        &said(&line.service, &["why", "nightwatch@berthing.example"], 0),
        &["unchanged: answered by an operator"],
    );
    holds(
        &said(
            &line.service,
            &["matches", "berthing", "--status", "skipped"],
            0,
        ),
        &["nightwatch@berthing.example"],
    );
}

/// A draft with a changed title, and the number of its rule folder's edition.
async fn line_with_draft() -> Line {
    let line = line(60, Manner::full()).await;
    said(&line.service, &["run"], 0);
    let new = ["rules", "draft", "new", "--name", "capitals"];
    holds(
        &said(&line.service, &new, 0),
        &["draft 1 · capitals · from version 2 · edition 1"],
    );
    line
}

impl Line {
    fn save_draft(&self, edition: &str, code: i32) -> String {
        let rules = self.rules.to_str().unwrap();
        let save = ["rules", "draft", "save", "1", rules, "--edition", edition];
        said(&self.service, &save, code)
    }

    /// Makes all titles upper case.
    fn capitalize(&self) {
        self.edit(
            "berthing.toml",
            "'identity.title'",
            "'upper(identity.title)'",
        );
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_draft_is_saved_only_over_the_edition_it_was_made_from() {
    let line = line_with_draft().await;
    line.edit(
        "berthing.toml",
        "'identity.title'",
        "'upper(identity.titel)'",
    );
    let broken = line.save_draft("1", 1);
    holds(
        &broken,
        &[
            "berthing.toml:",
            "unknown attribute `identity.titel`",
            "did you mean `identity.title`?",
        ],
    );
    holds(
        &said(&line.service, &["rules", "draft", "impact", "1"], 1),
        &["the rules have 1 error"],
    );
    line.edit("berthing.toml", "identity.titel", "identity.title");
    holds(&line.save_draft("1", 1), &["your edit was not stored"]);
    holds(
        &line.save_draft("2", 0),
        &["+ title", "upper(identity.title)"],
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_draft_shows_its_impact_and_sends_nothing() {
    let line = line_with_draft().await;
    line.capitalize();
    line.save_draft("1", 0);
    line.berthing.take_writes();
    let effect = line.service.json(&["rules", "draft", "impact", "1"]);
    let lines = effect["lines"].as_array().unwrap();
    assert!(
        lines.len() > 40
            && lines
                .iter()
                .all(|line| line["system"] == "berthing" && line["attribute"] == "title"),
        "{effect}"
    );
    assert_eq!(
        effect["message"],
        format!("This changes {} values in 1 system.", lines.len())
    );
    let on = &line.people[8].number;
    holds(
        &said(
            &line.service,
            &[
                "rules", "evaluate", "--on", on, "--system", "berthing", "--draft", "1",
            ],
            0,
        ),
        &["upper(identity.title)"],
    );
    assert_eq!(line.berthing.take_writes(), Vec::<String>::new());
}

/// Another operator publishes meanwhile: the draft is not published over it, but rebased.
#[tokio::test(flavor = "multi_thread")]
async fn a_draft_is_not_published_over_a_newer_version() {
    let line = line_with_draft().await;
    line.capitalize();
    line.save_draft("1", 0);
    let other = line.data.join("other");
    said(
        &line.service,
        &["rules", "export", other.to_str().unwrap()],
        0,
    );
    edit(&other, "guards.toml", "[[guard]]", "# theirs\n[[guard]]");
    edit(
        &other,
        "berthing.toml",
        "'identity.contract'",
        "'lower(identity.contract)'",
    );
    said(
        &line.service,
        &["rules", "publish", other.to_str().unwrap()],
        0,
    );
    holds(
        &said(&line.service, &["rules", "draft", "publish", "1"], 1),
        &["published version 3 since", "rules draft rebase 1"],
    );
    holds(
        &said(&line.service, &["rules", "draft", "rebase", "1"], 0),
        &[
            "from version 3",
            "upper(identity.title)",
            "the draft's version was kept: berthing.toml",
        ],
    );
    holds(
        &said(&line.service, &["rules", "draft", "publish", "1"], 0),
        &["published as version 4"],
    );
    // The exported folder remembers that it holds version 3.
    edit(&other, "guards.toml", "# theirs", "# theirs again");
    holds(
        &said(
            &line.service,
            &["rules", "publish", other.to_str().unwrap()],
            1,
        ),
        &["based on version 3", "published version 4 since"],
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn versions_are_compared_and_rolled_back() {
    let line = line_with_draft().await;
    line.capitalize();
    line.edit("guards.toml", "[[guard]]", "# theirs\n[[guard]]");
    line.save_draft("1", 0);
    said(&line.service, &["rules", "draft", "publish", "1"], 0);
    holds(
        &said(&line.service, &["rules", "history"], 0),
        &["3 ", "capitals", "first operator"],
    );
    let difference = said(&line.service, &["rules", "diff", "2", "3", "--impact"], 0);
    holds(
        &difference,
        &[
            "guards.toml changed",
            "# theirs",
            "berthing.toml changed",
            "values in 1 system",
            "VERSION 2",
            "VERSION 3",
        ],
    );
    holds(
        &said(&line.service, &["rules", "rollback", "2"], 0),
        &[
            "back to version 2",
            "values in 1 system",
            "nothing is published yet",
        ],
    );
    said(&line.service, &["rules", "draft", "publish", "2"], 0);
    let same = line.service.json(&["rules", "diff", "2", "4", "--impact"]);
    assert_eq!(
        (
            same["files"].as_array().unwrap().len(),
            &same["impact"]["message"]
        ),
        (0, &json!("No impact."))
    );
    said(&line.service, &["rules", "draft", "new"], 0);
    holds(
        &said(&line.service, &["rules", "draft", "discard", "3"], 0),
        &["draft 3 was discarded"],
    );
    holds(
        &said(&line.service, &["rules", "draft", "show", "3"], 1),
        &["there is no open draft"],
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn rules_with_a_failing_example_are_not_published() {
    let line = line(60, Manner::full()).await;
    line.edit(
        "harbour.toml",
        "displayName = \"Eiko D'Amberg\"",
        "displayName = \"Eiko Damberg\"",
    );
    let rules = line.rules.to_str().unwrap();
    let refused = text(&line.service.client(&["rules", "publish", rules]));
    holds(
        &refused,
        &[
            "an apostrophe stays in a name",
            "displayName should be Eiko Damberg, but is Eiko D'Amberg",
        ],
    );
}

/// A person of the deck, with the demo's roles, after the first run.
struct Roles {
    line: Line,
    person: Crew,
    id: String,
}

impl Roles {
    async fn start() -> Roles {
        let line = line(40, Manner::full()).await;
        let mut files = world::more_rules().into_iter();
        let (_, roles) = files.find(|(name, _)| *name == "roles.toml").unwrap();
        std::fs::write(line.rules.join("roles.toml"), roles).unwrap();
        line.publish();
        said(&line.service, &["run"], 0);
        let whole = |person: &&Crew| {
            person.department == "10"
                && !person.given.is_empty()
                && !person.mail.is_empty()
                && !person.locked
        };
        let in_target = |person: &&Crew| division(&line, person).is_some();
        let mut people = line.people.iter().filter(whole);
        let person = people.find(in_target).expect("of the deck").clone();
        assert_eq!(division(&line, &person).as_deref(), Some("deck watch"));
        let found = line.service.json(&[
            "identities",
            "list",
            "--search",
            &person.mail.to_lowercase(),
        ]);
        let id = found[0]["id"].as_str().unwrap().to_owned();
        Roles { line, person, id }
    }

    fn client(&self, arguments: &[&str]) -> String {
        said(&self.line.service, arguments, 0)
    }

    /// Lets automatic runs follow.
    fn watch(&self) {
        self.client(&["systems", "schedule", "berthing", "--watch"]);
    }

    fn grant(&self, more: &[&str]) {
        let grant = ["roles", "grant", "safety officer", &self.id];
        self.client(&[&grant, more].concat());
    }

    /// Waits until the person's division is that of a role.
    async fn until_division(&self, wanted: &str) {
        let division = || division(&self.line, &self.person);
        let is_wanted = async || (division().as_deref() == Some(wanted)).then_some(());
        if eventually(PATIENCE, is_wanted).await.is_none() {
            let why = self.client(&["why", &self.id]);
            panic!("{:?} and not {wanted}: {why}", division());
        }
    }
}

fn division(line: &Line, person: &Crew) -> Option<String> {
    let user = line.berthing.user(&person.mail.to_lowercase())?;
    let division = user[tide_scim::ENTERPRISE]["division"].as_str();
    division.map(str::to_owned)
}

#[tokio::test(flavor = "multi_thread")]
async fn roles_are_simulated_granted_and_revoked() {
    let roles = Roles::start().await;
    another_condition_of_a_role_is_simulated(&roles).await;
    a_role_granted_until_a_time_ends_then(&roles).await;
    a_granted_role_is_revoked(&roles).await;
    a_leaver_loses_granted_roles(&roles).await;
}

/// Who would gain and lose a role by another condition, with the values; nothing is stored.
async fn another_condition_of_a_role_is_simulated(roles: &Roles) {
    let (line, id) = (&roles.line, &roles.id);
    holds(
        &said(&line.service, &["roles", "list"], 0),
        &["deck hand", "safety officer", "deck watch"],
    );
    let tried = line.service.json(&[
        "roles",
        "simulate",
        "deck hand",
        "identity.department == \"Galley\"",
    ]);
    let whom = |side: &str| {
        tried[side]
            .as_array()
            .unwrap()
            .iter()
            .map(|one| one["identity"].as_str().unwrap().to_owned())
            .collect::<Vec<_>>()
    };
    assert!(
        whom("loses").contains(id) && !whom("gains").is_empty() && !whom("gains").contains(id),
        "{tried:#}"
    );
    let lines = tried["impact"]["lines"].as_array().unwrap();
    assert!(
        lines
            .iter()
            .any(|one| one["identity"] == id.as_str() && one["before"] == "deck watch"),
        "{tried:#}"
    );
    holds(
        &said(&line.service, &["roles", "simulate", "deck hand", ""], 0),
        &["0 gain deck hand;", "loses", "deck watch"],
    );
    holds(
        &said(&line.service, &["roles", "simulate", "captain", "true"], 1),
        &["there is no role `captain`", "deck hand"],
    );
    holds(
        &said(
            &line.service,
            &["roles", "simulate", "deck hand", "identity.rank =="],
            1,
        ),
        &["invalid condition"],
    );
    holds(
        &line
            .service
            .json(&["roles", "show", "deck hand"])
            .to_string(),
        &[id],
    );
}

async fn a_role_granted_until_a_time_ends_then(roles: &Roles) {
    let (line, id) = (&roles.line, &roles.id);
    roles.watch();
    let until = jiff::Timestamp::now() + jiff::SignedDuration::from_secs(4);
    roles.grant(&["--until", &until.to_string(), "--comment", "drill"]);
    roles.until_division("bridge").await;
    holds(
        &said(&line.service, &["roles", "list"], 0),
        &[
            "conflicts: the role with the highest priority wins",
            "bridge",
            "deck watch by deck hand",
        ],
    );
    holds(
        &line.service.json(&["why", id]).to_string(),
        &["from the role safety officer, over deck watch by deck hand"],
    );
    roles.until_division("deck watch").await;
    assert!(jiff::Timestamp::now() >= until);
    holds(
        &said(&line.service, &["roles", "show", "safety officer"], 0),
        &["no holders"],
    );
    holds(
        &said(&line.service, &["journal", "list"], 0),
        &["role.given", "drill"],
    );
}

async fn a_granted_role_is_revoked(roles: &Roles) {
    let (line, id) = (&roles.line, &roles.id);
    roles.watch();
    roles.grant(&[]);
    roles.until_division("bridge").await;
    roles.client(&["roles", "revoke", "safety officer", id]);
    roles.until_division("deck watch").await;
    holds(
        &said(&line.service, &["roles", "revoke", "safety officer", id], 1),
        &["no grant by hand of the role"],
    );
    holds(
        &said(&line.service, &["roles", "grant", "captain", id], 1),
        &["there is no role `captain`", "deck hand"],
    );
    holds(
        &said(
            &line.service,
            &["roles", "grant", "crew", id, "--until", "soon"],
            1,
        ),
        &["`soon` is not a timestamp"],
    );
}

/// It does not come back with the return.
async fn a_leaver_loses_granted_roles(roles: &Roles) {
    let (line, id, person) = (&roles.line, &roles.id, &roles.person);
    roles.watch();
    roles.grant(&[]);
    roles.until_division("bridge").await;
    said(&line.service, &["identities", "depart", id], 0);
    eventually(PATIENCE, async || {
        let user = line.berthing.user(&person.mail.to_lowercase())?;
        (user["active"] == false).then_some(())
    })
    .await
    .expect("the account is disabled");
    said(&line.service, &["identities", "reinstate", id], 0);
    roles.until_division("deck watch").await;
}
