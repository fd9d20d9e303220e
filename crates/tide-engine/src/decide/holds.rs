//! The holds that each decision stores: who is on hold, why, and since when.

use crate::decide::Decider;
use crate::error::EngineError;
use std::collections::{HashMap, HashSet};
use tide_core::decide::{Change, Decided, Verdict};
use tide_core::incremental::Records;
use tide_core::{HoldCause, Outcome, Reason};
use tide_store::{Hold, HoldKey};

/// The subject of a hold: an identity, or an orphaned account.
type Subject = (String, i64);

pub(crate) fn subject(key: &HoldKey) -> Subject {
    (
        key.identity.clone(),
        if key.identity.is_empty() {
            key.account
        } else {
            0
        },
    )
}

/// The stored holds, by subject.
#[derive(Debug, Default)]
pub(crate) struct HoldCache(HashMap<Subject, HashMap<HoldKey, Hold>>);

impl HoldCache {
    fn of(all: HashMap<HoldKey, Hold>) -> HoldCache {
        let mut kept = HoldCache::default();
        all.into_values().for_each(|hold| kept.put(hold));
        kept
    }

    fn put(&mut self, hold: Hold) {
        self.0
            .entry(subject(&hold.key))
            .or_default()
            .insert(hold.key.clone(), hold);
    }

    fn get(&self, key: &HoldKey) -> Option<&Hold> {
        self.0.get(&subject(key))?.get(key)
    }

    fn remove(&mut self, key: &HoldKey) {
        let whose = subject(key);
        if let Some(theirs) = self.0.get_mut(&whose) {
            theirs.remove(key);
            if theirs.is_empty() {
                self.0.remove(&whose);
            }
        }
    }

    fn keys_of(&self, whose: &Subject) -> impl Iterator<Item = &HoldKey> {
        self.0.get(whose).into_iter().flat_map(HashMap::keys)
    }
}

/// Whether a hold of this cause is stored. Holds of a run end with it, and a system that was never
/// armed would hold everything.
pub(crate) fn is_kept(cause: HoldCause) -> bool {
    !matches!(
        cause,
        HoldCause::NotArmed | HoldCause::NotInPreview | HoldCause::LinkOnly
    )
}

pub(crate) fn hold(key: HoldKey, takes_away: bool, label: &str, reason: &Reason) -> Option<Hold> {
    let cause = reason.cause.unwrap_or(HoldCause::InvalidValue);
    let rule = reason.rule.as_ref().map(ToString::to_string);
    is_kept(cause).then(|| Hold {
        key,
        takes_away,
        label: label.to_owned(),
        cause,
        reason: Reason {
            rule: None,
            cause: None,
            ..reason.clone()
        },
        rule,
    })
}

fn key_of_line(line: &Decided) -> HoldKey {
    HoldKey {
        system: line.system.clone(),
        object: line.object,
        identity: line.identity.clone().unwrap_or_default(),
        account: line.account.unwrap_or_default(),
        kind: String::new(),
    }
}

pub(crate) fn key_of_change(change: &Change) -> HoldKey {
    HoldKey {
        system: change.system.clone(),
        object: change.object,
        identity: change.identity.clone(),
        account: change.account.unwrap_or_default(),
        kind: change.kind.as_str().to_owned(),
    }
}

/// Everything that is on hold in an outcome.
fn collect_holds(outcome: &Outcome) -> HashMap<HoldKey, Hold> {
    let lines = outcome
        .decided
        .iter()
        .filter(|line| line.verdict == Verdict::OnHold);
    let lines = lines.filter_map(|line| hold(key_of_line(line), false, &line.label, &line.reason));
    let changes = outcome.changes.iter().filter_map(|change| {
        hold(
            key_of_change(change),
            change.takes_away(),
            &change.label,
            change.hold.as_ref()?,
        )
    });
    lines
        .chain(changes)
        .map(|hold| (hold.key.clone(), hold))
        .collect()
}

/// The subjects of some records.
fn subjects(about: &Records) -> impl Iterator<Item = Subject> {
    let accounts = about
        .accounts
        .iter()
        .map(|account| (String::new(), *account));
    let identities = about.identities.iter().map(|id| (id.clone(), 0));
    identities.chain(accounts)
}

/// The holds of the parts of a full decision.
#[derive(Debug, Default)]
pub(crate) struct CollectedHolds(HoldCache);

impl CollectedHolds {
    /// Adds what a part says of its records, in place of what an earlier part said of them.
    pub(crate) fn add(&mut self, about: &Records, outcome: &Outcome) {
        for whose in subjects(about) {
            self.0.0.remove(&whose);
        }
        for hold in collect_holds(outcome).into_values() {
            self.0.put(hold);
        }
    }
}

impl Decider {
    /// Stores the holds of a decision. `about` limits it to the decided records; `None` is all. The
    /// changes of a partial outcome are all outstanding ones.
    pub(crate) async fn keep_holds(
        &self,
        outcome: &Outcome,
        about: Option<&Records>,
    ) -> Result<(), EngineError> {
        let checked = outcome.changes.iter().map(key_of_change).collect();
        self.replace_holds(collect_holds(outcome), checked, about)
            .await
    }

    /// Stores the holds of a full decision: those of its chunks, and those of the outstanding changes.
    pub(crate) async fn keep_collected_holds(
        &self,
        collected: CollectedHolds,
        outcome: &Outcome,
    ) -> Result<(), EngineError> {
        let mut held = collect_holds(outcome);
        held.extend(collected.0.0.into_values().flatten());
        let checked = outcome.changes.iter().map(key_of_change).collect();
        self.replace_holds(held, checked, None).await
    }

    /// Stores these holds in place of those of the decided records and of the checked changes.
    async fn replace_holds(
        &self,
        held: HashMap<HoldKey, Hold>,
        checked: HashSet<HoldKey>,
        about: Option<&Records>,
    ) -> Result<(), EngineError> {
        let mut kept = self.hold_cache.lock().await;
        if kept.is_none() {
            *kept = Some(HoldCache::of(self.context.store.all_holds().await?));
        }
        let Some(known) = kept.as_mut() else {
            return Ok(());
        };
        // A preview sends nothing: failed changes stay failed until a run retries them.
        let is_failed = |key: &HoldKey| {
            let cause = known.get(key).map(|hold| hold.cause);
            about.is_none() && matches!(cause, Some(HoldCause::Failed | HoldCause::RetriedLater))
        };
        let wanted: HashSet<HoldKey> = checked
            .iter()
            .filter(|key| is_failed(key))
            .cloned()
            .collect();
        // Holds of the decided records and of the checked changes end if they are not on hold
        // now.
        let mut looked_at = checked;
        match about {
            None => looked_at.extend(known.0.values().flat_map(HashMap::keys).cloned()),
            Some(about) => looked_at.extend(
                subjects(about)
                    .flat_map(|whose| known.keys_of(&whose).cloned().collect::<Vec<_>>()),
            ),
        }
        looked_at.retain(|key| !wanted.contains(key));
        let ended: Vec<HoldKey> = looked_at
            .into_iter()
            .filter(|key| !held.contains_key(key) && known.get(key).is_some())
            .collect();
        let new: Vec<Hold> = held
            .into_values()
            .filter(|hold| known.get(&hold.key) != Some(hold))
            .collect();
        if ended.is_empty() && new.is_empty() {
            return Ok(());
        }
        if let Err(error) = self
            .context
            .store
            .keep_holds(ended.clone(), new.clone(), self.context.now())
            .await
        {
            // What is kept is read again next time.
            *kept = None;
            return Err(error.into());
        }
        ended.iter().for_each(|key| known.remove(key));
        new.into_iter().for_each(|hold| known.put(hold));
        Ok(())
    }

    /// Updates the holds after a run: ends those of changes that were made, and adds those of
    /// changes that failed.
    pub(crate) async fn keep_run_holds(&self, run: i64) -> Result<(), EngineError> {
        let mut kept = self.hold_cache.lock().await;
        let (done, failed) = self.context.store.holds_of_run(run).await?;
        if done.is_empty() && failed.is_empty() {
            return Ok(());
        }
        *kept = None;
        Ok(self
            .context
            .store
            .keep_holds(done, failed, self.context.now())
            .await?)
    }

    /// Forgets what is known of holds: their records were changed otherwise.
    pub(crate) async fn forget_holds(&self) {
        *self.hold_cache.lock().await = None;
    }
}
