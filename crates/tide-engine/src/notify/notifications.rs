//! Notifications: each is stored once with its recipients, and delivered by a webhook if the rule
//! names one.

use crate::error::EngineError;
use crate::notify::Notifier;
use std::collections::BTreeMap;
use tide_core::decide::notifications::{Notification, Recipient};
use tide_core::{Outcome, Value};
use tide_store::{NotificationRow, StoreError};

/// Attributes that are searched for an email address.
const MAIL: [&str; 3] = ["mail", "email", "emails"];

impl Notifier {
    /// Stores the notifications of a decision, except those that were stored before.
    pub(crate) async fn record_notifications(&self, outcome: &Outcome) -> Result<(), EngineError> {
        self.tell_all(&outcome.notifications).await
    }

    /// Stores notifications, except those that were stored before.
    pub(crate) async fn tell_all(&self, notices: &[Notification]) -> Result<(), EngineError> {
        if notices.is_empty() {
            return Ok(());
        }
        let keys: Vec<&str> = notices.iter().map(|notice| notice.key.as_str()).collect();
        let new = self.context.store.without_notification(&keys).await?;
        let mut known: BTreeMap<Recipient, serde_json::Value> = BTreeMap::new();
        let mut all: Vec<(Notification, serde_json::Value)> = Vec::new();
        for notice in notices.iter().filter(|notice| new.contains(&notice.key)) {
            let mut to = Vec::new();
            for one in &notice.to {
                if !known.contains_key(one) {
                    known.insert(one.clone(), self.address_of(one).await?);
                }
                to.extend(known.get(one).cloned());
            }
            all.push((notice.clone(), serde_json::Value::Array(to)));
        }
        Ok(self
            .context
            .store
            .add_notifications(all, self.context.now())
            .await?)
    }

    /// The address of a recipient.
    async fn address_of(&self, who: &Recipient) -> Result<serde_json::Value, EngineError> {
        let id = match who {
            Recipient::Operators => return Ok(serde_json::json!({"operators": true})),
            Recipient::Operator(name) => return Ok(serde_json::json!({"operator": name})),
            Recipient::Team(name) => return Ok(serde_json::json!({"group": name})),
            Recipient::Identity(id) => Some(id.clone()),
            Recipient::Account(system, name) => {
                self.context.store.identity_of_account(system, name).await?
            }
        };
        let Some(id) = id else {
            // The owner of the group is not a known identity.
            let Recipient::Account(system, name) = who else {
                return Ok(serde_json::Value::Null);
            };
            return Ok(serde_json::json!({"system": system, "account": name}));
        };
        match self.context.store.find_identity(&id).await {
            Ok((identity, label)) => {
                let mail = MAIL
                    .iter()
                    .find_map(|name| identity.attributes.get(name).first())
                    .map(Value::to_string);
                Ok(serde_json::json!({"identity": id, "name": label, "mail": mail}))
            }
            // Decided just now, and not kept yet.
            Err(StoreError::Missing { .. }) => Ok(serde_json::json!({"identity": id})),
            Err(error) => Err(error.into()),
        }
    }

    /// Notifications, the newest first; optionally about one identity, or only those that wait
    /// for delivery.
    pub async fn list_notifications(
        &self,
        identity: Option<&str>,
        waiting: bool,
    ) -> Result<Vec<NotificationRow>, EngineError> {
        Ok(self
            .context
            .store
            .list_notifications(identity, waiting, 500)
            .await?)
    }
}
