//! The messages of the protocol (RFC 4511) that an enumeration needs, in the encoding of its §5.1.
//!
//! What is read stays where it lies: a message borrows the octets that came, and an entry's values
//! are looked at one by one. Reading a hundred thousand entries copies each value once, into the
//! account.

use crate::LdapFilter;

/// The longest message that is read, in octets: a group of a million members fits.
pub const LONGEST: usize = 128 << 20;

/// Octets that are not the protocol.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum WireError {
    /// A message is longer than [`LONGEST`].
    #[error("a message of {0} octets is longer than what is read")]
    TooLong(usize),
    /// The octets do not make a message.
    #[error("the octets are no LDAP message: {0}")]
    Broken(&'static str),
}

/// The scope of a search (RFC 4511 §4.5.1.2).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SearchScope {
    /// The entry itself.
    Base = 0,
    /// The entries directly below.
    OneLevel = 1,
    /// The entry and all below.
    Subtree = 2,
}

/// A search (RFC 4511 §4.5.1), in pages (RFC 2696) when `page` is given.
#[derive(Debug, Clone, Copy)]
pub struct SearchRequest<'a> {
    /// Where it begins.
    pub base: &'a str,
    /// Its scope.
    pub reach: SearchScope,
    /// The matching entries.
    pub filter: &'a LdapFilter,
    /// Which attributes are shown.
    pub attributes: &'a [String],
    /// How many entries a page has, and the cookie of the page before.
    pub page: Option<(u32, &'a [u8])>,
}

const INTEGER: u8 = 0x02;
const OCTETS: u8 = 0x04;
const ENUMERATED: u8 = 0x0a;
const SEQUENCE: u8 = 0x30;
const SET: u8 = 0x31;

/// The control of paged results (RFC 2696).
pub const PAGED: &str = "1.2.840.113556.1.4.319";
/// The control of password policies (draft-behera-ldap-password-policy §6.1).
pub const PASSWORD_POLICY: &str = "1.3.6.1.4.1.42.2.27.8.5.1";
/// The operation that begins TLS (RFC 4511 §4.14).
const START_TLS: &str = "1.3.6.1.4.1.1466.20037";

/// Wraps what `inside` writes in an element. The length takes at most five octets, in the
/// shortest form, which some servers require.
fn element(out: &mut Vec<u8>, tag: u8, inside: impl FnOnce(&mut Vec<u8>)) {
    out.push(tag);
    let at = out.len();
    inside(out);
    let length = out.len() - at;
    let octets = (length as u64).to_be_bytes();
    let short = octets.iter().position(|&octet| octet != 0).unwrap_or(7);
    if length < 0x80 {
        out.insert(at, length as u8);
    } else {
        let head = std::iter::once(0x80 | (8 - short) as u8).chain(octets[short..].iter().copied());
        out.splice(at..at, head);
    }
}

fn octets(out: &mut Vec<u8>, tag: u8, value: &[u8]) {
    element(out, tag, |out| out.extend_from_slice(value));
}

fn number(out: &mut Vec<u8>, tag: u8, value: i64) {
    let all = value.to_be_bytes();
    // The fewest octets that keep the sign.
    let skip = (0..7)
        .take_while(|&i| {
            (all[i] == 0 && all[i + 1] < 0x80) || (all[i] == 0xff && all[i + 1] >= 0x80)
        })
        .count();
    octets(out, tag, &all[skip..]);
}

fn truth(out: &mut Vec<u8>, value: bool) {
    octets(out, 0x01, &[if value { 0xff } else { 0 }]);
}

fn filter(out: &mut Vec<u8>, asked: &LdapFilter) {
    let pair = |out: &mut Vec<u8>, tag: u8, name: &str, value: &[u8]| {
        element(out, tag, |out| {
            octets(out, OCTETS, name.as_bytes());
            octets(out, OCTETS, value);
        });
    };
    match asked {
        LdapFilter::All(all) => {
            element(out, 0xa0, |out| all.iter().for_each(|one| filter(out, one)))
        }
        LdapFilter::Any(all) => {
            element(out, 0xa1, |out| all.iter().for_each(|one| filter(out, one)))
        }
        LdapFilter::Not(one) => element(out, 0xa2, |out| filter(out, one)),
        LdapFilter::Equal(name, value) => pair(out, 0xa3, name, value),
        LdapFilter::Parts(name, first, middle, last) => element(out, 0xa4, |out| {
            octets(out, OCTETS, name.as_bytes());
            element(out, SEQUENCE, |out| {
                first.iter().for_each(|part| octets(out, 0x80, part));
                middle.iter().for_each(|part| octets(out, 0x81, part));
                last.iter().for_each(|part| octets(out, 0x82, part));
            });
        }),
        LdapFilter::AtLeast(name, value) => pair(out, 0xa5, name, value),
        LdapFilter::AtMost(name, value) => pair(out, 0xa6, name, value),
        LdapFilter::Present(name) => octets(out, 0x87, name.as_bytes()),
        LdapFilter::Extended(name, rule, value) => element(out, 0xa9, |out| {
            octets(out, 0x81, rule.as_bytes());
            octets(out, 0x82, name.as_bytes());
            octets(out, 0x83, value);
        }),
    }
}

fn message(
    id: i32,
    operation: impl FnOnce(&mut Vec<u8>),
    control: Option<(&str, Option<Vec<u8>>)>,
) -> Vec<u8> {
    let mut out = Vec::with_capacity(256);
    element(&mut out, SEQUENCE, |out| {
        number(out, INTEGER, id.into());
        operation(out);
        if let Some((kind, value)) = control {
            element(out, 0xa0, |out| {
                element(out, SEQUENCE, |out| {
                    octets(out, OCTETS, kind.as_bytes());
                    value.iter().for_each(|value| octets(out, OCTETS, value));
                });
            });
        }
    });
    out
}

/// A search. The paging control is not critical: a server without it answers in one page.
pub fn search(id: i32, ask: &SearchRequest<'_>) -> Vec<u8> {
    let paged = ask.page.map(|(size, cookie)| {
        let mut value = Vec::new();
        element(&mut value, SEQUENCE, |out| {
            number(out, INTEGER, size.into());
            octets(out, OCTETS, cookie);
        });
        (PAGED, Some(value))
    });
    let operation = |out: &mut Vec<u8>| {
        element(out, 0x63, |out| {
            octets(out, OCTETS, ask.base.as_bytes());
            number(out, ENUMERATED, ask.reach as i64);
            // Aliases are not followed: what they point to is shown where it lies.
            number(out, ENUMERATED, 0);
            number(out, INTEGER, 0);
            number(out, INTEGER, 0);
            truth(out, false);
            filter(out, ask.filter);
            element(out, SEQUENCE, |out| {
                ask.attributes
                    .iter()
                    .for_each(|name| octets(out, OCTETS, name.as_bytes()))
            });
        });
    };
    message(id, operation, paged)
}

/// A bind with name and password (RFC 4513 §5.1.3), with the password policy control.
pub fn bind(id: i32, name: &str, password: &str) -> Vec<u8> {
    let operation = |out: &mut Vec<u8>| {
        element(out, 0x60, |out| {
            number(out, INTEGER, 3);
            octets(out, OCTETS, name.as_bytes());
            octets(out, 0x80, password.as_bytes());
        });
    };
    message(id, operation, Some((PASSWORD_POLICY, None)))
}

/// A bind by what the connection already proved, the client certificate (RFC 4513 §5.2.3).
pub fn bind_external(id: i32) -> Vec<u8> {
    let operation = |out: &mut Vec<u8>| {
        element(out, 0x60, |out| {
            number(out, INTEGER, 3);
            octets(out, OCTETS, b"");
            element(out, 0xa3, |out| {
                octets(out, OCTETS, b"EXTERNAL");
                octets(out, OCTETS, b"");
            });
        });
    };
    message(id, operation, None)
}

/// Requests TLS on this connection (RFC 4511 §4.14).
pub fn start_tls(id: i32) -> Vec<u8> {
    message(
        id,
        |out| element(out, 0x77, |out| octets(out, 0x80, START_TLS.as_bytes())),
        None,
    )
}

/// Unbinds (RFC 4511 §4.3).
pub fn unbind(id: i32) -> Vec<u8> {
    message(id, |out| octets(out, 0x42, b""), None)
}

/// Octets that are parsed from the front.
#[derive(Debug, Clone, Copy)]
struct FrameBuffer<'a>(&'a [u8]);

/// The size of the head and of the body of the element that begins here; `None` while more must
/// come.
fn measure(bytes: &[u8]) -> Result<Option<(usize, usize)>, WireError> {
    let Some(&first) = bytes.get(1) else {
        return Ok(None);
    };
    if first < 0x80 {
        return Ok(Some((2, first.into())));
    }
    let count = usize::from(first & 0x7f);
    if count == 0 || count > 8 {
        return Err(WireError::Broken(
            "a length that this protocol does not allow",
        ));
    }
    let Some(octets) = bytes.get(2..2 + count) else {
        return Ok(None);
    };
    let mut length = 0usize;
    for &octet in octets {
        if length > LONGEST {
            return Err(WireError::TooLong(length));
        }
        length = length << 8 | usize::from(octet);
    }
    if length > LONGEST {
        Err(WireError::TooLong(length))
    } else {
        Ok(Some((2 + count, length)))
    }
}

/// The length of the first message, in octets; `None` while it is incomplete.
pub fn frame(bytes: &[u8]) -> Result<Option<usize>, WireError> {
    match bytes.first() {
        None => return Ok(None),
        Some(&SEQUENCE) => {}
        Some(_) => return Err(WireError::Broken("it does not begin as a message does")),
    }
    Ok(measure(bytes)?
        .map(|(head, body)| head + body)
        .filter(|&whole| whole <= bytes.len()))
}

impl<'a> FrameBuffer<'a> {
    fn next(&mut self) -> Result<Option<(u8, &'a [u8])>, WireError> {
        let Some(&tag) = self.0.first() else {
            return Ok(None);
        };
        let (head, body) = measure(self.0)?.ok_or(WireError::Broken("an element ends early"))?;
        let inside = self
            .0
            .get(head..head + body)
            .ok_or(WireError::Broken("an element ends early"))?;
        self.0 = &self.0[head + body..];
        Ok(Some((tag, inside)))
    }

    fn take(&mut self, wanted: u8) -> Result<&'a [u8], WireError> {
        match self.next()? {
            Some((tag, inside)) if tag == wanted => Ok(inside),
            _ => Err(WireError::Broken("another element was due")),
        }
    }

    fn text(&mut self) -> Result<&'a str, WireError> {
        std::str::from_utf8(self.take(OCTETS)?)
            .map_err(|_| WireError::Broken("a name is not UTF-8"))
    }
}

fn whole(bytes: &[u8]) -> Result<i64, WireError> {
    if bytes.is_empty() || bytes.len() > 8 {
        return Err(WireError::Broken("a number out of range"));
    }
    let sign = if bytes[0] >= 0x80 { -1 } else { 0 };
    Ok(bytes
        .iter()
        .fold(sign, |number: i64, &octet| number << 8 | i64::from(octet)))
}

/// The result of an operation (RFC 4511 §4.1.9).
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ResultMessage {
    /// The code of RFC 4511 appendix A.
    pub code: u32,
    /// The nearest entry that exists.
    pub matched: String,
    /// The diagnostic message of the server.
    pub text: String,
    /// Where the operation should be tried instead (RFC 4511 §4.1.10).
    pub referrals: Vec<String>,
}

/// An entry, as octets that are parsed on demand.
#[derive(Debug, Clone, Copy)]
pub struct Entry<'a> {
    /// Its name.
    pub dn: &'a str,
    attributes: FrameBuffer<'a>,
}

/// The values of one attribute.
#[derive(Debug, Clone, Copy)]
pub struct AttributeValues<'a>(FrameBuffer<'a>);

impl<'a> Entry<'a> {
    /// Names with their values, in the order in which they came.
    pub fn attributes(&self) -> impl Iterator<Item = (&'a str, AttributeValues<'a>)> + use<'a> {
        let mut rest = self.attributes;
        // Everything was walked through once when the message was read: nothing here can fail.
        std::iter::from_fn(move || {
            let mut one = FrameBuffer(rest.take(SEQUENCE).ok()?);
            Some((
                one.text().ok()?,
                AttributeValues(FrameBuffer(one.take(SET).ok()?)),
            ))
        })
    }

    fn sound(&self) -> Result<(), WireError> {
        let mut rest = self.attributes;
        while !rest.0.is_empty() {
            let mut one = FrameBuffer(rest.take(SEQUENCE)?);
            one.text()?;
            let mut values = FrameBuffer(one.take(SET)?);
            while !values.0.is_empty() {
                values.take(OCTETS)?;
            }
        }
        Ok(())
    }
}

impl<'a> Iterator for AttributeValues<'a> {
    type Item = &'a [u8];

    fn next(&mut self) -> Option<&'a [u8]> {
        self.0.take(OCTETS).ok()
    }
}

fn outcome(mut body: FrameBuffer<'_>) -> Result<ResultMessage, WireError> {
    let code = u32::try_from(whole(body.take(ENUMERATED)?)?)
        .map_err(|_| WireError::Broken("a number out of range"))?;
    let matched = String::from_utf8_lossy(body.take(OCTETS)?).into_owned();
    let text = String::from_utf8_lossy(body.take(OCTETS)?).into_owned();
    let mut referrals = Vec::new();
    if let Some((0xa3, urls)) = body.next()? {
        let mut urls = FrameBuffer(urls);
        while !urls.0.is_empty() {
            referrals.push(urls.text()?.to_owned());
        }
    }
    Ok(ResultMessage {
        code,
        matched,
        text,
        referrals,
    })
}

/// Whether this message, as measured by [`frame`], is an entry of a search. It is not parsed
/// further.
pub fn is_entry(bytes: &[u8]) -> Result<bool, WireError> {
    let mut inside = FrameBuffer(FrameBuffer(bytes).take(SEQUENCE)?);
    inside.take(INTEGER)?;
    Ok(inside.0.first() == Some(&0x64))
}

/// The content of a message.
#[derive(Debug, Clone)]
pub enum ResponseBody<'a> {
    /// An entry of a search.
    Entry(Entry<'a>),
    /// Other servers, for a search that continues there.
    Elsewhere(Vec<&'a str>),
    /// The end of a search.
    Done(ResultMessage),
    /// The answer to a bind.
    Bound(ResultMessage),
    /// The answer to an extended operation, or a notice of the server's own.
    Extended(ResultMessage),
    /// Something that an enumeration does not need.
    Other,
}

/// A message of the server.
#[derive(Debug, Clone)]
pub struct Message<'a> {
    /// The message that it answers; 0 for a notice.
    pub id: i64,
    /// Its content.
    pub said: ResponseBody<'a>,
    controls: FrameBuffer<'a>,
}

impl<'a> Message<'a> {
    /// Reads one whole message, as [`frame`] measured it.
    pub fn read(bytes: &'a [u8]) -> Result<Self, WireError> {
        let mut inside = FrameBuffer(FrameBuffer(bytes).take(SEQUENCE)?);
        let id = whole(inside.take(INTEGER)?)?;
        let (tag, operation) = inside.next()?.ok_or(WireError::Broken("it says nothing"))?;
        let mut body = FrameBuffer(operation);
        let said = match tag {
            0x64 => {
                let entry = Entry {
                    dn: body.text()?,
                    attributes: FrameBuffer(body.take(SEQUENCE)?),
                };
                entry.sound()?;
                ResponseBody::Entry(entry)
            }
            0x73 => {
                let mut urls = Vec::new();
                while !body.0.is_empty() {
                    urls.push(body.text()?);
                }
                ResponseBody::Elsewhere(urls)
            }
            0x61 => ResponseBody::Bound(outcome(body)?),
            0x65 => ResponseBody::Done(outcome(body)?),
            0x78 => ResponseBody::Extended(outcome(body)?),
            _ => ResponseBody::Other,
        };
        let controls = match inside.next()? {
            Some((0xa0, controls)) => FrameBuffer(controls),
            _ => FrameBuffer(&[]),
        };
        Ok(Message { id, said, controls })
    }

    /// The value of a control that came with it.
    pub fn control(&self, kind: &str) -> Result<Option<&'a [u8]>, WireError> {
        let mut rest = self.controls;
        while !rest.0.is_empty() {
            let mut one = FrameBuffer(rest.take(SEQUENCE)?);
            let found = one.take(OCTETS)? == kind.as_bytes();
            while let (true, Some((tag, value))) = (found, one.next()?) {
                if tag == OCTETS {
                    return Ok(Some(value));
                }
            }
        }
        Ok(None)
    }

    /// Where the next page begins (RFC 2696); empty at the end, and where there is no paging.
    pub fn next_page(&self) -> Result<Vec<u8>, WireError> {
        let Some(value) = self.control(PAGED)? else {
            return Ok(Vec::new());
        };
        let mut inside = FrameBuffer(FrameBuffer(value).take(SEQUENCE)?);
        inside.take(INTEGER)?;
        Ok(inside.take(OCTETS)?.to_vec())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn hex(text: &str) -> Vec<u8> {
        let digits: Vec<u8> = text.bytes().filter(u8::is_ascii_hexdigit).collect();
        digits
            .chunks(2)
            .map(|two| u8::from_str_radix(std::str::from_utf8(two).expect("hex"), 16).expect("hex"))
            .collect()
    }

    #[test]
    fn a_search_is_written_as_the_standard_says() {
        let fits = LdapFilter::All(vec![
            LdapFilter::equal("cn", "A"),
            LdapFilter::Not(Box::new(LdapFilter::Present("x".into()))),
        ]);
        let names = ["*".to_owned()];
        let ask = SearchRequest {
            base: "o=a",
            reach: SearchScope::Subtree,
            filter: &fits,
            attributes: &names,
            page: Some((500, b"c")),
        };
        let expected = "30 55 02 01 07 63 29 04 03 6f3d61 0a 01 02 0a 01 00 02 01 00 02 01 00 01 01 00
             a0 0e a3 07 04 02 636e 04 01 41 a2 03 87 01 78 30 03 04 01 2a
             a0 25 30 23 04 16 312e322e3834302e3131333535362e312e342e333139 04 09 30 07 02 02 01f4 04 01 63";
        let written = search(7, &ask);
        assert_eq!(written, hex(expected), "{written:02x?}");
        assert_eq!(frame(&written), Ok(Some(written.len())));
    }

    #[test]
    fn an_entry_is_read_where_it_lies() {
        let entry = hex(
            "30 20 02 01 05 64 1b 04 03 6f3d61 30 14 30 12 04 02 636e 31 0c 04 01 41 04 02 c3a9 04 03 00ff01",
        );
        assert_eq!(frame(&entry), Ok(Some(entry.len())));
        assert_eq!(frame(&entry[..20]), Ok(None));
        let message = Message::read(&entry).expect("reads");
        let ResponseBody::Entry(entry) = message.said else {
            panic!("{message:?}")
        };
        let read: Vec<(&str, Vec<&[u8]>)> = entry
            .attributes()
            .map(|(name, values)| (name, values.collect()))
            .collect();
        assert_eq!(
            (message.id, entry.dn, read),
            (
                5,
                "o=a",
                vec![("cn", vec![&b"A"[..], "é".as_bytes(), &[0, 255, 1]])]
            )
        );
    }

    #[test]
    fn a_page_says_where_the_next_begins_and_a_refusal_why() {
        let control = "a0 23 30 21 04 16 312e322e3834302e3131333535362e312e342e333139 04 07 30 05 02 01 00 04 00";
        let done = |control: &str| {
            hex(&format!(
                "30 {:02x} 02 01 05 65 07 0a 01 00 04 00 04 00 {control}",
                12 + hex(control).len()
            ))
        };
        assert_eq!(
            Message::read(&done(control)).expect("reads").next_page(),
            Ok(vec![])
        );
        let more = control.replace("a0 23 30 21", "a0 25 30 23").replace(
            "04 07 30 05 02 01 00 04 00",
            "04 09 30 07 02 01 00 04 02 abcd",
        );
        assert_eq!(
            Message::read(&done(&more)).expect("reads").next_page(),
            Ok(vec![0xab, 0xcd])
        );
        assert_eq!(
            Message::read(&done("")).expect("reads").next_page(),
            Ok(vec![])
        );
        let broken = control.replace("30 05 02", "31 05 02");
        assert!(
            Message::read(&done(&broken))
                .expect("reads")
                .next_page()
                .is_err()
        );
        let refused = hex("30 12 02 01 01 61 0d 0a 01 31 04 00 04 06 626164207077");
        let ResponseBody::Bound(outcome) = Message::read(&refused).expect("reads").said else {
            panic!()
        };
        assert_eq!(
            outcome,
            ResultMessage {
                code: 49,
                matched: String::new(),
                text: "bad pw".into(),
                referrals: vec![]
            }
        );
    }

    #[test]
    fn lengths_beyond_all_reason_are_refused_before_anything_is_kept() {
        assert_eq!(
            frame(&hex("30 84 7fffffff")),
            Err(WireError::TooLong(0x7fff_ffff))
        );
        assert!(frame(&hex("30 88 ffffffffffffffff")).is_err());
        assert!(
            frame(&hex("30 80 0000")).is_err(),
            "no end in sight is not allowed here (RFC 4511 §5.1)"
        );
        assert!(frame(b"HTTP/1.1 400").is_err());
    }

    #[test]
    fn long_values_and_numbers_have_the_shortest_form() {
        for length in [0usize, 1, 127, 128, 255, 256, 65_535, 65_536] {
            let mut out = Vec::new();
            octets(&mut out, OCTETS, &vec![7; length]);
            assert_eq!(measure(&out), Ok(Some((out.len() - length, length))));
        }
        for (value, expected) in [
            (0, "00"),
            (127, "7f"),
            (128, "0080"),
            (-1, "ff"),
            (-129, "ff7f"),
            (500, "01f4"),
        ] {
            let mut out = Vec::new();
            number(&mut out, INTEGER, value);
            assert_eq!(out[2..], hex(expected), "{value}");
            assert_eq!(whole(&out[2..]), Ok(value));
        }
    }

    proptest! {
        #[test]
        fn whatever_comes_is_read_or_refused_and_never_a_panic(bytes in proptest::collection::vec(any::<u8>(), 0..120)) {
            let _ = frame(&bytes);
            for start in [&[][..], &[0x30, 0x40, 2, 1, 1, 0x64, 0x30], &[0x30, 0x40, 2, 1, 1, 0x65, 7, 10, 1, 0, 4, 0, 4, 0, 0xa0]] {
                let all = [start, bytes.as_slice()].concat();
                if let Ok(message) = Message::read(&all) {
                    let _ = message.next_page();
                    if let ResponseBody::Entry(entry) = message.said {
                        entry.attributes().for_each(|(_, values)| values.for_each(|_| ()));
                    }
                }
            }
        }
    }
}
