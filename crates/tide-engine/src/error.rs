//! What can go wrong in the engine.

use tide_connect::ConnectError;
use tide_core::rules::RuleFault;
use tide_store::StoreError;

fn on_its_way(id: Option<i64>) -> String {
    match id {
        Some(id) => format!("change set {id} is in progress: wait until it ends, or cancel it"),
        None => "an automatic run is in progress: try again in a moment".to_owned(),
    }
}

/// A fault of the engine.
#[derive(Debug, thiserror::Error)]
pub enum EngineError {
    /// The store failed.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// A system failed.
    #[error("{0}")]
    Connect(#[from] ConnectError),
    /// The rules have errors.
    #[error("the rules have {} error{}", .0.len(), if .0.len() == 1 { "" } else { "s" })]
    Rules(Vec<RuleFault>),
    /// No rules were published yet.
    #[error("no rules were published yet: `eager-tide rules publish FOLDER`")]
    NoRules,
    /// A run or preview is in progress.
    #[error("{}", on_its_way(*.0))]
    Busy(Option<i64>),
    /// The object was changed by another operator.
    #[error("{0}")]
    Changed(String),
    /// The caller may not do this.
    #[error("{0}")]
    Forbidden(String),
    /// The service is busy: no turn became free within this number of seconds.
    #[error(
        "the service is busy with other computations, and this one did not start within {0} s: try again later"
    )]
    Overloaded(u64),
    /// A panic in this process.
    #[error("an internal error: {0}")]
    Internal(String),
    /// There is no such thing.
    #[error("{0}")]
    NotFound(String),
    /// It does not fit what is there now.
    #[error("{0}")]
    Conflict(String),
    /// The request is invalid.
    #[error("{0}")]
    Invalid(String),
}
