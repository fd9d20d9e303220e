//! `eager-tide serve`: the service on a data folder.

use anyhow::Context;
use clap::{Args, ValueEnum};
use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::process::ExitCode;
use std::sync::Arc;
use std::time::Duration;
use tide_core::states::PrincipalKind;
use tide_engine::{Clock, Engine, SecretSources, SystemClock};
use tide_store::{MasterKey, Store};
use tokio_util::sync::CancellationToken;
use tracing_subscriber::EnvFilter;

/// The exit code of a service that must be restarted.
const LOST: u8 = 70;

/// How the log is written.
#[derive(Debug, Clone, Copy, ValueEnum)]
pub enum LogFormat {
    /// Lines for people
    Text,
    /// One JSON object a line
    Json,
}

/// Options of `serve`.
#[derive(Args)]
pub struct Serve {
    /// The data folder; created if it does not exist
    #[arg(long, default_value = "eager-tide-data", env = "EAGER_TIDE_DATA")]
    data: PathBuf,
    /// Address to listen on; beyond loopback a TLS proxy is needed
    #[arg(long, default_value = "127.0.0.1:7480", env = "EAGER_TIDE_LISTEN")]
    listen: SocketAddr,
    /// Public address behind a TLS proxy, such as https://tide.example: cookies are then restricted
    /// to TLS, and SCIM answers name it
    #[arg(long, value_name = "URL", env = "EAGER_TIDE_PUBLIC_URL")]
    public_url: Option<tide_service::PublicUrl>,
    /// Folder from which feeds may be read, besides DATA/feeds; can be repeated
    #[arg(long, value_name = "DIR")]
    feed_folder: Vec<PathBuf>,
    /// Folder from which secrets may be read (file:PATH), with the hosts that they are for; can be
    /// repeated
    #[arg(long, value_name = "DIR=HOST,…")]
    secret_folder: Vec<tide_engine::ForHosts>,
    /// Environment variable that may be used as a secret (env:NAME), with the hosts that it is for;
    /// can be repeated
    #[arg(long, value_name = "NAME=HOST,…")]
    secret_variable: Vec<tide_engine::ForHosts>,
    /// Format of the log; EAGER_TIDE_LOG filters it, for example `info,tide_engine=debug`
    #[arg(long, value_enum, default_value = "text")]
    log_format: LogFormat,
}

/// Starts logging to the standard error stream.
pub fn log(format: LogFormat, default: &str) {
    let filter =
        EnvFilter::try_from_env("EAGER_TIDE_LOG").unwrap_or_else(|_| EnvFilter::new(default));
    let builder = tracing_subscriber::fmt()
        .with_env_filter(filter)
        .with_writer(std::io::stderr);
    // A second call, in a test, finds logging on already.
    let _ = match format {
        LogFormat::Text => builder
            .with_target(false)
            .with_ansi(std::io::IsTerminal::is_terminal(&std::io::stderr()))
            .try_init(),
        LogFormat::Json => builder.json().try_init(),
    };
}

/// Locks a data folder against other processes while the returned file is open.
pub fn alone(data: &Path) -> anyhow::Result<std::fs::File> {
    let path = data.join("lock");
    let file = std::fs::OpenOptions::new()
        .create(true)
        .truncate(false)
        .write(true)
        .open(&path);
    let file = file.with_context(|| format!("{} cannot be written", path.display()))?;
    if let Err(std::fs::TryLockError::WouldBlock) = file.try_lock() {
        anyhow::bail!(
            "a service works on {}: stop it first, or name another data folder",
            data.display()
        );
    }
    Ok(file)
}

/// Opens the engine of a data folder. At the first start an operator is made, and its token is
/// written to a file that only the owner may read; the file's path is returned.
pub async fn open(
    data: &Path,
    allowed: SecretSources,
) -> anyhow::Result<(Arc<Engine>, Option<PathBuf>)> {
    open_by(data, allowed, Arc::new(SystemClock)).await
}

/// The same with a clock of one's own.
pub async fn open_by(
    data: &Path,
    mut allowed: SecretSources,
    clock: Arc<dyn Clock>,
) -> anyhow::Result<(Arc<Engine>, Option<PathBuf>)> {
    private_folder(data)
        .with_context(|| format!("the data folder {} cannot be made", data.display()))?;
    let key = MasterKey::of_records(&data.join("key"), &data.join("tide.db"))?;
    let store = Store::open(&data.join("tide.db"), key).await?;
    let feeds = data.join("feeds");
    private_folder(&feeds)?;
    allowed.feed_folders.push(feeds);
    let engine = Engine::with(store, clock, allowed);
    let file = data.join("first-token");
    let first = engine.store().has_no_operator().await?;
    if first {
        let token = hex::encode(rand::random::<[u8; 32]>());
        private(&file, &token)
            .with_context(|| format!("the first token cannot be written to {}", file.display()))?;
        engine
            .store()
            .add_principal(
                PrincipalKind::Operator,
                "first operator",
                Some(&token),
                engine.now(),
            )
            .await?;
    }
    Ok((engine, first.then_some(file)))
}

/// Creates a folder that only its owner may enter, because it contains personal data. The mode of
/// an existing folder is not changed.
pub fn private_folder(path: &Path) -> std::io::Result<()> {
    let mut builder = std::fs::DirBuilder::new();
    builder.recursive(true);
    #[cfg(unix)]
    {
        use std::os::unix::fs::DirBuilderExt;
        builder.mode(0o700);
    }
    builder.create(path)
}

pub fn private(path: &Path, text: &str) -> std::io::Result<()> {
    use std::io::Write;
    let mut options = std::fs::OpenOptions::new();
    options.write(true).create(true).truncate(true);
    #[cfg(unix)]
    {
        use std::os::unix::fs::OpenOptionsExt;
        options.mode(0o600);
    }
    writeln!(options.open(path)?, "{text}")
}

/// The longest time that a shutdown takes.
const ENDS_WITHIN: Duration = Duration::from_secs(9);

/// Waits for the signal to stop on a thread of its own, which no computation blocks, and exits when
/// the service has not shut down in time. The queue is durable: the next start resumes it, and
/// looks up the changes whose answer is missing.
fn stop_in_time() -> anyhow::Result<CancellationToken> {
    let token = CancellationToken::new();
    let told = token.clone();
    let runtime = tokio::runtime::Builder::new_current_thread()
        .enable_all()
        .build()
        .context("no thread for signals")?;
    std::thread::Builder::new().name("signals".to_owned()).spawn(move || {
        runtime.block_on(stopped());
        tracing::info!("stopping");
        told.cancel();
        std::thread::sleep(ENDS_WITHIN);
        tracing::warn!("the service did not shut down in {ENDS_WITHIN:?} and exits now; the next start resumes what was in flight");
        std::process::exit(0);
    })?;
    Ok(token)
}

/// Completes when the process receives a signal to stop.
pub async fn stopped() {
    let interrupt = tokio::signal::ctrl_c();
    #[cfg(unix)]
    {
        let Ok(mut terminate) =
            tokio::signal::unix::signal(tokio::signal::unix::SignalKind::terminate())
        else {
            let _ = interrupt.await;
            return;
        };
        tokio::select! {
            _ = interrupt => {}
            _ = terminate.recv() => {}
        }
    }
    #[cfg(not(unix))]
    {
        let _ = interrupt.await;
    }
}

impl Serve {
    /// Serves until the process is stopped.
    pub async fn run(self) -> anyhow::Result<ExitCode> {
        log(self.log_format, "info,tower_http=warn");
        let allowed = SecretSources {
            feed_folders: self.feed_folder.clone(),
            secret_folders: self.secret_folder.clone(),
            secret_variables: self.secret_variable.clone(),
        };
        let stop = stop_in_time()?;
        private_folder(&self.data)
            .with_context(|| format!("the data folder {} cannot be made", self.data.display()))?;
        let _lock = alone(&self.data)?;
        let (engine, first) = open(&self.data, allowed).await?;
        let listener = tide_service::listen(self.listen).await?;
        let address = listener.local_addr()?;
        tracing::info!(console = %format!("http://{address}/"), data = %self.data.display(), "Eager Tide is up");
        if let Some(file) = first {
            tracing::info!(file = %file.display(), "first start: the first operator's token is in this file; sign in with it, and set EAGER_TIDE_TOKEN_FILE for the client");
        }
        let foreign = engine.store().secrets_of_other_keys().await?;
        if foreign > 0 {
            tracing::warn!(
                secrets = foreign,
                "some secrets were sealed with another key and cannot be opened: start with that key, or set them again with `eager-tide systems secret NAME`"
            );
        }
        engine.runner().resume_interrupted().await?;
        engine.decider().prepare_answers().await?;
        engine.start_automatic_sync();
        let (told, store) = (stop.clone(), engine.store().clone());
        let ending = async move {
            tokio::select! {
                () = told.cancelled() => {}
                () = store.writer_lost() => tracing::error!("the task that writes the records ended: the service exits and must be restarted"),
            }
        };
        tide_service::serve(listener, engine.clone(), self.public_url.clone(), ending).await?;
        if !stop.is_cancelled() {
            return Ok(ExitCode::from(LOST));
        }
        engine.store().close().await;
        tracing::info!("stopped; changes that were not sent yet are sent after the next start");
        Ok(ExitCode::SUCCESS)
    }
}
