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

pub(super) fn observed(entry: &SearchEntry, known: &Known) -> Observed {
    let dn = entry.dn.clone();
    let mut fault = None;
    let mut attributes = Attributes::new();
    let mut key = None;
    for (name, values) in &entry.attrs {
        if secret(name) {
            continue;
        }
        let def = known.def(name);
        let kind = def.map_or(ValueKind::Text, |def| def.kind);
        if name.eq_ignore_ascii_case(known.key) {
            key = values.first().cloned();
        }
        // Written as the schema writes it, so that a rule's name fits whatever the server sends.
        let name = def.map_or(name.split(";range=").next().unwrap_or(name), |def| def.name.as_str());
        if known.controller && is_file_time(name) {
            // "Never" is no instant: the attribute is then not there.
            attributes.set(name, values.iter().filter_map(|text| syntax::file_time(text)).map(Value::Time).collect());
            continue;
        }
        attributes.set(name, values.iter().map(|text| value(kind, text)).collect());
    }
    // The library takes octets that happen to be text for text: a SID with small numbers may be.
    for (name, values) in entry.attrs.iter().filter(|(name, _)| name.eq_ignore_ascii_case("objectSid")) {
        attributes.set(name.as_str(), values.iter().filter_map(|text| syntax::object_sid(text.as_bytes())).map(Value::Text).collect());
    }
    for (name, values) in entry.attrs.iter().filter(|(name, _)| name.eq_ignore_ascii_case("objectGUID")) {
        key = values.first().and_then(|text| syntax::object_guid(text.as_bytes()));
        attributes.set(name.as_str(), key.iter().cloned().map(Value::Text).collect());
    }
    for (name, values) in &entry.bin_attrs {
        if secret(name) {
            continue;
        }
        let plain = name.split(';').next().unwrap_or(name);
        if plain.eq_ignore_ascii_case("objectGUID") {
            key = values.first().and_then(|bytes| syntax::object_guid(bytes));
            attributes.set("objectGUID", key.iter().cloned().map(Value::Text).collect());
            continue;
        }
        if plain.eq_ignore_ascii_case("objectSid") {
            attributes.set("objectSid", values.iter().filter_map(|bytes| syntax::object_sid(bytes)).map(Value::Text).collect());
            continue;
        }
        let octets = match known.def(name) {
            Some(def) => def.kind == ValueKind::Bytes,
            None => name.contains(";binary") || OCTETS.iter().any(|o| plain.eq_ignore_ascii_case(o)),
        };
        if octets {
            attributes.set(name, values.iter().cloned().map(Value::Bytes).collect());
        } else {
            let at = values.iter().find_map(|bytes| std::str::from_utf8(bytes).err()).map_or(0, |e| e.valid_up_to() + 1);
            fault.get_or_insert(format!("{name} is not UTF-8 (octet {at})"));
        }
    }
    if let Ok(parsed) = dn.parse::<Dn>() {
        attributes.set("container", parsed.parent().map(|parent| Value::text(parent.to_string())).into_iter().collect());
    } else {
        fault.get_or_insert(format!("the name {dn} cannot be read"));
    }
    attributes.set("dn", vec![Value::text(&dn)]);
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
    Observed { key: key.unwrap_or_else(|| dn.to_lowercase()), name: dn, attributes, fault }
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
