//! The errors of the store.

use std::any::Any;
use std::path::PathBuf;

/// The message of a panic that was caught.
pub fn panic_message(panic: &(dyn Any + Send)) -> String {
    let text = panic.downcast_ref::<&str>().map(|text| (*text).to_owned());
    text.or_else(|| panic.downcast_ref::<String>().cloned())
        .unwrap_or_else(|| "no message".to_owned())
}

impl StoreError {
    /// The same, with a separate error if disk, lock or file permissions prevent a write.
    pub(crate) fn of_writing(self) -> StoreError {
        let code = match &self {
            StoreError::Sql(sqlx::Error::Database(error)) => {
                error.code().and_then(|code| code.parse::<u32>().ok())
            }
            _ => None,
        };
        // Primary result codes of SQLite: BUSY, LOCKED, READONLY, IOERR, FULL, CANTOPEN.
        match code.map(|code| code & 0xff) {
            Some(5 | 6 | 8 | 10 | 13 | 14) => StoreError::Unwritable {
                said: self.to_string().replace("the store failed: ", ""),
            },
            _ => self,
        }
    }
}

/// A fault of the store.
#[derive(Debug, thiserror::Error)]
pub enum StoreError {
    /// The file cannot be opened.
    #[error("the store {} cannot be opened: {source}; check that the folder exists and may be written", path.display())]
    Open {
        /// The file.
        path: PathBuf,
        /// The error of SQLite.
        source: sqlx::Error,
    },
    /// The file was written by a newer version.
    #[error(
        "the store has schema {there}, and this version knows {known}: start the newer version, or restore an older backup"
    )]
    Newer {
        /// The file's schema.
        there: i64,
        /// The newest schema that this version knows.
        known: i64,
    },
    /// The schema could not be brought up to date.
    #[error("the store's schema could not be brought up to date: {0}")]
    Migrate(sqlx::migrate::MigrateError),
    /// A record holds a code that this version does not know.
    #[error(
        "the store contains `{code}`, which is not a {enumeration}: it was written by another version"
    )]
    UnknownCode {
        /// The enum.
        enumeration: &'static str,
        /// The text.
        code: String,
    },
    /// SQLite refused.
    #[error("the store failed: {0}")]
    Sql(#[from] sqlx::Error),
    /// A record cannot be read back.
    #[error("{0}")]
    Blob(#[from] tide_core::value::BlobError),
    /// A record holds JSON that cannot be read back.
    #[error("a record of the store is damaged: {0}")]
    Json(#[from] serde_json::Error),
    /// The master key cannot be used.
    #[error("{0}")]
    Key(String),
    /// A secret cannot be opened.
    #[error(
        "the secret {field} of {owner} cannot be opened with this key: set it again, or start with the key it was sealed with"
    )]
    Sealed {
        /// The owner of the secret.
        owner: String,
        /// Which.
        field: String,
    },
    /// The records cannot be written just now: the disk is full, the file is locked or read-only.
    #[error("the records cannot be written: {said}")]
    Unwritable {
        /// The error of SQLite.
        said: String,
    },
    /// A write job panicked; nothing of it was stored.
    #[error("an internal error: {said}; nothing was written")]
    Internal {
        /// Its message.
        said: String,
    },
    /// The store was closed.
    #[error("the store is closed")]
    Closed,
    /// The object does not exist.
    #[error("there is no {what} `{name}`")]
    Missing {
        /// The kind of object.
        what: &'static str,
        /// Its name.
        name: String,
    },
    /// The object exists already.
    #[error("there is a {what} `{name}` already")]
    Exists {
        /// The kind of object.
        what: &'static str,
        /// Its name.
        name: String,
    },
}
