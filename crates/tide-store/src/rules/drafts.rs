//! Drafts of the rule set, and the versions that were published from them.

use crate::journal::NewJournalEntry;
use crate::{Store, StoreError, format_timestamp};
use jiff::Timestamp;
use tide_core::rules::RuleFile;

/// A draft.
#[derive(Debug, Clone, sqlx::FromRow)]
pub struct DraftRow {
    /// Its number.
    pub id: i64,
    /// Its purpose.
    pub name: String,
    /// The version that it began from; 0 while nothing was published.
    pub base: i64,
    /// Its files.
    #[sqlx(json)]
    pub files: Vec<RuleFile>,
    /// How often it was saved, from 1.
    pub edition: i64,
    /// The principal who created it.
    #[sqlx(rename = "who")]
    pub principal: String,
    /// When it was created.
    pub created_at: String,
    /// When it was last saved.
    pub changed_at: String,
    /// The principal.
    #[sqlx(rename = "changer")]
    pub changed_by: String,
}

/// A published version, without its files.
#[derive(Debug, Clone, sqlx::FromRow)]
pub struct VersionRow {
    /// Its number.
    pub version: i64,
    /// When it was published.
    pub created_at: String,
    /// The principal.
    #[sqlx(rename = "who")]
    pub principal: String,
    /// The version that it is based on.
    pub note: String,
}

const DRAFT: &str = "SELECT d.*, coalesce(p.name, d.principal) AS who, coalesce(q.name, d.changed_by) AS changer FROM draft d
    LEFT JOIN principal p ON p.id = d.principal LEFT JOIN principal q ON q.id = d.changed_by WHERE d.ended_at IS NULL";

/// An edit of a draft.
#[derive(Debug, Clone, Copy)]
pub struct DraftEdit<'a> {
    /// The draft.
    pub id: i64,
    /// The edition on which the edit is based.
    pub edition: i64,
    /// The new base version; absent to keep the base.
    pub base: Option<i64>,
    /// All files after the edit.
    pub files: &'a [RuleFile],
}

const BEGIN_DRAFT: &str = "
    INSERT INTO draft (name, base, files, principal, created_at, changed_at, changed_by)
    VALUES (?,?,?,?,?,?,?)";

const SAVE_DRAFT: &str = "
    UPDATE draft SET files = ?, base = coalesce(?, base), edition = edition + 1,
      changed_at = ?, changed_by = ?
    WHERE id = ? AND edition = ? AND ended_at IS NULL";

const END_DRAFT: &str = "
    UPDATE draft SET ended_at = ?, published = ?
    WHERE id = ? AND ended_at IS NULL";

const RULE_VERSIONS: &str = "
    SELECT r.version, r.created_at, r.note, coalesce(p.name, r.principal) AS who
    FROM rule_set r
    LEFT JOIN principal p ON p.id = r.principal
    ORDER BY version DESC";

impl Store {
    /// Open drafts, the newest first.
    pub async fn list_drafts(&self) -> Result<Vec<DraftRow>, StoreError> {
        let sql = format!("{DRAFT} ORDER BY d.id DESC");
        Ok(sqlx::query_as(sqlx::AssertSqlSafe(sql))
            .fetch_all(&self.reader)
            .await?)
    }

    /// One open draft.
    pub async fn find_draft(&self, id: i64) -> Result<DraftRow, StoreError> {
        let sql = format!("{DRAFT} AND d.id = ?");
        sqlx::query_as(sqlx::AssertSqlSafe(sql))
            .bind(id)
            .fetch_optional(&self.reader)
            .await?
            .ok_or_else(|| StoreError::Missing {
                what: "open draft",
                name: id.to_string(),
            })
    }

    /// Begins a draft.
    pub async fn begin_draft(
        &self,
        name: &str,
        base: i64,
        files: &[RuleFile],
        principal: &str,
        now: Timestamp,
    ) -> Result<i64, StoreError> {
        let (name, files, principal) = (
            name.to_owned(),
            serde_json::to_string(files)?,
            principal.to_owned(),
        );
        self.writer
            .run(move |c| {
                Box::pin(async move {
                    let done = sqlx::query(BEGIN_DRAFT)
                        .bind(&name)
                        .bind(base)
                        .bind(files)
                        .bind(&principal)
                        .bind(format_timestamp(now))
                        .bind(format_timestamp(now))
                        .bind(&principal)
                        .execute(&mut *c)
                        .await?;
                    let id = done.last_insert_rowid();
                    NewJournalEntry::new(&principal, "draft.begun", &id.to_string())
                        .detail(&name)
                        .append(c, now)
                        .await?;
                    Ok(id)
                })
            })
            .await
    }

    /// Saves a draft unless it was saved since: returns the new edition, or `None`.
    pub async fn save_draft(
        &self,
        edit: DraftEdit<'_>,
        principal: &str,
        now: Timestamp,
    ) -> Result<Option<i64>, StoreError> {
        let (id, edition, base) = (edit.id, edit.edition, edit.base);
        let (files, principal) = (serde_json::to_string(edit.files)?, principal.to_owned());
        self.writer
            .run(move |c| {
                Box::pin(async move {
                    let done = sqlx::query(SAVE_DRAFT)
                        .bind(files)
                        .bind(base)
                        .bind(format_timestamp(now))
                        .bind(&principal)
                        .bind(id)
                        .bind(edition)
                        .execute(&mut *c)
                        .await?;
                    // Only an edition that is there is counted on.
                    Ok((done.rows_affected() == 1).then(|| edition + 1))
                })
            })
            .await
    }

    /// Ends a draft: published as a version, or dropped.
    pub async fn end_draft(
        &self,
        id: i64,
        published: Option<i64>,
        principal: &str,
        now: Timestamp,
    ) -> Result<(), StoreError> {
        let principal = principal.to_owned();
        self.writer
            .run(move |c| {
                Box::pin(async move {
                    sqlx::query(END_DRAFT)
                        .bind(format_timestamp(now))
                        .bind(published)
                        .bind(id)
                        .execute(&mut *c)
                        .await?;
                    let act = if published.is_some() {
                        "draft.published"
                    } else {
                        "draft.dropped"
                    };
                    let detail = published
                        .map(|version| format!("version {version}"))
                        .unwrap_or_default();
                    NewJournalEntry::new(&principal, act, &id.to_string())
                        .detail(&detail)
                        .append(c, now)
                        .await?;
                    Ok(())
                })
            })
            .await
    }

    /// Published versions, the newest first.
    pub async fn rule_versions(&self) -> Result<Vec<VersionRow>, StoreError> {
        Ok(sqlx::query_as(RULE_VERSIONS)
            .fetch_all(&self.reader)
            .await?)
    }

    /// The files of a published version.
    pub async fn rule_files(&self, version: i64) -> Result<Vec<RuleFile>, StoreError> {
        let files: Option<String> =
            sqlx::query_scalar("SELECT files FROM rule_set WHERE version = ?")
                .bind(version)
                .fetch_optional(&self.reader)
                .await?;
        match files {
            Some(files) => Ok(serde_json::from_str(&files)?),
            None => Err(StoreError::Missing {
                what: "version of the rules",
                name: version.to_string(),
            }),
        }
    }
}
