//! Who is called: `webhooks.toml`.

use super::super::WebhookRules;
use super::super::read::Section;
use std::collections::BTreeMap;

/// Loads the webhooks.
pub(super) fn load_webhooks(root: &Section<'_>) -> BTreeMap<String, WebhookRules> {
    let mut all = BTreeMap::new();
    for (name, at, value) in root.entries() {
        let Some(section) = root.as_section(name, value, format!("webhook {name}")) else {
            continue;
        };
        let timeout_seconds = section.number("timeout_seconds").unwrap_or(10);
        if !(1..=120).contains(&timeout_seconds) {
            root.source.error(
                at,
                format!("`timeout_seconds` cannot be {timeout_seconds}"),
                Some("choose from 1 to 120".into()),
            );
        }
        match section.text("url") {
            Some((url, span)) => {
                if !(url.starts_with("https://") || url.starts_with("http://")) {
                    root.source.error(
                        span.start,
                        format!("`{url}` is not a URL that can be called"),
                        Some("https://…".into()),
                    );
                }
                all.insert(
                    name.to_owned(),
                    WebhookRules {
                        url,
                        timeout_seconds,
                        place: root.source.place(at),
                    },
                );
            }
            None => root.source.error(
                at,
                format!("the URL of `{name}` is missing"),
                Some("url = \"https://…\"".into()),
            ),
        }
        section.report_unknown_keys();
    }
    all
}
