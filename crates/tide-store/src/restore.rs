//! Backups: made while the service runs, and restored so that nothing of the past is carried out in the present.

use crate::journal::Entry;
use crate::{MasterKey, Store, StoreError, stamp};
use jiff::Timestamp;
use sqlx::ConnectOptions;
use sqlx::sqlite::SqliteConnectOptions;
use std::path::Path;
use tide_core::ObjectType;

/// Copies the records in a file to a new one, also while a service uses them. The key is not in it.
pub async fn backup(from: &Path, to: &Path) -> Result<(), StoreError> {
    let open = |source| StoreError::Open { path: from.to_owned(), source };
    let mut connection = SqliteConnectOptions::new().filename(from).read_only(true).connect().await.map_err(open)?;
    sqlx::query("VACUUM INTO ?").bind(to.to_string_lossy().into_owned()).execute(&mut connection).await?;
    Ok(())
}

/// Makes a copied backup fit for a world that went on without it: every system is disarmed, what was under way is taken back,
/// and everything counts as not read yet. Nothing is sent before it was armed and read again.
pub async fn restore(file: &Path, key: MasterKey, now: Timestamp) -> Result<(), StoreError> {
    let store = Store::open(file, key).await?;
    store
        .writer
        .run(move |c| {
            Box::pin(async move {
                for sql in [
                    "UPDATE system SET armed = 0",
                    "DELETE FROM place",
                    "DELETE FROM approval",
                    "DELETE FROM changed_there",
                    "UPDATE reading SET state = 'outdated' WHERE state = 'complete'",
                    "UPDATE reading SET state = 'broken', error = 'a backup was restored' WHERE state = 'running'",
                ] {
                    sqlx::query(sql).execute(&mut *c).await?;
                }
                sqlx::query(
                    "UPDATE change SET state = 'cancelled', error = 'a backup was restored before this was settled', remedy = 'run again', settled = ?
                     WHERE state IN ('queued', 'sending', 'accepted', 'unknown')",
                )
                .bind(stamp(now))
                .execute(&mut *c)
                .await?;
                sqlx::query("UPDATE change_set SET state = 'cancelled', ended = ?, note = 'a backup was restored' WHERE ended IS NULL")
                    .bind(stamp(now))
                    .execute(&mut *c)
                    .await?;
                sqlx::query("INSERT INTO touched (account) VALUES (NULL)").execute(&mut *c).await?;
                let detail = "every system is disarmed, and is read whole before anything is sent";
                Entry::new("the service", "store.restored", "").detail(detail).append(c, now).await
            })
        })
        .await?;
    store.close().await;
    Ok(())
}

impl Store {
    /// What was read before a backup was restored, and not since.
    pub async fn outdated(&self) -> Result<Vec<(String, ObjectType)>, StoreError> {
        let rows: Vec<(String, String)> = sqlx::query_as(
            "SELECT DISTINCT o.system, o.object FROM reading o WHERE o.state = 'outdated'
             AND NOT EXISTS (SELECT 1 FROM reading r WHERE r.system = o.system AND r.object = o.object AND r.state = 'complete')",
        )
        .fetch_all(&self.reader)
        .await?;
        Ok(rows.into_iter().filter_map(|(system, word)| Some((system, ObjectType::from_word(&word)?))).collect())
    }
}
