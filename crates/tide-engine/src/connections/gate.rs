//! Whether a system may be written at this moment. Every write asks its system's gate, whatever was
//! decided or queued before: a pause, a disarm, a window without writes and the emergency stop hold
//! from the request that sets them on, also for what is queued.

use crate::connections::Connections;
use crate::connections::schedule::Schedule;
use crate::{Clock, lock};
use std::sync::{Arc, PoisonError, RwLock};
use tide_connect::WriteGate;
use tide_core::{ObjectType, ReasonKind};
use tide_store::{AtWork, Store, SystemRow, WriteStop};

/// The settings of one system.
#[derive(Debug, Clone)]
struct GateState {
    writable: Vec<ObjectType>,
    armed: bool,
    paused: bool,
    schedule: Schedule,
}

/// The gate of one system. There is one for each system, as long as the engine lives; only requests
/// that set something change it, so that a row which was read before them cannot open it again.
pub(crate) struct Gate {
    system: String,
    store: Store,
    clock: Arc<dyn Clock>,
    state: RwLock<GateState>,
}

impl Gate {
    fn state(&self) -> GateState {
        self.state
            .read()
            .unwrap_or_else(PoisonError::into_inner)
            .clone()
    }

    /// The types that may be written.
    pub(crate) fn writable(&self) -> Vec<ObjectType> {
        self.state().writable
    }

    /// Applies the stored settings.
    pub(crate) fn set(&self, writable: &[ObjectType], paused: bool, armed: bool) {
        let mut state = self.state.write().unwrap_or_else(PoisonError::into_inner);
        (state.writable, state.paused, state.armed) = (writable.to_vec(), paused, armed);
    }

    /// Applies a schedule.
    pub(crate) fn set_schedule(&self, schedule: &Schedule) {
        self.state
            .write()
            .unwrap_or_else(PoisonError::into_inner)
            .schedule = schedule.clone();
    }
}

impl WriteGate for Gate {
    fn closed(&self) -> Option<String> {
        if let Some(stop) = self.store.write_stop() {
            return Some(stop.hold_reason().to_string());
        }
        let (system, state) = (
            &self.system,
            self.state.read().unwrap_or_else(PoisonError::into_inner),
        );
        if state.paused {
            return Some(format!("{system} is paused"));
        }
        if !state.armed {
            return Some(format!("{system} is not armed"));
        }
        let window = state.schedule.quiet_at(self.clock.now());
        window.map(|(until, words)| format!("write blackout of {system}: {words}, until {until}"))
    }
}

impl Connections {
    /// The gate of a system.
    pub(crate) fn gate(&self, row: &SystemRow) -> Arc<Gate> {
        let make = || GateState {
            writable: row.writable.clone(),
            armed: row.armed,
            paused: row.paused,
            schedule: Schedule::read(&row.schedule),
        };
        let mut gates = lock(&self.gates);
        let gate = gates.entry(row.name.clone()).or_insert_with(|| {
            Arc::new(Gate {
                system: row.name.clone(),
                store: self.context.store.clone(),
                clock: self.context.clock.clone(),
                state: RwLock::new(make()),
            })
        });
        gate.clone()
    }

    /// Why nothing is written to each system at a moment, by the emergency stop or by the system's
    /// schedule.
    pub(crate) fn write_holds(
        &self,
        at_work: &[AtWork],
        at: jiff::Timestamp,
    ) -> Vec<Option<ReasonKind>> {
        let stop = self
            .context
            .store
            .write_stop()
            .map(|stop| stop.hold_reason());
        let window = |one: &AtWork| {
            let (until, window) = Schedule::read(&one.schedule).quiet_at(at)?;
            Some(ReasonKind::WriteBlackout {
                system: one.name.clone(),
                window: window.to_string(),
                until,
            })
        };
        at_work
            .iter()
            .map(|one| stop.clone().or_else(|| window(one)))
            .collect()
    }

    /// The emergency stop, if it is set.
    pub fn write_stop(&self) -> Option<WriteStop> {
        self.context.store.write_stop()
    }
}
