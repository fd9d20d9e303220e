//! Evaluates programs within limits.

use super::compile::{Binary, Node, Op};
use super::{ExprError, MAX_FUEL, MAX_SIZE, Root};
use crate::value::{Attributes, Near, Value};
use jiff::Timestamp;
use std::cell::Cell;
use std::cmp::Ordering;

/// The records that an evaluation reads from.
#[derive(Debug, Clone, Copy, Default)]
pub struct EvalInputs<'a> {
    /// `account.…`
    pub account: Option<&'a Attributes>,
    /// `identity.…`
    pub identity: Option<&'a Attributes>,
}

/// A value during evaluation.
#[derive(Debug, Clone, PartialEq)]
pub enum Datum {
    /// Nothing.
    Null,
    /// True or false.
    Bool(bool),
    /// A whole number.
    Int(i64),
    /// Text.
    Text(String),
    /// An instant.
    Time(Timestamp),
    /// A value that expressions pass on and do not look into.
    Opaque(Value),
    /// Several.
    List(Vec<Datum>),
}

impl Datum {
    /// The kind in words, for an error.
    pub fn kind_name(&self) -> &'static str {
        match self {
            Datum::Null => "null",
            Datum::Bool(_) => "true or false",
            Datum::Int(_) => "a number",
            Datum::Text(_) => "text",
            Datum::Time(_) => "an instant",
            Datum::Opaque(_) => "a structured or binary value",
            Datum::List(_) => "a list",
        }
    }

    pub(super) fn from_value(value: &Value) -> Self {
        match value {
            Value::Text(text) | Value::Reference(text) => Datum::Text(text.clone()),
            Value::Bool(truth) => Datum::Bool(*truth),
            Value::Int(number) => Datum::Int(*number),
            Value::Time(time) => Datum::Time(*time),
            other => Datum::Opaque(other.clone()),
        }
    }

    pub(super) fn into_values(self, depth: usize) -> Result<Vec<Value>, ExprError> {
        Ok(match self {
            Datum::Null => Vec::new(),
            Datum::Bool(truth) => vec![Value::Bool(truth)],
            Datum::Int(number) => vec![Value::Int(number)],
            Datum::Text(text) => vec![Value::Text(text)],
            Datum::Time(time) => vec![Value::Time(time)],
            Datum::Opaque(value) => vec![value],
            Datum::List(items) if depth == 0 => {
                let mut values = Vec::with_capacity(items.len());
                for item in items {
                    values.extend(item.into_values(1)?);
                }
                values
            }
            Datum::List(_) => return Err(ExprError::new(0, "nested lists are not supported")),
        })
    }
}

pub(super) fn evaluate(node: &Node, values: &EvalInputs<'_>) -> Result<Datum, ExprError> {
    evaluate_counting(node, values).0
}

/// Like [`evaluate`], and returns the number of steps.
pub(super) fn evaluate_counting(
    node: &Node,
    values: &EvalInputs<'_>,
) -> (Result<Datum, ExprError>, u32) {
    let context = EvalContext {
        values,
        fuel: Cell::new(MAX_FUEL),
    };
    let outcome = context.eval(node, &mut Vec::new());
    (outcome, MAX_FUEL - context.fuel.get())
}

/// How many octets or items are worth one more step: who moves much, pays for it.
const A_STEP: usize = 64;

fn size_cost(datum: &Datum) -> usize {
    match datum {
        Datum::Text(text) => text.len(),
        Datum::List(items) => {
            items.len()
                + items
                    .iter()
                    .map(|item| {
                        if let Datum::Text(text) = item {
                            text.len() / A_STEP
                        } else {
                            0
                        }
                    })
                    .sum::<usize>()
        }
        _ => 0,
    }
}

struct EvalContext<'a> {
    values: &'a EvalInputs<'a>,
    fuel: Cell<u32>,
}

type Locals = Vec<(String, Datum)>;

impl EvalContext<'_> {
    /// Takes steps from the remaining fuel.
    fn spend_fuel(&self, steps: usize, at: usize) -> Result<(), ExprError> {
        match u32::try_from(steps)
            .ok()
            .and_then(|steps| self.fuel.get().checked_sub(steps))
        {
            Some(left) => {
                self.fuel.set(left);
                Ok(())
            }
            None => {
                self.fuel.set(0);
                Err(
                    ExprError::new(at, format!("needs more than {MAX_FUEL} steps"))
                        .help("loop over fewer values, or shorter ones"),
                )
            }
        }
    }

    /// Evaluates one node. Each costs a step, and more if its result is large.
    fn eval(&self, node: &Node, locals: &mut Locals) -> Result<Datum, ExprError> {
        self.spend_fuel(1, node.offset)?;
        let datum = self.eval_op(node, locals)?;
        self.spend_fuel(size_cost(&datum) / A_STEP, node.offset)?;
        Ok(datum)
    }

    fn eval_op(&self, node: &Node, locals: &mut Locals) -> Result<Datum, ExprError> {
        let at = node.offset;
        Ok(match &node.op {
            Op::Literal(datum) => datum.clone(),
            Op::Attribute { root, name, list } => self.read_attribute(*root, name, *list),
            Op::Local(name) => locals
                .iter()
                .rev()
                .find(|(local, _)| local == name)
                .map_or(Datum::Null, |(_, datum)| datum.clone()),
            Op::Not(inner) => Datum::Bool(!self.eval_condition(inner, locals)?),
            Op::Negate(inner) => match self.eval(inner, locals)? {
                Datum::Int(number) => {
                    Datum::Int(number.checked_neg().ok_or_else(|| overflow_error(at))?)
                }
                Datum::Null => Datum::Null,
                other => return Err(type_error(at, "-", &other)),
            },
            Op::And(left, right) => Datum::Bool(
                self.eval_condition(left, locals)? && self.eval_condition(right, locals)?,
            ),
            Op::Or(left, right) => Datum::Bool(
                self.eval_condition(left, locals)? || self.eval_condition(right, locals)?,
            ),
            Op::Choose(when, then, otherwise) => {
                let branch = if self.eval_condition(when, locals)? {
                    then
                } else {
                    otherwise
                };
                self.eval(branch, locals)?
            }
            Op::Binary(op, left, right) => {
                let left = self.eval(left, locals)?;
                let right = self.eval(right, locals)?;
                eval_binary(*op, left, right, at)?
            }
            Op::Index(list, index) => match (self.eval(list, locals)?, self.eval(index, locals)?) {
                (Datum::List(items), Datum::Int(index)) => usize::try_from(index)
                    .ok()
                    .and_then(|index| items.get(index).cloned())
                    .unwrap_or(Datum::Null),
                (Datum::Null, _) => Datum::Null,
                (other, _) => return Err(type_error(at, "[…]", &other)),
            },
            Op::List(nodes) => Datum::List(self.eval_all(nodes, locals)?),
            Op::Call(function, nodes) => {
                let arguments = self.eval_all(nodes, locals)?;
                let result = (function.run)(arguments).map_err(|message| {
                    ExprError::new(at, message).help(format!("for example: {}", function.example))
                })?;
                check_size(result, at)?
            }
            Op::Matches(text, regex) => match self.eval(text, locals)? {
                Datum::Text(text) => {
                    self.spend_fuel(text.len() / SEARCHED, at)?;
                    Datum::Bool(regex.is_match(&text))
                }
                Datum::Null => Datum::Bool(false),
                other => return Err(type_error(at, "matches", &other)),
            },
            Op::Capture(text, regex) => match self.eval(text, locals)? {
                Datum::Text(text) => {
                    self.spend_fuel(text.len() / SEARCHED, at)?;
                    let found = regex
                        .captures(&text)
                        .and_then(|found| found.get(1).or(found.get(0)));
                    found.map_or(Datum::Null, |found| Datum::Text(found.as_str().to_owned()))
                }
                Datum::Null => Datum::Null,
                other => return Err(type_error(at, "regexExtract", &other)),
            },
            Op::Rewrite(text, regex, with) => self.eval_rewrite(locals, at, text, regex, with)?,
            Op::Lookup(lookup) => self.look_up(locals, at, lookup)?,
            Op::Fold(fold) => self.eval_fold(locals, at, fold)?,
        })
    }

    /// Replaces what a regular expression matches.
    fn eval_rewrite(
        &self,
        locals: &mut Locals,
        at: usize,
        text: &Node,
        regex: &regex::Regex,
        with: &Node,
    ) -> Result<Datum, ExprError> {
        Ok(match (self.eval(text, locals)?, self.eval(with, locals)?) {
            (Datum::Text(text), Datum::Text(with)) => {
                self.spend_fuel(text.len() / SEARCHED, at)?;
                replace_matches(&text, regex, &with, at)?
            }
            (Datum::Null, _) => Datum::Null,
            (other @ (Datum::Bool(_) | Datum::Int(_) | Datum::List(_)), _) | (_, other) => {
                return Err(type_error(at, "regexReplace", &other));
            }
        })
    }

    /// Looks a key up in a table, or evaluates the default for keys that are not in it.
    fn look_up(
        &self,
        locals: &mut Locals,
        at: usize,
        lookup: &super::compile::Lookup,
    ) -> Result<Datum, ExprError> {
        let key = match self.eval(&lookup.key, locals)? {
            Datum::Null => None,
            Datum::Text(text) => Some(text),
            Datum::Int(number) => Some(number.to_string()),
            other => {
                return Err(type_error(
                    at,
                    &format!("lookup(\"{}\", …)", lookup.name),
                    &other,
                ));
            }
        };
        match (
            key.and_then(|key| lookup.table.get(key.trim()).cloned()),
            &lookup.other,
        ) {
            (Some(found), _) => Ok(Datum::Text(found)),
            (None, Some(node)) => self.eval(node, locals),
            (None, None) => Ok(Datum::Null),
        }
    }

    /// Evaluates a macro over the items of a list, such as `all`, `exists`, `filter` or `map`.
    fn eval_fold(
        &self,
        locals: &mut Locals,
        at: usize,
        fold: &super::compile::Fold,
    ) -> Result<Datum, ExprError> {
        let items = match self.eval(&fold.range, locals)? {
            Datum::List(items) => items,
            Datum::Null => Vec::new(),
            single => vec![single],
        };
        let mut held = self.eval(&fold.init, locals)?;
        for item in items {
            let depth = locals.len();
            locals.push((fold.item.clone(), item));
            locals.push((fold.held.clone(), held.clone()));
            let going = self.eval_condition(&fold.going, locals);
            let next = match going {
                Ok(true) => self.eval(&fold.step, locals).map(Some),
                Ok(false) => Ok(None),
                Err(error) => Err(error),
            };
            locals.truncate(depth);
            match next? {
                Some(next) => held = next,
                None => break,
            }
        }
        locals.push((fold.held.clone(), held));
        let result = self.eval(&fold.result, locals);
        locals.pop();
        check_size(result?, at)
    }

    fn eval_all(&self, nodes: &[Node], locals: &mut Locals) -> Result<Vec<Datum>, ExprError> {
        nodes.iter().map(|node| self.eval(node, locals)).collect()
    }

    fn eval_condition(&self, node: &Node, locals: &mut Locals) -> Result<bool, ExprError> {
        match self.eval(node, locals)? {
            Datum::Bool(truth) => Ok(truth),
            Datum::Null => Ok(false),
            other => Err(ExprError::new(
                node.offset,
                format!(
                    "true or false is needed here; this is {}",
                    other.kind_name()
                ),
            )),
        }
    }

    fn read_attribute(&self, root: Root, name: &Near, list: bool) -> Datum {
        let record = match root {
            Root::Account => self.values.account,
            Root::Identity => self.values.identity,
        };
        let values = record.map_or(&[][..], |record| record.get_near(name));
        if list {
            Datum::List(values.iter().map(Datum::from_value).collect())
        } else {
            values.first().map_or(Datum::Null, Datum::from_value)
        }
    }
}

/// How many octets a pattern searches for one step.
const SEARCHED: usize = 8;

fn replace_matches(
    text: &str,
    regex: &regex::Regex,
    with: &str,
    at: usize,
) -> Result<Datum, ExprError> {
    let mut out = String::new();
    let mut end = 0;
    for found in regex.captures_iter(text) {
        let Some(whole) = found.get(0) else { continue };
        out.push_str(&text[end..whole.start()]);
        found.expand(with, &mut out);
        end = whole.end();
        // Checked while it grows: the replacement can be many times longer than the match.
        if out.len() > MAX_SIZE {
            return Err(ExprError::new(
                at,
                format!("the result is larger than {MAX_SIZE}"),
            ));
        }
    }
    out.push_str(&text[end..]);
    check_size(Datum::Text(out), at)
}

fn check_size(datum: Datum, at: usize) -> Result<Datum, ExprError> {
    let size = match &datum {
        Datum::Text(text) => text.len(),
        Datum::List(items) => items.len(),
        _ => 0,
    };
    if size > MAX_SIZE {
        return Err(ExprError::new(
            at,
            format!("the result is larger than {MAX_SIZE}"),
        ));
    }
    Ok(datum)
}

fn overflow_error(at: usize) -> ExprError {
    ExprError::new(at, "the number is too large")
}

fn type_error(at: usize, what: &str, datum: &Datum) -> ExprError {
    ExprError::new(
        at,
        format!("`{what}` cannot be used on {}", datum.kind_name()),
    )
}

fn eval_binary(op: Binary, left: Datum, right: Datum, at: usize) -> Result<Datum, ExprError> {
    use Datum::{Bool, Int, List, Null, Text, Time};
    let mixed = |left: &Datum, right: &Datum| {
        ExprError::new(
            at,
            format!(
                "{} and {} cannot be combined with this operator",
                left.kind_name(),
                right.kind_name()
            ),
        )
        .help("use text(…) or int(…) to turn one into the other")
    };
    let number = |value: Option<i64>| value.map(Int).ok_or_else(|| overflow_error(at));
    Ok(match (op, left, right) {
        (Binary::Equal, left, right) => Bool(left == right),
        (Binary::Different, left, right) => Bool(left != right),
        (Binary::In, item, List(items)) => Bool(items.contains(&item)),
        (Binary::In, _, Null) => Bool(false),
        (Binary::In, item, single) => Bool(item == single),
        // A missing operand: the result is missing too, so that "null" never ends up in a name.
        (
            Binary::Add | Binary::Subtract | Binary::Multiply | Binary::Divide | Binary::Modulo,
            Null,
            _,
        )
        | (
            Binary::Add | Binary::Subtract | Binary::Multiply | Binary::Divide | Binary::Modulo,
            _,
            Null,
        ) => Null,
        (Binary::Add, Text(left), Text(right)) => check_size(Text(left + &right), at)?,
        (Binary::Add, List(mut left), List(right)) => {
            left.extend(right);
            check_size(List(left), at)?
        }
        (Binary::Add, Int(left), Int(right)) => number(left.checked_add(right))?,
        (Binary::Subtract, Int(left), Int(right)) => number(left.checked_sub(right))?,
        (Binary::Multiply, Int(left), Int(right)) => number(left.checked_mul(right))?,
        (Binary::Divide | Binary::Modulo, Int(_), Int(0)) => {
            return Err(ExprError::new(at, "division by zero"));
        }
        (Binary::Divide, Int(left), Int(right)) => number(left.checked_div(right))?,
        (Binary::Modulo, Int(left), Int(right)) => number(left.checked_rem(right))?,
        (
            Binary::Less | Binary::LessOrEqual | Binary::Greater | Binary::GreaterOrEqual,
            left,
            right,
        ) => {
            let order = match (&left, &right) {
                (Null, _) | (_, Null) => return Ok(Bool(false)),
                (Text(left), Text(right)) => left.cmp(right),
                (Int(left), Int(right)) => left.cmp(right),
                (Time(left), Time(right)) => left.cmp(right),
                _ => return Err(mixed(&left, &right)),
            };
            Bool(match op {
                Binary::Less => order == Ordering::Less,
                Binary::LessOrEqual => order != Ordering::Greater,
                Binary::Greater => order == Ordering::Greater,
                _ => order != Ordering::Less,
            })
        }
        (_, left, right) => return Err(mixed(&left, &right)),
    })
}
