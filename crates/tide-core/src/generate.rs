//! Values that are generated once and reserved for life: account names that are unique now and in
//! the past.

use crate::ObjectType;
use crate::expr::EvalInputs;
use crate::outside::OutsideRecords;
use crate::reasons::{Reason, ReasonKind};
use crate::rules::{Generated, IdentityRules};
use crate::value::{Attributes, Value};
use std::cell::RefCell;
use std::collections::HashMap;

/// How often a pattern is tried before a person must see to it.
pub const ATTEMPTS: i64 = 100_000;

/// Folds a name for comparison: without case, surrounding blanks and different encodings of a
/// letter.
pub fn fold_name(text: &str) -> String {
    use unicode_normalization::UnicodeNormalization;
    text.trim().nfkc().collect::<String>().to_lowercase()
}

/// Names that are not free, by attribute and folded value, with their owner; no owner for a name
/// that is merely in use.
#[derive(Default)]
pub struct TakenValues<'e> {
    /// Asked of those that are not among the records, with the type that it is about.
    pub(crate) elsewhere: Option<(&'e dyn OutsideRecords, ObjectType)>,
    names: HashMap<(String, String), Option<String>>,
    /// Where counting got to, by the first name of each count: the thousandth of a name does not
    /// try the first nine hundred again. Names are only ever taken while it is used, so that what
    /// was skipped is not free.
    counted: RefCell<HashMap<String, i64>>,
}

impl TakenValues<'_> {
    /// Records a name of an owner, or in use.
    pub fn put(&mut self, attribute: &str, name: &str, whose: Option<&str>) {
        let slot = self
            .names
            .entry((attribute.to_owned(), fold_name(name)))
            .or_default();
        // An owner counts more than a use in a system.
        if slot.is_none() {
            *slot = whose.map(str::to_owned);
        }
    }

    /// Whether this identity may have this name.
    pub fn is_free(&self, attribute: &str, name: &str, identity: &str) -> bool {
        let folded = fold_name(name);
        let elsewhere = || {
            self.elsewhere
                .is_some_and(|(elsewhere, kind)| elsewhere.is_taken(kind, attribute, &folded))
        };
        match self.names.get(&(attribute.to_owned(), folded.clone())) {
            None => !elsewhere(),
            Some(whose) => whose.as_deref() == Some(identity),
        }
    }
}

/// Generates the values that an identity lacks. An existing value stays, whatever its pattern
/// would yield.
pub fn generate_values(
    rules: &IdentityRules,
    identity: &mut Attributes,
    id: &str,
    taken: &TakenValues<'_>,
) -> Result<Vec<(String, String)>, Reason> {
    let mut made = Vec::new();
    for attribute in &rules.attributes {
        let Some(generated) = attribute
            .generated
            .as_ref()
            .filter(|_| identity.get(&attribute.name).is_empty())
        else {
            continue;
        };
        match generate_value(generated, &attribute.name, identity, id, taken) {
            Ok(Some(name)) => {
                identity.set(attribute.name.as_str(), vec![Value::text(&name)]);
                made.push((attribute.name.clone(), name));
            }
            Ok(None) => {}
            Err(kind) => return Err(Reason::by(kind, &attribute.place)),
        }
    }
    Ok(made)
}

fn generate_value(
    generated: &Generated,
    attribute: &str,
    identity: &Attributes,
    id: &str,
    taken: &TakenValues<'_>,
) -> Result<Option<String>, ReasonKind> {
    let mut reading = identity.clone();
    let mut refused = Vec::new();
    let last = generated.patterns.len().saturating_sub(1);
    let mut attempt = 0;
    let mut count = None;
    while attempt < ATTEMPTS {
        attempt += 1;
        let place = usize::try_from(attempt - 1).unwrap_or(usize::MAX).min(last);
        let Some(pattern) = generated.patterns.get(place) else {
            return Ok(None);
        };
        reading.set("attempt", vec![Value::Int(attempt)]);
        let found = pattern
            .run(&EvalInputs {
                account: None,
                identity: Some(&reading),
            })
            .map_err(|error| ReasonKind::GenerationFailed {
                attribute: attribute.to_owned(),
                error: error.to_string(),
                expression: pattern.source().to_owned(),
            })?;
        // Too little is known yet for this pattern: a later one may do.
        let Some(name) = found
            .first()
            .map(|value| value.to_string().trim().to_owned())
            .filter(|name| !name.is_empty())
        else {
            if place == last {
                return Ok(None);
            }
            continue;
        };
        let too_long = generated
            .max_length
            .is_some_and(|longest| name.chars().count() > longest);
        if !too_long
            && !generated.reserved.contains(&fold_name(&name))
            && taken.is_free(attribute, &name, id)
        {
            if let Some(first) = count {
                taken.counted.borrow_mut().insert(first, attempt);
            }
            return Ok(Some(name));
        }
        if place == last && count.is_none() {
            let first = format!("{attribute}\0{}", fold_name(&name));
            attempt = taken
                .counted
                .borrow()
                .get(&first)
                .copied()
                .unwrap_or(attempt)
                .max(attempt);
            count = Some(first);
        }
        if too_long && place == last {
            refused.push(name);
            break;
        }
        if refused.len() < 3 && !refused.contains(&name) {
            refused.push(name);
        }
    }
    Err(ReasonKind::NoFreeValue {
        attribute: attribute.to_owned(),
        refused,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::rules::{RuleFile, RuleSet};

    fn rules(more: &str) -> IdentityRules {
        let text = format!(
            "[person.attributes]\ngivenName = {{}}\nfamilyName = {{}}\n\
             [person.attributes.login]\n{more}\n\
             generated = ['plainName(identity.givenName) + \".\" + plainName(identity.familyName)', \
             'plainName(identity.familyName) + text(identity.attempt)']\n"
        );
        let (set, faults) = RuleSet::load(
            &[RuleFile {
                name: "identities.toml".into(),
                text,
            }],
            &Default::default(),
        );
        assert!(faults.is_empty(), "{faults:?}");
        set.identities[&crate::ObjectType::Person].clone()
    }

    fn person(given: &str, family: &str) -> Attributes {
        [
            ("givenName".into(), vec![Value::text(given)]),
            ("familyName".into(), vec![Value::text(family)]),
        ]
        .into_iter()
        .collect()
    }

    fn login(
        rules: &IdentityRules,
        mut person: Attributes,
        id: &str,
        taken: &TakenValues<'_>,
    ) -> Result<String, String> {
        generate_values(rules, &mut person, id, taken)
            .map(|_| crate::value::format_values(person.get("login")))
            .map_err(|reason| reason.to_string())
    }

    #[test]
    fn the_first_free_pattern_wins_and_what_was_given_is_never_given_again() {
        let rules = rules("reserved = [\"lind2\"]");
        let mut taken = TakenValues::default();
        assert_eq!(
            login(&rules, person("Åsa", "Lind"), "1", &taken).as_deref(),
            Ok("asa.lind")
        );
        taken.put("login", "ASA.LIND", Some("1"));
        assert_eq!(
            login(&rules, person("Åsa", "Lind"), "1", &taken).as_deref(),
            Ok("asa.lind"),
            "it is hers"
        );
        assert_eq!(
            login(&rules, person("Asa", "Lind"), "2", &taken).as_deref(),
            Ok("lind3"),
            "the second is reserved"
        );
        taken.put("login", "lind3", None);
        assert_eq!(
            login(&rules, person("Asa", "Lind"), "2", &taken).as_deref(),
            Ok("lind4")
        );
    }

    #[test]
    fn thousands_of_one_name_are_counted_on_and_none_is_given_twice() {
        let rules = rules("");
        let mut taken = TakenValues::default();
        let mut seen = std::collections::HashSet::new();
        for n in 0..3_000 {
            let id = n.to_string();
            let name = login(&rules, person("Wei", "Wang"), &id, &taken).expect("free");
            taken.put("login", &name, Some(&id));
            assert!(seen.insert(name), "{n}");
        }
        assert!(
            seen.contains("wang3000") && seen.contains("wei.wang"),
            "every number was used"
        );
    }

    #[test]
    fn generated_names_stay_for_life_and_need_a_name() {
        let rules = rules("max_length = 12");
        let mut married = person("Åsa", "Vasko");
        married.set("login", vec![Value::text("asa.lind")]);
        assert_eq!(
            login(&rules, married, "1", &TakenValues::default()).as_deref(),
            Ok("asa.lind")
        );
        assert_eq!(
            login(&rules, Attributes::new(), "1", &TakenValues::default()).as_deref(),
            Ok("—")
        );
        assert_eq!(
            login(
                &rules,
                person("Maximiliane", "Lind"),
                "1",
                &TakenValues::default()
            )
            .as_deref(),
            Ok("lind2"),
            "too long"
        );
        let hopeless = login(
            &rules,
            person("Maximiliane", "Oberhausener-Strand"),
            "1",
            &TakenValues::default(),
        );
        assert!(hopeless.expect_err("none fits").contains("too long"));
    }
}
