//! Batches memberships of one group into few requests.

use crate::error::EngineError;
use crate::executor::Executor;
use crate::queue::MEMBER_GONE;
use crate::queue::{RunProgress, SystemDispatcher, has_pending_references};
use std::collections::{HashSet, VecDeque};
use tide_connect::Write;
use tide_core::compare::ValueChange;
use tide_core::states::{ChangeKind, ChangeState};
use tide_store::{ChangeResult, ChangeRow};

/// Maximum number of memberships in one request.
const PIECE: usize = 500;

/// The members of all changes as one value.
fn batch_values(kind: ChangeKind, rows: &[(ChangeRow, bool)], value: &ValueChange) -> ValueChange {
    let all = |of: fn(&ValueChange) -> &Vec<tide_core::Value>| {
        rows.iter()
            .flat_map(|(row, _)| &row.change.values)
            .flat_map(of)
            .cloned()
            .collect::<Vec<_>>()
    };
    match kind {
        ChangeKind::Grant => ValueChange {
            before: Vec::new(),
            after: all(|value| &value.after),
            ..value.clone()
        },
        _ => ValueChange {
            before: all(|value| &value.before),
            after: Vec::new(),
            ..value.clone()
        },
    }
}

impl Executor {
    /// Sends a membership together with the following ones of the same group. Returns the change if
    /// it is no membership, if it is the only one, or if the batch was refused: each is then sent
    /// separately, which identifies the refused one.
    pub(crate) async fn send_membership_batch(
        &self,
        share: &SystemDispatcher,
        first: ChangeRow,
        others: &mut VecDeque<ChangeRow>,
        tally: &RunProgress,
        principal: &str,
    ) -> Result<Option<ChangeRow>, EngineError> {
        let kind = first.change.kind;
        // A membership that also removes a former name is sent separately.
        let fits = |row: &ChangeRow| {
            let change = &row.change;
            change.is_membership()
                && change.step == 0
                && change.kind == kind
                && change.values.len() == 1
                && row.attempts == 0
        };
        if !fits(&first) || !others.front().is_some_and(fits) {
            return Ok(Some(first));
        }
        let mut some = vec![first];
        while some.len() < PIECE && others.front().is_some_and(fits) {
            some.extend(others.pop_front());
        }
        let there = self.resolve_batch(share, some).await?;
        let mut rows = there;
        let marked: HashSet<i64> = self
            .context
            .store
            .claim_for_sending(
                rows.iter().map(|(row, _)| row.id).collect(),
                self.context.now(),
            )
            .await?;
        // Missing ones were canceled by a preemption.
        rows.retain(|(row, _)| marked.contains(&row.id));
        let Some((last, _)) = rows.last() else {
            return Ok(None);
        };
        let Some(group) = last.change.account else {
            return Ok(None);
        };
        let account = self.context.store.account_name(group).await?;
        let Some(value) = last.change.values.first() else {
            return Ok(None);
        };
        let values = batch_values(kind, &rows, value);
        let write = Write::new(last.change.object, kind, Some(account), vec![values]);
        let _one_at_a_time = share.lock_group(Some(group)).await;
        match share.connector.write_membership(&write).await {
            Ok(()) => {
                let count = rows.len();
                for (n, (row, filled_in)) in rows.into_iter().enumerate() {
                    self.queue_result(
                        share,
                        ChangeResult::membership(row, filled_in, principal)?,
                        n + 1 < count,
                    )
                    .await?;
                }
                self.breakers.record_success(&share.row.name);
                Ok(None)
            }
            Err(error) => {
                tracing::info!(
                    system = share.row.name,
                    group,
                    code = error.code,
                    "memberships are sent one by one"
                );
                for (mut row, _) in rows.into_iter().rev() {
                    row.attempts = 1;
                    others.push_front(row);
                }
                self.report_change(tally);
                Ok(others.pop_front())
            }
        }
    }

    /// Resolves the references of the changes; those that cannot be sent are canceled.
    async fn resolve_batch(
        &self,
        share: &SystemDispatcher,
        some: Vec<ChangeRow>,
    ) -> Result<Vec<(ChangeRow, bool)>, EngineError> {
        let schema = share.row.schema.get(&some[0].change.object);
        let mut rows: Vec<(ChangeRow, bool)> = Vec::with_capacity(some.len());
        for mut row in some {
            let filled_in = has_pending_references(&row);
            if filled_in && !self.resolve_pending_references(&mut row, schema).await? {
                let why = "the account that it depends on was not created";
                self.context
                    .store
                    .record_not_done(
                        row.id,
                        ChangeState::Canceled,
                        why,
                        "the next run retries it",
                        self.context.now(),
                    )
                    .await?;
                continue;
            }
            rows.push((row, filled_in));
        }
        let resolved = self
            .resolve_members(
                share,
                &mut rows.iter_mut().map(|(row, _)| row).collect::<Vec<_>>(),
            )
            .await?;
        let mut there = Vec::with_capacity(rows.len());
        for ((row, filled_in), resolved) in rows.into_iter().zip(resolved) {
            if resolved.is_gone {
                let (state, next) = (ChangeState::Canceled, "the next run retries it");
                self.context
                    .store
                    .record_not_done(row.id, state, MEMBER_GONE, next, self.context.now())
                    .await?;
                continue;
            }
            there.push((row, filled_in || resolved.is_changed));
        }
        Ok(there)
    }
}
