//! Records and changes on hold, with the cause and since when.

use crate::{Store, StoreError, format_timestamp};
use jiff::Timestamp;
use sqlx::{QueryBuilder, Row, Sqlite, SqliteConnection};
use std::collections::HashMap;
use tide_core::incremental::Records;
use tide_core::states::ChangeKind;
use tide_core::{HoldCause, ObjectType, Reason, ReasonKind};

/// The key of a hold.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct HoldKey {
    /// The system.
    pub system: String,
    /// The type.
    pub object: ObjectType,
    /// The identity; empty for an orphaned account.
    pub identity: String,
    /// The account; 0 where there is none yet.
    pub account: i64,
    /// The kind of change; empty for a line.
    pub kind: String,
}

/// Something that is on hold.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Hold {
    /// What.
    pub key: HoldKey,
    /// It would close access.
    pub takes_away: bool,
    /// The label of the person or account that it is about.
    pub label: String,
    /// The cause.
    pub cause: HoldCause,
    /// The reason, without rule and cause.
    pub reason: Reason,
    /// The rule behind it, as `FILE:LINE`.
    pub rule: Option<String>,
}

/// A record on hold: everything that one cause holds for one reason.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct HoldRow {
    /// Its number.
    pub id: i64,
    /// The identity; empty for an orphaned account.
    pub identity: String,
    /// Whether the identity is stored.
    pub is_kept: bool,
    /// The type.
    pub object: ObjectType,
    /// The label of the person or account that it is about.
    pub label: String,
    /// The cause.
    pub cause: HoldCause,
    /// The reason, without rule and cause.
    pub reason: Reason,
    /// The rule behind it, as `FILE:LINE`.
    pub rule: Option<String>,
    /// The systems in which it is held.
    pub systems: Vec<String>,
    /// The kinds of changes that are held; empty when there is none yet.
    pub kinds: Vec<ChangeKind>,
    /// Since when.
    pub since: String,
}

/// Which rows of the list to show.
#[derive(Debug, Clone, Default)]
pub struct HoldFilter {
    /// Only this cause.
    pub cause: Option<HoldCause>,
    /// Only this system.
    pub system: Option<String>,
    /// Only this identity.
    pub identity: Option<String>,
    /// Only rows with this text in the name or the reason.
    pub search: Option<String>,
    /// Only rows after this one.
    pub after: Option<i64>,
    /// The most rows.
    pub limit: i64,
}

const COLUMNS: &str = "system, object, identity, account, kind, removes_access, label, cause, reason, search_text, rule, since";
/// Rows of one statement: eleven values each, far below SQLite's limit.
const ROWS: usize = 200;

async fn remove(c: &mut SqliteConnection, keys: &[HoldKey]) -> Result<(), StoreError> {
    for keys in keys.chunks(ROWS) {
        let mut query = QueryBuilder::<Sqlite>::new(
            "DELETE FROM hold WHERE (system, object, identity, account, kind) IN (VALUES ",
        );
        for (place, key) in keys.iter().enumerate() {
            query.push(if place == 0 { "(" } else { ",(" });
            let mut row = query.separated(",");
            row.push_bind(key.system.clone())
                .push_bind(key.object.as_str());
            row.push_bind(key.identity.clone())
                .push_bind(key.account)
                .push_bind(key.kind.clone());
            query.push(")");
        }
        query.push(")").build().execute(&mut *c).await?;
    }
    Ok(())
}

async fn put(c: &mut SqliteConnection, holds: &[Hold], now: &str) -> Result<(), StoreError> {
    for holds in holds.chunks(ROWS) {
        let reasons = holds
            .iter()
            .map(|hold| serde_json::to_string(&hold.reason))
            .collect::<Result<Vec<_>, _>>()?;
        let mut query = QueryBuilder::<Sqlite>::new(format!("INSERT INTO hold ({COLUMNS}) "));
        query.push_values(holds.iter().zip(reasons), |mut row, (hold, reason)| {
            row.push_bind(hold.key.system.clone())
                .push_bind(hold.key.object.as_str())
                .push_bind(hold.key.identity.clone())
                .push_bind(hold.key.account)
                .push_bind(hold.key.kind.clone())
                .push_bind(hold.takes_away)
                .push_bind(hold.label.clone())
                .push_bind(hold.cause.as_str())
                .push_bind(reason)
                .push_bind(hold.reason.to_string())
                .push_bind(hold.rule.clone())
                .push_bind(now.to_owned());
        });
        // A hold with the same cause keeps its start, even if its text changes.
        query.push(
            " ON CONFLICT DO UPDATE SET since = iif(hold.cause = excluded.cause, hold.since, excluded.since), cause = excluded.cause,
               removes_access = excluded.removes_access, label = excluded.label, reason = excluded.reason, search_text = excluded.search_text, rule = excluded.rule",
        );
        query.build().execute(&mut *c).await?;
    }
    Ok(())
}

const HOLD_COUNTS: &str = "
    SELECT cause, count(DISTINCT iif(identity = '', 'account ' || account, identity))
    FROM hold
    WHERE ? IS NULL OR system = ?
    GROUP BY cause";

const LEAVERS_ON_HOLD: &str = "
    SELECT DISTINCT l.identity, l.label
    FROM leaver l
    JOIN hold h ON h.identity = l.identity
    WHERE l.returned_at IS NULL AND h.removes_access
    ORDER BY l.label, l.identity";

const SELECT_HOLD: &str = "
    SELECT h.*
    FROM hold h
    JOIN change c ON c.change_set = ? AND c.state = 'done' AND c.system = h.system
      AND c.object = h.object AND c.identity = h.identity AND c.kind = h.kind
      AND (h.account = 0 OR h.account = c.account)";

const SELECT_CHANGE: &str = "
    SELECT system, object, identity, iif(kind = 'create', 0, coalesce(account, 0)) AS account,
      kind, label, error, is_transient, step > 0 OR kind IN ('disable', 'delete',
      'revoke') AS removes_access
    FROM change
    WHERE change_set = ? AND state = 'failed'";

const HOLDS_OF_RECORDS: &str = "
    SELECT *
    FROM hold
    WHERE identity <> '' AND identity IN (SELECT value FROM json_each(?))
    UNION ALL
    SELECT *
    FROM hold
    WHERE identity = '' AND account <> 0 AND account IN (SELECT value FROM json_each(?))";

fn read_hold(row: &sqlx::sqlite::SqliteRow) -> Option<Hold> {
    Some(Hold {
        key: HoldKey {
            system: row.get("system"),
            object: ObjectType::parse(row.get("object"))?,
            identity: row.get("identity"),
            account: row.get("account"),
            kind: row.get("kind"),
        },
        takes_away: row.get("removes_access"),
        label: row.get("label"),
        cause: HoldCause::parse(row.get("cause"))?,
        reason: serde_json::from_str(row.get("reason")).ok()?,
        rule: row.get("rule"),
    })
}

impl Store {
    /// Everything that is on hold, by what it is: for a comparison with what is decided next.
    pub async fn all_holds(&self) -> Result<HashMap<HoldKey, Hold>, StoreError> {
        let rows = sqlx::query("SELECT * FROM hold")
            .fetch_all(&self.reader)
            .await?;
        let holds = rows.iter().filter_map(read_hold);
        Ok(holds.map(|hold| (hold.key.clone(), hold)).collect())
    }

    /// Deletes holds that ended, and stores those that began or changed.
    pub async fn keep_holds(
        &self,
        ended: Vec<HoldKey>,
        held: Vec<Hold>,
        now: Timestamp,
    ) -> Result<(), StoreError> {
        self.writer
            .run_relaxed(move |c| {
                Box::pin(async move {
                    remove(c, &ended).await?;
                    put(c, &held, &format_timestamp(now)).await
                })
            })
            .await
    }

    /// The number of records on hold by cause: each identity, or orphaned account, once. With
    /// `system`, only that system.
    pub async fn hold_counts(
        &self,
        system: Option<&str>,
    ) -> Result<Vec<(HoldCause, i64)>, StoreError> {
        let rows: Vec<(String, i64)> = sqlx::query_as(HOLD_COUNTS)
            .bind(system)
            .bind(system)
            .fetch_all(&self.reader)
            .await?;
        let mut counts: Vec<(HoldCause, i64)> = rows
            .into_iter()
            .filter_map(|(cause, count)| Some((HoldCause::parse(&cause)?, count)))
            .collect();
        counts.sort_unstable();
        Ok(counts)
    }

    /// Leavers with open access that a held change would revoke.
    pub async fn leavers_on_hold(&self) -> Result<Vec<(String, String)>, StoreError> {
        Ok(sqlx::query_as(LEAVERS_ON_HOLD)
            .fetch_all(&self.reader)
            .await?)
    }

    /// The holds, by cause and name.
    pub async fn list_holds(&self, filter: &HoldFilter) -> Result<Vec<HoldRow>, StoreError> {
        let mut query = QueryBuilder::<Sqlite>::new(
            "SELECT min(h.id) AS first, h.identity, h.object, h.label, h.cause, h.reason, min(h.rule) AS rule, min(h.since) AS since,
               group_concat(DISTINCT h.system) AS systems, group_concat(DISTINCT nullif(h.kind, '')) AS kinds,
               EXISTS (SELECT 1 FROM identity i WHERE i.id = h.identity) AS is_kept
             FROM hold h WHERE 1 = 1",
        );
        if let Some(cause) = filter.cause {
            query.push(" AND h.cause = ").push_bind(cause.as_str());
        }
        if let Some(identity) = &filter.identity {
            query.push(" AND h.identity = ").push_bind(identity.clone());
        }
        if let Some(system) = &filter.system {
            query.push(" AND h.system = ").push_bind(system.clone());
        }
        if let Some(search) = filter
            .search
            .as_deref()
            .map(str::trim)
            .filter(|search| !search.is_empty())
        {
            let like = format!(
                "%{}%",
                search
                    .replace('\\', "\\\\")
                    .replace('%', "\\%")
                    .replace('_', "\\_")
            );
            query
                .push(" AND (h.label LIKE ")
                .push_bind(like.clone())
                .push(" ESCAPE '\\' OR h.search_text LIKE ")
                .push_bind(like);
            query.push(" ESCAPE '\\')");
        }
        query.push(
            " GROUP BY iif(h.identity = '', h.account, h.identity), h.object, h.cause, h.reason",
        );
        if let Some(after) = filter.after {
            query.push(" HAVING min(h.id) > ").push_bind(after);
        }
        let rows = query
            .push(" ORDER BY first LIMIT ")
            .push_bind(filter.limit)
            .build()
            .fetch_all(&self.reader)
            .await?;
        let list = |text: Option<String>| {
            let mut all: Vec<String> = text
                .map(|text| text.split(',').map(str::to_owned).collect())
                .unwrap_or_default();
            all.sort_unstable();
            all
        };
        let read = |row: &sqlx::sqlite::SqliteRow| {
            Some(HoldRow {
                id: row.get("first"),
                identity: row.get("identity"),
                is_kept: row.get("is_kept"),
                object: ObjectType::parse(row.get("object"))?,
                label: row.get("label"),
                cause: HoldCause::parse(row.get("cause"))?,
                reason: serde_json::from_str(row.get("reason")).ok()?,
                rule: row.get("rule"),
                systems: list(row.get("systems")),
                kinds: list(row.get("kinds"))
                    .iter()
                    .filter_map(|kind| ChangeKind::parse(kind))
                    .collect(),
                since: row.get("since"),
            })
        };
        Ok(rows.iter().filter_map(read).collect())
    }

    /// What is on hold of these identities, and of these accounts without one.
    pub async fn holds_of_records(&self, records: &Records) -> Result<Vec<Hold>, StoreError> {
        let rows = sqlx::query(HOLDS_OF_RECORDS)
            .bind(serde_json::to_string(&records.identities)?)
            .bind(serde_json::to_string(&records.accounts)?)
            .fetch_all(&self.reader)
            .await?;
        Ok(rows.iter().filter_map(read_hold).collect())
    }

    /// The holds of one identity.
    pub async fn holds_of(&self, identity: &str) -> Result<Vec<HoldRow>, StoreError> {
        self.list_holds(&HoldFilter {
            identity: Some(identity.to_owned()),
            limit: 100,
            ..HoldFilter::default()
        })
        .await
    }

    /// What a run did to holds: the keys of changes that are done, and those that failed, as holds.
    pub async fn holds_of_run(&self, run: i64) -> Result<(Vec<HoldKey>, Vec<Hold>), StoreError> {
        let key = |row: &sqlx::sqlite::SqliteRow| {
            Some(HoldKey {
                system: row.get("system"),
                object: ObjectType::parse(row.get("object"))?,
                identity: row.get("identity"),
                account: row.get("account"),
                kind: row.get("kind"),
            })
        };
        let done = sqlx::query(SELECT_HOLD)
            .bind(run)
            .fetch_all(&self.reader)
            .await?;
        let failed = sqlx::query(SELECT_CHANGE)
            .bind(run)
            .fetch_all(&self.reader)
            .await?;
        let hold = |row: &sqlx::sqlite::SqliteRow| {
            let is_passing: bool = row.get("is_transient");
            Some(Hold {
                key: key(row)?,
                takes_away: row.get("removes_access"),
                label: row.get("label"),
                cause: if is_passing {
                    HoldCause::RetriedLater
                } else {
                    HoldCause::Failed
                },
                reason: Reason::new(ReasonKind::ChangeFailed {
                    error: row
                        .get::<Option<String>, _>("error")
                        .unwrap_or_else(|| "no answer".to_owned()),
                }),
                rule: None,
            })
        };
        Ok((
            done.iter().filter_map(key).collect(),
            failed.iter().filter_map(hold).collect(),
        ))
    }
}
