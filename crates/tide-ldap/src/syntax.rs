//! Values in LDAP syntax: instants and unique ids.

use jiff::Timestamp;
use jiff::civil::DateTime;
use jiff::tz::Offset;

/// Reads a generalized time (RFC 4517 §3.3.13): `20261123073646Z`, with optional minutes, seconds,
/// fraction and offset. `None` for anything else.
pub fn generalized_time(text: &str) -> Option<Timestamp> {
    let (body, offset) = if let Some(body) = text.strip_suffix('Z') {
        (body, 0)
    } else {
        let at = text.rfind(['+', '-'])?;
        let (body, zone) = text.split_at(at);
        let sign = if zone.starts_with('-') { -1 } else { 1 };
        let hours: i32 = zone.get(1..3)?.parse().ok()?;
        let minutes: i32 = if zone.len() > 3 {
            zone.get(3..5)?.parse().ok()?
        } else {
            0
        };
        (body, sign * (hours * 3600 + minutes * 60))
    };
    let (body, fraction) = match body.find(['.', ',']) {
        Some(at) => (&body[..at], &body[at + 1..]),
        None => (body, ""),
    };
    if !body.chars().all(|c| c.is_ascii_digit()) || !matches!(body.len(), 10 | 12 | 14) {
        return None;
    }
    let number =
        |from: usize, to: usize| -> Option<i16> { body.get(from..to).unwrap_or("0").parse().ok() };
    let (second, nanos) = if body.len() == 14 && !fraction.is_empty() {
        let digits: String = fraction
            .chars()
            .chain("000000000".chars())
            .take(9)
            .collect();
        (number(12, 14)?, digits.parse::<i32>().ok()?)
    } else {
        (number(12, 14).unwrap_or(0), 0)
    };
    let civil = DateTime::new(
        number(0, 4)?,
        number(4, 6)? as i8,
        number(6, 8)? as i8,
        number(8, 10)? as i8,
        number(10, 12).unwrap_or(0) as i8,
        second.min(59) as i8,
        nanos,
    )
    .ok()?;
    Offset::from_seconds(offset).ok()?.to_timestamp(civil).ok()
}

/// An instant as generalized time, in UTC, to the second.
pub fn to_generalized_time(time: Timestamp) -> String {
    time.strftime("%Y%m%d%H%M%SZ").to_string()
}

/// A directory server's file time (100-nanosecond intervals since 1601-01-01) as an instant. `None`
/// for 0 and for the largest number, which both mean "never", and for what is out of range.
pub fn file_time(text: &str) -> Option<Timestamp> {
    let ticks: i64 = text.parse().ok()?;
    if ticks <= 0 || ticks == i64::MAX {
        return None;
    }
    Timestamp::from_nanosecond((i128::from(ticks) - FILE_TIME_EPOCH) * 100).ok()
}

/// An instant as a file time; instants before 1601 are 0.
pub fn to_file_time(time: Timestamp) -> i64 {
    i64::try_from((time.as_nanosecond() / 100 + FILE_TIME_EPOCH).max(0)).unwrap_or(i64::MAX)
}

/// From 1601-01-01 to 1970-01-01, in units of 100 nanoseconds.
const FILE_TIME_EPOCH: i128 = 116_444_736_000_000_000;

/// A binary objectSid as readable text, such as `S-1-5-21-1-2-3-500`. `None` when its length does
/// not fit the count of its parts.
pub fn object_sid(bytes: &[u8]) -> Option<String> {
    let (&[revision, count, ref authority @ ..], parts) = bytes.split_at_checked(8)? else {
        return None;
    };
    if parts.len() != usize::from(count) * 4 {
        return None;
    }
    let authority = authority
        .iter()
        .fold(0u64, |all, byte| all << 8 | u64::from(*byte));
    let mut text = format!("S-{revision}-{authority}");
    for part in parts.as_chunks::<4>().0 {
        text.push_str(&format!("-{}", u32::from_le_bytes(*part)));
    }
    Some(text)
}

/// The octets of a readable objectSid.
pub fn sid_octets(text: &str) -> Option<Vec<u8>> {
    let mut parts = text.strip_prefix("S-")?.split('-');
    let revision: u8 = parts.next()?.parse().ok()?;
    let authority: u64 = parts.next()?.parse().ok()?;
    let subs: Vec<u32> = parts.map(str::parse).collect::<Result<_, _>>().ok()?;
    let mut out = vec![revision, u8::try_from(subs.len()).ok()?];
    out.extend_from_slice(authority.to_be_bytes().get(2..)?);
    subs.iter()
        .for_each(|sub| out.extend_from_slice(&sub.to_le_bytes()));
    Some(out)
}

/// The words of the bits that are set in an account's control flags, lowest bit first. Bits
/// without a word are left out.
pub fn account_flags(flags: i64) -> Vec<&'static str> {
    const WORDS: [(i64, &str); 14] = [
        (0x2, "disabled"),
        (0x8, "home directory required"),
        (0x10, "locked out"),
        (0x20, "password not required"),
        (0x40, "password cannot change"),
        (0x200, "normal account"),
        (0x800, "interdomain trust"),
        (0x1000, "workstation"),
        (0x2000, "server"),
        (0x1_0000, "password never expires"),
        (0x4_0000, "smart card required"),
        (0x8_0000, "trusted for delegation"),
        (0x10_0000, "not delegated"),
        (0x80_0000, "password expired"),
    ];
    WORDS
        .iter()
        .filter(|(bit, _)| flags & bit != 0)
        .map(|(_, word)| *word)
        .collect()
}

/// A binary objectGUID as text. Its first three fields are stored with the least significant byte
/// first.
pub fn object_guid(bytes: &[u8]) -> Option<String> {
    let bytes = bytes.try_into().ok()?;
    Some(uuid::Uuid::from_bytes_le(bytes).to_string())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn generalized_times_are_read() {
        let at = |text| generalized_time(text).map(|t| t.to_string());
        assert_eq!(
            at("20261123073646Z").as_deref(),
            Some("2026-11-23T07:36:46Z")
        );
        assert_eq!(
            at("20261123073646.5Z").as_deref(),
            Some("2026-11-23T07:36:46.5Z")
        );
        assert_eq!(
            at("202611230736+0200").as_deref(),
            Some("2026-11-23T05:36:00Z")
        );
        assert_eq!(at("20261323073646Z"), None);
        assert_eq!(at("yesterday"), None);
    }

    #[test]
    fn file_times_go_there_and_back_and_never_is_no_instant() {
        let at = file_time("134084566060000000").expect("in range");
        assert_eq!(at.to_string(), "2025-11-24T11:16:46Z");
        assert_eq!(to_file_time(at), 134_084_566_060_000_000);
        for never in ["0", "9223372036854775807", "-1", "soon"] {
            assert_eq!(file_time(never), None, "{never}");
        }
    }

    #[test]
    fn a_sid_goes_there_and_back() {
        let text = "S-1-5-21-3623811015-3361044348-30300820-1013";
        let octets = sid_octets(text).expect("a SID");
        assert_eq!(object_sid(&octets).as_deref(), Some(text));
        assert_eq!(object_sid(&octets[..octets.len() - 1]), None);
        assert_eq!(object_sid(&[1]), None);
        assert_eq!(sid_octets("S-1-x"), None);
    }

    #[test]
    fn control_flags_have_words() {
        assert_eq!(
            account_flags(66050),
            ["disabled", "normal account", "password never expires"]
        );
    }

    #[test]
    fn a_guid_reads_as_its_owner_prints_it() {
        let bytes: Vec<u8> = (0..16).collect();
        assert_eq!(
            object_guid(&bytes).as_deref(),
            Some("03020100-0504-0706-0809-0a0b0c0d0e0f")
        );
        assert_eq!(object_guid(&bytes[1..]), None);
    }
}
