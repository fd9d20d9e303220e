//! Publishes rules, and tells their impact before.

use crate::administration::Administration;
use crate::error::EngineError;
use crate::events::Event;
use crate::rules::sound;
use tide_core::impact::{Impact, compute_impact};
use tide_core::rules::{RuleFault, RuleFile};
use tide_core::states::SystemKind;
use tide_core::{RuleSet, decide, permissions};

impl Administration {
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
        let row = self.context.store.find_draft(id).await?;
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
        self.context
            .store
            .end_draft(id, Some(version), principal, self.context.now())
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
        let (set, faults) = self.rules.check_rules(files).await?;
        let set = sound(set, &faults)?;
        // Rules that are not sound any more read nothing.
        let before = self.rules.published_rules().await.ok();
        let Some(version) = self
            .context
            .store
            .publish_rules(files, based_on, note, principal, self.context.now())
            .await?
        else {
            let newest = self.context.store.load_rules().await?;
            let (version, who) = newest.map_or((0, String::new()), |newest| {
                (newest.version, newest.principal)
            });
            let base = based_on.unwrap_or_default();
            return Err(EngineError::Changed(format!(
                "this is based on version {base}, but {who} published version {version} since"
            )));
        };
        self.context.publish_event(Event::Rules { version });
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
            .context
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
            let access = self.connections.access(&row);
            access.set_read_by_rules(names);
            access.set_server_filters(filters);
            if needs_read && before.is_some() {
                self.pending.request_full_read(&row.name);
            }
        }
        self.pending.wake();
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
        let (new, faults) = self.rules.check_rules(files).await?;
        let new = sound(new, &faults)?;
        let (old, faults) = self
            .rules
            .check_rules(&self.files_of(against).await?)
            .await?;
        // Before the first version nothing was decided about anybody.
        let old = if against == 0 {
            RuleSet::default()
        } else {
            sound(old, &faults)?
        };
        let population = self.context.store.load_population().await?;
        let now = self.context.now();
        let both = move || {
            compute_impact(
                &decide(&old, &population, now),
                &decide(&new, &population, now),
            )
        };
        self.decider
            .full()
            .compute(Some(crate::full::PATIENCE), both)
            .await
    }

    /// What two published versions differ in, for the people that are known now.
    pub async fn version_effect(&self, from: i64, to: i64) -> Result<Impact, EngineError> {
        self.effect_of(&self.files_of(to).await?, Some(from)).await
    }

    /// Publishes a rule set that has no error, whatever is published by now.
    pub async fn publish_rules(
        &self,
        files: &[RuleFile],
        principal: &str,
    ) -> Result<(i64, Vec<RuleFault>), EngineError> {
        self.publish_based(files, None, "", principal).await
    }
}
