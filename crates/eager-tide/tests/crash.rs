//! The service is killed in the middle of a run, and goes on when it starts again.
#![allow(clippy::disallowed_methods, reason = "tests run in real time")]
#![allow(clippy::unwrap_used)]

mod common;

use common::{Service, connect, said, text};
use ldap3::{Ldap, LdapConnAsync, Mod};
use rand::rngs::StdRng;
use rand::{RngExt as _, SeedableRng as _};
use std::collections::{BTreeMap, HashSet};
use std::time::Duration;
use tide_standins::directory::Directory;
use tide_standins::eventually;
use tide_standins::scim_service::{Mischief, ScimService};
use tide_standins::world;

/// Where the run stands, asked without the client so that the answer is quick.
async fn states(http: &reqwest::Client, service: &Service, id: &str) -> (serde_json::Value, i64) {
    let request = http
        .get(format!("{}/api/v1/change-sets/{id}", service.url))
        .bearer_auth(&service.token);
    let set: serde_json::Value = request.send().await.unwrap().json().await.unwrap();
    let done = set["states"]
        .as_array()
        .unwrap()
        .iter()
        .find(|c| c["state"] == "done")
        .map_or(0, |c| c["count"].as_i64().unwrap());
    (set, done)
}

/// A run that is on its way, slowly.
struct Run {
    folder: tempfile::TempDir,
    data: std::path::PathBuf,
    harbour: Directory,
    berthing: ScimService,
    service: Service,
    /// How many accounts the target had.
    before: usize,
    http: reqwest::Client,
    id: String,
}

async fn run_of(people: usize) -> Run {
    let folder = tempfile::tempdir().unwrap();
    let people = world::people(world::SEED, people);
    let harbour = Directory::start(
        &world::directory(&people, "harbour-secret"),
        "harbour-secret",
    )
    .await
    .unwrap();
    let berthing = ScimService::start(world::berthing(&people), "berth-token")
        .await
        .unwrap();
    let data = folder.path().join("data");
    let service = Service::start(&data);
    connect(&service, &harbour, &berthing, folder.path());
    assert!(
        service
            .client(&["systems", "set", "berthing", "--writable", "person"])
            .status
            .success()
    );
    assert!(
        service
            .client(&["systems", "arm", "berthing"])
            .status
            .success()
    );
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
    Run {
        folder,
        data,
        harbour,
        berthing,
        service,
        before,
        http,
        id,
    }
}

/// How long something in the background may take.
const PATIENCE: Duration = Duration::from_secs(60);

/// Waits for the end of a run, and returns it.
async fn ended(http: &reqwest::Client, service: &Service, id: &str) -> Option<serde_json::Value> {
    eventually(PATIENCE, async || {
        let (set, _) = states(http, service, id).await;
        (!set["ended_at"].is_null()).then_some(set)
    })
    .await
}

/// Waits for the end of a run whose target is quick again.
async fn everything_was_done_once(
    http: &reqwest::Client,
    mut service: Service,
    id: &str,
    berthing: &ScimService,
    before: usize,
) {
    berthing.delay(Duration::ZERO);
    let set = ended(http, &service, id).await.expect("the run ends");
    assert_eq!(set["state"], "done", "{set}");
    let count = |word: &str| {
        set["states"]
            .as_array()
            .unwrap()
            .iter()
            .find(|c| c["state"] == word)
            .map_or(0, |c| c["count"].as_i64().unwrap())
    };
    assert_eq!(
        (
            count("failed"),
            count("queued"),
            count("sending"),
            count("unknown")
        ),
        (0, 0, 0, 0),
        "nothing is lost: {set}"
    );
    let created = set["verdicts"]
        .as_array()
        .unwrap()
        .iter()
        .find(|c| c["verdict"] == "create")
        .unwrap()["count"]
        .as_u64()
        .unwrap() as usize;
    assert_eq!(
        berthing.users().len(),
        before + created,
        "nothing was done twice"
    );
    let mut ids: Vec<String> = berthing
        .users()
        .iter()
        .filter_map(|u| u["externalId"].as_str().map(str::to_owned))
        .collect();
    let all = ids.len();
    ids.sort();
    ids.dedup();
    assert_eq!(ids.len(), all, "nobody has two accounts");

    berthing.take_writes();
    let again = service.client(&["run"]);
    assert!(again.status.success(), "{}", text(&again));
    assert_eq!(
        berthing.take_writes(),
        Vec::<String>::new(),
        "a run after it sends no write"
    );
    assert_eq!(service.json(&["journal", "check"])["is_intact"], true);
    assert!(
        service.running.terminate().success(),
        "it stops gracefully when it is asked to"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_kill_in_the_middle_of_a_run_loses_nothing_and_doubles_nothing() {
    let Run {
        folder: _folder,
        data,
        harbour: _harbour,
        berthing,
        mut service,
        before,
        http,
        id,
    } = run_of(150).await;
    // Killed twice, each time with changes on the wire.
    for wanted in [15, 50] {
        eventually(PATIENCE, async || {
            let (set, done) = states(&http, &service, &id).await;
            assert!(
                set["ended_at"].is_null(),
                "the run ended before it could be killed: make it slower"
            );
            (done >= wanted).then_some(())
        })
        .await
        .expect("changes are sent");
        service.running.kill();
        service = Service::start(&data);
    }
    everything_was_done_once(&http, service, &id, &berthing, before).await;
}

/// What a service holds, person by person, without what every copy has of its own.
fn held(berthing: &ScimService) -> BTreeMap<String, serde_json::Value> {
    let mut all = BTreeMap::new();
    for mut user in berthing.users() {
        let map = user.as_object_mut().unwrap();
        map.retain(|name, _| name != "id" && name != "meta");
        let name = user["userName"].as_str().unwrap().to_lowercase();
        assert!(
            all.insert(name.clone(), user).is_none(),
            "{name} has two accounts"
        );
    }
    all
}

/// A service of its own that feeds a berthing of its own from the same directory.
struct Side {
    service: Service,
    berthing: ScimService,
    folder: tempfile::TempDir,
}

impl Side {
    async fn start(people: &[world::Crew], harbour: &Directory) -> Side {
        let folder = tempfile::tempdir().unwrap();
        let berthing = ScimService::start(world::berthing(people), "berth-token")
            .await
            .unwrap();
        let service = Service::start(&folder.path().join("data"));
        connect(&service, harbour, &berthing, folder.path());
        said(
            &service,
            &["systems", "set", "berthing", "--writable", "person"],
            0,
        );
        said(&service, &["systems", "arm", "berthing"], 0);
        Side {
            service,
            berthing,
            folder,
        }
    }
}

/// Some changes of all kinds, by the seed.
async fn edit(ldap: &mut Ldap, people: &mut Vec<String>, random: &mut StdRng, round: u64) {
    let one = |text: String| HashSet::from([text]);
    for n in 0..12 {
        let dn = &people[random.random_range(0..people.len())];
        ldap.modify(
            dn,
            vec![Mod::Replace(
                "title".to_owned(),
                one(format!("Rank {round} {n}")),
            )],
        )
        .await
        .unwrap()
        .success()
        .unwrap();
    }
    for n in 0..3 {
        let uid = format!("hand{round}x{n}");
        let dn = format!("uid={uid},ou=Deck,ou=people,{}", world::BASE);
        let entry = [
            ("objectClass", "inetOrgPerson".to_owned()),
            ("uid", uid.clone()),
            ("cn", format!("Hand {uid}")),
            ("sn", uid.clone()),
            ("givenName", "Hand".to_owned()),
            ("employeeNumber", format!("{}", 7000 + round * 10 + n)),
            ("mail", format!("{uid}@skerry.example")),
        ];
        ldap.add(
            &dn,
            entry
                .into_iter()
                .map(|(name, value)| (name.to_owned(), one(value)))
                .collect(),
        )
        .await
        .unwrap()
        .success()
        .unwrap();
        people.push(dn);
    }
    let gone = people.swap_remove(random.random_range(0..people.len()));
    ldap.delete(&gone).await.unwrap().success().unwrap();
}

fn number_from_environment(name: &str, usual: u64) -> u64 {
    let text = std::env::var(name).ok();
    text.and_then(|text| text.parse().ok()).unwrap_or(usual)
}

impl Side {
    /// So many leave on purpose that a guard would hold them.
    fn publish_without_guard(&self) {
        let rules = self.folder.path().join("rules");
        let guards = "[[guard]]\nchange = \"disable\"\nmax_percent = 100\n";
        std::fs::write(rules.join("guards.toml"), guards).unwrap();
        let publish = ["rules", "publish", rules.to_str().unwrap()];
        said(&self.service, &publish, 0);
    }

    /// Begins a run and returns its number.
    async fn begin_run(&self, http: &reqwest::Client) -> String {
        let begun: serde_json::Value = http
            .post(format!("{}/api/v1/change-sets", self.service.url))
            .bearer_auth(&self.service.token)
            .json(&serde_json::json!({"kind": "run"}))
            .send()
            .await
            .unwrap()
            .json()
            .await
            .unwrap();
        begun["id"].to_string()
    }

    /// Waits until a run sends its changes, or has ended.
    async fn until_sending(&self, http: &reqwest::Client, run: &str) {
        loop {
            let (set, _) = states(http, &self.service, run).await;
            if set["state"] == "running" || !set["ended_at"].is_null() {
                return;
            }
            tokio::time::sleep(Duration::from_millis(2)).await;
        }
    }
}

/// Killed twenty times (EAGER_TIDE_KILLS says otherwise), at moments that the seed
/// (EAGER_TIDE_SEED) chooses, while answers get lost too: each time it goes on, and the end is what
/// an undisturbed service makes of the same directory.
#[tokio::test(flavor = "multi_thread")]
async fn killed_at_any_moment_the_end_is_that_of_an_undisturbed_run() {
    let kills = number_from_environment("EAGER_TIDE_KILLS", 20);
    let seed = number_from_environment("EAGER_TIDE_SEED", 1907);
    println!("seed {seed}");
    let mut random = StdRng::seed_from_u64(seed);
    let crew = world::people(world::SEED, 30);
    let harbour = Directory::start(&world::directory(&crew, "harbour-secret"), "harbour-secret")
        .await
        .unwrap();
    let (mut rough, calm) =
        tokio::join!(Side::start(&crew, &harbour), Side::start(&crew, &harbour));
    rough.publish_without_guard();
    calm.publish_without_guard();
    let (connection, mut ldap) = LdapConnAsync::new(&harbour.url).await.unwrap();
    ldap3::drive!(connection);
    ldap.simple_bind(&harbour.admin_dn, "harbour-secret")
        .await
        .unwrap()
        .success()
        .unwrap();
    let mut people: Vec<String> = crew
        .iter()
        .filter(|p| p.mail.ends_with("@skerry.example"))
        .map(world::Crew::dn)
        .collect();
    let http = common::http();
    let mut caught = 0;
    for round in 0..kills {
        edit(&mut ldap, &mut people, &mut random, round).await;
        let id = rough.begin_run(&http).await;
        // A quarter of the kills come while it reads and decides, the others while it sends: some
        // of the writes take effect then, and their answers never come.
        rough.berthing.mischief_on_writes(&[Mischief::DoAndClose]);
        if round % 4 > 0 {
            rough.berthing.delay(Duration::from_millis(40));
            rough.until_sending(&http, &id).await;
        }
        tokio::time::sleep(Duration::from_millis(random.random_range(0..120))).await;
        rough.service.running.kill();
        rough.berthing.delay(Duration::ZERO);
        rough.service = Service::start(&rough.folder.path().join("data"));
        let ended = ended(&http, &rough.service, &id)
            .await
            .unwrap_or_else(|| panic!("seed {seed}, round {round}: the run does not continue"));
        // What was stopped before it was decided is started again, as it says.
        if ended["state"] == "done" {
            caught += 1;
        }
        let again = rough.service.client(&["run"]);
        assert!(
            again.status.success(),
            "seed {seed}, round {round}: {}",
            text(&again)
        );
        let undisturbed = calm.service.client(&["run"]);
        assert!(undisturbed.status.success(), "{}", text(&undisturbed));
        assert_eq!(
            held(&rough.berthing),
            held(&calm.berthing),
            "seed {seed}, round {round}"
        );
        rough.berthing.take_writes();
        said(&rough.service, &["run"], 0);
        assert_eq!(
            rough.berthing.take_writes(),
            Vec::<String>::new(),
            "seed {seed}, round {round}: it is at rest"
        );
    }
    assert!(
        caught * 2 >= kills,
        "{caught} of {kills} kills hit a run that was being carried out"
    );
    assert_eq!(rough.service.json(&["journal", "check"])["is_intact"], true);
}

/// A shutdown waits for requests in flight, but not for ever.
#[tokio::test(flavor = "multi_thread")]
async fn the_service_stops_in_time_although_a_target_does_not_answer() {
    let Run {
        folder: _folder,
        data,
        harbour: _harbour,
        berthing,
        mut service,
        before,
        http,
        id,
    } = run_of(60).await;
    eventually(PATIENCE, async || {
        (states(&http, &service, &id).await.1 >= 3).then_some(())
    })
    .await
    .expect("changes are sent");
    berthing.delay(Duration::from_secs(120));
    eventually(PATIENCE, async || (berthing.delayed() > 0).then_some(()))
        .await
        .expect("a request waits");
    let begun = std::time::Instant::now();
    let ended = tokio::task::block_in_place(|| service.running.terminate());
    assert!(ended.success(), "{ended}");
    assert!(
        begun.elapsed() < Duration::from_secs(20),
        "it took {:?}",
        begun.elapsed()
    );
    berthing.delay(Duration::ZERO);
    let service = Service::start(&data);
    everything_was_done_once(&http, service, &id, &berthing, before).await;
}
