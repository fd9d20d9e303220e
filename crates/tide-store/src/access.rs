//! Who may act: principals, their tokens and their sessions. Only hashes are kept.

use crate::{Store, StoreError, stamp};
use jiff::Timestamp;
use sha2::{Digest, Sha256};
use sqlx::Row;

/// Who acts.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Principal {
    /// Its id.
    pub id: String,
    /// What people call it.
    pub name: String,
}

/// A session of the console.
#[derive(Debug, Clone)]
pub struct Session {
    /// Its id, which is no secret.
    pub id: String,
    /// Whose it is.
    pub principal: Principal,
}

fn hash(secret: &str) -> Vec<u8> {
    Sha256::digest(secret.as_bytes()).to_vec()
}

impl Store {
    /// True while nobody exists who could sign in.
    pub async fn has_no_operator(&self) -> Result<bool, StoreError> {
        let count: i64 = sqlx::query_scalar("SELECT count(*) FROM principal WHERE kind = 'operator'").fetch_one(&self.reader).await?;
        Ok(count == 0)
    }

    /// Adds a principal, with a token if one is given.
    pub async fn add_principal(&self, kind: &str, name: &str, token: Option<&str>, now: Timestamp) -> Result<Principal, StoreError> {
        let principal = Principal { id: uuid::Uuid::now_v7().to_string(), name: name.to_owned() };
        let (row, kind, hashed) = (principal.clone(), kind.to_owned(), token.map(hash));
        self.writer
            .run(move |c| {
                Box::pin(async move {
                    sqlx::query("INSERT INTO principal (id, kind, name, made) VALUES (?,?,?,?)")
                        .bind(&row.id)
                        .bind(kind)
                        .bind(&row.name)
                        .bind(stamp(now))
                        .execute(&mut *c)
                        .await?;
                    if let Some(hashed) = hashed {
                        sqlx::query("INSERT INTO token (id, principal, hash, made) VALUES (?,?,?,?)")
                            .bind(uuid::Uuid::now_v7().to_string())
                            .bind(&row.id)
                            .bind(hashed)
                            .bind(stamp(now))
                            .execute(c)
                            .await?;
                    }
                    Ok(())
                })
            })
            .await?;
        Ok(principal)
    }

    /// Whose token this is, if it is anybody's.
    pub async fn by_token(&self, token: &str, now: Timestamp) -> Result<Option<Principal>, StoreError> {
        let row = sqlx::query(
            "SELECT p.id, p.name FROM token t JOIN principal p ON p.id = t.principal
             WHERE t.hash = ? AND t.ended IS NULL AND p.ended IS NULL AND (t.expires IS NULL OR t.expires > ?)",
        )
        .bind(hash(token))
        .bind(stamp(now))
        .fetch_optional(&self.reader)
        .await?;
        Ok(row.map(|row| Principal { id: row.get(0), name: row.get(1) }))
    }

    /// Begins a session; only the hash of its secret is kept.
    pub async fn begin_session(
        &self,
        principal: &Principal,
        secret: &str,
        expires: Timestamp,
        now: Timestamp,
    ) -> Result<String, StoreError> {
        let id = uuid::Uuid::now_v7().to_string();
        let (row, principal, hashed) = (id.clone(), principal.id.clone(), hash(secret));
        self.writer
            .run(move |c| {
                Box::pin(async move {
                    sqlx::query("INSERT INTO session (id, principal, hash, made, expires) VALUES (?,?,?,?,?)")
                        .bind(row)
                        .bind(principal)
                        .bind(hashed)
                        .bind(stamp(now))
                        .bind(stamp(expires))
                        .execute(c)
                        .await?;
                    Ok(())
                })
            })
            .await?;
        Ok(id)
    }

    /// The session of a secret, while it lasts.
    pub async fn session(&self, secret: &str, now: Timestamp) -> Result<Option<Session>, StoreError> {
        let row = sqlx::query(
            "SELECT s.id, p.id, p.name FROM session s JOIN principal p ON p.id = s.principal
             WHERE s.hash = ? AND s.ended IS NULL AND p.ended IS NULL AND s.expires > ?",
        )
        .bind(hash(secret))
        .bind(stamp(now))
        .fetch_optional(&self.reader)
        .await?;
        Ok(row.map(|row| Session { id: row.get(0), principal: Principal { id: row.get(1), name: row.get(2) } }))
    }

    /// Is this session still good?
    pub async fn session_lasts(&self, id: &str, now: Timestamp) -> Result<bool, StoreError> {
        let count: i64 = sqlx::query_scalar("SELECT count(*) FROM session WHERE id = ? AND ended IS NULL AND expires > ?")
            .bind(id)
            .bind(stamp(now))
            .fetch_one(&self.reader)
            .await?;
        Ok(count > 0)
    }

    /// Ends a session.
    pub async fn end_session(&self, id: &str, now: Timestamp) -> Result<(), StoreError> {
        let id = id.to_owned();
        self.writer
            .run(move |c| {
                Box::pin(async move {
                    sqlx::query("UPDATE session SET ended = ? WHERE id = ? AND ended IS NULL").bind(stamp(now)).bind(id).execute(c).await?;
                    Ok(())
                })
            })
            .await
    }
}
