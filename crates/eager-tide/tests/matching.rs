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

#[tokio::test(flavor = "multi_thread")]
async fn doubtful_matches_are_seen_answered_and_remembered() {
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

    // The report, and what stands behind a number.
    let report = said(&service, &["matches", "berthing"], 0);
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
    let (ambiguous, asked) = (
        count(&service, "ambiguous"),
        count(&service, "needs_review"),
    );
    assert!(ambiguous >= 1 && asked >= 2, "{report}");
    holds(
        &said(
            &service,
            &["matches", "berthing", "--status", "orphaned"],
            0,
        ),
        &["dockradio@berthing.example"],
    );
    holds(
        &said(
            &service,
            &["matches", "berthing", "--search", "nobody-is-called-so"],
            0,
        ),
        &["no matching records"],
    );
    holds(
        &said(&service, &["matches", "nowhere"], 1),
        &["there is no system `nowhere`"],
    );

    // Side by side: what is equal, what differs, what is missing.
    let case = service.json(&["matches", "berthing", "--status", "ambiguous"])["lines"][0].clone();
    let who = case["label"].as_str().unwrap();
    holds(
        &said(&service, &["matches", "berthing", "--person", who], 0),
        &[
            "2 accounts match by employee number",
            "CANDIDATE 2",
            "  spare2@",
            "≠ spare1@",
            "--join --candidate NAME",
        ],
    );

    // Nothing is guessed: with two candidates, which one must be said.
    holds(
        &said(
            &service,
            &["matches", "berthing", "--person", who, "--join"],
            1,
        ),
        &["choose one of spare1@", "--candidate NAME"],
    );
    holds(
        &said(&service, &["matches", "berthing", "--join"], 1),
        &["which record?"],
    );
    said(
        &service,
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
    assert_eq!(count(&service, "ambiguous"), ambiguous - 1);
    holds(
        &said(
            &service,
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

    // Never these two: then a new account is wanted, whose name the other one has; that is said.
    let line =
        service.json(&["matches", "berthing", "--status", "needs-review"])["lines"][0].clone();
    let label = line["label"].as_str().unwrap();
    said(
        &service,
        &[
            "matches",
            "berthing",
            "--status",
            "needs-review",
            "--person",
            label,
            "--never",
        ],
        0,
    );
    assert_eq!(count(&service, "needs_review"), asked - 1);
    let held = said(
        &service,
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
    let answers = service.json(&["matches", "berthing"])["answers"].clone();
    let never = answers
        .as_array()
        .unwrap()
        .iter()
        .find(|a| a["answer"] == "never")
        .unwrap()["id"]
        .to_string();
    holds(
        &said(&service, &["matches", "berthing", "--take-back", &never], 0),
        &["the rules decide again"],
    );
    holds(
        &said(&service, &["matches", "berthing", "--take-back", &never], 1),
        &["there is no answer"],
    );
    assert_eq!(count(&service, "needs_review"), asked);
    holds(
        &said(
            &service,
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
    assert_eq!(count(&service, "needs_review"), 0);
    said(
        &service,
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
    assert_eq!(count(&service, "skipped"), 1);

    // Adopt first: everything is joined, and nothing is sent.
    berthing.take_writes();
    let users = berthing.users();
    let adopted = said(&service, &["run", "--link-only"], 0);
    holds(
        &adopted,
        &["accounts were linked; nothing was sent", "changes show"],
    );
    assert_eq!(
        (berthing.take_writes().len(), berthing.users() == users),
        (0, true)
    );
    assert_eq!(count(&service, "will_link"), 0);
    assert!(count(&service, "linked") > 100);
    holds(
        &said(&service, &["why", who], 0),
        &["spare1@skerry.example", "decided by first operator"],
    );
    let differences = said(
        &service,
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
    said(
        &service,
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
            &service,
            &["matches", "berthing", "--status", "will-link"],
            0,
        ),
        &["decided by first operator"],
    );

    // A real run then sends what was shown, and everything that was said is in the journal.
    said(&service, &["run"], 0);
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
    let journal = said(&service, &["journal", "list", "--limit", "3000"], 0);
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
