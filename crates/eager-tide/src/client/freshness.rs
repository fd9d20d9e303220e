//! How old what the service knows is, and what is to be read.

use super::output;
use tide_api::Known;

/// How old what is known of a system is.
pub fn words(known: &Known) -> String {
    match (&known.at, known.live) {
        (_, true) => "as it is now: each change is told".to_owned(),
        (Some(at), false) => format!("as read {}", output::time(at)),
        (None, false) => "not yet: it was never read".to_owned(),
    }
}

/// What the rules ask for and nobody read yet, and how to read it.
pub fn to_read(all: &[Known]) {
    for one in all {
        let (system, object) = (&one.system, &one.object);
        let needs = one.needs.as_deref().unwrap_or_default();
        output::line(&format!(
            "to read: type {object} of {system} {needs}: `eager-tide systems read {system}`"
        ));
    }
}
