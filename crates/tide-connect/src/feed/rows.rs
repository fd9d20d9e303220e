//! From octets to rows: detects the format, and reads every row with its line number.

use super::{permanent_error, read_error};
use crate::{BadRow, ConnectError};
use encoding_rs::{CoderResult, Decoder, Encoding, UTF_8, UTF_16BE, UTF_16LE, WINDOWS_1252};
use serde_json::Value as Json;
use std::cell::Cell;
use std::fmt;
use std::io::{BufRead, BufReader, Read, Seek, SeekFrom};
use std::rc::Rc;
use std::sync::Arc;
use tide_core::Value;
use tide_core::states::FeedFormat;

/// The longest row, in octets: a quote that never closes would swallow the rest of the file.
const LONGEST: usize = 1 << 20;
/// Maximum read-ahead in a file, in octets.
const READ_AHEAD: usize = 64 << 10;
/// Maximum length of a bad row that is stored, in characters.
const KEPT: usize = 2000;
/// How much of the file is examined to detect its format, in octets.
const SAMPLE: usize = 64 << 10;

/// How a file is written.
#[derive(Debug, Clone)]
pub(crate) struct Form {
    pub encoding: &'static Encoding,
    /// It begins with a byte order mark.
    pub marked: bool,
    /// The delimiter of a CSV file; none for JSON Lines.
    pub delimiter: Option<u8>,
    /// The columns that a CSV file's first row names.
    pub columns: Vec<String>,
}

impl Form {
    /// The name of the delimiter.
    pub fn delimiter_word(&self) -> Option<String> {
        Some(match self.delimiter? {
            b',' => "comma".into(),
            b';' => "semicolon".into(),
            b'\t' => "tab".into(),
            b'|' => "vertical bar".into(),
            other => format!("{:?}", char::from(other)),
        })
    }
}

impl fmt::Display for Form {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.delimiter_word() {
            Some(word) => write!(f, "CSV, separated by {word}")?,
            None => write!(f, "JSON Lines")?,
        }
        write!(f, ", {}", self.encoding.name())?;
        if self.marked {
            f.write_str(" with a byte order mark")
        } else {
            Ok(())
        }
    }
}

/// One row.
pub(crate) enum Row<'r> {
    /// A usable row: its line, its values by column, and its raw text.
    Good {
        line: u64,
        values: Vec<(Arc<str>, Vec<Value>)>,
        raw: &'r dyn Fn() -> String,
    },
    /// It cannot.
    Bad(BadRow),
}

fn clip(text: &str) -> String {
    text.chars().take(KEPT).collect()
}

/// Counts what was read since the last row ended, and ends the reading of a row that does not end.
struct Bounded<R> {
    inner: R,
    since_row: Rc<Cell<usize>>,
}

impl<R: Read> Read for Bounded<R> {
    fn read(&mut self, out: &mut [u8]) -> std::io::Result<usize> {
        // What was read ahead of a row that ended belongs to the next one.
        if self.since_row.get() > LONGEST + READ_AHEAD {
            return Err(std::io::ErrorKind::FileTooLarge.into());
        }
        let got = self.inner.read(out)?;
        self.since_row.set(self.since_row.get() + got);
        Ok(got)
    }
}

/// Reads any encoding as UTF-8. What cannot be read becomes U+FFFD, as in a text editor.
struct Decoded<R> {
    inner: R,
    decoder: Decoder,
    input: Vec<u8>,
    from: usize,
    output: Vec<u8>,
    given: usize,
    ended: bool,
}

impl<R: Read> Decoded<R> {
    fn new(inner: R, encoding: &'static Encoding) -> Self {
        let decoder = encoding.new_decoder_with_bom_removal();
        Decoded {
            inner,
            decoder,
            input: Vec::new(),
            from: 0,
            output: Vec::new(),
            given: 0,
            ended: false,
        }
    }
}

impl<R: Read> Read for Decoded<R> {
    fn read(&mut self, out: &mut [u8]) -> std::io::Result<usize> {
        while self.given == self.output.len() && !self.ended {
            if self.from == self.input.len() {
                self.input.resize(32 << 10, 0);
                let got = self.inner.read(&mut self.input)?;
                self.input.truncate(got);
                self.from = 0;
            }
            let last = self.input.is_empty();
            self.output.resize(128 << 10, 0);
            let (result, read, written, _) =
                self.decoder
                    .decode_to_utf8(&self.input[self.from..], &mut self.output, last);
            self.output.truncate(written);
            self.given = 0;
            self.from += read;
            self.ended = last && result == CoderResult::InputEmpty;
        }
        let count = out.len().min(self.output.len() - self.given);
        out[..count].copy_from_slice(&self.output[self.given..self.given + count]);
        self.given += count;
        Ok(count)
    }
}

/// Detects how a file is written.
pub(crate) fn detect_form<R: Read + Seek>(
    file: &mut R,
    name: &str,
    format: FeedFormat,
    delimiter: Option<char>,
) -> Result<Form, ConnectError> {
    let (encoding, marked, sample) = sample_of(file, name)?;
    let first = sample
        .lines()
        .find(|line| !line.trim().is_empty())
        .unwrap_or_default()
        .trim();
    let json = match format {
        FeedFormat::JsonLines => true,
        FeedFormat::Csv => false,
        FeedFormat::Auto => first.starts_with('{'),
    };
    if json {
        return Ok(Form {
            encoding,
            marked,
            delimiter: None,
            columns: Vec::new(),
        });
    }
    if first.starts_with('<') || first.starts_with('[') {
        return Err(permanent_error(
            "feed_format",
            format!(
                "{name} is neither CSV nor JSON Lines: it begins with {}",
                clip(&first.chars().take(20).collect::<String>())
            ),
            "export it as CSV with a row of column names, or as one JSON object in each line",
        ));
    }
    let delimiter = delimiter_of(delimiter, &sample)?;
    Ok(Form {
        encoding,
        marked,
        delimiter: Some(delimiter),
        columns: read_columns(name, &sample, delimiter)?,
    })
}

/// The encoding of a file, whether a byte order mark states it, and its first text.
fn sample_of<R: Read + Seek>(
    file: &mut R,
    name: &str,
) -> Result<(&'static Encoding, bool, String), ConnectError> {
    let io = |error: std::io::Error| read_error(name, &error);
    file.seek(SeekFrom::Start(0)).map_err(io)?;
    let (encoding, marked, empty) = detect_encoding(file).map_err(io)?;
    if empty {
        return Err(permanent_error(
            "feed_empty",
            format!("{name} is empty: it is rejected"),
            "check how the file is produced; no account counts as absent",
        ));
    }
    file.seek(SeekFrom::Start(0)).map_err(io)?;
    let mut sample = Vec::new();
    Decoded::new(&mut *file, encoding)
        .take(SAMPLE as u64)
        .read_to_end(&mut sample)
        .map_err(io)?;
    let sample = String::from_utf8_lossy(&sample).into_owned();
    if sample.chars().filter(|c| *c == '\0').count() > 0 {
        return Err(permanent_error(
            "feed_binary",
            format!("{name} is not a text file: it contains NUL bytes"),
            "export it as CSV or JSON Lines",
        ));
    }
    Ok((encoding, marked, sample))
}

/// The delimiter: the configured one, or a guess by the first rows.
fn delimiter_of(delimiter: Option<char>, sample: &str) -> Result<u8, ConnectError> {
    let delimiter = match delimiter {
        Some(given) => u8::try_from(given)
            .ok()
            .filter(u8::is_ascii)
            .ok_or_else(|| {
                permanent_error(
                    "feed_delimiter",
                    format!("`{given}` cannot be a delimiter"),
                    "use a comma, a semicolon, a tab or another ASCII character",
                )
            })?,
        None => guess_delimiter(sample),
    };
    Ok(delimiter)
}

/// Reads the names of the columns from the first row.
fn read_columns(name: &str, sample: &str, delimiter: u8) -> Result<Vec<String>, ConnectError> {
    let mut reader = csv_reader(sample.as_bytes(), delimiter);
    let mut header = csv::StringRecord::new();
    let any = reader.read_record(&mut header).unwrap_or(false);
    let columns: Vec<String> = header
        .iter()
        .map(|column| column.trim().to_owned())
        .collect();
    let twice = columns
        .iter()
        .enumerate()
        .find(|(at, column)| columns[..*at].contains(column))
        .map(|(_, column)| column.clone());
    if let Some(column) = twice {
        return Err(permanent_error(
            "feed_header",
            format!("{name} names the column `{column}` twice"),
            "give each column a name of its own",
        ));
    }
    if !any || columns.iter().any(String::is_empty) {
        return Err(permanent_error(
            "feed_header",
            format!("the first row of {name} does not name every column"),
            "the first row must hold the columns' names",
        ));
    }
    Ok(columns)
}

/// The encoding of a file, whether it says so itself, and whether it is empty.
fn detect_encoding(file: &mut impl Read) -> std::io::Result<(&'static Encoding, bool, bool)> {
    let mut reader = BufReader::with_capacity(64 << 10, file);
    let head = reader.fill_buf()?;
    let empty = head.trim_ascii().is_empty();
    if let Some((encoding, _)) = Encoding::for_bom(head) {
        let known = [UTF_8, UTF_16LE, UTF_16BE].contains(&encoding);
        return Ok((encoding, known, head.len() <= 3));
    }
    // UTF-8 has a form that other encodings never have by chance; the whole file must have it.
    let mut rest: Vec<u8> = Vec::new();
    loop {
        let chunk = reader.fill_buf()?;
        if chunk.is_empty() {
            return Ok((
                if rest.is_empty() { UTF_8 } else { WINDOWS_1252 },
                false,
                empty,
            ));
        }
        let count = chunk.len();
        rest.extend_from_slice(chunk);
        reader.consume(count);
        match std::str::from_utf8(&rest) {
            Ok(_) => rest.clear(),
            Err(error) if error.error_len().is_some() => return Ok((WINDOWS_1252, false, empty)),
            Err(error) => drop(rest.drain(..error.valid_up_to())),
        }
    }
}

/// The delimiter that cuts the first rows into the same number of fields, and into most of them.
fn guess_delimiter(sample: &str) -> u8 {
    let lines: Vec<&str> = sample
        .lines()
        .filter(|line| !line.is_empty())
        .take(20)
        .collect();
    let whole = if lines.len() > 2 {
        &lines[..lines.len() - 1]
    } else {
        &lines[..]
    };
    let score = |delimiter: u8| {
        let text = whole.join("\n");
        let mut counts = csv_reader(text.as_bytes(), delimiter)
            .into_records()
            .filter_map(Result::ok)
            .map(|record| record.len());
        let first = counts.next().unwrap_or(0);
        let even = counts.filter(|count| *count == first).count();
        if first < 2 { (0, 0) } else { (even + 1, first) }
    };
    [b',', b';', b'\t', b'|']
        .into_iter()
        .max_by_key(|delimiter| (score(*delimiter), *delimiter == b','))
        .unwrap_or(b',')
}

fn csv_reader<R: Read>(reader: R, delimiter: u8) -> csv::Reader<R> {
    csv::ReaderBuilder::new()
        .delimiter(delimiter)
        .flexible(true)
        .has_headers(false)
        .from_reader(reader)
}

/// Reads every row. A file that ends in the middle of a row is rejected.
pub(crate) fn each_row<R: Read + Seek>(
    file: &mut R,
    form: &Form,
    name: &str,
    with: impl FnMut(Row<'_>) -> Result<(), ConnectError>,
) -> Result<(), ConnectError> {
    let io = |error: std::io::Error| read_error(name, &error);
    let end = file.seek(SeekFrom::End(-1)).map_err(io)?;
    let mut last = [0u8; 1];
    file.read_exact(&mut last).map_err(io)?;
    // In UTF-16 the last octet of a line feed may be zero.
    let ends_line =
        matches!(last[0], b'\n' | b'\r') || (form.encoding != UTF_8 && last[0] == 0 && end > 0);
    file.seek(SeekFrom::Start(0)).map_err(io)?;
    let text = Decoded::new(file, form.encoding);
    match form.delimiter {
        Some(delimiter) => csv_rows(
            FeedText {
                text,
                name,
                ends_line,
            },
            form,
            delimiter,
            with,
        ),
        None => json_rows(
            FeedText {
                text,
                name,
                ends_line,
            },
            with,
        ),
    }
}

fn truncated_error(name: &str, line: u64) -> ConnectError {
    permanent_error(
        "feed_truncated",
        format!("{name} ends in the middle of line {line}: it was cut off and is rejected"),
        "deliver it again; no account counts as absent",
    )
}

/// The decoded text of a feed.
struct FeedText<'a, R> {
    text: R,
    /// The name of the file.
    name: &'a str,
    /// Whether its last row ends with a line break; otherwise the file may be cut off.
    ends_line: bool,
}

fn csv_rows<R: Read>(
    feed: FeedText<'_, R>,
    form: &Form,
    delimiter: u8,
    mut with: impl FnMut(Row<'_>) -> Result<(), ConnectError>,
) -> Result<(), ConnectError> {
    let FeedText {
        text,
        name,
        ends_line,
    } = feed;
    let columns: Vec<Arc<str>> = form
        .columns
        .iter()
        .map(|column| Arc::from(column.as_str()))
        .collect();
    let since_row = Rc::new(Cell::new(0));
    let mut reader = csv_reader(
        Bounded {
            inner: text,
            since_row: since_row.clone(),
        },
        delimiter,
    );
    let too_long = |line: u64| {
        permanent_error(
            "feed_quote",
            format!(
                "{name}: the row on line {line} is longer than {} KiB, as if a quote never closed",
                LONGEST >> 10
            ),
            "correct the quotes on that line",
        )
    };
    let mut record = csv::StringRecord::new();
    let mut first = true;
    let mut pending: Option<(u64, BadRow)> = None;
    loop {
        let begins = reader.position().line();
        let more = read_record(name, &mut reader, too_long, &mut record, begins)?;
        since_row.set(0);
        let line = record.position().map_or(0, csv::Position::line);
        if !more {
            // The last row is short, and no line ends it: the file was cut.
            return match pending {
                Some((line, _)) if !ends_line => Err(truncated_error(name, line)),
                Some((_, row)) => with(Row::Bad(row)),
                None => Ok(()),
            };
        }
        if let Some((_, row)) = pending.take() {
            with(Row::Bad(row))?;
        }
        if std::mem::take(&mut first) {
            continue;
        }
        if record.as_slice().len() > LONGEST {
            return Err(too_long(line));
        }
        let raw = || {
            let mut writer = csv::WriterBuilder::new()
                .delimiter(delimiter)
                .from_writer(Vec::new());
            // Writing to memory cannot fail.
            let _ = writer.write_record(&record);
            let text = writer.into_inner().unwrap_or_default();
            clip(String::from_utf8_lossy(&text).trim_end_matches(['\n', '\r']))
        };
        if record.len() == 1 && record.get(0).is_some_and(|field| field.trim().is_empty()) {
            continue;
        }
        if record.len() != columns.len() {
            let reason = format!(
                "it has {} fields, and the header has {}",
                record.len(),
                columns.len()
            );
            pending = Some((
                line,
                BadRow {
                    line,
                    reason,
                    raw: raw(),
                    key: None,
                },
            ));
            continue;
        }
        if let Some(field) = record.iter().find(|field| field.contains('\u{fffd}')) {
            let reason = format!(
                "it contains bytes that are not {}: {}",
                form.encoding.name(),
                clip(field)
            );
            with(Row::Bad(BadRow {
                line,
                reason,
                raw: raw(),
                key: None,
            }))?;
            continue;
        }
        let values = columns
            .iter()
            .zip(record.iter())
            .filter(|(_, field)| !field.trim().is_empty())
            .map(|(column, field)| (column.clone(), vec![Value::text(field)]))
            .collect();
        with(Row::Good {
            line,
            values,
            raw: &raw,
        })?;
    }
}

/// Reads the next record. Returns whether there was one.
fn read_record<R: Read>(
    name: &str,
    reader: &mut csv::Reader<Bounded<R>>,
    too_long: impl Fn(u64) -> ConnectError,
    record: &mut csv::StringRecord,
    begins: u64,
) -> Result<bool, ConnectError> {
    let more = reader
        .read_record(record)
        .map_err(|error| match error.into_kind() {
            csv::ErrorKind::Io(error) if error.kind() == std::io::ErrorKind::FileTooLarge => {
                too_long(begins)
            }
            csv::ErrorKind::Io(error) => read_error(name, &error),
            other => permanent_error(
                "feed_format",
                format!("{name} cannot be read as CSV: {other:?}"),
                "export it again",
            ),
        })?;
    Ok(more)
}

fn json_rows<R: Read>(
    feed: FeedText<'_, R>,
    mut with: impl FnMut(Row<'_>) -> Result<(), ConnectError>,
) -> Result<(), ConnectError> {
    let FeedText {
        text,
        name,
        ends_line,
    } = feed;
    let mut reader = BufReader::with_capacity(64 << 10, text);
    let mut line = 0u64;
    let mut pending: Option<BadRow> = None;
    loop {
        let mut octets = Vec::new();
        let got = (&mut reader)
            .take(LONGEST as u64 + 1)
            .read_until(b'\n', &mut octets)
            .map_err(|error| read_error(name, &error))?;
        if got == 0 {
            return match pending {
                Some(row) if !ends_line => Err(truncated_error(name, row.line)),
                Some(row) => with(Row::Bad(row)),
                None => Ok(()),
            };
        }
        line += 1;
        if octets.len() > LONGEST {
            return Err(permanent_error(
                "feed_format",
                format!("{name}: line {line} is longer than {} KiB", LONGEST >> 10),
                "put one object in each line",
            ));
        }
        if let Some(row) = pending.take() {
            with(Row::Bad(row))?;
        }
        let text = String::from_utf8_lossy(&octets);
        let text = text.trim();
        if text.is_empty() {
            continue;
        }
        let raw = || clip(text);
        match serde_json::from_str::<Json>(text) {
            Ok(Json::Object(fields)) => {
                let mut values = Vec::new();
                for (field, value) in &fields {
                    flatten_json(field, value, 0, &mut values);
                }
                with(Row::Good {
                    line,
                    values,
                    raw: &raw,
                })?;
            }
            Ok(other) => {
                let reason = not_an_object(other);
                with(Row::Bad(BadRow {
                    line,
                    reason,
                    raw: raw(),
                    key: None,
                }))?;
            }
            Err(error) => {
                pending = Some(BadRow {
                    line,
                    reason: format!("it is not JSON: {error}"),
                    raw: raw(),
                    key: None,
                })
            }
        }
    }
}

/// The reason for a line that is JSON and no object.
fn not_an_object(other: Json) -> String {
    format!(
        "it is not a JSON object but {}",
        if other.is_array() {
            "a list"
        } else {
            "a single value"
        }
    )
}

/// A JSON value as flat attributes: parts of an object by dotted names, a list as many values.
fn flatten_json(name: &str, value: &Json, depth: usize, out: &mut Vec<(Arc<str>, Vec<Value>)>) {
    let scalar = |value: &Json| match value {
        Json::String(text) if text.trim().is_empty() => None,
        Json::String(text) => Some(Value::text(text)),
        Json::Bool(truth) => Some(Value::Bool(*truth)),
        Json::Number(number) => Some(
            number
                .as_i64()
                .map_or_else(|| Value::text(number.to_string()), Value::Int),
        ),
        _ => None,
    };
    match value {
        Json::Object(parts) if depth < 4 => parts.iter().for_each(|(part, value)| {
            flatten_json(&format!("{name}.{part}"), value, depth + 1, out)
        }),
        Json::Array(items) => {
            let values: Vec<Value> = items.iter().filter_map(scalar).collect();
            if !values.is_empty() {
                out.push((Arc::from(name), values));
            }
        }
        single => out.extend(scalar(single).map(|value| (Arc::from(name), vec![value]))),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A file that begins well and whose quote on line 3 never closes. Counts what is read of it.
    struct Endless {
        at: u64,
        read: u64,
    }

    const HEAD: &[u8] = b"number;name\n1;Ada\n2;\"Bram";
    const SIZE: u64 = 64 << 20;

    impl Read for Endless {
        fn read(&mut self, out: &mut [u8]) -> std::io::Result<usize> {
            let count = out
                .len()
                .min(usize::try_from(SIZE - self.at).unwrap_or(usize::MAX));
            for (place, octet) in out[..count].iter_mut().enumerate() {
                let at = self.at as usize + place;
                *octet = HEAD.get(at).copied().unwrap_or(if at as u64 == SIZE - 1 {
                    b'\n'
                } else {
                    b'x'
                });
            }
            self.at += count as u64;
            self.read += count as u64;
            Ok(count)
        }
    }

    impl Seek for Endless {
        fn seek(&mut self, to: SeekFrom) -> std::io::Result<u64> {
            self.at = match to {
                SeekFrom::Start(at) => at,
                SeekFrom::End(back) => SIZE.saturating_add_signed(back),
                SeekFrom::Current(on) => self.at.saturating_add_signed(on),
            };
            Ok(self.at)
        }
    }

    #[test]
    fn a_quote_that_never_closes_ends_the_reading_of_its_row() {
        let mut file = Endless { at: 0, read: 0 };
        let columns = vec!["number".to_owned(), "name".to_owned()];
        let form = Form {
            encoding: UTF_8,
            marked: false,
            delimiter: Some(b';'),
            columns,
        };
        let mut rows = 0;
        let error = each_row(&mut file, &form, "roster.csv", |_| {
            rows += 1;
            Ok(())
        });
        let error = error.expect_err("refused");
        assert_eq!((error.code, rows), ("feed_quote", 1), "{error}");
        assert!(error.message.contains("line 3"), "{error}");
        assert!(file.read < 2 << 20, "{} octets were read of it", file.read);
    }
}
