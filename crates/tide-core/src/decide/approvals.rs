//! Approvals: who must approve a change before it is sent.
//!
//! A rule of `approvals.toml` selects changes by kind, system, type and condition.
//! [`request_approvals`] records with each change the rule that selects it and the approvers of
//! its levels. [`hold_unapproved`] holds it until every level has approved it. The engine collects
//! the answers and expires requests.

use crate::decide::{Change, Outcome};
use crate::expr::EvalInputs;
use crate::memberships::MembershipRules;
use crate::model::{ApprovalState, Identity};
use crate::reasons::{HoldCause, Reason, ReasonKind};
use crate::rules::RuleSet;
use crate::rules::approvals::{Approval, Level};
use crate::states::ObjectType;
use crate::value::{Attributes, Value};
use serde::{Deserialize, Serialize};
use std::collections::HashMap;

/// The approval request of one change.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ApprovalRequirement {
    /// The rule's name.
    pub rule: String,
    /// The identities that the attribute of each level refers to, by id.
    pub of: Vec<Vec<String>>,
    /// The owners of the group, by their names in its system.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub owners: Vec<String>,
}

/// The approval rule that applies to a change of this type; for a membership, the type of the
/// member.
fn find_rule<'r>(
    rules: &'r RuleSet,
    change: &Change,
    kind: ObjectType,
    values: &dyn Fn() -> Attributes,
) -> Option<&'r Approval> {
    rules.approvals.iter().find(|one| {
        one.kind == kind
            && one
                .system
                .as_ref()
                .is_none_or(|system| *system == change.system)
            && (one.changes.is_empty() || one.changes.contains(&change.kind))
            && one.when.as_ref().is_none_or(|when| {
                // A condition that cannot be evaluated requires approval.
                when.holds(&EvalInputs {
                    account: None,
                    identity: Some(&values()),
                })
                .unwrap_or(true)
            })
    })
}

/// Attaches the approval request to each change that needs one.
pub(crate) fn request_approvals(
    rules: &RuleSet,
    memberships: &MembershipRules,
    outcome: &mut Outcome,
) {
    if rules.approvals.is_empty() {
        return;
    }
    let identities: HashMap<&str, &Identity> = outcome
        .identities
        .iter()
        .map(|(identity, _)| (identity.id.as_str(), identity))
        .collect();
    for change in outcome
        .changes
        .iter_mut()
        .filter(|change| !change.keeps_membership())
    {
        let identity = identities.get(change.identity.as_str());
        let kind = identity
            .filter(|_| change.is_membership())
            .map_or(change.object, |identity| identity.kind);
        let values = || {
            let mut attributes = identity
                .map(|identity| identity.attributes.clone())
                .unwrap_or_default();
            if let Some(identity) = identity {
                attributes.set("id", vec![Value::text(&identity.id)]);
                attributes.set("stage", vec![Value::text(identity.stage.as_str())]);
            }
            attributes
        };
        change.approval = find_rule(rules, change, kind, &values).map(|rule| {
            let pointed = |level: &Level| -> Vec<String> {
                let (Some(identity), Some(of)) = (identity, &level.of) else {
                    return Vec::new();
                };
                identity
                    .attributes
                    .get(of)
                    .iter()
                    .map(ToString::to_string)
                    .collect()
            };
            let group = change
                .account
                .filter(|_| change.is_membership())
                .and_then(|group| memberships.get(group));
            let owners = group
                .filter(|_| rule.levels.iter().any(|level| level.owner))
                .map(|group| group.owners.clone());
            ApprovalRequirement {
                rule: rule.name.clone(),
                of: rule.levels.iter().map(pointed).collect(),
                owners: owners.unwrap_or_default(),
            }
        });
    }
}

/// Holds changes that await approval, were rejected, or whose request expired.
pub(crate) fn hold_unapproved(
    rules: &RuleSet,
    said: &HashMap<String, ApprovalState>,
    outcome: &mut Outcome,
) {
    let none = ApprovalState::default();
    for change in outcome
        .changes
        .iter_mut()
        .filter(|change| change.hold.is_none())
    {
        let Some(rule) = change
            .approval
            .as_ref()
            .and_then(|asked| rules.approvals.iter().find(|rule| rule.name == asked.rule))
        else {
            continue;
        };
        let said = said.get(&change.fingerprint).unwrap_or(&none);
        let level = said.yes.len();
        let name = rule.name.clone();
        let kind = if let Some((who, words)) = &said.no {
            ReasonKind::Rejected {
                principal: who.clone(),
                comment: words.clone(),
            }
        } else if said.expired {
            ReasonKind::ApprovalExpired {
                rule: name,
                days: rule.expires_after_days,
            }
        } else if let Some(next) = rule.levels.get(level) {
            ReasonKind::AwaitingApproval {
                rule: name,
                level: level + 1,
                levels: rule.levels.len(),
                approvers: next.text(),
            }
        } else {
            continue;
        };
        change.hold = Some(Reason::by(kind, &rule.place).on_hold(HoldCause::AwaitingApproval));
    }
}
