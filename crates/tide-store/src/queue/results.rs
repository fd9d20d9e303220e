//! Stores the results of confirmed changes, many in one commit and in few statements, so that a
//! fast target does not wait.

use crate::db::fixed_chunks;
use crate::decision_input::{blob_values, values_blob};
use crate::journal::{Hashed, JournalNote, append_all};
use crate::queue::Settled;
use crate::queue::changes::ChangeRow;
use crate::{Store, StoreError, format_timestamp};
use jiff::Timestamp;
use sqlx::{QueryBuilder, Row, Sqlite, SqliteConnection};
use std::collections::HashMap;
use std::sync::Arc;
use tide_core::decide::PASSWORD_MARK;
use tide_core::model::{AccountId, Observed, RuleMembership};
use tide_core::references::fold_reference;
use tide_core::states::{ChangeKind, LinkBasis};
use tide_core::{ObjectType, Value};

/// Maximum number of rows in one statement.
const ROWS: usize = 256;

/// A confirmed change with its rows prepared, so that the writer task does no other work.
#[derive(Debug, Clone)]
pub struct ChangeResult {
    /// The change, as it was stored.
    pub row: ChangeRow,
    settled: Settled,
    /// Its values differ from the stored ones.
    filled_in: bool,
    /// It is a single membership, without the state of its group.
    bare: bool,
    /// The encoded attributes of the account, and their hash.
    blob: Vec<u8>,
    hash: Vec<u8>,
    note: JournalNote,
}

impl ChangeResult {
    /// Prepares the result of a change. `filled_in`: its values were completed since it was stored.
    pub fn new(
        row: ChangeRow,
        filled_in: bool,
        settled: Settled,
        principal: &str,
    ) -> Result<Self, StoreError> {
        let change = &row.change;
        let note = JournalNote {
            principal: principal.to_owned(),
            act: format!("account.{}", change.kind),
            subject: change.identity.clone(),
            detail: format!("{} in {}: {}", change.kind, change.system, change.reason),
            values: Some(Hashed::of(serde_json::to_string(&change.values)?)),
        };
        let (blob, hash) = (
            settled.account.attributes.to_blob(),
            settled.account.attributes.hash().to_be_bytes().to_vec(),
        );
        Ok(ChangeResult {
            row,
            filled_in,
            bare: false,
            settled,
            blob,
            hash,
            note,
        })
    }

    /// Prepares the result of a membership, which is stored in the delta of its group.
    pub fn membership(
        row: ChangeRow,
        filled_in: bool,
        principal: &str,
    ) -> Result<Self, StoreError> {
        let nothing = Observed {
            key: String::new(),
            name: String::new(),
            attributes: Default::default(),
            fault: None,
            version: None,
            is_exact: true,
        };
        let settled = Settled {
            account: nothing,
            normalized: Vec::new(),
            merged: Vec::new(),
            note: None,
        };
        Ok(ChangeResult {
            bare: true,
            ..ChangeResult::new(row, filled_in, settled, principal)?
        })
    }
}

impl Store {
    /// Stores the result of a confirmed change in one commit: the account, the link of a new one,
    /// normalizations, and the journal.
    pub async fn settle_done(
        &self,
        row: &ChangeRow,
        settled: Settled,
        principal: &str,
        now: Timestamp,
    ) -> Result<AccountId, StoreError> {
        let one = ChangeResult::new(row.clone(), true, settled, principal)?;
        Ok(self
            .settle_all(Arc::new(vec![one]), now)
            .await?
            .first()
            .copied()
            .unwrap_or_default())
    }

    /// Stores several results, all or none. Returns their accounts in the same order.
    pub async fn settle_all(
        &self,
        all: Arc<Vec<ChangeResult>>,
        now: Timestamp,
    ) -> Result<Vec<AccountId>, StoreError> {
        self.writer
            .run_relaxed(move |c| {
                Box::pin(async move {
                    let mut accounts = Vec::with_capacity(all.len());
                    for some in fixed_chunks(&all, ROWS) {
                        accounts.extend(record_results(c, some, now).await?);
                    }
                    Ok(accounts)
                })
            })
            .await
    }
}

const RECORD_RESULTS: &str = "
    DELETE FROM drift_baseline
    WHERE account IN (SELECT value FROM json_each(?))";

async fn record_results(
    c: &mut SqliteConnection,
    all: &[ChangeResult],
    now: Timestamp,
) -> Result<Vec<AccountId>, StoreError> {
    let at = format_timestamp(now);
    let ids = store_accounts(c, all, &at).await?;
    let joined: Vec<JournalNote> = link_accounts(c, all, &ids, &at).await?;
    store_normalizations(c, all, &at, &ids).await?;
    for (one, id) in all
        .iter()
        .zip(&ids)
        .filter(|(one, _)| !one.settled.merged.is_empty())
    {
        store_managed_values(c, one, *id).await?;
    }
    join_groups(c, all, &ids, &at).await?;
    // A group that was read back in full contains it already.
    let whole_later = |at: usize, group: AccountId| {
        all.iter()
            .zip(&ids)
            .skip(at + 1)
            .any(|(one, id)| !one.bare && *id == group)
    };
    let beside = all
        .iter()
        .zip(&ids)
        .enumerate()
        .filter(|(at, (one, id))| one.bare && !whole_later(*at, **id));
    crate::snapshot::membership_delta::store_deltas(
        c,
        &beside.map(|(_, (one, id))| (one, *id)).collect::<Vec<_>>(),
        now,
    )
    .await?;
    store_password_marks(c, all, &ids).await?;
    // Our value equals the rules now, and the operator's answer was for this change.
    let json = serde_json::to_string(&ids)?;
    sqlx::query(RECORD_RESULTS)
        .bind(json)
        .execute(&mut *c)
        .await?;
    let prints: Vec<&str> = all
        .iter()
        .map(|one| one.row.change.fingerprint.as_str())
        .collect();
    let json = serde_json::to_string(&prints)?;
    for sql in [
        "DELETE FROM approval WHERE fingerprint IN (SELECT value FROM json_each(?))",
        "DELETE FROM change_override WHERE fingerprint IN (SELECT value FROM json_each(?))",
    ] {
        sqlx::query(sql).bind(&json).execute(&mut *c).await?;
    }
    mark_done(c, all, at, &ids).await?;
    let notes: Vec<&JournalNote> = joined
        .iter()
        .chain(all.iter().map(|one| &one.note))
        .collect();
    append_all(c, &notes, now).await?;
    Ok(ids)
}

/// Stores how the system normalized the values.
async fn store_normalizations(
    c: &mut SqliteConnection,
    all: &[ChangeResult],
    at: &str,
    ids: &[i64],
) -> Result<(), StoreError> {
    let normalized: Vec<_> = all
        .iter()
        .zip(ids)
        .flat_map(|(one, id)| {
            let exact = one.settled.account.is_exact;
            one.settled
                .normalized
                .iter()
                .map(move |value| (*id, exact, value))
        })
        .collect();
    for some in normalized.chunks(ROWS) {
        let mut query = QueryBuilder::<Sqlite>::new(
            "INSERT INTO value_normalization (account, attribute, sent_value, returned_value, is_certain, created_at) ",
        );
        query.push_values(some, |mut row, (id, exact, (attribute, sent, returned))| {
            row.push_bind(*id)
                .push_bind(attribute)
                .push_bind(values_blob(sent))
                .push_bind(values_blob(returned));
            row.push_bind(*exact).push_bind(at);
        });
        // A state read after the write may contain a change that others made right after us, and
        // that is not reported again.
        query.push(
            " ON CONFLICT DO UPDATE SET is_certain = excluded.is_certain OR (sent_value = excluded.sent_value AND returned_value = excluded.returned_value),
              sent_value = excluded.sent_value, returned_value = excluded.returned_value, created_at = excluded.created_at",
        );
        query.build().execute(&mut *c).await?;
    }
    Ok(())
}

/// Marks the changes as done.
async fn mark_done(
    c: &mut SqliteConnection,
    all: &[ChangeResult],
    at: String,
    ids: &[i64],
) -> Result<(), StoreError> {
    let mut query = QueryBuilder::<Sqlite>::new("WITH done (id, account, values_json, error) AS (");
    query.push_values(all.iter().zip(ids), |mut row, (one, id)| {
        // Pending references were resolved when it was sent.
        let vals = one
            .note
            .values
            .as_ref()
            .filter(|_| one.filled_in)
            .map(|values| &values.json);
        row.push_bind(one.row.id)
            .push_bind(*id)
            .push_bind(vals)
            .push_bind(&one.settled.note);
    });
    query.push(
        ") UPDATE change SET state = 'done', account = done.account, values_json = ifnull(done.values_json, change.values_json), error = done.error, remedy = NULL,
            settled_at = ",
    );
    query
        .push_bind(&at)
        .push(" FROM done WHERE change.id = done.id");
    query.build().execute(&mut *c).await?;
    Ok(())
}

async fn store_accounts(
    c: &mut SqliteConnection,
    all: &[ChangeResult],
    at: &str,
) -> Result<Vec<AccountId>, StoreError> {
    // A deleted account becomes absent, and keeps its last state.
    let (gone, there): (Vec<&ChangeResult>, Vec<&ChangeResult>) = all
        .iter()
        .filter(|one| !one.bare)
        .partition(|one| one.row.change.kind == ChangeKind::Delete);
    mark_deleted(c, at, gone).await?;
    if there.is_empty() {
        return Ok(all
            .iter()
            .map(|one| one.row.change.account.unwrap_or_default())
            .collect());
    }
    let rows = upsert_accounts(c, at, there).await?;
    if all
        .iter()
        .any(|one| !one.bare && one.row.change.object == ObjectType::Group)
    {
        crate::snapshot::membership_delta::drop_deltas(
            c,
            &rows.iter().map(|row| row.get("id")).collect::<Vec<_>>(),
        )
        .await?;
    }
    let found: HashMap<(&str, &str), i64> = rows
        .iter()
        .map(|row| ((row.get("system"), row.get("key")), row.get("id")))
        .collect();
    let id = |one: &ChangeResult| {
        found
            .get(&(
                one.row.change.system.as_str(),
                one.settled.account.key.as_str(),
            ))
            .copied()
    };
    let own = |one: &ChangeResult| {
        one.row
            .change
            .account
            .filter(|_| one.bare || one.row.change.kind == ChangeKind::Delete)
    };
    all.iter()
        .map(|one| {
            own(one)
                .or_else(|| id(one))
                .ok_or_else(|| StoreError::Missing {
                    what: "account",
                    name: one.settled.account.key.clone(),
                })
        })
        .collect()
}

const MARK_DELETED: &str = "
    UPDATE account SET absent_since = ?, absence_confirmed = 1, seen_at = ?, written_at = ?
    WHERE id = ?";

/// Marks deleted accounts as absent.
async fn mark_deleted(
    c: &mut SqliteConnection,
    at: &str,
    gone: Vec<&ChangeResult>,
) -> Result<(), StoreError> {
    for one in &gone {
        sqlx::query(MARK_DELETED)
            .bind(at)
            .bind(at)
            .bind(at)
            .bind(one.row.change.account)
            .execute(&mut *c)
            .await?;
    }
    Ok(())
}

/// Stores the accounts that were written.
async fn upsert_accounts(
    c: &mut SqliteConnection,
    at: &str,
    there: Vec<&ChangeResult>,
) -> Result<Vec<sqlx::sqlite::SqliteRow>, StoreError> {
    let mut query = QueryBuilder::<Sqlite>::new(
        "INSERT INTO account (system, object, key, name, attributes, hash, version, first_seen, seen_at, written_at) ",
    );
    query.push_values(there, |mut row, one| {
        let (change, account) = (&one.row.change, &one.settled.account);
        row.push_bind(&change.system)
            .push_bind(change.object.as_str())
            .push_bind(&account.key)
            .push_bind(&account.name);
        row.push_bind(&one.blob)
            .push_bind(&one.hash)
            .push_bind(account.version.as_deref());
        row.push_bind(at).push_bind(at).push_bind(at);
    });
    let keep = "excluded.version < account.version
         OR (excluded.version IS NULL AND account.has_conflicting_event AND account.hash <> excluded.hash)";
    query.push(" ON CONFLICT (system, key) DO UPDATE SET ");
    for column in ["name", "attributes", "hash", "version"] {
        query.push(format!(
            "{column} = CASE WHEN {keep} THEN account.{column} ELSE excluded.{column} END, "
        ));
    }
    query.push(
        "has_conflicting_event = 0, seen_at = excluded.seen_at, written_at = excluded.written_at, absent_since = NULL, absence_confirmed = 0, fault = NULL RETURNING id, system, key",
    );
    let rows = query.build().fetch_all(&mut *c).await?;
    Ok(rows)
}

/// Links created accounts. Returns the journal entries.
async fn link_accounts(
    c: &mut SqliteConnection,
    all: &[ChangeResult],
    ids: &[AccountId],
    at: &str,
) -> Result<Vec<JournalNote>, StoreError> {
    let basis = LinkBasis::created();
    let made: Vec<(&ChangeResult, i64)> = all
        .iter()
        .zip(ids)
        .filter(|(one, _)| one.row.change.account.is_none() && !one.row.change.identity.is_empty())
        .map(|(one, id)| (one, *id))
        .collect();
    if made.is_empty() {
        return Ok(Vec::new());
    }
    let mut query = QueryBuilder::<Sqlite>::new(
        "INSERT INTO link (account, identity, created_at, origin, origin_name, principal) ",
    );
    query.push_values(&made, |mut row, (one, id)| {
        row.push_bind(*id)
            .push_bind(&one.row.change.identity)
            .push_bind(at)
            .push_bind(basis.origin.as_str())
            .push_bind(&basis.name)
            .push_bind(&one.note.principal);
    });
    query.push(" ON CONFLICT DO NOTHING RETURNING account");
    let new: Vec<i64> = query.build_query_scalar().fetch_all(&mut *c).await?;
    let note = |(one, id): &(&ChangeResult, i64)| JournalNote {
        principal: one.note.principal.clone(),
        act: "identity.joined".to_owned(),
        subject: one.row.change.identity.clone(),
        detail: format!("account {id}: {basis}"),
        values: None,
    };
    Ok(made
        .iter()
        .filter(|(_, id)| new.contains(id))
        .map(note)
        .collect())
}

const STORE_PASSWORD_MARKS: &str = "
    INSERT INTO password_hash_mark (account, mark)
    VALUES (?,?)
    ON CONFLICT DO UPDATE SET mark = excluded.mark";

/// Stores the marks of copied password hashes.
async fn store_password_marks(
    c: &mut SqliteConnection,
    all: &[ChangeResult],
    ids: &[AccountId],
) -> Result<(), StoreError> {
    for (one, account) in all
        .iter()
        .zip(ids)
        .filter(|(one, _)| one.row.change.kind == ChangeKind::Password)
    {
        let mark = one
            .row
            .change
            .values
            .iter()
            .find(|value| value.attribute == PASSWORD_MARK)
            .and_then(|value| value.after.first());
        if let Some(mark) = mark {
            sqlx::query(STORE_PASSWORD_MARKS)
                .bind(*account)
                .bind(mark.to_string())
                .execute(&mut *c)
                .await?;
        }
    }
    Ok(())
}

/// The marks of copied password hashes: all, or those of some accounts (a JSON list).
pub(crate) async fn load_password_marks(
    c: &mut SqliteConnection,
    only: Option<&str>,
) -> Result<HashMap<AccountId, String>, StoreError> {
    let rows: Vec<(AccountId, String)> = match only {
        None => {
            sqlx::query_as("SELECT account, mark FROM password_hash_mark")
                .fetch_all(&mut *c)
                .await?
        }
        Some(ids) => {
            let sql = "SELECT c.account, c.mark FROM json_each(?) k CROSS JOIN password_hash_mark c ON c.account = k.value";
            sqlx::query_as(sql)
                .bind(ids.to_owned())
                .fetch_all(&mut *c)
                .await?
        }
    };
    Ok(rows.into_iter().collect())
}

/// Stores memberships that rules granted, and deletes revoked ones.
async fn join_groups(
    c: &mut SqliteConnection,
    all: &[ChangeResult],
    ids: &[AccountId],
    at: &str,
) -> Result<(), StoreError> {
    for (one, group) in all
        .iter()
        .zip(ids)
        .filter(|(one, _)| one.row.change.is_membership())
    {
        let change = &one.row.change;
        if change.kind == ChangeKind::Grant {
            let member = change
                .values
                .first()
                .and_then(|value| value.after.first())
                .map(Value::to_string)
                .unwrap_or_default();
            join(c, &change.identity, *group, &member, at).await?;
        } else {
            let sql = "DELETE FROM rule_membership WHERE identity = ? AND account = ?";
            sqlx::query(sql)
                .bind(&change.identity)
                .bind(*group)
                .execute(&mut *c)
                .await?;
        }
    }
    Ok(())
}

/// Stores a membership that a rule granted, with the name that was written.
pub(crate) async fn join(
    c: &mut SqliteConnection,
    identity: &str,
    group: AccountId,
    member: &str,
    at: &str,
) -> Result<(), StoreError> {
    let sql = "INSERT INTO rule_membership (identity, account, created_at, member, folded) VALUES (?,?,?,?,?)
         ON CONFLICT DO UPDATE SET member = excluded.member, folded = excluded.folded";
    let query = sqlx::query(sql)
        .bind(identity)
        .bind(group)
        .bind(at)
        .bind(member)
        .bind(fold_reference(member));
    query.execute(c).await?;
    Ok(())
}

/// Memberships that rules own: all, or those of some identities and those written under some names
/// (JSON lists).
pub(crate) async fn load_rule_memberships(
    c: &mut SqliteConnection,
    only: Option<(&str, &str)>,
) -> Result<Vec<RuleMembership>, StoreError> {
    let rows = match only {
        None => {
            sqlx::query("SELECT * FROM rule_membership ORDER BY identity, account")
                .fetch_all(&mut *c)
                .await?
        }
        Some((ids, names)) => {
            let sql = "SELECT j.* FROM json_each(?) k CROSS JOIN rule_membership j ON j.identity = k.value
                 UNION SELECT j.* FROM json_each(?) k CROSS JOIN rule_membership j ON j.folded = k.value ORDER BY 1, 2";
            sqlx::query(sql)
                .bind(ids.to_owned())
                .bind(names.to_owned())
                .fetch_all(&mut *c)
                .await?
        }
    };
    let made = |row: &sqlx::sqlite::SqliteRow| {
        crate::parse_timestamp(row.get("created_at")).unwrap_or(Timestamp::MIN)
    };
    let one = |row: &sqlx::sqlite::SqliteRow| {
        let (identity, group) = (row.get("identity"), row.get("account"));
        RuleMembership {
            identity,
            group,
            created_at: made(row),
            member: row.get("member"),
            folded: row.get("folded"),
        }
    };
    Ok(rows.iter().map(one).collect())
}

const SELECT_MANAGED_VALUE: &str = "
    SELECT values_blob
    FROM managed_value
    WHERE account = ? AND attribute = ?";

const INSERT_MANAGED_VALUE: &str = "
    INSERT INTO managed_value (account, attribute, values_blob)
    VALUES (?,?,?)
    ON CONFLICT DO UPDATE SET values_blob = excluded.values_blob";

/// Stores our values of merged lists.
async fn store_managed_values(
    c: &mut SqliteConnection,
    one: &ChangeResult,
    account: AccountId,
) -> Result<(), StoreError> {
    for value in one
        .row
        .change
        .values
        .iter()
        .filter(|value| one.settled.merged.contains(&value.attribute))
    {
        let known: Option<Vec<u8>> = sqlx::query_scalar(SELECT_MANAGED_VALUE)
            .bind(account)
            .bind(&value.attribute)
            .fetch_optional(&mut *c)
            .await?;
        let known = known
            .as_deref()
            .map(blob_values)
            .transpose()?
            .unwrap_or_default();
        // A value that existed before and is not ours belongs to others, even if the rules give it
        // too.
        let ours: Vec<Value> = value
            .after
            .iter()
            .filter(|v| known.contains(v) || !value.before.contains(v))
            .cloned()
            .collect();
        sqlx::query(INSERT_MANAGED_VALUE)
            .bind(account)
            .bind(&value.attribute)
            .bind(values_blob(&ours))
            .execute(&mut *c)
            .await?;
    }
    Ok(())
}
