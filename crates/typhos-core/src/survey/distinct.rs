//! The distinct values of a column, with how often and where first each was seen.

use hashbrown::HashTable;
use std::hash::BuildHasher;

use super::Place;

/// Distinct values that are counted exactly: those that two-byte codes can stand for.
pub const MAX_DISTINCT: usize = 65_536;

/// Bytes of distinct values kept over all columns of one survey; shared out evenly, so that a file of
/// thousands of columns stays in bounds too.
const TOTAL_BYTES: usize = 128 << 20;

/// The most one column gets of that.
const MAX_COLUMN_BYTES: usize = 4 << 20;

/// One distinct value.
#[derive(Debug, Clone, Copy)]
pub struct DistinctValue<'t> {
    /// The value.
    pub value: &'t [u8],
    /// How often it was seen.
    pub count: u64,
    /// Where it was seen first.
    pub first: Place,
}

#[derive(Debug, Clone, Copy)]
struct Entry {
    start: u32,
    length: u32,
    count: u64,
    first: Place,
}

/// A table of values that counts.
#[derive(Debug, Clone)]
pub(super) struct DistinctTable {
    index: HashTable<u32>,
    entries: Vec<Entry>,
    bytes: Vec<u8>,
    hasher: foldhash::fast::RandomState,
    most_bytes: usize,
}

impl DistinctTable {
    /// A table for one of `columns` columns.
    pub fn new(columns: usize) -> Self {
        DistinctTable {
            index: HashTable::new(),
            entries: Vec::new(),
            bytes: Vec::new(),
            hasher: foldhash::fast::RandomState::default(),
            most_bytes: (TOTAL_BYTES / columns.max(1)).min(MAX_COLUMN_BYTES),
        }
    }

    pub fn len(&self) -> usize {
        self.entries.len()
    }

    /// Bytes of all distinct values.
    pub fn value_bytes(&self) -> usize {
        self.bytes.len()
    }

    /// Whether it holds more than it may; then it has to be folded and dropped.
    pub fn is_over(&self) -> bool {
        self.entries.len() > MAX_DISTINCT
            || self.bytes.len() + self.entries.len() * size_of::<Entry>() / 2 > self.most_bytes
    }

    /// Counts a value `count` times more.
    #[inline]
    pub fn add(&mut self, value: &[u8], count: u64, first: Place) {
        let hash = self.hasher.hash_one(value);
        let found = self.index.find(hash, |at| {
            let entry = self.entries[*at as usize];
            let start = entry.start as usize;
            &self.bytes[start..start + entry.length as usize] == value
        });
        if let Some(at) = found {
            let entry = &mut self.entries[*at as usize];
            entry.count += count;
            entry.first = entry.first.min(first);
            return;
        }
        self.insert(hash, value, count, first);
    }

    fn insert(&mut self, hash: u64, value: &[u8], count: u64, first: Place) {
        let start = self.bytes.len() as u32;
        self.bytes.extend_from_slice(value);
        let at = self.entries.len() as u32;
        self.entries.push(Entry { start, length: value.len() as u32, count, first });
        let DistinctTable { index, entries, bytes, hasher, .. } = self;
        index.insert_unique(hash, at, |at| {
            let entry = entries[*at as usize];
            hasher.hash_one(&bytes[entry.start as usize..][..entry.length as usize])
        });
    }

    /// All values, in the order they were first added.
    pub fn values(&self) -> impl Iterator<Item = DistinctValue<'_>> {
        self.entries.iter().map(|entry| DistinctValue {
            value: &self.bytes[entry.start as usize..][..entry.length as usize],
            count: entry.count,
            first: entry.first,
        })
    }
}
