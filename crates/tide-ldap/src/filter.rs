//! Search filters (RFC 4515), built from parts so that no value can change a filter's meaning.

use std::fmt;

/// A filter whose values are data, not syntax.
///
/// ```
/// use tide_ldap::LdapFilter;
/// let hostile = LdapFilter::equal("uid", "*)(objectClass=*");
/// assert_eq!(hostile.to_string(), r"(uid=\2a\29\28objectClass=\2a)");
/// ```
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum LdapFilter {
    /// All must hold.
    All(Vec<LdapFilter>),
    /// One must hold.
    Any(Vec<LdapFilter>),
    /// It must not hold.
    Not(Box<LdapFilter>),
    /// The attribute has this value.
    Equal(String, Vec<u8>),
    /// The attribute has a value.
    Present(String),
    /// The attribute has a value with these parts in this order; the first and the last may be
    /// missing.
    Parts(String, Option<Vec<u8>>, Vec<Vec<u8>>, Option<Vec<u8>>),
    /// A value is at least this.
    AtLeast(String, Vec<u8>),
    /// A value is at most this.
    AtMost(String, Vec<u8>),
    /// A matching rule holds (RFC 4515 §3): attribute, rule, value.
    Extended(String, String, Vec<u8>),
}

/// A text that is no filter.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("not a filter (RFC 4515): {problem} at character {at}")]
pub struct LdapFilterError {
    /// Where reading stopped, from 1.
    pub at: usize,
    /// The fault.
    pub problem: &'static str,
}

/// The longest filter that is read, in octets, and the deepest nesting.
const MAX: (usize, usize) = (8192, 32);

/// All bits of a number are set (a domain controller's own matching rule).
pub const BITS_ALL: &str = "1.2.840.113556.1.4.803";
/// One bit of a number is set.
pub const BITS_ANY: &str = "1.2.840.113556.1.4.804";
/// A reference leads to the value over any number of steps (a domain controller's own matching
/// rule).
pub const IN_CHAIN: &str = "1.2.840.113556.1.4.1941";

impl std::str::FromStr for LdapFilter {
    type Err = LdapFilterError;

    fn from_str(text: &str) -> Result<Self, LdapFilterError> {
        let text = text.trim();
        if text.len() > MAX.0 {
            return Err(LdapFilterError {
                at: MAX.0,
                problem: "the filter is too long",
            });
        }
        let mut reader = LdapFilterParser {
            text: text.as_bytes(),
            at: 0,
        };
        let filter = reader.filter(0)?;
        if reader.at < text.len() {
            return Err(reader.fail("something is left over"));
        }
        Ok(filter)
    }
}

struct LdapFilterParser<'a> {
    text: &'a [u8],
    at: usize,
}

impl LdapFilterParser<'_> {
    fn fail(&self, problem: &'static str) -> LdapFilterError {
        LdapFilterError {
            at: self.at + 1,
            problem,
        }
    }

    fn take(&mut self, wanted: u8, problem: &'static str) -> Result<(), LdapFilterError> {
        if self.text.get(self.at) == Some(&wanted) {
            self.at += 1;
            Ok(())
        } else {
            Err(self.fail(problem))
        }
    }

    fn filter(&mut self, depth: usize) -> Result<LdapFilter, LdapFilterError> {
        if depth > MAX.1 {
            return Err(self.fail("the filter is nested too deeply"));
        }
        self.take(b'(', "a filter begins with (")?;
        let filter = match self.text.get(self.at) {
            Some(b'&') => LdapFilter::All(self.several(depth)?),
            Some(b'|') => LdapFilter::Any(self.several(depth)?),
            Some(b'!') => {
                self.at += 1;
                LdapFilter::Not(Box::new(self.filter(depth + 1)?))
            }
            _ => self.item()?,
        };
        self.take(b')', "a filter ends with )")?;
        Ok(filter)
    }

    fn several(&mut self, depth: usize) -> Result<Vec<LdapFilter>, LdapFilterError> {
        self.at += 1;
        let mut all = Vec::new();
        while self.text.get(self.at) == Some(&b'(') {
            all.push(self.filter(depth + 1)?);
        }
        if all.is_empty() {
            Err(self.fail("a filter in ( ) is missing"))
        } else {
            Ok(all)
        }
    }

    fn item(&mut self) -> Result<LdapFilter, LdapFilterError> {
        let start = self.at;
        while self
            .text
            .get(self.at)
            .is_some_and(|b| !matches!(b, b'=' | b'>' | b'<' | b'~' | b':' | b'(' | b')' | b'*'))
        {
            self.at += 1;
        }
        let name = String::from_utf8_lossy(&self.text[start..self.at])
            .trim()
            .to_owned();
        if !is_attribute_name(&name) {
            return Err(LdapFilterError {
                at: start + 1,
                problem: "an attribute's name is missing",
            });
        }
        let sign = self.text.get(self.at).copied();
        if sign == Some(b':') {
            self.at += 1;
            let from = self.at;
            while self
                .text
                .get(self.at)
                .is_some_and(|b| *b != b':' && *b != b')')
            {
                self.at += 1;
            }
            let rule = String::from_utf8_lossy(&self.text[from..self.at]).into_owned();
            self.take(b':', ":= is missing")?;
            self.take(b'=', ":= is missing")?;
            let value = self.value()?.concat();
            if ![BITS_ALL, BITS_ANY, IN_CHAIN].contains(&rule.as_str()) {
                return Err(LdapFilterError {
                    at: from + 1,
                    problem: "only the matching rules for bits and for nested groups are understood here",
                });
            }
            return Ok(LdapFilter::Extended(name, rule, value));
        }
        if matches!(sign, Some(b'>' | b'<' | b'~')) {
            self.at += 1;
        }
        self.take(b'=', "= is missing")?;
        let parts = self.value()?;
        Ok(match (sign, parts.as_slice()) {
            (Some(b'>'), [value]) => LdapFilter::AtLeast(name, value.clone()),
            (Some(b'<'), [value]) => LdapFilter::AtMost(name, value.clone()),
            (Some(b'>' | b'<' | b'~'), [_, _, ..]) => return Err(self.fail("* has no place here")),
            (_, [value]) => LdapFilter::Equal(name, value.clone()),
            (_, [first, last]) if first.is_empty() && last.is_empty() => LdapFilter::Present(name),
            (_, [first, between @ .., last]) => {
                let some = |part: &Vec<u8>| (!part.is_empty()).then(|| part.clone());
                let between = between
                    .iter()
                    .filter(|part| !part.is_empty())
                    .cloned()
                    .collect();
                LdapFilter::Parts(name, some(first), between, some(last))
            }
            (_, []) => return Err(self.fail("a value is missing")),
        })
    }

    /// A value, cut at its asterisks, with its escapes undone.
    fn value(&mut self) -> Result<Vec<Vec<u8>>, LdapFilterError> {
        let mut parts = vec![Vec::new()];
        while let Some(&byte) = self.text.get(self.at) {
            self.at += 1;
            match byte {
                b')' => {
                    self.at -= 1;
                    return Ok(parts);
                }
                b'(' => return Err(self.fail("( in a value is written \\28")),
                b'*' => parts.push(Vec::new()),
                b'\\' => {
                    let hex =
                        |at: usize| self.text.get(at).and_then(|b| char::from(*b).to_digit(16));
                    let (Some(high), Some(low)) = (hex(self.at), hex(self.at + 1)) else {
                        return Err(self.fail("\\ is followed by two hexadecimal digits"));
                    };
                    self.at += 2;
                    parts
                        .last_mut()
                        .into_iter()
                        .for_each(|part| part.push((high * 16 + low) as u8));
                }
                plain => parts
                    .last_mut()
                    .into_iter()
                    .for_each(|part| part.push(plain)),
            }
        }
        Err(self.fail("a filter ends with )"))
    }
}

fn folded(value: &[u8]) -> String {
    String::from_utf8_lossy(value).trim().to_lowercase()
}

impl LdapFilter {
    /// Whether it matches a record. `get` returns an attribute's values as texts, none for an
    /// absent attribute. Texts are compared case-insensitively, numbers as numbers.
    pub fn holds(&self, get: &dyn Fn(&str) -> Vec<String>) -> bool {
        let any = |name: &str, test: &dyn Fn(&str) -> bool| {
            get(name)
                .iter()
                .any(|value| test(&value.trim().to_lowercase()))
        };
        let order = |value: &str, other: &str| match (value.parse::<i64>(), other.parse::<i64>()) {
            (Ok(value), Ok(other)) => value.cmp(&other),
            _ => value.cmp(other),
        };
        match self {
            LdapFilter::All(parts) => parts.iter().all(|part| part.holds(get)),
            LdapFilter::Any(parts) => parts.iter().any(|part| part.holds(get)),
            LdapFilter::Not(part) => !part.holds(get),
            LdapFilter::Present(name) => !get(name).is_empty(),
            LdapFilter::Equal(name, wanted) => any(name, &|value| value == folded(wanted)),
            LdapFilter::AtLeast(name, wanted) => {
                any(name, &|value| order(value, &folded(wanted)).is_ge())
            }
            LdapFilter::AtMost(name, wanted) => {
                any(name, &|value| order(value, &folded(wanted)).is_le())
            }
            LdapFilter::Parts(name, first, between, last) => any(name, &|value| {
                let start = first.as_ref().map(|part| folded(part)).unwrap_or_default();
                let Some(mut rest) = value.strip_prefix(start.as_str()) else {
                    return false;
                };
                for part in between {
                    let part = folded(part);
                    let Some(at) = rest.find(&part) else {
                        return false;
                    };
                    rest = &rest[at + part.len()..];
                }
                last.as_ref()
                    .is_none_or(|part| rest.ends_with(&folded(part)))
            }),
            LdapFilter::Extended(name, rule, wanted) => {
                let Ok(bits) = folded(wanted).parse::<i64>() else {
                    return false;
                };
                any(name, &|value| {
                    value.parse::<i64>().is_ok_and(|number| {
                        if rule == BITS_ALL {
                            number & bits == bits
                        } else {
                            number & bits != 0
                        }
                    })
                })
            }
        }
    }

    /// The attributes that it reads.
    pub fn reads(&self) -> Vec<&str> {
        match self {
            LdapFilter::All(parts) | LdapFilter::Any(parts) => {
                parts.iter().flat_map(LdapFilter::reads).collect()
            }
            LdapFilter::Not(part) => part.reads(),
            LdapFilter::Equal(name, _)
            | LdapFilter::Present(name)
            | LdapFilter::Parts(name, ..)
            | LdapFilter::AtLeast(name, _)
            | LdapFilter::AtMost(name, _)
            | LdapFilter::Extended(name, ..) => vec![name],
        }
    }
}

impl LdapFilter {
    /// The attribute has this text as a value.
    pub fn equal(attribute: &str, value: &str) -> Self {
        LdapFilter::Equal(attribute.to_owned(), value.as_bytes().to_vec())
    }

    /// The attribute has a value.
    pub fn present(attribute: &str) -> Self {
        LdapFilter::Present(attribute.to_owned())
    }
}

/// A value with what RFC 4515 §3 wants escaped, and all that is not plain ASCII.
pub fn escape_value(value: &[u8]) -> String {
    let mut out = String::with_capacity(value.len() + 4);
    for &byte in value {
        match byte {
            b'*' | b'(' | b')' | b'\\' | 0..=0x1f | 0x7f..=0xff => {
                out.push_str(&format!("\\{byte:02x}"))
            }
            plain => out.push(char::from(plain)),
        }
    }
    out
}

/// An attribute description (RFC 4512 §2.5): a name or OID, perhaps with options.
pub fn is_attribute_name(name: &str) -> bool {
    !name.is_empty()
        && name.len() <= 128
        && name
            .chars()
            .all(|c| c.is_ascii_alphanumeric() || matches!(c, '-' | '.' | ';'))
}

impl fmt::Display for LdapFilter {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let several = |f: &mut fmt::Formatter<'_>, sign: char, parts: &[LdapFilter]| {
            write!(f, "({sign}")?;
            for part in parts {
                write!(f, "{part}")?;
            }
            f.write_str(")")
        };
        let name = |name: &str| {
            if is_attribute_name(name) {
                name.to_owned()
            } else {
                "undefined".into()
            }
        };
        match self {
            LdapFilter::All(parts) => several(f, '&', parts),
            LdapFilter::Any(parts) => several(f, '|', parts),
            LdapFilter::Not(part) => write!(f, "(!{part})"),
            LdapFilter::Equal(attribute, value) => {
                write!(f, "({}={})", name(attribute), escape_value(value))
            }
            LdapFilter::Present(attribute) => write!(f, "({}=*)", name(attribute)),
            LdapFilter::AtLeast(attribute, value) => {
                write!(f, "({}>={})", name(attribute), escape_value(value))
            }
            LdapFilter::AtMost(attribute, value) => {
                write!(f, "({}<={})", name(attribute), escape_value(value))
            }
            LdapFilter::Extended(attribute, rule, value) => {
                write!(f, "({}:{rule}:={})", name(attribute), escape_value(value))
            }
            LdapFilter::Parts(attribute, first, between, last) => {
                let of =
                    |part: &Option<Vec<u8>>| part.as_deref().map(escape_value).unwrap_or_default();
                write!(f, "({}={}*", name(attribute), of(first))?;
                for part in between {
                    write!(f, "{}*", escape_value(part))?;
                }
                write!(f, "{})", of(last))
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn parts_are_put_together() {
        let filter = LdapFilter::All(vec![
            LdapFilter::equal("objectClass", "person"),
            LdapFilter::Not(Box::new(LdapFilter::present("mail"))),
        ]);
        assert_eq!(filter.to_string(), "(&(objectClass=person)(!(mail=*)))");
    }

    #[test]
    fn filters_are_read_written_and_tried() {
        let get = |name: &str| -> Vec<String> {
            match name.to_lowercase().as_str() {
                "cn" => vec!["Ada D'Amberg (Mate)".into()],
                "title" => vec!["Deck Officer".into()],
                "employeenumber" => vec!["1042".into()],
                "useraccountcontrol" => vec!["514".into()],
                _ => vec![],
            }
        };
        for (text, wanted) in [
            ("(title=deck officer)", true),
            ("(title=deck*)", true),
            ("(title=*ck*off*er)", true),
            ("(title=*officer*deck)", false),
            ("(&(title=*)(!(mail=*)))", true),
            ("(|(mail=*)(employeeNumber>=1000))", true),
            ("(employeeNumber<=999)", false),
            ("(userAccountControl:1.2.840.113556.1.4.803:=2)", true),
            ("(userAccountControl:1.2.840.113556.1.4.804:=16)", false),
            (r"(cn=*\28mate\29)", true),
        ] {
            let filter: LdapFilter = text
                .parse()
                .unwrap_or_else(|error| panic!("{text}: {error}"));
            assert_eq!(filter.holds(&get), wanted, "{text}");
            assert_eq!(
                filter.to_string().parse::<LdapFilter>().as_ref(),
                Ok(&filter),
                "{text} reads back"
            );
        }
        let deep = format!("{}(cn=*){}", "(!".repeat(60), ")".repeat(60));
        for bad in [
            "",
            "cn=*",
            "(cn=a",
            "(&)",
            "(=x)",
            "(cn=a)(b=c)",
            r"(cn=\zz)",
            "(cn:caseExactMatch:=x)",
            "(cn>=a*b)",
            &deep,
            "(cn=(x))",
        ] {
            assert!(bad.parse::<LdapFilter>().is_err(), "{bad}");
        }
    }

    #[test]
    fn a_hostile_attribute_name_cannot_break_out() {
        assert_eq!(LdapFilter::present("uid)(cn").to_string(), "(undefined=*)");
    }

    #[test]
    fn what_is_not_ascii_is_escaped_octet_by_octet() {
        assert_eq!(LdapFilter::equal("cn", "é").to_string(), r"(cn=\c3\a9)");
    }
}
