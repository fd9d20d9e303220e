//! Alerts: an outbox for operators. An alert stays until it is acknowledged; the same alert is not
//! created twice.

use crate::{Store, StoreError, format_timestamp};
use jiff::Timestamp;
use tide_core::model::AccountId;

/// Something that happened in a system itself, and not by us.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Surprise {
    /// An account that matches no identity was created after the first read of the system.
    Made(AccountId),
    /// A linked account was deleted.
    Deleted(AccountId),
    /// A value that was in sync was changed.
    Changed(AccountId),
}

/// A notice.
#[derive(Debug, Clone, sqlx::FromRow)]
pub struct AlertRow {
    /// Its number.
    pub id: i64,
    /// Its subject.
    pub subject: String,
    /// What happened, and the consequence.
    pub body: String,
    /// When it was noticed.
    pub created_at: String,
    /// The recipient: `operators`, or a rule of approvals.
    pub recipient: String,
}

const LIST_ALERTS: &str = "
    SELECT id, subject, body, created_at, recipient
    FROM alert
    WHERE state = 'waiting'
    ORDER BY id DESC
    LIMIT 1000";

const ACKNOWLEDGE_ALERT: &str = "
    UPDATE alert SET state = 'seen', sent_at = ?
    WHERE state = 'waiting' AND id = ?";

const NOTICES_SEEN: &str = "
    UPDATE alert SET state = 'seen', sent_at = ?
    WHERE state = 'waiting' AND id <= ?";

impl Store {
    /// Creates alerts of external changes, with their consequences. Existing alerts are not created
    /// again.
    pub async fn add_external_changes(
        &self,
        surprises: Vec<(Surprise, String)>,
        now: Timestamp,
    ) -> Result<u64, StoreError> {
        if surprises.is_empty() {
            return Ok(0);
        }
        self.writer
            .run_relaxed(move |c| {
                Box::pin(async move {
                    let mut noted = 0;
                    for (surprise, becomes) in &surprises {
                        // Accounts that existed at the first read, or that we created, are not
                        // reported.
                        let (account, what, since) = match surprise {
                            Surprise::Made(account) => (
                                account,
                                "an account was created in",
                                "AND a.written_at IS NULL AND a.first_seen > coalesce((SELECT min(ended_at) FROM full_read r
                                 WHERE r.system = a.system AND r.object = a.object AND r.state = 'complete'), '9')",
                            ),
                            Surprise::Changed(account) => (account, "an account was changed in", ""),
                            Surprise::Deleted(account) => (account, "an account was deleted in", ""),
                        };
                        noted += sqlx::query(sqlx::AssertSqlSafe(format!(
                            "INSERT INTO alert (channel, recipient, subject, body, created_at)
                             SELECT 'console', 'operators', ? || ' ' || a.system || ' by others: ' || a.name, ?, ? FROM account a WHERE a.id = ? {since}
                             AND NOT EXISTS (SELECT 1 FROM alert n WHERE n.subject = ? || ' ' || a.system || ' by others: ' || a.name
                                             AND n.created_at >= coalesce(a.absent_since, (SELECT t.at FROM drift_baseline t WHERE t.account = a.id), a.first_seen))"
                        )))
                        .bind(what)
                        .bind(becomes)
                        .bind(format_timestamp(now))
                        .bind(account)
                        .bind(what)
                        .execute(&mut *c)
                        .await?
                        .rows_affected();
                    }
                    Ok(noted)
                })
            })
            .await
    }

    /// Open alerts, the newest first.
    pub async fn list_alerts(&self) -> Result<Vec<AlertRow>, StoreError> {
        Ok(sqlx::query_as(LIST_ALERTS).fetch_all(&self.reader).await?)
    }

    /// Notes that a notice was seen.
    pub async fn acknowledge_alert(&self, id: i64, now: Timestamp) -> Result<(), StoreError> {
        self.writer
            .run(move |c| {
                Box::pin(async move {
                    let done = sqlx::query(ACKNOWLEDGE_ALERT)
                        .bind(format_timestamp(now))
                        .bind(id)
                        .execute(c)
                        .await?;
                    if done.rows_affected() == 0 {
                        return Err(StoreError::Missing {
                            what: "open alert",
                            name: id.to_string(),
                        });
                    }
                    Ok(())
                })
            })
            .await
    }

    /// Notes that notices up to this one were seen; how many.
    pub async fn notices_seen(&self, last: i64, now: Timestamp) -> Result<u64, StoreError> {
        self.writer
            .run(move |c| {
                Box::pin(async move {
                    let done = sqlx::query(NOTICES_SEEN)
                        .bind(format_timestamp(now))
                        .bind(last)
                        .execute(c)
                        .await?;
                    Ok(done.rows_affected())
                })
            })
            .await
    }
}
