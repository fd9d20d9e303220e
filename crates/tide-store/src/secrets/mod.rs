//! Secrets at rest: each is sealed with a key of its own, and that key with the master key. Both
//! seals are bound to the row and the field, so that a sealed value moved elsewhere does not open.

pub(crate) mod password_sync;
pub(crate) mod passwords;

use crate::journal::JournalKey;
use crate::{Store, StoreError, format_timestamp};
use base64::Engine;
use chacha20poly1305::aead::{Aead, KeyInit, Payload};
use chacha20poly1305::{Key, XChaCha20Poly1305, XNonce};
use jiff::Timestamp;
use sha2::{Digest, Sha256};
use sqlx::Row;
use std::path::Path;
use std::sync::Arc;
use zeroize::Zeroizing;

/// The key that seals all others. It is never stored in the database or a backup.
#[derive(Clone)]
pub struct MasterKey(Arc<Zeroizing<[u8; 32]>>);

impl std::fmt::Debug for MasterKey {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "MasterKey({})", self.id())
    }
}

const BASE64: base64::engine::GeneralPurpose = base64::engine::general_purpose::STANDARD;

impl MasterKey {
    /// A fresh key.
    pub fn generate() -> Self {
        MasterKey(Arc::new(Zeroizing::new(rand::random())))
    }

    /// Reads a key from its text: 32 octets in base64.
    pub fn parse(text: &str) -> Result<Self, StoreError> {
        let bytes = Zeroizing::new(
            BASE64
                .decode(text.trim())
                .map_err(|_| StoreError::Key("the key is not base64".into()))?,
        );
        let bytes: [u8; 32] = bytes.as_slice().try_into().map_err(|_| {
            StoreError::Key(
                "the key must have 32 bytes: create one with `openssl rand -base64 32`".into(),
            )
        })?;
        Ok(MasterKey(Arc::new(Zeroizing::new(bytes))))
    }

    /// The key of `EAGER_TIDE_KEY` or of a file, which is created with mode 0600 if it does not
    /// exist. A file that others may read is rejected. So is a missing file beside existing
    /// records: with a new key, none of their secrets could be decrypted and the journal could
    /// not be verified.
    pub fn of_records(file: &Path, records: &Path) -> Result<Self, StoreError> {
        if std::env::var_os("EAGER_TIDE_KEY").is_none() && !file.exists() && records.exists() {
            return Err(StoreError::Key(format!(
                "the key file {} is missing, and the records {} are there: put the key back, or set EAGER_TIDE_KEY; a new key could not open their secrets",
                file.display(),
                records.display()
            )));
        }
        Self::from_environment_or_file(file)
    }

    /// The key of `EAGER_TIDE_KEY` or of a file, which is created with mode 0600 if it does not
    /// exist. A file that others may read is rejected.
    pub fn from_environment_or_file(file: &Path) -> Result<Self, StoreError> {
        if let Ok(text) = std::env::var("EAGER_TIDE_KEY") {
            return Self::parse(&text);
        }
        let fault = |what: &str, error: std::io::Error| {
            StoreError::Key(format!("the key file {} {what}: {error}", file.display()))
        };
        if !file.exists() {
            let key = Self::generate();
            write_private(file, &BASE64.encode(key.0.as_slice()))
                .map_err(|e| fault("cannot be made", e))?;
            return Ok(key);
        }
        #[cfg(unix)]
        {
            use std::os::unix::fs::PermissionsExt;
            let mode = std::fs::metadata(file)
                .map_err(|e| fault("cannot be read", e))?
                .permissions()
                .mode();
            if mode & 0o077 != 0 {
                return Err(StoreError::Key(format!(
                    "the key file {} may be read by others (mode {:o}): run `chmod 600` on it",
                    file.display(),
                    mode & 0o777
                )));
            }
        }
        Self::parse(&std::fs::read_to_string(file).map_err(|e| fault("cannot be read", e))?)
    }

    /// A short name for the key, which does not give it away.
    pub fn id(&self) -> String {
        Sha256::digest(self.0.as_slice())
            .iter()
            .take(6)
            .map(|b| format!("{b:02x}"))
            .collect()
    }

    /// Derives a separate key for one purpose, which reveals nothing about this one.
    fn derived(&self, purpose: &str, name: &str) -> Vec<u8> {
        let mut hash = Sha256::new();
        for part in [
            self.0.as_slice(),
            &[0],
            purpose.as_bytes(),
            &[0],
            name.as_bytes(),
        ] {
            hash.update(part);
        }
        hash.finalize().to_vec()
    }
}

/// Writes a file that only its owner may read.
fn write_private(path: &Path, text: &str) -> std::io::Result<()> {
    use std::io::Write;
    let mut options = std::fs::OpenOptions::new();
    options.write(true).create_new(true);
    #[cfg(unix)]
    {
        use std::os::unix::fs::OpenOptionsExt;
        options.mode(0o600);
    }
    let mut file = options.open(path)?;
    file.write_all(text.as_bytes())?;
    file.sync_all()
}

/// Seals and opens secrets.
#[derive(Clone, Debug)]
pub struct Vault {
    key: MasterKey,
}

impl Vault {
    /// A vault with a key.
    pub fn new(key: MasterKey) -> Self {
        Vault { key }
    }

    /// The key of a system's password fingerprints.
    pub(crate) fn mark_key(&self, system: &str) -> Vec<u8> {
        self.key.derived("password marks", system)
    }

    /// The key that authenticates the journal.
    pub(crate) fn journal_key(&self) -> JournalKey {
        JournalKey::new(self.key.derived("journal", ""))
    }

    fn seal(key: &[u8; 32], plain: &[u8], bound: &[u8]) -> Option<Vec<u8>> {
        let nonce: [u8; 24] = rand::random();
        let cipher = XChaCha20Poly1305::new(&Key::from(*key));
        let sealed = cipher
            .encrypt(
                &XNonce::from(nonce),
                Payload {
                    msg: plain,
                    aad: bound,
                },
            )
            .ok()?;
        Some([nonce.as_slice(), &sealed].concat())
    }

    fn open(key: &[u8; 32], sealed: &[u8], bound: &[u8]) -> Option<Zeroizing<Vec<u8>>> {
        let (nonce, body) = sealed.split_at_checked(24)?;
        let nonce: [u8; 24] = nonce.try_into().ok()?;
        let cipher = XChaCha20Poly1305::new(&Key::from(*key));
        cipher
            .decrypt(
                &XNonce::from(nonce),
                Payload {
                    msg: body,
                    aad: bound,
                },
            )
            .ok()
            .map(Zeroizing::new)
    }
}

const PUT_SECRET: &str = "
    INSERT INTO secret (owner, field, key_id, wrapped, sealed, created_at)
    VALUES (?,?,?,?,?,?)
    ON CONFLICT DO UPDATE SET key_id=excluded.key_id, wrapped=excluded.wrapped,
      sealed=excluded.sealed, created_at=excluded.created_at";

impl Store {
    /// Stores a secret, encrypted, in place of one with the same name.
    pub async fn put_secret(
        &self,
        owner: &str,
        field: &str,
        secret: &str,
        now: Timestamp,
    ) -> Result<(), StoreError> {
        let bound = format!("{owner}\0{field}").into_bytes();
        let own = Zeroizing::new(rand::random::<[u8; 32]>());
        let failed = || StoreError::Key("the secret could not be sealed".into());
        let sealed = Vault::seal(&own, secret.as_bytes(), &bound).ok_or_else(failed)?;
        let wrapped = Vault::seal(&self.vault.key.0, own.as_slice(), &bound).ok_or_else(failed)?;
        let (owner, field, key_id) = (owner.to_owned(), field.to_owned(), self.vault.key.id());
        self.writer
            .run(move |c| {
                Box::pin(async move {
                    sqlx::query(PUT_SECRET)
                        .bind(owner)
                        .bind(field)
                        .bind(key_id)
                        .bind(wrapped)
                        .bind(sealed)
                        .bind(format_timestamp(now))
                        .execute(c)
                        .await?;
                    Ok(())
                })
            })
            .await
    }

    /// How many secrets were sealed with another key than the one this store was opened with.
    pub async fn secrets_of_other_keys(&self) -> Result<i64, StoreError> {
        Ok(
            sqlx::query_scalar("SELECT count(*) FROM secret WHERE key_id <> ?")
                .bind(self.vault.key.id())
                .fetch_one(&self.reader)
                .await?,
        )
    }

    /// Opens a secret, for use on the wire and nowhere else.
    pub async fn load_secret(
        &self,
        owner: &str,
        field: &str,
    ) -> Result<Option<Zeroizing<String>>, StoreError> {
        let Some(row) =
            sqlx::query("SELECT wrapped, sealed FROM secret WHERE owner = ? AND field = ?")
                .bind(owner)
                .bind(field)
                .fetch_optional(&self.reader)
                .await?
        else {
            return Ok(None);
        };
        let bound = format!("{owner}\0{field}").into_bytes();
        let failed = || StoreError::Sealed {
            owner: owner.to_owned(),
            field: field.to_owned(),
        };
        let own =
            Vault::open(&self.vault.key.0, row.get::<&[u8], _>(0), &bound).ok_or_else(failed)?;
        let own: Zeroizing<[u8; 32]> =
            Zeroizing::new(own.as_slice().try_into().map_err(|_| failed())?);
        let plain = Vault::open(&own, row.get::<&[u8], _>(1), &bound).ok_or_else(failed)?;
        String::from_utf8(plain.to_vec())
            .map(Zeroizing::new)
            .map(Some)
            .map_err(|_| failed())
    }
}
