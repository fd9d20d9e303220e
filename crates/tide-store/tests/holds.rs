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

#[tokio::test]
async fn who_is_on_hold_is_listed_once_for_each_cause_since_it_began() {
    let folder = tempfile::tempdir().expect("a folder");
    let store = Store::open(&folder.path().join("tide.db"), MasterKey::generate())
        .await
        .expect("opens");
    let mail = |system: &str, id: &str, label: &str| {
        hold(
            key(system, id, ""),
            label,
            HoldCause::MissingValue,
            "waits for mail",
        )
    };
    let guarded = |reason: &str| {
        hold(
            key("berthing", "c", "disable"),
            "Cy",
            HoldCause::Guard,
            reason,
        )
    };
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

    // The same cause in other words is held since it began; another cause begins anew.
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

    // Chosen by cause and text, and page by page.
    let only = |cause, search: &str| HoldFilter {
        cause,
        search: Some(search.into()),
        limit: 10,
        ..HoldFilter::default()
    };
    assert_eq!(
        store
            .list_holds(&only(Some(HoldCause::Guard), ""))
            .await
            .expect("listed")
            .len(),
        1
    );
    assert_eq!(
        store
            .list_holds(&only(None, "ADA"))
            .await
            .expect("listed")
            .len(),
        1
    );
    assert_eq!(
        store
            .list_holds(&only(None, "100%"))
            .await
            .expect("listed")
            .len(),
        0
    );
    let page = HoldFilter {
        after: Some(rows[0].id),
        limit: 1,
        ..HoldFilter::default()
    };
    assert_eq!(
        store.list_holds(&page).await.expect("listed")[0].label,
        "Bo"
    );
    // What is read again is what was kept.
    assert_eq!(store.all_holds().await.expect("read").len(), 3);
}
