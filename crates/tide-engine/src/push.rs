//! Systems that call us: their tokens, and the events that they send.

use crate::{Engine, EngineError, Event};
use jiff::ToSpan;
use tide_connect::ConnectError;
use tide_core::model::Observed;
use tide_core::{Attributes, ObjectType};
use tide_store::{EventRow, TokenRow};

/// How long earlier tokens stay good after a new one was given, so that there is no gap.
const OVERLAP_HOURS: i64 = 24;

/// A token that was just made: the only time that it is shown.
pub struct NewToken {
    /// Its id.
    pub id: String,
    /// The token itself.
    pub token: String,
}

/// A joiner, a mover or a leaver, as a system tells of it.
#[derive(Debug, Clone, PartialEq)]
pub struct Happening {
    /// `joiner`, `mover` or `leaver`.
    pub kind: String,
    /// The key of the record.
    pub key: String,
    /// Its values.
    pub attributes: Attributes,
    /// The event as it came.
    pub body: String,
}

impl Engine {
    async fn push_system(&self, system: &str) -> Result<(), EngineError> {
        let row = self.store.system(system).await?;
        if row.kind == "push" {
            return Ok(());
        }
        Err(ConnectError::lasting(
            "not_push",
            format!("{system} is of kind {} and does not call us", row.kind),
            "add a system of kind push",
        )
        .into())
    }

    /// Gives a system a token. Earlier ones stay good for a day, so that it can change over without a gap.
    pub async fn give_token(&self, system: &str, label: &str, token: String, principal: &str) -> Result<NewToken, EngineError> {
        self.push_system(system).await?;
        let now = self.now();
        let until = now.checked_add(OVERLAP_HOURS.hours()).unwrap_or(now);
        let id = self.store.add_system_token(system, &token, label, Some(until), principal, now).await?;
        self.tell(Event::System { name: system.to_owned() });
        Ok(NewToken { id, token })
    }

    /// The tokens of a system.
    pub async fn tokens(&self, system: &str) -> Result<Vec<TokenRow>, EngineError> {
        self.push_system(system).await?;
        Ok(self.store.system_tokens(system).await?)
    }

    /// Takes a token back at once.
    pub async fn end_token(&self, system: &str, id: &str, principal: &str) -> Result<(), EngineError> {
        if self.store.end_system_token(system, id, principal, self.now()).await? {
            Ok(())
        } else {
            Err(tide_store::StoreError::Missing { what: "token", name: id.to_owned() }.into())
        }
    }

    /// Makes sure that a system that pushes counts as read: what it has pushed is all there is.
    pub async fn pushed_is_complete(&self, system: &str, object: ObjectType) -> Result<(), EngineError> {
        if self.store.last_complete(system, object).await?.is_none() {
            let row = self.store.system(system).await?;
            self.read_system(&row, &[object]).await?;
        }
        Ok(())
    }

    /// Something was pushed and is kept: it is run on at once, if anything works by itself.
    pub fn was_pushed(&self, system: &str) {
        self.tell(Event::System { name: system.to_owned() });
        self.nudge.notify_one();
    }

    /// Takes an event in. A mover's values are put over those that are known; a leaver's record is
    /// absent from now on.
    pub async fn take_event(&self, system: &str, id: &str, happening: Happening, principal: &str) -> Result<EventRow, EngineError> {
        self.push_system(system).await?;
        let known = self.store.account_by_key(system, &happening.key).await?;
        let leaves = happening.kind == "leaver";
        if known.is_none() && happening.kind != "joiner" {
            return Err(ConnectError::lasting(
                "unknown_key",
                format!("{system} never told of `{}`, so that nobody can be its {}", happening.key, happening.kind),
                "send a joiner first, or check the key",
            )
            .into());
        }
        let mut attributes = known.map(|account| account.attributes).unwrap_or_default();
        for (name, values) in happening.attributes.iter() {
            attributes.set(name, values.to_vec());
        }
        let name = ["displayName", "name", "userName"].iter().find_map(|n| attributes.get(n).first().map(ToString::to_string));
        let account = Observed {
            key: happening.key.clone(),
            name: name.unwrap_or_else(|| happening.key.clone()),
            attributes,
            fault: None,
            version: None,
            is_exact: true,
        };
        self.store.put_event(system, id, &happening.kind, &happening.body, account, leaves, principal, self.now()).await?;
        self.pushed_is_complete(system, ObjectType::Person).await?;
        self.was_pushed(system);
        Ok(self.store.event(system, id).await?)
    }
}
