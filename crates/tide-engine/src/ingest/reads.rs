//! Reads of all systems, and of one by its name.

use crate::error::EngineError;
use crate::ingest::Ingest;
use crate::ingest::full_read::Read;
use tokio_util::sync::CancellationToken;

impl Ingest {
    /// Reads all systems at once.
    pub async fn read_all(&self) -> Result<Vec<Read>, EngineError> {
        self.read_all_until(&self.context.stopping).await
    }

    pub(crate) async fn read_all_until(
        &self,
        cancel: &CancellationToken,
    ) -> Result<Vec<Read>, EngineError> {
        let plan = self.rules.to_read().await?;
        let mut reads = Vec::new();
        let tasks = plan
            .iter()
            .map(|(row, types)| self.read_until(row, types, cancel));
        for result in futures::future::join_all(tasks).await {
            reads.extend(result?);
        }
        Ok(reads)
    }

    /// Reads one system. With automatic sync, a run for the changes follows.
    pub async fn read_by_name(&self, name: &str) -> Result<Vec<Read>, EngineError> {
        let wanted = self
            .rules
            .to_read()
            .await?
            .into_iter()
            .find(|(row, _)| row.name == name);
        match wanted {
            Some((row, types)) => {
                let read = self.read_system(&row, &types).await?;
                self.pending.records_changed();
                Ok(read)
            }
            None => Err(tide_store::StoreError::Missing {
                what: "system",
                name: name.to_owned(),
            }
            .into()),
        }
    }
}
