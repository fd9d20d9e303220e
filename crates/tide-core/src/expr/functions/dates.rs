//! Dates and instants. A date is a text such as `2026-11-23`; an instant is a moment in UTC.
//! Conversions between them name a time zone of the IANA database.

use super::super::eval::Datum;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};

fn parse_zone(name: &str) -> Result<TimeZone, String> {
    TimeZone::get(name)
        .map_err(|_| format!("there is no time zone {name:?}; for example: \"Europe/Oslo\""))
}

fn parse_civil(text: &str) -> Result<Date, String> {
    text.trim()
        .parse()
        .map_err(|_| format!("{text:?} is not a date; write 2026-11-23"))
}

/// Parses an instant: RFC 3339, with its offset. Anything else counts as missing.
pub(super) fn parse_instant(arguments: Vec<Datum>) -> Result<Datum, String> {
    match arguments.into_iter().next() {
        Some(Datum::Text(text)) => Ok(text
            .trim()
            .parse::<Timestamp>()
            .map_or(Datum::Null, Datum::Time)),
        Some(time @ Datum::Time(_)) => Ok(time),
        Some(Datum::Null) | None => Ok(Datum::Null),
        Some(other) => Err(format!("a text is needed; this is {}", other.kind_name())),
    }
}

/// The first moment of a day, or the first moment after it. An hour that a clock change skips or
/// repeats does not matter to either: the day is as long as it is there.
fn day_edge(arguments: &[Datum], days: i64) -> Result<Datum, String> {
    match arguments {
        [Datum::Null, _] => Ok(Datum::Null),
        [Datum::Text(day), Datum::Text(name)] => {
            let day = parse_civil(day)?
                .checked_add(days.days())
                .map_err(|_| "the date is out of range")?;
            let start = day
                .to_zoned(parse_zone(name)?)
                .map_err(|_| "the date is out of range")?;
            Ok(Datum::Time(start.timestamp()))
        }
        _ => Err("a date and a time zone are needed".into()),
    }
}

pub(super) fn day_start(arguments: Vec<Datum>) -> Result<Datum, String> {
    day_edge(&arguments, 0)
}

pub(super) fn day_end(arguments: Vec<Datum>) -> Result<Datum, String> {
    day_edge(&arguments, 1)
}

pub(super) fn parse_day(arguments: Vec<Datum>) -> Result<Datum, String> {
    match arguments.as_slice() {
        [Datum::Null, _] => Ok(Datum::Null),
        [Datum::Time(time), Datum::Text(name)] => Ok(Datum::Text(
            time.to_zoned(parse_zone(name)?).date().to_string(),
        )),
        _ => Err("an instant and a time zone are needed".into()),
    }
}

/// Formats a date or an instant by a pattern (strftime).
pub(super) fn format_with(arguments: Vec<Datum>) -> Result<Datum, String> {
    let form = |form: &str, broken: jiff::fmt::strtime::BrokenDownTime| {
        broken
            .to_string(form)
            .map(Datum::Text)
            .map_err(|_| format!("{form:?} is not a format; for example: \"%d.%m.%Y\""))
    };
    match arguments.as_slice() {
        [Datum::Null, ..] => Ok(Datum::Null),
        [Datum::Text(day), Datum::Text(wanted)] => form(wanted, parse_civil(day)?.into()),
        [Datum::Time(time), Datum::Text(wanted), Datum::Text(name)] => {
            form(wanted, (&time.to_zoned(parse_zone(name)?)).into())
        }
        [Datum::Time(_), _] => {
            Err("the date of an instant depends on the time zone: name one".into())
        }
        _ => Err("a date and a format are needed, or an instant, a format and a time zone".into()),
    }
}

/// Parses a date by a pattern. A text that does not fit counts as missing.
pub(super) fn read(arguments: Vec<Datum>) -> Result<Datum, String> {
    match arguments.as_slice() {
        [Datum::Null, _] => Ok(Datum::Null),
        [Datum::Text(text), Datum::Text(form)] => Ok(Date::strptime(form, text.trim())
            .map_or(Datum::Null, |day| Datum::Text(day.to_string()))),
        _ => Err("a text and a format are needed".into()),
    }
}

pub(super) fn add_days(arguments: Vec<Datum>) -> Result<Datum, String> {
    match arguments.as_slice() {
        [Datum::Null, _] | [_, Datum::Null] => Ok(Datum::Null),
        [Datum::Text(day), Datum::Int(count)] => {
            let days = i32::try_from(*count).map_err(|_| "too many days")?;
            parse_civil(day)?
                .checked_add(days.days())
                .map(|day| Datum::Text(day.to_string()))
                .map_err(|_| "the date is out of range".into())
        }
        _ => Err("a date and a number of days are needed".into()),
    }
}

pub(super) fn days_between(arguments: Vec<Datum>) -> Result<Datum, String> {
    match arguments.as_slice() {
        [Datum::Null, _] | [_, Datum::Null] => Ok(Datum::Null),
        [Datum::Text(from), Datum::Text(to)] => Ok(Datum::Int(i64::from(
            (parse_civil(to)? - parse_civil(from)?).get_days(),
        ))),
        _ => Err("two dates are needed".into()),
    }
}
