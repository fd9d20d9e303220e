//! The append-only history. Each entry is authenticated with a key that is derived from the master
//! key, and its code covers that of the entry before it: a person who can write the file, but lacks
//! the key, can neither change nor add an entry. The head (the last entry) is sealed beside the
//! journal, so that a cut-off end is found; stored elsewhere, it also reveals that an older copy
//! replaced the file.

use crate::{Store, StoreError, format_timestamp};
use futures::TryStreamExt;
use hmac::{Hmac, KeyInit, Mac};
use jiff::Timestamp;
use sha2::{Digest, Sha256};
use sqlx::{QueryBuilder, Row, Sqlite, SqliteConnection};
use std::sync::Arc;
use zeroize::Zeroizing;

/// One entry, as it is read back.
#[derive(Debug, Clone, sqlx::FromRow)]
pub struct JournalEntry {
    /// Its number.
    pub id: i64,
    /// When.
    pub at: String,
    /// Who, by name where that is known.
    #[sqlx(rename = "who")]
    pub principal: String,
    /// The action.
    pub act: String,
    /// To what.
    pub subject: String,
    /// Its label, where it is an identity.
    pub label: Option<String>,
    /// More about it.
    pub detail: String,
    /// Values before and after, as JSON, unless they were erased.
    #[sqlx(rename = "values_json")]
    pub values: Option<String>,
}

/// An entry to be written.
pub(crate) struct NewJournalEntry<'a> {
    principal: &'a str,
    act: &'a str,
    subject: &'a str,
    detail: &'a str,
}

/// The key that authenticates the journal.
#[derive(Clone)]
pub(crate) struct JournalKey(Arc<Zeroizing<Vec<u8>>>);

tokio::task_local! {
    /// The key, for whatever runs in the writing task: no job has to hand it on.
    pub(crate) static KEY: JournalKey;
}

/// The key of the sealed head in the table `meta`.
const HEAD: &str = "journal head";

impl JournalKey {
    pub fn new(key: Vec<u8>) -> Self {
        JournalKey(Arc::new(Zeroizing::new(key)))
    }

    fn mac(&self) -> Hmac<Sha256> {
        // HMAC takes a key of any length (RFC 2104 section 2).
        Hmac::new_from_slice(&self.0)
            .unwrap_or_else(|_| unreachable!("HMAC takes a key of any length"))
    }

    /// The code of an entry, which covers the code of the one before it.
    fn chain(&self, before: &[u8], parts: &[&str], values_hash: Option<&[u8]>) -> Vec<u8> {
        let mut mac = self.mac();
        mac.update(before);
        for part in parts {
            mac.update(&(part.len() as u64).to_be_bytes());
            mac.update(part.as_bytes());
        }
        mac.update(values_hash.unwrap_or_default());
        mac.finalize().into_bytes().to_vec()
    }

    /// The sealed head: the number and code of the last entry, and a code over both.
    fn seal(&self, id: i64, hash: &[u8]) -> String {
        let mut mac = self.mac();
        mac.update(HEAD.as_bytes());
        mac.update(&id.to_be_bytes());
        mac.update(hash);
        format!(
            "{}:{}",
            export_head(id, hash),
            hex(&mac.finalize().into_bytes())
        )
    }
}

fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}

/// The head as it is exported: the number of the last entry and its code.
fn export_head(id: i64, hash: &[u8]) -> String {
    format!("{id}:{}", hex(hash))
}

impl<'a> NewJournalEntry<'a> {
    pub fn new(principal: &'a str, act: &'a str, subject: &'a str) -> Self {
        NewJournalEntry {
            principal,
            act,
            subject,
            detail: "",
        }
    }

    pub fn detail(mut self, detail: &'a str) -> Self {
        self.detail = detail;
        self
    }

    pub async fn append(self, c: &mut SqliteConnection, now: Timestamp) -> Result<(), StoreError> {
        let note = JournalNote {
            principal: self.principal.to_owned(),
            act: self.act.to_owned(),
            subject: self.subject.to_owned(),
            detail: self.detail.to_owned(),
            values: None,
        };
        append_all(c, &[&note], now).await
    }
}

/// An entry among many.
#[derive(Debug, Clone)]
pub(crate) struct JournalNote {
    pub principal: String,
    pub act: String,
    pub subject: String,
    pub detail: String,
    pub values: Option<Hashed>,
}

/// Values as JSON with their hash, which is computed by the producers in parallel, not by the
/// writer.
#[derive(Debug, Clone)]
pub(crate) struct Hashed {
    pub json: String,
    hash: Vec<u8>,
}

impl Hashed {
    pub fn of(json: String) -> Self {
        Hashed {
            hash: Sha256::digest(json.as_bytes()).to_vec(),
            json,
        }
    }
}

/// A number, its entry, the hash of its values, and the hash that ends the chain so far.
type Chained<'a> = (i64, &'a JournalNote, Option<&'a [u8]>, Vec<u8>);

const APPEND_ALL: &str = "
    INSERT INTO meta (name, value)
    VALUES (?, ?)
    ON CONFLICT DO UPDATE SET value = excluded.value";

/// Writes entries one after the other, in few statements.
pub(crate) async fn append_all(
    c: &mut SqliteConnection,
    notes: &[&JournalNote],
    now: Timestamp,
) -> Result<(), StoreError> {
    let last = sqlx::query("SELECT id, hash FROM journal ORDER BY id DESC LIMIT 1")
        .fetch_optional(&mut *c)
        .await?;
    let (mut id, mut before): (i64, Vec<u8>) =
        last.map(|row| (row.get(0), row.get(1))).unwrap_or_default();
    let (at, key) = (format_timestamp(now), KEY.with(JournalKey::clone));
    for some in notes.chunks(100) {
        let rows: Vec<Chained<'_>> = some
            .iter()
            .map(|note| {
                id += 1;
                let values = note.values.as_ref().map(|values| values.hash.as_slice());
                before = key.chain(
                    &before,
                    &[&at, &note.principal, &note.act, &note.subject, &note.detail],
                    values,
                );
                (id, *note, values, before.clone())
            })
            .collect();
        let mut query = QueryBuilder::<Sqlite>::new(
            "INSERT INTO journal (id, at, principal, act, subject, detail, values_hash, hash) ",
        );
        query.push_values(&rows, |mut row, (id, note, values, hash)| {
            row.push_bind(*id)
                .push_bind(&at)
                .push_bind(&note.principal)
                .push_bind(&note.act)
                .push_bind(&note.subject);
            row.push_bind(&note.detail)
                .push_bind(*values)
                .push_bind(hash);
        });
        query.build().execute(&mut *c).await?;
        let values: Vec<(i64, &String)> = rows
            .iter()
            .filter_map(|(id, note, ..)| Some((*id, &note.values.as_ref()?.json)))
            .collect();
        if !values.is_empty() {
            let mut query =
                QueryBuilder::<Sqlite>::new("INSERT INTO journal_value (journal, values_json) ");
            query.push_values(values, |mut row, (id, values)| {
                row.push_bind(id).push_bind(values);
            });
            query.build().execute(&mut *c).await?;
        }
    }
    if !notes.is_empty() {
        sqlx::query(APPEND_ALL)
            .bind(HEAD)
            .bind(key.seal(id, &before))
            .execute(c)
            .await?;
    }
    Ok(())
}

const LIST_JOURNAL: &str = "
    SELECT j.*, v.values_json, coalesce(p.name, j.principal) AS who, i.label AS label
    FROM journal j
    LEFT JOIN journal_value v ON v.journal = j.id
    LEFT JOIN principal p ON p.id = j.principal
    LEFT JOIN identity i ON i.id = j.subject
    WHERE j.id < ? AND (? IS NULL OR j.subject = ?)
    ORDER BY j.id DESC
    LIMIT ?";

const VERIFY_JOURNAL: &str = "
    SELECT j.*, v.values_json
    FROM journal j
    LEFT JOIN journal_value v ON v.journal = j.id
    ORDER BY j.id";

impl Store {
    /// Writes one entry outside of another transaction.
    pub async fn note(
        &self,
        principal: &str,
        act: &str,
        subject: &str,
        detail: &str,
        now: Timestamp,
    ) -> Result<(), StoreError> {
        let (principal, act, subject, detail) = (
            principal.to_owned(),
            act.to_owned(),
            subject.to_owned(),
            detail.to_owned(),
        );
        self.writer
            .run(move |c| {
                Box::pin(async move {
                    NewJournalEntry::new(&principal, &act, &subject)
                        .detail(&detail)
                        .append(c, now)
                        .await
                })
            })
            .await
    }

    /// A page of the journal, newest first, before an entry; about one subject, if given.
    pub async fn list_journal(
        &self,
        subject: Option<&str>,
        before: Option<i64>,
        limit: i64,
    ) -> Result<Vec<JournalEntry>, StoreError> {
        Ok(sqlx::query_as(LIST_JOURNAL)
            .bind(before.unwrap_or(i64::MAX))
            .bind(subject)
            .bind(subject)
            .bind(limit)
            .fetch_all(&self.reader)
            .await?)
    }

    /// The head: the number and code of the last entry, to be stored where a person who can write
    /// the file cannot write. `None` if the journal is empty.
    pub async fn journal_head(&self) -> Result<Option<String>, StoreError> {
        let last = sqlx::query("SELECT id, hash FROM journal ORDER BY id DESC LIMIT 1")
            .fetch_optional(&self.reader)
            .await?;
        Ok(last.map(|row| export_head(row.get(0), row.get(1))))
    }

    /// Whether a head that was exported before is still part of the journal.
    pub async fn has_journal_head(&self, exported: &str) -> Result<bool, StoreError> {
        let Some(id) = exported
            .split_once(':')
            .and_then(|(id, _)| id.parse::<i64>().ok())
        else {
            return Ok(false);
        };
        let row = sqlx::query("SELECT id, hash FROM journal WHERE id = ?")
            .bind(id)
            .fetch_optional(&self.reader)
            .await?;
        Ok(row.is_some_and(|row| export_head(row.get(0), row.get(1)) == exported))
    }

    /// Walks the whole chain, and compares its end with the sealed head: how many entries there
    /// are. `Err` names the first entry that is not as it was written, or is missing.
    pub async fn verify_journal(&self) -> Result<Result<i64, i64>, StoreError> {
        // In one transaction: the journal grows meanwhile.
        let mut tx = self.reader.begin().await?;
        let sealed: Option<String> = sqlx::query_scalar("SELECT value FROM meta WHERE name = ?")
            .bind(HEAD)
            .fetch_optional(&mut *tx)
            .await?;
        let mut rows = sqlx::query(VERIFY_JOURNAL).fetch(&mut *tx);
        let key = &self.journal_key;
        let (mut before, mut last) = (Vec::new(), 0);
        while let Some(row) = rows.try_next().await? {
            let id: i64 = row.get("id");
            let values_hash: Option<Vec<u8>> = row.get("values_hash");
            let parts: [&str; 5] = [
                row.get("at"),
                row.get("principal"),
                row.get("act"),
                row.get("subject"),
                row.get("detail"),
            ];
            let hash = key.chain(&before, &parts, values_hash.as_deref());
            let values: Option<&str> = row.get("values_json");
            let honest = values.is_none_or(|values| {
                Some(Sha256::digest(values.as_bytes()).to_vec()) == values_hash
            });
            if id != last + 1 || hash != row.get::<Vec<u8>, _>("hash") || !honest {
                return Ok(Err(last + 1));
            }
            (before, last) = (hash, id);
        }
        let is_whole = match sealed {
            None => last == 0,
            Some(sealed) => last > 0 && sealed == key.seal(last, &before),
        };
        Ok(if is_whole { Ok(last) } else { Err(last + 1) })
    }
}
