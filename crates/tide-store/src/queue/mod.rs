//! The queue: changes of runs, from claiming them until their results are stored.

pub(crate) mod changes;
pub(crate) mod holds;
pub(crate) mod results;

use crate::identities::keep_identities;
use crate::journal::NewJournalEntry;
use crate::queue::changes::{keep_changes, keep_lines, read_change};
use crate::{ChangeRow, IdentityUpdates, NewChangeSet, Store, StoreError, format_timestamp};
use jiff::Timestamp;
use sqlx::{Row, SqliteConnection};
use std::collections::{HashMap, HashSet};
use tide_core::Value;
use tide_core::decide::Change;
use tide_core::model::{AccountId, Observed};
use tide_core::states::ChangeState;

/// A failed change.
#[derive(Debug, Clone)]
pub struct Parked {
    /// The error.
    pub error: String,
    /// Whether the failure is transient.
    pub passing: bool,
    /// Failures since the last success.
    pub times: u32,
    /// When it failed last.
    pub at: Timestamp,
}

/// The result of a confirmed change.
#[derive(Debug, Clone)]
pub struct Settled {
    /// The new state of the account.
    pub account: Observed,
    /// Values that the target normalized: attribute, sent, returned.
    pub normalized: Vec<(String, Vec<Value>, Vec<Value>)>,
    /// Merged lists: our values are stored.
    pub merged: Vec<String>,
    /// How the result was found out, for the journal and the change.
    pub note: Option<String>,
}

const KEEP_RUN: &str = "
    INSERT INTO change_set (kind, state, rule_version, principal, preview, is_full, note,
      started_at)
    VALUES (?,'running',?,?,?,?,?,?)";

async fn keep_run(
    c: &mut SqliteConnection,
    people: &IdentityUpdates,
    set: NewChangeSet,
    first: &HashSet<usize>,
    now: Timestamp,
) -> Result<(i64, Vec<ChangeRow>), StoreError> {
    keep_identities(c, people, &set.principal, now).await?;
    let id = sqlx::query(KEEP_RUN)
        .bind(set.kind.as_str())
        .bind(set.rule_version)
        .bind(&set.principal)
        .bind(set.preview)
        .bind(set.whole)
        .bind(&set.note)
        .bind(format_timestamp(now))
        .execute(&mut *c)
        .await?
        .last_insert_rowid();
    NewJournalEntry::new(
        &set.principal,
        &format!("{}.started", set.kind),
        &id.to_string(),
    )
    .append(c, now)
    .await?;
    keep_lines(c, id, &set.decided).await?;
    let ids = keep_changes(c, id, &set, first, now).await?;
    let row = |(id_of_it, change)| ChangeRow {
        id: id_of_it,
        change_set: id,
        change,
        state: ChangeState::Queued,
        attempts: 0,
        error: None,
        remedy: None,
        settled: None,
        principal: None,
    };
    Ok((
        id,
        ids.into_iter()
            .zip(set.changes)
            .filter(|(_, change)| change.hold.is_none())
            .map(row)
            .collect(),
    ))
}

/// The remedy of a canceled change.
pub const DECIDED_AGAIN: &str = "decided again when the system may be written";

const TAKE_BACK_QUEUED: &str = "
    UPDATE change SET state = 'canceled', error = ?, remedy = ?, settled_at = ?
    WHERE state = 'queued' AND (? IS NULL OR system = ?)";

/// Cancels queued changes of a system, or of all systems, that are not claimed yet; they are
/// decided again.
pub(crate) async fn take_back_queued(
    c: &mut SqliteConnection,
    system: Option<&str>,
    why: &str,
    now: Timestamp,
) -> Result<(), StoreError> {
    sqlx::query(TAKE_BACK_QUEUED)
        .bind(why)
        .bind(DECIDED_AGAIN)
        .bind(format_timestamp(now))
        .bind(system)
        .bind(system)
        .execute(c)
        .await?;
    Ok(())
}

/// Why a change failed.
#[derive(Debug, Clone, Copy)]
pub struct ChangeFailure<'a> {
    /// What happened.
    pub error: &'a str,
    /// What to do about it.
    pub remedy: &'a str,
    /// Whether it is retried.
    pub is_transient: bool,
}

const UNFINISHED_CHANGES: &str = "
    SELECT *
    FROM change
    WHERE change_set = ? AND state IN ('queued', 'sending', 'unknown')
    ORDER BY id";

const CLAIM_FOR_SENDING: &str = "
    UPDATE change SET state = 'sending', attempts = attempts + 1, sent_at = ?
    WHERE id IN (SELECT value FROM json_each(?)) AND +state IN ('queued', 'sending', 'unknown')
    RETURNING id";

const UPDATE_CHANGE: &str = "
    UPDATE change SET state = 'unknown',
      error = 'the service was stopped before its answer came',
      remedy = 'the account is looked for before anything else is decided about them'
    WHERE change_set = ? AND state IN ('sending',
      'unknown') AND kind = 'create' AND queued_at < ?";

const UPDATE_CHANGE_OF_TAKE_BACK_OLD: &str = "
    UPDATE change SET state = 'canceled', settled_at = ?,
      error = 'the service was stopped too long before this was sent',
      remedy = 'it is decided again from what is known now'
    WHERE change_set = ? AND state IN ('queued', 'sending',
      'unknown') AND kind <> 'create' AND queued_at < ? OR change_set = ?
      AND state = 'queued' AND queued_at < ?";

const RECORD_NOT_DONE: &str = "
    UPDATE change SET state = ?, error = ?, remedy = ?, settled_at = CASE WHEN ? IN ('failed',
      'canceled') THEN ? END
    WHERE id = ?";

const RECORD_FAILED: &str = "
    UPDATE change SET state = 'failed', error = ?, remedy = ?, is_transient = ?, settled_at = ?
    WHERE id = ?";

const ADD_FAILED: &str = "
    INSERT INTO change (change_set, system, object, identity, account, label, kind,
      values_json, reason, fingerprint, rule_version, state, attempts, error, remedy,
      is_transient, queued_at, sent_at, settled_at, step) SELECT change_set, system, object,
      identity, account, label, kind, ?, reason, ?, rule_version, 'failed', 1, ?, ?, ?,
      queued_at, sent_at, ?, step
    FROM change
    WHERE id = ?";

const SEEN_TO: &str = "
    SELECT c.fingerprint
    FROM json_each(?) f
    CROSS JOIN change c ON c.fingerprint = f.value
    WHERE +c.change_set = ? AND (+c.state IN ('sending', 'unknown', 'accepted', 'done',
      'failed') OR ? AND +c.state = 'queued')";

const ON_THE_WIRE: &str = "
    SELECT count(*)
    FROM json_each(?) i
    CROSS JOIN change c ON c.identity = i.value
    WHERE +c.state = 'sending'";

const SUPERSEDE_PENDING: &str = "
    UPDATE change SET state = 'canceled',
      error = 'superseded: revocations of leavers are sent first',
      remedy = 'it is decided again', settled_at = ?
    WHERE +state = 'queued' AND identity IN (SELECT value FROM json_each(?))";

const MARK_ACCEPTED: &str = "
    UPDATE change SET state = 'accepted', operation_url = ?, not_before = ?, error = NULL,
      remedy = NULL
    WHERE id = ?";

const ACCEPTED_CHANGES: &str = "
    SELECT c.*, s.principal AS whose
    FROM change c
    JOIN change_set s ON s.id = c.change_set
    WHERE c.state = 'accepted'
    ORDER BY c.id";

const IN_DOUBT: &str = "
    SELECT account, identity, state
    FROM change
    WHERE state IN ('accepted', 'unknown') AND system = ?";

const UNKNOWN_CREATES: &str = "
    SELECT c.*, s.principal AS whose
    FROM change c
    JOIN change_set s ON s.id = c.change_set
    WHERE c.state = 'unknown' AND s.ended_at IS NOT NULL
    ORDER BY c.id";

const PARKED_CHANGES: &str = "
    SELECT c.fingerprint, c.state, c.error, c.is_transient, c.settled_at
    FROM json_each(?) f
    CROSS JOIN change c ON c.fingerprint = f.value
    WHERE +c.state IN ('failed',
      'done') AND NOT (c.state = 'failed' AND c.identity <> ''
      AND EXISTS ( SELECT 1 FROM change d WHERE d.identity = c.identity AND d.id > c.id
      AND +d.state = 'done' AND d.system = c.system
      AND (d.account = c.account OR d.kind = 'create')))
    ORDER BY c.id";

impl Store {
    /// Stores the decision of a run in one commit: identities, lines, and queued changes. The
    /// changes at the positions in `first` are claimed; if there are any, the commit is durable
    /// when this returns.
    pub async fn keep_run(
        &self,
        people: IdentityUpdates,
        set: NewChangeSet,
        first: HashSet<usize>,
        now: Timestamp,
    ) -> Result<(i64, Vec<ChangeRow>), StoreError> {
        let durable = !first.is_empty();
        self.writer
            .enqueue(
                move |c| Box::pin(async move { keep_run(c, &people, set, &first, now).await }),
                durable,
            )
            .await
    }

    /// The pending changes of a run, in order: leavers first, then as queued.
    pub async fn unfinished_changes(&self, id: i64) -> Result<Vec<ChangeRow>, StoreError> {
        let rows = sqlx::query(UNFINISHED_CHANGES)
            .bind(id)
            .fetch_all(&self.reader)
            .await?;
        rows.iter().map(read_change).collect()
    }

    /// Claims changes: stores that they are about to be sent. Durable when it returns. Returns
    /// those that were not canceled meanwhile.
    pub async fn claim_for_sending(
        &self,
        changes: Vec<i64>,
        now: Timestamp,
    ) -> Result<HashSet<i64>, StoreError> {
        self.writer
            .run(move |c| {
                Box::pin(async move {
                    let marked: Vec<i64> = sqlx::query_scalar(CLAIM_FOR_SENDING)
                        .bind(format_timestamp(now))
                        .bind(serde_json::to_string(&changes)?)
                        .fetch_all(c)
                        .await?;
                    Ok(marked.into_iter().collect())
                })
            })
            .await
    }

    /// Cancels changes of an interrupted run that were queued before an instant, because their
    /// decision is outdated. Claimed changes are not sent again; a claimed create may have been
    /// done, and is searched for. Returns the number of canceled changes.
    pub async fn take_back_old(
        &self,
        run: i64,
        before: Timestamp,
        now: Timestamp,
    ) -> Result<u64, StoreError> {
        self.writer
            .run(move |c| {
                Box::pin(async move {
                    let lost = sqlx::query(UPDATE_CHANGE)
                        .bind(run)
                        .bind(format_timestamp(before))
                        .execute(&mut *c)
                        .await?;
                    let taken = sqlx::query(UPDATE_CHANGE_OF_TAKE_BACK_OLD)
                        .bind(format_timestamp(now))
                        .bind(run)
                        .bind(format_timestamp(before))
                        .bind(run)
                        .bind(format_timestamp(before))
                        .execute(c)
                        .await?;
                    Ok(lost.rows_affected() + taken.rows_affected())
                })
            })
            .await
    }

    /// Stores that a change did not take effect: `failed`, `unknown`, `queued`
    /// or `canceled`.
    pub async fn record_not_done(
        &self,
        change: i64,
        state: ChangeState,
        error: &str,
        remedy: &str,
        now: Timestamp,
    ) -> Result<(), StoreError> {
        let (error, remedy) = (error.to_owned(), remedy.to_owned());
        self.writer
            .run_relaxed(move |c| {
                Box::pin(async move {
                    sqlx::query(RECORD_NOT_DONE)
                        .bind(state.as_str())
                        .bind(error)
                        .bind(remedy)
                        .bind(state.as_str())
                        .bind(format_timestamp(now))
                        .bind(change)
                        .execute(c)
                        .await?;
                    Ok(())
                })
            })
            .await
    }

    /// Stores a failure. Transient failures are retried.
    pub async fn record_failed(
        &self,
        change: i64,
        error: &str,
        remedy: &str,
        passing: bool,
        now: Timestamp,
    ) -> Result<(), StoreError> {
        let (error, remedy) = (error.to_owned(), remedy.to_owned());
        self.writer
            .run_relaxed(move |c| {
                Box::pin(async move {
                    sqlx::query(RECORD_FAILED)
                        .bind(error)
                        .bind(remedy)
                        .bind(passing)
                        .bind(format_timestamp(now))
                        .bind(change)
                        .execute(c)
                        .await?;
                    Ok(())
                })
            })
            .await
    }

    /// Stores the refused part of a change as a failed change of its own.
    pub async fn add_failed(
        &self,
        of: &ChangeRow,
        part: Change,
        failure: ChangeFailure<'_>,
        now: Timestamp,
    ) -> Result<(), StoreError> {
        let (id, passing) = (of.id, failure.is_transient);
        let (error, remedy) = (failure.error.to_owned(), failure.remedy.to_owned());
        let vals = serde_json::to_string(&part.values)?;
        self.writer
            .run_relaxed(move |c| {
                Box::pin(async move {
                    sqlx::query(ADD_FAILED)
                        .bind(vals)
                        .bind(part.fingerprint)
                        .bind(error)
                        .bind(remedy)
                        .bind(passing)
                        .bind(format_timestamp(now))
                        .bind(id)
                        .execute(c)
                        .await?;
                    Ok(())
                })
            })
            .await
    }

    /// Which of these changes, by fingerprint, a run has in flight or done; with `queued`, also
    /// those still in its queue.
    pub async fn seen_to(
        &self,
        run: i64,
        fingerprints: &[String],
        queued: bool,
    ) -> Result<HashSet<String>, StoreError> {
        let rows: Vec<String> = sqlx::query_scalar(SEEN_TO)
            .bind(serde_json::to_string(fingerprints)?)
            .bind(run)
            .bind(queued)
            .fetch_all(&self.reader)
            .await?;
        Ok(rows.into_iter().collect())
    }

    /// The number of changes of these people in flight.
    pub async fn on_the_wire(&self, identities: &[String]) -> Result<i64, StoreError> {
        Ok(sqlx::query_scalar(ON_THE_WIRE)
            .bind(serde_json::to_string(identities)?)
            .fetch_one(&self.reader)
            .await?)
    }

    /// Cancels pending changes of people who lose their access; they are decided again.
    pub async fn supersede_pending(
        &self,
        identities: Vec<String>,
        now: Timestamp,
    ) -> Result<(), StoreError> {
        self.writer
            .run_relaxed(move |c| {
                Box::pin(async move {
                    sqlx::query(SUPERSEDE_PENDING)
                        .bind(format_timestamp(now))
                        .bind(serde_json::to_string(&identities)?)
                        .execute(c)
                        .await?;
                    Ok(())
                })
            })
            .await
    }

    /// Stores that a system accepted a change. Durable when it returns.
    pub async fn mark_accepted(
        &self,
        change: i64,
        place: &str,
        now: Timestamp,
    ) -> Result<(), StoreError> {
        let place = place.to_owned();
        self.writer
            .run(move |c| {
                Box::pin(async move {
                    sqlx::query(MARK_ACCEPTED)
                        .bind(place)
                        .bind(format_timestamp(now))
                        .bind(change)
                        .execute(c)
                        .await?;
                    Ok(())
                })
            })
            .await
    }

    /// Accepted changes, with their operation URL, time and principal.
    pub async fn accepted_changes(
        &self,
    ) -> Result<Vec<(ChangeRow, String, Timestamp, String)>, StoreError> {
        let rows = sqlx::query(ACCEPTED_CHANGES)
            .fetch_all(&self.reader)
            .await?;
        rows.iter()
            .map(|row| {
                let place: Option<String> = row.get("operation_url");
                let since = crate::parse_timestamp(row.get("not_before")).unwrap_or_default();
                Ok((
                    read_change(row)?,
                    place.unwrap_or_default(),
                    since,
                    row.get("whose"),
                ))
            })
            .collect()
    }

    /// Accounts and identities with an `accepted` change, or with a create whose outcome is
    /// `unknown`.
    pub async fn in_doubt(
        &self,
        system: &str,
    ) -> Result<Vec<(Option<AccountId>, String, ChangeState)>, StoreError> {
        let rows: Vec<(Option<i64>, String, String)> = sqlx::query_as(IN_DOUBT)
            .bind(system)
            .fetch_all(&self.reader)
            .await?;
        let state = |word: String| ChangeState::parse(&word).unwrap_or(ChangeState::Unknown);
        Ok(rows
            .into_iter()
            .map(|(account, identity, word)| (account, identity, state(word)))
            .collect())
    }

    /// Changes of ended runs with an unknown outcome, with their time and principal.
    pub async fn unknown_creates(&self) -> Result<Vec<(ChangeRow, Timestamp, String)>, StoreError> {
        let rows = sqlx::query(UNKNOWN_CREATES).fetch_all(&self.reader).await?;
        rows.iter()
            .map(|row| {
                Ok((
                    read_change(row)?,
                    crate::parse_timestamp(row.get("sent_at")).unwrap_or_default(),
                    row.get("whose"),
                ))
            })
            .collect()
    }

    /// Those of these changes, by fingerprint, that failed last time and whose account is
    /// unchanged since. After another change of the account, the failure is no evidence.
    pub async fn parked_changes(
        &self,
        fingerprints: &[&str],
    ) -> Result<HashMap<String, Parked>, StoreError> {
        let mut parked: HashMap<String, Parked> = HashMap::new();
        if fingerprints.is_empty() {
            return Ok(parked);
        }
        let rows = sqlx::query(PARKED_CHANGES)
            .bind(serde_json::to_string(fingerprints)?)
            .fetch_all(&self.reader)
            .await?;
        for row in rows {
            let fingerprint: String = row.get("fingerprint");
            if row.get::<&str, _>("state") == "done" {
                parked.remove(&fingerprint);
                continue;
            }
            let times = parked.get(&fingerprint).map_or(0, |one| one.times) + 1;
            let at = row
                .get::<Option<&str>, _>("settled_at")
                .and_then(|at| at.parse().ok())
                .unwrap_or_default();
            let error = row.get::<Option<String>, _>("error").unwrap_or_default();
            parked.insert(
                fingerprint,
                Parked {
                    error,
                    passing: row.get("is_transient"),
                    times,
                    at,
                },
            );
        }
        Ok(parked)
    }
}
