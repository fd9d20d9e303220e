//! What needs attention is what is so now: open access, people on hold, files that were refused,
//! systems that do not answer.
#![allow(clippy::disallowed_methods, reason = "tests run in real time")]

#[allow(dead_code)]
mod common;

use common::fed::Season;
use jiff::Timestamp;
use tide_core::HoldCause;
use tide_core::states::{AttentionKind, DecisionAnswer, Severity};
use tide_engine::{Attention, Health, Plan, Schedule, SystemUpdate};
use tide_standins::scim_service::Mischief;
use tide_store::{HoldFilter, HoldRow};

const RULES: [(&str, &str); 5] = [
    (
        "identities.toml",
        "[person]\nlabel = \"name\"\n[person.attributes]\nnumber = { required = true, unique = true }\nname = {}\nmail = { required = true }\nends = {}\n",
    ),
    (
        "roster.toml",
        "system = \"roster\"\n[person.inbound]\nnumber = 'account.number'\nname = 'account.name'\nmail = 'account.mail'\nends = 'account.end'\n",
    ),
    (
        "berthing.toml",
        "system = \"berthing\"\n[[person.match]]\naccount = 'account.userName'\nidentity = 'identity.mail'\n\
         [person.outbound]\nuserName = 'identity.mail'\ndisplayName = 'identity.name'\n",
    ),
    (
        "lifecycle.toml",
        "[person]\nzone = \"UTC\"\nends = 'identity.ends'\n",
    ),
    (
        "guards.toml",
        "[[guard]]\nsystem = \"berthing\"\nchange = \"disable\"\nmax_count = 2\n",
    ),
];

fn at(text: &str) -> Timestamp {
    text.parse().expect("a moment")
}

struct World {
    season: Season,
    rows: Vec<(String, String, String)>,
}

impl World {
    /// Ten people with accounts, and a service that works by itself.
    async fn start() -> World {
        let season = Season::start(at("2026-06-01T08:00:00Z"), &RULES).await;
        let rows = (1..=10)
            .map(|n| {
                (
                    format!("Crew {n}"),
                    format!("crew{n}@skerry.example"),
                    String::new(),
                )
            })
            .collect();
        let world = World { season, rows };
        world.write();
        world
            .season
            .go(Plan {
                carry_out: true,
                ..Plan::default()
            })
            .await;
        let schedule = Schedule {
            watch: true,
            ..Schedule::default()
        };
        world
            .season
            .engine
            .administration()
            .set_schedule("berthing", &schedule, "tester")
            .await
            .expect("set");
        world
    }

    fn write(&self) {
        let rows: Vec<String> = self
            .rows
            .iter()
            .enumerate()
            .map(|(n, (name, mail, end))| format!("{};{name};{mail};{end}", n + 1))
            .collect();
        let (part, file) = (
            self.season.feed.join("roster.part"),
            self.season.feed.join("roster.csv"),
        );
        std::fs::write(
            &part,
            format!("number;name;mail;end\n{}\n", rows.join("\n")),
        )
        .expect("written");
        std::fs::rename(part, file).expect("moved");
    }

    /// The file is read, and the service does by itself what is to be done.
    async fn news(&self) {
        self.write();
        self.season
            .engine
            .ingest()
            .read_by_name("roster")
            .await
            .expect("read");
        for _ in 0..5 {
            if self
                .season
                .engine
                .runner()
                .run_once()
                .await
                .expect("runs")
                .is_none()
            {
                break;
            }
        }
    }

    async fn attention(&self) -> Vec<Attention> {
        self.season
            .engine
            .overview()
            .attention()
            .await
            .expect("told")
    }

    async fn kinds(&self) -> Vec<(AttentionKind, i64)> {
        self.attention()
            .await
            .iter()
            .map(|one| (one.kind, one.count))
            .collect()
    }

    async fn holds(&self) -> Vec<HoldRow> {
        let all = HoldFilter {
            limit: 100,
            ..HoldFilter::default()
        };
        self.season
            .engine
            .store()
            .list_holds(&all)
            .await
            .expect("listed")
    }
}

#[tokio::test]
async fn leavers_held_by_a_guard_come_first_until_their_access_is_revoked() {
    let mut world = World::start().await;
    assert_eq!(world.attention().await, vec![], "everything is done");
    world
        .rows
        .iter_mut()
        .take(4)
        .for_each(|row| row.2 = "2026-05-31".to_owned());
    world.news().await;
    let all = world.attention().await;
    let told: Vec<_> = all
        .iter()
        .map(|one| (one.kind, one.count, one.kind.severity()))
        .collect();
    assert_eq!(
        told,
        [
            (AttentionKind::OpenAccess, 4, Severity::Critical),
            (AttentionKind::Guard, 4, Severity::Critical)
        ]
    );
    assert_eq!(all[0].names, ["Crew 1", "Crew 2", "Crew 3", "Crew 4"]);
    let decision = world
        .season
        .engine
        .decisions()
        .list_decisions("tester")
        .await
        .expect("listed")
        .remove(0);
    world
        .season
        .engine
        .decisions()
        .answer_decision(&decision.id, DecisionAnswer::Release, "", "tester")
        .await
        .expect("answered");
    world.news().await;
    assert_eq!(
        world.attention().await,
        vec![],
        "it is so now, whatever the last full run said"
    );
    assert_eq!(world.holds().await, vec![]);
    world.season.engine.stop().await;
}

#[tokio::test]
async fn a_joiner_without_a_required_value_is_on_hold_before_any_run() {
    let mut world = World::start().await;
    world
        .rows
        .push(("Väinö".to_owned(), String::new(), String::new()));
    world.news().await;
    assert_eq!(world.kinds().await, [(AttentionKind::OnHold, 1)]);
    let holds = world.holds().await;
    let [hold] = holds.as_slice() else {
        panic!("{holds:?}")
    };
    assert_eq!(
        (hold.label.as_str(), hold.cause, hold.is_kept),
        ("Väinö", HoldCause::MissingValue, false)
    );
    assert!(hold.reason.to_string().contains("mail"), "{hold:?}");
    assert_eq!(hold.since.get(..16), Some("2026-06-01T08:00"));
    // It is the same hold on the next day, also after a preview and a run about everybody.
    world.season.clock.to(at("2026-06-02T08:00:00Z"));
    world.season.go(Plan::default()).await;
    world
        .season
        .go(Plan {
            carry_out: true,
            ..Plan::default()
        })
        .await;
    assert_eq!(world.holds().await, holds);
    // The value comes: nobody is on hold.
    world.rows[10].1 = "vaino@skerry.example".to_owned();
    world.news().await;
    assert_eq!((world.kinds().await, world.holds().await), (vec![], vec![]));
    world.season.engine.stop().await;
}

#[tokio::test]
async fn health_follows_reads_and_writes_and_not_only_tests() {
    let mut world = World::start().await;
    let engine = world.season.engine.clone();
    let health = async |name: &str| {
        let row = engine.store().find_system(name).await.expect("there");
        engine
            .overview()
            .health(&row, &engine.store().last_readings().await.expect("read"))
    };
    assert_eq!(
        (health("roster").await, health("berthing").await),
        (Health::Healthy, Health::Healthy)
    );
    // A file that is refused.
    let all = world.rows.clone();
    world.rows.truncate(3);
    world.write();
    engine.ingest().read_by_name("roster").await.expect("read");
    assert!(
        health("roster")
            .await
            .reason()
            .is_some_and(|reason| reason.contains("fewer")),
        "{:?}",
        health("roster").await
    );
    let told = world.attention().await;
    assert_eq!(
        told.iter()
            .map(|one| (one.kind, one.system.as_deref()))
            .collect::<Vec<_>>(),
        [(AttentionKind::ReadFailed, Some("roster"))]
    );
    world.rows = all;
    world.news().await;
    assert_eq!(health("roster").await, Health::Healthy);
    // A target that lets us in no more, though its last test passed.
    world
        .season
        .berthing
        .mischief_on_writes(&[Mischief::Refuse]);
    world.rows[0].0 = "Crew One".to_owned();
    world.news().await;
    assert_eq!(health("berthing").await.as_str(), "unreachable");
    let kinds = world.kinds().await;
    assert_eq!(
        kinds,
        [
            (AttentionKind::Unreachable, 1),
            (AttentionKind::RetriedLater, 1)
        ]
    );
    engine
        .administration()
        .set_system(
            "berthing",
            SystemUpdate {
                paused: Some(true),
                ..SystemUpdate::default()
            },
            "tester",
        )
        .await
        .expect("paused");
    assert_eq!(health("berthing").await, Health::Paused);
    engine.stop().await;
}
