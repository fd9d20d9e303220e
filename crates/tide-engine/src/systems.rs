//! Adds, tests and changes systems.

use crate::{Engine, EngineError, Event, lock};
use std::sync::Arc;
use tide_connect::{
    CheckReport, CheckStep, ConnectError, ConnectionState, Connector, DirectoryNode, Settings,
    connect,
};
use tide_core::ObjectType;
use tide_core::impact::Impact;
use tide_core::permissions::{self, Permission};
use tide_core::rules::RuleFile;
use tide_core::rules::edit::{self, ScopeEdit};
use tide_core::states::{StepState, SystemKind, SystemRole};
use tide_store::{StoreError, SystemRow};
use tokio::sync::mpsc;

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

/// The impact of retiring a system.
#[derive(Debug, Clone)]
pub struct Retirement {
    /// Its accounts that are known here.
    pub accounts: i64,
    /// How many of them are linked.
    pub linked: i64,
    /// Its rule file.
    pub file: Option<String>,
    /// The impact on all records, also in other systems.
    pub effect: Impact,
}

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

impl Engine {
    pub(crate) fn access(&self, row: &SystemRow) -> Arc<ConnectionState> {
        let gate = self.gate(row);
        let mut all = lock(&self.access);
        let access = all.entry(row.name.clone()).or_insert_with(|| {
            let new = ConnectionState::default();
            new.set(&gate.writable());
            new.set_mark_key(self.store.mark_key(&row.name));
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
        if let Ok(rules) = self.published_rules().await {
            access.set_read_by_rules(permissions::read_of(&rules.set, &row.name));
            access.set_server_filters(permissions::server_filters(&rules.set, &row.name));
        }
        let settings = Settings::read(row.kind, &row.settings)?;
        let secret = self
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

    fn unsaved_connector(
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
        check_name(&new.name)?;
        let settings = Settings::read(new.kind, &new.settings)?;
        if self
            .store
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
        let connector = self.unsaved_connector(new.kind, &new.settings, new.secret.as_deref())?;
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
        self.store
            .add_system(&new.name, new.kind, &new.settings, principal, self.now())
            .await?;
        if let Some(secret) = new.secret {
            self.store
                .put_secret(&new.name, settings.secret_field(), &secret, self.now())
                .await?;
        }
        if let Some(described) = described {
            self.store
                .set_system_check(
                    &new.name,
                    &serde_json::json!([]),
                    Some(&described.schema),
                    self.now(),
                )
                .await?;
            self.store
                .set_system_profile(&new.name, &described.profile, &described.own)
                .await?;
        }
        self.publish_event(Event::System {
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
        let row = self.store.find_system(name).await?;
        let before = Settings::read(row.kind, &row.settings)?;
        let after = Settings::read(row.kind, &settings)?;
        let known = self
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
        self.unsaved_connector(row.kind, &settings, secret)?;
        self.store
            .set_system_settings(name, &settings, principal, self.now())
            .await?;
        if let Some(secret) = secret {
            self.store
                .put_secret(name, after.secret_field(), secret, self.now())
                .await?;
        }
        // Hosts, pace and tokens were those of the settings before.
        lock(&self.access).remove(name);
        // So was what was read, and the place up to which it was followed.
        if settings != row.settings {
            lock(&self.pending_full_reads).insert(name.to_owned());
            self.wake.notify_one();
        }
        self.publish_event(Event::System {
            name: name.to_owned(),
        });
        Ok(())
    }

    /// The published rules without those of a system; nothing if there are none of it.
    async fn rules_without(
        &self,
        name: &str,
    ) -> Result<Option<(Vec<RuleFile>, String)>, EngineError> {
        let Some(version) = self.store.load_rules().await? else {
            return Ok(None);
        };
        let rules = self.checked_rules().await?.unwrap_or_default();
        let Some(own) = rules.set.systems.get(name) else {
            return Ok(None);
        };
        let others = version
            .files
            .into_iter()
            .filter(|file| file.name != own.file);
        let without = others.map(|file| {
            Ok(RuleFile {
                text: edit::without_system(&file.text, name)?,
                ..file
            })
        });
        let files = without
            .collect::<Result<Vec<_>, String>>()
            .map_err(EngineError::Invalid)?;
        Ok(Some((files, own.file.clone())))
    }

    /// Returns the impact of retiring a system: on its records, on the rules, and on all other
    /// records. Nothing is written to the system itself.
    pub async fn retirement_impact(&self, name: &str) -> Result<Retirement, EngineError> {
        self.store.find_system(name).await?;
        let counts = self.store.account_counts().await?;
        let (accounts, linked) = counts
            .into_iter()
            .find(|(of, ..)| of == name)
            .map_or((0, 0), |(_, all, linked)| (all, linked));
        let without = self.rules_without(name).await?;
        let file = without.as_ref().map(|(_, file)| file.clone());
        let effect = match without {
            None => Impact::default(),
            Some((files, _)) => {
                let old = self.published_rules().await?;
                let (new, faults) = self.check_rules(&files).await?;
                let new = crate::drafts::sound(new, &faults)?;
                let population = self.store.load_population().await?;
                let (system, now) = (name.to_owned(), self.now());
                let both = move || {
                    let before = tide_core::decide(&old.set, &population, now);
                    let mut population = population;
                    population
                        .accounts
                        .retain(|account| account.system != system);
                    population.systems.remove(&system);
                    tide_core::impact::compute_impact(
                        &before,
                        &tide_core::decide(&new, &population, now),
                    )
                };
                let mut effect = self.compute(Some(crate::compute::PATIENCE), both).await?;
                // A removed system needs no decision.
                effect
                    .systems
                    .retain(|one| one.system.as_deref() != Some(name));
                effect
                    .lines
                    .retain(|line| line.system.as_deref() != Some(name));
                effect
            }
        };
        Ok(Retirement {
            accounts,
            linked,
            file,
            effect,
        })
    }

    /// Removes a system, with its rules and what was read of it. One in which accounts are linked
    /// is removed only if it is to be retired: see [`Engine::retirement_impact`]. Nothing is written to
    /// the system itself.
    ///
    /// # Errors
    /// `Conflict` while accounts are linked, unless the system is retired.
    pub async fn remove_system(
        &self,
        name: &str,
        retire: bool,
        principal: &str,
    ) -> Result<(), EngineError> {
        self.store.find_system(name).await?;
        if !retire && self.store.links_of_system(name).await? > 0 {
            return Err(EngineError::Conflict(format!(
                "accounts of {name} are linked to identities: `eager-tide systems retire {name}` shows the impact of removing it"
            )));
        }
        if let Some((files, _)) = self.rules_without(name).await? {
            self.publish_based(&files, None, &format!("without {name}"), principal)
                .await?;
        }
        self.store
            .remove_system(name, principal, self.now())
            .await?;
        self.forget_holds().await;
        lock(&self.access).remove(name);
        lock(&self.gates).remove(name);
        self.publish_event(Event::System {
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
        let row = self.store.find_system(name).await?;
        let settings = Settings::read(row.kind, &row.settings)?;
        self.secret_sources
            .resolve_secret(secret, &settings.secret_hosts())?;
        if !force {
            let mut report = CheckReport::default();
            self.unsaved_connector(row.kind, &row.settings, Some(secret))?
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
        self.store
            .put_secret(name, settings.secret_field(), secret, self.now())
            .await?;
        self.store
            .note(
                principal,
                "system.secret",
                name,
                settings.secret_field(),
                self.now(),
            )
            .await?;
        lock(&self.access).remove(name);
        Ok(())
    }

    /// Sets which types may be written, and whether the system is paused and armed. After it
    /// returns, nothing more is sent to a system that is paused, disarmed or read-only: its
    /// queued changes are withdrawn and decided again.
    pub async fn set_system(
        &self,
        name: &str,
        change: SystemUpdate,
        principal: &str,
    ) -> Result<(), EngineError> {
        let _one_at_a_time = self.settings_lock.lock().await;
        let row = self.store.find_system(name).await?;
        let writable = change.writable.unwrap_or_else(|| row.writable.clone());
        let (paused, armed) = (
            change.paused.unwrap_or(row.paused),
            change.armed.unwrap_or(row.armed),
        );
        self.store
            .set_system_state(
                name,
                tide_store::WriteState {
                    writable: &writable,
                    paused,
                    armed,
                },
                principal,
                self.now(),
            )
            .await?;
        // Before the types: a new access reads them from the gate.
        self.gate(&row).set(&writable, paused, armed);
        if let Some(access) = lock(&self.access).get(name) {
            access.set(&writable);
        }
        self.publish_event(Event::System {
            name: name.to_owned(),
        });
        // What was held because of it may go now.
        self.wake.notify_one();
        Ok(())
    }

    /// Tests a system that is not stored, and reports each step as it completes.
    pub async fn check_unsaved(
        &self,
        kind: SystemKind,
        settings: &serde_json::Value,
        secret: Option<&str>,
        watcher: Option<mpsc::UnboundedSender<CheckStep>>,
    ) -> Result<CheckReport, EngineError> {
        let connector = self.unsaved_connector(kind, settings, secret)?;
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
        let row = self.store.find_system(name).await?;
        let connector = self.connector(&row).await?;
        let mut report = watcher.map_or_else(CheckReport::default, CheckReport::watched);
        connector.check(&mut report).await;
        let described = if report.is_healthy() {
            Some(connector.describe().await?)
        } else {
            None
        };
        let steps = serde_json::to_value(&report.steps).unwrap_or_default();
        self.store
            .set_system_check(
                name,
                &steps,
                described.as_ref().map(|d| &d.schema),
                self.now(),
            )
            .await?;
        if let Some(described) = described {
            self.store
                .set_system_profile(name, &described.profile, &described.own)
                .await?;
        }
        self.publish_event(Event::System {
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
        let row = self.store.find_system(name).await?;
        Ok(self.connector(&row).await?.browse(below).await?)
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
            .unsaved_connector(kind, settings, secret)?
            .browse(below)
            .await?)
    }

    /// The permissions that a system's service account needs for what the published rules do.
    pub async fn required_permissions(&self, name: &str) -> Result<Vec<Permission>, EngineError> {
        let row = self.store.find_system(name).await?;
        let Some(rules) = self.checked_rules().await? else {
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
