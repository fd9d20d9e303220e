//! Overrides of held changes by operators. An override is bound to what was shown, ends with it,
//! expires, and can be taken back.

use crate::journal::NewJournalEntry;
use crate::{Store, StoreError, format_timestamp};
use jiff::Timestamp;
use sqlx::{Row, SqliteConnection};
use std::collections::HashMap;
use tide_core::decide::Change;
use tide_core::model::GuardOverride;

/// An operator's override of a held change.
#[derive(Debug, Clone, PartialEq, Eq, sqlx::FromRow)]
pub struct OverrideRow {
    /// The change.
    pub fingerprint: String,
    /// It is sent after all; or else it is dropped, while it stays the same.
    pub release: bool,
    /// The cause: `guard` or `drift`.
    pub held_by: String,
    /// The decision in which it was shown: all changes of one decision are released, discarded
    /// and withdrawn together.
    pub decision: String,
    /// The system.
    pub system: String,
    /// The kind of change.
    pub kind: String,
    /// The identity; empty for an orphaned account.
    pub identity: String,
    /// Its account, if it has one.
    pub account: Option<i64>,
    /// The label of the person or account that it is about.
    pub label: String,
    /// The principal's name.
    #[sqlx(rename = "who")]
    pub principal: String,
    /// When.
    pub created_at: String,
    /// When it stops to hold.
    pub expires_at: String,
}

/// An override of held changes, to store.
#[derive(Debug, Clone)]
pub struct NewOverride {
    /// The changes.
    pub changes: Vec<Change>,
    /// The cause: `guard` or `drift`.
    pub held_by: &'static str,
    /// The decision in which they were shown.
    pub decision: String,
    /// They are sent after all; or else they are dropped, while they stay the same.
    pub release: bool,
    /// When it stops to hold.
    pub expires: Timestamp,
}

const LOAD_OVERRIDES: &str = "
    SELECT o.fingerprint, o.answer, coalesce(p.name, o.principal) AS who
    FROM change_override o
    LEFT JOIN principal p ON p.id = o.principal
    WHERE o.expires_at > ?";

/// The overrides in effect at a moment, by fingerprint.
pub(crate) async fn load_overrides(
    c: &mut SqliteConnection,
    now: Timestamp,
) -> Result<HashMap<String, GuardOverride>, StoreError> {
    let rows = sqlx::query(LOAD_OVERRIDES)
        .bind(format_timestamp(now))
        .fetch_all(c)
        .await?;
    Ok(rows
        .iter()
        .map(|row| {
            (
                row.get("fingerprint"),
                GuardOverride {
                    release: row.get::<&str, _>("answer") == "release",
                    principal: row.get("who"),
                },
            )
        })
        .collect())
}

const OVERRIDE_ROWS: &str = "
    SELECT o.*, o.answer = 'release' AS release, coalesce(p.name, o.principal) AS who
    FROM change_override o
    LEFT JOIN principal p ON p.id = o.principal
    ORDER BY o.created_at DESC, o.fingerprint";

const ADD_OVERRIDE: &str = "
    INSERT INTO change_override (fingerprint, answer, held_by, decision, system, kind,
      identity, account, label, principal, created_at, expires_at)
    VALUES (?,?,?,?,?,?,?,?,?,?,?,?)
    ON CONFLICT DO UPDATE SET answer = excluded.answer, held_by = excluded.held_by,
      decision = excluded.decision, principal = excluded.principal,
      created_at = excluded.created_at, expires_at = excluded.expires_at";

const TAKE_BACK_OVERRIDE: &str = "
    DELETE FROM change_override
    WHERE decision = ?
    RETURNING held_by, answer, system, kind, identity";

const END_OVERRIDES: &str = "
    DELETE FROM change_override
    WHERE expires_at <= ? OR fingerprint IN (SELECT value FROM json_each(?))";

const SELECT_CHANGE: &str = "
    SELECT identity
    FROM change
    WHERE fingerprint = ? AND state = 'failed'
    ORDER BY id DESC
    LIMIT 1";

const UPDATE_CHANGE: &str = "
    UPDATE change SET state = 'canceled', remedy = 'tried again by hand'
    WHERE fingerprint = ? AND state = 'failed'";

impl Store {
    /// What holds of changes at a moment, by their fingerprints.
    pub async fn load_overrides(
        &self,
        now: Timestamp,
    ) -> Result<HashMap<String, GuardOverride>, StoreError> {
        load_overrides(&mut *self.reader.acquire().await?, now).await
    }

    /// All overrides, the newest first, including expired ones.
    pub async fn override_rows(&self) -> Result<Vec<OverrideRow>, StoreError> {
        Ok(sqlx::query_as(OVERRIDE_ROWS)
            .fetch_all(&self.reader)
            .await?)
    }

    /// Stores overrides of held changes.
    pub async fn add_override(
        &self,
        new: NewOverride,
        principal: &str,
        now: Timestamp,
    ) -> Result<(), StoreError> {
        let principal = principal.to_owned();
        let said = if new.release { "release" } else { "discard" };
        self.writer
            .run(move |c| {
                Box::pin(async move {
                    for change in &new.changes {
                        sqlx::query(ADD_OVERRIDE)
                            .bind(&change.fingerprint)
                            .bind(said)
                            .bind(new.held_by)
                            .bind(&new.decision)
                            .bind(&change.system)
                            .bind(change.kind.as_str())
                            .bind(&change.identity)
                            .bind(change.account)
                            .bind(&change.label)
                            .bind(&principal)
                            .bind(format_timestamp(now))
                            .bind(format_timestamp(new.expires))
                            .execute(&mut *c)
                            .await?;
                        let detail = format!("{} in {}: {said}", change.kind, change.system);
                        NewJournalEntry::new(
                            &principal,
                            &format!("{}.{said}", new.held_by),
                            &change.identity,
                        )
                        .detail(&detail)
                        .append(c, now)
                        .await?;
                    }
                    Ok(())
                })
            })
            .await
    }

    /// Withdraws the overrides of a decision, and returns the number of changes.
    pub async fn take_back_override(
        &self,
        decision: &str,
        principal: &str,
        now: Timestamp,
    ) -> Result<usize, StoreError> {
        let (decision, principal) = (decision.to_owned(), principal.to_owned());
        self.writer
            .run(move |c| {
                Box::pin(async move {
                    let rows = sqlx::query(TAKE_BACK_OVERRIDE)
                        .bind(&decision)
                        .fetch_all(&mut *c)
                        .await?;
                    for row in &rows {
                        let (said, system, kind): (String, String, String) =
                            (row.get("answer"), row.get("system"), row.get("kind"));
                        let act = format!("{}.taken-back", row.get::<&str, _>("held_by"));
                        let detail = format!("{kind} in {system}: {said} taken back");
                        NewJournalEntry::new(&principal, &act, row.get("identity"))
                            .detail(&detail)
                            .append(&mut *c, now)
                            .await?;
                    }
                    Ok(rows.len())
                })
            })
            .await
    }

    /// Ends overrides of changes that no decision contains any more, and expired ones.
    pub async fn end_overrides(
        &self,
        unwanted: Vec<String>,
        now: Timestamp,
    ) -> Result<(), StoreError> {
        let unwanted = serde_json::to_string(&unwanted)?;
        self.writer
            .run_relaxed(move |c| {
                Box::pin(async move {
                    sqlx::query(END_OVERRIDES)
                        .bind(format_timestamp(now))
                        .bind(unwanted)
                        .execute(c)
                        .await?;
                    Ok(())
                })
            })
            .await
    }

    /// Lets changes that failed be retried as if they had not failed before.
    pub async fn retry_failed(
        &self,
        fingerprint: &str,
        principal: &str,
        now: Timestamp,
    ) -> Result<(), StoreError> {
        let (fingerprint, principal) = (fingerprint.to_owned(), principal.to_owned());
        self.writer
            .run(move |c| {
                Box::pin(async move {
                    let subject: Option<String> = sqlx::query_scalar(SELECT_CHANGE)
                        .bind(&fingerprint)
                        .fetch_optional(&mut *c)
                        .await?;
                    let subject = subject.ok_or_else(|| StoreError::Missing {
                        what: "failed change",
                        name: fingerprint.clone(),
                    })?;
                    sqlx::query(UPDATE_CHANGE)
                        .bind(&fingerprint)
                        .execute(&mut *c)
                        .await?;
                    NewJournalEntry::new(&principal, "change.retried", &subject)
                        .append(c, now)
                        .await
                })
            })
            .await
    }
}
