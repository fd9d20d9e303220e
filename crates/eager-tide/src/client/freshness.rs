//! Freshness of the data, and reads that the rules require.

use super::output;
use tide_api::DataFreshness;

/// The freshness of the data of a system.
pub fn text(freshness: &DataFreshness) -> String {
    match (&freshness.as_of, freshness.connected) {
        (_, true) => "live: changes are watched".to_owned(),
        (Some(at), false) => format!("as of {}", output::time(at)),
        (None, false) => "never read".to_owned(),
    }
}

/// Prints the reads that the rules require, with the commands.
pub fn print_required_reads(all: &[DataFreshness]) {
    for one in all {
        let (system, object) = (&one.system, &one.object);
        let needs = one.action_needed.as_deref().unwrap_or_default();
        output::line(&format!(
            "read required: type {object} of {system} {needs}: `eager-tide systems read {system}`"
        ));
    }
}
