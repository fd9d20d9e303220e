//! The preconditions of an incremental decision, in one query on one connection, because every
//! change waits for it.

use crate::decision_input::dirty_records::{DIRTY_SINCE, DirtyRecords, parse_dirty};
use crate::sync::systems::AtWork;
use crate::{Store, StoreError, format_timestamp};
use jiff::Timestamp;
use sqlx::{FromRow as _, Row, SqliteConnection};
use std::collections::HashMap;
use tide_core::model::{AccountId, ApprovalState, GuardOverride, InFlight};

/// A guard's window: the changes of a kind in a system since an instant, without released ones.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct GuardWindow {
    /// The system.
    pub system: String,
    /// The kind of change.
    pub kind: String,
    /// The start of the window.
    pub since: Timestamp,
}

/// The preconditions of an incremental decision.
#[derive(Debug, Clone, Default)]
pub struct DecisionPreconditions {
    /// The systems, with whether each is synchronized automatically.
    pub at_work: Vec<AtWork>,
    /// The dirty records.
    pub touched: DirtyRecords,
    /// The counts of the windows, in the order of the request.
    pub counts: Vec<i64>,
    /// The records with a change of a guarded kind in flight.
    pub in_flight: InFlight,
    /// Overrides of guards, by fingerprint.
    pub overrides: HashMap<String, GuardOverride>,
    /// The states of approvals, by fingerprint.
    pub approved: HashMap<String, ApprovalState>,
    /// Whether there is a create with an unknown outcome of a run that has ended.
    pub lost: bool,
    /// Whether there is an accepted change, or one with an unknown outcome.
    pub in_doubt: bool,
    /// Whether there are approval requests.
    pub asked: bool,
    /// Whether a backup was restored, so that stored data may be outdated.
    pub outdated: bool,
    /// Whether there are failed changes.
    pub failed: bool,
}

const COUNT_WINDOWS: &str = "
    SELECT (SELECT count(DISTINCT coalesce(nullif(c.identity, ''),
      c.account)) FROM change c WHERE c.system = k.value ->> 0 AND c.kind = k.value ->> 1
      AND c.state = 'done' AND c.settled_at >= k.value ->> 2 AND NOT c.is_released)
    FROM json_each(?) k
    ORDER BY k.key";

/// Counts the changes of the windows, in their order.
pub(crate) async fn count_windows(
    c: &mut SqliteConnection,
    asked: &[GuardWindow],
) -> Result<Vec<i64>, StoreError> {
    if asked.is_empty() {
        return Ok(Vec::new());
    }
    let asked: Vec<[String; 3]> = asked
        .iter()
        .map(|one| {
            [
                one.system.clone(),
                one.kind.clone(),
                format_timestamp(one.since),
            ]
        })
        .collect();
    Ok(sqlx::query_scalar(COUNT_WINDOWS)
        .bind(serde_json::to_string(&asked)?)
        .fetch_all(c)
        .await?)
}

const IN_FLIGHT: &str = "
    SELECT c.system, c.kind, c.identity, iif(c.identity = '', c.account, NULL)
    FROM change c
    WHERE c.state IN ('queued', 'sending', 'unknown', 'accepted') AND c.kind IN ('disable',
      'delete', 'revoke', 'move', 'password') AND NOT c.is_released";

/// The records with a change of a guarded kind in flight. Such changes count before they are done.
/// The condition equals that of a partial index.
async fn in_flight(c: &mut SqliteConnection) -> Result<InFlight, StoreError> {
    let rows: Vec<(String, String, String, Option<AccountId>)> =
        sqlx::query_as(IN_FLIGHT).fetch_all(c).await?;
    let mut all = InFlight::new();
    for (system, kind, identity, account) in rows {
        all.entry((system, kind))
            .or_default()
            .insert((identity, account));
    }
    Ok(all)
}

async fn load_preconditions(
    c: &mut SqliteConnection,
    after: i64,
    asked: &[GuardWindow],
    now: Timestamp,
) -> Result<DecisionPreconditions, StoreError> {
    let rows = sqlx::query(sqlx::AssertSqlSafe(format!(
        "SELECT s.name, s.armed AND NOT s.paused AS armed, s.schedule, w.* FROM (SELECT
                EXISTS (SELECT 1 FROM change WHERE state IN ('accepted', 'unknown')) AS in_doubt,
                EXISTS (SELECT 1 FROM change c JOIN change_set s ON s.id = c.change_set
                        WHERE c.state = 'unknown' AND s.ended_at IS NOT NULL) AS has_unknown_creates,
                EXISTS (SELECT 1 FROM approval) AS has_approvals,
                EXISTS (SELECT 1 FROM full_read WHERE state = 'outdated') AS outdated,
                EXISTS (SELECT 1 FROM change WHERE state = 'failed') AS failed,
                EXISTS (SELECT 1 FROM change_override) AS overridden,
                {DIRTY_SINCE} AS notes) w CROSS JOIN system s ORDER BY s.name"
    )))
    .bind(after)
    .fetch_all(&mut *c)
    .await?;
    let at_work = rows
        .iter()
        .map(AtWork::from_row)
        .collect::<Result<_, _>>()?;
    // Without systems, there are no preconditions.
    let Some(row) = rows.first() else {
        return Ok(DecisionPreconditions::default());
    };
    let asks = row.get("has_approvals");
    Ok(DecisionPreconditions {
        at_work,
        touched: parse_dirty(row.get("notes"), after)?,
        counts: count_windows(c, asked).await?,
        in_flight: in_flight(c).await?,
        overrides: if row.get("overridden") {
            crate::governance::overrides::load_overrides(c, now).await?
        } else {
            HashMap::new()
        },
        approved: if asks {
            crate::governance::approvals::load_approval_states(c, now).await?
        } else {
            HashMap::new()
        },
        lost: row.get("has_unknown_creates"),
        in_doubt: row.get("in_doubt"),
        asked: asks,
        outdated: row.get("outdated"),
        failed: row.get("failed"),
    })
}

impl Store {
    /// Loads the preconditions of a decision about the dirty records after a position. `at_rest`:
    /// no run is in progress.
    pub async fn load_preconditions(
        &self,
        after: i64,
        asked: Vec<GuardWindow>,
        at_rest: bool,
        now: Timestamp,
    ) -> Result<DecisionPreconditions, StoreError> {
        self.look(at_rest, move |c| {
            Box::pin(async move { load_preconditions(c, after, &asked, now).await })
        })
        .await
    }

    /// Counts the changes of each window, with those in flight.
    pub async fn count_changes(
        &self,
        asked: &[GuardWindow],
    ) -> Result<(Vec<i64>, InFlight), StoreError> {
        // In one transaction, so that a change that completes meanwhile is counted exactly once.
        let mut tx = self.reader.begin().await?;
        Ok((
            count_windows(&mut tx, asked).await?,
            in_flight(&mut tx).await?,
        ))
    }
}
