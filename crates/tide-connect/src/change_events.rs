//! Change feeds: the changes of a system since a cursor, and the next cursor.

use crate::ConnectError;
use tide_core::model::Observed;
use tokio::sync::mpsc;

/// What following brings.
#[derive(Debug, Clone, PartialEq)]
pub enum ChangeEvent {
    /// Accounts as they are now.
    Changed(Vec<Observed>),
    /// The keys of accounts that are gone.
    Gone(Vec<String>),
    /// All up to this place in the system's history was told.
    Checkpoint(String),
    /// What happened meanwhile cannot be told any more, and why: everything must be read.
    ResyncRequired(String),
}

/// The stream of news. Ways that tell by themselves go on until it is dropped; the others end after
/// a mark, and are begun again from there.
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
