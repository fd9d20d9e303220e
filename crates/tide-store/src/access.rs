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
    /// `operator`, or `system` for one that calls us.
    pub kind: String,
}

/// A token, without itself.
#[derive(Debug, Clone)]
pub struct TokenRow {
    /// Its id, which is no secret.
    pub id: String,
    /// What it is for.
    pub label: String,
    /// When it was made.
    pub made: String,
    /// When it stops being good, if it does.
    pub expires: Option<String>,
    /// When it was taken back.
    pub ended: Option<String>,
    /// When it was last used.
    pub used: Option<String>,
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
        let principal = Principal { id: uuid::Uuid::now_v7().to_string(), name: name.to_owned(), kind: kind.to_owned() };
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
            "SELECT p.id, p.name, p.kind FROM token t JOIN principal p ON p.id = t.principal
             WHERE t.hash = ? AND t.ended IS NULL AND p.ended IS NULL AND (t.expires IS NULL OR t.expires > ?)",
        )
        .bind(hash(token))
        .bind(stamp(now))
        .fetch_optional(&self.reader)
        .await?;
        Ok(row.map(|row| Principal { id: row.get(0), name: row.get(1), kind: row.get(2) }))
    }

    /// Gives a system that calls us a token. Earlier ones stay good until they expire, so that there is
    /// no gap; with `earlier_until` they are given an end.
    pub async fn add_system_token(
        &self,
        system: &str,
        token: &str,
        label: &str,
        earlier_until: Option<Timestamp>,
        by: &str,
        now: Timestamp,
    ) -> Result<String, StoreError> {
        let id = uuid::Uuid::now_v7().to_string();
        let (row, name, hashed, label, by) = (id.clone(), system.to_owned(), hash(token), label.to_owned(), by.to_owned());
        self.writer
            .run(move |c| {
                Box::pin(async move {
                    let known: Option<String> = sqlx::query_scalar("SELECT id FROM principal WHERE kind = 'system' AND name = ?")
                        .bind(&name)
                        .fetch_optional(&mut *c)
                        .await?;
                    let principal = match known {
                        Some(id) => id,
                        None => {
                            let id = uuid::Uuid::now_v7().to_string();
                            sqlx::query("INSERT INTO principal (id, kind, name, made) VALUES (?,'system',?,?)")
                                .bind(&id)
                                .bind(&name)
                                .bind(stamp(now))
                                .execute(&mut *c)
                                .await?;
                            id
                        }
                    };
                    if let Some(until) = earlier_until {
                        sqlx::query(
                            "UPDATE token SET expires = ? WHERE principal = ? AND ended IS NULL AND (expires IS NULL OR expires > ?)",
                        )
                        .bind(stamp(until))
                        .bind(&principal)
                        .bind(stamp(until))
                        .execute(&mut *c)
                        .await?;
                    }
                    sqlx::query("INSERT INTO token (id, principal, hash, label, made) VALUES (?,?,?,?,?)")
                        .bind(&row)
                        .bind(&principal)
                        .bind(hashed)
                        .bind(&label)
                        .bind(stamp(now))
                        .execute(&mut *c)
                        .await?;
                    crate::journal::Entry::new(&by, "token.given", &name).detail(&label).append(c, now).await
                })
            })
            .await?;
        Ok(id)
    }

    /// The tokens of a system that calls us, newest first.
    pub async fn system_tokens(&self, system: &str) -> Result<Vec<TokenRow>, StoreError> {
        let rows = sqlx::query(
            "SELECT t.* FROM token t JOIN principal p ON p.id = t.principal WHERE p.kind = 'system' AND p.name = ? ORDER BY t.made DESC, t.id DESC",
        )
        .bind(system)
        .fetch_all(&self.reader)
        .await?;
        Ok(rows
            .iter()
            .map(|row| TokenRow {
                id: row.get("id"),
                label: row.get("label"),
                made: row.get("made"),
                expires: row.get("expires"),
                ended: row.get("ended"),
                used: row.get("used"),
            })
            .collect())
    }

    /// Takes a system's token back at once.
    pub async fn end_system_token(&self, system: &str, id: &str, by: &str, now: Timestamp) -> Result<bool, StoreError> {
        let (system, id, by) = (system.to_owned(), id.to_owned(), by.to_owned());
        self.writer
            .run(move |c| {
                Box::pin(async move {
                    let done = sqlx::query(
                        "UPDATE token SET ended = ? WHERE id = ? AND ended IS NULL
                         AND principal IN (SELECT id FROM principal WHERE kind = 'system' AND name = ?)",
                    )
                    .bind(stamp(now))
                    .bind(&id)
                    .bind(&system)
                    .execute(&mut *c)
                    .await?;
                    if done.rows_affected() > 0 {
                        crate::journal::Entry::new(&by, "token.ended", &system).append(c, now).await?;
                    }
                    Ok(done.rows_affected() > 0)
                })
            })
            .await
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
            "SELECT s.id, p.id, p.name, p.kind FROM session s JOIN principal p ON p.id = s.principal
             WHERE s.hash = ? AND s.ended IS NULL AND p.ended IS NULL AND s.expires > ?",
        )
        .bind(hash(secret))
        .bind(stamp(now))
        .fetch_optional(&self.reader)
        .await?;
        Ok(row.map(|row| Session { id: row.get(0), principal: Principal { id: row.get(1), name: row.get(2), kind: row.get(3) } }))
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
