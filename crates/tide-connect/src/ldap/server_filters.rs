//! Filters that only the server can evaluate: it evaluates them for each account that was read.

use super::schema::DirectoryCapabilities;
use super::{LdapConnector, Search};
use crate::ConnectError;
use crate::change_events::{ChangeEvent, stopped};
use ldap3::{Ldap, Scope};
use std::collections::HashSet;
use tide_core::model::Observed;
use tide_core::scope::{SERVER_FILTERS, filter_answer};
use tide_ldap::LdapFilter;
use tokio::sync::mpsc;

/// Number of accounts in one query.
const AT_A_TIME: usize = 50;

impl LdapConnector {
    /// Records with each account which of the rules' filters match it, according to the server.
    pub(super) async fn evaluate_server_filters(
        &self,
        known: &DirectoryCapabilities,
        accounts: &mut [Observed],
    ) -> Result<(), ConnectError> {
        let filters = self.access.server_filters();
        if filters.is_empty() || accounts.is_empty() {
            return Ok(());
        }
        let mut ldap = self.with_connection().await?;
        for some in accounts.chunks_mut(AT_A_TIME) {
            let mut answers = Vec::with_capacity(filters.len());
            for filter in &filters {
                answers.push(self.keys_that_fit(&mut ldap, known, filter, some).await?);
            }
            for account in some {
                let said = filters
                    .iter()
                    .zip(&answers)
                    .map(|(filter, keys)| filter_answer(filter, keys.contains(&account.key)));
                account.attributes.set(SERVER_FILTERS, said.collect());
            }
        }
        Ok(())
    }

    /// The keys of those accounts for which a filter holds.
    async fn keys_that_fit(
        &self,
        ldap: &mut Ldap,
        known: &DirectoryCapabilities,
        filter: &LdapFilter,
        accounts: &[Observed],
    ) -> Result<HashSet<String>, ConnectError> {
        let these = LdapFilter::Any(
            accounts
                .iter()
                .map(|account| known.key_filter(&account.key))
                .collect(),
        );
        let filter = LdapFilter::All(vec![these, filter.clone()]).to_string();
        let attributes = vec![known.key.to_owned()];
        let search = Search {
            base: &self.settings().base_dn,
            scope: Scope::Subtree,
            filter: &filter,
            attributes,
        };
        let entries = self.all_pages(ldap, &search).await?;
        Ok(entries
            .iter()
            .map(|entry| super::entry::account_of_entry(entry, known).key)
            .collect())
    }

    /// Passes changes on, with the server's filter results for their accounts.
    pub(super) async fn annotate_news(
        &self,
        mut news: mpsc::Receiver<Result<ChangeEvent, ConnectError>>,
        out: &mpsc::Sender<Result<ChangeEvent, ConnectError>>,
    ) -> Result<(), ConnectError> {
        while let Some(one) = news.recv().await {
            let one = match one {
                Ok(ChangeEvent::Changed(mut accounts)) => {
                    let mut ldap = self.with_connection().await?;
                    let known = self.capabilities(&mut ldap).await?;
                    drop(ldap);
                    self.evaluate_server_filters(known, &mut accounts).await?;
                    Ok(ChangeEvent::Changed(accounts))
                }
                other => other,
            };
            out.send(one).await.map_err(stopped)?;
        }
        Ok(())
    }
}
