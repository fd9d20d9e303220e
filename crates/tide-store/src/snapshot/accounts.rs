//! Observed accounts, and the reads that observed them.

use crate::{Store, StoreError, format_timestamp, parse_timestamp};
use jiff::Timestamp;
use sqlx::sqlite::SqliteRow;
use sqlx::{Row, SqliteConnection};
use std::collections::HashMap;
use tide_core::model::{AccountId, Observed};
use tide_core::states::ReadState;
use tide_core::{Account, Attributes, ObjectType};

/// A read of one type of a system.
#[derive(Debug, Clone, sqlx::FromRow)]
pub struct Reading {
    /// Its number.
    pub id: i64,
    /// The system.
    pub system: String,
    /// The type.
    #[sqlx(try_from = "String")]
    pub object: ObjectType,
    /// Its state.
    #[sqlx(try_from = "String")]
    pub state: ReadState,
    /// The number of accounts that it has seen.
    #[sqlx(rename = "object_count")]
    pub seen: i64,
    /// When it began.
    pub started_at: String,
    /// When it ended.
    pub ended_at: Option<String>,
    /// The error that ended it.
    pub error: Option<String>,
    /// The number of rows in quarantine.
    pub quarantined: i64,
}

/// A complete read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WholeReading {
    /// The system.
    pub system: String,
    /// The type.
    pub object: ObjectType,
    /// When it began.
    pub started: Timestamp,
    /// When it ended.
    pub ended: Timestamp,
    /// A backup was restored since, so the data may be outdated.
    pub outdated: bool,
}

/// A row of a feed in quarantine.
#[derive(Debug, Clone, PartialEq, Eq, sqlx::FromRow)]
pub struct QuarantineRow {
    /// The line on which it begins.
    pub line: i64,
    /// What is wrong with it.
    pub reason: String,
    /// The row.
    pub raw: String,
    /// Its key, if it is readable.
    pub key: Option<String>,
}

/// An account, with data for lists.
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
        kind: ObjectType::parse(row.get("object")).unwrap_or(ObjectType::Person),
        key: row.get("key"),
        name: row.get("name"),
        attributes: Attributes::from_blob(row.get("attributes"))?,
        absent_since: parse_timestamp(row.get("absent_since")),
        absence_confirmed: row.get("absence_confirmed"),
        fault: row.get("fault"),
    })
}

/// SQL condition: accounts that the read `r` did not see although they existed when it began, and
/// that were not written since. An account that a later read has seen is not missing from an
/// earlier one that ends after it.
const MISSING: &str =
    "account.system = r.system AND account.object = r.object AND account.absent_since IS NULL
     AND coalesce(account.full_read, 0) < r.id AND coalesce(account.written_at, '') < r.started_at";

/// Accounts that a read did not see although they existed.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Missing {
    /// Their number.
    pub count: usize,
    /// The number of existing accounts, including these.
    pub known: usize,
    /// The keys of the first ones.
    pub keys: Vec<String>,
}

/// Maximum number of rows in one statement: nine values each, far below SQLite's limit.
pub(crate) const ROWS: usize = 200;

const BEGIN_READING: &str = "
    INSERT INTO full_read (system, object, started_at, state)
    VALUES (?,?,?,'running')";

const STORE_BATCH: &str = "
    SELECT EXISTS (SELECT 1 FROM full_read WHERE system = ? AND id < ? AND object_count > 0)";

const INSERT_QUARANTINE: &str = "
    INSERT INTO quarantine (full_read, line, reason, raw, key)
    VALUES (?,?,?,?,?)";

const UPDATE_ACCOUNT: &str = "
    UPDATE account SET full_read = max(coalesce(account.full_read, 0), ?)
    FROM full_read r
    WHERE r.id = ? AND account.system = r.system
      AND account.key IN (SELECT key FROM quarantine WHERE full_read = r.id AND key IS NOT NULL)";

const LIST_QUARANTINE: &str = "
    SELECT *
    FROM quarantine
    WHERE full_read = (SELECT max(id) FROM full_read WHERE system = ?
      AND state <> 'running' AND object_count + quarantined > 0)
    ORDER BY line";

const WHOLE_READINGS: &str = "
    SELECT system, object, state, started_at, ended_at
    FROM full_read
    WHERE id IN (SELECT max(id) FROM full_read WHERE state IN ('complete',
      'outdated') GROUP BY system, object)";

const LAST_COMPLETE: &str = "
    SELECT object_count
    FROM full_read
    WHERE system = ? AND object = ? AND state IN ('complete', 'outdated')
    ORDER BY id DESC
    LIMIT 1";

const MISSING_ACCOUNTS: &str = "
    SELECT count(*)
    FROM account a
    JOIN full_read r ON a.system = r.system AND a.object = r.object
    WHERE r.id = ? AND a.absent_since IS NULL";

const UNCHANGED_READING: &str = "
    UPDATE full_read SET state = 'complete', ended_at = ?,
      object_count = (SELECT count(*) FROM account a WHERE a.system = full_read.system
      AND a.object = full_read.object AND a.absent_since IS NULL)
    WHERE id = ?";

const BREAK_READING: &str = "
    UPDATE full_read SET state = 'failed', ended_at = ?, error = ?
    WHERE id = ?";

const LAST_READINGS: &str = "
    SELECT *
    FROM full_read
    WHERE id IN (SELECT max(id) FROM full_read GROUP BY system, object)";

const ACCOUNT_COUNTS: &str = "
    SELECT a.key, a.count, coalesce(l.count, 0)
    FROM record_count a
    LEFT JOIN record_count l ON l.kind = 'linked' AND l.key = a.key
    WHERE a.kind = 'account' AND a.count > 0
    ORDER BY a.key";

const LIST_ACCOUNTS: &str = "
    SELECT a.*, l.identity AS linked
    FROM account a
    LEFT JOIN link l ON l.account = a.id AND l.ended_at IS NULL
    WHERE a.system = ? AND (a.name COLLATE NOCASE, a.id) > (?, ?)
      AND instr(lower(a.name), lower(?)) > 0
    ORDER BY a.name COLLATE NOCASE, a.id
    LIMIT ?";

impl Store {
    /// Begins a read.
    pub async fn begin_reading(
        &self,
        system: &str,
        object: ObjectType,
        now: Timestamp,
    ) -> Result<i64, StoreError> {
        let system = system.to_owned();
        self.writer
            .run_relaxed(move |c| {
                Box::pin(async move {
                    let done = sqlx::query(BEGIN_READING)
                        .bind(system)
                        .bind(object.as_str())
                        .bind(format_timestamp(now))
                        .execute(c)
                        .await?;
                    Ok(done.last_insert_rowid())
                })
            })
            .await
    }

    /// Stores a batch of a read. States that we wrote after the read began are newer than the batch
    /// and stay.
    pub async fn store_batch(
        &self,
        reading: i64,
        system: &str,
        object: ObjectType,
        started: Timestamp,
        batch: Vec<Observed>,
    ) -> Result<(), StoreError> {
        let system = system.to_owned();
        self.writer
            .run_relaxed(move |c| {
                Box::pin(async move {
                    // In an empty system, every account is new: no lookup is needed.
                    let any: bool = sqlx::query_scalar(STORE_BATCH)
                        .bind(&system)
                        .bind(reading)
                        .fetch_one(&mut *c)
                        .await?;
                    for rows in batch.chunks(ROWS) {
                        let shown = IncomingAccount {
                            reading,
                            system: &system,
                            object,
                            at: started,
                            told: false,
                        };
                        upsert_accounts(c, shown, rows, if any { Past::Given } else { Past::None })
                            .await?;
                    }
                    sqlx::query(
                        "UPDATE full_read SET object_count = object_count + ? WHERE id = ?",
                    )
                    .bind(batch.len() as i64)
                    .bind(reading)
                    .execute(c)
                    .await?;
                    Ok(())
                })
            })
            .await
    }

    /// Stores rows in quarantine. An account whose key is in one of them is not missing.
    pub async fn add_to_quarantine(
        &self,
        reading: i64,
        rows: Vec<QuarantineRow>,
    ) -> Result<(), StoreError> {
        self.writer
            .run_relaxed(move |c| {
                Box::pin(async move {
                    for row in &rows {
                        sqlx::query(INSERT_QUARANTINE)
                            .bind(reading)
                            .bind(row.line)
                            .bind(&row.reason)
                            .bind(&row.raw)
                            .bind(&row.key)
                            .execute(&mut *c)
                            .await?;
                    }
                    sqlx::query("UPDATE full_read SET quarantined = quarantined + ? WHERE id = ?")
                        .bind(rows.len() as i64)
                        .bind(reading)
                        .execute(&mut *c)
                        .await?;
                    sqlx::query(UPDATE_ACCOUNT)
                        .bind(reading)
                        .bind(reading)
                        .execute(c)
                        .await?;
                    Ok(())
                })
            })
            .await
    }

    /// The rows in quarantine of the last ended read of a system.
    pub async fn list_quarantine(&self, system: &str) -> Result<Vec<QuarantineRow>, StoreError> {
        Ok(sqlx::query_as(LIST_QUARANTINE)
            .bind(system)
            .fetch_all(&self.reader)
            .await?)
    }

    /// The last full read of each system and type; `outdated` ones are older than a restored
    /// backup.
    pub async fn whole_readings(&self) -> Result<Vec<WholeReading>, StoreError> {
        let rows = sqlx::query(WHOLE_READINGS).fetch_all(&self.reader).await?;
        let at = |text: Option<String>| text.and_then(|text| text.parse().ok()).unwrap_or_default();
        let whole = |row: &SqliteRow| {
            Ok(WholeReading {
                system: row.get("system"),
                object: crate::db::codes::read_code(row, "object")?,
                started: at(row.get("started_at")),
                ended: at(row.get("ended_at")),
                outdated: crate::db::codes::read_code::<ReadState>(row, "state")?
                    == ReadState::Outdated,
            })
        };
        rows.iter().map(whole).collect()
    }

    /// The number of accounts of the last complete read of a type.
    pub async fn last_complete(
        &self,
        system: &str,
        object: ObjectType,
    ) -> Result<Option<i64>, StoreError> {
        Ok(sqlx::query_scalar(LAST_COMPLETE)
            .bind(system)
            .bind(object.as_str())
            .fetch_optional(&self.reader)
            .await?)
    }

    /// The accounts that [`Store::complete_reading`] would mark as absent.
    pub async fn missing_accounts(
        &self,
        reading: i64,
        limit: usize,
    ) -> Result<Missing, StoreError> {
        self.writer
            .read_on_writer(move |c| {
                Box::pin(async move {
                    let sql = format!(
                        "SELECT account.key, count(*) OVER () AS missing FROM account, full_read r WHERE r.id = ? AND {MISSING} LIMIT ?"
                    );
                    let rows = sqlx::query(sqlx::AssertSqlSafe(sql)).bind(reading).bind(limit as i64).fetch_all(&mut *c).await?;
                    let known: i64 = sqlx::query_scalar(MISSING_ACCOUNTS)
                    .bind(reading)
                    .fetch_one(&mut *c)
                    .await?;
                    let count = rows.first().map_or(0, |row| row.get::<i64, _>("missing"));
                    let keys = rows.iter().map(|row| row.get("key")).collect();
                    Ok(Missing { count: count as usize, known: known as usize, keys })
                })
            })
            .await
    }

    /// Ends a read that found nothing changed since the previous one: no account becomes absent.
    pub async fn unchanged_reading(&self, reading: i64, now: Timestamp) -> Result<(), StoreError> {
        self.writer
            .run_relaxed(move |c| {
                Box::pin(async move {
                    sqlx::query(UNCHANGED_READING)
                        .bind(format_timestamp(now))
                        .bind(reading)
                        .execute(c)
                        .await?;
                    Ok(())
                })
            })
            .await
    }

    /// Ends a complete read: accounts that it did not contain become absent, unless a row in
    /// quarantine may be theirs. `gone` are the keys whose deletion the system confirmed. Returns
    /// the number of accounts that became absent.
    pub async fn complete_reading(
        &self,
        reading: i64,
        gone: Vec<String>,
        now: Timestamp,
    ) -> Result<u64, StoreError> {
        self.writer
            .run_relaxed(move |c| {
                Box::pin(async move {
                    // A row without a readable key may belong to any missing account, unless the
                    // same row existed when that account was last seen.
                    let absent = sqlx::query(sqlx::AssertSqlSafe(format!(
                        "UPDATE account SET absent_since = ?, absence_confirmed = account.key IN (SELECT value FROM json_each(?))
                         FROM full_read r WHERE r.id = ? AND {MISSING}
                         AND NOT EXISTS (SELECT 1 FROM quarantine q WHERE q.full_read = r.id AND q.key IS NULL
                           AND q.raw NOT IN (SELECT b.raw FROM quarantine b WHERE b.full_read = account.full_read))"
                    )))
                    .bind(format_timestamp(now))
                    .bind(serde_json::to_string(&gone)?)
                    .bind(reading)
                    .execute(&mut *c)
                    .await?
                    .rows_affected();
                    let kept: i64 =
                        sqlx::query_scalar(sqlx::AssertSqlSafe(format!("SELECT count(*) FROM account, full_read r WHERE r.id = ? AND {MISSING}")))
                            .bind(reading)
                            .fetch_one(&mut *c)
                            .await?;
                    if kept > 0 {
                        sqlx::query("UPDATE full_read SET error = ? WHERE id = ?")
                            .bind(format!("{kept} missing accounts do not count as absent: some rows in quarantine have no readable key"))
                            .bind(reading)
                            .execute(&mut *c)
                            .await?;
                    }
                    sqlx::query("UPDATE full_read SET state = 'complete', ended_at = ? WHERE id = ?")
                        .bind(format_timestamp(now)).bind(reading).execute(&mut *c).await?;
                    Ok(absent)
                })
            })
            .await
    }

    /// Ends an incomplete read: no account becomes absent.
    pub async fn break_reading(
        &self,
        reading: i64,
        error: &str,
        now: Timestamp,
    ) -> Result<(), StoreError> {
        let error = error.to_owned();
        self.writer
            .run_relaxed(move |c| {
                Box::pin(async move {
                    sqlx::query(BREAK_READING)
                        .bind(format_timestamp(now))
                        .bind(error)
                        .bind(reading)
                        .execute(c)
                        .await?;
                    Ok(())
                })
            })
            .await
    }

    /// The last read of each system and type.
    pub async fn last_readings(&self) -> Result<Vec<Reading>, StoreError> {
        Ok(sqlx::query_as(LAST_READINGS)
            .fetch_all(&self.reader)
            .await?)
    }

    /// The numbers of accounts and of linked accounts of each system.
    pub async fn account_counts(&self) -> Result<Vec<(String, i64, i64)>, StoreError> {
        let rows = sqlx::query(ACCOUNT_COUNTS).fetch_all(&self.reader).await?;
        Ok(rows
            .iter()
            .map(|row| (row.get(0), row.get(1), row.get(2)))
            .collect())
    }

    /// A page of a system's accounts by name that contain a text, after a name and an id, because
    /// names need not be unique.
    pub async fn list_accounts(
        &self,
        system: &str,
        search: &str,
        after: Option<(&str, AccountId)>,
        limit: i64,
    ) -> Result<Vec<AccountRow>, StoreError> {
        let rows = sqlx::query(LIST_ACCOUNTS)
            .bind(system)
            .bind(after.map_or("", |(name, _)| name))
            .bind(after.map_or(0, |(_, id)| id))
            .bind(search)
            .bind(limit)
            .fetch_all(&self.reader)
            .await?;
        let mut accounts = rows
            .iter()
            .map(read_account)
            .collect::<Result<Vec<Account>, StoreError>>()?;
        crate::snapshot::membership_delta::merge_deltas(
            &mut *self.reader.acquire().await?,
            &mut accounts,
            false,
        )
        .await?;
        let beside = |(row, account): (&SqliteRow, Account)| AccountRow {
            account,
            seen: row.get("seen_at"),
            identity: row.get("linked"),
        };
        Ok(rows.iter().zip(accounts).map(beside).collect())
    }

    /// One account.
    pub async fn find_account(&self, id: AccountId) -> Result<Account, StoreError> {
        let mut c = self.reader.acquire().await?;
        let row = sqlx::query("SELECT * FROM account WHERE id = ?")
            .bind(id)
            .fetch_optional(&mut *c)
            .await?;
        let mut account = read_account(&row.ok_or_else(|| StoreError::Missing {
            what: "account",
            name: id.to_string(),
        })?)?;
        crate::snapshot::membership_delta::merge_deltas(
            &mut c,
            std::slice::from_mut(&mut account),
            false,
        )
        .await?;
        Ok(account)
    }

    /// The current key and name of an account.
    pub async fn account_name(&self, id: AccountId) -> Result<(String, String), StoreError> {
        let row = sqlx::query_as("SELECT key, name FROM account WHERE id = ?")
            .bind(id)
            .fetch_optional(&self.reader)
            .await?;
        row.ok_or_else(|| StoreError::Missing {
            what: "account",
            name: id.to_string(),
        })
    }
}

/// The stored accounts before a batch.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Past {
    /// Nothing: the system was never read.
    None,
    /// Accounts of a system that is a source only.
    Read,
    /// Accounts of a target: the state before a change by others is kept as drift baseline.
    Given,
}

/// The stored accounts of a batch, by key.
type StoredByKey = HashMap<String, StoredAccount>;

/// A stored account.
struct StoredAccount {
    id: i64,
    hash: Vec<u8>,
    /// It is readable and present, and has the type of the read.
    sound: bool,
    same_name: bool,
    /// Version of the stored state; set if the incoming record may be older than it.
    version: Option<String>,
    /// Its stored state arrived as a change after the read began; later changes arrive too.
    told_since: bool,
}

/// The origin of incoming accounts.
#[derive(Clone, Copy)]
pub(crate) struct IncomingAccount<'a> {
    /// The read in progress, or the last one.
    pub(crate) reading: i64,
    pub(crate) system: &'a str,
    pub(crate) object: ObjectType,
    /// The start of the read.
    pub(crate) at: Timestamp,
    /// They arrived as changes, possibly with a delay.
    pub(crate) told: bool,
}

const LOAD_STORED: &str = "
    SELECT a.key, a.id, a.hash,
      a.fault IS NULL AND a.absent_since IS NULL AND a.object = ? AS sound, a.name,
      iif(? OR a.seen_at >= ? OR a.written_at >= ?, a.version, NULL) AS version,
      coalesce(NOT ? AND a.full_read >= ? AND a.seen_at > ?, 0) AS told_since
    FROM json_each(?) k
    CROSS JOIN account a ON a.key = k.value AND a.system = ?";

async fn load_stored(
    c: &mut SqliteConnection,
    shown: IncomingAccount<'_>,
    rows: &[&Observed],
) -> Result<StoredByKey, StoreError> {
    let at = format_timestamp(shown.at);
    let keys = serde_json::to_string(
        &rows
            .iter()
            .map(|account| account.key.as_str())
            .collect::<Vec<_>>(),
    )?;
    let names: HashMap<&str, &str> = rows
        .iter()
        .map(|account| (account.key.as_str(), account.name.as_str()))
        .collect();
    let found = sqlx::query(LOAD_STORED)
        .bind(shown.object.as_str())
        .bind(shown.told)
        .bind(&at)
        .bind(&at)
        .bind(shown.told)
        .bind(shown.reading)
        .bind(&at)
        .bind(&keys)
        .bind(shown.system)
        .fetch_all(c)
        .await?;
    Ok(found
        .iter()
        .map(|row| {
            let same_name =
                names.get(row.get::<&str, _>("key")) == Some(&row.get::<&str, _>("name"));
            let (id, hash, sound, version) = (
                row.get("id"),
                row.get("hash"),
                row.get("sound"),
                row.get("version"),
            );
            (
                row.get("key"),
                StoredAccount {
                    id,
                    hash,
                    sound,
                    same_name,
                    version,
                    told_since: row.get("told_since"),
                },
            )
        })
        .collect())
}

/// Handles groups with a membership delta: a group that arrives as the delta made it is unchanged;
/// any other is first stored in full.
async fn with_members(
    c: &mut SqliteConnection,
    known: &mut StoredByKey,
    rows: &[&Observed],
    encoded: &[(Vec<u8>, Vec<u8>)],
) -> Result<(), StoreError> {
    let ids: Vec<AccountId> = known.values().map(|before| before.id).collect();
    let whole = crate::snapshot::membership_delta::whole(c, &ids).await?;
    for (row, (_, hash)) in rows.iter().zip(encoded) {
        let Some(before) = known.get_mut(&row.key) else {
            continue;
        };
        let Some(blob) = whole.get(&before.id) else {
            continue;
        };
        before.hash = Attributes::hash_of(blob).to_be_bytes().to_vec();
        if before.hash != *hash {
            crate::snapshot::membership_delta::keep_whole(c, before.id, blob).await?;
        }
    }
    Ok(())
}

/// Keeps the last state of each account: intermediate states can arrive in one batch.
fn last_of_each(rows: &[Observed]) -> Vec<&Observed> {
    let mut places: HashMap<&str, usize> = HashMap::with_capacity(rows.len());
    let mut last: Vec<&Observed> = Vec::with_capacity(rows.len());
    for account in rows {
        match places.get(account.key.as_str()) {
            Some(&place) if account.version.is_some() && account.version < last[place].version => {}
            Some(&place) => last[place] = account,
            None => {
                places.insert(&account.key, last.len());
                last.push(account);
            }
        }
    }
    last
}

/// Stores a batch. Unchanged accounts only get the id of the read, so that repeated reads of a
/// large system are cheap. Returns the number of changed accounts.
pub(crate) async fn upsert_accounts(
    c: &mut SqliteConnection,
    shown: IncomingAccount<'_>,
    rows: &[Observed],
    past: Past,
) -> Result<usize, StoreError> {
    let IncomingAccount {
        reading,
        object,
        at,
        ..
    } = shown;
    let at = format_timestamp(at);
    let any = past != Past::None;
    let rows = last_of_each(rows);
    let mut known = if any {
        load_stored(c, shown, &rows).await?
    } else {
        HashMap::new()
    };
    // States older than the stored one are ignored.
    let late = |account: &Observed| {
        let Some(before) = known.get(&account.key) else {
            return false;
        };
        before
            .version
            .as_ref()
            .zip(account.version.as_ref())
            .map_or(before.told_since, |(before, version)| version < before)
    };
    let (late, rows): (Vec<&Observed>, Vec<&Observed>) =
        rows.into_iter().partition(|account| late(account));
    let encoded: Vec<(Vec<u8>, Vec<u8>)> = rows
        .iter()
        .map(|account| {
            let blob = account.attributes.to_blob();
            let hash = Attributes::hash_of(&blob).to_be_bytes().to_vec();
            (blob, hash)
        })
        .collect();
    if any && object == ObjectType::Group {
        with_members(c, &mut known, &rows, &encoded).await?;
    }
    let (mut same, mut news) = (Vec::new(), Vec::new());
    for (account, (blob, hash)) in rows.into_iter().zip(encoded) {
        match known.get(&account.key) {
            Some(before)
                if before.sound
                    && before.same_name
                    && before.hash == hash
                    && account.fault.is_none() =>
            {
                same.push(before.id)
            }
            _ => news.push((account, blob, hash)),
        }
    }
    mark_older(c, reading, &known, late).await?;
    mark_unchanged(c, reading, &at, same).await?;
    if news.is_empty() {
        return Ok(0);
    }
    let differ = store_baseline(c, past, &at, known, &news).await?;
    write_accounts(c, shown, at, news).await?;
    Ok(differ)
}

const MARK_OLDER: &str = "
    UPDATE account SET full_read = max(coalesce(full_read, 0), ?)
    WHERE id IN (SELECT value FROM json_each(?))";

/// Marks accounts whose stored state is newer as read.
async fn mark_older(
    c: &mut SqliteConnection,
    reading: i64,
    known: &HashMap<String, StoredAccount>,
    late: Vec<&Observed>,
) -> Result<(), StoreError> {
    if !late.is_empty() {
        let ids: Vec<AccountId> = late
            .iter()
            .filter_map(|account| known.get(&account.key))
            .map(|before| before.id)
            .collect();
        sqlx::query(MARK_OLDER)
            .bind(reading)
            .bind(serde_json::to_string(&ids)?)
            .execute(&mut *c)
            .await?;
    }
    Ok(())
}

const MARK_UNCHANGED: &str = "
    UPDATE account SET full_read = max(coalesce(full_read, 0), ?), seen_at = ?
    WHERE id IN (SELECT value FROM json_each(?))";

/// Marks accounts that did not change as read.
async fn mark_unchanged(
    c: &mut SqliteConnection,
    reading: i64,
    at: &str,
    same: Vec<i64>,
) -> Result<(), StoreError> {
    if !same.is_empty() {
        sqlx::query(MARK_UNCHANGED)
            .bind(reading)
            .bind(at)
            .bind(serde_json::to_string(&same)?)
            .execute(&mut *c)
            .await?;
    }
    Ok(())
}

const UPDATE_ACCOUNT_OF_STORE_BASELINE: &str = "
    UPDATE account SET has_conflicting_event = 1
    WHERE id IN (SELECT value FROM json_each(?))
      AND EXISTS (SELECT 1 FROM change w WHERE w.account = account.id AND w.state = 'sending')";

const INSERT_DRIFT_BASELINE: &str = "
    INSERT INTO drift_baseline (account, before, at) SELECT a.id, a.attributes, ?
    FROM json_each(?) k
    JOIN account a ON a.id = k.value
    WHERE EXISTS (SELECT 1 FROM link l WHERE l.account = a.id AND l.ended_at IS NULL)
      AND NOT EXISTS (SELECT 1 FROM change w WHERE w.account = a.id AND w.state IN ('sending',
      'unknown'))
    ON CONFLICT DO UPDATE SET at = excluded.at";

/// Stores the drift baseline of changed accounts.
async fn store_baseline(
    c: &mut SqliteConnection,
    past: Past,
    at: &str,
    known: HashMap<String, StoredAccount>,
    news: &[(&Observed, Vec<u8>, Vec<u8>)],
) -> Result<usize, StoreError> {
    let differ = news.len();
    let changed: Vec<i64> = news
        .iter()
        .filter_map(|(account, _, hash)| {
            known
                .get(&account.key)
                .filter(|before| before.sound && before.hash != *hash)
                .map(|before| before.id)
        })
        .collect();
    if !changed.is_empty() {
        sqlx::query(UPDATE_ACCOUNT_OF_STORE_BASELINE)
            .bind(serde_json::to_string(&changed)?)
            .execute(&mut *c)
            .await?;
    }
    if !changed.is_empty() && past == Past::Given {
        sqlx::query(INSERT_DRIFT_BASELINE)
            .bind(at)
            .bind(serde_json::to_string(&changed)?)
            .execute(&mut *c)
            .await?;
    }
    Ok(differ)
}

/// Inserts or updates the accounts that differ.
async fn write_accounts(
    c: &mut SqliteConnection,
    shown: IncomingAccount<'_>,
    at: String,
    news: Vec<(&Observed, Vec<u8>, Vec<u8>)>,
) -> Result<(), StoreError> {
    let mut sql = String::from(
        "WITH shared (system, object, at, full_read) AS (VALUES (?,?,?,?)), item (key, name, fault, attributes, hash, version) AS (VALUES ",
    );
    sql.push_str(&vec!["(?,?,?,?,?,?)"; news.len()].join(","));
    sql.push_str(
        ") INSERT INTO account (system, object, first_seen, seen_at, full_read, key, name, fault, attributes, hash, version)
         SELECT s.system, s.object, s.at, s.at, s.full_read, n.key, n.name, n.fault, n.attributes, n.hash, n.version FROM item n, shared s WHERE true",
    );
    sql.push_str(
        " ON CONFLICT (system, key) DO UPDATE SET full_read = max(coalesce(account.full_read, 0), excluded.full_read), seen_at = excluded.seen_at, ",
    );
    for column in ["name", "attributes", "hash", "version"] {
        let newer = "coalesce(account.written_at, '') < excluded.seen_at OR excluded.version > account.version";
        sql.push_str(&format!(
            "{column} = CASE WHEN {newer} THEN excluded.{column} ELSE account.{column} END, "
        ));
    }
    sql.push_str("fault = excluded.fault, absent_since = NULL, absence_confirmed = 0");
    let mut query = sqlx::query(sqlx::AssertSqlSafe(sql))
        .bind(shown.system)
        .bind(shown.object.as_str())
        .bind(&at)
        .bind(shown.reading);
    for (account, blob, hash) in news {
        query = query
            .bind(account.key.as_str())
            .bind(account.name.as_str())
            .bind(account.fault.as_deref())
            .bind(blob)
            .bind(hash);
        query = query.bind(account.version.as_deref());
    }
    query.execute(&mut *c).await?;
    Ok(())
}
