//! `eager-tide systems schedule`: watching, intervals and write blackouts.

use super::{Client, Reach, output, segment};
use anyhow::{Context as _, bail};
use reqwest::Method;
use std::process::ExitCode;
use tide_api::{System, WriteBlackout};
use tide_core::states::WatchMode;

/// The sync schedule of a system.
#[derive(clap::Args)]
pub struct Timing {
    /// Automatic sync: watch the system once it is armed, and process each change
    #[arg(long, conflicts_with = "no_watch")]
    watch: bool,
    /// Stop watching
    #[arg(long)]
    no_watch: bool,
    /// Watch mode: content_sync, change_number, modified, last_modified, full; `best` selects it
    /// automatically
    #[arg(long, value_name = "MODE")]
    mode: Option<String>,
    /// Poll interval: 30s, 5m, 2h
    #[arg(long, value_name = "TIME", value_parser = seconds)]
    poll_interval: Option<u32>,
    /// Interval of full reads: 30m, 6h, 1d
    #[arg(long, value_name = "TIME", value_parser = seconds)]
    full_read_interval: Option<u32>,
    /// Write blackout in the given time zone: `22:00-06:00` or `sat,sun 00:00-23:59`; can be
    /// repeated
    #[arg(long, value_name = "WINDOW", requires = "zone")]
    write_blackout: Vec<String>,
    /// Time zone of the blackouts: Europe/Tallinn
    #[arg(long)]
    zone: Option<String>,
    /// Remove all write blackouts
    #[arg(long, conflicts_with = "write_blackout")]
    clear_blackouts: bool,
}

/// Parses a duration, in seconds.
fn seconds(text: &str) -> Result<u32, String> {
    let at = text
        .find(|c: char| !c.is_ascii_digit())
        .unwrap_or(text.len());
    let (number, unit) = text.split_at(at);
    let times = match unit {
        "s" | "" => 1,
        "m" => 60,
        "h" => 3600,
        "d" => 24 * 3600,
        _ => {
            return Err(format!(
                "`{unit}` is not a unit of time: write 30s, 5m, 2h or 1d"
            ));
        }
    };
    number
        .parse::<u32>()
        .ok()
        .and_then(|n| n.checked_mul(times))
        .ok_or_else(|| format!("`{text}` is not a duration: write 30s, 5m, 2h or 1d"))
}

/// Parses a blackout window.
fn window(text: &str, zone: &str) -> anyhow::Result<WriteBlackout> {
    let (days, times) = text.rsplit_once(' ').unwrap_or(("", text));
    let Some((from, to)) = times.split_once('-') else {
        bail!("`{text}` is not a window: write 22:00-06:00, or sat,sun 00:00-12:00")
    };
    let days = days
        .split(',')
        .map(str::trim)
        .filter(|day| !day.is_empty())
        .map(str::to_owned)
        .collect();
    Ok(WriteBlackout {
        days,
        from: from.trim().to_owned(),
        to: to.trim().to_owned(),
        zone: zone.to_owned(),
    })
}

/// Prints the status of the sync schedule.
pub fn timing(system: &System) {
    let line = |label: &str, text: &str| output::line(&format!("{label:<22} {text}"));
    if !system.schedule.watch {
        line(
            "Automatic sync",
            &format!(
                "off: `eager-tide systems schedule {} --watch` turns it on",
                system.name
            ),
        );
    } else if !system.armed {
        line(
            "Automatic sync",
            &format!(
                "starts when the system is armed: `eager-tide systems arm {}`",
                system.name
            ),
        );
    } else if system.paused {
        line("Automatic sync", "paused");
    } else if system.watchers.is_empty() {
        line("Automatic sync", "starting");
    }
    for one in &system.watchers {
        let mode = one.watch_mode_label.clone().unwrap_or_default();
        line(
            &format!("Watching ({})", one.object),
            &format!("{}: {mode}", one.state),
        );
        if let Some(error) = &one.error {
            line("  failed", error);
        }
        let last = one.last_change_at.as_ref().map_or_else(
            || "none yet".to_owned(),
            |at| {
                format!(
                    "{} ({} since the service started)",
                    output::time(at),
                    one.changed_count
                )
            },
        );
        line("  last change", &last);
        if let Some(next) = &one.next_poll_at {
            line("  next poll", &output::time(next));
        }
        if let Some(full) = &one.next_full_read_at {
            line("  next full read", &output::time(full));
        }
    }
    for one in &system.freshness {
        one.schedule_warnings
            .iter()
            .for_each(|text| line(&format!("Schedule warning ({})", one.object), text));
    }
    if let Some(now) = &system.blackout_until {
        line("Write blackout", now);
    } else if let Some(next) = &system.next_blackout {
        line("Next write blackout", &output::time(next));
    }
}

pub async fn schedule(
    client: &Client,
    reach: &Reach,
    name: &str,
    asked: Timing,
) -> anyhow::Result<ExitCode> {
    let at = format!("systems/{}", segment(name));
    let system: System = client.get(&at, &[]).await?;
    let mut new = system.schedule.clone();
    if asked.watch || asked.no_watch {
        new.watch = asked.watch;
    }
    if let Some(mode) = asked.mode {
        new.mode = match mode.as_str() {
            "best" => None,
            word => Some(
                WatchMode::parse(word).with_context(|| format!("`{word}` is not a watch mode"))?,
            ),
        };
    }
    new.poll_seconds = asked.poll_interval.or(new.poll_seconds);
    new.full_read_seconds = asked.full_read_interval.or(new.full_read_seconds);
    if asked.clear_blackouts {
        new.write_blackouts.clear();
    }
    if let Some(zone) = asked.zone {
        new.write_blackouts = asked
            .write_blackout
            .iter()
            .map(|text| window(text, &zone))
            .collect::<anyhow::Result<_>>()?;
    }
    let system = if new == system.schedule {
        system
    } else {
        client
            .send(Method::PUT, &format!("{at}/schedule"), &new)
            .await?
    };
    if reach.json() {
        output::json(&system)?
    } else {
        timing(&system)
    }
    Ok(ExitCode::SUCCESS)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn times_are_read_with_their_units_and_what_is_none_says_how_to_write_one() {
        assert_eq!(
            [
                seconds("45"),
                seconds("30s"),
                seconds("5m"),
                seconds("2h"),
                seconds("1d")
            ]
            .map(Result::ok),
            [45, 30, 300, 7200, 86_400].map(Some)
        );
        for wrong in ["", "h", "5w", "-3m", "99999999999s", "4294967295d"] {
            let said = seconds(wrong).expect_err(wrong);
            assert!(said.contains("write 30s, 5m, 2h or 1d"), "{wrong}: {said}");
        }
    }

    #[test]
    fn a_window_has_days_if_it_names_some() {
        let read = |text: &str| window(text, "Europe/Tallinn").expect("a window");
        let night = read("22:00-06:00");
        assert!(night.days.is_empty());
        assert_eq!(
            (night.from.as_str(), night.to.as_str(), night.zone.as_str()),
            ("22:00", "06:00", "Europe/Tallinn")
        );
        assert_eq!(read("sat, sun 00:00-23:59").days, ["sat", "sun"]);
        assert!(window("at night", "UTC").is_err());
        assert!(
            window("sat 00:00 - 23:59", "UTC").is_err(),
            "the last blank parts days from times"
        );
    }
}
