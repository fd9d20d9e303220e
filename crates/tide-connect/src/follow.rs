//! Following a system: what changed since a place in its history, and where that history goes on.

use crate::ConnectError;
use serde::{Deserialize, Serialize};
use tide_core::model::Observed;
use tokio::sync::mpsc;

/// How the changes of a system come to be known.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Way {
    /// The directory tells each change at once (RFC 4533, refreshAndPersist).
    ContentSync,
    /// A domain controller is asked for what its change number grew past, deleted objects too.
    ChangeNumber,
    /// A directory is asked for what was modified since; deletions show in full reads only.
    Modified,
    /// A SCIM service is asked for what was modified since (`meta.lastModified`); deletions show in full reads only.
    LastModified,
    /// A file is read when it arrives.
    Arrival,
    /// The system calls us.
    Pushed,
    /// There is no way but to read everything.
    Full,
}

impl Way {
    /// All ways.
    pub const ALL: [Way; 7] = [Way::ContentSync, Way::ChangeNumber, Way::Modified, Way::LastModified, Way::Arrival, Way::Pushed, Way::Full];

    /// The word used in settings and answers.
    pub fn word(self) -> &'static str {
        match self {
            Way::ContentSync => "content_sync",
            Way::ChangeNumber => "change_number",
            Way::Modified => "modified",
            Way::LastModified => "last_modified",
            Way::Arrival => "arrival",
            Way::Pushed => "pushed",
            Way::Full => "full",
        }
    }

    /// What it means, for people.
    pub fn words(self) -> &'static str {
        match self {
            Way::ContentSync => "the directory tells each change at once (content synchronization)",
            Way::ChangeNumber => "the domain controller is asked for what changed, deleted objects too (change numbers)",
            Way::Modified => "the directory is asked for what was modified; deletions show in full reads",
            Way::LastModified => "the service is asked for what was modified; deletions show in full reads",
            Way::Arrival => "a file is read when it arrives",
            Way::Pushed => "the system calls us",
            Way::Full => "everything is read each time",
        }
    }

    /// The way that a word names.
    pub fn from_word(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|way| way.word() == word)
    }

    /// Does the system tell by itself, so that nobody asks it again and again?
    pub fn tells(self) -> bool {
        matches!(self, Way::ContentSync | Way::Arrival | Way::Pushed)
    }

    /// Are deletions told too?
    pub fn tells_deletions(self) -> bool {
        !matches!(self, Way::Modified | Way::LastModified)
    }
}

/// What following brings.
#[derive(Debug, Clone, PartialEq)]
pub enum News {
    /// Accounts as they are now.
    Changed(Vec<Observed>),
    /// The keys of accounts that are gone.
    Gone(Vec<String>),
    /// All up to this place in the system's history was told.
    Mark(String),
    /// What happened meanwhile cannot be told any more, and why: everything must be read.
    Lost(String),
}

/// The stream of news. Ways that tell by themselves go on until it is dropped; the others end after a mark, and are
/// begun again from there.
pub type Following = mpsc::Receiver<Result<News, ConnectError>>;

/// Runs a follower beside its reader.
pub(crate) fn follow<F>(work: impl FnOnce(mpsc::Sender<Result<News, ConnectError>>) -> F) -> Following
where
    F: Future<Output = Result<(), ConnectError>> + Send + 'static,
{
    let (out, following) = mpsc::channel(64);
    let work = work(out.clone());
    tokio::spawn(async move {
        tokio::select! {
            ended = work => {
                if let Err(error) = ended {
                    // Nobody listens any more: the following was given up.
                    let _ = out.send(Err(error)).await;
                }
            }
            () = out.closed() => {}
        }
    });
    following
}

/// The end of a following that nobody hears.
pub(crate) fn stopped<T>(_: T) -> ConnectError {
    ConnectError::passing("stopped", "the following was stopped", "start it again")
}
