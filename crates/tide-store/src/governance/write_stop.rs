//! The emergency stop: while it is set, nothing is written to any system, whatever was decided or
//! queued before.

use crate::journal::NewJournalEntry;
use crate::queue::take_back_queued;
use crate::{Store, StoreError, format_timestamp, parse_timestamp};
use jiff::Timestamp;
use sqlx::{Row, SqliteConnection};
use std::sync::PoisonError;
use tide_core::ReasonKind;

/// The emergency stop, as it was set.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WriteStop {
    /// The reason that the operator gave; may be empty.
    pub reason: String,
    /// The name of the operator who set it.
    pub principal: String,
    /// When it was set.
    pub created_at: Timestamp,
}

impl WriteStop {
    /// Why nothing is written.
    pub fn hold_reason(&self) -> ReasonKind {
        ReasonKind::WritesStopped {
            principal: self.principal.clone(),
            since: self.created_at,
            comment: self.reason.clone(),
        }
    }
}

const LOAD_WRITE_STOP: &str = "
    SELECT w.reason, coalesce(p.name, w.principal) AS who, w.created_at
    FROM write_stop w
    LEFT JOIN principal p ON p.id = w.principal";

/// The stop that is set, if one is.
pub(crate) async fn load_write_stop(
    c: &mut SqliteConnection,
) -> Result<Option<WriteStop>, StoreError> {
    let row = sqlx::query(LOAD_WRITE_STOP).fetch_optional(c).await?;
    Ok(row.map(|row| WriteStop {
        reason: row.get("reason"),
        principal: row.get("who"),
        created_at: parse_timestamp(row.get("created_at")).unwrap_or_default(),
    }))
}

const SET_WRITE_STOP: &str = "
    INSERT INTO write_stop (id, reason, principal, created_at)
    VALUES (1,?,?,?)
    ON CONFLICT DO NOTHING";

impl Store {
    /// The write stop, if it is set. Answered from memory, since each write asks.
    pub fn write_stop(&self) -> Option<WriteStop> {
        self.write_stop
            .read()
            .unwrap_or_else(PoisonError::into_inner)
            .clone()
    }

    /// Sets the write stop and withdraws every queued change that was not sent yet. An existing
    /// stop stays as it is. When this returns, the stop is durable and [`Store::write_stop`]
    /// returns it.
    pub async fn set_write_stop(
        &self,
        reason: &str,
        principal: &str,
        now: Timestamp,
    ) -> Result<WriteStop, StoreError> {
        let (reason, principal) = (reason.to_owned(), principal.to_owned());
        let stop = self
            .writer
            .run(move |c| {
                Box::pin(async move {
                    let set = sqlx::query(SET_WRITE_STOP)
                        .bind(&reason)
                        .bind(&principal)
                        .bind(format_timestamp(now))
                        .execute(&mut *c)
                        .await?;
                    let stop = load_write_stop(&mut *c).await?.ok_or(StoreError::Missing {
                        what: "write stop",
                        name: String::new(),
                    })?;
                    if set.rows_affected() > 0 {
                        take_back_queued(c, None, &stop.hold_reason().to_string(), now).await?;
                        NewJournalEntry::new(&principal, "writes.stopped", "")
                            .detail(&reason)
                            .append(c, now)
                            .await?;
                    }
                    Ok(stop)
                })
            })
            .await?;
        *self
            .write_stop
            .write()
            .unwrap_or_else(PoisonError::into_inner) = Some(stop.clone());
        Ok(stop)
    }

    /// Lifts the emergency stop; false when none was set.
    pub async fn lift_write_stop(
        &self,
        principal: &str,
        now: Timestamp,
    ) -> Result<bool, StoreError> {
        let principal = principal.to_owned();
        let lifted = self
            .writer
            .run(move |c| {
                Box::pin(async move {
                    let lifted = sqlx::query("DELETE FROM write_stop")
                        .execute(&mut *c)
                        .await?
                        .rows_affected()
                        > 0;
                    if lifted {
                        NewJournalEntry::new(&principal, "writes.resumed", "")
                            .append(c, now)
                            .await?;
                    }
                    Ok(lifted)
                })
            })
            .await?;
        *self
            .write_stop
            .write()
            .unwrap_or_else(PoisonError::into_inner) = None;
        Ok(lifted)
    }
}
