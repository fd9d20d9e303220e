//! First passwords: sealed when they are drawn, shown once, and then erased.

use crate::journal::NewJournalEntry;
use crate::{Store, StoreError, format_timestamp};
use jiff::Timestamp;
use sqlx::Row;
use tide_core::ObjectType;
use tide_core::decide::Change;
use tide_core::model::AccountId;
use zeroize::Zeroizing;

/// The owner under which first passwords are sealed; the field is the change that sets one.
const OWNER: &str = "first password";

/// A first password that waits to be shown, or was.
#[derive(Debug, Clone)]
pub struct PasswordRow {
    /// The change that set it; its number is the password's.
    pub id: i64,
    /// Its owner.
    pub identity: String,
    /// Their label.
    pub label: String,
    /// The system.
    pub system: String,
    /// The account's name there.
    pub account: String,
    /// When it was set.
    pub created_at: String,
    /// When it was shown and to whom.
    pub shown: Option<(String, String)>,
    /// How often it was tried in vain to hand it over.
    pub attempts: i64,
    /// When that was tried last.
    pub tried_at: Option<String>,
    /// Why it is not handed over yet.
    pub error: Option<String>,
}

const FIRST_PASSWORD_SET: &str = "
    INSERT OR IGNORE INTO first_password (change, account, identity, system, label, created_at)
    VALUES (?,?,?,?,?,?)";

const FIRST_PASSWORDS: &str = "
    SELECT f.*, a.name AS account_name, coalesce(p.name, f.shown_to) AS who
    FROM first_password f
    JOIN account a ON a.id = f.account
    LEFT JOIN principal p ON p.id = f.shown_to
    ORDER BY f.shown_at IS NOT NULL, f.change DESC
    LIMIT 1000";

const FIRST_PASSWORD_OF: &str = "
    SELECT f.system, a.object
    FROM first_password f
    JOIN account a ON a.id = f.account
    WHERE f.change = ? AND f.shown_at IS NULL";

const FIRST_PASSWORD_KEPT: &str = "
    UPDATE first_password SET attempts = attempts + 1, tried_at = ?, error = ?
    WHERE change = ?";

const REVEAL_FIRST_PASSWORD: &str = "
    UPDATE first_password SET shown_at = ?, shown_to = ?, error = NULL
    WHERE change = ? AND shown_at IS NULL";

impl Store {
    /// The password of a change, if one was drawn: a change that is sent again sets the same.
    pub async fn first_password(
        &self,
        change: i64,
    ) -> Result<Option<Zeroizing<String>>, StoreError> {
        self.load_secret(OWNER, &change.to_string()).await
    }

    /// Seals a password that is about to be set.
    pub async fn seal_first_password(
        &self,
        change: i64,
        password: &str,
        now: Timestamp,
    ) -> Result<(), StoreError> {
        self.put_secret(OWNER, &change.to_string(), password, now)
            .await
    }

    /// Notes that a password was set, and on which account.
    pub async fn first_password_set(
        &self,
        change: i64,
        account: AccountId,
        of: &Change,
        now: Timestamp,
    ) -> Result<(), StoreError> {
        let identity = of.identity.clone();
        let (system, label) = (of.system.clone(), of.label.clone());
        self.writer
            .run(move |c| {
                Box::pin(async move {
                    sqlx::query(FIRST_PASSWORD_SET)
                        .bind(change)
                        .bind(account)
                        .bind(identity)
                        .bind(system)
                        .bind(label)
                        .bind(format_timestamp(now))
                        .execute(c)
                        .await?;
                    Ok(())
                })
            })
            .await
    }

    /// First passwords, those that wait first.
    pub async fn first_passwords(&self) -> Result<Vec<PasswordRow>, StoreError> {
        let rows = sqlx::query(FIRST_PASSWORDS).fetch_all(&self.reader).await?;
        Ok(rows
            .iter()
            .map(|row| PasswordRow {
                id: row.get("change"),
                identity: row.get("identity"),
                label: row.get("label"),
                system: row.get("system"),
                account: row.get("account_name"),
                created_at: row.get("created_at"),
                shown: row
                    .get::<Option<String>, _>("shown_at")
                    .zip(row.get::<Option<String>, _>("who")),
                attempts: row.get("attempts"),
                tried_at: row.get("tried_at"),
                error: row.get("error"),
            })
            .collect())
    }

    /// The system and type of the account whose first password this is. The rules about it decide
    /// who may see it.
    pub async fn first_password_of(&self, id: i64) -> Result<(String, ObjectType), StoreError> {
        let missing = || StoreError::Missing {
            what: "first password that was not shown yet",
            name: id.to_string(),
        };
        let row = sqlx::query(FIRST_PASSWORD_OF)
            .bind(id)
            .fetch_optional(&self.reader)
            .await?
            .ok_or_else(missing)?;
        let object = ObjectType::parse(row.get("object")).ok_or_else(missing)?;
        Ok((row.get("system"), object))
    }

    /// Notes that a password could not be handed over.
    pub async fn first_password_kept(
        &self,
        id: i64,
        error: &str,
        now: Timestamp,
    ) -> Result<(), StoreError> {
        let error = error.to_owned();
        self.writer
            .run(move |c| {
                Box::pin(async move {
                    sqlx::query(FIRST_PASSWORD_KEPT)
                        .bind(format_timestamp(now))
                        .bind(error)
                        .bind(id)
                        .execute(c)
                        .await?;
                    Ok(())
                })
            })
            .await
    }

    /// Decrypts a password, once: the access is journaled and the password is deleted.
    pub async fn reveal_first_password(
        &self,
        id: i64,
        principal: &str,
        now: Timestamp,
    ) -> Result<Zeroizing<String>, StoreError> {
        let missing = || StoreError::Missing {
            what: "first password that was not shown yet",
            name: id.to_string(),
        };
        let password = self.first_password(id).await?.ok_or_else(missing)?;
        let principal = principal.to_owned();
        let mine = self
            .writer
            .run(move |c| {
                Box::pin(async move {
                    // Two who ask at once: the second finds nothing left.
                    let done = sqlx::query(REVEAL_FIRST_PASSWORD)
                        .bind(format_timestamp(now))
                        .bind(&principal)
                        .bind(id)
                        .execute(&mut *c)
                        .await?;
                    if done.rows_affected() == 0 {
                        return Ok(false);
                    }
                    sqlx::query("DELETE FROM secret WHERE owner = ? AND field = ?")
                        .bind(OWNER)
                        .bind(id.to_string())
                        .execute(&mut *c)
                        .await?;
                    let identity: String =
                        sqlx::query_scalar("SELECT identity FROM first_password WHERE change = ?")
                            .bind(id)
                            .fetch_one(&mut *c)
                            .await?;
                    NewJournalEntry::new(&principal, "password.shown", &identity)
                        .append(c, now)
                        .await?;
                    Ok(true)
                })
            })
            .await?;
        if mine { Ok(password) } else { Err(missing()) }
    }
}
