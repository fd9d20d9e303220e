//! The records over their life: accounts, identities, links, change sets and the queue.
#![allow(clippy::disallowed_methods, reason = "tests run in real time")]

use jiff::Timestamp;
use tide_core::compare::ValueChange;
use tide_core::decide::{Change, Decided, NewLink, Verdict};
use tide_core::model::{MatchAnswer, MatchDecision, Observed, ReservedValue};
use tide_core::rules::RuleFile;
use tide_core::states::{
    ChangeKind, ChangeSetKind, ChangeSetState, ChangeState, LinkBasis, LinkOrigin, SystemKind,
};
use tide_core::{Attributes, Identity, ObjectType, Place, Reason, ReasonKind, Stage, Value};
use tide_store::{ChangeBatch, DraftEdit, NewPassword, PasswordOwner};
use tide_store::{
    ChangeFilter, GuardWindow, IdentityUpdates, MasterKey, NewAnswer, NewApproval, NewChangeSet,
    NewOverride, Settled, Store, StoreError, SyncCursor as Followed,
};

struct Records {
    folder: tempfile::TempDir,
    store: Store,
}

fn at(second: i64) -> Timestamp {
    Timestamp::from_second(second).expect("in range")
}

fn record(pairs: &[(&str, &str)]) -> Attributes {
    pairs
        .iter()
        .map(|(name, value)| ((*name).to_owned(), vec![Value::text(*value)]))
        .collect()
}

fn observed(key: &str, pairs: &[(&str, &str)]) -> Observed {
    Observed {
        key: key.into(),
        name: format!("name of {key}"),
        attributes: record(pairs),
        fault: None,
        version: None,
        is_exact: true,
    }
}

fn identity(id: &str, name: &str, stage: Stage) -> (Identity, String) {
    let attributes = record(&[("name", name), ("mail", &format!("{id}@skerry.example"))]);
    (
        Identity {
            id: id.into(),
            kind: ObjectType::Person,
            attributes,
            stage,
            since: None,
            kept_roles: Default::default(),
        },
        name.to_owned(),
    )
}

fn change(identity: &str, kind: ChangeKind, account: Option<i64>, hold: bool) -> Change {
    Change {
        system: "berthing".into(),
        object: ObjectType::Person,
        identity: identity.into(),
        account,
        label: format!("Person {identity}"),
        kind,
        values: vec![ValueChange {
            attribute: "title".into(),
            before: vec![],
            after: vec![Value::text("Mate")],
            rule: Place::default(),
            later: Vec::new(),
        }],
        reason: Reason::new(ReasonKind::InSync),
        hold: hold.then(|| Reason::new(ReasonKind::LinkOnly)),
        approval: None,
        claims: Vec::new(),
        step: 0,
        fingerprint: format!("{identity}-{kind}"),
    }
}

fn line(label: &str, verdict: Verdict) -> Decided {
    Decided {
        system: "berthing".into(),
        object: ObjectType::Person,
        identity: None,
        account: None,
        label: label.into(),
        verdict,
        reason: Reason::by(
            ReasonKind::InSync,
            &Place {
                file: "berthing.toml".into(),
                line: 3,
                column: 1,
            },
        ),
        unmatched: None,
    }
}

impl Records {
    /// Stores a person who is linked to the first account.
    async fn keep_linked_person(&self) {
        let link = NewLink {
            account: 1,
            identity: "i1".into(),
            basis: LinkBasis::new(LinkOrigin::MatchRule, "rule"),
            source: false,
        };
        let updates = IdentityUpdates {
            identities: vec![identity("i1", "Ada", Stage::Active)],
            links: vec![link],
            ..IdentityUpdates::default()
        };
        self.keep(updates, 20).await;
    }

    async fn new() -> Records {
        let folder = tempfile::tempdir().expect("a folder");
        let store = Store::open(&folder.path().join("tide.db"), MasterKey::generate())
            .await
            .expect("opens");
        for (name, kind) in [
            ("harbour", SystemKind::Ldap),
            ("berthing", SystemKind::Scim),
        ] {
            store
                .add_system(
                    name,
                    kind,
                    &serde_json::json!({"url": "x"}),
                    "tester",
                    at(0),
                )
                .await
                .expect("added");
        }
        Records { folder, store }
    }

    async fn read(
        &self,
        system: &str,
        object: ObjectType,
        second: i64,
        accounts: Vec<Observed>,
    ) -> u64 {
        let reading = self
            .store
            .begin_reading(system, object, at(second))
            .await
            .expect("begins");
        self.store
            .store_batch(reading, system, object, at(second), accounts)
            .await
            .expect("kept");
        self.store
            .complete_reading(reading, Vec::new(), at(second + 1))
            .await
            .expect("ends")
    }

    async fn run(&self, decided: Vec<Decided>, changes: Vec<Change>) -> i64 {
        let id = self
            .store
            .begin_change_set(ChangeSetKind::Run, "tester", None, at(50))
            .await
            .expect("begins");
        let set = NewChangeSet {
            kind: ChangeSetKind::Run,
            rule_version: 1,
            principal: "tester".into(),
            preview: None,
            whole: true,
            as_of: None,
            unread: Vec::new(),
            note: None,
            decided,
            changes,
        };
        self.store
            .fill_change_set(id, set, at(51))
            .await
            .expect("filled");
        id
    }

    async fn changes(&self, id: i64, word: Option<&str>) -> Vec<tide_store::ChangeRow> {
        let filter = ChangeFilter {
            word: word.map(str::to_owned),
            limit: 100,
            ..ChangeFilter::default()
        };
        self.store.list_changes(id, &filter).await.expect("read")
    }
    async fn keep(&self, updates: IdentityUpdates, second: i64) {
        self.store
            .keep_identities(updates, "tester", at(second))
            .await
            .expect("kept");
    }

    /// The first value of an attribute of an account, as text.
    async fn value(&self, account: i64, attribute: &str) -> Option<String> {
        let account = self.store.find_account(account).await.expect("read");
        let first = account.attributes.get(attribute).first();
        first.map(ToString::to_string)
    }

    async fn settle(&self, row: &tide_store::ChangeRow, account: Observed, second: i64) {
        let settled = Settled {
            account,
            normalized: vec![],
            merged: vec![],
            note: None,
        };
        self.store
            .settle_done(row, settled, "tester", at(second))
            .await
            .expect("settled");
    }

    /// An update of the account 1 that was sent and confirmed.
    async fn write(&self, account: Observed, second: i64) {
        let update = change("i1", ChangeKind::Update, Some(1), false);
        let run = self.run(vec![], vec![update]).await;
        let row = self.changes(run, None).await.remove(0);
        self.settle(&row, account, second).await;
    }

    /// Accounts that a watched system reports. Returns those that differ from what is stored.
    async fn watch(&self, states: Vec<Observed>, second: i64) -> Vec<i64> {
        let batch = ChangeBatch {
            keeps_previous: true,
            ..ChangeBatch::new("berthing", ObjectType::Person, states, vec![])
        };
        self.store
            .store_changes(batch, at(second))
            .await
            .expect("queued")
            .await
            .expect("kept")
    }

    async fn acts(&self, identity: Option<&str>) -> Vec<String> {
        let entries = self.store.list_journal(identity, None, 50).await;
        entries
            .expect("read")
            .into_iter()
            .map(|entry| entry.act)
            .collect()
    }
}

fn update_of(id: &str) -> Decided {
    Decided {
        identity: Some(id.into()),
        ..line(id, Verdict::Update)
    }
}

/// A run about three people: one change failed, one was canceled.
async fn run_with_a_failure(records: &Records) -> i64 {
    let store = &records.store;
    let changes = vec![
        change("i1", ChangeKind::Update, Some(1), false),
        change("i2", ChangeKind::Update, Some(2), false),
    ];
    let decided = ["i1", "i2", "i3"].map(update_of).to_vec();
    let run = records.run(decided, changes).await;
    let rows = records.changes(run, None).await;
    store
        .claim_for_sending(rows.iter().map(|row| row.id).collect(), at(60))
        .await
        .expect("marked");
    store
        .record_failed(
            rows[0].id,
            "the title is too long",
            "shorten it",
            false,
            at(61),
        )
        .await
        .expect("noted");
    store
        .record_not_done(rows[1].id, ChangeState::Canceled, "taken back", "", at(62))
        .await
        .expect("noted");
    run
}

#[tokio::test]
async fn a_run_shows_the_outcome_of_each_line() {
    let records = Records::new().await;
    let run = run_with_a_failure(&records).await;
    let lines = async |state: Option<ChangeState>| {
        let filter = ChangeFilter {
            state,
            limit: 10,
            ..ChangeFilter::default()
        };
        records
            .store
            .list_outcomes(run, &filter)
            .await
            .expect("read")
    };
    let outcomes: Vec<_> = lines(None)
        .await
        .into_iter()
        .map(|line| (line.decided.label, line.outcome))
        .collect();
    let expected = [
        ("i1", Some(ChangeState::Failed)),
        ("i2", Some(ChangeState::Canceled)),
        ("i3", None),
    ];
    assert_eq!(
        outcomes,
        expected.map(|(label, outcome)| (label.to_owned(), outcome))
    );
    let failed = lines(Some(ChangeState::Failed)).await;
    assert_eq!(failed.len(), 1);
    assert_eq!(
        (failed[0].error.as_deref(), failed[0].remedy.as_deref()),
        (Some("the title is too long"), Some("shorten it"))
    );
}

#[tokio::test]
async fn runs_are_listed_page_by_page_and_by_failure() {
    let records = Records::new().await;
    let run = run_with_a_failure(&records).await;
    let next = records.run(vec![update_of("i1")], Vec::new()).await;
    let ids = async |before, kind, failed| {
        let sets = records
            .store
            .change_sets(before, kind, failed, 1)
            .await
            .expect("listed");
        sets.into_iter().map(|set| set.id).collect::<Vec<_>>()
    };
    assert_eq!(
        (
            ids(None, None, false).await,
            ids(Some(next), None, false).await
        ),
        (vec![next], vec![run])
    );
    assert_eq!(
        (
            ids(None, None, true).await,
            ids(None, Some(ChangeSetKind::Preview), false).await
        ),
        (vec![run], vec![])
    );
}

#[tokio::test]
async fn what_we_wrote_masks_an_older_read() {
    let records = Records::new().await;
    records
        .read(
            "berthing",
            ObjectType::Person,
            10,
            vec![observed("b1", &[("title", "Old")])],
        )
        .await;
    records.keep_linked_person().await;
    let run = records
        .run(
            vec![],
            vec![change("i1", ChangeKind::Update, Some(1), false)],
        )
        .await;
    let row = records.changes(run, None).await.remove(0);
    records
        .store
        .claim_for_sending(vec![row.id], at(60))
        .await
        .expect("marked");
    records
        .settle(&row, observed("b1", &[("title", "Mate")]), 61)
        .await;

    // A reading that began before the write shows what was there before it.
    let stale = records
        .store
        .begin_reading("berthing", ObjectType::Person, at(55))
        .await
        .expect("begins");
    records
        .store
        .store_batch(
            stale,
            "berthing",
            ObjectType::Person,
            at(55),
            vec![observed("b1", &[("title", "Old")])],
        )
        .await
        .expect("kept");
    assert_eq!(records.value(1, "title").await.as_deref(), Some("Mate"));
    // Nor does a stale reading that missed it make it absent.
    let stale = records
        .store
        .begin_reading("berthing", ObjectType::Person, at(56))
        .await
        .expect("begins");
    let missing = records
        .store
        .complete_reading(stale, Vec::new(), at(70))
        .await;
    assert_eq!(missing.expect("ends"), 0);
    // A later one counts.
    records
        .read(
            "berthing",
            ObjectType::Person,
            80,
            vec![observed("b1", &[("title", "By hand")])],
        )
        .await;
    assert_eq!(records.value(1, "title").await.as_deref(), Some("By hand"));
}

/// The account `b1` in a version, where the system gives one.
fn versioned(title: &str, version: Option<&str>) -> Observed {
    Observed {
        version: version.map(Into::into),
        ..observed("b1", &[("title", title)])
    }
}

/// Content synchronization reports each state of an entry, and late: also those that our own writes
/// have replaced. Without a version, the last of the states that come together counts.
#[tokio::test]
async fn without_versions_the_last_reported_state_counts() {
    let records = Records::new().await;
    let old = vec![versioned("Old", None)];
    records.read("berthing", ObjectType::Person, 10, old).await;
    records.write(versioned("Mate", None), 20).await;
    let reported = vec![versioned("On the way", None), versioned("Mate", None)];
    assert!(
        records.watch(reported, 21).await.is_empty(),
        "our own echo is no news"
    );
    assert_eq!(records.value(1, "title").await.as_deref(), Some("Mate"));
}

/// With versions, an older state is ignored, whenever and in whatever order it arrives.
#[tokio::test]
async fn late_events_do_not_replace_newer_states() {
    let records = Records::new().await;
    let title = async || records.value(1, "title").await;
    let old = vec![versioned("Old", None)];
    records.read("berthing", ObjectType::Person, 10, old).await;
    records.write(versioned("Bosun", Some("07")), 30).await;
    let late = vec![versioned("Mate", Some("05"))];
    assert!(records.watch(late, 31).await.is_empty());
    let reported = vec![
        versioned("Bosun", Some("07")),
        versioned("On the way", Some("06")),
    ];
    assert!(records.watch(reported, 32).await.is_empty());
    assert_eq!(title().await.as_deref(), Some("Bosun"));
    let newer = vec![versioned("By hand", Some("09"))];
    assert_eq!(records.watch(newer, 33).await, [1]);
    // The answer to our own write comes after the event about a later change.
    records.write(versioned("Cook", Some("08")), 34).await;
    assert_eq!(title().await.as_deref(), Some("By hand"));
}

/// A full read that began before the last write shows the past, unless its version is newer. One
/// that begins later counts also when the system was restored from a backup.
#[tokio::test]
async fn a_full_read_counts_by_its_start_and_its_versions() {
    let records = Records::new().await;
    let (store, person) = (&records.store, ObjectType::Person);
    let title = async || records.value(1, "title").await;
    let by_hand = vec![versioned("By hand", Some("09"))];
    records.read("berthing", person, 10, by_hand).await;
    records.write(versioned("By hand", Some("09")), 34).await;
    let early = store
        .begin_reading("berthing", person, at(32))
        .await
        .expect("begins");
    store
        .store_batch(
            early,
            "berthing",
            person,
            at(32),
            vec![versioned("Bosun", Some("07"))],
        )
        .await
        .expect("kept");
    assert_eq!(title().await.as_deref(), Some("By hand"));
    store
        .store_batch(
            early,
            "berthing",
            person,
            at(32),
            vec![versioned("Purser", Some("10"))],
        )
        .await
        .expect("kept");
    assert_eq!(
        title().await.as_deref(),
        Some("Purser"),
        "it was read after we wrote"
    );
    records
        .read("berthing", person, 80, vec![versioned("Old", Some("01"))])
        .await;
    assert_eq!(title().await.as_deref(), Some("Old"));
}

/// A page of a long reading may be older than what was told of its accounts while it went on.
#[tokio::test]
async fn events_received_during_a_full_read_stay() {
    let records = Records::new().await;
    let (store, person) = (&records.store, ObjectType::Person);
    let both = |title: &str| {
        vec![
            observed("b1", &[("title", title)]),
            observed("b2", &[("title", title)]),
            observed("b3", &[]),
        ]
    };
    records.read("berthing", person, 10, both("Old")).await;
    let reading = store
        .begin_reading("berthing", person, at(20))
        .await
        .expect("begins");
    let changed = vec![observed("b1", &[("title", "Mate")])];
    let deleted = vec!["b3".to_owned()];
    store
        .store_changes(
            ChangeBatch::new("berthing", person, changed, deleted),
            at(21),
        )
        .await
        .expect("queued")
        .await
        .expect("kept");
    store
        .store_batch(reading, "berthing", person, at(20), both("Read before"))
        .await
        .expect("kept");
    assert_eq!(
        store
            .complete_reading(reading, Vec::new(), at(22))
            .await
            .expect("ends"),
        0,
        "it showed them, old as they were"
    );
    let accounts = store.load_population().await.expect("read").accounts;
    let titles: Vec<String> = accounts
        .iter()
        .map(|account| {
            account
                .attributes
                .get("title")
                .iter()
                .map(ToString::to_string)
                .collect()
        })
        .collect();
    assert_eq!(titles, ["Mate", "Read before", ""]);
    assert_eq!(
        accounts
            .iter()
            .map(|account| account.absent_since)
            .collect::<Vec<_>>(),
        [None, None, Some(at(21))]
    );
    // The next reading began after that.
    records.read("berthing", person, 30, both("New")).await;
    assert_eq!(
        store
            .find_account(1)
            .await
            .expect("read")
            .attributes
            .get("title"),
        [Value::text("New")]
    );
    assert_eq!(
        store.find_account(3).await.expect("read").absent_since,
        None,
        "there again"
    );
}

fn group(members: &[String]) -> Observed {
    let members = members
        .iter()
        .map(|name| Value::Reference(name.clone()))
        .collect();
    let attributes = [
        ("cn".to_owned(), vec![Value::text("deck")]),
        ("member".to_owned(), members),
    ]
    .into_iter()
    .collect();
    Observed {
        key: "g1".into(),
        name: "cn=deck".into(),
        attributes,
        fault: None,
        version: None,
        is_exact: true,
    }
}

/// A membership that took effect.
async fn join(records: &Records, identity: &str, members: &[String], there: bool, second: i64) {
    let mut change = change(
        identity,
        if there {
            ChangeKind::Grant
        } else {
            ChangeKind::Revoke
        },
        Some(1),
        false,
    );
    change.object = ObjectType::Group;
    let values = &mut change.values[0];
    values.attribute = "member".into();
    let members: Vec<Value> = members
        .iter()
        .map(|name| Value::Reference(name.clone()))
        .collect();
    (values.before, values.after) = if there {
        (vec![], members)
    } else {
        (members, vec![])
    };
    let run = records.run(vec![], vec![change]).await;
    let row = records.changes(run, None).await.remove(0);
    let settling = tide_store::ChangeResult::membership(row, false, "tester").expect("encodes");
    records
        .store
        .settle_all(std::sync::Arc::new(vec![settling]), at(second))
        .await
        .expect("settled");
}

fn hands() -> Vec<String> {
    (0..40).map(|n| format!("uid=hand{n},dc=x")).collect()
}

/// A group of forty members, and a person. Returns the last dirty record before any change.
async fn records_with_a_group() -> (Records, i64) {
    let records = Records::new().await;
    records
        .read("harbour", ObjectType::Group, 10, vec![group(&hands())])
        .await;
    let updates = IdentityUpdates {
        identities: vec![identity("i1", "Ada", Stage::Active)],
        ..IdentityUpdates::default()
    };
    records.keep(updates, 20).await;
    let seen = records.store.last_dirty().await.expect("read");
    (records, seen)
}

async fn members(records: &Records) -> Vec<String> {
    let group = records.store.find_account(1).await.expect("read");
    let members = group.attributes.get("member").iter();
    members.map(Value::to_string).collect()
}

#[tokio::test]
async fn a_membership_is_stored_beside_its_group() {
    let (records, seen) = records_with_a_group().await;

    join(&records, "i1", &["uid=ada,dc=x".to_owned()], true, 60).await;
    join(&records, "i1", &["UID=hand7, dc=x".to_owned()], false, 61).await;
    assert_eq!(members(&records).await.len(), 40);
    let population = records.store.load_population().await.expect("read");
    assert_eq!(population.accounts[0].attributes.get("member").len(), 40);
    let touched = records
        .store
        .load_preconditions(seen, vec![], true, at(99))
        .await
        .expect("read")
        .touched;
    let told: Vec<(&str, bool)> = touched
        .memberships
        .iter()
        .map(|one| (one.member.as_str(), one.is_member))
        .collect();
    assert_eq!(told, [("uid=ada,dc=x", true), ("uid=hand7,dc=x", false)]);
    assert!(
        touched.records.accounts.is_empty() && touched.records.identities.contains("i1"),
        "{touched:?}"
    );

    // A reading that began before is older, and reverts nothing.
    let stale = records
        .store
        .begin_reading("harbour", ObjectType::Group, at(59))
        .await
        .expect("begins");
    records
        .store
        .store_batch(
            stale,
            "harbour",
            ObjectType::Group,
            at(59),
            vec![group(&hands())],
        )
        .await
        .expect("kept");
    let is = members(&records).await;
    assert_eq!(is.len(), 40);
    assert!(is.contains(&"uid=ada,dc=x".to_owned()) && !is.contains(&"uid=hand7,dc=x".to_owned()));
}

/// The echo of our own change is no news; a change by others is.
#[tokio::test]
async fn a_watched_group_reports_the_memberships_of_others_only() {
    let (records, _) = records_with_a_group().await;
    join(&records, "i1", &["uid=bo,dc=x".to_owned()], true, 63).await;
    let mut shown = hands();
    shown.push("uid=bo,dc=x".to_owned());
    let follow = async |members: &[String], second| {
        records
            .store
            .store_changes(
                ChangeBatch {
                    keeps_previous: true,
                    ..ChangeBatch::new("harbour", ObjectType::Group, vec![group(members)], vec![])
                },
                at(second),
            )
            .await
            .expect("queued")
            .await
            .expect("kept")
    };
    assert!(follow(&shown, 70).await.is_empty());
    shown.pop();
    assert_eq!(follow(&shown, 80).await, [1]);
    assert_eq!(members(&records).await.len(), 40);
}

#[tokio::test]
async fn many_memberships_are_folded_into_their_group() {
    let (records, seen) = records_with_a_group().await;
    let crowd: Vec<String> = (0..1000).map(|n| format!("uid=crowd{n},dc=x")).collect();
    join(&records, "i1", &crowd, true, 90).await;
    let folded = records
        .store
        .load_preconditions(seen, vec![], true, at(99))
        .await
        .expect("read")
        .touched;
    assert!(
        folded.records.accounts.contains(&1),
        "the group is written whole"
    );
    assert_eq!(members(&records).await.len(), 1040);
}

#[tokio::test]
async fn an_account_that_returns_is_the_same_account() {
    let records = Records::new().await;
    records
        .read(
            "harbour",
            ObjectType::Person,
            10,
            vec![observed("p1", &[]), observed("p2", &[])],
        )
        .await;
    assert_eq!(
        records
            .read("harbour", ObjectType::Person, 20, vec![observed("p1", &[])])
            .await,
        1
    );
    assert_eq!(
        records
            .read("harbour", ObjectType::Person, 30, vec![observed("p1", &[])])
            .await,
        0,
        "absent once, not anew at each read"
    );
    let gone = records.store.find_account(2).await.expect("kept");
    assert_eq!(gone.absent_since, Some(at(21)));
    records
        .read(
            "harbour",
            ObjectType::Person,
            40,
            vec![observed("p1", &[]), observed("p2", &[("cn", "Back")])],
        )
        .await;
    let back = records.store.find_account(2).await.expect("there");
    assert_eq!((back.absent_since, back.id), (None, 2));
    assert_eq!(
        records.store.account_counts().await.expect("read"),
        [("harbour".to_owned(), 2, 0)]
    );
    let listed = records
        .store
        .list_accounts("harbour", "P2", None, 10)
        .await
        .expect("listed");
    assert_eq!(listed.len(), 1, "names are searched without regard to case");
    let page = records
        .store
        .list_accounts("harbour", "", Some(("name of p1", i64::MAX)), 10)
        .await
        .expect("listed");
    assert_eq!(page.len(), 1, "the next page begins after the name");
    let readings = records.store.last_readings().await.expect("read");
    assert_eq!(
        (readings.len(), readings[0].seen, readings[0].state.as_str()),
        (1, 2, "complete")
    );
}

impl Records {
    /// A run of two creations and a change on hold.
    async fn with_queue() -> (Records, i64) {
        let records = Records::new().await;
        records
            .store
            .keep_identities(
                IdentityUpdates {
                    identities: vec![
                        identity("i1", "Ada", Stage::Active),
                        identity("i2", "Bo", Stage::Active),
                    ],
                    ..IdentityUpdates::default()
                },
                "tester",
                at(1),
            )
            .await
            .expect("kept");
        let changes = vec![
            change("i1", ChangeKind::Create, None, false),
            change("i2", ChangeKind::Create, None, false),
            change("i2", ChangeKind::Update, None, true),
        ];
        let run = records
            .run(
                vec![line("Ada", Verdict::Create), line("Bo", Verdict::OnHold)],
                changes,
            )
            .await;
        (records, run)
    }
}

#[tokio::test]
async fn a_change_with_an_unknown_outcome_stays_in_the_queue() {
    let (records, run) = Records::with_queue().await;
    let queued = records.store.unfinished_changes(run).await.expect("read");
    assert_eq!(queued.len(), 2, "a change on hold is not in the queue");
    let rows = records.changes(run, None).await;
    records
        .store
        .claim_for_sending(vec![rows[0].id], at(60))
        .await
        .expect("marked");
    records
        .store
        .record_not_done(
            rows[0].id,
            ChangeState::Unknown,
            "answer lost",
            "it is looked for",
            at(61),
        )
        .await
        .expect("noted");
    let again = records.store.unfinished_changes(run).await.expect("read");
    assert_eq!(
        (again[0].state, again[0].attempts, again[0].error.as_deref()),
        (ChangeState::Unknown, 1, Some("answer lost"))
    );
    assert!(again[0].settled.is_none());
}

#[tokio::test]
async fn a_settled_change_leaves_the_queue_with_its_link_and_its_normalization() {
    let (records, run) = Records::with_queue().await;
    let rows = records.changes(run, None).await;
    let made = Settled {
        account: observed("b7", &[("title", "mate")]),
        normalized: vec![(
            "title".into(),
            vec![Value::text("Mate")],
            vec![Value::text("mate")],
        )],
        merged: vec![],
        note: Some("found by its values".into()),
    };
    let account = records
        .store
        .settle_done(&rows[0], made, "tester", at(62))
        .await
        .expect("settled");
    records
        .store
        .record_not_done(
            rows[1].id,
            ChangeState::Failed,
            "refused",
            "correct it",
            at(63),
        )
        .await
        .expect("noted");
    assert!(
        records
            .store
            .unfinished_changes(run)
            .await
            .expect("read")
            .is_empty()
    );
    let set = records.store.change_set(run).await.expect("read");
    assert_eq!(
        set.states,
        [
            (ChangeState::OnHold, 1),
            (ChangeState::Done, 1),
            (ChangeState::Failed, 1)
        ]
    );
    assert_eq!(set.verdicts, [(Verdict::OnHold, 1), (Verdict::Create, 1)]);
    assert_eq!(
        records.store.links_of("i1").await.expect("read")[0].basis,
        LinkBasis::created()
    );
    let population = records.store.load_population().await.expect("read");
    assert_eq!(population.links.len(), 1);
    let known = &population.normalizations[&(account, "title".to_owned())];
    assert_eq!(
        (known.sent.as_slice(), known.returned.as_slice()),
        (&[Value::text("Mate")][..], &[Value::text("mate")][..])
    );
}

#[tokio::test]
async fn changes_are_found_by_state_kind_and_name() {
    let (records, run) = Records::with_queue().await;
    let rows = records.changes(run, None).await;
    records.settle(&rows[0], observed("b7", &[]), 62).await;
    records
        .store
        .record_not_done(
            rows[1].id,
            ChangeState::Failed,
            "refused",
            "correct it",
            at(63),
        )
        .await
        .expect("noted");
    assert_eq!(
        records.changes(run, Some("failed")).await.len(),
        1,
        "by state"
    );
    assert_eq!(
        records.changes(run, Some("create")).await.len(),
        2,
        "by kind"
    );
    let filter = ChangeFilter {
        search: "person I2".into(),
        limit: 10,
        ..ChangeFilter::default()
    };
    assert_eq!(
        records
            .store
            .list_changes(run, &filter)
            .await
            .expect("read")
            .len(),
        2,
        "by name, without regard to case"
    );
    let filter = ChangeFilter {
        after: rows[1].id,
        limit: 10,
        ..ChangeFilter::default()
    };
    assert_eq!(
        records
            .store
            .list_changes(run, &filter)
            .await
            .expect("read")
            .len(),
        1,
        "from a place on"
    );
    let of_ada = records.store.changes_of("i1", 10).await.expect("read");
    assert_eq!(of_ada.len(), 1);
}

#[tokio::test]
async fn outcomes_are_found_by_verdict_and_system() {
    let (records, run) = Records::with_queue().await;
    let filter = ChangeFilter {
        word: Some("on_hold".into()),
        limit: 10,
        ..ChangeFilter::default()
    };
    let lines = records
        .store
        .list_outcomes(run, &filter)
        .await
        .expect("read");
    assert_eq!(
        (
            lines.len(),
            lines[0].decided.reason.rule.as_ref().map(|p| p.line)
        ),
        (1, Some(3))
    );
    let filter = ChangeFilter {
        system: Some("harbour".into()),
        limit: 10,
        ..ChangeFilter::default()
    };
    assert!(
        records
            .store
            .list_outcomes(run, &filter)
            .await
            .expect("read")
            .is_empty()
    );
}

#[tokio::test]
async fn a_preview_is_never_in_the_queue() {
    let records = Records::new().await;
    let id = records
        .store
        .begin_change_set(ChangeSetKind::Preview, "tester", None, at(1))
        .await
        .expect("begins");
    assert_eq!(
        records.store.open_change_sets().await.expect("read"),
        [(
            id,
            ChangeSetKind::Preview,
            ChangeSetState::Reading,
            "tester".into()
        )]
    );
    let set = NewChangeSet {
        kind: ChangeSetKind::Preview,
        rule_version: 4,
        principal: "tester".into(),
        preview: None,
        whole: true,
        as_of: None,
        unread: Vec::new(),
        note: None,
        decided: vec![],
        changes: vec![change("i1", ChangeKind::Create, None, false)],
    };
    records
        .store
        .fill_change_set(id, set, at(2))
        .await
        .expect("filled");
    assert!(
        records
            .store
            .unfinished_changes(id)
            .await
            .expect("read")
            .is_empty()
    );
    assert_eq!(
        records.changes(id, None).await[0].state,
        ChangeState::Proposed
    );
    let set = records.store.change_set(id).await.expect("read");
    assert_eq!(
        (set.state.as_str(), set.rule_version, set.ended_at.is_some()),
        ("done", 4, true)
    );
    assert!(
        records
            .store
            .open_change_sets()
            .await
            .expect("read")
            .is_empty()
    );
    assert!(
        records
            .store
            .changes_of("i1", 10)
            .await
            .expect("read")
            .is_empty(),
        "a proposal is no history"
    );
    assert!(matches!(
        records.store.change_set(99).await,
        Err(StoreError::Missing { .. })
    ));
}

#[tokio::test]
async fn identities_are_found_by_any_value_and_change_only_when_they_differ() {
    let records = Records::new().await;
    let people = vec![
        identity("i1", "Ada Lind", Stage::Active),
        identity("i2", "Ørjan Holm", Stage::Active),
        identity("i3", "Bo Lind", Stage::Left),
    ];
    records
        .store
        .keep_identities(
            IdentityUpdates {
                identities: people.clone(),
                ..IdentityUpdates::default()
            },
            "tester",
            at(10),
        )
        .await
        .expect("kept");
    records
        .store
        .keep_identities(
            IdentityUpdates {
                identities: people,
                ..IdentityUpdates::default()
            },
            "tester",
            at(20),
        )
        .await
        .expect("kept again");
    let all = records
        .store
        .list_identities("", None, None, 10)
        .await
        .expect("listed");
    assert_eq!(
        all.iter().map(|row| row.label.as_str()).collect::<Vec<_>>(),
        ["Ada Lind", "Bo Lind", "Ørjan Holm"]
    );
    assert!(
        all.iter()
            .all(|row| row.changed.starts_with("1970-01-01T00:00:10")),
        "nothing changed at the second time"
    );
    let found = |search: &'static str, stage: Option<&'static str>| {
        let store = records.store.clone();
        async move {
            store
                .list_identities(search, stage, None, 10)
                .await
                .expect("listed")
                .into_iter()
                .map(|row| row.identity.id)
                .collect::<Vec<_>>()
        }
    };
    assert_eq!(found("lind", None).await, ["i1", "i3"]);
    assert_eq!(found("i2@skerry", None).await, ["i2"]);
    assert_eq!(found("lind", Some("left")).await, ["i3"]);
    assert_eq!(
        found("%", None).await,
        Vec::<String>::new(),
        "a sign of SQL is a sign"
    );
    let next = records
        .store
        .list_identities("", None, Some(("Ada Lind", "i1")), 1)
        .await
        .expect("listed");
    assert_eq!(next[0].identity.id, "i3");
    assert_eq!(
        records.store.identity_counts().await.expect("read"),
        [(Stage::Active, 2), (Stage::Left, 1)]
    );
}

#[tokio::test]
async fn links_are_closed_and_never_deleted() {
    let records = Records::new().await;
    records
        .read("berthing", ObjectType::Person, 1, vec![observed("b1", &[])])
        .await;
    let link = || {
        vec![NewLink {
            account: 1,
            identity: "i1".into(),
            basis: LinkBasis::new(LinkOrigin::MatchRule, "match rule"),
            source: false,
        }]
    };
    let made = IdentityUpdates {
        identities: vec![identity("i1", "Ada", Stage::Active)],
        links: link(),
        ..IdentityUpdates::default()
    };
    records.keep(made, 2).await;
    let again = || IdentityUpdates {
        links: link(),
        ..IdentityUpdates::default()
    };
    records.keep(again(), 3).await;
    assert_eq!(
        records.store.links_of("i1").await.expect("read").len(),
        1,
        "the same link again is no new one"
    );
    assert_eq!(
        records
            .store
            .split_identity("i1", "harbour", "tester", at(4))
            .await
            .expect("asked"),
        0
    );
    assert_eq!(
        records
            .store
            .split_identity("i1", "berthing", "tester", at(5))
            .await
            .expect("split"),
        1
    );
    records.keep(again(), 6).await;
    let links = records.store.links_of("i1").await.expect("read");
    assert_eq!(links.len(), 2);
    assert_eq!(
        (links[0].ended_at.is_none(), links[1].ended_by.as_deref()),
        (true, Some("split by hand"))
    );
    assert_eq!(
        records.acts(Some("i1")).await,
        ["identity.joined", "identity.split", "identity.joined"]
    );
}

#[tokio::test]
async fn rules_are_kept_in_versions_and_the_same_files_make_none() {
    let records = Records::new().await;
    let files = |text: &str| {
        vec![tide_core::rules::RuleFile {
            name: "harbour.toml".into(),
            text: text.into(),
        }]
    };
    assert!(records.store.load_rules().await.expect("read").is_none());
    let publish = |text: &'static str, base: Option<i64>, second: i64| {
        let (store, files) = (records.store.clone(), files(text));
        async move {
            store
                .publish_rules(&files, base, "", "tester", at(second))
                .await
                .expect("published")
        }
    };
    assert_eq!(publish("# one\n", None, 1).await, Some(1));
    assert_eq!(publish("# one\n", None, 2).await, Some(1));
    assert_eq!(
        publish("# two, with a comment\n", Some(1), 3).await,
        Some(2)
    );
    assert_eq!(
        publish("# three\n", Some(1), 4).await,
        None,
        "somebody published since"
    );
    let newest = records
        .store
        .load_rules()
        .await
        .expect("read")
        .expect("there");
    assert_eq!(
        (newest.version, newest.files[0].text.as_str()),
        (2, "# two, with a comment\n")
    );
}

#[tokio::test]
async fn a_backup_is_whole_and_opens_with_its_key_only_for_secrets() {
    let records = Records::new().await;
    records
        .store
        .put_secret("harbour", "password", "canary-backup", at(1))
        .await
        .expect("kept");
    records
        .read(
            "harbour",
            ObjectType::Person,
            10,
            vec![observed("p1", &[("cn", "Ada")])],
        )
        .await;
    let copy = records.folder.path().join("copy.db");
    records.store.backup(&copy).await.expect("copied");
    let bytes = std::fs::read(&copy).expect("read");
    assert!(!bytes.windows(13).any(|w| w == b"canary-backup"));
    let other = Store::open(&copy, MasterKey::generate())
        .await
        .expect("opens with another key");
    assert_eq!(
        other.load_population().await.expect("read").accounts.len(),
        1
    );
    assert!(matches!(
        other.load_secret("harbour", "password").await,
        Err(StoreError::Sealed { .. })
    ));
    assert_eq!(
        (
            records.store.secrets_of_other_keys().await.expect("read"),
            other.secrets_of_other_keys().await.expect("read")
        ),
        (0, 1)
    );
    assert!(
        records.store.backup(&copy).await.is_err(),
        "a backup never replaces a file"
    );
}

#[tokio::test]
async fn a_closed_store_and_a_wrong_key_say_so() {
    let records = Records::new().await;
    records.store.close().await;
    assert!(matches!(
        records.store.note("p", "a", "s", "", at(1)).await,
        Err(StoreError::Closed)
    ));
    assert!(
        MasterKey::parse("c2hvcnQ=")
            .expect_err("short")
            .to_string()
            .contains("32 bytes")
    );
    assert!(
        MasterKey::parse("***")
            .expect_err("no base64")
            .to_string()
            .contains("not base64")
    );
    let missing = records.folder.path().join("no/such/folder/tide.db");
    let error = Store::open(&missing, MasterKey::generate())
        .await
        .err()
        .expect("refused");
    assert!(
        error.to_string().contains("check that the folder exists"),
        "{error}"
    );
}

async fn answer(
    records: &Records,
    identity: Option<&str>,
    account: Option<i64>,
    decision: MatchDecision,
) {
    let answer = MatchAnswer {
        system: "berthing".into(),
        identity: identity.map(str::to_owned),
        account,
        decision,
        principal: "Eiko".into(),
    };
    let new = NewAnswer {
        answer,
        object: ObjectType::Person,
        label: "Ada".into(),
    };
    records
        .store
        .answer_matches(vec![new], "p1", at(30))
        .await
        .expect("kept");
}

/// Two accounts, the first of them linked to a person.
async fn records_with_a_link() -> Records {
    let records = Records::new().await;
    let accounts = vec![observed("b1", &[]), observed("b2", &[])];
    records
        .read("berthing", ObjectType::Person, 10, accounts)
        .await;
    records.keep_linked_person().await;
    records
}

#[tokio::test]
async fn a_match_answer_replaces_the_last_one_until_it_is_taken_back() {
    let records = records_with_a_link().await;
    let held = async || {
        let rows = records
            .store
            .match_answers(Some("berthing"))
            .await
            .expect("listed");
        rows.into_iter()
            .map(|row| (row.id, row.answer.decision, row.answer.account))
            .collect::<Vec<_>>()
    };
    answer(&records, Some("i1"), None, MatchDecision::Skip).await;
    answer(&records, Some("i1"), Some(1), MatchDecision::Never).await;
    let population = records.store.load_population().await.expect("read");
    assert!(
        population.links.is_empty(),
        "the link between the two is ended"
    );
    answer(&records, Some("i1"), Some(2), MatchDecision::Join).await;
    assert_eq!(
        held().await,
        [
            (3, MatchDecision::Join, Some(2)),
            (2, MatchDecision::Never, Some(1))
        ],
        "a join is said instead of a skip"
    );
    answer(&records, Some("i1"), Some(2), MatchDecision::Never).await;
    assert_eq!(
        held().await,
        [
            (4, MatchDecision::Never, Some(2)),
            (2, MatchDecision::Never, Some(1))
        ],
        "the last word of the two holds"
    );
    records
        .store
        .take_back_answer(2, "p1", at(40))
        .await
        .expect("taken back");
    assert!(matches!(
        records.store.take_back_answer(2, "p1", at(40)).await,
        Err(StoreError::Missing { what: "answer", .. })
    ));
    let acts = records.acts(None).await;
    assert_eq!(
        acts.iter().filter(|act| act.starts_with("match.")).count(),
        5,
        "{acts:?}"
    );
}

#[tokio::test]
async fn the_match_answers_about_a_system_go_with_it() {
    let records = records_with_a_link().await;
    answer(&records, None, Some(2), MatchDecision::Skip).await;
    records
        .store
        .remove_system("berthing", "p1", at(70))
        .await
        .expect("removed");
    assert!(
        records
            .store
            .match_answers(Some("berthing"))
            .await
            .expect("listed")
            .is_empty()
    );
}

#[tokio::test]
async fn a_draft_is_saved_only_over_the_edition_that_was_read() {
    let records = Records::new().await;
    let file = |text: &str| {
        vec![tide_core::rules::RuleFile {
            name: "harbour.toml".into(),
            text: text.into(),
        }]
    };
    let id = records
        .store
        .begin_draft("ports", 0, &file("1"), "ada", at(1))
        .await
        .expect("begun");
    fn edit(id: i64, edition: i64, files: &[RuleFile]) -> DraftEdit<'_> {
        DraftEdit {
            id,
            edition,
            base: None,
            files,
        }
    }
    assert_eq!(
        records
            .store
            .save_draft(edit(id, 1, &file("2")), "ada", at(2))
            .await
            .expect("saved"),
        Some(2)
    );
    assert_eq!(
        records
            .store
            .save_draft(edit(id, 1, &file("3")), "bo", at(3))
            .await
            .expect("asked"),
        None,
        "bo began with edition 1"
    );
    let draft = records.store.find_draft(id).await.expect("there");
    assert_eq!(
        (draft.edition, draft.files, draft.changed_by.as_str()),
        (2, file("2"), "ada")
    );
    records
        .store
        .end_draft(id, None, "ada", at(4))
        .await
        .expect("dropped");
    assert!(
        records.store.list_drafts().await.expect("read").is_empty()
            && records.store.find_draft(id).await.is_err()
    );
    assert_eq!(
        records
            .store
            .save_draft(edit(id, 2, &file("4")), "bo", at(5))
            .await
            .expect("asked"),
        None,
        "it is closed"
    );
}

#[tokio::test]
async fn a_first_password_is_shown_once() {
    let records = Records::new().await;
    records
        .read(
            "berthing",
            ObjectType::Person,
            10,
            vec![observed("b1", &[])],
        )
        .await;
    let run = records
        .run(vec![], vec![change("i1", ChangeKind::Create, None, false)])
        .await;
    let row = records.changes(run, None).await.remove(0);
    records
        .store
        .seal_first_password(row.id, "canary-Zx9!", at(20))
        .await
        .expect("sealed");
    assert_eq!(
        records
            .store
            .first_password(row.id)
            .await
            .expect("read")
            .map(|p| p.to_string())
            .as_deref(),
        Some("canary-Zx9!")
    );
    records
        .store
        .first_password_set(row.id, 1, &row.change, at(21))
        .await
        .expect("noted");
    assert_eq!(
        records.store.first_passwords().await.expect("read").len(),
        1
    );
    assert_eq!(
        records
            .store
            .first_password_of(row.id)
            .await
            .expect("there"),
        ("berthing".to_owned(), ObjectType::Person)
    );
    assert!(
        records.store.first_password_of(row.id + 1).await.is_err(),
        "whose it is not known is shown to nobody"
    );
    let shown = records
        .store
        .reveal_first_password(row.id, "ada", at(22))
        .await
        .expect("shown");
    assert_eq!(shown.as_str(), "canary-Zx9!");
    assert!(
        records
            .store
            .reveal_first_password(row.id, "ada", at(23))
            .await
            .is_err(),
        "once"
    );
    assert!(
        records.store.first_password_of(row.id).await.is_err(),
        "it was shown"
    );
    let row = records
        .store
        .first_passwords()
        .await
        .expect("read")
        .remove(0);
    assert_eq!(row.shown.map(|(_, who)| who).as_deref(), Some("ada"));
}

#[tokio::test]
async fn a_name_is_reserved_for_its_first_owner_without_regard_to_case() {
    let records = Records::new().await;
    let name = |value: &str, identity: &str| ReservedValue {
        kind: ObjectType::Person,
        attribute: "login".into(),
        value: value.into(),
        identity: identity.into(),
    };
    for (owner, second) in [(name("Lind", "i1"), 20), (name("lind", "i2"), 21)] {
        let updates = IdentityUpdates {
            reserved: vec![owner],
            ..IdentityUpdates::default()
        };
        records.keep(updates, second).await;
    }
    assert_eq!(
        records
            .store
            .load_population()
            .await
            .expect("read")
            .reserved_values,
        [name("lind", "i1")],
        "folded, and the first one's for ever"
    );
}

#[tokio::test]
async fn of_a_merged_list_only_our_values_are_managed() {
    let records = Records::new().await;
    let account = vec![observed("b1", &[])];
    records
        .read("berthing", ObjectType::Person, 10, account)
        .await;
    let tags = |values: &[&str]| {
        values
            .iter()
            .map(|value| Value::text(*value))
            .collect::<Vec<_>>()
    };
    for (second, before, after) in [
        (30, &["by hand"][..], &["by hand", "deck"][..]),
        (40, &["by hand", "deck"], &["by hand", "galley"]),
    ] {
        let values = vec![ValueChange {
            attribute: "tags".into(),
            before: tags(before),
            after: tags(after),
            ..ValueChange::default()
        }];
        let run = records
            .run(
                vec![],
                vec![Change {
                    values,
                    ..change("i1", ChangeKind::Update, Some(1), false)
                }],
            )
            .await;
        let row = records.changes(run, None).await.remove(0);
        let settled = Settled {
            account: observed("b1", &[]),
            normalized: vec![],
            merged: vec!["tags".into()],
            note: None,
        };
        records
            .store
            .settle_done(&row, settled, "tester", at(second))
            .await
            .expect("settled");
    }
    let given = records
        .store
        .load_population()
        .await
        .expect("read")
        .managed_values;
    assert_eq!(
        given.get(&(1, "tags".to_owned())),
        Some(&tags(&["galley"])),
        "what stood there before us is not ours"
    );
}

/// A stored run of three changes, of which the first and the last are claimed at once.
async fn keep_run(records: &Records) -> (i64, Vec<tide_store::ChangeRow>) {
    let account = vec![observed("b1", &[("title", "Old")])];
    records
        .read("berthing", ObjectType::Person, 10, account)
        .await;
    let set = NewChangeSet {
        kind: ChangeSetKind::Run,
        rule_version: 3,
        principal: "tester".into(),
        preview: None,
        whole: false,
        as_of: None,
        unread: Vec::new(),
        note: None,
        decided: vec![line("Ada", Verdict::Update)],
        changes: vec![
            change("i1", ChangeKind::Update, Some(1), false),
            change("i1", ChangeKind::Disable, Some(1), false),
            change("i2", ChangeKind::Create, None, false),
        ],
    };
    let link = NewLink {
        account: 1,
        identity: "i1".into(),
        basis: LinkBasis::new(LinkOrigin::MatchRule, "rule"),
        source: false,
    };
    let people = IdentityUpdates {
        identities: vec![identity("i1", "Ada", Stage::Active)],
        links: vec![link],
        ..IdentityUpdates::default()
    };
    records
        .store
        .keep_run(people, set, [0, 2].into(), at(20))
        .await
        .expect("kept")
}

#[tokio::test]
async fn a_run_is_stored_with_its_changes_and_those_sent_at_once_are_claimed() {
    let records = Records::new().await;
    let (id, rows) = keep_run(&records).await;
    let told: Vec<(&str, ChangeKind)> = rows
        .iter()
        .map(|row| (row.change.identity.as_str(), row.change.kind))
        .collect();
    assert_eq!(
        told,
        [
            ("i1", ChangeKind::Update),
            ("i1", ChangeKind::Disable),
            ("i2", ChangeKind::Create)
        ]
    );
    // The returned rows are the stored ones; those that are sent at once are already claimed.
    let stored = records.store.unfinished_changes(id).await.expect("read");
    let states: Vec<(ChangeState, i64)> =
        stored.iter().map(|row| (row.state, row.attempts)).collect();
    assert_eq!(
        states,
        [
            (ChangeState::Sending, 1),
            (ChangeState::Queued, 0),
            (ChangeState::Sending, 1)
        ]
    );
    for (row, stored) in rows.iter().zip(&stored) {
        assert_eq!(
            (row.id, &row.change, row.change_set),
            (stored.id, &stored.change, id)
        );
    }
}

#[tokio::test]
async fn a_run_is_stored_with_its_people_links_and_journal() {
    let records = Records::new().await;
    let (id, _) = keep_run(&records).await;
    assert_eq!(
        records
            .store
            .find_identity("i1")
            .await
            .expect("kept with it")
            .1,
        "Ada"
    );
    assert_eq!(records.store.links_of("i1").await.expect("read").len(), 1);
    let shown = records.store.change_set(id).await.expect("read");
    assert_eq!(
        (
            shown.state.as_str(),
            shown.rule_version,
            shown.verdicts.len()
        ),
        ("running", 3, 1)
    );
    let acts = records.acts(None).await;
    assert!(acts.contains(&"run.started".to_owned()), "{acts:?}");
    assert!(records.store.verify_journal().await.expect("read").is_ok());
}

fn windows(second: i64) -> Vec<GuardWindow> {
    [("update", second), ("create", 0)]
        .map(|(kind, since)| GuardWindow {
            system: "berthing".into(),
            kind: kind.into(),
            since: at(since),
        })
        .to_vec()
}

/// An account `b1`. Returns the last dirty record before any change.
async fn records_with_an_account() -> (Records, i64) {
    let records = Records::new().await;
    let account = vec![observed("b1", &[])];
    records
        .read("berthing", ObjectType::Person, 10, account)
        .await;
    let seen = records.store.last_dirty().await.expect("read");
    (records, seen)
}

/// An operator releases a change that a guard holds; this ends after 20 seconds.
async fn release(records: &Records, change: &Change, second: i64) {
    let new = NewOverride {
        changes: vec![change.clone()],
        held_by: "guard",
        decision: format!("guard-{second}"),
        release: true,
        expires: at(second + 20),
    };
    records
        .store
        .add_override(new, "tester", at(second))
        .await
        .expect("released");
}

/// Three updates, done ten seconds apart.
async fn three_updates(records: &Records) {
    let updates = ["i1", "i2", "i3"]
        .map(|who| change(who, ChangeKind::Update, Some(1), false))
        .to_vec();
    let run = records.run(vec![], updates).await;
    for (n, row) in records.changes(run, None).await.into_iter().enumerate() {
        let account = observed("b1", &[("title", "Mate")]);
        records.settle(&row, account, 60 + 10 * n as i64).await;
    }
}

#[tokio::test]
async fn the_preconditions_of_a_decision_take_one_query() {
    let (records, seen) = records_with_an_account().await;
    let before = records
        .store
        .load_preconditions(seen, windows(0), false, at(20))
        .await
        .expect("read");
    assert_eq!(
        before
            .at_work
            .iter()
            .map(|row| row.name.as_str())
            .collect::<Vec<_>>(),
        ["berthing", "harbour"]
    );
    assert_eq!(
        (before.counts.as_slice(), before.touched.last),
        (&[0, 0][..], seen)
    );
    assert!(
        !(before.lost || before.in_doubt || before.asked || before.outdated || before.failed),
        "{before:?}"
    );
}

#[tokio::test]
async fn a_released_change_does_not_count_for_its_guard_and_the_release_ends() {
    let (records, seen) = records_with_an_account().await;
    three_updates(&records).await;
    let released = change("i2", ChangeKind::Update, Some(1), true);
    release(&records, &released, 75).await;
    let run = records
        .run(
            vec![],
            vec![Change {
                hold: None,
                ..released.clone()
            }],
        )
        .await;
    let row = records.changes(run, None).await.remove(0);
    assert_eq!(
        records
            .store
            .count_changes(&windows(65))
            .await
            .expect("counted")
            .1
            .len(),
        0,
        "it is on its way, and does not count"
    );
    records
        .settle(&row, observed("b1", &[("title", "Bosun")]), 76)
        .await;
    assert_eq!(records.store.override_rows().await.expect("read"), vec![]);
    release(&records, &released, 90).await;
    let overrides = async |second| {
        records
            .store
            .load_overrides(at(second))
            .await
            .expect("read")
    };
    assert_eq!(overrides(109).await.len(), 1);
    assert_eq!(overrides(110).await.len(), 0, "it has expired");
    let before = records
        .store
        .load_preconditions(seen, windows(65), false, at(100))
        .await
        .expect("read");
    assert_eq!(
        before.counts,
        [2, 0],
        "what was before is not looked back on, and what a person let through does not count"
    );
    assert_eq!(
        before.counts,
        records
            .store
            .count_changes(&windows(65))
            .await
            .expect("counted")
            .0
    );
    assert!(
        before.overrides[&released.fingerprint].release
            && before.touched.records.accounts.contains(&1)
    );
}

#[tokio::test]
async fn a_disable_change_counts_for_its_guard_before_it_is_done_unless_released() {
    let (records, seen) = records_with_an_account().await;
    let released = change("i8", ChangeKind::Disable, Some(1), true);
    release(&records, &released, 111).await;
    let leaving = vec![
        change("i6", ChangeKind::Disable, Some(1), false),
        change("i7", ChangeKind::Update, Some(1), false),
        Change {
            hold: None,
            ..released
        },
    ];
    records.run(vec![], leaving).await;
    let in_flight = records
        .store
        .load_preconditions(seen, vec![], true, at(112))
        .await
        .expect("read")
        .in_flight;
    let only = [(
        ("berthing".to_owned(), "disable".to_owned()),
        [("i6".to_owned(), None)].into(),
    )]
    .into();
    assert_eq!(in_flight, only);
}

#[tokio::test]
async fn failed_unknown_and_requested_changes_are_preconditions() {
    let (records, seen) = records_with_an_account().await;
    let run = records
        .run(
            vec![],
            vec![
                change("i4", ChangeKind::Create, None, false),
                change("i5", ChangeKind::Create, None, false),
            ],
        )
        .await;
    let rows = records.changes(run, None).await;
    records
        .store
        .record_failed(rows[0].id, "refused", "look at it", false, at(110))
        .await
        .expect("settled");
    records
        .store
        .record_not_done(
            rows[1].id,
            ChangeState::Unknown,
            "lost",
            "it is looked for",
            at(111),
        )
        .await
        .expect("settled");
    let before = records
        .store
        .load_preconditions(seen, vec![], true, at(112))
        .await
        .expect("read");
    assert!(
        before.failed && before.in_doubt && !before.lost,
        "a run that goes on looks for its own: {before:?}"
    );
    records
        .store
        .set_change_set_state(run, ChangeSetState::Done, None, "tester", at(113))
        .await
        .expect("ended");
    let new = NewApproval {
        fingerprint: "f".into(),
        rule: "leavers".into(),
        system: "berthing".into(),
        kind: "disable".into(),
        identity: "i1".into(),
        label: "Ada".into(),
        expires: at(200),
        remind: None,
    };
    records
        .store
        .request_approvals(vec![new], vec![], None, "tester", at(114))
        .await
        .expect("asked");
    let before = records
        .store
        .load_preconditions(seen, vec![], true, at(115))
        .await
        .expect("read");
    assert!(before.lost && before.asked && !before.approved["f"].expired);
    assert!(
        records
            .store
            .load_preconditions(seen, vec![], true, at(201))
            .await
            .expect("read")
            .approved["f"]
            .expired
    );
}

/// Two accounts.
async fn records_with_two_accounts() -> Records {
    let records = Records::new().await;
    let accounts = vec![observed("b1", &[("title", "Old")]), observed("b2", &[])];
    records
        .read("berthing", ObjectType::Person, 10, accounts)
        .await;
    records
}

fn key_of(change: &Change) -> &'static str {
    if change.account == Some(1) {
        "b1"
    } else {
        "b2"
    }
}

/// A run whose changes at the given positions fail; the others are done.
async fn send(records: &Records, changes: Vec<Change>, failing: &[usize]) -> i64 {
    let run = records.run(vec![], changes).await;
    let rows = records.changes(run, None).await;
    for (position, row) in rows.iter().enumerate() {
        if failing.contains(&position) {
            records
                .store
                .record_failed(row.id, "no such place", "look at it", false, at(60))
                .await
                .expect("settled");
        } else {
            let account = observed(key_of(&row.change), &[]);
            records.settle(row, account, 60).await;
        }
    }
    run
}

#[tokio::test]
async fn a_run_has_handled_what_it_did_and_what_failed() {
    let records = records_with_two_accounts().await;
    let store = &records.store;
    let changes = vec![
        change("i1", ChangeKind::Move, Some(1), false),
        change("i1", ChangeKind::Update, Some(1), false),
        change("i2", ChangeKind::Update, Some(2), false),
    ];
    let run = send(&records, changes, &[0, 1]).await;
    let prints = ["i1-move", "i1-update", "i2-update", "i3-move"].map(str::to_owned);
    assert_eq!(
        store.seen_to(run, &prints, true).await.expect("read").len(),
        3
    );
    assert!(
        store
            .seen_to(run + 1, &prints, true)
            .await
            .expect("read")
            .is_empty(),
        "another run's"
    );
    let open = records
        .run(vec![], vec![change("i3", ChangeKind::Move, Some(1), false)])
        .await;
    assert_eq!(
        store
            .seen_to(open, &prints, true)
            .await
            .expect("read")
            .len(),
        1
    );
    assert!(
        store
            .seen_to(open, &prints, false)
            .await
            .expect("read")
            .is_empty(),
        "it is about to be sent"
    );
}

#[tokio::test]
async fn a_failure_holds_as_long_as_its_account_is_as_it_was() {
    let records = records_with_two_accounts().await;
    let store = &records.store;
    let moved = || change("i1", ChangeKind::Move, Some(1), false);
    let other = || change("i2", ChangeKind::Update, Some(2), false);
    send(&records, vec![moved(), other()], &[0]).await;
    let parked = async || {
        store
            .parked_changes(&["i1-move", "i2-update"])
            .await
            .expect("read")
            .into_keys()
            .collect::<Vec<_>>()
    };
    assert_eq!(parked().await, ["i1-move"]);
    // A change of another person does not matter.
    send(&records, vec![other()], &[]).await;
    assert_eq!(parked().await, ["i1-move"]);
    // After another change of the account, the same change is tried again.
    let enable = change("i1", ChangeKind::Enable, Some(1), false);
    send(&records, vec![enable], &[]).await;
    assert!(parked().await.is_empty());
    send(&records, vec![moved()], &[0]).await;
    assert_eq!(
        parked().await,
        ["i1-move"],
        "it fails again, and rests again"
    );
}

#[tokio::test]
async fn news_are_kept_with_how_far_a_system_was_followed() {
    let records = Records::new().await;
    let place = Followed {
        mode: "content-sync".into(),
        cursor: Some("csn=7".into()),
        updated_at: at(20),
        full_read_at: at(5),
    };
    let news = vec![observed("h1", &[("title", "Mate")])];
    let differ = records
        .store
        .store_changes(
            ChangeBatch {
                cursor: Some(&place),
                ..ChangeBatch::new("harbour", ObjectType::Person, news.clone(), vec![])
            },
            at(20),
        )
        .await
        .expect("queued")
        .await
        .expect("kept");
    assert_eq!(differ, [1]);
    assert_eq!(
        records
            .store
            .find_sync_cursor("harbour", ObjectType::Person)
            .await
            .expect("read"),
        Some(place.clone())
    );
    let later = Followed {
        cursor: Some("csn=8".into()),
        updated_at: at(21),
        ..place
    };
    let differ = records
        .store
        .store_changes(
            ChangeBatch {
                cursor: Some(&later),
                keeps_previous: true,
                ..ChangeBatch::new("harbour", ObjectType::Person, news, vec![])
            },
            at(21),
        )
        .await
        .expect("queued")
        .await
        .expect("kept");
    assert!(
        differ.is_empty(),
        "the same again is no news, and is as far as it was followed"
    );
    assert_eq!(
        records
            .store
            .find_sync_cursor("harbour", ObjectType::Person)
            .await
            .expect("read"),
        Some(later)
    );
}

/// A store in which every table that a decision reads has a row.
async fn records_in_every_table() -> Records {
    let records = records_with_two_accounts().await;
    link_two_people(&records).await;
    write_every_kind(&records).await;
    add_operator_inputs(&records).await;
    records
}

/// Ada has `b1`, Bo has `b2`; a name is reserved for Ada.
async fn link_two_people(records: &Records) {
    let link = |account, identity: &str| NewLink {
        account,
        identity: identity.into(),
        basis: LinkBasis::new(LinkOrigin::MatchRule, "rule"),
        source: false,
    };
    let people = vec![
        identity("i1", "Ada", Stage::Active),
        identity("i2", "Bo", Stage::Active),
    ];
    let reserved = vec![ReservedValue {
        kind: ObjectType::Person,
        attribute: "login".into(),
        value: "ada".into(),
        identity: "i1".into(),
    }];
    let links = vec![link(1, "i1"), link(2, "i2")];
    let people = IdentityUpdates {
        identities: people,
        links,
        reserved,
        ..IdentityUpdates::default()
    };
    records.keep(people, 20).await;
}

/// An update with a normalization and a merged list, a password and a membership, all done; then
/// the account is changed by others.
async fn write_every_kind(records: &Records) {
    let store = &records.store;
    let title = |value: &str| {
        vec![ValueChange {
            attribute: "title".into(),
            after: vec![Value::text(value)],
            ..ValueChange::default()
        }]
    };
    let mark = vec![ValueChange {
        attribute: tide_core::decide::PASSWORD_MARK.into(),
        after: vec![Value::text("m")],
        ..ValueChange::default()
    }];
    let grant = Change {
        system: "berthing".into(),
        object: ObjectType::Group,
        ..change("i1", ChangeKind::Grant, Some(2), false)
    };
    let update = Change {
        values: title("mate"),
        ..change("i1", ChangeKind::Update, Some(1), false)
    };
    let password = Change {
        values: mark,
        ..change("i1", ChangeKind::Password, Some(1), false)
    };
    let run = records.run(vec![], vec![update, password, grant]).await;
    for row in records.changes(run, None).await {
        let normalized = vec![(
            "title".to_owned(),
            vec![Value::text("mate")],
            vec![Value::text("Mate")],
        )];
        let merged = vec!["title".to_owned()];
        let settled = Settled {
            account: observed(key_of(&row.change), &[("title", "Mate")]),
            normalized,
            merged,
            note: None,
        };
        store
            .settle_done(&row, settled, "tester", at(60))
            .await
            .expect("settled");
    }
    records
        .read(
            "berthing",
            ObjectType::Person,
            70,
            vec![observed("b1", &[("title", "By hand")]), observed("b2", &[])],
        )
        .await;
}

/// A departure, a reactivation, a role, a password and a match answer.
async fn add_operator_inputs(records: &Records) {
    let store = &records.store;
    let departure = tide_core::model::Departure {
        at: at(900),
        principal: "tester".into(),
        comment: String::new(),
    };
    store
        .set_departure("i1", Some(departure), "tester", at(80))
        .await
        .expect("said");
    store
        .reactivate("i1", "tester", at(81))
        .await
        .expect("claimed");
    let role = tide_core::model::RoleGrant {
        identity: "i1".into(),
        role: "deck".into(),
        from: None,
        until: None,
        principal: "tester".into(),
    };
    store
        .give_role(role, "", "tester", at(82))
        .await
        .expect("given");
    store
        .set_password(
            NewPassword {
                owner: PasswordOwner::Identity("i1"),
                password: "canary-Zx9!",
                must_change: false,
                origin: "tester",
            },
            "tester",
            at(83),
        )
        .await
        .expect("sealed");
    let answer = MatchAnswer {
        system: "berthing".into(),
        identity: Some("i1".into()),
        account: Some(2),
        decision: MatchDecision::Never,
        principal: "tester".into(),
    };
    let answer = NewAnswer {
        answer,
        object: ObjectType::Person,
        label: "Ada".into(),
    };
    store
        .answer_matches(vec![answer], "tester", at(84))
        .await
        .expect("kept");
}

/// A part of the records holds the same about them as the whole: also of the tables that are only
/// read when they have a row.
#[tokio::test]
async fn a_part_holds_the_same_as_the_whole() {
    let records = records_in_every_table().await;
    let store = &records.store;
    let whole = store.load_population().await.expect("read");
    let full = [
        whole.normalizations.len(),
        whole.managed_values.len(),
        whole.reserved_values.len(),
        whole.match_answers.len(),
        whole.drift_baseline.len(),
        whole.departures.len(),
        whole.reactivations.len(),
        whole.role_grants.len(),
        whole.password_sets.len(),
        whole.password_hash_marks.len(),
        whole.rule_memberships.len(),
        whole.write_history.len(),
    ];
    assert!(
        full.iter().all(|rows| *rows > 0),
        "the test is of nothing where there is nothing: {full:?}"
    );
    let all = tide_core::incremental::Records {
        accounts: [1, 2].into(),
        identities: ["i1".into(), "i2".into()].into(),
    };
    for at_rest in [true, false] {
        let part = store
            .load_part(&all, whole.systems.clone(), at_rest)
            .await
            .expect("read");
        assert_eq!(sorted_lines(&part), sorted_lines(&whole));
    }
}

#[tokio::test]
async fn a_part_holds_nothing_about_others() {
    let records = records_in_every_table().await;
    let store = &records.store;
    let whole = store.load_population().await.expect("read");
    let other = tide_core::incremental::Records {
        accounts: [2].into(),
        identities: ["i2".into()].into(),
    };
    let part = store
        .load_part(&other, whole.systems.clone(), true)
        .await
        .expect("read");
    assert_eq!(
        (part.accounts.len(), part.identities.len(), part.links.len()),
        (1, 1, 1)
    );
    assert!(
        part.departures.is_empty()
            && part.role_grants.is_empty()
            && part.password_sets.is_empty()
            && part.password_hash_marks.is_empty()
    );
}

/// Everything that a decision is made from, as sorted lines of text.
fn sorted_lines(population: &tide_core::Population) -> Vec<String> {
    let text = format!("{population:#?}");
    let mut lines: Vec<String> = text.lines().map(|line| line.trim().to_owned()).collect();
    // Hashed maps have no order.
    lines.sort();
    lines
}
