//! The sync schedule of a system.

use crate::EngineError;
use jiff::civil::{Time, Weekday};
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan, Zoned};
use serde::{Deserialize, Serialize};
use tide_core::states::WatchMode;

/// The days of a week, as schedules write them.
const DAYS: [(&str, Weekday); 7] = [
    ("mon", Weekday::Monday),
    ("tue", Weekday::Tuesday),
    ("wed", Weekday::Wednesday),
    ("thu", Weekday::Thursday),
    ("fri", Weekday::Friday),
    ("sat", Weekday::Saturday),
    ("sun", Weekday::Sunday),
];
/// The default poll interval in seconds.
const EVERY: u32 = 60;
/// Maximum interval between two polls, in seconds: thirty days.
const LONGEST: u32 = 30 * 24 * 3600;

/// The sync schedule of a system.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct Schedule {
    /// Follow its changes, and run on each, once it is armed.
    pub watch: bool,
    /// In which way; the best that it offers, if none is named.
    pub mode: Option<WatchMode>,
    /// The poll interval in seconds, for modes that poll.
    pub poll_seconds: Option<u32>,
    /// How often everything is read, in seconds.
    pub full_read_seconds: Option<u32>,
    /// When nothing is written to it.
    pub write_blackouts: Vec<Blackout>,
}

/// A window in which nothing is written.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Blackout {
    /// The days on which it begins (`mon` to `sun`); none means every day.
    #[serde(default)]
    pub days: Vec<String>,
    /// When it begins, as hours and minutes on a clock there (`22:00`).
    pub from: String,
    /// When it ends; on the next day, if that is not later.
    pub to: String,
    /// The time zone of that clock (`Europe/Tallinn`).
    pub zone: String,
}

impl Blackout {
    fn parts(&self) -> Result<(Time, Time, TimeZone, Vec<Weekday>), String> {
        let time = |text: &str| -> Result<Time, String> {
            let (hours, minutes) = text
                .split_once(':')
                .ok_or_else(|| format!("`{text}` is not a time of day: write 22:00"))?;
            let number = |part: &str| {
                part.parse::<i8>()
                    .map_err(|_| format!("`{text}` is not a time of day: write 22:00"))
            };
            Time::new(number(hours)?, number(minutes)?, 0, 0)
                .map_err(|_| format!("`{text}` is not a time of day: write 22:00"))
        };
        let zone = TimeZone::get(&self.zone).map_err(|_| {
            format!(
                "`{}` is not a time zone: write Europe/Tallinn, or UTC",
                self.zone
            )
        })?;
        let day = |word: &String| {
            let found = DAYS
                .iter()
                .find(|(short, _)| word.eq_ignore_ascii_case(short))
                .map(|(_, day)| *day);
            found.ok_or_else(|| {
                format!("`{word}` is not a day: choose from mon, tue, wed, thu, fri, sat, sun")
            })
        };
        Ok((
            time(&self.from)?,
            time(&self.to)?,
            zone,
            self.days.iter().map(day).collect::<Result<_, _>>()?,
        ))
    }

    /// The windows that begin from the day before an instant, in order, for this number of days.
    fn windows(&self, now: Timestamp, days: i64) -> Vec<(Timestamp, Timestamp)> {
        let Ok((from, to, zone, only)) = self.parts() else {
            return Vec::new();
        };
        let today = Zoned::new(now, zone.clone()).date();
        (-1..days)
            .filter_map(|offset| {
                let day = today.checked_add(offset.days()).ok()?;
                if !only.is_empty() && !only.contains(&day.weekday()) {
                    return None;
                }
                let last = if to > from { day } else { day.tomorrow().ok()? };
                // An hour that a clock change skips begins after it; one that it repeats counts
                // from its first time.
                let at = |day: jiff::civil::Date, time: Time| {
                    zone.to_ambiguous_zoned(day.to_datetime(time))
                        .compatible()
                        .ok()
                };
                Some((at(day, from)?.timestamp(), at(last, to)?.timestamp()))
            })
            .collect()
    }

    /// The window in words.
    pub fn text(&self) -> String {
        let days = if self.days.is_empty() {
            "every day".to_owned()
        } else {
            self.days.join(", ")
        };
        format!("{days} {}–{} {}", self.from, self.to, self.zone)
    }
}

impl Schedule {
    /// Parses a stored schedule. One that cannot be parsed never starts anything.
    pub fn read(value: &serde_json::Value) -> Schedule {
        serde_json::from_value(value.clone()).unwrap_or_default()
    }

    /// Checks a schedule before it is stored.
    pub fn check(&self) -> Result<(), EngineError> {
        for window in &self.write_blackouts {
            window.parts().map_err(EngineError::Invalid)?;
            if window.from == window.to {
                return Err(EngineError::Invalid(
                    "a blackout cannot end when it begins: pause the system instead".to_owned(),
                ));
            }
        }
        for (what, seconds, least) in [
            ("polled", self.poll_seconds, 1),
            ("read in full", self.full_read_seconds, 60),
        ] {
            if let Some(seconds) = seconds.filter(|seconds| !(least..=LONGEST).contains(seconds)) {
                return Err(EngineError::Invalid(format!(
                    "a system cannot be {what} every {seconds} s: choose {least} to {LONGEST}"
                )));
            }
        }
        Ok(())
    }

    /// The poll interval, for modes that poll.
    pub fn poll_interval(&self) -> std::time::Duration {
        std::time::Duration::from_secs(self.poll_seconds.unwrap_or(EVERY).into())
    }

    /// The interval of full reads. Where the server does not report deletions, only a full read
    /// finds them.
    pub fn full_every(&self, way: WatchMode) -> jiff::SignedDuration {
        let usual = if way.reports_deletions() {
            24 * 3600
        } else {
            3600
        };
        jiff::SignedDuration::from_secs(self.full_read_seconds.unwrap_or(usual).into())
    }

    /// The window that an instant lies in: when it ends, and the window in words.
    pub fn quiet_at(&self, now: Timestamp) -> Option<(Timestamp, String)> {
        self.write_blackouts
            .iter()
            .flat_map(|window| {
                window
                    .windows(now, 1)
                    .into_iter()
                    .map(move |times| (times, window))
            })
            .filter(|((from, to), _)| *from <= now && now < *to)
            .map(|((_, to), window)| (to, window.text()))
            .max()
    }

    /// When the next window begins.
    pub fn next_quiet(&self, now: Timestamp) -> Option<Timestamp> {
        self.write_blackouts
            .iter()
            .flat_map(|window| window.windows(now, 9))
            .map(|(from, _)| from)
            .filter(|from| *from > now)
            .min()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn night(days: &[&str]) -> Schedule {
        let days = days.iter().map(|day| (*day).to_owned()).collect();
        let window = Blackout {
            days,
            from: "22:00".into(),
            to: "06:00".into(),
            zone: "Europe/Tallinn".into(),
        };
        Schedule {
            write_blackouts: vec![window],
            ..Schedule::default()
        }
    }

    fn at(text: &str) -> Timestamp {
        text.parse().expect("an instant")
    }

    #[test]
    fn a_window_crosses_midnight_in_its_own_zone() {
        let schedule = night(&[]);
        // Tallinn is two hours ahead in winter.
        assert_eq!(schedule.quiet_at(at("2026-11-23T19:59:59Z")), None);
        let (until, words) = schedule
            .quiet_at(at("2026-11-23T20:00:00Z"))
            .expect("inside");
        assert_eq!(
            (until, words.as_str()),
            (
                at("2026-11-24T04:00:00Z"),
                "every day 22:00–06:00 Europe/Tallinn"
            )
        );
        assert!(schedule.quiet_at(at("2026-11-24T03:59:59Z")).is_some());
        assert_eq!(schedule.quiet_at(at("2026-11-24T04:00:00Z")), None);
        assert_eq!(
            schedule.next_quiet(at("2026-11-24T04:00:00Z")),
            Some(at("2026-11-24T20:00:00Z"))
        );
        // In summer, three.
        assert!(schedule.quiet_at(at("2026-06-01T19:30:00Z")).is_some());
    }

    #[test]
    fn days_are_those_on_which_it_begins_and_a_skipped_hour_is_no_fault() {
        let schedule = night(&["sat"]);
        assert!(
            schedule.quiet_at(at("2026-11-28T21:00:00Z")).is_some(),
            "Saturday night"
        );
        assert!(
            schedule.quiet_at(at("2026-11-29T03:00:00Z")).is_some(),
            "and the morning after it"
        );
        assert_eq!(
            schedule.quiet_at(at("2026-11-29T21:00:00Z")),
            None,
            "Sunday night"
        );
        let skipped = Blackout {
            days: Vec::new(),
            from: "03:30".into(),
            to: "05:00".into(),
            zone: "Europe/Tallinn".into(),
        };
        let schedule = Schedule {
            write_blackouts: vec![skipped],
            ..Schedule::default()
        };
        // On 28 March 2027 the clock goes from 03:00 to 04:00.
        assert!(schedule.quiet_at(at("2027-03-28T01:45:00Z")).is_some());
        assert_eq!(schedule.quiet_at(at("2027-03-28T02:00:00Z")), None);
    }

    #[test]
    fn invalid_schedules_are_refused() {
        let wrong = |change: &dyn Fn(&mut Schedule)| {
            let mut schedule = night(&[]);
            change(&mut schedule);
            schedule.check().expect_err("refused").to_string()
        };
        assert!(
            wrong(&|s| s.write_blackouts[0].zone = "Mars/Base".into()).contains("not a time zone")
        );
        assert!(
            wrong(&|s| s.write_blackouts[0].from = "25:00".into()).contains("not a time of day")
        );
        assert!(
            wrong(&|s| s.write_blackouts[0].days = vec!["someday".into()]).contains("not a day")
        );
        assert!(wrong(&|s| s.poll_seconds = Some(0)).contains("every 0 s"));
        assert!(wrong(&|s| s.full_read_seconds = Some(5)).contains("read in full every 5 s"));
        assert_eq!(
            night(&["mon", "Sun"]).check().map_err(|e| e.to_string()),
            Ok(())
        );
    }
}
