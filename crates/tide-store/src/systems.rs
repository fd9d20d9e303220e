//! Connected systems: their settings and their state.

use crate::journal::Entry;
use crate::{Store, StoreError, stamp};
use jiff::Timestamp;
use sqlx::Row;
use sqlx::sqlite::SqliteRow;
use std::collections::BTreeMap;
use tide_core::{ObjectType, Schema};

/// A connected system.
#[derive(Debug, Clone)]
pub struct SystemRow {
    /// Its name.
    pub name: String,
    /// Its kind: `ldap` or `scim`.
    pub kind: String,
    /// Where it is and how it is reached, without secrets, as JSON.
    pub settings: serde_json::Value,
    /// Types that may be written.
    pub writable: Vec<ObjectType>,
    /// Paused by an operator.
    pub paused: bool,
    /// What it says of its attributes, by type.
    pub schema: BTreeMap<ObjectType, Schema>,
    /// The steps of the last test, as JSON.
    pub checked: Option<serde_json::Value>,
    /// When it was last tested.
    pub checked_at: Option<String>,
}

fn read(row: &SqliteRow) -> Result<SystemRow, StoreError> {
    Ok(SystemRow {
        name: row.get("name"),
        kind: row.get("kind"),
        settings: serde_json::from_str(row.get("settings"))?,
        writable: serde_json::from_str(row.get("writable"))?,
        paused: row.get("paused"),
        schema: serde_json::from_str(row.get("schema"))?,
        checked: row.get::<Option<&str>, _>("checked").map(serde_json::from_str).transpose()?,
        checked_at: row.get("checked_at"),
    })
}

impl Store {
    /// All systems, by name.
    pub async fn systems(&self) -> Result<Vec<SystemRow>, StoreError> {
        let rows = sqlx::query("SELECT * FROM system ORDER BY name").fetch_all(&self.reader).await?;
        rows.iter().map(read).collect()
    }

    /// One system.
    pub async fn system(&self, name: &str) -> Result<SystemRow, StoreError> {
        let row = sqlx::query("SELECT * FROM system WHERE name = ?").bind(name).fetch_optional(&self.reader).await?;
        read(&row.ok_or_else(|| StoreError::Missing { what: "system", name: name.to_owned() })?)
    }

    /// Adds a system: read-only and not armed, as every system starts.
    pub async fn add_system(
        &self,
        name: &str,
        kind: &str,
        settings: &serde_json::Value,
        principal: &str,
        now: Timestamp,
    ) -> Result<(), StoreError> {
        let (name, kind, text, principal) = (name.to_owned(), kind.to_owned(), settings.to_string(), principal.to_owned());
        self.writer
            .run(move |c| {
                Box::pin(async move {
                    let done = sqlx::query("INSERT INTO system (name, kind, settings, made) VALUES (?,?,?,?) ON CONFLICT DO NOTHING")
                        .bind(&name)
                        .bind(&kind)
                        .bind(&text)
                        .bind(stamp(now))
                        .execute(&mut *c)
                        .await?;
                    if done.rows_affected() == 0 {
                        return Err(StoreError::Exists { what: "system", name });
                    }
                    Entry::new(&principal, "system.added", &name).detail(&text).append(c, now).await
                })
            })
            .await
    }

    /// Sets which types may be written, and whether the system is paused.
    pub async fn set_system_state(
        &self,
        name: &str,
        writable: &[ObjectType],
        paused: bool,
        principal: &str,
        now: Timestamp,
    ) -> Result<(), StoreError> {
        let (name, principal, writable) = (name.to_owned(), principal.to_owned(), serde_json::to_string(writable)?);
        self.writer
            .run(move |c| {
                Box::pin(async move {
                    let done = sqlx::query("UPDATE system SET writable = ?, paused = ? WHERE name = ?")
                        .bind(&writable)
                        .bind(paused)
                        .bind(&name)
                        .execute(&mut *c)
                        .await?;
                    if done.rows_affected() == 0 {
                        return Err(StoreError::Missing { what: "system", name });
                    }
                    let detail = format!("writable {writable}, paused {paused}");
                    Entry::new(&principal, "system.state", &name).detail(&detail).append(c, now).await
                })
            })
            .await
    }

    /// Keeps what a system said of itself when it was tested.
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
                    sqlx::query("UPDATE system SET checked = ?, checked_at = ?, schema = coalesce(?, schema) WHERE name = ?")
                        .bind(steps)
                        .bind(stamp(now))
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
