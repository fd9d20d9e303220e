//! Handles changes that a target refuses. A refused value does not block the other values of the
//! same account: each is sent separately. A kind of change that is refused again and again because
//! the service account lacks a permission is not sent any more in the same run.

use crate::dispatch::{SystemDispatcher, settled};
use crate::executor::{QueuePosition, RunProgress, SendOutcome};
use crate::{Engine, EngineError};
use std::collections::HashMap;
use std::sync::atomic::Ordering;
use tide_connect::{ConnectError, FailureClass, Write};
use tide_core::ObjectType;
use tide_core::compare::ValueChange;
use tide_core::decide::Change;
use tide_core::model::Observed;
use tide_core::references::{container_of, fold_reference};
use tide_core::states::ChangeKind;
use tide_core::value::Value;
use tide_store::{ChangeResult, ChangeRow};

/// The most values of a change that are sent one by one.
const MOST_VALUES: usize = 100;
/// How often in a row the same may be refused for lack of a permission before it is not sent on in
/// a run.
const MOST_REFUSALS: usize = 10;
/// The code of what is refused because the service account lacks a permission.
const NO_PERMISSION: &str = "rights";
/// Codes that are about the account as a whole, so that none of its values would be accepted.
const WHOLE_ACCOUNT: [&str; 7] = [
    "gone",
    "no_such_object",
    "no_account",
    "no_such_type",
    "read_only",
    "referral",
    "tls_needed",
];

/// Where a kind of change is made: a service account may have a permission in one container, or on
/// one group, and not in another.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub(crate) struct RefusalScope {
    object: ObjectType,
    kind: ChangeKind,
    /// The container of the account, or the group of a membership; empty where a system has no
    /// tree.
    at: String,
}

impl RefusalScope {
    /// Where a change of an account, by its key and name, is made.
    pub(crate) fn of(change: &Change, account: Option<&(String, String)>) -> RefusalScope {
        let is_name = |value: &&ValueChange| value.attribute.eq_ignore_ascii_case("dn");
        let new = || {
            change
                .values
                .iter()
                .find(is_name)
                .and_then(|value| value.after.first())
                .map(Value::to_string)
        };
        let name = account
            .map(|(_, name)| name.clone())
            .or_else(new)
            .unwrap_or_default();
        let at = if change.is_membership() {
            fold_reference(&name)
        } else {
            container_of(&name).unwrap_or_default()
        };
        RefusalScope {
            object: change.object,
            kind: change.kind,
            at,
        }
    }
}

/// What a system refuses for lack of a permission, and how often in a row: a kind of change in a
/// container, or one attribute of it.
pub(crate) type Refusals = HashMap<(RefusalScope, Option<String>), usize>;

/// A change as it was sent and refused.
pub(crate) struct Sent<'a> {
    pub(crate) row: ChangeRow,
    pub(crate) write: &'a Write,
    pub(crate) error: ConnectError,
    pub(crate) place: RefusalScope,
}

/// The results of the values of a change, each sent separately.
struct SeparateResults {
    /// The account after the last value that was accepted.
    account: Option<Observed>,
    refused: Vec<(ValueChange, ConnectError)>,
}

impl SystemDispatcher {
    /// How often in a row a kind of change, or one attribute of it, was refused in a container
    /// for lack of a permission; `None` below the limit.
    fn refusals_over_limit(&self, place: &RefusalScope, attribute: Option<&str>) -> Option<usize> {
        let what = (place.clone(), attribute.map(str::to_lowercase));
        crate::lock(&self.refusals)
            .get(&what)
            .copied()
            .filter(|count| *count >= MOST_REFUSALS)
    }

    /// Notes whether a kind of change, or one attribute of it, was refused for lack of a
    /// permission.
    pub(crate) fn note_refusal(
        &self,
        place: &RefusalScope,
        attribute: Option<&str>,
        error: Option<&ConnectError>,
    ) {
        let mut refusals = crate::lock(&self.refusals);
        let is_refused = error.is_some_and(|error| error.code == NO_PERMISSION);
        if !is_refused && refusals.is_empty() {
            return;
        }
        let what = (place.clone(), attribute.map(str::to_lowercase));
        if is_refused {
            *refusals.entry(what).or_default() += 1;
        } else {
            refusals.remove(&what);
        }
    }
}

/// Whether a value can be the reason of a refusal, rather than the account as a whole or a
/// missing permission.
pub(crate) fn concerns_values(error: &ConnectError) -> bool {
    error.class == FailureClass::Permanent
        && !WHOLE_ACCOUNT.contains(&error.code)
        && error.code != NO_PERMISSION
}

/// Can each value of a refused change be sent separately? A missing permission can be one for a
/// single attribute.
fn is_divisible(write: &Write, error: &ConnectError) -> bool {
    write.kind == ChangeKind::Update
        && (2..=MOST_VALUES).contains(&write.values.len())
        && (concerns_values(error) || error.code == NO_PERMISSION)
}

impl Engine {
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
            Some(id) => Some(self.store.account_name(id).await?),
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
            self.store
                .add_failed(
                    &row,
                    rest,
                    tide_store::ChangeFailure {
                        error: &error.message,
                        remedy: &error.remedy,
                        is_transient: error.class != FailureClass::Permanent,
                    },
                    self.now(),
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
        self.record_system_success(&share.row.name);
        Ok(went)
    }
}

/// Sends each value separately. Values that were refused are sent once more after others were
/// accepted, since some depend on others.
async fn send_values_separately(
    share: &SystemDispatcher,
    write: &Write,
    place: &RefusalScope,
    whole: &ConnectError,
) -> SeparateResults {
    let mut account = None;
    let mut left: Vec<(ValueChange, ConnectError)> = write
        .values
        .iter()
        .map(|value| (value.clone(), whole.clone()))
        .collect();
    loop {
        let before = left.len();
        let mut refused = Vec::new();
        let mut is_cut = false;
        for (value, known) in std::mem::take(&mut left) {
            if is_cut
                || share
                    .refusals_over_limit(place, Some(&value.attribute))
                    .is_some()
            {
                refused.push((value, known));
                continue;
            }
            let one = Write {
                values: vec![value.clone()],
                ..write.clone()
            };
            match share.connector.write(&one).await {
                Ok(now) => {
                    share.note_refusal(place, Some(&value.attribute), None);
                    account = Some(now);
                }
                Err(error) => {
                    share.note_refusal(place, Some(&value.attribute), Some(&error));
                    is_cut = error.class != FailureClass::Permanent;
                    refused.push((value, error));
                }
            }
        }
        left = refused;
        if is_cut || left.is_empty() || left.len() == before || account.is_none() {
            return SeparateResults {
                account,
                refused: left,
            };
        }
    }
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

/// The faults of several values in one.
fn merge_errors(refused: &[(ValueChange, ConnectError)]) -> ConnectError {
    let said: Vec<String> = refused
        .iter()
        .map(|(value, error)| format!("{}: {}", value.attribute, error.message))
        .collect();
    let said = said.join(" · ");
    match refused.last() {
        Some((_, last)) => ConnectError {
            message: said,
            ..last.clone()
        },
        None => {
            ConnectError::permanent("refused", said, "correct the mapping of the refused value")
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_a_change_of_several_values_is_divided_and_only_where_a_value_can_be_the_reason() {
        let value = |name: &str| ValueChange {
            attribute: name.into(),
            ..ValueChange::default()
        };
        let write = |kind, values| Write::new(ObjectType::Person, kind, None, values);
        let refused = |code| ConnectError::permanent(code, "no", "why");
        let two = write(ChangeKind::Update, vec![value("title"), value("mail")]);
        assert!(is_divisible(&two, &refused("value")) && is_divisible(&two, &refused("rights")));
        assert!(
            !is_divisible(&two, &refused("gone")),
            "of an account that is gone nothing can be written"
        );
        assert!(!is_divisible(
            &two,
            &ConnectError::transient("timeout", "no", "why")
        ));
        assert!(!is_divisible(
            &write(ChangeKind::Update, vec![value("title")]),
            &refused("value")
        ));
        assert!(
            !is_divisible(
                &write(ChangeKind::Create, vec![value("a"), value("b")]),
                &refused("value")
            ),
            "an account is made whole"
        );
    }
}
