//! `tide-store` keeps the records: SQLite through SQLx. It is the only crate that knows SQL.
//!
//! One task writes, with group commit; a pool of read-only connections reads. What is written is
//! durable when the call returns (`synchronous=FULL`), but for observations and settlings, which
//! are durable with the next one.
//!
//! It is *not* a place for decisions: rows go in and come out, and `tide-core` judges them.

mod access;
mod db;
mod governance;
mod snapshot;
mod sync;

mod decision_input;
mod holdings;
mod identities;
mod journal;
mod outcomes;
mod queue;
mod rules;
mod search;
mod secrets;

pub use access::{Bearer, NewTokenRow, Principal, Session, TokenRow};
pub use db::error::{StoreError, panic_message};
pub use db::restore::{backup, restore};
pub use decision_input::dirty_records::DirtyRecords;
pub use decision_input::preconditions::{DecisionPreconditions, GuardWindow};
pub use governance::approvals::{
    Answered, ApprovalAnswer, ApprovalRow, Cause, NewApproval, OperatorRow,
};
pub use governance::external_changes::{AlertRow, Surprise};
pub use governance::notifications::NotificationRow;
pub use governance::overrides::{NewOverride, OverrideRow};
pub use governance::write_stop::WriteStop;
pub use holdings::{Holding, HoldingDetail, HoldingFilter, HoldingKind, HoldingPage};
pub use identities::lifecycle::LeaverRow;
pub use identities::matches::{AnswerRow, NewAnswer};
pub use identities::roles::GrantRow;
pub use identities::{AccountLabel, IdentityRow, IdentityUpdates, LinkRow};
pub use journal::JournalEntry;
pub use outcomes::{
    FoundOutcomes, KeptOutcomes, KeptPart, MatchCount, OutcomeCount, OutcomeFilter, OutcomeList,
    OutcomePage, OutcomePosition, OutcomeRecord, OutcomeStatus,
};
pub use queue::changes::{ChangeFilter, ChangeRow, ChangeSetRow, DecidedRow, NewChangeSet};
pub use queue::holds::{Hold, HoldFilter, HoldKey, HoldRow};
pub use queue::results::ChangeResult;
pub use queue::{ChangeFailure, DECIDED_AGAIN, Parked, Settled};
pub use rules::RuleVersion;
pub use rules::drafts::{DraftEdit, DraftRow, VersionRow};
pub use search::{FullIndexUpdate, SearchIndex};
pub use secrets::password_sync::{NewPassword, PasswordOwner, PasswordSetRow};
pub use secrets::passwords::PasswordRow;
pub use secrets::{MasterKey, Vault};
pub use snapshot::accounts::{AccountRow, QuarantineRow, Reading, WholeReading};
pub use sync::inbound::{
    EventRow, EventTaken, NewEvent, NewPushed, PushedId, PushedKey, PushedRow,
};
pub use sync::sync_cursor::{ChangeBatch, SyncCursor};
pub use sync::systems::{AtWork, SystemRow, WriteState};

use db::writer::{Boxed, Writer};
use jiff::Timestamp;
use sqlx::migrate::Migrator;
use sqlx::sqlite::{SqliteConnectOptions, SqliteJournalMode, SqlitePoolOptions, SqliteSynchronous};
use sqlx::{ConnectOptions, Connection as _, SqliteConnection, SqlitePool};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicI64, AtomicU64, Ordering};
use std::sync::{Arc, RwLock};
use tokio::sync::{Mutex, OnceCell};

static MIGRATOR: Migrator = sqlx::migrate!();

/// The store: cheap to clone, safe to share.
#[derive(Clone)]
pub struct Store {
    reader: SqlitePool,
    /// The connection for decisions about changes while much is written. Unlike those of the
    /// pool, it is not tested after each use.
    decider: Arc<Mutex<Option<SqliteConnection>>>,
    writer: Writer,
    /// The search index, opened when it is used first, in this file.
    search: Arc<(PathBuf, OnceCell<SearchIndex>)>,
    vault: Vault,
    journal_key: journal::JournalKey,
    /// The latest time that was issued for an observation or a write, in milliseconds since 1970.
    latest: Arc<AtomicI64>,
    /// The stored write stop.
    write_stop: Arc<RwLock<Option<WriteStop>>>,
    /// What the database has done, in thousands of its instructions.
    work: Arc<AtomicU64>,
}

/// Keeps the file and what SQLite keeps beside it from other users.
fn keep_files_private(path: &Path) -> Result<(), StoreError> {
    let keep = |path: &Path| {
        keep_private(path).map_err(|error| StoreError::Open {
            path: path.to_owned(),
            source: sqlx::Error::Io(error),
        })
    };
    keep(path)?;
    for beside in ["-wal", "-shm"] {
        let beside = Path::new(&format!("{}{beside}", path.display())).to_owned();
        if beside.exists() {
            keep(&beside)?;
        }
    }
    Ok(())
}

/// Counts what the database does over a connection.
async fn count_work(
    connection: &mut SqliteConnection,
    work: Arc<AtomicU64>,
) -> Result<(), sqlx::Error> {
    connection
        .lock_handle()
        .await?
        .set_progress_handler(1_000, move || {
            work.fetch_add(1, Ordering::Relaxed);
            true
        });
    Ok(())
}

/// An instant as it is stored: UTC, with milliseconds, so that texts sort as times.
pub fn format_timestamp(at: Timestamp) -> String {
    at.strftime("%Y-%m-%dT%H:%M:%S%.3fZ").to_string()
}

/// Parses what [`format_timestamp`] wrote.
pub(crate) fn parse_timestamp(text: Option<String>) -> Option<Timestamp> {
    text.and_then(|text| text.parse().ok())
}

const WRITE_MARK: &str = "
    INSERT INTO meta (name, value)
    VALUES ('write mark', ?)
    ON CONFLICT DO UPDATE SET value = excluded.value";

impl Store {
    /// The key of a system's password fingerprints. It stays the same when secrets change.
    pub fn mark_key(&self, system: &str) -> Vec<u8> {
        self.vault.mark_key(system)
    }

    /// Opens the store in a file, bringing its schema up to date. An older file is copied beside
    /// itself first; a newer one is refused.
    pub async fn open(path: &Path, key: MasterKey) -> Result<Store, StoreError> {
        let options = SqliteConnectOptions::new()
            .filename(path)
            .create_if_missing(true)
            .journal_mode(SqliteJournalMode::Wal)
            .synchronous(SqliteSynchronous::Full)
            .foreign_keys(true)
            .busy_timeout(std::time::Duration::from_secs(10))
            // In KiB: the usual two MiB are read from the file again and again once there are some
            // ten thousand accounts.
            .pragma("cache_size", "-16384")
            // In pages: the log is copied into the file beside the writer, which does it itself
            // only when that falls far behind.
            .pragma("wal_autocheckpoint", "65536")
            // In bytes: the log file is cut to this size when it begins anew.
            .pragma("journal_size_limit", "33554432");
        keep_files_private(path)?;
        let mut connection = options.connect().await.map_err(|source| StoreError::Open {
            path: path.to_owned(),
            source,
        })?;
        migrate(&mut connection, path, &MIGRATOR).await?;
        let work = Arc::new(AtomicU64::new(0));
        count_work(&mut connection, work.clone()).await?;
        let counted = work.clone();
        let reader = SqlitePoolOptions::new()
            .max_connections(8)
            .test_before_acquire(false)
            .after_connect(move |connection, _| Box::pin(count_work(connection, counted.clone())))
            .connect_with(options.clone().read_only(true))
            .await
            .map_err(|source| StoreError::Open {
                path: path.to_owned(),
                source,
            })?;
        let mut decider = options
            .clone()
            .read_only(true)
            .connect()
            .await
            .map_err(|source| StoreError::Open {
                path: path.to_owned(),
                source,
            })?;
        count_work(&mut decider, work.clone()).await?;
        let decider = Arc::new(Mutex::new(Some(decider)));
        let sweeper = options.connect().await.map_err(|source| StoreError::Open {
            path: path.to_owned(),
            source,
        })?;
        let latest: Option<String> = sqlx::query_scalar(
            "SELECT max(max(seen_at), coalesce(max(written_at), '')) FROM account",
        )
        .fetch_one(&mut connection)
        .await?;
        let latest = Arc::new(AtomicI64::new(
            parse_timestamp(latest).map_or(i64::MIN, Timestamp::as_millisecond),
        ));
        let write_stop = Arc::new(RwLock::new(
            governance::write_stop::load_write_stop(&mut connection).await?,
        ));
        let vault = Vault::new(key);
        let journal_key = vault.journal_key();
        let writer = Writer::start(connection, sweeper, journal_key.clone());
        Ok(Store {
            reader,
            decider,
            writer,
            search: Arc::new((search_file(path), OnceCell::new())),
            vault,
            journal_key,
            latest,
            write_stop,
            work,
        })
    }

    /// What the database has done since the store was opened, in thousands of SQLite's instructions:
    /// it grows with the rows that are looked at, whether they are returned or not.
    pub fn database_work(&self) -> u64 {
        self.work.load(Ordering::Relaxed)
    }

    /// The search index, if it was used already.
    pub fn open_search(&self) -> Option<&SearchIndex> {
        self.search.1.get()
    }

    /// The search index.
    pub async fn search(&self) -> Result<&SearchIndex, StoreError> {
        let (path, index) = &*self.search;
        index
            .get_or_try_init(|| SearchIndex::open(path.clone()))
            .await
    }

    /// The time of an observation or write, used to order them: `now`, unless the clock was set
    /// back since the last one. Then it advances by a millisecond each time until the clock has
    /// caught up, also across restarts.
    pub fn monotonic_now(&self, now: Timestamp) -> Timestamp {
        let wall = now.as_millisecond();
        let next = |last: i64| if wall >= last { wall } else { last + 1 };
        // The closure always returns a value, so there is always a former one.
        let last = self
            .latest
            .fetch_update(Ordering::AcqRel, Ordering::Acquire, |last| Some(next(last)))
            .unwrap_or(wall);
        if wall >= last {
            now
        } else {
            Timestamp::from_millisecond(next(last)).unwrap_or(now)
        }
    }

    /// A look at what is decided about: over the connection that writes when it has little else to
    /// do, and else over one of its own, in a transaction.
    pub(crate) async fn look<T, F>(&self, at_rest: bool, look: F) -> Result<T, StoreError>
    where
        T: Send + 'static,
        F: for<'c> FnOnce(&'c mut SqliteConnection) -> Boxed<'c, Result<T, StoreError>>
            + Send
            + 'static,
    {
        if at_rest {
            return self.writer.read_on_writer(look).await;
        }
        let mut decider = self.decider.lock().await;
        let mut tx = decider.as_mut().ok_or(StoreError::Closed)?.begin().await?;
        // Nothing is written, so no durability is needed.
        look(&mut tx).await
    }

    /// Copies the whole store to a new file while it is in use. The key is not in it.
    pub async fn backup(&self, to: &Path) -> Result<(), StoreError> {
        let to = to.to_string_lossy().into_owned();
        sqlx::query("VACUUM INTO ?")
            .bind(to)
            .execute(&mut *self.reader.acquire().await?)
            .await?;
        Ok(())
    }

    /// Writes a row, to test whether the records are writable.
    pub async fn write_mark(&self, now: Timestamp) -> Result<(), StoreError> {
        self.writer
            .run_relaxed(move |c| {
                Box::pin(async move {
                    sqlx::query(WRITE_MARK)
                        .bind(format_timestamp(now))
                        .execute(c)
                        .await?;
                    Ok(())
                })
            })
            .await
    }

    /// Returns when writes are no longer possible although the store was not closed: the process
    /// must then end, so that it is restarted.
    pub async fn writer_lost(&self) {
        self.writer.ended_unexpectedly().await;
    }

    /// Writes what is left and closes the file.
    pub async fn close(&self) {
        self.writer.stop().await;
        if let Some(index) = self.search.1.get() {
            index.close().await;
        }
        if let Some(connection) = self.decider.lock().await.take() {
            // It only read: there is nothing to lose.
            let _ = connection.close().await;
        }
        self.reader.close().await;
    }
}

/// The file of the search index: `tide-search.db` beside `tide.db`.
fn search_file(records: &Path) -> PathBuf {
    let stem = records.file_stem().unwrap_or_default().to_string_lossy();
    records.with_file_name(format!("{stem}-search.db"))
}

/// Ensures that only the owner may read a file, creating it if necessary. SQLite creates its side
/// files with the same mode.
fn keep_private(path: &Path) -> std::io::Result<()> {
    let mut options = std::fs::OpenOptions::new();
    options.append(true).create(true);
    #[cfg(unix)]
    {
        use std::os::unix::fs::{OpenOptionsExt, PermissionsExt};
        let file = options.mode(0o600).open(path)?;
        let rights = file.metadata()?.permissions();
        if rights.mode() & 0o077 != 0 {
            tracing::warn!(file = %path.display(), "removed access by others from this file");
            file.set_permissions(std::fs::Permissions::from_mode(0o600))?;
        }
    }
    #[cfg(not(unix))]
    options.open(path)?;
    Ok(())
}

async fn migrate(
    connection: &mut SqliteConnection,
    path: &Path,
    migrator: &Migrator,
) -> Result<(), StoreError> {
    let known: i64 = migrator.iter().map(|m| m.version).max().unwrap_or(0);
    let tables: i64 =
        sqlx::query_scalar("SELECT count(*) FROM sqlite_master WHERE name = '_sqlx_migrations'")
            .fetch_one(&mut *connection)
            .await?;
    if tables > 0 {
        let there: Option<i64> = sqlx::query_scalar("SELECT max(version) FROM _sqlx_migrations")
            .fetch_one(&mut *connection)
            .await?;
        let there = there.unwrap_or(0);
        if there > known {
            return Err(StoreError::Newer { there, known });
        }
        if there < known {
            // One that is there is of an upgrade that was interrupted, or done before: it is kept.
            let name = |turn: u32| match turn {
                1 => path.with_extension(format!("before-{known}.db")),
                turn => path.with_extension(format!("before-{known}-{turn}.db")),
            };
            let copy = (1..)
                .map(name)
                .find(|copy| !copy.exists())
                .unwrap_or_else(|| name(1));
            keep_private(&copy).map_err(|error| StoreError::Open {
                path: copy.clone(),
                source: sqlx::Error::Io(error),
            })?;
            let copy_text = copy.to_string_lossy().into_owned();
            sqlx::query("VACUUM INTO ?")
                .bind(copy_text)
                .execute(&mut *connection)
                .await?;
            tracing::info!(copy = %copy.display(), "the store was copied before its schema is changed");
        }
    }
    migrator
        .run(&mut *connection)
        .await
        .map_err(StoreError::Migrate)
}

#[cfg(test)]
mod tests;
