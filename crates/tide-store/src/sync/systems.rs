//! Connected systems: their settings and their state.

use crate::journal::NewJournalEntry;
use crate::{Store, StoreError, format_timestamp};
use jiff::Timestamp;
use std::collections::BTreeMap;
use tide_core::states::SystemKind;
use tide_core::{ObjectType, Schema};

/// A connected system.
#[derive(Debug, Clone, sqlx::FromRow)]
pub struct SystemRow {
    /// Its name.
    pub name: String,
    /// Which kind of system it is.
    #[sqlx(try_from = "String")]
    pub kind: SystemKind,
    /// Where it is and how it is reached, without secrets, as JSON.
    #[sqlx(json)]
    pub settings: serde_json::Value,
    /// Types that may be written.
    #[sqlx(json)]
    pub writable: Vec<ObjectType>,
    /// Paused by an operator.
    pub paused: bool,
    /// Whether an operator armed it. Before that, nothing is sent and automatic sync is off.
    pub armed: bool,
    /// Its capabilities, as label and text.
    #[sqlx(json)]
    pub profile: Vec<(String, String)>,
    /// The names of our own account there.
    #[sqlx(json, rename = "own_names")]
    pub own: Vec<String>,
    /// Its schema, by type.
    #[sqlx(json)]
    pub schema: BTreeMap<ObjectType, Schema>,
    /// The steps of the last test, as JSON.
    #[sqlx(json(nullable), rename = "check_report")]
    pub checked: Option<serde_json::Value>,
    /// When it was last tested.
    pub checked_at: Option<String>,
    /// The sync schedule, as JSON.
    #[sqlx(json)]
    pub schedule: serde_json::Value,
}

/// Whether automatic sync of a system is on, and its schedule.
#[derive(Debug, Clone, PartialEq, sqlx::FromRow)]
pub struct AtWork {
    /// Its name.
    pub name: String,
    /// Armed, and not paused.
    pub armed: bool,
    /// Its schedule, as JSON.
    #[sqlx(json)]
    pub schedule: serde_json::Value,
}

/// A setting of a system that is stored as JSON.
pub(crate) struct SystemSetting {
    sql: &'static str,
    /// The act in the journal.
    act: &'static str,
}

/// The sync schedule.
pub(crate) const SCHEDULE: SystemSetting = SystemSetting {
    sql: "UPDATE system SET schedule = ? WHERE name = ?",
    act: "system.schedule",
};

/// The settings of the connection.
const SETTINGS: SystemSetting = SystemSetting {
    sql: "UPDATE system SET settings = ? WHERE name = ?",
    act: "system.settings",
};

/// The writable types of a system.
#[derive(Debug, Clone, Copy)]
pub struct WriteState<'a> {
    /// The types that may be written.
    pub writable: &'a [ObjectType],
    /// Whether it is paused.
    pub paused: bool,
    /// Whether it is armed.
    pub armed: bool,
}

const RULES_MARK: &str = "
    SELECT (SELECT max(version) FROM rule_set),
      coalesce((SELECT count FROM record_count WHERE kind = 'schema_edition'), 0)";

const AT_WORK: &str = "
    SELECT name, armed AND NOT paused AS armed, schedule
    FROM system
    ORDER BY name";

const ADD_SYSTEM: &str = "
    INSERT INTO system (name, kind, settings, created_at)
    VALUES (?,?,?,?)
    ON CONFLICT DO NOTHING";

const LINKS_OF_SYSTEM: &str = "
    SELECT count(*)
    FROM link l
    JOIN account a ON a.id = l.account
    WHERE a.system = ?";

const SET_SYSTEM_CHECK: &str = "
    UPDATE system SET check_report = ?, checked_at = ?, schema = coalesce(?, schema)
    WHERE name = ?";

impl Store {
    /// All systems, by name.
    pub async fn list_systems(&self) -> Result<Vec<SystemRow>, StoreError> {
        Ok(sqlx::query_as("SELECT * FROM system ORDER BY name")
            .fetch_all(&self.reader)
            .await?)
    }

    /// Lists whether automatic sync is on for each system, without the capabilities, which are
    /// long.
    pub async fn at_work(&self) -> Result<Vec<AtWork>, StoreError> {
        Ok(sqlx::query_as(AT_WORK).fetch_all(&self.reader).await?)
    }

    /// The version of the rules, and how often systems and schemas have changed: rules are compiled
    /// again when either changes. `None` before the first publication.
    pub async fn rules_mark(&self) -> Result<Option<(i64, i64)>, StoreError> {
        let (version, schemas): (Option<i64>, i64) =
            sqlx::query_as(RULES_MARK).fetch_one(&self.reader).await?;
        Ok(version.map(|version| (version, schemas)))
    }

    /// One system.
    pub async fn find_system(&self, name: &str) -> Result<SystemRow, StoreError> {
        sqlx::query_as("SELECT * FROM system WHERE name = ?")
            .bind(name)
            .fetch_optional(&self.reader)
            .await?
            .ok_or_else(|| StoreError::Missing {
                what: "system",
                name: name.to_owned(),
            })
    }

    /// Adds a system: read-only and not armed, as every system starts.
    pub async fn add_system(
        &self,
        name: &str,
        kind: SystemKind,
        settings: &serde_json::Value,
        principal: &str,
        now: Timestamp,
    ) -> Result<(), StoreError> {
        let (name, text, principal) = (name.to_owned(), settings.to_string(), principal.to_owned());
        self.writer
            .run(move |c| {
                Box::pin(async move {
                    let done = sqlx::query(ADD_SYSTEM)
                        .bind(&name)
                        .bind(kind.as_str())
                        .bind(&text)
                        .bind(format_timestamp(now))
                        .execute(&mut *c)
                        .await?;
                    if done.rows_affected() == 0 {
                        return Err(StoreError::Exists {
                            what: "system",
                            name,
                        });
                    }
                    NewJournalEntry::new(&principal, "system.added", &name)
                        .detail(&text)
                        .append(c, now)
                        .await
                })
            })
            .await
    }

    /// Replaces a system's settings.
    pub async fn set_system_settings(
        &self,
        name: &str,
        settings: &serde_json::Value,
        principal: &str,
        now: Timestamp,
    ) -> Result<(), StoreError> {
        self.store_setting(&SETTINGS, name, settings, principal, now)
            .await
    }

    /// Stores a setting of a system, and journals it.
    pub(crate) async fn store_setting(
        &self,
        setting: &'static SystemSetting,
        name: &str,
        value: &serde_json::Value,
        principal: &str,
        now: Timestamp,
    ) -> Result<(), StoreError> {
        let (name, text, principal) = (name.to_owned(), value.to_string(), principal.to_owned());
        self.writer
            .run(move |c| {
                Box::pin(async move {
                    let done = sqlx::query(setting.sql)
                        .bind(&text)
                        .bind(&name)
                        .execute(&mut *c)
                        .await?;
                    if done.rows_affected() == 0 {
                        return Err(StoreError::Missing {
                            what: "system",
                            name,
                        });
                    }
                    NewJournalEntry::new(&principal, setting.act, &name)
                        .detail(&text)
                        .append(c, now)
                        .await
                })
            })
            .await
    }

    /// Removes a system that has no link yet, with what was read of it. Its tokens end: one that is
    /// added again under the same name is another system.
    pub async fn remove_system(
        &self,
        name: &str,
        principal: &str,
        now: Timestamp,
    ) -> Result<(), StoreError> {
        let (name, principal) = (name.to_owned(), principal.to_owned());
        self.writer
            .run(move |c| {
                Box::pin(async move {
                    for sql in [
                        "UPDATE session SET ended_at = ? WHERE ended_at IS NULL
                         AND principal IN (SELECT id FROM principal WHERE kind = 'system' AND name = ?)",
                        "UPDATE token SET ended_at = ? WHERE ended_at IS NULL
                         AND principal IN (SELECT id FROM principal WHERE kind = 'system' AND name = ?)",
                        "UPDATE principal SET ended_at = ? WHERE ended_at IS NULL AND kind = 'system' AND name = ?",
                    ] {
                        sqlx::query(sql).bind(format_timestamp(now)).bind(&name).execute(&mut *c).await?;
                    }
                    for sql in [
                        "DELETE FROM hold WHERE system = ?",
                        "DELETE FROM secret WHERE owner = 'password' AND field IN
                           (SELECT p.seal FROM password_set p JOIN account a ON a.id = p.account WHERE a.system = ?)",
                        "DELETE FROM password_set WHERE account IN (SELECT id FROM account WHERE system = ?)",
                        "DELETE FROM first_password WHERE account IN (SELECT id FROM account WHERE system = ?)",
                        "DELETE FROM password_hash_mark WHERE account IN (SELECT id FROM account WHERE system = ?)",
                        "DELETE FROM rule_membership WHERE account IN (SELECT id FROM account WHERE system = ?)",
                        "DELETE FROM membership_delta WHERE account IN (SELECT id FROM account WHERE system = ?)",
                        "DELETE FROM link WHERE account IN (SELECT id FROM account WHERE system = ?)",
                        "DELETE FROM match_answer WHERE system = ?",
                        "DELETE FROM inbound_event WHERE system = ?",
                        "DELETE FROM event_shape WHERE system = ?",
                        "DELETE FROM sync_cursor WHERE system = ?",
                        "DELETE FROM account WHERE system = ?",
                        "DELETE FROM secret WHERE owner = ?",
                        "DELETE FROM inbound_resource WHERE system = ?",
                        "DELETE FROM inbound_member WHERE system = ?",
                        "DELETE FROM quarantine WHERE full_read IN (SELECT id FROM full_read WHERE system = ?)",
                        "DELETE FROM full_read WHERE system = ?",
                        "DELETE FROM system WHERE name = ?",
                    ] {
                        sqlx::query(sql).bind(&name).execute(&mut *c).await?;
                    }
                    NewJournalEntry::new(&principal, "system.removed", &name).append(c, now).await
                })
            })
            .await
    }

    /// How many links, open or ended, accounts of a system have.
    pub async fn links_of_system(&self, name: &str) -> Result<i64, StoreError> {
        Ok(sqlx::query_scalar(LINKS_OF_SYSTEM)
            .bind(name)
            .fetch_one(&self.reader)
            .await?)
    }

    /// Stores a system's profile and the names of the service account there.
    pub async fn set_system_profile(
        &self,
        name: &str,
        profile: &[(String, String)],
        own: &[String],
    ) -> Result<(), StoreError> {
        let (name, profile, own) = (
            name.to_owned(),
            serde_json::to_string(profile)?,
            serde_json::to_string(own)?,
        );
        self.writer
            .run(move |c| {
                Box::pin(async move {
                    sqlx::query("UPDATE system SET profile = ?, own_names = ? WHERE name = ?")
                        .bind(profile)
                        .bind(own)
                        .bind(name)
                        .execute(c)
                        .await?;
                    Ok(())
                })
            })
            .await
    }

    /// Sets which types may be written, and whether the system is paused and armed. Queued
    /// changes of a paused or disarmed system are withdrawn in the same commit.
    pub async fn set_system_state(
        &self,
        name: &str,
        state: WriteState<'_>,
        principal: &str,
        now: Timestamp,
    ) -> Result<(), StoreError> {
        let (paused, armed) = (state.paused, state.armed);
        let writable = serde_json::to_string(state.writable)?;
        let (name, principal) = (name.to_owned(), principal.to_owned());
        self.writer
            .run(move |c| {
                Box::pin(async move {
                    let done = sqlx::query(
                        "UPDATE system SET writable = ?, paused = ?, armed = ? WHERE name = ?",
                    )
                    .bind(&writable)
                    .bind(paused)
                    .bind(armed)
                    .bind(&name)
                    .execute(&mut *c)
                    .await?;
                    if done.rows_affected() == 0 {
                        return Err(StoreError::Missing {
                            what: "system",
                            name,
                        });
                    }
                    if paused || !armed {
                        let why = format!(
                            "{name} was {} before this was sent",
                            if paused { "paused" } else { "disarmed" }
                        );
                        crate::queue::take_back_queued(&mut *c, Some(&name), &why, now).await?;
                    }
                    let detail = format!("writable {writable}, paused {paused}, armed {armed}");
                    NewJournalEntry::new(&principal, "system.state", &name)
                        .detail(&detail)
                        .append(c, now)
                        .await
                })
            })
            .await
    }

    /// Stores the profile that a connection test found.
    pub async fn set_system_check(
        &self,
        name: &str,
        steps: &serde_json::Value,
        schema: Option<&BTreeMap<ObjectType, Schema>>,
        now: Timestamp,
    ) -> Result<(), StoreError> {
        let (name, steps) = (name.to_owned(), steps.to_string());
        let schema = schema.map(serde_json::to_string).transpose()?;
        self.writer
            .run(move |c| {
                Box::pin(async move {
                    sqlx::query(SET_SYSTEM_CHECK)
                        .bind(steps)
                        .bind(format_timestamp(now))
                        .bind(schema)
                        .bind(name)
                        .execute(c)
                        .await?;
                    Ok(())
                })
            })
            .await
    }
}
