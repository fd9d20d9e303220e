//! The scope of a system, with reasons.

mod filters;
mod groups;
mod ldap_filter;

pub use crate::rules::filters::is_server_side;
pub use groups::{Groups, MembershipFact};
pub(crate) use groups::{member_references, members_of, names_of};
pub use ldap_filter::{SERVER_FILTERS, filter_answer};

use crate::expr::EvalInputs;
use crate::model::Account;
use crate::reasons::{Reason, ReasonKind};
use crate::rules::{Container, GroupScope, Scope};
use crate::value::Value;
use tide_ldap::Dn;

/// The scope status of a record.
#[derive(Debug, Clone, PartialEq)]
pub enum ScopeDecision {
    /// It is in scope.
    In,
    /// It does not, and why.
    Out(Reason),
    /// Unknown, and why.
    Unclear(Reason),
}

/// The attribute in which a directory's account carries its name in the tree.
pub const DN: &str = "dn";

/// A record that is tested against a scope.
#[derive(Default)]
pub struct ScopeSubject<'a> {
    /// What conditions read.
    pub values: EvalInputs<'a>,
    /// Its accounts: the one in the scope's own system, or all that feed an identity.
    pub accounts: &'a [&'a Account],
}

impl ScopeSubject<'_> {
    fn dn(&self) -> Option<&str> {
        self.values
            .account?
            .get(DN)
            .first()
            .and_then(Value::as_text)
    }
}

/// Tests a record against a scope.
pub fn test_scope(scope: &Scope, subject: &ScopeSubject<'_>, groups: &Groups<'_>) -> ScopeDecision {
    let values = &subject.values;
    if let Some(value) = by_containers(scope, subject) {
        return value;
    }
    if !scope.except.is_empty()
        && let Some(place) = subject.dn().and_then(|text| text.parse::<Dn>().ok())
        && let Some(container) = scope
            .except
            .iter()
            .find(|container| is_inside(&place, container))
    {
        return ScopeDecision::Out(Reason::by(
            ReasonKind::ContainerExcluded {
                container: container.dn.to_string(),
            },
            &container.place,
        ));
    }
    if let Some(standing) = by_groups(scope, subject, groups) {
        return standing;
    }
    if let (Some(filter), Some(account)) = (&scope.filter, values.account) {
        match filters::holds(&filter.filter, account, subject.accounts, groups) {
            Some(true) => {}
            Some(false) => {
                return ScopeDecision::Out(Reason::by(
                    ReasonKind::FilterNotMatched {
                        filter: filter.source.clone(),
                    },
                    &filter.place,
                ));
            }
            None => {
                let kind = ReasonKind::FilterOnServer {
                    filter: filter.source.clone(),
                };
                return ScopeDecision::Unclear(Reason::by(kind, &filter.place));
            }
        }
    }
    for condition in &scope.conditions {
        match condition.when.holds(values) {
            Ok(true) => {}
            Ok(false) => {
                let words = condition.reason.clone();
                let kind = ReasonKind::ConditionNotMet { words };
                return ScopeDecision::Out(Reason::by(kind, &condition.place));
            }
            Err(error) => {
                return ScopeDecision::Unclear(Reason::by(
                    ReasonKind::ConditionFailed {
                        condition: condition.when.source().to_owned(),
                        error: error.to_string(),
                    },
                    &condition.place,
                ));
            }
        }
    }
    ScopeDecision::In
}

/// Whether the containers exclude a record from the scope.
fn by_containers(scope: &Scope, subject: &ScopeSubject<'_>) -> Option<ScopeDecision> {
    if !scope.within.is_empty() {
        let Some(place) = subject.dn().and_then(|text| text.parse::<Dn>().ok()) else {
            return Some(ScopeDecision::Unclear(Reason::by(
                ReasonKind::NoDn,
                &scope.within[0].place,
            )));
        };
        if !scope
            .within
            .iter()
            .any(|container| is_inside(&place, container))
        {
            let containers: Vec<String> = scope.within.iter().map(|c| c.dn.to_string()).collect();
            // A scope that is one level too shallow would exclude people silently: report it.
            let near = scope
                .within
                .iter()
                .any(|c| c.one_level && place.is_under(&c.dn));
            let kind = if near {
                ReasonKind::BelowOneLevel { containers }
            } else {
                ReasonKind::OutsideContainers { containers }
            };
            return Some(ScopeDecision::Out(Reason::by(kind, &scope.within[0].place)));
        }
    }
    None
}

fn is_inside(place: &Dn, container: &Container) -> bool {
    match place.depth_below(&container.dn) {
        Some(depth) => !container.one_level || depth <= 1,
        None => false,
    }
}

/// The result of a scope's groups; `None` if they do not exclude the record.
fn by_groups(
    scope: &Scope,
    subject: &ScopeSubject<'_>,
    groups: &Groups<'_>,
) -> Option<ScopeDecision> {
    let of = |group: &GroupScope| groups.member(group, subject.accounts);
    for group in &scope.not_groups {
        match of(group) {
            MembershipFact::Member => {
                return Some(ScopeDecision::Out(Reason::by(
                    ReasonKind::InExcludedGroup {
                        group: group.name.clone(),
                    },
                    &group.place,
                )));
            }
            MembershipFact::Unknown(why) => {
                return Some(ScopeDecision::Unclear(Reason::by(why, &group.place)));
            }
            MembershipFact::Not(_) => {}
        }
    }
    let first = scope.groups.first()?;
    let mut doubts = Vec::new();
    for group in &scope.groups {
        match of(group) {
            MembershipFact::Member => return None,
            MembershipFact::Unknown(why) => {
                return Some(ScopeDecision::Unclear(Reason::by(why, &group.place)));
            }
            MembershipFact::Not(broken) => doubts.extend(broken),
        }
    }
    let kind = ReasonKind::NotInGroup {
        groups: scope
            .groups
            .iter()
            .map(|group| group.name.clone())
            .collect(),
        unread: doubts,
    };
    Some(ScopeDecision::Out(Reason::by(kind, &first.place)))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::expr::{ExprScope, Program, Root};
    use crate::reasons::Place;
    use crate::value::Attributes;

    fn container(dn: &str, one_level: bool) -> Container {
        Container {
            dn: dn.parse().expect("valid"),
            one_level,
            place: Place::default(),
        }
    }

    fn of(scope: &Scope, dn: &str) -> String {
        let account: Attributes = [(DN.to_owned(), vec![Value::text(dn)])]
            .into_iter()
            .collect();
        let subject = ScopeSubject {
            values: EvalInputs {
                account: Some(&account),
                ..EvalInputs::default()
            },
            accounts: &[],
        };
        match test_scope(scope, &subject, &Groups::default()) {
            ScopeDecision::In => "in".into(),
            ScopeDecision::Out(reason) | ScopeDecision::Unclear(reason) => reason.to_string(),
        }
    }

    #[test]
    fn containers_take_in_and_leave_out() {
        let scope = Scope {
            within: vec![container("ou=people,dc=e", false)],
            except: vec![container("ou=kiosks,ou=people,dc=e", false)],
            ..Scope::default()
        };
        assert_eq!(of(&scope, "cn=Ada,ou=Deck,OU=People,dc=e"), "in");
        assert_eq!(
            of(&scope, "cn=Ada,ou=kiosks,ou=people,dc=e"),
            "its container is excluded: ou=kiosks,ou=people,dc=e"
        );
        assert_eq!(
            of(&scope, "cn=Ada,ou=former,dc=e"),
            "its container is not inside ou=people,dc=e"
        );
    }

    #[test]
    fn a_shallow_scope_says_that_it_is_shallow() {
        let scope = Scope {
            within: vec![container("ou=people,dc=e", true)],
            ..Scope::default()
        };
        assert_eq!(of(&scope, "cn=Ada,ou=people,dc=e"), "in");
        assert!(
            of(&scope, "cn=Ada,ou=deck,ou=people,dc=e").starts_with("deeper than the one level")
        );
    }

    #[test]
    fn a_condition_gives_its_own_words() {
        let when = Program::compile("account.kind == 'crew'", &ExprScope::open(&[Root::Account]))
            .expect("compiles");
        let scope = Scope {
            conditions: vec![crate::rules::Condition {
                when,
                reason: "not crew".into(),
                place: Place::default(),
            }],
            ..Scope::default()
        };
        let account: Attributes = [("kind".into(), vec![Value::text("guest")])]
            .into_iter()
            .collect();
        let values = EvalInputs {
            account: Some(&account),
            ..EvalInputs::default()
        };
        let subject = ScopeSubject {
            values,
            accounts: &[],
        };
        assert_eq!(
            test_scope(&scope, &subject, &Groups::default()),
            ScopeDecision::Out(Reason::by(
                ReasonKind::ConditionNotMet {
                    words: "not crew".into()
                },
                &Place::default()
            ))
        );
    }
}
