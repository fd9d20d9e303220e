//! Codes in columns: the variant of an enum as its text.

use crate::StoreError;
use sqlx::Row as _;
use sqlx::sqlite::SqliteRow;
use std::str::FromStr;

/// The code in a column.
///
/// # Errors
///
/// The column holds a text that is no code of this enum: another version of the program wrote it.
pub(crate) fn read_code<C: FromStr>(row: &SqliteRow, column: &str) -> Result<C, StoreError> {
    parse_code(row.get(column))
}

/// A code from its text.
///
/// # Errors
///
/// As [`read_code`].
pub(crate) fn parse_code<C: FromStr>(text: &str) -> Result<C, StoreError> {
    text.parse().map_err(|_| StoreError::UnknownCode {
        enumeration: std::any::type_name::<C>(),
        code: text.to_owned(),
    })
}
