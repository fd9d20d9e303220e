//! From an entry to an account.

use super::schema::{Known, NEVER, State, is_file_time};
use crate::ConnectError;
use ldap3::{ResultEntry, SearchEntry};
use tide_core::model::Observed;
use tide_core::schema::ValueKind;
use tide_core::{Attributes, Value};
use tide_ldap::{Dn, syntax};

/// Attributes that hold octets, for a server that publishes no schema.
const OCTETS: [&str; 8] = ["jpegPhoto", "userCertificate", "objectGUID", "objectSid", "audio", "photo", "thumbnailPhoto", "cACertificate"];

/// Takes an entry apart. The library panics on one that it cannot read at all; without its name it
/// cannot be told whose it is, so the reading as a whole is not complete.
pub(super) fn open(entry: ResultEntry) -> Result<SearchEntry, ConnectError> {
    std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| SearchEntry::construct(entry))).map_err(|_| {
        ConnectError::passing("entry_broken", "the server sent an entry that cannot be read", "report it to the server's keeper")
    })
}

/// An attribute of which the server showed a part only: its plain name, and the place after the
/// last value that came. `None` for a whole attribute and for the last part.
pub(super) fn rest_of(name: &str) -> Option<(&str, usize)> {
    let (plain, options) = name.split_once(';')?;
    let range = options.split(';').find_map(|option| option.get(..6).filter(|p| p.eq_ignore_ascii_case("range=")).map(|_| &option[6..]))?;
    let (_, end) = range.split_once('-')?;
    Some((plain, end.parse::<usize>().ok()? + 1))
}

/// Makes an account of an entry that the library took apart.
pub(super) fn observed(entry: &SearchEntry, known: &Known) -> Observed {
    let texts = entry.attrs.iter().map(|(name, values)| (name.as_str(), values.iter().map(String::as_bytes).collect::<Vec<_>>()));
    let octets = entry.bin_attrs.iter().map(|(name, values)| (name.as_str(), values.iter().map(Vec::as_slice).collect()));
    made(&entry.dn, texts.chain(octets), known)
}

/// An attribute's name as the schema writes it, so that a rule's name fits whatever the server sends.
/// Options stay, but for the range of a part.
fn written<'a>(name: &'a str, known: &'a Known) -> std::borrow::Cow<'a, str> {
    let Some((plain, options)) = name.split_once(';') else { return known.def(name).map_or(name, |def| def.name.as_str()).into() };
    let mut written = known.def(plain).map_or(plain, |def| def.name.as_str()).to_owned();
    for option in options.split(';').filter(|option| !option.get(..6).is_some_and(|start| start.eq_ignore_ascii_case("range="))) {
        written.push(';');
        written.push_str(option);
    }
    written.into()
}

/// Makes an account of an entry's name and attributes.
pub(super) fn made<'a, V>(dn: &str, entry: impl Iterator<Item = (&'a str, V)>, known: &Known) -> Observed
where
    V: IntoIterator<Item = &'a [u8]>,
{
    let mut fault = None;
    let mut attributes = Attributes::new();
    let mut key = None;
    for (name, values) in entry {
        if secret(name) {
            continue;
        }
        let plain = name.split(';').next().unwrap_or(name);
        if plain.eq_ignore_ascii_case("objectGUID") {
            key = values.into_iter().next().and_then(syntax::object_guid);
            attributes.set("objectGUID", key.iter().cloned().map(Value::Text).collect());
            continue;
        }
        if plain.eq_ignore_ascii_case("objectSid") {
            attributes.set("objectSid", values.into_iter().filter_map(syntax::object_sid).map(Value::Text).collect());
            continue;
        }
        let def = known.def(plain);
        let octets = def.map_or_else(
            || name.contains(";binary") || OCTETS.iter().any(|o| plain.eq_ignore_ascii_case(o)),
            |def| def.kind == ValueKind::Bytes,
        );
        if octets {
            attributes.set(name, values.into_iter().map(|octets| Value::Bytes(octets.to_vec())).collect());
            continue;
        }
        let kind = def.map_or(ValueKind::Text, |def| def.kind);
        // "Never" is no instant: the attribute is then not there.
        let time = known.controller && is_file_time(plain);
        let mut read = Vec::new();
        for octets in values {
            match std::str::from_utf8(octets) {
                Ok(text) if time => read.extend(syntax::file_time(text).map(Value::Time)),
                Ok(text) => read.push(value(kind, text)),
                Err(error) => {
                    fault.get_or_insert(format!("{name} is not UTF-8 (octet {})", error.valid_up_to() + 1));
                    read.clear();
                    break;
                }
            }
        }
        if plain.eq_ignore_ascii_case(known.key) {
            key = read.first().map(Value::to_string);
        }
        attributes.set(written(name, known), read);
    }
    if let Ok(parsed) = dn.parse::<Dn>() {
        attributes.set("container", parsed.parent().map(|parent| Value::text(parent.to_string())).into_iter().collect());
    } else {
        fault.get_or_insert(format!("the name {dn} cannot be read"));
    }
    attributes.set("dn", vec![Value::text(dn)]);
    if let (true, Some(Value::Int(flags))) = (known.controller, attributes.get("userAccountControl").first()) {
        let words = syntax::account_flags(*flags).into_iter().map(Value::text).collect();
        attributes.set("accountFlags", words);
    }
    if let Some(enabled) = enabled(&attributes, known.state) {
        attributes.set("enabled", vec![Value::Bool(enabled)]);
    }
    if key.is_none() {
        fault.get_or_insert(format!("it has no {}, so that it could not be followed when it is renamed", known.key));
    }
    Observed { key: key.unwrap_or_else(|| dn.to_lowercase()), name: dn.to_owned(), attributes, fault }
}

fn secret(name: &str) -> bool {
    let plain = name.split(';').next().unwrap_or(name);
    NEVER.iter().any(|never| never.eq_ignore_ascii_case(plain))
}

fn value(kind: ValueKind, text: &str) -> Value {
    match kind {
        ValueKind::Bool => match text {
            "TRUE" => Value::Bool(true),
            "FALSE" => Value::Bool(false),
            other => Value::text(other),
        },
        ValueKind::Int => text.parse().map_or_else(|_| Value::text(text), Value::Int),
        ValueKind::Time => syntax::generalized_time(text).map_or_else(|| Value::text(text), Value::Time),
        ValueKind::Reference => Value::Reference(text.to_owned()),
        ValueKind::Bytes => Value::Bytes(text.as_bytes().to_vec()),
        ValueKind::Text | ValueKind::Complex => Value::text(text),
    }
}

fn enabled(attributes: &Attributes, state: State) -> Option<bool> {
    match state {
        State::ControlFlags => match attributes.get("userAccountControl").first() {
            Some(Value::Int(flags)) => Some(flags & 2 == 0),
            Some(other) => other.to_string().parse::<i64>().ok().map(|flags| flags & 2 == 0),
            None => None,
        },
        State::Lock => Some(!attributes.get("nsAccountLock").iter().any(|v| v.to_string().eq_ignore_ascii_case("true"))),
        State::LockedTime => Some(attributes.get("pwdAccountLockedTime").is_empty()),
        State::None => None,
    }
}
