//! Resources and events that other systems push: SCIM resources as they are returned, each with
//! its account.

use crate::journal::NewJournalEntry;
use crate::{Store, StoreError, format_timestamp};
use jiff::Timestamp;
use sqlx::{FromRow as _, Row, SqliteConnection};
use tide_core::model::Observed;
use tide_core::states::EventKind;
use tide_core::{Attributes, ObjectType};

/// A resource that was pushed.
#[derive(Debug, Clone, sqlx::FromRow)]
pub struct PushedRow {
    /// Its position in a list.
    pub row: i64,
    /// Its id.
    pub id: String,
    /// How often it was written.
    pub version: i64,
    /// The resource, as JSON.
    pub body: String,
    /// When it was created.
    pub created_at: String,
    /// When it was last changed.
    pub changed_at: String,
}

/// A resource to keep.
#[derive(Debug, Clone)]
pub struct NewPushed {
    /// The system that pushes.
    pub system: String,
    /// Its type.
    pub object: ObjectType,
    /// Its id.
    pub id: String,
    /// The version that it replaces; none for a new one.
    pub replaces: Option<i64>,
    /// Its name, folded: unique among a system's users.
    pub name_key: String,
    /// The caller's own id for it.
    pub external_id: Option<String>,
    /// The resource, as JSON.
    pub body: String,
    /// The ids of a group's members.
    pub members: Vec<String>,
    /// The account that it is.
    pub account: Observed,
    /// The system that pushes.
    pub principal: String,
}

/// The key by which a resource is looked up.
#[derive(Debug, Clone, Copy)]
pub enum PushedKey<'k> {
    /// By its id.
    Id(&'k str),
    /// By its name, folded.
    Name(&'k str),
}

/// A pushed resource.
#[derive(Debug, Clone, Copy)]
pub struct PushedId<'a> {
    /// The system that pushed it.
    pub system: &'a str,
    /// Its type.
    pub object: ObjectType,
    /// Its id.
    pub id: &'a str,
}

/// A new event.
#[derive(Debug, Clone)]
pub struct NewEvent {
    /// The system that sends it.
    pub system: String,
    /// Our id for it.
    pub id: String,
    /// What happened.
    pub kind: EventKind,
    /// The key of the record.
    pub key: String,
    /// Its values.
    pub attributes: Attributes,
    /// The event, as JSON.
    pub body: String,
    /// The sender's id for it: the same event may come again.
    pub external_id: Option<String>,
    /// Its sequence number among the events of its record. A later one is greater.
    pub sequence: Option<i64>,
    /// When it happened.
    pub occurred_at: Option<Timestamp>,
    /// The system that sends.
    pub principal: String,
}

/// The result of receiving an event.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum EventTaken {
    /// It was stored and applied to its record.
    Kept,
    /// It arrived after a later event of its record: it was stored, and the record stays as it
    /// is.
    Outdated,
    /// It was received before, under this id.
    Repeated(String),
    /// Another event with its id was received, stored under this id.
    OtherContent(String),
    /// It is not a joiner and its record is unknown. Nothing is stored.
    UnknownKey,
    /// It is a mover whose record has left. Nothing is stored.
    Left,
}

/// An event that was pushed.
#[derive(Debug, Clone, sqlx::FromRow)]
pub struct EventRow {
    /// Its id.
    pub id: String,
    /// What happened.
    #[sqlx(try_from = "String")]
    pub kind: EventKind,
    /// The key of the account that it is about.
    pub key: String,
    /// The event, as JSON.
    pub body: String,
    /// When it came.
    pub created_at: String,
    /// It came after a later one of its record: nothing was done.
    pub is_outdated: bool,
    /// The account, while it is there.
    pub account: Option<i64>,
    /// The identity that it is linked to.
    pub identity: Option<String>,
}

const PUSHED_BY_EXTERNAL_ID: &str = "
    SELECT *
    FROM inbound_resource
    WHERE system = ? AND object = ? AND external_id = ?
    ORDER BY row";

const PUSHED_AFTER: &str = "
    SELECT *
    FROM inbound_resource
    WHERE system = ? AND object = ? AND row > ?
    ORDER BY row
    LIMIT ?";

const PUSHED_PAGE: &str = "
    SELECT *
    FROM inbound_resource
    WHERE system = ? AND object = ?
    ORDER BY row
    LIMIT ? OFFSET ?";

const GROUPS_OF_PUSHED: &str = "
    SELECT p.id, coalesce(json_extract(p.body, '$.displayName'), '')
    FROM inbound_member m
    JOIN inbound_resource p ON p.system = m.system AND p.id = m.group_id
    WHERE m.system = ? AND m.member = ?
    ORDER BY p.row";

const DELETE_INBOUND_RESOURCE: &str = "
    DELETE FROM inbound_resource
    WHERE system = ? AND object = ? AND id = ? AND version = coalesce(?, version)";

const UPDATE_ACCOUNT: &str = "
    UPDATE account SET absent_since = ?, absence_confirmed = 1
    WHERE system = ? AND key = ? AND absent_since IS NULL";

const FIND_EVENT: &str = "
    SELECT e.*, a.id AS account, l.identity AS identity
    FROM inbound_event e
    LEFT JOIN account a ON a.system = e.system AND a.key = e.key
    LEFT JOIN link l ON l.account = a.id AND l.ended_at IS NULL
    WHERE e.system = ? AND e.id = ?";

const SET_EVENT_SHAPE: &str = "
    INSERT INTO event_shape (system, shape, created_at)
    VALUES (?,?,?)
    ON CONFLICT (system) DO UPDATE SET shape = excluded.shape, created_at = excluded.created_at";

impl Store {
    /// Stores a resource and its account in one transaction. If the name is taken or the version
    /// is no longer current, nothing is stored.
    pub async fn put_pushed(
        &self,
        new: NewPushed,
        now: Timestamp,
    ) -> Result<PushedRow, StoreError> {
        self.writer
            .run(move |c| Box::pin(async move { put(c, new, now).await }))
            .await
    }

    /// One resource.
    pub async fn find_pushed(
        &self,
        system: &str,
        object: ObjectType,
        key: PushedKey<'_>,
    ) -> Result<Option<PushedRow>, StoreError> {
        let (sql, value) = match key {
            PushedKey::Id(id) => (
                "SELECT * FROM inbound_resource WHERE system = ? AND object = ? AND id = ?",
                id,
            ),
            PushedKey::Name(name) => (
                "SELECT * FROM inbound_resource WHERE system = ? AND object = ? AND name_key = ? ORDER BY row LIMIT 1",
                name,
            ),
        };
        Ok(sqlx::query_as(sql)
            .bind(system)
            .bind(object.as_str())
            .bind(value)
            .fetch_optional(&self.reader)
            .await?)
    }

    /// Resources that the caller knows by an id of its own, in the order in which they came.
    pub async fn pushed_by_external_id(
        &self,
        system: &str,
        object: ObjectType,
        id: &str,
    ) -> Result<Vec<PushedRow>, StoreError> {
        Ok(sqlx::query_as(PUSHED_BY_EXTERNAL_ID)
            .bind(system)
            .bind(object.as_str())
            .bind(id)
            .fetch_all(&self.reader)
            .await?)
    }

    /// Resources in the order in which they came, after one.
    pub async fn pushed_after(
        &self,
        system: &str,
        object: ObjectType,
        after: i64,
        limit: i64,
    ) -> Result<Vec<PushedRow>, StoreError> {
        Ok(sqlx::query_as(PUSHED_AFTER)
            .bind(system)
            .bind(object.as_str())
            .bind(after)
            .bind(limit)
            .fetch_all(&self.reader)
            .await?)
    }

    /// Resources by position, for a page of an unfiltered list.
    pub async fn pushed_page(
        &self,
        system: &str,
        object: ObjectType,
        skip: i64,
        limit: i64,
    ) -> Result<(i64, Vec<PushedRow>), StoreError> {
        let total: i64 = sqlx::query_scalar(
            "SELECT count(*) FROM inbound_resource WHERE system = ? AND object = ?",
        )
        .bind(system)
        .bind(object.as_str())
        .fetch_one(&self.reader)
        .await?;
        let rows = sqlx::query_as(PUSHED_PAGE)
            .bind(system)
            .bind(object.as_str())
            .bind(limit)
            .bind(skip)
            .fetch_all(&self.reader)
            .await?;
        Ok((total, rows))
    }

    /// The groups that name a resource as a member: their ids and their names.
    pub async fn groups_of_pushed(
        &self,
        system: &str,
        member: &str,
    ) -> Result<Vec<(String, String)>, StoreError> {
        let rows = sqlx::query(GROUPS_OF_PUSHED)
            .bind(system)
            .bind(member)
            .fetch_all(&self.reader)
            .await?;
        Ok(rows.iter().map(|row| (row.get(0), row.get(1))).collect())
    }

    /// Deletes a resource; its account becomes absent. False if it does not exist or has another
    /// version than the one given.
    pub async fn remove_pushed(
        &self,
        resource: PushedId<'_>,
        version: Option<i64>,
        principal: &str,
        now: Timestamp,
    ) -> Result<bool, StoreError> {
        let object = resource.object;
        let (system, id) = (resource.system.to_owned(), resource.id.to_owned());
        let principal = principal.to_owned();
        self.writer
            .run(move |c| {
                Box::pin(async move {
                    let done = sqlx::query(DELETE_INBOUND_RESOURCE)
                        .bind(&system)
                        .bind(object.as_str())
                        .bind(&id)
                        .bind(version)
                        .execute(&mut *c)
                        .await?;
                    if done.rows_affected() == 0 {
                        return Ok(false);
                    }
                    for sql in [
                        "DELETE FROM inbound_member WHERE system = ? AND group_id = ?",
                        "DELETE FROM inbound_member WHERE system = ? AND member = ?",
                    ] {
                        sqlx::query(sql)
                            .bind(&system)
                            .bind(&id)
                            .execute(&mut *c)
                            .await?;
                    }
                    sqlx::query(UPDATE_ACCOUNT)
                        .bind(format_timestamp(now))
                        .bind(&system)
                        .bind(&id)
                        .execute(&mut *c)
                        .await?;
                    NewJournalEntry::new(&principal, "push.removed", &format!("{system}/{id}"))
                        .append(c, now)
                        .await?;
                    Ok(true)
                })
            })
            .await
    }

    /// Stores an event, in one job, so that two events of one record cannot lose each other's
    /// values.
    pub async fn take_event(
        &self,
        new: NewEvent,
        now: Timestamp,
    ) -> Result<EventTaken, StoreError> {
        self.writer
            .run(move |c| Box::pin(async move { store_event(c, new, now).await }))
            .await
    }

    /// An event, with what it came to.
    pub async fn find_event(&self, system: &str, id: &str) -> Result<EventRow, StoreError> {
        sqlx::query_as(FIND_EVENT)
            .bind(system)
            .bind(id)
            .fetch_optional(&self.reader)
            .await?
            .ok_or_else(|| StoreError::Missing {
                what: "event",
                name: id.to_owned(),
            })
    }

    /// An account of a system by its key.
    pub async fn account_by_key(
        &self,
        system: &str,
        key: &str,
    ) -> Result<Option<tide_core::Account>, StoreError> {
        let row = sqlx::query("SELECT * FROM account WHERE system = ? AND key = ?")
            .bind(system)
            .bind(key)
            .fetch_optional(&self.reader)
            .await?;
        row.as_ref()
            .map(crate::snapshot::accounts::read_account)
            .transpose()
    }

    /// Stores the shape of a system's events.
    pub async fn set_event_shape(
        &self,
        system: &str,
        shape: &str,
        principal: &str,
        now: Timestamp,
    ) -> Result<(), StoreError> {
        let (system, shape, principal) =
            (system.to_owned(), shape.to_owned(), principal.to_owned());
        self.writer
            .run(move |c| {
                Box::pin(async move {
                    sqlx::query(SET_EVENT_SHAPE)
                        .bind(&system)
                        .bind(&shape)
                        .bind(format_timestamp(now))
                        .execute(&mut *c)
                        .await?;
                    NewJournalEntry::new(&principal, "event.shape", &system)
                        .append(c, now)
                        .await
                })
            })
            .await
    }

    /// The shape that a system's events have.
    pub async fn event_shape(&self, system: &str) -> Result<Option<String>, StoreError> {
        Ok(
            sqlx::query_scalar("SELECT shape FROM event_shape WHERE system = ?")
                .bind(system)
                .fetch_optional(&self.reader)
                .await?,
        )
    }
}

const IS_OUTDATED: &str = "
    SELECT max(sequence), max(occurred_at)
    FROM inbound_event
    WHERE system = ? AND key = ? AND NOT is_outdated";

/// Whether a later event of the same record arrived before this one: by sequence number if the
/// sender gives them, otherwise by time.
async fn is_outdated(c: &mut SqliteConnection, new: &NewEvent) -> Result<bool, StoreError> {
    let last: (Option<i64>, Option<String>) = sqlx::query_as(IS_OUTDATED)
        .bind(&new.system)
        .bind(&new.key)
        .fetch_one(c)
        .await?;
    Ok(match (new.sequence, last.0, new.occurred_at, last.1) {
        (Some(number), Some(last), ..) => number <= last,
        (_, _, Some(at), Some(last)) => format_timestamp(at) < last,
        _ => false,
    })
}

const SELECT_INBOUND_EVENT: &str = "
    SELECT id, body
    FROM inbound_event
    WHERE system = ? AND external_id = ?";

const UPDATE_ACCOUNT_OF_STORE_EVENT: &str = "
    UPDATE account SET absent_since = ?, absence_confirmed = 1
    WHERE system = ? AND key = ?";

async fn store_event(
    c: &mut SqliteConnection,
    new: NewEvent,
    now: Timestamp,
) -> Result<EventTaken, StoreError> {
    if let Some(id) = &new.external_id {
        let before: Option<(String, String)> = sqlx::query_as(SELECT_INBOUND_EVENT)
            .bind(&new.system)
            .bind(id)
            .fetch_optional(&mut *c)
            .await?;
        match before {
            Some((id, body)) if body == new.body => return Ok(EventTaken::Repeated(id)),
            Some((id, _)) => return Ok(EventTaken::OtherContent(id)),
            None => {}
        }
    }
    let row = sqlx::query("SELECT * FROM account WHERE system = ? AND key = ?")
        .bind(&new.system)
        .bind(&new.key)
        .fetch_optional(&mut *c)
        .await?;
    let known = row
        .as_ref()
        .map(crate::snapshot::accounts::read_account)
        .transpose()?;
    let is_outdated = is_outdated(&mut *c, &new).await?;
    if known.is_none() && new.kind != EventKind::Joiner {
        return Ok(EventTaken::UnknownKey);
    }
    let has_left = known
        .as_ref()
        .is_some_and(|account| account.absent_since.is_some());
    if has_left && new.kind == EventKind::Mover && !is_outdated {
        return Ok(EventTaken::Left);
    }
    insert_event(c, &new, now, is_outdated).await?;
    let subject = format!("{}/{}", new.system, new.key);
    if is_outdated {
        let detail = format!("{}: outdated, a later one came before it", new.kind);
        NewJournalEntry::new(&new.principal, "event", &subject)
            .detail(&detail)
            .append(c, now)
            .await?;
        return Ok(EventTaken::Outdated);
    }
    if !(has_left && new.kind == EventKind::Leaver) {
        let account = account_of_event(&new, known);
        keep_account(c, &new.system, ObjectType::Person, &account, now).await?;
        if new.kind == EventKind::Leaver {
            sqlx::query(UPDATE_ACCOUNT_OF_STORE_EVENT)
                .bind(format_timestamp(now))
                .bind(&new.system)
                .bind(&new.key)
                .execute(&mut *c)
                .await?;
        }
    }
    NewJournalEntry::new(&new.principal, "event", &subject)
        .detail(new.kind.as_str())
        .append(c, now)
        .await?;
    Ok(EventTaken::Kept)
}

const INSERT_EVENT: &str = "
    INSERT INTO inbound_event (id, system, kind, key, body, principal, created_at, external_id,
      sequence, occurred_at, is_outdated)
    VALUES (?,?,?,?,?,?,?,?,?,?,?)";

/// Stores the event.
async fn insert_event(
    c: &mut SqliteConnection,
    new: &NewEvent,
    now: Timestamp,
    is_outdated: bool,
) -> Result<(), StoreError> {
    sqlx::query(INSERT_EVENT)
        .bind(&new.id)
        .bind(&new.system)
        .bind(new.kind.as_str())
        .bind(&new.key)
        .bind(&new.body)
        .bind(&new.principal)
        .bind(format_timestamp(now))
        .bind(&new.external_id)
        .bind(new.sequence)
        .bind(new.occurred_at.map(format_timestamp))
        .bind(is_outdated)
        .execute(&mut *c)
        .await?;
    Ok(())
}

/// The account after the event.
fn account_of_event(new: &NewEvent, known: Option<tide_core::Account>) -> Observed {
    let mut attributes = known.map(|account| account.attributes).unwrap_or_default();
    for (name, values) in new.attributes.iter() {
        attributes.set(name, values.to_vec());
    }
    let name = ["displayName", "name", "userName"]
        .iter()
        .find_map(|n| attributes.get(n).first().map(ToString::to_string));
    Observed {
        key: new.key.clone(),
        name: name.unwrap_or_else(|| new.key.clone()),
        attributes,
        fault: None,
        version: None,
        is_exact: true,
    }
}

const INSERT_INBOUND_RESOURCE: &str = "
    INSERT INTO inbound_resource (system, id, object, name_key, external_id, version, body,
      created_at, changed_at)
    VALUES (?,?,?,?,?,1,?,?,?)
    RETURNING *";

const UPDATE_INBOUND_RESOURCE: &str = "
    UPDATE inbound_resource SET name_key = ?, external_id = ?, version = version + 1, body = ?,
      changed_at = ?
    WHERE system = ? AND id = ? AND version = ?
    RETURNING *";

const DELETE_INBOUND_MEMBER: &str = "
    DELETE FROM inbound_member
    WHERE system = ? AND group_id = ? AND member NOT IN (SELECT value FROM json_each(?))";

const INSERT_INBOUND_MEMBER: &str = "
    INSERT OR IGNORE INTO inbound_member (system, member, group_id) SELECT ?, value, ?
    FROM json_each(?)";

async fn put(
    c: &mut SqliteConnection,
    new: NewPushed,
    now: Timestamp,
) -> Result<PushedRow, StoreError> {
    let at = format_timestamp(now);
    let taken = |error: sqlx::Error| match error.as_database_error() {
        Some(database) if database.is_unique_violation() => StoreError::Exists {
            what: "userName",
            name: new.name_key.clone(),
        },
        _ => error.into(),
    };
    let row = match new.replaces {
        None => sqlx::query(INSERT_INBOUND_RESOURCE)
            .bind(&new.system)
            .bind(&new.id)
            .bind(new.object.as_str())
            .bind(&new.name_key)
            .bind(&new.external_id)
            .bind(&new.body)
            .bind(&at)
            .bind(&at)
            .fetch_one(&mut *c)
            .await
            .map_err(taken)?,
        Some(version) => sqlx::query(UPDATE_INBOUND_RESOURCE)
            .bind(&new.name_key)
            .bind(&new.external_id)
            .bind(&new.body)
            .bind(&at)
            .bind(&new.system)
            .bind(&new.id)
            .bind(version)
            .fetch_optional(&mut *c)
            .await
            .map_err(taken)?
            .ok_or_else(|| StoreError::Missing {
                what: "version",
                name: version.to_string(),
            })?,
    };
    if new.object == ObjectType::Group {
        // As a difference: a large group is not written anew for one member.
        let members = serde_json::to_string(&new.members)?;
        sqlx::query(DELETE_INBOUND_MEMBER)
            .bind(&new.system)
            .bind(&new.id)
            .bind(&members)
            .execute(&mut *c)
            .await?;
        sqlx::query(INSERT_INBOUND_MEMBER)
            .bind(&new.system)
            .bind(&new.id)
            .bind(&members)
            .execute(&mut *c)
            .await?;
    }
    keep_account(c, &new.system, new.object, &new.account, now).await?;
    let act = if new.replaces.is_none() {
        "push.made"
    } else {
        "push.changed"
    };
    NewJournalEntry::new(&new.principal, act, &format!("{}/{}", new.system, new.id))
        .append(c, now)
        .await?;
    Ok(PushedRow::from_row(&row)?)
}

const KEEP_ACCOUNT: &str = "
    INSERT INTO account (system, object, key, name, attributes, hash, fault, first_seen,
      seen_at)
    VALUES (?,?,?,?,?,?,?,?,?)
    ON CONFLICT (system, key) DO UPDATE SET name = excluded.name,
      attributes = excluded.attributes, hash = excluded.hash, fault = excluded.fault,
      seen_at = excluded.seen_at, absent_since = NULL, absence_confirmed = 0";

/// Stores the account that was pushed, as certain as one that was read.
async fn keep_account(
    c: &mut SqliteConnection,
    system: &str,
    object: ObjectType,
    account: &Observed,
    now: Timestamp,
) -> Result<(), StoreError> {
    sqlx::query(KEEP_ACCOUNT)
        .bind(system)
        .bind(object.as_str())
        .bind(&account.key)
        .bind(&account.name)
        .bind(account.attributes.to_blob())
        .bind(account.attributes.hash().to_be_bytes().to_vec())
        .bind(&account.fault)
        .bind(format_timestamp(now))
        .bind(format_timestamp(now))
        .execute(c)
        .await?;
    Ok(())
}
