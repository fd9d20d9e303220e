//! The member of a membership, as it is called when the change is sent.

use std::collections::HashMap;
use tide_core::Value;
use tide_core::memberships::member_value;
use tide_core::model::Account;
use tide_core::references::fold_reference;
use tide_core::states::ChangeKind;
use tide_store::ChangeRow;

/// Why a membership is not granted.
pub(crate) const MEMBER_GONE: &str = "the account of the member no longer exists";

/// The member of a membership, resolved at sending time.
#[derive(Debug, Default)]
pub(crate) struct Resolved {
    /// The key of the member's account and its present name; `None` where the system refers by
    /// keys.
    pub(crate) member: Option<(String, String)>,
    /// The values differ from the decided ones.
    pub(crate) is_changed: bool,
    /// The member's account does not exist any more.
    pub(crate) is_gone: bool,
}

/// Replaces the member of a membership by the current name of its account. Former names that another
/// account uses now are left out.
pub(crate) fn resolve_member(
    row: &mut ChangeRow,
    in_use: &[String],
    accounts: &HashMap<String, Vec<Account>>,
) -> Resolved {
    let change = &mut row.change;
    let before = change.values.clone();
    // Another account has the name now, and its memberships are decided separately.
    let is_free = |value: &Value| !in_use.contains(&value.to_string());
    change
        .values
        .iter_mut()
        .skip(1)
        .for_each(|value| value.before.retain(is_free));
    let Some(first) = change.values.first_mut() else {
        return Resolved::default();
    };
    let there = accounts
        .get(&change.identity)
        .map_or(&[][..], Vec::as_slice);
    let decided = first
        .after
        .first()
        .or(first.before.first())
        .map(|value| fold_reference(&value.to_string()));
    let as_decided = |account: &&Account| {
        decided.as_ref().is_some_and(|name| {
            fold_reference(&member_value(&first.attribute, account, true).to_string()) == *name
        })
    };
    let Some(account) = there.iter().find(as_decided).or(there.first()) else {
        return Resolved {
            is_gone: change.kind == ChangeKind::Grant,
            ..Resolved::default()
        };
    };
    let member = vec![member_value(&first.attribute, account, true)];
    let values = match change.kind {
        ChangeKind::Grant => &mut first.after,
        _ => &mut first.before,
    };
    values.clone_from(&member);
    change
        .values
        .iter_mut()
        .skip(1)
        .for_each(|value| value.before.retain(|former| !member.contains(former)));
    let mut at = 0;
    change.values.retain(|value| {
        at += 1;
        at == 1 || !value.before.is_empty()
    });
    let member = Some((account.key.clone(), account.name.clone()));
    Resolved {
        is_changed: change.values != before,
        member,
        is_gone: false,
    }
}
