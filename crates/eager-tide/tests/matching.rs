//! Matching as its user meets it: the report, a doubtful match side by side, what is said of it,
//! and adopting first.
#![allow(clippy::disallowed_methods, reason = "tests run in real time")]
#![allow(clippy::unwrap_used)]

mod common;

use common::{Service, connect, holds, said};
use tide_standins::directory::Directory;
use tide_standins::scim_service::ScimService;
use tide_standins::world;

const PASSWORD: &str = "harbour-secret";

fn count(service: &Service, word: &str) -> i64 {
    let view = service.json(&["matches", "berthing"]);
    view["counts"]
        .as_array()
        .unwrap()
        .iter()
        .find(|c| c["status"] == word)
        .and_then(|c| c["count"].as_i64())
        .unwrap()
}

/// A directory, a service with doubtful matches, and Eager Tide between them.
struct World {
    _folder: tempfile::TempDir,
    _harbour: Directory,
    berthing: ScimService,
    service: Service,
}

impl World {
    async fn start() -> World {
        let folder = tempfile::tempdir().unwrap();
        let people = world::people(world::SEED, world::PEOPLE);
        let harbour = Directory::start(&world::directory(&people, PASSWORD), PASSWORD)
            .await
            .unwrap();
        let berthing = ScimService::start(world::berthing(&people), "berth-token")
            .await
            .unwrap();
        let service = Service::start(&folder.path().join("data"));
        connect(&service, &harbour, &berthing, folder.path());
        said(&service, &["preview"], 0);
        said(
            &service,
            &["systems", "set", "berthing", "--writable", "person"],
            0,
        );
        said(&service, &["systems", "arm", "berthing"], 0);
        World {
            _folder: folder,
            _harbour: harbour,
            berthing,
            service,
        }
    }

    fn matches(&self, arguments: &[&str]) -> String {
        said(
            &self.service,
            &[&["matches", "berthing"], arguments].concat(),
            0,
        )
    }

    /// Whom two accounts match.
    fn ambiguous(&self) -> String {
        let view = self
            .service
            .json(&["matches", "berthing", "--status", "ambiguous"]);
        view["lines"][0]["label"].as_str().unwrap().to_owned()
    }

    /// Answers everything: the person with two candidates, one whose answer is taken back first,
    /// the others, and an account that is left alone. Returns the person with two candidates.
    fn answer_all(&self) -> String {
        let who = self.ambiguous();
        self.matches(&["--person", &who, "--join", "--candidate", "spare1"]);
        self.never();
        self.take_back_never();
        self.matches(&["--status", "needs-review", "--all", "--join"]);
        self.matches(&[
            "--status",
            "orphaned",
            "--search",
            "dockradio",
            "--all",
            "--skip",
        ]);
        who
    }

    /// Answers "never" about a doubtful match. Returns whom it is about.
    fn never(&self) -> String {
        let view = self
            .service
            .json(&["matches", "berthing", "--status", "needs-review"]);
        let label = view["lines"][0]["label"].as_str().unwrap().to_owned();
        self.matches(&["--status", "needs-review", "--person", &label, "--never"]);
        label
    }

    /// Takes back the answer "never". Returns its number.
    fn take_back_never(&self) -> String {
        let answers = self.service.json(&["matches", "berthing"])["answers"].clone();
        let answers = answers.as_array().unwrap();
        let never = answers.iter().find(|a| a["answer"] == "never").unwrap()["id"].to_string();
        let shown = self.matches(&["--take-back", &never]);
        holds(&shown, &["the rules decide again"]);
        never
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn the_report_counts_matches_and_shows_candidates_side_by_side() {
    let world = World::start().await;
    let service = &world.service;
    // The report, and what stands behind a number.
    let report = said(service, &["matches", "berthing"], 0);
    holds(
        &report,
        &[
            "ambiguous",
            "needs review",
            "will link",
            "orphaned",
            "match rule \"employee number\"",
            "--status ambiguous",
        ],
    );
    let (ambiguous, asked) = (count(service, "ambiguous"), count(service, "needs_review"));
    assert!(ambiguous >= 1 && asked >= 2, "{report}");
    holds(
        &said(service, &["matches", "berthing", "--status", "orphaned"], 0),
        &["dockradio@berthing.example"],
    );
    holds(
        &said(
            service,
            &["matches", "berthing", "--search", "nobody-is-called-so"],
            0,
        ),
        &["no matching records"],
    );
    holds(
        &said(service, &["matches", "nowhere"], 1),
        &["there is no system `nowhere`"],
    );

    // Side by side: what is equal, what differs, what is missing.
    let case = service.json(&["matches", "berthing", "--status", "ambiguous"])["lines"][0].clone();
    let who = case["label"].as_str().unwrap();
    holds(
        &said(service, &["matches", "berthing", "--person", who], 0),
        &[
            "2 accounts match by employee number",
            "CANDIDATE 2",
            "  spare2@",
            "≠ spare1@",
            "--join --candidate NAME",
        ],
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn with_two_candidates_the_operator_says_which_one() {
    let world = World::start().await;
    let service = &world.service;
    let ambiguous = count(service, "ambiguous");
    let who = world.ambiguous();
    let who = who.as_str();
    // Nothing is guessed: with two candidates, which one must be said.
    holds(
        &said(
            service,
            &["matches", "berthing", "--person", who, "--join"],
            1,
        ),
        &["choose one of spare1@", "--candidate NAME"],
    );
    holds(
        &said(service, &["matches", "berthing", "--join"], 1),
        &["which record?"],
    );
    said(
        service,
        &[
            "matches",
            "berthing",
            "--person",
            who,
            "--join",
            "--candidate",
            "spare1",
        ],
        0,
    );
    assert_eq!(count(service, "ambiguous"), ambiguous - 1);
    holds(
        &said(
            service,
            &[
                "matches",
                "berthing",
                "--status",
                "will-link",
                "--search",
                "decided by",
            ],
            0,
        ),
        &[who, "decided by first operator"],
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn an_answer_is_taken_back_and_those_that_are_left_are_given_together() {
    let world = World::start().await;
    let service = &world.service;
    let asked = count(service, "needs_review");
    // Never these two: then a new account is wanted, whose name the other one has; that is said.
    let label = world.never();
    let label = label.as_str();
    assert_eq!(count(service, "needs_review"), asked - 1);
    let held = said(
        service,
        &[
            "scope", "berthing", "--status", "on-hold", "--search", label,
        ],
        0,
    );
    holds(
        &held,
        &[
            "is taken in berthing by the account thuha.pttel@skerry.example",
            "which matches no identity",
        ],
    );
    // Taken back, it is asked again; then all that are left are answered in one go.
    let never = world.take_back_never();
    holds(
        &said(service, &["matches", "berthing", "--take-back", &never], 1),
        &["there is no answer"],
    );
    assert_eq!(count(service, "needs_review"), asked);
    holds(
        &said(
            service,
            &[
                "matches",
                "berthing",
                "--status",
                "needs-review",
                "--all",
                "--join",
            ],
            0,
        ),
        &["answers were stored"],
    );
    assert_eq!(count(service, "needs_review"), 0);
    said(
        service,
        &[
            "matches",
            "berthing",
            "--status",
            "orphaned",
            "--search",
            "dockradio",
            "--all",
            "--skip",
        ],
        0,
    );
    assert_eq!(count(service, "skipped"), 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn link_only_links_everything_and_sends_nothing() {
    let world = World::start().await;
    let service = &world.service;
    let berthing = &world.berthing;
    let who = world.answer_all();
    let who = who.as_str();
    // Adopt first: everything is joined, and nothing is sent.
    berthing.take_writes();
    let users = berthing.users();
    let adopted = said(service, &["run", "--link-only"], 0);
    holds(
        &adopted,
        &["accounts were linked; nothing was sent", "changes show"],
    );
    assert_eq!(
        (berthing.take_writes().len(), berthing.users() == users),
        (0, true)
    );
    assert_eq!(count(service, "will_link"), 0);
    assert!(count(service, "linked") > 100);
    holds(
        &said(service, &["why", who], 0),
        &["spare1@skerry.example", "decided by first operator"],
    );
    let differences = said(
        service,
        &["changes", "show", "2", "--values", "--search", who],
        0,
    );
    holds(
        &differences,
        &[
            "link only: accounts are linked, nothing is sent",
            "spare1@skerry.example",
        ],
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_linked_account_is_never_moved_silently() {
    let world = World::start().await;
    let service = &world.service;
    world.answer_all();
    said(service, &["run", "--link-only"], 0);
    // Who is joined is never moved silently; after a split the answer still holds.
    let other = service.json(&["matches", "berthing", "--status", "new"])["lines"][0]["identity"]
        .as_str()
        .unwrap()
        .to_owned();
    let joined = service.json(&[
        "matches", "berthing", "--status", "linked", "--search", "spare1",
    ])["lines"][0]
        .clone();
    let answer =
        serde_json::json!([{"answer": "join", "identity": other, "account": joined["account"]}]);
    let http = common::http();
    let post = |body: serde_json::Value| {
        http.post(format!(
            "{}/api/v1/systems/berthing/matches/answers",
            service.url
        ))
        .bearer_auth(&service.token)
        .json(&body)
        .send()
    };
    let refused = post(answer).await.unwrap();
    assert_eq!(refused.status(), 422);
    holds(
        &refused.text().await.unwrap(),
        &["ends that link first", "identities split"],
    );
    said(
        service,
        &[
            "identities",
            "split",
            joined["identity"].as_str().unwrap(),
            "berthing",
        ],
        0,
    );
    holds(
        &said(
            service,
            &["matches", "berthing", "--status", "will-link"],
            0,
        ),
        &["decided by first operator"],
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn an_answer_that_makes_no_sense_is_refused_with_its_reason() {
    let world = World::start().await;
    let service = &world.service;
    let other = service.json(&["matches", "berthing", "--status", "new"])["lines"][0]["identity"]
        .as_str()
        .unwrap()
        .to_owned();
    let http = common::http();
    let post = |body: serde_json::Value| {
        http.post(format!(
            "{}/api/v1/systems/berthing/matches/answers",
            service.url
        ))
        .bearer_auth(&service.token)
        .json(&body)
        .send()
    };
    for (bad, wanted) in [
        (
            serde_json::json!([{"answer": "perhaps", "identity": other}]),
            "unknown variant `perhaps`",
        ),
        (
            serde_json::json!([{"answer": "join", "identity": other}]),
            "an identity and an account",
        ),
        (
            serde_json::json!([{"answer": "skip", "identity": "'; DROP TABLE identity; --"}]),
            "there is no identity",
        ),
        (
            serde_json::json!([{"answer": "skip", "account": 999_999}]),
            "there is no account",
        ),
        (
            serde_json::json!([{"answer": "skip", "account": 1, "why": "x"}]),
            "unknown field",
        ),
        (serde_json::json!({"answer": "skip"}), "sequence"),
    ] {
        let answer = post(bad.clone()).await.unwrap();
        assert!(answer.status().is_client_error(), "{bad}");
        holds(&answer.text().await.unwrap(), &[wanted]);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_run_sends_what_was_shown_and_the_journal_has_each_answer() {
    let world = World::start().await;
    let service = &world.service;
    let berthing = &world.berthing;
    world.answer_all();
    // A real run then sends what was shown, and everything that was said is in the journal.
    said(service, &["run"], 0);
    let named = |name: &str| {
        berthing
            .users()
            .iter()
            .filter(|user| user["userName"] == name)
            .count()
    };
    assert_eq!(
        (
            named("spare1@skerry.example"),
            named("spare2@skerry.example")
        ),
        (0, 1),
        "the one that was said is hers, and renamed"
    );
    let journal = said(service, &["journal", "list", "--limit", "3000"], 0);
    holds(
        &journal,
        &[
            "match.join",
            "match.never",
            "match.taken_back",
            "match.skip",
        ],
    );
    assert_eq!(named("dockradio@berthing.example"), 1, "left alone");
}
