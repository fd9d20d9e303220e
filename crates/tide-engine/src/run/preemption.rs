//! Leavers preempt a run in progress.

use crate::context::run_caught;
use crate::decide::kept_part;
use crate::error::EngineError;
use crate::lock;
use crate::run::Runner;
use crate::run::automatic::{DEBOUNCE, SERVICE_PRINCIPAL, identities_of, sent_to};
use std::collections::{BTreeSet, HashSet};
use std::sync::Arc;
use tide_core::decide::Change;
use tide_store::IdentityUpdates;

/// Maximum number of checks for requests in flight before the preemption stops waiting for them.
const MAX_IN_FLIGHT_CHECKS: usize = 1000;

fn fingerprints(changes: &[Change]) -> Vec<String> {
    changes
        .iter()
        .map(|change| change.fingerprint.clone())
        .collect()
}

/// Whether a change ends the access of a person who was just decided, in an account that is theirs.
fn closes_access(
    change: &Change,
    links: &HashSet<(i64, &str)>,
    decided: &BTreeSet<String>,
) -> bool {
    let is_theirs = |id: i64| links.contains(&(id, change.identity.as_str()));
    change.hold.is_none()
        && change.takes_away()
        && (change.is_membership() || change.account.is_some_and(is_theirs))
        && decided.contains(&change.identity)
}

impl Runner {
    /// During a run: decides about changed accounts, and sends changes that end access at once, in
    /// a change set of their own. Changes of the run for the same people that were not sent yet are
    /// canceled and decided again afterwards. The loop calls it on each wake-up during a run.
    /// Returns the change set, if there was one.
    pub async fn preempt_for_leavers(self: &Arc<Self>) -> Result<Option<i64>, EngineError> {
        let sent = run_caught(self.send_leavers()).await;
        if sent.is_err() {
            self.decider.reset_decision_cache().await;
        }
        sent
    }

    async fn send_leavers(self: &Arc<Self>) -> Result<Option<i64>, EngineError> {
        let _alone = self.pending.decision_lock.lock().await;
        let Some(run) = lock(&self.current_run).as_ref().map(|(id, _)| *id) else {
            return Ok(None);
        };
        let Some((mut news, before)) = self.decider.decide_on_leavers().await? else {
            return Ok(None);
        };
        tracing::debug!(
            records_read = news.cost.0,
            evaluated = news.cost.1,
            "decided leavers"
        );
        let outcomes = kept_part(&news);
        let in_step = self.hold_what_waits(&mut news, &before).await?;
        let theirs: HashSet<(i64, &str)> = news
            .population
            .links
            .iter()
            .map(|link| (link.account, link.identity.as_str()))
            .collect();
        self.save_known_identities(&news, in_step, outcomes).await?;
        let outcome = &mut news.outcome;
        // The outcome also contains outstanding changes of others, which may have been sent since.
        let looked_at = news.about.take().unwrap_or_default().identities;
        outcome
            .changes
            .retain(|change| closes_access(change, &theirs, &looked_at));
        // Changes that the run sends itself, or has sent since these records were read, need no
        // preemption.
        let prints = fingerprints(&outcome.changes);
        let does = self.context.store.seen_to(run, &prints, true).await?;
        let new = outcome
            .changes
            .iter()
            .filter(|change| !does.contains(&change.fingerprint));
        let about = identities_of(new);
        if about.is_empty() {
            return Ok(None);
        }
        outcome
            .changes
            .retain(|change| about.contains(&change.identity));
        outcome
            .decided
            .retain(|line| line.identity.as_ref().is_some_and(|id| about.contains(id)));
        let accounts = sent_to(&outcome.changes);
        self.pending.mark_sent(accounts, about.iter().cloned());
        let about: Vec<String> = about.into_iter().collect();
        self.context
            .store
            .supersede_pending(about.clone(), self.context.now())
            .await?;
        self.wait_for_in_flight(about).await?;
        let done = self.context.store.seen_to(run, &prints, false).await?;
        news.outcome
            .changes
            .retain(|change| !done.contains(&change.fingerprint));
        let (id, mut queue) = self.queue_changes(news, IdentityUpdates::default()).await?;
        // The accounts may have been moved since the decision.
        queue.account_names.clear();
        let cancel = self.context.stopping.child_token();
        match self
            .dispatcher
            .carry_out_whole(id, Some(queue), None, SERVICE_PRINCIPAL, &cancel)
            .await
        {
            Ok(()) => {
                self.pending.wake();
                Ok(Some(id))
            }
            Err(error) => {
                self.fail_run(id, &error, SERVICE_PRINCIPAL).await;
                Err(error)
            }
        }
    }

    /// Waits for requests in flight about these identities.
    async fn wait_for_in_flight(self: &Arc<Self>, about: Vec<String>) -> Result<(), EngineError> {
        let _: () = for _ in 0..MAX_IN_FLIGHT_CHECKS {
            if self.context.store.on_the_wire(&about).await? == 0 {
                break;
            }
            self.context.clock.sleep(DEBOUNCE).await;
        };
        Ok(())
    }
}
