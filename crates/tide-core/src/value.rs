//! Values and attribute sets, and their one canonical encoding.

use compact_str::CompactString;
use jiff::Timestamp;
use serde::{Deserialize, Deserializer, Serialize, Serializer};
use smallvec::SmallVec;

use std::collections::BTreeMap;
use std::fmt;
use std::sync::atomic::AtomicU32;
use std::sync::atomic::Ordering::Relaxed;

/// One value of an attribute.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Value {
    /// Text, always valid UTF-8.
    Text(String),
    /// True or false.
    Bool(bool),
    /// A whole number.
    Int(i64),
    /// An instant, in UTC.
    Time(Timestamp),
    /// Octets that are not text: a photo, a certificate.
    Bytes(Vec<u8>),
    /// A pointer to another object, as the system writes it (a DN, an id).
    Reference(String),
    /// A structured value with named parts, in canonical order.
    Complex(BTreeMap<String, Vec<Value>>),
}

impl Value {
    /// Text from anything that reads as text.
    pub fn text(text: impl Into<String>) -> Self {
        Value::Text(text.into())
    }

    /// True for text that holds nothing but white space.
    pub fn is_blank(&self) -> bool {
        matches!(self, Value::Text(text) | Value::Reference(text) if text.trim().is_empty())
    }

    /// The text of a text or reference value.
    pub fn as_text(&self) -> Option<&str> {
        match self {
            Value::Text(text) | Value::Reference(text) => Some(text),
            _ => None,
        }
    }

    fn encode(&self, out: &mut Vec<u8>) {
        match self {
            Value::Text(text) => put(out, b't', text.as_bytes()),
            Value::Bool(truth) => put(out, b'b', &[u8::from(*truth)]),
            Value::Int(number) => put(out, b'i', &number.to_be_bytes()),
            Value::Time(time) => put(out, b'z', &time.as_nanosecond().to_be_bytes()),
            Value::Bytes(bytes) => put(out, b'o', bytes),
            Value::Reference(raw) => put(out, b'r', raw.as_bytes()),
            Value::Complex(parts) => {
                let mut inner = Vec::new();
                encode_map(
                    parts
                        .iter()
                        .map(|(name, values)| (name.as_str(), values.as_slice())),
                    &mut inner,
                );
                put(out, b'c', &inner);
            }
        }
    }
}

impl fmt::Display for Value {
    /// As an engineer would write it: text bare, octets as a count.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Value::Text(text) | Value::Reference(text) => f.write_str(text),
            Value::Bool(truth) => write!(f, "{truth}"),
            Value::Int(number) => write!(f, "{number}"),
            Value::Time(time) => write!(f, "{time}"),
            Value::Bytes(bytes) => write!(f, "({} octets)", bytes.len()),
            Value::Complex(parts) => {
                let mut first = true;
                for (name, values) in parts {
                    if !first {
                        f.write_str(", ")?;
                    }
                    first = false;
                    write!(f, "{name}: {}", format_values(values))?;
                }
                Ok(())
            }
        }
    }
}

/// Several values as one line of text; an em dash without values.
pub fn format_values(values: &[Value]) -> String {
    if values.is_empty() {
        return "—".into();
    }
    let texts: Vec<String> = values.iter().map(Value::to_string).collect();
    texts.join(" · ")
}

fn put(out: &mut Vec<u8>, tag: u8, body: &[u8]) {
    out.push(tag);
    out.extend_from_slice(&(body.len() as u32).to_be_bytes());
    out.extend_from_slice(body);
}

fn encode_map<'a>(map: impl Iterator<Item = (&'a str, &'a [Value])>, out: &mut Vec<u8>) {
    for (name, values) in map {
        put(out, b'n', name.as_bytes());
        for value in values {
            value.encode(out);
        }
    }
}

/// The attributes of one account or identity: names with their values, in canonical order.
///
/// An attribute with no value is not there: setting it to nothing removes it. Values are a set, as
/// in LDAP (RFC 4512 §2.2): they are kept sorted and without duplicates, so that equal records are
/// equal byte by byte whatever order a server answers in.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Attributes(Vec<(CompactString, Values)>);

/// Nearly every attribute has one value, which is stored inline. With names inline too, an
/// account of twenty attributes consists of twenty texts and one list.
type Values = SmallVec<[Value; 1]>;

/// An attribute's name with the position at which it was last found. The records of one system
/// have the same layout, so that it is nearly always found there again without a search.
#[derive(Debug, Default)]
pub struct Near {
    name: String,
    place: AtomicU32,
}

impl Near {
    /// A name that was not looked up yet.
    pub fn new(name: impl Into<String>) -> Self {
        Near {
            name: name.into(),
            place: AtomicU32::new(0),
        }
    }
}

impl Clone for Near {
    fn clone(&self) -> Self {
        Near {
            name: self.name.clone(),
            place: AtomicU32::new(self.place.load(Relaxed)),
        }
    }
}

impl fmt::Display for Near {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.name)
    }
}

impl std::ops::Deref for Near {
    type Target = str;

    fn deref(&self) -> &str {
        &self.name
    }
}

impl Serialize for Attributes {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_map(self.iter())
    }
}

impl<'de> Deserialize<'de> for Attributes {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        Ok(BTreeMap::<String, Vec<Value>>::deserialize(deserializer)?
            .into_iter()
            .collect())
    }
}

/// The first byte of every encoded record, which identifies the format.
const BLOB_VERSION: u8 = 1;

/// A stored record that cannot be read back.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum BlobError {
    /// Written by a newer version of the service.
    #[error(
        "the record has format {0}, and this version reads format {BLOB_VERSION}: upgrade the service"
    )]
    Version(u8),
    /// Not what was written.
    #[error(
        "the record is damaged at byte {0}: restore it from a backup, or read the system again"
    )]
    Damaged(usize),
}

impl Attributes {
    /// No attributes.
    pub fn new() -> Self {
        Self::default()
    }

    /// No attributes, with room for some.
    pub fn with_capacity(count: usize) -> Self {
        Attributes(Vec::with_capacity(count))
    }

    /// Sets the values of an attribute; none removes it.
    pub fn set(&mut self, name: impl Into<CompactString>, values: Vec<Value>) {
        self.put(name, values);
    }

    /// The same from values that come one by one.
    pub fn put(&mut self, name: impl Into<CompactString>, values: impl IntoIterator<Item = Value>) {
        let name = name.into();
        let mut values: Values = values.into_iter().collect();
        if values.len() > 1 {
            values.sort();
            values.dedup();
        }
        match (
            self.0.binary_search_by(|(other, _)| other.cmp(&name)),
            values.is_empty(),
        ) {
            (Ok(at), true) => drop(self.0.remove(at)),
            (Ok(at), false) => self.0[at].1 = values,
            (Err(_), true) => {}
            (Err(at), false) => self.0.insert(at, (name, values)),
        }
    }

    /// The values of an attribute, or an empty slice. Names are compared without regard to ASCII
    /// case, as both LDAP (RFC 4512 §2.5) and SCIM (RFC 7643 §2.1) ask.
    pub fn get(&self, name: &str) -> &[Value] {
        if let Ok(at) = self
            .0
            .binary_search_by(|(other, _)| other.as_str().cmp(name))
        {
            return &self.0[at].1;
        }
        self.0
            .iter()
            .find(|(other, _)| other.eq_ignore_ascii_case(name))
            .map_or(&[], |(_, values)| values)
    }

    /// Like `get`, but checks first the position where the name was last found.
    pub fn get_near(&self, name: &Near) -> &[Value] {
        if let Some((other, values)) = self.0.get(name.place.load(Relaxed) as usize)
            && other.as_str() == name.name
        {
            return values;
        }
        match self
            .0
            .binary_search_by(|(other, _)| other.as_str().cmp(name))
        {
            Ok(at) => {
                name.place
                    .store(u32::try_from(at).unwrap_or_default(), Relaxed);
                &self.0[at].1
            }
            Err(_) => self.get(name),
        }
    }

    /// Frees unused capacity.
    pub fn shrink(&mut self) {
        self.0.shrink_to_fit();
    }

    /// Names and values, in canonical order.
    pub fn iter(&self) -> impl Iterator<Item = (&str, &[Value])> {
        self.0
            .iter()
            .map(|(name, values)| (name.as_str(), values.as_slice()))
    }

    /// How many attributes have a value.
    pub fn len(&self) -> usize {
        self.0.len()
    }

    /// True when no attribute has a value.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// The canonical bytes: equal records give equal bytes, so one hash answers "did it change?".
    pub fn to_blob(&self) -> Vec<u8> {
        let mut out = Vec::with_capacity(1024);
        out.push(BLOB_VERSION);
        encode_map(self.iter(), &mut out);
        out
    }

    /// Reads what [`Attributes::to_blob`] wrote.
    pub fn from_blob(blob: &[u8]) -> Result<Self, BlobError> {
        match blob.first() {
            Some(&BLOB_VERSION) => {}
            Some(&other) => return Err(BlobError::Version(other)),
            None => return Err(BlobError::Damaged(0)),
        }
        let mut reader = BlobReader { bytes: blob, at: 1 };
        let mut pairs: Vec<(CompactString, Values)> = Vec::with_capacity(24);
        reader.pairs(blob.len(), 0, &mut pairs)?;
        // Written in order; a damaged record may not be.
        if !pairs.is_sorted_by(|(one, _), (other, _)| one < other) {
            return Err(BlobError::Damaged(1));
        }
        Ok(Attributes(pairs))
    }

    /// The hash of the canonical bytes (xxh3, 128 bits). Not a secret keeper: it compares, no more.
    pub fn hash(&self) -> u128 {
        Self::hash_of(&self.to_blob())
    }

    /// The same, for who has the bytes already.
    pub fn hash_of(blob: &[u8]) -> u128 {
        xxhash_rust::xxh3::xxh3_128(blob)
    }
}

impl FromIterator<(String, Vec<Value>)> for Attributes {
    fn from_iter<I: IntoIterator<Item = (String, Vec<Value>)>>(pairs: I) -> Self {
        let mut attributes = Attributes::new();
        for (name, values) in pairs {
            attributes.set(name, values);
        }
        attributes
    }
}

struct BlobReader<'a> {
    bytes: &'a [u8],
    at: usize,
}

impl<'a> BlobReader<'a> {
    fn item(&mut self) -> Result<(u8, &'a [u8]), BlobError> {
        let damaged = BlobError::Damaged(self.at);
        let tag = *self.bytes.get(self.at).ok_or(damaged.clone())?;
        let size: [u8; 4] = self
            .bytes
            .get(self.at + 1..self.at + 5)
            .and_then(|slice| slice.try_into().ok())
            .ok_or(damaged.clone())?;
        let end = self.at + 5 + u32::from_be_bytes(size) as usize;
        let body = self.bytes.get(self.at + 5..end).ok_or(damaged)?;
        self.at = end;
        Ok((tag, body))
    }

    fn pairs<N, V>(
        &mut self,
        end: usize,
        depth: usize,
        pairs: &mut Vec<(N, V)>,
    ) -> Result<(), BlobError>
    where
        N: for<'t> From<&'t str>,
        V: Default + Extend<Value>,
    {
        while self.at < end {
            let start = self.at;
            let damaged = || BlobError::Damaged(start);
            let (tag, body) = self.item()?;
            let text = || std::str::from_utf8(body).map_err(|_| damaged());
            let value = match tag {
                b'n' => {
                    pairs.push((text()?.into(), V::default()));
                    continue;
                }
                b't' => Value::Text(text()?.to_owned()),
                b'r' => Value::Reference(text()?.to_owned()),
                b'b' => Value::Bool(body == [1]),
                b'i' => Value::Int(i64::from_be_bytes(body.try_into().map_err(|_| damaged())?)),
                b'z' => {
                    let nanos = i128::from_be_bytes(body.try_into().map_err(|_| damaged())?);
                    Value::Time(Timestamp::from_nanosecond(nanos).map_err(|_| damaged())?)
                }
                b'o' => Value::Bytes(body.to_vec()),
                b'c' if depth < 8 => {
                    let mut inner = BlobReader { bytes: body, at: 0 };
                    let mut parts: Vec<(String, Vec<Value>)> = Vec::new();
                    inner.pairs(body.len(), depth + 1, &mut parts)?;
                    Value::Complex(parts.into_iter().collect())
                }
                _ => return Err(damaged()),
            };
            pairs.last_mut().ok_or_else(damaged)?.1.extend(Some(value));
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn any_value() -> impl Strategy<Value = Value> {
        let leaf = prop_oneof![
            ".{0,12}".prop_map(Value::Text),
            any::<bool>().prop_map(Value::Bool),
            any::<i64>().prop_map(Value::Int),
            proptest::collection::vec(any::<u8>(), 0..20).prop_map(Value::Bytes),
            ".{0,12}".prop_map(Value::Reference),
            (0i64..4_000_000_000)
                .prop_map(|s| Value::Time(Timestamp::from_second(s).expect("in range"))),
        ];
        leaf.prop_recursive(2, 8, 3, |inner| {
            proptest::collection::btree_map(
                "[a-z]{1,6}",
                proptest::collection::vec(inner, 1..3),
                0..3,
            )
            .prop_map(Value::Complex)
        })
    }

    proptest! {
        #[test]
        fn a_record_survives_its_encoding(pairs in proptest::collection::vec(
            ("[a-zA-Z.]{1,8}", proptest::collection::vec(any_value(), 0..4)), 0..6)) {
            let record: Attributes = pairs.into_iter().collect();
            let back = Attributes::from_blob(&record.to_blob()).expect("own bytes read back");
            prop_assert_eq!(back.hash(), record.hash());
            prop_assert_eq!(back, record);
        }

        #[test]
        fn damaged_bytes_are_an_error_and_never_a_panic(bytes in proptest::collection::vec(any::<u8>(), 0..80)) {
            let _ = Attributes::from_blob(&bytes);
        }
    }

    #[test]
    fn the_order_of_values_does_not_matter() {
        let mut one = Attributes::new();
        one.set(
            "mail",
            vec![Value::text("b"), Value::text("a"), Value::text("a")],
        );
        let mut two = Attributes::new();
        two.set("mail", vec![Value::text("a"), Value::text("b")]);
        assert_eq!(one.hash(), two.hash());
        assert_eq!(one.get("MAIL").len(), 2);
    }

    #[test]
    fn a_newer_format_is_named() {
        assert_eq!(Attributes::from_blob(&[9]), Err(BlobError::Version(9)));
    }
}
