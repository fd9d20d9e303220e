//! `eager-tide status`.

use super::{Reach, output};
use std::process::ExitCode;
use tide_api::{ChangeSet, Overview};

fn counts(set: &ChangeSet) -> String {
    let parts: Vec<String> = set.states.iter().map(|c| format!("{} {}", c.count, c.word)).collect();
    if parts.is_empty() { "nothing to change".into() } else { parts.join(", ") }
}

/// The same answer as the console's first page.
pub async fn show(reach: &Reach) -> anyhow::Result<ExitCode> {
    let overview: Overview = reach.client()?.get("overview", &[]).await?;
    if reach.json() {
        output::json(&overview)?;
        return Ok(ExitCode::SUCCESS);
    }
    super::systems::print(&overview.systems);
    output::line("");
    let stages: Vec<String> = overview.identities.iter().map(|c| format!("{} {}", c.count, c.word)).collect();
    output::line(&format!("identities   {}", if stages.is_empty() { "none yet: a run makes them".into() } else { stages.join(", ") }));
    output::line(&format!(
        "rules        {}",
        if overview.rule_version == 0 { "none published yet".into() } else { format!("version {}", overview.rule_version) }
    ));
    match &overview.last_run {
        Some(run) => output::line(&format!("last run     {} · {} · {}: {}", run.id, output::time(&run.started), run.state, counts(run))),
        None => output::line("last run     none yet: `eager-tide preview` shows what one would do"),
    }
    let waits = overview.failed + overview.held;
    match (&overview.last_run, waits) {
        (Some(run), 1..) => {
            output::line(&format!("waiting      {} failed, {} held: `eager-tide changes show {}`", overview.failed, overview.held, run.id))
        }
        _ => output::line("waiting      nothing"),
    }
    Ok(ExitCode::SUCCESS)
}
