//! Matching in a system: counts by status, the records behind them, and answers.

mod cases;

pub use cases::{MatchCase, MatchRow, MatchSide, Word};

use crate::error::EngineError;
use crate::governance::MatchReview;
use crate::governance::matches::cases::Sight;
use std::collections::{BTreeMap, HashMap};
use tide_core::decide::Question;
use tide_core::incremental::Records;
use tide_core::model::{AccountId, MatchAnswer, MatchDecision};
use tide_core::states::MatchStatus;
use tide_core::{ObjectType, Reason};
use tide_store::{
    AnswerRow, NewAnswer, OutcomeCount, OutcomeFilter, OutcomeList, OutcomePosition, OutcomeRecord,
    OutcomeStatus,
};

/// One person or account, with the state of its match.
#[derive(Debug, Clone)]
pub struct MatchLine {
    /// The status.
    pub status: MatchStatus,
    /// The label of the person or account that it is about.
    pub label: String,
    /// The identity, if there is one.
    pub identity: Option<String>,
    /// The account, if there is one: its row and what it is called there.
    pub account: Option<(AccountId, String)>,
    /// How many candidates there are.
    pub candidates: usize,
    /// Why, with the rule behind it.
    pub reason: Reason,
}

/// The state of matching in a system.
#[derive(Debug, Clone)]
pub struct MatchView {
    /// How many there are of each status, in the order in which they are shown.
    pub counts: Vec<(MatchStatus, usize)>,
    /// The number of links by origin.
    pub linked_by: Vec<(String, usize)>,
    /// The lines of the filter, up to its limit.
    pub lines: Vec<MatchLine>,
    /// Where the next page begins.
    pub next: Option<OutcomePosition>,
    /// How many lines the filter has.
    pub found: usize,
    /// The answers in effect.
    pub answers: Vec<AnswerRow>,
}

/// The principal.
#[derive(Debug, Clone, Copy)]
pub struct Actor<'a> {
    /// The principal.
    pub id: &'a str,
    /// The name that reasons tell.
    pub name: &'a str,
}

/// The line of an outcome.
fn match_line(record: OutcomeRecord) -> Option<MatchLine> {
    let OutcomeStatus::Match(status) = record.status else {
        return None;
    };
    let account = (record.account != 0).then_some((record.account, record.account_name));
    Some(MatchLine {
        status,
        label: record.label,
        identity: Some(record.identity).filter(|id| !id.is_empty()),
        account,
        candidates: usize::try_from(record.candidates).unwrap_or_default(),
        reason: record.reason,
    })
}

/// How long an answer about a match is valid, unless it is withdrawn. Afterwards the match needs
/// review again, if it is still ambiguous.
pub(crate) const ANSWER_HOLDS: jiff::SignedDuration = jiff::SignedDuration::from_hours(365 * 24);

/// The number of answers that are checked together.
const TOGETHER: usize = 500;

/// The interval at which expired answers are removed.
const LOOK_FOR_EXPIRED: jiff::SignedDuration = jiff::SignedDuration::from_hours(1);

impl MatchReview {
    /// Ends answers that have expired; checked once an hour.
    pub(crate) async fn end_old_answers(&self) -> Result<(), EngineError> {
        let now = self.context.now();
        {
            let mut next = crate::lock(&self.next_answer_expiry);
            if next.is_some_and(|next| next > now) {
                return Ok(());
            }
            *next = now.checked_add(LOOK_FOR_EXPIRED).ok();
        }
        let before = now.saturating_sub(ANSWER_HOLDS).unwrap_or(now);
        let ended = self.context.store.end_old_answers(before, now).await?;
        if ended > 0 {
            tracing::info!(answers = ended, "answers about matches have expired");
        }
        Ok(())
    }

    /// The state of matching in a system, as decided last.
    pub async fn list_matches(
        &self,
        system: &str,
        kind: ObjectType,
        filter: &OutcomeFilter,
        search: &str,
    ) -> Result<MatchView, EngineError> {
        self.context.store.find_system(system).await?;
        self.decider.refresh_outcomes().await?;
        let list = OutcomeList::Matches;
        let kept = self
            .context
            .store
            .outcome_counts(list, system, kind)
            .await?;
        let size = |count: &OutcomeCount| usize::try_from(count.count).unwrap_or_default();
        let of = |status: MatchStatus| {
            let theirs = kept
                .iter()
                .filter(|count| count.status == OutcomeStatus::Match(status));
            theirs.map(size).sum()
        };
        let counts = MatchStatus::ALL
            .iter()
            .map(|status| (*status, of(*status)))
            .collect();
        let mut linked_by: BTreeMap<String, usize> = BTreeMap::new();
        for count in &kept {
            if let OutcomeStatus::Match(MatchStatus::Linked | MatchStatus::WillLink) = count.status
            {
                *linked_by.entry(count.group.clone()).or_default() += size(count);
            }
        }
        let mut linked_by: Vec<(String, usize)> = linked_by.into_iter().collect();
        linked_by.sort_by(|a, b| (b.1, &a.0).cmp(&(a.1, &b.0)));
        let filter = self
            .decider
            .with_search(list, (system, kind), filter, search);
        let filter = filter.await?;
        let store = &self.context.store;
        let page = store.list_records(list, system, kind, &filter).await?;
        let found = store.count_found(list, system, kind, &filter).await?;
        let answers = self.context.store.match_answers(Some(system)).await?;
        Ok(MatchView {
            counts,
            linked_by,
            lines: page.records.into_iter().filter_map(match_line).collect(),
            next: page.next,
            found: usize::try_from(found).unwrap_or_default(),
            answers,
        })
    }

    /// An ambiguous match, side by side: an identity with its candidate accounts, or an account
    /// with its candidate identities.
    ///
    /// # Errors
    /// `Conflict` if the record no longer needs an answer.
    pub async fn match_case(
        &self,
        system: &str,
        kind: ObjectType,
        identity: Option<&str>,
        account: Option<AccountId>,
    ) -> Result<MatchCase, EngineError> {
        let of = Records {
            accounts: account.into_iter().collect(),
            identities: identity.map(str::to_owned).into_iter().collect(),
        };
        let near = self.decider.decide_around(&of).await?;
        let (rules, population, outcome) = (near.rules, near.population, near.outcome);
        let about = |question: &&Question| {
            let same = |own: &Option<String>| identity.is_some() && own.as_deref() == identity;
            question.system == system
                && question.object == kind
                && (same(&question.identity) || (account.is_some() && question.account == account))
        };
        let question = outcome.questions.iter().find(about).ok_or_else(|| {
            EngineError::Conflict(
                "it needs no review: it was answered, or the data has changed since".into(),
            )
        })?;
        Ok(Sight::new(&rules.set, &population, &outcome).case(question))
    }

    /// Stores an operator's answers about matches, all or none.
    ///
    /// # Errors
    /// `Invalid` for an answer that does not fit its record; `Conflict` if one account would be
    /// linked to two identities. Nothing is stored then.
    pub async fn answer_matches(
        &self,
        system: &str,
        kind: ObjectType,
        words: &[Word],
        by: &Actor<'_>,
    ) -> Result<usize, EngineError> {
        self.context.store.find_system(system).await?;
        let mut answers = Vec::with_capacity(words.len());
        let mut given: HashMap<AccountId, &str> = HashMap::new();
        for words in words.chunks(TOGETHER) {
            let of = Records {
                accounts: words.iter().filter_map(|word| word.account).collect(),
                identities: words
                    .iter()
                    .filter_map(|word| word.identity.clone())
                    .collect(),
            };
            let near = self.decider.decide_around(&of).await?;
            let sight = Sight::new(&near.rules.set, &near.population, &near.outcome);
            for word in words {
                let label = sight
                    .sound(system, kind, word)
                    .map_err(EngineError::Invalid)?;
                if let (MatchDecision::Join, Some(account), Some(identity)) =
                    (word.said, word.account, word.identity.as_deref())
                    && given
                        .insert(account, identity)
                        .is_some_and(|before| before != identity)
                {
                    return Err(EngineError::Conflict(format!(
                        "{} cannot be linked to two identities",
                        sight.name(account)
                    )));
                }
                let answer = MatchAnswer {
                    system: system.to_owned(),
                    identity: word.identity.clone(),
                    account: word.account,
                    decision: word.said,
                    principal: by.name.to_owned(),
                };
                answers.push(NewAnswer {
                    answer,
                    object: kind,
                    label,
                });
            }
        }
        let count = answers.len();
        self.context
            .store
            .answer_matches(answers, by.id, self.context.now())
            .await?;
        Ok(count)
    }

    /// Withdraws an answer: the rules decide again.
    pub async fn take_back_answer(&self, id: i64, principal: &str) -> Result<(), EngineError> {
        Ok(self
            .context
            .store
            .take_back_answer(id, principal, self.context.now())
            .await?)
    }
}
