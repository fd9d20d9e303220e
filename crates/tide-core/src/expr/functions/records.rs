//! Functions of names, distinguished names, flags, lists and hashes.

use super::super::eval::Datum;
use super::{on_text, to_int};
use sha2::{Digest, Sha256};
use tide_ldap::Dn;

/// A name that is written all in one case, with a capital at the start of each of its parts.
pub(super) fn name_case(text: &str) -> String {
    let mixed = text.chars().any(char::is_lowercase) && text.chars().any(char::is_uppercase);
    if mixed {
        return text.to_owned();
    }
    let mut start = true;
    text.chars()
        .flat_map(|c| {
            let cased: String = if start {
                c.to_uppercase().collect()
            } else {
                c.to_lowercase().collect()
            };
            start = !c.is_alphanumeric();
            cased.chars().collect::<Vec<_>>()
        })
        .collect()
}

/// A text as a part of an account name: plain Latin letters and digits, in lower case.
pub(super) fn plain_name(text: &str) -> String {
    deunicode::deunicode(text)
        .to_lowercase()
        .chars()
        .filter(char::is_ascii_alphanumeric)
        .collect()
}

pub(super) fn initials(text: &str) -> String {
    text.split(|c: char| c.is_whitespace() || c == '-')
        .filter_map(|word| word.chars().find(|c| c.is_alphabetic()))
        .collect()
}

pub(super) fn pad(arguments: Vec<Datum>) -> Result<Datum, String> {
    match arguments.as_slice() {
        [Datum::Null, ..] => Ok(Datum::Null),
        [value, Datum::Int(width), Datum::Text(fill)] => {
            let text = super::plain(value)?.unwrap_or_default();
            let width = usize::try_from(*width)
                .ok()
                .filter(|width| *width <= 256)
                .ok_or("the width must be 0 to 256")?;
            let mut letters = fill.chars();
            let (Some(fill), None) = (letters.next(), letters.next()) else {
                return Err("the padding must be one character".into());
            };
            let missing = width.saturating_sub(text.chars().count());
            Ok(Datum::Text(
                std::iter::repeat_n(fill, missing)
                    .chain(text.chars())
                    .collect(),
            ))
        }
        _ => Err("a value, a width and one character are needed".into()),
    }
}

fn dn(text: &str) -> Result<Dn, String> {
    text.parse()
        .map_err(|error: tide_ldap::DnError| error.to_string())
}

/// The value of the first part of a DN that is of this kind.
pub(super) fn dn_part(arguments: Vec<Datum>) -> Result<Datum, String> {
    match arguments.as_slice() {
        [Datum::Null, _] => Ok(Datum::Null),
        [Datum::Text(text), Datum::Text(kind)] => {
            let found = dn(text)?
                .rdns()
                .iter()
                .flatten()
                .find(|(name, _)| name.eq_ignore_ascii_case(kind))
                .map(|(_, value)| value.clone());
            Ok(found.map_or(Datum::Null, Datum::Text))
        }
        _ => Err("a DN and the name of a part are needed".into()),
    }
}

pub(super) fn dn_parent(arguments: Vec<Datum>) -> Result<Datum, String> {
    match arguments.as_slice() {
        [Datum::Null] => Ok(Datum::Null),
        [Datum::Text(text)] => Ok(dn(text)?
            .parent()
            .map_or(Datum::Null, |parent| Datum::Text(parent.to_string()))),
        _ => Err("a DN is needed".into()),
    }
}

/// A DN below another, with its value escaped (RFC 4514 §2.4), so that no value can add a part of
/// its own.
pub(super) fn dn_below(arguments: Vec<Datum>) -> Result<Datum, String> {
    match arguments.as_slice() {
        [_, Datum::Null, _] | [.., Datum::Null] => Ok(Datum::Null),
        [Datum::Text(kind), value, Datum::Text(parent)] => {
            let value = super::plain(value)?.unwrap_or_default();
            if value.trim().is_empty() {
                return Ok(Datum::Null);
            }
            Ok(Datum::Text(dn(parent)?.child(kind, &value).to_string()))
        }
        _ => Err("the name of a part, its value and the DN above are needed".into()),
    }
}

fn flags(arguments: Vec<Datum>, run: fn(i64, i64) -> i64) -> Result<Datum, String> {
    let number = to_int(arguments.iter().take(1).cloned().collect())?;
    match (number, arguments.get(1)) {
        (Datum::Int(number), Some(Datum::Int(flag))) => Ok(Datum::Int(run(number, *flag))),
        (Datum::Null, _) => Ok(Datum::Null),
        _ => Err("two numbers are needed".into()),
    }
}

pub(super) fn with_bit(arguments: Vec<Datum>) -> Result<Datum, String> {
    flags(arguments, |number, flag| number | flag)
}

pub(super) fn without_bit(arguments: Vec<Datum>) -> Result<Datum, String> {
    flags(arguments, |number, flag| number & !flag)
}

fn items(datum: Option<Datum>) -> Vec<Datum> {
    match datum {
        Some(Datum::List(items)) => items,
        Some(Datum::Null) | None => Vec::new(),
        Some(single) => vec![single],
    }
}

pub(super) fn last(arguments: Vec<Datum>) -> Result<Datum, String> {
    Ok(items(arguments.into_iter().next())
        .pop()
        .unwrap_or(Datum::Null))
}

/// The order of values that are mixed: by their kind, then by themselves.
fn sort_key(datum: &Datum) -> (&'static str, i64, String) {
    match datum {
        Datum::Int(number) => (datum.kind_name(), *number, String::new()),
        Datum::Time(time) => (datum.kind_name(), time.as_millisecond(), String::new()),
        other => (
            other.kind_name(),
            0,
            super::plain(other).ok().flatten().unwrap_or_default(),
        ),
    }
}

pub(super) fn sorted(arguments: Vec<Datum>) -> Result<Datum, String> {
    let mut items = items(arguments.into_iter().next());
    items.sort_by_cached_key(sort_key);
    Ok(Datum::List(items))
}

pub(super) fn distinct(arguments: Vec<Datum>) -> Result<Datum, String> {
    let mut seen = std::collections::BTreeSet::new();
    Ok(Datum::List(
        items(arguments.into_iter().next())
            .into_iter()
            .filter(|item| seen.insert(sort_key(item)))
            .collect(),
    ))
}

/// SHA-256 as hexadecimal digits: a stable stand-in for a value that must not be shown.
pub(super) fn hash(arguments: Vec<Datum>) -> Result<Datum, String> {
    on_text(arguments, |text| {
        Sha256::digest(text.as_bytes())
            .iter()
            .map(|byte| format!("{byte:02x}"))
            .collect()
    })
}

/// The bucket of a text: always the same for the same text.
pub(super) fn bucket(arguments: Vec<Datum>) -> Result<Datum, String> {
    match arguments.as_slice() {
        [Datum::Null, _] => Ok(Datum::Null),
        [Datum::Text(text), Datum::Int(parts)] if *parts > 0 => {
            let digest = Sha256::digest(text.as_bytes());
            let first = digest
                .iter()
                .take(8)
                .fold(0u64, |sum, byte| sum << 8 | u64::from(*byte));
            Ok(Datum::Int(
                i64::try_from(first % parts.unsigned_abs()).unwrap_or_default(),
            ))
        }
        _ => Err("a text and a number above 0 are needed".into()),
    }
}
