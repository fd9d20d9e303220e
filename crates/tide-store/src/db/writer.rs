//! The writer task: the only one that writes. Queued jobs are committed in groups, so that many
//! share one durable commit. Relaxed jobs commit without fsync: they are kept in order, survive the
//! end of the process, and become durable with the next durable commit.
//!
//! No job can end the task: a job that panics is rolled back like one that fails, and its caller
//! gets [`StoreError::Internal`]. No job runs outside a transaction: if BEGIN fails, or SQLite
//! rolls a transaction back on its own, every job of the group fails.

use crate::StoreError;
use crate::journal::JournalKey;
use futures::FutureExt;
use sqlx::{Connection, SqliteConnection};
use std::future::Future;
use std::panic::AssertUnwindSafe;
use std::pin::Pin;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use tokio::sync::{mpsc, oneshot, watch};

/// A future that may borrow the connection.
pub(crate) type Boxed<'c, T> = Pin<Box<dyn Future<Output = T> + Send + 'c>>;
/// Reports the result to the caller, after the commit.
type Reply = Box<dyn FnOnce(Result<(), StoreError>) + Send>;
/// Runs the job, or reports to its caller why it cannot run. Returns whether to keep its writes.
type Job = Box<
    dyn for<'c> FnOnce(Result<&'c mut SqliteConnection, StoreError>) -> Boxed<'c, (bool, Reply)>
        + Send,
>;
/// A read on the writer connection.
type WriterRead = Box<dyn for<'c> FnOnce(&'c mut SqliteConnection) -> Boxed<'c, ()> + Send>;

/// Commits between checkpoints.
const SWEEP: usize = 64;
/// A log of more pages than this is begun anew between two commits: 32 MB.
const LONG_LOG: i64 = 8_192;
/// Maximum number of jobs in one commit.
const GROUP: usize = 128;

enum WriterMessage {
    /// A job, and whether its commit must be durable.
    Job(Job, bool),
    Look(WriterRead),
    Stop(oneshot::Sender<()>),
}

/// A handle to the writer task.
#[derive(Clone)]
pub(crate) struct Writer {
    queue: mpsc::Sender<WriterMessage>,
    lost: watch::Receiver<bool>,
}

/// Reports that the task ended without being stopped, so that nothing can be written any more.
struct Ending {
    lost: watch::Sender<bool>,
    stopped: bool,
}

impl Drop for Ending {
    fn drop(&mut self) {
        if !self.stopped {
            // The receiver may be gone.
            let _ = self.lost.send(true);
        }
    }
}

impl Writer {
    /// `sweeper` runs checkpoints on a connection of its own, so that the writer does not wait for
    /// them.
    pub fn start(connection: SqliteConnection, sweeper: SqliteConnection, key: JournalKey) -> Self {
        let (queue, jobs) = mpsc::channel(1024);
        let (often, asked) = mpsc::channel(1);
        let is_long = Arc::new(AtomicBool::new(false));
        let sweeping = tokio::spawn(checkpoint_loop(sweeper, asked, is_long.clone()));
        let (lost, is_lost) = watch::channel(false);
        let ending = Ending {
            lost,
            stopped: false,
        };
        tokio::spawn(async move {
            let mut ending = ending;
            crate::journal::KEY
                .scope(
                    key,
                    writer_loop(connection, jobs, (often, sweeping), is_long),
                )
                .await;
            ending.stopped = true;
        });
        Writer {
            queue,
            lost: is_lost,
        }
    }

    /// Completes when the task ended without being stopped.
    pub async fn ended_unexpectedly(&self) {
        if self.lost.clone().wait_for(|lost| *lost).await.is_err() {
            // It was stopped.
            std::future::pending::<()>().await;
        }
    }

    /// Runs a job in the next commit, and returns once it is durable. An error rolls back this
    /// job only.
    pub async fn run<T, F>(&self, job: F) -> Result<T, StoreError>
    where
        T: Send + 'static,
        F: for<'c> FnOnce(&'c mut SqliteConnection) -> Boxed<'c, Result<T, StoreError>>
            + Send
            + 'static,
    {
        self.enqueue(job, true).await
    }

    /// Like `run`, but commits without fsync. A power failure may lose the most recent such
    /// commits, never earlier durable ones. Use it only for data that can be read again or derived
    /// again.
    pub async fn run_relaxed<T, F>(&self, job: F) -> Result<T, StoreError>
    where
        T: Send + 'static,
        F: for<'c> FnOnce(&'c mut SqliteConnection) -> Boxed<'c, Result<T, StoreError>>
            + Send
            + 'static,
    {
        self.enqueue(job, false).await
    }

    /// Runs a job, durable or relaxed.
    pub async fn enqueue<T, F>(&self, job: F, durable: bool) -> Result<T, StoreError>
    where
        T: Send + 'static,
        F: for<'c> FnOnce(&'c mut SqliteConnection) -> Boxed<'c, Result<T, StoreError>>
            + Send
            + 'static,
    {
        self.queued(job, durable).await?.await
    }

    /// Queues a job, and returns a future of its result: jobs that are queued later run after it.
    pub async fn queued<T, F>(
        &self,
        job: F,
        durable: bool,
    ) -> Result<impl Future<Output = Result<T, StoreError>> + use<T, F>, StoreError>
    where
        T: Send + 'static,
        F: for<'c> FnOnce(&'c mut SqliteConnection) -> Boxed<'c, Result<T, StoreError>>
            + Send
            + 'static,
    {
        let (answer, wait) = oneshot::channel::<Result<T, StoreError>>();
        let boxed: Job = Box::new(move |connection| {
            Box::pin(async move {
                let result = match connection {
                    Ok(connection) => run_caught(async move { job(connection).await }).await,
                    Err(error) => Err(error),
                };
                let good = result.is_ok();
                let reply: Reply = Box::new(move |commit| {
                    let result = match commit {
                        Ok(()) => result,
                        Err(error) => Err(error),
                    };
                    // The caller may be gone; the write is kept.
                    let _ = answer.send(result);
                });
                (good, reply)
            })
        });
        self.queue
            .send(WriterMessage::Job(boxed, durable))
            .await
            .map_err(|_| StoreError::Closed)?;
        Ok(async move {
            wait.await
                .map_err(|_| StoreError::Closed)?
                .map_err(StoreError::of_writing)
        })
    }

    /// Reads on the writer connection, which keeps its page cache across writes and needs no
    /// transaction for a consistent read. Writes queue behind it: use it for small reads only.
    pub async fn read_on_writer<T, F>(&self, look: F) -> Result<T, StoreError>
    where
        T: Send + 'static,
        F: for<'c> FnOnce(&'c mut SqliteConnection) -> Boxed<'c, Result<T, StoreError>>
            + Send
            + 'static,
    {
        let (answer, wait) = oneshot::channel::<Result<T, StoreError>>();
        let boxed: WriterRead = Box::new(move |connection| {
            Box::pin(async move {
                // The caller may be gone.
                let _ = answer.send(run_caught(async move { look(connection).await }).await);
            })
        });
        self.queue
            .send(WriterMessage::Look(boxed))
            .await
            .map_err(|_| StoreError::Closed)?;
        wait.await.map_err(|_| StoreError::Closed)?
    }

    pub async fn stop(&self) {
        let (done, wait) = oneshot::channel();
        if self.queue.send(WriterMessage::Stop(done)).await.is_ok() {
            // An error means that the task has ended already.
            let _ = wait.await;
        }
    }
}

/// The result of a job, or an internal error if it panics. The caller rolls its writes back.
async fn run_caught<T>(job: impl Future<Output = Result<T, StoreError>>) -> Result<T, StoreError> {
    AssertUnwindSafe(job)
        .catch_unwind()
        .await
        .unwrap_or_else(|panic| {
            let said = crate::panic_message(&*panic);
            tracing::error!(panic = said, "a store job panicked and was rolled back");
            Err(StoreError::Internal { said })
        })
}

/// Runs a checkpoint on each request, until the channel closes. Tells the writer when the log is
/// long: only between two commits can it begin anew.
async fn checkpoint_loop(
    mut connection: SqliteConnection,
    mut asked: mpsc::Receiver<()>,
    is_long: Arc<AtomicBool>,
) {
    while asked.recv().await.is_some() {
        // A failed checkpoint is repeated later, at the latest by the writer: nothing depends on
        // it.
        match sqlx::query_as::<_, (i64, i64, i64)>("PRAGMA wal_checkpoint(PASSIVE)")
            .fetch_one(&mut connection)
            .await
        {
            Ok((_, pages, _)) if pages > LONG_LOG => is_long.store(true, Ordering::Release),
            Ok(_) => {}
            Err(error) => tracing::debug!(%error, "the write-ahead log was not checkpointed"),
        }
    }
    let _ = connection.close().await;
}

/// Copies the rest of the log into the file and begins it anew. It does not wait: while a reader
/// needs an older state, the log stays until the next time.
async fn begin_log_anew(connection: &mut SqliteConnection) {
    let begun = sqlx::raw_sql(
        "PRAGMA busy_timeout = 0; PRAGMA wal_checkpoint(TRUNCATE); PRAGMA busy_timeout = 10000",
    );
    if let Err(error) = begun.execute(&mut *connection).await {
        tracing::debug!(%error, "the write-ahead log could not begin anew");
        let _ = sqlx::raw_sql("PRAGMA busy_timeout = 10000")
            .execute(connection)
            .await;
    }
}

async fn writer_loop(
    mut connection: SqliteConnection,
    mut jobs: mpsc::Receiver<WriterMessage>,
    (often, sweeping): (mpsc::Sender<()>, tokio::task::JoinHandle<()>),
    is_long: Arc<AtomicBool>,
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
                WriterMessage::Job(job, durable) => {
                    must |= durable;
                    group.push(job);
                }
                // A read sees all jobs queued before it.
                WriterMessage::Look(after) => {
                    look = Some(after);
                    break;
                }
                WriterMessage::Stop(done) => {
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
                (true, false) => {
                    sqlx::raw_sql("PRAGMA synchronous = FULL; BEGIN IMMEDIATE")
                        .execute(&mut connection)
                        .await
                }
                (false, true) => {
                    sqlx::raw_sql("PRAGMA synchronous = NORMAL; BEGIN IMMEDIATE")
                        .execute(&mut connection)
                        .await
                }
                _ => {
                    sqlx::query("BEGIN IMMEDIATE")
                        .execute(&mut connection)
                        .await
                }
            };
            // A setting of this connection. A failed BEGIN may have left either value: the stricter
            // one is set again.
            full = must && begun.is_ok();
            commit(&mut connection, begun.map(|_| ()), group).await;
            commits += 1;
            if is_long.swap(false, Ordering::AcqRel) {
                begin_log_anew(&mut connection).await;
            }
            if commits.is_multiple_of(SWEEP) {
                // One request in the channel is enough.
                let _ = often.try_send(());
            }
        }
        if let Some(look) = look {
            look(&mut connection).await;
        }
        if let Some(done) = stop {
            jobs.close();
            drop(often);
            // The loop ends with its sender; closing the database completes the checkpoint.
            let _ = sweeping.await;
            if let Err(error) = connection.close().await {
                tracing::warn!(%error, "the store did not close cleanly; its log is replayed at the next start");
            }
            let _ = done.send(());
            return;
        }
    }
}

async fn commit(
    connection: &mut SqliteConnection,
    begun: Result<(), sqlx::Error>,
    group: Vec<Job>,
) {
    if let Err(error) = begun {
        tracing::error!(%error, "could not begin a transaction");
        return refuse_jobs(group, &error.to_string()).await;
    }
    if group.len() == 1 {
        // A single job needs no savepoint, which would copy every page: rolling it back is rolling
        // back the transaction.
        for job in group {
            let (good, reply) = job(Ok(&mut *connection)).await;
            let ended = sqlx::query(if good { "COMMIT" } else { "ROLLBACK" })
                .execute(&mut *connection)
                .await;
            match ended {
                Err(error) if good => {
                    roll_back(connection, &error).await;
                    reply(Err(commit_error(&error.to_string())));
                }
                // The job's own error is reported. ROLLBACK fails if SQLite has already rolled
                // back.
                _ => reply(Ok(())),
            }
        }
        return;
    }
    let mut replies = Vec::with_capacity(group.len());
    let mut jobs = group.into_iter();
    let mut lost = None;
    for job in jobs.by_ref() {
        let marked = sqlx::query("SAVEPOINT job").execute(&mut *connection).await;
        if let Err(error) = marked {
            replies.push(job(Err(commit_error(&error.to_string()))).await.1);
            lost = Some(error);
            break;
        }
        let (good, reply) = job(Ok(&mut *connection)).await;
        replies.push(reply);
        // Without the savepoint there is no transaction: SQLite rolled it back. Later jobs would
        // run outside a transaction.
        if let Err(error) = sqlx::query(if good {
            "RELEASE job"
        } else {
            "ROLLBACK TO job"
        })
        .execute(&mut *connection)
        .await
        {
            lost = Some(error);
            break;
        }
    }
    if lost.is_none() {
        lost = sqlx::query("COMMIT").execute(&mut *connection).await.err();
    }
    let Some(error) = lost else {
        replies.into_iter().for_each(|reply| reply(Ok(())));
        return;
    };
    roll_back(connection, &error).await;
    // Nothing of the group was committed, whichever job failed.
    let said = error.to_string();
    replies
        .into_iter()
        .for_each(|reply| reply(Err(commit_error(&said))));
    refuse_jobs(jobs, &said).await;
}

/// Answers jobs without running them.
async fn refuse_jobs(jobs: impl IntoIterator<Item = Job>, said: &str) {
    for job in jobs {
        let (_, reply) = job(Err(commit_error(said))).await;
        reply(Ok(()));
    }
}

/// The error of a commit that failed by the disk, a lock or permissions.
fn commit_error(said: &str) -> StoreError {
    StoreError::Unwritable {
        said: said.to_owned(),
    }
}

async fn roll_back(connection: &mut SqliteConnection, error: &sqlx::Error) {
    tracing::error!(%error, "a commit failed");
    // If SQLite already rolled back, there is nothing to roll back. Any other failure shows at the
    // next BEGIN.
    let _ = sqlx::query("ROLLBACK").execute(connection).await;
}

#[cfg(test)]
mod tests {
    use super::*;
    use sqlx::ConnectOptions;
    use sqlx::sqlite::SqliteConnectOptions;
    use std::sync::Arc;
    use std::sync::atomic::{AtomicUsize, Ordering};
    use std::time::Duration;

    async fn open(folder: &tempfile::TempDir) -> SqliteConnection {
        let options = SqliteConnectOptions::new()
            .filename(folder.path().join("t.db"))
            .create_if_missing(true);
        options
            .busy_timeout(Duration::from_millis(20))
            .connect()
            .await
            .expect("opens")
    }

    async fn started() -> (tempfile::TempDir, Writer) {
        let folder = tempfile::tempdir().expect("a folder");
        let mut one = open(&folder).await;
        sqlx::raw_sql("PRAGMA journal_mode = WAL; CREATE TABLE n (n INTEGER)")
            .execute(&mut one)
            .await
            .expect("made");
        let writer = Writer::start(one, open(&folder).await, JournalKey::new(vec![0; 32]));
        (folder, writer)
    }

    fn insert(writer: &Writer, n: i64) -> impl Future<Output = Result<(), StoreError>> + use<> {
        let writer = writer.clone();
        async move {
            writer
                .run(move |c| {
                    Box::pin(async move {
                        sqlx::query("INSERT INTO n VALUES (?)")
                            .bind(n)
                            .execute(c)
                            .await?;
                        Ok(())
                    })
                })
                .await
        }
    }

    async fn kept(writer: &Writer) -> Vec<i64> {
        let all = writer.read_on_writer(|c| {
            Box::pin(async move {
                Ok(sqlx::query_scalar("SELECT n FROM n ORDER BY n")
                    .fetch_all(c)
                    .await?)
            })
        });
        all.await.expect("read")
    }

    /// Runs a job in one group with two that insert: one before it, one after it.
    async fn between<F>(writer: &Writer, job: F) -> [Result<(), StoreError>; 3]
    where
        F: for<'c> FnOnce(&'c mut SqliteConnection) -> Boxed<'c, Result<(), StoreError>>
            + Send
            + 'static,
    {
        // While this one is in progress, the others gather.
        let first = writer.queued(slow, true).await;
        let first = tokio::spawn(first.expect("queued"));
        tide_clock::sleep(Duration::from_millis(20)).await;
        let (one, two, three) = tokio::join!(insert(writer, 1), writer.run(job), insert(writer, 3));
        first.await.expect("ends").expect("kept");
        [one, two, three]
    }

    fn slow(_: &mut SqliteConnection) -> Boxed<'_, Result<(), StoreError>> {
        Box::pin(async {
            tide_clock::sleep(Duration::from_millis(100)).await;
            Ok(())
        })
    }

    fn panics(c: &mut SqliteConnection) -> Boxed<'_, Result<(), StoreError>> {
        Box::pin(async move {
            sqlx::query("INSERT INTO n VALUES (2)").execute(c).await?;
            let most = std::hint::black_box(i64::MAX);
            Err(StoreError::Key((most + 1).to_string()))
        })
    }

    fn rolls_back(c: &mut SqliteConnection) -> Boxed<'_, Result<(), StoreError>> {
        Box::pin(async move {
            sqlx::query("ROLLBACK").execute(c).await?;
            Ok(())
        })
    }

    #[tokio::test]
    async fn a_job_that_panics_is_rolled_back_alone_and_the_writer_continues() {
        let (_folder, writer) = started().await;
        let alone = writer.run(panics).await.expect_err("an error");
        assert!(
            matches!(&alone, StoreError::Internal { said } if said.contains("overflow")),
            "{alone}"
        );
        assert_eq!(kept(&writer).await, [] as [i64; 0]);
        let [one, two, three] = between(&writer, panics).await;
        assert!(
            one.is_ok() && three.is_ok() && matches!(two, Err(StoreError::Internal { .. })),
            "{one:?} {two:?} {three:?}"
        );
        assert_eq!(kept(&writer).await, [1, 3]);
        let look: Result<(), _> = writer
            .read_on_writer(|_| Box::pin(async { panic!("while it looks") }))
            .await;
        assert!(matches!(look, Err(StoreError::Internal { said }) if said == "while it looks"));
        insert(&writer, 4).await.expect("continues");
    }

    #[tokio::test]
    async fn no_job_runs_outside_a_transaction() {
        let (folder, writer) = started().await;
        // Another connection locks the file: no transaction can begin.
        let mut other = open(&folder).await;
        sqlx::query("BEGIN IMMEDIATE")
            .execute(&mut other)
            .await
            .expect("begun");
        let ran = Arc::new(AtomicUsize::new(0));
        for _ in 0..2 {
            let ran = ran.clone();
            let counts = writer
                .run(move |_| Box::pin(async move { Ok(ran.fetch_add(1, Ordering::SeqCst)) }));
            let refused: StoreError = counts.await.expect_err("it is locked");
            assert!(
                matches!(&refused, StoreError::Unwritable { said } if said.contains("locked")),
                "{refused}"
            );
        }
        assert_eq!(ran.load(Ordering::SeqCst), 0);
        sqlx::query("ROLLBACK")
            .execute(&mut other)
            .await
            .expect("let go");
        insert(&writer, 7).await.expect("continues");

        // SQLite rolls back on its own, as it does when the disk fails: neither earlier nor later
        // jobs of the group are kept.
        for end in between(&writer, rolls_back).await {
            assert!(matches!(end, Err(StoreError::Unwritable { .. })), "{end:?}");
        }
        assert_eq!(kept(&writer).await, [7]);
        insert(&writer, 8).await.expect("continues");
        assert_eq!(kept(&writer).await, [7, 8]);
    }
}
