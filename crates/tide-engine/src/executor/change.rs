//! Sends one change until its result is known.

use crate::backoff::Backoff;
use crate::error::EngineError;
use crate::executor::Executor;
use crate::executor::account::{QueuePosition, SendOutcome};
use crate::executor::refusals::Sent;
use crate::executor::results::{merged_lists, settled};
use crate::queue::MEMBER_GONE;
use crate::queue::{RefusalScope, RunProgress, SystemDispatcher, has_pending_references};
use std::collections::VecDeque;
use std::sync::atomic::Ordering;
use std::time::Duration;
use tide_connect::{ConnectError, FailureClass, Settings, Write};
use tide_core::compare::ValueChange;
use tide_core::decide::Change;
use tide_core::states::{ChangeKind, ChangeState};
use tide_store::{ChangeResult, ChangeRow};
use zeroize::Zeroizing;

/// Attempts before a change is marked as failed.
const ATTEMPTS: u32 = 4;

/// Delay before a change is sent again.
const SEND_BACKOFF: Backoff =
    Backoff::new(Duration::from_millis(250), Duration::from_secs(8)).with_jitter(0.25);

/// Values that are sent and never stored with the change: passwords and hashes.
fn secret_texts(values: &[ValueChange], change: &Change) -> Vec<Zeroizing<String>> {
    let is_kept = |value: &&ValueChange| change.values.contains(value);
    let sent = values
        .iter()
        .filter(|value| !is_kept(value))
        .flat_map(|value| &value.after);
    sent.map(|value| Zeroizing::new(value.to_string()))
        .collect()
}

impl Executor {
    /// Sends one change until its result is known, or until the system has accepted it.
    pub(crate) async fn execute_change(
        &self,
        share: &SystemDispatcher,
        mut row: ChangeRow,
        turn: QueuePosition,
        tally: &RunProgress,
        principal: &str,
    ) -> Result<SendOutcome, EngineError> {
        let QueuePosition {
            is_claimed: mut marked,
            is_last: last,
            ..
        } = turn;
        let object = row.change.object;
        let mut filled_in = has_pending_references(&row);
        if filled_in
            && !self
                .resolve_pending_references(&mut row, share.row.schema.get(&object))
                .await?
        {
            let why = "the account that it depends on was not created";
            return self
                .cancel_change(row.id, why, "the next run retries it", tally)
                .await;
        }
        let mut member = None;
        if row.change.is_membership() {
            let resolved = self
                .resolve_members(share, &mut [&mut row])
                .await?
                .pop()
                .unwrap_or_default();
            if resolved.is_gone {
                return self
                    .cancel_change(row.id, MEMBER_GONE, "the next run retries it", tally)
                    .await;
            }
            filled_in |= resolved.is_changed;
            member = resolved.member;
        }
        let password = self.passwords.first_password(share, &row).await?;
        let change = &row.change;
        let account = match change.account {
            // At first, the account has the name of the decision; later it may have been renamed.
            Some(id) => match tally
                .account_names
                .get(&id)
                .filter(|_| marked && tally.claimed.contains(&row.id))
            {
                Some(called) => Some(called.clone()),
                None => Some(self.context.store.account_name(id).await?),
            },
            None => None,
        };
        // The password is only sent: the stored and journaled change does not contain it.
        let values = match self.passwords.password_of(share, &row).await? {
            Some(Some(values)) => values,
            Some(None) => {
                let why = "the password to set is no longer available";
                return self.cancel_change(row.id, why, "set it again", tally).await;
            }
            None => change
                .values
                .iter()
                .cloned()
                .chain(password.clone())
                .collect(),
        };
        let group = change.account.filter(|_| change.is_membership());
        let _one_at_a_time = share.lock_group(group).await;
        let merged = merged_lists(share, change);
        let refusals = RefusalScope::of(change, account.as_ref());
        let mut write = Write {
            member,
            merged,
            ..Write::new(change.object, change.kind, account, values)
        };
        // After a crash, an answer may be lost: a create must be searched for, other changes can be
        // sent again.
        let mut in_doubt = matches!(row.state, ChangeState::Sending | ChangeState::Unknown)
            && change.kind == ChangeKind::Create;
        // By monotonic time: the wall clock may be set back meanwhile.
        let (begun, mut draws) = (self.context.monotonic_now(), 1);
        for attempt in 1.. {
            if in_doubt {
                match self.look_for(share, &write).await {
                    Ok(Some(account)) => {
                        let note = "the answer was lost; the account was found by its values; nothing was sent twice";
                        let what = settled(share, &row, account, Some(note.to_owned()));
                        self.queue_result(
                            share,
                            ChangeResult::new(row, filled_in, what, principal)?,
                            last,
                        )
                        .await?;
                        break;
                    }
                    // The account may become visible later: it is searched for until the visibility
                    // lag has passed.
                    Ok(None)
                        if self
                            .context
                            .monotonic_now()
                            .duration_since(begun)
                            .unsigned_abs()
                            < share.connector.visibility_lag() =>
                    {
                        if attempt < ATTEMPTS {
                            self.context.clock.sleep(self.retry_delay(attempt)).await;
                            continue;
                        }
                        let said = "the answer to its creation was lost, and the system does not list it yet";
                        let lost = ConnectError::unknown_outcome(
                            "answer_lost",
                            said,
                            "a look-up precedes any further request",
                        );
                        return self.record_failure(&row, &lost, share, tally).await;
                    }
                    Ok(None) => {}
                    Err(error) if attempt >= ATTEMPTS => {
                        // The outcome stays unknown, whatever prevented the search.
                        let lost = ConnectError::unknown_outcome(
                            "answer_lost",
                            error.message,
                            error.remedy,
                        );
                        return self.record_failure(&row, &lost, share, tally).await;
                    }
                    Err(_) => {
                        self.context.clock.sleep(self.retry_delay(attempt)).await;
                        continue;
                    }
                }
            }
            if !std::mem::take(&mut marked)
                && !self
                    .context
                    .store
                    .claim_for_sending(vec![row.id], self.context.now())
                    .await?
                    .contains(&row.id)
            {
                // A preemption canceled it.
                self.report_change(tally);
                return Ok(SendOutcome::Done);
            }
            let written = match group {
                // The group is not read back for one membership.
                Some(_) => share
                    .connector
                    .write_membership(&write)
                    .await
                    .map(|()| None),
                None => share.connector.write(&write).await.map(Some),
            };
            let written = match written {
                Ok(account) => Ok(account),
                // Values that are not stored with the change are secrets.
                Err(error) => Err(self
                    .without_secrets(share, error, &secret_texts(&write.values, change))
                    .await),
            };
            match written {
                Ok(account) => {
                    let settling = match account {
                        Some(account) => {
                            let what = settled(share, &row, account, None);
                            ChangeResult::new(row, filled_in, what, principal)?
                        }
                        None => ChangeResult::membership(row, filled_in, principal)?,
                    };
                    self.queue_result(share, settling, last).await?;
                    break;
                }
                Err(error) if error.class == FailureClass::Accepted => {
                    self.context
                        .store
                        .mark_accepted(row.id, &error.operation_url, self.context.now())
                        .await?;
                    self.breakers.record_success(&share.row.name);
                    self.report_change(tally);
                    self.operation_accepted.notify_one();
                    return Ok(SendOutcome::Accepted);
                }
                Err(error) if error.class == FailureClass::WritesStopped => {
                    self.cancel_rest(VecDeque::from([row]), &error.message, tally)
                        .await?;
                    return Ok(SendOutcome::Stopped);
                }
                Err(error)
                    if matches!(
                        error.class,
                        FailureClass::Transient | FailureClass::UnknownOutcome
                    ) && attempt < ATTEMPTS =>
                {
                    tracing::info!(
                        system = share.row.name,
                        change = row.id,
                        code = error.code,
                        attempt,
                        "retrying a change"
                    );
                    in_doubt = error.class == FailureClass::UnknownOutcome
                        && change.kind == ChangeKind::Create;
                    let state = if in_doubt {
                        ChangeState::Unknown
                    } else {
                        ChangeState::Queued
                    };
                    self.context
                        .store
                        .record_not_done(
                            row.id,
                            state,
                            &error.message,
                            &error.remedy,
                            self.context.now(),
                        )
                        .await?;
                    self.context.clock.sleep(self.retry_delay(attempt)).await;
                }
                Err(error) => {
                    if self
                        .passwords
                        .redraw_password(share, &row, &mut write, &error, &mut draws)
                        .await?
                    {
                        continue;
                    }
                    return self
                        .handle_refusal(
                            share,
                            Sent {
                                row,
                                write: &write,
                                error,
                                place: refusals,
                            },
                            turn,
                            tally,
                            principal,
                        )
                        .await;
                }
            }
        }
        share.note_refusal(&refusals, None, None);
        share.in_a_row.store(0, Ordering::Relaxed);
        self.breakers.record_success(&share.row.name);
        Ok(SendOutcome::Done)
    }

    /// Removes secrets that were sent from a system's answer.
    async fn without_secrets(
        &self,
        share: &SystemDispatcher,
        error: ConnectError,
        sent: &[Zeroizing<String>],
    ) -> ConnectError {
        let own = match Settings::read(share.row.kind, &share.row.settings) {
            Ok(settings) => self
                .context
                .store
                .load_secret(&share.row.name, settings.secret_field())
                .await
                .ok()
                .flatten(),
            Err(_) => None,
        };
        let secrets: Vec<&str> = sent
            .iter()
            .chain(&own)
            .map(|secret| secret.as_str())
            .collect();
        error.without_secrets(&secrets)
    }

    /// The delay before the next attempt.
    fn retry_delay(&self, attempt: u32) -> Duration {
        SEND_BACKOFF.delay(attempt, self.context.random())
    }
}
