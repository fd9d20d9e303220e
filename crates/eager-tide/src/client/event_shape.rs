//! `eager-tide systems events`: how the events of a system that pushes are read.

use super::connection::file;
use super::{Client, Reach, output, segment};
use anyhow::Context as _;
use reqwest::Method;
use std::path::PathBuf;
use tide_api::{EventSample, EventShape};
use tide_core::states::EventKind;

/// The arguments of `systems events`.
#[derive(clap::Args)]
pub struct EventShapeArgs {
    /// The system
    pub name: String,
    /// A file with an event as the system sends it
    #[arg(long, value_name = "FILE")]
    pub sample: Option<PathBuf>,
    /// Path of the kind of event, if it is not detected
    #[arg(long, value_name = "PATH")]
    pub event: Option<String>,
    /// Path of the key, if it is not detected
    #[arg(long, value_name = "PATH")]
    pub key: Option<String>,
    /// Path of the event's id, if it is not detected: repeated events are processed once
    #[arg(long, value_name = "PATH")]
    pub id: Option<String>,
    /// Path of a number that increases with each event of a record, if it is not detected
    #[arg(long, value_name = "PATH")]
    pub sequence: Option<String>,
    /// Path of the time of the event, if it is not detected
    #[arg(long, value_name = "PATH")]
    pub time: Option<String>,
    /// A value and the kind of event it stands for: hire=joiner
    #[arg(long = "kind", value_name = "VALUE=KIND")]
    pub kinds: Vec<String>,
}

impl EventShapeArgs {
    /// Runs the command.
    pub async fn run(self, reach: &Reach, client: &Client) -> anyhow::Result<()> {
        let EventShapeArgs {
            name,
            sample,
            event,
            key,
            id,
            sequence,
            time,
            kinds,
        } = self;
        let name = segment(&name);
        let Some(path) = sample else {
            let schema: serde_json::Value =
                client.get(&format!("events/{name}/schema"), &[]).await?;
            output::json(&schema)?;
            return Ok(());
        };
        let sample = serde_json::from_str(&file(&path)?)
            .with_context(|| format!("{} is not JSON", path.display()))?;
        let meaning = |pair: &String| {
            let (word, kind) = pair
                .split_once('=')
                .with_context(|| format!("`{pair}` is not VALUE=KIND"))?;
            let kind = EventKind::parse(kind).with_context(|| {
                format!("`{kind}` is not a kind of event: use joiner, mover or leaver")
            })?;
            Ok((word.to_owned(), kind))
        };
        let kinds = kinds.iter().map(meaning).collect::<anyhow::Result<_>>()?;
        let sample = EventSample {
            sample,
            event,
            key,
            id,
            sequence,
            time,
            kinds,
        };
        let learned: EventShape = client
            .send(Method::PUT, &format!("events/{name}/shape"), &sample)
            .await?;
        if reach.json() {
            output::json(&learned)?;
        } else {
            print_event_shape(learned);
        }
        Ok(())
    }
}

/// Prints how the events of a system are read.
fn print_event_shape(learned: EventShape) {
    let words: Vec<String> = learned
        .kinds
        .iter()
        .map(|(word, meaning)| format!("{word} = {meaning}"))
        .collect();
    output::line(&format!(
        "kind of event   {} ({})",
        learned.event,
        words.join(", ")
    ));
    output::line(&format!("key             {}", learned.key));
    output::line(&format!(
        "record          {}",
        if learned.record.is_empty() {
            "the whole event"
        } else {
            &learned.record
        }
    ));
    for (what, path) in [
        ("id", &learned.id),
        ("sequence", &learned.sequence),
        ("time", &learned.time),
    ] {
        output::line(&format!("{what:<16}{}", path.as_deref().unwrap_or("none")));
    }
    output::line(&format!("required        {}", learned.required.join(", ")));
}
