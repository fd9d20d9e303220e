//! Password sync: a password set in one place is sealed, sent to all linked systems like any other
//! change, and erased when all have it.

use crate::error::EngineError;
use crate::passwords::PasswordKeeper;
use jiff::SignedDuration;
use std::collections::BTreeMap;
use std::sync::Arc;
use tide_core::incremental::Records;
use tide_core::model::PendingPassword;
use tide_core::{Account, RuleSet};
use tide_store::{NewPassword, PasswordOwner, PasswordSetRow};

/// How long a password is stored for a system that does not accept it.
const KEPT: SignedDuration = SignedDuration::from_hours(7 * 24);

/// The minimum length of a synchronized password. Further requirements are the target system's.
const SHORTEST: usize = 8;

/// The longest, in characters.
const LONGEST: usize = 256;

/// Whether any system has password sync.
fn keeps_in_step(set: &RuleSet) -> bool {
    let types = set
        .systems
        .values()
        .flat_map(|system| system.types.values());
    types
        .filter_map(|types| types.password.as_ref())
        .any(|password| password.sync)
}

/// A password that was set, and how far it has come.
#[derive(Debug, Clone)]
pub struct PasswordProgress {
    /// The password, without the password.
    pub row: PasswordSetRow,
    /// Systems that do not have it yet.
    pub missing: Vec<String>,
    /// Of these, the systems that refused it, with their answer.
    pub refused: BTreeMap<String, String>,
    /// Nothing more is to be done for it.
    pub is_settled: bool,
}

impl PasswordKeeper {
    /// Sets the password of a person in all systems with password sync.
    pub async fn set_password(
        self: &Arc<Self>,
        identity: &str,
        password: &str,
        must_change: bool,
        principal: &str,
    ) -> Result<i64, EngineError> {
        self.context.store.find_identity(identity).await?;
        let rules = self.rules.published_rules().await?;
        if !keeps_in_step(&rules.set) {
            let how = "no system has password sync: set `sync = true` in its [person.password], and publish";
            return Err(EngineError::Invalid(how.to_owned()));
        }
        if self.kept_in_step(None, identity).await?.is_empty() {
            let how = "no account of the person is in a system with password sync";
            return Err(EngineError::Invalid(how.to_owned()));
        }
        let long = password.chars().count();
        if !(SHORTEST..=LONGEST).contains(&long) || password.chars().any(char::is_control) {
            return Err(EngineError::Invalid(format!(
                "a password has {SHORTEST} to {LONGEST} characters, and no control characters"
            )));
        }
        let id = self
            .context
            .store
            .set_password(
                NewPassword {
                    owner: PasswordOwner::Identity(identity),
                    password,
                    must_change,
                    origin: "",
                },
                principal,
                self.context.now(),
            )
            .await?;
        self.pending.wake();
        Ok(id)
    }

    /// A system reported a new password of an account: it is synchronized to the others, if any
    /// have password sync.
    pub async fn password_seen(
        &self,
        system: &str,
        key: &str,
        password: &str,
        principal: &str,
    ) -> Result<(), EngineError> {
        let rules = match self.rules.published_rules().await {
            Ok(rules) => rules,
            // Without rules nothing is carried anywhere.
            Err(EngineError::NoRules | EngineError::Rules(_)) => return Ok(()),
            Err(error) => return Err(error),
        };
        let account = self.context.store.account_by_key(system, key).await?;
        if let (Some(account), true) = (account, keeps_in_step(&rules.set)) {
            self.context
                .store
                .set_password(
                    NewPassword {
                        owner: PasswordOwner::Account(account.id),
                        password,
                        must_change: false,
                        origin: system,
                    },
                    principal,
                    self.context.now(),
                )
                .await?;
            self.pending.wake();
        }
        Ok(())
    }

    /// Passwords that were set for a person, each with the systems that do not have it yet, and the
    /// answers of those that rejected it.
    pub async fn passwords_set(
        &self,
        identity: &str,
    ) -> Result<Vec<PasswordProgress>, EngineError> {
        let mut all = Vec::new();
        for row in self.context.store.passwords_set(Some(identity)).await? {
            let mut progress = PasswordProgress {
                missing: Vec::new(),
                refused: BTreeMap::new(),
                is_settled: row.ended.is_some(),
                row,
            };
            if let (None, Some(identity)) = (&progress.row.ended, &progress.row.set.identity) {
                progress.missing = self
                    .systems_without_password(&progress.row.set, identity)
                    .await?;
                // It is erased, and noted as done, with the next decision.
                progress.is_settled = progress.missing.is_empty();
                progress.refused = self
                    .context
                    .store
                    .password_refusals(identity, progress.row.set.created_at)
                    .await?;
                progress
                    .refused
                    .retain(|system, _| progress.missing.contains(system));
            }
            all.push(progress);
        }
        Ok(all)
    }

    /// The systems in which the account of a person does not have a password yet.
    async fn systems_without_password(
        &self,
        set: &PendingPassword,
        identity: &str,
    ) -> Result<Vec<String>, EngineError> {
        let all = self.kept_in_step(Some(set), identity).await?;
        Ok(all
            .into_iter()
            .filter(|(_, has)| !has)
            .map(|(system, _)| system)
            .collect())
    }

    /// The systems with password sync for a person, and whether the account there has a password
    /// that was set from here.
    async fn kept_in_step(
        &self,
        set: Option<&PendingPassword>,
        identity: &str,
    ) -> Result<Vec<(String, bool)>, EngineError> {
        let rules = self.rules.published_rules().await?;
        let accounts = self.context.store.accounts_of(identity).await?;
        let records = Records {
            accounts: accounts.into_iter().collect(),
            ..Records::default()
        };
        let part = self
            .context
            .store
            .load_part(&records, Default::default(), false)
            .await?;
        let origin = set.and_then(|set| set.account);
        let here = part
            .accounts
            .iter()
            .filter(|account| account.absent_since.is_none() && origin != Some(account.id));
        let in_step = here.filter(|account| {
            let password = rules
                .set
                .of(&account.system, account.kind)
                .and_then(|types| types.password.as_ref());
            password.is_some_and(|password| password.sync)
        });
        let has = |account: &Account| {
            let done = part
                .write_history
                .get(&account.id)
                .and_then(|acts| acts.password);
            set.is_some_and(|set| done.is_some_and(|done| done >= set.created_at))
        };
        Ok(in_step
            .map(|account| (account.system.clone(), has(account)))
            .collect())
    }

    /// Erases passwords that are stored everywhere, were replaced, or are too old.
    pub(crate) async fn end_passwords(&self) -> Result<(), EngineError> {
        let open = self.context.store.passwords_on_their_way().await?;
        let now = self.context.now();
        for (place, set) in open.iter().enumerate() {
            let identity = match (&set.identity, set.account) {
                (Some(identity), _) => Some(identity.clone()),
                (None, Some(account)) => self.context.store.owner_of(account).await?,
                (None, None) => None,
            };
            let old = now.duration_since(set.created_at) > KEPT;
            let outcome = match &identity {
                Some(_)
                    if open[place + 1..].iter().any(|later| {
                        later.identity == set.identity && later.account == set.account
                    }) =>
                {
                    "replaced by a newer password".to_owned()
                }
                Some(identity) => match self.systems_without_password(set, identity).await? {
                    missing if missing.is_empty() => "stored in all accounts".to_owned(),
                    missing if old => format!(
                        "given up after 7 days: not stored in {}",
                        missing.join(", ")
                    ),
                    _ => continue,
                },
                // A newly pushed account is linked by the next decision.
                None if old => {
                    "given up after 7 days: the account is linked to no identity".to_owned()
                }
                None => continue,
            };
            self.context
                .store
                .end_password(set.id, &outcome, now)
                .await?;
        }
        Ok(())
    }
}
