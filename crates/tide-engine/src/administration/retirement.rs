//! Removes systems.

use crate::administration::Administration;
use crate::error::EngineError;
use crate::events::Event;
use tide_core::impact::Impact;
use tide_core::rules::{RuleFile, edit};

/// The impact of retiring a system.
#[derive(Debug, Clone)]
pub struct Retirement {
    /// Its accounts that are known here.
    pub accounts: i64,
    /// How many of them are linked.
    pub linked: i64,
    /// Its rule file.
    pub file: Option<String>,
    /// The impact on all records, also in other systems.
    pub effect: Impact,
}

impl Administration {
    /// The published rules without those of a system; nothing if there are none of it.
    async fn rules_without(
        &self,
        name: &str,
    ) -> Result<Option<(Vec<RuleFile>, String)>, EngineError> {
        let Some(version) = self.context.store.load_rules().await? else {
            return Ok(None);
        };
        let rules = self.rules.checked_rules().await?.unwrap_or_default();
        let Some(own) = rules.set.systems.get(name) else {
            return Ok(None);
        };
        let others = version
            .files
            .into_iter()
            .filter(|file| file.name != own.file);
        let without = others.map(|file| {
            Ok(RuleFile {
                text: edit::without_system(&file.text, name)?,
                ..file
            })
        });
        let files = without
            .collect::<Result<Vec<_>, String>>()
            .map_err(EngineError::Invalid)?;
        Ok(Some((files, own.file.clone())))
    }

    /// Returns the impact of retiring a system: on its records, on the rules, and on all other
    /// records. Nothing is written to the system itself.
    pub async fn retirement_impact(&self, name: &str) -> Result<Retirement, EngineError> {
        self.context.store.find_system(name).await?;
        let counts = self.context.store.account_counts().await?;
        let (accounts, linked) = counts
            .into_iter()
            .find(|(of, ..)| of == name)
            .map_or((0, 0), |(_, all, linked)| (all, linked));
        let without = self.rules_without(name).await?;
        let file = without.as_ref().map(|(_, file)| file.clone());
        let effect = match without {
            None => Impact::default(),
            Some((files, _)) => {
                let old = self.rules.published_rules().await?;
                let (new, faults) = self.rules.check_rules(&files).await?;
                let new = crate::rules::sound(new, &faults)?;
                let population = self.context.store.load_population().await?;
                let (system, now) = (name.to_owned(), self.context.now());
                let both = move || {
                    let before = tide_core::decide(&old.set, &population, now);
                    let mut population = population;
                    population
                        .accounts
                        .retain(|account| account.system != system);
                    population.systems.remove(&system);
                    tide_core::impact::compute_impact(
                        &before,
                        &tide_core::decide(&new, &population, now),
                    )
                };
                let mut effect = self
                    .decider
                    .full()
                    .compute(Some(crate::full::PATIENCE), both)
                    .await?;
                // A removed system needs no decision.
                effect
                    .systems
                    .retain(|one| one.system.as_deref() != Some(name));
                effect
                    .lines
                    .retain(|line| line.system.as_deref() != Some(name));
                effect
            }
        };
        Ok(Retirement {
            accounts,
            linked,
            file,
            effect,
        })
    }

    /// Removes a system, with its rules and what was read of it. One in which accounts are linked
    /// is removed only if it is to be retired: see [`Administration::retirement_impact`]. Nothing is written to
    /// the system itself.
    ///
    /// # Errors
    /// `Conflict` while accounts are linked, unless the system is retired.
    pub async fn remove_system(
        &self,
        name: &str,
        retire: bool,
        principal: &str,
    ) -> Result<(), EngineError> {
        self.context.store.find_system(name).await?;
        if !retire && self.context.store.links_of_system(name).await? > 0 {
            return Err(EngineError::Conflict(format!(
                "accounts of {name} are linked to identities: `eager-tide systems retire {name}` shows the impact of removing it"
            )));
        }
        if let Some((files, _)) = self.rules_without(name).await? {
            self.publish_based(&files, None, &format!("without {name}"), principal)
                .await?;
        }
        self.context
            .store
            .remove_system(name, principal, self.context.now())
            .await?;
        self.decider.forget_holds().await;
        self.connections.forget_system(name);
        self.context.publish_event(Event::System {
            name: name.to_owned(),
        });
        Ok(())
    }
}
