//! Operators: they are added with a token, may be people whom we know, and belong to groups that approvals name.

use crate::{Engine, EngineError};
use tide_core::explain::whom;
use tide_store::StoreError;

impl Engine {
    /// The identity of whoever is meant by a name, number, address or id.
    async fn person(&self, text: Option<&str>) -> Result<Option<String>, EngineError> {
        let Some(text) = text.map(str::trim).filter(|text| !text.is_empty()) else { return Ok(None) };
        let (_, population, outcome) = self.decide_now().await?;
        match whom(&population, &outcome, text).as_slice() {
            [one] if population.identities.iter().any(|identity| identity.id == *one) => Ok(Some(one.clone())),
            [_] => Err(EngineError::Refused(format!("`{text}` is not kept yet: run once, and say it again"))),
            [] => Err(EngineError::Refused(format!("nobody is found by `{text}`: give a name, a number, an address or an id"))),
            all => Err(EngineError::Refused(format!("{} people are found by `{text}`: give a number or an id", all.len()))),
        }
    }

    /// Adds an operator, and returns its token: it is kept as a hash only.
    pub async fn add_operator(&self, name: &str, groups: &[String], person: Option<&str>, by: &str) -> Result<String, EngineError> {
        if self.store.operators().await?.iter().any(|one| one.name.eq_ignore_ascii_case(name)) {
            return Err(StoreError::Exists { what: "operator", name: name.to_owned() }.into());
        }
        let identity = self.person(person).await?;
        let token: String = rand::random::<[u8; 32]>().iter().map(|byte| format!("{byte:02x}")).collect();
        let principal = self.store.add_principal("operator", name, Some(&token), self.now()).await?;
        self.store.note(by, "operator.added", name, "", self.now()).await?;
        self.store.set_operator(&principal.id, groups, identity.as_deref(), by, self.now()).await?;
        Ok(token)
    }

    /// Says to which groups an operator belongs, and which person it is.
    pub async fn set_operator(&self, name: &str, groups: &[String], person: Option<&str>, by: &str) -> Result<(), EngineError> {
        let operator = self.store.operator(name).await?;
        let identity = self.person(person).await?;
        Ok(self.store.set_operator(&operator.id, groups, identity.as_deref(), by, self.now()).await?)
    }
}
