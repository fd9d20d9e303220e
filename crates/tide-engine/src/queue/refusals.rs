//! What a system refuses: for lack of a permission, with how often in a row, or single values of a
//! change.

use crate::queue::target::SystemDispatcher;
use std::collections::HashMap;
use tide_connect::{ConnectError, FailureClass, Write};
use tide_core::ObjectType;
use tide_core::compare::ValueChange;
use tide_core::decide::Change;
use tide_core::model::Observed;
use tide_core::references::{container_of, fold_reference};
use tide_core::states::ChangeKind;
use tide_core::value::Value;

/// The most values of a change that are sent one by one.
const MOST_VALUES: usize = 100;

/// How often in a row the same may be refused for lack of a permission before it is not sent on in
/// a run.
const MOST_REFUSALS: usize = 10;

/// The code of what is refused because the service account lacks a permission.
pub(crate) const NO_PERMISSION: &str = "rights";

/// Codes that are about the account as a whole, so that none of its values would be accepted.
pub(crate) const WHOLE_ACCOUNT: [&str; 7] = [
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
    pub(crate) object: ObjectType,
    pub(crate) kind: ChangeKind,
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

/// The results of the values of a change, each sent separately.
pub(crate) struct SeparateResults {
    /// The account after the last value that was accepted.
    pub(crate) account: Option<Observed>,
    pub(crate) refused: Vec<(ValueChange, ConnectError)>,
}

impl SystemDispatcher {
    /// How often in a row a kind of change, or one attribute of it, was refused in a container
    /// for lack of a permission; `None` below the limit.
    pub(crate) fn refusals_over_limit(
        &self,
        place: &RefusalScope,
        attribute: Option<&str>,
    ) -> Option<usize> {
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
pub(crate) fn is_divisible(write: &Write, error: &ConnectError) -> bool {
    write.kind == ChangeKind::Update
        && (2..=MOST_VALUES).contains(&write.values.len())
        && (concerns_values(error) || error.code == NO_PERMISSION)
}

/// Sends each value separately. Values that were refused are sent once more after others were
/// accepted, since some depend on others.
pub(crate) async fn send_values_separately(
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

/// The faults of several values in one.
pub(crate) fn merge_errors(refused: &[(ValueChange, ConnectError)]) -> ConnectError {
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
