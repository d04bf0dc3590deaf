//! Distinct byte strings, numbered as they come.
//!
//! Surveys count distinct values with it, and dictionary columns make their codes of it, so a look-up
//! is one of the hottest things there is. A string of up to 16 bytes is compared as two integers and a
//! length, read in two overlapping pieces; only longer ones are compared as bytes. Comparing slices
//! took a tenth of the time of a whole load into Parquet (see docs/performance.md).

use std::hash::BuildHasher;

use hashbrown::HashTable;

/// A set of byte strings with dense numbers.
#[derive(Debug, Clone)]
pub(crate) struct Interner {
    index: HashTable<Slot>,
    spans: Vec<(u32, u32)>,
    bytes: Vec<u8>,
    hasher: foldhash::fast::RandomState,
}

/// What the index holds of a string: all of it where it is short.
#[derive(Debug, Clone, Copy)]
struct Slot {
    key: Key,
    number: u32,
}

/// A string as integers: first and last eight bytes (overlapping, or padded, where it is shorter), and
/// its length. Strings of up to 16 bytes are equal exactly if their keys are.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Key {
    head: u64,
    tail: u64,
    length: u32,
}

const EXACT: usize = 16;

impl Key {
    #[inline]
    fn of(value: &[u8]) -> Key {
        let (head, tail) = if let (Some(head), Some(tail)) =
            (value.first_chunk::<8>(), value.last_chunk::<8>())
        {
            (u64::from_le_bytes(*head), u64::from_le_bytes(*tail))
        } else if let (Some(head), Some(tail)) = (value.first_chunk::<4>(), value.last_chunk::<4>())
        {
            (u32::from_le_bytes(*head).into(), u32::from_le_bytes(*tail).into())
        } else {
            match *value {
                [] => (0, 0),
                [a] => (a.into(), 0),
                [a, b] => (a.into(), b.into()),
                [a, b, .., c] => (a.into(), u64::from(b) << 8 | u64::from(c)),
            }
        };
        Key { head, tail, length: value.len() as u32 }
    }
}

impl Interner {
    pub fn new() -> Interner {
        Interner {
            index: HashTable::new(),
            spans: Vec::new(),
            bytes: Vec::new(),
            hasher: foldhash::fast::RandomState::default(),
        }
    }

    pub fn len(&self) -> usize {
        self.spans.len()
    }

    /// Bytes of all strings.
    pub fn bytes(&self) -> usize {
        self.bytes.len()
    }

    /// The string of a number.
    pub fn get(&self, number: u32) -> &[u8] {
        let (start, length) = self.spans[number as usize];
        &self.bytes[start as usize..][..length as usize]
    }

    /// All strings, by number.
    pub fn iter(&self) -> impl Iterator<Item = &[u8]> {
        (0..self.len() as u32).map(|number| self.get(number))
    }

    #[inline]
    fn hash(&self, key: Key, value: &[u8]) -> u64 {
        if value.len() <= EXACT {
            self.hasher.hash_one((key.head, key.tail ^ u64::from(key.length) << 56))
        } else {
            self.hasher.hash_one(value)
        }
    }

    /// The number of a string that is there.
    #[inline]
    pub fn find(&self, value: &[u8]) -> Option<u32> {
        let key = Key::of(value);
        self.find_key(key, self.hash(key, value), value)
    }

    #[inline]
    fn find_key(&self, key: Key, hash: u64, value: &[u8]) -> Option<u32> {
        let same = |slot: &Slot| {
            slot.key == key && (value.len() <= EXACT || self.get(slot.number) == value)
        };
        self.index.find(hash, same).map(|slot| slot.number)
    }

    /// The number of a string, and whether it is new.
    #[inline]
    pub fn intern(&mut self, value: &[u8]) -> (u32, bool) {
        let key = Key::of(value);
        let hash = self.hash(key, value);
        match self.find_key(key, hash, value) {
            Some(number) => (number, false),
            None => (self.insert(key, hash, value), true),
        }
    }

    #[inline(never)]
    fn insert(&mut self, key: Key, hash: u64, value: &[u8]) -> u32 {
        let number = self.spans.len() as u32;
        self.spans.push((self.bytes.len() as u32, value.len() as u32));
        self.bytes.extend_from_slice(value);
        let mut index = std::mem::take(&mut self.index);
        index.insert_unique(hash, Slot { key, number }, |slot| {
            self.hash(slot.key, self.get(slot.number))
        });
        self.index = index;
        number
    }

    pub fn clear(&mut self) {
        self.index.clear();
        self.spans.clear();
        self.bytes.clear();
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::collections::HashMap;

    proptest! {
        #[test]
        fn numbers_are_those_of_a_plain_map(values in proptest::collection::vec("[ab\u{0}]{0,20}", 0..300)) {
            let mut interner = Interner::new();
            let mut plain: HashMap<Vec<u8>, u32> = HashMap::new();
            for value in &values {
                let value = value.as_bytes();
                prop_assert_eq!(interner.find(value), plain.get(value).copied());
                let next = plain.len() as u32;
                let is_new = !plain.contains_key(value);
                let number = *plain.entry(value.to_vec()).or_insert(next);
                prop_assert_eq!(interner.intern(value), (number, is_new));
                prop_assert_eq!(interner.get(number), value);
            }
            prop_assert_eq!(interner.len(), plain.len());
            prop_assert_eq!(interner.bytes(), plain.keys().map(Vec::len).sum::<usize>());
        }
    }

    #[test]
    fn keys_tell_short_strings_apart() {
        // All strings of up to four of two letters, one of them zero: padding must not confuse them.
        let mut keys = Vec::new();
        for length in 0..=4u32 {
            for bits in 0..1u32 << length {
                let value: Vec<u8> = (0..length).map(|at| (bits >> at & 1) as u8).collect();
                keys.push((Key::of(&value), value));
            }
        }
        for (a, x) in &keys {
            assert!(keys.iter().all(|(b, y)| (a == b) == (x == y)), "{x:?}");
        }
    }
}
