//! Webhooks: deliveries to services that the rules name, retried until they are accepted.

use crate::backoff::{Backoff, later};
use crate::error::EngineError;
use crate::notify::Notifier;
use jiff::Timestamp;
use std::sync::Arc;
use std::time::Duration;
use tide_connect::{ConnectError, Secret, WebhookSender};
use tide_core::rules::WebhookRules;
use tide_store::PasswordRow;

/// The owner under which the secrets of webhooks are sealed.
const OWNER: &str = "call";

/// The interval at which pending deliveries are sent.
const EVERY: Duration = Duration::from_secs(5);

/// Maximum number of notifications that are delivered in one round.
const MOST: i64 = 500;

/// Delay between two attempts of a delivery.
const DELIVERY_BACKOFF: Backoff = Backoff::new(Duration::from_secs(2), Duration::from_secs(3600));

/// A webhook, with its pending deliveries.
#[derive(Debug, Clone)]
pub struct CallRow {
    /// Its name in the rules.
    pub name: String,
    /// Where it is called.
    pub url: String,
    /// Whether it has a secret to sign with.
    pub secret: bool,
    /// How many first passwords and notices wait to be handed over.
    pub waiting: usize,
    /// The error of the last attempt, while deliveries are pending.
    pub error: Option<String>,
}

/// Whether it is time for another attempt.
pub(crate) fn is_due(tried: Option<&str>, attempts: i64, now: Timestamp) -> bool {
    let Some(tried) = tried.and_then(|at| at.parse::<Timestamp>().ok()) else {
        return true;
    };
    let failures = u32::try_from(attempts).unwrap_or_default();
    now >= later(tried, DELIVERY_BACKOFF.delay(failures, 0.5))
}

impl Notifier {
    /// The webhooks of the published rules.
    pub async fn list_webhooks(&self) -> Result<Vec<CallRow>, EngineError> {
        let rules = self.rules.published_rules().await?;
        let waiting = self.waiting_for(&rules.set).await?;
        let notices = self
            .context
            .store
            .list_notifications(None, true, MOST)
            .await?;
        let mut all = Vec::new();
        for (name, call) in &rules.set.webhooks {
            let mine: Vec<&PasswordRow> = waiting
                .iter()
                .filter(|(whose, _)| whose == name)
                .map(|(_, row)| row)
                .collect();
            all.push(CallRow {
                name: name.clone(),
                url: call.url.clone(),
                secret: self.context.store.load_secret(OWNER, name).await?.is_some(),
                waiting: mine.len()
                    + notices
                        .iter()
                        .filter(|row| row.call.as_ref() == Some(name))
                        .count(),
                error: mine
                    .iter()
                    .map(|row| row.error.clone())
                    .chain(
                        notices
                            .iter()
                            .filter(|row| row.call.as_ref() == Some(name))
                            .map(|row| row.error.clone()),
                    )
                    .find_map(|error| error),
            });
        }
        Ok(all)
    }

    /// Sets the secret that calls to this one are signed with.
    ///
    /// # Errors
    /// `NotFound` if the published rules have no such webhook.
    pub async fn set_call_secret(
        &self,
        name: &str,
        secret: &str,
        principal: &str,
    ) -> Result<(), EngineError> {
        let rules = self.rules.published_rules().await?;
        if !rules.set.webhooks.contains_key(name) {
            return Err(EngineError::NotFound(format!(
                "there is no webhook `{name}`: declare it in webhooks.toml, and publish"
            )));
        }
        if secret.len() < 16 {
            return Err(EngineError::Invalid(
                "a signing secret needs at least 16 characters".to_owned(),
            ));
        }
        self.context
            .store
            .put_secret(OWNER, name, secret, self.context.now())
            .await?;
        self.context
            .store
            .note(principal, "call.secret", name, "secret", self.context.now())
            .await?;
        Ok(())
    }

    /// First passwords that wait to be handed over, with who is called.
    async fn waiting_for(
        &self,
        set: &tide_core::RuleSet,
    ) -> Result<Vec<(String, PasswordRow)>, EngineError> {
        let rows = self.context.store.first_passwords().await?;
        Ok(rows
            .into_iter()
            .filter(|row| row.shown.is_none())
            .filter_map(|row| {
                let types = &set.systems.get(&row.system)?.types;
                let call = types
                    .values()
                    .find_map(|types| types.password.as_ref()?.deliver_to.clone())?;
                Some((call, row))
            })
            .collect())
    }

    async fn webhook_client(
        &self,
        name: &str,
        call: &WebhookRules,
    ) -> Result<WebhookSender, EngineError> {
        let secret = self
            .context
            .store
            .load_secret(OWNER, name)
            .await?
            .ok_or_else(|| {
                ConnectError::permanent(
                    "secret",
                    format!("there is no secret to sign requests to {name}"),
                    format!("set a shared one: `eager-tide webhooks secret {name}`"),
                )
            })?;
        Ok(WebhookSender::new(
            name,
            &call.url,
            call.timeout_seconds,
            Secret::new(secret.as_str()),
        )?)
    }

    /// Sends a test delivery.
    ///
    /// # Errors
    /// `NotFound` if the published rules have no such webhook.
    pub async fn test_call(&self, name: &str) -> Result<(), EngineError> {
        let rules = self.rules.published_rules().await?;
        let call = rules
            .set
            .webhooks
            .get(name)
            .ok_or_else(|| EngineError::NotFound(format!("there is no webhook `{name}`")))?;
        let body = serde_json::json!({"kind": "test", "call": name});
        self.webhook_client(name, call)
            .await?
            .send(&body, self.context.now())
            .await?;
        Ok(())
    }

    /// Sends the deliveries that are due. A receiver may get a delivery twice if its response was
    /// lost; the `id` is then the same.
    pub async fn hand_over(&self) -> Result<usize, EngineError> {
        let _one_at_a_time = self.delivery_lock.lock().await;
        let rules = self.rules.published_rules().await?;
        let mut handed = 0;
        for (name, row) in self.waiting_for(&rules.set).await? {
            // The emergency stop holds calls too: they make things in other systems.
            if self.connections.write_stop().is_some() {
                return Ok(handed);
            }
            let (Some(call), true) = (
                rules.set.webhooks.get(&name),
                is_due(row.tried_at.as_deref(), row.attempts, self.context.now()),
            ) else {
                continue;
            };
            let Some(password) = self.context.store.first_password(row.id).await? else {
                continue;
            };
            let body = serde_json::json!({
                "kind": "first_password", "id": row.id, "system": row.system, "account": row.account,
                "identity": row.identity, "label": row.label, "password": password.as_str(),
            });
            let sent = match self.webhook_client(&name, call).await {
                Ok(caller) => caller
                    .send(&body, self.context.now())
                    .await
                    .map_err(EngineError::from),
                Err(error) => Err(error),
            };
            match sent {
                Ok(_) => {
                    self.context
                        .store
                        .reveal_first_password(
                            row.id,
                            &format!("webhook {name}"),
                            self.context.now(),
                        )
                        .await?;
                    handed += 1;
                }
                Err(error) => {
                    tracing::warn!(webhook = name, delivery = row.id, %error, "a first password could not be delivered");
                    self.context
                        .store
                        .first_password_kept(row.id, &error.to_string(), self.context.now())
                        .await?;
                }
            }
        }
        Ok(handed + self.carry_notices(&rules.set).await?)
    }

    /// Carries notices that wait.
    async fn carry_notices(&self, set: &tide_core::RuleSet) -> Result<usize, EngineError> {
        let mut carried = 0;
        for row in self
            .context
            .store
            .list_notifications(None, true, MOST)
            .await?
        {
            if self.connections.write_stop().is_some() {
                break;
            }
            let Some((name, call)) = row
                .call
                .as_ref()
                .and_then(|name| Some((name, set.webhooks.get(name)?)))
            else {
                continue;
            };
            if !is_due(row.tried_at.as_deref(), row.attempts, self.context.now()) {
                continue;
            }
            // What it made for them before, so that it can be taken away again.
            let made = self
                .context
                .store
                .webhook_answers(&row.identity, name)
                .await?;
            let body = serde_json::json!({
                "kind": "notice", "made": made, "id": row.id, "rule": row.rule, "event": row.event, "identity": row.identity, "label": row.label,
                "about": row.about, "to": row.recipients, "text": row.text,
            });
            let sent = match self.webhook_client(name, call).await {
                Ok(caller) => caller
                    .send(&body, self.context.now())
                    .await
                    .map_err(EngineError::from),
                Err(error) => Err(error),
            };
            if let Err(error) = &sent {
                tracing::warn!(webhook = name, notification = row.id, %error, "a notification could not be delivered");
            }
            carried += usize::from(sent.is_ok());
            self.context
                .store
                .was_carried(
                    row.id,
                    sent.map_err(|error| error.to_string()),
                    self.context.now(),
                )
                .await?;
        }
        Ok(carried)
    }

    /// Hands over what waits until the service stops.
    pub fn keep_calling(self: &Arc<Self>) {
        self.context.supervise("webhook sender", self, |notifier| async move {
            loop {
                tokio::select! {
                    () = notifier.context.stopping.cancelled() => return,
                    () = tide_clock::sleep(EVERY) => {}
                }
                if let Err(error) = notifier.passwords.end_passwords().await
                    && !matches!(error, EngineError::NoRules | EngineError::Rules(_))
                {
                    tracing::warn!(%error, "could not erase synchronized passwords that are no longer needed");
                }
                // Without rules there are no webhooks.
                if let Err(error) = notifier.hand_over().await
                    && !matches!(error, EngineError::NoRules | EngineError::Rules(_))
                {
                    tracing::warn!(%error, "could not deliver notifications; retrying");
                }
            }
        });
    }
}
