//! Inspects a feed's file before it is used: format, columns with their types, gaps and
//! duplicates, the first rows, and the rows that cannot be used.

use super::rows::{self, Row};
use crate::{BadRow, ConnectError};
use std::collections::{HashMap, HashSet};
use std::io::{Read, Seek};
use tide_core::states::{ColumnType, FeedFormat};

/// Rows that are shown, and bad rows that are shown.
const SHOWN: (usize, usize) = (10, 100);

/// One column, as its values look.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct InspectedColumn {
    /// Its name.
    pub name: String,
    /// The kind of its values.
    pub kind: ColumnType,
    /// Rows in which it has a value.
    pub filled: usize,
    /// Rows in which it has none.
    pub empty: usize,
    /// Values that stand in more than one row.
    pub repeated: usize,
    /// Some of the repeated values of a column that is almost unique.
    pub duplicates: Vec<String>,
    /// Every row has a value, and each another one: it can be the key.
    pub key: bool,
}

/// The structure of a file.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct FeedInspection {
    /// How it is written.
    pub format: FeedFormat,
    /// The delimiter's word, for CSV.
    pub delimiter: Option<String>,
    /// The encoding.
    pub encoding: String,
    /// It begins with a byte order mark.
    pub marked: bool,
    /// Rows that can be read.
    pub rows: usize,
    /// Its columns, in the file's order.
    pub columns: Vec<InspectedColumn>,
    /// The first rows, a text for each column.
    pub first: Vec<Vec<String>>,
    /// Rows that cannot be read; the first of them.
    pub bad: Vec<BadRow>,
    /// How many rows cannot be read.
    pub bad_count: usize,
}

#[derive(Default)]
struct Seen {
    filled: usize,
    number: usize,
    date: usize,
    truth: usize,
    address: usize,
    values: HashMap<String, u32>,
}

/// Inspects a file.
pub fn inspect<R: Read + Seek>(file: &mut R, name: &str) -> Result<FeedInspection, ConnectError> {
    let form = rows::detect_form(file, name, FeedFormat::Auto, None)?;
    let mut order: Vec<String> = form.columns.clone();
    let mut known: HashSet<String> = order.iter().cloned().collect();
    let mut seen: HashMap<String, Seen> = HashMap::new();
    let mut first: Vec<HashMap<String, String>> = Vec::new();
    let mut look = FeedInspection {
        format: if form.delimiter.is_some() {
            FeedFormat::Csv
        } else {
            FeedFormat::JsonLines
        },
        delimiter: form.delimiter_word(),
        encoding: form.encoding.name().into(),
        marked: form.marked,
        ..FeedInspection::default()
    };
    rows::each_row(file, &form, name, |row| {
        match row {
            Row::Bad(row) => {
                look.bad_count += 1;
                if look.bad.len() < SHOWN.1 {
                    look.bad.push(row);
                }
            }
            Row::Good { values, .. } => {
                look.rows += 1;
                let mut shown = HashMap::new();
                for (column, values) in values {
                    if known.insert(column.to_string()) {
                        order.push(column.to_string());
                    }
                    let text = tide_core::value::format_values(&values);
                    let seen = seen.entry(column.to_string()).or_default();
                    seen.note(text.trim());
                    shown.insert(column.to_string(), text);
                }
                if first.len() < SHOWN.0 {
                    first.push(shown);
                }
            }
        }
        Ok(())
    })?;
    look.columns = order
        .iter()
        .map(|name| column(name, seen.get(name), look.rows))
        .collect();
    look.first = first
        .iter()
        .map(|row| {
            order
                .iter()
                .map(|name| row.get(name).cloned().unwrap_or_default())
                .collect()
        })
        .collect();
    Ok(look)
}

impl Seen {
    fn note(&mut self, text: &str) {
        self.filled += 1;
        *self.values.entry(text.to_owned()).or_insert(0) += 1;
        self.number += usize::from(text.parse::<f64>().is_ok());
        self.date += usize::from(is_date(text));
        self.truth += usize::from(
            ["true", "false", "yes", "no"]
                .iter()
                .any(|word| text.eq_ignore_ascii_case(word)),
        );
        self.address += usize::from(
            text.split_once('@')
                .is_some_and(|(local, domain)| !local.is_empty() && domain.contains('.')),
        );
    }
}

/// A day, written as ISO 8601 or with points or slashes.
fn is_date(text: &str) -> bool {
    let parts: Vec<&str> = text
        .get(..10)
        .unwrap_or(text)
        .split(['-', '.', '/'])
        .collect();
    let number =
        |part: &&str| (1..=4).contains(&part.len()) && part.chars().all(|c| c.is_ascii_digit());
    parts.len() == 3 && parts.iter().all(number) && parts.iter().any(|part| part.len() == 4)
}

fn column(name: &str, seen: Option<&Seen>, rows: usize) -> InspectedColumn {
    let Some(seen) = seen else {
        return InspectedColumn {
            name: name.to_owned(),
            empty: rows,
            ..InspectedColumn::default()
        };
    };
    let all = |count: usize| count == seen.filled;
    let kind = match () {
        () if all(seen.date) => ColumnType::Date,
        () if all(seen.number) => ColumnType::Number,
        () if all(seen.truth) => ColumnType::Boolean,
        () if all(seen.address) => ColumnType::Address,
        () => ColumnType::Text,
    };
    let mut repeated: Vec<(&String, &u32)> = seen
        .values
        .iter()
        .filter(|(_, count)| **count > 1)
        .collect();
    repeated.sort_by(|a, b| b.1.cmp(a.1).then(a.0.cmp(b.0)));
    // Of a column like a department nearly every value repeats, which is no news.
    let nearly = repeated.len() * 20 <= seen.values.len();
    InspectedColumn {
        name: name.to_owned(),
        kind,
        filled: seen.filled,
        empty: rows - seen.filled,
        repeated: repeated.len(),
        duplicates: if nearly {
            repeated
                .iter()
                .take(5)
                .map(|(value, _)| (*value).clone())
                .collect()
        } else {
            Vec::new()
        },
        key: rows > 0 && seen.filled == rows && repeated.is_empty(),
    }
}
