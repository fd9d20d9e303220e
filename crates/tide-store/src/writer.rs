//! The one task that writes. Jobs that wait together are committed together, so that a durable
//! commit is paid once for many. What need not be durable at once is not waited for: it is kept in order, survives the end of
//! the process, and is durable with the next commit that is.

use crate::StoreError;
use sqlx::{Connection, SqliteConnection};
use std::future::Future;
use std::pin::Pin;
use tokio::sync::{mpsc, oneshot};

/// A future that may borrow the connection.
pub(crate) type Boxed<'c, T> = Pin<Box<dyn Future<Output = T> + Send + 'c>>;
/// Tells the caller how it ended; called after the commit.
type Reply = Box<dyn FnOnce(Result<(), StoreError>) + Send>;
type Job = Box<dyn for<'c> FnOnce(&'c mut SqliteConnection) -> Boxed<'c, (bool, Reply)> + Send>;
/// Something that only reads.
type Look = Box<dyn for<'c> FnOnce(&'c mut SqliteConnection) -> Boxed<'c, ()> + Send>;

/// After how many commits the log is copied into the file.
const SWEEP: usize = 64;
/// The most jobs of one commit.
const GROUP: usize = 128;

enum Message {
    /// A job, and whether it must be durable when it returns.
    Job(Job, bool),
    Look(Look),
    Stop(oneshot::Sender<()>),
}

/// A handle to the writing task.
#[derive(Clone)]
pub(crate) struct Writer {
    queue: mpsc::Sender<Message>,
}

impl Writer {
    /// `sweeper` copies the log into the file beside the writer, which need not wait for it.
    pub fn start(connection: SqliteConnection, sweeper: SqliteConnection) -> Self {
        let (queue, jobs) = mpsc::channel(1024);
        let (often, asked) = mpsc::channel(1);
        let sweeping = tokio::spawn(sweep(sweeper, asked));
        tokio::spawn(work(connection, jobs, often, sweeping));
        Writer { queue }
    }

    /// Runs one job inside the next commit, and returns when it is durable. An error undoes this
    /// job alone.
    pub async fn run<T, F>(&self, job: F) -> Result<T, StoreError>
    where
        T: Send + 'static,
        F: for<'c> FnOnce(&'c mut SqliteConnection) -> Boxed<'c, Result<T, StoreError>> + Send + 'static,
    {
        self.hand_in(job, true).await
    }

    /// The same for what a loss of power may undo, as long as it undoes nothing that came before: observations, and what
    /// settles a change whose sending is durable.
    pub async fn run_lazily<T, F>(&self, job: F) -> Result<T, StoreError>
    where
        T: Send + 'static,
        F: for<'c> FnOnce(&'c mut SqliteConnection) -> Boxed<'c, Result<T, StoreError>> + Send + 'static,
    {
        self.hand_in(job, false).await
    }

    /// Either, as it is said.
    pub async fn hand_in<T, F>(&self, job: F, durable: bool) -> Result<T, StoreError>
    where
        T: Send + 'static,
        F: for<'c> FnOnce(&'c mut SqliteConnection) -> Boxed<'c, Result<T, StoreError>> + Send + 'static,
    {
        self.queued(job, durable).await?.await
    }

    /// Puts a job into the queue, and returns what waits for it: whatever is handed in from now on comes after it.
    pub async fn queued<T, F>(&self, job: F, durable: bool) -> Result<impl Future<Output = Result<T, StoreError>> + use<T, F>, StoreError>
    where
        T: Send + 'static,
        F: for<'c> FnOnce(&'c mut SqliteConnection) -> Boxed<'c, Result<T, StoreError>> + Send + 'static,
    {
        let (answer, wait) = oneshot::channel::<Result<T, StoreError>>();
        let boxed: Job = Box::new(move |connection| {
            Box::pin(async move {
                let result = job(connection).await;
                let good = result.is_ok();
                let reply: Reply = Box::new(move |commit| {
                    let result = match commit {
                        Ok(()) => result,
                        Err(error) => Err(error),
                    };
                    // The caller may have gone away; the write stands all the same.
                    let _ = answer.send(result);
                });
                (good, reply)
            })
        });
        self.queue.send(Message::Job(boxed, durable)).await.map_err(|_| StoreError::Closed)?;
        Ok(async move { wait.await.map_err(|_| StoreError::Closed)?.map_err(StoreError::of_writing) })
    }

    /// Reads over the connection that writes: it alone keeps what it knows of the file when something was written, and what it
    /// reads is of one moment without a transaction. Everybody who writes waits meanwhile.
    pub async fn look<T, F>(&self, look: F) -> Result<T, StoreError>
    where
        T: Send + 'static,
        F: for<'c> FnOnce(&'c mut SqliteConnection) -> Boxed<'c, Result<T, StoreError>> + Send + 'static,
    {
        let (answer, wait) = oneshot::channel::<Result<T, StoreError>>();
        let boxed: Look = Box::new(move |connection| {
            Box::pin(async move {
                // Whoever asked may have gone away.
                let _ = answer.send(look(connection).await);
            })
        });
        self.queue.send(Message::Look(boxed)).await.map_err(|_| StoreError::Closed)?;
        wait.await.map_err(|_| StoreError::Closed)?
    }

    pub async fn stop(&self) {
        let (done, wait) = oneshot::channel();
        if self.queue.send(Message::Stop(done)).await.is_ok() {
            // An error means that the task has ended, which is what is wanted.
            let _ = wait.await;
        }
    }
}

/// Copies the log into the file whenever it is asked to, until nobody can ask any more.
async fn sweep(mut connection: SqliteConnection, mut asked: mpsc::Receiver<()>) {
    while asked.recv().await.is_some() {
        // What cannot be copied now is copied later, at last by the writer itself: nothing depends on it.
        if let Err(error) = sqlx::query("PRAGMA wal_checkpoint(PASSIVE)").execute(&mut connection).await {
            tracing::debug!(%error, "the log was not copied into the file");
        }
    }
    let _ = connection.close().await;
}

async fn work(
    mut connection: SqliteConnection,
    mut jobs: mpsc::Receiver<Message>,
    often: mpsc::Sender<()>,
    sweeping: tokio::task::JoinHandle<()>,
) {
    let mut full = true;
    let mut commits = 0usize;
    while let Some(first) = jobs.recv().await {
        let mut group = Vec::new();
        let mut must = false;
        let (mut look, mut stop) = (None, None);
        let mut next = Some(first);
        while let Some(message) = next.take() {
            match message {
                Message::Job(job, durable) => {
                    must |= durable;
                    group.push(job);
                }
                // Whoever looks sees what came before.
                Message::Look(after) => {
                    look = Some(after);
                    break;
                }
                Message::Stop(done) => {
                    stop = Some(done);
                    break;
                }
            }
            if group.len() < GROUP {
                next = jobs.try_recv().ok();
            }
        }
        if !group.is_empty() {
            let begun = match (must, full) {
                (true, false) => sqlx::raw_sql("PRAGMA synchronous = FULL; BEGIN IMMEDIATE").execute(&mut connection).await,
                (false, true) => sqlx::raw_sql("PRAGMA synchronous = NORMAL; BEGIN IMMEDIATE").execute(&mut connection).await,
                _ => sqlx::query("BEGIN IMMEDIATE").execute(&mut connection).await,
            };
            // It is a setting of this connection. What could not be begun may have set either: the stricter one is set anew.
            full = must && begun.is_ok();
            commit(&mut connection, begun.map(|_| ()), group).await;
            commits += 1;
            if commits.is_multiple_of(SWEEP) {
                // One that is on its way is enough.
                let _ = often.try_send(());
            }
        }
        if let Some(look) = look {
            look(&mut connection).await;
        }
        if let Some(done) = stop {
            jobs.close();
            drop(often);
            // It ends with its sender; what it could not do the closing does.
            let _ = sweeping.await;
            if let Err(error) = connection.close().await {
                tracing::warn!(%error, "the store did not close cleanly; its log is replayed at the next start");
            }
            let _ = done.send(());
            return;
        }
    }
}

async fn commit(connection: &mut SqliteConnection, begun: Result<(), sqlx::Error>, group: Vec<Job>) {
    if let [_] = group.as_slice()
        && begun.is_ok()
    {
        // Undoing one job is undoing all: no savepoint, which would have every page copied.
        for job in group {
            let (good, reply) = job(connection).await;
            let ended = sqlx::query(if good { "COMMIT" } else { "ROLLBACK" }).execute(&mut *connection).await;
            if good && ended.is_err() {
                // Should the roll-back fail too, the next BEGIN says so.
                let _ = sqlx::query("ROLLBACK").execute(&mut *connection).await;
            }
            reply(ended.map(|_| ()).map_err(|error| {
                tracing::error!(%error, "a commit failed");
                StoreError::Unwritable { said: error.to_string() }
            }));
        }
        return;
    }
    let mut replies = Vec::with_capacity(group.len());
    for job in group {
        let marked = sqlx::query("SAVEPOINT job").execute(&mut *connection).await;
        let (good, reply) = job(connection).await;
        let end = if good { "RELEASE job" } else { "ROLLBACK TO job" };
        let ended = sqlx::query(end).execute(&mut *connection).await;
        replies.push((marked.and(ended).map(|_| ()), reply));
    }
    let committed = match begun {
        Ok(_) => sqlx::query("COMMIT").execute(&mut *connection).await.map(|_| ()),
        Err(error) => Err(error),
    };
    if let Err(error) = &committed {
        tracing::error!(%error, "a commit failed");
        // Should the roll-back fail too, the next BEGIN says so.
        let _ = sqlx::query("ROLLBACK").execute(&mut *connection).await;
    }
    let lost = committed.err().map(|error| error.to_string());
    for (own, reply) in replies {
        reply(match &lost {
            // A commit fails by the disk, a lock or rights: nothing of it was kept.
            Some(said) => Err(StoreError::Unwritable { said: said.clone() }),
            None => own.map_err(StoreError::Sql),
        });
    }
}
