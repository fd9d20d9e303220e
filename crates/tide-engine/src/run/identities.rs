//! The identities, links and reserved values that a run stores.

use crate::decide::IncrementalDecision;
use crate::error::EngineError;
use crate::kept::identity_updates;
use crate::run::Runner;
use crate::run::automatic::SERVICE_PRINCIPAL;
use std::collections::HashSet;
use std::sync::Arc;
use tide_core::{Outcome, Population};
use tide_store::{IdentityUpdates, KeptPart};

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
