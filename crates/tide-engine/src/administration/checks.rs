//! Tests systems, and lists what their service accounts need.

use crate::administration::Administration;
use crate::error::EngineError;
use crate::events::Event;
use tide_connect::{CheckReport, CheckStep, DirectoryNode};
use tide_core::permissions::Permission;
use tide_core::states::SystemKind;
use tide_core::{ObjectType, permissions};
use tokio::sync::mpsc;

impl Administration {
    /// Tests a system that is not stored, and reports each step as it completes.
    pub async fn check_unsaved(
        &self,
        kind: SystemKind,
        settings: &serde_json::Value,
        secret: Option<&str>,
        watcher: Option<mpsc::UnboundedSender<CheckStep>>,
    ) -> Result<CheckReport, EngineError> {
        let connector = self.connections.unsaved_connector(kind, settings, secret)?;
        let mut report = watcher.map_or_else(CheckReport::default, CheckReport::watched);
        connector.check(&mut report).await;
        Ok(report)
    }

    /// Tests a system, and stores the report, the schema and the capabilities.
    pub async fn check_system(
        &self,
        name: &str,
        watcher: Option<mpsc::UnboundedSender<CheckStep>>,
    ) -> Result<CheckReport, EngineError> {
        let row = self.context.store.find_system(name).await?;
        let connector = self.connections.connector(&row).await?;
        let mut report = watcher.map_or_else(CheckReport::default, CheckReport::watched);
        connector.check(&mut report).await;
        let described = if report.is_healthy() {
            Some(connector.describe().await?)
        } else {
            None
        };
        let steps = serde_json::to_value(&report.steps).unwrap_or_default();
        self.context
            .store
            .set_system_check(
                name,
                &steps,
                described.as_ref().map(|d| &d.schema),
                self.context.now(),
            )
            .await?;
        if let Some(described) = described {
            self.context
                .store
                .set_system_profile(name, &described.profile, &described.own)
                .await?;
        }
        self.context.publish_event(Event::System {
            name: name.to_owned(),
        });
        Ok(report)
    }

    /// The containers directly below one, of a system with a tree.
    pub async fn list_containers(
        &self,
        name: &str,
        below: Option<&str>,
    ) -> Result<Vec<DirectoryNode>, EngineError> {
        let row = self.context.store.find_system(name).await?;
        Ok(self
            .connections
            .connector(&row)
            .await?
            .browse(below)
            .await?)
    }

    /// The same, for a system that is not stored yet.
    pub async fn browse_unsaved(
        &self,
        kind: SystemKind,
        settings: &serde_json::Value,
        secret: Option<&str>,
        below: Option<&str>,
    ) -> Result<Vec<DirectoryNode>, EngineError> {
        Ok(self
            .connections
            .unsaved_connector(kind, settings, secret)?
            .browse(below)
            .await?)
    }

    /// The permissions that a system's service account needs for what the published rules do.
    pub async fn required_permissions(&self, name: &str) -> Result<Vec<Permission>, EngineError> {
        let row = self.context.store.find_system(name).await?;
        let Some(rules) = self.rules.checked_rules().await? else {
            return Ok(Vec::new());
        };
        let base = |kind| match (row.kind.as_str(), kind) {
            ("ldap", _) => row.settings["base_dn"]
                .as_str()
                .unwrap_or_default()
                .to_owned(),
            ("scim", ObjectType::Group) => "Groups".to_owned(),
            ("scim", _) => "Users".to_owned(),
            _ => "the file".to_owned(),
        };
        Ok(permissions::required_permissions(
            &rules.set,
            name,
            |kind| row.schema.get(&kind).cloned(),
            base,
        ))
    }
}
