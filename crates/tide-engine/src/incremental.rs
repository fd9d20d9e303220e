//! What stands between runs: who was decided about, and what changed since. A decision about news costs what the news
//! cost, not what the population costs.

use crate::decisions::{counted, counted_by_guards};
use crate::dispatch::Reaches;
use crate::runs::Rules;
use crate::{Engine, EngineError, Schedule};
use std::collections::BTreeMap;
use std::sync::Arc;
use tide_core::decide::Totals;
use tide_core::incremental::{Next, Records, Standing};
use tide_core::{Outcome, Population, SystemFacts};
use tide_store::{AtWork, Before};

/// The notes of changes that were decided about are taken away when there are so many.
const MANY: i64 = 1_000;

/// What stands after a decision, and for what it holds.
pub(crate) struct Known {
    rules: Arc<Rules>,
    standing: Standing,
    systems: BTreeMap<String, SystemFacts>,
    /// The last note of a change that was decided about, and the last that was taken away.
    seen: i64,
    forgotten: i64,
    /// Why nothing is written to each system, by the clock or because all writes are stopped.
    write_holds: Vec<Option<String>>,
    /// What sending to each system needs: it holds as long as the rest does.
    reaches: Arc<Reaches>,
    /// Records that were sent to: they are decided about again, also if nothing seems to have changed.
    sent: Records,
}

/// A decision about news.
pub(crate) struct News {
    pub rules: Arc<Rules>,
    /// The records that it was made from.
    pub population: Population,
    pub outcome: Outcome,
    /// About whom it was decided; nothing means everybody.
    pub about: Option<Records>,
    /// How many records were read, and how many were evaluated.
    pub cost: (usize, usize),
    /// What sending to each system needs.
    pub reaches: Arc<Reaches>,
}

/// Does any system work by itself?
pub(crate) fn works_by_itself(at_work: &[AtWork]) -> bool {
    at_work.iter().any(|row| row.armed && Schedule::read(&row.schedule).follow)
}

impl Engine {
    /// What stands before it is decided about news.
    pub(crate) async fn before(&self) -> Result<Before, EngineError> {
        self.look_first(self.known.lock().await.as_ref(), true).await
    }

    /// `at_rest` says that no run is on its way.
    async fn look_first(&self, known: Option<&Known>, at_rest: bool) -> Result<Before, EngineError> {
        let now = self.now();
        let (seen, asked) = match known {
            Some(known) => (known.seen, counted_by_guards(&known.rules.set, now).1),
            // It is decided about everybody.
            None => (i64::MAX, Vec::new()),
        };
        Ok(self.store.before(seen, asked, at_rest, now).await?)
    }

    /// Decides about what changed since it was last asked; about everybody the first time, and when the rules or a
    /// system changed. Between the look at what stands before and this, nobody else decides on all news.
    pub(crate) async fn decide_news(&self, before: &Before) -> Result<News, EngineError> {
        let mut known = self.known.lock().await;
        let now = self.now();
        let (write_holds, touched) = (self.write_holds(&before.at_work, now), &before.touched);
        let holds = |known: &&mut Known| touched.last < i64::MAX && !touched.everybody && known.write_holds == write_holds;
        if let Some(standing) = known.as_mut().filter(holds) {
            let mut records = touched.records.clone();
            records.accounts.extend(standing.standing.moved(&touched.moved));
            records.identities.append(&mut standing.standing.due(now));
            records.accounts.append(&mut standing.sent.accounts);
            records.identities.append(&mut standing.sent.identities);
            match self.decide_part(standing, records, before, true).await {
                Ok(None) => {}
                Ok(Some(news)) => {
                    *crate::lock(&self.cost) = news.cost;
                    *crate::lock(&self.due) = standing.standing.next_due();
                    standing.seen = touched.last;
                    if touched.last - standing.forgotten > MANY {
                        self.store.forget_touched(touched.last).await?;
                        standing.forgotten = touched.last;
                    }
                    return Ok(news);
                }
                Err(error) => {
                    *known = None;
                    return Err(error);
                }
            }
        }
        self.decide_whole(&mut known, write_holds).await
    }

    /// Decides about everybody for a run that somebody starts. It stands from then on, where systems work by themselves: whoever
    /// leaves meanwhile is decided about beside it.
    pub(crate) async fn decide_for_run(&self) -> Result<(Arc<Rules>, Population, Outcome), EngineError> {
        let at_work = self.store.at_work().await?;
        if !works_by_itself(&at_work) {
            return self.decide_in_turn(self.now(), None).await;
        }
        let mut known = self.known.lock().await;
        let News { rules, population, outcome, .. } = self.decide_whole(&mut known, self.write_holds(&at_work, self.now())).await?;
        Ok((rules, population, outcome))
    }

    async fn decide_whole(&self, known: &mut Option<Known>, write_holds: Vec<Option<String>>) -> Result<News, EngineError> {
        let now = self.now();
        // Notes made from here on are of what may not be read yet.
        let seen = self.store.last_touched().await?;
        let (rules, population) = self.all(now).await?;
        let (standing, outcome) = Standing::of(&rules.set, &population, now);
        self.store.forget_touched(seen).await?;
        let cost = (population.accounts.len() + population.identities.len(), outcome.decided.len() + outcome.identities.len());
        *crate::lock(&self.cost) = cost;
        *crate::lock(&self.due) = standing.next_due();
        let reaches = Arc::<Reaches>::default();
        *known = Some(Known {
            reaches: reaches.clone(),
            rules: rules.clone(),
            standing,
            systems: population.systems.clone(),
            seen,
            forgotten: seen,
            write_holds,
            sent: Records::default(),
        });
        Ok(News { rules, population, outcome, about: None, cost, reaches })
    }

    /// Decides about accounts of which something came while a run is on its way, and about nobody else; nothing when that cannot
    /// be told apart from what concerns everybody, or no system works by itself.
    pub(crate) async fn decide_on_leavers(&self) -> Result<Option<(News, Before)>, EngineError> {
        let mut known = self.known.lock().await;
        let before = self.look_first(known.as_ref(), false).await?;
        let Some(standing) = known.as_mut().filter(|_| works_by_itself(&before.at_work)) else { return Ok(None) };
        // What else changed since is decided by the next run.
        if before.touched.everybody || standing.write_holds != self.write_holds(&before.at_work, self.now()) {
            return Ok(None);
        }
        let accounts = std::mem::take(&mut *crate::lock(&self.news));
        if accounts.is_empty() {
            return Ok(None);
        }
        let decided = self.decide_part(standing, Records { accounts, ..Records::default() }, &before, false).await?;
        Ok(decided.map(|news| (news, before)))
    }

    async fn decide_part(&self, known: &mut Known, records: Records, before: &Before, at_rest: bool) -> Result<Option<News>, EngineError> {
        let (rules, now, reaches) = (known.rules.clone(), self.now(), known.reaches.clone());
        let keys = counted_by_guards(&rules.set, now).0;
        let mut guards = Population { overrides: before.overrides.clone(), ..Population::default() };
        guards.recent = keys.into_iter().zip(before.counts.iter().copied()).map(counted).collect();
        guards.in_flight = before.in_flight.clone();
        if !rules.set.approvals.is_empty() {
            guards.approved = before.approved.clone();
        }
        if records.is_empty() {
            let totals = Totals { linked: known.standing.linked().clone(), seats: known.standing.seats(), ..Totals::of_facts(&guards) };
            let outcome = known.standing.outstanding(&rules.set, &totals, now);
            let about = Some(Records::default());
            return Ok(Some(News { rules, population: Population::default(), outcome, about, cost: (0, 0), reaches }));
        }
        let (mut asking, mut wanted) = known.standing.begin(records);
        loop {
            let mut population = self.store.part(&wanted, known.systems.clone(), at_rest).await?;
            (population.recent, population.overrides) = (guards.recent.clone(), guards.overrides.clone());
            population.in_flight = guards.in_flight.clone();
            population.approved = guards.approved.clone();
            match known.standing.go_on(&mut asking, &rules.set, &population, now) {
                Next::Read(more) => wanted = more,
                Next::Everybody => return Ok(None),
                Next::Decided(part) => {
                    let cost = (part.read, part.evaluated);
                    return Ok(Some(News { rules, population, outcome: part.outcome, about: Some(part.about), cost, reaches }));
                }
            }
        }
    }

    /// What the last decision on news cost: how many records were read, and how many were evaluated.
    pub fn last_cost(&self) -> (usize, usize) {
        *crate::lock(&self.cost)
    }

    /// Forgets what stands: everybody is decided about next. For when it is not sure that what was decided was kept.
    pub(crate) async fn forget_standing(&self) {
        *self.known.lock().await = None;
    }

    /// Notes to whom a run sent something.
    pub(crate) async fn was_sent(&self, accounts: impl Iterator<Item = i64>, identities: impl Iterator<Item = String>) {
        if let Some(known) = self.known.lock().await.as_mut() {
            known.sent.accounts.extend(accounts);
            known.sent.identities.extend(identities);
        }
    }
}
