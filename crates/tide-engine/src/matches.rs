//! How the accounts of a system and the identities find each other: counted by outcome, with the people
//! behind each number, the doubtful ones side by side, and what people say about them.

use crate::{Engine, EngineError};
use std::collections::{BTreeMap, HashMap, HashSet};
use tide_core::compose;
use tide_core::decide::{Question, Verdict};
use tide_core::matching::{Answer, Said};
use tide_core::model::{Account, AccountId};
use tide_core::value::show;
use tide_core::{Identity, ObjectType, Outcome, Place, Population, RuleSet};
use tide_store::{AnswerRow, NewAnswer};

/// One person or account, and how its match stands.
#[derive(Debug, Clone)]
pub struct MatchLine {
    /// `joined`, `will_join`, `new`, `unowned`, `left_alone`, or the word of a doubt.
    pub word: &'static str,
    /// Whom it is about.
    pub label: String,
    /// The identity, if there is one.
    pub identity: Option<String>,
    /// The account, if there is one: its row and what it is called there.
    pub account: Option<(AccountId, String)>,
    /// How many candidates there are.
    pub candidates: usize,
    /// Why.
    pub reason: String,
    /// The rule behind it.
    pub rule: Option<Place>,
}

/// How matching stands in a system.
#[derive(Debug, Clone)]
pub struct MatchView {
    /// How many there are of each word, in the order in which they are shown.
    pub counts: Vec<(&'static str, usize)>,
    /// What joined, or would join, how many.
    pub joined_by: Vec<(String, usize)>,
    /// Everybody.
    pub lines: Vec<MatchLine>,
    /// What people said, and holds.
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
    /// The value of the one that looks for its other half.
    pub own: String,
    /// The value of each candidate, and whether it is the same but for case and outer blanks.
    pub theirs: Vec<(String, bool)>,
}

/// A doubtful match, side by side.
#[derive(Debug, Clone)]
pub struct MatchCase {
    /// Why it is asked: the word of a doubt.
    pub word: &'static str,
    /// What is asked.
    pub reason: String,
    /// The rule behind it.
    pub rule: Option<Place>,
    /// Who looks for its other half.
    pub own: MatchSide,
    /// Who it may be.
    pub candidates: Vec<MatchSide>,
    /// Their values.
    pub rows: Vec<MatchRow>,
}

/// Something that a person says about a match.
#[derive(Debug, Clone)]
pub struct Word {
    /// The identity.
    pub identity: Option<String>,
    /// The account.
    pub account: Option<AccountId>,
    /// What is said.
    pub said: Said,
}

/// Who says it.
#[derive(Debug, Clone, Copy)]
pub struct Asker<'a> {
    /// The principal.
    pub id: &'a str,
    /// The name that reasons tell.
    pub name: &'a str,
}

/// All words, in the order in which they are shown: what needs somebody first.
const WORDS: [&str; 10] = ["ambiguous", "asked", "claimed_twice", "taken", "moved", "will_join", "new", "unowned", "left_alone", "joined"];

struct Sight<'a> {
    rules: &'a RuleSet,
    outcome: &'a Outcome,
    accounts: HashMap<AccountId, &'a Account>,
    identities: HashMap<&'a str, (&'a Identity, &'a str)>,
    /// To whom an account belongs now, and by what.
    owner: HashMap<AccountId, (&'a str, &'a str)>,
}

impl<'a> Sight<'a> {
    fn new(rules: &'a RuleSet, population: &'a Population, outcome: &'a Outcome) -> Self {
        Sight {
            rules,
            outcome,
            accounts: population.accounts.iter().map(|account| (account.id, account)).collect(),
            identities: outcome.identities.iter().map(|(identity, label)| (identity.id.as_str(), (identity, label.as_str()))).collect(),
            owner: population.links.iter().map(|link| (link.account, (link.identity.as_str(), link.made_by.as_str()))).collect(),
        }
    }

    fn name(&self, account: AccountId) -> String {
        self.accounts.get(&account).map_or_else(String::new, |account| account.name.clone())
    }

    fn label(&self, identity: &str) -> String {
        self.identities.get(identity).map_or_else(|| identity.to_owned(), |(_, label)| (*label).to_owned())
    }

    fn lines(&self, system: &str, kind: ObjectType) -> Vec<MatchLine> {
        let mut lines = Vec::new();
        let mut told: HashSet<(Option<&str>, Option<AccountId>)> = HashSet::new();
        for question in self.outcome.questions.iter().filter(|q| q.system == system && q.object == kind) {
            told.insert((question.identity.as_deref(), question.account));
            let own = question.account.or((question.accounts.len() == 1).then(|| question.accounts[0]));
            lines.push(MatchLine {
                word: question.doubt.word(),
                label: question.label.clone(),
                identity: question.identity.clone(),
                account: own.map(|id| (id, self.name(id))),
                candidates: question.accounts.len() + question.identities.len(),
                reason: question.reason.text.clone(),
                rule: question.reason.rule.clone(),
            });
        }
        for link in &self.outcome.links {
            let Some(account) = self.accounts.get(&link.account).filter(|a| a.system == system && a.kind == kind) else { continue };
            let first = link.made_by.starts_with("first seen in ");
            lines.push(MatchLine {
                word: if first { "new" } else { "will_join" },
                label: self.label(&link.identity),
                identity: Some(link.identity.clone()),
                account: Some((account.id, account.name.clone())),
                candidates: 0,
                reason: link.made_by.clone(),
                rule: None,
            });
        }
        for line in self.outcome.decided.iter().filter(|line| line.system == system && line.object == kind) {
            let word = match line.verdict {
                Verdict::Create => "new",
                Verdict::Unowned if line.reason.text.starts_with("no identity matches") => "unowned",
                // A candidate stands beside the one who is asked about.
                Verdict::Unowned if line.reason.text.starts_with("it may be ") => continue,
                Verdict::Unowned => "left_alone",
                Verdict::OutOfScope if line.reason.text.starts_with("left as it is:") => "left_alone",
                _ => continue,
            };
            lines.push(MatchLine {
                word,
                label: line.label.clone(),
                identity: line.identity.clone(),
                account: line.account.map(|id| (id, self.name(id))),
                candidates: 0,
                reason: line.reason.text.clone(),
                rule: line.reason.rule.clone(),
            });
        }
        for (account, (identity, made_by)) in &self.owner {
            let Some(account) = self.accounts.get(account).filter(|a| a.system == system && a.kind == kind && a.absent_since.is_none())
            else {
                continue;
            };
            if told.contains(&(Some(*identity), None)) || told.contains(&(None, Some(account.id))) {
                continue;
            }
            lines.push(MatchLine {
                word: "joined",
                label: self.label(identity),
                identity: Some((*identity).to_owned()),
                account: Some((account.id, account.name.clone())),
                candidates: 0,
                reason: (*made_by).to_owned(),
                rule: None,
            });
        }
        let rank = |word: &str| WORDS.iter().position(|known| *known == word);
        lines.sort_by(|a, b| (rank(a.word), &a.label, &a.account).cmp(&(rank(b.word), &b.label, &b.account)));
        lines
    }

    fn side_of_account(&self, id: AccountId) -> MatchSide {
        MatchSide { identity: None, account: Some(id), name: self.name(id) }
    }

    fn side_of_identity(&self, id: &str) -> MatchSide {
        MatchSide { identity: Some(id.to_owned()), account: None, name: self.label(id) }
    }

    /// The values of a side, as the other side would have them.
    fn values(&self, question: &Question, side: &MatchSide) -> BTreeMap<String, String> {
        let Some(types) = self.rules.of(&question.system, question.object) else { return BTreeMap::new() };
        let as_source = question.account.is_some();
        match (side.account.and_then(|id| self.accounts.get(&id)), side.identity.as_deref().and_then(|id| self.identities.get(id))) {
            (Some(account), _) if as_source => {
                let Some(declared) = self.rules.identities.get(&question.object) else { return BTreeMap::new() };
                let sources = [(question.system.as_str(), types, *account)];
                compose::identity(declared, &sources, false)
                    .attributes
                    .iter()
                    .map(|(name, values)| (name.to_owned(), show(values)))
                    .collect()
            }
            (Some(account), _) => {
                types.outbound.iter().map(|m| (m.attribute.clone(), show(account.attributes.get(&m.attribute)))).collect()
            }
            (None, Some((identity, _))) if as_source => {
                identity.attributes.iter().map(|(name, values)| (name.to_owned(), show(values))).collect()
            }
            (None, Some((identity, _))) => {
                let mut attributes = identity.attributes.clone();
                attributes.set("id", vec![tide_core::Value::text(&identity.id)]);
                attributes.set("stage", vec![tide_core::Value::text(identity.stage.word())]);
                compose::desired(types, &attributes, None)
                    .wanted
                    .into_iter()
                    .map(|w| (w.mapping.attribute.clone(), show(&w.values)))
                    .collect()
            }
            (None, None) => BTreeMap::new(),
        }
    }

    fn case(&self, question: &Question) -> MatchCase {
        let own = match (question.account, &question.identity) {
            (Some(account), _) => self.side_of_account(account),
            (None, Some(identity)) => self.side_of_identity(identity),
            (None, None) => MatchSide { identity: None, account: None, name: question.label.clone() },
        };
        let candidates: Vec<MatchSide> = question
            .accounts
            .iter()
            .map(|&id| self.side_of_account(id))
            .chain(question.identities.iter().map(|id| self.side_of_identity(id)))
            .collect();
        let ours = self.values(question, &own);
        let theirs: Vec<BTreeMap<String, String>> = candidates.iter().map(|side| self.values(question, side)).collect();
        let mut names: Vec<&String> = ours.keys().chain(theirs.iter().flat_map(BTreeMap::keys)).collect();
        names.sort();
        names.dedup();
        let nothing = show(&[]);
        let fold = |text: &str| text.trim().to_lowercase();
        let rows = names
            .into_iter()
            .map(|name| {
                let own = ours.get(name).unwrap_or(&nothing);
                let other = |values: &BTreeMap<String, String>| {
                    let value = values.get(name).unwrap_or(&nothing);
                    (value.clone(), fold(value) == fold(own))
                };
                MatchRow { attribute: name.clone(), own: own.clone(), theirs: theirs.iter().map(other).collect() }
            })
            .filter(|row| row.own != nothing || row.theirs.iter().any(|(value, _)| *value != nothing))
            .collect();
        MatchCase {
            word: question.doubt.word(),
            reason: question.reason.text.clone(),
            rule: question.reason.rule.clone(),
            own,
            candidates,
            rows,
        }
    }

    /// Is this a thing that can be said? If so: whom it is about.
    fn sound(&self, system: &str, kind: ObjectType, word: &Word) -> Result<String, String> {
        let account = match word.account {
            None => None,
            Some(id) => Some(
                *self
                    .accounts
                    .get(&id)
                    .filter(|account| account.system == system && account.kind == kind)
                    .ok_or_else(|| format!("there is no account {id} of type {kind} in {system}"))?,
            ),
        };
        if let Some(id) = &word.identity
            && self.identities.get(id.as_str()).is_none_or(|(identity, _)| identity.kind != kind)
        {
            return Err(format!("there is no identity {id} of type {kind}"));
        }
        match (word.said, account, &word.identity) {
            (Said::Join, Some(account), Some(identity)) => {
                if let Some((owner, _)) = self.owner.get(&account.id)
                    && owner != identity
                {
                    return Err(format!(
                        "{} belongs to {} already, and is not moved silently: `eager-tide identities split {owner} {system}` frees it first",
                        account.name,
                        self.label(owner)
                    ));
                }
                let other = self.owner.iter().find(|(id, (owner, _))| {
                    owner == identity
                        && **id != account.id
                        && self.accounts.get(id).is_some_and(|a| a.system == system && a.absent_since.is_none())
                });
                match other {
                    Some((other, _)) => Err(format!("{} has an account in {system} already: {}", self.label(identity), self.name(*other))),
                    None => Ok(format!("{} and {}", self.label(identity), account.name)),
                }
            }
            (Said::Never, Some(account), Some(identity)) => Ok(format!("{} and {}", self.label(identity), account.name)),
            (Said::New | Said::Skip, Some(account), None) => Ok(account.name.clone()),
            (Said::New | Said::Skip, None, Some(identity)) => Ok(self.label(identity)),
            (Said::Join | Said::Never, ..) => Err(format!("`{}` is said of an identity and an account", word.said.word())),
            (Said::New | Said::Skip, ..) => Err(format!("`{}` is said of an identity or an account", word.said.word())),
        }
    }
}

/// How long an answer about a match holds, if it is not taken back before: then it is asked again, if it is still in doubt.
pub(crate) const ANSWER_HOLDS: jiff::SignedDuration = jiff::SignedDuration::from_hours(365 * 24);
/// How often it is looked for answers that have expired.
const LOOK_FOR_EXPIRED: jiff::SignedDuration = jiff::SignedDuration::from_hours(1);

impl Engine {
    /// Ends answers that have expired. It is looked for them once an hour.
    pub(crate) async fn end_old_answers(&self) -> Result<(), EngineError> {
        let now = self.now();
        {
            let mut next = crate::lock(&self.answers_due);
            if next.is_some_and(|next| next > now) {
                return Ok(());
            }
            *next = now.checked_add(LOOK_FOR_EXPIRED).ok();
        }
        let before = now.saturating_sub(ANSWER_HOLDS).unwrap_or(now);
        let ended = self.store.end_old_answers(before, now).await?;
        if ended > 0 {
            tracing::info!(ended, "answers about matches have expired");
        }
        Ok(())
    }

    /// How matching stands in a system, as it works out now.
    pub async fn matches(&self, system: &str, kind: ObjectType) -> Result<MatchView, EngineError> {
        self.store.system(system).await?;
        let (rules, population, outcome) = self.decide_now().await?;
        let lines = Sight::new(&rules.set, &population, &outcome).lines(system, kind);
        let count = |word: &str| lines.iter().filter(|line| line.word == word).count();
        let counts = WORDS.iter().map(|word| (*word, count(word))).collect();
        let mut joined_by: BTreeMap<String, usize> = BTreeMap::new();
        for line in lines.iter().filter(|line| ["joined", "will_join"].contains(&line.word)) {
            *joined_by.entry(line.reason.clone()).or_default() += 1;
        }
        let mut joined_by: Vec<(String, usize)> = joined_by.into_iter().collect();
        joined_by.sort_by(|a, b| (b.1, &a.0).cmp(&(a.1, &b.0)));
        let answers = self.store.match_answers(Some(system)).await?;
        Ok(MatchView { counts, joined_by, lines, answers })
    }

    /// A doubtful match, side by side: of an identity that looks for its account, or the other way round.
    pub async fn match_case(
        &self,
        system: &str,
        kind: ObjectType,
        identity: Option<&str>,
        account: Option<AccountId>,
    ) -> Result<MatchCase, EngineError> {
        let (rules, population, outcome) = self.decide_now().await?;
        let about = |question: &&Question| {
            let same = |own: &Option<String>| identity.is_some() && own.as_deref() == identity;
            question.system == system
                && question.object == kind
                && (same(&question.identity) || (account.is_some() && question.account == account))
        };
        let question = outcome
            .questions
            .iter()
            .find(about)
            .ok_or_else(|| EngineError::Conflict("nothing is asked about it: it was answered, or the data has changed since".into()))?;
        Ok(Sight::new(&rules.set, &population, &outcome).case(question))
    }

    /// Keeps what a person says about matches, all or none.
    pub async fn answer_matches(&self, system: &str, kind: ObjectType, words: &[Word], by: &Asker<'_>) -> Result<usize, EngineError> {
        self.store.system(system).await?;
        let (rules, population, outcome) = self.decide_now().await?;
        let sight = Sight::new(&rules.set, &population, &outcome);
        let mut answers = Vec::with_capacity(words.len());
        let mut given: HashMap<AccountId, &str> = HashMap::new();
        for word in words {
            let label = sight.sound(system, kind, word).map_err(EngineError::Invalid)?;
            if let (Said::Join, Some(account), Some(identity)) = (word.said, word.account, word.identity.as_deref())
                && given.insert(account, identity).is_some_and(|before| before != identity)
            {
                return Err(EngineError::Conflict(format!("{} cannot be joined to two identities", sight.name(account))));
            }
            let answer = Answer {
                system: system.to_owned(),
                identity: word.identity.clone(),
                account: word.account,
                said: word.said,
                principal: by.name.to_owned(),
            };
            answers.push(NewAnswer { answer, object: kind, label });
        }
        let count = answers.len();
        self.store.answer_matches(answers, by.id, self.now()).await?;
        Ok(count)
    }

    /// Takes an answer back: the rules decide again.
    pub async fn take_back_answer(&self, id: i64, principal: &str) -> Result<(), EngineError> {
        Ok(self.store.take_back_answer(id, principal, self.now()).await?)
    }
}
