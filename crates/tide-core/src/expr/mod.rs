//! Expressions in rules: CEL's syntax (Common Expression Language), a small evaluator of our own.
//!
//! The `cel` crate parses; this module checks every name, compiles once, and evaluates with limits:
//! source length, nesting, number of steps and size of the result; every error has a column. A
//! missing attribute is `null`, and text functions return `null` for `null`, so that a missing
//! value never becomes the text "null".
//!
//! ```
//! use tide_core::expr::{ExprScope, Program, Root, EvalInputs};
//! use tide_core::{Attributes, Value};
//!
//! let known = ExprScope::open(&[Root::Account]);
//! let program = Program::compile("lower(account.mail)", &known)?;
//! let account: Attributes = [("mail".into(), vec![Value::text("Ada@Skerry.example")])].into_iter().collect();
//! let found = program.run(&EvalInputs { account: Some(&account), ..EvalInputs::default() })?;
//! assert_eq!(found, vec![Value::text("ada@skerry.example")]);
//! # Ok::<(), tide_core::expr::ExprError>(())
//! ```

pub(crate) mod compile;
mod eval;
mod functions;
mod trace;

pub use compile::closest_name;
pub use compile::{ExprScope, Names};
pub use eval::{Datum, EvalInputs};
pub use functions::catalogue;
pub use trace::{TraceStep, values_line};

use crate::value::{Attributes, Near, Value};
use compile::Node;
use std::fmt;

/// The longest source of an expression, in characters.
pub const MAX_SOURCE: usize = 1_000;
/// The deepest nesting of brackets in a source.
pub const MAX_NESTING: usize = 32;
/// The deepest tree: how many parts may hang on one another.
pub const MAX_DEPTH: usize = 100;
/// The most steps that one evaluation may take.
pub const MAX_FUEL: u32 = 10_000;
/// The largest text or list that an evaluation may build, in characters or items.
pub const MAX_SIZE: usize = 65_536;

codes! {
    /// The record that a name is read from.
    pub enum Root {
        /// `account.…`: the account in the system whose rules these are.
        Account,
        /// `identity.…`: the identity.
        Identity,
    }
}

/// The error of an expression or of its evaluation, with its position.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{message}")]
pub struct ExprError {
    /// The column in the expression's text, from 0, in characters.
    pub offset: usize,
    /// What happened.
    pub message: String,
    /// What to do about it.
    pub help: Option<String>,
}

impl ExprError {
    pub(crate) fn new(offset: usize, message: impl Into<String>) -> Self {
        ExprError {
            offset,
            message: message.into(),
            help: None,
        }
    }

    pub(crate) fn help(mut self, help: impl Into<String>) -> Self {
        self.help = Some(help.into());
        self
    }
}

/// An expression that was parsed, checked and compiled.
#[derive(Clone)]
pub struct Program {
    source: String,
    node: Node,
    reads: Vec<(Root, String)>,
}

impl fmt::Debug for Program {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Program({:?})", self.source)
    }
}

impl PartialEq for Program {
    fn eq(&self, other: &Self) -> bool {
        self.source == other.source
    }
}

impl Program {
    /// Parses, checks and compiles. Unknown attributes, functions and tables are errors here, not
    /// at run time.
    pub fn compile(source: &str, known: &ExprScope<'_>) -> Result<Program, ExprError> {
        let (node, reads) = compile::compile(source, known)?;
        Ok(Program {
            source: source.to_owned(),
            node,
            reads,
        })
    }

    /// The text as the engineer wrote it.
    pub fn source(&self) -> &str {
        &self.source
    }

    /// The kind of its results in words ("text", "true or false"), where it is known before it
    /// runs.
    pub fn result_kind(&self) -> Option<&'static str> {
        self.node.kind()
    }

    /// Evaluates, and returns the number of steps: never more than [`MAX_FUEL`].
    pub fn run_counting(&self, values: &EvalInputs<'_>) -> (Result<Vec<Value>, ExprError>, u32) {
        let (outcome, steps) = eval::evaluate_counting(&self.node, values);
        (outcome.and_then(|datum| datum.into_values(0)), steps)
    }

    /// The attribute, if the program is nothing but that attribute.
    pub fn plain_attribute(&self) -> Option<(Root, &Near)> {
        self.node.plain_attribute()
    }

    /// The attributes that it reads.
    pub fn reads(&self) -> &[(Root, String)] {
        &self.reads
    }

    /// Evaluates to values: `null` is none, a list is several.
    pub fn run(&self, values: &EvalInputs<'_>) -> Result<Vec<Value>, ExprError> {
        eval::evaluate(&self.node, values)?.into_values(0)
    }

    /// Evaluates a condition: only `true` is true; `null` is not.
    pub fn holds(&self, values: &EvalInputs<'_>) -> Result<bool, ExprError> {
        match eval::evaluate(&self.node, values)? {
            Datum::Bool(truth) => Ok(truth),
            Datum::Null => Ok(false),
            other => Err(ExprError::new(
                0,
                format!(
                    "a condition must be true or false; this one is {}",
                    other.kind_name()
                ),
            )
            .help("compare the value, for example `!= null`")),
        }
    }

    /// The names and values that it reads from these records, for a reason.
    pub fn values_read(&self, values: &EvalInputs<'_>) -> Vec<(String, String)> {
        let none = Attributes::new();
        self.reads
            .iter()
            .map(|(root, name)| {
                let record = match root {
                    Root::Account => values.account,
                    Root::Identity => values.identity,
                };
                let found = record.unwrap_or(&none).get(name);
                (
                    format!("{}.{name}", root.as_str()),
                    crate::value::format_values(found),
                )
            })
            .collect()
    }
}

#[cfg(test)]
mod tests;
