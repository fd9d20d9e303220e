//! The membership delta: single membership changes, stored beside their group until the group is
//! stored in full again. So a group with tens of thousands of members is neither read nor written
//! for one of them.

use crate::decision_input::{blob_values, values_blob};
use crate::queue::results::ChangeResult;
use crate::{StoreError, format_timestamp};
use jiff::Timestamp;
use sqlx::{Row, SqliteConnection};
use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use tide_core::compare::ValueChange;
use tide_core::model::AccountId;
use tide_core::references::fold_reference;
use tide_core::{Account, Attributes, ObjectType, Value};

/// Size of a delta before it is compacted, plus one entry for this many bytes of the group: a
/// larger group is compacted less often.
const BESIDE: i64 = 256;
const BYTES: i64 = 512;
/// Every 16th membership change checks whether the delta should be compacted.
const LOOK: i64 = 16;

/// One changed membership.
struct Since {
    account: AccountId,
    attribute: String,
    folded: String,
    value: Value,
    there: bool,
}

const SELECT_MEMBERSHIP_DELTA: &str = "
    SELECT account, attribute, folded, value, is_member
    FROM membership_delta";

async fn since(
    c: &mut SqliteConnection,
    groups: Option<&[AccountId]>,
) -> Result<Vec<Since>, StoreError> {
    let rows = match groups {
        None => sqlx::query(SELECT_MEMBERSHIP_DELTA).fetch_all(c).await?,
        Some(groups) => {
            let sql = "SELECT m.account, m.attribute, m.folded, m.value, m.is_member FROM json_each(?) k CROSS JOIN membership_delta m ON m.account = k.value";
            sqlx::query(sql)
                .bind(serde_json::to_string(groups)?)
                .fetch_all(c)
                .await?
        }
    };
    let one = |row: &sqlx::sqlite::SqliteRow| {
        let value = blob_values(row.get("value"))?
            .into_iter()
            .next()
            .unwrap_or(Value::Text(String::new()));
        let (account, attribute) = (row.get("account"), row.get("attribute"));
        Ok(Since {
            account,
            attribute,
            folded: row.get("folded"),
            value,
            there: row.get("is_member"),
        })
    };
    rows.iter().map(one).collect()
}

/// The members of a group with its delta applied.
fn apply(attributes: &mut Attributes, changes: &[Since]) {
    let mut by_attribute: BTreeMap<&str, Vec<&Since>> = BTreeMap::new();
    for change in changes {
        by_attribute
            .entry(&change.attribute)
            .or_default()
            .push(change);
    }
    for (attribute, changes) in by_attribute {
        let name = attributes
            .iter()
            .map(|(name, _)| name)
            .find(|name| name.eq_ignore_ascii_case(attribute));
        let name = name.unwrap_or(attribute).to_owned();
        let gone: HashSet<&Value> = changes
            .iter()
            .filter(|change| !change.there)
            .map(|change| &change.value)
            .collect();
        let mut members = attributes.get(attribute).to_vec();
        let before = members.len();
        members.retain(|member| !gone.contains(member));
        if before - members.len() < gone.len() {
            // The group may spell the name differently.
            let gone: HashSet<&str> = changes
                .iter()
                .filter(|change| !change.there)
                .map(|change| change.folded.as_str())
                .collect();
            members.retain(|member| !gone.contains(fold_reference(&member.to_string()).as_str()));
        }
        members.extend(
            changes
                .iter()
                .filter(|change| change.there)
                .map(|change| change.value.clone()),
        );
        attributes.set(name, members);
    }
}

/// Applies the deltas to groups. `all`: `accounts` contains all accounts.
pub(crate) async fn merge_deltas(
    c: &mut SqliteConnection,
    accounts: &mut [Account],
    all: bool,
) -> Result<(), StoreError> {
    let mut groups: HashMap<AccountId, &mut Account> = accounts
        .iter_mut()
        .filter(|account| account.kind == ObjectType::Group)
        .map(|account| (account.id, account))
        .collect();
    if groups.is_empty() {
        return Ok(());
    }
    let ids: Vec<AccountId> = groups.keys().copied().collect();
    for changes in since(c, (!all).then_some(ids.as_slice()))
        .await?
        .chunk_by(|one, other| one.account == other.account)
    {
        if let Some(group) = groups.get_mut(&changes[0].account) {
            apply(&mut group.attributes, changes);
        }
    }
    Ok(())
}

/// The groups among these that have a delta, with the delta applied.
pub(crate) async fn whole(
    c: &mut SqliteConnection,
    groups: &[AccountId],
) -> Result<HashMap<AccountId, Vec<u8>>, StoreError> {
    let mut all = HashMap::new();
    for changes in since(c, Some(groups))
        .await?
        .chunk_by(|one, other| one.account == other.account)
    {
        let id = changes[0].account;
        let blob: Vec<u8> = sqlx::query_scalar("SELECT attributes FROM account WHERE id = ?")
            .bind(id)
            .fetch_one(&mut *c)
            .await?;
        let mut attributes = Attributes::from_blob(&blob)?;
        apply(&mut attributes, changes);
        all.insert(id, attributes.to_blob());
    }
    Ok(all)
}

const KEEP_WHOLE: &str = "
    UPDATE account SET attributes = ?, hash = ?, written_at = max(coalesce(written_at, ''),
      (SELECT max(m.at) FROM membership_delta m WHERE m.account = ?))
    WHERE id = ?";

/// Stores a group in full, as returned by [`whole`], with the time of its last change: a read that
/// began earlier counts as older.
pub(crate) async fn keep_whole(
    c: &mut SqliteConnection,
    group: AccountId,
    blob: &[u8],
) -> Result<(), StoreError> {
    sqlx::query(KEEP_WHOLE)
        .bind(blob)
        .bind(Attributes::hash_of(blob).to_be_bytes().as_slice())
        .bind(group)
        .bind(group)
        .execute(&mut *c)
        .await?;
    drop_deltas(c, &[group]).await
}

const DROP_DELTAS: &str = "
    DELETE FROM membership_delta
    WHERE account IN (SELECT value FROM json_each(?))";

/// Deletes the deltas of groups that are stored in full.
pub(crate) async fn drop_deltas(
    c: &mut SqliteConnection,
    groups: &[AccountId],
) -> Result<(), StoreError> {
    let json = serde_json::to_string(groups)?;
    sqlx::query(DROP_DELTAS).bind(json).execute(c).await?;
    Ok(())
}

/// The added and removed members of a change, with the member attribute.
fn moves(values: &[ValueChange]) -> Vec<(&str, &Value, bool)> {
    let mut all = Vec::new();
    for value in values {
        all.extend(
            value
                .before
                .iter()
                .filter(|one| !value.after.contains(one))
                .map(|one| (value.attribute.as_str(), one, false)),
        );
        all.extend(
            value
                .after
                .iter()
                .map(|one| (value.attribute.as_str(), one, true)),
        );
    }
    all
}

const INSERT_MEMBERSHIP_DELTA: &str = "
    INSERT INTO membership_delta (account, attribute, folded, value, is_member, at)
    VALUES (?,?,?,?,?,?)
    ON CONFLICT DO UPDATE SET value = excluded.value, is_member = excluded.is_member,
      at = excluded.at";

const INSERT_DIRTY_RECORD: &str = "
    INSERT INTO dirty_record (identity, group_account, member, is_member)
    VALUES (?,?,?,?)";

/// Adds confirmed memberships to the deltas of their groups.
pub(crate) async fn store_deltas(
    c: &mut SqliteConnection,
    all: &[(&ChangeResult, AccountId)],
    now: Timestamp,
) -> Result<(), StoreError> {
    if all.is_empty() {
        return Ok(());
    }
    let at = format_timestamp(now);
    for (one, group) in all {
        let change = &one.row.change;
        for (attribute, member, there) in moves(&change.values) {
            let folded = fold_reference(&member.to_string());
            sqlx::query(INSERT_MEMBERSHIP_DELTA)
                .bind(*group)
                .bind(attribute)
                .bind(&folded)
                .bind(values_blob(std::slice::from_ref(member)))
                .bind(there)
                .bind(&at)
                .execute(&mut *c)
                .await?;
            sqlx::query(INSERT_DIRTY_RECORD)
                .bind(Some(&change.identity).filter(|id| !id.is_empty()))
                .bind(*group)
                .bind(&folded)
                .bind(there)
                .execute(&mut *c)
                .await?;
        }
    }
    // The size is not checked for each change.
    let now_and_then = |one: &ChangeResult| {
        one.row.id % LOOK == 0
            || one
                .row
                .change
                .values
                .iter()
                .any(|value| value.after.len() > 1)
    };
    let groups: BTreeSet<AccountId> = all
        .iter()
        .filter(|(one, _)| now_and_then(one))
        .map(|(_, group)| *group)
        .collect();
    let mut many = Vec::new();
    for group in groups {
        let sql = "SELECT (SELECT count(*) FROM membership_delta m WHERE m.account = a.id) > max(?, length(a.attributes) / ?) FROM account a WHERE a.id = ?";
        if sqlx::query_scalar(sql)
            .bind(BESIDE)
            .bind(BYTES)
            .bind(group)
            .fetch_one(&mut *c)
            .await?
        {
            many.push(group);
        }
    }
    for (group, blob) in whole(c, &many).await? {
        keep_whole(c, group, &blob).await?;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn change(member: &str, there: bool) -> Since {
        Since {
            account: 1,
            attribute: "member".into(),
            folded: fold_reference(member),
            value: Value::Reference(member.into()),
            there,
        }
    }

    #[test]
    fn a_member_is_found_however_the_group_spells_it() {
        let named = |names: &[&str]| {
            names
                .iter()
                .map(|name| Value::Reference((*name).into()))
                .collect::<Vec<_>>()
        };
        let mut group: Attributes = [(
            "member".to_owned(),
            named(&["UID=Ada, dc=x", "uid=bo,dc=x"]),
        )]
        .into_iter()
        .collect();
        apply(
            &mut group,
            &[
                change("uid=ada,dc=x", false),
                change("uid=cy,dc=x", true),
                change("uid=bo,dc=x", true),
            ],
        );
        assert_eq!(group.get("member"), named(&["uid=bo,dc=x", "uid=cy,dc=x"]));
        apply(
            &mut group,
            &[change("uid=bo,dc=x", false), change("uid=cy,dc=x", false)],
        );
        assert!(
            group.get("member").is_empty(),
            "a group without members has no such attribute"
        );
    }
}
