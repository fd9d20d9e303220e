//! How accounts find their identity.

use super::super::read::Section;
use super::super::{MatchRule, SupportingValues};
use super::{Scopes, compile_program};
use crate::expr::{Program, Root};
use crate::rules::compare::Compare;
use std::ops::Range;

/// The match rules of one type, in order.
pub(super) fn read_match_rules(section: &Section<'_>, scopes: &Scopes<'_>) -> Vec<MatchRule> {
    let source = section.source;
    let mut all = Vec::new();
    for item in section.list("match") {
        let Some(rule) = section.as_section("match", item, "a match rule") else {
            continue;
        };
        let name = rule
            .text("name")
            .map_or_else(|| "match rule".into(), |(name, _)| name);
        let compares: Vec<_> = Compare::ALL
            .iter()
            .map(|one| (one.as_str(), *one))
            .collect();
        let compare = rule.choice("compare", &compares).unwrap_or_default();
        let certain = rule
            .choice("action", &[("join", true), ("review", false)])
            .unwrap_or(true);
        let (there, here) = (rule.texts("account"), rule.texts("identity"));
        let side = |texts: &[(String, Range<usize>)], root: Root| -> Vec<Program> {
            texts
                .iter()
                .filter_map(|text| compile_program(source, text, &scopes.known(&[root])))
                .collect()
        };
        let (account, identity) = (side(&there, Root::Account), side(&here, Root::Identity));
        let agree = supporting_values(&rule, side);
        let at_least = rule
            .number("min_agreeing")
            .map_or(1, |number| number as usize);
        if at_least > agree.len().max(1) {
            source.error(
                rule.at,
                format!(
                    "`min_agreeing` requires {at_least} supporting values, but {} are named",
                    agree.len()
                ),
                Some("name more in `supporting`, or lower `min_agreeing`".into()),
            );
        }
        if rule.get("account").is_none() || rule.get("identity").is_none() {
            source.error(
                rule.at,
                "a match rule needs two sides",
                Some("account = '…' and identity = '…'".into()),
            );
        } else if there.len() != here.len() {
            source.error(
                rule.at,
                "the two sides of a match rule must have the same number of expressions",
                Some("account = ['account.sn', 'account.birthDate'] and identity = ['identity.familyName', 'identity.birthDate']".into()),
            );
        } else if !account.is_empty()
            && account.len() == there.len()
            && identity.len() == here.len()
        {
            all.push(MatchRule {
                name,
                account,
                identity,
                compare,
                certain,
                supporting: agree,
                min_agreeing: at_least,
                place: rule.place(),
            });
        }
        rule.report_unknown_keys();
    }
    all
}

/// Reads the supporting values of a match rule.
fn supporting_values(
    rule: &Section<'_>,
    side: impl Fn(&[(String, Range<usize>)], Root) -> Vec<Program>,
) -> Vec<SupportingValues> {
    let source = rule.source;
    let mut agree = Vec::new();
    for item in rule.list("supporting") {
        let Some(pair) = rule.as_section("supporting", item, "a supporting value") else {
            continue;
        };
        match (pair.text("account"), pair.text("identity")) {
            (Some(there), Some(here)) => {
                let must = pair.boolean("required").unwrap_or_default();
                let both = side(&[there], Root::Account)
                    .pop()
                    .zip(side(&[here], Root::Identity).pop());
                agree.extend(both.map(|(account, identity)| SupportingValues {
                    account,
                    identity,
                    required: must,
                }));
            }
            _ => source.error(
                pair.at,
                "a supporting value needs two sides",
                Some("{ account = '…', identity = '…' }".into()),
            ),
        }
        pair.report_unknown_keys();
    }
    agree
}
