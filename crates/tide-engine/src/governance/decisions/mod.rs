//! The list of decisions for operators, and their answers: matches that need review, approvals,
//! changes held by guards, failed changes, drift and external changes.

mod approval_entries;
mod entries;
mod external_changes;
mod in_effect;

pub use entries::Decision;

use crate::decide::OpenChanges;
use crate::error::EngineError;
use crate::governance::DecisionReview;
use crate::governance::approvals::open_requests;
use crate::governance::decisions::approval_entries::{ApprovalContext, approval_decision};
use crate::governance::decisions::entries::{
    NAMED, add_alerts, changes_held_by_guards, drift_decision, drift_id, guard_id, match_decision,
    open_decisions, reported_drift,
};
use crate::governance::decisions::in_effect::answers_in_effect;
use crate::governance::reply::{DecisionReply, decision_changed, unfit_answer};
use jiff::{SignedDuration, Timestamp};
use std::collections::{BTreeMap, HashMap, HashSet};
use tide_core::decide::{Change, Doubt};
use tide_core::incremental::Records;
use tide_core::states::DecisionAnswer;
use tide_core::{ObjectType, Outcome};
use tide_store::{
    ApprovalRow, NewOverride, OutcomeFilter, OutcomeList, OutcomeStatus, OverrideRow,
};

/// Expiry of an unused release.
const RELEASED: SignedDuration = SignedDuration::from_hours(24);

/// Expiry of a discard.
const DISCARDED: SignedDuration = SignedDuration::from_hours(7 * 24);

impl DecisionReview {
    /// The list of decisions for a principal.
    pub async fn list_decisions(&self, principal: &str) -> Result<Vec<Decision>, EngineError> {
        let open = self.decider.open_changes().await?;
        let outcome = &open.outcome;
        let mut all = self.approval_decisions(&open, principal).await?;
        all.extend(reported_drift(outcome).into_iter().map(drift_decision));
        let prints: Vec<&str> = outcome
            .changes
            .iter()
            .map(|change| change.fingerprint.as_str())
            .collect();
        let parked = self.context.store.parked_changes(&prints).await?;
        all.extend(open_decisions(outcome, &parked));
        all.extend(self.match_decisions().await?);
        add_alerts(&self.context.store.list_alerts().await?, &mut all);
        all.extend(answers_in_effect(
            outcome,
            &self.context.store.override_rows().await?,
            &self.context.store.list_approvals().await?,
            self.context.now(),
        ));
        Ok(all)
    }

    /// The matches that need review, by system and doubt.
    async fn match_decisions(&self) -> Result<Vec<Decision>, EngineError> {
        let mut counts: BTreeMap<(String, Doubt), (i64, OutcomeFilter)> = BTreeMap::new();
        for count in self.context.store.match_counts().await? {
            if let Some(doubt) = Doubt::of(count.status, count.code) {
                let filter = OutcomeFilter {
                    status: Some(OutcomeStatus::Match(count.status)),
                    code: (doubt == Doubt::Orphaned).then_some(count.code),
                    limit: NAMED as i64,
                    ..OutcomeFilter::default()
                };
                let known = counts.entry((count.system, doubt)).or_insert((0, filter));
                known.0 += count.count;
            }
        }
        let mut decisions = Vec::new();
        for ((system, doubt), (count, filter)) in counts {
            let mut names = Vec::new();
            for kind in ObjectType::ALL {
                let list = OutcomeList::Matches;
                let records = self
                    .context
                    .store
                    .list_records(list, &system, *kind, &filter);
                names.extend(records.await?.records.into_iter().map(|one| one.label));
            }
            decisions.push(match_decision(&system, doubt, count, names));
        }
        Ok(decisions)
    }

    /// Ends overrides of changes that are not wanted any more, and expired ones. `about`: the
    /// decided records; `None` means all.
    pub(crate) async fn end_overrides(
        &self,
        outcome: &Outcome,
        about: Option<&Records>,
    ) -> Result<(), EngineError> {
        let (rows, now) = (
            self.context.store.override_rows().await?,
            tide_store::format_timestamp(self.context.now()),
        );
        if rows.is_empty() {
            return Ok(());
        }
        let wanted: HashSet<&str> = outcome
            .changes
            .iter()
            .map(|change| change.fingerprint.as_str())
            .collect();
        // Records that were not decided keep their overrides.
        let decided = |row: &OverrideRow| match about {
            None => true,
            Some(about) if row.identity.is_empty() => row
                .account
                .is_some_and(|account| about.accounts.contains(&account)),
            Some(about) => about.identities.contains(&row.identity),
        };
        let unwanted: Vec<String> = rows
            .iter()
            .filter(|row| decided(row) && !wanted.contains(row.fingerprint.as_str()))
            .map(|row| row.fingerprint.clone())
            .collect();
        if unwanted.is_empty() && rows.iter().all(|row| row.expires_at > now) {
            return Ok(());
        }
        Ok(self
            .context
            .store
            .end_overrides(unwanted, self.context.now())
            .await?)
    }

    /// The approval requests.
    async fn approval_decisions(
        &self,
        open: &OpenChanges,
        principal: &str,
    ) -> Result<Vec<Decision>, EngineError> {
        let (rules, outcome) = (&open.rules.set, &open.outcome);
        if rules.approvals.is_empty() {
            return Ok(Vec::new());
        }
        let rows = self.context.store.list_approvals().await?;
        let rows: HashMap<&str, &ApprovalRow> = rows
            .iter()
            .map(|row| (row.fingerprint.as_str(), row))
            .collect();
        let operator = self.context.store.find_operator(principal).await.ok();
        let requests = open_requests(rules, outcome, &rows, self.context.now());
        let owners = self.approvals.group_owners(&requests).await?;
        let context = ApprovalContext {
            rows: &rows,
            owners: &owners,
            groups: &open.group_labels,
            operator: operator.as_ref(),
        };
        Ok(requests
            .iter()
            .map(|request| approval_decision(request, &context))
            .collect())
    }

    /// Answers an entry.
    pub async fn answer_decision(
        &self,
        id: &str,
        answer: DecisionAnswer,
        comment: &str,
        principal: &str,
    ) -> Result<(), EngineError> {
        self.answer_choosing(
            id,
            DecisionReply {
                answer,
                comment,
                choice: &[],
            },
            principal,
        )
        .await
    }

    /// Answers an entry, with a choice of its offers.
    pub async fn answer_choosing(
        &self,
        id: &str,
        said: DecisionReply<'_>,
        principal: &str,
    ) -> Result<(), EngineError> {
        let answer = said.answer;
        let unfit = || unfit_answer(answer, id);
        match id.split_once('-') {
            Some(("guard", _)) => {
                self.answer_guard(id, principal, answer).await?;
            }
            Some(("approval", _)) => self.approvals.answer_approval(id, &said, principal).await?,
            Some(("drift", _)) if answer == DecisionAnswer::Repair => {
                self.repair_drift(id, principal).await?;
            }
            Some(("override", decision)) if answer == DecisionAnswer::TakeBack => {
                self.take_back_override(principal, decision).await?;
            }
            Some(("parked", fingerprint)) if answer == DecisionAnswer::Retry => {
                self.context
                    .store
                    .retry_failed(fingerprint, principal, self.context.now())
                    .await?
            }
            Some(("surprise", number)) if answer == DecisionAnswer::Acknowledge => {
                let number = number.parse().map_err(|_| decision_changed())?;
                self.context
                    .store
                    .acknowledge_alert(number, self.context.now())
                    .await?;
            }
            _ => return Err(unfit()),
        }
        self.context.publish_event(crate::Event::AttentionChanged);
        self.pending.wake();
        Ok(())
    }

    /// Releases or discards the changes that a guard holds.
    async fn answer_guard(
        &self,
        id: &str,
        principal: &str,
        answer: DecisionAnswer,
    ) -> Result<(), EngineError> {
        let release = match answer {
            DecisionAnswer::Release => true,
            DecisionAnswer::Discard => false,
            _ => return Err(unfit_answer(answer, id)),
        };
        let outcome = self.decider.open_changes().await?.outcome;
        let held = changes_held_by_guards(&outcome);
        let meant = held
            .iter()
            .find(|((system, kind), (_, changes))| guard_id(system, *kind, changes) == id);
        let changes: Vec<Change> = meant
            .ok_or_else(decision_changed)?
            .1
            .1
            .iter()
            .map(|change| (*change).clone())
            .collect();
        let expires = self
            .context
            .now()
            .saturating_add(if release { RELEASED } else { DISCARDED })
            .unwrap_or(Timestamp::MAX);
        let new = NewOverride {
            changes,
            held_by: "guard",
            decision: id.to_owned(),
            release,
            expires,
        };
        self.context
            .store
            .add_override(new, principal, self.context.now())
            .await?;
        Ok(())
    }

    /// Repairs values that others changed.
    async fn repair_drift(&self, id: &str, principal: &str) -> Result<(), EngineError> {
        let outcome = self.decider.open_changes().await?.outcome;
        let all = reported_drift(&outcome);
        let meant = all
            .iter()
            .find(|changes| drift_id(changes) == id)
            .ok_or_else(decision_changed)?;
        let changes = meant.iter().map(|change| (*change).clone()).collect();
        let expires = self
            .context
            .now()
            .saturating_add(RELEASED)
            .unwrap_or(Timestamp::MAX);
        let new = NewOverride {
            changes,
            held_by: "drift",
            decision: id.to_owned(),
            release: true,
            expires,
        };
        self.context
            .store
            .add_override(new, principal, self.context.now())
            .await?;
        let accounts = meant.iter().filter_map(|change| change.account);
        self.pending
            .mark_sent(accounts, meant.iter().map(|change| change.identity.clone()));
        Ok(())
    }

    /// Withdraws an override or the answers to an approval.
    async fn take_back_override(&self, principal: &str, decision: &str) -> Result<(), EngineError> {
        let outcome = self.decider.open_changes().await?.outcome;
        let rows = self.context.store.override_rows().await?;
        let mut about: Vec<(Option<i64>, String)> = rows
            .iter()
            .filter(|row| row.decision == decision)
            .map(|row| (row.account, row.identity.clone()))
            .collect();
        if self
            .context
            .store
            .take_back_override(decision, principal, self.context.now())
            .await?
            == 0
        {
            let wanted =
                |change: &&Change| change.fingerprint == decision && change.approval.is_some();
            let change = outcome
                .changes
                .iter()
                .find(wanted)
                .ok_or_else(decision_changed)?;
            about.push((
                change.account.filter(|_| !change.is_membership()),
                change.identity.clone(),
            ));
            if !self
                .context
                .store
                .take_back_answers(&change.fingerprint, principal, self.context.now())
                .await?
            {
                return Err(decision_changed());
            }
        }
        let accounts: Vec<i64> = about.iter().filter_map(|(account, _)| *account).collect();
        self.pending.mark_sent(
            accounts,
            about
                .into_iter()
                .map(|(_, identity)| identity)
                .filter(|id| !id.is_empty()),
        );
        Ok(())
    }
}
