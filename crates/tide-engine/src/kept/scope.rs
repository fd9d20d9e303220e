//! The lines of a scope, and their counts by reason.

use crate::kept::outcome_records;
use std::collections::BTreeMap;
use tide_core::states::ScopeStatus;
use tide_core::{ObjectType, Outcome, Place, Population, Reason, ReasonCode, RuleSet};
use tide_store::{OutcomeRecord, OutcomeStatus};

/// One person or account, with its scope status.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ScopeLine {
    /// Its location in the rule files.
    pub status: ScopeStatus,
    /// The label of the person or account that it is about.
    pub label: String,
    /// The name of the account, if there is one.
    pub account: Option<String>,
    /// The identity, if there is or will be one.
    pub identity: Option<String>,
    /// Why, with the rule behind it.
    pub reason: Reason,
}

/// How many status somewhere for one reason.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ScopeCount {
    /// Where they status.
    pub status: ScopeStatus,
    /// Why.
    pub code: ReasonCode,
    /// Why, in words that fit them all.
    pub reason: String,
    /// The rule behind it.
    pub rule: Option<Place>,
    /// How many.
    pub count: usize,
}

/// The line of an outcome, if it has a scope status.
pub(crate) fn scope_line(record: OutcomeRecord) -> Option<ScopeLine> {
    let some = |text: String| Some(text).filter(|text| !text.is_empty());
    let OutcomeStatus::Scope(status) = record.status else {
        return None;
    };
    Some(ScopeLine {
        status,
        reason: record.reason,
        label: record.label,
        account: some(record.account_name),
        identity: some(record.identity),
    })
}

/// Counts by status, reason and rule. Reasons that differ in their arguments only are counted
/// together, with a sentence of the words that they share.
pub(crate) fn count_reasons(lines: &[ScopeLine]) -> Vec<ScopeCount> {
    let mut groups: BTreeMap<_, Vec<String>> = BTreeMap::new();
    for line in lines {
        let rule = line.reason.rule.as_ref();
        let place = rule.map(|place| (place.file.clone(), place.line, place.column));
        groups
            .entry((line.status, line.reason.code(), place))
            .or_default()
            .push(line.reason.to_string());
    }
    let mut counts: Vec<ScopeCount> = groups
        .into_iter()
        .map(|((status, code, place), texts)| ScopeCount {
            status,
            code,
            reason: shared_text(&texts),
            rule: place.map(|(file, line, column)| Place { file, line, column }),
            count: texts.len(),
        })
        .collect();
    sort_counts(&mut counts);
    counts
}

/// The most important first.
pub(crate) fn sort_counts(counts: &mut [ScopeCount]) {
    counts.sort_by(|a, b| {
        (a.status, std::cmp::Reverse(a.count), &a.reason).cmp(&(
            b.status,
            std::cmp::Reverse(b.count),
            &b.reason,
        ))
    });
}

/// The lines of a system's scope, by status and label.
pub(crate) fn scope_lines(
    outcome: &Outcome,
    population: &Population,
    rules: &RuleSet,
    system: &str,
    kind: ObjectType,
) -> Vec<ScopeLine> {
    let records = outcome_records(rules, population, outcome, None).into_iter();
    let here = records.filter(|one| one.system == system && one.object == kind);
    let mut lines: Vec<ScopeLine> = here.filter_map(scope_line).collect();
    lines.sort_by(|a, b| (a.status, &a.label, &a.account).cmp(&(b.status, &b.label, &b.account)));
    lines
}

/// The common beginning and end of texts, with an ellipsis between.
pub(crate) fn shared_text(texts: &[String]) -> String {
    let first: Vec<&str> = texts[0].split(' ').collect();
    let all: Vec<Vec<&str>> = texts.iter().map(|text| text.split(' ').collect()).collect();
    let shortest = all.iter().map(Vec::len).min().unwrap_or(0);
    let head = (0..shortest)
        .take_while(|&at| all.iter().all(|words| words[at] == first[at]))
        .count();
    if all.iter().all(|words| words.len() == head) {
        return texts[0].clone();
    }
    let tail = (1..=shortest - head)
        .take_while(|&back| {
            all.iter()
                .all(|words| words[words.len() - back] == first[first.len() - back])
        })
        .count();
    let end = &first[first.len() - tail..];
    let mut words: Vec<&str> = first[..head].to_vec();
    words.push("…");
    words.extend(end);
    words.join(" ")
}

#[cfg(test)]
mod tests {
    use super::*;
    use tide_core::ReasonKind;

    #[test]
    fn reasons_are_counted_by_the_words_that_they_share() {
        let shared = |texts: &[&str]| {
            let texts: Vec<String> = texts.iter().map(|text| (*text).to_owned()).collect();
            shared_text(&texts)
        };
        assert_eq!(shared(&["a b c"]), "a b c");
        assert_eq!(
            shared(&[
                "the address x lies outside ours",
                "the address y lies outside ours"
            ]),
            "the address … lies outside ours"
        );
        assert_eq!(shared(&["a", "b"]), "…");
        assert_eq!(
            shared(&["waits for mail", "waits for mail and name"]),
            "waits for mail …"
        );
    }

    fn out_line(kind: ReasonKind, line: usize) -> ScopeLine {
        let rule = Place {
            file: "systems/harbour.toml".into(),
            line,
            column: 1,
        };
        ScopeLine {
            status: ScopeStatus::Out,
            label: "Ada".into(),
            account: None,
            identity: None,
            reason: Reason::by(kind, &rule),
        }
    }

    #[test]
    fn reasons_are_counted_by_code_and_rule() {
        let outside = |container: &str| ReasonKind::OutsideContainers {
            containers: vec![container.to_owned()],
        };
        let lines = [
            out_line(outside("ou=a"), 3),
            out_line(outside("ou=b"), 3),
            // The same rule with another code, and the same code by another rule.
            out_line(ReasonKind::NoDn, 3),
            out_line(outside("ou=a"), 7),
        ];
        let counts: Vec<(ReasonCode, usize, usize)> = count_reasons(&lines)
            .iter()
            .map(|count| {
                (
                    count.code,
                    count.rule.as_ref().expect("a rule").line,
                    count.count,
                )
            })
            .collect();
        assert_eq!(
            counts,
            [
                (ReasonCode::OutsideContainers, 3, 2),
                (ReasonCode::NoDn, 3, 1),
                (ReasonCode::OutsideContainers, 7, 1),
            ]
        );
    }
}
