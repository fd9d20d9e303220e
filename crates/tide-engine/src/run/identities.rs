//! The identities, links and reserved values that a run stores.

use crate::decide::IncrementalDecision;
use crate::error::EngineError;
use crate::run::Runner;
use crate::run::automatic::SERVICE_PRINCIPAL;
use std::collections::{HashMap, HashSet};
use std::sync::Arc;
use tide_core::{Outcome, Population};
use tide_store::{IdentityUpdates, KeptPart};

/// The identities, links and reserved values that a decision adds or changes.
pub(crate) fn identity_updates(population: &Population, outcome: &Outcome) -> IdentityUpdates {
    let kept = identities_to_store(population, outcome);
    let before: HashMap<&str, &tide_core::Identity> = population
        .identities
        .iter()
        .map(|i| (i.id.as_str(), i))
        .collect();
    let new = |(i, _): &&(tide_core::Identity, String)| {
        kept.contains(i.id.as_str()) && before.get(i.id.as_str()).is_none_or(|known| **known != *i)
    };
    IdentityUpdates {
        in_step: Vec::new(),
        outcomes: None,
        identities: outcome.identities.iter().filter(new).cloned().collect(),
        links: outcome.links.clone(),
        member_names: outcome.member_names.clone(),
        reserved: outcome
            .reserved
            .iter()
            .filter(|name| kept.contains(name.identity.as_str()))
            .cloned()
            .collect(),
    }
}

/// The identities to store: known ones, and new ones that have a link.
pub(crate) fn identities_to_store<'o>(
    population: &Population,
    outcome: &'o Outcome,
) -> HashSet<&'o str> {
    let known: HashSet<&str> = population
        .identities
        .iter()
        .map(|i| i.id.as_str())
        .collect();
    let linked: HashSet<&str> = outcome.links.iter().map(|l| l.identity.as_str()).collect();
    outcome
        .identities
        .iter()
        .map(|(i, _)| i.id.as_str())
        .filter(|id| known.contains(id) || linked.contains(id))
        .collect()
}

impl Runner {
    /// Stores identities and links. Call it before the changes are stored: a queue without them
    /// could not be resumed.
    pub(crate) async fn save_identities(
        &self,
        population: &Population,
        outcome: &Outcome,
        principal: &str,
    ) -> Result<(), EngineError> {
        self.save_identity_updates(identity_updates(population, outcome), principal)
            .await
    }

    pub(crate) async fn save_identity_updates(
        &self,
        people: IdentityUpdates,
        principal: &str,
    ) -> Result<(), EngineError> {
        if people.is_empty() {
            return Ok(());
        }
        Ok(self
            .context
            .store
            .keep_identities(people, principal, self.context.now())
            .await?)
    }

    /// Saves the identities that exist already.
    pub(crate) async fn save_known_identities(
        self: &Arc<Self>,
        news: &IncrementalDecision,
        in_step: Vec<i64>,
        outcomes: Option<KeptPart>,
    ) -> Result<(), EngineError> {
        let known: HashSet<&str> = news
            .population
            .identities
            .iter()
            .map(|identity| identity.id.as_str())
            .collect();
        let mut identities = identity_updates(&news.population, &news.outcome).identities;
        identities.retain(|(identity, _)| known.contains(identity.id.as_str()));
        self.save_identity_updates(
            IdentityUpdates {
                in_step,
                identities,
                outcomes,
                ..IdentityUpdates::default()
            },
            SERVICE_PRINCIPAL,
        )
        .await?;
        Ok(())
    }
}
