//! The functions of expressions, each with its purpose and an example that the tests run.

mod dates;
mod records;

use super::eval::Datum;
use unicode_normalization::UnicodeNormalization;

type FunctionBody = fn(Vec<Datum>) -> Result<Datum, String>;

/// One function.
#[derive(Clone, Copy)]
pub struct Function {
    /// Its name.
    pub name: &'static str,
    /// Its purpose, in one sentence.
    pub about: &'static str,
    /// A use of it, without attributes.
    pub example: &'static str,
    /// The result of the example.
    pub gives: &'static str,
    /// The fewest arguments.
    pub least: usize,
    /// The most arguments.
    pub most: usize,
    pub(super) run: FunctionBody,
}

impl std::fmt::Debug for Function {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(self.name)
    }
}

impl Function {
    pub(super) fn arity_text(&self) -> String {
        match (self.least, self.most) {
            (1, 1) => "one value".into(),
            (least, most) if least == most => format!("{least} values"),
            (least, usize::MAX) => format!("{least} values or more"),
            (least, most) => format!("{least} to {most} values"),
        }
    }
}

pub(super) fn find(name: &str) -> Option<&'static Function> {
    FUNCTIONS.iter().find(|function| function.name == name)
}

pub(super) fn names() -> impl Iterator<Item = &'static str> {
    FUNCTIONS.iter().map(|function| function.name).chain([
        "lookup",
        "matches",
        "regexReplace",
        "regexExtract",
        "values",
        "has",
    ])
}

/// All functions, for documents and the console.
pub fn catalogue() -> &'static [Function] {
    FUNCTIONS
}

macro_rules! function {
    ($name:literal, $least:expr, $most:expr, $about:literal, $example:literal => $gives:literal, $run:expr) => {
        Function {
            name: $name,
            about: $about,
            example: $example,
            gives: $gives,
            least: $least,
            most: $most,
            run: $run,
        }
    };
}

const FUNCTIONS: &[Function] = &[
    function!("lower", 1, 1, "The text in lower case.", "lower('Ada')" => "ada", |a| on_text(a, |t| t.to_lowercase())),
    function!("upper", 1, 1, "The text in upper case.", "upper('Ada')" => "ADA", |a| on_text(a, |t| t.to_uppercase())),
    function!("trim", 1, 1, "The text without surrounding white space.", "trim(' Ada ')" => "Ada", |a| on_text(a, |t| t.trim().to_owned())),
    function!("normalizeSpace", 1, 1, "The text trimmed, with each run of white space replaced by one space.", "normalizeSpace(' Ada  Lind ')" => "Ada Lind", |a| on_text(a, |t| t.split_whitespace().collect::<Vec<_>>().join(" "))),
    function!("joinWords", 1, usize::MAX, "Joins values with a space; skips missing and empty ones.", "joinWords('Ada', null, 'Lind')" => "Ada Lind", words),
    function!("join", 2, 2, "Joins a list's items with a separator.", "join(['a', 'b'], ', ')" => "a, b", join),
    function!("split", 2, 2, "Splits a text at each separator.", "split('a;b', ';')" => "a · b", split),
    function!("replace", 3, 3, "The text with all occurrences of a text replaced.", "replace('a-b', '-', '.')" => "a.b", replace),
    function!("substring", 3, 3, "A number of characters from a position, counted from 0.", "substring('Skerry', 0, 3)" => "Ske", part),
    function!("initial", 1, 1, "The first letter.", "initial('Ada')" => "A", |a| on_text(a, |t| t.trim().chars().next().map(String::from).unwrap_or_default())),
    function!("transliterate", 1, 1, "The text transliterated to ASCII letters.", "transliterate('Łódź')" => "Lodz", |a| on_text(a, |t| deunicode::deunicode(&t.nfc().collect::<String>()).trim().to_owned())),
    function!("alphanumeric", 1, 1, "Only letters and digits: no space, apostrophe or hyphen.", "alphanumeric(\"D'Amberg\")" => "DAmberg", |a| on_text(a, |t| t.chars().filter(|c| c.is_alphanumeric()).collect())),
    function!("domain", 1, 1, "The part of an address after the last @, in lower case.", "domain('ada@Skerry.example')" => "skerry.example", |a| on_text(a, |t| t.rsplit_once('@').map(|(_, d)| d.trim().to_lowercase()).unwrap_or_default())),
    function!("coalesce", 2, usize::MAX, "The first value that is neither missing nor empty.", "coalesce(null, '', 'Shore')" => "Shore", |a| Ok(a.into_iter().find(|d| !is_blank(d)).unwrap_or(Datum::Null))),
    function!("isBlank", 1, 1, "True if it is missing, or white space only.", "isBlank(' ')" => "true", |a| Ok(Datum::Bool(a.first().is_none_or(is_blank)))),
    function!("first", 1, 1, "The first item of a list.", "first(['a', 'b'])" => "a", |a| Ok(match a.into_iter().next() { Some(Datum::List(items)) => items.into_iter().next().unwrap_or(Datum::Null), Some(other) => other, None => Datum::Null })),
    function!("size", 1, 1, "The number of characters or items.", "size('Ada')" => "3", size),
    function!("contains", 2, 2, "True if the text contains the other text.", "contains('Skerry', 'err')" => "true", |a| test(a, |t, o| t.contains(o))),
    function!("startsWith", 2, 2, "True if the text starts with the other text.", "startsWith('Skerry', 'Sk')" => "true", |a| test(a, |t, o| t.starts_with(o))),
    function!("endsWith", 2, 2, "True if the text ends with the other text.", "endsWith('Skerry', 'ry')" => "true", |a| test(a, |t, o| t.ends_with(o))),
    function!("text", 1, 1, "A number, boolean or instant as text.", "text(12)" => "12", to_text),
    function!("int", 1, 1, "A text as an integer; missing if it is not a number.", "int('12')" => "12", to_int),
    function!("hasFlag", 2, 2, "True if a flag is set in a number.", "hasFlag(514, 2)" => "true", bit),
    function!("setFlag", 2, 2, "The number with a flag set.", "setFlag(512, 2)" => "514", records::with_bit),
    function!("clearFlag", 2, 2, "The number without a flag.", "clearFlag(514, 2)" => "512", records::without_bit),
    function!("initials", 1, 1, "The first letter of each word.", "initials('Ada Maria Vasko-Lind')" => "AMVL", |a| on_text(a, records::initials)),
    function!("nameCase", 1, 1, "A name in one case with the usual capitals; mixed case is unchanged.", "nameCase('VASKO-LIND')" => "Vasko-Lind", |a| on_text(a, records::name_case)),
    function!("plainName", 1, 1, "A text for an account name: ASCII letters and digits, in lower case.", "plainName(\"Åsa D'Amberg\")" => "asadamberg", |a| on_text(a, records::plain_name)),
    function!("digits", 1, 1, "Only the digits.", "digits('+47 555-01')" => "4755501", |a| on_text(a, |t| t.chars().filter(char::is_ascii_digit).collect())),
    function!("pad", 3, 3, "The value padded on the left to a width.", "pad(42, 5, '0')" => "00042", records::pad),
    function!("last", 1, 1, "The last item of a list.", "last(['a', 'b'])" => "b", records::last),
    function!("sorted", 1, 1, "A list, sorted.", "join(sorted(['b', 'a']), ' ')" => "a b", records::sorted),
    function!("distinct", 1, 1, "A list without duplicates.", "size(distinct(['a', 'b', 'a']))" => "2", records::distinct),
    function!("instant", 1, 1, "A text as an instant (RFC 3339); missing if it is not one.", "instant('2026-11-23T08:00:00+01:00')" => "2026-11-23T07:00:00Z", dates::parse_instant),
    function!("dayStart", 2, 2, "The first instant of a day in a time zone.", "dayStart('2026-07-01', 'Europe/Oslo')" => "2026-06-30T22:00:00Z", dates::day_start),
    function!("dayEnd", 2, 2, "The end of a day in a time zone.", "dayEnd('2026-07-01', 'Europe/Oslo')" => "2026-07-01T22:00:00Z", dates::day_end),
    function!("day", 2, 2, "The day of an instant in a time zone.", "day(instant('2026-06-30T23:00:00Z'), 'Europe/Oslo')" => "2026-07-01", dates::parse_day),
    function!("formatDate", 2, 3, "A date in a format; an instant also needs a time zone.", "formatDate('2026-07-01', '%d.%m.%Y')" => "01.07.2026", dates::format_with),
    function!("parseDate", 2, 2, "A text in a format as a date; missing if it does not match.", "parseDate('01.07.2026', '%d.%m.%Y')" => "2026-07-01", dates::read),
    function!("addDays", 2, 2, "A date plus a number of days.", "addDays('2026-02-27', 2)" => "2026-03-01", dates::add_days),
    function!("daysBetween", 2, 2, "The number of days between two dates.", "daysBetween('2026-02-27', '2026-03-01')" => "2", dates::days_between),
    function!("dnPart", 2, 2, "The value of the first RDN of a DN with this type.", "dnPart('uid=ada,ou=Deck,dc=skerry,dc=example', 'ou')" => "Deck", records::dn_part),
    function!("dnParent", 1, 1, "The parent DN.", "dnParent('uid=ada,ou=Deck,dc=skerry')" => "ou=Deck,dc=skerry", records::dn_parent),
    function!("dnBelow", 3, 3, "A child DN; the value is escaped.", "dnBelow('cn', 'Lind, Ada', 'dc=skerry')" => "cn=Lind\\, Ada,dc=skerry", records::dn_below),
    function!("hash", 1, 1, "The SHA-256 of a text, as hexadecimal digits.", "substring(hash('Ada'), 0, 8)" => "99a563ab", records::hash),
    function!("bucket", 2, 2, "The bucket of a text, from 0: always the same one.", "bucket('Ada', 4) < 4" => "true", records::bucket),
];

/// The kind of a function's result; `None` if it depends on the arguments.
pub(super) fn kind_given(name: &str) -> Option<&'static str> {
    Some(match name {
        "isBlank" | "contains" | "startsWith" | "endsWith" | "hasFlag" => BOOL,
        "size" | "int" | "setFlag" | "clearFlag" | "daysBetween" | "bucket" => NUMBER,
        "instant" | "dayStart" | "dayEnd" => INSTANT,
        "joinWords" | "join" | "text" | "pad" | "day" | "formatDate" | "parseDate" | "addDays"
        | "dnPart" | "dnParent" | "dnBelow" => TEXT,
        name if of_text(name) => TEXT,
        _ => return None,
    })
}

/// Whether a function takes one text and returns one.
pub(super) fn of_text(name: &str) -> bool {
    [
        "lower",
        "upper",
        "trim",
        "normalizeSpace",
        "initial",
        "transliterate",
        "alphanumeric",
        "domain",
        "initials",
        "nameCase",
        "plainName",
        "digits",
        "hash",
    ]
    .contains(&name)
}

/// The kinds of values, in words.
pub(super) const BOOL: &str = "true or false";
pub(super) const NUMBER: &str = "a number";
pub(super) const INSTANT: &str = "an instant";
pub(super) const TEXT: &str = "text";

fn is_blank(datum: &Datum) -> bool {
    match datum {
        Datum::Null => true,
        Datum::Text(text) => text.trim().is_empty(),
        Datum::List(items) => items.iter().all(is_blank),
        _ => false,
    }
}

fn on_text(arguments: Vec<Datum>, run: fn(&str) -> String) -> Result<Datum, String> {
    fn each(datum: Datum, run: fn(&str) -> String) -> Result<Datum, String> {
        match datum {
            Datum::Null => Ok(Datum::Null),
            Datum::Text(text) => Ok(Datum::Text(run(&text))),
            Datum::List(items) => items
                .into_iter()
                .map(|item| each(item, run))
                .collect::<Result<_, _>>()
                .map(Datum::List),
            other => Err(format!("text is needed; this is {}", other.kind_name())),
        }
    }
    each(arguments.into_iter().next().unwrap_or(Datum::Null), run)
}

fn plain(datum: &Datum) -> Result<Option<String>, String> {
    match datum {
        Datum::Null => Ok(None),
        Datum::Text(text) => Ok(Some(text.clone())),
        Datum::Int(number) => Ok(Some(number.to_string())),
        Datum::Bool(truth) => Ok(Some(truth.to_string())),
        Datum::Time(time) => Ok(Some(time.to_string())),
        other => Err(format!("text is needed; this is {}", other.kind_name())),
    }
}

fn words(arguments: Vec<Datum>) -> Result<Datum, String> {
    let mut parts = Vec::new();
    for argument in &arguments {
        let items = match argument {
            Datum::List(items) => items.as_slice(),
            single => std::slice::from_ref(single),
        };
        for item in items {
            if let Some(text) = plain(item)?.filter(|text| !text.trim().is_empty()) {
                parts.push(text.split_whitespace().collect::<Vec<_>>().join(" "));
            }
        }
    }
    Ok(if parts.is_empty() {
        Datum::Null
    } else {
        Datum::Text(parts.join(" "))
    })
}

fn join(arguments: Vec<Datum>) -> Result<Datum, String> {
    match arguments.as_slice() {
        [Datum::List(items), Datum::Text(separator)] => {
            let mut parts = Vec::new();
            for item in items {
                parts.extend(plain(item)?);
            }
            Ok(Datum::Text(parts.join(separator)))
        }
        [Datum::Null, _] => Ok(Datum::Null),
        _ => Err("a list and a separator are needed".into()),
    }
}

fn split(arguments: Vec<Datum>) -> Result<Datum, String> {
    match arguments.as_slice() {
        [Datum::Text(text), Datum::Text(separator)] if !separator.is_empty() => Ok(Datum::List(
            text.split(separator.as_str())
                .map(|part| Datum::Text(part.trim().to_owned()))
                .collect(),
        )),
        [Datum::Null, _] => Ok(Datum::Null),
        _ => Err("a text and a separator are needed".into()),
    }
}

fn replace(arguments: Vec<Datum>) -> Result<Datum, String> {
    match arguments.as_slice() {
        [Datum::Text(text), Datum::Text(from), Datum::Text(to)] if !from.is_empty() => {
            let grown = text
                .len()
                .saturating_add(text.matches(from.as_str()).count().saturating_mul(to.len()));
            if grown > super::MAX_SIZE {
                return Err("the result would be too large".into());
            }
            Ok(Datum::Text(text.replace(from, to)))
        }
        [Datum::Null, _, _] => Ok(Datum::Null),
        _ => Err("three texts are needed, and the second must not be empty".into()),
    }
}

fn part(arguments: Vec<Datum>) -> Result<Datum, String> {
    match arguments.as_slice() {
        [Datum::Text(text), Datum::Int(from), Datum::Int(count)] => {
            let from = usize::try_from(*from).map_err(|_| "the position must not be negative")?;
            let count = usize::try_from(*count).map_err(|_| "the count must not be negative")?;
            Ok(Datum::Text(text.chars().skip(from).take(count).collect()))
        }
        [Datum::Null, _, _] => Ok(Datum::Null),
        _ => Err("a text and two numbers are needed".into()),
    }
}

fn size(arguments: Vec<Datum>) -> Result<Datum, String> {
    let count = match arguments.first() {
        Some(Datum::Text(text)) => text.chars().count(),
        Some(Datum::List(items)) => items.len(),
        Some(Datum::Null) | None => 0,
        Some(other) => {
            return Err(format!(
                "a text or a list is needed; this is {}",
                other.kind_name()
            ));
        }
    };
    i64::try_from(count)
        .map(Datum::Int)
        .map_err(|_| "too large".into())
}

fn test(arguments: Vec<Datum>, run: fn(&str, &str) -> bool) -> Result<Datum, String> {
    match arguments.as_slice() {
        [Datum::Text(text), Datum::Text(other)] => Ok(Datum::Bool(run(text, other))),
        [Datum::Null, _] | [_, Datum::Null] => Ok(Datum::Bool(false)),
        _ => Err("two texts are needed".into()),
    }
}

fn to_text(arguments: Vec<Datum>) -> Result<Datum, String> {
    match arguments.first() {
        Some(datum) => Ok(plain(datum)?.map_or(Datum::Null, Datum::Text)),
        None => Ok(Datum::Null),
    }
}

fn to_int(arguments: Vec<Datum>) -> Result<Datum, String> {
    match arguments.into_iter().next() {
        Some(Datum::Text(text)) => Ok(text.trim().parse().map_or(Datum::Null, Datum::Int)),
        Some(number @ Datum::Int(_)) => Ok(number),
        Some(Datum::Null) | None => Ok(Datum::Null),
        Some(other) => Err(format!("a text is needed; this is {}", other.kind_name())),
    }
}

fn bit(arguments: Vec<Datum>) -> Result<Datum, String> {
    let flags = to_int(arguments.iter().take(1).cloned().collect())?;
    match (flags, arguments.get(1)) {
        (Datum::Int(number), Some(Datum::Int(flag))) => {
            Ok(Datum::Bool(number & flag == *flag && *flag != 0))
        }
        (Datum::Null, _) => Ok(Datum::Bool(false)),
        _ => Err("two numbers are needed".into()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::expr::{EvalInputs, ExprScope, Program};
    use crate::value::format_values;

    #[test]
    fn every_example_gives_what_it_says() {
        for function in FUNCTIONS {
            let program = Program::compile(function.example, &ExprScope::open(&[]))
                .unwrap_or_else(|error| panic!("{}: {error}", function.name));
            let found = program.run(&EvalInputs::default()).expect("runs");
            assert_eq!(
                format_values(&found),
                function.gives,
                "{}",
                function.example
            );
        }
    }
}
