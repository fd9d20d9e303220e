//! `eager-tide systems schedule`: how a system is followed, and when nothing is written to it.

use super::{Client, Reach, output, segment};
use anyhow::{Context as _, bail};
use reqwest::Method;
use std::process::ExitCode;
use tide_api::{QuietWindow, System};
use tide_core::states::WatchMode;

/// When a system is read and written by itself.
#[derive(clap::Args)]
pub struct Timing {
    /// Watch the system once it is armed, and run on each change
    #[arg(long, conflicts_with = "no_follow")]
    follow: bool,
    /// Stop watching
    #[arg(long)]
    no_follow: bool,
    /// Watch mode: content_sync, change_number, modified, last_modified, full; `best` selects it
    /// automatically
    #[arg(long, value_name = "WAY")]
    way: Option<String>,
    /// Poll interval: 30s, 5m, 2h
    #[arg(long, value_name = "TIME", value_parser = seconds)]
    every: Option<u32>,
    /// Interval of full reads: 30m, 6h, 1d
    #[arg(long, value_name = "TIME", value_parser = seconds)]
    full_every: Option<u32>,
    /// Write blackout in the given time zone: `22:00-06:00` or `sat,sun 00:00-23:59`; can be
    /// repeated
    #[arg(long, value_name = "WINDOW", requires = "zone")]
    no_writes: Vec<String>,
    /// Time zone of the blackouts: Europe/Tallinn
    #[arg(long)]
    zone: Option<String>,
    /// Remove all write blackouts
    #[arg(long, conflicts_with = "no_writes")]
    any_time: bool,
}

/// A length of time, in seconds.
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
                "`{unit}` is no unit of time: write 30s, 5m, 2h or 1d"
            ));
        }
    };
    number
        .parse::<u32>()
        .ok()
        .and_then(|n| n.checked_mul(times))
        .ok_or_else(|| format!("`{text}` is no length of time: write 30s, 5m, 2h or 1d"))
}

/// A window as it is written on the command line.
fn window(text: &str, zone: &str) -> anyhow::Result<QuietWindow> {
    let (days, times) = text.rsplit_once(' ').unwrap_or(("", text));
    let Some((from, to)) = times.split_once('-') else {
        bail!("`{text}` is no window: write 22:00-06:00, or sat,sun 00:00-12:00")
    };
    let days = days
        .split(',')
        .map(str::trim)
        .filter(|day| !day.is_empty())
        .map(str::to_owned)
        .collect();
    Ok(QuietWindow {
        days,
        from: from.trim().to_owned(),
        to: to.trim().to_owned(),
        zone: zone.to_owned(),
    })
}

/// How it stands with following a system, as lines.
pub fn timing(system: &System) {
    let line = |label: &str, text: &str| output::line(&format!("{label:<22} {text}"));
    if !system.schedule.follow {
        line(
            "Followed",
            &format!(
                "no: `eager-tide systems schedule {} --follow` has it work by itself",
                system.name
            ),
        );
    } else if !system.armed {
        line(
            "Followed",
            &format!("once it is armed: `eager-tide systems arm {}`", system.name),
        );
    } else if system.paused {
        line("Followed", "not while it is paused");
    } else if system.following.is_empty() {
        line("Followed", "it begins");
    }
    for one in &system.following {
        let way = one.words.clone().unwrap_or_default();
        line(
            &format!("Followed ({})", one.object),
            &format!("{}: {way}", one.state),
        );
        if let Some(error) = &one.error {
            line("  broke off", error);
        }
        let news = one.news.as_ref().map_or_else(
            || "none yet".to_owned(),
            |at| format!("{} ({} since the start)", output::time(at), one.changed),
        );
        line("  last news", &news);
        if let Some(next) = &one.next {
            line("  asked again", &output::time(next));
        }
        if let Some(full) = &one.full {
            line("  read whole", &output::time(full));
        }
    }
    for one in &system.known {
        one.hurry
            .iter()
            .for_each(|text| line(&format!("Too often ({})", one.object), text));
    }
    if let Some(now) = &system.quiet_now {
        line("Nothing is written", now);
    } else if let Some(next) = &system.next_quiet {
        line(
            "Nothing is written",
            &format!("from {} on", output::time(next)),
        );
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
    if asked.follow || asked.no_follow {
        new.follow = asked.follow;
    }
    if let Some(way) = asked.way {
        new.way = match way.as_str() {
            "best" => None,
            word => Some(
                WatchMode::parse(word)
                    .with_context(|| format!("`{word}` is no way of watching a system"))?,
            ),
        };
    }
    new.every_seconds = asked.every.or(new.every_seconds);
    new.full_every_seconds = asked.full_every.or(new.full_every_seconds);
    if asked.any_time {
        new.quiet.clear();
    }
    if let Some(zone) = asked.zone {
        new.quiet = asked
            .no_writes
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
