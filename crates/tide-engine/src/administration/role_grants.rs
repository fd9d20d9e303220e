//! Roles that operators grant.

use crate::administration::Administration;
use crate::error::EngineError;
use crate::views::no_role;
use std::sync::Arc;
use tide_core::model::RoleGrant;

impl Administration {
    /// Grants a role to a person, from now or a moment, permanently or until a moment.
    pub async fn give_role(
        self: &Arc<Self>,
        grant: RoleGrant,
        comment: &str,
        principal: &str,
    ) -> Result<(), EngineError> {
        let rules = self.rules.published_rules().await?;
        if !rules.set.roles.iter().any(|role| role.name == grant.role) {
            return Err(no_role(&rules.set, &grant.role));
        }
        if let (Some(from), Some(until)) = (grant.from, grant.until)
            && until <= from
        {
            return Err(EngineError::Invalid(
                "the end of the grant is before its start".to_owned(),
            ));
        }
        self.context
            .store
            .give_role(grant, comment.trim(), principal, self.context.now())
            .await?;
        self.pending.wake();
        Ok(())
    }

    /// Revokes a granted role.
    pub async fn take_role(
        self: &Arc<Self>,
        identity: &str,
        role: &str,
        principal: &str,
    ) -> Result<(), EngineError> {
        self.context
            .store
            .take_role(identity, role, principal, self.context.now())
            .await?;
        self.pending.wake();
        Ok(())
    }
}
