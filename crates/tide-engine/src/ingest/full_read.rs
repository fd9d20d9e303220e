//! Reading systems into the store.

use crate::error::EngineError;
use crate::events::Event;
use crate::ingest::Ingest;
use std::collections::HashMap;
use std::pin::Pin;
use std::sync::Arc;
use tide_connect::{ConnectError, Connector, Settings, SnapshotItem};
use tide_core::ObjectType;
use tide_core::model::Observed;
use tide_core::states::{ReadState, SystemKind};
use tide_store::{StoreError, SystemRow};
use tokio_util::sync::CancellationToken;

/// Number of accounts stored in one transaction.
const TOGETHER: usize = 2000;

/// Maximum number of missing accounts that are looked up individually.
const LOOKED_FOR: usize = 200;

/// This number of accounts may be missing from a read, however small the system is.
const FEW_MISSING: usize = 10;

/// A lock for each type of each system that is read.
pub(crate) type Locks = HashMap<(String, ObjectType), Arc<tokio::sync::Mutex<()>>>;

/// A batch that is being stored.
type Keeping<'s> = Pin<Box<dyn Future<Output = Result<(), StoreError>> + Send + 's>>;

/// The result of reading one type of one system.
#[derive(Debug, Clone)]
pub struct Read {
    /// The system.
    pub system: String,
    /// The type.
    pub object: ObjectType,
    /// How many accounts were shown.
    pub seen: usize,
    /// How many are absent from now on.
    pub absent: u64,
    /// How many rows are in quarantine.
    pub quarantined: usize,
    /// Nothing had changed since the last complete reading.
    pub unchanged: bool,
    /// The error, if the read failed: no account counts as absent then.
    pub error: Option<ConnectError>,
}

impl Ingest {
    /// Reads these types of a system. A failed read keeps what it received and marks no account as
    /// absent.
    pub async fn read_system(
        &self,
        row: &SystemRow,
        objects: &[ObjectType],
    ) -> Result<Vec<Read>, EngineError> {
        self.read_until(row, objects, &self.context.stopping).await
    }

    /// The same, until it is cancelled: a reading that is, breaks.
    pub(crate) async fn read_until(
        &self,
        row: &SystemRow,
        objects: &[ObjectType],
        cancel: &CancellationToken,
    ) -> Result<Vec<Read>, EngineError> {
        let mut reads = Vec::new();
        for &object in objects {
            reads.push(self.read_one(row, object, cancel).await?);
        }
        Ok(reads)
    }

    /// Reads one type of a system, after a read of it that is in progress.
    pub(crate) async fn read_one(
        &self,
        row: &SystemRow,
        object: ObjectType,
        cancel: &CancellationToken,
    ) -> Result<Read, EngineError> {
        let lock = crate::lock(&self.read_locks)
            .entry((row.name.clone(), object))
            .or_default()
            .clone();
        let cancelled =
            || ConnectError::transient("cancelled", "the read was canceled", "it is read again");
        let mut read = Read {
            system: row.name.clone(),
            object,
            seen: 0,
            absent: 0,
            quarantined: 0,
            unchanged: false,
            error: None,
        };
        let _alone = tokio::select! {
            alone = lock.lock_owned() => alone,
            () = cancel.cancelled() => {
                read.error = Some(cancelled());
                return Ok(read);
            }
        };
        let started = self.context.monotonic_now();
        let reading = self
            .context
            .store
            .begin_reading(&row.name, object, started)
            .await?;
        let outcome = tokio::select! {
            outcome = self.receive_snapshot(row, object, reading, started, &mut read) => outcome,
            () = cancel.cancelled() => Err(cancelled().into()),
        };
        let state = match outcome {
            Ok(_) if read.unchanged => {
                self.context
                    .store
                    .unchanged_reading(reading, self.context.now())
                    .await?;
                ReadState::Complete
            }
            Ok(gone) => {
                read.absent = self
                    .context
                    .store
                    .complete_reading(reading, gone, self.context.monotonic_now())
                    .await?;
                self.connections.access(row).feed_was_kept();
                ReadState::Complete
            }
            Err(EngineError::Connect(error)) => {
                tracing::warn!(system = row.name, object_type = %object, code = error.code, %error, "a read failed; no account counts as absent");
                self.context
                    .store
                    .break_reading(reading, &error.message, self.context.now())
                    .await?;
                read.error = Some(error);
                ReadState::Failed
            }
            Err(other) => {
                self.context
                    .store
                    .break_reading(reading, &other.to_string(), self.context.now())
                    .await?;
                return Err(other);
            }
        };
        self.context.publish_event(Event::FullRead {
            system: row.name.clone(),
            object_count: read.seen,
            state,
        });
        Ok(read)
    }

    /// Stores the snapshot of a system. Returns the keys of accounts that the system reports as
    /// deleted.
    async fn receive_snapshot(
        &self,
        row: &SystemRow,
        object: ObjectType,
        reading: i64,
        started: jiff::Timestamp,
        read: &mut Read,
    ) -> Result<Vec<String>, EngineError> {
        self.check_restored(row, object).await?;
        let connector = self.described_connector(row, started).await?;
        let mut showing = connector.clone().read_all(object);
        let mut pending: Vec<Observed> = Vec::new();
        // One batch is stored while the next one arrives.
        let mut keeping: Option<Keeping<'_>> = None;
        loop {
            let shown = tokio::select! {
                kept = async { keeping.as_mut().expect("guarded").await }, if keeping.is_some() => {
                    keeping = None;
                    kept?;
                    continue;
                }
                shown = showing.recv() => shown,
            };
            // Received batches are stored before anything else is handled, also before an error.
            // Small pages share a transaction, because each transaction costs a flush to the
            // disk.
            let batch = matches!(&shown, Some(Ok(SnapshotItem::Batch(_))));
            if pending.len() >= TOGETHER || (!batch && !pending.is_empty()) {
                if let Some(before) = keeping.take() {
                    before.await?;
                }
                keeping = Some(Box::pin(self.context.store.store_batch(
                    reading,
                    &row.name,
                    object,
                    started,
                    std::mem::take(&mut pending),
                )));
            }
            // Only at the end: a batch that is taken here and not waited for would be lost.
            if !batch && let Some(last) = keeping.take() {
                last.await?;
            }
            let Some(shown) = shown else { break };
            match shown? {
                SnapshotItem::Batch(batch) => {
                    read.seen += batch.len();
                    pending.extend(batch);
                    self.report_progress(row, read);
                }
                SnapshotItem::Quarantined(rows) => {
                    self.quarantine_rows(reading, read, rows).await?;
                }
                SnapshotItem::Unchanged => {
                    read.unchanged = true;
                    return Ok(Vec::new());
                }
                SnapshotItem::Complete(count) if count == read.seen => {
                    return self
                        .look_for_missing(row, &*connector, reading, started, read)
                        .await;
                }
                SnapshotItem::Complete(count) => {
                    return Err(ConnectError::transient(
                        "count",
                        format!("{} of {count} accounts arrived", read.seen),
                        "it is read again",
                    )
                    .into());
                }
            }
        }
        Err(
            ConnectError::transient("cut", "the read ended unexpectedly", "it is read again")
                .into(),
        )
    }

    /// After a restore, a pushing system must have sent its records again.
    async fn check_restored(&self, row: &SystemRow, object: ObjectType) -> Result<(), EngineError> {
        let _: () = if row.kind == SystemKind::Push
            && let Some((unsent, all)) = self
                .context
                .store
                .unsent_since_restore(&row.name, object)
                .await?
                .filter(|(unsent, _)| *unsent > 0)
        {
            let name = &row.name;
            let said = format!(
                "a backup was restored, and {name} has not sent {unsent} of its {all} records of type {object} since"
            );
            let remedy = format!(
                "have it send everything again; or accept the records of the backup: `eager-tide systems accept-records {name}`"
            );
            return Err(ConnectError::permanent("outdated", said, remedy).into());
        };
        Ok(())
    }

    /// The connector of a system; the first time, its schema and capabilities are stored.
    async fn described_connector(
        &self,
        row: &SystemRow,
        started: jiff::Timestamp,
    ) -> Result<Arc<dyn Connector>, EngineError> {
        let connector = self.connections.connector(row).await?;
        if row.schema.is_empty() {
            // First contact: what the system has is needed to check the rules and to compare.
            let described = connector.describe().await?;
            self.context
                .store
                .set_system_check(
                    &row.name,
                    &serde_json::json!([]),
                    Some(&described.schema),
                    started,
                )
                .await?;
            self.context
                .store
                .set_system_profile(&row.name, &described.profile, &described.own)
                .await?;
        }
        Ok(connector)
    }

    /// Reports how many accounts were read.
    fn report_progress(&self, row: &SystemRow, read: &mut Read) {
        self.context.publish_event(Event::FullRead {
            system: row.name.clone(),
            object_count: read.seen,
            state: ReadState::Running,
        });
    }

    /// Stores rejected rows.
    async fn quarantine_rows(
        &self,
        reading: i64,
        read: &mut Read,
        rows: Vec<tide_connect::BadRow>,
    ) -> Result<(), EngineError> {
        read.quarantined += rows.len();
        let rows = rows
            .into_iter()
            .map(|row| tide_store::QuarantineRow {
                line: row.line as i64,
                reason: row.reason,
                raw: row.raw,
                key: row.key,
            })
            .collect();
        self.context.store.add_to_quarantine(reading, rows).await?;
        Ok(())
    }

    /// Checks accounts that were not listed. Many at once mean that the read is not trusted;
    /// otherwise each is looked up, if a list can miss entries while it changes. Returns the keys
    /// of those that the system confirmed as deleted.
    async fn look_for_missing(
        &self,
        row: &SystemRow,
        connector: &dyn Connector,
        reading: i64,
        started: jiff::Timestamp,
        read: &mut Read,
    ) -> Result<Vec<String>, EngineError> {
        let mut missing = self
            .context
            .store
            .missing_accounts(reading, LOOKED_FOR)
            .await?;
        let most = Settings::read(row.kind, &row.settings)
            .ok()
            .and_then(|settings| settings.max_shrink_percent());
        let too_many = |most: u8| {
            missing.count > FEW_MISSING && missing.count * 100 > missing.known * usize::from(most)
        };
        if let Some(most) = most.filter(|most| too_many(*most)) {
            let said = format!(
                "{} of {} accounts of type {} are missing: more than {most} % fewer, so the read is rejected",
                missing.count, missing.known, read.object
            );
            let remedy = "check what the service account may read; if it is right, raise `max_shrink_percent` of the system for this read";
            return Err(ConnectError::permanent("shrunk", said, remedy).into());
        }
        if missing.keys.is_empty() {
            return Ok(Vec::new());
        }
        let Some(there) = connector
            .confirm_missing(read.object, &missing.keys)
            .await?
        else {
            return Ok(Vec::new());
        };
        if there.is_empty() {
            return Ok(missing.keys);
        }
        if missing.count > missing.keys.len() {
            let said = format!(
                "{} accounts were not listed, but some of them exist: the list changed during the read",
                missing.count
            );
            return Err(ConnectError::transient("page_shift", said, "it is read again").into());
        }
        tracing::info!(
            system = row.name,
            accounts = there.len(),
            "accounts missing from a list exist"
        );
        read.seen += there.len();
        missing
            .keys
            .retain(|key| !there.iter().any(|account| account.key == *key));
        self.context
            .store
            .store_batch(reading, &row.name, read.object, started, there)
            .await?;
        Ok(missing.keys)
    }
}
