//! The service is killed in the middle of a run, and goes on when it starts again.
#![allow(clippy::unwrap_used)]

mod common;

use common::{Service, connect, text};
use std::time::Duration;
use tide_standins::directory::Directory;
use tide_standins::scim_service::ScimService;
use tide_standins::world;

/// Where the run stands, asked without the client so that the answer is quick.
async fn states(http: &reqwest::Client, service: &Service, id: &str) -> (serde_json::Value, i64) {
    let request = http.get(format!("{}/api/v1/change-sets/{id}", service.url)).bearer_auth(&service.token);
    let set: serde_json::Value = request.send().await.unwrap().json().await.unwrap();
    let done = set["states"].as_array().unwrap().iter().find(|c| c["word"] == "done").map_or(0, |c| c["count"].as_i64().unwrap());
    (set, done)
}

#[tokio::test(flavor = "multi_thread")]
async fn a_kill_in_the_middle_of_a_run_loses_nothing_and_doubles_nothing() {
    let folder = tempfile::tempdir().unwrap();
    let people = world::people(world::SEED, 150);
    let harbour = Directory::start(&world::directory(&people, "harbour-secret"), "harbour-secret").await.unwrap();
    let berthing = ScimService::start(world::berthing(&people), "berth-token").await.unwrap();
    let data = folder.path().join("data");
    let mut service = Service::start(&data);
    connect(&service, &harbour, &berthing, folder.path());
    assert!(service.client(&["systems", "set", "berthing", "--writable", "person"]).status.success());
    assert!(service.client(&["systems", "arm", "berthing"]).status.success());
    let before = berthing.users().len();
    berthing.delay(Duration::from_millis(250));

    let http = common::http();
    let begun: serde_json::Value = http
        .post(format!("{}/api/v1/change-sets", service.url))
        .bearer_auth(&service.token)
        .json(&serde_json::json!({"kind": "run"}))
        .send()
        .await
        .unwrap()
        .json()
        .await
        .unwrap();
    let id = begun["id"].to_string();
    // Killed twice, each time with changes on the wire.
    for wanted in [15, 50] {
        loop {
            let (set, done) = states(&http, &service, &id).await;
            assert!(set["ended"].is_null(), "the run ended before it could be killed: make it slower");
            if done >= wanted {
                break;
            }
            tokio::time::sleep(Duration::from_millis(30)).await;
        }
        service.running.kill();
        service = Service::start(&data);
    }
    berthing.delay(Duration::ZERO);
    let set = loop {
        let (set, _) = states(&http, &service, &id).await;
        if !set["ended"].is_null() {
            break set;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    };
    assert_eq!(set["state"], "done", "{set}");
    let count =
        |word: &str| set["states"].as_array().unwrap().iter().find(|c| c["word"] == word).map_or(0, |c| c["count"].as_i64().unwrap());
    assert_eq!((count("failed"), count("queued"), count("sending"), count("unknown")), (0, 0, 0, 0), "nothing is lost: {set}");
    let created = set["verdicts"].as_array().unwrap().iter().find(|c| c["word"] == "create").unwrap()["count"].as_u64().unwrap() as usize;
    assert_eq!(berthing.users().len(), before + created, "nothing was done twice");
    let mut ids: Vec<String> = berthing.users().iter().filter_map(|u| u["externalId"].as_str().map(str::to_owned)).collect();
    let all = ids.len();
    ids.sort();
    ids.dedup();
    assert_eq!(ids.len(), all, "nobody has two accounts");

    berthing.take_writes();
    let again = service.client(&["run"]);
    assert!(again.status.success(), "{}", text(&again));
    assert_eq!(berthing.take_writes(), Vec::<String>::new(), "a run after it sends no write");
    assert_eq!(service.json(&["journal", "check"])["sound"], true);
    assert!(service.running.terminate().success(), "it stops gracefully when it is asked to");
}
