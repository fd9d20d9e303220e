//! Filters and attribute paths (RFC 7644 §3.4.2.2).

use serde_json::Value;
use std::fmt;

/// A comparison.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Operator {
    /// equal
    Eq,
    /// not equal
    Ne,
    /// contains
    Co,
    /// starts with
    Sw,
    /// ends with
    Ew,
    /// greater than
    Gt,
    /// greater or equal
    Ge,
    /// less than
    Lt,
    /// less or equal
    Le,
}

const OPERATORS: [(&str, Operator); 9] = [
    ("eq", Operator::Eq),
    ("ne", Operator::Ne),
    ("co", Operator::Co),
    ("sw", Operator::Sw),
    ("ew", Operator::Ew),
    ("gt", Operator::Gt),
    ("ge", Operator::Ge),
    ("lt", Operator::Lt),
    ("le", Operator::Le),
];

/// The name of an attribute: a schema's URN if one is given, the attribute, a sub-attribute.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AttrPath {
    /// The schema.
    pub schema: Option<String>,
    /// The attribute.
    pub name: String,
    /// The part of it.
    pub sub: Option<String>,
}

/// A filter.
#[derive(Debug, Clone, PartialEq)]
pub enum ScimFilter {
    /// Both hold.
    And(Box<ScimFilter>, Box<ScimFilter>),
    /// One holds.
    Or(Box<ScimFilter>, Box<ScimFilter>),
    /// It does not hold.
    Not(Box<ScimFilter>),
    /// The attribute has a value.
    Present(AttrPath),
    /// The attribute compares so with a literal.
    Compare(AttrPath, Operator, Value),
    /// One of a complex attribute's values fits.
    Value(AttrPath, Box<ScimFilter>),
}

/// A text that is no filter.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("not a filter (RFC 7644 §3.4.2.2): {problem} at character {at}")]
pub struct ScimFilterError {
    /// Where reading stopped, from 1.
    pub at: usize,
    /// The fault.
    pub problem: &'static str,
}

/// The longest filter that is read, in octets, and the deepest nesting.
const MAX: (usize, usize) = (4096, 24);

/// A literal text, quoted and escaped as JSON, for use inside a filter.
pub fn quote(text: &str) -> String {
    Value::String(text.to_owned()).to_string()
}

impl std::str::FromStr for ScimFilter {
    type Err = ScimFilterError;

    fn from_str(text: &str) -> Result<Self, ScimFilterError> {
        if text.len() > MAX.0 {
            return Err(ScimFilterError {
                at: MAX.0,
                problem: "the filter is too long",
            });
        }
        let mut reader = ScimFilterParser { text, at: 0 };
        let filter = reader.or(0)?;
        reader.blanks();
        if reader.at < text.len() {
            return Err(reader.fail("something is left over"));
        }
        Ok(filter)
    }
}

pub(crate) struct ScimFilterParser<'a> {
    pub text: &'a str,
    pub at: usize,
}

impl<'a> ScimFilterParser<'a> {
    pub fn fail(&self, problem: &'static str) -> ScimFilterError {
        ScimFilterError {
            at: self.text[..self.at].chars().count() + 1,
            problem,
        }
    }

    fn rest(&self) -> &'a str {
        &self.text[self.at..]
    }

    pub fn blanks(&mut self) {
        self.at += self.rest().len() - self.rest().trim_start().len();
    }

    pub fn eat(&mut self, sign: char) -> bool {
        self.blanks();
        let found = self.rest().starts_with(sign);
        self.at += usize::from(found) * sign.len_utf8();
        found
    }

    fn word(&mut self, word: &str) -> bool {
        self.blanks();
        let rest = self.rest();
        let end = rest
            .find(|c: char| c.is_whitespace() || "()[]".contains(c))
            .unwrap_or(rest.len());
        let found = rest[..end].eq_ignore_ascii_case(word);
        self.at += usize::from(found) * end;
        found
    }

    pub fn or(&mut self, depth: usize) -> Result<ScimFilter, ScimFilterError> {
        let mut left = self.and(depth)?;
        while self.word("or") {
            left = ScimFilter::Or(Box::new(left), Box::new(self.and(depth)?));
        }
        Ok(left)
    }

    fn and(&mut self, depth: usize) -> Result<ScimFilter, ScimFilterError> {
        let mut left = self.one(depth)?;
        while self.word("and") {
            left = ScimFilter::And(Box::new(left), Box::new(self.one(depth)?));
        }
        Ok(left)
    }

    fn one(&mut self, depth: usize) -> Result<ScimFilter, ScimFilterError> {
        if depth > MAX.1 {
            return Err(self.fail("nested too deep"));
        }
        let negated = self.word("not");
        if self.eat('(') {
            let inner = self.or(depth + 1)?;
            if !self.eat(')') {
                return Err(self.fail("`)` is missing"));
            }
            return Ok(if negated {
                ScimFilter::Not(Box::new(inner))
            } else {
                inner
            });
        }
        if negated {
            return Err(self.fail("`(` must follow `not`"));
        }
        let path = self.path()?;
        if self.eat('[') {
            let inner = self.or(depth + 1)?;
            if !self.eat(']') {
                return Err(self.fail("`]` is missing"));
            }
            return Ok(ScimFilter::Value(path, Box::new(inner)));
        }
        if self.word("pr") {
            return Ok(ScimFilter::Present(path));
        }
        for (word, operator) in OPERATORS {
            if self.word(word) {
                return Ok(ScimFilter::Compare(path, operator, self.literal()?));
            }
        }
        Err(self.fail("an operator is missing (eq, ne, co, sw, ew, gt, ge, lt, le, pr)"))
    }

    pub fn path(&mut self) -> Result<AttrPath, ScimFilterError> {
        self.blanks();
        let rest = self.rest();
        let end = rest
            .find(|c: char| {
                !(c.is_ascii_alphanumeric() || matches!(c, '.' | ':' | '-' | '_' | '$'))
            })
            .unwrap_or(rest.len());
        let word = &rest[..end];
        let path =
            AttrPath::read(word).ok_or_else(|| self.fail("an attribute's name is missing"))?;
        self.at += end;
        Ok(path)
    }

    fn literal(&mut self) -> Result<Value, ScimFilterError> {
        self.blanks();
        let mut stream = serde_json::Deserializer::from_str(self.rest()).into_iter::<Value>();
        match stream.next() {
            Some(Ok(value)) if !value.is_object() && !value.is_array() => {
                self.at += stream.byte_offset();
                Ok(value)
            }
            _ => Err(self.fail("a value is missing: text stands in double quotes")),
        }
    }
}

impl AttrPath {
    /// Reads `name`, `name.sub`, `urn:…:name` or `urn:…:name.sub`.
    pub fn read(word: &str) -> Option<AttrPath> {
        let (schema, local) = match word.rfind(':') {
            Some(at) if word.to_ascii_lowercase().starts_with("urn:") => {
                (Some(word[..at].to_owned()), &word[at + 1..])
            }
            Some(_) => return None,
            None => (None, word),
        };
        let (name, sub) = match local.split_once('.') {
            Some((name, sub)) => (name, Some(sub.to_owned())),
            None => (local, None),
        };
        let valid = name.starts_with(|c: char| c.is_ascii_alphabetic() || c == '$')
            && sub.as_deref() != Some("");
        valid.then(|| AttrPath {
            schema,
            name: name.to_owned(),
            sub,
        })
    }

    /// The values that the path names in a resource.
    pub fn find<'v>(&self, resource: &'v Value) -> Vec<&'v Value> {
        let home = match &self.schema {
            Some(urn) => member(resource, urn).unwrap_or(resource),
            None => resource,
        };
        let Some(found) = member(home, &self.name) else {
            return Vec::new();
        };
        let items: Vec<&Value> = match found {
            Value::Array(items) => items.iter().collect(),
            single => vec![single],
        };
        match &self.sub {
            Some(sub) => items
                .into_iter()
                .filter_map(|item| member(item, sub))
                .collect(),
            None => items,
        }
    }
}

impl fmt::Display for AttrPath {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if let Some(schema) = &self.schema {
            write!(f, "{schema}:")?;
        }
        f.write_str(&self.name)?;
        self.sub.as_ref().map_or(Ok(()), |sub| write!(f, ".{sub}"))
    }
}

/// A member of an object, whatever the case of its name (RFC 7643 §2.1).
pub(crate) fn member<'v>(object: &'v Value, name: &str) -> Option<&'v Value> {
    let map = object.as_object()?;
    map.get(name).or_else(|| {
        map.iter()
            .find(|(key, _)| key.eq_ignore_ascii_case(name))
            .map(|(_, value)| value)
    })
}

impl ScimFilter {
    /// Whether the filter matches a resource or a complex value.
    pub fn holds(&self, resource: &Value) -> bool {
        match self {
            ScimFilter::And(left, right) => left.holds(resource) && right.holds(resource),
            ScimFilter::Or(left, right) => left.holds(resource) || right.holds(resource),
            ScimFilter::Not(inner) => !inner.holds(resource),
            ScimFilter::Present(path) => path.find(resource).iter().any(|value| !is_blank(value)),
            ScimFilter::Value(path, inner) => {
                path.find(resource).iter().any(|value| inner.holds(value))
            }
            ScimFilter::Compare(path, operator, literal) => {
                let found = path.find(resource);
                if *operator == Operator::Ne {
                    return !found
                        .iter()
                        .any(|value| compare(path, value, Operator::Eq, literal));
                }
                found
                    .iter()
                    .any(|value| compare(path, value, *operator, literal))
            }
        }
    }
}

fn is_blank(value: &Value) -> bool {
    match value {
        Value::Null => true,
        Value::String(text) => text.is_empty(),
        Value::Array(items) => items.is_empty(),
        Value::Object(map) => map.is_empty(),
        _ => false,
    }
}

/// `id` and `externalId` are case-exact (RFC 7643 §3.1); most others are not.
fn compare(path: &AttrPath, value: &Value, operator: Operator, literal: &Value) -> bool {
    // A complex value is compared by its `value` (RFC 7644 §3.4.2.2).
    let value = if value.is_object() {
        member(value, "value").unwrap_or(value)
    } else {
        value
    };
    if let (Some(one), Some(two)) = (value.as_f64(), literal.as_f64()) {
        return match operator {
            Operator::Eq => one == two,
            Operator::Gt => one > two,
            Operator::Ge => one >= two,
            Operator::Lt => one < two,
            Operator::Le => one <= two,
            _ => false,
        };
    }
    let (Some(one), Some(two)) = (value.as_str(), literal.as_str()) else {
        return operator == Operator::Eq && value == literal;
    };
    let exact = ["id", "externalId"]
        .iter()
        .any(|name| path.name.eq_ignore_ascii_case(name));
    let fold = |text: &str| {
        if exact {
            text.to_owned()
        } else {
            text.to_lowercase()
        }
    };
    let (one, two) = (fold(one), fold(two));
    match operator {
        Operator::Eq => one == two,
        Operator::Ne => one != two,
        Operator::Co => one.contains(&two),
        Operator::Sw => one.starts_with(&two),
        Operator::Ew => one.ends_with(&two),
        Operator::Gt => one > two,
        Operator::Ge => one >= two,
        Operator::Lt => one < two,
        Operator::Le => one <= two,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use serde_json::json;

    fn holds(filter: &str) -> bool {
        let user = json!({
            "id": "A1", "userName": "Ada@skerry.example", "active": true, "loginCount": 7,
            "name": {"familyName": "Lind"},
            "emails": [{"type": "work", "value": "ada@skerry.example"}, {"type": "home", "value": "a@home.example"}],
            "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User": {"employeeNumber": "1042"}
        });
        filter
            .parse::<ScimFilter>()
            .unwrap_or_else(|error| panic!("{filter}: {error}"))
            .holds(&user)
    }

    #[test]
    fn filters_say_what_the_standard_says() {
        for yes in [
            r#"userName eq "ada@SKERRY.example""#,
            r#"USERNAME sw "ada" and active eq true"#,
            r#"name.familyName co "in" or title pr"#,
            r#"not (title pr)"#,
            r#"emails[type eq "work" and value co "@skerry"]"#,
            r#"emails.type eq "home""#,
            r#"emails co "home.example""#,
            r#"urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:employeeNumber eq "1042""#,
            r#"loginCount ge 7"#,
            r#"title ne "Captain""#,
            r#"id eq "A1""#,
        ] {
            assert!(holds(yes), "{yes}");
        }
        for no in [
            r#"id eq "a1""#,
            r#"emails[type eq "work" and value co "home"]"#,
            r#"loginCount lt 7"#,
            r#"active eq false"#,
        ] {
            assert!(!holds(no), "{no}");
        }
    }

    #[test]
    fn a_broken_filter_names_its_place() {
        for (text, at) in [
            ("userName", 9),
            ("userName eq", 12),
            ("userName eq ada", 13),
            ("(a pr", 6),
            ("a pr b", 6),
            ("eq", 3),
        ] {
            assert_eq!(text.parse::<ScimFilter>().expect_err(text).at, at, "{text}");
        }
        let deep = format!("{}a pr{}", "(".repeat(100), ")".repeat(100));
        assert_eq!(
            deep.parse::<ScimFilter>().expect_err("deep").problem,
            "nested too deep"
        );
    }

    #[test]
    fn a_hostile_value_stays_a_value() {
        let filter = format!("userName eq {}", quote(r#"x" or id pr or userName eq "y"#));
        assert!(!holds(&filter));
    }

    proptest! {
        #[test]
        fn any_text_is_read_or_refused(text in ".{0,60}") {
            let _ = text.parse::<ScimFilter>();
        }
    }
}
