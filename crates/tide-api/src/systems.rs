//! Connected systems, their tests, readings and accounts.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::*;

/// One step of a system's test.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct CheckStep {
    /// What was tried.
    pub name: String,
    /// `passed`, `warned` or `failed`.
    pub state: StepState,
    /// What was found.
    pub message: String,
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
pub struct FullReadView {
    /// The type that was read.
    pub object: ObjectType,
    /// `running`, `complete` or `broken`.
    pub state: ReadState,
    /// How many accounts it showed.
    pub object_count: i64,
    /// When it began.
    #[schema(format = DateTime)]
    pub started_at: String,
    /// When it ended.
    #[schema(format = DateTime)]
    pub ended_at: Option<String>,
    /// What broke it.
    pub error: Option<String>,
    /// How many rows were set aside.
    pub quarantined: i64,
}

/// How well one type of a system is known.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct DataFreshness {
    /// The system.
    pub system: String,
    /// The type.
    pub object: ObjectType,
    /// As it was when; missing if it was never read.
    #[schema(format = DateTime)]
    pub as_of: Option<String>,
    /// It tells each change, so that it is known as it is now.
    pub connected: bool,
    /// What is missing, which a reading brings.
    pub action_needed: Option<String>,
    /// What its schedule asks for and it cannot do: a pause that is shorter than a reading or a run
    /// takes.
    pub schedule_warnings: Vec<String>,
}

/// A connected system.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct System {
    /// Its name.
    pub name: String,
    /// `ldap`, `scim`, `feed` or `push`.
    pub kind: SystemKind,
    /// Where it is.
    pub address: String,
    /// Its settings, without secrets.
    #[schema(value_type = Object)]
    pub settings: serde_json::Value,
    /// The same, with those that are not set, at their default.
    #[schema(value_type = Object)]
    #[serde(default)]
    pub all_settings: serde_json::Value,
    /// `person`, `service`, `group`: the types that may be written. None is read-only.
    pub writable: Vec<ObjectType>,
    /// Paused by an operator.
    pub paused: bool,
    /// Whether an operator armed it. Before that, nothing is sent and automatic sync is off.
    pub armed: bool,
    /// The host that answered last, if it was called since the start.
    pub host: Option<String>,
    /// Its capabilities.
    pub profile: Vec<Fact>,
    /// How it is, by its tests, reads and writes; the last of them counts.
    pub health: SystemHealth,
    /// What does not work.
    pub health_reason: Option<String>,
    /// When it was last tested.
    #[schema(format = DateTime)]
    pub checked_at: Option<String>,
    /// The steps of the last test.
    pub steps: Vec<CheckStep>,
    /// How many accounts it holds.
    pub accounts: i64,
    /// How many of them are linked to an identity.
    pub linked: i64,
    /// Its last readings, by type.
    pub full_reads: Vec<FullReadView>,
    /// Does it give identities their values, are its accounts kept by us, by the published rules?
    pub roles: Vec<SystemRole>,
    /// The sync schedule.
    pub schedule: Schedule,
    /// The status of its watchers, by type; empty while it is not watched.
    pub watchers: Vec<WatcherView>,
    /// How well it is known, by type, as far as the rules ask for it.
    #[serde(default)]
    pub freshness: Vec<DataFreshness>,
    /// The window that is open now, in which nothing is written to it.
    pub blackout_until: Option<String>,
    /// When the next such window begins.
    #[schema(format = DateTime)]
    pub next_blackout: Option<String>,
}

/// The sync schedule of a system. It applies once the system is armed.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(default, deny_unknown_fields)]
pub struct Schedule {
    /// Follow its changes, and run on each.
    pub watch: bool,
    /// In which way: `content_sync`, `change_number`, `modified`, `last_modified`, `arrival`,
    /// `pushed` or `full`; the best that it offers, if none is named.
    pub mode: Option<WatchMode>,
    /// The poll interval in seconds, for modes that poll; default 60.
    pub poll_seconds: Option<u32>,
    /// How often everything is read, in seconds; a day without it, an hour where deletions are not
    /// told.
    pub full_read_seconds: Option<u32>,
    /// When nothing is written to it.
    pub write_blackouts: Vec<WriteBlackout>,
}

/// A window in which nothing is written to a system.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct WriteBlackout {
    /// The days on which it begins (`mon` to `sun`); none means every day.
    #[serde(default)]
    pub days: Vec<String>,
    /// When it begins (`22:00`).
    pub from: String,
    /// When it ends; on the next day, if that is not later.
    pub to: String,
    /// The time zone of both (`Europe/Tallinn`).
    pub zone: String,
}

/// The status of the watcher of one type of a system.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct WatcherView {
    /// The type.
    pub object: ObjectType,
    /// In which way.
    pub mode: Option<WatchMode>,
    /// That way in words.
    pub mode_label: Option<String>,
    /// `reading`, `listening`, `waiting` or `broken`.
    pub state: WatcherState,
    /// When news came last.
    #[schema(format = DateTime)]
    pub last_change_at: Option<String>,
    /// How many accounts differed since the service started.
    pub changed_count: usize,
    /// When it is polled next; absent for modes that do not poll.
    #[schema(format = DateTime)]
    pub next_poll_at: Option<String>,
    /// When it is read whole again.
    #[schema(format = DateTime)]
    pub next_full_read_at: Option<String>,
    /// What broke it.
    pub error: Option<String>,
}

/// A system to add, or to test before it is added.
#[derive(Serialize, Deserialize, ToSchema)]
pub struct NewSystem {
    /// Its name; may be left out when it is only tested.
    #[serde(default)]
    pub name: String,
    /// `ldap`, `scim`, `feed` or `push`.
    pub kind: SystemKind,
    /// Its settings.
    #[schema(value_type = Object)]
    pub settings: serde_json::Value,
    /// The password or token, or `env:NAME` or `file:PATH`. It is sealed and never shown again.
    #[serde(default)]
    pub secret: Option<String>,
    /// What it is for and whom it takes: its first rules are written into a draft. When they have
    /// an error, nothing is added.
    #[serde(default)]
    pub first: Option<FirstRules>,
}

/// A system that was added.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct AddedSystem {
    /// The system.
    pub system: System,
    /// Its first rules, where they were asked for.
    pub rules: Option<WrittenRules>,
}

/// What retiring a system would do. Nothing is written to the system itself.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Retirement {
    /// Its accounts that are known here, and would be forgotten.
    pub accounts: i64,
    /// How many of them are linked to identities.
    pub linked: i64,
    /// Its rule file, which would go with it.
    pub file: Option<String>,
    /// The impact on all records, also in other systems.
    pub impact: crate::ImpactView,
}

/// Whether a system may be retired.
#[derive(Debug, Clone, Copy, Default, Serialize, Deserialize, utoipa::IntoParams)]
#[serde(default)]
pub struct RemoveQuery {
    /// It is removed also when accounts in it are linked: their links end.
    pub retire: bool,
}

/// A system's state, where it is to change.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct SystemState {
    /// The types that may be written.
    pub writable: Option<Vec<ObjectType>>,
    /// Paused.
    pub paused: Option<bool>,
    /// Armed.
    pub armed: Option<bool>,
}

/// A new secret.
#[derive(Serialize, Deserialize, ToSchema)]
pub struct NewSecret {
    /// The password or token.
    pub secret: String,
    /// Replaces the secret though the test with the new one fails.
    #[serde(default)]
    pub force: bool,
}

/// An attribute of a system, as it describes itself.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SchemaAttribute {
    /// Its name.
    pub name: String,
    /// How its values look.
    pub kind: ValueKind,
    /// May it hold several values?
    pub multi_valued: bool,
    /// Must it hold one?
    pub required: bool,
    /// May we write it?
    pub writable: bool,
}

/// What came of reading one type of a system.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ReadResult {
    /// The type.
    pub object: ObjectType,
    /// How many accounts were shown.
    pub object_count: i64,
    /// How many are absent from now on.
    pub absent: i64,
    /// How many rows were set aside.
    pub quarantined: i64,
    /// Nothing had changed since the last complete reading.
    pub unchanged: bool,
    /// The error. No account counts as absent then.
    pub error: Option<String>,
    /// What to do about that.
    pub remedy: Option<String>,
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
    #[schema(format = DateTime)]
    pub seen_at: String,
    /// Since when it is no longer there.
    #[schema(format = DateTime)]
    pub absent_since: Option<String>,
    /// The system itself said that it is gone; else a complete reading did not show it, and its
    /// absence from a source counts after `absence_grace_days`.
    pub absence_confirmed: bool,
    /// What is broken in it.
    pub fault: Option<String>,
    /// Its values.
    pub attributes: Vec<Attribute>,
}

/// Settings that replace a system's.
#[derive(Serialize, Deserialize, ToSchema)]
pub struct NewSettings {
    /// The settings, whole.
    #[schema(value_type = Object)]
    pub settings: serde_json::Value,
    /// The secret; it must be given again when it would go to another host.
    #[serde(default)]
    pub secret: Option<String>,
}

/// One thing that a system says of itself.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Fact {
    /// What it is.
    pub label: String,
    /// What is said.
    pub text: String,
}

/// What a permission lets a service account do.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Operation {
    /// Search entries and read the attributes.
    Read,
    /// Write the attributes of entries that exist.
    Write,
    /// Add entries, with the attributes.
    Create,
    /// Rename and move entries; the attributes are those that name them.
    Rename,
    /// Delete entries.
    Delete,
    /// Set passwords without knowing the old one.
    SetPassword,
}

/// A permission that a system's service account needs.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Permission {
    /// What it lets the account do.
    pub operation: Operation,
    /// Where: names of entries in a directory, or the part of a service.
    pub entries: Vec<String>,
    /// Also on everything below these entries.
    pub is_subtree: bool,
    /// The attributes; none means the entries themselves.
    pub attributes: Vec<String>,
    /// Which rule needs it.
    pub reason: String,
}

/// A container of a system's tree.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Branch {
    /// Its name.
    pub dn: String,
    /// Nothing lies below it.
    pub leaf: bool,
    /// How many persons lie below it, at any depth.
    pub people: Option<usize>,
    /// There are more: counting ended at a limit.
    pub is_truncated: bool,
}

/// A system that is not kept, and the container below which is looked.
#[derive(Serialize, Deserialize, ToSchema)]
pub struct BrowseNew {
    /// The system.
    pub system: NewSystem,
    /// The container; none is the top.
    #[serde(default)]
    pub below: Option<String>,
}

/// The container below which is looked.
#[derive(Debug, Clone, Default, Serialize, Deserialize, utoipa::IntoParams)]
pub struct BranchQuery {
    /// The container; none is the top.
    pub below: Option<String>,
}

/// A container in a scope.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ScopeContainer {
    /// Its name.
    pub dn: String,
    /// Only what lies directly in it.
    #[serde(default)]
    pub one_level: bool,
}

/// A group in a scope.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ScopeGroup {
    /// Its name.
    pub name: String,
    /// The system that holds it, when it is not the scope's own.
    #[serde(default)]
    pub system: Option<String>,
    /// Members of its member groups count too.
    pub nested: bool,
}

/// A condition in a scope.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ScopeCondition {
    /// The expression.
    pub when: String,
    /// Said of those for whom it does not hold.
    #[serde(default)]
    pub reason: Option<String>,
}

/// A whole scope.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(default)]
pub struct Scope {
    /// Containers that are read.
    pub within: Vec<ScopeContainer>,
    /// Containers that are left out.
    pub except: Vec<ScopeContainer>,
    /// Groups of which one must hold the record.
    pub groups: Vec<ScopeGroup>,
    /// Groups whose members are left out.
    pub not_groups: Vec<ScopeGroup>,
    /// An LDAP or SCIM filter.
    pub filter: Option<String>,
    /// Conditions.
    pub conditions: Vec<ScopeCondition>,
}

/// How many stand somewhere for one reason.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ScopeCount {
    /// `in`, `out` or `held`.
    pub status: ScopeStatus,
    /// Why.
    pub reason: String,
    /// The rule behind it.
    pub rule: Option<String>,
    /// How many.
    pub count: usize,
}

/// One person or account, and where it stands.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ScopeLine {
    /// `in`, `out` or `held`.
    pub status: ScopeStatus,
    /// Whom it is about.
    pub label: String,
    /// What the account is called.
    pub account: Option<String>,
    /// The identity, if there is or will be one.
    pub identity: Option<String>,
    /// Why.
    pub reason: String,
    /// The rule behind it.
    pub rule: Option<String>,
}

/// Who is in scope, out of scope and on hold for a system.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ScopeView {
    /// The scope.
    pub scope: Scope,
    /// The rule file that it stands in.
    pub file: String,
    /// By where they stand: `in`, `out`, `held`.
    pub totals: Vec<ScopeStatusCount>,
    /// By reason.
    pub counts: Vec<ScopeCount>,
    /// The people that were asked for, the first of them.
    pub lines: Vec<ScopeLine>,
    /// How many were asked for in all.
    pub found: usize,
}

/// How many have a status in a scope.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ScopeStatusCount {
    /// The status.
    pub status: ScopeStatus,
    /// How many.
    pub count: i64,
}

/// Which people of a scope are asked for.
#[derive(Debug, Clone, Default, Serialize, Deserialize, utoipa::IntoParams)]
pub struct ScopeQuery {
    /// The type; `person` if left out.
    pub object: Option<ObjectType>,
    /// `in`, `out` or `held`.
    pub status: Option<ScopeStatus>,
    /// Counted under this reason.
    pub reason: Option<String>,
    /// With this text in name, account or reason.
    pub search: Option<String>,
    /// How many are shown.
    pub limit: Option<usize>,
}

/// What an edited scope would change.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ScopeSimulationView {
    /// By where they would stand.
    pub totals: Vec<ScopeStatusCount>,
    /// By reason, as it would be.
    pub counts: Vec<ScopeCount>,
    /// Who would stand elsewhere than now, by where from and where to.
    pub moves: Vec<ScopeShift>,
    /// The rule file as it would be.
    pub file: crate::RuleFile,
}

/// Those who would stand elsewhere than now.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ScopeShift {
    /// Where they stand now: `in`, `out` or `held`.
    pub from: ScopeStatus,
    /// Where they would stand.
    pub to: ScopeStatus,
    /// How many.
    pub count: usize,
    /// The first of them, with the reason for where they would stand.
    pub lines: Vec<ScopeLine>,
}

/// What a new system is for, and whom it takes.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct FirstRules {
    /// `source` or `target`.
    pub purpose: SystemRole,
    /// Whom it takes.
    #[serde(default)]
    pub scope: Scope,
}

/// The first rule file of a system.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct WrittenRules {
    /// The draft that contains it, to be published after review.
    pub draft: i64,
    /// The file.
    pub file: crate::RuleFile,
}

/// A row of a feed that was set aside.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct BadRow {
    /// The line on which it begins.
    pub line: i64,
    /// What is wrong with it.
    pub reason: String,
    /// The row as it stands.
    pub raw: String,
    /// Its key, if that much can be read.
    pub key: Option<String>,
}

/// A column of a feed's file.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct FeedColumn {
    /// Its name.
    pub name: String,
    /// What all its values look like.
    pub kind: ColumnType,
    /// Rows in which it has a value.
    pub filled: usize,
    /// Rows in which it has none.
    pub empty: usize,
    /// Values that stand in more than one row.
    pub repeated: usize,
    /// Some of them, for a column that nearly tells rows apart.
    pub duplicates: Vec<String>,
    /// It can be the key: every row has a value, and each another one.
    pub key: bool,
}

/// What a feed's file looks like.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct FeedInspectionView {
    /// How it is written.
    pub format: FeedFormat,
    /// The delimiter.
    pub delimiter: Option<String>,
    /// The encoding.
    pub encoding: String,
    /// It begins with a byte order mark.
    pub has_bom: bool,
    /// Rows that can be read.
    pub rows: usize,
    /// Rows that cannot.
    pub bad: usize,
    /// Its columns.
    pub columns: Vec<FeedColumn>,
    /// The first rows, a text for each column.
    pub first: Vec<Vec<String>>,
    /// The first rows that cannot be read.
    pub bad_rows: Vec<BadRow>,
}

/// A token of a system that calls us, without itself.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Token {
    /// Its id, which is no secret.
    pub id: String,
    /// What it is for.
    pub label: String,
    /// When it was made.
    #[schema(format = DateTime)]
    pub created_at: String,
    /// When it stops being good, if it does.
    #[schema(format = DateTime)]
    pub expires_at: Option<String>,
    /// When it was taken back.
    #[schema(format = DateTime)]
    pub ended_at: Option<String>,
    /// Is it good now?
    pub is_valid: bool,
}

/// Records of a system that calls us that were accepted as they are.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct AcceptedRecords {
    /// How many of them the system had not sent since a backup was restored.
    pub unsent: i64,
    /// How many there are.
    pub total: i64,
}

/// A token to be made.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct NewToken {
    /// What it is for.
    #[serde(default)]
    pub label: String,
}

/// A token to be made for the operator who calls.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(default, deny_unknown_fields)]
pub struct NewOperatorToken {
    /// What it is for.
    pub label: String,
    /// After how many days it expires, 1 to 3,650; it does not when this is missing.
    pub expires_in_days: Option<u32>,
    /// For how many hours earlier tokens stay good, up to 720; 24 when this is missing, 0 ends them
    /// at once.
    pub overlap_hours: u32,
}

impl Default for NewOperatorToken {
    fn default() -> Self {
        NewOperatorToken {
            label: String::new(),
            expires_in_days: None,
            overlap_hours: 24,
        }
    }
}

/// A token that was just made. It is shown this once.
#[derive(Serialize, Deserialize, ToSchema)]
pub struct CreatedToken {
    /// Its id.
    pub id: String,
    /// The token.
    pub token: String,
}

/// How a system's events are written, learned from a sample.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct EventShape {
    /// Where the kind of event stands, by dots: `data.action`.
    pub event: String,
    /// Its words, each with what it means: `joiner`, `mover` or `leaver`.
    pub kinds: std::collections::BTreeMap<String, EventKind>,
    /// Where the key of the record stands.
    pub key: String,
    /// Where the sender's id of the event stands, if it gives one: the same event may then be sent
    /// again, and is taken once.
    #[serde(default)]
    pub id: Option<String>,
    /// Where a number stands that grows with each event of a record, if there is one: what comes
    /// late is then told apart.
    #[serde(default)]
    pub sequence: Option<String>,
    /// Where the moment stands at which it happened (RFC 3339), if there is one: it tells what
    /// comes late where there is no number.
    #[serde(default)]
    pub time: Option<String>,
    /// Where the record's values stand; empty is the whole event.
    #[serde(default)]
    pub record: String,
    /// Paths that every event must have.
    #[serde(default)]
    pub required: Vec<String>,
    /// The type of each path of the sample: `string`, `number`, `boolean`, `array`.
    #[serde(default)]
    pub types: std::collections::BTreeMap<String, String>,
}

/// A sample to learn the shape of a system's events from.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct EventSample {
    /// An event as the system sends it.
    #[schema(value_type = Object)]
    pub sample: serde_json::Value,
    /// Where the kind of event stands, when it cannot be guessed.
    #[serde(default)]
    pub event: Option<String>,
    /// Where the key stands, when it cannot be guessed.
    #[serde(default)]
    pub key: Option<String>,
    /// Where the sender's id of the event stands, when it cannot be guessed.
    #[serde(default)]
    pub id: Option<String>,
    /// Where a number stands that grows with each event of a record, when it cannot be guessed.
    #[serde(default)]
    pub sequence: Option<String>,
    /// Where the moment stands at which it happened, when it cannot be guessed.
    #[serde(default)]
    pub time: Option<String>,
    /// Words of the kind of event, each with what it means.
    #[serde(default)]
    pub kinds: std::collections::BTreeMap<String, EventKind>,
}

/// What came of an event so far.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct EventReport {
    /// Its id.
    pub id: String,
    /// `joiner`, `mover` or `leaver`.
    pub event: EventKind,
    /// The key of the record.
    pub key: String,
    /// When it came.
    #[schema(format = DateTime)]
    pub received_at: String,
    /// `waiting` until a run has carried it on, `running` while some of its changes are unsettled,
    /// `done`, `held` with the reason in the lines, or `outdated` when it came after a later one
    /// and nothing was done.
    pub state: EventState,
    /// The path that answers with this report again.
    pub status_url: String,
    /// The account that it is here.
    pub account: Option<i64>,
    /// The identity that it belongs to.
    pub identity: Option<String>,
    /// What it came to, system by system.
    pub outcomes: Vec<EventOutcome>,
}

/// What an event came to in one system.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct EventOutcome {
    /// The system.
    pub system: String,
    /// The account there, by name.
    pub account: Option<String>,
    /// Its lasting key there.
    pub key: Option<String>,
    /// The groups that it is known to be in.
    pub groups: Vec<String>,
    /// What was decided, or done last.
    pub message: String,
}
