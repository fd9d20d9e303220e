//! Edits of a scope, and their impact.

use crate::administration::Administration;
use crate::error::EngineError;
use crate::kept::{ScopeCount, ScopeLine, count_reasons, scope_lines};
use std::collections::{BTreeMap, HashMap};
use tide_core::rules::edit::ScopeEdit;
use tide_core::rules::{RuleFile, edit};
use tide_core::scope::Groups;
use tide_core::states::ScopeStatus;
use tide_core::{ObjectType, Population, RuleSet, decide};

/// The impact of an edited scope.
#[derive(Debug, Clone)]
pub struct ScopeSimulation {
    /// The counts as they would be.
    pub counts: Vec<ScopeCount>,
    /// Who would status elsewhere than now, by where from and where to.
    pub moves: Vec<ScopeMove>,
    /// The file as it would be.
    pub file: RuleFile,
}

/// Those who would status elsewhere than now.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ScopeMove {
    /// Where they status now.
    pub from: ScopeStatus,
    /// Where they would status.
    pub to: ScopeStatus,
    /// They, with the reason for where they would status.
    pub lines: Vec<ScopeLine>,
}

/// Changes of status by an edit. A record that is not listed is out of scope.
fn status_changes(before: &[ScopeLine], after: &[ScopeLine]) -> Vec<ScopeMove> {
    // By account, because a record out of scope has no identity yet.
    let who = |line: &ScopeLine| {
        line.account
            .clone()
            .or_else(|| line.identity.clone())
            .unwrap_or_default()
    };
    let stands = |lines: &[ScopeLine]| -> HashMap<String, ScopeStatus> {
        lines.iter().map(|line| (who(line), line.status)).collect()
    };
    let (was, is) = (stands(before), stands(after));
    let mut by_way: BTreeMap<(ScopeStatus, ScopeStatus), Vec<ScopeLine>> = BTreeMap::new();
    for line in after {
        let from = was.get(&who(line)).copied().unwrap_or(ScopeStatus::Out);
        if from != line.status {
            by_way
                .entry((from, line.status))
                .or_default()
                .push(line.clone());
        }
    }
    let gone = before
        .iter()
        .filter(|line| line.status != ScopeStatus::Out && !is.contains_key(&who(line)));
    for line in gone {
        by_way
            .entry((line.status, ScopeStatus::Out))
            .or_default()
            .push(ScopeLine {
                status: ScopeStatus::Out,
                ..line.clone()
            });
    }
    by_way
        .into_iter()
        .map(|((from, to), lines)| ScopeMove { from, to, lines })
        .collect()
}

/// Rejects groups that no system has: with one of them, no scope status could be determined.
fn known_groups(
    population: &Population,
    system: &str,
    edit: &ScopeEdit,
) -> Result<(), EngineError> {
    let groups = Groups::new(population);
    for group in edit.groups.iter().chain(&edit.not_groups) {
        let of = group.system.as_deref().unwrap_or(system);
        if groups.is_known(of, &group.name) {
            continue;
        }
        let names = population
            .accounts
            .iter()
            .filter(|account| account.kind == ObjectType::Group && account.system == of);
        let names: Vec<String> = names.map(tide_core::decide::account_label).collect();
        let near = tide_core::expr::closest_name(&group.name, names.iter().map(String::as_str));
        let near = near
            .map(|near| format!(": did you mean `{near}`?"))
            .unwrap_or_default();
        return Err(EngineError::Invalid(format!(
            "{of} has no group `{}`{near}",
            group.name
        )));
    }
    Ok(())
}

fn edit_scope(
    files: &[RuleFile],
    set: &RuleSet,
    system: &str,
    kind: ObjectType,
    edit: &ScopeEdit,
) -> Result<(Vec<RuleFile>, RuleFile), EngineError> {
    let own = set.systems.get(system).ok_or_else(|| {
        EngineError::NotFound(format!("the published rules do not contain {system}"))
    })?;
    let mut files = files.to_vec();
    let file = files
        .iter_mut()
        .find(|file| file.name == own.file)
        .ok_or_else(|| EngineError::NotFound(format!("the rule set has no file {}", own.file)))?;
    file.text = edit::with_scope(&file.text, kind, edit).map_err(EngineError::Invalid)?;
    let changed = file.clone();
    Ok((files, changed))
}

impl Administration {
    /// What an edited scope would change. Nothing is stored.
    ///
    /// # Errors
    /// `NoRules` before the first publication; `Rules` if the edited scope has errors.
    pub async fn try_scope(
        &self,
        system: &str,
        kind: ObjectType,
        edit: &ScopeEdit,
    ) -> Result<ScopeSimulation, EngineError> {
        self.read_groups_of(system, edit).await?;
        let (rules, population, now) = self.decider.full().decide_now().await?;
        let version = self
            .context
            .store
            .load_rules()
            .await?
            .ok_or(EngineError::NoRules)?;
        known_groups(&population, system, edit)?;
        let (files, file) = edit_scope(&version.files, &rules.set, system, kind, edit)?;
        let (set, faults) = self.rules.check_rules(&files).await?;
        let errors: Vec<_> = faults
            .into_iter()
            .filter(|fault| fault.severity == tide_core::rules::FaultSeverity::Error)
            .collect();
        if !errors.is_empty() {
            return Err(EngineError::Rules(errors));
        }
        let at = self.context.now();
        let decided = move || {
            let then = decide(&set, &population, at);
            (set, population, then)
        };
        let (set, population, then) = self
            .decider
            .full()
            .compute(Some(crate::full::PATIENCE), decided)
            .await?;
        let before = scope_lines(&now, &population, &rules.set, system, kind);
        let after = scope_lines(&then, &population, &set, system, kind);
        let counts = count_reasons(&after);
        let moves = status_changes(&before, &after);
        Ok(ScopeSimulation {
            counts,
            moves,
            file,
        })
    }

    /// Reads the groups of systems that an edit names for the first time: without them its impact
    /// is unknown.
    async fn read_groups_of(&self, system: &str, edit: &ScopeEdit) -> Result<(), EngineError> {
        let named = edit
            .groups
            .iter()
            .chain(&edit.not_groups)
            .map(|group| group.system.as_deref().unwrap_or(system));
        for name in named.collect::<std::collections::BTreeSet<_>>() {
            if self
                .context
                .store
                .last_complete(name, ObjectType::Group)
                .await?
                .is_none()
            {
                let row = self.context.store.find_system(name).await?;
                self.ingest.read_system(&row, &[ObjectType::Group]).await?;
            }
        }
        Ok(())
    }

    /// Saves an edited scope: a new version of the rules is published.
    ///
    /// # Errors
    /// `NoRules` before the first publication; `Rules` if the edited scope has errors.
    pub async fn save_scope(
        &self,
        system: &str,
        kind: ObjectType,
        edit: &ScopeEdit,
        principal: &str,
    ) -> Result<i64, EngineError> {
        let rules = self.rules.published_rules().await?;
        let version = self
            .context
            .store
            .load_rules()
            .await?
            .ok_or(EngineError::NoRules)?;
        if !edit.groups.is_empty() || !edit.not_groups.is_empty() {
            self.read_groups_of(system, edit).await?;
            known_groups(&self.context.store.load_population().await?, system, edit)?;
        }
        let (files, _) = edit_scope(&version.files, &rules.set, system, kind, edit)?;
        Ok(self.publish_rules(&files, principal).await?.0)
    }
}
