//! Schedules, sync cursors, and the changes of watched systems.

use crate::snapshot::accounts::{IncomingAccount, Past, ROWS, upsert_accounts};
use crate::sync::systems::SCHEDULE;
use crate::{Store, StoreError, format_timestamp};
use jiff::Timestamp;
use sqlx::{Row, SqliteConnection};
use tide_core::ObjectType;
use tide_core::model::{AccountId, Observed};

/// The sync cursor of a type of a system.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SyncCursor {
    /// The watch mode.
    pub mode: String,
    /// The position in the system's history; `None` where the mode has none.
    pub cursor: Option<String>,
    /// When the cursor was last confirmed.
    pub updated_at: Timestamp,
    /// The time of the last full read.
    pub full_read_at: Timestamp,
}

const SET_PLACE: &str = "
    INSERT INTO sync_cursor (system, object, mode, cursor, at, full_at)
    VALUES (?,?,?,?,?,?)
    ON CONFLICT DO UPDATE SET mode = excluded.mode, cursor = excluded.cursor, at = excluded.at,
      full_at = excluded.full_at";

async fn set_place(
    c: &mut SqliteConnection,
    system: &str,
    object: ObjectType,
    place: &SyncCursor,
) -> Result<(), StoreError> {
    sqlx::query(SET_PLACE)
        .bind(system)
        .bind(object.as_str())
        .bind(&place.mode)
        .bind(&place.cursor)
        .bind(format_timestamp(place.updated_at))
        .bind(format_timestamp(place.full_read_at))
        .execute(c)
        .await?;
    Ok(())
}

/// Changes of one type that a system reported.
#[derive(Debug)]
pub struct ChangeBatch<'a> {
    /// The system.
    pub system: &'a str,
    /// The type.
    pub object: ObjectType,
    /// New states of accounts.
    pub changed: Vec<Observed>,
    /// Keys of deleted accounts.
    pub deleted: Vec<String>,
    /// The cursor after these changes, if it is known.
    pub cursor: Option<&'a SyncCursor>,
    /// The system is a target: the state before a change by others is kept.
    pub keeps_previous: bool,
}

impl<'a> ChangeBatch<'a> {
    /// Changes of a source, without a cursor.
    pub fn new(
        system: &'a str,
        object: ObjectType,
        changed: Vec<Observed>,
        deleted: Vec<String>,
    ) -> Self {
        ChangeBatch {
            system,
            object,
            changed,
            deleted,
            cursor: None,
            keeps_previous: false,
        }
    }
}

const FIND_SYNC_CURSOR: &str = "
    SELECT mode, cursor, at, full_at
    FROM sync_cursor
    WHERE system = ? AND object = ?";

const SELECT_FULL_READ: &str = "
    SELECT (SELECT coalesce(max(id), 0) FROM full_read WHERE system = ? AND object = ?),
      (SELECT coalesce(max(seq), 0) FROM dirty_record)";

const UPDATE_ACCOUNT: &str = "
    UPDATE account SET absent_since = coalesce(absent_since, ?), absence_confirmed = 1,
      seen_at = ?, full_read = ?
    WHERE system = ? AND object = ? AND NOT absence_confirmed AND coalesce(written_at,
      '') < ? AND key IN (SELECT value FROM json_each(?))";

const SELECT_DIRTY_RECORD: &str = "
    SELECT DISTINCT account
    FROM dirty_record
    WHERE seq > ? AND account IS NOT NULL";

impl Store {
    /// Sets the schedule of a system.
    pub async fn set_schedule(
        &self,
        name: &str,
        schedule: &serde_json::Value,
        principal: &str,
        now: Timestamp,
    ) -> Result<(), StoreError> {
        self.store_setting(&SCHEDULE, name, schedule, principal, now)
            .await
    }

    /// The sync cursor of a type of a system.
    pub async fn find_sync_cursor(
        &self,
        system: &str,
        object: ObjectType,
    ) -> Result<Option<SyncCursor>, StoreError> {
        let row = sqlx::query(FIND_SYNC_CURSOR)
            .bind(system)
            .bind(object.as_str())
            .fetch_optional(&self.reader)
            .await?;
        let instant = |text: &str| text.parse::<Timestamp>().unwrap_or_default();
        Ok(row.map(|row| SyncCursor {
            mode: row.get("mode"),
            cursor: row.get("cursor"),
            updated_at: instant(row.get("at")),
            full_read_at: instant(row.get("full_at")),
        }))
    }

    /// Stores the sync cursor of a type of a system.
    pub async fn set_sync_cursor(
        &self,
        system: &str,
        object: ObjectType,
        place: &SyncCursor,
    ) -> Result<(), StoreError> {
        let (system, place) = (system.to_owned(), place.clone());
        self.writer
            .run_relaxed(move |c| {
                Box::pin(async move { set_place(c, &system, object, &place).await })
            })
            .await
    }

    /// Deletes the sync cursors of a system, which leads to a full read.
    pub async fn reset_sync_cursors(&self, system: &str) -> Result<(), StoreError> {
        let system = system.to_owned();
        self.writer
            .run_relaxed(move |c| {
                Box::pin(async move {
                    sqlx::query("DELETE FROM sync_cursor WHERE system = ?")
                        .bind(&system)
                        .execute(c)
                        .await?;
                    Ok(())
                })
            })
            .await
    }

    /// Stores changes: new states of accounts, keys of deleted ones, and the sync cursor after
    /// them. The returned future resolves to the accounts that really changed; an echo of our own
    /// writes is none. Returns as soon as the job is queued at the writer.
    pub async fn store_changes(
        &self,
        batch: ChangeBatch<'_>,
        now: Timestamp,
    ) -> Result<impl Future<Output = Result<Vec<AccountId>, StoreError>> + use<>, StoreError> {
        let (system, place) = (batch.system.to_owned(), batch.cursor.cloned());
        let (object, given) = (batch.object, batch.keeps_previous);
        let (changed, gone) = (batch.changed, batch.deleted);
        self.writer
            .queued(
                move |c| {
                    Box::pin(async move {
                        // Counted as seen by a read in progress, so that it does not mark them as
                        // absent.
                        let (reading, before): (i64, i64) = sqlx::query_as(SELECT_FULL_READ)
                            .bind(&system)
                            .bind(object.as_str())
                            .fetch_one(&mut *c)
                            .await?;
                        for rows in changed.chunks(ROWS) {
                            let shown = IncomingAccount {
                                reading,
                                system: &system,
                                object,
                                at: now,
                                told: true,
                            };
                            upsert_accounts(
                                c,
                                shown,
                                rows,
                                if given { Past::Given } else { Past::Read },
                            )
                            .await?;
                        }
                        if !gone.is_empty() {
                            sqlx::query(UPDATE_ACCOUNT)
                                .bind(format_timestamp(now))
                                .bind(format_timestamp(now))
                                .bind(reading)
                                .bind(&system)
                                .bind(object.as_str())
                                .bind(format_timestamp(now))
                                .bind(serde_json::to_string(&gone)?)
                                .execute(&mut *c)
                                .await?;
                        }
                        if let Some(place) = &place {
                            set_place(c, &system, object, place).await?;
                        }
                        // Triggers have recorded the dirty rows.
                        Ok(sqlx::query_scalar(SELECT_DIRTY_RECORD)
                            .bind(before)
                            .fetch_all(c)
                            .await?)
                    })
                },
                false,
            )
            .await
    }
}
