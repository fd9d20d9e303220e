//! Systems that push to us: their tokens and events.

use crate::error::EngineError;
use crate::events::Event;
use crate::ingest::Ingest;
use crate::tokens::IssuedToken;
use jiff::{Timestamp, ToSpan};
use tide_connect::ConnectError;
use tide_core::states::{EventKind, PrincipalKind, SystemKind};
use tide_core::{Attributes, ObjectType};
use tide_store::{EventRow, EventTaken, NewEvent, NewTokenRow, TokenRow};

/// How long earlier tokens stay valid after a new one is issued, so that there is no gap.
const OVERLAP_HOURS: i64 = 24;

/// A joiner, mover or leaver event that a system sends.
#[derive(Debug, Clone, PartialEq)]
pub struct InboundEvent {
    /// What happened.
    pub kind: EventKind,
    /// The key of the record.
    pub key: String,
    /// Its values.
    pub attributes: Attributes,
    /// The event as it came.
    pub body: String,
    /// The sender's id for it.
    pub external_id: Option<String>,
    /// Its sequence number among the events of its record.
    pub sequence: Option<i64>,
    /// When it happened.
    pub occurred_at: Option<Timestamp>,
}

/// The attribute that holds the key of a record that came with an event.
const KEY: &str = "key";

impl Ingest {
    async fn push_system(&self, system: &str) -> Result<(), EngineError> {
        let row = self.context.store.find_system(system).await?;
        if row.kind == SystemKind::Push {
            return Ok(());
        }
        Err(ConnectError::permanent(
            "not_push",
            format!("{system} is of kind {} and does not push", row.kind),
            "add a system of kind push",
        )
        .into())
    }

    /// Issues a token to a system. Earlier tokens stay valid for a day, so that the system can
    /// change over without a gap.
    pub async fn give_token(
        &self,
        system: &str,
        label: &str,
        token: String,
        principal: &str,
    ) -> Result<IssuedToken, EngineError> {
        self.push_system(system).await?;
        let now = self.context.now();
        let until = now.checked_add(OVERLAP_HOURS.hours()).unwrap_or(now);
        let new = NewTokenRow {
            kind: PrincipalKind::System,
            name: system,
            token: &token,
            label,
            expires: None,
            earlier_until: Some(until),
        };
        let id = self.context.store.add_token(new, principal, now).await?;
        self.context.publish_event(Event::System {
            name: system.to_owned(),
        });
        Ok(IssuedToken { id, token })
    }

    /// The tokens of a system.
    pub async fn list_tokens(&self, system: &str) -> Result<Vec<TokenRow>, EngineError> {
        self.push_system(system).await?;
        Ok(self
            .context
            .store
            .list_tokens(PrincipalKind::System, system)
            .await?)
    }

    /// Revokes a token immediately.
    pub async fn end_token(
        &self,
        system: &str,
        id: &str,
        principal: &str,
    ) -> Result<(), EngineError> {
        if self
            .context
            .store
            .end_token(
                PrincipalKind::System,
                system,
                id,
                principal,
                self.context.now(),
            )
            .await?
        {
            Ok(())
        } else {
            Err(tide_store::StoreError::Missing {
                what: "token",
                name: id.to_owned(),
            }
            .into())
        }
    }

    /// Marks a system that pushes its records as completely read: what it has pushed is all there
    /// is.
    pub async fn pushed_is_complete(
        &self,
        system: &str,
        object: ObjectType,
    ) -> Result<(), EngineError> {
        if self
            .context
            .store
            .last_complete(system, object)
            .await?
            .is_none()
        {
            let row = self.context.store.find_system(system).await?;
            self.read_system(&row, &[object]).await?;
        }
        Ok(())
    }

    /// Accepts the records of a system that calls us as they are, though a backup was restored and
    /// it has not sent all of them since: it counts as read from now on. How many records were not
    /// sent, of how many.
    pub async fn accept_records(
        &self,
        system: &str,
        principal: &str,
    ) -> Result<(i64, i64), EngineError> {
        self.push_system(system).await?;
        let row = self.context.store.find_system(system).await?;
        let (mut unsent, mut all) = (0, 0);
        for object in [ObjectType::Person, ObjectType::Group] {
            let Some((missing, there)) = self
                .context
                .store
                .unsent_since_restore(system, object)
                .await?
            else {
                continue;
            };
            let reading = self
                .context
                .store
                .begin_reading(system, object, self.context.monotonic_now())
                .await?;
            self.context
                .store
                .unchanged_reading(reading, self.context.now())
                .await?;
            (unsent, all) = (unsent + missing, all + there);
        }
        let detail = format!("{unsent} of {all} records were not sent since a backup was restored");
        self.context
            .store
            .note(
                principal,
                "system.records-accepted",
                &row.name,
                &detail,
                self.context.now(),
            )
            .await?;
        self.was_pushed(system);
        Ok((unsent, all))
    }

    /// Starts a run after a push was stored, if automatic sync is on.
    pub fn was_pushed(&self, system: &str) {
        self.context.publish_event(Event::System {
            name: system.to_owned(),
        });
        self.pending.wake();
    }

    /// Receives an event and returns it as stored. A repeated event returns the first one. A
    /// mover's values replace those that are known, and a leaver's record becomes absent. An
    /// event that arrives after a later event of the same record changes nothing.
    ///
    /// # Errors
    /// `Changed` if an event with this id and another content was received before.
    pub async fn take_event(
        &self,
        system: &str,
        id: &str,
        happening: InboundEvent,
        principal: &str,
    ) -> Result<EventRow, EngineError> {
        self.push_system(system).await?;
        let InboundEvent { kind, key, .. } = happening.clone();
        // Rules can read the key, as `account.key`.
        let mut happening = happening;
        if happening.attributes.get(KEY).is_empty() {
            happening
                .attributes
                .set(KEY, vec![tide_core::Value::text(&key)]);
        }
        let new = NewEvent {
            system: system.to_owned(),
            id: id.to_owned(),
            kind: happening.kind,
            key: happening.key,
            attributes: happening.attributes,
            body: happening.body,
            external_id: happening.external_id,
            sequence: happening.sequence,
            occurred_at: happening.occurred_at,
            principal: principal.to_owned(),
        };
        let kept = match self
            .context
            .store
            .take_event(new, self.context.now())
            .await?
        {
            EventTaken::Kept => {
                self.pushed_is_complete(system, ObjectType::Person).await?;
                self.was_pushed(system);
                id.to_owned()
            }
            EventTaken::Outdated => id.to_owned(),
            EventTaken::Repeated(first) => first,
            EventTaken::OtherContent(first) => {
                let said =
                    format!("another event of {system} has this id, as {first}: nothing was done");
                return Err(EngineError::Changed(said));
            }
            EventTaken::UnknownKey => {
                let said = format!("{system} never sent `{key}`, so it cannot be a {kind}");
                return Err(ConnectError::permanent(
                    "unknown_key",
                    said,
                    "send a joiner first, or check the key",
                )
                .into());
            }
            EventTaken::Left => {
                let said =
                    format!("`{key}` has left {system}, so it cannot be a mover: nothing was done");
                return Err(ConnectError::permanent(
                    "has_left",
                    said,
                    "send a joiner if the person returns",
                )
                .into());
            }
        };
        Ok(self.context.store.find_event(system, &kept).await?)
    }
}
