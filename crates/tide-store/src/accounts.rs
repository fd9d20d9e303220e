//! Accounts as observed, and the readings that brought them.

use crate::{Store, StoreError, stamp, unstamp};
use jiff::Timestamp;
use sqlx::sqlite::SqliteRow;
use sqlx::{QueryBuilder, Row, Sqlite, SqliteConnection};
use tide_core::model::{AccountId, Observed};
use tide_core::{Account, Attributes, ObjectType, Value};

/// One enumeration of one type of one system.
#[derive(Debug, Clone)]
pub struct Reading {
    /// Its number.
    pub id: i64,
    /// The system.
    pub system: String,
    /// The type.
    pub object: String,
    /// `running`, `complete` or `broken`.
    pub state: String,
    /// How many accounts it showed.
    pub seen: i64,
    /// When it began.
    pub started: String,
    /// When it ended.
    pub ended: Option<String>,
    /// What broke it.
    pub error: Option<String>,
}

/// An account with what the lists show beside it.
#[derive(Debug, Clone)]
pub struct AccountRow {
    /// The account.
    pub account: Account,
    /// When it was last seen.
    pub seen: String,
    /// The identity it is linked to.
    pub identity: Option<String>,
}

pub(crate) fn read_account(row: &SqliteRow) -> Result<Account, StoreError> {
    Ok(Account {
        id: row.get("id"),
        system: row.get("system"),
        kind: ObjectType::from_word(row.get("object")).unwrap_or(ObjectType::Person),
        key: row.get("key"),
        name: row.get("name"),
        attributes: Attributes::from_blob(row.get("attributes"))?,
        absent_since: unstamp(row.get("absent_since")),
        fault: row.get("fault"),
    })
}

/// The most rows of one statement: nine values each, far below SQLite's limit.
const ROWS: usize = 200;

impl Store {
    /// Begins a reading.
    pub async fn begin_reading(&self, system: &str, object: ObjectType, now: Timestamp) -> Result<i64, StoreError> {
        let system = system.to_owned();
        self.writer
            .run(move |c| {
                Box::pin(async move {
                    let done = sqlx::query("INSERT INTO reading (system, object, started, state) VALUES (?,?,?,'running')")
                        .bind(system)
                        .bind(object.word())
                        .bind(stamp(now))
                        .execute(c)
                        .await?;
                    Ok(done.last_insert_rowid())
                })
            })
            .await
    }

    /// Keeps a batch of what a reading showed. What we wrote after the reading began is newer than
    /// what it shows, and stays.
    pub async fn observe(
        &self,
        reading: i64,
        system: &str,
        object: ObjectType,
        started: Timestamp,
        batch: Vec<Observed>,
    ) -> Result<(), StoreError> {
        let system = system.to_owned();
        self.writer
            .run(move |c| {
                Box::pin(async move {
                    for rows in batch.chunks(ROWS) {
                        upsert(c, reading, &system, object, started, rows).await?;
                    }
                    sqlx::query("UPDATE reading SET seen = seen + ? WHERE id = ?")
                        .bind(batch.len() as i64)
                        .bind(reading)
                        .execute(c)
                        .await?;
                    Ok(())
                })
            })
            .await
    }

    /// Ends a reading that enumerated everything: what it did not show is absent from now on.
    /// Returns how many accounts became absent.
    pub async fn complete_reading(&self, reading: i64, now: Timestamp) -> Result<u64, StoreError> {
        self.writer
            .run(move |c| {
                Box::pin(async move {
                    let absent = sqlx::query(
                        "UPDATE account SET absent_since = ? FROM reading r WHERE r.id = ? AND account.system = r.system
                         AND account.object = r.object AND account.absent_since IS NULL
                         AND coalesce(account.reading, 0) <> r.id AND coalesce(account.written, '') < r.started")
                        .bind(stamp(now)).bind(reading).execute(&mut *c).await?.rows_affected();
                    sqlx::query("UPDATE reading SET state = 'complete', ended = ? WHERE id = ?")
                        .bind(stamp(now)).bind(reading).execute(&mut *c).await?;
                    sqlx::query(
                        "UPDATE account_reference SET target = (SELECT t.id FROM account t, account s WHERE s.id = account_reference.account
                           AND t.system = s.system AND (t.key = account_reference.raw OR t.name = account_reference.raw))
                         WHERE target IS NULL AND account IN (SELECT a.id FROM account a, reading r WHERE r.id = ? AND a.system = r.system)")
                        .bind(reading).execute(c).await?;
                    Ok(absent)
                })
            })
            .await
    }

    /// Ends a reading that did not enumerate everything: nobody becomes absent by it.
    pub async fn break_reading(&self, reading: i64, error: &str, now: Timestamp) -> Result<(), StoreError> {
        let error = error.to_owned();
        self.writer
            .run(move |c| {
                Box::pin(async move {
                    sqlx::query("UPDATE reading SET state = 'broken', ended = ?, error = ? WHERE id = ?")
                        .bind(stamp(now))
                        .bind(error)
                        .bind(reading)
                        .execute(c)
                        .await?;
                    Ok(())
                })
            })
            .await
    }

    /// The last reading of each system and type.
    pub async fn last_readings(&self) -> Result<Vec<Reading>, StoreError> {
        let rows = sqlx::query("SELECT * FROM reading WHERE id IN (SELECT max(id) FROM reading GROUP BY system, object)")
            .fetch_all(&self.reader)
            .await?;
        Ok(rows
            .iter()
            .map(|row| Reading {
                id: row.get("id"),
                system: row.get("system"),
                object: row.get("object"),
                state: row.get("state"),
                seen: row.get("seen"),
                started: row.get("started"),
                ended: row.get("ended"),
                error: row.get("error"),
            })
            .collect())
    }

    /// How many accounts each system holds, and how many of them are linked.
    pub async fn account_counts(&self) -> Result<Vec<(String, i64, i64)>, StoreError> {
        let rows = sqlx::query(
            "SELECT a.system, count(*), count(l.id) FROM account a LEFT JOIN link l ON l.account = a.id AND l.ended IS NULL
             WHERE a.absent_since IS NULL GROUP BY a.system",
        )
        .fetch_all(&self.reader)
        .await?;
        Ok(rows.iter().map(|row| (row.get(0), row.get(1), row.get(2))).collect())
    }

    /// A page of a system's accounts by name, after a name, with a text in it.
    pub async fn accounts(&self, system: &str, search: &str, after: &str, limit: i64) -> Result<Vec<AccountRow>, StoreError> {
        let rows = sqlx::query(
            "SELECT a.*, l.identity AS linked FROM account a LEFT JOIN link l ON l.account = a.id AND l.ended IS NULL
             WHERE a.system = ? AND a.name > ? AND instr(lower(a.name), lower(?)) > 0 ORDER BY a.name LIMIT ?",
        )
        .bind(system)
        .bind(after)
        .bind(search)
        .bind(limit)
        .fetch_all(&self.reader)
        .await?;
        rows.iter().map(|row| Ok(AccountRow { account: read_account(row)?, seen: row.get("seen"), identity: row.get("linked") })).collect()
    }

    /// One account.
    pub async fn account(&self, id: AccountId) -> Result<Account, StoreError> {
        let row = sqlx::query("SELECT * FROM account WHERE id = ?").bind(id).fetch_optional(&self.reader).await?;
        read_account(&row.ok_or_else(|| StoreError::Missing { what: "account", name: id.to_string() })?)
    }
}

async fn upsert(
    c: &mut SqliteConnection,
    reading: i64,
    system: &str,
    object: ObjectType,
    started: Timestamp,
    rows: &[Observed],
) -> Result<(), StoreError> {
    let at = stamp(started);
    let mut query: QueryBuilder<Sqlite> =
        QueryBuilder::new("INSERT INTO account (system, object, key, name, attributes, hash, fault, first_seen, seen, reading) ");
    query.push_values(rows, |mut row, account| {
        row.push_bind(system.to_owned())
            .push_bind(object.word())
            .push_bind(account.key.clone())
            .push_bind(account.name.clone())
            .push_bind(account.attributes.to_blob())
            .push_bind(account.attributes.hash().to_be_bytes().to_vec())
            .push_bind(account.fault.clone())
            .push_bind(at.clone())
            .push_bind(at.clone())
            .push_bind(reading);
    });
    query.push(
        " ON CONFLICT (system, key) DO UPDATE SET reading = excluded.reading, seen = excluded.seen,
          name = CASE WHEN coalesce(account.written, '') < excluded.seen THEN excluded.name ELSE account.name END,
          attributes = CASE WHEN coalesce(account.written, '') < excluded.seen THEN excluded.attributes ELSE account.attributes END,
          hash = CASE WHEN coalesce(account.written, '') < excluded.seen THEN excluded.hash ELSE account.hash END,
          fault = excluded.fault, absent_since = NULL",
    );
    query.build().execute(&mut *c).await?;
    for account in rows {
        keep_references(c, system, object, account).await?;
    }
    Ok(())
}

/// References and memberships are rows, so that "who points at this?" is one look-up.
async fn keep_references(c: &mut SqliteConnection, system: &str, object: ObjectType, account: &Observed) -> Result<(), StoreError> {
    let pointing: Vec<(&str, &str)> = account
        .attributes
        .iter()
        .flat_map(|(name, values)| {
            values.iter().filter_map(move |v| match v {
                Value::Reference(raw) => Some((name, raw.as_str())),
                _ => None,
            })
        })
        .collect();
    let id: i64 = sqlx::query_scalar("SELECT id FROM account WHERE system = ? AND key = ?")
        .bind(system)
        .bind(&account.key)
        .fetch_one(&mut *c)
        .await?;
    sqlx::query("DELETE FROM account_reference WHERE account = ?").bind(id).execute(&mut *c).await?;
    for (name, raw) in &pointing {
        sqlx::query("INSERT INTO account_reference (account, attribute, raw) VALUES (?,?,?) ON CONFLICT DO NOTHING")
            .bind(id)
            .bind(*name)
            .bind(*raw)
            .execute(&mut *c)
            .await?;
    }
    if object == ObjectType::Group {
        sqlx::query("DELETE FROM membership WHERE group_account = ?").bind(id).execute(&mut *c).await?;
        for (_, raw) in pointing.iter().filter(|(name, _)| matches!(name.to_lowercase().as_str(), "member" | "uniquemember" | "members")) {
            sqlx::query("INSERT INTO membership (group_account, raw) VALUES (?,?) ON CONFLICT DO NOTHING")
                .bind(id)
                .bind(*raw)
                .execute(&mut *c)
                .await?;
        }
    }
    Ok(())
}
