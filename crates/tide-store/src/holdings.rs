//! What people hold by the last decision about them: roles, conflicts between roles, and the seats
//! of licenses that their changes would take or free. Kept beside the outcomes, in the same commits.

use crate::outcomes::difference;
use crate::{Store, StoreError};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use sqlx::{QueryBuilder, Row, Sqlite, SqliteConnection};
use std::collections::BTreeMap;
use std::hash::{DefaultHasher, Hash, Hasher};
use tide_core::decide::licenses::{SeatUse, order_key};
use tide_core::explain::fold_text;
use tide_core::incremental::Records;
use tide_core::roles::{RoleConflict, RoleSource};

/// Rows of one statement: nine values each.
const ROWS: usize = 500;

/// A kind of holding.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum HoldingKind {
    /// A role and who has it.
    Role,
    /// Two roles of a person that give different values.
    RoleConflict,
    /// A change that takes a seat of a license.
    SeatTaken,
    /// A change that frees one.
    SeatFreed,
}

impl HoldingKind {
    fn as_str(self) -> &'static str {
        match self {
            HoldingKind::Role => "role",
            HoldingKind::RoleConflict => "role_conflict",
            HoldingKind::SeatTaken => "seat_taken",
            HoldingKind::SeatFreed => "seat_freed",
        }
    }
}

/// The details of a holding, by its kind.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum HoldingDetail {
    /// A role: its source, and its end if it was granted for a time.
    Role {
        /// By what; nothing of a role that is lost for good.
        source: Option<RoleSource>,
        /// Its end.
        until: Option<Timestamp>,
    },
    /// A conflict between roles.
    Conflict(RoleConflict),
    /// A seat that a change takes or frees, and the place in the waiting list.
    Seat(SeatUse, String),
}

/// Something that a person or an account holds.
#[derive(Debug, Clone, PartialEq)]
pub struct Holding {
    /// The role or the license.
    pub name: String,
    /// The identity; empty for an account without one.
    pub identity: String,
    /// The account; 0 where it is about the identity.
    pub account: i64,
    /// The label of the person.
    pub label: String,
    /// What.
    pub detail: HoldingDetail,
}

impl Holding {
    fn kind(&self) -> HoldingKind {
        match self.detail {
            HoldingDetail::Role { .. } => HoldingKind::Role,
            HoldingDetail::Conflict(_) => HoldingKind::RoleConflict,
            HoldingDetail::Seat(SeatUse::Takes, _) => HoldingKind::SeatTaken,
            HoldingDetail::Seat(SeatUse::Frees, _) => HoldingKind::SeatFreed,
        }
    }

    /// Sorts the list of a role or license: by label, and waiting lists by their order.
    fn position(&self) -> String {
        let label = fold_text(&self.label);
        match &self.detail {
            HoldingDetail::Seat(_, order) => format!("{}\n{label}", order_key(order)),
            HoldingDetail::Role { .. } | HoldingDetail::Conflict(_) => label,
        }
    }
}

/// A page of holdings.
#[derive(Debug, Clone, Default)]
pub struct HoldingPage {
    /// The holdings, sorted.
    pub items: Vec<Holding>,
    /// How many there are in all.
    pub count: i64,
    /// Where the next page begins; `None` after the last.
    pub next: Option<String>,
}

/// Which holdings to list.
#[derive(Debug, Clone, Default)]
pub struct HoldingFilter {
    /// Only of this role or license.
    pub name: Option<String>,
    /// Only with this text in the label.
    pub search: String,
    /// Where the page begins: `next` of the page before.
    pub after: Option<String>,
    /// The most holdings.
    pub limit: i64,
}

/// A holding as it is written: with its detail as JSON, and its digest.
type NewHolding = (Holding, String, i64);

const DELETE_HOLDINGS: &str = "
    DELETE FROM holding
    WHERE id IN (SELECT value FROM json_each(?))";

const HOLDINGS_OF: &str = "
    SELECT id, digest
    FROM holding
    WHERE identity <> '' AND identity IN (SELECT value FROM json_each(?1))
    UNION
    SELECT id, digest
    FROM holding
    WHERE account <> 0 AND identity = '' AND account IN (SELECT value FROM json_each(?2))";

const HOLDING_COUNTS: &str = "
    SELECT name, count
    FROM holding_count
    WHERE kind = ? AND count > 0";

const COUNT_OF_IDENTITIES: &str = "
    SELECT name, count(*)
    FROM holding
    WHERE kind = ? AND identity <> '' AND identity IN (SELECT value FROM json_each(?))
    GROUP BY name";

const WAITING: &str = "
    SELECT g.*
    FROM holding g
    WHERE g.kind = 'seat_taken' AND g.name = ?1 AND EXISTS (SELECT 1 FROM hold h
      WHERE h.identity = g.identity AND h.cause = 'waiting_for_seat' AND instr(h.reason, ?2) > 0)
    ORDER BY g.position, g.id
    LIMIT ?3";

const COUNT_WAITING: &str = "
    SELECT count(DISTINCT identity)
    FROM hold
    WHERE cause = 'waiting_for_seat' AND instr(reason, ?) > 0";

fn row_of(holding: Holding) -> Result<NewHolding, StoreError> {
    let detail = serde_json::to_string(&holding.detail)?;
    let mut hasher = DefaultHasher::new();
    (&holding.name, &holding.identity, holding.account).hash(&mut hasher);
    (&holding.label, holding.kind().as_str(), &detail).hash(&mut hasher);
    let digest = hasher.finish().cast_signed();
    Ok((holding, detail, digest))
}

/// Compares the holdings of a decision with those that are stored.
pub(crate) fn compare_holdings(
    stored: Vec<(i64, i64)>,
    holdings: Vec<Holding>,
) -> Result<(Vec<i64>, Vec<NewHolding>), StoreError> {
    let rows = holdings.into_iter().map(row_of);
    let rows = rows.collect::<Result<Vec<_>, _>>()?;
    Ok(difference(stored, rows, |row| row.2))
}

/// The stored holdings of some records: row and digest of each.
pub(crate) async fn stored_holdings(
    c: &mut SqliteConnection,
    identities: &str,
    accounts: &str,
) -> Result<Vec<(i64, i64)>, StoreError> {
    Ok(sqlx::query_as(HOLDINGS_OF)
        .bind(identities)
        .bind(accounts)
        .fetch_all(c)
        .await?)
}

/// Deletes and adds holdings; triggers keep their counts.
pub(crate) async fn apply_holdings(
    c: &mut SqliteConnection,
    gone: &[i64],
    added: &[NewHolding],
) -> Result<(), StoreError> {
    if !gone.is_empty() {
        sqlx::query(DELETE_HOLDINGS)
            .bind(serde_json::to_string(gone)?)
            .execute(&mut *c)
            .await?;
    }
    for rows in added.chunks(ROWS) {
        let mut query = QueryBuilder::<Sqlite>::new(
            "INSERT INTO holding (kind, name, identity, account, label, position, detail, digest) ",
        );
        query.push_values(rows, |mut row, (holding, detail, digest)| {
            row.push_bind(holding.kind().as_str())
                .push_bind(&holding.name)
                .push_bind(&holding.identity)
                .push_bind(holding.account)
                .push_bind(&holding.label)
                .push_bind(holding.position())
                .push_bind(detail)
                .push_bind(*digest);
        });
        query.build().execute(&mut *c).await?;
    }
    Ok(())
}

fn read_holding(row: &sqlx::sqlite::SqliteRow) -> Result<Holding, StoreError> {
    Ok(Holding {
        name: row.get("name"),
        identity: row.get("identity"),
        account: row.get("account"),
        label: row.get("label"),
        detail: serde_json::from_str(row.get("detail"))?,
    })
}

/// The part of a stored reason that names a license.
fn license_argument(license: &str) -> Result<String, StoreError> {
    Ok(format!("\"license\":{}", serde_json::to_string(license)?))
}

impl Store {
    /// The number of holdings of a kind by role or license.
    pub async fn holding_counts(
        &self,
        kind: HoldingKind,
    ) -> Result<BTreeMap<String, i64>, StoreError> {
        let rows: Vec<(String, i64)> = sqlx::query_as(HOLDING_COUNTS)
            .bind(kind.as_str())
            .fetch_all(&self.reader)
            .await?;
        Ok(rows.into_iter().collect())
    }

    /// The same among some identities.
    pub async fn holding_counts_of(
        &self,
        kind: HoldingKind,
        records: &Records,
    ) -> Result<BTreeMap<String, i64>, StoreError> {
        let rows: Vec<(String, i64)> = sqlx::query_as(COUNT_OF_IDENTITIES)
            .bind(kind.as_str())
            .bind(serde_json::to_string(&records.identities)?)
            .fetch_all(&self.reader)
            .await?;
        Ok(rows.into_iter().collect())
    }

    /// A page of holdings of a kind.
    pub async fn list_holdings(
        &self,
        kind: HoldingKind,
        filter: &HoldingFilter,
    ) -> Result<HoldingPage, StoreError> {
        let search = fold_text(filter.search.trim());
        let push = |query: &mut QueryBuilder<Sqlite>| {
            query.push(" WHERE kind = ").push_bind(kind.as_str());
            if let Some(name) = &filter.name {
                query.push(" AND name = ").push_bind(name.clone());
            }
            if !search.is_empty() {
                query
                    .push(" AND instr(position, ")
                    .push_bind(search.clone());
                query.push(") > 0");
            }
        };
        let counts = self.holding_counts(kind).await?;
        let count = if search.is_empty() {
            let of_name = |name: &String| filter.name.as_ref().is_none_or(|only| only == name);
            let counts = counts.iter().filter(|(name, _)| of_name(name));
            counts.map(|(_, count)| count).sum()
        } else {
            let mut query = QueryBuilder::new("SELECT count(*) FROM holding");
            push(&mut query);
            query.build_query_scalar().fetch_one(&self.reader).await?
        };
        let mut query = QueryBuilder::new("SELECT * FROM holding");
        push(&mut query);
        let cursor = filter.after.as_deref().and_then(|after| {
            let (id, position) = after.split_once(' ')?;
            Some((position.to_owned(), id.parse::<i64>().ok()?))
        });
        if let Some((position, id)) = cursor {
            query.push(" AND (position, id) > (").push_bind(position);
            query.push(", ").push_bind(id).push(")");
        }
        query.push(" ORDER BY position, id LIMIT ");
        let rows = query.push_bind(filter.limit).build();
        let rows = rows.fetch_all(&self.reader).await?;
        let is_full = rows.len() as i64 == filter.limit;
        let next = rows.last().filter(|_| is_full).map(|row| {
            let (id, position): (i64, &str) = (row.get("id"), row.get("position"));
            format!("{id} {position}")
        });
        Ok(HoldingPage {
            items: rows.iter().map(read_holding).collect::<Result<_, _>>()?,
            count,
            next,
        })
    }

    /// The people who wait for a seat of a license: the first of them in order, and their number.
    pub async fn waiting_for_seat(
        &self,
        license: &str,
        limit: i64,
    ) -> Result<(Vec<Holding>, i64), StoreError> {
        let argument = license_argument(license)?;
        let rows = sqlx::query(WAITING)
            .bind(license)
            .bind(&argument)
            .bind(limit)
            .fetch_all(&self.reader)
            .await?;
        let count = sqlx::query_scalar(COUNT_WAITING)
            .bind(&argument)
            .fetch_one(&self.reader)
            .await?;
        let waiting = rows.iter().map(read_holding);
        Ok((waiting.collect::<Result<_, _>>()?, count))
    }

    /// All holdings, for a comparison with a decision.
    pub async fn all_holdings(&self) -> Result<Vec<Holding>, StoreError> {
        let rows = sqlx::query("SELECT * FROM holding")
            .fetch_all(&self.reader)
            .await?;
        rows.iter().map(read_holding).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::KeptPart;
    use crate::{KeptOutcomes, MasterKey};

    fn role(identity: &str, label: &str) -> Holding {
        Holding {
            name: "deck hand".to_owned(),
            identity: identity.to_owned(),
            account: 0,
            label: label.to_owned(),
            detail: HoldingDetail::Role {
                source: Some(RoleSource::Condition("identity.rank == 'deck'".to_owned())),
                until: None,
            },
        }
    }

    fn about(identities: &[&str]) -> Records {
        Records {
            identities: identities.iter().map(|id| (*id).to_owned()).collect(),
            ..Records::default()
        }
    }

    fn kept(holdings: Vec<Holding>) -> KeptOutcomes {
        KeptOutcomes {
            holdings,
            ..KeptOutcomes::default()
        }
    }

    #[tokio::test]
    async fn holders_are_paged_by_label_and_follow_partial_decisions() {
        let folder = tempfile::tempdir().expect("a folder");
        let path = folder.path().join("tide.db");
        let store = Store::open(&path, MasterKey::generate())
            .await
            .expect("opens");
        let people = ["Örn", "ada", "Bo", "Cy"];
        let all = people.iter().map(|label| role(label, label)).collect();
        let part = KeptPart {
            about: about(&people),
            kept: kept(all),
        };
        store.keep_outcomes(part).await.expect("kept");
        let list = async |after: Option<String>, search: &str| {
            let filter = HoldingFilter {
                name: Some("deck hand".to_owned()),
                search: search.to_owned(),
                after,
                limit: 3,
            };
            let page = store.list_holdings(HoldingKind::Role, &filter).await;
            let page = page.expect("listed");
            let labels: Vec<String> = page.items.into_iter().map(|one| one.label).collect();
            (labels, page.count, page.next)
        };
        let (labels, count, next) = list(None, "").await;
        assert_eq!((labels.join(" ").as_str(), count), ("ada Bo Cy", 4));
        let (labels, _, next) = list(next, "").await;
        assert_eq!((labels.join(" ").as_str(), next), ("Örn", None));
        assert_eq!(list(None, "ORN").await.1, 1);
        // Bo loses the role; ada is called otherwise.
        store
            .keep_outcomes(KeptPart {
                about: about(&["Bo", "ada"]),
                kept: kept(vec![role("ada", "Ada Lind")]),
            })
            .await
            .expect("kept");
        let (labels, count, _) = list(None, "").await;
        assert_eq!((labels.join(" ").as_str(), count), ("Ada Lind Cy Örn", 3));
    }
}
