//! The dependency index: an inverted index from hashes of four kinds to the records that have them.

use crate::model::AccountId;
use rustc_hash::{FxHashMap, FxHashSet};

/// One record of a population.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum RecordId {
    /// An account, by row id.
    Account(AccountId),
    /// An identity, by id.
    Identity(String),
}

/// The position of a record in the index.
pub(super) type RecordIndex = u32;

/// Some records, by their positions.
pub(super) type PlaceSet = FxHashSet<RecordIndex>;

/// The hashes of one record, each kind sorted.
#[derive(Debug, Default, Clone, PartialEq, Eq)]
pub(super) struct IndexKeys {
    /// Records that share one of these are decided together: match keys, names, unique values.
    pub joins_on: Vec<u64>,
    /// The names and keys by which others refer to the record.
    pub identified_by: Vec<u64>,
    /// The names and keys to which the record refers.
    pub refers_to: Vec<u64>,
    /// Generated values that are reserved for the record or in use by it.
    pub reserves: Vec<u64>,
}

impl IndexKeys {
    fn sorted(mut self) -> IndexKeys {
        for one in [
            &mut self.joins_on,
            &mut self.identified_by,
            &mut self.refers_to,
            &mut self.reserves,
        ] {
            one.sort_unstable();
            one.dedup();
        }
        self
    }
}

/// The hashes of one record in one allocation: a population has millions of them.
#[derive(Debug, Default)]
struct PackedKeys {
    all: Box<[u64]>,
    /// The ends of the first three kinds.
    ends: [u32; 3],
}

impl PackedKeys {
    fn of(hashes: &IndexKeys) -> PackedKeys {
        let IndexKeys {
            joins_on: meets,
            identified_by: named,
            refers_to: wants,
            reserves: takes,
        } = hashes;
        let all: Vec<u64> = [meets, named, wants, takes]
            .into_iter()
            .flatten()
            .copied()
            .collect();
        let ends = [
            meets.len(),
            meets.len() + named.len(),
            meets.len() + named.len() + wants.len(),
        ];
        PackedKeys {
            all: all.into(),
            ends: ends.map(|end| u32::try_from(end).unwrap_or(u32::MAX)),
        }
    }

    fn kind(&self, kind: usize) -> &[u64] {
        let end = |at: usize| {
            self.ends
                .get(at)
                .map_or(self.all.len(), |end| *end as usize)
        };
        &self.all[if kind == 0 { 0 } else { end(kind - 1) }..end(kind)]
    }
}

const MEETS: usize = 0;
const NAMED: usize = 1;
const WANTS: usize = 2;
const TAKES: usize = 3;

/// Records by hash. Nearly every hash belongs to one record, which is stored without a list.
#[derive(Debug, Default)]
struct Reverse {
    first: FxHashMap<u64, RecordIndex>,
    more: FxHashMap<u64, Vec<RecordIndex>>,
}

impl Reverse {
    fn put(&mut self, hash: u64, place: RecordIndex) {
        match self.first.get(&hash) {
            None => {
                self.first.insert(hash, place);
            }
            Some(known) if *known == place => {}
            Some(_) => {
                let more = self.more.entry(hash).or_default();
                if !more.contains(&place) {
                    more.push(place);
                }
            }
        }
    }

    fn get(&self, hash: u64) -> impl Iterator<Item = RecordIndex> {
        self.first
            .get(&hash)
            .into_iter()
            .chain(self.more.get(&hash).into_iter().flatten())
            .copied()
    }
}

/// The index over all records. Entries are never removed: a record can still be found by a hash
/// that it no longer has, which returns too many records, and never too few.
#[derive(Debug, Default)]
pub(super) struct DependencyIndex {
    records: Vec<RecordId>,
    accounts: FxHashMap<AccountId, RecordIndex>,
    identities: FxHashMap<String, RecordIndex>,
    kept: Vec<PackedKeys>,
    reverse: [Reverse; 4],
    /// Accounts by the names that groups use for them.
    members: Reverse,
    /// How often a record or an edge was added.
    additions: usize,
}

impl DependencyIndex {
    pub fn len(&self) -> usize {
        self.records.len()
    }

    /// How often a record or an edge was added: while it is the same, so are all neighborhoods.
    pub fn additions(&self) -> usize {
        self.additions
    }

    pub fn record(&self, place: RecordIndex) -> &RecordId {
        &self.records[place as usize]
    }

    pub fn account(&self, id: AccountId) -> Option<RecordIndex> {
        self.accounts.get(&id).copied()
    }

    pub fn identity(&self, id: &str) -> Option<RecordIndex> {
        self.identities.get(id).copied()
    }

    /// Updates the index entry of a record; old edges are kept. Returns `true` if an identifying
    /// key changed, so that records referring to it must be decided again.
    pub fn update_record(&mut self, record: &RecordId, hashes: IndexKeys) -> bool {
        let mut hashes = hashes.sorted();
        let known = match record {
            RecordId::Account(id) => self.account(*id),
            RecordId::Identity(id) => self.identity(id),
        };
        let place = known.unwrap_or_else(|| self.add(record));
        let before = &self.kept[place as usize];
        let other = before.kind(NAMED) != hashes.identified_by;
        hashes.joins_on.extend(before.kind(MEETS));
        let hashes = hashes.sorted();
        let after = PackedKeys::of(&hashes);
        if after.all != before.all || after.ends != before.ends {
            for kind in [MEETS, NAMED, WANTS, TAKES] {
                for hash in after.kind(kind) {
                    if before.kind(kind).binary_search(hash).is_err() {
                        self.reverse[kind].put(*hash, place);
                        self.additions += 1;
                    }
                }
            }
            self.kept[place as usize] = after;
        }
        other || known.is_none()
    }

    fn add(&mut self, record: &RecordId) -> RecordIndex {
        let place = RecordIndex::try_from(self.records.len()).unwrap_or(RecordIndex::MAX);
        match record {
            RecordId::Account(id) => {
                self.accounts.insert(*id, place);
            }
            RecordId::Identity(id) => {
                self.identities.insert(id.clone(), place);
            }
        }
        self.additions += 1;
        self.records.push(record.clone());
        self.kept.push(PackedKeys::default());
        place
    }

    /// Reserves a generated value for a record.
    pub fn reserve(&mut self, place: RecordIndex, hash: u64) {
        let kept = &mut self.kept[place as usize];
        if kept.kind(TAKES).binary_search(&hash).is_err() {
            let [joins_on, identified_by, refers_to, mut reserves] =
                [MEETS, NAMED, WANTS, TAKES].map(|kind| kept.kind(kind).to_vec());
            reserves.push(hash);
            let keys = IndexKeys {
                joins_on,
                identified_by,
                refers_to,
                reserves,
            };
            *kept = PackedKeys::of(&keys.sorted());
            self.reverse[TAKES].put(hash, place);
        }
    }

    /// The records that are decided together with it.
    pub fn neighbors(&self, place: RecordIndex) -> impl Iterator<Item = RecordIndex> {
        self.kept[place as usize]
            .kind(MEETS)
            .iter()
            .flat_map(|hash| self.reverse[MEETS].get(*hash))
    }

    /// The records that refer to it.
    pub fn referrers(&self, place: RecordIndex) -> impl Iterator<Item = RecordIndex> {
        self.kept[place as usize]
            .kind(NAMED)
            .iter()
            .flat_map(|hash| self.reverse[WANTS].get(*hash))
    }

    /// The records to which it refers.
    pub fn references(&self, place: RecordIndex) -> impl Iterator<Item = RecordIndex> {
        self.kept[place as usize]
            .kind(WANTS)
            .iter()
            .flat_map(|hash| self.reverse[NAMED].get(*hash))
    }

    /// The accounts that a group refers to by a name, given its hash.
    pub fn accounts_by_member_name(&self, hash: u64) -> impl Iterator<Item = AccountId> {
        let places = self.members.get(hash);
        places.filter_map(|place| match self.record(place) {
            RecordId::Account(id) => Some(*id),
            RecordId::Identity(_) => None,
        })
    }

    /// Adds the names that groups use for an account.
    pub fn is_called(&mut self, account: AccountId, names: impl Iterator<Item = u64>) {
        if let Some(place) = self.account(account) {
            names.for_each(|name| self.members.put(name, place));
        }
    }

    /// The records that have reserved or use a generated value at present.
    pub fn records_reserving(&self, hash: u64) -> impl Iterator<Item = RecordIndex> {
        self.reverse[TAKES].get(hash).filter(move |place| {
            self.kept[*place as usize]
                .kind(TAKES)
                .binary_search(&hash)
                .is_ok()
        })
    }
}

/// A hash of several words, including their boundaries.
pub(super) fn hash(parts: &[&str]) -> u64 {
    let mut hasher = xxhash_rust::xxh3::Xxh3::new();
    for part in parts {
        hasher.update(part.as_bytes());
        hasher.update(&[0]);
    }
    hasher.digest()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn old_neighbors_stay_near_and_names_follow_the_present_values() {
        let mut web = DependencyIndex::default();
        let (ada, bo) = (RecordId::Account(1), RecordId::Identity("bo".into()));
        let meets = |meets: &[u64], takes: &[u64]| IndexKeys {
            joins_on: meets.to_vec(),
            reserves: takes.to_vec(),
            ..IndexKeys::default()
        };
        assert!(
            web.update_record(&ada, meets(&[7], &[1])),
            "who is new is seen otherwise"
        );
        assert!(web.update_record(&bo, meets(&[7, 8], &[])));
        assert!(
            !web.update_record(&ada, meets(&[9], &[2])),
            "none of these names it"
        );
        let place = web.identity("bo").expect("noted");
        let near: Vec<&RecordId> = web
            .neighbors(place)
            .map(|place| web.record(place))
            .collect();
        assert!(near.contains(&&ada) && near.contains(&&bo), "{near:?}");
        assert_eq!(
            (
                web.records_reserving(1).count(),
                web.records_reserving(2).count()
            ),
            (0, 1)
        );
        assert!(web.update_record(
            &bo,
            IndexKeys {
                identified_by: vec![3],
                ..meets(&[8], &[])
            }
        ));
    }

    #[test]
    fn a_reserved_value_is_added_to_what_a_record_has() {
        let mut web = DependencyIndex::default();
        let ada = RecordId::Identity("ada".into());
        let keys = IndexKeys {
            joins_on: vec![7],
            identified_by: vec![3],
            reserves: vec![5],
            ..IndexKeys::default()
        };
        web.update_record(&ada, keys.clone());
        let (place, before) = (web.identity("ada").expect("noted"), web.additions());
        web.reserve(place, 4);
        web.reserve(place, 4);
        for hash in [4, 5] {
            assert_eq!(web.records_reserving(hash).collect::<Vec<_>>(), [place]);
        }
        assert_eq!(web.neighbors(place).collect::<Vec<_>>(), [place]);
        assert_eq!(web.additions(), before, "no neighborhood differs");
        assert!(!web.update_record(&ada, keys));
        assert_eq!(
            web.records_reserving(4).count(),
            0,
            "it was composed without"
        );
    }
}
