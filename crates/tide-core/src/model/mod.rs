//! The records that a decision is made from.

mod operators;

pub use operators::{ApprovalState, Departure, KeptRoles, MatchAnswer, MatchDecision, RoleGrant};

use crate::reasons::ReasonKind;
use crate::schema::Schema;
use crate::states::{LinkBasis, ObjectType};
use crate::value::{Attributes, Value};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::Arc;

/// The attribute of an identity that names its roles.
pub const ROLES: &str = "roles";

/// The attribute of an identity with the cause of its departure.
pub const LEFT_BY: &str = "leftBy";

/// The row of an account in the store.
pub type AccountId = i64;

/// One record in one system, as last observed.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Account {
    /// Its row in the store.
    pub id: AccountId,
    /// The system it lives in.
    pub system: String,
    /// Its type.
    pub kind: ObjectType,
    /// The key that the system never changes (entryUUID, objectGUID, SCIM id).
    pub key: String,
    /// Its name in the system: a DN, a user name.
    pub name: String,
    /// Its values.
    pub attributes: Attributes,
    /// Since when it is no longer there.
    pub absent_since: Option<Timestamp>,
    /// Its system confirmed the absence: it reported the deletion, or did not find the record by
    /// its key. Otherwise a full read did not contain it, which can have other reasons: a
    /// permission, a replica, a truncated file.
    pub absence_confirmed: bool,
    /// The fault of the record, if it is invalid: nothing is decided from it then.
    pub fault: Option<String>,
}

/// An account as a system just showed it, before it has a row in the store.
#[derive(Debug, Clone, PartialEq)]
pub struct Observed {
    /// The key that the system never changes.
    pub key: String,
    /// Its name in the system.
    pub name: String,
    /// Its values.
    pub attributes: Attributes,
    /// The fault of the record, if it is invalid.
    pub fault: Option<String>,
    /// The version of the record, where the system has versions: of two versions of one record
    /// the later one sorts last.
    pub version: Option<String>,
    /// After a write: whether this is exactly the state that the write returned; otherwise it was
    /// read afterwards, and others may have changed it.
    pub is_exact: bool,
}

codes! {
    /// The stage of an identity in its lifecycle.
    pub enum Stage {
        /// Known, and not here yet.
        Expected,
        /// Here.
        Active,
        /// Here again later.
        Away,
        /// On the way out.
        Leaving,
        /// Gone.
        Left,
    }
}

/// The one record that joins accounts of one type.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Identity {
    /// Its lasting name inside the service.
    pub id: String,
    /// Its type.
    pub kind: ObjectType,
    /// Composed values, as they were when last decided.
    pub attributes: Attributes,
    /// Its stage, as last decided.
    pub stage: Stage,
    /// Since when, if that is known.
    #[serde(default)]
    pub since: Option<Timestamp>,
    /// Roles in their overlap, each with its end.
    #[serde(default)]
    pub kept_roles: KeptRoles,
}

/// The tie between an account and an identity.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Link {
    /// The account.
    pub account: AccountId,
    /// The identity.
    pub identity: String,
    /// Its origin.
    pub basis: LinkBasis,
}

/// How a target normalized values that we sent; stored so that they are not sent again.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Normalization {
    /// The values that we sent.
    pub sent: Vec<Value>,
    /// The values that the system returned.
    pub returned: Vec<Value>,
}

/// A generated value that is reserved for one identity for life.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ReservedValue {
    /// The type of identity.
    pub kind: ObjectType,
    /// The attribute.
    pub attribute: String,
    /// The value.
    pub value: String,
    /// Its owner.
    pub identity: String,
}

/// The facts about a system on which a decision is based.
#[derive(Debug, Clone, Default)]
pub struct SystemFacts {
    /// Its schema by type; empty before the first connection. Shared, because it is large and
    /// every decision needs it.
    pub schema: Arc<BTreeMap<ObjectType, Schema>>,
    /// Types that we may write.
    pub writable: Vec<ObjectType>,
    /// Types that were read completely at least once.
    pub read: Vec<ObjectType>,
    /// Paused by an operator: nothing is sent.
    pub paused: bool,
    /// Why writes are held, by its schedule or by the emergency stop.
    pub write_hold: Option<ReasonKind>,
    /// Not armed yet: nothing is sent.
    pub disarmed: bool,
    /// The names by which the system knows our own service account, in lower case.
    pub own: Vec<String>,
}

/// The records with a change in flight, by system and kind of change: identities, or orphaned
/// accounts.
pub type InFlight = BTreeMap<(String, String), BTreeSet<(String, Option<AccountId>)>>;

/// All inputs of a decision except the rules and the time.
#[derive(Debug, Clone, Default)]
pub struct Population {
    /// All accounts of all systems, absent ones too.
    pub accounts: Vec<Account>,
    /// All identities.
    pub identities: Vec<Identity>,
    /// All open links.
    pub links: Vec<Link>,
    /// Normalizations of our values by targets, by account and attribute.
    pub normalizations: HashMap<(AccountId, String), Normalization>,
    /// Our values of merged lists, by account and attribute.
    pub managed_values: HashMap<(AccountId, String), Vec<Value>>,
    /// All generated values that were ever assigned, with their identities.
    pub reserved_values: Vec<ReservedValue>,
    /// The systems by name.
    pub systems: BTreeMap<String, SystemFacts>,
    /// Answers about matches.
    pub match_answers: Vec<MatchAnswer>,
    /// Number of changes by system, kind and window in hours, without released ones.
    pub recent_change_counts: BTreeMap<(String, String, u32), usize>,
    /// Records with a change in flight, which is queued or sent and not among the recent ones yet.
    pub in_flight: InFlight,
    /// Overrides of guards, by fingerprint.
    pub guard_overrides: HashMap<String, GuardOverride>,
    /// States of approvals, by fingerprint.
    pub approvals: HashMap<String, ApprovalState>,
    /// The states of accounts before others changed them in their system.
    pub drift_baseline: HashMap<AccountId, Attributes>,
    /// Departures that operators scheduled or started, by identity.
    pub departures: BTreeMap<String, Departure>,
    /// When each identity was last reinstated after inactivity.
    pub reactivations: BTreeMap<String, Timestamp>,
    /// Granted roles.
    pub role_grants: Vec<RoleGrant>,
    /// Passwords that are being synchronized.
    pub password_sets: Vec<PendingPassword>,
    /// Marks of the password hashes that were copied to accounts.
    pub password_hash_marks: HashMap<AccountId, String>,
    /// Memberships that rules own.
    pub rule_memberships: Vec<RuleMembership>,
    /// Our writes that are not visible in the accounts.
    pub write_history: HashMap<AccountId, WriteHistory>,
}

/// A password that was set in one place; the password itself is not part of it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PendingPassword {
    /// Its number.
    pub id: i64,
    /// Its identity; `None` if it follows from the account.
    pub identity: Option<String>,
    /// The account at which it was set.
    pub account: Option<AccountId>,
    /// When.
    pub created_at: Timestamp,
    /// Whether it must be changed at the next sign-in.
    pub must_change: bool,
}

/// A membership that a rule owns and can revoke.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RuleMembership {
    /// The member.
    pub identity: String,
    /// The group's account.
    pub group: AccountId,
    /// Since when.
    pub created_at: Timestamp,
    /// The member's name as it was written into the group: after a rename, the group may still hold
    /// this former name.
    pub member: String,
    /// The same, as [`crate::references::fold_reference`] writes it.
    pub folded: String,
}

/// The name by which a group contains a member of a rule, if it is no longer the name that was
/// written.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct MemberName {
    /// The member.
    pub identity: String,
    /// The group's account.
    pub group: AccountId,
    /// The present name.
    pub member: String,
}

/// Our writes to an account that are not visible in it.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct WriteHistory {
    /// When we last set its password.
    pub password: Option<Timestamp>,
    /// When we deleted it.
    pub deleted: Option<Timestamp>,
}

/// An operator's answer to a change that a guard holds.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct GuardOverride {
    /// Released; `false`: discarded while it stays the same.
    pub release: bool,
    /// The operator.
    pub principal: String,
}
