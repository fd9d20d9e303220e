//! Lifecycles, the impact of departures, and how fast leavers lose access.

use crate::decide::identity_record;
use crate::error::EngineError;
use crate::views::Views;
use jiff::Timestamp;
use std::collections::HashSet;
use tide_core::decide::{Change, Decided, Verdict};
use tide_core::incremental::Records;
use tide_core::lifecycle::{LifecycleFacts, LifecycleState};
use tide_core::model::Departure;
use tide_core::states::{ChangeKind, NotificationEvent};
use tide_core::{Identity, Outcome, Reason, ReasonKind, RuleSet};
use tide_store::{LeaverRow, StoreError};

/// Maximum number of leavers that are examined.
const LEAVERS: i64 = 500;

/// The lifecycle of a person, as far as it is known.
#[derive(Debug, Clone)]
pub struct LifecycleStatus {
    /// The identity, as stored.
    pub identity: Identity,
    /// Its lifecycle stage and its dates, if the rules define them.
    pub life: Option<LifecycleState>,
    /// The departure that an operator scheduled.
    pub departure: Option<Departure>,
    /// The zone in which its dates are meant.
    pub zone: jiff::tz::TimeZone,
}

/// The impact of a departure.
#[derive(Debug, Clone)]
pub struct DepartureImpact {
    /// The changes, in the order in which they would be sent.
    pub changes: Vec<Change>,
    /// The status of each account: system and text.
    pub said: Vec<(String, Reason)>,
}

/// A way in that is not closed yet.
#[derive(Debug, Clone)]
pub struct OpenAccess {
    /// The system.
    pub system: String,
    /// The change that is still to be made; `None` when a webhook was not reached.
    pub kind: Option<ChangeKind>,
    /// Why it is not done yet.
    pub why: Reason,
}

/// A leaver, with open and closed access.
#[derive(Debug, Clone)]
pub struct Leaver {
    /// Who, when, and how much is confirmed.
    pub row: LeaverRow,
    /// The access that is still open.
    pub open: Vec<OpenAccess>,
}

impl Leaver {
    /// Seconds from the moment from which access was to be revoked to the last confirmation;
    /// `None` while access is open.
    pub fn seconds_to_revoke(&self) -> Option<f64> {
        let confirmed = self.row.confirmed.filter(|_| self.open.is_empty())?;
        Some(
            confirmed
                .duration_since(self.row.started)
                .as_secs_f64()
                .max(0.0),
        )
    }
}

/// Whether a line is about an account that supplies values.
fn gives_values(rules: &RuleSet, line: &Decided) -> bool {
    rules
        .of(&line.system, line.object)
        .is_some_and(tide_core::rules::TypeRules::is_source)
}

/// The changes that revoke a person's access, or belong to their departure.
fn closing_changes<'o>(
    outcome: &'o Outcome,
    identity: &'o str,
) -> impl Iterator<Item = &'o Change> {
    outcome
        .changes
        .iter()
        .filter(move |change| change.identity == identity && change.takes_away())
}

impl Views {
    /// Returns the lifecycle of a person.
    pub async fn life_line(&self, id: &str) -> Result<LifecycleStatus, EngineError> {
        let near = self.decider.decide_around(&identity_record(id)).await?;
        let (rules, population, outcome) = (near.rules, near.population, near.outcome);
        let decided = outcome
            .identities
            .iter()
            .find(|(identity, _)| identity.id == id);
        let (identity, _) = decided.cloned().ok_or_else(|| StoreError::Missing {
            what: "identity",
            name: id.to_owned(),
        })?;
        let departure = population.departures.get(id).cloned();
        let mine: HashSet<i64> = population
            .links
            .iter()
            .filter(|link| link.identity == id)
            .map(|link| link.account)
            .collect();
        let accounts = population
            .accounts
            .iter()
            .filter(|account| mine.contains(&account.id));
        // A person whom one source still supplies is not absent, whatever another source lacks.
        let feeds = |line: &Decided| {
            line.identity.as_deref() == Some(id) && line.verdict == Verdict::Source
        };
        let absence = tide_core::lifecycle::find_absence(&rules.set, identity.kind, accounts)
            .filter(|_| !outcome.decided.iter().any(feeds));
        let gone = absence.map(|absence| (Reason::new(ReasonKind::NoSource), absence));
        let mut attributes = identity.attributes.clone();
        attributes.set("id", vec![tide_core::Value::text(id)]);
        let facts = LifecycleFacts {
            attributes: &attributes,
            departure: departure.as_ref(),
            reactivated: population.reactivations.get(id).copied(),
            absence: gone
                .as_ref()
                .map(|(reason, absence)| (reason, Some(*absence))),
            had_left: identity.stage == tide_core::Stage::Left,
        };
        let set = &rules.set;
        let rules = set.lifecycle.get(&identity.kind);
        let mut life =
            rules.and_then(|rules| rules.lifecycle_state(&facts, self.context.now()).ok());
        // A person out of every source's scope has left, whatever their dates are.
        if let Some(life) = life.as_mut().filter(|life| life.stage != identity.stage) {
            let theirs = outcome
                .decided
                .iter()
                .filter(|line| line.identity.as_deref() == Some(id));
            let out = theirs
                .filter(|line| line.verdict == Verdict::OutOfScope)
                .find(|line| gives_values(set, line));
            life.stage = identity.stage;
            life.reason = out.map_or_else(
                || Reason::new(ReasonKind::AsLastDecided),
                |line| line.reason.clone(),
            );
        }
        let zone = set.zone(identity.kind);
        Ok(LifecycleStatus {
            identity,
            life,
            departure,
            zone,
        })
    }

    /// The moment after a last day of people, in the zone that the rules name.
    pub async fn after_last_day(&self, day: jiff::civil::Date) -> Result<Timestamp, EngineError> {
        let zone = self
            .rules
            .published_rules()
            .await?
            .set
            .zone(tide_core::ObjectType::Person);
        tide_core::lifecycle::end_of_day(day, &zone).map_err(EngineError::Invalid)
    }

    /// Returns the impact of a departure at a moment; `None` is now.
    pub async fn effect_of_leaving(
        &self,
        id: &str,
        at: Option<Timestamp>,
    ) -> Result<DepartureImpact, EngineError> {
        let now = self.context.now();
        let at = at.unwrap_or(now).max(now);
        let departure = Departure {
            at,
            principal: "an operator".to_owned(),
            comment: String::new(),
        };
        let leave = |population: &mut tide_core::Population| {
            population.departures.insert(id.to_owned(), departure);
        };
        let near = self
            .decider
            .decide_around_as(&identity_record(id), at, None, leave)
            .await?;
        let outcome = near.outcome;
        if !outcome
            .identities
            .iter()
            .any(|(identity, _)| identity.id == id)
        {
            return Err(StoreError::Missing {
                what: "identity",
                name: id.to_owned(),
            }
            .into());
        }
        let theirs = outcome
            .decided
            .iter()
            .filter(|line| line.identity.as_deref() == Some(id) && line.account.is_some());
        let lines = theirs.filter(|line| line.verdict != Verdict::Source);
        let said = lines
            .map(|line| (line.system.clone(), line.reason.clone()))
            .collect();
        Ok(DepartureImpact {
            changes: outcome
                .changes
                .into_iter()
                .filter(|change| change.identity == id)
                .collect(),
            said,
        })
    }

    /// Leavers, the most recent first, with their open access. `brief` leaves out what needs a
    /// decision.
    pub async fn list_leavers(&self, brief: bool) -> Result<Vec<Leaver>, EngineError> {
        let rows = self.context.store.list_leavers(LEAVERS).await?;
        if brief || rows.is_empty() {
            return Ok(rows
                .into_iter()
                .map(|row| Leaver {
                    row,
                    open: Vec::new(),
                })
                .collect());
        }
        let identities = rows.iter().map(|row| row.identity.clone());
        let leavers = Records {
            identities: identities.collect(),
            ..Records::default()
        };
        let mut outcome = self.decider.decide_around(&leavers).await?.outcome;
        self.dispatcher.hold_accepted(&mut outcome).await?;
        let left: HashSet<&str> = rows.iter().map(|row| row.identity.as_str()).collect();
        let theirs = outcome
            .changes
            .iter()
            .filter(|change| left.contains(change.identity.as_str()));
        let prints: Vec<&str> = theirs.map(|change| change.fingerprint.as_str()).collect();
        let failed = self.context.store.parked_changes(&prints).await?;
        // Webhooks that end sessions elsewhere and were not delivered yet.
        let calls = self
            .context
            .store
            .list_notifications(None, true, LEAVERS)
            .await?;
        let unheard = |identity: &str| {
            let theirs = calls
                .iter()
                .filter(|told| told.identity == identity && told.event == NotificationEvent::Left);
            let way = |told: &tide_store::NotificationRow| OpenAccess {
                system: told.call.clone().unwrap_or_default(),
                kind: None,
                why: Reason::new(match &told.error {
                    Some(error) => ReasonKind::WebhookFailed {
                        error: error.clone(),
                    },
                    None => ReasonKind::WebhookPending,
                }),
            };
            theirs.map(way).collect::<Vec<OpenAccess>>()
        };
        drop(left);
        Ok(rows
            .into_iter()
            .map(|row| {
                let back = row.returned.is_some();
                let open = closing_changes(&outcome, &row.identity).filter(|_| !back);
                let open = open.map(|change| OpenAccess {
                    system: change.system.clone(),
                    kind: Some(change.kind),
                    why: match (&change.hold, failed.get(&change.fingerprint)) {
                        (Some(hold), _) => hold.clone(),
                        (None, Some(parked)) => Reason::new(ReasonKind::ChangeFailed {
                            error: parked.error.clone(),
                        }),
                        (None, None) => Reason::new(ReasonKind::ToBeSent),
                    },
                });
                let mut open: Vec<OpenAccess> = open.collect();
                if !back {
                    open.extend(unheard(&row.identity));
                }
                Leaver { row, open }
            })
            .collect())
    }
}
