//! Changes that need a yes, what was said of them, and the operators who say it.

use crate::journal::Entry;
use crate::{Store, StoreError, stamp};
use jiff::Timestamp;
use sqlx::{Row, SqliteConnection};
use std::collections::{HashMap, HashSet};
use tide_core::approvals::Said;

/// An operator.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OperatorRow {
    /// Its id.
    pub id: String,
    /// What people call it.
    pub name: String,
    /// The groups of operators that it belongs to.
    pub teams: Vec<String>,
    /// The person that it is, if that is known.
    pub identity: Option<String>,
    /// What people call that person.
    pub label: Option<String>,
    /// When it was made.
    pub made: String,
    /// When it was taken back.
    pub ended: Option<String>,
}

/// A change that is to be asked about.
#[derive(Debug, Clone)]
pub struct NewApproval {
    /// The change.
    pub fingerprint: String,
    /// The rule that asks.
    pub rule: String,
    /// The target.
    pub system: String,
    /// The kind of change.
    pub kind: String,
    /// The identity behind it.
    pub identity: String,
    /// Whom it is about.
    pub label: String,
    /// When it is not waited for any more.
    pub expires: Timestamp,
    /// When whoever is asked is reminded.
    pub remind: Option<Timestamp>,
}

/// A change that is asked about.
#[derive(Debug, Clone)]
pub struct ApprovalRow {
    /// The change.
    pub fingerprint: String,
    /// The identity behind it.
    pub identity: String,
    /// The rule that asks.
    pub rule: String,
    /// Who asked: whoever started the run that wanted it first.
    pub asked_by: String,
    /// When it was first asked.
    pub asked: String,
    /// When it is not waited for any more.
    pub expires: String,
    /// Who answered so far: principal, and the words that go with it.
    pub answers: Vec<ApprovalAnswer>,
}

/// What is answered about one change.
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
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ApprovalAnswer {
    /// Yes or no.
    pub yes: bool,
    /// Who said so, by id.
    pub principal: String,
    /// Who said so, by name.
    pub name: String,
    /// The words that go with it.
    pub comment: String,
    /// When.
    pub made: String,
}

/// What was said of changes that need a yes, by their fingerprints.
pub(crate) async fn said(c: &mut SqliteConnection, now: Timestamp) -> Result<HashMap<String, Said>, StoreError> {
    let mut all: HashMap<String, Said> = HashMap::new();
    for row in approvals(c).await? {
        let said = all.entry(row.fingerprint).or_default();
        for answer in &row.answers {
            if answer.yes {
                said.yes.push(answer.name.clone());
            } else {
                said.no = Some((answer.name.clone(), answer.comment.clone()));
            }
        }
        said.expired = row.expires <= stamp(now);
    }
    Ok(all)
}

/// The changes that are asked about, those asked first before.
async fn approvals(c: &mut SqliteConnection) -> Result<Vec<ApprovalRow>, StoreError> {
    let mut all: Vec<ApprovalRow> = sqlx::query("SELECT * FROM approval ORDER BY asked, fingerprint")
        .fetch_all(&mut *c)
        .await?
        .iter()
        .map(|row| ApprovalRow {
            fingerprint: row.get("fingerprint"),
            identity: row.get("identity"),
            rule: row.get("rule"),
            asked_by: row.get("asked_by"),
            asked: row.get("asked"),
            expires: row.get("expires"),
            answers: Vec::new(),
        })
        .collect();
    let places: HashMap<String, usize> = all.iter().enumerate().map(|(at, row)| (row.fingerprint.clone(), at)).collect();
    let answers = sqlx::query(
        "SELECT a.*, coalesce(p.name, a.principal) AS who FROM approval_answer a LEFT JOIN principal p ON p.id = a.principal ORDER BY a.level",
    );
    for row in answers.fetch_all(&mut *c).await? {
        let Some(&at) = places.get(row.get::<&str, _>("fingerprint")) else { continue };
        all[at].answers.push(ApprovalAnswer {
            yes: row.get("yes"),
            principal: row.get("principal"),
            name: row.get("who"),
            comment: row.get("comment"),
            made: row.get("made"),
        });
    }
    Ok(all)
}

impl Store {
    /// All operators, by name.
    pub async fn operators(&self) -> Result<Vec<OperatorRow>, StoreError> {
        let rows = sqlx::query(
            "SELECT p.*, i.label AS person FROM principal p LEFT JOIN identity i ON i.id = p.identity WHERE p.kind = 'operator' ORDER BY p.name",
        )
        .fetch_all(&self.reader)
        .await?;
        rows.iter()
            .map(|row| {
                Ok(OperatorRow {
                    id: row.get("id"),
                    name: row.get("name"),
                    teams: serde_json::from_str(row.get("teams"))?,
                    identity: row.get("identity"),
                    label: row.get("person"),
                    made: row.get("made"),
                    ended: row.get("ended"),
                })
            })
            .collect()
    }

    /// One operator, by id or name.
    pub async fn operator(&self, whom: &str) -> Result<OperatorRow, StoreError> {
        let all = self.operators().await?;
        let found = all.into_iter().find(|one| one.id == whom || one.name == whom);
        found.ok_or_else(|| StoreError::Missing { what: "operator", name: whom.to_owned() })
    }

    /// Says who an operator is, and to which groups it belongs.
    pub async fn set_operator(
        &self,
        id: &str,
        teams: &[String],
        identity: Option<&str>,
        by: &str,
        now: Timestamp,
    ) -> Result<(), StoreError> {
        let (id, teams, identity, by) = (id.to_owned(), serde_json::to_string(teams)?, identity.map(str::to_owned), by.to_owned());
        self.writer
            .run(move |c| {
                Box::pin(async move {
                    let done =
                        sqlx::query("UPDATE principal SET teams = ?, identity = ? WHERE id = ? AND kind = 'operator' AND ended IS NULL")
                            .bind(&teams)
                            .bind(&identity)
                            .bind(&id)
                            .execute(&mut *c)
                            .await?;
                    if done.rows_affected() == 0 {
                        return Err(StoreError::Missing { what: "operator", name: id });
                    }
                    let detail = format!("groups {teams}, person {}", identity.as_deref().unwrap_or("none"));
                    Entry::new(&by, "operator.set", &id).detail(&detail).append(c, now).await
                })
            })
            .await
    }

    /// Takes an operator's rights back at once: its tokens and sessions end. The last one stays.
    pub async fn end_operator(&self, id: &str, by: &str, now: Timestamp) -> Result<bool, StoreError> {
        let (id, by) = (id.to_owned(), by.to_owned());
        self.writer
            .run(move |c| {
                Box::pin(async move {
                    let others: i64 =
                        sqlx::query_scalar("SELECT count(*) FROM principal WHERE kind = 'operator' AND ended IS NULL AND id <> ?")
                            .bind(&id)
                            .fetch_one(&mut *c)
                            .await?;
                    if others == 0 {
                        return Ok(false);
                    }
                    for sql in [
                        "UPDATE principal SET ended = ? WHERE id = ? AND ended IS NULL",
                        "UPDATE token SET ended = ? WHERE principal = ? AND ended IS NULL",
                        "UPDATE session SET ended = ? WHERE principal = ? AND ended IS NULL",
                    ] {
                        sqlx::query(sql).bind(stamp(now)).bind(&id).execute(&mut *c).await?;
                    }
                    Entry::new(&by, "operator.ended", &id).append(c, now).await?;
                    Ok(true)
                })
            })
            .await
    }

    /// What was said of changes that need a yes, by their fingerprints.
    pub async fn approvals_said(&self, now: Timestamp) -> Result<HashMap<String, Said>, StoreError> {
        said(&mut *self.reader.acquire().await?, now).await
    }

    /// The changes that are asked about, those asked first before.
    pub async fn approvals(&self) -> Result<Vec<ApprovalRow>, StoreError> {
        approvals(&mut *self.reader.acquire().await?).await
    }

    /// Keeps what is asked. What is asked already stays as it is; `gone` is no longer wanted.
    pub async fn ask(&self, new: Vec<NewApproval>, gone: Vec<String>, by: &str, now: Timestamp) -> Result<u64, StoreError> {
        if new.is_empty() && gone.is_empty() {
            return Ok(0);
        }
        let by = by.to_owned();
        self.writer
            .run_lazily(move |c| {
                Box::pin(async move {
                    for fingerprint in &gone {
                        sqlx::query("DELETE FROM approval WHERE fingerprint = ?").bind(fingerprint).execute(&mut *c).await?;
                    }
                    let mut asked = 0;
                    for one in &new {
                        asked += sqlx::query(
                            "INSERT INTO approval (fingerprint, rule, system, kind, identity, label, asked, asked_by, expires, remind)
                             VALUES (?,?,?,?,?,?,?,?,?,?) ON CONFLICT DO NOTHING",
                        )
                        .bind(&one.fingerprint)
                        .bind(&one.rule)
                        .bind(&one.system)
                        .bind(&one.kind)
                        .bind(&one.identity)
                        .bind(&one.label)
                        .bind(stamp(now))
                        .bind(&by)
                        .bind(stamp(one.expires))
                        .bind(one.remind.map(stamp))
                        .execute(&mut *c)
                        .await?
                        .rows_affected();
                    }
                    Ok(asked)
                })
            })
            .await
    }

    /// Keeps an answer to some changes for a level, from 0. Whoever answers for a level that somebody answered meanwhile is
    /// refused: their word must not count for the next one, which may not be theirs. The journal says so.
    pub async fn answer_approval(&self, answers: Vec<Answered>, level: usize, principal: &str, now: Timestamp) -> Result<(), StoreError> {
        let principal = principal.to_owned();
        self.writer
            .run(move |c| {
                Box::pin(async move {
                    for Answered { fingerprint, identity, yes, comment } in &answers {
                        let reached: i64 = sqlx::query_scalar("SELECT count(*) FROM approval_answer WHERE fingerprint = ?")
                            .bind(fingerprint)
                            .fetch_one(&mut *c)
                            .await?;
                        if usize::try_from(reached) != Ok(level) {
                            return Err(StoreError::Exists { what: "answer for level", name: (level + 1).to_string() });
                        }
                        sqlx::query("INSERT INTO approval_answer (fingerprint, level, yes, principal, comment, made) VALUES (?,?,?,?,?,?)")
                            .bind(fingerprint)
                            .bind(reached)
                            .bind(yes)
                            .bind(&principal)
                            .bind(comment)
                            .bind(stamp(now))
                            .execute(&mut *c)
                            .await?;
                        let (rule, kind, system): (String, String, String) =
                            sqlx::query_as("SELECT rule, kind, system FROM approval WHERE fingerprint = ?")
                                .bind(fingerprint)
                                .fetch_one(&mut *c)
                                .await?;
                        let words = if comment.is_empty() { String::new() } else { format!(": {comment}") };
                        let detail = format!("{kind} in {system}, level {} of {rule}{words}", level + 1);
                        let act = if *yes { "approval.yes" } else { "approval.no" };
                        Entry::new(&principal, act, identity).detail(&detail).append(c, now).await?;
                    }
                    Ok(())
                })
            })
            .await
    }

    /// Forgets what was said of some changes: they are asked about anew.
    pub async fn ask_again(&self, fingerprints: Vec<String>, principal: &str, now: Timestamp) -> Result<(), StoreError> {
        let principal = principal.to_owned();
        self.writer
            .run(move |c| {
                Box::pin(async move {
                    for fingerprint in &fingerprints {
                        let identity: Option<String> = sqlx::query_scalar("DELETE FROM approval WHERE fingerprint = ? RETURNING identity")
                            .bind(fingerprint)
                            .fetch_optional(&mut *c)
                            .await?;
                        if let Some(identity) = identity {
                            Entry::new(&principal, "approval.asked-again", &identity).append(&mut *c, now).await?;
                        }
                    }
                    Ok(())
                })
            })
            .await
    }

    /// When the next approval expires or is reminded of.
    pub async fn next_approval(&self) -> Result<Option<Timestamp>, StoreError> {
        let next: Option<String> = sqlx::query_scalar(
            "SELECT min(at) FROM (SELECT expires AS at FROM approval UNION ALL SELECT remind FROM approval WHERE remind IS NOT NULL)",
        )
        .fetch_one(&self.reader)
        .await?;
        Ok(crate::unstamp(next))
    }

    /// What waits, of these, and of which it is time to remind somebody.
    pub async fn to_remind_of(&self, waiting: &HashSet<String>, now: Timestamp) -> Result<HashSet<String>, StoreError> {
        let sql =
            "SELECT fingerprint FROM approval WHERE remind <= ?1 AND expires > ?1 AND fingerprint IN (SELECT value FROM json_each(?2))";
        let due: Vec<String> =
            sqlx::query_scalar(sql).bind(stamp(now)).bind(serde_json::to_string(waiting)?).fetch_all(&self.reader).await?;
        Ok(due.into_iter().collect())
    }

    /// Puts reminders into the outbox that are due, `again` by rule being the days to the next one.
    pub async fn remind(&self, waiting: &HashSet<String>, again: HashMap<String, u32>, now: Timestamp) -> Result<u64, StoreError> {
        let waiting = serde_json::to_string(waiting)?;
        self.writer
            .run_lazily(move |c| {
                Box::pin(async move {
                    let due = sqlx::query(
                        "SELECT rule, count(*) AS n, min(label) AS first, min(asked) AS since FROM approval a
                         WHERE remind <= ? AND expires > ? AND fingerprint IN (SELECT value FROM json_each(?)) GROUP BY rule",
                    )
                    .bind(stamp(now))
                    .bind(stamp(now))
                    .bind(&waiting)
                    .fetch_all(&mut *c)
                    .await?;
                    for row in &due {
                        let (rule, count, first): (String, i64, String) = (row.get("rule"), row.get("n"), row.get("first"));
                        let others = if count == 1 { String::new() } else { format!(" and {} more", count - 1) };
                        let since = row.get::<&str, _>("since").get(..10).unwrap_or_default().to_owned();
                        sqlx::query("INSERT INTO notice (channel, recipient, subject, body, made) VALUES ('console', ?, ?, ?, ?)")
                            .bind(format!("approval:{rule}"))
                            .bind(format!("still waits for a yes ({rule}): {first}{others}"))
                            .bind(format!("Asked since {since}; look at the list of decisions."))
                            .bind(stamp(now))
                            .execute(&mut *c)
                            .await?;
                    }
                    for (rule, days) in &again {
                        let next = now.saturating_add(jiff::SignedDuration::from_hours(i64::from(*days) * 24)).unwrap_or(now);
                        sqlx::query("UPDATE approval SET remind = ? WHERE rule = ? AND remind <= ?")
                            .bind(stamp(next))
                            .bind(rule)
                            .bind(stamp(now))
                            .execute(&mut *c)
                            .await?;
                    }
                    // What is not waited for any more wakes nobody.
                    sqlx::query("UPDATE approval SET remind = NULL WHERE remind <= ?").bind(stamp(now)).execute(c).await?;
                    Ok(due.len() as u64)
                })
            })
            .await
    }
}
