//! Kept outcomes: the last decision about each record, as the lists of scopes and matches show it,
//! with kept counts. Lists are read from here, so that none needs a full decision. All of it can
//! be decided again.

use crate::holdings::{Holding, apply_holdings, compare_holdings, stored_holdings};
use crate::{Store, StoreError};
use serde::{Deserialize, Serialize};
use sqlx::{QueryBuilder, Row, Sqlite, SqliteConnection};
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::hash::{DefaultHasher, Hash, Hasher};
use tide_core::incremental::Records;
use tide_core::states::{MatchStatus, ScopeStatus};
use tide_core::{ObjectType, Place, Reason, ReasonCode};

/// Rows of one statement: thirteen values each.
const ROWS: usize = 500;
/// Rows of one commit of a full decision, so that other writes do not wait for long.
const BATCH: usize = 5_000;
/// Rows that are read at once.
const PAGE: i64 = 20_000;

/// The status of a record in one of the lists.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum OutcomeStatus {
    /// In the scope of a system.
    Scope(ScopeStatus),
    /// In the matching of a system.
    Match(MatchStatus),
}

/// A list of outcomes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum OutcomeList {
    /// Who is in scope, out of scope and on hold.
    Scope,
    /// Which records match, and which need review.
    Matches,
}

impl OutcomeList {
    fn as_str(self) -> &'static str {
        match self {
            OutcomeList::Scope => "scope",
            OutcomeList::Matches => "matches",
        }
    }

    /// The statuses of the list, in the order in which they are shown.
    fn statuses(self) -> Vec<OutcomeStatus> {
        match self {
            OutcomeList::Scope => ScopeStatus::ALL
                .iter()
                .copied()
                .map(OutcomeStatus::Scope)
                .collect(),
            OutcomeList::Matches => MatchStatus::ALL
                .iter()
                .copied()
                .map(OutcomeStatus::Match)
                .collect(),
        }
    }
}

impl OutcomeStatus {
    fn list(self) -> OutcomeList {
        match self {
            OutcomeStatus::Scope(_) => OutcomeList::Scope,
            OutcomeStatus::Match(_) => OutcomeList::Matches,
        }
    }

    fn as_str(self) -> &'static str {
        match self {
            OutcomeStatus::Scope(status) => status.as_str(),
            OutcomeStatus::Match(status) => status.as_str(),
        }
    }

    fn parse(list: &str, status: &str) -> Option<OutcomeStatus> {
        match list {
            "scope" => ScopeStatus::parse(status).map(OutcomeStatus::Scope),
            "matches" => MatchStatus::parse(status).map(OutcomeStatus::Match),
            _ => None,
        }
    }
}

/// A record in a list of a system.
#[derive(Debug, Clone, PartialEq)]
pub struct OutcomeRecord {
    /// The system.
    pub system: String,
    /// The type.
    pub object: ObjectType,
    /// The list and the status in it.
    pub status: OutcomeStatus,
    /// The identity; empty for an account without one.
    pub identity: String,
    /// The account; 0 where there is none yet.
    pub account: i64,
    /// The name of the account.
    pub account_name: String,
    /// The label of the person or account that it is about.
    pub label: String,
    /// The number of candidates of a match that needs review.
    pub candidates: i64,
    /// Why.
    pub reason: Reason,
}

impl OutcomeRecord {
    /// What records are counted by beside their status and the code of the reason: the rule, or what
    /// made a link.
    fn group(&self) -> String {
        match self.status {
            OutcomeStatus::Match(MatchStatus::Linked | MatchStatus::WillLink) => {
                self.reason.to_string()
            }
            _ => place_text(self.reason.rule.as_ref()),
        }
    }

    fn digest(&self, reason: &str) -> i64 {
        let mut hasher = DefaultHasher::new();
        (&self.system, self.object, &self.identity, self.account).hash(&mut hasher);
        (&self.account_name, &self.label, self.candidates).hash(&mut hasher);
        (self.status.list().as_str(), self.status.as_str(), reason).hash(&mut hasher);
        hasher.finish().cast_signed()
    }
}

/// How many records of a system have a status for one reason.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OutcomeCount {
    /// The status.
    pub status: OutcomeStatus,
    /// The code of the reason.
    pub code: ReasonCode,
    /// The rule as `FILE:LINE:COLUMN`, or what made a link.
    pub group: String,
    /// How many.
    pub count: i64,
}

impl OutcomeCount {
    /// The rule behind it.
    pub fn rule(&self) -> Option<Place> {
        parse_place(&self.group)
    }
}

/// How many matches of a system have a status for one reason.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct MatchCount {
    /// The system.
    pub system: String,
    /// The status.
    pub status: MatchStatus,
    /// The code of the reason.
    pub code: ReasonCode,
    /// How many.
    pub count: i64,
}

/// Outcomes that a text means.
#[derive(Debug, Clone, Default)]
pub struct FoundOutcomes {
    /// Records that have it.
    pub records: Records,
    /// The codes and groups of reasons that have it.
    pub reasons: BTreeSet<(ReasonCode, String)>,
}

/// Which records of a list to show.
#[derive(Debug, Clone, Default)]
pub struct OutcomeFilter {
    /// Only this status.
    pub status: Option<OutcomeStatus>,
    /// Only reasons of this code.
    pub code: Option<ReasonCode>,
    /// Only reasons by this rule, as `FILE:LINE`.
    pub rule: Option<String>,
    /// Only these: what a text means.
    pub found: Option<FoundOutcomes>,
    /// Where the page begins: `next` of the page before.
    pub after: Option<OutcomePosition>,
    /// The most records.
    pub limit: i64,
}

/// A page of a list: the records by status, label and account.
#[derive(Debug, Clone, Default)]
pub struct OutcomePage {
    /// The records.
    pub records: Vec<OutcomeRecord>,
    /// Where the next page begins; `None` after the last.
    pub next: Option<OutcomePosition>,
}

/// The position of a record in a list: its status, label, account name and row. As a text, it is
/// their JSON.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct OutcomePosition(String, String, String, i64);

impl OutcomePosition {
    /// Reads a position that a page returned; `None` if it is none.
    pub fn parse(text: &str) -> Option<OutcomePosition> {
        serde_json::from_str(text).ok()
    }
}

impl std::fmt::Display for OutcomePosition {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let text = serde_json::to_string(self).map_err(|_| std::fmt::Error)?;
        f.write_str(&text)
    }
}

/// What a partial decision keeps of the records that it is about, in place of what was kept of them.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct KeptPart {
    /// The decided records.
    pub about: Records,
    /// What is kept of them.
    pub kept: KeptOutcomes,
}

/// What a decision keeps.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct KeptOutcomes {
    /// What the lists of scopes and matches show.
    pub records: Vec<OutcomeRecord>,
    /// Roles, conflicts between roles, and seats.
    pub holdings: Vec<Holding>,
}

/// A system, a type, a list, a status, the code of its reason and its group.
type CountKey = (String, String, String, String, String, String);
type CountChanges = BTreeMap<CountKey, i64>;
/// A record as it is written, with its reason as JSON and its digest.
type NewRow = (OutcomeRecord, String, i64);

const COLUMNS: &str = "system, object, list, status, code, group_key, identity, account, account_name, label, candidates, reason, digest";

const DELETE_OUTCOMES: &str = "
    DELETE FROM outcome
    WHERE id IN (SELECT value FROM json_each(?))
    RETURNING system, object, list, status, code, group_key";

const OUTCOMES_OF: &str = "
    SELECT id, digest
    FROM outcome
    WHERE identity <> '' AND identity IN (SELECT value FROM json_each(?1))
    UNION
    SELECT id, digest
    FROM outcome
    WHERE account <> 0 AND account IN (SELECT value FROM json_each(?2))";

const KEPT_OUTCOMES: &str = "
    SELECT id, identity, account
    FROM outcome
    WHERE id > ?
    ORDER BY id
    LIMIT ?";

const KEPT_HOLDINGS: &str = "
    SELECT id, identity, account
    FROM holding
    WHERE id > ?
    ORDER BY id
    LIMIT ?";

const MATCH_COUNTS: &str = "
    SELECT system, status, code, sum(count)
    FROM outcome_count
    WHERE list = 'matches' AND count > 0
    GROUP BY system, status, code
    ORDER BY system, status, code";

const CHANGE_COUNT: &str = "
    INSERT INTO outcome_count (system, object, list, status, code, group_key, count)
    VALUES (?, ?, ?, ?, ?, ?, ?)
    ON CONFLICT DO UPDATE SET count = count + excluded.count";

const COUNTS: &str = "
    SELECT list, status, code, group_key, count
    FROM outcome_count
    WHERE system = ? AND object = ? AND list = ? AND count > 0";

const SAMPLE_REASONS: &str = "
    SELECT reason
    FROM outcome
    WHERE system = ? AND object = ? AND list = ? AND status = ? AND code = ? AND group_key = ?
    LIMIT ?";

fn place_text(place: Option<&Place>) -> String {
    place.map_or_else(String::new, |place| {
        format!("{}:{}:{}", place.file, place.line, place.column)
    })
}

fn parse_place(text: &str) -> Option<Place> {
    let (rest, column) = text.rsplit_once(':')?;
    let (file, line) = rest.rsplit_once(':')?;
    Some(Place {
        file: file.to_owned(),
        line: line.parse().ok()?,
        column: column.parse().ok()?,
    })
}

fn row_of(record: OutcomeRecord) -> Result<NewRow, StoreError> {
    let reason = serde_json::to_string(&record.reason)?;
    let digest = record.digest(&reason);
    Ok((record, reason, digest))
}

/// Splits records into the stored rows, given with their digests, that are no longer so, and the
/// records to add.
pub(crate) fn difference<T>(
    stored: Vec<(i64, i64)>,
    records: Vec<T>,
    digest: impl Fn(&T) -> i64,
) -> (Vec<i64>, Vec<T>) {
    let mut rows: HashMap<i64, Vec<i64>> = HashMap::with_capacity(stored.len());
    for (id, digest) in stored {
        rows.entry(digest).or_default().push(id);
    }
    let is_new = |record: &T| {
        let known = rows.get_mut(&digest(record)).and_then(Vec::pop);
        known.is_none()
    };
    let added = records.into_iter().filter(is_new).collect();
    let gone = rows.into_values().flatten().collect();
    (gone, added)
}

fn compare(
    stored: Vec<(i64, i64)>,
    records: Vec<OutcomeRecord>,
) -> Result<(Vec<i64>, Vec<NewRow>), StoreError> {
    let rows = records.into_iter().map(row_of);
    let rows = rows.collect::<Result<Vec<_>, _>>()?;
    Ok(difference(stored, rows, |row| row.2))
}

/// Stores the outcomes of a partial decision.
pub(crate) async fn keep_outcomes(
    c: &mut SqliteConnection,
    about: &Records,
    kept: KeptOutcomes,
) -> Result<(), StoreError> {
    let identities = serde_json::to_string(&about.identities)?;
    let accounts = serde_json::to_string(&about.accounts)?;
    let stored = sqlx::query_as(OUTCOMES_OF)
        .bind(&identities)
        .bind(&accounts)
        .fetch_all(&mut *c)
        .await?;
    let (gone, added) = compare(stored, kept.records)?;
    apply(c, &gone, &added).await?;
    let stored = stored_holdings(c, &identities, &accounts).await?;
    let (gone, added) = compare_holdings(stored, kept.holdings)?;
    apply_holdings(c, &gone, &added).await
}

async fn apply(c: &mut SqliteConnection, gone: &[i64], added: &[NewRow]) -> Result<(), StoreError> {
    let mut counts = CountChanges::new();
    if !gone.is_empty() {
        for row in sqlx::query(DELETE_OUTCOMES)
            .bind(serde_json::to_string(gone)?)
            .fetch_all(&mut *c)
            .await?
        {
            let key = (
                row.get(0),
                row.get(1),
                row.get(2),
                row.get(3),
                row.get(4),
                row.get(5),
            );
            *counts.entry(key).or_default() -= 1;
        }
    }
    for rows in added.chunks(ROWS) {
        insert(c, rows, &mut counts).await?;
    }
    for ((system, object, list, status, code, group), change) in counts {
        if change != 0 {
            sqlx::query(CHANGE_COUNT)
                .bind(system)
                .bind(object)
                .bind(list)
                .bind(status)
                .bind(code)
                .bind(group)
                .bind(change)
                .execute(&mut *c)
                .await?;
        }
    }
    Ok(())
}

async fn insert(
    c: &mut SqliteConnection,
    rows: &[NewRow],
    counts: &mut CountChanges,
) -> Result<(), StoreError> {
    let mut query = QueryBuilder::<Sqlite>::new(format!("INSERT INTO outcome ({COLUMNS}) "));
    query.push_values(rows, |mut row, (record, reason, digest)| {
        let (list, status) = (record.status.list().as_str(), record.status.as_str());
        let (code, group) = (record.reason.code(), record.group());
        let key = (
            record.system.clone(),
            record.object.as_str().to_owned(),
            list.to_owned(),
            status.to_owned(),
            code.as_str().to_owned(),
            group.clone(),
        );
        *counts.entry(key).or_default() += 1;
        row.push_bind(record.system.clone())
            .push_bind(record.object.as_str())
            .push_bind(list)
            .push_bind(status)
            .push_bind(code.as_str())
            .push_bind(group)
            .push_bind(record.identity.clone())
            .push_bind(record.account)
            .push_bind(record.account_name.clone())
            .push_bind(record.label.clone())
            .push_bind(record.candidates)
            .push_bind(reason.clone())
            .push_bind(*digest);
    });
    query.build().execute(&mut *c).await?;
    Ok(())
}

fn read_record(row: &sqlx::sqlite::SqliteRow) -> Option<OutcomeRecord> {
    Some(OutcomeRecord {
        system: row.get("system"),
        object: ObjectType::parse(row.get("object"))?,
        status: OutcomeStatus::parse(row.get("list"), row.get("status"))?,
        identity: row.get("identity"),
        account: row.get("account"),
        account_name: row.get("account_name"),
        label: row.get("label"),
        candidates: row.get("candidates"),
        reason: serde_json::from_str(row.get("reason")).ok()?,
    })
}

impl Store {
    /// Stores the outcomes of a part of a decision: those of the records that it is about replace the
    /// earlier ones. Those of many records are stored in several commits.
    pub async fn keep_outcomes(&self, part: KeptPart) -> Result<(), StoreError> {
        if part.about.len() > BATCH {
            return self.keep_many_outcomes(part).await;
        }
        self.writer
            .run_relaxed(move |c| {
                Box::pin(async move { keep_outcomes(c, &part.about, part.kept).await })
            })
            .await
    }

    async fn keep_many_outcomes(&self, part: KeptPart) -> Result<(), StoreError> {
        let identities = serde_json::to_string(&part.about.identities)?;
        let accounts = serde_json::to_string(&part.about.accounts)?;
        let mut reader = self.reader.acquire().await?;
        let stored = sqlx::query_as(OUTCOMES_OF)
            .bind(&identities)
            .bind(&accounts)
            .fetch_all(&mut *reader)
            .await?;
        let (mut gone, mut added) = compare(stored, part.kept.records)?;
        let stored = stored_holdings(&mut reader, &identities, &accounts).await?;
        drop(reader);
        while !gone.is_empty() || !added.is_empty() {
            let less = gone.split_off(gone.len().saturating_sub(BATCH));
            let more = added.split_off(added.len().saturating_sub(BATCH));
            self.writer
                .run_relaxed(move |c| Box::pin(async move { apply(c, &less, &more).await }))
                .await?;
        }
        let (mut gone, mut added) = compare_holdings(stored, part.kept.holdings)?;
        while !gone.is_empty() || !added.is_empty() {
            let less = gone.split_off(gone.len().saturating_sub(BATCH));
            let more = added.split_off(added.len().saturating_sub(BATCH));
            self.writer
                .run_relaxed(move |c| {
                    Box::pin(async move { apply_holdings(c, &less, &more).await })
                })
                .await?;
        }
        Ok(())
    }

    /// Deletes what is kept of records that are gone, a part in each commit. `is_known` gets the
    /// identity, or an empty text, and the account, or 0.
    pub async fn prune_outcomes(
        &self,
        is_known: impl Fn(&str, i64) -> bool + Send,
    ) -> Result<(), StoreError> {
        let gone = self.kept_of_others(KEPT_OUTCOMES, &is_known).await?;
        for ids in gone.chunks(BATCH) {
            let ids = ids.to_vec();
            self.writer
                .run_relaxed(move |c| Box::pin(async move { apply(c, &ids, &[]).await }))
                .await?;
        }
        let gone = self.kept_of_others(KEPT_HOLDINGS, &is_known).await?;
        for ids in gone.chunks(BATCH) {
            let ids = ids.to_vec();
            self.writer
                .run_relaxed(move |c| Box::pin(async move { apply_holdings(c, &ids, &[]).await }))
                .await?;
        }
        Ok(())
    }

    /// The rows about records that are not known.
    async fn kept_of_others(
        &self,
        rows: &'static str,
        is_known: &(impl Fn(&str, i64) -> bool + Send),
    ) -> Result<Vec<i64>, StoreError> {
        let mut after = 0;
        let mut gone = Vec::new();
        loop {
            let page: Vec<(i64, String, i64)> = sqlx::query_as(rows)
                .bind(after)
                .bind(PAGE)
                .fetch_all(&self.reader)
                .await?;
            let Some((last, ..)) = page.last() else {
                return Ok(gone);
            };
            after = *last;
            let others = page
                .iter()
                .filter(|(_, identity, account)| !is_known(identity, *account));
            gone.extend(others.map(|(id, ..)| *id));
        }
    }

    /// The number of matches of each system by status and code of the reason.
    pub async fn match_counts(&self) -> Result<Vec<MatchCount>, StoreError> {
        let rows = sqlx::query(MATCH_COUNTS).fetch_all(&self.reader).await?;
        let read = |row: &sqlx::sqlite::SqliteRow| {
            Some(MatchCount {
                system: row.get(0),
                status: MatchStatus::parse(row.get(1))?,
                code: row.get::<&str, _>(2).parse().ok()?,
                count: row.get(3),
            })
        };
        Ok(rows.iter().filter_map(read).collect())
    }

    /// The number of records in a list of a system by status and reason.
    pub async fn outcome_counts(
        &self,
        list: OutcomeList,
        system: &str,
        object: ObjectType,
    ) -> Result<Vec<OutcomeCount>, StoreError> {
        let rows = sqlx::query(COUNTS)
            .bind(system)
            .bind(object.as_str())
            .bind(list.as_str())
            .fetch_all(&self.reader)
            .await?;
        let read = |row: &sqlx::sqlite::SqliteRow| {
            Some(OutcomeCount {
                status: OutcomeStatus::parse(row.get(0), row.get(1))?,
                code: row.get::<&str, _>(2).parse().ok()?,
                group: row.get(3),
                count: row.get(4),
            })
        };
        Ok(rows.iter().filter_map(read).collect())
    }

    /// Some reasons of a count.
    pub async fn sample_reasons(
        &self,
        system: &str,
        object: ObjectType,
        count: &OutcomeCount,
        limit: i64,
    ) -> Result<Vec<Reason>, StoreError> {
        let rows: Vec<String> = sqlx::query_scalar(SAMPLE_REASONS)
            .bind(system)
            .bind(object.as_str())
            .bind(count.status.list().as_str())
            .bind(count.status.as_str())
            .bind(count.code.as_str())
            .bind(&count.group)
            .bind(limit)
            .fetch_all(&self.reader)
            .await?;
        let read = |text: &String| serde_json::from_str(text).ok();
        Ok(rows.iter().filter_map(read).collect())
    }

    /// A page of a list of a system: the records of a filter, by status, label and account.
    pub async fn list_records(
        &self,
        list: OutcomeList,
        system: &str,
        object: ObjectType,
        filter: &OutcomeFilter,
    ) -> Result<OutcomePage, StoreError> {
        let mut last = filter.after.clone();
        let mut page = OutcomePage::default();
        // Status by status, so that each is read in the order of the index.
        let mut statuses = match filter.status {
            Some(status) => vec![status],
            None => list.statuses(),
        };
        if let Some(OutcomePosition(status, ..)) = &filter.after {
            let before = statuses.iter().position(|one| one.as_str() == status);
            statuses.drain(..before.unwrap_or_default());
        }
        for status in statuses {
            let left = filter.limit.saturating_sub(page.records.len() as i64);
            let mut query = QueryBuilder::new("SELECT * FROM outcome o");
            push_filter(&mut query, system, object, status);
            push_reason(&mut query, filter);
            if let Some(one) = &filter.found {
                query.push(" AND (");
                push_records(&mut query, &one.records)?;
                query.push(" OR ");
                push_reasons(&mut query, &one.reasons)?;
                query.push(")");
            }
            let after = filter.after.as_ref();
            if let Some(after) = after.filter(|after| after.0 == status.as_str()) {
                query.push(" AND (label, account_name, id) > (");
                query.push_bind(after.1.clone()).push(", ");
                query.push_bind(after.2.clone()).push(", ");
                query.push_bind(after.3).push(")");
            }
            query.push(" ORDER BY label, account_name, id LIMIT ");
            // One more than fits tells whether there is another page.
            let rows = query
                .push_bind(left.saturating_add(1))
                .build()
                .fetch_all(&self.reader)
                .await?;
            let fits = usize::try_from(left).unwrap_or(usize::MAX);
            for row in rows.iter().take(fits) {
                page.records.extend(read_record(row));
                let (label, account, id) =
                    (row.get("label"), row.get("account_name"), row.get("id"));
                last = Some(OutcomePosition(
                    status.as_str().to_owned(),
                    label,
                    account,
                    id,
                ));
            }
            if rows.len() > fits {
                page.next = last;
                break;
            }
        }
        Ok(page)
    }

    /// The number of records of a filter, on all pages.
    pub async fn count_found(
        &self,
        list: OutcomeList,
        system: &str,
        object: ObjectType,
        filter: &OutcomeFilter,
    ) -> Result<i64, StoreError> {
        let mut found = self.count_records(list, system, object, filter).await?;
        let Some(one) = &filter.found else {
            return Ok(found);
        };
        let statuses = match filter.status {
            Some(status) => vec![status],
            None => list.statuses(),
        };
        for status in statuses {
            // Those of the reasons are counted already.
            let mut query = QueryBuilder::new("SELECT count(*) FROM outcome o");
            push_filter(&mut query, system, object, status);
            push_reason(&mut query, filter);
            query.push(" AND ");
            push_records(&mut query, &one.records)?;
            query.push(" AND NOT ");
            push_reasons(&mut query, &one.reasons)?;
            let count: i64 = query.build_query_scalar().fetch_one(&self.reader).await?;
            found += count;
        }
        Ok(found)
    }

    /// The kept count of the records of a filter; with a text, of the reasons that have it.
    async fn count_records(
        &self,
        list: OutcomeList,
        system: &str,
        object: ObjectType,
        filter: &OutcomeFilter,
    ) -> Result<i64, StoreError> {
        let counts = self.outcome_counts(list, system, object).await?;
        let fits = |count: &&OutcomeCount| {
            let rule = || count.rule().as_ref().map(ToString::to_string);
            let is_found = |found: &FoundOutcomes| {
                let reason = (count.code, count.group.clone());
                found.reasons.contains(&reason)
            };
            filter.found.as_ref().is_none_or(is_found)
                && filter.status.is_none_or(|status| status == count.status)
                && filter.code.is_none_or(|code| code == count.code)
                && (filter.rule.is_none() || filter.rule == rule())
        };
        Ok(counts.iter().filter(fits).map(|count| count.count).sum())
    }

    /// All kept outcomes, for a comparison with a decision.
    pub async fn all_outcomes(&self) -> Result<Vec<OutcomeRecord>, StoreError> {
        let rows = sqlx::query("SELECT * FROM outcome")
            .fetch_all(&self.reader)
            .await?;
        Ok(rows.iter().filter_map(read_record).collect())
    }
}

fn push_filter(
    query: &mut QueryBuilder<Sqlite>,
    system: &str,
    object: ObjectType,
    status: OutcomeStatus,
) {
    query
        .push(" WHERE system = ")
        .push_bind(system.to_owned())
        .push(" AND object = ")
        .push_bind(object.as_str())
        .push(" AND list = ")
        .push_bind(status.list().as_str())
        .push(" AND status = ")
        .push_bind(status.as_str());
}

/// Only some records.
fn push_records(query: &mut QueryBuilder<Sqlite>, records: &Records) -> Result<(), StoreError> {
    query
        .push("o.id IN (SELECT id FROM outcome WHERE identity <> '' AND identity IN (SELECT value FROM json_each(")
        .push_bind(serde_json::to_string(&records.identities)?)
        .push(")) UNION SELECT id FROM outcome WHERE account <> 0 AND account IN (SELECT value FROM json_each(")
        .push_bind(serde_json::to_string(&records.accounts)?)
        .push(")))");
    Ok(())
}

/// Only some reasons, by their codes and groups.
fn push_reasons(
    query: &mut QueryBuilder<Sqlite>,
    reasons: &BTreeSet<(ReasonCode, String)>,
) -> Result<(), StoreError> {
    let reasons: Vec<(&str, &str)> = reasons
        .iter()
        .map(|(code, group)| (code.as_str(), group.as_str()))
        .collect();
    query
        .push("(o.code, o.group_key) IN (SELECT value ->> 0, value ->> 1 FROM json_each(")
        .push_bind(serde_json::to_string(&reasons)?)
        .push("))");
    Ok(())
}

fn push_reason(query: &mut QueryBuilder<Sqlite>, filter: &OutcomeFilter) {
    if let Some(code) = filter.code {
        query.push(" AND code = ").push_bind(code.as_str());
    }
    if let Some(rule) = &filter.rule {
        // The column follows the line.
        let start = format!("{rule}:");
        query
            .push(" AND substr(group_key, 1, ")
            .push_bind(start.chars().count() as i64)
            .push(") = ")
            .push_bind(start);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::MasterKey;
    use tide_core::ReasonKind;

    fn outcome(
        identity: &str,
        account: i64,
        scope: ScopeStatus,
        kind: ReasonKind,
    ) -> OutcomeRecord {
        let place = Place {
            file: "harbour.toml".to_owned(),
            line: account as usize,
            column: 3,
        };
        OutcomeRecord {
            system: "harbour".to_owned(),
            object: ObjectType::Person,
            identity: identity.to_owned(),
            account,
            account_name: format!("uid={account}"),
            label: format!("Person {identity}{account}"),
            status: OutcomeStatus::Scope(scope),
            candidates: 0,
            reason: Reason::by(kind, &place),
        }
    }

    fn about(identities: &[&str], accounts: &[i64]) -> Records {
        Records {
            identities: identities.iter().map(|id| (*id).to_owned()).collect(),
            accounts: accounts.iter().copied().collect(),
        }
    }

    fn kept(records: Vec<OutcomeRecord>) -> KeptOutcomes {
        KeptOutcomes {
            records,
            ..KeptOutcomes::default()
        }
    }

    async fn store() -> (tempfile::TempDir, Store) {
        let folder = tempfile::tempdir().expect("a folder");
        let store = Store::open(&folder.path().join("tide.db"), MasterKey::generate())
            .await
            .expect("opens");
        (folder, store)
    }

    /// Stores what a full decision keeps.
    async fn keep_all(store: &Store, records: Vec<OutcomeRecord>) {
        let identities = records.iter().map(|one| one.identity.clone());
        let about = Records {
            identities: identities.collect(),
            accounts: records.iter().map(|one| one.account).collect(),
        };
        let part = KeptPart {
            about: about.clone(),
            kept: kept(records),
        };
        store.keep_outcomes(part).await.expect("kept");
        let is_known = |identity: &str, account| {
            about.identities.contains(identity) && !identity.is_empty()
                || about.accounts.contains(&account)
        };
        store.prune_outcomes(is_known).await.expect("pruned");
    }

    #[tokio::test]
    async fn outcomes_of_many_records_are_stored_in_several_commits() {
        let (_folder, store) = store().await;
        let count = BATCH as i64 + 10;
        let all = |status: ScopeStatus| -> Vec<OutcomeRecord> {
            let one = |n: i64| outcome(&format!("i{n}"), n, status, ReasonKind::InSync);
            (1..=count).map(one).collect()
        };
        keep_all(&store, all(ScopeStatus::In)).await;
        assert_eq!(totals(&store).await, [(ScopeStatus::In, count)]);
        let mut others = all(ScopeStatus::In);
        others[7] = outcome("i8", 8, ScopeStatus::Out, ReasonKind::InSync);
        keep_all(&store, others).await;
        let expected = [(ScopeStatus::In, count - 1), (ScopeStatus::Out, 1)];
        assert_eq!(totals(&store).await, expected);
    }

    async fn totals(store: &Store) -> Vec<(ScopeStatus, i64)> {
        let counts = store
            .outcome_counts(OutcomeList::Scope, "harbour", ObjectType::Person)
            .await
            .expect("counted");
        let mut totals: BTreeMap<ScopeStatus, i64> = BTreeMap::new();
        for count in counts {
            match count.status {
                OutcomeStatus::Scope(status) => *totals.entry(status).or_default() += count.count,
                OutcomeStatus::Match(_) => panic!("{count:?}"),
            }
        }
        totals.into_iter().collect()
    }

    #[tokio::test]
    async fn kept_counts_follow_partial_and_full_decisions() {
        let (_folder, store) = store().await;
        let in_scope =
            |id: &str, account| outcome(id, account, ScopeStatus::In, ReasonKind::InSync);
        let out = |account| {
            let words = "address outside our domain".to_owned();
            let kind = ReasonKind::ConditionNotMet { words };
            outcome("", account, ScopeStatus::Out, kind)
        };
        keep_all(&store, vec![in_scope("i1", 1), in_scope("i2", 2), out(3)]).await;
        assert_eq!(
            totals(&store).await,
            [(ScopeStatus::In, 2), (ScopeStatus::Out, 1)]
        );
        // An account that had no identity gets one, and another person leaves.
        store
            .keep_outcomes(KeptPart {
                about: about(&["i2", "i3"], &[2, 3]),
                kept: kept(vec![in_scope("i3", 3)]),
            })
            .await
            .expect("kept");
        assert_eq!(totals(&store).await, [(ScopeStatus::In, 2)]);
        let left = store.all_outcomes().await.expect("read");
        assert_eq!(left.len(), 2);
        assert!(left.contains(&in_scope("i1", 1)) && left.contains(&in_scope("i3", 3)));
        keep_all(&store, vec![out(3)]).await;
        assert_eq!(totals(&store).await, [(ScopeStatus::Out, 1)]);
    }

    #[tokio::test]
    async fn a_scope_is_filtered_by_status_code_rule_and_record() {
        let (_folder, store) = store().await;
        let words = "Größer als erlaubt".to_owned();
        let kind = ReasonKind::ConditionNotMet { words };
        let records = vec![
            outcome("i1", 1, ScopeStatus::In, ReasonKind::InSync),
            outcome("", 2, ScopeStatus::Out, kind),
        ];
        keep_all(&store, records).await;
        let list = async |filter: OutcomeFilter| {
            let filter = OutcomeFilter {
                limit: 10,
                ..filter
            };
            let found =
                store.list_records(OutcomeList::Scope, "harbour", ObjectType::Person, &filter);
            let records = found.await.expect("listed").records;
            let count =
                store.count_found(OutcomeList::Scope, "harbour", ObjectType::Person, &filter);
            assert_eq!(records.len() as i64, count.await.expect("counted"));
            // The same, one on each page.
            let (mut paged, mut after) = (Vec::new(), None);
            loop {
                let one = OutcomeFilter {
                    limit: 1,
                    after,
                    ..filter.clone()
                };
                let page =
                    store.list_records(OutcomeList::Scope, "harbour", ObjectType::Person, &one);
                let page = page.await.expect("a page");
                paged.extend(page.records);
                let Some(next) = page.next else { break };
                after = OutcomePosition::parse(&next.to_string());
                assert_eq!(after, Some(next));
            }
            assert_eq!(paged, records);
            records
                .into_iter()
                .map(|one| one.account)
                .collect::<Vec<_>>()
        };
        assert_eq!(list(OutcomeFilter::default()).await, [1, 2]);
        let status = Some(OutcomeStatus::Scope(ScopeStatus::Out));
        assert_eq!(
            list(OutcomeFilter {
                status,
                ..Default::default()
            })
            .await,
            [2]
        );
        let code = Some(ReasonCode::InSync);
        assert_eq!(
            list(OutcomeFilter {
                code,
                ..Default::default()
            })
            .await,
            [1]
        );
        let rule = Some("harbour.toml:2".to_owned());
        assert_eq!(
            list(OutcomeFilter {
                rule,
                ..Default::default()
            })
            .await,
            [2]
        );
        let found = |records: Records, reasons: &[(ReasonCode, &str)]| OutcomeFilter {
            found: Some(FoundOutcomes {
                records,
                reasons: reasons
                    .iter()
                    .map(|(code, group)| (*code, (*group).to_owned()))
                    .collect(),
            }),
            ..OutcomeFilter::default()
        };
        assert_eq!(list(found(about(&[], &[2, 7]), &[])).await, [2]);
        let reason = (ReasonCode::InSync, "harbour.toml:1:3");
        assert_eq!(list(found(about(&[], &[7]), &[reason])).await, [1]);
        assert_eq!(list(found(about(&["i1"], &[2]), &[reason])).await, [1, 2]);
        assert!(list(found(Records::default(), &[])).await.is_empty());
    }
}
