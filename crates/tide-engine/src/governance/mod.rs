//! What people decide: approvals, guards, drift and failed changes, matches, and who the operators
//! are.

mod approvals;
mod decisions;
mod matches;
mod operators;
mod reply;

pub use decisions::Decision;
pub use matches::{Actor, MatchCase, MatchLine, MatchRow, MatchSide, MatchView, Word};
pub use reply::DecisionReply;

use crate::context::Context;
use crate::decide::Decider;
use crate::foundation::Foundation;
use crate::notify::Notifier;
use crate::pending::PendingWork;
use crate::rules::RuleCompiler;
use std::sync::{Arc, Mutex};

/// The components of this subject.
pub(crate) struct Governance {
    pub(crate) approvals: Arc<Approvals>,
    pub(crate) decisions: Arc<DecisionReview>,
    pub(crate) matches: Arc<MatchReview>,
    pub(crate) operators: Arc<OperatorDirectory>,
}

/// Requests for approval.
pub struct Approvals {
    context: Arc<Context>,
    rules: Arc<RuleCompiler>,
    decider: Arc<Decider>,
    notifier: Arc<Notifier>,
}

/// The list of decisions for operators, and their answers.
pub struct DecisionReview {
    context: Arc<Context>,
    decider: Arc<Decider>,
    approvals: Arc<Approvals>,
    pending: Arc<PendingWork>,
}

/// Matches and what operators said about them.
pub struct MatchReview {
    context: Arc<Context>,
    decider: Arc<Decider>,
    /// When match answers are next checked for expiry.
    next_answer_expiry: Mutex<Option<jiff::Timestamp>>,
}

/// Operators and their tokens.
pub struct OperatorDirectory {
    context: Arc<Context>,
    decider: Arc<Decider>,
}

impl Governance {
    pub(crate) fn new(
        base: &Foundation,
        decider: &Arc<Decider>,
        notifier: &Arc<Notifier>,
    ) -> Governance {
        let approvals = Arc::new(Approvals {
            context: base.context.clone(),
            rules: base.rules.clone(),
            decider: decider.clone(),
            notifier: notifier.clone(),
        });
        Governance {
            decisions: Arc::new(DecisionReview {
                context: base.context.clone(),
                decider: decider.clone(),
                approvals: approvals.clone(),
                pending: base.pending.clone(),
            }),
            approvals,
            matches: Arc::new(MatchReview {
                context: base.context.clone(),
                decider: decider.clone(),
                next_answer_expiry: Mutex::default(),
            }),
            operators: Arc::new(OperatorDirectory {
                context: base.context.clone(),
                decider: decider.clone(),
            }),
        }
    }
}
