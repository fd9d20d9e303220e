//! The search index: which record has a text. It is a database file of its own beside the records,
//! written by a task of its own, so that neither runs nor queues wait for it. It can be rebuilt from
//! a decision at any time, and is not part of a backup.

use crate::StoreError;
use sqlx::sqlite::{SqliteConnectOptions, SqliteJournalMode, SqlitePoolOptions, SqliteSynchronous};
use sqlx::{
    ConnectOptions, Connection as _, QueryBuilder, Row, Sqlite, SqliteConnection, SqlitePool,
};
use std::collections::{BTreeMap, HashMap, HashSet};
use std::hash::{DefaultHasher, Hash, Hasher};
use std::path::{Path, PathBuf};
use tide_core::explain::{SearchRecord, belongs_to_one, fold_text};
use tide_core::incremental::Records;
use tokio::sync::{mpsc, oneshot};

/// Rows of one statement: five values each.
const ROWS: usize = 500;
/// Records of one commit.
const BATCH: usize = 5_000;
/// The shortest text that the index finds; a shorter one is looked for row by row.
const TRIGRAM: usize = 3;

const SCHEMA: &str = "
    CREATE TABLE IF NOT EXISTS record (
        id INTEGER PRIMARY KEY,
        -- Empty for an account without an identity.
        identity TEXT NOT NULL,
        -- 0 for an identity.
        account INTEGER NOT NULL,
        label TEXT NOT NULL,
        digest INTEGER NOT NULL,
        -- Folded; each text between two line breaks, so that a whole one can be found.
        texts TEXT NOT NULL,
        UNIQUE (identity, account)
    ) STRICT;
    CREATE VIRTUAL TABLE IF NOT EXISTS record_text
        USING fts5(texts, content = 'record', content_rowid = 'id', tokenize = 'trigram');
    CREATE TRIGGER IF NOT EXISTS record_added AFTER INSERT ON record BEGIN
        INSERT INTO record_text (rowid, texts) VALUES (NEW.id, NEW.texts);
    END;
    CREATE TRIGGER IF NOT EXISTS record_deleted AFTER DELETE ON record BEGIN
        INSERT INTO record_text (record_text, rowid, texts) VALUES ('delete', OLD.id, OLD.texts);
    END;
    CREATE TRIGGER IF NOT EXISTS record_changed AFTER UPDATE ON record BEGIN
        INSERT INTO record_text (record_text, rowid, texts) VALUES ('delete', OLD.id, OLD.texts);
        INSERT INTO record_text (rowid, texts) VALUES (NEW.id, NEW.texts);
    END;";

const UPSERT: &str = "
    ON CONFLICT (identity, account) DO UPDATE
    SET label = excluded.label, digest = excluded.digest, texts = excluded.texts
    WHERE record.digest <> excluded.digest";

const FIND_INDEXED: &str = "
    SELECT r.identity, r.account
    FROM record_text t
    JOIN record r ON r.id = t.rowid
    WHERE t.texts MATCH ?
    ORDER BY r.label, r.id
    LIMIT ?";

const FIND_BY_ROW: &str = "
    SELECT identity, account
    FROM record
    WHERE instr(texts, ?) > 0
    ORDER BY label, id
    LIMIT ?";

const FORGET: &str = "
    DELETE FROM record
    WHERE identity <> '' AND identity IN (SELECT value FROM json_each(?))
       OR identity = '' AND account IN (SELECT value FROM json_each(?))";

/// The key of a record: its identity, or else its account.
type Key = (String, i64);
/// What is written next about a record: its texts, or that it is gone.
type Pending = BTreeMap<Key, Option<IndexedTexts>>;

#[derive(Debug, Clone)]
struct IndexedTexts {
    label: String,
    texts: String,
    digest: i64,
}

#[derive(Debug)]
enum IndexJob {
    /// The records of a partial decision: those that were decided, and what they are called now.
    Update(Records, Vec<SearchRecord>),
    /// A full decision begins: updates with all records follow.
    BeginAll,
    /// It is complete: records that no update was about are gone.
    EndAll,
    /// It was given up.
    AbandonAll,
    Flush(oneshot::Sender<()>),
}

/// The search index. Cheap to clone.
#[derive(Debug, Clone)]
pub struct SearchIndex {
    queue: mpsc::UnboundedSender<IndexJob>,
    reader: SqlitePool,
}

/// A full decision that is being indexed. If it is dropped before it is complete, no record is removed.
#[derive(Debug)]
pub struct FullIndexUpdate<'a> {
    index: &'a SearchIndex,
    is_complete: bool,
}

impl FullIndexUpdate<'_> {
    /// Updates the records of a part. Returns at once.
    pub fn update(&self, about: &Records, records: Vec<SearchRecord>) {
        self.index.update(about, records);
    }

    /// All parts were there: records that none was about are gone.
    pub fn complete(mut self) {
        self.is_complete = true;
    }
}

impl Drop for FullIndexUpdate<'_> {
    fn drop(&mut self) {
        let _ = self.index.queue.send(match self.is_complete {
            true => IndexJob::EndAll,
            false => IndexJob::AbandonAll,
        });
    }
}

fn key_of(record: &SearchRecord) -> Key {
    (
        record.identity.clone().unwrap_or_default(),
        record.account.unwrap_or_default(),
    )
}

fn indexed(record: SearchRecord) -> (Key, Option<IndexedTexts>) {
    let key = key_of(&record);
    let texts = format!("\n{}\n", record.texts.join("\n")).replace('\0', "");
    let mut hasher = DefaultHasher::new();
    (&record.label, &texts).hash(&mut hasher);
    let indexed = IndexedTexts {
        label: record.label,
        texts,
        digest: hasher.finish().cast_signed(),
    };
    (key, Some(indexed))
}

impl SearchIndex {
    /// Opens the index in a file; one that cannot be read is made anew.
    pub(crate) async fn open(path: PathBuf) -> Result<SearchIndex, StoreError> {
        let connection = match connect(&path).await {
            Ok(connection) => connection,
            Err(error) => {
                tracing::warn!(%error, "the search index cannot be read and is made anew");
                for end in ["", "-wal", "-shm"] {
                    // It may not be there.
                    let _ = std::fs::remove_file(format!("{}{end}", path.display()));
                }
                connect(&path).await?
            }
        };
        let reader = SqlitePoolOptions::new()
            .max_connections(2)
            .test_before_acquire(false)
            .connect_with(options(&path).read_only(true))
            .await?;
        let (queue, commands) = mpsc::unbounded_channel();
        tokio::spawn(write_loop(connection, commands));
        Ok(SearchIndex { queue, reader })
    }

    /// Updates the records of a partial decision. Returns at once.
    pub fn update(&self, about: &Records, records: Vec<SearchRecord>) {
        let _ = self.queue.send(IndexJob::Update(about.clone(), records));
    }

    /// Begins a full decision. Updates about all records follow.
    pub fn begin_all(&self) -> FullIndexUpdate<'_> {
        let _ = self.queue.send(IndexJob::BeginAll);
        FullIndexUpdate {
            index: self,
            is_complete: false,
        }
    }

    /// Waits until everything before is written.
    pub async fn flush(&self) {
        let (done, wait) = oneshot::channel();
        if self.queue.send(IndexJob::Flush(done)).is_ok() {
            let _ = wait.await;
        }
    }

    /// Writes what is queued, and closes the file for reading.
    pub(crate) async fn close(&self) {
        self.flush().await;
        self.reader.close().await;
    }

    /// The records that a text means: by a whole number, address, DN or id, otherwise by a part of
    /// their texts; at most `limit` of each, by label.
    pub async fn find(&self, text: &str, limit: i64) -> Result<Records, StoreError> {
        // A query ends at a NUL.
        let wanted = fold_text(text.trim()).replace('\0', "");
        let mut records = Records::default();
        if wanted.is_empty() {
            return Ok(records);
        }
        let whole = self.find_part(&format!("\n{wanted}\n"), limit).await?;
        let is_one = belongs_to_one(&wanted) && !whole.is_empty();
        let part = match is_one {
            true => Vec::new(),
            false => self.find_part(&wanted, limit).await?,
        };
        for (identity, account) in whole.into_iter().chain(part) {
            match identity.is_empty() {
                true => records.accounts.insert(account),
                false => records.identities.insert(identity),
            };
        }
        Ok(records)
    }

    async fn find_part(&self, part: &str, limit: i64) -> Result<Vec<Key>, StoreError> {
        let rows = if part.chars().count() < TRIGRAM {
            sqlx::query(FIND_BY_ROW)
                .bind(part)
                .bind(limit)
                .fetch_all(&self.reader)
                .await?
        } else {
            let phrase = format!("\"{}\"", part.replace('"', "\"\""));
            sqlx::query(FIND_INDEXED)
                .bind(phrase)
                .bind(limit)
                .fetch_all(&self.reader)
                .await?
        };
        Ok(rows.iter().map(|row| (row.get(0), row.get(1))).collect())
    }
}

fn options(path: &Path) -> SqliteConnectOptions {
    SqliteConnectOptions::new()
        .filename(path)
        .create_if_missing(true)
        .journal_mode(SqliteJournalMode::Wal)
        // After a loss of power it may be damaged, and is then made anew.
        .synchronous(SqliteSynchronous::Off)
        .busy_timeout(std::time::Duration::from_secs(10))
}

async fn connect(path: &Path) -> Result<SqliteConnection, StoreError> {
    crate::keep_private(path).map_err(|error| StoreError::Open {
        path: path.to_owned(),
        source: sqlx::Error::Io(error),
    })?;
    let mut connection = options(path).connect().await?;
    sqlx::raw_sql(SCHEMA).execute(&mut connection).await?;
    Ok(connection)
}

/// A full decision.
struct FullUpdate {
    /// The digests of the indexed records that no part was about yet.
    remaining: HashMap<Key, i64>,
    /// The records that a part was about.
    seen: HashSet<Key>,
}

impl FullUpdate {
    /// Takes over the records of a part. `gone` are those that it decided, with a record or without.
    fn take(
        &mut self,
        gone: impl Iterator<Item = Key>,
        records: Vec<SearchRecord>,
        pending: &mut Pending,
    ) {
        // Records that an earlier part wrote.
        let gone = gone.filter(|key| self.seen.contains(key));
        pending.extend(gone.map(|key| (key, None)));
        for (key, texts) in records.into_iter().map(indexed) {
            let digest = texts.as_ref().map(|texts| texts.digest);
            let is_indexed = self.remaining.remove(&key) == digest;
            if !is_indexed {
                pending.insert(key.clone(), texts);
            }
            self.seen.insert(key);
        }
    }
}

/// Writes until the last handle is gone. What could not be written is written with the next command.
async fn write_loop(
    mut connection: SqliteConnection,
    mut commands: mpsc::UnboundedReceiver<IndexJob>,
) {
    let mut pending = Pending::new();
    let mut full: Option<FullUpdate> = None;
    while let Some(first) = commands.recv().await {
        let mut flushed = Vec::new();
        let mut next = Some(first);
        while let Some(command) = next {
            match command {
                IndexJob::Update(about, records) => {
                    let gone = about.identities.into_iter().map(|id| (id, 0));
                    let gone = gone.chain(about.accounts.into_iter().map(|id| (String::new(), id)));
                    if let Some(full) = &mut full {
                        full.take(gone, records, &mut pending);
                    } else {
                        pending.extend(gone.map(|key| (key, None)));
                        pending.extend(records.into_iter().map(indexed));
                    }
                }
                IndexJob::BeginAll => {
                    let known = known_digests(&mut connection).await;
                    let remaining = known.unwrap_or_else(|error| {
                        tracing::warn!(%error, "the search index could not be read");
                        HashMap::new()
                    });
                    pending.clear();
                    full = Some(FullUpdate {
                        remaining,
                        seen: HashSet::new(),
                    });
                }
                IndexJob::EndAll => {
                    let gone = full.take().map(|full| full.remaining);
                    pending.extend(gone.into_iter().flatten().map(|(key, _)| (key, None)));
                }
                IndexJob::AbandonAll => full = None,
                IndexJob::Flush(done) => flushed.push(done),
            }
            next = commands.try_recv().ok();
        }
        if let Err(error) = write(&mut connection, &mut pending).await {
            tracing::warn!(%error, "the search index could not be written");
        }
        for done in flushed {
            let _ = done.send(());
        }
    }
    let _ = connection.close().await;
}

async fn write(c: &mut SqliteConnection, pending: &mut Pending) -> Result<(), StoreError> {
    while !pending.is_empty() {
        let batch: Vec<(&Key, &Option<IndexedTexts>)> = pending.iter().take(BATCH).collect();
        let mut tx = c.begin().await?;
        forget(&mut tx, &batch).await?;
        put(&mut tx, &batch).await?;
        tx.commit().await?;
        let written: Vec<Key> = batch.into_iter().map(|(key, _)| key.clone()).collect();
        for key in written {
            pending.remove(&key);
        }
        // Other tasks run in between.
        tokio::task::yield_now().await;
    }
    Ok(())
}

/// The digests of all indexed records.
async fn known_digests(c: &mut SqliteConnection) -> Result<HashMap<Key, i64>, StoreError> {
    let mut known: HashMap<Key, i64> = HashMap::new();
    for row in sqlx::query("SELECT identity, account, digest FROM record")
        .fetch_all(&mut *c)
        .await?
    {
        known.insert((row.get(0), row.get(1)), row.get(2));
    }
    Ok(known)
}

async fn forget(
    c: &mut SqliteConnection,
    batch: &[(&Key, &Option<IndexedTexts>)],
) -> Result<(), StoreError> {
    let gone = || batch.iter().filter(|(_, texts)| texts.is_none());
    let identities: Vec<&str> = gone()
        .map(|((identity, _), _)| identity.as_str())
        .filter(|identity| !identity.is_empty())
        .collect();
    let accounts: Vec<i64> = gone()
        .filter(|((identity, _), _)| identity.is_empty())
        .map(|((_, account), _)| *account)
        .collect();
    if !identities.is_empty() || !accounts.is_empty() {
        sqlx::query(FORGET)
            .bind(serde_json::to_string(&identities)?)
            .bind(serde_json::to_string(&accounts)?)
            .execute(&mut *c)
            .await?;
    }
    Ok(())
}

async fn put(
    c: &mut SqliteConnection,
    batch: &[(&Key, &Option<IndexedTexts>)],
) -> Result<(), StoreError> {
    let there: Vec<(&Key, &IndexedTexts)> = batch
        .iter()
        .filter_map(|(key, texts)| Some((*key, texts.as_ref()?)))
        .collect();
    for rows in there.chunks(ROWS) {
        let mut query = QueryBuilder::<Sqlite>::new(
            "INSERT INTO record (identity, account, label, digest, texts) ",
        );
        query.push_values(rows, |mut row, ((identity, account), indexed)| {
            row.push_bind(identity.clone())
                .push_bind(*account)
                .push_bind(indexed.label.clone())
                .push_bind(indexed.digest)
                .push_bind(indexed.texts.clone());
        });
        query.push(UPSERT).build().execute(&mut *c).await?;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn person(id: &str, label: &str, texts: &[&str]) -> SearchRecord {
        SearchRecord {
            identity: Some(id.to_owned()),
            account: None,
            label: label.to_owned(),
            texts: texts.iter().map(|text| fold_text(text)).collect(),
        }
    }

    fn ids(records: &Records) -> Vec<&str> {
        records.identities.iter().map(String::as_str).collect()
    }

    /// The records of a full decision, each in a part of its own.
    fn put_all(index: &SearchIndex, records: Vec<SearchRecord>) {
        let all = index.begin_all();
        for record in records {
            let about = Records {
                identities: record.identity.iter().cloned().collect(),
                ..Records::default()
            };
            all.update(&about, vec![record]);
        }
        all.complete();
    }

    async fn open(folder: &tempfile::TempDir) -> SearchIndex {
        SearchIndex::open(folder.path().join("search.db"))
            .await
            .expect("opens")
    }

    #[tokio::test]
    async fn a_whole_number_is_preferred_and_a_name_is_found_in_part() {
        let folder = tempfile::tempdir().expect("a folder");
        let index = open(&folder).await;
        put_all(
            &index,
            vec![
                person("i1", "Ådne Lind", &["i1", "Ådne Lind", "100"]),
                person("i2", "Bo Lindqvist", &["i2", "Bo Lindqvist", "1001"]),
            ],
        );
        index.flush().await;
        let find = async |text: &str| index.find(text, 10).await.expect("found");
        assert_eq!(ids(&find("100").await), ["i1"]);
        assert_eq!(ids(&find("1001").await), ["i2"]);
        assert_eq!(
            ids(&find("001").await),
            ["i2"],
            "a part, where no whole one is"
        );
        assert_eq!(ids(&find("LIND").await), ["i1", "i2"]);
        assert_eq!(ids(&find("adne").await), ["i1"], "without accents");
        assert_eq!(ids(&find("bo").await), ["i2"], "shorter than the index");
        assert!(find("\"odd\" OR *").await.is_empty());
        assert!(find("  ").await.is_empty() && find("\0").await.is_empty());
        assert_eq!(ids(&find("bo\0 lind").await), ["i2"]);
    }

    #[tokio::test]
    async fn it_follows_partial_and_full_decisions_and_is_made_anew_when_damaged() {
        let folder = tempfile::tempdir().expect("a folder");
        let index = open(&folder).await;
        put_all(
            &index,
            vec![
                person("i1", "Ada", &["ada lind"]),
                person("i2", "Bo", &["bo holm"]),
            ],
        );
        let about = Records {
            identities: ["i1".to_owned(), "i2".to_owned()].into(),
            ..Records::default()
        };
        index.update(&about, vec![person("i1", "Ada", &["ada holm"])]);
        index.flush().await;
        assert_eq!(ids(&index.find("holm", 10).await.expect("found")), ["i1"]);
        assert!(index.find("lind", 10).await.expect("found").is_empty());
        put_all(&index, vec![person("i3", "Cy", &["cy quay"])]);
        index.flush().await;
        assert!(index.find("holm", 10).await.expect("found").is_empty());
        assert_eq!(ids(&index.find("quay", 10).await.expect("found")), ["i3"]);
        drop(index);

        let file = folder.path().join("search.db");
        for end in ["-wal", "-shm"] {
            let _ = std::fs::remove_file(format!("{}{end}", file.display()));
        }
        std::fs::write(&file, "no database at all, ".repeat(400)).expect("written");
        let index = open(&folder).await;
        assert!(index.find("quay", 10).await.expect("found").is_empty());
        put_all(&index, vec![person("i3", "Cy", &["cy quay"])]);
        index.flush().await;
        assert_eq!(ids(&index.find("quay", 10).await.expect("found")), ["i3"]);
    }

    #[tokio::test]
    async fn a_record_that_a_later_part_leaves_out_is_gone() {
        let folder = tempfile::tempdir().expect("a folder");
        let index = open(&folder).await;
        put_all(&index, vec![person("i1", "Ada", &["ada lind"])]);
        let about = |ids: &[&str]| Records {
            identities: ids.iter().map(|id| (*id).to_owned()).collect(),
            ..Records::default()
        };
        let all = index.begin_all();
        all.update(&about(&["i1"]), vec![person("i1", "Ada", &["ada lind"])]);
        all.update(&about(&["i2"]), vec![person("i2", "Bo", &["bo lind"])]);
        index.flush().await;
        assert_eq!(
            ids(&index.find("lind", 10).await.expect("found")),
            ["i1", "i2"]
        );
        // Both are decided again: Bo turns out to be Ada.
        let ada = person("i1", "Ada", &["ada lind", "bo lind"]);
        all.update(&about(&["i1", "i2"]), vec![ada]);
        all.complete();
        index.flush().await;
        assert_eq!(
            ids(&index.find("bo lind", 10).await.expect("found")),
            ["i1"]
        );
        // A decision that is given up removes nothing.
        let all = index.begin_all();
        all.update(&about(&["i3"]), vec![person("i3", "Cy", &["cy lind"])]);
        drop(all);
        index.flush().await;
        assert_eq!(
            ids(&index.find("lind", 10).await.expect("found")),
            ["i1", "i3"]
        );
        index.update(&about(&["i1"]), Vec::new());
        index.flush().await;
        assert_eq!(ids(&index.find("lind", 10).await.expect("found")), ["i3"]);
    }
}
