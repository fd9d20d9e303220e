//! Handles changes that a target refuses. A refused value does not block the other values of the
//! same account: each is sent separately. A kind of change that is refused again and again because
//! the service account lacks a permission is not sent any more in the same run.

use crate::error::EngineError;
use crate::executor::Executor;
use crate::executor::account::{QueuePosition, SendOutcome};
use crate::executor::results::settled;
use crate::queue::{
    RefusalScope, RunProgress, SeparateResults, SystemDispatcher, is_divisible, merge_errors,
    send_values_separately,
};
use std::sync::atomic::Ordering;
use tide_connect::{ConnectError, FailureClass, Write};
use tide_core::compare::ValueChange;
use tide_core::decide::Change;
use tide_core::model::Observed;
use tide_store::{ChangeResult, ChangeRow};

/// A change as it was sent and refused.
pub(crate) struct Sent<'a> {
    pub(crate) row: ChangeRow,
    pub(crate) write: &'a Write,
    pub(crate) error: ConnectError,
    pub(crate) place: RefusalScope,
}

/// Adds to the error of a refused change that the account was renamed before it.
fn with_rename_note(error: ConnectError, turn: QueuePosition) -> ConnectError {
    if !turn.is_renamed {
        return error;
    }
    let said = format!(
        "partly done: the account was renamed, but these values were not written: {}",
        error.message
    );
    ConnectError {
        message: said,
        ..error
    }
}

impl Executor {
    /// The hold of a change whose kind was repeatedly refused in its container for lack of a
    /// permission, with the remedy.
    pub(crate) async fn refusal_limit_reached(
        &self,
        share: &SystemDispatcher,
        change: &Change,
    ) -> Result<Option<(String, String)>, EngineError> {
        let could_be = |(place, _): &(RefusalScope, Option<String>)| {
            place.object == change.object && place.kind == change.kind
        };
        if !crate::lock(&share.refusals).keys().any(could_be) {
            return Ok(None);
        }
        let account = match change.account {
            Some(id) => Some(self.context.store.account_name(id).await?),
            None => None,
        };
        let Some(count) =
            share.refusals_over_limit(&RefusalScope::of(change, account.as_ref()), None)
        else {
            return Ok(None);
        };
        let system = &share.row.name;
        let why = format!(
            "not sent: {system} refused {count} changes of this kind in this container in a row: the service account lacks a permission"
        );
        let remedy = format!(
            "grant the permission: `eager-tide systems permissions {system}` lists what the service account needs"
        );
        Ok(Some((why, remedy)))
    }

    /// Handles a change that its system refuses. Several values are sent separately: accepted
    /// ones are recorded as done.
    pub(crate) async fn handle_refusal(
        &self,
        share: &SystemDispatcher,
        sent: Sent<'_>,
        turn: QueuePosition,
        tally: &RunProgress,
        principal: &str,
    ) -> Result<SendOutcome, EngineError> {
        let Sent {
            row,
            write,
            error,
            place,
        } = sent;
        if is_divisible(write, &error) {
            let SeparateResults { account, refused } =
                send_values_separately(share, write, &place, &error).await;
            if let Some(account) = account {
                return self
                    .record_partial_result(share, row, account, refused, turn, tally, principal)
                    .await;
            }
        }
        share.note_refusal(&place, None, Some(&error));
        let error = with_rename_note(error, turn);
        self.record_failure(&row, &error, share, tally).await
    }

    /// Stores the outcome of a change of which only some values were accepted.
    #[allow(clippy::too_many_arguments)]
    async fn record_partial_result(
        &self,
        share: &SystemDispatcher,
        mut row: ChangeRow,
        account: Observed,
        refused: Vec<(ValueChange, ConnectError)>,
        turn: QueuePosition,
        tally: &RunProgress,
        principal: &str,
    ) -> Result<SendOutcome, EngineError> {
        let is_refused = |value: &ValueChange| {
            refused
                .iter()
                .any(|(other, _)| other.attribute == value.attribute)
        };
        let mut went = SendOutcome::Done;
        if !refused.is_empty() {
            let (left, done): (Vec<ValueChange>, Vec<ValueChange>) =
                row.change.values.iter().cloned().partition(is_refused);
            let rest = row.change.with_values(&account.key, left);
            let error = with_rename_note(merge_errors(&refused), turn);
            tracing::warn!(system = share.row.name, change = row.id, code = error.code, %error, "a part of a change is refused");
            self.context
                .store
                .add_failed(
                    &row,
                    rest,
                    tide_store::ChangeFailure {
                        error: &error.message,
                        remedy: &error.remedy,
                        is_transient: error.class != FailureClass::Permanent,
                    },
                    self.context.now(),
                )
                .await?;
            tally.add_failed();
            row.change.values = done;
            went = SendOutcome::Refused;
        }
        let what = settled(share, &row, account, None);
        self.queue_result(share, ChangeResult::new(row, true, what, principal)?, false)
            .await?;
        share.in_a_row.store(0, Ordering::Relaxed);
        self.breakers.record_success(&share.row.name);
        Ok(went)
    }
}
