//! Operators: they are added with a token, can be linked to a person, and belong to groups that
//! approvals name.

use crate::error::EngineError;
use crate::governance::OperatorDirectory;
use crate::tokens::{IssuedToken, new_token};
use jiff::SignedDuration;
use tide_core::explain::find_identities;
use tide_core::states::PrincipalKind;
use tide_store::{NewTokenRow, StoreError};

/// Maximum number of names in an error about an ambiguous person.
const MAX_NAMES: usize = 8;

impl OperatorDirectory {
    /// The identity that a text refers to, if any.
    async fn find_person(&self, text: Option<&str>) -> Result<Option<String>, EngineError> {
        let Some(text) = text.map(str::trim).filter(|text| !text.is_empty()) else {
            return Ok(None);
        };
        Ok(Some(self.resolve_identity(text).await?.0))
    }

    /// The id and label of the one identity that a name, a number, an address, a DN or an id means.
    ///
    /// # Errors
    /// `NotFound` if nothing has this name, with the candidates if several have it in part.
    pub async fn resolve_identity(&self, text: &str) -> Result<(String, String), EngineError> {
        let text = text.trim();
        // An id is known without a decision.
        if let Ok((identity, label)) = self.context.store.find_identity(text).await {
            return Ok((identity.id, label));
        }
        let near = self.decider.decide_around_text(text).await?;
        let (population, mut outcome) = (near.population, near.outcome);
        outcome
            .identities
            .retain(|(identity, _)| near.decided.identities.contains(&identity.id));
        let label = |id: &String| {
            outcome
                .identities
                .iter()
                .find(|(one, _)| one.id == *id)
                .map_or_else(|| id.clone(), |(_, label)| label.clone())
        };
        match find_identities(&population, &outcome, text).as_slice() {
            [one]
                if population
                    .identities
                    .iter()
                    .any(|identity| identity.id == *one) =>
            {
                Ok((one.clone(), label(one)))
            }
            [_] => Err(EngineError::NotFound(format!(
                "`{text}` is not stored yet: run once, and try again"
            ))),
            [] => Err(EngineError::NotFound(format!(
                "no person matches `{text}`: give a name, number, address or id"
            ))),
            all => {
                let names: Vec<String> = all
                    .iter()
                    .take(MAX_NAMES)
                    .map(|id| format!("{} ({id})", label(id)))
                    .collect();
                let more = if all.len() > MAX_NAMES { ", …" } else { "" };
                let said = format!(
                    "{} people match `{text}`: give a number or an id. They are: {}{more}",
                    all.len(),
                    names.join(", ")
                );
                Err(EngineError::Invalid(said))
            }
        }
    }

    /// Adds an operator and returns its token, of which only a hash is stored.
    pub async fn add_operator(
        &self,
        name: &str,
        groups: &[String],
        person: Option<&str>,
        by: &str,
    ) -> Result<String, EngineError> {
        if self
            .context
            .store
            .list_operators()
            .await?
            .iter()
            .any(|one| one.name.eq_ignore_ascii_case(name))
        {
            return Err(StoreError::Exists {
                what: "operator",
                name: name.to_owned(),
            }
            .into());
        }
        let identity = self.find_person(person).await?;
        let token = new_token();
        let principal = self
            .context
            .store
            .add_principal(
                PrincipalKind::Operator,
                name,
                Some(&token),
                self.context.now(),
            )
            .await?;
        self.context
            .store
            .note(by, "operator.added", name, "", self.context.now())
            .await?;
        self.context
            .store
            .set_operator(
                &principal.id,
                groups,
                identity.as_deref(),
                by,
                self.context.now(),
            )
            .await?;
        Ok(token)
    }

    /// Issues a further token to an operator and returns it. Only the operator itself may ask for
    /// it, since the token is its identity; others may when the operator has no valid token left.
    /// Earlier tokens stay valid for `earlier_hours`.
    ///
    /// # Errors
    /// `Forbidden` if the operator has a valid token and another operator asks: only its owner
    /// can create another one.
    pub async fn rotate_token(
        &self,
        name: &str,
        label: &str,
        expires_in_days: Option<u32>,
        earlier_hours: u32,
        by: &str,
    ) -> Result<IssuedToken, EngineError> {
        let operator = self.context.store.find_operator(name).await?;
        let now = self.context.now();
        if operator.id != by {
            let stamp = tide_store::format_timestamp(now);
            let is_good = |row: &tide_store::TokenRow| {
                row.ended_at.is_none() && row.expires_at.as_ref().is_none_or(|until| *until > stamp)
            };
            if self
                .context
                .store
                .list_tokens(PrincipalKind::Operator, &operator.name)
                .await?
                .iter()
                .any(is_good)
            {
                let said = format!(
                    "{0} has a token, and only {0} can create another one: end that token first",
                    operator.name
                );
                return Err(EngineError::Forbidden(said));
            }
            // Recorded, so that an operator cannot approve with another name what they caused.
            self.context
                .store
                .set_operator(
                    &operator.id,
                    &operator.teams,
                    operator.identity.as_deref(),
                    by,
                    now,
                )
                .await?;
        }
        let after = |hours: i64| {
            now.saturating_add(SignedDuration::from_hours(hours))
                .unwrap_or(now)
        };
        let token = new_token();
        let new = NewTokenRow {
            kind: PrincipalKind::Operator,
            name: &operator.name,
            token: &token,
            label,
            expires: expires_in_days.map(|days| after(i64::from(days) * 24)),
            earlier_until: Some(after(earlier_hours.into())),
        };
        let id = self.context.store.add_token(new, by, now).await?;
        Ok(IssuedToken { id, token })
    }

    /// Sets the groups and the person of an operator. Operators cannot change their own.
    ///
    /// # Errors
    /// `Forbidden` for one's own groups or person.
    pub async fn set_operator(
        &self,
        name: &str,
        groups: &[String],
        person: Option<&str>,
        by: &str,
    ) -> Result<(), EngineError> {
        let operator = self.context.store.find_operator(name).await?;
        if operator.id == by {
            return Err(EngineError::Forbidden(
                "operators cannot change their own groups or person: another operator must"
                    .to_owned(),
            ));
        }
        let identity = self.find_person(person).await?;
        Ok(self
            .context
            .store
            .set_operator(
                &operator.id,
                groups,
                identity.as_deref(),
                by,
                self.context.now(),
            )
            .await?)
    }
}
