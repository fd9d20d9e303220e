//! An expression is tried on a real record, before it stands in a rule.

use crate::error::EngineError;
use crate::rules::PublishedRules;
use crate::views::Views;
use std::collections::HashMap;
use std::sync::Arc;
use tide_core::expr::{EvalInputs, ExprError, TraceStep};
use tide_core::model::Account;
use tide_core::rules::Mapping;
use tide_core::states::Direction;
use tide_core::{Attributes, ObjectType, RuleSet, Value};

/// The result of an expression about one record.
#[derive(Debug, Clone)]
pub struct Evaluation {
    /// The label of the record.
    pub label: String,
    /// The account that it read, if it may read one.
    pub account: Option<String>,
    /// Each part and what it gave, the innermost first.
    pub steps: Vec<TraceStep>,
    /// The values, or the error with its position.
    pub result: Result<Vec<Value>, ExprError>,
}

/// One mapping of a system, and what it gave on one record.
#[derive(Debug, Clone)]
pub struct MappingEvaluation {
    /// `inbound` or `outbound`.
    pub direction: Direction,
    /// The attribute that it gives a value.
    pub attribute: String,
    /// The expression.
    pub expression: String,
    /// Its location in the rule files.
    pub place: tide_core::Place,
    /// Each part and what it gave.
    pub steps: Vec<TraceStep>,
    /// What came of it.
    pub result: Result<Vec<Value>, ExprError>,
    /// The present values: of the identity for an inbound mapping, of the account for an outbound
    /// one.
    pub there: Vec<Value>,
    /// The population whose mapping it is, if any.
    pub note: Option<String>,
}

/// A person on whom an expression is tried.
struct EvaluatedRecord {
    label: String,
    account: Option<Account>,
    identity: Option<Attributes>,
    /// Labels of identities by id, to show references by name.
    labels: HashMap<String, String>,
}

/// The note beside a value: the accounts that it refers to.
fn note_of(
    labels: &HashMap<String, String>,
    mapping: &Mapping,
    note: Option<String>,
    result: &Result<Vec<Value>, ExprError>,
) -> Option<String> {
    let meant: Vec<&str> = result
        .iter()
        .flatten()
        .filter_map(|value| labels.get(value.as_text()?))
        .map(String::as_str)
        .take(5)
        .collect();
    let refers = (!meant.is_empty() && mapping.attribute != "externalId")
        .then(|| format!("the account of {}", meant.join(", ")));
    note.into_iter()
        .chain(refers)
        .reduce(|one, other| format!("{one}; {other}"))
}

impl Views {
    /// Tries a whole mapping: each attribute of a system, both ways, on a person. With a draft, its
    /// rules.
    ///
    /// # Errors
    /// `NotFound` if no rules exist for this type of the system, or nothing has this name.
    pub async fn try_mapping(
        &self,
        on: &str,
        system: &str,
        draft: Option<i64>,
        kind: ObjectType,
    ) -> Result<(String, Option<String>, Vec<MappingEvaluation>), EngineError> {
        let set = self.rules_of(draft).await?;
        let record = self.find_record(&set, on, Some(system), kind).await?;
        let types = set.of(system, kind).ok_or_else(|| {
            EngineError::NotFound(format!("no file has rules for {kind} in {system}"))
        })?;
        let none = Attributes::new();
        let (identity, labels) = (record.identity.as_ref(), &record.labels);
        let account = record.account.as_ref().map(|account| &account.attributes);
        let mut all = Vec::new();
        let mut one = |direction: Direction,
                       mapping: &Mapping,
                       values: EvalInputs<'_>,
                       there: Option<&Attributes>,
                       note: Option<String>| {
            let (steps, result) = mapping.program.trace(&values);
            let note = note_of(labels, mapping, note, &result);
            all.push(MappingEvaluation {
                direction,
                attribute: mapping.attribute.clone(),
                expression: mapping.program.source().to_owned(),
                place: mapping.place.clone(),
                steps,
                result,
                there: there.unwrap_or(&none).get(&mapping.attribute).to_vec(),
                note,
            });
        };
        if account.is_some() {
            for mapping in &types.inbound {
                one(
                    Direction::Inbound,
                    mapping,
                    EvalInputs {
                        account,
                        identity: None,
                    },
                    identity,
                    None,
                );
            }
        }
        if let Some(attributes) = identity {
            for (mapping, population) in tide_core::compose::applicable_mappings(types, attributes)
                .map_err(|reason| EngineError::Invalid(reason.to_string()))?
            {
                let values = EvalInputs {
                    account: None,
                    identity: Some(attributes),
                };
                one(
                    Direction::Outbound,
                    mapping,
                    values,
                    account,
                    population.map(|name| format!("for {name}")),
                );
            }
        }
        Ok((
            record.label,
            record.account.map(|account| account.name),
            all,
        ))
    }

    /// The rules of a draft, or the published ones.
    async fn rules_of(&self, draft: Option<i64>) -> Result<RuleSet, EngineError> {
        let Some(id) = draft else {
            return Ok(self.rules.published_rules().await?.set.clone());
        };
        let (set, faults) = self
            .rules
            .check_rules(&self.context.store.find_draft(id).await?.files)
            .await?;
        let errors: Vec<_> = faults
            .into_iter()
            .filter(|fault| fault.severity == tide_core::rules::FaultSeverity::Error)
            .collect();
        if errors.is_empty() {
            Ok(set)
        } else {
            Err(EngineError::Rules(errors))
        }
    }

    /// Tries an expression on a person: a name, an employee number, an address, an id. With a
    /// system it may also read the person's account there; with a draft it may read what that
    /// declares. Nothing is kept.
    pub async fn try_expression(
        &self,
        source: &str,
        on: &str,
        system: Option<&str>,
        draft: Option<i64>,
        kind: ObjectType,
    ) -> Result<Evaluation, EngineError> {
        let schema = match system {
            Some(name) => self
                .context
                .store
                .find_system(name)
                .await?
                .schema
                .get(&kind)
                .cloned(),
            None => None,
        };
        let set = self.rules_of(draft).await?;
        let program = set.compile_expression(kind, system.map(|_| schema.as_ref()), source);
        let record = self.find_record(&set, on, system, kind).await?;
        let values = EvalInputs {
            account: record.account.as_ref().map(|account| &account.attributes),
            identity: record.identity.as_ref(),
        };
        let (steps, result) = match program {
            Ok(program) => program.trace(&values),
            Err(error) => (Vec::new(), Err(error)),
        };
        Ok(Evaluation {
            label: record.label,
            account: record.account.map(|account| account.name),
            steps,
            result,
        })
    }

    /// Finds a person, as these rules compose it.
    async fn find_record(
        &self,
        set: &RuleSet,
        on: &str,
        system: Option<&str>,
        kind: ObjectType,
    ) -> Result<EvaluatedRecord, EngineError> {
        let rules = Arc::new(PublishedRules {
            set: set.clone(),
            ..PublishedRules::default()
        });
        let of = self.decider.decide_around_text(on).await?.decided;
        let near = self
            .decider
            .decide_around_as(&of, self.context.now(), Some(rules), |_| {})
            .await?;
        let (population, outcome) = (near.population, near.outcome);
        let is_decided = |id: &str| near.decided.identities.contains(id);
        let found = tide_core::explain::explain_among(set, &population, &outcome, on, &is_decided);
        let is_of_kind = |one: &tide_core::explain::Explanation| {
            one.accounts
                .first()
                .is_none_or(|line| line.decided.object == kind)
        };
        let found: Vec<_> = found.into_iter().filter(is_of_kind).collect();
        let first = match found.as_slice() {
            [] => return Err(EngineError::NotFound(format!("no person matches `{on}`"))),
            [one] => one,
            several => {
                let names: Vec<&str> = several
                    .iter()
                    .take(8)
                    .map(|one| one.label.as_str())
                    .collect();
                return Err(EngineError::Invalid(format!(
                    "`{on}` matches {}: {}; use an employee number or an id",
                    several.len(),
                    names.join(", ")
                )));
            }
        };
        let identity = first.identity.as_deref().and_then(|id| {
            outcome
                .identities
                .iter()
                .find(|(identity, _)| identity.id == id)
        });
        let identity = identity.map(|(identity, _)| {
            let mut attributes = identity.attributes.clone();
            attributes.set("id", vec![Value::text(&identity.id)]);
            attributes.set("stage", vec![Value::text(identity.stage.as_str())]);
            attributes
        });
        let account = system.and_then(|system| {
            let line = first
                .accounts
                .iter()
                .find(|line| line.decided.system == system && line.key.is_some())?;
            population
                .accounts
                .iter()
                .find(|account| account.system == system && Some(&account.key) == line.key.as_ref())
        });
        let labels = outcome
            .identities
            .iter()
            .map(|(identity, label)| (identity.id.clone(), label.clone()))
            .collect();
        Ok(EvaluatedRecord {
            label: first.label.clone(),
            account: account.cloned(),
            identity,
            labels,
        })
    }
}
