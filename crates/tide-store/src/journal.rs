//! The append-only history. Each entry's hash covers the one before it.

use crate::{Store, StoreError, stamp};
use jiff::Timestamp;
use sha2::{Digest, Sha256};
use sqlx::{QueryBuilder, Row, Sqlite, SqliteConnection};

/// One entry, as it is read back.
#[derive(Debug, Clone)]
pub struct JournalEntry {
    /// Its number.
    pub id: i64,
    /// When.
    pub at: String,
    /// Who.
    pub principal: String,
    /// What was done.
    pub act: String,
    /// To what.
    pub subject: String,
    /// More about it.
    pub detail: String,
    /// Values before and after, as JSON, unless they were erased.
    pub values: Option<String>,
}

/// An entry to be written.
pub(crate) struct Entry<'a> {
    principal: &'a str,
    act: &'a str,
    subject: &'a str,
    detail: &'a str,
}

fn chain(before: &[u8], parts: &[&str], values_hash: Option<&[u8]>) -> Vec<u8> {
    let mut hasher = Sha256::new();
    hasher.update(before);
    for part in parts {
        hasher.update((part.len() as u64).to_be_bytes());
        hasher.update(part.as_bytes());
    }
    hasher.update(values_hash.unwrap_or_default());
    hasher.finalize().to_vec()
}

impl<'a> Entry<'a> {
    pub fn new(principal: &'a str, act: &'a str, subject: &'a str) -> Self {
        Entry { principal, act, subject, detail: "" }
    }

    pub fn detail(mut self, detail: &'a str) -> Self {
        self.detail = detail;
        self
    }

    pub async fn append(self, c: &mut SqliteConnection, now: Timestamp) -> Result<(), StoreError> {
        let note = Note {
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
pub(crate) struct Note {
    pub principal: String,
    pub act: String,
    pub subject: String,
    pub detail: String,
    pub values: Option<Hashed>,
}

/// Values as JSON with their hash, which is taken where many of them are made at once, not by the one who writes.
#[derive(Debug, Clone)]
pub(crate) struct Hashed {
    pub json: String,
    hash: Vec<u8>,
}

impl Hashed {
    pub fn of(json: String) -> Self {
        Hashed { hash: Sha256::digest(json.as_bytes()).to_vec(), json }
    }
}

/// A number, its entry, the hash of its values, and the hash that ends the chain so far.
type Chained<'a> = (i64, &'a Note, Option<&'a [u8]>, Vec<u8>);

/// Writes entries one after the other, in few statements.
pub(crate) async fn append_all(c: &mut SqliteConnection, notes: &[&Note], now: Timestamp) -> Result<(), StoreError> {
    let last = sqlx::query("SELECT id, hash FROM journal ORDER BY id DESC LIMIT 1").fetch_optional(&mut *c).await?;
    let (mut id, mut before): (i64, Vec<u8>) = last.map(|row| (row.get(0), row.get(1))).unwrap_or_default();
    let at = stamp(now);
    for some in notes.chunks(100) {
        let rows: Vec<Chained<'_>> = some
            .iter()
            .map(|note| {
                id += 1;
                let values = note.values.as_ref().map(|values| values.hash.as_slice());
                before = chain(&before, &[&at, &note.principal, &note.act, &note.subject, &note.detail], values);
                (id, *note, values, before.clone())
            })
            .collect();
        let mut query = QueryBuilder::<Sqlite>::new("INSERT INTO journal (id, at, principal, act, subject, detail, values_hash, hash) ");
        query.push_values(&rows, |mut row, (id, note, values, hash)| {
            row.push_bind(*id).push_bind(&at).push_bind(&note.principal).push_bind(&note.act).push_bind(&note.subject);
            row.push_bind(&note.detail).push_bind(*values).push_bind(hash);
        });
        query.build().execute(&mut *c).await?;
        let values: Vec<(i64, &String)> = rows.iter().filter_map(|(id, note, ..)| Some((*id, &note.values.as_ref()?.json))).collect();
        if !values.is_empty() {
            let mut query = QueryBuilder::<Sqlite>::new("INSERT INTO journal_value (journal, vals) ");
            query.push_values(values, |mut row, (id, values)| {
                row.push_bind(id).push_bind(values);
            });
            query.build().execute(&mut *c).await?;
        }
    }
    Ok(())
}

impl Store {
    /// Writes one entry that stands by itself.
    pub async fn note(&self, principal: &str, act: &str, subject: &str, detail: &str, now: Timestamp) -> Result<(), StoreError> {
        let (principal, act, subject, detail) = (principal.to_owned(), act.to_owned(), subject.to_owned(), detail.to_owned());
        self.writer.run(move |c| Box::pin(async move { Entry::new(&principal, &act, &subject).detail(&detail).append(c, now).await })).await
    }

    /// A page of the journal, the newest first, before an entry, about a subject if one is given.
    pub async fn journal(&self, subject: Option<&str>, before: Option<i64>, limit: i64) -> Result<Vec<JournalEntry>, StoreError> {
        let rows = sqlx::query(
            "SELECT j.*, v.vals FROM journal j LEFT JOIN journal_value v ON v.journal = j.id
             WHERE j.id < ? AND (? IS NULL OR j.subject = ?) ORDER BY j.id DESC LIMIT ?",
        )
        .bind(before.unwrap_or(i64::MAX))
        .bind(subject)
        .bind(subject)
        .bind(limit)
        .fetch_all(&self.reader)
        .await?;
        Ok(rows
            .iter()
            .map(|row| JournalEntry {
                id: row.get("id"),
                at: row.get("at"),
                principal: row.get("principal"),
                act: row.get("act"),
                subject: row.get("subject"),
                detail: row.get("detail"),
                values: row.get("vals"),
            })
            .collect())
    }

    /// Walks the whole chain. `Err` names the first entry that is not as it was written.
    pub async fn verify_journal(&self) -> Result<Result<i64, i64>, StoreError> {
        let rows = sqlx::query("SELECT j.*, v.vals FROM journal j LEFT JOIN journal_value v ON v.journal = j.id ORDER BY j.id")
            .fetch_all(&self.reader)
            .await?;
        let mut before: Vec<u8> = Vec::new();
        for row in &rows {
            let id: i64 = row.get("id");
            let values_hash: Option<Vec<u8>> = row.get("values_hash");
            let parts: [&str; 5] = [row.get("at"), row.get("principal"), row.get("act"), row.get("subject"), row.get("detail")];
            let hash = chain(&before, &parts, values_hash.as_deref());
            let values: Option<&str> = row.get("vals");
            let honest = values.is_none_or(|values| Some(Sha256::digest(values.as_bytes()).to_vec()) == values_hash);
            if hash != row.get::<Vec<u8>, _>("hash") || !honest {
                return Ok(Err(id));
            }
            before = hash;
        }
        Ok(Ok(rows.len() as i64))
    }
}
