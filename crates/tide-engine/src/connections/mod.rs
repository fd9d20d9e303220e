//! How systems are reached: their connectors, the state that the connectors of one system share, and
//! whether they may be written now.

mod cache;
mod gate;
mod schedule;
mod secret_sources;

pub use schedule::{Blackout, Schedule};
pub use secret_sources::{ForHosts, SecretSources};

use crate::context::Context;
use crate::rules::RuleCompiler;
use crate::{ConnectorFactory, lock};
use cache::CachedConnection;
use gate::Gate;
use std::collections::HashMap;
use std::sync::{Arc, Mutex};
use tide_connect::{ConnectError, ConnectionState, Settings};

/// The connections to all systems.
pub struct Connections {
    context: Arc<Context>,
    rules: Arc<RuleCompiler>,
    secret_sources: SecretSources,
    /// Connectors to use instead of those of the settings.
    connector_factory: Option<Arc<dyn ConnectorFactory>>,
    /// The connection state of each system, shared with all its connectors.
    access: Mutex<HashMap<String, Arc<ConnectionState>>>,
    /// The write gate of each system.
    gates: Mutex<HashMap<String, Arc<Gate>>>,
    /// Held while a system's state or schedule is set, so that its gate equals the records. Taken
    /// before any other lock.
    pub(crate) settings_lock: tokio::sync::Mutex<()>,
    /// Idle connections, reused by the next run.
    connections: Mutex<HashMap<String, CachedConnection>>,
}

impl Connections {
    pub(crate) fn new(
        context: Arc<Context>,
        rules: Arc<RuleCompiler>,
        secret_sources: SecretSources,
        connector_factory: Option<Arc<dyn ConnectorFactory>>,
    ) -> Connections {
        Connections {
            context,
            rules,
            secret_sources,
            connector_factory,
            access: Mutex::default(),
            gates: Mutex::default(),
            settings_lock: tokio::sync::Mutex::default(),
            connections: Mutex::default(),
        }
    }

    /// The connection state of a system, if it was used since the start.
    pub(crate) fn known_access(&self, system: &str) -> Option<Arc<ConnectionState>> {
        lock(&self.access).get(system).cloned()
    }

    /// Hosts, pace and tokens of a system are not those of its settings any more.
    pub(crate) fn forget_access(&self, system: &str) {
        lock(&self.access).remove(system);
    }

    /// Whether a secret, or where it is, may be used with these settings.
    pub(crate) fn check_secret(
        &self,
        secret: &str,
        settings: &Settings,
    ) -> Result<(), ConnectError> {
        self.secret_sources
            .resolve_secret(secret, &settings.secret_hosts())
            .map(drop)
    }

    /// A system is gone.
    pub(crate) fn forget_system(&self, system: &str) {
        self.forget_access(system);
        lock(&self.gates).remove(system);
    }
}
