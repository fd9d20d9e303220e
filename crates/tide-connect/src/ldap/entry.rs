//! From an entry to an account.

use super::schema::{DirectoryCapabilities, NEVER, State, is_file_time};
use super::write::LOCKED_FOR_GOOD;
use crate::ConnectError;
use hmac::{Hmac, KeyInit, Mac};
use ldap3::{ResultEntry, SearchEntry};
use rustc_hash::FxHashMap;
use sha2::Sha256;
use std::borrow::Cow;
use tide_core::decide::PASSWORD_MARK;
use tide_core::model::Observed;
use tide_core::schema::ValueKind;
use tide_core::{AttributeDef, Attributes, Value};
use tide_ldap::{Dn, syntax};

/// Attributes that hold octets, for a server that publishes no schema.
const OCTETS: [&str; 8] = [
    "jpegPhoto",
    "userCertificate",
    "objectGUID",
    "objectSid",
    "audio",
    "photo",
    "thumbnailPhoto",
    "cACertificate",
];

/// A keyed fingerprint of a password hash: it changes with the hash and reveals nothing without
/// the key.
fn password_mark<'a>(key: &[u8], values: impl Iterator<Item = &'a [u8]>) -> String {
    let mut all: Vec<&[u8]> = values.collect();
    all.sort_unstable();
    let Ok(mut mac) = Hmac::<Sha256>::new_from_slice(key) else {
        return String::new();
    };
    for value in all {
        mac.update(value);
        mac.update(&[0]);
    }
    hex::encode(&mac.finalize().into_bytes()[..12])
}

/// Attributes that change at every sign-in. They are stored with the precision of a day, so that
/// a sign-in is not a change each time.
const LOG_INS: [&str; 4] = [
    "pwdLastSuccess",
    "authTimestamp",
    "lastLogon",
    "lastLogonTimestamp",
];

fn day_of(value: Value) -> Value {
    match value {
        Value::Time(at) => {
            let day = at.as_second().div_euclid(86_400) * 86_400;
            jiff::Timestamp::from_second(day).map_or(Value::Time(at), Value::Time)
        }
        other => other,
    }
}

/// Parses an entry. The library panics on one that it cannot parse; without its name the entry
/// cannot be assigned, so that the read is not complete.
pub(super) fn open(entry: ResultEntry) -> Result<SearchEntry, ConnectError> {
    std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| {
        SearchEntry::construct(entry)
    }))
    .map_err(|_| {
        ConnectError::transient(
            "entry_broken",
            "the server sent an entry that cannot be read",
            "report it to the administrator of the server",
        )
    })
}

/// A name without its options (RFC 4512 §2.5), and those.
pub(super) fn plain_of(name: &str) -> (&str, Option<&str>) {
    match name.bytes().position(|byte| byte == b';') {
        None => (name, None),
        Some(at) => (&name[..at], Some(&name[at + 1..])),
    }
}

/// An attribute of which the server returned only a range: its plain name, and the position after
/// the last value. `None` for a whole attribute and for the last range.
pub(super) fn rest_of(name: &str) -> Option<(&str, usize)> {
    let (plain, Some(options)) = plain_of(name) else {
        return None;
    };
    let range = options.split(';').find_map(|option| {
        option
            .get(..6)
            .filter(|p| p.eq_ignore_ascii_case("range="))
            .map(|_| &option[6..])
    })?;
    let (_, end) = range.split_once('-')?;
    Some((plain, end.parse::<usize>().ok()? + 1))
}

/// Converts an entry of the LDAP library to an account.
pub(super) fn account_of_entry(entry: &SearchEntry, known: &DirectoryCapabilities) -> Observed {
    let texts = entry.attrs.iter().map(|(name, values)| {
        (
            name.as_str(),
            values.iter().map(String::as_bytes).collect::<Vec<_>>(),
        )
    });
    let octets = entry
        .bin_attrs
        .iter()
        .map(|(name, values)| (name.as_str(), values.iter().map(Vec::as_slice).collect()));
    build_account(
        &entry.dn,
        texts.chain(octets),
        known,
        &mut Containers::default(),
    )
}

/// An attribute's name as the schema spells it, so that the names of rules fit whatever the
/// server sends. Options stay.
fn schema_spelling<'a>(
    plain: &'a str,
    options: Option<&str>,
    def: Option<&'a AttributeDef>,
) -> Cow<'a, str> {
    let name = def.map_or(plain, |def| def.name.as_str());
    let Some(options) = options else {
        return name.into();
    };
    let mut written = name.to_owned();
    for option in options.split(';').filter(|option| {
        !option
            .get(..6)
            .is_some_and(|start| start.eq_ignore_ascii_case("range="))
    }) {
        written.push(';');
        written.push_str(option);
    }
    written.into()
}

/// The containers of the entries of one page: most entries of a page lie in a few.
#[derive(Default)]
pub(super) struct Containers(FxHashMap<String, String>);

impl Containers {
    /// The container in which an entry lies, in its canonical spelling; none for the topmost entry.
    fn of(&mut self, dn: &str) -> Result<Option<String>, ()> {
        let Some((first, above)) = tide_ldap::dn::split(dn) else {
            return dn
                .parse::<Dn>()
                .map(|dn| dn.parent().map(|parent| parent.to_string()))
                .map_err(drop);
        };
        first.parse::<Dn>().map_err(drop)?;
        if let Some(known) = self.0.get(above) {
            return Ok(Some(known.clone()));
        }
        let text = above.parse::<Dn>().map_err(drop)?.to_string();
        self.0.insert(above.to_owned(), text.clone());
        Ok(Some(text))
    }
}

/// Converts an entry's name and attributes to an account.
pub(super) fn build_account<'a, V>(
    dn: &str,
    entry: impl Iterator<Item = (&'a str, V)>,
    known: &DirectoryCapabilities,
    containers: &mut Containers,
) -> Observed
where
    V: IntoIterator<Item = &'a [u8]>,
{
    let mut fault = None;
    let mut attributes = Attributes::with_capacity(32);
    let (mut key, mut version) = (None, None);
    for (name, values) in entry {
        let (plain, options) = plain_of(name);
        if is_secret(plain) {
            put_password_mark(known, &mut attributes, values, plain);
            continue;
        }
        let mut values = values.into_iter();
        if plain.eq_ignore_ascii_case("entryCSN") {
            version = values.next().and_then(state_of);
            continue;
        }
        if plain.eq_ignore_ascii_case("objectGUID") {
            key = values.next().and_then(syntax::object_guid);
            attributes.put("objectGUID", key.clone().map(Value::Text));
            continue;
        }
        if plain.eq_ignore_ascii_case("objectSid") {
            attributes.put(
                "objectSid",
                values.filter_map(syntax::object_sid).map(Value::Text),
            );
            continue;
        }
        let def = known.def(plain);
        if is_binary(plain, options, def) {
            attributes.put(name, values.map(|octets| Value::Bytes(octets.to_vec())));
            continue;
        }
        let kind = def.map_or(ValueKind::Text, |def| def.kind);
        // "Never" is no instant: the attribute is then not there.
        let time = known.controller && is_file_time(plain);
        let mut bad = None;
        let read = values.map_while(|octets| match std::str::from_utf8(octets) {
            Ok(text) if time => Some(syntax::file_time(text).map(Value::Time)),
            Ok(text) => Some(Some(parse_value(kind, text))),
            Err(error) => {
                bad = Some(error.valid_up_to() + 1);
                None
            }
        });
        let written = schema_spelling(plain, options, def);
        let by_day = is_log_in(plain);
        attributes.put(
            written.as_ref(),
            read.flatten()
                .map(|value| if by_day { day_of(value) } else { value }),
        );
        if let Some(at) = bad {
            fault.get_or_insert(format!("{name} is not UTF-8 (octet {at})"));
            attributes.put(written.as_ref(), None);
        } else if plain.eq_ignore_ascii_case(known.key) {
            key = attributes.get(&written).first().map(Value::to_string);
        }
    }
    add_derived(dn, known, containers, &mut fault, &mut attributes);
    if key.is_none() {
        let key = known.key;
        fault.get_or_insert(format!(
            "it has no {key}, so a rename could not be detected"
        ));
    }
    Observed {
        key: key.unwrap_or_else(|| dn.to_lowercase()),
        name: dn.to_owned(),
        attributes,
        fault,
        version,
        is_exact: false,
    }
}

/// Whether an attribute holds the time of the last sign-in.
fn is_log_in(attribute: &str) -> bool {
    LOG_INS
        .iter()
        .any(|known| attribute.eq_ignore_ascii_case(known))
}

/// Adds the fingerprint by which a changed password hash is detected.
fn put_password_mark<'a, V>(
    known: &DirectoryCapabilities,
    attributes: &mut Attributes,
    values: V,
    plain: &str,
) where
    V: IntoIterator<Item = &'a [u8]>,
{
    if let (Some(key), true) = (&known.mark_key, plain.eq_ignore_ascii_case("userPassword")) {
        attributes.put(
            PASSWORD_MARK,
            Some(Value::text(password_mark(key, values.into_iter()))),
        );
    }
}

/// Whether an attribute holds octets rather than text.
fn is_binary(plain: &str, options: Option<&str>, def: Option<&AttributeDef>) -> bool {
    def.map_or_else(
        || {
            options.is_some_and(|o| o.contains("binary"))
                || OCTETS.iter().any(|o| plain.eq_ignore_ascii_case(o))
        },
        |def| def.kind == ValueKind::Bytes,
    )
}

/// Adds the attributes that are derived from others: container, name, flags and state.
fn add_derived(
    dn: &str,
    known: &DirectoryCapabilities,
    containers: &mut Containers,
    fault: &mut Option<String>,
    attributes: &mut Attributes,
) {
    match containers.of(dn) {
        Ok(container) => attributes.put("container", container.map(Value::text)),
        Err(()) => {
            fault.get_or_insert(format!("the name {dn} cannot be read"));
        }
    }
    attributes.put("dn", Some(Value::text(dn)));
    if let (true, Some(Value::Int(flags))) = (
        known.controller,
        attributes.get("userAccountControl").first(),
    ) {
        let words = syntax::account_flags(*flags)
            .into_iter()
            .map(Value::text)
            .collect();
        attributes.set("accountFlags", words);
    }
    if let Some(enabled) = is_enabled(&*attributes, known.state) {
        attributes.set("enabled", vec![Value::Bool(enabled)]);
    }
}

/// The change sequence number of an entry's last change: time, count within that time, and
/// server. Only numbers of equal length sort by time.
fn state_of(octets: &[u8]) -> Option<String> {
    std::str::from_utf8(octets)
        .ok()
        .filter(|text| text.len() == "20261128093128.341000Z#000000#000#000000".len())
        .map(str::to_owned)
}

fn is_secret(plain: &str) -> bool {
    NEVER.iter().any(|never| never.eq_ignore_ascii_case(plain))
}

fn parse_value(kind: ValueKind, text: &str) -> Value {
    match kind {
        ValueKind::Bool => match text {
            "TRUE" => Value::Bool(true),
            "FALSE" => Value::Bool(false),
            other => Value::text(other),
        },
        ValueKind::Int => text.parse().map_or_else(|_| Value::text(text), Value::Int),
        ValueKind::Time => {
            syntax::generalized_time(text).map_or_else(|| Value::text(text), Value::Time)
        }
        ValueKind::Reference => Value::Reference(text.to_owned()),
        ValueKind::Bytes => Value::Bytes(text.as_bytes().to_vec()),
        ValueKind::Text | ValueKind::Complex => Value::text(text),
    }
}

fn is_locked_for_good(value: &Value) -> bool {
    let lock = syntax::generalized_time(LOCKED_FOR_GOOD);
    match value {
        Value::Time(at) => Some(*at) == lock,
        other => syntax::generalized_time(&other.to_string()) == lock,
    }
}

fn is_enabled(attributes: &Attributes, state: State) -> Option<bool> {
    match state {
        State::ControlFlags => match attributes.get("userAccountControl").first() {
            Some(Value::Int(flags)) => Some(flags & 2 == 0),
            Some(other) => other
                .to_string()
                .parse::<i64>()
                .ok()
                .map(|flags| flags & 2 == 0),
            None => None,
        },
        State::Lock => Some(
            !attributes
                .get("nsAccountLock")
                .iter()
                .any(|v| v.to_string().eq_ignore_ascii_case("true")),
        ),
        // A lock after too many wrong passwords ends automatically: the account is not disabled.
        State::LockedTime => Some(
            !attributes
                .get("pwdAccountLockedTime")
                .iter()
                .any(is_locked_for_good),
        ),
        State::None => None,
    }
}
