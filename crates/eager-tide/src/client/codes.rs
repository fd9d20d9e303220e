//! Codes as arguments and as labels.

use clap::builder::{PossibleValuesParser, TypedValueParser};
use std::str::FromStr;

/// Parses a code from an argument, written with hyphens.
pub fn code_parser<C>(all: &'static [C]) -> impl TypedValueParser<Value = C>
where
    C: Copy + Into<&'static str> + FromStr + Send + Sync,
{
    let argument = |code: &C| -> String { (*code).into().replace('_', "-") };
    PossibleValuesParser::new(all.iter().map(argument).collect::<Vec<_>>()).try_map(|text| {
        let code = text.replace('-', "_").parse::<C>();
        code.map_err(|_| format!("`{text}` is not one of the values"))
    })
}

/// A code as an argument.
pub fn argument(code: impl Into<&'static str>) -> String {
    code.into().replace('_', "-")
}

/// A code as a label.
pub fn label(code: impl Into<&'static str>) -> String {
    code.into().replace('_', " ")
}
