//! Texts for what needs attention: headlines and commands are made here, from codes.

use tide_core::states::AttentionKind;
use tide_engine::Attention;

fn records(count: i64) -> String {
    if count == 1 {
        "1 record".to_owned()
    } else {
        format!("{count} records")
    }
}

fn plural(count: i64, one: &str, many: &str) -> String {
    format!("{count} {}", if count == 1 { one } else { many })
}

/// The headline.
pub fn message(one: &Attention) -> String {
    let (count, system) = (one.count, one.system.as_deref().unwrap_or("a system"));
    match one.kind {
        AttentionKind::Storage => "The records cannot be written: nothing is sent.".to_owned(),
        AttentionKind::WritesStopped => "All writes are stopped.".to_owned(),
        AttentionKind::Task => "A task of the service failed and is restarted.".to_owned(),
        AttentionKind::OpenAccess => {
            format!(
                "{} still {} access.",
                plural(count, "leaver", "leavers"),
                if count == 1 { "has" } else { "have" }
            )
        }
        AttentionKind::RulesInvalid => format!(
            "The published rules have {}: nothing is decided.",
            plural(count, "error", "errors")
        ),
        AttentionKind::Guard => format!("A guard holds changes of {}.", records(count)),
        AttentionKind::Unreachable => format!("{system} is unreachable."),
        AttentionKind::ReadFailed => format!("{system} is degraded."),
        AttentionKind::Failed => format!("Changes of {} failed.", records(count)),
        AttentionKind::Approval => format!("Changes of {} await approval.", records(count)),
        AttentionKind::Review => {
            format!("{} review.", plural(count, "match needs", "matches need"))
        }
        AttentionKind::ExternalChange => {
            format!(
                "{} changed outside Eager Tide.",
                plural(count, "account was", "accounts were")
            )
        }
        AttentionKind::OnHold => format!("{} on hold.", plural(count, "record is", "records are")),
        AttentionKind::RetriedLater => format!("Changes of {} are retried later.", records(count)),
        AttentionKind::Notices => format!("{} new.", plural(count, "alert is", "alerts are")),
        AttentionKind::NoSystems => "No system is connected yet.".to_owned(),
        AttentionKind::NoRules => "No rules are published yet.".to_owned(),
        AttentionKind::NoRun => "Nothing was run yet. Start with a preview.".to_owned(),
    }
}

/// A client command that shows details or the remedy.
pub fn command(one: &Attention) -> Option<String> {
    let system = one.system.as_deref().unwrap_or_default();
    Some(match one.kind {
        AttentionKind::Storage | AttentionKind::Task => return None,
        AttentionKind::WritesStopped => "eager-tide resume-writing".to_owned(),
        AttentionKind::OpenAccess => "eager-tide identities leavers".to_owned(),
        AttentionKind::RulesInvalid => "eager-tide rules check".to_owned(),
        AttentionKind::Guard | AttentionKind::Approval | AttentionKind::ExternalChange => {
            "eager-tide decisions list".to_owned()
        }
        AttentionKind::Unreachable => format!("eager-tide systems test {system}"),
        AttentionKind::ReadFailed => format!("eager-tide systems read {system}"),
        AttentionKind::Failed => "eager-tide holds --cause failed".to_owned(),
        AttentionKind::Review => "eager-tide holds --cause needs-review".to_owned(),
        AttentionKind::OnHold => "eager-tide holds".to_owned(),
        AttentionKind::RetriedLater => "eager-tide holds --cause retried-later".to_owned(),
        AttentionKind::Notices => "eager-tide decisions list".to_owned(),
        AttentionKind::NoSystems => "eager-tide systems add --help".to_owned(),
        AttentionKind::NoRules => "eager-tide rules publish FOLDER".to_owned(),
        AttentionKind::NoRun => "eager-tide preview".to_owned(),
    })
}
