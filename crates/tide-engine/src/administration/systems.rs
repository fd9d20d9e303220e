//! Adds systems, and changes their settings and secrets.

use crate::administration::Administration;
use crate::error::EngineError;
use crate::events::Event;
use tide_connect::{CheckReport, ConnectError, Settings};
use tide_core::rules::RuleFile;
use tide_core::rules::edit::ScopeEdit;
use tide_core::states::{StepState, SystemKind, SystemRole};
use tide_store::StoreError;

/// A system that is to be added.
pub struct NewSystem {
    /// Its name: lower-case letters, digits and hyphens.
    pub name: String,
    /// `ldap`, `scim`, `feed` or `push`.
    pub kind: SystemKind,
    /// Where it is and how it is reached.
    pub settings: serde_json::Value,
    /// The password or token, or its location (`env:NAME`, `file:PATH`).
    pub secret: Option<String>,
}

fn check_name(name: &str) -> Result<(), EngineError> {
    let good = (1..=40).contains(&name.len())
        && name.starts_with(|c: char| c.is_ascii_lowercase())
        && name
            .chars()
            .all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '-');
    if good {
        Ok(())
    } else {
        Err(EngineError::Invalid(format!(
            "`{name}` is not a valid system name: use lower-case letters, digits and hyphens, starting with a letter"
        )))
    }
}

impl Administration {
    /// Adds a system. It is read-only until an operator enables writes, and inactive until it is
    /// armed.
    pub async fn add_system(&self, new: NewSystem, principal: &str) -> Result<(), EngineError> {
        self.connect_system(new, None, principal).await.map(drop)
    }

    /// Adds a system, with its first rules in a draft. When the rules have an error, nothing is
    /// added.
    pub async fn connect_system(
        &self,
        new: NewSystem,
        first: Option<(SystemRole, ScopeEdit)>,
        principal: &str,
    ) -> Result<Option<(i64, RuleFile)>, EngineError> {
        let store = &self.context.store;
        check_name(&new.name)?;
        let settings = Settings::read(new.kind, &new.settings)?;
        if store
            .list_systems()
            .await?
            .iter()
            .any(|row| row.name == new.name)
        {
            return Err(StoreError::Exists {
                what: "system",
                name: new.name,
            }
            .into());
        }
        // Made once, so that settings that cannot work are refused before they are kept.
        let connector =
            self.connections
                .unsaved_connector(new.kind, &new.settings, new.secret.as_deref())?;
        let mut written = None;
        let mut described = None;
        if let Some((purpose, scope)) = &first {
            let found = connector.describe().await?;
            written = Some(
                self.first_rules(&new.name, new.kind, &found.schema, *purpose, scope)
                    .await?,
            );
            described = Some(found);
        }
        store
            .add_system(
                &new.name,
                new.kind,
                &new.settings,
                principal,
                self.context.now(),
            )
            .await?;
        if let Some(secret) = new.secret {
            store
                .put_secret(
                    &new.name,
                    settings.secret_field(),
                    &secret,
                    self.context.now(),
                )
                .await?;
        }
        if let Some(described) = described {
            store
                .set_system_check(
                    &new.name,
                    &serde_json::json!([]),
                    Some(&described.schema),
                    self.context.now(),
                )
                .await?;
            store
                .set_system_profile(&new.name, &described.profile, &described.own)
                .await?;
        }
        self.context.publish_event(Event::System {
            name: new.name.clone(),
        });
        match written {
            None => Ok(None),
            Some((files, file, draft)) => Ok(Some((
                self.keep_first_rules(&new.name, draft, files, principal)
                    .await?,
                file,
            ))),
        }
    }

    /// Replaces a system's settings. If its secret would go to another host, or with other
    /// protection, the secret must be given again, so that changed settings cannot divert it.
    pub async fn set_settings(
        &self,
        name: &str,
        settings: serde_json::Value,
        secret: Option<&str>,
        principal: &str,
    ) -> Result<(), EngineError> {
        let row = self.context.store.find_system(name).await?;
        let before = Settings::read(row.kind, &row.settings)?;
        let after = Settings::read(row.kind, &settings)?;
        let known = self
            .context
            .store
            .load_secret(name, before.secret_field())
            .await?
            .is_some();
        let ways = before.secret_ways();
        if let Some(way) = after
            .secret_ways()
            .into_iter()
            .find(|way| !ways.contains(way))
            && known
            && secret.is_none()
        {
            let way = way.lines().next().unwrap_or_default();
            return Err(EngineError::Invalid(format!(
                "the secret of {name} would be sent elsewhere ({way}): enter the secret again with the settings"
            )));
        }
        self.connections
            .unsaved_connector(row.kind, &settings, secret)?;
        self.context
            .store
            .set_system_settings(name, &settings, principal, self.context.now())
            .await?;
        if let Some(secret) = secret {
            self.context
                .store
                .put_secret(name, after.secret_field(), secret, self.context.now())
                .await?;
        }
        // Hosts, pace and tokens were those of the settings before.
        self.connections.forget_access(name);
        // So was what was read, and the place up to which it was followed.
        if settings != row.settings {
            self.pending.request_full_read(name);
            self.pending.wake();
        }
        self.context.publish_event(Event::System {
            name: name.to_owned(),
        });
        Ok(())
    }

    /// Replaces a system's secret, after a test with the new one; the old one stays when the test
    /// fails. `force` replaces it untested.
    pub async fn set_secret(
        &self,
        name: &str,
        secret: &str,
        force: bool,
        principal: &str,
    ) -> Result<(), EngineError> {
        let row = self.context.store.find_system(name).await?;
        let settings = Settings::read(row.kind, &row.settings)?;
        self.connections.check_secret(secret, &settings)?;
        if !force {
            let mut report = CheckReport::default();
            self.connections
                .unsaved_connector(row.kind, &row.settings, Some(secret))?
                .check(&mut report)
                .await;
            if let Some(step) = report
                .steps
                .iter()
                .find(|step| step.state == StepState::Failed)
            {
                let said = format!(
                    "the test with the new secret failed ({}: {}); the old secret stays",
                    step.name, step.message
                );
                let remedy = step.remedy.as_deref().unwrap_or("check the secret");
                let remedy = format!(
                    "{}; or replace it untested (--force)",
                    remedy.replace(" NAME", &format!(" {name}"))
                );
                return Err(ConnectError::permanent("secret_failed", said, remedy).into());
            }
        }
        self.context
            .store
            .put_secret(name, settings.secret_field(), secret, self.context.now())
            .await?;
        self.context
            .store
            .note(
                principal,
                "system.secret",
                name,
                settings.secret_field(),
                self.context.now(),
            )
            .await?;
        self.connections.forget_access(name);
        Ok(())
    }
}
