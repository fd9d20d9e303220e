//! What people say about changes that a guard held, and how many changes there were lately.

use crate::journal::Entry;
use crate::{Store, StoreError, stamp};
use jiff::Timestamp;
use sqlx::{Row, SqliteConnection};
use std::collections::HashMap;
use tide_core::decide::Change;
use tide_core::model::Ruling;

/// What was said of changes that a guard held, by their fingerprints.
pub(crate) async fn rulings(c: &mut SqliteConnection) -> Result<HashMap<String, Ruling>, StoreError> {
    let rows = sqlx::query(
        "SELECT r.fingerprint, r.said, coalesce(p.name, r.principal) AS who FROM ruling r LEFT JOIN principal p ON p.id = r.principal",
    )
    .fetch_all(c)
    .await?;
    Ok(rows
        .iter()
        .map(|row| (row.get("fingerprint"), Ruling { release: row.get::<&str, _>("said") == "release", principal: row.get("who") }))
        .collect())
}

impl Store {
    /// What was said of changes that a guard held, by their fingerprints.
    pub async fn rulings(&self) -> Result<HashMap<String, Ruling>, StoreError> {
        rulings(&mut *self.reader.acquire().await?).await
    }

    /// Keeps what was said of these changes: they are sent after all, or dropped while they stay the same. `held_by` is what held
    /// them (`guard`, `drift`), for the journal.
    pub async fn rule(
        &self,
        changes: Vec<Change>,
        held_by: &'static str,
        release: bool,
        principal: &str,
        now: Timestamp,
    ) -> Result<(), StoreError> {
        let principal = principal.to_owned();
        let said = if release { "release" } else { "discard" };
        self.writer
            .run(move |c| {
                Box::pin(async move {
                    for change in &changes {
                        sqlx::query(
                            "INSERT INTO ruling (fingerprint, said, system, kind, label, principal, made) VALUES (?,?,?,?,?,?,?)
                             ON CONFLICT DO UPDATE SET said = excluded.said, principal = excluded.principal, made = excluded.made",
                        )
                        .bind(&change.fingerprint)
                        .bind(said)
                        .bind(&change.system)
                        .bind(change.kind.word())
                        .bind(&change.label)
                        .bind(&principal)
                        .bind(stamp(now))
                        .execute(&mut *c)
                        .await?;
                        let detail = format!("{} in {}: {said}", change.kind, change.system);
                        Entry::new(&principal, &format!("{held_by}.{said}"), &change.identity).detail(&detail).append(c, now).await?;
                    }
                    Ok(())
                })
            })
            .await
    }

    /// Has changes that failed tried again as if they had not failed before.
    pub async fn unpark(&self, fingerprint: &str, principal: &str, now: Timestamp) -> Result<(), StoreError> {
        let (fingerprint, principal) = (fingerprint.to_owned(), principal.to_owned());
        self.writer
            .run(move |c| {
                Box::pin(async move {
                    let subject: Option<String> = sqlx::query_scalar(
                        "SELECT identity FROM change WHERE fingerprint = ? AND state = 'failed' ORDER BY id DESC LIMIT 1",
                    )
                    .bind(&fingerprint)
                    .fetch_optional(&mut *c)
                    .await?;
                    let subject = subject.ok_or_else(|| StoreError::Missing { what: "parked change", name: fingerprint.clone() })?;
                    sqlx::query(
                        "UPDATE change SET state = 'cancelled', remedy = 'tried again by hand' WHERE fingerprint = ? AND state = 'failed'",
                    )
                    .bind(&fingerprint)
                    .execute(&mut *c)
                    .await?;
                    Entry::new(&principal, "change.retried", &subject).append(c, now).await
                })
            })
            .await
    }
}
