//! What somebody is given beside an account, on a running service with a feed and a SCIM service:
//! groups that are pruned or only told, memberships that are kept for a while, seats, welcomes that
//! wait for one, and places among several.
#![allow(clippy::disallowed_methods, reason = "tests run in real time")]
#![allow(clippy::unwrap_used)]

mod common;

use common::{Service, client, holds, http, said, text};
use jiff::civil::Date;
use jiff::{ToSpan, Zoned};
use serde_json::{Value, json};
use std::collections::BTreeMap;
use std::fmt::Write as _;
use std::path::PathBuf;
use tide_standins::scim_service::ScimService;

const RULES: [(&str, &str); 6] = [
    (
        "identities.toml",
        r#"
[person]
label = "name"
[person.attributes]
number = { required = true, unique = true }
name = {}
team = {}
ends = {}
boss = { reference = "person", by = "number" }
[person.attributes.side]
distribute = ["port", "starboard", "stern"]
[person.attributes.boat]
distribute = ["first boat", "second boat"]
strategy = "round_robin"
"#,
    ),
    (
        "roster.toml",
        r#"
system = "roster"
[[person.match]]
account = 'account.number'
identity = 'identity.number'
[person.inbound]
number = 'account.number'
name = '"Hand " + account.number'
team = 'account.team'
ends = 'account.ends'
boss = 'account.boss'
"#,
    ),
    (
        "berthing.toml",
        r#"
system = "berthing"
[person]
on_drift = "report"
[[person.match]]
account = 'account.userName'
identity = 'identity.number'
[person.outbound]
userName = 'identity.number'
active = 'true'
title = 'identity.side'
nickName = 'identity.boat'
[[person.membership]]
groups = 'identity.team'
remove_unmanaged = ["Watch"]
[[person.departure]]
step = "disable"
[[person.departure]]
step = "revoke"
after_days = 3
"#,
    ),
    ("lifecycle.toml", "[person]\nends = 'identity.ends'\n"),
    (
        "licenses.toml",
        "[[license]]\nname = \"berths\"\nsystem = \"berthing\"\nseats = 8\nconsumed_when = 'account.active == true'\nassign_order = 'identity.number'\n",
    ),
    (
        "notifications.toml",
        r#"
[[notification]]
name = "welcome"
on = "arrived"
recipient = "boss"
text = '"Please welcome " + identity.name'
[[notification]]
name = "no berth"
on = "no_seat"
text = 'identity.name + " has no berth"'
"#,
    ),
];

struct Yard {
    _folder: tempfile::TempDir,
    roster: PathBuf,
    berthing: ScimService,
    service: Service,
    deck: String,
    watch: String,
}

impl Yard {
    async fn start() -> Yard {
        let folder = tempfile::tempdir().unwrap();
        let data = folder.path().join("data");
        let service = Service::start(&data);
        let berthing = ScimService::start(Vec::new(), "berth-token").await.unwrap();
        let (deck, watch) = (
            berthing.add_group("Deck", &[]),
            berthing.add_group("Watch", &[]),
        );
        let roster = data.join("feeds/crew.csv");
        std::fs::write(&roster, "number;team;ends;boss\n1;Deck;;1\n").unwrap();
        let path = roster.to_str().unwrap();
        said(
            &service,
            &[
                "systems", "add", "roster", "--kind", "feed", "--path", path, "--key", "number",
                "--as", "source",
            ],
            0,
        );
        let add = [
            "systems",
            "add",
            "berthing",
            "--kind",
            "scim",
            "--address",
            &berthing.url,
            "--as",
            "target",
        ];
        let added = client(&service.url, &service.token, &add, "berth-token");
        assert!(added.status.success(), "{}", text(&added));
        let rules = folder.path().join("rules");
        std::fs::create_dir_all(&rules).unwrap();
        for (name, text) in RULES {
            std::fs::write(rules.join(name), text).unwrap();
        }
        said(&service, &["rules", "publish", rules.to_str().unwrap()], 0);
        said(
            &service,
            &["systems", "set", "berthing", "--writable", "person,group"],
            0,
        );
        said(&service, &["systems", "arm", "berthing"], 0);
        Yard {
            _folder: folder,
            roster,
            berthing,
            service,
            deck,
            watch,
        }
    }

    /// The roster: all in the deck's team, some with the day on which they end.
    fn hands(&self, count: u32, ends: &[(u32, Date)]) {
        let mut lines = "number;team;ends;boss\n".to_owned();
        for number in 1..=count {
            let end = ends
                .iter()
                .find(|(who, _)| *who == number)
                .map(|(_, end)| end.to_string())
                .unwrap_or_default();
            let _ = writeln!(lines, "{number};Deck;{end};1");
        }
        std::fs::write(&self.roster, lines).unwrap();
    }

    /// Runs a few times: what waits for a seat goes when one is free, and a welcome is told when
    /// all is done.
    fn rest(&self) {
        for _ in 0..4 {
            let output = self.service.client(&["run"]);
            // 3 says that something is held.
            assert!(
                matches!(output.status.code(), Some(0 | 3)),
                "{}",
                text(&output)
            );
        }
    }

    fn id(&self, number: u32) -> String {
        self.berthing
            .user(&number.to_string())
            .unwrap_or_else(|| panic!("{number} has no account"))["id"]
            .as_str()
            .unwrap()
            .to_owned()
    }

    fn members(&self, group: &str) -> Vec<String> {
        let groups = self.berthing.groups();
        let group = groups.iter().find(|one| one["id"] == group).unwrap();
        group["members"]
            .as_array()
            .into_iter()
            .flatten()
            .map(|one| one["value"].as_str().unwrap().to_owned())
            .collect()
    }

    /// Somebody changes a group there by hand.
    async fn by_hand(&self, group: &str, operation: Value) {
        let body = json!({"schemas": ["urn:ietf:params:scim:api:messages:2.0:PatchOp"], "Operations": [operation]});
        let url = format!("{}/Groups/{group}", self.berthing.url);
        let request = http()
            .patch(url)
            .bearer_auth("berth-token")
            .header("content-type", "application/scim+json");
        assert!(
            request
                .body(body.to_string())
                .send()
                .await
                .unwrap()
                .status()
                .is_success()
        );
    }

    /// How many hold each value of an attribute there.
    fn counts(&self, attribute: &str) -> BTreeMap<String, usize> {
        let mut counts = BTreeMap::new();
        for user in self.berthing.users() {
            *counts
                .entry(user[attribute].as_str().unwrap_or_default().to_owned())
                .or_default() += 1;
        }
        counts
    }

    fn told(&self, event: &str) -> Vec<String> {
        let told = self.service.json(&["notifications"]);
        let all = told
            .as_array()
            .unwrap()
            .iter()
            .filter(|one| one["event"] == event);
        all.map(|one| one["text"].as_str().unwrap().to_owned())
            .collect()
    }
}

/// Nine hands for eight berths, after all runs.
async fn yard_of_nine() -> Yard {
    let yard = Yard::start().await;
    yard.hands(9, &[]);
    yard.rest();
    yard
}

#[tokio::test(flavor = "multi_thread")]
async fn eight_get_a_berth_and_the_ninth_waits_without_a_welcome() {
    let yard = yard_of_nine().await;
    assert_eq!(yard.berthing.count(), 8);
    assert!(yard.berthing.user("9").is_none());
    assert_eq!(yard.members(&yard.deck).len(), 8);
    assert_eq!(yard.told("no_seat"), ["Hand 9 has no berth"]);
    let welcomed = yard.told("arrived");
    assert!(
        welcomed.len() == 8 && !welcomed.contains(&"Please welcome Hand 9".to_owned()),
        "{welcomed:?}"
    );
    holds(
        &said(&yard.service, &["licenses", "berths"], 0),
        &["8", "Hand 9"],
    );
}

/// One attribute by the value that the fewest have, the other in turn.
#[tokio::test(flavor = "multi_thread")]
async fn values_are_assigned_evenly_and_newcomers_move_nobody() {
    let yard = yard_of_nine().await;
    assert!(
        yard.counts("title")
            .values()
            .all(|count| (2..=3).contains(count))
            && yard.counts("title").len() == 3,
        "{:?}",
        yard.counts("title")
    );
    let all = yard.service.json(&["identities", "list"]);
    let mut boats: BTreeMap<&str, usize> = BTreeMap::new();
    for one in all.as_array().unwrap() {
        let shown = yard
            .service
            .json(&["identities", "show", one["id"].as_str().unwrap()])
            .to_string();
        let theirs = ["first boat", "second boat"]
            .into_iter()
            .find(|boat| shown.contains(boat))
            .unwrap();
        *boats.entry(theirs).or_default() += 1;
    }
    assert_eq!(
        boats.values().copied().collect::<Vec<_>>(),
        [5, 4],
        "nine in turn over two: {boats:?}"
    );

    let before = yard.counts("title");
    yard.hands(10, &[]);
    yard.rest();
    let after = yard.counts("title");
    assert!(
        before.iter().all(|(side, count)| after[side] >= *count),
        "{before:?} {after:?}"
    );
}

/// A hand and a stranger are added to the pruned group by hand, and another hand is removed from the
/// deck: the first is removed again, the latter is only reported.
#[tokio::test(flavor = "multi_thread")]
async fn groups_are_pruned_or_their_drift_is_reported() {
    let yard = yard_of_nine().await;
    let stranger = json!({"op": "add", "path": "members", "value": [{"value": yard.id(3)}, {"value": "stranger"}]});
    yard.by_hand(&yard.watch, stranger).await;
    yard.by_hand(
        &yard.deck,
        json!({"op": "remove", "path": format!("members[value eq \"{}\"]", yard.id(4))}),
    )
    .await;
    let preview = said(&yard.service, &["preview"], 0);
    holds(&preview, &["leaves Watch", "unmanaged members are removed"]);
    yard.rest();
    assert_eq!(
        yard.members(&yard.watch),
        ["stranger"],
        "an unknown member is not removed"
    );
    assert!(
        !yard.members(&yard.deck).contains(&yard.id(4)),
        "reported, and not repaired"
    );
    let why = said(&yard.service, &["why", "Hand 4"], 0);
    holds(&why, &["Deck", "drift"]);
}

/// One left yesterday and keeps their groups for three days; another left ten days ago, which is
/// known only now, and loses them at once. Of the two free seats, the ninth gets one.
#[tokio::test(flavor = "multi_thread")]
async fn leavers_keep_their_groups_as_long_as_the_rule_says_and_free_their_seats() {
    let yard = yard_of_nine().await;
    let today = Zoned::now().date();
    yard.hands(9, &[(5, today - 1.day()), (6, today - 10.days())]);
    let (kept, lost) = (yard.id(5), yard.id(6));
    yard.rest();
    let active = |number: &str| yard.berthing.user(number).unwrap()["active"] == true;
    assert!(!active("5") && !active("6") && active("9"));
    let members = yard.members(&yard.deck);
    assert!(
        members.contains(&kept) && !members.contains(&lost) && members.contains(&yard.id(9)),
        "{members:?}"
    );
    assert!(
        yard.told("arrived")
            .contains(&"Please welcome Hand 9".to_owned()),
        "{:?}",
        yard.told("arrived")
    );
    let later = yard
        .service
        .json(&["preview", "--as-of", &(today + 4.days()).to_string()]);
    let changes = said(
        &yard.service,
        &["changes", "export", &later["id"].to_string()],
        0,
    );
    let revoked = changes
        .lines()
        .filter(|line| line.contains("revoke") && line.contains("Hand 5"))
        .count();
    assert_eq!(revoked, 1, "{changes}");
}
