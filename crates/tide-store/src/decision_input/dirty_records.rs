//! The dirty set: records that changed since the last decision; and the partial load of the records
//! that a decision needs.

use crate::decision_input::blob_values;
use crate::identities::read_basis;
use crate::identities::read_kept_roles;
use crate::snapshot::accounts::read_account;
use crate::{Store, StoreError};
use sqlx::{Row, SqliteConnection};
use std::collections::BTreeMap;
use std::collections::HashMap;
use tide_core::incremental::{AppliedMembership, Records};
use tide_core::model::{KeptRoles, Normalization, ReservedValue};
use tide_core::references::fold_reference;
use tide_core::{Attributes, Identity, Link, ObjectType, Population, Stage, SystemFacts};

/// Up to this many records are read on the writer connection (blocking writers); larger reads use
/// the pool.
const MAX_WRITER_READ: usize = 500;

/// The dirty records since a position.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct DirtyRecords {
    /// The position of the last entry.
    pub last: i64,
    /// A change that concerns all records: the rules, a system.
    pub all: bool,
    /// The changed records.
    pub records: Records,
    /// Memberships that we changed.
    pub memberships: Vec<AppliedMembership>,
}

/// The dirty records after a position (`?1`), as one JSON text, so that one query reads them with
/// all other preconditions.
pub(crate) const DIRTY_SINCE: &str =
    "(SELECT json_group_array(json_array(seq, account, identity, group_account, member, is_member))
    FROM (SELECT * FROM dirty_record WHERE seq > ?1 ORDER BY seq))";

/// A row: position, account, identity; and for a membership the group, the member, and whether it
/// was added.
type DirtyRow = (
    i64,
    Option<i64>,
    Option<String>,
    Option<i64>,
    Option<String>,
    Option<i64>,
);

/// Parses the result of [`DIRTY_SINCE`].
pub(crate) fn parse_dirty(notes: &str, after: i64) -> Result<DirtyRecords, StoreError> {
    let mut touched = DirtyRecords {
        last: after,
        ..DirtyRecords::default()
    };
    for (seq, account, identity, joined, member, there) in
        serde_json::from_str::<Vec<DirtyRow>>(notes)?
    {
        touched.last = seq;
        if let Some(group) = joined {
            touched.memberships.push(AppliedMembership {
                group,
                member: member.unwrap_or_default(),
                is_member: there == Some(1),
            });
        } else if account.is_none() && identity.is_none() {
            touched.all = true;
        } else {
            touched.records.accounts.extend(account);
        }
        touched.records.identities.extend(identity);
    }
    Ok(touched)
}

/// The data beside accounts (first list) and identities (second list), in one statement because
/// every change waits for it: first a bit mask of the further tables that have rows for them,
/// because most have none; then the identities, and the rows of tables that often have some.
const BESIDE: &str = "
    SELECT 'further' AS what,
           EXISTS (SELECT 1 FROM json_each(?1) k CROSS JOIN password_hash_mark t ON t.account = k.value)
           + 2 * EXISTS (SELECT 1 FROM json_each(?1) k CROSS JOIN change t ON t.account = k.value
                         AND t.state = 'done' AND t.kind IN ('password', 'delete'))
           + 4 * EXISTS (SELECT 1 FROM json_each(?2) k CROSS JOIN departure t ON t.identity = k.value)
           + 8 * EXISTS (SELECT 1 FROM json_each(?2) k CROSS JOIN reactivation t ON t.identity = k.value)
           + 16 * EXISTS (SELECT 1 FROM json_each(?2) k CROSS JOIN role_grant t ON t.identity = k.value)
           + 32 * EXISTS (SELECT 1 FROM rule_membership)
           + 64 * EXISTS (SELECT 1 FROM password_set WHERE ended_at IS NULL)
           + 128 * EXISTS (SELECT 1 FROM match_answer WHERE ended_at IS NULL) AS number,
           NULL AS kind, NULL AS name, NULL AS first, NULL AS second, NULL AS third
    UNION ALL SELECT 'identity', 0, t.object, t.id, t.attributes, t.stage, t.stage_since
              FROM json_each(?2) k CROSS JOIN identity t ON t.id = k.value
    UNION ALL SELECT 'kept_roles', 0, NULL, t.id, t.kept_roles, NULL, NULL
              FROM json_each(?2) k CROSS JOIN identity t ON t.id = k.value WHERE t.kept_roles <> '{}'
    UNION ALL SELECT 'value_normalization', t.account, NULL, t.attribute, t.sent_value, t.returned_value, NULL
              FROM json_each(?1) k CROSS JOIN value_normalization t ON t.account = k.value AND t.is_certain
    UNION ALL SELECT 'managed_value', t.account, NULL, t.attribute, t.values_blob, NULL, NULL FROM json_each(?1) k CROSS JOIN managed_value t ON t.account = k.value
    UNION ALL SELECT 'drift_baseline', t.account, NULL, NULL, t.before, NULL, NULL
              FROM json_each(?1) k CROSS JOIN drift_baseline t ON t.account = k.value
    UNION ALL SELECT 'reservation', 0, t.object, t.attribute, t.value, t.identity, NULL
              FROM json_each(?2) k CROSS JOIN reservation t ON t.identity = k.value WHERE t.system = ''";

const PRUNE_DIRTY: &str = "
    DELETE FROM dirty_record
    WHERE seq < min(?, (SELECT max(seq) FROM dirty_record))";

impl Store {
    /// The position of the last dirty record.
    pub async fn last_dirty(&self) -> Result<i64, StoreError> {
        let last: Option<i64> = sqlx::query_scalar("SELECT max(seq) FROM dirty_record")
            .fetch_one(&self.reader)
            .await?;
        Ok(last.unwrap_or(0))
    }

    /// The dirty records after a position.
    pub async fn dirty_since(&self, after: i64) -> Result<DirtyRecords, StoreError> {
        let notes: String =
            sqlx::query_scalar(sqlx::AssertSqlSafe(format!("SELECT {DIRTY_SINCE}")))
                .bind(after)
                .fetch_one(&self.reader)
                .await?;
        parse_dirty(&notes, after)
    }

    /// Deletes dirty records that were decided.
    pub async fn prune_dirty(&self, upto: i64) -> Result<(), StoreError> {
        self.writer
            .run_relaxed(move |c| {
                Box::pin(async move {
                    // The last row stays, so that no position is reused.
                    sqlx::query(PRUNE_DIRTY).bind(upto).execute(c).await?;
                    Ok(())
                })
            })
            .await
    }

    /// Loads these records with everything that belongs to them. `at_rest`: no run is in progress,
    /// so the writer connection may be used.
    pub async fn load_part(
        &self,
        records: &Records,
        systems: BTreeMap<String, SystemFacts>,
        at_rest: bool,
    ) -> Result<Population, StoreError> {
        let few = records.accounts.len() + records.identities.len() <= MAX_WRITER_READ;
        let (accounts, identities) = (
            serde_json::to_string(&records.accounts)?,
            serde_json::to_string(&records.identities)?,
        );
        self.look(at_rest && few, move |c| {
            Box::pin(async move { load_part(c, &accounts, &identities, systems).await })
        })
        .await
    }
}

/// Loads accounts and identities, given as JSON lists of ids, with everything that belongs to them.
async fn load_part(
    c: &mut SqliteConnection,
    accounts: &str,
    identities: &str,
    systems: BTreeMap<String, SystemFacts>,
) -> Result<Population, StoreError> {
    let mut population = Population {
        systems,
        ..Population::default()
    };
    read_accounts(c, accounts, &mut population).await?;
    // Sorted here, because SQLite would copy complete rows to sort them.
    population.accounts.sort_by_key(|account| account.id);
    crate::snapshot::membership_delta::merge_deltas(&mut *c, &mut population.accounts, false)
        .await?;
    let mut further = 0;
    let mut kept_roles: HashMap<String, KeptRoles> = HashMap::new();
    for row in sqlx::query(BESIDE)
        .bind(accounts)
        .bind(identities)
        .fetch_all(&mut *c)
        .await?
    {
        match row.get("what") {
            "further" => further = row.get("number"),
            "identity" => population.identities.push(Identity {
                id: row.get("name"),
                kind: ObjectType::parse(row.get("kind")).unwrap_or(ObjectType::Person),
                attributes: Attributes::from_blob(row.get("first"))?,
                stage: Stage::parse(row.get("second")).unwrap_or(Stage::Active),
                since: crate::parse_timestamp(row.get("third")),
                kept_roles: KeptRoles::new(),
            }),
            "kept_roles" => {
                kept_roles.insert(row.get("name"), read_kept_roles(row.get("first"))?);
            }
            "value_normalization" => {
                let known = Normalization {
                    sent: blob_values(row.get("first"))?,
                    returned: blob_values(row.get("second"))?,
                };
                population
                    .normalizations
                    .insert((row.get("number"), row.get("name")), known);
            }
            "managed_value" => {
                population.managed_values.insert(
                    (row.get("number"), row.get("name")),
                    blob_values(row.get("first"))?,
                );
            }
            "drift_baseline" => {
                population
                    .drift_baseline
                    .insert(row.get("number"), Attributes::from_blob(row.get("first"))?);
            }
            _ => {
                let Some(kind) = ObjectType::parse(row.get("kind")) else {
                    continue;
                };
                let (attribute, value, identity) =
                    (row.get("name"), row.get("first"), row.get("second"));
                population.reserved_values.push(ReservedValue {
                    kind,
                    attribute,
                    value,
                    identity,
                });
            }
        }
    }
    for identity in &mut population.identities {
        identity.kept_roles = kept_roles.remove(&identity.id).unwrap_or_default();
    }
    population.identities.sort_by(|a, b| a.id.cmp(&b.id));
    read_further(c, accounts, identities, &mut population, further).await?;
    Ok(population)
}

const READ_ACCOUNTS: &str = "
    SELECT a.*, l.id AS link, l.identity AS whose, l.origin, l.origin_name
    FROM json_each(?) k
    CROSS JOIN account a ON a.id = k.value
    LEFT JOIN link l ON l.account = a.id AND l.ended_at IS NULL";

/// Reads the accounts and their links.
async fn read_accounts(
    c: &mut SqliteConnection,
    accounts: &str,
    population: &mut Population,
) -> Result<(), StoreError> {
    let rows = sqlx::query(READ_ACCOUNTS);
    let mut links: Vec<(i64, Link)> = Vec::new();
    for row in rows.bind(accounts).fetch_all(&mut *c).await? {
        let account = read_account(&row)?;
        if let Some(link) = row.get::<Option<i64>, _>("link") {
            links.push((
                link,
                Link {
                    account: account.id,
                    identity: row.get("whose"),
                    basis: read_basis(row.get("origin"), row.get("origin_name")),
                },
            ));
        }
        population.accounts.push(account);
    }
    links.sort_unstable_by_key(|(made, _)| *made);
    population.links = links.into_iter().map(|(_, link)| link).collect();
    Ok(())
}

/// Reads the tables that have rows about these records.
async fn read_further(
    c: &mut SqliteConnection,
    accounts: &str,
    identities: &str,
    population: &mut Population,
    further: i64,
) -> Result<(), StoreError> {
    let tells = |bit: i64| further & bit != 0;
    if tells(4) {
        population.departures =
            crate::identities::lifecycle::load_departures(&mut *c, Some(identities)).await?;
    }
    if tells(8) {
        population.reactivations =
            crate::identities::lifecycle::load_reactivations(&mut *c, Some(identities)).await?;
    }
    if tells(2) {
        population.write_history =
            crate::identities::lifecycle::load_write_history(&mut *c, Some(accounts)).await?;
    }
    if tells(16) {
        population.role_grants =
            crate::identities::roles::load_role_grants(&mut *c, Some(identities)).await?;
    }
    if tells(32) {
        // Includes memberships that were written for another person with one of these names.
        let uid = |account: &tide_core::Account| {
            account
                .attributes
                .get("uid")
                .first()
                .map(|uid| fold_reference(&uid.to_string()))
        };
        let names = population
            .accounts
            .iter()
            .flat_map(|account| [Some(fold_reference(&account.name)), uid(account)])
            .flatten();
        let names: Vec<String> = names.collect();
        population.rule_memberships = crate::queue::results::load_rule_memberships(
            &mut *c,
            Some((identities, &serde_json::to_string(&names)?)),
        )
        .await?;
    }
    if tells(1) {
        population.password_hash_marks =
            crate::queue::results::load_password_marks(&mut *c, Some(accounts)).await?;
    }
    if tells(64) {
        population.password_sets =
            crate::secrets::password_sync::load_pending(&mut *c, Some((accounts, identities)))
                .await?;
    }
    if tells(128) {
        population.match_answers =
            crate::identities::matches::load_answers_about(&mut *c, accounts, identities).await?;
    }
    Ok(())
}
