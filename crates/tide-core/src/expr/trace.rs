//! Traces an evaluation: the result of each part of an expression on a real record.

use super::compile::{Binary, Node, Op};
use super::eval::{self, Datum};
use super::{EvalInputs, ExprError, Program};
use crate::value::{Value, format_values};

/// Maximum number of steps, and of characters of each text and value.
const TOLD: (usize, usize) = (200, 200);

/// One part of an expression, and what it gave.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TraceStep {
    /// The part, as it would be written.
    pub text: String,
    /// The result, in the syntax of expressions.
    pub value: String,
    /// Its position in the source, in characters from 0.
    pub offset: usize,
}

fn clip(text: String) -> String {
    if text.chars().count() <= TOLD.1 {
        text
    } else {
        format!("{}…", text.chars().take(TOLD.1).collect::<String>())
    }
}

fn quote_text(text: &str) -> String {
    format!("\"{}\"", text.replace('\\', "\\\\").replace('"', "\\\""))
}

/// A value in the syntax of expressions.
fn value_text(datum: &Datum) -> String {
    match datum {
        Datum::Null => "null".into(),
        Datum::Bool(truth) => truth.to_string(),
        Datum::Int(number) => number.to_string(),
        Datum::Text(text) => quote_text(text),
        Datum::Time(time) => time.to_string(),
        Datum::Opaque(value) => value.to_string(),
        Datum::List(items) => format!(
            "[{}]",
            items.iter().map(value_text).collect::<Vec<_>>().join(", ")
        ),
    }
}

fn operator_sign(op: Binary) -> &'static str {
    match op {
        Binary::Add => "+",
        Binary::Subtract => "-",
        Binary::Multiply => "*",
        Binary::Divide => "/",
        Binary::Modulo => "%",
        Binary::Equal => "==",
        Binary::Different => "!=",
        Binary::Less => "<",
        Binary::LessOrEqual => "<=",
        Binary::Greater => ">",
        Binary::GreaterOrEqual => ">=",
        Binary::In => "in",
    }
}

fn list_text(nodes: &[Node]) -> String {
    nodes.iter().map(node_text).collect::<Vec<_>>().join(", ")
}

/// A part of an operation, in brackets where the syntax needs them.
fn operand_text(node: &Node, of: Option<Binary>) -> String {
    match &node.op {
        Op::Binary(op, ..) if Some(*op) == of => node_text(node),
        Op::Binary(..) | Op::And(..) | Op::Or(..) | Op::Choose(..) => {
            format!("({})", node_text(node))
        }
        _ => node_text(node),
    }
}

fn node_text(node: &Node) -> String {
    match &node.op {
        Op::Literal(datum) => value_text(datum),
        Op::Attribute { root, name, list } => {
            let plain = name
                .chars()
                .all(|c| c.is_ascii_alphanumeric() || matches!(c, '_' | '.'));
            let read = if plain {
                format!("{}.{name}", root.as_str())
            } else {
                format!("{}[{}]", root.as_str(), quote_text(name))
            };
            if *list {
                format!("values({read})")
            } else {
                read
            }
        }
        Op::Local(name) => name.clone(),
        Op::Not(inner) => format!("!{}", operand_text(inner, None)),
        Op::Negate(inner) => format!("-{}", operand_text(inner, None)),
        Op::And(left, right) => format!(
            "{} && {}",
            operand_text(left, None),
            operand_text(right, None)
        ),
        Op::Or(left, right) => format!(
            "{} || {}",
            operand_text(left, None),
            operand_text(right, None)
        ),
        Op::Choose(when, then, otherwise) => format!(
            "{} ? {} : {}",
            operand_text(when, None),
            operand_text(then, None),
            operand_text(otherwise, None)
        ),
        Op::Binary(op, left, right) => format!(
            "{} {} {}",
            operand_text(left, Some(*op)),
            operator_sign(*op),
            operand_text(right, None)
        ),
        Op::Index(list, index) => format!("{}[{}]", node_text(list), node_text(index)),
        Op::List(nodes) => format!("[{}]", list_text(nodes)),
        Op::Call(function, nodes) => format!("{}({})", function.name, list_text(nodes)),
        Op::Matches(inner, regex) => format!(
            "{}.matches({})",
            node_text(inner),
            quote_text(regex.as_str())
        ),
        Op::Capture(inner, regex) => {
            format!(
                "{}.regexExtract({})",
                node_text(inner),
                quote_text(regex.as_str())
            )
        }
        Op::Rewrite(inner, regex, with) => format!(
            "{}.regexReplace({}, {})",
            node_text(inner),
            quote_text(regex.as_str()),
            node_text(with)
        ),
        Op::Lookup(lookup) => {
            let (name, key) = (quote_text(&lookup.name), node_text(&lookup.key));
            match &lookup.other {
                Some(other) => format!("lookup({name}, {key}, {})", node_text(other)),
                None => format!("lookup({name}, {key})"),
            }
        }
        Op::Fold(fold) => format!("for each of {}", node_text(&fold.range)),
    }
}

/// The parts of a node that are evaluated separately; the parts inside a loop are left out.
fn evaluated_parts(node: &Node) -> Vec<&Node> {
    match &node.op {
        Op::Literal(_) | Op::Attribute { .. } | Op::Local(_) => Vec::new(),
        Op::Not(inner) | Op::Negate(inner) | Op::Matches(inner, _) | Op::Capture(inner, _) => {
            vec![inner]
        }
        Op::Rewrite(inner, _, with) => vec![inner, with],
        Op::And(left, right)
        | Op::Or(left, right)
        | Op::Binary(_, left, right)
        | Op::Index(left, right) => vec![left, right],
        Op::Choose(when, then, otherwise) => vec![when, then, otherwise],
        Op::List(nodes) | Op::Call(_, nodes) => nodes.iter().collect(),
        Op::Lookup(lookup) => std::iter::once(&lookup.key).chain(&lookup.other).collect(),
        Op::Fold(fold) => vec![&fold.range],
    }
}

fn trace_parts(node: &Node, values: &EvalInputs<'_>, steps: &mut Vec<TraceStep>) {
    // Only the branch that is taken, and no operand that is skipped.
    let truth = |node: &Node| matches!(eval::evaluate(node, values), Ok(Datum::Bool(true)));
    let taken: Vec<&Node> = match &node.op {
        Op::Choose(when, then, otherwise) => vec![when, if truth(when) { then } else { otherwise }],
        Op::And(left, right) => {
            if truth(left) {
                vec![left, right]
            } else {
                vec![left]
            }
        }
        Op::Or(left, right) => {
            if truth(left) {
                vec![left]
            } else {
                vec![left, right]
            }
        }
        _ => evaluated_parts(node),
    };
    for part in taken {
        trace_parts(part, values, steps);
    }
    if steps.len() >= TOLD.0 || matches!(node.op, Op::Literal(_)) {
        return;
    }
    let value = match eval::evaluate(node, values) {
        Ok(datum) => value_text(&datum),
        Err(error) => format!("error: {}", error.message),
    };
    let step = TraceStep {
        text: clip(node_text(node)),
        value: clip(value),
        offset: node.offset,
    };
    if !steps.iter().any(|other| other.text == step.text) {
        steps.push(step);
    }
}

impl Program {
    /// Evaluates with what each part gave, the innermost first. Each part is evaluated within the
    /// same bounds as the whole.
    pub fn trace(
        &self,
        values: &EvalInputs<'_>,
    ) -> (Vec<TraceStep>, Result<Vec<Value>, ExprError>) {
        let mut steps = Vec::new();
        trace_parts(&self.node, values, &mut steps);
        (steps, self.run(values))
    }
}

/// Values as one line, for the end of an evaluation.
pub fn values_line(values: &[Value]) -> String {
    clip(format_values(values))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::expr::{ExprScope, Root};
    use crate::value::Attributes;

    type Told = (Vec<(String, String)>, Result<Vec<Value>, ExprError>);

    fn trace(source: &str) -> Told {
        let mut account = Attributes::new();
        account.set("mail", vec![Value::text("Ada@Skerry.example")]);
        account.set("phones", vec![Value::text("1"), Value::text("2")]);
        let program =
            Program::compile(source, &ExprScope::open(&[Root::Account])).expect("compiles");
        let (steps, result) = program.trace(&EvalInputs {
            account: Some(&account),
            identity: None,
        });
        (
            steps
                .into_iter()
                .map(|step| (step.text, step.value))
                .collect(),
            result,
        )
    }

    #[test]
    fn traces_list_every_step_innermost_first() {
        let pair = |text: &str, value: &str| (text.to_owned(), value.to_owned());
        let (steps, result) = trace("lower(account.mail) + '!'");
        assert_eq!(
            steps,
            [
                pair("account.mail", "\"Ada@Skerry.example\""),
                pair("lower(account.mail)", "\"ada@skerry.example\""),
                pair("lower(account.mail) + \"!\"", "\"ada@skerry.example!\"")
            ]
        );
        assert_eq!(result, Ok(vec![Value::text("ada@skerry.example!")]));
        let (steps, _) = trace("account.sn != null ? account.sn : account.mail");
        assert!(
            !steps.iter().any(|(text, _)| text == "account.sn ? "),
            "{steps:?}"
        );
        assert_eq!(steps[0], pair("account.sn", "null"));
        assert_eq!(steps[2], pair("account.mail", "\"Ada@Skerry.example\""));
        let (steps, _) = trace("(account.mail + 'a' == 'b') ? 1 : 2 * (3 + 4)");
        assert!(
            steps.iter().any(|(text, _)| text == "account.mail + \"a\"")
                && steps.iter().any(|(text, _)| text == "2 * (3 + 4)"),
            "{steps:?}"
        );
        let (steps, _) = trace("values(account.phones)");
        assert_eq!(steps, [pair("values(account.phones)", "[\"1\", \"2\"]")]);
    }

    #[test]
    fn a_step_that_fails_says_why_and_where() {
        let (steps, result) = trace("lower(account.mail) - 1");
        assert!(
            steps
                .last()
                .is_some_and(|(_, value)| value.starts_with("error: ")),
            "{steps:?}"
        );
        assert!(result.is_err());
    }

    #[test]
    fn long_values_and_many_steps_are_shown_in_part() {
        let chain = vec!["account.mail"; 60].join(" + ");
        let (steps, result) = trace(&chain);
        assert!(result.is_ok() && steps.len() <= TOLD.0);
        assert!(
            steps
                .iter()
                .all(|(text, value)| text.chars().count() <= TOLD.1 + 1
                    && value.chars().count() <= TOLD.1 + 1)
        );
    }
}
