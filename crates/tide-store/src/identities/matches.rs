//! Match answers.

use crate::journal::NewJournalEntry;
use crate::{Store, StoreError, format_timestamp};
use jiff::Timestamp;
use sqlx::{Row, SqliteConnection};
use tide_core::ObjectType;
use tide_core::model::{MatchAnswer, MatchDecision};

/// An answer to store.
#[derive(Debug, Clone)]
pub struct NewAnswer {
    /// The answer and its subject.
    pub answer: MatchAnswer,
    /// Their type.
    pub object: ObjectType,
    /// The label of the person or account that it is about.
    pub label: String,
}

/// A stored answer.
#[derive(Debug, Clone)]
pub struct AnswerRow {
    /// Its number.
    pub id: i64,
    /// The answer.
    pub answer: MatchAnswer,
    /// The label of the person or account that it is about.
    pub label: String,
    /// When.
    pub created_at: String,
}

const SELECT: &str = "SELECT * FROM match_answer WHERE ended_at IS NULL AND (?1 IS NULL OR system = ?1) ORDER BY id DESC";

fn read(row: &sqlx::sqlite::SqliteRow) -> AnswerRow {
    AnswerRow {
        id: row.get("id"),
        answer: MatchAnswer {
            system: row.get("system"),
            identity: row.get("identity"),
            account: row.get("account"),
            decision: MatchDecision::parse(row.get("answer")).unwrap_or(MatchDecision::Skip),
            principal: row.get("principal"),
        },
        label: row.get("label"),
        created_at: row.get("created_at"),
    }
}

/// The answers that hold, for a decision.
pub(crate) async fn load_answers(c: &mut SqliteConnection) -> Result<Vec<MatchAnswer>, StoreError> {
    Ok(sqlx::query(SELECT)
        .bind(None::<&str>)
        .fetch_all(c)
        .await?
        .iter()
        .map(|row| read(row).answer)
        .collect())
}

const LOAD_ANSWERS_ABOUT: &str = "
    SELECT *
    FROM match_answer
    WHERE id IN ( SELECT m.id FROM json_each(?) k CROSS JOIN match_answer m ON m.account =
      k.value AND m.ended_at IS NULL UNION SELECT m.id FROM json_each(?) k CROSS JOIN
      match_answer m ON m.identity = k.value AND m.ended_at IS NULL)
    ORDER BY id DESC";

/// The valid answers about some records, whose ids are given as JSON lists.
pub(crate) async fn load_answers_about(
    c: &mut SqliteConnection,
    accounts: &str,
    identities: &str,
) -> Result<Vec<MatchAnswer>, StoreError> {
    let rows = sqlx::query(LOAD_ANSWERS_ABOUT);
    Ok(rows
        .bind(accounts)
        .bind(identities)
        .fetch_all(c)
        .await?
        .iter()
        .map(|row| read(row).answer)
        .collect())
}

const SELECT_MATCH_ANSWER: &str = "
    SELECT EXISTS (SELECT 1 FROM match_answer WHERE ended_at IS NULL AND created_at < ?)";

const SELECT_MATCH_ANSWER_OF_END_OLD_ANSWERS: &str = "
    SELECT id, system, identity, account, label
    FROM match_answer
    WHERE ended_at IS NULL AND created_at < ?";

const UPDATE_MATCH_ANSWER: &str = "
    UPDATE match_answer SET ended_at = ?, ended_by = 'the service'
    WHERE id = ?";

const UPDATE_MATCH_ANSWER_OF_ANSWER_MATCHES: &str = "
    UPDATE match_answer SET ended_at = ?1, ended_by = ?2
    WHERE ended_at IS NULL AND system = ?3 AND ((identity IS ?4 AND account IS ?5) OR (?6
      AND identity IS ?4 AND account IS NULL) OR (?6 AND account IS ?5 AND identity IS NULL))";

const INSERT_MATCH_ANSWER: &str = "
    INSERT INTO match_answer (system, object, identity, account, answer, label, principal,
      created_at)
    VALUES (?,?,?,?,?,?,?,?)";

const UPDATE_LINK: &str = "
    UPDATE link SET ended_at = ?, end_reason = 'never these two', ended_by = ?
    WHERE ended_at IS NULL AND account IS ? AND identity IS ?";

const TAKE_BACK_ANSWER: &str = "
    UPDATE match_answer SET ended_at = ?, ended_by = ?
    WHERE id = ? AND ended_at IS NULL";

impl Store {
    /// The answers that hold, the newest first.
    pub async fn match_answers(&self, system: Option<&str>) -> Result<Vec<AnswerRow>, StoreError> {
        Ok(sqlx::query(SELECT)
            .bind(system)
            .fetch_all(&self.reader)
            .await?
            .iter()
            .map(read)
            .collect())
    }

    /// Ends answers that were given before an instant: their matches need review again, if they
    /// are still ambiguous.
    pub async fn end_old_answers(
        &self,
        before: Timestamp,
        now: Timestamp,
    ) -> Result<u64, StoreError> {
        let any: bool = sqlx::query_scalar(SELECT_MATCH_ANSWER)
            .bind(format_timestamp(before))
            .fetch_one(&self.reader)
            .await?;
        if !any {
            return Ok(0);
        }
        self.writer
            .run(move |c| {
                Box::pin(async move {
                    let old = sqlx::query(SELECT_MATCH_ANSWER_OF_END_OLD_ANSWERS)
                        .bind(format_timestamp(before))
                        .fetch_all(&mut *c)
                        .await?;
                    for row in &old {
                        sqlx::query(UPDATE_MATCH_ANSWER)
                            .bind(format_timestamp(now))
                            .bind(row.get::<i64, _>("id"))
                            .execute(&mut *c)
                            .await?;
                        let identity: Option<String> = row.get("identity");
                        let account = row
                            .get::<Option<i64>, _>("account")
                            .map(|id| format!("account {id}"));
                        let subject = identity.or(account).unwrap_or_default();
                        let detail = format!(
                            "{} ({})",
                            row.get::<&str, _>("system"),
                            row.get::<&str, _>("label")
                        );
                        NewJournalEntry::new("the service", "match.expired", &subject)
                            .detail(&detail)
                            .append(&mut *c, now)
                            .await?;
                    }
                    Ok(old.len() as u64)
                })
            })
            .await
    }

    /// Stores answers, all or none. Each replaces an earlier answer about the same subject; a
    /// join also replaces answers about either record alone; "never" ends the link between the
    /// two.
    pub async fn answer_matches(
        &self,
        answers: Vec<NewAnswer>,
        principal: &str,
        now: Timestamp,
    ) -> Result<(), StoreError> {
        let principal = principal.to_owned();
        self.writer
            .run(move |c| {
                Box::pin(async move {
                    for NewAnswer {
                        answer,
                        object,
                        label,
                    } in &answers
                    {
                        let by = &principal;
                        sqlx::query(UPDATE_MATCH_ANSWER_OF_ANSWER_MATCHES)
                            .bind(format_timestamp(now))
                            .bind(by)
                            .bind(&answer.system)
                            .bind(&answer.identity)
                            .bind(answer.account)
                            .bind(answer.decision == MatchDecision::Join)
                            .execute(&mut *c)
                            .await?;
                        sqlx::query(INSERT_MATCH_ANSWER)
                            .bind(&answer.system)
                            .bind(object.as_str())
                            .bind(&answer.identity)
                            .bind(answer.account)
                            .bind(answer.decision.as_str())
                            .bind(label)
                            .bind(&answer.principal)
                            .bind(format_timestamp(now))
                            .execute(&mut *c)
                            .await?;
                        if answer.decision == MatchDecision::Never {
                            sqlx::query(UPDATE_LINK)
                                .bind(format_timestamp(now))
                                .bind(by)
                                .bind(answer.account)
                                .bind(&answer.identity)
                                .execute(&mut *c)
                                .await?;
                        }
                        let subject = answer
                            .identity
                            .clone()
                            .or(answer.account.map(|id| format!("account {id}")))
                            .unwrap_or_default();
                        let detail = match answer.account {
                            Some(account) => {
                                format!("{}: account {account} ({label})", answer.system)
                            }
                            None => format!("{} ({label})", answer.system),
                        };
                        let act = format!("match.{}", answer.decision.as_str());
                        NewJournalEntry::new(by, &act, &subject)
                            .detail(&detail)
                            .append(&mut *c, now)
                            .await?;
                    }
                    Ok(())
                })
            })
            .await
    }

    /// Withdraws an answer.
    pub async fn take_back_answer(
        &self,
        id: i64,
        principal: &str,
        now: Timestamp,
    ) -> Result<(), StoreError> {
        let principal = principal.to_owned();
        self.writer
            .run(move |c| {
                Box::pin(async move {
                    let ended = sqlx::query(TAKE_BACK_ANSWER)
                        .bind(format_timestamp(now))
                        .bind(&principal)
                        .bind(id)
                        .execute(&mut *c)
                        .await?
                        .rows_affected();
                    if ended == 0 {
                        return Err(StoreError::Missing {
                            what: "answer",
                            name: id.to_string(),
                        });
                    }
                    NewJournalEntry::new(&principal, "match.taken_back", &format!("answer {id}"))
                        .append(c, now)
                        .await
                })
            })
            .await
    }
}
