//! The first rules of a system.

use crate::administration::Administration;
use crate::error::EngineError;
use std::collections::BTreeMap;
use tide_core::rules::edit::ScopeEdit;
use tide_core::rules::{RuleFile, edit};
use tide_core::states::{SystemKind, SystemRole};
use tide_core::{ObjectType, Schema};

/// What the draft with first rules of connected systems is called.
const NEW_SYSTEMS: &str = "new systems";

/// Files with the first rules of a system, its own file, and the draft and edition that they are
/// of.
pub(crate) type FirstRules = (Vec<RuleFile>, RuleFile, Option<(i64, i64)>);

impl Administration {
    /// Writes the first rule file of a system into a draft. A file that is there is not touched.
    pub async fn write_first_rules(
        &self,
        system: &str,
        purpose: SystemRole,
        scope: &ScopeEdit,
        principal: &str,
    ) -> Result<(i64, RuleFile), EngineError> {
        let row = self.context.store.find_system(system).await?;
        let (files, file, draft) = self
            .first_rules(system, row.kind, &row.schema, purpose, scope)
            .await?;
        Ok((
            self.keep_first_rules(system, draft, files, principal)
                .await?,
            file,
        ))
    }

    /// The first rule file of a system, the files that it comes into, and the draft that these are
    /// of: one for the systems that are connected one after the other, as long as it is based on
    /// what is published.
    pub(crate) async fn first_rules(
        &self,
        system: &str,
        kind: SystemKind,
        schemas: &BTreeMap<ObjectType, Schema>,
        purpose: SystemRole,
        scope: &ScopeEdit,
    ) -> Result<FirstRules, EngineError> {
        let version = self.context.store.load_rules().await?;
        let base = version.as_ref().map_or(0, |version| version.version);
        let open = self
            .context
            .store
            .list_drafts()
            .await?
            .into_iter()
            .find(|draft| draft.name == NEW_SYSTEMS && draft.base == base);
        let mut files = match &open {
            Some(draft) => self.context.store.find_draft(draft.id).await?.files,
            None => version.map(|version| version.files).unwrap_or_default(),
        };
        let (set, _) = self
            .rules
            .check_rules_with(&files, Some((system, schemas)))
            .await?;
        if let Some(own) = set.systems.get(system) {
            return Err(EngineError::Conflict(format!(
                "{system} has rules already, in {}",
                own.file
            )));
        }
        if !files.iter().any(|file| file.name == "identities.toml") {
            files.push(edit::first_identities(true));
        }
        let (set, _) = self
            .rules
            .check_rules_with(&files, Some((system, schemas)))
            .await?;
        let declared: Vec<String> = set
            .identities
            .get(&ObjectType::Person)
            .map(|i| i.attributes.iter().map(|a| a.name.clone()).collect())
            .unwrap_or_default();
        let schema = schemas
            .get(&ObjectType::Person)
            .cloned()
            .unwrap_or_default();
        let new = edit::NewSystemRules {
            system,
            kind,
            purpose,
            scope,
        };
        let text = edit::first_rule_file(new, &schema, &declared).map_err(EngineError::Invalid)?;
        let mut name = format!("{system}.toml");
        if files.iter().any(|file| file.name == name) {
            name = format!("{system}-system.toml");
        }
        let file = RuleFile { name, text };
        files.push(file.clone());
        let (_, faults) = self
            .rules
            .check_rules_with(&files, Some((system, schemas)))
            .await?;
        let errors: Vec<_> = faults
            .into_iter()
            .filter(|fault| fault.severity == tide_core::rules::FaultSeverity::Error)
            .collect();
        if !errors.is_empty() {
            return Err(EngineError::Rules(errors));
        }
        Ok((files, file, open.map(|draft| (draft.id, draft.edition))))
    }

    pub(crate) async fn keep_first_rules(
        &self,
        system: &str,
        draft: Option<(i64, i64)>,
        files: Vec<RuleFile>,
        principal: &str,
    ) -> Result<i64, EngineError> {
        match draft {
            Some((id, edition)) => Ok(self
                .save_draft(id, edition, &files, principal)
                .await?
                .row
                .id),
            None => {
                tracing::debug!(system, "first rules as a draft");
                Ok(self
                    .begin_draft(NEW_SYSTEMS, None, Some(files), principal)
                    .await?
                    .row
                    .id)
            }
        }
    }
}
