//! Freshness of the systems' data, reads that the rules need, and warnings about schedules.

use crate::connections::Schedule;
use crate::error::EngineError;
use crate::ingest::WatcherStatus;
use crate::overview::Overview;
use jiff::Timestamp;
use std::time::Duration;
use tide_core::ObjectType;
use tide_core::states::{ChangeSetKind, SystemKind, WatchMode, WatcherState};
use tide_store::WholeReading;

/// The freshness of one type of a system.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Freshness {
    /// The system.
    pub system: String,
    /// The type.
    pub object: ObjectType,
    /// The time of the data; `None` if it was never read.
    pub at: Option<Timestamp>,
    /// Every change is received, so the data is current.
    pub live: bool,
    /// What a read would supply.
    pub needs: Option<&'static str>,
    /// Warnings about its schedule.
    pub hurry: Vec<String>,
}

/// Formats a duration for people.
fn format_duration(time: Duration) -> String {
    match time.as_secs() {
        0..=1 if time.subsec_millis() > 0 => format!("{:.1} s", time.as_secs_f64()),
        seconds @ ..=119 => format!("{seconds} s"),
        seconds @ ..=7199 => format!("{} min", seconds / 60),
        seconds => format!("{} h", seconds / 3600),
    }
}

pub(crate) fn length(from: Timestamp, to: Timestamp) -> Duration {
    Duration::try_from(to.duration_since(from)).unwrap_or_default()
}

/// Warns about operations that take longer than their configured interval.
fn schedule_warnings(
    schedule: &Schedule,
    whole: Option<&WholeReading>,
    heard: Option<&WatcherStatus>,
    run: Option<Duration>,
) -> Vec<String> {
    let Some(way) = heard
        .and_then(|heard| heard.way)
        .filter(|way| !matches!(way, WatchMode::Arrival | WatchMode::Pushed))
    else {
        return Vec::new();
    };
    let mut all = Vec::new();
    let every = schedule.poll_interval();
    let full = match way {
        WatchMode::FullRead => every,
        _ => Duration::try_from(schedule.full_every(way)).unwrap_or_default(),
    };
    if let Some(took) = whole
        .map(|whole| length(whole.started, whole.ended))
        .filter(|took| *took > full)
    {
        all.push(format!(
            "a full read took {}, but is scheduled every {}: choose a longer interval",
            format_duration(took),
            format_duration(full)
        ));
    }
    // A system that sends its changes is not polled.
    if let Some(took) = heard
        .and_then(|heard| heard.asked)
        .map(|(_, took)| took)
        .filter(|took| *took > every)
    {
        all.push(format!(
            "a poll took {}, but is scheduled every {}: choose a longer interval",
            format_duration(took),
            format_duration(every)
        ));
    }
    if let Some(took) =
        run.filter(|took| *took > every && heard.is_some_and(|heard| heard.next.is_some()))
    {
        let (took, every) = (format_duration(took), format_duration(every));
        all.push(format!("the last run took {took}, but it is polled every {every}: changes in between wait for the next run"));
    }
    all
}

impl Overview {
    /// The freshness of all types that the rules use.
    pub async fn list_freshness(&self) -> Result<Vec<Freshness>, EngineError> {
        let (whole, listening) = (
            self.context.store.whole_readings().await?,
            self.ingest.watchers(),
        );
        let last = self
            .context
            .store
            .last_change_set(ChangeSetKind::Run, false)
            .await?;
        let run = last.and_then(|set| {
            Some(length(
                set.started_at.parse().ok()?,
                set.ended_at?.parse().ok()?,
            ))
        });
        let mut all = Vec::new();
        for (row, types) in self.rules.to_read().await? {
            let schedule = Schedule::read(&row.schedule);
            for object in types {
                let whole = whole
                    .iter()
                    .find(|one| one.system == row.name && one.object == object);
                let heard = listening
                    .iter()
                    .find(|one| one.system == row.name && one.object == object);
                let pushed = row.kind == SystemKind::Push;
                let needs = match whole {
                    _ if pushed => None,
                    None => Some("was never read in full"),
                    Some(whole) if whole.outdated => Some("was read before a backup was restored"),
                    Some(_) => None,
                };
                let asked = heard.and_then(|heard| heard.asked).map(|(at, _)| at);
                let told = |way: WatchMode| way.is_sent() && way != WatchMode::Arrival;
                all.push(Freshness {
                    at: whole
                        .map(|whole| whole.started)
                        .max(asked)
                        .max(heard.and_then(|heard| heard.news)),
                    live: pushed
                        || heard.is_some_and(|heard| {
                            heard.state == WatcherState::Watching && heard.way.is_some_and(told)
                        }),
                    needs,
                    hurry: schedule_warnings(&schedule, whole, heard, run),
                    system: row.name.clone(),
                    object,
                });
            }
        }
        Ok(all)
    }

    /// Types that the published rules use and that were never read.
    pub async fn unread_types(&self) -> Result<Vec<Freshness>, EngineError> {
        let rules = match self.rules.published_rules().await {
            Ok(rules) => rules,
            Err(EngineError::NoRules | EngineError::Rules(_)) => return Ok(Vec::new()),
            Err(other) => return Err(other),
        };
        let asked =
            |one: &Freshness| one.needs.is_some() && rules.set.systems.contains_key(&one.system);
        Ok(self
            .list_freshness()
            .await?
            .into_iter()
            .filter(asked)
            .collect())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn operations_longer_than_their_interval_are_reported() {
        let at = |second: i64| Timestamp::from_second(second).expect("a moment");
        let whole = |took| WholeReading {
            system: "harbour".into(),
            object: ObjectType::Person,
            started: at(0),
            ended: at(took),
            outdated: false,
        };
        let heard = |way, took| WatcherStatus {
            system: "harbour".into(),
            object: ObjectType::Person,
            way: Some(way),
            state: WatcherState::Waiting,
            news: None,
            changed: 0,
            next: Some(at(9)),
            full: None,
            asked: Some((at(1), Duration::from_secs(took))),
            error: None,
        };
        let schedule = Schedule {
            poll_seconds: Some(60),
            full_read_seconds: Some(3600),
            ..Schedule::default()
        };
        let told = |took, way, asked, run| {
            schedule_warnings(&schedule, Some(&whole(took)), Some(&heard(way, asked)), run)
        };
        assert_eq!(
            told(900, WatchMode::Modified, 2, Some(Duration::from_secs(3))),
            Vec::<String>::new()
        );
        assert_eq!(
            told(7200, WatchMode::Modified, 2, None),
            ["a full read took 2 h, but is scheduled every 60 min: choose a longer interval"]
        );
        assert_eq!(
            told(900, WatchMode::Modified, 61, None),
            ["a poll took 61 s, but is scheduled every 60 s: choose a longer interval"]
        );
        let run = told(900, WatchMode::Modified, 2, Some(Duration::from_secs(400)));
        assert_eq!(
            run,
            [
                "the last run took 6 min, but it is polled every 60 s: changes in between wait for the next run"
            ]
        );
        // In the mode of full reads, the poll interval is the interval of full reads.
        assert_eq!(
            told(90, WatchMode::FullRead, 2, None),
            ["a full read took 90 s, but is scheduled every 60 s: choose a longer interval"]
        );
        assert_eq!(told(90, WatchMode::Pushed, 99, None), Vec::<String>::new());
        assert_eq!(
            schedule_warnings(&schedule, None, None, Some(Duration::from_secs(400))),
            Vec::<String>::new(),
            "it is not followed"
        );
    }
}
