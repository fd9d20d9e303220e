//! Change sets, their lines, and their changes. The changes of runs are the queue: each is stored
//! before it is sent and settled after.

use crate::db::codes::{parse_code, read_code};
use crate::journal::NewJournalEntry;
use crate::{Store, StoreError, format_timestamp};
use jiff::Timestamp;
use sqlx::sqlite::SqliteRow;
use sqlx::{QueryBuilder, Row, Sqlite, SqliteConnection};
use std::collections::{BTreeMap, HashSet};
use std::str::FromStr;
use tide_core::decide::{Change, Decided, Verdict};
use tide_core::states::{ChangeSetKind, ChangeSetState, ChangeState};
use tide_core::{ObjectType, Reason};

/// The most rows of one statement.
const ROWS: usize = 100;

/// A change set that is to be stored.
#[derive(Debug, Clone)]
pub struct NewChangeSet {
    /// A preview or a run.
    pub kind: ChangeSetKind,
    /// The rules it was decided by.
    pub rule_version: i64,
    /// The principal who started it.
    pub principal: String,
    /// The preview that a run was bound to.
    pub preview: Option<i64>,
    /// Whether it is about all records.
    pub whole: bool,
    /// A note about all of it.
    pub note: Option<String>,
    /// The day that a preview shows, if it is not the day on which it was created.
    pub as_of: Option<Timestamp>,
    /// The systems that could not be read completely.
    pub unread: Vec<String>,
    /// Its lines.
    pub decided: Vec<Decided>,
    /// Its changes.
    pub changes: Vec<Change>,
}

/// A change set as the lists show it.
#[derive(Debug, Clone)]
pub struct ChangeSetRow {
    /// Its number.
    pub id: i64,
    /// A preview or a run.
    pub kind: ChangeSetKind,
    /// Its location in the rule files.
    pub state: ChangeSetState,
    /// The rules it was decided by.
    pub rule_version: i64,
    /// The principal who started it.
    pub principal: String,
    /// The preview that a run was bound to.
    pub preview: Option<i64>,
    /// When it began.
    pub started_at: String,
    /// When it ended.
    pub ended_at: Option<String>,
    /// A note about all of it.
    pub note: Option<String>,
    /// Whether it is about all records.
    pub whole: bool,
    /// The day that a preview shows, if it is not the day on which it was created.
    pub as_of: Option<String>,
    /// The systems that could not be read completely.
    pub unread: Vec<String>,
    /// Lines by verdict.
    pub verdicts: Vec<(Verdict, i64)>,
    /// Changes by state.
    pub states: Vec<(ChangeState, i64)>,
}

/// A line of a change set.
#[derive(Debug, Clone)]
pub struct DecidedRow {
    /// Its position.
    pub seq: i64,
    /// The line.
    pub decided: Decided,
    /// The label of the account, if there is one.
    pub account_name: Option<String>,
    /// The state of its changes: the worst one, if there are any.
    pub outcome: Option<ChangeState>,
    /// The answer of the system to a failed change.
    pub error: Option<String>,
    /// What to do about it.
    pub remedy: Option<String>,
}

/// A change as it is stored.
#[derive(Debug, Clone)]
pub struct ChangeRow {
    /// Its number.
    pub id: i64,
    /// Its change set.
    pub change_set: i64,
    /// The verdict.
    pub change: Change,
    /// Its location in the rule files.
    pub state: ChangeState,
    /// How often it was sent.
    pub attempts: i64,
    /// The answer of the system, if it refused.
    pub error: Option<String>,
    /// What to do about it.
    pub remedy: Option<String>,
    /// When it was settled.
    pub settled: Option<String>,
    /// The name of the principal who started its run, if requested.
    pub principal: Option<String>,
}

/// Which changes, or lines, to show.
#[derive(Debug, Clone, Default)]
pub struct ChangeFilter {
    /// Only those of a state (changes) or verdict (lines).
    pub word: Option<String>,
    /// Only lines with a change in this state.
    pub state: Option<ChangeState>,
    /// Only those of a system.
    pub system: Option<String>,
    /// Only those whose label contains this text.
    pub search: String,
    /// Only those after this position.
    pub after: i64,
    /// The most rows.
    pub limit: i64,
}

pub(crate) fn read_change(row: &SqliteRow) -> Result<ChangeRow, StoreError> {
    let hold: Option<&str> = row.get("hold");
    let kind: &str = row.get("kind");
    Ok(ChangeRow {
        id: row.get("id"),
        change_set: row.get("change_set"),
        change: Change {
            system: row.get("system"),
            object: ObjectType::parse(row.get("object")).unwrap_or(ObjectType::Person),
            identity: row.get("identity"),
            account: row.get("account"),
            label: row.get("label"),
            kind: tide_core::states::ChangeKind::parse(kind)
                .unwrap_or(tide_core::states::ChangeKind::Update),
            values: serde_json::from_str(row.get("values_json"))?,
            reason: serde_json::from_str(row.get("reason"))?,
            hold: hold.map(serde_json::from_str::<Reason>).transpose()?,
            approval: None,
            claims: Vec::new(),
            step: u16::try_from(row.get::<i64, _>("step")).unwrap_or_default(),
            fingerprint: row.get("fingerprint"),
        },
        state: ChangeState::parse(row.get("state")).unwrap_or(ChangeState::Failed),
        attempts: row.get("attempts"),
        error: row.get("error"),
        remedy: row.get("remedy"),
        settled: row.get("settled_at"),
        principal: row.try_get("who").ok(),
    })
}

/// Writes the lines of a change set, and their counts.
pub(crate) async fn keep_lines(
    c: &mut SqliteConnection,
    id: i64,
    decided: &[Decided],
) -> Result<(), StoreError> {
    let mut verdicts: BTreeMap<&str, i64> = BTreeMap::new();
    for line in decided {
        *verdicts.entry(line.verdict.as_str()).or_default() += 1;
    }
    sqlx::query("UPDATE change_set SET verdicts = ? WHERE id = ?")
        .bind(serde_json::to_string(&verdicts)?)
        .bind(id)
        .execute(&mut *c)
        .await?;
    let lines: Vec<(i64, &Decided)> = (1..).zip(decided).collect();
    for some in lines.chunks(ROWS) {
        let reasons = some
            .iter()
            .map(|(_, line)| serde_json::to_string(&line.reason))
            .collect::<Result<Vec<_>, _>>()?;
        let mut query = QueryBuilder::<Sqlite>::new(
            "INSERT INTO outcome_line (change_set, seq, system, object, identity, account, label, verdict, reason) ",
        );
        query.push_values(
            some.iter().zip(reasons),
            |mut row, ((seq, line), reason)| {
                row.push_bind(id)
                    .push_bind(*seq)
                    .push_bind(&line.system)
                    .push_bind(line.object.as_str());
                row.push_bind(&line.identity)
                    .push_bind(line.account)
                    .push_bind(&line.label)
                    .push_bind(line.verdict.as_str());
                row.push_bind(reason);
            },
        );
        query.build().execute(&mut *c).await?;
    }
    Ok(())
}

/// Writes the changes of a change set, and returns their numbers in the same order. Those at the
/// places in `first` are about to be sent.
pub(crate) async fn keep_changes(
    c: &mut SqliteConnection,
    id: i64,
    set: &NewChangeSet,
    first: &HashSet<usize>,
    now: Timestamp,
) -> Result<Vec<i64>, StoreError> {
    let at = format_timestamp(now);
    let mut ids = Vec::with_capacity(set.changes.len());
    let places: Vec<(usize, &Change)> = set.changes.iter().enumerate().collect();
    for some in places.chunks(ROWS) {
        let texts = some
            .iter()
            .map(|(_, change)| {
                let hold = change
                    .hold
                    .as_ref()
                    .map(serde_json::to_string)
                    .transpose()?;
                Ok((
                    serde_json::to_string(&change.values)?,
                    serde_json::to_string(&change.reason)?,
                    hold,
                ))
            })
            .collect::<Result<Vec<(String, String, Option<String>)>, StoreError>>()?;
        let mut query = QueryBuilder::<Sqlite>::new(
            "INSERT INTO change (change_set, system, object, identity, account, label, kind, values_json, reason, hold, fingerprint, rule_version, state, attempts, sent_at, queued_at, step, is_released) ",
        );
        query.push_values(some.iter().zip(texts), |mut row, ((place, change), (vals, reason, hold))| {
            let sending = first.contains(place);
            let state = match (set.kind, &change.hold) {
                (ChangeSetKind::Preview, None) => ChangeState::Proposed,
                (_, Some(_)) => ChangeState::OnHold,
                (_, None) if sending => ChangeState::Sending,
                (_, None) => ChangeState::Queued,
            };
            row.push_bind(id).push_bind(&change.system).push_bind(change.object.as_str()).push_bind(&change.identity);
            row.push_bind(change.account).push_bind(&change.label).push_bind(change.kind.as_str()).push_bind(vals);
            row.push_bind(reason).push_bind(hold).push_bind(&change.fingerprint).push_bind(set.rule_version);
            row.push_bind(state.as_str()).push_bind(i64::from(sending)).push_bind(sending.then_some(&at));
            row.push_bind(&at).push_bind(i64::from(change.step));
            row.push("EXISTS (SELECT 1 FROM change_override WHERE answer = 'release' AND fingerprint = ")
                .push_bind_unseparated(&change.fingerprint);
            row.push_unseparated(")");
        });
        query.push(" RETURNING id");
        let mut some: Vec<i64> = query.build_query_scalar().fetch_all(&mut *c).await?;
        // Rows get growing numbers in their order, and are returned in any.
        some.sort_unstable();
        ids.extend(some);
    }
    Ok(ids)
}

/// Counts by code, in the order of the codes.
fn counts<C: FromStr + Ord>(rows: Vec<(String, i64)>) -> Result<Vec<(C, i64)>, StoreError> {
    let read = |(text, count): (String, i64)| Ok((parse_code(&text)?, count));
    let mut counts: Vec<(C, i64)> = rows
        .into_iter()
        .map(read)
        .collect::<Result<_, StoreError>>()?;
    counts.sort_unstable();
    Ok(counts)
}

/// Counts the changes of a change set by state.
async fn count_states(c: &mut SqliteConnection, id: i64) -> Result<Vec<(String, i64)>, StoreError> {
    let all: Vec<&str> = ChangeState::ALL
        .iter()
        .map(|state| state.as_str())
        .collect();
    Ok(sqlx::query_as(COUNT_STATES)
        .bind(id)
        .bind(serde_json::to_string(&all)?)
        .fetch_all(c)
        .await?)
}

/// Keeps the counts of a change set that ended; a trigger forgets them when a change gets another
/// state after all.
async fn keep_states(c: &mut SqliteConnection, id: i64) -> Result<(), StoreError> {
    let states: BTreeMap<String, i64> = count_states(&mut *c, id).await?.into_iter().collect();
    sqlx::query("UPDATE change_set SET states = ? WHERE id = ?")
        .bind(serde_json::to_string(&states)?)
        .bind(id)
        .execute(c)
        .await?;
    Ok(())
}

const BEGIN_CHANGE_SET: &str = "
    INSERT INTO change_set (kind, state, rule_version, principal, preview, started_at)
    VALUES (?,'reading',0,?,?,?)";

const FILL_CHANGE_SET: &str = "
    UPDATE change_set SET state = ?, rule_version = ?, is_full = ?, note = ?, as_of = ?,
      unread = ?, ended_at = CASE WHEN ? = 'done' THEN ? END
    WHERE id = ?";

const SET_CHANGE_SET_STATE: &str = "
    UPDATE change_set SET state = ?, note = coalesce(?, note), ended_at = CASE WHEN ? THEN ? END
    WHERE id = ?";

const CHANGE_SETS: &str = "
    SELECT id
    FROM change_set s
    WHERE (? IS NULL OR id < ?) AND (? IS NULL OR kind = ?)
      AND (NOT ? OR state = 'failed'
      OR EXISTS (SELECT 1 FROM change c WHERE c.state = 'failed' AND c.change_set = s.id))
    ORDER BY id DESC
    LIMIT ?";

const SELECT_CHANGE_SET: &str = "
    SELECT s.*, coalesce(p.name, s.principal) AS who
    FROM change_set s
    LEFT JOIN principal p ON p.id = s.principal
    WHERE s.id = ?";

const COUNT_STATES: &str = "
    SELECT s.value, (SELECT count(*) FROM change c WHERE c.state = s.value
      AND c.change_set = ?1) AS number
    FROM json_each(?2) s
    WHERE number > 0";

const CHANGES_ONLY_IN: &str = "
    SELECT c.*
    FROM change c
    WHERE c.change_set = ?1 AND NOT EXISTS (SELECT 1 FROM change d
      WHERE d.fingerprint = c.fingerprint AND d.change_set = ?2)
    ORDER BY c.id";

const COUNT_IN_BOTH: &str = "
    SELECT count(DISTINCT c.fingerprint)
    FROM change c
    WHERE c.change_set = ?1 AND EXISTS (SELECT 1 FROM change d
      WHERE d.fingerprint = c.fingerprint AND d.change_set = ?2)";

const OPEN_CHANGE_SETS: &str = "
    SELECT id, kind, state, principal
    FROM change_set
    WHERE ended_at IS NULL
    ORDER BY id";

/// The page is chosen before the changes of its lines are looked for.
const LIST_OUTCOMES: &str = "
    SELECT d.*, w.state AS outcome, w.error, w.remedy
    FROM (
      SELECT d.*, a.name AS account_name
      FROM outcome_line d
      LEFT JOIN account a ON a.id = d.account
      WHERE d.change_set = ?1 AND d.seq > ?2 AND (?3 IS NULL OR d.verdict = ?3)
        AND (?4 IS NULL OR EXISTS (SELECT 1 FROM change c WHERE c.identity = d.identity AND d.identity IS NOT NULL
        AND +c.change_set = d.change_set AND c.system = d.system AND c.object = d.object
        AND +c.state = ?4)
        OR EXISTS (SELECT 1 FROM change c WHERE d.identity IS NULL AND c.identity = ''
        AND c.account = d.account AND +c.change_set = d.change_set AND +c.state = ?4))
        AND (?5 IS NULL OR d.system = ?5)
        AND (?6 = '' OR instr(lower(d.label), lower(?6)) > 0
        OR instr(lower(coalesce(a.name, '')), lower(?6)) > 0)
      ORDER BY d.seq
      LIMIT ?7
    ) d
    LEFT JOIN change w ON w.id = iif(d.identity IS NULL,
      (SELECT c.id FROM change c WHERE c.identity = '' AND c.account = d.account
      AND +c.change_set = d.change_set AND c.system = d.system AND c.object = d.object
      ORDER BY CASE c.state WHEN 'failed' THEN 0 WHEN 'unknown' THEN 1 WHEN 'on_hold' THEN 2
      WHEN 'accepted' THEN 3 WHEN 'canceled' THEN 4 WHEN 'done' THEN 9 ELSE 5 END, c.id LIMIT 1),
      (SELECT c.id FROM change c WHERE c.identity = d.identity
      AND +c.change_set = d.change_set AND c.system = d.system AND c.object = d.object
      ORDER BY CASE c.state WHEN 'failed' THEN 0 WHEN 'unknown' THEN 1 WHEN 'on_hold' THEN 2
      WHEN 'accepted' THEN 3 WHEN 'canceled' THEN 4 WHEN 'done' THEN 9 ELSE 5 END, c.id LIMIT 1))
    ORDER BY d.seq";

const LIST_CHANGES: &str = "
    SELECT *
    FROM change
    WHERE change_set = ? AND id > ? AND (? IS NULL OR state = ? OR kind = ?)
      AND (? IS NULL OR system = ?) AND (? = '' OR instr(lower(label), lower(?)) > 0)
    ORDER BY id
    LIMIT ?";

const CHANGES_OF: &str = "
    SELECT c.*, coalesce(p.name, s.principal) AS who
    FROM change c
    JOIN change_set s ON s.id = c.change_set
    LEFT JOIN principal p ON p.id = s.principal
    WHERE c.identity = ? AND c.state <> 'proposed' AND s.kind = 'run'
    ORDER BY c.id DESC
    LIMIT ?";

impl Store {
    /// Begins a change set, empty, so that its progress can be followed from its first moment.
    pub async fn begin_change_set(
        &self,
        kind: ChangeSetKind,
        principal: &str,
        preview: Option<i64>,
        now: Timestamp,
    ) -> Result<i64, StoreError> {
        let principal = principal.to_owned();
        self.writer
            .run_relaxed(move |c| {
                Box::pin(async move {
                    let done = sqlx::query(BEGIN_CHANGE_SET)
                        .bind(kind.as_str())
                        .bind(&principal)
                        .bind(preview)
                        .bind(format_timestamp(now))
                        .execute(&mut *c)
                        .await?;
                    let id = done.last_insert_rowid();
                    NewJournalEntry::new(&principal, &format!("{kind}.started"), &id.to_string())
                        .append(c, now)
                        .await?;
                    Ok(id)
                })
            })
            .await
    }

    /// Stores what was decided. The changes of a run are queued by this, in the same commit.
    pub async fn fill_change_set(
        &self,
        id: i64,
        set: NewChangeSet,
        now: Timestamp,
    ) -> Result<(), StoreError> {
        self.writer
            .run_relaxed(move |c| {
                Box::pin(async move {
                    keep_lines(c, id, &set.decided).await?;
                    keep_changes(c, id, &set, &HashSet::new(), now).await?;
                    let state = if set.kind == ChangeSetKind::Preview {
                        ChangeSetState::Done
                    } else {
                        ChangeSetState::Running
                    };
                    sqlx::query(FILL_CHANGE_SET)
                        .bind(state.as_str())
                        .bind(set.rule_version)
                        .bind(set.whole)
                        .bind(&set.note)
                        .bind(set.as_of.map(format_timestamp))
                        .bind(serde_json::to_string(&set.unread)?)
                        .bind(state.as_str())
                        .bind(format_timestamp(now))
                        .bind(id)
                        .execute(&mut *c)
                        .await?;
                    if state.is_ended() {
                        keep_states(c, id).await?;
                    }
                    Ok(())
                })
            })
            .await
    }

    /// Records the state of a change set.
    pub async fn set_change_set_state(
        &self,
        id: i64,
        state: ChangeSetState,
        note: Option<&str>,
        principal: &str,
        now: Timestamp,
    ) -> Result<(), StoreError> {
        let ended = state.is_ended();
        let (note, principal) = (note.map(str::to_owned), principal.to_owned());
        self.writer
            .run_relaxed(move |c| {
                Box::pin(async move {
                    sqlx::query(SET_CHANGE_SET_STATE)
                        .bind(state.as_str())
                        .bind(&note)
                        .bind(ended)
                        .bind(format_timestamp(now))
                        .bind(id)
                        .execute(&mut *c)
                        .await?;
                    if ended {
                        keep_states(c, id).await?;
                        let detail = note.unwrap_or_default();
                        NewJournalEntry::new(
                            &principal,
                            &format!("changes.{state}"),
                            &id.to_string(),
                        )
                        .detail(&detail)
                        .append(c, now)
                        .await?;
                    }
                    Ok(())
                })
            })
            .await
    }

    /// Change sets, the newest first.
    ///
    /// `before` leaves those with lower numbers, `kind` those of a kind, and `failed` those with
    /// changes that failed.
    pub async fn change_sets(
        &self,
        before: Option<i64>,
        kind: Option<ChangeSetKind>,
        failed: bool,
        limit: i64,
    ) -> Result<Vec<ChangeSetRow>, StoreError> {
        let ids: Vec<i64> = sqlx::query_scalar(CHANGE_SETS)
            .bind(before)
            .bind(before)
            .bind(kind.map(ChangeSetKind::as_str))
            .bind(kind.map(ChangeSetKind::as_str))
            .bind(failed)
            .bind(limit)
            .fetch_all(&self.reader)
            .await?;
        let mut sets = Vec::with_capacity(ids.len());
        for id in ids {
            sets.push(self.change_set(id).await?);
        }
        Ok(sets)
    }

    /// The last change set of a kind that is about all records, or that is not.
    pub async fn last_change_set(
        &self,
        kind: ChangeSetKind,
        whole: bool,
    ) -> Result<Option<ChangeSetRow>, StoreError> {
        let id: Option<i64> =
            sqlx::query_scalar("SELECT max(id) FROM change_set WHERE kind = ? AND is_full = ?")
                .bind(kind.as_str())
                .bind(whole)
                .fetch_one(&self.reader)
                .await?;
        match id {
            Some(id) => Ok(Some(self.change_set(id).await?)),
            None => Ok(None),
        }
    }

    /// One change set.
    pub async fn change_set(&self, id: i64) -> Result<ChangeSetRow, StoreError> {
        let row = sqlx::query(SELECT_CHANGE_SET)
            .bind(id)
            .fetch_optional(&self.reader)
            .await?
            .ok_or_else(|| StoreError::Missing {
                what: "change set",
                name: id.to_string(),
            })?;
        let verdicts: BTreeMap<String, i64> = serde_json::from_str(row.get("verdicts"))?;
        let states = match row.get::<Option<&str>, _>("states") {
            Some(kept) => {
                let kept: BTreeMap<String, i64> = serde_json::from_str(kept)?;
                counts(kept.into_iter().collect())?
            }
            None => counts(count_states(&mut *self.reader.acquire().await?, id).await?)?,
        };
        Ok(ChangeSetRow {
            id,
            kind: read_code(&row, "kind")?,
            state: read_code(&row, "state")?,
            rule_version: row.get("rule_version"),
            principal: row.get("who"),
            preview: row.get("preview"),
            started_at: row.get("started_at"),
            ended_at: row.get("ended_at"),
            note: row.get("note"),
            whole: row.get("is_full"),
            as_of: row.get("as_of"),
            unread: serde_json::from_str(row.get("unread"))?,
            verdicts: counts(verdicts.into_iter().collect())?,
            states,
        })
    }

    /// Runs that were not ended: what a start after a crash has to go on with.
    pub async fn open_change_sets(
        &self,
    ) -> Result<Vec<(i64, ChangeSetKind, ChangeSetState, String)>, StoreError> {
        let rows: Vec<(i64, String, String, String)> = sqlx::query_as(OPEN_CHANGE_SETS)
            .fetch_all(&self.reader)
            .await?;
        let row = |(id, kind, state, principal): (i64, String, String, String)| {
            Ok((id, parse_code(&kind)?, parse_code(&state)?, principal))
        };
        rows.into_iter().map(row).collect()
    }

    /// The lines of a change set.
    pub async fn list_outcomes(
        &self,
        id: i64,
        filter: &ChangeFilter,
    ) -> Result<Vec<DecidedRow>, StoreError> {
        let rows = sqlx::query(LIST_OUTCOMES)
            .bind(id)
            .bind(filter.after)
            .bind(&filter.word)
            .bind(filter.state.map(ChangeState::as_str))
            .bind(&filter.system)
            .bind(&filter.search)
            .bind(filter.limit)
            .fetch_all(&self.reader)
            .await?;
        rows.iter()
            .map(|row| {
                Ok(DecidedRow {
                    seq: row.get("seq"),
                    account_name: row.get("account_name"),
                    outcome: row
                        .get::<Option<&str>, _>("outcome")
                        .and_then(ChangeState::parse),
                    error: row.get("error"),
                    remedy: row.get("remedy"),
                    decided: Decided {
                        system: row.get("system"),
                        object: ObjectType::parse(row.get("object")).unwrap_or(ObjectType::Person),
                        identity: row.get("identity"),
                        account: row.get("account"),
                        label: row.get("label"),
                        verdict: tide_core::decide::Verdict::parse(row.get("verdict"))
                            .unwrap_or(tide_core::decide::Verdict::OnHold),
                        reason: serde_json::from_str(row.get("reason"))?,
                        unmatched: None,
                    },
                })
            })
            .collect()
    }

    /// The changes of a change set.
    pub async fn list_changes(
        &self,
        id: i64,
        filter: &ChangeFilter,
    ) -> Result<Vec<ChangeRow>, StoreError> {
        let rows = sqlx::query(LIST_CHANGES)
            .bind(id)
            .bind(filter.after)
            .bind(&filter.word)
            .bind(&filter.word)
            .bind(&filter.word)
            .bind(&filter.system)
            .bind(&filter.system)
            .bind(&filter.search)
            .bind(&filter.search)
            .bind(filter.limit)
            .fetch_all(&self.reader)
            .await?;
        rows.iter().map(read_change).collect()
    }

    /// The changes of a change set that another one has not.
    pub async fn changes_only_in(&self, id: i64, other: i64) -> Result<Vec<ChangeRow>, StoreError> {
        let rows = sqlx::query(CHANGES_ONLY_IN)
            .bind(id)
            .bind(other)
            .fetch_all(&self.reader)
            .await?;
        rows.iter().map(read_change).collect()
    }

    /// How many changes two change sets have in common.
    pub async fn count_in_both(&self, id: i64, other: i64) -> Result<i64, StoreError> {
        let count = sqlx::query_scalar(COUNT_IN_BOTH).bind(id).bind(other);
        Ok(count.fetch_one(&self.reader).await?)
    }

    /// The changes of an identity, the newest first, previews left out.
    pub async fn changes_of(
        &self,
        identity: &str,
        limit: i64,
    ) -> Result<Vec<ChangeRow>, StoreError> {
        let rows = sqlx::query(CHANGES_OF)
            .bind(identity)
            .bind(limit)
            .fetch_all(&self.reader)
            .await?;
        rows.iter().map(read_change).collect()
    }
}
