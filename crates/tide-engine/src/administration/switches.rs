//! Whether systems are armed, paused and written, and when.

use crate::administration::Administration;
use crate::connections::Schedule;
use crate::error::EngineError;
use crate::events::Event;
use tide_core::ObjectType;
use tide_store::WriteStop;

/// The changes of a system; `None` keeps the present value.
#[derive(Debug, Clone, Default)]
pub struct SystemUpdate {
    /// The types that may be written.
    pub writable: Option<Vec<ObjectType>>,
    /// Paused.
    pub paused: Option<bool>,
    /// Armed.
    pub armed: Option<bool>,
}

impl Administration {
    /// Sets which types may be written, and whether the system is paused and armed. After it
    /// returns, nothing more is sent to a system that is paused, disarmed or read-only: its
    /// queued changes are withdrawn and decided again.
    pub async fn set_system(
        &self,
        name: &str,
        change: SystemUpdate,
        principal: &str,
    ) -> Result<(), EngineError> {
        let _one_at_a_time = self.connections.settings_lock.lock().await;
        let row = self.context.store.find_system(name).await?;
        let writable = change.writable.unwrap_or_else(|| row.writable.clone());
        let (paused, armed) = (
            change.paused.unwrap_or(row.paused),
            change.armed.unwrap_or(row.armed),
        );
        self.context
            .store
            .set_system_state(
                name,
                tide_store::WriteState {
                    writable: &writable,
                    paused,
                    armed,
                },
                principal,
                self.context.now(),
            )
            .await?;
        // Before the types: a new access reads them from the gate.
        self.connections.gate(&row).set(&writable, paused, armed);
        if let Some(access) = self.connections.known_access(name) {
            access.set(&writable);
        }
        self.context.publish_event(Event::System {
            name: name.to_owned(),
        });
        // What was held because of it may go now.
        self.pending.wake();
        Ok(())
    }

    /// Sets the sync schedule of a system, and restarts its watchers.
    pub async fn set_schedule(
        &self,
        name: &str,
        schedule: &Schedule,
        principal: &str,
    ) -> Result<(), EngineError> {
        let row = self.context.store.find_system(name).await?;
        schedule.check()?;
        if let Some(way) = schedule.mode {
            let ways = self
                .connections
                .connector(&row)
                .await?
                .watch_modes()
                .await?;
            if !ways.contains(&way) {
                let offered: Vec<&str> = ways.iter().map(|way| way.as_str()).collect();
                return Err(EngineError::Invalid(format!(
                    "{name} does not support the watch mode {}: it offers {}",
                    way.as_str(),
                    offered.join(", ")
                )));
            }
        }
        let value = serde_json::to_value(schedule).unwrap_or_default();
        let _one_at_a_time = self.connections.settings_lock.lock().await;
        self.context
            .store
            .set_schedule(name, &value, principal, self.context.now())
            .await?;
        self.connections.gate(&row).set_schedule(schedule);
        self.context.publish_event(Event::System {
            name: name.to_owned(),
        });
        self.pending.wake();
        Ok(())
    }

    /// Stops all writes to all systems immediately, until [`Administration::lift_write_stop`]. Queued
    /// changes are withdrawn, requests in progress are completed, and nothing else is sent, even
    /// after a restart.
    pub async fn stop_writes(
        &self,
        reason: &str,
        principal: &str,
    ) -> Result<WriteStop, EngineError> {
        let stop = self
            .context
            .store
            .set_write_stop(reason.trim(), principal, self.context.now())
            .await?;
        tracing::warn!(
            by = stop.principal,
            reason = stop.reason,
            "all writes are stopped"
        );
        self.context.publish_event(Event::AttentionChanged);
        self.pending.wake();
        Ok(stop)
    }

    /// Lifts the emergency stop; what was held by it is decided again. False when none was set.
    pub async fn lift_write_stop(&self, principal: &str) -> Result<bool, EngineError> {
        let lifted = self
            .context
            .store
            .lift_write_stop(principal, self.context.now())
            .await?;
        if lifted {
            tracing::warn!("writes are resumed");
            self.context.publish_event(Event::AttentionChanged);
            self.pending.wake();
        }
        Ok(lifted)
    }
}
