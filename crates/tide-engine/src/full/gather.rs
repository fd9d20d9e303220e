//! What a full decision gathers of its chunks.

use tide_core::incremental::{DecidedChunk, Records};
use tide_core::{Outcome, Population};

/// What a full decision gathers.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Gathering {
    /// Nothing but outstanding changes: an answer reads what it needs.
    Nothing,
    /// What a run stores and sends: all lines and changes, and the records about which it stores or
    /// sends something.
    ToStore,
    /// All records and everything that was decided.
    Everything,
}

/// The gathered records and outcomes.
#[derive(Debug, Default)]
pub(super) struct Gathered {
    population: Population,
    outcome: Outcome,
}

impl Gathered {
    /// Adds a chunk. `to_store` are the records about which a run stores or sends something. Changes
    /// that are outstanding are part of the state.
    pub(super) fn add(
        &mut self,
        gathering: Gathering,
        population: &Population,
        chunk: DecidedChunk,
        to_store: &Records,
    ) {
        if gathering == Gathering::Nothing {
            return;
        }
        if !chunk.again.is_empty() {
            self.outcome.forget(&chunk.again);
            let known = &mut self.population;
            let is_again = |id: &i64| chunk.again.accounts.contains(id);
            known.accounts.retain(|account| !is_again(&account.id));
            known.links.retain(|link| !is_again(&link.account));
            known
                .identities
                .retain(|one| !chunk.again.identities.contains(&one.id));
        }
        let mut wanted = to_store.clone();
        let of_changes = chunk.outcome.changes.iter();
        wanted
            .accounts
            .extend(of_changes.filter_map(|change| change.account));
        let about = &chunk.about;
        let is_all = gathering == Gathering::Everything;
        let account =
            |id: &i64| about.accounts.contains(id) && (is_all || wanted.accounts.contains(id));
        let identity = |id: &String| {
            about.identities.contains(id) && (is_all || wanted.identities.contains(id))
        };
        let mut outcome = chunk.outcome;
        outcome.changes.retain(|change| change.hold.is_some());
        outcome.identities.retain(|(one, _)| identity(&one.id));
        if !is_all {
            outcome.due.clear();
            outcome.questions.clear();
        }
        self.outcome.append(outcome);
        let gathered = &mut self.population;
        let accounts = population.accounts.iter().filter(|one| account(&one.id));
        gathered.accounts.extend(accounts.cloned());
        let links = population.links.iter().filter(|one| account(&one.account));
        gathered.links.extend(links.cloned());
        let identities = population.identities.iter().filter(|one| identity(&one.id));
        gathered.identities.extend(identities.cloned());
        let baselines = population.drift_baseline.iter();
        let baselines = baselines.filter(|(id, _)| account(id));
        gathered
            .drift_baseline
            .extend(baselines.map(|(id, values)| (*id, values.clone())));
        let grants = population.role_grants.iter();
        let grants = grants.filter(|grant| identity(&grant.identity));
        gathered.role_grants.extend(grants.cloned());
    }

    /// The records and the outcome, in the order of the ids.
    pub(super) fn into_parts(self) -> (Population, Outcome) {
        let Gathered {
            mut population,
            mut outcome,
        } = self;
        population.accounts.sort_by_key(|account| account.id);
        population.identities.sort_by(|a, b| a.id.cmp(&b.id));
        outcome.identities.sort_by(|(a, _), (b, _)| a.id.cmp(&b.id));
        (population, outcome)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use tide_core::decide::{Decided, Verdict};
    use tide_core::{Account, Attributes, ObjectType, Reason, ReasonKind};

    fn account(id: i64) -> Account {
        Account {
            id,
            system: "harbour".into(),
            kind: ObjectType::Person,
            key: format!("k{id}"),
            name: format!("n{id}"),
            attributes: Attributes::default(),
            absent_since: None,
            absence_confirmed: false,
            fault: None,
        }
    }

    fn accounts(ids: &[i64]) -> Records {
        Records {
            accounts: ids.iter().copied().collect(),
            ..Records::default()
        }
    }

    fn chunk(ids: &[i64], again: &[i64], verdict: Verdict) -> (Population, DecidedChunk) {
        let line = |id: &i64| Decided {
            system: "harbour".into(),
            object: ObjectType::Person,
            identity: None,
            account: Some(*id),
            label: format!("n{id}"),
            verdict,
            reason: Reason::new(ReasonKind::InSync),
            unmatched: None,
        };
        let population = Population {
            accounts: ids.iter().map(|id| account(*id)).collect(),
            ..Population::default()
        };
        let outcome = Outcome {
            decided: ids.iter().map(line).collect(),
            ..Outcome::default()
        };
        let chunk = DecidedChunk {
            about: accounts(ids),
            again: accounts(again),
            read: ids.len(),
            evaluated: ids.len(),
            outcome,
        };
        (population, chunk)
    }

    #[test]
    fn what_is_decided_again_replaces_what_was_said_before() {
        let mut gathered = Gathered::default();
        let (population, first) = chunk(&[2, 1], &[], Verdict::InSync);
        gathered.add(Gathering::ToStore, &population, first, &accounts(&[1, 2]));
        let (population, second) = chunk(&[3, 1], &[1], Verdict::Orphaned);
        gathered.add(Gathering::ToStore, &population, second, &accounts(&[]));
        let (population, outcome) = gathered.into_parts();
        let mut verdicts: Vec<_> = outcome
            .decided
            .iter()
            .map(|line| (line.account.unwrap_or_default(), line.verdict))
            .collect();
        verdicts.sort();
        let expected = [
            (1, Verdict::Orphaned),
            (2, Verdict::InSync),
            (3, Verdict::Orphaned),
        ];
        assert_eq!(verdicts, expected, "all lines");
        let ids: Vec<i64> = population.accounts.iter().map(|one| one.id).collect();
        assert_eq!(ids, [2], "nothing is stored about account 1 any more");
    }

    #[test]
    fn all_records_are_gathered_only_if_they_are_asked_for() {
        let of = |gathering| {
            let mut gathered = Gathered::default();
            let (population, all) = chunk(&[2, 1], &[], Verdict::InSync);
            gathered.add(gathering, &population, all, &accounts(&[]));
            let (population, outcome) = gathered.into_parts();
            (population.accounts.len(), outcome.decided.len())
        };
        assert_eq!(of(Gathering::Nothing), (0, 0));
        assert_eq!(of(Gathering::ToStore), (0, 2));
        assert_eq!(of(Gathering::Everything), (2, 2));
    }
}
