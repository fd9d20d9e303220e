//! The second half of a decision: the desired account of each identity in each target.

mod accounts;
mod deprovision;
mod membership;

use crate::decide::exclusions;
use crate::states::{LinkBasis, LinkOrigin, UnmatchedCause};
pub(super) use accounts::reported;
pub use accounts::{MUST_CHANGE, PASSWORD_MARK};

use super::people::{Person, account_label};
use super::references::{self, ReferenceWaits};
use super::{
    Change, ChangeKind, Decided, Doubt, NewLink, Outcome, Question, Verdict, file_of, fingerprint,
};
use crate::compose;
use crate::expr::EvalInputs;
use crate::matching::{AccountIndex, IdentityIndex, MatchAnswers, MatchResult};
use crate::memberships::MembershipRules;
use crate::model::{Account, MatchAnswer, MatchDecision, Population, SystemFacts};
use crate::reasons::{HoldCause, MatchDoubt, Reason, ReasonKind};
use crate::rules::{OnDeleted, OnOrphaned, RuleSet, TypeRules};
use crate::schema::Schema;
use crate::scope::{self, Groups, ScopeDecision, ScopeSubject};
use crate::states::ObjectType;
use crate::value::Value;
use crate::workers::Workers;
use jiff::Timestamp;
use std::collections::{HashMap, HashSet};

/// One target while it is being decided about.
struct TargetDecision<'a> {
    rules: &'a RuleSet,
    population: &'a Population,
    groups: &'a Groups<'a>,
    memberships: &'a MembershipRules,
    kind: ObjectType,
    system: &'a str,
    types: &'a TypeRules,
    facts: SystemFacts,
    schema: Option<&'a Schema>,
    /// The accounts that are there.
    members: &'a [usize],
    /// The object that has each value that must be unique in the target, as a position in the
    /// population: by attribute and folded value. Computed on first use.
    unique_values: Option<HashMap<(String, String), usize>>,
    /// How accounts should look.
    shape: compose::Shape<'a>,
    /// Accounts with possible owners: they need review.
    doubtful: HashMap<usize, String>,
    /// Accounts that are never touched, with why.
    untouchable: HashMap<usize, Reason>,
    /// The answers of operators.
    answers: MatchAnswers<'a>,
    /// The identities by their keys here.
    identities: IdentityIndex<'a>,
    /// References that are written when all accounts are known.
    pointing: Vec<ReferenceWaits<'a>>,
    /// The person who is being decided, as an index into the list.
    place: usize,
    /// The moment that is decided about.
    now: Timestamp,
}

/// What was found for an identity without an account.
enum Pick<'a> {
    /// The result of the match rules.
    Matched(MatchResult<usize>),
    /// An operator's answer.
    Answered(usize, &'a MatchAnswer),
    /// An operator answered that none of the candidates matches.
    New,
}

/// The candidates for matching in one target.
#[derive(Clone, Copy)]
struct Candidates<'c> {
    people: &'c [Person],
    /// Accounts that are linked to a person already.
    owned: &'c HashSet<usize>,
    /// The people, as indexes into the list, whom the rules match to each account.
    claims: &'c HashMap<usize, Vec<usize>>,
}

impl<'c> Candidates<'c> {
    /// The labels of other people whom the rules match to the same account.
    fn rivals(&self, account: usize, person: &Person) -> Vec<&'c str> {
        self.claims
            .get(&account)
            .into_iter()
            .flatten()
            .map(|&place| &self.people[place])
            .filter(|other| other.id != person.id)
            .map(|other| other.label.as_str())
            .collect()
    }
}

/// The judgement about a person without an account here.
enum Judgement {
    /// No account matches: one is created.
    Create,
    /// This account is linked.
    Join(usize, LinkBasis, Reason),
    /// The account that matches has an invalid record.
    Invalid(usize, Reason),
    /// An operator must decide among these accounts.
    Review {
        doubt: Doubt,
        accounts: Vec<usize>,
        reason: Reason,
    },
}

/// The decision about a person's account in a target.
pub(super) struct AccountDecision {
    /// The verdict.
    pub verdict: Verdict,
    /// The account, as an index into the population; `None` while there is none.
    pub account: Option<usize>,
    /// Why.
    pub reason: Reason,
}

impl AccountDecision {
    pub fn new(verdict: Verdict, account: Option<usize>, reason: Reason) -> Self {
        AccountDecision {
            verdict,
            account,
            reason,
        }
    }
}

/// The inputs that all targets share.
pub(super) struct DecisionContext<'a> {
    pub rules: &'a RuleSet,
    pub population: &'a Population,
    pub groups: &'a Groups<'a>,
    pub memberships: &'a MembershipRules,
    pub now: Timestamp,
    pub workers: Workers,
}

/// A target, with the accounts that are there.
struct Target<'a> {
    system: &'a str,
    types: &'a TypeRules,
    members: Vec<usize>,
}

/// What was decided about a target, before its references.
struct DecidedTarget<'a> {
    outcome: Outcome,
    pointing: Vec<ReferenceWaits<'a>>,
    hold: Option<Reason>,
}

/// Decides about each target on its own, and adds the results in the order of the rules.
pub(super) fn decide_targets(
    around: &DecisionContext<'_>,
    kind: ObjectType,
    people: &[Person],
    outcome: &mut Outcome,
) {
    let population = around.population;
    let accounts = || population.accounts.iter().enumerate();
    let targets: Vec<Target<'_>> = around
        .rules
        .targets(kind)
        .map(|(system, types)| {
            let here = accounts().filter(|(_, account)| {
                account.system == system && account.kind == kind && account.absent_since.is_none()
            });
            Target {
                system,
                types,
                members: here.map(|(at, _)| at).collect(),
            }
        })
        .collect();
    let decide = |target| decide_target(around, kind, target, people);
    let decided = around.workers.run(targets.iter().collect(), decide);
    for (target, decided) in targets.iter().zip(decided) {
        outcome.append(decided.outcome);
        // References name accounts of other types and sources, too.
        let revoked = if kind == ObjectType::Group {
            deprovision::out_of_groups(around.rules, target.system, around.now, outcome)
        } else {
            HashSet::new()
        };
        let here = references::ReferenceContext {
            population,
            kind,
            system: target.system,
            schema: schema_of(population, target.system, kind),
            types: target.types,
            revoked: &revoked,
        };
        references::decide_references(
            &here,
            decided.pointing,
            people,
            &|| decided.hold.clone(),
            outcome,
        );
    }
}

fn schema_of<'a>(population: &'a Population, system: &str, kind: ObjectType) -> Option<&'a Schema> {
    population.systems.get(system)?.schema.get(&kind)
}

/// Decides about one target, without references.
fn decide_target<'a>(
    around: &DecisionContext<'a>,
    kind: ObjectType,
    target: &'a Target<'a>,
    people: &'a [Person],
) -> DecidedTarget<'a> {
    let DecisionContext {
        rules,
        population,
        groups,
        memberships,
        now,
        ..
    } = *around;
    let Target {
        system,
        types,
        members,
    } = target;
    let schema = schema_of(population, system, kind);
    let untouchable = protected_accounts(population, system, types, members);
    let mut target = TargetDecision {
        rules,
        population,
        groups,
        memberships,
        kind,
        system,
        types,
        facts: population.systems.get(*system).cloned().unwrap_or_default(),
        schema,
        members,
        unique_values: None,
        shape: compose::Shape::new(types, schema),
        doubtful: HashMap::new(),
        untouchable,
        answers: MatchAnswers::of(&population.match_answers, system),
        identities: IdentityIndex::new(
            &types.matching,
            people
                .iter()
                .map(|person| (person.id.as_str(), &person.attributes)),
        ),
        pointing: Vec::new(),
        place: 0,
        now,
    };
    let mut outcome = Outcome::default();
    target.decide(people, &mut outcome);
    DecidedTarget {
        outcome,
        pointing: std::mem::take(&mut target.pointing),
        hold: target.system_hold(),
    }
}

/// The accounts that must not be touched, with the reason of each.
fn protected_accounts(
    population: &Population,
    system: &str,
    types: &TypeRules,
    members: &[usize],
) -> HashMap<usize, Reason> {
    members
        .iter()
        .filter_map(|&at| {
            Some((
                at,
                exclusions::exclusion_reason(
                    &population.accounts[at],
                    types,
                    population.systems.get(system),
                )?,
            ))
        })
        .collect()
}

fn fold_value(value: &Value) -> String {
    value.to_string().trim().to_lowercase()
}

impl<'a> TargetDecision<'a> {
    fn decide(&mut self, people: &[Person], outcome: &mut Outcome) {
        let members = self.members;
        let owned: HashSet<usize> = people
            .iter()
            .flat_map(|p| p.linked.iter().copied())
            .filter(|&at| self.population.accounts[at].system == self.system)
            .collect();
        let free: Vec<usize> = members
            .iter()
            .filter(|at| !self.untouchable.contains_key(at))
            .copied()
            .collect();
        // Without identities that need an account, no index is built.
        let looking = people.iter().any(|person| self.needs_account(person));
        let index = AccountIndex::new(
            &self.types.matching,
            &self.population.accounts,
            if looking { &free } else { &[] },
        );
        let by_id: HashMap<i64, usize> = free
            .iter()
            .map(|&at| (self.population.accounts[at].id, at))
            .collect();
        let given = self.linked_by_operators(people, &by_id);
        let mut found: Vec<Option<Pick<'_>>> = Vec::with_capacity(people.len());
        let mut claims: HashMap<usize, Vec<usize>> = HashMap::new();
        for (place, person) in people.iter().enumerate() {
            crate::computation::step();
            let match_it = self.needs_account(person);
            let result =
                match_it.then(|| self.find_account(&owned, &index, &by_id, &given, person));
            if let Some(Pick::Matched(MatchResult::One { it, .. })) = &result {
                claims.entry(*it).or_default().push(place);
            }
            found.push(result);
        }
        let candidates = Candidates {
            people,
            owned: &owned,
            claims: &claims,
        };
        let mut joined: HashSet<usize> = HashSet::new();
        let mut stands: Vec<(membership::MemberStatus<'_>, usize)> = Vec::new();
        for (place, person) in people.iter().enumerate() {
            crate::computation::step();
            self.place = place;
            let pick = found[place].take();
            let AccountDecision {
                verdict,
                account,
                reason,
            } = self.decide_person(person, pick, candidates, &mut joined, outcome);
            if let Some(stand) = membership::member_status(self, person, account, verdict) {
                stands.push((stand, outcome.decided.len()));
            }
            outcome.decided.push(Decided {
                system: self.system.to_owned(),
                object: self.kind,
                identity: Some(person.id.clone()),
                account: account.map(|at| self.population.accounts[at].id),
                label: person.label.clone(),
                verdict,
                reason,
                unmatched: (verdict == Verdict::OutOfScope && self.is_skipped(person))
                    .then_some(UnmatchedCause::Skipped),
            });
        }
        self.decide_memberships(&stands, outcome);
        for &at in members
            .iter()
            .filter(|at| !owned.contains(at) && !joined.contains(at))
        {
            let account = &self.population.accounts[at];
            if self.types.is_source() && self.untouchable.contains_key(&at) {
                // It has an outcome already, as a protected account of a source.
                continue;
            }
            self.add_unmatched(outcome, at, account);
        }
    }

    /// Accounts that operators linked, with the identity that gets each.
    fn linked_by_operators<'p>(
        &self,
        people: &'p [Person],
        by_id: &HashMap<i64, usize>,
    ) -> HashMap<usize, &'p str> {
        // Accounts that operators linked to an identity: no other identity is matched to them. If
        // several were linked to one account, one gets it.
        let mut given: HashMap<usize, &str> = HashMap::new();
        let joins = |person: &Person| self.answers.joined_to(&person.id);
        for looking in [true, false] {
            for person in people
                .iter()
                .filter(|person| !joins(person).is_empty() && self.needs_account(person) == looking)
            {
                for at in joins(person)
                    .iter()
                    .filter_map(|(account, _)| by_id.get(account))
                {
                    given.entry(*at).or_insert(&person.id);
                }
            }
        }
        given
    }

    /// The account of a person: by an answer, or by the match rules.
    fn find_account(
        &self,
        owned: &HashSet<usize>,
        index: &AccountIndex<'_>,
        by_id: &HashMap<i64, usize>,
        given: &HashMap<usize, &str>,
        person: &Person,
    ) -> Pick<'a> {
        let said = self.answers.joined_to(&person.id);
        let theirs = |at: &usize| !owned.contains(at) && given.get(at) == Some(&person.id.as_str());
        let answered = said
            .iter()
            .find_map(|(account, answer)| Some((*by_id.get(account)?, *answer)))
            .filter(|(at, _)| theirs(at));
        match (answered, self.answers.of_identity(&person.id)) {
            (Some((at, answer)), _) => Pick::Answered(at, answer),
            (None, Some(answer)) if answer.decision == MatchDecision::New => Pick::New,
            _ => Pick::Matched(index.find(&person.attributes, |at| {
                self.answers
                    .allows(self.population.accounts[at].id, &person.id)
                    && given.get(&at).is_none_or(|whose| *whose == person.id)
            })),
        }
    }

    /// Adds the outcome of an account that belongs to no identity.
    fn add_unmatched(&mut self, outcome: &mut Outcome, at: usize, account: &Account) {
        let kind = match (&account.fault, self.doubtful.get(&at)) {
            _ if self.untouchable.contains_key(&at) => (*self.untouchable[&at].kind).clone(),
            (Some(fault), _) => ReasonKind::InvalidRecord {
                fault: fault.to_string(),
                system: self.system.to_owned(),
            },
            _ if self.answers.of_account(account.id).is_some() => ReasonKind::LeftByAnswer,
            (None, Some(label)) => ReasonKind::MayBelongTo {
                person: label.clone(),
            },
            (None, None) => ReasonKind::NoIdentityMatches,
        };
        let unmatched = match (&account.fault, self.doubtful.get(&at)) {
            _ if self.untouchable.contains_key(&at) => UnmatchedCause::Protected,
            (Some(_), _) => UnmatchedCause::Other,
            _ if self.answers.of_account(account.id).is_some() => UnmatchedCause::Skipped,
            (None, Some(_)) => UnmatchedCause::Candidate,
            (None, None) => UnmatchedCause::NoMatch,
        };
        let stray = account.fault.is_none()
            && !self.untouchable.contains_key(&at)
            && !self.doubtful.contains_key(&at)
            && self.answers.of_account(account.id).is_none();
        let mut reason = Reason::by(kind, &file_of(self.rules, self.system, self.kind));
        let verdict = if stray {
            self.decide_orphaned(at, &mut reason, outcome)
        } else {
            Verdict::Orphaned
        };
        outcome.decided.push(Decided {
            system: self.system.to_owned(),
            object: self.kind,
            identity: None,
            account: Some(account.id),
            label: account_label(account),
            verdict,
            reason,
            unmatched: Some(unmatched),
        });
    }

    /// Whether the account of this person must be found or created. An account that others
    /// deleted and that is to be created again is matched like any other.
    fn needs_account(&self, person: &Person) -> bool {
        let again = |account: &Account| {
            self.types.on_deleted == OnDeleted::Recreate
                || self
                    .population
                    .write_history
                    .get(&account.id)
                    .is_some_and(|acts| acts.deleted.is_some())
        };
        let linked = person
            .linked
            .iter()
            .map(|&at| &self.population.accounts[at])
            .any(|account| {
                account.system == self.system && !(account.absent_since.is_some() && again(account))
            });
        !linked && person.out_reason.is_none() && person.held.is_none()
    }

    /// Did an operator decide that this person gets no account here?
    fn is_skipped(&self, person: &Person) -> bool {
        self.answers
            .of_identity(&person.id)
            .is_some_and(|answer| answer.decision == MatchDecision::Skip)
    }

    /// Handles an account that others created in the system and that matches no identity.
    fn decide_orphaned(&self, at: usize, reason: &mut Reason, outcome: &mut Outcome) -> Verdict {
        let account = &self.population.accounts[at];
        match self.types.on_orphaned {
            OnOrphaned::Ignore => Verdict::Orphaned,
            OnOrphaned::Ask => {
                *reason.kind = ReasonKind::OrphanNeedsReview;
                reason.cause = Some(HoldCause::NeedsReview);
                outcome.questions.push(Question {
                    system: self.system.to_owned(),
                    object: self.kind,
                    doubt: Doubt::Orphaned,
                    label: account_label(account),
                    identity: None,
                    account: Some(account.id),
                    accounts: Vec::new(),
                    identities: Vec::new(),
                    reason: reason.clone(),
                });
                Verdict::OnHold
            }
            OnOrphaned::Disable => {
                let state = self
                    .schema
                    .and_then(|schema| schema.state_attribute.as_deref());
                let before = state
                    .map(|state| account.attributes.get(state).to_vec())
                    .unwrap_or_default();
                let Some(state) = state.filter(|_| before != [Value::Bool(false)]) else {
                    return Verdict::Orphaned;
                };
                *reason.kind = ReasonKind::OrphanDisabled;
                let values = vec![self.disabled_state(state, before)];
                let kind = ChangeKind::Disable;
                outcome.changes.push(Change {
                    system: self.system.to_owned(),
                    object: self.kind,
                    // It is orphaned.
                    identity: String::new(),
                    account: Some(account.id),
                    label: account_label(account),
                    kind,
                    fingerprint: fingerprint(
                        &[
                            self.system,
                            self.kind.as_str(),
                            kind.as_str(),
                            "",
                            &account.key,
                        ],
                        &values,
                    ),
                    values,
                    reason: reason.clone(),
                    hold: self.system_hold(),
                    approval: None,
                    claims: Vec::new(),
                    step: 0,
                });
                Verdict::Disable
            }
        }
    }

    fn decide_person(
        &mut self,
        person: &Person,
        found: Option<Pick<'a>>,
        candidates: Candidates<'_>,
        joined: &mut HashSet<usize>,
        outcome: &mut Outcome,
    ) -> AccountDecision {
        let live = self.linked_account(person, false);
        let absent = self.linked_account(person, true);
        match self.out_reason(person) {
            Err(reason) => return AccountDecision::new(Verdict::OnHold, live, reason),
            Ok(Some(reason)) => {
                return match live {
                    Some(at) if self.untouchable.contains_key(&at) => AccountDecision::new(
                        Verdict::OutOfScope,
                        live,
                        self.untouchable[&at].clone(),
                    ),
                    Some(at) => self.step_out(person, at, reason, candidates.people, outcome),
                    None => AccountDecision::new(Verdict::OutOfScope, None, reason),
                };
            }
            Ok(None) => {}
        }
        if let (None, Some(life)) = (
            live,
            person.life.as_ref().filter(|_| person.before_prestart),
        ) {
            return AccountDecision::new(Verdict::OutOfScope, None, life.clone());
        }
        if let Some(reason) = &person.held {
            return AccountDecision::new(Verdict::OnHold, live, reason.clone());
        }
        if let Some(reason) = live.and_then(|at| self.untouchable.get(&at)) {
            return AccountDecision::new(
                Verdict::OnHold,
                live,
                reason.clone().on_hold(HoldCause::RuleError),
            );
        }
        if let Some(at) = live {
            if let Some(reason) = self.key_moved_reason(person, at, candidates.people, outcome) {
                return AccountDecision::new(Verdict::OnHold, live, reason);
            }
            return self.keep_in_sync(person, at, Verdict::Update, outcome);
        }
        if let Some(left_out) = self.no_match_wanted(person, absent) {
            return left_out;
        }
        match self.judge_match(person, found.unwrap_or(Pick::New), candidates) {
            Judgement::Create => self.create_account(person, outcome),
            Judgement::Join(at, basis, reason) => {
                joined.insert(at);
                self.join_account(person, at, basis, reason, outcome)
            }
            Judgement::Invalid(at, reason) => {
                AccountDecision::new(Verdict::OnHold, Some(at), reason)
            }
            Judgement::Review {
                doubt,
                accounts,
                reason,
            } => {
                let question =
                    self.match_question(person, doubt, &accounts, Vec::new(), reason.clone());
                outcome.questions.push(question);
                let only = (accounts.len() == 1).then(|| accounts[0]);
                AccountDecision::new(Verdict::OnHold, only, reason)
            }
        }
    }

    /// The person's linked account here: one that exists, or one that is absent.
    fn linked_account(&self, person: &Person, is_absent: bool) -> Option<usize> {
        person.linked.iter().copied().find(|&at| {
            let account = &self.population.accounts[at];
            account.system == self.system && account.absent_since.is_some() == is_absent
        })
    }

    /// The outcome of a person without an account here for whom no account is searched: an
    /// operator decided so, others deleted the account, or the system was not read yet.
    fn no_match_wanted(&self, person: &Person, absent: Option<usize>) -> Option<AccountDecision> {
        if let Some(answer) = self
            .answers
            .of_identity(&person.id)
            .filter(|answer| answer.decision == MatchDecision::Skip)
        {
            let principal = answer.principal.clone();
            let reason = Reason::new(ReasonKind::Skipped { principal });
            return Some(AccountDecision::new(Verdict::OutOfScope, None, reason));
        }
        // What we deleted ourselves, when they left, is made again when they are back.
        let ours = |at: &usize| {
            self.population
                .write_history
                .get(&self.population.accounts[*at].id)
                .is_some_and(|acts| acts.deleted.is_some())
        };
        if let Some(at) =
            absent.filter(|at| self.types.on_deleted != OnDeleted::Recreate && !ours(at))
        {
            return Some(self.deleted_there(at));
        }
        if self.facts.read.contains(&self.kind) {
            return None;
        }
        let system = self.system.to_owned();
        let reason = Reason::new(ReasonKind::SystemNotRead { system }).on_hold(HoldCause::NotRead);
        Some(AccountDecision::new(Verdict::OnHold, None, reason))
    }

    /// Why a person gets no account here, if so: the person has left, or is out of scope.
    ///
    /// # Errors
    /// The scope cannot be evaluated: the person is on hold with this reason.
    fn out_reason(&self, person: &Person) -> Result<Option<Reason>, Reason> {
        if person.out_reason.is_some() {
            return Ok(person.out_reason.clone());
        }
        // A target that is also a source has one scope, and it was tested on the account.
        if self.types.is_source() {
            return Ok(None);
        }
        let accounts: Vec<&Account> = person
            .sources
            .iter()
            .map(|&at| &self.population.accounts[at])
            .collect();
        let subject = ScopeSubject {
            values: EvalInputs {
                account: None,
                identity: Some(&person.attributes),
            },
            accounts: &accounts,
        };
        match scope::test_scope(&self.types.scope, &subject, self.groups) {
            ScopeDecision::In => Ok(None),
            ScopeDecision::Out(reason) => Ok(Some(reason)),
            ScopeDecision::Unclear(reason) => Err(reason.on_hold(HoldCause::RuleError)),
        }
    }

    /// An account that others deleted, where the rules do not recreate it.
    fn deleted_there(&self, at: usize) -> AccountDecision {
        let account = self.population.accounts[at].name.clone();
        let system = self.system.to_owned();
        if self.types.on_deleted == OnDeleted::Ignore {
            let kind = ReasonKind::StaysDeleted { account, system };
            let reason = Reason::by(kind, &self.types.place);
            return AccountDecision::new(Verdict::OutOfScope, Some(at), reason);
        }
        let kind = ReasonKind::DeletedThere { account, system };
        let reason = Reason::new(kind).on_hold(HoldCause::DeletedThere);
        AccountDecision::new(Verdict::OnHold, Some(at), reason)
    }

    /// Turns a single match into a doubtful one if another rule links its account to another
    /// identity: neither links automatically.
    fn doubt_rival(
        &self,
        found: Pick<'a>,
        person: &Person,
        candidates: Candidates<'_>,
    ) -> Pick<'a> {
        let Pick::Matched(MatchResult::One { it, rule }) = found else {
            return found;
        };
        let account = &self.population.accounts[it];
        let rival = self
            .identities
            .rival_identity(account, &person.id, false)
            .filter(|(other, ..)| {
                !candidates.owned.contains(&it) && self.answers.allows(account.id, other)
            });
        let Some((other, by, key)) = rival else {
            return found;
        };
        let people = candidates.people;
        let whose = people
            .binary_search_by(|p| p.id.as_str().cmp(other))
            .map_or(other, |place| people[place].label.as_str());
        let why = MatchDoubt::BelongsToAnother {
            rule: self.types.matching[by].name.clone(),
            person: Some(whose.to_owned()),
            key,
        };
        Pick::Matched(MatchResult::Doubtful { it, rule, why })
    }

    /// Judges what was found for a person without an account here. Accounts that need a review are
    /// remembered for their own outcomes.
    fn judge_match(
        &mut self,
        person: &Person,
        found: Pick<'a>,
        candidates: Candidates<'_>,
    ) -> Judgement {
        let population = self.population;
        let name = |at: usize| population.accounts[at].name.clone();
        let found = match self.doubt_rival(found, person, candidates) {
            Pick::New => return Judgement::Create,
            Pick::Answered(at, answer) => {
                let principal = answer.principal.clone();
                let basis = LinkBasis::new(LinkOrigin::Operator, &principal);
                let account = name(at);
                if let Some(fault) = &population.accounts[at].fault {
                    let kind = ReasonKind::AnsweredMatchInvalid {
                        account,
                        principal,
                        fault: fault.to_string(),
                    };
                    let reason = Reason::new(kind).on_hold(HoldCause::InvalidValue);
                    return Judgement::Invalid(at, reason);
                }
                let reason = Reason::new(ReasonKind::AnsweredMatch { account, principal });
                return Judgement::Join(at, basis, reason);
            }
            Pick::Matched(found) => found,
        };
        let rules = &self.types.matching;
        let review =
            |doubt: Doubt, kind: ReasonKind, rule: usize, accounts: Vec<usize>| Judgement::Review {
                doubt,
                accounts,
                reason: Reason::by(kind, &rules[rule].place).on_hold(HoldCause::NeedsReview),
            };
        match found {
            MatchResult::NoMatch => Judgement::Create,
            MatchResult::Several { all, rule } => {
                self.doubtful
                    .extend(all.iter().map(|&at| (at, person.label.clone())));
                let kind = ReasonKind::SeveralAccounts {
                    rule: rules[rule].name.clone(),
                    accounts: all.iter().map(|&at| name(at)).collect(),
                };
                review(Doubt::Ambiguous, kind, rule, all)
            }
            MatchResult::Doubtful { it, rule, why } => {
                self.doubtful.insert(it, person.label.clone());
                let kind = ReasonKind::AccountDoubtful {
                    account: name(it),
                    rule: rules[rule].name.clone(),
                    why: Box::new(why),
                };
                review(Doubt::NeedsReview, kind, rule, vec![it])
            }
            MatchResult::One { it, rule } => {
                let account = name(it);
                let by = rules[rule].name.clone();
                if candidates.owned.contains(&it) {
                    let kind = ReasonKind::AccountAlreadyLinked { account, rule: by };
                    return review(Doubt::AlreadyLinked, kind, rule, vec![it]);
                }
                let rivals = candidates.rivals(it, person);
                if !rivals.is_empty() {
                    let kind = ReasonKind::ClaimedTwice {
                        account,
                        people: rivals.into_iter().map(str::to_owned).collect(),
                        rule: by,
                    };
                    return review(Doubt::ClaimedTwice, kind, rule, vec![it]);
                }
                self.judge_account(it, rule)
            }
        }
    }

    /// Judges the one account that a rule matches.
    fn judge_account(&self, at: usize, rule: usize) -> Judgement {
        let (account, rule) = (&self.population.accounts[at], &self.types.matching[rule]);
        let (name, by) = (account.name.clone(), rule.name.clone());
        if let Some(fault) = &account.fault {
            let kind = ReasonKind::MatchedInvalid {
                account: name,
                rule: by,
                fault: fault.to_string(),
            };
            let reason = Reason::by(kind, &rule.place).on_hold(HoldCause::InvalidValue);
            return Judgement::Invalid(at, reason);
        }
        let kind = ReasonKind::Matched {
            account: name,
            rule: by,
        };
        let basis = LinkBasis::new(LinkOrigin::MatchRule, &rule.name);
        Judgement::Join(at, basis, Reason::by(kind, &rule.place))
    }

    /// The question which account belongs to an identity, or whether one still does.
    fn match_question(
        &self,
        person: &Person,
        doubt: Doubt,
        accounts: &[usize],
        identities: Vec<String>,
        reason: Reason,
    ) -> Question {
        let mut accounts: Vec<i64> = accounts
            .iter()
            .map(|&at| self.population.accounts[at].id)
            .collect();
        accounts.sort_unstable();
        Question {
            system: self.system.to_owned(),
            object: self.kind,
            doubt,
            label: person.label.clone(),
            identity: Some(person.id.clone()),
            account: None,
            accounts,
            identities,
            reason,
        }
    }

    /// Its account has a key that belongs to another identity now, which has no account here:
    /// review is required before the account gets values of either.
    fn key_moved_reason(
        &self,
        person: &Person,
        at: usize,
        people: &[Person],
        outcome: &mut Outcome,
    ) -> Option<Reason> {
        let account = &self.population.accounts[at];
        if self
            .answers
            .of_pair(account.id, &person.id)
            .is_some_and(|answer| answer.decision == MatchDecision::Join)
        {
            return None;
        }
        let (other, rule, key) = self.identities.reassigned_key(account, &person.id)?;
        let other = people
            .binary_search_by(|p| p.id.as_str().cmp(other))
            .ok()
            .map(|place| &people[place])?;
        let has_own = other
            .linked
            .iter()
            .any(|&at| self.population.accounts[at].system == self.system);
        if other.out_reason.is_some() || has_own {
            return None;
        }
        let rule = &self.types.matching[rule];
        let kind = ReasonKind::KeyMoved {
            account: account.name.clone(),
            key,
            rule: rule.name.clone(),
            person: other.label.clone(),
        };
        let reason = Reason::by(kind, &rule.place).on_hold(HoldCause::NeedsReview);
        outcome.questions.push(self.match_question(
            person,
            Doubt::KeyReassigned,
            &[at],
            vec![other.id.clone()],
            reason.clone(),
        ));
        Some(reason)
    }

    /// Links an existing account to the identity.
    fn join_account(
        &mut self,
        person: &Person,
        at: usize,
        basis: LinkBasis,
        reason: Reason,
        outcome: &mut Outcome,
    ) -> AccountDecision {
        outcome.links.push(NewLink {
            account: self.population.accounts[at].id,
            identity: person.id.clone(),
            basis,
            source: false,
        });
        let kept = self.keep_in_sync(person, at, Verdict::Join, outcome);
        if kept.verdict == Verdict::OnHold {
            return kept;
        }
        AccountDecision {
            reason,
            verdict: Verdict::Join,
            ..kept
        }
    }
}
