//! Distinguished names (RFC 4514).

use std::fmt;

/// A distinguished name, its nearest part first.
///
/// Two names are equal when they name the same entry under the usual rules: attribute types and
/// values without regard to case, inner blanks as one.
///
/// ```
/// use tide_ldap::Dn;
/// let person: Dn = r"CN=D\'Amberg\, Eiko, ou=Deck,dc=skerry,dc=example".parse()?;
/// let deck: Dn = "OU=deck, DC=skerry, DC=example".parse()?;
/// assert!(person.is_under(&deck));
/// assert_eq!(person.parent(), Some(deck));
/// # Ok::<(), tide_ldap::DnError>(())
/// ```
#[derive(Debug, Clone)]
pub struct Dn {
    rdns: Vec<Rdn>,
}

/// One part of a name: usually one type and value, sometimes several joined with `+`.
pub type Rdn = Vec<(String, String)>;

/// A text that is no distinguished name.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("not a distinguished name (RFC 4514): {problem} at character {at} of `{text}`")]
pub struct DnError {
    /// The text.
    pub text: String,
    /// Where reading stopped, from 1.
    pub at: usize,
    /// The fault.
    pub problem: &'static str,
}

impl std::str::FromStr for Dn {
    type Err = DnError;

    fn from_str(text: &str) -> Result<Self, DnError> {
        let fail = |at: usize, problem| DnError {
            text: text.to_owned(),
            at: at + 1,
            problem,
        };
        let chars: Vec<char> = text.chars().collect();
        let mut rdns = Vec::new();
        let mut at = 0;
        if text.trim().is_empty() {
            return Ok(Dn { rdns });
        }
        loop {
            let mut rdn: Rdn = Vec::new();
            loop {
                let start = at;
                while chars
                    .get(at)
                    .is_some_and(|c| !matches!(c, '=' | ',' | '+' | ';'))
                {
                    at += 1;
                }
                if chars.get(at) != Some(&'=') {
                    return Err(fail(start, "a type and `=` are missing"));
                }
                let kind: String = chars[start..at]
                    .iter()
                    .collect::<String>()
                    .trim()
                    .to_owned();
                let named = kind.starts_with(|c: char| c.is_ascii_alphanumeric())
                    && kind
                        .chars()
                        .all(|c| c.is_ascii_alphanumeric() || matches!(c, '-' | '.'));
                if !named {
                    return Err(fail(start, "the type before `=` is not a name"));
                }
                at += 1;
                let value =
                    read_value(&chars, &mut at).map_err(|(at, problem)| fail(at, problem))?;
                rdn.push((kind, value));
                match chars.get(at) {
                    Some('+') => at += 1,
                    _ => break,
                }
            }
            rdns.push(rdn);
            match chars.get(at) {
                None => return Ok(Dn { rdns }),
                Some(_) => at += 1,
            }
        }
    }
}

fn read_value(chars: &[char], at: &mut usize) -> Result<String, (usize, &'static str)> {
    while chars.get(*at) == Some(&' ') {
        *at += 1;
    }
    let mut bytes: Vec<u8> = Vec::new();
    let mut kept = 0;
    if chars.get(*at) == Some(&'#') {
        // RFC 4514 §2.4: the value's BER in hexadecimal. It is kept as written.
        while chars
            .get(*at)
            .is_some_and(|c| !matches!(c, ',' | '+' | ';'))
        {
            bytes.extend(chars[*at].to_string().bytes());
            *at += 1;
        }
        return String::from_utf8(bytes).map_err(|_| (*at, "not UTF-8"));
    }
    while let Some(&c) = chars.get(*at) {
        match c {
            ',' | '+' | ';' => break,
            '\\' => {
                let next = chars
                    .get(*at + 1)
                    .copied()
                    .ok_or((*at, "nothing follows the backslash"))?;
                if let (Some(high), Some(low)) = (
                    next.to_digit(16),
                    chars.get(*at + 2).and_then(|c| c.to_digit(16)),
                ) {
                    bytes.push((high * 16 + low) as u8);
                    *at += 3;
                } else {
                    let mut buffer = [0; 4];
                    bytes.extend(next.encode_utf8(&mut buffer).bytes());
                    *at += 2;
                }
                kept = bytes.len();
            }
            '\0' => return Err((*at, "a NUL must be escaped")),
            c => {
                let mut buffer = [0; 4];
                bytes.extend(c.encode_utf8(&mut buffer).bytes());
                *at += 1;
                if c != ' ' {
                    kept = bytes.len();
                }
            }
        }
    }
    bytes.truncate(kept);
    String::from_utf8(bytes).map_err(|_| (*at, "the escaped octets are not UTF-8"))
}

/// A value with what RFC 4514 §2.4 wants escaped.
///
/// ```
/// assert_eq!(tide_ldap::dn::escape_value(" a,b+c "), r"\ a\,b\+c\ ");
/// ```
pub fn escape_value(value: &str) -> String {
    let mut out = String::with_capacity(value.len() + 4);
    let last = value.chars().count().saturating_sub(1);
    for (at, c) in value.chars().enumerate() {
        match c {
            ',' | '+' | '"' | '\\' | '<' | '>' | ';' | '=' => {
                out.push('\\');
                out.push(c);
            }
            ' ' if at == 0 || at == last => out.push_str("\\ "),
            '#' if at == 0 => out.push_str("\\#"),
            '\0' => out.push_str("\\00"),
            c if c.is_control() => {
                let mut buffer = [0; 4];
                for byte in c.encode_utf8(&mut buffer).bytes() {
                    out.push_str(&format!("\\{byte:02x}"));
                }
            }
            c => out.push(c),
        }
    }
    out
}

/// Splits a name before its parent, as written; nothing for one of a single part. Neither half is
/// checked.
///
/// ```
/// assert_eq!(tide_ldap::dn::split(r"cn=D\,A,dc=skerry"), Some((r"cn=D\,A", "dc=skerry")));
/// assert_eq!(tide_ldap::dn::split("dc=skerry"), None);
/// ```
pub fn split(text: &str) -> Option<(&str, &str)> {
    let mut escaped = false;
    let at = text.bytes().position(|byte| {
        let ends = !escaped && matches!(byte, b',' | b';');
        escaped = !escaped && byte == b'\\';
        ends
    })?;
    Some((&text[..at], &text[at + 1..]))
}

impl Dn {
    /// The parts, nearest first.
    pub fn rdns(&self) -> &[Rdn] {
        &self.rdns
    }

    /// The nearest part as text, escaped.
    pub fn rdn_text(&self) -> Option<String> {
        self.rdns.first().map(rdn_text)
    }

    /// The name of the entry above, if there is one.
    pub fn parent(&self) -> Option<Dn> {
        (self.rdns.len() > 1).then(|| Dn {
            rdns: self.rdns[1..].to_vec(),
        })
    }

    /// A name below this one.
    pub fn child(&self, kind: &str, value: &str) -> Dn {
        let mut rdns = vec![vec![(kind.to_owned(), value.to_owned())]];
        rdns.extend(self.rdns.iter().cloned());
        Dn { rdns }
    }

    /// The canonical text: types and values in lower case, single spaces, minimal escapes.
    pub fn canonical(&self) -> String {
        let rdns: Vec<String> = self
            .rdns
            .iter()
            .map(|rdn| {
                let mut parts: Rdn = rdn
                    .iter()
                    .map(|(kind, value)| {
                        let words: Vec<&str> = value.split_whitespace().collect();
                        (kind.to_lowercase(), words.join(" ").to_lowercase())
                    })
                    .collect();
                parts.sort();
                rdn_text(&parts)
            })
            .collect();
        rdns.join(",")
    }

    /// How many levels this entry lies below another: 0 for itself, `None` if it is elsewhere.
    pub fn depth_below(&self, above: &Dn) -> Option<usize> {
        let depth = self.rdns.len().checked_sub(above.rdns.len())?;
        let tail = Dn {
            rdns: self.rdns[depth..].to_vec(),
        };
        (tail == *above).then_some(depth)
    }

    /// True for the entry itself and for all below it.
    pub fn is_under(&self, above: &Dn) -> bool {
        self.depth_below(above).is_some()
    }
}

fn rdn_text(rdn: &Rdn) -> String {
    let parts: Vec<String> = rdn
        .iter()
        .map(|(kind, value)| format!("{kind}={}", escape_value(value)))
        .collect();
    parts.join("+")
}

impl PartialEq for Dn {
    fn eq(&self, other: &Self) -> bool {
        self.rdns.len() == other.rdns.len() && self.canonical() == other.canonical()
    }
}

impl Eq for Dn {}

impl fmt::Display for Dn {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let rdns: Vec<String> = self.rdns.iter().map(rdn_text).collect();
        f.write_str(&rdns.join(","))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn any_value_survives_escaping(value in "[^\\x00]{1,20}") {
            let base: Dn = "dc=skerry,dc=example".parse().expect("valid");
            let text = base.child("cn", &value).to_string();
            let back: Dn = text.parse().expect("own text reads back");
            prop_assert_eq!(&back.rdns()[0][0].1, &value);
            prop_assert_eq!(back.rdns().len(), 3);
        }

        #[test]
        fn any_text_is_read_or_refused(text in ".{0,40}") {
            let _ = text.parse::<Dn>();
        }
    }

    #[test]
    fn hexadecimal_pairs_are_octets_of_utf_8() {
        let dn: Dn = r"cn=Ren\c3\a9e".parse().expect("valid");
        assert_eq!(dn.rdns()[0][0].1, "Renée");
    }

    #[test]
    fn case_and_blanks_do_not_part_names() {
        let one: Dn = "CN=Ada  Lind, OU=Deck".parse().expect("valid");
        let two: Dn = "cn=ada lind,ou=deck".parse().expect("valid");
        assert_eq!(one, two);
    }

    #[test]
    fn a_container_is_not_a_suffix_of_letters() {
        let one: Dn = "cn=a,ou=xdeck,dc=e".parse().expect("valid");
        let deck: Dn = "ou=deck,dc=e".parse().expect("valid");
        assert!(!one.is_under(&deck));
    }

    #[test]
    fn the_fault_names_its_place() {
        let error = "ou=Deck,nonsense".parse::<Dn>().expect_err("no type");
        assert_eq!((error.at, error.problem), (9, "a type and `=` are missing"));
    }
}
