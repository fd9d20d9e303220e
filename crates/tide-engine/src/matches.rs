//! Matching in a system: counts by status, the records behind them, doubtful ones side by side
//! with their candidates, and answers.

use crate::{Engine, EngineError};
use std::collections::{BTreeMap, HashMap};
use tide_core::decide::Question;
use tide_core::incremental::Records;
use tide_core::model::{Account, AccountId, MatchAnswer, MatchDecision};
use tide_core::states::MatchStatus;
use tide_core::value::format_values;
use tide_core::{Identity, ObjectType, Outcome, Population, Reason, RuleSet, compose};
use tide_store::{
    AnswerRow, NewAnswer, OutcomeCount, OutcomeFilter, OutcomeList, OutcomeRecord, OutcomeStatus,
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
    /// How many lines the filter has.
    pub found: usize,
    /// The answers in effect.
    pub answers: Vec<AnswerRow>,
}

/// One side of a doubtful match.
#[derive(Debug, Clone)]
pub struct MatchSide {
    /// The identity, if it is one.
    pub identity: Option<String>,
    /// The account, if it is one.
    pub account: Option<AccountId>,
    /// What it is called.
    pub name: String,
}

/// One value, on both sides.
#[derive(Debug, Clone)]
pub struct MatchRow {
    /// The attribute.
    pub attribute: String,
    /// The value of the record that is to be matched.
    pub own: String,
    /// The value of each candidate, and whether it is the same but for case and outer blanks.
    pub theirs: Vec<(String, bool)>,
}

/// A doubtful match, side by side.
#[derive(Debug, Clone)]
pub struct MatchCase {
    /// Why it needs review.
    pub status: MatchStatus,
    /// The reason, with the rule behind it.
    pub reason: Reason,
    /// The record that is matched.
    pub own: MatchSide,
    /// The candidates.
    pub candidates: Vec<MatchSide>,
    /// Their values.
    pub rows: Vec<MatchRow>,
}

/// An operator's answer about a match.
#[derive(Debug, Clone)]
pub struct Word {
    /// The identity.
    pub identity: Option<String>,
    /// The account.
    pub account: Option<AccountId>,
    /// The answer.
    pub said: MatchDecision,
}

/// The principal.
#[derive(Debug, Clone, Copy)]
pub struct Actor<'a> {
    /// The principal.
    pub id: &'a str,
    /// The name that reasons tell.
    pub name: &'a str,
}

struct Sight<'a> {
    rules: &'a RuleSet,
    accounts: HashMap<AccountId, &'a Account>,
    identities: HashMap<&'a str, (&'a Identity, &'a str)>,
    /// The identity to which an account belongs now.
    owner: HashMap<AccountId, &'a str>,
}

impl<'a> Sight<'a> {
    fn new(rules: &'a RuleSet, population: &'a Population, outcome: &'a Outcome) -> Self {
        Sight {
            rules,
            accounts: population
                .accounts
                .iter()
                .map(|account| (account.id, account))
                .collect(),
            identities: outcome
                .identities
                .iter()
                .map(|(identity, label)| (identity.id.as_str(), (identity, label.as_str())))
                .collect(),
            owner: population
                .links
                .iter()
                .map(|link| (link.account, link.identity.as_str()))
                .collect(),
        }
    }

    fn name(&self, account: AccountId) -> String {
        self.accounts
            .get(&account)
            .map_or_else(String::new, |account| account.name.clone())
    }

    fn label(&self, identity: &str) -> String {
        self.identities
            .get(identity)
            .map_or_else(|| identity.to_owned(), |(_, label)| (*label).to_owned())
    }

    fn side_of_account(&self, id: AccountId) -> MatchSide {
        MatchSide {
            identity: None,
            account: Some(id),
            name: self.name(id),
        }
    }

    fn side_of_identity(&self, id: &str) -> MatchSide {
        MatchSide {
            identity: Some(id.to_owned()),
            account: None,
            name: self.label(id),
        }
    }

    /// The values of a side, as the other side would have them.
    fn values(&self, question: &Question, side: &MatchSide) -> BTreeMap<String, String> {
        let Some(types) = self.rules.of(&question.system, question.object) else {
            return BTreeMap::new();
        };
        let as_source = question.account.is_some();
        match (
            side.account.and_then(|id| self.accounts.get(&id)),
            side.identity
                .as_deref()
                .and_then(|id| self.identities.get(id)),
        ) {
            (Some(account), _) if as_source => {
                let Some(declared) = self.rules.identities.get(&question.object) else {
                    return BTreeMap::new();
                };
                let sources = [(question.system.as_str(), types, *account)];
                compose::compose_identity(declared, &sources, false)
                    .attributes
                    .iter()
                    .map(|(name, values)| (name.to_owned(), format_values(values)))
                    .collect()
            }
            (Some(account), _) => types
                .outbound
                .iter()
                .map(|m| {
                    (
                        m.attribute.clone(),
                        format_values(account.attributes.get(&m.attribute)),
                    )
                })
                .collect(),
            (None, Some((identity, _))) if as_source => identity
                .attributes
                .iter()
                .map(|(name, values)| (name.to_owned(), format_values(values)))
                .collect(),
            (None, Some((identity, _))) => {
                let mut attributes = identity.attributes.clone();
                attributes.set("id", vec![tide_core::Value::text(&identity.id)]);
                attributes.set(
                    "stage",
                    vec![tide_core::Value::text(identity.stage.as_str())],
                );
                compose::desired(types, &attributes, None)
                    .wanted
                    .into_iter()
                    .map(|w| (w.mapping.attribute.clone(), format_values(&w.values)))
                    .collect()
            }
            (None, None) => BTreeMap::new(),
        }
    }

    fn case(&self, question: &Question) -> MatchCase {
        let own = match (question.account, &question.identity) {
            (Some(account), _) => self.side_of_account(account),
            (None, Some(identity)) => self.side_of_identity(identity),
            (None, None) => MatchSide {
                identity: None,
                account: None,
                name: question.label.clone(),
            },
        };
        let candidates: Vec<MatchSide> = question
            .accounts
            .iter()
            .map(|&id| self.side_of_account(id))
            .chain(
                question
                    .identities
                    .iter()
                    .map(|id| self.side_of_identity(id)),
            )
            .collect();
        let ours = self.values(question, &own);
        let theirs: Vec<BTreeMap<String, String>> = candidates
            .iter()
            .map(|side| self.values(question, side))
            .collect();
        let mut names: Vec<&String> = ours
            .keys()
            .chain(theirs.iter().flat_map(BTreeMap::keys))
            .collect();
        names.sort();
        names.dedup();
        let nothing = format_values(&[]);
        let fold = |text: &str| text.trim().to_lowercase();
        let rows = names
            .into_iter()
            .map(|name| {
                let own = ours.get(name).unwrap_or(&nothing);
                let other = |values: &BTreeMap<String, String>| {
                    let value = values.get(name).unwrap_or(&nothing);
                    (value.clone(), fold(value) == fold(own))
                };
                MatchRow {
                    attribute: name.clone(),
                    own: own.clone(),
                    theirs: theirs.iter().map(other).collect(),
                }
            })
            .filter(|row| {
                row.own != nothing || row.theirs.iter().any(|(value, _)| *value != nothing)
            })
            .collect();
        MatchCase {
            status: question.doubt.status(),
            reason: question.reason.clone(),
            own,
            candidates,
            rows,
        }
    }

    /// Checks that an answer is possible, and returns its subject.
    fn sound(&self, system: &str, kind: ObjectType, word: &Word) -> Result<String, String> {
        let account = match word.account {
            None => None,
            Some(id) => Some(
                *self
                    .accounts
                    .get(&id)
                    .filter(|account| account.system == system && account.kind == kind)
                    .ok_or_else(|| {
                        format!("there is no account {id} of type {kind} in {system}")
                    })?,
            ),
        };
        if let Some(id) = &word.identity
            && self
                .identities
                .get(id.as_str())
                .is_none_or(|(identity, _)| identity.kind != kind)
        {
            return Err(format!("there is no identity {id} of type {kind}"));
        }
        match (word.said, account, &word.identity) {
            (MatchDecision::Join, Some(account), Some(identity)) => {
                if let Some(owner) = self.owner.get(&account.id)
                    && *owner != identity.as_str()
                {
                    return Err(format!(
                        "{} is already linked to {}: `eager-tide identities split {owner} {system}` ends that link first",
                        account.name,
                        self.label(owner)
                    ));
                }
                let other = self.owner.iter().find(|(id, owner)| {
                    **owner == identity.as_str()
                        && **id != account.id
                        && self
                            .accounts
                            .get(id)
                            .is_some_and(|a| a.system == system && a.absent_since.is_none())
                });
                match other {
                    Some((other, _)) => Err(format!(
                        "{} has an account in {system} already: {}",
                        self.label(identity),
                        self.name(*other)
                    )),
                    None => Ok(format!("{} and {}", self.label(identity), account.name)),
                }
            }
            (MatchDecision::Never, Some(account), Some(identity)) => {
                Ok(format!("{} and {}", self.label(identity), account.name))
            }
            (MatchDecision::New | MatchDecision::Skip, Some(account), None) => {
                Ok(account.name.clone())
            }
            (MatchDecision::New | MatchDecision::Skip, None, Some(identity)) => {
                Ok(self.label(identity))
            }
            (MatchDecision::Join | MatchDecision::Never, ..) => Err(format!(
                "`{}` needs an identity and an account",
                word.said.as_str()
            )),
            (MatchDecision::New | MatchDecision::Skip, ..) => Err(format!(
                "`{}` needs an identity or an account",
                word.said.as_str()
            )),
        }
    }
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

impl Engine {
    /// Ends answers that have expired; checked once an hour.
    pub(crate) async fn end_old_answers(&self) -> Result<(), EngineError> {
        let now = self.now();
        {
            let mut next = crate::lock(&self.next_answer_expiry);
            if next.is_some_and(|next| next > now) {
                return Ok(());
            }
            *next = now.checked_add(LOOK_FOR_EXPIRED).ok();
        }
        let before = now.saturating_sub(ANSWER_HOLDS).unwrap_or(now);
        let ended = self.store.end_old_answers(before, now).await?;
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
        self.store.find_system(system).await?;
        self.refresh_outcomes().await?;
        let list = OutcomeList::Matches;
        let kept = self.store.outcome_counts(list, system, kind).await?;
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
        let filter = self.with_search(list, (system, kind), filter, search);
        let filter = filter.await?;
        let (records, found) = self.store.list_records(list, system, kind, &filter).await?;
        let answers = self.store.match_answers(Some(system)).await?;
        Ok(MatchView {
            counts,
            linked_by,
            lines: records.into_iter().filter_map(match_line).collect(),
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
        let near = self.decide_around(&of).await?;
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
        self.store.find_system(system).await?;
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
            let near = self.decide_around(&of).await?;
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
        self.store
            .answer_matches(answers, by.id, self.now())
            .await?;
        Ok(count)
    }

    /// Withdraws an answer: the rules decide again.
    pub async fn take_back_answer(&self, id: i64, principal: &str) -> Result<(), EngineError> {
        Ok(self
            .store
            .take_back_answer(id, principal, self.now())
            .await?)
    }
}
