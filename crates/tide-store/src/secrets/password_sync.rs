//! Passwords that are synchronized: sealed until all systems have them.

use crate::journal::NewJournalEntry;
use crate::{Store, StoreError, format_timestamp};
use jiff::Timestamp;
use sqlx::sqlite::SqliteRow;
use sqlx::{Row, SqliteConnection};
use std::collections::BTreeMap;
use tide_core::model::{AccountId, PendingPassword};
use zeroize::Zeroizing;

/// The owner under which such passwords are sealed; the field is their number.
const OWNER: &str = "password";

/// A password that was set, without the password.
#[derive(Debug, Clone)]
pub struct PasswordSetRow {
    /// The password set, as a decision needs it.
    pub set: PendingPassword,
    /// The system that it came from; empty when an operator set it.
    pub origin: String,
    /// The principal who set it.
    pub principal: String,
    /// When no more was to be done for it, and how it ended.
    pub ended: Option<(String, String)>,
}

fn read(row: &SqliteRow) -> PendingPassword {
    PendingPassword {
        id: row.get("id"),
        identity: row.get("identity"),
        account: row.get("account"),
        created_at: crate::parse_timestamp(row.get("created_at")).unwrap_or(Timestamp::MIN),
        must_change: row.get("must_change"),
    }
}

/// Passwords that are on their way: all, or those of some identities and accounts (JSON lists).
pub(crate) async fn load_pending(
    c: &mut SqliteConnection,
    only: Option<(&str, &str)>,
) -> Result<Vec<PendingPassword>, StoreError> {
    let rows = match only {
        None => {
            sqlx::query("SELECT * FROM password_set WHERE ended_at IS NULL ORDER BY id")
                .fetch_all(&mut *c)
                .await?
        }
        Some((accounts, identities)) => {
            let sql = "SELECT p.* FROM password_set p WHERE p.ended_at IS NULL AND (p.account IN (SELECT value FROM json_each(?))
                       OR p.identity IN (SELECT value FROM json_each(?))) ORDER BY p.id";
            sqlx::query(sql)
                .bind(accounts.to_owned())
                .bind(identities.to_owned())
                .fetch_all(&mut *c)
                .await?
        }
    };
    Ok(rows.iter().map(read).collect())
}

/// The owner of the password.
#[derive(Debug, Clone, Copy)]
pub enum PasswordOwner<'a> {
    /// That of an identity.
    Identity(&'a str),
    /// That of the identity of the account at which it was set, whether or not it is known yet.
    Account(AccountId),
}

/// A password to set in all systems with password sync.
#[derive(Clone, Copy)]
pub struct NewPassword<'a> {
    /// Its owner.
    pub owner: PasswordOwner<'a>,
    /// The password. It is stored sealed.
    pub password: &'a str,
    /// Whether it must be changed at the next sign-in.
    pub must_change: bool,
    /// The system that reported it; empty if an operator set it.
    pub origin: &'a str,
}

const SET_PASSWORD: &str = "
    INSERT INTO password_set (identity, account, origin, seal, must_change, principal,
      created_at)
    VALUES (?,?,?,?,?,?,?)
    RETURNING id";

const DELETE_SECRET: &str = "
    DELETE FROM secret
    WHERE owner = ? AND field = (SELECT seal FROM password_set WHERE id = ?)";

const UPDATE_PASSWORD_SET: &str = "
    UPDATE password_set SET ended_at = ?, outcome = ?
    WHERE id = ? AND ended_at IS NULL";

impl Store {
    /// Seals a password for all accounts of a person. Journaled.
    pub async fn set_password(
        &self,
        new: NewPassword<'_>,
        principal: &str,
        now: Timestamp,
    ) -> Result<i64, StoreError> {
        let (identity, account) = match new.owner {
            PasswordOwner::Identity(identity) => (Some(identity.to_owned()), None),
            PasswordOwner::Account(account) => (None, Some(account)),
        };
        let must_change = new.must_change;
        let (origin, by) = (new.origin.to_owned(), principal.to_owned());
        let seal = format!("{:032x}", rand::random::<u128>());
        // Sealed first: what is noted and cannot be sent would wait for ever.
        self.put_secret(OWNER, &seal, new.password, now).await?;
        self.writer
            .run(move |c| {
                Box::pin(async move {
                    let id: i64 = sqlx::query_scalar(SET_PASSWORD)
                        .bind(&identity)
                        .bind(account)
                        .bind(&origin)
                        .bind(&seal)
                        .bind(must_change)
                        .bind(&by)
                        .bind(format_timestamp(now))
                        .fetch_one(&mut *c)
                        .await?;
                    let subject = identity
                        .unwrap_or_else(|| format!("account {}", account.unwrap_or_default()));
                    NewJournalEntry::new(&by, "password.set", &subject)
                        .detail("to be set in all linked accounts")
                        .append(c, now)
                        .await?;
                    Ok(id)
                })
            })
            .await
    }

    /// The password itself, while it is pending.
    pub async fn password_on_its_way(
        &self,
        id: i64,
    ) -> Result<Option<Zeroizing<String>>, StoreError> {
        let sql = "SELECT seal FROM password_set WHERE id = ? AND ended_at IS NULL";
        let seal: Option<String> = sqlx::query_scalar(sql)
            .bind(id)
            .fetch_optional(&self.reader)
            .await?;
        match seal {
            Some(seal) => self.load_secret(OWNER, &seal).await,
            None => Ok(None),
        }
    }

    /// The last pending password of a person, set for them or at one of their accounts.
    pub async fn password_for(
        &self,
        identity: &str,
    ) -> Result<Option<Zeroizing<String>>, StoreError> {
        let sql = "SELECT p.id FROM password_set p LEFT JOIN link l ON l.account = p.account AND l.ended_at IS NULL
                   WHERE p.ended_at IS NULL AND coalesce(p.identity, l.identity) = ? ORDER BY p.id DESC LIMIT 1";
        let id: Option<i64> = sqlx::query_scalar(sql)
            .bind(identity)
            .fetch_optional(&self.reader)
            .await?;
        match id {
            Some(id) => self.password_on_its_way(id).await,
            None => Ok(None),
        }
    }

    /// Passwords that are on their way.
    pub async fn passwords_on_their_way(&self) -> Result<Vec<PendingPassword>, StoreError> {
        let mut tx = self.reader.begin().await?;
        load_pending(&mut tx, None).await
    }

    /// Passwords that were set, the newest first.
    pub async fn passwords_set(
        &self,
        identity: Option<&str>,
    ) -> Result<Vec<PasswordSetRow>, StoreError> {
        let sql = "SELECT p.*, coalesce(p.identity, l.identity) AS whose FROM password_set p
                   LEFT JOIN link l ON l.account = p.account AND l.ended_at IS NULL
                   WHERE ?1 IS NULL OR coalesce(p.identity, l.identity) = ?1 ORDER BY p.id DESC LIMIT 200";
        let rows = sqlx::query(sql)
            .bind(identity)
            .fetch_all(&self.reader)
            .await?;
        Ok(rows
            .iter()
            .map(|row| PasswordSetRow {
                set: PendingPassword {
                    identity: row.get("whose"),
                    ..read(row)
                },
                origin: row.get("origin"),
                principal: row.get("principal"),
                ended: row
                    .get::<Option<String>, _>("ended_at")
                    .zip(row.get::<Option<String>, _>("outcome")),
            })
            .collect())
    }

    /// The last answers of systems that rejected a password of a person since a moment.
    pub async fn password_refusals(
        &self,
        identity: &str,
        since: Timestamp,
    ) -> Result<BTreeMap<String, String>, StoreError> {
        let sql = "SELECT system, error FROM change WHERE identity = ? AND kind = 'password' AND state = 'failed' AND settled_at >= ?
                   AND error IS NOT NULL ORDER BY id";
        let rows: Vec<(String, String)> = sqlx::query_as(sql)
            .bind(identity)
            .bind(format_timestamp(since))
            .fetch_all(&self.reader)
            .await?;
        Ok(rows.into_iter().collect())
    }

    /// Nothing more is done for a password: it is erased.
    pub async fn end_password(
        &self,
        id: i64,
        outcome: &str,
        now: Timestamp,
    ) -> Result<(), StoreError> {
        let outcome = outcome.to_owned();
        self.writer
            .run(move |c| {
                Box::pin(async move {
                    sqlx::query(DELETE_SECRET)
                        .bind(OWNER)
                        .bind(id)
                        .execute(&mut *c)
                        .await?;
                    sqlx::query(UPDATE_PASSWORD_SET)
                        .bind(format_timestamp(now))
                        .bind(&outcome)
                        .bind(id)
                        .execute(c)
                        .await?;
                    Ok(())
                })
            })
            .await
    }
}
