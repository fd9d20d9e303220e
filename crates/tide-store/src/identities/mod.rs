//! Identities and their links.

pub(crate) mod lifecycle;
pub(crate) mod matches;
pub(crate) mod roles;

use crate::db::fixed_chunks;
use crate::journal::{JournalNote, NewJournalEntry, append_all};
use crate::outcomes::KeptPart;
use crate::{Store, StoreError, format_timestamp};
use jiff::Timestamp;
use sqlx::sqlite::SqliteRow;
use sqlx::{QueryBuilder, Row, Sqlite, SqliteConnection};
use std::collections::{BTreeSet, HashMap, HashSet};
use tide_core::decide::NewLink;
use tide_core::model::{AccountId, KeptRoles, MemberName, ReservedValue};
use tide_core::states::{LinkBasis, LinkOrigin};
use tide_core::{Account, Attributes, Identity, ObjectType, Stage};

/// Maximum number of rows in one statement: eleven values each, far below SQLite's limit.
const ROWS: usize = 256;

/// An identity with what the lists show beside it.
#[derive(Debug, Clone)]
pub struct IdentityRow {
    /// The identity.
    pub identity: Identity,
    /// Its label.
    pub label: String,
    /// When a value or the stage last changed.
    pub changed: String,
    /// The systems in which it has an account, in order.
    pub systems: Vec<String>,
}

/// A link, open or ended.
#[derive(Debug, Clone)]
pub struct LinkRow {
    /// The account.
    pub account: AccountId,
    /// The account's system.
    pub system: String,
    /// The account's name there.
    pub name: String,
    /// When it was created.
    pub created_at: String,
    /// Its origin.
    pub basis: LinkBasis,
    /// When it was ended.
    pub ended_at: Option<String>,
    /// Why it was ended.
    pub ended_by: Option<String>,
}

/// The origin of a link, as it is stored.
pub(crate) fn read_basis(origin: &str, name: String) -> LinkBasis {
    LinkBasis {
        origin: LinkOrigin::parse(origin).unwrap_or(LinkOrigin::MatchRule),
        name,
    }
}

/// The roles that an identity holds for a grace period only, as stored JSON.
pub(crate) fn read_kept_roles(json: &str) -> Result<KeptRoles, StoreError> {
    Ok(serde_json::from_str(json)?)
}

pub(crate) fn read_identity(row: &SqliteRow) -> Result<Identity, StoreError> {
    Ok(Identity {
        id: row.get("id"),
        kind: ObjectType::parse(row.get("object")).unwrap_or(ObjectType::Person),
        attributes: Attributes::from_blob(row.get("attributes"))?,
        stage: Stage::parse(row.get("stage")).unwrap_or(Stage::Active),
        since: crate::parse_timestamp(row.get("stage_since")),
        kept_roles: read_kept_roles(row.get("kept_roles"))?,
    })
}

/// The searchable text, in lower case.
fn search_text(identity: &Identity, label: &str) -> String {
    let mut text = label.to_lowercase();
    for (_, values) in identity.attributes.iter() {
        for value in values {
            text.push('\n');
            text.push_str(&value.to_string().to_lowercase());
        }
    }
    text
}

/// Updates of identities that must be stored before anything is sent for them.
#[derive(Debug, Clone, Default)]
pub struct IdentityUpdates {
    /// Identities, with what people call them.
    pub identities: Vec<(Identity, String)>,
    /// Links to accounts that exist.
    pub links: Vec<NewLink>,
    /// Members whose groups contain another name than the one that was written.
    pub member_names: Vec<MemberName>,
    /// Reserved names.
    pub reserved: Vec<ReservedValue>,
    /// Accounts that are in sync again: their drift baselines are deleted.
    pub in_step: Vec<AccountId>,
    /// What the lists show of the decided records from now on.
    pub outcomes: Option<KeptPart>,
}

impl IdentityUpdates {
    /// Whether there is nothing to store.
    pub fn is_empty(&self) -> bool {
        self.identities.is_empty()
            && self.links.is_empty()
            && self.member_names.is_empty()
            && self.reserved.is_empty()
            && self.in_step.is_empty()
            && self.outcomes.is_none()
    }
}

const KEEP_IDENTITY: &str = "
    ON CONFLICT (id) DO UPDATE SET label = excluded.label, stage = excluded.stage,
      attributes = excluded.attributes, hash = excluded.hash, search = excluded.search,
      changed_at = excluded.changed_at, stage_since = excluded.stage_since,
      kept_roles = excluded.kept_roles
    WHERE identity.stage_since IS NOT excluded.stage_since
      OR identity.kept_roles <> excluded.kept_roles OR identity.hash <> excluded.hash
      OR identity.stage <> excluded.stage OR identity.label <> excluded.label";

const DELETE_DRIFT_BASELINE: &str = "
    DELETE FROM drift_baseline
    WHERE account IN (SELECT value FROM json_each(?))";

/// Stores what a decision adds or changes, in few statements.
pub(crate) async fn keep_identities(
    c: &mut SqliteConnection,
    people: &IdentityUpdates,
    principal: &str,
    now: Timestamp,
) -> Result<(), StoreError> {
    let at = format_timestamp(now);
    crate::identities::lifecycle::note_leavers(c, &people.identities, now).await?;
    for some in fixed_chunks(&people.identities, ROWS) {
        insert_identities(c, some, &at).await?;
    }
    for some in fixed_chunks(&people.reserved, ROWS) {
        let mut query = QueryBuilder::<Sqlite>::new(
            // A name of another identity stays reserved for it: the current holder does not get it.
            "INSERT OR IGNORE INTO reservation (system, object, attribute, value, identity, created_at) ",
        );
        query.push_values(some, |mut row, name| {
            row.push_bind("")
                .push_bind(name.kind.as_str())
                .push_bind(&name.attribute)
                .push_bind(tide_core::generate::fold_name(&name.value));
            row.push_bind(&name.identity).push_bind(&at);
        });
        query.build().execute(&mut *c).await?;
    }
    for some in fixed_chunks(&people.links, ROWS) {
        make_links(c, some, principal, now).await?;
    }
    for one in &people.member_names {
        crate::queue::results::join(c, &one.identity, one.group, &one.member, &at).await?;
    }
    if !people.in_step.is_empty() {
        sqlx::query(DELETE_DRIFT_BASELINE)
            .bind(serde_json::to_string(&people.in_step)?)
            .execute(&mut *c)
            .await?;
    }
    if let Some(part) = &people.outcomes {
        crate::outcomes::keep_outcomes(c, &part.about, part.kept.clone()).await?;
    }
    Ok(())
}

async fn insert_identities(
    c: &mut SqliteConnection,
    some: &[(Identity, String)],
    at: &str,
) -> Result<(), StoreError> {
    let kept_roles = some
        .iter()
        .map(|(identity, _)| serde_json::to_string(&identity.kept_roles))
        .collect::<Result<Vec<String>, _>>()?;
    let mut query = QueryBuilder::<Sqlite>::new(
        "INSERT INTO identity (id, object, label, stage, attributes, hash, search, created_at,
         changed_at, stage_since, kept_roles) ",
    );
    let rows = some.iter().zip(kept_roles);
    query.push_values(rows, |mut row, ((identity, label), kept_roles)| {
        row.push_bind(&identity.id)
            .push_bind(identity.kind.as_str())
            .push_bind(label)
            .push_bind(identity.stage.as_str());
        row.push_bind(identity.attributes.to_blob())
            .push_bind(identity.attributes.hash().to_be_bytes().to_vec())
            .push_bind(search_text(identity, label));
        row.push_bind(at)
            .push_bind(at)
            .push_bind(identity.since.map(format_timestamp))
            .push_bind(kept_roles);
    });
    query.push(KEEP_IDENTITY).build().execute(&mut *c).await?;
    Ok(())
}

const LIST_IDENTITIES: &str = "
    SELECT i.*, (SELECT group_concat(DISTINCT a.system) FROM link l,
      account a WHERE l.identity = i.id AND l.ended_at IS NULL AND a.id = l.account
      AND a.absent_since IS NULL) AS systems
    FROM identity i
    WHERE (i.label, i.id) > (?, ?) AND (? = '' OR instr(i.search,
      lower(?)) > 0) AND (? IS NULL OR i.stage = ?)
    ORDER BY i.label, i.id
    LIMIT ?";

const IDENTITY_COUNTS: &str = "
    SELECT key, count
    FROM record_count
    WHERE kind = 'identity' AND count > 0
    ORDER BY key";

const ACCOUNT_OF: &str = "
    SELECT a.*
    FROM link l
    CROSS JOIN account a ON a.id = l.account
    WHERE l.identity = ? AND l.ended_at IS NULL AND a.system = ? AND a.absent_since IS NULL
    ORDER BY a.id
    LIMIT 1";

const MEMBER_ACCOUNTS: &str = "
    SELECT a.*, l.identity AS whose
    FROM json_each(?) k
    CROSS JOIN link l ON l.identity = k.value AND l.ended_at IS NULL
    CROSS JOIN account a ON a.id = l.account
    WHERE a.system = ? AND a.absent_since IS NULL
    ORDER BY a.id";

const ACCOUNT_LABELS: &str = "
    SELECT a.id, a.system, a.name, l.identity, i.label
    FROM json_each(?) k
    CROSS JOIN account a ON a.id = k.value
    LEFT JOIN link l ON l.account = a.id AND l.ended_at IS NULL
    LEFT JOIN identity i ON i.id = l.identity
    WHERE a.absent_since IS NULL";

const MEMBERSHIPS_GIVEN: &str = "
    SELECT m.identity, m.account, m.created_at
    FROM json_each(?1) k
    CROSS JOIN rule_membership m ON m.identity = k.value
    WHERE m.account IN (SELECT value FROM json_each(?2))";

const LINKS_OF: &str = "
    SELECT l.*, a.system, a.name
    FROM link l
    JOIN account a ON a.id = l.account
    WHERE l.identity = ?
    ORDER BY l.id DESC";

const SPLIT_IDENTITY: &str = "
    UPDATE link SET ended_at = ?, end_reason = 'split by hand', ended_by = ?
    WHERE identity = ? AND ended_at IS NULL
      AND account IN (SELECT id FROM account WHERE system = ?)";

/// How an account is called.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AccountLabel {
    /// The system.
    pub system: String,
    /// Its name there.
    pub name: String,
    /// Its identity, if it is linked.
    pub identity: Option<String>,
    /// The label of the identity.
    pub label: Option<String>,
}

impl Store {
    /// Stores identities and creates links, as decided.
    pub async fn keep_identities(
        &self,
        people: IdentityUpdates,
        principal: &str,
        now: Timestamp,
    ) -> Result<(), StoreError> {
        let principal = principal.to_owned();
        self.writer
            .run_relaxed(move |c| {
                Box::pin(async move { keep_identities(c, &people, &principal, now).await })
            })
            .await
    }

    /// A page of identities by label, with a text in them.
    pub async fn list_identities(
        &self,
        search: &str,
        stage: Option<&str>,
        after: Option<(&str, &str)>,
        limit: i64,
    ) -> Result<Vec<IdentityRow>, StoreError> {
        let (after_label, after_id) = after.unwrap_or(("", ""));
        let rows = sqlx::query(LIST_IDENTITIES)
            .bind(after_label)
            .bind(after_id)
            .bind(search)
            .bind(search)
            .bind(stage)
            .bind(stage)
            .bind(limit)
            .fetch_all(&self.reader)
            .await?;
        rows.iter()
            .map(|row| {
                let systems: Option<String> = row.get("systems");
                let mut systems: Vec<String> = systems
                    .unwrap_or_default()
                    .split(',')
                    .filter(|s| !s.is_empty())
                    .map(str::to_owned)
                    .collect();
                systems.sort();
                Ok(IdentityRow {
                    identity: read_identity(row)?,
                    label: row.get("label"),
                    changed: row.get("changed_at"),
                    systems,
                })
            })
            .collect()
    }

    /// The account that an identity has in a system, if it has one that is there.
    pub async fn account_of(
        &self,
        identity: &str,
        system: &str,
    ) -> Result<Option<Account>, StoreError> {
        let row = sqlx::query(ACCOUNT_OF)
            .bind(identity)
            .bind(system)
            .fetch_optional(&self.reader)
            .await?;
        row.as_ref()
            .map(crate::snapshot::accounts::read_account)
            .transpose()
    }

    /// The present accounts of some identities in a system, each with its identity.
    pub async fn member_accounts(
        &self,
        identities: &[&str],
        system: &str,
    ) -> Result<Vec<(String, Account)>, StoreError> {
        let rows = sqlx::query(MEMBER_ACCOUNTS)
            .bind(serde_json::to_string(identities)?)
            .bind(system)
            .fetch_all(&self.reader)
            .await?;
        rows.iter()
            .map(|row| {
                Ok((
                    row.get("whose"),
                    crate::snapshot::accounts::read_account(row)?,
                ))
            })
            .collect()
    }

    /// Which of some DNs belong to an account of a directory now.
    pub async fn names_in_use(
        &self,
        names: &[String],
        system: &str,
    ) -> Result<Vec<String>, StoreError> {
        let sql = "SELECT k.value FROM json_each(?) k WHERE EXISTS
             (SELECT 1 FROM account a WHERE a.system = ? AND a.name = k.value COLLATE NOCASE AND a.absent_since IS NULL)";
        Ok(sqlx::query_scalar(sql)
            .bind(serde_json::to_string(names)?)
            .bind(system)
            .fetch_all(&self.reader)
            .await?)
    }

    /// How many identities there are of each stage.
    pub async fn identity_counts(&self) -> Result<Vec<(Stage, i64)>, StoreError> {
        let rows: Vec<(String, i64)> = sqlx::query_as(IDENTITY_COUNTS)
            .fetch_all(&self.reader)
            .await?;
        rows.into_iter()
            .map(|(stage, count)| Ok((crate::db::codes::parse_code(&stage)?, count)))
            .collect()
    }

    /// How accounts that are there are called, with their identities.
    pub async fn account_labels(
        &self,
        accounts: &BTreeSet<AccountId>,
    ) -> Result<HashMap<AccountId, AccountLabel>, StoreError> {
        let rows = sqlx::query(ACCOUNT_LABELS)
            .bind(serde_json::to_string(accounts)?)
            .fetch_all(&self.reader)
            .await?;
        let label = |row: &SqliteRow| {
            let label = AccountLabel {
                system: row.get("system"),
                name: row.get("name"),
                identity: row.get("identity"),
                label: row.get("label"),
            };
            (row.get("id"), label)
        };
        Ok(rows.iter().map(label).collect())
    }

    /// When rules made these identities members of these groups.
    pub async fn memberships_given(
        &self,
        identities: &BTreeSet<String>,
        groups: &BTreeSet<AccountId>,
    ) -> Result<HashMap<(String, AccountId), Timestamp>, StoreError> {
        let rows: Vec<(String, AccountId, Option<String>)> = sqlx::query_as(MEMBERSHIPS_GIVEN)
            .bind(serde_json::to_string(identities)?)
            .bind(serde_json::to_string(groups)?)
            .fetch_all(&self.reader)
            .await?;
        let given = |(identity, group, at)| {
            let at = crate::parse_timestamp(at).unwrap_or_default();
            ((identity, group), at)
        };
        Ok(rows.into_iter().map(given).collect())
    }

    /// An identity, with what people call it.
    pub async fn find_identity(&self, id: &str) -> Result<(Identity, String), StoreError> {
        let row = sqlx::query("SELECT * FROM identity WHERE id = ?")
            .bind(id)
            .fetch_optional(&self.reader)
            .await?;
        let row = row.ok_or_else(|| StoreError::Missing {
            what: "identity",
            name: id.to_owned(),
        })?;
        Ok((read_identity(&row)?, row.get("label")))
    }

    /// All links of an identity, the newest first.
    pub async fn links_of(&self, identity: &str) -> Result<Vec<LinkRow>, StoreError> {
        let rows = sqlx::query(LINKS_OF)
            .bind(identity)
            .fetch_all(&self.reader)
            .await?;
        Ok(rows
            .iter()
            .map(|row| LinkRow {
                account: row.get("account"),
                system: row.get("system"),
                name: row.get("name"),
                created_at: row.get("created_at"),
                basis: read_basis(row.get("origin"), row.get("origin_name")),
                ended_at: row.get("ended_at"),
                ended_by: row.get("end_reason"),
            })
            .collect())
    }

    /// Ends the open links of an identity in one system. Returns how many there were.
    pub async fn split_identity(
        &self,
        identity: &str,
        system: &str,
        principal: &str,
        now: Timestamp,
    ) -> Result<u64, StoreError> {
        let (identity, system, principal) =
            (identity.to_owned(), system.to_owned(), principal.to_owned());
        self.writer
            .run(move |c| {
                Box::pin(async move {
                    let ended = sqlx::query(SPLIT_IDENTITY)
                        .bind(format_timestamp(now))
                        .bind(&principal)
                        .bind(&identity)
                        .bind(&system)
                        .execute(&mut *c)
                        .await?
                        .rows_affected();
                    if ended > 0 {
                        NewJournalEntry::new(&principal, "identity.split", &identity)
                            .detail(&system)
                            .append(c, now)
                            .await?;
                    }
                    Ok(ended)
                })
            })
            .await
    }
}

/// Creates links, unless the same links are already open.
async fn make_links(
    c: &mut SqliteConnection,
    links: &[NewLink],
    principal: &str,
    now: Timestamp,
) -> Result<(), StoreError> {
    let at = format_timestamp(now);
    let mut query = QueryBuilder::<Sqlite>::new(
        "INSERT INTO link (account, identity, created_at, origin, origin_name, principal) ",
    );
    query.push_values(links, |mut row, link| {
        row.push_bind(link.account)
            .push_bind(&link.identity)
            .push_bind(&at);
        row.push_bind(link.basis.origin.as_str())
            .push_bind(&link.basis.name)
            .push_bind(principal);
    });
    query.push(" ON CONFLICT DO NOTHING RETURNING account");
    let new: Vec<AccountId> = query.build_query_scalar().fetch_all(&mut *c).await?;
    let new: HashSet<AccountId> = new.into_iter().collect();
    let made = links.iter().filter(|link| new.contains(&link.account));
    let notes: Vec<JournalNote> = made
        .map(|link| JournalNote {
            principal: principal.to_owned(),
            act: "identity.joined".to_owned(),
            subject: link.identity.clone(),
            detail: format!("account {}: {}", link.account, link.basis),
            values: None,
        })
        .collect();
    append_all(c, &notes.iter().collect::<Vec<_>>(), now).await
}
