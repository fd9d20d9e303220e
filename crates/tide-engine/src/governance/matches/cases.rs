//! Doubtful matches side by side with their candidates.

use std::collections::{BTreeMap, HashMap};
use tide_core::decide::Question;
use tide_core::model::{Account, AccountId, MatchDecision};
use tide_core::states::MatchStatus;
use tide_core::value::format_values;
use tide_core::{Identity, ObjectType, Outcome, Population, Reason, RuleSet, compose};

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

pub(crate) struct Sight<'a> {
    rules: &'a RuleSet,
    accounts: HashMap<AccountId, &'a Account>,
    identities: HashMap<&'a str, (&'a Identity, &'a str)>,
    /// The identity to which an account belongs now.
    owner: HashMap<AccountId, &'a str>,
}

impl<'a> Sight<'a> {
    pub(super) fn new(
        rules: &'a RuleSet,
        population: &'a Population,
        outcome: &'a Outcome,
    ) -> Self {
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

    pub(super) fn name(&self, account: AccountId) -> String {
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

    pub(super) fn case(&self, question: &Question) -> MatchCase {
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
    pub(super) fn sound(
        &self,
        system: &str,
        kind: ObjectType,
        word: &Word,
    ) -> Result<String, String> {
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
