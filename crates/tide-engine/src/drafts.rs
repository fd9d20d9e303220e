//! Drafts: the rule set is edited beside the published one, simulated on all records, and published
//! after review. Saving and publishing name the version they are based on, so that no edit is lost.

use crate::{Engine, EngineError, Event};
use tide_core::impact::{Impact, compute_impact};
use tide_core::rules::difference::{FileDifference, brought_together, compare_files};
use tide_core::rules::{FaultSeverity, RuleFault, RuleFile};
use tide_core::states::SystemKind;
use tide_core::{RuleSet, decide, permissions};
use tide_store::DraftEdit;
use tide_store::{DraftRow, VersionRow};

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

pub(crate) fn sound(set: RuleSet, faults: &[RuleFault]) -> Result<RuleSet, EngineError> {
    let errors: Vec<RuleFault> = faults
        .iter()
        .filter(|fault| fault.severity == FaultSeverity::Error)
        .cloned()
        .collect();
    if errors.is_empty() {
        Ok(set)
    } else {
        Err(EngineError::Rules(errors))
    }
}

impl Engine {
    async fn files_of(&self, version: i64) -> Result<Vec<RuleFile>, EngineError> {
        // Version 0 is the time before anything was published.
        if version == 0 {
            Ok(Vec::new())
        } else {
            Ok(self.store.rule_files(version).await?)
        }
    }

    async fn published_draft_base(&self) -> Result<i64, EngineError> {
        Ok(self
            .store
            .load_rules()
            .await?
            .map_or(0, |version| version.version))
    }

    /// Open drafts.
    pub async fn list_drafts(&self) -> Result<Vec<DraftRow>, EngineError> {
        Ok(self.store.list_drafts().await?)
    }

    /// Published versions, the newest first.
    pub async fn rule_versions(&self) -> Result<Vec<VersionRow>, EngineError> {
        Ok(self.store.rule_versions().await?)
    }

    /// A draft, checked.
    pub async fn show_draft(&self, id: i64) -> Result<Draft, EngineError> {
        let row = self.store.find_draft(id).await?;
        let (_, faults) = self.check_rules(&row.files).await?;
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
            .store
            .begin_draft(&name, base, &files, principal, self.now())
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
            .store
            .save_draft(
                DraftEdit {
                    id,
                    edition,
                    base: None,
                    files,
                },
                principal,
                self.now(),
            )
            .await?
            .is_none()
        {
            return Err(self.saved_by_another(id).await?);
        }
        self.show_draft(id).await
    }

    async fn saved_by_another(&self, id: i64) -> Result<EngineError, EngineError> {
        let row = self.store.find_draft(id).await?;
        Ok(EngineError::Changed(format!(
            "{} saved draft {id} at {}, as edition {}: your edit was not stored; load the draft again and merge your edit",
            row.changed_by, row.changed_at, row.edition
        )))
    }

    /// Brings what was published since into a draft.
    pub async fn renew_draft(&self, id: i64, principal: &str) -> Result<Renewal, EngineError> {
        let row = self.store.find_draft(id).await?;
        let published = self.published_draft_base().await?;
        let (files, both) = brought_together(
            &self.files_of(row.base).await?,
            &self.files_of(published).await?,
            &row.files,
        );
        if self
            .store
            .save_draft(
                DraftEdit {
                    id,
                    edition: row.edition,
                    base: Some(published),
                    files: &files,
                },
                principal,
                self.now(),
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
        self.store.find_draft(id).await?;
        Ok(self
            .store
            .end_draft(id, None, principal, self.now())
            .await?)
    }

    /// Publishes a draft as it was when its editor last saw it.
    ///
    /// # Errors
    /// `Changed` if the draft was saved in another edition; `Rules` if it has errors.
    pub async fn publish_draft(
        &self,
        id: i64,
        edition: i64,
        principal: &str,
    ) -> Result<(i64, Vec<RuleFault>), EngineError> {
        let row = self.store.find_draft(id).await?;
        if row.edition != edition {
            return Err(self.saved_by_another(id).await?);
        }
        let (version, faults) = self
            .publish_based(&row.files, Some(row.base), &row.name, principal)
            .await
            .map_err(|error| match error {
                EngineError::Changed(text) => EngineError::Changed(format!(
                    "{text}: `eager-tide rules draft rebase {id}` merges it"
                )),
                other => other,
            })?;
        self.store
            .end_draft(id, Some(version), principal, self.now())
            .await?;
        Ok((version, faults))
    }

    /// Publishes files without errors, unless another version was published since `based_on`.
    ///
    /// # Errors
    /// `Changed` if another version was published since; `Rules` if the files have errors.
    pub async fn publish_based(
        &self,
        files: &[RuleFile],
        based_on: Option<i64>,
        note: &str,
        principal: &str,
    ) -> Result<(i64, Vec<RuleFault>), EngineError> {
        let (set, faults) = self.check_rules(files).await?;
        let set = sound(set, &faults)?;
        // Rules that are not sound any more read nothing.
        let before = self.published_rules().await.ok();
        let Some(version) = self
            .store
            .publish_rules(files, based_on, note, principal, self.now())
            .await?
        else {
            let newest = self.store.load_rules().await?;
            let (version, who) = newest.map_or((0, String::new()), |newest| {
                (newest.version, newest.principal)
            });
            let base = based_on.unwrap_or_default();
            return Err(EngineError::Changed(format!(
                "this is based on version {base}, but {who} published version {version} since"
            )));
        };
        self.publish_event(Event::Rules { version });
        self.request_full_reads(before.as_ref().map(|rules| &rules.set), &set)
            .await?;
        Ok((version, faults))
    }

    /// Requests a full read of each watched directory for which new rules need what was not read
    /// before: an attribute that the server returns only on request, or a filter that the server
    /// evaluates.
    async fn request_full_reads(
        &self,
        before: Option<&RuleSet>,
        now: &RuleSet,
    ) -> Result<(), EngineError> {
        for row in self
            .store
            .list_systems()
            .await?
            .into_iter()
            .filter(|row| row.kind == SystemKind::Ldap)
        {
            let reads = |rules: &RuleSet| {
                (
                    permissions::read_of(rules, &row.name),
                    permissions::server_filters(rules, &row.name),
                )
            };
            let (names, filters) = reads(now);
            let (old_names, old_filters) = before.map(reads).unwrap_or_default();
            let on_request = |name: &String| {
                row.schema
                    .values()
                    .any(|schema| !schema.is_returned_by_default(name))
            };
            let needs_read = names
                .iter()
                .any(|name| !old_names.contains(name) && on_request(name))
                || filters.iter().any(|filter| !old_filters.contains(filter));
            let access = self.access(&row);
            access.set_read_by_rules(names);
            access.set_server_filters(filters);
            if needs_read && before.is_some() {
                crate::lock(&self.pending_full_reads).insert(row.name);
            }
        }
        self.wake.notify_one();
        Ok(())
    }

    /// The impact of files compared with a published version: the same records, decided twice.
    pub async fn effect_of(
        &self,
        files: &[RuleFile],
        against: Option<i64>,
    ) -> Result<Impact, EngineError> {
        let against = match against {
            Some(version) => version,
            None => self.published_draft_base().await?,
        };
        let (new, faults) = self.check_rules(files).await?;
        let new = sound(new, &faults)?;
        let (old, faults) = self.check_rules(&self.files_of(against).await?).await?;
        // Before the first version nothing was decided about anybody.
        let old = if against == 0 {
            RuleSet::default()
        } else {
            sound(old, &faults)?
        };
        let population = self.store.load_population().await?;
        let now = self.now();
        let both = move || {
            compute_impact(
                &decide(&old, &population, now),
                &decide(&new, &population, now),
            )
        };
        self.compute(Some(crate::compute::PATIENCE), both).await
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

    /// What two published versions differ in, for the people that are known now.
    pub async fn version_effect(&self, from: i64, to: i64) -> Result<Impact, EngineError> {
        self.effect_of(&self.files_of(to).await?, Some(from)).await
    }
}
