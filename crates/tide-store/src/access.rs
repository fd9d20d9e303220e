//! Access: principals, their tokens and their sessions. Only hashes are stored.

use crate::{Store, StoreError, format_timestamp};
use jiff::Timestamp;
use sha2::{Digest, Sha256};
use tide_core::states::PrincipalKind;

/// The actor.
#[derive(Debug, Clone, PartialEq, Eq, sqlx::FromRow)]
pub struct Principal {
    /// Its id.
    pub id: String,
    /// Its label.
    pub name: String,
    /// Which kind of principal it is.
    #[sqlx(try_from = "String")]
    pub kind: PrincipalKind,
}

/// A valid token and its owner.
#[derive(Debug, Clone, PartialEq, Eq, sqlx::FromRow)]
pub struct Bearer {
    /// Its owner.
    #[sqlx(flatten)]
    pub principal: Principal,
    /// The token's id, which is no secret.
    pub token: String,
}

/// A token to store. Only its hash is stored.
pub struct NewTokenRow<'t> {
    /// An operator, or a system that calls us.
    pub kind: PrincipalKind,
    /// The name of its owner.
    pub name: &'t str,
    /// The token itself.
    pub token: &'t str,
    /// Its purpose.
    pub label: &'t str,
    /// When it stops being good, if it does.
    pub expires: Option<Timestamp>,
    /// When earlier ones stop being good; none leaves them as they are.
    pub earlier_until: Option<Timestamp>,
}

/// A token, without itself.
#[derive(Debug, Clone, sqlx::FromRow)]
pub struct TokenRow {
    /// Its id, which is no secret.
    pub id: String,
    /// Its purpose.
    pub label: String,
    /// When it was created.
    pub created_at: String,
    /// When it stops being good, if it does.
    pub expires_at: Option<String>,
    /// When it was revoked.
    pub ended_at: Option<String>,
    /// When it was last used.
    pub used_at: Option<String>,
}

/// A session of the console.
#[derive(Debug, Clone, sqlx::FromRow)]
pub struct Session {
    /// Its id, which is no secret.
    #[sqlx(rename = "session")]
    pub id: String,
    /// Its owner.
    #[sqlx(flatten)]
    pub principal: Principal,
}

fn hash(secret: &str) -> Vec<u8> {
    Sha256::digest(secret.as_bytes()).to_vec()
}

const BY_TOKEN: &str = "
    SELECT p.id, p.name, p.kind, t.id AS token
    FROM token t
    JOIN principal p ON p.id = t.principal
    WHERE t.hash = ? AND t.ended_at IS NULL AND p.ended_at IS NULL
      AND (t.expires_at IS NULL OR t.expires_at > ?)";

const TOKEN_LASTS: &str = "
    SELECT count(*)
    FROM token t
    JOIN principal p ON p.id = t.principal
    WHERE t.id = ? AND t.ended_at IS NULL AND p.ended_at IS NULL
      AND (t.expires_at IS NULL OR t.expires_at > ?)";

const SELECT_PRINCIPAL: &str = "
    SELECT id
    FROM principal
    WHERE kind = ? AND name = ? AND ended_at IS NULL";

const UPDATE_TOKEN: &str = "
    UPDATE token SET expires_at = ?
    WHERE principal = ? AND ended_at IS NULL AND (expires_at IS NULL OR expires_at > ?)";

const INSERT_TOKEN: &str = "
    INSERT INTO token (id, principal, hash, label, created_at, expires_at)
    VALUES (?,?,?,?,?,?)";

const LIST_TOKENS: &str = "
    SELECT t.*
    FROM token t
    JOIN principal p ON p.id = t.principal
    WHERE p.kind = ? AND p.name = ? AND p.ended_at IS NULL
    ORDER BY t.created_at DESC, t.id DESC";

const END_TOKEN: &str = "
    UPDATE token SET ended_at = ?
    WHERE id = ? AND ended_at IS NULL
      AND principal IN (SELECT id FROM principal WHERE kind = ? AND name = ?)";

const BEGIN_SESSION: &str = "
    INSERT INTO session (id, principal, token, hash, created_at, expires_at)
    VALUES (?,?,?,?,?,?)";

const FIND_SESSION: &str = "
    SELECT p.id, p.name, p.kind, s.id AS session
    FROM session s
    JOIN principal p ON p.id = s.principal
    JOIN token t ON t.id = s.token
    WHERE s.hash = ? AND s.ended_at IS NULL AND s.expires_at > ? AND p.ended_at IS NULL
      AND t.ended_at IS NULL AND (t.expires_at IS NULL OR t.expires_at > ?)";

const SESSION_LASTS: &str = "
    SELECT count(*)
    FROM session s
    JOIN principal p ON p.id = s.principal
    JOIN token t ON t.id = s.token
    WHERE s.id = ? AND s.ended_at IS NULL AND s.expires_at > ? AND p.ended_at IS NULL
      AND t.ended_at IS NULL AND (t.expires_at IS NULL OR t.expires_at > ?)";

impl Store {
    /// Whether there is no operator yet.
    pub async fn has_no_operator(&self) -> Result<bool, StoreError> {
        let count: i64 =
            sqlx::query_scalar("SELECT count(*) FROM principal WHERE kind = 'operator'")
                .fetch_one(&self.reader)
                .await?;
        Ok(count == 0)
    }

    /// Adds a principal, with a token if one is given.
    pub async fn add_principal(
        &self,
        kind: PrincipalKind,
        name: &str,
        token: Option<&str>,
        now: Timestamp,
    ) -> Result<Principal, StoreError> {
        let principal = Principal {
            id: uuid::Uuid::now_v7().to_string(),
            name: name.to_owned(),
            kind,
        };
        let (row, hashed) = (principal.clone(), token.map(hash));
        self.writer
            .run(move |c| {
                Box::pin(async move {
                    sqlx::query(
                        "INSERT INTO principal (id, kind, name, created_at) VALUES (?,?,?,?)",
                    )
                    .bind(&row.id)
                    .bind(kind.as_str())
                    .bind(&row.name)
                    .bind(format_timestamp(now))
                    .execute(&mut *c)
                    .await?;
                    if let Some(hashed) = hashed {
                        sqlx::query(
                            "INSERT INTO token (id, principal, hash, created_at) VALUES (?,?,?,?)",
                        )
                        .bind(uuid::Uuid::now_v7().to_string())
                        .bind(&row.id)
                        .bind(hashed)
                        .bind(format_timestamp(now))
                        .execute(c)
                        .await?;
                    }
                    Ok(())
                })
            })
            .await?;
        Ok(principal)
    }

    /// The owner of a token, if it is valid.
    pub async fn by_token(
        &self,
        token: &str,
        now: Timestamp,
    ) -> Result<Option<Bearer>, StoreError> {
        Ok(sqlx::query_as(BY_TOKEN)
            .bind(hash(token))
            .bind(format_timestamp(now))
            .fetch_optional(&self.reader)
            .await?)
    }

    /// Whether this token is still valid.
    pub async fn token_lasts(&self, id: &str, now: Timestamp) -> Result<bool, StoreError> {
        let count: i64 = sqlx::query_scalar(TOKEN_LASTS)
            .bind(id)
            .bind(format_timestamp(now))
            .fetch_one(&self.reader)
            .await?;
        Ok(count > 0)
    }

    /// Stores a token. A system without one becomes a principal by it; an operator must already
    /// be one. Earlier tokens stay valid until they expire, so that there is no gap;
    /// `earlier_until` sets their expiry.
    pub async fn add_token(
        &self,
        new: NewTokenRow<'_>,
        by: &str,
        now: Timestamp,
    ) -> Result<String, StoreError> {
        let id = uuid::Uuid::now_v7().to_string();
        let (row, kind, name, hashed, label) = (
            id.clone(),
            new.kind,
            new.name.to_owned(),
            hash(new.token),
            new.label.to_owned(),
        );
        let (expires, earlier_until, by) = (
            new.expires.map(format_timestamp),
            new.earlier_until.map(format_timestamp),
            by.to_owned(),
        );
        self.writer
            .run(move |c| {
                Box::pin(async move {
                    let known: Option<String> =
                        sqlx::query_scalar(SELECT_PRINCIPAL)
                            .bind(kind.as_str())
                            .bind(&name)
                            .fetch_optional(&mut *c)
                            .await?;
                    let principal = match known {
                        Some(id) => id,
                        None if kind == PrincipalKind::Operator => return Err(StoreError::Missing { what: "operator", name }),
                        None => {
                            let id = uuid::Uuid::now_v7().to_string();
                            sqlx::query("INSERT INTO principal (id, kind, name, created_at) VALUES (?,?,?,?)")
                                .bind(&id)
                                .bind(kind.as_str())
                                .bind(&name)
                                .bind(format_timestamp(now))
                                .execute(&mut *c)
                                .await?;
                            id
                        }
                    };
                    if let Some(until) = earlier_until {
                        sqlx::query(UPDATE_TOKEN)
                        .bind(&until)
                        .bind(&principal)
                        .bind(&until)
                        .execute(&mut *c)
                        .await?;
                    }
                    sqlx::query(INSERT_TOKEN)
                        .bind(&row)
                        .bind(&principal)
                        .bind(hashed)
                        .bind(&label)
                        .bind(format_timestamp(now))
                        .bind(&expires)
                        .execute(&mut *c)
                        .await?;
                    crate::journal::NewJournalEntry::new(&by, "token.given", &name).detail(&label).append(c, now).await
                })
            })
            .await?;
        Ok(id)
    }

    /// The tokens of an operator or of a system that calls us, newest first.
    pub async fn list_tokens(
        &self,
        kind: PrincipalKind,
        name: &str,
    ) -> Result<Vec<TokenRow>, StoreError> {
        Ok(sqlx::query_as(LIST_TOKENS)
            .bind(kind.as_str())
            .bind(name)
            .fetch_all(&self.reader)
            .await?)
    }

    /// Revokes a token immediately and ends the sessions that were started with it. False if
    /// there is no such token or it had expired.
    pub async fn end_token(
        &self,
        kind: PrincipalKind,
        name: &str,
        id: &str,
        by: &str,
        now: Timestamp,
    ) -> Result<bool, StoreError> {
        let (name, id, by) = (name.to_owned(), id.to_owned(), by.to_owned());
        self.writer
            .run(move |c| {
                Box::pin(async move {
                    let done = sqlx::query(END_TOKEN)
                        .bind(format_timestamp(now))
                        .bind(&id)
                        .bind(kind.as_str())
                        .bind(&name)
                        .execute(&mut *c)
                        .await?;
                    if done.rows_affected() == 0 {
                        return Ok(false);
                    }
                    sqlx::query(
                        "UPDATE session SET ended_at = ? WHERE token = ? AND ended_at IS NULL",
                    )
                    .bind(format_timestamp(now))
                    .bind(&id)
                    .execute(&mut *c)
                    .await?;
                    crate::journal::NewJournalEntry::new(&by, "token.ended", &name)
                        .append(c, now)
                        .await?;
                    Ok(true)
                })
            })
            .await
    }

    /// Starts a session, of which only the hash of its secret is stored. It lasts no longer than
    /// the token.
    pub async fn begin_session(
        &self,
        bearer: &Bearer,
        secret: &str,
        expires: Timestamp,
        now: Timestamp,
    ) -> Result<String, StoreError> {
        let id = uuid::Uuid::now_v7().to_string();
        let (row, bearer, hashed) = (id.clone(), bearer.clone(), hash(secret));
        self.writer
            .run(move |c| {
                Box::pin(async move {
                    sqlx::query(BEGIN_SESSION)
                        .bind(row)
                        .bind(bearer.principal.id)
                        .bind(bearer.token)
                        .bind(hashed)
                        .bind(format_timestamp(now))
                        .bind(format_timestamp(expires))
                        .execute(c)
                        .await?;
                    Ok(())
                })
            })
            .await?;
        Ok(id)
    }

    /// Finds the session of a secret while it is valid. `browsers_now` is the time by which
    /// sessions of browsers end, `now` the time for tokens.
    pub async fn find_session(
        &self,
        secret: &str,
        browsers_now: Timestamp,
        now: Timestamp,
    ) -> Result<Option<Session>, StoreError> {
        Ok(sqlx::query_as(FIND_SESSION)
            .bind(hash(secret))
            .bind(format_timestamp(browsers_now))
            .bind(format_timestamp(now))
            .fetch_optional(&self.reader)
            .await?)
    }

    /// Whether this session is still valid.
    pub async fn session_lasts(
        &self,
        id: &str,
        browsers_now: Timestamp,
        now: Timestamp,
    ) -> Result<bool, StoreError> {
        let count: i64 = sqlx::query_scalar(SESSION_LASTS)
            .bind(id)
            .bind(format_timestamp(browsers_now))
            .bind(format_timestamp(now))
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
                    sqlx::query(
                        "UPDATE session SET ended_at = ? WHERE id = ? AND ended_at IS NULL",
                    )
                    .bind(format_timestamp(now))
                    .bind(id)
                    .execute(c)
                    .await?;
                    Ok(())
                })
            })
            .await
    }
}
