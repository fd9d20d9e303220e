//! Granted roles.

use crate::journal::NewJournalEntry;
use crate::{Store, StoreError, format_timestamp};
use jiff::Timestamp;
use sqlx::sqlite::SqliteRow;
use sqlx::{Row, SqliteConnection};
use tide_core::model::RoleGrant;

/// A manual role assignment, with its reason.
#[derive(Debug, Clone)]
pub struct GrantRow {
    /// Its number.
    pub id: i64,
    /// The granted role.
    pub grant: RoleGrant,
    /// Why.
    pub comment: String,
}

fn read(row: &SqliteRow) -> RoleGrant {
    RoleGrant {
        identity: row.get("identity"),
        role: row.get("role"),
        from: crate::parse_timestamp(row.get("from_at")),
        until: crate::parse_timestamp(row.get("until_at")),
        principal: row.get("principal"),
    }
}

/// All grants, or those of some identities (a JSON list), the oldest first.
pub(crate) async fn load_role_grants(
    c: &mut SqliteConnection,
    only: Option<&str>,
) -> Result<Vec<RoleGrant>, StoreError> {
    let rows = match only {
        None => {
            sqlx::query("SELECT * FROM role_grant ORDER BY id")
                .fetch_all(&mut *c)
                .await?
        }
        Some(ids) => {
            let sql = "SELECT g.* FROM json_each(?) k CROSS JOIN role_grant g ON g.identity = k.value ORDER BY g.id";
            sqlx::query(sql).bind(ids).fetch_all(&mut *c).await?
        }
    };
    Ok(rows.iter().map(read).collect())
}

const END_WITH: &str = "
    UPDATE role_grant SET until_at = ?
    WHERE identity = ? AND (until_at IS NULL OR until_at > ?)";

/// A leaver loses granted roles: they do not return with the person.
pub(crate) async fn end_with(
    c: &mut SqliteConnection,
    identity: &str,
    now: Timestamp,
) -> Result<(), StoreError> {
    sqlx::query(END_WITH)
        .bind(format_timestamp(now))
        .bind(identity)
        .bind(format_timestamp(now))
        .execute(c)
        .await?;
    Ok(())
}

const GIVE_ROLE: &str = "
    INSERT INTO role_grant (identity, role, from_at, until_at, principal, comment, created_at)
    VALUES (?,?,?,?,?,?,?)";

const TAKE_ROLE: &str = "
    UPDATE role_grant SET until_at = ?
    WHERE identity = ? AND role = ? AND (until_at IS NULL OR until_at > ?)";

const ROLE_GRANTS: &str = "
    SELECT *
    FROM role_grant
    WHERE until_at IS NULL OR until_at > ?
    ORDER BY id";

impl Store {
    /// Assigns a role manually, with a journal entry.
    pub async fn give_role(
        &self,
        grant: RoleGrant,
        comment: &str,
        principal: &str,
        now: Timestamp,
    ) -> Result<(), StoreError> {
        let (comment, principal) = (comment.to_owned(), principal.to_owned());
        self.writer
            .run(move |c| {
                Box::pin(async move {
                    let known: Option<i64> =
                        sqlx::query_scalar("SELECT 1 FROM identity WHERE id = ?")
                            .bind(&grant.identity)
                            .fetch_optional(&mut *c)
                            .await?;
                    if known.is_none() {
                        return Err(StoreError::Missing {
                            what: "identity",
                            name: grant.identity,
                        });
                    }
                    sqlx::query(GIVE_ROLE)
                        .bind(&grant.identity)
                        .bind(&grant.role)
                        .bind(grant.from.map(format_timestamp))
                        .bind(grant.until.map(format_timestamp))
                        .bind(&grant.principal)
                        .bind(&comment)
                        .bind(format_timestamp(now))
                        .execute(&mut *c)
                        .await?;
                    let until = grant
                        .until
                        .map(|at| format!(" until {}", format_timestamp(at)))
                        .unwrap_or_default();
                    let detail = format!("{}{until}: {comment}", grant.role);
                    NewJournalEntry::new(&principal, "role.given", &grant.identity)
                        .detail(&detail)
                        .append(c, now)
                        .await
                })
            })
            .await
    }

    /// Removes a manual role assignment, with a journal entry.
    pub async fn take_role(
        &self,
        identity: &str,
        role: &str,
        principal: &str,
        now: Timestamp,
    ) -> Result<(), StoreError> {
        let (identity, role, principal) =
            (identity.to_owned(), role.to_owned(), principal.to_owned());
        self.writer
            .run(move |c| {
                Box::pin(async move {
                    let ended = sqlx::query(TAKE_ROLE)
                        .bind(format_timestamp(now))
                        .bind(&identity)
                        .bind(&role)
                        .bind(format_timestamp(now))
                        .execute(&mut *c)
                        .await?;
                    if ended.rows_affected() == 0 {
                        return Err(StoreError::Missing {
                            what: "grant by hand of the role",
                            name: role,
                        });
                    }
                    NewJournalEntry::new(&principal, "role.taken", &identity)
                        .detail(&role)
                        .append(c, now)
                        .await
                })
            })
            .await
    }

    /// Grants that have not ended, the oldest first.
    pub async fn role_grants(&self, now: Timestamp) -> Result<Vec<GrantRow>, StoreError> {
        let rows = sqlx::query(ROLE_GRANTS)
            .bind(format_timestamp(now))
            .fetch_all(&self.reader)
            .await?;
        Ok(rows
            .iter()
            .map(|row| GrantRow {
                id: row.get("id"),
                grant: read(row),
                comment: row.get("comment"),
            })
            .collect())
    }
}
