//! The sentences that people read, in one snapshot. Programs read codes: no other test compares a
//! sentence of these.

use std::collections::BTreeSet;
use tide_core::{ReasonCode, ReasonKind};

/// One example of each reason, as it is stored.
const REASONS: &str = include_str!("texts/reasons.jsonl");

#[test]
fn every_reason_has_a_sentence() {
    let mut codes = BTreeSet::new();
    let mut text = String::new();
    for line in REASONS.lines() {
        let reason: ReasonKind = serde_json::from_str(line).expect(line);
        let stored = serde_json::to_string(&reason).expect("written");
        assert_eq!(stored, line, "it is stored as it was read");
        codes.insert(reason.code());
        text.push_str(&format!("{}: {reason}\n", reason.code()));
    }
    let all: BTreeSet<ReasonCode> = ReasonCode::ALL.iter().copied().collect();
    assert_eq!(codes, all, "an example of each");
    insta::assert_snapshot!("reasons", text);
}

#[test]
fn the_arguments_of_a_reason_are_read_by_name() {
    let paused = ReasonKind::Paused {
        system: "berthing".to_owned(),
    };
    assert_eq!(
        serde_json::Value::Object(paused.args()),
        serde_json::json!({ "system": "berthing" })
    );
    assert!(ReasonKind::InSync.args().is_empty());
}
