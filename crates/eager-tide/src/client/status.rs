//! `eager-tide status`.

use super::{Reach, output};
use std::process::ExitCode;
use tide_api::{ChangeSet, Overview};

fn counts(set: &ChangeSet) -> String {
    let parts: Vec<String> = set.states.iter().map(|c| format!("{} {}", c.count, c.word)).collect();
    match (parts.is_empty(), set.unread.is_empty()) {
        (true, true) => "nothing to change".into(),
        (true, false) => format!("{} could not be read", set.unread.join(", ")),
        (false, true) => parts.join(", "),
        (false, false) => format!("{}; {} could not be read", parts.join(", "), set.unread.join(", ")),
    }
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
        Some(run) => {
            output::line(&format!("last run     {} · {} · {}: {}", run.id, output::time(&run.started), run.result.label(), counts(run)))
        }
        None => output::line("last run     none yet: `eager-tide preview` shows what one would do"),
    }
    if let Some(run) = &overview.last_by_itself {
        output::line(&format!("on news      {} · {} · {}: {}", run.id, output::time(&run.started), run.result.label(), counts(run)));
    }
    if let Some(stop) = &overview.write_stop {
        output::line(&format!("STOPPED      {}; `eager-tide resume-writing` lifts it", super::stop::sentence(stop)));
    }
    if let Some(why) = &overview.stalled {
        output::line(&format!("STANDS STILL {why}"));
    }
    output::line(&format!("waiting      {}", waiting(&overview)));
    for (at, notice) in overview.notices.iter().take(5).enumerate() {
        let head = if at == 0 { "noticed" } else { "" };
        output::line(&format!("{head:<12} {} ({})", notice.subject, output::time(&notice.made)));
        output::line(&format!("{:<12} {}", "", notice.body));
    }
    if overview.notices.len() > 5 {
        output::line(&format!("{:<12} and {} more: `eager-tide status --output json`", "", overview.notices.len() - 5));
    }
    Ok(ExitCode::SUCCESS)
}

/// What waits for somebody: changes that failed or are held, and people who are held before there is
/// a change.
fn waiting(overview: &Overview) -> String {
    let newest = overview.last_run.iter().chain(&overview.last_preview).max_by_key(|set| set.id);
    let Some(newest) = newest else { return "nothing".into() };
    let held = newest.verdicts.iter().find(|count| count.word == "held").map_or(0, |count| count.count);
    let mut parts = Vec::new();
    if let Some(run) = overview.last_run.as_ref().filter(|_| overview.failed + overview.held > 0) {
        parts
            .push(format!("{} changes failed, {} are held: `eager-tide changes show {} --values`", overview.failed, overview.held, run.id));
    }
    if held > 0 {
        parts.push(format!("{held} lines are held, they wait or need a word: `eager-tide changes show {} --verdict held`", newest.id));
    }
    if parts.is_empty() { "nothing".into() } else { parts.join("\n             ") }
}
