//! Schema descriptions as a server publishes them (RFC 4512 §4.1).

use std::collections::BTreeMap;

/// One attribute type, with what it inherits filled in.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AttributeType {
    /// Its names, the first one leading; the OID if it has none.
    pub names: Vec<String>,
    /// The OID of its syntax.
    pub syntax: String,
    /// Its equality rule.
    pub equality: Option<String>,
    /// Its ordering rule: without one, `>=` and `<=` are undefined.
    pub ordering: Option<String>,
    /// At most one value?
    pub single: bool,
    /// Not to be written by clients?
    pub read_only: bool,
    /// Whether `*` leaves it out (USAGE other than userApplications, RFC 4512 §4.1.2).
    pub operational: bool,
    /// The bound of its length, where its syntax names one (RFC 4512 §4.1.2: what a server holds at
    /// least).
    pub longest: Option<u32>,
}

impl AttributeType {
    /// Whether values are compared with regard to case.
    pub fn case_exact(&self) -> bool {
        self.equality.as_deref().is_some_and(|rule| {
            let rule = rule.to_ascii_lowercase();
            rule.starts_with("caseexact") || rule.starts_with("octetstring")
        })
    }
}

/// One object class.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ObjectClass {
    /// Its names.
    pub names: Vec<String>,
    /// The classes above it.
    pub above: Vec<String>,
    /// Attributes that an entry must have.
    pub must: Vec<String>,
    /// Attributes that an entry may have.
    pub may: Vec<String>,
}

/// Reads `attributeTypes` values; descriptions that cannot be read are left out.
pub fn attribute_types<'a>(texts: impl Iterator<Item = &'a str>) -> Vec<AttributeType> {
    let parsed: Vec<Fields> = texts.filter_map(fields).collect();
    let by_name: BTreeMap<String, &Fields> = parsed
        .iter()
        .flat_map(|fields| {
            fields
                .names()
                .into_iter()
                .map(move |name| (name.to_lowercase(), fields))
        })
        .collect();
    parsed
        .iter()
        .map(|own| {
            let mut syntax = own.first("SYNTAX");
            let mut equality = own.first("EQUALITY");
            let mut ordering = own.first("ORDERING");
            let mut above = own.first("SUP");
            // A chain of SUP is short; the bound keeps a circular one from holding us.
            for _ in 0..16 {
                let Some(fields) = above
                    .take()
                    .and_then(|name| by_name.get(&name.to_lowercase()))
                else {
                    break;
                };
                syntax = syntax.or_else(|| fields.first("SYNTAX"));
                equality = equality.or_else(|| fields.first("EQUALITY"));
                ordering = ordering.or_else(|| fields.first("ORDERING"));
                above = fields.first("SUP");
            }
            AttributeType {
                names: own.names(),
                longest: syntax
                    .as_deref()
                    .and_then(|text| text.split_once('{')?.1.strip_suffix('}')?.parse().ok()),
                syntax: syntax
                    .unwrap_or_default()
                    .split('{')
                    .next()
                    .unwrap_or_default()
                    .to_owned(),
                equality,
                ordering,
                single: own.has("SINGLE-VALUE"),
                read_only: own.has("NO-USER-MODIFICATION"),
                operational: own
                    .first("USAGE")
                    .is_some_and(|usage| usage != "userApplications"),
            }
        })
        .collect()
}

/// Reads `objectClasses` values; descriptions that cannot be read are left out.
pub fn object_classes<'a>(texts: impl Iterator<Item = &'a str>) -> Vec<ObjectClass> {
    texts
        .filter_map(fields)
        .map(|fields| ObjectClass {
            names: fields.names(),
            above: fields.all("SUP"),
            must: fields.all("MUST"),
            may: fields.all("MAY"),
        })
        .collect()
}

struct Fields {
    oid: String,
    parts: Vec<(String, Vec<String>)>,
}

impl Fields {
    fn all(&self, key: &str) -> Vec<String> {
        self.parts
            .iter()
            .find(|(name, _)| name == key)
            .map(|(_, values)| values.clone())
            .unwrap_or_default()
    }

    fn first(&self, key: &str) -> Option<String> {
        self.all(key).into_iter().next()
    }

    fn has(&self, key: &str) -> bool {
        self.parts.iter().any(|(name, _)| name == key)
    }

    fn names(&self) -> Vec<String> {
        let names = self.all("NAME");
        if names.is_empty() {
            vec![self.oid.clone()]
        } else {
            names
        }
    }
}

fn fields(text: &str) -> Option<Fields> {
    let mut tokens = Vec::new();
    let mut rest = text.trim();
    while !rest.is_empty() {
        let (token, after) = if let Some(quoted) = rest.strip_prefix('\'') {
            let end = quoted.find('\'')?;
            (quoted[..end].to_owned(), &quoted[end + 1..])
        } else if rest.starts_with(['(', ')', '$']) {
            (rest[..1].to_owned(), &rest[1..])
        } else {
            let end = rest
                .find(|c: char| c.is_whitespace() || "()$'".contains(c))
                .unwrap_or(rest.len());
            (rest[..end].to_owned(), &rest[end..])
        };
        tokens.push(token);
        rest = after.trim_start();
    }
    let mut at = tokens.iter().skip(1).peekable();
    if tokens.first()? != "(" {
        return None;
    }
    let oid = at.next()?.clone();
    let mut parts: Vec<(String, Vec<String>)> = Vec::new();
    while let Some(token) = at.next() {
        if token == ")" {
            break;
        }
        let key = token.clone();
        let mut values = Vec::new();
        let flag = matches!(
            key.as_str(),
            "SINGLE-VALUE"
                | "NO-USER-MODIFICATION"
                | "COLLECTIVE"
                | "OBSOLETE"
                | "STRUCTURAL"
                | "ABSTRACT"
                | "AUXILIARY"
        );
        if !flag {
            match at.next()? {
                open if open == "(" => {
                    for token in at.by_ref() {
                        match token.as_str() {
                            ")" => break,
                            "$" => {}
                            value => values.push(value.to_owned()),
                        }
                    }
                }
                value => values.push(value.clone()),
            }
        }
        parts.push((key, values));
    }
    Some(Fields { oid, parts })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_description_is_read_with_what_it_inherits() {
        let texts = [
            "( 2.5.4.41 NAME 'name' EQUALITY caseIgnoreMatch SYNTAX 1.3.6.1.4.1.1466.115.121.1.15{32768} )",
            "( 2.5.4.4 NAME ( 'sn' 'surname' ) DESC 'RFC2256: last (family) name' SUP name )",
            "( 1.3.6.1.1.16.4 NAME 'entryUUID' EQUALITY UUIDMatch SYNTAX 1.3.6.1.1.16.1 SINGLE-VALUE NO-USER-MODIFICATION USAGE directoryOperation )",
        ];
        let types = attribute_types(texts.into_iter());
        assert_eq!(types[1].names, ["sn", "surname"]);
        assert_eq!(types[1].syntax, "1.3.6.1.4.1.1466.115.121.1.15");
        assert_eq!((types[1].longest, types[2].longest), (Some(32_768), None));
        assert!(!types[1].case_exact() && !types[1].single);
        assert!(
            types[2].single && types[2].read_only && types[2].operational && !types[0].operational
        );
    }

    #[test]
    fn classes_name_what_they_need() {
        let text = "( 2.5.6.6 NAME 'person' SUP top STRUCTURAL MUST ( sn $ cn ) MAY ( userPassword $ telephoneNumber ) )";
        let classes = object_classes([text, "nonsense"].into_iter());
        assert_eq!(classes.len(), 1);
        assert_eq!(classes[0].must, ["sn", "cn"]);
        assert_eq!(classes[0].may, ["userPassword", "telephoneNumber"]);
    }
}
