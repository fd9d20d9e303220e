//! Who takes part with a system, and the reason when not.

use crate::expr::Values;
use crate::reasons::Reason;
use crate::rules::{Container, Scope};
use tide_ldap::Dn;

/// Where a record stands to a scope.
#[derive(Debug, Clone, PartialEq)]
pub enum Standing {
    /// It takes part.
    In,
    /// It does not, and why.
    Out(Reason),
    /// It cannot be told, and why.
    Unclear(Reason),
}

/// The attribute in which a directory's account carries its name in the tree.
pub const DN: &str = "dn";

/// Tests a record against a scope. `dn` is its place in a tree, if it has one.
pub fn standing(scope: &Scope, values: &Values<'_>, dn: Option<&str>) -> Standing {
    if !scope.within.is_empty() {
        let Some(place) = dn.and_then(|text| text.parse::<Dn>().ok()) else {
            return Standing::Unclear(Reason::by("it has no place in a tree, and the scope names containers", &scope.within[0].place));
        };
        let inside = |container: &&Container| match place.depth_below(&container.dn) {
            Some(depth) => !container.one_level || depth <= 1,
            None => false,
        };
        if !scope.within.iter().any(|c| inside(&c)) {
            let wanted: Vec<String> = scope.within.iter().map(|c| c.dn.to_string()).collect();
            // A scope that is one level too shallow loses people in silence: say so.
            let near = scope.within.iter().any(|c| c.one_level && place.is_under(&c.dn));
            let text = if near {
                format!("it lies deeper than the one level that the scope reads of {}", wanted.join(" and "))
            } else {
                format!("its container is not inside {}", wanted.join(" or "))
            };
            return Standing::Out(Reason::by(text, &scope.within[0].place));
        }
        if let Some(container) = scope.except.iter().find(inside) {
            return Standing::Out(Reason::by(format!("its container is left out: {}", container.dn), &container.place));
        }
    }
    for condition in &scope.conditions {
        match condition.when.holds(values) {
            Ok(true) => {}
            Ok(false) => return Standing::Out(Reason::by(condition.otherwise.clone(), &condition.place)),
            Err(error) => {
                return Standing::Unclear(Reason::by(
                    format!("the condition {} cannot be answered: {error}", condition.when.source()),
                    &condition.place,
                ));
            }
        }
    }
    Standing::In
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::expr::{Known, Program, Root};
    use crate::reasons::Place;
    use crate::value::{Attributes, Value};

    fn container(dn: &str, one_level: bool) -> Container {
        Container { dn: dn.parse().expect("valid"), one_level, place: Place::default() }
    }

    fn of(scope: &Scope, dn: &str) -> String {
        match standing(scope, &Values::default(), Some(dn)) {
            Standing::In => "in".into(),
            Standing::Out(reason) | Standing::Unclear(reason) => reason.text,
        }
    }

    #[test]
    fn containers_take_in_and_leave_out() {
        let scope = Scope {
            within: vec![container("ou=people,dc=e", false)],
            except: vec![container("ou=kiosks,ou=people,dc=e", false)],
            conditions: vec![],
        };
        assert_eq!(of(&scope, "cn=Ada,ou=Deck,OU=People,dc=e"), "in");
        assert_eq!(of(&scope, "cn=Ada,ou=kiosks,ou=people,dc=e"), "its container is left out: ou=kiosks,ou=people,dc=e");
        assert_eq!(of(&scope, "cn=Ada,ou=former,dc=e"), "its container is not inside ou=people,dc=e");
    }

    #[test]
    fn a_shallow_scope_says_that_it_is_shallow() {
        let scope = Scope { within: vec![container("ou=people,dc=e", true)], ..Scope::default() };
        assert_eq!(of(&scope, "cn=Ada,ou=people,dc=e"), "in");
        assert!(of(&scope, "cn=Ada,ou=deck,ou=people,dc=e").starts_with("it lies deeper than the one level"));
    }

    #[test]
    fn a_condition_gives_its_own_words() {
        let when = Program::compile("account.kind == 'crew'", &Known::open(&[Root::Account])).expect("compiles");
        let scope = Scope {
            conditions: vec![crate::rules::Condition { when, otherwise: "not crew".into(), place: Place::default() }],
            ..Scope::default()
        };
        let account: Attributes = [("kind".into(), vec![Value::text("guest")])].into_iter().collect();
        let values = Values { account: Some(&account), ..Values::default() };
        assert_eq!(standing(&scope, &values, None), Standing::Out(Reason::by("not crew", &Place::default())));
    }
}
