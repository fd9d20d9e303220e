//! Approval requests, their answers, and operators.

use crate::journal::NewJournalEntry;
use crate::{Store, StoreError, format_timestamp};
use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};
use sqlx::{FromRow as _, Row, SqliteConnection};
use std::collections::{HashMap, HashSet};
use tide_core::model::ApprovalState;

/// An operator.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OperatorRow {
    /// Its id.
    pub id: String,
    /// Its label.
    pub name: String,
    /// The groups of operators that it belongs to.
    pub teams: Vec<String>,
    /// The person that it is, if that is known.
    pub identity: Option<String>,
    /// The label of that person.
    pub label: Option<String>,
    /// When it was created.
    pub created_at: String,
    /// When it was revoked.
    pub ended_at: Option<String>,
    /// Which operator set its groups or its person last, or gave it a token, by id; and when.
    pub set_by: Option<(String, String)>,
}

/// What an operator did that caused a change.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Cause {
    /// The operator, by id.
    pub principal: String,
    /// The action, as in the journal: `run.started`, `role.given`, `rules.published`.
    pub act: String,
    /// When.
    pub at: String,
}

/// A change that needs approval.
#[derive(Debug, Clone)]
pub struct NewApproval {
    /// The change.
    pub fingerprint: String,
    /// The rule that requires approval.
    pub rule: String,
    /// The target.
    pub system: String,
    /// The kind of change.
    pub kind: String,
    /// The identity behind it.
    pub identity: String,
    /// The label of the person or account that it is about.
    pub label: String,
    /// When it is not waited for any more.
    pub expires: Timestamp,
    /// When approvers are reminded.
    pub remind: Option<Timestamp>,
}

/// A change that needs approval.
#[derive(Debug, Clone, sqlx::FromRow)]
pub struct ApprovalRow {
    /// The change.
    pub fingerprint: String,
    /// The identity behind it.
    pub identity: String,
    /// The rule that requires approval.
    pub rule: String,
    /// The requester: the principal that started the run.
    #[sqlx(rename = "requested_by")]
    pub asked_by: String,
    /// When it was first requested.
    pub requested_at: String,
    /// When it is not waited for any more.
    pub expires_at: String,
    /// The operators who caused the change.
    #[sqlx(json)]
    pub causes: Vec<Cause>,
    /// The answers so far: principal and comment.
    #[sqlx(skip)]
    pub answers: Vec<ApprovalAnswer>,
}

/// The answer about one change.
#[derive(Debug, Clone)]
pub struct Answered {
    /// The change.
    pub fingerprint: String,
    /// The identity behind it.
    pub identity: String,
    /// Yes or no.
    pub yes: bool,
    /// The words that go with it.
    pub comment: String,
}

/// An answer.
#[derive(Debug, Clone, PartialEq, Eq, sqlx::FromRow)]
pub struct ApprovalAnswer {
    /// Yes or no.
    #[sqlx(rename = "is_approved")]
    pub yes: bool,
    /// The principal's id.
    pub principal: String,
    /// The principal's name.
    #[sqlx(rename = "who")]
    pub name: String,
    /// The words that go with it.
    pub comment: String,
    /// When.
    pub created_at: String,
}

/// Returns the answers to approval requests, by fingerprint.
pub(crate) async fn load_approval_states(
    c: &mut SqliteConnection,
    now: Timestamp,
) -> Result<HashMap<String, ApprovalState>, StoreError> {
    let mut all: HashMap<String, ApprovalState> = HashMap::new();
    for row in load_approvals(c).await? {
        let said = all.entry(row.fingerprint).or_default();
        for answer in &row.answers {
            if answer.yes {
                said.yes.push(answer.name.clone());
            } else {
                said.no = Some((answer.name.clone(), answer.comment.clone()));
            }
        }
        said.expired = row.expires_at <= format_timestamp(now);
    }
    Ok(all)
}

const LOAD_APPROVALS: &str = "
    SELECT a.*, coalesce(p.name, a.principal) AS who
    FROM approval_answer a
    LEFT JOIN principal p ON p.id = a.principal
    ORDER BY a.level";

/// Loads the requests for approval, the oldest first.
async fn load_approvals(c: &mut SqliteConnection) -> Result<Vec<ApprovalRow>, StoreError> {
    let mut all: Vec<ApprovalRow> =
        sqlx::query_as("SELECT * FROM approval ORDER BY requested_at, fingerprint")
            .fetch_all(&mut *c)
            .await?;
    let places: HashMap<String, usize> = all
        .iter()
        .enumerate()
        .map(|(at, row)| (row.fingerprint.clone(), at))
        .collect();
    let answers = sqlx::query(LOAD_APPROVALS);
    for row in answers.fetch_all(&mut *c).await? {
        let Some(&at) = places.get(row.get::<&str, _>("fingerprint")) else {
            continue;
        };
        all[at].answers.push(ApprovalAnswer::from_row(&row)?);
    }
    Ok(all)
}

/// How long a manual action counts as the cause of a change.
const CAUSE: SignedDuration = SignedDuration::from_hours(30 * 24);

const INSERT_META: &str = "
    INSERT INTO meta (name, value)
    VALUES (?, ?)
    ON CONFLICT DO UPDATE SET value = excluded.value";

const SELECT_RULE_SET: &str = "
    SELECT principal, created_at
    FROM rule_set
    WHERE version > ? AND version <= ?";

/// Who published, up to this version, rules under which nothing was requested before. Records
/// that approval was requested under it.
async fn published_since(c: &mut SqliteConnection, version: i64) -> Result<Vec<Cause>, StoreError> {
    const ASKED: &str = "asked under rules";
    let before: Option<String> = sqlx::query_scalar("SELECT value FROM meta WHERE name = ?")
        .bind(ASKED)
        .fetch_optional(&mut *c)
        .await?;
    let before = before
        .and_then(|text| text.parse::<i64>().ok())
        .unwrap_or(0);
    if before == version {
        return Ok(Vec::new());
    }
    sqlx::query(INSERT_META)
        .bind(ASKED)
        .bind(version.to_string())
        .execute(&mut *c)
        .await?;
    let rows: Vec<(String, String)> = sqlx::query_as(SELECT_RULE_SET)
        .bind(before)
        .bind(version)
        .fetch_all(c)
        .await?;
    Ok(rows
        .into_iter()
        .map(|(principal, at)| Cause {
            principal,
            act: "rules.published".to_owned(),
            at,
        })
        .collect())
}

const CAUSED_BY: &str = "
    SELECT principal, act, min(at)
    FROM ( SELECT principal, act,
      at FROM journal WHERE subject = ?1 AND at >= ?2
      AND (act GLOB 'role.*' OR act GLOB 'departure.*' OR act GLOB 'match.*'
      OR act IN ('identity.split', 'password.set')) UNION ALL SELECT principal, 'role.given',
      created_at FROM role_grant WHERE identity = ?1
      AND (until_at IS NULL OR until_at > ?3) UNION ALL SELECT ?4, 'run.started', ?3)
    WHERE principal IN (SELECT id FROM principal WHERE kind = 'operator')
    GROUP BY principal, act";

/// Who caused a change of an identity: the principal of the run, of recent manual actions, and of
/// grants in effect. The service itself does not count.
async fn caused_by(
    c: &mut SqliteConnection,
    asker: &str,
    identity: &str,
    now: Timestamp,
) -> Result<Vec<Cause>, StoreError> {
    let rows: Vec<(String, String, String)> = sqlx::query_as(CAUSED_BY)
        .bind(identity)
        .bind(format_timestamp(
            now.saturating_sub(CAUSE).unwrap_or(Timestamp::MIN),
        ))
        .bind(format_timestamp(now))
        .bind(asker)
        .fetch_all(c)
        .await?;
    Ok(rows
        .into_iter()
        .map(|(principal, act, at)| Cause { principal, act, at })
        .collect())
}

const LIST_OPERATORS: &str = "
    SELECT p.*, i.label AS person
    FROM principal p
    LEFT JOIN identity i ON i.id = p.identity
    WHERE p.kind = 'operator'
    ORDER BY p.name";

const SET_OPERATOR: &str = "
    UPDATE principal SET teams = ?, identity = ?, set_by = ?, set_at = ?
    WHERE id = ? AND kind = 'operator' AND ended_at IS NULL";

const END_OPERATOR: &str = "
    SELECT count(*)
    FROM principal
    WHERE kind = 'operator' AND ended_at IS NULL AND id <> ?";

const REQUEST_APPROVALS: &str = "
    INSERT INTO approval (fingerprint, rule, system, kind, identity, label, requested_at,
      requested_by, expires_at, remind_at, causes)
    VALUES (?,?,?,?,?,?,?,?,?,?,?)
    ON CONFLICT DO NOTHING";

const ANSWER_APPROVAL: &str = "
    INSERT INTO approval_answer (fingerprint, level, is_approved, principal, comment,
      created_at)
    VALUES (?,?,?,?,?,?)";

const REOPEN_APPROVALS: &str = "
    UPDATE approval SET requested_at = ?, expires_at = ?, remind_at = ?
    WHERE fingerprint = ?
    RETURNING identity";

const NEXT_APPROVAL: &str = "
    SELECT min(at)
    FROM (SELECT expires_at AS at FROM approval UNION ALL SELECT remind_at FROM approval WHERE
      remind_at IS NOT NULL UNION ALL SELECT expires_at FROM change_override)";

const SELECT_APPROVAL: &str = "
    SELECT rule, count(*) AS n, min(label) AS first, min(requested_at) AS since
    FROM approval a
    WHERE remind_at <= ? AND expires_at > ? AND fingerprint IN (SELECT value FROM json_each(?))
    GROUP BY rule";

const INSERT_ALERT: &str = "
    INSERT INTO alert (channel, recipient, subject, body, created_at)
    VALUES ('console', ?, ?, ?, ?)";

impl Store {
    /// All operators, by name.
    pub async fn list_operators(&self) -> Result<Vec<OperatorRow>, StoreError> {
        let rows = sqlx::query(LIST_OPERATORS).fetch_all(&self.reader).await?;
        rows.iter()
            .map(|row| {
                Ok(OperatorRow {
                    id: row.get("id"),
                    name: row.get("name"),
                    teams: serde_json::from_str(row.get("teams"))?,
                    identity: row.get("identity"),
                    label: row.get("person"),
                    created_at: row.get("created_at"),
                    ended_at: row.get("ended_at"),
                    set_by: row
                        .get::<Option<String>, _>("set_by")
                        .zip(row.get("set_at")),
                })
            })
            .collect()
    }

    /// One operator, by id or name.
    pub async fn find_operator(&self, whom: &str) -> Result<OperatorRow, StoreError> {
        let all = self.list_operators().await?;
        let found = all
            .into_iter()
            .find(|one| one.id == whom || one.name == whom);
        found.ok_or_else(|| StoreError::Missing {
            what: "operator",
            name: whom.to_owned(),
        })
    }

    /// Sets an operator's identity and groups.
    pub async fn set_operator(
        &self,
        id: &str,
        teams: &[String],
        identity: Option<&str>,
        by: &str,
        now: Timestamp,
    ) -> Result<(), StoreError> {
        let (id, teams, identity, by) = (
            id.to_owned(),
            serde_json::to_string(teams)?,
            identity.map(str::to_owned),
            by.to_owned(),
        );
        self.writer
            .run(move |c| {
                Box::pin(async move {
                    let done = sqlx::query(SET_OPERATOR)
                        .bind(&teams)
                        .bind(&identity)
                        .bind(&by)
                        .bind(format_timestamp(now))
                        .bind(&id)
                        .execute(&mut *c)
                        .await?;
                    if done.rows_affected() == 0 {
                        return Err(StoreError::Missing {
                            what: "operator",
                            name: id,
                        });
                    }
                    let detail = format!(
                        "groups {teams}, person {}",
                        identity.as_deref().unwrap_or("none")
                    );
                    NewJournalEntry::new(&by, "operator.set", &id)
                        .detail(&detail)
                        .append(c, now)
                        .await
                })
            })
            .await
    }

    /// Revokes an operator's rights immediately: its tokens and sessions end. The last operator
    /// cannot be revoked.
    pub async fn end_operator(
        &self,
        id: &str,
        by: &str,
        now: Timestamp,
    ) -> Result<bool, StoreError> {
        let (id, by) = (id.to_owned(), by.to_owned());
        self.writer
            .run(move |c| {
                Box::pin(async move {
                    let others: i64 = sqlx::query_scalar(END_OPERATOR)
                        .bind(&id)
                        .fetch_one(&mut *c)
                        .await?;
                    if others == 0 {
                        return Ok(false);
                    }
                    for sql in [
                        "UPDATE principal SET ended_at = ? WHERE id = ? AND ended_at IS NULL",
                        "UPDATE token SET ended_at = ? WHERE principal = ? AND ended_at IS NULL",
                        "UPDATE session SET ended_at = ? WHERE principal = ? AND ended_at IS NULL",
                    ] {
                        sqlx::query(sql)
                            .bind(format_timestamp(now))
                            .bind(&id)
                            .execute(&mut *c)
                            .await?;
                    }
                    NewJournalEntry::new(&by, "operator.ended", &id)
                        .append(c, now)
                        .await?;
                    Ok(true)
                })
            })
            .await
    }

    /// Returns the answers to approval requests, by fingerprint.
    pub async fn approvals_said(
        &self,
        now: Timestamp,
    ) -> Result<HashMap<String, ApprovalState>, StoreError> {
        load_approval_states(&mut *self.reader.acquire().await?, now).await
    }

    /// The requests for approval, the oldest first.
    pub async fn list_approvals(&self) -> Result<Vec<ApprovalRow>, StoreError> {
        load_approvals(&mut *self.reader.acquire().await?).await
    }

    /// Stores approval requests and who caused them. Existing requests stay unchanged; `gone` are
    /// no longer required. `rules` is the version of the published rules, for a decision about all
    /// records: requests that are new under a version without earlier requests were caused by its
    /// publisher.
    pub async fn request_approvals(
        &self,
        new: Vec<NewApproval>,
        gone: Vec<String>,
        rules: Option<i64>,
        by: &str,
        now: Timestamp,
    ) -> Result<u64, StoreError> {
        if new.is_empty() && gone.is_empty() && rules.is_none() {
            return Ok(0);
        }
        let by = by.to_owned();
        self.writer
            .run_relaxed(move |c| {
                Box::pin(async move {
                    for fingerprint in &gone {
                        sqlx::query("DELETE FROM approval WHERE fingerprint = ?")
                            .bind(fingerprint)
                            .execute(&mut *c)
                            .await?;
                    }
                    let published = match rules {
                        Some(version) => published_since(&mut *c, version).await?,
                        None => Vec::new(),
                    };
                    let mut asked = 0;
                    for one in &new {
                        let mut causes = caused_by(&mut *c, &by, &one.identity, now).await?;
                        causes.extend(published.iter().cloned());
                        asked += sqlx::query(REQUEST_APPROVALS)
                            .bind(&one.fingerprint)
                            .bind(&one.rule)
                            .bind(&one.system)
                            .bind(&one.kind)
                            .bind(&one.identity)
                            .bind(&one.label)
                            .bind(format_timestamp(now))
                            .bind(&by)
                            .bind(format_timestamp(one.expires))
                            .bind(one.remind.map(format_timestamp))
                            .bind(serde_json::to_string(&causes)?)
                            .execute(&mut *c)
                            .await?
                            .rows_affected();
                    }
                    Ok(asked)
                })
            })
            .await
    }

    /// Stores an answer to some changes for a level, from 0. An answer for a level that was
    /// answered meanwhile is refused: it must not count for the next level, which may have other
    /// approvers. Journaled.
    pub async fn answer_approval(
        &self,
        answers: Vec<Answered>,
        level: usize,
        principal: &str,
        now: Timestamp,
    ) -> Result<(), StoreError> {
        let principal = principal.to_owned();
        self.writer
            .run(move |c| {
                Box::pin(async move {
                    for Answered {
                        fingerprint,
                        identity,
                        yes,
                        comment,
                    } in &answers
                    {
                        let reached: i64 = sqlx::query_scalar(
                            "SELECT count(*) FROM approval_answer WHERE fingerprint = ?",
                        )
                        .bind(fingerprint)
                        .fetch_one(&mut *c)
                        .await?;
                        if usize::try_from(reached) != Ok(level) {
                            return Err(StoreError::Exists {
                                what: "answer for level",
                                name: (level + 1).to_string(),
                            });
                        }
                        sqlx::query(ANSWER_APPROVAL)
                            .bind(fingerprint)
                            .bind(reached)
                            .bind(yes)
                            .bind(&principal)
                            .bind(comment)
                            .bind(format_timestamp(now))
                            .execute(&mut *c)
                            .await?;
                        let (rule, kind, system): (String, String, String) = sqlx::query_as(
                            "SELECT rule, kind, system FROM approval WHERE fingerprint = ?",
                        )
                        .bind(fingerprint)
                        .fetch_one(&mut *c)
                        .await?;
                        let words = if comment.is_empty() {
                            String::new()
                        } else {
                            format!(": {comment}")
                        };
                        let detail =
                            format!("{kind} in {system}, level {} of {rule}{words}", level + 1);
                        let act = if *yes { "approval.yes" } else { "approval.no" };
                        NewJournalEntry::new(&principal, act, identity)
                            .detail(&detail)
                            .append(c, now)
                            .await?;
                    }
                    Ok(())
                })
            })
            .await
    }

    /// Deletes the answers about some changes and requests approval again with a new expiry.
    /// The operator who caused the changes stays excluded.
    pub async fn reopen_approvals(
        &self,
        fingerprints: Vec<String>,
        expires: Timestamp,
        remind: Option<Timestamp>,
        principal: &str,
        now: Timestamp,
    ) -> Result<(), StoreError> {
        let principal = principal.to_owned();
        self.writer
            .run(move |c| {
                Box::pin(async move {
                    for fingerprint in &fingerprints {
                        sqlx::query("DELETE FROM approval_answer WHERE fingerprint = ?")
                            .bind(fingerprint)
                            .execute(&mut *c)
                            .await?;
                        let identity: Option<String> = sqlx::query_scalar(REOPEN_APPROVALS)
                            .bind(format_timestamp(now))
                            .bind(format_timestamp(expires))
                            .bind(remind.map(format_timestamp))
                            .bind(fingerprint)
                            .fetch_optional(&mut *c)
                            .await?;
                        if let Some(identity) = identity {
                            NewJournalEntry::new(&principal, "approval.asked-again", &identity)
                                .append(&mut *c, now)
                                .await?;
                        }
                    }
                    Ok(())
                })
            })
            .await
    }

    /// Withdraws all answers about a change that was not sent yet, and returns whether there were
    /// any. Approval starts again at the first level, with the same expiry.
    pub async fn take_back_answers(
        &self,
        fingerprint: &str,
        principal: &str,
        now: Timestamp,
    ) -> Result<bool, StoreError> {
        let (fingerprint, principal) = (fingerprint.to_owned(), principal.to_owned());
        self.writer
            .run(move |c| {
                Box::pin(async move {
                    let taken = sqlx::query("DELETE FROM approval_answer WHERE fingerprint = ?")
                        .bind(&fingerprint)
                        .execute(&mut *c)
                        .await?;
                    if taken.rows_affected() == 0 {
                        return Ok(false);
                    }
                    let (identity, kind, system): (String, String, String) = sqlx::query_as(
                        "SELECT identity, kind, system FROM approval WHERE fingerprint = ?",
                    )
                    .bind(&fingerprint)
                    .fetch_one(&mut *c)
                    .await?;
                    let detail = format!("{kind} in {system}: answers taken back");
                    NewJournalEntry::new(&principal, "approval.taken-back", &identity)
                        .detail(&detail)
                        .append(c, now)
                        .await?;
                    Ok(true)
                })
            })
            .await
    }

    /// When the next approval expires or is due for a reminder, or the next override expires.
    pub async fn next_approval(&self) -> Result<Option<Timestamp>, StoreError> {
        let next: Option<String> = sqlx::query_scalar(NEXT_APPROVAL)
            .fetch_one(&self.reader)
            .await?;
        Ok(crate::parse_timestamp(next))
    }

    /// Those of these pending requests whose reminder is due.
    pub async fn to_remind_of(
        &self,
        waiting: &HashSet<String>,
        now: Timestamp,
    ) -> Result<HashSet<String>, StoreError> {
        let sql = "SELECT fingerprint FROM approval WHERE remind_at <= ?1 AND expires_at > ?1 AND fingerprint IN (SELECT value FROM json_each(?2))";
        let due: Vec<String> = sqlx::query_scalar(sql)
            .bind(format_timestamp(now))
            .bind(serde_json::to_string(waiting)?)
            .fetch_all(&self.reader)
            .await?;
        Ok(due.into_iter().collect())
    }

    /// Queues reminders that are due. `again` is, by rule, the number of days until the next one.
    pub async fn queue_reminders(
        &self,
        waiting: &HashSet<String>,
        again: HashMap<String, u32>,
        now: Timestamp,
    ) -> Result<u64, StoreError> {
        let waiting = serde_json::to_string(waiting)?;
        self.writer
            .run_relaxed(move |c| {
                Box::pin(async move {
                    let due = sqlx::query(SELECT_APPROVAL)
                        .bind(format_timestamp(now))
                        .bind(format_timestamp(now))
                        .bind(&waiting)
                        .fetch_all(&mut *c)
                        .await?;
                    for row in &due {
                        let (rule, count, first): (String, i64, String) =
                            (row.get("rule"), row.get("n"), row.get("first"));
                        let others = if count == 1 {
                            String::new()
                        } else {
                            format!(" and {} more", count - 1)
                        };
                        let since = row
                            .get::<&str, _>("since")
                            .get(..10)
                            .unwrap_or_default()
                            .to_owned();
                        sqlx::query(INSERT_ALERT)
                            .bind(format!("approval:{rule}"))
                            .bind(format!("still awaiting approval ({rule}): {first}{others}"))
                            .bind(format!("Requested {since}; see the decisions."))
                            .bind(format_timestamp(now))
                            .execute(&mut *c)
                            .await?;
                    }
                    for (rule, days) in &again {
                        let next = now
                            .saturating_add(jiff::SignedDuration::from_hours(i64::from(*days) * 24))
                            .unwrap_or(now);
                        sqlx::query(
                            "UPDATE approval SET remind_at = ? WHERE rule = ? AND remind_at <= ?",
                        )
                        .bind(format_timestamp(next))
                        .bind(rule)
                        .bind(format_timestamp(now))
                        .execute(&mut *c)
                        .await?;
                    }
                    // Requests that are no longer required have no reminders.
                    sqlx::query("UPDATE approval SET remind_at = NULL WHERE remind_at <= ?")
                        .bind(format_timestamp(now))
                        .execute(c)
                        .await?;
                    Ok(due.len() as u64)
                })
            })
            .await
    }
}
