//! The states, kinds and origins of everything that is stored and shown. One code each, for
//! records, API and client alike.

use serde::{Deserialize, Serialize};
use std::fmt;

codes! {
    /// How a membership came about.
    pub enum MembershipOrigin {
        /// A rule added it.
        Rule,
        /// The group has this member where it comes from.
        Mapped,
        /// It was added manually in the system.
        Manual,
    }
}

codes! {
    /// The status in a scope.
    pub enum ScopeStatus {
        /// In scope.
        In,
        /// Out of scope.
        Out,
        /// Waits for something.
        OnHold,
    }
}

codes! {
    /// The state of a change.
    pub enum ChangeState {
        /// Part of a preview: it is never sent.
        Proposed,
        /// Not sent; its hold gives the reason.
        OnHold,
        /// Stored, and to be sent.
        Queued,
        /// Handed to the connector; no answer yet.
        Sending,
        /// The system queued it, and is polled until it is done.
        Accepted,
        /// The answer was lost: it must be found out whether it took effect.
        Unknown,
        /// Confirmed.
        Done,
        /// Refused; its error gives the reason.
        Failed,
        /// Withdrawn before it was sent.
        Canceled,
    }
}

codes! {
    /// How the changes of a system come to be known.
    pub enum WatchMode {
        /// The directory reports each change immediately (RFC 4533, refreshAndPersist).
        ContentSync,
        /// A domain controller is polled for objects with a higher change number, including deleted
        /// ones.
        ChangeNumber,
        /// A directory is polled for modified entries; full reads find deletions.
        Modified,
        /// A SCIM service is polled for modified resources (`meta.lastModified`); full reads find
        /// deletions.
        LastModified,
        /// A file is read when it arrives.
        Arrival,
        /// The system calls us.
        Pushed,
        /// There is no way but to read everything.
        FullRead,
    }
}

impl WatchMode {
    /// The label.
    pub fn label(self) -> &'static str {
        match self {
            WatchMode::ContentSync => {
                "the directory sends each change at once (content synchronization)"
            }
            WatchMode::ChangeNumber => "polled for changes and deletions (change numbers)",
            WatchMode::Modified => "polled for modified entries; full reads find deletions",
            WatchMode::LastModified => "polled for modified resources; full reads find deletions",
            WatchMode::Arrival => "files are read when they arrive",
            WatchMode::Pushed => "the system pushes",
            WatchMode::FullRead => "full read each time",
        }
    }

    /// Whether the system sends its changes, so that it is not polled.
    pub fn is_sent(self) -> bool {
        matches!(
            self,
            WatchMode::ContentSync | WatchMode::Arrival | WatchMode::Pushed
        )
    }

    /// Whether deletions are reported.
    pub fn reports_deletions(self) -> bool {
        !matches!(self, WatchMode::Modified | WatchMode::LastModified)
    }
}

codes! {
    /// How bad something is.
    pub enum Severity {
        /// Access that must be closed is open, or nothing is done.
        Critical,
        /// Something is blocked until an operator acts.
        Warning,
        /// Something to know.
        Info,
    }
}

codes! {
    /// What needs attention.
    pub enum AttentionKind {
        /// The records cannot be written.
        Storage,
        /// All writes are stopped by an operator.
        WritesStopped,
        /// A task of the service failed and is started again later.
        Task,
        /// People who left still have access.
        OpenAccess,
        /// The published rules have errors: nothing is decided.
        RulesInvalid,
        /// A guard holds changes.
        Guard,
        /// A system does not answer, or its test failed.
        Unreachable,
        /// The last read of a system failed, or its file was refused.
        ReadFailed,
        /// Changes failed, and are not retried before something changes.
        Failed,
        /// Changes await an approval.
        Approval,
        /// The owner of these accounts is unknown.
        Review,
        /// Accounts were changed in a system itself.
        ExternalChange,
        /// People are on hold for other causes.
        OnHold,
        /// Changes failed, and are retried later.
        RetriedLater,
        /// Alerts that are not acknowledged.
        Notices,
        /// No system is connected.
        NoSystems,
        /// No rules are published.
        NoRules,
        /// There was no run yet.
        NoRun,
    }
}

impl AttentionKind {
    /// How bad it is.
    pub fn severity(self) -> Severity {
        match self {
            AttentionKind::Storage
            | AttentionKind::WritesStopped
            | AttentionKind::Task
            | AttentionKind::OpenAccess
            | AttentionKind::RulesInvalid
            | AttentionKind::Guard => Severity::Critical,
            AttentionKind::Unreachable
            | AttentionKind::ReadFailed
            | AttentionKind::Failed
            | AttentionKind::Approval
            | AttentionKind::Review
            | AttentionKind::ExternalChange
            | AttentionKind::OnHold
            | AttentionKind::RetriedLater => Severity::Warning,
            AttentionKind::Notices
            | AttentionKind::NoSystems
            | AttentionKind::NoRules
            | AttentionKind::NoRun => Severity::Info,
        }
    }
}

codes! {
    /// How a system is, by its tests, reads and writes; the last of them counts.
    pub enum SystemHealth {
        /// It was never tested, read or written.
        Unknown,
        /// An operator paused it.
        Paused,
        /// Everything works.
        Healthy,
        /// It answers, and something does not work.
        Degraded,
        /// It does not answer, or lets us in no more.
        Unreachable,
    }
}

codes! {
    /// What kind of system is connected.
    pub enum SystemKind {
        /// A directory (RFC 4511).
        Ldap,
        /// A SCIM service (RFC 7644).
        Scim,
        /// Files that are fetched or delivered.
        Feed,
        /// A system that calls us, by SCIM or by events.
        Push,
    }
}

codes! {
    /// What a system is used for, by the published rules.
    pub enum SystemRole {
        /// Its accounts give identities their values.
        Source,
        /// Its accounts are written.
        Target,
    }
}

codes! {
    /// How a step of a connection test ended.
    pub enum StepState {
        /// It works.
        Passed,
        /// It works, and an operator should look at it.
        Warned,
        /// It does not work.
        Failed,
    }
}

codes! {
    /// The state of a full read of one type of one system.
    pub enum ReadState {
        /// In progress.
        Running,
        /// It showed everything. Absence follows from complete reads only.
        Complete,
        /// It failed: no account counts as absent by it.
        Failed,
        /// It was complete, and a backup was restored since.
        Outdated,
    }
}

codes! {
    /// The state of the watcher of one type of one system.
    pub enum WatcherState {
        /// A full read is in progress.
        Reading,
        /// Changes are received as they happen.
        Watching,
        /// It polls again later.
        Waiting,
        /// It failed, and connects again later.
        Failed,
    }
}

codes! {
    /// A preview, or a run that is carried out.
    #[derive(Default)]
    pub enum ChangeSetKind {
        /// Nothing of it is sent.
        #[default]
        Preview,
        /// Its changes are sent.
        Run,
    }
}

codes! {
    /// The state of a change set.
    pub enum ChangeSetState {
        /// Systems are read.
        Reading,
        /// The decision is complete.
        Deciding,
        /// Changes are sent.
        Running,
        /// It has ended.
        Done,
        /// It ended with an error, before or while it was carried out.
        Failed,
        /// An operator canceled it.
        Canceled,
    }
}

impl ChangeSetState {
    /// Whether nothing more happens in it.
    pub fn is_ended(self) -> bool {
        matches!(
            self,
            ChangeSetState::Done | ChangeSetState::Failed | ChangeSetState::Canceled
        )
    }
}

codes! {
    /// The result of a change set.
    pub enum ChangeSetResult {
        /// It has not ended.
        InProgress,
        /// Everything that it set out to do is done.
        Complete,
        /// Some of its changes failed, or a system could not be read.
        Partial,
        /// It failed as a whole.
        Failed,
        /// An operator canceled it.
        Canceled,
    }
}

codes! {
    /// The origin of a link between an account and an identity.
    pub enum LinkOrigin {
        /// The account is the first of the identity, in a source.
        Source,
        /// A match rule.
        MatchRule,
        /// An operator.
        Operator,
        /// We created the account.
        Created,
    }
}

codes! {
    /// The origin of a role.
    pub enum RoleOrigin {
        /// Its condition holds.
        Condition,
        /// An operator gave it.
        Grant,
        /// Another role includes it.
        Included,
        /// No assignment gives it any more; it is kept for some days.
        Kept,
    }
}

codes! {
    /// Why an account belongs to no identity, or is left out of matching.
    pub enum UnmatchedCause {
        /// No identity matches it.
        NoMatch,
        /// It is a candidate of a match that needs review.
        Candidate,
        /// An operator decided to leave it as it is.
        Skipped,
        /// It is protected: never linked, changed or disabled.
        Protected,
        /// Another cause, which the reason gives.
        Other,
    }
}

codes! {
    /// How an account and an identity stand to each other in a system.
    pub enum MatchStatus {
        /// Several match.
        Ambiguous,
        /// One matches by a rule that requires review, or there is evidence against it.
        NeedsReview,
        /// Several identities match one account.
        ClaimedTwice,
        /// The matching account is linked to another identity.
        AlreadyLinked,
        /// An account has a key that belongs to another identity now.
        KeyReassigned,
        /// It will be linked.
        WillLink,
        /// A new identity or a new account is created.
        New,
        /// The account is orphaned.
        Orphaned,
        /// It is left as it is.
        Skipped,
        /// It is linked.
        Linked,
    }
}

codes! {
    /// How the value of an attribute in a target compares with the one that the rules want.
    pub enum ValueState {
        /// Both are the same.
        InSync,
        /// It will be set.
        WillBeSet,
        /// It would be set, if its account were not on hold.
        WouldBeSet,
        /// It differs, and is not sent.
        Differs,
        /// The rules leave it as it is.
        LeftAlone,
        /// The rules give it no value.
        NoValue,
    }
}

codes! {
    /// What is to be decided.
    pub enum DecisionKind {
        /// Matches need review.
        Match,
        /// A change awaits approval.
        Approval,
        /// A guard holds changes.
        Guard,
        /// A change failed for good.
        Failed,
        /// An account was changed in its system, and the rules only report that.
        Drift,
        /// An approval that has been open for some days.
        Reminder,
        /// An account was created or deleted in its system.
        ExternalChange,
        /// An answer that is still in effect.
        Override,
    }
}

codes! {
    /// How a decision is answered.
    pub enum DecisionAnswer {
        /// The change may be sent.
        Approve,
        /// The change is not sent while it stays the same.
        Reject,
        /// An approval that expired is requested again.
        Reopen,
        /// Changes that a guard holds are sent.
        Release,
        /// Changes that a guard holds are not sent while they stay the same.
        Discard,
        /// The rules' value is restored.
        Repair,
        /// A change that failed for good is sent again.
        Retry,
        /// An external change was seen.
        Acknowledge,
        /// An answer that still holds ends.
        TakeBack,
    }
}

codes! {
    /// What a notification reports.
    pub enum NotificationEvent {
        /// The accounts of a joiner exist and cannot be used yet.
        Ready,
        /// A joiner is active, and everything that was due for them is done.
        Arrived,
        /// A leaver's last days have begun.
        Leaving,
        /// A leaver has left.
        Left,
        /// A rule added a person to a group.
        JoinedGroup,
        /// A person waits for a seat of a license.
        NoSeat,
        /// A person has an account and has not used it.
        NotArrived,
        /// A change awaits approval. Approvals send it themselves; no rule names it.
        AwaitingApproval,
    }
}

codes! {
    /// How a feed's file is written.
    #[derive(Default)]
    pub enum FeedFormat {
        /// Detected from the file.
        #[default]
        Auto,
        /// Comma-separated values, with any delimiter (RFC 4180).
        Csv,
        /// One JSON object in each line.
        JsonLines,
    }
}

codes! {
    /// The kind of values in a column of a feed.
    #[derive(Default)]
    pub enum ColumnType {
        /// Text.
        #[default]
        Text,
        /// A number.
        Number,
        /// A day.
        Date,
        /// True or false.
        Boolean,
        /// An e-mail address.
        Address,
    }
}

codes! {
    /// What changed in a rule file.
    pub enum FileChange {
        /// It is new.
        Added,
        /// It is gone.
        Removed,
        /// Its text changed.
        Changed,
    }
}

codes! {
    /// The change of a line between two versions of a rule file.
    pub enum LineChange {
        /// It is new.
        Added,
        /// It is gone.
        Removed,
        /// It stayed.
        Unchanged,
    }
}

codes! {
    /// The direction of a mapping.
    pub enum Direction {
        /// From an account to its identity.
        Inbound,
        /// From an identity to its account.
        Outbound,
    }
}

codes! {
    /// The kind of an event that a system pushes.
    pub enum EventKind {
        /// A new person.
        Joiner,
        /// A change of a person.
        Mover,
        /// A person left.
        Leaver,
    }
}

codes! {
    /// The state of a received event.
    pub enum EventState {
        /// No run has carried it on yet.
        Waiting,
        /// Some of its changes are not confirmed yet.
        Running,
        /// All of its changes are confirmed.
        Done,
        /// Something about it is on hold.
        OnHold,
        /// A later event about the same record replaced it.
        Outdated,
    }
}

codes! {
    /// The actor.
    pub enum PrincipalKind {
        /// An operator.
        Operator,
        /// A system that calls us.
        System,
        /// The service itself.
        Service,
    }
}

codes! {
    /// The kind of a change.
    pub enum ChangeKind {
        /// The account is disabled. Leavers come first, so this orders before all others.
        Disable,
        /// The account is removed.
        Delete,
        /// A membership or license is removed.
        Revoke,
        /// The account is created.
        Create,
        /// The account is enabled.
        Enable,
        /// The account gets another name.
        Rename,
        /// The account gets another container.
        Move,
        /// Values change.
        Update,
        /// A membership or license is granted.
        Grant,
        /// A password is set.
        Password,
    }
}

impl ChangeKind {
    /// Whether it revokes access. Such changes are sent before all others.
    pub fn takes_away(self) -> bool {
        matches!(
            self,
            ChangeKind::Disable | ChangeKind::Delete | ChangeKind::Revoke
        )
    }
}

codes! {
    /// What one step of a connection test tests.
    pub enum CheckStepKind {
        /// The address of the system is valid.
        Address,
        /// The host name resolves.
        NameResolution,
        /// The port accepts connections.
        Port,
        /// The certificate is trusted, and the connection is encrypted.
        Tls,
        /// The server answers in LDAP.
        LdapGreeting,
        /// The service account can bind.
        Bind,
        /// A backup host can be used.
        BackupHost,
        /// The base DN is readable.
        BaseDn,
        /// Schema and capabilities are readable.
        Schema,
        /// The first entries are readable.
        FirstEntries,
        /// Whether referrals are followed.
        Referrals,
        /// How changes are watched.
        Changes,
        /// Whether writes are permitted.
        Writable,
        /// The SCIM service answers.
        Service,
        /// An access token is issued.
        Token,
        /// What the service offers.
        Capabilities,
        /// Whether filters are usable.
        Filters,
        /// The first resources are readable.
        FirstResources,
        /// The file of a feed exists.
        File,
        /// The format of the file is known.
        Format,
        /// The columns of the file.
        Columns,
        /// The rows of the file are valid.
        Rows,
        /// The system can push records.
        Ready,
        /// The object classes select accounts.
        ObjectClasses,
    }
}

impl CheckStepKind {
    /// The label, for people.
    pub fn label(self) -> &'static str {
        match self {
            CheckStepKind::Address => "Address",
            CheckStepKind::NameResolution => "Name resolves",
            CheckStepKind::Port => "Port answers",
            CheckStepKind::Tls => "TLS verifies",
            CheckStepKind::LdapGreeting => "Speaks LDAP",
            CheckStepKind::Bind => "Bind accepted",
            CheckStepKind::BackupHost => "Backup host",
            CheckStepKind::BaseDn => "Base DN readable",
            CheckStepKind::Schema => "Schema and capabilities",
            CheckStepKind::FirstEntries => "First entries",
            CheckStepKind::Referrals => "Referrals",
            CheckStepKind::Changes => "Changes",
            CheckStepKind::Writable => "Writable",
            CheckStepKind::Service => "Service answers",
            CheckStepKind::Token => "Token issued",
            CheckStepKind::Capabilities => "Abilities",
            CheckStepKind::Filters => "Filters",
            CheckStepKind::FirstResources => "First resources",
            CheckStepKind::File => "File found",
            CheckStepKind::Format => "Format",
            CheckStepKind::Columns => "Columns",
            CheckStepKind::Rows => "Rows",
            CheckStepKind::Ready => "Ready",
            CheckStepKind::ObjectClasses => "Object classes",
        }
    }
}

codes! {
    /// The type of an account. Only equal types are ever linked.
    pub enum ObjectType {
        /// A human being.
        Person,
        /// A program's or a device's account.
        Service,
        /// A group of others.
        Group,
    }
}

/// The origin of a link.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct LinkBasis {
    /// Which kind of thing.
    pub origin: LinkOrigin,
    /// The source's, the match rule's or the operator's name; empty for an account that we created.
    pub name: String,
}

impl LinkBasis {
    /// The origin of a link, with its name.
    pub fn new(origin: LinkOrigin, name: impl Into<String>) -> Self {
        LinkBasis {
            origin,
            name: name.into(),
        }
    }

    /// We created the account.
    pub fn created() -> Self {
        Self::new(LinkOrigin::Created, "")
    }
}

/// The sentence that people read.
impl fmt::Display for LinkBasis {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let name = &self.name;
        match self.origin {
            LinkOrigin::Source => write!(f, "first seen in {name}"),
            LinkOrigin::MatchRule => write!(f, "match rule \"{name}\""),
            LinkOrigin::Operator => write!(f, "decided by {name}"),
            LinkOrigin::Created => f.write_str("created by us"),
        }
    }
}

codes! {
    /// The kind of a departure step, by its name in the rules.
    pub enum DepartureAction {
        /// The account can no longer be used.
        Disable,
        /// It gets a random password.
        RandomizePassword,
        /// A value is set or cleared.
        Set,
        /// Memberships and granting values are removed.
        Revoke,
        /// It gets another name.
        Move,
        /// It is removed.
        Delete,
    }
}

impl DepartureAction {
    /// The label.
    pub fn label(self) -> &'static str {
        match self {
            DepartureAction::Disable => "disable",
            DepartureAction::RandomizePassword => "randomize the password",
            DepartureAction::Set => "set a value",
            DepartureAction::Revoke => "revoke memberships",
            DepartureAction::Move => "move",
            DepartureAction::Delete => "delete",
        }
    }
}

codes! {
    /// Why a value that differs stays as it is.
    pub enum KeptCause {
        /// The system computes it.
        Computed,
        /// The source is empty, and the rule keeps the value.
        SourceEmpty,
        /// The rule applies to new accounts only.
        SetOnCreate,
        /// The rule applies to empty values only.
        SetIfEmpty,
        /// The referenced account is not created yet.
        WaitingForAccount,
        /// The system requires a value, and the source is empty.
        RequiredThere,
    }
}

impl KeptCause {
    /// The label.
    pub fn label(self) -> &'static str {
        match self {
            KeptCause::Computed => "the system computes it",
            KeptCause::SourceEmpty => "the source is empty, and the rule leaves the value",
            KeptCause::SetOnCreate => "set once, when the account was created",
            KeptCause::SetIfEmpty => "set only while empty",
            KeptCause::WaitingForAccount => "waiting for an account that is not created yet",
            KeptCause::RequiredThere => "required there, but the source is empty",
        }
    }
}
