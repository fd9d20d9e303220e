//! Adding, testing and setting systems.

use crate::{Engine, EngineError, Event, lock};
use std::sync::Arc;
use tide_connect::{Access, CheckReport, Connector, Secret, Settings, connect};
use tide_core::ObjectType;
use tide_store::SystemRow;

/// A system that is to be added.
pub struct NewSystem {
    /// Its name: lower-case letters, digits and hyphens.
    pub name: String,
    /// `ldap` or `scim`.
    pub kind: String,
    /// Where it is and how it is reached.
    pub settings: serde_json::Value,
    /// The password or token.
    pub secret: Option<Secret>,
    /// The same, to be sealed. Kept apart, since a [`Secret`] cannot be read back.
    pub secret_text: Option<String>,
}

fn usable(name: &str) -> Result<(), EngineError> {
    let good = (1..=40).contains(&name.len())
        && name.starts_with(|c: char| c.is_ascii_lowercase())
        && name.chars().all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '-');
    if good {
        Ok(())
    } else {
        Err(EngineError::Refused(format!("`{name}` cannot be a system's name: use lower-case letters, digits and hyphens, a letter first")))
    }
}

impl Engine {
    fn access(&self, row: &SystemRow) -> Arc<Access> {
        let access = lock(&self.access).entry(row.name.clone()).or_default().clone();
        access.set(&row.writable);
        access
    }

    /// A connector for a system as it is set now.
    pub(crate) async fn connector(&self, row: &SystemRow) -> Result<Arc<dyn Connector>, EngineError> {
        let settings = Settings::read(&row.kind, &row.settings)?;
        let secret = self.store.secret(&row.name, settings.secret_field()).await?;
        let secret = secret.map(|text| Secret::new(text.as_str()));
        Ok(connect(&settings, secret, self.access(row))?)
    }

    /// Adds a system. It is read-only until somebody makes it writable.
    pub async fn add_system(&self, new: NewSystem, principal: &str) -> Result<(), EngineError> {
        usable(&new.name)?;
        let settings = Settings::read(&new.kind, &new.settings)?;
        // Made once, so that settings that cannot work are refused before they are kept.
        connect(&settings, new.secret, Arc::default())?;
        self.store.add_system(&new.name, &new.kind, &new.settings, principal, self.now()).await?;
        if let Some(secret) = new.secret_text {
            self.store.put_secret(&new.name, settings.secret_field(), &secret, self.now()).await?;
        }
        self.tell(Event::System { name: new.name });
        Ok(())
    }

    /// Replaces a system's secret.
    pub async fn set_secret(&self, name: &str, secret: &str, principal: &str) -> Result<(), EngineError> {
        let row = self.store.system(name).await?;
        let settings = Settings::read(&row.kind, &row.settings)?;
        self.store.put_secret(name, settings.secret_field(), secret, self.now()).await?;
        self.store.note(principal, "system.secret", name, settings.secret_field(), self.now()).await?;
        Ok(())
    }

    /// Sets which types may be written, and whether the system is paused. Writes that are on
    /// their way obey at once.
    pub async fn set_system(
        &self,
        name: &str,
        writable: Option<Vec<ObjectType>>,
        paused: Option<bool>,
        principal: &str,
    ) -> Result<(), EngineError> {
        let row = self.store.system(name).await?;
        let writable = writable.unwrap_or(row.writable);
        self.store.set_system_state(name, &writable, paused.unwrap_or(row.paused), principal, self.now()).await?;
        lock(&self.access).entry(name.to_owned()).or_default().set(&writable);
        self.tell(Event::System { name: name.to_owned() });
        Ok(())
    }

    /// Tests a system that is not kept.
    pub async fn check_unsaved(
        &self,
        kind: &str,
        settings: &serde_json::Value,
        secret: Option<Secret>,
    ) -> Result<CheckReport, EngineError> {
        let settings = Settings::read(kind, settings)?;
        Ok(connect(&settings, secret, Arc::default())?.check().await)
    }

    /// Tests a system and keeps what it found, with the schema.
    pub async fn check_system(&self, name: &str) -> Result<CheckReport, EngineError> {
        let row = self.store.system(name).await?;
        let connector = self.connector(&row).await?;
        let report = connector.check().await;
        let schema = if report.healthy() { Some(connector.describe().await?.schema) } else { None };
        let steps = serde_json::to_value(&report.steps).unwrap_or_default();
        self.store.set_system_check(name, &steps, schema.as_ref(), self.now()).await?;
        self.tell(Event::System { name: name.to_owned() });
        Ok(report)
    }
}
