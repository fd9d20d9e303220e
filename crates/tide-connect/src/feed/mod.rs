//! The feed connector: rows of a CSV or JSON Lines file, from a folder or pulled over HTTP, as
//! accounts. A file that cannot be trusted as a whole is refused whole; a row that cannot be used
//! is put in quarantine, with its line and reason; the others are used.

mod inspect;
mod rows;

pub use inspect::{FeedInspection, InspectedColumn, inspect};

use crate::scim::http::{Http, HttpSettings};
use crate::tls::Trust;
use crate::{
    CheckReport, ConnectError, ConnectionState, Connector, Description, FeedSettings, ScimAuth,
    Secret, SnapshotItem, SnapshotStream, Write,
};
use async_trait::async_trait;
use reqwest::StatusCode;
use reqwest::header::{CONTENT_LENGTH, CONTENT_TYPE, ETAG, HeaderMap, HeaderValue, IF_NONE_MATCH};
use rows::{Form, Row};
use std::collections::{BTreeMap, HashMap};
use std::fs::File;
use std::io::{Seek, SeekFrom, Write as _};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, SystemTime};
use tide_core::model::Observed;
use tide_core::states::{CheckStepKind, WatchMode};
use tide_core::{AttributeDef, ObjectType, Schema, Value};
use tokio::sync::mpsc;

/// Rows that are handed on together.
const BATCH: usize = 500;
/// The largest file that is pulled, in octets.
const LARGEST: u64 = 2 << 30;
/// A file must have stood still for so long before it is read, and is waited for so often.
const STILL: Duration = Duration::from_millis(200);
const WAITS: usize = 50;
/// Names of files that are still being written, or no data.
const UNFINISHED: [&str; 4] = [".part", ".tmp", ".crdownload", ".filepart"];

/// A feed.
pub struct FeedConnector {
    settings: FeedSettings,
    access: Arc<ConnectionState>,
    http: Option<Http>,
    /// The query of a signed URL.
    query: Option<Secret>,
}

/// A file that is ready to be read.
struct Source {
    file: File,
    /// Its name, for messages.
    name: String,
    /// Its size and when it was last written to, when it was opened.
    state: (u64, Option<SystemTime>),
    /// The tag that came with a pulled file.
    etag: Option<String>,
}

fn permanent_error(
    code: &'static str,
    said: impl Into<String>,
    remedy: impl Into<String>,
) -> ConnectError {
    ConnectError::permanent(code, said, remedy)
}

fn read_error(name: &str, error: &std::io::Error) -> ConnectError {
    ConnectError::transient(
        "feed_unreadable",
        format!("{name} cannot be read: {error}"),
        "check the file and its permissions",
    )
}

/// The size of an open file, and when it was last written to.
fn state_of(file: &File, name: &str) -> Result<(u64, Option<SystemTime>), ConnectError> {
    let about = file.metadata().map_err(|error| read_error(name, &error))?;
    Ok((about.len(), about.modified().ok()))
}

impl FeedConnector {
    /// A connector; nothing is opened yet.
    pub fn new(
        settings: FeedSettings,
        secret: Option<Secret>,
        access: Arc<ConnectionState>,
    ) -> Result<Self, ConnectError> {
        let (secret, query) = if settings.signed_url {
            (None, secret)
        } else {
            (secret, None)
        };
        let http = match (&settings.path, &settings.url) {
            (Some(path), None) if Path::new(path).is_absolute() => None,
            (Some(path), None) => {
                return Err(permanent_error(
                    "feed_path",
                    format!("`{path}` is not an absolute path"),
                    "give the absolute path of the file or folder",
                ));
            }
            (None, Some(url)) => {
                let way = HttpSettings {
                    url,
                    trust: Trust {
                        ca_pem: settings.ca_pem.as_deref(),
                        ..Trust::default()
                    },
                    timeout_seconds: settings.timeout_seconds,
                    auth: &ScimAuth::Bearer,
                    in_flight: 1,
                    per_second: None,
                };
                Some(Http::new(&way, secret, access.clone())?)
            }
            _ => {
                return Err(permanent_error(
                    "feed_path",
                    "a feed has either a `path` or a `url`",
                    "give one of them",
                ));
            }
        };
        if settings.key.trim().is_empty() {
            return Err(permanent_error(
                "feed_key",
                "the feed names no key column",
                "name the column that identifies rows and never changes",
            ));
        }
        Ok(FeedConnector {
            settings,
            access,
            http,
            query,
        })
    }

    /// The file to read; `None` if it was read last time already.
    async fn open_source(&self, anew: bool) -> Result<Option<Source>, ConnectError> {
        match &self.http {
            Some(http) => self.download(http, anew).await,
            None => {
                let (path, folders) = (
                    PathBuf::from(self.settings.path.clone().unwrap_or_default()),
                    self.access.feed().folders,
                );
                for _ in 0..WAITS {
                    let (path, folders) = (path.clone(), folders.clone());
                    let source = run_blocking(move || {
                        let path = newest_file(&allowed_path(&path, &folders)?)?;
                        let name = path.display().to_string();
                        let file = File::open(&path).map_err(|error| read_error(&name, &error))?;
                        let state = state_of(&file, &name)?;
                        Ok(Source {
                            file,
                            name,
                            state,
                            etag: None,
                        })
                    })
                    .await?;
                    // A file that was written to just now may not be whole.
                    let age = source
                        .state
                        .1
                        .and_then(|at| at.elapsed().ok())
                        .unwrap_or(STILL);
                    if age >= STILL {
                        return Ok(Some(source));
                    }
                    tide_clock::sleep(STILL.saturating_sub(age)).await;
                }
                let name = path.display().to_string();
                Err(ConnectError::transient(
                    "feed_changed",
                    format!("{name} is being written all the time"),
                    "it is read again",
                ))
            }
        }
    }

    async fn download(&self, http: &Http, anew: bool) -> Result<Option<Source>, ConnectError> {
        let name = self.settings.url.clone().unwrap_or_default();
        let mut headers = HeaderMap::new();
        if let Some(etag) = self
            .access
            .feed()
            .etag
            .filter(|_| !anew)
            .and_then(|etag| HeaderValue::from_str(&etag).ok())
        {
            headers.insert(IF_NONE_MATCH, etag);
        }
        let response = http.download(&headers, self.query.as_ref()).await?;
        let status = response.status();
        let text = |name| {
            response
                .headers()
                .get(name)
                .and_then(|v: &HeaderValue| v.to_str().ok())
                .map(str::to_owned)
        };
        match status {
            StatusCode::NOT_MODIFIED => return Ok(None),
            StatusCode::OK => {}
            StatusCode::UNAUTHORIZED | StatusCode::FORBIDDEN => {
                return Err(ConnectError::system_down(
                    "token_refused",
                    format!("{name} rejects the token (HTTP {})", status.as_u16()),
                    "set a valid token: `eager-tide systems secret NAME`",
                ));
            }
            other if other.is_redirection() => {
                return Err(ConnectError::system_down(
                    "redirect",
                    format!(
                        "{name} is redirected (HTTP {}); redirects are not followed",
                        other.as_u16()
                    ),
                    "give the address that it points to",
                ));
            }
            other => {
                return Err(ConnectError::transient(
                    "feed_unreadable",
                    format!("{name} answers HTTP {}", other.as_u16()),
                    "check the address",
                ));
            }
        }
        if text(CONTENT_TYPE).is_some_and(|kind| kind.contains("html")) {
            return Err(ConnectError::system_down(
                "login_page",
                format!("{name} sends a web page instead of a file"),
                "check the address, and the token",
            ));
        }
        let (etag, announced) = (
            text(ETAG),
            text(CONTENT_LENGTH).and_then(|n| n.parse::<u64>().ok()),
        );
        let file = spool_body(&name, response, announced).await?;
        let state = state_of(&file, &name)?;
        Ok(Some(Source {
            file,
            name,
            state,
            etag,
        }))
    }

    async fn enumerate(
        &self,
        out: mpsc::Sender<Result<SnapshotItem, ConnectError>>,
    ) -> Result<SnapshotItem, ConnectError> {
        self.access.set_feed(|memory| memory.offered = None);
        let memory = self.access.feed();
        let Some(source) = self.open_source(memory.rows.is_none()).await? else {
            return Ok(SnapshotItem::Unchanged);
        };
        let settings = self.settings.clone();
        let etag = source.etag.clone();
        let total = run_blocking(move || read(source, &settings, memory.rows, &out)).await?;
        self.access.set_feed(|memory| memory.offered = etag);
        Ok(SnapshotItem::Complete(total))
    }
}

/// Stores the body in a temporary file, and checks that nothing of it is missing.
async fn spool_body(
    name: &str,
    mut response: reqwest::Response,
    announced: Option<u64>,
) -> Result<File, ConnectError> {
    let cannot_store = |error: std::io::Error| {
        ConnectError::transient(
            "spool",
            format!("the file cannot be kept: {error}"),
            "check the space on this machine",
        )
    };
    let mut file = tempfile::tempfile().map_err(cannot_store)?;
    let mut size = 0u64;
    loop {
        let chunk = response.chunk().await.map_err(|_| {
            ConnectError::transient(
                "cut",
                format!("{name} was cut off after {size} bytes"),
                "it is downloaded again",
            )
        })?;
        let Some(chunk) = chunk else { break };
        size += chunk.len() as u64;
        if size > LARGEST {
            return Err(permanent_error(
                "too_large",
                format!("{name} is larger than {} GiB", LARGEST >> 30),
                "split the feed",
            ));
        }
        file.write_all(&chunk).map_err(cannot_store)?;
    }
    if announced.is_some_and(|announced| announced != size) {
        return Err(ConnectError::transient(
            "cut",
            format!("{name} was cut off after {size} bytes"),
            "it is downloaded again",
        ));
    }
    file.seek(SeekFrom::Start(0)).map_err(cannot_store)?;
    Ok(file)
}

async fn run_blocking<T: Send + 'static>(
    work: impl FnOnce() -> Result<T, ConnectError> + Send + 'static,
) -> Result<T, ConnectError> {
    tokio::task::spawn_blocking(work)
        .await
        .unwrap_or_else(|error| {
            Err(ConnectError::transient(
                "stopped",
                error.to_string(),
                "start it again",
            ))
        })
}

/// A path inside one of the folders that feeds may be read from, with every link resolved.
fn allowed_path(path: &Path, folders: &[PathBuf]) -> Result<PathBuf, ConnectError> {
    let real = path.canonicalize().map_err(|error| {
        ConnectError::transient(
            "feed_missing",
            format!("{} cannot be found: {error}", path.display()),
            "check the path, and that the service may read it",
        )
    })?;
    let inside = folders
        .iter()
        .filter_map(|folder| folder.canonicalize().ok())
        .any(|folder| real.starts_with(folder));
    if inside {
        return Ok(real);
    }
    let shown: Vec<String> = folders
        .iter()
        .map(|folder| folder.display().to_string())
        .collect();
    Err(permanent_error(
        "feed_folder",
        format!(
            "{} lies outside the folders that feeds may be read from",
            path.display()
        ),
        if shown.is_empty() {
            "start the service with --feed-folder".to_owned()
        } else {
            format!(
                "put it below {}, or start the service with --feed-folder",
                shown.join(" or ")
            )
        },
    ))
}

/// The file itself, or the newest finished file of a folder.
///
/// # Errors
///
/// When there is none, or it cannot be looked at.
pub fn newest_file(path: &Path) -> Result<PathBuf, ConnectError> {
    let name = path.display().to_string();
    let about = path.metadata().map_err(|error| read_error(&name, &error))?;
    if about.is_file() {
        return Ok(path.to_owned());
    }
    if !about.is_dir() {
        return Err(permanent_error(
            "feed_path",
            format!("{name} is neither a file nor a folder"),
            "give the file, or the folder that it is put in",
        ));
    }
    let mut found: Option<(std::time::SystemTime, PathBuf)> = None;
    for entry in path
        .read_dir()
        .map_err(|error| read_error(&name, &error))?
        .filter_map(Result::ok)
    {
        let file = entry.file_name().to_string_lossy().to_lowercase();
        // Links are left out: they could lead out of the folder.
        let plain = entry.file_type().is_ok_and(|kind| kind.is_file());
        if !plain || file.starts_with('.') || UNFINISHED.iter().any(|end| file.ends_with(end)) {
            continue;
        }
        let at = entry
            .metadata()
            .and_then(|about| about.modified())
            .unwrap_or(std::time::UNIX_EPOCH);
        if found
            .as_ref()
            .is_none_or(|(newest, path)| (at, entry.path()) > (*newest, path.clone()))
        {
            found = Some((at, entry.path()));
        }
    }
    found.map(|(_, path)| path).ok_or_else(|| {
        ConnectError::transient(
            "feed_missing",
            format!("the folder {name} contains no file"),
            "put the first file there",
        )
    })
}

/// Reads a file twice: first to see whether it can be trusted as a whole, then to hand its rows on.
fn read(
    mut source: Source,
    settings: &FeedSettings,
    before: Option<usize>,
    out: &mpsc::Sender<Result<SnapshotItem, ConnectError>>,
) -> Result<usize, ConnectError> {
    let stopped = || ConnectError::transient("stopped", "the read was stopped", "start it again");
    let (form, keys) = survey_file(&mut source, settings)?;
    let good = keys.values().filter(|count| **count == 1).count();
    if good == 0 {
        return Err(permanent_error(
            "feed_empty",
            format!("{} contains no valid row: it is rejected", source.name),
            "check how the file is produced; no account counts as absent",
        ));
    }
    if let Some(before) = before
        && good * 100 < before * usize::from(100 - settings.max_shrink_percent.min(100))
    {
        return Err(permanent_error(
            "feed_shrunk",
            format!(
                "{} has {good} valid rows, the last file had {before}: more than {} % fewer, so it is rejected",
                source.name, settings.max_shrink_percent
            ),
            "check the file; if it is right, raise `max_shrink_percent` for this read",
        ));
    }
    let mut batch = Vec::with_capacity(BATCH);
    let mut bad = Vec::new();
    let mut total = 0;
    let send = |shown: SnapshotItem| out.blocking_send(Ok(shown)).map_err(|_| stopped());
    rows::each_row(&mut source.file, &form, &source.name, |row| {
        let observed = checked_row(settings, &keys, row);
        match observed {
            Ok(observed) => {
                total += 1;
                batch.push(observed);
                if batch.len() == BATCH {
                    send(SnapshotItem::Batch(std::mem::take(&mut batch)))?;
                }
            }
            Err(row) => bad.push(row),
        }
        if bad.len() >= BATCH {
            send(SnapshotItem::Quarantined(std::mem::take(&mut bad)))?;
        }
        Ok(())
    })?;
    if state_of(&source.file, &source.name)? != source.state || total != good {
        return Err(ConnectError::transient(
            "feed_changed",
            format!("{} was changed while it was read", source.name),
            "it is read again",
        ));
    }
    if !batch.is_empty() {
        send(SnapshotItem::Batch(batch))?;
    }
    if !bad.is_empty() {
        send(SnapshotItem::Quarantined(bad))?;
    }
    Ok(total)
}

/// A row as an account, or as one for the quarantine.
fn checked_row(
    settings: &FeedSettings,
    keys: &HashMap<String, usize>,
    row: Row<'_>,
) -> Result<Observed, crate::BadRow> {
    match row {
        Row::Good { line, values, raw } => {
            let key = key_of(&values, &settings.key);
            match key {
                None => Err(crate::BadRow {
                    line,
                    reason: format!("the key `{}` is empty", settings.key),
                    raw: raw(),
                    key: None,
                }),
                Some(key) if keys.get(&key).is_some_and(|count| *count > 1) => Err(crate::BadRow {
                    line,
                    reason: format!(
                        "the key {key} is in {} rows: none of them is used",
                        keys[&key]
                    ),
                    raw: raw(),
                    key: Some(key),
                }),
                Some(key) => Ok(observed(key, values, settings)),
            }
        }
        Row::Bad(row) => Err(row),
    }
}

/// The first pass: how the file is written, and how often each key occurs in it.
fn survey_file(
    source: &mut Source,
    settings: &FeedSettings,
) -> Result<(Form, HashMap<String, usize>), ConnectError> {
    let form = rows::detect_form(
        &mut source.file,
        &source.name,
        settings.format,
        settings.delimiter,
    )?;
    if !form.columns.is_empty() && !form.columns.contains(&settings.key) {
        let near =
            tide_core::expr::closest_name(&settings.key, form.columns.iter().map(String::as_str));
        return Err(permanent_error(
            "feed_key",
            format!("{} has no column `{}`", source.name, settings.key),
            near.map_or_else(
                || format!("it has: {}", form.columns.join(", ")),
                |near| format!("did you mean `{near}`?"),
            ),
        ));
    }
    let mut keys: HashMap<String, usize> = HashMap::new();
    rows::each_row(&mut source.file, &form, &source.name, |row| {
        if let Row::Good { values, .. } = row
            && let Some(key) = key_of(&values, &settings.key)
        {
            *keys.entry(key).or_insert(0) += 1;
        }
        Ok(())
    })?;
    Ok((form, keys))
}

fn key_of(values: &[(Arc<str>, Vec<Value>)], key: &str) -> Option<String> {
    let found = values
        .iter()
        .find(|(name, _)| &**name == key)?
        .1
        .first()?
        .to_string();
    Some(found.trim().to_owned()).filter(|key| !key.is_empty())
}

fn observed(key: String, values: Vec<(Arc<str>, Vec<Value>)>, settings: &FeedSettings) -> Observed {
    let name = settings
        .name
        .as_ref()
        .and_then(|name| key_of(&values, name))
        .unwrap_or_else(|| key.clone());
    Observed {
        key,
        name,
        attributes: values
            .into_iter()
            .map(|(name, values)| (name.to_string(), values))
            .collect(),
        fault: None,
        version: None,
        is_exact: true,
    }
}

#[async_trait]
impl Connector for FeedConnector {
    async fn check(&self, report: &mut CheckReport) {
        if let Some(http) = &self.http
            && !http.check(report).await
        {
            return;
        }
        let source = match self.open_source(true).await {
            Ok(Some(source)) => source,
            Ok(None) => {
                return report.passed(CheckStepKind::File, "unchanged since the last download");
            }
            Err(error) => return report.failed(CheckStepKind::File, &error),
        };
        report.passed(CheckStepKind::File, source.name.clone());
        let (settings, mut source) = (self.settings.clone(), source);
        let looked = run_blocking(move || {
            let (form, keys) = survey_file(&mut source, &settings)?;
            let mut seen = (0usize, 0usize);
            rows::each_row(&mut source.file, &form, &source.name, |row| {
                let good =
                    matches!(&row, Row::Good { values, .. } if key_of(values, &settings.key).is_some_and(|key| keys.get(&key) == Some(&1)));
                if good {
                    seen.0 += 1
                } else {
                    seen.1 += 1
                }
                Ok(())
            })?;
            Ok((form, seen))
        })
        .await;
        match looked {
            Err(error) => report.failed(CheckStepKind::Format, &error),
            Ok((form, (good, bad))) => {
                report.passed(CheckStepKind::Format, form.to_string());
                if !form.columns.is_empty() {
                    report.passed(CheckStepKind::Columns, form.columns.join(" · "));
                }
                match (good, bad) {
                    (0, _) => report.failed(
                        CheckStepKind::Rows,
                        &permanent_error("feed_empty", "the file contains no valid row", "`eager-tide feeds inspect FILE` shows what is in it"),
                    ),
                    (_, 0) => report.passed(CheckStepKind::Rows, format!("{good}, all valid, identified by {}", self.settings.key)),
                    _ => report.warned(
                        CheckStepKind::Rows,
                        format!("{good} valid, {bad} in quarantine"),
                        "read it once; the page of the system then lists the quarantine with reasons",
                    ),
                }
            }
        }
    }

    async fn describe(&self) -> Result<Description, ConnectError> {
        let Some(mut source) = self.open_source(true).await? else {
            return Ok(Description::default());
        };
        let (format, delimiter) = (self.settings.format, self.settings.delimiter);
        let (form, columns) = run_blocking(move || {
            let form = rows::detect_form(&mut source.file, &source.name, format, delimiter)?;
            let mut columns: BTreeMap<String, bool> = form
                .columns
                .iter()
                .map(|name| (name.clone(), false))
                .collect();
            if columns.is_empty() {
                rows::each_row(&mut source.file, &form, &source.name, |row| {
                    if let Row::Good { values, .. } = row {
                        for (name, values) in values {
                            *columns.entry(name.to_string()).or_insert(false) |= values.len() > 1;
                        }
                    }
                    Ok(())
                })?;
            }
            Ok((form, columns))
        })
        .await?;
        let mut schema = Schema::default();
        for (name, many) in columns {
            schema.put(AttributeDef {
                multi_valued: many,
                writable: false,
                required: name == self.settings.key,
                ..AttributeDef::text(name)
            });
        }
        let profile = vec![
            ("Product".to_owned(), "a feed".to_owned()),
            ("Format".to_owned(), form.to_string()),
        ];
        Ok(Description {
            schema: BTreeMap::from([(ObjectType::Person, schema)]),
            abilities: vec![form.to_string()],
            profile,
            own: Vec::new(),
        })
    }

    fn read_all(self: Arc<Self>, object: ObjectType) -> SnapshotStream {
        crate::spawn_snapshot(move |out| async move {
            if object != ObjectType::Person {
                return Ok(SnapshotItem::Complete(0));
            }
            self.enumerate(out).await
        })
    }

    async fn watch_modes(&self) -> Result<Vec<WatchMode>, ConnectError> {
        Ok(vec![if self.settings.url.is_none() {
            WatchMode::Arrival
        } else {
            WatchMode::FullRead
        }])
    }

    async fn find(
        &self,
        _object: ObjectType,
        _probes: &[(String, Value)],
    ) -> Result<Vec<Observed>, ConnectError> {
        Ok(Vec::new())
    }

    async fn write(&self, _write: &Write) -> Result<Observed, ConnectError> {
        Err(permanent_error(
            "feed_only",
            "a feed is read, and nothing is ever written to it",
            "leave outbound mappings out of its rules",
        ))
    }
}
