//! Backups: made while the service runs, and restored so that nothing of the past is sent again.

use crate::journal::NewJournalEntry;
use crate::{MasterKey, Store, StoreError, format_timestamp};
use jiff::Timestamp;
use sqlx::ConnectOptions;
use sqlx::sqlite::SqliteConnectOptions;
use std::path::Path;
use tide_core::ObjectType;
use tide_core::states::PrincipalKind;

/// Copies the records in a file to a new one, also while a service uses them. The key is not in it.
pub async fn backup(from: &Path, to: &Path) -> Result<(), StoreError> {
    let open = |source| StoreError::Open {
        path: from.to_owned(),
        source,
    };
    let mut connection = SqliteConnectOptions::new()
        .filename(from)
        .read_only(true)
        .connect()
        .await
        .map_err(open)?;
    sqlx::query("VACUUM INTO ?")
        .bind(to.to_string_lossy().into_owned())
        .execute(&mut connection)
        .await?;
    Ok(())
}

/// The name in `meta` of the moment at which a backup was restored.
const RESTORED: &str = "restored at";

const UPDATE_CHANGE: &str = "
    UPDATE change SET state = 'canceled',
      error = 'a backup was restored before this was settled', remedy = 'run again',
      settled_at = ?
    WHERE state IN ('queued', 'sending', 'accepted', 'unknown')";

const UPDATE_CHANGE_SET: &str = "
    UPDATE change_set SET state = 'canceled', ended_at = ?, note = 'a backup was restored'
    WHERE ended_at IS NULL";

/// Prepares a copied backup for systems that changed since: every system is disarmed, changes in
/// progress are withdrawn, and everything counts as not read yet. Nothing is sent before a system
/// is armed and read again. Sessions and tokens end, since their owners may have lost their
/// rights; overrides, queued passwords and pending notifications end too, so that nothing old is
/// repeated. Creates a new operator with this token and returns its name.
pub async fn restore(
    file: &Path,
    key: MasterKey,
    token: &str,
    now: Timestamp,
) -> Result<String, StoreError> {
    let store = Store::open(file, key).await?;
    store
        .writer
        .run(move |c| {
            Box::pin(async move {
                for sql in [
                    "UPDATE system SET armed = 0",
                    "DELETE FROM sync_cursor",
                    "DELETE FROM approval",
                    "DELETE FROM change_override",
                    "DELETE FROM hold",
                    "DELETE FROM drift_baseline",
                    "UPDATE full_read SET state = 'outdated' WHERE state = 'complete'",
                    "UPDATE full_read SET state = 'failed', error = 'a backup was restored' WHERE state = 'running'",
                ] {
                    sqlx::query(sql).execute(&mut *c).await?;
                }
                sqlx::query(UPDATE_CHANGE)
                .bind(format_timestamp(now))
                .execute(&mut *c)
                .await?;
                sqlx::query(UPDATE_CHANGE_SET)
                    .bind(format_timestamp(now))
                    .execute(&mut *c)
                    .await?;
                for sql in [
                    "UPDATE session SET ended_at = ? WHERE ended_at IS NULL",
                    "UPDATE token SET ended_at = ? WHERE ended_at IS NULL",
                    "UPDATE password_set SET ended_at = ?, outcome = 'a backup was restored' WHERE ended_at IS NULL",
                    "UPDATE notification SET sent_at = ?, error = 'a backup was restored: it may have been told before' WHERE sent_at IS NULL AND webhook IS NOT NULL",
                    "UPDATE first_password SET shown_at = ?, shown_to = 'a backup was restored: shown to no operator' WHERE shown_at IS NULL",
                    "INSERT INTO meta (name, value) VALUES ('restored at', ?) ON CONFLICT DO UPDATE SET value = excluded.value",
                ] {
                    sqlx::query(sql).bind(format_timestamp(now)).execute(&mut *c).await?;
                }
                sqlx::query("INSERT INTO dirty_record (account) VALUES (NULL)").execute(&mut *c).await?;
                let detail = "every system is disarmed and is read in full before anything is sent; all sessions and tokens were ended";
                NewJournalEntry::new("the service", "store.restored", "").detail(detail).append(c, now).await
            })
        })
        .await?;
    let operator = format!("restored {}", now.strftime("%Y-%m-%d %H:%M:%S UTC"));
    store
        .add_principal(PrincipalKind::Operator, &operator, Some(token), now)
        .await?;
    store.close().await;
    Ok(operator)
}

const UNSENT_SINCE_RESTORE: &str = "
    SELECT coalesce(sum(seen_at <= ?), 0), count(*)
    FROM account
    WHERE system = ? AND object = ? AND absent_since IS NULL";

const RECORDS_OF_BACKUP: &str = "
    SELECT DISTINCT o.system, o.object
    FROM full_read o
    WHERE o.state = 'outdated'
      AND NOT EXISTS (SELECT 1 FROM full_read r WHERE r.system = o.system
      AND r.object = o.object AND r.state = 'complete')";

impl Store {
    /// Of the accounts of a type of a system that were there when a backup was restored: how many
    /// its owner has not sent again since, and how many there are. Nothing when no backup was
    /// restored, or the system counts as read since.
    pub async fn unsent_since_restore(
        &self,
        system: &str,
        object: ObjectType,
    ) -> Result<Option<(i64, i64)>, StoreError> {
        if !self
            .records_of_backup()
            .await?
            .iter()
            .any(|(name, kind)| name == system && *kind == object)
        {
            return Ok(None);
        }
        let restored: Option<String> = sqlx::query_scalar("SELECT value FROM meta WHERE name = ?")
            .bind(RESTORED)
            .fetch_optional(&self.reader)
            .await?;
        let Some(restored) = restored else {
            return Ok(None);
        };
        Ok(Some(
            sqlx::query_as(UNSENT_SINCE_RESTORE)
                .bind(restored)
                .bind(system)
                .bind(object.as_str())
                .fetch_one(&self.reader)
                .await?,
        ))
    }

    /// Systems and types with records that were read before a backup was restored, and not since.
    pub async fn records_of_backup(&self) -> Result<Vec<(String, ObjectType)>, StoreError> {
        let rows: Vec<(String, String)> = sqlx::query_as(RECORDS_OF_BACKUP)
            .fetch_all(&self.reader)
            .await?;
        Ok(rows
            .into_iter()
            .filter_map(|(system, word)| Some((system, ObjectType::parse(&word)?)))
            .collect())
    }
}
