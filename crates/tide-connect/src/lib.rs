//! `tide-connect` connects to systems: it tests them, discovers their capabilities, reads and
//! watches them, and writes one change at a time. [`Connector`] is its interface to the engine;
//! `ldap`, `scim`, `feed` and `push` implement it.
//!
//! Read-only is enforced here, next to the wire: every write calls [`ConnectionState::permit_write`], and
//! the functions that send require its permit.
//!
//! It makes no decisions and stores nothing.

mod access;
mod change_events;
mod error;
mod feed;
mod ldap;
mod push;
mod report;
mod scim;
mod settings;
mod tls;
mod webhook;

pub use access::{ConnectionState, FeedMemory, Permit, WriteGate};
pub use change_events::{ChangeEvent, ChangeStream};
pub use error::{ConnectError, FailureClass};
pub use feed::{FeedConnector, FeedInspection, InspectedColumn, inspect, newest_file};
pub use ldap::LdapConnector;
pub use push::{PushConnector, pushed_account};
pub use report::{CheckReport, CheckStep, Description};
pub use scim::ScimConnector;
pub use settings::{
    FeedSettings, LdapAuth, LdapSettings, PushSettings, ScimAuth, ScimSettings, Secret, Settings,
};
pub use webhook::WebhookSender;

use async_trait::async_trait;
use std::sync::Arc;
use tide_core::compare::ValueChange;
use tide_core::model::Observed;
use tide_core::states::{ChangeKind, WatchMode};
use tide_core::{ObjectType, Value};
use tokio::sync::mpsc;

/// An item of a full read.
#[derive(Debug, Clone, PartialEq)]
pub enum SnapshotItem {
    /// A batch of accounts.
    Batch(Vec<Observed>),
    /// Unusable rows with their reasons. They do not count as accounts.
    Quarantined(Vec<BadRow>),
    /// The read is complete, with this number of accounts. Nothing follows.
    Complete(usize),
    /// Nothing changed since the last complete read. Nothing follows.
    Unchanged,
}

/// An unusable row of a feed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BadRow {
    /// The line on which it begins, from 1.
    pub line: u64,
    /// What is wrong with it.
    pub reason: String,
    /// The row, truncated.
    pub raw: String,
    /// Its key, if it is readable: the account then does not count as absent.
    pub key: Option<String>,
}

/// A container of a directory's tree.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DirectoryNode {
    /// Its name.
    pub dn: String,
    /// It has no children.
    pub leaf: bool,
    /// The number of people below it, at any depth.
    pub people: Option<usize>,
    /// Counting stopped at a limit: there are more.
    pub more: bool,
}

/// The stream of a full read. It ends with [`SnapshotItem::Complete`] or with an error; a stream
/// that ends without either was cut, and is incomplete.
pub type SnapshotStream = mpsc::Receiver<Result<SnapshotItem, ConnectError>>;

/// Runs a read as a task; the small channel applies backpressure to a fast server.
pub(crate) fn spawn_snapshot<F>(
    enumerate: impl FnOnce(mpsc::Sender<Result<SnapshotItem, ConnectError>>) -> F,
) -> SnapshotStream
where
    F: Future<Output = Result<SnapshotItem, ConnectError>> + Send + 'static,
{
    let (out, showing) = mpsc::channel(4);
    let work = enumerate(out.clone());
    tokio::spawn(async move {
        let end = work.await;
        // The receiver is gone: the read was canceled.
        let _ = out.send(end).await;
    });
    showing
}

/// One change to write.
#[derive(Debug, Clone)]
pub struct Write {
    /// The type of the account.
    pub object: ObjectType,
    /// The kind of change.
    pub kind: ChangeKind,
    /// The account's key and name; `None` for a create.
    pub account: Option<(String, String)>,
    /// The values before and after.
    pub values: Vec<ValueChange>,
    /// The member of a single membership: the key and the name of its account.
    pub member: Option<(String, String)>,
    /// Attributes whose lists are merged with values of others: only differences are sent.
    pub merged: Vec<String>,
}

impl Write {
    /// A change of an account, or a create if `account` is `None`.
    pub fn new(
        object: ObjectType,
        kind: ChangeKind,
        account: Option<(String, String)>,
        values: Vec<ValueChange>,
    ) -> Self {
        Write {
            object,
            kind,
            account,
            values,
            member: None,
            merged: Vec::new(),
        }
    }
}

/// A connected system.
#[async_trait]
pub trait Connector: Send + Sync {
    /// Tests the connection step by step, up to the first step that fails.
    async fn check(&self, report: &mut CheckReport);

    /// Runs the test and returns its report.
    async fn run_check(&self) -> CheckReport {
        let mut report = CheckReport::default();
        self.check(&mut report).await;
        report
    }

    /// Discovers the capabilities and the schema of the system.
    async fn describe(&self) -> Result<Description, ConnectError>;

    /// The containers directly below one (or at the top), with the number of people in each. A
    /// system without a tree has none.
    async fn browse(&self, _below: Option<&str>) -> Result<Vec<DirectoryNode>, ConnectError> {
        Ok(Vec::new())
    }

    /// Performs a full read of a type.
    fn read_all(self: Arc<Self>, object: ObjectType) -> SnapshotStream;

    /// The supported watch modes, the best one first.
    async fn watch_modes(&self) -> Result<Vec<WatchMode>, ConnectError> {
        Ok(vec![WatchMode::FullRead])
    }

    /// The current sync cursor; `None` if the mode has none.
    async fn current_cursor(
        &self,
        _object: ObjectType,
        _way: WatchMode,
    ) -> Result<Option<String>, ConnectError> {
        Ok(None)
    }

    /// Streams the changes since a sync cursor.
    fn watch(
        self: Arc<Self>,
        _object: ObjectType,
        way: WatchMode,
        _from: Option<String>,
    ) -> ChangeStream {
        crate::change_events::follow(move |_| async move {
            Err(ConnectError::permanent(
                "no_way",
                format!(
                    "this system does not support the watch mode {}",
                    way.as_str()
                ),
                "choose another watch mode",
            ))
        })
    }

    /// Finds accounts that have one of these values.
    async fn find(
        &self,
        object: ObjectType,
        probes: &[(String, Value)],
    ) -> Result<Vec<Observed>, ConnectError>;

    /// Requests accounts by key that a full read did not show although they existed before: a list
    /// whose pages shift during the read can miss accounts. Returns those that exist; the system
    /// has confirmed that the others are gone.
    ///
    /// Returns `None` where such a request would confirm no more than the list did: a file is one
    /// list, and a directory does not find by key what its permissions hide or its replica does not
    /// have yet.
    async fn confirm_missing(
        &self,
        _object: ObjectType,
        _keys: &[String],
    ) -> Result<Option<Vec<Observed>>, ConnectError> {
        Ok(None)
    }

    /// How many accounts are best written at a time; `None` leaves it to the caller.
    fn accounts_at_a_time(&self) -> Option<usize> {
        None
    }

    /// How long the system may take to show a new account; until then it does not count as absent.
    fn visibility_lag(&self) -> std::time::Duration {
        std::time::Duration::ZERO
    }

    /// Writes one change, and returns the account's new state.
    async fn write(&self, write: &Write) -> Result<Observed, ConnectError>;

    /// Changes memberships of a group without reading the group back, because it may be large.
    async fn write_membership(&self, write: &Write) -> Result<(), ConnectError> {
        self.write(write).await.map(|_| ())
    }

    /// The hash of an account's password, if it is readable. Only send it; never store or log it.
    async fn password_hash(
        &self,
        _key: &str,
    ) -> Result<Option<zeroize::Zeroizing<String>>, ConnectError> {
        Ok(None)
    }

    /// Polls a change that the system accepted; `None` while it is not done. `_place` is the
    /// [`ConnectError::operation_url`] of the acceptance.
    async fn poll_operation(
        &self,
        _write: &Write,
        _place: &str,
    ) -> Result<Option<Observed>, ConnectError> {
        Err(ConnectError::permanent(
            "not_queued",
            "this system has no queue",
            "decide again: start a new run",
        ))
    }
}

/// Creates the connector of a system.
pub fn connect(
    settings: &Settings,
    secret: Option<Secret>,
    access: Arc<ConnectionState>,
) -> Result<Arc<dyn Connector>, ConnectError> {
    Ok(match settings {
        Settings::Ldap(settings) => Arc::new(LdapConnector::new(settings.clone(), secret, access)?),
        Settings::Scim(settings) => Arc::new(ScimConnector::new(settings.clone(), secret, access)?),
        Settings::Feed(settings) => Arc::new(FeedConnector::new(settings.clone(), secret, access)?),
        Settings::Push(_) => Arc::new(PushConnector),
    })
}
