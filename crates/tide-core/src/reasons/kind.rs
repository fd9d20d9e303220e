//! The kinds of reasons. Each has a code, its arguments, and the sentence that is made of them.

use crate::states::{DepartureAction, KeptCause, LinkBasis, ObjectType};
use derive_more::Display;
use jiff::{Timestamp, Zoned};
use serde::{Deserialize, Serialize};

/// A point in time for people, to the minute, in the zone of the rules.
fn minute(at: &Zoned) -> impl std::fmt::Display {
    at.strftime("%Y-%m-%d %H:%M")
}

/// An instant for people, to the minute.
fn minute_utc(at: &Timestamp) -> impl std::fmt::Display {
    at.strftime("%Y-%m-%d %H:%M UTC")
}

/// An instant for people, to the second.
fn second_utc(at: &Timestamp) -> impl std::fmt::Display {
    at.strftime("%Y-%m-%d %H:%M:%S UTC")
}

/// A number with its noun, in the plural where it is not one.
fn counted(count: usize, noun: &str) -> String {
    let plural = if count == 1 { "" } else { "s" };
    format!("{count} {noun}{plural}")
}

/// How many changes came before, as the middle of a sentence.
fn recent_text(before: usize, hours: u32) -> String {
    match (before, hours) {
        (0, _) => String::new(),
        (_, 1) => format!(" after {before} in the last hour"),
        _ => format!(" after {before} in the last {hours} hours"),
    }
}

/// A comment in quotation marks, as the end of a sentence; nothing without one.
fn quoted(comment: &str) -> String {
    if comment.is_empty() {
        String::new()
    } else {
        format!(" (“{comment}”)")
    }
}

/// The name and key of an account.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct AccountName {
    /// Its name.
    pub name: String,
    /// Its key.
    pub key: String,
}

/// The limit of a guard.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize, Display)]
#[serde(rename_all = "snake_case")]
pub enum GuardLimit {
    /// A number of changes.
    #[display("{_0}")]
    Count(usize),
    /// A share of the linked accounts.
    #[display("{percent} % of {linked}")]
    Percent {
        /// The percentage.
        percent: u32,
        /// How many accounts are linked.
        linked: usize,
    },
}

codes! {
    /// A date of the lifecycle.
    pub enum LifecycleDate {
        /// The first day.
        FirstDay,
        /// The last day.
        LastDay,
        /// The last use of an account.
        LastUse,
    }
}

impl LifecycleDate {
    /// The label.
    pub fn label(self) -> &'static str {
        match self {
            LifecycleDate::FirstDay => "the first day",
            LifecycleDate::LastDay => "the last day",
            LifecycleDate::LastUse => "the last use",
        }
    }
}

/// What a reason says: a code with its arguments. `Display` is the sentence.
///
/// Programs read the code and the arguments; the sentence is for people, and may change.
#[derive(
    Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize, Display, strum::EnumDiscriminants,
)]
#[serde(tag = "code", content = "args", rename_all = "snake_case")]
#[strum_discriminants(
    name(ReasonCode),
    doc = "The code of a reason.",
    derive(
        PartialOrd,
        Ord,
        Hash,
        Serialize,
        Deserialize,
        strum::Display,
        strum::EnumString,
        strum::IntoStaticStr,
        strum::VariantArray,
        utoipa::ToSchema
    ),
    serde(rename_all = "snake_case"),
    strum(serialize_all = "snake_case"),
    allow(missing_docs)
)]
#[allow(missing_docs, reason = "the sentence of each kind names its arguments")]
pub enum ReasonKind {
    // ── Accounts that are never touched ──────────────────────────────────────────────────────
    #[display("protected: built-in {account} account")]
    BuiltInAccount { account: String },
    #[display("protected: built into the directory")]
    BuiltInObject,
    #[display("protected: our own service account")]
    ServiceAccount,
    #[display("protected: named by the rules")]
    ProtectedByName,
    /// `words` is the reason that the rule gives.
    #[display("protected: {words}")]
    ProtectedByCondition { words: String },
    #[display("protected: {condition} cannot be evaluated: {error}")]
    ProtectionFailed { condition: String, error: String },

    // ── Scope ────────────────────────────────────────────────────────────────────────────────
    #[display("its container is excluded: {container}")]
    ContainerExcluded { container: String },
    #[display("its container is not inside {}", containers.join(" or "))]
    OutsideContainers { containers: Vec<String> },
    #[display(
        "deeper than the one level of {} that the scope includes",
        containers.join(" and ")
    )]
    BelowOneLevel { containers: Vec<String> },
    #[display("it has no DN, but the scope names containers")]
    NoDn,
    #[display("the filter does not match: {filter}")]
    FilterNotMatched { filter: String },
    #[display(
        "the server evaluates the filter {filter}; the next full read evaluates it for this entry"
    )]
    FilterOnServer { filter: String },
    /// `words` is the reason that the rule gives.
    #[display("{words}")]
    ConditionNotMet { words: String },
    #[display("the condition {condition} cannot be evaluated: {error}")]
    ConditionFailed { condition: String, error: String },
    #[display("member of {group}, which is excluded")]
    InExcludedGroup { group: String },
    /// `unread` names groups whose members could not be read.
    #[display("not a member of {}{}", groups.join(" or "), unread_groups(unread))]
    NotInGroup {
        groups: Vec<String>,
        unread: Vec<String>,
    },
    #[display("no groups were read")]
    NoGroupsRead,
    #[display("{system} has no group {group}")]
    NoSuchGroup { system: String, group: String },
    #[display("the groups of {system} have not been read completely yet")]
    GroupsNotRead { system: String },
    #[display("out of scope in {system}: {why}")]
    OutOfSourceScope {
        system: String,
        why: Box<ReasonKind>,
    },

    #[display("meets every condition of the scope")]
    InScope,

    // ── Source accounts and absences ─────────────────────────────────────────────────────────
    #[display("supplies values of its identity")]
    SuppliesValues,
    #[display("supplies values of a new identity")]
    SuppliesNewIdentity,
    #[display("linked by {linked_by}, supplies no values: {why}")]
    SuppliesNoValues {
        linked_by: String,
        why: Box<ReasonKind>,
    },
    #[display("no source system contains it")]
    NoSource,
    #[display("{system} no longer contains it")]
    GoneFromSystem { system: String },
    #[display(
        "{system} no longer contains {account}: reported on {}",
        second_utc(since)
    )]
    DeletionReported {
        system: String,
        account: String,
        since: Timestamp,
    },
    #[display(
        "{system} no longer contains {account}, as of the full read of {}",
        second_utc(since)
    )]
    AbsentFromRead {
        system: String,
        account: String,
        since: Timestamp,
    },
    #[display(
        "{}: if no source lists it again, {person} leaves on {}",
        absence(system, account, since, *is_confirmed),
        second_utc(leaves_at)
    )]
    AbsenceWaits {
        system: String,
        account: String,
        since: Timestamp,
        is_confirmed: bool,
        person: String,
        leaves_at: Timestamp,
    },
    #[display("invalid record: {fault}; correct it in {system}")]
    InvalidRecord { fault: String, system: String },

    // ── Matching ─────────────────────────────────────────────────────────────────────────────
    #[display("skipped: answered by {principal}")]
    Skipped { principal: String },
    #[display("unchanged: answered by an operator")]
    LeftByAnswer,
    #[display("no identity matches; left unchanged")]
    NoIdentityMatches,
    #[display("no identity matches: review required")]
    OrphanNeedsReview,
    #[display("no identity matches: orphaned accounts are disabled here")]
    OrphanDisabled,
    #[display("it may belong to {person}, who is on hold until the match is reviewed")]
    MayBelongTo { person: String },
    #[display(
        "{account} now has {key} by {rule}, which belongs to another identity: confirm that it is the same person"
    )]
    KeyOfAnotherIdentity {
        account: String,
        key: String,
        rule: String,
    },
    #[display(
        "its account {account} has {key} by {rule}, which now belongs to {person}: review required"
    )]
    KeyMoved {
        account: String,
        key: String,
        rule: String,
        person: String,
    },
    #[display("matches by {rule} an identity that {account} already supplies")]
    IdentityAlreadySupplied { rule: String, account: String },
    #[display("matches an identity by {rule}, but {why}")]
    IdentityDoubtful { rule: String, why: Box<MatchDoubt> },
    #[display("matches {count} identities by {rule}: review required")]
    SeveralIdentities { count: usize, rule: String },
    #[display(
        "ambiguous: {} accounts match by {rule}: {}",
        accounts.len(),
        accounts.join(", ")
    )]
    SeveralAccounts { rule: String, accounts: Vec<String> },
    #[display("{account} matches by {rule}, but {why}")]
    AccountDoubtful {
        account: String,
        rule: String,
        why: Box<MatchDoubt>,
    },
    #[display("{account} matches by {rule}, but is already linked to another identity")]
    AccountAlreadyLinked { account: String, rule: String },
    #[display("claimed twice: {account} matches {} by {rule} too", people.join(" and "))]
    ClaimedTwice {
        account: String,
        people: Vec<String>,
        rule: String,
    },
    #[display("{account} is its account: answered by {principal}")]
    AnsweredMatch { account: String, principal: String },
    #[display(
        "{account} is its account (answered by {principal}), but the record is invalid: {fault}"
    )]
    AnsweredMatchInvalid {
        account: String,
        principal: String,
        fault: String,
    },
    #[display("{basis}")]
    LinkedBy { basis: LinkBasis },
    #[display("{account} exists and matches by {rule}")]
    Matched { account: String, rule: String },
    #[display("{account} matches by {rule}, but its record is invalid: {fault}")]
    MatchedInvalid {
        account: String,
        rule: String,
        fault: String,
    },
    #[display(
        "{system} has not been read completely yet, so it is unknown whether an account exists there"
    )]
    SystemNotRead { system: String },

    // ── Accounts and their values ────────────────────────────────────────────────────────────
    #[display("in scope; no account of {system} matches")]
    NoAccountYet { system: String },
    #[display("its account {account} was deleted after the departure and is created again")]
    RecreatedAfterDeparture { account: String },
    #[display("its account {account} was deleted in {system} by others and is created again")]
    RecreatedAfterDeletion { account: String, system: String },
    #[display("its account {account} was deleted in {system} by others, and stays deleted")]
    StaysDeleted { account: String, system: String },
    #[display(
        "its account {account} was deleted in {system} by others: `eager-tide identities split` allows a new one"
    )]
    DeletedThere { account: String, system: String },
    #[display("waiting for an account in {system}")]
    WaitingForAccount { system: String },
    #[display("all values are in sync")]
    InSync,
    #[display("{} differ{}", attributes.join(", "), if attributes.len() == 1 { "s" } else { "" })]
    ValuesDiffer { attributes: Vec<String> },
    #[display("{attribute} should be {value}")]
    StateDiffers { attribute: String, value: String },
    #[display("{attribute} follows the identity")]
    NameFollows { attribute: String },
    #[display("a password was set for all accounts of the person")]
    PasswordSet,
    #[display("a password was set, to be changed at the next sign-in")]
    PasswordSetToChange,
    #[display("the password in {system} changed: its hash is copied")]
    PasswordCopied { system: String },
    #[display(
        "{} {} changed in {system} by others",
        attributes.join(", "),
        if attributes.len() == 1 { "was" } else { "were" }
    )]
    ExternalChange {
        attributes: Vec<String>,
        system: String,
    },
    #[display("drift: changed in {system} by others; repaired when an operator chooses repair")]
    DriftReported { system: String },
    /// Without `holder`, it is another new account.
    #[display(
        "{attribute} {value} is taken in {system} by {}",
        holder_text(holder.as_deref())
    )]
    ValueTaken {
        attribute: String,
        value: String,
        system: String,
        holder: Option<Box<AccountName>>,
    },
    #[display("{attribute} changes with the referenced entry")]
    ReferenceChanges { attribute: String },
    #[display("{attribute} is set once the account of {} exists", people.join(", "))]
    ReferenceWaits {
        attribute: String,
        people: Vec<String>,
    },
    #[display(
        "{system} needs the account of {person} first ({attribute}), which is not created now"
    )]
    ReferenceBlocked {
        system: String,
        person: String,
        attribute: String,
    },
    #[display("waiting for a value of {attribute}: it is required")]
    ValueMissing { attribute: String },
    #[display("waiting for a value of {}: `{attribute}` is required", reads.join(", "))]
    MappedValueMissing {
        reads: Vec<String>,
        attribute: String,
    },
    #[display("`{attribute}` is required there, but {expression} has no value")]
    TargetValueMissing {
        attribute: String,
        expression: String,
    },
    #[display(
        "waiting for a value of {attribute}: required, but there are not enough values to generate it"
    )]
    NotEnoughToGenerate { attribute: String },
    #[display("`{attribute}` cannot be generated: {error} (in {expression})")]
    GenerationFailed {
        attribute: String,
        error: String,
        expression: String,
    },
    #[display(
        "no free value for `{attribute}`: {} and others are taken, reserved or too long",
        refused.join(", ")
    )]
    NoFreeValue {
        attribute: String,
        refused: Vec<String>,
    },
    #[display("duplicate {attribute} {value}, also of {}: correct one of them", others.join(" and "))]
    DuplicateValue {
        attribute: String,
        value: String,
        others: Vec<String>,
    },
    #[display("{fault}")]
    UnfitValue { fault: String },
    #[display("the address {address} is outside the accepted domains: {}", domains.join(", "))]
    ForeignDomain {
        address: String,
        domains: Vec<String>,
    },
    #[display("`{attribute}` cannot be computed: {error} (in {expression})")]
    MappingFailed {
        attribute: String,
        error: String,
        expression: String,
    },
    #[display("membership of {population} cannot be evaluated: {error} (in {expression})")]
    PopulationFailed {
        population: String,
        error: String,
        expression: String,
    },

    // ── Groups ───────────────────────────────────────────────────────────────────────────────
    #[display("joins {group}: {condition}")]
    JoinsGroup { group: String, condition: String },
    #[display("was removed from {group} in {system} by others")]
    RemovedFromGroup { group: String, system: String },
    #[display("{group} contains a former name")]
    FormerNameInGroup { group: String },
    #[display("{group} contains a former name beside the current one")]
    TwoNamesInGroup { group: String },
    #[display("{group} contains the current name")]
    NameInGroup { group: String },
    #[display("leaves {group}: the rule that added the member no longer applies")]
    MembershipEnds { group: String },
    #[display("leaves {group}: no rule adds the member, and unmanaged members are removed")]
    UnmanagedMember { group: String },
    #[display("{why}: {group}")]
    LeavesGroup { why: Box<ReasonKind>, group: String },
    #[display("the groups to join cannot be evaluated: {error} (in {expression})")]
    MembershipFailed { error: String, expression: String },

    // ── Roles ────────────────────────────────────────────────────────────────────────────────
    #[display("the holders of {role} cannot be evaluated: {error} (in {expression})")]
    RoleFailed {
        role: String,
        error: String,
        expression: String,
    },
    #[display("{attribute} from the role {role} cannot be evaluated: {error} (in {expression})")]
    RoleValueFailed {
        attribute: String,
        role: String,
        error: String,
        expression: String,
    },

    // ── Lifecycle and departure ──────────────────────────────────────────────────────────────
    #[display("{} cannot be evaluated: {error} (in {expression})", date.label())]
    DateFailed {
        date: LifecycleDate,
        error: String,
        expression: String,
    },
    #[display("{} is invalid: {fault}", date.label())]
    DateInvalid { date: LifecycleDate, fault: String },
    #[display("the last day is before the first day, {}", minute(first))]
    EndsBeforeStart { first: Zoned },
    #[display("the stage cannot be evaluated: {error} (in {expression})")]
    StageFailed { error: String, expression: String },
    #[display(
        "starts on {}: accounts are created from {} on",
        minute(at),
        minute(accounts_from)
    )]
    Starts { at: Zoned, accounts_from: Zoned },
    #[display("starts on {}: accounts are created, disabled until then", minute(at))]
    StartsSoon { at: Zoned },
    #[display("active")]
    Active,
    #[display("active since {}", minute(since))]
    ActiveSince { since: Zoned },
    #[display("away: {condition}")]
    Away { condition: String },
    #[display("leaves on {}", minute(at))]
    LeavesOn { at: Zoned },
    #[display("left on {}: {why}", minute(at))]
    LeftOn { at: Zoned, why: Box<ReasonKind> },
    #[display("left: {condition}")]
    LeftByCondition { condition: String },
    #[display("left: departure by {principal}")]
    LeftByDeparture { principal: String },
    #[display("the last day has passed")]
    LastDayPassed,
    #[display("departure by {principal}{}", quoted(comment))]
    Departure { principal: String, comment: String },
    #[display("no use since {}", minute(since))]
    Unused { since: Zoned },
    #[display("as last decided")]
    AsLastDecided,
    /// `why` is why they left.
    #[display(
        "{}; departure step {number}: {}",
        why.as_ref().map_or_else(|| "left".to_owned(), ToString::to_string),
        action.label()
    )]
    DepartureStep {
        why: Option<Box<ReasonKind>>,
        number: usize,
        action: DepartureAction,
    },
    #[display("departure step “{}” cannot be done: {why}", action.label())]
    StepFailed {
        action: DepartureAction,
        why: Box<ReasonKind>,
    },
    #[display("accounts of {system} cannot be disabled")]
    CannotBeDisabled { system: String },
    #[display("`{expression}` is not the name of an entry")]
    NotAnEntryName { expression: String },
    #[display("{error} (in {expression})")]
    ExpressionFailed { error: String, expression: String },
    #[display("waiting for departure step {step}, which is on hold")]
    EarlierStepOnHold { step: u16 },

    // ── Holds of changes ─────────────────────────────────────────────────────────────────────
    #[display("{system} is read-only for type {object}: nothing is sent until writes are enabled")]
    ReadOnly { system: String, object: ObjectType },
    #[display("{system} is not armed: nothing is sent until `eager-tide systems arm {system}`")]
    NotArmed { system: String },
    #[display("{system} is paused")]
    Paused { system: String },
    #[display(
        "all writes are stopped by {principal} since {}{}{comment}",
        minute_utc(since),
        if comment.is_empty() { "" } else { ": " }
    )]
    WritesStopped {
        principal: String,
        since: Timestamp,
        comment: String,
    },
    #[display("write blackout of {system}: {window}, until {}", minute_utc(until))]
    WriteBlackout {
        system: String,
        window: String,
        until: Timestamp,
    },
    #[display(
        "rejected by {principal}{}: not sent while it stays the same",
        quoted(comment)
    )]
    Rejected { principal: String, comment: String },
    #[display(
        "“{rule}” was not answered within {}: not sent until the approval is reopened",
        counted(*days as usize, "day")
    )]
    ApprovalExpired { rule: String, days: u32 },
    #[display("awaiting approval ({rule}): level {level} of {levels}, {approvers}")]
    AwaitingApproval {
        rule: String,
        level: usize,
        levels: usize,
        approvers: String,
    },
    #[display("waiting for a seat of {license}: {used} of {seats} are in use{}", ahead_text(*ahead))]
    WaitingForSeat {
        license: String,
        used: usize,
        seats: usize,
        ahead: usize,
    },
    /// `before` changes were made in the last `hours`.
    #[display(
        "held by guard: {} in {system}{}; the limit is {limit}{}",
        counted(*count, &format!("{change} change")),
        recent_text(*before, *hours),
        if *is_built_in { " (built-in guard; a guard in guards.toml replaces it)" } else { "" }
    )]
    HeldByGuard {
        change: String,
        system: String,
        count: usize,
        before: usize,
        hours: u32,
        limit: GuardLimit,
        is_built_in: bool,
    },
    #[display("discarded by {principal}: not sent while it stays the same")]
    Discarded { principal: String },
    #[display("{system} does not answer ({error}): retried automatically")]
    NoAnswer { system: String, error: String },
    #[display("failed: {error}; retried when its data changes, or by `decisions retry`")]
    Failed { error: String },
    #[display("failed, retried automatically: {error}")]
    FailedTransiently { error: String },
    #[display("its account may exist in {system}: the answer was lost; it is being looked for")]
    OutcomeUnknown { system: String },
    #[display("{system} has queued a change of this account, which is polled")]
    QueuedThere { system: String },
    #[display("not in preview {preview}: what it was decided from has changed since")]
    NotInPreview { preview: i64 },
    #[display("{system} could not be read: {error}")]
    ReadFailed { system: String, error: String },
    #[display("not read since a backup was restored: {}", systems.join(", "))]
    NotReadSinceRestore { systems: Vec<String> },
    #[display("link only: accounts are linked, nothing is sent")]
    LinkOnly,

    // ── Open access of a leaver ──────────────────────────────────────────────────────────────
    #[display("to be sent")]
    ToBeSent,
    #[display("failed: {error}")]
    ChangeFailed { error: String },
    #[display("webhook pending")]
    WebhookPending,
    #[display("{error}")]
    WebhookFailed { error: String },

    // ── The effect of a draft ────────────────────────────────────────────────────────────────
    #[display("no longer decided")]
    NoLongerDecided,
    #[display("unchanged")]
    Unchanged,
    #[display("set by the inbound mapping")]
    SetByMapping,
}

impl ReasonKind {
    /// The code.
    pub fn code(&self) -> ReasonCode {
        self.into()
    }

    /// The arguments by name; empty for a kind without any.
    pub fn args(&self) -> serde_json::Map<String, serde_json::Value> {
        let value = serde_json::to_value(self).unwrap_or_default();
        match value {
            serde_json::Value::Object(mut parts) => match parts.remove("args") {
                Some(serde_json::Value::Object(args)) => args,
                _ => serde_json::Map::new(),
            },
            _ => serde_json::Map::new(),
        }
    }
}

impl ReasonCode {
    /// All codes, as declared.
    pub const ALL: &'static [Self] = <Self as strum::VariantArray>::VARIANTS;

    /// The code as it stands in records and in the API.
    pub fn as_str(self) -> &'static str {
        self.into()
    }
}

/// Why a match by a rule is doubtful.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize, Display)]
#[serde(tag = "code", content = "args", rename_all = "snake_case")]
#[allow(
    missing_docs,
    reason = "the sentence of each doubt names its arguments"
)]
pub enum MatchDoubt {
    #[display("the rule \"{rule}\" requires review")]
    ReviewRule { rule: String },
    /// The keys of an earlier rule exist on both sides and differ.
    #[display("{rule} differs: {there} there, {here} here")]
    KeysDiffer {
        rule: String,
        there: String,
        here: String,
    },
    /// A supporting value that must agree does not.
    #[display("{expression} is {there} there and {here} here")]
    RequiredValueDiffers {
        expression: String,
        there: String,
        here: String,
    },
    #[display(
        "only {agreeing} of {} agree",
        counted(agreeing + differing, "supporting value")
    )]
    TooFewAgree { agreeing: usize, differing: usize },
    /// Without `person`, it is another identity.
    #[display(
        "by {rule} it belongs to {}: {key}",
        person.as_deref().unwrap_or("another identity")
    )]
    BelongsToAnother {
        rule: String,
        person: Option<String>,
        key: String,
    },
}

/// Something beside the reason: it follows the sentence.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize, Display)]
#[serde(tag = "code", content = "args", rename_all = "snake_case")]
#[allow(missing_docs, reason = "the sentence of each note names its arguments")]
pub enum ReasonNote {
    #[display("{} is recommended and missing", attributes.join(", "))]
    RecommendedMissing { attributes: Vec<String> },
    #[display("{attribute} {value} is proposed and assigned at the next run")]
    ValueProposed { attribute: String, value: String },
    #[display("{attribute} {value} is not a known person yet")]
    UnknownPerson { attribute: String, value: String },
    #[display("{count} of {attribute} are not known people yet")]
    UnknownPeople { attribute: String, count: usize },
    #[display("next on {}: {}", minute_utc(at), action.label())]
    NextStep {
        at: Timestamp,
        action: DepartureAction,
    },
    #[display("{system} has no group {group}")]
    NoSuchGroup { system: String, group: String },
}

impl ReasonNote {
    /// A note on missing recommended values; none if nothing is missing.
    pub fn missing(attributes: &[String]) -> Option<ReasonNote> {
        (!attributes.is_empty()).then(|| ReasonNote::RecommendedMissing {
            attributes: attributes.to_vec(),
        })
    }
}

/// Something beside a value.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize, Display)]
#[serde(tag = "code", content = "args", rename_all = "snake_case")]
#[allow(missing_docs, reason = "the sentence of each note names its arguments")]
pub enum ValueNote {
    #[display("for {population}")]
    ForPopulation { population: String },
    #[display("generated; assigned at the next run")]
    GeneratedNow,
    #[display("generated once, reserved for life")]
    Generated,
    #[display("from the role {role}{}", overruled_text(over))]
    FromRole {
        role: String,
        over: Vec<OverruledValue>,
    },
    #[display("by condition, manually, or through another role")]
    HeldRoles,
    #[display("as normalized by {system}")]
    Normalized { system: String },
    #[display("{}", cause.label())]
    LeftAlone { cause: KeptCause },
}

/// A value that another role would set.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize, Display)]
#[display("{value} by {role}")]
pub struct OverruledValue {
    /// The value.
    pub value: String,
    /// The role.
    pub role: String,
}

fn overruled_text(over: &[OverruledValue]) -> String {
    if over.is_empty() {
        return String::new();
    }
    let over: Vec<String> = over.iter().map(ToString::to_string).collect();
    format!(", over {}", over.join(", "))
}

fn unread_groups(unread: &[String]) -> String {
    // A broken group fails alone: the others are evaluated, and the failure is reported.
    if unread.is_empty() {
        String::new()
    } else {
        format!(" (incomplete: {} could not be read)", unread.join(", "))
    }
}

fn absence(system: &str, account: &str, since: &Timestamp, is_confirmed: bool) -> String {
    let since = second_utc(since);
    if is_confirmed {
        format!("{system} reported on {since} that {account} was deleted")
    } else {
        format!("{system} has not listed {account} since {since}, and has not reported a deletion")
    }
}

fn holder_text(holder: Option<&AccountName>) -> String {
    holder.map_or_else(
        || "another new account".to_owned(),
        |holder| {
            let AccountName { name, key } = holder;
            format!("the account {name} ({key}), which matches no identity")
        },
    )
}

fn ahead_text(ahead: usize) -> String {
    match ahead {
        0 => String::new(),
        1 => ", and 1 is ahead".to_owned(),
        more => format!(", and {more} are ahead"),
    }
}
