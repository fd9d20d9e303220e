//! The rule set: what the engineer wrote, typed and checked.
//!
//! A rule set is a folder of TOML files: `identities.toml` (what an identity holds), `tables.toml`
//! (look-up tables), `lifecycle.toml` (how people come, stay and go), `roles.toml`,
//! `shared_mappings.toml` (mappings that systems share), `guards.toml` (limits), `approvals.toml`
//! (who must say yes), `webhooks.toml` (who is called), and one file per system. [`RuleSet::load`]
//! reads their texts; every fault names file, line and column and says what to do.

pub mod approvals;
pub mod compare;
pub mod difference;
pub mod edit;
pub(crate) mod filters;
pub mod licenses;
pub mod lifecycle;
mod load;
pub mod notifications;
mod read;
pub mod roles;

pub(crate) use load::load_files;

use crate::expr::Program;
use crate::reasons::Place;
use crate::rules::compare::Compare;
use crate::schema::Schema;
use crate::states::ObjectType;
use crate::value::{Attributes, Value};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::fmt;
use tide_ldap::Dn;

/// Mappings that several systems share, as they stand in `shared_mappings.toml`.
struct SharedMapping<'a> {
    name: String,
    inbound: Option<read::Section<'a>>,
    outbound: Option<read::Section<'a>>,
}

type SharedMappings<'a> = Vec<SharedMapping<'a>>;

/// Tables of `tables.toml`: name → key → value.
pub type Tables = BTreeMap<String, BTreeMap<String, String>>;

/// The schemas that are known, by system and type.
pub type Schemas = BTreeMap<String, BTreeMap<ObjectType, Schema>>;

/// A whole rule set.
#[derive(Debug, Clone, Default)]
pub struct RuleSet {
    /// The attributes of identities, by type.
    pub identities: BTreeMap<ObjectType, IdentityRules>,
    /// Look-up tables.
    pub tables: Tables,
    /// Limits.
    pub guards: Vec<Guard>,
    /// The approvals.
    pub approvals: Vec<crate::rules::approvals::Approval>,
    /// The webhooks, by name.
    pub webhooks: BTreeMap<String, WebhookRules>,
    /// How people come, stay and go, by type.
    pub lifecycle: BTreeMap<ObjectType, crate::rules::lifecycle::LifecycleRules>,
    /// Licenses that are counted, in the order of the file.
    pub licenses: Vec<crate::rules::licenses::License>,
    /// Notification rules, in the order of the file.
    pub notifications: Vec<crate::rules::notifications::NotificationRule>,
    /// Roles, in the order of the file.
    pub roles: Vec<crate::rules::roles::Role>,
    /// The systems' rules, by the system's name.
    pub systems: BTreeMap<String, SystemRules>,
}

/// The attributes of identities of one type.
#[derive(Debug, Clone, Default)]
pub struct IdentityRules {
    /// The attribute shown as the identity's name.
    pub label: Option<String>,
    /// The attributes, in the order of the file.
    pub attributes: Vec<IdentityAttribute>,
}

impl IdentityRules {
    /// The declaration of an attribute.
    pub fn get(&self, name: &str) -> Option<&IdentityAttribute> {
        self.attributes
            .iter()
            .find(|attribute| attribute.name.eq_ignore_ascii_case(name))
    }
}

/// One attribute of identities.
#[derive(Debug, Clone, Default)]
pub struct IdentityAttribute {
    /// Its name.
    pub name: String,
    /// Whether it may have several values.
    pub multi_valued: bool,
    /// Whether nothing is sent without a value.
    pub required: bool,
    /// Whether a missing value is noted.
    pub recommended: bool,
    /// Whether a value must be unique among identities.
    pub unique: bool,
    /// Systems in the order in which their value wins; systems not named come after, by name.
    pub authority: Vec<String>,
    /// Whether the first source of the authority that contains the identity alone determines the
    /// value, including that there is none.
    pub exclusive: bool,
    /// Whether it refers to another identity.
    pub reference: Option<Pointer>,
    /// How a missing value is generated.
    pub generated: Option<Generated>,
    /// The values over which identities are spread.
    pub distribution: Option<DistributionRule>,
    /// Where it is declared.
    pub place: Place,
}

/// An attribute that points to other identities: a manager, the members of a group.
#[derive(Debug, Clone, Default)]
pub struct Pointer {
    /// The types that it may point to; none named means any.
    pub kinds: Vec<ObjectType>,
    /// The attribute by which the other is known where a source names neither a key nor a DN, such
    /// as an employee number.
    pub by: Option<String>,
}

/// A generated value: created once and reserved for life.
#[derive(Debug, Clone)]
pub struct Generated {
    /// The patterns, tried in order; the last is tried again with a growing `identity.attempt`.
    pub patterns: Vec<Program>,
    /// Values that are never assigned, folded.
    pub reserved: Vec<String>,
    /// The most characters.
    pub max_length: Option<usize>,
    /// Attributes of systems in which it must be free too.
    pub unique_in: Vec<(String, String)>,
}

/// Values over which identities are spread: each gets one, once and for life.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DistributionRule {
    /// The values, in the order in which they are preferred.
    pub over: Vec<String>,
    /// One after the other, or else the one that the fewest have who are here.
    pub round_robin: bool,
}

/// The rules of one system.
#[derive(Debug, Clone, Default)]
pub struct SystemRules {
    /// The system's name.
    pub name: String,
    /// Its file.
    pub file: String,
    /// Rules by type.
    pub types: BTreeMap<ObjectType, TypeRules>,
}

/// One system's rules for one type.
#[derive(Debug, Clone, Default)]
pub struct TypeRules {
    /// The scope.
    pub scope: Scope,
    /// How accounts find their identity, in order.
    pub matching: Vec<MatchRule>,
    /// Account → identity.
    pub inbound: Vec<Mapping>,
    /// Identity → account.
    pub outbound: Vec<Mapping>,
    /// Outbound mappings of some identities only: the first whose condition holds wins, attribute
    /// by attribute.
    pub populations: Vec<PopulationRules>,
    /// An example record with the expected result.
    pub examples: Vec<Example>,
    /// What happens to an account whose identity is out of scope.
    pub on_out_of_scope: OnOutOfScope,
    /// The departure steps, in order; if empty, `on_out_of_scope` applies.
    pub departure: Vec<crate::rules::lifecycle::DepartureStep>,
    /// Memberships by rule.
    pub memberships: Vec<MembershipRule>,
    /// Systems in which an account must exist before one is created here.
    pub depends_on: Vec<String>,
    /// What happens to a linked account that others deleted in the system.
    pub on_deleted: OnDeleted,
    /// What happens to an account that others created in the system and that matches no identity.
    pub on_orphaned: OnOrphaned,
    /// What happens to a value that others changed in the system.
    pub on_drift: OnDrift,
    /// The first password of a new account.
    pub password: Option<PasswordRules>,
    /// The mail domains that the system accepts.
    pub domains: Option<Domains>,
    /// Accounts that are never touched.
    pub protected: Protected,
    /// Where the type's section starts.
    pub place: Place,
}

impl TypeRules {
    /// Whether this system supplies values of identities.
    pub fn is_source(&self) -> bool {
        !self.inbound.is_empty()
    }

    /// Whether accounts are written in this system.
    pub fn is_target(&self) -> bool {
        !self.outbound.is_empty() || !self.populations.is_empty()
    }

    /// Whether an attribute is a merged list for any population.
    pub fn merges(&self, attribute: &str) -> bool {
        let all = self.outbound.iter().chain(
            self.populations
                .iter()
                .flat_map(|population| &population.outbound),
        );
        all.into_iter()
            .any(|mapping| mapping.merge && mapping.attribute.eq_ignore_ascii_case(attribute))
    }
}

/// What happens to an account whose identity is out of scope.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum OnOutOfScope {
    /// It is disabled and otherwise left alone.
    #[default]
    Disable,
    /// It is left alone.
    Leave,
}

/// What happens to a linked account that others deleted in the system.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum OnDeleted {
    /// It is held until a person splits it off.
    #[default]
    Ask,
    /// It is made again.
    Recreate,
    /// It stays deleted.
    Ignore,
}

/// What happens to an account that others created in the system and that matches no identity.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum OnOrphaned {
    /// It is shown and left alone.
    #[default]
    Ignore,
    /// The account is disabled.
    Disable,
    /// It waits among the things that a person must decide.
    Ask,
}

/// What becomes of a value that was right and was then changed in the system itself: a value, a
/// membership, a container.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum OnDrift {
    /// It is repaired.
    #[default]
    Repair,
    /// It is reported, and left until an operator chooses repair.
    Report,
}

/// Memberships in groups of one system that a rule controls.
#[derive(Debug, Clone)]
pub struct MembershipRule {
    /// The condition; `None` applies to all.
    pub when: Option<Program>,
    /// The groups, by name.
    pub groups: Program,
    /// Groups from which unmanaged members are removed.
    pub remove_unmanaged: Vec<String>,
    /// Its location in the rule files.
    pub place: Place,
}

/// Outbound mappings of one population: a site, a contract.
#[derive(Debug, Clone)]
pub struct PopulationRules {
    /// Its name, for reasons.
    pub name: String,
    /// Who belongs to it.
    pub when: Program,
    /// Its mappings; they come before the system's own.
    pub outbound: Vec<Mapping>,
    /// Its location in the rule files.
    pub place: Place,
}

/// A record written beside the rules, and what they must give for it.
#[derive(Debug, Clone)]
pub struct Example {
    /// What it shows.
    pub name: String,
    /// The record: an account of a source, an identity for a target.
    pub given: Attributes,
    /// The attributes that the condition checks, with the values that they must have.
    pub expect: Vec<(String, Vec<Value>)>,
    /// The target whose account is checked; `None` means what the system's own rules give.
    pub account_in: Option<String>,
    /// Its location in the rule files.
    pub place: Place,
}

/// The first password of a new account.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PasswordRules {
    /// The attribute that takes it (`userPassword`, `password`).
    pub attribute: String,
    /// How many characters it has.
    pub length: usize,
    /// The sets that it draws from, one character of each at least.
    pub sets: Vec<String>,
    /// The principals who may see it, by name; none named means any operator.
    pub visible_to: Vec<String>,
    /// The webhook that it is delivered to, instead of being shown.
    pub deliver_to: Option<String>,
    /// Does a new account begin with one of its own?
    pub initial: bool,
    /// Is a password that is set in one place set here too?
    pub sync: bool,
    /// The directory whose password hashes are copied here.
    pub copy_hash_from: Option<String>,
}

impl PasswordRules {
    /// The default for an attribute without a setting.
    pub fn of(attribute: &str) -> Self {
        let sets = load::passwords::PASSWORD_SETS.map(str::to_owned).to_vec();
        PasswordRules {
            attribute: attribute.to_owned(),
            length: 20,
            sets,
            visible_to: Vec::new(),
            deliver_to: None,
            initial: true,
            sync: false,
            copy_hash_from: None,
        }
    }
}

/// A webhook.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WebhookRules {
    /// The URL that receives the deliveries.
    pub url: String,
    /// How long an answer is waited for, in seconds.
    pub timeout_seconds: u32,
    /// Its location in the rule files.
    pub place: Place,
}

/// The scope of a system.
#[derive(Debug, Clone, Default)]
pub struct Scope {
    /// Containers to read; none means all.
    pub within: Vec<Container>,
    /// Containers inside them to leave out.
    pub except: Vec<Container>,
    /// Groups of which a record must be a member of one; none means that it need not.
    pub groups: Vec<GroupScope>,
    /// Groups whose members are out of scope.
    pub not_groups: Vec<GroupScope>,
    /// A filter that must hold.
    pub filter: Option<FilterScope>,
    /// Conditions that must all hold, each with the words for those it leaves out.
    pub conditions: Vec<Condition>,
}

impl Scope {
    /// Does it name groups?
    pub fn names_groups(&self) -> bool {
        !self.groups_in("").is_empty()
    }

    /// The groups that it names, by its lists and by its filter, each with its system; `own` is the
    /// scope's own system.
    pub fn groups_in<'s>(&'s self, own: &'s str) -> Vec<(&'s str, String)> {
        let listed = self.groups.iter().chain(&self.not_groups);
        let mut all: Vec<(&str, String)> = listed
            .map(|group| (group.system.as_deref().unwrap_or(own), group.name.clone()))
            .collect();
        if let Some(RecordFilter::Ldap(filter)) = self.filter.as_ref().map(|filter| &filter.filter)
        {
            all.extend(
                crate::rules::filters::groups_named(filter)
                    .into_iter()
                    .map(|name| (own, name)),
            );
        }
        all
    }
}

/// A group whose members are in scope, or excluded.
#[derive(Debug, Clone)]
pub struct GroupScope {
    /// What the group is called in its system: its DN, its name or its key.
    pub name: String,
    /// The system that holds it, when it is not the scope's own.
    pub system: Option<String>,
    /// Do members of its member groups count too?
    pub nested: bool,
    /// Where it is named.
    pub place: Place,
}

/// A filter in the writing of a protocol.
#[derive(Debug, Clone)]
pub struct FilterScope {
    /// The filter.
    pub filter: RecordFilter,
    /// As it was written.
    pub source: String,
    /// Its location in the rule files.
    pub place: Place,
}

/// A filter in the writing of a protocol.
#[derive(Debug, Clone)]
pub enum RecordFilter {
    /// RFC 4515.
    Ldap(tide_ldap::LdapFilter),
    /// RFC 7644 §3.4.2.2.
    Scim(tide_scim::ScimFilter),
}

/// The mail domains that a system accepts.
#[derive(Debug, Clone, Default)]
pub struct Domains {
    /// The attributes that carry addresses.
    pub attributes: Vec<String>,
    /// The domains, in lower case; an address outside them is never sent.
    pub ours: Vec<String>,
    /// Domains that are written as another.
    pub translate: BTreeMap<String, String>,
    /// Where they are named.
    pub place: Place,
}

/// Accounts that are never joined, changed or disabled.
#[derive(Debug, Clone, Default)]
pub struct Protected {
    /// By name or key, in lower case.
    pub names: Vec<String>,
    /// By condition, with the words for why.
    pub conditions: Vec<Condition>,
    /// Where they are named.
    pub place: Place,
}

/// A container of a directory.
#[derive(Debug, Clone)]
pub struct Container {
    /// Its name.
    pub dn: Dn,
    /// Only entries directly inside, or all below?
    pub one_level: bool,
    /// Where it is named.
    pub place: Place,
}

/// A condition on a record.
#[derive(Debug, Clone)]
pub struct Condition {
    /// The expression.
    pub when: Program,
    /// The reason for records for which it does not hold.
    pub reason: String,
    /// Its location in the rule files.
    pub place: Place,
}

/// One way for an account to find its identity.
#[derive(Debug, Clone)]
pub struct MatchRule {
    /// Its name, for reasons.
    pub name: String,
    /// The account's side: one expression, or several that must all agree.
    pub account: Vec<Program>,
    /// The identity's side, one for one.
    pub identity: Vec<Program>,
    /// How the two are compared.
    pub compare: Compare,
    /// Whether a match links automatically; otherwise it needs review.
    pub certain: bool,
    /// Other values that speak for a match: more must agree than differ.
    pub supporting: Vec<SupportingValues>,
    /// How many of the values present on both sides must agree; otherwise it needs review.
    pub min_agreeing: usize,
    /// Its location in the rule files.
    pub place: Place,
}

/// A value that speaks for a match when both sides have it and it is the same.
#[derive(Debug, Clone)]
pub struct SupportingValues {
    /// The account's side.
    pub account: Program,
    /// The identity's side.
    pub identity: Program,
    /// Does a difference in it alone make the match doubtful?
    pub required: bool,
}

/// How much a value is needed.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum Requirement {
    /// Without it, nothing is sent.
    Required,
    /// Without it, the rest is sent, with a warning.
    Recommended,
    /// It may be missing.
    #[default]
    Optional,
}

/// When a value is written.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum Apply {
    /// Kept in sync with the rule.
    #[default]
    Always,
    /// Set when the account is created, and never again.
    OnCreate,
    /// Set while the account has none.
    IfEmpty,
}

/// What an empty source does to the target.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum OnEmpty {
    /// Its value is cleared.
    #[default]
    Clear,
    /// Its value stays.
    Keep,
}

/// One attribute's rule.
#[derive(Debug, Clone)]
pub struct Mapping {
    /// The attribute that receives the value.
    pub attribute: String,
    /// The expression.
    pub program: Program,
    /// How much it is needed.
    pub requirement: Requirement,
    /// When it is written.
    pub apply: Apply,
    /// What an empty source does.
    pub on_empty: OnEmpty,
    /// Whether values that others added are kept. Ours are then added and removed individually.
    pub merge: bool,
    /// Whether the target requires that the referenced account exists first.
    pub wait_for_target: bool,
    /// Are groups among those it points to replaced by their members?
    pub flatten: bool,
    /// Its location in the rule files.
    pub place: Place,
}

/// A limit past which changes are held.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Guard {
    /// The system; `None` applies to each system separately.
    pub system: Option<String>,
    /// The kind of change, as its word.
    pub change: String,
    /// The most changes, with those of the hours before.
    pub max_count: Option<usize>,
    /// The largest share of the system's linked accounts, in percent.
    pub max_percent: Option<u32>,
    /// Up to this number of changes, the percentage does not apply.
    pub min_count: Option<usize>,
    /// The period that counts, in hours, so that many small runs cannot avoid a guard.
    pub window_hours: u32,
    /// Does it hold because no file sets a limit?
    pub is_built_in: bool,
    /// Its location in the rule files.
    pub place: Place,
}

codes! {
    /// How bad a fault is.
    pub enum FaultSeverity {
        /// The rule set cannot be used.
        Error,
        /// Usable, but should be reviewed.
        Warning,
    }
}

/// Something wrong in a rule set.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct RuleFault {
    /// How bad.
    pub severity: FaultSeverity,
    /// Where.
    pub place: Place,
    /// What.
    pub message: String,
    /// What to do.
    pub help: Option<String>,
}

impl fmt::Display for RuleFault {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(
            f,
            "{}:{}:{}: {}",
            self.place.file, self.place.line, self.place.column, self.message
        )?;
        if let Some(help) = &self.help {
            write!(f, " ({help})")?;
        }
        Ok(())
    }
}

/// A file of a rule set.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct RuleFile {
    /// Its name inside the folder, such as `harbour.toml`.
    pub name: String,
    /// Its text.
    pub text: String,
}

impl RuleSet {
    /// Compiles an expression that is tried and not stored. `account` states whether it may read
    /// an account, and its schema, if known.
    pub fn compile_expression(
        &self,
        kind: ObjectType,
        account: Option<Option<&Schema>>,
        source: &str,
    ) -> Result<Program, crate::expr::ExprError> {
        load::compile_expression(self, kind, account, source)
    }

    /// Whether the rules have dependencies, licenses or notifications, so that the result of a run can
    /// allow another run to continue.
    pub fn has_steps(&self) -> bool {
        let waits = |system: &SystemRules| {
            system
                .types
                .values()
                .any(|types| !types.depends_on.is_empty())
        };
        !self.licenses.is_empty()
            || !self.notifications.is_empty()
            || self.systems.values().any(waits)
    }

    /// The zone in which the dates of a type are meant.
    pub fn zone(&self, kind: ObjectType) -> jiff::tz::TimeZone {
        self.lifecycle
            .get(&kind)
            .map_or(jiff::tz::TimeZone::UTC, |life| life.zone.clone())
    }

    /// The rules of one system for one type.
    pub fn of(&self, system: &str, kind: ObjectType) -> Option<&TypeRules> {
        self.systems
            .get(system)
            .and_then(|rules| rules.types.get(&kind))
    }

    /// The systems that receive accounts of a type, by name.
    pub fn targets(&self, kind: ObjectType) -> impl Iterator<Item = (&str, &TypeRules)> {
        self.systems.iter().filter_map(move |(name, system)| {
            let rules = system.types.get(&kind)?;
            rules.is_target().then_some((name.as_str(), rules))
        })
    }

    /// The systems that give identities of a type their values, by name.
    pub fn sources(&self, kind: ObjectType) -> impl Iterator<Item = (&str, &TypeRules)> {
        self.systems.iter().filter_map(move |(name, system)| {
            let rules = system.types.get(&kind)?;
            rules.is_source().then_some((name.as_str(), rules))
        })
    }
}
