//! What needs attention now, the worst first, and how healthy each system is: from kept records
//! alone, so that it costs the same for a hundred people and for a million.

use crate::error::EngineError;
use crate::overview::Overview;
use std::collections::BTreeMap;
use tide_core::HoldCause;
use tide_core::states::{AttentionKind, ChangeSetKind, ReadState, WatcherState};
use tide_store::{Reading, SystemRow};

/// The maximum number of names in one entry.
const NAMED: usize = 5;

/// Something that needs attention.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Attention {
    /// What.
    pub kind: AttentionKind,
    /// The system, where it is about one.
    pub system: Option<String>,
    /// How many it is about.
    pub count: i64,
    /// Some of them, by name.
    pub names: Vec<String>,
    /// The text: an error, or an operator's comment.
    pub detail: Option<String>,
}

impl Attention {
    fn new(kind: AttentionKind, count: i64) -> Attention {
        Attention {
            kind,
            system: None,
            count,
            names: Vec::new(),
            detail: None,
        }
    }

    fn with(kind: AttentionKind, detail: impl Into<String>) -> Attention {
        Attention {
            detail: Some(detail.into()),
            ..Self::new(kind, 1)
        }
    }
}

/// How a system is, by tests, reads and writes; the last of them counts.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Health {
    /// It was never tested, read or written.
    Unknown,
    /// An operator paused it.
    Paused,
    /// Everything works.
    Healthy,
    /// It answers, and something does not work.
    Degraded(String),
    /// It does not answer, or lets us in no more.
    Unreachable(String),
}

impl Health {
    /// The code used in answers.
    pub fn as_str(&self) -> &'static str {
        match self {
            Health::Unknown => "unknown",
            Health::Paused => "paused",
            Health::Healthy => "healthy",
            Health::Degraded(_) => "degraded",
            Health::Unreachable(_) => "unreachable",
        }
    }

    /// The reason, if the system is not healthy.
    pub fn reason(&self) -> Option<&str> {
        match self {
            Health::Degraded(reason) | Health::Unreachable(reason) => Some(reason),
            _ => None,
        }
    }
}

fn count_causes(map: &BTreeMap<HoldCause, i64>, causes: impl Fn(HoldCause) -> bool) -> i64 {
    map.iter()
        .filter(|(cause, _)| causes(**cause))
        .map(|(_, count)| count)
        .sum()
}

impl Overview {
    /// The health of a system, by its last reads and its last test.
    pub fn health(&self, row: &SystemRow, readings: &[Reading]) -> Health {
        if row.paused {
            return Health::Paused;
        }
        if let Some(breaker) = self.dispatcher.breaker(&row.name) {
            return Health::Unreachable(format!("writes fail: {}", breaker.error()));
        }
        let mine = readings
            .iter()
            .filter(|reading| reading.system == row.name && reading.ended_at.is_some());
        let last = mine.max_by(|a, b| a.ended_at.cmp(&b.ended_at));
        let watching = self
            .ingest
            .watchers()
            .into_iter()
            .find(|one| one.system == row.name && one.state == WatcherState::Failed);
        let failed_step = || {
            let steps = row.checked.as_ref()?.as_array()?;
            let step = steps.iter().find(|step| step["state"] == "failed")?;
            Some(format!(
                "{}: {}",
                step["name"].as_str().unwrap_or("the test"),
                step["detail"].as_str().unwrap_or("failed")
            ))
        };
        let tested_later =
            last.is_none_or(|last| row.checked_at.as_deref() > last.ended_at.as_deref());
        match (last, failed_step()) {
            (_, Some(step)) if tested_later => {
                Health::Unreachable(format!("the last test failed: {step}"))
            }
            (Some(last), _)
                if last.state == ReadState::Failed
                    && !(tested_later && row.checked_at.is_some()) =>
            {
                let error = last.error.clone().unwrap_or_else(|| "no answer".to_owned());
                Health::Degraded(format!("the last read failed: {error}"))
            }
            _ if watching.is_some() => {
                let error = watching
                    .and_then(|one| one.error)
                    .unwrap_or_else(|| "no answer".to_owned());
                Health::Degraded(format!("changes cannot be received: {error}"))
            }
            (None, None) if row.checked_at.is_none() => Health::Unknown,
            _ => Health::Healthy,
        }
    }

    /// What needs attention now, the most severe first.
    pub async fn attention(&self) -> Result<Vec<Attention>, EngineError> {
        let mut all = Vec::new();
        if let Some(trouble) = self.context.known_fault() {
            all.push(Attention::with(AttentionKind::Storage, trouble));
        }
        if let Some(stop) = self.connections.write_stop() {
            let detail = if stop.reason.is_empty() {
                stop.principal.clone()
            } else {
                format!("{}: “{}”", stop.principal, stop.reason)
            };
            all.push(Attention::with(AttentionKind::WritesStopped, detail));
        }
        for (task, said) in self.context.panicked() {
            all.push(Attention::with(
                AttentionKind::Task,
                format!("{task}: {said}"),
            ));
        }
        let systems = self.context.store.list_systems().await?;
        let rules = self.add_rule_faults(&mut all, &systems).await;
        let readings = self.context.store.last_readings().await?;
        for row in &systems {
            let (kind, reason) = match self.health(row, &readings) {
                Health::Unreachable(reason) => (AttentionKind::Unreachable, reason),
                Health::Degraded(reason) => (AttentionKind::ReadFailed, reason),
                _ => continue,
            };
            all.push(Attention {
                system: Some(row.name.clone()),
                ..Attention::with(kind, reason)
            });
        }
        self.add_open_access(&mut all).await?;
        self.add_holds(&mut all).await?;
        let notices = self.context.store.list_alerts().await?;
        if !notices.is_empty() {
            let names = notices
                .iter()
                .take(NAMED)
                .map(|notice| notice.subject.clone())
                .collect();
            all.push(Attention {
                names,
                ..Attention::new(AttentionKind::Notices, notices.len() as i64)
            });
        }
        if rules.is_ok()
            && self
                .context
                .store
                .last_change_set(ChangeSetKind::Run, true)
                .await?
                .is_none()
        {
            all.push(Attention::new(AttentionKind::NoRun, 1));
        }
        all.sort_by_key(|one| one.kind);
        Ok(all)
    }

    /// Adds faults of the rules, or that there are none.
    async fn add_rule_faults(
        &self,
        all: &mut Vec<Attention>,
        systems: &[SystemRow],
    ) -> Result<std::sync::Arc<crate::PublishedRules>, EngineError> {
        let rules = self.rules.published_rules().await;
        match &rules {
            Err(EngineError::Rules(faults)) => {
                let first = faults.first().map(ToString::to_string).unwrap_or_default();
                all.push(Attention {
                    count: faults.len() as i64,
                    ..Attention::with(AttentionKind::RulesInvalid, first)
                });
            }
            Err(EngineError::NoRules) if systems.is_empty() => {
                all.push(Attention::new(AttentionKind::NoSystems, 1))
            }
            Err(EngineError::NoRules) => all.push(Attention::new(AttentionKind::NoRules, 1)),
            _ => {}
        }
        rules
    }

    /// Adds the leavers whose access is still open.
    async fn add_open_access(&self, all: &mut Vec<Attention>) -> Result<(), EngineError> {
        let leavers = self.context.store.leavers_on_hold().await?;
        let _: () = if !leavers.is_empty() {
            let names = leavers
                .iter()
                .take(NAMED)
                .map(|(_, label)| label.clone())
                .collect();
            all.push(Attention {
                names,
                ..Attention::new(AttentionKind::OpenAccess, leavers.len() as i64)
            });
        };
        Ok(())
    }

    /// Adds the changes on hold, by cause.
    async fn add_holds(&self, all: &mut Vec<Attention>) -> Result<(), EngineError> {
        let counts: BTreeMap<HoldCause, i64> = self
            .context
            .store
            .hold_counts(None)
            .await?
            .into_iter()
            .collect();
        let of = |cause: HoldCause| counts.get(&cause).copied().unwrap_or(0);
        let named = [
            (AttentionKind::Guard, of(HoldCause::Guard)),
            (AttentionKind::Failed, of(HoldCause::Failed)),
            (AttentionKind::Approval, of(HoldCause::AwaitingApproval)),
            (AttentionKind::Review, of(HoldCause::NeedsReview)),
            (AttentionKind::ExternalChange, of(HoldCause::ExternalChange)),
            (AttentionKind::RetriedLater, of(HoldCause::RetriedLater)),
        ];
        for (kind, count) in named.into_iter().filter(|(_, count)| *count > 0) {
            all.push(Attention::new(kind, count));
        }
        let is_stopped = self.connections.write_stop().is_some();
        let others = count_causes(&counts, |cause| {
            let is_told = is_stopped && cause == HoldCause::Paused;
            !is_told
                && !matches!(
                    cause,
                    HoldCause::Guard
                        | HoldCause::Failed
                        | HoldCause::AwaitingApproval
                        | HoldCause::NeedsReview
                        | HoldCause::ExternalChange
                        | HoldCause::RetriedLater
                )
        });
        if others > 0 {
            all.push(Attention::new(AttentionKind::OnHold, others));
        }
        Ok(())
    }
}
