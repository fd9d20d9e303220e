//! Kept outcomes: each decision stores what it decided, and the lists of scopes and matches are read
//! from there.

use crate::kept::holdings::{role_holdings, seat_holdings};
use std::collections::{BTreeMap, HashMap, HashSet};
use tide_core::decide::{Decided, Verdict};
use tide_core::incremental::Records;
use tide_core::states::{LinkOrigin, MatchStatus, ScopeStatus, UnmatchedCause};
use tide_core::{Account, ObjectType, Outcome, Population, Reason, ReasonKind, RuleSet};
use tide_store::{KeptOutcomes, OutcomeRecord, OutcomeStatus};

/// The scope status of a line; `None` for a departure and for an orphaned account.
fn scope_status(rules: &RuleSet, line: &Decided) -> Option<ScopeStatus> {
    let is_target_only = || {
        rules
            .of(&line.system, line.object)
            .is_some_and(|types| types.is_target() && !types.is_source())
    };
    match line.verdict {
        Verdict::OnHold => Some(ScopeStatus::OnHold),
        Verdict::OutOfScope => Some(ScopeStatus::Out),
        // A departure: it is out of scope.
        Verdict::Disable if is_target_only() => None,
        Verdict::Orphaned => None,
        _ => Some(ScopeStatus::In),
    }
}

/// The status of a line in matching; questions and links have their own.
fn match_status(line: &Decided) -> Option<MatchStatus> {
    match (line.verdict, line.unmatched) {
        (Verdict::Create, _) => Some(MatchStatus::New),
        (Verdict::Orphaned, Some(UnmatchedCause::NoMatch)) => Some(MatchStatus::Orphaned),
        // A candidate of the record that needs review.
        (Verdict::Orphaned, Some(UnmatchedCause::Candidate)) => None,
        (Verdict::Orphaned, _) | (Verdict::OutOfScope, Some(UnmatchedCause::Skipped)) => {
            Some(MatchStatus::Skipped)
        }
        _ => None,
    }
}

/// Makes records from the parts of a decision.
struct RecordBuilder<'a> {
    outcome: &'a Outcome,
    population: &'a Population,
    accounts: HashMap<i64, &'a Account>,
    labels: HashMap<&'a str, &'a str>,
}

/// A system, a type, and the identity or else the account.
type OutcomeKey<'o> = (&'o str, ObjectType, &'o str, i64);

impl<'a> RecordBuilder<'a> {
    fn new(population: &'a Population, outcome: &'a Outcome) -> RecordBuilder<'a> {
        let accounts = population.accounts.iter();
        let identities = outcome.identities.iter();
        RecordBuilder {
            outcome,
            population,
            accounts: accounts.map(|account| (account.id, account)).collect(),
            labels: identities
                .map(|(identity, label)| (identity.id.as_str(), label.as_str()))
                .collect(),
        }
    }

    fn of_line(&self, line: &Decided, status: OutcomeStatus, reason: Reason) -> OutcomeRecord {
        let account = line.account.and_then(|id| self.accounts.get(&id));
        OutcomeRecord {
            system: line.system.clone(),
            object: line.object,
            status,
            identity: line.identity.clone().unwrap_or_default(),
            account: line.account.unwrap_or_default(),
            account_name: account
                .map(|account| account.name.clone())
                .unwrap_or_default(),
            label: line.label.clone(),
            candidates: 0,
            reason,
        }
    }

    fn of_link(
        &self,
        account: &Account,
        identity: &str,
        status: MatchStatus,
        reason: Reason,
    ) -> OutcomeRecord {
        let label = self.labels.get(identity).copied().unwrap_or(identity);
        OutcomeRecord {
            system: account.system.clone(),
            object: account.kind,
            status: OutcomeStatus::Match(status),
            identity: identity.to_owned(),
            account: account.id,
            account_name: account.name.clone(),
            label: label.to_owned(),
            candidates: 0,
            reason,
        }
    }

    /// The scope: of the lines of one identity in a system, the most restrictive status counts, once.
    fn scope(&self, rules: &RuleSet) -> impl Iterator<Item = OutcomeRecord> {
        let mut of: BTreeMap<OutcomeKey<'_>, (ScopeStatus, &Decided)> = BTreeMap::new();
        for line in &self.outcome.decided {
            let Some(status) = scope_status(rules, line) else {
                continue;
            };
            let identity = line.identity.as_deref().unwrap_or_default();
            let account = line.account.filter(|_| identity.is_empty());
            let subject = (
                line.system.as_str(),
                line.object,
                identity,
                account.unwrap_or_default(),
            );
            let known = of.entry(subject).or_insert((status, line));
            if status > known.0 {
                *known = (status, line);
            }
        }
        of.into_values().map(|(status, line)| {
            let reason = match status {
                ScopeStatus::In => Reason::new(ReasonKind::InScope),
                _ => line.reason.clone(),
            };
            self.of_line(line, OutcomeStatus::Scope(status), reason)
        })
    }

    /// The matches that need review.
    fn questions(&self) -> impl Iterator<Item = OutcomeRecord> {
        let questions = self.outcome.questions.iter();
        let named = questions.filter(|one| one.identity.is_some() || one.account.is_some());
        named.map(|question| {
            let only = (question.accounts.len() == 1).then(|| question.accounts[0]);
            let account = question.account.or(only);
            let found = account.and_then(|id| self.accounts.get(&id));
            let candidates = question.accounts.len() + question.identities.len();
            OutcomeRecord {
                system: question.system.clone(),
                object: question.object,
                status: OutcomeStatus::Match(question.doubt.status()),
                identity: question.identity.clone().unwrap_or_default(),
                account: account.unwrap_or_default(),
                account_name: found
                    .map(|account| account.name.clone())
                    .unwrap_or_default(),
                label: question.label.clone(),
                candidates: i64::try_from(candidates).unwrap_or_default(),
                reason: question.reason.clone(),
            }
        })
    }

    /// The accounts that are linked or will be; of a part, those of the decided records.
    fn links(&self, about: Option<&Records>) -> impl Iterator<Item = OutcomeRecord> {
        let asked: HashSet<(&str, Option<&str>, Option<i64>)> = self
            .outcome
            .questions
            .iter()
            .map(|one| (one.system.as_str(), one.identity.as_deref(), one.account))
            .collect();
        let is_about = move |identity: &String, account: i64| {
            about.is_none_or(|about| {
                about.identities.contains(identity) || about.accounts.contains(&account)
            })
        };
        let new = self.outcome.links.iter().filter_map(|link| {
            let account = self.accounts.get(&link.account)?;
            let status = match link.basis.origin {
                LinkOrigin::Source => MatchStatus::New,
                _ => MatchStatus::WillLink,
            };
            let basis = link.basis.clone();
            let reason = Reason::new(ReasonKind::LinkedBy { basis });
            Some(self.of_link(account, &link.identity, status, reason))
        });
        let known = self.population.links.iter().filter_map(move |link| {
            let account = self.accounts.get(&link.account)?;
            let system = account.system.as_str();
            if account.absent_since.is_some()
                || !is_about(&link.identity, link.account)
                || asked.contains(&(system, Some(link.identity.as_str()), None))
                || asked.contains(&(system, None, Some(account.id)))
            {
                return None;
            }
            let basis = link.basis.clone();
            let reason = Reason::new(ReasonKind::LinkedBy { basis });
            Some(self.of_link(account, &link.identity, MatchStatus::Linked, reason))
        });
        new.chain(known)
    }
}

/// The kept part of an outcome. `about` limits it to the decided records.
pub fn kept_outcomes(
    rules: &RuleSet,
    population: &Population,
    outcome: &Outcome,
    about: Option<&Records>,
) -> KeptOutcomes {
    let mut holdings = role_holdings(rules, population, outcome);
    holdings.extend(seat_holdings(rules, population, outcome));
    if let Some(about) = about {
        // A partial outcome has changes of others.
        holdings.retain(|one| match one.identity.as_str() {
            "" => about.accounts.contains(&one.account),
            identity => about.identities.contains(identity),
        });
    }
    KeptOutcomes {
        records: outcome_records(rules, population, outcome, about),
        holdings,
    }
}

/// What the lists of all systems show of an outcome: of a part, what they show of the decided
/// records.
pub fn outcome_records(
    rules: &RuleSet,
    population: &Population,
    outcome: &Outcome,
    about: Option<&Records>,
) -> Vec<OutcomeRecord> {
    let builder = RecordBuilder::new(population, outcome);
    let matched = outcome.decided.iter().filter_map(|line| {
        let status = OutcomeStatus::Match(match_status(line)?);
        Some(builder.of_line(line, status, line.reason.clone()))
    });
    builder
        .scope(rules)
        .chain(builder.questions())
        .chain(builder.links(about))
        .chain(matched)
        .collect()
}
