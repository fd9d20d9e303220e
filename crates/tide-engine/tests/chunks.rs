//! Full decisions in chunks come to the same as decisions at once, for previews, runs and answers.
#![allow(clippy::disallowed_methods, reason = "tests run in real time")]

#[allow(dead_code)] // Each test uses a part of it.
mod common;

use common::fed::Season;
use jiff::Timestamp;
use std::collections::BTreeSet;
use std::fmt::Write as _;
use tide_core::ObjectType;
use tide_core::states::ScopeStatus;
use tide_engine::Plan;
use tide_store::OutcomeFilter;

const RULES: [(&str, &str); 3] = [
    (
        "identities.toml",
        "[person]\nlabel = \"number\"\n[person.attributes]\nnumber = { required = true, unique = true }\nname = {}\n\
         boss = { reference = \"person\", by = \"number\" }\n\
         [person.attributes.login]\ngenerated = ['identity.name', 'identity.name + text(identity.attempt)']\nunique_in = [\"berthing.userName\"]\n\
         [person.attributes.side]\ndistribute = [\"port\", \"starboard\", \"bow\"]\nstrategy = \"round_robin\"\n",
    ),
    (
        "roster.toml",
        "system = \"roster\"\n[[person.match]]\naccount = 'account.number'\nidentity = 'identity.number'\n[person.inbound]\nnumber = 'account.number'\n\
         name = 'account.name'\nboss = 'account.boss'\n",
    ),
    (
        "berthing.toml",
        "system = \"berthing\"\n[[person.match]]\naccount = 'account.displayName'\nidentity = 'identity.number'\n[person.outbound]\n\
         userName = { value = 'identity.login', required = true }\ndisplayName = 'identity.number'\ntitle = 'identity.side'\nactive = 'identity.stage == \"active\"'\n",
    ),
];

/// Few names for many people, whose bosses come later in the file.
fn write(season: &Season, numbers: impl Iterator<Item = (u32, &'static str)>) {
    let mut text = "number;name;boss\n".to_owned();
    for (number, name) in numbers {
        let _ = writeln!(text, "{number};{name};{}", 1000 + (number * 7) % 60);
    }
    std::fs::write(season.feed.join("roster.csv"), text).expect("written");
}

fn name(number: u32) -> &'static str {
    ["ada", "bo", "cy", "di"][number as usize % 4]
}

/// What the service has: number, login and side of each person.
async fn served(season: &Season) -> BTreeSet<[String; 3]> {
    let population = season.engine.store().load_population().await;
    let accounts = population.expect("read").accounts.into_iter();
    let values = |account: tide_core::Account| {
        ["displayName", "userName", "title"].map(|name| {
            let value = account.attributes.get(name).first();
            value.map(ToString::to_string).unwrap_or_default()
        })
    };
    let served = accounts.filter(|account| account.system == "berthing");
    served.map(values).collect()
}

fn plan(carry_out: bool) -> Plan {
    Plan {
        carry_out,
        ..Plan::default()
    }
}

/// A preview and a run: their verdicts and changes, and what the service has then.
async fn told(season: &Season) -> impl std::fmt::Debug + PartialEq + use<> {
    let preview = season.go(plan(false)).await;
    let shown: BTreeSet<_> = season.changes(&preview).await.into_iter().collect();
    let run = season.go(plan(true)).await;
    let sent: BTreeSet<_> = season.changes(&run).await.into_iter().collect();
    (
        preview.verdicts,
        run.verdicts,
        shown,
        sent,
        served(season).await,
    )
}

#[tokio::test(flavor = "multi_thread")]
async fn decisions_in_chunks_come_to_the_same_as_at_once() {
    let noon: Timestamp = "2026-11-23T12:00:00Z".parse().expect("valid");
    let mut seasons = Vec::new();
    for chunk_size in [None, Some(9)] {
        let mut season = Season::start(noon, &RULES).await;
        season.chunk_size = chunk_size;
        season.restart(|_| ()).await;
        write(&season, (1000..1060).map(|number| (number, name(number))));
        seasons.push(season);
    }
    let (first, second) = (told(&seasons[0]).await, told(&seasons[1]).await);
    assert_eq!(first, second, "all are new");
    assert_eq!(served(&seasons[1]).await.len(), 60);
    // Some leave, others come, and one of those who stay has another boss.
    for season in &mut seasons {
        season.restart(|_| ()).await;
        let stay = (1005..1060).chain(2000..2010);
        write(season, stay.map(|number| (number, name(number))));
        season.engine.ingest().read_all().await.expect("read");
        // An answer decides about all first, and stores nothing of it: the run after it does.
        let filter = OutcomeFilter {
            limit: 1_000,
            ..OutcomeFilter::default()
        };
        let views = season.engine.views();
        let scope = views
            .show_scope("roster", ObjectType::Person, &filter, "")
            .await;
        let scope = scope.expect("shown");
        let inside = scope
            .lines
            .iter()
            .filter(|line| line.status == ScopeStatus::In);
        assert!(inside.count() >= 65, "{:?}", scope.counts);
    }
    let (first, second) = (told(&seasons[0]).await, told(&seasons[1]).await);
    assert_eq!(first, second, "joiners and leavers");
    assert_eq!(served(&seasons[1]).await.len(), 70);
    let again = seasons[1].go(plan(true)).await;
    assert!(seasons[1].changes(&again).await.is_empty(), "all is done");
}
