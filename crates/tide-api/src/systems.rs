//! Connected systems, their tests, readings and accounts.

use crate::{Reason, ReasonCode};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::*;

/// One step of a system's test.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct CheckStep {
    /// What was tested.
    pub kind: CheckStepKind,
    /// Its label.
    pub name: String,
    /// `passed`, `warned` or `failed`.
    pub state: StepState,
    /// The result.
    pub message: String,
    /// What to do about it.
    pub remedy: Option<String>,
    /// The error code, if it failed.
    pub code: Option<String>,
}

/// The result of testing a system.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct CheckReport {
    /// No step failed.
    pub healthy: bool,
    /// The steps.
    pub steps: Vec<CheckStep>,
}

/// The last full read of a system.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct FullReadView {
    /// The type that was read.
    pub object: ObjectType,
    /// `running`, `complete` or `broken`.
    pub state: ReadState,
    /// How many accounts it returned.
    pub object_count: i64,
    /// When it began.
    #[schema(format = DateTime)]
    pub started_at: String,
    /// When it ended.
    #[schema(format = DateTime)]
    pub ended_at: Option<String>,
    /// The error.
    pub error: Option<String>,
    /// How many rows were rejected.
    pub quarantined: i64,
}

/// The freshness of the data of one type of a system.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct DataFreshness {
    /// The system.
    pub system: String,
    /// The type.
    pub object: ObjectType,
    /// The time of the data (RFC 3339, UTC); absent if it was never read.
    #[schema(format = DateTime)]
    pub as_of: Option<String>,
    /// Whether it is watched, so that its data is current.
    pub connected: bool,
    /// What is missing until the next read.
    pub action_needed: Option<String>,
    /// Requirements of its schedule that it cannot meet: an interval shorter than a read or a run
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
    /// All settings, with defaults for those that are not set.
    #[schema(value_type = Object)]
    #[serde(default)]
    pub all_settings: serde_json::Value,
    /// `person`, `service`, `group`: the types that may be written. None is read-only.
    pub writable: Vec<ObjectType>,
    /// Paused by an operator.
    pub paused: bool,
    /// Whether it is armed. Until then, nothing is sent and automatic sync is off.
    pub armed: bool,
    /// The host that answered last, if it was called since the start.
    pub host: Option<String>,
    /// Its capabilities.
    pub profile: Vec<Fact>,
    /// Its health, by its latest test, read or write.
    pub health: SystemHealth,
    /// The operations that it lacks.
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
    /// Its last reads, by type.
    pub full_reads: Vec<FullReadView>,
    /// Whether it is a source, a target or both, by the published rules.
    pub roles: Vec<SystemRole>,
    /// The sync schedule.
    pub schedule: Schedule,
    /// The status of its watchers, by type; empty while it is not watched.
    pub watchers: Vec<WatcherView>,
    /// The freshness of its data, by type, where the rules require it.
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
    /// Watch for changes, and run when there are any.
    pub watch: bool,
    /// The watch mode; the best that the system supports if absent.
    pub mode: Option<WatchMode>,
    /// The poll interval in seconds, for modes that poll; default 60.
    pub poll_seconds: Option<u32>,
    /// How often everything is read, in seconds; a day without it, an hour where deletions are not
    /// told.
    pub full_read_seconds: Option<u32>,
    /// Its write blackouts.
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
    /// The watch mode.
    pub mode: Option<WatchMode>,
    /// The watch mode in words.
    pub watch_mode_label: Option<String>,
    /// `reading`, `listening`, `waiting` or `broken`.
    pub state: WatcherState,
    /// When the last change arrived.
    #[schema(format = DateTime)]
    pub last_change_at: Option<String>,
    /// How many accounts differed since the service started.
    pub changed_count: usize,
    /// The next poll; absent for modes that do not poll.
    #[schema(format = DateTime)]
    pub next_poll_at: Option<String>,
    /// The next full read.
    #[schema(format = DateTime)]
    pub next_full_read_at: Option<String>,
    /// The error.
    pub error: Option<String>,
}

/// A system to add, or to test before it is added.
#[derive(Serialize, Deserialize, ToSchema)]
pub struct NewSystem {
    /// Its name; optional for a test.
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
    /// Its use and scope. Its first rules are stored in a draft; if they have an error, nothing is
    /// added.
    #[serde(default)]
    pub first: Option<FirstRules>,
}

/// A system that was added.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct AddedSystem {
    /// The system.
    pub system: System,
    /// Its first rules, if requested.
    pub rules: Option<WrittenRules>,
}

/// The impact of retiring a system. Nothing is written to the system itself.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Retirement {
    /// Its stored accounts, which would be deleted here.
    pub accounts: i64,
    /// How many of them are linked to identities.
    pub linked: i64,
    /// Its rule file, which would be removed with it.
    pub file: Option<String>,
    /// The impact on all records, also in other systems.
    pub impact: crate::ImpactView,
}

/// The consent to retire a system.
#[derive(Debug, Clone, Copy, Default, Serialize, Deserialize, utoipa::IntoParams)]
#[serde(default)]
pub struct RemoveQuery {
    /// Remove it even if accounts in it are linked; their links end.
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
    /// Replace the secret even if the test with the new one fails.
    #[serde(default)]
    pub force: bool,
}

/// An attribute in a system's schema.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SchemaAttribute {
    /// Its name.
    pub name: String,
    /// The type of its values.
    pub kind: ValueKind,
    /// Whether it is multi-valued.
    pub multi_valued: bool,
    /// Whether it is required.
    pub required: bool,
    /// Whether it can be written.
    pub writable: bool,
}

/// The result of reading one type of a system.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ReadResult {
    /// The type.
    pub object: ObjectType,
    /// How many accounts were returned.
    pub object_count: i64,
    /// How many are absent from now on.
    pub absent: i64,
    /// How many rows were rejected.
    pub quarantined: i64,
    /// Nothing had changed since the last full read.
    pub unchanged: bool,
    /// The error. No account counts as absent then.
    pub error: Option<String>,
    /// The remedy.
    pub remedy: Option<String>,
}

/// An account, as last observed.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Account {
    /// Its number here.
    pub id: i64,
    /// The system.
    pub system: String,
    /// Its display name there.
    pub name: String,
    /// Its immutable key there.
    pub key: String,
    /// The identity it is linked to.
    pub identity: Option<String>,
    /// When it was last seen.
    #[schema(format = DateTime)]
    pub seen_at: String,
    /// Since when it is absent.
    #[schema(format = DateTime)]
    pub absent_since: Option<String>,
    /// Whether the system reported the deletion. Otherwise a full read did not return the account,
    /// and its absence from a source counts after `absence_grace_days`.
    pub absence_confirmed: bool,
    /// The defects of the file.
    pub fault: Option<String>,
    /// Its values.
    pub attributes: Vec<Attribute>,
}

/// Settings that replace a system's.
#[derive(Serialize, Deserialize, ToSchema)]
pub struct NewSettings {
    /// All settings.
    #[schema(value_type = Object)]
    pub settings: serde_json::Value,
    /// The secret; required if it would be sent to another host.
    #[serde(default)]
    pub secret: Option<String>,
}

/// A capability of a system.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Fact {
    /// What it is.
    pub label: String,
    /// The answer.
    pub text: String,
}

/// A permission that a system's service account needs.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Permission {
    /// What it lets the account do.
    pub operation: Operation,
    /// The place: entries of a directory, or the part of a service.
    pub entries: Vec<String>,
    /// Also on everything below these entries.
    pub is_subtree: bool,
    /// The attributes; none means the entries themselves.
    pub attributes: Vec<String>,
    /// Which rule needs it.
    pub reason: String,
}

impl From<tide_core::permissions::Permission> for Permission {
    fn from(one: tide_core::permissions::Permission) -> Self {
        Permission {
            operation: one.operation,
            entries: one.entries,
            is_subtree: one.is_subtree,
            attributes: one.attributes,
            reason: one.reason,
        }
    }
}

/// A container in a system's directory tree.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Branch {
    /// Its name.
    pub dn: String,
    /// Whether it has no containers below it.
    pub leaf: bool,
    /// How many persons are below it, at any depth.
    pub people: Option<usize>,
    /// Whether there are more: the count stopped at a limit.
    pub is_truncated: bool,
}

/// The settings of a system that is not stored, and the container to list.
#[derive(Serialize, Deserialize, ToSchema)]
pub struct BrowseNew {
    /// The system.
    pub system: NewSystem,
    /// The container; absent for the top level.
    #[serde(default)]
    pub below: Option<String>,
}

/// The container whose children are listed.
#[derive(Debug, Clone, Default, Serialize, Deserialize, utoipa::IntoParams)]
pub struct BranchQuery {
    /// The container; absent for the top level.
    pub below: Option<String>,
}

/// A container in a scope.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ScopeContainer {
    /// Its name.
    pub dn: String,
    /// Only its direct children.
    #[serde(default)]
    pub one_level: bool,
}

/// A group in a scope.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ScopeGroup {
    /// Its name.
    pub name: String,
    /// The system of the group, if it is not that of the scope.
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
    /// The reason shown for records that do not meet it.
    #[serde(default)]
    pub reason: Option<String>,
}

/// A whole scope.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(default)]
pub struct Scope {
    /// Included containers.
    pub within: Vec<ScopeContainer>,
    /// Excluded containers.
    pub except: Vec<ScopeContainer>,
    /// Groups; the record must be a member of one of them.
    pub groups: Vec<ScopeGroup>,
    /// Groups whose members are excluded.
    pub not_groups: Vec<ScopeGroup>,
    /// An LDAP or SCIM filter.
    pub filter: Option<String>,
    /// Conditions.
    pub conditions: Vec<ScopeCondition>,
}

/// The number of records with one status and reason.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ScopeCount {
    /// The status.
    pub status: ScopeStatus,
    /// The code of the reason.
    pub code: ReasonCode,
    /// The reason, in the words that fit all of them.
    pub reason: String,
    /// The rule behind it.
    pub rule: Option<String>,
    /// How many.
    pub count: usize,
}

/// A person or account with its status.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ScopeLine {
    /// The status.
    pub status: ScopeStatus,
    /// Whom it is about.
    pub label: String,
    /// The account's name.
    pub account: Option<String>,
    /// The identity, if there is or will be one.
    pub identity: Option<String>,
    /// Why.
    pub reason: Reason,
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
    /// Counts by status.
    pub totals: Vec<ScopeStatusCount>,
    /// By reason.
    pub counts: Vec<ScopeCount>,
    /// A page of the people in the query, by status, name and account.
    pub lines: Vec<ScopeLine>,
    /// Where the next page begins; left out after the last.
    pub next: Option<String>,
    /// How many there are in total.
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

/// Which records of a scope to return.
#[derive(Debug, Clone, Default, Serialize, Deserialize, utoipa::IntoParams)]
pub struct ScopeQuery {
    /// The type; `person` if left out.
    pub object: Option<ObjectType>,
    /// `in`, `out` or `held`.
    pub status: Option<ScopeStatus>,
    /// Only records with a reason of this code.
    pub code: Option<ReasonCode>,
    /// Only records with a reason by this rule, as `FILE:LINE`.
    pub rule: Option<String>,
    /// With this text in name, account or reason.
    pub search: Option<String>,
    /// `next` of the page before.
    pub after: Option<String>,
    /// How many are shown: 200 if left out, at most 5,000.
    pub limit: Option<usize>,
}

/// The effect of an edited scope.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ScopeSimulationView {
    /// Counts by status after the edit.
    pub totals: Vec<ScopeStatusCount>,
    /// By reason, as it would be.
    pub counts: Vec<ScopeCount>,
    /// The number of records whose status would change, by old and new status.
    pub moves: Vec<ScopeShift>,
    /// The rule file after the edit.
    pub file: crate::RuleFile,
}

/// Those whose status would change.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ScopeShift {
    /// The current status.
    pub from: ScopeStatus,
    /// The status after the edit.
    pub to: ScopeStatus,
    /// How many.
    pub count: usize,
    /// The first of them, with the reason for their new status.
    pub lines: Vec<ScopeLine>,
}

/// The use and scope of a new system.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct FirstRules {
    /// `source` or `target`.
    pub purpose: SystemRole,
    /// Its scope.
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

/// A rejected row of a feed.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct BadRow {
    /// The line on which it begins.
    pub line: i64,
    /// Its fault.
    pub reason: String,
    /// The text of the row.
    pub raw: String,
    /// Its key, if it can be read.
    pub key: Option<String>,
}

/// A column of a feed's file.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct FeedColumn {
    /// Its name.
    pub name: String,
    /// The type of all its values.
    pub kind: ColumnType,
    /// Rows in which it has a value.
    pub filled: usize,
    /// Rows in which it has none.
    pub empty: usize,
    /// Values that occur in more than one row.
    pub repeated: usize,
    /// Some of them, for a column that nearly tells rows apart.
    pub duplicates: Vec<String>,
    /// Whether it can be the key: every row has a value, and no two rows the same.
    pub key: bool,
}

/// The format and first rows of a feed's file.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct FeedInspectionView {
    /// Its format.
    pub format: FeedFormat,
    /// The delimiter.
    pub delimiter: Option<String>,
    /// The encoding.
    pub encoding: String,
    /// It begins with a byte order mark.
    pub has_bom: bool,
    /// Rows that can be read.
    pub rows: usize,
    /// Rows that cannot be read.
    pub bad: usize,
    /// Its columns.
    pub columns: Vec<FeedColumn>,
    /// The first rows, a text for each column.
    pub first: Vec<Vec<String>>,
    /// The first rows that cannot be read.
    pub bad_rows: Vec<BadRow>,
}

/// A token of an inbound system, without its secret.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Token {
    /// Its id, which is no secret.
    pub id: String,
    /// What it is for.
    pub label: String,
    /// When it was made.
    #[schema(format = DateTime)]
    pub created_at: String,
    /// When it expires, if it does.
    #[schema(format = DateTime)]
    pub expires_at: Option<String>,
    /// When it was revoked.
    #[schema(format = DateTime)]
    pub ended_at: Option<String>,
    /// Whether it is valid now.
    pub is_valid: bool,
}

/// Records of an inbound system that were accepted as they are.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct AcceptedRecords {
    /// How many of them the system has not sent since the restored backup.
    pub unsent: i64,
    /// How many there are.
    pub total: i64,
}

/// A token to create.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct NewToken {
    /// What it is for.
    #[serde(default)]
    pub label: String,
}

/// A token to create for the calling operator.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(default, deny_unknown_fields)]
pub struct NewOperatorToken {
    /// What it is for.
    pub label: String,
    /// After how many days it expires, 1 to 3,650; it does not when this is missing.
    pub expires_in_days: Option<u32>,
    /// How many hours earlier tokens stay valid, up to 720; default 24; 0 revokes them at once.
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

/// A new token. It is shown only once.
#[derive(Serialize, Deserialize, ToSchema)]
pub struct CreatedToken {
    /// Its id.
    pub id: String,
    /// The token.
    pub token: String,
}

/// The format of a system's events, detected from a sample.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct EventShape {
    /// The path of the kind of event: `data.action`.
    pub event: String,
    /// Its event names, each with its meaning: `joiner`, `mover` or `leaver`.
    pub kinds: std::collections::BTreeMap<String, EventKind>,
    /// The path of the record's key.
    pub key: String,
    /// The path of the event's id, if there is one. An event with a known id is processed once.
    #[serde(default)]
    pub id: Option<String>,
    /// The path of a number that grows with each event of a record, if there is one. It identifies
    /// late events.
    #[serde(default)]
    pub sequence: Option<String>,
    /// The path of the time of the event (RFC 3339), if there is one. It identifies late events
    /// where there is no number.
    #[serde(default)]
    pub time: Option<String>,
    /// The path of the record's values; empty for the whole event.
    #[serde(default)]
    pub record: String,
    /// Paths that every event must have.
    #[serde(default)]
    pub required: Vec<String>,
    /// The type of each path of the sample: `string`, `number`, `boolean`, `array`.
    #[serde(default)]
    pub types: std::collections::BTreeMap<String, String>,
}

/// A sample event, to detect the format of a system's events.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct EventSample {
    /// An event as the system sends it.
    #[schema(value_type = Object)]
    pub sample: serde_json::Value,
    /// The path of the kind of event, if it cannot be detected.
    #[serde(default)]
    pub event: Option<String>,
    /// The path of the key, if it cannot be detected.
    #[serde(default)]
    pub key: Option<String>,
    /// The path of the event's id, if it cannot be detected.
    #[serde(default)]
    pub id: Option<String>,
    /// The path of a number that grows with each event of a record, if it cannot be detected.
    #[serde(default)]
    pub sequence: Option<String>,
    /// The path of the time of the event, if it cannot be detected.
    #[serde(default)]
    pub time: Option<String>,
    /// Words of the kind of event, each with what it means.
    #[serde(default)]
    pub kinds: std::collections::BTreeMap<String, EventKind>,
}

/// The current status of an event.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct EventReport {
    /// Its id.
    pub id: String,
    /// `joiner`, `mover` or `leaver`.
    pub event: EventKind,
    /// The key of the record.
    pub key: String,
    /// When it arrived.
    #[schema(format = DateTime)]
    pub received_at: String,
    /// `waiting` until a run has carried it on, `running` while some of its changes are unsettled,
    /// `done`, `held` with the reason in the lines, or `outdated` when it came after a later one
    /// and nothing was done.
    pub state: EventState,
    /// The path of this report.
    pub status_url: String,
    /// The account in this system.
    pub account: Option<i64>,
    /// The identity that it belongs to.
    pub identity: Option<String>,
    /// The results by system.
    pub outcomes: Vec<EventOutcome>,
}

/// The result of an event in one system.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct EventOutcome {
    /// The system.
    pub system: String,
    /// The account there, by name.
    pub account: Option<String>,
    /// Its immutable key there.
    pub key: Option<String>,
    /// Its known groups.
    pub groups: Vec<String>,
    /// The verdict, or the last change.
    pub message: String,
}
