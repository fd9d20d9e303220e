//! `tide-api` holds the requests and answers that the service and its clients share. The OpenAPI
//! document is generated from these types; nothing here does anything.

use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// An error, as RFC 9457 lays it out.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct Problem {
    /// A word for programs, as a URI reference.
    #[serde(rename = "type")]
    pub kind: String,
    /// What happened, in short.
    pub title: String,
    /// The HTTP status.
    pub status: u16,
    /// What happened, to what.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub detail: Option<String>,
    /// What to do about it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub remedy: Option<String>,
    /// Faults of a rule set, if that is what is wrong.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub faults: Vec<Fault>,
}

/// A number behind a word.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Count {
    /// The word.
    pub word: String,
    /// The number.
    pub count: i64,
}

/// A token, to begin a session with.
#[derive(Serialize, Deserialize, ToSchema)]
pub struct SignIn {
    /// The bearer token.
    pub token: String,
}

/// Who is signed in.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Me {
    /// The principal's name.
    pub name: String,
    /// The service's version.
    pub version: String,
}

/// One step of a system's test.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct CheckStep {
    /// What was tried.
    pub name: String,
    /// `passed`, `warned` or `failed`.
    pub state: String,
    /// What was found.
    pub said: String,
    /// What to do about it.
    pub remedy: Option<String>,
    /// A word for programs, when it failed.
    pub code: Option<String>,
}

/// What a test of a system found.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct CheckReport {
    /// No step failed.
    pub healthy: bool,
    /// The steps.
    pub steps: Vec<CheckStep>,
}

/// The last enumeration of a system.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Reading {
    /// The type that was read.
    pub object: String,
    /// `running`, `complete` or `broken`.
    pub state: String,
    /// How many accounts it showed.
    pub seen: i64,
    /// When it began.
    pub started: String,
    /// When it ended.
    pub ended: Option<String>,
    /// What broke it.
    pub error: Option<String>,
}

/// A connected system.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct System {
    /// Its name.
    pub name: String,
    /// `ldap` or `scim`.
    pub kind: String,
    /// Where it is.
    pub address: String,
    /// Its settings, without secrets.
    #[schema(value_type = Object)]
    pub settings: serde_json::Value,
    /// `person`, `service`, `group`: the types that may be written. None is read-only.
    pub writable: Vec<String>,
    /// Paused by an operator.
    pub paused: bool,
    /// Did the last test find it well? Missing while it was never tested.
    pub healthy: Option<bool>,
    /// When it was last tested.
    pub checked_at: Option<String>,
    /// The steps of the last test.
    pub steps: Vec<CheckStep>,
    /// How many accounts it holds.
    pub accounts: i64,
    /// How many of them are linked to an identity.
    pub linked: i64,
    /// Its last readings, by type.
    pub readings: Vec<Reading>,
    /// Does it give identities their values, are its accounts kept by us, by the published rules?
    pub roles: Vec<String>,
}

/// A system to add, or to test before it is added.
#[derive(Serialize, Deserialize, ToSchema)]
pub struct NewSystem {
    /// Its name; may be left out when it is only tested.
    #[serde(default)]
    pub name: String,
    /// `ldap` or `scim`.
    pub kind: String,
    /// Its settings.
    #[schema(value_type = Object)]
    pub settings: serde_json::Value,
    /// The password or token. It is sealed and never shown again.
    #[serde(default)]
    pub secret: Option<String>,
}

/// A system's state, where it is to change.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct SystemState {
    /// The types that may be written.
    pub writable: Option<Vec<String>>,
    /// Paused.
    pub paused: Option<bool>,
}

/// A new secret.
#[derive(Serialize, Deserialize, ToSchema)]
pub struct NewSecret {
    /// The password or token.
    pub secret: String,
}

/// An attribute of a system, as it describes itself.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SchemaAttribute {
    /// Its name.
    pub name: String,
    /// How its values look.
    pub kind: String,
    /// May it hold several values?
    pub many: bool,
    /// Must it hold one?
    pub required: bool,
    /// May we write it?
    pub writable: bool,
}

/// What came of reading one type of a system.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ReadResult {
    /// The type.
    pub object: String,
    /// How many accounts were shown.
    pub seen: i64,
    /// How many are absent from now on.
    pub absent: i64,
    /// What broke it. Then nobody is absent by it.
    pub error: Option<String>,
    /// What to do about that.
    pub remedy: Option<String>,
}

/// A name with its values, as text.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Attribute {
    /// The name.
    pub name: String,
    /// The values.
    pub values: Vec<String>,
}

/// An account, as last observed.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Account {
    /// Its number here.
    pub id: i64,
    /// The system.
    pub system: String,
    /// What people call it there.
    pub name: String,
    /// Its lasting key there.
    pub key: String,
    /// The identity it is linked to.
    pub identity: Option<String>,
    /// When it was last seen.
    pub seen: String,
    /// Since when a complete read no longer finds it.
    pub absent_since: Option<String>,
    /// What is broken in it.
    pub fault: Option<String>,
    /// Its values.
    pub attributes: Vec<Attribute>,
}

/// A page of a list.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Page<T> {
    /// The rows.
    pub items: Vec<T>,
    /// Give this as `after` for the next page; missing at the end.
    pub next: Option<String>,
}

/// A file of a rule set.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RuleFile {
    /// Its name, such as `harbour.toml`.
    pub name: String,
    /// Its text.
    pub text: String,
}

/// The files of a rule set.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RuleFiles {
    /// The files.
    pub files: Vec<RuleFile>,
}

/// Something wrong in a rule set.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Fault {
    /// `error` or `warning`.
    pub severity: String,
    /// The file.
    pub file: String,
    /// The line, from 1.
    pub line: usize,
    /// The column, from 1.
    pub column: usize,
    /// What.
    pub message: String,
    /// What to do.
    pub help: Option<String>,
}

/// What a check of a rule set found.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RuleCheck {
    /// No fault is an error.
    pub usable: bool,
    /// The faults.
    pub faults: Vec<Fault>,
}

/// A rule set that was published.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Published {
    /// Its version.
    pub version: i64,
    /// Warnings.
    pub faults: Vec<Fault>,
}

/// One rule in a few words, with its place.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RuleLine {
    /// The attribute, the match rule's name, or what a scope line does.
    pub name: String,
    /// The expression or the container.
    pub text: String,
    /// Options and words.
    pub note: String,
    /// `file:line`.
    pub place: String,
}

/// The rules of one system for one type.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SystemRules {
    /// The system.
    pub system: String,
    /// The type.
    pub object: String,
    /// Who takes part.
    pub scope: Vec<RuleLine>,
    /// How accounts find their identity.
    pub matching: Vec<RuleLine>,
    /// Account → identity.
    pub inbound: Vec<RuleLine>,
    /// Identity → account.
    pub outbound: Vec<RuleLine>,
    /// What becomes of those who fall out.
    pub when_out: String,
}

/// The published rule set.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Rules {
    /// The version; 0 while nothing was published.
    pub version: i64,
    /// When it was published.
    pub made: Option<String>,
    /// By whom.
    pub principal: Option<String>,
    /// Its files.
    pub files: Vec<RuleFile>,
    /// Its rules, system by system.
    pub systems: Vec<SystemRules>,
    /// What identities hold.
    pub identities: Vec<RuleLine>,
    /// The limits.
    pub guards: Vec<RuleLine>,
    /// Faults that it has by now, against what the systems say of themselves.
    pub faults: Vec<Fault>,
}

/// A preview or a run to begin.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct NewChangeSet {
    /// `preview` or `run`.
    pub kind: String,
    /// For a run: send only what this preview showed.
    #[serde(default)]
    pub preview: Option<i64>,
    /// Decide from what was read before.
    #[serde(default)]
    pub without_reading: bool,
}

/// A preview or a run.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ChangeSet {
    /// Its number.
    pub id: i64,
    /// `preview` or `run`.
    pub kind: String,
    /// `reading`, `deciding`, `running`, `done`, `failed` or `cancelled`.
    pub state: String,
    /// The rules it was decided by.
    pub rule_version: i64,
    /// Who asked for it.
    pub principal: String,
    /// The preview that a run was bound to.
    pub preview: Option<i64>,
    /// When it began.
    pub started: String,
    /// When it ended.
    pub ended: Option<String>,
    /// What is to be said of the whole of it.
    pub note: Option<String>,
    /// Lines by verdict.
    pub verdicts: Vec<Count>,
    /// Changes by state.
    pub states: Vec<Count>,
}

/// What was decided about one person in one system.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Line {
    /// Its place.
    pub seq: i64,
    /// The system.
    pub system: String,
    /// The type.
    pub object: String,
    /// The identity, if there is or will be one.
    pub identity: Option<String>,
    /// What people call the account, if there is one.
    pub account: Option<String>,
    /// Whom it is about.
    pub label: String,
    /// `create`, `join`, `update`, `rename`, `enable`, `disable`, `in_step`, `source`, `out_of_scope`, `held` or `unowned`.
    pub verdict: String,
    /// Why.
    pub reason: String,
    /// The rule behind it, as `file:line`.
    pub rule: Option<String>,
}

/// One value that changes.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ValueChange {
    /// The attribute.
    pub attribute: String,
    /// What is there.
    pub before: Vec<String>,
    /// What will be there.
    pub after: Vec<String>,
    /// The rule, as `file:line`.
    pub rule: String,
}

/// One operation on one account.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Change {
    /// Its number.
    pub id: i64,
    /// Its change set.
    pub change_set: i64,
    /// The target.
    pub system: String,
    /// The type.
    pub object: String,
    /// The identity behind it.
    pub identity: String,
    /// Whom it is about.
    pub label: String,
    /// `create`, `update`, `rename`, `enable`, `disable`, …
    pub kind: String,
    /// `proposed`, `held`, `queued`, `sending`, `unknown`, `done`, `failed` or `cancelled`.
    pub state: String,
    /// The values.
    pub values: Vec<ValueChange>,
    /// Why.
    pub reason: String,
    /// The rule behind it, as `file:line`.
    pub rule: Option<String>,
    /// Why it is not sent, if it is not.
    pub hold: Option<String>,
    /// What the system answered, if it refused.
    pub error: Option<String>,
    /// What to do about it.
    pub remedy: Option<String>,
    /// How often it was sent.
    pub attempts: i64,
    /// When it was settled.
    pub settled: Option<String>,
}

/// An identity in a list.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Identity {
    /// Its lasting name.
    pub id: String,
    /// What people call it.
    pub label: String,
    /// Its stage.
    pub stage: String,
    /// The systems in which it has an account.
    pub systems: Vec<String>,
    /// Some values, to tell people of one name apart.
    pub attributes: Vec<Attribute>,
    /// When it last changed.
    pub changed: String,
}

/// One value and where it comes from.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ValueReason {
    /// The attribute.
    pub attribute: String,
    /// The value that the rules want.
    pub value: String,
    /// The value that is there, for an account.
    pub there: Option<String>,
    /// How the two stand to each other, for an account.
    pub state: Option<String>,
    /// The rule, as `file:line`.
    pub rule: String,
    /// Its expression.
    pub expression: String,
    /// What the expression read.
    pub read: Vec<Attribute>,
    /// The system whose value won, for a value of an identity.
    pub from_system: Option<String>,
}

/// One account of a person, or its absence.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct AccountReason {
    /// The system.
    pub system: String,
    /// What is decided about it.
    pub verdict: String,
    /// Why.
    pub reason: String,
    /// The rule behind it, as `file:line`.
    pub rule: Option<String>,
    /// Its name there.
    pub name: Option<String>,
    /// Its lasting key there.
    pub key: Option<String>,
    /// What made the link.
    pub linked_by: Option<String>,
    /// The values, for a target.
    pub values: Vec<ValueReason>,
}

/// Why a person's accounts are as they are, or why there are none.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Explanation {
    /// What people call it.
    pub label: String,
    /// The identity.
    pub identity: Option<String>,
    /// Its stage.
    pub stage: Option<String>,
    /// Its values and where each comes from.
    pub values: Vec<ValueReason>,
    /// Its accounts.
    pub accounts: Vec<AccountReason>,
}

/// A link of an identity, open or ended.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Link {
    /// The system.
    pub system: String,
    /// The account's name there.
    pub account: String,
    /// When it was made.
    pub made: String,
    /// By which rule or act.
    pub made_by: String,
    /// When it was ended.
    pub ended: Option<String>,
    /// Why it was ended.
    pub ended_by: Option<String>,
}

/// An identity with its accounts, links and history.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct IdentityDetail {
    /// Everything about it, explained.
    pub explanation: Explanation,
    /// Its links.
    pub links: Vec<Link>,
    /// Its changes, the newest first.
    pub history: Vec<Change>,
}

/// The first screen.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Overview {
    /// The systems.
    pub systems: Vec<System>,
    /// Identities by stage.
    pub identities: Vec<Count>,
    /// The version of the published rules; 0 while there are none.
    pub rule_version: i64,
    /// The last run.
    pub last_run: Option<ChangeSet>,
    /// The last preview.
    pub last_preview: Option<ChangeSet>,
    /// Changes of the last run that failed.
    pub failed: i64,
    /// Changes of the last run that are held.
    pub held: i64,
}

/// An entry of the journal.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct JournalEntry {
    /// Its number.
    pub id: i64,
    /// When.
    pub at: String,
    /// Who.
    pub principal: String,
    /// What was done.
    pub act: String,
    /// To what.
    pub subject: String,
    /// More about it.
    pub detail: String,
}

/// Whether the journal is as it was written.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct JournalCheck {
    /// It is.
    pub sound: bool,
    /// How many entries were walked, or the first that is not as it was written.
    pub entry: i64,
}

/// Which rows of a list to show.
#[derive(Debug, Clone, Default, Serialize, Deserialize, IntoParams)]
#[serde(default)]
pub struct ListQuery {
    /// Only rows with this text.
    pub search: Option<String>,
    /// Only rows of this state, kind, verdict or stage.
    pub filter: Option<String>,
    /// Only rows of this system.
    pub system: Option<String>,
    /// Only rows after this place, as `next` gave it.
    pub after: Option<String>,
    /// The most rows, up to 1,000.
    pub limit: Option<i64>,
}

/// Whom to explain.
#[derive(Debug, Clone, Serialize, Deserialize, IntoParams)]
pub struct WhyQuery {
    /// A name, an address, an employee number, a DN or an id.
    pub person: String,
}
