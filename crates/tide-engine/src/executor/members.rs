//! The references of a change and the members of memberships, as they are when it is sent.

use crate::error::EngineError;
use crate::executor::Executor;
use crate::queue::SystemDispatcher;
use crate::queue::{Resolved, resolve_member};
use std::collections::HashMap;
use tide_core::memberships::member_value;
use tide_core::model::Account;
use tide_core::states::ChangeKind;
use tide_core::{Schema, Value};
use tide_store::ChangeRow;

impl Executor {
    /// Resolves the accounts to which a change refers. Returns `false` if its own account does not
    /// exist, because its creation failed.
    pub(crate) async fn resolve_pending_references(
        &self,
        row: &mut ChangeRow,
        schema: Option<&Schema>,
    ) -> Result<bool, EngineError> {
        let change = &mut row.change;
        if change.account.is_none() && change.kind != ChangeKind::Create {
            let Some(own) = self
                .context
                .store
                .account_of(&change.identity, &change.system)
                .await?
            else {
                return Ok(false);
            };
            change.account = Some(own.id);
        }
        let by_name = schema.is_some_and(|schema| schema.refers_by_name);
        let membership = change.is_membership();
        for value in &mut change.values {
            for later in std::mem::take(&mut value.later) {
                match self
                    .context
                    .store
                    .account_of(&later.identity, &change.system)
                    .await?
                {
                    Some(account) => {
                        value
                            .after
                            .push(member_value(&value.attribute, &account, by_name))
                    }
                    // The target requires the referenced account first.
                    None if change.kind == ChangeKind::Create => return Ok(false),
                    None => {}
                }
            }
        }
        // The removal of a former name has no value after it.
        change
            .values
            .retain(|value| value.after != value.before && (membership || !value.after.is_empty()));
        Ok(!change.values.is_empty())
    }

    /// Replaces the names of members by the present names of their accounts: another change may
    /// have renamed them since the decision. Nothing is done where a system refers by keys.
    pub(crate) async fn resolve_members(
        &self,
        share: &SystemDispatcher,
        rows: &mut [&mut ChangeRow],
    ) -> Result<Vec<Resolved>, EngineError> {
        let by_name = |row: &ChangeRow| {
            share
                .row
                .schema
                .get(&row.change.object)
                .is_some_and(|schema| schema.refers_by_name)
        };
        let identities: Vec<&str> = rows
            .iter()
            .filter(|row| by_name(row))
            .map(|row| row.change.identity.as_str())
            .collect();
        if identities.is_empty() {
            return Ok(rows.iter().map(|_| Resolved::default()).collect());
        }
        let mut accounts: HashMap<String, Vec<Account>> = HashMap::new();
        for (identity, account) in self
            .context
            .store
            .member_accounts(&identities, &share.row.name)
            .await?
        {
            accounts.entry(identity).or_default().push(account);
        }
        let former = |row: &ChangeRow| {
            row.change
                .values
                .iter()
                .skip(1)
                .flat_map(|value| &value.before)
                .map(Value::to_string)
                .collect()
        };
        let former: Vec<Vec<String>> = rows.iter().map(|row| former(row)).collect();
        let former: Vec<String> = former.into_iter().flatten().collect();
        let in_use = if former.is_empty() {
            Vec::new()
        } else {
            self.context
                .store
                .names_in_use(&former, &share.row.name)
                .await?
        };
        Ok(rows
            .iter_mut()
            .map(|row| resolve_member(row, &in_use, &accounts))
            .collect())
    }
}
