//! First passwords: drawn when an account is made, sealed, and shown once.

use crate::{Engine, EngineError};
use rand::seq::{IndexedRandom, SliceRandom};
use tide_core::rules::PasswordRules;
use tide_store::PasswordRow;
use zeroize::Zeroizing;

/// The characters of a set. Those that are easily taken for each other are left out of all.
fn letters(set: &str) -> &'static [u8] {
    match set {
        "lower" => b"abcdefghijkmnpqrstuvwxyz",
        "upper" => b"ABCDEFGHJKLMNPQRSTUVWXYZ",
        "digit" => b"23456789",
        _ => b"!#%+:=?@-_",
    }
}

/// Draws a password: one character of each set at least, the others from all of them, in any order.
pub(crate) fn draw(rules: &PasswordRules) -> Zeroizing<String> {
    let mut random = rand::rng();
    let all: Vec<u8> = rules.sets.iter().flat_map(|set| letters(set)).copied().collect();
    let mut drawn: Zeroizing<Vec<u8>> =
        Zeroizing::new(rules.sets.iter().filter_map(|set| letters(set).choose(&mut random)).copied().collect());
    while drawn.len() < rules.length {
        drawn.extend(all.choose(&mut random));
    }
    drawn.shuffle(&mut random);
    Zeroizing::new(drawn.iter().map(|byte| char::from(*byte)).collect())
}

impl Engine {
    /// First passwords that wait to be shown, and those that were.
    pub async fn first_passwords(&self) -> Result<Vec<PasswordRow>, EngineError> {
        Ok(self.store.first_passwords().await?)
    }

    /// Shows a first password, once, to whom the rules let see it.
    pub async fn reveal_password(&self, id: i64, principal: &str, name: &str) -> Result<Zeroizing<String>, EngineError> {
        let (system, object) = self.store.first_password_of(id).await?;
        let rules = self.rules().await?;
        let password = rules.set.of(&system, object).and_then(|types| types.password.as_ref());
        if let Some(call) = password.and_then(|p| p.handed_to.as_ref()) {
            return Err(EngineError::Refused(format!("the rules of {system} hand first passwords to {call}, and show them to nobody")));
        }
        let shown_to = password.map(|p| p.shown_to.clone());
        if let Some(names) = shown_to.filter(|names| !names.is_empty() && !names.iter().any(|one| one == name)) {
            return Err(EngineError::Refused(format!(
                "the rules of {system} show first passwords to {}, and you are {name}",
                names.join(", ")
            )));
        }
        Ok(self.store.reveal_first_password(id, principal, self.now()).await?)
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
            sets: ["lower", "upper", "digit", "sign"].map(str::to_owned).to_vec(),
            shown_to: Vec::new(),
            handed_to: None,
            first: true,
            in_step: false,
            carry: None,
        };
        let drawn: Vec<_> = (0..200).map(|_| draw(&rules)).collect();
        for password in &drawn {
            assert_eq!(password.len(), 12);
            for set in &rules.sets {
                assert!(password.bytes().any(|byte| letters(set).contains(&byte)), "{set}");
            }
            assert!(!password.contains(['l', 'I', '1', 'O', '0', 'o']), "characters that are mistaken for each other");
        }
        assert!(drawn.windows(2).all(|two| two[0] != two[1]));
    }
}
