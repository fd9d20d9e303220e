//! The published versions of the rule set.

pub(crate) mod drafts;

use crate::journal::NewJournalEntry;
use crate::{Store, StoreError, format_timestamp};
use jiff::Timestamp;
use tide_core::rules::RuleFile;

/// One published version.
#[derive(Debug, Clone, sqlx::FromRow)]
pub struct RuleVersion {
    /// Its number, from 1.
    pub version: i64,
    /// Its files.
    #[sqlx(json)]
    pub files: Vec<RuleFile>,
    /// When it was published.
    pub created_at: String,
    /// The principal.
    #[sqlx(rename = "who")]
    pub principal: String,
}

const LOAD_RULES: &str = "
    SELECT r.*, coalesce(p.name, r.principal) AS who
    FROM rule_set r
    LEFT JOIN principal p ON p.id = r.principal
    ORDER BY version DESC
    LIMIT 1";

const PUBLISH_RULES: &str = "
    INSERT INTO rule_set (version, files, created_at, principal, note)
    VALUES (?,?,?,?,?)";

impl Store {
    /// The newest version, if any was published.
    pub async fn load_rules(&self) -> Result<Option<RuleVersion>, StoreError> {
        Ok(sqlx::query_as(LOAD_RULES)
            .fetch_optional(&self.reader)
            .await?)
    }

    /// Publishes a version; its number is returned, or `None` when another than the one that it is
    /// based on is published by now. Files equal to the newest make no new version.
    pub async fn publish_rules(
        &self,
        files: &[RuleFile],
        based_on: Option<i64>,
        note: &str,
        principal: &str,
        now: Timestamp,
    ) -> Result<Option<i64>, StoreError> {
        let (text, note, principal) = (
            serde_json::to_string(files)?,
            note.to_owned(),
            principal.to_owned(),
        );
        self.writer
            .run(move |c| {
                Box::pin(async move {
                    let newest: Option<(i64, String)> = sqlx::query_as(
                        "SELECT version, files FROM rule_set ORDER BY version DESC LIMIT 1",
                    )
                    .fetch_optional(&mut *c)
                    .await?;
                    if let Some((version, files)) = &newest
                        && *files == text
                    {
                        return Ok(Some(*version));
                    }
                    if based_on.is_some_and(|base| {
                        base != newest.as_ref().map_or(0, |(version, _)| *version)
                    }) {
                        return Ok(None);
                    }
                    let version = newest.map_or(1, |(version, _)| version + 1);
                    sqlx::query(PUBLISH_RULES)
                        .bind(version)
                        .bind(text)
                        .bind(format_timestamp(now))
                        .bind(&principal)
                        .bind(&note)
                        .execute(&mut *c)
                        .await?;
                    NewJournalEntry::new(&principal, "rules.published", &version.to_string())
                        .detail(&note)
                        .append(c, now)
                        .await?;
                    Ok(Some(version))
                })
            })
            .await
    }
}
