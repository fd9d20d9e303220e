//! Accounts that are never linked, changed or disabled: built-in ones, our own service account,
//! and protected ones.

use crate::expr::EvalInputs;
use crate::model::{Account, SystemFacts};
use crate::reasons::{Reason, ReasonKind};
use crate::rules::TypeRules;
use crate::value::Value;

/// Relative ids of the built-in accounts of every domain.
const BORN_WITH: [(&str, &str); 4] = [
    ("500", "administrator"),
    ("501", "guest"),
    ("502", "key distribution"),
    ("503", "default"),
];

/// Why an account must not be touched; `None` if it may be.
pub(super) fn exclusion_reason(
    account: &Account,
    types: &TypeRules,
    facts: Option<&SystemFacts>,
) -> Option<Reason> {
    let text = |name: &str| {
        account
            .attributes
            .get(name)
            .first()
            .map(|value| value.to_string().to_lowercase())
    };
    if let Some(sid) = text("objectSid").filter(|sid| sid.starts_with("s-1-5-21-"))
        && let Some((_, what)) = BORN_WITH
            .iter()
            .find(|(rid, _)| sid.rsplit('-').next() == Some(rid))
    {
        let account = (*what).to_owned();
        return Some(Reason::new(ReasonKind::BuiltInAccount { account }));
    }
    if text("isCriticalSystemObject").as_deref() == Some("true") {
        return Some(Reason::new(ReasonKind::BuiltInObject));
    }
    if facts.is_some_and(|facts| facts.own.iter().any(|own| has_name(account, own))) {
        return Some(Reason::new(ReasonKind::ServiceAccount));
    }
    let named = types
        .protected
        .names
        .iter()
        .any(|name| has_name(account, name));
    if named {
        return Some(Reason::by(
            ReasonKind::ProtectedByName,
            &types.protected.place,
        ));
    }
    let values = EvalInputs {
        account: Some(&account.attributes),
        identity: None,
    };
    types
        .protected
        .conditions
        .iter()
        .find_map(|condition| match condition.when.holds(&values) {
            Ok(false) => None,
            Ok(true) => Some(Reason::by(
                ReasonKind::ProtectedByCondition {
                    words: condition.reason.clone(),
                },
                &condition.place,
            )),
            // What cannot be answered is not touched.
            Err(error) => Some(Reason::by(
                ReasonKind::ProtectionFailed {
                    condition: condition.when.source().to_owned(),
                    error: error.to_string(),
                },
                &condition.place,
            )),
        })
}

/// Whether this is one of the account's names. `name@domain` and `domain\name` are names of it
/// too.
fn has_name(account: &Account, name: &str) -> bool {
    let folded = |text: &str| {
        text.split(',')
            .map(str::trim)
            .collect::<Vec<_>>()
            .join(",")
            .to_lowercase()
    };
    if folded(&account.name) == folded(name) || account.key.eq_ignore_ascii_case(name) {
        return true;
    }
    let has = |attribute: &str, wanted: &str| {
        account
            .attributes
            .get(attribute)
            .iter()
            .any(|v: &Value| v.to_string().eq_ignore_ascii_case(wanted))
    };
    if ["userPrincipalName", "userName", "uid", "mail"]
        .iter()
        .any(|attribute| has(attribute, name))
    {
        return true;
    }
    let short = name
        .rsplit_once('\\')
        .map(|(_, short)| short)
        .or_else(|| name.split_once('@').map(|(short, _)| short));
    short.is_some_and(|short| has("sAMAccountName", short))
}
