//! `eager-tide status`.

use super::codes::label;
use super::{Reach, output};
use std::process::ExitCode;
use tide_api::{Attention, ChangeSet, Overview, Severity};

fn counts(set: &ChangeSet) -> String {
    let parts: Vec<String> = set
        .states
        .iter()
        .map(|c| format!("{} {}", c.count, label(c.state)))
        .collect();
    match (parts.is_empty(), set.unread_systems.is_empty()) {
        (true, true) => "no changes".into(),
        (true, false) => format!("{} could not be read", set.unread_systems.join(", ")),
        (false, true) => parts.join(", "),
        (false, false) => format!(
            "{}; {} could not be read",
            parts.join(", "),
            set.unread_systems.join(", ")
        ),
    }
}

/// Prints the overview, as the console's first page shows it.
pub async fn show(reach: &Reach) -> anyhow::Result<ExitCode> {
    let overview: Overview = reach.client()?.get("overview", &[]).await?;
    if reach.json() {
        output::json(&overview)?;
        return Ok(ExitCode::SUCCESS);
    }
    attention(&overview.attention);
    output::line("");
    if !overview.systems.is_empty() {
        super::systems::print(&overview.systems);
        output::line("");
    }
    print_figures(&overview);
    output::line(&format!(
        "on hold      {}",
        if overview.holds.is_empty() {
            "no records".into()
        } else {
            super::holds::counts(&overview.holds)
        }
    ));
    print_alerts(&overview);
    // The exit code lets monitors skip the text.
    let is_bad = overview
        .attention
        .iter()
        .any(|one| one.severity == Severity::Critical);
    Ok(ExitCode::from(if is_bad { 3 } else { 0 }))
}

/// Prints the counts of identities, the version of the rules and the last runs.
fn print_figures(overview: &Overview) {
    let stages: Vec<String> = overview
        .identities
        .iter()
        .map(|c| format!("{} {}", c.count, label(c.stage)))
        .collect();
    output::line(&format!(
        "identities   {}",
        if stages.is_empty() {
            "none yet: the first run creates them".into()
        } else {
            stages.join(", ")
        }
    ));
    output::line(&format!(
        "rules        {}",
        if overview.rule_version == 0 {
            "none published yet".into()
        } else {
            format!("version {}", overview.rule_version)
        }
    ));
    match &overview.last_run {
        Some(run) => output::line(&format!(
            "last run     {} · {} · {}: {}",
            run.id,
            output::time(&run.started_at),
            label(run.result),
            counts(run)
        )),
        None => output::line("last run     none yet: `eager-tide preview` shows what one would do"),
    }
    if let Some(run) = &overview.last_auto_run {
        output::line(&format!(
            "last auto    {} · {} · {}: {}",
            run.id,
            output::time(&run.started_at),
            label(run.result),
            counts(run)
        ));
    }
}

/// Prints the newest alerts.
fn print_alerts(overview: &Overview) {
    for (at, alert) in overview.alerts.iter().take(5).enumerate() {
        let head = if at == 0 { "alerts" } else { "" };
        output::line(&format!(
            "{head:<12} {} ({})",
            alert.subject,
            output::time(&alert.created_at)
        ));
        output::line(&format!("{:<12} {}", "", alert.body));
    }
    if overview.alerts.len() > 5 {
        output::line(&format!(
            "{:<12} and {} more: `eager-tide status --output json`",
            "",
            overview.alerts.len() - 5
        ));
    }
}

/// Prints what needs attention, the most severe first.
fn attention(all: &[Attention]) {
    if all.is_empty() {
        output::line("All changes are applied. Nothing needs attention.");
    }
    for one in all {
        let mark = match one.severity {
            Severity::Critical => "CRITICAL",
            Severity::Warning => "warning",
            Severity::Info => "info",
        };
        output::line(&format!("{mark:<9} {}", one.message));
        if let Some(detail) = &one.detail {
            output::line(&format!("{:<9} {detail}", ""));
        }
        if !one.names.is_empty() {
            let more = usize::try_from(one.count)
                .unwrap_or_default()
                .saturating_sub(one.names.len());
            let more = if more > 0 {
                format!(" and {more} more")
            } else {
                String::new()
            };
            output::line(&format!("{:<9} {}{more}", "", one.names.join(", ")));
        }
        if let Some(command) = &one.command {
            output::line(&format!("{:<9} {command}", ""));
        }
    }
}
