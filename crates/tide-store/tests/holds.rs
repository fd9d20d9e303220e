//! What is on hold: kept with its cause and since when, counted and listed.
#![allow(clippy::disallowed_methods, reason = "tests run in real time")]

use jiff::Timestamp;
use tide_core::states::ChangeKind;
use tide_core::{HoldCause, ObjectType, Reason, ReasonKind};
use tide_store::{Hold, HoldFilter, HoldKey, MasterKey, Store};

fn at(second: i64) -> Timestamp {
    Timestamp::from_second(second).expect("in range")
}

fn key(system: &str, identity: &str, kind: &str) -> HoldKey {
    HoldKey {
        system: system.into(),
        object: ObjectType::Person,
        identity: identity.into(),
        account: 0,
        kind: kind.into(),
    }
}

fn reason_of(words: &str) -> Reason {
    let words = words.to_owned();
    Reason::new(ReasonKind::ConditionNotMet { words })
}

fn hold(key: HoldKey, label: &str, cause: HoldCause, reason: &str) -> Hold {
    Hold {
        key,
        takes_away: false,
        label: label.into(),
        cause,
        reason: reason_of(reason),
        rule: Some("identities.toml:4".into()),
    }
}

fn mail(system: &str, id: &str, label: &str) -> Hold {
    let key = key(system, id, "");
    hold(key, label, HoldCause::MissingValue, "waits for mail")
}

fn guarded(reason: &str) -> Hold {
    let key = key("berthing", "c", "disable");
    hold(key, "Cy", HoldCause::Guard, reason)
}

/// Ada is on hold in two systems, Bo and Cy in one.
async fn store_with_holds() -> (tempfile::TempDir, Store) {
    let folder = tempfile::tempdir().expect("a folder");
    let store = Store::open(&folder.path().join("tide.db"), MasterKey::generate())
        .await
        .expect("opens");
    let first = vec![
        mail("berthing", "a", "Ada"),
        mail("classroom", "a", "Ada"),
        mail("berthing", "b", "Bo"),
        guarded("3 accounts"),
    ];
    store
        .keep_holds(Vec::new(), first, at(10))
        .await
        .expect("kept");
    (folder, store)
}

#[tokio::test]
async fn a_person_on_hold_counts_once_for_each_cause() {
    let (_folder, store) = store_with_holds().await;
    let counts = store.hold_counts(None).await.expect("counted");
    assert_eq!(
        counts,
        [(HoldCause::Guard, 1), (HoldCause::MissingValue, 2)],
        "a person counts once"
    );
    assert_eq!(
        store.hold_counts(Some("classroom")).await.expect("counted"),
        [(HoldCause::MissingValue, 1)]
    );
}

/// A new reason with the same cause keeps its beginning; another cause begins anew.
#[tokio::test]
async fn a_hold_lasts_since_its_cause_began() {
    let (_folder, store) = store_with_holds().await;
    let again = vec![
        guarded("4 accounts"),
        hold(
            key("berthing", "b", ""),
            "Bo",
            HoldCause::NeedsReview,
            "whose?",
        ),
    ];
    store
        .keep_holds(vec![key("classroom", "a", "")], again, at(20))
        .await
        .expect("kept");
    let all = HoldFilter {
        limit: 10,
        ..HoldFilter::default()
    };
    let rows = store.list_holds(&all).await.expect("listed");
    let told = |row: &tide_store::HoldRow| {
        (
            row.label.clone(),
            row.cause,
            row.reason.to_string(),
            row.since.get(..19).map(str::to_owned),
        )
    };
    let since = |second: i64| Some(at(second).strftime("%Y-%m-%dT%H:%M:%S").to_string());
    assert_eq!(
        rows.iter().map(told).collect::<Vec<_>>(),
        [
            (
                "Ada".to_owned(),
                HoldCause::MissingValue,
                "waits for mail".to_owned(),
                since(10)
            ),
            (
                "Bo".to_owned(),
                HoldCause::NeedsReview,
                "whose?".to_owned(),
                since(20)
            ),
            (
                "Cy".to_owned(),
                HoldCause::Guard,
                "4 accounts".to_owned(),
                since(10)
            ),
        ]
    );
    assert_eq!(
        (rows[0].systems.clone(), rows[2].kinds.clone()),
        (vec!["berthing".to_owned()], vec![ChangeKind::Disable])
    );
    assert_eq!(store.all_holds().await.expect("read").len(), 3);
}

#[tokio::test]
async fn holds_are_found_by_cause_and_text_and_page_by_page() {
    let (_folder, store) = store_with_holds().await;
    let count = async |filter: HoldFilter| store.list_holds(&filter).await.expect("listed").len();
    let only = |cause, search: &str| HoldFilter {
        cause,
        search: Some(search.into()),
        limit: 10,
        ..HoldFilter::default()
    };
    assert_eq!(count(only(Some(HoldCause::Guard), "")).await, 1);
    assert_eq!(count(only(None, "ADA")).await, 1);
    assert_eq!(count(only(None, "100%")).await, 0);
    let all = HoldFilter {
        limit: 10,
        ..HoldFilter::default()
    };
    let rows = store.list_holds(&all).await.expect("listed");
    let page = HoldFilter {
        after: Some(rows[0].id),
        limit: 1,
        ..HoldFilter::default()
    };
    assert_eq!(
        store.list_holds(&page).await.expect("listed")[0].label,
        "Bo"
    );
}
