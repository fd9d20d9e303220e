//! An expression is tried on a real record, before it stands in a rule.

use crate::{Engine, EngineError};
use tide_core::ObjectType;
use tide_core::Value;
use tide_core::expr::{ExprError, Step, Values};
use tide_core::model::Account;

/// What an expression gave on one record.
#[derive(Debug, Clone)]
pub struct Trial {
    /// Whom it was tried on.
    pub label: String,
    /// The account that it read, if it may read one.
    pub account: Option<String>,
    /// Each part and what it gave, the innermost first.
    pub steps: Vec<Step>,
    /// What came of it: values, or what is wrong and where.
    pub result: Result<Vec<Value>, ExprError>,
}

impl Engine {
    /// Tries an expression on a person: a name, an employee number, an address, an id. With a system it may
    /// also read the person's account there. Nothing is kept.
    pub async fn try_expression(&self, source: &str, on: &str, system: Option<&str>, kind: ObjectType) -> Result<Trial, EngineError> {
        let schema = match system {
            Some(name) => self.store.system(name).await?.schema.get(&kind).cloned(),
            None => None,
        };
        let (rules, population, outcome) = self.decide_now().await?;
        let program = rules.set.expression(kind, system.map(|_| schema.as_ref()), source);
        let found = tide_core::explain::explain(&rules.set, &population, &outcome, on);
        let nobody = || EngineError::Refused(format!("nobody is known as `{on}`"));
        let first = match found.as_slice() {
            [] => return Err(nobody()),
            [one] => one,
            several => {
                let names: Vec<&str> = several.iter().take(8).map(|one| one.label.as_str()).collect();
                return Err(EngineError::Refused(format!(
                    "`{on}` names {}: {}; use an employee number or an id",
                    several.len(),
                    names.join(", ")
                )));
            }
        };
        let identity = first.identity.as_deref().and_then(|id| outcome.identities.iter().find(|(identity, _)| identity.id == id));
        let attributes = identity.map(|(identity, _)| {
            let mut attributes = identity.attributes.clone();
            attributes.set("id", vec![Value::text(&identity.id)]);
            attributes.set("stage", vec![Value::text(identity.stage.word())]);
            attributes
        });
        let account: Option<&Account> = system.and_then(|system| {
            let line = first.accounts.iter().find(|line| line.decided.system == system && line.key.is_some())?;
            population.accounts.iter().find(|account| account.system == system && Some(&account.key) == line.key.as_ref())
        });
        let values = Values { account: account.map(|account| &account.attributes), identity: attributes.as_ref() };
        let (steps, result) = match program {
            Ok(program) => program.trace(&values),
            Err(error) => (Vec::new(), Err(error)),
        };
        Ok(Trial { label: first.label.clone(), account: account.map(|account| account.name.clone()), steps, result })
    }
}
