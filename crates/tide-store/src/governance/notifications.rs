//! Notifications: stored once under their key, and delivered by a webhook if the rule names one.

use crate::{Store, StoreError, format_timestamp};
use jiff::Timestamp;
use tide_core::decide::notifications::{Notification, Recipient};
use tide_core::states::NotificationEvent;

/// A notification, sent or pending.
#[derive(Debug, Clone, sqlx::FromRow)]
pub struct NotificationRow {
    /// Its number.
    pub id: i64,
    /// The rule that sends it.
    pub rule: String,
    /// The event, as rules write it.
    #[sqlx(try_from = "String")]
    pub event: NotificationEvent,
    /// The label of the person or account that it is about.
    pub identity: String,
    /// Their label.
    pub label: String,
    /// The group, system or license.
    pub about: Option<String>,
    /// The recipients: names and addresses, as JSON.
    #[sqlx(json)]
    pub recipients: serde_json::Value,
    /// The text.
    pub text: String,
    /// The webhook that delivers it.
    #[sqlx(rename = "webhook")]
    pub call: Option<String>,
    /// When it was noticed.
    pub created_at: String,
    /// When it was carried.
    pub sent_at: Option<String>,
    /// How often that was tried in vain.
    pub attempts: i64,
    /// When it was tried last.
    pub tried_at: Option<String>,
    /// Why it is not carried yet.
    pub error: Option<String>,
    /// The answer of the webhook, as JSON.
    pub answer: Option<String>,
}

const ADD_NOTIFICATIONS: &str = "
    INSERT INTO notification (key, rule, event, identity, label, about, recipients, text,
      webhook, created_at)
    VALUES (?,?,?,?,?,?,?,?,?,?)
    ON CONFLICT (key) DO NOTHING";

const WAS_CARRIED: &str = "
    UPDATE notification SET sent_at = CASE WHEN ?2 IS NULL THEN ?3 END, error = ?2,
      tried_at = ?3, attempts = attempts + (?2 IS NOT NULL), answer = ?4
    WHERE id = ?1";

impl Store {
    /// Returns those of these keys for which no notification was sent.
    pub async fn without_notification(
        &self,
        keys: &[&str],
    ) -> Result<std::collections::HashSet<String>, StoreError> {
        let json = serde_json::to_string(keys)?;
        let sql = "SELECT value FROM json_each(?) k WHERE NOT EXISTS (SELECT 1 FROM notification t WHERE t.key = k.value)";
        Ok(sqlx::query_scalar(sql)
            .bind(json)
            .fetch_all(&self.reader)
            .await?
            .into_iter()
            .collect())
    }

    /// Stores notifications with their recipients. A key that is stored already is ignored.
    pub async fn add_notifications(
        &self,
        all: Vec<(Notification, serde_json::Value)>,
        now: Timestamp,
    ) -> Result<(), StoreError> {
        self.writer
            .run_relaxed(move |c| {
                Box::pin(async move {
                    for (notice, recipients) in &all {
                        let new = sqlx::query(ADD_NOTIFICATIONS)
                        .bind(&notice.key)
                        .bind(&notice.rule)
                        .bind(notice.event.as_str())
                        .bind(&notice.identity)
                        .bind(&notice.label)
                        .bind(&notice.about)
                        .bind(recipients.to_string())
                        .bind(&notice.text)
                        .bind(&notice.call)
                        .bind(format_timestamp(now))
                        .execute(&mut *c)
                        .await?;
                        if new.rows_affected() > 0 && notice.to.contains(&Recipient::Operators) {
                            let about = notice.about.as_ref().map(|about| format!(": {about}")).unwrap_or_default();
                            let sql = "INSERT INTO alert (channel, recipient, subject, body, created_at) VALUES ('console', 'operators', ?, ?, ?)";
                            sqlx::query(sql)
                                .bind(&notice.text)
                                .bind(format!("{}{about}", notice.event.as_str()))
                                .bind(format_timestamp(now))
                                .execute(&mut *c)
                                .await?;
                        }
                    }
                    Ok(())
                })
            })
            .await
    }

    /// Notifications, the newest first; optionally about one identity, or only those that wait
    /// for delivery.
    pub async fn list_notifications(
        &self,
        identity: Option<&str>,
        waiting: bool,
        limit: i64,
    ) -> Result<Vec<NotificationRow>, StoreError> {
        let order = if waiting { "ASC" } else { "DESC" };
        let sql = format!(
            "SELECT * FROM notification WHERE (?1 IS NULL OR identity = ?1) AND (NOT ?2 OR (sent_at IS NULL AND webhook IS NOT NULL)) ORDER BY id {order} LIMIT ?3"
        );
        Ok(sqlx::query_as(sqlx::AssertSqlSafe(sql))
            .bind(identity)
            .bind(waiting)
            .bind(limit)
            .fetch_all(&self.reader)
            .await?)
    }

    /// The answers of a webhook about a person, the oldest first.
    pub async fn webhook_answers(
        &self,
        identity: &str,
        call: &str,
    ) -> Result<Vec<serde_json::Value>, StoreError> {
        let sql = "SELECT answer FROM notification WHERE identity = ? AND webhook = ? AND answer IS NOT NULL ORDER BY id";
        let all: Vec<String> = sqlx::query_scalar(sql)
            .bind(identity)
            .bind(call)
            .fetch_all(&self.reader)
            .await?;
        Ok(all
            .iter()
            .map(|text| serde_json::from_str(text))
            .collect::<Result<_, _>>()?)
    }

    /// Notes that something was carried, and what was answered; or why it was not.
    pub async fn was_carried(
        &self,
        id: i64,
        sent: Result<Option<serde_json::Value>, String>,
        now: Timestamp,
    ) -> Result<(), StoreError> {
        let (answer, error) = match sent {
            Ok(answer) => (
                answer
                    .filter(|answer| !answer.is_null())
                    .map(|answer| answer.to_string()),
                None,
            ),
            Err(error) => (None, Some(error)),
        };
        self.writer
            .run(move |c| {
                Box::pin(async move {
                    sqlx::query(WAS_CARRIED)
                        .bind(id)
                        .bind(error)
                        .bind(format_timestamp(now))
                        .bind(answer)
                        .execute(c)
                        .await?;
                    Ok(())
                })
            })
            .await
    }

    /// The identity of an account, by its name or key in a system.
    pub async fn identity_of_account(
        &self,
        system: &str,
        name: &str,
    ) -> Result<Option<String>, StoreError> {
        let sql = "SELECT l.identity FROM account a JOIN link l ON l.account = a.id AND l.ended_at IS NULL
                   WHERE a.system = ? AND (a.name = ? COLLATE NOCASE OR a.key = ? COLLATE NOCASE) LIMIT 1";
        Ok(sqlx::query_scalar(sql)
            .bind(system)
            .bind(name)
            .bind(name)
            .fetch_optional(&self.reader)
            .await?)
    }
}
