//! What is looked at before it is decided about news: a little of much, over one connection, because each change waits for it.

use crate::dirty_records::{DIRTY_SINCE, DirtyRecords, touched};
use crate::systems::{AtWork, at_work};
use crate::{Store, StoreError, format_timestamp};
use jiff::Timestamp;
use sqlx::{Row, SqliteConnection};
use std::collections::HashMap;
use tide_core::approvals::ApprovalState;
use tide_core::model::{AccountId, GuardOverride, InFlight};

/// Changes that are to be counted: those of a kind that a system got since an instant, those that a person let through left out.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct GuardWindow {
    /// The system.
    pub system: String,
    /// The kind of change.
    pub kind: String,
    /// Since when.
    pub since: Timestamp,
}

/// What stands in the records before it is decided about news.
#[derive(Debug, Clone, Default)]
pub struct DecisionPreconditions {
    /// Whether each system works by itself.
    pub at_work: Vec<AtWork>,
    /// What changed since it was last decided.
    pub touched: DirtyRecords,
    /// The counts, in the order in which they were asked for.
    pub counts: Vec<i64>,
    /// Whose access is being taken away at this moment, or who is being moved or given a password.
    pub in_flight: InFlight,
    /// What was said of changes that a guard held, by their fingerprints.
    pub overrides: HashMap<String, GuardOverride>,
    /// What was said of changes that need a yes, by their fingerprints.
    pub approved: HashMap<String, ApprovalState>,
    /// Is an account looked for that was perhaps made by a run that has ended?
    pub lost: bool,
    /// Has a system a change in a queue of its own, or is an answer lost?
    pub in_doubt: bool,
    /// Is anything asked about?
    pub asked: bool,
    /// Was a backup restored, so that something read before it may be outdated?
    pub outdated: bool,
    /// Did anything fail when it was last sent?
    pub failed: bool,
}

/// The counts, in the order in which they are asked for.
pub(crate) async fn counts(c: &mut SqliteConnection, asked: &[GuardWindow]) -> Result<Vec<i64>, StoreError> {
    if asked.is_empty() {
        return Ok(Vec::new());
    }
    let asked: Vec<[String; 3]> = asked.iter().map(|one| [one.system.clone(), one.kind.clone(), format_timestamp(one.since)]).collect();
    Ok(sqlx::query_scalar(
        "SELECT (SELECT count(DISTINCT coalesce(nullif(c.identity, ''), c.account)) FROM change c
                 WHERE c.system = k.value ->> 0 AND c.kind = k.value ->> 1 AND c.state = 'done' AND c.settled >= k.value ->> 2
                 AND NOT c.is_released)
         FROM json_each(?) k ORDER BY k.key",
    )
    .bind(serde_json::to_string(&asked)?)
    .fetch_all(c)
    .await?)
}

/// Who gets a change of a guarded kind at this moment. It counts before it is done: between two looks of ours it may be either. The
/// condition is that of an index, which no other change is in.
async fn in_flight(c: &mut SqliteConnection) -> Result<InFlight, StoreError> {
    let rows: Vec<(String, String, String, Option<AccountId>)> = sqlx::query_as(
        "SELECT c.system, c.kind, c.identity, iif(c.identity = '', c.account, NULL) FROM change c
         WHERE c.state IN ('queued', 'sending', 'unknown', 'accepted') AND c.kind IN ('disable', 'delete', 'revoke', 'move', 'password')
         AND NOT c.is_released",
    )
    .fetch_all(c)
    .await?;
    let mut all = InFlight::new();
    for (system, kind, identity, account) in rows {
        all.entry((system, kind)).or_default().insert((identity, account));
    }
    Ok(all)
}

async fn before(c: &mut SqliteConnection, after: i64, asked: &[GuardWindow], now: Timestamp) -> Result<DecisionPreconditions, StoreError> {
    let rows = sqlx::query(sqlx::AssertSqlSafe(format!(
        "SELECT s.name, s.armed AND NOT s.paused AS armed, s.schedule, w.* FROM (SELECT
                EXISTS (SELECT 1 FROM change WHERE state IN ('accepted', 'unknown')) AS in_doubt,
                EXISTS (SELECT 1 FROM change c JOIN change_set s ON s.id = c.change_set
                        WHERE c.state = 'unknown' AND s.ended IS NOT NULL) AS lost,
                EXISTS (SELECT 1 FROM approval) AS asked,
                EXISTS (SELECT 1 FROM reading WHERE state = 'outdated') AS outdated,
                EXISTS (SELECT 1 FROM change WHERE state = 'failed') AS failed,
                EXISTS (SELECT 1 FROM change_override) AS overridden,
                {DIRTY_SINCE} AS notes) w CROSS JOIN system s ORDER BY s.name"
    )))
    .bind(after)
    .fetch_all(&mut *c)
    .await?;
    let at_work = rows.iter().map(at_work).collect::<Result<_, _>>()?;
    // Where nothing is connected, nothing is in the way.
    let Some(row) = rows.first() else { return Ok(DecisionPreconditions::default()) };
    let asks = row.get("asked");
    Ok(DecisionPreconditions {
        at_work,
        touched: touched(row.get("notes"), after)?,
        counts: counts(c, asked).await?,
        in_flight: in_flight(c).await?,
        overrides: if row.get("overridden") { crate::overrides::overrides(c, now).await? } else { HashMap::new() },
        approved: if asks { crate::approvals::said(c, now).await? } else { HashMap::new() },
        lost: row.get("lost"),
        in_doubt: row.get("in_doubt"),
        asked: asks,
        outdated: row.get("outdated"),
        failed: row.get("failed"),
    })
}

impl Store {
    /// What stands before it is decided about what changed after a note. `at_rest` says that nothing else is written much.
    pub async fn before(
        &self,
        after: i64,
        asked: Vec<GuardWindow>,
        at_rest: bool,
        now: Timestamp,
    ) -> Result<DecisionPreconditions, StoreError> {
        self.look(at_rest, move |c| Box::pin(async move { before(c, after, &asked, now).await })).await
    }

    /// How many changes there were, for each that is asked.
    pub async fn counted(&self, asked: &[GuardWindow]) -> Result<(Vec<i64>, InFlight), StoreError> {
        // In one transaction: what is on its way now is done in a moment.
        let mut tx = self.reader.begin().await?;
        Ok((counts(&mut tx, asked).await?, in_flight(&mut tx).await?))
    }
}
