//! Compiles the parser's tree: checks names, binds functions, keeps positions.

use super::functions::{self, Function};
use super::{ExprError, MAX_DEPTH, MAX_NESTING, MAX_SOURCE, Root};
use crate::value::Near;
use cel::common::ast::{Expr, IdedExpr, LiteralValue, SourceInfo, operators};
use std::collections::BTreeMap;

/// Names that may be read below one root.
#[derive(Debug, Clone, Copy)]
pub enum Names<'a> {
    /// Not known yet: any name passes (a system that was never described).
    Any,
    /// Exactly these, with whether each holds several values.
    These(&'a BTreeMap<String, bool>),
}

/// The names that an expression may use.
#[derive(Debug, Clone)]
pub struct ExprScope<'a> {
    /// The roots that exist here, with their attributes.
    pub roots: Vec<(Root, Names<'a>)>,
    /// The look-up tables.
    pub tables: Option<&'a BTreeMap<String, BTreeMap<String, String>>>,
}

impl<'a> ExprScope<'a> {
    /// Roots without a list of attributes, and no tables.
    pub fn open(roots: &[Root]) -> Self {
        ExprScope {
            roots: roots.iter().map(|root| (*root, Names::Any)).collect(),
            tables: None,
        }
    }
}

#[derive(Debug, Clone)]
pub(super) struct Node {
    pub offset: usize,
    pub op: Op,
}

impl Node {
    /// The attribute, if the node is nothing but that attribute.
    pub fn plain_attribute(&self) -> Option<(Root, &Near)> {
        match &self.op {
            Op::Attribute { root, name, .. } => Some((*root, name)),
            _ => None,
        }
    }

    /// The kind of its result in words, where it is known before it runs. Any result may be
    /// missing.
    pub fn kind(&self) -> Option<&'static str> {
        match &self.op {
            Op::Literal(super::Datum::Null) => None,
            Op::Literal(datum) => Some(datum.kind_name()),
            Op::Not(_) | Op::And(..) | Op::Or(..) | Op::Matches(..) => Some(functions::BOOL),
            Op::Binary(Binary::Add, left, right) => {
                left.kind().filter(|kind| right.kind() == Some(kind))
            }
            Op::Binary(
                Binary::Subtract | Binary::Multiply | Binary::Divide | Binary::Modulo,
                ..,
            )
            | Op::Negate(_) => Some(functions::NUMBER),
            Op::Binary(..) => Some(functions::BOOL),
            Op::Choose(_, then, otherwise) => {
                then.kind().filter(|kind| otherwise.kind() == Some(kind))
            }
            Op::Rewrite(..) | Op::Capture(..) => Some(functions::TEXT),
            Op::Lookup(lookup) if lookup.other.is_none() => Some(functions::TEXT),
            Op::Call(function, _) => functions::kind_given(function.name),
            _ => None,
        }
    }
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Binary {
    Add,
    Subtract,
    Multiply,
    Divide,
    Modulo,
    Equal,
    Different,
    Less,
    LessOrEqual,
    Greater,
    GreaterOrEqual,
    In,
}

#[derive(Debug, Clone)]
pub(super) enum Op {
    Literal(super::Datum),
    /// An attribute; `list` when it is read as all its values.
    Attribute {
        root: Root,
        name: Near,
        list: bool,
    },
    Local(String),
    Not(Box<Node>),
    Negate(Box<Node>),
    And(Box<Node>, Box<Node>),
    Or(Box<Node>, Box<Node>),
    Choose(Box<Node>, Box<Node>, Box<Node>),
    Binary(Binary, Box<Node>, Box<Node>),
    Index(Box<Node>, Box<Node>),
    List(Vec<Node>),
    Call(Function, Vec<Node>),
    Matches(Box<Node>, regex::Regex),
    /// Replaces what a pattern matches.
    Rewrite(Box<Node>, regex::Regex, Box<Node>),
    /// The first group that a pattern matches, or the whole match.
    Capture(Box<Node>, regex::Regex),
    Lookup(Box<Lookup>),
    Fold(Box<Fold>),
}

/// A look-up in a table of tables.toml.
#[derive(Debug, Clone)]
pub(super) struct Lookup {
    pub table: BTreeMap<String, String>,
    pub name: String,
    pub key: Node,
    /// The default for a key that is not in the table.
    pub other: Option<Node>,
}

#[derive(Debug, Clone)]
pub(super) struct Fold {
    pub range: Node,
    pub item: String,
    pub held: String,
    pub init: Node,
    pub going: Node,
    pub step: Node,
    pub result: Node,
}

type Compiled = (Node, Vec<(Root, String)>);

pub(super) fn compile(source: &str, known: &ExprScope<'_>) -> Result<Compiled, ExprError> {
    let length = source.chars().count();
    if source.trim().is_empty() {
        return Err(ExprError::new(0, "the expression is empty").help("write null for no value"));
    }
    if length > MAX_SOURCE {
        return Err(ExprError::new(
            MAX_SOURCE,
            format!("the expression has {length} characters, and {MAX_SOURCE} are allowed"),
        )
        .help("move part of it into a look-up table or a second attribute"));
    }
    scan_nesting(source)?;
    let (tree, info) = parse(source)?;
    let mut compiler = Compiler {
        known,
        info: &info,
        reads: Vec::new(),
        locals: Vec::new(),
        depth: 0,
    };
    let node = compiler.compile_node(&tree)?;
    let mut reads = compiler.reads;
    reads.sort();
    reads.dedup();
    Ok((node, reads))
}

/// Counts brackets before the parser sees them: it recurses, and a deep source would end the
/// process instead of giving an error.
fn scan_nesting(source: &str) -> Result<(), ExprError> {
    let mut depth = 0usize;
    let mut quote: Option<char> = None;
    let mut chars = source.chars().enumerate();
    while let Some((at, c)) = chars.next() {
        match (quote, c) {
            (Some(_), '\\') => {
                chars.next();
            }
            (Some(q), c) if c == q => quote = None,
            (Some(_), _) => {}
            (None, '"' | '\'') => quote = Some(c),
            (None, '(' | '[' | '{' | '!' | '-' | '?') => {
                depth += 1;
                if depth > MAX_NESTING {
                    return Err(
                        ExprError::new(at, format!("nested more than {MAX_NESTING} deep"))
                            .help("split the expression in two attributes"),
                    );
                }
            }
            (None, ')' | ']' | '}') => depth = depth.saturating_sub(1),
            _ => {}
        }
    }
    Ok(())
}

/// Parses on a thread with a big stack: the parser needs several kilobytes of it per bracket, and
/// it panics on some malformed sources, which ends the thread and not the service.
fn parse(source: &str) -> Result<(IdedExpr, SourceInfo), ExprError> {
    let text = source.to_owned();
    let outcome = std::thread::Builder::new()
        .name("expression".into())
        .stack_size(64 << 20)
        .spawn(move || {
            std::panic::catch_unwind(|| {
                cel::parser::Parser::new()
                    .parse_with_source_info(&text)
                    .map_err(|errors| {
                        let first = errors.errors.into_iter().next();
                        first.map_or((0, String::from("cannot be read")), |error| {
                            (usize::try_from(error.pos.1).unwrap_or(0), error.msg)
                        })
                    })
            })
        })
        .map_err(|error| ExprError::new(0, format!("no thread for the parser: {error}")))?
        .join();
    match outcome {
        Ok(Ok(Ok(parsed))) => Ok(parsed),
        Ok(Ok(Err((column, message)))) => {
            let message = message.lines().next().unwrap_or_default().trim().to_owned();
            Err(ExprError::new(
                column.saturating_sub(1),
                format!("cannot be read: {message}"),
            )
            .help("check quotes, brackets and operators near this place"))
        }
        Ok(Err(_)) | Err(_) => {
            Err(ExprError::new(0, "cannot be read").help("check quotes, brackets and operators"))
        }
    }
}

struct Compiler<'k, 'i> {
    known: &'k ExprScope<'k>,
    info: &'i SourceInfo,
    reads: Vec<(Root, String)>,
    locals: Vec<String>,
    depth: usize,
}

impl Compiler<'_, '_> {
    fn offset_of(&self, id: u64) -> usize {
        self.info
            .offset_for(id)
            .map_or(0, |(start, _)| start as usize)
    }

    /// Compiles a node of the tree. A chain of operands is as deep as it is long, and each level
    /// takes stack when it runs: the depth is limited here, once, not at every evaluation.
    fn compile_node(&mut self, tree: &IdedExpr) -> Result<Node, ExprError> {
        let offset = self.offset_of(leftmost_offset(tree).id);
        self.depth += 1;
        if self.depth > MAX_DEPTH {
            return Err(ExprError::new(
                offset,
                format!("more than {MAX_DEPTH} parts hang on one another"),
            )
            .help("join many texts with joinWords(…) or join([…], …)"));
        }
        let node = self.compile_op(tree, offset);
        self.depth -= 1;
        node
    }

    fn compile_op(&mut self, tree: &IdedExpr, offset: usize) -> Result<Node, ExprError> {
        let op = match &tree.expr {
            Expr::Literal(literal) => Op::Literal(literal_datum(literal, offset)?),
            Expr::Ident(name) if self.locals.contains(name) => Op::Local(name.clone()),
            Expr::Ident(name) => return Err(self.lone_name(name, offset)),
            Expr::Select(select) => {
                let attribute = self.compile_attribute(tree, offset)?;
                match attribute {
                    Some(op) if select.test => Op::Binary(
                        Binary::Different,
                        Box::new(Node { offset, op }),
                        Box::new(Node {
                            offset,
                            op: Op::Literal(super::Datum::Null),
                        }),
                    ),
                    Some(op) => op,
                    None => {
                        return Err(ExprError::new(
                            offset,
                            format!("there is no member `{}` here", select.field),
                        )
                        .help("attributes are read as `account.name` or `identity.name`"));
                    }
                }
            }
            Expr::List(list) => Op::List(
                list.elements
                    .iter()
                    .map(|item| self.compile_node(item))
                    .collect::<Result<_, _>>()?,
            ),
            Expr::Call(call) => self.compile_call(tree, call, offset)?,
            Expr::Comprehension(fold) => {
                if fold.iter_var2.is_some() {
                    return Err(ExprError::new(
                        offset,
                        "only one loop variable is supported",
                    ));
                }
                let range = self.compile_node(&fold.iter_range)?;
                let init = self.compile_node(&fold.accu_init)?;
                let depth = self.locals.len();
                self.locals.push(fold.iter_var.clone());
                self.locals.push(fold.accu_var.clone());
                let going = self.compile_node(&fold.loop_cond)?;
                let step = self.compile_node(&fold.loop_step)?;
                let result = self.compile_node(&fold.result)?;
                self.locals.truncate(depth);
                Op::Fold(Box::new(Fold {
                    range,
                    item: fold.iter_var.clone(),
                    held: fold.accu_var.clone(),
                    init,
                    going,
                    step,
                    result,
                }))
            }
            Expr::Map(_) | Expr::Struct(_) | Expr::Unspecified => {
                return Err(
                    ExprError::new(offset, "maps and structures are not supported")
                        .help("use a look-up table: lookup(\"table\", key)"),
                );
            }
        };
        Ok(Node { offset, op })
    }

    fn lone_name(&self, name: &str, offset: usize) -> ExprError {
        let roots: Vec<&str> = self
            .known
            .roots
            .iter()
            .map(|(root, _)| root.as_str())
            .collect();
        if roots.contains(&name) {
            return ExprError::new(offset, format!("`{name}` is a record; a value is needed"))
                .help(format!("name an attribute of it: `{name}.…`"));
        }
        let error = ExprError::new(offset, format!("unknown name `{name}`"));
        match self
            .known
            .roots
            .iter()
            .find_map(|(root, names)| match names {
                Names::These(list) if list.contains_key(name) => Some(root.as_str()),
                _ => None,
            }) {
            Some(root) => error.help(format!("did you mean `{root}.{name}`?")),
            None => error.help(format!("here you can read from: {}", roots.join(", "))),
        }
    }

    /// `account.a.b` and `account["a"]` name one attribute; `None` when the tree spells no name.
    fn compile_attribute(
        &mut self,
        tree: &IdedExpr,
        offset: usize,
    ) -> Result<Option<Op>, ExprError> {
        let Some((root_word, name)) = attribute_name(tree) else {
            return Ok(None);
        };
        let Some((root, names)) = self
            .known
            .roots
            .iter()
            .find(|(root, _)| root.as_str() == root_word)
            .copied()
        else {
            return Err(self.lone_name(&root_word, offset));
        };
        let (name, list) = match names {
            Names::Any => (name, false),
            Names::These(all) => match with_options(all, &name) {
                Some((known, many)) => (known, many && root == Root::Identity),
                None => {
                    let error = ExprError::new(
                        offset,
                        format!("unknown attribute `{}.{name}`", root.as_str()),
                    );
                    return Err(match closest_name(&name, all.keys().map(String::as_str)) {
                        Some(near) => {
                            error.help(format!("did you mean `{}.{near}`?", root.as_str()))
                        }
                        None => error.help(match root {
                            Root::Identity => {
                                "identities.toml declares the attributes of identities"
                            }
                            Root::Account => {
                                "`eager-tide systems show SYSTEM --schema` lists the attributes"
                            }
                        }),
                    });
                }
            },
        };
        self.reads.push((root, name.clone()));
        Ok(Some(Op::Attribute {
            root,
            name: Near::new(name),
            list,
        }))
    }

    fn compile_call(
        &mut self,
        tree: &IdedExpr,
        call: &cel::common::ast::CallExpr,
        offset: usize,
    ) -> Result<Op, ExprError> {
        if call.func_name == operators::INDEX
            && let Some(op) = self.compile_attribute(tree, offset)?
        {
            return Ok(op);
        }
        let arguments: Vec<&IdedExpr> = call
            .target
            .iter()
            .map(Box::as_ref)
            .chain(call.args.iter())
            .collect();
        if call.func_name == "values" {
            return self.values_call(offset, &arguments);
        }
        if ["matches", "regexExtract", "regexReplace"].contains(&call.func_name.as_str()) {
            return self.compile_pattern(&call.func_name, &arguments, offset);
        }
        if call.func_name == "lookup" {
            return self.compile_lookup(&arguments, offset);
        }
        let mut nodes = Vec::with_capacity(arguments.len());
        for argument in arguments {
            nodes.push(self.compile_node(argument)?);
        }
        let count = nodes.len();
        let mut take = nodes.into_iter();
        let mut next = || {
            take.next()
                .map(Box::new)
                .ok_or_else(|| ExprError::new(offset, "an operand is missing"))
        };
        let binary = match call.func_name.as_str() {
            operators::CONDITIONAL => return Ok(Op::Choose(next()?, next()?, next()?)),
            operators::LOGICAL_AND => return Ok(Op::And(next()?, next()?)),
            operators::LOGICAL_OR => return Ok(Op::Or(next()?, next()?)),
            operators::LOGICAL_NOT => return Ok(Op::Not(next()?)),
            operators::NEGATE => return Ok(Op::Negate(next()?)),
            operators::INDEX => return Ok(Op::Index(next()?, next()?)),
            operators::NOT_STRICTLY_FALSE => return Ok(next()?.op),
            operators::ADD => Some(Binary::Add),
            operators::SUBSTRACT => Some(Binary::Subtract),
            operators::MULTIPLY => Some(Binary::Multiply),
            operators::DIVIDE => Some(Binary::Divide),
            operators::MODULO => Some(Binary::Modulo),
            operators::EQUALS => Some(Binary::Equal),
            operators::NOT_EQUALS => Some(Binary::Different),
            operators::LESS => Some(Binary::Less),
            operators::LESS_EQUALS => Some(Binary::LessOrEqual),
            operators::GREATER => Some(Binary::Greater),
            operators::GREATER_EQUALS => Some(Binary::GreaterOrEqual),
            operators::IN => Some(Binary::In),
            _ => None,
        };
        if let Some(binary) = binary {
            return Ok(Op::Binary(binary, next()?, next()?));
        }
        function_call(call, offset, count, take)
    }

    /// Compiles `values(attribute)`: all values of an attribute as a list.
    fn values_call(&mut self, offset: usize, arguments: &[&IdedExpr]) -> Result<Op, ExprError> {
        let [only] = arguments else {
            return Err(ExprError::new(offset, "`values` takes one attribute"));
        };
        match self.compile_attribute(only, offset)? {
            Some(Op::Attribute { root, name, .. }) => Ok(Op::Attribute {
                root,
                name,
                list: true,
            }),
            _ => Err(ExprError::new(
                offset,
                "`values` takes an attribute, such as `values(account.mail)`",
            )),
        }
    }

    fn compile_pattern(
        &mut self,
        name: &str,
        arguments: &[&IdedExpr],
        offset: usize,
    ) -> Result<Op, ExprError> {
        let (text, pattern, with) = match (name, arguments) {
            ("regexReplace", [text, pattern, with]) => (text, pattern, Some(with)),
            ("matches" | "regexExtract", [text, pattern]) => (text, pattern, None),
            ("regexReplace", _) => {
                return Err(ExprError::new(
                    offset,
                    "`regexReplace` takes a text, a pattern and a replacement",
                )
                .help("for example: regexReplace(account.telephoneNumber, '^00', '+')"));
            }
            _ => {
                return Err(ExprError::new(
                    offset,
                    format!("`{name}` takes a text and a pattern"),
                ));
            }
        };
        let Expr::Literal(LiteralValue::String(pattern)) = &pattern.expr else {
            return Err(ExprError::new(
                offset,
                format!("the pattern of `{name}` must be written out"),
            )
            .help("a pattern from data could run forever"));
        };
        let regex = regex::RegexBuilder::new(pattern.inner())
            .size_limit(1 << 18)
            .build()
            .map_err(|error| {
                let text = error.to_string();
                let last = text
                    .lines()
                    .last()
                    .unwrap_or_default()
                    .trim_start_matches("error: ");
                ExprError::new(offset, format!("the pattern is not valid: {last}"))
            })?;
        let text = Box::new(self.compile_node(text)?);
        Ok(match (name, with) {
            ("regexExtract", _) => Op::Capture(text, regex),
            (_, Some(with)) => Op::Rewrite(text, regex, Box::new(self.compile_node(with)?)),
            _ => Op::Matches(text, regex),
        })
    }

    fn compile_lookup(&mut self, arguments: &[&IdedExpr], offset: usize) -> Result<Op, ExprError> {
        let (Some(table), Some(key)) = (arguments.first(), arguments.get(1)) else {
            return Err(ExprError::new(offset, "`lookup` takes a table's name and a key")
                .help("for example: lookup(\"departments\", account.departmentNumber, \"Unassigned\")"));
        };
        let Expr::Literal(LiteralValue::String(table)) = &table.expr else {
            return Err(ExprError::new(
                offset,
                "the table's name must be written out in quotes",
            ));
        };
        let name = table.inner().to_owned();
        let rows = match self.known.tables {
            None => BTreeMap::new(),
            Some(tables) => tables.get(&name).cloned().ok_or_else(|| {
                let error = ExprError::new(offset, format!("there is no look-up table `{name}`"));
                match closest_name(&name, tables.keys().map(String::as_str)) {
                    Some(near) => error.help(format!("did you mean \"{near}\"?")),
                    None => error.help("look-up tables are declared in tables.toml"),
                }
            })?,
        };
        let other = arguments
            .get(2)
            .map(|tree| self.compile_node(tree))
            .transpose()?;
        Ok(Op::Lookup(Box::new(Lookup {
            table: rows,
            name,
            key: self.compile_node(key)?,
            other,
        })))
    }
}

/// Compiles the call of a function, and checks the number and the kinds of its arguments.
fn function_call(
    call: &cel::common::ast::CallExpr,
    offset: usize,
    count: usize,
    take: std::vec::IntoIter<Node>,
) -> Result<Op, ExprError> {
    let Some(function) = functions::find(&call.func_name) else {
        let error = ExprError::new(offset, format!("unknown function `{}`", call.func_name));
        return Err(match closest_name(&call.func_name, functions::names()) {
            Some(near) => error.help(format!("did you mean `{near}`?")),
            None => error.help("docs/expressions.md lists the functions"),
        });
    };
    if count < function.least || count > function.most {
        return Err(ExprError::new(
            offset,
            format!(
                "`{}` takes {}; {count} given",
                function.name,
                function.arity_text()
            ),
        )
        .help(format!("for example: {}", function.example)));
    }
    let nodes: Vec<Node> = take.collect();
    if let Some((node, kind)) = nodes
        .first()
        .filter(|_| functions::of_text(function.name))
        .and_then(|n| Some((n, n.kind()?)))
        && kind != functions::TEXT
    {
        return Err(ExprError::new(
            node.offset,
            format!("`{}` takes text; this is always {kind}", function.name),
        )
        .help("text(…) turns it into text"));
    }
    Ok(Op::Call(*function, nodes))
}

/// The offset at which the name of a node begins: errors are shown there, not at the dot inside
/// it.
fn leftmost_offset(tree: &IdedExpr) -> &IdedExpr {
    match &tree.expr {
        Expr::Select(select) => leftmost_offset(&select.operand),
        _ => tree,
    }
}

fn attribute_name(tree: &IdedExpr) -> Option<(String, String)> {
    let mut parts: Vec<String> = Vec::new();
    let mut at = tree;
    loop {
        match &at.expr {
            Expr::Ident(root) => {
                if parts.is_empty() {
                    return None;
                }
                parts.reverse();
                return Some((root.clone(), parts.join(".")));
            }
            Expr::Select(select) => {
                parts.push(select.field.clone());
                at = &select.operand;
            }
            Expr::Call(call) if call.func_name == operators::INDEX && parts.is_empty() => {
                let (Some(of), Some(index)) = (call.args.first(), call.args.get(1)) else {
                    return None;
                };
                let Expr::Literal(LiteralValue::String(name)) = &index.expr else {
                    return None;
                };
                if !matches!(of.expr, Expr::Ident(_)) {
                    return None;
                }
                parts.push(name.inner().to_owned());
                at = of;
            }
            _ => return None,
        }
    }
}

fn literal_datum(literal: &LiteralValue, offset: usize) -> Result<super::Datum, ExprError> {
    use super::Datum;
    Ok(match literal {
        LiteralValue::Boolean(truth) => Datum::Bool(*truth.inner()),
        LiteralValue::Int(number) => Datum::Int(*number.inner()),
        LiteralValue::UInt(number) => i64::try_from(*number.inner())
            .map(Datum::Int)
            .map_err(|_| ExprError::new(offset, "the number is too large"))?,
        LiteralValue::Null => Datum::Null,
        LiteralValue::String(text) => Datum::Text(text.inner().to_owned()),
        LiteralValue::Double(_) | LiteralValue::Bytes(_) => {
            return Err(ExprError::new(
                offset,
                "fractions and byte strings are not supported",
            ));
        }
    })
}

/// The nearest known name, if one is near enough.
pub fn closest_name<'n>(name: &str, known: impl Iterator<Item = &'n str>) -> Option<&'n str> {
    let lower = name.to_lowercase();
    known
        .map(|other| {
            (
                strsim::damerau_levenshtein(&lower, &other.to_lowercase()),
                other,
            )
        })
        .filter(|(distance, other)| {
            *distance <= 1 + other.chars().count().min(name.chars().count()) / 3
        })
        .min()
        .map(|(_, other)| other)
}

/// A known attribute's name in its own spelling, with the requested options
/// (`userCertificate;binary`, RFC 4512 §2.5).
fn with_options(all: &BTreeMap<String, bool>, name: &str) -> Option<(String, bool)> {
    let (plain, options) = name
        .split_once(';')
        .map_or((name, None), |(plain, options)| (plain, Some(options)));
    let (known, many) = all
        .iter()
        .find(|(known, _)| known.eq_ignore_ascii_case(name) || known.eq_ignore_ascii_case(plain))?;
    let is_whole = options.is_none() || known.contains(';');
    Some((
        if is_whole {
            known.clone()
        } else {
            format!("{known};{}", options.unwrap_or_default())
        },
        *many,
    ))
}
