//! Search filters (RFC 4515), built from parts so that no value can change a filter's meaning.

use std::fmt;

/// A filter whose values are data, not syntax.
///
/// ```
/// use tide_ldap::Filter;
/// let hostile = Filter::equal("uid", "*)(objectClass=*");
/// assert_eq!(hostile.to_string(), r"(uid=\2a\29\28objectClass=\2a)");
/// ```
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Filter {
    /// All must hold.
    All(Vec<Filter>),
    /// One must hold.
    Any(Vec<Filter>),
    /// It must not hold.
    Not(Box<Filter>),
    /// The attribute has this value.
    Equal(String, Vec<u8>),
    /// The attribute has a value.
    Present(String),
}

impl Filter {
    /// The attribute has this text as a value.
    pub fn equal(attribute: &str, value: &str) -> Self {
        Filter::Equal(attribute.to_owned(), value.as_bytes().to_vec())
    }

    /// The attribute has a value.
    pub fn present(attribute: &str) -> Self {
        Filter::Present(attribute.to_owned())
    }
}

/// A value with what RFC 4515 §3 wants escaped, and all that is not plain ASCII.
pub fn escape_value(value: &[u8]) -> String {
    let mut out = String::with_capacity(value.len() + 4);
    for &byte in value {
        match byte {
            b'*' | b'(' | b')' | b'\\' | 0..=0x1f | 0x7f..=0xff => out.push_str(&format!("\\{byte:02x}")),
            plain => out.push(char::from(plain)),
        }
    }
    out
}

/// An attribute description (RFC 4512 §2.5): a name or OID, perhaps with options.
pub fn is_attribute_name(name: &str) -> bool {
    !name.is_empty() && name.len() <= 128 && name.chars().all(|c| c.is_ascii_alphanumeric() || matches!(c, '-' | '.' | ';'))
}

impl fmt::Display for Filter {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let several = |f: &mut fmt::Formatter<'_>, sign: char, parts: &[Filter]| {
            write!(f, "({sign}")?;
            for part in parts {
                write!(f, "{part}")?;
            }
            f.write_str(")")
        };
        let name = |name: &str| if is_attribute_name(name) { name.to_owned() } else { "undefined".into() };
        match self {
            Filter::All(parts) => several(f, '&', parts),
            Filter::Any(parts) => several(f, '|', parts),
            Filter::Not(part) => write!(f, "(!{part})"),
            Filter::Equal(attribute, value) => write!(f, "({}={})", name(attribute), escape_value(value)),
            Filter::Present(attribute) => write!(f, "({}=*)", name(attribute)),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn parts_are_put_together() {
        let filter = Filter::All(vec![Filter::equal("objectClass", "person"), Filter::Not(Box::new(Filter::present("mail")))]);
        assert_eq!(filter.to_string(), "(&(objectClass=person)(!(mail=*)))");
    }

    #[test]
    fn a_hostile_attribute_name_cannot_break_out() {
        assert_eq!(Filter::present("uid)(cn").to_string(), "(undefined=*)");
    }

    #[test]
    fn what_is_not_ascii_is_escaped_octet_by_octet() {
        assert_eq!(Filter::equal("cn", "é").to_string(), r"(cn=\c3\a9)");
    }
}
