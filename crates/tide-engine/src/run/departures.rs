//! Departures that operators schedule or start.

use crate::error::EngineError;
use crate::run::Runner;
use crate::run::plan::Plan;
use jiff::Timestamp;
use std::sync::Arc;
use tide_core::lifecycle::LeftBy;
use tide_core::model::{Departure, LEFT_BY};

impl Runner {
    /// Starts or schedules a departure; `None` is now. Due changes are sent at once, before all
    /// others.
    pub async fn start_departure(
        self: &Arc<Self>,
        id: &str,
        at: Option<Timestamp>,
        comment: &str,
        principal: &str,
        name: &str,
    ) -> Result<(), EngineError> {
        let now = self.context.now();
        let at = at.unwrap_or(now);
        let departure = Departure {
            at,
            principal: name.to_owned(),
            comment: comment.trim().to_owned(),
        };
        self.context
            .store
            .set_departure(id, Some(departure), principal, now)
            .await?;
        self.carry_departure(id, at <= now, principal).await
    }

    /// Cancels a departure, planned or executed.
    pub async fn cancel_departure(
        self: &Arc<Self>,
        id: &str,
        principal: &str,
    ) -> Result<(), EngineError> {
        let asked = self.context.store.find_departure(id).await?.is_some();
        let unused = self
            .context
            .store
            .find_identity(id)
            .await?
            .0
            .attributes
            .get(LEFT_BY)
            .iter()
            .any(|by| by.to_string() == LeftBy::Unused.as_str());
        if unused {
            self.context
                .store
                .reactivate(id, principal, self.context.now())
                .await?;
        }
        if asked || !unused {
            self.context
                .store
                .set_departure(id, None, principal, self.context.now())
                .await?;
        }
        self.carry_departure(id, true, principal).await
    }

    async fn carry_departure(
        self: &Arc<Self>,
        id: &str,
        now: bool,
        principal: &str,
    ) -> Result<(), EngineError> {
        // It preempts a run in progress, like a leaver that a source reports.
        let accounts = self.context.store.accounts_of(id).await?;
        self.pending.note_leavers(accounts);
        if now && !crate::decide::is_automatic(&self.context.store.at_work().await?) {
            // No run is scheduled: one for this person starts.
            let plan = Plan {
                carry_out: true,
                only: vec![id.to_owned()],
                without_reading: true,
                ..Plan::default()
            };
            self.begin_change_set(plan, principal).await?;
        }
        Ok(())
    }
}
