//! The results of changes: confirmed, failed, or unknown.

use crate::error::EngineError;
use crate::executor::Executor;
use crate::executor::account::SendOutcome;
use crate::queue::{Confirmed, RunProgress, SystemDispatcher};
use std::sync::Arc;
use std::sync::atomic::Ordering;
use tide_connect::{ConnectError, FailureClass, Write};
use tide_core::Value;
use tide_core::decide::Change;
use tide_core::equality::are_equal;
use tide_core::model::Observed;
use tide_core::states::{ChangeKind, ChangeState};
use tide_store::{ChangeResult, ChangeRow, Settled, StoreError};
use tokio::sync::{mpsc, oneshot};

/// Maximum number of results that are stored in one commit.
pub(crate) const SETTLED: usize = 512;

/// Failures in a row after which the circuit breaker of a system opens.
const IN_A_ROW: usize = 4;

/// Attributes by which an account is searched for after the answer to its creation was lost.
const PROBES: [&str; 5] = ["externalId", "userName", "employeeNumber", "uid", "mail"];

/// The attributes of a change whose lists are merged with values of others.
pub(crate) fn merged_lists(share: &SystemDispatcher, change: &Change) -> Vec<String> {
    let Some(types) = share.rules.get(&change.object) else {
        return Vec::new();
    };
    change
        .values
        .iter()
        .map(|value| &value.attribute)
        .filter(|name| types.merges(name))
        .cloned()
        .collect()
}

/// The result of a confirmed change, as it is stored.
pub(crate) fn settled(
    share: &SystemDispatcher,
    row: &ChangeRow,
    account: Observed,
    note: Option<String>,
) -> Settled {
    let schema = share.row.schema.get(&row.change.object);
    if row.change.is_membership() {
        // The change lists one member, and the group has others.
        return Settled {
            account,
            normalized: Vec::new(),
            merged: Vec::new(),
            note,
        };
    }
    let normalized = row
        .change
        .values
        .iter()
        // A system may normalize texts. A different state of the account is no normalization: it is
        // drift, and the next run repairs it.
        .filter(|value| {
            schema
                .and_then(|schema| schema.state_attribute.as_ref())
                .is_none_or(|state| !state.eq_ignore_ascii_case(&value.attribute))
        })
        .filter_map(|value| {
            let returned = account.attributes.get(&value.attribute);
            let def = schema.and_then(|schema| schema.get(&value.attribute));
            (!are_equal(def, &value.after, returned)).then(|| {
                (
                    value.attribute.clone(),
                    value.after.clone(),
                    returned.to_vec(),
                )
            })
        })
        .collect();
    let merged = crate::executor::results::merged_lists(share, &row.change);
    Settled {
        account,
        normalized,
        merged,
        note,
    }
}

impl Executor {
    /// Stores results, all that have arrived in one commit, until the channel closes.
    pub(crate) async fn settle_confirmed(
        &self,
        mut incoming: mpsc::Receiver<Confirmed>,
        tally: &RunProgress,
    ) -> Result<(), EngineError> {
        let mut some: Vec<Confirmed> = Vec::new();
        while incoming.recv_many(&mut some, SETTLED).await > 0 {
            let (batch, waiting): (Vec<ChangeResult>, Vec<_>) = some
                .drain(..)
                .map(|one| (one.settling, (one.password, one.settled)))
                .unzip();
            let batch = Arc::new(batch);
            let accounts = match self
                .context
                .store
                .settle_all(batch.clone(), self.context.monotonic_now())
                .await
            {
                // One result that cannot be stored must not block the others.
                Err(error)
                    if batch.len() > 1
                        && !matches!(error, StoreError::Unwritable { .. } | StoreError::Closed) =>
                {
                    let mut accounts = Vec::with_capacity(batch.len());
                    for one in batch.iter() {
                        accounts.extend(
                            self.context
                                .store
                                .settle_all(
                                    Arc::new(vec![one.clone()]),
                                    self.context.monotonic_now(),
                                )
                                .await?,
                        );
                    }
                    accounts
                }
                other => other?,
            };
            for ((settling, (password, settled)), account) in
                batch.iter().zip(waiting).zip(accounts)
            {
                if password {
                    let row = &settling.row;
                    self.context
                        .store
                        .first_password_set(row.id, account, &row.change, self.context.now())
                        .await?;
                }
                tally.done.fetch_add(1, Ordering::Relaxed);
                // The receiver may have given up.
                let _ = settled.send(());
            }
            self.report_change(tally);
        }
        Ok(())
    }

    /// Hands a confirmed change to the task that stores results. The next change of the same
    /// account waits for it.
    pub(crate) async fn queue_result(
        &self,
        share: &SystemDispatcher,
        settling: ChangeResult,
        last: bool,
    ) -> Result<(), EngineError> {
        let change = &settling.row.change;
        let password = crate::passwords::begins_with_password(share, change);
        let (done, is_done) = oneshot::channel();
        let ended = || EngineError::Store(StoreError::Closed);
        share.ready.succeeded();
        let confirmed = share.confirmed.as_ref().ok_or_else(ended)?;
        if confirmed
            .send(Confirmed {
                settling,
                password,
                settled: done,
            })
            .await
            .is_err()
        {
            // The task's own error gives the reason.
            return Err(ended());
        }
        // Sequential mode: if the process dies, only the change in flight is open.
        if !last || self.accounts_at_a_time == 1 {
            is_done.await.map_err(|_| ended())?;
        }
        Ok(())
    }

    /// Stores the result of a change that was confirmed outside a run.
    pub(crate) async fn store_result(
        &self,
        share: &SystemDispatcher,
        row: &ChangeRow,
        account: Observed,
        note: Option<String>,
        principal: &str,
    ) -> Result<(), EngineError> {
        let settled = settled(share, row, account, note);
        let id = self
            .context
            .store
            .settle_done(row, settled, principal, self.context.monotonic_now())
            .await?;
        let change = &row.change;
        if crate::passwords::begins_with_password(share, change) {
            self.context
                .store
                .first_password_set(row.id, id, change, self.context.now())
                .await?;
        }
        Ok(())
    }

    pub(crate) async fn record_failure(
        &self,
        row: &ChangeRow,
        error: &ConnectError,
        share: &SystemDispatcher,
        tally: &RunProgress,
    ) -> Result<SendOutcome, EngineError> {
        tracing::warn!(system = share.row.name, change = row.id, code = error.code, %error, "a change failed");
        let passing = error.class != FailureClass::Permanent;
        if error.class == FailureClass::UnknownOutcome && row.change.kind == ChangeKind::Create {
            // The account may exist: it is searched for before the next decision about it.
            let next = "a look-up follows automatically";
            self.context
                .store
                .record_not_done(
                    row.id,
                    ChangeState::Unknown,
                    &error.message,
                    next,
                    self.context.now(),
                )
                .await?;
        } else {
            self.context
                .store
                .record_failed(
                    row.id,
                    &error.message,
                    &error.remedy,
                    passing,
                    self.context.now(),
                )
                .await?;
        }
        let many = passing && share.in_a_row.fetch_add(1, Ordering::Relaxed) + 1 >= IN_A_ROW;
        if error.class == FailureClass::SystemDown || many {
            let mut down = share.down.lock().await;
            if down.is_none() {
                self.breakers
                    .record_failure(&share.row.name, &error.message);
                *down = Some(error.clone());
            }
        }
        tally.failed.fetch_add(1, Ordering::Relaxed);
        self.report_change(tally);
        // A refusal has no bearing on changes of other values.
        Ok(if error.class == FailureClass::Permanent {
            SendOutcome::Refused
        } else {
            SendOutcome::Failed
        })
    }

    /// Searches for an account with an unknown creation outcome. It must agree in every identifying
    /// value, or it is another person's.
    pub(crate) async fn look_for(
        &self,
        share: &SystemDispatcher,
        write: &Write,
    ) -> Result<Option<Observed>, ConnectError> {
        let telling = |names: &dyn Fn(&str) -> bool| -> Vec<(String, Value)> {
            let values = write.values.iter().filter(|value| names(&value.attribute));
            values
                .filter_map(|value| Some((value.attribute.clone(), value.after.first()?.clone())))
                .collect()
        };
        let name = share
            .row
            .schema
            .get(&write.object)
            .and_then(|schema| schema.name_attribute.as_deref());
        let mut probes = telling(&|attribute| {
            PROBES
                .iter()
                .copied()
                .chain(name)
                .any(|probe| attribute.eq_ignore_ascii_case(probe))
        });
        if probes.is_empty() {
            // Without generally identifying values, those of the match rules are compared.
            let rules = share
                .rules
                .get(&write.object)
                .map_or(&[][..], |types| types.matching.as_slice());
            let read: Vec<&str> = rules
                .iter()
                .flat_map(|rule| &rule.account)
                .flat_map(|program| program.reads())
                .map(|(_, n)| n.as_str())
                .collect();
            probes =
                telling(&|attribute| read.iter().any(|name| attribute.eq_ignore_ascii_case(name)));
        }
        let found = share.connector.find(write.object, &probes).await?;
        let fits = |account: &Observed| {
            probes.iter().all(|(name, value)| {
                account.attributes.get(name).iter().any(|there| {
                    there
                        .to_string()
                        .trim()
                        .eq_ignore_ascii_case(value.to_string().trim())
                })
            })
        };
        Ok(found
            .into_iter()
            .find(|account| !probes.is_empty() && fits(account)))
    }
}
