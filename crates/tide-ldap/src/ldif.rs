//! LDIF (RFC 2849): entries as text, for setting a directory up.

use base64::Engine;
use std::fmt::Write;

/// One entry.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LdifEntry {
    /// Its distinguished name.
    pub dn: String,
    /// Attributes with their values, in order.
    pub attributes: Vec<(String, Vec<Vec<u8>>)>,
}

impl LdifEntry {
    /// An entry without attributes.
    pub fn new(dn: impl Into<String>) -> Self {
        LdifEntry {
            dn: dn.into(),
            attributes: Vec::new(),
        }
    }

    /// The entry with one more attribute; blank values are left out.
    pub fn with(mut self, name: &str, values: &[&str]) -> Self {
        let values: Vec<Vec<u8>> = values
            .iter()
            .filter(|v| !v.is_empty())
            .map(|v| v.as_bytes().to_vec())
            .collect();
        if !values.is_empty() {
            self.attributes.push((name.to_owned(), values));
        }
        self
    }

    /// The values of an attribute as text.
    pub fn texts(&self, name: &str) -> Vec<String> {
        self.attributes
            .iter()
            .filter(|(other, _)| other.eq_ignore_ascii_case(name))
            .flat_map(|(_, values)| {
                values
                    .iter()
                    .map(|v| String::from_utf8_lossy(v).into_owned())
            })
            .collect()
    }
}

/// Entries as LDIF text.
pub fn write(entries: &[LdifEntry]) -> String {
    let mut out = String::new();
    for entry in entries {
        line(&mut out, "dn", entry.dn.as_bytes());
        for (name, values) in &entry.attributes {
            for value in values {
                line(&mut out, name, value);
            }
        }
        out.push('\n');
    }
    out
}

fn line(out: &mut String, name: &str, value: &[u8]) {
    // RFC 2849: SAFE-STRING or base64.
    let plain = value.iter().all(|&b| (0x20..0x7f).contains(&b))
        && !matches!(value.first(), Some(b' ' | b':' | b'<'))
        && value.last() != Some(&b' ');
    // Writing to a String cannot fail.
    let _ = if plain {
        writeln!(out, "{name}: {}", String::from_utf8_lossy(value))
    } else {
        writeln!(
            out,
            "{name}:: {}",
            base64::engine::general_purpose::STANDARD.encode(value)
        )
    };
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_not_plain_is_base64() {
        let entry = LdifEntry::new("cn=x")
            .with("cn", &["x"])
            .with("sn", &["Łoś", " lead"])
            .with("mail", &[""]);
        let text = write(&[entry]);
        assert!(text.contains("cn: x\n"));
        assert!(text.contains("sn:: xYFvxZs=\n"));
        assert!(text.contains("sn:: IGxlYWQ=\n"));
        assert!(!text.contains("mail"));
    }
}
