//! What waits for a person, in one list: doubtful matches, changes that a guard held, changes that failed for good, and
//! what was done behind our back.

use crate::{Engine, EngineError};
use std::collections::{BTreeMap, HashMap};
use tide_core::decide::{Change, ChangeKind};
use tide_core::{Outcome, Population, RuleSet};
use tide_store::{NoticeRow, Parked};

/// The most names that one line of the list tells.
const NAMED: usize = 5;

/// Something that a person must answer.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Decision {
    /// What it is called when it is answered. It names what was shown: it is another one when that changes.
    pub id: String,
    /// `match`, `guard`, `parked` or `surprise`.
    pub kind: &'static str,
    /// The system.
    pub system: String,
    /// What is asked, in a line.
    pub title: String,
    /// Why, and what becomes of it meanwhile.
    pub said: String,
    /// How many it is about.
    pub count: usize,
    /// Some of those, by name.
    pub names: Vec<String>,
    /// What can be said.
    pub answers: Vec<&'static str>,
}

fn some<'a>(names: impl Iterator<Item = &'a str>) -> Vec<String> {
    let mut all: Vec<String> = Vec::new();
    for name in names {
        if all.len() < NAMED && !all.iter().any(|known| known == name) {
            all.push(name.to_owned());
        }
    }
    all
}

/// Changes that guards hold, by system and kind, with the guard's words.
fn guarded<'o>(rules: &RuleSet, outcome: &'o Outcome) -> BTreeMap<(&'o str, ChangeKind), (String, Vec<&'o Change>)> {
    let mut held: BTreeMap<(&str, ChangeKind), (String, Vec<&Change>)> = BTreeMap::new();
    for change in &outcome.changes {
        let Some(hold) = &change.hold else { continue };
        if rules.guards.iter().any(|guard| Some(&guard.place) == hold.rule.as_ref()) {
            held.entry((&change.system, change.kind)).or_insert_with(|| (hold.text.clone(), Vec::new())).1.push(change);
        }
    }
    held
}

/// The id of a set of held changes: another one when the set is another.
fn guard_id(system: &str, kind: ChangeKind, changes: &[&Change]) -> String {
    let mut prints: Vec<&str> = changes.iter().map(|change| change.fingerprint.as_str()).collect();
    prints.sort_unstable();
    format!("guard-{system}-{kind}-{}", tide_core::decide::digest(&prints))
}

fn list(rules: &RuleSet, outcome: &Outcome, parked: &HashMap<String, Parked>, notices: &[NoticeRow]) -> Vec<Decision> {
    let mut all = Vec::new();
    for ((system, kind), (said, changes)) in guarded(rules, outcome) {
        let many = if changes.len() == 1 { "change waits" } else { "changes wait" };
        all.push(Decision {
            id: guard_id(system, kind, &changes),
            kind: "guard",
            system: system.to_owned(),
            title: format!("{} {kind} {many} in {system}", changes.len()),
            said,
            count: changes.len(),
            names: some(changes.iter().map(|change| change.label.as_str())),
            answers: vec!["release", "discard"],
        });
    }
    for change in &outcome.changes {
        let Some(failed) = parked.get(&change.fingerprint).filter(|parked| !parked.passing) else { continue };
        all.push(Decision {
            id: format!("parked-{}", change.fingerprint),
            kind: "parked",
            system: change.system.clone(),
            title: format!("{}: {} in {} failed", change.label, change.kind, change.system),
            said: failed.error.clone(),
            count: 1,
            names: vec![change.label.clone()],
            answers: vec!["retry"],
        });
    }
    let mut doubts: BTreeMap<(&str, tide_core::decide::Doubt), Vec<&str>> = BTreeMap::new();
    for question in &outcome.questions {
        doubts.entry((&question.system, question.doubt)).or_default().push(&question.label);
    }
    for ((system, doubt), labels) in doubts {
        all.push(Decision {
            id: format!("match-{system}-{}", doubt.word()),
            kind: "match",
            system: system.to_owned(),
            title: format!(
                "{} doubtful match{} in {system}: {}",
                labels.len(),
                if labels.len() == 1 { "" } else { "es" },
                doubt.word().replace('_', " ")
            ),
            said: "nothing is sent for them until somebody says who belongs to whom".to_owned(),
            count: labels.len(),
            names: some(labels.into_iter()),
            answers: Vec::new(),
        });
    }
    for notice in notices {
        all.push(Decision {
            id: format!("surprise-{}", notice.id),
            kind: "surprise",
            system: String::new(),
            title: notice.subject.clone(),
            said: notice.body.clone(),
            count: 1,
            names: Vec::new(),
            answers: vec!["seen"],
        });
    }
    all
}

impl Engine {
    /// What waits for a person.
    pub async fn decisions(&self) -> Result<Vec<Decision>, EngineError> {
        let (rules, _, outcome) = self.decide_now().await?;
        let prints: Vec<&str> = outcome.changes.iter().map(|change| change.fingerprint.as_str()).collect();
        let parked = self.store.parked(&prints).await?;
        Ok(list(&rules.set, &outcome, &parked, &self.store.notices().await?))
    }

    /// Answers one of them.
    pub async fn answer_decision(&self, id: &str, answer: &str, principal: &str) -> Result<(), EngineError> {
        let changed = || EngineError::Changed("this is not what waits any more: look at the list again".to_owned());
        let unfit = || EngineError::Refused(format!("`{answer}` is no answer to {id}"));
        match id.split_once('-') {
            Some(("guard", _)) => {
                let release = match answer {
                    "release" => true,
                    "discard" => false,
                    _ => return Err(unfit()),
                };
                let (rules, _, outcome) = self.decide_now().await?;
                let held = guarded(&rules.set, &outcome);
                let meant = held.iter().find(|((system, kind), (_, changes))| guard_id(system, *kind, changes) == id);
                let changes: Vec<Change> = meant.ok_or_else(changed)?.1.1.iter().map(|change| (*change).clone()).collect();
                self.store.rule(changes, release, principal, self.now()).await?;
            }
            Some(("parked", fingerprint)) if answer == "retry" => self.store.unpark(fingerprint, principal, self.now()).await?,
            Some(("surprise", number)) if answer == "seen" => {
                let number = number.parse().map_err(|_| changed())?;
                self.store.notice_seen(number, self.now()).await?;
            }
            _ => return Err(unfit()),
        }
        self.tell(crate::Event::Noticed);
        self.nudge.notify_one();
        Ok(())
    }

    /// What guards look back on, and what people said of what they held.
    pub(crate) async fn look_back(&self, rules: &RuleSet, population: &mut Population) -> Result<(), EngineError> {
        for guard in &rules.guards {
            let since = self.now().saturating_sub(jiff::SignedDuration::from_hours(guard.hours.into())).unwrap_or_default();
            for system in rules.systems.keys().filter(|name| guard.system.as_ref().is_none_or(|only| only == *name)) {
                let count = self.store.changes_since(system, &guard.change, since).await?;
                population.recent.insert((system.clone(), guard.change.clone(), guard.hours), usize::try_from(count).unwrap_or_default());
            }
        }
        population.ruled = self.store.rulings().await?;
        Ok(())
    }
}
