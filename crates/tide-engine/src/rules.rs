//! The published rules, compiled once until they or a schema change.

use crate::context::Context;
use crate::error::EngineError;
use crate::lock;
use std::collections::BTreeSet;
use std::sync::{Arc, Mutex};
use tide_core::rules::{FaultSeverity, RuleFault, RuleFile};
use tide_core::{ObjectType, RuleSet};
use tide_store::SystemRow;

/// The published rules, ready for use.
#[derive(Default)]
pub struct PublishedRules {
    /// Their version.
    pub version: i64,
    /// The rules.
    pub set: RuleSet,
    /// Their errors and warnings.
    pub faults: Vec<RuleFault>,
}

/// Whether a scope depends on groups of this system.
fn asks_for_groups(set: &RuleSet, system: &str) -> bool {
    set.systems.values().any(|rules| {
        rules.types.values().any(|types| {
            types
                .scope
                .groups_in(&rules.name)
                .iter()
                .any(|(of, _)| *of == system)
        })
    })
}

/// Compiled rules, with the rule version and a hash of the schemas from which they were compiled.
type CompiledRules = ((i64, i64), Arc<PublishedRules>);

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

/// The published rules.
pub struct RuleCompiler {
    context: Arc<Context>,
    /// The compiled published rules.
    compiled_rules: Mutex<Option<CompiledRules>>,
}

impl RuleCompiler {
    pub(crate) fn new(context: Arc<Context>) -> RuleCompiler {
        RuleCompiler {
            context,
            compiled_rules: Mutex::default(),
        }
    }

    /// The rules that were compiled last, without looking whether others were published since.
    pub(crate) fn last_compiled(&self) -> Option<Arc<PublishedRules>> {
        let compiled = lock(&self.compiled_rules);
        compiled.as_ref().map(|(_, rules)| rules.clone())
    }

    /// Reads and checks files of a rule set against the schemas that are known.
    pub async fn check_rules(
        &self,
        files: &[RuleFile],
    ) -> Result<(RuleSet, Vec<RuleFault>), EngineError> {
        self.check_rules_with(files, None).await
    }

    /// The same, as if another system with these schemas were connected.
    pub(crate) async fn check_rules_with(
        &self,
        files: &[RuleFile],
        other: Option<(
            &str,
            &std::collections::BTreeMap<ObjectType, tide_core::Schema>,
        )>,
    ) -> Result<(RuleSet, Vec<RuleFault>), EngineError> {
        let systems = self.context.store.list_systems().await?;
        let kept = systems
            .iter()
            .map(|row| (row.name.clone(), row.schema.clone()));
        let schemas = kept
            .chain(other.map(|(name, schemas)| (name.to_owned(), schemas.clone())))
            .collect();
        let (set, mut faults) = RuleSet::load(files, &schemas);
        for rules in set.systems.values() {
            let is_other = other.is_some_and(|(name, _)| name == rules.name);
            if !is_other && !systems.iter().any(|row| row.name == rules.name) {
                faults.push(RuleFault {
                    severity: FaultSeverity::Warning,
                    place: tide_core::Place {
                        file: rules.file.clone(),
                        line: 1,
                        column: 1,
                    },
                    message: format!("no system `{}` is connected", rules.name),
                    help: Some(format!("`eager-tide systems add {} …`", rules.name)),
                });
            }
        }
        Ok((set, faults))
    }

    /// The published rules, compiled once until they or a schema change.
    ///
    /// # Errors
    /// `NoRules` before the first publication; `Rules` if a changed schema makes them invalid.
    pub async fn published_rules(&self) -> Result<Arc<PublishedRules>, EngineError> {
        let rules = self.checked_rules().await?.ok_or(EngineError::NoRules)?;
        let errors = rules.faults.iter();
        // A schema that changed since can break rules that were sound when they were published.
        let errors: Vec<RuleFault> = errors
            .filter(|fault| fault.severity == FaultSeverity::Error)
            .cloned()
            .collect();
        match errors.is_empty() {
            true => Ok(rules),
            false => Err(EngineError::Rules(errors)),
        }
    }

    /// The published rules with their faults by the schemas of now, sound or not; `None` before the
    /// first publication.
    pub async fn checked_rules(&self) -> Result<Option<Arc<PublishedRules>>, EngineError> {
        let Some(mark) = self.context.store.rules_mark().await? else {
            return Ok(None);
        };
        if let Some((_, rules)) = lock(&self.compiled_rules)
            .as_ref()
            .filter(|(known, _)| *known == mark)
        {
            return Ok(Some(rules.clone()));
        }
        let Some(version) = self.context.store.load_rules().await? else {
            return Ok(None);
        };
        let (set, faults) = self.check_rules(&version.files).await?;
        let rules = Arc::new(PublishedRules {
            version: version.version,
            set,
            faults,
        });
        *lock(&self.compiled_rules) = Some((mark, rules.clone()));
        Ok(Some(rules))
    }

    /// The types that the rules speak of, for each connected system.
    pub(crate) async fn to_read(&self) -> Result<Vec<(SystemRow, Vec<ObjectType>)>, EngineError> {
        // Rules that became invalid still say what must be read.
        let rules = self.checked_rules().await?.unwrap_or_default();
        let set = &rules.set;
        let systems = self.context.store.list_systems().await?;
        Ok(systems
            .into_iter()
            .map(|row| {
                let mut types: BTreeSet<ObjectType> = set
                    .systems
                    .get(&row.name)
                    .map(|rules| rules.types.keys().copied().collect())
                    .unwrap_or_default();
                // A leaver is removed from groups without rules, if there are any.
                let follow = tide_core::memberships::systems(set).contains(&row.name)
                    && row.schema.contains_key(&ObjectType::Group);
                if asks_for_groups(set, &row.name) || follow {
                    types.insert(ObjectType::Person);
                    types.insert(ObjectType::Group);
                }
                let types = if types.is_empty() {
                    vec![ObjectType::Person]
                } else {
                    types.into_iter().collect()
                };
                (row, types)
            })
            .collect())
    }
}
