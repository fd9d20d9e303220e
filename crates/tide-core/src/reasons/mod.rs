//! Reasons: the chain from a source value over a rule to a result. A reason is a code with
//! arguments; its sentence is made where it is shown.

mod kind;

pub use kind::{
    AccountName, GuardLimit, LifecycleDate, MatchDoubt, OverruledValue, ReasonCode, ReasonKind,
    ReasonNote, ValueNote,
};

use serde::{Deserialize, Serialize};
use std::fmt;

/// The location of a rule in the rule files.
#[derive(Debug, Clone, Default, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct Place {
    /// The file's name inside the rule set's folder.
    pub file: String,
    /// The line, from 1.
    pub line: usize,
    /// The column, from 1, counted in characters.
    pub column: usize,
}

impl fmt::Display for Place {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}:{}", self.file, self.line)
    }
}

codes! {
    /// Why something does not go on now.
    pub enum HoldCause {
        /// A limit on changes was passed.
        Guard,
        /// It awaits approval, or was rejected.
        AwaitingApproval,
        /// The match needs review.
        NeedsReview,
        /// It failed, and is not tried again before something changes.
        Failed,
        /// It failed, or its system does not answer; it is retried later.
        RetriedLater,
        /// A required value is missing.
        MissingValue,
        /// Two have a value that only one may have.
        DuplicateValue,
        /// A value or a record cannot be used.
        InvalidValue,
        /// A rule cannot be evaluated.
        RuleError,
        /// An account must exist first.
        WaitingForAccount,
        /// All seats of a license are in use.
        WaitingForSeat,
        /// A day must come first.
        WaitingForDay,
        /// An earlier step must be done first.
        WaitingForStep,
        /// A system has it in a queue of its own, or it is not known yet what became of it.
        UnknownOutcome,
        /// A system that it depends on was not read completely.
        NotRead,
        /// It was changed in the system itself, and the rules only report that.
        ExternalChange,
        /// Its account was deleted in the system itself.
        DeletedThere,
        /// An operator discarded it.
        Discarded,
        /// Its system is paused, or nothing is written to it at this hour.
        Paused,
        /// Its system is read-only or not armed.
        NotArmed,
        /// The preview that a run was bound to did not show it.
        NotInPreview,
        /// The run only links accounts.
        LinkOnly,
    }
}

codes! {
    /// The party who can end a hold.
    pub enum HoldOwner {
        /// An operator, by an answer.
        Operator,
        /// The approver.
        Approver,
        /// The owner of the source data.
        SourceOwner,
        /// The author of the rules.
        RuleAuthor,
        /// The operator of the target system.
        SystemOwner,
        /// No one: it ends automatically.
        Automatic,
    }
}

impl HoldCause {
    /// The party who can end it.
    pub fn owner(self) -> HoldOwner {
        match self {
            HoldCause::Guard
            | HoldCause::NeedsReview
            | HoldCause::ExternalChange
            | HoldCause::DeletedThere
            | HoldCause::Discarded
            | HoldCause::Paused
            | HoldCause::NotArmed
            | HoldCause::NotInPreview
            | HoldCause::LinkOnly
            | HoldCause::NotRead
            | HoldCause::WaitingForStep => HoldOwner::Operator,
            HoldCause::AwaitingApproval => HoldOwner::Approver,
            HoldCause::MissingValue | HoldCause::DuplicateValue | HoldCause::InvalidValue => {
                HoldOwner::SourceOwner
            }
            HoldCause::RuleError => HoldOwner::RuleAuthor,
            HoldCause::Failed | HoldCause::RetriedLater => HoldOwner::SystemOwner,
            HoldCause::WaitingForAccount
            | HoldCause::WaitingForSeat
            | HoldCause::WaitingForDay
            | HoldCause::UnknownOutcome => HoldOwner::Automatic,
        }
    }
}

/// A reason, with the rule behind it. `Display` gives the sentence, with its notes.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Reason {
    /// The code with its arguments.
    pub kind: Box<ReasonKind>,
    /// Notes, which follow the sentence.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub notes: Vec<ReasonNote>,
    /// The rule behind it, if one is.
    pub rule: Option<Place>,
    /// Why it does not go on, where it does not.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cause: Option<HoldCause>,
}

impl Reason {
    /// A reason without a single rule behind it.
    pub fn new(kind: ReasonKind) -> Self {
        Reason {
            kind: Box::new(kind),
            notes: Vec::new(),
            rule: None,
            cause: None,
        }
    }

    /// A reason with the rule behind it.
    pub fn by(kind: ReasonKind, rule: &Place) -> Self {
        Reason {
            rule: Some(rule.clone()),
            ..Reason::new(kind)
        }
    }

    /// The same, as the reason of a hold. A cause that is known already stays.
    #[must_use]
    pub fn on_hold(mut self, cause: HoldCause) -> Self {
        self.cause.get_or_insert(cause);
        self
    }

    /// The same, with notes.
    #[must_use]
    pub fn with_notes(mut self, notes: impl IntoIterator<Item = ReasonNote>) -> Self {
        self.notes.extend(notes);
        self
    }

    /// The code.
    pub fn code(&self) -> ReasonCode {
        self.kind.code()
    }
}

impl fmt::Display for Reason {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.kind.fmt(f)?;
        self.notes.iter().try_for_each(|note| write!(f, "; {note}"))
    }
}

/// Why one attribute has, or will have, its value.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ValueReason {
    /// The attribute.
    pub attribute: String,
    /// The value that the rules want, as text.
    pub value: String,
    /// The rule.
    pub rule: Place,
    /// Its expression, as written.
    pub expression: String,
    /// Names and values that the expression read.
    pub read: Vec<(String, String)>,
    /// The system whose value won, for a value of an identity.
    pub from_system: Option<String>,
    /// A note: normalized by the target, written once only, and so on.
    pub note: Option<ValueNote>,
}
