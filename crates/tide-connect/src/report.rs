//! The report of a connection test, step by step, and the description of a system.

use crate::ConnectError;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use tide_core::states::{CheckStepKind, StepState};
use tide_core::{ObjectType, Schema};
use tokio::sync::mpsc;

/// One step of a test.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct CheckStep {
    /// The tested step.
    pub kind: CheckStepKind,
    /// Its label.
    pub name: String,
    /// How it ended.
    pub state: StepState,
    /// The result.
    pub message: String,
    /// What to do about it, if anything.
    pub remedy: Option<String>,
    /// A word for programs, when it failed.
    pub code: Option<String>,
}

/// The report of a connection test.
#[derive(Debug, Default, Serialize, Deserialize)]
pub struct CheckReport {
    /// The steps that were performed, in order.
    pub steps: Vec<CheckStep>,
    /// Receives each step as it completes.
    #[serde(skip)]
    watcher: Option<mpsc::UnboundedSender<CheckStep>>,
}

impl CheckReport {
    /// Whether no step failed.
    pub fn is_healthy(&self) -> bool {
        !self.steps.is_empty()
            && self
                .steps
                .iter()
                .all(|step| step.state != StepState::Failed)
    }

    /// A report that sends each step as it is performed.
    pub fn watched(watcher: mpsc::UnboundedSender<CheckStep>) -> Self {
        CheckReport {
            steps: Vec::new(),
            watcher: Some(watcher),
        }
    }

    fn push(&mut self, step: CheckStep) {
        if let Some(watcher) = &self.watcher {
            // The receiver may be gone; the report is complete without it.
            let _ = watcher.send(step.clone());
        }
        self.steps.push(step);
    }

    pub(crate) fn passed(&mut self, kind: CheckStepKind, said: impl Into<String>) {
        self.push(CheckStep {
            kind,
            name: kind.label().to_owned(),
            state: StepState::Passed,
            message: said.into(),
            remedy: None,
            code: None,
        });
    }

    pub(crate) fn warned(
        &mut self,
        kind: CheckStepKind,
        said: impl Into<String>,
        remedy: impl Into<String>,
    ) {
        self.push(CheckStep {
            kind,
            name: kind.label().to_owned(),
            state: StepState::Warned,
            message: said.into(),
            remedy: Some(remedy.into()),
            code: None,
        });
    }

    pub(crate) fn failed(&mut self, kind: CheckStepKind, error: &ConnectError) {
        self.push(CheckStep {
            kind,
            name: kind.label().to_owned(),
            state: StepState::Failed,
            message: error.message.clone(),
            remedy: Some(error.remedy.clone()),
            code: Some(error.code.into()),
        });
    }
}

/// What a system states about itself.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Description {
    /// Its attributes, by type.
    pub schema: BTreeMap<ObjectType, Schema>,
    /// Its capabilities, as text.
    pub abilities: Vec<String>,
    /// Capabilities as label and text: product, version, naming contexts.
    pub profile: Vec<(String, String)>,
    /// The accounts that are ours there, by key or name, in lower case: they are never touched.
    pub own: Vec<String>,
}
