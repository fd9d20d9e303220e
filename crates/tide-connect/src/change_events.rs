//! Change feeds: the changes of a system since a cursor, and the next cursor.

use crate::ConnectError;
use tide_core::model::Observed;
use tokio::sync::mpsc;

/// An event of a watched system.
#[derive(Debug, Clone, PartialEq)]
pub enum ChangeEvent {
    /// Accounts as they are now.
    Changed(Vec<Observed>),
    /// The keys of accounts that are gone.
    Gone(Vec<String>),
    /// All changes up to this cursor were received.
    Checkpoint(String),
    /// The history since the cursor is lost, with the reason: a full read must follow.
    ResyncRequired(String),
}

/// The stream of change events. Streams of systems that push continue until they are dropped;
/// polls end after a cursor, and are restarted from there.
pub type ChangeStream = mpsc::Receiver<Result<ChangeEvent, ConnectError>>;

/// Runs a watcher beside the receiver of its events.
pub(crate) fn follow<F>(
    work: impl FnOnce(mpsc::Sender<Result<ChangeEvent, ConnectError>>) -> F,
) -> ChangeStream
where
    F: Future<Output = Result<(), ConnectError>> + Send + 'static,
{
    let (out, following) = mpsc::channel(64);
    let work = work(out.clone());
    tokio::spawn(async move {
        tokio::select! {
            ended = work => {
                if let Err(error) = ended {
                    // The receiver was dropped: watching ends.
                    let _ = out.send(Err(error)).await;
                }
            }
            () = out.closed() => {}
        }
    });
    following
}

/// The error of a feed whose receiver was dropped.
pub(crate) fn stopped<T>(_: T) -> ConnectError {
    ConnectError::transient("stopped", "watching was stopped", "start it again")
}
