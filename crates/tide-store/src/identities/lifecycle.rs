//! Departures that operators schedule, and how fast leavers lose access.

use crate::journal::NewJournalEntry;
use crate::{Store, StoreError, format_timestamp};
use jiff::Timestamp;
use sqlx::sqlite::SqliteRow;
use sqlx::{Row, SqliteConnection};
use std::collections::{BTreeMap, HashMap};
use tide_core::model::{AccountId, Departure, WriteHistory};
use tide_core::{Identity, Stage};

/// A leaver.
#[derive(Debug, Clone)]
pub struct LeaverRow {
    /// Their identity.
    pub identity: String,
    /// Their label.
    pub label: String,
    /// From when on their access was to be closed.
    pub started: Timestamp,
    /// When they came back, if they did.
    pub returned: Option<Timestamp>,
    /// When the last change of the departure was confirmed, if one was.
    pub confirmed: Option<Timestamp>,
    /// How many of its changes were confirmed.
    pub done: i64,
}

fn read_departure(row: &SqliteRow) -> Result<(String, Departure), StoreError> {
    let at = crate::parse_timestamp(row.get("at")).unwrap_or(Timestamp::MAX);
    Ok((
        row.get("identity"),
        Departure {
            at,
            principal: row.get("principal"),
            comment: row.get("comment"),
        },
    ))
}

/// All departures, or those of some identities (a JSON list).
pub(crate) async fn load_departures(
    c: &mut SqliteConnection,
    only: Option<&str>,
) -> Result<BTreeMap<String, Departure>, StoreError> {
    let rows = match only {
        None => {
            sqlx::query("SELECT * FROM departure")
                .fetch_all(&mut *c)
                .await?
        }
        Some(ids) => {
            let sql =
                "SELECT d.* FROM json_each(?) k CROSS JOIN departure d ON d.identity = k.value";
            sqlx::query(sql).bind(ids).fetch_all(&mut *c).await?
        }
    };
    rows.iter().map(read_departure).collect()
}

/// Reactivations of all identities, or of some (a JSON list).
pub(crate) async fn load_reactivations(
    c: &mut SqliteConnection,
    only: Option<&str>,
) -> Result<BTreeMap<String, Timestamp>, StoreError> {
    let rows = match only {
        None => {
            sqlx::query("SELECT identity, at FROM reactivation")
                .fetch_all(&mut *c)
                .await?
        }
        Some(ids) => {
            let sql = "SELECT c.identity, c.at FROM json_each(?) k CROSS JOIN reactivation c ON c.identity = k.value";
            sqlx::query(sql).bind(ids).fetch_all(&mut *c).await?
        }
    };
    Ok(rows
        .iter()
        .filter_map(|row| Some((row.get("identity"), crate::parse_timestamp(row.get("at"))?)))
        .collect())
}

/// Writes to accounts that cannot be seen in the accounts, of all or some (a JSON list).
pub(crate) async fn load_write_history(
    c: &mut SqliteConnection,
    only: Option<&str>,
) -> Result<HashMap<AccountId, WriteHistory>, StoreError> {
    const WHAT: &str = "c.account AS account, c.kind AS kind, max(c.settled_at) AS at";
    const DONE: &str = "c.state = 'done' AND c.kind IN ('password', 'delete')";
    let rows = match only {
        None => {
            let sql = format!(
                "SELECT {WHAT} FROM change c INDEXED BY change_acts WHERE {DONE} AND c.account IS NOT NULL GROUP BY c.account, c.kind"
            );
            sqlx::query(sqlx::AssertSqlSafe(sql))
                .fetch_all(&mut *c)
                .await?
        }
        Some(ids) => {
            let sql = format!(
                "SELECT {WHAT} FROM json_each(?) k CROSS JOIN change c ON c.account = k.value AND {DONE} GROUP BY c.account, c.kind"
            );
            sqlx::query(sqlx::AssertSqlSafe(sql))
                .bind(ids.to_owned())
                .fetch_all(&mut *c)
                .await?
        }
    };
    let mut all: HashMap<AccountId, WriteHistory> = HashMap::new();
    for row in &rows {
        let acts = all.entry(row.get("account")).or_default();
        let at = crate::parse_timestamp(row.get("at"));
        match row.get::<&str, _>("kind") {
            "delete" => acts.deleted = at,
            _ => acts.password = at,
        }
    }
    Ok(all)
}

const NOTE_RETURN: &str = "
    UPDATE leaver SET returned_at = ?
    WHERE identity = ? AND returned_at IS NULL";

const STORED_STAGES: &str = "
    SELECT i.id, i.stage, i.hash
    FROM json_each(?) k
    CROSS JOIN identity i ON i.id = k.value";

/// Records who leaves now and who has returned, before the identities are stored.
pub(crate) async fn note_leavers(
    c: &mut SqliteConnection,
    identities: &[(Identity, String)],
    now: Timestamp,
) -> Result<(), StoreError> {
    if identities.is_empty() {
        return Ok(());
    }
    let ids: Vec<&str> = identities.iter().map(|(one, _)| one.id.as_str()).collect();
    let stored: Vec<(String, String, Vec<u8>)> = sqlx::query_as(STORED_STAGES)
        .bind(serde_json::to_string(&ids)?)
        .fetch_all(&mut *c)
        .await?;
    let stored: HashMap<String, (String, Vec<u8>)> = stored
        .into_iter()
        .map(|(id, stage, hash)| (id, (stage, hash)))
        .collect();
    let left = Stage::Left.as_str();
    for (identity, label) in identities {
        // A person who is first seen as a leaver had no access through us.
        let Some((stage, hash)) = stored.get(&identity.id) else {
            continue;
        };
        if stage != left && identity.stage == Stage::Left {
            // A date that passed, or an absence: the moment is known. A value that changed: now is
            // when it was seen.
            let same = *hash == identity.attributes.hash().to_be_bytes();
            let started = identity
                .since
                .filter(|since| same && *since < now)
                .unwrap_or(now);
            sqlx::query("INSERT INTO leaver (identity, label, started_at) VALUES (?,?,?)")
                .bind(&identity.id)
                .bind(label)
                .bind(format_timestamp(started))
                .execute(&mut *c)
                .await?;
            crate::identities::roles::end_with(c, &identity.id, now).await?;
        } else if stage == left && identity.stage != Stage::Left {
            sqlx::query(NOTE_RETURN)
                .bind(format_timestamp(now))
                .bind(&identity.id)
                .execute(&mut *c)
                .await?;
        }
    }
    Ok(())
}

const ALL_DEPARTURES: &str = "
    SELECT d.*, i.label
    FROM departure d
    JOIN identity i ON i.id = d.identity
    ORDER BY d.at, i.label";

const SET_DEPARTURE: &str = "
    INSERT INTO departure (identity, at, principal, comment, created_at)
    VALUES (?,?,?,?,?)
    ON CONFLICT DO UPDATE SET at = excluded.at, principal = excluded.principal,
      comment = excluded.comment, created_at = excluded.created_at";

const INSERT_REACTIVATION: &str = "
    INSERT INTO reactivation (identity, at, principal)
    VALUES (?,?,?)
    ON CONFLICT DO UPDATE SET at = excluded.at, principal = excluded.principal";

const LIST_LEAVERS: &str = "
    SELECT l.identity, l.label, l.started_at, l.returned_at,
      (SELECT max(c.settled_at) FROM change c WHERE c.identity = l.identity
      AND c.state = 'done' AND c.settled_at >= l.started_at
      AND (l.returned_at IS NULL OR c.settled_at < l.returned_at)
      AND (c.step > 0 OR c.kind IN ('disable', 'delete', 'revoke'))) AS confirmed,
      (SELECT count(*) FROM change c WHERE c.identity = l.identity AND c.state = 'done'
      AND c.settled_at >= l.started_at
      AND (l.returned_at IS NULL OR c.settled_at < l.returned_at)
      AND (c.step > 0 OR c.kind IN ('disable', 'delete', 'revoke'))) AS done
    FROM leaver l
    ORDER BY l.started_at DESC, l.id DESC
    LIMIT ?";

impl Store {
    /// The departure of a person that an operator scheduled.
    pub async fn find_departure(&self, identity: &str) -> Result<Option<Departure>, StoreError> {
        let row = sqlx::query("SELECT * FROM departure WHERE identity = ?")
            .bind(identity)
            .fetch_optional(&self.reader)
            .await?;
        Ok(row
            .as_ref()
            .map(read_departure)
            .transpose()?
            .map(|(_, departure)| departure))
    }

    /// Departures that operators requested, the next first, each with the person's label.
    pub async fn all_departures(&self) -> Result<Vec<(String, String, Departure)>, StoreError> {
        let rows = sqlx::query(ALL_DEPARTURES).fetch_all(&self.reader).await?;
        rows.iter()
            .map(|row| {
                let (identity, departure) = read_departure(row)?;
                Ok((identity, row.get("label"), departure))
            })
            .collect()
    }

    /// Stores or deletes the departure of a person. Journaled.
    pub async fn set_departure(
        &self,
        identity: &str,
        departure: Option<Departure>,
        principal: &str,
        now: Timestamp,
    ) -> Result<(), StoreError> {
        let (identity, principal) = (identity.to_owned(), principal.to_owned());
        self.writer
            .run(move |c| {
                Box::pin(async move {
                    let known: Option<i64> =
                        sqlx::query_scalar("SELECT 1 FROM identity WHERE id = ?")
                            .bind(&identity)
                            .fetch_optional(&mut *c)
                            .await?;
                    if known.is_none() {
                        return Err(StoreError::Missing {
                            what: "identity",
                            name: identity,
                        });
                    }
                    let (act, detail) = match &departure {
                        Some(one) => {
                            sqlx::query(SET_DEPARTURE)
                                .bind(&identity)
                                .bind(format_timestamp(one.at))
                                .bind(&one.principal)
                                .bind(&one.comment)
                                .bind(format_timestamp(now))
                                .execute(&mut *c)
                                .await?;
                            (
                                "departure.set",
                                format!("leaves at {}: {}", format_timestamp(one.at), one.comment),
                            )
                        }
                        None => {
                            let gone = sqlx::query("DELETE FROM departure WHERE identity = ?")
                                .bind(&identity)
                                .execute(&mut *c)
                                .await?;
                            if gone.rows_affected() == 0 {
                                return Err(StoreError::Missing {
                                    what: "departure of",
                                    name: identity,
                                });
                            }
                            ("departure.cancelled", String::new())
                        }
                    };
                    NewJournalEntry::new(&principal, act, &identity)
                        .detail(&detail)
                        .append(c, now)
                        .await
                })
            })
            .await
    }

    /// Stores that an inactive person is reactivated. Journaled.
    pub async fn reactivate(
        &self,
        identity: &str,
        principal: &str,
        now: Timestamp,
    ) -> Result<(), StoreError> {
        let (identity, principal) = (identity.to_owned(), principal.to_owned());
        self.writer
            .run(move |c| {
                Box::pin(async move {
                    sqlx::query(INSERT_REACTIVATION)
                        .bind(&identity)
                        .bind(format_timestamp(now))
                        .bind(&principal)
                        .execute(&mut *c)
                        .await?;
                    NewJournalEntry::new(&principal, "departure.claimed_back", &identity)
                        .append(c, now)
                        .await
                })
            })
            .await
    }

    /// The identity of an account.
    pub async fn owner_of(&self, account: AccountId) -> Result<Option<String>, StoreError> {
        let sql = "SELECT identity FROM link WHERE account = ? AND ended_at IS NULL";
        Ok(sqlx::query_scalar(sql)
            .bind(account)
            .fetch_optional(&self.reader)
            .await?)
    }

    /// The accounts that are linked to an identity.
    pub async fn accounts_of(&self, identity: &str) -> Result<Vec<AccountId>, StoreError> {
        let sql =
            "SELECT account FROM link WHERE identity = ? AND ended_at IS NULL ORDER BY account";
        Ok(sqlx::query_scalar(sql)
            .bind(identity)
            .fetch_all(&self.reader)
            .await?)
    }

    /// Leavers, the most recent first.
    pub async fn list_leavers(&self, limit: i64) -> Result<Vec<LeaverRow>, StoreError> {
        let rows = sqlx::query(LIST_LEAVERS)
            .bind(limit)
            .fetch_all(&self.reader)
            .await?;
        Ok(rows
            .iter()
            .map(|row| LeaverRow {
                identity: row.get("identity"),
                label: row.get("label"),
                started: crate::parse_timestamp(row.get("started_at")).unwrap_or_default(),
                returned: crate::parse_timestamp(row.get("returned_at")),
                confirmed: crate::parse_timestamp(row.get("confirmed")),
                done: row.get("done"),
            })
            .collect())
    }
}
