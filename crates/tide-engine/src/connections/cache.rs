//! Connectors with the settings of now, and the connections that are kept for the next run.

use crate::connections::Connections;
use crate::error::EngineError;
use crate::lock;
use std::sync::Arc;
use tide_connect::{ConnectionState, Connector, Settings, connect};
use tide_core::states::SystemKind;
use tide_core::{ObjectType, permissions};
use tide_store::SystemRow;

/// How long idle connections are kept for the next run.
const KEPT: std::time::Duration = std::time::Duration::from_secs(300);

/// Connections to a system, with the number of the settings by which they were opened.
#[derive(Clone)]
pub(crate) struct CachedConnection {
    mark: u64,
    made: tide_clock::Instant,
    /// Its write gate. It is replaced when settings or secret change.
    access: Arc<ConnectionState>,
    connector: Arc<dyn Connector>,
}

impl Connections {
    pub(crate) fn access(&self, row: &SystemRow) -> Arc<ConnectionState> {
        let gate = self.gate(row);
        let mut all = lock(&self.access);
        let access = all.entry(row.name.clone()).or_insert_with(|| {
            let new = ConnectionState::default();
            new.set(&gate.writable());
            new.set_mark_key(self.context.store.mark_key(&row.name));
            new.set_gate(gate);
            Arc::new(new)
        });
        access.clone()
    }

    /// The host of a system that answered last, if it was called since the start.
    pub fn host_in_use(&self, system: &str) -> Option<String> {
        lock(&self.access)
            .get(system)
            .and_then(|access| access.host_in_use())
    }

    /// A connector for a system with its present settings.
    pub(crate) async fn connector(
        &self,
        row: &SystemRow,
    ) -> Result<Arc<dyn Connector>, EngineError> {
        let access = self.access(row);
        if let Some(own) = self
            .connector_factory
            .as_ref()
            .and_then(|systems| systems.connector(&row.name, access.clone()))
        {
            return Ok(own);
        }
        // Without published rules nothing is read for them.
        if let Ok(rules) = self.rules.published_rules().await {
            access.set_read_by_rules(permissions::read_of(&rules.set, &row.name));
            access.set_server_filters(permissions::server_filters(&rules.set, &row.name));
        }
        let settings = Settings::read(row.kind, &row.settings)?;
        let secret = self
            .context
            .store
            .load_secret(&row.name, settings.secret_field())
            .await?;
        let secret = secret
            .map(|text| {
                self.secret_sources
                    .resolve_secret(text.as_str(), &settings.secret_hosts())
            })
            .transpose()?;
        if row.kind == SystemKind::Feed {
            let rows = self
                .context
                .store
                .last_complete(&row.name, ObjectType::Person)
                .await?;
            access.set_feed(|memory| {
                memory.rows = rows
                    .and_then(|rows| usize::try_from(rows).ok())
                    .filter(|rows| *rows > 0);
                memory.folders = self.secret_sources.feed_folders.clone();
            });
        }
        Ok(connect(&settings, secret, access)?)
    }

    /// A connector that changes are sent over: the one of the run before, if that is not long ago
    /// and nothing changed.
    pub(crate) async fn cached_connector(
        &self,
        row: &SystemRow,
    ) -> Result<Arc<dyn Connector>, EngineError> {
        use std::hash::{BuildHasher as _, RandomState};
        static SEED: std::sync::LazyLock<RandomState> = std::sync::LazyLock::new(RandomState::new);
        let settings = Settings::read(row.kind, &row.settings)?;
        let secret = self
            .context
            .store
            .load_secret(&row.name, settings.secret_field())
            .await?;
        let mark = SEED.hash_one((
            row.settings.to_string(),
            secret.as_ref().map(|text| text.as_str()),
        ));
        let known = crate::lock(&self.connections)
            .get(&row.name)
            .filter(|line| line.mark == mark && line.made.elapsed() < KEPT)
            .cloned();
        let access = self.access(row);
        if let Some(line) = known.filter(|line| Arc::ptr_eq(&line.access, &access)) {
            return Ok(line.connector);
        }
        let connector = self.connector(row).await?;
        let line = CachedConnection {
            mark,
            made: tide_clock::instant(),
            access,
            connector: connector.clone(),
        };
        crate::lock(&self.connections).insert(row.name.clone(), line);
        Ok(connector)
    }

    pub(crate) fn unsaved_connector(
        &self,
        kind: SystemKind,
        settings: &serde_json::Value,
        secret: Option<&str>,
    ) -> Result<Arc<dyn Connector>, EngineError> {
        let settings = Settings::read(kind, settings)?;
        let secret = secret
            .map(|text| {
                self.secret_sources
                    .resolve_secret(text, &settings.secret_hosts())
            })
            .transpose()?;
        let access = ConnectionState::default();
        access.set_feed(|memory| memory.folders = self.secret_sources.feed_folders.clone());
        let connector = connect(&settings, secret, Arc::new(access))?;
        settings.check_clear_text()?;
        Ok(connector)
    }
}
