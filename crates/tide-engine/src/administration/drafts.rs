//! Drafts: the rule set is edited beside the published one, simulated on all records, and published
//! after review. Saving and publishing name the version they are based on, so that no edit is lost.

use crate::administration::Administration;
use crate::error::EngineError;
use tide_core::rules::difference::{FileDifference, brought_together, compare_files};
use tide_core::rules::{RuleFault, RuleFile};
use tide_store::{DraftEdit, DraftRow, VersionRow};

/// A draft with what is to be known of it.
#[derive(Debug, Clone)]
pub struct Draft {
    /// The draft.
    pub row: DraftRow,
    /// The published version; if it is not the draft's base, another version was published since.
    pub published: i64,
    /// The result of a check.
    pub faults: Vec<RuleFault>,
    /// The differences from the version that it is based on.
    pub differences: Vec<FileDifference>,
}

/// A draft that was brought up to what is published.
#[derive(Debug, Clone)]
pub struct Renewal {
    /// The draft.
    pub draft: Draft,
    /// Files that both changed: the draft's text was kept.
    pub both: Vec<String>,
}

impl Administration {
    pub(crate) async fn files_of(&self, version: i64) -> Result<Vec<RuleFile>, EngineError> {
        // Version 0 is the time before anything was published.
        if version == 0 {
            Ok(Vec::new())
        } else {
            Ok(self.context.store.rule_files(version).await?)
        }
    }

    pub(crate) async fn published_draft_base(&self) -> Result<i64, EngineError> {
        Ok(self
            .context
            .store
            .load_rules()
            .await?
            .map_or(0, |version| version.version))
    }

    /// Open drafts.
    pub async fn list_drafts(&self) -> Result<Vec<DraftRow>, EngineError> {
        Ok(self.context.store.list_drafts().await?)
    }

    /// Published versions, the newest first.
    pub async fn rule_versions(&self) -> Result<Vec<VersionRow>, EngineError> {
        Ok(self.context.store.rule_versions().await?)
    }

    /// A draft, checked.
    pub async fn show_draft(&self, id: i64) -> Result<Draft, EngineError> {
        let row = self.context.store.find_draft(id).await?;
        let (_, faults) = self.rules.check_rules(&row.files).await?;
        let differences = compare_files(&self.files_of(row.base).await?, &row.files);
        Ok(Draft {
            published: self.published_draft_base().await?,
            faults,
            differences,
            row,
        })
    }

    /// Begins a draft: with the published rules, with those of an older version (to go back to it),
    /// or with files.
    pub async fn begin_draft(
        &self,
        name: &str,
        version: Option<i64>,
        files: Option<Vec<RuleFile>>,
        principal: &str,
    ) -> Result<Draft, EngineError> {
        let base = self.published_draft_base().await?;
        let (files, usual) = match (files, version) {
            (Some(files), _) => (files, format!("edit of version {base}")),
            (None, Some(version)) => (
                self.files_of(version).await?,
                format!("back to version {version}"),
            ),
            (None, None) => (
                self.files_of(base).await?,
                format!("edit of version {base}"),
            ),
        };
        let name = if name.trim().is_empty() {
            usual
        } else {
            name.trim().chars().take(80).collect()
        };
        let id = self
            .context
            .store
            .begin_draft(&name, base, &files, principal, self.context.now())
            .await?;
        self.show_draft(id).await
    }

    /// Saves a draft. `edition` is the one that the editor began with.
    pub async fn save_draft(
        &self,
        id: i64,
        edition: i64,
        files: &[RuleFile],
        principal: &str,
    ) -> Result<Draft, EngineError> {
        if self
            .context
            .store
            .save_draft(
                DraftEdit {
                    id,
                    edition,
                    base: None,
                    files,
                },
                principal,
                self.context.now(),
            )
            .await?
            .is_none()
        {
            return Err(self.saved_by_another(id).await?);
        }
        self.show_draft(id).await
    }

    pub(crate) async fn saved_by_another(&self, id: i64) -> Result<EngineError, EngineError> {
        let row = self.context.store.find_draft(id).await?;
        Ok(EngineError::Changed(format!(
            "{} saved draft {id} at {}, as edition {}: your edit was not stored; load the draft again and merge your edit",
            row.changed_by, row.changed_at, row.edition
        )))
    }

    /// Brings what was published since into a draft.
    pub async fn renew_draft(&self, id: i64, principal: &str) -> Result<Renewal, EngineError> {
        let row = self.context.store.find_draft(id).await?;
        let published = self.published_draft_base().await?;
        let (files, both) = brought_together(
            &self.files_of(row.base).await?,
            &self.files_of(published).await?,
            &row.files,
        );
        if self
            .context
            .store
            .save_draft(
                DraftEdit {
                    id,
                    edition: row.edition,
                    base: Some(published),
                    files: &files,
                },
                principal,
                self.context.now(),
            )
            .await?
            .is_none()
        {
            return Err(self.saved_by_another(id).await?);
        }
        Ok(Renewal {
            draft: self.show_draft(id).await?,
            both,
        })
    }

    /// Drops a draft.
    pub async fn drop_draft(&self, id: i64, principal: &str) -> Result<(), EngineError> {
        self.context.store.find_draft(id).await?;
        Ok(self
            .context
            .store
            .end_draft(id, None, principal, self.context.now())
            .await?)
    }

    /// The differences between two published versions.
    pub async fn version_difference(
        &self,
        from: i64,
        to: i64,
    ) -> Result<Vec<FileDifference>, EngineError> {
        Ok(compare_files(
            &self.files_of(from).await?,
            &self.files_of(to).await?,
        ))
    }
}
