//! The inputs of a decision, in one consistent read.

pub(crate) mod dirty_records;
pub(crate) mod preconditions;

use crate::identities::read_basis;
use crate::identities::read_identity;
use crate::snapshot::accounts::read_account;
use crate::{Store, StoreError};
use sqlx::Row;
use sqlx::SqliteConnection;
use std::collections::{BTreeMap, HashMap};
use tide_core::model::{Normalization, ReservedValue};
use tide_core::{Attributes, Link, ObjectType, Population, SystemFacts, Value};

const VALUES: &str = "v";

pub(crate) fn values_blob(values: &[Value]) -> Vec<u8> {
    [(VALUES.to_owned(), values.to_vec())]
        .into_iter()
        .collect::<Attributes>()
        .to_blob()
}

pub(crate) fn blob_values(blob: &[u8]) -> Result<Vec<Value>, StoreError> {
    Ok(Attributes::from_blob(blob)?.get(VALUES).to_vec())
}

const LOAD_POPULATION: &str = "
    SELECT account, identity, origin, origin_name
    FROM link
    WHERE ended_at IS NULL
    ORDER BY id";

const RECORD_COUNT: &str = "
    SELECT (SELECT count(*) FROM account) + (SELECT count(*) FROM identity)";

impl Store {
    /// The ids of all accounts and of all identities, sorted.
    pub async fn record_ids(&self) -> Result<(Vec<i64>, Vec<String>), StoreError> {
        let mut tx = self.reader.begin().await?;
        let accounts = sqlx::query_scalar("SELECT id FROM account ORDER BY id")
            .fetch_all(&mut *tx)
            .await?;
        let identities = sqlx::query_scalar("SELECT id FROM identity ORDER BY id")
            .fetch_all(&mut *tx)
            .await?;
        tx.commit().await?;
        Ok((accounts, identities))
    }

    /// The number of accounts and identities.
    pub async fn record_count(&self) -> Result<usize, StoreError> {
        let count: i64 = sqlx::query_scalar(RECORD_COUNT)
            .fetch_one(&self.reader)
            .await?;
        Ok(usize::try_from(count).unwrap_or_default())
    }

    /// The facts about all systems.
    pub async fn load_systems(&self) -> Result<BTreeMap<String, SystemFacts>, StoreError> {
        let mut population = Population::default();
        let mut tx = self.reader.begin().await?;
        read_systems(&mut tx, &mut population).await?;
        tx.commit().await?;
        Ok(population.systems)
    }

    /// Reads the whole population inside one transaction.
    pub async fn load_population(&self) -> Result<Population, StoreError> {
        let mut tx = self.reader.begin().await?;
        let mut population = Population::default();
        for row in sqlx::query("SELECT * FROM account ORDER BY id")
            .fetch_all(&mut *tx)
            .await?
        {
            population.accounts.push(read_account(&row)?);
        }
        crate::snapshot::membership_delta::merge_deltas(&mut tx, &mut population.accounts, true)
            .await?;
        for row in sqlx::query("SELECT * FROM identity ORDER BY id")
            .fetch_all(&mut *tx)
            .await?
        {
            population.identities.push(read_identity(&row)?);
        }
        for row in sqlx::query(LOAD_POPULATION).fetch_all(&mut *tx).await? {
            population.links.push(Link {
                account: row.get(0),
                identity: row.get(1),
                basis: read_basis(row.get(2), row.get(3)),
            });
        }
        read_normalizations(&mut tx, &mut population).await?;
        read_systems(&mut tx, &mut population).await?;
        for row in sqlx::query("SELECT account, attribute, values_blob FROM managed_value")
            .fetch_all(&mut *tx)
            .await?
        {
            population
                .managed_values
                .insert((row.get(0), row.get(1)), blob_values(row.get(2))?);
        }
        read_reserved_values(&mut tx, &mut population).await?;
        for row in sqlx::query("SELECT account, before FROM drift_baseline")
            .fetch_all(&mut *tx)
            .await?
        {
            population
                .drift_baseline
                .insert(row.get(0), Attributes::from_blob(row.get(1))?);
        }
        population.departures =
            crate::identities::lifecycle::load_departures(&mut tx, None).await?;
        population.reactivations =
            crate::identities::lifecycle::load_reactivations(&mut tx, None).await?;
        population.write_history =
            crate::identities::lifecycle::load_write_history(&mut tx, None).await?;
        population.role_grants = crate::identities::roles::load_role_grants(&mut tx, None).await?;
        population.rule_memberships =
            crate::queue::results::load_rule_memberships(&mut tx, None).await?;
        population.password_hash_marks =
            crate::queue::results::load_password_marks(&mut tx, None).await?;
        population.password_sets =
            crate::secrets::password_sync::load_pending(&mut tx, None).await?;
        population.match_answers = crate::identities::matches::load_answers(&mut tx).await?;
        tx.commit().await?;
        Ok(population)
    }
}

const READ_NORMALIZATIONS: &str = "
    SELECT account, attribute, sent_value, returned_value
    FROM value_normalization
    WHERE is_certain";

/// Reads how systems normalize values.
async fn read_normalizations(
    c: &mut SqliteConnection,
    population: &mut Population,
) -> Result<(), StoreError> {
    let mut normalized = HashMap::new();
    for row in sqlx::query(READ_NORMALIZATIONS).fetch_all(&mut *c).await? {
        let known = Normalization {
            sent: blob_values(row.get(2))?,
            returned: blob_values(row.get(3))?,
        };
        normalized.insert((row.get(0), row.get(1)), known);
    }
    population.normalizations = normalized;
    Ok(())
}

/// Reads the systems, and which types were read in full.
async fn read_systems(
    c: &mut SqliteConnection,
    population: &mut Population,
) -> Result<(), StoreError> {
    for row in sqlx::query("SELECT name, writable, paused, armed, own_names, schema FROM system")
        .fetch_all(&mut *c)
        .await?
    {
        let facts = SystemFacts {
            schema: std::sync::Arc::new(serde_json::from_str(row.get("schema"))?),
            writable: serde_json::from_str(row.get("writable"))?,
            read: Vec::new(),
            paused: row.get("paused"),
            write_hold: None,
            disarmed: !row.get::<bool, _>("armed"),
            own: serde_json::from_str(row.get("own_names"))?,
        };
        population.systems.insert(row.get("name"), facts);
    }
    for row in sqlx::query("SELECT DISTINCT system, object FROM full_read WHERE state = 'complete'")
        .fetch_all(&mut *c)
        .await?
    {
        let kind = ObjectType::parse(row.get(1));
        if let (Some(facts), Some(kind)) = (population.systems.get_mut(row.get::<&str, _>(0)), kind)
        {
            facts.read.push(kind);
        }
    }
    Ok(())
}

const READ_RESERVED_VALUES: &str = "
    SELECT object, attribute, value, identity
    FROM reservation
    WHERE system = ''";

/// Reads the generated values that are reserved.
async fn read_reserved_values(
    c: &mut SqliteConnection,
    population: &mut Population,
) -> Result<(), StoreError> {
    for row in sqlx::query(READ_RESERVED_VALUES).fetch_all(&mut *c).await? {
        let Some(kind) = ObjectType::parse(row.get(0)) else {
            continue;
        };
        population.reserved_values.push(ReservedValue {
            kind,
            attribute: row.get(1),
            value: row.get(2),
            identity: row.get(3),
        });
    }
    Ok(())
}
