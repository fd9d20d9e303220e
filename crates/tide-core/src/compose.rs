//! Composes values: accounts into an identity, and an identity into the desired account of a
//! target. Authority is decided here, and nowhere else.

use crate::equality::are_equal;
use crate::expr::{EvalInputs, ExprError, Program, Root};
use crate::model::Account;
use crate::reasons::{HoldCause, Place, Reason, ReasonKind, ValueNote, ValueReason};
use crate::rules::{Domains, IdentityRules, Mapping, Requirement, TypeRules};
use crate::schema::{AttributeDef, Schema, ValueKind};
use crate::value::{Attributes, Near, Value, format_values};

/// The values of an identity, with the problems of composing them.
#[derive(Debug, Clone, Default)]
pub struct Composed {
    /// The values.
    pub attributes: Attributes,
    /// Expressions that failed, in words.
    pub problems: Vec<Reason>,
    /// The reason of each value, if requested.
    pub reasons: Vec<ValueReason>,
}

fn evaluation_failed(
    attribute: &str,
    program: &Program,
    place: &Place,
    error: &ExprError,
) -> Reason {
    let kind = ReasonKind::MappingFailed {
        attribute: attribute.to_owned(),
        error: error.to_string(),
        expression: program.source().to_owned(),
    };
    Reason::by(kind, place).on_hold(HoldCause::RuleError)
}

fn value_reason(mapping: &Mapping, values: &EvalInputs<'_>, found: &[Value]) -> ValueReason {
    ValueReason {
        attribute: mapping.attribute.clone(),
        value: format_values(found),
        rule: mapping.place.clone(),
        expression: mapping.program.source().to_owned(),
        read: mapping.program.values_read(values),
        from_system: None,
        note: None,
    }
}

/// Trims the result of an inbound mapping and drops blank values.
fn trim_values(values: Vec<Value>) -> Vec<Value> {
    values
        .into_iter()
        .filter(|value| !value.is_blank())
        .collect()
}

/// Composes an identity from its source accounts. For each attribute, the systems of its authority
/// come first, then the others by name; the first value wins. If the authority is exclusive, no
/// other system is considered.
pub fn compose_identity(
    rules: &IdentityRules,
    sources: &[(&str, &TypeRules, &Account)],
    explain: bool,
) -> Composed {
    let mut composed = Composed::default();
    for attribute in &rules.attributes {
        let mut order: Vec<&(&str, &TypeRules, &Account)> = sources.iter().collect();
        let rank = |system: &str| {
            attribute
                .authority
                .iter()
                .position(|a| a == system)
                .unwrap_or(usize::MAX)
        };
        order.sort_by_key(|(system, _, account)| (rank(system), *system, account.key.as_str()));
        let mapped = order.into_iter().filter_map(|(system, types, account)| {
            let mapping = types
                .inbound
                .iter()
                .find(|m| m.attribute.eq_ignore_ascii_case(&attribute.name))?;
            Some((system, account, mapping))
        });
        let mut mapped = mapped.peekable();
        let alone = attribute.exclusive
            && mapped
                .peek()
                .is_some_and(|(system, ..)| rank(system) != usize::MAX);
        for (system, account, mapping) in mapped.take(if alone { 1 } else { usize::MAX }) {
            let values = EvalInputs {
                account: Some(&account.attributes),
                identity: None,
            };
            match mapping.program.run(&values).map(trim_values) {
                Err(error) => composed.problems.push(evaluation_failed(
                    &attribute.name,
                    &mapping.program,
                    &mapping.place,
                    &error,
                )),
                Ok(found) if found.is_empty() => {
                    if explain
                        && !composed
                            .reasons
                            .iter()
                            .any(|r| r.attribute == attribute.name)
                    {
                        composed.reasons.push(ValueReason {
                            from_system: Some((*system).to_owned()),
                            ..value_reason(mapping, &values, &[])
                        });
                    }
                }
                Ok(found) => {
                    let found = if attribute.multi_valued {
                        found
                    } else {
                        found.into_iter().take(1).collect()
                    };
                    if explain {
                        composed.reasons.retain(|r| r.attribute != attribute.name);
                        composed.reasons.push(ValueReason {
                            from_system: Some((*system).to_owned()),
                            ..value_reason(mapping, &values, &found)
                        });
                    }
                    composed.attributes.set(&attribute.name, found);
                    break;
                }
            }
        }
    }
    composed
}

/// One value that a target should hold.
#[derive(Debug, Clone)]
pub struct DesiredValue<'r> {
    /// The rule.
    pub mapping: &'r Mapping,
    /// The definition of the attribute in the target.
    pub def: Option<&'r AttributeDef>,
    /// The population whose mapping it is, if any.
    pub population: Option<&'r str>,
    /// The values; none means that the source is empty.
    pub values: Vec<Value>,
    /// Identities that the value refers to and whose accounts do not exist yet.
    pub pending_references: Vec<String>,
}

impl DesiredValue<'_> {
    /// The reason, computed on request: it is not stored for every value.
    pub fn reason(&self, identity: &Attributes) -> ValueReason {
        let values = EvalInputs {
            account: None,
            identity: Some(identity),
        };
        let note = self.population.map(|name| ValueNote::ForPopulation {
            population: name.to_owned(),
        });
        ValueReason {
            note,
            ..value_reason(self.mapping, &values, &self.values)
        }
    }
}

/// The desired account of an identity in a target.
#[derive(Debug, Clone, Default)]
pub struct DesiredAccount<'r> {
    /// The values in the order of the rules.
    pub wanted: Vec<DesiredValue<'r>>,
    /// Required values that are missing, addresses outside the system's domains, and expressions
    /// that failed.
    pub problems: Vec<Reason>,
    /// Attributes that are wanted and have no value.
    pub missed: Vec<String>,
}

/// Replaces the domain of an address as this system requires, or says why the address is not sent
/// there.
fn map_domain(domains: &Domains, value: &Value) -> Result<Value, ReasonKind> {
    let Some((local, domain)) = value.as_text().and_then(|text| text.rsplit_once('@')) else {
        return Ok(value.clone());
    };
    let domain = domain.trim().to_lowercase();
    let there = domains.translate.get(&domain).unwrap_or(&domain);
    if !domains.ours.contains(there) {
        return Err(ReasonKind::ForeignDomain {
            address: value.to_string(),
            domains: domains.ours.clone(),
        });
    }
    Ok(if *there == domain {
        value.clone()
    } else {
        Value::text(format!("{local}@{there}"))
    })
}

/// The mappings that apply to an identity: those of its populations in their order, then the
/// common ones.
pub fn applicable_mappings<'r>(
    types: &'r TypeRules,
    identity: &Attributes,
) -> Result<Vec<(&'r Mapping, Option<&'r str>)>, Reason> {
    let own = types.outbound.iter().map(|mapping| (mapping, None));
    if types.populations.is_empty() {
        return Ok(own.collect());
    }
    let mut special: Vec<(&Mapping, Option<&str>)> = Vec::new();
    for population in &types.populations {
        let values = EvalInputs {
            account: None,
            identity: Some(identity),
        };
        let belongs = population.when.holds(&values).map_err(|error| {
            Reason::by(
                ReasonKind::PopulationFailed {
                    population: population.name.clone(),
                    error: error.to_string(),
                    expression: population.when.source().to_owned(),
                },
                &population.place,
            )
        })?;
        for mapping in population.outbound.iter().filter(|_| belongs) {
            if !special
                .iter()
                .any(|(other, _)| other.attribute.eq_ignore_ascii_case(&mapping.attribute))
            {
                special.push((mapping, Some(&population.name)));
            }
        }
    }
    // In the order of the system's own mappings, so that only values depend on the population.
    let mut all: Vec<(&Mapping, Option<&str>)> =
        Vec::with_capacity(types.outbound.len() + special.len());
    for (mapping, _) in own {
        match special
            .iter()
            .position(|(other, _)| other.attribute.eq_ignore_ascii_case(&mapping.attribute))
        {
            Some(at) => all.push(special.remove(at)),
            None => all.push((mapping, None)),
        }
    }
    all.append(&mut special);
    Ok(all)
}

/// The mappings of one type of a system, each with the definition of its attribute.
pub struct Shape<'r> {
    types: &'r TypeRules,
    schema: Option<&'r Schema>,
    own: Vec<Slot<'r>>,
}

/// One mapping, ready for use.
struct Slot<'r> {
    mapping: &'r Mapping,
    name: Near,
    population: Option<&'r str>,
    def: Option<&'r AttributeDef>,
    /// The domains of its addresses, if configured.
    domains: Option<&'r Domains>,
}

impl Slot<'_> {
    /// Whether the account already has these values, so that nothing else must be computed. Merged
    /// lists and references are always computed.
    fn holds(&self, values: &[Value], account: &Account) -> bool {
        !self.mapping.merge
            && !values.is_empty()
            && self.def.is_none_or(|def| def.kind != ValueKind::Reference)
            && are_equal(self.def, values, account.attributes.get_near(&self.name))
    }
}

impl<'r> Shape<'r> {
    /// Prepares the mappings of one type of one system with its schema.
    pub fn new(types: &'r TypeRules, schema: Option<&'r Schema>) -> Self {
        let mut shape = Shape {
            types,
            schema,
            own: Vec::new(),
        };
        shape.own = types
            .outbound
            .iter()
            .map(|mapping| shape.slot(mapping, None))
            .collect();
        shape
    }

    fn slot(&self, mapping: &'r Mapping, population: Option<&'r str>) -> Slot<'r> {
        let names = |domains: &&Domains| {
            domains
                .attributes
                .iter()
                .any(|name| name.eq_ignore_ascii_case(&mapping.attribute))
        };
        let def = self
            .schema
            .and_then(|schema| schema.get(&mapping.attribute));
        let name = Near::new(mapping.attribute.as_str());
        Slot {
            mapping,
            name,
            population,
            def,
            domains: self.types.domains.as_ref().filter(names),
        }
    }

    /// What the system should hold of an identity, which must carry `id` and `stage`. Of an account
    /// that is there, values that it holds already are left out: what remains is to be compared.
    pub fn desired_account(
        &self,
        identity: &Attributes,
        there: Option<&Account>,
    ) -> DesiredAccount<'r> {
        let mut desired = DesiredAccount::default();
        if self.types.populations.is_empty() {
            for slot in &self.own {
                fill_value(&mut desired, slot, identity, there);
            }
            return desired;
        }
        match applicable_mappings(self.types, identity) {
            Ok(holding) => {
                for (mapping, population) in holding {
                    fill_value(
                        &mut desired,
                        &self.slot(mapping, population),
                        identity,
                        there,
                    );
                }
            }
            Err(problem) => desired.problems.push(problem),
        }
        desired
    }
}

/// Computes the desired account. `identity` must contain `id` and `stage`.
pub fn desired<'r>(
    types: &'r TypeRules,
    identity: &Attributes,
    schema: Option<&'r Schema>,
) -> DesiredAccount<'r> {
    Shape::new(types, schema).desired_account(identity, None)
}

fn fill_value<'r>(
    desired: &mut DesiredAccount<'r>,
    slot: &Slot<'r>,
    identity: &Attributes,
    there: Option<&Account>,
) {
    let &Slot {
        mapping,
        population,
        def,
        domains,
        ..
    } = slot;
    // Most mappings give a value as it is, and most accounts hold it: nothing is copied to see
    // that.
    if let (Some(account), None, Some((Root::Identity, name))) =
        (there, domains, mapping.program.plain_attribute())
        && let values @ [Value::Text(_)] = identity.get_near(name)
        && !values[0].is_blank()
        && slot.holds(values, account)
        && def.is_none_or(|def| def.value_fault(values).is_none())
    {
        return;
    }
    let values = EvalInputs {
        account: None,
        identity: Some(identity),
    };
    let mut found = match mapping.program.run(&values).map(trim_values) {
        Err(error) => {
            return desired.problems.push(evaluation_failed(
                &mapping.attribute,
                &mapping.program,
                &mapping.place,
                &error,
            ));
        }
        Ok(found) => found,
    };
    if let Some(domains) = domains {
        for value in &mut found {
            match map_domain(domains, value) {
                Ok(there) => *value = there,
                Err(why) => desired.problems.push(Reason::by(why, &domains.place)),
            }
        }
    }
    note_missing(desired, there, mapping, def, &found);
    if let Some(fault) = def.and_then(|def| def.value_fault(&found)) {
        let kind = ReasonKind::UnfitValue { fault };
        desired.problems.push(Reason::by(kind, &mapping.place));
    }
    if there.is_none_or(|account| !slot.holds(&found, account)) {
        desired.wanted.push(DesiredValue {
            mapping,
            def,
            population,
            values: found,
            pending_references: Vec::new(),
        });
    }
}

/// Notes a value that a rule or the target requires and that is missing.
fn note_missing(
    desired: &mut DesiredAccount<'_>,
    there: Option<&Account>,
    mapping: &Mapping,
    def: Option<&AttributeDef>,
    found: &[Value],
) {
    if found.is_empty() && mapping.requirement == Requirement::Recommended {
        desired.missed.push(mapping.attribute.clone());
    }
    if found.is_empty() && mapping.requirement == Requirement::Required {
        let reads: Vec<String> = mapping
            .program
            .reads()
            .iter()
            .map(|(root, name)| format!("{}.{name}", root.as_str()))
            .collect();
        let kind = ReasonKind::MappedValueMissing {
            reads,
            attribute: mapping.attribute.clone(),
        };
        desired
            .problems
            .push(Reason::by(kind, &mapping.place).on_hold(HoldCause::MissingValue));
    }
    // The target would refuse an account without it. Of one that is there, the value stays.
    if found.is_empty()
        && mapping.requirement != Requirement::Required
        && there.is_none()
        && def.is_some_and(|def| def.required)
    {
        let kind = ReasonKind::TargetValueMissing {
            attribute: mapping.attribute.clone(),
            expression: mapping.program.source().to_owned(),
        };
        desired
            .problems
            .push(Reason::by(kind, &mapping.place).on_hold(HoldCause::MissingValue));
    }
}
