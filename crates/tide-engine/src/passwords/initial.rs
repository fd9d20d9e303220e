//! Passwords: drawn for new accounts, sealed, shown once, and put into the changes that set them
//! only when these are sent.

use crate::error::EngineError;
use crate::passwords::PasswordKeeper;
use crate::queue::SystemDispatcher;
use rand::seq::{IndexedRandom, SliceRandom};
use tide_connect::{ConnectError, Write};
use tide_core::Value;
use tide_core::compare::ValueChange;
use tide_core::decide::{Change, PASSWORD_MARK};
use tide_core::rules::{PasswordRules, TypeRules};
use tide_core::states::ChangeKind;
use tide_store::{ChangeRow, PasswordRow};
use zeroize::Zeroizing;

/// How often a password is drawn for one account, if the system refuses what was drawn.
const MOST_DRAWS: u32 = 3;

/// The characters of a set, without those that are easily confused.
fn characters_of(set: &str) -> &'static [u8] {
    match set {
        "lower" => b"abcdefghijkmnpqrstuvwxyz",
        "upper" => b"ABCDEFGHJKLMNPQRSTUVWXYZ",
        "digit" => b"23456789",
        _ => b"!#%+:=?@-_",
    }
}

/// Draws a password: one character of each set at least, the others from all of them, in any order.
pub(crate) fn draw_password(rules: &PasswordRules) -> Zeroizing<String> {
    let mut random = rand::rng();
    let all: Vec<u8> = rules
        .sets
        .iter()
        .flat_map(|set| characters_of(set))
        .copied()
        .collect();
    let mut drawn: Zeroizing<Vec<u8>> = Zeroizing::new(
        rules
            .sets
            .iter()
            .filter_map(|set| characters_of(set).choose(&mut random))
            .copied()
            .collect(),
    );
    while drawn.len() < rules.length {
        drawn.extend(all.choose(&mut random));
    }
    drawn.shuffle(&mut random);
    Zeroizing::new(drawn.iter().map(|byte| char::from(*byte)).collect())
}

/// Whether an account is created with an initial password.
pub(crate) fn begins_with_password(share: &SystemDispatcher, change: &Change) -> bool {
    let first = |types: &TypeRules| {
        types
            .password
            .as_ref()
            .is_some_and(|password| password.initial)
    };
    change.kind == ChangeKind::Create && share.rules.get(&change.object).is_some_and(first)
}

/// A password as the value of its attribute.
fn as_value(rules: &PasswordRules, password: &str) -> ValueChange {
    ValueChange {
        attribute: rules.attribute.clone(),
        after: vec![Value::text(password)],
        ..ValueChange::default()
    }
}

impl PasswordKeeper {
    /// First passwords that wait to be shown, and those that were.
    pub async fn first_passwords(&self) -> Result<Vec<PasswordRow>, EngineError> {
        Ok(self.context.store.first_passwords().await?)
    }

    /// Returns a first password, once, to an operator whom the rules allow.
    ///
    /// # Errors
    /// `Conflict` if the rules deliver first passwords by a webhook; `Invalid` if they show them
    /// to other operators only.
    pub async fn reveal_password(
        &self,
        id: i64,
        principal: &str,
        name: &str,
    ) -> Result<Zeroizing<String>, EngineError> {
        let (system, object) = self.context.store.first_password_of(id).await?;
        let rules = self.rules.published_rules().await?;
        let password = rules
            .set
            .of(&system, object)
            .and_then(|types| types.password.as_ref());
        if let Some(call) = password.and_then(|p| p.deliver_to.as_ref()) {
            return Err(EngineError::Conflict(format!(
                "the rules of {system} deliver first passwords to {call}; they are not shown"
            )));
        }
        let shown_to = password.map(|p| p.visible_to.clone());
        if let Some(names) =
            shown_to.filter(|names| !names.is_empty() && !names.iter().any(|one| one == name))
        {
            return Err(EngineError::Invalid(format!(
                "first passwords of {system} are visible to {}, and you are {name}",
                names.join(", ")
            )));
        }
        Ok(self
            .context
            .store
            .reveal_first_password(id, principal, self.context.now())
            .await?)
    }

    /// The password that a change sets: one that was set for the person, or a random one for a
    /// departure step, which is generated for the request and not stored. `None` if it is no such
    /// change; no password if it is no longer known.
    pub(crate) async fn password_of(
        &self,
        share: &SystemDispatcher,
        row: &ChangeRow,
    ) -> Result<Option<Option<Vec<ValueChange>>>, EngineError> {
        if row.change.kind != ChangeKind::Password {
            return Ok(None);
        }
        if let Some(scrambled) = self.random_password(share, row) {
            return Ok(Some(Some(vec![scrambled])));
        }
        if row
            .change
            .values
            .iter()
            .any(|value| value.attribute == PASSWORD_MARK)
        {
            return Ok(Some(self.carried_hash(share, row).await?));
        }
        let password = self
            .context
            .store
            .password_for(&row.change.identity)
            .await?;
        Ok(Some(password.map(|password| {
            let fill = |(at, value): (usize, &ValueChange)| match at {
                0 => ValueChange {
                    after: vec![Value::text(password.as_str())],
                    ..value.clone()
                },
                _ => value.clone(),
            };
            row.change.values.iter().enumerate().map(fill).collect()
        })))
    }

    /// Reads the hash that is to be copied to an account from its source. It is stored nowhere in
    /// between.
    async fn carried_hash(
        &self,
        share: &SystemDispatcher,
        row: &ChangeRow,
    ) -> Result<Option<Vec<ValueChange>>, EngineError> {
        let rules = share
            .rules
            .get(&row.change.object)
            .and_then(|types| types.password.as_ref());
        let (Some(from), Some(value)) = (
            rules.and_then(|rules| rules.copy_hash_from.as_deref()),
            row.change.values.first(),
        ) else {
            return Ok(None);
        };
        let Some(source) = self
            .context
            .store
            .account_of(&row.change.identity, from)
            .await?
        else {
            return Ok(None);
        };
        let line = self
            .connections
            .cached_connector(&self.context.store.find_system(from).await?)
            .await?;
        let hash = line.password_hash(&source.key).await?;
        Ok(hash.map(|hash| {
            vec![ValueChange {
                after: vec![Value::Bytes(hash.as_bytes().to_vec())],
                ..value.clone()
            }]
        }))
    }

    /// A random password, for a departure step that randomizes it.
    fn random_password(&self, share: &SystemDispatcher, row: &ChangeRow) -> Option<ValueChange> {
        let value = row
            .change
            .values
            .first()
            .filter(|value| row.change.step > 0 && value.after.is_empty())?;
        let usual = PasswordRules {
            length: 32,
            ..PasswordRules::of(&value.attribute)
        };
        let rules = share
            .rules
            .get(&row.change.object)
            .and_then(|types| types.password.clone())
            .unwrap_or(usual);
        let drawn = draw_password(&rules);
        Some(ValueChange {
            after: vec![Value::text(drawn.as_str())],
            ..value.clone()
        })
    }

    /// The password that a new account begins with, sealed before it is sent, so that it is never
    /// lost.
    pub(crate) async fn first_password(
        &self,
        share: &SystemDispatcher,
        row: &ChangeRow,
    ) -> Result<Option<ValueChange>, EngineError> {
        let wanted = share
            .rules
            .get(&row.change.object)
            .and_then(|types| types.password.as_ref());
        let Some(rules) =
            wanted.filter(|rules| rules.initial && row.change.kind == ChangeKind::Create)
        else {
            return Ok(None);
        };
        let password = match self.context.store.first_password(row.id).await? {
            Some(sealed) => sealed,
            None => self.draw_first_password(rules, row).await?,
        };
        Ok(Some(as_value(rules, &password)))
    }

    /// Generates the password of a new account and stores it encrypted, in place of an earlier
    /// one.
    async fn draw_first_password(
        &self,
        rules: &PasswordRules,
        row: &ChangeRow,
    ) -> Result<Zeroizing<String>, EngineError> {
        let drawn = draw_password(rules);
        self.context
            .store
            .seal_first_password(row.id, &drawn, self.context.now())
            .await?;
        Ok(drawn)
    }

    /// Generates another password in place of one that was refused, up to a limit: policies
    /// refuse what resembles a name, which a random password can.
    pub(crate) async fn redraw_password(
        &self,
        share: &SystemDispatcher,
        row: &ChangeRow,
        write: &mut Write,
        error: &ConnectError,
        draws: &mut u32,
    ) -> Result<bool, EngineError> {
        if !crate::queue::concerns_values(error) || *draws >= MOST_DRAWS {
            return Ok(false);
        }
        let rules = share
            .rules
            .get(&row.change.object)
            .and_then(|types| types.password.as_ref());
        let drawn = match row.change.kind {
            ChangeKind::Create => match rules.filter(|rules| rules.initial) {
                Some(rules) => Some(as_value(
                    rules,
                    &self.draw_first_password(rules, row).await?,
                )),
                None => None,
            },
            ChangeKind::Password => self.random_password(share, row),
            _ => None,
        };
        let Some(drawn) = drawn else { return Ok(false) };
        let Some(value) = write
            .values
            .iter_mut()
            .find(|value| value.attribute == drawn.attribute)
        else {
            return Ok(false);
        };
        *value = drawn;
        *draws += 1;
        Ok(true)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_password_has_its_length_and_something_of_each_set() {
        let rules = PasswordRules {
            attribute: "password".into(),
            length: 12,
            sets: ["lower", "upper", "digit", "sign"]
                .map(str::to_owned)
                .to_vec(),
            visible_to: Vec::new(),
            deliver_to: None,
            initial: true,
            sync: false,
            copy_hash_from: None,
        };
        let drawn: Vec<_> = (0..200).map(|_| draw_password(&rules)).collect();
        for password in &drawn {
            assert_eq!(password.len(), 12);
            for set in &rules.sets {
                assert!(
                    password
                        .bytes()
                        .any(|byte| characters_of(set).contains(&byte)),
                    "{set}"
                );
            }
            assert!(
                !password.contains(['l', 'I', '1', 'O', '0', 'o']),
                "characters that are mistaken for each other"
            );
        }
        assert!(drawn.windows(2).all(|two| two[0] != two[1]));
    }
}
