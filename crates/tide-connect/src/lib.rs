//! `tide-connect` speaks with systems: it tests them, asks what they can do, reads them and writes
//! one change at a time. [`Connector`] is what the engine sees; `ldap`, `scim`, `feed` and `push`
//! are its kinds.
//!
//! Read-only is enforced here, beside the wire: every write passes [`ConnectionState::permit`], and the
//! functions that send need the permit it gives.
//!
//! It is *not* a place for decisions, and it keeps nothing.

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
pub use report::{CheckReport, Description, Step};
pub use scim::ScimConnector;
pub use settings::{FeedSettings, LdapAuth, LdapSettings, PushSettings, ScimAuth, ScimSettings, Secret, Settings};
pub use webhook::WebhookSender;

use async_trait::async_trait;
use std::sync::Arc;
use tide_core::compare::ValueChange;
use tide_core::decide::ChangeKind;
use tide_core::model::Observed;
use tide_core::states::WatchMode;
use tide_core::{ObjectType, Value};
use tokio::sync::mpsc;

/// What an enumeration shows.
#[derive(Debug, Clone, PartialEq)]
pub enum SnapshotItem {
    /// Some accounts.
    Batch(Vec<Observed>),
    /// Rows that cannot be used, with the reason of each. They are not counted as shown.
    Quarantined(Vec<BadRow>),
    /// Everything was shown, and this many accounts in all. Nothing follows.
    Complete(usize),
    /// Nothing changed since the last complete enumeration. Nothing follows.
    Unchanged,
}

/// A row of a feed that cannot be used.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BadRow {
    /// The line on which it begins, from 1.
    pub line: u64,
    /// What is wrong with it.
    pub reason: String,
    /// The row as it stands, cut to a length.
    pub raw: String,
    /// Its key, if that much can be read: the account behind it is then not missing.
    pub key: Option<String>,
}

/// A container of a directory's tree.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DirectoryNode {
    /// Its name.
    pub dn: String,
    /// It holds nothing.
    pub leaf: bool,
    /// How many persons lie below it, at any depth.
    pub people: Option<usize>,
    /// There are more: counting ended at a limit.
    pub more: bool,
}

/// The stream of an enumeration: it ends with [`SnapshotItem::Complete`] or with an error. A stream that
/// ends without either was cut, and is not complete.
pub type SnapshotStream = mpsc::Receiver<Result<SnapshotItem, ConnectError>>;

/// Runs an enumeration beside its reader; the few places of the channel hold a fast server back.
pub(crate) fn spawn_snapshot<F>(enumerate: impl FnOnce(mpsc::Sender<Result<SnapshotItem, ConnectError>>) -> F) -> SnapshotStream
where
    F: Future<Output = Result<SnapshotItem, ConnectError>> + Send + 'static,
{
    let (out, showing) = mpsc::channel(4);
    let work = enumerate(out.clone());
    tokio::spawn(async move {
        let end = work.await;
        // Nobody listens any more: the reading was given up, and there is nobody to tell.
        let _ = out.send(end).await;
    });
    showing
}

/// One change to be written.
#[derive(Debug, Clone)]
pub struct Write {
    /// What the account stands for.
    pub object: ObjectType,
    /// What is to be done.
    pub kind: ChangeKind,
    /// The account's lasting key, and what it is called; none when it is to be made.
    pub account: Option<(String, String)>,
    /// The values before and after.
    pub values: Vec<ValueChange>,
    /// The member that a single membership is about: the lasting key of its account, and its name as far as we know.
    pub member: Option<(String, String)>,
    /// Lists that others write too: only the values that differ are sent.
    pub merged: Vec<String>,
}

impl Write {
    /// A change of an account by its key and its name; of a new one without.
    pub fn new(object: ObjectType, kind: ChangeKind, account: Option<(String, String)>, values: Vec<ValueChange>) -> Self {
        Write { object, kind, account, values, member: None, merged: Vec::new() }
    }
}

/// A connected system.
#[async_trait]
pub trait Connector: Send + Sync {
    /// Tests the connection step by step. It ends at the first step that fails.
    async fn check(&self, report: &mut CheckReport);

    /// The same, for whoever does not watch.
    async fn run_check(&self) -> CheckReport {
        let mut report = CheckReport::default();
        self.check(&mut report).await;
        report
    }

    /// What the system can do, and which attributes it has.
    async fn describe(&self) -> Result<Description, ConnectError>;

    /// The containers directly below one, with how many persons lie in each; the top one first. A
    /// system without a tree has none.
    async fn browse(&self, _below: Option<&str>) -> Result<Vec<DirectoryNode>, ConnectError> {
        Ok(Vec::new())
    }

    /// Enumerates all accounts of a type.
    fn read_all(self: Arc<Self>, object: ObjectType) -> SnapshotStream;

    /// How its changes can be known, the best way first.
    async fn watch_modes(&self) -> Result<Vec<WatchMode>, ConnectError> {
        Ok(vec![WatchMode::FullRead])
    }

    /// The place in the system's history at which it is now; none where it has none that can be named.
    async fn current_cursor(&self, _object: ObjectType, _way: WatchMode) -> Result<Option<String>, ConnectError> {
        Ok(None)
    }

    /// What changed since a place in its history.
    fn watch(self: Arc<Self>, _object: ObjectType, way: WatchMode, _from: Option<String>) -> ChangeStream {
        crate::change_events::follow(move |_| async move {
            Err(ConnectError::permanent("no_way", format!("this system cannot be followed by {}", way.as_str()), "choose another way"))
        })
    }

    /// Finds the accounts that have one of these values.
    async fn find(&self, object: ObjectType, probes: &[(String, Value)]) -> Result<Vec<Observed>, ConnectError>;

    /// Looks for accounts, by their keys, that an enumeration did not show although they were there before: a list whose pages shift
    /// while it is read can miss somebody. Those that are there after all; the others are gone, by the system's own word.
    ///
    /// Nothing, where the question would tell no more than the list did: a file is one list, and what a directory does not let us see,
    /// or a replica does not have yet, it does not find by its key either.
    async fn confirm_missing(&self, _object: ObjectType, _keys: &[String]) -> Result<Option<Vec<Observed>>, ConnectError> {
        Ok(None)
    }

    /// How long it may take until the system shows what was made in it: so long it is not taken for missing.
    fn visibility_lag(&self) -> std::time::Duration {
        std::time::Duration::ZERO
    }

    /// Writes one change and returns the account as it then is.
    async fn write(&self, write: &Write) -> Result<Observed, ConnectError>;

    /// Changes memberships of a group, without asking for the group afterwards: it may be long.
    async fn write_membership(&self, write: &Write) -> Result<(), ConnectError> {
        self.write(write).await.map(|_| ())
    }

    /// The hash of an account's password, as it stands there, if there is one that can be read. It goes to the wire, and nowhere else.
    async fn password_hash(&self, _key: &str) -> Result<Option<zeroize::Zeroizing<String>>, ConnectError> {
        Ok(None)
    }

    /// Asks how a change went that the system took into a queue of its own; nothing while it is not done. `place` is what
    /// [`ConnectError::operation_url`] said.
    async fn poll_operation(&self, _write: &Write, _place: &str) -> Result<Option<Observed>, ConnectError> {
        Err(ConnectError::permanent("not_queued", "this system has no queue of its own", "decide again: start a new run"))
    }
}

/// Makes the connector for a system.
pub fn connect(settings: &Settings, secret: Option<Secret>, access: Arc<ConnectionState>) -> Result<Arc<dyn Connector>, ConnectError> {
    Ok(match settings {
        Settings::Ldap(settings) => Arc::new(LdapConnector::new(settings.clone(), secret, access)?),
        Settings::Scim(settings) => Arc::new(ScimConnector::new(settings.clone(), secret, access)?),
        Settings::Feed(settings) => Arc::new(FeedConnector::new(settings.clone(), secret, access)?),
        Settings::Push(_) => Arc::new(PushConnector),
    })
}
