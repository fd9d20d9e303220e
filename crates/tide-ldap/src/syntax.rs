//! Values in LDAP's own writing: instants and unique ids.

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
        let minutes: i32 = if zone.len() > 3 { zone.get(3..5)?.parse().ok()? } else { 0 };
        (body, sign * (hours * 3600 + minutes * 60))
    };
    let (body, fraction) = match body.find(['.', ',']) {
        Some(at) => (&body[..at], &body[at + 1..]),
        None => (body, ""),
    };
    if !body.chars().all(|c| c.is_ascii_digit()) || !matches!(body.len(), 10 | 12 | 14) {
        return None;
    }
    let number = |from: usize, to: usize| -> Option<i16> { body.get(from..to).unwrap_or("0").parse().ok() };
    let (second, nanos) = if body.len() == 14 && !fraction.is_empty() {
        let digits: String = fraction.chars().chain("000000000".chars()).take(9).collect();
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

/// A binary objectGUID as readable text: its first three fields are stored little end first.
pub fn object_guid(bytes: &[u8]) -> Option<String> {
    let b: &[u8; 16] = bytes.try_into().ok()?;
    Some(format!(
        "{:02x}{:02x}{:02x}{:02x}-{:02x}{:02x}-{:02x}{:02x}-{:02x}{:02x}-{:02x}{:02x}{:02x}{:02x}{:02x}{:02x}",
        b[3], b[2], b[1], b[0], b[5], b[4], b[7], b[6], b[8], b[9], b[10], b[11], b[12], b[13], b[14], b[15]
    ))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn generalized_times_are_read() {
        let at = |text| generalized_time(text).map(|t| t.to_string());
        assert_eq!(at("20261123073646Z").as_deref(), Some("2026-11-23T07:36:46Z"));
        assert_eq!(at("20261123073646.5Z").as_deref(), Some("2026-11-23T07:36:46.5Z"));
        assert_eq!(at("202611230736+0200").as_deref(), Some("2026-11-23T05:36:00Z"));
        assert_eq!(at("20261323073646Z"), None);
        assert_eq!(at("yesterday"), None);
    }

    #[test]
    fn a_guid_reads_as_its_owner_prints_it() {
        let bytes: Vec<u8> = (0..16).collect();
        assert_eq!(object_guid(&bytes).as_deref(), Some("03020100-0504-0706-0809-0a0b0c0d0e0f"));
        assert_eq!(object_guid(&bytes[1..]), None);
    }
}
