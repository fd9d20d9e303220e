//! Reads TOML with positions: each reader records errors and continues, so that one check shows all
//! of them.

use super::{FaultSeverity, RuleFault};
use crate::expr::ExprError;
use crate::reasons::Place;
use std::cell::RefCell;
use std::collections::HashSet;
use std::ops::Range;
use toml::Spanned;
use toml::de::{DeTable, DeValue};

/// One file being read.
pub(super) struct RuleSource<'a> {
    pub name: &'a str,
    pub text: &'a str,
    pub faults: &'a RefCell<Vec<RuleFault>>,
}

impl RuleSource<'_> {
    pub fn place(&self, at: usize) -> Place {
        let before = self.text.get(..at).unwrap_or(self.text);
        let line_start = before.rfind('\n').map_or(0, |newline| newline + 1);
        Place {
            file: self.name.to_owned(),
            line: before.matches('\n').count() + 1,
            column: before[line_start..].chars().count() + 1,
        }
    }

    pub fn error(&self, at: usize, message: impl Into<String>, help: Option<String>) {
        self.faults.borrow_mut().push(RuleFault {
            severity: FaultSeverity::Error,
            place: self.place(at),
            message: message.into(),
            help,
        });
    }

    /// The same, at a known position.
    pub fn error_at(&self, place: &Place, message: impl Into<String>, help: Option<String>) {
        self.faults.borrow_mut().push(RuleFault {
            severity: FaultSeverity::Error,
            place: place.clone(),
            message: message.into(),
            help,
        });
    }

    pub fn warn_at(&self, place: &Place, message: impl Into<String>, help: Option<String>) {
        self.faults.borrow_mut().push(RuleFault {
            severity: FaultSeverity::Warning,
            place: place.clone(),
            message: message.into(),
            help,
        });
    }

    pub fn warn(&self, at: usize, message: impl Into<String>, help: Option<String>) {
        self.faults.borrow_mut().push(RuleFault {
            severity: FaultSeverity::Warning,
            place: self.place(at),
            message: message.into(),
            help,
        });
    }

    /// An error in an expression, at its column inside the TOML string if that can be determined.
    pub fn expression_error(&self, span: &Range<usize>, error: &ExprError) {
        let literal = self.text.get(span.clone()).unwrap_or_default();
        let one_line = !literal.contains('\n')
            && !literal.starts_with("'''")
            && !literal.starts_with("\"\"\"");
        let shift = if one_line && (literal.starts_with('\'') || literal.starts_with('"')) {
            literal
                .char_indices()
                .nth(1 + error.offset)
                .map_or(0, |(at, _)| at)
        } else {
            0
        };
        self.error(
            span.start + shift,
            error.message.clone(),
            error.help.clone(),
        );
    }
}

/// One table of a file, whose keys are read by name; [`Section::report_unknown_keys`] reports the
/// rest.
pub(super) struct Section<'a> {
    pub source: &'a RuleSource<'a>,
    pub table: &'a DeTable<'a>,
    pub at: usize,
    what: String,
    asked: RefCell<HashSet<&'static str>>,
}

impl<'a> Section<'a> {
    pub fn new(
        source: &'a RuleSource<'a>,
        table: &'a DeTable<'a>,
        at: usize,
        what: impl Into<String>,
    ) -> Self {
        Section {
            source,
            table,
            at,
            what: what.into(),
            asked: RefCell::default(),
        }
    }

    pub fn place(&self) -> Place {
        self.source.place(self.at)
    }

    pub fn entries(&self) -> impl Iterator<Item = (&'a str, usize, &'a Spanned<DeValue<'a>>)> {
        self.table
            .iter()
            .map(|(key, value)| (key.get_ref().as_ref(), key.span().start, value))
    }

    pub fn get(&self, key: &'static str) -> Option<&'a Spanned<DeValue<'a>>> {
        self.asked.borrow_mut().insert(key);
        self.entries()
            .find(|(name, _, _)| *name == key)
            .map(|(_, _, value)| value)
    }

    fn wrong_type(&self, key: &str, value: &Spanned<DeValue<'_>>, wanted: &str) {
        self.source.error(
            value.span().start,
            format!(
                "`{key}` must be {wanted}, not {}",
                kind_name(value.get_ref())
            ),
            None,
        );
    }

    pub fn text(&self, key: &'static str) -> Option<(String, Range<usize>)> {
        let value = self.get(key)?;
        match value.get_ref() {
            DeValue::String(text) => Some((text.to_string(), value.span())),
            _ => {
                self.wrong_type(key, value, "text in quotes");
                None
            }
        }
    }

    /// One text, or a list of them.
    pub fn texts(&self, key: &'static str) -> Vec<(String, Range<usize>)> {
        match self.get(key).map(|value| (value.get_ref(), value.span())) {
            Some((DeValue::Array(all), _)) => all
                .iter()
                .filter_map(|item| match item.get_ref() {
                    DeValue::String(text) => Some((text.to_string(), item.span())),
                    other => {
                        self.source.error(
                            item.span().start,
                            format!("an expression must be text, not {}", kind_name(other)),
                            None,
                        );
                        None
                    }
                })
                .collect(),
            _ => self.text(key).into_iter().collect(),
        }
    }

    pub fn boolean(&self, key: &'static str) -> Option<bool> {
        let value = self.get(key)?;
        match value.get_ref() {
            DeValue::Boolean(truth) => Some(*truth),
            _ => {
                self.wrong_type(key, value, "true or false");
                None
            }
        }
    }

    pub fn number(&self, key: &'static str) -> Option<u32> {
        let value = self.get(key)?;
        let number = match value.get_ref() {
            DeValue::Integer(digits) => u32::from_str_radix(digits.as_str(), digits.radix()).ok(),
            _ => None,
        };
        if number.is_none() {
            self.wrong_type(key, value, "a whole number");
        }
        number
    }

    /// One of some words.
    pub fn choice<T: Copy>(&self, key: &'static str, words: &[(&'static str, T)]) -> Option<T> {
        let (text, span) = self.text(key)?;
        let found = words
            .iter()
            .find(|(word, _)| *word == text)
            .map(|(_, value)| *value);
        if found.is_none() {
            let all: Vec<String> = words
                .iter()
                .map(|(word, _)| format!("\"{word}\""))
                .collect();
            self.source.error(
                span.start,
                format!("`{key}` cannot be \"{text}\""),
                Some(format!("choose one of {}", all.join(", "))),
            );
        }
        found
    }

    pub fn list(&self, key: &'static str) -> Vec<&'a Spanned<DeValue<'a>>> {
        match self.get(key) {
            None => Vec::new(),
            Some(value) => match value.get_ref() {
                DeValue::Array(items) => items.iter().collect(),
                _ => {
                    self.wrong_type(key, value, "a list in [ ]");
                    Vec::new()
                }
            },
        }
    }

    pub fn section(&self, key: &'static str) -> Option<Section<'a>> {
        let value = self.get(key)?;
        self.as_section(key, value, format!("[{key}]"))
    }

    pub fn as_section(
        &self,
        key: &str,
        value: &'a Spanned<DeValue<'a>>,
        what: impl Into<String>,
    ) -> Option<Section<'a>> {
        match value.get_ref() {
            DeValue::Table(table) => {
                Some(Section::new(self.source, table, value.span().start, what))
            }
            _ => {
                self.wrong_type(key, value, "a table");
                None
            }
        }
    }

    /// Reports unknown keys, with the nearest valid key.
    pub fn report_unknown_keys(self) {
        self.report_other_keys();
    }

    /// The same, for a section that is read again later.
    pub fn report_other_keys(&self) {
        let asked = self.asked.borrow();
        for (key, at, _) in self.entries() {
            if !asked.contains(key) {
                let near = crate::expr::closest_name(key, asked.iter().copied());
                let mut known: Vec<&str> = asked.iter().copied().collect();
                known.sort_unstable();
                self.source.error(
                    at,
                    format!("unknown key `{key}` in {}", self.what),
                    Some(match near {
                        Some(near) => format!("did you mean `{near}`?"),
                        None => format!("valid keys: {}", known.join(", ")),
                    }),
                );
            }
        }
    }
}

pub(super) fn kind_name(value: &DeValue<'_>) -> &'static str {
    match value {
        DeValue::String(_) => "text",
        DeValue::Integer(_) | DeValue::Float(_) => "a number",
        DeValue::Boolean(_) => "true or false",
        DeValue::Datetime(_) => "a date",
        DeValue::Array(_) => "a list",
        DeValue::Table(_) => "a table",
    }
}
