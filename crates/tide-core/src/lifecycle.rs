//! The lifecycle of a person, from dates, conditions and the records of sources: `lifecycle.toml`.
//!
//! Nothing of it is stored but when a stage began: what is due next follows from the same dates, so
//! that no timer can be lost, and none can fire twice when a clock is set back.

use crate::expr::{EvalInputs, Program};
use crate::model::{Account, Departure, Stage};
use crate::reasons::{LifecycleDate, Reason, ReasonKind};
use crate::rules::RuleSet;
use crate::rules::lifecycle::{LifecycleDays, LifecycleRules};
use crate::states::ObjectType;
use crate::value::{Attributes, Value};
use jiff::civil::Date;
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan, Zoned};

/// The inputs of the lifecycle.
#[derive(Debug, Clone, Copy)]
pub struct LifecycleFacts<'a> {
    /// The values.
    pub attributes: &'a Attributes,
    /// The departure that an operator scheduled.
    pub departure: Option<&'a Departure>,
    /// When they were last claimed back, though they used nothing.
    pub reactivated: Option<Timestamp>,
    /// Why no source holds them, and how that is known, as far as it is an absence.
    pub absence: Option<(&'a Reason, Option<Absence>)>,
    /// They had left by the decision before: an absence that begins now does not bring them back
    /// for its days of grace.
    pub had_left: bool,
}

/// Days that an unconfirmed absence must last before it counts, by default.
pub const UNCONFIRMED_DAYS: u32 = 1;

/// How the absence of a person was found.
///
/// An absence that a system confirmed counts at once, where the rules do not say otherwise. Any
/// other, which a complete reading found and a permission, a lagging replica or a file that was cut
/// could explain as well, counts after [`UNCONFIRMED_DAYS`].
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Absence {
    /// Since when, by the last system that confirmed it.
    pub confirmed: Option<Timestamp>,
    /// Since when, by the last system that only did not show them.
    pub unconfirmed: Option<Timestamp>,
    /// Another source still has an account of the person, out of its scope.
    pub out_of_scope: bool,
}

impl Absence {
    /// From when on it counts.
    pub fn counts_from(&self, days: Option<u32>, zone: &TimeZone) -> Option<Timestamp> {
        let after = |since: Option<Timestamp>, unsaid: u32| {
            since.map(|since| days_later(since, days.unwrap_or(unsaid), zone))
        };
        after(self.confirmed, 0).max(after(self.unconfirmed, UNCONFIRMED_DAYS))
    }
}

codes! {
    /// By what a person left.
    pub enum LeftBy {
        /// The last day passed.
        Date,
        /// An operator scheduled or started the departure.
        Operator,
        /// No source contains the person any more.
        Absence,
        /// The person used nothing for too long.
        Unused,
        /// The condition of leavers holds.
        Condition,
        /// The person is out of the scope of every source.
        Scope,
    }
}

codes! {
    /// A transition of the lifecycle.
    pub enum LifecycleTransition {
        /// Accounts are created.
        Ready,
        /// They are here.
        Starts,
        /// They are on the way out.
        Leaving,
        /// They have left.
        Leaves,
    }
}

impl LifecycleTransition {
    /// The label of the transition.
    pub fn label(self) -> &'static str {
        match self {
            LifecycleTransition::Ready => "prestart",
            LifecycleTransition::Starts => "starts",
            LifecycleTransition::Leaving => "notice period starts",
            LifecycleTransition::Leaves => "leaves",
        }
    }
}

/// The lifecycle of a person at a moment.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LifecycleState {
    /// Their stage.
    pub stage: Stage,
    /// Why.
    pub reason: Reason,
    /// Since when, if dates define it.
    pub since: Option<Timestamp>,
    /// By what a leaver left.
    pub left_by: Option<LeftBy>,
    /// When an absence that is waited for will count.
    pub absence_counts_from: Option<Timestamp>,
    /// Whether accounts are created already.
    pub ready: bool,
    /// All transitions by dates, past and future, in order.
    pub moments: Vec<(Timestamp, LifecycleTransition)>,
}

impl LifecycleState {
    /// The moment of the next transition.
    pub fn next_transition(&self, now: Timestamp) -> Option<Timestamp> {
        self.moments.iter().map(|(at, _)| *at).find(|at| *at > now)
    }
}

/// The same time of day some days later. A day that a clock change makes longer or shorter counts
/// as one day.
pub(crate) fn days_later(at: Timestamp, count: u32, zone: &TimeZone) -> Timestamp {
    at.to_zoned(zone.clone())
        .saturating_add(i64::from(count).days())
        .timestamp()
}

fn days_earlier(at: Timestamp, count: u32, zone: &TimeZone) -> Timestamp {
    at.to_zoned(zone.clone())
        .saturating_sub(i64::from(count).days())
        .timestamp()
}

/// The moment that a date means: its first minute, or the one after its last. A date that a clock
/// change begins an hour late begins with its first minute that there is.
fn parse_moment(value: &Value, zone: &TimeZone, end: bool) -> Result<Timestamp, String> {
    let text = match value {
        Value::Time(at) => return Ok(*at),
        other => other.to_string(),
    };
    let text = text.trim();
    if let Ok(at) = text.parse::<Timestamp>() {
        return Ok(at);
    }
    // A time of day without a zone is none that could be acted on: its date counts.
    let date: Date = text
        .get(..10)
        .unwrap_or(text)
        .parse()
        .map_err(|_| format!("`{text}` is not a date: write 2026-12-31"))?;
    let date = if end {
        date.tomorrow()
            .map_err(|_| format!("there is no day after {date}"))?
    } else {
        date
    };
    Ok(date
        .to_zoned(zone.clone())
        .map_err(|error| format!("{date}: {error}"))?
        .timestamp())
}

/// The moment after a last day.
///
/// # Errors
///
/// When the calendar ends before.
pub fn end_of_day(day: Date, zone: &TimeZone) -> Result<Timestamp, String> {
    parse_moment(&Value::text(day.to_string()), zone, true)
}

/// How the absence in all sources was found, by the linked accounts that supply nothing; `None` if
/// none is absent.
pub fn find_absence<'a>(
    rules: &RuleSet,
    kind: ObjectType,
    accounts: impl Iterator<Item = &'a Account>,
) -> Option<Absence> {
    let feeds = |account: &&Account| {
        rules
            .of(&account.system, kind)
            .is_some_and(crate::rules::TypeRules::is_source)
    };
    let mut absence = Absence::default();
    for account in accounts.filter(feeds) {
        match account.absent_since {
            None => absence.out_of_scope = true,
            Some(since) if account.absence_confirmed => {
                absence.confirmed = absence.confirmed.max(Some(since))
            }
            Some(since) => absence.unconfirmed = absence.unconfirmed.max(Some(since)),
        }
    }
    (absence.confirmed.is_some() || absence.unconfirmed.is_some()).then_some(absence)
}

/// A moment for people, in the zone in which its date was meant.
/// How a person's time ends.
struct PersonEnd {
    at: Timestamp,
    why: ReasonKind,
    /// From when on the person is `leaving`; none where the end is not known beforehand.
    notice: Option<Timestamp>,
    /// By what, as in [`LifecycleState::left_by`].
    by: LeftBy,
}

impl LifecycleRules {
    fn moment_of(
        &self,
        program: Option<&Program>,
        facts: &LifecycleFacts<'_>,
        end: bool,
    ) -> Result<Option<Timestamp>, Reason> {
        let Some(program) = program else {
            return Ok(None);
        };
        let date = if end {
            LifecycleDate::LastDay
        } else {
            LifecycleDate::FirstDay
        };
        let values = program
            .run(&EvalInputs {
                account: None,
                identity: Some(facts.attributes),
            })
            .map_err(|error| {
                Reason::by(
                    ReasonKind::DateFailed {
                        date,
                        error: error.to_string(),
                        expression: program.source().to_owned(),
                    },
                    &self.place,
                )
            })?;
        let Some(value) = values.first().filter(|value| !value.is_blank()) else {
            return Ok(None);
        };
        parse_moment(value, &self.zone, end)
            .map(Some)
            .map_err(|fault| Reason::by(ReasonKind::DateInvalid { date, fault }, &self.place))
    }

    fn holds(&self, program: Option<&Program>, facts: &LifecycleFacts<'_>) -> Result<bool, Reason> {
        let Some(program) = program else {
            return Ok(false);
        };
        program
            .holds(&EvalInputs {
                account: None,
                identity: Some(facts.attributes),
            })
            .map_err(|error| {
                Reason::by(
                    ReasonKind::StageFailed {
                        error: error.to_string(),
                        expression: program.source().to_owned(),
                    },
                    &self.place,
                )
            })
    }

    /// When a person left by inactivity, if that is configured. A person without any use has not
    /// left by it.
    #[allow(clippy::type_complexity)]
    fn inactivity_end(&self, facts: &LifecycleFacts<'_>) -> Result<Option<PersonEnd>, Reason> {
        let (Some(program), true) = (&self.used, self.inactive_after_days > 0) else {
            return Ok(None);
        };
        let values = program
            .run(&EvalInputs {
                account: None,
                identity: Some(facts.attributes),
            })
            .map_err(|error| {
                Reason::by(
                    ReasonKind::DateFailed {
                        date: LifecycleDate::LastUse,
                        error: error.to_string(),
                        expression: program.source().to_owned(),
                    },
                    &self.place,
                )
            })?;
        let mut last = None;
        for value in values.iter().filter(|value| !value.is_blank()) {
            let at = parse_moment(value, &self.zone, false).map_err(|fault| {
                let date = LifecycleDate::LastUse;
                Reason::by(ReasonKind::DateInvalid { date, fault }, &self.place)
            })?;
            last = last.max(Some(at));
        }
        let Some(used) = last else { return Ok(None) };
        // After a reactivation, the period starts again.
        let from = used.max(facts.reactivated.unwrap_or(used));
        let why = ReasonKind::Unused {
            since: self.in_zone(used),
        };
        Ok(Some(PersonEnd {
            at: days_later(from, self.inactive_after_days, &self.zone),
            why,
            notice: None,
            by: LeftBy::Unused,
        }))
    }

    /// The periods that apply to a person.
    fn days_of(&self, facts: &LifecycleFacts<'_>) -> Result<LifecycleDays, Reason> {
        for exception in &self.exceptions {
            if self.holds(Some(&exception.when), facts)? {
                let [ready, notice, grace, absence_grace] = exception.days;
                return Ok(LifecycleDays {
                    ready: ready.unwrap_or(self.days.ready),
                    notice: notice.unwrap_or(self.days.notice),
                    grace: grace.unwrap_or(self.days.grace),
                    absence_grace: absence_grace.or(self.days.absence_grace),
                });
            }
        }
        Ok(self.days)
    }

    /// The stage of a person at a moment.
    ///
    /// # Errors
    ///
    /// Says why it cannot be told: a date that is none, an expression that fails. Nothing is done
    /// for such a person.
    pub fn lifecycle_state(
        &self,
        facts: &LifecycleFacts<'_>,
        now: Timestamp,
    ) -> Result<LifecycleState, Reason> {
        let days = self.days_of(facts)?;
        let starts = self.moment_of(self.starts.as_ref(), facts, false)?;
        let ends = self.moment_of(self.ends.as_ref(), facts, true)?;
        self.check_dates(starts, ends)?;
        // An absence that does not count yet delays a departure, but not for a person who had left
        // already. A person out of every scope has left by that.
        let counts = facts
            .absence
            .and_then(|(_, absence)| absence?.counts_from(days.absence_grace, &self.zone));
        let waits = counts.is_some_and(|at| at > now) && !facts.had_left;
        let out = facts.absence.filter(|(_, absence)| {
            !waits && absence.is_none_or(|absence| absence.out_of_scope || counts > Some(now))
        });
        let absent = facts
            .absence
            .filter(|_| out.is_none())
            .and_then(|(reason, _)| Some((counts?, (*reason.kind).clone())));
        let end = self.earliest_end(facts, days, ends, absent)?;
        let moments = self.transitions(days, starts, end.as_ref());
        let state = |stage: Stage, reason: ReasonKind, since: Option<Timestamp>| LifecycleState {
            stage,
            reason: Reason::by(reason, &self.place),
            since,
            left_by: None,
            absence_counts_from: counts.filter(|_| waits),
            ready: true,
            moments: moments.clone(),
        };
        if let Some(end) = end.as_ref().filter(|end| end.at <= now) {
            let reason = ReasonKind::LeftOn {
                at: self.in_zone(end.at),
                why: Box::new(end.why.clone()),
            };
            return Ok(LifecycleState {
                left_by: Some(end.by),
                ..state(Stage::Left, reason, Some(end.at))
            });
        }
        if let Some((reason, by)) = self.left_without_date(facts, out)? {
            return Ok(LifecycleState {
                reason,
                left_by: Some(by),
                ..state(Stage::Left, ReasonKind::Active, None)
            });
        }
        if let Some(starts) = starts.filter(|starts| *starts > now) {
            let from = days_earlier(starts, days.ready, &self.zone);
            let ready = from <= now;
            let reason = self.start_reason(starts, from, ready);
            return Ok(LifecycleState {
                ready,
                ..state(Stage::Expected, reason, None)
            });
        }
        if self.holds(self.away.as_ref(), facts)? {
            let condition = self.away.as_ref().map_or("", |program| program.source());
            let condition = condition.to_owned();
            return Ok(state(Stage::Away, ReasonKind::Away { condition }, None));
        }
        let notice = end.as_ref().and_then(|end| Some((end, end.notice?)));
        if let Some((end, notice)) = notice.filter(|(_, notice)| *notice <= now) {
            let at = self.in_zone(end.at);
            return Ok(state(
                Stage::Leaving,
                ReasonKind::LeavesOn { at },
                Some(notice),
            ));
        }
        let reason = starts.map_or(ReasonKind::Active, |at| ReasonKind::ActiveSince {
            since: self.in_zone(at),
        });
        Ok(state(Stage::Active, reason, starts))
    }

    /// # Errors
    /// The last day is before the first.
    fn check_dates(
        &self,
        starts: Option<Timestamp>,
        ends: Option<Timestamp>,
    ) -> Result<(), Reason> {
        match (starts, ends) {
            (Some(starts), Some(ends)) if ends <= starts => {
                let first = self.in_zone(starts);
                let kind = ReasonKind::EndsBeforeStart { first };
                Err(Reason::by(kind, &self.place))
            }
            _ => Ok(()),
        }
    }

    /// The earliest end of a person: by the last day, a departure, an absence, or a lack of use.
    fn earliest_end(
        &self,
        facts: &LifecycleFacts<'_>,
        days: LifecycleDays,
        ends: Option<Timestamp>,
        absent: Option<(Timestamp, ReasonKind)>,
    ) -> Result<Option<PersonEnd>, Reason> {
        let dated = ends.map(|ends| PersonEnd {
            at: days_later(ends, days.grace, &self.zone),
            why: ReasonKind::LastDayPassed,
            notice: Some(days_earlier(ends, days.notice, &self.zone)),
            by: LeftBy::Date,
        });
        let departure = facts.departure.map(|departure| PersonEnd {
            at: departure.at,
            why: ReasonKind::Departure {
                principal: departure.principal.clone(),
                comment: departure.comment.clone(),
            },
            notice: Some(days_earlier(departure.at, days.notice, &self.zone)),
            by: LeftBy::Operator,
        });
        let absent = absent.map(|(at, why)| PersonEnd {
            at,
            why,
            notice: None,
            by: LeftBy::Absence,
        });
        let unused = self.inactivity_end(facts)?;
        let ends = [dated, departure, absent, unused].into_iter().flatten();
        Ok(ends.min_by_key(|end| end.at))
    }

    /// Why a person has left without a date, and by what: by the condition, or by an absence from all
    /// sources or scopes.
    fn left_without_date(
        &self,
        facts: &LifecycleFacts<'_>,
        out: Option<(&Reason, Option<Absence>)>,
    ) -> Result<Option<(Reason, LeftBy)>, Reason> {
        if self.holds(self.left.as_ref(), facts)? {
            let source = self.left.as_ref().map_or("", |program| program.source());
            let condition = source.to_owned();
            let reason = Reason::by(ReasonKind::LeftByCondition { condition }, &self.place);
            return Ok(Some((reason, LeftBy::Condition)));
        }
        Ok(out.map(|(reason, absence)| {
            let is_absence = absence.is_some_and(|absence| !absence.out_of_scope);
            (
                reason.clone(),
                if is_absence {
                    LeftBy::Absence
                } else {
                    LeftBy::Scope
                },
            )
        }))
    }

    /// All transitions of a person, in the order of their moments.
    fn transitions(
        &self,
        days: LifecycleDays,
        starts: Option<Timestamp>,
        end: Option<&PersonEnd>,
    ) -> Vec<(Timestamp, LifecycleTransition)> {
        let mut moments: Vec<(Timestamp, LifecycleTransition)> = Vec::new();
        moments.extend(starts.filter(|_| days.ready > 0).map(|at| {
            (
                days_earlier(at, days.ready, &self.zone),
                LifecycleTransition::Ready,
            )
        }));
        moments.extend(starts.map(|at| (at, LifecycleTransition::Starts)));
        if let Some(end) = end {
            let notice = end.notice.filter(|notice| *notice < end.at);
            moments.extend(notice.map(|notice| (notice, LifecycleTransition::Leaving)));
            moments.push((end.at, LifecycleTransition::Leaves));
        }
        moments.sort();
        moments
    }

    /// When a person starts, and from when accounts are created.
    fn start_reason(&self, starts: Timestamp, from: Timestamp, ready: bool) -> ReasonKind {
        let at = self.in_zone(starts);
        if ready {
            ReasonKind::StartsSoon { at }
        } else {
            let accounts_from = self.in_zone(from);
            ReasonKind::Starts { at, accounts_from }
        }
    }

    /// An instant in the zone of the rules.
    fn in_zone(&self, at: Timestamp) -> Zoned {
        at.to_zoned(self.zone.clone())
    }
}
